//! When events happen in two records, and how long it takes from one place to another.

use super::Pair;
use super::spread::{Known, Shift};
use crate::error::Result;
use crate::event::Program;
use crate::job::{Between, Job};
use crate::quantity::Quantity;
use crate::time::Tick;

/// The time from one place to another in both records.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct PlaceComparison {
    /// Where it begins, in words.
    pub from: String,
    /// The event, or place, that it goes to.
    pub to: String,
    /// In the first record; `None` where the event does not happen in it.
    pub a: Option<Between>,
    /// In the second one.
    pub b: Option<Between>,
    /// How far it certainly moved, beyond the tolerance.
    pub moved: Option<Shift>,
}

impl PlaceComparison {
    /// Whether it moved, or is in one record only.
    pub fn differs(&self) -> bool {
        self.moved.is_some() || self.a.is_some() != self.b.is_some()
    }
}

pub(super) fn compare(pair: &Pair<'_>) -> Result<Vec<PlaceComparison>> {
    let mut all = Vec::new();
    for (from, to) in &pair.options.between {
        let a = pair.a.between(from, to).map_err(|error| error.about("the first record"))?;
        let b = pair.b.between(from, to).map_err(|error| error.about("the second record"))?;
        all.push(placed(pair, from, to, Some(a), Some(b)));
    }
    let events = |job: &Job| -> Vec<String> {
        job.setup.iter().flat_map(|setup| setup.events.iter().map(|(name, _)| name.clone())).collect()
    };
    let known = events(pair.b);
    for event in events(pair.a).into_iter().filter(|event| known.contains(event) && !pair.ignores(event)) {
        let a = since_zero(pair.a, &event, pair.alignment.at.0, pair.options.zero.as_deref());
        let b = since_zero(pair.b, &event, pair.alignment.at.1, pair.options.zero.as_deref());
        all.push(placed(pair, &pair.alignment.zero, &event, a, b));
    }
    Ok(all)
}

/// The first occurrence of an event from time zero on, within the time that both records cover.
fn since_zero(job: &Job, event: &str, zero: crate::quantity::Time, said: Option<&str>) -> Option<Between> {
    let base = job.capture.base();
    let zero = base.position_of(zero).and_then(|at| u64::try_from(at).ok()).map(Tick)?;
    let text = said.map(str::to_string).or_else(|| job.capture.origin().trigger.clone());
    let instants =
        text.and_then(|text| Program::compile(&text, &job.scope()).ok()).map(|program| program.instants());
    job.since_tick(zero, instants, event).ok()
}

fn placed(pair: &Pair<'_>, from: &str, to: &str, a: Option<Between>, b: Option<Between>) -> PlaceComparison {
    let known = |of: &Between| {
        let bounds = of.bounds?;
        Some(Known { value: of.value.into(), lo: bounds.lo.into(), hi: bounds.hi.map(Quantity::Time) })
    };
    let both = a.as_ref().and_then(known).zip(b.as_ref().and_then(known));
    let moved = both.and_then(|(a, b)| a.shift(&b, pair.options.tolerance.into()));
    PlaceComparison { from: from.to_string(), to: to.to_string(), a, b, moved }
}
