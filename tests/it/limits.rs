//! Hand-computed verdicts on each boundary and one tick to either side, at 24 MS/s, whose tick of
//! 1/24 us no decimal writes.

use std::ops::ControlFlow;

use deep_tap::ErrorKind;
use deep_tap::capture::Capture;
use deep_tap::decode::{Protocol, SerialBus, UartConfig};
use deep_tap::event::{Meaning, Scope};
use deep_tap::known::{Precision, Rule};
use deep_tap::limit::{self, BoundLimit, Doubt, Kind, Limit, Reason, Runs, Verdict, Which, check};
use deep_tap::line::{Level, Line, LineId, PulseWidths};
use deep_tap::quantity::{Percent, Rational, Time};
use deep_tap::time::{Resolution, Tick, TimeBase};

use crate::support::{Texts, bind, capture, data, limit, occurrences, one, pair, time, toggles};

const RATE: &str = "24 MS/s";

/// This many ticks of 1/24 us, exactly.
fn ticks(n: i128) -> Option<Time> {
    Some(Time::from_rational(Rational::new(n, 24_000_000).unwrap()))
}

fn verdict(capture: &Capture, kind: Kind, texts: Texts, min: Option<Time>, max: Option<Time>) -> Verdict {
    limit::check(capture, &bind(capture, &limit(kind, texts, min, max)), Rule::Proven).unwrap().verdict
}

/// A pulse on `P` from tick 100, this many ticks long.
fn pulse(length: u64, resolution: Resolution) -> Capture {
    capture(RATE, resolution, 1000, &[("P", &[100, 100 + length])])
}

fn width() -> Texts {
    one("P high")
}

#[test]
fn a_sampled_width_is_known_within_a_tick_to_either_side_both_ends_excluded() {
    // Ten ticks counted: the truth lies strictly between nine and eleven.
    let capture = pulse(10, Resolution::SAMPLED);
    for (min, wanted) in [
        (8, Verdict::Pass),
        (9, Verdict::Pass), // all of (9, 11) is at least 9
        (10, Verdict::Inconclusive),
        (11, Verdict::Fail), // all of (9, 11) is less than 11
        (12, Verdict::Fail),
    ] {
        assert_eq!(verdict(&capture, Kind::Width, width(), ticks(min), None), wanted, "minimum {min} ticks");
    }
    for (max, wanted) in [
        (12, Verdict::Pass),
        (11, Verdict::Pass),
        (10, Verdict::Inconclusive),
        (9, Verdict::Fail),
        (8, Verdict::Fail),
    ] {
        assert_eq!(verdict(&capture, Kind::Width, width(), None, ticks(max)), wanted, "maximum {max} ticks");
    }
    // A whisker beside the boundary decides: the comparison is exact, not to a rounded decimal.
    let whisker = |n: i128, atto: i128| {
        let whisker = Rational::new(atto, 1_000_000_000_000_000_000).unwrap();
        Some(Time::from_rational(ticks(n).unwrap().to_rational().checked_add(whisker).unwrap()))
    };
    assert_eq!(verdict(&capture, Kind::Width, width(), whisker(9, 1), None), Verdict::Inconclusive);
    assert_eq!(verdict(&capture, Kind::Width, width(), whisker(11, -1), None), Verdict::Inconclusive);
    assert_eq!(verdict(&capture, Kind::Width, width(), None, whisker(11, -1)), Verdict::Inconclusive);
    assert_eq!(verdict(&capture, Kind::Width, width(), None, whisker(9, 1)), Verdict::Inconclusive);
    // Both ends of a range.
    assert_eq!(verdict(&capture, Kind::Width, width(), ticks(9), ticks(11)), Verdict::Pass);
    assert_eq!(verdict(&capture, Kind::Width, width(), ticks(9), ticks(10)), Verdict::Inconclusive);
    assert_eq!(verdict(&capture, Kind::Width, width(), ticks(2), ticks(9)), Verdict::Fail);
}

