//! Voltages that hold until they change, at their own times: against a plain list of changes, through every
//! format, and what is asked of them.

use deep_tap::capture::{Capture, Extremes, HeldBuilder};
use deep_tap::draw::{Picture, RowSource, View};
use deep_tap::event::{Program, Scope};
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::format::{Source, csv, read, vcd};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::Verdict;
use deep_tap::line::{AnalogId, AnalogLine, AnalogScale, Level, Line};
use deep_tap::measure::{transitions, voltage_levels};
use deep_tap::quantity::Voltage;
use deep_tap::setup::Import;
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

use crate::support::toggles;

const LEN: u64 = 300;

fn volts(text: &str) -> Voltage {
    text.parse().unwrap()
}

/// Changes as they are made: tick and code, which is none where it is not known.
type Changes = Vec<(u64, Option<i16>)>;

fn changes() -> impl Strategy<Value = Changes> {
    let code = prop_oneof![4 => (-300i16..300).prop_map(Some), 1 => Just(None)];
    prop::collection::btree_map(0..LEN, code, 0..40).prop_map(|map| map.into_iter().collect())
}

/// The code at each tick, the slow way.
fn plain(changes: &Changes) -> Vec<Option<i16>> {
    let at = |tick: u64| changes.iter().rev().find(|(from, _)| *from <= tick).and_then(|(_, code)| *code);
    (0..LEN).map(at).collect()
}

fn capture(lines: &[Changes], exact: bool) -> Capture {
    let base = TimeBase::from_tick("1 ns".parse().unwrap()).unwrap().with_zero_at(7);
    let resolution = if exact { Resolution::EXACT } else { Resolution::SAMPLED };
    let mut builder = Capture::builder(base, LEN).resolution(resolution);
    builder = builder.line(Line::named("GO"), toggles(Level::Low, &[50, 130, LEN - 1], LEN));
    for (number, changes) in lines.iter().enumerate() {
        let scale = AnalogScale::new(volts("1.5 V"), volts("10 mV"), volts("0 V")).unwrap();
        let mut changes = changes.iter().copied().peekable();
        let start = changes.next_if(|(tick, _)| *tick == 0).and_then(|(_, code)| code);
        let mut held = HeldBuilder::new(start);
        changes.for_each(|(tick, code)| held.push(Tick(tick), code).unwrap());
        builder = builder.analog(AnalogLine::named(format!("V{number}")), held.finish(scale, LEN));
    }
    builder.build().unwrap()
}

/// What holds of a capture that is said to have these voltages.
fn holds_these(capture: &Capture, lines: &[Changes], len: u64) {
    for (number, changes) in lines.iter().enumerate() {
        let (trace, plain) = (capture.analog(AnalogId(number)), plain(changes));
        for tick in 0..len {
            let scale = AnalogScale::new(volts("1.5 V"), volts("10 mV"), volts("0 V")).unwrap();
            let wanted = plain[tick as usize].map(|code| scale.voltage(code));
            assert_eq!(trace.voltage_at(Tick(tick)), wanted, "line {number} at {tick}: {changes:?}");
        }
    }
}

fn back(bytes: Vec<u8>, name: &str, stated: &[&str]) -> Capture {
    let words: Vec<String> = stated.iter().map(ToString::to_string).collect();
    let stated = Import::of_words(&words).unwrap();
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let read = read(&Source::of_bytes(bytes, name), &stated, &mut |_, _| ());
    read.unwrap_or_else(|error| panic!("{error} {:?}\n{text}", error.help()))
}

