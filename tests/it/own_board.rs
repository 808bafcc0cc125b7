//! Boards of one's own on the bench, their faults, and what the instrument sends them: the files say
//! what is true, and the records are compared with that.

use std::path::Path;

use deep_tap::bench::connect;
use deep_tap::capture::Capture;
use deep_tap::decode::{I2cConfig, Protocol, UartConfig};
use deep_tap::event::Program;
use deep_tap::line::Level;
use deep_tap::setup::{RecordOptions, Setup};
use deep_tap::time::Tick;
use tempfile::TempDir;

use crate::support::{record, root};

/// Records the named lines of a board for 5 ms at 100 MS/s from switching on.
fn on_board(board: &str, options: &str, lines: &[&str]) -> deep_tap::Result<Capture> {
    let folder = TempDir::new().unwrap();
    std::fs::write(folder.path().join("board.toml"), format!("title = \"a board\"\n{board}")).unwrap();
    let mut instrument = connect(&format!("bench:board.toml{options}"), folder.path())?;
    let lines: Vec<String> =
        lines.iter().enumerate().map(|(n, name)| format!("{{ name = \"{name}\", input = {n} }}")).collect();
    let text =
        format!("sampling = {{ rate = \"100 MS/s\", length = \"5 ms\" }}\nline = [{}]", lines.join(","));
    record(&crate::support::setup(&text)?, &mut *instrument, RecordOptions::default())
}

/// The ticks of a line's edges, in nanoseconds since the record began.
fn edges(capture: &Capture, line: &str) -> Vec<(i64, bool)> {
    let trace = capture.trace(capture.line_named(line).unwrap());
    trace.edges(capture.range()).map(|e| (e.tick.0 as i64 * 10, e.to == Level::High)).collect()
}

fn near(seen: i64, truth: i64) -> bool {
    // A sample, the skew, and 20 ppm of 5 ms.
    (seen - truth).abs() <= 10 + 1 + 100
}

#[test]
fn devices_do_what_the_file_says() {
    let board = r#"
        node = [
            { name = "CLK" }, { name = "TX", rests-high = true }, { name = "S0" }, { name = "S1" },
            { name = "SCLK" }, { name = "SDO" }, { name = "CS_N", rests-high = true },
            { name = "A1" }, { name = "A0" }, { name = "D0", rests-high = true }, { name = "WE_N", rests-high = true },
        ]
        clock = [{ node = "CLK", frequency = "3 MHz", duty = "25 %", start = "1 us" }]
        uart = [{ node = "TX", bit-rate = "1 MHz", text = "U", bytes = [3], parity = "odd", start = "100 us" }]
        sequencer = [{ nodes = ["S0", "S1"], every = "1 ms" }]
        memory = [{ address = ["A1", "A0"], data = ["D0"], write = "WE_N", every = "10 us", setup = "30 ns", pulse = "60 ns", hold = "20 ns" }]
        [[spi]]
        clock = "SCLK"
        data = "SDO"
        select = "CS_N"
        bit-rate = "1 MHz"
        words = [0xa5]
        bits = 8
        every = "1 ms"
        start = "50 us"
    "#;
    let lines = ["CLK", "TX", "S0", "S1", "SCLK", "SDO", "CS_N", "A1", "A0", "D0", "WE_N"];
    let capture = on_board(board, "?seed=4", &lines).unwrap();
    // A third of a microsecond each, exact over the whole record.
    let clock = edges(&capture, "CLK");
    assert_eq!(clock.len(), 2 * 14_997);
    for (number, pair) in clock.chunks(2).enumerate() {
        let begin = 1_000 + number as i64 * 1_000 / 3;
        assert!(near(pair[0].0, begin) && near(pair[1].0, begin + 83), "{number}: {pair:?}");
    }
    // 'U' is 1010 1010 on the wire, lowest bit first, so that its parity bit is 1; 3 has two ones, too.
    let sent: Vec<i64> = edges(&capture, "TX").iter().map(|(at, _)| (at - 100_000 + 500) / 1000).collect();
    assert_eq!(sent, [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 11, 12, 14, 20]);
    let states: Vec<i64> = edges(&capture, "S1").iter().map(|(at, _)| (at + 500) / 1000).collect();
    assert_eq!(states, [1000, 2000, 3000, 4000]);
    let never_both =
        Program::compile("when S0 high and S1 high", &deep_tap::event::Scope::of(&capture)).unwrap();
    assert_eq!(never_both.at(capture.base()).unwrap().hits(&capture, capture.range()).count(), 0);
    // Each rising clock edge while selected takes a bit, the highest first.
    let data = capture.trace(capture.line_named("SDO").unwrap());
    let bits = edges(&capture, "SCLK").iter().filter(|(_, up)| *up).take(8).fold(0u32, |word, (at, _)| {
        word << 1 | u32::from(data.level_at(Tick(*at as u64 / 10)) == Level::High)
    });
    assert_eq!(bits, 0xa5);
    let writes = edges(&capture, "WE_N");
    assert!(
        writes.len() >= 998 && writes.chunks_exact(2).all(|p| near(p[1].0 - p[0].0, 60) && p[1].0 > p[0].0)
    );
}

