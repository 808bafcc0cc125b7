//! Reading a value change dump.

use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rayon::prelude::*;

use super::header::{Header, Words, no_scale, read_head};
use super::scan::Scan;
use super::scanned::{Begin, Fault, Inside, Scanned};
use super::signals::Signals;
use super::words::Ticks;
use crate::capture::{Capture, CaptureBuilder, Origin, Trace};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::format::analog::Volts;
use crate::format::fill::{Change, Filling, Meant};
use crate::format::pieces::{Cut, Piece, in_pieces};
use crate::format::source::{Reader, Source};
use crate::format::spill::Spill;
use crate::line::AnalogLine;
use crate::quantity::{Rational, Time};
use crate::setup::{Import, Times};
use crate::time::{Moment, Resolution, TimeBase};

/// Reads a file.
///
/// # Errors
/// As [`read`], and when the file cannot be read.
pub fn read_file(path: &Path) -> Result<Capture> {
    read_source(&Source::open(path)?, &Import::default(), None, &mut |_, _| ())
}

/// Reads a value change dump; `name` is for messages.
///
/// # Errors
/// [`ErrorKind::Capture`] with the line, when the text is not a value change dump, declares no
/// signals, holds no values, does not say what its times count in, or its time runs backwards.
pub fn read(bytes: &[u8], name: &Path) -> Result<Capture> {
    read_source(&Source::of_bytes(bytes.to_vec(), name), &Import::default(), None, &mut |_, _| ())
}

/// Reads a dump of which this is stated, telling `progress` how many bytes of how many are done. The lines
/// of the result are those of the file; with a `spill`, they lack what was handed on.
pub(crate) fn read_source(
    source: &Source,
    stated: &Import,
    mut spill: Option<&mut dyn Spill>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Capture> {
    let mut reader = source.reader();
    let head = read_head(source, &mut reader)?;
    let header = Words::new(source, &head).header()?;
    let signals = Signals::of(&header, source)?;
    if header.note.is_some() || signals.real_count > 0 {
        // What was sampled is put on its grid as a whole, and the codes of numbers need their range.
        spill = None;
    }
    let dump = Dump {
        source,
        header,
        signals,
        stated,
        cut: Cut { place, partial: stated.partial },
        spare: Mutex::default(),
    };
    let rest = head[dump.header.len..].to_vec();
    // Nearly always, what divides the first times divides all of them.
    let complete = rest.iter().rposition(u8::is_ascii_whitespace).unwrap_or(0);
    let mut ticks = Ticks::new(match divisor_of(&rest[..complete], 0) {
        0 => dump.common_divisor(0)?,
        divisor => divisor,
    });
    let mut first = Some((reader, rest));
    loop {
        let (reader, rest) = match first.take() {
            Some(first) => first,
            None => dump.body()?,
        };
        let found = dump.read(reader, rest, ticks, &mut spill, progress)?;
        match found {
            Ok(capture) => return Ok(capture),
            Err(finer) => {
                ticks = Ticks::new(dump.common_divisor(finer)?);
                if let Some(spill) = &mut spill {
                    spill.again()?;
                }
            }
        }
    }
}

/// A dump whose declarations are read.
struct Dump<'a> {
    source: &'a Source,
    header: Header<'a>,
    signals: Signals,
    stated: &'a Import,
    cut: Cut,
    /// Lists of changes that are done with.
    spare: Mutex<Vec<Vec<Vec<Change>>>>,
}

fn lock<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Where to cut: before the last time mark. Where a comment or a value reaches over it, the piece after it is
/// read again.
fn place(bytes: &[u8]) -> Option<usize> {
    let marks = memchr::memrchr_iter(b'#', bytes);
    marks.into_iter().find(|at| *at > 0 && bytes[at - 1].is_ascii_whitespace())
}

