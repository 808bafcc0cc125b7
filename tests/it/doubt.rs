//! How sure an occurrence is: what works on whole chunks of known levels finds the same as what goes
//! from edge to edge and minds unknown ones.

use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::event::{Certainty, ConditionProgram, Hit, Program, Scope, Stretch};
use deep_tap::line::{Bus, Level, Line, LineId};
use deep_tap::time::{Resolution, Tick, TimeBase};
use proptest::prelude::*;

const NAMES: [&str; 4] = ["A", "B", "C", "D"];

/// A record of lines that toggle at these distances, after a pause that brings the border of a
/// chunk close; `spoilt` adds an unknown level to every line, far behind everything else.
fn record(distances: &[Vec<u64>], pause: u64, skew: &str, spoilt: bool) -> (Capture, u64) {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let end = pause + distances.iter().map(|d| d.iter().sum::<u64>()).max().unwrap_or(0) + 10;
    let len = end + 1000;
    let resolution = match skew {
        "exact" => Resolution::EXACT,
        skew => Resolution { skew: skew.parse().unwrap(), ..Resolution::SAMPLED },
    };
    let mut capture = Capture::builder(base, len).resolution(resolution);
    for (name, distances) in NAMES.iter().zip(distances) {
        let mut trace = TraceBuilder::new(Level::Low);
        let mut tick = pause;
        for distance in distances {
            tick += distance;
            trace.push_edge(Tick(tick), trace.level().opposite()).unwrap();
        }
        if spoilt {
            trace.push_edge(Tick(len - 1), Level::Unknown).unwrap();
        }
        capture = capture.line(Line::named(*name), trace.finish(len));
    }
    let bus = Bus::new("BUS", vec![LineId(3), LineId(2), LineId(1)]).unwrap();
    (capture.bus(bus).build().unwrap(), end)
}

fn hits(capture: &Capture, text: &str, end: u64) -> Vec<Hit> {
    let program = Program::compile(text, &Scope::of(capture)).unwrap();
    program.at(capture.base()).unwrap().hits_with_doubt(capture, Tick(0)..Tick(end)).collect()
}

fn stretches(capture: &Capture, text: &str, end: u64) -> Vec<Stretch> {
    let program = ConditionProgram::compile(text, &Scope::of(capture)).unwrap();
    program.stretches(capture, Tick(0)..Tick(end)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn whole_chunks_and_single_edges_agree(
        distances in prop::collection::vec(
            prop::collection::vec(prop_oneof![5 => 1u64..6, 2 => 1u64..80, 1 => 1u64..9000], 0..120),
            4,
        ),
        pause in prop_oneof![0u64..3, 65_300u64..65_540, 131_000u64..131_080],
        skew in prop::sample::select(vec!["exact", "0 s", "0.5 ns", "10 ns", "35 ns"]),
    ) {
        let (clean, end) = record(&distances, pause, skew, false);
        let (spoilt, _) = record(&distances, pause, skew, true);
        for text in [
            "A rises",
            "B changes",
            "BUS changes",
            "A falls while B high",
            "A changes while B low and not (C high and D high)",
            "BUS changes while A high",
            "D rises while BUS in 2 .. 5",
            "A rises while A high",
        ] {
            prop_assert_eq!(hits(&clean, text, end), hits(&spoilt, text, end), "{}", text);
        }
        for text in ["A high", "C low"] {
            prop_assert_eq!(stretches(&clean, text, end), stretches(&spoilt, text, end), "{}", text);
        }
    }
}

/// The order of edges that share a tick, or lie within the skew of each other, is not known.
#[test]
fn a_condition_that_changes_close_to_its_edge_is_doubtful() {
    // A rises at 20, 40 and 60; B is high from 10 to 39, and from 61 on.
    let (capture, end) =
        record(&[vec![20, 5, 15, 5, 15], vec![10, 29, 22], vec![], vec![]], 0, "10 ns", false);
    let found: Vec<(u64, Certainty)> =
        hits(&capture, "A rises while B high", end).iter().map(|h| (h.tick.0, h.certainty)).collect();
    assert_eq!(found, [(20, Certainty::Certain), (40, Certainty::Possible), (60, Certainty::Possible)]);
    let (exact, end) = record(&[vec![20, 5, 15, 5, 15], vec![10, 29, 22], vec![], vec![]], 0, "exact", false);
    let found: Vec<u64> = hits(&exact, "A rises while B high", end).iter().map(|h| h.tick.0).collect();
    assert_eq!(found, [20]);
}
