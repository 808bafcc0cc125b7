//! Pulses that nobody means: a ground lead that is off, crosstalk, poor edges.

use super::finding::Sureness;
use super::patient::{NOISE_REMEDY, Patient};
use super::timing::{median, regular};
use crate::decode::Protocol;
use crate::line::LineId;
use crate::time::Tick;

/// Short pulses from which on a line is noisy, and their smallest share of all pulses.
const FEWEST: usize = 3;
const SMALLEST_SHARE: f64 = 0.005;
/// Short pulses in a row: more of them are a clock that runs faster for a while.
const LONGEST_ROW: usize = 5;

/// Pulses far shorter than a line's own: where they begin, and the longest of them.
struct Spikes {
    at: Vec<u64>,
    longest: u64,
}

impl Patient<'_> {
    /// Whether lines have pulses that are none of the bus's own: nothing else can then be told.
    pub(super) fn noisy(&mut self) -> bool {
        let lines = self.bus.lines().to_vec();
        let ticks: Vec<(LineId, Vec<u64>)> = lines.iter().map(|line| (*line, self.ticks(*line))).collect();
        let everywhere: Vec<String> = ticks
            .iter()
            .filter(|(_, ticks)| is_everywhere(&lengths(ticks)))
            .map(|(line, _)| self.name_of(*line))
            .collect();
        if !everywhere.is_empty() {
            let what = "pulses of all lengths, down to a tick, and hardly ever a rest";
            let remedy = match self.capture.base().is_exact() {
                true => NOISE_REMEDY.to_string(),
                false => {
                    format!(
                        "{NOISE_REMEDY}; or record faster: what is too fast for the rate looks like noise"
                    )
                }
            };
            self.find("noise", Sureness::Likely, what, remedy);
            if let Some(finding) = self.findings.last_mut() {
                finding.lines = everywhere;
            }
            return true;
        }
        let found = self.clock_spikes(&ticks);
        if let Some(spikes) = &found {
            self.spikes(spikes);
        }
        found.is_some()
    }

    fn spikes(&mut self, spikes: &Spikes) {
        let Some(first) = spikes.at.first() else { return };
        let (count, longest) = (spikes.at.len(), self.length(spikes.longest.max(1)));
        let name = self.name(0);
        let mut what = format!("{count} pulses on {name} are {longest} or shorter, far shorter than its own");
        let mut remedy = NOISE_REMEDY.to_string();
        if let Some(other) = self.comes_with(&spikes.at) {
            what.push_str(&format!("; each comes with an edge of {other}"));
            remedy =
                format!("crosstalk from {other}: part the leads, give each its own ground, slow its edges");
        }
        self.find_at(Some(Tick(*first)), "noise", Sureness::Likely, what, remedy);
    }

    /// The line of the record of which nearly all of these pulses follow an edge at once.
    fn comes_with(&self, at: &[u64]) -> Option<String> {
        let own = self.line(0);
        let pace = self.ticks(own).windows(2).map(|pair| pair[1] - pair[0]).max()?;
        let near = |line: &LineId| {
            let trace = self.capture.trace(*line);
            let close = at.iter().filter(|at| {
                trace.prev_edge(Tick(**at + 3)).is_some_and(|edge| edge.tick.0 + 3 + pace / 1000 >= **at)
            });
            close.count() * 10 >= at.len() * 9
        };
        let lines = (0..self.capture.lines().len()).map(LineId).filter(|line| *line != own);
        let mut lines = lines.filter(near);
        // A line that is busier than all has edges near anything.
        lines.next().filter(|_| lines.next().is_none()).map(|line| self.name_of(line))
    }

    /// Pulses on the line that times the bus.
    fn clock_spikes(&self, ticks: &[(LineId, Vec<u64>)]) -> Option<Spikes> {
        let (_, ticks) = ticks.first()?;
        match self.bus.protocol() {
            Protocol::Uart(_) | Protocol::Can(_) | Protocol::Lin(_) => self.among_bits(ticks),
            // A microsecond is the shortest low pulse, and the shortest rest after it.
            Protocol::OneWire => {
                let shortest = self.capture.base().rate().to_f64() * 0.5e-6;
                let at = ticks.windows(2).filter(|pair| ((pair[1] - pair[0]) as f64) < shortest);
                let at: Vec<u64> = at.map(|pair| pair[0]).collect();
                // A line of nothing but such pulses is another kind of line.
                if at.len() * 3 > ticks.len() {
                    return None;
                }
                spikes_if_enough(at, shortest as u64, ticks.len())
            }
            Protocol::Custom(_) => None,
            _ => among_pulses(ticks),
        }
    }

    /// Bits that are whole again once short pulses are left out.
    fn among_bits(&self, ticks: &[u64]) -> Option<Spikes> {
        let regular = |ticks: &[u64]| regular(&lengths(ticks), self.capture.base().is_exact());
        if ticks.len() < 20 || regular(ticks).is_some() {
            return None;
        }
        let mut sorted = lengths(ticks);
        sorted.sort_unstable();
        // It is not known how short they are: what is left out grows until bits are whole.
        let mut widths: Vec<u64> =
            (1..48).filter_map(|part| sorted.get(sorted.len() * part / 96).copied()).collect();
        widths.dedup();
        for width in widths {
            let (kept, out) = without_short(ticks, width);
            let clean = kept.len() >= 12 && regular(&kept).is_some_and(|bit| bit > 2.5 * width as f64);
            if clean && out.len() >= FEWEST {
                return Some(Spikes { at: out, longest: width });
            }
        }
        None
    }
}

