//! Which voltages the lines really have: the threshold is moved from one end of its range to the
//! other, and where a line stops changing lie its levels. This works on inputs that only tell low
//! from high.

use std::ops::ControlFlow;

use super::{RecordOptions, Setup};
use crate::error::{Error, ErrorKind, Result};
use crate::instrument::{Bank, Instrument};
use crate::line::{Input, Level, LineId, LogicFamily, Threshold};
use crate::plan::{Before, Length};
use crate::quantity::{Rational, Time, Voltage};
use crate::time::Tick;

/// What a sweep of the threshold shows of a line.
#[derive(Clone, Debug, PartialEq)]
pub struct SweptLine {
    /// Its name.
    pub name: String,
    /// The thresholds that were set, rising, and the edges seen at each.
    pub edges: Vec<(Voltage, u64)>,
    /// The low level.
    pub low: SweptLevel,
    /// The high level; the same where the line never changed.
    pub high: SweptLevel,
    /// Whether it changed at any threshold.
    pub changes: bool,
}

/// Between which thresholds a level lies.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct SweptLevel {
    /// Not below this; `None` when it may be below the lowest threshold.
    pub above: Option<Voltage>,
    /// Below this; `None` when it may be above the highest threshold.
    pub below: Option<Voltage>,
}

impl SweptLine {
    /// The middle of the voltages at which it changes, and the logic family that has it, if there
    /// is one with such a supply: what the threshold should be. `None` when it never changed.
    pub fn proposal(&self) -> Option<Threshold> {
        let active: Vec<Voltage> = self.edges.iter().filter(|(_, n)| *n > 0).map(|(t, _)| *t).collect();
        let (first, last) = (active.first()?.to_rational(), active.last()?.to_rational());
        let most = self.high.below.map(Voltage::to_rational);
        let fits = |family: &LogicFamily| {
            let supply = family.supply().to_rational();
            // A level lies within a tenth of the supply, and where the sweep ended below it, above.
            let tenth = supply.checked_mul(Rational::new(1, 10)?)?;
            let (low, high) = (supply.checked_sub(tenth)?, supply.checked_add(tenth)?);
            Some(last <= high && most.is_none_or(|most| most >= low))
        };
        let mut families = LogicFamily::all().filter(|family| fits(family) == Some(true));
        if let Some(family) = families.next() {
            let inside = (first..=last).contains(&family.threshold().to_rational());
            if inside && (families.next().is_none() || self.high.below.is_some()) {
                return Some(Threshold::Family(family));
            }
        }
        let middle = first.checked_add(last)?.checked_mul(Rational::new(1, 2)?)?;
        Some(Threshold::Volts(Voltage::from_rational(middle)))
    }
}

impl Setup {
    /// Sweeps the threshold of all lines in this many steps, and records for `over` at each.
    /// `progress` is told the step, and may stop the sweep.
    ///
    /// # Errors
    /// When the thresholds cannot be moved, when it was stopped, and as [`record`](Setup::record).
    pub fn sweep_levels(
        &self,
        instrument: &mut dyn Instrument,
        options: RecordOptions,
        over: Time,
        steps: u32,
        progress: &mut dyn FnMut(u32) -> ControlFlow<()>,
    ) -> Result<Vec<SweptLine>> {
        let able = instrument.capabilities();
        let bank_of = |line: &super::SetupLine| match line.line.input {
            Some(Input::Number(number)) => able.bank_of(number),
            _ => able.banks.first(),
        };
        let movable = |bank: &Bank| bank.thresholds.low < bank.thresholds.high;
        if !self.lines.iter().filter_map(bank_of).any(movable) {
            let error = Error::new(ErrorKind::Instrument, "the thresholds of these inputs are fixed");
            return Err(error.with_help("their levels can only be measured on an analog input"));
        }
        let mut setup = self.clone();
        setup.analog.clear();
        setup.trigger = None;
        if let Some(sampling) = &mut setup.sampling {
            (sampling.length, sampling.before) = (Length::Time(over), Before::Time(Time::ZERO));
        }
        let mut points: Vec<Vec<Point>> = vec![Vec::new(); self.lines.len()];
        for step in 0..=steps.max(1) {
            if progress(step).is_break() {
                return Err(Error::new(ErrorKind::TimeOut, "the sweep was stopped before its end")
                    .with_help("let it run, or give fewer --steps"));
            }
            for line in &mut setup.lines {
                if let Some(bank) = bank_of(line) {
                    line.line.threshold = threshold_at(bank, step, steps.max(1)).map(Threshold::Volts);
                }
            }
            let now = RecordOptions { now: true, ..options };
            let capture = setup.record(instrument, now, &mut |_| ControlFlow::Continue(()))?;
            for (number, points) in points.iter_mut().enumerate() {
                let trace = capture.trace(LineId(number));
                let Some(threshold) = setup.lines[number].line.threshold else { continue };
                points.push(Point {
                    threshold: threshold.voltage(),
                    edges: trace.edge_count(),
                    level: trace.level_at(Tick(0)),
                });
            }
        }
        Ok(self.lines.iter().zip(points).map(|(line, points)| swept(&line.line.name, points)).collect())
    }
}

/// What one threshold shows.
#[derive(Clone, Copy)]
struct Point {
    threshold: Voltage,
    edges: u64,
    /// At the start.
    level: Level,
}

/// One of so many steps through a bank's thresholds, as it can be set.
fn threshold_at(bank: &Bank, step: u32, steps: u32) -> Option<Voltage> {
    let (low, high) = (bank.thresholds.low.to_rational(), bank.thresholds.high.to_rational());
    let share = Rational::new(i128::from(step), i128::from(steps))?;
    let at = high.checked_sub(low)?.checked_mul(share)?.checked_add(low)?;
    bank.nearest(Voltage::from_rational(at)).first().copied()
}

fn swept(name: &str, mut points: Vec<Point>) -> SweptLine {
    points.dedup_by_key(|point| point.threshold);
    let active = |point: &Point| point.edges > 0;
    let edges = points.iter().map(|point| (point.threshold, point.edges)).collect();
    let at = |place: Option<usize>| place.and_then(|place| points.get(place)).map(|point| point.threshold);
    let (low, high, changes) = match (points.iter().position(active), points.iter().rposition(active)) {
        (Some(first), Some(last)) => {
            let low = SweptLevel { above: at(first.checked_sub(1)), below: at(Some(first)) };
            (low, SweptLevel { above: at(Some(last)), below: at(last.checked_add(1)) }, true)
        }
        _ => {
            // It is high at the thresholds below its level, and low at those above.
            let first_low = points.iter().position(|point| point.level != Level::High);
            let above = first_low.unwrap_or(points.len()).checked_sub(1);
            let steady = SweptLevel { above: at(above), below: at(first_low) };
            (steady, steady, false)
        }
    };
    SweptLine { name: name.to_string(), edges, low, high, changes }
}
