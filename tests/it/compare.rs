//! Two records of the same thing: what differs is found, and nothing else.

use std::ops::ControlFlow;
use std::path::Path;

use deep_tap::bench;
use deep_tap::capture::Capture;
use deep_tap::compare::{CompareOptions, FrameDifferenceKind, OneOf, RecordComparison, compare};
use deep_tap::job::Job;
use deep_tap::limit::Verdict;
use deep_tap::quantity::Rational;
use deep_tap::setup::{RecordOptions, RunChanges, Setup};
use deep_tap::time::Tick;

use crate::support::root;

/// A record of the demo board with these options of the bench, at another rate.
fn recorded(setup: &str, options: &str, rate: Option<&str>) -> Job {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("setups").join(setup);
    let mut setup = Setup::from_file(&path).unwrap();
    if let Some(rate) = rate {
        setup = setup.changed(&RunChanges::default().rate(rate)).unwrap();
    }
    let mut instrument = bench::connect(&format!("bench:tide-gauge{options}"), Path::new("")).unwrap();
    let capture: Capture =
        setup.record(&mut *instrument, RecordOptions::default(), &mut |_| ControlFlow::Continue(())).unwrap();
    Job::recorded(capture, setup, &path)
}

fn compared(a: &Job, b: &Job) -> RecordComparison {
    compare(a, b, &CompareOptions::default()).unwrap()
}

#[test]
fn a_record_is_the_same_as_itself() {
    for setup in ["tide-gauge.toml", "buses.toml"] {
        let job = recorded(setup, "", None);
        let found = compared(&job, &job);
        assert_eq!(found.differences(), 0, "{setup}: {found:?}");
        assert!(found.buses.iter().all(|bus| bus.counts.0 == bus.matched && bus.matched > 0), "{setup}");
    }
}

/// The same signals at other rates: what is counted differs everywhere, and nothing is said to have moved. Verdicts only
/// become more certain.
#[test]
fn nothing_moved_where_only_the_rate_differs() {
    let slow = recorded("tide-gauge.toml", "", None);
    let mut counted_otherwise = 0;
    for rate in ["25 MS/s", "50 MS/s", "125 MS/s", "250 MS/s", "500 MS/s"] {
        let other = recorded("tide-gauge.toml", "", Some(rate));
        let found = compared(&slow, &other);
        for limit in &found.limits {
            assert!(limit.moved.is_empty(), "{rate}: {} {:?}", limit.name, limit.moved);
            let verdict = |of: &Option<deep_tap::compare::OneLimit>| of.as_ref().unwrap().result.verdict;
            let sure = |of| matches!(verdict(of), Verdict::Pass | Verdict::Fail);
            assert!(!(limit.verdict_differs() && sure(&limit.a) && sure(&limit.b)), "{rate}: {}", limit.name);
            let spread = |of: &Option<deep_tap::compare::OneLimit>| of.as_ref()?.spread.clone();
            let both = spread(&limit.a).zip(spread(&limit.b));
            counted_otherwise += usize::from(both.is_some_and(|(a, b)| a.least.value != b.least.value));
        }
        assert!(found.places.iter().all(|place| place.moved.is_none()), "{rate}");
    }
    assert!(counted_otherwise > 5, "{counted_otherwise}");
}

/// At rest, and with the faults that the load brings.
#[test]
fn what_was_planted_is_found() {
    let (rest, load) =
        (recorded("tide-gauge.toml", "?faults=none", None), recorded("tide-gauge.toml", "", None));
    let found = compared(&rest, &load);
    let limit = |name: &str| found.limits.iter().find(|limit| limit.name == name).unwrap();
    // Reset is released 0.9 ms after power is good, where it was more than 2 ms.
    let (number, shift) = limit("U1.tRD").moved[0];
    let at_least: Rational = shift.least.to_rational();
    assert!(number == "least" && !shift.up && at_least > Rational::new(1, 1000).unwrap());
    // A conversion of 382 us among those of at most 290: only the largest ones moved up.
    let conversion = limit("U3.tCONV");
    assert!(conversion.moved.iter().any(|(number, shift)| *number == "most" && shift.up));
    for name in ["U1.tRD", "U3.tCONV", "U5.tWP"] {
        assert!(limit(name).verdict_differs(), "{name}");
    }
    assert!(!limit("U3.tCYC").differs());
    // The spike on write enable is new.
    let spike = found.troubles.iter().find(|trouble| trouble.about == "MEM_WE_N").unwrap();
    assert_eq!((spike.side, spike.kind.as_str()), (OneOf::B, "glitches"));
    // Within a tolerance of 1.5 ms nothing moved.
    let mut options = CompareOptions::default();
    options.tolerance = "1.5 ms".parse().unwrap();
    let tolerant = compare(&rest, &load, &options).unwrap();
    assert!(tolerant.limits.iter().all(|limit| limit.moved.is_empty()));
    // What is left out is not compared, and a name that nobody has is a mistake.
    options.ignored = vec!["U1".into(), "MEM_WE_N".into(), "adc.miso".into()];
    let found = compare(&rest, &load, &options).unwrap();
    assert!(
        found.limits.iter().all(|limit| limit.name != "U1.tRD")
            && found.troubles.iter().all(|t| t.about != "MEM_WE_N")
    );
    assert!(found.buses[0].fields.iter().all(|field| field.field != "miso"));
    options.ignored = vec!["ADC_CLK".into()];
    assert!(compare(&rest, &load, &options).unwrap_err().help().unwrap().contains("ADC_SCLK"));
}

