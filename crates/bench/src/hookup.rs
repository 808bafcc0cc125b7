//! How the instrument is connected to the board, and what can be wrong with that.

use deep_tap_core::quantity::Rate;
use deep_tap_core::scan::SampleWidth;
use deep_tap_core::{Error, ErrorKind};

use crate::board::NodeId;

/// Something wrong between the board and the instrument, or on the way from there to the host.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub enum HookupFault {
    /// The lead of an input is off: it floats, and picks its neighbours up.
    LeadOff(u32),
    /// The leads of two inputs are swapped.
    Swapped(u32, u32),
    /// The connector sits so many pins off.
    Shifted(u32),
    /// The board's ground and the instrument's are not connected.
    NoGround,
    /// Noise on every input, of so many volts to either side at the most.
    Noise(f64),
    /// The link to the host drops after so many samples.
    LinkDrops(u64),
    /// The link to the host carries so many bytes a second: streams that need more overrun.
    SlowLink(u64),
}

/// What a lead is connected to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Lead {
    On(NodeId),
    /// Nothing: it floats.
    Off,
}

/// Noise on every input where ground is missing, in volts.
const NO_GROUND_NOISE: f64 = 2.6;

/// What the leads of numbered inputs are connected to.
pub(crate) fn leads(wiring: &[NodeId], faults: &[HookupFault]) -> Vec<Lead> {
    let mut leads: Vec<Lead> = wiring.iter().copied().map(Lead::On).collect();
    for fault in faults {
        match fault {
            HookupFault::Swapped(a, b) => {
                let (a, b) = (*a as usize, *b as usize);
                if a < leads.len() && b < leads.len() {
                    leads.swap(a, b);
                }
            }
            HookupFault::Shifted(pins) => {
                let pins = (*pins as usize).min(leads.len());
                leads.drain(..pins);
                leads.resize(wiring.len(), Lead::Off);
            }
            _ => {}
        }
    }
    for fault in faults {
        if let HookupFault::LeadOff(input) = fault
            && let Some(lead) = leads.get_mut(*input as usize)
        {
            *lead = Lead::Off;
        }
    }
    leads
}

/// Largest noise on every input, in volts.
pub(crate) fn noise(faults: &[HookupFault]) -> f64 {
    let of = |fault: &HookupFault| match fault {
        HookupFault::NoGround => NO_GROUND_NOISE,
        HookupFault::Noise(volts) => *volts,
        _ => 0.0,
    };
    faults.iter().map(of).sum()
}

/// Bytes that the instrument holds back for a link that is too slow.
const BUFFER: u64 = 1 << 16;

/// How the link to the host ends a recording: after how many samples, and why.
pub(crate) fn link_ends(
    faults: &[HookupFault],
    rate: Rate,
    width: SampleWidth,
    streams: bool,
) -> Option<(u64, Error)> {
    let ends = |fault: &HookupFault| match fault {
        HookupFault::LinkDrops(samples) => {
            let message = format!("the link to the instrument dropped after {samples} samples");
            let help = "check the cable and its plugs, and record again";
            Some((*samples, Error::new(ErrorKind::Link, message).with_help(help)))
        }
        HookupFault::SlowLink(carried) if streams => {
            let width = width.bytes() as u64;
            let needed = (rate.to_f64() * width as f64) as u64;
            let short = needed.checked_sub(*carried).filter(|short| *short > 0)?;
            // The buffer fills with what the link does not take away.
            let samples =
                (u128::from(BUFFER) * u128::from(needed) / u128::from(short) / u128::from(width)) as u64;
            let message = format!(
                "the stream overran after {samples} samples: it makes {:.0} MB a second, the link takes {:.0}",
                needed as f64 / 1e6,
                *carried as f64 / 1e6
            );
            let help = "record at a lower rate or fewer lines, or use another cable or port";
            Some((samples, Error::new(ErrorKind::Link, message).with_help(help)))
        }
        _ => None,
    };
    faults.iter().filter_map(ends).min_by_key(|(samples, _)| *samples)
}
