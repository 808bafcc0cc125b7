//! Analog lines: what the bench's board really did against what the library says, and the store
//! against a plain list of codes.

use std::path::Path;

use deep_tap::bench::connect;
use deep_tap::capture::{AnalogBuilder, AnalogTrace, Capture, Extremes};
use deep_tap::event::{Program, Scope, StreamSearch};
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::known::Rule;
use deep_tap::limit::{self, Kind, Verdict};
use deep_tap::line::{AnalogId, AnalogLine, AnalogScale, Level, Line, LineId};
use deep_tap::measure::{transitions, voltage_levels};
use deep_tap::quantity::{Rational, Time, Voltage};
use deep_tap::scan::{SampleBlock, SampleWidth};
use deep_tap::setup::{RecordOptions, RunChanges, Setup};
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

use crate::support::{bind, limit, pair, record, root, toggles};

fn volts(text: &str) -> Voltage {
    text.parse().unwrap()
}

fn scale() -> AnalogScale {
    AnalogScale::new(volts("0 V"), volts("1 mV"), volts("0 V")).unwrap()
}

fn trace(codes: &[i16], first: u64, every: u64) -> AnalogTrace {
    let mut builder = AnalogBuilder::new();
    builder.push(codes);
    builder.finish(scale(), first, every)
}

/// A capture at 1 MS/s of one line that toggles at these ticks and one analog line.
fn capture(ticks: &[u64], codes: &[i16], every: u64, hysteresis: &str) -> Capture {
    let len = codes.len() as u64 * every;
    let line = AnalogLine { hysteresis: volts(hysteresis), ..AnalogLine::named("RAIL") };
    Capture::builder(TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap(), len)
        .resolution(Resolution::SAMPLED)
        .line(Line::named("GO"), toggles(Level::Low, ticks, len))
        .analog(line, trace(codes, 0, every))
        .build()
        .unwrap()
}

fn hits(capture: &Capture, text: &str) -> Vec<u64> {
    let program = Program::compile(text, &Scope::of(capture)).unwrap();
    program.at(capture.base()).unwrap().hits(capture, capture.range()).map(|hit| hit.tick.0).collect()
}

#[test]
fn a_crossing_is_at_the_voltage_itself_and_needs_the_way_back() {
    //                           0  1    2    3    4    5     6    7    8    9
    let capture = capture(&[25], &[0, 900, 1000, 950, 1000, 1100, 790, 1000, 400, 1000], 10, "200 mV");
    // Back to 950 mV is no way back; 790 mV is.
    assert_eq!(hits(&capture, "RAIL rises through 1 V"), [20, 70, 90]);
    // Falling needs to have been 200 mV above.
    assert_eq!(hits(&capture, "RAIL falls through 850 mV"), [60], "at 1 V it was not 200 mV above");
    assert_eq!(hits(&capture, "RAIL falls through 500 mV"), [80]);
    assert_eq!(hits(&capture, "GO rises while RAIL > 0.9 V"), [25]);
    assert_eq!(hits(&capture, "RAIL rises through 1 V while GO high"), [70, 90]);
    assert_eq!(
        hits(&capture, "RAIL < 500 mV for < 15 us"),
        [90],
        "over at 700 mV; the first one began before the record"
    );
    assert_eq!(hits(&capture, "GO rises then RAIL falls through 500 mV within 60 us"), [80]);
    assert_eq!(hits(&capture, "when RAIL > 1.05 V"), [50]);
}

#[test]
fn a_voltage_is_not_a_level_nor_a_value_and_says_what_to_write() {
    let capture = capture(&[25], &[0, 1], 100, "0 V");
    for (text, message, help) in [
        ("RAIL rises", "'RAIL' is an analog line", "'RAIL rises through 1.65 V'"),
        ("GO rises while RAIL high", "'RAIL' is an analog line", "'RAIL > 1.65 V'"),
        ("when RAIL == 3", "an analog line, which has no value", "'RAIL > 1.65 V'"),
        ("when RAIL > 3", "an analog line, which has no value", "compare it with a voltage"),
        ("GO rises through 1 V", "'GO' is a line, which has no voltage", "[[analog]]"),
        ("RAIL rises through 1 ns", "'ns' is not a unit of a voltage", "1.65 V"),
        ("RAIL rises through 1.0000001 V", "cannot be compared", "microvolts"),
        ("RAIL changes", "'RAIL' is an analog line", "RAIL > 1.65 V"),
    ] {
        let error = Program::compile(text, &Scope::of(&capture)).unwrap_err();
        let told = format!("{} [{}]", error.message(), error.help().unwrap_or_default());
        assert!(told.contains(message) && told.contains(help), "{text}: {told}");
    }
}

