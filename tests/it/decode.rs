//! Decoders: what the bench's senders send against what is decoded, stored and streamed, and any
//! edges at all.

use std::ops::ControlFlow;

use deep_tap::bench::connect;
use deep_tap::bus::{Decoder, Frame, FrameSink};
use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::decode::{
    I2c, I2cAddresses, I2cConfig, Parity, Spi, SpiConfig, SpiData, StopBits, StreamDecoder, Uart, UartConfig,
    decode,
};
use deep_tap::line::Levels;
use deep_tap::line::{BitOrder, Level, Line, LineId};
use deep_tap::quantity::{Frequency, Rational};
use deep_tap::scan::{SampleBlock, SampleWidth};
use deep_tap::setup::RecordOptions;
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

use crate::support::{capture, record};

/// Records a line of a board that one device drives.
fn sent(device: &str, rate: &str, length: &str, seed: u64) -> Capture {
    let folder = tempfile::tempdir().unwrap();
    let node = "node = [{ name = \"TX\", rests-high = true }]";
    std::fs::write(folder.path().join("b.toml"), format!("title = \"b\"\n{node}\n{device}")).unwrap();
    let mut instrument = connect(&format!("bench:b.toml?seed={seed}"), folder.path()).unwrap();
    let text = format!(
        "sampling = {{ rate = \"{rate}\", length = \"{length}\" }}\nline = [{{ name = \"TX\", input = 0 }}]"
    );
    record(&crate::support::setup(&text).unwrap(), &mut *instrument, RecordOptions::default()).unwrap()
}

fn stored(capture: &Capture, decoder: &mut dyn Decoder) -> Vec<Frame> {
    let lines: Vec<LineId> = (0..decoder.lines()).map(LineId).collect();
    let mut frames = Vec::new();
    let _ = decode(capture, &lines, capture.range(), decoder, &mut frames);
    frames
}

pub(crate) fn streamed(capture: &Capture, decoder: &mut dyn Decoder, cuts: &[usize]) -> Vec<Frame> {
    let lines = decoder.lines();
    let bits: Vec<u32> = (0..lines as u32).collect();
    let mut stream = StreamDecoder::new(decoder, &bits).unwrap();
    let (mut frames, mut at, mut cuts) = (Vec::new(), 0, cuts.iter().cycle());
    while at < capture.len() {
        let end = capture.len().min(at + *cuts.next().unwrap() as u64);
        let mut block = SampleBlock::new(SampleWidth::W8);
        for tick in at..end {
            let level = |line: usize| capture.trace(LineId(line)).level_at(Tick(tick));
            let word =
                |of: Level| (0..lines).fold(0, |word, line| word | u64::from(level(line) == of) << line);
            block.push(word(Level::High), word(Level::Unknown));
        }
        let _ = stream.push(block.samples(), &mut frames);
        at = end;
    }
    let _ = stream.finish(&mut frames);
    frames
}

pub(crate) fn data(frames: &[Frame]) -> Vec<u64> {
    frames.iter().filter(|f| f.kind == "byte").map(|f| f.field("data").unwrap().value).collect()
}

pub(crate) fn kinds(frames: &[Frame]) -> Vec<&str> {
    frames.iter().map(|f| f.kind).collect()
}

pub(crate) fn faults(frames: &[Frame]) -> Vec<&str> {
    frames.iter().flat_map(|f| &f.faults).map(|f| f.kind).collect()
}

/// A board with these nodes and one device, recorded for 5 ms.
pub(crate) fn board(nodes: &str, device: &str, rate: &str, seed: u64) -> Capture {
    board_for(nodes, device, rate, seed, "5 ms")
}

pub(crate) fn board_for(nodes: &str, device: &str, rate: &str, seed: u64, length: &str) -> Capture {
    let folder = tempfile::tempdir().unwrap();
    let names = nodes.split(' ');
    let list: Vec<String> =
        names.clone().map(|n| format!("{{ name = \"{n}\", rests-high = {} }}", n != "SCLK")).collect();
    let text = format!("title = \"b\"\nnode = [{}]\n{device}", list.join(","));
    std::fs::write(folder.path().join("b.toml"), text).unwrap();
    let mut instrument = connect(&format!("bench:b.toml?seed={seed}"), folder.path()).unwrap();
    let lines: Vec<String> =
        names.enumerate().map(|(n, name)| format!("{{ name = \"{name}\", input = {n} }}")).collect();
    let text =
        format!("sampling = {{ rate = \"{rate}\", length = \"{length}\" }}\nline = [{}]", lines.join(","));
    record(&crate::support::setup(&text).unwrap(), &mut *instrument, RecordOptions::default()).unwrap()
}

