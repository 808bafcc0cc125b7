//! What one client says, and what the instrument answers.

use std::collections::VecDeque;

use deep_tap_core::event::Direction;
use deep_tap_core::instrument::{
    Begins, Configuration, ConfiguredAnalog, ConfiguredInput, Instrument, Signal, Status, Stimulus,
};
use deep_tap_core::line::{Input, Threshold, VoltageRange};
use deep_tap_core::scan::{SampleBlock, SampleWidth};
use deep_tap_core::time::{Frequency, Percent, Rate, Rational, Time, Voltage};
use deep_tap_core::trigger::{QualifiedEdge, Seen};

use super::commands::{Command, Group, find};
use super::message::{ScpiError, Unit, channels, matches, number, quoted, short, string, units};
use super::{HELP, PROTOCOL, able};

/// Most errors that are kept (IEEE 488.2 asks for at least two).
const MOST_ERRORS: usize = 32;
/// Samples in one block, at power-on and at the most.
const BLOCK: usize = 1 << 16;
const MOST_BLOCK: usize = 1 << 22;
/// Bits of the operation register (SCPI-1999, volume 1, 9.3).
const RECORDING: u16 = 1 << 3;
const WAITING: u16 = 1 << 5;
const TIME_UNITS: [(&str, i32); 5] = [("S", 0), ("MS", -3), ("US", -6), ("NS", -9), ("PS", -12)];
const VOLT_UNITS: [(&str, i32); 3] = [("V", 0), ("MV", -3), ("UV", -6)];
const RATE_UNITS: [(&str, i32); 3] = [("HZ", 0), ("KHZ", 3), ("MHZ", 6)];

/// What a session knows of the others.
pub(super) trait Desk {
    /// Takes the instrument, or says who has it.
    fn claim(&mut self) -> Result<(), String>;

    /// Lets a moment pass while an answer waits for the recording; whether to go on.
    fn wait(&mut self) -> bool;
}

/// Whether a command can be left to any client, whoever is recording.
fn only_asks(command: Command, query: bool) -> bool {
    match command {
        Command::TraceData | Command::Progress | Command::OperationComplete => false,
        Command::Clear | Command::EventStatusEnable | Command::ServiceEnable => true,
        _ => query,
    }
}

type Outcome = Result<Option<Vec<u8>>, ScpiError>;

/// The settings, registers and queues of one client.
pub(super) struct Session {
    errors: VecDeque<ScpiError>,
    event_status: u8,
    event_status_enable: u8,
    service_enable: u8,
    /// Of the operation register: what was set since it was last read, and its mask.
    operation: (u16, u16),
    questionable_enable: u16,
    settings: Settings,
    /// The last block that was read.
    block: SampleBlock,
    /// What was read of the instrument beyond the last block.
    rest: Option<(SampleBlock, usize)>,
    complete_wanted: bool,
    waiting: bool,
}

/// A stimulus as it is set.
#[derive(Clone)]
struct Source {
    output: u32,
    function: Function,
    bytes: Vec<u8>,
    /// Exact: hertz, share of one, seconds.
    frequency: Rational,
    duty: Rational,
    length: Rational,
    trigger: bool,
    start: Rational,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Function {
    None,
    Pulses,
    Bytes,
}

impl Source {
    fn power_on() -> Self {
        let (zero, one) = (Rational::ZERO, Rational::ONE);
        let duty = Rational::new(1, 2).unwrap_or(zero);
        let (bytes, function) = (Vec::new(), Function::None);
        Source { output: 0, function, bytes, frequency: one, duty, length: zero, trigger: false, start: zero }
    }

