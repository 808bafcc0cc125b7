//! What lines do, and the voltages on them.

use deep_tap::line::Level;
use deep_tap::measure::{LineActivity, VoltageLevels};
use deep_tap::quantity::Voltage;
use deep_tap::setup::{SweptLevel, SweptLine};
use serde::{Serialize, Serializer};

#[derive(Serialize)]
struct SaidActivity {
    level: Level,
    edges: u64,
    recent: u64,
    last_change: Option<u64>,
    high: u64,
    rises: u64,
    single: Option<u64>,
}

/// What a line did.
pub(crate) fn activity<S: Serializer>(of: &LineActivity, serializer: S) -> Result<S::Ok, S::Error> {
    let LineActivity { level, edges, recent, last_change, high, rises, single } = *of;
    SaidActivity { level, edges, recent, last_change, high, rises, single }.serialize(serializer)
}

/// The levels of an analog line, in volts.
#[derive(Serialize)]
struct SaidLevels {
    low: Voltage,
    high: Voltage,
    least: Voltage,
    most: Voltage,
    mean: f64,
    samples: u64,
    error: Voltage,
}

/// The levels of an analog line, where it has samples.
pub(crate) fn levels<S: Serializer>(of: &Option<VoltageLevels>, serializer: S) -> Result<S::Ok, S::Error> {
    let said = of.map(|VoltageLevels { low, high, least, most, mean, samples, error }| SaidLevels {
        low,
        high,
        least,
        most,
        mean,
        samples,
        error,
    });
    said.serialize(serializer)
}

/// What a sweep of the threshold shows of a line, in volts.
#[derive(Serialize)]
struct SaidSwept<'a> {
    name: &'a str,
    edges: &'a [(Voltage, u64)],
    low: SaidBetween,
    high: SaidBetween,
    changes: bool,
}

/// Between which thresholds a level lies.
#[derive(Serialize)]
struct SaidBetween {
    above: Option<Voltage>,
    below: Option<Voltage>,
}

impl From<SweptLevel> for SaidBetween {
    fn from(SweptLevel { above, below }: SweptLevel) -> Self {
        SaidBetween { above, below }
    }
}

/// What a sweep shows of a line.
pub(crate) fn swept<S: Serializer>(of: &SweptLine, serializer: S) -> Result<S::Ok, S::Error> {
    let (low, high) = (of.low.into(), of.high.into());
    let said = SaidSwept { name: &of.name, edges: &of.edges, low, high, changes: of.changes };
    said.serialize(serializer)
}
