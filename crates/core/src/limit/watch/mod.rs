//! Limits that are checked while the samples arrive.

mod plans;
mod watched;

use std::ops::Range;
use std::sync::Arc;

use rayon::prelude::*;

pub use watched::Violation;

use super::bound::BoundLimit;
use super::result::LimitResult;
use super::walk::{Given, Piece, Wanted};
use crate::capture::{CHUNK, Capture, Rolling};
use crate::error::{Error, ErrorKind, Result};
use crate::event::{MarkReader, StretchReader, reach_of};
use crate::line::{LineId, Signal};
use crate::quantity::Rational;
use crate::scan::{Filler, Samples};
use crate::time::{Tick, TimeBase};
use watched::Watched;

/// Samples that are looked at together, at the most; fewer where they come slowly.
const STEP: u64 = 16 * CHUNK;
/// How often in a second what arrived is looked at, at least.
const LOOKS: i64 = 20;

/// Checks limits while the samples arrive, for as long as they do, in bounded memory: only events that wait for a
/// change of other lines (of a hold, a settling time or a window) are all kept until it comes.
///
/// What it says of a stretch of samples is what [`check_all`](super::check_all) says of the same stretch stored,
/// however the samples are cut into blocks.
///
/// ```
/// use deep_tap_core::capture::{Capture, Trace};
/// use deep_tap_core::event::Scope;
/// use deep_tap_core::limit::{Limit, Verdict, Watch};
/// use deep_tap_core::line::Level;
/// use deep_tap_core::quantity::Time;
/// use deep_tap_core::scan::{SampleWidth, Samples};
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// // The record to be: its clock and its lines, without a tick.
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let record = Capture::builder(base, 0).line("BUSY", Trace::constant(Level::Low, 0)).build()?;
/// let limit = Limit::width("tBUSY", "BUSY high").max("3 us".parse::<Time>()?).bind(&Scope::of(&record))?;
///
/// let mut watch = Watch::new(record, vec![limit])?;
/// watch.push(Samples::new(SampleWidth::W8, &[0, 1, 1, 0, 0, 1, 1]))?;
/// watch.push(Samples::new(SampleWidth::W8, &[1, 1, 1, 0, 0]))?;
/// let results = watch.finish();
/// assert_eq!(results[0].verdict, Verdict::Fail);
/// assert_eq!((results[0].counts.seen, results[0].worst.unwrap().start), (2, Tick(5)));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Debug)]
pub struct Watch {
    limits: Vec<Watched>,
    marks: Vec<(MarkReader, Vec<Signal>)>,
    stretches: Vec<(StretchReader, Vec<Signal>)>,
    filler: Filler,
    rolling: Rolling,
    /// How far behind the last sample decisions lie, so that nothing that comes may come before them.
    margin: u64,
    /// Samples that are waited for before they are looked at.
    step: u64,
    /// How far everything has been looked at.
    read: u64,
    /// How many ticks are kept of all lines.
    kept: u64,
    finished: bool,
}

impl Watch {
    /// Checks limits in a record of these lines, of which there is no tick yet; bit `i` of each sample is the line
    /// numbered `i`.
    ///
    /// # Errors
    /// [`ErrorKind::Limits`] for a limit that cannot be decided on arriving samples, by its name; else as
    /// [`check`](super::check()).
    pub fn new(record: Capture, limits: Vec<BoundLimit>) -> Result<Self> {
        let rolling = Rolling::new(record);
        let capture = rolling.capture();
        if !capture.resolution().sampled {
            let message = "a record that is exact has no samples that could be watched";
            return Err(Error::new(ErrorKind::Limits, message).with_help("check it when it is whole"));
        }
        let mut wanted = Wanted::default();
        let limits = limits.into_iter().map(|limit| Watched::new(limit, capture, &mut wanted));
        // All that cannot be watched is told at once.
        let (mut watched, mut refused) = (Vec::new(), Vec::new());
        for limit in limits {
            match limit {
                Ok(limit) => watched.push(limit),
                Err(error) => refused.push(error),
            }
        }
        if let Some(error) = Error::many(refused) {
            return Err(error);
        }
        let limits = watched;
        let mut marks = Vec::new();
        for event in &wanted.events {
            marks.push((MarkReader::new(event, capture)?, event.signals()));
        }
        let stretches: Vec<_> = wanted
            .conditions
            .iter()
            .map(|(condition, doubt)| (StretchReader::new(condition, *doubt), condition.signals()))
            .collect();
        let all = limits.iter().map(Watched::signals);
        let reach = all.map(|signals| reach_of(capture, &signals)).max().unwrap_or(0);
        let bits: Vec<u32> = (0..capture.lines().len() as u32).collect();
        let second = capture.base().rate().to_rational();
        let look =
            second.checked_div(Rational::from(LOOKS)).and_then(|look| u64::try_from(look.floor()).ok());
        Ok(Watch {
            limits,
            marks,
            stretches,
            filler: Filler::new(&bits).short_lived(),
            // Twice as far as two edges may change places, and a word of marks.
            margin: reach.saturating_mul(2).saturating_add(128),
            step: look.unwrap_or(STEP).clamp(1 << 12, STEP),
            read: 0,
            kept: 0,
            finished: false,
            rolling,
        })
    }

    /// Keeps of all lines so many ticks that lie behind a violation when it is told, for [`excerpt`](Watch::excerpt).
    #[must_use]
    pub fn keeping(mut self, ticks: u64) -> Self {
        self.kept = ticks.saturating_add(2 * self.step + self.margin);
        self
    }

    /// Samples taken in so far.
    pub fn position(&self) -> Tick {
        Tick(self.filler.position())
    }