/// The rail of the demo board at this setup's rates: the true instants at which it passes a voltage
/// are known, since it goes from 0 to 3.3 V in 1100 us.
fn rail(seed: u64) -> (Setup, Capture) {
    let setup = Setup::from_file(&root().join("setups/power-rail.toml")).unwrap();
    let address = format!("bench:tide-gauge?instrument=EX-M16&faults=none&seed={seed}");
    let mut instrument = connect(&address, Path::new("")).unwrap();
    let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
    (setup, capture)
}

#[test]
fn no_verdict_about_a_voltage_is_ever_wrong_and_its_bounds_hold_the_truth() {
    let (mut passed, mut failed, mut open) = (0, 0, 0);
    for seed in 0..60 {
        let (_, capture) = rail(seed);
        let (low, high) = (150 + 7 * i128::from(seed), 3000 - 11 * i128::from(seed));
        let millis = |mv: i128| Voltage::from_rational(Rational::new(mv, 1000).unwrap());
        let truth = Rational::new((high - low) * 1_100, 3300 * 1_000_000).unwrap();
        // Off the truth by up to 40 us, to either side.
        let off = Rational::new((i128::from(seed) * 37) % 81 - 40, 1_000_000).unwrap();
        let max = Time::from_rational(truth.checked_add(off).unwrap());
        let text = |mv| format!("VDD33 rises through {}", millis(mv));
        let limit = limit(Kind::Delay, pair(&text(low), &text(high)), None, Some(max));
        let result = limit::check(&capture, &bind(&capture, &limit), Rule::Proven).unwrap();
        let truth = Time::from_rational(truth);
        let bounds = result.bounds.unwrap();
        assert!(bounds.contain(truth.into()), "seed {seed}: {truth} not in {bounds:?}");
        // No wider than what 26 mV either way at both ends, and a sample, make of it.
        let width = bounds.hi.unwrap().to_f64() - bounds.lo.to_f64();
        assert!(width < 4.0 * (0.026 / 3000.0 + 0.4e-6) + 1e-6, "seed {seed}: {width}");
        match result.verdict {
            Verdict::Pass => passed += u32::from(truth <= max) * 2 - 1,
            Verdict::Fail => failed += u32::from(truth > max) * 2 - 1,
            _ => open += 1,
        }
        assert!(result.worth_trying.is_none(), "the rate of the digital lines does not decide it");
    }
    assert!(passed > 5 && failed > 5 && open > 5, "{passed} {failed} {open}");
}

#[test]
fn the_rail_that_dips_is_found_by_search_limit_and_measurement_and_the_healthy_one_is_not() {
    let setup = Setup::from_file(&root().join("setups/power-rail.toml")).unwrap();
    for (faults, dips) in [("rail-dip", 1), ("none", 0)] {
        let address = format!("bench:tide-gauge?instrument=EX-M16&faults={faults}");
        let mut instrument = connect(&address, Path::new("")).unwrap();
        let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
        let program = Program::compile("rail-dips", &setup.scope()).unwrap();
        assert_eq!(program.at(capture.base()).unwrap().hits(&capture, capture.range()).count(), dips);
        let results = limit::check_all(&capture, setup.limits(), Rule::Proven).unwrap();
        let verdict = |symbol: &str| results.iter().find(|r| r.symbol == symbol).unwrap().verdict;
        assert_eq!(verdict("tDIP"), if dips > 0 { Verdict::Fail } else { Verdict::NotSeen });
        assert_eq!((verdict("tRISE"), verdict("tPG")), (Verdict::Pass, Verdict::Pass));
        let rail = capture.analog(AnalogId(0));
        let levels = voltage_levels(rail, capture.range()).unwrap();
        let off = |volts: Voltage, truth: f64| (volts.to_f64() - truth).abs() <= levels.error.to_f64();
        assert!(off(levels.low, 0.0) && off(levels.high, 3.3), "{levels:?}");
        let ways = transitions(rail, capture.range(), levels.at(10), levels.at(90));
        assert_eq!(ways.len(), 1, "a dip that turns back is no transition");
        let rise = capture.base().length_of(ways[0].ticks() as i64).to_f64();
        assert!((rise - 880e-6).abs() < 15e-6, "{rise}");
    }
}

