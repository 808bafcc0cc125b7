//! What the columns of a table are.

use super::cells::{Decimal, stamp, time_unit, volt_unit, word};
use super::dialect::Dialect;
use crate::setup::{DecimalMark, Import, Times};

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Times, in units of a power of ten of seconds where that is known.
    Time(Option<i32>),
    /// Numbers of samples.
    Index,
    /// Levels of a line, or of a bus with so many bits if that is known.
    Levels(Option<u32>),
    /// Voltages, in units of a power of ten of volts.
    Volts(i32),
    /// Nothing that is read.
    Aside,
}

/// A column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Column {
    /// Its name without its unit.
    pub(super) name: String,
    /// The bits that its name says it has: the most and the least significant one.
    pub(super) bits: Option<(i64, i64)>,
    pub(super) kind: Kind,
}

/// Names of columns of times, without their unit.
const TIME: [&str; 14] = [
    "time",
    "t",
    "timestamp",
    "time stamp",
    "timestamps",
    "datetime",
    "date time",
    "x",
    "x-axis",
    "zeit",
    "temps",
    "tijd",
    "elapsed",
    "elapsed time",
];
/// Names of columns of sample numbers.
const INDEX: [&str; 14] = [
    "sample",
    "samples",
    "index",
    "idx",
    "nr",
    "no",
    "no.",
    "n",
    "#",
    "point",
    "points",
    "sample number",
    "row",
    "sample no",
];

/// A unit, of time or of voltage.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Unit {
    Time(i32),
    Volts(i32),
}

fn unit_of(text: &str) -> Option<Unit> {
    let text = text.trim();
    time_unit(text).map(Unit::Time).or_else(|| volt_unit(text).map(Unit::Volts))
}

/// The name of a column without its unit, and the unit: `Time (ms)`, `CH1 [V]`, `t/ns`, `time_s`.
fn parted(text: &str) -> (String, Option<Unit>) {
    let text = text.trim();
    for (open, close) in [('(', ')'), ('[', ']')] {
        if let Some((name, unit)) = text.strip_suffix(close).and_then(|text| text.rsplit_once(open))
            && let Some(unit) = unit_of(unit)
        {
            return (name.trim().to_string(), Some(unit));
        }
    }
    for (mark, at_least) in [(" in ", 1), ("/", 1), (", ", 1), ("_", 1), (" ", 2)] {
        if let Some((name, unit)) = text.rsplit_once(mark)
            && let Some(found) = unit_of(unit)
        {
            let volts = matches!(found, Unit::Volts(_));
            if volts || is_time(name) || unit.len() > at_least && mark != " " {
                return (name.trim().to_string(), Some(found));
            }
        }
    }
    match unit_of(text) {
        Some(unit @ Unit::Time(_)) => ("time".to_string(), Some(unit)),
        _ => (text.to_string(), None),
    }
}

fn is_time(name: &str) -> bool {
    let name = name.trim().to_lowercase();
    TIME.contains(&name.as_str()) || name.ends_with(" time") || name.ends_with("_time")
}

/// The bits that `D[7:0]` says that it has, and `D`.
fn bits(name: &str) -> Option<(&str, (i64, i64))> {
    let (base, inner) = name.strip_suffix(']')?.rsplit_once('[')?;
    let (most, least) = inner.split_once(':')?;
    let bits = (most.trim().parse::<u16>().ok()?.into(), least.trim().parse::<u16>().ok()?.into());
    Some((base.trim(), bits))
}

/// What all columns are, as their names and their first values show.
pub(super) fn columns(dialect: &Dialect, stated: &Import) -> Vec<Column> {
    let mut columns: Vec<Column> = Vec::new();
    for number in 0..dialect.columns {
        let titled = dialect.names.get(number).map_or("", String::as_str);
        let (mut name, mut unit) = parted(titled);
        if let Some(own) = dialect.units.get(number) {
            unit = unit.or(unit_of(own.trim_matches(['(', ')', '[', ']'])));
        }
        let first = columns.is_empty();
        let had_time = columns.iter().any(|column| matches!(column.kind, Kind::Time(_) | Kind::Index));
        let cells: Vec<&str> =
            dialect.rows.iter().filter_map(|row| row.get(number)).map(String::as_str).collect();
        let mut kind = kind_of(&name, unit, &cells, dialect.decimal, stated);
        let counted = columns.iter().position(|column| column.kind == Kind::Index);
        if let (Some(counted), Kind::Time(_)) = (counted, kind) {
            // Times say more than the numbers of their rows.
            columns[counted].kind = Kind::Aside;
        } else if had_time && matches!(kind, Kind::Time(_) | Kind::Index) {
            kind = if unit.is_none() { values(&cells, stated) } else { Kind::Aside };
        } else if first && !matches!(kind, Kind::Time(_) | Kind::Index) {
            kind = first_column(kind, titled, &cells, dialect.decimal, stated);
        }
        let bits = bits(&name).map(|(base, bits)| (base.to_string(), bits));
        if let Some((base, range)) = &bits {
            name.clone_from(base);
            if let Kind::Levels(width) = &mut kind {
                *width = Some(range.0.abs_diff(range.1) as u32 + 1);
            }
        }
        name = name.chars().map(|c| if c.is_control() { '_' } else { c }).collect();
        if name.is_empty() {
            name = format!("column {}", number + 1);
        }
        columns.push(Column { name, bits: bits.map(|(_, bits)| bits), kind });
    }
    columns
}

