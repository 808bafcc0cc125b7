//! Recording from a stream: the host looks for the trigger and keeps what came before it.

use std::ops::ControlFlow;

use super::acquisition::{Acquisition, Progress, Recorded, Sink, short_of_past, stopped_waiting};
use super::{Search, Status};
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

impl Acquisition<'_> {
    /// Looks for the trigger in the samples as they come.
    pub(super) fn run_streamed(
        self,
        sink: &mut dyn Sink,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Recorded> {
        let Acquisition { instrument, configuration, names, mut search, time_out } = self;
        instrument.configure(configuration)?;
        instrument.arm()?;
        let lag = search.as_ref().map_or(0, Search::lag);
        let mut ring = Ring::new(configuration.before.saturating_add(lag));
        let mut block = SampleBlock::default();
        // The trigger, the first sample kept, and the one after the last.
        let mut kept = search.is_none().then_some((None, 0, configuration.samples));
        if kept.is_some() {
            sink.begin(None)?;
        }
        let mut position = 0;
        loop {
            let over = match instrument.status()? {
                Status::Done { .. } | Status::Over { .. } | Status::Idle => true,
                Status::Waiting { .. } | Status::Recording { .. } => false,
            };
            let pause = position + STRIDE;
            while position < pause && kept.is_none_or(|(_, _, last)| position < last) {
                instrument.read(&mut block)?;
                if block.is_empty() {
                    break;
                }
                let start = position;
                position += block.len() as u64;
                if kept.is_none()
                    && let Some(search) = &mut search
                    && let Some(hit) = search.push(block.samples())?
                {
                    let began = search.began().filter(|_| configuration.beginning);
                    let own = began.map_or(0, |began| hit.since(began).unsigned_abs().saturating_add(1));
                    let before = configuration.before.max(own.min(configuration.samples.saturating_sub(1)));
                    let first = hit.0.saturating_sub(before).max(ring.first().unwrap_or(start));
                    // What was found late may lie before all that is kept.
                    let hit = hit.0.max(first);
                    let last = hit.saturating_add(configuration.samples.saturating_sub(before));
                    sink.begin(Some(Tick(hit - first)))?;
                    ring.drain(first..last, |samples| sink.push(samples))?;
                    kept = Some((Some(Tick(hit - first)), first, last));
                }
                match kept {
                    Some((_, first, last)) => sink.push(cut(&block, start, first..last))?,
                    None => {
                        let since = search.as_ref().filter(|_| configuration.beginning);
                        let since = since.and_then(Search::since).map(|tick| tick.0);
                        ring.push(start, std::mem::take(&mut block), since);
                    }
                }
            }
            let seen = elapsed(configuration.rate, position);
            let (now, full) = match kept {
                Some((_, first, last)) => {
                    let (done, of) = (position.min(last) - first, last - first);
                    (Progress::Recording { done, of }, done >= of)
                }
                None => (Progress::Waiting { elapsed: seen }, false),
            };
            let stopped = progress(now).is_break();
            if kept.is_none() && (over || stopped || time_out.is_some_and(|limit| seen >= limit)) {
                instrument.stop()?;
                let message = match time_out {
                    _ if over => format!("the trigger did not come before the record ended after {seen}"),
                    Some(limit) if seen >= limit => format!("the trigger did not come within {limit}"),
                    _ => stopped_waiting(seen),
                };
                let help = search.as_ref().map(|search| search.report(names));
                return Err(Error::new(ErrorKind::TimeOut, message).with_help(help.unwrap_or_default()));
            }
            if full || over || stopped {
                instrument.stop()?;
                let (trigger, first, last) = kept.unwrap_or_default();
                let len = position.min(last).saturating_sub(first);
                let mut remarks = instrument.remarks();
                remarks.extend(search.as_ref().and_then(Search::told));
                remarks.extend(short_of_past(configuration, trigger));
                return Ok(Recorded { len, trigger, remarks });
            }
        }
    }
}
