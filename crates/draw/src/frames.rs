//! Frames and fields of a serial bus under its lines.

use deep_tap_core::bus::{Field, FieldKind, Frame};
use deep_tap_core::capture::Capture;
use deep_tap_core::decode::SerialBus;
use deep_tap_core::time::Tick;

use crate::row::{Cell, FrameSpan, Row, View, business};

/// Most edges in a view whose frames are drawn one by one.
const MOST_EDGES: u64 = 2_000_000;

/// The rows of a bus: its frames, then its fields, as many rows as fields lie over each other.
pub(crate) fn frame_rows(capture: &Capture, bus: &SerialBus, view: &View) -> Vec<Row> {
    let traces =
        || bus.lines().iter().filter(|line| line.0 < capture.lines().len()).map(|l| capture.trace(*l));
    let edges: u64 = traces().map(|trace| trace.count(view.start..view.end)).sum();
    let all = edges <= MOST_EDGES && traces().count() == bus.lines().len();
    let found = if all { bus.frames(capture, view.start..view.end).ok() } else { None };
    let Some(found) = found else { return vec![crowded(capture, bus, view)] };
    let mut frames = row(bus.name().to_string());
    let mut lanes: Vec<Row> = Vec::new();
    let mut ends: Vec<Tick> = Vec::new();
    let mut count = 0;
    let is_exchange = bus.protocol().name() == "exchange";
    for frame in found {
        count += 1;
        let faulty = !frame.faults.is_empty();
        let faults: Vec<&str> = frame.faults.iter().map(|fault| fault.kind).collect();
        let sure = if frame.certain { "" } else { "?" };
        let kind = format!("{}{sure}{}", frame.kind, if faulty { "!" } else { "" });
        let long = if faulty { format!("{}{sure} !{}", frame.kind, faults.join(",")) } else { kind.clone() };
        let mut texts = vec![long, kind];
        let mut end = frame.end;
        if is_exchange {
            // What it says is more than that it is one; where it broke is more than what it said.
            let values: Vec<String> = frame.fields.iter().map(Field::hex).collect();
            let said = [said(bus, &frame), values.join(" ")].into_iter().filter(|text| !text.is_empty());
            let broke = frame.faults.first().map(|fault| fault.what.clone());
            texts.splice(0..0, broke.into_iter().chain(said));
            end = frame.carried_until().max(Tick(frame.start.0 + 1));
        }
        push(&mut frames, view, frame.start, end, Inside { texts, faulty, ..Inside::default() });
        for field in &frame.fields {
            let place = ends.iter().position(|end| *end <= field.start).unwrap_or(ends.len());
            if place == ends.len() {
                ends.push(Tick(0));
                lanes.push(row(format!("  {}", field.name)));
            }
            ends[place] = field.end.max(Tick(field.start.0 + 1));
            let lane = &mut lanes[place];
            if lane.name.trim() != field.name {
                lane.name = "  fields".to_string();
            }
            let value = match field.bits {
                1 => field.name.to_string(),
                _ => field.hex(),
            };
            let mut texts = vec![value.clone()];
            if let Some(name) = bus.names().name_of(field) {
                texts.splice(0..0, [format!("{value} ({name})"), name.to_string()]);
            } else if let Some(character) = field.character() {
                texts.insert(0, format!("{value} '{character}'"));
            }
            if field.bits > 1 {
                texts.insert(0, format!("{} {}", field.name, texts[0]));
            }
            texts.extend(shortest(field));
            let absent = field.name == "nack";
            push(
                lane,
                view,
                field.start,
                field.end,
                Inside { texts, faulty: false, kind: Some(field.kind), absent },
            );
        }
    }
    // Where all fields of a row are of one name, it stands in front.
    for lane in &mut lanes {
        let own = lane.name.trim().to_string();
        for span in &mut lane.spans {
            span.texts.retain(|text| !text.starts_with(&format!("{own} ")));
        }
    }
    let transfers = transfer_row(capture, bus, view, count);
    std::iter::once(frames).chain(transfers).chain(lanes).collect()
}

/// The fields of a frame in words.
fn said(bus: &SerialBus, frame: &Frame) -> String {
    let text = bus.names().show(frame);
    let sure = if frame.certain { "" } else { "? " };
    format!("{sure}{}", text.trim_start_matches(frame.kind).trim_start())
}

