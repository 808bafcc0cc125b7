//! Limits of a setup, watched on an instrument that records without end.

use std::cell::RefCell;
use std::ops::ControlFlow;

use super::sink::CaptureSink;
use super::{RecordOptions, Sampling, Setup};
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::instrument::{Instrument, Progress};
use crate::known::hiding_lines;
use crate::limit::{BoundLimit, LimitResult, Watch};
use crate::line::Signal;
use crate::plan::{Before, Length};
use crate::quantity::{Rational, Time};
use crate::scan::Samples;
use crate::time::{Moment, Tick};

/// What was watched of an unbroken stretch of samples.
#[derive(Debug)]
#[non_exhaustive]
pub struct Watched {
    /// What became of each limit.
    pub results: Vec<LimitResult>,
    /// What has to be said of the lines of limits that may have hidden pulses.
    pub remarks: Vec<String>,
    /// How long it was, in samples.
    pub samples: Tick,
    /// The record that it would have been, without a tick: its clock, its lines, where it comes from, and what the
    /// instrument says of it.
    pub record: Capture,
    /// Why it broke off, where nobody wanted it to end.
    pub broke_off: Option<Error>,
}

/// How limits are watched.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WatchOptions {
    /// How much before and after a violation can be [taken out](Watch::excerpt).
    pub around: Time,
    /// How much signal is watched; `None` for as long as nobody says stop.
    pub lasting: Option<Time>,
    /// When it is made, for the captures of it to tell.
    pub made: Option<Moment>,
}

impl Default for WatchOptions {
    /// Without surroundings, for as long as nobody says stop.
    fn default() -> Self {
        WatchOptions { around: Time::ZERO, lasting: None, made: None }
    }
}

impl Setup {
    /// Records with an instrument without end and watches limits of this setup, which [`Setup::limits`] gives.
    /// `look` is called whenever samples have arrived and been looked at, and may say stop.
    ///
    /// Where the samples break off, as on a link that does not keep up, what was watched until then is given, with
    /// the reason: nothing is judged across a gap.
    ///
    /// # Errors
    /// When the instrument does not stream, a limit cannot be decided on arriving samples, or nothing was recorded.
    pub fn watch(
        &self,
        instrument: &mut dyn Instrument,
        limits: Vec<BoundLimit>,
        options: WatchOptions,
        look: &mut dyn FnMut(&mut Watch) -> ControlFlow<()>,
    ) -> Result<Watched> {
        let mut endless = self.clone();
        let before = Before::Time(Time::ZERO);
        endless.sampling = self.sampling.map(|s| Sampling { length: Length::Endless, before, ..s });
        let mut signals: Vec<Signal> = limits.iter().flat_map(BoundLimit::signals).collect();
        signals.sort_unstable();
        signals.dedup();
        let watching = RefCell::new(Watching { limits, options, most: u64::MAX, watch: None, record: None });
        let options = RecordOptions { now: true, made: options.made };
        let mut sink = Handing(&watching);
        let recorded = endless.record_into(instrument, options, &mut sink, &mut |progress| {
            watching.borrow_mut().progress(&progress, look)
        });
        let Watching { watch, record, .. } = watching.into_inner();
        let (Some(mut watch), Some(begun)) = (watch, record) else {
            return Err(recorded
                .err()
                .unwrap_or_else(|| Error::new(ErrorKind::Instrument, "the instrument sent no samples")));
        };
        let (record, broke_off) = match recorded {
            Ok(record) => (record, None),
            Err(error) if watch.position() > Tick(0) => (begun, Some(error)),
            Err(error) => return Err(error),
        };
        let results = watch.finish();
        // What was decided last is told, too; nobody can stop any more.
        let _ = look(&mut watch);
        let remarks = hiding_lines(watch.record(), &signals);
        Ok(Watched { results, remarks, samples: watch.position(), record, broke_off })
    }
}

struct Watching {
    limits: Vec<BoundLimit>,
    options: WatchOptions,
    /// How many samples are watched.
    most: u64,
    watch: Option<Watch>,
    record: Option<Capture>,
}

impl Watching {
    fn begin(&mut self, record: Capture) -> Result<()> {
        let ticks = |time: Time| {
            let ticks = record.base().ticks_in(time).map(Rational::ceil);
            ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(u64::MAX / 4)
        };
        let around = ticks(self.options.around);
        self.most = self.options.lasting.map_or(u64::MAX, ticks);
        let names = record.with_same_traces();
        self.watch =
            Some(Watch::new(record, std::mem::take(&mut self.limits))?.keeping(around.saturating_mul(2)));
        self.record = Some(names);
        Ok(())
    }

    fn progress(
        &mut self,
        progress: &Progress,
        look: &mut dyn FnMut(&mut Watch) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let Some(watch) = self.watch.as_mut().filter(|_| matches!(progress, Progress::Recording { .. }))
        else {
            return ControlFlow::Continue(());
        };
        look(watch)?;
        if watch.position() < Tick(self.most) { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    }
}

/// Hands the samples over.
struct Handing<'w>(&'w RefCell<Watching>);

impl CaptureSink for Handing<'_> {
    fn begin(&mut self, record: Capture) -> Result<()> {
        self.0.borrow_mut().begin(record)
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        let Watching { watch: Some(watch), most, .. } = &mut *self.0.borrow_mut() else { return Ok(()) };
        let room = usize::try_from(most.saturating_sub(watch.position().0)).unwrap_or(usize::MAX);
        watch.push(samples.slice(0..room.min(samples.len())))
    }
}
