//! Serial buses of two records, frame by frame.

use std::collections::BTreeMap;
use std::ops::Range;

use super::frames::{Shape, both_certain};
use super::sequence::differences;
use super::{OneOf, Pair, by_name, minus};
use crate::bus::{Fault, Frame};
use crate::decode::SerialBus;
use crate::error::Result;
use crate::job::Job;
use crate::quantity::Time;
use crate::time::Tick;

/// Frames of a bus that are compared at the most.
const MOST_FRAMES: usize = 500_000;
/// Differences of a bus that are kept, of each of both sorts.
const MOST_KEPT: usize = 200;

/// A serial bus, or an exchange, in both records.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct BusComparison {
    /// Its name.
    pub name: String,
    /// The record that has it, where only one does.
    pub only: Option<OneOf>,
    /// Why it is not compared, where it cannot be read.
    pub unread: Option<String>,
    /// What was compared: `frames`, or `transfers` where frames belong together.
    pub of: &'static str,
    /// How many there are in each.
    pub counts: (u64, u64),
    /// How many are in both, with the same values or with others.
    pub matched: u64,
    /// How many are in the first record only.
    pub missing: u64,
    /// How many are in the second record only.
    pub extra: u64,
    /// How many stand in for another one.
    pub replaced: u64,
    /// Those at the ends of the common time, which only one record may have within it.
    pub at_the_ends: u64,
    /// Fields with other values.
    pub fields: Vec<FieldChange>,
    /// How much later each comes in the second record, at the least and at the most.
    pub later: Option<(Time, Time)>,
    /// The first differences in order: frames of one record only, or in place of others, then those that carry other
    /// values.
    pub found: Vec<FrameDifference>,
}

/// A field whose values differ.
#[derive(Clone, Debug, PartialEq)]
pub struct FieldChange {
    /// Its name.
    pub field: String,
    /// How many values differ, of how many.
    pub count: u64,
    /// How many were compared.
    pub of: u64,
    /// The first of them: its value in the first record, and in the second, with its name if it has one.
    pub first: (String, String),
    /// Where that is, in each.
    pub at: (Tick, Tick),
}

/// A place where frames differ.
#[derive(Clone, Debug, PartialEq)]
pub struct FrameDifference {
    /// In which way.
    pub kind: FrameDifferenceKind,
    /// What the first record has, and where.
    pub a: Option<(Tick, String)>,
    /// What the second one has, and where.
    pub b: Option<(Tick, String)>,
    /// Whether it was read beyond doubt.
    pub certain: bool,
}

/// In which way frames differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameDifferenceKind {
    /// The second record does not have it.
    Missing,
    /// The first record does not have it.
    Extra,
    /// There is another one in its place.
    Replaced,
    /// It carries other values.
    Values,
}

impl BusComparison {
    /// Whether anything differs.
    pub fn differs(&self) -> bool {
        self.only.is_some() || self.missing + self.extra + self.replaced > 0 || !self.fields.is_empty()
    }

    fn of(name: &str) -> Self {
        BusComparison {
            name: name.to_string(),
            only: None,
            unread: None,
            of: "frames",
            counts: (0, 0),
            matched: 0,
            missing: 0,
            extra: 0,
            replaced: 0,
            at_the_ends: 0,
            fields: Vec::new(),
            later: None,
            found: Vec::new(),
        }
    }
}

pub(super) fn compare(pair: &Pair<'_>, remarks: &mut Vec<String>) -> Result<Vec<BusComparison>> {
    let buses = |job: &'_ Job| -> Vec<SerialBus> {
        job.setup.iter().flat_map(|setup| setup.serial.iter().chain(&setup.exchanged)).cloned().collect()
    };
    let (a, b) = (buses(pair.a), buses(pair.b));
    let mut all = Vec::new();
    for (first, second) in by_name(&a, &b, |bus| bus.name().to_string()) {
        let Some(name) = first.or(second).map(SerialBus::name).filter(|name| !pair.ignores(name)) else {
            continue;
        };
        let mut compared = BusComparison::of(name);
        match (first, second) {
            (Some(first), Some(second)) => {
                let walk = Walk { pair, a: first, b: second };
                match walk.read() {
                    Ok((of, mut frames_a, mut frames_b)) => {
                        compared.of = of;
                        if frames_a.len().max(frames_b.len()) == MOST_FRAMES {
                            remarks.push(format!("{name}: only the first {MOST_FRAMES} {of} were compared"));
                            walk.shorten(&mut frames_a, &mut frames_b);
                        }
                        walk.compare(&mut compared, &frames_a, &frames_b);
                    }
                    Err(error) => compared.unread = Some(error.to_string()),
                }
            }
            (first, _) => compared.only = Some(if first.is_some() { OneOf::A } else { OneOf::B }),
        }
        all.push(compared);
    }
    Ok(all)
}

