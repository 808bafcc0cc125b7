//! An instrument that samples a simulated board the way hardware does.

use std::collections::VecDeque;

use deep_tap_core::instrument::{Capabilities, Configuration, Instrument, Status};
use deep_tap_core::line::{Input, Level};
use deep_tap_core::scan::{SampleBlock, SampleWidth};
use deep_tap_core::time::{Percent, Rate, Rational, Time};
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Result};

use crate::board::{Board, Instant, NodeId};
use crate::models::Model;
use crate::random::Random;

/// Samples simulated between two looks at the status.
const STRIDE: u64 = 1 << 18;
/// Samples in one block that is read.
const BLOCK: u64 = 4096;
/// Largest skew between two inputs, in femtoseconds.
const SKEW_FS: i64 = 500_000;
/// Largest time-base error, in parts per million.
const ACCURACY_PPM: i64 = 20;

/// What differs from one stand-in to the next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StandInOptions {
    /// Decides phase, skew and time-base error.
    pub seed: u64,
    /// Whether it is ideal: no phase, no skew, an exact time base.
    pub ideal: bool,
    /// What it can do.
    pub model: Model,
}

/// A simulated instrument of a made-up [`Model`].
///
/// It samples a [`Board`] at a phase it does not choose, with a delay per input and a time base
/// that is slightly off, all within what its [`Capabilities`] state. It can wait for an edge of
/// one input while others have given levels.
pub struct StandIn {
    board: Box<dyn Board>,
    options: StandInOptions,
    configuration: Option<Configuration>,
    run: Run,
    /// How often it was armed.
    armed: u64,
    remarks: Vec<String>,
}

/// A recording in progress or done.
struct Run {
    state: State,
    /// Sample `k` is taken at `phase + k * num / den` femtoseconds.
    phase: i64,
    num: i128,
    den: i128,
    channels: Vec<Channel>,
    /// Node to channels.
    wired: Vec<Vec<usize>>,
    /// Present sample: levels and unknown bits.
    now: (u64, u64),
    /// Samples simulated.
    position: u64,
    /// Stretches of equal samples: first sample, levels, unknown.
    runs: VecDeque<(u64, u64, u64)>,
    seen: Seen,
    trigger: Option<u64>,
    /// First sample kept, and the one after the last.
    first: u64,
    last: u64,
    read: u64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    Idle,
    Waiting,
    Recording,
    Done,
    /// The board ended before the trigger came.
    Over,
}

struct Channel {
    delay: i64,
    /// Changes not sampled yet: the sample that first shows each.
    pending: VecDeque<(u64, Level)>,
}

impl std::fmt::Debug for StandIn {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("StandIn").field("board", &self.board.describe()).finish_non_exhaustive()
    }
}

impl StandIn {
    /// An instrument whose leads are on this board.
    pub fn new(board: Box<dyn Board>, options: StandInOptions) -> Self {
        StandIn { board, options, configuration: None, run: Run::idle(), armed: 0, remarks: Vec::new() }
    }

    fn node_of(&self, input: &Input) -> Result<NodeId> {
        let nodes = self.board.nodes();
        match input {
            Input::Number(number) => self.board.wiring().get(*number as usize).copied().ok_or_else(|| {
                let message = format!("nothing is wired to input {number}");
                let help = format!("inputs 0 to {} are wired", self.board.wiring().len().saturating_sub(1));
                Error::new(ErrorKind::Instrument, message).with_help(help)
            }),
            Input::Signal(name) => nodes.iter().position(|n| n == name).map(NodeId).ok_or_else(|| {
                let some: Vec<&str> = nodes.iter().map(String::as_str).take(12).collect();
                Error::new(ErrorKind::Instrument, format!("the board has no signal '{name}'")).with_help(
                    format!("it has: {}{}", some.join(", "), if nodes.len() > 12 { ", …" } else { "" }),
                )
            }),
        }
    }

