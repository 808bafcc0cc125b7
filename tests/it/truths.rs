//! Every truth that samples to one short record is drawn, with pulses between the samples and without,
//! and what the library claims of the record is held against all of them.

use deep_tap::bench::Random;
use deep_tap::capture::{Capture, Trace};
use deep_tap::known::Rule;
use deep_tap::limit::{Kind, Limit, LimitResult, Measured, Verdict, Visited, check};
use deep_tap::line::{Level, Line, PulseWidths};
use deep_tap::quantity::{Bounds, Quantity, Rational, Unit};
use deep_tap::time::{Resolution, TimeBase};

use crate::support::{bind, one};
use crate::worlds::{Edges, TICK, True, case, drawn, happened, high, of_two_lines, sampled, samples, truths};

fn record(lines: &[(&str, &[bool], bool)], skew: &str) -> Capture {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let len = lines[0].1.len() as u64;
    let resolution = Resolution { skew: skew.parse().unwrap(), ..Resolution::SAMPLED };
    let mut builder = Capture::builder(base, len).resolution(resolution);
    for (name, samples, hides) in lines {
        let ticks = (1..samples.len()).filter(|k| samples[*k] != samples[k - 1]).map(|k| k as u64);
        let trace = Trace::toggling(Level::from(samples[0]), ticks, len).unwrap();
        let shortest = if *hides { "1 ns" } else { "10.1 ns" };
        let pulses = PulseWidths { shortest: Some(shortest.parse().unwrap()), ..PulseWidths::default() };
        builder = builder.line(Line { pulses, ..Line::named(*name) }, trace);
    }
    builder.build().unwrap()
}

/// The same of a simulation whose tick is a part.
fn exact_record(one: &Edges, other: &Edges, len: i64) -> Capture {
    let base = TimeBase::from_rate("3 GS/s".parse().unwrap()).unwrap();
    let mut builder = Capture::builder(base, len as u64).resolution(Resolution::EXACT);
    for (name, edges) in [("A", one), ("B", other)] {
        let inside = edges.iter().filter(|(at, _)| (1..len).contains(at)).map(|(at, _)| *at as u64);
        let trace = Trace::toggling(Level::from(high(edges, false, 0)), inside, len as u64).unwrap();
        builder = builder.line(Line::named(name), trace);
    }
    builder.build().unwrap()
}

/// What the library says of a limit in a record, in parts of a tick, or of a share in thousandths.
struct Said {
    limit: Limit,
    min: Option<i64>,
    max: Option<i64>,
    result: LimitResult,
    /// Of the certain occurrences: the bounds, and the ticks of both ends.
    bounds: Vec<(Bounds<i64>, [u64; 2])>,
    occurrences: usize,
    unpaired: Vec<u64>,
    /// Parts from one tick of the record to the next.
    tick: i64,
}

/// A value in parts of a tick, or in thousandths.
fn parts(quantity: Quantity) -> i64 {
    let whole = match quantity.unit() {
        Unit::Percent => 1000,
        _ => 100_000_000 * i128::from(TICK),
    };
    let parts = quantity.to_rational().checked_mul(Rational::new(whole, 1).unwrap()).unwrap();
    assert_eq!(parts.floor(), parts.ceil(), "{quantity} is no whole number of parts");
    parts.floor() as i64
}

fn said(capture: &Capture, limit: Limit) -> Said {
    let bound = bind(capture, &limit);
    let span = bound.span(capture, Rule::Proven);
    let (mut bounds, mut occurrences, mut unpaired) = (Vec::new(), 0, Vec::new());
    let walked = bound.occurrences(capture, Rule::Proven, &mut |visited| {
        match visited {
            Visited::Occurrence(occurrence) => {
                // With several possible partners, which one it is depends on places that coincide, which are not
                // drawn: then the judge is not asked.
                let one = |partners: (i64, i64)| partners.0 == partners.1;
                occurrences += match occurrence.measured {
                    Measured::Interval { partners, .. } if !one(partners) => 2,
                    _ => 1,
                };
                // A share is not always a whole number of thousandths: what is claimed of it is judged
                // by the verdict alone.
                if occurrence.certain && !matches!(limit.kind(), Kind::Duty | Kind::Stable) {
                    let ends = [occurrence.start.0, occurrence.end.0];
                    bounds.extend(occurrence.bounds(&span).map(|bounds| (bounds.map(parts), ends)));
                }
            }
            Visited::Unpaired(tick) => unpaired.push(tick.0),
        }
        std::ops::ControlFlow::Continue(())
    });
    walked.unwrap();
    let result = check(capture, &bound, Rule::Proven).unwrap();
    let (min, max) = (limit.required.min.map(parts), limit.required.max.map(parts));
    let tick = if capture.resolution().sampled { TICK } else { 1 };
    Said { limit, min, max, result, bounds, occurrences, unpaired, tick }
}

