//! What is known of the intervals between two kinds of instants.

use crate::quantity::{Bounds, Rational, Time};
use crate::time::TimeBase;

/// What is known of the intervals between two kinds of instants of a record. Made by
/// [`Precision::between`](super::Precision::between).
///
/// Both ends of an interval of `n` counted ticks lie in `(tick - early, tick]`, so that its length
/// lies strictly between `n - end_early` and `n + start_early` ticks; skew, stated uncertainty and
/// what each end has of its own widen that on both sides, and the time-base error in proportion to
/// the bound itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    pub(super) base: TimeBase,
    /// Ticks by which the start may precede its tick.
    pub(super) start_early: u32,
    /// Ticks by which the end may precede its tick.
    pub(super) end_early: u32,
    /// Seconds by which the interval may be off besides, to either side.
    pub(super) blur: Rational,
    /// Largest relative error of the time base.
    pub(super) accuracy: Rational,
    pub(super) one_input: bool,
    /// Whether pulses that the record does not show may make them shorter, or longer.
    pub(super) shorter: bool,
    pub(super) longer: bool,
}

impl Span {
    /// That of instants which are all exactly at their ticks.
    pub fn exact(base: TimeBase) -> Span {
        let (blur, accuracy) = (Rational::ZERO, Rational::ZERO);
        Span {
            base,
            start_early: 0,
            end_early: 0,
            blur,
            accuracy,
            one_input: false,
            shorter: false,
            longer: false,
        }
    }

    /// The same where the longer of the two early ends may be either.
    #[must_use]
    pub fn either_way(self) -> Span {
        let early = self.start_early.max(self.end_early);
        Span { start_early: early, end_early: early, ..self }
    }

    /// The same where pulses that the record does not show may make intervals shorter than they seem, or
    /// longer.
    #[must_use]
    pub fn hiding(self, shorter: bool, longer: bool) -> Span {
        Span { shorter, longer, ..self }
    }

    /// The same in a record with another clock.
    #[must_use]
    pub fn at(self, base: TimeBase) -> Span {
        Span { base, ..self }
    }

    /// Whether pulses that the record does not show may make intervals other than they seem.
    pub fn hides(&self) -> bool {
        self.shorter || self.longer
    }

    /// The same with a perfect time base, to compare intervals of one record with each other.
    #[must_use]
    pub fn steady(self) -> Span {
        Span { accuracy: Rational::ZERO, ..self }
    }

    /// The clock of the record.
    pub fn base(&self) -> TimeBase {
        self.base
    }

    /// Whether the intervals are between edges of one input, so that their order is certain and skew
    /// does not enter.
    pub fn is_one_input(&self) -> bool {
        self.one_input
    }

    /// Whether both ends are exactly at their ticks.
    pub fn is_exact(&self) -> bool {
        self.start_early == 0 && self.end_early == 0 && !self.is_blurred()
    }

    /// Whether anything but sampling keeps an end from being known.
    pub fn is_blurred(&self) -> bool {
        !self.blur.is_zero()
    }

    /// The most ticks by which an end may precede its tick.
    pub fn early(&self) -> u32 {
        self.start_early.max(self.end_early)
    }

    /// By how much an interval of about this length may be off, to either side; `None` when exact
    /// arithmetic does not fit.
    pub fn uncertainty(&self, length: Time) -> Option<Time> {
        let ticks = self.base.length_of(i64::from(self.early())).to_rational();
        let clock = length.to_rational().abs().checked_mul(self.accuracy)?;
        Some(Time::from_rational(ticks.checked_add(self.blur)?.checked_add(clock)?))
    }

    /// By how many ticks an interval may be off, to either side, but for the time-base error; for
    /// statistics.
    pub fn slack(&self) -> f64 {
        f64::from(self.early()) + self.blur.to_f64() / self.base.tick().to_f64()
    }

    /// By which share of itself an interval may be off, since the time base is.
    pub fn clock_error(&self) -> f64 {
        self.accuracy.to_f64()
    }

