//! Decoders: what the bench's senders send against what is decoded, stored and streamed, and any
//! edges at all.

use std::ops::ControlFlow;

use deep_tap::bench::connect;
use deep_tap::capture::Capture;
use deep_tap::decode::{Decoder, Frame, Parity, StopBits, StreamDecoder, Uart, UartConfig, decode};
use deep_tap::line::{Level, LineId};
use deep_tap::scan::{SampleBlock, SampleWidth};
use deep_tap::setup::RecordOptions;
use deep_tap::time::{Frequency, Rational, Resolution, Tick};
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

fn streamed(capture: &Capture, decoder: &mut dyn Decoder, cuts: &[usize]) -> Vec<Frame> {
    let lines = decoder.lines();
    let bits: Vec<u32> = (0..lines as u32).collect();
    let mut stream = StreamDecoder::new(decoder, &bits);
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

fn data(frames: &[Frame]) -> Vec<u64> {
    frames.iter().filter(|f| f.kind == "byte").map(|f| f.field("data").unwrap().value).collect()
}

fn kinds(frames: &[Frame]) -> Vec<&str> {
    frames.iter().map(|f| f.kind).collect()
}

fn faults(frames: &[Frame]) -> Vec<&str> {
    frames.iter().flat_map(|f| &f.faults).map(|f| f.kind).collect()
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
    assert_eq!(data(&read(|c| c.highest_first = true)), [0xac]);
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
    fn any_edges_are_read_alike_stored_and_streamed_and_no_byte_overlaps_another(
        distances in prop::collection::vec(1u64..60, 0..200),
        cuts in prop::collection::vec(1usize..3000, 1..5),
        data_bits in 5u32..10,
        format in 0usize..20,
        rate in 20_000i64..300_000,
    ) {
        let ticks: Vec<u64> = distances.iter().scan(1, |at, d| { *at += d; Some(*at) }).collect();
        let capture = line(&ticks, ticks.last().unwrap_or(&1) + 300);
        let config = UartConfig {
            bit_rate: Frequency::from_rational(Rational::from(rate)),
            data_bits,
            parity: [Parity::None, Parity::Even, Parity::Odd, Parity::Mark, Parity::Space][format % 5],
            stop_bits: [StopBits::One, StopBits::OneAndHalf, StopBits::Two][format % 3],
            inverted: format % 2 == 1,
            highest_first: format % 4 == 3,
        };
        let uart = Uart::new(config, capture.base()).unwrap();
        let frames = stored(&capture, &mut uart.clone());
        prop_assert_eq!(&streamed(&capture, &mut uart.clone(), &cuts), &frames);
        for pair in frames.windows(2) {
            prop_assert!(pair[0].start < pair[1].start, "{:?}", pair);
        }
        // Stopped after the first frame, nothing more is given out.
        struct First(usize);
        impl deep_tap::decode::FrameSink for First {
            fn frame(&mut self, _: Frame) -> ControlFlow<()> {
                self.0 += 1;
                ControlFlow::Break(())
            }
        }
        let mut first = First(0);
        let stop = decode(&capture, &[LineId(0)], capture.range(), &mut uart.clone(), &mut first);
        prop_assert_eq!((first.0, stop.is_break()), (frames.len().min(1), !frames.is_empty()));
    }
}
