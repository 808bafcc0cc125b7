//! Texts that people write: setups, limits files, boards, expressions.

use std::path::Path;
use std::sync::OnceLock;

use deep_tap::bench::connect;
use deep_tap::capture::{Attachment, Capture, Trace};
use deep_tap::event::{Condition, Event, Hit, Meaning, Program, Scope, TimedProgram};
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, Watch, check_all};
use deep_tap::line::{Bus, Level, LineId};
use deep_tap::message::file::FileForm;
use deep_tap::message::{Matcher, Message};
use deep_tap::quantity::{Percent, Quantity, Rate, SampleCount, Voltage};
use deep_tap::scan::{SampleBlock, SampleWidth, fill};
use deep_tap::setup::{Attached, Import, RunChanges, Setup};
use deep_tap::time::{Resolution, TimeBase};

use super::Target;

/// A setup, which includes itself and refers to a limits file.
pub(super) const SETUP: Target = Target {
    name: "setup",
    run: |bytes| {
        let text = |name: &str, text: String| Attachment { name: name.into(), text };
        let own = String::from_utf8_lossy(bytes).into_owned();
        let texts = [
            text("s.toml", own.clone()),
            text("parts/p.toml", PART.into()),
            text("../parts/p.toml", PART.into()),
            text("old.dtap/t.toml", own),
            text("old.dtap/../parts/p.toml", PART.into()),
        ];
        let Ok(setup) = Setup::load("s.toml", &Attached(&texts)) else { return };
        let lines: Vec<String> = setup.lines.iter().take(1).map(|line| line.line.name.clone()).collect();
        let _ = setup.clone().changed(&RunChanges::default().rate("1 MS/s").length("1 ms").lines(lines));
        watched(&setup, bytes);
    },
    seeds: &["setups", "setups/triggers"],
    texts: &[],
    slow: 1,
};

/// Limits, whatever they are, say of samples as they arrive what they say of them stored.
fn watched(setup: &Setup, bytes: &[u8]) {
    let count = setup.lines.len();
    let limits: Vec<BoundLimit> = setup.limits().take(20).cloned().collect();
    if !(1..=64).contains(&count) || limits.is_empty() {
        return;
    }
    let width = SampleWidth::for_inputs(count);
    let bits: Vec<u32> = (0..count as u32).collect();
    // Each byte of the text is a few samples in which some lines have changed.
    let mut block = SampleBlock::new(width);
    let mut levels = 0u64;
    for (place, byte) in bytes.iter().take(3000).enumerate() {
        levels ^= u64::from(*byte).rotate_left(place as u32 * 7) & (u64::MAX >> (64 - count));
        block.push_run(levels, 0, usize::from(byte & 7) + 1);
    }
    let base = TimeBase::from_rate("80 kS/s".parse().expect("a rate")).expect("a clock");
    let record = |traces: Vec<Trace>, len: u64| {
        let lines = setup.lines.iter().map(|line| line.line.clone()).zip(traces);
        let builder = Capture::builder(base, len).resolution(Resolution::SAMPLED).buses(setup.buses.clone());
        lines.fold(builder, |builder, (line, trace)| builder.line(line, trace)).build()
    };
    let empty = setup.lines.iter().map(|_| Trace::constant(Level::Unknown, 0)).collect();
    let stored = record(fill(block.samples(), &bits), block.len() as u64);
    let (Ok(empty), Ok(stored)) = (record(empty, 0), stored) else { return };
    let Ok(mut watch) = Watch::new(empty, limits.clone()) else { return };
    for from in (0..block.len()).step_by(1000) {
        if watch.push(block.samples().slice(from..(from + 1000).min(block.len()))).is_err() {
            return;
        }
    }
    let watched = watch.finish();
    let checked = check_all(&stored, &limits, Rule::Proven).expect("what was watched");
    assert_eq!(watched, checked);
}

/// A limits file.
pub(super) const LIMITS: Target = Target {
    name: "limits",
    run: |bytes| {
        let text = |name: &str, text: String| Attachment { name: name.into(), text };
        let own = String::from_utf8_lossy(bytes).into_owned();
        let texts = [text("s.toml", BOUND.into()), text("p.toml", own)];
        let _ = Setup::load("s.toml", &Attached(&texts));
    },
    seeds: &["parts"],
    texts: &[PART],
    slow: 1,
};

/// A message, in both forms and in a file of each kind, and values that are compared with it.
pub(super) const MESSAGE: Target = Target {
    name: "message",
    run: |bytes| {
        let text = String::from_utf8_lossy(bytes);
        let values = || bytes.iter().map(|byte| u64::from(*byte));
        for message in [Message::hex(&text), Message::text(&text)].into_iter().flatten() {
            for total in [None, Some(bytes.len()), Some(2)] {
                let mut matcher = Matcher::new(&message, total);
                for value in values().take(2000) {
                    let _ = (matcher.push(value), matcher.expects());
                }
            }
            let _ = (message.shortest(), message.largest(), message.ends_by_itself());
        }
        for form in [FileForm::Binary, FileForm::Hex, FileForm::Array(None), FileForm::Column(None)] {
            if let Ok(values) = form.values(bytes) {
                assert!(Message::values(values.iter().copied()).is_met_by(&values));
            }
        }
    },
    seeds: &[],
    texts: &[
        "a5 {length} ( 1x ... ) {crc-16/modbus lowest-first}",
        "T={digit}{digit}{(}{...}{)}*{xor hex}",
        "/* a */ static const uint8_t hello[] = { 0x08, 16, 'A', };",
        "pub const HELLO: [u8; 2] = [0x08, b'A'];",
        "value\n8\n0x10\n",
    ],
    slow: 1,
};

