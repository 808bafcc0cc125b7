//! Reading a value change dump.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use vcd::{Command, IdCode, ReferenceIndex, ScopeItem, TimescaleUnit, Value, VarType};

use super::note::Note;
use crate::capture::{Capture, Origin, Trace, TraceBuilder};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::line::{Bus, Level, Line, LineId};
use crate::quantity::{Rational, Time};
use crate::time::{MAX_TICKS, Resolution, Tick, TimeBase};

/// Widest vector that is taken apart into lines.
const WIDEST: u32 = 4096;
/// Most lines that a file may declare.
const MOST_LINES: usize = 1 << 18;

/// Reads a file.
///
/// # Errors
/// As [`read`], and when the file cannot be read.
pub fn read_file(path: &Path) -> Result<Capture> {
    read_file_with(path, &mut |_, _| ())
}

/// Reads a file, and tells `progress` now and then how many bytes of how many are done.
///
/// # Errors
/// As [`read_file`].
pub fn read_file_with(path: &Path, progress: &mut dyn FnMut(u64, u64)) -> Result<Capture> {
    let bytes = std::fs::read(path).map_err(|e| Error::io(path, "read", e))?;
    read_with(&bytes, path, progress)
}

/// Reads a value change dump; `name` is for messages.
///
/// # Errors
/// [`ErrorKind::Capture`] with the line, when the text is not a value change dump, declares no
/// signals, holds no values, or its time runs backwards.
pub fn read(bytes: &[u8], name: &Path) -> Result<Capture> {
    read_with(bytes, name, &mut |_, _| ())
}

fn read_with(bytes: &[u8], name: &Path, progress: &mut dyn FnMut(u64, u64)) -> Result<Capture> {
    // The parser wants white space after the last word, which a file need not end with.
    let source: Source<'_> = std::io::Read::chain(bytes, &b"\n"[..]);
    let mut parser = vcd::Parser::new(source);
    let header = parser.parse_header().map_err(|e| parse_error(name, &e))?;
    let mut signals = Signals::default();
    signals.collect(&header.items, "", name)?;
    if signals.lines.is_empty() {
        let message = "this file declares no digital signals";
        let help = "dump at least one wire or register ($dumpvars) in the simulation";
        return Err(Error::new(ErrorKind::Capture, message).with_help(help).at(Place::File(name.into())));
    }
    let note = signals.note.take().transpose().map_err(|e: Error| e.at(Place::File(name.into())))?;
    let scale = time_scale(header.timescale);
    let divisor = common_divisor(bytes);
    let mut record = Record { divisor, ..Record::new(signals.width_total) };
    // PERF: one thread parses while this one fills the traces, which takes about as long.
    let (sender, receiver) = std::sync::mpsc::sync_channel::<Vec<Parsed>>(4);
    std::thread::scope(|scope| {
        scope.spawn(move || {
            loop {
                let batch: Vec<Parsed> =
                    std::iter::from_fn(|| Parsed::next(&mut parser)).take(BATCH).collect();
                // Nobody listens any more once an error was found.
                if batch.is_empty() || sender.send(batch).is_err() {
                    return;
                }
            }
        });
        for batch in receiver {
            if let Some(last) = batch.last() {
                progress(bytes.len() as u64 - last.left, bytes.len() as u64);
            }
            for Parsed { command, line, .. } in batch {
                let command = command.map_err(|e| parse_error(name, &e))?;
                record.take(command, &signals).map_err(|Backwards { from, to }| {
                    let message = format!("time runs backwards, from {from} to {to}");
                    Error::new(ErrorKind::Capture, message)
                        .with_help("the file is damaged, or two simulations wrote into it")
                        .at(Place::FileLine { path: name.into(), line })
                })?;
            }
        }
        Ok::<(), Error>(())
    })?;
    if record.time / record.divisor >= MAX_TICKS {
        let message = format!("its last time, {}, is beyond what a capture can hold", record.time);
        return Err(Error::new(ErrorKind::Range, message).at(Place::File(name.into())));
    }
    if record.changes == 0 {
        let help = "the simulation ended before anything was dumped";
        let message = "this file declares signals, but no values";
        return Err(Error::new(ErrorKind::Capture, message).with_help(help).at(Place::File(name.into())));
    }
    signals.noted = note.is_some();
    let dump = build(record, signals, scale, name)?;
    match note {
        Some(note) => note.apply(dump).map_err(|e| e.at(Place::File(name.into()))),
        None => Ok(dump),
    }
}

