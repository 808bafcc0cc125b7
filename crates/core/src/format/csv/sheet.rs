//! A table whose columns are known: its times, and what its rows are.

use super::cells::{Decimal, stamp, time_unit};
use super::columns::{Column, Kind};
use super::dialect::Dialect;
use super::pace::{DIGITS, Pace, Stamp, Written};
use super::table::Table;
use crate::error::{Error, ErrorKind, Place, Result};
use crate::format::source::Source;
use crate::quantity::{Rational, Time};
use crate::setup::{Import, Rows, Times};
use crate::time::TimeBase;

/// A table whose columns are known.
pub(super) struct Sheet<'a> {
    pub(super) source: &'a Source,
    pub(super) stated: &'a Import,
    pub(super) dialect: &'a Dialect,
    pub(super) columns: &'a [Column],
    /// How many digits times have, where they have not the same number of decimals: then zeros at their ends
    /// may be left out, and what a last digit stands for depends on the size of the number.
    pub(super) digits: Option<i32>,
    /// Whether times have as many digits as only numbers of double precision have, the last of which say nothing.
    pub(super) double: bool,
}

/// From so many digits on, a number is one of double precision.
const DOUBLE: i32 = 15;

/// How its rows become ticks.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Plan {
    /// One row a sample.
    Samples { written: Written, period: Option<Time> },
    /// One row for each instant of a change: units of 10^-21 s in a tick.
    Changes { tick: Tick21 },
}

/// The tick of a table of changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Tick21 {
    /// So many units of 10^-21 s, of an exact record.
    Exact(i128),
    /// A sample each so many seconds.
    Sampled(Time),
}

/// What the rows of a table show of what they are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Evidence {
    /// A line at which a row in the middle repeats the one before.
    repeats: Option<u64>,
    /// A line at which the step in time is another than before.
    uneven: Option<u64>,
    rows: u64,
}

