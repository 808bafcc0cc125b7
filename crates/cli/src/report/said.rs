//! Small parts of the page: verdicts, names with what they are, expectations.

use deep_tap::limit::Verdict;

/// A name and what it is.
pub(super) struct Fact {
    pub(super) name: String,
    pub(super) value: String,
}

/// What was expected besides timing.
pub(super) struct Expected {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) tone: Tone,
    pub(super) verdict: String,
    pub(super) found: String,
    pub(super) at: String,
    /// What is not as expected, one by one.
    pub(super) deviations: Vec<Fact>,
}

/// How a verdict is set off: the worst comes first. Each has a sign and a word besides its colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Tone {
    Fail,
    Open,
    Unseen,
    Pass,
    /// Nothing was asked.
    None,
}

impl Tone {
    pub(super) fn of_overall(verdict: Option<Verdict>) -> Self {
        verdict.map_or(Tone::None, Tone::from)
    }

    /// Its name in the style sheet.
    pub(super) fn class(self) -> &'static str {
        match self {
            Tone::Fail => "fail",
            Tone::Open => "open",
            Tone::Unseen => "unseen",
            Tone::Pass => "pass",
            Tone::None => "none",
        }
    }

    pub(super) fn sign(self) -> &'static str {
        match self {
            Tone::Fail => "✕",
            Tone::Open => "?",
            Tone::Unseen => "–",
            Tone::Pass => "✓",
            Tone::None => "·",
        }
    }

    pub(super) fn word(self) -> &'static str {
        match self {
            Tone::Fail => "FAIL",
            Tone::Open => "inconclusive",
            Tone::Unseen => "not seen",
            Tone::Pass => "pass",
            Tone::None => "no verdict",
        }
    }
}

impl From<Verdict> for Tone {
    fn from(verdict: Verdict) -> Tone {
        match verdict {
            Verdict::Fail => Tone::Fail,
            Verdict::Inconclusive => Tone::Open,
            Verdict::NotSeen => Tone::Unseen,
            Verdict::Pass => Tone::Pass,
        }
    }
}
