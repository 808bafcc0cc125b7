//! One event after another, with how sure that is: what attempts may have done within a record's uncertainty.
//!
//! Where an attempt may stand is kept as tokens. One that is sure stands where an attempt does, whatever the
//! order of close edges was; the others stand where one may. What happens is asked of each: whether it came
//! after the attempt arrived, whether the time allows it, whether it happened at all. Where all of that is certain,
//! the token moves; where it is open, one that is not sure moves, and the one that stays is no longer sure.

use std::collections::VecDeque;
use std::fmt;

use super::ahead::{Ahead, Arrived};
use crate::capture::Capture;
use crate::event::check::{Form, Stage, Tree};
use crate::event::hit::{Certainty, Hit};
use crate::event::syntax::StepLimit;
use crate::event::timed::TimedProgram;
use crate::known::{Precision, Rule, Span};
use crate::line::Signal;
use crate::quantity::Time;
use crate::time::Tick;

/// Whether something is so: certainly, or as far as is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Known {
    Yes,
    Open,
    No,
}

impl Known {
    fn and(self, other: Known) -> Known {
        match (self, other) {
            (Known::No, _) | (_, Known::No) => Known::No,
            (Known::Open, _) | (_, Known::Open) => Known::Open,
            _ => Known::Yes,
        }
    }
}

/// An occurrence of a part.
#[derive(Clone, Copy, Debug)]
struct Mark {
    tick: u64,
    part: usize,
    certain: bool,
}

/// Where an attempt may stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Token {
    stage: usize,
    arrived: u64,
    /// The part with which it arrived; none where a time was over.
    by: Option<usize>,
    /// How often the event must still come.
    left: u64,
    sure: bool,
}

/// Ticks since the arrival from which on something is possible, and certain.
#[derive(Clone, Copy, Debug)]
struct Times {
    /// At least.
    after: Option<(u64, u64)>,
    /// At most: certainly still in time up to the first, certainly too late beyond the second.
    within: Option<(u64, u64)>,
    /// As counted: when what did not come is given up.
    gives_up: u64,
}

struct Step {
    event: usize,
    unless: Vec<usize>,
    absent: bool,
    times: u64,
    limit: Times,
}

/// The occurrences of a sequence, each as sure as it is, from those of its parts.
pub(super) struct Sequenced<H, R> {
    steps: Vec<Step>,
    parts: Vec<Ahead<H>>,
    /// The tick of the next mark of each, beyond all ticks where none is known, and the earliest with its part.
    next: Vec<u64>,
    earliest: (u64, usize),
    /// Where each part is an edge of a single line, that line: its edges are in order.
    single: Vec<Option<Signal>>,
    /// Within how many ticks of each other the order of two parts is open.
    reach: u64,
    /// How long marks are kept.
    keep: u64,
    /// The marks around the one that is looked at, and how many of them have been.
    window: VecDeque<Mark>,
    done: usize,
    tokens: Vec<Token>,
    /// Occurrences of the first event; none once one of them was not certain.
    count: Option<u64>,
    /// What was found and not given out: the tick, and whether it is certain.
    found: Vec<(u64, bool)>,
    recorded: Ahead<R>,
    ready: VecDeque<Hit>,
    end: u64,
    over: bool,
}

impl<H, R> fmt::Debug for Sequenced<H, R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Sequenced").field("tokens", &self.tokens).finish_non_exhaustive()
    }
}

impl<H: Iterator<Item = Hit>, R: Iterator<Item = Hit>> Sequenced<H, R> {
    /// Parts are the event and the `unless` of each step, and `recorded` what the record shows, both up to `end`; `None`
    /// where a time in it cannot be compared in this record.
    pub(super) fn new(
        program: &TimedProgram,
        capture: &Capture,
        end: Tick,
        parts: Vec<H>,
        recorded: R,
    ) -> Option<Self> {
        let Tree::Sequence(stages) = &program.program().root.tree else { return None };
        let precision = Precision::of(capture, Rule::Proven);
        let span = precision.among(&program.instants());
        let mut places = program.places().iter().copied();
        let mut steps = Vec::new();
        for stage in stages {
            let event = places.next()?;
            let unless = places.by_ref().take(stage.unless.len()).collect();
            let limit = times(stage, &Span::exact(capture.base()), &span)?;
            steps.push(Step { event, unless, absent: stage.absent, times: stage.times, limit });
        }
        let order = precision.order(&program.signals(), program.program().level_error());
        // What is no edge ends between ticks.
        let reach = order.reach().map_or(0, |reach| reach.saturating_add(1));
        // How much later than it is counted a time may be over.
        let slack = |step: &Step| Some(step.limit.within?.1.saturating_sub(step.limit.gives_up));
        let slack = steps.iter().filter_map(slack).max().unwrap_or(0);
        let mut sequenced = Sequenced {
            single: program.parts().iter().map(single).collect(),
            next: vec![u64::MAX; parts.len()],
            earliest: (u64::MAX, 0),
            parts: parts.into_iter().map(Ahead::new).collect(),
            keep: slack.saturating_add(reach.saturating_mul(2)).saturating_add(2),
            reach,
            steps,
            window: VecDeque::new(),
            done: 0,
            tokens: Vec::new(),
            count: Some(0),
            found: Vec::new(),
            recorded: Ahead::new(recorded),
            ready: VecDeque::new(),
            end: end.0,
            over: false,
        };
        sequenced.look_ahead();
        Some(sequenced)
    }

