//! One row of a timing table.

use super::kind::{Events, Kind, Mark, Which};
use super::required::Required;
use crate::error::{Error, ErrorKind, Result};
use crate::quantity::{Frequency, Quantity};

/// One row of a timing table. Made by [`Limit::of`] or by the function of its kind, such as
/// [`Limit::width`]; what is optional is a method of the [builder](LimitBuilder).
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Limit {
    /// The datasheet's symbol, such as `tDH`.
    pub symbol: String,
    /// The datasheet's words.
    pub what: String,
    /// What one occurrence is.
    pub events: Events,
    /// The required range.
    pub required: Required,
    /// The typical value, for information.
    pub typical: Option<Quantity>,
    /// Counts only where this condition holds: at the reference or starting event, or where a
    /// pulse begins.
    pub condition: Option<String>,
    /// The group of limits that it belongs to, such as `read cycle`.
    pub group: Option<String>,
    /// What a start without an answer means, of a `delay` or `recovery`.
    pub answer: Answer,
    /// Counts only pairs of events which lie inside one stretch of this condition, with all between them.
    pub within: Option<String>,
    /// Counts only pairs of events between which this one does not happen.
    pub unless: Option<String>,
}

/// What a start without an answer means.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Answer {
    /// It need not have one: it is not judged.
    #[default]
    May,
    /// It must have one: a wait that certainly exceeds the maximum is a violation, whether another start or
    /// the end of the record ends it.
    Must,
}

impl Limit {
    /// What one occurrence is.
    pub fn kind(&self) -> Kind {
        self.events.kind()
    }

    /// A limit that asks for nothing yet.
    ///
    /// ```
    /// use deep_tap_core::limit::Limit;
    ///
    /// let hold = Limit::hold("tDH", "DQ", "WE_N rises").what("data hold").min("5 ns").build()?;
    /// assert_eq!((hold.symbol.as_str(), hold.required.to_string()), ("tDH", "≥ 5 ns".to_string()));
    /// let error = Limit::width("tWP", "WE_N low").min("45 %").build().unwrap_err();
    /// assert!(error.message().contains("a time"), "{error}");
    /// assert!(Limit::period("tCK", "CK rises").build().is_err(), "neither a minimum nor a maximum");
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn of(symbol: impl Into<String>, events: Events) -> LimitBuilder {
        let (symbol, required) = (symbol.into(), Required::default());
        let limit = Limit {
            symbol,
            what: String::new(),
            events,
            required,
            typical: None,
            condition: None,
            group: None,
            answer: Answer::May,
            within: None,
            unless: None,
        };
        LimitBuilder { limit, problem: None }
    }

    /// From the last change of the data to the reference event.
    pub fn setup(symbol: impl Into<String>, data: &str, reference: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Setup { data: data.into(), reference: reference.into() })
    }

    /// From the reference event to the first change of the data.
    pub fn hold(symbol: impl Into<String>, data: &str, reference: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Hold { data: data.into(), reference: reference.into() })
    }

    /// From the release of an asynchronous control to the reference event after it.
    pub fn recovery(symbol: impl Into<String>, control: &str, reference: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Recovery { control: control.into(), reference: reference.into() })
    }

    /// From the reference event to the release of an asynchronous control after it.
    pub fn removal(symbol: impl Into<String>, control: &str, reference: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Removal { control: control.into(), reference: reference.into() })
    }

    /// The length of one stretch in which a condition holds.
    pub fn width(symbol: impl Into<String>, pulse: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Width { pulse: pulse.into() })
    }

    /// From one occurrence of an event to the next.
    pub fn period(symbol: impl Into<String>, event: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Period { event: event.into() })
    }

    /// The share of each period for which a condition holds.
    pub fn duty(symbol: impl Into<String>, pulse: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Duty { pulse: pulse.into() })
    }

    /// From an event to the first following partner event.
    pub fn delay(symbol: impl Into<String>, from: &str, to: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Delay { from: from.into(), to: to.into() })
    }

    /// The distance from an event to the nearest partner event, before or after it.
    pub fn skew(symbol: impl Into<String>, from: &str, to: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Skew { from: from.into(), to: to.into() })
    }

    /// Nothing may change while a condition holds.
    pub fn stable(symbol: impl Into<String>, data: &str, condition: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Stable { data: data.into(), condition: condition.into() })
    }

    /// From a lower level of an analog line up to a higher one.
    pub fn rise_time(symbol: impl Into<String>, line: &str, low: Mark, high: Mark) -> LimitBuilder {
        Limit::of(symbol, Events::RiseTime { line: line.into(), low, high })
    }

    /// From a higher level of an analog line down to a lower one.
    pub fn fall_time(symbol: impl Into<String>, line: &str, low: Mark, high: Mark) -> LimitBuilder {
        Limit::of(symbol, Events::FallTime { line: line.into(), low, high })
    }

    /// The voltage of an analog line.
    pub fn level(symbol: impl Into<String>, line: &str, which: Which) -> LimitBuilder {
        Limit::of(symbol, Events::Level { line: line.into(), which })
    }

    /// No change of the data around the reference event: [`clear`](LimitBuilder::clear) says from where to
    /// where.
    pub fn window(symbol: impl Into<String>, data: &str, reference: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Window { data: data.into(), reference: reference.into() })
    }

    /// From an event to the last change of the data before the next event.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::event::Scope;
    /// use deep_tap_core::known::Rule;
    /// use deep_tap_core::limit::{Limit, Verdict, check};
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// // The bus moves twice after the strobe at 100 ns, the last time after 60 ns.
    /// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
    /// let strobe = Trace::toggling(Level::Low, [10, 13, 30, 33], 50)?;
    /// let data = Trace::toggling(Level::Low, [12, 16], 50)?;
    /// let capture = Capture::builder(base, 50).line("STB", strobe).line("Q", data).build()?;
    /// let settle = Limit::settle("tAA", "STB rises", "Q").max("70 ns").bind(&Scope::of(&capture))?;
    /// let result = check(&capture, &settle, Rule::Proven)?;
    /// assert_eq!((result.verdict, result.measured.unwrap().to_string()), (Verdict::Pass, "60 ns".into()));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn settle(symbol: impl Into<String>, from: &str, data: &str) -> LimitBuilder {
        Limit::of(symbol, Events::Settle { from: from.into(), data: data.into() })
    }

    /// How far the bit rate of a serial bus is from its nominal value; from the one that the setup states
    /// where `nominal` is `None`.
    pub fn rate(symbol: impl Into<String>, bus: &str, nominal: Option<Frequency>) -> LimitBuilder {
        Limit::of(symbol, Events::Rate { bus: bus.into(), nominal })
    }
}

