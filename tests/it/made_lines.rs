//! Lines that no input of the instrument gives: made from analog ones while they are recorded, or left out of a run.

use std::ops::ControlFlow;

use deep_tap::bench::connect;
use deep_tap::capture::{Capture, Edge};
use deep_tap::format::dtap::{Recorder, SaveOptions};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{Verdict, WorthTrying, check_all};
use deep_tap::line::{Level, LineId};
use deep_tap::quantity::{Quantity, Time};
use deep_tap::scan::Samples;
use deep_tap::setup::{CaptureSink, LevelSource, RecordOptions, RunChanges, Setup};
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use crate::support::{record, root, setup, time};

/// One sender on an analog input with slow edges, the same on a digital one, and a mark.
const BOARD: &str = r#"
title = "swell sensor (made up)"
[[node]]
name = "TXA"
analog = true
rests-high = true
low = "0 V"
high = "1.8 V"
rise = "2 us"
fall = "2 us"
[[node]]
name = "OTHER"
[[node]]
name = "TXD"
rests-high = true
[[uart]]
node = "TXA"
bit-rate = "9600 Hz"
text = "swell 42"
every = "20 ms"
start = "6 ms"
[[uart]]
node = "TXD"
bit-rate = "9600 Hz"
text = "swell 42"
every = "20 ms"
start = "6 ms"
[[clock]]
node = "OTHER"
frequency = "1 kHz"
"#;

const SETUP: &str = r#"
[sampling]
rate = "2 MS/s"
length = "30 ms"
before-trigger = "5 ms"
[[analog]]
name = "TXA"
input = 0
range = "0 V .. 2 V"
[[line]]
name = "OTHER"
input = 0
[[line]]
name = "TX"
from = "TXA"
threshold = "0.9 V"
[[line]]
name = "TXD"
input = 1
[[bus]]
name = "console"
kind = "uart"
line = "TX"
bit-rate = "9600 Hz"
[[bus]]
name = "digital"
kind = "uart"
line = "TXD"
bit-rate = "9600 Hz"
"#;

fn made(text: &str, changes: &RunChanges) -> deep_tap::Result<(Setup, Capture)> {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("board.toml"), BOARD).unwrap();
    let mut instrument = connect("bench:board.toml?instrument=EX-M16", folder.path())?;
    let setup = setup(text)?.changed(changes)?;
    let capture = record(&setup, &mut *instrument, RecordOptions::default())?;
    Ok((setup, capture))
}

/// The bytes of a bus, each with the tick it starts at.
fn frames(setup: &Setup, capture: &Capture, bus: &str) -> Vec<(u64, u64)> {
    let bus = setup.serial.iter().find(|known| known.name() == bus).unwrap();
    let frames = bus.frames(capture, capture.range()).unwrap();
    frames.filter_map(|frame| Some((frame.start.0, frame.field("data")?.value))).collect()
}

#[test]
fn a_line_made_from_a_voltage_is_a_line_like_any_other() {
    let triggers = [("console has text \"ell\"", "6 ms"), ("TX falls", "0.2 ms"), ("OTHER rises", "1 ms")];
    for (trigger, before) in triggers {
        let changes = RunChanges::default().trigger(trigger).before(before);
        let (setup, capture) = made(SETUP, &changes).unwrap();
        let (own, digital) = (frames(&setup, &capture, "console"), frames(&setup, &capture, "digital"));
        assert!(own.len() >= 8, "{trigger}");
        // What the record's start cuts may be a byte on one line and none on the other.
        for (start, value) in own.iter().filter(|(start, _)| *start > 10) {
            let beside = digital.iter().find(|(other, _)| other.abs_diff(*start) <= 4);
            assert_eq!(beside.map(|(_, value)| value), Some(value), "{trigger} at {start}");
        }
        let line = capture.line(LineId(1));
        // Within an edge of 2 us, looked at every 500 ns.
        assert!(line.extra > Time::ZERO && line.extra <= time("1.5 us"), "{trigger}: {}", line.extra);
        let program = setup.trigger_program(RecordOptions::default()).unwrap().unwrap();
        let hits = program.at(capture.base()).unwrap();
        let zero = capture.base().zero();
        let ticks: Vec<Tick> = hits.hits(&capture, capture.range()).map(|hit| hit.tick).collect();
        assert!(ticks.contains(&zero), "{trigger}: {zero:?} in {ticks:?}");
    }
}

