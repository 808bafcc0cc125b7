//! Places in a record, as people name them.

use std::ops::Range;

use super::Job;
use crate::capture::Note;
use crate::error::{Error, ErrorKind, Result};
use crate::event::Program;
use crate::known::{Instants, Precision, Rule};
use crate::quantity::{Bounds, Rational, Time};
use crate::setup::SetupMark;
use crate::time::Tick;

/// What the text of a place names.
enum Meant<'a> {
    /// A place in the record.
    Noted(Tick),
    Time(&'a str),
    Event(&'a str),
}

/// The time between two places.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Between {
    /// The first place.
    pub from: Tick,
    /// The second one.
    pub to: Tick,
    /// The time between, as counted; negative where the second lies before the first.
    pub value: Time,
    /// Between what the true time lies; `None` where a place is a time that somebody gave.
    pub bounds: Option<Bounds>,
}

impl Job {
    /// The tick of a place: the name of a mark, a time, or an event, of which it is the first occurrence from
    /// `after` on. It lies in the record, its end included.
    ///
    /// # Errors
    /// When it is neither, lies outside, or never happens.
    pub fn place(&self, text: &str, after: Tick) -> Result<Tick> {
        match self.meant(text) {
            Meant::Noted(at) => Ok(at),
            Meant::Time(text) => self.tick_of(text.parse()?),
            Meant::Event(text) => self.first(text, after),
        }
    }

    /// What the text of a place names.
    fn meant<'a>(&'a self, text: &'a str) -> Meant<'a> {
        let name = text.trim();
        if let Some(note) = self.capture.notes().iter().find(|note| note.name == name) {
            return Meant::Noted(note.at);
        }
        let text = self.setup_marks().find(|mark| mark.name == name).map_or(text, |mark| &mark.at);
        if SetupMark::is_time(text) { Meant::Time(text) } else { Meant::Event(text) }
    }

    fn setup_marks(&self) -> impl Iterator<Item = &SetupMark> {
        self.setup.iter().flat_map(|setup| &setup.marks)
    }

    /// The time from one place to another, of which an event is the first occurrence after the first place. It is
    /// known how well where both are events. It is the time between the two that the record shows: what is too short
    /// to be seen in it may have come before either.
    ///
    /// ```
    /// use std::path::Path;
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::job::Job;
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::setup::Setup;
    /// use deep_tap_core::time::TimeBase;
    ///
    /// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
    /// let busy = Trace::toggling(Level::Low, [40, 44], 100)?;
    /// let capture = Capture::builder(base, 100).line("BUSY", busy).build()?;
    /// let job = Job::recorded(capture, Setup::default(), Path::new("a.dtap"));
    /// let between = job.between("BUSY rises", "BUSY falls")?;
    /// assert_eq!(between.value.to_string(), "4 us");
    /// assert!(between.bounds.is_some());
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// As [`place`](Self::place), of either.
    pub fn between(&self, from: &str, to: &str) -> Result<Between> {
        let first = self.place(from, Tick(0))?;
        self.since_tick(first, self.instants(from), to)
    }

    /// The time from a tick, which is one of these instants, to a place.
    pub(crate) fn since_tick(&self, first: Tick, from: Option<Instants>, to: &str) -> Result<Between> {
        let second = self.place(to, Tick(first.0.saturating_add(1)))?;
        let (early, late) = (first.min(second), first.max(second));
        let base = self.capture.base();
        let bounds = from.zip(self.instants(to)).and_then(|(from, to)| {
            let precision = Precision::of(&self.capture, Rule::Proven);
            precision.between(&from, &to).length(late.since(early))
        });
        let bounds = bounds.filter(|_| first <= second);
        Ok(Between { from: first, to: second, value: base.length_of(second.since(first)), bounds })
    }

    /// What an event's instants are; nothing of a time.
    fn instants(&self, text: &str) -> Option<Instants> {
        let Meant::Event(text) = self.meant(text) else { return None };
        Program::compile(text, &self.scope()).ok().map(|program| program.instants())
    }