/// The levels of a line at these instants in nanoseconds.
fn sampled(capture: &Capture, line: &str, at: impl Iterator<Item = i64>) -> Vec<u8> {
    let trace = capture.trace(capture.line_named(line).unwrap());
    at.map(|ns| u8::from(trace.level_at(Tick(ns as u64 / 10)) == Level::High)).collect()
}

/// The number that bits make, the first one highest.
fn number(bits: &[u8]) -> u64 {
    bits.iter().fold(0, |number, bit| number << 1 | u64::from(*bit))
}

#[test]
fn a_bus_of_two_open_drain_lines_starts_acknowledges_stretches_and_stops() {
    let board = |more: &str| {
        format!(
            r#"node = [{{ name = "SCL", rests-high = true }}, {{ name = "SDA", rests-high = true }}]
            i2c = [{{ clock = "SCL", data = "SDA", bit-rate = "400 kHz", address = 0x51, write = [0x02], read = [0xc5, 0x3a], every = "1 ms", start = "100 us" {more} }}]"#
        )
    };
    let bits = |capture: &Capture| {
        let rises = edges(capture, "SCL")
            .into_iter()
            .filter(|(at, up)| *up && *at < 1_000_000)
            .map(|(at, _)| at + 100);
        sampled(capture, "SDA", rises)
    };
    let conditions = |capture: &Capture| -> String {
        let clock = capture.trace(capture.line_named("SCL").unwrap());
        let held = edges(capture, "SDA").into_iter().filter(|(at, _)| *at < 1_000_000);
        let held = held.filter(|(at, _)| clock.level_at(Tick(*at as u64 / 10)) == Level::High);
        held.map(|(_, up)| if up { 'P' } else { 'S' }).collect()
    };
    let plain = on_board(&board(""), "?ideal=yes", &["SCL", "SDA"]).unwrap();
    assert_eq!(conditions(&plain), "SSP", "start, repeated start, stop");
    let seen = bits(&plain);
    // Address and write, register; then the clock of the repeated start; address and read, two bytes.
    let byte = |at: usize| (number(&seen[at..at + 8]), seen[at + 8]);
    assert_eq!((byte(0), byte(9)), ((0xa2, 0), (0x02, 0)));
    assert_eq!((byte(19), byte(28), byte(37)), ((0xa3, 0), (0xc5, 0), (0x3a, 1)));
    let absent = on_board(&board(", missing = 1"), "?ideal=yes", &["SCL", "SDA"]).unwrap();
    assert_eq!(
        (conditions(&absent), number(&bits(&absent)[..9])),
        ("SP".to_string(), 0x145),
        "not acknowledged"
    );
    let stretched = on_board(&board(", stretch = \"50 us\""), "?ideal=yes", &["SCL", "SDA"]).unwrap();
    let longest = |capture: &Capture| {
        let edges = edges(capture, "SCL");
        edges.windows(2).filter(|p| p[1].1 && p[1].0 < 1_000_000).map(|p| p[1].0 - p[0].0).max().unwrap()
    };
    assert!(longest(&stretched) - longest(&plain) >= 50_000 - 700 && bits(&stretched) == seen);
}