/// The file of a board, and the line that connects to it.
pub(super) const BOARD: Target = Target {
    name: "board",
    run: |bytes| {
        let Ok(folder) = tempfile::tempdir() else { return };
        if std::fs::write(folder.path().join("b.toml"), bytes).is_ok() {
            let _ = connect("bench:b.toml", folder.path());
        }
        if let Ok(text) = std::str::from_utf8(bytes)
            && text.len() < 200
            // What would read something of the machine is left out.
            && !["tcp", "pipe", "replay", "/", "."].iter().any(|word| text.contains(word))
        {
            let _ = connect(&format!("bench:tide-gauge?{text}"), Path::new(""));
            // A program is started when it is armed, and not before.
            let _ = connect(&format!("program:true?{text}"), Path::new(""));
        }
    },
    seeds: &["boards"],
    texts: &[
        "faults=glitch:MEM_WE_N:1 us:2 ms&seed=3",
        "faults=none",
        "faults=early:D0:1 ns:3&seed=0",
        "rate=1 MS/s,5 MS/s&width=2&byte-order=big&patience=1 s",
    ],
    slow: 4,
};

/// An expression of the event language, a quantity, a limit in words, and what is stated of a record.
pub(super) const EVENT: Target = Target {
    name: "event",
    run: |bytes| {
        let text = String::from_utf8_lossy(bytes);
        let mut scope = Scope::new();
        for (number, name) in ["CLK", "CS_N", "DQ"].iter().enumerate() {
            scope.define(*name, Meaning::Line(LineId(number)));
        }
        if let Ok(bus) = Bus::new("ADDR", vec![LineId(0), LineId(1)]) {
            scope.define("ADDR", Meaning::Bus(bus));
        }
        let base = "100 MS/s".parse().and_then(TimeBase::from_rate);
        if let (Ok(program), Ok(base)) = (Program::compile(&text, &scope), base) {
            let _ = program.state_table().to_dot();
            if let Ok(timed) = program.at(base) {
                search(&timed);
            }
        }
        let _ = (Event::parse(&text), Condition::parse(&text), text.parse::<Quantity>());
        let _ = (text.parse::<Rate>(), text.parse::<Percent>(), text.parse::<Voltage>());
        let _ = (text.parse::<SampleCount>(), Import::of_words(&[&*text]));
    },
    seeds: &[],
    texts: &[
        "CLK rises while CS_N low then no DQ changes within 350 us",
        "(ADDR changes or CLK falls) 3 times then DQ falls within 20 ns",
        "CLK rises then no DQ rises then CS_N falls after 30 ns",
        "CLK falls then CLK rises 2 times then no CLK falls within 100 ns",
        "when ADDR > 0x4 and not CS_N high",
        "MEM_WE_N low for < 40 ns",
        "12.5 ns",
        "1.25e-3 V",
        "time=10 ns",
        "rate=24 MS/s",
    ],
    slow: 1,
};

/// Looks for an event in a short record: what is seen of it is the same with doubt and without.
fn search(timed: &TimedProgram) {
    let Some(record) = record() else { return };
    let plain: Vec<u64> = timed.hits(record, record.range()).map(|hit| hit.tick.0).collect();
    let doubted = timed.hits_with_doubt(record, record.range()).take(100_000);
    let recorded: Vec<u64> = doubted.filter(Hit::is_recorded).map(|hit| hit.tick.0).collect();
    // Conditions over edges that come together are counted in another way.
    if timed.program().is_composite() && timed.program().event_signals().len() < 2 {
        assert_eq!(plain, recorded, "{}", timed.program().text());
    }
}

/// Three lines that change now and then.
fn record() -> Option<&'static Capture> {
    static RECORD: OnceLock<Option<Capture>> = OnceLock::new();
    RECORD
        .get_or_init(|| {
            let mut noise = crate::Noise::new(7);
            let samples: Vec<u8> =
                (0..2000).map(|_| noise.below(40)).map(|n| if n < 8 { n as u8 } else { 8 }).collect();
            // Eight means: as before.
            let held = samples.iter().scan(0, |last, sample| {
                *last = if *sample < 8 { *sample } else { *last };
                Some(*last)
            });
            let held: Vec<u8> = held.collect();
            Capture::of_samples("100 MS/s", &["CLK", "CS_N", "DQ"], &held).ok()
        })
        .as_ref()
}

const PART: &str = "part = \"P\"\nsource = \"x\"\npins = { A = \"a\", B = \"b\" }\nconditions = { hot = \"85 degC\", cold = \"0\" }\n\
    values = { N = \"2\" }\n[[limit]]\nsymbol = \"tW\"\nwhat = \"w\"\nkind = \"width\"\npulse = \"A high\"\nmin = \"N * 5 ns\"\n\
    [[limit]]\nsymbol = \"tD\"\nwhat = \"d\"\nkind = \"delay\"\nfrom = \"A rises\"\nto = \"B changes\"\nmax = { hot = \"25 ns\", cold = \"20 ns\" }\n";

const BOUND: &str = "[[line]]\nname = \"A\"\n[[line]]\nname = \"B\"\n[[part]]\nlimits = \"p.toml\"\nreference = \"U1\"\n\
    pins = { A = \"A\", B = \"B\" }\nunder = \"hot\"\n";
