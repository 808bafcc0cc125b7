//! What a capture holds.

use std::collections::HashMap;
use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::format::{self, dtap::SaveOptions};
use deep_tap::job::Job;
use deep_tap::line::{AnalogId, AnalogLine, Bus, Level, LineId};
use deep_tap::quantity::{Rate, Rational, SampleCount, Time, Voltage};
use deep_tap::time::Tick;
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::commands::capture::look_into;
use crate::contract::Document;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::next::{next, path_word, source_words};
use crate::output::{Grid, Out, remark, write_table};

/// What `info` says.
#[derive(Serialize)]
struct Said<'a> {
    file: String,
    source: &'a str,
    title: Option<&'a str>,
    trigger: Option<&'a str>,
    made: Option<String>,
    sampled: bool,
    /// Of a sampled record.
    rate_hz: Option<Rate>,
    tick_s: Time,
    ticks: u64,
    from_s: Time,
    to_s: Time,
    skew_s: Time,
    accuracy_ppm: f64,
    lines: Vec<SaidLine<'a>>,
    analog: Vec<SaidAnalog<'a>>,
    buses: Vec<SaidBus<'a>>,
    parts: Vec<SaidPart<'a>>,
    marks: Vec<SaidMark<'a>>,
    history: &'a [String],
    remarks: &'a [String],
    damage: Vec<String>,
}

#[derive(Serialize)]
struct SaidLine<'a> {
    line: &'a str,
    input: Option<String>,
    threshold: Option<String>,
    first: Level,
    last: Level,
    edges: u64,
}

#[derive(Serialize)]
struct SaidAnalog<'a> {
    line: &'a str,
    input: Option<u32>,
    /// `None` where it has a voltage wherever it changes.
    rate_hz: Option<f64>,
    samples: u64,
    /// Of one code, and how far a sample may be off.
    step_v: Voltage,
    error_v: Voltage,
    lowest_v: Option<Voltage>,
    highest_v: Option<Voltage>,
}

/// An instant that has a name. Events of a setup are not looked for.
#[derive(Serialize)]
struct SaidMark<'a> {
    mark: &'a str,
    at_s: Option<Time>,
    event: Option<&'a str>,
    text: &'a str,
}

#[derive(Serialize)]
struct SaidPart<'a> {
    reference: &'a str,
    part: &'a str,
    limits: usize,
    made_up: bool,
}

#[derive(Serialize)]
struct SaidBus<'a> {
    bus: &'a str,
    /// `parallel`, or what is spoken on a serial one.
    kind: &'static str,
    lines: Vec<&'a str>,
}

pub(super) fn run(args: &args::Info, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    if let Some(folder) = &args.write_setup {
        return write_setup(capture, folder, args.table.replace, out);
    }
    if args.verify {
        // Reading every edge touches every block.
        for line in 0..capture.lines().len() {
            capture.trace(LineId(line)).edges(capture.range()).for_each(drop);
        }
        for line in 0..capture.analog_lines().len() {
            capture.analog(AnalogId(line)).blocks().for_each(drop);
        }
    }
    let said = said(args, &loaded);
    let document = Document::new("record", &said);
    let text = || {
        let text = text(capture, &said, args.verify);
        let command = loaded.setup.as_ref().map_or("show", look_into);
        format!("{text}\n{}\n", next(command, source_words(&args.source)))
    };
    write_table(&args.table, out, &document, &HEADER, |rows| rows.each(&said.lines), text)?;
    tell_damage(capture);
    Ok(Outcome::Done)
}

/// The setup as the files that it was.
fn write_setup(capture: &Capture, folder: &Path, replace: bool, out: &mut Out) -> Result<Outcome, Failure> {
    let written = format::write_setup(capture, folder, SaveOptions { replace })?;
    for file in &written.files {
        out.line(format!("{}: written", file.display()))?;
    }
    written.remarks.iter().for_each(remark);
    if let Some(setup) = written.files.first() {
        out.line(next("plan", path_word(setup)))?;
    }
    Ok(Outcome::Done)
}

/// The notes of a capture and the marks of its setup.
fn marks(loaded: &Job) -> Vec<SaidMark<'_>> {
    let base = loaded.capture.base();
    let noted = loaded.capture.notes().iter().map(|note| SaidMark {
        mark: &note.name,
        at_s: Some(base.time_of(note.at)),
        event: None,
        text: &note.text,
    });
    let of_setup = loaded.setup.iter().flat_map(|setup| &setup.marks).map(|mark| {
        let at_s = mark.at.parse::<Time>().ok();
        SaidMark { mark: &mark.name, at_s, event: at_s.is_none().then_some(&*mark.at), text: &mark.text }
    });
    noted.chain(of_setup).collect()
}

