//! How long a bus's own pulses are: what is far shorter is none of them.

use crate::bus::Ahead;
use crate::quantity::{Frequency, Rational, Time};
use crate::time::{Tick, TimeBase};

/// What a bus's shortest pulse is known from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Beat {
    /// It is stated, in ticks.
    Stated(u64),
    /// The pulses of a clock, which is the line of this number.
    Clock(usize),
    /// Nothing says it.
    Unknown,
}

impl Beat {
    /// One period of a frequency.
    pub(super) fn bit(rate: Frequency, base: TimeBase) -> Beat {
        let ticks = base.rate().to_rational().checked_div(rate.to_rational()).map(Rational::floor);
        ticks.and_then(|ticks| u64::try_from(ticks).ok()).map_or(Beat::Unknown, Beat::Stated)
    }

    /// A time.
    pub(super) fn time(time: Time, base: TimeBase) -> Beat {
        let ticks = base.ticks_in(time).and_then(|ticks| u64::try_from(ticks.floor()).ok());
        ticks.map_or(Beat::Unknown, Beat::Stated)
    }
}

/// Pulses of a clock that are remembered.
const REMEMBERED: usize = 32;

/// Pulses of a clock from which on it is known how long they are.
const ENOUGH: usize = 8;

/// The length of a bus's own pulses, on the way through its edges.
#[derive(Clone, Debug)]
pub(super) struct Tempo {
    beat: Beat,
    last: Option<Tick>,
    /// The last pulses of the clock; longer ones than fit are as long as fits.
    pulses: [u32; REMEMBERED],
    seen: usize,
    /// The longest of them.
    longest: u32,
    /// More than a quarter of the last pulses are shorter than this, and with how many it was found.
    usual: (u32, usize),
}

impl Tempo {
    pub(super) fn new(beat: Beat) -> Tempo {
        Tempo { beat, last: None, pulses: [0; REMEMBERED], seen: 0, longest: 0, usual: (0, 0) }
    }

    /// Forgets what it saw.
    pub(super) fn restart(&mut self) {
        *self = Tempo::new(self.beat);
    }

    /// The line whose pulses are counted.
    pub(super) fn clock(&self) -> Option<usize> {
        match self.beat {
            Beat::Clock(line) => Some(line),
            Beat::Stated(_) | Beat::Unknown => None,
        }
    }

    /// The clock has an edge; the length of the pulse that ends with it.
    pub(super) fn edge(&mut self, at: Tick) -> Option<u64> {
        let ticks = self.last.replace(at).map(|last| at.0.saturating_sub(last.0))?;
        let pulse = u32::try_from(ticks).unwrap_or(u32::MAX);
        let forgotten = std::mem::replace(&mut self.pulses[self.seen % REMEMBERED], pulse);
        self.seen += 1;
        if pulse >= self.longest {
            self.longest = pulse;
        } else if forgotten == self.longest {
            self.longest = self.pulses.iter().copied().max().unwrap_or(0);
        }
        Some(ticks)
    }

    /// Ticks of the bus's shortest own pulse, as far as it is known: what a quarter of the last pulses of
    /// the clock do not exceed.
    pub(super) fn shortest(&self) -> Option<u64> {
        match self.beat {
            Beat::Stated(ticks) => Some(ticks),
            Beat::Clock(_) if self.seen >= ENOUGH => {
                let mut pulses = self.pulses;
                let known = pulses.get_mut(..self.seen.min(REMEMBERED))?;
                Some(u64::from(*known.select_nth_unstable(known.len() / 4).1))
            }
            Beat::Clock(_) | Beat::Unknown => None,
        }
    }

    /// Whether the bus's shortest own pulse is known, and so long or longer.
    fn is_at_least(&self, ticks: u64) -> bool {
        match self.beat {
            Beat::Stated(own) => own >= ticks,
            Beat::Clock(_) if self.seen < ENOUGH => false,
            Beat::Clock(_) => {
                // PERF: counting what is shorter takes a few vector instructions, selecting 200 ns.
                let ticks = u32::try_from(ticks).unwrap_or(u32::MAX);
                let known = self.seen.min(REMEMBERED);
                let shorter = self.shorter_than(ticks);
                // What is not seen yet counts as zero.
                let unseen = if ticks > 0 { REMEMBERED - known } else { 0 };
                shorter - unseen <= known / 4
            }
            Beat::Unknown => false,
        }
    }

