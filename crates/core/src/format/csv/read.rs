//! Reading a table of values.

use std::sync::Arc;

use super::cells::{Decimal, stamp, time_unit, volt_unit, word};
use super::columns::{Column, Kind, columns};
use super::dialect::Dialect;
use super::pace::{Contradiction, DIGITS, Pace, Stamp, Written, about};
use super::table::Table;
use crate::capture::{Capture, Origin, Trace};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::format::READ_AS;
use crate::format::analog::{Voltage64, Volts};
use crate::format::bits::{BitColumn, WIDEST, Word};
use crate::format::fill::{Filling, Meant};
use crate::format::source::Source;
use crate::line::{AnalogLine, Input, Level};
use crate::quantity::{Percent, Rational, Time};
use crate::setup::{DecimalMark, EmptyCell, Import, Rows, Times};
use crate::time::{MAX_TICKS, Resolution, TimeBase};

/// Bytes that are looked at for the dialect: more where lines are long.
const LOOKED_AT: [usize; 3] = [1 << 16, 1 << 20, 1 << 24];
/// So many whole lines are enough.
const ENOUGH: usize = 8;

/// Whether a text is a table at all.
///
/// # Errors
/// When it is none.
pub(crate) fn recognise(source: &Source, stated: &Import) -> Result<()> {
    dialect(source, stated).map(|_| ())
}

/// How a table is written.
fn dialect(source: &Source, stated: &Import) -> Result<Dialect> {
    let (mut head, mut whole) = (Vec::new(), false);
    for bytes in LOOKED_AT {
        head = source.first(bytes);
        whole = head.len() < bytes;
        if whole || memchr::memchr_iter(b'\n', &head).count() >= ENOUGH {
            break;
        }
    }
    Dialect::of(&head, whole, source, stated)
}

/// Reads a table of which this is stated.
pub(crate) fn read_source(
    source: &Source,
    stated: &Import,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Capture> {
    let dialect = dialect(source, stated)?;
    let mut columns = columns(&dialect, stated);
    loop {
        let sheet =
            Sheet { source, stated, dialect: &dialect, columns: &columns, digits: None, double: false }
                .with_digits();
        let plan = sheet.plan()?;
        match sheet.read(&plan, progress)? {
            Read::Whole(capture) => return Ok(*capture),
            // What looked like whole numbers turned out to have fractions.
            Read::Fractions(column) => columns[column].kind = Kind::Volts(0),
        }
    }
}

/// A table whose columns are known.
struct Sheet<'a> {
    source: &'a Source,
    stated: &'a Import,
    dialect: &'a Dialect,
    columns: &'a [Column],
    /// How many digits times have, where they have not the same number of decimals: then zeros at their ends
    /// may be left out, and what a last digit stands for depends on the size of the number.
    digits: Option<i32>,
    /// Whether times have as many digits as only numbers of double precision have, the last of which say nothing.
    double: bool,
}

/// How many times as far from the record as it is long time zero may be.
const FAR: i64 = 1000;
/// From so many digits on, a number is one of double precision.
const DOUBLE: i32 = 15;

/// How its rows become ticks.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Plan {
    /// One row a sample.
    Samples { written: Written, period: Option<Time> },
    /// One row for each instant of a change: units of 10^-21 s in a tick.
    Changes { tick: Tick21 },
}

/// The tick of a table of changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Tick21 {
    /// So many units of 10^-21 s, of an exact record.
    Exact(i128),
    /// A sample each so many seconds.
    Sampled(Time),
}

enum Read {
    Whole(Box<Capture>),
    Fractions(usize),
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
    fn time_column(&self) -> Option<(usize, Kind)> {
        let kinds = self.columns.iter().map(|column| column.kind).enumerate();
        kinds.into_iter().find(|(_, kind)| matches!(kind, Kind::Time(_) | Kind::Index))
    }

