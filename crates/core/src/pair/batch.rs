//! Many pairs at once.

use std::fmt;
use std::ops::ControlFlow;

use crate::time::Tick;

/// Pairs that certainly belong together, and how far apart they are; between them, starts whose wait another start
/// ended.
#[derive(Clone)]
pub struct Batch {
    pairs: Box<[(Tick, Tick); ROOM]>,
    count: usize,
    waits: Box<[Unanswered; ROOM]>,
    waiting: usize,
    least: u64,
    most: u64,
    sum: u128,
}

/// What comes next in a batch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Paired {
    /// An event and its partner.
    Certain(Tick, Tick),
    /// A start that nothing answered.
    Unanswered(Unanswered),
}

impl Paired {
    /// The event, or the start.
    pub fn event(self) -> Tick {
        match self {
            Paired::Certain(event, _) => event,
            Paired::Unanswered(wait) => wait.start,
        }
    }
}

/// A start that nothing answered before the next one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Unanswered {
    /// The start.
    pub start: Tick,
    /// The next one.
    pub next: Tick,
    /// How many pairs of the batch come before it.
    pub place: usize,
}

impl Unanswered {
    /// How long it lasted.
    pub fn ticks(self) -> i64 {
        self.next.since(self.start)
    }
}

/// Most pairs of a batch, and from how many on it should be given out: a word has up to 64 more.
const ROOM: usize = 256;
const FULL: usize = ROOM - 64;

impl Default for Batch {
    fn default() -> Self {
        let nothing = (Tick(0), Tick(0));
        let (pairs, waits) = (Box::new([nothing; ROOM]), Box::new([Unanswered::default(); ROOM]));
        Batch { pairs, count: 0, waits, waiting: 0, least: 0, most: 0, sum: 0 }
    }
}

impl fmt::Debug for Batch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Batch").field("pairs", &self.pairs()).field("waits", &self.waits()).finish()
    }
}

/// Writes pairs into a batch, without a branch for each of them.
pub(super) struct Writer<'b> {
    pairs: &'b mut [(Tick, Tick); ROOM],
    count: usize,
    waits: &'b mut [Unanswered; ROOM],
    waiting: usize,
}

impl Writer<'_> {
    /// Adds an event and its partner, if that is so.
    #[inline(always)]
    pub(super) fn pair(&mut self, is_so: bool, event: u64, partner: u64) {
        self.pairs[self.count % ROOM] = (Tick(event), Tick(partner));
        self.count += usize::from(is_so);
    }

    /// Adds a start and the next one, which ends its wait, if that is so.
    #[inline(always)]
    pub(super) fn wait(&mut self, is_so: bool, start: u64, next: u64) {
        self.waits[self.waiting % ROOM] =
            Unanswered { start: Tick(start), next: Tick(next), place: self.count };
        self.waiting += usize::from(is_so);
    }

    /// Takes out what begins at a tick or after it.
    pub(super) fn truncate(&mut self, tick: u64) {
        while self.count > 0 && self.pairs[(self.count - 1) % ROOM].0 >= Tick(tick) {
            self.count -= 1;
        }
        while self.waiting > 0 && self.waits[(self.waiting - 1) % ROOM].start >= Tick(tick) {
            self.waiting -= 1;
        }
    }
}

impl Batch {
    /// Adds what `write` writes, of the marks of one word at the most.
    #[inline(always)]
    pub(super) fn write(&mut self, write: impl FnOnce(&mut Writer<'_>)) {
        let Batch { pairs, count, waits, waiting, .. } = self;
        let mut writer = Writer { pairs, count: *count, waits, waiting: *waiting };
        write(&mut writer);
        (*count, *waiting) = (writer.count, writer.waiting);
    }

    /// Events and their partners, in order of the events.
    pub fn pairs(&self) -> &[(Tick, Tick)] {
        &self.pairs[..self.count.min(ROOM)]
    }

    /// The starts between them that nothing answered, in order.
    pub fn waits(&self) -> &[Unanswered] {
        &self.waits[..self.waiting.min(ROOM)]
    }

    /// The fewest and the most ticks between two of a pair.
    pub fn ends(&self) -> (i64, i64) {
        let ticks = |ticks| i64::try_from(ticks).unwrap_or(i64::MAX);
        (ticks(self.least), ticks(self.most))
    }

    /// All ticks between two of a pair together.
    pub fn sum(&self) -> i128 {
        i128::try_from(self.sum).unwrap_or(i128::MAX)
    }

    /// All of it, in order.
    pub fn in_order(&self) -> impl Iterator<Item = Paired> {
        let (mut pairs, mut waits) =
            (self.pairs().iter().enumerate().peekable(), self.waits().iter().peekable());
        std::iter::from_fn(move || {
            let place = pairs.peek().map_or(usize::MAX, |(place, _)| *place);
            if let Some(wait) = waits.next_if(|wait| wait.place <= place) {
                return Some(Paired::Unanswered(*wait));
            }
            pairs.next().map(|(_, (event, partner))| Paired::Certain(*event, *partner))
        })
    }

    /// Adds an event and its partner; not to one that is full.
    #[inline]
    pub fn push(&mut self, event: Tick, partner: Tick) {
        self.write(|writer| writer.pair(true, event.0, partner.0));
    }

    /// Whether it should be given out.
    #[inline]
    pub fn is_full(&self) -> bool {
        self.count.max(self.waiting) >= FULL
    }

    /// Gives all out, if there is anything.
    pub fn give(&mut self, out: impl FnOnce(&Batch) -> ControlFlow<()>) -> ControlFlow<()> {
        if self.count + self.waiting == 0 {
            return ControlFlow::Continue(());
        }
        self.measure();
        let said = out(self);
        (self.count, self.waiting) = (0, 0);
        said
    }

    /// Works out how far apart they are.
    fn measure(&mut self) {
        let ticks = |(event, partner): &(Tick, Tick)| event.0.abs_diff(partner.0);
        let (mut least, mut most, mut sum) = (u64::MAX, 0, 0);
        for ticks in self.pairs().iter().map(ticks) {
            (least, most) = (least.min(ticks), most.max(ticks));
            sum += u128::from(ticks);
        }
        (self.least, self.most, self.sum) = (least, most, sum);
    }
}
