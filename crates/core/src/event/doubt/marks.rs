//! Edges of stored lines, a whole chunk at a time: the occurrences of an edge or a change, with how
//! sure a `while` makes them.
//!
//! This is what limits are checked with, so it answers two questions at once: what the record
//! shows, and what the true order of edges within its uncertainty could make of it. It must agree
//! with the slower [`DoubtfulHits`](crate::event::DoubtfulHits), which knows every other form;
//! `tests/it/doubt.rs` compares them.

use std::ops::Range;

use crate::capture::{CHUNK, Capture, Trace};
use crate::event::check::{Form, Test3, Tree};
use crate::event::hit::{Certainty, Hit, MarkWord};
use crate::event::run::{MaskTest, NONE, Stored, Window};
use crate::event::syntax::Direction;
use crate::event::timed::TimedProgram;
use crate::known::{Precision, Rule};
use crate::line::{Level, Signal};
use crate::scan::{GROUP, Plane, SPAN};
use crate::time::Tick;

/// Words of a chunk.
const WORDS: usize = CHUNK as usize / GROUP;
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
    word: usize,
    /// Where the event happens in the present chunk, apart from its `while`, and of these, where
    /// that certainly holds, and where the record shows it holding.
    marks: Vec<u64>,
    certain: Vec<u64>,
    shown: Vec<u64>,
}

#[derive(Clone, Debug)]
struct Guard<'a> {
    capture: &'a Capture,
    test: MaskTest,
    lines: Vec<Signal>,
    /// Ticks before and after an edge at which it must hold to be certain; `None` in an exact
    /// record.
    doubt: Option<(u64, u64)>,
    /// The condition in the present chunk, with a word before and one after.
    holds: Vec<u64>,
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
            word: WORDS,
            marks: vec![0; WORDS],
            certain: vec![0; WORDS],
            shown: vec![0; WORDS],
        }
    }

    /// Marks the edges of the next chunk that has any; `false` at the end.
    fn next_chunk(&mut self) -> bool {
        loop {
            if self.next >= self.range.end {
                return false;
            }
            self.chunk = self.next;
            self.next += CHUNK;
            self.marks.fill(0);
            let mut any = false;
            for trace in &self.lines {
                any |= trace.mark_edges(self.chunk, self.to, &mut self.marks);
            }
            if !any {
                continue;
            }
            self.cut_to_range();
            self.word = 0;
            if let Some(guard) = &mut self.guard {
                guard.sort_out(self.chunk, &mut self.marks, &mut self.certain, &mut self.shown);
            }
            return true;
        }
    }

    /// Takes out what lies outside the range.
    fn cut_to_range(&mut self) {
        if self.chunk >= self.range.start && self.next <= self.range.end {
            return;
        }
        for (word, marks) in self.marks.iter_mut().enumerate() {
            let first = self.chunk + (word * GROUP) as u64;
            let below = |tick: u64| match tick.saturating_sub(first) {
                bits @ 0..64 => (1 << bits) - 1,
                _ => u64::MAX,
            };
            *marks &= below(self.range.end) & !below(self.range.start);
        }
    }
}

impl Marks<'_> {
    /// The next word that has any mark.
    #[inline]
    pub(super) fn next_word(&mut self) -> Option<MarkWord> {
        loop {
            while let Some(marks) = self.marks.get(self.word).copied() {
                let word = self.word;
                self.word += 1;
                if marks == 0 {
                    continue;
                }
                let (certain, shown) = match &self.guard {
                    None => (marks, marks),
                    Some(_) => (marks & self.certain[word], marks & self.shown[word]),
                };
                let start = Tick(self.chunk + (word * GROUP) as u64);
                let doubtful = shown & !certain;
                return Some(MarkWord { start, certain, doubtful, possible: marks & !shown & !certain });
            }
            if !self.next_chunk() {
                return None;
            }
        }
    }
}

