//! The part of a record that a command looks at.

use std::ops::Range;

use deep_tap::Result;
use deep_tap::job::Job;
use deep_tap::time::Tick;

#[derive(Debug, Default, clap::Args)]
pub(crate) struct Window {
    /// Where to begin: a time, or an event whose first occurrence counts; the start of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    from: Option<String>,
    /// Where to end: a time, or an event after --from; the end of the record otherwise
    #[arg(long, value_name = "PLACE", allow_hyphen_values = true)]
    to: Option<String>,
}

impl Window {
    /// Whether it is all of the record.
    pub(crate) fn is_all(&self) -> bool {
        self.from.is_none() && self.to.is_none()
    }

    /// The ticks of it in a record.
    pub(crate) fn of(&self, loaded: &Job) -> Result<Range<Tick>> {
        loaded.range(self.from.as_deref(), self.to.as_deref())
    }
}
