//! Any program that delivers packed samples, as an instrument: through standard input or a named pipe.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

use deep_tap_core::instrument::{Bank, Capabilities, Configuration, Instrument, Mode, Status};
use deep_tap_core::line::Input;
use deep_tap_core::quantity::{Percent, Rate, Rational, Time};
use deep_tap_core::scan::{SampleBlock, SampleWidth, Samples};
use deep_tap_core::setup::{ByteOrder, Import};
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Place, Result};

/// Bytes that are read at once, and how many such reads wait to be taken.
const READ: usize = 1 << 16;
const WAITING: usize = 64;
/// How long to wait for samples before there is a sign of life.
const PATIENCE: Duration = Duration::from_millis(100);
/// How much sooner or later than their rate says samples may come before that is told, once they have come
/// for this long.
const OUT_OF_STEP: f64 = 20.0;
const LONG_ENOUGH: Duration = Duration::from_secs(1);

/// What arrives on the pipe.
type Arrival = std::io::Result<Vec<u8>>;

/// An instrument that is a pipe.
///
/// `pipe:-?rate=1 MS/s&width=2&byte-order=little` is standard input, `pipe:PATH?…` a named pipe or a file. What
/// can be stated is what packed samples take in `[import]`: `rate` or `period`, `width`, `byte-order`, `skip`,
/// `skew`, `accuracy`.
pub struct Pipe {
    path: PathBuf,
    rate: Rate,
    width: SampleWidth,
    order: ByteOrder,
    skip: u64,
    skew: Time,
    accuracy: Percent,
    arrivals: Option<Receiver<Arrival>>,
    gather: Option<Gather>,
    running: bool,
    /// Bytes that have arrived and were not taken, the first of them of a whole sample.
    held: Vec<u8>,
    ended: bool,
    /// When the first samples came, and how many since.
    since: Option<Instant>,
    samples: u64,
    remarks: Vec<String>,
}

impl Pipe {
    /// The pipe at a path, `-` for standard input, with what is stated of its samples as `key=value` joined by
    /// `&`. Nothing is opened yet.
    ///
    /// # Errors
    /// When rate, width, or the order of bytes are missing, or something is stated that packed samples do not
    /// take.
    pub fn new(path: &Path, options: &str) -> Result<Pipe> {
        let words: Vec<&str> = options.split('&').filter(|word| !word.is_empty()).collect();
        let stated = Import::of_words(&words)?;
        let missing = |what: &str, example: &str| {
            let error = Error::new(ErrorKind::Instrument, format!("it is not stated {what}"));
            error.with_help(format!("write it like pipe:-?rate=1 MS/s&width=2&byte-order=little ({example})"))
        };
        let known = ["rate", "period", "width", "byte-order", "skip", "skew", "accuracy", "format"];
        if let Some((key, _)) = stated.stated().into_iter().find(|(key, _)| !known.contains(key)) {
            let error = Error::new(ErrorKind::Instrument, format!("'{key}' cannot be stated of a pipe"));
            return Err(error.with_help(format!("options are {}", known[..7].join(", "))));
        }
        let period =
            stated.period.ok_or_else(|| missing("how fast the samples of a pipe are", "rate=1 MS/s"))?;
        let width =
            stated.width.ok_or_else(|| missing("how many bytes a sample of a pipe takes", "width=2"))?;
        let order = match (stated.byte_order, width) {
            (Some(order), _) => order,
            (None, SampleWidth::W8) => ByteOrder::Little,
            (None, _) => return Err(missing("which byte of a sample comes first", "byte-order=little")),
        };
        let rate = period.to_rational().recip().map(Rate::from_rational);
        Ok(Pipe {
            path: path.to_path_buf(),
            rate: rate.ok_or_else(|| missing("how fast the samples of a pipe are", "rate=1 MS/s"))?,
            width,
            order,
            skip: stated.skip.unwrap_or(0),
            skew: stated.skew.unwrap_or(Time::ZERO),
            accuracy: stated.accuracy.unwrap_or(Percent::ZERO),
            arrivals: None,
            gather: None,
            running: false,
            held: Vec::new(),
            ended: false,
            since: None,
            samples: 0,
            remarks: Vec::new(),
        })
    }

