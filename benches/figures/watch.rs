//! Limits on samples as they arrive, and on the demo board's record with its doubts.

use std::path::Path;

use deep_tap::bench::connect_for;
use deep_tap::capture::{Capture, CaptureBuilder, Trace};
use deep_tap::event::Scope;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, LimitResult, Watch, check_all};
use deep_tap::line::{Level, Line};
use deep_tap::scan::{SampleWidth, Samples};
use deep_tap::setup::{RecordOptions, RunChanges, Setup};
use deep_tap::time::{Resolution, TimeBase};

use crate::data::random;
use crate::figure::{Case, Figures, on_cores, shortest};
use crate::stored::twelve;

/// Samples per change, and what must be reached of the read limit.
const ACTIVITIES: [(u64, &str, f64); 2] =
    [(10_000, "a change per 10 000 samples", 0.3), (32, "a change per 32 samples", 0.1)];

/// Bytes that arrive together.
const BLOCK: usize = 1 << 16;

pub(crate) fn arriving(samples: usize, figures: &mut Figures) {
    for (between, activity, target) in ACTIVITIES {
        let data = random(samples, Some(between));
        let sum = || data.chunks_exact(8).map(|w| u64::from_le_bytes(w.try_into().unwrap_or_default()));
        let read = shortest(3, || sum().fold(0u64, u64::wrapping_add));
        for cores in [1, 2] {
            let seconds = on_cores(cores, || shortest(3, || watched(&data)));
            let case = Case { samples, activity: activity.to_string(), cores };
            let rate = (samples as f64 / seconds / 1e9, "GS/s");
            figures.against(
                "12 limits on arriving samples",
                &case,
                rate,
                ("read limit", read / seconds, target),
            );
        }
    }
}

fn watched(data: &[u8]) -> Vec<LimitResult> {
    let base = TimeBase::from_rate("100 MS/s".parse().expect("a rate")).expect("a rate above zero");
    let mut record = Capture::builder(base, 0).resolution(Resolution::SAMPLED);
    for number in 0..16 {
        record = record.line(Line::named(format!("L{number}")), Trace::constant(Level::Low, 0));
    }
    let bus: Vec<String> = (0..8).rev().map(|line| format!("L{line}")).collect();
    let bus: Vec<&str> = bus.iter().map(String::as_str).collect();
    let record = record.group("D", &bus).and_then(CaptureBuilder::build).expect("a whole record");
    let limits = twelve(&Scope::of(&record));
    let mut watch = Watch::new(record, limits).expect("limits that can be watched");
    for block in data.chunks(BLOCK) {
        watch.push(Samples::new(SampleWidth::W16, block)).expect("samples");
        watch.violations();
    }
    watch.finish()
}

/// Twenty seconds of the demo board: twenty million transitions, many of them at one tick.
pub(crate) fn demo_board(figures: &mut Figures) {
    let path = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/setups/tide-gauge.toml"));
    let setup = Setup::from_file(path).and_then(|setup| setup.changed(&RunChanges::default().length("20 s")));
    let setup = setup.expect("the demo's setup");
    let mut instrument = connect_for(&setup, path).expect("the bench");
    let options = RecordOptions { now: true, ..RecordOptions::default() };
    let record = setup.record(&mut *instrument, options, &mut |_| std::ops::ControlFlow::Continue(()));
    let record = record.expect("a record of the demo board");
    let limits: Vec<&BoundLimit> = setup.limits().collect();
    for cores in [1, 2] {
        let check = || check_all(&record, limits.iter().copied(), Rule::Proven);
        let seconds = on_cores(cores, || shortest(2, check));
        let activity = format!("{} M transitions", record.edge_count() / 1_000_000);
        let case = Case { samples: record.len() as usize, activity, cores };
        // What is wanted is asked of two cores.
        let each = record.edge_count() as f64 / 2e7 / cores as f64;
        let target = ("1.4 s per 20 M", 1.4 * each);
        figures.below("the demo board's 14 limits", &case, (seconds, "s"), target);
    }
}
