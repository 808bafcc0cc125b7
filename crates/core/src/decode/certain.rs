//! Which frames, and which instants, a record shows for certain.
//!
//! A decoder says where it looks at levels, how much room it needs there, and from where on it reads on
//! whatever came before. What follows from that is worked out here, for all of them in one way: a change
//! too close to a look leaves open everything from there to where the bus is settled again.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::spikes::SPIKE;
use super::tempo::{Beat, Tempo};
use crate::bus::{Ahead, BusMark, Decoder, Frame, FrameSink, Look};
use crate::known::Precedence;
use crate::line::Levels;
use crate::time::Tick;

/// Fewest samples of a bit, where bits are counted in time.
const FEWEST_SAMPLES: u64 = 4;

/// Fewest samples of half a period, where there is a clock.
const FEWEST_OF_CLOCK: u64 = 2;

/// Most frames and marks that wait for a clock that hardly runs, and most doubts about single bits that wait
/// for their frame.
const MOST_HELD: usize = 4096;
const MOST_BITS: usize = 65_536;

/// Faults that say that something else was sent than was read.
const MISREAD: [&str; 10] =
    [SPIKE, "unknown", "cut-off", "order", "drift", "false-start", "stuff", "form", "crc", "sync"];

/// A decoder that says of its frames and marks whether they are certain. They come a little later than
/// without.
#[derive(Debug)]
pub(super) struct Certain {
    decoder: Box<dyn Decoder>,
    levels: Levels,
    proof: Proof,
}

/// What speaks for and against what was found.
#[derive(Debug)]
struct Proof {
    order: Precedence,
    tempo: Tempo,
    /// Whether there are enough samples at all.
    slow: bool,
    /// The last edge of each line, if there was one.
    last: Vec<Option<Tick>>,
    /// Looks that a change may still come too close to.
    looks: VecDeque<Look>,
    /// What waits until nothing can come too close to it any more.
    held: VecDeque<Held>,
    /// Where everything was last settled.
    settled: Option<Tick>,
    /// The first and the last doubt since then.
    doubts: Option<(Tick, Tick)>,
    /// Doubts about single bits, which leave open the frame they are in and no other.
    bits: VecDeque<Tick>,
    /// Whether the places where bits are taken are marks, too.
    samples: bool,
}

#[derive(Debug)]
enum Held {
    Frame(Frame),
    Mark(BusMark),
    Settled(Tick),
}

impl Held {
    fn at(&self) -> Tick {
        match self {
            Held::Frame(frame) => frame.end,
            Held::Mark(mark) => mark.at,
            Held::Settled(at) => *at,
        }
    }
}

impl Certain {
    /// What `decoder` finds, in a record whose edges have this order. With `samples`, the places where bits
    /// are taken are marks, too.
    pub(super) fn prove(decoder: Box<dyn Decoder>, beat: Beat, order: Precedence, samples: bool) -> Certain {
        let sampled = order.reach().is_some();
        let slow = sampled && matches!(beat, Beat::Stated(ticks) if ticks < FEWEST_SAMPLES);
        let proof = Proof {
            order,
            tempo: Tempo::new(beat),
            slow: slow || beat == Beat::Unknown,
            last: vec![None; decoder.lines()],
            looks: VecDeque::new(),
            held: VecDeque::new(),
            settled: None,
            doubts: None,
            bits: VecDeque::new(),
            samples,
        };
        Certain { decoder, levels: Levels::default(), proof }
    }
}

impl Proof {
    /// How far from a look a change leaves it open; `None` where none does.
    fn margin(&self, look: Look) -> Option<u64> {
        match self.order.reach() {
            Some(reach) => Some(reach.saturating_add(look.room)),
            // Of an exact record, the order of edges is known.
            None => look.room.checked_sub(1),
        }
    }

    fn margin_of_order(&self) -> u64 {
        self.order.reach().unwrap_or(0)
    }

    /// How long a pulse may last that is found to be a spike only when it is over.
    fn patience(&self) -> u64 {
        self.margin_of_order().saturating_add(self.tempo.longest_spike()).saturating_add(1)
    }

