//! Values and what they cause: on another bus, on parallel lines, as a voltage, against records made for them.

use deep_tap::capture::{AnalogBuilder, Capture};
use deep_tap::expect::{Detail, DeviationKind, FollowResult};
use deep_tap::limit::Verdict;
use deep_tap::line::{AnalogLine, AnalogScale};
use deep_tap::setup::Setup;
use deep_tap::time::{Resolution, TimeBase};
use proptest::prelude::*;

use crate::support::{self, capture, toggles, with_spikes};

const SETUP: &str = r#"
[[line]]
name = "CLK"
input = 0

[[line]]
name = "DATA"
input = 1

[[line]]
name = "CLK2"
input = 2

[[line]]
name = "DATA2"
input = 3

[[analog]]
name = "OUT"
input = 0

[[bus]]
name = "ask"
kind = "clocked"
clock = "CLK"
data = "DATA"
bits = 4
gap = "50 us"

[[bus]]
name = "show"
kind = "clocked"
clock = "CLK2"
data = "DATA2"
bits = 8
gap = "50 us"
"#;

const ON_BUS: &str = r#"
[[follow]]
name = "echo"
from = { bus = "ask", value = "data[0]" }
to = { bus = "show", value = "data[0](6..3)" }
within = "300 us"
"#;

const VOLTAGE: &str = r#"
[[follow]]
name = "volts"
from = { bus = "ask", value = "data[0]" }
to = { analog = "OUT", tolerance = "60 mV" }
per-count = "100 mV"
offset = "1 V"
within = "200 us"
"#;

/// Words on a clock and a data line, at 1 MS/s and ten ticks a bit, each from a tick on.
fn words(words: &[(u64, u64)], bits: u64) -> (Vec<u64>, Vec<u64>) {
    let (mut clock, mut data, mut level) = (Vec::new(), Vec::new(), false);
    for (start, word) in words {
        for bit in 0..bits {
            let (at, wanted) = (start + bit * 10, word >> (bits - 1 - bit) & 1 == 1);
            if wanted != level {
                data.push(at);
                level = wanted;
            }
            clock.extend([at + 5, at + 10]);
        }
    }
    (clock, data)
}

fn follow(setup: &Setup, record: &Capture) -> FollowResult {
    match setup.expectations[0].check(record).unwrap().found {
        Detail::Follow(result) => *result,
        other => panic!("{other:?}"),
    }
}

/// How each value ended.
fn told(result: &FollowResult) -> Vec<(Verdict, Option<DeviationKind>)> {
    result.values.iter().map(|value| (value.verdict, value.kind)).collect()
}

/// What is asked, and what shows, each from a tick on.
fn on_bus(asked: &[(u64, u64)], shows: &[(u64, u64)], len: u64) -> FollowResult {
    let setup = support::setup(&format!("{SETUP}{ON_BUS}")).unwrap();
    follow(&setup, &both(asked, shows, len))
}

fn both(asked: &[(u64, u64)], shows: &[(u64, u64)], len: u64) -> Capture {
    let (clock, data) = words(asked, 4);
    let shifted: Vec<(u64, u64)> = shows.iter().map(|(at, value)| (*at, value << 3 | 0x81)).collect();
    let (clock2, data2) = words(&shifted, 8);
    let lines: [(&str, &[u64]); 4] = [("CLK", &clock), ("DATA", &data), ("CLK2", &clock2), ("DATA2", &data2)];
    capture("1 MS/s", Resolution::EXACT, len, &lines)
}