impl Sheet<'_> {
    pub(super) fn time_column(&self) -> Option<(usize, Kind)> {
        let kinds = self.columns.iter().map(|column| column.kind).enumerate();
        kinds.into_iter().find(|(_, kind)| matches!(kind, Kind::Time(_) | Kind::Index))
    }

    pub(super) fn with_digits(mut self) -> Self {
        let Some((column, _)) = self.time_column() else { return self };
        let cells = self.dialect.rows.iter().filter_map(|row| row.get(column));
        let numbers: Vec<Decimal> = cells
            .filter_map(|cell| Decimal::read(cell, self.dialect.decimal))
            .map(|(number, _)| number)
            .collect();
        let alike = numbers.windows(2).all(|pair| pair[0].exponent == pair[1].exponent);
        let digits = numbers.iter().map(|number| number.digits()).max();
        self.double = digits.is_some_and(|digits| digits >= DOUBLE);
        self.digits = digits.filter(|_| !alike);
        self
    }

    /// What the last digit of a time stands for, given what it would where all have as many decimals.
    fn last_digit(&self, number: Decimal, step: i128) -> i128 {
        let Some(digits) = self.digits else { return step };
        let fewer = (digits - number.digits()).max(0) as u32;
        match number.mantissa {
            0 => 1,
            _ => (step / 10i128.checked_pow(fewer).unwrap_or(i128::MAX)).max(1),
        }
    }

    pub(super) fn has_volts(&self) -> bool {
        self.columns.iter().any(|column| matches!(column.kind, Kind::Volts(_)))
    }

    pub(super) fn wrong(&self, line: u64, column: Option<usize>, message: impl Into<String>) -> Error {
        let message = message.into();
        let message = match column.map(|column| &self.columns[column].name) {
            Some(name) => format!("column '{name}': {message}"),
            None => message,
        };
        let place = Place::FileLine { path: self.source.name().into(), line };
        Error::new(ErrorKind::Capture, message).at(place)
    }

    /// Units of 10^-21 s, and those of the last digit.
    pub(super) fn stamp(&self, line: u64, column: usize, cell: &[u8]) -> Result<Stamp> {
        let stamp = self.any_stamp(line, column, cell)?;
        // Differences of any two can be counted, too.
        match stamp.units.unsigned_abs() < 1 << 120 && stamp.step < 1 << 120 {
            true => Ok(stamp),
            false => Err(self.wrong(line, Some(column), "this time is too long to count")),
        }
    }

    fn any_stamp(&self, line: u64, column: usize, cell: &[u8]) -> Result<Stamp> {
        let text = std::str::from_utf8(cell).unwrap_or("").trim();
        let unclear = |message: String| self.wrong(line, Some(column), message);
        if let Some((number, rest)) = Decimal::read(text, self.dialect.decimal)
            && (rest.is_empty() || time_unit(rest).is_some())
        {
            let power = match (time_unit(rest), self.stated.times, self.columns[column].kind) {
                (None, Some(Times::In(_)), _) => None,
                (Some(power), ..) | (None, _, Kind::Time(Some(power))) => Some(power),
                (None, ..) => None,
            };
            if let Some(stamp) = power.and_then(|power| self.counted_plainly(number, power)) {
                return Ok(stamp);
            }
            let unit = match (power, self.stated.times) {
                (Some(power), _) => Rational::power_of_ten(power),
                (None, Some(Times::In(unit))) => Some(unit.to_rational()),
                (None, _) => {
                    let help = "state it: time = \"ms\" in [import] (s, ms, us, ns, ps)";
                    return Err(unclear("it is not said what its times count in".into()).with_help(help));
                }
            };
            let counted = unit.and_then(|unit| self.counted(number, unit));
            return counted.ok_or_else(|| unclear(format!("the time '{text}' is too long to count")));
        }
        if let Some(units) = stamp(text) {
            let fraction = text
                .rsplit([':'])
                .next()
                .and_then(|s| s.split(['.', ',']).nth(1))
                .map_or(0, |f| f.bytes().take_while(u8::is_ascii_digit).count());
            let step = 10i128.pow((DIGITS - (fraction as i32).min(DIGITS)) as u32);
            return Ok(Stamp { units, step });
        }
        Err(unclear(format!("'{}' is not a time", shown(text)))
            .with_help("a time is a number, with its unit or without"))
    }

    /// A number of units of time, each so many seconds; `None` where it is too long to count.
    fn counted(&self, number: Decimal, unit: Rational) -> Option<Stamp> {
        let (exact, step) = number.in_units(DIGITS)?;
        let scaled = |count: i128| Some(Rational::new(count, 1)?.checked_mul(unit)?.round());
        let units = scaled(exact)?;
        let mut step = scaled(self.last_digit(number, step))?.max(1);
        if self.double {
            step = step.max((units.unsigned_abs() / (1 << 51)) as i128);
        }
        Some(Stamp { units, step })
    }

    /// The same for units of a power of ten of a second, where the number is short enough and nothing is rounded.
    ///
    /// PERF: nearly all times are like that, and fractions of 128 bits took a quarter of reading a table.
    fn counted_plainly(&self, number: Decimal, power: i32) -> Option<Stamp> {
        let shift = number.exponent.checked_add(DIGITS)?.checked_add(power)?;
        let scale = i64::checked_pow(10, u32::try_from(shift).ok().filter(|_| power <= 0)?)?;
        let mantissa = i64::try_from(number.mantissa).ok()?;
        let units = i128::from(mantissa) * i128::from(scale);
        let mut step = i128::from(scale);
        if let Some(digits) = self.digits {
            let own = mantissa.unsigned_abs().checked_ilog10().map_or(0, |log| log as i32 + 1);
            let fewer = shift - (digits - own).max(0);
            let fewer = if mantissa == 0 { 0 } else { u32::try_from(fewer).unwrap_or(0) };
            step = i64::checked_pow(10, fewer)?.into();
        }
        if self.double {
            step = step.max((units.unsigned_abs() / (1 << 51)) as i128);
        }
        Some(Stamp { units, step })
    }

    /// What is stated and shown of the rows.
    pub(super) fn plan(&self) -> Result<Plan> {
        let time = self.time_column();
        let sampled = |period| Plan::Samples { written: Written::Digits, period };
        match (time, self.stated.rows) {
            (None | Some((_, Kind::Index)), Some(Rows::Changes)) => {
                let error = self
                    .source
                    .refused("rows that are changes need a column of times, which this table lacks");
                Err(error.with_help("export the times, too, or every sample"))
            }
            (None | Some((_, Kind::Index)), _) => match self.stated.period {
                Some(period) => Ok(sampled(Some(period))),
                None => {
                    let what = if time.is_some() { "numbers of samples, but no times" } else { "no times" };
                    let error =
                        self.source.refused(format!("this table has {what}: its sample rate is not known"));
                    Err(error.with_help(
                        "state it: rate = \"1 MS/s\" in [import]; or, where the first column has times, what \
                                         they count in: time = \"us\"",
                    ))
                }
            },
            (Some(_), Some(Rows::Samples)) => self.sampled_plan(),
            (Some((column, _)), Some(Rows::Changes)) => self.changes_plan(column),
            (Some((column, _)), None) => {
                let evidence = self.evidence(column)?;
                match (evidence.repeats, evidence.uneven) {
                    (Some(_), None) => self.sampled_plan(),
                    (None, Some(_)) => self.changes_plan(column),
                    (None, None) if self.has_volts() && evidence.rows > 2 => self.sampled_plan(),
                    (repeats, uneven) => Err(self.ask_rows(repeats, uneven)),
                }
            }
        }
    }

    fn sampled_plan(&self) -> Result<Plan> {
        let period = self.stated.period;
        let Some((column, _)) = self.time_column() else {
            return Err(self.source.refused("this table has no times"));
        };
        for written in [Written::Digits, Written::Single] {
            let mut pace = Pace::new(written);
            let rows = self.dialect.rows.iter().filter_map(|row| row.get(column));
            let stamps = rows.map(|cell| self.stamp(self.dialect.line, column, cell.as_bytes()));
            let stamps = stamps.collect::<Result<Vec<_>>>()?;
            if stamps.iter().all(|stamp| pace.push(*stamp).is_ok())
                && (written == Written::Digits || pace.is_fine())
            {
                return Ok(Plan::Samples { written, period });
            }
        }
        Ok(Plan::Samples { written: Written::Digits, period })
    }

    fn changes_plan(&self, column: usize) -> Result<Plan> {
        if let Some(period) = self.stated.period {
            return Ok(Plan::Changes { tick: Tick21::Sampled(period) });
        }
        // What all times can be divided by.
        let mut table = Table::open(self.source, self.dialect, self.stated.partial)?;
        let (mut first, mut divisor) = (None, 0u128);
        while let Some(row) = table.next()? {
            let cell = row.get(column).unwrap_or(&[]).trim_ascii().to_vec();
            let at = self.stamp(table.line(), column, &cell)?.units;
            let since = at - *first.get_or_insert(at);
            divisor = if divisor == 0 {
                since.unsigned_abs()
            } else {
                crate::quantity::gcd(divisor, since.unsigned_abs())
            };
        }
        let tick = i128::try_from(divisor.max(1)).unwrap_or(1);
        if !self.stated.exact {
            let grid = Rational::new(tick, 1).and_then(|n| n.checked_mul(Rational::power_of_ten(-DIGITS)?));
            let grid = grid.map(Time::from_rational);
            let rate =
                grid.and_then(|grid| TimeBase::from_tick(grid).ok()).map(|base| base.rate().to_string());
            let (grid, rate) =
                (grid.map_or("?".into(), |g| g.to_string()), rate.unwrap_or("100 MS/s".into()));
            let error = self.source.refused(
                "the rows of this table are changes, and it is not said at which rate they were sampled",
            );
            return Err(error.with_help(format!(
                "all times lie on a grid of {grid}: state the rate, such as rate = \"{rate}\" in [import], or, where a \
                 simulation wrote it, exact = true"
            )));
        }
        Ok(Plan::Changes { tick: Tick21::Exact(tick) })
    }

    pub(super) fn ask_rows(&self, repeats: Option<u64>, uneven: Option<u64>) -> Error {
        let message = match (repeats, uneven) {
            (Some(repeats), Some(uneven)) => format!(
                "rows may be samples (line {repeats} repeats the one before it) or changes (the step to line {uneven} is another)"
            ),
            _ => "rows may be samples or changes: none repeats the one before it, and all steps are alike"
                .to_string(),
        };
        self.source.refused(message).with_help("state it: rows = \"samples\" or \"changes\" in [import]")
    }

    /// Looks at rows until they show what they are.
    fn evidence(&self, time: usize) -> Result<Evidence> {
        let mut table = Table::open(self.source, self.dialect, self.stated.partial)?;
        let mut paces = [Some(Pace::new(Written::Digits)), Some(Pace::new(Written::Single))];
        let mut evidence = Evidence::default();
        let mut before: Vec<Vec<u8>> = Vec::new();
        // The last row may only say where the record ends.
        let mut repeated = None;
        while let Some(row) = table.next()? {
            let cells: Vec<Vec<u8>> = row.iter().map(|cell| cell.trim_ascii().to_vec()).collect();
            let line = table.line();
            if let Some(line) = repeated.take() {
                evidence.repeats = evidence.repeats.or(Some(line));
            }
            let others = |cells: &[Vec<u8>]| {
                let said = |at: usize| {
                    matches!(self.columns.get(at).map(|c| c.kind), Some(Kind::Levels(_) | Kind::Volts(_)))
                };
                let kept = cells.iter().enumerate().filter(|(at, _)| said(*at));
                kept.map(|(_, cell)| cell.clone()).collect::<Vec<_>>()
            };
            let now = others(&cells);
            let empty = now.iter().all(Vec::is_empty);
            if evidence.rows > 0 && now == before && !empty {
                repeated = Some(line);
            }
            before = now;
            let stamp = self.stamp(line, time, cells.get(time).map_or(&[], Vec::as_slice))?;
            for pace in &mut paces {
                if pace.as_mut().is_some_and(|pace| pace.push(stamp).is_err()) {
                    *pace = None;
                }
            }
            evidence.rows += 1;
            let explained =
                paces[0].is_some() || paces[1].is_some_and(|pace| evidence.rows < 3 || pace.is_fine());
            if !explained {
                evidence.uneven = evidence.uneven.or(Some(line));
                paces = [None, None];
            }
            let known = evidence.repeats.is_some() || evidence.uneven.is_some();
            // The rest is looked at while it is read.
            if known && evidence.rows > 1000 || evidence.repeats.is_some() && evidence.uneven.is_some() {
                break;
            }
        }
        Ok(evidence)
    }
}

/// A text for a message, shortened.
pub(super) fn shown(text: &str) -> String {
    let short: String = text.chars().take(30).flat_map(char::escape_debug).collect();
    if text.chars().count() > 30 { format!("{short}…") } else { short }
}
