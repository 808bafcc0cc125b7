//! An instrument that is served somewhere else.

use std::io::{BufRead, ErrorKind as Io, Read};

use deep_tap_core::event::Direction;
use deep_tap_core::instrument::{
    Begins, Capabilities, Configuration, Instrument, Status, Stimulus, Waveform,
};
use deep_tap_core::line::Input;
use deep_tap_core::quantity::{Rational, Time};
use deep_tap_core::scan::{SampleBlock, SampleWidth};
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Result};

use super::message::{quoted, short, split, string};
use super::wire::{LONGEST_ANSWER, LONGEST_BLOCK, Timeouts, Wire};
use super::{PROTOCOL, able};

/// An instrument at the other end of a TCP connection, which speaks the commands of
/// `docs/network.md`.
#[derive(Debug)]
pub struct Remote {
    wire: Wire,
    identity: String,
    able: Capabilities,
    configuration: Option<Configuration>,
    remarks: Vec<String>,
}

impl Remote {
    /// Connects to `host:port`; the port is 5025 when it is left out.
    ///
    /// # Errors
    /// [`ErrorKind::Link`] when nothing answers in time, when something else answers, and when it
    /// speaks another version of the commands.
    pub fn connect(address: &str, timeouts: Timeouts) -> Result<Self> {
        let mut remote = Remote {
            wire: Wire::connect(address, timeouts)?,
            identity: String::new(),
            able: Capabilities::nothing(),
            configuration: None,
            remarks: Vec::new(),
        };
        remote.introduce()?;
        Ok(remote)
    }

    /// Finds out whom it talks to.
    fn introduce(&mut self) -> Result<()> {
        let other = |what: String| {
            Error::new(ErrorKind::Link, what)
                .with_help("check host and port; an instrument here speaks IEEE 488.2 and the commands of docs/network.md")
        };
        self.wire.send("*CLS;*IDN?").map_err(|error| self.at_first(&error))?;
        let told = self.wire.line().map_err(|error| self.at_first(&error))?;
        if told.starts_with("-203") {
            let what = format!("{} serves as many clients as it can", self.wire.host);
            return Err(Error::new(ErrorKind::Link, what).with_help("wait until one of them has gone"));
        }
        if split(&told, ',').len() != 4 {
            return Err(other(format!(
                "something else than an instrument answers at {}: '{}'",
                self.wire.host,
                short(&told)
            )));
        }
        let version = self.wire.ask("INSTrument:PROTocol?");
        match version.as_deref().map(str::parse::<u32>) {
            Ok(Ok(PROTOCOL)) => {}
            Ok(Ok(version)) => {
                let what = format!(
                    "'{}' speaks version {version} of the commands, this program version {PROTOCOL}",
                    short(&told)
                );
                let help = "use a deep-tap of the same age on both sides";
                return Err(Error::new(ErrorKind::Link, what).with_help(help));
            }
            _ => {
                return Err(other(format!("'{}' answers, which does not know these commands", short(&told))));
            }
        }
        self.wire.command("*RST")?;
        self.wire.send("INSTrument:CAPabilities?")?;
        let json = self.wire.block(LONGEST_ANSWER)?;
        self.wire.end()?;
        self.able = able::from_json(&json)?;
        let description = self.wire.ask("INSTrument:DESCription?")?;
        self.identity = string(&description).unwrap_or(description);
        Ok(())
    }

    /// What a silent or strange other side means before anything was said.
    fn at_first(&self, error: &Error) -> Error {
        let what =
            format!("{} takes the connection, but nothing there answers as an instrument", self.wire.host);
        Error::new(ErrorKind::Link, format!("{what}: {}", error.message()))
            .with_help("check host and port; another program may listen there")
    }

    /// The levels of the next samples. When the connection drops in the middle of a block, the
    /// samples that arrived whole count, and the error comes next time.
    fn levels(&mut self, width: SampleWidth) -> Result<Vec<u8>> {
        self.wire.send("TRACe:DATA? LEVels;:SYSTem:ERRor?")?;
        let first = self.wire.byte()?;
        if first != b'#' {
            let rest = self.wire.line()?;
            let whole = format!("{}{rest}", char::from(first));
            return Err(self.wire.judge(&whole).err().unwrap_or_else(|| self.wire.strange(&whole)));
        }
        let length = self.wire.length(LONGEST_BLOCK)?;
        let mut bytes = Vec::new();
        match (&mut self.wire.reader).take(length).read_to_end(&mut bytes) {
            Ok(_) if bytes.len() as u64 == length => {
                let rest = self.wire.line()?;
                self.wire.judge(rest.trim_start_matches(';'))?;
            }
            outcome => {
                bytes.truncate(bytes.len() - bytes.len() % width.bytes());
                self.wire.arrived += (bytes.len() / width.bytes()) as u64;
                let error = outcome.err().unwrap_or_else(|| Io::UnexpectedEof.into());
                let broke = self.wire.broke(&error);
                self.wire.arrived -= (bytes.len() / width.bytes()) as u64;
                if bytes.is_empty() {
                    return Err(broke);
                }
            }
        }
        Ok(bytes)
    }

