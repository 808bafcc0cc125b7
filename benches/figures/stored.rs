//! From stored traces: places, pictures, searches and limits.

use std::hint::black_box;

use deep_tap::capture::Capture;
use deep_tap::draw::{Picture, RowSource, View};
use deep_tap::event::{Program, Scope};
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, Limit};
use deep_tap::line::{Bus, Line, LineId};
use deep_tap::scan::{SampleWidth, Samples, fill};
use deep_tap::time::{Tick, TimeBase};

use crate::data::{Noise, clocked_bus, random};
use crate::figure::{Case, Figures, on_cores, shortest};

/// Sixteen lines called L0 to L15, the first eight a bus D, L8 its clock.
pub(crate) fn capture(data: &[u8]) -> Capture {
    let samples = Samples::new(SampleWidth::W16, data);
    let base = TimeBase::from_rate("100 MS/s".parse().expect("a rate")).expect("a rate above zero");
    let bits: Vec<u32> = (0..16).collect();
    let mut capture = Capture::builder(base, samples.len() as u64);
    for (number, trace) in fill(samples, &bits).into_iter().enumerate() {
        capture = capture.line(Line::named(format!("L{number}")), trace);
    }
    let bus = Bus::new("D", (0..8).rev().map(LineId).collect()).expect("eight lines");
    capture.bus(bus).build().expect("a whole capture")
}

pub(crate) fn places_and_pictures(samples: usize, figures: &mut Figures) {
    for (between, activity) in [(1000, "a change per 1000 samples"), (1, "a change on every sample")] {
        if between == 1 && samples > 100_000_000 {
            continue; // Two gigabytes of bitmaps beside two of samples.
        }
        let capture = capture(&random(samples, Some(between)));
        let case = Case { samples, activity: activity.to_string(), cores: 1 };
        places(&capture, &case, figures);
        let rows: Vec<RowSource> = (0..16).map(|line| RowSource::Line(LineId(line))).collect();
        let mut longest = 0f64;
        let mut span = capture.len();
        while span > 1280 {
            let view = View { start: Tick(0), end: Tick(span), columns: 1280 };
            longest = longest.max(shortest(3, || Picture::new(&capture, &rows, view, &[])));
            span /= 8;
        }
        figures.below("a picture of any zoom, 1280 x 16", &case, (longest * 1e3, "ms"), ("16 ms", 16.0));
        // What a large terminal shows of many lines, from a key to the screen.
        let many: Vec<RowSource> = (0..64).map(|line| RowSource::Line(LineId(line % 16))).collect();
        let mut longest = 0f64;
        let mut span = capture.len();
        while span > 280 {
            let view = View { start: Tick(0), end: Tick(span), columns: 280 };
            let drawn = || Picture::new(&capture, &many, view, &[]).map(|picture| picture.to_string());
            longest = longest.max(shortest(3, drawn));
            span /= 8;
        }
        figures.below("a screen of any zoom, 280 x 64", &case, (longest * 1e3, "ms"), ("16 ms", 16.0));
        let program = Program::compile("L0 rises while L1 high and L2 low", &Scope::of(&capture));
        let program =
            program.and_then(|program| program.at(capture.base())).expect("the expression is right");
        let search = shortest(3, || program.hits(&capture, capture.range()).count());
        let rate = samples as f64 / search / 1e9;
        figures.plain("search of a stored record", &case, (rate, "GS/s"));
    }
}

/// A thousand places all over the record; the mean of each question.
fn places(capture: &Capture, case: &Case, figures: &mut Figures) {
    let mut noise = Noise::new();
    let ticks: Vec<Tick> = (0..1000).map(|_| Tick(noise.next() % capture.len())).collect();
    let trace = |number: usize| capture.trace(LineId(number % 16));
    let mut question = |name, ask: &dyn Fn(usize, Tick)| {
        let all = shortest(5, || ticks.iter().enumerate().for_each(|(n, tick)| ask(n, *tick)));
        figures.below(name, case, (all * 1e6 / ticks.len() as f64, "us"), ("1 us", 1.0));
    };
    question("edges between two places", &|n, tick| {
        let half = Tick(tick.0 / 2);
        black_box(trace(n).count(half..tick));
    });
    question("level at a place", &|n, tick| {
        black_box(trace(n).level_at(tick));
    });
    question("next edge from a place", &|n, tick| {
        black_box(trace(n).next_edge(tick));
    });
}

/// Twelve limits over a record with about this many transitions.
pub(crate) fn limits(transitions: usize, figures: &mut Figures) {
    // The made-up bus has about 0.32 transitions per sample.
    let samples = transitions * 3;
    let capture = capture(&clocked_bus(samples, 20));
    let limits = twelve(&Scope::of(&capture));
    for cores in [1, 2] {
        let seconds = on_cores(cores, || shortest(2, || limit::check_all(&capture, &limits, Rule::Proven)));
        let activity = format!("{} M transitions", capture.edge_count() / 1_000_000);
        let case = Case { samples, activity, cores };
        // What is wanted is asked of two cores.
        let each = capture.edge_count() as f64 / 1e8 / cores as f64;
        figures.below("12 limits", &case, (seconds, "s"), ("1.2 s per 100 M", 1.2 * each));
    }
}

/// Limits of the usual kinds on a bus D, its clock L8 and single lines.
pub(crate) fn twelve(scope: &Scope) -> Vec<BoundLimit> {
    let rows = [
        Limit::setup("t1", "D changes", "L8 rises"),
        Limit::hold("t2", "D changes", "L8 rises"),
        Limit::setup("t3", "L0 changes", "L8 rises"),
        Limit::hold("t4", "L7 changes", "L8 rises"),
        Limit::width("t5", "L8 high"),
        Limit::width("t6", "L8 low"),
        Limit::period("t7", "L8 rises"),
        Limit::period("t8", "L8 falls"),
        Limit::delay("t9", "L8 falls", "L3 changes"),
        Limit::delay("t10", "L8 rises", "L8 falls"),
        Limit::delay("t11", "L5 rises", "L8 rises"),
        Limit::width("t12", "L4 high"),
    ];
    rows.into_iter().map(|row| row.min("5 ns").bind(scope).expect("a right limit")).collect()
}
