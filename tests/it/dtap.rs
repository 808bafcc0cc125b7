//! The capture container: what is saved is what is opened, and no damage goes unnoticed.

use std::path::PathBuf;

use deep_tap::ErrorKind;
use deep_tap::capture::{Attachment, Capture, CaptureBuilder, Origin, Trace, TraceBuilder};
use deep_tap::format::dtap::{self, Recorder, SaveOptions, Writer};
use deep_tap::line::{AnalogId, Bus, Input, Level, Line, LineId};
use deep_tap::scan::{SampleBlock, SampleWidth, fill};
use deep_tap::setup::CaptureSink;
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;
use tempfile::TempDir;

use crate::support::root;

/// A capture of `len` ticks whose lines toggle, or go unknown, at these distances.
fn made(len: u64, lines: &[Vec<u16>]) -> Capture {
    let base = TimeBase::from_rate("24 MS/s".parse().unwrap()).unwrap().with_zero(Tick(len / 3));
    let mut builder = Capture::builder(base, len)
        .resolution(Resolution {
            skew: "0.5 ns".parse().unwrap(),
            accuracy: "20 ppm".parse().unwrap(),
            ..Resolution::SAMPLED
        })
        .origin(Origin {
            source: "a test".into(),
            rates: vec!["24 MS/s".parse().unwrap()],
            trigger: Some("L0 rises".into()),
            made: Some("2026-03-01T12:30:00+01:00".parse().unwrap()),
        })
        .history(vec!["glitches shorter than 20 ns removed: 3".into()])
        .attachments(vec![Attachment { name: "setup.toml".into(), text: "title = \"µ\"".into() }])
        .remark("a remark");
    for (i, distances) in lines.iter().enumerate() {
        let mut trace = TraceBuilder::new(Level::from(i % 2 == 0));
        let mut tick = 0;
        for distance in distances {
            tick += u64::from(*distance) + 1;
            if tick >= len {
                break;
            }
            let unknown = i == 1 && distance % 11 == 0 && trace.level() != Level::Unknown;
            let level = match trace.level() {
                Level::Low | Level::High if unknown && distance % 2 == 0 => Level::Floating,
                _ if unknown => Level::Unknown,
                Level::Floating | Level::Unknown => Level::Low,
                known => known.opposite(),
            };
            trace.push_edge(Tick(tick), level).unwrap();
        }
        let mut line = Line::named(format!("L{i}"));
        line.input = Some(if i == 0 { Input::Number(7) } else { Input::Signal("top.x".into()) });
        line.pull = (i == 1).then_some(Level::High);
        line.threshold = (i == 0).then(|| "LVCMOS 1.8 V".parse().unwrap());
        builder = builder.line(line, trace.finish(len));
    }
    if lines.len() > 1 {
        builder = builder.bus(Bus::new("BUS", vec![LineId(1), LineId(0)]).unwrap());
    }
    builder.build().unwrap()
}

fn busy() -> Capture {
    let fast = |n: u16| (0..40_000u32).map(|i| (i * 7919 % u32::from(n)) as u16).collect();
    made(1_000_000, &[fast(5), fast(40), fast(3)])
}

fn save(capture: &Capture, folder: &TempDir) -> PathBuf {
    let path = folder.path().join("test.dtap");
    dtap::save(capture, &path, SaveOptions { replace: true }).unwrap();
    path
}

/// Writes a file of several blocks, of these lengths in ticks.
fn save_in_blocks(capture: &Capture, folder: &TempDir, length: u64) -> PathBuf {
    let path = folder.path().join("test.dtap");
    let mut writer = Writer::create(capture, &path, SaveOptions { replace: true }).unwrap();
    let mut start = 0;
    while start < capture.len() {
        let end = (start + length).min(capture.len());
        writer.block(&capture.traces(), start, end).unwrap();
        start = end;
    }
    writer.finish(capture).unwrap();
    path
}

