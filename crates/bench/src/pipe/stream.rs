//! Packed samples as they arrive, from wherever: what is stated of them, the thread that reads them, and the blocks
//! that are made of them.

use std::collections::VecDeque;
use std::io::Read;
use std::sync::mpsc::{Receiver, RecvTimeoutError, TryRecvError, sync_channel};
use std::time::{Duration, Instant};

use deep_tap_core::instrument::{Bank, Capabilities, Configuration, Mode};
use deep_tap_core::line::Input;
use deep_tap_core::quantity::{Percent, Rate, Rational, Time};
use deep_tap_core::scan::{SampleBlock, SampleWidth, Samples};
use deep_tap_core::setup::{ByteOrder, Import};
use deep_tap_core::{Error, ErrorKind, Result};

use super::gather::Gather;

/// Bytes that are read at once, and how many such reads wait to be taken.
const READ: usize = 1 << 16;
const WAITING: usize = 64;
/// How long to wait for samples before there is a sign of life.
const PATIENCE: Duration = Duration::from_millis(100);
/// How much sooner or later than their rate says samples may come before that is told, once they have come
/// for this long.
const OUT_OF_STEP: f64 = 20.0;
const LONG_ENOUGH: Duration = Duration::from_secs(1);

/// What arrives.
type Arrival = std::io::Result<Vec<u8>>;

/// What is stated of packed samples.
pub(super) struct PackedStated {
    pub(super) rates: Vec<Rate>,
    pub(super) width: SampleWidth,
    order: ByteOrder,
    pub(super) skip: u64,
    skew: Time,
    accuracy: Percent,
}

impl PackedStated {
    /// From `key=value` joined by `&`; of `what`, with an example of how it is written. Where several rates can be
    /// had, they are parted by commas.
    pub(super) fn parse(options: &str, what: &str, example: &str) -> Result<PackedStated> {
        let wrong = |message: String| {
            Error::new(ErrorKind::Instrument, message).with_help(format!("write it like {example}"))
        };
        let mut words: Vec<&str> = options.split('&').filter(|word| !word.is_empty()).collect();
        let several =
            words.iter().position(|word| word.strip_prefix("rate=").is_some_and(|r| r.contains(',')));
        let mut rates = Vec::new();
        if let Some(place) = several {
            let all = words.remove(place).trim_start_matches("rate=");
            rates = all.split(',').map(|rate| rate.trim().parse()).collect::<Result<Vec<Rate>>>()?;
        }
        let stated = Import::of_words(&words)?;
        let known = ["rate", "period", "width", "byte-order", "skip", "skew", "accuracy", "format"];
        if let Some((key, _)) = stated.stated().into_iter().find(|(key, _)| !known.contains(key)) {
            let error = Error::new(ErrorKind::Instrument, format!("'{key}' cannot be stated of {what}"));
            return Err(error.with_help(format!("options are {}", known[..7].join(", "))));
        }
        rates.extend(stated.period.and_then(|period| period.to_rational().recip()).map(Rate::from_rational));
        rates.sort_unstable();
        rates.dedup();
        if rates.is_empty() {
            return Err(wrong(format!("it is not stated how fast the samples of {what} are")));
        }
        let width = stated
            .width
            .ok_or_else(|| wrong(format!("it is not stated how many bytes a sample of {what} takes")))?;
        let order = match (stated.byte_order, width) {
            (Some(order), _) => order,
            (None, SampleWidth::W8) => ByteOrder::Little,
            (None, _) => {
                return Err(wrong("it is not stated which byte of a sample comes first".to_string()));
            }
        };
        Ok(PackedStated {
            rates,
            width,
            order,
            skip: stated.skip.unwrap_or(0),
            skew: stated.skew.unwrap_or(Time::ZERO),
            accuracy: stated.accuracy.unwrap_or(Percent::ZERO),
        })
    }

    pub(super) fn capabilities(&self) -> Capabilities {
        let inputs = self.width.inputs();
        let mode = Mode::streaming(inputs, self.rates.iter().copied(), u64::MAX >> 2);
        let mut capabilities = Capabilities::new([Bank::new("bits of a sample", inputs)], [mode]);
        (capabilities.skew, capabilities.accuracy) = (self.skew, self.accuracy);
        capabilities
    }
}

/// Samples on their way from a reader to blocks.
pub(super) struct PackedStream {
    pub(super) stated: PackedStated,
    rate: Rate,
    gather: Option<Gather>,
    arrivals: Option<Receiver<Arrival>>,
    /// What has arrived and was looked at only.
    waiting: VecDeque<Arrival>,
    /// Bytes that have arrived and were not taken, the first of them of a whole sample.
    held: Vec<u8>,
    ended: bool,
    /// When the first samples came, and how many since.
    since: Option<Instant>,
    samples: u64,
    pub(super) remarks: Vec<String>,
}