#[derive(Default)]
struct Tally {
    passed: u64,
    failed: u64,
    open: u64,
    needless: Vec<String>,
}

impl Tally {
    fn is_worth_something(&self) {
        let Tally { passed, failed, open, needless } = self;
        assert!(*passed > 30 && *failed > 30 && *open > 200, "{passed} passed, {failed} failed, {open} open");
        assert_eq!(needless, &[""; 0]);
    }
}

impl Said {
    fn meets(&self, (part, whole): (i64, i64)) -> bool {
        match self.limit.kind() {
            Kind::Stable => return part == 1,
            Kind::Window => return self.min.unwrap() >= part || self.max.unwrap() <= part,
            _ => {}
        }
        // Shares in thousandths, without dividing.
        let (value, scale) = if self.limit.kind() == Kind::Duty { (part * 1000, whole) } else { (part, 1) };
        self.min.is_none_or(|min| value >= min * scale) && self.max.is_none_or(|max| value <= max * scale)
    }

    /// Holds all claims against all truths, each with what happened in it; `missed` says whether there may
    /// have been occurrences that the record does not show at all, and `drawn` whether so many truths are drawn
    /// that an ideal judge can be asked.
    fn judge(
        &self,
        what: &str,
        len: i64,
        truths: &[Vec<True>],
        missed: bool,
        drawn: bool,
        tally: &mut Tally,
    ) {
        let inside = |at: i64| at > 0 && at < (len - 1) * self.tick;
        // An event at a part of a tick is seen at the next sample.
        let seen_at = |at: i64| (at + self.tick - 1).div_euclid(self.tick) as u64;
        let (mut violated, mut all_occur) = (0usize, true);
        for all in truths {
            // A change while a condition holds is one wherever that began.
            let anywhere = self.limit.kind() == Kind::Stable;
            let anchored = || all.iter().filter(|one| anywhere || inside(one.anchor));
            // One that is not paired in the record is not judged, but where its partner was in it and unseen.
            let delay = matches!(self.limit.kind(), Kind::Delay | Kind::Recovery | Kind::Hold | Kind::Settle);
            let seen = |one: &&True| {
                let unseen_answer = delay && inside(one.anchor + one.value.0);
                !self.unpaired.contains(&seen_at(one.anchor)) || unseen_answer
            };
            // After the last event of a record, what settles too late already is a violation, and nothing else.
            let settle = self.limit.kind() == Kind::Settle;
            let last = |one: &True| one.cut || (settle && !inside(one.next));
            let late = |one: &True| last(one) && self.max.is_some_and(|max| one.value.0 > max);
            let bad = |one: &&True| if settle && last(one) { late(one) } else { !self.meets(one.value) };
            let counts =
                |one: &&True| !last(one) || (settle && late(one) && inside(one.anchor + one.value.0));
            let judged = || {
                let seen = |one: &&True| seen(one) || (settle && late(one));
                // What an end cuts off is not judged.
                let lasting = matches!(self.limit.kind(), Kind::Period | Kind::Width);
                let whole = move |one: &&True| !lasting || inside(one.anchor + one.value.0);
                anchored().filter(|one| inside(one.anchor)).filter(counts).filter(seen).filter(whole)
            };
            let told = || format!("{what}: {} {:?} where {all:?} happened", self.result, self.bounds);
            match self.result.verdict {
                Verdict::Pass => assert!(!judged().any(|one| bad(&one)), "wrong pass: {}", told()),
                Verdict::Fail => assert!(anchored().any(|one| bad(&one)), "wrong fail: {}", told()),
                // Nothing was there from beginning to end, either.
                Verdict::NotSeen if self.limit.kind() == Kind::Width && !missed => {
                    let whole = |one: &&True| inside(one.anchor + one.value.0);
                    assert!(!judged().any(|one| whole(&one)), "it was there: {}", told());
                }
                Verdict::NotSeen => {}
                Verdict::Inconclusive => {}
            }
            violated += usize::from(judged().any(|one| bad(&one)));
            all_occur &= judged().next().is_some();
            for (bounds, ends) in &self.bounds {
                // A start that hides may have taken its place.
                let near = |one: &True| ends.iter().any(|end| end.abs_diff(seen_at(one.anchor)) <= 1);
                let it = |one: &&True| missed || near(one);
                let contained = all.iter().filter(it).any(|one| bounds.contain(one.value.0));
                assert!(contained, "not in {bounds:?} at {ends:?}: {}", told());
            }
        }
        match self.result.verdict {
            Verdict::Pass => tally.passed += 1,
            Verdict::Fail => tally.failed += 1,
            Verdict::Inconclusive => {
                tally.open += 1;
                // An ideal judge would have decided; but for what two occurrences tell of each other, and for
                // shares, of which three places a tick draw too few.
                let alone = self.occurrences == 1 && self.limit.kind() != Kind::Duty && drawn;
                let decided = (violated == 0 && all_occur) || violated == truths.len();
                if alone && decided {
                    tally.needless.push(format!("{what}: {}", self.result));
                }
            }
            Verdict::NotSeen => {}
        }
    }
}