    fn begin(&mut self, configuration: &Configuration, number: u64) -> Result<Run> {
        let mut random = Random::new(self.options.seed).split(0xbe);
        let period = configuration.rate.period().map(Time::to_rational);
        let femto = Rational::power_of_ten(15);
        let error =
            if self.options.ideal { 0 } else { random.between(-ACCURACY_PPM * 1000, ACCURACY_PPM * 1000) };
        let clock = Rational::new(1_000_000_000 + i128::from(error), 1_000_000_000);
        let tick = period
            .zip(femto)
            .and_then(|(p, f)| p.checked_mul(f))
            .zip(clock)
            .and_then(|(t, c)| t.checked_mul(c))
            .ok_or_else(|| Error::new(ErrorKind::Range, "the sample rate is out of range"))?;
        let whole = i64::try_from(tick.ceil()).unwrap_or(i64::MAX);
        // Skew and clock stay as they are; where the first sample falls is chance each time.
        let mut phase = if self.options.ideal { 0 } else { random.between(0, whole.saturating_sub(1)) };
        if number > 0 && !self.options.ideal {
            let mut again = Random::new(self.options.seed).split(0xbe + number);
            phase = again.between(0, whole.saturating_sub(1));
        }
        let mut wired = vec![Vec::new(); self.board.nodes().len()];
        let mut channels = Vec::new();
        let mut now = (0, 0);
        for (place, input) in configuration.inputs.iter().enumerate() {
            let node = self.node_of(&input.input)?;
            wired[node.0].push(place);
            let delay = if self.options.ideal { 0 } else { random.between(-SKEW_FS / 2, SKEW_FS / 2) };
            channels.push(Channel { delay, pending: VecDeque::new() });
            set(&mut now, place, self.board.initial(node));
        }
        let unmet = configuration.trigger.as_ref().map_or(0, |t| t.levels.len());
        Ok(Run {
            state: State::Idle,
            phase,
            num: tick.numerator(),
            den: tick.denominator(),
            channels,
            wired,
            now,
            position: 0,
            runs: VecDeque::from([(0, now.0, now.1)]),
            seen: Seen { edges: 0, unmet: vec![0; unmet] },
            trigger: None,
            first: 0,
            last: 0,
            read: 0,
        })
    }

    fn elapsed(&self) -> Time {
        let rate = self.configuration.as_ref().map(|c| c.rate).and_then(Rate::period);
        let samples = Rational::new(i128::from(self.run.position), 1);
        let elapsed = rate.zip(samples).and_then(|(p, n)| p.to_rational().checked_mul(n));
        Time::from_rational(elapsed.unwrap_or(Rational::ZERO))
    }

    /// Simulates the next stretch of samples.
    fn simulate(&mut self, configuration: &Configuration) {
        let run = &mut self.run;
        let mut goal = run.position + STRIDE;
        if run.state == State::Recording {
            goal = goal.min(run.last);
        }
        let board_end = self.board.end().map(|end| run.first_sample_at(end, 0));
        if let Some(end) = board_end {
            goal = goal.min(end);
        }
        // Far enough that every change that a delayed input still shows before `goal` is known.
        let until = Instant(run.instant_of(goal).saturating_add(SKEW_FS));
        let (channels, wired) = (&mut run.channels, &run.wired);
        let (phase, num, den) = (run.phase, run.num, run.den);
        self.board.advance(until, &mut |node, at, level| {
            for channel in &wired[node.0] {
                let channel = &mut channels[*channel];
                let sample = sample_at(phase, num, den, at, channel.delay);
                channel.pending.push_back((sample, level));
            }
        });
        run.sample_until(goal, configuration);
        if board_end == Some(run.position) {
            match run.state {
                State::Recording => {
                    if !configuration.stream {
                        let missing = run.last - run.position;
                        self.remarks.push(format!(
                            "the board's record ended {missing} samples before the capture was full"
                        ));
                    }
                    run.last = run.position;
                    run.state = State::Done;
                }
                State::Waiting => run.state = State::Over,
                _ => {}
            }
        }
    }
}

/// The first sample that shows a change at this instant on an input with this delay.
fn sample_at(phase: i64, num: i128, den: i128, at: Instant, delay: i64) -> u64 {
    let seen = i128::from(at.0) + i128::from(delay) - i128::from(phase);
    // Smallest k with k * num / den >= seen.
    let sample = -(-(seen * den)).div_euclid(num);
    u64::try_from(sample.max(0)).unwrap_or(u64::MAX)
}

