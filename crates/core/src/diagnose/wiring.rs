//! Lines that are exchanged: a bus's lines obey its clock, whatever they carry.

use super::finding::Sureness;
use super::patient::Patient;
use crate::decode::{Protocol, SpiConfig, SpiData, Strobes};
use crate::line::{Level, LineId};
use crate::time::Tick;

/// Shares in percent: of a line's changes with the clock in between, where it obeys, and where it surely does
/// not; of a clock's edges during selections.
const OBEYS: usize = 95;
const DEFIES: usize = 85;

impl Patient<'_> {
    /// Whether lines are exchanged; then there is nothing else to find.
    pub(super) fn exchanged(&mut self) -> bool {
        let found = match self.bus.protocol() {
            Protocol::I2c(_) => return self.two_wires_exchanged(),
            Protocol::Spi(config) => self.exchanged_spi(*config),
            Protocol::Clocked(config) if config.enable.is_none() => self.exchanged_clock(),
            Protocol::I2s(_) | Protocol::Mdio | Protocol::Swd | Protocol::Jtag(_) => self.exchanged_clock(),
            Protocol::Parallel(config)
                if matches!(config.strobes, Strobes::Clock(_)) && config.select.is_none() =>
            {
                self.exchanged_with_clock()
            }
            _ => None,
        };
        let Some(order) = found else { return false };
        let moved: Vec<String> = (0..order.len())
            .filter(|place| order[*place] != self.line(*place))
            .map(|place| self.name_of(order[place]))
            .collect();
        let clock = self.name_of(order[0]);
        let what = match order[0] == self.line(0) {
            true => format!("with {} exchanged, what is read is whole", moved.join(" and ")),
            false => format!(
                "the other lines change at most once a period of {clock}, but often within one of {}: {clock} is the clock",
                self.name(0)
            ),
        };
        let remedy = self.as_setup(&order);
        self.find("swapped", Sureness::Likely, what, remedy);
        true
    }

    /// The lines by their roles, those that are not where they should be.
    fn as_setup(&self, order: &[LineId]) -> String {
        let roles = self.bus.protocol().roles();
        let places = (0..order.len()).filter(|place| order.len() <= 4 || order[*place] != self.line(*place));
        let pairs: Vec<String> =
            places.map(|place| format!("{} = \"{}\"", roles[place], self.name_of(order[place]))).collect();
        pairs.join(", ")
    }

    /// The percentage of a line's changes that have an edge of the clock since the one before.
    fn obedience(&self, clock: LineId, line: LineId) -> Option<usize> {
        let (clock, line) = (self.ticks(clock), self.ticks(line));
        if line.len() < 4 {
            return None;
        }
        // As far as both are at hand.
        let until = clock.last().copied().unwrap_or(0).max(self.range.end.0.min(line.last().copied()?));
        let mut next = 0;
        let (mut all, mut apart) = (0, 0);
        for pair in line.windows(2).filter(|pair| pair[1] <= until) {
            while clock.get(next).is_some_and(|edge| *edge <= pair[0]) {
                next += 1;
            }
            all += 1;
            apart += usize::from(clock.get(next).is_some_and(|edge| *edge <= pair[1]));
        }
        (all >= 3).then(|| apart * 100 / all)
    }

    /// Whether lines obey a clock, none that changes defying it; `None` where there are too few changes.
    fn obey(&self, clock: LineId, lines: &[LineId], least: usize) -> Option<bool> {
        let shares: Vec<usize> = lines.iter().filter_map(|line| self.obedience(clock, *line)).collect();
        (!shares.is_empty()).then(|| shares.iter().all(|share| *share >= least))
    }

    /// Another order in which all lines obey the first, where they defy it in the stated one.
    fn exchanged_clock(&self) -> Option<Vec<LineId>> {
        let lines = self.bus.lines();
        let stated = self.look(self.bus.protocol()).unwrap_or_default();
        if self.obey(lines[0], &lines[1..], DEFIES) != Some(false) {
            return self.other_order(|order| order[0] == lines[0], stated.whole);
        }
        let clocks = lines.iter().filter(|clock| {
            let others: Vec<LineId> = lines.iter().copied().filter(|line| line != *clock).collect();
            self.obey(**clock, &others, OBEYS) == Some(true)
        });
        let clocks: Vec<LineId> = clocks.copied().collect();
        let [clock] = clocks.as_slice() else { return None };
        self.other_order(|order| order[0] == *clock, stated.whole).or_else(|| {
            // Which of the others is which may not show.
            let mut order = lines.to_vec();
            let place = order.iter().position(|line| line == clock)?;
            order.swap(0, place);
            Some(order)
        })
    }

    /// An order other than the stated one in which everything is whole, where it is bad as stated.
    fn other_order(&self, counts: impl Fn(&[LineId]) -> bool, whole: u64) -> Option<Vec<LineId>> {
        let lines = self.bus.lines();
        let protocol = self.bus.protocol();
        let is_well = |stated: super::sight::Sight| match protocol {
            // Any mode line makes scans; what tells is their length.
            Protocol::Jtag(_) => stated.count("length") < 2,
            _ => !stated.is_bad(),
        };
        if lines.len() > 4 || self.look(protocol).is_some_and(is_well) {
            return None;
        }
        let orders = permutations(lines).into_iter().filter(|order| *order != lines && counts(order));
        let read = orders.filter_map(|order| {
            let seen = self.look_at(&order, protocol)?;
            let scans = seen.of_kind("ir-scan") >= 2 || !matches!(protocol, Protocol::Jtag(_));
            let clean = seen.faulty == 0 && seen.whole >= 3 && seen.whole >= whole / 2;
            (clean && scans).then_some((order, seen.whole))
        });
        // The first of the best: lines stay where they are as far as they can.
        let mut best: Option<(Vec<LineId>, u64)> = None;
        for (order, whole) in read {
            if best.as_ref().is_none_or(|(_, most)| whole > *most) {
                best = Some((order, whole));
            }
        }
        best.map(|(order, _)| order)
    }

    /// A clock that is exchanged with one of many data lines.
    fn exchanged_with_clock(&self) -> Option<Vec<LineId>> {
        let lines = self.bus.lines();
        if self.obey(lines[0], &lines[1..], DEFIES) != Some(false) {
            return None;
        }
        let orders = (1..lines.len()).map(|place| {
            let mut order = lines.to_vec();
            order.swap(0, place);
            order
        });
        let mut orders = orders.filter(|order| self.obey(order[0], &order[1..], OBEYS) == Some(true));
        orders.next().filter(|_| orders.next().is_none())
    }

    /// Clock, select and data of clocked serial in another order: data obeys the clock, and the clock runs
    /// while it is selected, at whichever level that is.
    fn exchanged_spi(&self, config: SpiConfig) -> Option<Vec<LineId>> {
        let lines = self.bus.lines();
        let data = 1 + usize::from(config.select.is_some());
        let fits = |order: &[LineId], least: usize| {
            let obey = self.obey(order[0], &order[data..], least);
            let selected = config.select.is_none() || self.runs_while_selected(order[0], order[1], least);
            obey != Some(false) && selected
        };
        if config.data == SpiData::Dual || lines.iter().any(|line| self.ticks(*line).is_empty()) {
            return None;
        }
        if fits(lines, DEFIES) {
            return None;
        }
        let mut orders: Vec<Vec<LineId>> = permutations(lines);
        // The order of data lines does not show.
        orders.retain(|order| {
            order
                .get(data..)
                .is_none_or(|data| data.is_sorted_by_key(|line| lines.iter().position(|own| own == line)))
        });
        let mut orders = orders.into_iter().filter(|order| fits(order, OBEYS));
        let order = orders.next()?;
        orders.next().is_none().then_some(order)
    }

    /// Whether nearly all edges of a clock come while another line is at the same level, and it has changed
    /// between them only now and then.
    fn runs_while_selected(&self, clock: LineId, select: LineId, least: usize) -> bool {
        let edges = self.ticks(clock);
        let selects = self.ticks(select).len();
        let high = |at: &&u64| self.level_at(select, Tick(at.saturating_sub(1))) == Level::High;
        let highs = edges.iter().take(2000).filter(high).count();
        let all = edges.len().min(2000);
        let most = highs.max(all - highs);
        most * 100 >= all * least && selects * 2 <= edges.len() && selects > 0
    }
}

/// All orders of some lines, those first in which most stay where they are.
fn permutations(lines: &[LineId]) -> Vec<Vec<LineId>> {
    let mut all = Vec::new();
    permute(&mut lines.to_vec(), 0, &mut all);
    all.sort_by_key(|order: &Vec<LineId>| order.iter().zip(lines).filter(|(a, b)| a != b).count());
    all
}

fn permute(lines: &mut Vec<LineId>, fixed: usize, all: &mut Vec<Vec<LineId>>) {
    if fixed == lines.len() {
        all.push(lines.clone());
        return;
    }
    for place in fixed..lines.len() {
        lines.swap(fixed, place);
        permute(lines, fixed + 1, all);
        lines.swap(fixed, place);
    }
}
