//! Planning: what fits, what is unwise, and what a rate can decide.

use std::path::Path;

use deep_tap::ErrorKind;
use deep_tap::bench::connect;
use deep_tap::known::{PlannedLine, Precision, Rule};
use deep_tap::limit::{Kind, Limit, Outlook, Required, Verdict};
use deep_tap::line::PulseWidths;
use deep_tap::plan::{Plan, advice};
use deep_tap::quantity::Time;
use deep_tap::setup::RecordOptions;
use deep_tap::time::{Resolution, TimeBase};

use crate::support::{bind, capture, data, limit, occurrences, one, pair, setup, time};

/// One line per input from 0 on, on this instrument.
fn planned(instrument: &str, sampling: &str, lines: &[&str]) -> deep_tap::Result<(Plan, Vec<String>)> {
    let mut text = format!("[sampling]\n{sampling}\n");
    for (number, line) in lines.iter().enumerate() {
        text.push_str(&format!("[[line]]\nname = \"L{number}\"\ninput = {number}\n{line}\n"));
    }
    let setup = setup(&text)?;
    let instrument = connect(&format!("bench:tide-gauge?instrument={instrument}"), Path::new(""))?;
    let options = RecordOptions::default();
    let plan = setup.plan(&*instrument, options)?;
    let unwise = advice(&setup.wanted(&*instrument, options)?, &plan);
    Ok((plan, unwise.into_iter().map(|a| format!("{}; {}", a.message, a.help)).collect()))
}

fn refused(instrument: &str, sampling: &str, lines: &[&str]) -> (ErrorKind, String) {
    let error = planned(instrument, sampling, lines).unwrap_err();
    (error.kind(), format!("{} {}", error.message(), error.help().unwrap_or("")))
}

#[test]
fn rate_inputs_and_memory_trade_against_each_other() {
    let lines = |count: usize| vec![""; count];
    // Its memory holds 2 Mi samples of 8 inputs, and 1 Mi of 16.
    let (plan, _) = planned("EX-B16", "rate = \"max\"\nlength = \"max\"", &lines(8)).unwrap();
    assert_eq!((plan.rate.to_f64(), plan.samples, plan.stream), (400e6, 2 << 20, false));
    let (plan, _) = planned("EX-B16", "rate = \"max\"\nlength = \"max\"", &lines(9)).unwrap();
    assert_eq!((plan.rate.to_f64(), plan.samples), (100e6, 1 << 20));
    // As fast as this length allows: 20 ms at 50 MS/s are a million samples, at 100 MS/s too many.
    let (plan, _) = planned("EX-B16", "rate = \"max\"\nlength = \"20 ms\"", &lines(16)).unwrap();
    assert_eq!((plan.rate.to_f64(), plan.samples), (50e6, 1_000_000));
    // A link of 70 MB/s: a byte per sample up to 8 inputs, two above.
    let (plan, _) = planned("EX-S16", "rate = \"max\"\nlength = \"10 s\"", &lines(8)).unwrap();
    assert_eq!((plan.rate.to_f64(), plan.stream), (70e6, true));
    let (_, told) = refused("EX-S16", "rate = \"70 MS/s\"\nlength = \"10 s\"", &lines(9));
    assert!(told.contains("nearest: 35 MS/s"), "{told}");
    let (_, told) = refused("EX-S16", "rate = \"max\"\nlength = \"max\"", &lines(8));
    assert!(told.contains("a stream has no end"), "{told}");
    let (_, told) = refused("EX-B16", "rate = \"200 MS/s\"\nlength = \"1 ms\"", &lines(11));
    assert!(told.contains("nearest: 100 MS/s, or 200 MS/s takes 8 lines: leave out 3"), "{told}");
    let (_, told) = refused("EX-S16", "rate = \"1 MS/s\"\nlength = \"1 ms\"", &lines(18));
    assert!(told.contains("lines 'L16', 'L17' are on inputs that the instrument does not have"), "{told}");
}

#[test]
fn inputs_are_checked_against_their_bank() {
    let sampling = "rate = \"1 MS/s\"\nlength = \"1 ms\"";
    let (kind, told) = refused("EX-B16", sampling, &["swing = \"5 V\""]);
    assert_eq!(kind, ErrorKind::Danger);
    assert!(told.contains("swings to 5 V, its input stands 3.6 V") && told.contains("bank HIGH"), "{told}");
    let (_, told) = refused("EX-B16", sampling, &["threshold = \"1.402 V\""]);
    assert!(told.contains("nearest: 1.4 V or 1.405 V"), "{told}");
    let (_, told) = refused("EX-S16", sampling, &["threshold = \"1.65 V\""]);
    assert!(told.contains("it is fixed at 1.25 V"), "{told}");
    let mut lines = vec![""; 8];
    lines.extend(["threshold = \"1.5 V\"", "threshold = \"2.5 V\""]);
    let (_, told) = refused("EX-B16", sampling, &lines);
    assert!(told.contains("'L8' and 'L9' want thresholds of 1.5 V and 2.5 V"), "{told}");
    // On the other bank each input has its own.
    planned("EX-B16", sampling, &["threshold = \"0.9 V\"", "threshold = \"1.4 V\""]).unwrap();
}