#[test]
fn a_frame_on_the_vehicle_bus_is_stuffed_and_divides_without_rest() {
    for (identifier, extended, data) in
        [(0x000, false, "0, 0, 0"), (0x7ff, false, ""), (0x1234_5678, true, "255, 254, 1, 2, 3, 4, 5, 6")]
    {
        let board = format!(
            r#"node = [{{ name = "CAN", rests-high = true }}]
            can = [{{ node = "CAN", bit-rate = "500 kHz", identifier = {identifier}, extended = {extended}, data = [{data}], every = "10 ms", start = "100 us" }}]"#
        );
        let capture = on_board(&board, "?ideal=yes", &["CAN"]).unwrap();
        let wire = sampled(&capture, "CAN", (0..180).map(|bit| 101_000 + bit * 2_000));
        // After five equal bits comes another one, up to the end of the check sequence.
        let length = data.split(", ").filter(|byte| !byte.is_empty()).count();
        let wanted = if extended { 39 } else { 19 } + 8 * length + 15;
        let (mut bits, mut run, mut last) = (Vec::new(), 0, 1);
        for bit in wire {
            if run == 5 {
                assert_ne!(bit, last, "no stuff bit after {} bits", bits.len());
                (last, run) = (bit, 1);
                continue;
            }
            run = if bit == last { run + 1 } else { 1 };
            last = bit;
            bits.push(bit);
            if bits.len() == wanted {
                break;
            }
        }
        // The frame with its check sequence is a multiple of the polynomial.
        let mut rest = bits.clone();
        let polynomial = [1, 1, 0, 0, 0, 1, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1];
        for place in 0..rest.len() - 15 {
            if rest[place] == 1 {
                rest[place..place + 16].iter_mut().zip(polynomial).for_each(|(bit, p)| *bit ^= p);
            }
        }
        assert!(rest.iter().all(|bit| *bit == 0), "{identifier:#x}: a rest is left");
        let seen =
            if extended { number(&bits[1..12]) << 18 | number(&bits[14..32]) } else { number(&bits[1..12]) };
        assert_eq!(seen, u64::from(identifier as u32));
        assert_eq!(number(&bits[wanted - 15 - 8 * length - 4..][..4]), length as u64);
    }
}

#[test]
fn pulses_and_scans_have_the_lengths_and_bits_that_the_file_gives() {
    let board = r#"
        node = [{ name = "LED" }, { name = "OW", rests-high = true }, { name = "TCK" }, { name = "TMS" }, { name = "TDI" }, { name = "TDO" }]
        lights = [{ node = "LED", bytes = [0x81], period = "1250 ns", zero = "400 ns", one = "800 ns", every = "1 ms", start = "50 us" }]
        one-wire = [{ node = "OW", bytes = [0x33], every = "4 ms", start = "50 us" }]
        [[jtag]]
        tck = "TCK"
        tms = "TMS"
        tdi = "TDI"
        tdo = "TDO"
        bit-rate = "1 MHz"
        instruction = 0xe
        instruction-bits = 4
        data-in = 0
        data-out = 0x1234abcd
        data-bits = 32
        every = "2 ms"
        start = "50 us"
    "#;
    let capture = on_board(board, "?ideal=yes", &["LED", "OW", "TCK", "TMS", "TDI", "TDO"]).unwrap();
    let widths = |line: &str, up: bool, count: usize| -> Vec<i64> {
        let edges = edges(&capture, line);
        let from = edges.iter().position(|(_, level)| *level == up).unwrap();
        edges[from..].chunks_exact(2).take(count).map(|pair| pair[1].0 - pair[0].0).collect()
    };
    assert_eq!(widths("LED", true, 8), [800, 400, 400, 400, 400, 400, 400, 800]);
    let slots = widths("OW", false, 10);
    // Reset, presence, then 0x33 with its lowest bit first.
    assert_eq!(slots.iter().map(|w| w / 1000).collect::<Vec<_>>(), [490, 120, 6, 6, 60, 60, 6, 6, 60, 60]);
    let rises: Vec<i64> =
        edges(&capture, "TCK").iter().filter(|(_, up)| *up).map(|(at, _)| *at).take(52).collect();
    let mode = sampled(&capture, "TMS", rises.iter().copied());
    assert_eq!(
        mode[..14],
        [1, 1, 1, 1, 1, 0, 1, 1, 0, 0, 0, 0, 0, 1],
        "reset, idle, to the instruction register"
    );
    let instruction = sampled(&capture, "TDI", rises[10..14].iter().copied());
    let data = sampled(&capture, "TDO", rises[18..50].iter().copied());
    let lowest_first = |bits: Vec<u8>| number(&bits.into_iter().rev().collect::<Vec<_>>());
    assert_eq!((lowest_first(instruction), lowest_first(data)), (0xe, 0x1234_abcd));
}

