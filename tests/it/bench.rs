//! The demo board on the stand-in bench: each planted fault is found, the healthy board has none.

use std::path::Path;

use deep_tap::ErrorKind;
use deep_tap::bench::{Board, BoardFault, Change, Instant, NodeId, TideGauge, connect};
use deep_tap::capture::Capture;
use deep_tap::event::{Program, Scope};
use deep_tap::known::Rule;
use deep_tap::limit::{self, LimitResult, Verdict};
use deep_tap::line::{Level, LineId};
use deep_tap::quantity::Time;
use deep_tap::setup::{RecordOptions, RunChanges, Setup, Trigger};
use deep_tap::time::Tick;

use crate::support::{demo, record, setup, time};

/// A rate at which every limit of the demo board is decided.
const DECIDING: Option<&str> = Some("250 MS/s");

fn results(setup: &Setup, capture: &Capture) -> Vec<LimitResult> {
    setup.limits().map(|l| limit::check(capture, l, Rule::Proven).unwrap()).collect()
}

#[test]
fn the_healthy_board_has_no_violation_and_no_doubt() {
    for seed in 1..4 {
        let (setup, capture) = demo(&format!("faults=none&seed={seed}"), DECIDING);
        for result in results(&setup, &capture) {
            let wanted = if result.symbol == "tOE" { Verdict::NotSeen } else { Verdict::Pass };
            assert_eq!(result.verdict, wanted, "seed {seed}: {result:#?}");
        }
    }
}

#[test]
fn each_planted_fault_is_found_by_its_limit_and_by_no_other() {
    // The fault, the limits that it violates, how often in this record, and the true value.
    for (fault, symbols, failed, truth) in [
        ("late-data", &["tCO"][..], 2, "41 ns"),
        ("late-conversion", &["tCONV"], 1, "382 us"),
        ("early-reset", &["tRD"], 1, "0.9 ms"),
        ("short-write", &["tWP"], 4, "22 ns"),
        ("short-hold", &["tDH"], 1, "8 ns"),
        ("ramp-spike", &["tWP"], 1, "12 ns"),
    ] {
        let (setup, capture) = demo(&format!("faults={fault}&seed=5"), DECIDING);
        for result in results(&setup, &capture) {
            if !symbols.contains(&result.symbol.as_str()) {
                let open = [Verdict::Pass, Verdict::NotSeen];
                assert!(open.contains(&result.verdict), "{fault}: {result:#?}");
                continue;
            }
            assert_eq!(
                (result.verdict, result.counts.failed),
                (Verdict::Fail, failed),
                "{fault}: {result:#?}"
            );
            // Skew between the data lines of the hold adds at most 0.9 ns.
            let bounds = result.bounds.unwrap();
            let nearly =
                time(truth).to_rational().checked_add(time("0.9 ns").to_rational()).map(Time::from_rational);
            assert!(
                bounds.contain(time(truth).into()) || bounds.contain(nearly.unwrap().into()),
                "{fault}: {result:#?}"
            );
        }
    }
}

#[test]
fn inconclusive_at_first_and_decided_at_the_rate_that_is_named() {
    let (setup, capture) = demo("seed=1", None);
    let first = results(&setup, &capture);
    let hold = first.iter().find(|r| r.symbol == "tDH").unwrap();
    assert_eq!(hold.verdict, Verdict::Inconclusive);
    let named = first.iter().filter_map(|r| match r.worth_trying {
        Some(limit::WorthTrying::Rate { rate, .. }) => Some(rate),
        _ => None,
    });
    let rate = named.max().unwrap().to_string();
    let (setup, capture) = demo("seed=1", Some(&rate));
    for result in results(&setup, &capture) {
        assert_ne!(result.verdict, Verdict::Inconclusive, "{rate}: {result:#?}");
        if result.symbol == "tDH" {
            assert_eq!((result.verdict, result.counts.failed), (Verdict::Fail, 1));
        }
    }
}

