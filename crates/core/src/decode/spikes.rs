//! Pulses that are far shorter than a bus's own: they shift bits, and no decoder can tell.

use std::ops::ControlFlow;

use super::tempo::{Beat, Tempo};
use crate::bus::{Ahead, BusMark, Decoder, Fault, Frame, FrameSink, Look};
use crate::line::Levels;
use crate::time::{Tick, TimeBase};

/// The kind of fault that a spike is.
pub(super) const SPIKE: &str = "spike";

/// Most pulses that are kept until it is known which frame they belong to.
const MOST: usize = 16;

/// A decoder whose frames have the faults that spikes are.
///
/// A spike on the line that times a bus counts always, one on another line only where a level was looked
/// at, or an edge told from another, during it.
#[derive(Debug)]
pub(super) struct Spikes {
    decoder: Box<dyn Decoder>,
    levels: Levels,
    /// The last edge of each line; a pulse that the record's beginning cuts off has no length.
    last: Vec<Option<Tick>>,
    seen: Seen,
}

#[derive(Debug)]
struct Seen {
    base: TimeBase,
    tempo: Tempo,
    /// Short pulses that no frame has yet.
    short: Vec<Short>,
    looked: Tick,
}

/// A short pulse: where it begins, how long it is, and whether what follows is in doubt since then.
#[derive(Clone, Copy, Debug)]
struct Short {
    since: Tick,
    pulse: u64,
    doubted: bool,
}

impl Spikes {
    pub(super) fn watch(decoder: Box<dyn Decoder>, beat: Beat, base: TimeBase) -> Box<dyn Decoder> {
        if beat == Beat::Unknown {
            return decoder;
        }
        let last = vec![None; decoder.lines()];
        let (tempo, short) = (Tempo::new(beat), Vec::new());
        let seen = Seen { base, tempo, short, looked: Tick(0) };
        Box::new(Spikes { decoder, levels: Levels::default(), last, seen })
    }

    /// Looks at the pulses that end at this tick.
    fn pulses(&mut self, at: Tick, changed: u64, out: &mut dyn FrameSink) {
        let clock = self.seen.tempo.clock();
        let mut left = changed;
        while left != 0 {
            let line = left.trailing_zeros() as usize;
            left &= left - 1;
            let Some(last) = self.last.get_mut(line) else { break };
            let since = last.replace(at);
            if clock == Some(line) {
                let known = self.seen.tempo.is_known();
                self.seen.tempo.edge(at);
                if self.seen.tempo.is_known() && !known {
                    self.seen.doubt_late(out);
                }
            }
            // On a line that only carries data, nobody looks at most pulses.
            let Some(since) =
                since.filter(|since| clock.is_none_or(|clock| clock == line) || self.seen.looked >= *since)
            else {
                continue;
            };
            let pulse = at.0.saturating_sub(since.0);
            // Before it is known how long pulses are, all of them may turn out to be short.
            if self.seen.may_be_spike(pulse) {
                doubt(since, pulse, out);
                self.seen.keep(Short { since, pulse, doubted: true });
            } else if self.seen.tempo.is_learning() || !self.seen.tempo.is_known() {
                self.seen.keep(Short { since, pulse, doubted: false });
            }
        }
    }
}

impl Seen {
    /// Keeps a pulse among the shortest: when a frame is whole, it is known how long its pulses are.
    fn keep(&mut self, short: Short) {
        if self.short.len() == MOST {
            let longest = self.short.iter().enumerate().max_by_key(|(_, other)| other.pulse);
            match longest {
                Some((place, longest)) if longest.pulse > short.pulse => self.short.remove(place),
                _ => return,
            };
        }
        self.short.push(short);
    }

    fn may_be_spike(&self, pulse: u64) -> bool {
        match self.base.is_exact() {
            true => self.tempo.is_spike(pulse),
            false => self.tempo.may_be_spike(pulse),
        }
    }

