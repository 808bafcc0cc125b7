//! What is wrong with a bus: each planted on the bench and found, with its remedy; and nothing where
//! nothing is wrong.

use deep_tap::bench::connect;
use deep_tap::capture::Capture;
use deep_tap::decode::{
    CanConfig, ClockedConfig, I2cConfig, JtagConfig, ParallelConfig, Parity, Protocol, PulsesConfig,
    SerialBus, SpiConfig, SpiData, Strobes, UartConfig, decode,
};
use deep_tap::diagnose::{Finding, Sureness, diagnose, diagnose_bus};
use deep_tap::line::{Level, LineId};
use deep_tap::quantity::{Frequency, Rational};
use deep_tap::setup::{RecordOptions, Setup};
use deep_tap::time::Resolution;
use proptest::prelude::*;

use crate::decode::{board, board_for};
use crate::support::{capture, record, root};

fn about(capture: &Capture, protocol: Protocol, lines: &[usize]) -> Vec<Finding> {
    let lines = lines.iter().copied().map(LineId).collect();
    diagnose_bus(capture, &SerialBus::of_lines("bus", protocol, lines).unwrap())
}

fn kinds(findings: &[Finding]) -> Vec<&str> {
    findings.iter().map(|finding| finding.kind).collect()
}

/// The only finding has this kind and this remedy.
#[track_caller]
fn only(findings: &[Finding], kind: &str, remedy: &str) {
    assert_eq!(kinds(findings), [kind], "{findings:?}");
    assert!(findings[0].remedy.contains(remedy), "{findings:?}");
}

const TEXT: &str = "level 4.217 m, 11.3 degC, 3.29 V, 0 faults";

fn sender(format: &str) -> String {
    format!("uart = [{{ node = \"TX\", text = \"{TEXT}\", start = \"300 us\", every = \"6 ms\", {format} }}]")
}

fn uart(rate: &str, change: impl FnOnce(&mut UartConfig)) -> Protocol {
    let mut config = UartConfig::new(rate.parse().unwrap());
    change(&mut config);
    Protocol::Uart(config)
}

#[test]
fn the_settings_of_asynchronous_serial_are_told_from_the_signal() {
    let even = board("TX", &sender("bit-rate = \"115200 Hz\", parity = \"even\""), "5 MS/s", 7);
    assert!(about(&even, uart("115.2 kHz", |c| c.parity = Parity::Even), &[0]).is_empty());
    only(&about(&even, uart("115.2 kHz", |_| {}), &[0]), "format", "parity = \"even\"");
    only(&about(&even, uart("115.2 kHz", |c| c.parity = Parity::Odd), &[0]), "format", "parity = \"even\"");
    let plain = board("TX", &sender("bit-rate = \"115200 Hz\", rate-error = \"1 %\""), "5 MS/s", 8);
    assert!(about(&plain, uart("115.2 kHz", |_| {}), &[0]).is_empty());
    for stated in ["9.6 kHz", "57.6 kHz", "230.4 kHz", "100 kHz"] {
        let found = about(&plain, uart(stated, |_| {}), &[0]);
        assert!(found[0].kind == "bit-rate" && found[0].remedy.contains("115.2 kHz"), "{stated}: {found:?}");
        assert_eq!(found[0].sureness, Sureness::Certain);
    }
    only(&about(&plain, uart("115.2 kHz", |c| c.inverted = true), &[0]), "inverted", "inverted = false");
    // Two settings at once are both told.
    let both = about(&plain, uart("38.4 kHz", |c| c.inverted = true), &[0]);
    only(&both, "bit-rate", "bit-rate = \"115.2 kHz\", inverted = false");
    let both = about(&even, uart("38.4 kHz", |_| {}), &[0]);
    only(&both, "bit-rate", "bit-rate = \"115.2 kHz\", data-bits = 8, parity = \"even\"");
    // A sender whose clock is off, but not enough to be misread.
    let off = board("TX", &sender("bit-rate = \"115200 Hz\", rate-error = \"3.6 %\""), "10 MS/s", 8);
    only(&about(&off, uart("115.2 kHz", |_| {}), &[0]), "bit-rate", "clock");
    // Few samples per bit.
    let coarse = board("TX", &sender("bit-rate = \"230400 Hz\""), "1 MS/s", 9);
    let found = about(&coarse, uart("230.4 kHz", |_| {}), &[0]);
    only(&found, "rate", "1.9 MS/s");
    // Nothing is sent.
    let quiet = board("TX", "", "1 MS/s", 1);
    only(&about(&quiet, uart("115.2 kHz", |_| {}), &[0]), "silent", "lead");
}

