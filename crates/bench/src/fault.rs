//! Faults as they are written: a name, and what it needs after colons.

use std::str::FromStr;

use deep_tap_core::line::Level;
use deep_tap_core::quantity::{SampleCount, Time, Voltage};
use deep_tap_core::{Error, ErrorKind, Result, suggest};

use crate::board::{BoardFault, Disturbance, EARLIEST};
use crate::hookup::HookupFault;
use crate::instant::Instant;

/// A fault of any kind.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum AnyFault {
    /// One that the demo board has.
    Board(BoardFault),
    /// One of how the instrument is connected.
    Hookup(HookupFault),
    /// One at a node of any board.
    Node(String, Disturbance),
}

/// The faults that any board can have, with what they need.
const FORMS: [(&str, &str); 15] = [
    ("lead-off", "lead-off:INPUT"),
    ("swapped", "swapped:INPUT:INPUT"),
    ("shifted", "shifted:PINS"),
    ("no-ground", "no-ground"),
    ("noise", "noise:VOLTAGE"),
    ("link-drops", "link-drops:SAMPLES"),
    ("slow-link", "slow-link:BYTES-A-SECOND, such as slow-link:40M"),
    ("stuck", "stuck:NODE:low or stuck:NODE:high"),
    ("hangs", "hangs:NODE:low:TIME or hangs:NODE:high:TIME"),
    ("crosstalk", "crosstalk:FROM:NODE:WIDTH"),
    ("glitch", "glitch:NODE:WIDTH:TIME"),
    ("contention", "contention:NODE:WIDTH:TIME"),
    ("slow-edges", "slow-edges:NODE:TIME-CONSTANT"),
    ("late", "late:NODE:TIME:ONE-IN"),
    ("early", "early:NODE:TIME:ONE-IN, early by 10 ms at the most"),
];

impl FromStr for AnyFault {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let parts: Vec<&str> = text.split(':').map(str::trim).collect();
        let Some((_, form)) = FORMS.iter().find(|(name, _)| *name == parts[0]) else {
            if let Ok(fault) = parts[0].parse::<BoardFault>() {
                return match parts.len() {
                    1 => Ok(AnyFault::Board(fault)),
                    _ => Err(wrong(text, "this fault needs nothing after its name")),
                };
            }
            let names =
                BoardFault::ALL.iter().map(|(_, name)| *name).chain(FORMS.iter().map(|(name, _)| *name));
            let help = suggest(parts[0], names, "fault");
            return Err(Error::new(ErrorKind::Instrument, format!("there is no fault '{}'", parts[0]))
                .with_help(help));
        };
        read(&parts).ok_or_else(|| wrong(text, &format!("write {form}")))
    }
}

fn wrong(text: &str, help: &str) -> Error {
    Error::new(ErrorKind::Instrument, format!("the fault '{text}' is not complete")).with_help(help)
}

fn read(parts: &[&str]) -> Option<AnyFault> {
    let hookup = |fault| Some(AnyFault::Hookup(fault));
    let node = |name: &str, what| Some(AnyFault::Node(name.to_string(), what));
    match parts {
        ["lead-off", input] => hookup(HookupFault::LeadOff(input.parse().ok()?)),
        ["swapped", a, b] => hookup(HookupFault::Swapped(a.parse().ok()?, b.parse().ok()?)),
        ["shifted", pins] => hookup(HookupFault::Shifted(pins.parse().ok()?)),
        ["no-ground"] => hookup(HookupFault::NoGround),
        ["noise", volts] => hookup(HookupFault::Noise(volts.parse::<Voltage>().ok()?.to_f64().abs())),
        ["link-drops", samples] => hookup(HookupFault::LinkDrops(samples.parse::<SampleCount>().ok()?.0)),
        ["slow-link", bytes] => hookup(HookupFault::SlowLink(bytes.parse::<SampleCount>().ok()?.0)),
        ["stuck", name, "low"] => node(name, Disturbance::Stuck(Level::Low)),
        ["stuck", name, "high"] => node(name, Disturbance::Stuck(Level::High)),
        ["hangs", name, level @ ("low" | "high"), at] => {
            node(name, Disturbance::Hangs { level: Level::from(*level == "high"), at: instant(at)? })
        }
        ["crosstalk", from, name, width] => {
            node(name, Disturbance::Crosstalk { from: (*from).to_string(), width: instant(width)? })
        }
        ["glitch", name, width, at] => {
            node(name, Disturbance::Glitch { width: instant(width)?, at: instant(at)? })
        }
        ["contention", name, width, at] => {
            node(name, Disturbance::Contention { width: instant(width)?, at: instant(at)? })
        }
        ["slow-edges", name, time] => node(name, Disturbance::Slow(instant(time)?)),
        ["late", name, by, one_in] => node(
            name,
            Disturbance::Late { by: instant(by)?, one_in: one_in.parse().ok().filter(|n| *n > 0)? },
        ),
        ["early", name, by, one_in] => node(
            name,
            Disturbance::Early {
                by: instant(by).filter(|by| *by <= EARLIEST)?,
                one_in: one_in.parse().ok().filter(|n| *n > 0)?,
            },
        ),
        _ => None,
    }
}

/// A time that is not negative.
fn instant(text: &str) -> Option<Instant> {
    text.parse::<Time>().ok().filter(|time| *time >= Time::ZERO).map(Instant::after)
}
