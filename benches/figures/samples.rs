//! From raw samples: looking for a trigger, and writing traces.

use deep_tap::capture::Trace;
use deep_tap::event::{Meaning, Program, Scope, StreamSearch, TimedProgram};
use deep_tap::line::LineId;
use deep_tap::scan::{SampleWidth, Samples, fill};
use deep_tap::time::TimeBase;

use crate::data::random;
use crate::figure::{Case, Figures, on_cores, shortest};

/// Activities: samples per change, words, and what must be reached when scanning and filling.
const ACTIVITIES: [(Option<u64>, &str, f64, f64); 4] = [
    (None, "idle", 0.5, 0.4),
    (Some(10_000), "a change per 10 000 samples", 0.5, 0.4),
    (Some(32), "a change per 32 samples", 0.5, 0.15),
    (Some(1), "a change on every sample", 0.5, 0.1),
];

pub(crate) fn measure(samples: usize, figures: &mut Figures) {
    let runs = if samples > 100_000_000 { 2 } else { 5 };
    for (between, activity, scan_target, fill_target) in ACTIVITIES {
        let data = random(samples, between);
        let bytes = data.len() as f64;
        let sum = || data.chunks_exact(8).map(|w| u64::from_le_bytes(w.try_into().unwrap_or_default()));
        let read = shortest(runs, || sum().fold(0u64, u64::wrapping_add));
        let case = |cores| Case { samples, activity: activity.to_string(), cores };
        figures.plain("read limit: a plain sum", &case(1), (bytes / read / 1e9, "GB/s"));
        let packed = Samples::new(SampleWidth::W16, &data);
        let program = trigger();
        let scan = shortest(runs, || StreamSearch::new(&program).push(packed));
        let rate = |seconds: f64| (samples as f64 / seconds / 1e9, "GS/s");
        figures.against(
            "trigger scan, 5-line pattern",
            &case(1),
            rate(scan),
            ("read limit", read / scan, scan_target),
        );
        let bits: Vec<u32> = (0..16).collect();
        for cores in [1, 2] {
            let filling = on_cores(cores, || shortest(runs, || fill(packed, &bits)));
            figures.against(
                "samples into traces, 16 lines",
                &case(cores),
                rate(filling),
                ("read limit", read / filling, fill_target),
            );
        }
        if between == Some(1) {
            let traces = fill(packed, &bits);
            let edges: u64 = traces.iter().map(Trace::edge_count).sum();
            let memory: usize = traces.iter().map(Trace::memory).sum();
            let each = memory as f64 / edges as f64;
            figures.below("memory per transition", &case(1), (each, "B"), ("2.2 B + 5 %", 2.2 * 1.05));
        }
    }
}

/// An edge while a pattern of four more lines holds.
fn trigger() -> TimedProgram {
    let mut scope = Scope::new();
    for (number, name) in ["A", "B", "C", "D", "E"].into_iter().enumerate() {
        scope.define(name, Meaning::Line(LineId(number)));
    }
    let text = "A rises while B high and C low and D high and E low";
    let base = TimeBase::from_rate("100 MS/s".parse().expect("a rate")).expect("a rate above zero");
    Program::compile(text, &scope).and_then(|program| program.at(base)).expect("the expression is right")
}
