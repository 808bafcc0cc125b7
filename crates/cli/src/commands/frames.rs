//! `frames`: the decoded buses of a capture, one line per frame, as they are found.

use deep_tap::capture::Capture;
use deep_tap::decode::{Field, FieldKind, Frame, Frames, SerialBus};
use deep_tap::setup::Setup;
use deep_tap::time::{Tick, Time};
use deep_tap::{Error, ErrorKind, suggest};
use serde::Serialize;

use crate::Outcome;
use crate::args::{self, Format};
use crate::errors::Failure;
use crate::load::{Loaded, load, setup_of, tell_damage, tick_at, time};
use crate::output::Out;

/// A frame as JSON has it, an object a line: `at` and `until` in seconds, the rest in ticks.
#[derive(Serialize)]
struct Said<'a> {
    bus: &'a str,
    at: Time,
    until: Time,
    #[serde(flatten)]
    frame: &'a Frame,
}

/// The frames of one bus, the next of which is at hand.
struct Lane<'a> {
    bus: &'a SerialBus,
    frames: Frames<'a>,
    next: Option<Frame>,
    last_end: Option<Tick>,
}

pub(crate) fn run(args: &args::Frames, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let setup = setup_of(&loaded, &args.source.file)?;
    let from = args.from.as_ref().map(|t| tick_at(capture, "from", t)).transpose()?.unwrap_or(Tick(0));
    let to = args.to.as_ref().map(|t| tick_at(capture, "to", t)).transpose()?.unwrap_or(Tick(capture.len()));
    if from >= to {
        let error = Error::new(ErrorKind::Unknown, "the range to decode is empty or upside down");
        return Err(error.with_help("--from must be before --to").into());
    }
    let mut lanes = Vec::new();
    for bus in chosen(setup, &loaded, args)? {
        let decoder = bus.protocol.decoder(capture.base()).map_err(|error| {
            let told = Error::new(error.kind(), format!("bus '{}': {}", bus.name, error.message()));
            told.with_help(error.help().unwrap_or("see docs/setup.md").to_string())
        })?;
        let mut frames = Frames::new(capture, &bus.lines, from..to, decoder);
        let next = frames.next();
        lanes.push(Lane { bus, frames, next, last_end: None });
    }
    let mut writer = Written::new(args, capture, &lanes);
    let most = args.first.unwrap_or(u64::MAX);
    writer.head(out)?;
    while writer.count < most {
        // In order of time over all buses; of one bus, they come in that order.
        let starts = lanes.iter().enumerate().filter_map(|(n, lane)| Some((lane.next.as_ref()?.start, n)));
        let Some((_, number)) = starts.min() else { break };
        let lane = &mut lanes[number];
        let Some(frame) = std::mem::replace(&mut lane.next, lane.frames.next()) else { break };
        if !args.faults || !frame.faults.is_empty() {
            writer.frame(lane.bus, &frame, lane.last_end, out)?;
        }
        lane.last_end = Some(frame.end);
    }
    writer.foot(out)?;
    tell_damage(capture);
    Ok(if writer.count > 0 { Outcome::Done } else { Outcome::Violated })
}

/// The buses that were asked for; all otherwise.
fn chosen<'a>(setup: &'a Setup, loaded: &Loaded, args: &args::Frames) -> Result<Vec<&'a SerialBus>, Failure> {
    if setup.serial.is_empty() {
        let error = Error::new(ErrorKind::Unknown, "the setup describes no serial bus to decode");
        let help = "add one like: [[bus]] with name = \"console\", kind = \"uart\", line = \"TX\", bit-rate = \
                    \"115.2 kHz\"; another setup is used with --setup";
        return Err(error.with_help(help).into());
    }
    if args.bus.is_empty() {
        return Ok(setup.serial.iter().collect());
    }
    let find = |name: &String| {
        setup.serial.iter().find(|bus| bus.name == *name).ok_or_else(|| {
            let error = Error::new(ErrorKind::Unknown, format!("there is no serial bus '{name}'"));
            let parallel = loaded.capture.bus_named(name).is_some();
            error.with_help(match parallel {
                true => "this is a parallel bus: deep-tap show and find look at its values".to_string(),
                false => suggest(name, setup.serial.iter().map(|bus| bus.name.as_str()), "serial bus"),
            })
        })
    };
    Ok(args.bus.iter().map(find).collect::<Result<_, Error>>()?)
}

