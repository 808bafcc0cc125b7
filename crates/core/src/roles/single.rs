//! Buses of one line.

use super::clocked::two_digits;
use super::track::Track;
use super::{BusGuess, Candidate, Reading, Record};
use crate::bus::Frame;
use crate::decode::{CanConfig, LinConfig, Parity, Protocol, PulsesConfig, UartConfig};
use crate::diagnose::{Sureness, bit_rate_of};
use crate::quantity::{Frequency, Rational};
use crate::time::Tick;

/// Bit rates that are in use, in hertz.
const CAN_RATES: [i64; 9] = [10_000, 20_000, 50_000, 100_000, 125_000, 250_000, 500_000, 800_000, 1_000_000];
const LIN_RATES: [i64; 4] = [2400, 9600, 10_400, 19_200];

/// What each line may be by itself.
pub(super) fn candidates(record: &Record<'_>, tracks: &[Track]) -> Vec<Candidate> {
    tracks.iter().flat_map(|track| of_line(record, track)).collect()
}

fn of_line(record: &Record<'_>, track: &Track) -> Vec<Candidate> {
    let mut found = Vec::new();
    found.extend(one_wire(record, track));
    found.extend(network(record, track));
    found.extend(local(record, track));
    found.extend(lamps(record, track));
    if found.is_empty() {
        found.extend(bytes(record, track));
    }
    found
}

/// A guess about one line.
fn guess(
    record: &Record<'_>,
    track: &Track,
    protocol: Protocol,
    (sureness, rank): (Sureness, u32),
    reading: Reading,
    reason: String,
) -> Option<Candidate> {
    let bus = record.bus(protocol, vec![track.line])?;
    let guess = BusGuess { bus, sureness, reasons: vec![reason], open: Vec::new(), frames: reading.whole };
    Some(Candidate { guess, own: vec![track.line], shared: Vec::new(), rank })
}

/// What a controller may say first, after a reset.
const ROM_COMMANDS: [u64; 7] = [0x33, 0x55, 0xf0, 0xec, 0xcc, 0x3c, 0x69];

fn one_wire(record: &Record<'_>, track: &Track) -> Option<Candidate> {
    let reading = record.read(&Protocol::OneWire, &[track.line]).filter(|reading| reading.is_clean(3))?;
    let bus = record.bus(Protocol::OneWire, vec![track.line])?;
    let (mut resets, mut chosen) = (0, 0);
    for frame in bus.frames(record.capture, Tick(0)..record.end).ok()? {
        resets += usize::from(frame.kind == "reset");
        // Some part is chosen after each reset, by a command that there is.
        let command = frame.field("command").or(frame.field("data").filter(|_| chosen < resets));
        match command {
            Some(command) if ROM_COMMANDS.contains(&command.value) => chosen += 1,
            Some(_) if chosen < resets => return None,
            _ => {}
        }
    }
    if resets == 0 || chosen + 1 < resets {
        return None;
    }
    let name = record.name(track.line);
    let reason =
        format!("{name} has {resets} resets, commands that choose a part after them, and whole bytes");
    let sure = if reading.whole >= 12 { Sureness::Certain } else { Sureness::Likely };
    guess(record, track, Protocol::OneWire, (sure, 1), reading, reason)
}

/// Lengths that are alike but for what a sample, and a poor sender, make of them: their mean.
fn alike(lengths: &[u64]) -> Option<f64> {
    let (least, most) = (*lengths.first()?, *lengths.last()?);
    let mean = lengths.iter().sum::<u64>() as f64 / lengths.len() as f64;
    ((most - least) as f64 <= mean * 0.25 + 2.0).then_some(mean)
}

/// Pulses of two widths at one pace, in bursts of whole words.
fn lamps(record: &Record<'_>, track: &Track) -> Option<Candidate> {
    let rises: Vec<(u64, u64)> = track
        .edges
        .windows(2)
        .filter(|pair| pair[0].1)
        .map(|pair| (pair[0].0, pair[1].0 - pair[0].0))
        .collect();
    if rises.len() < 48 {
        return None;
    }
    let mut widths: Vec<u64> = rises.iter().map(|(_, width)| *width).collect();
    widths.sort_unstable();
    let split = (1..widths.len()).max_by_key(|at| widths[*at] - widths[at - 1])?;
    let (zero, one) = (alike(&widths[..split])?, alike(&widths[split..])?);
    let mut periods: Vec<u64> = rises.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
    periods.sort_unstable();
    let pace = *periods.get(periods.len() / 2)?;
    let inner: Vec<u64> = periods.iter().copied().filter(|period| *period < 4 * pace).collect();
    alike(&inner)?;
    if !(1.4..6.0).contains(&(one / zero)) || inner.len() * 10 < periods.len() * 9 || zero < 3.0 {
        return None;
    }
    let (mut counts, mut count) = (Vec::new(), 1u64);
    for pair in rises.windows(2) {
        match pair[1].0 - pair[0].0 < 4 * pace {
            true => count += 1,
            false => counts.push(std::mem::replace(&mut count, 1)),
        }
    }
    counts.push(count);
    let bits = [24, 32, 8].into_iter().find(|bits| counts.iter().all(|count| count % bits == 0))?;
    let base = record.capture.base();
    let time = |ticks: f64| two_digits(base.length_of(ticks.round() as i64));
    let (threshold, rest) = (time((zero + one) / 2.0)?, time(8.0 * pace as f64)?);
    let protocol = Protocol::Pulses(PulsesConfig::new(threshold, rest, bits as u32));
    let reading = record.read(&protocol, &[track.line]).filter(|reading| reading.is_clean(2))?;
    let name = record.name(track.line);
    let reason = format!(
        "{name} has pulses of two widths, about {} and {}, at one pace, in bursts of whole words of {bits} bits",
        time(zero)?,
        time(one)?
    );
    guess(record, track, protocol, (Sureness::Likely, 3), reading, reason)
}

