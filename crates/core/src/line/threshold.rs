//! Thresholds and the logic families that imply them.

use std::fmt;
use std::str::FromStr;

use crate::error::{Error, ErrorKind, Result, suggest};
use crate::quantity::{Rational, Voltage};

/// A logic family with standard input and output levels.
///
/// Figures: JEDEC JESD8C.01 (3.3 V LVCMOS and LVTTL, tables 2 and 3, outputs at 2 mA), JESD8-5A.01
/// (2.5 V, tables 1 and 2, outputs at 1 mA), JESD8-7A (1.8 V, normal range, outputs at 2 mA); for
/// 5 V CMOS JESD7-A (0.3 and 0.7 of the supply, outputs at 20 uA), for 5 V TTL the levels common to
/// the series that are called so. A part's own datasheet comes first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum LogicFamily {
    /// 5 V CMOS: inputs 1.5 V / 3.5 V, outputs 0.1 V / 4.9 V.
    Cmos5V,
    /// 5 V TTL: inputs 0.8 V / 2.0 V, outputs 0.4 V / 2.4 V.
    Ttl5V,
    /// 3.3 V LVCMOS and LVTTL: inputs 0.8 V / 2.0 V, outputs 0.4 V / 2.4 V.
    Lvcmos3V3,
    /// 2.5 V LVCMOS: inputs 0.7 V / 1.7 V, outputs 0.4 V / 2.0 V.
    Lvcmos2V5,
    /// 1.8 V LVCMOS: inputs 0.63 V / 1.17 V (0.35 and 0.65 of the supply), outputs 0.45 V / 1.35 V.
    Lvcmos1V8,
}

/// A family's figures in millivolts.
struct Row {
    family: LogicFamily,
    name: &'static str,
    vil: i64,
    vih: i64,
    vol: i64,
    voh: i64,
    supply: i64,
}

const fn row(
    family: LogicFamily,
    name: &'static str,
    inputs: (i64, i64),
    outputs: (i64, i64),
    supply: i64,
) -> Row {
    Row { family, name, vil: inputs.0, vih: inputs.1, vol: outputs.0, voh: outputs.1, supply }
}

const ROWS: [Row; 5] = [
    row(LogicFamily::Cmos5V, "CMOS 5 V", (1500, 3500), (100, 4900), 5000),
    row(LogicFamily::Ttl5V, "TTL 5 V", (800, 2000), (400, 2400), 5000),
    row(LogicFamily::Lvcmos3V3, "LVCMOS 3.3 V", (800, 2000), (400, 2400), 3300),
    row(LogicFamily::Lvcmos2V5, "LVCMOS 2.5 V", (700, 1700), (400, 2000), 2500),
    row(LogicFamily::Lvcmos1V8, "LVCMOS 1.8 V", (630, 1170), (450, 1350), 1800),
];

impl LogicFamily {
    /// All families, from the highest supply down.
    pub fn all() -> impl Iterator<Item = LogicFamily> {
        ROWS.iter().map(|row| row.family)
    }

    fn row(self) -> &'static Row {
        ROWS.iter().find(|row| row.family == self).unwrap_or(&ROWS[0])
    }

    /// Highest voltage that is certainly low (VIL max).
    pub fn vil(self) -> Voltage {
        millivolts(self.row().vil)
    }

    /// Lowest voltage that is certainly high (VIH min).
    pub fn vih(self) -> Voltage {
        millivolts(self.row().vih)
    }

    /// Highest voltage of a low output (VOL max).
    pub fn vol(self) -> Voltage {
        millivolts(self.row().vol)
    }

    /// Lowest voltage of a high output (VOH min).
    pub fn voh(self) -> Voltage {
        millivolts(self.row().voh)
    }

    /// Nominal supply, and so the swing of an unloaded output.
    pub fn supply(self) -> Voltage {
        millivolts(self.row().supply)
    }

    /// The middle between VIL and VIH.
    pub fn threshold(self) -> Voltage {
        let row = self.row();
        let sum = Rational::new(i128::from(row.vil + row.vih), 2000).unwrap_or(Rational::ZERO);
        Voltage::from_rational(sum)
    }
}

fn millivolts(mv: i64) -> Voltage {
    Voltage::from_rational(Rational::new(i128::from(mv), 1000).unwrap_or(Rational::ZERO))
}

impl fmt::Display for LogicFamily {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.row().name)
    }
}

/// The voltage that parts low from high, as stated: a family or volts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Threshold {
    /// The middle of a logic family's input levels.
    Family(LogicFamily),
    /// A voltage.
    Volts(Voltage),
}

impl Threshold {
    /// The voltage.
    pub fn voltage(self) -> Voltage {
        match self {
            Threshold::Family(family) => family.threshold(),
            Threshold::Volts(volts) => volts,
        }
    }
}

impl FromStr for Threshold {
    type Err = Error;

    /// Reads a family (`LVCMOS 3.3 V`) or a voltage (`1.65 V`).
    fn from_str(text: &str) -> Result<Self> {
        let squeeze = |s: &str| s.to_uppercase().replace(' ', "");
        if let Some(row) = ROWS.iter().find(|row| squeeze(row.name) == squeeze(text)) {
            return Ok(Threshold::Family(row.family));
        }
        let families = ROWS.iter().map(|row| row.name);
        if text.trim().starts_with(|c: char| c.is_alphabetic()) {
            let message = format!("'{text}' is neither a logic family nor a voltage");
            return Err(Error::new(ErrorKind::Quantity, message).with_help(suggest(
                text,
                families,
                "logic family",
            )));
        }
        text.parse().map(Threshold::Volts)
    }
}

impl fmt::Display for Threshold {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Threshold::Family(family) => write!(f, "{family}"),
            Threshold::Volts(volts) => write!(f, "{volts}"),
        }
    }
}
