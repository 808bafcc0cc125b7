//! What was expected besides timing, in words.

use deep_tap::expect::{Broken, Detail, Met, OrderResult, PayloadResult, TransfersResult};
use deep_tap::measure::Measure;
use deep_tap::quantity::Time;

use super::checked::mark;
use crate::output::Grid;
use deep_tap::quantity::signed;

/// A table with a row for each expectation, and the states under those of an order.
pub(super) fn text(all: &[Met], tick: Time) -> String {
    let mut grid = Grid::new(&["expected", "found", "at", "verdict"], &[2]);
    for met in all {
        let (found, at) = said(met);
        let at = at.map_or("-".to_string(), |at| signed(at.into(), tick.into()));
        grid.row_with_mark(vec![met.name.clone(), found, at, met.verdict.to_string()], mark(met.verdict));
    }
    let mut text = format!("\n{}\n", grid.text());
    for met in all {
        let Detail::Order(order) = &met.found else { continue };
        let mut grid = Grid::new(&["", "state", "times", "shortest", "longest", "in all"], &[2, 3, 4, 5]);
        for stay in &order.stays {
            let length =
                |measure: Option<Measure>| measure.map_or("-".to_string(), |m| m.value.rounded(tick));
            grid.row(vec![
                " ".to_string(),
                stay.state.clone(),
                stay.count.to_string(),
                length(stay.shortest),
                length(stay.longest),
                deep_tap::quantity::engineering(stay.total, tick.to_f64(), "s"),
            ]);
        }
        text.push_str(&format!("\n{}: how long each state lasted\n{}\n", met.name, grid.text()));
        const MOST: usize = 10;
        if order.broken > 1 {
            let told = order.found.iter().take(MOST).map(|broken| {
                format!("  {} at {}", transition(broken), signed(broken.at.into(), tick.into()))
            });
            text.push_str(&format!("\n{}\n", told.collect::<Vec<_>>().join("\n")));
            if order.broken > MOST as u64 {
                text.push_str(&format!("  and {} more\n", order.broken - MOST as u64));
            }
        }
    }
    text
}

/// What was found, and where.
pub(super) fn said(met: &Met) -> (String, Option<Time>) {
    match &met.found {
        Detail::Payload(payload) => payload_text(payload),
        Detail::Transfers(transfers) => transfers_text(transfers),
        Detail::Order(order) => order_text(order),
        _ => (String::new(), None),
    }
}

fn payload_text(result: &PayloadResult) -> (String, Option<Time>) {
    let PayloadResult { expected, matched, extra, begins, .. } = result;
    let more = if *extra > 0 { format!(", then {extra} more") } else { String::new() };
    let Some(difference) = result.difference else {
        return match begins {
            None => ("nothing came".to_string(), None),
            Some(_) => (format!("all {expected} as expected{more}"), *begins),
        };
    };
    let place = difference.place + 1;
    let text = match (difference.expected, difference.found) {
        (Some(wanted), Some(found)) => {
            format!("number {place} of {expected} is {found:#04X} and not {wanted:#04X}")
        }
        (Some(wanted), None) => format!("{matched} of {expected} came; {wanted:#04X} is missing"),
        (None, Some(found)) => format!("all {expected}, and then {extra} too many, {found:#04X} first"),
        (None, None) => "nothing came".to_string(),
    };
    (text.replace("0X", "0x"), Some(difference.at))
}

fn transfers_text(result: &TransfersResult) -> (String, Option<Time>) {
    let TransfersResult { expected, matched, extra, begins, .. } = result;
    let more = if *extra > 0 { format!(", then {extra} more") } else { String::new() };
    let Some(difference) = &result.difference else {
        return match begins {
            None => ("none came".to_string(), None),
            Some(_) => (format!("all {expected} as expected{more}"), *begins),
        };
    };
    let place = difference.place + 1;
    let text = match (&difference.expected, &difference.found) {
        (Some(wanted), Some(found)) => {
            format!("number {place} of {expected} is '{found}' and not '{wanted}'")
        }
        (Some(wanted), None) => format!("{matched} of {expected} came; '{wanted}' is missing"),
        (None, Some(found)) => format!("all {expected}, and then {extra} too many, '{found}' first"),
        (None, None) => "none came".to_string(),
    };
    (text, Some(difference.at))
}

fn order_text(result: &OrderResult) -> (String, Option<Time>) {
    match result.found.first() {
        Some(first) => (
            format!(
                "{} of {} transitions broken; first {}",
                result.broken,
                result.transitions,
                transition(first)
            ),
            Some(first.at),
        ),
        None if result.transitions == 0 => ("no transition at all".to_string(), None),
        None => (format!("{} transitions, all allowed", result.transitions), None),
    }
}

fn transition(broken: &Broken) -> String {
    match &broken.from {
        Some(from) => format!("{from} -> {}", broken.to),
        None => format!("begins in {}", broken.to),
    }
}
