//! A recording of the stand-in instrument, in progress or done.

use std::collections::VecDeque;

use deep_tap_core::instrument::Configuration;
use deep_tap_core::line::Level;
use deep_tap_core::trigger::Seen;

use crate::board::{Board, Change, NodeId};
use crate::comparator::{Clock, Comparator};
use crate::digitizer::Digitizer;
use crate::electric::Shape;
use crate::instant::Instant;

/// Share of a neighbour's step that a floating input sees, where it rests, in volts, and how fast
/// it returns there.
const COUPLING: f64 = 0.35;
const FLOATING_REST: f64 = 1.0;
const FLOATING_TIME: Instant = Instant::ns(150);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum State {
    Idle,
    Waiting,
    Recording,
    Done,
    /// The board ended before the trigger came.
    Over,
}

/// One digital input of the recording.
#[derive(Debug)]
pub(crate) struct Channel {
    pub(crate) comparator: Comparator,
    /// Highest voltage it stands; `None` where levels have no voltage.
    pub(crate) highest: Option<f64>,
    pub(crate) number: Option<u32>,
    /// When it was over-driven, and by what.
    pub(crate) damaged: Option<(Instant, f64)>,
}

/// What changes on a node act on.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Tap {
    /// A digital input.
    Channel(usize),
    /// A digital input that floats beside it.
    Beside(usize),
    /// An analog input.
    Analog(usize),
}

#[derive(Debug)]
pub(crate) struct Run {
    pub(crate) state: State,
    pub(crate) clock: Clock,
    pub(crate) channels: Vec<Channel>,
    pub(crate) analog: Vec<Digitizer>,
    pub(crate) every: u64,
    /// Per node.
    pub(crate) taps: Vec<Vec<Tap>>,
    pub(crate) shapes: Vec<Option<Shape>>,
    /// Present sample: levels and unknown bits.
    pub(crate) now: (u64, u64),
    /// Samples simulated.
    pub(crate) position: u64,
    /// Stretches of equal samples: first sample, levels, unknown.
    pub(crate) runs: VecDeque<(u64, u64, u64)>,
    pub(crate) seen: Seen,
    pub(crate) trigger: Option<u64>,
    /// First sample kept, and the one after the last.
    pub(crate) first: u64,
    pub(crate) last: u64,
    pub(crate) read: u64,
}

pub(crate) fn set(sample: &mut (u64, u64), place: usize, level: Level) {
    let bit = 1u64 << place;
    sample.0 = if level == Level::High { sample.0 | bit } else { sample.0 & !bit };
    // An instrument sees no difference.
    sample.1 = if level.bit().is_none() { sample.1 | bit } else { sample.1 & !bit };
}

impl Run {
    pub(crate) fn idle() -> Self {
        Run {
            state: State::Idle,
            clock: Clock { phase: 0, num: 1, den: 1 },
            channels: Vec::new(),
            analog: Vec::new(),
            every: 1,
            taps: Vec::new(),
            shapes: Vec::new(),
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

    /// Puts all inputs on their nodes as they are before anything happens.
    pub(crate) fn rest(&mut self, board: &dyn Board) {
        for (node, taps) in self.taps.iter().enumerate() {
            let level = board.initial(NodeId(node));
            let volts = volts_of(level, self.shapes[node]);
            for tap in taps {
                match (tap, volts, level) {
                    (Tap::Channel(channel), Some(volts), _) => {
                        self.channels[*channel].comparator.rest(volts, &self.clock);
                    }
                    (Tap::Channel(channel), None, Change::Level(level)) => {
                        self.channels[*channel].comparator.start_with(level);
                    }
                    (Tap::Analog(analog), Some(volts), _) => self.analog[*analog].rest(volts),
                    (Tap::Beside(channel), ..) => {
                        self.channels[*channel].comparator.rest(FLOATING_REST, &self.clock);
                    }
                    _ => {}
                }
            }
        }
        for (place, channel) in self.channels.iter().enumerate() {
            set(&mut self.now, place, channel.comparator.level());
        }
        self.runs = VecDeque::from([(0, self.now.0, self.now.1)]);
    }

    /// A node changes.
    pub(crate) fn change(&mut self, node: NodeId, at: Instant, change: Change) {
        let (Some(taps), clock) = (self.taps.get(node.0), &self.clock) else { return };
        let shape = self.shapes[node.0];
        let to = volts_of(change, shape);
        let shape = shape.unwrap_or(Shape::LOGIC_3V3);
        for tap in taps {
            match (tap, to, change) {
                (Tap::Channel(place), Some(to), _) => {
                    let channel = &mut self.channels[*place];
                    if channel.damaged.is_none() && channel.highest.is_some_and(|highest| to > highest) {
                        channel.damaged = Some((at, to));
                        channel.comparator.drive(channel.comparator.wave().driven(at, 0.0, &shape), clock);
                        channel.comparator.assume(at, Level::Unknown, clock);
                    }
                    if channel.damaged.is_none() {
                        channel.comparator.drive(channel.comparator.wave().driven(at, to, &shape), clock);
                    }
                }
                (Tap::Channel(place), None, Change::Level(level)) => {
                    self.channels[*place].comparator.assume(at, level, clock);
                }
                (Tap::Beside(place), Some(to), _) => {
                    let comparator = &mut self.channels[*place].comparator;
                    let step = if to > (shape.low + shape.high) / 2.0 { COUPLING } else { -COUPLING };
                    let by = step * (shape.high - shape.low);
                    let wave = comparator.wave().kicked(at, by, FLOATING_REST, FLOATING_TIME);
                    comparator.drive(wave, clock);
                }
                (Tap::Analog(place), Some(to), _) => {
                    let analog = &mut self.analog[*place];
                    analog.drive(analog.wave().driven(at, to, &shape));
                }
                _ => {}
            }
        }
    }

    /// Takes the samples from the present position up to `goal`.
    pub(crate) fn sample_until(&mut self, goal: u64, configuration: &Configuration) {
        let mut due: Vec<(u64, usize, Level)> = Vec::new();
        for (place, channel) in self.channels.iter_mut().enumerate() {
            channel
                .comparator
                .sample_until(goal, &self.clock, |sample, level| due.push((sample, place, level)));
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
            self.analog.iter_mut().for_each(|analog| analog.forget(oldest / self.every));
        }
        for analog in &mut self.analog {
            analog.sample_until(self.position, self.every, &self.clock);
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

/// The voltage that a node is driven to; `None` where it is not known, or levels have none.
fn volts_of(change: Change, shape: Option<Shape>) -> Option<f64> {
    match (change, shape) {
        (Change::Volts(volts), _) => Some(volts),
        (Change::Level(Level::High), Some(shape)) => Some(shape.high),
        (Change::Level(Level::Low), Some(shape)) => Some(shape.low),
        (Change::Level(_), _) => None,
    }
}