/// What frames that belong together carry, where any of so many do.
fn transfer_row(capture: &Capture, bus: &SerialBus, view: &View, frames: usize) -> Option<Row> {
    let transfers: Vec<Frame> = bus.transfers(capture, view.start..view.end).ok()?.collect();
    if transfers.is_empty() || transfers.len() >= frames {
        return None;
    }
    let mut whole = row("  transfers".to_string());
    for transfer in &transfers {
        let end = transfer.carried_until().max(Tick(transfer.start.0 + 1));
        let sure = if transfer.certain { "" } else { "?" };
        let faulty = if transfer.faults.is_empty() { "" } else { "!" };
        let kind = format!("{}{sure}{faulty}", transfer.kind);
        let (named, plain) = (carried(bus, transfer, true), carried(bus, transfer, false));
        let text =
            transfer.text().filter(|text| text.len() > 1).map(|text| format!("\"{}\"", text.escape_debug()));
        let texts = [format!("{kind} {named}"), named, plain].into_iter();
        let texts = texts.map(|carried| match &text {
            Some(text) => format!("{carried} {text}"),
            None => carried,
        });
        let texts = texts.chain(text.clone()).chain([kind.clone()]).collect();
        let faulty = !transfer.faults.is_empty();
        push(&mut whole, view, transfer.start, end, Inside { texts, faulty, ..Inside::default() });
    }
    Some(whole)
}

/// Most values of one transfer that are written.
const MOST_VALUES: usize = 256;

/// Addresses and data of a transfer in their order, words in two directions one after the other; with the
/// names of the fields, or without.
fn carried(bus: &SerialBus, transfer: &Frame, names: bool) -> String {
    let mut parts: Vec<String> = Vec::new();
    let mut rows: Vec<(&str, Vec<String>)> = Vec::new();
    let row = |(name, values): (&str, Vec<String>)| match names {
        true => format!("{name} {}", values.join(" ")),
        false => values.join(" "),
    };
    for field in transfer.fields.iter().take(MOST_VALUES) {
        match field.kind {
            FieldKind::Data => {
                let value = field.hex().trim_start_matches("0x").to_string();
                match rows.iter_mut().find(|(name, _)| *name == field.name) {
                    Some((_, values)) => values.push(value),
                    None => rows.push((field.name, vec![value])),
                }
            }
            FieldKind::Address => {
                parts.extend(rows.drain(..).map(row));
                parts.push(bus.names().name_of(field).map_or_else(|| field.hex(), str::to_string));
            }
            FieldKind::Control | FieldKind::Check => {}
        }
    }
    parts.extend(rows.into_iter().map(row));
    if transfer.fields.len() > MOST_VALUES {
        parts.push("…".into());
    }
    parts.join(if names { " " } else { " | " })
}

fn row(name: String) -> Row {
    Row { name, cells: Vec::new(), labels: Vec::new(), spans: Vec::new(), scale: None, narrow: Vec::new() }
}

/// The shortest form of a field's value: digits without their base, a letter for an acknowledge.
fn shortest(field: &Field) -> Option<String> {
    match (field.bits, field.name) {
        (1, "ack") => Some("a".to_string()),
        (1, "nack") => Some("N".to_string()),
        (1, _) => None,
        _ => field.hex().strip_prefix("0x").map(str::to_string),
    }
}

/// What is inside of a span.
#[derive(Default)]
struct Inside {
    texts: Vec<String>,
    faulty: bool,
    kind: Option<FieldKind>,
    absent: bool,
}

/// Adds a span; what has no column of its own makes the one before it crowded.
fn push(row: &mut Row, view: &View, start: Tick, end: Tick, inside: Inside) {
    let first = if start <= view.start { 0 } else { view.column_of(start).unwrap_or(view.columns) };
    let last = Tick(end.0.saturating_sub(1).max(start.0));
    let last = if last >= view.end { view.columns - 1 } else { view.column_of(last).unwrap_or(0) };
    let Inside { texts, faulty, kind, absent } = inside;
    let beyond = (start < view.start, end > view.end);
    let mut column = first;
    if let Some(before) = row.spans.last_mut()
        && before.column + before.columns > first
    {
        // Neighbours share a column: it belongs to the one that has no other, else to the earlier one.
        let shared = before.column + before.columns - 1;
        match before.columns {
            _ if shared < last => column = shared + 1,
            2.. if first == shared => before.columns -= 1,
            _ => {
                before.faulty |= faulty;
                before.absent |= absent;
                before.texts.clear();
                return;
            }
        }
    }
    if column < view.columns {
        let columns = (last + 1).saturating_sub(column).max(1);
        row.spans.push(FrameSpan { column, columns, texts, faulty, kind, absent, beyond });
    }
}

/// Too much to be drawn one by one: how busy the bus's first line is.
fn crowded(capture: &Capture, bus: &SerialBus, view: &View) -> Row {
    let trace = bus.lines().first().filter(|line| line.0 < capture.lines().len()).map(|l| capture.trace(*l));
    let cell = |column: usize| {
        let (from, to) = (view.tick_of(column), view.tick_of(column + 1));
        match trace.map_or(0, |trace| trace.count(from..to)) {
            0 => Cell::Nothing,
            edges => Cell::Busy(business(edges, to.0 - from.0)),
        }
    };
    Row { cells: (0..view.columns).map(cell).collect(), ..row(bus.name().to_string()) }
}
