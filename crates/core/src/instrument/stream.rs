//! Recording from a stream: the host looks for the trigger and keeps what came before it.

use std::ops::ControlFlow;

use super::acquisition::{Acquisition, Progress, Recorded, Sink, short_of_past, stopped_waiting};
use super::{Configuration, Search, onward};
use crate::error::{Error, ErrorKind, Result};
use crate::quantity::{Rate, Rational, Time};
use crate::scan::SampleBlock;
use crate::time::Tick;
use crate::trigger::{Ring, cut};

/// Samples read before the user hears of it again, also when more have arrived.
const STRIDE: u64 = 1 << 20;

fn elapsed(rate: Rate, samples: u64) -> Time {
    let period = rate.period().map_or(Rational::ZERO, Time::to_rational);
    let samples = Rational::new(i128::from(samples), 1).unwrap_or(Rational::ZERO);
    Time::from_rational(period.checked_mul(samples).unwrap_or(Rational::ZERO))
}

/// What is kept.
#[derive(Clone, Copy, Default)]
struct Kept {
    trigger: Option<Tick>,
    /// The first sample, and the one after the last.
    first: u64,
    last: u64,
}

/// A stream on its way to the sink.
struct Streamed<'a> {
    configuration: &'a Configuration,
    search: Option<Search>,
    ring: Ring,
    /// `None` until the trigger has come.
    kept: Option<Kept>,
    position: u64,
}

impl Streamed<'_> {
    /// Takes the next samples; the block can be used again where they are not kept in it.
    fn take(&mut self, block: SampleBlock, sink: &mut dyn Sink) -> Result<Option<SampleBlock>> {
        let start = self.position;
        self.position += block.len() as u64;
        if self.kept.is_none() {
            self.look_for_trigger(&block, start, sink)?;
        }
        if let Some(kept) = self.kept {
            sink.push(cut(&block, start, kept.first..kept.last))?;
            return Ok(Some(block));
        }
        let since = self.search.as_ref().filter(|_| self.configuration.beginning);
        let since = since.and_then(Search::since).map(|tick| tick.0);
        self.ring.push(start, block, since);
        Ok(None)
    }

    fn look_for_trigger(&mut self, block: &SampleBlock, start: u64, sink: &mut dyn Sink) -> Result<()> {
        let Some(search) = &mut self.search else { return Ok(()) };
        let Some(hit) = search.push(block.samples())? else { return Ok(()) };
        let configuration = self.configuration;
        let began = search.began().filter(|_| configuration.beginning);
        let own = began.map_or(0, |began| hit.since(began).unsigned_abs().saturating_add(1));
        let before = configuration.before.max(own.min(configuration.samples.saturating_sub(1)));
        let first = hit.0.saturating_sub(before).max(self.ring.first().unwrap_or(start));
        // What was found late may lie before all that is kept.
        let hit = hit.0.max(first);
        let last = hit.saturating_add(configuration.samples.saturating_sub(before));
        let trigger = Some(Tick(hit - first));
        sink.begin(trigger)?;
        self.ring.drain(first..last, |samples| sink.push(samples))?;
        self.kept = Some(Kept { trigger, first, last });
        Ok(())
    }

    /// How far it is, and whether all that is wanted was recorded.
    fn progress(&self) -> (Progress, bool) {
        match self.kept {
            Some(Kept { first, last, .. }) => {
                let (done, of) = (self.position.min(last) - first, last - first);
                (Progress::Recording { done, of }, done >= of)
            }
            None => {
                let elapsed = elapsed(self.configuration.rate, self.position);
                (Progress::Waiting { elapsed }, false)
            }
        }
    }

    /// The trigger did not come.
    fn missed(&self, over: bool, time_out: Option<Time>, names: &[&str]) -> Error {
        let seen = elapsed(self.configuration.rate, self.position);
        let message = match time_out {
            _ if over => format!("the trigger did not come before the record ended after {seen}"),
            Some(limit) if seen >= limit => format!("the trigger did not come within {limit}"),
            _ => stopped_waiting(seen),
        };
        let help = self.search.as_ref().map(|search| search.report(names));
        Error::new(ErrorKind::TimeOut, message).with_help(help.unwrap_or_default())
    }
}

impl Acquisition<'_> {
    /// Looks for the trigger in the samples as they come.
    pub(super) fn run_streamed(
        self,
        sink: &mut dyn Sink,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Recorded> {
        let Acquisition { instrument, configuration, names, search, time_out } = self;
        instrument.configure(configuration)?;
        instrument.arm()?;
        let lag = search.as_ref().map_or(0, Search::lag);
        let ring = Ring::new(configuration.before.saturating_add(lag));
        let kept = Kept { trigger: None, first: 0, last: configuration.samples };
        let kept = search.is_none().then_some(kept);
        let mut streamed = Streamed { configuration, search, ring, kept, position: 0 };
        if streamed.kept.is_some() {
            sink.begin(None)?;
        }
        let mut told = 0;
        onward::read(instrument, |arrived| {
            for block in arrived.blocks.drain(..) {
                if !streamed.progress().1
                    && let Some(block) = streamed.take(block, sink)?
                {
                    arrived.spare.push(block);
                }
            }
            let (now, full) = streamed.progress();
            if !arrived.pauses && !full && streamed.position < told + STRIDE {
                return Ok(ControlFlow::Continue(()));
            }
            told = streamed.position;
            let late = |limit| elapsed(configuration.rate, streamed.position) >= limit;
            let stopped = progress(now).is_break() || arrived.over;
            if streamed.kept.is_none() && (stopped || time_out.is_some_and(late)) {
                return Err(streamed.missed(arrived.over, time_out, names));
            }
            Ok(if full || stopped { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
        })?;
        instrument.stop()?;
        let Kept { trigger, first, last } = streamed.kept.unwrap_or_default();
        let len = streamed.position.min(last).saturating_sub(first);
        let mut remarks = instrument.remarks();
        remarks.extend(streamed.search.as_ref().and_then(Search::told));
        remarks.extend(short_of_past(configuration, trigger));
        Ok(Recorded { len, trigger, remarks })
    }
}