#[test]
fn slow_edges_and_thresholds_move_what_is_seen_as_physics_says() {
    let node = r#"node = [{ name = "X", rise-rc = "1 us", fall = "2 us" }, { name = "V", analog = true }]
        pulse = [{ node = "X", at = "1 ms", width = "1 ms" }]"#;
    let seen = edges(&on_board(node, "", &["X"]).unwrap(), "X");
    // 0.1 V to 3.25 V through 1.41 V: ln(3.15 / 1.84) us; back to 1.39 V: 1.86 / 3.15 of 2 us.
    assert!(near(seen[0].0, 1_000_000 + 538) && near(seen[1].0, 2_000_000 + 1_181), "{seen:?}");
}

#[test]
fn each_fault_does_what_it_says_and_nothing_else() {
    let clock = |options: &str| {
        let board = r#"node = [{ name = "X" }, { name = "Y" }]
            clock = [{ node = "X", frequency = "10 kHz" }, { node = "Y", frequency = "1 kHz", start = "33 us" }]"#;
        on_board(board, options, &["X", "Y"]).unwrap()
    };
    let whole = clock("");
    let (x, y) = (edges(&whole, "X"), edges(&whole, "Y"));
    let with = |fault: &str| edges(&clock(&format!("?faults={fault}")), "X");
    assert!(with("stuck:X:high").is_empty());
    assert_eq!(edges(&clock("?faults=swapped:0:1"), "X").len(), y.len());
    // Faults longer than any record cost no more than others: what they hide is what shows after them.
    let longer = with("glitch:X:4 ms:1.02 ms");
    let (before, after): (Vec<_>, Vec<_>) = x.iter().partition(|(at, _)| *at < 1_020_000);
    assert!(
        longer.iter().filter(|(at, _)| *at < 1_019_000).eq(before.iter().filter(|(at, _)| *at < 1_019_000))
    );
    assert!(!longer.iter().any(|(at, _)| (1_021_000..4_990_000).contains(at)), "{longer:?}");
    assert!(!after.is_empty() && with("glitch:X:1000000 s:1.02 ms").len() <= longer.len());
    assert_eq!(with("contention:X:1000000 s:1000 s"), x);
    let glitched = with("glitch:X:200ns:1.02ms");
    let extra: Vec<_> = glitched.iter().filter(|e| !x.contains(e)).map(|e| e.0).collect();
    assert!(extra.len() == 2 && near(extra[0], 1_020_000) && near(extra[1], 1_020_200), "{extra:?}");
    assert_eq!(with("glitch:Y:200ns:1.02ms"), x, "a fault elsewhere");
    for (fault, by) in [("late:X:3us:10", 3_000), ("early:X:3us:10", -3_000)] {
        let moved: Vec<i64> = with(fault).iter().zip(&x).map(|(a, b)| a.0 - b.0).collect();
        let off = moved.iter().filter(|d| near(**d, by)).count();
        assert_eq!(
            (off, moved.iter().filter(|d| **d == 0).count()),
            (x.len() / 10, x.len() - x.len() / 10),
            "{fault}"
        );
    }
    // Two outputs against each other: half way between is above the threshold.
    let contention = with("contention:X:120us:2.03ms");
    assert!(contention.len() < x.len() && contention.iter().all(|e| x.contains(e) || near(e.0, 2_150_000)));
    let noisy = with("slow-edges:X:20us,noise:300mV");
    assert!(noisy.len() > 5 * x.len(), "chatter around the threshold: {}", noisy.len());
}

