//! What one occurrence of each kind of limit is, in records small enough to work out by hand.

use std::ops::ControlFlow;

use deep_tap::bench::Random;
use deep_tap::capture::{AnalogBuilder, Capture};
use deep_tap::decode::{Protocol, SerialBus, UartConfig};
use deep_tap::event::{Meaning, Scope};
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, Events, Kind, Limit, LimitResult, Mark, Verdict, Which};
use deep_tap::line::{AnalogLine, AnalogScale, LineId, PulseWidths};
use deep_tap::quantity::Rational;
use deep_tap::quantity::{Quantity, Unit};
use deep_tap::setup::{Attached, Setup};
use deep_tap::time::{Resolution, TimeBase};

use crate::support::{Texts, bind, capture, events, limit, limit_of, one, pair};

fn quantity(text: &str) -> Quantity {
    text.parse().unwrap()
}

/// A limit from one end to another, each a text or empty.
fn between(kind: Kind, texts: Texts, min: &str, max: &str) -> Limit {
    of(events(kind, texts), min, max)
}

fn of(events: Events, min: &str, max: &str) -> Limit {
    let end = |text: &str| (!text.is_empty()).then(|| quantity(text));
    limit_of(events, end(min), end(max))
}

fn checked(record: &Capture, limit: &Limit) -> LimitResult {
    limit::check(record, &bind(record, limit), Rule::Proven).unwrap()
}

/// Counts of passed, failed, inconclusive, unpaired.
fn counts(result: &LimitResult) -> (u64, u64, u64, u64) {
    let counts = result.counts;
    (counts.passed, counts.failed, counts.inconclusive, counts.unpaired)
}

#[test]
fn recovery_and_removal_are_counted_once_for_each_release() {
    // Releases at 103 and 250; clock edges every 10 ticks from 5 on.
    let clock: Vec<u64> = (1..100).map(|n| n * 5).collect();
    let record = capture("1 GS/s", Resolution::EXACT, 500, &[("RST_N", &[103, 200, 254]), ("CK", &clock)]);
    let control = || pair("RST_N rises", "CK rises");
    // 103 → 105, 254 → 255; 95 → 103, 245 → 254.
    let recovery = checked(&record, &between(Kind::Recovery, control(), "2 ns", ""));
    assert_eq!((counts(&recovery), recovery.measured), ((1, 1, 0, 0), Some(quantity("1 ns"))));
    let removal = checked(&record, &between(Kind::Removal, control(), "9 ns", ""));
    assert_eq!((counts(&removal), removal.measured), ((1, 1, 0, 0), Some(quantity("8 ns"))));
    // Exactly together is a recovery of nothing, and the removal is from the edge before.
    let record = capture("1 GS/s", Resolution::EXACT, 500, &[("RST_N", &[105]), ("CK", &clock)]);
    let recovery = checked(&record, &between(Kind::Recovery, control(), "1 ns", ""));
    assert_eq!((recovery.verdict, recovery.measured), (Verdict::Fail, Some(quantity("0 ns"))));
    let removal = checked(&record, &between(Kind::Removal, control(), "10 ns", ""));
    assert_eq!((removal.verdict, removal.measured), (Verdict::Pass, Some(quantity("10 ns"))));
}

#[test]
fn duty_knows_a_tick_of_each_pulse() {
    // High for 4 of 10 ticks, then for 5 of 10; the last pulse has no period.
    let edges = [10, 14, 20, 25, 30, 35];
    let pulse = || one("CK high");
    let sampled = capture("100 MS/s", Resolution::SAMPLED, 40, &[("CK", &edges)]);
    let worst = checked(&sampled, &between(Kind::Duty, pulse(), "30 %", "60 %"));
    assert_eq!((worst.verdict, counts(&worst)), (Verdict::Pass, (2, 0, 0, 1)));
    let bounds = worst.bounds.unwrap();
    assert_eq!((bounds.lo, bounds.hi), (quantity("30 %"), Some(quantity("50 %"))));
    let statistics = worst.statistics.unwrap();
    assert_eq!((statistics.min, statistics.mean, statistics.max), (quantity("40 %"), 45.0, quantity("50 %")));
    // 4 of 10 may be as little as 3 of 10 and is never quite 5 of 10.
    for (min, verdict) in
        [("30 %", Verdict::Pass), ("30.1 %", Verdict::Inconclusive), ("50 %", Verdict::Fail)]
    {
        let result = checked(&sampled, &between(Kind::Duty, pulse(), min, ""));
        assert_eq!(result.verdict, verdict, "{min}");
    }
    let exact = capture("100 MS/s", Resolution::EXACT, 40, &[("CK", &edges)]);
    assert_eq!(checked(&exact, &between(Kind::Duty, pulse(), "40 %", "")).verdict, Verdict::Pass);
    assert_eq!(checked(&exact, &between(Kind::Duty, pulse(), "40.01 %", "")).verdict, Verdict::Fail);
    let open = checked(&sampled, &between(Kind::Duty, pulse(), "", "53.5 %"));
    assert_eq!(open.verdict, Verdict::Inconclusive);
}

