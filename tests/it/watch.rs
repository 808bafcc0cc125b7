use std::ops::ControlFlow;
use std::path::Path;

use deep_tap::bench::connect_for;
use deep_tap::capture::{Capture, Trace};
use deep_tap::event::Scope;
use deep_tap::known::Rule;
use deep_tap::limit::{
    BoundLimit, Counts, Limit, LimitBuilder, LimitResult, Occurrence, Verdict, Visited, Watch, check,
    check_all, violations,
};
use deep_tap::line::{Level, Line};
use deep_tap::quantity::Quantity;
use deep_tap::scan::{SampleWidth, Samples, fill};
use deep_tap::setup::{RecordOptions, RunChanges, Setup, Trigger, WatchOptions};
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

use crate::support::{self, root, time};

/// At this rate, what arrives is looked at every 4096 samples.
const RATE: &str = "80 kS/s";

/// Samples of some lines: runs of levels, most of them long, some of a single sample.
fn samples() -> impl Strategy<Value = Vec<u8>> {
    let run = prop_oneof![
        30 => 2usize..40,
        10 => 40usize..400,
        1 => 2000usize..9000,
        1 => Just(1usize),
    ];
    let few = prop::collection::vec((0u8..32, run.clone()), 1..60);
    let many = prop::collection::vec((0u8..32, run), 200..900);
    prop_oneof![1 => few, 3 => many].prop_map(|runs| {
        let runs = runs.into_iter().flat_map(|(level, len)| std::iter::repeat_n(level, len));
        runs.take(30_000).collect()
    })
}

/// The same again and again, so that what is kept of them is forgotten.
fn repeated() -> impl Strategy<Value = Vec<u8>> {
    (samples(), prop_oneof![4 => Just(1usize), 1 => Just(9usize)])
        .prop_map(|(samples, times)| samples.repeat(times))
}

/// Lines A to E without a tick, known like this.
fn record(resolution: Resolution, stated: u8) -> Capture {
    let base = TimeBase::from_rate(RATE.parse().unwrap()).unwrap();
    let mut builder = Capture::builder(base, 0).resolution(resolution);
    for (number, name) in ["A", "B", "C", "D", "E"].into_iter().enumerate() {
        let mut line = Line::named(name);
        if stated >> number & 1 == 1 {
            line.pulses.shortest = Some(time(if number % 2 == 0 { "20 us" } else { "90 us" }));
        }
        builder = builder.line(line, Trace::constant(Level::Low, 0));
    }
    builder.build().unwrap().into_builder().group("BUS", &["D", "B"]).unwrap().build().unwrap()
}

/// The record of samples of these lines.
fn stored(samples: &[u8], resolution: Resolution, stated: u8) -> Capture {
    let traces = fill(Samples::new(SampleWidth::W8, samples), &[0, 1, 2, 3, 4]);
    let record = record(resolution, stated).into_builder().length(samples.len() as u64);
    record.replace_traces(traces.into_iter().map(Some).collect()).build().unwrap()
}