proptest! {
    #[test]
    fn every_question_has_the_answer_of_the_plain_list(of in changes(), from in 0..LEN, to in 0..LEN) {
        let capture = capture(std::slice::from_ref(&of), true);
        let (trace, plain) = (capture.analog(AnalogId(0)), plain(&of));
        holds_these(&capture, std::slice::from_ref(&of), LEN);
        let range = from.min(to)..from.max(to);
        let part = &plain[range.start as usize..range.end as usize];
        let known: Vec<i16> = part.iter().copied().flatten().collect();
        let ticks = Tick(range.start)..Tick(range.end);
        prop_assert_eq!(trace.extremes(ticks.clone()), Extremes::of(&known));
        let weighted: Vec<i16> =
            trace.codes_in(ticks.clone()).flat_map(|(_, code, ticks)| vec![code; ticks as usize]).collect();
        prop_assert_eq!(&weighted, &known);
        if let Some(levels) = voltage_levels(trace, ticks) {
            let mean = 1.5 + known.iter().map(|c| f64::from(*c)).sum::<f64>() / known.len() as f64 * 0.01;
            prop_assert!((levels.mean - mean).abs() < 1e-9);
        }
        // Seen as levels, it crosses where the list does.
        let program = Program::compile("V0 rises through 2 V", &Scope::of(&capture)).unwrap();
        let hits = program.at(capture.base()).unwrap();
        let hits: Vec<u64> = hits.hits(&capture, capture.range()).map(|hit| hit.tick.0).collect();
        let high = |tick: usize| plain[tick].map(|code| code >= 50);
        let wanted: Vec<u64> = (1..LEN as usize)
            .filter(|tick| (high(tick - 1), high(*tick)) == (Some(false), Some(true)))
            .map(|tick| tick as u64)
            .collect();
        prop_assert_eq!(hits, wanted);
    }

    #[test]
    fn they_come_back_from_every_format(a in changes(), b in changes(), exact in any::<bool>()) {
        let lines = [a, b];
        let capture = capture(&lines, exact);
        let folder = tempfile::TempDir::new().unwrap();
        let path = folder.path().join("x.dtap");
        dtap::save(&capture, &path, SaveOptions::default()).unwrap();
        let opened = dtap::open(&path).unwrap().capture;
        holds_these(&opened, &lines, LEN);
        prop_assert!(opened.damage().is_empty() && opened.analog_lines() == capture.analog_lines());
        // A file that is cut anywhere says what it lost, and tells nothing wrong.
        let bytes = std::fs::read(&path).unwrap();
        for cut in (8..bytes.len()).step_by(211) {
            std::fs::write(&path, &bytes[..cut]).unwrap();
            let Ok(part) = dtap::open(&path) else { continue };
            for (number, changes) in lines.iter().enumerate() {
                for (tick, code) in plain(changes).into_iter().enumerate().take(part.capture.len() as usize) {
                    let known = part.capture.analog(AnalogId(number)).voltage_at(Tick(tick as u64));
                    let scale = capture.analog(AnalogId(number)).scale();
                    prop_assert!(known.is_none() || known == code.map(|code| scale.voltage(code)));
                }
            }
        }
        let mut dump = Vec::new();
        vcd::write(&capture, &mut dump).unwrap();
        let again = back(dump, "x.vcd", &[]);
        holds_these(&again, &lines, LEN);
        prop_assert_eq!((again.resolution(), again.base()), (capture.resolution(), capture.base()));
        let mut table = Vec::new();
        csv::write(&capture, csv::Layout::Changes, &mut table).unwrap();
        let again = back(table, "x.csv", &["rows=changes", if exact { "exact=true" } else { "rate=1 GS/s" }]);
        // The last row is that of the last change.
        holds_these(&again, &lines, again.len());
        prop_assert!(again.len() >= LEN - 1);
    }

    #[test]
    fn an_excerpt_has_what_the_whole_has(of in changes(), from in 0..LEN, to in 0..LEN) {
        let (from, to) = (from.min(to), from.max(to));
        let part = capture(std::slice::from_ref(&of), true).excerpt(Tick(from)..Tick(to)).unwrap();
        let (trace, whole) = (part.analog(AnalogId(0)), plain(&of));
        for tick in from..to {
            let wanted = whole[tick as usize].map(|code| trace.scale().voltage(code));
            prop_assert_eq!(trace.voltage_at(Tick(tick - from)), wanted);
        }
    }
}

/// The numbers of a simulator, as it writes them.
const DUMP: &str = "$timescale 1 ns $end\n$scope module tb $end\n$var wire 1 ! en $end\n\
    $var real 64 \" vout $end\n$var real 64 # temp $end\n$upscope $end\n$enddefinitions $end\n\
    #0\n$dumpvars\n0!\nr0 \"\nr21.5 #\n$end\n#10\n1!\n#13\nr0.9 \"\n#17\nr1.8000000000000003 \"\n#40\nrnan #\n\
    #55\nr3.2999999999999998 \"\nrinf #\n#60\nr3.3 \"\nr22 #\n#100\nr0 \"\n0!\n#120\n0!\n";

fn simulated() -> Job {
    let source = Source::of_bytes(DUMP.into(), "amp.vcd");
    Job::of_record(&source, None, Import::default(), &mut |_, _| ()).unwrap()
}