#[test]
fn what_is_recorded_is_what_the_board_did() {
    let (setup, capture) = demo("seed=9", DECIDING);
    let mut board = TideGauge::new(9, &BoardFault::ALL.map(|(fault, _)| fault));
    let mut changes: Vec<Vec<Instant>> = vec![Vec::new(); board.nodes().len()];
    board.advance(Instant::us(30_000), &mut |node, at, _| changes[node.0].push(at));
    // The trigger ties the record's time to the board's.
    let reset = setup.lines.iter().position(|l| l.line.name == "RESET_N").unwrap();
    let zero = changes[reset][0];
    for (line, truth) in changes.iter().enumerate().take(setup.lines.len()) {
        let seen = capture.trace(LineId(line)).edges(capture.range());
        for (edge, truth) in seen.zip(truth) {
            let measured = capture.base().time_of(edge.tick).to_f64();
            let off = measured - (truth.0 - zero.0) as f64 * 1e-15;
            // A sample, the skew, and 20 ppm of 20 ms.
            assert!(off.abs() < 4e-9 + 0.5e-9 + 20e-6 * measured.abs(), "line {line}: off by {off}");
        }
        assert_eq!(
            board.initial(NodeId(line)) == Change::Level(Level::High),
            capture.trace(LineId(line)).level_at(Tick(0)) == Level::High
        );
    }
}

#[test]
fn the_same_seed_gives_the_same_record_and_another_one_another() {
    let edges = |options: &str| {
        let (_, capture) = demo(options, None);
        (0..capture.lines().len())
            .map(|l| capture.trace(LineId(l)).edges(capture.range()).map(|e| e.tick.0).collect::<Vec<_>>())
            .collect::<Vec<_>>()
    };
    assert_eq!(edges("seed=3"), edges("seed=3"));
    assert_ne!(edges("seed=3"), edges("seed=4"));
}

fn with_trigger(trigger: &str, sampling: &str) -> Setup {
    let shipped = std::fs::read_to_string(crate::support::root().join("setups/tide-gauge.toml")).unwrap();
    let lines: Vec<&str> = shipped.split("[[part]]").next().unwrap().split("[[line]]").collect();
    let text = format!(
        "[sampling]\nrate = \"100 MS/s\"\n{sampling}\n[trigger]\nevent = '{trigger}'\n[[line]]{}",
        lines[1..].join("[[line]]").split("[events]").next().unwrap()
    );
    setup(&text).unwrap_or_else(|e| panic!("{e:?}"))
}

#[test]
fn a_trigger_stops_at_the_first_hit_of_the_same_search() {
    for (trigger, before, kept) in [
        ("RESET_N rises", "1 ms", 100_000),
        ("ADC_SCLK rises while ADC_CS_N low and ADC_MOSI high", "10 %", 20_000),
        ("MEM_WE_N rises while MEM_CE_N low and ADDR == 0b01x1", "50 %", 100_000),
        ("MEM_WE_N changes", "0 %", 0),
        ("ADC_DRDY_N falls while DATA == 0xFF", "25 %", 50_000),
        // What the instrument cannot wait for by itself, the host looks for in the stream.
        ("when DATA == 0x3x and MEM_WE_N low", "25 %", 50_000),
        ("MEM_WE_N low for < 40 ns", "10 %", 20_000),
        ("ADC_CS_N falls 3 times then ADC_DRDY_N falls or MEM_WE_N falls after 10 us", "50 %", 100_000),
        ("ADC_CS_N rises then no ADC_DRDY_N falls within 350 us", "20 %", 40_000),
    ] {
        let sampling = format!("length = \"2 ms\"\nbefore-trigger = \"{before}\"\ntime-out = \"1 s\"");
        let triggered = with_trigger(trigger, &sampling);
        let mut instrument = connect("bench:tide-gauge?seed=2", Path::new("")).unwrap();
        let capture = record(&triggered, &mut *instrument, RecordOptions::default()).unwrap();
        // An endless capture of the same board by the same instrument, as far as it matters here;
        // connected anew, so that chance is the same.
        let mut instrument = connect("bench:tide-gauge?seed=2", Path::new("")).unwrap();
        let endless = with_trigger(trigger, "length = \"40 ms\"");
        let whole =
            record(&endless, &mut *instrument, RecordOptions { now: true, ..Default::default() }).unwrap();
        let program = Program::compile(trigger, &Scope::of(&whole)).unwrap();
        let first = program.at(whole.base()).unwrap().hits(&whole, whole.range()).next().unwrap().tick;
        let zero = capture.base().zero();
        for line in (0..capture.lines().len()).map(LineId) {
            for probe in [0, zero.0 / 2, zero.0, zero.0 + 1, capture.len() - 1] {
                let there = Tick(first.0 - zero.0 + probe);
                assert_eq!(
                    capture.trace(line).level_at(Tick(probe)),
                    whole.trace(line).level_at(there),
                    "{trigger}"
                );
            }
        }
        // Without a sample before it, the edge itself is not in the record, and what counts or
        // follows begins before the record.
        if zero > Tick(0) && program.as_qualified_edge().is_some() {
            let hits: Vec<Tick> =
                program.at(capture.base()).unwrap().hits(&capture, capture.range()).map(|h| h.tick).collect();
            assert_eq!(hits.first(), Some(&zero), "{trigger}");
        }
        let after: u64 = capture.len() - zero.0;
        assert_eq!(after, 200_000 - kept, "{trigger}");
        assert_eq!(zero.0, kept.min(first.0), "{trigger}");
    }
}

