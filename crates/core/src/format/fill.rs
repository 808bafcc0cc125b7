//! Traces that are filled from changes in order of time, and may be handed on before they are complete.

use rayon::prelude::*;

use super::spill::Spill;
use crate::capture::{CHUNK, Trace, TraceBuilder};
use crate::error::Result;
use crate::line::Level;

/// A change: the tick, and in the two lowest bits the level.
pub(crate) type Change = u64;

/// The level of a change.
const LEVELS: [Level; 4] = [Level::Low, Level::High, Level::Floating, Level::Unknown];

/// How the changes of a trace are meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Meant {
    /// As levels.
    Levels,
    /// As events, each of which changes the level.
    Events,
}

/// One trace while it is filled.
struct Slot {
    meant: Meant,
    /// Nothing yet at first.
    builder: Option<TraceBuilder>,
    /// The last change: of several at one tick the last counts.
    pending: Option<Change>,
}

impl Slot {
    #[inline]
    fn take(&mut self, change: Change) {
        if let Some(pending) = self.pending.replace(change)
            && pending >> 2 != change >> 2
        {
            self.settle(pending);
        }
    }

    fn take_all(&mut self, changes: &[Change]) {
        let mut left = changes.iter().copied();
        // Until the builder is there, and one change is pending.
        while self.builder.is_none() || self.pending.is_none() {
            match left.next() {
                Some(change) => self.take(change),
                None => return,
            }
        }
        let (Some(builder), Some(pending)) = (&mut self.builder, &mut self.pending) else { return };
        match self.meant {
            Meant::Levels => {
                for change in left {
                    if *pending >> 2 != change >> 2 {
                        builder.push_change(*pending >> 2, LEVELS[(*pending & 3) as usize]);
                    }
                    *pending = change;
                }
            }
            Meant::Events => left.for_each(|change| self.take(change)),
        }
    }

    fn settle(&mut self, change: Change) {
        let (tick, level) = (change >> 2, LEVELS[(change & 3) as usize]);
        match (&mut self.builder, self.meant) {
            (Some(builder), Meant::Levels) => builder.push_change(tick, level),
            (Some(builder), Meant::Events) => builder.push_change(tick, builder.level().opposite()),
            (slot @ None, Meant::Levels) if tick == 0 => *slot = Some(TraceBuilder::new(level)),
            (slot @ None, meant) => {
                let start = if meant == Meant::Events { Level::Low } else { Level::Unknown };
                let mut builder = TraceBuilder::new(start);
                if tick > 0 {
                    builder.push_change(tick, if meant == Meant::Events { Level::High } else { level });
                }
                *slot = Some(builder);
            }
        }
    }

    fn settle_before(&mut self, tick: u64) {
        if let Some(pending) = self.pending.take_if(|pending| *pending >> 2 < tick) {
            self.settle(pending);
        }
    }

    fn builder(&mut self) -> &mut TraceBuilder {
        let start = if self.meant == Meant::Events { Level::Low } else { Level::Unknown };
        self.builder.get_or_insert_with(|| TraceBuilder::new(start))
    }
}

/// Traces that are filled from changes.
pub(crate) struct Filling {
    slots: Vec<Slot>,
    /// Ticks that were handed on.
    handed_on: u64,
}

impl Filling {
    pub(crate) fn new(traces: impl IntoIterator<Item = Meant>) -> Self {
        let slots = traces.into_iter().map(|meant| Slot { meant, builder: None, pending: None });
        Filling { slots: slots.collect(), handed_on: 0 }
    }

    /// Appends one change of a trace, at or after everything before.
    pub(crate) fn push(&mut self, trace: usize, change: Change) {
        self.slots[trace].take(change);
    }

    /// Appends changes, per trace those of each part, the parts in order of time.
    pub(crate) fn extend<'a>(&mut self, parts: &[impl Fn(usize) -> &'a [Change] + Sync]) {
        self.slots.par_iter_mut().enumerate().with_min_len(8).for_each(|(trace, slot)| {
            for part in parts {
                slot.take_all(part(trace));
            }
        });
    }

    /// How much is held, in list entries of 16 bits, the last chunk of each trace left out.
    fn weight(&self) -> usize {
        self.slots.iter().filter_map(|slot| slot.builder.as_ref()).map(TraceBuilder::weight).sum()
    }

    /// Hands on what came before the chunk that holds `tick`, if so much is held that `spill` wants it.
    /// Nothing before that tick comes any more. `order` says of each line which trace it has.
    ///
    /// # Errors
    /// Those of `spill`.
    pub(crate) fn relieve(&mut self, spill: &mut dyn Spill, tick: u64, order: &[usize]) -> Result<()> {
        let border = tick / CHUNK * CHUNK;
        if border <= self.handed_on || !spill.is_wanted(self.weight(), border - self.handed_on) {
            return Ok(());
        }
        let traces: Vec<Trace> = self
            .slots
            .par_iter_mut()
            .map(|slot| {
                slot.settle_before(tick);
                slot.builder().cut(border)
            })
            .collect();
        let lines: Vec<&Trace> = order.iter().map(|trace| &traces[*trace]).collect();
        spill.part(&lines, border)?;
        self.handed_on = border;
        Ok(())
    }

    /// The traces of a record of `len` ticks; what was handed on is not in them.
    pub(crate) fn finish(self, len: u64) -> Vec<Trace> {
        let finish = |mut slot: Slot| {
            slot.settle_before(u64::MAX);
            slot.builder();
            slot.builder.map(|builder| builder.finish(len))
        };
        self.slots.into_par_iter().filter_map(finish).collect()
    }
}