    /// The length of an interval as counted.
    pub fn counted(&self, ticks: i64) -> Time {
        self.base.length_of(ticks)
    }

    /// What is known of an interval of so many counted ticks; below zero where its ends may have come
    /// in the other order. `None` when exact arithmetic does not fit.
    pub fn bounds(&self, ticks: i64) -> Option<Bounds> {
        self.bounds_over(ticks, ticks)
    }

    /// What is known of an interval that has at least `fewest` and at most `most` counted ticks.
    pub fn bounds_over(&self, fewest: i64, most: i64) -> Option<Bounds> {
        let tick = self.base.tick().to_rational();
        let (slower, faster) = self.clocks()?;
        let lo = Rational::from(fewest.checked_sub(i64::from(self.end_early))?);
        let lo_clock = if lo.is_negative() { slower } else { faster };
        let lo = lo.checked_mul(tick)?.checked_mul(lo_clock)?.checked_sub(self.blur)?;
        let lo = if self.shorter { lo.min(Rational::ZERO) } else { lo };
        let mut hi = None;
        if !self.longer && most < BEYOND {
            let ticks = Rational::from(most.checked_add(i64::from(self.start_early))?);
            let clock = if ticks.is_negative() { faster } else { slower };
            hi = Some(ticks.checked_mul(tick)?.checked_mul(clock)?.checked_add(self.blur)?);
        }
        Some(Bounds {
            lo: Time::from_rational(lo),
            hi: hi.map(Time::from_rational),
            lo_exclusive: self.end_early > 0,
            hi_exclusive: self.start_early > 0,
        })
    }

    /// The same for a length, which is not negative.
    pub fn length(&self, ticks: i64) -> Option<Bounds> {
        Some(self.bounds(ticks)?.not_negative())
    }

    /// The same as [`bounds_over`](Span::bounds_over) for a length, which is not negative.
    pub fn length_over(&self, fewest: i64, most: i64) -> Option<Bounds> {
        Some(self.bounds_over(fewest, most)?.not_negative())
    }

    /// What is known of the share that `pulses` pulses of together `part` ticks have of a whole of
    /// `whole` ticks, as a fraction; `None` when exact arithmetic does not fit, or the whole is empty.
    ///
    /// The three edges of one pulse and its period were at `tick - u` with `u` below one tick each, so
    /// that the share `(part - u1 + u0) / (whole - u2 + u0)` lies between `(part - 1) / whole` and
    /// `(part + 1) / whole`: it grows with `u0` and `u2` and falls with `u1`. The error of the time base
    /// cancels. Each further pulse adds two edges.
    pub fn share(&self, pulses: u64, part: i64, whole: i64) -> Option<Bounds<Rational>> {
        if self.hides() {
            let (lo, hi) = (Rational::ZERO, Some(Rational::ONE));
            return Some(Bounds { lo, hi, lo_exclusive: false, hi_exclusive: false });
        }
        let blur = self.base.ticks_in(Time::from_rational(self.blur))?;
        let early = Rational::from(i64::from(self.early()));
        let pulses = Rational::new(i128::from(pulses), 1)?;
        let off = early.checked_add(blur)?.checked_mul(pulses)?;
        let (part, whole) = (Rational::from(part), Rational::from(whole));
        let lo = part.checked_sub(off)?.checked_div(whole.checked_add(blur)?)?;
        let shortest = whole.checked_sub(blur)?;
        let hi = match shortest > Rational::ZERO {
            true => part.checked_add(off)?.checked_div(shortest)?,
            false => Rational::ONE,
        };
        let exclusive = early > Rational::ZERO;
        let (lo, hi) = (lo.max(Rational::ZERO), hi.min(Rational::ONE));
        Some(Bounds { lo, hi: Some(hi), lo_exclusive: exclusive, hi_exclusive: exclusive })
    }
}