#[test]
fn the_stream_stops_where_the_search_of_the_record_has_its_first_hit() {
    let text = std::fs::read_to_string(root().join("setups/power-rail.toml")).unwrap();
    for event in [
        "VDD33 rises through 2.1 V while RESET_N low",
        "TIDE_OUT rises through 1.2 V while D0 high",
        "MEM_WE_N rises while TIDE_OUT < 0.7 V",
        "RESET_N rises then TIDE_OUT falls through 0.9 V then MEM_WE_N falls",
    ] {
        let at = |trigger: &str, before: &str| {
            let text = text.replace("VDD33 rises through 1.65 V while RESET_N low", trigger);
            let text = text.replace("before-trigger = \"10 %\"", before).replace("../parts", "parts");
            let text = text.split("[[part]]").next().unwrap();
            let setup = crate::support::setup(text).unwrap();
            let mut instrument = connect("bench:tide-gauge?instrument=EX-M16", Path::new("")).unwrap();
            (
                record(
                    &setup,
                    &mut *instrument,
                    RecordOptions { now: trigger.is_empty(), ..Default::default() },
                ),
                setup,
            )
        };
        let (stopped, _) = at(event, "before-trigger = \"3 ms\"");
        let (whole, setup) = at("D0 rises", "before-trigger = \"9 ms\"");
        let (stopped, whole) = (stopped.unwrap(), whole.unwrap());
        let program = Program::compile(event, &setup.scope()).unwrap();
        let first = program.at(whole.base()).unwrap().hits(&whole, whole.range()).next().unwrap().tick;
        // Both records began at the same instant of the board: D0 and RESET_N tie them together.
        let reset = |capture: &Capture| capture.trace(LineId(1)).next_edge(Tick(0)).unwrap().tick;
        let apart = first.since(reset(&whole));
        assert_eq!(stopped.base().zero().since(reset(&stopped)), apart, "{event}");
    }
}

#[test]
fn recorded_on_board_the_voltages_lie_where_they_were_beside_the_levels() {
    let text = std::fs::read_to_string(root().join("setups/power-rail.toml")).unwrap();
    let text = text.replace("VDD33 rises through 1.65 V while RESET_N low", "PGOOD rises");
    let text = text.replace(
        "rate = \"50 MS/s\"\nanalog-rate = \"5 MS/s\"",
        "rate = \"200 MS/s\"\nanalog-rate = \"8 MS/s\"",
    );
    let setup = crate::support::setup(text.split("[[part]]").next().unwrap()).unwrap();
    for seed in 0..8 {
        let address = format!("bench:tide-gauge?instrument=EX-M16&faults=none&seed={seed}");
        let mut instrument = connect(&address, Path::new("")).unwrap();
        assert!(!setup.plan(&*instrument, RecordOptions::default()).unwrap().stream);
        let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
        let rises = hits(&capture, "VDD33 rises through 1.65 V");
        // Half of 1.1 ms after 3 ms, and power is good at 4.2 ms.
        let at = capture.base().time_of(Tick(rises[0])).to_f64();
        assert!(rises.len() == 1 && (at + 650e-6).abs() < 9e-6, "seed {seed}: {at}");
    }
}

