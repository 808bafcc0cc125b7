//! Requests and what answers them.

use std::ops::ControlFlow;

use super::intervals::Intervals;
use crate::capture::Capture;
use crate::event::{Certainty, Hit, TimedProgram};
use crate::known::Rule;
use crate::pair::{Following, Pairing, Pairs, Partner, Party, Together};
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// Most requests without an answer whose instants are kept.
const MOST_MISSING: usize = 1000;

/// How requests were answered.
#[derive(Clone, Debug)]
pub struct Answers {
    /// Requests, but for one at the end whose answer may come after it.
    pub requests: u64,
    /// From each request that was answered to its answer.
    pub took: Intervals,
    /// Where requests were not answered, up to a thousand of them.
    pub missing: Vec<Tick>,
}

impl Answers {
    /// How many requests were answered.
    pub fn answered(&self) -> u64 {
        self.took.count()
    }
}

/// Pairs each request with the first answer after it, as those of a `delay` are paired ([`Following`]). It
/// has none when the next request, or the time `within`, comes first.
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
/// assert_eq!((seen.requests, seen.answered(), seen.missing.as_slice()), (3, 2, &[Tick(300)][..]));
/// let (min, max) = (seen.took.min().unwrap(), seen.took.max().unwrap());
/// assert_eq!((min.value.to_string(), max.value.to_string()), ("30 us".into(), "60 us".into()));
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
    let took = Intervals::between(capture, &request.instants(), &answer.instants());
    let together = Together::new(&took.known(), true);
    let mut pairing =
        Counting { took, limit, len: capture.len(), requests: 0, missing: Vec::new(), late: None };
    let side = |event| Party::new(TimedProgram::marks(event, capture, capture.range(), Rule::Proven));
    if let Some(together) = together {
        let mut following = Following::new(together, true, capture.len());
        // The record is stored: all of it is there.
        let _ = following.advance(&mut side(request), &mut side(answer), &mut pairing);
    }
    let Counting { took, requests, missing, .. } = pairing;
    Answers { requests, took, missing }
}

struct Counting {
    took: Intervals,
    /// Most ticks that an answer may take.
    limit: u64,
    len: u64,
    requests: u64,
    missing: Vec<Tick>,
    /// A request whose answer may come after the record, if no other one follows.
    late: Option<Tick>,
}

impl Counting {
    fn missing(&mut self, asked: Tick) {
        self.requests += 1;
        if self.missing.len() < MOST_MISSING {
            self.missing.push(asked);
        }
    }

    fn request(&mut self, asked: Hit, partners: &[Partner]) {
        if let Some(late) = self.late.take() {
            self.missing(late);
        }
        let shown = partners.iter().find(|partner| partner.recorded && partner.ticks >= 0);
        match shown {
            Some(answer) if answer.ticks.unsigned_abs() <= self.limit => {
                self.requests += 1;
                self.took.add_open(asked, partners);
            }
            None if asked.tick.0.saturating_add(self.limit) >= self.len => self.late = Some(asked.tick),
            Some(_) | None => self.missing(asked.tick),
        }
    }
}

impl Pairs for Counting {
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        let (tick, ticks) = (partner, partner.since(event));
        let event = Hit { tick: event, certainty: Certainty::Certain };
        self.request(event, &[Partner { tick, ticks, certain: true, recorded: true, hidden: false }]);
        ControlFlow::Continue(())
    }

    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        // What may only have happened is no request.
        if event.is_recorded() {
            self.request(event, partners);
        }
        ControlFlow::Continue(())
    }
}
