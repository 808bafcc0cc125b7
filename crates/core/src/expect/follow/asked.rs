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

/// All values that are asked for, or that show.
#[derive(Debug, Default)]
pub(super) struct Values {
    /// In order of time.
    pub(super) all: Vec<Asked>,
    /// Where there may be others, or none: what is there is not certain.
    doubtful: Vec<Tick>,
}

impl Values {
    /// Whether there may be another between two ticks, both included.
    pub(super) fn may_hide(&self, from: u64, to: u64) -> bool {
        let first = self.doubtful.partition_point(|tick| tick.0 < from);
        self.doubtful.get(first).is_some_and(|tick| tick.0 <= to)
    }
}

/// All that are asked for.
pub(super) fn asked(from: &FollowSource, capture: &Capture) -> Result<Values> {
    match from {
        FollowSource::Transfers(on) => on.all(capture, false),
        FollowSource::Lines(bus, at) => {
            let event = at.at(capture.base())?;
            let signals: Vec<Signal> = event.signals();
            let mut all: Vec<Signal> = bus.lines.iter().map(Signal::from).collect();
            all.extend(signals);
            let reach = Precision::of(capture, Rule::Proven).order(&all, Voltage::ZERO).reach();
            let mut found = Values::default();
            for hit in Begun::all(&event, capture) {
                let value = capture.bus_value(bus, hit.tick);
                let near = reach.map_or(0, |reach| reach + 1);
                let around = Tick(hit.tick.0.saturating_sub(near))..Tick(hit.tick.0.saturating_add(near));
                let calm = bus.lines.iter().all(|line| capture.trace(*line).count(around.clone()) == 0);
                let certain = hit.is_certain() && calm && value.unknown == 0;
                if hit.is_recorded() {
                    found.all.push(Asked { at: hit.tick, value: value.bits, certain });
                }
                if !certain {
                    found.doubtful.push(hit.tick);
                }
            }
            Ok(found)
        }
    }
}

impl ValueOn {
    /// The numbers in all transfers, each at its end or at its beginning.
    pub(super) fn all(&self, capture: &Capture, begins: bool) -> Result<Values> {
        let mut found = Values::default();
        for transfer in self.bus.transfers(capture, capture.range())? {
            let tests = self.only.as_ref();
            let meets = tests.map_or((true, true), |tests| tests.matching(false).meets_for_sure(&transfer));
            let (met, certain) = (meets.0, meets.1 && transfer.certain);
            let at = if begins { transfer.start } else { transfer.carried_until() };
            if let Some(picked) = self.value.of(&transfer).filter(|_| met) {
                found.all.push(Asked { at, value: picked.value, certain });
            }
            if !certain {
                found.doubtful.push(at);
            }
        }
        Ok(found)
    }
}
