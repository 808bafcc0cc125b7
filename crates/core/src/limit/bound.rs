//! Limits bound to the lines of a board.

use super::kind::{Events, Kind, Mark, Which};
use super::row::{BindError, Limit, LimitBuilder};
use crate::decode::{Protocol, SerialBus};
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::event::{ConditionProgram, Meaning, Program, Scope, TimedProgram};
use crate::known::Precision;
use crate::line::{AnalogId, Crossing, LineId, Signal};
use crate::quantity::{Frequency, Time};
use crate::time::TimeBase;

/// A limit bound to the lines of a board, ready to be checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BoundLimit {
    /// The part's reference on the board, such as `U3`.
    pub reference: String,
    /// The part number.
    pub part: String,
    /// The limit.
    pub limit: Limit,
    pub(super) programs: Programs,
    /// In one stretch of which its pairs must lie.
    pub(super) within: Option<ConditionProgram>,
    /// What must not happen between the two of a pair.
    pub(super) unless: Option<Program>,
}

/// The compiled events of a limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Programs<P = Program> {
    /// The last `data` before, or the first after, each `reference`.
    Data {
        data: P,
        reference: P,
    },
    /// The first, or the nearest, `to` of each `from`.
    Pair {
        from: P,
        to: P,
    },
    Pulse {
        pulse: ConditionProgram,
        condition: Option<ConditionProgram>,
    },
    Repeat {
        event: P,
        condition: Option<ConditionProgram>,
    },
    Steady {
        changes: P,
        holds: ConditionProgram,
    },
    Ramp {
        ramp: Ramp,
        condition: Option<ConditionProgram>,
    },
    Voltage {
        line: AnalogId,
        which: Which,
        condition: Option<ConditionProgram>,
    },
    Bits {
        bus: SerialBus,
        nominal: Frequency,
    },
}

impl Programs {
    /// The same at a clock.
    pub(super) fn at(&self, base: TimeBase) -> Result<Programs<TimedProgram>> {
        Ok(match self {
            Programs::Data { data, reference } => {
                Programs::Data { data: data.at(base)?, reference: reference.at(base)? }
            }
            Programs::Pair { from, to } => Programs::Pair { from: from.at(base)?, to: to.at(base)? },
            Programs::Repeat { event, condition } => {
                Programs::Repeat { event: event.at(base)?, condition: condition.clone() }
            }
            Programs::Steady { changes, holds } => {
                Programs::Steady { changes: changes.at(base)?, holds: holds.clone() }
            }
            Programs::Pulse { pulse, condition } => {
                Programs::Pulse { pulse: pulse.clone(), condition: condition.clone() }
            }
            Programs::Ramp { ramp, condition } => {
                Programs::Ramp { ramp: *ramp, condition: condition.clone() }
            }
            Programs::Voltage { line, which, condition } => {
                Programs::Voltage { line: *line, which: *which, condition: condition.clone() }
            }
            Programs::Bits { bus, nominal } => {
                bus.decoder(base)?;
                Programs::Bits { bus: bus.clone(), nominal: *nominal }
            }
        })
    }
}

/// A way between two levels of an analog line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Ramp {
    pub(super) line: AnalogId,
    pub(super) low: Mark,
    pub(super) high: Mark,
    pub(super) rises: bool,
}

impl BoundLimit {
    /// What people call it: the part's reference and its symbol, as in `U5.tWP`; the symbol alone where it is bound
    /// to no part.
    pub fn name(&self) -> String {
        match self.reference.as_str() {
            "" => self.limit.symbol.clone(),
            reference => format!("{reference}.{}", self.limit.symbol),
        }
    }

    /// Whether a name means it: its own, its symbol, its part's reference, or its group.
    pub fn is_meant_by(&self, name: &str) -> bool {
        let (part, symbol) = (&self.reference, &self.limit.symbol);
        name == part || name == symbol || self.limit.group.as_deref() == Some(name) || name == self.name()
    }

