//! What each bus carried, in numbers.

use std::collections::BTreeMap;

use deep_tap::capture::Capture;
use deep_tap::decode::{FrameStatistics, SerialBus};
use deep_tap::diagnose::measured_bit_rate;
use deep_tap::quantity::{Frequency, Time};
use serde::{Serialize, Serializer};

use super::Listing;
use crate::args::Table;
use crate::contract::Document;
use crate::errors::Failure;
use crate::output::{Grid, Out, Working, write_table};

/// What the buses of a file carried.
#[derive(Serialize)]
struct Traffic {
    file: String,
    buses: Vec<Said>,
}

/// One bus.
#[derive(Serialize)]
struct Said {
    bus: String,
    kind: &'static str,
    frames: u64,
    faulty: u64,
    #[serde(serialize_with = "counted")]
    kinds: BTreeMap<&'static str, u64>,
    #[serde(serialize_with = "counted")]
    faults: BTreeMap<&'static str, u64>,
    data_bytes: u64,
    /// Share of what was looked at that lies within frames.
    load_percent: f64,
    /// As measured.
    bit_rate_bps: Option<Frequency>,
    shortest_gap_s: Option<Time>,
    mean_gap_s: Option<Time>,
    longest_gap_s: Option<Time>,
}

const COLUMNS: &[&str] = &[
    "bus",
    "kind",
    "frames",
    "faulty",
    "data_bytes",
    "load_percent",
    "bit_rate_bps",
    "shortest_gap_s",
    "mean_gap_s",
    "longest_gap_s",
];

/// Counts as a list, since their names are not the contract's.
fn counted<S: Serializer>(of: &BTreeMap<&'static str, u64>, serializer: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Count {
        kind: &'static str,
        count: u64,
    }
    serializer.collect_seq(of.iter().map(|(kind, count)| Count { kind, count: *count }))
}

/// Writes a row for each bus; how many frames there are.
pub(super) fn write(listing: Listing<'_>, out: &mut Out) -> Result<u64, Failure> {
    let (args, capture, ticks, buses) = (listing.args, listing.capture, listing.ticks, listing.buses.clone());
    let mut seen: Vec<FrameStatistics> = buses.iter().map(|_| FrameStatistics::default()).collect();
    let working = Working::on("reading the buses");
    for listed in listing {
        if let Some(place) = buses.iter().position(|bus| std::ptr::eq(*bus, listed.bus)) {
            seen[place].add(&listed.frame);
        }
    }
    drop(working);
    let said = buses.iter().zip(&seen).map(|(bus, seen)| said(capture, bus, seen, ticks));
    let said = Traffic { file: args.source.file.display().to_string(), buses: said.collect() };
    let table = Table { format: args.format, output: None, replace: false };
    let document = Document::new("traffic", &said);
    let text = || text(capture, &said.buses);
    write_table(&table, out, &document, COLUMNS, |rows| rows.each(&said.buses), text)?;
    Ok(seen.iter().map(|seen| seen.frames).sum())
}

fn said(capture: &Capture, bus: &SerialBus, seen: &FrameStatistics, ticks: u64) -> Said {
    let time = |ticks: u64| capture.base().length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
    Said {
        bus: bus.name().to_string(),
        kind: bus.protocol().name(),
        frames: seen.frames,
        faulty: seen.faulty,
        kinds: seen.kinds.clone(),
        faults: seen.faults.clone(),
        data_bytes: seen.data_bits / 8,
        load_percent: seen.busy as f64 / ticks.max(1) as f64 * 100.0,
        bit_rate_bps: measured_bit_rate(capture, bus),
        shortest_gap_s: seen.gaps.map(|gaps| time(gaps.shortest)),
        mean_gap_s: seen.gaps.and_then(|gaps| capture.base().mean_of(gaps.sum, gaps.count)),
        longest_gap_s: seen.gaps.map(|gaps| time(gaps.longest)),
    }
}

fn counts(of: &BTreeMap<&'static str, u64>) -> String {
    let counts: Vec<String> = of.iter().map(|(kind, count)| format!("{count} {kind}")).collect();
    counts.join(", ")
}

fn text(capture: &Capture, said: &[Said]) -> String {
    let head = [
        "bus",
        "kind",
        "frames",
        "bytes",
        "load",
        "bit rate",
        "shortest gap",
        "longest",
        "mean",
        "what",
        "faults",
    ];
    let mut grid = Grid::new(&head, &[2, 3, 4, 5, 6, 7, 8]);
    let tick = capture.base().tick();
    let rounded = |time: Option<Time>| time.map_or("-".to_string(), |time| time.rounded(tick));
    for bus in said {
        grid.row(vec![
            bus.bus.clone(),
            bus.kind.to_string(),
            bus.frames.to_string(),
            bus.data_bytes.to_string(),
            format!("{:.1} %", bus.load_percent),
            bus.bit_rate_bps.map_or("-".to_string(), |rate| rate.to_string()),
            rounded(bus.shortest_gap_s),
            rounded(bus.longest_gap_s),
            rounded(bus.mean_gap_s),
            counts(&bus.kinds),
            if bus.faults.is_empty() { "none".to_string() } else { counts(&bus.faults) },
        ]);
    }
    format!("{}\n", grid.text())
}
