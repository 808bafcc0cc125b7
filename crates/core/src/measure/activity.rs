//! Which lines are alive, from samples as they arrive.

use crate::line::Level;
use crate::scan::{GROUP, Plane, SPAN, Samples, Slicer};

/// What one line did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineActivity {
    /// Its last level; unknown before the first sample.
    pub level: Level,
    /// Changes of level since the beginning.
    pub edges: u64,
    /// Of these, since the last [`Activity::begin_window`].
    pub recent: u64,
    /// The sample that first shows its last change, counted from 0.
    pub last_change: Option<u64>,
    /// Samples at which it was high.
    pub high: u64,
    /// Changes from low to high.
    pub rises: u64,
    /// The sample that first showed a pulse of one sample, counted from 0: narrower ones may have been missed.
    pub single: Option<u64>,
}

/// Two lines whose leads lie side by side.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Neighbours {
    /// One line.
    pub line: usize,
    /// The other.
    pub beside: usize,
    /// How often `line` went high, and low, within a sample of when `beside` did.
    pub together: (u64, u64),
}

/// Counts the edges of lines in arriving samples, and keeps nothing else of them.
///
/// ```
/// use deep_tap_core::measure::Activity;
/// use deep_tap_core::scan::{SampleWidth, Samples};
///
/// let mut activity = Activity::new(2);
/// activity.push(Samples::new(SampleWidth::W8, &[0, 1, 0, 1]));
/// activity.begin_window();
/// activity.push(Samples::new(SampleWidth::W8, &[1, 0]));
/// let lines = activity.lines();
/// assert_eq!((lines[0].edges, lines[0].recent, lines[0].last_change), (4, 1, Some(5)));
/// assert_eq!((lines[1].edges, lines[1].last_change), (0, None));
/// ```
#[derive(Clone, Debug)]
pub struct Activity {
    lines: Vec<LineActivity>,
    bits: Vec<u32>,
    mask: u64,
    slicer: Slicer,
    planes: Vec<Plane>,
    unknown: Vec<Plane>,
    /// Where each line rises and falls in the present span.
    edges: Vec<(Plane, Plane)>,
    neighbours: Vec<Neighbours>,
    periods: Vec<Periods>,
    position: u64,
    window: u64,
    last: Option<(u64, u64)>,
}

impl Activity {
    /// Looks at this many lines, of which line `i` is bit `i` of the samples; at most 64.
    pub fn new(lines: usize) -> Self {
        let lines = lines.min(64);
        let line = LineActivity {
            level: Level::Unknown,
            edges: 0,
            recent: 0,
            last_change: None,
            high: 0,
            rises: 0,
            single: None,
        };
        Activity {
            lines: vec![line; lines],
            bits: (0..lines as u32).collect(),
            mask: u64::MAX.checked_shr(64 - lines as u32).unwrap_or(0),
            slicer: Slicer::new(),
            planes: vec![[0; SPAN]; lines],
            unknown: vec![[0; SPAN]; lines],
            edges: vec![([0; SPAN], [0; SPAN]); lines],
            neighbours: Vec::new(),
            periods: vec![Periods::default(); lines],
            position: 0,
            window: 0,
            last: None,
        }
    }

    /// The same, with an eye on these pairs of lines, the first of which may float beside the other.
    #[must_use]
    pub fn beside(mut self, pairs: &[(usize, usize)]) -> Self {
        let known = pairs.iter().filter(|(a, b)| (*a).max(*b) < self.lines.len());
        let pair =
            |(line, beside): &(usize, usize)| Neighbours { line: *line, beside: *beside, together: (0, 0) };
        self.neighbours = known.map(pair).collect();
        self
    }

    /// The pairs that were given.
    pub fn neighbours(&self) -> &[Neighbours] {
        &self.neighbours
    }

