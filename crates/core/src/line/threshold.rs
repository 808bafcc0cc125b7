//! Thresholds and the logic families that imply them.

use std::fmt;
use std::str::FromStr;

use crate::error::{Error, ErrorKind, Result, suggest};
use crate::time::{Rational, Voltage};

/// A logic family with standard input levels.
///
/// Figures: JEDEC JESD8C.01 (3.3 V LVCMOS and LVTTL, table 2), JESD8-5A (2.5 V), JESD8-7A (1.8 V),
/// and for 5 V TTL and CMOS the levels common to JESD7-A and JESD18-A.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum LogicFamily {
    /// 5 V CMOS: 1.5 V / 3.5 V (0.3 and 0.7 of the supply).
    Cmos5V,
    /// 5 V TTL: 0.8 V / 2.0 V.
    Ttl5V,
    /// 3.3 V LVCMOS and LVTTL: 0.8 V / 2.0 V.
    Lvcmos3V3,
    /// 2.5 V LVCMOS: 0.7 V / 1.7 V.
    Lvcmos2V5,
    /// 1.8 V LVCMOS: 0.63 V / 1.17 V (0.35 and 0.65 of the supply).
    Lvcmos1V8,
}

impl LogicFamily {
    const ALL: [(LogicFamily, &'static str, i64, i64, i64); 5] = [
        (LogicFamily::Cmos5V, "CMOS 5 V", 1500, 3500, 5000),
        (LogicFamily::Ttl5V, "TTL 5 V", 800, 2000, 5000),
        (LogicFamily::Lvcmos3V3, "LVCMOS 3.3 V", 800, 2000, 3300),
        (LogicFamily::Lvcmos2V5, "LVCMOS 2.5 V", 700, 1700, 2500),
        (LogicFamily::Lvcmos1V8, "LVCMOS 1.8 V", 630, 1170, 1800),
    ];

    /// All families, from the highest supply down.
    pub fn all() -> impl Iterator<Item = LogicFamily> {
        Self::ALL.iter().map(|row| row.0)
    }

    fn row(self) -> &'static (LogicFamily, &'static str, i64, i64, i64) {
        Self::ALL.iter().find(|row| row.0 == self).unwrap_or(&Self::ALL[0])
    }

    /// Highest voltage that is certainly low (VIL max).
    pub fn vil(self) -> Voltage {
        millivolts(self.row().2)
    }

    /// Lowest voltage that is certainly high (VIH min).
    pub fn vih(self) -> Voltage {
        millivolts(self.row().3)
    }

    /// Nominal supply, and so the swing of an unloaded output.
    pub fn supply(self) -> Voltage {
        millivolts(self.row().4)
    }

    /// The middle between VIL and VIH.
    pub fn threshold(self) -> Voltage {
        let row = self.row();
        let sum = Rational::new(i128::from(row.2 + row.3), 2000).unwrap_or(Rational::ZERO);
        Voltage::from_rational(sum)
    }
}

fn millivolts(mv: i64) -> Voltage {
    Voltage::from_rational(Rational::new(i128::from(mv), 1000).unwrap_or(Rational::ZERO))
}

impl fmt::Display for LogicFamily {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.row().1)
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
        if let Some(row) = LogicFamily::ALL.iter().find(|row| squeeze(row.1) == squeeze(text)) {
            return Ok(Threshold::Family(row.0));
        }
        let families = LogicFamily::ALL.iter().map(|row| row.1);
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
