//! One setup file as written, with the place of everything, before names mean anything.

use crate::error::{Error, ErrorKind, Place, TextPlace};
use crate::event::{Action, Arm, Wait};
use crate::instrument::{Begins, Stimulus, Waveform};
use crate::line::{Input, Level, Radix, Threshold, VoltageRange};
use crate::plan::{Before, Length, Speed};
use crate::quantity::{Frequency, Percent, Rate, Rational, SampleCount, Time, Voltage};

use super::expect::{DraftExpectation, read_expectation};
use super::reader::{NamedText, Placed, Reader, Section};
use super::registers::{DraftRegister, read_register};
use super::serial::{DraftSerial, read_serial};

/// A setup as written; where files include each other, laid over each other.
#[derive(Clone, Debug, Default)]
pub(super) struct Draft {
    pub(super) title: Option<String>,
    pub(super) connect: Option<Placed<String>>,
    pub(super) speed: Option<Placed<Speed>>,
    pub(super) length: Option<Length>,
    pub(super) before: Option<Before>,
    pub(super) time_out: Option<Time>,
    pub(super) uncertainty: Option<Time>,
    pub(super) analog_rate: Option<Rate>,
    pub(super) lines: Vec<DraftLine>,
    pub(super) analog: Vec<DraftAnalog>,
    pub(super) stimuli: Vec<Stimulus>,
    pub(super) buses: Vec<DraftBus>,
    pub(super) serial: Vec<DraftSerial>,
    pub(super) registers: Vec<DraftRegister>,
    pub(super) events: Vec<(Placed<String>, Placed<String>)>,
    pub(super) trigger: Option<DraftTrigger>,
    pub(super) parts: Vec<DraftPart>,
    pub(super) expectations: Vec<DraftExpectation>,
}

#[derive(Clone, Debug)]
pub(super) struct DraftLine {
    pub(super) name: Placed<String>,
    pub(super) input: Option<Input>,
    pub(super) threshold: Option<Threshold>,
    pub(super) swing: Option<Voltage>,
    pub(super) fastest: Option<Frequency>,
    pub(super) rests: Option<Level>,
}

#[derive(Clone, Debug)]
pub(super) struct DraftAnalog {
    pub(super) name: Placed<String>,
    pub(super) input: u32,
    pub(super) range: Option<VoltageRange>,
    pub(super) hysteresis: Voltage,
}

#[derive(Clone, Debug)]
pub(super) struct DraftBus {
    pub(super) name: Placed<String>,
    pub(super) lines: Vec<Placed<String>>,
    pub(super) clock: Option<(Placed<String>, bool)>,
    pub(super) radix: Radix,
    pub(super) place: TextPlace,
}

#[derive(Clone, Debug)]
pub(super) struct DraftPart {
    pub(super) limits: Placed<String>,
    pub(super) reference: String,
    pub(super) pins: Vec<NamedText>,
    /// The limits to check; all when `None`.
    pub(super) only: Option<Vec<Placed<String>>>,
    /// The operating conditions that hold for it.
    pub(super) conditions: Option<Placed<String>>,
    /// What its formulas are worked out with.
    pub(super) values: Vec<NamedText>,
    pub(super) place: TextPlace,
}

#[derive(Clone, Debug)]
pub(super) enum DraftTrigger {
    Event(Placed<String>),
    States(Vec<DraftState>),
}

#[derive(Clone, Debug)]
pub(super) struct DraftState {
    pub(super) name: Placed<String>,
    /// Each with the place of its event, or of itself.
    pub(super) arms: Vec<(Arm, TextPlace)>,
    pub(super) place: TextPlace,
}

