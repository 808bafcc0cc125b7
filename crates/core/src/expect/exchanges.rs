//! Transfers that should come one after the other, each time that the first of them comes.

use super::begins::{Beginning, Starts};
use super::judged::{DeviationKind, Ended, Judged, Occurrence, Otherwise, Pause, Tally};
use crate::bus::Frame;
use crate::capture::Capture;
use crate::decode::SerialBus;
use crate::error::Result;
use crate::exchange::{Broke, Exchange, Exchanged, Followed, Follower};
use crate::known::{Instants, Precision, Rule, Span};
use crate::limit::{Required, Verdict};
use crate::line::{LineId, Signal};
use crate::measure::Intervals;
use crate::quantity::{Quantity, Rational, Time, Voltage};
use crate::time::Tick;

/// Exchanges, each of which must come whole.
#[derive(Clone, Debug)]
pub struct Exchanges {
    /// What they consist of.
    pub exchange: Exchange,
    /// Where one begins: with each transfer that is its first step, or after an event, when the next transfer must be.
    pub begins: Beginning,
    /// The time from there in which its last step must have begun.
    pub within: Option<Time>,
    /// Whether no transfer may come that belongs to none.
    pub complete: bool,
}

impl Exchanges {
    /// Each time that the first step comes, the others must follow.
    pub fn new(exchange: Exchange) -> Self {
        Exchanges { exchange, begins: Beginning::Transfer, within: None, complete: false }
    }

    /// Compares what the buses carried with what is expected.
    ///
    /// # Errors
    /// When a bus cannot be decoded at the record's clock, or the event cannot happen there.
    pub fn compare(&self, capture: &Capture) -> Result<Judged> {
        let lines: Vec<LineId> = self.exchange.buses().iter().flat_map(SerialBus::lines).copied().collect();
        let starts = self.begins.starts(capture, &lines)?;
        let mut judging = Judging::new(self, capture, &lines);
        let signals: Vec<Signal> = lines.iter().map(Signal::from).collect();
        let order = Precision::of(capture, Rule::Proven).order(&signals, Voltage::ZERO);
        let margin = order.reach().unwrap_or(0).saturating_add(2);
        let mut following = Follower::new(&self.exchange, capture.base()).uncertain_by(margin);
        let mut found = Vec::new();
        match starts {
            None => {
                for (bus, transfer) in self.exchange.transfers(capture)? {
                    following.transfer(bus, &transfer, &mut |one| found.push(one));
                    let words = || self.words(bus, &transfer);
                    found.drain(..).for_each(|one| judging.take(one, words));
                }
                following.end(Tick(capture.len()), &mut |one| found.push(one));
                found.drain(..).for_each(|one| judging.take(one, String::new));
            }
            Some(starts) => self.after(capture, starts, &mut judging, &mut following)?,
        }
        Ok(judging.finish())
    }

    /// A transfer in words.
    fn words(&self, bus: usize, transfer: &Frame) -> String {
        self.exchange.buses()[bus].names().show(transfer)
    }

    /// The same after each of some instants.
    fn after(
        &self,
        capture: &Capture,
        Starts { mut hits, reach, known }: Starts<'_>,
        judging: &mut Judging<'_>,
        following: &mut Follower,
    ) -> Result<()> {
        let mut found = Vec::new();
        let mut before: Option<Tick> = None;
        for (bus, transfer) in self.exchange.transfers(capture)? {
            while let Some(hit) = hits.next_if(|hit| hit.tick <= transfer.start) {
                following.restart(hit.tick, hit.is_certain(), &mut |one| found.push(one));
                found.drain(..).for_each(|one| judging.take_due(one, String::new));
                judging.close(hit.tick, false);
                let near = |tick: Tick| tick.0.abs_diff(hit.tick.0) < reach;
                let sure = known && !near(transfer.start) && !before.is_some_and(near);
                judging.due = Some(DueNow { at: hit.tick, is_one: hit.is_certain(), sure });
            }
            before = Some(transfer.start);
            following.transfer(bus, &transfer, &mut |one| found.push(one));
            let words = || self.words(bus, &transfer);
            found.drain(..).for_each(|one| judging.take_due(one, words));
        }
        following.end(Tick(capture.len()), &mut |one| found.push(one));
        found.drain(..).for_each(|one| judging.take_due(one, String::new));
        judging.close(Tick(capture.len()), true);
        for hit in hits {
            judging.due = Some(DueNow { at: hit.tick, is_one: hit.is_certain(), sure: known });
            judging.close(Tick(capture.len()), true);
        }
        Ok(())
    }
}

