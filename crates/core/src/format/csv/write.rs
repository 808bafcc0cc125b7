//! Writing a table.

use std::io::Write;

use crate::capture::{Capture, Merged};
use crate::format::voltages::Voltages;
use crate::line::{Level, LineId, Radix};
use crate::quantity::Rational;
use crate::time::Tick;

/// Which rows are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Layout {
    /// The first tick, then one row per tick at which a line, or the voltage of an analog line,
    /// changes.
    #[default]
    Changes,
    /// One row per tick.
    Samples,
}

/// Writes a capture: `time_s` relative to time zero with all its digits, then 0, 1 or x per line,
/// then the value of each bus as its setup shows it, then the volts of each analog line's last
/// sample.
///
/// # Errors
/// When the writer refuses.
pub fn write(capture: &Capture, layout: Layout, out: &mut dyn Write) -> std::io::Result<()> {
    let mut writer = ::csv::Writer::from_writer(out);
    let names = capture.lines().iter().map(|l| l.name.as_str());
    let buses = capture.buses().iter().map(|b| b.name.as_str());
    let names = std::iter::once("time_s").chain(names).chain(buses).map(str::to_string);
    let analog = capture.analog_lines().iter().map(|l| format!("{}_V", l.name));
    writer.write_record(names.chain(analog)).map_err(plain)?;
    let lines: Vec<LineId> = (0..capture.lines().len()).map(LineId).collect();
    let mut levels: Vec<Level> = lines.iter().map(|l| capture.recorded(*l).level_at(Tick(0))).collect();
    let mut merged = Merged::recorded(capture, &lines, capture.range());
    let mut voltages = Voltages::new(capture);
    let decimals = decimals(capture);
    let mut tick = Tick(0);
    while tick.0 < capture.len() {
        let mut row = row(capture, tick, decimals, &levels);
        row.extend(voltages.now().map(|volts| volts.map_or("x".to_string(), |v| v.to_f64().to_string())));
        writer.write_record(row).map_err(plain)?;
        let change = merged.peek().into_iter().chain(voltages.peek()).min();
        tick = match (layout, change) {
            (Layout::Samples, _) => Tick(tick.0 + 1),
            (Layout::Changes, Some(change)) => change,
            (Layout::Changes, None) => break,
        };
        if merged.peek() == Some(tick) {
            merged.step();
            levels.copy_from_slice(merged.levels());
        }
        if voltages.peek() == Some(tick) {
            voltages.step();
        }
    }
    writer.flush()
}

/// The writer's own error, so that its kind (such as a closed pipe) can be told.
fn plain(error: ::csv::Error) -> std::io::Error {
    match error.into_kind() {
        ::csv::ErrorKind::Io(error) => error,
        other => std::io::Error::other(format!("{other:?}")),
    }
}

fn row(capture: &Capture, tick: Tick, decimals: usize, levels: &[Level]) -> Vec<String> {
    let mut row = Vec::with_capacity(1 + levels.len() + capture.buses().len());
    row.push(seconds(capture, tick, decimals));
    row.extend(levels.iter().map(|level| match level {
        Level::Low => "0".to_string(),
        Level::High => "1".to_string(),
        Level::Floating => "z".to_string(),
        Level::Unknown => "x".to_string(),
    }));
    for bus in capture.buses() {
        let value = bus.value(|l| levels[l.0]);
        row.push(match bus.radix {
            Radix::Decimal | Radix::Signed => value.show(bus.radix),
            _ => value.show(Radix::Hex),
        });
    }
    row
}

/// Most decimals of a time.
const MOST_DECIMALS: usize = 18;

/// How many decimals make every tick exact, up to the most. All times of a table have as many, so that a reader
/// sees how well they are written.
fn decimals(capture: &Capture) -> usize {
    let tick = capture.base().tick().to_rational();
    let whole = |decimals: &usize| {
        let scaled = Rational::power_of_ten(*decimals as i32).and_then(|scale| tick.checked_mul(scale));
        scaled.is_some_and(|scaled| scaled.denominator() == 1)
    };
    (0..MOST_DECIMALS).find(whole).unwrap_or(MOST_DECIMALS)
}

/// The instant of a tick as a plain decimal number of seconds.
fn seconds(capture: &Capture, tick: Tick, decimals: usize) -> String {
    let time = capture.base().time_of(tick).to_rational();
    let scaled = Rational::power_of_ten(decimals as i32).and_then(|scale| time.checked_mul(scale));
    let Some(scaled) = scaled.map(Rational::round) else {
        return format!("{:e}", time.to_f64());
    };
    let sign = if scaled < 0 { "-" } else { "" };
    let digits = format!("{:0>width$}", scaled.unsigned_abs(), width = decimals + 1);
    match digits.split_at(digits.len() - decimals) {
        (whole, "") => format!("{sign}{whole}"),
        (whole, fraction) => format!("{sign}{whole}.{fraction}"),
    }
}