    fn with_digits(mut self) -> Self {
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

    fn has_volts(&self) -> bool {
        self.columns.iter().any(|column| matches!(column.kind, Kind::Volts(_)))
    }

    fn wrong(&self, line: u64, column: Option<usize>, message: impl Into<String>) -> Error {
        let message = message.into();
        let message = match column.map(|column| &self.columns[column].name) {
            Some(name) => format!("column '{name}': {message}"),
            None => message,
        };
        let place = Place::FileLine { path: self.source.name().into(), line };
        Error::new(ErrorKind::Capture, message).at(place)
    }

    /// Units of 10^-21 s, and those of the last digit.
    fn stamp(&self, line: u64, column: usize, cell: &[u8]) -> Result<Stamp> {
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
            let power = time_unit(rest);
            let unit = match (power, self.stated.times, self.columns[column].kind) {
                (None, Some(Times::In(unit)), _) => Some(unit.to_rational()),
                (Some(power), ..) | (None, _, Kind::Time(Some(power))) => Rational::power_of_ten(power),
                (None, ..) => {
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

    /// What is stated and shown of the rows.
    fn plan(&self) -> Result<Plan> {
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

    fn ask_rows(&self, repeats: Option<u64>, uneven: Option<u64>) -> Error {
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

fn shown(text: &str) -> String {
    let short: String = text.chars().take(30).flat_map(char::escape_debug).collect();
    if text.chars().count() > 30 { format!("{short}…") } else { short }
}

/// A column of levels while it is read.
struct Levels {
    column: usize,
    /// The cell before.
    raw: Vec<u8>,
    bits: BitColumn,
}

/// A column of voltages while it is read.
struct Analog {
    column: usize,
    power: i32,
    volts: Volts,
}

impl Sheet<'_> {
    fn read(&self, plan: &Plan, progress: &mut dyn FnMut(u64, u64)) -> Result<Read> {
        let (mut levels, mut analog) = (Vec::new(), Vec::new());
        for (number, column) in self.columns.iter().enumerate() {
            match column.kind {
                Kind::Levels(declared) => levels.push(Levels {
                    column: number,
                    raw: Vec::new(),
                    bits: BitColumn::new(levels.len() * WIDEST, declared),
                }),
                Kind::Volts(power) => analog.push(Analog { column: number, power, volts: Volts::default() }),
                Kind::Time(_) | Kind::Index | Kind::Aside => {}
            }
        }
        if levels.is_empty() && analog.is_empty() {
            let error = self.source.refused("no column of this table holds levels or voltages");
            return Err(
                error.with_help("levels are 0, 1, high, low, x, z; buses 0x3f or 63; voltages 3.3 or 3.3 V")
            );
        }
        if !analog.is_empty() && matches!(plan, Plan::Changes { .. }) {
            let error = self.source.refused("voltages that are given at their changes only are not read");
            return Err(
                error.with_help("export every sample; or state rows = \"samples\" if that is what they are")
            );
        }
        let mut filling = Filling::new((0..levels.len() * WIDEST).map(|_| Meant::Levels));
        let mut clock = Clock::new(plan);
        let mut table = Table::open(self.source, self.dialect, self.stated.partial)?;
        let time = self.time_column().map(|(column, _)| column);
        let mut tick = 0;
        let mut rows = 0u64;
        let mut first_number = None;
        let mut cut = false;
        let needed = 1 + self.columns.iter().rposition(|c| c.kind != Kind::Aside).unwrap_or(0);
        while table.next()?.is_some() {
            let line = table.line();
            let cells = table.row().len();
            if cells < needed {
                if table.next()?.is_none() {
                    cut = true;
                    break;
                }
                let message = format!("this row has {cells} cells, the table {} columns", self.columns.len());
                return Err(self
                    .wrong(line, None, message)
                    .with_help("the table is damaged, or another one begins here"));
            }
            let row = table.row();
            if row.iter().skip(self.columns.len()).any(|cell| !cell.trim_ascii().is_empty()) {
                let message = format!("this row has {cells} cells, the table {} columns", self.columns.len());
                return Err(self
                    .wrong(line, None, message)
                    .with_help("put quotes around cells with separators"));
            }
            if let Some((column, Kind::Index)) = self.time_column() {
                let number =
                    std::str::from_utf8(row[column].trim_ascii()).ok().and_then(|n| n.parse::<u64>().ok());
                let expected = *first_number.get_or_insert(number.unwrap_or(0)) + rows;
                if number != Some(expected) {
                    let message = format!("here is sample number {expected} expected");
                    let help =
                        "each row is a sample: none may be left out; export all of them, or their times";
                    return Err(self.wrong(line, Some(column), message).with_help(help));
                }
            }
            if let Some(time) = time.filter(|time| matches!(self.columns[*time].kind, Kind::Time(_))) {
                let stamp = self.stamp(line, time, row[time].trim_ascii())?;
                tick = clock.tick(self, line, stamp, rows)?;
            } else {
                tick = rows;
            }
            if tick >= MAX_TICKS {
                return Err(self.wrong(line, time, "this time is beyond what a capture can hold"));
            }
            let mut changed = false;
            for column in &mut levels {
                let cell = row[column.column].trim_ascii();
                if cell == column.raw && column.bits.last().is_some() {
                    continue;
                }
                changed = true;
                let Some(now) = self.word(cell, plan, column.bits.last()) else {
                    let text = String::from_utf8_lossy(cell);
                    let fraction =
                        Decimal::read(&text, self.dialect.decimal).filter(|(_, rest)| rest.is_empty());
                    if fraction.is_some() && self.columns[column.column].kind == Kind::Levels(None) {
                        return Ok(Read::Fractions(column.column));
                    }
                    let message = format!("'{}' is neither a level nor a number", shown(&text));
                    let help = "levels are 0, 1, high, low, x, z; buses 0x3f, 63; bare hexadecimal is stated: numbers = \"hex\"";
                    return Err(self.wrong(line, Some(column.column), message).with_help(help));
                };
                if let Kind::Levels(Some(width)) = self.columns[column.column].kind
                    && now.takes() > width
                {
                    let message =
                        format!("'{}' does not fit into {width} bits", String::from_utf8_lossy(cell));
                    let help = "the name of the column says how many bits it has";
                    return Err(self.wrong(line, Some(column.column), message).with_help(help));
                }
                column.raw.clear();
                column.raw.extend_from_slice(cell);
                column.bits.put(&mut filling, tick, now);
            }
            for column in &mut analog {
                let text = std::str::from_utf8(row[column.column].trim_ascii()).unwrap_or("?");
                column.volts.push(self.volts(text, column.power).ok_or_else(|| {
                    let message = match text {
                        "" => "here is no voltage".to_string(),
                        text => format!("'{}' is not a voltage", shown(text)),
                    };
                    self.wrong(line, Some(column.column), message)
                        .with_help("each row has a number, such as 3.3")
                })?);
            }
            clock.repeats(rows > 0 && !changed && analog.is_empty(), line, self)?;
            rows += 1;
            if rows.is_multiple_of(1 << 16) {
                progress(table.read(), self.source.len());
            }
        }
        if rows == 0 {
            return Err(self.source.refused("this table has no rows of values"));
        }
        let early = table.early.take();
        let clock = clock.finish(self)?;
        self.build(&clock, plan, levels, analog, filling, tick + 1, (cut, early))
            .map(|c| Read::Whole(Box::new(c)))
    }

    fn word(&self, cell: &[u8], plan: &Plan, last: Option<Word>) -> Option<Word> {
        if !cell.is_empty() {
            return word(cell, self.stated.numbers);
        }
        let samples = matches!(plan, Plan::Samples { .. });
        let empty =
            self.stated.empty.unwrap_or(if samples { EmptyCell::Unknown } else { EmptyCell::Unchanged });
        Some(match empty.level() {
            Some(Level::Low) => Word::all(false, false),
            Some(Level::High) => Word::all(true, false),
            Some(Level::Floating) => Word::all(false, true),
            Some(Level::Unknown) => Word::all(true, true),
            None => last.unwrap_or(Word::all(true, true)),
        })
    }

    fn volts(&self, text: &str, power: i32) -> Option<Voltage64> {
        let (number, rest) = Decimal::read(text, self.dialect.decimal)?;
        let power = if rest.is_empty() { power } else { volt_unit(rest)? };
        let written = 10f64.powi(number.exponent.saturating_add(power));
        let number = number.shortened();
        let exponent = number.exponent.saturating_add(power);
        let step = 10f64.powi(exponent);
        // Division by a power of ten is exact where multiplication by its inverse is not.
        let value = number.mantissa as f64;
        let value = if exponent < 0 { value / 10f64.powi(exponent.saturating_neg()) } else { value * step };
        Some(Voltage64 { value, step, written }).filter(|volts| volts.is_sensible())
    }
}

/// From rows to ticks.
struct Clock {
    plan: Plan,
    pace: Pace,
    first: Option<Stamp>,
    last: Option<(i128, u64)>,
    repeated: Option<u64>,
}

/// The clock of a whole table.
struct Timed {
    period: Time,
    accuracy: Percent,
    /// Units of 10^-21 s at the first row.
    first: i128,
    found: bool,
    contradicts: Option<String>,
}

impl Clock {
    fn new(plan: &Plan) -> Self {
        let written = match plan {
            Plan::Samples { written, .. } => *written,
            Plan::Changes { .. } => Written::Digits,
        };
        Clock { plan: *plan, pace: Pace::new(written), first: None, last: None, repeated: None }
    }

    fn tick(&mut self, sheet: &Sheet<'_>, line: u64, stamp: Stamp, row: u64) -> Result<u64> {
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
    fn repeats(&mut self, repeats: bool, line: u64, sheet: &Sheet<'_>) -> Result<()> {
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

    fn finish(self, sheet: &Sheet<'_>) -> Result<Timed> {
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

impl Sheet<'_> {
    #[allow(clippy::too_many_arguments)]
    fn build(
        &self,
        clock: &Timed,
        plan: &Plan,
        levels: Vec<Levels>,
        analog: Vec<Analog>,
        filling: Filling,
        len: u64,
        (cut, early): (bool, Option<Error>),
    ) -> Result<Capture> {
        let name = self.source.name();
        let located = |e: Error| e.at(Place::File(name.into()));
        let mut base = TimeBase::from_tick(clock.period).map_err(located)?;
        let since =
            Rational::new(-clock.first, 1).and_then(|n| n.checked_mul(Rational::power_of_ten(-DIGITS)?));
        let zero = since.and_then(|since| base.ticks_in(Time::from_rational(since))).map(Rational::round);
        let zero = zero.and_then(|zero| i64::try_from(zero).ok());
        // What counts from some day long ago counts from the first row.
        let far = FAR.saturating_mul(i64::try_from(len).unwrap_or(i64::MAX));
        let zero = zero.filter(|zero| zero.abs() <= far);
        base = base.with_zero_at(zero.unwrap_or(0));
        let exact = matches!(plan, Plan::Changes { tick: Tick21::Exact(_) });
        let resolution = match exact {
            true => Resolution::EXACT,
            false => Resolution { accuracy: clock.accuracy, ..Resolution::SAMPLED },
        };
        let told = self.told(clock, plan);
        let origin = Origin { source: format!("table {}", name.display()), ..Origin::default() };
        let mut builder = Capture::builder(base, len).resolution(resolution).origin(origin);
        builder = builder.history(vec![told]);
        let traces: Vec<Arc<Trace>> = filling.finish(len).into_iter().map(Arc::new).collect();
        for column in &levels {
            let Column { name, bits, .. } = &self.columns[column.column];
            let input = Input::Signal(format!("column {}", column.column + 1));
            builder = column.bits.add_to(builder, (name, *bits), input, &traces).map_err(located)?;
        }
        for column in analog {
            let Column { name, .. } = &self.columns[column.column];
            let line =
                AnalogLine { input: Some(column.column as u32 + 1), ..AnalogLine::named(name.as_str()) };
            builder = builder.analog(line, column.volts.finish(1));
        }
        let aside: Vec<&str> =
            self.columns.iter().filter(|c| c.kind == Kind::Aside).map(|c| c.name.as_str()).collect();
        if !aside.is_empty() {
            builder = builder.remark(format!(
                "set aside, since they hold neither levels nor voltages: {}",
                aside.join(", ")
            ));
        }
        if zero.is_none() && self.time_column().is_some() {
            builder = builder.remark("times count from the first row, since its own is far from zero");
        }
        if cut {
            builder = builder.remark("the last row is cut off, and was left out");
        }
        for remark in clock
            .contradicts
            .iter()
            .cloned()
            .chain(early.map(|e| format!("{}: the rest was left out", e.message())))
        {
            builder = builder.remark(remark);
        }
        builder.distinct_names().build().map_err(located)
    }

    /// What was recognised, in one line.
    fn told(&self, clock: &Timed, plan: &Plan) -> String {
        let separator = match (self.dialect.columns, self.dialect.separator) {
            (1, _) => "a single column".to_string(),
            (_, b'\t') => "tab between columns".to_string(),
            (_, b' ') => "blanks between columns".to_string(),
            (_, byte) => format!("'{}' between columns", char::from(byte)),
        };
        let mut told = vec![separator];
        if self.dialect.decimal == DecimalMark::Comma {
            told.push("decimal comma".into());
        }
        match (self.time_column(), self.stated.times) {
            (_, Some(times)) => told.push(format!("time in {times}")),
            (Some((_, Kind::Time(Some(power)))), None) => {
                let unit = ["s", "ms", "us", "ns", "ps", "fs"].get((-power / 3) as usize).unwrap_or(&"s");
                told.push(format!("time in {unit}"));
            }
            (Some((_, Kind::Index)), None) => told.push("numbered samples".into()),
            (Some(_), None) => told.push("times of day".into()),
            (None, None) => told.push("no times".into()),
        }
        let base = TimeBase::from_tick(clock.period).map(|base| base.rate().to_string()).unwrap_or_default();
        match plan {
            Plan::Samples { written, .. } => {
                told.push("every sample".into());
                told.push(base);
                if *written == Written::Single {
                    told.push("times of single precision".into());
                }
            }
            Plan::Changes { tick: Tick21::Sampled(_) } => told.extend(["only changes".into(), base]),
            Plan::Changes { tick: Tick21::Exact(_) } => told.extend(["only changes".into(), "exact".into()]),
        }
        if clock.found && clock.accuracy > Percent::ZERO {
            told.push(format!("known to {}", clock.accuracy));
        }
        format!("{READ_AS}{}", told.join(", "))
    }
}
