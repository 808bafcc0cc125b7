//! True intervals are drawn in continuous time, sampled by the stand-in instrument at random rates
//! and phases, with skew and time-base error, and what the library says is compared with the truth.

use deep_tap::bench::{Instant, Random, Script, StandIn, StandInOptions};
use deep_tap::capture::Capture;
use deep_tap::instrument::{Acquisition, Configuration};
use deep_tap::known::{Rule, Span};
use deep_tap::limit::{Kind, Limit, Measured, Verdict};
use deep_tap::line::Level;
use deep_tap::quantity::{Bounds, Percent, Rate, Rational, Time};
use deep_tap::quantity::{Quantity, Unit};

use crate::support::{bind, data, events, limit, limit_of, occurrences, one, pair};

const SLOTS: usize = 100;
const TRIALS: u64 = 250;

/// What really happens: rising and falling edges of two nodes, in femtoseconds.
struct Truth {
    a: Vec<(i64, bool)>,
    b: Vec<(i64, bool)>,
    slot: i64,
    slots: usize,
}

impl Truth {
    /// Slots with a pulse on each node; between the rising edges lies about `limit` (which may come
    /// out negative), the pulse on `a` is about `limit` long, each within three ticks.
    fn draw(random: &mut Random, tick: i64, limit: i64, slots: usize, quiet: i64) -> Truth {
        let slot = 60 * tick + 4 * limit + quiet;
        let (mut a, mut b) = (Vec::new(), Vec::new());
        for i in 0..slots as i64 {
            let at = i * slot + 20 * tick + random.between(-tick, tick);
            let width = (limit + random.between(-3 * tick, 3 * tick)).max(2 * tick + tick / 8);
            let delay = limit + random.between(-3 * tick, 3 * tick);
            a.extend([(at, true), (at + width, false)]);
            b.extend([(at + delay, true), (at + delay + 25 * tick, false)]);
        }
        Truth { a, b, slot, slots }
    }

    fn rises(edges: &[(i64, bool)]) -> Vec<i64> {
        edges.iter().filter(|(_, up)| *up).map(|(at, _)| *at).collect()
    }

    /// The true interval that an occurrence near this instant has; `None` where there is none.
    fn interval(&self, kind: Kind, slot: usize) -> Option<i64> {
        let rises = Truth::rises(&self.a);
        let anchor = *rises.get(slot)?;
        match kind {
            Kind::Delay | Kind::Recovery => {
                let next = rises.get(slot + 1).copied().unwrap_or(i64::MAX);
                let answer = Truth::rises(&self.b).into_iter().find(|b| *b >= anchor)?;
                (answer < next).then_some(answer - anchor)
            }
            Kind::Hold => self.b.iter().map(|(at, _)| *at).find(|at| *at >= anchor).map(|at| at - anchor),
            Kind::Setup => {
                self.b.iter().rev().map(|(at, _)| *at).find(|at| *at < anchor).map(|at| anchor - at)
            }
            Kind::Removal => {
                Truth::rises(&self.b).into_iter().rev().find(|at| *at < anchor).map(|at| anchor - at)
            }
            Kind::Skew => Truth::rises(&self.b).into_iter().map(|at| (at - anchor).abs()).min(),
            Kind::Width => self.a.iter().find(|(at, up)| !*up && *at > anchor).map(|(at, _)| at - anchor),
            _ => rises.get(slot + 1).map(|next| next - anchor),
        }
    }

    /// The same as what the kind is written in.
    fn value(&self, kind: Kind, slot: usize) -> Option<Quantity> {
        if kind != Kind::Duty {
            return self.interval(kind, slot).map(|fs| femto(fs).into());
        }
        let (high, period) = (self.interval(Kind::Width, slot)?, self.interval(Kind::Period, slot)?);
        Rational::new(high.into(), period.into()).map(|share| Unit::Percent.of(share))
    }
}

fn femto(fs: i64) -> Time {
    Instant(fs).time()
}

