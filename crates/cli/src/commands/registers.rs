//! `registers`: what is read and written behind a bus, by name and with values in their unit.

use deep_tap::capture::Capture;
use deep_tap::decode::{Access, Register, Registers, SerialBus};
use deep_tap::quantity::Rational;
use deep_tap::setup::Setup;
use deep_tap::{Error, ErrorKind, suggest};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::commands::diagnose;
use crate::contract::Document;
use crate::contract::frames::{ACCESS_COLUMNS, AccessRow};
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Grid, Out, write_table};

/// The accesses of a file.
#[derive(Serialize)]
struct Said<'a> {
    file: String,
    accesses: Vec<AccessRow<'a>>,
}

/// An access, and what text has besides.
struct Found<'a> {
    row: AccessRow<'a>,
    access: Access,
}

pub(crate) fn run(args: &args::Registers, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let setup = loaded.setup()?;
    for name in &args.name {
        if setup.registers.iter().all(|register| register.name != *name) {
            let known = setup.registers.iter().map(|register| register.name.as_str());
            let error = Error::new(ErrorKind::Unknown, format!("the setup names no register '{name}'"));
            return Err(error.with_help(suggest(name, known, "register")).into());
        }
    }
    let buses = loaded.buses(&args.bus)?;
    let mut found = Vec::new();
    let mut any = false;
    for bus in &buses {
        any |= follow(capture, setup, bus, &mut found)?;
    }
    if !any {
        let error = Error::new(ErrorKind::Unknown, "none of these buses has registers");
        return Err(error.with_help("buses of the kinds i2c and spi have").into());
    }
    let named = |name: Option<&str>| name.is_some_and(|name| args.name.iter().any(|asked| asked == name));
    found.retain(|found| args.name.is_empty() || named(found.row.name));
    found.sort_by_key(|found| found.access.start);
    let text = text(capture, &found);
    let accesses = found.into_iter().map(|found| found.row).collect();
    let said = Said { file: args.source.file.display().to_string(), accesses };
    let document = Document::new("registers", &said);
    write_table(&args.table, out, &document, ACCESS_COLUMNS, |rows| rows.each(&said.accesses), || text)?;
    diagnose::tell(capture, &buses, &args.source.file);
    tell_damage(capture);
    Ok(if said.accesses.is_empty() { Outcome::Violated } else { Outcome::Done })
}

/// The accesses of one bus; whether it is of a kind that has registers.
fn follow<'a>(
    capture: &Capture,
    setup: &'a Setup,
    bus: &'a SerialBus,
    found: &mut Vec<Found<'a>>,
) -> Result<bool, Failure> {
    let known = &setup.registers;
    let Some(mut registers) = Registers::new(bus.name(), bus.protocol(), known) else { return Ok(false) };
    for frame in bus.frames(capture, capture.range())? {
        found.extend(registers.frame(&frame).into_iter().map(|access| named(capture, known, bus, access)));
    }
    found.extend(registers.finish().into_iter().map(|access| named(capture, known, bus, access)));
    Ok(true)
}

fn named<'a>(capture: &Capture, known: &'a [Register], bus: &'a SerialBus, access: Access) -> Found<'a> {
    let register = access.register.and_then(|place| known.get(place));
    let value = register.filter(|_| !access.cut).and_then(|register| register.value(access.raw));
    let mut row = AccessRow::new(bus.name(), &access, capture.base());
    if let Some(register) = register {
        row.name = Some(&register.name);
        row.unit = &register.unit;
        row.value = value.map(Rational::to_f64);
    }
    Found { row, access }
}

fn hex(value: Option<u64>, bits: u32) -> String {
    value.map_or("?".to_string(), |value| format!("0x{value:0digits$X}", digits = bits.div_ceil(4) as usize))
}

fn text(capture: &Capture, found: &[Found<'_>]) -> String {
    let mut grid = Grid::new(&["at", "bus", "part", "", "number", "name", "raw", "value"], &[0, 7]);
    for Found { row, access } in found {
        let AccessRow { bus, name, value, unit, .. } = *row;
        let value = match (value, access.cut) {
            (_, true) => "cut short".to_string(),
            (Some(value), _) => format!("{value} {unit}").trim_end().to_string(),
            (None, _) if access.register.is_some() => "no decimal digits".to_string(),
            (None, _) => String::new(),
        };
        grid.row(vec![
            capture.base().text_of(access.start),
            bus.to_string(),
            access.part.map_or("-".to_string(), |part| hex(Some(part), 7)),
            if access.write { "write" } else { "read" }.to_string(),
            hex(access.number, 8),
            name.unwrap_or_default().to_string(),
            hex(Some(access.raw), access.bits),
            value,
        ]);
    }
    let accesses = if found.len() == 1 { "access" } else { "accesses" };
    format!("{}\n\n{} {accesses}\n", grid.text(), found.len())
}
