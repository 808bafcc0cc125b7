//! One line per frame.

use deep_tap::bus::Frame;
use deep_tap::capture::Capture;
use deep_tap::quantity::Time;
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use super::{JobFrame, Listing, told, value};
use crate::args::{self, Format};
use crate::errors::Failure;
use crate::output::Out;
use crate::said;

/// A frame as JSON has it, an object a line: `at` and `until` in seconds, the rest in ticks.
#[derive(Serialize)]
struct Said<'a> {
    bus: &'a str,
    at: Time,
    until: Time,
    #[serde(flatten, serialize_with = "said::frames::frame")]
    frame: &'a Frame,
}

/// Writes frames as they come; how many.
pub(super) fn write(listing: Listing<'_>, out: &mut Out) -> Result<u64, Failure> {
    let (args, capture) = (listing.args, listing.capture);
    let longest = listing.buses.iter().map(|bus| bus.name().chars().count()).max().unwrap_or(0).max(3);
    let at = time_width(capture);
    match args.format {
        Format::Text => out.line(format!("{:>at$}  {:>at$}  {:<longest$}  frame", "at", "gap", "bus"))?,
        Format::Csv => out.line("at_s,end_s,bus,kind,fields,faults")?,
        Format::Json => {}
    }
    let (mut count, mut faulty) = (0u64, 0u64);
    for listed in listing {
        count += 1;
        faulty += u64::from(!listed.frame.faults.is_empty());
        match args.format {
            Format::Text => out.line(text(args, capture, &listed, (at, longest)))?,
            Format::Csv => csv_row(args, capture, &listed, out)?,
            Format::Json => json_line(capture, &listed, out)?,
        }
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

fn csv_row(
    args: &args::Frames,
    capture: &Capture,
    listed: &JobFrame<'_>,
    out: &mut Out,
) -> Result<(), Failure> {
    let frame = &listed.frame;
    let fields: Vec<String> =
        frame.fields.iter().map(|f| format!("{}={}", f.name, value(f, args.values))).collect();
    let faults: Vec<&str> = frame.faults.iter().map(|fault| fault.kind).collect();
    let seconds = |tick| format!("{:e}", capture.base().time_of(tick).to_f64());
    let row = [
        seconds(frame.start),
        seconds(frame.end),
        listed.bus.name().to_string(),
        frame.kind.to_string(),
        fields.join(" "),
        faults.join(" "),
    ];
    let mut line = csv::Writer::from_writer(Vec::new());
    let written = line.write_record(row).ok().and_then(|()| line.into_inner().ok());
    Ok(out.writer().write_all(&written.unwrap_or_default())?)
}

fn json_line(capture: &Capture, listed: &JobFrame<'_>, out: &mut Out) -> Result<(), Failure> {
    let JobFrame { bus, frame, .. } = listed;
    let (at, until) = (capture.base().time_of(frame.start), capture.base().time_of(frame.end));
    let said = Said { bus: bus.name(), at, until, frame };
    let line = serde_json::to_string(&said)
        .map_err(|e| Error::new(ErrorKind::Io, "the frame cannot be written as JSON").with_source(e))?;
    out.line(line)
}
