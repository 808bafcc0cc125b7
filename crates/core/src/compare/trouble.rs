//! What is wrong in one of two records only.

use super::{OneOf, Pair};
use crate::decode::SerialBus;
use crate::diagnose::{Finding, Sureness, diagnose_buses};
use crate::job::Job;
use crate::line::LineId;
use crate::measure::glitches;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// Ticks of the shortest pulse that is no glitch, where nothing is said of it.
const SHORTEST: i64 = 3;

/// Something that is wrong in one record, and not in the other.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct TroubleComparison {
    /// The record that has it.
    pub side: OneOf,
    /// The bus or the line.
    pub about: String,
    /// A word for it: `glitches`, or the kind of a finding.
    pub kind: String,
    /// In words.
    pub what: String,
    /// Where it is first seen in that record, if at one place.
    pub at: Option<Tick>,
}

pub(super) fn compare(pair: &Pair<'_>) -> Vec<TroubleComparison> {
    let mut all = Vec::new();
    let (a, b) = (findings(pair.a), findings(pair.b));
    let same = |one: &Finding, other: &Finding| (one.kind, &one.buses) == (other.kind, &other.buses);
    for (side, own, others) in [(OneOf::A, &a, &b), (OneOf::B, &b, &a)] {
        let new = own.iter().filter(|finding| !others.iter().any(|other| same(finding, other)));
        let new = new.filter(|finding| !finding.buses.iter().all(|bus| pair.ignores(bus)));
        all.extend(new.map(|finding| TroubleComparison {
            side,
            about: finding.buses.join(", "),
            kind: finding.kind.to_string(),
            what: format!("{} ({})", finding.said(), finding.sureness),
            at: finding.at,
        }));
    }
    all.extend(glitchy(pair));
    all
}

/// What is at least likely: the rest may be there by chance.
fn findings(job: &Job) -> Vec<Finding> {
    let buses: Vec<&SerialBus> = job.setup.iter().flat_map(|setup| &setup.serial).collect();
    let found = diagnose_buses(&job.capture, &buses);
    found.into_iter().filter(|finding| finding.sureness != Sureness::Possible).collect()
}

/// Lines that have glitches in one record only.
fn glitchy(pair: &Pair<'_>) -> Vec<TroubleComparison> {
    let (a, b) = (&pair.a.capture, &pair.b.capture);
    let coarser = a.base().tick().max(b.base().tick());
    let ticks = coarser.to_rational().checked_mul(Rational::from(SHORTEST)).map(Time::from_rational);
    let below = pair.options.glitches_below.or(ticks).unwrap_or(coarser);
    let mut all = Vec::new();
    for (place, line) in a.lines().iter().enumerate().filter(|(_, line)| !pair.ignores(&line.name)) {
        let Ok(other) = b.line_named(&line.name) else { continue };
        let (of_a, of_b) = (glitches(a, LineId(place), below), glitches(b, other, below));
        let (side, found) = match (of_a.count, of_b.count) {
            (1.., 0) => (OneOf::A, of_a),
            (0, 1..) => (OneOf::B, of_b),
            _ => continue,
        };
        let pulses = if found.count == 1 { "pulse" } else { "pulses" };
        all.push(TroubleComparison {
            side,
            about: line.name.clone(),
            kind: "glitches".to_string(),
            what: format!("{} {pulses} shorter than {below}", found.count),
            at: found.first,
        });
    }
    all
}
