//! Why a bus is not read as it was meant: what the signals say against what the setup says.
//!
//! Each [`Finding`] has what was seen, how sure it is, and what to change. Findings come from the edges
//! themselves (how long bits last, where data changes, where the clock rests) and from reading the
//! record a second time with other settings: those under which nothing is wrong any more are named.

mod can;
mod clocked;
mod sight;
mod single;
mod timing;
mod two_wire;
mod uart;

use std::fmt;

use sight::Sight;
pub(crate) use uart::USUAL as USUAL_BIT_RATES;

use crate::capture::Capture;
use crate::decode::{Protocol, SerialBus, UartConfig};
use crate::expect::Expected;
use crate::line::{Level, LineId};
use crate::quantity::{Frequency, Rate, Rational};
use crate::setup::Setup;
use crate::time::Tick;

/// Samples per bit or per clock period from which on decoding has margin.
const ENOUGH_SAMPLES: f64 = 8.0;

/// How sure a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sureness {
    /// The signal shows it.
    Certain,
    /// Another explanation would be unusual.
    Likely,
    /// Others are about as usual.
    Possible,
}

impl fmt::Display for Sureness {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Sureness::Certain => "certain",
            Sureness::Likely => "likely",
            Sureness::Possible => "possible",
        })
    }
}

/// Something about a bus that is not as the setup says, or not as it should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The bus.
    pub bus: String,
    /// A word for it, such as `bit-rate`.
    pub kind: &'static str,
    /// How sure it is.
    pub sureness: Sureness,
    /// Where it is seen, if at one place.
    pub at: Option<Tick>,
    /// What was seen.
    pub what: String,
    /// What to change.
    pub remedy: String,
}

/// Looks for what is wrong with all serial buses of a setup, in a record of it.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::decode::{Protocol, SerialBus, UartConfig};
/// use deep_tap_core::diagnose::{Sureness, diagnose_bus};
/// use deep_tap_core::line::{Level, Line, LineId};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// // Bytes of 0x55 at 10 ticks a bit, with rests between them.
/// let mut line = TraceBuilder::new(Level::High);
/// for byte in 0..20 {
///     for bit in 0..10 {
///         line.push_edge(Tick(300 * byte + 100 + 10 * bit), Level::from(bit % 2 == 1))?;
///     }
/// }
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let capture = Capture::builder(base, 6200).line(Line::named("TX"), line.finish(6200)).build()?;
/// let protocol = Protocol::Uart(UartConfig::new("38.4 kHz".parse()?));
/// let bus = SerialBus::new("console", protocol, [("line", LineId(0))])?;
/// let findings = diagnose_bus(&capture, &bus);
/// assert_eq!((findings[0].kind, findings[0].sureness), ("bit-rate", Sureness::Certain));
/// assert!(findings[0].remedy.contains("100 kHz"));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn diagnose(capture: &Capture, setup: &Setup) -> Vec<Finding> {
    setup.serial.iter().flat_map(|bus| diagnose_bus(capture, bus)).collect()
}

/// Looks for what is wrong with one serial bus, the surest finding first.
pub fn diagnose_bus(capture: &Capture, bus: &SerialBus) -> Vec<Finding> {
    let mut patient = Patient { capture, bus, findings: Vec::new() };
    if bus.lines().iter().all(|line| line.0 < capture.lines().len()) && !patient.silent() {
        match bus.protocol() {
            Protocol::Uart(config) => patient.uart(*config),
            Protocol::I2c(_) => patient.two_wire(),
            Protocol::Spi(config) => patient.spi(*config),
            Protocol::Can(config) => patient.can(*config),
            Protocol::Clocked(config) => patient.clocked(*config),
            Protocol::Jtag(_) => patient.port(),
            Protocol::OneWire => patient.one_wire(),
            Protocol::Pulses(config) => patient.pulses(*config),
            Protocol::Lin(config) => patient.lin(*config),
            Protocol::Parallel(_)
            | Protocol::I2s(_)
            | Protocol::Mdio
            | Protocol::Swd
            | Protocol::Custom(_) => {
                patient.plain();
            }
        }
    }
    patient.findings.sort_by_key(|finding| finding.sureness);
    patient.findings
}

/// A bus under examination.
struct Patient<'a> {
    capture: &'a Capture,
    bus: &'a SerialBus,
    findings: Vec<Finding>,
}