#[test]
fn a_stream_without_rests_that_is_entered_in_the_middle_names_a_way_in() {
    let busy = sender("bit-rate = \"115200 Hz\"").replace("6 ms", "3646 us");
    let whole = board_for("TX", &busy, "5 MS/s", 4, "12 ms");
    let from = deep_tap::time::Tick(2000);
    // From the middle of a byte on, as a record that began there.
    let mut toggles: Vec<u64> =
        whole.trace(LineId(0)).edges(from..whole.range().end).map(|e| e.tick.0 - from.0).collect();
    if whole.trace(LineId(0)).level_at(from) == Level::High {
        toggles.insert(0, 1);
    }
    let late = capture("5 MS/s", Resolution::EXACT, whole.len() - from.0, &[("TX", &toggles)]);
    let found = about(&late, uart("115.2 kHz", |_| {}), &[0]);
    assert_eq!(kinds(&found), ["start"], "{found:?}");
    assert!(found[0].at.is_some() && found[0].remedy.contains("--from"));
}

#[test]
fn clocked_serial_tells_its_mode_its_lines_and_its_word_length() {
    let device = "[[spi]]\nclock = \"SCLK\"\ndata = \"SDO\"\nselect = \"CS\"\nbit-rate = \"1 MHz\"\nwords = [0xa53c, 0x1234, 0xf00f]\nbits = 16\nmode = 0\nevery = \"100 us\"\nstart = \"50 us\"";
    let capture = board("SCLK CS SDO", device, "25 MS/s", 2);
    let config = SpiConfig::new(0).bits(16).data(SpiData::Mosi);
    let read = |config, lines: &[usize]| about(&capture, Protocol::Spi(config), lines);
    assert!(read(config, &[0, 1, 2]).is_empty(), "{:?}", read(config, &[0, 1, 2]));
    for mode in 1..4 {
        only(&read(config.mode(mode), &[0, 1, 2]), "mode", "mode = 0");
    }
    only(&read(config.select(Some(Level::High)), &[0, 1, 2]), "select-active", "select-active = \"low\"");
    only(&read(config.bits(24), &[0, 1, 2]), "word-length", "bits = 16");
    only(&read(config, &[2, 1, 0]), "swapped", "clock = \"SCLK\", select = \"CS\", mosi = \"SDO\"");
    let idle = board("SCLK CS SDO IDLE", device, "25 MS/s", 2);
    only(&about(&idle, Protocol::Spi(config), &[0, 3, 2]), "select", "lead");
    let slow = board("SCLK CS SDO", device, "5 MS/s", 2);
    let found = about(&slow, Protocol::Spi(config), &[0, 1, 2]);
    assert!(kinds(&found).contains(&"rate"), "{found:?}");
}