#[test]
fn an_exact_record_has_no_room_for_doubt() {
    let capture = pulse(10, Resolution::EXACT);
    for (min, wanted) in [(9, Verdict::Pass), (10, Verdict::Pass), (11, Verdict::Fail)] {
        assert_eq!(verdict(&capture, Kind::Width, width(), ticks(min), None), wanted, "minimum {min}");
    }
    for (max, wanted) in [(11, Verdict::Pass), (10, Verdict::Pass), (9, Verdict::Fail)] {
        assert_eq!(verdict(&capture, Kind::Width, width(), None, ticks(max)), wanted, "maximum {max}");
    }
    // Unless the user states one: then both bounds belong to what is possible.
    let stated = Resolution { extra: ticks(1).unwrap(), ..Resolution::EXACT };
    let capture = pulse(10, stated);
    for (min, wanted) in
        [(9, Verdict::Pass), (10, Verdict::Inconclusive), (11, Verdict::Inconclusive), (12, Verdict::Fail)]
    {
        assert_eq!(verdict(&capture, Kind::Width, width(), ticks(min), None), wanted, "minimum {min}");
    }
}

#[test]
fn skew_enters_between_inputs_and_the_clock_error_everywhere() {
    let skewed = Resolution { skew: ticks(2).unwrap(), ..Resolution::SAMPLED };
    // One input: no skew.
    assert_eq!(verdict(&pulse(10, skewed), Kind::Width, width(), ticks(9), None), Verdict::Pass);
    // Two inputs, ten ticks apart: strictly between 10 - 1 - 2 and 10 + 1 + 2.
    let two = capture(RATE, skewed, 1000, &[("A", &[100, 300]), ("B", &[110, 310])]);
    let delay = || pair("A rises", "B rises");
    for (min, wanted) in
        [(7, Verdict::Pass), (8, Verdict::Inconclusive), (12, Verdict::Inconclusive), (13, Verdict::Fail)]
    {
        assert_eq!(verdict(&two, Kind::Delay, delay(), ticks(min), None), wanted, "minimum {min}");
    }
    // One part in a hundred of the bound: (9 * 0.99, 11 * 1.01).
    let off = Resolution {
        accuracy: Percent::from_fraction(Rational::new(1, 100).unwrap()),
        ..Resolution::SAMPLED
    };
    let off = pulse(10, off);
    let hundredths = |n: i128| Some(Time::from_rational(Rational::new(n, 2_400_000_000).unwrap()));
    for (min, wanted) in [
        (891, Verdict::Pass),
        (892, Verdict::Inconclusive),
        (1110, Verdict::Inconclusive),
        (1111, Verdict::Fail),
    ] {
        assert_eq!(
            verdict(&off, Kind::Width, width(), hundredths(min), None),
            wanted,
            "minimum {min} hundredths"
        );
    }
}

#[test]
fn setup_and_hold_on_both_sides_of_the_reference() {
    // Data changes at 90 and 106, the clock rises at 100.
    let both = capture(RATE, Resolution::SAMPLED, 1000, &[("D", &[90, 106]), ("CLK", &[100, 150])]);
    let events = || data("D", "CLK rises");
    assert_eq!(verdict(&both, Kind::Setup, events(), ticks(9), None), Verdict::Pass);
    assert_eq!(verdict(&both, Kind::Setup, events(), ticks(10), None), Verdict::Inconclusive);
    assert_eq!(verdict(&both, Kind::Setup, events(), ticks(11), None), Verdict::Fail);
    assert_eq!(verdict(&both, Kind::Hold, events(), ticks(5), None), Verdict::Pass);
    assert_eq!(verdict(&both, Kind::Hold, events(), ticks(6), None), Verdict::Inconclusive);
    assert_eq!(verdict(&both, Kind::Hold, events(), ticks(7), None), Verdict::Fail);
    // Exactly together in an exact record: that is a hold of zero, and no setup (IEEE 1364, 15.2).
    let together = capture(RATE, Resolution::EXACT, 1000, &[("D", &[40, 100]), ("CLK", &[100, 150])]);
    let (setup, _) = occurrences(&together, &limit(Kind::Setup, events(), ticks(1), None));
    assert_eq!((setup[0].measured.ticks().unwrap(), setup[0].verdict), (60, Verdict::Pass));
    let (hold, _) = occurrences(&together, &limit(Kind::Hold, events(), ticks(1), None));
    assert_eq!((hold[0].measured.ticks().unwrap(), hold[0].verdict), (0, Verdict::Fail));
    // Together in a sampled record: either may be violated, neither is proven to be.
    let together = capture(RATE, Resolution::SAMPLED, 1000, &[("D", &[40, 100, 400]), ("CLK", &[100, 150])]);
    for kind in [Kind::Setup, Kind::Hold] {
        let (found, _) = occurrences(&together, &limit(kind, events(), ticks(5), None));
        assert_eq!((found[0].verdict, found[0].doubt), (Verdict::Inconclusive, Some(Doubt::Order)), "{kind}");
    }
    // But where even the change before is too close, setup is violated whatever the order.
    let close = capture(RATE, Resolution::SAMPLED, 1000, &[("D", &[98, 100]), ("CLK", &[100, 150])]);
    assert_eq!(verdict(&close, Kind::Setup, events(), ticks(5), None), Verdict::Fail);
}

