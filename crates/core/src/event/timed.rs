//! Events at a clock: what can run.

use super::check::{ConditionProgram, Form, Guarded, MachineArm, Program, Stage, Tree};
use super::syntax::{Lasting, StepLimit};
use crate::error::{Error, ErrorKind, Result};
use crate::known::Instants;
use crate::line::{Crossing, Signal};
use crate::quantity::{Rate, Rational, Time};
use crate::time::TimeBase;

/// An event whose durations are whole ticks of a clock, and whose buses can be decoded at it: ready to be
/// searched for in records with this clock. Made by [`Program::at`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TimedProgram {
    program: Program,
    root: Guarded<u64>,
    base: TimeBase,
    /// What it is made of, where it is of several parts: alternatives, or the event and the `unless` of each step, the
    /// same one once; and which of them each is.
    parts: Vec<TimedProgram>,
    places: Vec<usize>,
}

impl Program {
    /// The same event at a clock.
    ///
    /// ```
    /// use deep_tap_core::event::{Meaning, Program, Scope};
    /// use deep_tap_core::line::LineId;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// let mut scope = Scope::new();
    /// scope.define("WE_N", Meaning::Line(LineId(0)));
    /// let short = Program::compile("WE_N low for < 10 ns", &scope)?;
    /// assert!(short.at(TimeBase::from_rate("200 MS/s".parse()?)?).is_ok());
    /// let error = short.at(TimeBase::from_rate("100 MS/s".parse()?)?).unwrap_err();
    /// assert_eq!(error.message(), "'for < 10 ns' can never happen: a tick is 10 ns");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::TooSlow`], when a part of it can never happen because its time is below a tick, and
    /// [`ErrorKind::Event`], when a bus has too few samples per bit; the help names the rate that would do.
    /// [`ErrorKind::NotShown`], when it asks who is driven of a record that was sampled.
    pub fn at(&self, base: TimeBase) -> Result<TimedProgram> {
        shown(&self.signals(), base)?;
        self.frames().into_iter().try_for_each(|frame| frame.decoder(base).map(drop))?;
        let parts = match &self.root.tree {
            Tree::Simple(_) | Tree::Machine(_) => Vec::new(),
            Tree::Any(any) => any.iter().collect(),
            Tree::Sequence(stages) => {
                stages.iter().flat_map(|stage| [&stage.event].into_iter().chain(&stage.unless)).collect()
            }
        };
        let mut unique: Vec<&Guarded> = Vec::new();
        let places = parts.iter().map(|part| {
            unique.iter().position(|known| known == part).unwrap_or_else(|| {
                unique.push(part);
                unique.len() - 1
            })
        });
        let places = places.collect();
        let parts = unique.into_iter().map(|part| self.part(part).at(base)).collect::<Result<_>>()?;
        let root = Clock(base).guarded(&self.root)?;
        Ok(TimedProgram { root, program: self.clone(), base, parts, places })
    }
}

impl TimedProgram {
    /// The event, whatever the clock.
    pub fn program(&self) -> &Program {
        &self.program
    }

    /// The clock.
    pub fn base(&self) -> TimeBase {
        self.base
    }

    /// Whether it is the same event as another one, however that is written.
    pub(crate) fn is_same(&self, other: &TimedProgram) -> bool {
        let level_error = Program::level_error;
        (self.base, &self.root, level_error(&self.program))
            == (other.base, &other.root, level_error(&other.program))
    }

    /// All lines and crossings it looks at, those of its `while` included, sorted.
    pub fn signals(&self) -> Vec<Signal> {
        self.root.signals()
    }

    /// The crossings of analog lines among [`signals`](Self::signals).
    pub fn crossings(&self) -> Vec<Crossing> {
        self.program.crossings()
    }

    /// What its instants are read from.
    pub fn instants(&self) -> Instants {
        self.program.instants()
    }

    /// What it is made of, where it is of several parts, the same one once.
    pub(super) fn parts(&self) -> &[TimedProgram] {
        &self.parts
    }

    /// For the event and each `unless` of each step of a sequence, which of its parts that is.
    pub(super) fn places(&self) -> &[usize] {
        &self.places
    }

    pub(super) fn root(&self) -> &Guarded<u64> {
        &self.root
    }
}

/// Whether a record with this clock shows the levels of all these.
fn shown(signals: &[Signal], base: TimeBase) -> Result<()> {
    if base.is_exact() || !signals.iter().any(|signal| matches!(signal, Signal::Drive(_))) {
        return Ok(());
    }
    let message = "a sampled record does not show whether a line is driven or floats";
    let help = "ask that of a simulation's dump; an instrument sees a level only";
    Err(Error::new(ErrorKind::NotShown, message).with_help(help))
}