#[test]
fn two_wires_tell_who_does_not_answer_and_when_they_are_swapped() {
    let target = |address: &str, more: &str| {
        format!(
            "[[i2c]]\nclock = \"SCL\"\ndata = \"SDA\"\nbit-rate = \"400 kHz\"\naddress = {address}\nwrite = [0x02, 0x99]\nread = [0xc5]\nevery = \"500 us\"\n{more}\n"
        )
    };
    let read = |devices: &str, lines: &[usize]| {
        about(&board("SCL SDA", devices, "20 MS/s", 3), Protocol::I2c(I2cConfig::default()), lines)
    };
    let healthy = target("0x51", "start = \"100 us\"");
    assert!(read(&healthy, &[0, 1]).is_empty());
    only(&read(&healthy, &[1, 0]), "swapped", "clock = \"SCL\", data = \"SDA\"");
    let absent = target("0x51", "start = \"100 us\"\nmissing = 1");
    only(&read(&absent, &[0, 1]), "no-answer", "seven bits");
    // One part of two, whose address is that of the other with the read/write bit, and any other one.
    let other = |address: &str| format!("{healthy}{}", target(address, "start = \"300 us\"\nmissing = 1"));
    only(&read(&other("0x22"), &[0, 1]), "shifted", "0x51");
    only(&read(&other("0x68"), &[0, 1]), "no-answer", "absent");
    only(&read(&target("0x51", "start = \"100 us\"\nmissing = 3"), &[0, 1]), "some-answers", "busy");
    let quiet = read("", &[0, 1]);
    assert_eq!(kinds(&quiet), ["silent", "silent"]);
}

#[test]
fn can_tells_its_bit_rate_and_a_node_that_is_alone() {
    let node = |more: &str| {
        format!(
            "can = [{{ node = \"RX\", bit-rate = \"250 kHz\", identifier = 0x123, data = [1, 2, 3, 250, 99], every = \"800 us\", start = \"100 us\" {more} }}]"
        )
    };
    let can = |rate: &str| Protocol::Can(CanConfig::new(rate.parse().unwrap()));
    let healthy = board("RX", &node(""), "10 MS/s", 6);
    assert!(about(&healthy, can("250 kHz"), &[0]).is_empty());
    only(&about(&healthy, can("125 kHz"), &[0]), "bit-rate", "250 kHz");
    only(&about(&healthy, can("500 kHz"), &[0]), "bit-rate", "250 kHz");
    let inverted = CanConfig::new("250 kHz".parse().unwrap()).inverted(true);
    only(&about(&healthy, Protocol::Can(inverted), &[0]), "inverted", "inverted = false");
    let alone = board("RX", &node(", acknowledged = false"), "10 MS/s", 6);
    only(&about(&alone, can("250 kHz"), &[0]), "no-answer", "another node");
}