#[test]
fn the_clock_chip_answers_in_time_and_keeps_its_bus_free_unless_it_is_planted() {
    for (faults, refused, short) in [("none", 0, 0), ("missing-ack", 4, 0), ("bus-free", 0, 1)] {
        let setup = Setup::from_file(&crate::support::root().join("setups/buses.toml")).unwrap();
        let address = format!("bench:tide-gauge?faults={faults}&seed=8");
        let mut instrument = connect(&address, Path::new("")).unwrap();
        let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
        let hits = |event: &str| {
            Program::compile(event, &setup.scope())
                .unwrap()
                .at(capture.base())
                .unwrap()
                .hits(&capture, capture.range())
                .count()
        };
        assert_eq!(
            hits("rtc has address == 0x51, nack"),
            refused + hits("rtc has read, address == 0x51, nack")
        );
        assert_eq!(hits("rtc has write, nack"), refused, "{faults}");
        assert!(hits("rtc has write, data == 0x07, data == 0x80") >= 3, "{faults}");
        for result in results(&setup, &capture) {
            let wanted = if result.symbol == "tBUF" && short > 0 { Verdict::Fail } else { Verdict::Pass };
            assert_eq!(
                (result.verdict, result.counts.failed > 0),
                (wanted, wanted == Verdict::Fail),
                "{result:#?}"
            );
            if wanted == Verdict::Fail {
                assert!(result.bounds.unwrap().contain(time("900 ns").into()), "{result:#?}");
            }
        }
        // Everything else talks without a fault, too.
        for event in ["gnss has fault", "modem has fault", "lamps has fault"] {
            assert_eq!(hits(event), 0, "{event}");
        }
        assert!(hits("modem has data, identifier == 0x2a1") >= 9 && hits("lamps has reset") >= 4);
    }
}

