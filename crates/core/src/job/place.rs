//! Places in a record, as people name them.

use std::ops::Range;

use super::Job;
use crate::error::{Error, ErrorKind, Result};
use crate::event::Program;
use crate::quantity::Time;
use crate::time::Tick;

impl Job {
    /// The tick of a place: a time, or an event, of which it is the first occurrence from `after` on.
    /// It lies in the record, its end included.
    ///
    /// # Errors
    /// When it is neither, lies outside, or never happens.
    pub fn place(&self, text: &str, after: Tick) -> Result<Tick> {
        match text.trim_start().starts_with(|c: char| c.is_ascii_digit() || "+-.".contains(c)) {
            true => self.tick_of(text.parse()?),
            false => self.first(text, after),
        }
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
            let error = Error::new(ErrorKind::Unknown, format!("{at} is outside the record"));
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