    fn stimulus(&self) -> Option<Stimulus> {
        let frequency = Frequency::from_rational(self.frequency);
        let signal = match self.function {
            Function::None => return None,
            Function::Pulses => Signal::Pulses {
                frequency,
                duty: Percent::from_fraction(self.duty),
                length: (!self.length.is_zero()).then(|| Time::from_rational(self.length)),
            },
            Function::Bytes => Signal::Bytes { bytes: self.bytes.clone(), bit_rate: frequency },
        };
        let start = Time::from_rational(self.start);
        let begins = if self.trigger { Begins::AfterTrigger(start) } else { Begins::AfterArming(start) };
        Some(Stimulus { output: self.output, begins, signal })
    }
}

/// What will be recorded.
#[derive(Clone)]
struct Settings {
    inputs: Vec<Input>,
    thresholds: Vec<(u32, Voltage)>,
    analog: Vec<u32>,
    ranges: Vec<(u32, VoltageRange)>,
    every: u64,
    rate: Rate,
    points: u64,
    before: u64,
    stream: bool,
    source: Option<u32>,
    slope: Direction,
    qualifiers: Vec<(u32, bool)>,
    sources: Vec<(u32, Source)>,
    swapped: bool,
    block: usize,
}

impl Settings {
    /// A stimulus, which is there once it is spoken of.
    fn source(&mut self, number: u32) -> Result<&mut Source, ScpiError> {
        if number > 15 {
            return Err(ScpiError::new(-114, "from 0 to 15"));
        }
        if !self.sources.iter().any(|(known, _)| *known == number) {
            self.sources.push((number, Source::power_on()));
            self.sources.sort_by_key(|(known, _)| *known);
        }
        let found = self.sources.iter_mut().find(|(known, _)| *known == number);
        found.map(|(_, source)| source).ok_or_else(|| ScpiError::new(-114, ""))
    }

    fn power_on(instrument: &dyn Instrument) -> Self {
        let rates = instrument.capabilities().rates_for(1, false);
        let streams = instrument.capabilities().rates_for(1, true);
        Settings {
            inputs: vec![Input::Number(0)],
            thresholds: Vec::new(),
            analog: Vec::new(),
            ranges: Vec::new(),
            every: 1,
            rate: *rates.first().or(streams.first()).unwrap_or(&Rate::ZERO),
            points: 1000,
            before: 0,
            stream: false,
            source: None,
            slope: Direction::Rises,
            qualifiers: Vec::new(),
            sources: Vec::new(),
            swapped: true,
            block: BLOCK,
        }
    }

    fn configuration(&self) -> Result<Configuration, ScpiError> {
        let place = |number: u32| {
            let found = self.inputs.iter().position(|input| *input == Input::Number(number));
            found.ok_or_else(|| ScpiError::new(-221, format!("input {number} is not in ROUTe:SCAN")))
        };
        let trigger = match self.source {
            None => None,
            Some(source) => {
                let levels = self.qualifiers.iter().map(|(input, high)| Ok((place(*input)?, *high)));
                Some(QualifiedEdge {
                    input: place(source)?,
                    direction: self.slope,
                    levels: levels.collect::<Result<_, ScpiError>>()?,
                })
            }
        };
        let threshold = |input: &Input| {
            let Input::Number(number) = input else { return None };
            let set = self.thresholds.iter().find(|(input, _)| input == number);
            set.map(|(_, voltage)| Threshold::Volts(*voltage))
        };
        let analog = self.analog.iter().map(|input| {
            let range = self.ranges.iter().find(|(of, _)| of == input).map(|(_, range)| *range);
            let range = range.ok_or_else(|| {
                ScpiError::new(-221, format!("analog input {input} has no range: SENSe:ANALog:RANGe{input}"))
            })?;
            Ok(ConfiguredAnalog { input: *input, range })
        });
        Ok(Configuration {
            rate: self.rate,
            samples: self.points,
            before: self.before,
            inputs: self
                .inputs
                .iter()
                .map(|input| ConfiguredInput { input: input.clone(), threshold: threshold(input) })
                .collect(),
            analog: analog.collect::<Result<_, ScpiError>>()?,
            analog_every: if self.analog.is_empty() { 0 } else { self.every },
            stimuli: self.sources.iter().filter_map(|(_, source)| source.stimulus()).collect(),
            trigger,
            stream: self.stream,
        })
    }
}

fn failed(error: &deep_tap_core::Error) -> ScpiError {
    because(-200, error)
}

/// An error of the instrument, under a number.
fn because(number: i32, error: &deep_tap_core::Error) -> ScpiError {
    let help = error.help().map(|help| format!("{HELP}{help}")).unwrap_or_default();
    ScpiError::new(number, format!("{}{help}", error.message()))
}

impl Session {
    pub(super) fn new(instrument: &dyn Instrument) -> Self {
        Session {
            errors: VecDeque::new(),
            event_status: 1 << 7,
            event_status_enable: 0,
            service_enable: 0,
            operation: (0, 0),
            questionable_enable: 0,
            settings: Settings::power_on(instrument),
            block: SampleBlock::default(),
            rest: None,
            complete_wanted: false,
            waiting: false,
        }
    }

