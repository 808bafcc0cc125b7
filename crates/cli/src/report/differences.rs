//! What differs between the two records of a page, with both waveforms one above the other.

use std::collections::HashSet;

use deep_tap::compare::{CompareOptions, compare};
use deep_tap::draw::{Dimension, Marker, RowSource};
use deep_tap::job::Job;
use deep_tap::line::LineId;
use deep_tap::quantity::{Rational, Time};
use deep_tap::time::Tick;

use super::figure::{Budget, Figure, Stretch, rows_of};
use crate::commands::compare::{Both, Item, frame_text, items};
use crate::errors::Failure;
use crate::rows::{self, RowKind};
use crate::words::counted;

/// Differences that are drawn.
const MOST_DRAWN: usize = 8;
/// Places of each bus that are listed.
const MOST_PLACES: usize = 40;

/// What differs between two records.
pub(super) struct Differences {
    pub(super) answer: String,
    pub(super) zero: String,
    pub(super) items: Vec<Item>,
    /// Things that are the same.
    pub(super) same: usize,
    pub(super) buses: Vec<BusPlaces>,
    pub(super) pictures: Vec<Pictures>,
    pub(super) remarks: Vec<String>,
}

/// Where frames of a bus differ.
pub(super) struct BusPlaces {
    pub(super) name: String,
    pub(super) places: Vec<String>,
}

/// A difference in both records.
pub(super) struct Pictures {
    pub(super) title: String,
    pub(super) figures: Vec<Figure>,
}

impl Differences {
    /// Compares the first two records.
    pub(super) fn of(
        a: &Job,
        b: &Job,
        names: (&str, &str),
        budget: &mut Budget,
    ) -> Result<Differences, Failure> {
        let found = compare(a, b, &CompareOptions::default())?;
        let both = Both { a, b, found: &found };
        let items = items(&both);
        // Marks at events are looked for once.
        let markers = [a, b].map(|job| rows::markers(&job.capture, &job.marks()));
        let mut pictures = Vec::new();
        for item in items.iter().filter(|item| item.differs && item.kind != "field") {
            if pictures.len() == MOST_DRAWN {
                break;
            }
            let place = Place { both: &both, item, markers: &markers, number: pictures.len() + 1 };
            let figures = place.figures(names, budget)?;
            if !figures.is_empty() {
                pictures.push(Pictures { title: format!("{} {}", item.kind, item.name), figures });
            }
        }
        let buses = found.buses.iter().filter(|bus| !bus.found.is_empty()).map(|bus| BusPlaces {
            name: bus.name.clone(),
            places: bus.found.iter().take(MOST_PLACES).map(|place| frame_text(&both, place)).collect(),
        });
        let (differing, same): (Vec<Item>, Vec<Item>) = items.into_iter().partition(|item| item.differs);
        Ok(Differences {
            answer: match found.differences() {
                0 => "nothing differs".to_string(),
                count => counted(count, "difference"),
            },
            zero: found.alignment.zero.clone(),
            same: same.len(),
            buses: buses.collect(),
            pictures,
            remarks: found.remarks.clone(),
            items: differing,
        })
    }
}

/// Where an item is looked at.
struct Place<'a> {
    both: &'a Both<'a>,
    item: &'a Item,
    /// Of the first record, and of the second.
    markers: &'a [Vec<Marker>; 2],
    number: usize,
}