/// Writes frames as they come.
struct Written<'a> {
    format: Format,
    capture: &'a Capture,
    /// Of the longest bus name, and of a time.
    widths: (usize, usize),
    count: u64,
    faulty: u64,
}

impl<'a> Written<'a> {
    fn new(args: &args::Frames, capture: &'a Capture, lanes: &[Lane<'_>]) -> Self {
        let longest = lanes.iter().map(|lane| lane.bus.name.chars().count()).max().unwrap_or(0);
        let ends = [Tick(0), Tick(capture.len())].map(|tick| time(capture, tick).chars().count());
        let widths = (longest.max(3), ends[0].max(ends[1]).max(12));
        Written { format: args.format, capture, widths, count: 0, faulty: 0 }
    }

    fn head(&mut self, out: &mut Out) -> Result<(), Failure> {
        let (bus, at) = self.widths;
        match self.format {
            Format::Text => out.line(format!("{:>at$}  {:>at$}  {:<bus$}  frame", "at", "gap", "bus")),
            Format::Csv => out.line("at_s,end_s,bus,kind,fields,faults"),
            Format::Json => Ok(()),
        }
    }

    fn frame(
        &mut self,
        bus: &SerialBus,
        frame: &Frame,
        last: Option<Tick>,
        out: &mut Out,
    ) -> Result<(), Failure> {
        self.count += 1;
        self.faulty += u64::from(!frame.faults.is_empty());
        let base = self.capture.base();
        let (start, end) = (base.time_of(frame.start), base.time_of(frame.end));
        match self.format {
            Format::Text => {
                let (name, at) = self.widths;
                let gap = last.map_or("-".to_string(), |last| {
                    base.length_of(frame.start.since(last)).rounded(base.tick())
                });
                let fields = frame.fields.iter().map(told).collect::<Vec<_>>().join(" ");
                let faults: String =
                    frame.faults.iter().map(|fault| format!("  !! {}", fault.what)).collect();
                let when = time(self.capture, frame.start);
                let line =
                    format!("{when:>at$}  {gap:>at$}  {:<name$}  {} {fields}{faults}", bus.name, frame.kind);
                out.line(line.trim_end())
            }
            Format::Csv => {
                let fields: Vec<String> =
                    frame.fields.iter().map(|f| format!("{}={:#x}", f.name, f.value)).collect();
                let faults: Vec<&str> = frame.faults.iter().map(|fault| fault.kind).collect();
                let row = [
                    format!("{:e}", start.to_f64()),
                    format!("{:e}", end.to_f64()),
                    bus.name.clone(),
                    frame.kind.to_string(),
                    fields.join(" "),
                    faults.join(" "),
                ];
                let mut line = csv::Writer::from_writer(Vec::new());
                let written = line.write_record(row).ok().and_then(|()| line.into_inner().ok());
                Ok(out.writer().write_all(&written.unwrap_or_default())?)
            }
            Format::Json => {
                let said = Said { bus: &bus.name, at: start, until: end, frame };
                let line = serde_json::to_string(&said).map_err(|e| {
                    Error::new(ErrorKind::Io, "the frame cannot be written as JSON").with_source(e)
                })?;
                out.line(line)
            }
        }
    }

    fn foot(&self, out: &mut Out) -> Result<(), Failure> {
        if self.format != Format::Text {
            return Ok(());
        }
        let frames = if self.count == 1 { "frame" } else { "frames" };
        let faults = match self.faulty {
            0 => "none with a fault".to_string(),
            faulty => format!("{faulty} with a fault"),
        };
        out.line(format!("\n{} {frames}, {faults}", self.count))
    }
}

/// A field in words: its name and value, and the character that a byte may be.
fn told(field: &Field) -> String {
    if field.kind == FieldKind::Control && field.bits == 1 {
        return field.name.to_string();
    }
    let digits = field.bits.div_ceil(4) as usize + 2;
    let value = format!("{:#0digits$X}", field.value).replace("0X", "0x");
    match u8::try_from(field.value) {
        Ok(byte @ 0x20..=0x7e) if field.kind == FieldKind::Data && (7..=8).contains(&field.bits) => {
            format!("{}={value} '{}'", field.name, char::from(byte))
        }
        _ => format!("{}={value}", field.name),
    }
}