fn sampled(truth: &Truth, rate: Rate, seed: u64) -> Capture {
    let changes =
        |edges: &[(i64, bool)]| edges.iter().map(|(at, up)| (Instant(*at), Level::from(*up))).collect();
    let board = Script::new("proof").node("A", Level::Low, changes(&truth.a)).node(
        "B",
        Level::Low,
        changes(&truth.b),
    );
    let mut instrument = StandIn::new(Box::new(board), StandInOptions { seed, ..StandInOptions::default() });
    let length =
        femto(truth.slot * (truth.slots as i64 + 1)).to_rational().checked_mul(rate.to_rational()).unwrap();
    let configuration = Configuration::new(rate, length.ceil() as u64, 0..2);
    Acquisition::new(&mut instrument, &configuration, &["A", "B"]).capture().unwrap()
}

/// The widest that bounds may be: a tick and the skew to either side, and the time-base error.
fn widest(capture: &Capture, span: &Span, bounds: &Bounds<Quantity>) -> Time {
    let resolution = capture.resolution();
    let two = Rational::from(2);
    let tick = capture.base().tick().to_rational();
    let longest = bounds.hi.unwrap().to_rational().abs().max(bounds.lo.to_rational().abs());
    let clock = longest.checked_mul(resolution.accuracy.to_fraction()).unwrap();
    let skew = if span.is_one_input() { Rational::ZERO } else { resolution.skew.to_rational() };
    let half = tick.checked_add(skew).and_then(|s| s.checked_add(clock)).unwrap();
    Time::from_rational(half.checked_mul(two).unwrap())
}

#[derive(Default)]
struct Tally {
    seen: u64,
    passed: u64,
    failed: u64,
}

fn compare(truth: &Truth, capture: &Capture, limit: &Limit, tally: &mut Tally) {
    let (found, _) = occurrences(capture, limit);
    let tick_fs = capture.base().tick().to_f64() * 1e15;
    let span = bind(capture, limit).span(capture, Rule::Proven);
    for occurrence in &found {
        let backwards = matches!(limit.kind(), Kind::Setup | Kind::Removal);
        let anchor = if backwards { occurrence.end } else { occurrence.start };
        // Each slot's event comes about 20 ticks into it; the time base may run away by as much.
        let slot = ((anchor.0 as f64 - 20.0) * tick_fs / truth.slot as f64).round() as usize;
        let value = truth.value(limit.kind(), slot);
        let what = || {
            format!("{:?} {:?} slot {slot}: {occurrence:?}, truth {value:?}", limit.kind(), limit.required)
        };
        let bounds = occurrence.bounds(&span).unwrap();
        tally.seen += 1;
        match value {
            Some(interval) => {
                assert!(bounds.contain(interval), "truth outside the bounds: {}", what());
                let min = limit.required.min.is_none_or(|min| interval >= min);
                let max = limit.required.max.is_none_or(|max| interval <= max);
                match occurrence.verdict {
                    Verdict::Pass => assert!(min && max, "wrong pass: {}", what()),
                    Verdict::Fail => assert!(!(min && max), "wrong fail: {}", what()),
                    Verdict::Inconclusive | Verdict::NotSeen => {}
                }
            }
            // It did not happen; then nothing may be claimed to be violated.
            None => assert_ne!(occurrence.verdict, Verdict::Fail, "{}", what()),
        }
        tally.passed += u64::from(occurrence.verdict == Verdict::Pass);
        tally.failed += u64::from(occurrence.verdict == Verdict::Fail);
        // With one partner only: several make the bounds wider.
        let single = match occurrence.measured {
            Measured::Interval { ticks, partners } => partners.0 == partners.1 && ticks > 1,
            _ => false,
        };
        if single {
            let width = bounds.hi.unwrap().to_rational().checked_sub(bounds.lo.to_rational()).unwrap();
            assert!(
                Time::from_rational(width) <= widest(capture, &span, &bounds),
                "bounds too wide: {}",
                what()
            );
        }
    }
}

/// Whether B changes while A is high, as far as that can be said.
fn compare_steady(truth: &Truth, capture: &Capture, tally: &mut Tally) {
    let steady = limit(Kind::Stable, pair("B", "A high"), None, None);
    let (found, _) = occurrences(capture, &steady);
    let tick_fs = capture.base().tick().to_f64() * 1e15;
    for occurrence in found {
        let slot = ((occurrence.start.0 as f64 - 20.0) * tick_fs / truth.slot as f64).round() as usize;
        let (Some(begin), Some(width)) = (truth.a.get(2 * slot), truth.interval(Kind::Width, slot)) else {
            continue;
        };
        let high = begin.0..begin.0 + width;
        let changes = truth.b.iter().any(|(at, _)| high.contains(at));
        match occurrence.verdict {
            Verdict::Pass => assert!(!changes, "wrong pass in slot {slot}: {occurrence:?}"),
            Verdict::Fail => assert!(changes, "wrong fail in slot {slot}: {occurrence:?}"),
            Verdict::Inconclusive | Verdict::NotSeen => {}
        }
        tally.passed += u64::from(occurrence.verdict == Verdict::Pass);
        tally.failed += u64::from(occurrence.verdict == Verdict::Fail);
    }
}