pub(crate) fn fields(frame: &Frame) -> Vec<(&str, u64)> {
    frame.fields.iter().map(|field| (field.name, field.value)).collect()
}

#[test]
fn a_transfer_on_two_wires_has_its_address_its_bytes_and_who_acknowledged() {
    let device = |more: &str| {
        format!(
            "i2c = [{{ clock = \"SCL\", data = \"SDA\", bit-rate = \"400 kHz\", address = 0x51, write = [0x02, 0x99], read = [0xc5, 0x3a], every = \"1 ms\", start = \"100 us\" {more} }}]"
        )
    };
    for (seed, rate) in [(1, "10 MS/s"), (2, "5 MS/s"), (3, "100 MS/s")] {
        let capture = board("SCL SDA", &device(""), rate, seed);
        let frames = stored(&capture, &mut I2c::new(I2cConfig::default()));
        assert_eq!(kinds(&frames), ["write", "read"].repeat(5));
        assert!(faults(&frames).is_empty(), "{:?}", frames[0]);
        let write = [("address", 0x51), ("ack", 0), ("data", 0x02), ("ack", 0), ("data", 0x99), ("ack", 0)];
        let read = [("address", 0x51), ("ack", 0), ("data", 0xc5), ("ack", 0), ("data", 0x3a), ("nack", 1)];
        assert_eq!((fields(&frames[0]), fields(&frames[1])), (write.to_vec(), read.to_vec()));
        assert_eq!(streamed(&capture, &mut I2c::new(I2cConfig::default()), &[1, 64, 777]), frames);
    }
    let with_direction = I2cConfig::default().addresses(I2cAddresses::WithDirection);
    let shown = stored(&board("SCL SDA", &device(""), "10 MS/s", 1), &mut I2c::new(with_direction));
    assert_eq!([&shown[0], &shown[1]].map(|frame| fields(frame)[0]), [("address", 0xa2), ("address", 0xa3)]);
    let absent = stored(
        &board("SCL SDA", &device(", missing = 1"), "10 MS/s", 1),
        &mut I2c::new(I2cConfig::default()),
    );
    assert_eq!(fields(&absent[0]), [("address", 0x51), ("nack", 1)]);
    let stretched = stored(
        &board("SCL SDA", &device(", stretch = \"90 us\""), "10 MS/s", 1),
        &mut I2c::new(I2cConfig::default()),
    );
    assert!(stretched[0].fields.len() == 6 && faults(&stretched).is_empty());
}

/// A bus of two wires at 1 MS/s from bits by hand: `S` starts, `P` stops, digits are bits.
fn two_wires(script: &str) -> Capture {
    let (mut clock, mut data, mut at) = (vec![1], vec![1], 10u64);
    let (mut high, mut now) = (true, true);
    let to = |line: &mut Vec<u64>, now: &mut bool, at: u64, level: bool| {
        if *now != level {
            line.push(at);
            *now = level;
        }
    };
    for step in script.chars() {
        match step {
            'S' => {
                to(&mut data, &mut now, at, true);
                to(&mut clock, &mut high, at + 2, true);
                to(&mut data, &mut now, at + 4, false);
                to(&mut clock, &mut high, at + 6, false);
            }
            'P' => {
                to(&mut data, &mut now, at, false);
                to(&mut clock, &mut high, at + 2, true);
                to(&mut data, &mut now, at + 4, true);
            }
            bit => {
                to(&mut data, &mut now, at, bit == '1');
                to(&mut clock, &mut high, at + 2, true);
                to(&mut clock, &mut high, at + 6, false);
            }
        }
        at += 8;
    }
    capture("1 MS/s", Resolution::EXACT, at + 50, &[("SCL", &clock), ("SDA", &data)])
}