impl Draft {
    /// Lays another setup over this one: single settings are replaced, lists go on.
    pub(super) fn overlay(&mut self, over: Draft) {
        fn replace<T>(under: &mut Option<T>, over: Option<T>) {
            if over.is_some() {
                *under = over;
            }
        }
        replace(&mut self.title, over.title);
        replace(&mut self.connect, over.connect);
        replace(&mut self.speed, over.speed);
        replace(&mut self.length, over.length);
        replace(&mut self.before, over.before);
        replace(&mut self.time_out, over.time_out);
        replace(&mut self.uncertainty, over.uncertainty);
        replace(&mut self.analog_rate, over.analog_rate);
        replace(&mut self.trigger, over.trigger);
        self.lines.extend(over.lines);
        self.analog.extend(over.analog);
        self.stimuli.extend(over.stimuli);
        self.buses.extend(over.buses);
        self.serial.extend(over.serial);
        self.registers.extend(over.registers);
        self.parts.extend(over.parts);
        self.expectations.extend(over.expectations);
        for (name, event) in over.events {
            self.events.retain(|(known, _)| known.value != name.value);
            self.events.push((name, event));
        }
    }
}

/// Reads one setup file: what it includes, what it says itself, and its problems.
pub(super) fn read_draft(name: &str, text: &str) -> (Vec<Placed<String>>, Draft, Vec<Error>) {
    let reader = Reader::new(name, text, ErrorKind::Setup);
    let (includes, draft) = reader.read(|top| {
        let mut draft = Draft { title: top.text("title").map(|t| t.value), ..Draft::default() };
        let includes = top.list("include").map(|list| list.value).unwrap_or_default();
        if let Some(section) = top.section("instrument") {
            draft.connect = section.required("connect", "connect = \"bench:tide-gauge\"");
            section.finish();
        }
        if let Some(section) = top.section("sampling") {
            read_sampling(&section, &mut draft);
            section.finish();
        }
        if let Some(section) = top.section("import") {
            draft.uncertainty = section.parsed::<Time>("uncertainty").map(|p| p.value);
            section.finish();
        }
        for section in top.sections("line", "name") {
            draft.lines.extend(read_line(&section));
            section.finish();
        }
        for section in top.sections("analog", "name") {
            draft.analog.extend(read_analog(&section));
            section.finish();
        }
        for section in top.sections("stimulus", "output") {
            draft.stimuli.extend(read_stimulus(&section));
            section.finish();
        }
        for section in top.sections("bus", "name") {
            match section.text("kind") {
                Some(kind) => draft.serial.extend(read_serial(&section, &kind)),
                None => read_bus(&section, &mut draft),
            }
            section.finish();
        }
        for section in top.sections("register", "name") {
            draft.registers.extend(read_register(&section));
            section.finish();
        }
        for section in top.sections("expect", "name") {
            draft.expectations.extend(read_expectation(&section));
            section.finish();
        }
        for (name, event) in top.map("events").unwrap_or_default() {
            if let Some(text) = event.value {
                draft.events.push((name, Placed { value: text, place: event.place }));
            }
        }
        if let Some(section) = top.section("trigger") {
            draft.trigger = read_trigger(&section);
            section.finish();
        }
        for section in top.sections("part", "reference") {
            draft.parts.extend(read_part(&section));
            section.finish();
        }
        (includes, draft)
    });
    (includes, draft, reader.into_problems())
}

fn read_sampling(section: &Section<'_>, draft: &mut Draft) {
    let speed = section.parsed::<SpeedText>("rate");
    draft.speed = speed.map(|s| Placed { value: s.value.0, place: s.place });
    let length = section.parsed::<LengthText>("length");
    let samples = section.parsed::<SampleCount>("samples");
    if let (Some(_), Some(samples)) = (&length, &samples) {
        let error = Error::new(ErrorKind::Setup, "both 'length' and 'samples' say how long the record is");
        section.reader.report(error.with_help("keep one of them").at(Place::Text(samples.place.clone())));
    }
    draft.length = length.map(|l| l.value.0).or_else(|| samples.map(|s| Length::Samples(s.value.0)));
    draft.before = section.parsed::<BeforeText>("before-trigger").map(|b| b.value.0);
    draft.analog_rate = section.parsed::<Rate>("analog-rate").map(|r| r.value);
    draft.time_out = section.parsed::<Time>("time-out").map(|t| t.value);
}

