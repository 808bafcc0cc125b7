//! Parallel buses.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing::sides;
use crate::decode::{ParallelConfig, Protocol, Strobes};
use crate::line::Level;

impl Patient<'_> {
    pub(super) fn parallel(&mut self, config: ParallelConfig) {
        match config.strobes {
            Strobes::Clock(rising) if self.words_change_with(config, rising) => return,
            Strobes::Cycles { write, read } if self.strobes_rest_active(config, write, read) => return,
            _ => {}
        }
        self.plain();
    }

    /// Whether the data lines that change do so with the edge that takes them.
    fn words_change_with(&mut self, config: ParallelConfig, rising: bool) -> bool {
        let first = self.bus.lines().len() - (config.data + config.address) as usize;
        let lines = first..first + config.data as usize;
        let told: Vec<bool> = lines
            .filter_map(|place| {
                sides(self.capture, self.line(0), self.line(place), self.range.clone(), |_| true)
                    .after_rising()
            })
            .collect();
        let with = told.iter().filter(|after| **after == rising).count();
        if told.is_empty() || with * 10 < told.len() * 9 {
            return false;
        }
        let (edge, other) = if rising { ("rising", "falls") } else { ("falling", "rises") };
        let what =
            format!("{with} data lines change with the {edge} edge of {}, which takes them", self.name(0));
        self.find("edge", Sureness::Likely, what, format!("edge = \"{other}\""));
        true
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
        let other = |level: Option<Level>| {
            level.map(|level| if level == Level::Low { Level::High } else { Level::Low })
        };
        let turned = config.strobes(Strobes::Cycles { write: other(write), read: other(read) });
        let (stated, seen) = (self.look(self.bus.protocol()), self.look(&Protocol::Parallel(turned)));
        let faults = |sight: Option<super::sight::Sight>| sight.map_or(u64::MAX, |sight| sight.faulty);
        // With one strobe alone, both levels read without a fault.
        let (stated, seen) = (faults(stated), faults(seen));
        if seen > stated || (strobes.len() > 1 && seen == stated) {
            return false;
        }
        let level =
            strobes.first().map_or("low", |(_, active)| if *active == Level::Low { "high" } else { "low" });
        let names: Vec<String> = strobes.iter().map(|(place, _)| self.name(*place)).collect();
        let rest = if level == "low" { "high" } else { "low" };
        let what = format!(
            "{} rest{} {rest}, which is said to be active",
            names.join(" and "),
            if names.len() == 1 { "s" } else { "" }
        );
        let key = if strobes.len() == 1 { "the strobe's level" } else { "the strobes' levels" };
        self.find("strobe-active", Sureness::Likely, what, format!("turn {key}: active is {level}"));
        true
    }
}
