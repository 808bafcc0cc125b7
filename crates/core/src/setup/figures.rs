//! The figures of a limits file: minimum, typical value and maximum of each limit, under the operating
//! conditions that a setup chooses, worked out where they are formulas.

use crate::error::{Error, ErrorKind, Place, Result, suggest};
use crate::limit::{Kind, Operand, Required, evaluate, evaluate_any};
use crate::quantity::{Quantity, Unit};

use crate::reader::{NamedText, OneOrEach, Placed, moved};

/// The figures of one limit.
#[derive(Clone, Debug, Default)]
pub(super) struct Row {
    pub(super) symbol: String,
    pub(super) kind: Option<Kind>,
    pub(super) min: Option<OneOrEach>,
    pub(super) typical: Option<OneOrEach>,
    pub(super) max: Option<OneOrEach>,
}

/// All figures of a limits file.
#[derive(Clone, Debug, Default)]
pub(super) struct Figures {
    /// Names with values of their own, which a setup may replace.
    pub(super) values: Vec<NamedText>,
    /// The operating conditions that it knows, by name; none where it has only one set.
    pub(super) conditions: Vec<String>,
    pub(super) rows: Vec<Row>,
}

/// Which end of a range a formula belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum End {
    Min,
    Typical,
    Max,
}

impl Row {
    fn figure(&self, end: End) -> Option<&OneOrEach> {
        match end {
            End::Min => self.min.as_ref(),
            End::Typical => self.typical.as_ref(),
            End::Max => self.max.as_ref(),
        }
    }
}

impl Figures {
    /// Works out every figure under one of the conditions, with some values replaced.
    pub(super) fn resolve(
        &self,
        condition: Option<&str>,
        given: &[NamedText],
    ) -> (Vec<(Required, Option<Quantity>)>, Vec<Error>) {
        let mut problems: Vec<Error> = Vec::new();
        let mut rows = Vec::new();
        let mut work = Work { figures: self, condition, given, open: Vec::new() };
        for (place, row) in self.rows.iter().enumerate() {
            let mut end = |end| match work.row(place, end) {
                Ok(value) => value,
                Err(error) => {
                    let known = |p: &Error| p.place() == error.place() && p.message() == error.message();
                    if !problems.iter().any(known) {
                        problems.push(error);
                    }
                    None
                }
            };
            let (min, max, typical) = (end(End::Min), end(End::Max), end(End::Typical));
            let required = match (row.kind, min, max) {
                (Some(Kind::Window), Some(Quantity::Time(setup)), Some(Quantity::Time(hold))) => {
                    let required = Required::clear_around(setup, hold);
                    if required.min >= required.max {
                        let message = format!(
                            "a set-up time of {setup} and a hold time of {hold} leave nothing between"
                        );
                        let error = Error::new(ErrorKind::Limits, message)
                            .with_help("together they must be above zero: correct one");
                        problems.push(match work.placed(row.min.as_ref()) {
                            Some(placed) => error.at(Place::Text(placed.place.clone())),
                            None => error,
                        });
                    }
                    required
                }
                // With one end alone under these conditions, it asks for nothing.
                (Some(Kind::Window), ..) => Required::default(),
                _ => Required { min, max, clear: false },
            };
            if let Some(error) = required.below_zero() {
                let negative = required.min.is_some_and(|min| min.to_rational().is_negative());
                let written = if negative { row.min.as_ref() } else { row.max.as_ref() };
                problems.push(match work.placed(written) {
                    Some(placed) => error.at(Place::Text(placed.place.clone())),
                    None => error,
                });
            }
            if let (Some(min), Some(max), false) = (required.min, required.max, required.clear)
                && min.to_rational() > max.to_rational()
            {
                let message = format!("the minimum {min} is above the maximum {max}");
                let error = Error::new(ErrorKind::Limits, message).with_help("swap them, or correct one");
                problems.push(match work.placed(row.min.as_ref()) {
                    Some(placed) => error.at(Place::Text(placed.place.clone())),
                    None => error,
                });
            }
            rows.push((required, typical));
        }
        (rows, problems)
    }

    /// Values that a setup gives and nothing asks for.
    pub(super) fn unknown_values<'a>(&self, given: &'a [NamedText]) -> Vec<&'a Placed<String>> {
        let known = |name: &&Placed<String>| self.values.iter().any(|(own, _)| own.value == name.value);
        given.iter().map(|(name, _)| name).filter(|name| !known(name)).collect()
    }
}

/// Working figures out, with those that are being worked on.
struct Work<'a> {
    figures: &'a Figures,
    condition: Option<&'a str>,
    given: &'a [NamedText],
    /// Each by its name, and whether it is a value: a limit may have the same name.
    open: Vec<(String, bool)>,
}

