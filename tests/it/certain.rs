//! Certain frames: true signals in continuous time, sampled at any rate and phase, with skew, spikes and
//! senders that are off, against what is read of them.

use deep_tap::bus::{FieldKind, Frame};
use deep_tap::capture::Capture;
use deep_tap::decode::{CanConfig, ClockedConfig, I2cConfig, Protocol, SerialBus, SpiConfig, UartConfig};
use deep_tap::line::LineId;
use deep_tap::quantity::{Rational, Time};

use crate::senders::{BIT, CanSender, Ps, Random, Sent, World, frequency};

fn payload(frame: &Frame) -> Vec<u64> {
    let carried = |kind| matches!(kind, FieldKind::Data | FieldKind::Address);
    frame.fields.iter().filter(|field| carried(field.kind)).map(|field| field.value).collect()
}

#[derive(Debug, Default)]
struct Score {
    sent: u64,
    certain: u64,
    wrong: Vec<String>,
}

/// Reads a world, and counts frames that are certain, and those of them that were never sent.
fn read(
    world: &World,
    protocol: &Protocol,
    lines: &[usize],
    record: &Capture,
    phase: &str,
    score: &mut Score,
) {
    let lines = lines.iter().map(|line| LineId(*line)).collect();
    let bus = SerialBus::of_lines("bus", protocol.clone(), lines).unwrap();
    let tick = (record.base().tick().to_f64() * 1e12).round() as Ps;
    score.sent += world.sent.len() as u64;
    for frame in bus.frames(record, record.range()).unwrap().filter(|frame| frame.certain) {
        let at = frame.start.0 as Ps * tick;
        let near = |sent: &&Sent| (sent.at - at).abs() < BIT / 2 + 3 * tick;
        let as_sent = world.sent.iter().filter(near).any(|sent| sent.data == payload(&frame));
        score.certain += u64::from(as_sent);
        if !as_sent {
            score.wrong.push(format!("{phase}: {frame} at {at} ps"));
        }
    }
}

/// How a round is disturbed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Round {
    /// A sender within 2 %, eight samples per bit or more.
    Calm,
    /// A sender within 6 %, any rate.
    Off,
    /// The same with spikes.
    Spikes,
}

fn rounds(round: Round, frames: u64) -> Score {
    let mut score = Score::default();
    let mut random = Random(0x9e37_79b9_7f4a_7c15 ^ round as u64);
    while score.sent < frames {
        let percent = if round == Round::Calm { 20 } else { 60 };
        let bit = BIT + BIT * (random.below(2 * percent + 1) - percent) / 1000;
        let per_bit = match round {
            Round::Calm => 8000 + random.below(32_000),
            Round::Off | Round::Spikes => 1500 + random.below(40_000),
        };
        let tick = BIT * 1000 / per_bit;
        let skew = if random.chance(50) { random.below(tick / 2) } else { 0 };
        // Of calm senders, the controller area network is certain less often: it takes bits late.
        let kind = random.below(if round == Round::Calm { 4 } else { 5 });
        // A sender of the controller area network is off by 1.58 % at the most, whatever its bit timing.
        let can_bit = BIT + BIT * (random.below(31) - 15) / 1000;
        let mode = random.below(4) as u8;
        let spi = Protocol::Spi(SpiConfig::new(mode));
        let gap = Time::from_rational(Rational::new(6, 1_000_000).unwrap());
        let clocked = ClockedConfig::new(8).gap(Some(gap)).rising(matches!(mode, 0 | 3));
        let (mut world, protocol, lines, element): (World, _, &[usize], _) = match kind {
            0 => (
                World::uart(&mut random, bit, 40),
                Protocol::Uart(UartConfig::new(frequency(BIT))),
                &[0],
                BIT * 9 / 10,
            ),
            1 => (World::words(&mut random, mode, true, 40), spi, &[0, 1, 2, 3], BIT / 2),
            2 => (World::words(&mut random, mode, false, 40), Protocol::Clocked(clocked), &[0, 2], BIT / 2),
            4 => (
                World::can(&mut random, can_bit, 15, CanSender::Heard),
                Protocol::Can(CanConfig::new(frequency(BIT))),
                &[0],
                BIT * 9 / 10,
            ),
            _ => {
                (World::two_wires(&mut random, 40), Protocol::I2c(I2cConfig::default()), &[0, 1], BIT * 2 / 5)
            }
        };
        if round == Round::Spikes {
            let count = random.below(8);
            world.spikes(&mut random, count, element);
        }
        if kind == 2 {
            world.sent.iter_mut().for_each(|sent| sent.data.truncate(1));
        }
        let record = world.sampled(&mut random, tick, skew);
        let name =
            format!("{round:?} {} mode {mode}, {per_bit} per thousand bits, skew {skew}", protocol.name());
        // A bus that is too slow to be decoded has no frames at all.
        if protocol.decoder(record.base()).is_ok() {
            read(&world, &protocol, lines, &record, &name, &mut score);
        }
    }
    score
}

/// `FRAMES=1000000 cargo test --release --test it certain` is the proof.
fn wanted() -> u64 {
    std::env::var("FRAMES").ok().and_then(|frames| frames.parse().ok()).unwrap_or(60_000) / 3
}

#[test]
fn a_certain_frame_is_never_wrong() {
    for round in [Round::Off, Round::Spikes] {
        let score = rounds(round, wanted());
        println!("{round:?}: {} of {} certain, {} wrong", score.certain, score.sent, score.wrong.len());
        assert_eq!(score.wrong.len(), 0, "{:#?}", &score.wrong[..score.wrong.len().min(10)]);
        assert!(score.certain * 3 > score.sent, "{} of {}", score.certain, score.sent);
    }
}

#[test]
fn what_is_sampled_well_and_undisturbed_is_certain() {
    let score = rounds(Round::Calm, wanted());
    println!("calm: {} of {} certain, {} wrong", score.certain, score.sent, score.wrong.len());
    assert_eq!(score.wrong, Vec::<String>::new());
    assert!(score.certain * 1000 >= score.sent * 999, "{} of {}", score.certain, score.sent);
}
