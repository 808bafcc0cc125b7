//! One line per frame.

use deep_tap::capture::Capture;
use deep_tap::quantity::Time;
use deep_tap::time::Tick;
use serde::Serialize;

use super::{JobFrame, Listing, told, value};
use crate::args::{self, Format};
use crate::contract::frames::FrameRow;
use crate::contract::{Document, Rows};
use crate::errors::Failure;
use crate::output::{Out, not_json};

/// A row of the table. Its fields are in words, as they were asked for.
#[derive(Serialize)]
struct Row<'a> {
    bus: &'a str,
    kind: &'a str,
    at_s: Time,
    until_s: Time,
    fields: String,
    faults: Vec<&'a str>,
}

const COLUMNS: &[&str] = &["bus", "kind", "at_s", "until_s", "fields", "faults"];

/// Writes frames as they come; how many.
pub(super) fn write(listing: Listing<'_>, out: &mut Out) -> Result<u64, Failure> {
    let (args, capture) = (listing.args, listing.capture);
    let longest = listing.buses.iter().map(|bus| bus.name().chars().count()).max().unwrap_or(0).max(3);
    let at = time_width(capture);
    match args.format {
        Format::Text => out.line(format!("{:>at$}  {:>at$}  {:<longest$}  frame", "at", "gap", "bus"))?,
        Format::Csv | Format::Json => {}
    }
    let mut rows = Rows::new(COLUMNS)?;
    let (mut count, mut faulty) = (0u64, 0u64);
    for listed in listing {
        count += 1;
        faulty += u64::from(!listed.frame.faults.is_empty());
        match args.format {
            Format::Text => out.line(text(args, capture, &listed, (at, longest)))?,
            Format::Csv => {
                rows.row(&row(args, capture, &listed))?;
                out.writer().write_all(&rows.take()?)?;
            }
            Format::Json => json_line(capture, &listed, out)?,
        }
    }
    if count == 0 && args.format == Format::Csv {
        out.writer().write_all(&rows.take()?)?;
    }
    if args.format == Format::Text {
        let frames = if count == 1 { "frame" } else { "frames" };
        let faults = match faulty {
            0 => "none with a fault".to_string(),
            faulty => format!("{faulty} with a fault"),
        };
        out.line(format!("\n{count} {frames}, {faults}"))?;
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
    let fields: Vec<String> = frame.fields.iter().map(|field| told(field, args.values)).collect();
    let faults: String = frame.faults.iter().map(|fault| format!("  !! {}", fault.what)).collect();
    let (when, fields) = (capture.base().text_of(frame.start), fields.join(" "));
    let line = format!("{when:>at$}  {gap:>at$}  {:<longest$}  {} {fields}{faults}", bus.name(), frame.kind);
    line.trim_end().to_string()
}

fn row<'a>(args: &args::Frames, capture: &Capture, listed: &'a JobFrame<'_>) -> Row<'a> {
    let frame = &listed.frame;
    let fields = frame.fields.iter().map(|f| format!("{}={}", f.name, value(f, args.values)));
    Row {
        bus: listed.bus.name(),
        kind: frame.kind,
        at_s: capture.base().time_of(frame.start),
        until_s: capture.base().time_of(frame.end),
        fields: fields.collect::<Vec<_>>().join(" "),
        faults: frame.faults.iter().map(|fault| fault.kind).collect(),
    }
}

fn json_line(capture: &Capture, listed: &JobFrame<'_>, out: &mut Out) -> Result<(), Failure> {
    let row = FrameRow::new(listed.bus.name(), &listed.frame, capture.base());
    out.line(serde_json::to_string(&Document::new("frame", &row)).map_err(not_json)?)
}
