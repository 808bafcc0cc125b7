//! What a pairing gives out.

use std::ops::ControlFlow;

use super::batch::{Batch, Paired, Unanswered};
use super::party::{Feed, Party};
use crate::event::{Certainty, Hit};
use crate::known::{BEYOND, Span};
use crate::time::Tick;

/// A partner that an event may have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Partner {
    /// Its tick.
    pub tick: Tick,
    /// Ticks from the earlier of the two to the later one; negative where it is recorded on the other
    /// side, but may have come on this one.
    pub ticks: i64,
    /// Whether it certainly happened, and in this order.
    pub certain: bool,
    /// Whether the record shows it.
    pub recorded: bool,
    /// Whether it is possible only where lines of partners may have had pulses that the record does not show.
    pub hidden: bool,
}

impl Partner {
    /// The same as a mark.
    pub fn hit(self) -> Hit {
        let certainty = match (self.recorded, self.certain) {
            (_, true) => Certainty::Certain,
            (true, false) => Certainty::Doubtful,
            (false, false) => Certainty::Possible,
        };
        Hit { tick: self.tick, certainty }
    }
}

/// Takes pairs, in order of their events, and may say stop.
pub trait Pairs {
    /// An event and its partner, which certainly belong together; by far the most are such.
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()>;

    /// Many of that kind, and starts between them that certainly have no partner.
    fn all_certain(&mut self, batch: &Batch) -> ControlFlow<()> {
        self.one_by_one(batch)
    }

    /// The same as a call for each.
    fn one_by_one(&mut self, batch: &Batch) -> ControlFlow<()> {
        batch.in_order().try_for_each(|paired| match paired {
            Paired::Certain(event, partner) => self.certain(event, partner),
            Paired::Unanswered(Unanswered { start, .. }) => {
                self.open(Hit { tick: start, certainty: Certainty::Certain }, &[])
            }
        })
    }

    /// An event with all partners that it may have, the likeliest first; with none where it has none.
    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()>;

    /// An event with what may be its last partner so far, where later ones may lie beyond the record.
    fn unended(&mut self, event: Hit, _: &[Partner]) -> ControlFlow<()> {
        self.open(event, &[])
    }
}

/// Gives an event out with its partners: as a certain pair where nothing is open.
#[inline]
pub(super) fn give(event: Hit, partners: &[Partner], pairs: &mut impl Pairs) -> ControlFlow<()> {
    match partners {
        [Partner { tick, certain: true, .. }] if event.is_certain() => pairs.certain(event.tick, *tick),
        _ => pairs.open(event, partners),
    }
}

/// Where a pairing stands when it returns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Advance {
    /// All events have been given out.
    Done,
    /// More marks must arrive.
    Waiting,
}

/// Pairs events of two kinds.
pub trait Pairing {
    /// The record has ended, after so many ticks.
    fn end(&mut self, len: u64);

    /// Pairs as many events as the marks so far allow.
    fn advance<E: Feed, P: Feed>(
        &mut self,
        events: &mut Party<E>,
        partners: &mut Party<P>,
        pairs: &mut impl Pairs,
    ) -> ControlFlow<(), Advance>;
}

/// How many ticks an event must follow another one for their order to be possible, and certain.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Together {
    /// From here on, the second is possibly after the first.
    pub possible_from: i64,
    /// From here on, it certainly is.
    pub certain_from: i64,
    /// From here on, it certainly is, and does not coincide with the first.
    pub apart_from: i64,
}

impl Together {
    /// That of events whose intervals are known like this; `same_tick` says whether two exact instants
    /// that coincide are in order. `None` when exact arithmetic does not fit.
    pub fn new(span: &Span, same_tick: bool) -> Option<Self> {
        let (certain_from, possible_from) = span.in_order_from(same_tick)?;
        let (apart_from, _) = span.in_order_from(false)?;
        Some(Together { possible_from, certain_from, apart_from })
    }

    /// Whether a second start certainly comes after an answer, so that the answer is not its own.
    #[inline]
    pub(super) fn supersedes(self, answer: Tick, start: Tick) -> bool {
        start.since(answer) >= self.apart_from
    }
}

/// The ends of a record, beyond which events are not known: one may lie just before its first tick or just
/// after its last, and with skew even come between two that are seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Ends {
    /// The first tick after it.
    end: Tick,
}

/// The length of a record whose end has not come yet: beyond everything that is known of it.
pub const UNENDED: u64 = u64::MAX / 8;

impl Ends {
    /// Of a record of this length.
    pub(super) fn of(len: u64) -> Self {
        Ends { end: Tick(len) }
    }

    /// The last tick at which an event would not be seen before the record begins: that of its first
    /// sample.
    pub(super) const BEFORE: Tick = Tick(0);

    /// The first tick at which an event would not be seen after it.
    pub(super) fn after(self) -> Tick {
        self.end
    }

    /// A partner that lies at an end and is not seen, so many ticks from its event.
    pub(super) fn unseen(tick: Tick, ticks: i64) -> Partner {
        Partner { tick, ticks, certain: false, recorded: false, hidden: false }
    }

    /// Partners that lie anywhere beyond an end which is so many ticks from the event.
    pub(super) fn beyond(tick: Tick, ticks: i64) -> [Partner; 2] {
        [ticks, BEYOND].map(|ticks| Ends::unseen(tick, ticks))
    }
}

/// Partners that one event is given at the most: beyond, the rest is one that may be anywhere.
pub(super) const MOST_PARTNERS: usize = 1024;
