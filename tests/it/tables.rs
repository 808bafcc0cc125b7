//! Tables, arrays and packed samples as other programs write them: one record in many dialects, made by
//! `tests/fixtures/tables/write_tables.py`.

use std::path::PathBuf;

use deep_tap::Result;
use deep_tap::capture::Capture;
use deep_tap::format::{Source, read};
use deep_tap::line::{AnalogId, Level};
use deep_tap::setup::Import;
use deep_tap::time::Tick;

use crate::support::{root, time};

fn fixture(name: &str) -> PathBuf {
    root().join("tests/fixtures/tables").join(name)
}

fn read_as(name: &str, stated: &str) -> Result<Capture> {
    let words: Vec<&str> = stated.split("; ").filter(|word| !word.is_empty()).collect();
    let stated = Import::of_words(&words)?;
    let record = read(&Source::open(&fixture(name))?, &stated, &mut |_, _| ())?;
    stated.apply(record)
}

/// The levels of a line at each tick.
fn levels(capture: &Capture, name: &str) -> String {
    let trace = capture.trace(capture.line_named(name).unwrap());
    (0..capture.len())
        .map(|tick| match trace.level_at(Tick(tick)) {
            Level::Low => '0',
            Level::High => '1',
            Level::Floating => 'z',
            Level::Unknown => 'x',
        })
        .collect()
}

const CLK: &str = "0000111100001111000011110000111100001111";
const DATA: &str = "0000011110000000000011111111111000000000";
const Q: [u64; 5] = [0, 3, 6, 9, 12];

fn q(capture: &Capture) -> Vec<u64> {
    let bus = &capture.buses()[capture.bus_named("Q").expect("a bus Q").0];
    (0..capture.len())
        .map(|tick| capture.bus_value(bus, Tick(tick)).known().expect("a known value"))
        .collect()
}

/// Each file, what has to be stated of it, and the period of its samples.
const SAMPLES: &[(&str, &str, &str)] = &[
    ("comma.csv", "", "1 us"),
    ("semicolon-comma.csv", "", "1 us"),
    ("tab.tsv", "", "1 us"),
    ("bar.csv", "", "1 us"),
    ("blanks.txt", "", "1 us"),
    ("crlf.csv", "", "1 us"),
    ("bom.csv", "", "1 us"),
    ("quoted.csv", "", "1 us"),
    ("quoted-comma.csv", "", "1 us"),
    ("hash-header.csv", "", "1 us"),
    ("preamble.csv", "", "1 us"),
    ("units-row.csv", "", "1 us"),
    ("footer-blank.csv", "", "1 us"),
    ("trailing.csv", "", "1 us"),
    ("unit-in-cell.csv", "", "1 us"),
    ("words.csv", "", "1 us"),
    ("bool.csv", "", "1 us"),
    ("hex.csv", "", "1 us"),
    ("verilog.csv", "", "1 us"),
    ("binary.csv", "", "1 us"),
    ("dates.csv", "", "1 us"),
    ("german.csv", "", "1 us"),
    ("negative.csv", "", "1 us"),
    ("epoch.csv", "", "1 us"),
    ("no-newline.csv", "", "1 us"),
    ("pandas.csv", "", "1 us"),
    ("pandas.csv.gz", "", "1 us"),
    ("pandas-index.csv", "", "1 us"),
    ("pandas-decimal.csv", "", "1 us"),
    ("pandas-single.csv", "", "1 us"),
    ("savetxt.csv", "", "1 us"),
    ("nonnumeric.csv", "", "1 us"),
    // A rate that no decimal number of its times is.
    ("rounded.csv", "rate=3 MS/s", "1/3 us"),
    ("rounded.csv", "", "1/3 us"),
    ("no-times.csv", "rate=1 MS/s", "1 us"),
    ("numbered.csv", "rate=1 MS/s", "1 us"),
    // Stated rates win over stamps.
    ("comma.csv", "rate=2 MS/s", "500 ns"),
    ("changes.csv", "rate=1 MS/s", "1 us"),
    ("changes.csv", "exact=true", "1 us"),
];

#[test]
fn every_dialect_says_the_same() {
    for (name, stated, period) in SAMPLES {
        let capture = read_as(name, stated)
            .unwrap_or_else(|error| panic!("{name}, {stated}: {error} ({:?})", error.help()));
        let period = match *period {
            "1/3 us" => deep_tap::time::TimeBase::from_rate("3 MS/s".parse().unwrap()).unwrap().tick(),
            text => time(text),
        };
        assert_eq!((capture.len(), capture.base().tick()), (40, period), "{name}, {stated}");
        assert_eq!(
            (levels(&capture, "CLK").as_str(), levels(&capture, "DATA").as_str()),
            (CLK, DATA),
            "{name}, {stated}"
        );
        let values: Vec<u64> = (0..40).map(|sample| Q[sample / 8]).collect();
        assert_eq!(q(&capture), values, "{name}, {stated}");
        assert_eq!(capture.resolution().sampled, *stated != "exact=true", "{name}, {stated}");
    }
}