/// An instant after which an exchange is due.
#[derive(Clone, Copy)]
struct DueNow {
    at: Tick,
    is_one: bool,
    sure: bool,
}

/// Makes occurrences of what is found.
struct Judging<'a> {
    wanted: &'a Exchanges,
    capture: &'a Capture,
    span: Span,
    /// From the step before to each step.
    pauses: Vec<Intervals>,
    tally: Tally,
    due: Option<DueNow>,
}

impl<'a> Judging<'a> {
    fn new(wanted: &'a Exchanges, capture: &'a Capture, lines: &[LineId]) -> Self {
        let mut lines = lines.to_vec();
        lines.sort_unstable();
        lines.dedup();
        let instants = Instants::edges(lines).between_ticks(true);
        let span = Precision::of(capture, Rule::Proven).between(&instants, &instants);
        let steps = wanted.exchange.steps().iter();
        let pauses = steps.map(|_| Intervals::between(capture, &instants, &instants)).collect();
        Judging { wanted, capture, span, pauses, tally: Tally::new(), due: None }
    }

    fn time(&self, tick: Tick) -> Time {
        self.capture.base().time_of(tick.min(Tick(self.capture.len())))
    }

    /// Where each exchange is an occurrence.
    fn take(&mut self, found: Followed, words: impl Fn() -> String) {
        let (begins, sure, ended) = match found {
            Followed::Whole(exchanged) => self.whole(&exchanged, None),
            Followed::Broken(exchanged, broke) => self.broken(&exchanged, broke),
            Followed::CutOff(exchanged) => {
                (self.time(exchanged.frame.start), false, Ended::CutOff { seen: true })
            }
            Followed::Beside { before_any: true, .. } => return,
            Followed::Beside { certain: false, .. } => {
                self.tally.possible();
                return;
            }
            Followed::Beside { at, .. } => {
                self.tally.beside(1);
                if !self.wanted.complete {
                    return;
                }
                let at = self.time(at);
                let (kind, found) = (DeviationKind::TooMuch, Some(words()));
                let otherwise = Otherwise { kind, place: 0, step: None, expected: None, found, at };
                (at, true, Ended::Otherwise(otherwise))
            }
        };
        self.tally.add(Occurrence { begins, is_one: true, sure, ended });
    }

    /// Where the next transfer after an instant must begin one.
    fn take_due(&mut self, found: Followed, words: impl Fn() -> String) {
        let Some(due) = self.due else {
            // Whatever comes when nothing is due.
            self.tally.beside(match found {
                Followed::Whole(exchanged) | Followed::CutOff(exchanged) => exchanged.steps.len() as u64,
                Followed::Broken(exchanged, broke) => exchanged.steps.len() as u64 + u64::from(broke.takes),
                Followed::Beside { certain, .. } => u64::from(certain),
            });
            return;
        };
        let (_, sure, ended) = match found {
            Followed::Whole(exchanged) => self.whole(&exchanged, Some(due)),
            Followed::Broken(exchanged, broke) => self.broken(&exchanged, broke),
            Followed::CutOff(_) => (Time::ZERO, false, Ended::CutOff { seen: true }),
            Followed::Beside { at, certain, .. } => {
                let at = self.time(at);
                (at, certain, self.not_begun(DeviationKind::Differs, Some(words()), at))
            }
        };
        self.due = None;
        let (begins, sure) = (self.time(due.at), sure && due.sure);
        self.tally.add(Occurrence { begins, is_one: due.is_one, sure, ended });
    }

    /// Nothing more can come of what is due.
    fn close(&mut self, at: Tick, is_end: bool) {
        let Some(due) = self.due.take() else { return };
        let over = self.over(due);
        let in_time = over.is_none_or(|over| over >= at.0);
        let ended = match is_end && in_time {
            true => Ended::CutOff { seen: false },
            false => {
                let at = self.time(Tick(over.unwrap_or(at.0).min(at.0)));
                self.not_begun(DeviationKind::Missing, None, at)
            }
        };
        let begins = self.time(due.at);
        self.tally.add(Occurrence { begins, is_one: due.is_one, sure: due.sure, ended });
    }

    /// The first step did not come.
    fn not_begun(&self, kind: DeviationKind, found: Option<String>, at: Time) -> Ended {
        let expected = self.wanted.exchange.steps().first().map(|step| step.tests().text().to_string());
        Ended::Otherwise(Otherwise { kind, place: 0, step: self.name_of(0), expected, found, at })
    }

