//! Values that are asked for.

use super::given::{FollowSource, ValueOn};
use crate::capture::Capture;
use crate::error::Result;
use crate::expect::begins::Begun;
use crate::known::{Precision, Rule};
use crate::line::Signal;
use crate::quantity::Voltage;
use crate::time::Tick;

/// A value that is asked for, or that shows.
#[derive(Clone, Copy, Debug)]
pub(super) struct Asked {
    /// The end of what carries it, of one that shows its beginning.
    pub(super) at: Tick,
    pub(super) value: u64,
    /// Whether it certainly is this one, and certainly is one.
    pub(super) certain: bool,
}

/// All of them, in order of time.
pub(super) fn asked(from: &FollowSource, capture: &Capture) -> Result<Vec<Asked>> {
    match from {
        FollowSource::Transfers(on) => on.all(capture, false),
        FollowSource::Lines(bus, at) => {
            let event = at.at(capture.base())?;
            let signals: Vec<Signal> = event.signals();
            let mut all: Vec<Signal> = bus.lines.iter().map(Signal::from).collect();
            all.extend(signals);
            let reach = Precision::of(capture, Rule::Proven).order(&all, Voltage::ZERO).reach();
            let mut found = Vec::new();
            for hit in Begun::all(&event, capture) {
                let value = capture.bus_value(bus, hit.tick);
                let near = reach.map_or(0, |reach| reach + 1);
                let around = Tick(hit.tick.0.saturating_sub(near))..Tick(hit.tick.0.saturating_add(near));
                let calm = bus.lines.iter().all(|line| capture.trace(*line).count(around.clone()) == 0);
                let certain = hit.is_certain() && calm && value.unknown == 0;
                if hit.is_recorded() {
                    found.push(Asked { at: hit.tick, value: value.bits, certain });
                }
            }
            Ok(found)
        }
    }
}

impl ValueOn {
    /// The numbers in all transfers, each at its end or at its beginning.
    pub(super) fn all(&self, capture: &Capture, begins: bool) -> Result<Vec<Asked>> {
        let mut found = Vec::new();
        for transfer in self.bus.transfers(capture, capture.range())? {
            let tests = self.only.as_ref();
            let meets = tests.map_or((true, true), |tests| tests.matching(false).meets_for_sure(&transfer));
            let (met, certain) = (meets.0, meets.1 && transfer.certain);
            // What is no such transfer may have been one; that makes what follows undecided only where a value is
            // missing, and then nothing was found at all.
            let Some(picked) = self.value.of(&transfer).filter(|_| met) else { continue };
            let at = if begins { transfer.start } else { transfer.carried_until() };
            found.push(Asked { at, value: picked.value, certain });
        }
        Ok(found)
    }
}
