//! One law: whoever is asked about one and the same interval gives the same bounds.

use deep_tap::capture::{AnalogBuilder, Capture};
use deep_tap::event::{Program, Scope};
use deep_tap::known::Rule;
use deep_tap::limit::{self, Kind};
use deep_tap::line::{AnalogLine, AnalogScale, Level, Line, LineId};
use deep_tap::measure::{self, answers, around, averages, chain, periods, widths};
use deep_tap::quantity::{Bounds, Percent, Rational, Time};
use deep_tap::quantity::{Quantity, Unit};
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

use crate::support::{Texts, bind, events, limit_of, one, pair, toggles};

/// What one drawn record has.
#[derive(Clone, Debug)]
struct Drawn {
    sampled: bool,
    skew: i128,
    stated: i128,
    own: [i128; 2],
    parts_per_million: i128,
    /// Ticks from the rise of A to that of B, to the fall of A, and to the next rise of A.
    delay: u64,
    width: u64,
    period: u64,
}

fn picoseconds(ps: i128) -> Time {
    Time::from_ps(ps as i64)
}

impl Drawn {
    fn resolution(&self) -> Resolution {
        Resolution {
            sampled: self.sampled,
            skew: picoseconds(self.skew),
            accuracy: Percent::from_fraction(Rational::new(self.parts_per_million, 1_000_000).unwrap()),
            extra: picoseconds(self.stated),
        }
    }

    /// Two periods of A at 100 MS/s with a pulse of B in each, and an analog line that goes up with A's
    /// second rise, one level in a sample of eight ticks.
    fn record(&self) -> Capture {
        let starts = [100, 100 + self.period, 100 + 2 * self.period];
        let len = starts[2] + 2 * self.width + 64;
        let a: Vec<u64> = starts.iter().flat_map(|start| [*start, start + self.width]).collect();
        let b: Vec<u64> =
            starts.iter().flat_map(|s| [s + self.delay, s + self.delay + self.width / 2]).collect();
        let scale = |text: &str| text.parse().unwrap();
        let mut rail = AnalogBuilder::new();
        rail.push(&(0..len / 8).map(|n| if n * 8 < starts[1] + 10 { 0 } else { 3000 }).collect::<Vec<i16>>());
        let rail = rail.finish(AnalogScale::new(scale("0 V"), scale("1 mV"), scale("5 mV")).unwrap(), 0, 8);
        let line = |name: &str, own: i128| Line { extra: picoseconds(own), ..Line::named(name) };
        Capture::builder(TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap(), len)
            .resolution(self.resolution())
            .line(line("A", self.own[0]), toggles(Level::Low, &a, len))
            .line(line("B", self.own[1]), toggles(Level::Low, &b, len))
            .analog(AnalogLine::named("RAIL"), rail)
            .build()
            .unwrap()
    }

    /// The bounds of an interval of so many ticks, by hand, in picoseconds and parts per million of them.
    fn by_hand(&self, ticks: u64, one_input: bool, own: i128) -> (i128, i128) {
        let blur = self.stated + own + if one_input { 0 } else { self.skew };
        let (ticks, quantum) = (i128::from(ticks) * 10_000, i128::from(self.sampled) * 10_000);
        let (short, long) = (ticks - quantum, ticks + quantum);
        let slower = if short < 0 { self.parts_per_million } else { -self.parts_per_million };
        let lo = short * (1_000_000 + slower) - blur * 1_000_000;
        (lo.max(0), long * (1_000_000 + self.parts_per_million) + blur * 1_000_000)
    }

    /// What everybody must say of such an interval.
    fn law(&self, ticks: u64, one_input: bool, own: i128, all: &[(&str, Bounds)]) {
        let seconds = |scaled: i128| {
            let whole = Rational::new(scaled, 1_000_000_000_000).unwrap();
            Time::from_rational(whole.checked_div(Rational::from(1_000_000)).unwrap())
        };
        let (lo, hi) = self.by_hand(ticks, one_input, own);
        let hand = (seconds(lo), seconds(hi));
        for (who, bounds) in all {
            assert_eq!((bounds.lo, bounds.hi.unwrap()), hand, "{who}: {ticks} ticks of {self:?}");
        }
    }
}

/// What the check of a limit says of its occurrences, all of which are alike.
fn checked(capture: &Capture, kind: Kind, texts: Texts) -> Bounds<Quantity> {
    let least = if kind.unit() == Unit::Time { "1 ps" } else { "1 %" };
    let limit = limit_of(events(kind, texts), Some(least.parse().unwrap()), None);
    let bound = bind(capture, &limit);
    let result = limit::check(capture, &bound, Rule::Proven).unwrap();
    let worst = result.worst.unwrap();
    assert_eq!(result.bounds, worst.bounds(&bound.span(capture, Rule::Proven)), "table and list agree");
    result.bounds.unwrap()
}