impl Place<'_> {
    /// Both records where the item differs: each at its own place; one that has none at the same time.
    fn figures(&self, names: (&str, &str), budget: &mut Budget) -> Result<Vec<Figure>, Failure> {
        let (a, b) = (self.both.a, self.both.b);
        let alignment = &self.both.found.alignment;
        let (at_a, at_b) = match self.item.at {
            (Some(at_a), Some(at_b)) => (Some(at_a), Some(at_b)),
            (Some(at), None) => (Some(at), same_time((a, alignment.at.0), (b, alignment.at.1), at)),
            (None, Some(at)) => (same_time((b, alignment.at.1), (a, alignment.at.0), at), Some(at)),
            (None, None) => return Ok(Vec::new()),
        };
        // Both are shown at one scale.
        let long = |(job, at): (&Job, Option<Tick>)| {
            let span = i64::try_from(self.span(job, at?)).unwrap_or(i64::MAX);
            Some(job.capture.base().length_of(span))
        };
        let Some(span) = [(a, at_a), (b, at_b)].into_iter().filter_map(long).max() else {
            return Ok(Vec::new());
        };
        let mut figures = Vec::new();
        for (letter, job, at, name) in [("A", a, at_a, names.0), ("B", b, at_b, names.1)] {
            let Some(at) = at else { continue };
            let id = format!("d{}-{}", self.number, letter.to_lowercase());
            let caption = format!(
                "{letter}, {name}: {} {}",
                self.item.name,
                if letter == "A" { &self.item.a } else { &self.item.b }
            );
            figures.extend(self.figure(job, (at, span), (id, caption), budget)?);
        }
        Ok(figures)
    }

    fn figure(
        &self,
        job: &Job,
        (at, span): (Tick, Time),
        (id, caption): (String, String),
        budget: &mut Budget,
    ) -> Result<Option<Figure>, Failure> {
        let capture = &job.capture;
        let ticks = capture.base().ticks_in(span).map(Rational::ceil);
        let span = ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(capture.len());
        let from = Tick(at.0.saturating_sub(span / 4));
        let to = Tick(from.0.saturating_add(span).min(capture.len()));
        let [of_a, of_b] = self.markers;
        let markers = if std::ptr::eq(job, self.both.a) { of_a } else { of_b };
        let rows = self.rows(job);
        let dimensions = self.dimension(job).into_iter().collect();
        let stretch = Stretch { rows, from, to, markers, dimensions };
        Figure::of(job, id, caption, &stretch, budget)
    }

    /// The worst occurrence of a limit in one of the records.
    fn dimension(&self, job: &Job) -> Option<Dimension> {
        let limit = self.both.found.limits.iter().find(|limit| limit.name == self.item.name)?;
        let one = if std::ptr::eq(job, self.both.a) { &limit.a } else { &limit.b };
        let result = &one.as_ref()?.result;
        let bound = job.limit(&limit.name).ok()?;
        Some(rows::dimension(&job.capture, bound, result, result.worst.as_ref()?))
    }

    /// The rows that show it.
    fn rows(&self, job: &Job) -> Vec<RowKind> {
        let name = self.item.name.as_str();
        if let Ok(limit) = job.limit(name) {
            return rows_of(job, limit);
        }
        let bus = rows::frame_buses(job).find(|bus| bus.name() == name);
        let own = bus.map(|bus| bus.lines().iter().copied().collect()).unwrap_or_else(|| self.lines(job));
        let shown = |row: &RowKind| match (row, row.source(job)) {
            (RowKind::Line(line), _) => own.contains(line),
            (RowKind::Bus(bus), _) => job.capture.buses()[bus.0].lines.iter().any(|line| own.contains(line)),
            (_, Some(RowSource::Frames(bus))) => bus.lines().iter().any(|line| own.contains(line)),
            _ => false,
        };
        let all: Vec<RowKind> = rows::all(job).into_iter().filter(shown).collect();
        if all.is_empty() { rows::all(job) } else { all }
    }

    /// The line of this name.
    fn lines(&self, job: &Job) -> HashSet<LineId> {
        job.capture.line_named(&self.item.name).into_iter().collect()
    }

    /// How much is shown: what a limit's worst takes, the frame that is there, or some edges.
    fn span(&self, job: &Job, at: Tick) -> u64 {
        const LEAST: u64 = 80;
        let limit = self.both.found.limits.iter().find(|limit| limit.name == self.item.name);
        let takes = limit.into_iter().flat_map(|limit| [&limit.a, &limit.b]).flatten();
        let takes = takes.filter_map(|one| one.result.worst).map(|worst| worst.end.0 - worst.start.0).max();
        let bus = rows::frame_buses(job).find(|bus| bus.name() == self.item.name);
        let frame = bus.and_then(|bus| {
            let end = Tick(at.0.saturating_add(1).min(job.capture.len()));
            let frame = bus.transfers(&job.capture, at..end).ok()?.next()?;
            Some(frame.carried_until().0.saturating_sub(frame.start.0))
        });
        takes.or(frame).unwrap_or(LEAST).saturating_mul(2).max(LEAST)
    }
}

/// The tick of another record at the same time, seen from time zero; nothing where that lies outside.
fn same_time((own, own_zero): (&Job, Time), (other, other_zero): (&Job, Time), at: Tick) -> Option<Tick> {
    let at = own.capture.base().time_of(at).to_rational();
    let at = at.checked_sub(own_zero.to_rational())?.checked_add(other_zero.to_rational())?;
    let tick = other.capture.base().position_of(Time::from_rational(at))?;
    u64::try_from(tick).ok().filter(|tick| *tick < other.capture.len()).map(Tick)
}