#[test]
fn limits_on_a_made_line_know_how_well_its_edges_are_known() {
    let (mut setup, capture) = made(SETUP, &RunChanges::default().trigger("TX falls")).unwrap();
    // Bits of 104.167 us; a rate of the digital lines would not help.
    let bit = "width of TX low";
    let words = [format!("{bit}, min 101 us"), format!("{bit}, min 104.1 us"), format!("{bit}, min 108 us")];
    let scope = setup.scope();
    setup.try_limits(&words, &scope).unwrap();
    let results = check_all(&capture, setup.limits(), Rule::Proven).unwrap();
    let verdicts: Vec<Verdict> = results.iter().map(|result| result.verdict).collect();
    assert_eq!(verdicts, [Verdict::Pass, Verdict::Inconclusive, Verdict::Fail]);
    assert!(results.iter().all(|result| !matches!(result.worth_trying, Some(WorthTrying::Rate { .. }))));
}

#[test]
fn what_was_made_while_recording_is_what_is_made_afterwards() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("swell.dtap");
    std::fs::write(folder.path().join("board.toml"), BOARD).unwrap();
    let mut instrument = connect("bench:board.toml?instrument=EX-M16", folder.path()).unwrap();
    for (number, before) in ["0.1 us", "3 ms", "40 %"].into_iter().enumerate() {
        let changes = RunChanges::default().trigger("console has data == 0x77").before(before);
        let setup = setup(SETUP).unwrap().changed(&changes).unwrap();
        let mut file = Recorder::new(&path, SaveOptions { replace: true });
        let go_on = &mut |_| ControlFlow::Continue(());
        let sink: &mut dyn CaptureSink = &mut file;
        let description = setup.record_into(&mut *instrument, RecordOptions::default(), sink, go_on).unwrap();
        file.finish(&description).unwrap();
        let again = folder.path().join(format!("again-{number}.toml"));
        std::fs::write(&again, SETUP).unwrap();
        let (recorded, made) = (Job::open(&path, None).unwrap(), Job::open(&path, Some(&again)).unwrap());
        let [recorded, made] = [recorded, made].map(|job| job.capture);
        let edges =
            |capture: &Capture| -> Vec<Edge> { capture.trace(LineId(1)).edges(capture.range()).collect() };
        assert_eq!(edges(&recorded), edges(&made), "{before}");
        assert!(edges(&recorded).len() > 40);
        assert_eq!(recorded.trace(LineId(1)).level_at(Tick(0)), made.trace(LineId(1)).level_at(Tick(0)));
        assert_eq!(recorded.line(LineId(1)).extra, made.line(LineId(1)).extra, "{before}");
        // Another threshold is another line; what is said of a line stays with it under another name.
        let other = SETUP.replace("0.9 V", "0.2 V").replace("name = \"TX\"", "name = \"LOW\"");
        std::fs::write(&again, other.replace("line = \"TX\"", "line = \"LOW\"")).unwrap();
        let low = Job::open(&path, Some(&again)).unwrap().capture;
        assert_ne!(edges(&low), edges(&recorded));
        std::fs::write(&again, "[[line]]\nname = \"TX\"\n").unwrap();
        let kept = Job::open(&path, Some(&again)).unwrap().capture;
        assert_eq!(kept.line(LineId(0)).extra, recorded.line(LineId(1)).extra);
    }
}

#[test]
fn analog_inputs_alone_make_a_setup() {
    let alone = SETUP.replace("[[line]]\nname = \"OTHER\"\ninput = 0\n", "");
    let alone = alone.replace("[[line]]\nname = \"TXD\"\ninput = 1\n", "");
    let alone = alone.split("[[bus]]\nname = \"digital\"").next().unwrap();
    let (setup, capture) = made(alone, &RunChanges::default().trigger("console has data == 0x77")).unwrap();
    assert_eq!((capture.lines().len(), capture.analog_lines().len()), (1, 1));
    let text: String = frames(&setup, &capture, "console").iter().map(|(_, v)| *v as u8 as char).collect();
    assert!("swell 42swell 42".contains(text.trim_matches('\0')) && text.len() > 8, "{text:?}");
}

