//! How two records lie over each other.

use std::ops::Range;

use super::minus;
use crate::capture::Capture;
use crate::error::{Error, ErrorKind, Result};
use crate::job::Job;
use crate::quantity::Time;
use crate::time::Tick;

/// Where time zero is in each of two records, and what both cover.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Alignment {
    /// What time zero is, in words.
    pub zero: String,
    /// Where it is, in the first record's own time, and in the second's.
    pub at: (Time, Time),
    /// The stretch that both cover, seen from time zero.
    pub common: (Time, Time),
    /// The same as ticks of each.
    pub ticks: (Range<Tick>, Range<Tick>),
}

impl Alignment {
    pub(super) fn of(a: &Job, b: &Job, zero: Option<&str>, remarks: &mut Vec<String>) -> Result<Alignment> {
        let (told, at) = match zero {
            Some(event) => {
                let place = |job: &Job, which: &str| -> Result<Time> {
                    let tick = job.place(event, Tick(0)).map_err(|error| error.about(which))?;
                    Ok(job.capture.base().time_of(tick))
                };
                (format!("'{event}'"), (place(a, "the first record")?, place(b, "the second record")?))
            }
            None => {
                let trigger = |job: &Job| job.capture.origin().trigger.clone();
                let told = match (trigger(a), trigger(b)) {
                    (Some(first), Some(second)) => {
                        if first != second {
                            remarks.push(format!("the triggers differ: '{first}' and '{second}'"));
                        }
                        "the trigger"
                    }
                    (None, None) => "the start of the record",
                    _ => {
                        remarks.push("one record has a trigger and the other has none".to_string());
                        "time zero of each"
                    }
                };
                (told.to_string(), (Time::ZERO, Time::ZERO))
            }
        };
        let (first, second) = (span(&a.capture, at.0), span(&b.capture, at.1));
        let (Some(first), Some(second)) = (first, second) else { return Err(too_long()) };
        let common = (first.0.max(second.0), first.1.min(second.1));
        if common.0 >= common.1 {
            let error = Error::new(ErrorKind::Range, format!("seen from {told}, the records share no time"));
            return Err(error.with_help("choose another time zero: an event that both have"));
        }
        let ticks = ticks(&a.capture, at.0, common).zip(ticks(&b.capture, at.1, common));
        let Some(ticks) = ticks else { return Err(too_long()) };
        if (first.0, first.1) != (second.0, second.1) {
            remarks.push(
                "the records do not cover the same time: frames are compared where both do".to_string(),
            );
        }
        Ok(Alignment { zero: told, at, common, ticks })
    }

    /// A tick of the first record, seen from time zero.
    pub fn of_a(&self, capture: &Capture, tick: Tick) -> Time {
        since(capture, self.at.0, tick)
    }

    /// A tick of the second record, seen from time zero.
    pub fn of_b(&self, capture: &Capture, tick: Tick) -> Time {
        since(capture, self.at.1, tick)
    }
}

fn since(capture: &Capture, zero: Time, tick: Tick) -> Time {
    minus(capture.base().time_of(tick), zero)
}

fn span(capture: &Capture, zero: Time) -> Option<(Time, Time)> {
    let off = |tick| {
        let at = capture.base().time_of(tick).to_rational();
        at.checked_sub(zero.to_rational()).map(Time::from_rational)
    };
    Some((off(Tick(0))?, off(capture.end())?))
}

/// A stretch seen from time zero, as ticks.
fn ticks(capture: &Capture, zero: Time, (from, to): (Time, Time)) -> Option<Range<Tick>> {
    let tick = |at: Time| {
        let own = at.to_rational().checked_add(zero.to_rational())?;
        let position = capture.base().position_of(Time::from_rational(own))?;
        Some(Tick(u64::try_from(position).unwrap_or(0).min(capture.len())))
    };
    Some(tick(from)?..tick(to)?)
}

fn too_long() -> Error {
    Error::new(ErrorKind::Range, "the times of these records do not fit the arithmetic")
}
