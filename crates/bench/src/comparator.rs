//! One input of the instrument: from the voltage on a lead to the levels of samples.

use std::collections::VecDeque;

use deep_tap_core::line::Level;

use crate::electric::Wave;
use crate::instant::Instant;
use crate::random::Random;

/// When samples are taken: sample `k` at `phase + k * num / den` femtoseconds.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Clock {
    pub(crate) phase: i64,
    pub(crate) num: i128,
    pub(crate) den: i128,
}

impl Clock {
    /// The first sample that shows what happens at this instant on an input with this delay.
    pub(crate) fn sample_at(&self, at: Instant, delay: i64) -> u64 {
        let seen = i128::from(at.0) + i128::from(delay) - i128::from(self.phase);
        // Smallest k with k * num / den >= seen.
        let scaled = seen * self.den;
        // PERF: dividing 128 bits is a call, and nearly all of these fit into 64.
        let sample = match (i64::try_from(scaled), i64::try_from(self.num)) {
            (Ok(scaled), Ok(num)) if scaled > i64::MIN => (-(-scaled).div_euclid(num)).into(),
            _ => -(-scaled).div_euclid(self.num),
        };
        u64::try_from(sample.max(0)).unwrap_or(u64::MAX)
    }

    /// When a sample is taken.
    pub(crate) fn instant_of(&self, sample: u64) -> Instant {
        let offset = (i128::from(sample) * self.num).div_euclid(self.den);
        Instant(i64::try_from(i128::from(self.phase) + offset).unwrap_or(i64::MAX))
    }
}

/// A comparator with its threshold, hysteresis and noise.
#[derive(Debug)]
pub(crate) struct Comparator {
    /// From this voltage on it is high, below the other one low again.
    up: f64,
    down: f64,
    /// Largest noise to either side, in volts, and where it comes from.
    noise: f64,
    seed: u64,
    /// How much later than on the board it sees everything, in femtoseconds.
    delay: i64,
    wave: Wave,
    /// The level at the last sample that was taken.
    level: Level,
    /// What has not been sampled yet, in order of time.
    pending: VecDeque<Pending>,
}

#[derive(Debug)]
enum Pending {
    /// A change, and the sample that first shows it.
    Flip { at: Instant, sample: u64, level: Level },
    /// Samples that are decided one by one, because noise may move them across the threshold.
    Noisy { from: u64, to: u64, wave: Wave },
}

impl Comparator {
    pub(crate) fn new(threshold: f64, hysteresis: f64, noise: f64, seed: u64, delay: i64) -> Self {
        let half = hysteresis / 2.0;
        Comparator {
            up: threshold + half,
            down: threshold - half,
            noise,
            seed,
            delay,
            wave: Wave::resting(0.0),
            level: Level::Low,
            pending: VecDeque::new(),
        }
    }

    /// Puts it on a node that rests.
    pub(crate) fn rest(&mut self, volts: f64, clock: &Clock) {
        self.wave = Wave::resting(volts);
        self.level = Level::from(volts >= self.up);
        self.pending.clear();
        self.follow(self.wave, clock, 0);
    }

    /// The level at the last sample that was taken.
    pub(crate) fn level(&self) -> Level {
        self.level
    }

    /// The voltage on its lead.
    pub(crate) fn wave(&self) -> Wave {
        self.wave
    }

    /// Takes a level over as it is, at an instant: what a simulation says has no voltage.
    pub(crate) fn assume(&mut self, at: Instant, level: Level, clock: &Clock) {
        let sample = clock.sample_at(at, self.delay);
        self.pending.push_back(Pending::Flip { at, sample, level });
    }

    /// The same before anything happened.
    pub(crate) fn start_with(&mut self, level: Level) {
        self.level = level;
    }

