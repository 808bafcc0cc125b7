//! Lines that may have changed and changed back between two samples.

use super::{Instants, Precision, Rule};
use crate::capture::Capture;
use crate::line::{Narrowest, PulseWidths, Signal};
use crate::quantity::{Frequency, Rational, Time};
use crate::time::Tick;

/// Why a line may have had pulses that its record does not show.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hiding {
    /// Its stated shortest pulse fits between two samples.
    Shortest(Time),
    /// Half a period of its stated fastest signal fits between two samples.
    Fastest(Frequency),
    /// A pulse of one sample was seen at this tick: narrower ones may have fallen between two.
    Seen(Tick),
}

/// What pulses can hide between two samples of a record.
impl Precision<'_> {
    /// The longest pulse of a line that may have fallen between two samples: a tick, as long as the time
    /// base may make it. `None` where the record is exact, or taken to be.
    pub fn longest_hidden(&self) -> Option<Time> {
        self.longest_between(self.base().tick())
    }

    /// Why a line, or what lies beyond a crossing, may have had pulses that the record does not show;
    /// `None` where it has none.
    ///
    /// A line has none as long as its [`shortest`](PulseWidths::shortest) pulse is longer than what can hide.
    /// Where that is not stated, or contradicted by the record, it is taken for granted, unless the stated
    /// [`fastest`](PulseWidths::fastest) signal or a pulse that was one sample long speaks against it.
    pub fn hiding(&self, signal: Signal) -> Option<Hiding> {
        let hidden = self.longest_between(self.step(signal))?;
        let pulses = self.pulses(signal);
        if let Some(shortest) = pulses.shortest.filter(|_| self.is_stated(signal)) {
            return (shortest <= hidden).then_some(Hiding::Shortest(shortest));
        }
        let half = |fastest: Frequency| fastest.to_rational().checked_mul(Rational::from(2))?.recip();
        if let Some(fastest) = pulses.fastest
            && half(fastest).is_none_or(|half| half <= hidden.to_rational())
        {
            return Some(Hiding::Fastest(fastest));
        }
        self.single(signal).map(Hiding::Seen)
    }

    /// How short the pulses of a line may be, as far as that is stated and not contradicted.
    pub fn shortest_stated(&self, signal: Signal) -> Option<Time> {
        self.pulses(signal).shortest.filter(|_| self.is_stated(signal))
    }

    /// Where a pulse of one sample was seen.
    fn single(&self, signal: Signal) -> Option<Tick> {
        let step = self.step(signal);
        if step == self.base().tick() {
            return self.capture()?.first_single(signal);
        }
        let single = |narrow: &Narrowest| self.base().length_of(ticks(*narrow)) <= step;
        self.narrowest(signal).filter(single).map(|narrow| narrow.at)
    }

    /// The pulse by which the record contradicts for certain what is stated of a line's shortest one.
    pub fn contradiction(&self, signal: Signal) -> Option<Narrowest> {
        let shortest = self.pulses(signal).shortest.filter(|_| self.is_sampled())?;
        let narrow = self.narrowest(signal)?;
        let hi = self.among(&Instants::edges_of(signal)).length(ticks(narrow))?.hi?;
        (hi <= shortest).then_some(narrow)
    }

    /// Whether somebody states how short the pulses of a line can be, and the record does not contradict it.
    pub fn is_stated(&self, signal: Signal) -> bool {
        self.pulses(signal).shortest.is_some() && self.contradiction(signal).is_none()
    }

    /// Whether any of these may have had pulses that the record does not show.
    pub fn may_hide<'s>(&self, signals: impl IntoIterator<Item = &'s Signal>) -> bool {
        signals.into_iter().any(|signal| self.hiding(*signal).is_some())
    }

    fn longest_between(&self, step: Time) -> Option<Time> {
        if !self.is_sampled() {
            return None;
        }
        let slower = Rational::ONE.checked_add(self.accuracy().to_fraction())?;
        Some(Time::from_rational(step.to_rational().checked_mul(slower)?))
    }

    /// From one sample of a signal to the next.
    fn step(&self, signal: Signal) -> Time {
        match (signal, self.capture(), self.analog_step()) {
            (Signal::Crossing(crossing), Some(capture), _) => {
                let every = capture.analog_lines().get(crossing.analog().0);
                let every = every.map_or(1, |_| capture.analog(crossing.analog()).every());
                self.base().length_of(i64::try_from(every).unwrap_or(i64::MAX))
            }
            (Signal::Crossing(_), None, Some(step)) => step,
            (Signal::Line(line), Some(capture), _) => {
                let step = capture.lines().get(line.0).map_or(1, |line| line.step);
                self.base().length_of(i64::try_from(step).unwrap_or(i64::MAX))
            }
            (Signal::Line(line), None, Some(step)) if self.stated_of(line).analog => step,
            _ => self.base().tick(),
        }
    }

    fn narrowest(&self, signal: Signal) -> Option<Narrowest> {
        self.capture().and_then(|capture| capture.narrowest(signal))
    }

    fn pulses(&self, signal: Signal) -> PulseWidths {
        match (signal, self.capture()) {
            (Signal::Drive(_), _) => None,
            (Signal::Line(line), Some(capture)) => capture.lines().get(line.0).map(|line| line.pulses),
            (Signal::Line(line), None) => Some(self.stated_of(line).pulses),
            (Signal::Crossing(crossing), Some(capture)) => {
                capture.analog_lines().get(crossing.analog().0).map(|line| line.pulses)
            }
            (Signal::Crossing(_), None) => None,
        }
        .unwrap_or_default()
    }
}