#[test]
fn no_claim_about_one_line_is_wrong_whatever_hides_between_its_samples() {
    let mut tally = Tally::default();
    let none = Edges::new();
    let cases = [
        case(Kind::Width, one("A high")),
        case(Kind::Period, one("A rises")),
        case(Kind::Duty, one("A high")),
    ];
    let mut records: Vec<Vec<bool>> =
        [3, 4, 5].into_iter().flat_map(|len| (0..1 << len).map(move |number| samples(number, len))).collect();
    // A short pulse, and one that the record cuts off and a hidden edge would make a whole and a long one of.
    records.push(samples(0b0101111, 7));
    for samples in records {
        let len = samples.len();
        for hides in [false, true] {
            let capture = record(&[("A", &samples, hides)], "0 s");
            let drawn = truths(&samples, hides, 0);
            for case in &cases {
                let first = (samples[0], false);
                let worlds: Vec<Vec<True>> =
                    drawn.iter().map(|edges| happened(case, edges, &none, first)).collect();
                for limit in case.limits() {
                    let what = format!("{} of {samples:?}, hiding {hides}", case.kind);
                    said(&capture, limit).judge(&what, len as i64, &worlds, hides, len <= 5, &mut tally);
                }
            }
        }
    }
    tally.is_worth_something();
}

/// The samples of two lines, and which of them may hide pulses, one after the other.
type Pair = (Vec<bool>, Vec<bool>, Vec<(bool, bool)>);

#[test]
fn no_claim_about_two_lines_is_wrong_whatever_hides_between_their_samples() {
    let mut random = Random::new(14);
    let mut tally = Tally::default();
    let cases = of_two_lines();
    let (none, all) =
        (vec![(false, false)], vec![(false, false), (true, false), (false, true), (true, true)]);
    let mut records: Vec<Pair> = vec![
        // A start without an answer, long before one that has one at once.
        (samples(0b110010, 6), samples(0b100000, 6), vec![(false, true)]),
        // A change that may come after the reference, and none before it in the record.
        (samples(0b1010000, 7), samples(0b0010000, 7), none.clone()),
        // An answer at the very end, which a second start just after it may have come before.
        (samples(0b0010, 4), samples(0b1000, 4), none.clone()),
        // Nothing changes while the other one is high.
        (samples(0b0110, 4), samples(0, 4), all.clone()),
        // One goes as the other comes, so that both may have been high for a moment.
        (samples(0b0010, 4), samples(0b1100, 4), none.clone()),
    ];
    for round in 0..50 {
        let rises = |drawn: &Vec<bool>| drawn.windows(2).any(|pair| !pair[0] && pair[1]);
        let one = std::iter::repeat_with(|| samples(random.below(16), 4)).find(rises).unwrap();
        let other = samples(random.below(16), 4);
        records.push((one, other, if round < 10 { all.clone() } else { none.clone() }));
    }
    // Long enough for two events with something between.
    for _ in 0..26 {
        let mut calm = |changes: usize| {
            let changes_of = |drawn: &Vec<bool>| drawn.windows(2).filter(|pair| pair[0] != pair[1]).count();
            std::iter::repeat_with(|| samples(random.below(128), 7))
                .find(|drawn| changes_of(drawn) == changes)
                .unwrap()
        };
        records.push((calm(3), calm(2), none.clone()));
    }
    // What hides around a reference.
    records.push((samples(0b0111000, 7), samples(0, 7), vec![(false, true)]));
    for (round, (one, other, hiding)) in records.into_iter().enumerate() {
        // The second line is seen early or late by as much as the skew allows, which is nearly a third of a tick.
        let skewed = hiding.len() == 1 && round % 2 == 0;
        let (skew, shifts) = if skewed { ("3 ns", vec![-8, 1, 10]) } else { ("0 s", vec![1]) };
        for (a_hides, b_hides) in hiding {
            let capture = record(&[("A", &one, a_hides), ("B", &other, b_hides)], skew);
            let first = truths(&one, a_hides, 0);
            let second: Vec<Edges> = shifts.iter().flat_map(|by| truths(&other, b_hides, *by)).collect();
            let both = || first.iter().flat_map(|a| second.iter().map(move |b| (a, b)));
            for case in &cases {
                let levels = (one[0], other[0]);
                let worlds: Vec<Vec<True>> = both().map(|(a, b)| happened(case, a, b, levels)).collect();
                for limit in case.limits() {
                    let what = format!("{} of {one:?} {other:?}, hiding {a_hides} {b_hides}", case.kind);
                    let (missed, drawn) =
                        (a_hides || b_hides, !a_hides && shifts.len() == 1 && one.len() == 4);
                    said(&capture, limit).judge(&what, one.len() as i64, &worlds, missed, drawn, &mut tally);
                }
            }
        }
    }
    tally.is_worth_something();
}

