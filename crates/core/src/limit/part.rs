//! A part's timing table.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::quantity::{Quantity, Required, Unit};
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::time::{Frequency, Percent, Voltage};

/// A part with its timing limits, as printed in its datasheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// The part number.
    pub name: String,
    /// Where the figures come from: document, revision, table.
    pub source: String,
    /// The operating conditions under which they hold.
    pub conditions: Option<String>,
    /// Whether the part was made up, for demonstration.
    pub made_up: bool,
    /// Its pins, in the order of the file.
    pub pins: Vec<Pin>,
    /// Its limits, in the order of the file.
    pub limits: Vec<Limit>,
}

/// A pin of a part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pin {
    /// Its name in the datasheet.
    pub name: String,
    /// What it is, in one line.
    pub what: String,
}

/// What one occurrence of a limit is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Kind {
    /// From the last change of the data to the reference event.
    Setup,
    /// From the reference event to the first change of the data.
    Hold,
    /// The length of one stretch in which a condition holds.
    Width,
    /// From one occurrence of an event to the next.
    Period,
    /// From an event to the first following partner event.
    Delay,
    /// From the release of an asynchronous control to the reference event after it.
    Recovery,
    /// From the reference event to the release of an asynchronous control after it.
    Removal,
    /// The share of each period for which a condition holds.
    Duty,
    /// The distance from an event to the nearest partner event, before or after it.
    Skew,
    /// Nothing may change while a condition holds.
    Stable,
    /// From a lower level of an analog line up to a higher one.
    RiseTime,
    /// From a higher level of an analog line down to a lower one.
    FallTime,
    /// The voltage of an analog line.
    Level,
    /// How far the bit rate of a serial bus is from its nominal value.
    Rate,
}

impl Kind {
    /// All kinds with their names; where IEEE 1364 has such a timing check, it is that one's.
    pub const ALL: [(Kind, &'static str); 14] = [
        (Kind::Setup, "setup"),
        (Kind::Hold, "hold"),
        (Kind::Recovery, "recovery"),
        (Kind::Removal, "removal"),
        (Kind::Width, "width"),
        (Kind::Period, "period"),
        (Kind::Duty, "duty"),
        (Kind::Delay, "delay"),
        (Kind::Skew, "skew"),
        (Kind::Stable, "stable"),
        (Kind::RiseTime, "rise-time"),
        (Kind::FallTime, "fall-time"),
        (Kind::Level, "level"),
        (Kind::Rate, "rate"),
    ];

    /// What its limits are written in.
    pub fn unit(self) -> Unit {
        match self {
            Kind::Duty | Kind::Rate => Unit::Percent,
            Kind::Level => Unit::Voltage,
            _ => Unit::Time,
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::ALL.iter().find(|(kind, _)| kind == self).map_or("", |(_, name)| name))
    }
}

impl FromStr for Kind {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.iter().find(|(_, name)| *name == text).map(|(kind, _)| *kind).ok_or_else(|| {
            Error::new(ErrorKind::Limits, format!("'{text}' is not a kind of limit")).with_help(suggest(
                text,
                Self::ALL.iter().map(|(_, name)| *name),
                "kind",
            ))
        })
    }
}

impl Serialize for Kind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// The events of a limit, as texts in the event language that name pins.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Events {
    /// `setup` and `hold`: the data event and the reference event.
    Data {
        /// When the data changes.
        data: String,
        /// When it must stand.
        reference: String,
    },
    /// `recovery` and `removal`: the release of a control, and the reference event.
    Control {
        /// When the control is released.
        control: String,
        /// The event that the release must keep away from.
        reference: String,
    },
    /// `width` and `duty`: the condition that lasts.
    Pulse(String),
    /// `period`: the event that repeats.
    Repeat(String),
    /// `delay` and `skew`: an event and its partner.
    Pair {
        /// The event that is looked at.
        from: String,
        /// Its partner.
        to: String,
    },
    /// `stable`: what must not change while the limit's condition holds.
    Steady(String),
    /// `rise-time` and `fall-time`: the analog line, and the levels between which it is measured.
    Ramp {
        /// The pin.
        line: String,
        /// The lower level.
        low: Mark,
        /// The upper level.
        high: Mark,
    },
    /// `level`: the analog line, and which of its voltages.
    Voltage {
        /// The pin.
        line: String,
        /// Which of its voltages.
        which: Which,
    },
    /// `rate`: the serial bus, and its bit rate if that is not the one that the setup states.
    Bits {
        /// The pin.
        bus: String,
        /// The nominal bit rate.
        nominal: Option<Frequency>,
    },
}

impl Events {
    /// Its texts in the event language, and names of pins.
    pub fn texts(&self) -> Vec<&str> {
        match self {
            Events::Data { data: a, reference: b }
            | Events::Control { control: a, reference: b }
            | Events::Pair { from: a, to: b } => vec![a, b],
            Events::Pulse(text) | Events::Repeat(text) | Events::Steady(text) => vec![text],
            Events::Ramp { line, .. } | Events::Voltage { line, .. } => vec![line],
            Events::Bits { bus, .. } => vec![bus],
        }
    }
}

/// A level of an analog line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mark {
    /// A voltage.
    Voltage(Voltage),
    /// A share of the way from the line's own low level to its high one (IEEE 181-2011, 5.3).
    Percent(Percent),
}

impl FromStr for Mark {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        match text.parse::<Quantity>() {
            Ok(Quantity::Voltage(voltage)) => Ok(Mark::Voltage(voltage)),
            Ok(Quantity::Percent(percent)) => Ok(Mark::Percent(percent)),
            Ok(Quantity::Time(_)) | Err(_) => {
                Err(Error::new(ErrorKind::Quantity, format!("'{text}' is no level of an analog line"))
                    .with_help(
                        "write a voltage, such as '0.9 V', or a share of the line's swing, such as '30 %'",
                    ))
            }
        }
    }
}

/// Which voltage of an analog line a limit is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Which {
    /// Every sample where the limit's condition holds, or in the whole record.
    All,
    /// The settled level of each stretch in which the line is low.
    Low,
    /// The settled level of each stretch in which it is high.
    High,
}

/// One row of a timing table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limit {
    /// The datasheet's symbol, such as `tDH`.
    pub symbol: String,
    /// The datasheet's words.
    pub what: String,
    /// What one occurrence is.
    pub kind: Kind,
    /// Its events.
    pub events: Events,
    /// The required range.
    pub required: Required,
    /// The typical value, for information.
    pub typical: Option<Quantity>,
    /// Counts only where this condition holds: at the reference or starting event, or where a
    /// pulse begins. For `stable`, while it holds nothing may change.
    pub condition: Option<String>,
    /// The group of limits that it belongs to, such as `read cycle`.
    pub group: Option<String>,
}