fn kind_of(name: &str, unit: Option<Unit>, cells: &[&str], mark: DecimalMark, stated: &Import) -> Kind {
    let lower = name.trim().to_lowercase();
    if let Some(Unit::Volts(power)) = unit {
        return Kind::Volts(power);
    }
    if let Some(Unit::Time(power)) = unit {
        return Kind::Time(Some(power));
    }
    if is_time(name) {
        return Kind::Time(unit_in(cells, mark));
    }
    if INDEX.contains(&lower.as_str()) && counts(cells) {
        return Kind::Index;
    }
    if stamped(cells) {
        return Kind::Time(None);
    }
    if let Some(power) = unit_in(cells, mark) {
        return Kind::Time(Some(power));
    }
    values(cells, stated)
}

/// The kind of a column of values.
fn values(cells: &[&str], stated: &Import) -> Kind {
    let mut filled = cells.iter().filter(|cell| !cell.is_empty()).peekable();
    if filled.peek().is_none() || filled.clone().all(|cell| word(cell.as_bytes(), stated.numbers).is_some()) {
        return Kind::Levels(None);
    }
    let number = |cell: &&&str| {
        let read = [DecimalMark::Point, DecimalMark::Comma].map(|mark| Decimal::read(cell, mark));
        read.into_iter().flatten().any(|(_, rest)| rest.is_empty() || volt_unit(rest).is_some())
            || matches!(cell.to_lowercase().as_str(), "nan" | "inf" | "-inf")
    };
    match filled.all(|cell| number(&cell)) {
        true => Kind::Volts(0),
        false => Kind::Aside,
    }
}

/// What the first column is where neither its name nor its unit says that it has times.
fn first_column(kind: Kind, name: &str, cells: &[&str], mark: DecimalMark, stated: &Import) -> Kind {
    let numbers: Option<Vec<Decimal>> =
        cells.iter().map(|cell| Decimal::read(cell, mark).map(|(number, _)| number)).collect();
    let numbers = numbers.filter(|numbers| numbers.len() == cells.len() && numbers.len() > 1);
    match stated.times {
        Some(Times::Samples) if numbers.is_some() => return Kind::Index,
        Some(Times::In(_)) if numbers.is_some() => return Kind::Time(None),
        _ => {}
    }
    let Some(numbers) = numbers.filter(|numbers| numbers.len() > 2) else { return kind };
    let units: Vec<i128> = numbers.iter().filter_map(|n| Some(n.in_units(super::pace::DIGITS)?.0)).collect();
    let rises = units.len() == numbers.len() && units.windows(2).all(|pair| pair[0] < pair[1]);
    let fractions = numbers.iter().any(|number| number.exponent < 0);
    match (rises, fractions) {
        (true, true) => Kind::Time(None),
        // Whole numbers below a name of their own may be a counter's.
        (true, false) if name.is_empty() && counts(cells) => Kind::Index,
        (true, false) if name.is_empty() => Kind::Time(None),
        _ => kind,
    }
}

/// Whether cells count up by one.
fn counts(cells: &[&str]) -> bool {
    let numbers: Option<Vec<u64>> = cells.iter().map(|cell| cell.parse().ok()).collect();
    numbers.is_some_and(|numbers| numbers.windows(2).all(|pair| pair[0].checked_add(1) == Some(pair[1])))
}

fn stamped(cells: &[&str]) -> bool {
    !cells.is_empty() && cells.iter().all(|cell| stamp(cell).is_some())
}

/// The unit that each cell has behind its number: that of the first one, since all are read by their own.
fn unit_in(cells: &[&str], mark: DecimalMark) -> Option<i32> {
    let unit = |cell: &&str| Decimal::read(cell, mark).and_then(|(_, rest)| time_unit(rest));
    let first = cells.first().and_then(unit)?;
    cells.iter().all(|cell| unit(cell).is_some()).then_some(first)
}
