//! Dumps as simulators write them, what is damaged about a dump, and pieces that are read apart.

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;

use deep_tap::Result;
use deep_tap::capture::Capture;
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::format::{Source, import, read, vcd};
use deep_tap::line::{Level, LineId};
use deep_tap::setup::{Import, Setup};
use deep_tap::time::Tick;
use proptest::prelude::*;

use crate::support::{root, time};

fn read_as(text: impl AsRef<[u8]>, stated: &[&str]) -> Result<Capture> {
    let source = Source::of_bytes(text.as_ref().to_vec(), "made.vcd");
    read(&source, &Import::of_words(stated)?, &mut |_, _| ())
}

fn dump(variables: &str, changes: &str) -> String {
    format!(
        "$timescale 1 ns $end $scope module top $end {variables} $upscope $end $enddefinitions $end\n{changes}"
    )
}

fn levels(capture: &Capture, name: &str) -> String {
    let trace = capture.recorded(capture.line_named(name).unwrap());
    let letter = |tick| match trace.level_at(Tick(tick)) {
        Level::Low => '0',
        Level::High => '1',
        Level::Floating => 'z',
        Level::Unknown => 'x',
    };
    (0..capture.len()).map(letter).collect()
}

fn value(capture: &Capture, bus: &str, tick: u64) -> Option<u64> {
    let bus = &capture.buses()[capture.bus_named(bus).expect("a bus").0];
    capture.bus_value(bus, Tick(tick)).known()
}

#[test]
fn five_simulators_are_read_without_help() {
    let read = |name: &str| {
        let path = root().join("tests/fixtures/simulators").join(name);
        vcd::read_file(&path).unwrap_or_else(|error| panic!("{name}: {error}"))
    };
    let edges = |capture: &Capture, name: &str| capture.trace(capture.line_named(name).unwrap()).edge_count();
    // 20 rounds of `d = d + 17`, an event in each, and a list of values that stops in between.
    let sv = read("sv.vcd");
    let last = sv.len() - 1;
    assert_eq!((value(&sv, "tb.d", last), value(&sv, "tb.n", last)), (Some(20 * 17 % 256), Some(20)));
    assert_eq!((edges(&sv, "tick"), sv.duration()), (20, time("306 ns")));
    assert!(sv.trace(sv.line_named("tb.bus").unwrap()).is_ever_floating());
    let bus = &sv.buses()[sv.bus_named("up").unwrap().0];
    assert_eq!(
        sv.line(bus.lines[0]).name,
        "tb.up[0]",
        "declared upwards, its first bit is the most significant"
    );
    // Nine states of a bit: U is unknown, H and L are levels, Z floats.
    let vhdl = read("vhdl.vcd");
    assert_eq!(value(&vhdl, "q", 0), None);
    assert_eq!(value(&vhdl, "tb.n", vhdl.len() - 1), Some(30));
    let weak = levels(&vhdl, "weak");
    assert!(
        weak.starts_with('1') && weak.contains('0') && weak.contains('x') && !weak.contains('z'),
        "{weak}"
    );
    assert!(levels(&vhdl, "bus_line").starts_with("zzzzzz0"));
    let verilated = read("verilated.vcd");
    assert_eq!(value(&verilated, "vtb.d", verilated.len() - 1), Some(20 * 17 % 256));
    assert!(verilated.bus_named("mem[2]").is_some(), "an element of an array is a bus");
    assert!(verilated.line_named("wide[99]").is_ok());
    let python = read("myhdl.vcd");
    assert_eq!(edges(&python, "clk"), 60);
    let written = read("pyvcd.vcd");
    assert_eq!((value(&written, "v", 49), edges(&written, "ev")), (Some(49 * 5), 9));
}

