//! Everything that was compared, an item each, in words.

use deep_tap::capture::Capture;
use deep_tap::compare::{
    BusComparison, Known, LimitComparison, LineComparison, LineDifference, OneLimit, OneOf, PlaceComparison,
    Shift, TroubleComparison,
};
use deep_tap::job::Between;
use deep_tap::quantity::{Bounds, Quantity, Rational, Time, uncertain};
use deep_tap::time::Tick;

use super::Both;
use crate::commands::check::expectations;
use crate::words::counted;

/// One thing that was compared.
pub(crate) struct Item {
    /// Its kind: `line`, `limit`, `expectation`, `bus`, `field`, `interval`, `finding`.
    pub(crate) kind: &'static str,
    pub(crate) name: String,
    pub(crate) differs: bool,
    /// In the first record, and in the second.
    pub(crate) a: String,
    pub(crate) b: String,
    /// In which way it differs; what can be said of it otherwise.
    pub(crate) how: String,
    /// Where to look in each.
    pub(crate) at: (Option<Tick>, Option<Tick>),
}

/// All items; of a kind, in the order of the records.
pub(crate) fn items(both: &Both<'_>) -> Vec<Item> {
    let found = both.found;
    let ticks = (both.a.capture.base().tick(), both.b.capture.base().tick());
    let mut items: Vec<Item> = found.limits.iter().map(|limit| of_limit(limit, ticks)).collect();
    items.extend(found.expectations.iter().map(|met| {
        let said = |met: &Option<deep_tap::expect::Met>| {
            met.as_ref().map_or("not asked".to_string(), expectations::verdict_text)
        };
        let how = met.b.as_ref().map_or(String::new(), |met| expectations::said(met).0);
        let at = |met: &Option<deep_tap::expect::Met>, capture: &Capture| {
            let at = expectations::said(met.as_ref()?).1?;
            tick_of(capture, at)
        };
        let places = (at(&met.a, &both.a.capture), at(&met.b, &both.b.capture));
        let differs = met.differs();
        Item {
            kind: "expectation",
            name: met.name.clone(),
            differs,
            a: said(&met.a),
            b: said(&met.b),
            how,
            at: places,
        }
    }));
    for bus in &found.buses {
        items.push(of_bus(bus));
        items.extend(bus.fields.iter().map(|field| Item {
            kind: "field",
            name: format!("{}.{}", bus.name, field.field),
            differs: true,
            a: field.first.0.clone(),
            b: field.first.1.clone(),
            how: format!("{} of {} values differ, first these", field.count, field.of),
            at: (Some(field.at.0), Some(field.at.1)),
        }));
    }
    items.extend(found.places.iter().map(|place| of_place(place, ticks)));
    items.extend(found.lines.iter().map(of_line));
    items.extend(found.troubles.iter().map(of_trouble));
    items
}

fn tick_of(capture: &Capture, at: Time) -> Option<Tick> {
    capture.base().position_of(at).and_then(|at| u64::try_from(at).ok()).map(Tick)
}

fn of_limit(limit: &LimitComparison, ticks: (Time, Time)) -> Item {
    let said = |one: &Option<OneLimit>, tick: Time| match one {
        Some(one) => match one.result.measured.zip(one.result.bounds) {
            Some((value, bounds)) => format!("{}: {}", uncertain(value, bounds, tick), one.result.verdict),
            None => one.result.verdict.to_string(),
        },
        None => "not asked".to_string(),
    };
    let moved: Vec<String> = limit
        .moved
        .iter()
        .map(|(number, shift)| format!("{} {}", number_text(number), shift_text(shift)))
        .collect();
    let how = match (moved.is_empty(), limit.verdict_differs()) {
        (false, _) => moved.join(", "),
        (true, true) if limit.b.is_none() => "asked of A only".to_string(),
        (true, true) if limit.a.is_none() => "asked of B only".to_string(),
        (true, true) => "the verdict".to_string(),
        (true, false) => String::new(),
    };
    Item {
        kind: "limit",
        name: limit.name.clone(),
        differs: limit.differs(),
        a: said(&limit.a, ticks.0),
        b: said(&limit.b, ticks.1),
        how,
        at: limit.at(),
    }
}

/// What a number of a spread is called.
fn number_text(number: &str) -> &str {
    if number == "percentile-99" { "99 %" } else { number }
}