#[test]
fn ten_bit_addresses_general_calls_and_broken_transfers_by_hand() {
    let read = |script: &str| stored(&two_wires(script), &mut I2c::new(I2cConfig::default()));
    // UM10204, 3.1.11: 11110xx and eight bits more; a read repeats only the first byte.
    let frames = read("S111101000010100110S111101010010000011P");
    assert_eq!(
        (fields(&frames[0]), frames[0].kind),
        (vec![("address", 0x253), ("ack", 0), ("ack", 0)], "write")
    );
    assert_eq!(
        (fields(&frames[1]), frames[1].kind),
        (vec![("address", 0x253), ("ack", 0), ("data", 0x41), ("nack", 1)], "read")
    );
    assert_eq!(frames[0].field("address").unwrap().bits, 10);
    // Nobody has these two bits: of the address there is its first byte, and no more.
    let frames = read("S111101011P");
    assert_eq!((fields(&frames[0]), faults(&frames)), (vec![("address", 0x7a), ("nack", 1)], vec![]));
    let frames = read("S000000000000001100P");
    assert_eq!((frames[0].kind, fields(&frames[0])[2]), ("general-call", ("data", 0x06)));
    let frames = read("S10100010010P");
    assert_eq!((faults(&frames), fields(&frames[0]).len()), (vec!["incomplete"], 2));
    assert_eq!(faults(&read("S1010001001011")), ["cut-off"]);
    assert!(read("SP").is_empty(), "nothing was said");
}

#[test]
fn words_are_taken_with_the_edge_of_their_mode_and_cut_words_are_told() {
    for mode in 0..4u8 {
        let rests = if mode >= 2 { "CLK" } else { "SCLK" };
        let device = format!(
            "[[spi]]\nclock = \"{rests}\"\ndata = \"SDO\"\nselect = \"CS\"\nbit-rate = \"1 MHz\"\nwords = [0xa53, 0x123, 0xffe]\nbits = 12\nmode = {mode}\nevery = \"100 us\"\nstart = \"50 us\""
        );
        let capture = board(&format!("{rests} CS SDO"), &device, "25 MS/s", u64::from(mode));
        let config = SpiConfig::new(mode).bits(12).data(SpiData::Mosi);
        let read = |config: SpiConfig| stored(&capture, &mut Spi::new(config, capture.base()).unwrap());
        let words = |frames: &[Frame]| frames.iter().map(|f| f.fields[0].value).collect::<Vec<_>>();
        let frames = read(config);
        assert_eq!(
            (words(&frames[..4]), faults(&frames)),
            (vec![0xa53, 0x123, 0xffe, 0xa53], vec![]),
            "mode {mode}"
        );
        assert_eq!(streamed(&capture, &mut Spi::new(config, capture.base()).unwrap(), &[3, 500]), frames);
        // Another word length: the rest of each word is told.
        let frames = read(config.bits(8));
        assert_eq!((words(&frames[..2]), frames[1].fields[0].bits), (vec![0xa5, 0x3], 4));
        assert_eq!(frames[1].faults[0].kind, "truncated");
        assert_eq!(words(&read(config.order(BitOrder::LowestFirst))[..1]), [0xca5]);
        // The other edge is where the data changes, or the clock's first edge is missed.
        let wrong = read(config.mode(mode ^ 1));
        assert!(wrong.iter().all(|f| !f.faults.is_empty()) || words(&wrong) != words(&frames), "mode {mode}");
    }
}

#[test]
fn two_data_lines_carry_two_bits_with_each_clock() {
    // 0xb4 = 10 11 01 00, the higher bits on one line and the lower ones on the other; mode 0.
    let record = capture(
        "1 MS/s",
        Resolution::EXACT,
        200,
        &[
            ("CLK", &[20, 25, 30, 35, 40, 45, 50, 55]),
            ("CS", &[1, 10, 60]),
            ("IO1", &[16, 37]),
            ("IO0", &[27, 47]),
        ],
    );
    let config = SpiConfig::new(0).data(SpiData::Dual);
    let read = |config| stored(&record, &mut Spi::new(config, record.base()).unwrap());
    assert_eq!(fields(&read(config)[0]), [("data", 0b1011_0100)]);
    assert_eq!(fields(&read(config.order(BitOrder::LowestFirst))[0]), [("data", 0b0001_1110)]);
    assert!(Spi::new(config.bits(7), record.base()).is_err());
}

