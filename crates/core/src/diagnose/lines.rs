//! What lines show by themselves, whatever is spoken on them: that they never change, that they stay where
//! they are from some instant on.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::{MOST_INTERVALS, median};
use crate::decode::{JtagData, Protocol};
use crate::line::{Level, LineId};
use crate::time::Tick;

/// Edges of the busiest line from which on a data line that never changes is worth a word.
const MANY_EDGES: u64 = 64;

impl Patient<'_> {
    /// Whether a line that the bus cannot do without never changes; then there is nothing else to
    /// find.
    pub(super) fn silent(&mut self) -> bool {
        let places: &[usize] = match self.bus.protocol() {
            Protocol::I2c(_) | Protocol::Mdio | Protocol::Swd | Protocol::I2s(_) | Protocol::Jtag(_) => {
                &[0, 1]
            }
            // One of two strobes may well never be used.
            Protocol::Parallel(config) if config.has_both_strobes() && self.edges(1) > 0 => &[],
            _ => &[0],
        };
        let silent: Vec<usize> = places.iter().copied().filter(|place| self.edges(*place) == 0).collect();
        for place in &silent {
            let level = self.level_at(self.line(*place), Tick(0));
            let held =
                level == Level::Low && matches!(self.bus.protocol(), Protocol::I2c(_) | Protocol::OneWire);
            let what = format!("{} never changes: it is {} all the time", self.name(*place), level);
            let remedy = match held {
                true => "look for a missing pull-up, a part that holds the line, or no power; then the lead",
                false => "check that something is sent meanwhile, the lead, and the threshold",
            };
            self.find("silent", Sureness::Certain, what, remedy);
        }
        !silent.is_empty()
    }

    /// Data lines that never change while the bus is busy. They may carry the same all the time, so this is
    /// no more than possible.
    pub(super) fn quiet_data(&mut self) {
        let all: u64 = (0..self.bus.lines().len()).map(|place| self.edges(place)).sum();
        if self.edges(self.busiest()) < MANY_EDGES && all < 4 * MANY_EDGES {
            return;
        }
        for place in self.data_places() {
            if self.edges(place) > 0 {
                continue;
            }
            let level = self.level_at(self.line(place), Tick(0));
            // A chain that is only bypassed is sent ones.
            let bypassed =
                matches!(self.bus.protocol(), Protocol::Jtag(_)) && place == 2 && level == Level::High;
            if bypassed {
                continue;
            }
            let what = format!(
                "{} never changes while the bus is busy: it is {} all the time",
                self.name(place),
                level
            );
            let remedy = "if it should carry anything else, check the lead, its threshold, and who drives it";
            self.find("silent", Sureness::Possible, what, remedy);
        }
    }

    /// Whether a data line has the edges of the clock, as a lead that is off picks up the one beside it; its
    /// data then means nothing.
    pub(super) fn echoes(&mut self) -> bool {
        let clock = self.ticks(self.line(0));
        let echo = self.data_places().into_iter().find(|place| {
            let line = self.ticks(self.line(*place));
            if clock.len() < MANY_EDGES as usize || line.len() * 10 < clock.len() * 8 {
                return false;
            }
            // No data changes twice a period.
            let pace = clock.windows(2).map(|pair| pair[1] - pair[0]).min().unwrap_or(0) / 2;
            let mut next = 0;
            let close = line.iter().filter(|at| {
                while clock.get(next).is_some_and(|edge| edge + pace < **at) {
                    next += 1;
                }
                clock.get(next).is_some_and(|edge| edge.abs_diff(**at) <= pace)
            });
            close.count() * 10 >= line.len() * 9
        });
        let Some(place) = echo else { return false };
        let (name, clock) = (self.name(place), self.name(0));
        let what = format!("{name} follows {clock} edge by edge, twice a period: it carries no data");
        let remedy = format!("its lead is off and picks up {clock}, or sits on it: check the lead of {name}");
        self.find("echo", Sureness::Likely, what, remedy);
        true
    }

    /// The places of lines that carry data and nothing else.
    pub(super) fn data_places(&self) -> Vec<usize> {
        let lines = self.bus.lines().len();
        match self.bus.protocol() {
            Protocol::Spi(config) => (1 + usize::from(config.select.is_some())..lines).collect(),
            Protocol::Clocked(_) => vec![1],
            Protocol::I2s(_) => vec![2],
            Protocol::Jtag(config) => match config.data {
                JtagData::Both => vec![2, 3],
                JtagData::Tdi | JtagData::Tdo => vec![2],
            },
            Protocol::Parallel(config) => {
                let first = lines - (config.data + config.address) as usize;
                (first..first + config.data as usize).collect()
            }
            _ => Vec::new(),
        }
    }

    /// A line that stays at its active level from some instant to the end of the record; what comes before
    /// is looked at as if the record ended there.
    pub(super) fn hangs(&mut self) {
        let Some((line, since)) = self.held().or_else(|| self.selected_at_rest()) else { return };
        let level = self.level_at(line, since);
        let at = self.time_of(since);
        let name = self.name_of(line);
        let what = match self.bus.protocol() {
            Protocol::Spi(_) => {
                format!("{name} stays {level} from {at} to the end of the record, and the clock has stopped")
            }
            _ => format!("{name} is held {level} from {at} to the end of the record"),
        };
        let remedy = match self.bus.protocol() {
            Protocol::Spi(_) => {
                "look at what the controller waits for, and whether a part has lost its power"
            }
            Protocol::I2c(_) => {
                "look for a part that waits in the middle of a byte: nine clocks, or its reset, free the bus"
            }
            _ => "find out who drives it then: a node that hangs or has lost its power, or a short circuit",
        };
        self.find_at(Some(since), "hung", Sureness::Likely, what, remedy);
        self.range.end = since;
    }

    /// A line that should rest high, and is low for far longer than ever before.
    fn held(&self) -> Option<(LineId, Tick)> {
        let places: &[usize] = match self.bus.protocol() {
            Protocol::I2c(_) => &[0, 1],
            Protocol::Uart(_) | Protocol::Can(_) | Protocol::Lin(_) | Protocol::OneWire => &[0],
            _ => return None,
        };
        let active = match self.bus.protocol() {
            Protocol::Uart(config) if config.inverted => Level::High,
            Protocol::Can(config) if config.inverted => Level::High,
            _ => Level::Low,
        };
        let held = places.iter().filter_map(|place| {
            let line = self.line(*place);
            let trace = self.capture.trace(line);
            let last = trace.prev_edge(self.range.end).filter(|edge| edge.to == active)?;
            let lasts = self.range.end.0 - last.tick.0;
            let edges: Vec<_> = trace.edges(self.range.clone()).take(MOST_INTERVALS).collect();
            let lows = edges.windows(2).filter(|pair| pair[0].to == active);
            let lows: Vec<u64> = lows.map(|pair| pair[1].tick.0 - pair[0].tick.0).collect();
            let (longest, usual) = (lows.iter().max()?, median(&lows)?);
            // A line that begins so rests there: it is none that is held.
            let first = edges.first()?.tick.0 - self.range.start.0;
            let rests = self.level_at(line, self.range.start) == active && first > *longest;
            let held = !rests && lows.len() >= 8 && lasts > 5 * longest && lasts > 40 * usual;
            held.then_some((line, last.tick))
        });
        // The line that hangs first is held; the other one waits for it.
        held.min_by_key(|(_, since)| *since)
    }

    /// A selection in which the clock stops for the rest of the record.
    fn selected_at_rest(&self) -> Option<(LineId, Tick)> {
        let Protocol::Spi(config) = self.bus.protocol() else { return None };
        let active = config.select?;
        let (clock, select) = (self.capture.trace(self.line(0)), self.capture.trace(self.line(1)));
        let begun = select.prev_edge(self.range.end).filter(|edge| edge.to == active)?;
        let stopped = clock.prev_edge(self.range.end).filter(|edge| edge.tick > begun.tick)?;
        let lasts = self.range.end.0 - stopped.tick.0;
        // Rests of the clock within selections, and between its edges.
        let ticks = self.ticks(self.line(0));
        let rests: Vec<u64> = ticks.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let (longest, usual) = (rests.iter().max()?, median(&rests)?);
        (rests.len() >= 16 && lasts > 5 * longest && lasts > 60 * usual)
            .then_some((self.line(1), stopped.tick))
    }
}