    /// What was noted in the record, and the marks of its setup that lie in it, in their order. Marks at events are
    /// looked for.
    pub fn marks(&self) -> Vec<Note> {
        let mut notes = self.capture.notes().to_vec();
        for mark in self.setup_marks() {
            if notes.iter().any(|note| note.name == mark.name) {
                continue;
            }
            if let Ok(at) = self.place(&mark.at, Tick(0)) {
                notes.push(Note { name: mark.name.clone(), at, text: mark.text.clone() });
            }
        }
        notes.sort_by_key(|note| note.at);
        notes
    }

    /// The notes of the capture with one more, or with another one of this name.
    ///
    /// # Errors
    /// For a name that something else in the record has, or that nobody could ask for, and for a place that is none.
    pub fn noted(&self, name: &str, place: &str, text: &str) -> Result<Vec<Note>> {
        let wrong =
            |message: String, help: &str| Err(Error::new(ErrorKind::Unknown, message).with_help(help));
        if name.trim().is_empty() || name != name.trim() || name.contains(['"', '\n', '\r']) {
            return wrong(
                format!("'{name}' is not a name for a mark"),
                "use letters, digits and signs other than the double quote",
            );
        }
        if SetupMark::is_time(name) {
            return wrong(format!("'{name}' would be read as a time"), "begin the name with a letter");
        }
        let of_setup = self.setup_marks().any(|mark| mark.name == name);
        if self.scope().get(name).is_some() || of_setup {
            return wrong(
                format!("something else in this record is called '{name}'"),
                "give the mark another name",
            );
        }
        let at = self.place(place, Tick(0))?;
        let others = self.capture.notes().iter().filter(|note| note.name != name).cloned();
        let own = Note { name: name.to_string(), at, text: text.to_string() };
        Ok(others.chain([own]).collect())
    }

    /// The part of a record from one place to another; all of it otherwise.
    ///
    /// # Errors
    /// As [`place`](Self::place), or when it is empty.
    pub fn range(&self, from: Option<&str>, to: Option<&str>) -> Result<Range<Tick>> {
        let place = |end, text: &str, after| self.place(text, after).map_err(|error| error.about(end));
        let from = from.map_or(Ok(Tick(0)), |text| place("--from", text, Tick(0)))?;
        let after = Tick(from.0.saturating_add(1));
        let to = to.map_or(Ok(Tick(self.capture.len())), |text| place("--to", text, after))?;
        if from >= to {
            let error = Error::new(ErrorKind::Unknown, "the range to look at is empty or upside down");
            return Err(error.with_help("--from must be before --to"));
        }
        Ok(from..to)
    }

    fn tick_of(&self, at: Time) -> Result<Tick> {
        let (base, len) = (self.capture.base(), self.capture.len());
        let position = base.position_of(at).and_then(|p| u64::try_from(p).ok());
        position.filter(|p| *p <= len).map(Tick).ok_or_else(|| {
            let (first, last) = (base.text_of(Tick(0)), base.text_of(Tick(len)));
            // As it was given, but for one of minutes.
            let long = at.to_rational().abs() >= Rational::from(60);
            let told = if long { at.rounded(base.tick()) } else { at.to_string() };
            let error = Error::new(ErrorKind::Unknown, format!("{told} is outside the record"));
            error.with_help(format!("the record goes from {first} to {last}"))
        })
    }

    fn first(&self, event: &str, after: Tick) -> Result<Tick> {
        let base = self.capture.base();
        let program = Program::compile(event, &self.scope())?.at(base)?;
        let hit = program.hits(&self.capture, after..Tick(self.capture.len())).next();
        hit.map(|hit| hit.tick).ok_or_else(|| {
            let after = if after.0 > 0 { format!(" after {}", base.text_of(after)) } else { String::new() };
            let message = format!("'{event}' never happens in this record{after}");
            Error::new(ErrorKind::Unknown, message)
                .with_help("give another event, or a time such as '3.2184 ms'")
        })
    }
}