fn hertz(rate: i64) -> Frequency {
    Frequency::from_rational(Rational::from(rate))
}

/// Rates near the measured one: one of those in use where there is one.
fn rates(record: &Record<'_>, track: &Track, usual: &[i64]) -> Vec<Frequency> {
    let Some(measured) = bit_rate_of(record.capture, track.line, usual) else {
        return Vec::new();
    };
    // The shortest stretch need not be a single bit.
    let near = usual.iter().filter(|rate| {
        let ratio = **rate as f64 / measured.to_rational().to_f64();
        (0.97..1.03).contains(&ratio) || (1.94..2.06).contains(&ratio)
    });
    let mut rates: Vec<Frequency> = near.map(|rate| hertz(*rate)).collect();
    if !rates.contains(&measured) {
        rates.push(measured);
    }
    rates
}

fn network(record: &Record<'_>, track: &Track) -> Option<Candidate> {
    for rate in rates(record, track, &CAN_RATES) {
        for inverted in [false, true] {
            let protocol = Protocol::Can(CanConfig::new(rate).inverted(inverted));
            let reading = record.read(&protocol, &[track.line]).filter(|reading| reading.is_clean(3));
            let Some(reading) = reading else { continue };
            let name = record.name(track.line);
            let reason = format!("{name} reads as {} frames with right checksums at {rate}", reading.whole);
            return guess(record, track, protocol, (Sureness::Certain, 0), reading, reason);
        }
    }
    None
}

fn local(record: &Record<'_>, track: &Track) -> Option<Candidate> {
    for rate in rates(record, track, &LIN_RATES) {
        for classic in [false, true] {
            let config = LinConfig::new(rate);
            let config = if classic { config.classic(true) } else { config };
            let protocol = Protocol::Lin(config);
            let reading = record.read(&protocol, &[track.line]).filter(|reading| reading.is_clean(3));
            let Some(reading) = reading else { continue };
            let name = record.name(track.line);
            let reason =
                format!("{name} reads as {} frames with break, sync and checksum at {rate}", reading.whole);
            return guess(record, track, protocol, (Sureness::Certain, 0), reading, reason);
        }
    }
    None
}

/// Bytes that make a rate and a format sure.
const SURE_BYTES: usize = 40;

fn bytes(record: &Record<'_>, track: &Track) -> Option<Candidate> {
    // A clock reads as the same byte again and again.
    let pace = track.quarter();
    let same = track.edges.windows(2).filter(|pair| {
        let pulse = pair[1].0 - pair[0].0;
        pulse * 4 >= pace * 3 && pulse * 4 <= pace * 5 + 4
    });
    if same.count() * 10 > track.edges.len() * 8 {
        return None;
    }
    let rate = bit_rate_of(record.capture, track.line, &[])?;
    let usual = bit_rate_of(record.capture, track.line, &crate::diagnose::USUAL_BIT_RATES)?;
    // It rests at the level that its first edge leaves.
    let inverted = track.edges.first().is_some_and(|(_, high)| *high);
    let formats = [
        (7, Parity::Even, "7E1"),
        (7, Parity::Odd, "7O1"),
        (8, Parity::None, "8N1"),
        (8, Parity::Even, "8E1"),
        (8, Parity::Odd, "8O1"),
    ];
    for rate in [usual, rate] {
        for (bits, parity, format) in formats {
            let config = UartConfig::new(rate).data_bits(bits).parity(parity).inverted(inverted);
            let protocol = Protocol::Uart(config);
            // Parity that is right by chance is right half of the time.
            let fewest = if bits == 7 { 16 } else { 3 };
            let reading = record.read(&protocol, &[track.line]).filter(|reading| reading.is_clean(fewest));
            let Some(reading) = reading else { continue };
            let bus = record.bus(protocol.clone(), vec![track.line])?;
            let frames: Vec<Frame> = bus.frames(record.capture, Tick(0)..record.end).ok()?.collect();
            // Short pulses far apart read as bytes, too: real ones have many edges, and many values.
            let mut values: Vec<u64> =
                frames.iter().filter_map(|frame| frame.field("data")).map(|data| data.value).collect();
            let edges = track.edges.len() as f64 / values.len().max(1) as f64;
            values.sort_unstable();
            values.dedup();
            if edges < 3.2 || values.len() < 3 {
                continue;
            }
            let name = record.name(track.line);
            let rests = if inverted { "low" } else { "high" };
            let reason = format!(
                "{name} rests {rests} and reads as {} bytes at {rate}, {format}, nearly all without a fault",
                reading.whole
            );
            let per_bit = record.capture.base().rate().to_f64() / rate.to_rational().to_f64();
            let known = crate::diagnose::USUAL_BIT_RATES.iter().any(|usual| rate == hertz(*usual));
            let enough = per_bit >= 6.0 || record.capture.base().is_exact();
            let sure = reading.faulty == 0 && reading.whole >= SURE_BYTES && values.len() >= 8 && known;
            let sureness = match (sure && enough, reading.whole) {
                (true, _) => Sureness::Certain,
                (false, 12..) if enough => Sureness::Likely,
                _ => Sureness::Possible,
            };
            return guess(record, track, protocol, (sureness, 5), reading, reason);
        }
    }
    None
}
