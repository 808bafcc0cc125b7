//! Value change dumps: a real simulation with its own findings, what the standard says, and CSV.

use std::collections::BTreeMap;
use std::path::Path;

use deep_tap::capture::{Capture, Origin, TraceBuilder};
use deep_tap::decode::{Protocol, SerialBus, UartConfig};
use deep_tap::event::Scope;
use deep_tap::format::{csv, vcd};
use deep_tap::known::Rule;
use deep_tap::limit::{self, Limit, Verdict};
use deep_tap::line::{Bus, Level, Line, LineId, Narrowest, PulseWidths, Radix};
use deep_tap::setup::Setup;
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

use crate::support::{root, time, toggles};

#[test]
fn a_real_simulation_gets_the_verdicts_that_its_test_bench_found() {
    let folder = root().join("tests/fixtures/sync-mem");
    let printed = std::fs::read_to_string(folder.join("printed.txt")).unwrap();
    // "setup  300 occurrences, worst 1.900 ns, from 638.400 ns"
    let found: BTreeMap<&str, (u64, f64)> = printed
        .lines()
        .filter_map(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            (words.get(2) == Some(&"occurrences,"))
                .then(|| (words[0], (words[1].parse().unwrap(), words[4].parse().unwrap())))
        })
        .collect();
    assert_eq!(found.len(), 5);
    let setup = Setup::from_file(&folder.join("setup.toml")).unwrap();
    let dump = vcd::read_file(&folder.join("sync_mem.vcd")).unwrap();
    assert_eq!(dump.base().tick(), time("100 ps"), "1 ps divided by what all times share");
    assert!(
        dump.remarks().iter().any(|r| r == "1 value of tb.worst_hold beyond 10^9: taken for not known"),
        "{:?}",
        dump.remarks()
    );
    let capture = setup.apply(dump).unwrap();
    let wanted = [
        ("tDS", "setup", Verdict::Fail, 1),
        ("tDH", "hold", Verdict::Fail, 1),
        ("tCYC", "period", Verdict::Pass, 0),
        ("tCL", "low", Verdict::Fail, 1),
        ("tCO", "access", Verdict::Fail, 33),
    ];
    for (bound, (symbol, name, verdict, failed)) in setup.limits().zip(wanted) {
        let result = limit::check(&capture, bound, Rule::Proven).unwrap();
        let (occurrences, worst) = found[name];
        assert_eq!((result.symbol.as_str(), result.verdict), (symbol, verdict));
        assert_eq!((result.counts.seen, result.counts.failed), (occurrences, failed), "{symbol}");
        assert_eq!(result.measured, Some(time(&format!("{worst} ns")).into()), "{symbol}");
    }
}

fn read(text: &str) -> deep_tap::Result<Capture> {
    vcd::read(text.as_bytes(), Path::new("test.vcd"))
}

fn dump(changes: &str) -> String {
    format!(
        "$timescale 10 fs $end $scope module top $end $var wire 1 ! clk $end $var reg 4 \" v [5:2] $end \
         $var wire 1 ! alias $end $var real 1 # volts $end $var reg 1 % b [7] $end \
         $upscope $end $enddefinitions $end\n{changes}"
    )
}

#[test]
fn levels_vectors_and_times_are_those_of_the_standard() {
    let capture = read(&dump(
        "$dumpvars x! bz \" r1.5 # 0% $end #3000 0! #6000 1! b1 \" #9000 bx01 \" #9000 1% #12000 $dumpoff x! bx \" x% $end \
         #15000 $dumpon 1! b1111 \" 1% $end #18000",
    ))
    .unwrap();
    assert_eq!(capture.base().tick(), time("30 ps"));
    assert_eq!(capture.len(), 7);
    let names: Vec<&str> = capture.lines().iter().map(|l| l.name.as_str()).collect();
    assert_eq!(names, ["top.clk", "top.v[5]", "top.v[4]", "top.v[3]", "top.v[2]", "top.alias", "top.b[7]"]);
    let levels = |name: &str| -> String {
        let trace = capture.trace(capture.line_named(name).unwrap());
        (0..7)
            .map(|t| match trace.level_at(Tick(t)) {
                Level::Low => '0',
                Level::High => '1',
                Level::Floating => 'z',
                Level::Unknown => 'x',
            })
            .collect()
    };
    assert_eq!(levels("top.clk"), "x011x11");
    assert_eq!(levels("top.alias"), levels("top.clk"));
    // "b1" is 0001; "bx01" is xx01.
    assert_eq!(levels("top.v[5]"), "zz0xx11");
    assert_eq!(levels("top.v[3]"), "zz00x11");
    assert_eq!(levels("top.v[2]"), "zz11x11");
    assert_eq!(levels("top.b[7]"), "0001x11");
    let bus = &capture.buses()[capture.bus_named("top.v").unwrap().0];
    let shown: Vec<(u64, String)> =
        capture.bus_values(bus, capture.range()).map(|(t, v)| (t.0, v.show(Radix::Hex))).collect();
    assert_eq!(
        shown,
        [(0, "0xz"), (2, "0x1"), (3, "0xx"), (4, "0xx"), (5, "0xF")].map(|(t, s)| (t, s.to_string()))
    );
    assert_eq!(capture.bus_value(bus, Tick(3)).show(Radix::Binary), "0bxx01");
}

