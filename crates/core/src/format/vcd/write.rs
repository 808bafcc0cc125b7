//! Writing a value change dump.

use std::io::Write;

use vcd::{IdCode, TimescaleUnit, Value, VarType, Writer};

use super::note::{Note, SCOPE, reference};
use crate::capture::{Capture, Merged};
use crate::format::voltages::Voltages;
use crate::line::{Level, LineId};
use crate::quantity::{Rational, Voltage};
use crate::time::Tick;

/// Writes a capture. Each line is a wire; each bus is a vector beside its lines; each analog line
/// is a real number of volts.
///
/// Times count from the first tick; comments name time zero, and say what the format has no place for. A tick that no power of ten divides
/// is written in femtoseconds, rounded, and a comment says so.
///
/// # Errors
/// When the writer refuses.
pub fn write(capture: &Capture, out: &mut dyn Write) -> std::io::Result<()> {
    let mut writer = Writer::new(out);
    let scale = Scale::of(capture);
    let zero = capture.base().zero_at();
    if let Some(made) = capture.origin().made {
        writer.date(&made.to_string())?;
    }
    writer.version("deep-tap")?;
    writer.comment(&format!("source: {}", capture.origin().source.replace("$end", "")))?;
    writer.comment(&format!(
        "time zero is {} after the first instant",
        capture.base().length_of(zero)
    ))?;
    writer.comment(&Note::of(capture).text())?;
    if scale.rounded {
        writer.comment("times are rounded to 1 fs")?;
    }
    writer.timescale(scale.count, scale.unit)?;
    writer.add_module(SCOPE)?;
    let mut codes = Vec::new();
    for (number, line) in capture.lines().iter().enumerate() {
        let code = code(number);
        writer.var_def(VarType::Wire, 1, code, &reference(&line.name), None)?;
        codes.push(code);
    }
    let mut bus_codes = Vec::new();
    for (number, bus) in capture.buses().iter().enumerate() {
        let code = code(capture.lines().len() + number);
        writer.var_def(VarType::Wire, bus.lines.len() as u32, code, &reference(&bus.name), None)?;
        bus_codes.push(code);
    }
    let mut analog_codes = Vec::new();
    for (number, line) in capture.analog_lines().iter().enumerate() {
        let code = code(capture.lines().len() + capture.buses().len() + number);
        writer.var_def(VarType::Real, 64, code, &reference(&line.name), None)?;
        analog_codes.push(code);
    }
    writer.upscope()?;
    writer.enddefinitions()?;

    let lines: Vec<LineId> = (0..codes.len()).map(LineId).collect();
    let mut levels: Vec<Level> = lines.iter().map(|l| capture.recorded(*l).level_at(Tick(0))).collect();
    let vector = |levels: &[Level], bus: usize| -> Vec<Value> {
        capture.buses()[bus].lines.iter().map(|l| value(levels[l.0])).collect()
    };
    writer.timestamp(0)?;
    writer.begin(vcd::SimulationCommand::Dumpvars)?;
    for (code, level) in codes.iter().zip(&levels) {
        writer.change_scalar(*code, value(*level))?;
    }
    for (bus, code) in bus_codes.iter().enumerate() {
        writer.change_vector(*code, vector(&levels, bus))?;
    }
    let mut voltages = Voltages::new(capture);
    for (code, volts) in analog_codes.iter().zip(voltages.now()) {
        writer.change_real(*code, volts.map_or(f64::NAN, Voltage::to_f64))?;
    }
    writer.end()?;
    let mut merged = Merged::recorded(capture, &lines, capture.range());
    while let Some(tick) = merged.peek().into_iter().chain(voltages.peek()).min() {
        writer.timestamp(scale.time(tick))?;
        if voltages.peek() == Some(tick) {
            voltages.step();
            for (code, volts) in analog_codes.iter().zip(voltages.now()) {
                writer.change_real(*code, volts.map_or(f64::NAN, Voltage::to_f64))?;
            }
        }
        if merged.peek() != Some(tick) {
            continue;
        }
        merged.step();
        let mut touched = vec![false; bus_codes.len()];
        for (i, now) in merged.levels().iter().enumerate() {
            if levels[i] != *now {
                levels[i] = *now;
                writer.change_scalar(codes[i], value(*now))?;
                for (bus, touched) in touched.iter_mut().enumerate() {
                    *touched |= capture.buses()[bus].lines.contains(&LineId(i));
                }
            }
        }
        for (bus, _) in touched.iter().enumerate().filter(|(_, t)| **t) {
            writer.change_vector(bus_codes[bus], vector(&levels, bus))?;
        }
    }
    if capture.len() > 1 {
        writer.timestamp(scale.time(Tick(capture.len() - 1)))?;
    }
    writer.flush()
}

fn code(number: usize) -> IdCode {
    IdCode::from(number as u64)
}

fn value(level: Level) -> Value {
    match level {
        Level::Low => Value::V0,
        Level::High => Value::V1,
        Level::Floating => Value::Z,
        Level::Unknown => Value::X,
    }
}

struct Scale {
    count: u32,
    unit: TimescaleUnit,
    /// Units per tick.
    per_tick: Rational,
    rounded: bool,
}

impl Scale {
    /// The coarsest time scale of the standard that every tick is a multiple of.
    fn of(capture: &Capture) -> Scale {
        let tick = capture.base().tick().to_rational();
        let units = [
            TimescaleUnit::S,
            TimescaleUnit::MS,
            TimescaleUnit::US,
            TimescaleUnit::NS,
            TimescaleUnit::PS,
            TimescaleUnit::FS,
        ];
        let mut finest = None;
        for unit in units {
            for count in [100, 10, 1] {
                let scale = Rational::new(i128::from(count), i128::from(unit.divisor()));
                let Some(per_tick) = scale.and_then(|s| tick.checked_div(s)) else { continue };
                let rounded = per_tick.denominator() != 1;
                let scale = Scale { count, unit, per_tick, rounded };
                if !rounded {
                    return scale;
                }
                finest = Some(scale);
            }
        }
        finest.unwrap_or(Scale { count: 1, unit: TimescaleUnit::FS, per_tick: Rational::ONE, rounded: true })
    }

    fn time(&self, tick: Tick) -> u64 {
        let exact = Rational::new(i128::from(tick.0), 1).and_then(|t| t.checked_mul(self.per_tick));
        exact.and_then(|t| u64::try_from(t.round()).ok()).unwrap_or(u64::MAX)
    }
}