impl PackedStream {
    pub(super) fn new(stated: PackedStated) -> Self {
        PackedStream {
            rate: stated.rates[0],
            stated,
            gather: None,
            arrivals: None,
            waiting: VecDeque::new(),
            held: Vec::new(),
            ended: false,
            since: None,
            samples: 0,
            remarks: Vec::new(),
        }
    }

    pub(super) fn configure(&mut self, configuration: &Configuration, what: &str) -> Result<()> {
        if !self.stated.rates.contains(&configuration.rate) || !configuration.stream {
            let rates: Vec<String> = self.stated.rates.iter().map(ToString::to_string).collect();
            let message = format!("{what} delivers samples at {}, as they come", rates.join(" or "));
            return Err(Error::new(ErrorKind::Instrument, message).with_help("record at its rate"));
        }
        let width = self.stated.width;
        let bits = configuration.inputs.iter().map(|input| match input.input {
            Input::Number(bit) if bit < width.inputs() => Ok(bit),
            _ => {
                let message = format!("a sample of {what} has no bit '{}'", input.input);
                let error = Error::new(ErrorKind::Instrument, message);
                Err(error.with_help(format!("its bits are 0 to {}", width.inputs() - 1)))
            }
        });
        self.gather = Some(Gather::new(bits.collect::<Result<_>>()?, width));
        self.rate = configuration.rate;
        Ok(())
    }

    pub(super) fn rate(&self) -> Rate {
        self.rate
    }

    /// Refuses to begin before it is known what is wanted.
    pub(super) fn must_be_configured(&self) -> Result<()> {
        match self.gather {
            Some(_) => Ok(()),
            None => Err(Error::new(ErrorKind::Instrument, "configure before arming")),
        }
    }

    pub(super) fn is_open(&self) -> bool {
        self.arrivals.is_some()
    }

    /// Forgets what came before, for samples that begin anew.
    pub(super) fn close(&mut self) {
        self.arrivals = None;
        self.waiting.clear();
        self.held.clear();
        (self.ended, self.since, self.samples) = (false, None, 0);
    }

    /// Whether all has arrived that ever will, as far as that can be told without waiting.
    pub(super) fn is_over(&mut self) -> bool {
        let Some(arrivals) = &self.arrivals else { return false };
        loop {
            match arrivals.try_recv() {
                Ok(arrival) => self.waiting.push_back(arrival),
                Err(TryRecvError::Empty) => return self.ended,
                Err(TryRecvError::Disconnected) => return true,
            }
        }
    }

    /// Begins to read what `open` gives; where nobody writes, the thread waits, and nobody else.
    pub(super) fn open(&mut self, open: impl FnOnce() -> std::io::Result<Box<dyn Read>> + Send + 'static) {
        let (sender, receiver) = sync_channel(WAITING);
        let skip = self.stated.skip;
        std::thread::spawn(move || {
            let mut from = match open() {
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

    /// Whether the samples have come to their end.
    pub(super) fn ended(&self) -> bool {
        self.ended
    }

    /// How many samples have come.
    pub(super) fn samples(&self) -> u64 {
        self.samples
    }

    /// How long that takes at their rate.
    pub(super) fn elapsed(&self) -> Time {
        let elapsed =
            Rational::new(self.samples.into(), 1).and_then(|n| n.checked_div(self.rate.to_rational()));
        Time::from_rational(elapsed.unwrap_or(Rational::ZERO))
    }

    /// Tells a rate that the clock on the wall contradicts, and a sample that was cut in two.
    pub(super) fn stop(&mut self) {
        self.compare_with_the_clock();
        if self.ended && !self.held.is_empty() {
            self.remarks.push("the samples ended in the middle of one, which was left out".to_string());
            self.held.clear();
        }
    }

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

    /// Replaces the block's contents with what has arrived; empty where nothing has within a moment.
    pub(super) fn read(&mut self, block: &mut SampleBlock, running: bool) -> std::io::Result<()> {
        let Some(gather) = &self.gather else { return Ok(()) };
        block.reset(gather.width());
        let Some(arrivals) = self.arrivals.as_ref().filter(|_| running && !self.ended) else {
            return Ok(());
        };
        let arrival = self.waiting.pop_front().map_or_else(|| arrivals.recv_timeout(PATIENCE), Ok);
        let bytes = match arrival {
            Ok(bytes) => bytes?,
            Err(RecvTimeoutError::Timeout) => return Ok(()),
            Err(RecvTimeoutError::Disconnected) => {
                self.ended = true;
                return Ok(());
            }
        };
        self.since.get_or_insert_with(Instant::now);
        self.held.extend_from_slice(&bytes);
        let size = self.stated.width.bytes();
        let whole = self.held.len() - self.held.len() % size;
        if self.stated.order == ByteOrder::Big {
            self.held[..whole].chunks_exact_mut(size).for_each(<[u8]>::reverse);
        }
        gather.push(Samples::new(self.stated.width, &self.held[..whole]), block);
        self.samples += (whole / size) as u64;
        self.held.drain(..whole);
        Ok(())
    }
}