/// The same as far as `len` ticks.
fn same(a: &Capture, b: &Capture, len: u64) {
    assert_eq!((a.base(), a.lines(), a.buses()), (b.base(), b.lines(), b.buses()));
    assert_eq!((a.resolution(), a.origin(), a.history()), (b.resolution(), b.origin(), b.history()));
    assert_eq!(a.attachments(), b.attachments());
    for line in (0..a.lines().len()).map(LineId) {
        let (a, b) = (a.trace(line), b.trace(line));
        assert!(a.edges(Tick(0)..Tick(len)).eq(b.edges(Tick(0)..Tick(len))), "edges of line {line:?}");
        for tick in (0..len).step_by((len as usize / 50).max(1)) {
            assert_eq!(a.level_at(Tick(tick)), b.level_at(Tick(tick)));
            assert_eq!(a.count(Tick(tick / 2)..Tick(tick)), b.count(Tick(tick / 2)..Tick(tick)));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn what_is_saved_is_what_is_opened(
        len in 1u64..3_000_000,
        lines in prop::collection::vec(prop::collection::vec(prop_oneof![0u16..8, 0u16..500, any::<u16>()], 0..600), 0..4),
        block in 1u64..200_000,
    ) {
        let folder = TempDir::new().unwrap();
        let capture = made(len, &lines);
        for path in [save(&capture, &folder), save_in_blocks(&capture, &folder, block.max(len / 50 + 1))] {
            let opened = dtap::open(&path).unwrap();
            prop_assert_eq!(opened.cut_short_at, None);
            prop_assert_eq!(opened.capture.len(), len);
            prop_assert_eq!(opened.capture.edge_count(), capture.edge_count());
            same(&capture, &opened.capture, len);
            prop_assert_eq!(opened.capture.remarks(), capture.remarks());
            prop_assert!(opened.capture.damage().is_empty());
        }
    }
}

#[test]
fn small_on_what_captures_are_made_of() {
    let (_, capture) = crate::support::demo("seed=1", None);
    let capture = capture.into_builder().attachments(Vec::new()).build().unwrap();
    let folder = TempDir::new().unwrap();
    let size = std::fs::metadata(save(&capture, &folder)).unwrap().len() as f64;
    let per_edge = size / capture.edge_count() as f64;
    assert!(per_edge < 1.5, "{per_edge} bytes per transition");
}

#[test]
fn cut_anywhere_every_complete_block_is_recovered() {
    let folder = TempDir::new().unwrap();
    let capture = busy();
    let path = save_in_blocks(&capture, &folder, 100_000);
    let whole = std::fs::read(&path).unwrap();
    let cut = folder.path().join("cut.dtap");
    let mut recovered = std::collections::BTreeSet::new();
    // Every block border, found by its tag, and places all over the file.
    let borders = (0..whole.len() - 4).filter(|i| matches!(&whole[*i..*i + 4], b"EDGE" | b"META" | b"INDX"));
    let borders: Vec<usize> = borders.collect();
    assert!(borders.len() >= 12);
    let places =
        borders.iter().flat_map(|b| [*b - 1, *b, *b + 1, *b + 20]).chain((0..whole.len()).step_by(4999));
    for at in places.filter(|at| *at < whole.len()) {
        std::fs::write(&cut, &whole[..at]).unwrap();
        match dtap::open(&cut) {
            Ok(opened) => {
                let complete = borders.iter().filter(|b| &whole[**b..**b + 4] == b"EDGE").count();
                let before = borders
                    .windows(2)
                    .filter(|pair| pair[1] <= at && &whole[pair[0]..pair[0] + 4] == b"EDGE")
                    .count();
                assert!(before <= complete);
                assert_eq!(opened.capture.len(), before as u64 * 100_000, "cut at byte {at}");
                let end = opened.capture.base().time_of(Tick(opened.capture.len()));
                assert_eq!(opened.cut_short_at, Some(end));
                same(&capture, &opened.capture, opened.capture.len());
                recovered.insert(opened.capture.len());
            }
            Err(error) => {
                assert!(at < borders[0], "cut at byte {at}: {error}");
                assert_eq!(error.kind(), ErrorKind::Capture);
                assert!(error.help().is_some());
            }
        }
    }
    assert_eq!(recovered.len(), 11, "from no block to all ten");
}

#[test]
fn a_flipped_bit_is_noticed_wherever_it_is() {
    let folder = TempDir::new().unwrap();
    let capture =
        made(300_000, &[(0..900).map(|i| i * 31 % 700).collect(), (0..900).map(|i| i * 17 % 700).collect()]);
    let path = save_in_blocks(&capture, &folder, 100_000);
    let whole = std::fs::read(&path).unwrap();
    let flipped = folder.path().join("flipped.dtap");
    let mut noticed = [0; 3];
    // The head is only read when the end is lost.
    let head_ends = whole.windows(4).position(|w| w == b"EDGE").unwrap();
    for at in (0..whole.len()).step_by(3) {
        let mut bytes = whole.clone();
        bytes[at] ^= 1 << (at % 8);
        std::fs::write(&flipped, &bytes).unwrap();
        let opened = match dtap::open(&flipped) {
            Ok(opened) => opened,
            Err(error) => {
                assert!(matches!(error.kind(), ErrorKind::Capture), "{error}");
                noticed[0] += 1;
                continue;
            }
        };
        if opened.cut_short_at.is_some() {
            noticed[1] += 1;
            same(&capture, &opened.capture, opened.capture.len());
            continue;
        }
        let opened = opened.capture;
        let mut differs = false;
        for line in (0..2).map(LineId) {
            differs |=
                !capture.trace(line).edges(capture.range()).eq(opened.trace(line).edges(capture.range()));
        }
        let damage = opened.damage();
        if at >= head_ends {
            assert!(!damage.is_empty(), "byte {at} was changed without notice");
        } else {
            assert!(!differs && damage.is_empty());
        }
        for damage in damage {
            noticed[2] += 1;
            // The damaged stretch is unknown; the rest is as it was.
            let lost = opened.trace(damage.lines[0]);
            assert_eq!(lost.level_at(damage.ticks.start), Level::Unknown);
            let outside = |t: &u64| !(damage.ticks.start.0..damage.ticks.end.0).contains(t);
            for tick in (0..300_000).step_by(997).filter(outside) {
                assert_eq!(
                    lost.level_at(Tick(tick)),
                    capture.trace(damage.lines[0]).level_at(Tick(tick)),
                    "tick {tick}"
                );
            }
            let edges: Vec<_> = lost.edges(Tick(0)..Tick(300_000)).collect();
            assert!(
                edges.windows(2).all(|e| e[0].tick < e[1].tick && e[0].to == e[1].from),
                "byte {at}: {edges:?}"
            );
            for edge in edges.windows(2) {
                assert_eq!(lost.next_edge(edge[0].tick), Some(edge[1]));
                assert_eq!(lost.prev_edge(edge[1].tick), Some(edge[0]));
            }
        }
    }
    assert!(noticed.iter().all(|n| *n > 0), "{noticed:?}");
}

#[test]
fn hostile_files_neither_crash_nor_take_the_memory() {
    let folder = TempDir::new().unwrap();
    let path = save(&made(300_000, &[vec![9; 3000]]), &folder);
    let whole = std::fs::read(&path).unwrap();
    let attack = |name: &str, bytes: &[u8]| {
        let path = folder.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        if let Ok(opened) = dtap::open(&path) {
            for line in (0..opened.capture.lines().len()).map(LineId) {
                opened.capture.trace(line).edges(opened.capture.range()).for_each(drop);
            }
        }
    };
    // Right checksums over numbers that cannot be true.
    let header = whole.windows(4).position(|w| w == b"EDGE").unwrap();
    for (offset, value) in [(8, u64::MAX), (8, 1 << 40), (16, u64::MAX), (24, u64::MAX), (24, 0)] {
        let mut bytes = whole.clone();
        bytes[header + offset..header + offset + 8].copy_from_slice(&value.to_le_bytes());
        sign(&mut bytes, header, 36);
        attack("header.dtap", &bytes);
        // Without the index, so that the blocks are searched for.
        attack("cut-header.dtap", &bytes[..bytes.len() - 30]);
    }
    let directory = header + 40;
    for field in [4, 8, 12] {
        for value in [u32::MAX, 1 << 30, 0] {
            let mut bytes = whole.clone();
            bytes[directory + field..directory + field + 4].copy_from_slice(&value.to_le_bytes());
            let crc = crc32(&bytes[directory..directory + 24]);
            bytes[header + 32..header + 36].copy_from_slice(&crc.to_le_bytes());
            sign(&mut bytes, header, 36);
            attack("directory.dtap", &bytes);
        }
    }
    let index = whole.windows(4).rposition(|w| w == b"INDX").unwrap() + 40;
    for field in 0..whole[index..].len().saturating_sub(24 + 8) / 8 {
        let mut bytes = whole.clone();
        bytes[index + field * 8..index + field * 8 + 8].copy_from_slice(&u64::MAX.to_le_bytes());
        let crc = crc32(&bytes[index..bytes.len() - 24]);
        bytes[index - 40 + 32..index - 40 + 36].copy_from_slice(&crc.to_le_bytes());
        sign(&mut bytes, index - 40, 36);
        attack("index.dtap", &bytes);
    }
    for (name, bytes) in
        [("empty.dtap", &b""[..]), ("text.dtap", &[b'a'; 5000]), ("magic.dtap", b"DEEPTAP\x01")]
    {
        std::fs::write(folder.path().join(name), bytes).unwrap();
        assert_eq!(dtap::open(&folder.path().join(name)).unwrap_err().kind(), ErrorKind::Capture);
    }
    let mut later = whole.clone();
    later[7] = 9;
    std::fs::write(&path, later).unwrap();
    assert!(dtap::open(&path).unwrap_err().to_string().contains("version 9"));
}

/// CRC-32 as the format's description defines it, written out.
fn crc32(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(u32::MAX, |mut crc, byte| {
        crc ^= u32::from(*byte);
        for _ in 0..8 {
            crc = if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 };
        }
        crc
    })
}

fn sign(bytes: &mut [u8], header: usize, len: usize) {
    let crc = crc32(&bytes[header..header + len]);
    bytes[header + len..header + len + 4].copy_from_slice(&crc.to_le_bytes());
}

#[test]
fn nothing_is_replaced_without_being_told() {
    let folder = TempDir::new().unwrap();
    let capture = made(1000, &[vec![5; 20]]);
    let path = folder.path().join("test.dtap");
    dtap::save(&capture, &path, SaveOptions::default()).unwrap();
    assert!(!dtap::part_path(&path).exists());
    let before = std::fs::read(&path).unwrap();
    let error = dtap::save(&made(5, &[]), &path, SaveOptions::default()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Exists);
    assert_eq!(std::fs::read(&path).unwrap(), before);
    dtap::save(&made(5, &[]), &path, SaveOptions { replace: true }).unwrap();
    assert_ne!(std::fs::read(&path).unwrap(), before);
    // What an earlier run left unfinished is not overwritten either.
    let other = folder.path().join("other.dtap");
    let mut writer = Writer::create(&capture, &other, SaveOptions::default()).unwrap();
    writer.block(&capture.traces(), 0, 500).unwrap();
    drop(writer);
    assert!(!other.exists());
    assert_eq!(dtap::open(&dtap::part_path(&other)).unwrap().capture.len(), 500);
    let error = dtap::save(&capture, &other, SaveOptions::default()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Exists);
    assert!(error.help().unwrap().contains("opens as it is"));
}

#[test]
fn opening_reads_no_edges() {
    let folder = TempDir::new().unwrap();
    let capture = busy();
    let opened = dtap::open(&save(&capture, &folder)).unwrap().capture;
    let memory = |c: &Capture| (0..3).map(|l| c.trace(LineId(l)).memory()).sum::<usize>();
    let before = memory(&opened);
    assert!(before < 2000, "{before} bytes before the first question");
    assert_eq!(opened.trace(LineId(0)).edge_count(), capture.trace(LineId(0)).edge_count());
    opened.trace(LineId(0)).level_at(Tick(500));
    assert!(memory(&opened) > before + 2000, "only the first block of one line is read");
    assert!(memory(&opened) < memory(&capture) / 4);
}

/// Samples that go into a file as they come, in blocks cut anywhere, against the same in memory.
#[test]
fn what_is_recorded_into_a_file_is_what_was_sampled() {
    let lines = 8;
    // Busy enough for several blocks, with quiet and unknown stretches between.
    let mut block = SampleBlock::new(SampleWidth::W8);
    let (mut noise, mut word) = (1u64, 0u64);
    for number in 0..1_500_000u64 {
        noise = noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let busy = number / 150_000 % 3 != 2;
        // Edges on the borders of chunks, too.
        if (busy && noise >> 62 == 0) || number % 65_536 == 0 {
            word ^= 1 << (noise >> 40 & 7);
        }
        block.push(word, if (900_000..900_100).contains(&number) { 4 } else { 0 });
    }
    let base = TimeBase::from_rate("24 MS/s".parse().unwrap()).unwrap();
    let described = |len: u64, traces: Option<Vec<Trace>>| {
        let traces = traces.unwrap_or_else(|| (0..lines).map(|_| Trace::constant(Level::Low, 0)).collect());
        let builder = Capture::builder(base, len);
        let named = |(i, trace): (usize, Trace)| (Line::named(format!("L{i}")), trace);
        let add = |builder: CaptureBuilder, (line, trace)| builder.line(line, trace);
        traces.into_iter().enumerate().map(named).fold(builder, add).build().unwrap()
    };
    let all = block.samples();
    let memory = described(all.len() as u64, Some(fill(all, &[0, 1, 2, 3, 4, 5, 6, 7])));
    let folder = TempDir::new().unwrap();
    for cut in [4096, 65_536, 999_983] {
        let path = folder.path().join(format!("{cut}.dtap"));
        let mut file = Recorder::new(&path, SaveOptions::default());
        file.begin(described(0, None)).unwrap();
        for start in (0..all.len()).step_by(cut) {
            file.push(all.slice(start..start + cut)).unwrap();
        }
        file.finish(&described(0, None)).unwrap();
        let opened = dtap::open(&path).unwrap();
        assert!(opened.cut_short_at.is_none());
        same(&opened.capture, &memory, all.len() as u64);
        assert_eq!(opened.capture.edge_count(), memory.edge_count());
    }
    // One that breaks off is complete as far as it goes, and says why.
    let path = folder.path().join("broken.dtap");
    let mut file = Recorder::new(&path, SaveOptions::default());
    file.begin(described(0, None)).unwrap();
    file.push(all.slice(0..700_001)).unwrap();
    assert!(file.finish_broken_off("the link dropped").unwrap());
    let opened = dtap::open(&path).unwrap().capture;
    assert_eq!((opened.len(), opened.remarks().len()), (700_001, 1));
    assert!(opened.remarks()[0].contains("the link dropped"));
    let never = Recorder::new(&folder.path().join("never.dtap"), SaveOptions::default());
    assert!(!never.finish_broken_off("the link dropped").unwrap());
    assert!(!folder.path().join("never.dtap").exists());
}

#[test]
fn a_capture_that_shrinks_while_it_is_open_loses_only_what_is_gone() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("c.dtap");
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let toggles: Vec<u64> = (1..200_000u64).map(|n| n * 37 + n * n * 7919 % 31).collect();
    let len = 200_000 * 37;
    let trace = deep_tap::capture::Trace::toggling(Level::Low, toggles, len).unwrap();
    let capture = Capture::builder(base, len).line("A", trace).build().unwrap();
    dtap::save(&capture, &path, SaveOptions::default()).unwrap();
    let opened = dtap::open(&path).unwrap().capture;
    let size = std::fs::metadata(&path).unwrap().len();
    std::fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(size / 2).unwrap();
    let trace = opened.trace(LineId(0));
    assert_eq!(trace.level_at(Tick(70)), Level::High);
    assert_eq!(trace.level_at(Tick(len - 1)), Level::Unknown, "what is gone is not known");
    assert!(!opened.damage().is_empty());
}