#[test]
fn a_delay_is_answered_by_the_first_event_before_the_next_start() {
    // Starts at 100, 200, 300, 400; answers at 110 and 320, and one at 90 that answers nothing.
    let lines: [(&str, &[u64]); 2] =
        [("A", &[100, 150, 200, 250, 300, 350, 400]), ("B", &[90, 95, 110, 115, 320, 325])];
    let record = capture(RATE, Resolution::SAMPLED, 1000, &lines);
    let (found, unpaired) =
        occurrences(&record, &limit(Kind::Delay, pair("A rises", "B rises"), None, ticks(15)));
    let told: Vec<_> = found.iter().map(|o| (o.start.0, o.measured.ticks().unwrap(), o.verdict)).collect();
    assert_eq!(told, [(100, 10, Verdict::Pass), (300, 20, Verdict::Fail)]);
    assert_eq!(unpaired, 2, "the starts at 200 and 400");
    // On the same tick the answer may have come before: it passes only if the next one would too.
    let lines: [(&str, &[u64]); 2] = [("A", &[100, 150]), ("B", &[100, 104, 112, 120])];
    let record = capture(RATE, Resolution::SAMPLED, 1000, &lines);
    assert_eq!(verdict(&record, Kind::Delay, pair("A rises", "B changes"), None, ticks(5)), Verdict::Pass);
    assert_eq!(
        verdict(&record, Kind::Delay, pair("A rises", "B changes"), None, ticks(4)),
        Verdict::Inconclusive
    );
    // In an exact record it is the answer.
    let record = capture(RATE, Resolution::EXACT, 1000, &lines);
    let (found, _) = occurrences(&record, &limit(Kind::Delay, pair("A rises", "B changes"), None, ticks(4)));
    assert_eq!((found[0].measured.ticks().unwrap(), found[0].verdict), (0, Verdict::Pass));
}

#[test]
fn periods_widths_and_what_the_ends_of_the_record_cut_off() {
    let record = capture(RATE, Resolution::SAMPLED, 130, &[("P", &[10, 15, 50, 58, 110])]);
    let (found, unpaired) = occurrences(&record, &limit(Kind::Period, one("P rises"), ticks(41), None));
    let told: Vec<_> = found.iter().map(|o| (o.measured.ticks().unwrap(), o.verdict)).collect();
    assert_eq!(told, [(40, Verdict::Fail), (60, Verdict::Pass)], "all of (39, 41) is less than 41");
    assert_eq!(unpaired, 0);
    let (found, unpaired) = occurrences(&record, &limit(Kind::Width, width(), ticks(6), None));
    assert_eq!(found.iter().map(|o| o.measured.ticks().unwrap()).collect::<Vec<_>>(), [5, 8]);
    assert_eq!(unpaired, 1, "the pulse at 110 is cut off by the end");
    let (_, unpaired) = occurrences(&record, &limit(Kind::Width, one("P low"), ticks(6), None));
    assert_eq!(unpaired, 1, "the low time before 10 is cut off by the start");
}