#[test]
fn what_writers_do_that_the_standard_does_not_show() {
    let bit = "$var wire 1 ! a $end $var wire 1 \" b $end";
    let plain = read_as(dump(bit, "#0 0! 1\" #1 1! #2 0\" #3\n"), &[]).unwrap();
    for (text, what) in [
        (dump(bit, "#0\n0!\n1\"\n#1\n1!\n#2\n0\"\n#3").replace('\n', "\r\n"), "line feeds with returns"),
        (format!("\u{feff}{}", dump(bit, "#0 0! 1\" #1 1! #2 0\" #3")), "a byte order mark"),
        (dump(bit, "#0 0! 1\" #1 1! #1 1! #2 0\" #3").replace('\n', " "), "a single line, and a time twice"),
        (
            dump(bit, "$dumpvars 0! 1\" $end #1 b1 ! #2 B0 \" #3 $dumpall 1! 0\" $end"),
            "lists, and bits as vectors",
        ),
        (dump(bit, "#0 l! h\" $comment 1! #9 $end #1 H! #2 L\" #3 "), "weak levels, and a comment"),
        (
            dump(&bit.replace("$end", "$end $attrbegin misc 07 x $end"), "#0 0! 1\" #1 1! #2 0\" #3"),
            "other sections",
        ),
    ] {
        let capture = read_as(&text, &[]).unwrap_or_else(|error| panic!("{what}: {error}"));
        assert_eq!(capture.len(), plain.len(), "{what}");
        for line in ["a", "b"] {
            assert_eq!(levels(&capture, line), levels(&plain, line), "{what}");
        }
    }
    // Texts, empty ones and ones with blanks among them, move nothing.
    let texts = dump(
        &format!("{bit} $var string 1 % s $end $var real 64 & r $end $var parameter 8 ' P $end"),
        "#0 0! 1\" sidle % r1e-3 & b101 ' #1 1! s % \nrnan &\nstwo 0\" words %\n#2 0\" sx % #3 ",
    );
    let capture = read_as(texts, &[]).unwrap();
    assert_eq!((levels(&capture, "a"), levels(&capture, "b")), (levels(&plain, "a"), levels(&plain, "b")));
    assert!(capture.remarks().iter().any(|remark| remark.contains("top.s") && remark.contains("top.P")));
    // A vector in pieces is one bus by its full name, the bits as the file numbers them.
    let pieces = "$var wire 2 ! q [3:2] $end $var wire 1 \" q [1] $end $var wire 1 # q[0] $end $var wire 4 $ \\odd[x] [3:0] $end";
    let capture = read_as(dump(pieces, "#0 b10 ! 0\" 1# b1 $ #1 1\" #2 "), &[]).unwrap();
    assert_eq!((value(&capture, "top.q", 0), value(&capture, "q", 1)), (Some(0b1001), Some(0b1011)));
    assert_eq!((value(&capture, "odd[x]", 0), capture.buses().len()), (Some(1), 2));
    let apart = "$var wire 4 ! q [3:0] $end $var wire 2 \" q [3:2] $end";
    let capture = read_as(dump(apart, "#0 b1001 ! b11 \" #1"), &[]).unwrap();
    assert!(capture.remarks()[0].contains("parts that overlap") && capture.buses().len() == 2);
    // Recording stops: nothing is known until it goes on, whatever is listed.
    let capture = read_as(dump(bit, "#0 0! 1\" #2 $dumpoff $end #4 $dumpon 1! $end #5 "), &[]).unwrap();
    assert_eq!((levels(&capture, "a"), levels(&capture, "b")), ("00xx11".into(), "11xxxx".into()));
    // Codes of many characters, times that share a divisor only with each other.
    let capture =
        read_as(dump("$var wire 1 abcdef x $end", "#0 0abcdef\n#7000 1abcdef\n#21000 0abcdef\n"), &[])
            .unwrap();
    assert_eq!((levels(&capture, "x").as_str(), capture.base().tick()), ("0110", time("7 us")));
}

