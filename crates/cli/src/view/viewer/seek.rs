//! Going to what is looked for: edges, frames, hits of an event, violations.

use deep_tap::Error;
use deep_tap::capture::Edge;
use deep_tap::event::Program;
use deep_tap::known::Rule;
use deep_tap::limit;
use deep_tap::line::{LineId, Signal};
use deep_tap::quantity::uncertain;
use deep_tap::time::Tick;

use super::{NEAREST, Search, Viewer};
use crate::rows::{RowKind, frame_buses};

/// Most ticks of a view in which hits of a search are looked for.
const MOST_SEARCHED: u64 = 1 << 26;
/// Most hits that are drawn.
const MOST_HITS: usize = 1000;
/// Most violations of a limit that can be gone to.
const MOST_WRONG: usize = 100_000;

impl Viewer {
    /// Puts the cursors at the next violation of a limit, or the one before, and says what it is.
    pub(in crate::view) fn next_wrong(&mut self, later: bool) {
        if self.wrong.is_none() {
            match self.all_wrong() {
                Ok(all) => self.wrong = Some(all),
                Err(error) => {
                    self.message = Some(error.message().to_string());
                    return;
                }
            }
        }
        let all = self.wrong.as_deref().unwrap_or_default();
        let at = self.cursor.tick;
        let found = match later {
            true => all.iter().find(|(from, ..)| *from > at),
            false => all.iter().rev().find(|(from, ..)| *from < at),
        };
        match found.cloned() {
            Some((from, to, what)) => {
                self.put_between(from, to);
                self.message = Some(what);
            }
            None if all.is_empty() => self.message = Some("no limit is violated".to_string()),
            None => {
                let side = if later { "after" } else { "before" };
                self.message = Some(format!("no violation {side} the cursor"));
            }
        }
    }

    /// All violations, in order of time.
    fn all_wrong(&self) -> Result<Vec<(Tick, Tick, String)>, Error> {
        self.must_be_recorded()?;
        let capture = self.capture();
        let mut all = Vec::new();
        for bound in self.job.limits(&[] as &[&str])? {
            let span = bound.span(capture, Rule::Proven);
            let found = limit::values(capture, bound, Rule::Proven, MOST_WRONG)?.worst;
            all.extend(found.iter().map(|of| {
                let known = of.value(capture.base()).zip(of.bounds(&span));
                let tick = capture.base().tick();
                let value = known.map_or(String::new(), |(value, bounds)| uncertain(value, bounds, tick));
                let what = format!("{}: {value}, required {}", bound.name(), bound.limit.required);
                (of.start, of.end, what)
            }));
        }
        all.sort_by_key(|(from, ..)| *from);
        Ok(all)
    }

    /// The edge of the selected row after the cursor, or before it; of frames, where one begins.
    pub(in crate::view) fn next_edge(&mut self, later: bool) {
        let at = self.cursor.tick;
        let found = match self.selected_row() {
            Some(RowKind::Line(line)) => {
                self.edge_of(&[line], later).map(|tick| (tick, Some(Signal::Line(line))))
            }
            Some(RowKind::Bus(bus) | RowKind::Curve(bus)) => {
                let lines = self.capture().buses()[bus.0].lines.clone();
                self.edge_of(&lines, later).map(|tick| (tick, None))
            }
            Some(RowKind::Frames(place)) => self.frame_begin(place, later).map(|tick| (tick, None)),
            Some(RowKind::Analog(_)) | None => None,
        };
        match found {
            Some((tick, signal)) => self.put(tick, signal),
            None => {
                let (before, at) =
                    (if later { "after" } else { "before" }, self.capture().base().text_of(at));
                self.message = Some(format!("nothing more on this row {before} {at}"));
            }
        }
    }

    fn edge_of(&self, lines: &[LineId], later: bool) -> Option<Tick> {
        let at = self.cursor.tick;
        let edge = |line: &LineId| -> Option<Edge> {
            let trace = self.capture().trace(*line);
            if later { trace.next_edge(at) } else { trace.prev_edge(at) }
        };
        let ticks = lines.iter().filter_map(edge).map(|edge| edge.tick);
        if later { ticks.min() } else { ticks.max() }
    }

    /// Where the next frame of a bus begins, or the one before.
    fn frame_begin(&self, place: usize, later: bool) -> Option<Tick> {
        let bus = frame_buses(&self.job).nth(place)?;
        let (at, len) = (self.cursor.tick, self.capture().len());
        // As far as it takes, in steps that grow.
        let mut reach = self.span.max(NEAREST);
        loop {
            let window = match later {
                true => at..Tick(at.0.saturating_add(reach).min(len)),
                false => Tick(at.0.saturating_sub(reach))..at,
            };
            let begins = bus.frames(self.capture(), window.clone()).ok()?.map(|frame| frame.start);
            let found = match later {
                true => begins.filter(|begin| *begin > at).min(),
                false => begins.filter(|begin| *begin < at).max(),
            };
            let whole = if later { window.end.0 >= len } else { window.start.0 == 0 };
            if found.is_some() || whole {
                return found;
            }
            reach = reach.saturating_mul(4);
        }
    }

    /// Looks for an event from now on.
    pub(in crate::view) fn look_for(&mut self, text: &str) -> Result<(), Error> {
        if text.trim().is_empty() {
            self.search = None;
            return Ok(());
        }
        self.must_be_recorded()?;
        let program = Program::compile(text, &self.job.scope())?.at(self.capture().base())?;
        self.search = Some(Search { text: text.to_string(), program });
        Ok(())
    }

    /// Puts the cursor at the next hit of the search, or the one before.
    pub(in crate::view) fn next_hit(&mut self, later: bool) {
        let Some(search) = &self.search else {
            self.message = Some("look for an event first: /".to_string());
            return;
        };
        let (at, len) = (self.cursor.tick, self.capture().len());
        let found = match later {
            true => search.program.hits(self.capture(), Tick(at.0.saturating_add(1))..Tick(len)).next(),
            false => {
                let mut reach = self.span.max(1 << 16);
                loop {
                    let from = Tick(at.0.saturating_sub(reach));
                    let last = search.program.hits(self.capture(), from..at).last();
                    if last.is_some() || from.0 == 0 {
                        break last;
                    }
                    reach = reach.saturating_mul(4);
                }
            }
        };
        match found {
            Some(hit) => self.put(hit.tick, None),
            None => {
                let side = if later { "after" } else { "before" };
                self.message = Some(format!("'{}' does not happen {side} the cursor", search.text));
            }
        }
    }

    /// The hits that lie in what is shown; `None` where there is too much of it to look.
    pub(in crate::view) fn hits_shown(&self) -> Option<Vec<Tick>> {
        let search = self.search.as_ref()?;
        let view = self.view();
        if view.end.0 - view.start.0 > MOST_SEARCHED {
            return None;
        }
        let hits = search.program.hits(self.capture(), view.start..view.end);
        Some(hits.take(MOST_HITS).map(|hit| hit.tick).collect())
    }
}