impl ConditionProgram {
    /// Whether a record with this clock shows what the condition asks for.
    ///
    /// # Errors
    /// [`ErrorKind::NotShown`], when it asks who is driven of a record that was sampled.
    pub fn check_at(&self, base: TimeBase) -> Result<()> {
        shown(&self.signals(), base)
    }
}

/// Makes ticks of times.
struct Clock(TimeBase);

impl Clock {
    fn guarded(&self, event: &Guarded) -> Result<Guarded<u64>> {
        let tree = match &event.tree {
            Tree::Simple(form) => Tree::Simple(self.form(form)?),
            Tree::Any(any) => Tree::Any(any.iter().map(|event| self.guarded(event)).collect::<Result<_>>()?),
            Tree::Sequence(stages) => {
                Tree::Sequence(stages.iter().map(|stage| self.stage(stage)).collect::<Result<_>>()?)
            }
            Tree::Machine(states) => {
                let arms = |arms: &Vec<MachineArm>| arms.iter().map(|arm| self.arm(arm)).collect();
                Tree::Machine(states.iter().map(arms).collect::<Result<_>>()?)
            }
        };
        Ok(Guarded { tree, guard: event.guard.clone() })
    }

    fn form(&self, form: &Form) -> Result<Form<u64>> {
        Ok(match form {
            Form::Edge(signal, direction) => Form::Edge(*signal, *direction),
            Form::Changes(signals) => Form::Changes(signals.clone()),
            Form::When(test) => Form::When(test.clone()),
            Form::Lasting(test, lasting) => Form::Lasting(test.clone(), self.lasting(*lasting)?),
            Form::Frame(frame) => Form::Frame(frame.clone()),
        })
    }

    fn lasting(&self, lasting: Lasting) -> Result<Lasting<u64>> {
        let tick = self.0.tick();
        Ok(match lasting {
            Lasting::Under(time) if time <= tick => return Err(self.too_short(time, "for <")),
            Lasting::Between(_, time) if time < tick => return Err(self.too_short(time, "for … ..")),
            Lasting::Over(time) => Lasting::Over(self.whole(time)),
            Lasting::Under(time) => Lasting::Under(self.whole_from(time)),
            Lasting::Between(least, most) => Lasting::Between(self.whole_from(least), self.whole(most)),
        })
    }

    fn stage(&self, stage: &Stage) -> Result<Stage<u64>> {
        let limit = match stage.limit {
            Some(StepLimit::Within(time)) if !stage.absent && time < self.0.tick() => {
                return Err(self.too_short(time, "within"));
            }
            Some(StepLimit::Within(time)) => Some(StepLimit::Within(self.whole(time))),
            Some(StepLimit::After(time)) => Some(StepLimit::After(self.whole_from(time))),
            None => None,
        };
        let unless = stage.unless.iter().map(|event| self.guarded(event)).collect::<Result<_>>()?;
        let event = self.guarded(&stage.event)?;
        Ok(Stage { event, unless, limit, absent: stage.absent, times: stage.times })
    }

    fn arm(&self, arm: &MachineArm) -> Result<MachineArm<u64>> {
        let event = arm.event.as_ref().map(|event| self.guarded(event)).transpose()?;
        // What happens on the tick of entering a state is not looked at.
        let after = arm.after.map(|time| self.whole_from(time).max(1));
        Ok(MachineArm { event, after, times: arm.times, fire: arm.fire, go: arm.go })
    }

    /// The most whole ticks that are no longer; beyond any record where that does not fit.
    fn whole(&self, time: Time) -> u64 {
        count(self.0.ticks_in(time).map(Rational::floor))
    }

    /// The fewest whole ticks that are no shorter.
    fn whole_from(&self, time: Time) -> u64 {
        count(self.0.ticks_in(time).map(Rational::ceil))
    }

    fn too_short(&self, time: Time, what: &str) -> Error {
        let needed = time.to_rational().recip().map(Rate::from_rational);
        let rate = needed.map_or("a faster rate".to_string(), |r| format!("more than {r}"));
        let message = format!("'{what} {time}' can never happen: a tick is {}", self.0.tick());
        Error::new(ErrorKind::TooSlow, message).with_help(format!("record at {rate}, or give a longer time"))
    }
}

fn count(ticks: Option<i128>) -> u64 {
    ticks.and_then(|ticks| u64::try_from(ticks).ok()).unwrap_or(u64::MAX)
}