/// Commands that go from one thread to the other at once.
const BATCH: usize = 1 << 12;

/// One command of the file.
struct Parsed {
    command: std::io::Result<Command>,
    /// The line it ends in, and the bytes that are left to read.
    line: u64,
    left: u64,
}

impl Parsed {
    fn next(parser: &mut vcd::Parser<Source<'_>>) -> Option<Parsed> {
        let command = parser.next()?;
        let line = parser.line();
        let (bytes, _) = parser.reader().get_ref();
        Some(Parsed { command, line, left: bytes.len() as u64 })
    }
}

/// The file, and the white space that the parser wants after the last word.
type Source<'a> = std::io::Chain<&'a [u8], &'static [u8]>;

fn build(record: Record, signals: Signals, scale: Rational, name: &Path) -> Result<Capture> {
    let located = |e: Error| e.at(Place::File(name.into()));
    let too_long = || Error::new(ErrorKind::Range, "the times in this file are too long to count");
    let divisor = Rational::new(i128::from(record.divisor), 1).ok_or_else(too_long)?;
    let tick = scale.checked_mul(divisor).ok_or_else(too_long).map_err(located)?;
    let base = TimeBase::from_tick(Time::from_rational(tick)).map_err(located)?;
    let on_grid = record.looks_sampled();
    let (traces, len) = record.finish();
    let traces: Vec<Arc<Trace>> = traces.into_iter().map(Arc::new).collect();
    let origin = Origin { source: format!("simulation {}", name.display()), ..Origin::default() };
    let mut builder = Capture::builder(base, len).resolution(Resolution::EXACT).origin(origin);
    for (line, trace) in signals.lines {
        builder = builder.line(line, Arc::clone(&traces[trace]));
    }
    for bus in signals.buses {
        builder = builder.bus(bus);
    }
    for remark in signals.remarks {
        builder = builder.remark(remark);
    }
    if on_grid && !signals.noted {
        let rate = base.rate();
        builder = builder.remark(format!(
            "taken as exact, as a simulation is, though all changes lie on a grid of {}: if an instrument recorded it, \
             say so with --sampled '{rate}', or in the setup with rate = \"{rate}\" in [import]",
            base.tick()
        ));
    }
    builder.build().map_err(located)
}

fn parse_error(name: &Path, error: &std::io::Error) -> Error {
    let inner = error.get_ref().and_then(|e| e.downcast_ref::<vcd::ParseError>());
    match inner {
        Some(inner) => {
            let message = format!("this is not a value change dump: {}", inner.kind());
            let help = "the text must follow IEEE 1364, clause 18";
            let place = Place::FileLine { path: name.into(), line: inner.line() };
            Error::new(ErrorKind::Capture, message).with_help(help).at(place)
        }
        None if error.kind() == std::io::ErrorKind::UnexpectedEof => {
            let help = "it was cut off, or it is not a value change dump";
            Error::new(ErrorKind::Capture, "the file ends in the middle")
                .with_help(help)
                .at(Place::File(name.into()))
        }
        None => Error::new(ErrorKind::Io, format!("cannot read: {error}")).at(Place::File(name.into())),
    }
}

/// Seconds per unit of the file's times; a file without a time scale counts in nanoseconds.
fn time_scale(scale: Option<(u32, TimescaleUnit)>) -> Rational {
    let (count, unit) = scale.unwrap_or((1, TimescaleUnit::NS));
    let second = i128::from(unit.divisor());
    Rational::new(i128::from(count.max(1)), second).unwrap_or(Rational::ONE)
}

