//! An instrument that samples a simulated board the way hardware does.

use deep_tap_core::instrument::{Begins, Capabilities, Configuration, Instrument, Status, Stimulus};
use deep_tap_core::line::Input;
use deep_tap_core::quantity::{Percent, Rate, Rational, Time};
use deep_tap_core::scan::{SampleBlock, SampleWidth};
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Result};

use crate::board::{Board, NodeId};
use crate::comparator::{Clock, Comparator};
use crate::digitizer::Digitizer;
use crate::hookup::{self, HookupFault, Lead};
use crate::instant::Instant;
use crate::models::Model;
use crate::random::Random;
use crate::run::{Channel, Run, State, Tap};
use crate::stimulator::Stimulator;

/// Samples simulated between two looks at the status.
const STRIDE: u64 = 1 << 18;
/// Samples in one block that is read.
const BLOCK: u64 = 4096;
/// Largest skew between two inputs, in femtoseconds.
const SKEW_FS: i64 = 500_000;
/// Largest time-base error, in parts per million.
const ACCURACY_PPM: i64 = 20;
/// Threshold where none is asked for, and the hysteresis of every comparator, in volts.
const THRESHOLD: f64 = 1.4;
const HYSTERESIS: f64 = 0.02;

/// What differs from one stand-in to the next.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StandInOptions {
    /// Decides phase, skew, noise and the errors of time base and converters.
    pub seed: u64,
    /// Whether it is ideal: no phase, no skew, an exact time base.
    pub ideal: bool,
    /// What it can do.
    pub model: Model,
    /// An instrument that is none of these: its name, and what it can do but for skew and accuracy.
    pub own: Option<(String, Capabilities)>,
    /// What is wrong with how it is connected.
    pub faults: Vec<HookupFault>,
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
    stimulators: Vec<Stimulator>,
    /// How often it was armed.
    armed: u64,
    remarks: Vec<String>,
}

impl std::fmt::Debug for StandIn {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("StandIn").field("board", &self.board.describe()).finish_non_exhaustive()
    }
}

impl StandIn {
    /// An instrument whose leads are on this board.
    pub fn new(board: Box<dyn Board>, options: StandInOptions) -> Self {
        StandIn {
            board,
            options,
            configuration: None,
            run: Run::idle(),
            stimulators: Vec::new(),
            armed: 0,
            remarks: Vec::new(),
        }
    }

    /// What the lead of an input is connected to.
    fn lead_of(&self, input: &Input) -> Result<Lead> {
        let nodes = self.board.nodes();
        match input {
            Input::Number(number) => {
                let leads = hookup::leads(&self.board.wiring(), &self.options.faults);
                leads.get(*number as usize).copied().ok_or_else(|| {
                    let message = format!("nothing is wired to input {number}");
                    let help = format!("inputs 0 to {} are wired", leads.len().saturating_sub(1));
                    Error::new(ErrorKind::Instrument, message).with_help(help)
                })
            }
            Input::Signal(name) => {
                nodes.iter().position(|n| n == name).map(|node| Lead::On(NodeId(node))).ok_or_else(|| {
                    let some: Vec<&str> = nodes.iter().map(String::as_str).take(12).collect();
                    Error::new(ErrorKind::Instrument, format!("the board has no signal '{name}'")).with_help(
                        format!("it has: {}{}", some.join(", "), if nodes.len() > 12 { ", …" } else { "" }),
                    )
                })
            }
        }
    }

    /// The node that an analog input is wired to.
    fn analog_node(&self, input: u32) -> Result<NodeId> {
        let wiring = self.board.analog_wiring();
        wiring.get(input as usize).copied().ok_or_else(|| {
            let message = format!("nothing is wired to analog input {input}");
            let help = match wiring.len() {
                0 => "nothing on this board is wired to analog inputs".to_string(),
                count => format!("analog inputs 0 to {} are wired", count - 1),
            };
            Error::new(ErrorKind::Instrument, message).with_help(help)
        })
    }

    fn clock(&self, rate: Rate, number: u64, random: &mut Random) -> Result<Clock> {
        let period = rate.period().map(Time::to_rational);
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
        Ok(Clock { phase, num: tick.numerator(), den: tick.denominator() })
    }