#[test]
fn over_several_captures_the_worst_of_all_counts() {
    let limit = limit(Kind::Width, one("A high"), Some(time("100 ns")), None);
    let run = |lengths: &[u64]| {
        let mut ticks = Vec::new();
        for (number, length) in lengths.iter().enumerate() {
            ticks.extend([100 * (number as u64 + 1), 100 * (number as u64 + 1) + length]);
        }
        let record = capture("100 MS/s", Resolution::SAMPLED, 1000, &[("A", &ticks[..])]);
        vec![check(&record, &bind(&record, &limit), Rule::Proven).unwrap()]
    };
    let mut runs = Runs::default();
    assert!(runs.is_empty());
    // Nothing at all, two passes, one on the limit, two violations, another pass.
    for (lengths, verdict, worst_run, seen) in [
        (&[][..], Verdict::NotSeen, 0, 0),
        (&[20, 30], Verdict::Pass, 1, 2),
        (&[10, 15], Verdict::Inconclusive, 2, 4),
        (&[8, 7, 20], Verdict::Fail, 3, 7),
        (&[40, 8], Verdict::Fail, 3, 9),
    ] {
        runs.add(run(lengths));
        let over = &runs.results()[0];
        assert_eq!(
            (over.result.verdict, over.worst_run, over.result.counts.seen),
            (verdict, worst_run, seen)
        );
    }
    let over = &runs.results()[0];
    assert_eq!((runs.len(), over.failed_runs), (5, 2));
    assert_eq!((over.result.counts.passed, over.result.counts.failed), (5, 3));
    assert_eq!(over.result.margin, Some(time("-30 ns").into()));
    let statistics = over.result.statistics.unwrap();
    assert_eq!((statistics.min, statistics.max), (time("70 ns").into(), time("400 ns").into()));
    let mean = f64::from(20 + 30 + 10 + 15 + 8 + 7 + 20 + 40 + 8) * 10e-9 / 9.0;
    assert!((statistics.mean - mean).abs() < 1e-15);
}

#[test]
fn what_never_happened_is_not_a_pass() {
    let record = capture(RATE, Resolution::SAMPLED, 1000, &[("A", &[100]), ("B", &[])]);
    let result = limit::check(
        &record,
        &bind(&record, &limit(Kind::Delay, pair("B rises", "A rises"), None, ticks(5))),
        Rule::Proven,
    )
    .unwrap();
    assert_eq!((result.verdict, result.counts.seen, result.worst), (Verdict::NotSeen, 0, None));
}

#[test]
fn a_minimum_width_of_a_tick_or_less_cannot_be_proven() {
    let record = pulse(10, Resolution::SAMPLED);
    for (min, wanted) in [(1, Verdict::Inconclusive), (2, Verdict::Pass)] {
        let result = limit::check(
            &record,
            &bind(&record, &limit(Kind::Width, width(), ticks(min), None)),
            Rule::Proven,
        );
        let result = result.unwrap();
        assert_eq!(result.verdict, wanted, "minimum {min}");
        assert_eq!(result.reason, (min == 1).then_some(Reason::HiddenPulses));
    }
    assert_eq!(verdict(&pulse(10, Resolution::EXACT), Kind::Width, width(), ticks(1), None), Verdict::Pass);
}

#[test]
fn unknown_levels_make_an_occurrence_inconclusive() {
    let base = TimeBase::from_rate(RATE.parse().unwrap()).unwrap();
    let mut d = deep_tap::capture::TraceBuilder::new(Level::Low);
    for (tick, level) in [(90, Level::High), (95, Level::Unknown), (97, Level::High), (290, Level::Low)] {
        d.push_edge(Tick(tick), level).unwrap();
    }
    let record = Capture::builder(base, 1000)
        .resolution(Resolution::EXACT)
        .line(Line::named("D"), d.finish(1000))
        .line(Line::named("CLK"), toggles(Level::Low, &[100, 150, 300], 1000))
        .build()
        .unwrap();
    let (hold, _) = occurrences(&record, &limit(Kind::Setup, data("D", "CLK rises"), ticks(1), None));
    let told: Vec<_> = hold.iter().map(|o| (o.measured.ticks().unwrap(), o.verdict, o.doubt)).collect();
    assert_eq!(told, [(3, Verdict::Pass, None), (10, Verdict::Pass, None)], "known from its last change on");
    let (delay, _) = occurrences(&record, &limit(Kind::Delay, pair("D rises", "CLK rises"), ticks(1), None));
    assert_eq!(
        (delay[0].measured.ticks().unwrap(), delay[0].verdict, delay[0].doubt),
        (10, Verdict::Inconclusive, Some(Doubt::Unknown))
    );
}

