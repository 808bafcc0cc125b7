//! Records written in one format and read back: what the format can say comes back the same.

use deep_tap::capture::{AnalogBuilder, Capture, TraceBuilder};
use deep_tap::format::packed::PackedBits;
use deep_tap::format::{Source, csv, npy, packed, read, vcd};
use deep_tap::line::{AnalogId, AnalogLine, AnalogScale, Bus, Level, Line, LineId};
use deep_tap::setup::Import;
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

const LEVELS: [Level; 4] = [Level::Low, Level::High, Level::Floating, Level::Unknown];

/// What a random record is made of.
#[derive(Clone, Debug)]
struct Made {
    len: u64,
    zero: i64,
    rate: &'static str,
    exact: bool,
    /// Per line, the level at tick 0 and the changes.
    lines: Vec<(usize, Vec<(u64, usize)>)>,
    volts: Option<Vec<i16>>,
    bus: bool,
}

fn made(levels: usize) -> impl Strategy<Value = Made> {
    let line = (0..levels, prop::collection::vec((1u64..200, 0..levels), 0..20));
    (
        2u64..200,
        -300i64..300,
        prop::sample::select(vec!["100 MS/s", "24 MS/s", "1 MS/s", "3 S/s"]),
        any::<bool>(),
        prop::collection::vec(line, 2..9),
        prop::option::of(prop::collection::vec(-2000i16..2000, 200)),
        any::<bool>(),
    )
        .prop_map(|(len, zero, rate, exact, lines, volts, bus)| Made {
            len,
            zero,
            rate,
            exact,
            lines,
            volts,
            bus,
        })
}

impl Made {
    fn capture(&self) -> Capture {
        let base = TimeBase::from_rate(self.rate.parse().unwrap()).unwrap().with_zero_at(self.zero);
        let resolution = if self.exact { Resolution::EXACT } else { Resolution::SAMPLED };
        let mut builder = Capture::builder(base, self.len).resolution(resolution);
        for (number, (first, changes)) in self.lines.iter().enumerate() {
            let mut trace = TraceBuilder::new(LEVELS[*first]);
            let mut changes = changes.clone();
            changes.sort_by_key(|change| change.0);
            changes.dedup_by_key(|change| change.0);
            for (tick, level) in changes.into_iter().filter(|(tick, _)| *tick < self.len) {
                trace.push_edge(Tick(tick), LEVELS[level]).unwrap();
            }
            builder = builder.line(Line::named(format!("L {number}")), trace.finish(self.len));
        }
        if self.bus {
            builder = builder.bus(Bus::new("B US", vec![LineId(1), LineId(0)]).unwrap());
            builder = builder.bus(Bus::new("B_US", (0..self.lines.len()).map(LineId).collect()).unwrap());
        }
        if let Some(codes) = &self.volts {
            let volts = |text: &str| text.parse().unwrap();
            let scale = AnalogScale::new(volts("2.5 V"), volts("1.25 mV"), volts("10 mV")).unwrap();
            let mut analog = AnalogBuilder::new();
            analog.push(&codes[..self.len as usize]);
            builder = builder.analog(AnalogLine::named("VDD"), analog.finish(scale, 0, 1));
        }
        builder.build().unwrap()
    }
}

fn back(bytes: Vec<u8>, name: &str, stated: &[String]) -> Capture {
    let stated = Import::of_words(stated).unwrap();
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let record = read(&Source::of_bytes(bytes, name), &stated, &mut |_, _| ());
    let record = record.unwrap_or_else(|error| panic!("{error} {:?}\n{text}", error.help()));
    stated.apply(record).unwrap_or_else(|error| panic!("{error}\n{text}"))
}

fn same_traces(mine: &Capture, theirs: &Capture) {
    assert_eq!(mine.len(), theirs.len());
    for (mine_trace, theirs_trace) in mine.traces().iter().zip(theirs.traces()) {
        assert_eq!(mine_trace.level_at(Tick(0)), theirs_trace.level_at(Tick(0)));
        assert!(mine_trace.edges(mine.range()).eq(theirs_trace.edges(theirs.range())));
    }
}

proptest! {
    #[test]
    fn a_dump_comes_back_as_it_was(made in made(4)) {
        let capture = made.capture();
        let mut bytes = Vec::new();
        vcd::write(&capture, &mut bytes).unwrap();
        let again = back(bytes, "again.vcd", &[]);
        same_traces(&capture, &again);
        prop_assert_eq!((capture.base(), capture.lines(), capture.buses()), (again.base(), again.lines(), again.buses()));
        prop_assert_eq!((capture.resolution(), capture.analog_lines()), (again.resolution(), again.analog_lines()));
        if made.volts.is_some() {
            let (mine, theirs) = (capture.analog(AnalogId(0)), again.analog(AnalogId(0)));
            prop_assert_eq!((mine.len(), mine.scale(), mine.every()), (theirs.len(), theirs.scale(), theirs.every()));
            prop_assert!((0..mine.len()).all(|sample| mine.code(sample) == theirs.code(sample)));
        }
    }

    #[test]
    fn a_table_comes_back_with_the_rate_that_is_stated(made in made(4), samples in any::<bool>()) {
        let made = Made { volts: None, bus: false, exact: false, ..made };
        let capture = made.capture();
        let (layout, rows) = if samples { (csv::Layout::Samples, "samples") } else { (csv::Layout::Changes, "changes") };
        let mut bytes = Vec::new();
        csv::write(&capture, layout, &mut bytes).unwrap();
        let again = back(bytes, "again.csv", &[format!("rate={}", made.rate), format!("rows={rows}")]);
        if samples {
            same_traces(&capture, &again);
        } else {
            // What the last row says is the end of what it knows.
            let part = capture.excerpt(Tick(0)..Tick(again.len())).unwrap();
            same_traces(&part, &again);
        }
        prop_assert_eq!(again.base().tick(), made.capture().base().tick());
    }

    #[test]
    fn packed_samples_come_back(made in made(2), big in any::<bool>()) {
        let made = Made { volts: None, bus: false, exact: false, ..made };
        let capture = made.capture();
        let bits = PackedBits::of(&capture).unwrap();
        let rate = format!("rate={}", made.rate);
        let mut bytes = Vec::new();
        npy::write(&capture, bits, &mut bytes).unwrap();
        same_traces(&capture, &back(bytes, "again.npy", std::slice::from_ref(&rate)));
        let mut bytes = vec![0xff; 5];
        packed::write(&capture, bits, &mut bytes).unwrap();
        let size = bits.width.bytes();
        if big {
            bytes[5..].chunks_exact_mut(size).for_each(<[u8]>::reverse);
        }
        let order = format!("byte-order={}", if big { "big" } else { "little" });
        let stated = ["format=packed".to_string(), format!("width={size}"), "skip=5".into(), order, rate];
        same_traces(&capture, &back(bytes, "again.bin", &stated));
    }
}
