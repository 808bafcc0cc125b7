//! What one run changes of its setup.

use super::section::sampling::{before_of, length_of, speed_of};
use super::{LevelSource, Setup, Trigger};
use crate::error::{Error, ErrorKind, Result, suggest};
use crate::event::Program;
use crate::reader::toml_text;

/// What one run changes, in the setup's own words. Nothing by default.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct RunChanges {
    /// The sample rate: `100 MS/s`, or `max`.
    pub rate: Option<String>,
    /// The event to wait for, or the name of one.
    pub trigger: Option<String>,
    /// How long to record: `20 ms`, or `max`.
    pub length: Option<String>,
    /// How much of it before the trigger: `25 %`, or `5 ms`.
    pub before: Option<String>,
    /// The lines to record; all when empty. The others keep their places and are unknown.
    pub lines: Vec<String>,
}

impl RunChanges {
    /// Samples at this rate.
    #[must_use]
    pub fn rate(mut self, rate: impl Into<String>) -> Self {
        self.rate = Some(rate.into());
        self
    }

    /// Waits for this event.
    #[must_use]
    pub fn trigger(mut self, event: impl Into<String>) -> Self {
        self.trigger = Some(event.into());
        self
    }

    /// Records for so long.
    #[must_use]
    pub fn length(mut self, length: impl Into<String>) -> Self {
        self.length = Some(length.into());
        self
    }

    /// Records so much of it before the trigger.
    #[must_use]
    pub fn before(mut self, before: impl Into<String>) -> Self {
        self.before = Some(before.into());
        self
    }

    /// Records these lines only.
    #[must_use]
    pub fn lines(mut self, lines: impl IntoIterator<Item = impl Into<String>>) -> Self {
        self.lines = lines.into_iter().map(Into::into).collect();
        self
    }
}

impl Setup {
    /// The same for one run. What is changed is told in the history of what is recorded, with the line to write
    /// where it is to stay.
    ///
    /// ```
    /// use deep_tap_core::capture::Attachment;
    /// use deep_tap_core::setup::{Attached, RunChanges, Setup};
    ///
    /// let text = "[sampling]\nrate = \"10 MS/s\"\nlength = \"20 ms\"\n[[line]]\nname = \"BUSY\"\n";
    /// let texts = [Attachment { name: "s.toml".into(), text: text.into() }];
    /// let setup = Setup::load("s.toml", &Attached(&texts))?;
    /// let changed = setup.clone().changed(&RunChanges::default().trigger("BUSY rises"))?;
    /// assert_eq!(changed.changes, ["for this run: [trigger] event = \"BUSY rises\""]);
    /// assert!(setup.changed(&RunChanges::default().trigger("BUZY rises")).is_err());
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// For an event that is none on these lines, for what is no rate, no length and no part of one, for lines that
    /// are not there, and where a setup says nothing of rate and length that could be changed.
    pub fn changed(mut self, changes: &RunChanges) -> Result<Setup> {
        if let Some(event) = &changes.trigger {
            Program::compile(event, &self.scope()).map_err(|error| error.about("--trigger"))?;
            self.trigger = Some(Trigger::Event(event.clone()));
            self.told("trigger", "event", event);
        }
        if !changes.lines.is_empty() {
            self.keep_lines(&changes.lines)?;
        }
        let RunChanges { rate, length, before, .. } = changes;
        if rate.is_none() && length.is_none() && before.is_none() {
            return Ok(self);
        }
        let mut sampling = self.sampling.ok_or_else(no_sampling)?;
        if let Some(rate) = rate {
            sampling.speed = speed_of(rate).map_err(|error| error.about("--rate"))?;
            self.told("sampling", "rate", rate);
        }
        if let Some(length) = length {
            sampling.length = length_of(length).map_err(|error| error.about("--length"))?;
            self.told("sampling", "length", length);
        }
        if let Some(before) = before {
            sampling.before = before_of(before).map_err(|error| error.about("--before-trigger"))?;
            self.told("sampling", "before-trigger", before);
        }
        self.sampling = Some(sampling);
        Ok(self)
    }

    fn told(&mut self, section: &str, key: &str, value: &str) {
        self.changes.push(format!("for this run: [{section}] {key} = {}", toml_text(value)));
    }

    /// Leaves all other lines out.
    fn keep_lines(&mut self, kept: &[String]) -> Result<()> {
        let known = || self.lines.iter().map(|line| line.line.name.as_str());
        if let Some(unknown) = kept.iter().find(|name| known().all(|known| known != *name)) {
            let error = Error::new(ErrorKind::Unknown, format!("--lines: there is no line '{unknown}'"));
            return Err(error.with_help(suggest(unknown, known(), "line")));
        }
        let mut left_out = Vec::new();
        for line in self.lines.iter_mut().filter(|line| !kept.contains(&line.line.name)) {
            line.source = LevelSource::LeftOut;
            left_out.push(line.line.name.as_str());
        }
        if !left_out.is_empty() {
            let told = format!("for this run: not recorded, and so unknown: {}", left_out.join(", "));
            self.changes.push(told);
        }
        Ok(())
    }
}

/// Where a setup says nothing of rate and length.
pub(super) fn no_sampling() -> Error {
    Error::new(ErrorKind::Setup, "the setup does not say how to record")
        .with_help("add a section like: [sampling] with rate = \"100 MS/s\" and length = \"20 ms\"")
}
