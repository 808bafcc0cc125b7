//! Values as plain numbers, for programs to read.

use deep_tap::quantity::{Quantity, Time, Unit};

/// Seconds, volts or percent, for programs to read.
pub(crate) fn plain(value: Option<Quantity>) -> String {
    value.map_or(String::new(), |value| match value.unit() {
        Unit::Time => format!("{:e}", value.to_f64()),
        Unit::Percent | Unit::Voltage => value.to_f64().to_string(),
    })
}

/// Seconds, for programs to read.
pub(crate) fn seconds(time: Option<Time>) -> String {
    plain(time.map(Quantity::Time))
}