#[test]
fn what_a_table_does_not_say_is_asked_for() {
    for (name, stated, wanted) in [
        ("no-header.csv", "", "it is not said what its times count in"),
        ("savetxt.txt", "", "it is not said what its times count in"),
        ("no-times.csv", "", "its sample rate is not known"),
        ("numbered.csv", "", "numbers of samples, but no times"),
        ("one-column.txt", "", "its sample rate is not known"),
        ("changes.csv", "", "at which rate they were sampled"),
        ("packed.npy", "", "at which rate these samples were taken"),
        ("two.npz", "rate=1 MS/s", "has 2 arrays"),
        ("two.npz", "rate=1 MS/s; array=c", "no array 'c'"),
        ("packed.npy", "format=packed; rate=1 MS/s", "how many bytes a packed sample takes"),
        ("packed.npy", "format=packed; rate=1 MS/s; width=2", "which byte of a packed sample comes first"),
        ("comma.csv", "rate=700 kS/s; rows=changes", "two rows fall on one sample"),
    ] {
        let error = read_as(name, stated).expect_err(name);
        assert!(error.to_string().contains(wanted), "{name}, {stated}: {error}");
        assert!(error.help().is_some(), "{name}, {stated}: {error}");
    }
}

#[test]
fn gaps_and_levels_that_are_not_known() {
    let capture = read_as("unknown.csv", "").unwrap();
    assert_eq!(levels(&capture, "CLK"), format!("xxx{}", &CLK[3..]));
    assert_eq!(&levels(&capture, "DATA")[29..32], "1z0");
    let gaps = read_as("gaps.csv", "").unwrap();
    assert_eq!(&levels(&gaps, "DATA")[11..15], "0xx0");
    let low = read_as("gaps.csv", "empty=high").unwrap();
    assert_eq!(&levels(&low, "DATA")[11..15], "0110");
    let changes = read_as("changes-empty.csv", "rate=1 MS/s").unwrap();
    assert_eq!(levels(&changes, "DATA"), DATA[..changes.len() as usize]);
    // A header is not needed, nor more than one column.
    let plain = read_as("no-header.csv", "time=s").unwrap();
    assert_eq!(levels(&plain, "column 2"), CLK);
    let single = read_as("one-column.txt", "rate=5 MS/s").unwrap();
    assert_eq!(levels(&single, "column 1"), CLK);
}

#[test]
fn arrays_and_packed_samples() {
    for (name, stated, lines) in [
        ("packed.npy", "rate=1 MS/s", ["bit 0", "bit 1"]),
        ("one.npz", "rate=1 MS/s", ["bit 0", "bit 1"]),
        ("packed-big.npy", "rate=1 MS/s", ["bit 0", "bit 1"]),
        (
            "packed-big.npy",
            "rate=1 MS/s; format=packed; width=2; byte-order=big; skip=128",
            ["bit 0", "bit 1"],
        ),
        ("matrix.npy", "rate=1 MS/s", ["column 0", "column 1"]),
        ("matrix-bool.npy", "rate=1 MS/s", ["column 0", "column 1"]),
        ("matrix-fortran.npy", "rate=1 MS/s", ["column 0", "column 1"]),
        ("fields.npy", "rate=1 MS/s", ["CLK", "DATA"]),
        ("two.npz", "rate=1 MS/s; array=a", ["bit 0", "bit 0"]),
    ] {
        let capture = read_as(name, stated).unwrap_or_else(|error| panic!("{name}: {error}"));
        let [clk, data] = lines;
        assert_eq!((capture.len(), levels(&capture, clk).as_str()), (40, CLK), "{name}");
        if data != clk {
            assert_eq!(levels(&capture, data), DATA, "{name}");
        }
    }
    let fields = read_as("fields.npy", "rate=1 MS/s").unwrap();
    assert_eq!(q(&fields)[39], 12);
    assert_eq!(fields.analog_lines()[0].name, "VIN");
}

#[test]
fn voltages_are_known_as_they_were_written() {
    for name in ["volts.csv", "volts-units.csv", "millivolts.csv"] {
        let capture = read_as(name, "").unwrap_or_else(|error| panic!("{name}: {error}"));
        let line = AnalogId(capture.analog_lines().len() - 1);
        for (sample, wanted) in [(0, "0 V"), (2, "0.02 V"), (5, "3.32 V"), (30, "3.3 V")] {
            let volts = capture.analog(line).voltage_at(Tick(sample));
            assert_eq!(volts, Some(wanted.parse().unwrap()), "{name}, sample {sample}");
        }
    }
    let capture = read_as("volts.csv", "threshold=1.4 V; hysteresis=0.2 V").unwrap();
    assert_eq!((levels(&capture, "CLK").as_str(), levels(&capture, "VIN").as_str()), (CLK, DATA));
    let array = read_as("volts.npy", "rate=1 MS/s; threshold=1.4 V").unwrap();
    assert_eq!(levels(&array, "column 0"), DATA);
}