    fn refresh_remarks(&mut self) -> Result<()> {
        let told = self.wire.ask("SYSTem:REMarks?")?;
        let texts = split(&told, ',').into_iter().filter_map(|text| string(text.trim()));
        self.remarks = texts.filter(|text| !text.is_empty()).collect();
        Ok(())
    }
}

/// A trigger's source, slope and levels as commands.
fn trigger_commands(configuration: &Configuration) -> String {
    let number = |place: usize| match configuration.inputs.get(place).map(|input| &input.input) {
        Some(Input::Number(number)) => *number,
        _ => place as u32,
    };
    let Some(trigger) = &configuration.trigger else { return "TRIGger:SOURce IMMediate".to_string() };
    let slope = match trigger.direction {
        Direction::Rises => "POSitive",
        Direction::Falls => "NEGative",
        Direction::Changes => "EITHer",
    };
    let levels = trigger.levels.iter().map(|(input, high)| format!("{},{}", number(*input), u8::from(*high)));
    let levels: Vec<String> = levels.collect();
    format!("TRIGger:SOURce INTernal{};SLOPe {slope};QUALifier {}", number(trigger.input), levels.join(","))
}

/// A stimulus as commands; exact numbers as fractions.
fn stimulus_commands(number: usize, stimulus: &Stimulus) -> String {
    let exact = |value: Rational| quoted(&value.to_string());
    let (word, delay) = match stimulus.begins {
        Begins::AfterArming(delay) => ("ARM", delay),
        Begins::AfterTrigger(delay) => ("TRIGger", delay),
    };
    let signal = match &stimulus.signal {
        Waveform::Pulses { frequency, duty, length } => format!(
            "FUNCtion PULSe;FREQuency {};LENGth {};PULSe:DCYCle {}",
            exact(frequency.to_rational()),
            exact(length.map_or(Rational::ZERO, Time::to_rational)),
            exact(duty.to_fraction())
        ),
        Waveform::Bytes { bytes, bit_rate } => {
            let bytes: Vec<String> = bytes.iter().map(ToString::to_string).collect();
            let data = if bytes.is_empty() { String::new() } else { format!("DATA {};", bytes.join(",")) };
            format!("{data}FUNCtion DATA;FREQuency {}", exact(bit_rate.to_rational()))
        }
        _ => "FUNCtion NONE".to_string(),
    };
    let start = exact(delay.to_rational());
    format!("SOURce{number}:OUTPut {};STARt {word},{start};{signal}", stimulus.output)
}

impl Instrument for Remote {
    fn identity(&self) -> String {
        self.identity.clone()
    }

    fn capabilities(&self) -> Capabilities {
        self.able.clone()
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        let numbers = configuration.inputs.iter().map(|input| match &input.input {
            Input::Number(number) => Ok(number.to_string()),
            Input::Signal(name) => Err(quoted(name)),
        });
        let scan = match numbers.clone().collect::<std::result::Result<Vec<_>, _>>() {
            Ok(numbers) => format!("(@{})", numbers.join(",")),
            Err(_) => numbers.map(|n| n.unwrap_or_else(|name| name)).collect::<Vec<_>>().join(","),
        };
        self.wire.command(&format!("*RST;:ROUTe:SCAN {scan}"))?;
        for input in &configuration.inputs {
            if let (Input::Number(number), Some(threshold)) = (&input.input, input.threshold) {
                self.wire.command(&format!("INPut{number}:THReshold {}", threshold.voltage().to_f64()))?;
            }
        }
        if !configuration.analog.is_empty() {
            let inputs: Vec<String> = configuration.analog.iter().map(|a| a.input.to_string()).collect();
            let every = configuration.analog_every;
            self.wire.command(&format!("SENSe:ANALog:SCAN (@{});EVERy {every}", inputs.join(",")))?;
            for analog in &configuration.analog {
                let (low, high) = (analog.range.low.to_f64(), analog.range.high.to_f64());
                self.wire.command(&format!("SENSe:ANALog:RANGe{} {low},{high}", analog.input))?;
            }
        }
        let rate = quoted(&configuration.rate.to_rational().to_string());
        let (points, before) = (configuration.samples, configuration.before);
        let stream = u8::from(configuration.stream);
        self.wire.command(&format!(
            "SENSe:SWEep:RATE {rate};POINts {points};OREFerence:POINts {before};:SENSe:SWEep:STReam {stream}"
        ))?;
        self.wire.command(&trigger_commands(configuration))?;
        for (number, stimulus) in configuration.stimuli.iter().enumerate() {
            self.wire.command(&stimulus_commands(number, stimulus))?;
        }
        self.configuration = Some(configuration.clone());
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        if self.configuration.is_none() {
            return Err(Error::new(ErrorKind::Instrument, "the instrument is armed before it is configured"));
        }
        (self.wire.arrived, self.remarks) = (0, Vec::new());
        self.wire.command("INITiate")
    }