/// The bounds the other way round: which counted ticks reach a length. All of these are `None` when exact
/// arithmetic does not fit.
impl Span {
    /// The fewest ticks of which the shortest possible length is at least this.
    pub(crate) fn first_certainly_at_least(&self, length: Time) -> Option<i64> {
        if self.shorter && length > Time::ZERO {
            return Some(clamp(i128::MAX));
        }
        Some(clamp(self.lo_ticks(length)?.ceil() + i128::from(self.end_early)))
    }

    /// The fewest ticks of which the shortest possible length is more than this.
    pub(crate) fn first_certainly_above(&self, length: Time) -> Option<i64> {
        if self.shorter && length >= Time::ZERO {
            return Some(clamp(i128::MAX));
        }
        let ticks = self.lo_ticks(length)?;
        // The shortest length itself is excluded when the end may be early: then reaching it is enough.
        let first = if self.end_early > 0 { ticks.ceil() } else { ticks.floor() + 1 };
        Some(clamp(first + i128::from(self.end_early)))
    }

    /// The most ticks of which the longest possible length is at most this.
    pub(crate) fn last_certainly_at_most(&self, length: Time) -> Option<i64> {
        if self.longer {
            return Some(clamp(i128::MIN));
        }
        Some(clamp(self.hi_ticks(length)?.floor() - i128::from(self.start_early)))
    }

    /// The most ticks of which the longest possible length is less than this.
    pub(crate) fn last_certainly_below(&self, length: Time) -> Option<i64> {
        if self.longer {
            return Some(clamp(i128::MIN));
        }
        let ticks = self.hi_ticks(length)?;
        let last = if self.start_early > 0 { ticks.floor() } else { ticks.ceil() - 1 };
        Some(clamp(last - i128::from(self.start_early)))
    }

    /// The fewest ticks from start to end at which the end certainly, and at which it possibly, comes
    /// after the start. `together` says whether it also does where the two coincide, as exact instants do, and
    /// those of which a stated uncertainty says that they may.
    pub(crate) fn in_order_from(&self, together: bool) -> Option<(i64, i64)> {
        if self.one_input {
            // Two edges of one input are always recorded in their order.
            return Some((1, 1));
        }
        // Of what is seen: what is not is no event that could be in any order.
        let seen = self.hiding(false, false);
        let (certain, not) = match together {
            true => (seen.first_certainly_at_least(Time::ZERO)?, seen.last_certainly_below(Time::ZERO)?),
            false => (seen.first_certainly_above(Time::ZERO)?, seen.last_certainly_at_most(Time::ZERO)?),
        };
        Some((certain, not.saturating_add(1)))
    }

    /// By which factors the time base may stretch and shrink a length.
    fn clocks(&self) -> Option<(Rational, Rational)> {
        let slower = Rational::ONE.checked_add(self.accuracy)?;
        let faster = Rational::ONE.checked_sub(self.accuracy).filter(|f| *f > Rational::ZERO)?;
        Some((slower, faster))
    }

    /// The ticks, apart from those the end may be early, of which this is the shortest possible length.
    fn lo_ticks(&self, length: Time) -> Option<Rational> {
        let (slower, faster) = self.clocks()?;
        let ticks = self.in_ticks(length.to_rational().checked_add(self.blur)?)?;
        ticks.checked_div(if ticks.is_negative() { slower } else { faster })
    }

    /// The ticks, apart from those the start may be early, of which this is the longest possible length.
    fn hi_ticks(&self, length: Time) -> Option<Rational> {
        let (slower, faster) = self.clocks()?;
        let ticks = self.in_ticks(length.to_rational().checked_sub(self.blur)?)?;
        ticks.checked_div(if ticks.is_negative() { faster } else { slower })
    }

    fn in_ticks(&self, seconds: Rational) -> Option<Rational> {
        self.base.ticks_in(Time::from_rational(seconds))
    }
}

/// Counted ticks that stand for any number: as far as a partner may lie that the record does not reach.
pub(crate) const BEYOND: i64 = 1 << 61;

fn clamp(ticks: i128) -> i64 {
    // Far outside any record either way, and safe to add to.
    const FAR: i128 = 1 << 62;
    ticks.clamp(-FAR, FAR) as i64
}
