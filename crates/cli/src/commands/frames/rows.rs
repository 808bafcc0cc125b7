//! One line per frame.

use deep_tap::capture::Capture;
use deep_tap::quantity::Time;
use deep_tap::time::Tick;
use serde::Serialize;

use super::{JobFrame, Listing, counted, told, value};
use crate::args::{self, Format};
use crate::contract::frames::{FrameRow, TransferRow};
use crate::contract::{Document, Rows};
use crate::errors::Failure;
use crate::next::{next, source_words};
use crate::output::{Out, not_json};

/// A row of the table. Its fields are in words, as they were asked for.
#[derive(Serialize)]
struct Row<'a> {
    bus: &'a str,
    kind: &'a str,
    at_s: Time,
    until_s: Time,
    fields: String,
    certain: bool,
    faults: Vec<&'a str>,
}

const COLUMNS: &[&str] = &["bus", "kind", "at_s", "until_s", "fields", "certain", "faults"];

/// Writes frames as they come; how many.
pub(super) fn write(listing: Listing<'_>, out: &mut Out) -> Result<u64, Failure> {
    let (args, capture) = (listing.args, listing.capture);
    let longest = listing.buses.iter().map(|bus| bus.name().chars().count()).max().unwrap_or(0).max(3);
    let at = time_width(capture);
    match args.format {
        Format::Text if args.transfers => {
            let (lasts, bus) = ("lasts", "bus");
            out.line(format!("{:>at$}  {:>at$}  {lasts:>at$}  {bus:<longest$}  transfer", "at", "gap"))?;
        }
        Format::Text if args.exchanges => {
            let (lasts, name) = ("lasts", "name");
            out.line(format!("{:>at$}  {:>at$}  {lasts:>at$}  {name:<longest$}  exchange", "at", "gap"))?;
        }
        Format::Text => out.line(format!("{:>at$}  {:>at$}  {:<longest$}  frame", "at", "gap", "bus"))?,
        Format::Csv | Format::Json => {}
    }
    let mut rows = Rows::new(COLUMNS)?;
    let (mut count, mut faulty, mut open) = (0u64, 0u64, 0u64);
    for listed in listing {
        count += 1;
        faulty += u64::from(!listed.frame.faults.is_empty());
        open += u64::from(!listed.frame.certain);
        match args.format {
            Format::Text => out.line(text(args, capture, &listed, (at, longest)))?,
            Format::Csv => {
                rows.row(&row(args, capture, &listed))?;
                out.writer().write_all(&rows.take()?)?;
            }
            Format::Json => json_line(args, capture, &listed, out)?,
        }
    }
    if count == 0 && args.format == Format::Csv {
        out.writer().write_all(&rows.take()?)?;
    }
    if args.format == Format::Text {
        let frames = counted(args, count);
        let faults = match faulty {
            0 => "none with a fault".to_string(),
            faulty => format!("{faulty} with a fault"),
        };
        let open = match open {
            0 => String::new(),
            1 => ", 1 not certain (marked ?)".to_string(),
            open => format!(", {open} not certain (marked ?)"),
        };
        out.line(format!("\n{frames}, {faults}{open}"))?;
        if faulty > 0 && !args.exchanges {
            out.line(next("diagnose", source_words(&args.source)))?;
        }
    }
    Ok(count)
}

/// Columns that a time takes.
pub(super) fn time_width(capture: &Capture) -> usize {
    let ends = [Tick(0), Tick(capture.len())].map(|tick| capture.base().text_of(tick).chars().count());
    ends[0].max(ends[1]).max(12)
}

fn text(
    args: &args::Frames,
    capture: &Capture,
    listed: &JobFrame<'_>,
    (at, longest): (usize, usize),
) -> String {
    let JobFrame { bus, frame, gap, .. } = listed;
    let tick = capture.base().tick();
    let gap = gap.map_or("-".to_string(), |gap| capture.base().length_of(gap).rounded(tick));
    let faults: String = frame.faults.iter().map(|fault| format!("  !! {}", fault.what)).collect();
    let when = capture.base().text_of(frame.start);
    let sure = if frame.certain { "" } else { "?" };
    let (name, kind) = (bus.name(), frame.kind);
    let lasts = || capture.base().length_of(frame.carried_until().since(frame.start)).rounded(tick);
    let line = match args.transfers {
        false if args.exchanges => {
            let fields: Vec<String> =
                frame.fields.iter().map(|field| told(bus, field, args.values)).collect();
            let kind = if frame.kind == "exchange" { "" } else { frame.kind };
            let (lasts, fields) = (lasts(), fields.join(" "));
            let text = format!("{kind}{sure} {fields}");
            format!("{when:>at$}  {gap:>at$}  {lasts:>at$}  {name:<longest$}  {}{faults}", text.trim_start())
        }
        true => {
            let lasts = lasts();
            let carried = super::transfer::carried(bus, frame, args.values);
            format!("{when:>at$}  {gap:>at$}  {lasts:>at$}  {name:<longest$}  {kind}{sure} {carried}{faults}")
        }
        false => {
            let fields: Vec<String> =
                frame.fields.iter().map(|field| told(bus, field, args.values)).collect();
            let fields = fields.join(" ");
            format!("{when:>at$}  {gap:>at$}  {name:<longest$}  {kind}{sure} {fields}{faults}")
        }
    };
    line.trim_end().to_string()
}

fn row<'a>(args: &args::Frames, capture: &Capture, listed: &'a JobFrame<'_>) -> Row<'a> {
    let frame = &listed.frame;
    let named = |field| listed.bus.names().of(field);
    let fields = frame.fields.iter();
    let fields =
        fields.map(|f| format!("{}={}", f.name, named(f.name).named(&value(f, args.values), f.value)));
    Row {
        bus: listed.bus.name(),
        kind: frame.kind,
        at_s: capture.base().time_of(frame.start),
        until_s: capture.base().time_of(frame.end),
        fields: fields.collect::<Vec<_>>().join(" "),
        certain: frame.certain,
        faults: frame.faults.iter().map(|fault| fault.kind).collect(),
    }
}

fn json_line(
    args: &args::Frames,
    capture: &Capture,
    listed: &JobFrame<'_>,
    out: &mut Out,
) -> Result<(), Failure> {
    let (frame, base) = (&listed.frame, capture.base());
    let line = match args.transfers || args.exchanges {
        true => {
            let row = TransferRow::new(listed.bus, frame, listed.gap, base);
            let document = if args.exchanges { "exchange" } else { "transfer" };
            serde_json::to_string(&Document::new(document, &row))
        }
        false => serde_json::to_string(&Document::new("frame", &FrameRow::new(listed.bus, frame, base))),
    };
    out.line(line.map_err(not_json)?)
}
