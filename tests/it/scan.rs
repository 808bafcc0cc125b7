//! From packed samples to traces: vector instructions, portable code and a plain loop agree.

use deep_tap::capture::{Capture, Edge, Trace};
use deep_tap::event::{Program, Scope, StreamSearch};
use deep_tap::line::{Level, Line};
use deep_tap::measure::Activity;
use deep_tap::scan::{Filler, SampleBlock, SampleWidth, Samples, fill};
use deep_tap::time::{Tick, TimeBase};
use proptest::prelude::*;

/// How much changes for a while, and for how long.
#[derive(Clone, Debug)]
struct Stretch {
    /// Samples from one change to the next, on average; `None` when nothing changes.
    between: Option<u64>,
    samples: usize,
    /// Bits whose levels are unknown for the whole stretch.
    unknown: u64,
}

fn stretches() -> impl Strategy<Value = Vec<Stretch>> {
    let between = prop_oneof![Just(None), Just(Some(1)), Just(Some(3)), Just(Some(40)), Just(Some(5000))];
    let samples = prop_oneof![3 => 1usize..300, 2 => 1usize..5000, 1 => 60_000usize..140_000];
    let unknown = prop_oneof![6 => Just(0), 1 => any::<u64>()];
    let stretch = (between, samples, unknown);
    prop::collection::vec(stretch, 1..6).prop_map(|all| {
        let stretch = |(between, samples, unknown)| Stretch { between, samples, unknown };
        all.into_iter().map(stretch).collect()
    })
}

/// A small generator of its own, so that a failure names two numbers instead of a million samples.
struct Noise(u64);

impl Noise {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }
}

fn samples(stretches: &[Stretch], width: SampleWidth, seed: u64) -> Vec<(u64, u64)> {
    let mut noise = Noise(seed | 1);
    let mask = u64::MAX >> (64 - width.inputs());
    let mut word = noise.next();
    let mut samples = Vec::new();
    for stretch in stretches {
        for _ in 0..stretch.samples {
            if stretch.between.is_some_and(|n| noise.next().is_multiple_of(n)) {
                word ^= 1 << (noise.next() % u64::from(width.inputs()));
            }
            samples.push((word & mask, stretch.unknown & mask));
        }
    }
    samples
}

fn naive(samples: &[(u64, u64)], bit: u32) -> Vec<Edge> {
    let level = |(levels, unknown): &(u64, u64)| match (unknown >> bit & 1, levels >> bit & 1) {
        (1, _) => Level::Unknown,
        (_, level) => Level::from(level == 1),
    };
    let changes = samples.windows(2).enumerate().filter(|(_, pair)| level(&pair[0]) != level(&pair[1]));
    changes
        .map(|(i, pair)| Edge { tick: Tick(i as u64 + 1), from: level(&pair[0]), to: level(&pair[1]) })
        .collect()
}

