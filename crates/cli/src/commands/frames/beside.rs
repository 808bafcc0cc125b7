//! The buses side by side: a column for each, and in it what follows without a rest.

use deep_tap::bus::Frame;
use deep_tap::capture::Capture;
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use super::rows::time_width;
use super::{JobFrame, Listing, told, value};
use crate::args::{self, Format, Values};
use crate::errors::Failure;
use crate::output::Out;
use crate::words::counted;

/// Most values in a row.
const MOST_VALUES: usize = 12;
/// Columns of a bus.
const WIDTH: usize = 56;

/// What follows on one bus without a rest.
struct Run {
    start: Tick,
    /// The length of the last frame, and its end.
    last: (u64, Tick),
    values: Vec<String>,
    text: String,
    faults: u64,
}

/// Writes frames as they come; how many.
pub(super) fn write(listing: Listing<'_>, out: &mut Out) -> Result<u64, Failure> {
    let (args, capture, buses) = (listing.args, listing.capture, listing.buses.clone());
    if args.format != Format::Text {
        let error = Error::new(ErrorKind::Unknown, "--beside writes text only");
        return Err(error.with_help("CSV and JSON have the bus in a column of its own").into());
    }
    let mut columns = Columns { args, capture, at: time_width(capture), open: Vec::new() };
    columns.open.resize_with(buses.len(), || None);
    let head: String = buses.iter().map(|bus| format!("  {:<WIDTH$}", bus.name())).collect();
    out.line(format!("{:>at$}{head}", "at", at = columns.at).trim_end())?;
    let mut count = 0;
    for listed in listing {
        count += 1;
        let place = buses.iter().position(|bus| std::ptr::eq(*bus, listed.bus)).unwrap_or(0);
        columns.take(place, &listed, out)?;
    }
    columns.close_up_to(Tick(u64::MAX), out)?;
    out.line(format!("\n{}", counted(count, "frame")))?;
    Ok(count)
}

struct Columns<'a> {
    args: &'a args::Frames,
    capture: &'a Capture,
    at: usize,
    open: Vec<Option<Run>>,
}

impl Columns<'_> {
    fn take(&mut self, place: usize, listed: &JobFrame<'_>, out: &mut Out) -> Result<(), Failure> {
        let frame = &listed.frame;
        let length = frame.end.0.saturating_sub(frame.start.0);
        let goes_on = |run: &Run| {
            frame.start.0 <= run.last.1.0.saturating_add(2 * run.last.0) && run.values.len() < MOST_VALUES
        };
        if let Some(run) = &self.open[place]
            && !goes_on(run)
        {
            let start = run.start;
            self.close_up_to(start, out)?;
        }
        let single = single(frame);
        let run = self.open[place].get_or_insert_with(|| Run {
            start: frame.start,
            last: (length, frame.end),
            values: Vec::new(),
            text: String::new(),
            faults: 0,
        });
        run.last = (length, frame.end);
        run.faults += frame.faults.len() as u64;
        match single {
            true => {
                let field = &frame.fields[0];
                run.values.push(value(field, self.args.values).trim_start_matches("0x").to_string());
                run.text.push(field.character().unwrap_or('.'));
            }
            false => {
                let fields: Vec<String> =
                    frame.fields.iter().map(|f| told(listed.bus, f, self.args.values)).collect();
                run.values.push(format!("{} {}", frame.kind, fields.join(" ")));
                // It fills the row alone.
                let start = run.start;
                self.close_up_to(start, out)?;
            }
        }
        Ok(())
    }

    /// Writes the runs that began up to a tick, in order of time.
    fn close_up_to(&mut self, until: Tick, out: &mut Out) -> Result<(), Failure> {
        loop {
            let open = self.open.iter().enumerate();
            let first = open.filter_map(|(place, run)| Some((run.as_ref()?.start, place))).min();
            let Some((start, place)) = first.filter(|(start, _)| *start <= until) else { return Ok(()) };
            let Some(run) = self.open[place].take() else { return Ok(()) };
            let mut cell = run.values.join(if self.args.values == Values::Text { "" } else { " " });
            if !run.text.is_empty() && self.args.values != Values::Text {
                cell = format!("{cell}  '{}'", run.text);
            }
            if run.faults > 0 {
                cell.push_str(&format!("  !! {} faulty", run.faults));
            }
            let blank = " ".repeat(place * (WIDTH + 2));
            let when = self.capture.base().text_of(start);
            out.line(format!("{when:>at$}{blank}  {cell}", at = self.at))?;
        }
    }
}

/// Whether a frame is no more than one value of data.
fn single(frame: &Frame) -> bool {
    matches!(frame.kind, "byte" | "word") && frame.fields.first().is_some_and(|field| field.name == "data")
}
