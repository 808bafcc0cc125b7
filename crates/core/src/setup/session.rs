//! A setup at an instrument, recorded again and again with one thing changed.

use std::ops::ControlFlow;

use super::{CaptureSink, RecordOptions, RunChanges, Setup};
use crate::capture::Capture;
use crate::error::Result;
use crate::instrument::{Instrument, Progress};
use crate::plan::Plan;

/// A setup at an instrument that stays connected: it is armed, looked at, changed and armed anew.
///
/// ```
/// use std::ops::ControlFlow;
/// # use deep_tap_core::{instrument::Instrument, setup::{RecordOptions, RunChanges, Session, Setup}, Result};
/// # fn look(setup: Setup, instrument: Box<dyn Instrument>) -> Result<()> {
/// let mut session = Session::new(setup, instrument);
/// let go_on = &mut |_| ControlFlow::Continue(());
/// let first = session.record(RecordOptions::default(), go_on)?;
/// // Nothing to be seen there: look at another edge, more closely.
/// session.change(RunChanges::default().trigger("READY rises").rate("100 MS/s"), RecordOptions::default())?;
/// let second = session.record(RecordOptions::default(), go_on)?;
/// # Ok(())
/// # }
/// ```
pub struct Session {
    written: Setup,
    changes: RunChanges,
    setup: Setup,
    instrument: Box<dyn Instrument>,
}

impl Session {
    /// The setup as it is written, at this instrument. Nothing is asked of it yet.
    pub fn new(setup: Setup, instrument: Box<dyn Instrument>) -> Session {
        Session { setup: setup.clone(), written: setup, changes: RunChanges::default(), instrument }
    }

    /// The setup with what is changed now.
    pub fn setup(&self) -> &Setup {
        &self.setup
    }

    /// What is changed now.
    pub fn changes(&self) -> &RunChanges {
        &self.changes
    }

    /// The instrument.
    pub fn instrument(&self) -> &dyn Instrument {
        &*self.instrument
    }

    /// Changes the setup as it is written in this way and no other, from the next recording on; the plan for that.
    ///
    /// # Errors
    /// As [`Setup::changed`], and when the instrument cannot do it: then everything stays as it was.
    pub fn change(&mut self, changes: RunChanges, options: RecordOptions) -> Result<Plan> {
        let changed = self.written.clone().changed(&changes)?;
        let plan = changed.plan(&*self.instrument, options)?;
        (self.changes, self.setup) = (changes, changed);
        Ok(plan)
    }

    /// The plan for the next recording.
    ///
    /// # Errors
    /// As [`Setup::plan`].
    pub fn plan(&self, options: RecordOptions) -> Result<Plan> {
        self.setup.plan(&*self.instrument, options)
    }

    /// Arms, waits and records, and keeps the record in memory.
    ///
    /// # Errors
    /// As [`Setup::record`]. The instrument can be armed anew after any of them but a lost link.
    pub fn record(
        &mut self,
        options: RecordOptions,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Capture> {
        self.setup.record(&mut *self.instrument, options, progress)
    }

    /// The same, passing the samples on as they come.
    ///
    /// # Errors
    /// As [`Setup::record_into`].
    pub fn record_into(
        &mut self,
        options: RecordOptions,
        sink: &mut dyn CaptureSink,
        progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
    ) -> Result<Capture> {
        self.setup.record_into(&mut *self.instrument, options, sink, progress)
    }
}
