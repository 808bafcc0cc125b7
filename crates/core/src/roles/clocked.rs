//! Buses with a clock.

use super::track::{Alignment, Burst, Track};
use super::{BusGuess, Candidate, Reading, Record};
use crate::decode::{ClockedConfig, I2cConfig, I2sConfig, Protocol, SpiConfig, SpiData};
use crate::diagnose::Sureness;
use crate::line::{Level, LineId};
use crate::quantity::Time;

/// Share of a clock's pulses that are alike.
const REGULAR: f64 = 0.55;
/// Fewest edges of a clock.
const FEWEST_CLOCKS: usize = 32;
/// A rest so many times as long as the clock's pulses parts words.
const REST: u64 = 6;

/// What pairs and groups of lines may be, with one of them as their clock.
pub(super) fn candidates(record: &Record<'_>, tracks: &[Track]) -> Vec<Candidate> {
    let mut found = Vec::new();
    for clock in tracks.iter().filter(|track| track.edges.len() >= FEWEST_CLOCKS) {
        for data in tracks.iter().filter(|data| data.line != clock.line) {
            found.extend(two_wires(record, clock, data));
            found.extend(proven(record, clock, data));
        }
        if clock.regularity() < REGULAR {
            continue;
        }
        found.extend(sound(record, clock, tracks));
        let mut selects = 0;
        for select in tracks.iter().filter(|select| select.line != clock.line) {
            let selected = selected(record, clock, select, tracks);
            selects += usize::from(selected.is_some());
            found.extend(selected);
        }
        if selects == 0 {
            found.extend(unselected(record, clock, tracks));
        }
    }
    found
}

fn of(
    record: &Record<'_>,
    protocol: Protocol,
    lines: &[LineId],
    (sureness, rank): (Sureness, u32),
    reading: Reading,
    reasons: Vec<String>,
) -> Option<Candidate> {
    let bus = record.bus(protocol, lines.to_vec())?;
    let guess = BusGuess { bus, sureness, reasons, open: Vec::new(), frames: reading.whole };
    Some(Candidate { guess, own: lines.to_vec(), shared: Vec::new(), rank })
}

fn two_wires(record: &Record<'_>, clock: &Track, data: &Track) -> Option<Candidate> {
    // Data changes while the clock is high at starts and stops only.
    let high = data.edges.iter().filter(|(at, _)| clock.high_at(*at) && clock.high_at(at.saturating_sub(1)));
    let high = high.count();
    if high < 2 || high * 2 > data.edges.len() || clock.edges.len() < 4 * high {
        return None;
    }
    let protocol = Protocol::I2c(I2cConfig::default());
    let lines = [clock.line, data.line];
    let reading = record.read(&protocol, &lines).filter(|reading| reading.is_clean(2))?;
    // Nine clocks for each byte, and one for a stop or a repeated start.
    let bus = record.bus(protocol.clone(), lines.to_vec())?;
    let frames = bus.frames(record.capture, crate::time::Tick(0)..record.end).ok()?;
    let bits: usize = frames.map(|frame| 9 * acknowledges(&frame) + 1).sum();
    let clocks = clock.edges.len() / 2;
    if bits * 10 < clocks * 9 {
        return None;
    }
    let (scl, sda) = (record.name(clock.line), record.name(data.line));
    let reasons = vec![
        format!("{sda} changes while {scl} is high at {high} starts and stops only"),
        format!("{} transfers of whole bytes, each with its acknowledge", reading.whole),
    ];
    let sure = if reading.whole >= 5 && reading.faulty == 0 { Sureness::Certain } else { Sureness::Likely };
    of(record, protocol, &lines, (sure, 1), reading, reasons)
}

fn acknowledges(frame: &crate::bus::Frame) -> usize {
    frame.fields.iter().filter(|field| matches!(field.name, "ack" | "nack")).count()
}