    /// Binds a limit whose events name pins to what `pins` says they are.
    ///
    /// # Errors
    /// The errors of the event language, with the key of the limit that is wrong.
    pub fn bind(reference: &str, part: &str, limit: &Limit, pins: &Scope) -> Result<Self, BindError> {
        let binder = Binder { pins, condition: binder_condition(limit, pins)? };
        let unless = limit.unless.as_deref().map(|text| binder.change("unless", text)).transpose()?;
        let within = limit.within.as_deref().map(|text| condition("within", text, pins)).transpose()?;
        let programs = binder.programs(&limit.events)?;
        let (reference, part) = (reference.to_string(), part.to_string());
        Ok(BoundLimit { reference, part, limit: limit.clone(), programs, within, unless })
    }

    /// The crossings of analog lines that it looks at, each once.
    pub fn crossings(&self) -> Vec<Crossing> {
        self.signals().into_iter().filter_map(Signal::crossing).collect()
    }

    /// Whether it looks at voltages of analog lines.
    pub fn is_analog(&self) -> bool {
        let voltages = matches!(self.programs, Programs::Ramp { .. } | Programs::Voltage { .. });
        voltages || !self.crossings().is_empty()
    }

    /// Its events, but for what lasts.
    fn events(&self) -> Vec<&Program> {
        let mut events = match &self.programs {
            Programs::Data { data: a, reference: b } | Programs::Pair { from: a, to: b } => vec![a, b],
            Programs::Repeat { event, .. } | Programs::Steady { changes: event, .. } => vec![event],
            Programs::Pulse { .. }
            | Programs::Ramp { .. }
            | Programs::Voltage { .. }
            | Programs::Bits { .. } => Vec::new(),
        };
        events.extend(&self.unless);
        events
    }

    /// Its conditions.
    fn conditions(&self) -> Vec<&ConditionProgram> {
        let mut conditions: Vec<_> = match &self.programs {
            Programs::Pulse { pulse, condition } => [pulse].into_iter().chain(condition).collect(),
            Programs::Steady { holds, .. } => vec![holds],
            Programs::Ramp { condition, .. } | Programs::Voltage { condition, .. } => {
                condition.iter().collect()
            }
            Programs::Repeat { condition, .. } => condition.iter().collect(),
            Programs::Data { .. } | Programs::Pair { .. } | Programs::Bits { .. } => Vec::new(),
        };
        conditions.extend(&self.within);
        conditions
    }

    /// Whether a record with this clock can show its events.
    ///
    /// # Errors
    /// [`ErrorKind::TooSlow`] when a duration in them is below a tick; else as
    /// [`Protocol::decoder`](crate::decode::Protocol::decoder), when a bus cannot be decoded.
    pub fn check_at(&self, base: TimeBase) -> Result<()> {
        self.conditions().into_iter().try_for_each(|condition| condition.check_at(base))?;
        self.programs.at(base)?;
        self.unless.as_ref().map_or(Ok(()), |unless| unless.at(base).map(drop))
    }

    /// The longest tick at which all durations in its events can be told from nothing.
    pub(super) fn shortest_duration(&self) -> Option<Time> {
        self.events().into_iter().filter_map(Program::shortest_duration).min()
    }

    /// Whether what a record with this precision does not show of its events may still have happened: of
    /// those with states, and of frames and sequences on lines that may hide pulses.
    pub(super) fn is_open(&self, precision: &Precision<'_>) -> bool {
        !precision.is_exact() && self.is_open_where(|signals| precision.may_hide(signals))
    }

    /// The same of a record that is not exact, where `hide` says of signals whether any of them may hide pulses.
    pub(super) fn is_open_where(&self, hide: impl Fn(&[Signal]) -> bool) -> bool {
        let past = |event: &Program| event.is_of_frames() || event.is_composite();
        let hides = |event: &Program| past(event) && hide(&event.signals());
        self.events().into_iter().any(|event| event.has_states() || hides(event))
    }

    /// All lines and crossings that it looks at, each once.
    pub fn signals(&self) -> Vec<Signal> {
        let mut signals: Vec<Signal> = self.events().into_iter().flat_map(Program::signals).collect();
        signals.extend(self.conditions().into_iter().flat_map(ConditionProgram::signals));
        if let Programs::Bits { bus, .. } = &self.programs {
            signals.extend(bus.lines().iter().map(Signal::from));
        }
        signals.sort_unstable();
        signals.dedup();
        signals
    }
}