fn read_trigger(section: &Section<'_>) -> Option<DraftTrigger> {
    let event = section.text("event");
    let states = section.sections("state", "name");
    if event.is_none() && states.is_empty() {
        section.missing("event", "event = \"RESET_N rises\" (or [[trigger.state]] for a state machine)");
    }
    let mut drafts = Vec::new();
    for state in &states {
        let name = state.required("name", "name = \"waiting\"");
        let mut arms = Vec::new();
        for arm in state.sections("arm", "on") {
            arms.extend(read_arm(&arm));
            arm.finish();
        }
        state.finish();
        if let Some(name) = name {
            drafts.push(DraftState { name, arms, place: state.place() });
        }
    }
    match (event, states.is_empty()) {
        (Some(event), false) => {
            let error = Error::new(ErrorKind::Setup, "the trigger is both an event and a state machine");
            section.reader.report(error.with_help("keep one of them").at(Place::Text(event.place)));
            None
        }
        (Some(event), true) => Some(DraftTrigger::Event(event)),
        (None, _) => Some(DraftTrigger::States(drafts)),
    }
}

fn read_arm(section: &Section<'_>) -> Option<(Arm, TextPlace)> {
    let on = section.text("on");
    let after = section.parsed::<Time>("after");
    let times = section.parsed::<SampleCount>("times").map_or(1, |t| t.value.0);
    let go = section.text("go").map(|g| g.value);
    let fire = section.flag("fire").unwrap_or(false);
    let wrong = |message: &str, help: &str| {
        let error = Error::new(ErrorKind::Setup, message).with_help(help);
        section.reader.report(error.at(Place::Text(section.place())));
    };
    let (wait, place) = match (on, after) {
        (Some(on), None) if times > 0 => (Wait::Event { text: on.value, times }, on.place),
        (Some(_), None) => {
            wrong("an event cannot be waited for 0 times", "give a count from 1 on");
            return None;
        }
        (None, Some(after)) => (Wait::After(after.value), section.place()),
        _ => {
            wrong("an arm waits for an event or for a time", "give it either 'on' or 'after'");
            return None;
        }
    };
    let action = match (go, fire) {
        (go, true) => Action::Fire(go),
        (Some(go), false) => Action::Go(go),
        (None, false) => {
            wrong("this arm does nothing", "add go = \"STATE\" or fire = true");
            return None;
        }
    };
    Some((Arm { wait, action }, place))
}

/// A rate, or 'max'.
struct SpeedText(Speed);

impl std::str::FromStr for SpeedText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.trim() == "max" {
            return Ok(SpeedText(Speed::Fastest));
        }
        text.parse::<Rate>().map(|rate| SpeedText(Speed::Rate(rate))).map_err(|error| {
            Error::new(ErrorKind::Quantity, error.message())
                .with_help("write a rate like '100 MS/s', or 'max' for the fastest that fits")
        })
    }
}

/// A length of time, or 'max'.
struct LengthText(Length);

impl std::str::FromStr for LengthText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.trim() == "max" {
            return Ok(LengthText(Length::Longest));
        }
        text.parse::<Time>().map(|time| LengthText(Length::Time(time))).map_err(|error| {
            Error::new(ErrorKind::Quantity, error.message())
                .with_help("write a time like '20 ms', or 'max' for as long as the memory lasts")
        })
    }
}

/// The level that a line rests at.
struct RestsText(Level);

impl std::str::FromStr for RestsText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text.trim() {
            "high" => Ok(RestsText(Level::High)),
            "low" => Ok(RestsText(Level::Low)),
            _ => Err(Error::new(ErrorKind::Quantity, format!("'{text}' is not a level"))
                .with_help("a line rests \"high\" or \"low\"")),
        }
    }
}