    /// Everything before this tick has been looked at; what belongs to something later may still be open.
    pub fn decided(&self) -> Tick {
        Tick(self.read)
    }

    /// How many samples later than it happens a violation may be told, but for those that are decided by what comes
    /// later.
    pub fn lag(&self) -> u64 {
        2 * (self.step + self.margin)
    }

    /// The limits, in their order.
    pub fn limits(&self) -> impl Iterator<Item = &BoundLimit> {
        self.limits.iter().map(Watched::bound)
    }

    /// Takes samples in.
    ///
    /// # Errors
    /// When the watch is [finished](Watch::finish).
    pub fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        if self.finished {
            return Err(Error::new(ErrorKind::Limits, "samples come after the end of what is watched"));
        }
        let mut at = 0;
        while at < samples.len() {
            let waiting = self.filler.position() - self.read.min(self.filler.position());
            let room = (self.step + self.margin).saturating_sub(waiting).max(1);
            let end = samples.len().min(at.saturating_add(usize::try_from(room).unwrap_or(usize::MAX)));
            self.filler.push(samples.slice(at..end));
            at = end;
            if self.filler.position() >= self.read + self.step + self.margin {
                self.look(false);
            }
        }
        Ok(())
    }

    /// Looks at all that has arrived.
    pub fn look_now(&mut self) {
        if !self.finished && self.filler.position() > self.read + self.margin {
            self.look(false);
        }
    }

    fn look(&mut self, ended: bool) {
        let len = self.filler.position();
        let border = len / CHUNK * CHUNK;
        let firm = self.filler.cut(border);
        self.rolling.extend(firm, border, self.filler.tail(), len);
        // Whole words, so that what has a past can be read on.
        let to = if ended { len } else { (len - self.margin) / 64 * 64 };
        if to <= self.read && !ended {
            return;
        }
        let given = self.given(Tick(to), ended);
        let capture = self.rolling.capture();
        self.limits.par_iter_mut().with_max_len(1).for_each(|limit| limit.take(capture, &given));
        self.read = to;
        self.forget();
    }

    /// What comes next of all that the limits look at.
    fn given(&mut self, to: Tick, ended: bool) -> Given {
        let capture = self.rolling.capture();
        let marks = self.marks.par_iter_mut().with_max_len(1).map(|(reader, _)| {
            let (items, known) = reader.read(capture, to, ended);
            Piece { items: Arc::new(items), known, open: None }
        });
        let stretches = self.stretches.par_iter_mut().with_max_len(1).map(|(reader, _)| {
            let read = reader.read(capture, to, ended);
            Piece { items: Arc::new(read.ended), known: read.known, open: read.open }
        });
        Given { marks: marks.collect(), stretches: stretches.collect(), to, ended }
    }

    /// Forgets what nobody asks for any more.
    fn forget(&mut self) {
        let everything = Tick(self.read.saturating_sub(self.kept));
        let mut needed = vec![everything; self.rolling.capture().lines().len()];
        let mut need = |signals: &[Signal], from: Tick| {
            for line in signals.iter().filter_map(|signal| signal.line()) {
                if let Some(needed) = needed.get_mut(line.0) {
                    *needed = from.min(*needed);
                }
            }
        };
        for (reader, signals) in &self.marks {
            need(signals, reader.needs_from());
        }
        for (reader, signals) in &self.stretches {
            need(signals, reader.open_since().unwrap_or(reader.needs_from()));
        }
        for limit in &self.limits {
            if let Some((signals, from)) = limit.asked_of_frames() {
                need(&signals, from);
            }
            if let Some((place, signals)) = limit.asked_at_starts() {
                let since = self.stretches.get(place).and_then(|(reader, _)| reader.open_since());
                need(&signals, since.unwrap_or(Tick(self.read)).min(limit.waits_since(Tick(self.read))));
            }
        }
        for (line, from) in needed.into_iter().enumerate() {
            self.rolling.forget(LineId(line), Tick(from.0.saturating_sub(self.margin)));
        }
    }

    /// The violations found since this was last asked, in the order in which they were decided: those that are proven
    /// by what has arrived. A pulse of a single sample that arrives later may leave one of them open after all.
    pub fn violations(&mut self) -> Vec<Violation> {
        let base = self.base();
        let limits = self.limits.iter_mut().enumerate();
        limits.flat_map(|(number, limit)| limit.violations(number, base)).collect()
    }

    /// What is [kept](Watch::keeping) of a stretch, as a capture; what lies before that is left out.
    ///
    /// # Errors
    /// As building a capture.
    pub fn excerpt(&self, range: Range<Tick>) -> Result<Capture> {
        let first = Tick(self.read.saturating_sub(self.kept));
        self.rolling.capture().with_same_traces().excerpt(first.max(range.start)..range.end)
    }

    /// The record as far as it is known: of its lines, only what is still needed is kept.
    pub(crate) fn record(&self) -> &Capture {
        self.rolling.capture()
    }

    /// The clock of the record.
    pub fn base(&self) -> TimeBase {
        self.rolling.capture().base()
    }

    /// The results by what has been looked at.
    pub fn results(&self) -> Vec<LimitResult> {
        let capture = self.rolling.capture();
        self.limits.iter().map(|limit| limit.result(capture)).collect()
    }

    /// The samples are over: looks at what is left, and gives the results.
    pub fn finish(&mut self) -> Vec<LimitResult> {
        if !self.finished {
            self.finished = true;
            self.look(true);
        }
        self.results()
    }

    /// Whether the samples are over.
    pub fn is_finished(&self) -> bool {
        self.finished
    }
}
