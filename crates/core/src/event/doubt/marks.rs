//! Edges of stored lines, a whole chunk at a time: the occurrences of an edge or a change, with how
//! sure a `while` makes them.
//!
//! This is what limits are checked with, so it answers two questions at once: what the record
//! shows, and what the true order of edges within its uncertainty could make of it. It must agree
//! with the slower [`DoubtfulHits`](crate::event::DoubtfulHits), which knows every other form;
//! `tests/it/doubt.rs` compares them.

use std::ops::Range;

use crate::capture::{CHUNK, CHUNK_WORDS, Capture, ChunkMarks, Trace};
use crate::event::check::{Form, Test3, Tree};
use crate::event::hit::{Certainty, Hit, MarkWord};
use crate::event::run::{MaskTest, NONE, Window};
use crate::event::syntax::Direction;
use crate::event::timed::TimedProgram;
use crate::known::{Precision, Rule};
use crate::line::{Level, Signal};
use crate::scan::{GROUP, Plane};
use crate::time::Tick;

/// Most ticks of doubt on either side of an edge that are looked at here.
const MOST_DOUBT: u64 = 30;

/// The occurrences of an edge or a change of lines that are never unknown.
#[derive(Clone, Debug)]
pub(in crate::event) struct Marks<'a> {
    lines: Vec<&'a Trace>,
    /// The level that an edge leads to; `None` for any.
    to: Option<Level>,
    guard: Option<Guard<'a>>,
    range: Range<u64>,
    /// First tick of the next chunk.
    next: u64,
    chunk: u64,
    /// The next word to be looked at, and what is left of the present one.
    word: usize,
    left: MarkWord,
    /// Where the event happens in the present chunk, apart from its `while`.
    marks: ChunkMarks,
}

/// What must hold at an event's instants.
#[derive(Clone, Debug)]
struct Guard<'a> {
    test: MaskTest,
    lines: Vec<&'a Trace>,
    len: u64,
    /// Within how many ticks of each other edges may have changed places; `None` in an exact record.
    reach: Option<u64>,
    /// The levels of each line in the present chunk, with a word before and one after, if they were read.
    levels: Vec<Vec<u64>>,
    read: Option<u64>,
    planes: Vec<Plane>,
    unknown: Vec<Plane>,
    /// As if all were known.
    known: Vec<Plane>,
}

impl<'a> Marks<'a> {
    /// `None` when this is another form, or levels are not all low and high.
    pub(in crate::event) fn new(
        program: &TimedProgram,
        capture: &'a Capture,
        range: Range<Tick>,
    ) -> Option<Self> {
        let (ids, to) = match &program.root().tree {
            Tree::Simple(Form::Edge(line, Direction::Rises)) => (vec![*line], Some(Level::High)),
            Tree::Simple(Form::Edge(line, Direction::Falls)) => (vec![*line], Some(Level::Low)),
            Tree::Simple(Form::Edge(line, Direction::Changes)) => (vec![*line], None),
            Tree::Simple(Form::Changes(lines)) => (lines.clone(), None),
            _ => return None,
        };
        if !program.signals().iter().all(|line| capture.trace(*line).is_two_level()) {
            return None;
        }
        let guard = match &program.root().guard {
            Some(test) => Some(Guard::new(test, program, capture)?),
            None => None,
        };
        Some(Marks::over(&ids, to, guard, capture, range))
    }

    /// All edges of one line; `None` when its levels are not all low and high.
    pub(in crate::event) fn of_line(line: Signal, capture: &'a Capture, range: Range<Tick>) -> Option<Self> {
        capture.trace(line).is_two_level().then(|| Marks::over(&[line], None, None, capture, range))
    }

    fn over(
        lines: &[Signal],
        to: Option<Level>,
        guard: Option<Guard<'a>>,
        capture: &'a Capture,
        range: Range<Tick>,
    ) -> Self {
        let range = range.start.0..range.end.0.min(capture.len());
        Marks {
            lines: lines.iter().map(|line| capture.trace(*line)).collect(),
            to,
            guard,
            next: range.start / CHUNK * CHUNK,
            range,
            chunk: 0,
            word: CHUNK_WORDS,
            left: MarkWord::default(),
            marks: ChunkMarks::new(),
        }
    }

