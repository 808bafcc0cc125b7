//! What a stream is searched for while it arrives.

use crate::error::Result;
use crate::event::StreamSearch;
use crate::limit::{Violation, Watch};
use crate::quantity::{resolution, signed, uncertain};
use crate::scan::Samples;
use crate::time::Tick;
use crate::trigger::search_report;

/// What the host waits for in a stream.
#[derive(Debug)]
#[non_exhaustive]
pub enum Search {
    /// An event.
    Event(Box<StreamSearch>),
    /// The first violation of a limit that is proven by what has arrived.
    Violation(Box<ViolationSearch>),
}

/// A search for the first violation.
#[derive(Debug)]
pub struct ViolationSearch {
    watch: Watch,
    found: Option<Violation>,
}

impl From<StreamSearch> for Search {
    fn from(search: StreamSearch) -> Search {
        Search::Event(Box::new(search))
    }
}

impl From<Watch> for Search {
    fn from(watch: Watch) -> Search {
        Search::Violation(Box::new(ViolationSearch { watch, found: None }))
    }
}

impl Search {
    /// Takes samples in; the tick at which it happens, the first time that it does. That may lie before these
    /// samples.
    pub(super) fn push(&mut self, samples: Samples<'_>) -> Result<Option<Tick>> {
        match self {
            Search::Event(search) => Ok(search.push(samples).first().copied()),
            Search::Violation(search) => {
                search.watch.push(samples)?;
                let first = search.watch.violations().into_iter().min_by_key(|found| found.occurrence.end);
                search.found = search.found.or(first);
                Ok(first.map(|found| found.occurrence.end))
            }
        }
    }

    /// Where began what has happened.
    pub(super) fn began(&self) -> Option<Tick> {
        match self {
            Search::Event(search) => search.began(),
            Search::Violation(search) => search.found.map(|found| found.occurrence.start),
        }
    }

    /// The first tick of what is under way and may yet happen.
    pub(super) fn since(&self) -> Option<Tick> {
        match self {
            Search::Event(search) => search.since(),
            Search::Violation(search) => Some(search.watch.decided()),
        }
    }

    /// How many samples later than it happens it may be found.
    pub(super) fn lag(&self) -> u64 {
        match self {
            Search::Event(_) => 0,
            Search::Violation(search) => search.watch.lag(),
        }
    }

    /// What was found, where it is not plain from what was asked for.
    pub(super) fn told(&self) -> Option<String> {
        let Search::Violation(search) = self else { return None };
        let found = search.found?;
        let name = search.watch.limits().nth(found.limit)?.name();
        let tick = search.watch.base().tick();
        let measured = found.measured.map(|(value, bounds)| format!(": {}", uncertain(value, bounds, tick)));
        Some(format!("the trigger is a violation of {name}{}", measured.unwrap_or_default()))
    }

    /// What was seen instead where it did not happen, a line each.
    pub(super) fn report(&self, names: &[&str]) -> String {
        let search = match self {
            Search::Event(search) => return search_report(search, names),
            Search::Violation(search) => search,
        };
        let tick = search.watch.base().tick();
        let limits = search.watch.results().into_iter().map(|result| {
            let near = result.margin.zip(result.measured.zip(result.bounds));
            let near = near.map(|(margin, (measured, bounds))| {
                format!(", the least margin {}", signed(margin, resolution(measured, bounds, tick)))
            });
            let inconclusive = match result.counts.inconclusive {
                0 => String::new(),
                count => format!(", {count} of them undecided at this rate"),
            };
            match result.counts.seen + result.counts.possible {
                0 => format!("  {}: never seen", result.name()),
                seen => format!("  {}: {seen} seen{inconclusive}{}", result.name(), near.unwrap_or_default()),
            }
        });
        format!("how near the limits came meanwhile:\n{}", limits.collect::<Vec<_>>().join("\n"))
    }
}
