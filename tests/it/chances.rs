//! The rate that is worth trying, and whether its chance is right: occurrences are drawn, what is open
//! of them is recorded again at the rate that is named, and as many are decided as were promised.

use deep_tap::bench::Random;
use deep_tap::capture::{Capture, Origin, Trace};
use deep_tap::known::Rule;
use deep_tap::limit::{Kind, Limit, Measured, Verdict, WorthTrying, check};
use deep_tap::line::Level;
use deep_tap::quantity::{Rate, Rational, Time};
use deep_tap::time::{Resolution, TimeBase};

use crate::support::{Texts, bind, capture, data, events, limit_of, one, pair};

/// Picoseconds.
const PS: i64 = 1;
const NS: i64 = 1000 * PS;
const RATES: [i64; 6] = [100, 125, 200, 250, 500, 1000];

/// A drawn truth: what each line did, when, in picoseconds; and how far each line is seen too late.
struct Truth {
    lines: [Vec<i64>; 2],
    late: [i64; 2],
    skew: i64,
}

impl Truth {
    /// The same at a rate, in mega samples per second, with a phase of its own.
    fn record(&self, mega: i64, random: &mut Random) -> Capture {
        let tick = 1_000_000 / mega;
        let phase = random.between(0, tick - 1);
        let base = TimeBase::from_rate(mega_samples(mega)).unwrap();
        let len = (2000 * NS / tick) as u64;
        let skew = Time::from_ps(self.skew);
        let rates = RATES.map(mega_samples).to_vec();
        let mut builder = Capture::builder(base, len)
            .resolution(Resolution { skew, ..Resolution::SAMPLED })
            .origin(Origin { rates, ..Origin::default() });
        for (number, (edges, late)) in self.lines.iter().zip(self.late).enumerate() {
            let ticks = edges.iter().map(|at| ((at + late + phase + tick - 1).div_euclid(tick)) as u64);
            let trace = Trace::toggling(Level::Low, ticks, len).unwrap();
            builder = builder.line(["A", "B"][number], trace);
        }
        builder.build().unwrap()
    }
}

fn mega_samples(mega: i64) -> Rate {
    Rate::from_rational(Rational::from(mega * 1_000_000))
}

/// How often a rate was named with a chance, what came of it, and what was promised.
#[derive(Default)]
struct Kept {
    tried: u32,
    decided: u32,
    promised: f64,
    variance: f64,
}

impl Kept {
    fn is_fair(&self, what: &str) {
        let Kept { tried, decided, promised, variance } = self;
        let off = (f64::from(*decided) - promised).abs();
        assert!(*tried > 150, "{what}: only {tried} were tried");
        // Four standard deviations, and what even points leave.
        let room = 4.0 * variance.sqrt() + 0.01 * f64::from(*tried);
        assert!(
            off < room,
            "{what}: {decided} of {tried} were decided, {promised:.0} promised (± {room:.0})"
        );
    }
}

fn try_it(kept: &mut Kept, truth: &Truth, limit: &Limit, random: &mut Random) {
    let first = truth.record(100, random);
    let result = check(&first, &bind(&first, limit), Rule::Proven).unwrap();
    let Some(WorthTrying::Rate { rate, chance: Some(chance) }) = result.worth_trying else { return };
    assert_eq!(result.verdict, Verdict::Inconclusive);
    let mega = (rate.to_f64() / 1e6).round() as i64;
    assert!(mega > 100 && RATES.contains(&mega));
    let second = truth.record(mega, random);
    let again = check(&second, &bind(&second, limit), Rule::Proven).unwrap();
    kept.tried += 1;
    kept.decided += u32::from(again.verdict != Verdict::Inconclusive);
    kept.promised += chance.share();
    kept.variance += chance.share() * (1.0 - chance.share());
}

/// A limit at a whole or a broken number of ticks of the first record.
fn some_limit(kind: Kind, texts: Texts, random: &mut Random) -> Limit {
    let end = Some(
        Time::from_ps(random.between(1, 12) * 10 * NS + [0, 0, 2500, 5000, 7777][random.below(5) as usize])
            .into(),
    );
    let (min, max) = if random.below(2) == 0 { (end, None) } else { (None, end) };
    limit_of(events(kind, texts), min, max)
}

#[test]
fn as_many_are_decided_as_the_chance_says() {
    let mut random = Random::new(8);
    for (what, kind, texts, skews) in [
        ("width", Kind::Width, one("A high"), [0, 0]),
        ("period", Kind::Period, one("A rises"), [0, 0]),
        ("delay", Kind::Delay, pair("A rises", "B rises"), [0, 1500]),
        ("hold", Kind::Hold, data("B", "A rises"), [0, 3000]),
        ("setup", Kind::Setup, data("A", "B rises"), [0, 700]),
    ] {
        for skew in skews {
            let mut kept = Kept::default();
            for _ in 0..2000 {
                let (from, long) = (random.between(300 * NS, 320 * NS), random.between(21 * NS, 140 * NS));
                // Lines that are seen late at most as much as the skew apart.
                let late = [0, random.between(-skew, skew)];
                let lines = match kind {
                    Kind::Width => [vec![from, from + long], vec![]],
                    Kind::Period => [vec![from, from + long / 2, from + long, from + long + 50 * NS], vec![]],
                    Kind::Setup => [vec![from], vec![from + long]],
                    _ => [vec![from], vec![from + long, from + 1000 * NS]],
                };
                let truth = Truth { lines, late, skew };
                let limit = some_limit(kind, texts.clone(), &mut random);
                try_it(&mut kept, &truth, &limit, &mut random);
            }
            kept.is_fair(&format!("{what}, skew {skew} ps"));
        }
    }
}