    fn is_standard_input(&self) -> bool {
        self.path.as_os_str() == "-"
    }

    /// Begins to read; a pipe nobody writes to makes the thread wait, and nobody else.
    fn open(&mut self) {
        if self.arrivals.is_some() {
            return;
        }
        let (sender, receiver) = sync_channel(WAITING);
        let (path, standard, skip) = (self.path.clone(), self.is_standard_input(), self.skip);
        std::thread::spawn(move || {
            let opened = match standard {
                true => Ok(Box::new(std::io::stdin()) as Box<dyn Read>),
                false => File::open(&path).map(|file| Box::new(file) as Box<dyn Read>),
            };
            let mut from = match opened {
                Ok(from) => from,
                Err(error) => return drop(sender.send(Err(error))),
            };
            if let Err(error) = std::io::copy(&mut from.by_ref().take(skip), &mut std::io::sink()) {
                return drop(sender.send(Err(error)));
            }
            loop {
                let mut bytes = vec![0; READ];
                let arrival = match from.read(&mut bytes) {
                    Ok(0) => return,
                    Ok(read) => {
                        bytes.truncate(read);
                        Ok(bytes)
                    }
                    Err(error) if error.kind() == std::io::ErrorKind::Interrupted => continue,
                    Err(error) => Err(error),
                };
                let failed = arrival.is_err();
                if sender.send(arrival).is_err() || failed {
                    return;
                }
            }
        });
        self.arrivals = Some(receiver);
    }

    fn failed(&self, error: std::io::Error) -> Error {
        let name = if self.is_standard_input() { PathBuf::from("standard input") } else { self.path.clone() };
        Error::new(ErrorKind::Link, format!("the pipe cannot be read: {error}")).at(Place::File(name))
    }

    /// Tells a rate that the clock on the wall contradicts.
    fn compare_with_the_clock(&mut self) {
        let Some(taken) = self.since.map(|since| since.elapsed()).filter(|taken| *taken >= LONG_ENOUGH)
        else {
            return;
        };
        let signal = self.samples as f64 / self.rate.to_rational().to_f64();
        let ratio = signal / taken.as_secs_f64();
        let told = if ratio > OUT_OF_STEP {
            format!(
                "the samples came {ratio:.0} times as fast as their stated rate: they were taken before, or it is wrong"
            )
        } else if ratio < 1.0 / OUT_OF_STEP {
            format!(
                "the samples came {:.0} times as slowly as their stated rate: it is wrong, or many were lost",
                1.0 / ratio
            )
        } else {
            return;
        };
        self.remarks.push(told);
    }
}

impl Instrument for Pipe {
    fn identity(&self) -> String {
        match self.is_standard_input() {
            true => "samples from standard input".to_string(),
            false => format!("samples from {}", self.path.display()),
        }
    }

    fn capabilities(&self) -> Capabilities {
        let inputs = self.width.inputs();
        let mode = Mode::streaming(inputs, [self.rate], u64::MAX >> 2);
        let mut capabilities = Capabilities::new([Bank::new("bits of a sample", inputs)], [mode]);
        (capabilities.skew, capabilities.accuracy) = (self.skew, self.accuracy);
        capabilities
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        if configuration.rate != self.rate || !configuration.stream {
            let message = format!("a pipe delivers {} samples a second, as they come", self.rate);
            return Err(Error::new(ErrorKind::Instrument, message).with_help("record at its rate"));
        }
        let bits = configuration.inputs.iter().map(|input| match input.input {
            Input::Number(bit) if bit < self.width.inputs() => Ok(bit),
            _ => {
                let error = Error::new(
                    ErrorKind::Instrument,
                    format!("a sample of this pipe has no bit '{}'", input.input),
                );
                Err(error.with_help(format!("its bits are 0 to {}", self.width.inputs() - 1)))
            }
        });
        self.gather = Some(Gather::new(bits.collect::<Result<_>>()?, self.width));
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        if self.gather.is_none() {
            return Err(Error::new(ErrorKind::Instrument, "configure before arming"));
        }
        self.open();
        self.running = true;
        self.remarks.clear();
        Ok(())
    }

