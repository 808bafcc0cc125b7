//! What was expected besides timing, in words.

use deep_tap::expect::{Broken, Detail, Deviation, DeviationKind, Judged, Met, OrderResult};
use deep_tap::limit::Verdict;
use deep_tap::measure::Measure;
use deep_tap::quantity::{Quantity, Time, engineering, signed, uncertain};

use super::checked::mark;
use crate::output::Grid;

/// Most lines of a list, where not all are asked for.
const MOST: usize = 10;
const MOST_LINES: usize = 40;

/// A table with a row for each expectation; what the first that is otherwise is; and more of those that say more: the
/// states of an order, and with `list` everything that is not as expected.
pub(super) fn text(all: &[Met], tick: Time, list: bool) -> String {
    let mut grid = Grid::new(&["expected", "found", "at", "seen", "verdict"], &[2, 3]);
    let mut firsts = Vec::new();
    for met in all {
        let (found, at) = said(met);
        let at = at.map_or("-".to_string(), |at| at_text(at, tick));
        let first = judged(met).and_then(|judged| Deviation::first_of(&judged.deviations));
        let found = match first {
            Some(first) => {
                let rest = judged(met)
                    .map_or(String::new(), |judged| format!("{}{}", cut_off(judged), besides(met, judged)));
                let rest = rest.replacen(", ", "; ", 1);
                firsts.push(format!("{}: {found}{rest}", met.name));
                short(met, first)
            }
            None => found,
        };
        let cells = vec![met.name.clone(), found, at, seen(met), verdict_text(met)];
        grid.row_with_mark(cells, mark(met.verdict));
    }
    let mut text = format!("\n{}\n", grid.text());
    if !firsts.is_empty() {
        text.push_str(&format!("\n{}\n", firsts.join("\n")));
    }
    for met in all {
        match &met.found {
            Detail::Order(order) => order_lists(&mut text, &met.name, order, tick),
            Detail::Messages(judged) | Detail::Transfers(judged) | Detail::Exchange(judged) => {
                judged_lists(&mut text, met, judged, tick, list);
            }
            Detail::Follow(result) => {
                judged_lists(&mut text, met, &result.judged, tick, list);
                if let Some((shortest, longest)) = result.took {
                    let (shortest, longest) = (length(shortest, tick), length(longest, tick));
                    let required = result.required;
                    text.push_str(&format!(
                        "\n{}: took {shortest} to {longest}, required {required}\n",
                        met.name
                    ));
                }
            }
            _ => {}
        }
    }
    text
}

/// A length with what is known of it.
fn length(of: Measure, tick: Time) -> String {
    uncertain(Quantity::Time(of.value), of.bounds.map(Quantity::Time), tick)
}

/// Where an occurrence deviates, in a cell.
fn short(met: &Met, of: &Deviation) -> String {
    if let Detail::Follow(_) = met.found {
        return match of.kind {
            DeviationKind::Differs => "another value".to_string(),
            DeviationKind::Missing => "did not show".to_string(),
            DeviationKind::TooMuch => "not asked for".to_string(),
            DeviationKind::Pause => "not in time".to_string(),
            _ => "not certain".to_string(),
        };
    }
    let place = of.place + 1;
    let step = of.step.clone().unwrap_or_else(|| format!("number {place}"));
    match of.kind {
        DeviationKind::Differs => format!("{step} is another"),
        DeviationKind::Missing => format!("{step} is missing"),
        DeviationKind::TooMuch => "too much".to_string(),
        DeviationKind::Pause => format!("{step} not in time"),
        _ => "not certain".to_string(),
    }
}

fn at_text(at: Time, tick: Time) -> String {
    signed(at.into(), tick.into())
}

fn judged(met: &Met) -> Option<&Judged> {
    match &met.found {
        Detail::Messages(judged) | Detail::Transfers(judged) | Detail::Exchange(judged) => Some(judged),
        Detail::Follow(result) => Some(&result.judged),
        _ => None,
    }
}

/// How many occurrences there were.
fn seen(met: &Met) -> String {
    match &met.found {
        Detail::Order(order) => order.transitions.to_string(),
        _ => judged(met).map_or("-".to_string(), |judged| match judged.counts.possible {
            0 => judged.counts.seen.to_string(),
            possible => format!("{} (+{possible})", judged.counts.seen),
        }),
    }
}