#[test]
fn an_input_driven_beyond_its_rating_is_reported_and_shows_nothing_more() {
    let board = r#"node = [{ name = "X", high = "5 V" }, { name = "Y" }]
        pulse = [{ node = "X", at = "1 ms", width = "1 ms" }, { node = "Y", at = "1 ms", width = "1 ms" }]"#;
    let folder = TempDir::new().unwrap();
    std::fs::write(folder.path().join("b.toml"), format!("title = \"b\"\n{board}")).unwrap();
    let mut instrument = connect("bench:b.toml?instrument=EX-B16", folder.path()).unwrap();
    let text = "sampling = { rate = \"100 MS/s\", length = \"5 ms\" }\nline = [{ name = \"X\", input = 0 }, { name = \"Y\", input = 1 }]";
    let capture =
        record(&crate::support::setup(text).unwrap(), &mut *instrument, RecordOptions::default()).unwrap();
    let remark = &capture.remarks()[0];
    assert!(
        remark.contains("input 0 was driven to 5.0 V and stands 3.6 V") && remark.contains("0.001000 s"),
        "{remark}"
    );
    let x = capture.trace(capture.line_named("X").unwrap());
    assert!(x.level_at(Tick(99_000)) == Level::Low && x.level_at(Tick(300_000)) == Level::Unknown);
    assert_eq!(edges(&capture, "Y").len(), 2);
}

#[test]
fn what_the_outputs_send_acts_on_the_board_when_it_should() {
    let setup = Setup::from_file(&root().join("setups/console.toml")).unwrap();
    let mut instrument = connect("bench:tide-gauge?faults=none", Path::new("")).unwrap();
    let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
    let at = |line: &str| -> Vec<f64> {
        let trace = capture.trace(capture.line_named(line).unwrap());
        trace.edges(capture.range()).map(|e| capture.base().time_of(e.tick).to_f64() * 1e6).collect()
    };
    let close = |a: f64, b: f64| (a - b).abs() < 0.11;
    // The pulses begin 500 us after the trigger, for 1 ms at 10 kHz, high for 25 us each.
    let pulses = at("CAL_IN");
    assert_eq!(pulses.len(), 20);
    for (number, edge) in pulses.iter().enumerate() {
        let truth = 500.0 + (number / 2) as f64 * 100.0 + (number % 2) as f64 * 25.0;
        assert!(close(*edge, truth), "{number}: {edge}");
        let answer = at("CAL_ACK")[number] - edge;
        assert!(close(answer, if number % 2 == 0 { 3.2 } else { 0.9 }), "{number}: {answer}");
    }
    // The trigger is the first start bit; the console repeats everything 25 us later.
    let (sent, heard) = (at("HOST_RX"), at("HOST_TX"));
    assert_eq!(sent[0], 0.0);
    assert!(
        sent.len() > 30
            && sent.iter().zip(&heard).all(|(a, b)| close(b - a, 25.0))
            && sent.len() == heard.len()
    );
    // Recording at once, there is no trigger to follow.
    let options = RecordOptions { now: true, ..Default::default() };
    let capture = record(&setup, &mut *instrument, options).unwrap();
    assert_eq!(capture.trace(capture.line_named("CAL_IN").unwrap()).edge_count(), 0);
}