#[test]
fn skew_is_the_distance_to_the_nearest_partner_on_either_side() {
    let record = capture(
        "1 GS/s",
        Resolution::EXACT,
        500,
        &[("A", &[100, 150, 200, 250, 300]), ("B", &[97, 150, 204, 250, 390])],
    );
    let skew = checked(&record, &between(Kind::Skew, pair("A rises", "B rises"), "", "4 ns"));
    // 100 - 97, 204 - 200, 390 - 300 (204 is 96 away).
    assert_eq!((counts(&skew), skew.measured), ((2, 1, 0, 0), Some(quantity("90 ns"))));
    // Sampled, a distance of 4 ticks is between 3 and 5.
    let sampled = capture("1 GS/s", Resolution::SAMPLED, 500, &[("A", &[100]), ("B", &[104])]);
    for (max, verdict) in [("5 ns", Verdict::Pass), ("4 ns", Verdict::Inconclusive), ("3 ns", Verdict::Fail)]
    {
        let result = checked(&sampled, &between(Kind::Skew, pair("A rises", "B rises"), "", max));
        assert_eq!(result.verdict, verdict, "{max}");
    }
}

#[test]
fn stable_finds_every_change_while_the_condition_holds() {
    let record = capture(
        "1 GS/s",
        Resolution::EXACT,
        500,
        &[("EN", &[100, 200, 300, 400, 450]), ("D", &[50, 120, 130, 250])],
    );
    let steady = || limit(Kind::Stable, pair("D", "EN high"), None, None);
    let stable = checked(&record, &steady());
    // Two changes in the first stretch, none in the second; the third has no end.
    assert_eq!((stable.verdict, counts(&stable)), (Verdict::Fail, (1, 2, 0, 1)));
    assert_eq!((stable.measured, stable.margin), (Some(quantity("20 ns")), None));
    // At the very edge of the stretch a sampled record cannot tell.
    let sampled = capture("1 GS/s", Resolution::SAMPLED, 500, &[("EN", &[100, 200]), ("D", &[200])]);
    assert_eq!(checked(&sampled, &steady()).verdict, Verdict::Inconclusive);
    let sampled = capture("1 GS/s", Resolution::SAMPLED, 500, &[("EN", &[100, 200]), ("D", &[202])]);
    assert_eq!(checked(&sampled, &steady()).verdict, Verdict::Pass);
}

/// An analog line of 1 mV a step and 5 mV error, a sample a tick at 1 MS/s.
fn analog(codes: &[i16]) -> Capture {
    analog_line(codes, AnalogLine::named("VDD"))
}

fn analog_line(codes: &[i16], line: AnalogLine) -> Capture {
    let volts = |text: &str| text.parse().unwrap();
    let scale = AnalogScale::new(volts("0 V"), volts("1 mV"), volts("5 mV")).unwrap();
    let mut builder = AnalogBuilder::new();
    builder.push(codes);
    let len = codes.len() as u64;
    Capture::builder(TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap(), len)
        .resolution(Resolution::SAMPLED)
        .analog(line, builder.finish(scale, 0, 1))
        .build()
        .unwrap()
}