    fn begin(&mut self, configuration: &Configuration, number: u64) -> Result<Run> {
        let mut random = Random::new(self.options.seed).split(0xbe);
        let clock = self.clock(configuration.rate, number, &mut random)?;
        let nodes = self.board.nodes().len();
        let able = self.capabilities();
        let noise = hookup::noise(&self.options.faults);
        let leads = hookup::leads(&self.board.wiring(), &self.options.faults);
        let mut taps = vec![Vec::new(); nodes];
        let mut channels = Vec::new();
        let delay = |random: &mut Random| {
            if self.options.ideal { 0 } else { random.between(-SKEW_FS / 2, SKEW_FS / 2) }
        };
        for (place, input) in configuration.inputs.iter().enumerate() {
            let number_of = match input.input {
                Input::Number(number) => Some(number),
                Input::Signal(_) => None,
            };
            match self.lead_of(&input.input)? {
                Lead::On(node) => taps[node.0].push(Tap::Channel(place)),
                // What is on the leads to either side is picked up.
                Lead::Off => {
                    let own = number_of.unwrap_or(0) as usize;
                    for beside in [own.checked_sub(1), own.checked_add(1)].into_iter().flatten() {
                        if let Some(Lead::On(node)) = leads.get(beside) {
                            taps[node.0].push(Tap::Beside(place));
                        }
                    }
                }
            }
            let threshold = input.threshold.map_or(THRESHOLD, |t| t.voltage().to_f64());
            let seed = random.split(0xc0 + place as u64 + (number << 8)).bits();
            let delay = delay(&mut random);
            let comparator = Comparator::new(threshold, HYSTERESIS, noise, seed, delay);
            let highest = number_of.and_then(|n| able.bank_of(n)).map(|bank| bank.highest.to_f64());
            channels.push(Channel { comparator, highest, number: number_of, damaged: None });
        }
        let mut analog = Vec::new();
        let mut errors = random.split(0xad);
        for (place, input) in configuration.analog.iter().enumerate() {
            taps[self.analog_node(input.input)?.0].push(Tap::Analog(place));
            let bank = able.analog.as_ref();
            let Some((bank, scale)) = bank.and_then(|bank| Some((bank, bank.scale(input.range)?))) else {
                return Err(Error::new(ErrorKind::Instrument, "this instrument has no analog inputs"));
            };
            let delay = delay(&mut errors);
            analog.push(Digitizer::new(&scale, bank.bits, self.options.ideal, delay, &mut errors));
        }
        let unmet = configuration.trigger.as_ref().map_or(0, |t| t.levels.len());
        let mut run = Run {
            clock,
            channels,
            analog,
            every: configuration.analog_every.max(1),
            taps,
            shapes: (0..nodes).map(|node| self.board.shape(NodeId(node))).collect(),
            seen: Seen { edges: 0, unmet: vec![0; unmet] },
            ..Run::idle()
        };
        run.rest(self.board.as_ref());
        Ok(run)
    }

    fn elapsed(&self) -> Time {
        let rate = self.configuration.as_ref().map(|c| c.rate).and_then(Rate::period);
        let samples = Rational::new(i128::from(self.run.position), 1);
        let elapsed = rate.zip(samples).and_then(|(p, n)| p.to_rational().checked_mul(n));
        Time::from_rational(elapsed.unwrap_or(Rational::ZERO))
    }