#[test]
fn what_is_wrong_with_a_dump_is_said_with_its_line() {
    for (text, wanted) in [
        (String::new(), "this file is empty"),
        ("hello".into(), "not a value change dump"),
        (dump(""), "declares signals, but no values"),
        (dump("#5 1!\n#3 0!"), "time runs backwards, from 5 to 3"),
        (dump("#5 1!\n#x 0!"), "'#x' is not a time"),
        ("$enddefinitions $end #0".into(), "declares no signals"),
        ("$var real 1 ! v $end $enddefinitions $end #0 r1 !".into(), "what its times count in"),
        ("$var wire 1 ! v $end $enddefinitions $end #0 1!".into(), "what its times count in"),
        ("$var wire 1 ! v $end".into(), "ends in the middle"),
    ] {
        let error = read(&text).unwrap_err();
        assert!(error.to_string().starts_with("test.vcd"), "{error}");
        assert!(error.to_string().contains(wanted), "{error}");
    }
    assert!(read(&dump("#5 1!\n#3 0!")).unwrap_err().to_string().starts_with("test.vcd:3:"));
    // Times that no capture can hold.
    assert!(
        read(&dump("#1 1!\n#18446744073709551615 0!"))
            .unwrap_err()
            .to_string()
            .contains("beyond what a capture can hold")
    );
    // A vector of four thousand million bits is not taken apart.
    let hostile = "$timescale 1 ns $end $var wire 4000000000 ! v $end $var wire 1 \" a $end $enddefinitions $end #0 1\"";
    assert!(read(hostile).unwrap().remarks()[0].contains("set aside"));
}

proptest! {
    #[test]
    fn no_damage_to_a_dump_makes_the_reader_panic(at: prop::sample::Index, with in "[ -~\n]{0,6}", gone in 0usize..9) {
        let whole = dump("$dumpvars x! bz \" r1.5 # 0% $end\n#3000 0!\n#6000 1! b1 \"\n#9000 bx01 \"\n#12000 0!\n");
        let at = at.index(whole.len());
        let rest = whole.get(at + gone..).unwrap_or("");
        let _ = read(&format!("{}{with}{rest}", &whole[..at]));
    }
}

/// A capture with unknown levels, odd names and a bus.
fn sample(rate: &str) -> Capture {
    let base = TimeBase::from_rate(rate.parse().unwrap()).unwrap().with_zero(Tick(3));
    let mut mixed = TraceBuilder::new(Level::Unknown);
    for (tick, level) in [(2, Level::High), (5, Level::Unknown), (6, Level::Low), (8, Level::Floating)] {
        mixed.push_edge(Tick(tick), level).unwrap();
    }
    let mut bus = Bus::new("BUS", vec![LineId(1), LineId(0)]).unwrap();
    bus.radix = Radix::Decimal;
    let pulses = PulseWidths {
        shortest: Some(time("12 ns")),
        fastest: Some("3 MHz".parse().unwrap()),
        seen: Some(Narrowest { ticks: 1, at: Tick(7) }),
    };
    let resolution =
        Resolution { skew: time("0.5 ns"), accuracy: "20 ppm".parse().unwrap(), ..Resolution::SAMPLED };
    let made = Some("2026-03-01T12:30:00Z".parse().unwrap());
    Capture::builder(base, 12)
        .resolution(resolution)
        .origin(Origin { made, ..Origin::default() })
        .history(vec!["cut at the $end".to_string()])
        .line(Line { pulses, ..Line::named("A B") }, toggles(Level::High, &[1, 2, 9], 12))
        .line(Line { pull: Some(Level::High), ..Line::named("M") }, mixed.finish(12))
        .bus(bus)
        .build()
        .unwrap()
}