    /// Finds the next mark of all parts.
    fn look_ahead(&mut self) {
        for (next, part) in self.next.iter_mut().zip(&mut self.parts) {
            *next = part.peek().map_or(u64::MAX, |hit| hit.tick.0);
        }
        self.find_earliest();
    }

    fn find_earliest(&mut self) {
        let tick = self.next.iter().copied().fold(u64::MAX, u64::min);
        self.earliest = (tick, self.next.iter().position(|next| *next == tick).unwrap_or(0));
    }

    pub(super) fn next(&mut self) -> Option<Hit> {
        while self.ready.is_empty() && !self.over {
            self.step();
        }
        self.ready.pop_front()
    }

    /// Looks at the next mark.
    fn step(&mut self) {
        if self.done == self.window.len() {
            self.fill(0, true);
        }
        let Some(mark) = self.window.get(self.done).copied() else {
            self.give_up(u64::MAX);
            self.give_out(u64::MAX);
            self.over = true;
            return;
        };
        // What is looked at needs all marks around it.
        self.fill(mark.tick.saturating_add(self.reach), false);
        self.give_up(mark.tick);
        self.look(mark, None);
        self.done += 1;
        self.tidy(mark.tick);
        self.give_out(mark.tick.saturating_sub(self.keep));
    }

    /// Takes marks up to a tick, or at least one.
    fn fill(&mut self, until: u64, any: bool) {
        let mut wanted = any;
        loop {
            let (tick, part) = self.earliest;
            if tick == u64::MAX || (tick > until && !wanted) {
                return;
            }
            wanted = false;
            if let Some(hit) = self.parts[part].next() {
                self.next[part] = self.parts[part].peek().map_or(u64::MAX, |hit| hit.tick.0);
                self.find_earliest();
                let mark = Mark { tick, part, certain: hit.certainty == Certainty::Certain };
                // What a part finds later may lie a little before.
                let place = self.window.partition_point(|other| other.tick <= mark.tick).max(self.done);
                self.window.insert(place, mark);
            }
        }
    }

    /// Whether a mark comes after an instant that another part made, or a time that was over.
    fn after(&self, mark: &Mark, tick: u64, by: Option<usize>) -> Known {
        let line = |part: usize| self.single.get(part).copied().flatten();
        let one = by.is_some_and(|by| line(by).is_some() && line(by) == line(mark.part));
        match one {
            true if mark.tick > tick => Known::Yes,
            true => Known::No,
            false if mark.tick > tick.saturating_add(self.reach) => Known::Yes,
            false if mark.tick.saturating_add(self.reach) >= tick => Known::Open,
            false => Known::No,
        }
    }

    /// Whether a mark of other parts lies so close that which came first is open.
    fn contested(&self, mark: &Mark, parts: &[usize]) -> bool {
        self.window.iter().any(|other| {
            parts.contains(&other.part)
                && other.tick.abs_diff(mark.tick) <= self.reach
                && self.after(other, mark.tick, Some(mark.part)) == Known::Open
        })
    }

    /// Lets all tokens, or one alone, see a mark.
    fn look(&mut self, mark: Mark, only: Option<usize>) {
        if mark.part == 0 && only.is_none() {
            self.begin(mark);
        }
        let places = only.map_or(0..self.tokens.len(), |place| place..place + 1);
        let mut moved = Vec::new();
        let mut gone = Vec::new();
        for place in places {
            let Some(token) = self.tokens.get(place).copied() else { continue };
            let step = &self.steps[token.stage];
            let is_event = mark.part == step.event;
            if !is_event && !step.unless.contains(&mark.part) {
                continue;
            }
            let arrived = self.after(&mark, token.arrived, token.by);
            let rivals = if is_event { &step.unless[..] } else { std::slice::from_ref(&step.event) };
            let came = if mark.certain && !self.contested(&mark, rivals) { Known::Yes } else { Known::Open };
            let waited = mark.tick.saturating_sub(token.arrived);
            let in_time = if is_event { step.limit.allows(waited) } else { Known::Yes };
            let happens = arrived.and(came).and(in_time);
            match happens {
                Known::No => continue,
                Known::Yes => gone.push(place),
                Known::Open => self.tokens[place].sure = false,
            }
            if is_event && !step.absent {
                let sure = token.sure && happens == Known::Yes;
                moved.push(match token.left {
                    0 | 1 => Token {
                        stage: token.stage + 1,
                        arrived: mark.tick,
                        by: Some(mark.part),
                        left: 0,
                        sure,
                    },
                    left => Token { left: left - 1, sure, ..token },
                });
            }
        }
        gone.iter().rev().for_each(|place| {
            self.tokens.swap_remove(*place);
        });
        moved.into_iter().for_each(|token| self.arrive(token));
    }