fn set(sample: &mut (u64, u64), place: usize, level: Level) {
    let bit = 1u64 << place;
    sample.0 = if level == Level::High { sample.0 | bit } else { sample.0 & !bit };
    sample.1 = if level == Level::Unknown { sample.1 | bit } else { sample.1 & !bit };
}

impl Run {
    fn idle() -> Self {
        Run {
            state: State::Idle,
            phase: 0,
            num: 1,
            den: 1,
            channels: Vec::new(),
            wired: Vec::new(),
            now: (0, 0),
            position: 0,
            runs: VecDeque::new(),
            seen: Seen::default(),
            trigger: None,
            first: 0,
            last: 0,
            read: 0,
        }
    }

    fn instant_of(&self, sample: u64) -> i64 {
        let offset = (i128::from(sample) * self.num).div_euclid(self.den);
        i64::try_from(i128::from(self.phase) + offset).unwrap_or(i64::MAX)
    }

    fn first_sample_at(&self, at: Instant, delay: i64) -> u64 {
        sample_at(self.phase, self.num, self.den, at, delay)
    }

    /// Takes the samples from the present position up to `goal`.
    fn sample_until(&mut self, goal: u64, configuration: &Configuration) {
        let mut due: Vec<(u64, usize, Level)> = Vec::new();
        for (place, channel) in self.channels.iter_mut().enumerate() {
            while let Some((sample, level)) = channel.pending.front().copied().filter(|(s, _)| *s < goal) {
                channel.pending.pop_front();
                due.push((sample, place, level));
            }
        }
        // Stable: several changes of one input within a sample stay in order, and the last one shows.
        due.sort_by_key(|(sample, ..)| *sample);
        let mut i = 0;
        while i < due.len() {
            let sample = due[i].0;
            let before = self.now;
            while let Some((_, place, level)) = due.get(i).filter(|(s, ..)| *s == sample) {
                set(&mut self.now, *place, *level);
                i += 1;
            }
            if sample == 0 {
                // Nothing comes before the first sample: this is where the levels start.
                self.runs.clear();
                self.runs.push_back((0, self.now.0, self.now.1));
            } else if self.now != before {
                self.runs.push_back((sample, self.now.0, self.now.1));
                self.look_for_trigger(sample, before, configuration);
            }
            if self.state == State::Recording && sample >= self.last {
                break;
            }
        }
        self.position = goal;
        if self.state == State::Recording {
            if self.position >= self.last {
                self.position = self.last;
                self.state = State::Done;
            }
        } else {
            // Keep what the pre-trigger part may need: the stretch that its first sample lies in.
            let oldest = self.position.saturating_sub(configuration.before);
            while self.runs.get(1).is_some_and(|(start, ..)| *start <= oldest) {
                self.runs.pop_front();
            }
        }
    }

    fn look_for_trigger(&mut self, sample: u64, before: (u64, u64), configuration: &Configuration) {
        let Some(trigger) = configuration.trigger.as_ref().filter(|_| self.state == State::Waiting) else {
            return;
        };
        let mut involved = 1u64 << trigger.input;
        involved |= trigger.levels.iter().fold(0, |all, (input, _)| all | 1 << input);
        if (before.1 | self.now.1) & involved != 0 || !trigger.edge(before.0, self.now.0) {
            return;
        }
        self.seen.edges += 1;
        let mut met = true;
        for (place, level) in trigger.levels.iter().enumerate() {
            if trigger.unmet(self.now.0).any(|unmet| unmet == *level) {
                self.seen.unmet[place] += 1;
                met = false;
            }
        }
        if met {
            self.trigger = Some(sample);
            self.first = sample.saturating_sub(configuration.before);
            self.last = sample + configuration.samples.saturating_sub(configuration.before);
            self.state = State::Recording;
        }
    }
}

impl Instrument for StandIn {
    fn identity(&self) -> String {
        format!("{} (simulated, made up), on {}", self.options.model.name(), self.board.describe())
    }