fn said<'a>(args: &args::Info, loaded: &'a Job) -> Said<'a> {
    let capture = &loaded.capture;
    let (base, resolution) = (capture.base(), capture.resolution());
    let line = |number: usize| {
        let line = capture.line(LineId(number));
        let trace = capture.trace(LineId(number));
        SaidLine {
            line: &line.name,
            input: line.input.as_ref().map(ToString::to_string),
            threshold: line.threshold.map(|t| t.to_string()),
            first: trace.level_at(Tick(0)),
            last: trace.level_at(Tick(capture.len())),
            edges: trace.edge_count(),
        }
    };
    let analog = |(id, line): (usize, &'a AnalogLine)| {
        let trace = capture.analog(AnalogId(id));
        let extremes = trace.extremes_of(0..trace.len());
        SaidAnalog {
            line: &line.name,
            input: line.input,
            rate_hz: (!trace.holds()).then(|| base.rate().to_f64() / trace.every() as f64),
            samples: trace.len(),
            step_v: trace.scale().step(),
            error_v: trace.scale().error(),
            lowest_v: extremes.map(|e| trace.scale().voltage(e.least)),
            highest_v: extremes.map(|e| trace.scale().voltage(e.most)),
        }
    };
    let name = |line: &LineId| capture.line(*line).name.as_str();
    let serial = loaded.setup.iter().flat_map(|setup| &setup.serial).map(|bus| SaidBus {
        bus: bus.name(),
        kind: bus.protocol().name(),
        lines: bus.lines().iter().map(name).collect(),
    });
    let parts = loaded.setup.iter().flat_map(|s| &s.parts);
    let lines = (0..capture.lines().len()).map(line).collect();
    Said {
        file: args.source.file.display().to_string(),
        source: &capture.origin().source,
        title: loaded.setup.as_ref().and_then(|s| s.title.as_deref()),
        trigger: capture.origin().trigger.as_deref(),
        made: capture.origin().made.map(|made| made.to_string()),
        sampled: resolution.sampled,
        rate_hz: resolution.sampled.then(|| base.rate()),
        tick_s: base.tick(),
        ticks: capture.len(),
        from_s: base.time_of(Tick(0)),
        to_s: base.time_of(capture.end()),
        skew_s: resolution.skew,
        accuracy_ppm: resolution.accuracy.to_fraction().to_f64() * 1e6,
        lines,
        analog: capture.analog_lines().iter().enumerate().map(analog).collect(),
        buses: capture
            .buses()
            .iter()
            .map(|b| SaidBus { bus: &b.name, kind: "parallel", lines: b.lines.iter().map(name).collect() })
            .chain(serial)
            .collect(),
        parts: parts
            .map(|p| SaidPart {
                reference: &p.reference,
                part: &p.part.name,
                limits: p.limits.len(),
                made_up: p.part.made_up,
            })
            .collect(),
        marks: marks(loaded),
        history: capture.history(),
        remarks: capture.remarks(),
        damage: capture.damage().into_iter().map(|d| d.what).collect(),
    }
}

const HEADER: [&str; 6] = ["line", "input", "threshold", "first", "last", "edges"];

fn cells(line: &SaidLine<'_>) -> Vec<String> {
    let or_dash = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
    vec![
        line.line.to_string(),
        or_dash(&line.input),
        or_dash(&line.threshold),
        line.first.to_string(),
        line.last.to_string(),
        line.edges.to_string(),
    ]
}

/// The bits of one vector in short: `q[7:0]`, or `Q7 … Q0`; other names in a row.
fn short(names: &[&str]) -> String {
    let parted = |name: &str| {
        let (base, bit) = match name.strip_suffix(']') {
            Some(rest) => rest.rsplit_once('[')?,
            None => name.split_at(name.trim_end_matches(|c: char| c.is_ascii_digit()).len()),
        };
        Some((base.to_string(), bit.parse::<i64>().ok()?))
    };
    let parts: Option<Vec<(String, i64)>> = names.iter().map(|name| parted(name)).collect();
    match parts.as_deref() {
        Some([(base, most), .., (_, least)])
            if parts.iter().flatten().all(|(other, _)| other == base)
                && most.abs_diff(*least) as usize + 1 == names.len() =>
        {
            match names[0].ends_with(']') {
                true => format!("{base}[{most}:{least}]"),
                false => format!("{} … {}", names[0], names[names.len() - 1]),
            }
        }
        _ => names.join(" "),
    }
}

/// The vectors whose lines follow each other, by the first of these.
fn vectors(capture: &Capture) -> HashMap<usize, &Bus> {
    let mut vectors = HashMap::new();
    for bus in capture.buses() {
        let Some(first) = bus.lines.first() else { continue };
        let follow = bus.lines.iter().zip(first.0..).all(|(id, number)| id.0 == number);
        if follow && bus.lines.len() > 4 && capture.line(*first).threshold.is_none() {
            vectors.entry(first.0).or_insert(bus);
        }
    }
    vectors
}