#[test]
fn a_voltage_that_is_never_reached_is_told_with_those_that_were() {
    let text = std::fs::read_to_string(root().join("setups/power-rail.toml")).unwrap();
    let text =
        text.replace("1.65 V while", "4.2 V while").replace("time-out = \"1 s\"", "time-out = \"9 ms\"");
    let setup = crate::support::setup(text.split("[[part]]").next().unwrap()).unwrap();
    let mut instrument = connect("bench:tide-gauge?instrument=EX-M16", Path::new("")).unwrap();
    let error = record(&setup, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert!(error.help().unwrap().contains("VDD33: from 0.012 V to 3.297 V"), "{error:?}");
}

#[test]
fn thresholds_are_found_by_moving_them() {
    let setup = Setup::from_file(&root().join("setups/tide-gauge.toml")).unwrap();
    let setup = setup.changed(&RunChanges::default().rate("20 MS/s")).unwrap();
    let options = RecordOptions { now: true, ..Default::default() };
    let sweep = |address: &str| {
        let mut instrument = connect(address, Path::new("")).unwrap();
        let go_on = &mut |_| std::ops::ControlFlow::Continue(());
        setup.sweep_levels(&mut *instrument, options, "20 ms".parse().unwrap(), 30, go_on)
    };
    for line in sweep("bench:tide-gauge").unwrap() {
        // The board drives 0.1 V and 3.25 V; the thresholds end at 3 V.
        let inside = |v: Option<Voltage>, truth: f64| v.is_none_or(|v| (v.to_f64() - truth).abs() < 0.13);
        if line.name == "MEM_OE_N" {
            assert!(!line.changes && line.low.above == Some(volts("3 V")) && line.proposal().is_none());
            continue;
        }
        assert!(
            line.changes && inside(line.low.below, 0.1) && line.high.above == Some(volts("3 V")),
            "{line:?}"
        );
        let proposed = line.proposal().unwrap().voltage().to_f64();
        assert!((1.3..1.8).contains(&proposed), "{}: {proposed}", line.name);
    }
    let error = sweep("bench:tide-gauge?instrument=EX-S16").unwrap_err();
    assert!(error.message().contains("fixed"), "{error:?}");
}

#[test]
fn a_file_with_analog_lines_survives_cuts_and_flipped_bits() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.dtap");
    let codes: Vec<i16> =
        (0..200_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as i16 - 60).collect();
    let capture = capture(&[25, 400_000], &codes, 3, "5 mV");
    dtap::save(&capture, &path, SaveOptions::default()).unwrap();
    let same = |opened: &Capture, upto: usize| {
        let line = opened.analog(AnalogId(0));
        assert_eq!((line.every(), line.scale()), (3, scale()));
        (0..upto).all(|i| line.code(i as u64) == Some(codes[i]))
    };
    let opened = dtap::open(&path).unwrap().capture;
    assert!(same(&opened, codes.len()) && opened.analog(AnalogId(0)).len() == codes.len() as u64);
    assert_eq!(opened.analog_lines(), capture.analog_lines());
    let bytes = std::fs::read(&path).unwrap();
    let write = |bytes: &[u8]| std::fs::write(&path, bytes).unwrap();
    // Cut in the middle of the last block of codes: the blocks before it stay.
    write(&bytes[..bytes.len() * 9 / 10]);
    let cut = dtap::open(&path).unwrap();
    let left = cut.capture.analog(AnalogId(0)).len() as usize;
    assert!(cut.cut_short_at.is_some() && left >= 65_536 && left < codes.len() && same(&cut.capture, left));
    // A flipped bit anywhere is noticed, or changes nothing.
    for place in (8..bytes.len()).step_by(bytes.len() / 300) {
        let mut bytes = bytes.clone();
        bytes[place] ^= 1 << (place % 8);
        write(&bytes);
        let Ok(opened) = dtap::open(&path) else { continue };
        let line = opened.capture.analog(AnalogId(0));
        let codes_ok = (0..line.len()).all(|i| line.code(i).is_none_or(|code| code == codes[i as usize]));
        let lost = (0..line.len()).any(|i| line.code(i).is_none());
        assert!(codes_ok, "byte {place}");
        assert!(!lost || !opened.capture.damage().is_empty(), "byte {place}: lost without a word");
        // What was lost is unknown, not low.
        hits(&opened.capture, "RAIL rises through 100 mV");
    }
}