#[test]
fn what_fits_can_still_be_unwise() {
    let sampling = "rate = \"10 MS/s\"\nlength = \"1 ms\"";
    let (_, unwise) = planned("EX-D32", sampling, &["fastest = \"4 MHz\""]).unwrap();
    assert!(unwise[0].contains("2.5 samples per period at 10 MS/s"), "{unwise:?}");
    assert!(unwise[0].contains("20 MS/s is the least, 50 MS/s is good"), "{unwise:?}");
    let (_, unwise) = planned("EX-D32", sampling, &["fastest = \"2 MHz\""]).unwrap();
    assert!(unwise.is_empty(), "five samples per period are enough: {unwise:?}");
    let (_, unwise) = planned("EX-D32", sampling, &["threshold = \"0.9 V\"\nswing = \"3.3 V\""]).unwrap();
    assert!(unwise[0].contains("not in the middle third of its swing of 3.3 V"), "{unwise:?}");
    assert!(unwise[0].contains("set it near 1.65 V"), "{unwise:?}");
    let (_, unwise) = planned("EX-D32", sampling, &["threshold = \"1.1 V\"\nswing = \"3.3 V\""]).unwrap();
    assert!(unwise.is_empty(), "exactly a third is inside: {unwise:?}");
    let bus = |rate: &str| {
        let bus = format!("[[bus]]\nname = \"log\"\nkind = \"uart\"\nline = \"L0\"\nbit-rate = \"{rate}\"");
        planned("EX-D32", sampling, &[&bus]).unwrap().1
    };
    assert!(bus("1.25 MHz").is_empty(), "eight samples per bit are enough");
    let unwise = bus("1.5 MHz");
    assert!(unwise[0].contains("'log': 6.7 samples per bit") && unwise[0].contains("20 MS/s"), "{unwise:?}");
}

#[test]
fn a_part_before_the_trigger_that_is_too_short_is_told() {
    let advised = |before: &str, event: &str| {
        let sampling = format!("rate = \"10 MS/s\"\nlength = \"1 ms\"\n{before}");
        let bus = "[[bus]]\nname = \"log\"\nkind = \"uart\"\nline = \"L0\"\nbit-rate = \"100 kHz\"";
        let event = format!("{bus}\n[trigger]\nevent = '{event}'");
        planned("EX-D32", &sampling, &[&event]).unwrap().1.join("\n")
    };
    // Ten bits of a byte, and two of them in a row.
    for (before, event, wanted) in [
        ("", "log has data == 0x41", ""),
        ("before-trigger = \"50 us\"", "log has data == 0x41", "takes about 100 us or more, but only 50 us"),
        ("before-trigger = \"100 us\"", "log has data == 0x41", ""),
        ("before-trigger = \"150 us\"", "log has text \"OK\"", "takes about 200 us or more, but only 150 us"),
        ("before-trigger = \"1 us\"", "L0 rises then L0 falls after 20 us", "takes about 21 us or more"),
        ("before-trigger = \"0 s\"", "L0 rises", "nothing before the trigger is kept"),
        ("before-trigger = \"100 ns\"", "L0 rises", ""),
    ] {
        let told = advised(before, event);
        assert!(told.contains(wanted) && told.is_empty() == wanted.is_empty(), "{before} {event}: {told}");
    }
}

