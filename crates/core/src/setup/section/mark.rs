//! The sections of marks: places of a record that have a name.

use super::trigger::check_event;
use crate::error::Error;
use crate::event::Scope;
use crate::quantity::Time;
use crate::reader::{Placed, Section, moved};
use crate::setup::SetupMark;

/// A mark as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct DraftMark {
    pub(in crate::setup) name: Placed<String>,
    at: Placed<String>,
    text: String,
}

impl DraftMark {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let at = section.required("at", "at = \"RESET_N rises\"");
        let text = section.text("note").map(|text| text.value).unwrap_or_default();
        let name = section.required("name", "name = \"boot\"")?;
        Some(DraftMark { name, at: at?, text })
    }

    /// The mark, whose place is a time or an event of this scope.
    pub(in crate::setup) fn resolve(&self, scope: &Scope, problems: &mut Vec<Error>) -> SetupMark {
        match SetupMark::is_time(&self.at.value) {
            true => {
                let parsed = self.at.value.parse::<Time>();
                problems.extend(parsed.err().map(|error| {
                    let kind = error.kind();
                    moved(error, kind, &self.at.place)
                }));
            }
            false => check_event(&self.at, scope, problems),
        }
        SetupMark { name: self.name.value.clone(), at: self.at.value.clone(), text: self.text.clone() }
    }
}
