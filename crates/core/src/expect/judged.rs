//! How every occurrence of what is expected went.

use crate::limit::{Counts, Verdict};
use crate::measure::Measure;
use crate::quantity::Time;

/// Most deviations that are kept.
const MOST: usize = 1000;

/// How every occurrence of what is expected went.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Judged {
    /// Fail: an occurrence is certainly otherwise. Inconclusive: one could not be decided, or the record cuts off the
    /// only ones. Pass: all are as expected. Not seen: there is none.
    pub verdict: Verdict,
    /// How many occurrences ended how; those that the record cuts off are `unpaired`.
    pub counts: Counts,
    /// What came that belongs to none of them: values after the end of one, transfers between them.
    pub besides: u64,
    /// When the first occurrence begins.
    pub begins: Option<Time>,
    /// Those that are not as expected, or undecided, in order of time: up to a thousand.
    pub deviations: Vec<Deviation>,
    /// Of an exchange: how long it was from step to step, by the name of the later one.
    pub pauses: Vec<Pause>,
}

/// The time from the end of one step of an exchange to the beginning of the next.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Pause {
    /// The name of the later step.
    pub before: String,
    /// How often it came.
    pub count: u64,
    /// The shortest.
    pub shortest: Measure,
    /// The longest.
    pub longest: Measure,
}

/// An occurrence that is not certainly as expected.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Deviation {
    /// Which occurrence it is, from 0, among those that were judged.
    pub occurrence: u64,
    /// When that begins.
    pub begins: Time,
    /// Whether it fails, or is undecided.
    pub verdict: Verdict,
    /// Which of its values or steps it is, from 0.
    pub place: u64,
    /// The name of that step, where it has one.
    pub step: Option<String>,
    /// In which way it deviates.
    pub kind: DeviationKind,
    /// What should be there, in words; nothing for what came too much.
    pub expected: Option<String>,
    /// What is there; nothing for what is missing.
    pub found: Option<String>,
    /// When it begins, or since when it is missing.
    pub at: Time,
}

/// In which way an occurrence is not as expected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum DeviationKind {
    /// Something else came.
    Differs,
    /// It did not come, or not in time.
    Missing,
    /// More came than may.
    TooMuch,
    /// A step came too early or too late after the one before.
    Pause,
    /// It is as expected, as far as the record shows, but not for certain.
    NotCertain,
}

impl Deviation {
    /// The first that fails, otherwise the first at all.
    pub fn first_of(all: &[Deviation]) -> Option<&Deviation> {
        all.iter().find(|deviation| deviation.verdict == Verdict::Fail).or(all.first())
    }
}

/// How one occurrence ended.
#[derive(Clone, Debug)]
pub(super) enum Ended {
    /// As expected.
    Whole,
    /// At a place that is not as expected.
    Otherwise(Otherwise),
    /// The record ends first, or it began before it; and whether anything of it is there.
    CutOff { seen: bool },
}

/// What is not as expected.
#[derive(Clone, Debug)]
pub(super) struct Otherwise {
    pub(super) kind: DeviationKind,
    pub(super) place: u64,
    pub(super) step: Option<String>,
    pub(super) expected: Option<String>,
    pub(super) found: Option<String>,
    pub(super) at: Time,
}

/// One occurrence.
#[derive(Clone, Debug)]
pub(super) struct Occurrence {
    pub(super) begins: Time,
    /// Whether it certainly is one.
    pub(super) is_one: bool,
    /// Whether all that it was judged by is certain.
    pub(super) sure: bool,
    pub(super) ended: Ended,
}

/// Counts occurrences.
#[derive(Debug)]
pub(super) struct Tally {
    judged: Judged,
    /// Whether one that is perhaps none is not as expected.
    doubt: bool,
    /// Whether anything of one that was cut off is there.
    begun: bool,
}

impl Tally {
    pub(super) fn new() -> Self {
        let judged = Judged {
            verdict: Verdict::NotSeen,
            counts: Counts::default(),
            besides: 0,
            begins: None,
            deviations: Vec::new(),
            pauses: Vec::new(),
        };
        Tally { judged, doubt: false, begun: false }
    }

    /// Something belongs to no occurrence.
    pub(super) fn beside(&mut self, count: u64) {
        self.judged.besides += count;
    }

    /// Something may be an occurrence, and was not judged.
    pub(super) fn possible(&mut self) {
        self.judged.counts.possible += 1;
        self.doubt = true;
    }

    pub(super) fn add(&mut self, occurrence: Occurrence) {
        let Occurrence { begins, is_one, sure, ended } = occurrence;
        let counts = &mut self.judged.counts;
        if is_one {
            self.judged.begins = self.judged.begins.or(Some(begins));
        } else {
            counts.possible += 1;
        }
        let occurrence = counts.seen;
        let verdict = match (&ended, sure) {
            (Ended::CutOff { seen }, _) => {
                counts.unpaired += u64::from(is_one);
                self.begun |= seen;
                return;
            }
            (Ended::Whole, true) => Verdict::Pass,
            (Ended::Otherwise(_), true) if is_one => Verdict::Fail,
            _ => Verdict::Inconclusive,
        };
        if is_one {
            counts.seen += 1;
            match verdict {
                Verdict::Pass => counts.passed += 1,
                Verdict::Fail => counts.failed += 1,
                _ => counts.inconclusive += 1,
            }
        } else {
            self.doubt |= verdict != Verdict::Pass;
        }
        if verdict == Verdict::Pass || self.judged.deviations.len() >= MOST {
            return;
        }
        let otherwise = match ended {
            Ended::Otherwise(otherwise) => otherwise,
            Ended::Whole | Ended::CutOff { .. } => Otherwise {
                kind: DeviationKind::NotCertain,
                place: 0,
                step: None,
                expected: None,
                found: None,
                at: begins,
            },
        };
        let Otherwise { kind, place, step, expected, found, at } = otherwise;
        let deviation = Deviation { occurrence, begins, verdict, place, step, kind, expected, found, at };
        self.judged.deviations.push(deviation);
    }

    pub(super) fn finish(mut self) -> Judged {
        let counts = &self.judged.counts;
        self.judged.verdict = match () {
            () if counts.failed > 0 => Verdict::Fail,
            () if counts.inconclusive > 0 || self.doubt => Verdict::Inconclusive,
            () if counts.passed > 0 => Verdict::Pass,
            () if self.begun => Verdict::Inconclusive,
            () => Verdict::NotSeen,
        };
        self.judged
    }
}