/// The verdict, and how many led to it.
pub(crate) fn verdict_text(met: &Met) -> String {
    let counts = judged(met).map(|judged| judged.counts);
    match (met.verdict, counts) {
        (Verdict::Fail, Some(counts)) if counts.seen > 1 => {
            format!("{} ({} of {})", met.verdict, counts.failed, counts.seen)
        }
        (Verdict::Inconclusive, Some(counts)) if counts.inconclusive > 0 && counts.seen > 1 => {
            format!("{} ({} of {})", met.verdict, counts.inconclusive, counts.seen)
        }
        _ => met.verdict.to_string(),
    }
}

/// What was found, and where.
pub(crate) fn said(met: &Met) -> (String, Option<Time>) {
    match (&met.found, judged(met)) {
        (Detail::Order(order), _) => order_text(order),
        (_, Some(judged)) => match Deviation::first_of(&judged.deviations) {
            Some(first) => (deviation_text(met, first), Some(first.at)),
            None => (as_expected(met, judged), judged.begins),
        },
        _ => (String::new(), None),
    }
}

/// Where the first of those that fail does so.
pub(super) fn first_failure(all: &[Met]) -> Option<Time> {
    let failed = all.iter().filter(|met| met.verdict == Verdict::Fail);
    failed.filter_map(|met| said(met).1).min()
}

/// Where what is not as expected is so, and how.
pub(crate) fn deviations(met: &Met) -> impl Iterator<Item = (Time, String)> + '_ {
    let all = judged(met).into_iter().flat_map(|judged| &judged.deviations).take(MOST_LINES);
    let broken = match &met.found {
        Detail::Order(order) => order.found.as_slice(),
        _ => &[],
    };
    let broken = broken.iter().take(MOST_LINES).map(|broken| (broken.at, transition(broken)));
    all.map(move |of| (of.at, deviation_text(met, of))).chain(broken)
}

/// How many the record cuts off.
fn cut_off(judged: &Judged) -> String {
    match judged.counts.unpaired {
        0 => String::new(),
        cut => format!(", {cut} cut off by the record"),
    }
}

/// What came that belongs to none.
fn besides(met: &Met, judged: &Judged) -> String {
    match (judged.besides, &met.found) {
        (0, _) | (_, Detail::Follow(_)) => String::new(),
        (more, Detail::Messages(_)) => format!(", then {more} more"),
        (1, _) => ", 1 transfer besides".to_string(),
        (more, _) => format!(", {more} transfers besides"),
    }
}

/// What came, where nothing is otherwise.
fn as_expected(met: &Met, judged: &Judged) -> String {
    let counts = judged.counts;
    let rest = format!("{}{}", cut_off(judged), besides(met, judged));
    match (counts.seen, counts.unpaired) {
        (0, 0) if rest.is_empty() => "nothing came".to_string(),
        (0, 0) => format!("none came{rest}"),
        (0, _) => format!("none whole{rest}"),
        (1, _) => format!("as expected{rest}"),
        (_, _) => format!("all as expected{rest}"),
    }
}

/// An occurrence that is not as expected, or may not be.
fn deviation_text(met: &Met, of: &Deviation) -> String {
    let value = matches!(met.found, Detail::Messages(_));
    let follows = matches!(met.found, Detail::Follow(_));
    let place = of.place + 1;
    let (expected, found) = (of.expected.as_deref().unwrap_or("-"), of.found.as_deref().unwrap_or("-"));
    let step = of.step.clone().unwrap_or_else(|| format!("transfer {place}"));
    let text = match (of.kind, value) {
        (DeviationKind::Differs, _) if follows => format!("{found} shows, not {expected}"),
        (DeviationKind::Missing, _) if follows => format!("{expected} did not show"),
        (DeviationKind::TooMuch, _) if follows => match of.expected {
            Some(_) => format!("{found} shows after {expected}, and was not asked for"),
            None => format!("{found} shows, and was not asked for"),
        },
        (DeviationKind::Pause, _) if follows => format!("it took {found}, not {expected}"),
        (DeviationKind::Differs, true) => format!("value {place} is {found} and not {expected}"),
        (DeviationKind::Differs, false) => format!("{step} is '{found}' and not '{expected}'"),
        (DeviationKind::Missing, true) => match of.place {
            0 => format!("nothing came; {expected} is missing"),
            came => format!("{came} came; then {expected} is missing"),
        },
        (DeviationKind::Missing, false) => format!("{step} is missing: '{expected}'"),
        (DeviationKind::TooMuch, true) => format!("{found} follows as value {place}, which is too much"),
        (DeviationKind::TooMuch, false) => format!("'{found}' belongs to none"),
        (DeviationKind::Pause, _) => format!("{step} came {found} after the step before, not {expected}"),
        _ if follows => "as expected, but for a frame that is not certain".to_string(),
        _ => "as expected, but a frame of it is not certain".to_string(),
    };
    match of.verdict {
        Verdict::Inconclusive if of.kind != DeviationKind::NotCertain => {
            format!("{text}, which is not certain")
        }
        _ => text,
    }
}