#[test]
fn levels_and_ramps_of_analog_lines() {
    // Steady, up by 100 mV a sample, steady, down by 200 mV a sample, steady.
    let mut codes = vec![0i16; 50];
    codes.extend((1..30).map(|n| n * 100));
    codes.extend([3000; 50]);
    codes.extend((1..15).map(|n| 3000 - n * 200));
    codes.extend([0; 50]);
    codes.extend([3000; 3]);
    let record = analog(&codes);
    let level = |which| Events::Level { line: "VDD".into(), which };
    let high = checked(&record, &of(level(Which::High), "2.9 V", "3.0 V"));
    assert_eq!((counts(&high), high.measured), ((0, 0, 1, 1), Some(quantity("3 V"))));
    for (max, verdict) in
        [("3.005 V", Verdict::Pass), ("3.004 V", Verdict::Inconclusive), ("2.994 V", Verdict::Fail)]
    {
        assert_eq!(checked(&record, &of(level(Which::High), "", max)).verdict, verdict);
    }
    let all = checked(&record, &of(level(Which::All), "-10 mV", "2.9 V"));
    assert_eq!((all.verdict, all.measured), (Verdict::Fail, Some(quantity("3 V"))));
    // Where the line may move between two samples, only what was seen beyond a limit is proven.
    let pulses = PulseWidths { shortest: Some("0.5 us".parse().unwrap()), ..PulseWidths::default() };
    let quick = analog_line(&codes, AnalogLine { pulses, ..AnalogLine::named("VDD") });
    for (which, min, max, verdict) in [
        (Which::All, "-10 mV", "2.9 V", Verdict::Fail),
        (Which::All, "-10 mV", "3.1 V", Verdict::Inconclusive),
        (Which::High, "", "2.9 V", Verdict::Inconclusive),
        (Which::High, "", "3.1 V", Verdict::Inconclusive),
    ] {
        assert_eq!(checked(&quick, &of(level(which), min, max)).verdict, verdict, "{which:?} {max}");
    }
    let ramp = |kind: Kind, low: &str, high: &str| {
        let (line, low, high) = ("VDD".into(), low.parse::<Mark>().unwrap(), high.parse().unwrap());
        match kind {
            Kind::RiseTime => Events::RiseTime { line, low, high },
            _ => Events::FallTime { line, low, high },
        }
    };
    // 300 mV is reached at the third step, 2.7 V at the 27th: 24 samples; down, 12.
    for (kind, events, took) in [
        (Kind::RiseTime, ramp(Kind::RiseTime, "10 %", "90 %"), "24 us"),
        (Kind::RiseTime, ramp(Kind::RiseTime, "1 V", "2 V"), "10 us"),
        (Kind::FallTime, ramp(Kind::FallTime, "10 %", "90 %"), "12 us"),
    ] {
        let limit = of(events, "", "40 us");
        let result = checked(&record, &limit);
        assert_eq!((result.verdict, result.measured), (Verdict::Pass, Some(quantity(took))), "{kind}");
        // A tick for its two edges, a sample for each level, and what the error of a level makes of the
        // slope; no skew, since it is one input.
        let bounds = result.bounds.unwrap();
        assert!(bounds.contain(quantity(took)), "{bounds:?}");
        let width = bounds.hi.unwrap().to_f64() - bounds.lo.to_f64();
        assert!(width < 12e-6, "{width}");
        let resolution = Resolution { skew: "5 us".parse().unwrap(), ..*record.resolution() };
        let skewed = analog(&codes).into_builder().resolution(resolution).build().unwrap();
        assert_eq!(checked(&skewed, &limit).bounds, Some(bounds));
    }
    // A line that never moves has no rise, and no high level.
    let flat = analog(&[1000; 100]);
    let events = ramp(Kind::RiseTime, "10 %", "90 %");
    assert_eq!(checked(&flat, &of(events, "", "1 us")).verdict, Verdict::NotSeen);
    assert_eq!(checked(&flat, &of(level(Which::High), "1 V", "")).verdict, Verdict::NotSeen);
    assert_eq!(checked(&flat, &of(level(Which::All), "0.9 V", "")).verdict, Verdict::Pass);
}

#[test]
fn the_bit_rate_is_measured_between_edges_of_one_direction() {
    // 'U' (0x55) at 105 ticks a bit instead of 100: five falling edges, eight bits apart.
    let bits: Vec<u64> = (0..10).map(|n| 1000 + n * 105).collect();
    let toggles: Vec<u64> = std::iter::once(1).chain(bits).collect();
    let record = capture("1 MS/s", Resolution::SAMPLED, 4000, &[("TX", &toggles)]);
    let mut scope = Scope::new();
    let protocol = Protocol::Uart(UartConfig::new("10 kHz".parse().unwrap()));
    let bus = SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap();
    scope.define("log", Meaning::Frames(bus));
    let check = |nominal: Option<&str>, min: &str| {
        let nominal = nominal.map(|n| n.parse().unwrap());
        let limit = of(Events::Rate { bus: "log".into(), nominal }, min, "");
        let bound = BoundLimit::bind("J1", "link", &limit, &scope).unwrap();
        limit::check(&record, &bound, Rule::Proven).unwrap()
    };
    let result = check(None, "-5 %");
    // 800 / 840 - 1 = -4.76 %, known to 1 tick of 840.
    assert_eq!((result.verdict, counts(&result)), (Verdict::Pass, (1, 0, 0, 0)));
    assert!((result.measured.unwrap().to_f64() + 4.7619).abs() < 1e-4, "{result:?}");
    let bounds = result.bounds.unwrap();
    assert!(
        (bounds.lo.to_f64() + 4.875).abs() < 1e-3 && (bounds.hi.unwrap().to_f64() + 4.648).abs() < 1e-3,
        "{bounds:?}"
    );
    assert_eq!(check(None, "-4.7 %").verdict, Verdict::Inconclusive);
    assert_eq!(check(None, "-4.5 %").verdict, Verdict::Fail);
    assert_eq!(check(Some("9.6 kHz"), "-1 %").verdict, Verdict::Pass, "another nominal rate");
    let clocked = Events::Rate { bus: "TX".into(), nominal: None };
    let wrong = BoundLimit::bind("J1", "link", &of(clocked, "-1 %", ""), &Scope::of(&record)).unwrap_err();
    assert_eq!((wrong.key, wrong.error.message()), ("bus", "'TX' is no serial bus, so it has no bit rate"));
}

