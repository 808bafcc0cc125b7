//! What is found.

use std::fmt;

use crate::time::Tick;

/// How sure a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sureness {
    /// The signal shows it.
    Certain,
    /// Another explanation would be unusual.
    Likely,
    /// Others are about as usual.
    Possible,
}

impl fmt::Display for Sureness {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Sureness::Certain => "certain",
            Sureness::Likely => "likely",
            Sureness::Possible => "possible",
        })
    }
}

/// Something about a bus that is not as the setup says, or not as it should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The buses on which it shows: more than one where one cause is behind it.
    pub buses: Vec<String>,
    /// The lines on which it shows, where `what` does not name them.
    pub lines: Vec<String>,
    /// A word for it, such as `bit-rate`.
    pub kind: &'static str,
    /// How sure it is.
    pub sureness: Sureness,
    /// Where it is seen, if at one place.
    pub at: Option<Tick>,
    /// What was seen.
    pub what: String,
    /// What to change.
    pub remedy: String,
}

impl Finding {
    /// What was seen, after the lines on which it shows.
    pub fn said(&self) -> String {
        match self.lines.as_slice() {
            [] => self.what.clone(),
            lines => format!("{}: {}", lines.join(", "), self.what),
        }
    }

    /// Whether what is read of the bus with these settings cannot be trusted, or is nothing at all: not so
    /// where frames show it themselves, or where a line may well be as it is.
    ///
    /// ```
    /// use deep_tap_core::diagnose::{Finding, Sureness};
    ///
    /// let mut finding = Finding {
    ///     buses: vec!["console".into()],
    ///     lines: Vec::new(),
    ///     kind: "bit-rate",
    ///     sureness: Sureness::Likely,
    ///     at: None,
    ///     what: "a bit lasts 8.680 us: 115.2 kHz, the setup says 57.6 kHz".into(),
    ///     remedy: "bit-rate = \"115.2 kHz\"".into(),
    /// };
    /// assert!(finding.misreads());
    /// finding.kind = "no-answer";
    /// assert!(!finding.misreads());
    /// ```
    pub fn misreads(&self) -> bool {
        let shown = matches!(self.kind, "faults" | "scan" | "no-answer" | "some-answers" | "shifted");
        !shown && (self.kind != "silent" || self.sureness == Sureness::Certain)
    }
}
