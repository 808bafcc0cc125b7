//! What was seen instead when a trigger never came, a line each.

use super::edge::{QualifiedEdge, Seen};
use crate::event::{Direction, StreamSearch};
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
    for state in search.states() {
        let here = if state.present { ", and is the present state" } else { "" };
        help.push_str(&format!("\nstate {}: entered {}{here}", state.name, times(state.entered)));
        for (wait, seen) in state.arms {
            match seen {
                Some(seen) => help.push_str(&format!("\n  {wait}: came {} in all", times(seen))),
                None => help.push_str(&format!("\n  {wait}")),
            }
        }
    }
    help
}

fn times(count: u64) -> String {
    match count {
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