    /// Marks the edges of the next chunk that has any; `false` at the end.
    fn next_chunk(&mut self) -> bool {
        self.marks.clear();
        while self.next < self.range.end {
            self.chunk = self.next;
            self.next += CHUNK;
            let mut any = false;
            for trace in &self.lines {
                any |= trace.mark_edges(self.chunk, self.to, &mut self.marks);
            }
            if any {
                self.word = 0;
                return true;
            }
            let edge = |trace: &&Trace| trace.next_edge(Tick(self.next - 1)).map(|edge| edge.tick.0);
            let edge = self.lines.iter().filter_map(edge).min();
            self.next = edge.map_or(self.range.end, |edge| edge / CHUNK * CHUNK).max(self.next);
        }
        false
    }

    /// The ticks of a word of the present chunk that lie in the range.
    fn in_range(&self, first: u64) -> u64 {
        if first >= self.range.start && first + GROUP as u64 <= self.range.end {
            return u64::MAX;
        }
        let below = |tick: u64| match tick.saturating_sub(first) {
            bits @ 0..64 => (1 << bits) - 1,
            _ => u64::MAX,
        };
        below(self.range.end) & !below(self.range.start)
    }
}

impl Marks<'_> {
    /// The next word that has any mark.
    #[inline]
    pub(super) fn next_word(&mut self) -> Option<MarkWord> {
        loop {
            while let Some(word) = self.marks.next_used(self.word) {
                self.word = word + 1;
                let found = self.at(word);
                if found.is_some() {
                    return found;
                }
            }
            if !self.next_chunk() {
                self.word = CHUNK_WORDS;
                return None;
            }
        }
    }

    /// Reads the words that begin before a tick into a list.
    pub(super) fn read_before(&mut self, border: Tick, into: &mut Vec<MarkWord>) {
        loop {
            while let Some(word) = self.marks.next_used(self.word) {
                if self.chunk + (word * GROUP) as u64 >= border.0 {
                    return;
                }
                self.word = word + 1;
                into.extend(self.at(word));
            }
            self.word = CHUNK_WORDS;
            if self.next >= border.0 || !self.next_chunk() {
                return;
            }
        }
    }

    /// A word of the present chunk, if it has any mark.
    #[inline]
    fn at(&mut self, word: usize) -> Option<MarkWord> {
        let first = self.chunk + (word * GROUP) as u64;
        let marks = self.marks.word(word) & self.in_range(first);
        let start = Tick(first);
        let Some(guard) = self.guard.as_mut().filter(|_| marks != 0) else {
            return (marks != 0).then_some(MarkWord { start, certain: marks, doubtful: 0, possible: 0 });
        };
        let (always, never, shown) = guard.at(self.chunk, word);
        let marks = marks & !never;
        let (certain, shown) = (marks & always, marks & shown);
        let doubtful = shown & !certain;
        (marks != 0).then_some(MarkWord { start, certain, doubtful, possible: marks & !shown & !certain })
    }
}

impl Iterator for Marks<'_> {
    type Item = Hit;

    #[inline]
    fn next(&mut self) -> Option<Hit> {
        if self.left.all() == 0 {
            self.left = self.next_word()?;
        }
        let MarkWord { start, certain, doubtful, possible } = &mut self.left;
        let lowest = *certain | *doubtful | *possible;
        let lowest = lowest & lowest.wrapping_neg();
        let certainty = match lowest {
            bit if *certain & bit != 0 => Certainty::Certain,
            bit if *doubtful & bit != 0 => Certainty::Doubtful,
            _ => Certainty::Possible,
        };
        for marks in [certain, doubtful, possible] {
            *marks &= !lowest;
        }
        Some(Hit { tick: Tick(start.0 + u64::from(lowest.trailing_zeros())), certainty })
    }
}