#[test]
fn a_table_that_says_less_than_it_seems_to_is_refused() {
    let read_text = |text: &str, stated: &[&str]| {
        let stated = Import::of_words(stated).unwrap();
        read(&Source::of_bytes(text.as_bytes().to_vec(), "t.csv"), &stated, &mut |_, _| ())
    };
    let rows = |count: u32, cell: &dyn Fn(u32) -> String| {
        (0..count).fold(String::new(), |text, row| text + &cell(row) + "\n")
    };
    // One row is missing far behind the rows that are looked at first.
    let gap = |row: u32| row + u32::from(row > 3000);
    let numbered = "sample,A\n".to_string() + &rows(4000, &|row| format!("{},{}", gap(row), row / 4 % 2));
    let timed = "time (us),A\n".to_string() + &rows(4000, &|row| format!("{}.0,{}", gap(row), row / 4 % 2));
    let evenly = "time (us),A\n".to_string() + &rows(700, &|row| format!("{row}.0,{}", row / 4 % 2));
    for (text, stated, wanted) in [
        (
            numbered.as_str(),
            &["rate=1 MS/s"][..],
            "t.csv:3003: column 'sample': here is sample number 3001 expected",
        ),
        (&timed, &["rate=1 MS/s"], "rows may be samples (line 2 repeats"),
        (&timed, &[], "t.csv:3003: column 'time': no single rate explains these times"),
        // A time that is rounded to ten samples does not say at which of them something changed.
        (
            "time (us),A\n0,0\n10,1\n30,0\n",
            &["rate=10 MS/s", "rows=changes"],
            "rounded to more than a sample",
        ),
        (
            "time (us),D[3:0]\n0.0,1\n1.0,1\n2.0,31\n3.0,2\n",
            &["rows=samples"],
            "'31' does not fit into 4 bits",
        ),
        (&(evenly + "700.0,1,7\n"), &["rows=samples"], "t.csv:702: this row has 3 cells"),
    ] {
        let error = read_text(text, stated).expect_err(wanted);
        assert!(error.to_string().contains(wanted) && error.help().is_some(), "{wanted}: {error}");
    }
    // What is stated is believed: then the rows count.
    let record = read_text(&timed, &["rate=1 MS/s", "rows=samples"]).unwrap();
    assert_eq!(record.len(), 4000);
    // A prefix is no digit, and a value of 64 ones has as many bits.
    let binary =
        read_text("time (us),Q\n0.0,0b0101\n1.0,0b0101\n2.0,0b1111\n", &["numbers=binary", "rows=samples"]);
    assert_eq!(binary.unwrap().buses()[0].lines.len(), 4);
    let ones = read_text("time (us),Q\n0.0,0xffffffffffffffff\n1.0,0\n2.0,0\n", &["rows=samples"]).unwrap();
    assert_eq!(ones.buses()[0].lines.len(), 64);
}

/// With the unit in the header, and stated for the same numbers.
#[test]
fn times_say_the_same_whoever_says_their_unit() {
    let table =
        |header: &str, rows: &str| Source::of_bytes(format!("{header},A\n{rows}").into_bytes(), "made.csv");
    let of = |source: &Source, stated: &[&str]| {
        let stated = Import::of_words(stated).unwrap();
        read(source, &stated, &mut |_, _| ()).unwrap_or_else(|error| panic!("{error}"))
    };
    // Numbers with as many decimals, with fewer where these would be zeros, long ones, and such below zero.
    let plain = "0.00,0\n0.25,1\n0.50,1\n0.75,0\n1.00,0\n1.25,1\n1.50,0\n";
    let short = "-0.5,0\n-0.25,1\n0,1\n0.25,0\n0.5,0\n0.75,1\n1,0\n";
    let long = "100000000000.001,0\n100000000000.002,1\n100000000000.003,1\n100000000000.004,0\n";
    for rows in [plain, short, long] {
        for (unit, header) in
            [("s", "time (s)"), ("ms", "time (ms)"), ("us", "time (us)"), ("ps", "time (ps)")]
        {
            let named = of(&table(header, rows), &["rows=samples"]);
            let stated = of(&table("time", rows), &["rows=samples", &format!("time={unit}")]);
            let told = |record: &Capture| {
                (
                    record.base(),
                    record.len(),
                    *record.resolution(),
                    levels(record, "A"),
                    record.remarks().to_vec(),
                )
            };
            assert_eq!(told(&named), told(&stated), "{header}: {rows}");
        }
    }
}