    /// The first event comes.
    fn begin(&mut self, mark: Mark) {
        let times = self.steps[0].times.max(1);
        self.count = self.count.filter(|_| mark.certain).map(|count| count + 1);
        let sure = match (times, self.count) {
            (1, _) => mark.certain,
            (_, Some(count)) if !count.is_multiple_of(times) => return,
            (_, Some(_)) => true,
            // Which of them is the last of a group is not known.
            (_, None) => false,
        };
        let token = Token { stage: 1, arrived: mark.tick, by: Some(mark.part), left: 0, sure };
        self.arrive(token);
    }

    /// An attempt comes to a stage, or through.
    fn arrive(&mut self, mut token: Token) {
        let Some(step) = self.steps.get(token.stage) else {
            self.found.push((token.arrived, token.sure));
            return;
        };
        let is_new = token.left == 0;
        if is_new {
            token.left = step.times.max(1);
        }
        let same = |other: &&mut Token| Token { sure: token.sure, ..**other } == token;
        match self.tokens.iter_mut().find(same) {
            Some(other) => other.sure |= token.sure,
            None => self.tokens.push(token),
        }
        if is_new {
            self.look_back(token);
        }
    }

    /// What was looked at before an attempt arrived may have come after it.
    fn look_back(&mut self, token: Token) {
        let from = token.arrived.saturating_sub(self.reach);
        let marks: Vec<Mark> =
            self.window.iter().take(self.done).filter(|mark| mark.tick >= from).copied().collect();
        for mark in marks {
            let same = |other: &Token| Token { sure: token.sure, ..*other } == token;
            let Some(place) = self.tokens.iter().position(same) else { return };
            self.look(mark, Some(place));
        }
    }

    /// What has not come in time is given up, where nothing that is looked at from `now` on can be in time.
    fn give_up(&mut self, now: u64) {
        loop {
            let due = |token: &Token| {
                let step = &self.steps[token.stage];
                let (_, late) = step.limit.within.filter(|_| step.absent)?;
                let at = token.arrived.saturating_add(step.limit.gives_up);
                (token.arrived.saturating_add(late).saturating_add(self.reach) < now).then_some(at)
            };
            let due = self.tokens.iter().enumerate().filter_map(|(place, token)| Some((due(token)?, place)));
            let Some((at, place)) = due.min() else { return };
            let token = self.tokens.swap_remove(place);
            // Beyond the record it has not happened yet.
            if at < self.end {
                self.arrive(Token {
                    stage: token.stage + 1,
                    arrived: at,
                    by: None,
                    left: 0,
                    sure: token.sure,
                });
            }
        }
    }

    /// Drops what cannot happen any more, and what another token can do as well.
    fn tidy(&mut self, now: u64) {
        let (steps, reach) = (&self.steps, self.reach);
        self.tokens.retain(|token| {
            let step = &steps[token.stage];
            let late = step.limit.within.filter(|_| !step.absent);
            late.is_none_or(|(_, late)| now <= token.arrived.saturating_add(late).saturating_add(reach))
        });
        while self.done > 0
            && self.window.front().is_some_and(|mark| mark.tick.saturating_add(self.keep) < now)
        {
            self.window.pop_front();
            self.done -= 1;
        }
        if self.tokens.len() < 2 {
            return;
        }
        let settled = |token: &Token| token.arrived.saturating_add(2 * reach) < now;
        let all = self.tokens.clone();
        self.tokens.retain(|token| {
            let step = &steps[token.stage];
            // A later one with as much to go has more time left; unless it must wait, or gives up later.
            let alike = |other: &&Token| {
                other.stage == token.stage && other.left == token.left && (other.sure || !token.sure)
            };
            let later = |other: &Token| other.arrived > token.arrived && settled(other);
            let free = !step.absent && step.limit.after.is_none();
            !(free && settled(token) && all.iter().filter(alike).any(later))
        });
    }