#[test]
fn without_a_select_line_a_gap_parts_words() {
    let device = "[[spi]]\nclock = \"SCLK\"\ndata = \"SDO\"\nselect = \"CS\"\nbit-rate = \"1 MHz\"\nwords = [0xa5]\nbits = 8\nevery = \"100 us\"\nstart = \"50 us\"";
    let capture = board("SCLK SDO CS", device, "25 MS/s", 9);
    let config = |bits, gap: &str| {
        SpiConfig::new(0).bits(bits).select(None).data(SpiData::Mosi).gap(Some(gap.parse().unwrap()))
    };
    let read = |config| stored(&capture, &mut Spi::new(config, capture.base()).unwrap());
    let frames = read(config(8, "5 us"));
    assert!(frames.len() > 40 && frames.iter().all(|f| f.fields[0].value == 0xa5 && f.faults.is_empty()));
    let frames = read(config(16, "5 us"));
    assert!(frames.iter().all(|f| f.fields[0].bits == 8 && f.faults[0].kind == "truncated"));
    let frames = read(config(16, "1 ms"));
    assert!(frames[..20].iter().all(|f| f.fields[0].value == 0xa5a5));
    // A clock more than the words need, as at a stop, is no word.
    let clock: Vec<u64> = [100, 110, 120, 130].into_iter().chain([150, 300, 310, 320]).collect();
    let toggles: Vec<u64> = clock.iter().flat_map(|at| [*at, at + 4]).collect();
    let stray = capture_of_two(&toggles);
    let bits = config(2, "15 us");
    let frames = stored(&stray, &mut Spi::new(bits, stray.base()).unwrap());
    assert_eq!(faults(&frames), ["truncated"], "alone after a rest, it is one");
    let clock: Vec<u64> = [100, 110, 120, 300, 310, 320].into_iter().flat_map(|at| [at, at + 4]).collect();
    let stray = capture_of_two(&clock);
    let frames = stored(&stray, &mut Spi::new(bits, stray.base()).unwrap());
    assert_eq!((frames.len(), faults(&frames)), (2, vec![]), "after whole words, one is not");
    let none = SpiConfig::new(0).select(None).gap(None);
    assert!(Spi::new(none, capture.base()).unwrap_err().message().contains("where a word begins"));
    assert!(Spi::new(SpiConfig::new(4), capture.base()).is_err());
}

/// A clock with these edges, and data that rests.
fn capture_of_two(clock: &[u64]) -> Capture {
    capture("1 MS/s", Resolution::EXACT, 600, &[("CLK", clock), ("DATA", &[])])
}

fn uart(capture: &Capture, change: impl FnOnce(&mut UartConfig)) -> Uart {
    let mut config = UartConfig::new("100 kHz".parse().unwrap());
    change(&mut config);
    Uart::new(config, capture.base()).unwrap()
}

/// A line at 1 MS/s that rests high and toggles at these ticks: 10 ticks a bit at 100 kbit/s.
fn line(ticks: &[u64], len: u64) -> Capture {
    let mut toggles = vec![1];
    toggles.extend(ticks);
    capture("1 MS/s", Resolution::EXACT, len, &[("TX", &toggles)])
}

#[test]
fn bytes_by_hand_in_every_format() {
    // 0x35 = 0011 0101: on the wire 0 1010 1100 and the stop bit.
    let ticks = [100, 110, 120, 130, 140, 150, 170, 190];
    let seen = stored(&line(&ticks, 400), &mut uart(&line(&[], 9), |_| {}));
    let byte = &seen[0];
    assert_eq!((byte.kind, byte.start, byte.end), ("byte", Tick(100), Tick(200)));
    let field = byte.field("data").unwrap();
    assert_eq!((field.value, field.start, field.end, field.bits), (0x35, Tick(110), Tick(190), 8));
    assert!(faults(&seen).is_empty() && seen.len() == 1);
    let read = |change: fn(&mut UartConfig)| {
        let capture = line(&ticks, 400);
        stored(&capture, &mut uart(&capture, change))
    };
    assert_eq!(data(&read(|c| c.order = BitOrder::HighestFirst)), [0xac]);
    // Seven bits and parity: 011 0101 has four ones, and the eighth bit is 0.
    for (parity, fault) in
        [(Parity::Even, false), (Parity::Odd, true), (Parity::Mark, true), (Parity::Space, false)]
    {
        let capture = line(&ticks, 400);
        let seen = stored(&capture, &mut uart(&capture, |c| (c.data_bits, c.parity) = (7, parity)));
        assert_eq!((data(&seen), faults(&seen).len()), (vec![0x35], usize::from(fault)), "{parity:?}");
        assert_eq!(seen[0].field("parity").unwrap().value, 0);
    }
    // Nine bits take the stop bit in, and find another one behind it.
    assert_eq!(data(&read(|c| c.data_bits = 9)), [0x135]);
    assert_eq!(read(|c| c.stop_bits = StopBits::OneAndHalf)[0].end, Tick(205));
    assert_eq!(read(|c| c.stop_bits = StopBits::Two)[0].end, Tick(210));
    // On the cable the line rests low.
    let inverted = capture("1 MS/s", Resolution::EXACT, 400, &[("TX", &ticks)]);
    assert_eq!(data(&stored(&inverted, &mut uart(&inverted, |c| c.inverted = true))), [0x35]);
}