impl<'a> Work<'a> {
    /// The text of a figure under the present conditions.
    fn placed(&self, figure: Option<&'a OneOrEach>) -> Option<Placed<String>> {
        match figure? {
            OneOrEach::Always(placed) => Some(placed.clone()),
            OneOrEach::Under(entries) => {
                let (_, text) =
                    entries.iter().find(|(name, _)| Some(name.value.as_str()) == self.condition)?;
                let value = text.value.clone()?;
                Some(Placed { value, place: text.place.clone() })
            }
        }
    }

    fn row(&mut self, place: usize, end: End) -> Result<Option<Quantity>> {
        let row = &self.figures.rows[place];
        let (Some(text), Some(kind)) = (self.placed(row.figure(end)), row.kind) else { return Ok(None) };
        self.formula(&row.symbol, end, kind.unit(), &text).map(Some)
    }

    fn formula(&mut self, name: &str, end: End, unit: Unit, text: &Placed<String>) -> Result<Quantity> {
        self.nested(name, false, |work| {
            let value = evaluate(&text.value, unit, &mut |name| work.look_up(name, end));
            value.map_err(|error| placed(error, text))
        })
    }

    /// Works on a name; an error when that name is being worked on already.
    fn nested<T>(
        &mut self,
        name: &str,
        is_value: bool,
        work: impl FnOnce(&mut Self) -> Result<T>,
    ) -> Result<T> {
        let entry = (name.to_string(), is_value);
        if self.open.contains(&entry) {
            let chain: Vec<&str> = self.open.iter().map(|(name, _)| name.as_str()).chain([name]).collect();
            let message = format!("this formula refers to itself: {}", chain.join(" → "));
            return Err(Error::new(ErrorKind::Limits, message)
                .with_help("give one of them as a figure, or as one of the setup's values"));
        }
        self.open.push(entry);
        let result = work(self);
        self.open.pop();
        result
    }

    /// What a name in a formula stands for: a value of the setup, one of the file, or another limit's
    /// figure: at the same end, or as `tCYC.min`, `tCYC.typ`, `tCYC.max`.
    fn look_up(&mut self, name: &str, end: End) -> Result<Operand> {
        let named = |entries: &'a [NamedText]| {
            let (_, text) = entries.iter().find(|(own, _)| own.value == name)?;
            Some(Placed { value: text.value.clone()?, place: text.place.clone() })
        };
        if let Some(text) = named(self.given).or_else(|| named(&self.figures.values)) {
            return self.nested(name, true, |work| work.value(&text, end));
        }
        let ends = [(".min", End::Min), (".typ", End::Typical), (".max", End::Max)];
        let asked = ends.iter().find_map(|(suffix, end)| Some((name.strip_suffix(suffix)?, *end)));
        let place = |symbol: &str| self.figures.rows.iter().position(|row| row.symbol == symbol);
        let found = place(name).map(|place| (place, None));
        let found = found.or_else(|| asked.and_then(|(symbol, end)| Some((place(symbol)?, Some(end)))));
        let Some((place, asked)) = found else {
            let rows = self.figures.rows.iter().map(|row| row.symbol.as_str());
            let values = self.figures.values.iter().map(|(name, _)| name.value.as_str());
            let help = suggest(name, values.chain(rows), "value or limit");
            let message = format!("'{name}' is no unit, and no value or limit of this part");
            return Err(Error::new(ErrorKind::Limits, message).with_help(help));
        };
        // The same end, or the only one that there is.
        let tries = match asked {
            Some(end) => vec![end],
            None => vec![end, End::Min, End::Max, End::Typical],
        };
        for end in tries {
            if let Some(quantity) = self.row(place, end)? {
                return Ok(Operand::Quantity(quantity));
            }
        }
        let message = format!("'{name}' has no figure here");
        Err(Error::new(ErrorKind::Limits, message).with_help("that limit gives none under these conditions"))
    }

    /// A value: a quantity, a number, or a formula that makes one.
    fn value(&mut self, text: &Placed<String>, end: End) -> Result<Operand> {
        evaluate_any(&text.value, &mut |name| self.look_up(name, end)).map_err(|error| placed(error, text))
    }
}

/// An error in a formula at its place in the file; one in another formula has its place already.
fn placed(error: Error, text: &Placed<String>) -> Error {
    match error.place() {
        Some(Place::Text(inner)) if inner.name.is_empty() => moved(error, ErrorKind::Limits, &text.place),
        _ => error,
    }
}
