//! What each bus carried, in numbers.

use std::collections::BTreeMap;

use deep_tap::capture::Capture;
use deep_tap::decode::{FrameStatistics, SerialBus};
use deep_tap::diagnose::measured_bit_rate;
use deep_tap::quantity::{Frequency, Time};
use serde::Serialize;

use super::Listing;
use crate::args::Table;
use crate::errors::Failure;
use crate::output::{Grid, Out, write_table};

/// One bus, as JSON has it: times in seconds.
#[derive(Serialize)]
struct Said {
    bus: String,
    kind: &'static str,
    frames: u64,
    faulty: u64,
    kinds: BTreeMap<&'static str, u64>,
    faults: BTreeMap<&'static str, u64>,
    data_bytes: u64,
    /// Share of what was looked at that lies within frames.
    load: f64,
    /// Bits per second, as measured.
    bit_rate: Option<Frequency>,
    shortest_gap: Option<Time>,
    mean_gap: Option<Time>,
    longest_gap: Option<Time>,
}

/// Writes a row for each bus; how many frames there are.
pub(super) fn write(listing: Listing<'_>, out: &mut Out) -> Result<u64, Failure> {
    let (args, capture, ticks, buses) = (listing.args, listing.capture, listing.ticks, listing.buses.clone());
    let mut seen: Vec<FrameStatistics> = buses.iter().map(|_| FrameStatistics::default()).collect();
    for listed in listing {
        if let Some(place) = buses.iter().position(|bus| std::ptr::eq(*bus, listed.bus)) {
            seen[place].add(&listed.frame);
        }
    }
    let said: Vec<Said> =
        buses.iter().zip(&seen).map(|(bus, seen)| said(capture, bus, seen, ticks)).collect();
    let table = Table { format: args.format, output: None, replace: false };
    write_table(&table, out, &said, || rows(&said), || text(capture, &said))?;
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
        load: seen.busy as f64 / ticks.max(1) as f64,
        bit_rate: measured_bit_rate(capture, bus),
        shortest_gap: seen.gaps.map(|gaps| time(gaps.shortest)),
        mean_gap: seen.gaps.and_then(|gaps| capture.base().mean_of(gaps.sum, gaps.count)),
        longest_gap: seen.gaps.map(|gaps| time(gaps.longest)),
    }
}

fn counts(of: &BTreeMap<&'static str, u64>) -> String {
    let counts: Vec<String> = of.iter().map(|(kind, count)| format!("{count} {kind}")).collect();
    counts.join(", ")
}

fn rows(said: &[Said]) -> Vec<Vec<String>> {
    let head = [
        "bus",
        "kind",
        "frames",
        "faulty",
        "kinds",
        "faults",
        "data_bytes",
        "load",
        "bit_rate_hz",
        "shortest_gap_s",
        "mean_gap_s",
        "longest_gap_s",
    ];
    let mut rows = vec![head.map(str::to_string).to_vec()];
    let seconds = |time: Option<Time>| time.map_or(String::new(), |time| format!("{:e}", time.to_f64()));
    for bus in said {
        rows.push(vec![
            bus.bus.clone(),
            bus.kind.to_string(),
            bus.frames.to_string(),
            bus.faulty.to_string(),
            counts(&bus.kinds),
            counts(&bus.faults),
            bus.data_bytes.to_string(),
            format!("{:.6}", bus.load),
            bus.bit_rate.map_or(String::new(), |rate| format!("{}", rate.to_f64())),
            seconds(bus.shortest_gap),
            seconds(bus.mean_gap),
            seconds(bus.longest_gap),
        ]);
    }
    rows
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
            format!("{:.1} %", bus.load * 100.0),
            bus.bit_rate.map_or("-".to_string(), |rate| rate.to_string()),
            rounded(bus.shortest_gap),
            rounded(bus.longest_gap),
            rounded(bus.mean_gap),
            counts(&bus.kinds),
            if bus.faults.is_empty() { "none".to_string() } else { counts(&bus.faults) },
        ]);
    }
    format!("{}\n", grid.text())
}