#[test]
fn what_goes_wrong_on_the_wire_is_told_and_the_next_byte_is_read_again() {
    let read = |ticks: &[u64]| {
        let capture = line(ticks, 2000);
        stored(&capture, &mut uart(&capture, |_| {}))
    };
    // Low for the whole byte and its stop bit, and for how long.
    let seen = read(&[100, 350, 400, 410, 420, 430, 440, 450, 470, 490]);
    assert_eq!((kinds(&seen), seen[0].end, data(&seen)), (vec!["break", "byte"], Tick(350), vec![0x35]));
    // A spike where a start bit would be.
    let seen = read(&[100, 103, 400, 410, 420, 430, 440, 450, 470, 490]);
    assert_eq!(
        (kinds(&seen), faults(&seen), data(&seen)),
        (vec!["noise", "byte"], vec!["false-start"], vec![0x35])
    );
    // A stop bit that is not there; the line must rest before the next byte.
    let seen = read(&[100, 110, 120, 230, 400, 410, 420, 430, 440, 450, 470, 490]);
    assert_eq!((faults(&seen), data(&seen)), (vec!["framing"], vec![0x01, 0x35]));
    assert!(seen[0].faults[0].what.contains("another bit rate"));
    // The record ends within a byte, and begins within one.
    let seen = read(&[1950, 1960]);
    assert_eq!(kinds(&seen), ["cut-off"]);
    let low =
        capture("1 MS/s", Resolution::EXACT, 400, &[("TX", &[60, 100, 110, 120, 130, 140, 150, 170, 190])]);
    assert_eq!(data(&stored(&low, &mut uart(&low, |_| {}))), [0x35]);
}

#[test]
fn a_rate_that_cannot_be_decoded_names_the_one_that_can() {
    let base = line(&[], 9).base();
    let error = Uart::new(UartConfig::new("500 kHz".parse().unwrap()), base).unwrap_err();
    assert!(error.message().contains("2.0 samples per bit"), "{error:?}");
    assert!(error.help().unwrap().contains("1.5 MS/s or more"), "{error:?}");
    let mut config = UartConfig::new("1 kHz".parse().unwrap());
    config.data_bits = 4;
    assert!(Uart::new(config, base).unwrap_err().help().unwrap().contains("5 to 9"));
    assert!(Uart::new(UartConfig::new("0 Hz".parse().unwrap()), base).is_err());
}

