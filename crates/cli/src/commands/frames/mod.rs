//! `frames`: the decoded buses of a capture, one line per frame, as they are found.

mod beside;
mod rows;
mod summary;
mod table;
mod transfer;

use std::path::Path;

use deep_tap::bus::{Field, FieldKind};
use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::event::{FrameMatcher, FrameTests};
use deep_tap::job::{Job, JobFrame, JobFrames};
use deep_tap::time::Tick;

use crate::Outcome;
use crate::args::{self, Values};
use crate::commands::diagnose;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Out, Working};
use crate::words;

/// All buses in order of time.
struct Listing<'a> {
    args: &'a args::Frames,
    capture: &'a Capture,
    buses: Vec<&'a SerialBus>,
    /// Ticks that are looked at.
    ticks: u64,
    frames: JobFrames<'a>,
    /// The tests, for each of the buses.
    tests: Option<Vec<FrameMatcher>>,
    /// What ends before this was read only to know what came before.
    from: Tick,
    left: u64,
}

impl<'a> Listing<'a> {
    fn new(args: &'a args::Frames, loaded: &'a Job, buses: Vec<&'a SerialBus>) -> Result<Self, Failure> {
        let range = args.window.of(loaded)?;
        let ticks = range.end.0 - range.start.0;
        let from = range.start;
        let tests = args.has.as_deref().map(FrameTests::parse).transpose()?;
        // Values in a row may have begun before.
        let begin = if tests.as_ref().is_some_and(FrameTests::look_back) { Tick(0) } else { from };
        let frames = match args.transfers {
            true => loaded.transfers(&buses, begin..range.end)?,
            false => loaded.frames(&buses, begin..range.end)?,
        };
        let matching = |tests: FrameTests| {
            let stream = |bus: &&SerialBus| bus.protocol().is_stream() && !args.transfers;
            let of = |bus: &&SerialBus| tests.named(bus.names()).map(|tests| tests.matching(stream(bus)));
            buses.iter().map(of).collect::<Result<Vec<_>, _>>()
        };
        let tests = tests.map(matching).transpose()?;
        let left = args.first.unwrap_or(u64::MAX);
        Ok(Listing { args, capture: &loaded.capture, buses, ticks, frames, tests, from, left })
    }
}

impl<'a> Iterator for Listing<'a> {
    type Item = JobFrame<'a>;

    fn next(&mut self) -> Option<JobFrame<'a>> {
        if self.left == 0 {
            return None;
        }
        let (tests, buses, faults, from) = (&mut self.tests, &self.buses, self.args.faults, self.from);
        let found = self.frames.find(|JobFrame { bus, frame, .. }| {
            let place = buses.iter().position(|own| std::ptr::eq(*own, *bus)).unwrap_or(0);
            let met = tests.as_mut().is_none_or(|tests| tests[place].meets(frame));
            let inside = frame.end > from || frame.start >= from;
            met && inside && (!faults || !frame.faults.is_empty())
        })?;
        self.left -= 1;
        Some(found)
    }
}

pub(crate) fn run(args: &args::Frames, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let (count, buses) = list(args, &loaded, out)?;
    out.finish()?;
    if !args.exchanges {
        diagnose::tell(&loaded.capture, &buses, &args.source.file);
    }
    tell_damage(&loaded.capture);
    Ok(if count > 0 { Outcome::Done } else { Outcome::Violated })
}

/// Writes what was asked for: how many frames there were, and of which buses.
pub(crate) fn list<'a>(
    args: &'a args::Frames,
    loaded: &'a Job,
    out: &mut Out,
) -> Result<(u64, Vec<&'a SerialBus>), Failure> {
    let known = if args.exchanges { loaded.exchanges(&args.bus)? } else { loaded.buses(&args.bus)? };
    let buses = asked(args, known)?;
    let listing = Listing::new(args, loaded, buses.clone())?;
    let count = match () {
        () if args.table.is_some() => {
            let path = args.table.as_deref().unwrap_or(Path::new(""));
            let count = table::write(listing, path, args.replace)?;
            let frames = counted(args, count);
            out.line(format!("{frames} saved to {}", path.display()))?;
            count
        }
        () if args.summary => summary::write(listing, out)?,
        () if args.beside => beside::write(listing, out)?,
        () if args.count => {
            let working = Working::on("reading the buses");
            let count = listing.count() as u64;
            drop(working);
            out.line(count.to_string())?;
            count
        }
        () => rows::write(listing, out)?,
    };
    Ok((count, buses))
}

/// The buses that know the words that are asked for; an error when none does.
fn asked<'a>(args: &args::Frames, buses: Vec<&'a SerialBus>) -> Result<Vec<&'a SerialBus>, Failure> {
    let Some(tests) = args.has.as_deref() else { return Ok(buses) };
    let tests = FrameTests::parse(tests)?;
    let mut unknown = None;
    let mut known = Vec::new();
    for bus in buses {
        let checked = match args.transfers {
            true => tests.of_transfers(bus),
            false => tests.of(bus),
        };
        match checked {
            Ok(_) => known.push(bus),
            Err(error) => unknown = unknown.or(Some(error)),
        }
    }
    match unknown.filter(|_| known.is_empty()) {
        Some(error) => Err(error.into()),
        None => Ok(known),
    }
}

/// So many frames, or transfers, in words.
fn counted(args: &args::Frames, count: u64) -> String {
    let what = match args.transfers {
        true => "transfer",
        false if args.exchanges => "exchange",
        false => "frame",
    };
    words::counted(count, what)
}

/// A field in words: its name and value, and the name of that, or the character that a byte may be.
fn told(bus: &SerialBus, field: &Field, values: Values) -> String {
    if field.kind == FieldKind::Control && field.bits == 1 {
        return field.name.to_string();
    }
    if let Some(name) = bus.names().name_of(field) {
        return format!("{}={} ({name})", field.name, value(field, values));
    }
    match field.character().filter(|_| values == Values::Hex) {
        Some(character) => format!("{}={} '{character}'", field.name, value(field, values)),
        None => format!("{}={}", field.name, value(field, values)),
    }
}

/// The value of a field.
fn value(field: &Field, values: Values) -> String {
    match values {
        Values::Decimal => field.value.to_string(),
        Values::Binary => format!("0b{:0bits$b}", field.value, bits = field.bits as usize),
        Values::Text if field.kind == FieldKind::Data => match field.character() {
            Some(character) => character.to_string(),
            None => format!("\\x{:02x}", field.value),
        },
        Values::Hex | Values::Text => field.hex(),
    }
}
