//! Events of several parts in sampled records, with how sure they are, against what truly happened.

use deep_tap::capture::Capture;
use deep_tap::event::{Certainty, Hit, Program, Scope};
use deep_tap::known::Rule;
use deep_tap::limit::{Kind, Verdict, check};
use deep_tap::line::LineId;
use deep_tap::time::Resolution;

use crate::senders::{BIT, Ps, Random, World};
use crate::support::{bind, capture, limit, pair, time};

const EVENTS: [&str; 16] = [
    "L0 rises then L1 rises",
    "L0 rises then L1 falls within 3 us",
    "L0 rises then L1 rises after 2 us",
    "L0 rises then L0 falls within 2 us",
    "L0 rises then L1 rises 3 times",
    "L0 rises 2 times then L1 changes within 4 us",
    "L0 rises then no L2 rises then L1 rises",
    "L0 falls then no L2 changes then L1 rises within 5 us",
    "L0 rises then no L1 rises within 2 us",
    "L0 rises then no L1 changes within 2 us then L2 rises",
    "L0 rises then L1 rises then L2 rises within 3 us",
    "L0 rises or L1 falls",
    "(L0 rises or L1 rises) then L2 falls within 4 us",
    "L0 rises while L1 high then L2 rises",
    "when L0 high and L1 high then L2 rises within 3 us",
    "L0 high for > 1500 ns then L1 rises",
];

fn hits(record: &Capture, event: &str) -> Vec<Hit> {
    let program =
        Program::compile(event, &Scope::of(record)).unwrap_or_else(|error| panic!("{event}: {error}"));
    let program = program.at(record.base()).unwrap();
    program.hits_with_doubt(record, record.range()).collect()
}

#[derive(Debug, Default)]
struct Score {
    truths: usize,
    certain: usize,
    wrong: Vec<String>,
    missed: Vec<String>,
}

/// One world, recorded with a tick and a skew, against the truth of it.
fn judge(world: &World, random: &mut Random, tick: Ps, skew: Ps, event: &str, score: &mut Score) {
    let exact = world.exact_to(1);
    let truth: Vec<Ps> = hits(&exact, event).iter().map(|hit| hit.tick.0 as Ps).collect();
    let record = world.sampled(random, tick, skew);
    let found = hits(&record, event);
    // A tick is recorded up to a tick, the skew and the phase later.
    let near = |hit: &Hit, at: Ps| {
        let seen = hit.tick.0 as Ps * tick;
        (-2 * tick..=3 * tick + skew).contains(&(seen - at))
    };
    let at = |hit: &Hit| {
        format!("{event}: {} at {} ps, tick {tick}, skew {skew}", hit.tick.0, hit.tick.0 as Ps * tick)
    };
    for hit in found.iter().filter(|hit| hit.certainty == Certainty::Certain) {
        score.certain += 1;
        if !truth.iter().any(|truth| near(hit, *truth)) {
            score.wrong.push(at(hit));
        }
    }
    // What happens with the last samples, or before the first, may not be seen.
    for truth in truth.iter().filter(|at| **at > 5 * tick && **at < world.now - 5 * tick) {
        score.truths += 1;
        if !found.iter().any(|hit| near(hit, *truth)) {
            score.missed.push(format!("{event}: {truth} ps, tick {tick}, skew {skew}: {found:?}"));
        }
    }
}

fn rounds(number: usize, finest: Ps, coarsest: Ps) -> Score {
    let mut random = Random(0x1234_5678_9abc_def1 ^ finest as u64);
    let mut score = Score::default();
    for round in 0..number {
        let tick = finest + random.below(coarsest - finest);
        let skew = if random.chance(50) { random.below(tick / 2) } else { 0 };
        // No pulse is hidden between two samples.
        let closest = (tick + skew) * 11 / 10 + random.below(BIT);
        let world = World::random(&mut random, 3, 40 * closest + 60 * BIT, closest);
        judge(&world, &mut random, tick, skew, EVENTS[round % EVENTS.len()], &mut score);
    }
    score
}

