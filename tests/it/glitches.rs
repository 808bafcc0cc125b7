//! Short pulses: found, counted by width, and taken out only when asked, with a word about it.

use deep_tap::event::{Program, Scope};
use deep_tap::line::{Level, LineId};
use deep_tap::measure::{glitches, remove_glitches};
use deep_tap::time::{Resolution, Tick};
use proptest::prelude::*;

use crate::support::{capture, time};

proptest! {
    #[test]
    fn they_are_counted_as_the_event_language_finds_them(gaps in prop::collection::vec(1u64..40, 0..60), below in 2u64..30) {
        let mut tick = 0;
        let edges: Vec<u64> = gaps.iter().map(|gap| { tick += gap; tick }).collect();
        let record = capture("100 MS/s", Resolution::SAMPLED, tick + 50, &[("A", &edges)]);
        let below = format!("{below}0 ns");
        let found = glitches(&record, LineId(0), time(&below));
        let hits = |text: &str| {
            let program = Program::compile(text, &Scope::of(&record)).unwrap();
            program.at(record.base()).unwrap().hits(&record, record.range()).count() as u64
        };
        let searched = hits(&format!("A high for < {below} or A low for < {below}"));
        prop_assert_eq!(found.count, searched);
        prop_assert_eq!(found.widths.values().sum::<u64>(), found.count);
    }

    #[test]
    fn taking_them_out_leaves_the_rest_as_it_was(gaps in prop::collection::vec(1u64..40, 0..60), below in 2u64..30) {
        let mut tick = 0;
        let edges: Vec<u64> = gaps.iter().map(|gap| { tick += gap; tick }).collect();
        let record = capture("100 MS/s", Resolution::SAMPLED, tick + 50, &[("A", &edges), ("B", &edges)]);
        // The slow obvious way, on the list of edges.
        let mut wanted = Vec::new();
        let mut rest = edges.as_slice();
        while let Some((first, after)) = rest.split_first() {
            match after.first() {
                Some(second) if second - first < below => rest = &after[1..],
                _ => {
                    wanted.push(*first);
                    rest = after;
                }
            }
        }
        let removed = (edges.len() - wanted.len()) / 2;
        let clean = remove_glitches(record, &[LineId(0)], time(&format!("{below}0 ns"))).unwrap();
        let left: Vec<u64> = clean.trace(LineId(0)).edges(clean.range()).map(|e| e.tick.0).collect();
        prop_assert_eq!(left, wanted);
        let untouched: Vec<u64> = clean.trace(LineId(1)).edges(clean.range()).map(|e| e.tick.0).collect();
        prop_assert_eq!(untouched, edges);
        let said = format!("pulses shorter than {} removed: {removed}", time(&format!("{below}0 ns")));
        prop_assert!(clean.history()[0].starts_with(&said), "{:?}", clean.history());
    }
}

#[test]
fn widths_are_a_histogram_and_a_tick_is_the_least() {
    let record =
        capture("100 MS/s", Resolution::SAMPLED, 400, &[("A", &[10, 11, 50, 53, 100, 103, 200, 290])]);
    let found = glitches(&record, LineId(0), time("50 ns"));
    assert_eq!((found.count, found.first), (3, Some(Tick(10))));
    assert_eq!(found.widths.into_iter().collect::<Vec<_>>(), [(1, 1), (3, 2)]);
    assert_eq!(record.trace(LineId(0)).level_at(Tick(51)), Level::High);
    let error = remove_glitches(record, &[LineId(0)], time("10 ns")).unwrap_err();
    assert!(error.message().contains("no pulse of this record is shorter than 10 ns"), "{error}");
}