#[test]
fn a_qualifier_that_changes_with_the_edge_leaves_the_occurrence_open() {
    // EN rises on the same tick as the second clock edge: whether it counts is not certain.
    let lines: [(&str, &[u64]); 3] =
        [("CLK", &[100, 150, 200, 250]), ("EN", &[50, 160, 200]), ("Q", &[130, 230])];
    let record = capture(RATE, Resolution::SAMPLED, 1000, &lines);
    let (found, _) = occurrences(
        &record,
        &limit(Kind::Delay, pair("CLK rises while EN high", "Q changes"), None, ticks(20)),
    );
    let told: Vec<_> = found.iter().map(|o| (o.start.0, o.verdict)).collect();
    assert_eq!(told, [(100, Verdict::Fail), (200, Verdict::Inconclusive)]);
}

#[test]
fn the_result_counts_and_names_the_worst() {
    let record = capture(RATE, Resolution::SAMPLED, 2000, &[("P", &[10, 20, 50, 62, 100, 111, 150, 158])]);
    let check = |min: Option<Time>, rule| {
        limit::check(&record, &bind(&record, &limit(Kind::Width, width(), min, None)), rule).unwrap()
    };
    // Widths 10, 12, 11, 8 against a minimum of 8.5 ticks.
    let half = |n: i128| Some(Time::from_rational(Rational::new(n, 48_000_000).unwrap()));
    let result = check(half(17), Rule::Proven);
    assert_eq!(result.verdict, Verdict::Inconclusive);
    let counts = result.counts;
    assert_eq!((counts.seen, counts.passed, counts.failed, counts.inconclusive), (4, 3, 0, 1));
    assert_eq!(result.worst.unwrap().measured.ticks().unwrap(), 8);
    assert_eq!(result.margin, half(-1).map(Into::into));
    assert_eq!(result.statistics.unwrap().max, ticks(12).unwrap().into());
    // The named alternative takes the counted value.
    assert_eq!(check(half(17), Rule::Measured).verdict, Verdict::Fail);
    assert_eq!(check(ticks(8), Rule::Measured).verdict, Verdict::Pass);
    let overall = |verdicts: &[Verdict]| limit::overall(verdicts.iter().copied());
    assert_eq!(overall(&[Verdict::Pass, Verdict::NotSeen, Verdict::Inconclusive]), Verdict::Inconclusive);
    assert_eq!(overall(&[Verdict::Fail, Verdict::Inconclusive]), Verdict::Fail);
    assert_eq!(overall(&[]), Verdict::NotSeen);
}

#[test]
fn pins_stand_for_lines_and_buses() {
    let record = capture(RATE, Resolution::SAMPLED, 1000, &[("D1", &[90]), ("D0", &[94]), ("CLK", &[100])]);
    let bus =
        deep_tap::line::Bus::new("DATA", vec![deep_tap::line::LineId(0), deep_tap::line::LineId(1)]).unwrap();
    let mut pins = Scope::new();
    pins.define("DQ", Meaning::Bus(bus));
    pins.define("CK", Meaning::Line(deep_tap::line::LineId(2)));
    let bound =
        BoundLimit::bind("U1", "part", &limit(Kind::Setup, data("DQ", "CK rises"), ticks(1), None), &pins);
    let result = limit::check(&record, &bound.unwrap(), Rule::Proven).unwrap();
    assert_eq!(result.worst.unwrap().measured.ticks().unwrap(), 6, "the last of the group's changes");
}