fn vector_cells(capture: &Capture, bus: &Bus, lines: &[SaidLine<'_>]) -> Vec<String> {
    let names: Vec<&str> = lines.iter().map(|line| line.line).collect();
    let value = |tick| bus.show(capture.bus_value(bus, tick));
    let edges: u64 = lines.iter().map(|line| line.edges).fold(0, u64::saturating_add);
    let last = Tick(capture.len().saturating_sub(1));
    vec![short(&names), "-".into(), "-".into(), value(Tick(0)), value(last), edges.to_string()]
}

fn text(capture: &Capture, said: &Said<'_>, verified: bool) -> String {
    let mut text = String::new();
    let mut fact = |name: &str, value: String| text.push_str(&format!("{name:<11}{value}\n"));
    fact("file", said.file.clone());
    if let Some(title) = said.title {
        fact("title", title.to_string());
    }
    fact("source", said.source.to_string());
    if let Some(made) = &said.made {
        fact("made", made.clone());
    }
    let kind = if said.sampled { "sampled" } else { "exact, from a simulation" };
    let base = capture.base();
    match said.sampled {
        true => fact("time base", format!("{} per tick ({}), {kind}", base.tick(), base.rate())),
        false => fact("time base", format!("{} per tick, {kind}", base.tick())),
    }
    let (from, to) = (base.text_of(Tick(0)), base.text_of(capture.end()));
    match said.sampled {
        true => fact("record", format!("{from} to {to}, {}", SampleCount(capture.len()))),
        false => fact("record", format!("{from} to {to}")),
    }
    fact("trigger", said.trigger.unwrap_or("none").to_string());
    if said.sampled {
        let resolution = capture.resolution();
        fact("inputs", format!("skew up to {}, time base within {}", resolution.skew, resolution.accuracy));
    }
    for bus in &said.buses {
        let lines = short(&bus.lines);
        match bus.kind {
            "parallel" => fact("bus", format!("{} = {lines}", bus.bus)),
            kind => fact("bus", format!("{} = {kind} on {lines}", bus.bus)),
        }
    }
    for part in &said.parts {
        let made_up = if part.made_up { ", made up" } else { "" };
        let limits = if part.limits == 1 { "limit" } else { "limits" };
        fact("part", format!("{} {} ({} {limits}{made_up})", part.reference, part.part, part.limits));
    }
    for mark in &said.marks {
        let at = mark.at_s.map(|at| at.rounded(base.tick()));
        let place = at.or_else(|| mark.event.map(|event| format!("at '{event}'"))).unwrap_or_default();
        let text =
            if mark.text.is_empty() { String::new() } else { format!(": {}", mark.text.replace('\n', " ")) };
        fact("mark", format!("{} {place}{text}", mark.mark));
    }
    for step in said.history {
        fact("history", step.clone());
    }
    for remark in said.remarks {
        fact("remark", remark.clone());
    }
    if verified {
        let sound = "every block was read and is sound".to_string();
        let found = match said.damage.len() {
            1 => "1 damaged stretch, told below".to_string(),
            count => format!("{count} damaged stretches, listed below"),
        };
        fact("verified", if said.damage.is_empty() { sound } else { found });
    }
    let mut grid = Grid::new(&HEADER, &[1, 5]);
    let (vectors, mut at) = (vectors(capture), 0);
    while let Some(line) = said.lines.get(at) {
        match vectors.get(&at) {
            Some(bus) => {
                grid.row(vector_cells(capture, bus, &said.lines[at..at + bus.lines.len()]));
                at += bus.lines.len();
            }
            None => {
                grid.row(cells(line));
                at += 1;
            }
        }
    }
    if said.analog.is_empty() {
        return format!("{text}\n{}\n", grid.text());
    }
    let mut analog = Grid::new(&["analog line", "input", "rate", "step", "error", "lowest", "highest"], &[1]);
    for line in &said.analog {
        let rate = line.rate_hz.map(|rate| Rate::from_rational(Rational::from(rate.round() as i64)));
        let rate = rate.map_or("at changes".to_string(), |rate| rate.to_string());
        let volts =
            |volts: Option<Voltage>| volts.map_or("-".to_string(), |v| format!("{:.3} V", v.to_f64()));
        analog.row(vec![
            line.line.to_string(),
            line.input.map_or("-".to_string(), |input| input.to_string()),
            rate,
            format!("{:.2} mV", line.step_v.to_f64() * 1e3),
            format!("± {:.1} mV", line.error_v.to_f64() * 1e3),
            volts(line.lowest_v),
            volts(line.highest_v),
        ]);
    }
    format!("{text}\n{}\n\n{}\n", grid.text(), analog.text())
}