/// Far shorter pulses among those of a clock or a strobe, few of them in a row.
fn among_pulses(ticks: &[u64]) -> Option<Spikes> {
    let lengths = lengths(ticks);
    // Pulses of the two levels may be of two lengths; rests between strobes may have any.
    let levels = [0, 1].map(|first| Lengths::of(lengths.iter().skip(first).step_by(2).copied().collect()));
    let at = |place: Option<usize>| place.and_then(|place| Some((lengths.get(place)?, &levels[place % 2])));
    let is_part = |place| at(place).is_some_and(|(length, own)| length * 5 < own.usual * 4);
    let is_short = |place: usize| {
        let own = &levels[place % 2];
        let parts = || is_part(place.checked_sub(1)) || is_part(Some(place + 1));
        lengths[place] * 4 < own.usual && (own.are_alike || parts())
    };
    let mut short = Vec::new();
    let mut in_rows = 0;
    let mut place = 0;
    while place < lengths.len() {
        let row = (place..lengths.len()).take_while(|place| is_short(*place)).count();
        match row {
            0 => {}
            1..=LONGEST_ROW => short.extend(place..place + row),
            _ => in_rows += row,
        }
        place += row.max(1);
    }
    if in_rows > short.len() {
        return None;
    }
    let longest = short.iter().map(|place| lengths[*place]).max()?;
    spikes_if_enough(short.iter().map(|place| ticks[*place]).collect(), longest, lengths.len())
}

/// The pulses of one level.
struct Lengths {
    usual: u64,
    /// Whether most of them have the usual length.
    are_alike: bool,
}

impl Lengths {
    fn of(lengths: Vec<u64>) -> Lengths {
        let usual = median(&lengths).unwrap_or(0);
        let near = lengths.iter().filter(|length| length.abs_diff(usual) <= (usual / 4).max(1)).count();
        Lengths { usual, are_alike: near * 10 >= lengths.len() * 6 }
    }
}

fn spikes_if_enough(at: Vec<u64>, longest: u64, all: usize) -> Option<Spikes> {
    let enough = at.len() >= FEWEST && at.len() as f64 >= SMALLEST_SHARE * all as f64;
    enough.then_some(Spikes { at, longest })
}

/// Edges without pulses up to this length, and where those were.
fn without_short(ticks: &[u64], width: u64) -> (Vec<u64>, Vec<u64>) {
    let (mut kept, mut out): (Vec<u64>, Vec<u64>) = (Vec::new(), Vec::new());
    for tick in ticks {
        match kept.last() {
            Some(last) if tick - last <= width => out.extend(kept.pop()),
            _ => kept.push(*tick),
        }
    }
    (kept, out)
}

fn lengths(ticks: &[u64]) -> Vec<u64> {
    ticks.windows(2).map(|pair| pair[1] - pair[0]).collect()
}

/// Whether pulses have all lengths, as noise has: a signal's are of a few, however fast it is.
fn is_everywhere(lengths: &[u64]) -> bool {
    if lengths.len() < 100 {
        return false;
    }
    let share = |count: usize| count as f64 / lengths.len() as f64;
    let Some(usual) = median(lengths) else { return false };
    if usual < 8 {
        // Ever fewer of ever longer ones.
        let of = |ticks: u64| share(lengths.iter().filter(|length| **length == ticks).count());
        let falls = (1..5).all(|ticks| of(ticks + 1) < of(ticks) * 1.1 + 0.01 && of(ticks) > 0.01);
        let longer = share(lengths.iter().filter(|length| (3..40).contains(*length)).count());
        return falls && longer >= 0.15 && of(1) < 0.7;
    }
    // No length is more usual than others: lengths within a tick or 5 % of each other are one.
    let mut sorted = lengths.to_vec();
    sorted.sort_unstable();
    let alike = |from: usize| {
        let to = sorted[from] + (sorted[from] / 10).max(2);
        sorted.partition_point(|length| *length <= to) - from
    };
    let most = (0..sorted.len()).map(alike).max().unwrap_or(0);
    share(most) < 0.25
}
