//! Opening what a command looks at.

use std::io::Read;
use std::ops::Range;
use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::diagnose;
use deep_tap::event::{Meaning, Program, Scope};
use deep_tap::format::{dtap, vcd};
use deep_tap::line::LineId;
use deep_tap::quantity::{Rational, Time};
use deep_tap::setup::Setup;
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind, Place, suggest};

use crate::args::Source;
use crate::errors::Failure;
use crate::output::{progress_bar, remark};

/// A record with the setup that explains it.
pub(crate) struct Loaded {
    pub(crate) capture: Capture,
    pub(crate) setup: Option<Setup>,
}

/// Opens a capture or a value change dump, and lays the setup over it.
pub(crate) fn load(source: &Source) -> Result<Loaded, Failure> {
    let setup = source.setup.as_deref().map(Setup::from_file).transpose()?;
    let path = &source.file;
    let dump = path.as_os_str() == "-" || path.extension().is_some_and(|e| e.eq_ignore_ascii_case("vcd"));
    let (capture, tell) = if dump {
        (read_dump(path)?, true)
    } else {
        let opened = dtap::open(path)?;
        (opened.capture, opened.cut_short_at.is_some())
    };
    if tell {
        capture.remarks().iter().for_each(remark);
    }
    let mut loaded = match (setup, dump) {
        (Some(setup), true) => Loaded { capture: setup.apply(capture)?, setup: Some(setup) },
        (Some(setup), false) => Loaded { capture: relabelled(capture, &setup)?, setup: Some(setup) },
        (None, _) => {
            let setup = Setup::of_capture(&capture).transpose()?;
            Loaded { capture, setup }
        }
    };
    if let Some(setup) = &mut loaded.setup {
        diagnose::settle(&loaded.capture, setup);
    }
    Ok(loaded)
}

/// A capture under another setup: its lines by their names.
fn relabelled(capture: Capture, setup: &Setup) -> Result<Capture, Error> {
    let wanted = setup.lines.iter().map(|l| (l.line.name.clone(), l.line.clone())).collect();
    let builder = capture.into_builder().select(wanted)?;
    builder.buses(setup.buses.clone()).attachments(setup.texts.clone()).build()
}

fn read_dump(path: &Path) -> Result<Capture, Failure> {
    if path.as_os_str() == "-" {
        let mut bytes = Vec::new();
        std::io::stdin().read_to_end(&mut bytes).map_err(|e| Error::io("standard input", "read", e))?;
        return Ok(vcd::read(&bytes, Path::new("standard input"))?);
    }
    let bar = progress_bar();
    let capture = vcd::read_file_with(path, &mut |done, of| {
        bar.set_length(of);
        bar.set_position(done);
        bar.set_message("reading the dump");
    });
    bar.finish_and_clear();
    Ok(capture?)
}

/// Tells damage that was met while working.
pub(crate) fn tell_damage(capture: &Capture) {
    for damage in capture.damage() {
        let (from, to) = (time(capture, damage.ticks.start), time(capture, damage.ticks.end));
        remark(format!("damaged from {from} to {to}, taken as unknown: {}", damage.what));
    }
}

/// An instant with the digits that the record supports.
pub(crate) fn time(capture: &Capture, tick: Tick) -> String {
    capture.base().time_of(tick).rounded(capture.base().tick())
}

/// Reads a time given on the command line.
pub(crate) fn parse_time(option: &str, text: &str) -> Result<Time, Failure> {
    text.parse::<Time>().map_err(|error| {
        let told = Error::new(ErrorKind::Quantity, format!("--{option}: {}", error.message()));
        Failure::Error(told.with_help(error.help().unwrap_or("write it like '3.2184 ms'").to_string()))
    })
}

/// The tick of a place given on the command line: a time, or an event, of which it is the first
/// occurrence from `after` on. It must lie in the record (its end included).
pub(crate) fn place(loaded: &Loaded, option: &str, text: &str, after: Tick) -> Result<Tick, Failure> {
    let capture = &loaded.capture;
    let looks_like_time = text.trim_start().starts_with(|c: char| c.is_ascii_digit() || "+-.".contains(c));
    if looks_like_time {
        let at = parse_time(option, text)?;
        let position = capture.base().position_of(at).and_then(|p| u64::try_from(p).ok());
        return position.filter(|p| *p <= capture.len()).map(Tick).ok_or_else(|| {
            let (first, last) = (time(capture, Tick(0)), time(capture, Tick(capture.len())));
            let error = Error::new(ErrorKind::Unknown, format!("--{option}: {at} is outside the record"));
            Failure::Error(error.with_help(format!("the record goes from {first} to {last}")))
        });
    }
    let program = Program::compile(text, &scope(loaded))?.at(capture.base())?;
    let hit = program.hits(capture, after..Tick(capture.len())).next().map(|hit| hit.tick);
    hit.ok_or_else(|| {
        let after = if after.0 > 0 { format!(" after {}", time(capture, after)) } else { String::new() };
        let error = Error::new(
            ErrorKind::Unknown,
            format!("--{option}: '{text}' never happens in this record{after}"),
        );
        Failure::Error(error.with_help("give another event, or a time such as '3.2184 ms'"))
    })
}