#[test]
fn single_wires_ports_and_plain_clocks_are_told_too() {
    let wire = |more: &str| {
        format!(
            "one-wire = [{{ node = \"IO\", bytes = [0xcc, 0x44], start = \"1 ms\", every = \"9 ms\" {more} }}]"
        )
    };
    let absent = board_for("IO", &wire(", present = false"), "2 MS/s", 3, "30 ms");
    only(&about(&absent, Protocol::OneWire, &[0]), "no-answer", "pull-up");
    assert!(about(&board_for("IO", &wire(""), "2 MS/s", 3, "30 ms"), Protocol::OneWire, &[0]).is_empty());

    let lights = "lights = [{ node = \"SCLK\", bytes = [0x10, 0x80, 0xff], period = \"1.25 us\", zero = \"400 ns\", one = \"800 ns\", start = \"100 us\", every = \"1 ms\" }]";
    let chain = board("SCLK", lights, "20 MS/s", 4);
    let config = |threshold: &str, rest: &str| {
        Protocol::Pulses(PulsesConfig::new(threshold.parse().unwrap(), rest.parse().unwrap(), 24))
    };
    assert!(about(&chain, config("600 ns", "50 us"), &[0]).is_empty());
    only(&about(&chain, config("900 ns", "50 us"), &[0]), "threshold", "600 ns");
    only(&about(&chain, config("600 ns", "2 ms"), &[0]), "rest", "below");
    // One pulse that is much too long does not move the threshold.
    let ticks = (0..200u64).flat_map(|n| [100 + n * 25, 100 + n * 25 + if n % 3 == 0 { 16 } else { 8 }]);
    let ticks: Vec<u64> = ticks.chain([6000, 6300]).collect();
    let glitch = capture("20 MS/s", Resolution::EXACT, 9000, &[("DIN", &ticks)]);
    let found = about(&glitch, config("600 ns", "50 us"), &[0]);
    assert!(!kinds(&found).contains(&"threshold"), "{found:?}");

    // A memory that is only read: its write strobe is quiet, and nothing is wrong.
    let low = Some(Level::Low);
    let strobes = Strobes::Cycles { write: low, read: low };
    let memory = ParallelConfig::new(strobes, 1);
    let strobe: Vec<u64> = (0..40).map(|n| 1 + n * 50).collect();
    let lines: [(&str, &[u64]); 3] = [("WE", &[]), ("OE", &strobe), ("D", &[60, 160, 260])];
    let read = capture("1 MS/s", Resolution::EXACT, 3000, &lines);
    let inactive = memory.strobes(Strobes::Cycles { write: Some(Level::High), read: low });
    assert_eq!(about(&read, Protocol::Parallel(inactive), &[0, 1, 2]), []);

    let port = "jtag = [{ tck = \"TCK\", tms = \"TMS\", tdi = \"TDI\", tdo = \"TDO\", bit-rate = \"1 MHz\", instruction = 0x2a, instruction-bits = 9, data-in = 0x12345678, data-out = 0x4ba00477, data-bits = 32, every = \"200 us\", start = \"20 us\" }]";
    let capture = board("TCK TMS TDI TDO", port, "20 MS/s", 5);
    let jtag = |chain: &[u32]| Protocol::Jtag(JtagConfig::default().chain(chain.to_vec()));
    assert!(about(&capture, jtag(&[5, 4]), &[0, 1, 2, 3]).is_empty());
    only(&about(&capture, jtag(&[5]), &[0, 1, 2, 3]), "chain", "no part is missing");
    // Data moves with the falling edge, and is taken with the rising one.
    let clocked =
        |rising| Protocol::Clocked(ClockedConfig::new(1).rising(rising).gap(Some("20 us".parse().unwrap())));
    assert!(about(&capture, clocked(true), &[0, 2]).is_empty());
    only(&about(&capture, clocked(false), &[0, 2]), "edge", "edge = \"rises\"");
}

#[test]
fn the_demo_boards_without_faults_get_no_finding() {
    for (name, address) in [
        ("tide-gauge", "bench:tide-gauge?faults=none&seed=4"),
        ("console", "bench:tide-gauge?faults=none&seed=5"),
        ("buses", "bench:tide-gauge?faults=none&seed=6"),
    ] {
        let mut setup = Setup::from_file(&root().join(format!("setups/{name}.toml"))).unwrap();
        setup.connect = Some(address.into());
        let mut instrument = connect(address, &root()).unwrap();
        let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
        assert!(!setup.serial.is_empty());
        assert_eq!(diagnose(&capture, &setup), [], "{name}");
    }
}