impl<'a> Guard<'a> {
    fn new(test: &Test3, program: &TimedProgram, capture: &'a Capture) -> Option<Self> {
        let lines = test.signals();
        let precision = Precision::of(capture, Rule::Proven);
        let order = precision.order(&program.signals(), program.program().level_error());
        if order.reach().is_some_and(|reach| reach > MOST_DOUBT) {
            return None;
        }
        Some(Guard {
            test: MaskTest::new(test, &lines),
            levels: vec![vec![0; CHUNK_WORDS + 2]; lines.len()],
            planes: vec![NONE; lines.len()],
            unknown: vec![NONE; lines.len()],
            known: vec![NONE; lines.len()],
            lines: lines.iter().map(|line| capture.trace(*line)).collect(),
            len: capture.len(),
            reach: order.reach(),
            read: None,
        })
    }

    /// Reads the levels from one word before the chunk to one after it.
    fn read(&mut self, chunk: u64) {
        for (trace, levels) in self.lines.iter().zip(&mut self.levels) {
            match chunk.checked_sub(GROUP as u64) {
                Some(start) => trace.levels_from(start, levels),
                // Nothing comes before the first tick: the level there is the one before, too.
                None => {
                    trace.levels_from(0, &mut levels[1..]);
                    levels[0] = 0u64.wrapping_sub(levels[1] & 1);
                }
            }
        }
        self.read = Some(chunk);
    }

    /// A one for each tick of a word of a chunk at which the condition certainly holds, for each at which it
    /// certainly does not, and for each at which the record shows that it does. A line that has an edge so close that
    /// its order is open may be at either level.
    fn at(&mut self, chunk: u64, word: usize) -> (u64, u64, u64) {
        if self.read != Some(chunk) {
            self.read(chunk);
        }
        let mut open = 0;
        for ((levels, plane), unknown) in self.levels.iter().zip(&mut self.planes).zip(&mut self.unknown) {
            let [before, here, after] = [levels[word], levels[word + 1], levels[word + 2]];
            plane[0] = here;
            unknown[0] = self.reach.map_or(0, |reach| near_edges([before, here, after], reach as u32));
            open |= unknown[0];
        }
        if let Some(reach) = self.reach {
            let outside = outside(chunk + (word * GROUP) as u64, reach, self.len);
            self.unknown.iter_mut().for_each(|unknown| unknown[0] |= outside);
            open |= outside;
        }
        let (start, len) = (chunk, GROUP as u32);
        let (planes, unknown) = (&self.planes, &self.known);
        let window = Window { start, len, planes, unknown, before: &[], open: true };
        let (shown, not) = self.test.word(&window, 0);
        if open == 0 {
            return (shown, not, shown);
        }
        // A one at an unknown level would say that it floats.
        for (plane, unknown) in self.planes.iter_mut().zip(&self.unknown) {
            plane[0] &= !unknown[0];
        }
        let (planes, unknown) = (&self.planes, &self.unknown);
        let window = Window { start, len, planes, unknown, before: &[], open: true };
        let (always, never) = self.test.word(&window, 0);
        (always, never, shown)
    }
}

/// The ticks of a word that have an edge within so many ticks, given its levels and those of the words before and
/// after.
fn near_edges([before, here, after]: [u64; 3], reach: u32) -> u64 {
    let edges = here ^ (here << 1 | before >> 63);
    // Only the ends of these next to the word matter.
    let (earlier, later) = (before ^ before << 1, after ^ (after << 1 | here >> 63));
    if edges | earlier | later == 0 {
        return 0;
    }
    (1..=reach).fold(edges, |near, ticks| {
        near | edges << ticks | earlier >> (64 - ticks) | edges >> ticks | later << (64 - ticks)
    })
}

/// The ticks of a word that are so close to an end of the record that edges just outside it may have come
/// on the other side of them.
fn outside(start: u64, reach: u64, len: u64) -> u64 {
    if start > reach && start + (GROUP as u64) + reach < len {
        return 0;
    }
    let open = |at: &u64| start + at <= reach || start + at + reach >= len;
    (0..GROUP as u64).filter(open).fold(0, |word, at| word | 1 << at)
}