#[test]
fn limits_on_frames_are_decided_where_the_frames_are_certain() {
    let us = |n: i64| Some(time(&format!("{n} us")));
    // 'A' at 10 ticks a bit, over at tick 200, and what answers it.
    let toggles = [1, 100, 110, 120, 170, 180, 190];
    let record = |resolution| capture("1 MS/s", resolution, 500, &[("TX", &toggles), ("DONE", &[230])]);
    let scope = |bit_rate: &str| {
        let mut scope = Scope::new();
        let protocol = Protocol::Uart(UartConfig::new(bit_rate.parse().unwrap()));
        let bus = SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap();
        scope.define("log", Meaning::Frames(bus));
        scope.define("DONE", Meaning::Line(LineId(1)));
        scope
    };
    let check = |resolution, max: i64, rule| {
        let limit = limit(Kind::Delay, pair("log has data == \"A\"", "DONE rises"), None, us(max));
        let bound = BoundLimit::bind("U1", "firmware", &limit, &scope("100 kHz")).unwrap();
        let result = limit::check(&record(resolution), &bound, rule).unwrap();
        (result.verdict, result.reason, result.measured)
    };
    let (exact, sampled) = (Resolution::EXACT, Resolution::SAMPLED);
    // An end that is worked out may lie anywhere in its tick, even of an exact record.
    assert_eq!(check(exact, 40, Rule::Proven).0, Verdict::Pass);
    assert_eq!(check(exact, 20, Rule::Proven).0, Verdict::Fail);
    assert_eq!(check(sampled, 40, Rule::Proven).0, Verdict::Pass);
    assert_eq!(check(sampled, 20, Rule::Proven).0, Verdict::Fail);
    assert_eq!(check(sampled, 40, Rule::Measured).0, Verdict::Pass);
    assert_eq!(check(sampled, 20, Rule::Measured).0, Verdict::Fail);
    // A bus that cannot be decoded is an error, not something that was not seen.
    let fast = limit(Kind::Period, one("log has data"), None, us(40));
    let fast = BoundLimit::bind("U1", "firmware", &fast, &scope("800 kHz")).unwrap();
    let error = limit::check(&record(sampled), &fast, Rule::Proven).unwrap_err();
    assert!(error.message().contains("bus 'log': 1.2 samples per bit"), "{error:?}");
}

/// What lasts for less than a tick cannot be seen to happen, which is not the same as not happening.
#[test]
fn a_duration_below_a_tick_leaves_a_limit_inconclusive() {
    let events = pair("A low for < 8 ns", "B rises");
    for (rate, wanted) in
        [("100 MS/s", (Verdict::Inconclusive, Some(Reason::TooSlow))), ("1 GS/s", (Verdict::Pass, None))]
    {
        let record =
            capture(rate, Resolution::EXACT, 2000, &[("A", &[20, 100, 104, 300]), ("B", &[110, 120])]);
        let limit = limit(Kind::Delay, events.clone(), None, Some(time("1 us")));
        let result = limit::check(&record, &bind(&record, &limit), Rule::Proven).unwrap();
        assert_eq!((result.verdict, result.reason), wanted, "{rate}");
        let outlook = bind(&record, &limit).outlook(&Precision::of(&record, Rule::Proven)).unwrap();
        assert_eq!(outlook.can_pass, wanted.0 == Verdict::Pass, "{rate}");
        if wanted.0 == Verdict::Inconclusive {
            let told = result.worth_trying.map(|worth| worth.to_string());
            assert_eq!(told.as_deref(), Some("try 125 MS/s"));
            let other =
                bind(&record, &limit).occurrences(&record, Rule::Proven, &mut |_| ControlFlow::Continue(()));
            assert_eq!(other.unwrap_err().kind(), ErrorKind::TooSlow);
        }
    }
}

#[test]
fn a_request_that_must_be_answered_and_is_not_is_a_violation() {
    // Asked at 100, again at 500 and answered at 505; asked at 900, and the record ends at 1000.
    let lines: [(&str, &[u64]); 2] = [("ASK", &[100, 102, 500, 502, 900, 902]), ("DONE", &[505, 507])];
    let record = capture("1 MS/s", Resolution::SAMPLED, 1000, &lines);
    let delay = |max: i64| {
        let limit = Limit::delay("tA", "ASK rises", "DONE rises").max(Time::from_ps(max * 1_000_000));
        limit.must_be_answered().build().unwrap()
    };
    let told = |max: i64| {
        let (found, unpaired) = occurrences(&record, &delay(max));
        let told: Vec<_> =
            found.iter().map(|o| (o.start.0, o.measured.ticks().unwrap(), o.verdict)).collect();
        (told, unpaired)
    };
    let (first, answered) = ((100, 400, Verdict::Fail), (500, 5, Verdict::Pass));
    assert_eq!(told(20), (vec![first, answered, (900, 100, Verdict::Fail)], 0));
    // 100 ticks up to the end are more than 98 us for certain, and 400 more than 398.
    assert_eq!(told(99), (vec![first, answered, (900, 100, Verdict::Fail)], 0));
    assert_eq!(told(100), (vec![first, answered], 1));
    assert_eq!(told(400), (vec![answered], 2));
    let limit = bind(&record, &delay(20));
    let result = check(&record, &limit, Rule::Proven).unwrap();
    assert_eq!((result.verdict, result.counts.failed, result.counts.unpaired), (Verdict::Fail, 2, 0));
    let bounds = result.worst.unwrap().bounds(&limit.span(&record, Rule::Proven)).unwrap();
    assert!(bounds.hi.is_none(), "it may have taken any longer: {bounds}");
    // Where nobody says so, nothing is judged; and not every kind can be asked.
    let may = Limit::delay("tA", "ASK rises", "DONE rises").max("20 us").build().unwrap();
    assert_eq!(occurrences(&record, &may).1, 2);
    assert!(Limit::hold("tH", "DONE", "ASK rises").max("20 us").must_be_answered().build().is_err());
    assert!(Limit::delay("tA", "ASK rises", "DONE rises").min("20 us").must_be_answered().build().is_err());
}