/// `ROUNDS=100000 cargo test --test it sequences:: -- --nocapture` is the proof.
#[test]
fn what_is_certain_of_several_parts_happened_and_what_happened_is_seen() {
    let number = std::env::var("ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(6000);
    for (name, finest, coarsest) in [("fine", 5_000, 60_000), ("coarse", 60_000, 900_000)] {
        let score = rounds(number, finest, coarsest);
        println!(
            "{name}: {} truths, {} certain, {} wrong, {} missed",
            score.truths,
            score.certain,
            score.wrong.len(),
            score.missed.len()
        );
        assert_eq!(score.wrong.len(), 0, "{:#?}", &score.wrong[..score.wrong.len().min(5)]);
        assert_eq!(score.missed.len(), 0, "{:#?}", &score.missed[..score.missed.len().min(5)]);
        let share = if name == "fine" { 60 } else { 10 };
        assert!(score.certain * 100 >= score.truths * share, "{} of {}", score.certain, score.truths);
    }
}

/// Limits between events of several parts: both ends, and the longest time in nanoseconds.
const LIMITS: [(&str, &str, i64); 6] = [
    ("L0 rises then L1 rises", "L2 rises", 2_000),
    ("L0 rises then L1 falls within 3 us", "L0 falls", 1_500),
    ("L0 rises", "L1 rises then L2 changes", 6_000),
    ("L0 rises then no L1 rises within 2 us", "L2 changes", 2_500),
    ("L0 rises or L1 falls", "L2 rises", 3_000),
    ("L0 rises 2 times then L1 changes", "L2 falls", 4_000),
];

#[test]
fn limits_between_events_of_several_parts_are_decided_and_never_wrongly() {
    let mut random = Random(0x0dd_ba11_5eed);
    let (mut decided, mut all) = (0, 0);
    for round in 0..3000 {
        let tick = 10_000 + random.below(200_000);
        let skew = if random.chance(50) { random.below(tick / 2) } else { 0 };
        let closest = (tick + skew) * 11 / 10 + random.below(BIT);
        let world = World::random(&mut random, 3, 8 * closest + 12 * BIT, closest);
        let (from, to, most) = LIMITS[round % LIMITS.len()];
        let most = format!("{} ns", most * (1 + random.below(6)) / 2);
        let limit = limit(Kind::Delay, pair(from, to), None, Some(time(&most)));
        let verdict = |record: &Capture| check(record, &bind(record, &limit), Rule::Proven).unwrap().verdict;
        let (truth, said) = (verdict(&world.exact_to(1)), verdict(&world.sampled(&mut random, tick, skew)));
        all += 1;
        let wrong = match said {
            Verdict::Pass => truth == Verdict::Fail,
            Verdict::Fail => truth != Verdict::Fail,
            Verdict::Inconclusive | Verdict::NotSeen => false,
        };
        decided += u64::from(matches!(said, Verdict::Pass | Verdict::Fail));
        assert!(
            !wrong,
            "{from} to {to} in {most}: {said:?}, truly {truth:?}, tick {tick}, skew {skew}, round {round}"
        );
    }
    println!("{decided} of {all} decided");
    assert!(decided * 2 > all, "{decided} of {all}");
}

/// The ends of all attempts, each going from one edge to the first of the next step after it.
fn by_hand(record: &Capture, steps: &[(usize, bool)]) -> Vec<u64> {
    let edges = |(line, rises): (usize, bool)| -> Vec<u64> {
        let edges = record.trace(LineId(line)).edges(record.range());
        edges.filter(|edge| edge.is_rise() == rises).map(|edge| edge.tick.0).collect()
    };
    let steps: Vec<Vec<u64>> = steps.iter().map(|step| edges(*step)).collect();
    let end = |begin: &u64| {
        steps[1..].iter().try_fold(*begin, |at, step| step.iter().copied().find(|tick| *tick > at))
    };
    let mut ends: Vec<u64> = steps[0].iter().filter_map(end).collect();
    ends.dedup();
    ends
}

#[test]
fn hundreds_of_steps_are_those_taken_one_by_one() {
    let mut random = Random(77);
    for round in 0..6 {
        let mut lines = vec![Vec::new(); 3];
        let mut at = 10u64;
        while at < 60_000 {
            lines[random.below(3) as usize].push(at);
            // Far apart, so that in a sampled record no order is open.
            at += 3 + random.below(12) as u64;
        }
        let resolution = if round % 2 == 0 { Resolution::EXACT } else { Resolution::SAMPLED };
        let record = capture(
            "1 MS/s",
            resolution,
            at + 100,
            &[("L0", &lines[0]), ("L1", &lines[1]), ("L2", &lines[2])],
        );
        let steps: Vec<(usize, bool)> =
            (0..400).map(|_| (random.below(3) as usize, random.below(2) == 0)).collect();
        let step =
            |(line, rises): &(usize, bool)| format!("L{line} {}", if *rises { "rises" } else { "falls" });
        let event = steps.iter().map(step).collect::<Vec<_>>().join(" then ");
        let ends = by_hand(&record, &steps);
        assert!(!ends.is_empty(), "too short a record says nothing");
        let program =
            Program::compile(&event, &Scope::of(&record)).and_then(|p| p.at(record.base())).unwrap();
        let shown: Vec<u64> = program.hits(&record, record.range()).map(|hit| hit.tick.0).collect();
        assert_eq!(shown, ends);
        let sure = hits(&record, &event);
        assert!(sure.iter().all(Hit::is_certain));
        assert_eq!(sure.iter().map(|hit| hit.tick.0).collect::<Vec<_>>(), ends);
    }
}