/// By how much a number moved at the least.
fn shift_text(shift: &Shift) -> String {
    let way = if shift.up { "higher" } else { "lower" };
    let tenth = Rational::new(1, 10).and_then(|tenth| shift.least.to_rational().checked_mul(tenth));
    let tenth = tenth.map_or(shift.least, |tenth| shift.least.unit().of(tenth));
    format!("{way} by {} or more", shift.least.rounded(tenth))
}

/// A number with what is known of it.
pub(super) fn known_text(known: &Known, tick: Time) -> String {
    let bounds = Bounds { lo: known.lo, hi: known.hi, lo_exclusive: false, hi_exclusive: false };
    uncertain(known.value, bounds, tick)
}

fn of_bus(bus: &BusComparison) -> Item {
    let count = |count: u64| counted(count, bus.of.trim_end_matches('s'));
    let mut how = Vec::new();
    let mut say = |number: u64, what: &str| {
        if number > 0 {
            how.push(format!("{number} {what}"));
        }
    };
    say(bus.missing, "missing in B");
    say(bus.extra, "in B only");
    say(bus.replaced, "replaced");
    say(bus.at_the_ends, "left out at the ends");
    let only = |side| match side {
        OneOf::A => ("there", "not there"),
        OneOf::B => ("not there", "there"),
    };
    let (a, b) = match (bus.only, &bus.unread) {
        (Some(side), _) => (only(side).0.to_string(), only(side).1.to_string()),
        (None, Some(_)) => ("-".to_string(), "-".to_string()),
        (None, None) => (count(bus.counts.0), count(bus.counts.1)),
    };
    if how.is_empty() && !bus.fields.is_empty() {
        how.push("values".to_string());
    }
    how.extend(bus.unread.iter().map(|why| format!("cannot be read: {why}")));
    let first = bus.found.first();
    let at = |of: Option<&(Tick, String)>| of.map(|(tick, _)| *tick);
    Item {
        kind: "bus",
        name: bus.name.clone(),
        differs: bus.differs(),
        a,
        b,
        how: how.join(", "),
        at: (at(first.and_then(|f| f.a.as_ref())), at(first.and_then(|f| f.b.as_ref()))),
    }
}

fn of_place(place: &PlaceComparison, ticks: (Time, Time)) -> Item {
    let said = |between: &Option<Between>, tick: Time| match between {
        Some(Between { value, bounds: Some(bounds), .. }) => {
            uncertain((*value).into(), bounds.map(Quantity::Time), tick)
        }
        Some(Between { value, .. }) => value.rounded(tick),
        None => "does not happen".to_string(),
    };
    let at = |between: &Option<Between>| between.as_ref().map(|between| between.to);
    Item {
        kind: "interval",
        name: format!("{} to {}", place.from, place.to),
        differs: place.differs(),
        a: said(&place.a, ticks.0),
        b: said(&place.b, ticks.1),
        how: place.moved.as_ref().map_or(String::new(), shift_text),
        at: (at(&place.a), at(&place.b)),
    }
}

fn of_line(line: &LineComparison) -> Item {
    let (mut a, mut b) = (counted(line.edges.0, "edge"), counted(line.edges.1, "edge"));
    let how = match line.difference {
        LineDifference::Only(OneOf::A) => {
            b = "not there".to_string();
            "A only".to_string()
        }
        LineDifference::Only(OneOf::B) => {
            a = "not there".to_string();
            "B only".to_string()
        }
        LineDifference::ChangesOnly(OneOf::A) => "changes in A only".to_string(),
        LineDifference::ChangesOnly(OneOf::B) => "changes in B only".to_string(),
        LineDifference::Rests(first, second) => {
            (a, b) = (format!("rests {first}"), format!("rests {second}"));
            "never changes".to_string()
        }
    };
    Item { kind: "line", name: line.name.clone(), differs: true, a, b, how, at: (None, None) }
}

fn of_trouble(trouble: &TroubleComparison) -> Item {
    let (a, b) = match trouble.side {
        OneOf::A => (trouble.kind.clone(), "-".to_string()),
        OneOf::B => ("-".to_string(), trouble.kind.clone()),
    };
    let at = match trouble.side {
        OneOf::A => (trouble.at, None),
        OneOf::B => (None, trouble.at),
    };
    Item { kind: "finding", name: trouble.about.clone(), differs: true, a, b, how: trouble.what.clone(), at }
}
