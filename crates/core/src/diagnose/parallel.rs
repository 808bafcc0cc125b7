//! Parallel buses.

use super::finding::Sureness;
use super::patient::Patient;
use crate::decode::{ParallelConfig, Protocol, Strobes};
use crate::line::Level;

impl Patient<'_> {
    pub(super) fn parallel(&mut self, config: ParallelConfig) {
        match config.strobes {
            Strobes::Clock(rising) if self.taken_while_changing(rising, Sureness::Likely) => return,
            Strobes::Cycles { write, read } if self.strobes_rest_active(config, write, read) => return,
            _ => {}
        }
        self.plain();
    }

    /// Whether strobes are at their active level nearly all the time, and the other level reads better.
    fn strobes_rest_active(
        &mut self,
        config: ParallelConfig,
        write: Option<Level>,
        read: Option<Level>,
    ) -> bool {
        let strobes: Vec<(usize, Level)> = [write, read].into_iter().flatten().enumerate().collect();
        let used = strobes.iter().filter(|(place, _)| self.edges(*place) > 0);
        let active: Vec<bool> = used
            .map(|(place, active)| {
                super::timing::rests_at(self.capture, self.line(*place), self.range.clone(), *active)
            })
            .collect();
        if active.is_empty() || active.contains(&false) {
            return false;
        }
        let other = |level: Option<Level>| level.map(Level::opposite);
        let turned = config.strobes(Strobes::Cycles { write: other(write), read: other(read) });
        let (stated, seen) = (self.look(self.bus.protocol()), self.look(&Protocol::Parallel(turned)));
        let faults = |sight: Option<super::sight::Sight>| sight.map_or(u64::MAX, |sight| sight.faulty);
        // With one strobe alone, both levels read without a fault.
        let (stated, seen) = (faults(stated), faults(seen));
        if seen > stated || (strobes.len() > 1 && seen == stated) {
            return false;
        }
        let roles = self.bus.protocol().roles();
        let named = |(place, active): &(usize, Level)| format!("{} rests {active}", self.name(*place));
        let what: Vec<String> = strobes.iter().map(named).collect();
        let key = |(place, active): &(usize, Level)| {
            format!("{}-active = \"{}\"", roles[*place], active.opposite())
        };
        let keys: Vec<String> = strobes.iter().map(key).collect();
        let what = format!("{}, which is said to be active", what.join(", "));
        self.find("strobe-active", Sureness::Likely, what, keys.join(", "));
        true
    }
}
