//! What a client has set: what will be recorded, and what will be sent out meanwhile.

use deep_tap_core::event::Direction;
use deep_tap_core::instrument::{
    Begins, Configuration, ConfiguredAnalog, ConfiguredInput, Instrument, Stimulus, Waveform,
};
use deep_tap_core::line::{Input, Threshold, VoltageRange};
use deep_tap_core::quantity::{Frequency, Percent, Rate, Rational, Time, Voltage};
use deep_tap_core::scan::SampleWidth;
use deep_tap_core::trigger::QualifiedEdge;

use super::commands::Command;
use super::message::{ScpiError, Unit, channels, matches, number, quoted, string};

/// Samples in one block, at power-on and at the most.
const BLOCK: usize = 1 << 16;
const MOST_BLOCK: usize = 1 << 22;
const TIME_UNITS: [(&str, i32); 5] = [("S", 0), ("MS", -3), ("US", -6), ("NS", -9), ("PS", -12)];
const VOLT_UNITS: [(&str, i32); 3] = [("V", 0), ("MV", -3), ("UV", -6)];
const RATE_UNITS: [(&str, i32); 3] = [("HZ", 0), ("KHZ", 3), ("MHZ", 6)];

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
            Function::Pulses => Waveform::Pulses {
                frequency,
                duty: Percent::from_fraction(self.duty),
                length: (!self.length.is_zero()).then(|| Time::from_rational(self.length)),
            },
            Function::Bytes => Waveform::Bytes { bytes: self.bytes.clone(), bit_rate: frequency },
        };
        let start = Time::from_rational(self.start);
        let begins = if self.trigger { Begins::AfterTrigger(start) } else { Begins::AfterArming(start) };
        Some(Stimulus { output: self.output, begins, signal })
    }
}

/// What will be recorded.
#[derive(Clone)]
pub(super) struct Settings {
    pub(super) inputs: Vec<Input>,
    thresholds: Vec<(u32, Voltage)>,
    pub(super) analog: Vec<u32>,
    ranges: Vec<(u32, VoltageRange)>,
    every: u64,
    rate: Rate,
    points: u64,
    before: u64,
    pub(super) stream: bool,
    source: Option<u32>,
    slope: Direction,
    qualifiers: Vec<(u32, bool)>,
    sources: Vec<(u32, Source)>,
    pub(super) swapped: bool,
    pub(super) block: usize,
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

