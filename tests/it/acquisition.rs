//! Recording from an instrument that is not on the bench, and does not behave.

use std::ops::ControlFlow;

use deep_tap::bench::connect;
use deep_tap::capture::Capture;
use deep_tap::event::{Meaning, Program, Scope, StreamSearch};
use deep_tap::instrument::{Acquisition, Capabilities, Configuration, Instrument, Progress, Sink, Status};
use deep_tap::line::LineId;
use deep_tap::scan::{SampleBlock, SampleWidth, Samples};
use deep_tap::setup::{RecordOptions, RunChanges, Session, Setup};
use deep_tap::time::{Tick, TimeBase};
use deep_tap::{Error, ErrorKind, Result};

use crate::support::{root, time};

/// Sends faster than anybody reads: there are always more samples, unless it fails.
#[derive(Default)]
struct Torrent {
    position: u64,
    fails_at: Option<u64>,
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
        if self.fails_at.is_some_and(|fails_at| self.position >= fails_at) {
            return Err(Error::new(ErrorKind::Instrument, "the cable is out"));
        }
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
    (acquisition.search, acquisition.time_out) = (Some(search.into()), Some(time("100 ms")));
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

#[test]
fn what_arrives_before_an_instrument_fails_is_passed_on() {
    let mut configuration = Configuration::new("100 MS/s".parse().unwrap(), 3_000_000, [0]);
    configuration.stream = true;
    for fails_at in [0, 5000, 200_000, 1_000_000] {
        let mut instrument = Torrent { fails_at: Some(fails_at), ..Torrent::default() };
        let mut sink = Counting { seen: 0, most: u64::MAX, trigger: None };
        let acquisition = Acquisition::new(&mut instrument, &configuration, &["CLK"]);
        let outcome = acquisition.run_into(&mut sink, &mut |_: Progress| ControlFlow::Continue(()));
        assert_eq!(outcome.unwrap_err().message(), "the cable is out");
        assert_eq!((sink.seen, instrument.stopped), (fails_at, true));
    }
}

/// What the setup of all buses waits for.
const EVENT: &str = "event = \"rtc has write, address == 0x51\"";

pub(crate) fn buses() -> String {
    std::fs::read_to_string(crate::support::root().join("setups/buses.toml")).unwrap()
}

/// Records the demo board by a setup like that of all buses.
pub(crate) fn waited(text: &str) -> (Setup, deep_tap::Result<Capture>) {
    let folder = tempfile::tempdir().unwrap();
    let parts = crate::support::root().join("parts");
    let text = text.replace("../parts", &parts.display().to_string());
    std::fs::write(folder.path().join("s.toml"), text).unwrap();
    let setup = Setup::from_file(&folder.path().join("s.toml")).unwrap();
    let mut instrument = connect("bench:tide-gauge", folder.path()).unwrap();
    let recorded = crate::support::record(&setup, &mut *instrument, RecordOptions::default());
    (setup, recorded)
}

#[test]
fn a_trigger_on_frames_that_does_not_come_says_which_came() {
    let told = |event: &str, from: &str, to: &str| {
        let text = buses().replace("time-out = \"1 s\"", "time-out = \"30 ms\"").replace(from, to);
        let error = waited(&text.replace(EVENT, &format!("event = {event:?}"))).1.unwrap_err();
        assert_eq!(error.message(), "the trigger did not come within 30 ms");
        error.help().unwrap().to_string()
    };
    let help = told("rtc has address == 0x52", "", "");
    assert!(help.contains("rtc: 18 write, 6 read\n    address was 0x51 24 times"), "{help}");
    let help = told("gnss has text \"FIX 2D\"", "", "");
    assert!(help.contains("gnss: 33 byte\n    data was 0x30 9 times, 0x20 4 times"), "{help}");
    let help = told("gnss has data == 0x40", "57.6 kHz", "5.6 kHz");
    assert!(help.contains("faults: 5 spike, 4 drift, 2 framing"), "{help}");
    let help = told("rtc has write, data[0] == 0x09 then rtc at stop", "", "");
    assert!(help.contains("step 1:\n  on 'rtc has write, data[0] == 0x09': never came"), "{help}");
    assert!(help.contains("step 2: never reached\n  on 'rtc at stop': came 18 times"), "{help}");
    let help = told("RTC_SCL falls then RTC_SCL falls within 1 us then RTC_SDA rises", "", "");
    assert!(help.contains("step 2: reached 564 times\n  on 'RTC_SCL falls': came 564 times"), "{help}");
}

/// Unless the setup says how much is kept, the record has all of what the trigger is about: searching it finds
/// the trigger again.
#[test]
fn the_trigger_keeps_what_it_was_about() {
    let text = buses().replace("before-trigger = \"100 us\"\n", "");
    let events = [
        "rtc has write, address == 0x51",
        "rtc transfer has write-read",
        "gnss has text \"FIX 3D\"",
        "modem has data",
        "rtc at restart then rtc at stop",
        "RTC_SDA falls then RTC_SCL falls 9 times then RTC_SCL rises",
        "RTC_SCL low for > 1 us",
        "RTC_SCL falls",
    ];
    for event in events {
        let (setup, recorded) = waited(&text.replace(EVENT, &format!("event = {event:?}")));
        let (capture, options) = (recorded.unwrap(), RecordOptions::default());
        let program = setup.trigger_program(options).unwrap().unwrap();
        let zero = capture.base().zero();
        assert!(zero.0 >= 1, "{event}");
        let hit = program.at(capture.base()).unwrap().hits(&capture, capture.range()).next();
        assert_eq!(hit.map(|hit| hit.tick), Some(zero), "{event}");
    }
}

/// One instrument, armed again and again with one thing changed; what it cannot do changes nothing.
#[test]
fn a_session_is_armed_anew_with_changes() {
    let setup = Setup::from_file(&root().join("setups/tide-gauge.toml")).unwrap();
    let instrument = connect("bench:tide-gauge?faults=none", root().as_path()).unwrap();
    let mut session = Session::new(setup, instrument);
    let record =
        |session: &mut Session| session.record(RecordOptions::default(), &mut |_| ControlFlow::Continue(()));
    let first = record(&mut session).unwrap();
    assert_eq!(first.history(), [] as [String; 0]);
    let refused = [
        RunChanges::default().trigger("NO_SUCH rises"),
        RunChanges::default().rate("2 GS/s"),
        RunChanges::default().length("4 h"),
        RunChanges::default().lines(["RESET_N"]),
    ];
    let slower = session.change(RunChanges::default().rate("20 MS/s"), RecordOptions::default()).unwrap();
    for changes in refused {
        let error = session.change(changes.clone(), RecordOptions::default()).unwrap_err();
        assert!(!error.message().is_empty(), "{changes:?}");
        assert_eq!(session.plan(RecordOptions::default()).unwrap(), slower, "{changes:?}");
    }
    assert_eq!(slower.rate, "20 MS/s".parse().unwrap());
    assert_eq!(record(&mut session).unwrap().base().rate(), slower.rate);
    // A trigger that does not come is no end of it.
    let never = RunChanges::default().trigger("RESET_N falls").rate("20 MS/s");
    session.change(never, RecordOptions::default()).unwrap();
    let error = record(&mut session).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::TimeOut, "{error:?}");
    let again = RunChanges::default().trigger("ADC_DRDY_N falls").length("1 ms").before("0.1 ms");
    session.change(again, RecordOptions::default()).unwrap();
    let near = record(&mut session).unwrap();
    assert_eq!((near.base().rate(), near.base().zero().0), ("100 MS/s".parse().unwrap(), 10_000));
    assert_eq!(near.history().len(), 3, "{:?}", near.history());
    // Without changes it is what it was.
    session.change(RunChanges::default(), RecordOptions::default()).unwrap();
    let last = record(&mut session).unwrap();
    assert_eq!((last.len(), last.base().rate()), (first.len(), first.base().rate()));
    assert_eq!(last.history(), first.history());
}