    /// The tick by which the last step must have begun.
    fn over(&self, due: DueNow) -> Option<u64> {
        let within = self.wanted.within?;
        let ticks = self.capture.base().ticks_in(within).map(Rational::floor)?;
        Some(due.at.0.saturating_add(u64::try_from(ticks).ok()?))
    }

    fn name_of(&self, step: usize) -> Option<String> {
        self.wanted.exchange.steps().get(step)?.name().map(str::to_string)
    }

    fn broken(&mut self, exchanged: &Exchanged, broke: Broke) -> (Time, bool, Ended) {
        let Broke { step, expected, found, at, certain, .. } = broke;
        self.note_pauses(exchanged);
        let begins = self.time(exchanged.frame.start);
        let kind = if found.is_some() { DeviationKind::Differs } else { DeviationKind::Missing };
        let (place, step, at) = (step as u64, self.name_of(step), self.time(at));
        let otherwise = Otherwise { kind, place, step, expected: Some(expected), found, at };
        (begins, certain, Ended::Otherwise(otherwise))
    }

    /// One of which all steps came: in time, or not.
    fn whole(&mut self, exchanged: &Exchanged, due: Option<DueNow>) -> (Time, bool, Ended) {
        self.note_pauses(exchanged);
        let begins = self.time(exchanged.frame.start);
        let sure = exchanged.frame.certain;
        let mut doubtful = None;
        for pair in exchanged.steps.windows(2) {
            let [before, step] = pair else { continue };
            let (verdict, ended) = self.judge_pause(step.step, before.end, step.start);
            match verdict {
                Verdict::Fail => return (begins, sure, ended),
                Verdict::Inconclusive => doubtful = doubtful.or(Some(ended)),
                Verdict::Pass | Verdict::NotSeen => {}
            }
        }
        if let Some(over) = due.and_then(|due| self.over(due))
            && let Some(last) = exchanged.steps.last()
            && last.start.0 > over
        {
            // One tick on either side is not known.
            let clear = last.start.0 > over.saturating_add(1) || self.capture.base().is_exact();
            let at = self.time(Tick(over));
            let (place, step) = (last.step as u64, self.name_of(last.step));
            let expected = self.wanted.within.map(|within| format!("within {within}"));
            let kind = DeviationKind::Missing;
            let otherwise = Otherwise { kind, place, step, expected, found: None, at };
            return (begins, sure && clear, Ended::Otherwise(otherwise));
        }
        match doubtful {
            Some(ended) => (begins, false, ended),
            None => (begins, sure, Ended::Whole),
        }
    }

    /// Whether a step came when it must.
    fn judge_pause(&self, step: usize, from: Tick, to: Tick) -> (Verdict, Ended) {
        let (min, max) = self.wanted.exchange.steps()[step].limits();
        let required =
            Required { min: min.map(Quantity::Time), max: max.map(Quantity::Time), ..Required::default() };
        let ticks = to.since(from);
        let known = self.span.bounds(ticks).map(|bounds| bounds.map(Time::to_rational));
        let verdict = match (min, max) {
            (None, None) => Verdict::Pass,
            _ => known.map_or(Verdict::Inconclusive, |known| required.decide(known)),
        };
        let base = self.capture.base();
        let took = base.length_of(ticks).rounded(base.tick());
        let ended = Ended::Otherwise(Otherwise {
            kind: DeviationKind::Pause,
            place: step as u64,
            step: self.name_of(step),
            expected: Some(required.to_string()),
            found: Some(took),
            at: self.time(to),
        });
        (verdict, ended)
    }

    fn note_pauses(&mut self, exchanged: &Exchanged) {
        for pair in exchanged.steps.windows(2) {
            // Steps on two lines may overlap.
            if let [before, step] = pair
                && step.start >= before.end
            {
                self.pauses[step.step].add(before.end, step.start);
            }
        }
    }

    fn finish(self) -> Judged {
        let mut judged = self.tally.finish();
        let steps = self.wanted.exchange.steps().iter().zip(&self.pauses);
        let pause = |(step, pauses): (&crate::exchange::ExchangeStep, &Intervals)| {
            let (shortest, longest) = (pauses.min()?, pauses.max()?);
            Some(Pause { before: step.name()?.to_string(), count: pauses.count(), shortest, longest })
        };
        judged.pauses = steps.filter_map(pause).collect();
        judged
    }
}