#[test]
fn the_end_is_the_last_time_and_nothing_is_claimed_beyond() {
    let capture = read_as(dump("$var wire 1 ! a $end", "#0 0!\n#30 1!\n#100\n"), &[]).unwrap();
    assert_eq!((capture.duration(), capture.end()), (time("100 ns"), Tick(10)));
    let cut = |changes: &str| {
        let capture = read_as(dump("$var wire 1 ! a $end $var wire 1 !! b $end", changes), &[]).unwrap();
        (capture.remarks().join("; "), levels(&capture, "a"))
    };
    // What may be the beginning of a longer code is not taken for the whole.
    let (remarks, a) = cut("#0 0! 0!!\n#1 1!\n#2 0!");
    assert!(remarks.contains("ends in the middle of the code '!'") && a == "011", "{remarks} {a}");
    let (remarks, a) = cut("#0 0! 0!!\n#1 1!\n#2 0!\n");
    assert!(remarks.is_empty() && a == "010", "{remarks} {a}");
    let (remarks, _) = cut("#5 0! 0!!\n#12 1!\n#2");
    assert!(remarks.contains("ends in the middle of a time"), "{remarks}");
    let (remarks, _) = cut("#0 $dumpvars 0! 0!!\n#1 1!\n");
    assert!(remarks.contains("inside the list of values that begins in line 2"), "{remarks}");
    let (remarks, a) = cut("#0 0! 0!!\n#1 1!\n$comment #2 0!\n");
    assert!(remarks.contains("section that begins in line 4 has no end") && a == "01", "{remarks}");
    let (remarks, _) = cut("#0 0! 0!!\n#1 b10\n");
    assert!(remarks.contains("ends in the middle of a value"), "{remarks}");
    let (remarks, a) = cut("#0 0! 0!!\n#1 1!\n1?\n1?\n#2\n");
    assert!(
        remarks.contains("2 values of codes that nothing declares") && remarks.contains("in line 4: '?'"),
        "{remarks}"
    );
    assert_eq!(a, "011");
}

#[test]
fn damage_is_told_with_its_line() {
    let two = "$var wire 1 ! a $end $var wire 4 \" v [3:0] $end $var real 64 # r $end";
    for (changes, line, wanted) in [
        ("#0 0!\n#5 b10101 \"\n", 3, "5 digits for 4 bits"),
        ("#0 0!\nr1.5 !\n", 3, "is not a value for what '!' stands for"),
        ("#0 0!\n#4 1!\n1#\n", 4, "is a real number"),
        ("#0 0!\nb1x2 \"\n", 3, "not a value of bits"),
        ("#0 0!\nr1.5e #\n", 3, "is not a number"),
        ("#5 0!\n#3 1!\n", 3, "time runs backwards, from 5 to 3"),
        ("#0 0!\ngarbage\n", 3, "neither a time nor a value"),
        ("#0 0!\n#99999999999999999999 1!\n", 3, "beyond what a capture can hold"),
        ("#1 0!\n#4611686018427387904 1!\n", 3, "beyond what a capture can hold"),
        ("#0 0!\n1 !\n", 3, "no code of the signal"),
        ("#0 0!\npH 6 6 !\n", 3, "extended value change dump"),
        ("#0 0!\n$var wire 1 % late $end\n", 3, "after the values began"),
    ] {
        let error = read_as(dump(two, changes), &[]).expect_err(changes);
        assert!(error.to_string().starts_with(&format!("made.vcd:{line}: ")), "{changes:?}: {error}");
        assert!(error.message().contains(wanted) && error.help().is_some(), "{changes:?}: {error}");
    }
    // A short value is extended; digits beyond the width that say no more than that are none too many.
    let capture = read_as(dump(two, "#0 0! b00001 \"\n#1 bx1 \"\n#2\n"), &[]).unwrap();
    assert_eq!((value(&capture, "v", 0), value(&capture, "v", 1)), (Some(1), None));
    let error = read_as("$enddefinitions $end #0", &[]).unwrap_err();
    assert!(error.message().contains("declares no signals"), "{error}");
    let port = "$timescale 1 ns $end $var port 1 <0 a $end $enddefinitions $end";
    assert!(read_as(port, &[]).unwrap_err().message().contains("$dumpports"));
    // Without a time scale, its unit is stated.
    let bare = "$var wire 1 ! a $end $enddefinitions $end #0 0! #10 1! #20 ";
    assert!(read_as(bare, &[]).unwrap_err().message().contains("$timescale"));
    assert_eq!(read_as(bare, &["time=10 ps"]).unwrap().duration(), time("200 ps"));
}

/// A long dump of random changes, and the level of each signal at each of its times.
fn random_dump(seed: u64, times: u64, comments: bool) -> String {
    let mut state = seed | 1;
    let mut random = move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    let mut text = dump("$var wire 1 # a $end $var wire 1 b b $end $var reg 13 #1 v [12:0] $end", "");
    let mut time = 0;
    for _ in 0..times {
        time += 1 + random() % 300;
        let _ = writeln!(text, "#{time}");
        match random() % 6 {
            0 => writeln!(text, "b{:b} #1", random() % 8192),
            1 => writeln!(text, "b{:b} b", random() % 2),
            2 if comments => writeln!(text, "$comment\n#{} 1# b1 #1\n$end", time / 2),
            3 => writeln!(text, "{}b", ['0', '1', 'x', 'z'][(random() % 4) as usize]),
            _ => writeln!(text, "{}#", random() % 2),
        }
        .unwrap();
    }
    text
}