impl Patient<'_> {
    fn find(
        &mut self,
        kind: &'static str,
        sureness: Sureness,
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        self.find_at(None, kind, sureness, what, remedy);
    }

    fn find_at(
        &mut self,
        at: Option<Tick>,
        kind: &'static str,
        sureness: Sureness,
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        let bus = self.bus.name().to_string();
        let (what, remedy) = (what.into(), remedy.into());
        self.findings.push(Finding { bus, kind, sureness, at, what, remedy });
    }

    /// A few faults among many frames without one: not a setting.
    fn rare_faults(&mut self, stated: &Sight) {
        let Some((kind, (_, at))) = stated.faults.iter().max_by_key(|(_, (count, _))| *count) else { return };
        let all = stated.frames;
        let what = match stated.faulty {
            1 => format!("1 of {all} frames has a fault: '{kind}'"),
            faulty => format!("{faulty} of {all} frames have a fault, most of them '{kind}'"),
        };
        let remedy = "look at them with: deep-tap frames FILE --faults; settings are not the cause";
        self.find_at(Some(*at), "faults", Sureness::Certain, what, remedy);
    }

    /// Too many faults, or no frame, and no cause that is known.
    fn unread(&mut self, stated: &Sight, remedy: &str) {
        let what = match stated.frames {
            0 => "no frame is read".to_string(),
            all => format!("{} of {all} frames have a fault", stated.faulty),
        };
        self.find("unread", Sureness::Possible, what, remedy);
    }

    fn line(&self, place: usize) -> LineId {
        self.bus.lines().get(place).copied().unwrap_or(LineId(0))
    }

    fn name(&self, place: usize) -> String {
        self.capture.line(self.line(place)).name.clone()
    }

    fn edges(&self, place: usize) -> u64 {
        self.capture.trace(self.line(place)).edge_count()
    }

    /// Whether a line that the bus cannot do without never changes; then there is nothing else to
    /// find.
    fn silent(&mut self) -> bool {
        let places: &[usize] = match self.bus.protocol() {
            Protocol::I2c(_) => &[0, 1],
            // One of two strobes may well never be used.
            Protocol::Parallel(config) if config.has_both_strobes() && self.edges(1) > 0 => &[],
            _ => &[0],
        };
        let mut silent = false;
        for place in places {
            if self.edges(*place) > 0 {
                continue;
            }
            let level = self.capture.trace(self.line(*place)).level_at(Tick(0));
            let rests = match level {
                Level::High => "high",
                Level::Low => "low",
                Level::Floating => "floating",
                Level::Unknown => "unknown",
            };
            let held =
                level == Level::Low && matches!(self.bus.protocol(), Protocol::I2c(_) | Protocol::OneWire);
            let what = format!("{} never changes: it is {rests} all the time", self.name(*place));
            let remedy = match held {
                true => "look for a missing pull-up, a part that holds the line, or no power; then the lead",
                false => "check that something is sent meanwhile, the lead, and the threshold",
            };
            self.find("silent", Sureness::Certain, what, remedy);
            silent = true;
        }
        silent
    }

    /// Says when bits or clock periods of so many ticks leave the decoder little margin.
    fn samples(&mut self, per_bit: f64, what: &str) {
        // The ticks of an exact record are nobody's samples. What is measured is off by a little.
        if self.capture.base().is_exact() || per_bit >= ENOUGH_SAMPLES * 0.99 {
            return;
        }
        let rate = self.capture.base().rate().to_f64() * ENOUGH_SAMPLES / per_bit;
        let sureness = if per_bit < 4.0 { Sureness::Certain } else { Sureness::Possible };
        let what =
            format!("{per_bit:.1} samples per {what}: edges that are a little early or late are misread");
        self.find("rate", sureness, what, format!("record at {} or more", rounded_rate(rate)));
    }
}

/// A rate in words, rounded up to two digits.
fn rounded_rate(rate: f64) -> Rate {
    let scale = 10f64.powf(rate.max(1.0).log10().floor() - 1.0).max(1.0);
    Rate::from_rational(Rational::from(((rate / scale).ceil() * scale) as i64))
}

/// Measures in a record what the setup leaves open: bit rates that are to be found out, as one of the
/// usual ones if one is close. What cannot be measured stays open, and decoding it says so.
pub fn settle(capture: &Capture, setup: &mut Setup) {
    for bus in &mut setup.serial {
        let line = bus.lines().first().copied().filter(|line| line.0 < capture.lines().len());
        if let (Protocol::Uart(config), Some(line)) = (bus.protocol(), line)
            && config.bit_rate.is_none()
        {
            let bit = timing::bit_length(capture, line, sight::stretch(capture, &[line]));
            let bit_rate = bit.map(|bit| timing::bit_rate(capture, bit, &uart::USUAL));
            let settled = bus.with_protocol(Protocol::Uart(UartConfig { bit_rate, ..*config }));
            if let Ok(settled) = settled {
                *bus = settled;
            }
        }
    }
    for expectation in &mut setup.expectations {
        if let Expected::Payload(payload) = &mut expectation.what
            && let Some(bus) = setup.serial.iter().find(|bus| bus.name() == payload.bus.name())
        {
            payload.bus = bus.clone();
        }
    }
}

/// The bit rate of a line by the length of its bits: one of `usual` if one is close. `None` where its edges are no
/// whole bits apart, or too few.
pub(crate) fn bit_rate_of(capture: &Capture, line: LineId, usual: &[i64]) -> Option<Frequency> {
    let range = sight::stretch(capture, &[line]);
    timing::bit_length(capture, line, range).map(|bit| timing::bit_rate(capture, bit, usual))
}

/// The bit rate of a bus as the signal has it: from the length of its bits, or of its clock periods.
/// `None` where there is too little to tell, and for buses that have none.
pub fn measured_bit_rate(capture: &Capture, bus: &SerialBus) -> Option<Frequency> {
    let line = bus.lines().first().copied().filter(|line| line.0 < capture.lines().len())?;
    let range = sight::stretch(capture, bus.lines());
    match bus.protocol() {
        Protocol::Uart(_) | Protocol::Can(_) | Protocol::Lin(_) => {
            timing::bit_length(capture, line, range).map(|bit| timing::bit_rate(capture, bit, &[]))
        }
        Protocol::I2c(_)
        | Protocol::Spi(_)
        | Protocol::Jtag(_)
        | Protocol::Clocked(_)
        | Protocol::I2s(_)
        | Protocol::Mdio
        | Protocol::Swd => {
            timing::period(capture, line, range).map(|period| timing::bit_rate(capture, period, &[]))
        }
        Protocol::OneWire | Protocol::Pulses(_) | Protocol::Parallel(_) | Protocol::Custom(_) => None,
    }
}