#[test]
fn so_they_are_of_a_share_and_of_an_open_order() {
    let mut random = Random::new(9);
    let (mut duty, mut order) = (Kept::default(), Kept::default());
    for _ in 0..2500 {
        let from = random.between(300 * NS, 320 * NS);
        let (high, period) = (random.between(25 * NS, 90 * NS), random.between(110 * NS, 150 * NS));
        let lines = [vec![from, from + high, from + period, from + period + 40 * NS], vec![]];
        let truth = Truth { lines, late: [0, 0], skew: 0 };
        let share = Rational::new(i128::from(random.between(30, 70)), 100).unwrap();
        let limit = limit_of(
            events(Kind::Duty, one("A high")),
            Some(deep_tap::quantity::Unit::Percent.of(share)),
            None,
        );
        try_it(&mut duty, &truth, &limit, &mut random);
        // The data changes near the clock: before it, it meets the limit, after it, the change before does.
        let near = from + random.between(-30 * NS, 30 * NS);
        let truth = Truth { lines: [vec![from], vec![from - 200 * NS, near]], late: [0, 0], skew: 0 };
        let limit =
            limit_of(events(Kind::Setup, data("B", "A rises")), None, Some(Time::from_ps(900 * NS).into()));
        let first = truth.record(100, &mut random);
        let worst = check(&first, &bind(&first, &limit), Rule::Proven).unwrap().worst;
        if let Some(Measured::Interval { partners, .. }) = worst.map(|worst| worst.measured) {
            assert!(partners.1 < 1000);
        }
        let least =
            limit_of(events(Kind::Setup, data("B", "A rises")), Some(Time::from_ps(NS / 1000).into()), None);
        try_it(&mut order, &truth, &least, &mut random);
    }
    duty.is_fair("duty");
    order.is_fair("order");
}

#[test]
fn the_chance_of_one_occurrence_by_hand() {
    // A width of 8 ticks against 8.5, at twice the rate: 17 new ticks alone are open. The width lies around
    // 16 of them with the weight of a triangle from 14 to 18, and counts as 17 with that of one from 16 to 18:
    // together, a quarter.
    let width = |rates: &[&str], min: &str| {
        let rates = rates.iter().map(|rate| rate.parse().unwrap()).collect();
        let record = capture("100 MS/s", Resolution::SAMPLED, 200, &[("A", &[20, 28])]);
        let record = record.into_builder().origin(Origin { rates, ..Origin::default() }).build().unwrap();
        let limit = limit_of(events(Kind::Width, one("A high")), Some(min.parse().unwrap()), None);
        check(&record, &bind(&record, &limit), Rule::Proven).unwrap().worth_trying
    };
    let near = |found: Option<WorthTrying>, wanted: &str, share: f64| match found {
        Some(WorthTrying::Rate { rate, chance: Some(chance) }) => {
            assert_eq!(rate.to_string(), wanted);
            assert!((chance.share() - share).abs() < 0.005, "{} instead of {share}", chance.share());
        }
        other => panic!("{other:?}"),
    };
    near(width(&["100 MS/s", "200 MS/s"], "85 ns"), "200 MS/s", 0.75);
    // On the limit, 16 new ticks alone are open: the integral of (2 - y) (1 - y) / 2 from 0 to 1, or 5 of 12.
    near(width(&["100 MS/s", "200 MS/s"], "80 ns"), "200 MS/s", 7.0 / 12.0);
    // Ten ticks away, and still one count of 400 parts.
    near(width(&["100 MS/s", "2 GS/s"], "85 ns"), "2 GS/s", 0.975);
    assert_eq!(width(&["50 MS/s", "100 MS/s"], "85 ns"), Some(WorthTrying::Fastest));
    // Where no rates are known, multiples of the record's own.
    near(width(&[], "85 ns"), "800 MS/s", 0.9375);
    // The skew is larger than anything that could be told.
    let exact = capture("100 MS/s", Resolution::SAMPLED, 200, &[("A", &[20]), ("B", &[28])]);
    let resolution = Resolution { skew: "200 ns".parse().unwrap(), ..Resolution::SAMPLED };
    let record = exact.into_builder().resolution(resolution).build().unwrap();
    let limit =
        limit_of(events(Kind::Delay, pair("A rises", "B rises")), None, Some("85 ns".parse().unwrap()));
    let found = check(&record, &bind(&record, &limit), Rule::Proven).unwrap();
    assert_eq!(found.worth_trying, Some(WorthTrying::Never));
}
