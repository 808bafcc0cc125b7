//! Words that are as they should be, each read at once.

use std::ops::ControlFlow;

use super::{Spi, SpiData, Word};
use crate::bus::{Ahead, BusMark, Decoder, FrameSink, Look};
use crate::line::{BitOrder, Level};
use crate::time::Tick;

/// Lines that clocked serial has at the most.
const LINES: usize = 4;

/// The edges of the clock that make up a word.
struct Clocking<'a> {
    /// Each that takes a bit, and each between them.
    edges: &'a [(Tick, Level)],
    /// With how many of the line's edges it is over.
    count: usize,
}

impl Clocking<'_> {
    fn takes(&self) -> impl Iterator<Item = Tick> {
        self.edges.iter().step_by(2).map(|(tick, _)| *tick)
    }

    fn first(&self) -> Tick {
        self.edges.first().map_or(Tick(0), |(tick, _)| *tick)
    }

    fn last(&self) -> Tick {
        self.edges.last().map_or(Tick(0), |(tick, _)| *tick)
    }
}

impl Spi {
    /// Reads the next words that are selected all the time, and whose data does not change near where it is taken.
    pub(super) fn plain_words(
        &mut self,
        ahead: &mut Ahead<'_>,
        out: &mut dyn FrameSink,
    ) -> ControlFlow<(), bool> {
        let mut read = false;
        loop {
            if let Some(word) = self.plain_word(ahead) {
                let (start, last) = (word.start, word.last);
                self.word = Some(word);
                (self.rested, self.whole) = (false, true);
                out.mark(BusMark::new("begin", start))?;
                out.look(Look::taking(last, 0).shifting(self.select_mask()));
                self.finish(None, out)?;
            } else if let Some(at) = self.plain_select(ahead) {
                self.selects(at, self.levels, ahead.levels(), out)?;
            } else {
                return ControlFlow::Continue(read);
            }
            if let Some((clocked, _)) = ahead.taken(0).last() {
                self.last_edge = *clocked;
            }
            self.levels = ahead.levels();
            read = true;
        }
    }

    /// Takes an edge of the select line between words, while the clock rests.
    fn plain_select(&self, ahead: &mut Ahead<'_>) -> Option<Tick> {
        let line = self.select_line().filter(|_| self.word.is_none())?;
        let (at, level) = *ahead.edges(line).first()?;
        let known = level.bit().is_some() && ahead.levels().level(line) == level.opposite();
        // The clock may go back to where it rests, after a word.
        let back = ahead.edges(0).first().is_some_and(|(tick, to)| *tick < at && *to == self.taking_edge().0);
        if !known || ahead.after(0, usize::from(back))? <= at {
            return None;
        }
        let mut counts = [0; LINES];
        for (line, count) in counts.iter_mut().enumerate().take(self.lines()) {
            *count = ahead.edges(line).iter().take_while(|(tick, _)| *tick <= at).count();
        }
        ahead.take(counts.get(..self.lines())?).then_some(at)
    }

    /// Takes the edges of the next word.
    fn plain_word(&self, ahead: &mut Ahead<'_>) -> Option<Word> {
        if self.word.is_some() || !self.selected(ahead.levels()) {
            return None;
        }
        let released = self.select_line().map(|line| ahead.after(line, 0));
        if released.is_some_and(|released| ahead.after(0, 0) >= released) {
            return None;
        }
        let clocking = self.clocking(ahead)?;
        // Without a select line, a rest parts words.
        if self.config.select.is_none() && (self.rested || !self.goes_on(ahead, clocking.count)) {
            return None;
        }
        let (first, last, margin) = (clocking.first(), clocking.last(), ahead.margin(0));
        if let Some(line) = self.select_line() {
            let clear = |before: Tick, after: Tick| after.0.saturating_sub(before.0) > margin;
            let after = ahead.after(line, 0)?;
            if !clear(ahead.before(line), first) || !clear(last, after) {
                return None;
            }
        }
        let mut counts = [0; LINES];
        *counts.first_mut()? = clocking.count;
        let mut taken = [0; 2];
        for (place, (_, _, line)) in self.data.iter().enumerate() {
            let (bits, count) = plain_levels(ahead, *line, clocking.takes(), margin)?;
            (*taken.get_mut(place)?, *counts.get_mut(*line)?) = (bits, count);
        }
        let (bits, faults) = (self.config.bits, Vec::new());
        let word = Word { start: first, last, bits, values: self.values(taken), faults };
        ahead.take(counts.get(..self.lines())?).then_some(word)
    }

    /// The values of a word, of whose lines these levels were taken, the first one lowest.
    fn values(&self, taken: [u64; 2]) -> [u64; 2] {
        let (order, count) = (self.config.order, self.takes_of_word());
        let taken_at = |line: u64, place: u32| line >> place & 1;
        let [higher, lower] = taken;
        if self.config.data == SpiData::Dual {
            let pair = |place| taken_at(higher, place) << 1 | taken_at(lower, place);
            return [(0..count).fold(0, |value, place| order.append(value, 2 * place, pair(place), 2)), 0];
        }
        taken.map(|line| match order {
            BitOrder::LowestFirst => line,
            BitOrder::HighestFirst => line.reverse_bits() >> (u64::BITS - count),
        })
    }

    /// How often data is taken for a word.
    fn takes_of_word(&self) -> u32 {
        if self.config.data == SpiData::Dual { self.config.bits / 2 } else { self.config.bits }
    }

    /// Whether the clock does not rest before the last of so many edges.
    fn goes_on(&self, ahead: &Ahead<'_>, count: usize) -> bool {
        let mut last = self.last_edge;
        ahead.edges(0).iter().take(count).all(|(tick, _)| {
            let before = std::mem::replace(&mut last, *tick);
            tick.since(before) <= self.gap as i64
        })
    }

    /// The next edges of the clock that make up a word.
    fn clocking<'a>(&self, ahead: &'a Ahead<'_>) -> Option<Clocking<'a>> {
        let edges = ahead.edges(0);
        let (rests, takes) = self.taking_edge();
        let skipped = usize::from(edges.first()?.1 != takes);
        let count = (skipped + 2 * self.takes_of_word() as usize).checked_sub(1)?;
        let before = if skipped > 0 { edges.first()?.1 } else { ahead.levels().level(0) };
        let edges = edges.get(skipped..count).filter(|_| before == rests)?;
        let alternate = edges.chunks(2).all(|pair| {
            pair.first().is_some_and(|(_, level)| *level == takes)
                && pair.get(1).is_none_or(|(_, level)| *level == rests)
        });
        alternate.then_some(Clocking { edges, count })
    }
}

/// The levels of a line where a word is taken, the first one lowest, and how many of its edges are over with that;
/// `None` where it is not known, or changes nearby.
fn plain_levels(
    ahead: &Ahead<'_>,
    line: usize,
    takes: impl Iterator<Item = Tick>,
    margin: u64,
) -> Option<(u64, usize)> {
    let edges = ahead.edges(line);
    let (mut level, mut last) = (ahead.levels().level(line), ahead.before(line));
    let (mut next, mut count) = (ahead.after(line, 0)?, 0);
    let mut levels = 0;
    for (place, take) in takes.enumerate() {
        while next < take {
            (last, level) = *edges.get(count)?;
            count += 1;
            next = ahead.after(line, count)?;
        }
        if take.0.saturating_sub(last.0) <= margin || next.0 - take.0 <= margin {
            return None;
        }
        levels |= u64::from(level.bit()?) << place;
    }
    Some((levels, count))
}
