//! What each bus carried, in numbers.

use std::collections::BTreeMap;

use deep_tap::capture::Capture;
use deep_tap::decode::{SerialBus, Statistics};
use deep_tap::diagnose::measured_bit_rate;
use deep_tap::time::{Frequency, Time};
use serde::Serialize;

use super::{Listing, length};
use crate::args::{self, Table};
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
    /// Share of the record that lies within frames.
    load: f64,
    /// Bits per second, as measured.
    bit_rate: Option<Frequency>,
    shortest_gap: Option<Time>,
    mean_gap: Option<f64>,
    longest_gap: Option<Time>,
}

/// Writes a row for each bus; how many frames there are.
pub(super) fn write(
    args: &args::Frames,
    capture: &Capture,
    buses: &[&SerialBus],
    listing: Listing<'_>,
    out: &mut Out,
) -> Result<u64, Failure> {
    let mut seen: Vec<Statistics> = buses.iter().map(|_| Statistics::default()).collect();
    for listed in listing {
        if let Some(place) = buses.iter().position(|bus| std::ptr::eq(*bus, listed.bus)) {
            seen[place].add(&listed.frame);
        }
    }
    let said: Vec<Said> = buses.iter().zip(&seen).map(|(bus, seen)| said(capture, bus, seen)).collect();
    let table = Table { format: args.format, output: None, replace: false };
    write_table(&table, out, &said, || rows(&said), || text(capture, &said))?;
    Ok(seen.iter().map(|seen| seen.frames).sum())
}

fn said(capture: &Capture, bus: &SerialBus, seen: &Statistics) -> Said {
    let time = |ticks: u64| length(capture, i64::try_from(ticks).unwrap_or(i64::MAX));
    let second = capture.base().tick().to_f64();
    Said {
        bus: bus.name.clone(),
        kind: bus.protocol.name(),
        frames: seen.frames,
        faulty: seen.faulty,
        kinds: seen.kinds.clone(),
        faults: seen.faults.clone(),
        data_bytes: seen.data_bits / 8,
        load: seen.busy as f64 / capture.len().max(1) as f64,
        bit_rate: measured_bit_rate(capture, bus),
        shortest_gap: seen.gaps.map(|gaps| time(gaps.shortest)),
        mean_gap: seen.gaps.map(|gaps| gaps.sum as f64 / gaps.count.max(1) as f64 * second),
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
            bus.mean_gap.map_or(String::new(), |gap| format!("{gap:e}")),
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
        let mean = bus.mean_gap.and_then(|gap| format!("{:.0} ns", gap * 1e9).parse::<Time>().ok());
        grid.row(vec![
            bus.bus.clone(),
            bus.kind.to_string(),
            bus.frames.to_string(),
            bus.data_bytes.to_string(),
            format!("{:.1} %", bus.load * 100.0),
            bus.bit_rate.map_or("-".to_string(), |rate| rate.to_string()),
            rounded(bus.shortest_gap),
            rounded(bus.longest_gap),
            rounded(mean),
            counts(&bus.kinds),
            if bus.faults.is_empty() { "none".to_string() } else { counts(&bus.faults) },
        ]);
    }
    format!("{}\n", grid.text())
}