/// What is wrong with a limit that is bound to lines, and in which of its keys.
#[derive(Debug)]
pub struct BindError {
    /// The key of a limits file that is wrong, such as `reference` or `while`.
    pub key: &'static str,
    /// What is wrong.
    pub error: Error,
}

impl From<BindError> for Error {
    fn from(wrong: BindError) -> Error {
        wrong.error.about(format!("'{}'", wrong.key))
    }
}

/// A limit in the making. What is wrong with a value is said when it is built.
#[derive(Debug)]
#[must_use]
pub struct LimitBuilder {
    limit: Limit,
    problem: Option<Error>,
}

impl LimitBuilder {
    fn quantity<Q: TryInto<Quantity, Error: Into<Error>>>(&mut self, value: Q) -> Option<Quantity> {
        match value.try_into() {
            Ok(quantity) => Some(quantity),
            Err(error) => {
                self.problem.get_or_insert(error.into());
                None
            }
        }
    }

    /// The smallest value that is allowed: a text such as `"35 ns"`, a [`Time`](crate::quantity::Time), or
    /// another [`Quantity`].
    pub fn min<Q: TryInto<Quantity, Error: Into<Error>>>(mut self, min: Q) -> Self {
        self.limit.required.min = self.quantity(min);
        self
    }

    /// The largest value that is allowed.
    pub fn max<Q: TryInto<Quantity, Error: Into<Error>>>(mut self, max: Q) -> Self {
        self.limit.required.max = self.quantity(max);
        self
    }

    /// Of kind `window`: nothing may change from `setup` before the reference event to `hold` after it, either
    /// of which may be negative.
    ///
    /// ```
    /// use deep_tap_core::limit::Limit;
    ///
    /// // The data may change until 2 ns after the clock, and again from 5 ns after it on.
    /// let limit = Limit::window("tDV", "DQ", "CK rises").clear("-2 ns", "5 ns").build()?;
    /// assert_eq!(limit.required.to_string(), "none in 2 ns .. 5 ns");
    /// assert!(Limit::window("tDV", "DQ", "CK rises").clear("-5 ns", "2 ns").build().is_err());
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn clear<Q: TryInto<Quantity, Error: Into<Error>>>(mut self, setup: Q, hold: Q) -> Self {
        let (setup, hold) = (self.quantity(setup), self.quantity(hold));
        let min = setup.map(|setup| setup.unit().of(-setup.to_rational()));
        self.limit.required = Required { min, max: hold, clear: true };
        self
    }

    /// Counts only pairs of events which lie inside one stretch of this condition, with all between them. A
    /// stretch includes its first instant and excludes its last.
    pub fn within(mut self, condition: impl Into<String>) -> Self {
        self.limit.within = Some(condition.into());
        self
    }

    /// Counts only pairs of events between which this one does not happen.
    pub fn unless(mut self, event: impl Into<String>) -> Self {
        self.limit.unless = Some(event.into());
        self
    }