/// Everything that is not as expected, and how long an exchange took from step to step.
fn judged_lists(text: &mut String, met: &Met, judged: &Judged, tick: Time, list: bool) {
    if list && !judged.deviations.is_empty() {
        let mut grid = Grid::new(&["", "number", "at", "found", "verdict"], &[1, 2]);
        for of in judged.deviations.iter().take(MOST_LINES) {
            let number = (of.occurrence + 1).to_string();
            let cells = vec![
                " ".to_string(),
                number,
                at_text(of.at, tick),
                deviation_text(met, of),
                of.verdict.to_string(),
            ];
            grid.row_with_mark(cells, mark(of.verdict));
        }
        text.push_str(&format!("\n{}: those that are not as expected\n{}\n", met.name, grid.text()));
        let all = (judged.counts.failed + judged.counts.inconclusive).max(judged.deviations.len() as u64);
        let more = all - judged.deviations.len().min(MOST_LINES) as u64;
        if more > 0 {
            text.push_str(&format!("  and {more} more; --format json has a thousand of them\n"));
        }
    }
    if !judged.pauses.is_empty() {
        let mut grid = Grid::new(&["", "before", "times", "shortest", "longest"], &[2, 3, 4]);
        for pause in &judged.pauses {
            let length = |measure: Measure| measure.value.rounded(tick);
            let (shortest, longest) = (length(pause.shortest), length(pause.longest));
            grid.row(vec![" ".to_string(), pause.before.clone(), pause.count.to_string(), shortest, longest]);
        }
        text.push_str(&format!("\n{}: from the step before\n{}\n", met.name, grid.text()));
    }
}

fn order_text(result: &OrderResult) -> (String, Option<Time>) {
    let begins = match (&result.begins, result.begins_wrong) {
        (Some(begins), true) => format!("begins in {begins}; "),
        _ => String::new(),
    };
    match result.found.first() {
        Some(first) => {
            let (broken, all) = (result.broken, result.transitions);
            (
                format!("{begins}{broken} of {all} transitions broken, first {}", transition(first)),
                Some(first.at),
            )
        }
        None if result.transitions == 0 => (format!("{begins}no transition at all"), None),
        None => (format!("{begins}{} transitions, all allowed", result.transitions), None),
    }
}

fn transition(broken: &Broken) -> String {
    format!("{} -> {}", broken.from, broken.to)
}

fn order_lists(text: &mut String, name: &str, order: &OrderResult, tick: Time) {
    let length = |measure: Option<Measure>| measure.map_or("-".to_string(), |m| m.value.rounded(tick));
    let mut grid = Grid::new(&["", "state", "times", "shortest", "longest", "in all"], &[2, 3, 4, 5]);
    for stay in &order.stays {
        let times = if stay.count == 0 { "never".to_string() } else { stay.count.to_string() };
        grid.row(vec![
            " ".to_string(),
            stay.state.clone(),
            times,
            length(stay.shortest),
            length(stay.longest),
            engineering(stay.total, tick.to_f64(), "s"),
        ]);
    }
    text.push_str(&format!("\n{name}: how long each state lasted\n{}\n", grid.text()));
    let mut grid = Grid::new(&["", "allowed", "times"], &[2]);
    for allowed in &order.allowed {
        let times = if allowed.count == 0 { "never".to_string() } else { allowed.count.to_string() };
        grid.row(vec![" ".to_string(), format!("{} -> {}", allowed.from, allowed.to), times]);
    }
    text.push_str(&format!("\n{name}: how often each transition came\n{}\n", grid.text()));
    if order.broken == 0 {
        return;
    }
    let mut grid = Grid::new(&["", "not allowed", "at", "after", "lasted"], &[2, 3, 4]);
    for broken in order.found.iter().take(MOST) {
        let at = at_text(broken.at, tick);
        grid.row(vec![" ".to_string(), transition(broken), at, length(broken.stayed), length(broken.lasted)]);
    }
    text.push_str(&format!("\n{}\n", grid.text()));
    if order.broken > MOST as u64 {
        text.push_str(&format!("  and {} more\n", order.broken - MOST as u64));
    }
}