    fn status(&mut self) -> Result<Status> {
        let elapsed =
            Rational::new(self.samples.into(), 1).and_then(|n| n.checked_div(self.rate.to_rational()));
        let elapsed = Time::from_rational(elapsed.unwrap_or(Rational::ZERO));
        Ok(match (self.running, self.ended) {
            (false, _) => Status::Idle,
            (true, true) => Status::Over { elapsed, seen: Seen::default() },
            (true, false) => Status::Waiting { elapsed, seen: Seen::default() },
        })
    }

    fn stop(&mut self) -> Result<()> {
        if std::mem::take(&mut self.running) {
            self.compare_with_the_clock();
            if self.ended && !self.held.is_empty() {
                self.remarks.push("the pipe ended in the middle of a sample, which was left out".to_string());
                self.held.clear();
            }
        }
        Ok(())
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        let Some(gather) = &self.gather else { return Ok(()) };
        block.reset(gather.width());
        let Some(arrivals) = self.arrivals.as_ref().filter(|_| self.running && !self.ended) else {
            return Ok(());
        };
        let bytes = match arrivals.recv_timeout(PATIENCE) {
            Ok(Ok(bytes)) => bytes,
            Ok(Err(error)) => return Err(self.failed(error)),
            Err(RecvTimeoutError::Timeout) => return Ok(()),
            Err(RecvTimeoutError::Disconnected) => {
                self.ended = true;
                return Ok(());
            }
        };
        self.since.get_or_insert_with(Instant::now);
        self.held.extend_from_slice(&bytes);
        let size = self.width.bytes();
        let whole = self.held.len() - self.held.len() % size;
        if self.order == ByteOrder::Big {
            self.held[..whole].chunks_exact_mut(size).for_each(<[u8]>::reverse);
        }
        gather.push(Samples::new(self.width, &self.held[..whole]), block);
        self.samples += (whole / size) as u64;
        self.held.drain(..whole);
        Ok(())
    }

    fn remarks(&self) -> Vec<String> {
        self.remarks.clone()
    }
}

/// Which bits of the samples are taken, and in which order.
struct Gather {
    bits: Vec<u32>,
    /// Per byte of a sample and value of it, the bits that it stands for; empty where samples are taken as they
    /// are.
    tables: Vec<[u64; 256]>,
    from: SampleWidth,
}

impl Gather {
    fn new(bits: Vec<u32>, from: SampleWidth) -> Gather {
        let same = SampleWidth::for_inputs(bits.len()) == from
            && bits.iter().enumerate().all(|(n, bit)| *bit == n as u32);
        let table = |byte: usize| {
            std::array::from_fn(|value| {
                let places = bits.iter().enumerate().filter(|(_, bit)| **bit as usize / 8 == byte);
                places.fold(0, |word, (place, bit)| word | (value as u64 >> (bit % 8) & 1) << place)
            })
        };
        let tables = if same { Vec::new() } else { (0..from.bytes()).map(table).collect() };
        Gather { bits, tables, from }
    }

    fn width(&self) -> SampleWidth {
        SampleWidth::for_inputs(self.bits.len())
    }

    fn push(&self, samples: Samples<'_>, block: &mut SampleBlock) {
        if self.tables.is_empty() {
            block.push_bytes(samples.levels());
            return;
        }
        for sample in samples.levels().chunks_exact(self.from.bytes()) {
            let word = sample
                .iter()
                .zip(&self.tables)
                .fold(0, |word, (byte, table)| word | table[usize::from(*byte)]);
            block.push(word, 0);
        }
    }
}
