//! A sequence of bytes that a bus should carry.

use std::ops::ControlFlow;

use super::span::Due;
use crate::bus::{FieldKind, Frame, FrameSink};
use crate::capture::Capture;
use crate::decode::SerialBus;
use crate::error::{Error, ErrorKind, Result};
use crate::event::{FrameTests, Program};
use crate::limit::Verdict;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// A sequence of bytes, or words, on a serial bus.
#[derive(Clone, Debug)]
pub struct Payload {
    /// The bus.
    pub bus: SerialBus,
    /// The field that carries them; otherwise the data of each frame.
    pub field: Option<String>,
    /// Only frames that meet these.
    pub only: Option<FrameTests>,
    /// What is expected.
    pub values: Vec<u64>,
    /// Begin after the first occurrence of this; at the start of the record otherwise.
    pub after: Option<Program>,
    /// The time in which all of it must come. Without it, what is missing at the end of the record may
    /// still have come.
    pub within: Option<Time>,
    /// Whether nothing more may follow.
    pub complete: bool,
}

/// How a bus's bytes compare with what is expected.
#[derive(Clone, Debug, PartialEq)]
pub struct PayloadResult {
    /// Pass: all came, and nothing that must not. Fail: a difference. Inconclusive: the record ends
    /// before all came. Not seen: nothing came at all, or what it waits for never happened.
    pub verdict: Verdict,
    /// How many were expected.
    pub expected: u64,
    /// How many were as expected before the first difference.
    pub matched: u64,
    /// The first that differs or is missing.
    pub difference: Option<Difference>,
    /// How many came after all that were expected.
    pub extra: u64,
    /// When the first of them came.
    pub begins: Option<Time>,
}

/// Where a sequence first differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Difference {
    /// Which it is, counted from 0.
    pub place: u64,
    /// What should be there; `None` for what came too much.
    pub expected: Option<u64>,
    /// What is there; `None` for what is missing.
    pub found: Option<u64>,
    /// When it begins, or since when it is missing.
    pub at: Time,
}

impl Payload {
    /// Compares what the bus carried with what is expected.
    ///
    /// # Errors
    /// When the bus cannot be decoded at the record's clock, or the record is shorter than what is
    /// expected would take.
    pub fn compare(&self, capture: &Capture) -> Result<PayloadResult> {
        let base = capture.base();
        self.fits(capture)?;
        let mut result = PayloadResult {
            verdict: Verdict::NotSeen,
            expected: self.values.len() as u64,
            matched: 0,
            difference: None,
            extra: 0,
            begins: None,
        };
        let due = Due::of(capture, self.after.as_ref(), self.within)?;
        let Some(Due { begin, end, is_over }) = due else { return Ok(result) };
        // The decoder begins at the start of the record, so that it knows where it is.
        let mut sink = Comparing { payload: self, capture, begin, end, result: &mut result };
        self.bus.decode(capture, capture.range(), &mut sink)?;
        let missing = result.difference.is_none() && result.matched < result.expected;
        if missing {
            result.difference = Some(Difference {
                place: result.matched,
                expected: self.values.get(result.matched as usize).copied(),
                found: None,
                at: base.time_of(end.min(Tick(capture.len()))),
            });
        }
        result.verdict = match (missing, result.difference.is_some()) {
            (true, _) if is_over => Verdict::Fail,
            (true, _) if result.matched == 0 => Verdict::NotSeen,
            (true, _) => Verdict::Inconclusive,
            (false, true) => Verdict::Fail,
            (false, false) => Verdict::Pass,
        };
        Ok(result)
    }

    /// Whether the record is long enough for all of it.
    fn fits(&self, capture: &Capture) -> Result<()> {
        let bit_rate = self.bus.protocol().bit_rate();
        // A bit takes a tick at the least, and a byte eight bits.
        let bit = bit_rate.and_then(|rate| rate.to_rational().recip()).unwrap_or(base_tick(capture));
        let whole = bit.checked_mul(Rational::from(8 * self.values.len() as i64));
        let Some(whole) = whole.filter(|whole| *whole > capture.duration().to_rational()) else {
            return Ok(());
        };
        let message = format!(
            "{} bytes on '{}' take {} or more, and the record is {} long",
            self.values.len(),
            self.bus.name(),
            Time::from_rational(whole),
            capture.duration()
        );
        Err(Error::new(ErrorKind::Range, message).with_help("record longer, or expect less"))
    }
}

fn base_tick(capture: &Capture) -> Rational {
    capture.base().tick().to_rational()
}

struct Comparing<'a> {
    payload: &'a Payload,
    capture: &'a Capture,
    begin: Tick,
    end: Tick,
    result: &'a mut PayloadResult,
}

impl FrameSink for Comparing<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        let payload = self.payload;
        if frame.start < self.begin || payload.only.as_ref().is_some_and(|tests| !tests.are_met_by(&frame)) {
            return ControlFlow::Continue(());
        }
        if frame.start >= self.end {
            return ControlFlow::Break(());
        }
        let wanted = |field: &crate::bus::Field| match &payload.field {
            Some(name) => field.name == name.as_str(),
            None => field.kind == FieldKind::Data,
        };
        let base = self.capture.base();
        for field in frame.fields.iter().filter(|field| wanted(field)) {
            let at = base.time_of(field.start);
            self.result.begins = self.result.begins.or(Some(at));
            let place = self.result.matched;
            match payload.values.get(place as usize) {
                Some(expected) if *expected == field.value => self.result.matched += 1,
                expected => {
                    if expected.is_none() {
                        self.result.extra += 1;
                        if !payload.complete {
                            continue;
                        }
                    }
                    if self.result.difference.is_none() {
                        let found = Some(field.value);
                        let place = place + self.result.extra.saturating_sub(1);
                        self.result.difference =
                            Some(Difference { place, expected: expected.copied(), found, at });
                    }
                    if expected.is_some() {
                        return ControlFlow::Break(());
                    }
                }
            }
        }
        ControlFlow::Continue(())
    }
}