#[test]
fn each_value_shows_on_the_other_bus() {
    let pass = (Verdict::Pass, None);
    let result = on_bus(&[(100, 3), (500, 9), (900, 9)], &[(200, 3), (700, 9), (1000, 9)], 1600);
    assert_eq!((result.judged.verdict, told(&result)), (Verdict::Pass, vec![pass; 3]));
    let (shortest, longest) = result.took.unwrap();
    assert_eq!((shortest.value.to_string(), longest.value.to_string()), ("69 us".into(), "169 us".into()));
    // Another value; none; one that nobody asked for; too late; and the record's end.
    let differs = (Verdict::Fail, Some(DeviationKind::Differs));
    assert_eq!(told(&on_bus(&[(100, 3), (900, 4)], &[(200, 2), (1000, 4)], 1600)), [differs, pass]);
    let missing = (Verdict::Fail, Some(DeviationKind::Missing));
    assert_eq!(told(&on_bus(&[(100, 3), (900, 4)], &[(1000, 4)], 1600)), [missing, pass]);
    let unasked = (Verdict::Fail, Some(DeviationKind::TooMuch));
    assert_eq!(
        told(&on_bus(&[(100, 3), (500, 3)], &[(200, 3), (600, 3), (1000, 4)], 1600)),
        [pass, pass, unasked]
    );
    let late = on_bus(&[(100, 3), (900, 3)], &[(460, 3), (1000, 3)], 1600);
    assert_eq!(told(&late), [missing, unasked, pass]);
    let cut = on_bus(&[(100, 3), (1400, 4)], &[(200, 3)], 1600);
    assert_eq!((cut.judged.verdict, cut.judged.counts.unpaired), (Verdict::Pass, 1));
    // One value that was lost does not take those of its neighbours.
    let lost = on_bus(&[(100, 1), (220, 2), (340, 3)], &[(300, 2), (450, 3)], 1600);
    assert_eq!(told(&lost), [missing, pass, pass]);
    // 300 us, to a tick.
    let near = on_bus(&[(100, 3), (900, 3)], &[(431, 3), (1000, 3)], 1600);
    assert_eq!(told(&near)[0], (Verdict::Inconclusive, Some(DeviationKind::Pause)));
}

/// A voltage in tens of millivolts, sampled every ten ticks.
fn voltage(asked: &[(u64, u64)], centivolts: impl Fn(u64) -> f64, len: u64) -> FollowResult {
    let setup = support::setup(&format!("{SETUP}{VOLTAGE}")).unwrap();
    let volts = |text: &str| text.parse().unwrap();
    let scale = AnalogScale::new(volts("0 V"), volts("10 mV"), volts("10 mV")).unwrap();
    let mut builder = AnalogBuilder::new();
    for sample in 0..len / 10 {
        builder.push(&[centivolts(sample * 10).round() as i16]);
    }
    let (clock, data) = words(asked, 4);
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
    let low = deep_tap::line::Level::Low;
    let record = Capture::builder(base, len)
        .resolution(Resolution::SAMPLED)
        .line(deep_tap::line::Line::named("CLK"), toggles(low, &clock, len))
        .line(deep_tap::line::Line::named("DATA"), toggles(low, &data, len))
        .line(deep_tap::line::Line::named("CLK2"), toggles(low, &[], len))
        .line(deep_tap::line::Line::named("DATA2"), toggles(low, &[], len))
        .analog(AnalogLine::named("OUT"), builder.finish(scale, 0, 10))
        .build()
        .unwrap();
    follow(&setup, &record)
}

#[test]
fn each_value_is_a_voltage_until_the_next() {
    let asked = [(100, 5), (1000, 12)];
    // 1.5 V from tick 200 on, 2.2 V from tick 1100 on.
    let good = |tick: u64| {
        if tick < 200 {
            30.0
        } else if tick < 1100 {
            150.0
        } else {
            220.0
        }
    };
    let result = voltage(&asked, good, 2000);
    assert_eq!((result.judged.verdict, result.judged.counts.passed), (Verdict::Pass, 2));
    // The last bit is taken at tick 135; the voltage was sampled at 190, and at 200.
    let took = result.values[0].took.unwrap();
    let hi = took.bounds.hi.unwrap();
    assert!(took.bounds.lo <= support::time("55 us") && hi >= support::time("65 us"), "{took:?}");
    assert!(took.bounds.lo >= support::time("45 us") && hi <= support::time("75 us"), "{took:?}");
    let with = |change: &dyn Fn(u64) -> Option<f64>| {
        let result = voltage(&asked, |tick| change(tick).unwrap_or_else(|| good(tick)), 2000);
        told(&result)[0]
    };
    // Too far off; too late; a dip long after; and within the sum of tolerance and error, nobody knows.
    let off = with(&|tick| (200..1100).contains(&tick).then_some(160.0));
    assert_eq!(off, (Verdict::Fail, Some(DeviationKind::Differs)));
    let late = with(&|tick| (200..500).contains(&tick).then_some(30.0));
    assert_eq!(late, (Verdict::Fail, Some(DeviationKind::Differs)));
    let dip = with(&|tick| (700..720).contains(&tick).then_some(140.0));
    assert_eq!(dip, (Verdict::Fail, Some(DeviationKind::TooMuch)));
    let near = with(&|tick| (200..1100).contains(&tick).then_some(156.0));
    assert_eq!(near.0, Verdict::Inconclusive);
    assert_eq!(with(&|tick| (200..1100).contains(&tick).then_some(154.0)).0, Verdict::Pass);
    // The next value is asked for before the time is over.
    let soon = voltage(&[(100, 5), (220, 12)], |tick| if tick < 300 { 30.0 } else { 220.0 }, 2000);
    assert_eq!(told(&soon), [(Verdict::NotSeen, None), (Verdict::Pass, None)]);
}

