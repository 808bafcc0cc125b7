//! Reading a table of values.

use std::sync::Arc;

use super::cells::{Decimal, volt_unit, word};
use super::clock::{Clock, Timed};
use super::columns::{Column, Kind, columns};
use super::dialect::Dialect;
use super::pace::{DIGITS, Written};
use super::sheet::{Plan, Sheet, Tick21, shown};
use super::table::Table;
use crate::capture::{Capture, Origin, Trace};
use crate::error::{Error, Place, Result};
use crate::format::READ_AS;
use crate::format::analog::{Voltage64, Volts};
use crate::format::bits::{BitColumn, WIDEST, Word};
use crate::format::fill::{Filling, Meant};
use crate::format::source::Source;
use crate::line::{AnalogLine, Input, Level};
use crate::quantity::{Percent, Rational, Time};
use crate::setup::{DecimalMark, EmptyCell, Import};
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

enum Read {
    Whole(Box<Capture>),
    Fractions(usize),
}

/// How many times as far from the record as it is long time zero may be.
const FAR: i64 = 1000;

/// A column of levels while it is read.
struct Levels {
    column: usize,
    /// The cell before.
    raw: Vec<u8>,
    bits: BitColumn,
}

/// What stands for a voltage that is not known, in any case.
const NOT_KNOWN: [&str; 5] = ["x", "nan", "inf", "+inf", "-inf"];

/// A column of voltages while it is read.
struct Analog {
    column: usize,
    power: i32,
    volts: Volts,
}

/// All rows of a table.
struct Body {
    levels: Vec<Levels>,
    analog: Vec<Analog>,
    filling: Filling,
    /// Ticks.
    len: u64,
    /// Whether the last row is cut off.
    cut: bool,
    /// What ended it before the end of the file.
    early: Option<Error>,
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
        let every_row = matches!(plan, Plan::Samples { .. });
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
            let beyond = |cell: &[u8]| !cell.trim_ascii().is_empty();
            if cells > self.columns.len() && row.iter().skip(self.columns.len()).any(beyond) {
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
                // PERF: most cells are a single digit, for which a comparison of texts is a call too much.
                let same = match (cell, &column.raw[..]) {
                    ([now], [before]) => now == before,
                    (now, before) => now == before,
                };
                if same && column.bits.last().is_some() {
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
                if !every_row {
                    column.volts.at(tick);
                }
                let known = match text {
                    "" if self.empty(plan) == EmptyCell::Unchanged => {
                        column.volts.push_again();
                        continue;
                    }
                    "" => None,
                    text if NOT_KNOWN.iter().any(|word| text.eq_ignore_ascii_case(word)) => None,
                    text => Some(self.volts(text, column.power).ok_or_else(|| {
                        let message = format!("'{}' is not a voltage", shown(text));
                        self.wrong(line, Some(column.column), message).with_help(
                            "a voltage is a number, such as 3.3; one that is not known is x or nan",
                        )
                    })?),
                };
                column.volts.push(known);
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
        let body = Body { levels, analog, filling, len: tick + 1, cut, early };
        self.build(&clock, plan, body).map(|capture| Read::Whole(Box::new(capture)))
    }

    /// What a cell without anything says.
    fn empty(&self, plan: &Plan) -> EmptyCell {
        let samples = matches!(plan, Plan::Samples { .. });
        self.stated.empty.unwrap_or(if samples { EmptyCell::Unknown } else { EmptyCell::Unchanged })
    }

    fn word(&self, cell: &[u8], plan: &Plan, last: Option<Word>) -> Option<Word> {
        if !cell.is_empty() {
            return word(cell, self.stated.numbers);
        }
        Some(match self.empty(plan).level() {
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

impl Sheet<'_> {
    fn build(&self, clock: &Timed, plan: &Plan, body: Body) -> Result<Capture> {
        let Body { levels, analog, filling, len, cut, early } = body;
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
        let every_row = matches!(plan, Plan::Samples { .. });
        let held = !every_row || analog.iter().any(|column| column.volts.has_gaps());
        for column in analog {
            let Column { name, .. } = &self.columns[column.column];
            let line =
                AnalogLine { input: Some(column.column as u32 + 1), ..AnalogLine::named(name.as_str()) };
            let trace = if held { column.volts.finish_held(len)? } else { column.volts.finish() };
            builder = builder.analog(line, trace);
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
