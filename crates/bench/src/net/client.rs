//! An instrument that is served somewhere else.

use std::io::{BufRead, BufReader, ErrorKind as Io, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::time::Duration;

use deep_tap_core::event::Direction;
use deep_tap_core::instrument::{Begins, Capabilities, Configuration, Instrument, Signal, Status, Stimulus};
use deep_tap_core::line::Input;
use deep_tap_core::scan::{SampleBlock, SampleWidth};
use deep_tap_core::time::{Rational, Time};
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Result};

use super::message::{quoted, short, split, string};
use super::{HELP, PORT, PROTOCOL, able};

/// How long a client waits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Timeouts {
    /// For a connection.
    pub connect: Duration,
    /// For the next bytes of an answer.
    pub answer: Duration,
}

impl Default for Timeouts {
    /// 3 s and 10 s.
    fn default() -> Self {
        Timeouts { connect: Duration::from_secs(3), answer: Duration::from_secs(10) }
    }
}

/// Longest answer that is not a block, and longest block, that is believed.
const LONGEST_ANSWER: u64 = 1 << 20;
const LONGEST_BLOCK: u64 = 1 << 28;

/// An instrument at the other end of a TCP connection, which speaks the commands of
/// `docs/network.md`.
#[derive(Debug)]
pub struct Remote {
    reader: BufReader<TcpStream>,
    host: String,
    timeouts: Timeouts,
    identity: String,
    able: Capabilities,
    configuration: Option<Configuration>,
    remarks: Vec<String>,
    /// Samples that have arrived since it was armed.
    arrived: u64,
    /// What broke the connection, once it did.
    broken: Option<(String, String)>,
}

