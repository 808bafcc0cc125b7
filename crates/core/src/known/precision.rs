//! What a record says about its instants.

use super::{Instants, Precedence, Rule, Span};
use crate::capture::Capture;
use crate::line::{LineId, PulseWidths, Signal};
use crate::quantity::{Percent, Rational, Time, Voltage};
use crate::time::{Resolution, TimeBase};

/// How precisely the instants of one record are known, seen under a rule.
#[derive(Clone, Copy, Debug)]
pub struct Precision<'a> {
    base: TimeBase,
    resolution: Resolution,
    rule: Rule,
    lines: Lines<'a>,
}

/// What single signals add to the record's resolution.
#[derive(Clone, Copy, Debug)]
enum Lines<'a> {
    /// What the record itself shows.
    Of(&'a Capture),
    /// Nothing is recorded yet: crossings may lie anywhere between two analog samples.
    Planned { analog_step: Time, lines: &'a [PlannedLine] },
}

/// What is stated of a line before anything is recorded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PlannedLine {
    /// How short its pulses can be.
    pub pulses: PulseWidths,
    /// Whether it is made from an analog line.
    pub analog: bool,
}

impl<'a> Precision<'a> {
    /// That of a capture, as far as the rule minds it.
    pub fn of(capture: &'a Capture, rule: Rule) -> Self {
        let resolution = *capture.resolution();
        Precision { base: capture.base(), resolution, rule, lines: Lines::Of(capture) }
    }