fn time_of(bounds: Bounds<Quantity>) -> Bounds {
    bounds.map(|quantity| Time::from_rational(quantity.to_rational()))
}

fn drawn() -> impl Strategy<Value = Drawn> {
    let small = || prop_oneof![Just(0i128), 1i128..9_999];
    (
        any::<bool>(),
        small(),
        small(),
        [small(), small()],
        prop_oneof![Just(0i128), 1i128..500],
        40u64..60,
        80u64..400,
    )
        .prop_flat_map(|(sampled, skew, stated, own, parts_per_million, delay, width)| {
            (width + 100..2000u64).prop_map(move |period| Drawn {
                sampled,
                skew,
                stated,
                own,
                parts_per_million,
                delay,
                width,
                period,
            })
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn all_agree_about_an_interval(drawn in drawn()) {
        let capture = drawn.record();
        let scope = Scope::of(&capture);
        let event = |text: &str| Program::compile(text, &scope).unwrap().at(capture.base()).unwrap();
        let shortest = |from: &str, to: &str| {
            chain(&capture, &[event(from), event(to)], capture.range())[0].min().unwrap().bounds
        };
        let [own_a, own_b] = drawn.own;

        // From one line to another.
        let (a, b) = (event("A rises"), event("B rises"));
        let seen = answers(&capture, &a, &b, None);
        drawn.law(drawn.delay, false, own_a + own_b, &[
            ("delay", time_of(checked(&capture, Kind::Delay, pair("A rises", "B rises")))),
            ("chain", shortest("A rises", "B rises")),
            ("answers", seen.took.min().unwrap().bounds),
        ]);

        // A pulse: both ends on one line, each off by what that line adds.
        let pulse = one("A high");
        let there = around(&capture, LineId(0), Tick(101));
        drawn.law(drawn.width, true, 2 * own_a, &[
            ("width", time_of(checked(&capture, Kind::Width, pulse.clone()))),
            ("widths", widths(&capture, LineId(0), Level::High, capture.range()).min().unwrap().bounds),
            ("chain", shortest("A rises", "A falls")),
            ("around", there.pulse.unwrap().bounds),
        ]);

        // A period.
        let mean = averages(&capture, &a, capture.range(), 1).min.unwrap();
        let found = there.period.unwrap().bounds;
        drawn.law(drawn.period, true, 2 * own_a, &[
            ("period", time_of(checked(&capture, Kind::Period, one("A rises")))),
            ("periods", periods(&capture, &a, capture.range()).min().unwrap().bounds),
            ("around", found),
        ]);
        prop_assert!((mean.lo - found.lo.to_f64()).abs() < 1e-15 && (mean.hi - found.hi.unwrap().to_f64()).abs() < 1e-15);

        // A share of one.
        let share = checked(&capture, Kind::Duty, pulse).map(Quantity::to_rational);
        prop_assert_eq!(share, there.duty.unwrap().bounds.map(Percent::to_fraction));
        let first = measure::duty(&capture, LineId(0), Tick(0)..Tick(101 + drawn.period)).unwrap();
        prop_assert!((share.lo.to_f64() - first.lo).abs() < 1e-12 && (share.hi.unwrap().to_f64() - first.hi).abs() < 1e-12);

        // To a voltage, whose sample comes eight ticks after the one before.
        let crossing = "RAIL rises through 1.5 V";
        let seen = answers(&capture, &a, &event(crossing), None);
        let soonest = seen.took.min().unwrap();
        let ticks = capture.base().ticks_in(soonest.value).unwrap().numerator() as u64;
        prop_assert_eq!(soonest.at, Some(capture.base().time_of(Tick(100 + drawn.period))));
        drawn.law(ticks, false, own_a + 80_000, &[
            ("delay", time_of(checked(&capture, Kind::Delay, pair("A rises", crossing)))),
            ("chain", shortest("A rises", crossing)),
            ("answers", soonest.bounds),
        ]);
    }
}

/// A pulse of one tick has its own end, not that of the pulse after it.
#[test]
fn a_pulse_of_one_tick_is_found_at_its_place() {
    let capture =
        crate::support::capture("100 MS/s", Resolution::SAMPLED, 100, &[("A", &[10, 11, 20, 21, 22, 30])]);
    let width = |at: u64| around(&capture, LineId(0), Tick(at)).pulse.unwrap().value.to_string();
    assert_eq!(
        (width(10), width(11), width(20), width(21)),
        ("10 ns".into(), "90 ns".into(), "10 ns".into(), "10 ns".into())
    );
    let there = around(&capture, LineId(0), Tick(10));
    assert_eq!(there.period.unwrap().value.to_string(), "100 ns");
    assert_eq!(there.duty.unwrap().value.to_string(), "10 %");
}