    /// The first pulses of a clock are seen before it is known how long they are: some turn out to be short. Where
    /// the decoder was settled since then, a spike may have made it believe so.
    fn doubt_late(&mut self, out: &mut dyn FrameSink) {
        if self.short.iter().all(|short| short.doubted) {
            return;
        }
        for place in 0..self.short.len() {
            let short = self.short[place];
            if !short.doubted && self.may_be_spike(short.pulse) {
                self.short[place].doubted = true;
                doubt(short.since, short.pulse, out);
            }
        }
    }

    /// The first spike that touches a frame, and how many there are; those before it are forgotten.
    fn spikes_of(&mut self, frame: &Frame) -> Option<(Tick, u64, usize)> {
        if self.short.is_empty() || !self.tempo.is_known() {
            return None;
        }
        let own = |short: &&Short| {
            self.tempo.is_spike(short.pulse) && short.since.0.saturating_add(short.pulse) >= frame.start.0
        };
        let within = self.short.iter().filter(|short| own(short) && short.since <= frame.end);
        let (first, count) = (within.clone().next().copied(), within.count());
        self.short.retain(|short| short.since > frame.end);
        first.map(|short| (short.since, short.pulse, count))
    }
}

/// A spike leaves open what ended with its first edge, and what began with its second.
fn doubt(since: Tick, pulse: u64, out: &mut dyn FrameSink) {
    out.doubt(since);
    out.doubt(Tick(since.0.saturating_add(pulse)));
}

/// Gives on what the decoder says, with the faults.
struct Noting<'a> {
    seen: &'a mut Seen,
    out: &'a mut dyn FrameSink,
}

impl FrameSink for Noting<'_> {
    fn frame(&mut self, mut frame: Frame) -> ControlFlow<()> {
        self.seen.doubt_late(self.out);
        if let Some((at, pulse, count)) = self.seen.spikes_of(&frame) {
            let length = |ticks: u64| self.seen.base.length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
            let own = self.seen.tempo.shortest().unwrap_or(0);
            let more = if count > 1 { format!(" ({count} of them)") } else { String::new() };
            let what = format!(
                "a pulse of {}{more}, where the bus's own take {}: noise, crosstalk or a poor edge; bits may be shifted",
                length(pulse),
                length(own),
            );
            frame.faults.push(Fault::new(SPIKE, at, what));
        }
        self.out.frame(frame)
    }

    fn mark(&mut self, mark: BusMark) -> ControlFlow<()> {
        self.seen.looked = mark.at;
        self.out.mark(mark)
    }

    fn look(&mut self, look: Look) {
        self.seen.looked = look.at;
        self.out.look(look);
    }

    fn doubt(&mut self, at: Tick) {
        self.out.doubt(at);
    }

    fn settled(&mut self, at: Tick) {
        self.out.settled(at);
    }
}

impl Decoder for Spikes {
    fn lines(&self) -> usize {
        self.decoder.lines()
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        self.levels = levels;
        self.last.fill(None);
        self.seen.tempo.restart();
        (self.seen.short, self.seen.looked) = (Vec::new(), at);
        self.decoder.begin(at, levels);
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let before = std::mem::replace(&mut self.levels, levels);
        let changed = (before.high ^ levels.high) | (before.unknown ^ levels.unknown);
        // What is known by time that has passed does not wait for this edge, however often time is told.
        if self.decoder.due().is_some_and(|due| due < at) {
            self.decoder.pass(at, &mut Noting { seen: &mut self.seen, out })?;
        }
        self.pulses(at, changed, out);
        self.decoder.change(at, levels, &mut Noting { seen: &mut self.seen, out })
    }

    fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
        let seen = &mut self.seen;
        if !seen.short.is_empty() || !seen.tempo.bound(ahead) {
            return ControlFlow::Continue(false);
        }
        let read = self.decoder.read_plain(ahead, &mut Noting { seen, out })?;
        if read {
            self.levels = ahead.levels();
            ahead.note_last(&mut self.last);
            self.seen.tempo.edges(ahead);
        }
        ControlFlow::Continue(read)
    }

    fn due(&self) -> Option<Tick> {
        self.decoder.due()
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.pass(until, &mut Noting { seen: &mut self.seen, out })
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.decoder.end(at, &mut Noting { seen: &mut self.seen, out })
    }
}
