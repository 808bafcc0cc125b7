//! What is known of the time from a value to what it causes.

use super::asked::Asked;
use super::given::{Follow, FollowSource, FollowTarget};
use crate::capture::Capture;
use crate::known::{Instants, Precision, Rule, Span};
use crate::limit::{Required, Verdict};
use crate::line::Signal;
use crate::measure::Measure;
use crate::quantity::{Bounds, Rational, Time, Voltage};

/// What is known of the time from a value to what it causes.
pub(super) struct Delay {
    pub(super) span: Span,
    required: Required,
    /// The most ticks that may be in time, and that a value need be looked for.
    pub(super) most: u64,
    /// Within how many ticks the order of the two is not known.
    pub(super) reach: u64,
}

impl Delay {
    pub(super) fn new(follow: &Follow, capture: &Capture) -> Delay {
        let from: Vec<Signal> = match &follow.from {
            FollowSource::Transfers(on) => on.bus.lines().iter().map(Signal::from).collect(),
            FollowSource::Lines(_, at) => at.event_signals(),
        };
        let to: Vec<Signal> = match &follow.to {
            FollowTarget::Transfers(on) => on.bus.lines().iter().map(Signal::from).collect(),
            FollowTarget::Lines(bus) => bus.lines.iter().map(Signal::from).collect(),
            // Between which of its samples it comes near enough is worked out with each value.
            FollowTarget::Voltage(..) => Vec::new(),
        };
        let precision = Precision::of(capture, Rule::Proven);
        let both: Vec<Signal> = from.iter().chain(&to).copied().collect();
        let reach = precision.order(&both, Voltage::ZERO).reach().unwrap_or(0);
        let from = if to.is_empty() { Instants::none() } else { Instants::edges(from) };
        let (from, to) = (from.between_ticks(true), Instants::edges(to).between_ticks(true));
        let span = precision.between(&from, &to);
        let ticks = capture.base().ticks_in(follow.within).map(Rational::ceil);
        let ticks = ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(u64::MAX / 4);
        // What may still be in time within the uncertainty of the record.
        let most = (1..=64).map(|more| ticks.saturating_add(more)).take_while(|ticks| {
            let bounds = span.bounds(i64::try_from(*ticks).unwrap_or(i64::MAX / 4));
            bounds.is_some_and(|bounds| bounds.lo <= follow.within)
        });
        let most = most.last().unwrap_or(ticks);
        Delay { span, required: follow.required(), most, reach }
    }

    /// Whether a delay of at least and at most so many ticks is as required, and what is known of it.
    pub(super) fn judge(&self, fewest: i64, most: i64) -> (Verdict, Option<Bounds>) {
        let known = self.span.bounds_over(fewest, most);
        let verdict =
            known.map_or(Verdict::Inconclusive, |known| self.required.decide(known.map(Time::to_rational)));
        (verdict, known.map(Bounds::not_negative))
    }

    /// A delay as a measure.
    pub(super) fn measure(&self, from: &Asked, fewest: i64, most: i64, capture: &Capture) -> Option<Measure> {
        let bounds = self.span.length_over(fewest.max(0), most)?;
        let at = Some(capture.base().time_of(from.at));
        Some(Measure { value: self.span.counted(most), bounds, at })
    }
}