/// The greatest common divisor of all times in the file.
///
/// Looks at everything that reads like a time, also inside comments: too many numbers can only
/// make the divisor smaller, and any common divisor is exact.
fn common_divisor(bytes: &[u8]) -> u64 {
    let mut divisor = 0;
    for at in memchr::memchr_iter(b'#', bytes) {
        // A time is a word of its own; after a vector or real value comes an identifier, which may
        // begin with '#', too.
        let before = bytes[..at].trim_ascii_end();
        let word = before.iter().rposition(u8::is_ascii_whitespace).map_or(0, |space| space + 1);
        let identifier = matches!(before.get(word), Some(b'b' | b'B' | b'r' | b'R'));
        if identifier || (before.len() == at && at > 0) {
            continue;
        }
        let mut digits = bytes[at + 1..].iter().take_while(|byte| byte.is_ascii_digit());
        let time =
            digits.try_fold(0u64, |time, digit| time.checked_mul(10)?.checked_add(u64::from(digit - b'0')));
        // Nearly always, what divides those before divides this one.
        if let Some(time) = time.filter(|time| divisor == 0 || !time.is_multiple_of(divisor)) {
            divisor =
                if divisor == 0 { time } else { crate::quantity::gcd(divisor.into(), time.into()) as u64 };
            if divisor == 1 {
                break;
            }
        }
    }
    divisor.max(1)
}

/// The declared signals.
#[derive(Default)]
struct Signals {
    /// Each line with the number of its trace; aliases share one.
    lines: Vec<(Line, usize)>,
    buses: Vec<Bus>,
    codes: HashMap<IdCode, Declared>,
    names: HashMap<String, u32>,
    width_total: usize,
    remarks: Vec<String>,
    set_aside: Vec<String>,
    /// What the dump says of its record, if it was written here.
    note: Option<Result<Note>>,
    noted: bool,
}

#[derive(Clone, Copy)]
struct Declared {
    /// Trace of the least significant bit; the others follow.
    first: usize,
    width: u32,
}

impl Signals {
    fn collect(&mut self, items: &[ScopeItem], path: &str, name: &Path) -> Result<()> {
        // An explicit stack: a hostile file may nest scopes deeper than ours.
        let mut open: Vec<(&[ScopeItem], String)> = vec![(items, path.to_string())];
        while let Some((items, path)) = open.pop() {
            let join = |name: &str| if path.is_empty() { name.to_string() } else { format!("{path}.{name}") };
            for item in items {
                match item {
                    ScopeItem::Scope(scope) => open.push((&scope.items, join(&scope.identifier))),
                    ScopeItem::Var(var) => self.declare(var, join(&var.reference)),
                    ScopeItem::Comment(comment) if self.note.is_none() => self.note = Note::read(comment),
                    _ => {}
                }
                if self.lines.len() > MOST_LINES {
                    let message = format!("this file declares more than {MOST_LINES} lines");
                    let help = "dump fewer signals in the simulation";
                    return Err(Error::new(ErrorKind::Capture, message)
                        .with_help(help)
                        .at(Place::File(name.into())));
                }
            }
        }
        if !self.set_aside.is_empty() {
            let named = self.set_aside.len().min(6);
            let mut list = self.set_aside[..named].join(", ");
            if named < self.set_aside.len() {
                list.push_str(&format!(" and {} more", self.set_aside.len() - named));
            }
            self.remarks.push(format!("set aside, since they are not digital: {list}"));
        }
        Ok(())
    }

    fn declare(&mut self, var: &vcd::Var, mut path: String) {
        let digital =
            !matches!(var.var_type, VarType::Real | VarType::String | VarType::Event | VarType::Parameter);
        if !digital || var.size == 0 || var.size > WIDEST {
            if !matches!(var.var_type, VarType::Event | VarType::Parameter) {
                self.set_aside.push(path);
            }
            return;
        }
        let declared = *self.codes.entry(var.code).or_insert_with(|| {
            let declared = Declared { first: self.width_total, width: var.size };
            self.width_total += var.size as usize;
            declared
        });
        if let Some(ReferenceIndex::BitSelect(bit)) = var.index {
            path = format!("{path}[{bit}]");
        }
        // The same name twice in one scope: keep both apart.
        let seen = self.names.entry(path.clone()).or_insert(0);
        *seen += 1;
        if *seen > 1 {
            path = format!("{path}#{seen}");
        }
        if declared.width == 1 && var.size == 1 {
            let range = matches!(var.index, Some(ReferenceIndex::Range(..)));
            let path = if range { format!("{path}[0]") } else { path };
            self.lines.push((Line::named(path), declared.first));
            return;
        }
        let width = var.size.min(declared.width);
        let (msb, lsb) = match var.index {
            Some(ReferenceIndex::Range(msb, lsb)) => (i64::from(msb), i64::from(lsb)),
            _ => (i64::from(width) - 1, 0),
        };
        let step = if msb >= lsb { 1 } else { -1 };
        let mut ids = Vec::new();
        for bit in (0..width).rev() {
            let index = lsb + step * i64::from(bit);
            ids.push(LineId(self.lines.len()));
            self.lines.push((Line::named(format!("{path}[{index}]")), declared.first + bit as usize));
        }
        match Bus::new(path.clone(), ids) {
            Ok(bus) => self.buses.push(bus),
            Err(_) => {
                self.remarks.push(format!("{path} is wider than 64 bits: its lines are there, but no bus"));
            }
        }
    }
}