    /// Whether a line does nothing but echo the leads beside it, as one does that is not connected:
    /// whenever one of them goes to a level, this line goes there for a moment, and at no other time.
    pub fn echoes(&self, line: usize) -> bool {
        const FEWEST: u64 = 8;
        /// How much shorter its pulses are than those of what it echoes, at the least.
        const SHORTER: u64 = 4;
        // Nearly all, since two edges may be too close for both to show.
        let nearly = |part: u64, whole: u64| whole >= FEWEST && part * 10 >= whole * 9;
        let Some(own) = self.lines.get(line) else { return false };
        let falls = |line: &LineActivity| line.edges - line.rises.min(line.edges);
        let low = |line: &LineActivity| self.position - line.high.min(self.position);
        let pairs = || self.neighbours.iter().filter(|pair| pair.line == line);
        let explained = pairs().fold((0, 0), |sum, p| (sum.0 + p.together.0, sum.1 + p.together.1));
        let echoed = |pair: &Neighbours| {
            let other = &self.lines[pair.beside];
            let up = nearly(explained.0, own.rises)
                && nearly(pair.together.0, other.rises)
                && own.high / own.rises.max(1) < other.high / other.rises.max(1) / SHORTER;
            let down = nearly(explained.1, falls(own))
                && nearly(pair.together.1, falls(other))
                && low(own) / falls(own).max(1) < low(other) / falls(other).max(1) / SHORTER;
            up || down
        };
        pairs().any(echoed)
    }

    /// Samples taken in so far.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Samples since the last [`begin_window`](Self::begin_window).
    pub fn window(&self) -> u64 {
        self.position - self.window
    }

    /// What each line did.
    pub fn lines(&self) -> &[LineActivity] {
        &self.lines
    }

    /// From here on, edges are recent ones.
    pub fn begin_window(&mut self) {
        self.window = self.position;
        self.lines.iter_mut().for_each(|line| line.recent = 0);
        self.periods.iter_mut().for_each(Periods::begin_window);
    }

    /// The mean period of a line within bursts, in samples, as far as it was looked at since the last
    /// [`begin_window`](Self::begin_window); `None` where it does not come in bursts.
    pub fn period_in_bursts(&self, line: usize) -> Option<f64> {
        self.periods.get(line)?.in_bursts()
    }

    /// Takes samples in.
    pub fn push(&mut self, samples: Samples<'_>) {
        let mut at = 0;
        while at < samples.len() {
            if let Some((levels, 0)) = self.last
                && samples.unknown().is_empty()
            {
                let rest = samples.slice(at..samples.len());
                let quiet = self.slicer.quiet(rest.levels(), rest.width(), levels, self.mask);
                at += quiet;
                self.position += quiet as u64;
                for (line, activity) in self.lines.iter_mut().enumerate() {
                    activity.high += (levels >> line & 1) * quiet as u64;
                }
            }
            let end = (at + SPAN * GROUP).min(samples.len());
            if at < end {
                self.push_span(samples.slice(at..end));
            }
            at = end;
        }
    }

    fn push_span(&mut self, samples: Samples<'_>) {
        let (width, count) = (samples.width(), samples.len());
        let words = count.div_ceil(GROUP);
        self.slicer.planes(samples.levels(), width, &self.bits, &mut self.planes);
        if !samples.unknown().is_empty() {
            self.slicer.planes(samples.unknown(), width, &self.bits, &mut self.unknown);
        }
        let first = self.last.unwrap_or(samples.get(0));
        for (line, activity) in self.lines.iter_mut().enumerate() {
            let bit = |word: u64| word >> line & 1;
            let (mut carry, mut open_carry) = (bit(first.0) & !bit(first.1), bit(first.1));
            let mut toggled = u64::from(activity.last_change.is_some_and(|last| last + 1 == self.position));
            for word in 0..words {
                let open = if samples.unknown().is_empty() { 0 } else { self.unknown[line][word] };
                let levels = self.planes[line][word] & !open;
                let valid = match count - word * GROUP {
                    rest @ 0..64 => (1 << rest) - 1,
                    _ => u64::MAX,
                };
                let toggles = (levels ^ (levels << 1 | carry)) | (open ^ (open << 1 | open_carry));
                let toggles = toggles & valid;
                let rises = levels & !(levels << 1 | carry) & !(open << 1 | open_carry) & valid;
                let falls = toggles & !rises & !open;
                (self.edges[line].0[word], self.edges[line].1[word]) = (rises, falls);
                activity.rises += u64::from(rises.count_ones());
                activity.high += u64::from((levels & valid).count_ones());
                let single = toggles & (toggles << 1 | toggled);
                if single != 0 && activity.single.is_none() {
                    let at = self.position + (word * GROUP) as u64 + u64::from(single.trailing_zeros());
                    activity.single = Some(at.saturating_sub(1));
                }
                toggled = toggles >> 63;
                (carry, open_carry) = (levels >> 63, open >> 63);
                if toggles != 0 {
                    let edges = u64::from(toggles.count_ones());
                    activity.edges += edges;
                    activity.recent += edges;
                    let last = (word * GROUP) as u64 + 63 - u64::from(toggles.leading_zeros());
                    activity.last_change = Some(self.position + last);
                }
            }
        }
        for (periods, (rises, _)) in self.periods.iter_mut().zip(&self.edges) {
            periods.look_at(&rises[..words], self.position);
        }
        for pair in &mut self.neighbours {
            let (own, other) = (&self.edges[pair.line], &self.edges[pair.beside]);
            pair.together.0 += together(&own.0[..words], &other.0[..words]);
            pair.together.1 += together(&own.1[..words], &other.1[..words]);
        }
        let last = samples.get(count - 1);
        for (line, activity) in self.lines.iter_mut().enumerate() {
            activity.level = match (last.1 >> line & 1, last.0 >> line & 1) {
                (1, _) => Level::Unknown,
                (_, bit) => Level::from(bit == 1),
            };
        }
        self.last = Some(last);
        self.position += count as u64;
    }
}