#[test]
fn numbers_of_a_simulation_can_be_asked_searched_measured_and_checked() {
    let record = back(DUMP.into(), "amp.vcd", &[]);
    assert!(record.remarks().is_empty(), "{:?}", record.remarks());
    let at = |name: &str, tick: u64| record.analog(record.analog_named(name).unwrap()).voltage_at(Tick(tick));
    let vout = "tb.vout";
    assert_eq!(at(vout, 12), Some(volts("0 V")));
    // So many digits are more than codes have steps for; how far off they are is said.
    let scale = record.analog(record.analog_named(vout).unwrap()).scale();
    let off = |tick: u64, exact: f64| (at(vout, tick).unwrap().to_f64() - exact).abs();
    assert!(off(20, 1.8000000000000003) <= scale.error().to_f64() + 1e-12 && scale.error() < volts("100 uV"));
    assert_eq!((at("tb.temp", 39), at("tb.temp", 41)), (Some(volts("21.5 V")), None), "nan is not known");
    assert_eq!((at("tb.temp", 56), at("tb.temp", 60)), (None, Some(volts("22 V"))), "nor is infinite");
    let rise = transitions(
        record.analog(record.analog_named(vout).unwrap()),
        Tick(0)..Tick(80),
        volts("0.5 V"),
        volts("3 V"),
    );
    assert_eq!(rise.iter().map(|way| (way.start.0, way.end.0)).collect::<Vec<_>>(), [(13, 55)]);
    // From enable to 3 V it takes 45 ns, exactly, since the voltage is known at every instant.
    let mut job = simulated();
    job.try_limits(&["delay from tb.en rises to tb.vout rises through 3 V, max 45 ns".to_string()]).unwrap();
    let result = job.check(&[""; 0], Rule::Proven).unwrap().results.remove(0);
    assert_eq!((result.verdict, result.measured), (Verdict::Pass, Some("45 ns".parse().unwrap())));
    let mut job = simulated();
    job.try_limits(&["delay from tb.en rises to tb.vout rises through 3 V, max 44 ns".to_string()]).unwrap();
    assert_eq!(job.check(&[""; 0], Rule::Proven).unwrap().overall, Verdict::Fail);
}

#[test]
fn a_table_of_changes_has_voltages_and_gaps_are_not_known() {
    let text = "time (us),rail (V),en\n0,0,0\n10,1.2,\n13,3.3,1\n40,x,\n55,,0\n60,3.25,0\n";
    let record = back(text.into(), "rail.csv", &["rows=changes", "exact=true"]);
    let trace = record.analog(AnalogId(0));
    let at = |us: u64| {
        let tick = record.base().ticks_in(format!("{us} us").parse().unwrap()).unwrap().round();
        trace.voltage_at(Tick(tick as u64))
    };
    assert_eq!((at(9), at(12), at(39)), (Some(volts("0 V")), Some(volts("1.2 V")), Some(volts("3.3 V"))));
    assert_eq!(
        (at(41), at(56), at(60)),
        (None, None, Some(volts("3.25 V"))),
        "empty is as before: not known"
    );
    // In samples, an empty cell is not known.
    let samples = "time (us),rail (V)\n0,1.1\n1,1.1\n2,\n3,1.3\n4,1.3\n";
    let record = back(samples.into(), "rail.csv", &["rows=samples", "rate=1 MS/s"]);
    let trace = record.analog(AnalogId(0));
    let all: Vec<Option<Voltage>> = (0..5).map(|tick| trace.voltage_at(Tick(tick))).collect();
    let (low, high) = (Some(volts("1.1 V")), Some(volts("1.3 V")));
    assert_eq!(all, [low, low, None, high, high]);
    assert!(record.resolution().sampled);
}

#[test]
fn numbers_that_are_no_voltages_are_not_known() {
    let dump = DUMP.replace("r21.5 #", "r2.15e12 #");
    let record = back(dump.into(), "amp.vcd", &[]);
    let temp = record.analog(record.analog_named("tb.temp").unwrap());
    assert_eq!((temp.voltage_at(Tick(5)), temp.voltage_at(Tick(70))), (None, Some(volts("22 V"))));
    assert_eq!(record.remarks(), ["1 value of tb.temp beyond 10^9: taken for not known"]);
    // A record of numbers alone is one, too.
    let only = DUMP.replace("$var wire 1 ! en $end\n", "");
    let record = back(only.replace("0!\n", "").replace("1!\n", "").into(), "amp.vcd", &[]);
    assert_eq!((record.lines().len(), record.analog_lines().len()), (0, 2));
}

/// However far a picture is zoomed in, a voltage changes in the column in which a line does at the same tick.
#[test]
fn a_voltage_is_drawn_where_it_changes() {
    let changes = vec![(0, Some(0)), (50, Some(300)), (130, Some(0))];
    let capture = capture(&[changes], true);
    let rows = [RowSource::Line(capture.line_named("GO").unwrap()), RowSource::Analog(AnalogId(0))];
    for (start, end, columns) in [(45, 60, 97), (49, 52, 200), (48, 53, 333)] {
        let view = View { start: Tick(start), end: Tick(end), columns };
        let text = Picture::new(&capture, &rows, view, &[]).unwrap().to_string();
        // The axis has its first tick at the margin, before both.
        let first = |row: &str, of: &[char]| row.chars().position(|c| of.contains(&c));
        let line = text.lines().filter_map(|row| first(row, &['┌'])).max().unwrap();
        // Two rows of a voltage: the upper one begins where the lower one ends.
        let voltage = text.lines().filter_map(|row| first(row, &['▀', '▄', '█'])).max().unwrap();
        assert!(voltage.abs_diff(line) <= 1, "{text}");
    }
}
