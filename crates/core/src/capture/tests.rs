//! Every way of storing a chunk against a plain list of edges.

use proptest::prelude::*;

use super::builder::TraceBuilder;
use super::chunks::{CHUNK, Chunks, Step};
use super::chunks_builder::ChunksBuilder;
use crate::line::Level;
use crate::time::Tick;

/// Runs of edges of one density each, so that quiet, sparse, dense and mixed chunks follow each other.
fn steps() -> impl Strategy<Value = (Level, Vec<Step>)> {
    let level = || proptest::sample::select(vec![Level::Low, Level::High, Level::Floating, Level::Unknown]);
    let run = (1u64..200_000, 1u64..40, 0usize..9_000, proptest::bool::weighted(0.2), any::<u64>());
    (level(), proptest::collection::vec(run, 1..5)).prop_map(|(entry, runs)| {
        let (mut at, mut level, mut steps) = (0, entry, Vec::new());
        for (rest, step, count, open, seed) in runs {
            at += rest;
            for number in 0..count as u64 {
                let unknown = open && (seed >> (number % 64)) & 1 == 1 && level != Level::Unknown;
                level = match level {
                    Level::Low | Level::High if unknown && seed & 2 == 2 => Level::Floating,
                    _ if unknown => Level::Unknown,
                    Level::Floating | Level::Unknown => Level::from(seed & 1 == 1),
                    known => known.opposite(),
                };
                steps.push((at, level));
                at += 1 + seed.rotate_left(number as u32) % step;
            }
        }
        (entry, steps)
    })
}

fn built(entry: Level, steps: &[Step]) -> Chunks {
    let mut builder = ChunksBuilder::new(entry);
    steps.iter().for_each(|(offset, level)| builder.push(*offset, *level));
    builder.finish()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn chunks_hold_what_was_pushed((entry, steps) in steps(), places in proptest::collection::vec(0u64..1_000_000, 32)) {
        let chunks = built(entry, &steps);
        prop_assert_eq!(chunks.edges(), steps.len() as u64);
        prop_assert_eq!(chunks.exit(), steps.last().map_or(entry, |(_, level)| *level));
        let ends = steps.iter().flat_map(|(offset, _)| [*offset, offset + 1]).step_by(61);
        let borders = (0..8).flat_map(|chunk| [chunk * CHUNK, (chunk * CHUNK).saturating_sub(1)]);
        for place in places.into_iter().chain(ends).chain(borders) {
            let before = steps.partition_point(|(offset, _)| *offset < place);
            let here = steps.partition_point(|(offset, _)| *offset <= place);
            prop_assert_eq!(chunks.rank(place), before as u64, "edges before {}", place);
            let level = here.checked_sub(1).map_or(entry, |last| steps[last].1);
            prop_assert_eq!(chunks.level(place), level, "at {}", place);
            let mut cursor = chunks.cursor(place);
            for step in &steps[before..steps.len().min(before + 3)] {
                prop_assert_eq!(cursor.next(&chunks), Some(*step), "from {}", place);
            }
        }
        for number in (0..steps.len()).step_by(97) {
            prop_assert_eq!(chunks.select(number as u64), Some(steps[number]));
        }
        prop_assert_eq!(chunks.select(steps.len() as u64), None);
        let mut cursor = chunks.cursor(0);
        let walked: Vec<Step> = std::iter::from_fn(|| cursor.next(&chunks)).collect();
        prop_assert_eq!(walked, steps);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Sparse and busy chunks, edges at the borders of chunks, and unknown levels.
    #[test]
    fn narrow_pulses_are_found_as_one_by_one(
        gaps in prop::collection::vec(prop_oneof![8 => 2u64..40, 2 => 2u64..3000, 1 => 65_530u64..65_540], 0..9000),
        single in prop::option::of(0usize..9000),
        unknown in prop::option::of(0usize..9000),
    ) {
        let mut builder = TraceBuilder::new(Level::Low);
        let (mut tick, mut edges) = (0, Vec::new());
        for (number, gap) in gaps.iter().enumerate() {
            tick += if single == Some(number) { 1 } else { *gap };
            let to = match unknown == Some(number) {
                true => Level::Unknown,
                false => Level::from(builder.level() != Level::High),
            };
            builder.push_edge(Tick(tick), to).unwrap();
            edges.push((tick, to));
        }
        let trace = builder.finish(tick + 10);
        let level = |n: usize| n.checked_sub(1).map_or(Level::Low, |before| edges[before].1);
        let whole = |n: &usize| [level(*n), level(n + 1), level(n + 2)].iter().all(|l| *l != Level::Unknown);
        let pulses = (0..edges.len().saturating_sub(1)).filter(whole);
        let by_hand = pulses.map(|n| (edges[n + 1].0 - edges[n].0, edges[n].0)).min();
        prop_assert_eq!(trace.narrowest().map(|narrow| (narrow.ticks, narrow.at.0)), by_hand);
        let single = by_hand.filter(|(ticks, _)| *ticks == 1).map(|(_, at)| at);
        prop_assert_eq!(trace.first_single().map(|tick| tick.0), single);
    }
}