#[test]
fn follows_that_cannot_be_are_refused() {
    for (from, to, wanted) in [
        ("analog = \"OUT\"", "analog = \"OUD\"", "'OUD' is no bus and no analog line"),
        (", tolerance = \"60 mV\"", "", "nothing says how near a voltage must come"),
        ("per-count = \"100 mV\"\n", "", "nothing says which voltage a value is"),
        ("per-count = \"100 mV\"", "per-count = \"3\"", "'3' does not scale what shows"),
        ("within = \"200 us\"\n", "", "has no 'within'"),
        ("value = \"data[0]\"", "value = \"date[0]\"", "this bus has no field 'date'"),
        (", value = \"data[0]\"", "", "a transfer has more than one value"),
        ("from = {", "from = { analog = \"OUT\",", "this is a value of one 'bus', or of one 'analog' line"),
    ] {
        assert!(VOLTAGE.contains(from), "{from}");
        let error = support::setup(&format!("{SETUP}{}", VOLTAGE.replacen(from, to, 1))).unwrap_err();
        assert!(error.to_string().contains(wanted), "{wanted}: {error}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// A sender that shows another value, or none, for one that is asked for: that one fails, and no other.
    #[test]
    fn the_one_that_does_not_follow_is_found(
        values in proptest::collection::vec(0u64..16, 2..20), at in any::<prop::sample::Index>(), how in 0u8..3,
        delay in 60u64..280,
    ) {
        let at = at.index(values.len());
        let asked: Vec<(u64, u64)> = (1u64..).zip(&values).map(|(n, value)| (n * 1000, *value)).collect();
        let mut shows: Vec<(u64, u64)> = asked.iter().map(|(from, value)| (from + 40 + delay, *value)).collect();
        match how {
            0 => shows[at].1 ^= 1,
            1 => drop(shows.remove(at)),
            _ => shows.insert(at + 1, (shows[at].0 + 400, 7)),
        }
        let result = on_bus(&asked, &shows, 1000 * (values.len() as u64 + 2));
        let failed: Vec<_> = result.values.iter().filter(|value| value.verdict == Verdict::Fail).collect();
        prop_assert_eq!(failed.len(), 1, "{:?}", failed);
        let wanted = [DeviationKind::Differs, DeviationKind::Missing, DeviationKind::TooMuch][how as usize];
        prop_assert_eq!(failed[0].kind, Some(wanted));
        prop_assert_eq!(result.judged.counts.passed, values.len() as u64 - u64::from(how < 2));
    }

    /// Whatever spikes do to what is read: what follows never fails, and what does not never passes.
    #[test]
    fn spikes_never_decide_what_follows(
        values in proptest::collection::vec(0u64..16, 2..12), at in any::<prop::sample::Index>(), how in 0u8..3,
        spikes in proptest::collection::vec((0usize..4, any::<u64>()), 1..8),
    ) {
        let setup = support::setup(&format!("{SETUP}{ON_BUS}")).unwrap();
        let at = at.index(values.len());
        let asked: Vec<(u64, u64)> = (1u64..).zip(&values).map(|(n, value)| (n * 1000, *value)).collect();
        let mut shows: Vec<(u64, u64)> = asked.iter().map(|(from, value)| (from + 150, *value)).collect();
        let len = 1000 * (values.len() as u64 + 2);
        let result = follow(&setup, &with_spikes(&both(&asked, &shows, len), &spikes, 200));
        prop_assert!(result.judged.verdict != Verdict::Fail, "{:?}", result.values);
        match how {
            0 => shows[at].1 ^= 1,
            1 => drop(shows.remove(at)),
            _ => shows.insert(at + 1, (shows[at].0 + 400, 7)),
        }
        let result = follow(&setup, &with_spikes(&both(&asked, &shows, len), &spikes, 200));
        prop_assert!(result.judged.verdict != Verdict::Pass, "{:?}", result.values);
        prop_assert!(result.judged.counts.failed <= 1, "{:?}", result.values);
    }
}
