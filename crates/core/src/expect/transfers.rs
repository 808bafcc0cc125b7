//! Transfers that a bus should carry, one after the other.

use std::ops::ControlFlow;

use super::span::Due;
use crate::bus::{Frame, FrameSink};
use crate::capture::Capture;
use crate::decode::SerialBus;
use crate::error::Result;
use crate::event::{FrameTests, Program};
use crate::limit::Verdict;
use crate::quantity::Time;
use crate::time::Tick;

/// Transfers on a serial bus, each with the tests that it must meet.
#[derive(Clone, Debug)]
pub struct Transfers {
    /// The bus.
    pub bus: SerialBus,
    /// Only transfers that meet these; the others may be anything.
    pub only: Option<FrameTests>,
    /// What is expected of the first one, of the second one, and so on.
    pub wanted: Vec<FrameTests>,
    /// Begin after the first occurrence of this; at the start of the record otherwise.
    pub after: Option<Program>,
    /// The time in which all of them must have begun. Without it, what is missing at the end of the record may
    /// still have come.
    pub within: Option<Time>,
    /// Whether no further one may follow.
    pub complete: bool,
}

/// How a bus's transfers compare with what is expected.
#[derive(Clone, Debug, PartialEq)]
pub struct TransfersResult {
    /// Pass: all came, each certainly as it must be, and none that must not. Fail: one is certainly otherwise, or did
    /// not come in time. Inconclusive: one that is not certain decides it, or the record ends before all came. Not
    /// seen: none came at all, or what it waits for never happened.
    pub verdict: Verdict,
    /// How many were expected.
    pub expected: u64,
    /// How many were as expected before the first difference.
    pub matched: u64,
    /// The first that differs or is missing.
    pub difference: Option<TransferDifference>,
    /// How many came after all that were expected.
    pub extra: u64,
    /// When the first of them began.
    pub begins: Option<Time>,
}

/// Where transfers first differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TransferDifference {
    /// Which it is, counted from 0.
    pub place: u64,
    /// What it should meet; `None` for one that came too much.
    pub expected: Option<String>,
    /// What came; `None` for what is missing.
    pub found: Option<String>,
    /// When it begins, or since when it is missing.
    pub at: Time,
}

impl Transfers {
    /// Compares what the bus carried with what is expected.
    ///
    /// # Errors
    /// When the bus cannot be decoded at the record's clock.
    pub fn compare(&self, capture: &Capture) -> Result<TransfersResult> {
        let base = capture.base();
        let expected = self.wanted.len() as u64;
        let result = TransfersResult {
            verdict: Verdict::NotSeen,
            expected,
            matched: 0,
            difference: None,
            extra: 0,
            begins: None,
        };
        let due = Due::of(capture, self.after.as_ref(), self.within)?;
        let Some(Due { begin, end, is_over }) = due else { return Ok(result) };
        let mut comparing = Comparing { wanted: self, capture, begin, end, sure: true, result };
        for transfer in self.bus.transfers(capture, capture.range())? {
            if comparing.frame(transfer).is_break() {
                break;
            }
        }
        let Comparing { sure, mut result, .. } = comparing;
        let missing = result.difference.is_none() && result.matched < expected;
        if missing {
            let wanted = self.wanted.get(result.matched as usize);
            result.difference = Some(TransferDifference {
                place: result.matched,
                expected: wanted.map(|tests| tests.text().to_string()),
                found: None,
                at: base.time_of(end.min(Tick(capture.len()))),
            });
        }
        result.verdict = match (missing, result.difference.is_some()) {
            (true, _) if is_over && sure => Verdict::Fail,
            (true, _) if result.matched == 0 && !is_over => Verdict::NotSeen,
            (false, true) if sure => Verdict::Fail,
            (false, false) if sure => Verdict::Pass,
            _ => Verdict::Inconclusive,
        };
        Ok(result)
    }
}

struct Comparing<'a> {
    wanted: &'a Transfers,
    capture: &'a Capture,
    begin: Tick,
    end: Tick,
    /// Whether all that decided was certain.
    sure: bool,
    result: TransfersResult,
}

impl FrameSink for Comparing<'_> {
    fn frame(&mut self, transfer: Frame) -> ControlFlow<()> {
        // One that the record cuts off may have been anything.
        if transfer.start < self.begin || transfer.faults.iter().any(|fault| fault.kind == "cut-off") {
            return ControlFlow::Continue(());
        }
        if transfer.start >= self.end {
            return ControlFlow::Break(());
        }
        let meets = |tests: &FrameTests| tests.matching(false).meets_for_sure(&transfer);
        let (counts, certain) = self.wanted.only.as_ref().map_or((true, transfer.certain), meets);
        self.sure &= certain;
        if !counts {
            return ControlFlow::Continue(());
        }
        let at = self.capture.base().time_of(transfer.start);
        let result = &mut self.result;
        result.begins = result.begins.or(Some(at));
        let tests = self.wanted.wanted.get(result.matched as usize);
        let (met, certain) = tests.map_or((false, transfer.certain), meets);
        self.sure &= certain;
        match tests {
            Some(_) if met => {
                result.matched += 1;
                return ControlFlow::Continue(());
            }
            None => {
                result.extra += 1;
                if !self.wanted.complete || result.difference.is_some() {
                    return ControlFlow::Continue(());
                }
            }
            Some(_) => {}
        }
        let expected = tests.map(|tests| tests.text().to_string());
        let found = Some(transfer.to_string());
        result.difference = Some(TransferDifference { place: result.matched, expected, found, at });
        if tests.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}