fn filled(mut filler: Filler, samples: &[(u64, u64)], width: SampleWidth, blocks: &[usize]) -> Vec<Trace> {
    let mut at = 0;
    for len in blocks.iter().cycle() {
        let end = (at + len).min(samples.len());
        let mut block = SampleBlock::new(width);
        samples[at..end].iter().for_each(|(levels, unknown)| block.push(*levels, *unknown));
        filler.push(block.samples());
        at = end;
        if at == samples.len() {
            return filler.finish();
        }
    }
    unreachable!("blocks are never empty")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn every_way_of_filling_gives_the_same_traces(
        stretches in stretches(),
        width in prop::sample::select(SampleWidth::ALL.to_vec()),
        seed in any::<u64>(),
        blocks in prop::collection::vec(prop_oneof![1usize..200, 1000usize..70_000], 1..4),
    ) {
        let samples = samples(&stretches, width, seed);
        let inputs = width.inputs();
        // Some lines in any order, one of them twice, one beyond the width.
        let bits: Vec<u32> = [inputs - 1, 0, 3, inputs / 2, 3, inputs].into_iter().collect();
        let fast = filled(Filler::new(&bits), &samples, width, &blocks);
        let portable = filled(Filler::new(&bits).portable(), &samples, width, &[samples.len()]);
        let mut block = SampleBlock::new(width);
        samples.iter().for_each(|(levels, unknown)| block.push(*levels, *unknown));
        let parallel = fill(block.samples(), &bits);
        let mut activity = Activity::new(inputs as usize);
        let mut at = 0;
        for len in blocks.iter().cycle() {
            activity.push(block.samples().slice(at..at + len));
            at += len;
            if at >= samples.len() {
                break;
            }
        }
        for (bit, line) in activity.lines().iter().enumerate() {
            let wanted = naive(&samples, bit as u32);
            prop_assert_eq!(line.edges, wanted.len() as u64, "activity of bit {}", bit);
            prop_assert_eq!(line.last_change, wanted.last().map(|edge| edge.tick.0));
        }
        for (((bit, fast), portable), parallel) in bits.iter().zip(&fast).zip(&portable).zip(&parallel) {
            let wanted = if *bit < inputs { naive(&samples, *bit) } else { Vec::new() };
            let all = Tick(0)..Tick(samples.len() as u64);
            prop_assert_eq!(fast.len(), samples.len() as u64);
            prop_assert_eq!(fast.edge_count(), wanted.len() as u64);
            prop_assert!(fast.edges(all.clone()).eq(wanted.iter().copied()), "bit {} by vectors", bit);
            prop_assert!(parallel.edges(all.clone()).eq(wanted.iter().copied()), "bit {} in parallel", bit);
            prop_assert!(portable.edges(all).eq(wanted), "bit {} by portable code", bit);
            prop_assert_eq!(fast.memory(), portable.memory());
        }
    }
}

/// Blocks of one recording may differ in width, as when a device packs a quiet part narrower.
#[test]
fn widths_may_change_on_the_way() {
    let mut filler = Filler::new(&[0, 9]);
    filler.push(Samples::new(SampleWidth::W16, &[0x00, 0x02, 0x01, 0x02, 0x01, 0x02, 0xff]));
    filler.push(Samples::new(SampleWidth::W8, &[1, 1]));
    filler.push(Samples::new(SampleWidth::W32, &[0, 2, 0, 0]));
    let traces = filler.finish();
    let ticks = |trace: &Trace| trace.edges(Tick(0)..Tick(9)).map(|e| e.tick.0).collect::<Vec<_>>();
    // The odd byte at the end of the first block is no sample; nine fits no eight-bit sample.
    assert_eq!((ticks(&traces[0]), ticks(&traces[1]), traces[0].len()), (vec![1, 5], vec![3, 5], 6));
}