impl LimitBuilder {
    /// The finished limit, its pins being the lines and buses of these names.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::event::Scope;
    /// use deep_tap_core::known::Rule;
    /// use deep_tap_core::limit::{Limit, Verdict, check};
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// let strobe = Trace::toggling(Level::High, [40, 44], 100)?;
    /// let capture = Capture::builder(base, 100).line("WE_N", strobe).build()?;
    /// let width = Limit::width("tWP", "WE_N low").min("30 ns").bind(&Scope::of(&capture))?;
    /// assert_eq!(check(&capture, &width, Rule::Proven)?.verdict, Verdict::Pass);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// As [`build`](LimitBuilder::build) and [`BoundLimit::bind`].
    pub fn bind(self, names: &Scope) -> Result<BoundLimit> {
        Ok(BoundLimit::bind("", "", &self.build()?, names)?)
    }
}

/// The condition of a limit, compiled.
fn binder_condition(limit: &Limit, pins: &Scope) -> Result<Option<ConditionProgram>, BindError> {
    limit.condition.as_deref().map(|text| condition("while", text, pins)).transpose()
}

fn condition(key: &'static str, text: &str, pins: &Scope) -> Result<ConditionProgram, BindError> {
    ConditionProgram::compile(text, pins).map_err(|error| BindError { key, error })
}

/// Compiles the events of one limit.
struct Binder<'a> {
    pins: &'a Scope,
    condition: Option<ConditionProgram>,
}

impl Binder<'_> {
    fn programs(self, events: &Events) -> Result<Programs, BindError> {
        let at = |key: &'static str| move |error| BindError { key, error };
        Ok(match events {
            Events::Setup { data, reference }
            | Events::Hold { data, reference }
            | Events::Window { data, reference } => Programs::Data {
                data: self.change("data", data)?,
                reference: self.guarded(self.event("reference", reference)?)?,
            },
            // For each release: the reference event after it, or the last one before it.
            Events::Recovery { control, reference } => Programs::Pair {
                from: self.guarded(self.event("control", control)?)?,
                to: self.event("reference", reference)?,
            },
            Events::Removal { control, reference } => {
                let control = self.guarded(self.event("control", control)?)?;
                Programs::Data { data: self.event("reference", reference)?, reference: control }
            }
            Events::Width { pulse } | Events::Duty { pulse } => {
                Programs::Pulse { pulse: condition("pulse", pulse, self.pins)?, condition: self.condition }
            }
            Events::Period { event } => {
                let event = self.guarded(self.event("event", event)?)?;
                Programs::Repeat { event, condition: self.condition }
            }
            Events::Delay { from, to } | Events::Skew { from, to } => {
                Programs::Pair { from: self.guarded(self.change("from", from)?)?, to: self.change("to", to)? }
            }
            Events::Settle { from, data } => Programs::Pair {
                from: self.guarded(self.change("from", from)?)?,
                to: self.change("data", data)?,
            },
            Events::Stable { data, condition: holds } => {
                let holds = condition("while", holds, self.pins)?;
                let changes = self.guarded_by(self.change("data", data)?, &holds)?;
                Programs::Steady { changes, holds }
            }
            Events::RiseTime { line, low, high } | Events::FallTime { line, low, high } => {
                let rises = events.kind() == Kind::RiseTime;
                let line = analog(self.pins, line).map_err(at("line"))?;
                let ramp = Ramp { line, low: *low, high: *high, rises };
                Programs::Ramp { ramp, condition: self.condition }
            }
            Events::Level { line, which } => Programs::Voltage {
                line: analog(self.pins, line).map_err(at("line"))?,
                which: *which,
                condition: self.condition,
            },
            Events::Rate { bus, nominal } => {
                let (bus, nominal) = bits(self.pins, bus, *nominal).map_err(at("bus"))?;
                Programs::Bits { bus, nominal }
            }
        })
    }

    fn event(&self, key: &'static str, text: &str) -> Result<Program, BindError> {
        let wrong = |error| BindError { key, error };
        let program = Program::compile(text, self.pins).map_err(wrong)?;
        possible(program.contradiction(), self.pins, text).map_err(wrong)?;
        Ok(program)
    }

    /// An event, or the change of what is named: `data = "DQ"` is short for `data = "DQ changes"`.
    fn change(&self, key: &'static str, text: &str) -> Result<Program, BindError> {
        match self.pins.get(text) {
            Some(Meaning::Line(_) | Meaning::Bus(_)) => self.event(key, &format!("\"{text}\" changes")),
            _ => self.event(key, text),
        }
    }

    /// The same where the limit's condition holds, too.
    fn guarded(&self, program: Program) -> Result<Program, BindError> {
        match &self.condition {
            Some(condition) => self.guarded_by(program, condition),
            None => Ok(program),
        }
    }

    fn guarded_by(&self, program: Program, condition: &ConditionProgram) -> Result<Program, BindError> {
        let program = program.guarded(condition);
        let possible = possible(program.contradiction(), self.pins, condition.text());
        possible.map_err(|error| BindError { key: "while", error })?;
        Ok(program)
    }
}

