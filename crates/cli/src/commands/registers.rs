//! `registers`: what is read and written behind a bus, by name and with values in their unit.

use deep_tap::capture::Capture;
use deep_tap::decode::{Access, Register, Registers, SerialBus};
use deep_tap::quantity::{Rational, Time};
use deep_tap::setup::Setup;
use deep_tap::{Error, ErrorKind, suggest};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::commands::diagnose;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Grid, Out, write_table};
use crate::said;

/// One access, as JSON has it.
#[derive(Serialize)]
struct Said {
    bus: String,
    /// Seconds.
    at: Time,
    name: Option<String>,
    /// In the register's unit.
    value: Option<f64>,
    unit: String,
    #[serde(flatten, serialize_with = "said::frames::access")]
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
    let mut said = Vec::new();
    let mut any = false;
    for bus in &buses {
        any |= follow(capture, setup, bus, &mut said)?;
    }
    if !any {
        let error = Error::new(ErrorKind::Unknown, "none of these buses has registers");
        return Err(error.with_help("buses of the kinds i2c and spi have").into());
    }
    said.retain(|access| args.name.is_empty() || access.name.as_ref().is_some_and(|n| args.name.contains(n)));
    said.sort_by_key(|said| said.access.start);
    write_table(&args.table, out, &said, || rows(&said), || text(capture, &said))?;
    diagnose::tell(capture, &buses);
    tell_damage(capture);
    Ok(if said.is_empty() { Outcome::Violated } else { Outcome::Done })
}

/// The accesses of one bus; whether it is of a kind that has registers.
fn follow(capture: &Capture, setup: &Setup, bus: &SerialBus, said: &mut Vec<Said>) -> Result<bool, Failure> {
    let known = &setup.registers;
    let Some(mut registers) = Registers::new(bus.name(), bus.protocol(), known) else { return Ok(false) };
    for frame in bus.frames(capture, capture.range())? {
        said.extend(registers.frame(&frame).into_iter().map(|access| named(capture, known, bus, access)));
    }
    said.extend(registers.finish().into_iter().map(|access| named(capture, known, bus, access)));
    Ok(true)
}

fn named(capture: &Capture, known: &[Register], bus: &SerialBus, access: Access) -> Said {
    let register = access.register.and_then(|place| known.get(place));
    let value = register.filter(|_| !access.cut).and_then(|register| register.value(access.raw));
    Said {
        bus: bus.name().to_string(),
        at: capture.base().time_of(access.start),
        name: register.map(|register| register.name.clone()),
        value: value.map(Rational::to_f64),
        unit: register.map_or(String::new(), |register| register.unit.clone()),
        access,
    }
}

fn hex(value: Option<u64>, bits: u32) -> String {
    value.map_or("?".to_string(), |value| format!("0x{value:0digits$X}", digits = bits.div_ceil(4) as usize))
}

fn rows(said: &[Said]) -> Vec<Vec<String>> {
    let head = ["at_s", "bus", "part", "access", "number", "name", "raw", "value", "unit"];
    let mut rows = vec![head.map(str::to_string).to_vec()];
    for Said { bus, at, name, value, unit, access } in said {
        rows.push(vec![
            format!("{:e}", at.to_f64()),
            bus.clone(),
            access.part.map_or(String::new(), |part| hex(Some(part), 7)),
            if access.write { "write" } else { "read" }.to_string(),
            access.number.map_or(String::new(), |number| hex(Some(number), 8)),
            name.clone().unwrap_or_default(),
            hex(Some(access.raw), access.bits),
            value.map_or(String::new(), |value| value.to_string()),
            unit.clone(),
        ]);
    }
    rows
}

fn text(capture: &Capture, said: &[Said]) -> String {
    let mut grid = Grid::new(&["at", "bus", "part", "", "number", "name", "raw", "value"], &[0, 7]);
    for Said { bus, name, value, unit, access, .. } in said {
        let value = match (value, access.cut) {
            (_, true) => "cut short".to_string(),
            (Some(value), _) => format!("{value} {unit}").trim_end().to_string(),
            (None, _) if access.register.is_some() => "no decimal digits".to_string(),
            (None, _) => String::new(),
        };
        grid.row(vec![
            capture.base().text_of(access.start),
            bus.clone(),
            access.part.map_or("-".to_string(), |part| hex(Some(part), 7)),
            if access.write { "write" } else { "read" }.to_string(),
            hex(access.number, 8),
            name.clone().unwrap_or_default(),
            hex(Some(access.raw), access.bits),
            value,
        ]);
    }
    let accesses = if said.len() == 1 { "access" } else { "accesses" };
    format!("{}\n\n{} {accesses}\n", grid.text(), said.len())
}
