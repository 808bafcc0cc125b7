//! How long one line that is never unknown stays at a level: from edge to edge.

use std::ops::ControlFlow;

use super::given::{Given, Wanted};
use super::{Events, Scene, Take};
use crate::capture::Capture;
use crate::event::{ConditionProgram, Hit};
use crate::limit::occurrence::Visited;
use crate::line::{Level, Signal};
use crate::pair::{Batch, Following, Pairing, Pairs, Partner, Pulled, Together, UNENDED};
use crate::time::{Tick, TimeBase};

/// `width`, where the condition is a level of one line.
#[derive(Debug)]
pub(super) struct Pulses {
    pairing: Following,
    sides: [Events; 2],
    line: Signal,
    level: Level,
    /// What is known of a pulse that began before the record.
    first: First,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum First {
    NotLooked,
    Open,
    Over,
}

/// Two edges of one line, which are never at one tick.
const EDGES: Together = Together { possible_from: 1, certain_from: 1, apart_from: 1 };

impl Pulses {
    /// `None` where the condition is another one, or levels of the line are unknown.
    pub(super) fn new(
        pulse: &ConditionProgram,
        capture: &Capture,
        base: TimeBase,
        wanted: &mut Wanted,
    ) -> Option<Self> {
        let (line, level) = pulse.level()?;
        if !capture.trace(line).is_two_level() {
            return None;
        }
        let [begins, ends] = pulse.edges()?;
        let sides = wanted.events([begins.at(base).ok()?, ends.at(base).ok()?]);
        let pairing = Following::new(EDGES, true, UNENDED);
        Some(Pulses { pairing, sides, line, level, first: First::NotLooked })
    }

    pub(super) fn advance(
        &mut self,
        scene: Scene<'_>,
        given: &Given,
        sink: &mut impl Take,
    ) -> ControlFlow<()> {
        let [begins, ends] = Events::take(&mut self.sides, given);
        let len = Tick(scene.capture.len());
        if self.first == First::NotLooked && len > Tick(0) {
            let open = scene.capture.trace(self.line).level_at(Tick(0)) == self.level;
            self.first = if open { First::Open } else { First::Over };
        }
        let mut found = Found { scene, sink };
        if self.first == First::Open {
            let end = match ends.peek() {
                Pulled::Some(end) => end.tick,
                Pulled::End => len,
                Pulled::NotYet => return ControlFlow::Continue(()),
            };
            self.first = First::Over;
            found.cut_off(Tick(0), end)?;
        }
        if given.ended {
            self.pairing.end(len.0);
        }
        self.pairing.advance(begins, ends, &mut found).map_continue(drop)
    }
}

struct Found<'r, S> {
    scene: Scene<'r>,
    sink: &'r mut S,
}

impl<S: Take> Found<'_, S> {
    /// A pulse of which the record has only a part.
    fn cut_off(&mut self, start: Tick, end: Tick) -> ControlFlow<()> {
        self.sink.cut(end.since(start));
        self.scene.each(self.sink, |_| Visited::Unpaired(start))
    }
}

impl<S: Take> Pairs for Found<'_, S> {
    fn certain(&mut self, start: Tick, end: Tick) -> ControlFlow<()> {
        self.sink.certain(start, end)
    }

    fn all_certain(&mut self, batch: &Batch) -> ControlFlow<()> {
        self.sink.all_certain(batch)
    }

    /// The last one, which goes on.
    fn open(&mut self, start: Hit, _: &[Partner]) -> ControlFlow<()> {
        self.cut_off(start.tick, Tick(self.scene.capture.len()))
    }
}