/// A share or a time.
struct BeforeText(Before);

impl std::str::FromStr for BeforeText {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.trim_end().ends_with('%') {
            return text.parse::<Percent>().map(|share| BeforeText(Before::Share(share)));
        }
        text.parse::<Time>().map(|time| BeforeText(Before::Time(time))).map_err(|error| {
            Error::new(ErrorKind::Quantity, error.message())
                .with_help("write a share like '25 %' or a time like '5 ms'")
        })
    }
}

fn read_input(section: &Section<'_>) -> Option<Input> {
    section.number_or_text("input").map(|placed| match placed.value {
        Ok(number) => Input::Number(number),
        Err(signal) => Input::Signal(signal),
    })
}

fn read_line(section: &Section<'_>) -> Option<DraftLine> {
    let input = read_input(section);
    let threshold = section.parsed::<Threshold>("threshold").map(|t| t.value);
    let swing = section.parsed::<Voltage>("swing").map(|s| s.value);
    let fastest = section.parsed::<Frequency>("fastest").map(|f| f.value);
    let rests = section.parsed::<RestsText>("rests").map(|r| r.value.0);
    let name = section.required("name", "name = \"ADC_SCLK\"")?;
    Some(DraftLine { name, input, threshold, swing, fastest, rests })
}

fn read_analog(section: &Section<'_>) -> Option<DraftAnalog> {
    let input = section.number_or_text("input");
    let range = section.parsed::<VoltageRange>("range").map(|r| r.value);
    let hysteresis = section.parsed::<Voltage>("hysteresis");
    let name = section.required("name", "name = \"VDD33\"")?;
    let input = match input {
        Some(Placed { value: Ok(number), .. }) => number,
        Some(Placed { place, .. }) => {
            let error = Error::new(ErrorKind::Setup, "an analog input is given by its number");
            section.reader.report(error.with_help("write input = 0").at(Place::Text(place)));
            return None;
        }
        None => {
            section.missing("input", "input = 0");
            return None;
        }
    };
    if let Some(negative) = hysteresis.as_ref().filter(|h| h.value < Voltage::ZERO) {
        let error = Error::new(ErrorKind::Setup, "a hysteresis is not negative");
        let error = error.with_help("give how far the voltage must come back, such as \"20 mV\"");
        section.reader.report(error.at(Place::Text(negative.place.clone())));
    }
    Some(DraftAnalog { name, input, range, hysteresis: hysteresis.map_or(Voltage::ZERO, |h| h.value) })
}

fn read_stimulus(section: &Section<'_>) -> Option<Stimulus> {
    let output = section.number_or_text("output");
    let at = section.parsed::<Time>("at");
    let after_trigger = section.parsed::<Time>("after-trigger");
    let length = section.parsed::<Time>("length").map(|l| l.value);
    let wrong = |message: &str, help: &str| {
        let error = Error::new(ErrorKind::Setup, message).with_help(help);
        section.reader.report(error.at(Place::Text(section.place())));
    };
    let pulses = section.section("pulses").map(|pulses| {
        let frequency = pulses.parsed::<Frequency>("frequency").map(|f| f.value);
        let duty = pulses
            .parsed::<Percent>("duty")
            .map_or(Percent::from_fraction(Rational::new(1, 2)?), |d| d.value);
        if frequency.is_none() {
            pulses.missing("frequency", "frequency = \"1 kHz\"");
        }
        pulses.finish();
        Some(Waveform::Pulses { frequency: frequency?, duty, length })
    });
    let bytes = section.section("bytes").map(|bytes| {
        let bit_rate = bytes.parsed::<Frequency>("bit-rate").map(|f| f.value);
        let text = bytes.required("text", "text = \"status\\r\"");
        if bit_rate.is_none() {
            bytes.missing("bit-rate", "bit-rate = \"115.2 kHz\"");
        }
        bytes.finish();
        Some(Waveform::Bytes { bytes: text?.value.into_bytes(), bit_rate: bit_rate? })
    });
    let begins = match (at, after_trigger) {
        (Some(_), Some(_)) => {
            wrong("both 'at' and 'after-trigger' say when the stimulus begins", "keep one of them");
            return None;
        }
        (None, Some(after)) => Begins::AfterTrigger(after.value),
        (at, None) => Begins::AfterArming(at.map_or(Time::ZERO, |at| at.value)),
    };
    if begins.delay() < Time::ZERO {
        wrong("a stimulus cannot begin before that", "give a time that is not negative");
        return None;
    }
    let Some(Placed { value: Ok(output), .. }) = output else {
        section.missing("output", "output = 0");
        return None;
    };
    let signal = match (pulses, bytes) {
        (Some(pulses), None) => pulses?,
        (None, Some(bytes)) => bytes?,
        _ => {
            wrong(
                "a stimulus sends either pulses or bytes",
                "add pulses = { frequency = \"1 kHz\", duty = \"25 %\" } or bytes = { text = \"status\\r\", bit-rate = \"9600 Hz\" }",
            );
            return None;
        }
    };
    Some(Stimulus { output, begins, signal })
}