fn ticks(narrow: Narrowest) -> i64 {
    i64::try_from(narrow.ticks).unwrap_or(i64::MAX)
}

/// What has to be said of lines that may hide pulses, and of what was stated of them and the record
/// contradicts: a sentence each.
///
/// ```
/// use deep_tap_core::capture::{Capture, Trace};
/// use deep_tap_core::known::hiding_lines;
/// use deep_tap_core::line::{Level, LineId};
/// use deep_tap_core::time::TimeBase;
///
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let clock = Trace::toggling(Level::Low, [10, 13, 14, 17], 100)?;
/// let capture = Capture::builder(base, 100).line("CLK", clock).build()?;
/// let told = hiding_lines(&capture, &[LineId(0).into()]);
/// assert!(told[0].starts_with("CLK may have pulses that this record does not show: one of a single sample"));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn hiding_lines(capture: &Capture, signals: &[Signal]) -> Vec<String> {
    let precision = Precision::of(capture, Rule::Proven);
    let at = |tick: Tick| capture.base().text_of(tick);
    let mut told = Vec::new();
    for signal in signals {
        let name = name(capture, *signal);
        if let Some((shortest, narrow)) =
            precision.pulses(*signal).shortest.zip(precision.contradiction(*signal))
        {
            let (seen, at) = (capture.base().length_of(ticks(narrow)), at(narrow.at));
            told.push(format!(
                "{name} is said to have no pulse below {shortest}; the record has one of {seen} at {at}"
            ));
        }
        let Some(why) = precision.hiding(*signal) else { continue };
        let why = match why {
            Hiding::Shortest(shortest) => format!("as short as {shortest}, they fit between two samples"),
            Hiding::Fastest(fastest) => format!("half a period of {fastest} fits between two samples"),
            Hiding::Seen(tick) => {
                let at = at(tick);
                format!("one of a single sample is at {at}; state 'shortest' if it has no shorter ones")
            }
        };
        told.push(format!("{name} may have pulses that this record does not show: {why}"));
    }
    told
}

fn name(capture: &Capture, signal: Signal) -> &str {
    match signal {
        Signal::Line(line) | Signal::Drive(line) => {
            capture.lines().get(line.0).map_or("?", |line| &line.name)
        }
        Signal::Crossing(crossing) => {
            capture.analog_lines().get(crossing.analog().0).map_or("?", |line| &line.name)
        }
    }
}