    fn doubt(&mut self, at: Tick) {
        // What is known by now may be told late.
        let reach = self.margin_of_order();
        if self.settled.is_some_and(|settled| at.0.saturating_add(reach) < settled.0) {
            return;
        }
        let (first, last) = self.doubts.unwrap_or((at, at));
        self.doubts = Some((first.min(at), last.max(at)));
    }

    /// These lines change near a look.
    fn doubt_lines(&mut self, look: Look, changed: u64) {
        if look.shifting & changed != 0 {
            self.doubt(look.at);
        } else if look.lines & changed != 0 && self.bits.back() != Some(&look.at) {
            if self.bits.len() == MOST_BITS {
                self.bits.pop_front();
            }
            self.bits.push_back(look.at);
        }
    }

    /// Whether a single bit of a frame is in doubt; what lies before its end is forgotten.
    fn has_open_bit(&mut self, frame: &Frame) -> bool {
        let reach = self.margin_of_order();
        let mut open = false;
        while let Some(at) = self.bits.front().filter(|at| at.0 <= frame.end.0.saturating_add(reach)) {
            open |= at.0.saturating_add(reach) >= frame.start.0;
            self.bits.pop_front();
        }
        open
    }

    /// Lines have changed: looks nearby are open. What the clock's pulses show of its samples is noted.
    fn changed(&mut self, at: Tick, changed: u64) {
        while let Some(look) = self.looks.front() {
            match self.margin(*look) {
                Some(margin) if look.at.0.saturating_add(margin) >= at.0 => break,
                _ => self.looks.pop_front(),
            };
        }
        for number in 0..self.looks.len() {
            let look = self.looks[number];
            let near = self.margin(look).is_some_and(|margin| look.at.0.saturating_add(margin) >= at.0);
            if near {
                self.doubt_lines(look, changed);
            }
        }
        let clocked = self.tempo.clock().is_some_and(|clock| changed >> clock & 1 == 1);
        let pulse = if clocked { self.tempo.edge(at) } else { None };
        if pulse.is_some_and(|pulse| pulse < FEWEST_OF_CLOCK) && self.order.reach().is_some() {
            self.doubt(at);
        }
        let mut left = changed;
        while left != 0 {
            if let Some(last) = self.last.get_mut(left.trailing_zeros() as usize) {
                *last = Some(at);
            }
            left &= left - 1;
        }
    }

    fn looked(&mut self, look: Look) {
        let Some(margin) = self.margin(look) else { return };
        let lines = look.lines | look.shifting;
        if lines == 0 {
            return;
        }
        // Just before the record, there may be a change.
        let mut changed = if look.at.0 <= margin { u64::MAX } else { 0 };
        for (line, last) in self.last.iter().enumerate() {
            let near = last.is_some_and(|last| last.0.saturating_add(margin) >= look.at.0);
            changed |= u64::from(near) << line;
        }
        self.doubt_lines(look, changed);
        self.looks.push_back(look);
    }

    /// The record is over: just outside it, there may be a change.
    fn over(&mut self, end: Tick) {
        let open = |look: &&Look| {
            self.margin(**look).is_some_and(|margin| look.at.0.saturating_add(margin) >= end.0)
        };
        let open: Vec<Look> = self.looks.iter().filter(open).copied().collect();
        open.into_iter().for_each(|look| self.doubt_lines(look, u64::MAX));
    }

    /// Whether nothing is in doubt, so far.
    fn is_undoubted(&self) -> bool {
        let undoubted = self.doubts.is_none() && self.bits.is_empty() && self.settled.is_some();
        undoubted && !self.slow && !self.samples && self.tempo.is_known()
    }

    /// Whether no change from this tick on comes close to a look.
    fn is_quiet(&self, next: Tick) -> bool {
        let far =
            |look: &Look| self.margin(*look).is_none_or(|margin| look.at.0.saturating_add(margin) < next.0);
        self.looks.iter().all(far)
    }

    /// Whether nothing speaks against what ends at a tick.
    fn stands(&self, until: Tick) -> bool {
        let reach = self.margin_of_order();
        let open = self.doubts.is_some_and(|(first, _)| first.0 <= until.0.saturating_add(reach));
        self.settled.is_some() && self.tempo.is_known() && !self.slow && !open
    }