/// Bytes on a line, as a sampler sees them: `bit` ticks a bit, in thousandths, from a phase within a tick.
fn sampled(bytes: &[u8], bit: u64, phase: u64) -> Capture {
    let mut toggles = vec![1];
    let mut level = true;
    for (number, byte) in bytes.iter().enumerate() {
        // A start bit, the lowest bit first, two stop bits' rest.
        let bits = std::iter::once(false).chain((0..8).map(|place| byte >> place & 1 == 1)).chain([true]);
        for (place, high) in bits.enumerate() {
            if high != level {
                let at = 20_000 + phase + (number as u64 * 11 + place as u64) * bit;
                toggles.push(at.div_ceil(1000));
                level = high;
            }
        }
    }
    let len = (20_000 + (bytes.len() as u64 * 11 + 12) * bit) / 1000;
    capture("1 MS/s", Resolution::SAMPLED, len, &[("TX", &toggles)])
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(1000) })]

    #[test]
    fn bytes_are_read_without_loss_or_with_a_warning(
        bytes in prop_oneof![
            prop::collection::vec(any::<u8>(), 12..60),
            prop::collection::vec(prop_oneof![Just(0u8), Just(0xff), Just(0xf0), Just(0x80)], 12..60),
            (any::<u8>(), 12usize..60).prop_map(|(byte, count)| vec![byte; count]),
        ],
        spread in 0u64..1000,
        per_bit in 3_000u64..20_000,
        error in -100i64..100,
        phase in 0u64..1000,
    ) {
        // Half of the cases within what is promised: eight samples a bit, and 2 % at the most.
        let promised = spread < 500;
        let per_bit = if promised { per_bit.max(8_000) } else { per_bit };
        let error = if promised { error % 21 } else { error };
        let stated = Frequency::from_rational(Rational::new(1_000_000_000, per_bit.into()).unwrap());
        let bit = (per_bit as i64 + per_bit as i64 * error / 1000) as u64;
        let record = sampled(&bytes, bit, phase);
        let protocol = Protocol::Uart(UartConfig::new(stated));
        let mut decoder = protocol.decoder(record.base()).unwrap();
        let mut frames = Vec::new();
        let _ = decode(&record, &[LineId(0)], record.range(), &mut *decoder, &mut frames);
        let read: Vec<u64> = frames.iter().filter_map(|frame| frame.field("data")).map(|f| f.value).collect();
        let right = read.iter().copied().eq(bytes.iter().map(|byte| u64::from(*byte)));
        let faulty = frames.iter().any(|frame| !frame.faults.is_empty());
        let warned = || !about(&record, protocol.clone(), &[0]).is_empty();
        if promised {
            prop_assert!(right && !faulty, "{bit} for {per_bit}: {read:?}");
        }
        prop_assert!(right || faulty || warned(), "{bit} for {per_bit}: {read:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(200) })]

    #[test]
    fn other_buses_are_read_without_loss_or_with_a_warning_too(
        kind in 0usize..3,
        bytes in prop::collection::vec(any::<u8>(), 1..8),
        per_bit in 2_500u64..14_000,
        seed in 0u64..1000,
        start in 20_000u64..30_000,
    ) {
        // At 10 MS/s, so many thousandths of a sample are a bit.
        let bit_rate = 10_000_000_000 / per_bit;
        let list: Vec<String> = bytes.iter().map(u8::to_string).collect();
        let list = list.join(", ");
        let common = format!("bit-rate = \"{bit_rate} Hz\", every = \"700 us\", start = \"{start} ns\"");
        let (nodes, device, protocol) = match kind {
            0 => ("SCL SDA", format!("i2c = [{{ clock = \"SCL\", data = \"SDA\", address = 0x35, write = [{list}], {common} }}]"), Protocol::I2c(I2cConfig::default())),
            1 => ("SCLK CS SDO", format!("spi = [{{ clock = \"SCLK\", data = \"SDO\", select = \"CS\", words = [{list}], bits = 8, mode = 0, {common} }}]"), Protocol::Spi(SpiConfig::new(0).data(SpiData::Mosi))),
            _ => ("RX", format!("can = [{{ node = \"RX\", identifier = 0x155, data = [{list}], {common} }}]"), Protocol::Can(CanConfig::new(format!("{bit_rate} Hz").parse().unwrap()))),
        };
        let record = board(nodes, &device, "10 MS/s", seed);
        let lines: Vec<LineId> = (0..record.lines().len()).map(LineId).collect();
        let Ok(mut decoder) = protocol.decoder(record.base()) else {
            // Refused, with the rate that is needed.
            prop_assert!(per_bit < 3_010);
            return Ok(());
        };
        let mut frames = Vec::new();
        let _ = decode(&record, &lines, record.range(), &mut *decoder, &mut frames);
        frames.retain(|frame| frame.faults.iter().all(|fault| fault.kind != "cut-off"));
        let values = |name: &str| -> Vec<u64> {
            let named = frames.iter().flat_map(|frame| &frame.fields).filter(|field| field.name == name);
            named.map(|field| field.value).collect()
        };
        let read = values(if kind == 1 { "mosi" } else { "data" });
        let sent = bytes.iter().map(|byte| u64::from(*byte));
        let right = !read.is_empty() && read.iter().copied().eq(sent.cycle().take(read.len()));
        let faulty = frames.iter().any(|frame| !frame.faults.is_empty());
        let places: Vec<usize> = (0..lines.len()).collect();
        let warned = || !about(&record, protocol.clone(), &places).is_empty();
        if per_bit >= 8_000 {
            prop_assert!(right && !faulty, "{} at {bit_rate}: {read:?}", protocol.name());
        }
        prop_assert!(right || faulty || warned(), "{} at {bit_rate}: {read:?}", protocol.name());
    }
}

#[test]
fn faults_of_the_bench_are_told() {
    let sends = "uart = [{ node = \"TX\", bit-rate = \"115200 Hz\", text = \"level 4.217 m\", start = \"100 us\", every = \"2 ms\" }]";
    let port = "\n[[i2c]]\nclock = \"SCL\"\ndata = \"SDA\"\nbit-rate = \"400 kHz\"\naddress = 0x51\nwrite = [0x02, 0x99]\nread = [0xc5, 0x12]\nevery = \"300 us\"";
    let shifts = "\n[[spi]]\nclock = \"SCLK\"\nselect = \"CS\"\ndata = \"SDO\"\nbit-rate = \"1 MHz\"\nwords = [0xa5, 0x3c, 0x0f, 0x7e]\nbits = 8\nmode = 0\nevery = \"100 us\"";
    let i2c = || Protocol::I2c(I2cConfig::default());
    let spi = || Protocol::Spi(SpiConfig::new(0).data(SpiData::Mosi));
    let console = || uart("115.2 kHz", |_| {});
    let cases = [
        ("TX", sends, "hangs:TX:low:2ms", console(), "hung", "held low"),
        ("SCL SDA", port, "hangs:SDA:low:3ms", i2c(), "hung", "SDA"),
        ("SCL SDA", port, "stuck:SDA:low", i2c(), "silent", "pull-up"),
        ("SCL SDA", port, "crosstalk:SDA:SCL:60ns", i2c(), "noise", "crosstalk from SDA"),
        ("SCL SDA", port, "swapped:0:1", i2c(), "swapped", "clock = \"SDA\""),
        ("SCL SDA", port, "no-ground", i2c(), "noise", "ground"),
        ("TX", sends, "no-ground", console(), "noise", "ground"),
        ("SCLK CS SDO", shifts, "no-ground", spi(), "noise", "ground"),
        ("SCLK CS SDO", shifts, "stuck:SDO:high", spi(), "silent", "SDO"),
        ("SCLK CS SDO", shifts, "stuck:CS:high", spi(), "select", "CS"),
        ("SCLK CS SDO", shifts, "swapped:0:2", spi(), "swapped", "clock = \"SDO\""),
        ("SCLK CS SDO", shifts, "crosstalk:SDO:SCLK:60ns", spi(), "noise", "crosstalk from SDO"),
    ];
    for (nodes, device, fault, protocol, kind, word) in cases {
        let record = board(nodes, &format!("faults = [\"{fault}\"]\n{device}"), "25 MS/s", 11);
        let lines: Vec<usize> = (0..record.lines().len()).collect();
        let found = about(&record, protocol, &lines);
        let first = found.first().unwrap_or_else(|| panic!("{fault}: nothing"));
        let text = format!("{} {}", first.what, first.remedy);
        assert!(first.kind == kind && text.contains(word), "{fault}: {found:#?}");
    }
}