/// Limits of every kind that is about intervals, with and without restrictions; a tick is 12.5 us.
fn limits(names: &Scope) -> Vec<BoundLimit> {
    let row = |limit: LimitBuilder| limit.bind(names).unwrap();
    let us = |ticks: f64| time(&format!("{} us", 12.5 * ticks));
    vec![
        row(Limit::setup("setup", "BUS changes", "A rises").min(us(5.0))),
        row(Limit::setup("setup-while", "B changes", "A rises").min(us(9.0)).only_while("C low")),
        row(Limit::setup("setup-within", "B changes", "A rises").min(us(9.0)).within("C high")),
        row(Limit::setup("setup-of-two", "B changes", "A rises").min(us(9.0)).within("C high and E low")),
        row(Limit::hold("hold", "BUS changes", "A falls").min(us(3.0)).max(us(300.0))),
        row(Limit::hold("hold-while", "D", "A falls").min(us(3.0)).only_while("BUS == 0b1x")),
        row(Limit::recovery("recovery", "C rises", "A rises").min(us(4.0))),
        row(Limit::removal("removal", "C rises", "A rises").min(us(4.0))),
        row(Limit::delay("delay", "A rises", "B changes").min(us(2.0)).max(us(50.0))),
        row(Limit::delay("must", "A rises", "B rises").max(us(50.0)).must_be_answered()),
        row(Limit::delay("must-within", "A rises", "B rises")
            .max(us(50.0))
            .must_be_answered()
            .within("C high")),
        row(Limit::delay("unless", "A rises", "B rises").max(us(50.0)).unless("D changes")),
        row(Limit::delay("own-edge", "C rises", "B rises").max(us(50.0)).within("C high")),
        row(Limit::delay("lasting", "C low for > 200 us", "B rises").max(us(50.0))),
        row(Limit::delay("short", "C high for < 100 us while D high", "A changes").max(us(50.0))),
        row(Limit::delay("when", "when BUS == 2 and C low", "A rises or E falls").max(us(80.0))),
        row(Limit::delay("sequence", "A rises then B rises within 2 ms", "E changes").max(us(90.0))),
        row(Limit::delay("absence", "C rises then no B rises within 1 ms", "A rises").max(us(90.0))),
        row(Limit::delay("count", "A changes 3 times then E rises after 200 us", "B changes or C falls")
            .max(us(90.0))),
        row(Limit::delay("any", "E rises", "A falls or B high for > 300 us or C low for < 1 ms")
            .max(us(70.0))),
        row(Limit::skew("skew", "A rises", "B rises").max(us(30.0))),
        row(Limit::width("width", "A high").min(us(6.0))),
        row(Limit::width("width-of-the-same", "A high and A high").min(us(6.0))),
        row(Limit::width("width-while", "A high").min(us(6.0)).max(us(90.0)).only_while("B high and C low")),
        row(Limit::width("width-of-two", "A high and B low").min(us(6.0))),
        row(Limit::period("period", "A rises").min(us(10.0)).max(us(300.0))),
        row(Limit::period("period-while", "A rises").min(us(10.0)).only_while("C high")),
        row(Limit::duty("duty", "A high").min("20 %".parse::<deep_tap::quantity::Percent>().unwrap())),
        row(Limit::duty("duty-while", "A high")
            .max("70 %".parse::<deep_tap::quantity::Percent>().unwrap())
            .only_while("C high")),
        row(Limit::stable("stable", "B", "C high")),
        row(Limit::stable("stable-of-two", "BUS changes", "C high and E low")),
        row(Limit::window("window", "BUS changes", "A rises").clear(us(5.0), us(4.0))),
        row(Limit::settle("settle", "A rises", "BUS changes").max(us(20.0))),
        row(Limit::settle("settle-within", "A rises", "B changes").max(us(20.0)).within("C high")),
    ]
}

/// What arrives in blocks of these lengths, one after the other and again.
fn watched(
    record: Capture,
    limits: &[BoundLimit],
    samples: &[u8],
    blocks: &[usize],
) -> (Watch, Vec<(usize, Tick)>) {
    let mut watch = Watch::new(record, limits.to_vec()).unwrap();
    let (mut at, mut violations) = (0, Vec::new());
    for block in blocks.iter().cycle() {
        let end = samples.len().min(at + block);
        watch.push(Samples::new(SampleWidth::W8, &samples[at..end])).unwrap();
        violations.extend(watch.violations().iter().map(|found| (found.limit, found.occurrence.start)));
        at = end;
        if at == samples.len() {
            break;
        }
    }
    (watch, violations)
}