/// Kinds whose frames prove themselves: by a preamble and a turnaround, by parity and an answer.
fn proven(record: &Record<'_>, clock: &Track, data: &Track) -> Option<Candidate> {
    // Both begin with a long row of ones.
    let rests = data.edges.iter().zip(data.edges.iter().map(|edge| Some(edge.0)).skip(1).chain([None]));
    let mut rows =
        rests.filter(|((_, high), _)| *high).map(|((from, _), to)| (*from, to.unwrap_or(u64::MAX)));
    let begins_high = data.edges.first().is_some_and(|(at, high)| !high && clock.within(0, *at).len() >= 64);
    if clock.regularity() < REGULAR
        || !(begins_high || rows.any(|(from, to)| clock.within(from, to).len() >= 64))
    {
        return None;
    }
    let lines = [clock.line, data.line];
    for (protocol, what) in [
        (Protocol::Mdio, "frames with preamble and turnaround"),
        (Protocol::Swd, "requests with right parity and an answer"),
    ] {
        let reading = record.read(&protocol, &lines).filter(|reading| reading.is_clean(3));
        let Some(reading) = reading else { continue };
        // Nearly all clocks belong to frames or to what parts them.
        let share = if protocol == Protocol::Mdio { 32 * 10 / 4 } else { 46 * 10 / 7 };
        if reading.whole * share < clock.edges.len() / 2 {
            continue;
        }
        let reason = format!("{} {what}", reading.whole);
        // A few may fit by chance.
        let sure = match reading.whole {
            8.. => Sureness::Certain,
            6.. => Sureness::Likely,
            _ => Sureness::Possible,
        };
        return of(record, protocol, &lines, (sure, 1), reading, vec![reason]);
    }
    None
}

/// A clock without rests, a line that changes every so many clocks, and data.
fn sound(record: &Record<'_>, clock: &Track, tracks: &[Track]) -> Option<Candidate> {
    let rest = clock.quarter().saturating_mul(REST).max(4);
    let longest = clock.bursts(rest).into_iter().max_by_key(|burst| burst.edges)?;
    if longest.edges * 10 < clock.edges.len() as u64 * 9 {
        return None;
    }
    let stretch = [(longest.start, longest.end + 1)];
    for select in tracks.iter().filter(|select| select.line != clock.line) {
        let halves: Vec<usize> =
            select.edges.windows(2).map(|pair| clock.within(pair[0].0, pair[1].0 + 1).len()).collect();
        let Some(common) = halves.get(halves.len() / 2).copied() else { continue };
        let alike = halves.iter().filter(|half| half.abs_diff(common) <= 1).count();
        if halves.len() < 8 || alike * 20 < halves.len() * 19 || !(16..=128).contains(&common) {
            continue;
        }
        let data = tracks.iter().filter(|data| data.line != clock.line && data.line != select.line);
        // What toggles as evenly as a clock is a counter's, not sound.
        let data = data.filter(|data| data.regularity() < 0.9);
        let data = data.filter(|data| Alignment::of(clock, data, &stretch).side() == Some(false));
        let Some(data) = data.max_by_key(|data| data.edges.len()) else { continue };
        let slots = (common / 2) as u32;
        // Samples of so many bits as the slot has clocks; a shorter one leaves the rest at zero.
        let protocol = Protocol::I2s(I2sConfig::new(slots.min(64)));
        let lines = [clock.line, select.line, data.line];
        let reading = record.read(&protocol, &lines).filter(|reading| reading.is_clean(8));
        let Some(reading) = reading else { continue };
        let (bclk, ws, sd) = (record.name(clock.line), record.name(select.line), record.name(data.line));
        let reasons = vec![
            format!("{bclk} runs without rest, and {ws} changes every {slots} of its clocks"),
            format!("{sd} changes with its falling edge"),
        ];
        let mut found = of(record, protocol, &lines, (Sureness::Likely, 3), reading, reasons)?;
        found
            .guess
            .open
            .push(format!("bits of a sample: up to {slots}; justified: 'delayed' by a clock, or 'left'"));
        return Some(found);
    }
    None
}

/// The words that all bursts of a clock hold, in bits, if there are any.
fn word_bits(counts: &[u64]) -> Option<u32> {
    let gcd = counts.iter().fold(0, |a, b| gcd(a, *b));
    match gcd {
        _ if counts.iter().all(|count| count.is_multiple_of(8)) => Some(8),
        4..=64 => u32::try_from(gcd).ok(),
        _ => None,
    }
}

fn gcd(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { gcd(b, a % b) }
}

/// Stretches in which a clock runs: when, and how many clocks each has. Nearly all of them are whole.
struct Runs {
    stretches: Vec<(u64, u64)>,
    bits: u32,
    /// The level at which the clock rests.
    rests_high: bool,
}

impl Runs {
    fn new(clock: &Track, stretches: Vec<(u64, u64)>, counts: Vec<u64>) -> Option<Runs> {
        // What the record cuts off does not count.
        let inner = if counts.len() > 2 { &counts[1..counts.len() - 1] } else { &counts[..] };
        if inner.is_empty() || inner.iter().any(|edges| !edges.is_multiple_of(2)) {
            return None;
        }
        let clocks: Vec<u64> = inner.iter().map(|edges| edges / 2).collect();
        let bits = word_bits(&clocks)?;
        let high = stretches.iter().filter(|(from, _)| clock.high_at(*from)).count();
        let rests_high = high * 2 > stretches.len();
        Some(Runs { stretches, bits, rests_high })
    }