    fn capabilities(&self) -> Capabilities {
        let (skew, accuracy) = if self.options.ideal { (0, 0) } else { (SKEW_FS, ACCURACY_PPM) };
        let accuracy = Rational::new(i128::from(accuracy), 1_000_000).unwrap_or(Rational::ZERO);
        self.options.model.capabilities(Instant(skew).time(), Percent::from_fraction(accuracy))
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        let count = configuration.inputs.len() as u32;
        let able = self.capabilities();
        let Some(mode) = able.mode_for(count, configuration.rate, configuration.stream) else {
            let rates: Vec<String> =
                able.rates_for(count, configuration.stream).iter().map(ToString::to_string).collect();
            let message = format!("{count} inputs cannot be recorded at {}", configuration.rate);
            return Err(
                Error::new(ErrorKind::Instrument, message).with_help(format!("it has {}", rates.join(", ")))
            );
        };
        if configuration.samples > mode.memory || configuration.before > configuration.samples {
            let message = format!("a record of {} samples is not possible", configuration.samples);
            return Err(Error::new(ErrorKind::Instrument, message)
                .with_help(format!("its memory holds {} samples", mode.memory)));
        }
        for input in &configuration.inputs {
            self.node_of(&input.input)?;
        }
        let inside = |place: usize| place < configuration.inputs.len();
        if let Some(trigger) = &configuration.trigger
            && !(inside(trigger.input) && trigger.levels.iter().all(|(input, _)| inside(*input)))
        {
            return Err(Error::new(ErrorKind::Instrument, "the trigger names an input that is not recorded"));
        }
        self.configuration = Some(configuration.clone());
        self.run = Run::idle();
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        let Some(configuration) = self.configuration.clone() else {
            return Err(Error::new(ErrorKind::Instrument, "the instrument is armed before it is configured"));
        };
        let number = self.armed;
        self.armed += 1;
        self.board.restart(number);
        self.remarks.clear();
        self.run = self.begin(&configuration, number)?;
        if configuration.stream {
            self.run.state = State::Recording;
            self.run.last = u64::MAX;
        } else if configuration.trigger.is_some() {
            self.run.state = State::Waiting;
        } else {
            self.run.state = State::Recording;
            self.run.last = configuration.samples;
        }
        Ok(())
    }

    fn status(&mut self) -> Result<Status> {
        if let Some(configuration) = self.configuration.clone()
            && matches!(self.run.state, State::Waiting | State::Recording)
        {
            self.simulate(&configuration);
        }
        let run = &self.run;
        Ok(match run.state {
            State::Idle => Status::Idle,
            State::Waiting => Status::Waiting { elapsed: self.elapsed(), seen: run.seen.clone() },
            State::Over => Status::Over { elapsed: self.elapsed(), seen: run.seen.clone() },
            State::Recording => {
                Status::Recording { done: run.position - run.first, of: run.last - run.first }
            }
            State::Done => {
                Status::Done { samples: run.last - run.first, trigger: run.trigger.map(|t| t - run.first) }
            }
        })
    }

    fn stop(&mut self) -> Result<()> {
        let before = self.configuration.as_ref().map_or(0, |c| c.before);
        let run = &mut self.run;
        match run.state {
            State::Waiting | State::Over => {
                run.first = run.position.saturating_sub(before);
                run.last = run.position;
                run.state = State::Done;
            }
            State::Recording => {
                run.last = run.position;
                run.state = State::Done;
            }
            State::Idle | State::Done => {}
        }
        Ok(())
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        block.reset(SampleWidth::for_inputs(self.run.channels.len()));
        let streams = self.configuration.as_ref().is_some_and(|c| c.stream);
        let run = &mut self.run;
        let ready = run.state == State::Done || (streams && run.state == State::Recording);
        let start = run.first + run.read;
        let end = run.last.min(run.position).min(start.saturating_add(BLOCK));
        if !ready || start >= end {
            return Ok(());
        }
        while streams && run.runs.get(1).is_some_and(|(first, ..)| *first <= start) {
            run.runs.pop_front();
        }
        let mut at = run.runs.partition_point(|(first, ..)| *first <= start).saturating_sub(1);
        let mut position = start;
        while position < end {
            let Some((_, levels, unknown)) = run.runs.get(at).copied() else { break };
            let stop = run.runs.get(at + 1).map_or(end, |(next, ..)| (*next).min(end));
            let count = (stop - position) as usize;
            block.push_run(levels, unknown, count);
            position = stop;
            at += 1;
        }
        run.read += end - start;
        Ok(())
    }

    fn remarks(&self) -> Vec<String> {
        self.remarks.clone()
    }
}