/// Records of some length, each against its own truth: `TRUTHS=5000` tries a million occurrences.
#[test]
fn no_claim_about_long_records_is_wrong() {
    let rounds = std::env::var("TRUTHS").ok().and_then(|text| text.parse().ok()).unwrap_or(120);
    let mut random = Random::new(41);
    let mut tally = Tally::default();
    let mut cases = of_two_lines();
    cases.push(case(Kind::Duty, one("A high")));
    let mut seen = 0;
    let mut exact_tally = Tally::default();
    for round in 0..rounds {
        let len = random.between(20, 60);
        let hides = [(false, false), (false, false), (true, false), (false, true), (true, true)]
            [random.below(5) as usize];
        let closest = |hides| if hides { 1 } else { TICK + 1 };
        // Half of them with skew, of nearly a third of a tick; no two edges of both lines coincide.
        let (skew, late) = if round % 2 == 0 { ("0 s", 0) } else { ("3 ns", random.between(-9, 9)) };
        let one: Edges = drawn(&mut random, len, closest(hides.0));
        let one: Edges = one.into_iter().map(|(at, up)| (at.div_euclid(2) * 2, up)).collect();
        // Nor any of the first line with a sample.
        let one: Edges = one.into_iter().map(|(at, up)| (at + 2 * i64::from(at % TICK == 0), up)).collect();
        let other: Edges = drawn(&mut random, len, closest(hides.1));
        let other: Edges = other.into_iter().map(|(at, up)| (at.div_euclid(2) * 2 + 1, up)).collect();
        let apart = |edges: &Edges, least: i64| edges.windows(2).all(|pair| pair[1].0 - pair[0].0 >= least);
        if !apart(&one, closest(hides.0)) || !apart(&other, closest(hides.1)) {
            continue;
        }
        // As a simulation has it: only what lies beyond the ends is not known.
        let exact = exact_record(&one, &other, len * TICK);
        for case in &cases {
            let levels = (high(&one, false, 0), high(&other, false, 0));
            let truth = [happened(case, &one, &other, levels)];
            for limit in case.limits() {
                let what = format!("round {round}, exact, {limit:?}");
                said(&exact, limit).judge(&what, len * TICK, &truth, false, false, &mut exact_tally);
            }
        }
        let (first, second) = (sampled(&one, len, 0), sampled(&other, len, late));
        let capture = record(&[("A", &first, hides.0), ("B", &second, hides.1)], skew);
        for case in &cases {
            let truth = [happened(case, &one, &other, (first[0], second[0]))];
            for limit in case.limits() {
                let drawn = |samples: &[bool]| {
                    samples.iter().map(|high| if *high { '1' } else { '0' }).collect::<String>()
                };
                let what = format!(
                    "round {round}, {} {:?}, late {late}, hiding {hides:?}, {} {}",
                    case.kind,
                    limit,
                    drawn(&first),
                    drawn(&second)
                );
                let said = said(&capture, limit);
                seen += said.result.counts.seen + said.result.counts.possible;
                said.judge(&what, len, &truth, hides.0 || hides.1, false, &mut tally);
            }
        }
    }
    let Tally { passed, failed, open, .. } = exact_tally;
    assert!(open * 20 < passed + failed, "of exact records {passed} passed, {failed} failed, {open} open");
    let Tally { passed, failed, open, .. } = tally;
    assert!(
        passed > rounds && failed > rounds && open > rounds,
        "{passed} passed, {failed} failed, {open} open"
    );
    assert!(seen > 200 * rounds, "only {seen} were seen");
}