    /// The mode of clocked serial whose data is put out with this edge.
    fn mode(&self, shifts_rising: bool) -> u8 {
        u8::from(self.rests_high) << 1 | u8::from(shifts_rising != self.rests_high)
    }
}

/// After which edge of the clock these lines change.
fn changes_after(names: &[&str], shifts_rising: bool) -> String {
    let change = if names.len() == 1 { "changes" } else { "change" };
    let edge = if shifts_rising { "rising" } else { "falling" };
    format!("{} {change} after its {edge} edge", names.join(" and "))
}

/// The lines that carry data of a clock, by the edge after which they change.
fn data_of<'t>(
    clock: &Track,
    tracks: &'t [Track],
    not: &[LineId],
    runs: &Runs,
) -> (Option<bool>, Vec<(&'t Track, Alignment)>) {
    let others = tracks.iter().filter(|track| !not.contains(&track.line));
    let aligned: Vec<(&Track, Alignment, bool)> = others
        .filter_map(|track| {
            let found = Alignment::of(clock, track, &runs.stretches);
            // A line with a life of its own is none of them.
            let inside = found.after_rise + found.after_fall + found.ahead;
            let own = found.outside > inside / 2 + 4;
            Some((track, found, found.side().filter(|_| !own)?))
        })
        .collect();
    let edges = |rising: bool| -> u64 {
        let of = aligned.iter().filter(|(.., side)| *side == rising);
        of.map(|(_, found, _)| found.after_rise + found.after_fall).sum()
    };
    let side = edges(true) > edges(false);
    if aligned.is_empty() {
        return (None, Vec::new());
    }
    let same = aligned.into_iter().filter(|(.., own)| *own == side);
    (Some(side), same.map(|(track, found, _)| (track, found)).collect())
}

/// A clock that runs only while another line has one level.
fn selected(record: &Record<'_>, clock: &Track, select: &Track, tracks: &[Track]) -> Option<Candidate> {
    if select.edges.len() * 4 > clock.edges.len() {
        return None;
    }
    let inside = clock.edges.iter().filter(|(at, _)| select.high_at(at.saturating_sub(1))).count();
    let all = clock.edges.len();
    let active_high = match (inside * 50 >= all * 49, (all - inside) * 50 >= all * 49) {
        (true, false) => true,
        (false, true) => false,
        _ => return None,
    };
    // The selections, with the clocks that each has.
    let mut selections = Vec::new();
    let mut counts = Vec::new();
    let mut begun = None;
    for (at, high) in &select.edges {
        if *high == active_high {
            begun = Some(*at);
        } else if let Some(from) = begun.take() {
            let edges = clock.within(from, *at).len() as u64;
            if edges > 0 {
                selections.push((from, *at));
                counts.push(edges);
            }
        }
    }
    let all_selections = selections.len();
    if all_selections < 2 {
        return None;
    }
    let runs = Runs::new(clock, selections, counts)?;
    let (side, mut data) = data_of(clock, tracks, &[clock.line, select.line], &runs);
    // Most lines that follow a clock are its data; of more than two, those that follow it most.
    data.sort_by_key(|(track, found)| (std::cmp::Reverse(found.after_rise + found.after_fall), track.line.0));
    data.truncate(2);
    data.sort_by_key(|(track, _)| track.line.0);
    let (Some(shifts_rising), false) = (side, data.is_empty()) else { return None };
    let mode = runs.mode(shifts_rising);
    let data: Vec<&Track> = data.into_iter().map(|(track, _)| track).collect();
    let level = if active_high { Level::High } else { Level::Low };
    let (data, asks) = directions(&runs, data);
    let kind = if data.len() == 2 { SpiData::Both } else { SpiData::Mosi };
    let protocol = Protocol::Spi(SpiConfig::new(mode).bits(runs.bits).select(Some(level)).data(kind));
    let lines: Vec<LineId> =
        [clock.line, select.line].into_iter().chain(data.iter().map(|track| track.line)).collect();
    let reading = record.read(&protocol, &lines).filter(|reading| reading.is_clean(2))?;
    let (sck, cs) = (record.name(clock.line), record.name(select.line));
    let names: Vec<&str> = data.iter().map(|track| record.name(track.line)).collect();
    let reasons = vec![
        format!(
            "{sck} runs only while {cs} is {level}: {all_selections} selections of whole words of {} bits",
            runs.bits
        ),
        format!("it rests {}", if runs.rests_high { "high" } else { "low" }),
        changes_after(&names, shifts_rising),
    ];
    let sure = reading.faulty == 0 && reading.whole >= 10 && all_selections >= 4;
    let sureness = if sure { Sureness::Certain } else { Sureness::Likely };
    let mut found = of(record, protocol, &lines, (sureness, 2), reading, reasons)?;
    match (asks, data.len()) {
        (true, _) => found.guess.reasons.push(format!("{} speaks first, {} answers", names[0], names[1])),
        (false, 1) => found.guess.open.push(format!("whether {} is mosi or miso", names[0])),
        (false, _) => {
            found.guess.open.push(format!("which of {} is mosi, and which miso", names.join(" and ")));
        }
    }
    found.own = vec![select.line];
    found.shared = lines.into_iter().filter(|line| *line != select.line).collect();
    Some(found)
}

/// Data lines with the one that speaks first in front, and whether that shows: in most stretches it changes in
/// the first word, and the other one does not.
fn directions<'t>(runs: &Runs, data: Vec<&'t Track>) -> (Vec<&'t Track>, bool) {
    let [a, b] = data[..] else { return (data, false) };
    let (mut first, mut second) = (0, 0);
    for (from, to) in &runs.stretches {
        let quiet = |track: &Track| track.within(*from, from + (to - from) / 4).is_empty();
        match (quiet(a), quiet(b)) {
            (false, true) => first += 1,
            (true, false) => second += 1,
            _ => {}
        }
    }
    let all = runs.stretches.len();
    match (first, second) {
        (first, 0) if first * 2 > all => (vec![a, b], true),
        (0, second) if second * 2 > all => (vec![b, a], true),
        _ => (vec![a, b], false),
    }
}