/// How many of the marks lie within one tick of another mark.
fn together(own: &[u64], other: &[u64]) -> u64 {
    let at = |word: usize| other.get(word).copied().unwrap_or(0);
    let near = |word: usize| {
        let (before, here, after) = (word.checked_sub(1).map_or(0, at), at(word), at(word + 1));
        here | here << 1 | before >> 63 | here >> 1 | after << 63
    };
    own.iter().enumerate().map(|(word, marks)| u64::from((marks & near(word)).count_ones())).sum()
}

/// Periods of a line, by how long they are. Of each span only the first few are looked at, and the one that
/// reaches into it: what repeats thousands of times needs no more.
#[derive(Clone, Debug)]
struct Periods {
    /// Of each quarter of a power of two: how many, and how many samples together.
    quarters: [(u64, u64); 256],
    last: Option<u64>,
}

impl Default for Periods {
    fn default() -> Self {
        Periods { quarters: [(0, 0); 256], last: None }
    }
}

impl Periods {
    /// How many of a span are looked at.
    const LOOKED_AT: usize = 32;

    fn begin_window(&mut self) {
        self.quarters = [(0, 0); 256];
    }

    fn look_at(&mut self, rises: &[u64], position: u64) {
        let Some(last) = rises.iter().rposition(|word| *word != 0) else { return };
        let at = |word: usize, bit: u32| position + (word * GROUP) as u64 + u64::from(bit);
        let mut seen = 0;
        'words: for (word, marks) in rises.iter().enumerate() {
            let mut left = *marks;
            while left != 0 {
                if seen == Self::LOOKED_AT {
                    break 'words;
                }
                self.add(at(word, left.trailing_zeros()));
                left &= left - 1;
                seen += 1;
            }
        }
        self.last = Some(at(last, 63 - rises[last].leading_zeros()));
    }

    fn add(&mut self, rise: u64) {
        if let Some(last) = self.last.replace(rise) {
            let period = rise.saturating_sub(last).max(1);
            let power = period.ilog2();
            let quarter = &mut self.quarters[(4 * power) as usize + ((period << 2 >> power) & 3) as usize];
            *quarter = (quarter.0 + 1, quarter.1 + period);
        }
    }

    /// The mean of those near the median one, if nearly all are, but for pauses: as
    /// [`bursts`](super::bursts) has it, as far as the quarters tell.
    fn in_bursts(&self) -> Option<f64> {
        const FEWEST: u64 = 8;
        const ODD: u64 = 6;
        /// Quarters from a usual period to the shortest pause.
        const PAUSE: usize = 8;
        let sum = |of: &[(u64, u64)]| of.iter().fold((0, 0), |sum, of| (sum.0 + of.0, sum.1 + of.1));
        let (all, _) = sum(&self.quarters);
        let mut seen = 0;
        let median = self.quarters.iter().position(|(count, _)| {
            seen += count;
            seen * 2 >= all && *count > 0
        })?;
        let (near, samples) = sum(&self.quarters[median.saturating_sub(1)..(median + 2).min(256)]);
        let (pauses, paused) = sum(self.quarters.get(median + PAUSE..).unwrap_or_default());
        let odd = all - near - pauses;
        let bursts = near >= FEWEST && pauses > 0 && near >= 2 * pauses && odd * ODD <= near;
        (bursts && paused * 2 >= samples).then(|| samples as f64 / near as f64)
    }
}