#[test]
fn mistakes_in_a_bench_file_are_told_with_their_place() {
    let node = "node = [{ name = \"CLK\" }]\n";
    for (board, message, help) in [
        ("node = 3", "'node' is a number; it should be a list of tables", ""),
        ("node = [{ name = \"A\" }, { name = \"A\" }]", "two nodes are called 'A'", "rename"),
        (
            &format!("{node}clock = [{{ node = \"CLJ\", frequency = \"1 MHz\" }}]"),
            "there is no node 'CLJ'",
            "'CLK'",
        ),
        (
            &format!("{node}clock = [{{ node = \"CLK\", frequency = \"1 MS/s\" }}]"),
            "'MS/s' is not a unit of a frequency",
            "400 kHz",
        ),
        (
            &format!("{node}clock = [{{ node = \"CLK\", frequency = \"0 Hz\" }}]"),
            "not above zero",
            "in between",
        ),
        (&format!("{node}klock = []"), "there is no key 'klock'", "did you mean 'clock'?"),
        (&format!("faults = [\"stuck:CLX:low\"]\n{node}"), "board.toml:2:11: there is no node 'CLX'", "CLK"),
        (
            &format!("faults = [\"late-data\"]\n{node}"),
            "board.toml:2:11: this board has no fault 'late-data'",
            "tide gauge",
        ),
        (&format!("faults = [\"glitch:CLK\"]\n{node}"), "not complete", "glitch:NODE:WIDTH:TIME"),
        (
            &format!(
                "{node}[instrument]\nname = \"X\"\ninputs = 8\nthresholds = \"0 V .. 3 V\"\nhighest = \"5 V\"\nrates = [\"2 MS/s\", \"1 MS/s\"]"
            ),
            "this instrument contradicts itself: the rates of a mode are not above zero and rising",
            "rates that rise",
        ),
        (
            &format!(
                "{node}[instrument]\nname = \"X\"\ninputs = 8\ninputs-at-once = 16\nthresholds = \"0 V .. 3 V\"\nhighest = \"5 V\"\nrates = [\"1 MS/s\"]"
            ),
            "a mode records 16 inputs of 8",
            "no more inputs at once",
        ),
    ] {
        let error = on_board(board, "", &["CLK"]).unwrap_err();
        let told = format!("{} [{}]", error, error.help().unwrap_or_default());
        assert!(told.contains(message) && told.contains(help), "{board}: {told}");
    }
    let all = format!(
        "{node}clock = [{{ node = \"CLK\", frequncy = \"1 MHz\", duty = \"0.3\" }}]\nuart = [{{ node = \"TX\", bit-rate = \"9600 Hz\", data-bits = 9 }}]\n[instrument]\nname = 8"
    );
    let error = on_board(&all, "", &["CLK"]).unwrap_err();
    let told = |error: &deep_tap::Error| {
        let place = error.place().map(ToString::to_string).unwrap_or_default();
        let at = place.split_once(".toml:").map_or(place.as_str(), |(_, at)| at).to_string();
        format!("{at}: {}", error.message())
    };
    let all: Vec<String> = std::iter::once(&error).chain(error.related()).map(told).collect();
    assert_eq!(
        all,
        [
            "3:10: [[clock]] 'CLK' has no 'frequency'",
            "3:26: there is no key 'frequncy' in [[clock]] 'CLK'",
            "3:53: '0.3' has no unit: a percentage is in %",
            "4:9: this sender has nothing to send",
            "4:18: there is no node 'TX'",
            "4:58: 'data-bits' is 9; it should be a whole number from 5 to 8",
            "5:1: [instrument] has no 'inputs'",
            "5:1: [instrument] has no 'thresholds'",
            "5:1: [instrument] has no 'highest'",
            "6:8: 'name' is a number; it should be a text in quotes"
        ]
    );
    let own = format!(
        "{node}[instrument]\nname = \"MY-8\"\ninputs = 8\nthresholds = \"0 V .. 3 V\"\nhighest = \"5 V\"\nrates = [\"100 MS/s\"]\ntrigger-levels = 2"
    );
    let capture = on_board(&own, "", &["CLK"]).unwrap();
    assert!(
        capture.origin().source.starts_with("MY-8 (simulated, made up), on a board"),
        "{:?}",
        capture.origin()
    );
}

#[test]
fn two_senders_on_one_node_are_both_heard_and_a_read_needs_no_write() {
    let board = r#"
        node = [{ name = "RS", rests-high = true }, { name = "SCL", rests-high = true }, { name = "SDA", rests-high = true }]
        [[uart]]
        node = "RS"
        bit-rate = "1 MHz"
        bytes = [0x0f, 0x55]
        every = "1 ms"
        start = "100 us"
        [[uart]]
        node = "RS"
        bit-rate = "1 MHz"
        bytes = [0x81]
        every = "1 ms"
        start = "600 us"
        [[i2c]]
        clock = "SCL"
        data = "SDA"
        bit-rate = "400 kHz"
        address = 0x51
        read = [0xc5]
        every = "1 ms"
        start = "100 us"
    "#;
    let capture = on_board(board, "?ideal=yes", &["RS", "SCL", "SDA"]).unwrap();
    let read = |protocol, lines: &[usize]| {
        let lines = lines.iter().copied().map(deep_tap::line::LineId).collect();
        let bus = deep_tap::decode::SerialBus::of_lines("bus", protocol, lines).unwrap();
        let texts = bus.frames(&capture, capture.range()).unwrap().take(4).map(|frame| frame.to_string());
        texts.collect::<Vec<_>>().join(", ")
    };
    let uart = Protocol::Uart(UartConfig::new("1 MHz".parse().unwrap()));
    assert_eq!(read(uart, &[0]), "byte data=0x0F, byte data=0x55, byte data=0x81, byte data=0x0F");
    let wanted = "read address=0x51 ack=0x0 data=0xC5 nack=0x1";
    assert!(read(Protocol::I2c(I2cConfig::default()), &[1, 2]).starts_with(wanted));
}
