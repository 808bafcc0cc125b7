//! Edges that lie ahead of a decoder, for reading at once what is as it should be.

use crate::line::{Level, Levels};
use crate::time::Tick;

/// The next edges of one line.
#[derive(Clone, Debug)]
pub(crate) struct Upcoming {
    edges: Vec<(Tick, Level)>,
    /// The next one's place.
    at: usize,
    /// How many were taken at once.
    passed: usize,
    /// The last edge, or where reading began.
    before: Tick,
    /// Whether these are all that are left.
    all: bool,
}

impl Upcoming {
    /// Edges that are put at hand at a time.
    const BATCH: usize = 512;

    /// Fewer are too few to read ahead: a word of 64 bits has 128 edges of its clock.
    const FEW: usize = 160;

    /// A line that is read from a tick on.
    pub(crate) fn from(begin: Tick) -> Self {
        Upcoming { edges: Vec::new(), at: 0, passed: 0, before: begin, all: false }
    }

    /// Whether more should be put at hand.
    pub(crate) fn has_few(&self) -> bool {
        !self.all && self.edges.len() - self.at < Self::FEW
    }

    /// Puts more edges at hand where few are left. `fill` appends some, with their ticks, and none only where there are
    /// none left.
    pub(crate) fn top_up(&mut self, mut fill: impl FnMut(usize, &mut Vec<(u64, Level)>)) {
        if !self.has_few() {
            return;
        }
        self.edges.drain(..self.at);
        self.at = 0;
        let mut more = Vec::with_capacity(Self::BATCH + 64);
        while !self.all && self.edges.len() < Self::FEW {
            more.clear();
            fill(Self::BATCH, &mut more);
            self.all = more.is_empty();
            self.edges.extend(more.iter().map(|(tick, level)| (Tick(*tick), *level)));
        }
    }

    /// The tick of the next edge, beyond all ticks where there is none at hand.
    pub(crate) fn tick(&self) -> Tick {
        self.edges.get(self.at).map_or(Tick(u64::MAX), |(tick, _)| *tick)
    }

    /// Forgets which edges were taken at once: whoever wanted to know has noted them.
    pub(crate) fn forget_taken(&mut self) {
        self.passed = 0;
    }

    /// Passes the next edge; the level that it leads to.
    pub(crate) fn pass(&mut self) -> Level {
        let Some((tick, level)) = self.edges.get(self.at).copied() else { return Level::Unknown };
        (self.before, self.at) = (tick, self.at + 1);
        level
    }

    fn rest(&self) -> &[(Tick, Level)] {
        self.edges.get(self.at..).unwrap_or_default()
    }
}

/// What makes edges plain.
#[derive(Clone, Copy, Debug)]
struct Bounds {
    /// Within how many ticks edges may have come in another order; `None` where their order is certain.
    reach: Option<u64>,
    /// Fewest ticks of a pulse.
    shortest: u64,
    clock: Option<Clock>,
}

/// The line of a clock, and how many of its pulses may be as long as so many ticks, or longer.
#[derive(Clone, Copy, Debug)]
struct Clock {
    line: usize,
    ticks: u64,
    spare: usize,
}

/// The next edges of a decoder's lines, and how far from each other they must be to be plain. Given to
/// [`Decoder::read_plain`](super::Decoder::read_plain).
///
/// ```
/// use std::ops::ControlFlow;
///
/// use deep_tap_core::bus::{Ahead, Decoder, Frame, FrameSink};
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::decode::decode;
/// use deep_tap_core::line::{Level, Levels, Line, LineId};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// /// Finds high pulses.
/// #[derive(Debug)]
/// struct Highs(Option<Tick>);
///
/// impl Decoder for Highs {
///     fn lines(&self) -> usize {
///         1
///     }
///
///     fn begin(&mut self, at: Tick, levels: Levels) {
///         self.0 = (levels.level(0) == Level::High).then_some(at);
///     }
///
///     fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
///         let since = self.0.take();
///         self.0 = (levels.level(0) == Level::High).then_some(at);
///         since.map_or(ControlFlow::Continue(()), |since| out.frame(Frame::new("high", since..at)))
///     }
///
///     fn read_plain(&mut self, ahead: &mut Ahead<'_>, out: &mut dyn FrameSink) -> ControlFlow<(), bool> {
///         let mut read = false;
///         while let (None, [(rise, Level::High), (fall, Level::Low), ..]) = (self.0, ahead.edges(0)) {
///             let pulse = *rise..*fall;
///             if !ahead.take(&[2]) {
///                 break;
///             }
///             out.frame(Frame::new("high", pulse))?;
///             read = true;
///         }
///         ControlFlow::Continue(read)
///     }
///
///     fn end(&mut self, _: Tick, _: &mut dyn FrameSink) -> ControlFlow<()> {
///         ControlFlow::Continue(())
///     }
/// }
///
/// let mut line = TraceBuilder::new(Level::Low);
/// for tick in 1..100 {
///     line.push_edge(Tick(10 * tick), Level::from(tick % 2 == 1))?;
/// }
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let capture = Capture::builder(base, 1000).line(Line::named("A"), line.finish(1000)).build()?;
/// let mut frames = Vec::new();
/// decode(&capture, &[LineId(0)], capture.range(), &mut Highs(None), &mut frames)?;
/// assert_eq!(frames.len(), 49);
/// assert_eq!(frames[48].start, Tick(970));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Debug)]
pub struct Ahead<'a> {
    lines: &'a mut [Upcoming],
    levels: Levels,
    /// Where reading ends.
    end: Tick,
    bounds: Bounds,
}