    fn status(&mut self) -> Result<Status> {
        if self.wire.broken.is_some() && self.wire.arrived > 0 {
            // What has arrived can still be told; `read` says what happened.
            return Ok(Status::Done { samples: self.wire.arrived, trigger: None });
        }
        let answer = self.wire.ask("SENSe:SWEep:PROGress?")?;
        let parts = split(&answer, ',');
        let number = |place: usize| parts.get(place).and_then(|part| part.trim().parse::<i64>().ok());
        let count = |place: usize| parts.get(place).and_then(|part| part.trim().parse::<u64>().ok());
        let status = match parts.first().copied().unwrap_or("") {
            "IDLE" => Some(Status::Idle),
            "REC" => count(1).zip(count(2)).map(|(done, of)| Status::Recording { done, of }),
            "DONE" => {
                self.refresh_remarks()?;
                count(1)
                    .zip(number(2))
                    .map(|(samples, trigger)| Status::Done { samples, trigger: u64::try_from(trigger).ok() })
            }
            word @ ("WAIT" | "OVER") => {
                let elapsed =
                    parts.get(1).and_then(|text| string(text)).and_then(|t| t.parse::<Rational>().ok());
                let unmet = (3..parts.len()).filter_map(count).collect();
                elapsed.map(Time::from_rational).zip(count(2)).map(|(elapsed, edges)| {
                    let seen = Seen { edges, unmet };
                    if word == "OVER" {
                        Status::Over { elapsed, seen }
                    } else {
                        Status::Waiting { elapsed, seen }
                    }
                })
            }
            _ => None,
        };
        status.ok_or_else(|| self.wire.strange(&answer))
    }

    fn stop(&mut self) -> Result<()> {
        self.wire.command("ABORt")?;
        self.refresh_remarks()
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        let configuration = self.configuration.as_ref();
        let inputs = configuration.map_or(0, |c| c.inputs.len());
        let analog = configuration.map_or(0, |c| c.analog.len());
        let width = SampleWidth::for_inputs(inputs);
        block.reset(width);
        let levels = self.levels(width)?;
        let count = (levels.len() / width.bytes()) as u64;
        if count == 0 {
            return Ok(());
        }
        if self.wire.broken.is_some() {
            // The last that arrived.
            block.push_bytes(&levels);
            self.wire.arrived += count;
            return Ok(());
        }
        self.wire.send("TRACe:DATA? UNKNown")?;
        let unknown = self.wire.block(LONGEST_BLOCK)?;
        self.wire.end()?;
        match unknown.len() {
            0 => block.push_bytes(&levels),
            len if len == levels.len() => {
                for (levels, unknown) in levels.chunks(width.bytes()).zip(unknown.chunks(width.bytes())) {
                    block.push(word(levels), word(unknown));
                }
            }
            _ => return Err(self.wire.strange("samples and unknown levels of different length")),
        }
        for input in 0..analog {
            self.wire.send(&format!("TRACe:DATA? ANALog{input}"))?;
            let mut lead = Vec::new();
            for _ in 0..2 {
                let read = (&mut self.wire.reader).take(32).read_until(b',', &mut lead);
                read.map_err(|error| self.wire.broke(&error))?;
            }
            let lead = String::from_utf8_lossy(&lead).into_owned();
            let mut numbers = lead.split(',').filter_map(|n| n.trim().parse::<u64>().ok());
            let (Some(first), Some(every)) = (numbers.next(), numbers.next()) else {
                return Err(self.wire.strange(&lead));
            };
            let bytes = self.wire.block(LONGEST_BLOCK)?;
            self.wire.end()?;
            if input == 0 && !bytes.is_empty() {
                block.start_analog(analog, first, every);
            }
            let codes: Vec<i16> = bytes.chunks_exact(2).map(|b| i16::from_le_bytes([b[0], b[1]])).collect();
            block.push_analog(input, &codes);
        }
        self.wire.arrived += count;
        Ok(())
    }

    fn remarks(&self) -> Vec<String> {
        self.remarks.clone()
    }
}

fn word(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte))
}