    fn shorter_than(&self, ticks: u32) -> usize {
        self.pulses.iter().map(|own| u32::from(*own < ticks)).sum::<u32>() as usize
    }

    /// Keeps what is read ahead from all pulses that may be spikes, as far as more pulses of its clock may change what
    /// is known; `false` where that is not enough.
    pub(super) fn bound(&mut self, ahead: &mut Ahead<'_>) -> bool {
        /// Where more of those remembered are shorter than eight times a pulse, it is no spike.
        const SHORTER: usize = REMEMBERED / 4 + 1;
        /// After so many pulses, what is usual is found anew.
        const STALE: usize = 8 * REMEMBERED;
        match self.beat {
            Beat::Stated(ticks) => ahead.no_shorter_than(ticks / 8 + 2),
            Beat::Clock(line) if self.seen >= REMEMBERED => {
                let (mut usual, since) = self.usual;
                if self.seen - since >= STALE || self.shorter_than(usual) < SHORTER {
                    usual = u32::try_from(self.shortest().unwrap_or(0).saturating_mul(4)).unwrap_or(u32::MAX);
                    self.usual = (usual, self.seen);
                }
                let Some(spare) = self.shorter_than(usual).checked_sub(SHORTER) else { return false };
                ahead.no_shorter_than(u64::from(usual.div_ceil(8)) + 1);
                ahead.clock_below(line, u64::from(usual), spare);
            }
            Beat::Clock(_) | Beat::Unknown => return false,
        }
        true
    }

    /// The edges of the clock that were just taken.
    pub(super) fn edges(&mut self, ahead: &Ahead<'_>) {
        let Some(clock) = self.clock() else { return };
        let mut taken = ahead.taken(clock);
        // PERF: of many, most are forgotten again.
        if let Some(((last, _), rest)) =
            taken.len().checked_sub(REMEMBERED + 1).and_then(|many| taken.get(many..)?.split_first())
        {
            self.seen += taken.len() - rest.len();
            (self.last, self.pulses, self.longest) = (Some(*last), [0; REMEMBERED], 0);
            taken = rest;
        }
        for (at, _) in taken {
            self.edge(*at);
        }
    }

    /// Whether it is known how long the bus's own pulses are.
    pub(super) fn is_known(&self) -> bool {
        match self.beat {
            Beat::Stated(_) => true,
            Beat::Clock(_) => self.seen >= ENOUGH,
            Beat::Unknown => false,
        }
    }

    /// Whether more edges of its clock will tell how long the bus's own pulses are.
    pub(super) fn is_waiting(&self) -> bool {
        matches!(self.beat, Beat::Clock(_)) && self.seen < ENOUGH
    }

    /// Whether more edges of its clock may change what is known.
    pub(super) fn is_learning(&self) -> bool {
        matches!(self.beat, Beat::Clock(_)) && self.seen < REMEMBERED
    }

    /// Ticks that no spike exceeds.
    pub(super) fn longest_spike(&self) -> u64 {
        match self.beat {
            Beat::Stated(ticks) => ticks / 8,
            Beat::Clock(_) => u64::from(self.longest / 8),
            Beat::Unknown => 0,
        }
    }

    /// Whether a pulse is shorter than an eighth of the bus's own.
    pub(super) fn is_spike(&self, pulse: u64) -> bool {
        pulse <= self.longest_spike() && self.is_at_least(pulse.saturating_mul(8).saturating_add(1))
    }

    /// Whether a pulse of so many counted ticks may be: its true length, and that of the bus's own, is known to a
    /// tick.
    pub(super) fn may_be_spike(&self, pulse: u64) -> bool {
        let shortest = pulse.saturating_sub(1);
        shortest <= self.longest_spike() && self.is_at_least(shortest.saturating_mul(8))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rest_or_a_change_of_speed_makes_no_spike() {
        let mut tempo = Tempo::new(Beat::Clock(0));
        let mut at = 0;
        let mut run = |tempo: &mut Tempo, pulses: &[u64]| {
            for pulse in pulses {
                at += pulse;
                tempo.edge(Tick(at));
            }
        };
        run(&mut tempo, &[100; 6]);
        assert!(!tempo.is_spike(1), "too few pulses to tell");
        run(&mut tempo, &[100, 5000, 100, 100]);
        assert!(tempo.is_spike(12) && !tempo.is_spike(13));
        // Ten times as fast: after the sixteen pulses of a byte, they are its own.
        run(&mut tempo, &[10; 16]);
        assert!(!tempo.is_spike(10) && tempo.is_spike(1));
    }
}
