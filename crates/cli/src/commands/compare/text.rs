//! The comparison for people.

use deep_tap::compare::{FrameDifference, FrameDifferenceKind, LimitComparison, OneLimit, Spread};
use deep_tap::quantity::Time;
use deep_tap::time::Tick;

use super::Both;
use super::items::{Item, known_text};
use crate::args;
use crate::next::{look, next, path_word};
use crate::output::{Grid, Mark, folded};
use crate::words::counted;

/// Frames that differ, of each bus, where not all are asked for.
const FEW: usize = 3;
const MANY: usize = 40;

pub(super) fn text(args: &args::Compare, both: &Both<'_>, items: &[Item]) -> String {
    let mut text = format!(
        "{}          A: {}, B: {}, from {}\n",
        headline(both, items),
        args.a.display(),
        args.b.display(),
        both.found.alignment.zero
    );
    text.push_str(&common(both));
    let shown: Vec<&Item> = items.iter().filter(|item| item.differs || args.all).collect();
    if !shown.is_empty() {
        let mut grid = Grid::new(&["", "name", "A", "B", "differs"], &[]);
        let mut narrow = Grid::new(&["", "name", "A", "B"], &[]);
        for item in &shown {
            let how = match (item.differs, item.how.is_empty()) {
                (true, true) => "yes".to_string(),
                (true, false) => item.how.clone(),
                (false, true) => "no".to_string(),
                (false, false) => format!("no; {}", item.how),
            };
            let mark = if item.differs { Mark::Bad } else { Mark::None };
            let cells = vec![item.kind.to_string(), item.name.clone(), item.a.clone(), item.b.clone()];
            narrow.row_with_remark(cells.clone(), mark, &how);
            grid.row_with_mark([cells, vec![how]].concat(), mark);
        }
        let grid = if grid.fits() { grid } else { narrow };
        text.push_str(&format!("\n{}\n", grid.text()));
    }
    for limit in both.found.limits.iter().filter(|limit| args.all || !limit.moved.is_empty()) {
        text.push_str(&spreads(both, limit));
    }
    for bus in both.found.buses.iter().filter(|bus| !bus.found.is_empty()) {
        let most = if args.all { MANY } else { FEW };
        text.push_str(&format!("\n{}, where {} differ\n", bus.name, bus.of));
        for found in bus.found.iter().take(most) {
            text.push_str(&frame_text(both, found));
        }
        // Of a long list, not all places are known.
        let more = bus.found.len().saturating_sub(most);
        if more > 0 {
            let all = if args.all { "" } else { "; --all shows more of them" };
            text.push_str(&format!("  and {more} more places{all}\n"));
        }
        if let Some((least, most)) = bus.later {
            let tick = coarser(both);
            let (least, most) = (shifted(least, tick), shifted(most, tick));
            text.push_str(&format!("  those in both come {least} to {most} in B\n"));
        }
    }
    for remark in &both.found.remarks {
        text.push_str(&format!("\n{}", folded(remark)));
    }
    if !both.found.remarks.is_empty() {
        text.push('\n');
    }
    text.push_str(&format!("\n{}\n", advice(args, both, items)));
    text
}

/// How much differs, in words.
fn headline(both: &Both<'_>, items: &[Item]) -> String {
    match both.found.differences() {
        0 => format!(
            "nothing differs, of {} compared",
            counted(items.len() + both.found.common_lines, "thing")
        ),
        differing => counted(differing, "difference"),
    }
}

/// What is the same, in a line.
fn common(both: &Both<'_>) -> String {
    let found = both.found;
    let of = |all: usize, differing: usize, what: &str| match all {
        0 => None,
        _ => Some(format!("{} of {}", all - differing, counted(all, what))),
    };
    let differing = found.limits.iter().filter(|limit| limit.differs()).count();
    let limits = of(found.limits.len(), differing, "limit");
    let differing = found.buses.iter().filter(|bus| bus.differs()).count();
    let buses = of(found.buses.len(), differing, "bus");
    let both_have = |line: &&deep_tap::compare::LineComparison| {
        !matches!(line.difference, deep_tap::compare::LineDifference::Only(_))
    };
    let lines = of(found.common_lines, found.lines.iter().filter(both_have).count(), "common line");
    let all: Vec<String> = [limits, buses, lines].into_iter().flatten().collect();
    if all.is_empty() { String::new() } else { format!("the same: {}\n", all.join(", ")) }
}

/// The values of a limit in both records, in numbers.
fn spreads(both: &Both<'_>, limit: &LimitComparison) -> String {
    let tick = |of_a| if of_a { both.a.capture.base().tick() } else { both.b.capture.base().tick() };
    let mut grid = Grid::new(&["", "seen", "least", "median", "99 %", "most"], &[1, 2, 3, 4, 5]);
    let mut row = |name: &str, one: &Option<OneLimit>, tick: Time| {
        let Some(Spread { count, possible, least, median, percentile_99, most }) =
            one.as_ref().and_then(|one| one.spread.as_ref())
        else {
            return;
        };
        let seen = if *possible == 0 { count.to_string() } else { format!("{count} (+{possible})") };
        let numbers = [least, median, percentile_99, most].map(|known| known_text(known, tick));
        grid.row([vec![format!("  {name}"), seen], numbers.to_vec()].concat());
    };
    row("A", &limit.a, tick(true));
    row("B", &limit.b, tick(false));
    format!("\n{} ({})\n{}\n", limit.name, limit.what, grid.text())
}

/// A place where frames differ, in lines.
pub(crate) fn frame_text(both: &Both<'_>, found: &FrameDifference) -> String {
    let line = |name: &str, of: &Option<(Tick, String)>, base: deep_tap::time::TimeBase| match of {
        Some((tick, what)) => format!("  {name} {}  {what}\n", base.text_of(*tick)),
        None => format!("  {name} -\n"),
    };
    let (a, b) = (both.a.capture.base(), both.b.capture.base());
    let (first, second) = (line("A", &found.a, a), line("B", &found.b, b));
    let sure = if found.certain { "" } else { "  (not read beyond doubt)\n" };
    match found.kind {
        FrameDifferenceKind::Missing => format!("{first}  B has none of it\n{sure}"),
        FrameDifferenceKind::Extra => format!("  A has none of it\n{second}{sure}"),
        FrameDifferenceKind::Replaced | FrameDifferenceKind::Values => format!("{first}{second}{sure}"),
    }
}

fn coarser(both: &Both<'_>) -> Time {
    both.a.capture.base().tick().max(both.b.capture.base().tick())
}

/// A time by which something comes later, in words.
fn shifted(by: Time, tick: Time) -> String {
    let text = by.rounded(tick);
    match text.strip_prefix('-') {
        Some(text) => format!("{text} earlier"),
        None => format!("{text} later"),
    }
}

/// Where to look.
fn advice(args: &args::Compare, both: &Both<'_>, items: &[Item]) -> String {
    let (a, b) = (path_word(&args.a), path_word(&args.b));
    let setup = args.setup.as_ref().map_or(String::new(), |setup| format!(" --setup {}", path_word(setup)));
    let place = items.iter().filter(|item| item.differs).find_map(|item| match item.at {
        (_, Some(tick)) => Some((&b, both.b.capture.base().text_of(tick))),
        (Some(tick), None) => Some((&a, both.a.capture.base().text_of(tick))),
        (None, None) => None,
    });
    let mut lines = Vec::new();
    if let Some((file, at)) = place {
        lines.extend(look(&format!("{file}{setup}"), at));
    }
    lines.push(next("report", format!("{a} {b}{setup}")));
    lines.join("\n")
}