#[test]
fn what_is_written_reads_the_same_again() {
    for (rate, tick) in [("100 MS/s", "10 ns"), ("24 MS/s", "1 fs"), ("3 S/s", "1 fs")] {
        let capture = sample(rate);
        let mut bytes = Vec::new();
        vcd::write(&capture, &mut bytes).unwrap();
        let again = vcd::read(&bytes, Path::new("again.vcd")).unwrap();
        let text = String::from_utf8(bytes).unwrap();
        assert_eq!(text.contains("rounded"), tick == "1 fs", "{text}");
        // Times are rounded, and still those of the ticks.
        assert_eq!((again.base(), again.len()), (capture.base(), capture.len()), "{text}");
        assert_eq!((again.resolution(), again.lines()), (capture.resolution(), capture.lines()), "{text}");
        assert_eq!(again.origin().made, capture.origin().made);
        assert_eq!((again.buses(), again.history()), (capture.buses(), capture.history()), "{text}");
        for (mine, theirs) in capture.traces().iter().zip(again.traces()) {
            assert!(mine.edges(capture.range()).eq(theirs.edges(again.range())), "{text}");
        }
    }
}

#[test]
fn csv_has_a_row_per_change_or_per_sample() {
    let capture = sample("100 MS/s");
    let table = |layout| {
        let mut bytes = Vec::new();
        csv::write(&capture, layout, &mut bytes).unwrap();
        String::from_utf8(bytes).unwrap()
    };
    let changes = "time_s,A B,M,BUS\n-0.00000003,1,x,0bx1\n-0.00000002,0,x,0bx0\n-0.00000001,1,1,3\n\
                   0.00000002,1,x,0bx1\n0.00000003,1,0,1\n0.00000005,1,z,0bz1\n0.00000006,0,z,0bz0\n";
    assert_eq!(table(csv::Layout::Changes), changes);
    let samples = table(csv::Layout::Samples);
    assert_eq!(samples.lines().count(), 13);
    assert!(
        samples.contains("\n0.00000000,1,1,3\n") && samples.ends_with("0.00000008,0,z,0bz0\n"),
        "{samples}"
    );
}

#[test]
fn a_clocked_bus_has_the_value_that_stood_before_each_clock_edge() {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let mut bus = Bus::new("B", vec![LineId(1), LineId(2)]).unwrap();
    let capture = Capture::builder(base, 60)
        .line(Line::named("CLK"), toggles(Level::Low, &[10, 15, 20, 25, 30, 35, 40], 60))
        // Changes with the clock edge at 20, and between the edges.
        .line(Line::named("B1"), toggles(Level::Low, &[20, 33], 60))
        .line(Line::named("B0"), toggles(Level::High, &[12, 38], 60));
    bus.clock = Some((LineId(0), Level::High));
    let capture = capture.bus(bus).build().unwrap();
    let values = |from: u64, to: u64| -> Vec<(u64, u64)> {
        let values = capture.bus_values(&capture.buses()[0], Tick(from)..Tick(to));
        values.map(|(tick, value)| (tick.0, value.known().unwrap())).collect()
    };
    assert_eq!(values(0, 60), [(10, 0b01), (20, 0b00), (30, 0b10), (40, 0b01)]);
    assert_eq!(values(20, 40), [(20, 0b00), (30, 0b10)]);
}

/// A write pulse of four samples at 100 MS/s, seen in a dump.
fn pulse(note: bool) -> Vec<u8> {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let capture =
        Capture::builder(base, 100).line("WE_N", toggles(Level::High, &[40, 44], 100)).build().unwrap();
    let mut bytes = Vec::new();
    vcd::write(&capture, &mut bytes).unwrap();
    let text = String::from_utf8(bytes).unwrap();
    let others = |line: &&str| note || !line.contains("deep-tap-record");
    text.lines().filter(others).collect::<Vec<_>>().join("\n").into_bytes()
}