fn read_bus(section: &Section<'_>, draft: &mut Draft) {
    let listed = section.list("lines");
    let signal = section.text("signal");
    let width = section.number_or_text("width");
    let clock = section.text("clock").map(|clock| (clock, section.text("edge")));
    let radix = section.parsed::<Radix>("format").map(|r| r.value).unwrap_or_default();
    let Some(name) = section.required("name", "name = \"ADDR\"") else { return };
    let clock = clock.and_then(|(clock, edge)| {
        let Some(edge) = edge else { return Some((clock, true)) };
        match edge.value.as_str() {
            "rises" => Some((clock, true)),
            "falls" => Some((clock, false)),
            other => {
                let error = Error::new(ErrorKind::Setup, format!("'{other}' is not an edge"));
                let error = error.with_help("it is \"rises\" or \"falls\"");
                section.reader.report(error.at(Place::Text(edge.place)));
                None
            }
        }
    });
    let lines = match (listed, signal, width) {
        (Some(list), None, None) => list.value,
        (None, Some(signal), Some(Placed { value: Ok(width @ 1..=64), .. })) => {
            // A vector of a simulation: its lines are made here, most significant first.
            let mut lines = Vec::new();
            for bit in (0..width).rev() {
                let line = Placed { value: format!("{}{bit}", name.value), place: signal.place.clone() };
                let input = Some(Input::Signal(format!("{}[{bit}]", signal.value)));
                lines.push(line.clone());
                draft.lines.push(DraftLine {
                    name: line,
                    input,
                    threshold: None,
                    swing: None,
                    fastest: None,
                    rests: None,
                });
            }
            lines
        }
        _ => {
            let example = "lines = [\"A1\", \"A0\"], or for a vector of a simulation: signal = \"top.addr\" and width = 2 (1 to 64)";
            section.missing("lines", example);
            return;
        }
    };
    draft.buses.push(DraftBus { name, lines, clock, radix, place: section.place() });
}

fn read_part(section: &Section<'_>) -> Option<DraftPart> {
    let limits = section.required("limits", "limits = \"parts/ex-adc24.toml\"");
    let reference = section.required("reference", "reference = \"U3\"");
    let pins = section.map("pins");
    let only = section.list("only").map(|list| list.value);
    if pins.is_none() {
        section.missing("pins", "pins = { SCLK = \"ADC_SCLK\" }");
    }
    Some(DraftPart {
        limits: limits?,
        reference: reference?.value,
        pins: pins?,
        only,
        conditions: section.text("conditions"),
        values: section.map("values").unwrap_or_default(),
        place: section.place(),
    })
}
