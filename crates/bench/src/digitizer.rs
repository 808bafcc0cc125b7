//! One analog input of the instrument: from the voltage on a lead to codes.

use std::collections::VecDeque;

use deep_tap_core::line::AnalogScale;

use crate::comparator::Clock;
use crate::electric::Wave;
use crate::random::Random;

/// A converter with its gain and offset errors, and the codes it has made.
#[derive(Debug)]
pub(crate) struct Digitizer {
    zero: f64,
    step: f64,
    least: i32,
    gain: f64,
    offset: f64,
    delay: i64,
    /// From the one in force on.
    waves: VecDeque<Wave>,
    codes: VecDeque<i16>,
    /// Codes dropped from the front.
    dropped: u64,
}

impl Digitizer {
    /// With errors that stay within what the scale allows, drawn at random; none for an ideal one.
    pub(crate) fn new(scale: &AnalogScale, bits: u32, ideal: bool, delay: i64, random: &mut Random) -> Self {
        let step = scale.step().to_f64();
        let span = step * f64::from(1u32 << bits);
        // Half a step is the rounding; of the rest, half is for the offset and half for the gain.
        let room = (scale.error().to_f64() - step / 2.0).max(0.0) / 2.0 * 0.98;
        let mut share = || if ideal { 0.0 } else { random.between(-1_000_000, 1_000_000) as f64 / 1e6 };
        Digitizer {
            zero: scale.zero().to_f64(),
            step,
            least: -(1 << (bits - 1)),
            // The gain acts on at most half the span.
            gain: 1.0 + share() * room / (span / 2.0),
            offset: share() * room,
            delay,
            waves: VecDeque::new(),
            codes: VecDeque::new(),
            dropped: 0,
        }
    }

    /// Puts it on a node that rests.
    pub(crate) fn rest(&mut self, volts: f64) {
        self.waves = VecDeque::from([Wave::resting(volts)]);
    }

    /// The voltage on its lead.
    pub(crate) fn wave(&self) -> Wave {
        self.waves.back().copied().unwrap_or(Wave::resting(0.0))
    }

    /// The voltage on its lead goes on in another way.
    pub(crate) fn drive(&mut self, wave: Wave) {
        self.waves.push_back(wave);
    }

    /// Takes the samples before `goal`: every `every`-th from 0 on.
    pub(crate) fn sample_until(&mut self, goal: u64, every: u64, clock: &Clock) {
        let mut next = self.dropped + self.codes.len() as u64;
        while next * every < goal {
            let at = clock.instant_of(next * every).0.saturating_sub(self.delay);
            while self.waves.get(1).is_some_and(|wave| wave.start().0 <= at) {
                self.waves.pop_front();
            }
            let volts = self.waves.front().map_or(0.0, |wave| wave.volts(crate::instant::Instant(at)));
            let code = ((volts - self.zero) * self.gain + self.offset) / self.step;
            let most = f64::from(-self.least - 1);
            self.codes.push_back(code.round().clamp(f64::from(self.least), most) as i16);
            next += 1;
        }
    }

    /// Drops the codes before a number.
    pub(crate) fn forget(&mut self, before: u64) {
        let count = before.saturating_sub(self.dropped).min(self.codes.len() as u64);
        self.codes.drain(..count as usize);
        self.dropped += count;
    }

    /// The codes with these numbers.
    pub(crate) fn codes(&self, from: u64, to: u64) -> Vec<i16> {
        let place = |number: u64| (number.saturating_sub(self.dropped) as usize).min(self.codes.len());
        self.codes.range(place(from)..place(to).max(place(from))).copied().collect()
    }
}