fn rounds() -> u32 {
    std::env::var("ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(60)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(rounds()))]

    #[test]
    fn what_is_watched_is_what_is_checked(
        samples in repeated(),
        blocks in prop::collection::vec(1usize..6000, 1..8),
        skew in prop_oneof![Just("0 s"), Just("16 us"), Just("250 us")],
        stated in any::<u8>(),
    ) {
        let resolution = Resolution { skew: time(skew), ..Resolution::SAMPLED };
        let stored = stored(&samples, resolution, stated);
        let limits = limits(&Scope::of(&stored));
        let checked = check_all(&stored, &limits, Rule::Proven).unwrap();
        let (mut watch, mut found) = watched(record(resolution, stated), &limits, &samples, &blocks);
        let results = watch.finish();
        for (watched, checked) in results.iter().zip(&checked) {
            prop_assert_eq!(watched, checked);
        }
        // Told as they come, as long as no pulse of a single sample leaves open what was thought proven.
        found.extend(watch.violations().iter().map(|found| (found.limit, found.occurrence.start)));
        let hides = (0..5).any(|line| stored.first_single(deep_tap::line::LineId(line)).is_some());
        for (number, limit) in limits.iter().enumerate().filter(|_| !hides) {
            let told: Vec<Tick> = found.iter().filter(|(of, _)| *of == number).map(|(_, at)| *at).collect();
            let all = violations(&stored, limit, Rule::Proven, usize::MAX).unwrap().found;
            let all: Vec<Tick> = all.iter().map(|occurrence| occurrence.start).collect();
            prop_assert_eq!(told, all, "{}", limit.name());
        }
    }

    #[test]
    fn what_is_counted_together_is_what_is_found_one_by_one(
        samples in samples(),
        skew in prop_oneof![Just("0 s"), Just("16 us"), Just("250 us")],
        stated in any::<u8>(),
    ) {
        let stored = stored(&samples, Resolution { skew: time(skew), ..Resolution::SAMPLED }, stated);
        let limits = limits(&Scope::of(&stored));
        for (limit, result) in limits.iter().zip(check_all(&stored, &limits, Rule::Proven).unwrap()) {
            let (counts, worst) = one_by_one(&stored, limit);
            prop_assert_eq!(result.counts, counts, "{}", limit.name());
            // With none that certainly happened, one that passes may stand for all.
            if worst.is_some() {
                prop_assert_eq!(result.worst, worst, "{}", limit.name());
            }
        }
        // Of one line alone, widths are found from edge to edge.
        let result = |name: &str| {
            let limit = limits.iter().find(|limit| limit.limit.symbol == name).unwrap();
            let found = check(&stored, limit, Rule::Proven).unwrap();
            (found.counts, found.worst, found.verdict, found.margin)
        };
        prop_assert_eq!(result("width"), result("width-of-the-same"));
    }
}

/// The counts of a limit, and the first of the worst occurrences.
fn one_by_one(capture: &Capture, limit: &BoundLimit) -> (Counts, Option<Occurrence>) {
    let rank = |verdict| match verdict {
        Verdict::Fail => 0,
        Verdict::Inconclusive => 1,
        Verdict::Pass | Verdict::NotSeen => 2,
    };
    let (mut counts, mut worst) = (Counts::default(), None);
    limit
        .occurrences(capture, Rule::Proven, &mut |found| {
            let Visited::Occurrence(occurrence) = found else {
                counts.unpaired += 1;
                return ControlFlow::Continue(());
            };
            match (occurrence.certain, occurrence.verdict) {
                (false, _) => counts.possible += 1,
                (true, Verdict::Pass) => counts.passed += 1,
                (true, Verdict::Fail) => counts.failed += 1,
                (true, Verdict::Inconclusive | Verdict::NotSeen) => counts.inconclusive += 1,
            }
            counts.seen += u64::from(occurrence.certain);
            if occurrence.certain || occurrence.verdict != Verdict::Pass {
                let value = occurrence.value(capture.base()).map(Quantity::to_rational);
                let margin = value.and_then(|value| limit.limit.required.margin(value));
                let new = (rank(occurrence.verdict), margin);
                if worst.is_none_or(|(old, _)| new < old) {
                    worst = Some((new, occurrence));
                }
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    (counts, worst.map(|(_, occurrence)| occurrence))
}

/// It is known at once, not when the next pulse comes or the record ends.
#[test]
fn a_violation_is_told_soon() {
    let mut samples = vec![0u8; 6000];
    samples[100..130].fill(1);
    let record = record(Resolution::SAMPLED, 0xff);
    let limits = vec![
        Limit::width("t1", "A high").max(time("100 us")).bind(&Scope::of(&record)).unwrap(),
        Limit::delay("t2", "A rises", "A falls").max(time("100 us")).bind(&Scope::of(&record)).unwrap(),
    ];
    let (watch, found) = watched(record, &limits, &samples, &[500]);
    assert_eq!(found, [(0, Tick(100)), (1, Tick(100))]);
    assert!(watch.results().iter().all(|result| result.verdict == Verdict::Fail));
}

/// The demo's setup waiting for a violation, with the board's faults as these options say.
fn waiting_for(names: &[&str], options: &str) -> deep_tap::Result<(Setup, Capture)> {
    let mut setup = Setup::from_file(&root().join("setups/tide-gauge.toml"))?;
    setup.trigger = Some(Trigger::Violation(names.iter().map(ToString::to_string).collect()));
    setup.time_out = Some(time("40 ms"));
    let mut instrument = deep_tap::bench::connect(&format!("bench:tide-gauge?{options}"), Path::new(""))?;
    let capture = support::record(&setup, &mut *instrument, RecordOptions::default())?;
    Ok((setup, capture))
}

/// The record is around the first violation that is proven; what a stored record shows first of it is at time zero.
#[test]
fn a_violation_is_a_trigger() {
    for name in ["U3.tCONV", "U3.tCO", "U1.tRD"] {
        let (setup, capture) = waiting_for(&[name], "").unwrap();
        let limit = setup.limits_named(&[name]).unwrap()[0];
        let found = violations(&capture, limit, Rule::Proven, 2).unwrap().found;
        assert_eq!(capture.base().time_of(found[0].end), time("0 s"), "{name}: {found:?}");
        let remarks = capture.remarks().join(" ");
        assert!(remarks.contains(&format!("the trigger is a violation of {name}: ")), "{remarks}");
        assert_eq!(capture.origin().trigger.as_deref(), Some(&*format!("violation of {name}")));
    }
    // Of any limit, the first of all.
    let (setup, capture) = waiting_for(&[], "").unwrap();
    let before = |limit| violations(&capture, limit, Rule::Proven, 1).unwrap().found.into_iter().next();
    let first = setup.limits().filter_map(before).map(|found| found.end).min().unwrap();
    assert!(capture.base().time_of(first) >= time("0 s"));
}

/// Where none comes, it is told how near the limits came.
#[test]
fn without_a_violation_the_margins_are_told() {
    let error = waiting_for(&["U3.tCONV", "U5.tOE"], "faults=none").unwrap_err();
    assert_eq!(error.message(), "the trigger did not come within 40 ms");
    let help = error.help().unwrap();
    assert!(help.contains("U3.tCONV: ") && help.contains(" seen, the least margin +6"), "{help}");
    assert!(help.contains("U5.tOE: never seen"), "{help}");
}

/// Of boards that talk, too: bit rates, instants of buses, frames.
#[test]
fn the_boards_are_watched_as_they_are_checked() {
    for (file, length) in [("setups/tide-gauge.toml", "30 ms"), ("setups/buses.toml", "60 ms")] {
        let setup = Setup::from_file(&root().join(file)).unwrap();
        let setup = setup.changed(&RunChanges::default().length(length)).unwrap();
        let bench = || connect_for(&setup, &root().join(file)).unwrap();
        let now = RecordOptions { now: true, ..RecordOptions::default() };
        let record = support::record(&setup, &mut *bench(), now).unwrap();
        let mut limits: Vec<BoundLimit> = setup.limits().cloned().collect();
        if file.ends_with("buses.toml") {
            let more = [
                ("rtc has data while PPS low", "RTC_SCL falls"),
                ("rtc transfer has length > 1", "RTC_SDA changes"),
                ("gnss has text \"$GP\" then no gnss has data == 0x2a within 2 ms", "GNSS_TX falls"),
                ("rtc at start then rtc has data", "RTC_SCL rises or PPS changes"),
            ];
            let more = more.map(|(from, to)| Limit::delay(from, from, to).max(time("300 us")));
            limits.extend(more.map(|limit| limit.bind(&setup.scope()).unwrap()));
        }
        let options = WatchOptions { lasting: Some(time(length)), ..WatchOptions::default() };
        let go_on = &mut |_: &mut Watch| ControlFlow::Continue(());
        let watched = setup.watch(&mut *bench(), limits.clone(), options, go_on).unwrap();
        assert_eq!(watched.samples, Tick(record.len()), "{file}");
        for (watched, checked) in
            watched.results.iter().zip(&check_all(&record, &limits, Rule::Proven).unwrap())
        {
            // A stream has other rates to try.
            assert_eq!(
                LimitResult { worth_trying: checked.worth_trying, ..watched.clone() },
                *checked,
                "{file}"
            );
        }
    }
}
