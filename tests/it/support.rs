use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use deep_tap::capture::{Attachment, Capture, Trace, TraceBuilder};
use deep_tap::event::Scope;
use deep_tap::instrument::Instrument;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, Events, Kind, Limit, Occurrence, Visited};
use deep_tap::line::{Level, Line};
use deep_tap::quantity::Quantity;
use deep_tap::quantity::Time;
use deep_tap::setup::{Attached, RecordOptions, RunChanges, Setup};
use deep_tap::time::{Resolution, Tick, TimeBase};

/// The root of the project.
pub(crate) fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR"))
}

pub(crate) fn time(text: &str) -> Time {
    text.parse().unwrap()
}

/// A trace from its start level and the ticks at which it toggles.
pub(crate) fn toggles(start: Level, ticks: &[u64], len: u64) -> Trace {
    let mut builder = TraceBuilder::new(start);
    for tick in ticks {
        let level = builder.level().opposite();
        builder.push_edge(Tick(*tick), level).unwrap();
    }
    builder.finish(len)
}

/// A capture of lines that start low and toggle at these ticks.
pub(crate) fn capture(rate: &str, resolution: Resolution, len: u64, lines: &[(&str, &[u64])]) -> Capture {
    let base = TimeBase::from_rate(rate.parse().unwrap()).unwrap();
    let mut builder = Capture::builder(base, len).resolution(resolution);
    for (name, ticks) in lines {
        builder = builder.line(Line::named(*name), toggles(Level::Low, ticks, len));
    }
    builder.build().unwrap()
}

/// The texts of a limit's events, in the order in which its kind names them.
pub(crate) type Texts = (String, String);

/// `from` and `to`, or `control` and `reference`.
pub(crate) fn pair(from: &str, to: &str) -> Texts {
    (from.into(), to.into())
}

/// `data` and `reference`.
pub(crate) fn data(data: &str, reference: &str) -> Texts {
    pair(data, reference)
}

/// `pulse`, or `event`.
pub(crate) fn one(text: &str) -> Texts {
    pair(text, "")
}

pub(crate) fn events(kind: Kind, (a, b): Texts) -> Events {
    match kind {
        Kind::Setup => Events::Setup { data: a, reference: b },
        Kind::Hold => Events::Hold { data: a, reference: b },
        Kind::Recovery => Events::Recovery { control: a, reference: b },
        Kind::Removal => Events::Removal { control: a, reference: b },
        Kind::Width => Events::Width { pulse: a },
        Kind::Period => Events::Period { event: a },
        Kind::Duty => Events::Duty { pulse: a },
        Kind::Delay => Events::Delay { from: a, to: b },
        Kind::Skew => Events::Skew { from: a, to: b },
        Kind::Stable => Events::Stable { data: a, condition: b },
        Kind::Window => Events::Window { data: a, reference: b },
        Kind::Settle => Events::Settle { from: a, data: b },
        other => panic!("'{other}' has no texts alone"),
    }
}

/// A limit between two values, which must be what its kind needs.
pub(crate) fn limit_of(events: Events, min: Option<Quantity>, max: Option<Quantity>) -> Limit {
    let mut limit = Limit::of("t", events);
    if let Some(min) = min {
        limit = limit.min(min);
    }
    if let Some(max) = max {
        limit = limit.max(max);
    }
    limit.build().unwrap()
}

pub(crate) fn limit(kind: Kind, texts: Texts, min: Option<Time>, max: Option<Time>) -> Limit {
    limit_of(events(kind, texts), min.map(Quantity::from), max.map(Quantity::from))
}

pub(crate) fn bind(capture: &Capture, limit: &Limit) -> BoundLimit {
    BoundLimit::bind("U1", "part", limit, &Scope::of(capture)).unwrap()
}

/// All occurrences of a limit, and the number of events without partner.
pub(crate) fn occurrences(capture: &Capture, limit: &Limit) -> (Vec<Occurrence>, usize) {
    let mut found = Vec::new();
    let mut unpaired = 0;
    bind(capture, limit)
        .occurrences(capture, Rule::Proven, &mut |f| {
            match f {
                Visited::Occurrence(occurrence) => found.push(occurrence),
                Visited::Unpaired(_) => unpaired += 1,
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    (found, unpaired)
}

/// A setup from one text.
pub(crate) fn setup(text: &str) -> deep_tap::Result<Setup> {
    Setup::load("setup.toml", &Attached(&[Attachment { name: "setup.toml".into(), text: text.into() }]))
}

/// Records a setup without showing progress.
pub(crate) fn record(
    setup: &Setup,
    instrument: &mut dyn Instrument,
    options: RecordOptions,
) -> deep_tap::Result<Capture> {
    setup.record(instrument, options, &mut |_| ControlFlow::Continue(()))
}

/// The demo's setup, connected to the board with these options (`faults=none&seed=3`), at a rate.
pub(crate) fn demo(options: &str, rate: Option<&str>) -> (Setup, Capture) {
    let mut setup = Setup::from_file(&root().join("setups/tide-gauge.toml")).unwrap();
    if let Some(rate) = rate {
        setup = setup.changed(&RunChanges::default().rate(rate)).unwrap();
    }
    let mut instrument =
        deep_tap::bench::connect(&format!("bench:tide-gauge?{options}"), Path::new("")).unwrap();
    let capture = record(&setup, &mut *instrument, RecordOptions::default()).unwrap();
    (setup, capture)
}

/// Edges of bytes on one line, 10 ticks a bit, that begin at these ticks; it rests low before tick 1.
pub(crate) fn bytes(sent: &[(u64, u8)]) -> Vec<u64> {
    let mut toggles = vec![1];
    let mut high = true;
    let mut set = |level: bool, at: u64| {
        if level != high {
            toggles.push(at);
            high = level;
        }
    };
    for (start, byte) in sent {
        set(false, *start);
        (0..8).for_each(|bit| set(byte >> bit & 1 == 1, start + 10 * (bit + 1)));
        set(true, start + 90);
    }
    toggles
}

/// The same lines in a sampled record with pulses of one tick, each on a line and at a place, `rest` ticks and more
/// from either end.
pub(crate) fn with_spikes(record: &Capture, spikes: &[(usize, u64)], rest: u64) -> Capture {
    let lanes = record.traces().into_iter().enumerate().map(|(line, trace)| {
        let mut toggles: Vec<u64> = trace.edges(record.range()).map(|edge| edge.tick.0).collect();
        for (_, at) in spikes.iter().filter(|(own, _)| *own == line) {
            let at = rest + at % (record.len() - 2 * rest);
            let free = |tick: u64| toggles.iter().all(|own| own.abs_diff(tick) > 1);
            if free(at) && free(at + 1) {
                toggles.extend([at, at + 1]);
                toggles.sort_unstable();
            }
        }
        toggles
    });
    let lanes: Vec<Vec<u64>> = lanes.collect();
    let names = record.lines().iter().map(|line| line.name.as_str());
    let lines: Vec<(&str, &[u64])> = names.zip(lanes.iter().map(Vec::as_slice)).collect();
    capture(&record.base().rate().to_string(), Resolution::SAMPLED, record.len(), &lines)
}