    pub(super) fn power_on(instrument: &dyn Instrument) -> Self {
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

    pub(super) fn configuration(&self) -> Result<Configuration, ScpiError> {
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
        let input = |input: &Input| {
            let mut configured = ConfiguredInput::new(input.clone());
            configured.threshold = threshold(input);
            configured
        };
        let mut wanted = Configuration::new(self.rate, self.points, self.inputs.iter().map(input));
        wanted.before = self.before;
        wanted.analog = analog.collect::<Result<_, ScpiError>>()?;
        wanted.analog_every = if self.analog.is_empty() { 0 } else { self.every };
        wanted.stimuli = self.sources.iter().filter_map(|(_, source)| source.stimulus()).collect();
        wanted.trigger = trigger;
        wanted.stream = self.stream;
        Ok(wanted)
    }

    /// Sets what a command is about.
    pub(super) fn set(
        &mut self,
        command: Command,
        suffix: u32,
        unit: &Unit<'_>,
        instrument: &dyn Instrument,
    ) -> Result<(), ScpiError> {
        let text = |place: usize| unit.parameters.get(place).map_or("", |p| p.as_ref());
        let word = |place: usize| text(place).to_ascii_uppercase();
        match command {
            Command::Border => {
                self.swapped = match word(0) {
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
                self.thresholds.retain(|(input, _)| *input != suffix);
                self.thresholds.extend(voltage.map(|voltage| (suffix, voltage)));
            }
            Command::Scan => self.inputs = inputs(unit)?,
            Command::AnalogScan => self.analog = channels(text(0))?,
            Command::AnalogEvery => self.every = whole(text(0), u64::MAX)?.max(1),
            Command::AnalogRange => {
                let volts = |place| number(text(place), &VOLT_UNITS).map(Voltage::from_rational);
                let range = VoltageRange { low: volts(0)?, high: volts(1)? };
                self.ranges.retain(|(input, _)| *input != suffix);
                self.ranges.push((suffix, range));
            }
            Command::PreTrigger | Command::Points | Command::Rate | Command::Interval
                if let Some(end) = End::of(text(0)) =>
            {
                match self.end(command, end, instrument)? {
                    Extreme::Rate(rate) => self.rate = rate,
                    Extreme::Points(points) if command == Command::Points => self.points = points,
                    Extreme::Points(points) => self.before = points,
                }
            }
            Command::PreTrigger => self.before = whole(text(0), u64::MAX)?,
            Command::Points => self.points = whole(text(0), u64::MAX)?,
            Command::Rate => self.rate = rate(text(0))?,
            Command::Interval => self.rate = self.nearest(text(0), instrument)?,
            Command::Stream => {
                self.stream = match word(0).as_str() {
                    "1" | "ON" => true,
                    "0" | "OFF" => false,
                    _ => return Err(ScpiError::new(-224, "0, 1, OFF or ON")),
                };
            }
            Command::TracePoints => {
                if !matches(&word(0), "LEVels") {
                    return Err(ScpiError::new(-224, "only LEVels has a size of its own"));
                }
                let points = whole(text(1), MOST_BLOCK as u64)?;
                self.block = (points as usize).max(1);
            }
            Command::Qualifier => {
                let mut qualifiers = Vec::new();
                for pair in unit.parameters.chunks(2) {
                    let [input, level] = pair else {
                        return Err(ScpiError::new(-109, "a level for each input"));
                    };
                    qualifiers.push((whole(input, 1023)? as u32, whole(level, 1)? == 1));
                }
                self.qualifiers = qualifiers;
            }
            Command::Slope => {
                self.slope = match word(0) {
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
                self.source = match name {
                    name if matches(name, "IMMediate") => None,
                    name if matches(name, "INTernal") => Some(input),
                    _ => return Err(ScpiError::new(-224, "IMMediate or INTernal<n>")),
                };
            }
            Command::SourceOutput => self.source(suffix)?.output = whole(text(0), 63)? as u32,
            Command::SourceFunction => {
                self.source(suffix)?.function = match word(0) {
                    word if matches(&word, "NONE") => Function::None,
                    word if matches(&word, "PULSe") => Function::Pulses,
                    word if matches(&word, "DATA") => Function::Bytes,
                    _ => return Err(ScpiError::new(-224, "NONE, PULSe or DATA")),
                };
            }
            Command::SourceBytes => {
                let bytes = unit.parameters.iter().map(|byte| Ok(whole(byte, 255)? as u8));
                self.source(suffix)?.bytes = bytes.collect::<Result<_, ScpiError>>()?;
            }
            Command::SourceFrequency => {
                self.source(suffix)?.frequency = rate(text(0))?.to_rational();
            }
            Command::SourceDuty => {
                let percent = |percent: Rational| percent.checked_div(Rational::from(100));
                let duty = match string(text(0)) {
                    Some(_) => Some(exact(text(0), &[])?),
                    None => percent(number(text(0), &[("PCT", 0)])?),
                };
                let inside = duty.filter(|duty| (Rational::ZERO..=Rational::ONE).contains(duty));
                self.source(suffix)?.duty = inside.ok_or_else(|| ScpiError::new(-222, "0 to 100 percent"))?;
            }
            Command::SourceLength => self.source(suffix)?.length = exact(text(0), &TIME_UNITS)?,
            Command::SourceStart => {
                let trigger = match word(0) {
                    word if matches(&word, "ARM") => false,
                    word if matches(&word, "TRIGger") => true,
                    _ => return Err(ScpiError::new(-224, "ARM or TRIGger")),
                };
                let start = exact(text(1), &TIME_UNITS)?;
                let source = self.source(suffix)?;
                (source.trigger, source.start) = (trigger, start);
            }
            _ => return Err(ScpiError::new(-113, "this can only be asked for")),
        }
        Ok(())
    }

    /// What a setting is.
    pub(super) fn ask(&mut self, command: Command, suffix: u32) -> Result<String, ScpiError> {
        let list = |inputs: Vec<String>| format!("(@{})", inputs.join(","));
        Ok(match command {
            Command::Border => if self.swapped { "SWAP" } else { "NORM" }.to_string(),
            Command::Format => format!("UINT,{}", SampleWidth::for_inputs(self.inputs.len()).inputs()),
            Command::Threshold => match self.thresholds.iter().find(|(input, _)| *input == suffix) {
                Some((_, voltage)) => voltage.to_f64().to_string(),
                None => "DEF".to_string(),
            },
            Command::Scan => match self.inputs.first() {
                Some(Input::Signal(_)) => {
                    self.inputs.iter().map(|i| quoted(&i.to_string())).collect::<Vec<_>>().join(",")
                }
                _ => list(self.inputs.iter().map(ToString::to_string).collect()),
            },
            Command::AnalogScan => list(self.analog.iter().map(ToString::to_string).collect()),
            Command::AnalogEvery => self.every.to_string(),
            Command::AnalogRange => match self.ranges.iter().find(|(input, _)| *input == suffix) {
                Some((_, range)) => format!("{},{}", range.low.to_f64(), range.high.to_f64()),
                None => return Err(ScpiError::new(-221, "this analog input has no range yet")),
            },
            Command::PreTrigger => self.before.to_string(),
            Command::Points => self.points.to_string(),
            Command::Rate => self.rate.to_f64().to_string(),
            Command::Interval => format!("{:E}", self.rate.period().map_or(0.0, Time::to_f64)),
            Command::Stream => u8::from(self.stream).to_string(),
            Command::TraceCatalog => {
                let analog = (0..self.analog.len()).map(|n| format!(",\"ANAL{n}\""));
                format!("\"LEV\",\"UNKN\"{}", analog.collect::<String>())
            }
            Command::TracePoints => self.block.to_string(),
            Command::Qualifier => {
                let pairs =
                    self.qualifiers.iter().map(|(input, high)| format!("{input},{}", u8::from(*high)));
                let pairs: Vec<String> = pairs.collect();
                if pairs.is_empty() { "\"\"".to_string() } else { pairs.join(",") }
            }
            Command::Slope => match self.slope {
                Direction::Rises => "POS",
                Direction::Falls => "NEG",
                Direction::Changes => "EITH",
            }
            .to_string(),
            Command::Source => self.source.map_or("IMM".to_string(), |input| format!("INT{input}")),
            Command::SourceOutput => self.source(suffix)?.output.to_string(),
            Command::SourceFunction => match self.source(suffix)?.function {
                Function::None => "NONE",
                Function::Pulses => "PULS",
                Function::Bytes => "DATA",
            }
            .to_string(),
            Command::SourceBytes => {
                let bytes: Vec<String> = self.source(suffix)?.bytes.iter().map(ToString::to_string).collect();
                if bytes.is_empty() { "\"\"".to_string() } else { bytes.join(",") }
            }
            Command::SourceFrequency => self.source(suffix)?.frequency.to_f64().to_string(),
            Command::SourceDuty => (self.source(suffix)?.duty.to_f64() * 100.0).to_string(),
            Command::SourceLength => self.source(suffix)?.length.to_f64().to_string(),
            Command::SourceStart => {
                let source = self.source(suffix)?;
                format!("{},{}", if source.trigger { "TRIG" } else { "ARM" }, source.start.to_f64())
            }
            _ => return Err(ScpiError::new(-113, "this cannot be asked for")),
        })
    }

    /// The least or the most that a setting can be, with the others as they are.
    pub(super) fn ask_end(
        &self,
        command: Command,
        text: &str,
        instrument: &dyn Instrument,
    ) -> Result<String, ScpiError> {
        let end = End::of(text).ok_or_else(|| ScpiError::new(-224, "MINimum or MAXimum"))?;
        Ok(match self.end(command, end, instrument)? {
            Extreme::Rate(rate) if command == Command::Interval => {
                format!("{:E}", rate.period().map_or(0.0, Time::to_f64))
            }
            Extreme::Rate(rate) => rate.to_f64().to_string(),
            Extreme::Points(points) => points.to_string(),
        })
    }

    fn end(&self, command: Command, end: End, instrument: &dyn Instrument) -> Result<Extreme, ScpiError> {
        let able = instrument.capabilities();
        let count = self.inputs.len() as u32;
        let none = || ScpiError::new(-221, "there is no such mode with these inputs");
        // The shortest interval is the fastest rate.
        let most = (end == End::Maximum) != (command == Command::Interval);
        match command {
            Command::Rate | Command::Interval => {
                let rates = able.rates_for(count, self.stream);
                let rate = if most { rates.last() } else { rates.first() };
                rate.copied().map(Extreme::Rate).ok_or_else(none)
            }
            Command::Points if most => {
                let mode = able.mode_for(count, self.rate, self.stream).ok_or_else(none)?;
                Ok(Extreme::Points(mode.memory))
            }
            Command::Points => Ok(Extreme::Points(1)),
            _ if most => Ok(Extreme::Points(self.points)),
            _ => Ok(Extreme::Points(0)),
        }
    }

    /// Other rates are wrong by more than a millionth.
    fn nearest(&self, text: &str, instrument: &dyn Instrument) -> Result<Rate, ScpiError> {
        let wanted = number(text, &TIME_UNITS)?;
        let able = instrument.capabilities();
        let count = self.inputs.len() as u32;
        let rates = able.rates_for(count, self.stream);
        let close = |rate: &&Rate| {
            let periods = rate.to_rational().checked_mul(wanted);
            periods.is_some_and(|p| (p.to_f64() - 1.0).abs() < 1e-6)
        };
        rates.iter().find(close).copied().ok_or_else(|| {
            let intervals = rates.iter().filter_map(|rate| rate.period()).map(|t| t.to_string());
            ScpiError::new(-222, format!("it has {}", intervals.collect::<Vec<_>>().join(", ")))
        })
    }
}

/// One end of what a setting can be (SCPI-1999, 7.2.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum End {
    Minimum,
    Maximum,
}

impl End {
    fn of(text: &str) -> Option<Self> {
        let word = text.trim().to_ascii_uppercase();
        match () {
            () if matches(&word, "MINimum") => Some(End::Minimum),
            () if matches(&word, "MAXimum") => Some(End::Maximum),
            () => None,
        }
    }
}

/// What a setting is there.
enum Extreme {
    Rate(Rate),
    Points(u64),
}

/// A whole number that is not negative.
pub(super) fn whole(text: &str, most: u64) -> Result<u64, ScpiError> {
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