    /// The voltage on its lead goes on in another way.
    pub(crate) fn drive(&mut self, wave: Wave, clock: &Clock) {
        let start = clock.sample_at(wave.start(), self.delay);
        // What the last one would still have done does not happen any more.
        while let Some(last) = self.pending.back_mut() {
            match last {
                Pending::Flip { at, .. } if *at > wave.start() => drop(self.pending.pop_back()),
                Pending::Noisy { from, .. } if *from >= start => drop(self.pending.pop_back()),
                Pending::Noisy { to, .. } => {
                    *to = (*to).min(start);
                    break;
                }
                Pending::Flip { .. } => break,
            }
        }
        self.follow(wave, clock, start);
    }

    fn follow(&mut self, wave: Wave, clock: &Clock, start: u64) {
        self.wave = wave;
        let (from, to) = (wave.origin(), wave.target());
        let rises = to >= from;
        // Where it begins with a jump, as a lead does that is kicked.
        if from >= self.up + self.noise {
            self.flip(wave.start(), Level::High, clock);
        } else if from < self.down - self.noise {
            self.flip(wave.start(), Level::Low, clock);
        }
        if self.noise <= 0.0 {
            let (goal, level) = if rises { (self.up, Level::High) } else { (self.down, Level::Low) };
            let reached = if rises { to >= goal } else { to < goal };
            // Beyond it from the very beginning is at once.
            let at = wave.passes(goal).or(reached.then_some(wave.start()));
            if let Some(at) = at.filter(|_| reached) {
                self.flip(at, level, clock);
            }
            return;
        }
        let (low, high) = (self.down - self.noise, self.up + self.noise);
        let (near, far) = if rises { (low, high) } else { (high, low) };
        let inside = (low..high).contains(&from);
        let enters = if inside { Some(wave.start()) } else { wave.passes(near) };
        let leaves = wave.passes(far);
        let beyond = if rises { to >= high } else { to < low };
        if let Some(enters) = enters {
            let first = clock.sample_at(enters, self.delay).max(start);
            let last = leaves.filter(|_| beyond).map_or(u64::MAX, |at| clock.sample_at(at, self.delay));
            if first < last {
                self.pending.push_back(Pending::Noisy { from: first, to: last, wave });
            }
        }
        if beyond {
            self.flip(leaves.unwrap_or(wave.start()), Level::from(rises), clock);
        }
    }

    fn flip(&mut self, at: Instant, level: Level, clock: &Clock) {
        let sample = clock.sample_at(at, self.delay);
        self.pending.push_back(Pending::Flip { at, sample, level });
    }

    /// The level that a noisy sample shows.
    fn decide(&self, sample: u64, wave: &Wave, clock: &Clock) -> Level {
        let at = clock.instant_of(sample) - Instant(self.delay);
        let share = Random::new(self.seed).split(sample).between(-1_000_000, 1_000_000) as f64 / 1e6;
        let volts = wave.volts(at) + share * self.noise;
        match self.level {
            Level::High if volts >= self.down => Level::High,
            Level::High => Level::Low,
            _ => Level::from(volts >= self.up),
        }
    }

    /// Takes the samples before `goal`: each that shows another level than the one before.
    pub(crate) fn sample_until(&mut self, goal: u64, clock: &Clock, mut changed: impl FnMut(u64, Level)) {
        while let Some(next) = self.pending.pop_front() {
            match next {
                Pending::Flip { sample, level, .. } if sample < goal => {
                    if self.level != level {
                        self.level = level;
                        changed(sample, level);
                    }
                }
                Pending::Noisy { from, to, wave } if from < goal => {
                    for sample in from..to.min(goal) {
                        let level = self.decide(sample, &wave, clock);
                        if self.level != level {
                            self.level = level;
                            changed(sample, level);
                        }
                    }
                    if to > goal {
                        self.pending.push_front(Pending::Noisy { from: goal, to, wave });
                        return;
                    }
                }
                later => {
                    self.pending.push_front(later);
                    return;
                }
            }
        }
    }
}