impl Remote {
    /// Connects to `host:port`; the port is 5025 when it is left out.
    ///
    /// # Errors
    /// [`ErrorKind::Link`] when nothing answers in time, when something else answers, and when it
    /// speaks another version of the commands.
    pub fn connect(address: &str, timeouts: Timeouts) -> Result<Self> {
        let host = match address.rsplit_once(':') {
            Some((_, port)) if port.parse::<u16>().is_ok() && !address.ends_with(']') => address.to_string(),
            _ => format!("{address}:{PORT}"),
        };
        let link = |message: String, help: &str| Error::new(ErrorKind::Link, message).with_help(help);
        let found = host.to_socket_addrs().map_err(|error| {
            link(format!("there is no host '{address}': {error}"), "write tcp://HOST or tcp://HOST:PORT")
        })?;
        let mut refused = None;
        let stream =
            found.into_iter().find_map(|at| match TcpStream::connect_timeout(&at, timeouts.connect) {
                Ok(stream) => Some(stream),
                Err(error) => {
                    refused = Some(error);
                    None
                }
            });
        let Some(stream) = stream else {
            let why = match refused {
                Some(error) if matches!(error.kind(), Io::TimedOut | Io::WouldBlock) => {
                    format!("no answer within {:?}", timeouts.connect)
                }
                Some(error) => error.to_string(),
                None => "it has no address".to_string(),
            };
            let help = "is it switched on and served (deep-tap serve)? check host, port and firewall";
            return Err(link(format!("cannot connect to {host}: {why}"), help));
        };
        let set = stream.set_read_timeout(Some(timeouts.answer));
        let set = set.and_then(|()| stream.set_write_timeout(Some(timeouts.answer)));
        let set = set.and_then(|()| stream.set_nodelay(true));
        set.map_err(|error| link(format!("cannot use the connection to {host}: {error}"), "try again"))?;
        let mut remote = Remote {
            reader: BufReader::new(stream),
            host,
            timeouts,
            identity: String::new(),
            able: Capabilities::nothing(),
            configuration: None,
            remarks: Vec::new(),
            arrived: 0,
            broken: None,
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
        self.send("*CLS;*IDN?").map_err(|error| self.at_first(&error))?;
        let told = self.line().map_err(|error| self.at_first(&error))?;
        if told.starts_with("-203") {
            let what = format!("{} serves as many clients as it can", self.host);
            return Err(Error::new(ErrorKind::Link, what).with_help("wait until one of them has gone"));
        }
        if split(&told, ',').len() != 4 {
            return Err(other(format!(
                "something else than an instrument answers at {}: '{}'",
                self.host,
                short(&told)
            )));
        }
        let version = self.ask("INSTrument:PROTocol?");
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
        self.command("*RST")?;
        self.send("INSTrument:CAPabilities?")?;
        let json = self.block(LONGEST_ANSWER)?;
        self.end()?;
        self.able = able::from_json(&json)?;
        let description = self.ask("INSTrument:DESCription?")?;
        self.identity = string(&description).unwrap_or(description);
        Ok(())
    }

    /// What a silent or strange other side means before anything was said.
    fn at_first(&self, error: &Error) -> Error {
        let what = format!("{} takes the connection, but nothing there answers as an instrument", self.host);
        Error::new(ErrorKind::Link, format!("{what}: {}", error.message()))
            .with_help("check host and port; another program may listen there")
    }

    /// The connection cannot be used any more.
    fn broke(&mut self, error: &std::io::Error) -> Error {
        let timed_out = matches!(error.kind(), Io::WouldBlock | Io::TimedOut);
        let arrived = match self.arrived {
            0 => String::new(),
            samples => format!("; {samples} samples had arrived"),
        };
        let (what, help) = match timed_out {
            true => (
                format!("{} does not answer within {:?}{arrived}", self.host, self.timeouts.answer),
                "is it still running? connect again".to_string(),
            ),
            false => (
                format!("the connection to {} dropped{arrived}", self.host),
                "check the network and that it is still running, and record again".to_string(),
            ),
        };
        self.broken = Some((what.clone(), help.clone()));
        Error::new(ErrorKind::Link, what).with_help(help)
    }

    fn send(&mut self, message: &str) -> Result<()> {
        if let Some((what, help)) = &self.broken {
            return Err(Error::new(ErrorKind::Link, what.clone()).with_help(help.clone()));
        }
        let line = format!("{message}\n");
        self.reader.get_mut().write_all(line.as_bytes()).map_err(|error| self.broke(&error))
    }

    /// The rest of an answer, up to its line feed.
    fn line(&mut self) -> Result<String> {
        let mut line = Vec::new();
        let read = (&mut self.reader).take(LONGEST_ANSWER).read_until(b'\n', &mut line);
        match read {
            Ok(_) if line.ends_with(b"\n") => {
                line.pop();
                Ok(String::from_utf8_lossy(&line).trim_end_matches('\r').to_string())
            }
            Ok(_) => Err(self.broke(&Io::UnexpectedEof.into())),
            Err(error) => Err(self.broke(&error)),
        }
    }

    /// Sends a query; its answer, or the error that it led to.
    fn ask(&mut self, query: &str) -> Result<String> {
        self.send(&format!("{query};:SYSTem:ERRor?"))?;
        let line = self.line()?;
        let parts = split(&line, ';');
        match parts.split_last() {
            Some((error, answer)) => {
                self.judge(error)?;
                Ok(answer.join(";"))
            }
            None => Err(self.strange(&line)),
        }
    }

    /// Sends a command, and the error that it led to.
    fn command(&mut self, command: &str) -> Result<()> {
        self.ask(command).map(drop)
    }

    /// What an answer to `SYSTem:ERRor?` says.
    fn judge(&self, error: &str) -> Result<()> {
        let Some((number, words)) = error.split_once(',') else { return Err(self.strange(error)) };
        let number: i32 = number.trim().parse().map_err(|_| self.strange(error))?;
        if number == 0 {
            return Ok(());
        }
        let words = string(words.trim()).unwrap_or_else(|| words.to_string());
        let detail = words.split_once(';').map_or(words.as_str(), |(_, detail)| detail);
        let (message, help) = detail.split_once(HELP).unwrap_or((detail, ""));
        let help = match (help, number) {
            ("", -203) => "another client is recording with it: wait until it has gone",
            ("", _) => "docs/network.md lists the commands",
            (help, _) => help,
        };
        let message =
            if number == -203 { format!("{} is {message}", self.host) } else { message.to_string() };
        Err(Error::new(ErrorKind::Instrument, message).with_help(help))
    }

    fn strange(&self, answer: &str) -> Error {
        Error::new(
            ErrorKind::Link,
            format!("{} answers '{}', which is not understood", self.host, short(answer)),
        )
        .with_help("use a deep-tap of the same age on both sides")
    }

    fn byte(&mut self) -> Result<u8> {
        let mut byte = [0];
        self.reader.read_exact(&mut byte).map_err(|error| self.broke(&error))?;
        Ok(byte[0])
    }

    /// The length of a definite length block, whose first character has been read.
    fn length(&mut self, most: u64) -> Result<u64> {
        let digits = self.byte()?;
        let mut length = 0u64;
        for _ in 0..digits.saturating_sub(b'0').min(9) {
            match self.byte()? {
                digit @ b'0'..=b'9' => length = length * 10 + u64::from(digit - b'0'),
                _ => return Err(self.strange("#")),
            }
        }
        if !(b'1'..=b'9').contains(&digits) || length > most {
            return Err(self.strange(&format!("a block of {length} bytes")));
        }
        Ok(length)
    }

    /// A whole block.
    fn block(&mut self, most: u64) -> Result<Vec<u8>> {
        match self.byte()? {
            b'#' => {
                let length = self.length(most)?;
                let mut bytes = Vec::new();
                let read = (&mut self.reader).take(length).read_to_end(&mut bytes);
                match read {
                    Ok(_) if bytes.len() as u64 == length => Ok(bytes),
                    Ok(_) => Err(self.broke(&Io::UnexpectedEof.into())),
                    Err(error) => Err(self.broke(&error)),
                }
            }
            // An error and no block.
            first => {
                let rest = self.line()?;
                let whole = format!("{}{rest}", char::from(first));
                Err(self.judge(&whole).err().unwrap_or_else(|| self.strange(&whole)))
            }
        }
    }

    /// The end of an answer.
    fn end(&mut self) -> Result<()> {
        match self.line()?.as_str() {
            "" => Ok(()),
            more => Err(self.strange(more)),
        }
    }

    /// The levels of the next samples. When the connection drops in the middle of a block, the
    /// samples that arrived whole count, and the error comes next time.
    fn levels(&mut self, width: SampleWidth) -> Result<Vec<u8>> {
        self.send("TRACe:DATA? LEVels;:SYSTem:ERRor?")?;
        let first = self.byte()?;
        if first != b'#' {
            let rest = self.line()?;
            let whole = format!("{}{rest}", char::from(first));
            return Err(self.judge(&whole).err().unwrap_or_else(|| self.strange(&whole)));
        }
        let length = self.length(LONGEST_BLOCK)?;
        let mut bytes = Vec::new();
        match (&mut self.reader).take(length).read_to_end(&mut bytes) {
            Ok(_) if bytes.len() as u64 == length => {
                let rest = self.line()?;
                self.judge(rest.trim_start_matches(';'))?;
            }
            outcome => {
                bytes.truncate(bytes.len() - bytes.len() % width.bytes());
                self.arrived += (bytes.len() / width.bytes()) as u64;
                let error = outcome.err().unwrap_or_else(|| Io::UnexpectedEof.into());
                let broke = self.broke(&error);
                self.arrived -= (bytes.len() / width.bytes()) as u64;
                if bytes.is_empty() {
                    return Err(broke);
                }
            }
        }
        Ok(bytes)
    }

    fn refresh_remarks(&mut self) -> Result<()> {
        let told = self.ask("SYSTem:REMarks?")?;
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
        Signal::Pulses { frequency, duty, length } => format!(
            "FUNCtion PULSe;FREQuency {};LENGth {};PULSe:DCYCle {}",
            exact(frequency.to_rational()),
            exact(length.map_or(Rational::ZERO, Time::to_rational)),
            exact(duty.to_fraction())
        ),
        Signal::Bytes { bytes, bit_rate } => {
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
        self.command(&format!("*RST;:ROUTe:SCAN {scan}"))?;
        for input in &configuration.inputs {
            if let (Input::Number(number), Some(threshold)) = (&input.input, input.threshold) {
                self.command(&format!("INPut{number}:THReshold {}", threshold.voltage().to_f64()))?;
            }
        }
        if !configuration.analog.is_empty() {
            let inputs: Vec<String> = configuration.analog.iter().map(|a| a.input.to_string()).collect();
            let every = configuration.analog_every;
            self.command(&format!("SENSe:ANALog:SCAN (@{});EVERy {every}", inputs.join(",")))?;
            for analog in &configuration.analog {
                let (low, high) = (analog.range.low.to_f64(), analog.range.high.to_f64());
                self.command(&format!("SENSe:ANALog:RANGe{} {low},{high}", analog.input))?;
            }
        }
        let rate = quoted(&configuration.rate.to_rational().to_string());
        let (points, before) = (configuration.samples, configuration.before);
        let stream = u8::from(configuration.stream);
        self.command(&format!(
            "SENSe:SWEep:RATE {rate};POINts {points};OREFerence:POINts {before};:SENSe:SWEep:STReam {stream}"
        ))?;
        self.command(&trigger_commands(configuration))?;
        for (number, stimulus) in configuration.stimuli.iter().enumerate() {
            self.command(&stimulus_commands(number, stimulus))?;
        }
        self.configuration = Some(configuration.clone());
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        if self.configuration.is_none() {
            return Err(Error::new(ErrorKind::Instrument, "the instrument is armed before it is configured"));
        }
        (self.arrived, self.remarks) = (0, Vec::new());
        self.command("INITiate")
    }

    fn status(&mut self) -> Result<Status> {
        if self.broken.is_some() && self.arrived > 0 {
            // What has arrived can still be told; `read` says what happened.
            return Ok(Status::Done { samples: self.arrived, trigger: None });
        }
        let answer = self.ask("SENSe:SWEep:PROGress?")?;
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
        status.ok_or_else(|| self.strange(&answer))
    }

    fn stop(&mut self) -> Result<()> {
        self.command("ABORt")?;
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
        if self.broken.is_some() {
            // The last that arrived.
            block.push_bytes(&levels);
            self.arrived += count;
            return Ok(());
        }
        self.send("TRACe:DATA? UNKNown")?;
        let unknown = self.block(LONGEST_BLOCK)?;
        self.end()?;
        match unknown.len() {
            0 => block.push_bytes(&levels),
            len if len == levels.len() => {
                for (levels, unknown) in levels.chunks(width.bytes()).zip(unknown.chunks(width.bytes())) {
                    block.push(word(levels), word(unknown));
                }
            }
            _ => return Err(self.strange("samples and unknown levels of different length")),
        }
        for input in 0..analog {
            self.send(&format!("TRACe:DATA? ANALog{input}"))?;
            let mut lead = Vec::new();
            for _ in 0..2 {
                let read = (&mut self.reader).take(32).read_until(b',', &mut lead);
                read.map_err(|error| self.broke(&error))?;
            }
            let lead = String::from_utf8_lossy(&lead).into_owned();
            let mut numbers = lead.split(',').filter_map(|n| n.trim().parse::<u64>().ok());
            let (Some(first), Some(every)) = (numbers.next(), numbers.next()) else {
                return Err(self.strange(&lead));
            };
            let bytes = self.block(LONGEST_BLOCK)?;
            self.end()?;
            if input == 0 && !bytes.is_empty() {
                block.start_analog(analog, first, every);
            }
            let codes: Vec<i16> = bytes.chunks_exact(2).map(|b| i16::from_le_bytes([b[0], b[1]])).collect();
            block.push_analog(input, &codes);
        }
        self.arrived += count;
        Ok(())
    }

    fn remarks(&self) -> Vec<String> {
        self.remarks.clone()
    }
}

fn word(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte))
}
