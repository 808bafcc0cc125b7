//! Everything built in code, with an instrument of your own behind the trait.
//!
//! The instrument here is a counter that drives a clock and three bits: enough to show the whole
//! contract. It has a memory of 100 000 samples, records at 10 MS/s, and waits for an edge.
//!
//! ```sh
//! cargo run --release --example own_instrument
//! ```

use deep_tap::event::{Program, Scope};
use deep_tap::instrument::{
    Acquisition, Bank, Capabilities, Configuration, Instrument, Mode, OnBoardTrigger, Status,
};
use deep_tap::known::Rule;
use deep_tap::limit::{self, Limit};
use deep_tap::quantity::Time;
use deep_tap::scan::{SampleBlock, SampleWidth};
use deep_tap::time::Tick;
use deep_tap::trigger::{QualifiedEdge, Seen};
use deep_tap::{Error, ErrorKind, Result};

const MEMORY: u64 = 100_000;

/// A counter behind an instrument's face.
#[derive(Default)]
struct Counter {
    configuration: Option<Configuration>,
    armed: bool,
    /// The first sample that is kept, and the trigger.
    first: u64,
    trigger: Option<u64>,
    end: u64,
    read: u64,
}

/// What the four inputs show at a sample: a clock of 10 samples, and the count in the bits above.
fn sample(number: u64) -> u64 {
    let clock = u64::from(number % 10 >= 5);
    let count = number / 10 % 8;
    clock | count << 1
}

impl Instrument for Counter {
    fn identity(&self) -> String {
        "example counter, serial 0".to_string()
    }

    fn capabilities(&self) -> Capabilities {
        let mode = Mode::on_board(4, "10 MS/s".parse(), MEMORY);
        let mut able = Capabilities::new([Bank::new("A", 4)], [mode]);
        able.trigger = OnBoardTrigger::edge(3);
        able
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        let able = self.capabilities();
        let mode = able.mode_for(configuration.inputs.len() as u32, configuration.rate, configuration.stream);
        if mode.is_none_or(|m| configuration.samples > m.memory) {
            return Err(Error::new(
                ErrorKind::Instrument,
                "4 inputs at 10 MS/s is all that the counter does",
            ));
        }
        *self = Counter { configuration: Some(configuration.clone()), ..Counter::default() };
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        self.armed = self.configuration.is_some();
        if self.armed { Ok(()) } else { Err(Error::new(ErrorKind::Instrument, "configure before arming")) }
    }

    fn status(&mut self) -> Result<Status> {
        let Some(configuration) = self.configuration.as_ref().filter(|_| self.armed) else {
            return Ok(Status::Idle);
        };
        if self.end == 0 {
            if let Some(wanted) = &configuration.trigger {
                let found = (1..MEMORY).find(|n| wanted.happens(sample(n - 1), sample(*n)));
                let Some(found) = found else {
                    let elapsed = Time::from_ps(MEMORY as i64 * 100_000);
                    return Ok(Status::Over { elapsed, seen: Seen::default() });
                };
                self.first = found.saturating_sub(configuration.before);
                self.trigger = Some(found - self.first);
            }
            self.end = self.first + configuration.samples;
        }
        Ok(Status::Done { samples: self.end - self.first, trigger: self.trigger })
    }

    fn stop(&mut self) -> Result<()> {
        self.armed = false;
        Ok(())
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        block.reset(SampleWidth::W8);
        let start = self.first + self.read;
        let stop = self.end.min(start + 4096).max(start);
        (start..stop).for_each(|number| block.push(sample(number), 0));
        self.read += stop - start;
        Ok(())
    }
}

fn main() -> Result<()> {
    let names = ["CLK", "Q0", "Q1", "Q2"];
    let mut configuration = Configuration::new("10 MS/s".parse()?, 1000, 0..4);
    configuration.before = 100;
    configuration.trigger = Some(QualifiedEdge {
        input: 0,
        direction: deep_tap::event::Direction::Rises,
        levels: vec![(1, true), (2, false), (3, true)],
    });
    let mut counter = Counter::default();
    let recorded = Acquisition::new(&mut counter, &configuration, &names).capture()?;
    let capture = recorded.into_builder().group("COUNT", &["Q2", "Q1", "Q0"])?.build()?;

    let fives = Program::compile("CLK rises while COUNT == 5", &Scope::of(&capture))?;
    let hits: Vec<Tick> =
        fives.at(capture.base())?.hits(&capture, capture.range()).map(|hit| hit.tick).collect();
    println!("the trigger is at {}, and COUNT == 5 is clocked {} times", capture.base().zero(), hits.len());
    assert!(hits.contains(&capture.base().zero()));

    let period = Limit::period("tCYC", "CLK rises").min("900 ns").max("1.1 us");
    let bound = period.what("clock period").bind(&Scope::of(&capture))?;
    let result = limit::check(&capture, &bound, Rule::Proven)?;
    println!("{}: {} over {} periods", result.symbol, result.verdict, result.counts.seen);
    Ok(())
}