    /// Gives out what lies before a tick, in order.
    fn give_out(&mut self, before: u64) {
        let is_due = self.recorded.peek().is_some_and(|hit| hit.tick.0 < before);
        if !is_due && self.found.is_empty() {
            return;
        }
        self.found.sort_unstable();
        let count = self.found.partition_point(|(tick, _)| *tick < before);
        let found: Vec<(u64, bool)> = self.found.drain(..count).collect();
        let mut found = found.into_iter().peekable();
        loop {
            let shown = self.recorded.peek().map(|hit| hit.tick.0).filter(|tick| *tick < before);
            let Some(tick) = shown.into_iter().chain(found.peek().map(|(tick, _)| *tick)).min() else {
                return;
            };
            let mut sure = false;
            while let Some((_, certain)) = found.next_if(|(other, _)| *other == tick) {
                sure |= certain;
            }
            let is_shown = shown == Some(tick);
            if is_shown {
                self.recorded.next();
            }
            let certainty = match (is_shown, sure) {
                (true, true) => Certainty::Certain,
                (true, false) => Certainty::Doubtful,
                (false, _) => Certainty::Possible,
            };
            self.ready.push_back(Hit { tick: Tick(tick), certainty });
        }
    }
}

impl Sequenced<Arrived, Arrived> {
    /// Takes in what was found of its parts and what the record shows, of which all is known before a tick; `end` is
    /// the end of the record, where that is known. What follows from it, and the tick before which nothing more does.
    pub(super) fn read(
        &mut self,
        parts: Vec<Vec<Hit>>,
        recorded: Vec<Hit>,
        known: Tick,
        end: Option<Tick>,
    ) -> (Vec<Hit>, Tick) {
        for (part, hits) in self.parts.iter_mut().zip(parts) {
            part.source().0.extend(hits);
        }
        self.recorded.source().0.extend(recorded);
        self.look_ahead();
        if let Some(end) = end {
            self.end = end.0;
            let mut all = Vec::new();
            while let Some(hit) = self.next() {
                all.push(hit);
            }
            return (all, Tick(u64::MAX));
        }
        while self.next_tick().is_some_and(|tick| tick.saturating_add(self.reach) < known.0) {
            self.step();
        }
        // As at a mark that comes then.
        self.give_up(known.0);
        let given = known.0.saturating_sub(self.keep);
        self.give_out(given);
        (self.ready.drain(..).collect(), Tick(given))
    }

    /// The tick of the mark that is looked at next.
    fn next_tick(&self) -> Option<u64> {
        match self.window.get(self.done) {
            Some(mark) => Some(mark.tick),
            None => Some(self.earliest.0).filter(|tick| *tick < u64::MAX),
        }
    }
}

impl Times {
    /// Whether an event that comes so many ticks after the arrival is in time.
    fn allows(&self, waited: u64) -> Known {
        let early = match self.after {
            Some((possible, _)) if waited < possible => Known::No,
            Some((_, certain)) if waited < certain => Known::Open,
            _ => Known::Yes,
        };
        let late = match self.within {
            Some((_, late)) if waited > late => Known::No,
            Some((certain, _)) if waited > certain => Known::Open,
            _ => Known::Yes,
        };
        early.and(late)
    }
}

fn times(stage: &Stage<Time>, counted: &Span, known: &Span) -> Option<Times> {
    let ticks = |ticks: i64| u64::try_from(ticks.max(0)).unwrap_or(0);
    let mut times = Times { after: None, within: None, gives_up: 0 };
    match stage.limit {
        Some(StepLimit::Within(time)) => {
            let late = ticks(known.first_certainly_above(time)?.saturating_sub(1));
            // Nothing is certainly in time where the limit is as short as what is known.
            let certain = known.last_certainly_at_most(time)?;
            times.within = Some((ticks(certain), late.max(ticks(certain))));
            if certain < 0 {
                times.after = Some((0, u64::MAX));
            }
            times.gives_up = ticks(counted.last_certainly_at_most(time)?).saturating_add(1);
        }
        Some(StepLimit::After(time)) => {
            let possible = ticks(known.last_certainly_below(time)?.saturating_add(1));
            times.after = Some((possible, ticks(known.first_certainly_at_least(time)?)));
        }
        None => {}
    }
    Some(times)
}

/// The line whose edges a part is, if it is no more than that.
fn single(part: &TimedProgram) -> Option<Signal> {
    match &part.program().root.tree {
        Tree::Simple(Form::Edge(signal, _)) => Some(*signal),
        Tree::Simple(Form::Changes(signals)) if signals.len() == 1 => signals.first().copied(),
        _ => None,
    }
}
