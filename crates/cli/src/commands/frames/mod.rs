//! `frames`: the decoded buses of a capture, one line per frame, as they are found.

mod beside;
mod rows;
mod summary;
mod table;

use std::ops::Range;
use std::path::Path;

use deep_tap::Error;
use deep_tap::bus::{Field, FieldKind, Frame};
use deep_tap::capture::Capture;
use deep_tap::decode::{Frames, SerialBus};
use deep_tap::event::FrameTests;
use deep_tap::time::Tick;

use crate::Outcome;
use crate::args::{self, Values};
use crate::commands::diagnose;
use crate::errors::Failure;
use crate::load::{Loaded, load, range, serial_buses, setup_of, tell_damage};
use crate::output::Out;

/// The frames of one bus, the next of which is at hand.
struct Lane<'a> {
    bus: &'a SerialBus,
    frames: Frames<'a>,
    next: Option<Frame>,
    last_end: Option<Tick>,
}

/// A frame that was asked for.
struct Listed<'a> {
    bus: &'a SerialBus,
    frame: Frame,
    /// Ticks since the frame before it on its bus, which need not have been asked for.
    gap: Option<i64>,
}

/// All buses in order of time.
struct Listing<'a> {
    args: &'a args::Frames,
    capture: &'a Capture,
    buses: Vec<&'a SerialBus>,
    /// Ticks that are looked at.
    ticks: u64,
    lanes: Vec<Lane<'a>>,
    tests: Option<FrameTests>,
    left: u64,
}

impl<'a> Listing<'a> {
    fn new(args: &'a args::Frames, loaded: &'a Loaded, buses: Vec<&'a SerialBus>) -> Result<Self, Failure> {
        let capture = &loaded.capture;
        let Range { start: from, end: to } = range(loaded, args.from.as_ref(), args.to.as_ref())?;
        let lane = |bus: &&'a SerialBus| {
            let mut frames = bus.frames(capture, from..to)?;
            let next = frames.next();
            Ok(Lane { bus, frames, next, last_end: None })
        };
        let lanes = buses.iter().map(lane).collect::<Result<Vec<_>, Error>>()?;
        let tests = args.has.as_deref().map(FrameTests::parse).transpose()?;
        let left = args.first.unwrap_or(u64::MAX);
        Ok(Listing { args, capture, buses, ticks: to.0 - from.0, lanes, tests, left })
    }
}

impl<'a> Iterator for Listing<'a> {
    type Item = Listed<'a>;

    fn next(&mut self) -> Option<Listed<'a>> {
        while self.left > 0 {
            // In order of time over all buses; of one bus, they come in that order.
            let lanes = self.lanes.iter().enumerate();
            let starts = lanes.filter_map(|(number, lane)| Some((lane.next.as_ref()?.start, number)));
            let (_, number) = starts.min()?;
            let lane = &mut self.lanes[number];
            let frame = std::mem::replace(&mut lane.next, lane.frames.next())?;
            let gap = lane.last_end.replace(frame.end).map(|last| frame.start.since(last));
            let wanted = self.tests.as_ref().is_none_or(|tests| tests.are_met_by(&frame));
            if wanted && (!self.args.faults || !frame.faults.is_empty()) {
                self.left -= 1;
                return Some(Listed { bus: lane.bus, frame, gap });
            }
        }
        None
    }
}

pub(crate) fn run(args: &args::Frames, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let (count, buses) = list(args, &loaded, out)?;
    out.finish()?;
    diagnose::tell(&loaded.capture, &buses);
    tell_damage(&loaded.capture);
    Ok(if count > 0 { Outcome::Done } else { Outcome::Violated })
}

/// Writes what was asked for: how many frames there were, and of which buses.
pub(crate) fn list<'a>(
    args: &'a args::Frames,
    loaded: &'a Loaded,
    out: &mut Out,
) -> Result<(u64, Vec<&'a SerialBus>), Failure> {
    let capture = &loaded.capture;
    let setup = setup_of(loaded, &args.source.file)?;
    let buses = asked(args, serial_buses(setup, capture, &args.bus)?)?;
    let listing = Listing::new(args, loaded, buses.clone())?;
    let count = match () {
        () if args.table.is_some() => {
            let path = args.table.as_deref().unwrap_or(Path::new(""));
            let count = table::write(listing, path, args.replace)?;
            let frames = if count == 1 { "frame" } else { "frames" };
            out.line(format!("{count} {frames} saved to {}", path.display()))?;
            count
        }
        () if args.summary => summary::write(listing, out)?,
        () if args.beside => beside::write(listing, out)?,
        () if args.count => {
            let count = listing.count() as u64;
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
        match tests.check(bus.protocol().words()) {
            Ok(()) => known.push(bus),
            Err(error) => unknown = unknown.or(Some(error)),
        }
    }
    match unknown.filter(|_| known.is_empty()) {
        Some(error) => Err(error.into()),
        None => Ok(known),
    }
}

/// A field in words: its name and value, and the character that a byte may be.
fn told(field: &Field, values: Values) -> String {
    if field.kind == FieldKind::Control && field.bits == 1 {
        return field.name.to_string();
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
