//! What one client says, and what the instrument answers.

use std::collections::VecDeque;

use deep_tap_core::instrument::{Instrument, Status};
use deep_tap_core::quantity::Time;
use deep_tap_core::scan::{SampleBlock, SampleWidth};
use deep_tap_core::trigger::Seen;

use super::commands::{Command, Group, find};
use super::message::{ScpiError, Unit, matches, quoted, short, units};
use super::settings::{Settings, whole};
use super::{HELP, PROTOCOL, able};

/// Most errors that are kept (IEEE 488.2 asks for at least two).
const MOST_ERRORS: usize = 32;
/// Bits of the operation register (SCPI-1999, volume 1, 9.3).
const RECORDING: u16 = 1 << 3;
const WAITING: u16 = 1 << 5;
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
            Command::Enable(Group::Operation) => self.operation.1 = whole(text(0), 0x7fff)? as u16,
            Command::Enable(Group::Questionable) => self.questionable_enable = whole(text(0), 0x7fff)? as u16,
            Command::Preset => (self.operation.1, self.questionable_enable) = (0, 0),
            other => self.settings.set(other, suffix, unit, instrument)?,
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
            Command::Capabilities => {
                return Ok(Some(block(able::to_json(&instrument.capabilities()).as_bytes())));
            }
            Command::Description => quoted(&instrument.identity()),
            Command::Protocol => PROTOCOL.to_string(),
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
            Command::ErrorAll if self.errors.is_empty() => ScpiError::new(0, "").to_string(),
            Command::ErrorAll => {
                let all: Vec<String> = self.errors.drain(..).map(|error| error.to_string()).collect();
                all.join(",")
            }
            Command::ErrorNext => self.errors.pop_front().unwrap_or(ScpiError::new(0, "")).to_string(),
            Command::Remarks => {
                let remarks: Vec<String> = instrument.remarks().iter().map(|remark| quoted(remark)).collect();
                if remarks.is_empty() { "\"\"".to_string() } else { remarks.join(",") }
            }
            Command::Points | Command::PreTrigger | Command::Rate | Command::Interval
                if let Some(end) = unit.parameters.first() =>
            {
                self.settings.ask_end(command, end.as_ref(), instrument)?
            }
            Command::Version => "1999.0".to_string(),
            Command::TraceData => return self.trace(unit, instrument).map(Some),
            // Only set.
            Command::Abort
            | Command::Clear
            | Command::Initiate
            | Command::Preset
            | Command::Reset
            | Command::Wait => {
                return Err(ScpiError::new(-113, "this cannot be asked for"));
            }
            other => self.settings.ask(other, suffix)?,
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
        (
            Command::TracePoints | Command::Points | Command::PreTrigger | Command::Rate | Command::Interval,
            true,
        ) => 0..=1,
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