/// A clock that runs in bursts, and a line that follows it, with nothing that selects.
fn unselected(record: &Record<'_>, clock: &Track, tracks: &[Track]) -> Option<Candidate> {
    let rest = clock.quarter().saturating_mul(REST).max(4);
    let bursts: Vec<Burst> = clock.bursts(rest);
    if bursts.len() < 4 {
        return None;
    }
    // Data may be put out ahead of the first edge.
    let stretches = bursts.iter().map(|burst| (burst.start.saturating_sub(rest / 2), burst.end + rest / 2));
    let counts = bursts.iter().map(|burst| burst.edges).collect();
    let runs = Runs::new(clock, stretches.collect(), counts)?;
    let (side, mut data) = data_of(clock, tracks, &[clock.line], &runs);
    data.sort_by_key(|(track, found)| (std::cmp::Reverse(found.after_rise + found.after_fall), track.line.0));
    data.truncate(2);
    data.sort_by_key(|(track, _)| track.line.0);
    let shifts_rising = side.filter(|_| !data.is_empty())?;
    let gap = record.capture.base().length_of(i64::try_from(rest).ok()?);
    let gap = Some(two_digits(gap)?);
    let lines: Vec<LineId> =
        [clock.line].into_iter().chain(data.iter().map(|(track, _)| track.line)).collect();
    let mode = runs.mode(shifts_rising);
    let protocol = match data.len() {
        1 => Protocol::Clocked(ClockedConfig::new(runs.bits).rising(!shifts_rising).gap(gap)),
        _ => Protocol::Spi(SpiConfig::new(mode).bits(runs.bits).select(None).gap(gap)),
    };
    let reading = record.read(&protocol, &lines).filter(|reading| reading.is_clean(4))?;
    let names: Vec<&str> = data.iter().map(|(track, _)| record.name(track.line)).collect();
    let reasons = vec![
        format!(
            "{} runs in {} bursts of whole words of {} bits",
            record.name(clock.line),
            bursts.len(),
            runs.bits
        ),
        changes_after(&names, shifts_rising),
    ];
    let sureness = if reading.whole >= 20 { Sureness::Likely } else { Sureness::Possible };
    let mut found = of(record, protocol, &lines, (sureness, 4), reading, reasons)?;
    found.guess.open.push("whether a select line that was not recorded parts the words".to_string());
    if names.len() == 2 {
        found.guess.open.push(format!("which of {} is mosi, and which miso", names.join(" and ")));
    }
    Some(found)
}

/// A time rounded up to two digits, for people to read.
pub(super) fn two_digits(time: Time) -> Option<Time> {
    time.to_rational().up_to_two_digits().map(Time::from_rational)
}