    /// Notes an error.
    pub(super) fn report(&mut self, error: ScpiError) {
        self.event_status |= error.event_bit();
        if self.errors.len() < MOST_ERRORS {
            self.errors.push_back(error);
        } else if let Some(last) = self.errors.back_mut() {
            *last = ScpiError::new(-350, "");
        }
    }

    /// Does what a message says. The answers of its queries, joined, without the final line feed.
    /// `desk` says whether this client may do more than ask.
    pub(super) fn run(
        &mut self,
        message: &str,
        instrument: &mut dyn Instrument,
        desk: &mut dyn Desk,
    ) -> Vec<u8> {
        let mut answer: Vec<u8> = Vec::new();
        for unit in units(message) {
            let outcome = unit.and_then(|unit| self.unit(&unit, instrument, desk));
            match outcome {
                Ok(None) => {}
                Ok(Some(bytes)) => {
                    if !answer.is_empty() {
                        answer.push(b';');
                    }
                    answer.extend(bytes);
                }
                Err(error) => self.report(error),
            }
        }
        answer
    }

    fn unit(&mut self, unit: &Unit<'_>, instrument: &mut dyn Instrument, desk: &mut dyn Desk) -> Outcome {
        let Some((row, suffix)) = find(unit) else {
            return Err(ScpiError::new(-113, format!("'{}'", short(&unit.path.join(":")))));
        };
        if !only_asks(row.command, unit.query) {
            desk.claim().map_err(|holder| ScpiError::new(-203, format!("in use by {holder}")))?;
        }
        if self.waiting && unit.path[0] != "*CLS" {
            self.waiting = false;
            self.wait_until_over(instrument, desk)?;
        }
        let given = unit.parameters.len();
        let expected = parameters(row.command, unit.query);
        if given < *expected.start() {
            return Err(ScpiError::new(-109, row.header));
        }
        if given > *expected.end() {
            return Err(ScpiError::new(-108, row.header));
        }
        if unit.query {
            self.ask(row.command, suffix, unit, instrument, desk)
        } else {
            self.set(row.command, suffix, unit, instrument)
        }
    }