#[test]
fn bit_rates_are_within_their_bounds_whatever_is_sent() {
    const TICK: i64 = 10_000_000;
    let mut random = Random::new(11);
    let (mut seen, mut passed, mut failed) = (0, 0, 0);
    for _ in 0..300 {
        // About 100 ticks a bit nominally, off by up to 4 %, in femtoseconds.
        let bit = 100 * TICK + random.between(-4 * TICK, 4 * TICK);
        let phase = random.between(0, TICK - 1);
        let (mut edges, mut at) = (vec![TICK * 3 / 2], 2000 * TICK);
        for _ in 0..20 {
            let byte = random.below(256);
            let bits = (0..10u32).map(|n| matches!(n, 9) || (n > 0 && byte >> (n - 1) & 1 == 1));
            let mut level = true;
            for (n, wanted) in bits.enumerate() {
                if wanted != level {
                    edges.push(at + n as i64 * bit);
                    level = wanted;
                }
            }
            at += 12 * bit + random.between(0, 50 * TICK);
        }
        let ticks: Vec<u64> =
            edges.iter().map(|fs| (fs - phase + TICK - 1).div_euclid(TICK) as u64).collect();
        let record =
            capture("100 MS/s", Resolution::SAMPLED, ticks[ticks.len() - 1] + 3000, &[("TX", &ticks)]);
        let mut scope = Scope::new();
        let protocol = Protocol::Uart(UartConfig::new("1 MHz".parse().unwrap()));
        let bus = SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap();
        scope.define("log", Meaning::Frames(bus));
        let truth =
            Rational::new((100 * TICK).into(), bit.into()).unwrap().checked_sub(Rational::ONE).unwrap();
        let truth = Unit::Percent.of(truth);
        let limit = of(Events::Rate { bus: "log".into(), nominal: None }, "-2 %", "2 %");
        let bound = BoundLimit::bind("J1", "link", &limit, &scope).unwrap();
        let kept = truth >= quantity("-2 %") && truth <= quantity("2 %");
        bound
            .occurrences(&record, Rule::Proven, &mut |found| {
                if let limit::Visited::Occurrence(occurrence) = found {
                    let bounds = occurrence.bounds(&bound.span(&record, Rule::Proven)).unwrap();
                    assert!(bounds.contain(truth), "{truth} not in {bounds:?}");
                    match occurrence.verdict {
                        Verdict::Pass => assert!(kept, "{truth}: {occurrence:?}"),
                        Verdict::Fail => assert!(!kept, "{truth}: {occurrence:?}"),
                        Verdict::Inconclusive | Verdict::NotSeen => {}
                    }
                    seen += 1;
                    passed += u32::from(occurrence.verdict == Verdict::Pass);
                    failed += u32::from(occurrence.verdict == Verdict::Fail);
                }
                ControlFlow::Continue(())
            })
            .unwrap();
    }
    assert!(seen > 5000 && passed > 1000 && failed > 1000, "{seen} {passed} {failed}");
}

const TWICE: &str = r#"
[[line]]
name = "CK1"
input = 0
[[line]]
name = "CK2"
input = 1
[[part]]
reference = "U1"
limits = "p.toml"
pins = { C = "CK1" }
conditions = "3.3 V"
[[part]]
reference = "U2"
limits = "p.toml"
pins = { C = "CK2" }
conditions = "1.8 V"
values = { tCYC = "50 ns" }
"#;