/// What an earlier writer left is read as it was meant.
#[test]
fn captures_of_every_version_are_read() {
    let open = |version: u32| {
        let path = root().join(format!("tests/fixtures/captures/version-{version}.dtap"));
        assert_eq!(u32::from(std::fs::read(&path).unwrap()[7]), version);
        let opened = dtap::open(&path).unwrap();
        assert!(opened.cut_short_at.is_none());
        opened.capture
    };
    let first = open(1);
    let edges = first.traces().iter().map(|trace| trace.edge_count()).collect::<Vec<_>>();
    assert_eq!(edges, [0, 1, 6, 96, 6, 14, 2, 72, 0, 72, 35, 17, 8, 4, 38, 42, 36, 44, 24, 36, 28, 36]);
    assert_eq!((first.len(), first.attachments().len(), first.buses().len()), (100_000, 4, 2));
    assert_eq!(first.origin().made.map(|made| made.to_string()).as_deref(), Some("2026-03-01T12:00:00Z"));
    let second = open(2);
    let extremes = |line: usize| {
        let trace = second.analog(AnalogId(line));
        let extremes = trace.extremes_of(0..trace.len()).unwrap();
        [extremes.least, extremes.most].map(|code| (trace.scale().voltage(code).to_f64() * 1e3).round())
    };
    assert_eq!(
        (second.len(), second.edge_count(), extremes(0), extremes(1)),
        (10_000, 2, [1500.0, 2097.0], [9.0, 9.0])
    );
    let third = open(3);
    let levels = |tick: u64| -> String {
        let traces = third.traces();
        let letter = |level: Level| match level {
            Level::Low => '0',
            Level::High => '1',
            Level::Floating => 'z',
            Level::Unknown => 'x',
        };
        traces.iter().map(|trace| letter(trace.level_at(Tick(tick)))).collect()
    };
    assert_eq!([0, 5, 9, 20].map(levels), ["0zzzz", "11010", "z1x1z", "01x1z"]);
    let path = root().join("tests/fixtures/captures/made-and-marked.dtap");
    let made = dtap::open(&path).unwrap().capture;
    let note = &made.notes()[0];
    assert_eq!((note.name.as_str(), note.at, note.text.as_str()), ("start", Tick(500), "a byte begins"));
    assert_eq!((made.line(LineId(0)).extra.to_string().as_str(), made.line(LineId(0)).step), ("2 us", 1));
    assert_eq!((made.trace(LineId(0)).edge_count(), made.history().len()), (16, 5));
    for capture in [first, second, third, made] {
        assert!(capture.damage().is_empty());
    }
}