    /// Simulates the next stretch of samples.
    fn simulate(&mut self, configuration: &Configuration) {
        let reaction = self.capabilities().reaction;
        let run = &mut self.run;
        let mut goal = run.position + STRIDE;
        let follows = |s: &Stimulus| matches!(s.begins, Begins::AfterTrigger(_));
        if run.trigger.is_none() && configuration.stimuli.iter().any(follows) {
            // Not further than the reaction time: what follows the trigger must not come too late.
            let reaction = configuration.rate.to_rational().checked_mul(reaction.to_rational());
            goal = run.position + reaction.map_or(1, |r| u64::try_from(r.floor()).unwrap_or(1)).max(1);
        }
        if run.state == State::Recording {
            goal = goal.min(run.last);
        }
        let board_end = self.board.end().map(|end| run.clock.sample_at(end, 0));
        if let Some(end) = board_end {
            goal = goal.min(end);
        }
        // Far enough that every change that a delayed input still shows before `goal` is known.
        let until = run.clock.instant_of(goal) + Instant(SKEW_FS);
        let trigger = run.trigger.map(|sample| run.clock.instant_of(sample));
        let now = run.clock.instant_of(run.position) + Instant(SKEW_FS);
        for stimulator in &mut self.stimulators {
            stimulator.drive(self.board.as_mut(), now, until, trigger);
        }
        self.board.advance(until, &mut |node, at, change| run.change(node, at, change));
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

impl Instrument for StandIn {
    fn identity(&self) -> String {
        let name = self.options.own.as_ref().map_or(self.options.model.name(), |(name, _)| name);
        format!("{name} (simulated, made up), on {}", self.board.describe())
    }

    fn capabilities(&self) -> Capabilities {
        let (skew, accuracy) = if self.options.ideal { (0, 0) } else { (SKEW_FS, ACCURACY_PPM) };
        let accuracy = Rational::new(i128::from(accuracy), 1_000_000).unwrap_or(Rational::ZERO);
        let (skew, accuracy) = (Instant(skew).time(), Percent::from_fraction(accuracy));
        let Some((_, own)) = &self.options.own else {
            return self.options.model.capabilities(skew, accuracy);
        };
        let mut able = own.clone();
        (able.skew, able.accuracy) = (skew, accuracy);
        able
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
            self.lead_of(&input.input)?;
        }
        let outputs = self.board.outputs().len();
        if let Some(stimulus) = configuration.stimuli.iter().find(|s| s.output as usize >= outputs) {
            let message = format!("output {} is not wired to anything on this board", stimulus.output);
            let help = match outputs {
                0 => "none of its nodes takes a stimulus".to_string(),
                count => format!("outputs 0 to {} are", count - 1),
            };
            return Err(Error::new(ErrorKind::Instrument, message).with_help(help));
        }
        for input in &configuration.analog {
            self.analog_node(input.input)?;
            if able.analog.as_ref().is_none_or(|bank| !bank.ranges.contains(&input.range)) {
                let message = format!("analog input {} has no range of {}", input.input, input.range);
                return Err(Error::new(ErrorKind::Instrument, message));
            }
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
        let outputs = self.board.outputs();
        let wired = |s: &Stimulus| outputs.get(s.output as usize).map(|node| Stimulator::new(s, *node));
        self.stimulators = configuration.stimuli.iter().filter_map(wired).collect();
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
        let width = SampleWidth::for_inputs(self.run.channels.len());
        let rate = self.configuration.as_ref().map_or(Rate::ZERO, |c| c.rate);
        let ends = hookup::link_ends(&self.options.faults, rate, width, streams);
        let run = &mut self.run;
        let ready = run.state == State::Done || (streams && run.state == State::Recording);
        let start = run.first + run.read;
        let mut end = run.last.min(run.position).min(start.saturating_add(BLOCK));
        if let Some((samples, error)) = ends {
            let last = run.first + samples;
            if ready && start >= last && start < end {
                return Err(error);
            }
            end = end.min(last.max(start));
        }
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
        if !run.analog.is_empty() {
            let (from, to) = (start.div_ceil(run.every), end.div_ceil(run.every));
            block.start_analog(run.analog.len(), from * run.every - start, run.every);
            for (input, analog) in run.analog.iter_mut().enumerate() {
                block.push_analog(input, &analog.codes(from, to));
                if streams {
                    analog.forget(to);
                }
            }
        }
        run.read += end - start;
        Ok(())
    }

    fn remarks(&self) -> Vec<String> {
        let mut remarks = self.remarks.clone();
        for channel in &self.run.channels {
            if let (Some((at, volts)), Some(number), Some(highest)) =
                (channel.damaged, channel.number, channel.highest)
            {
                remarks.push(format!(
                    "input {number} was driven to {volts:.1} V and stands {highest:.1} V: it is damaged, and \
                     shows nothing from {:.6} s after switching on",
                    at.0 as f64 * 1e-15
                ));
            }
        }
        remarks
    }
}