#[test]
fn lines_that_are_left_out_are_unknown_and_make_room() {
    let changes = RunChanges::default().lines(["TXD"]).trigger("TXD falls").before("1 ms");
    let (setup, capture) = made(SETUP, &changes).unwrap();
    for (number, line) in setup.lines.iter().enumerate() {
        let trace = capture.trace(LineId(number));
        let recorded = line.source != LevelSource::LeftOut;
        assert_eq!(recorded, line.line.name == "TXD");
        assert_eq!(trace.edge_count() > 20, recorded, "{}", line.line.name);
        assert_eq!(trace.level_at(capture.end()) == Level::Unknown, !recorded);
    }
    assert_eq!(frames(&setup, &capture, "digital").len(), 16);
    assert_eq!(frames(&setup, &capture, "console"), []);
    let told = "for this run: not recorded, and so unknown: OTHER, TX";
    assert!(capture.history().iter().any(|step| step == told), "{:?}", capture.history());
    // Waited for on board, the inputs are numbered anew; both edges of it are there, none of another line.
    let zero = capture.base().zero();
    assert_eq!(capture.trace(LineId(2)).next_edge(Tick(zero.0.saturating_sub(1))).unwrap().tick, zero);
    // Fewer inputs go faster.
    let demo = Setup::from_file(&root().join("setups/tide-gauge.toml")).unwrap();
    let instrument = connect("bench:tide-gauge?instrument=EX-M16", root().as_path()).unwrap();
    let fast = RunChanges::default().length("1 ms");
    assert!(demo.clone().changed(&fast).unwrap().plan(&*instrument, RecordOptions::default()).is_err());
    let few = demo.changed(&fast.lines(["RESET_N", "PGOOD"]).trigger("RESET_N rises")).unwrap();
    assert!(few.plan(&*instrument, RecordOptions::default()).is_ok());
}

#[test]
fn what_cannot_be_made_is_refused_with_the_way_out() {
    let refused = |text: &str, changes: &RunChanges| {
        let error = made(text, changes).unwrap_err();
        format!("{}; {}", error.message(), error.help().unwrap_or_default())
    };
    let none = RunChanges::default();
    let with = |from: &str, to: &str| SETUP.replace(from, to);
    let cases = [
        (with("from = \"TXA\"", "from = \"TXB\""), "no analog line 'TXB'; did you mean 'TXA'?"),
        (with("threshold = \"0.9 V\"\n", ""), "without a threshold; say above which"),
        (with("from = \"TXA\"", "from = \"TXA\"\ninput = 3"), "keep one of 'input' and 'from'"),
        (with("input = 1\n", "input = 1\nhysteresis = \"0.1 V\"\n"), "hysteresis of a digital input"),
        (with("0.9 V", "2.6 V"), "made from 'TXA' at 2.6 V, beyond its range of 0 V .. 2.5 V"),
        (with("threshold = \"0.9 V\"", "threshold = \"0.9 V\"\nhysteresis = \"-1 V\""), "not negative"),
    ];
    for (text, wanted) in cases {
        let told = refused(&text, &none);
        assert!(told.contains(wanted), "{wanted}: {told}");
    }
    let told = refused(SETUP, &RunChanges::default().lines(["OTHRE"]));
    assert!(told.contains("no line 'OTHRE'; did you mean 'OTHER'?"), "{told}");
    let told = refused(SETUP, &RunChanges::default().lines(["OTHER"]).trigger("TXD falls"));
    assert!(told.contains("looks at 'TXD', which --lines leaves out"), "{told}");
    // A voltage that stays within its own error of the threshold says nothing for certain.
    let (_, capture) = made(&with("0.9 V", "0.005 V"), &RunChanges::default()).unwrap();
    assert_eq!(
        capture.trace(LineId(1)).edges(capture.range()).filter(|edge| edge.to == Level::Low).count(),
        0
    );
}

