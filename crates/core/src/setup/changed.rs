//! What one run changes of its setup.

use super::section::sampling::{before_of, length_of};
use super::{Sampling, Setup, Trigger};
use crate::error::{Error, ErrorKind, Result};
use crate::event::Program;
use crate::reader::toml_text;

/// What one run changes, in the setup's own words. Nothing by default.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct RunChanges {
    /// The event to wait for, or the name of one.
    pub trigger: Option<String>,
    /// How long to record: `20 ms`, or `max`.
    pub length: Option<String>,
    /// How much of it before the trigger: `25 %`, or `5 ms`.
    pub before: Option<String>,
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
    /// let mut changes = RunChanges::default();
    /// changes.trigger = Some("BUSY rises".to_string());
    /// let setup = Setup::load("s.toml", &Attached(&texts))?.changed(&changes)?;
    /// assert_eq!(setup.changes, ["for this run: [trigger] event = \"BUSY rises\""]);
    /// changes.trigger = Some("BUZY rises".to_string());
    /// assert!(Setup::load("s.toml", &Attached(&texts))?.changed(&changes).is_err());
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// For an event that is none on these lines, for what is no length and no part of one, and where a setup says
    /// nothing of rate and length that could be changed.
    pub fn changed(mut self, changes: &RunChanges) -> Result<Setup> {
        if let Some(event) = &changes.trigger {
            Program::compile(event, &self.scope()).map_err(|error| error.about("--trigger"))?;
            self.trigger = Some(Trigger::Event(event.clone()));
            self.changes.push(format!("for this run: [trigger] event = {}", toml_text(event)));
        }
        if changes.length.is_none() && changes.before.is_none() {
            return Ok(self);
        }
        let Some(mut sampling): Option<Sampling> = self.sampling else {
            let error = Error::new(
                ErrorKind::Setup,
                "the setup does not say how to record, so there is nothing to change",
            );
            return Err(error.with_help(
                "add a section like: [sampling] with rate = \"100 MS/s\" and length = \"20 ms\"",
            ));
        };
        if let Some(length) = &changes.length {
            sampling.length = length_of(length).map_err(|error| error.about("--length"))?;
            self.changes.push(format!("for this run: [sampling] length = {}", toml_text(length)));
        }
        if let Some(before) = &changes.before {
            sampling.before = before_of(before).map_err(|error| error.about("--before-trigger"))?;
            self.changes.push(format!("for this run: [sampling] before-trigger = {}", toml_text(before)));
        }
        self.sampling = Some(sampling);
        Ok(self)
    }
}