/// Long enough for several threads, with edges on and beside each border between them.
#[test]
fn a_recording_filled_in_parts_has_no_seams() {
    let len = 10_000_000usize;
    let bytes: Vec<u8> =
        (0..len).map(|i| u8::from(i % 65_536 < 2 || i % 131_071 == 7) | (i / 65_536) as u8 & 2).collect();
    let samples = Samples::new(SampleWidth::W8, &bytes);
    let mut filler = Filler::new(&[0, 1]);
    filler.push(samples);
    for (whole, parts) in filler.finish().iter().zip(&fill(samples, &[0, 1])) {
        let all = Tick(0)..Tick(len as u64);
        assert!(whole.edge_count() > 70);
        assert!(whole.edges(all.clone()).eq(parts.edges(all)));
        for tick in (0..len as u64).step_by(65_535) {
            assert_eq!(whole.count(Tick(0)..Tick(tick)), parts.count(Tick(0)..Tick(tick)));
            assert_eq!(whole.prev_edge(Tick(tick)), parts.prev_edge(Tick(tick)));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Busy stretches are read from bitmaps, quiet ones are skipped: what is found stays the same,
    /// as the stream saw it and as a search from the middle sees it.
    #[test]
    fn a_stored_record_is_searched_as_the_stream_was(
        stretches in prop::collection::vec(stretches(), 1..4),
        seed in any::<u64>(),
        cut in 1000usize..70_000,
    ) {
        let samples = samples(&stretches.concat(), SampleWidth::W8, seed);
        let mut block = SampleBlock::new(SampleWidth::W8);
        samples.iter().for_each(|(levels, unknown)| block.push(*levels, *unknown));
        let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
        let names = ["A", "B", "C", "D"];
        let mut capture = Capture::builder(base, samples.len() as u64);
        for (name, trace) in names.iter().zip(fill(block.samples(), &[0, 1, 2, 3])) {
            capture = capture.line(Line::named(*name), trace);
        }
        let capture = capture.build().unwrap();
        for text in [
            "A rises while B high and (C low or not D high)",
            "A changes or B falls while C high",
            "when A high and B low and C high",
            "(A high and B high) for 30 ns .. 2 us",
            "(A low or C low) for > 700 ns",
            "A rises 3 times then B falls within 5 us then no C changes within 400 ns",
        ] {
            let program = Program::compile(text, &Scope::of(&capture)).unwrap();
            let stored: Vec<Tick> = program.at(capture.base()).unwrap().hits(&capture, capture.range()).map(|h| h.tick).collect();
            let mut search = StreamSearch::new(&program.at(base).unwrap());
            let mut streamed = Vec::new();
            for start in (0..samples.len()).step_by(cut) {
                streamed.extend(search.push(block.samples().slice(start..start + cut)));
            }
            prop_assert_eq!(&stored, &streamed, "{}", text);
            let middle = Tick(cut as u64)..Tick(samples.len() as u64 * 3 / 4);
            let inside: Vec<Tick> = program.at(capture.base()).unwrap().hits(&capture, middle.clone()).map(|h| h.tick).collect();
            let wanted: Vec<Tick> = stored.iter().copied().filter(|t| middle.contains(t)).collect();
            prop_assert_eq!(inside, wanted, "{}", text);
        }
    }
}

#[test]
fn samples_at_hand_become_lines_or_an_error_that_says_why() {
    use deep_tap::capture::Capture;
    use deep_tap::line::Level;
    use deep_tap::time::Tick;
    let samples: Vec<u16> = (0..200_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 16) as u16).collect();
    let capture = Capture::of_samples("10 MS/s", &["A", "B", "C"], &samples).unwrap();
    for (bit, name) in ["A", "B", "C"].iter().enumerate() {
        let trace = capture.trace(capture.line_named(name).unwrap());
        for at in (0..samples.len()).step_by(997).chain([65_535, 65_536]) {
            assert_eq!(
                trace.level_at(Tick(at as u64)),
                Level::from(samples[at] >> bit & 1 == 1),
                "{name} at {at}"
            );
        }
    }
    let nine = ["a", "b", "c", "d", "e", "f", "g", "h", "i"];
    assert!(Capture::of_samples("10 MS/s", &nine, &[0u8]).unwrap_err().message().contains("8 bits"));
    assert!(Capture::of_samples("10 MHz", &["a"], &[0u8]).is_err(), "hertz are no samples per second");
    assert!(Capture::of_samples("0 S/s", &["a"], &[0u8]).is_err());
    assert!(Capture::of_samples("1 S/s", &["a", "a"], &[0u8]).is_err(), "one name twice");
    let group = |lines: &[&str]| {
        Capture::of_samples("1 S/s", &["a", "b"], &[0u8])?.into_builder().group("G", lines)?.build()
    };
    assert!(group(&["b", "a"]).is_ok());
    assert!(group(&["a", "a"]).is_err() && group(&[]).is_err() && group(&["z"]).is_err());
}
