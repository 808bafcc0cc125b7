//! Recording from an instrument that is not on the bench, and does not behave.

use std::ops::ControlFlow;

use deep_tap::event::{Meaning, Program, Scope, StreamSearch};
use deep_tap::instrument::{Acquisition, Capabilities, Configuration, Instrument, Progress, Sink, Status};
use deep_tap::line::LineId;
use deep_tap::scan::{SampleBlock, SampleWidth, Samples};
use deep_tap::time::{Tick, TimeBase};
use deep_tap::{Error, ErrorKind, Result};

use crate::support::time;

/// Sends faster than anybody reads: there are always more samples.
#[derive(Default)]
struct Torrent {
    position: u64,
    stopped: bool,
}

impl Instrument for Torrent {
    fn identity(&self) -> String {
        "a torrent".into()
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities::nothing()
    }

    fn configure(&mut self, _: &Configuration) -> Result<()> {
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        Ok(())
    }

    fn status(&mut self) -> Result<Status> {
        Ok(Status::Recording { done: self.position, of: u64::MAX })
    }

    fn stop(&mut self) -> Result<()> {
        self.stopped = true;
        Ok(())
    }

    /// A clock on input 0, that a quarter of the time is steady.
    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        block.reset(SampleWidth::W8);
        for number in self.position..self.position + 5000 {
            block.push(u64::from(number / 1000 % 4 != 0 && number % 2 == 0), 0);
        }
        self.position += 5000;
        Ok(())
    }
}

/// Counts samples, and fails when it has this many.
struct Counting {
    seen: u64,
    most: u64,
    trigger: Option<Tick>,
}

impl Sink for Counting {
    fn begin(&mut self, trigger: Option<Tick>) -> Result<()> {
        self.trigger = trigger;
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        self.seen += samples.len() as u64;
        match self.seen > self.most {
            true => Err(Error::new(ErrorKind::Io, "the disk is full")),
            false => Ok(()),
        }
    }
}

fn run(
    trigger: &str,
    most: u64,
    stop_after: usize,
) -> (Result<deep_tap::instrument::Recorded>, Counting, bool) {
    let mut scope = Scope::new();
    scope.define("CLK", Meaning::Line(LineId(0)));
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let search = StreamSearch::new(&Program::compile(trigger, &scope).unwrap().at(base).unwrap());
    let mut configuration = Configuration::new("100 MS/s".parse().unwrap(), 3_000_000, [0]);
    (configuration.before, configuration.stream) = (7777, true);
    let mut instrument = Torrent::default();
    let mut sink = Counting { seen: 0, most, trigger: None };
    let mut acquisition = Acquisition::new(&mut instrument, &configuration, &["CLK"]);
    (acquisition.search, acquisition.time_out) = (Some(search), Some(time("100 ms")));
    let mut told = 0;
    let outcome = acquisition.run_into(&mut sink, &mut |_: Progress| {
        told += 1;
        if told > stop_after { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    assert!(told > 0, "the user hears of it");
    (outcome, sink, instrument.stopped)
}

#[test]
fn a_stream_that_never_runs_dry_still_ends() {
    // The 30 000th rise: long after the part before the trigger was full, and exactly cut.
    let (outcome, sink, stopped) = run("CLK rises 30000 times", u64::MAX, usize::MAX);
    let recorded = outcome.unwrap();
    assert_eq!((recorded.len, recorded.trigger), (3_000_000, Some(Tick(7777))));
    assert_eq!((sink.seen, sink.trigger, stopped), (3_000_000, Some(Tick(7777)), true));
    // A trigger that never comes, by time-out and by the user.
    let never = "CLK high for > 50 ns";
    let (outcome, sink, stopped) = run(never, u64::MAX, usize::MAX);
    let error = outcome.unwrap_err();
    assert_eq!(
        (error.kind(), error.message()),
        (ErrorKind::TimeOut, "the trigger did not come within 100 ms")
    );
    assert!(sink.seen == 0 && stopped);
    let (outcome, _, stopped) = run(never, u64::MAX, 2);
    assert!(stopped && outcome.unwrap_err().message().starts_with("stopped after waiting for "));
}

#[test]
fn an_instrument_is_stopped_when_its_samples_cannot_be_taken() {
    let (outcome, _, stopped) = run("CLK rises", 2_000_000, usize::MAX);
    assert_eq!(outcome.unwrap_err().message(), "the disk is full");
    assert!(stopped);
}