#[test]
fn truth_is_inside_the_bounds_and_no_verdict_is_wrong() {
    let mut random = Random::new(20_261_123);
    let (mut tally, mut steady) = (Tally::default(), Tally::default());
    // Rates of the stand-in instrument, in MS/s.
    let rates = [10, 20, 25, 50, 100, 125, 200, 250, 500];
    for trial in 0..TRIALS {
        let mega = rates[random.below(rates.len() as u64) as usize];
        let rate = Rate::from_rational(Rational::from(mega * 1_000_000));
        let tick = 1_000_000_000 / mega;
        let bound = random.between(tick / 3, 6 * tick);
        let truth = Truth::draw(&mut random, tick, bound, SLOTS, 0);
        let capture = sampled(&truth, rate, trial);
        assert!(capture.resolution().accuracy > Percent::ZERO && capture.resolution().skew > Time::ZERO);
        let bound = femto(bound);
        let (min, max) = if random.below(2) == 0 { (Some(bound), None) } else { (None, Some(bound)) };
        let period = femto(truth.slot);
        let period = if min.is_some() { (Some(period), None) } else { (None, Some(period)) };
        for (kind, texts, (min, max)) in [
            (Kind::Delay, pair("A rises", "B rises"), (min, max)),
            (Kind::Hold, data("B", "A rises"), (min, max)),
            (Kind::Setup, data("B", "A rises"), (min, max)),
            (Kind::Width, one("A high"), (min, max)),
            (Kind::Period, one("A rises"), period),
            (Kind::Recovery, pair("A rises", "B rises"), (min, max)),
            (Kind::Removal, pair("A rises", "B rises"), period),
            (Kind::Skew, pair("A rises", "B rises"), (min, max)),
        ] {
            compare(&truth, &capture, &limit(kind, texts, min, max), &mut tally);
        }
        // About as long a share of the period as the pulse has.
        let share = bound.to_rational().checked_div(femto(truth.slot).to_rational()).unwrap();
        let share = Some(Unit::Percent.of(share));
        let (min, max) = if random.below(2) == 0 { (share, None) } else { (None, share) };
        let duty = limit_of(events(Kind::Duty, one("A high")), min, max);
        compare(&truth, &capture, &duty, &mut tally);
        compare_steady(&truth, &capture, &mut steady);
    }
    assert!(steady.passed > 1000 && steady.failed > 1000, "{} {}", steady.passed, steady.failed);
    assert!(tally.seen >= 100_000, "only {} occurrences", tally.seen);
    // The test would prove nothing if nearly everything were inconclusive.
    assert!(tally.passed > tally.seen / 4, "only {} of {} passed", tally.passed, tally.seen);
    assert!(tally.failed > tally.seen / 20, "only {} of {} failed", tally.failed, tally.seen);
}

#[test]
fn the_time_base_error_is_in_the_bounds_of_long_intervals() {
    let mut random = Random::new(7);
    let mut tally = Tally::default();
    for trial in 0..40 {
        let tick = 10_000_000;
        // Twenty parts per million of 200 000 ticks are four ticks.
        let truth = Truth::draw(&mut random, tick, 3 * tick, 12, 200_000 * tick);
        let capture = sampled(&truth, "100 MS/s".parse().unwrap(), trial);
        let bound = Some(femto(truth.slot + random.between(-12, 12) * tick));
        for (min, max) in [(bound, None), (None, bound)] {
            let limit = limit(Kind::Period, one("A rises"), min, max);
            compare(&truth, &capture, &limit, &mut tally);
        }
    }
    assert!(tally.passed > 100 && tally.failed > 100, "{} passed, {} failed", tally.passed, tally.failed);
}