    /// Gives out what nothing can come too close to any more, with a change at this tick or later.
    fn release(&mut self, now: Option<Tick>, out: &mut dyn FrameSink) -> ControlFlow<()> {
        // Until it is known how long the bus's own pulses are, any may turn out to be too short.
        let waits = now.is_some() && self.tempo.is_waiting() && self.held.len() < MOST_HELD;
        if self.held.is_empty() || waits {
            return ControlFlow::Continue(());
        }
        let patience = self.patience();
        let ripe = |held: &mut Held| now.is_none_or(|now| held.at().0.saturating_add(patience) < now.0);
        while let Some(held) = self.held.pop_front_if(ripe) {
            match held {
                Held::Frame(mut frame) => {
                    let misread = frame.faults.iter().any(|fault| MISREAD.contains(&fault.kind));
                    let open = self.has_open_bit(&frame);
                    frame.certain = !misread && !open && self.stands(frame.end);
                    out.frame(frame)?;
                }
                Held::Mark(mark) => out.mark(BusMark { certain: self.stands(mark.at), ..mark })?,
                Held::Settled(at) => {
                    // A doubt about this very edge goes on.
                    let from = at.0.saturating_sub(self.margin_of_order());
                    self.doubts = self
                        .doubts
                        .filter(|(_, last)| last.0 >= from)
                        .map(|(first, last)| (Tick(first.0.max(from)), last));
                    self.settled = Some(at);
                    out.settled(at);
                }
            }
        }
        ControlFlow::Continue(())
    }
}

/// Keeps what the decoder reads ahead, whose looks nothing comes close to.
struct Undoubted<'a>(&'a mut Proof);

impl FrameSink for Undoubted<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.0.frame(frame)
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.0.mark(mark)
    }

    fn settled(&mut self, at: Tick) {
        FrameSink::settled(self.0, at);
    }
}

/// Keeps what the decoder gives out.
impl FrameSink for Proof {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.held.push_back(Held::Frame(frame));
        ControlFlow::Continue(())
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.held.push_back(Held::Mark(mark));
        ControlFlow::Continue(())
    }

    fn look(&mut self, look: Look) {
        self.looked(look);
        if self.samples && look.takes {
            self.held.push_back(Held::Mark(BusMark::new("sample", look.at)));
        }
    }

    fn doubt(&mut self, at: Tick) {
        Proof::doubt(self, at);
    }

    fn settled(&mut self, at: Tick) {
        self.held.push_back(Held::Settled(at));
    }
}

impl Decoder for Certain {
    fn lines(&self) -> usize {
        self.decoder.lines()
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        self.levels = levels;
        let proof = &mut self.proof;
        proof.tempo.restart();
        (proof.settled, proof.doubts) = (None, None);
        proof.last.fill(None);
        proof.looks.clear();
        proof.bits.clear();
        proof.held.clear();
        self.decoder.begin(at, levels);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        let changed = (before.high ^ levels.high) | (before.unknown ^ levels.unknown);
        self.decoder.change(at, levels, &mut self.proof)?;
        self.proof.changed(at, changed);
        self.proof.release(Some(at), out)
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        let proof = &mut self.proof;
        if !proof.is_undoubted() {
            return ControlFlow::Continue(false);
        }
        let next = ahead.next();
        if self.decoder.due().is_some_and(|due| due < next) {
            self.decoder.pass(next, proof)?;
        }
        if !proof.is_undoubted() || !proof.is_quiet(next) {
            return ControlFlow::Continue(false);
        }
        proof.release(Some(next), out)?;
        proof.looks.clear();
        ahead.order_within(proof.order.reach());
        if proof.tempo.clock().is_some() && proof.order.reach().is_some() {
            ahead.no_shorter_than(FEWEST_OF_CLOCK);
        }
        let read = self.decoder.read_plain(ahead, &mut Undoubted(proof))?;
        if read {
            self.levels = ahead.levels();
            ahead.note_last(&mut proof.last);
            proof.tempo.edges(ahead);
        }
        ControlFlow::Continue(read)
    }

    fn due(&self) -> Option<Tick> {
        let held = self.proof.held.front().map(|held| held.at().0.saturating_add(self.proof.patience()));
        self.decoder.due().into_iter().chain(held.map(Tick)).min()
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.pass(until, &mut self.proof)?;
        self.proof.release(Some(until), out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.end(at, &mut self.proof)?;
        self.proof.over(at);
        self.proof.release(None, out)
    }
}