impl<'a> Ahead<'a> {
    /// Edges before `end`, and the levels before them.
    pub(crate) fn new(lines: &'a mut [Upcoming], levels: Levels, end: Tick) -> Self {
        Ahead { lines, levels, end, bounds: Bounds { reach: None, shortest: 0, clock: None } }
    }

    /// The levels before the next edge.
    pub fn levels(&self) -> Levels {
        self.levels
    }

    /// The next edges of a line: their ticks, and the levels that they lead to. There may be more than are at hand.
    pub fn edges(&self, line: usize) -> &[(Tick, Level)] {
        self.lines.get(line).map_or(&[], Upcoming::rest)
    }

    /// The tick of a line's last edge, or where reading began.
    pub fn before(&self, line: usize) -> Tick {
        self.lines.get(line).map_or(Tick(0), |line| line.before)
    }

    /// The tick of the edge that comes after so many of a line, or of where reading ends; `None` where it is not at
    /// hand.
    pub fn after(&self, line: usize, count: usize) -> Option<Tick> {
        let line = self.lines.get(line)?;
        match line.rest().get(count) {
            Some((tick, _)) => Some(*tick),
            None => line.all.then_some(self.end),
        }
    }

    /// The tick of the next edge of any line, or of where reading ends.
    pub(crate) fn next(&self) -> Tick {
        self.lines.iter().map(Upcoming::tick).min().unwrap_or(self.end).min(self.end)
    }

    /// Ticks on either side of a [look](super::Look) with this much room within which no edge may lie.
    pub fn margin(&self, room: u64) -> u64 {
        match self.bounds.reach {
            Some(reach) => reach.saturating_add(room),
            None => room.saturating_sub(1),
        }
    }

    /// Edges this close may have come in another order.
    pub(crate) fn order_within(&mut self, reach: Option<u64>) {
        self.bounds.reach = reach;
    }

    /// No pulse may be shorter.
    pub(crate) fn no_shorter_than(&mut self, shortest: u64) {
        self.bounds.shortest = self.bounds.shortest.max(shortest);
    }

    /// Pulses of a clock must be shorter, but for so many.
    pub(crate) fn clock_below(&mut self, line: usize, ticks: u64, spare: usize) {
        self.bounds.clock = Some(Clock { line, ticks, spare });
    }

    /// Passes so many edges of each line, if all pulses that end with them, or with the next one, are as they should
    /// be; otherwise it does nothing and says `false`.
    #[must_use]
    pub fn take(&mut self, counts: &[usize]) -> bool {
        let mut clock = self.bounds.clock;
        for (line, count) in counts.iter().enumerate() {
            let own = clock.as_mut().filter(|clock| clock.line == line);
            if !self.has_plain_pulses(line, *count, own) {
                return false;
            }
        }
        self.bounds.clock = clock;
        for (number, (line, count)) in self.lines.iter_mut().zip(counts).enumerate() {
            let passed = line.rest().get(..*count).and_then(|edges| edges.last());
            if let Some((tick, level)) = passed.copied() {
                (line.before, line.at) = (tick, line.at + count);
                self.levels = self.levels.with(number, level);
            }
            line.passed += *count;
        }
        true
    }

    /// Whether no pulse that ends with the next edges of a line, or with the one after them, is too short, and not too
    /// many are long.
    fn has_plain_pulses(&self, line: usize, count: usize, clock: Option<&mut Clock>) -> bool {
        let (Some(edges), Some(after)) = (self.edges(line).get(..count), self.after(line, count)) else {
            return false;
        };
        let (mut last, mut shortest) = (self.before(line), u64::MAX);
        let mut pulse_to = |tick: Tick| {
            let before = std::mem::replace(&mut last, tick);
            let pulse = tick.0.saturating_sub(before.0);
            shortest = shortest.min(pulse);
            pulse
        };
        match clock {
            None => edges.iter().for_each(|(tick, _)| {
                pulse_to(*tick);
            }),
            Some(clock) => {
                let long = edges.iter().filter(|(tick, _)| pulse_to(*tick) >= clock.ticks).count();
                let Some(spare) = clock.spare.checked_sub(long) else { return false };
                clock.spare = spare;
            }
        }
        pulse_to(after);
        shortest >= self.bounds.shortest
    }

    /// Puts the ticks of the last edges that were [taken](Ahead::take) in place of those before.
    pub(crate) fn note_last(&self, last: &mut [Option<Tick>]) {
        for (line, last) in self.lines.iter().zip(last).filter(|(line, _)| line.passed > 0) {
            *last = Some(line.before);
        }
    }

    /// The edges of a line that were [taken](Ahead::take).
    pub fn taken(&self, line: usize) -> &[(Tick, Level)] {
        let edges = |line: &'_ Upcoming| line.at.saturating_sub(line.passed)..line.at;
        self.lines.get(line).and_then(|line| line.edges.get(edges(line))).unwrap_or_default()
    }
}