/// The clock chip does not acknowledge while it is busy: the transfer that reads it is another one.
#[test]
fn the_first_frame_that_differs_is_named() {
    let (rest, load) =
        (recorded("buses.toml", "?faults=none", None), recorded("buses.toml", "?faults=missing-ack", None));
    let found = compared(&rest, &load);
    let rtc = found.buses.iter().find(|bus| bus.name == "rtc").unwrap();
    assert_eq!((rtc.of, rtc.missing, rtc.extra), ("transfers", 0, 0));
    assert!(rtc.replaced > 0 && rtc.found[0].kind == FrameDifferenceKind::Replaced);
    assert!(rtc.found[0].b.as_ref().unwrap().1.contains("nack"), "{:?}", rtc.found[0]);
    // What else talks says the same.
    assert!(!found.buses.iter().find(|bus| bus.name == "gnss").unwrap().differs());
}

/// The same recording, one of which ends earlier: what lies beyond, and the frame that the end cuts, make no difference.
#[test]
fn records_of_other_lengths_are_compared_where_both_are() {
    let whole = recorded("buses.toml", "", None);
    let base = whole.capture.base();
    let mut cut_frames = 0;
    for end in ["1 ms", "2.31 ms", "4.99 ms", "7.013 ms", "11.5 ms"] {
        let end = Tick(base.position_of(end.parse().unwrap()).unwrap() as u64);
        let capture = recorded("buses.toml", "", None).capture;
        let setup = recorded("buses.toml", "", None).setup.unwrap();
        let short = Job::recorded(capture.excerpt(Tick(0)..end).unwrap(), setup, Path::new("short.dtap"));
        for (a, b) in [(&whole, &short), (&short, &whole)] {
            let found = compared(a, b);
            for bus in &found.buses {
                let only = bus.missing + bus.extra + bus.replaced;
                assert!(only == 0 && bus.fields.is_empty(), "{end:?} {}: {:?}", bus.name, bus.found);
                cut_frames += bus.at_the_ends;
            }
        }
    }
    assert!(cut_frames > 0);
}

/// A limit whose events are shorter than a tick has no values, and is compared all the same.
#[test]
fn what_a_record_is_too_slow_for_is_compared() {
    let slow = |rate: &str| {
        let setup = root().join("setups/tide-gauge.toml");
        let mut setup = Setup::from_file(&setup).unwrap().changed(&RunChanges::default().rate(rate)).unwrap();
        let scope = setup.scope();
        let words = ["period of MEM_WE_N low for < 15 ns, min 1 us"];
        setup.try_limits(&words, &scope).unwrap();
        let mut instrument = bench::connect("bench:tide-gauge", Path::new("")).unwrap();
        let quiet = &mut |_| ControlFlow::Continue(());
        let capture = setup.record(&mut *instrument, RecordOptions::default(), quiet).unwrap();
        Job::recorded(capture, setup, Path::new("slow.dtap"))
    };
    let (a, b) = (slow("50 MS/s"), slow("100 MS/s"));
    let found = compared(&a, &b);
    let tried =
        found.limits.iter().find(|limit| limit.what.contains("MEM_WE_N")).or(found.limits.last()).unwrap();
    let one = tried.a.as_ref().unwrap();
    assert_eq!(one.result.reason, Some(deep_tap::limit::Reason::TooSlow));
    assert!(one.spread.is_none() && tried.moved.is_empty());
    assert_ne!(tried.b.as_ref().unwrap().result.reason, one.result.reason);
}
