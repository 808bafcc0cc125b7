//! Long sequences and high counts, beside an edge that looks at the same lines.

use deep_tap::capture::Capture;
use deep_tap::event::{Program, Scope};
use deep_tap::known::Rule;

use crate::data::random;
use crate::figure::{Case, Figures, on_cores, shortest};
use crate::stored::capture;

/// Steps of the long one.
const STEPS: usize = 1000;

pub(crate) fn measure(samples: usize, figures: &mut Figures) {
    let capture = capture(&random(samples, Some(32)));
    let mut others = (1..16).map(|line| format!("L{line} high"));
    let edge = format!("L0 rises while {}", others.by_ref().collect::<Vec<_>>().join(" and "));
    let edge = seconds(&capture, &edge);
    // It seldom begins, so that few of its steps are waited at.
    let begin =
        "L0 rises while L1 high and L2 high and L3 high and L4 high and L5 high and L6 high and L7 high";
    let steps: Vec<String> = (1..STEPS).map(|step| format!("L{} rises", step % 16)).collect();
    let long = format!("{begin} and L8 high and L9 high then {}", steps.join(" then "));
    for (name, event) in [
        ("a sequence of 1000 steps", long.as_str()),
        ("an edge counted to a million", "(L0 rises while L1 high or L1 low) 1000000 times"),
    ] {
        let case = Case { samples, activity: "a change per 32 samples".into(), cores: 1 };
        for (ratio, kind) in seconds(&capture, event).into_iter().zip(edge).zip(["as shown", "with doubt"]) {
            let (own, edge) = ratio;
            let case = Case { activity: format!("a change per 32, {kind}"), ..case.clone() };
            figures.below(name, &case, (own / edge, "x"), ("3 x an edge", 3.0));
        }
    }
}

/// How long it takes to find what the record shows of an event, and what may have happened.
fn seconds(capture: &Capture, event: &str) -> [f64; 2] {
    let program = Program::compile(event, &Scope::of(capture)).and_then(|event| event.at(capture.base()));
    let program = program.unwrap_or_else(|error| panic!("{event}: {error}"));
    let range = || capture.range();
    on_cores(1, || {
        [
            shortest(3, || program.hits(capture, range()).count()),
            shortest(3, || program.marks(capture, range(), Rule::Proven).count()),
        ]
    })
}