/// The part of a record from one place to another; all of it otherwise.
pub(crate) fn range(
    loaded: &Loaded,
    from: Option<&String>,
    to: Option<&String>,
) -> Result<Range<Tick>, Failure> {
    let from = from.map(|text| place(loaded, "from", text, Tick(0))).transpose()?.unwrap_or(Tick(0));
    let after = Tick(from.0.saturating_add(1));
    let to = to.map(|text| place(loaded, "to", text, after)).transpose()?;
    let to = to.unwrap_or(Tick(loaded.capture.len()));
    if from >= to {
        let error = Error::new(ErrorKind::Unknown, "the range to look at is empty or upside down");
        return Err(error.with_help("--from must be before --to").into());
    }
    Ok(from..to)
}

/// The lines with these names; all when none is named.
pub(crate) fn line_ids(capture: &Capture, names: &[String]) -> Result<Vec<LineId>, Failure> {
    if names.is_empty() {
        return Ok((0..capture.lines().len()).map(LineId).collect());
    }
    Ok(names.iter().map(|name| capture.line_named(name)).collect::<Result<_, _>>()?)
}

/// The setup of a record, which must have one.
pub(crate) fn setup_of<'a>(loaded: &'a Loaded, file: &Path) -> Result<&'a Setup, Failure> {
    loaded.setup.as_ref().ok_or_else(|| {
        let error = Error::new(ErrorKind::Setup, "this record has no setup to go by");
        let help =
            "give one with --setup SETUP.toml: its lines name the signals, its sections say what they belong to";
        Failure::Error(error.with_help(help).at(Place::File(file.to_path_buf())))
    })
}

/// The serial buses of these names; all otherwise.
pub(crate) fn serial_buses<'a>(
    setup: &'a Setup,
    capture: &Capture,
    names: &[String],
) -> Result<Vec<&'a SerialBus>, Failure> {
    if setup.serial.is_empty() {
        let error = Error::new(ErrorKind::Unknown, "the setup describes no serial bus to decode");
        let help = "add one like: [[bus]] with name = \"console\", kind = \"uart\", line = \"TX\", bit-rate = \
                    \"115.2 kHz\"; another setup is used with --setup";
        return Err(error.with_help(help).into());
    }
    if names.is_empty() {
        return Ok(setup.serial.iter().collect());
    }
    let find = |name: &String| {
        setup.serial.iter().find(|bus| bus.name() == *name).ok_or_else(|| {
            let error = Error::new(ErrorKind::Unknown, format!("there is no serial bus '{name}'"));
            error.with_help(match capture.bus_named(name) {
                Some(_) => "this is a parallel bus: deep-tap show and find look at its values".to_string(),
                None => {
                    suggest(name, setup.serial.iter().map(deep_tap::decode::SerialBus::name), "serial bus")
                }
            })
        })
    };
    Ok(names.iter().map(find).collect::<Result<_, Error>>()?)
}

/// The names of the record, and the named events of its setup.
pub(crate) fn scope(loaded: &Loaded) -> Scope {
    let mut scope = Scope::of(&loaded.capture);
    for bus in loaded.setup.iter().flat_map(|setup| &setup.serial) {
        if scope.get(bus.name()).is_none() {
            scope.define(bus.name(), Meaning::Frames(bus.clone()));
        }
    }
    for (name, event) in loaded.setup.iter().flat_map(|setup| &setup.events) {
        if scope.get(name).is_none() {
            scope.define(name.clone(), Meaning::Event(event.clone()));
        }
    }
    scope
}

/// The mean of so many lengths of time, given the ticks of all together.
pub(crate) fn mean_time(capture: &Capture, ticks: u64, count: u64) -> Option<Time> {
    let mean = Rational::new(ticks.into(), count.into())?;
    Some(Time::from_rational(mean.checked_mul(capture.base().tick().to_rational())?))
}