    fn set(
        &mut self,
        command: Command,
        suffix: u32,
        unit: &Unit<'_>,
        instrument: &mut dyn Instrument,
    ) -> Outcome {
        let text = |place: usize| unit.parameters.get(place).map_or("", |p| p.as_ref());
        let word = |place: usize| text(place).to_ascii_uppercase();
        match command {
            Command::Clear => {
                self.errors.clear();
                (self.event_status, self.operation.0) = (0, 0);
                (self.complete_wanted, self.waiting) = (false, false);
            }
            Command::EventStatusEnable => self.event_status_enable = whole(text(0), 255)? as u8,
            Command::ServiceEnable => self.service_enable = whole(text(0), 255)? as u8,
            Command::OperationComplete => self.complete_wanted = true,
            Command::Wait => self.waiting = true,
            Command::Reset => {
                instrument.stop().map_err(|e| failed(&e))?;
                self.settings = Settings::power_on(instrument);
                self.forget_record();
            }
            Command::Abort => instrument.stop().map_err(|e| failed(&e))?,
            Command::Initiate => self.initiate(instrument)?,
            Command::Border => {
                self.settings.swapped = match word(0) {
                    word if matches(&word, "SWAPped") => true,
                    word if matches(&word, "NORMal") => false,
                    _ => return Err(ScpiError::new(-224, "SWAPped or NORMal")),
                };
            }
            Command::Threshold => {
                let voltage = match word(0) {
                    word if matches(&word, "DEFault") => None,
                    _ => Some(Voltage::from_rational(number(text(0), &VOLT_UNITS)?)),
                };
                self.settings.thresholds.retain(|(input, _)| *input != suffix);
                self.settings.thresholds.extend(voltage.map(|voltage| (suffix, voltage)));
            }
            Command::Scan => self.settings.inputs = inputs(unit)?,
            Command::AnalogScan => self.settings.analog = channels(text(0))?,
            Command::AnalogEvery => self.settings.every = whole(text(0), u64::MAX)?.max(1),
            Command::AnalogRange => {
                let volts = |place| number(text(place), &VOLT_UNITS).map(Voltage::from_rational);
                let range = VoltageRange { low: volts(0)?, high: volts(1)? };
                self.settings.ranges.retain(|(input, _)| *input != suffix);
                self.settings.ranges.push((suffix, range));
            }
            Command::PreTrigger => self.settings.before = whole(text(0), u64::MAX)?,
            Command::Points => self.settings.points = whole(text(0), u64::MAX)?,
            Command::Rate => self.settings.rate = rate(text(0))?,
            Command::Interval => self.settings.rate = self.nearest(text(0), instrument)?,
            Command::Stream => {
                self.settings.stream = match word(0).as_str() {
                    "1" | "ON" => true,
                    "0" | "OFF" => false,
                    _ => return Err(ScpiError::new(-224, "0, 1, OFF or ON")),
                };
            }
            Command::Enable(Group::Operation) => self.operation.1 = whole(text(0), 0x7fff)? as u16,
            Command::Enable(Group::Questionable) => self.questionable_enable = whole(text(0), 0x7fff)? as u16,
            Command::Preset => (self.operation.1, self.questionable_enable) = (0, 0),
            Command::TracePoints => {
                if !matches(&word(0), "LEVels") {
                    return Err(ScpiError::new(-224, "only LEVels has a size of its own"));
                }
                let points = whole(text(1), MOST_BLOCK as u64)?;
                self.settings.block = (points as usize).max(1);
            }
            Command::Qualifier => {
                let mut qualifiers = Vec::new();
                for pair in unit.parameters.chunks(2) {
                    let [input, level] = pair else {
                        return Err(ScpiError::new(-109, "a level for each input"));
                    };
                    qualifiers.push((whole(input, 1023)? as u32, whole(level, 1)? == 1));
                }
                self.settings.qualifiers = qualifiers;
            }
            Command::Slope => {
                self.settings.slope = match word(0) {
                    word if matches(&word, "POSitive") => Direction::Rises,
                    word if matches(&word, "NEGative") => Direction::Falls,
                    word if matches(&word, "EITHer") => Direction::Changes,
                    _ => return Err(ScpiError::new(-224, "POSitive, NEGative or EITHer")),
                };
            }
            Command::Source => {
                let word = word(0);
                let name = word.trim_end_matches(|c: char| c.is_ascii_digit());
                let input = word[name.len()..].parse().unwrap_or(0);
                self.settings.source = match name {
                    name if matches(name, "IMMediate") => None,
                    name if matches(name, "INTernal") => Some(input),
                    _ => return Err(ScpiError::new(-224, "IMMediate or INTernal<n>")),
                };
            }
            Command::SourceOutput => self.settings.source(suffix)?.output = whole(text(0), 63)? as u32,
            Command::SourceFunction => {
                self.settings.source(suffix)?.function = match word(0) {
                    word if matches(&word, "NONE") => Function::None,
                    word if matches(&word, "PULSe") => Function::Pulses,
                    word if matches(&word, "DATA") => Function::Bytes,
                    _ => return Err(ScpiError::new(-224, "NONE, PULSe or DATA")),
                };
            }
            Command::SourceBytes => {
                let bytes = unit.parameters.iter().map(|byte| Ok(whole(byte, 255)? as u8));
                self.settings.source(suffix)?.bytes = bytes.collect::<Result<_, ScpiError>>()?;
            }
            Command::SourceFrequency => {
                self.settings.source(suffix)?.frequency = rate(text(0))?.to_rational();
            }
            Command::SourceDuty => {
                let percent = |percent: Rational| percent.checked_div(Rational::from(100));
                let duty = match string(text(0)) {
                    Some(_) => Some(exact(text(0), &[])?),
                    None => percent(number(text(0), &[("PCT", 0)])?),
                };
                let inside = duty.filter(|duty| (Rational::ZERO..=Rational::ONE).contains(duty));
                self.settings.source(suffix)?.duty =
                    inside.ok_or_else(|| ScpiError::new(-222, "0 to 100 percent"))?;
            }
            Command::SourceLength => self.settings.source(suffix)?.length = exact(text(0), &TIME_UNITS)?,
            Command::SourceStart => {
                let trigger = match word(0) {
                    word if matches(&word, "ARM") => false,
                    word if matches(&word, "TRIGger") => true,
                    _ => return Err(ScpiError::new(-224, "ARM or TRIGger")),
                };
                let start = exact(text(1), &TIME_UNITS)?;
                let source = self.settings.source(suffix)?;
                (source.trigger, source.start) = (trigger, start);
            }
            // Only asked for.
            _ => return Err(ScpiError::new(-113, "this can only be asked for")),
        }
        Ok(None)
    }