impl Iterator for Marks<'_> {
    type Item = Hit;

    #[inline]
    fn next(&mut self) -> Option<Hit> {
        loop {
            while let Some(marks) = self.marks.get_mut(self.word) {
                if *marks == 0 {
                    self.word += 1;
                    continue;
                }
                let at = marks.trailing_zeros();
                *marks &= *marks - 1;
                let tick = Tick(self.chunk + (self.word * GROUP) as u64 + u64::from(at));
                let certainty = match &self.guard {
                    None => Certainty::Certain,
                    Some(_) if self.certain[self.word] >> at & 1 == 1 => Certainty::Certain,
                    Some(_) if self.shown[self.word] >> at & 1 == 1 => Certainty::Doubtful,
                    Some(_) => Certainty::Possible,
                };
                return Some(Hit { tick, certainty });
            }
            if !self.next_chunk() {
                return None;
            }
        }
    }
}

impl<'a> Guard<'a> {
    fn new(test: &Test3, program: &TimedProgram, capture: &'a Capture) -> Option<Self> {
        let lines = test.signals();
        let precision = Precision::of(capture, Rule::Proven);
        let order = precision.order(&program.signals(), program.program().level_error());
        let doubt = order.reach().map(|reach| (reach.saturating_add(1), reach));
        // Of several lines, the planes show only the order in which they were seen to change.
        if order.reach().is_some_and(|reach| reach > MOST_DOUBT || lines.len() > 1) {
            return None;
        }
        let test = MaskTest::new(test, &lines);
        Some(Guard { capture, test, lines, doubt, holds: vec![0; WORDS + 2] })
    }

    /// Whether the condition holds, from one word before the chunk to one after it.
    fn read(&mut self, chunk: u64) {
        // Nothing comes before the first tick: the level there is the one before, too.
        let start = chunk.saturating_sub(GROUP as u64);
        let mut lines: Vec<Stored<'_>> =
            self.lines.iter().map(|line| Stored::new(self.capture.trace(*line), start)).collect();
        let mut planes = vec![NONE; lines.len()];
        let mut unknown = vec![NONE; lines.len()];
        let before = vec![(false, false); lines.len()];
        let skipped = usize::from(chunk == 0);
        let mut at = skipped;
        while at < self.holds.len() {
            let words = SPAN.min(self.holds.len() - at);
            let first = start + ((at - skipped) * GROUP) as u64;
            let len = words * GROUP;
            for (slot, line) in lines.iter_mut().enumerate() {
                let (plane, unknown) = (&mut planes[slot][..words], &mut unknown[slot][..words]);
                line.read(first, first + len as u64, plane, unknown);
            }
            let window = Window {
                start: first,
                len: len as u32,
                planes: &planes,
                unknown: &unknown,
                before: &before,
                open: false,
            };
            let mut holds: Plane = [u64::MAX; SPAN];
            self.test.and_into(&window, &mut holds);
            self.holds[at..at + words].copy_from_slice(&holds[..words]);
            at += words;
        }
        if skipped == 1 {
            self.holds[0] = 0u64.wrapping_sub(self.holds[1] & 1);
        }
    }

    /// Takes out the marks where the condition certainly does not hold, and says of the others
    /// where it certainly does, and where the record shows that it does.
    fn sort_out(&mut self, chunk: u64, marks: &mut [u64], certain: &mut [u64], shown: &mut [u64]) {
        self.read(chunk);
        let (early, late) = self.doubt.unwrap_or((0, 0));
        for (word, marks) in marks.iter_mut().enumerate() {
            if *marks == 0 {
                continue;
            }
            let (before, here, after) = (self.holds[word], self.holds[word + 1], self.holds[word + 2]);
            let (mut always, mut never) = (here, !here);
            for ticks in 1..=early {
                let earlier = here << ticks | before >> (64 - ticks);
                (always, never) = (always & earlier, never & !earlier);
            }
            for ticks in 1..=late {
                let later = here >> ticks | after << (64 - ticks);
                (always, never) = (always & later, never & !later);
            }
            if let Some((_, reach)) = self.doubt {
                let open = outside(chunk + (word * GROUP) as u64, reach, self.capture.len());
                (always, never) = (always & !open, never & !open);
            }
            (certain[word], shown[word]) = (always, here);
            *marks &= !never;
        }
    }
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