    /// The typical value, for information.
    pub fn typical<Q: TryInto<Quantity, Error: Into<Error>>>(mut self, typical: Q) -> Self {
        self.limit.typical = self.quantity(typical);
        self
    }

    /// The datasheet's words.
    pub fn what(mut self, what: impl Into<String>) -> Self {
        self.limit.what = what.into();
        self
    }

    /// Counts only where this condition holds.
    pub fn only_while(mut self, condition: impl Into<String>) -> Self {
        self.limit.condition = Some(condition.into());
        self
    }

    /// Each start must have an answer: a wait that certainly exceeds the maximum is a violation.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::event::Scope;
    /// use deep_tap_core::known::Rule;
    /// use deep_tap_core::limit::{Limit, Verdict, check};
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// // Asked at 100 us and again at 500 us, answered at 510 us.
    /// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
    /// let ask = Trace::toggling(Level::Low, [100, 103, 500, 503], 600)?;
    /// let done = Trace::toggling(Level::Low, [510, 513], 600)?;
    /// let capture = Capture::builder(base, 600).line("ASK", ask).line("DONE", done).build()?;
    /// let delay = || Limit::delay("tA", "ASK rises", "DONE rises").max("20 us");
    /// let verdict = |limit: deep_tap_core::limit::LimitBuilder| {
    ///     Ok::<_, deep_tap_core::Error>(check(&capture, &limit.bind(&Scope::of(&capture))?, Rule::Proven)?.verdict)
    /// };
    /// assert_eq!(verdict(delay())?, Verdict::Pass);
    /// assert_eq!(verdict(delay().must_be_answered())?, Verdict::Fail);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn must_be_answered(mut self) -> Self {
        self.limit.answer = Answer::Must;
        self
    }

    /// The group of limits that it belongs to.
    pub fn group(mut self, group: impl Into<String>) -> Self {
        self.limit.group = Some(group.into());
        self
    }

    /// The finished limit.
    ///
    /// # Errors
    /// When a value is not a quantity, or not of the kind's unit, when the smallest is above the largest, or
    /// when there is none though the kind needs one, or one though it needs none.
    pub fn build(self) -> Result<Limit> {
        let LimitBuilder { limit, problem } = self;
        if let Some(problem) = problem {
            return Err(problem.about(&limit.symbol));
        }
        limit.check()?;
        Ok(limit)
    }
}

impl Limit {
    /// Whether it asks for what its kind can have.
    fn check(&self) -> Result<()> {
        let wrong = |message: String, help: String| {
            Err(Error::new(ErrorKind::Limits, message).with_help(help).about(&self.symbol))
        };
        let (kind, Required { min, max, clear }) = (self.kind(), self.required);
        let unit = kind.unit();
        if let Some(other) = [min, max, self.typical].into_iter().flatten().find(|q| q.unit() != unit) {
            let message = format!("a limit of kind '{kind}' is {}, not {other}", unit.what());
            return wrong(message, format!("write it like '{}'", unit.sample()));
        }
        if self.answer == Answer::Must && !(matches!(kind, Kind::Delay | Kind::Recovery) && max.is_some()) {
            return wrong(
                "only a 'delay' or 'recovery' with a maximum can ask for an answer".into(),
                "leave 'answer' out, or give a 'max'".into(),
            );
        }
        if !kind.is_of_pairs() && (self.within.is_some() || self.unless.is_some()) {
            return wrong(
                format!(
                    "a limit of kind '{kind}' is of no pairs of events, so it has no 'within' or 'unless'"
                ),
                "restrict it with 'while'".into(),
            );
        }
        if clear != (kind == Kind::Window) {
            return match clear {
                true => wrong(
                    format!("a limit of kind '{kind}' is no range that must be clear"),
                    "give 'min' or 'max'".into(),
                ),
                false => wrong(
                    "a limit of kind 'window' has 'setup' and 'hold' instead of 'min' and 'max'".into(),
                    "say from when before the reference to when after it nothing may change".into(),
                ),
            };
        }
        if let Some(error) = self.required.below_zero() {
            return Err(error.about(&self.symbol));
        }
        match (kind, min, max) {
            (Kind::Stable, None, None) => Ok(()),
            (Kind::Stable, ..) => wrong(
                "a limit of kind 'stable' has no 'min' or 'max'".into(),
                "any change at all is a violation".into(),
            ),
            (_, None, None) => {
                wrong("neither 'min' nor 'max' is there".into(), format!("give min = '{}'", unit.sample()))
            }
            (Kind::Window, Some(min), Some(max)) if min.to_rational() >= max.to_rational() => wrong(
                "'setup' and 'hold' come to nothing: together they must be above zero".into(),
                format!("nothing may change between {min} and {max} after the reference: correct one"),
            ),
            (_, Some(min), Some(max)) if min > max => {
                wrong(format!("the minimum {min} is above the maximum {max}"), "exchange them".into())
            }
            _ => Ok(()),
        }
    }
}