#[test]
fn pieces_that_are_read_apart_say_what_the_whole_says() {
    // Long enough for several pieces, with times, comments and codes that look like each other where they are
    // cut.
    for (seed, comments) in [(7, false), (8, true)] {
        let text = random_dump(seed, 800_000, comments);
        assert!(text.len() > 9 << 20);
        let whole = read_as(&text, &[]).unwrap();
        // The same word by word, without any pieces.
        let mut traces: Vec<Vec<(u64, u8)>> = vec![Vec::new(); 15];
        let mut words = text[text.find("$enddefinitions").unwrap()..].split_ascii_whitespace().skip(2);
        let mut now = 0;
        while let Some(word) = words.next() {
            let mut put = |trace: usize, level: u8| match traces[trace].last_mut() {
                Some(last) if last.0 == now => last.1 = level,
                _ => traces[trace].push((now, level)),
            };
            match word.as_bytes() {
                b"$comment" => while words.next().unwrap() != "$end" {},
                [b'#', ..] => now = word[1..].parse().unwrap(),
                [b'b', digits @ ..] if words.clone().next() == Some("#1") => {
                    words.next();
                    (0..13)
                        .for_each(|bit| put(2 + bit, digits.iter().rev().nth(bit).copied().unwrap_or(b'0')));
                }
                [b'b', digit] => {
                    words.next();
                    put(1, *digit);
                }
                [level, b'#'] => put(0, *level),
                [level, b'b'] => put(1, *level),
                other => panic!("{other:?}"),
            }
        }
        for (number, changes) in traces.into_iter().enumerate() {
            // Lines of a vector come most significant first.
            let line = if number < 2 { number } else { 2 + 12 - (number - 2) };
            let mut level = Level::Unknown;
            let wanted = changes.into_iter().filter_map(|(tick, to)| {
                let to =
                    [Level::Low, Level::High, Level::Unknown, Level::Floating]["01xz".find(to as char)?];
                (std::mem::replace(&mut level, to) != to && tick > 0).then_some((tick, to))
            });
            let found = whole.traces()[line].edges(whole.range()).map(|edge| (edge.tick.0, edge.to));
            assert!(found.eq(wanted), "line {line}");
        }
        // Written part by part, it is the same.
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("long.vcd.gz"), folder.path().join("long.dtap"));
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(text.as_bytes()).unwrap();
        std::fs::write(&from, packed.finish().unwrap()).unwrap();
        let options = SaveOptions::default();
        import(&Source::open(&from).unwrap(), None, Import::default(), (&to, options), &mut |_, _| ())
            .unwrap();
        let again = dtap::open(&to).unwrap().capture;
        assert_eq!((again.len(), again.base(), again.lines()), (whole.len(), whole.base(), whole.lines()));
        for (mine, theirs) in whole.traces().iter().zip(again.traces()) {
            assert!(mine.edges(whole.range()).eq(theirs.edges(again.range())));
        }
        assert!(!to.with_extension("dtap.part").exists());
    }
}