/// What is measured on a line made from a voltage is never far from what the board truly did. More of it:
/// `ROUNDS=4000 cargo test --test it made_lines::the_true`.
#[test]
fn the_true_width_lies_within_the_bounds() {
    let rounds = std::env::var("ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(40);
    let mut room = 0.0;
    for seed in 1..=rounds {
        // Numbers that do not repeat with the samples.
        let pick = |from: u64, to: u64, salt: u64| from + (seed * 7919 + salt * 104_729) % (to - from);
        let (fall, rise, width) = (pick(3, 900, 1), pick(3, 900, 2), pick(4000, 9000, 3));
        let volts = pick(40, 140, 4) as f64 / 100.0;
        // The second one: how often the voltage is looked at.
        let rates =
            [("2 MS/s", "2 MS/s"), ("10 MS/s", "5 MS/s"), ("10 MS/s", "10 MS/s"), ("50 MS/s", "2 MS/s")];
        let (rate, analog) = rates[(seed % 4) as usize];
        let board = format!(
            "title = \"a pulse (made up)\"\n[[node]]\nname = \"P\"\nanalog = true\nrests-high = true\nlow = \"0 V\"\n\
             high = \"1.8 V\"\nfall = \"{fall} ns\"\nrise = \"{rise} ns\"\n[[node]]\nname = \"Q\"\n\
             [[pulse]]\nnode = \"P\"\nat = \"20 us\"\nwidth = \"{width} ns\"\nhigh = false\n"
        );
        let text = format!(
            "[sampling]\nrate = \"{rate}\"\nanalog-rate = \"{analog}\"\nlength = \"60 us\"\n[[analog]]\nname = \"P\"\ninput = 0\nrange = \"0 V .. 2 V\"\n\
             [[line]]\nname = \"LOW\"\nfrom = \"P\"\nthreshold = \"{volts} V\"\n"
        );
        // It passes the threshold so long after each edge began.
        let truth = width as f64 + volts / 1.8 * rise as f64 - (1.8 - volts) / 1.8 * fall as f64;
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("board.toml"), board).unwrap();
        let address = format!("bench:board.toml?instrument=EX-M16&seed={seed}");
        let mut instrument = connect(&address, folder.path()).unwrap();
        let mut setup = setup(&text).unwrap();
        let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
        let scope = setup.scope();
        setup.try_limits(&["width of LOW low, min 1 ns"], &scope).unwrap();
        let result = &check_all(&capture, setup.limits(), Rule::Proven).unwrap()[0];
        let Some(bounds) = result.bounds else { panic!("{seed}: the pulse was not seen") };
        let nanoseconds = |quantity: Quantity| match quantity {
            Quantity::Time(time) => time.to_f64() * 1e9,
            other => panic!("{other}"),
        };
        let (lo, hi) = (nanoseconds(bounds.lo), nanoseconds(bounds.hi.unwrap()));
        assert!(lo <= truth && truth <= hi, "{seed}: {truth} in {lo} to {hi}");
        room += (hi - lo) / rounds as f64;
    }
    assert!(room < 3000.0, "bounds {room} ns apart say next to nothing");
}

/// A file that fails after some blocks of samples.
struct Breaks(Recorder, u32);

impl CaptureSink for Breaks {
    fn begin(&mut self, description: Capture) -> deep_tap::Result<()> {
        self.0.begin(description)
    }

    fn push(&mut self, samples: Samples<'_>) -> deep_tap::Result<()> {
        self.1 = self.1.checked_sub(1).ok_or_else(|| Error::new(ErrorKind::Link, "broken off"))?;
        self.0.push(samples)
    }
}

#[test]
fn what_breaks_off_claims_nothing_about_a_made_line() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("broken.dtap");
    std::fs::write(folder.path().join("board.toml"), BOARD).unwrap();
    let mut instrument = connect("bench:board.toml?instrument=EX-M16", folder.path()).unwrap();
    let mut setup = setup(SETUP).unwrap().changed(&RunChanges::default().trigger("TX falls")).unwrap();
    let mut file = Breaks(Recorder::new(&path, SaveOptions::default()), 6);
    let go_on = &mut |_| ControlFlow::Continue(());
    let error = setup.record_into(&mut *instrument, RecordOptions::default(), &mut file, go_on).unwrap_err();
    assert_eq!(error.message(), "broken off");
    assert!(file.0.finish_broken_off(error.message()).unwrap());
    let capture = Job::open(&path, None).unwrap().capture;
    assert!(capture.trace(LineId(1)).edge_count() > 4);
    let scope = setup.scope();
    setup.try_limits(&["width of TX low, min 1 us", "width of TXD low, min 1 us"], &scope).unwrap();
    let results = check_all(&capture, setup.limits(), Rule::Proven).unwrap();
    let verdicts: Vec<Verdict> = results.iter().map(|result| result.verdict).collect();
    assert_eq!(verdicts, [Verdict::Inconclusive, Verdict::Pass]);
}
