//! From the rows of a table to ticks.

use super::columns::Kind;
use super::pace::{Contradiction, DIGITS, Pace, Stamp, Written, about};
use super::sheet::{Plan, Sheet, Tick21};
use crate::error::{Error, Result};
use crate::quantity::{Percent, Rational, Time};

/// From rows to ticks.
pub(super) struct Clock {
    plan: Plan,
    pace: Pace,
    first: Option<Stamp>,
    last: Option<(i128, u64)>,
    repeated: Option<u64>,
}

/// The clock of a whole table.
pub(super) struct Timed {
    pub(super) period: Time,
    pub(super) accuracy: Percent,
    /// Units of 10^-21 s at the first row.
    pub(super) first: i128,
    pub(super) found: bool,
    pub(super) contradicts: Option<String>,
}

impl Clock {
    pub(super) fn new(plan: &Plan) -> Self {
        let written = match plan {
            Plan::Samples { written, .. } => *written,
            Plan::Changes { .. } => Written::Digits,
        };
        Clock { plan: *plan, pace: Pace::new(written), first: None, last: None, repeated: None }
    }

    pub(super) fn tick(&mut self, sheet: &Sheet<'_>, line: u64, stamp: Stamp, row: u64) -> Result<u64> {
        let first = *self.first.get_or_insert(stamp);
        let column = sheet.time_column().map(|(column, _)| column);
        let stated = matches!(self.plan, Plan::Samples { period: Some(_), .. });
        if let Some((before, _)) = self.last
            && stamp.units <= before
            && !stated
        {
            let again = stamp.units == before;
            let message =
                if again { "this row has the time of the one before" } else { "time runs backwards" };
            let help = match again {
                true => "the times are rounded to more than a sample: state the rate, and the rows count",
                false => "the table is damaged, or several records stand in it",
            };
            return Err(sheet.wrong(line, column, message).with_help(help));
        }
        let tick = match self.plan {
            Plan::Samples { period, .. } => {
                // Where the rate is stated the rows count, but only if it is sure that each is a sample.
                match self.pace.push(stamp) {
                    Err(Contradiction(a, b)) if period.is_none() => {
                        return Err(self.two_rates(sheet, line, a, b));
                    }
                    Err(_) if sheet.stated.rows.is_none() => {
                        return Err(sheet.ask_rows(Some(sheet.dialect.line), Some(line)));
                    }
                    _ => row,
                }
            }
            Plan::Changes { tick: Tick21::Exact(tick) } => {
                let ticks = (stamp.units - first.units) / tick;
                u64::try_from(ticks).unwrap_or(u64::MAX)
            }
            Plan::Changes { tick: Tick21::Sampled(period) } => {
                self.sample(sheet, line, stamp, first, period)?
            }
        };
        self.last = Some((stamp.units, tick));
        Ok(tick)
    }

    /// The sample at which a change was seen.
    fn sample(&self, sheet: &Sheet<'_>, line: u64, stamp: Stamp, first: Stamp, period: Time) -> Result<u64> {
        let column = sheet.time_column().map(|(column, _)| column);
        let seconds = Rational::new(stamp.units - first.units, 1)
            .and_then(|units| units.checked_mul(Rational::power_of_ten(-DIGITS)?));
        let ticks = seconds.and_then(|seconds| seconds.checked_div(period.to_rational()));
        let too_long = || sheet.wrong(line, column, "this time is beyond what a capture can hold");
        let ticks = ticks.ok_or_else(too_long)?;
        let sample = ticks.round();
        let off = (ticks.to_f64() - sample as f64).abs();
        let rounding = stamp.step.max(first.step) as f64 * 1e-21 / period.to_rational().to_f64();
        let help = "state the rate at which it was recorded";
        if rounding > 1.0 + 1e-9 && self.last.is_some() {
            let message = format!("this time is rounded to more than a sample of {period}");
            return Err(sheet.wrong(line, column, message).with_help("export more digits of the times"));
        }
        if off > rounding.clamp(1.0 / 8.0, 0.49) {
            let message = format!("this time lies between two samples {period} apart");
            return Err(sheet.wrong(line, column, message).with_help(help));
        }
        let sample = u64::try_from(sample).map_err(|_| too_long())?;
        match self.last {
            Some((_, before)) if before >= sample => {
                Err(sheet.wrong(line, column, "two rows fall on one sample").with_help(help))
            }
            _ => Ok(sample),
        }
    }

    fn two_rates(&self, sheet: &Sheet<'_>, line: u64, a: f64, b: f64) -> Error {
        let column = sheet.time_column().map(|(column, _)| column);
        let message = format!(
            "no single rate explains these times: up to here it is about {}, with this row {}",
            about(a),
            about(b)
        );
        sheet.wrong(line, column, message).with_help(
            "if each row is a sample, state the rate in [import]: then the rows count; if each row is a change, state rows = \"changes\"",
        )
    }

    /// Whether a row says what the one before said.
    pub(super) fn repeats(&mut self, repeats: bool, line: u64, sheet: &Sheet<'_>) -> Result<()> {
        // The last row may only say where the record ends.
        if let Some(line) = self.repeated.take()
            && matches!(self.plan, Plan::Changes { .. })
            && sheet.stated.rows.is_none()
        {
            return Err(sheet.ask_rows(Some(line), Some(sheet.dialect.line)));
        }
        self.repeated = repeats.then_some(line);
        Ok(())
    }

    pub(super) fn finish(self, sheet: &Sheet<'_>) -> Result<Timed> {
        let first = self.first.map_or(0, |first| first.units);
        let plain =
            |period| Timed { period, accuracy: Percent::ZERO, first, found: false, contradicts: None };
        match self.plan {
            Plan::Samples { period: Some(period), .. } => {
                let mut timed = plain(period);
                if let (Some(first), Some((last, row))) = (self.first, self.last)
                    && row > 0
                    && sheet.time_column().is_some_and(|(_, kind)| matches!(kind, Kind::Time(_)))
                {
                    let seen = (last - first.units) as f64 * 1e-21 / row as f64;
                    let ratio = seen / period.to_rational().to_f64();
                    if !(0.9..1.1).contains(&ratio) {
                        timed.contradicts = Some(format!(
                            "the times of the rows say about {}, and not the stated rate",
                            about(seen)
                        ));
                    }
                }
                Ok(timed)
            }
            Plan::Samples { period: None, .. } => match self.pace.period().filter(|_| self.pace.is_fine()) {
                Some((period, accuracy)) => Ok(Timed { period, accuracy, found: true, ..plain(period) }),
                None => {
                    let error = sheet
                        .source
                        .refused("the times of this table are too few, or too coarse, to tell its rate");
                    Err(error.with_help("state it: rate = \"1 MS/s\" in [import]"))
                }
            },
            Plan::Changes { tick: Tick21::Sampled(period) } => Ok(plain(period)),
            Plan::Changes { tick: Tick21::Exact(tick) } => {
                let tick =
                    Rational::new(tick, 1).and_then(|n| n.checked_mul(Rational::power_of_ten(-DIGITS)?));
                let tick = tick
                    .ok_or_else(|| sheet.source.refused("the times of this table are too long to count"))?;
                Ok(plain(Time::from_rational(tick)))
            }
        }
    }
}