/// One bus in both records.
struct Walk<'a> {
    pair: &'a Pair<'a>,
    a: &'a SerialBus,
    b: &'a SerialBus,
}

impl Walk<'_> {
    /// The frames of both, or transfers where frames of either belong together.
    fn read(&self) -> Result<(&'static str, Vec<Frame>, Vec<Frame>)> {
        let (of_a, of_b) = &self.pair.alignment.ticks;
        // What an end of a record cuts off says nothing of the frame.
        let whole = |range: Range<Tick>| {
            move |frame: &Frame| {
                let inside = frame.start >= range.start && frame.start < range.end;
                inside && frame.faults.iter().all(|fault| fault.kind != Fault::CUT_OFF)
            }
        };
        let frames = |job: &Job, bus: &SerialBus, range: &Range<Tick>| -> Result<Vec<Frame>> {
            let found = bus.frames(&job.capture, range.clone())?;
            Ok(found.filter(whole(range.clone())).take(MOST_FRAMES).collect())
        };
        let transfers = |job: &Job, bus: &SerialBus, range: &Range<Tick>| -> Result<Vec<Frame>> {
            let found = bus.transfers(&job.capture, range.clone())?;
            Ok(found.filter(whole(range.clone())).take(MOST_FRAMES).collect())
        };
        let (a, b) = (frames(self.pair.a, self.a, of_a)?, frames(self.pair.b, self.b, of_b)?);
        // The characters of a stream are told apart one by one: where they pause is no more than timing.
        if self.a.protocol().is_stream() {
            return Ok(("frames", a, b));
        }
        let (whole_a, whole_b) =
            (transfers(self.pair.a, self.a, of_a)?, transfers(self.pair.b, self.b, of_b)?);
        let joined =
            !whole_a.is_empty() && whole_a.len() < a.len() || !whole_b.is_empty() && whole_b.len() < b.len();
        Ok(if joined { ("transfers", whole_a, whole_b) } else { ("frames", a, b) })
    }

    /// Leaves of both what came up to where the shorter of two lists ends that were broken off.
    fn shorten(&self, a: &mut Vec<Frame>, b: &mut Vec<Frame>) {
        let of_a = |frame: &Frame| self.pair.alignment.of_a(&self.pair.a.capture, frame.start);
        let of_b = |frame: &Frame| self.pair.alignment.of_b(&self.pair.b.capture, frame.start);
        let last_a = a.last().filter(|_| a.len() == MOST_FRAMES).map(of_a);
        let last_b = b.last().filter(|_| b.len() == MOST_FRAMES).map(of_b);
        let Some(end) = last_a.into_iter().chain(last_b).min() else { return };
        a.truncate(a.partition_point(|frame| of_a(frame) <= end));
        b.truncate(b.partition_point(|frame| of_b(frame) <= end));
    }

    fn compare(&self, all: &mut BusComparison, a: &[Frame], b: &[Frame]) {
        all.counts = (a.len() as u64, b.len() as u64);
        let shapes = |bus: &SerialBus, frames: &[Frame]| -> Vec<Shape> {
            frames.iter().map(|frame| Shape::of(bus, frame)).collect()
        };
        let (shapes_a, shapes_b) = (shapes(self.a, a), shapes(self.b, b));
        // Where nothing is the same, what comes at the same time stands for the other.
        let alignment = self.pair.alignment;
        let resume = |place: usize| {
            let at = a.get(place).map(|frame| alignment.of_a(&self.pair.a.capture, frame.start));
            let before =
                |frame: &Frame| at.is_none_or(|at| alignment.of_b(&self.pair.b.capture, frame.start) < at);
            b.partition_point(before)
        };
        let hunks = differences(&shapes_a, &shapes_b, resume);
        let mut fields = BTreeMap::new();
        let (mut i, mut j) = (0, 0);
        let ends = [(a.len()..a.len(), b.len()..b.len())];
        let mut differing = Vec::new();
        for (of_a, of_b) in hunks.into_iter().chain(ends) {
            for (first, second) in a[i..of_a.start].iter().zip(&b[j..of_b.start]) {
                all.matched += 1;
                self.values(all, &mut fields, first, second);
            }
            (i, j) = (of_a.end, of_b.end);
            differing.push((of_a, of_b));
        }
        let values = std::mem::take(&mut all.found);
        for (of_a, of_b) in differing {
            self.hunk(all, (a, b), of_a, of_b);
        }
        all.found.sort_by_key(|found| self.time(found));
        all.found.extend(values);
        all.fields = fields.into_values().filter(|change: &FieldChange| change.count > 0).collect();
    }

    /// Compares the values of a frame that is in both, and notes how much later it comes.
    fn values(
        &self,
        all: &mut BusComparison,
        fields: &mut BTreeMap<&'static str, FieldChange>,
        a: &Frame,
        b: &Frame,
    ) {
        let alignment = self.pair.alignment;
        let (at_a, at_b) =
            (alignment.of_a(&self.pair.a.capture, a.start), alignment.of_b(&self.pair.b.capture, b.start));
        let later = minus(at_b, at_a);
        let (least, most) = all.later.unwrap_or((later, later));
        all.later = Some((least.min(later), most.max(later)));
        let mut differs = false;
        for (first, second) in a.fields.iter().zip(&b.fields) {
            if self.pair.ignores(&format!("{}.{}", all.name, first.name)) {
                continue;
            }
            let shown = || {
                let of = |bus: &SerialBus, field| match bus.names().name_of(field) {
                    Some(name) => format!("{} ({name})", field.hex()),
                    None => field.hex(),
                };
                (of(self.a, first), of(self.b, second))
            };
            let change = fields.entry(first.name).or_insert_with(|| FieldChange {
                field: first.name.to_string(),
                count: 0,
                of: 0,
                first: Default::default(),
                at: (first.start, second.start),
            });
            change.of += 1;
            if first.value != second.value {
                if change.count == 0 {
                    (change.first, change.at) = (shown(), (first.start, second.start));
                }
                change.count += 1;
                differs = true;
            }
        }
        if differs && all.found.len() < MOST_KEPT {
            all.found.push(self.difference(FrameDifferenceKind::Values, Some(a), Some(b)));
        }
    }

    /// Frames that are not the same: in pairs as long as both have some.
    fn hunk(
        &self,
        all: &mut BusComparison,
        (a, b): (&[Frame], &[Frame]),
        of_a: Range<usize>,
        of_b: Range<usize>,
    ) {
        let at_end = of_a.end == a.len() && of_b.end == b.len() || of_a.start == 0 && of_b.start == 0;
        let paired = of_a.len().min(of_b.len());
        let pairs = of_a.clone().zip(of_b.clone());
        for (first, second) in pairs {
            // What an end of one of the records may have cut short is read otherwise there.
            let cut = at_end
                && self.may_be_outside(all, &a[first], OneOf::A)
                && self.may_be_outside(all, &b[second], OneOf::B);
            if cut {
                all.at_the_ends += 1;
                continue;
            }
            all.replaced += 1;
            self.keep(all, FrameDifferenceKind::Replaced, Some(&a[first]), Some(&b[second]));
        }
        for first in of_a.skip(paired) {
            match at_end && self.may_be_outside(all, &a[first], OneOf::A) {
                true => all.at_the_ends += 1,
                false => {
                    all.missing += 1;
                    self.keep(all, FrameDifferenceKind::Missing, Some(&a[first]), None);
                }
            }
        }
        for second in of_b.skip(paired) {
            match at_end && self.may_be_outside(all, &b[second], OneOf::B) {
                true => all.at_the_ends += 1,
                false => {
                    all.extra += 1;
                    self.keep(all, FrameDifferenceKind::Extra, None, Some(&b[second]));
                }
            }
        }
    }

    /// Whether the frame of one record, as much later or earlier as frames come in the other, may lie outside of the
    /// time that both cover.
    fn may_be_outside(&self, all: &BusComparison, frame: &Frame, side: OneOf) -> bool {
        let alignment = self.pair.alignment;
        let (start, end) = match side {
            OneOf::A => {
                let of = |tick| alignment.of_a(&self.pair.a.capture, tick);
                (of(frame.start), of(frame.end))
            }
            OneOf::B => {
                let of = |tick| alignment.of_b(&self.pair.b.capture, tick);
                (of(frame.start), of(frame.end))
            }
        };
        // As far as any came off, and its own length.
        let (least, most) = all.later.unwrap_or((Time::ZERO, Time::ZERO));
        let reach = minus(end, start).max(most).max(minus(Time::ZERO, least));
        minus(alignment.common.1, end) <= reach || minus(start, alignment.common.0) <= reach
    }

    fn keep(&self, all: &mut BusComparison, kind: FrameDifferenceKind, a: Option<&Frame>, b: Option<&Frame>) {
        if all.found.len() < MOST_KEPT {
            all.found.push(self.difference(kind, a, b));
        }
    }

    fn difference(&self, kind: FrameDifferenceKind, a: Option<&Frame>, b: Option<&Frame>) -> FrameDifference {
        let told = |bus: &SerialBus, frame: &Frame| (frame.start, bus.names().show(frame));
        FrameDifference {
            kind,
            a: a.map(|frame| told(self.a, frame)),
            b: b.map(|frame| told(self.b, frame)),
            certain: both_certain(a, b),
        }
    }

    /// When a difference is, seen from time zero.
    fn time(&self, found: &FrameDifference) -> Time {
        let alignment = self.pair.alignment;
        match (&found.a, &found.b) {
            (Some((tick, _)), _) => alignment.of_a(&self.pair.a.capture, *tick),
            (None, Some((tick, _))) => alignment.of_b(&self.pair.b.capture, *tick),
            (None, None) => Time::ZERO,
        }
    }
}