    fn ask(
        &mut self,
        command: Command,
        suffix: u32,
        unit: &Unit<'_>,
        instrument: &mut dyn Instrument,
        desk: &mut dyn Desk,
    ) -> Outcome {
        let settings = self.settings.clone();
        let list = |inputs: Vec<String>| format!("(@{})", inputs.join(","));
        let answer = match command {
            Command::EventStatusEnable => self.event_status_enable.to_string(),
            Command::EventStatus => std::mem::take(&mut self.event_status).to_string(),
            Command::Identity => identity(instrument),
            Command::OperationComplete => {
                self.wait_until_over(instrument, desk)?;
                "1".to_string()
            }
            Command::ServiceEnable => self.service_enable.to_string(),
            Command::StatusByte => self.status_byte(instrument).to_string(),
            Command::SelfTest => "0".to_string(),
            Command::Border => if settings.swapped { "SWAP" } else { "NORM" }.to_string(),
            Command::Format => format!("UINT,{}", SampleWidth::for_inputs(settings.inputs.len()).inputs()),
            Command::Threshold => match settings.thresholds.iter().find(|(input, _)| *input == suffix) {
                Some((_, voltage)) => voltage.to_f64().to_string(),
                None => "DEF".to_string(),
            },
            Command::Capabilities => {
                return Ok(Some(block(able::to_json(&instrument.capabilities()).as_bytes())));
            }
            Command::Description => quoted(&instrument.identity()),
            Command::Protocol => PROTOCOL.to_string(),
            Command::Scan => match settings.inputs.first() {
                Some(Input::Signal(_)) => {
                    settings.inputs.iter().map(|i| quoted(&i.to_string())).collect::<Vec<_>>().join(",")
                }
                _ => list(settings.inputs.iter().map(ToString::to_string).collect()),
            },
            Command::AnalogScan => list(settings.analog.iter().map(ToString::to_string).collect()),
            Command::AnalogEvery => settings.every.to_string(),
            Command::AnalogRange => match settings.ranges.iter().find(|(input, _)| *input == suffix) {
                Some((_, range)) => format!("{},{}", range.low.to_f64(), range.high.to_f64()),
                None => return Err(ScpiError::new(-221, "this analog input has no range yet")),
            },
            Command::PreTrigger => settings.before.to_string(),
            Command::Points => settings.points.to_string(),
            Command::Rate => settings.rate.to_f64().to_string(),
            Command::Interval => format!("{:E}", settings.rate.period().map_or(0.0, Time::to_f64)),
            Command::Stream => u8::from(settings.stream).to_string(),
            Command::Progress => progress(&instrument.status().map_err(|e| failed(&e))?),
            Command::Condition(Group::Operation) => self.condition(instrument).to_string(),
            Command::Enable(Group::Operation) => self.operation.1.to_string(),
            Command::Event(Group::Operation) => {
                self.condition(instrument);
                std::mem::take(&mut self.operation.0).to_string()
            }
            Command::Condition(Group::Questionable) | Command::Event(Group::Questionable) => "0".to_string(),
            Command::Enable(Group::Questionable) => self.questionable_enable.to_string(),
            Command::ErrorCount => self.errors.len().to_string(),
            Command::ErrorNext => self.errors.pop_front().unwrap_or(ScpiError::new(0, "")).to_string(),
            Command::Remarks => {
                let remarks: Vec<String> = instrument.remarks().iter().map(|remark| quoted(remark)).collect();
                if remarks.is_empty() { "\"\"".to_string() } else { remarks.join(",") }
            }
            Command::Version => "1999.0".to_string(),
            Command::TraceCatalog => {
                let analog = (0..settings.analog.len()).map(|n| format!(",\"ANAL{n}\""));
                format!("\"LEV\",\"UNKN\"{}", analog.collect::<String>())
            }
            Command::TraceData => return self.trace(unit, instrument).map(Some),
            Command::TracePoints => settings.block.to_string(),
            Command::Qualifier => {
                let pairs =
                    settings.qualifiers.iter().map(|(input, high)| format!("{input},{}", u8::from(*high)));
                let pairs: Vec<String> = pairs.collect();
                if pairs.is_empty() { "\"\"".to_string() } else { pairs.join(",") }
            }
            Command::Slope => match settings.slope {
                Direction::Rises => "POS",
                Direction::Falls => "NEG",
                Direction::Changes => "EITH",
            }
            .to_string(),
            Command::Source => settings.source.map_or("IMM".to_string(), |input| format!("INT{input}")),
            Command::SourceOutput => self.settings.source(suffix)?.output.to_string(),
            Command::SourceFunction => match self.settings.source(suffix)?.function {
                Function::None => "NONE",
                Function::Pulses => "PULS",
                Function::Bytes => "DATA",
            }
            .to_string(),
            Command::SourceBytes => {
                let bytes: Vec<String> =
                    self.settings.source(suffix)?.bytes.iter().map(ToString::to_string).collect();
                if bytes.is_empty() { "\"\"".to_string() } else { bytes.join(",") }
            }
            Command::SourceFrequency => self.settings.source(suffix)?.frequency.to_f64().to_string(),
            Command::SourceDuty => (self.settings.source(suffix)?.duty.to_f64() * 100.0).to_string(),
            Command::SourceLength => self.settings.source(suffix)?.length.to_f64().to_string(),
            Command::SourceStart => {
                let source = self.settings.source(suffix)?;
                format!("{},{}", if source.trigger { "TRIG" } else { "ARM" }, source.start.to_f64())
            }
            // Only set.
            Command::Abort
            | Command::Clear
            | Command::Initiate
            | Command::Preset
            | Command::Reset
            | Command::Wait => {
                return Err(ScpiError::new(-113, "this cannot be asked for"));
            }
        };
        Ok(Some(answer.into_bytes()))
    }