#[test]
fn a_line_made_from_an_analog_one_knows_its_history() {
    let capture = capture(&[25], &[0, 900, 1060, 1010, 930, 1070, 0], 10, "100 mV");
    let built = capture.into_builder().derive_line("PG", "RAIL", volts("1 V")).unwrap().build().unwrap();
    let line = built.line_named("PG").unwrap();
    let edges: Vec<u64> = built.trace(line).edges(built.range()).map(|e| e.tick.0).collect();
    assert_eq!(edges, [20, 40, 50, 60], "half of the hysteresis on either side");
    assert!(built.history()[0].contains("PG made from analog line RAIL at 1 V"), "{:?}", built.history());
    assert!(built.line(line).extra >= "10 us".parse().unwrap(), "no better known than its samples");
    let late = limit(Kind::Delay, pair("GO rises", "PG falls"), None, Some("16 us".parse().unwrap()));
    let result = limit::check(&built, &bind(&built, &late), Rule::Proven).unwrap();
    assert_eq!((result.verdict, result.counts.seen), (Verdict::Inconclusive, 1), "15 us as counted");
    let error = built.into_builder().derive_line("X", "RAIK", volts("1 V")).unwrap_err();
    assert!(error.help().unwrap().contains("RAIL"), "{error:?}");
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(64) })]

    #[test]
    fn the_extremes_of_any_stretch_are_those_of_its_codes(
        seed in 0u32..1000, len in 1usize..150_000, from in 0.0..1.0, share in 0.0..1.0, first in 0u64..9, every in 1u64..9,
    ) {
        let codes: Vec<i16> =
            (0..len as u32).map(|i| (i.wrapping_mul(2_654_435_761).wrapping_add(seed) >> 16) as i16).collect();
        let line = trace(&codes, first, every);
        let start = (from * len as f64) as usize;
        let end = start + (share * (len - start) as f64) as usize;
        prop_assert_eq!(line.extremes_of(start as u64..end as u64), Extremes::of(&codes[start..end]));
        let (a, b) = (line.tick_of(start as u64), line.tick_of(end as u64));
        prop_assert_eq!(line.samples_in(a..b), start as u64..end as u64);
        prop_assert_eq!(line.sample_at(Tick(a.0 + every - 1)), Some((start as u64).min(len as u64 - 1)));
    }

    #[test]
    fn streamed_in_any_cut_it_happens_where_the_record_shows_it(
        steps in prop::collection::vec(-90i16..90, 2..400),
        cuts in prop::collection::vec(1usize..700, 1..9),
        every in 1u64..7,
        hysteresis in 0i16..60,
    ) {
        let codes: Vec<i16> = steps.iter().scan(500i16, |code, step| { *code += step; Some(*code) }).collect();
        let len = codes.len() as u64 * every;
        let ticks: Vec<u64> = (1..len).filter(|t| t % 37 == 5).collect();
        let capture = capture(&ticks, &codes, every, &format!("{hysteresis} mV"));
        for text in [
            "RAIL rises through 520 mV",
            "RAIL falls through 490 mV while GO high",
            "GO changes while RAIL > 530 mV and not RAIL > 560 mV",
            "(RAIL < 480 mV and GO low) for > 9 us",
            "RAIL rises through 510 mV then no GO rises within 20 us",
        ] {
            let program = Program::compile(text, &Scope::of(&capture)).unwrap();
            let mut search = StreamSearch::new(&program.at(capture.base()).unwrap())
                .with_analog(&[(capture.analog_lines()[0].clone(), scale())]);
            let (mut at, mut streamed, mut cut) = (0u64, Vec::new(), cuts.iter().cycle());
            while at < len {
                let end = len.min(at + *cut.next().unwrap() as u64);
                let mut block = SampleBlock::new(SampleWidth::W8);
                for tick in at..end {
                    block.push(u64::from(capture.trace(LineId(0)).level_at(Tick(tick)) == Level::High), 0);
                }
                let (from, to) = (at.div_ceil(every), end.div_ceil(every));
                block.start_analog(1, from * every - at, every);
                block.push_analog(0, &codes[from as usize..to as usize]);
                streamed.extend(search.push(block.samples()).into_iter().map(|t| t.0));
                at = end;
            }
            prop_assert_eq!(&streamed, &hits(&capture, text), "{}", text);
        }
    }
}