    /// That of a record to be made, whose analog lines are sampled in steps of this time. What the error
    /// of a voltage adds depends on how fast it moves, and is known with the capture only.
    pub fn planned(base: TimeBase, resolution: &Resolution, analog_step: Time) -> Precision<'static> {
        let lines = Lines::Planned { analog_step, lines: &[] };
        Precision { base, resolution: *resolution, rule: Rule::Proven, lines }
    }

    /// The same where this is stated of the lines, in the order of their ids, before anything is recorded.
    #[must_use]
    pub fn stating<'b>(self, stated: &'b [PlannedLine]) -> Precision<'b>
    where
        'a: 'b,
    {
        let lines = match self.lines {
            Lines::Of(capture) => Lines::Of(capture),
            Lines::Planned { analog_step, .. } => Lines::Planned { analog_step, lines: stated },
        };
        Precision { lines, ..self }
    }

    pub(super) fn capture(&self) -> Option<&'a Capture> {
        match self.lines {
            Lines::Of(capture) => Some(capture),
            Lines::Planned { .. } => None,
        }
    }

    pub(super) fn analog_step(&self) -> Option<Time> {
        match self.lines {
            Lines::Of(_) => None,
            Lines::Planned { analog_step, .. } => Some(analog_step),
        }
    }

    /// What is stated of a line of a record to be made.
    pub(super) fn stated_of(&self, line: LineId) -> PlannedLine {
        match self.lines {
            Lines::Of(_) => PlannedLine::default(),
            Lines::Planned { lines, .. } => lines.get(line.0).copied().unwrap_or_default(),
        }
    }

    pub(super) fn accuracy(&self) -> Percent {
        self.resolution.accuracy
    }

    /// The clock of the record.
    pub fn base(&self) -> TimeBase {
        self.base
    }

    /// The rule under which it is seen.
    pub fn rule(&self) -> Rule {
        self.rule
    }

    /// Whether instants are known between two samples only.
    pub fn is_sampled(&self) -> bool {
        self.rule == Rule::Proven && self.resolution.sampled
    }

    /// Whether every edge of lines happened exactly at its tick, or is taken to.
    pub fn is_exact(&self) -> bool {
        self.rule == Rule::Measured || self.resolution.is_exact()
    }

    /// What is known of intervals from one kind of instants to another.
    pub fn between(&self, from: &Instants, to: &Instants) -> Span {
        if self.rule == Rule::Measured {
            return Span::exact(self.base);
        }
        let early = |instants: &Instants| self.quantum() + u32::from(instants.is_between_ticks());
        let one_input = from.share_input(to);
        let skew = if one_input { Rational::ZERO } else { self.resolution.skew.to_rational() };
        Span {
            base: self.base,
            start_early: early(from),
            end_early: early(to),
            blur: self.sum([self.resolution.extra.to_rational(), skew, self.own(from), self.own(to)]),
            accuracy: self.resolution.accuracy.to_fraction(),
            one_input,
            shorter: false,
            longer: false,
        }
    }

    /// What is known of intervals from one kind of instants to the next one of another: as
    /// [`between`](Self::between), but what the record does not show may come first, and makes them shorter.
    pub fn until_next(&self, from: &Instants, to: &Instants) -> Span {
        let hides = self.may_hide(from.signals().iter().chain(to.signals()));
        self.between(from, to).hiding(hides, false)
    }

    /// What is known of intervals between instants of one kind.
    pub fn among(&self, instants: &Instants) -> Span {
        self.between(instants, instants)
    }

    /// Within how many ticks the order of edges of these signals is open.
    pub fn order(&self, signals: &[Signal], level_error: Voltage) -> Precedence {
        if self.rule == Rule::Measured {
            return Precedence { reach: None };
        }
        // Of any two of them, those that are known least well.
        let mut own: Vec<_> = signals.iter().map(|signal| self.own_blur(*signal, level_error)).collect();
        own.sort_unstable_by(|a, b| b.cmp(a));
        // Edges of one input are not skewed against each other.
        let one = signals.iter().all(|signal| Some(signal) == signals.first());
        let skew = if one { Rational::ZERO } else { self.resolution.skew.to_rational() };
        let all = [self.resolution.extra.to_rational(), skew];
        let blur = self.sum(all.into_iter().chain(own.into_iter().take(2)));
        let ticks = self.base.ticks_in(Time::from_rational(blur));
        let faster = Rational::ONE.checked_sub(self.resolution.accuracy.to_fraction());
        let ticks = ticks.zip(faster).and_then(|(ticks, faster)| ticks.checked_div(faster));
        let reach = ticks.and_then(|ticks| u64::try_from(ticks.ceil()).ok());
        let reach = reach.unwrap_or(FARTHEST).min(FARTHEST);
        Precedence { reach: (reach > 0 || self.resolution.sampled).then_some(reach) }
    }

    /// Ticks by which an edge may have happened before the tick it was seen at.
    fn quantum(&self) -> u32 {
        u32::from(self.is_sampled())
    }

    /// How far each of some instants may be off besides, to either side.
    fn own(&self, instants: &Instants) -> Rational {
        let each = instants.signals().iter().map(|signal| self.own_blur(*signal, instants.level_error()));
        each.max().unwrap_or(Rational::ZERO)
    }

    fn own_blur(&self, signal: Signal, level_error: Voltage) -> Rational {
        let time = match (self.lines, signal) {
            (Lines::Of(capture), Signal::Line(line) | Signal::Drive(line)) => {
                capture.lines().get(line.0).map_or(Time::ZERO, |line| line.extra)
            }
            (Lines::Of(capture), Signal::Crossing(crossing)) => {
                capture.crossing_spread(crossing, level_error)
            }
            (Lines::Planned { analog_step, .. }, Signal::Line(line)) if self.stated_of(line).analog => {
                analog_step
            }
            (Lines::Planned { .. }, Signal::Line(_) | Signal::Drive(_)) => Time::ZERO,
            (Lines::Planned { analog_step, .. }, Signal::Crossing(_)) => analog_step,
        };
        time.to_rational()
    }

    /// A sum of times; longer than any record where exact arithmetic does not fit.
    fn sum(&self, times: impl IntoIterator<Item = Rational>) -> Rational {
        let sum = times.into_iter().try_fold(Rational::ZERO, Rational::checked_add);
        sum.unwrap_or(self.base.length_of(i64::MAX).to_rational())
    }
}

/// More ticks than any record has.
const FARTHEST: u64 = u64::MAX / 4;