    fn forget_record(&mut self) {
        (self.block, self.rest) = (SampleBlock::default(), None);
    }

    fn initiate(&mut self, instrument: &mut dyn Instrument) -> Result<(), ScpiError> {
        if let Ok(Status::Waiting { .. } | Status::Recording { .. }) = instrument.status() {
            return Err(ScpiError::new(-213, "it is waiting or recording already"));
        }
        instrument.configure(&self.settings.configuration()?).map_err(|e| because(-221, &e))?;
        self.forget_record();
        instrument.arm().map_err(|e| failed(&e))
    }

    /// The operation register, and which of its bits have been set since it was last read.
    fn condition(&mut self, instrument: &mut dyn Instrument) -> u16 {
        let now = match instrument.status() {
            Ok(Status::Waiting { .. }) => WAITING,
            Ok(Status::Recording { .. }) => RECORDING,
            Ok(_) => 0,
            Err(error) => {
                self.report(failed(&error));
                0
            }
        };
        self.operation.0 |= now;
        if now == 0 && std::mem::take(&mut self.complete_wanted) {
            self.event_status |= 1;
        }
        now
    }

    /// IEEE 488.2, 11.2, and SCPI-1999, volume 1, 9.1.
    fn status_byte(&mut self, instrument: &mut dyn Instrument) -> u8 {
        self.condition(instrument);
        let mut byte = 0;
        byte |= u8::from(!self.errors.is_empty()) << 2;
        byte |= u8::from(self.event_status & self.event_status_enable != 0) << 5;
        byte |= u8::from(self.operation.0 & self.operation.1 != 0) << 7;
        byte | u8::from(byte & self.service_enable != 0) << 6
    }