#[test]
fn a_setup_takes_vectors_whole_or_a_slice() {
    let text = dump(
        "$var wire 1 ! clk $end $var reg 8 \" q [7:0] $end",
        "#0 0! b0 \"\n#5 1! b10100101 \"\n#10 0!\n",
    );
    let folder = tempfile::tempdir().unwrap();
    let (record, setup) = (folder.path().join("d.vcd"), folder.path().join("s.toml"));
    std::fs::write(&record, text).unwrap();
    let lay = |buses: &str| {
        std::fs::write(&setup, format!("[[line]]\nname = \"CLK\"\ninput = \"clk\"\n{buses}")).unwrap();
        deep_tap::job::Job::open(&record, Some(&setup))
    };
    let job =
        lay("[[bus]]\nname = \"Q\"\nsignal = \"q\"\n[[bus]]\nname = \"HIGH\"\nsignal = \"top.q[7:4]\"\n")
            .unwrap();
    assert_eq!((value(&job.capture, "Q", 5), value(&job.capture, "HIGH", 5)), (Some(0xA5), Some(0xA)));
    // The capture that is made of it carries the setup, and needs no record any more.
    let to = folder.path().join("d.dtap");
    dtap::save(&job.capture, &to, SaveOptions::default()).unwrap();
    let again = deep_tap::job::Job::open(&to, None).unwrap();
    assert_eq!(again.setup.unwrap().buses[0].lines.len(), 8);
    let error = lay("[[bus]]\nname = \"Q\"\nsignal = \"p\"\n").unwrap_err();
    assert!(error.message().contains("no vector 'p'"), "{error}");
    // Without a record its width has to be said.
    assert!(Setup::from_file(&setup).unwrap_err().message().contains("shows only in a record"));
    let limit = lay("[[limit]]\nkind = \"width\"\npulse = \"CLK high\"\nmin = \"4 ns\"\n").unwrap();
    let verdicts = limit.check(&[] as &[&str], deep_tap::known::Rule::Proven).unwrap();
    assert_eq!(verdicts.results[0].symbol, "width");
}

#[test]
fn damaged_compression_is_told_and_read_as_far_as_it_is_good() {
    let text = random_dump(3, 60_000, false);
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(text.as_bytes()).unwrap();
    let packed = packed.finish().unwrap();
    let whole = read_as(&packed, &[]).unwrap();
    assert_eq!(whole.edge_count(), read_as(&text, &[]).unwrap().edge_count());
    let cut = &packed[..packed.len() / 2];
    let error = read_as(cut, &[]).unwrap_err();
    assert!(error.message().contains("good are the first"), "{error}");
    let mut stated = Import::default();
    stated.partial = true;
    let source = Source::of_bytes(cut.to_vec(), "cut.vcd.gz");
    let part = read(&source, &stated, &mut |_, _| ()).unwrap();
    assert!(part.len() > 1000 && part.len() < whole.len());
    assert!(part.remarks().iter().any(|remark| remark.contains("the rest was left out")));
    for line in 0..part.lines().len() {
        let (mine, theirs) = (part.trace(LineId(line)), whole.trace(LineId(line)));
        assert!(mine.edges(part.range()).eq(theirs.edges(part.range())));
    }
}

#[test]
fn a_file_that_shrinks_while_it_is_read_is_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("long.vcd");
    std::fs::write(&path, random_dump(5, 300_000, false)).unwrap();
    let source = Source::open(&path).unwrap();
    std::fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(100_000).unwrap();
    let error = read(&source, &Import::default(), &mut |_, _| ()).unwrap_err();
    assert!(error.message().contains("became shorter"), "{error}");
    assert!(Source::open(folder.path()).unwrap_err().message().contains("a folder"));
    if Path::new("/dev/zero").exists() {
        assert!(Source::open(Path::new("/dev/zero")).unwrap_err().message().contains("a device or a pipe"));
    }
}

proptest! {
    /// Whatever is done to a record of any kind, it is read, or refused.
    #[test]
    fn no_damage_to_any_record_makes_a_reader_panic(
        which in 0usize..12,
        at in any::<prop::sample::Index>(),
        with in prop::collection::vec(any::<u8>(), 0..5),
        gone in 0usize..7,
    ) {
        let names = [
            "tables/comma.csv", "tables/semicolon-comma.csv", "tables/dates.csv", "tables/changes-empty.csv",
            "tables/volts-units.csv", "tables/pandas.csv.gz", "tables/fields.npy", "tables/packed-big.npy",
            "tables/matrix-fortran.npy", "tables/two.npz", "simulators/sv.vcd", "simulators/vhdl.vcd",
        ];
        let mut bytes = std::fs::read(root().join("tests/fixtures").join(names[which])).unwrap();
        let at = at.index(bytes.len());
        let end = (at + gone).min(bytes.len());
        bytes.splice(at..end, with);
        for stated in [&[][..], &["rate=1 MS/s", "array=a"], &["exact=true", "rows=changes", "threshold=1 V"]] {
            let _ = read(&Source::of_bytes(bytes.clone(), names[which]), &Import::of_words(stated).unwrap(), &mut |_, _| ());
        }
    }
}
