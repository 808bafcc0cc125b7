//! What was seen instead when a trigger never came, a line each.

use super::edge::{QualifiedEdge, Seen};
use crate::event::{Direction, FieldSeen, FramesSeen, StreamSearch};
use crate::line::Level;

/// What a search saw that had no hit: on its lines, which are the inputs of these names.
pub(crate) fn search_report(search: &StreamSearch, names: &[&str]) -> String {
    let lines = search.activity().into_iter().filter_map(|(signal, edges, level)| {
        let line = signal.line()?;
        let name = names.get(line.0)?;
        Some(match edges {
            0 => format!("  {name}: {level}, never changed"),
            1 => format!("  {name}: 1 edge, {level} at the end"),
            n => format!("  {name}: {n} edges, {level} at the end"),
        })
    });
    let mut help = format!("seen meanwhile on its lines:\n{}", lines.collect::<Vec<_>>().join("\n"));
    for (name, least, most) in search.voltages() {
        help.push_str(&format!("\n  {name}: from {:.3} V to {:.3} V", least.to_f64(), most.to_f64()));
    }
    for bus in search.bus_values() {
        let what = if bus.at_event { "had, where the rest of the event happened" } else { "changed to" };
        let most: Vec<String> =
            bus.values.iter().take(6).map(|(value, count)| format!("{value} {}", times(*count))).collect();
        let rest = bus.values.iter().skip(6).map(|(_, count)| count).sum::<u64>() + bus.others;
        let rest = (rest > 0).then(|| format!("others {}", times(rest)));
        let told: Vec<String> = most.into_iter().chain(rest).collect();
        let told = if told.is_empty() { "nothing".to_string() } else { told.join(", ") };
        help.push_str(&format!("\n  {} {what}: {told}", bus.name));
    }
    for seen in search.frames_seen() {
        help.push_str(&frames_report(&seen));
    }
    for (number, state) in search.states().into_iter().enumerate() {
        let here = if state.present { ", and is the present state" } else { "" };
        match state.name.strip_prefix("step ") {
            // The first one is always waited for.
            Some(_) if number == 0 => help.push_str(&format!("\n{}:", state.name)),
            Some(_) if state.entered == 0 => help.push_str(&format!("\n{}: never reached", state.name)),
            Some(_) => help.push_str(&format!("\n{}: reached {}", state.name, times(state.entered))),
            None => help.push_str(&format!("\nstate {}: entered {}{here}", state.name, times(state.entered))),
        }
        for (wait, seen) in state.arms {
            match seen {
                Some(0) => help.push_str(&format!("\n  {wait}: never came")),
                Some(seen) => help.push_str(&format!("\n  {wait}: came {} in all", times(seen))),
                None => help.push_str(&format!("\n  {wait}")),
            }
        }
    }
    help
}

/// Most values of a field, and kinds of faults, that are told.
const MOST_TOLD: usize = 6;

/// What came on a serial bus.
fn frames_report(seen: &FramesSeen) -> String {
    let counted = |of: &[(String, u64)]| -> String {
        let told: Vec<String> =
            of.iter().take(MOST_TOLD).map(|(what, count)| format!("{count} {what}")).collect();
        let more = of.len().saturating_sub(MOST_TOLD);
        if more > 0 { format!("{} and {more} other kinds", told.join(", ")) } else { told.join(", ") }
    };
    let mut told = match seen.kinds.is_empty() {
        true => format!(
            "\n  {}: no frame came: it is idle, or not read as it is meant (its rate, its mode, its lines)",
            seen.bus
        ),
        false => format!("\n  {}: {}", seen.bus, counted(&seen.kinds)),
    };
    if !seen.faults.is_empty() {
        told.push_str(&format!("; faults: {}", counted(&seen.faults)));
    }
    for FieldSeen { name, values, others } in &seen.fields {
        let most = values.iter().take(MOST_TOLD).map(|(value, count)| format!("{value} {}", times(*count)));
        let rest = values.iter().skip(MOST_TOLD).map(|(_, count)| count).sum::<u64>() + others;
        let rest = (rest > 0).then(|| format!("others {}", times(rest)));
        let all: Vec<String> = most.chain(rest).collect();
        if !all.is_empty() {
            told.push_str(&format!("\n    {name} was {}", all.join(", ")));
        }
    }
    told
}

fn times(count: u64) -> String {
    match count {
        0 => "never".to_string(),
        1 => "once".to_string(),
        2 => "twice".to_string(),
        n => format!("{n} times"),
    }
}

/// What an instrument saw that waited for an edge: how often the edge came, which levels were missed, and
/// the last sample, with its unknown bits.
pub(crate) fn edge_report(
    trigger: &QualifiedEdge,
    names: &[&str],
    seen: &Seen,
    last: Option<(u64, u64)>,
) -> String {
    let name = |input: usize| names.get(input).copied().unwrap_or("?");
    let edge = match trigger.direction {
        Direction::Rises => "rose",
        Direction::Falls => "fell",
        Direction::Changes => "changed",
    };
    let line = name(trigger.input);
    let mut told = vec![match seen.edges {
        0 => format!("{line} never {edge}"),
        1 => format!("{line} {edge} once, but not all other levels were met:"),
        n => format!("{line} {edge} {n} times, but never were all other levels met:"),
    }];
    for ((input, high), missed) in trigger.levels.iter().zip(&seen.unmet).filter(|_| seen.edges > 0) {
        let (line, level) = (name(*input), Level::from(*high));
        told.push(match missed {
            0 => format!("  {line} was {level} each time"),
            missed if *missed == seen.edges => format!("  {line} was never {level} then"),
            missed => format!("  {line} was not {level} {missed} times"),
        });
    }
    let mut involved: Vec<usize> = trigger.levels.iter().map(|(input, _)| *input).collect();
    involved.insert(0, trigger.input);
    let Some((levels, unknown)) = last else { return told.join("\n") };
    let levels = involved.iter().map(|input| {
        let bit = |word: u64| word.checked_shr(*input as u32).unwrap_or(0) & 1 == 1;
        let level = if bit(unknown) { Level::Unknown } else { Level::from(bit(levels)) };
        format!("{} {level}", name(*input))
    });
    told.push(format!("at the end: {}", levels.collect::<Vec<_>>().join(", ")));
    told.join("\n")
}