#[test]
fn a_sampled_dump_proves_no_more_than_the_capture_it_was_made_of() {
    let verdict = |dump: Capture| {
        let line = dump.lines()[0].name.clone();
        let limit = Limit::width("tWP", &format!("\"{line}\" low")).min("35 ns");
        let limit = limit.bind(&Scope::of(&dump)).unwrap();
        limit::check(&dump, &limit, Rule::Proven).unwrap().verdict
    };
    let read = |note| vcd::read(&pulse(note), Path::new("pulse.vcd")).unwrap();
    // 30 to 50 ns; only a record that is exact has just 40 ns.
    assert_eq!((verdict(read(true)), verdict(read(false))), (Verdict::Inconclusive, Verdict::Pass));
    let stated = |text: &str| {
        let setup = format!("[import]\n{text}\n[[line]]\nname = \"W\"\ninput = \"capture.WE_N\"");
        crate::support::setup(&setup).and_then(|setup| setup.apply(read(false)))
    };
    for (text, wanted) in [
        ("rate = \"100 MS/s\"", Verdict::Inconclusive),
        ("period = \"10 ns\"\naccuracy = \"50 ppm\"", Verdict::Inconclusive),
        ("rate = \"200 MS/s\"", Verdict::Pass),
        ("uncertainty = \"6 ns\"", Verdict::Inconclusive),
    ] {
        assert_eq!(verdict(stated(text).unwrap()), wanted, "{text}");
    }
    let record =
        stated("rate = \"100 MS/s\"\nzero = \"26 ns\"\nmade = \"2026-03-01T12:30:00+01:00\"").unwrap();
    assert_eq!(record.base().time_of(Tick(0)), time("-30 ns"));
    assert_eq!(record.origin().made.unwrap().to_string(), "2026-03-01T12:30:00+01:00");
    let error = stated("rate = \"30 MS/s\"").unwrap_err();
    assert!(error.message().contains("between two samples at 30 MS/s"), "{error:?}");
    for wrong in [
        "rate = \"0 S/s\"",
        "rate = \"1 MS/s\"\nperiod = \"1 us\"",
        "skew = \"-1 ns\"",
        "accuracy = \"-1 ppm\"",
        "zero = \"-1 ns\"",
        "zero = \"10000 Gs\"",
        "made = \"yesterday\"",
    ] {
        assert!(stated(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn what_looks_like_samples_is_remarked_upon() {
    let remarks = |text: &str| vcd::read(text.as_bytes(), Path::new("d.vcd")).unwrap().remarks().to_vec();
    let mut sampled = String::from("$timescale 1 ns $end $var wire 1 ! A $end $enddefinitions $end\n#0 0!\n");
    (1..3000u64).for_each(|n| sampled.push_str(&format!("#{} {}!\n", n * 30 + n / 7 * 10, n % 2)));
    let told = remarks(&sampled);
    assert!(told[0].contains("on a grid of 10 ns") && told[0].contains("--sampled '100 MS/s'"), "{told:?}");
    // A few changes fill no grid, and nobody's clock is as fine as the file's own.
    assert!(remarks(&sampled.lines().take(100).collect::<Vec<_>>().join("\n")).is_empty());
    assert!(remarks(&format!("{sampled}#99999 1!\n")).is_empty());
}

#[test]
fn an_exact_record_has_no_samples_per_bit() {
    // 'A' at a million bits a second: all edges on the borders of bits, so that a tick is a whole bit.
    let mut text = String::from("$timescale 1 us $end $var wire 1 ! TX $end $enddefinitions $end\n#0 1!\n");
    for (at, level) in [(10, 0), (11, 1), (12, 0), (17, 1), (18, 0), (19, 1)] {
        text.push_str(&format!("#{at} {level}!\n"));
    }
    text.push_str("#40\n");
    let dump = vcd::read(text.as_bytes(), Path::new("tx.vcd")).unwrap();
    assert_eq!(dump.base().tick(), time("1 us"));
    let uart = Protocol::Uart(UartConfig::new("1 MHz".parse().unwrap()));
    let bus = SerialBus::of_lines("log", uart, vec![LineId(0)]).unwrap();
    let frames: Vec<_> = bus.frames(&dump, dump.range()).unwrap().collect();
    assert_eq!(frames.len(), 1);
    assert_eq!(
        (frames[0].start, frames[0].end, frames[0].field("data").unwrap().value),
        (Tick(10), Tick(20), 0x41)
    );
    // Recorded by an instrument, one sample a bit is too few.
    let sampled = dump.on_grid(time("1 us"), Resolution::SAMPLED).unwrap();
    assert!(bus.frames(&sampled, sampled.range()).is_err());
}

proptest! {
    /// What a dump says of itself is believed no more than the rest of it.
    #[test]
    fn no_damage_to_what_a_dump_says_of_itself_makes_the_reader_panic(
        at in prop::sample::Index::arbitrary(),
        with in "[ -~\n]{0,6}",
        gone in 0usize..9,
        number in prop::option::of(any::<u64>()),
    ) {
        let whole = String::from_utf8(pulse(true)).unwrap();
        let begin = whole.find("deep-tap-record").unwrap();
        let end = begin + whole[begin..].find("$end").unwrap();
        let at = begin + at.index(end - begin);
        let with = number.map_or(with, |number| number.to_string());
        if let (Some(before), Some(after)) = (whole.get(..at), whole.get(at + gone..)) {
            let _ = vcd::read(format!("{before}{with}{after}").as_bytes(), Path::new("d.vcd"));
        }
    }
}
