//! The kinds of limits, and the events of each.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use crate::error::{Error, ErrorKind, Result, suggest};
use crate::quantity::{Frequency, Percent, Voltage};
use crate::quantity::{Quantity, Unit};

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
    /// No change of the data from a time before the reference event to a time after it, either of which
    /// may be negative.
    Window,
    /// From an event to the last change of the data before the next event.
    Settle,
}

impl Kind {
    /// All kinds with their names; where IEEE 1364 has such a timing check, it is that one's.
    pub const ALL: [(Kind, &'static str); 16] = [
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
        (Kind::Window, "window"),
        (Kind::Settle, "settle"),
    ];

    /// Whether its occurrences are pairs of events, which may be restricted to stretches and to those with
    /// nothing between.
    pub fn is_of_pairs(self) -> bool {
        match self {
            Kind::Setup | Kind::Hold | Kind::Recovery | Kind::Removal => true,
            Kind::Period | Kind::Delay | Kind::Skew | Kind::Settle => true,
            Kind::Width | Kind::Duty | Kind::Stable | Kind::Window => false,
            Kind::RiseTime | Kind::FallTime | Kind::Level | Kind::Rate => false,
        }
    }

    /// What its limits are written in.
    pub fn unit(self) -> Unit {
        match self {
            Kind::Duty | Kind::Rate => Unit::Percent,
            Kind::Level => Unit::Voltage,
            _ => Unit::Time,
        }
    }
}

impl Kind {
    /// Its name, such as `hold`.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(kind, _)| *kind == self).map_or("", |(_, name)| name)
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
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

/// What one occurrence of a limit is, with the events that make it: texts in the event language that name
/// pins. `data = "DQ"` is short for `DQ changes`, for `from` and `to`, too.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Events {
    /// From the last change of the data to the reference event.
    Setup {
        /// When the data changes.
        data: String,
        /// When it must stand.
        reference: String,
    },
    /// From the reference event to the first change of the data.
    Hold {
        /// When the data changes.
        data: String,
        /// Until after when it must stand.
        reference: String,
    },
    /// From the release of an asynchronous control to the reference event after it.
    Recovery {
        /// When the control is released.
        control: String,
        /// The event that the release must keep away from.
        reference: String,
    },
    /// From the reference event to the release of an asynchronous control after it.
    Removal {
        /// When the control is released.
        control: String,
        /// The event that the release must keep away from.
        reference: String,
    },
    /// The length of one stretch in which a condition holds.
    Width {
        /// The condition.
        pulse: String,
    },
    /// From one occurrence of an event to the next.
    Period {
        /// The event that repeats.
        event: String,
    },
    /// The share of each period for which a condition holds.
    Duty {
        /// The condition.
        pulse: String,
    },
    /// From an event to the first following partner event.
    Delay {
        /// The event that is looked at.
        from: String,
        /// Its partner.
        to: String,
    },
    /// The distance from an event to the nearest partner event, before or after it.
    Skew {
        /// The event that is looked at.
        from: String,
        /// Its partner.
        to: String,
    },
    /// Nothing may change while a condition holds.
    Stable {
        /// What must not change.
        data: String,
        /// The condition.
        condition: String,
    },
    /// From a lower level of an analog line up to a higher one.
    RiseTime {
        /// The pin.
        line: String,
        /// The lower level.
        low: Mark,
        /// The upper level.
        high: Mark,
    },
    /// From a higher level of an analog line down to a lower one.
    FallTime {
        /// The pin.
        line: String,
        /// The lower level.
        low: Mark,
        /// The upper level.
        high: Mark,
    },
    /// The voltage of an analog line.
    Level {
        /// The pin.
        line: String,
        /// Which of its voltages.
        which: Which,
    },
    /// How far the bit rate of a serial bus is from its nominal value.
    Rate {
        /// The pin.
        bus: String,
        /// The nominal bit rate, if it is not the one that the setup states.
        nominal: Option<Frequency>,
    },
    /// No change of the data near the reference event.
    Window {
        /// When the data changes.
        data: String,
        /// The event around which it must stand.
        reference: String,
    },
    /// From an event to the last change of the data before the next event.
    Settle {
        /// The event that is looked at.
        from: String,
        /// When the data changes.
        data: String,
    },
}

impl Events {
    /// Which kind of limit has these.
    pub fn kind(&self) -> Kind {
        match self {
            Events::Setup { .. } => Kind::Setup,
            Events::Hold { .. } => Kind::Hold,
            Events::Recovery { .. } => Kind::Recovery,
            Events::Removal { .. } => Kind::Removal,
            Events::Width { .. } => Kind::Width,
            Events::Period { .. } => Kind::Period,
            Events::Duty { .. } => Kind::Duty,
            Events::Delay { .. } => Kind::Delay,
            Events::Skew { .. } => Kind::Skew,
            Events::Stable { .. } => Kind::Stable,
            Events::RiseTime { .. } => Kind::RiseTime,
            Events::FallTime { .. } => Kind::FallTime,
            Events::Level { .. } => Kind::Level,
            Events::Rate { .. } => Kind::Rate,
            Events::Window { .. } => Kind::Window,
            Events::Settle { .. } => Kind::Settle,
        }
    }

    /// Its texts in the event language, and names of pins.
    pub fn texts(&self) -> Vec<&str> {
        match self {
            Events::Setup { data: a, reference: b }
            | Events::Hold { data: a, reference: b }
            | Events::Recovery { control: a, reference: b }
            | Events::Removal { control: a, reference: b }
            | Events::Delay { from: a, to: b }
            | Events::Skew { from: a, to: b }
            | Events::Window { data: a, reference: b }
            | Events::Settle { from: a, data: b }
            | Events::Stable { data: a, condition: b } => vec![a, b],
            Events::Width { pulse: text } | Events::Duty { pulse: text } | Events::Period { event: text } => {
                vec![text]
            }
            Events::RiseTime { line, .. } | Events::FallTime { line, .. } | Events::Level { line, .. } => {
                vec![line]
            }
            Events::Rate { bus, .. } => vec![bus],
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