#[test]
fn a_time_below_zero_is_refused_where_it_would_always_be_met() {
    let error = Limit::setup("tS", "D", "CK rises").min("-2 ns").build().unwrap_err();
    assert!(
        error.message().contains("below zero") && error.help().unwrap().contains("kind = \"window\""),
        "{error:?}"
    );
    assert!(Limit::level("V", "VDD", Which::Low).min("-0.3 V").build().is_ok());
}

#[test]
fn what_is_stated_of_pulses_decides_what_can_be_proven_of_a_line() {
    // Low for sixteen ticks of 10 ns between pulses, one of which is of a single tick.
    let narrow: [(&str, &[u64]); 1] = [("WE_N", &[10, 14, 30, 34, 50, 51])];
    let wide: [(&str, &[u64]); 1] = [("WE_N", &[10, 14, 30, 34])];
    let result = |lines: &[(&str, &[u64])], pulses: PulseWidths, min: i64, max: Option<i64>| {
        let record = capture("100 MS/s", Resolution::SAMPLED, 100, lines);
        let line = Line { pulses, ..Line::named("WE_N") };
        let record = record.into_builder().select(vec![("WE_N".into(), line)]).unwrap().build().unwrap();
        let ns = |ns: i64| Time::from_ps(ns * 1000);
        let limit = limit(Kind::Width, one("WE_N low"), (min > 0).then(|| ns(min)), max.map(ns));
        let result = check(&record, &bind(&record, &limit), Rule::Proven).unwrap();
        (result.verdict, result.reason, result.granted.map(|time| time.to_string()))
    };
    let plain = PulseWidths::default();
    let shortest = |text: &str| PulseWidths { shortest: Some(text.parse().unwrap()), ..plain };
    let fastest = |text: &str| PulseWidths { fastest: Some(text.parse().unwrap()), ..plain };
    let hidden = Some(Reason::Occurrence(Doubt::Hidden));
    // Whether there were shorter ones is taken for granted, and said.
    assert_eq!(result(&wide, plain, 100, None), (Verdict::Pass, None, Some("10 ns".into())));
    // Stated, nothing is; a single sample and a fast signal speak against it, and a statement settles both.
    assert_eq!(result(&wide, shortest("11 ns"), 100, None), (Verdict::Pass, None, None));
    assert_eq!(result(&wide, fastest("60 MHz"), 100, None), (Verdict::Inconclusive, hidden, None));
    assert_eq!(result(&wide, fastest("40 MHz"), 100, None).0, Verdict::Pass);
    assert_eq!(result(&narrow, plain, 100, None), (Verdict::Inconclusive, hidden, None));
    assert_eq!(result(&narrow, PulseWidths { ..shortest("12 ns") }, 100, None).0, Verdict::Pass);
    assert_eq!(result(&wide, shortest("10 ns"), 100, None), (Verdict::Inconclusive, hidden, None));
    // A statement that the record contradicts for certain is dropped: a tick is less than 20 ns.
    assert_eq!(result(&narrow, shortest("20 ns"), 100, None), (Verdict::Inconclusive, hidden, None));
    // What hides is shorter than all that is seen: a maximum is kept all the same, but for what is cut off.
    assert_eq!(result(&narrow, plain, 0, Some(600)).0, Verdict::Pass);
    assert_eq!(result(&narrow, plain, 0, Some(400)).1, Some(Reason::HiddenPulses));
    // The assumption must not answer its own question.
    assert_eq!(result(&wide, plain, 10, None).1, Some(Reason::HiddenPulses));
    assert_eq!(result(&wide, shortest("11 ns"), 10, None).0, Verdict::Pass);
}
