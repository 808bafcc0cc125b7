//! What the activity of the lines says about the wiring.

use crate::line::{Input, Level};
use crate::measure::{Activity, LineActivity};
use crate::quantity::{Frequency, Rate};

use super::{Setup, SetupLine};

/// Samples at a level that make it the one a line rests at, in percent.
const RESTS: u64 = 80;
/// Most pins that a connector is looked for beside its place.
const FARTHEST: i64 = 8;
/// Fewest lines that must speak for another place, and against this one.
const FEWEST: (usize, usize) = (4, 2);

/// A line that does not do what the setup says of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Misfit {
    /// It is stated to toggle, and never changed.
    Silent,
    /// It changes faster than stated.
    TooFast,
    /// It rests at this level, where the other one is stated; at none of them when unknown.
    Rests(Level),
    /// It only echoes the leads beside it.
    Echoes,
    /// Its level is not known.
    Unknown,
}

impl Setup {
    /// Pairs of lines whose inputs lie side by side, for [`Activity::beside`].
    pub fn neighbours(&self) -> Vec<(usize, usize)> {
        let number = |line: &SetupLine| match line.line.input {
            Some(Input::Number(number)) => Some(i64::from(number)),
            _ => None,
        };
        let numbers: Vec<Option<i64>> = self.lines.iter().map(number).collect();
        let mut pairs = Vec::new();
        for (line, own) in numbers.iter().enumerate() {
            for (beside, other) in numbers.iter().enumerate() {
                if own.zip(*other).is_some_and(|(own, other)| (own - other).abs() == 1) {
                    pairs.push((line, beside));
                }
            }
        }
        pairs
    }

    /// What does not fit, per line. `recent` says that only the edges since the last window count
    /// for a rate.
    pub fn misfits(&self, activity: &Activity, rate: Rate, recent: bool) -> Vec<Option<Misfit>> {
        let samples = if recent { activity.window() } else { activity.position() };
        let misfit = |(number, (line, seen)): (usize, (&SetupLine, &LineActivity))| {
            let edges = if recent { seen.recent } else { seen.edges };
            let own = stated(line, seen, edges, samples, activity.position(), rate);
            own.or_else(|| activity.echoes(number).then_some(Misfit::Echoes))
                .or_else(|| (seen.level == Level::Unknown).then_some(Misfit::Unknown))
        };
        self.lines.iter().zip(activity.lines()).enumerate().map(misfit).collect()
    }

    /// How many pins off the connector seems to sit, if what is seen on other inputs fits the
    /// statements about the lines, and what is seen on their own does not. One pin: input 0 is
    /// where input 1 should be.
    pub fn shift(&self, activity: &Activity, rate: Rate) -> Option<i64> {
        let number = |line: &SetupLine| match line.line.input {
            Some(Input::Number(number)) => Some(i64::from(number)),
            _ => None,
        };
        let position = activity.position();
        // Lines seen to fit and not to fit, when the signals are looked for so many pins beside.
        let judged = |pins: i64| {
            let (mut fits, mut misfits) = (0, 0);
            for line in
                self.lines.iter().filter(|line| line.line.pulses.fastest.is_some() || line.rests.is_some())
            {
                let wanted = number(line).map(|number| number - pins);
                let seen = self.lines.iter().position(|other| wanted.is_some() && number(other) == wanted);
                let Some(seen) = seen.and_then(|place| activity.lines().get(place)) else { continue };
                match stated(line, seen, seen.edges, position, position, rate) {
                    None => fits += 1,
                    Some(_) => misfits += 1,
                }
            }
            (fits, misfits)
        };
        if judged(0).1 < FEWEST.1 {
            return None;
        }
        let mut found = (-FARTHEST..=FARTHEST).filter(|pins| {
            let (fits, misfits) = judged(*pins);
            *pins != 0 && misfits == 0 && fits >= FEWEST.0
        });
        let first = found.next();
        first.filter(|_| found.next().is_none())
    }
}

/// What a line does against what is stated of it.
fn stated(
    line: &SetupLine,
    seen: &LineActivity,
    edges: u64,
    samples: u64,
    position: u64,
    rate: Rate,
) -> Option<Misfit> {
    if let Some(fastest) = line.line.pulses.fastest.map(Frequency::to_f64) {
        let frequency = edges as f64 / 2.0 * rate.to_f64() / (samples as f64).max(1.0);
        if seen.edges == 0 {
            return Some(Misfit::Silent);
        }
        if frequency > fastest * 1.05 {
            return Some(Misfit::TooFast);
        }
    }
    let high = seen.high.saturating_mul(100);
    let rests = match () {
        () if high >= position.saturating_mul(RESTS) => Level::High,
        () if high <= position.saturating_mul(100 - RESTS) => Level::Low,
        () => Level::Unknown,
    };
    line.rests.filter(|level| *level != rests && position > 0).map(|_| Misfit::Rests(rests))
}