#[test]
fn what_another_program_wrote_for_itself_sends_is_read_without_loss() {
    for (seed, rate, bit_rate, error, parity) in [
        (1, "1 MS/s", 115_200, "0 %", "none"),
        (2, "2 MS/s", 115_200, "1.5 %", "even"),
        (3, "2 MS/s", 250_000, "-1.5 %", "odd"),
        (4, "500 MS/s", 921_600, "2 %", "none"),
        (5, "1 MS/s", 9_600, "-2 %", "even"),
    ] {
        let text = "the quick brown fox jumps over the lazy dog, 0123456789";
        let device = format!(
            "uart = [{{ node = \"TX\", bit-rate = \"{bit_rate} Hz\", rate-error = \"{error}\", text = \"{text}\", parity = \"{parity}\", start = \"123 us\" }}]"
        );
        let capture = sent(&device, rate, "70 ms", seed);
        let mut config = UartConfig::new(Frequency::from_rational(Rational::from(bit_rate)));
        config.parity = match parity {
            "even" => Parity::Even,
            "odd" => Parity::Odd,
            _ => Parity::None,
        };
        let frames = stored(&capture, &mut Uart::new(config, capture.base()).unwrap());
        let read: String = data(&frames).into_iter().map(|byte| byte as u8 as char).collect();
        assert_eq!((read.as_str(), faults(&frames).len()), (text, 0), "{bit_rate} at {rate}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(200) })]

    #[test]
    fn any_edges_on_several_lines_are_read_alike_stored_and_streamed(
        lines in prop::collection::vec(prop::collection::vec(1u64..40, 0..150), 4..5),
        cuts in prop::collection::vec(1usize..3000, 1..5),
        mode in 0u8..4,
        bits in 1u32..65,
        select in 0usize..3,
        lowest_first in any::<bool>(),
        dual in any::<bool>(),
    ) {
        let ticks: Vec<Vec<u64>> =
            lines.iter().map(|d| d.iter().scan(1, |at, d| { *at += d; Some(*at) }).collect()).collect();
        let len = ticks.iter().flatten().max().unwrap_or(&1) + 100;
        let named: Vec<(&str, &[u64])> = ["A", "B", "C", "D"].into_iter().zip(ticks.iter().map(Vec::as_slice)).collect();
        let capture = capture("1 MS/s", Resolution::EXACT, len, &named);
        let select = [None, Some(Level::Low), Some(Level::High)][select];
        let gap = Some("9 us".parse().unwrap());
        let order = if lowest_first { BitOrder::LowestFirst } else { BitOrder::HighestFirst };
        let data = if dual && bits % 2 == 0 { SpiData::Dual } else { SpiData::Both };
        let config = SpiConfig::new(mode).bits(bits).order(order).select(select).gap(gap).data(data);
        let spi = Spi::new(config, capture.base());
        let spi = spi.unwrap();
        prop_assert_eq!(streamed(&capture, &mut spi.clone(), &cuts), stored(&capture, &mut spi.clone()));
        prop_assert_eq!(streamed(&capture, &mut I2c::new(I2cConfig::default()), &cuts), stored(&capture, &mut I2c::new(I2cConfig::default())));
    }

    #[test]
    fn any_edges_are_read_alike_stored_and_streamed_and_no_byte_overlaps_another(
        distances in prop::collection::vec(1u64..60, 0..200),
        cuts in prop::collection::vec(1usize..3000, 1..5),
        data_bits in 5u32..10,
        format in 0usize..20,
        rate in 20_000i64..300_000,
    ) {
        let ticks: Vec<u64> = distances.iter().scan(1, |at, d| { *at += d; Some(*at) }).collect();
        let capture = line(&ticks, ticks.last().unwrap_or(&1) + 300);
        let parity = [Parity::None, Parity::Even, Parity::Odd, Parity::Mark, Parity::Space][format % 5];
        let order = if format % 4 == 3 { BitOrder::HighestFirst } else { BitOrder::LowestFirst };
        let config = UartConfig::new(Frequency::from_rational(Rational::from(rate)))
            .data_bits(data_bits)
            .parity(parity)
            .stop_bits([StopBits::One, StopBits::OneAndHalf, StopBits::Two][format % 3])
            .inverted(format % 2 == 1)
            .order(order);
        let uart = Uart::new(config, capture.base()).unwrap();
        let frames = stored(&capture, &mut uart.clone());
        prop_assert_eq!(&streamed(&capture, &mut uart.clone(), &cuts), &frames);
        for pair in frames.windows(2) {
            prop_assert!(pair[0].start < pair[1].start, "{:?}", pair);
        }
        // Stopped after the first frame, nothing more is given out.
        struct First(usize);
        impl deep_tap::bus::FrameSink for First {
            fn frame(&mut self, _: Frame) -> ControlFlow<()> {
                self.0 += 1;
                ControlFlow::Break(())
            }
        }
        let mut first = First(0);
        decode(&capture, &[LineId(0)], capture.range(), &mut uart.clone(), &mut first).unwrap();
        prop_assert_eq!(first.0, frames.len().min(1));
        // A decoder that is given too many lines, or too few, says so.
        let lines = [LineId(0), LineId(0)];
        prop_assert!(decode(&capture, &lines, capture.range(), &mut uart.clone(), &mut first).is_err());
    }
}

/// Notes what a decoder is told.
#[derive(Debug, Default)]
struct Told {
    lines: usize,
    begin: Option<(Tick, Levels)>,
    changes: Vec<(Tick, Levels)>,
    end: Option<Tick>,
}

impl Decoder for Told {
    fn lines(&self) -> usize {
        self.lines
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        self.begin = Some((at, levels));
    }

    fn change(&mut self, at: Tick, levels: Levels, _: &mut dyn FrameSink) -> ControlFlow<()> {
        self.changes.push((at, levels));
        ControlFlow::Continue(())
    }

    fn end(&mut self, at: Tick, _: &mut dyn FrameSink) -> ControlFlow<()> {
        self.end = Some(at);
        ControlFlow::Continue(())
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(60) })]

    /// Quiet, sparse, busy and partly unknown stretches over several chunks of 65 536 ticks.
    #[test]
    fn a_decoder_is_told_of_every_change_of_its_lines(
        lines in prop::collection::vec(prop::collection::vec((1u64..90_000, 1u64..6, 0u64..9_000, 0u8..8), 1..5), 1..4),
        from in 0u64..200_000,
        length in 1u64..400_000,
    ) {
        let mut traces = Vec::new();
        for stretches in &lines {
            let mut trace = TraceBuilder::new(Level::Low);
            let mut at = 0;
            for (rest, distance, count, unknown) in stretches {
                at += rest;
                for number in 0..*count {
                    at += distance;
                    let dark = *unknown == 0 && number % 50 == 7;
                    let next = match trace.level() {
                        Level::High => Level::Low,
                        Level::Low if dark => Level::Unknown,
                        Level::Low | Level::Floating | Level::Unknown => Level::High,
                    };
                    trace.push_edge(Tick(at), next).unwrap();
                }
            }
            traces.push((trace, at));
        }
        let len = traces.iter().map(|(_, end)| end + 10).max().unwrap();
        let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
        let capture = traces.into_iter().enumerate().fold(Capture::builder(base, len), |capture, (number, (trace, _))| {
            capture.line(Line::named(format!("L{number}")), trace.finish(len))
        });
        let capture = capture.build().unwrap();
        let ids: Vec<LineId> = (0..lines.len()).map(LineId).collect();
        let range = Tick(from.min(len - 1))..Tick((from + length).min(len));
        let mut told = Told { lines: ids.len(), ..Told::default() };
        let _ = decode(&capture, &ids, range.clone(), &mut told, &mut Vec::new());
        let levels = |tick: Tick| {
            let all = ids.iter().enumerate();
            all.fold(Levels::default(), |levels, (line, id)| levels.with(line, capture.trace(*id).level_at(tick)))
        };
        let rest = Tick(range.start.0 + 1)..range.end;
        let mut ticks: Vec<Tick> =
            ids.iter().flat_map(|id| capture.trace(*id).edges(rest.clone())).map(|edge| edge.tick).collect();
        ticks.sort_unstable();
        ticks.dedup();
        let changes: Vec<(Tick, Levels)> = ticks.into_iter().map(|tick| (tick, levels(tick))).collect();
        prop_assert_eq!(told.begin, Some((range.start, levels(range.start))));
        prop_assert!(told.changes == changes, "{} changes, {} wanted", told.changes.len(), changes.len());
        prop_assert_eq!(told.end, Some(range.end));
    }
}

#[test]
fn a_line_that_floats_within_a_byte_is_no_low_bit() {
    let mut line = TraceBuilder::new(Level::High);
    // 0x0f: a start bit, four ones, four zeros; of the zeros, the last two are driven by nobody.
    for (tick, level) in
        [(100, Level::Low), (110, Level::High), (150, Level::Low), (170, Level::Floating), (190, Level::High)]
    {
        line.push_edge(Tick(tick), level).unwrap();
    }
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
    let capture = Capture::builder(base, 400).line(Line::named("TX"), line.finish(400)).build().unwrap();
    let mut uart = Uart::new(UartConfig::new("100 kHz".parse().unwrap()), base).unwrap();
    let mut frames: Vec<Frame> = Vec::new();
    decode(&capture, &[LineId(0)], capture.range(), &mut uart, &mut frames).unwrap();
    assert!(frames[0].faults.iter().any(|fault| fault.kind == "unknown"), "{:?}", frames[0]);
}
