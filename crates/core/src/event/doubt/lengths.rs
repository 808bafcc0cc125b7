//! How long stretches must be, as counted, for a duration to be certain.

use super::stretch::Stretch;
use crate::capture::Capture;
use crate::event::check::Test3;
use crate::event::hit::{Certainty, Hit};
use crate::event::syntax::Lasting;
use crate::known::{Instants, Precision, Rule, Span};

/// Which lengths of a stretch, in counted ticks, make an occurrence of `for`.
#[derive(Clone, Copy, Debug)]
pub(super) enum Lengths {
    /// Longer than a time; happens so many ticks after the start.
    Over {
        /// The first whole number of ticks that is longer.
        ticks: i64,
        /// Certainly longer from here on, if it ends.
        certain_from: i64,
        /// Possibly longer from here on.
        possible_from: i64,
    },
    /// In a range; happens at the end.
    Within {
        /// As counted, both included.
        counted: (i64, i64),
        /// Certainly in it.
        certain: (i64, i64),
        /// Possibly in it.
        possible: (i64, i64),
    },
    /// No record is long enough to tell.
    Never,
}

impl Lengths {
    pub(super) fn new(lasting: Lasting, test: &Test3, capture: &Capture) -> Self {
        let ends = Instants::edges(test.signals());
        let span = Precision::of(capture, Rule::Proven).among(&ends);
        Lengths::of(lasting, &Span::exact(capture.base()), &span).unwrap_or(Lengths::Never)
    }

    /// `counted` sees the ticks as they are, `known` what they say.
    fn of(lasting: Lasting, counted: &Span, known: &Span) -> Option<Self> {
        Some(match lasting {
            Lasting::Over(time) => Lengths::Over {
                ticks: counted.first_certainly_above(time)?,
                certain_from: known.first_certainly_above(time)?,
                possible_from: known.last_certainly_at_most(time)?.saturating_add(1),
            },
            Lasting::Under(time) => Lengths::Within {
                counted: (0, counted.last_certainly_below(time)?),
                certain: (0, known.last_certainly_below(time)?),
                possible: (0, known.first_certainly_at_least(time)?.saturating_sub(1)),
            },
            Lasting::Between(least, most) => Lengths::Within {
                counted: (counted.first_certainly_at_least(least)?, counted.last_certainly_at_most(most)?),
                certain: (known.first_certainly_at_least(least)?, known.last_certainly_at_most(most)?),
                possible: (
                    known.last_certainly_below(least)?.saturating_add(1),
                    known.first_certainly_above(most)?.saturating_sub(1),
                ),
            },
        })
    }

    /// The occurrence that a stretch makes, if it makes one.
    pub(super) fn hit(self, stretch: &Stretch) -> Option<Hit> {
        let length = stretch.end.since(stretch.start);
        let sure = |surely: bool| match surely && !stretch.doubtful {
            true => Certainty::Certain,
            false => Certainty::Doubtful,
        };
        let within = |(least, most): (i64, i64)| (least..=most).contains(&length);
        match self {
            Lengths::Over { ticks, certain_from, possible_from } => {
                // Where its end is not recorded, it must still be seen to hold at that tick.
                let reached = if stretch.ends { ticks <= length } else { ticks < length };
                if reached {
                    let certainty = sure(length >= certain_from || !stretch.ends);
                    return Some(Hit { tick: stretch.start.offset(ticks), certainty });
                }
                let may = length >= possible_from || !stretch.begins || stretch.doubtful;
                may.then_some(Hit { tick: stretch.end, certainty: Certainty::Possible })
            }
            Lengths::Within { counted, certain, possible } if stretch.ends => {
                let certainty = match within(counted) && stretch.begins {
                    true => sure(within(certain)),
                    false if within(counted) || within(possible) => Certainty::Possible,
                    false => return None,
                };
                Some(Hit { tick: stretch.end, certainty })
            }
            Lengths::Within { .. } | Lengths::Never => None,
        }
    }
}
