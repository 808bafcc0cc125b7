//! How the instrument is connected to the board, and what can be wrong with that.

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
}

/// What a lead is connected to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Lead {
    On(NodeId),
    /// Nothing: it floats.
    Off,
}

/// Noise on every input where ground is missing, in volts.
const NO_GROUND_NOISE: f64 = 1.8;

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

/// After how many samples the link drops.
pub(crate) fn link_drops(faults: &[HookupFault]) -> Option<u64> {
    faults.iter().find_map(|fault| match fault {
        HookupFault::LinkDrops(samples) => Some(*samples),
        _ => None,
    })
}