struct Backwards {
    from: u64,
    to: u64,
}

/// The traces while they are read.
struct Record {
    divisor: u64,
    /// Per trace: what the file has said so far; nothing yet at first.
    traces: Vec<Option<TraceBuilder>>,
    /// Per trace: the level at the present time, if it changed.
    pending: Vec<Option<Level>>,
    changed: Vec<usize>,
    time: u64,
    changes: u64,
    /// How many times have a change.
    times: u64,
    begun: bool,
}

impl Record {
    fn new(traces: usize) -> Self {
        Record {
            divisor: 1,
            traces: (0..traces).map(|_| None).collect(),
            pending: vec![None; traces],
            changed: Vec::new(),
            time: 0,
            changes: 0,
            times: 0,
            begun: false,
        }
    }

    fn take(&mut self, command: Command, signals: &Signals) -> Result<(), Backwards> {
        match command {
            Command::Timestamp(time) => {
                if self.begun && time < self.time {
                    return Err(Backwards { from: self.time, to: time });
                }
                if time > self.time {
                    self.settle();
                }
                self.time = time;
                self.begun = true;
            }
            Command::ChangeScalar(code, value) => {
                if let Some(declared) = signals.codes.get(&code) {
                    self.change(declared.first, value);
                    // A scalar value for a vector stands for its last bit, extended as a vector is.
                    for bit in 1..declared.width as usize {
                        self.change(declared.first + bit, extension(value));
                    }
                }
            }
            Command::ChangeVector(code, values) => {
                if let Some(declared) = signals.codes.get(&code) {
                    let mut given = values.iter().collect::<Vec<_>>();
                    given.reverse();
                    let extension = given.last().map_or(Value::X, |v| extension(*v));
                    for bit in 0..declared.width as usize {
                        self.change(declared.first + bit, given.get(bit).copied().unwrap_or(extension));
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn change(&mut self, trace: usize, value: Value) {
        let level = match value {
            Value::V0 => Level::Low,
            Value::V1 => Level::High,
            Value::Z => Level::Floating,
            Value::X => Level::Unknown,
        };
        if self.pending[trace].replace(level).is_none() {
            self.changed.push(trace);
        }
        self.changes += 1;
    }

    /// The levels at the present time are final: of several changes at one time the last counts.
    fn settle(&mut self) {
        let tick = Tick(self.time / self.divisor);
        self.times += u64::from(!self.changed.is_empty());
        for trace in self.changed.drain(..) {
            let Some(level) = self.pending[trace].take() else { continue };
            match &mut self.traces[trace] {
                Some(builder) => {
                    // Times only rise, so that this is always in order.
                    let _ = builder.push_edge(tick, level);
                }
                slot @ None if tick.0 == 0 => *slot = Some(TraceBuilder::new(level)),
                slot @ None => {
                    let mut builder = TraceBuilder::new(Level::Unknown);
                    let _ = builder.push_edge(tick, level);
                    *slot = Some(builder);
                }
            }
        }
    }

    /// Whether the times look like those of samples: thousands of them fill a grid that is coarser than the
    /// file's own.
    fn looks_sampled(&self) -> bool {
        let ticks = self.time / self.divisor;
        self.divisor > 1 && self.times >= 1000 && ticks / self.times < 20
    }

    fn finish(mut self) -> (Vec<Trace>, u64) {
        self.settle();
        let len = self.time / self.divisor + 1;
        let finish =
            |t: Option<TraceBuilder>| t.unwrap_or_else(|| TraceBuilder::new(Level::Unknown)).finish(len);
        (self.traces.into_iter().map(finish).collect(), len)
    }
}

/// How a short vector is extended to the left (IEEE 1364-2005, table 18-1).
fn extension(leftmost: Value) -> Value {
    match leftmost {
        Value::V0 | Value::V1 => Value::V0,
        other => other,
    }
}