const PART: &str = r#"
part = "P"
source = "made up"
made-up = true
conditions = { "3.3 V" = "VDD 3.0 V to 3.6 V", "1.8 V" = "VDD 1.65 V to 1.95 V" }
[pins]
C = "clock"
[values]
tCYC = "40 ns"
[[limit]]
symbol = "tWH"
what = "clock high"
group = "clock"
kind = "width"
pulse = "C high"
min = "tCYC / 2 - 5 ns"
typ = "0.5 tCYC"
max = { "3.3 V" = "tWL + 5 ns", "1.8 V" = "max(tWL, 2 * 20 ns)" }
[[limit]]
symbol = "tWL"
what = "clock low"
kind = "width"
pulse = "C low"
min = { "3.3 V" = "12 ns", "1.8 V" = "18 ns" }
[[limit]]
symbol = "tWX"
what = "only at the lower voltage"
kind = "width"
pulse = "C low"
max = { "1.8 V" = "1 us" }
"#;

fn twice(from: &str, to: &str) -> Result<Setup, deep_tap::Error> {
    let text = |name: &str, text: String| deep_tap::capture::Attachment { name: name.into(), text };
    let texts = [text("s.toml", TWICE.replace(from, to)), text("p.toml", PART.replace(from, to))];
    Setup::load("s.toml", &Attached(&texts))
}

#[test]
fn one_file_serves_several_parts_under_several_conditions() {
    let setup = twice("", "").unwrap();
    let told: Vec<String> = setup
        .limits()
        .map(|l| format!("{}.{} {} typ {:?}", l.reference, l.limit.symbol, l.limit.required, l.limit.typical))
        .collect();
    assert_eq!(
        told,
        [
            "U1.tWH 15 ns .. 17 ns typ Some(Time(20 ns))",
            "U1.tWL ≥ 12 ns typ None",
            "U2.tWH 20 ns .. 40 ns typ Some(Time(25 ns))",
            "U2.tWL ≥ 18 ns typ None",
            "U2.tWX ≤ 1 us typ None",
        ]
    );
    assert_eq!(setup.parts[1].part.conditions.as_deref(), Some("VDD 1.65 V to 1.95 V"));
    assert_eq!(setup.limits().next().unwrap().limit.group.as_deref(), Some("clock"));
    for (from, to, wanted) in [
        ("conditions = \"3.3 V\"\n", "", "U1 has figures for several operating conditions"),
        ("conditions = \"3.3 V\"", "conditions = \"5 V\"", "U1 has no operating conditions '5 V'"),
        ("values = { tCYC", "values = { tCYX", "the part has no value 'tCYX'"),
        (
            "values = { tCYC = \"50 ns\" }",
            "values = { tCYC = \"tWH\" }",
            "this formula refers to itself: tWH → tCYC → tWH",
        ),
        ("tCYC / 2 - 5 ns", "tCYC - 5 ns", "the minimum 35 ns is above the maximum 17 ns"),
        ("tCYC / 2 - 5 ns", "tCYC / (1 - 1)", "this divides by zero"),
        ("tCYC / 2 - 5 ns", "tCYC * tCYC", "a time times a time makes no limit"),
    ] {
        let error = twice(from, to).unwrap_err();
        assert!(
            error.to_string().contains(wanted) || format!("{error:?}").contains(wanted),
            "{wanted}: {error:?}"
        );
    }
}

#[test]
fn violations_are_listed_one_by_one_and_in_a_row() {
    // Widths of 3, 9, 4, 2, 9 ticks.
    let edges = [10, 13, 20, 29, 40, 44, 50, 52, 60, 69];
    let record = capture("1 GS/s", Resolution::EXACT, 100, &[("A", &edges)]);
    let short = between(Kind::Width, one("A high"), "5 ns", "");
    let found = limit::violations(&record, &bind(&record, &short), Rule::Proven, 10).unwrap();
    assert_eq!((found.count, found.found.len()), (3, 3));
    let told: Vec<_> =
        found.streaks.iter().map(|s| (s.first.start.0, s.last.start.0, s.worst.start.0, s.count)).collect();
    assert_eq!(told, [(10, 10, 10, 1), (40, 50, 50, 2)]);
    let few = limit::violations(&record, &bind(&record, &short), Rule::Proven, 1).unwrap();
    assert_eq!((few.count, few.found.len(), few.streaks.len()), (3, 1, 1));
    let mut seen = 0;
    bind(&record, &short)
        .occurrences(&record, Rule::Proven, &mut |_| {
            seen += 1;
            ControlFlow::Break(())
        })
        .unwrap();
    assert_eq!(seen, 1, "a walk stops when it is told to");
}
