//! Requests and what answers them.

use crate::capture::Capture;
use crate::event::TimedProgram;
use crate::known::{Precision, Rule, Span};
use crate::time::{Bounds, Rational, Tick, Time};

/// Most requests without an answer whose instants are kept.
const MOST_MISSING: usize = 1000;

/// How requests were answered. Times from a request to its answer are counted in ticks;
/// [`bounds`](Answers::bounds) says how well they are known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answers {
    /// Requests, but for one at the end whose answer may come after it.
    pub requests: u64,
    /// Those that were answered.
    pub answered: u64,
    /// Where requests were not answered, up to a thousand of them.
    pub missing: Vec<Tick>,
    /// The request that was answered soonest, and how many ticks that took.
    pub shortest: Option<(Tick, u64)>,
    /// The request that was answered latest, and how many ticks that took.
    pub longest: Option<(Tick, u64)>,
    /// All ticks from requests to answers.
    pub ticks: u64,
    /// What is known of each of them.
    known: Span,
}

impl Answers {
    /// What is known of a time of so many ticks from a request to its answer.
    pub fn bounds(&self, ticks: u64) -> Option<Bounds> {
        self.known.length(i64::try_from(ticks).ok()?)
    }
}

/// Pairs each request with the first answer after it. It has none when the next request, or the time
/// `within`, comes first.
///
/// ```
/// use deep_tap_core::capture::{Capture, TraceBuilder};
/// use deep_tap_core::event::{Program, Scope};
/// use deep_tap_core::line::{Level, Line};
/// use deep_tap_core::measure::answers;
/// use deep_tap_core::time::{Tick, TimeBase};
///
/// let line = |ticks: &[u64]| -> deep_tap_core::Result<_> {
///     let mut line = TraceBuilder::new(Level::Low);
///     for (number, tick) in ticks.iter().enumerate() {
///         line.push_edge(Tick(*tick), Level::from(number % 2 == 0))?;
///     }
///     Ok(line.finish(1000))
/// };
/// let capture = Capture::builder(TimeBase::from_rate("1 MS/s".parse()?)?, 1000)
///     .line(Line::named("ASK"), line(&[100, 110, 300, 310, 500, 510])?)
///     .line(Line::named("DONE"), line(&[130, 135, 560, 570])?)
///     .build()?;
/// let scope = Scope::of(&capture);
/// let event = |text| Program::compile(text, &scope)?.at(capture.base());
/// let (ask, done) = (event("ASK rises")?, event("DONE rises")?);
/// let seen = answers(&capture, &ask, &done, None);
/// assert_eq!((seen.requests, seen.answered, seen.missing.as_slice()), (3, 2, &[Tick(300)][..]));
/// assert_eq!((seen.shortest, seen.longest), (Some((Tick(100), 30)), Some((Tick(500), 60))));
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn answers(
    capture: &Capture,
    request: &TimedProgram,
    answer: &TimedProgram,
    within: Option<Time>,
) -> Answers {
    let limit = within.and_then(|time| capture.base().ticks_in(time)).map(Rational::floor);
    let limit = limit.map_or(u64::MAX, |ticks| u64::try_from(ticks).unwrap_or(0));
    let mut requests = request.hits(capture, capture.range()).map(|hit| hit.tick).peekable();
    let mut answers = answer.hits(capture, capture.range()).map(|hit| hit.tick).peekable();
    let known = Precision::of(capture, Rule::Proven).between(&request.instants(), &answer.instants());
    let mut seen = Answers {
        requests: 0,
        answered: 0,
        missing: Vec::new(),
        shortest: None,
        longest: None,
        ticks: 0,
        known,
    };
    while let Some(asked) = requests.next() {
        while answers.next_if(|tick| *tick <= asked).is_some() {}
        let last = Tick(asked.0.saturating_add(limit));
        let next = requests.peek().copied();
        let counts = |tick: &Tick| *tick <= last && next.is_none_or(|next| *tick <= next);
        match answers.peek().copied().filter(counts) {
            Some(tick) => {
                let took = tick.0 - asked.0;
                seen.requests += 1;
                seen.answered += 1;
                seen.ticks = seen.ticks.saturating_add(took);
                if seen.shortest.is_none_or(|(_, shortest)| took < shortest) {
                    seen.shortest = Some((asked, took));
                }
                if seen.longest.is_none_or(|(_, longest)| took > longest) {
                    seen.longest = Some((asked, took));
                }
            }
            // The record ends before that could be said.
            None if next.is_none() && last.0 >= capture.len() => {}
            None => {
                seen.requests += 1;
                if seen.missing.len() < MOST_MISSING {
                    seen.missing.push(asked);
                }
            }
        }
    }
    seen
}