    fn wait_until_over(
        &mut self,
        instrument: &mut dyn Instrument,
        desk: &mut dyn Desk,
    ) -> Result<(), ScpiError> {
        while !self.settings.stream && self.condition(instrument) != 0 {
            if !desk.wait() {
                return Err(ScpiError::new(-200, "the client has gone"));
            }
        }
        Ok(())
    }

    /// Other rates are wrong by more than a millionth.
    fn nearest(&self, text: &str, instrument: &dyn Instrument) -> Result<Rate, ScpiError> {
        let wanted = number(text, &TIME_UNITS)?;
        let able = instrument.capabilities();
        let count = self.settings.inputs.len() as u32;
        let rates = able.rates_for(count, self.settings.stream);
        let close = |rate: &&Rate| {
            let periods = rate.to_rational().checked_mul(wanted);
            periods.is_some_and(|p| (p.to_f64() - 1.0).abs() < 1e-6)
        };
        rates.iter().find(close).copied().ok_or_else(|| {
            let intervals = rates.iter().filter_map(|rate| rate.period()).map(|t| t.to_string());
            ScpiError::new(-222, format!("it has {}", intervals.collect::<Vec<_>>().join(", ")))
        })
    }

    fn trace(&mut self, unit: &Unit<'_>, instrument: &mut dyn Instrument) -> Result<Vec<u8>, ScpiError> {
        let word = unit.parameters[0].to_ascii_uppercase();
        let name = word.trim_end_matches(|c: char| c.is_ascii_digit());
        let swapped = self.settings.swapped;
        if matches(name, "LEVels") {
            self.read(instrument)?;
            let samples = self.block.samples();
            return Ok(block(&ordered(samples.levels(), samples.width().bytes(), swapped)));
        }
        let samples = self.block.samples();
        if matches(name, "UNKNown") {
            return Ok(block(&ordered(samples.unknown(), samples.width().bytes(), swapped)));
        }
        let input: usize = word[name.len()..].parse().unwrap_or(0);
        if !matches(name, "ANALog") || input >= self.settings.analog.len() {
            return Err(ScpiError::new(-224, "TRACe:CATalog? lists what there is"));
        }
        let (first, every, codes) = samples.analog(input);
        let bytes: Vec<u8> = codes.iter().flat_map(|code| code.to_le_bytes()).collect();
        let mut answer = format!("{first},{every},").into_bytes();
        answer.extend(block(&ordered(&bytes, 2, swapped)));
        Ok(answer)
    }