/// The outlook against the verdicts of a record that has an interval of every length.
#[test]
fn what_a_rate_can_decide_is_what_it_then_decides() {
    let mut seen = [0; 3];
    for (rate, ns) in [("100 MS/s", 10), ("24 MS/s", 42), ("250 MS/s", 4)] {
        let resolution =
            Resolution { skew: time("0.5 ns"), accuracy: "20 ppm".parse().unwrap(), ..Resolution::SAMPLED };
        // A rises every 200 ticks; B changes 0 to 40 ticks after it, short and long ones in turn, so
        // that no change is close to the next rise.
        let starts: Vec<u64> = (0..41).map(|i| 100 + i * 200).collect();
        let a: Vec<u64> = starts.iter().flat_map(|tick| [*tick, tick + 90]).collect();
        let b: Vec<u64> =
            starts.iter().enumerate().map(|(i, tick)| tick + i as u64 / 2 + i as u64 % 2 * 20).collect();
        let record = capture(rate, resolution, 9000, &[("A", &a[..]), ("B", &b[..])]);
        let base = TimeBase::from_rate(rate.parse().unwrap()).unwrap();
        for least in [0, 1, ns / 2, ns, ns + 1, 3 * ns, 3 * ns + 7] {
            for most in [None, Some(ns), Some(2 * ns), Some(5 * ns), Some(11 * ns)] {
                let min = (least > 0).then(|| Time::from_ps(least * 1000));
                let max = most.map(|most| Time::from_ps(most * 1000));
                if min.is_none() && max.is_none() || min.zip(max).is_some_and(|(min, max)| min > max) {
                    continue;
                }
                for (kind, events) in
                    [(Kind::Delay, pair("A rises", "B changes")), (Kind::Hold, data("B changes", "A rises"))]
                {
                    let limit = limit(kind, events, min, max);
                    let outlook =
                        bind(&record, &limit).outlook(&Precision::of(&record, Rule::Proven)).unwrap();
                    let (found, _) = occurrences(&record, &limit);
                    let with = |verdict| found.iter().filter(move |o| o.certain && o.verdict == verdict);
                    let told = format!("{kind:?} {rate} {min:?} {max:?}: {outlook:?}");
                    assert_eq!(with(Verdict::Pass).count() > 0, outlook.can_pass, "{told}");
                    assert_eq!(with(Verdict::Fail).count() > 0, outlook.can_fail, "{told}");
                    seen[usize::from(outlook.can_pass) + usize::from(outlook.can_fail)] += 1;
                    if let (Some(min), None) = (min, max) {
                        let shortest = with(Verdict::Pass).filter_map(|o| o.measured.ticks()).min().unwrap();
                        let margin = base.length_of(shortest).to_rational().checked_sub(min.to_rational());
                        assert_eq!(outlook.distance.map(Time::to_rational), margin, "{told}");
                    }
                }
            }
        }
    }
    assert!(seen[1] > 10 && seen[2] > 10, "both kinds of answer were met: {seen:?}");
}

/// What is stated of the lines, and a record that is too short, before anything is recorded.
#[test]
fn a_plan_knows_what_may_hide_and_what_the_record_cannot_hold() {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let record = capture("100 MS/s", Resolution::SAMPLED, 1000, &[("A", &[100, 200]), ("B", &[150])]);
    let stated = |fastest: &str| {
        let pulses = PulseWidths { fastest: Some(fastest.parse().unwrap()), ..PulseWidths::default() };
        [PlannedLine { pulses, analog: false }, PlannedLine::default()]
    };
    let outlook = |limit: &Limit, stated: &[PlannedLine]| {
        let precision = Precision::planned(base, &Resolution::SAMPLED, Time::ZERO).stating(stated);
        let outlook = bind(&record, limit).outlook(&precision).unwrap();
        (outlook.can_pass, outlook.can_fail)
    };
    let width = limit(Kind::Width, one("A high"), Some(time("100 ns")), None);
    let hold = limit(Kind::Hold, data("B", "A rises"), Some(time("100 ns")), None);
    let delay = limit(Kind::Delay, pair("B rises", "A falls"), None, Some(time("100 ns")));
    // A line that may hide pulses: too narrow ones can be seen, but not that there was none.
    for (wanted, limit) in [((false, true), &width), ((false, true), &hold), ((true, false), &delay)] {
        assert_eq!(outlook(limit, &stated("10 MHz")), (true, true), "{limit:?}");
        assert_eq!(outlook(limit, &stated("80 MHz")), wanted, "{limit:?}");
    }
    let rates = ["100 MS/s", "200 MS/s", "500 MS/s"].map(|rate| rate.parse().unwrap());
    let deciding =
        bind(&record, &width).deciding_rate(&rates, &Resolution::SAMPLED, Time::ZERO, &stated("80 MHz"));
    assert_eq!(deciding, Some(rates[1]), "half a period of 80 MHz is longer than 5 ns");
    let open = Outlook { can_pass: true, can_fail: true, distance: None };
    let within = |min: Option<&str>, max: Option<&str>| {
        let outlook = open.within(time("1 ms"), Required::times(min.map(time), max.map(time)));
        (outlook.can_pass, outlook.can_fail)
    };
    assert_eq!(within(Some("2 ms"), None), (false, true));
    assert_eq!(within(None, Some("2 ms")), (true, false));
    assert_eq!(within(Some("0.5 ms"), Some("2 ms")), (true, true));
}