#[test]
fn a_trigger_that_never_comes_says_what_was_seen() {
    let setup = with_trigger("ADC_SCLK rises while ADC_CS_N high", "length = \"1 ms\"\ntime-out = \"20 ms\"");
    let mut instrument = connect("bench:tide-gauge", Path::new("")).unwrap();
    let error = record(&setup, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::TimeOut);
    assert_eq!(error.message(), "the trigger did not come within 20 ms");
    let help = error.help().unwrap();
    assert!(help.contains("ADC_SCLK rose") && help.contains("ADC_CS_N was never high then"), "{help}");
    let setup = with_trigger("MEM_OE_N falls", "length = \"1 ms\"\ntime-out = \"20 ms\"");
    let error = record(&setup, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert!(error.help().unwrap().contains("MEM_OE_N never fell"), "{error:?}");
}

#[test]
fn a_state_machine_that_never_fires_says_how_far_it_came() {
    let sample = crate::support::root().join("setups/triggers/loop-with-timer.toml");
    let mut setup = Setup::from_file(&sample).unwrap();
    setup.time_out = Some(time("20 ms"));
    let mut instrument = connect("bench:tide-gauge?faults=none", Path::new("")).unwrap();
    let error = record(&setup, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::TimeOut);
    let help = error.help().unwrap();
    // A conversion begins every 450 us from 6.74 ms on, until the time-out is noticed at 21 ms.
    assert!(help.contains("state converting: entered 32 times"), "{help}");
    assert!(help.contains("  on 'ADC_DRDY_N falls': came "), "{help}");
    assert!(help.contains("  ADC_CS_N: ") && help.contains(" edges, "), "{help}");
}

/// What the memory on board cannot hold is streamed, whatever the trigger; the samples are the same.
#[test]
fn a_longer_record_than_the_memory_is_streamed() {
    let lines = "[[line]]\nname = \"WE\"\ninput = 9\n[[line]]\nname = \"RST\"\ninput = 1\n";
    let made = |length: &str| {
        let sampling =
            format!("[sampling]\nrate = \"200 MS/s\"\nlength = \"{length}\"\nbefore-trigger = \"1 ms\"");
        setup(&format!("{sampling}\n[trigger]\nevent = \"RST rises\"\n{lines}")).unwrap()
    };
    let mut instrument = connect("bench:tide-gauge", Path::new("")).unwrap();
    let options = RecordOptions::default();
    // 128 Mi samples of 16 inputs are on board: 671 ms.
    assert!(!made("600 ms").plan(&*instrument, options).unwrap().stream);
    assert!(made("700 ms").plan(&*instrument, options).unwrap().stream);
    let short = record(&made("10 ms"), &mut *instrument, options).unwrap();
    // Chance is the same for an instrument that is connected anew.
    let mut instrument = connect("bench:tide-gauge", Path::new("")).unwrap();
    let long = record(&made("700 ms"), &mut *instrument, options).unwrap();
    assert_eq!((long.len(), long.base()), (140_000_000, short.base()));
    for line in [LineId(0), LineId(1)] {
        let all = Tick(0)..Tick(short.len());
        assert!(long.trace(line).edges(all.clone()).eq(short.trace(line).edges(all)));
    }
}

#[test]
fn a_simulation_can_be_probed_like_a_board() {
    let text = r#"
        [sampling]
        rate = "500 MS/s"
        length = "3 us"
        before-trigger = "1 us"
        [trigger]
        event = "OE rises while CLK low"
        [[line]]
        name = "CLK"
        input = "tb.clk"
        [[line]]
        name = "OE"
        input = "tb.oe"
        [[bus]]
        name = "Q"
        signal = "tb.q"
        width = 8
    "#;
    let setup = setup(text).unwrap();
    let folder = crate::support::root().join("tests/fixtures/sync-mem");
    let mut instrument = connect("replay:sync_mem.vcd", &folder).unwrap();
    let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
    // The first read comes 40 ns into the simulation: less than 1 us can lie before it.
    assert!(capture.base().zero().0 < 500 && !capture.remarks().is_empty());
    let q = &capture.buses()[0];
    assert!(capture.bus_value(q, Tick(0)).known().is_none(), "a floating bus is never silently a number");
    assert!(capture.bus_value(q, capture.base().zero().offset(3)).known().is_some());
    let never = crate::support::setup(
        &text.replace("OE rises while CLK low", "OE rises while CLK low and Q == 0xEE"),
    )
    .unwrap();
    let error = record(&never, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert!(error.message().contains("before the record ended"), "{error:?}");
}

#[test]
fn what_the_bench_cannot_do_is_refused_with_what_it_can() {
    for (address, wanted) in [
        ("bench:tidal-gauge", "there is no board 'tidal-gauge' on the bench"),
        ("bench:tide-gauge?faults=lateness", "there is no fault 'lateness'"),
        ("bench:tide-gauge?faults=late:D0", "the fault 'late:D0' is not complete"),
        ("bench:tide-gauge?faults=stuck:D9:low", "the board has no node 'D9'"),
        ("bench:tide-gauge?colour=red", "'colour=red' is not an option of the bench"),
        ("usb:1", "'usb:1' is not something to connect to"),
        ("replay:nothing.vcd", "cannot open"),
    ] {
        let error = connect(address, Path::new("")).err().unwrap();
        assert!(error.message().starts_with(wanted) && error.help().is_some(), "{error:?}");
    }
    let mut instrument = connect("bench:tide-gauge", Path::new("")).unwrap();
    assert!(instrument.arm().is_err(), "not configured yet");
    instrument.stop().unwrap();
    let mut refused = |sampling: &str, trigger: &str| {
        let setup = with_trigger(trigger, sampling);
        record(&setup, &mut *instrument, RecordOptions::default()).unwrap_err()
    };
    let error = refused("length = \"14400 s\"", "RESET_N rises");
    assert!(error.message().contains("1.44 T samples do not fit"), "{error:?}");
    assert!(error.help().unwrap().contains("671.08864 ms"), "{error:?}");
    let error = refused("length = \"0 s\"", "RESET_N rises");
    assert!(error.message().contains("no samples"), "{error:?}");
    let error = refused("length = \"1 ms\"\nbefore-trigger = \"2 ms\"", "RESET_N rises");
    assert!(error.message().contains("longer than the whole record"), "{error:?}");
    let error = refused("length = \"1 ms\"", "MEM_WE_N low for < 10 ns");
    assert!(error.help().unwrap().contains("more than 100 MS/s"), "{error:?}");
    let fast = with_trigger("when DATA == 0x10", "length = \"1 ms\"");
    let fast = fast.changed(&RunChanges::default().rate("500 MS/s")).unwrap();
    let error = record(&fast, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert!(error.message().contains("does not stream 22 lines at 500 MS/s"), "{error:?}");
    let dangerous = setup("[sampling]\nrate = \"1 MS/s\"\nlength = \"1 ms\"\n[[line]]\nname = \"V12\"\ninput = 3\nswing = \"12 V\"\n").unwrap();
    let error = record(&dangerous, &mut *instrument, RecordOptions::default()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Danger);
}

#[test]
fn each_sample_trigger_stops_where_its_comment_says() {
    let folder = crate::support::root().join("setups/triggers");
    let mut seen = 0;
    for file in std::fs::read_dir(folder).unwrap() {
        let path = file.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        let stops = text.split("# Stops ").nth(1).unwrap().split(" after arming").next().unwrap();
        let setup = Setup::from_file(&path).unwrap_or_else(|e| panic!("{e:?}"));
        let mut instrument = connect(setup.connect.as_deref().unwrap(), Path::new("")).unwrap();
        let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
        // The same board from arming on, searched for the same event.
        let mut whole = setup.clone();
        whole.sampling.as_mut().unwrap().length = deep_tap::plan::Length::Time(time("40 ms"));
        let mut instrument = connect(setup.connect.as_deref().unwrap(), Path::new("")).unwrap();
        let endless =
            record(&whole, &mut *instrument, RecordOptions { now: true, ..Default::default() }).unwrap();
        let program = match setup.trigger.as_ref().unwrap() {
            Trigger::Event(event) => Program::compile(event, &setup.scope()).unwrap(),
            Trigger::States(machine) => Program::from_states(machine, &setup.scope()).unwrap(),
            Trigger::Violation(_) => continue,
        };
        let first = program.at(endless.base()).unwrap().hits(&endless, endless.range()).next().unwrap().tick;
        let name = path.file_name().unwrap().display();
        assert_eq!(endless.base().length_of(first.0 as i64).rounded(time("1 us")), stops, "{name}");
        let zero = capture.base().zero();
        for line in (0..capture.lines().len()).map(LineId) {
            for probe in [0, zero.0, capture.len() - 1] {
                let there = Tick(first.0 - zero.0 + probe);
                assert_eq!(
                    capture.trace(line).level_at(Tick(probe)),
                    endless.trace(line).level_at(there),
                    "{name}"
                );
            }
        }
        seen += 1;
    }
    assert_eq!(seen, 13);
}