/// What all times that a text holds can be divided by, and this number, too.
///
/// Looks at everything that reads like a time, also inside comments: too many numbers can only
/// make the divisor smaller, and any common divisor is exact.
fn divisor_of(bytes: &[u8], mut divisor: u64) -> u64 {
    for at in memchr::memchr_iter(b'#', bytes) {
        let before = &bytes[..at];
        if before.last().is_some_and(|byte| !byte.is_ascii_whitespace()) || stands_for_a_code(before) {
            continue;
        }
        let digits = bytes[at + 1..].iter().take_while(|byte| byte.is_ascii_digit());
        let time = digits
            .copied()
            .try_fold(0u64, |time, digit| time.checked_mul(10)?.checked_add(u64::from(digit - b'0')));
        if let Some(time) = time.filter(|time| divisor == 0 || !time.is_multiple_of(divisor)) {
            divisor = shared(divisor, time);
            if divisor == 1 {
                break;
            }
        }
    }
    divisor
}

/// The greatest common divisor, which of zero is the other number.
fn shared(a: u64, b: u64) -> u64 {
    if a == 0 || b == 0 { a | b } else { crate::quantity::gcd(a.into(), b.into()) as u64 }
}

/// Whether what follows these bytes is a code: it does where the last word is a value that stands apart from
/// its code, and not a code that looks like one.
fn stands_for_a_code(before: &[u8]) -> bool {
    let words = before.rsplit(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
    words.take_while(|word| b"bBrRsS".contains(&word[0])).count() % 2 == 1
}

/// What the whole dump says.
#[derive(Default)]
struct Said {
    reals: Vec<Vec<(u64, f64)>>,
    values: u64,
    times: u64,
    end: Begin,
    undeclared: Option<(u64, String, u64)>,
    cut: Option<String>,
}

impl Dump<'_> {
    /// A reader that stands behind the declarations.
    fn body(&self) -> Result<(Reader<'_>, Vec<u8>)> {
        let mut reader = self.source.reader();
        let head = read_head(self.source, &mut reader)?;
        Ok((reader, head[self.header.len..].to_vec()))
    }

    /// What all times of the dump can be divided by.
    fn common_divisor(&self, finer: u64) -> Result<u64> {
        let mut divisor = finer;
        let (reader, rest) = self.body()?;
        in_pieces(self.source, reader, rest, self.cut, |pieces| {
            let divisors = pieces.par_iter().map(|piece| divisor_of(&piece.bytes, divisor));
            divisor = divisors.reduce(|| 0, shared);
            Ok(())
        })?;
        Ok(divisor.max(1))
    }

    /// Reads the values; what time is finer than the ticks where one is.
    fn read(
        &self,
        reader: Reader<'_>,
        rest: Vec<u8>,
        ticks: Ticks,
        spill: &mut Option<&mut dyn Spill>,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<Result<Capture, u64>> {
        let meant =
            self.signals.events.iter().map(|event| if *event { Meant::Events } else { Meant::Levels });
        let mut filling = Filling::new(meant);
        let order: Vec<usize> = self.signals.lines.iter().map(|(_, trace)| *trace).collect();
        let mut said = Said { reals: vec![Vec::new(); self.signals.real_count], ..Said::default() };
        if let Some(spill) = spill {
            spill.begin(self.describe(ticks, &said)?.build()?)?;
        }
        let mut finer = None;
        let early = in_pieces(self.source, reader, rest, self.cut, |pieces| {
            if finer.is_some() {
                return Ok(());
            }
            let scanned = match self.scan(&pieces, ticks, &said.end) {
                Err(Fault::Finer(divisor)) => {
                    finer = Some(divisor);
                    return Err(Error::new(ErrorKind::Capture, "times are finer"));
                }
                Err(Fault::Wrong(byte, message, help)) => {
                    return Err(self.source.wrong(byte, message).with_help(help));
                }
                Ok(scanned) => scanned,
            };
            let parts: Vec<_> = scanned.iter().map(|s| |trace: usize| s.changes[trace].as_slice()).collect();
            filling.extend(&parts);
            drop(parts);
            for mut piece in scanned {
                lock(&self.spare).push(std::mem::take(&mut piece.changes));
                said.add(piece);
            }
            if let Some(spill) = spill {
                filling.relieve(*spill, said.end.time / ticks.divisor, &order)?;
            }
            progress(pieces.last().map_or(0, |piece| piece.read), self.source.len());
            Ok(())
        });
        if let Some(finer) = finer {
            return Ok(Err(finer));
        }
        let early = early?;
        self.finish(filling, &order, ticks, said, early).map(Ok)
    }

    /// Reads pieces at once, and those again that did not begin as they were taken to.
    fn scan(&self, pieces: &[Piece], ticks: Ticks, begin: &Begin) -> Result<Vec<Scanned>, Fault> {
        let run = |piece: &Piece, begin: Begin| {
            let spare = lock(&self.spare).pop().unwrap_or_default();
            Scan::new(&self.signals, ticks, piece, spare).run(begin)
        };
        let guess = |piece: &Piece| match piece.bytes.first() {
            Some(b'#') => Some(Begin::default()),
            _ => None,
        };
        let guessed: Vec<Option<Result<Scanned, Fault>>> = pieces
            .par_iter()
            .enumerate()
            .map(|(number, piece)| match number {
                0 => Some(run(piece, begin.clone())),
                _ => guess(piece).map(|begin| run(piece, begin)),
            })
            .collect();
        let mut scanned: Vec<Scanned> = Vec::new();
        for (number, (piece, guessed)) in pieces.iter().zip(guessed).enumerate() {
            let before = scanned.last().map_or(begin, |before| &before.end).clone();
            let fits = number == 0 || before.inside == Inside::Nothing;
            let first = time_at_start(&piece.bytes);
            scanned.push(match guessed.filter(|_| fits && (number == 0 || first >= Some(before.time))) {
                Some(guessed) => guessed?,
                None => run(piece, before)?,
            });
        }
        Ok(scanned)
    }

    /// Seconds per unit of the file's times.
    fn scale(&self) -> Result<Rational> {
        match (self.stated.times, self.header.scale) {
            (Some(Times::In(unit)), _) => Ok(unit.to_rational()),
            (Some(Times::Samples), _) => {
                let error = self.source.refused("the times of a dump are not numbers of samples");
                Err(error.with_help("state their unit, such as time = \"1 ns\", and the rate"))
            }
            (None, Some(scale)) => Ok(scale),
            (None, None) => Err(no_scale(self.source)),
        }
    }

    /// The record without ticks.
    fn describe(&self, ticks: Ticks, said: &Said) -> Result<CaptureBuilder> {
        let name = self.source.name();
        let located = |e: Error| e.at(Place::File(name.into()));
        let too_long = || self.source.refused("the times in this file are too long to count");
        let divisor = Rational::new(i128::from(ticks.divisor), 1).ok_or_else(too_long)?;
        let tick = self.scale()?.checked_mul(divisor).ok_or_else(too_long)?;
        let base = TimeBase::from_tick(Time::from_rational(tick)).map_err(located)?;
        let made = self.header.date.as_ref().and_then(|date| date.parse::<Moment>().ok());
        let dated = self.header.date.as_ref().filter(|_| made.is_none() && self.header.note.is_none());
        let dated = dated.map_or(String::new(), |date| format!(", dated {date}"));
        let origin =
            Origin { source: format!("simulation {}{dated}", name.display()), made, ..Origin::default() };
        let mut builder = Capture::builder(base, 0).resolution(Resolution::EXACT).origin(origin);
        let nothing = Arc::new(Trace::constant(crate::line::Level::Unknown, 0));
        for (line, _) in &self.signals.lines {
            builder = builder.line(line.clone(), Arc::clone(&nothing));
        }
        builder = builder.buses(self.signals.buses.clone());
        for remark in self.signals.remarks.iter().chain(&self.remarks(said)) {
            builder = builder.remark(remark.clone());
        }
        Ok(builder)
    }

    /// What was noticed among the values.
    fn remarks(&self, said: &Said) -> Vec<String> {
        let mut remarks = Vec::new();
        if let Some((byte, code, values)) = &said.undeclared {
            let line = self.source.line_of(*byte);
            remarks.push(format!(
                "{values} value{} of codes that nothing declares were left out, the first in line {line}: '{code}'",
                if *values == 1 { "" } else { "s" }
            ));
        }
        if let Some(cut) = &said.cut {
            remarks.push(format!("the file ends in the middle of {cut}, which was left out"));
        }
        match &said.end.inside {
            Inside::Nothing => {}
            Inside::List(at) => {
                let line = self.source.line_of(*at);
                remarks.push(format!(
                    "the file ends inside the list of values that begins in line {line}: it was cut off"
                ));
            }
            Inside::Comment(at) => {
                let line = self.source.line_of(*at);
                remarks.push(format!(
                    "the section that begins in line {line} has no end: what follows it was left out"
                ));
            }
            Inside::Value(_) => {
                remarks.push("the file ends in the middle of a value, which was left out".to_string());
            }
        }
        remarks
    }

    fn finish(
        &self,
        filling: Filling,
        order: &[usize],
        ticks: Ticks,
        said: Said,
        early: Option<Error>,
    ) -> Result<Capture> {
        let name = self.source.name();
        let located = |e: Error| e.at(Place::File(name.into()));
        if said.values == 0 && said.reals.iter().all(Vec::is_empty) {
            let help = "the simulation ended before anything was dumped";
            return Err(self.source.refused("this file declares signals, but no values").with_help(help));
        }
        let last = said.end.time / ticks.divisor;
        let len = last + 1;
        let traces: Vec<Arc<Trace>> = filling.finish(len).into_iter().map(Arc::new).collect();
        let mut builder = self.describe(ticks, &said)?.length(len);
        builder = builder.shared_traces(order.iter().map(|trace| Arc::clone(&traces[*trace])).collect());
        if let Some(error) = early {
            builder = builder.remark(format!("{}: the rest was left out", error.message()));
        }
        // Thousands of times that fill a grid which is coarser than the file's own look like samples.
        let sampled = ticks.divisor > 1 && said.times >= 1000 && last / said.times < 20;
        if sampled && self.header.note.is_none() && self.stated.period.is_none() {
            builder = builder.remark(looks_sampled(self.scale()?, ticks));
        }
        let built = match &self.header.note {
            Some(note) => builder.build().and_then(|dump| note.apply(dump, &said.reals)),
            None => self.with_numbers(builder, &said.reals, len).and_then(CaptureBuilder::build),
        };
        built.map_err(located)
    }

    /// Adds the numbers of the dump as analog lines, whose values hold until the next.
    fn with_numbers(
        &self,
        mut builder: CaptureBuilder,
        reals: &[Vec<(u64, f64)>],
        len: u64,
    ) -> Result<CaptureBuilder> {
        let mut traces = Vec::with_capacity(reals.len());
        for changes in reals {
            let mut volts = Volts::default();
            let mut too_large = 0u64;
            for (tick, value) in changes {
                volts.at(*tick);
                too_large += u64::from(!volts.push_number(*value));
            }
            traces.push((Arc::new(volts.finish_held(len)?), too_large));
        }
        for (name, number) in &self.signals.reals {
            let (trace, too_large) = &traces[*number];
            builder = builder.analog(AnalogLine::named(name.as_str()), Arc::clone(trace));
            if *too_large > 0 {
                let values = if *too_large == 1 { "value" } else { "values" };
                builder = builder
                    .remark(format!("{too_large} {values} of {name} beyond 10^9: taken for not known"));
            }
        }
        Ok(builder)
    }
}

fn looks_sampled(scale: Rational, ticks: Ticks) -> String {
    let tick = scale.checked_mul(Rational::from(ticks.divisor as i64)).unwrap_or(scale);
    let tick = Time::from_rational(tick);
    let rate = TimeBase::from_tick(tick).map_or(String::new(), |base| base.rate().to_string());
    format!(
        "taken as exact, as a simulation is, though all changes lie on a grid of {tick}: if an instrument recorded it, \
         say so with --sampled '{rate}', or in the setup with rate = \"{rate}\" in [import]"
    )
}

/// The time with which a piece begins.
fn time_at_start(bytes: &[u8]) -> Option<u64> {
    let digits = bytes.strip_prefix(b"#")?;
    let len = digits.iter().take_while(|byte| byte.is_ascii_digit()).count();
    std::str::from_utf8(&digits[..len]).ok()?.parse().ok()
}

impl Said {
    fn add(&mut self, piece: Scanned) {
        for (whole, part) in self.reals.iter_mut().zip(piece.reals) {
            if let (Some(last), Some(first)) = (whole.last(), part.first())
                && last.0 == first.0
            {
                whole.pop();
            }
            whole.extend(part);
        }
        self.values += piece.values;
        self.times += piece.times;
        self.end = piece.end;
        self.cut = piece.cut.or(self.cut.take());
        if let Some((byte, code, values)) = piece.undeclared {
            self.undeclared.get_or_insert((byte, code, 0)).2 += values;
        }
    }
}