    /// Fills the block with the samples that come next.
    fn read(&mut self, instrument: &mut dyn Instrument) -> Result<(), ScpiError> {
        let most = self.settings.block;
        self.block.reset(SampleWidth::for_inputs(self.settings.inputs.len()));
        while self.block.len() < most {
            let (next, from) = match self.rest.take() {
                Some(rest) => rest,
                None => {
                    let mut next = SampleBlock::default();
                    match instrument.read(&mut next) {
                        // What was read before comes first; the error comes again with the next read.
                        Err(_) if !self.block.is_empty() => return Ok(()),
                        outcome => outcome.map_err(|e| failed(&e))?,
                    }
                    (next, 0)
                }
            };
            if next.is_empty() {
                return Ok(());
            }
            let end = next.len().min(from + most - self.block.len());
            self.block.append(next.samples().slice(from..end));
            if end < next.len() {
                self.rest = Some((next, end));
            }
        }
        Ok(())
    }
}

/// How many parameters a command takes.
fn parameters(command: Command, query: bool) -> std::ops::RangeInclusive<usize> {
    match (command, query) {
        (Command::TraceData, true) => 1..=1,
        (Command::TracePoints, true) => 0..=1,
        (_, true) => 0..=0,
        (Command::Scan, _) => 1..=64,
        (Command::Qualifier, _) => 0..=128,
        (Command::SourceBytes, _) => 1..=1024,
        (Command::AnalogRange | Command::SourceStart | Command::TracePoints, _) => 2..=2,
        (
            Command::Abort
            | Command::Clear
            | Command::Initiate
            | Command::OperationComplete
            | Command::Preset
            | Command::Reset
            | Command::Wait,
            _,
        ) => 0..=0,
        _ => 1..=1,
    }
}

/// A whole number that is not negative.
fn whole(text: &str, most: u64) -> Result<u64, ScpiError> {
    let value = number(text, &[])?;
    let whole = (value.denominator() == 1).then(|| u64::try_from(value.numerator()).ok()).flatten();
    whole.filter(|n| *n <= most).ok_or_else(|| match most {
        u64::MAX => ScpiError::new(-222, "a whole number, not negative"),
        most => ScpiError::new(-222, format!("a whole number from 0 to {most}")),
    })
}

/// A number that is not negative, or a fraction as a string.
fn exact(text: &str, units: &[(&str, i32)]) -> Result<Rational, ScpiError> {
    let value = match string(text) {
        Some(fraction) => {
            fraction.parse().map_err(|_| ScpiError::new(-104, "a fraction such as \"1/3000\""))?
        }
        None => number(text, units)?,
    };
    match value >= Rational::ZERO {
        true => Ok(value),
        false => Err(ScpiError::new(-222, "not negative")),
    }
}

fn rate(text: &str) -> Result<Rate, ScpiError> {
    let exact = match string(text) {
        Some(fraction) => {
            fraction.parse().map_err(|_| ScpiError::new(-104, "a fraction such as \"100000000/3\""))?
        }
        None => number(text, &RATE_UNITS)?,
    };
    match exact > Rational::ZERO {
        true => Ok(Rate::from_rational(exact)),
        false => Err(ScpiError::new(-222, "a rate is above zero")),
    }
}

fn inputs(unit: &Unit<'_>) -> Result<Vec<Input>, ScpiError> {
    let mut inputs = Vec::new();
    for parameter in &unit.parameters {
        match string(parameter) {
            Some(name) => inputs.push(Input::Signal(name)),
            None => inputs.extend(channels(parameter)?.into_iter().map(Input::Number)),
        }
    }
    match inputs.len() {
        1..=64 => Ok(inputs),
        _ => Err(ScpiError::new(-222, "from 1 to 64 inputs")),
    }
}

/// Four fields, as IEEE 488.2, 10.14, has it.
fn identity(instrument: &dyn Instrument) -> String {
    let own = instrument.identity();
    let model = own.split([' ', ',']).next().unwrap_or("?").to_string();
    format!("Deep Tap,{model},0,{}", env!("CARGO_PKG_VERSION"))
}

fn progress(status: &Status) -> String {
    let waited = |word: &str, elapsed: Time, seen: &Seen| {
        let unmet: String = seen.unmet.iter().map(|n| format!(",{n}")).collect();
        format!("{word},{},{}{unmet}", quoted(&elapsed.to_rational().to_string()), seen.edges)
    };
    match status {
        Status::Waiting { elapsed, seen } => waited("WAIT", *elapsed, seen),
        Status::Over { elapsed, seen } => waited("OVER", *elapsed, seen),
        Status::Recording { done, of } => format!("REC,{done},{of}"),
        Status::Done { samples, trigger } => {
            format!("DONE,{samples},{}", trigger.map_or("-1".to_string(), |t| t.to_string()))
        }
        _ => "IDLE".to_string(),
    }
}

/// Definite length arbitrary block response data (IEEE 488.2, 8.7.9).
fn block(bytes: &[u8]) -> Vec<u8> {
    let length = bytes.len().to_string();
    let mut block = format!("#{}{length}", length.len()).into_bytes();
    block.extend_from_slice(bytes);
    block
}

/// Bytes with the lowest of each word first, as they are, or last.
fn ordered(bytes: &[u8], width: usize, swapped: bool) -> Vec<u8> {
    match swapped {
        true => bytes.to_vec(),
        false => bytes.chunks(width).flat_map(|word| word.iter().rev().copied()).collect(),
    }
}
