//! Why a bus is not read as it was meant: what the signals say against what the setup says.
//!
//! Each [`Finding`] has what was seen, how sure it is, and what to change. Findings come from the edges
//! themselves (how long bits last, where data changes, where the clock rests) and from reading the
//! record a second time with other settings: those under which nothing is wrong any more are named.

mod bursts;
mod can;
mod clocked;
mod examine;
mod finding;
mod lin;
mod lines;
mod noise;
mod parallel;
mod patient;
mod port;
mod sight;
mod single;
mod spi;
mod timing;
mod two_wire;
mod uart;
mod wiring;

pub use finding::{Finding, Sureness};
use patient::Patient;
pub(crate) use uart::USUAL as USUAL_BIT_RATES;

use crate::capture::Capture;
use crate::decode::{Protocol, SerialBus, UartConfig};
use crate::expect::Expected;
use crate::line::LineId;
use crate::quantity::Frequency;
use crate::setup::Setup;

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
    diagnose_buses(capture, &setup.serial.iter().collect::<Vec<_>>())
}

/// Looks for what is wrong with some buses of a record, the surest finding first; what several of them show for
/// one cause is one finding.
pub fn diagnose_buses(capture: &Capture, buses: &[&SerialBus]) -> Vec<Finding> {
    let mut all: Vec<Finding> = Vec::new();
    for finding in buses.iter().flat_map(|bus| diagnose_bus(capture, bus)) {
        let same = |other: &&mut Finding| {
            (other.kind, &other.what, &other.remedy) == (finding.kind, &finding.what, &finding.remedy)
        };
        match all.iter_mut().find(same) {
            Some(other) => {
                other.sureness = other.sureness.min(finding.sureness);
                other.at = other.at.min(finding.at);
                other.buses.extend(finding.buses);
                other.lines.extend(finding.lines);
            }
            None => all.push(finding),
        }
    }
    all.sort_by_key(|finding| finding.sureness);
    all
}

/// Looks for what is wrong with one serial bus, the surest finding first.
pub fn diagnose_bus(capture: &Capture, bus: &SerialBus) -> Vec<Finding> {
    let mut patient = Patient::new(capture, bus);
    if bus.lines().iter().all(|line| line.0 < capture.lines().len()) {
        patient.examine();
    }
    patient.findings.sort_by_key(|finding| finding.sureness);
    patient.findings
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
    setup.exchanges.iter_mut().for_each(|exchange| *exchange = exchange.clone().with_buses(&setup.serial));
    setup.exchanged = setup.exchanges.iter().filter_map(|exchange| exchange.bus().ok()).collect();
    for expectation in &mut setup.expectations {
        let own = match &mut expectation.what {
            Expected::Messages(messages) => &mut messages.bus,
            Expected::Transfers(exchanges) | Expected::Exchange(exchanges) => {
                exchanges.exchange = exchanges.exchange.clone().with_buses(&setup.serial);
                continue;
            }
            Expected::Follow(follow) => {
                follow.settle(&setup.serial);
                continue;
            }
            Expected::Order(_) => continue,
        };
        if let Some(bus) = setup.serial.iter().find(|bus| bus.name() == own.name()) {
            *own = bus.clone();
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