/// An error for an event that can never happen, since it asks a line to be high and low at once.
fn possible(contradiction: Option<LineId>, pins: &Scope, text: &str) -> Result<()> {
    let Some(line) = contradiction else { return Ok(()) };
    let names: Vec<&str> = pins.names().filter(|name| pins.get(name) == Some(&Meaning::Line(line))).collect();
    let message = format!("'{text}' can never happen on this board");
    let help = match names.as_slice() {
        [] | [_] => format!("it asks {} to be high and low at once", names.first().unwrap_or(&"a line")),
        several => {
            format!("{} are bound to one line, which would be high and low at once", several.join(" and "))
        }
    };
    Err(Error::new(ErrorKind::Limits, message).with_help(help))
}

/// The analog line that a pin is.
fn analog(pins: &Scope, pin: &str) -> Result<AnalogId> {
    match pins.get(pin) {
        Some(Meaning::Analog(line)) => Ok(*line),
        Some(_) => {
            Err(Error::new(ErrorKind::Limits, format!("'{pin}' is no analog line, so it has no voltages"))
                .with_help("bind the pin to an analog line of the setup ([[analog]])"))
        }
        None => Err(unknown(pins, pin)),
    }
}

/// The serial bus that a pin is, and its nominal bit rate.
fn bits(pins: &Scope, pin: &str, nominal: Option<Frequency>) -> Result<(SerialBus, Frequency)> {
    let bus = match pins.get(pin) {
        Some(Meaning::Frames(bus)) => Some(bus),
        Some(_) => None,
        None => return Err(unknown(pins, pin)),
    };
    let Some(bus) = bus else {
        return Err(Error::new(
            ErrorKind::Limits,
            format!("'{pin}' is no serial bus, so it has no bit rate"),
        )
        .with_help("bind the pin to a bus with a kind, such as kind = \"uart\""));
    };
    let stated = match bus.protocol() {
        Protocol::Uart(_) | Protocol::Can(_) | Protocol::Lin(_) => bus.protocol().bit_rate(),
        other => {
            let message = format!("the bits of '{pin}' ({}) are those of a clock line", other.name());
            return Err(Error::new(ErrorKind::Limits, message)
                .with_help("limit the clock itself: kind = \"period\", event = \"CLOCK rises\""));
        }
    };
    let Some(nominal) = nominal.or(stated).filter(|rate| *rate > Frequency::ZERO) else {
        return Err(Error::new(ErrorKind::Limits, format!("the nominal bit rate of '{pin}' is not known"))
            .with_help("the bus has bit-rate = \"auto\": write nominal = \"115.2 kHz\" into the limit, or state the bus's bit rate"));
    };
    Ok((bus.clone(), nominal))
}

fn unknown(pins: &Scope, pin: &str) -> Error {
    Error::new(ErrorKind::Limits, format!("nothing is called '{pin}'")).with_help(suggest(
        pin,
        pins.names(),
        "pin",
    ))
}
