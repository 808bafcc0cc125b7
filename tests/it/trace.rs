//! The trace answers every question as a plain list of edges does, however it was built.

use deep_tap::capture::{Edge, Trace, TraceBuilder};
use deep_tap::line::Level;
use deep_tap::scan::{Filler, SampleBlock, SampleWidth};
use deep_tap::time::Tick;
use proptest::prelude::*;

/// The slow obvious trace: the level at every tick.
struct Plain(Vec<Level>);

impl std::fmt::Debug for Plain {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ticks, edges {:?}", self.0.len(), self.edges().iter().take(40).collect::<Vec<_>>())
    }
}

impl Plain {
    fn edges(&self) -> Vec<Edge> {
        let pairs = self.0.windows(2).enumerate();
        pairs
            .filter(|(_, pair)| pair[0] != pair[1])
            .map(|(i, pair)| Edge { tick: Tick(i as u64 + 1), from: pair[0], to: pair[1] })
            .collect()
    }

    fn built_from_edges(&self) -> Trace {
        let mut builder = TraceBuilder::new(self.0[0]);
        for edge in self.edges() {
            builder.push_edge(edge.tick, edge.to).unwrap();
        }
        builder.finish(self.0.len() as u64)
    }

    /// Through the filler, in blocks of these lengths, from bit `bit` of each sample.
    fn built_from_samples(&self, bit: u32, blocks: &[usize]) -> Trace {
        let mut filler = Filler::new(&[bit]);
        let mut at = 0;
        for len in blocks.iter().cycle() {
            let part = &self.0[at..(at + len).min(self.0.len())];
            let sample = |l: &Level, is: Level| u64::from(*l == is) << bit;
            let mut block = SampleBlock::new(SampleWidth::for_inputs(bit as usize + 1));
            part.iter().for_each(|l| block.push(sample(l, Level::High), sample(l, Level::Unknown)));
            filler.push(block.samples());
            at += part.len();
            if at == self.0.len() {
                break;
            }
        }
        filler.finish().remove(0)
    }
}

/// Runs of levels of very different lengths, so that chunks come out quiet, sparse and dense.
fn plain(floating: u32) -> impl Strategy<Value = Plain> {
    let level = prop_oneof![8 => Just(Level::Low), 8 => Just(Level::High), 1 => Just(Level::Unknown), floating => Just(Level::Floating)];
    let run = prop_oneof![4 => 1usize..4, 2 => 4usize..300, 1 => 3000usize..90_000];
    let busy = (6000usize..40_000).prop_map(|n| {
        let levels = (0..n).map(|i| Level::from(i * 7919 % 13 < 6));
        levels.collect::<Vec<_>>()
    });
    let part = prop_oneof![
        6 => (level, run).prop_map(|(level, len)| vec![level; len]),
        1 => busy,
    ];
    prop::collection::vec(part, 1..30).prop_map(|parts| Plain(parts.concat()))
}

fn agrees(plain: &Plain, trace: &Trace, probes: &[prop::sample::Index]) {
    let edges = plain.edges();
    let len = plain.0.len() as u64;
    assert_eq!((trace.len(), trace.edge_count()), (len, edges.len() as u64));
    assert_eq!(trace.edges(Tick(0)..Tick(len)).collect::<Vec<_>>(), edges);
    for pair in probes.windows(2) {
        let (a, b) = (pair[0].index(plain.0.len()) as u64, pair[1].index(plain.0.len()) as u64);
        assert_eq!(trace.level_at(Tick(a)), plain.0[a as usize]);
        let next = edges.iter().find(|e| e.tick.0 > a).copied();
        assert_eq!(trace.next_edge(Tick(a)), next);
        assert_eq!(trace.prev_edge(Tick(a)), edges.iter().rev().find(|e| e.tick.0 < a).copied());
        let (from, to) = (a.min(b), a.max(b));
        let inside: Vec<Edge> = edges.iter().filter(|e| (from..to).contains(&e.tick.0)).copied().collect();
        assert_eq!(trace.count(Tick(from)..Tick(to)), inside.len() as u64);
        assert_eq!(trace.edges(Tick(from)..Tick(to)).collect::<Vec<_>>(), inside);
        if !edges.is_empty() {
            let number = a as usize % edges.len();
            assert_eq!(trace.nth_edge(number as u64), Some(edges[number]));
        }
    }
    assert_eq!(trace.nth_edge(edges.len() as u64), None);
    assert_eq!(trace.next_edge(Tick(u64::MAX)), None);
    assert_eq!(trace.is_ever_unknown(), plain.0.contains(&Level::Unknown));
    assert_eq!(trace.is_ever_floating(), plain.0.contains(&Level::Floating));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn built_from_edges_it_answers_as_a_plain_list(plain in plain(1), probes: [prop::sample::Index; 24]) {
        agrees(&plain, &plain.built_from_edges(), &probes);
    }

    #[test]
    fn built_from_samples_it_answers_the_same_however_they_were_cut(
        plain in plain(0),
        probes: [prop::sample::Index; 12],
        bit in 0u32..64,
        blocks in prop::collection::vec(1usize..20_000, 1..6),
    ) {
        agrees(&plain, &plain.built_from_samples(bit, &blocks), &probes);
    }
}

#[test]
fn memory_stays_at_two_bytes_per_edge() {
    // Busy, moderate and rare activity over ten million ticks each.
    for every in [2u64, 32, 1000] {
        let mut builder = TraceBuilder::new(Level::Low);
        for tick in (every..10_000_000).step_by(every as usize) {
            let level = builder.level().opposite();
            builder.push_edge(Tick(tick), level).unwrap();
        }
        let trace = builder.finish(10_000_000);
        let per_edge = trace.memory() as f64 / trace.edge_count() as f64;
        assert!(per_edge <= 2.2 * 1.05, "{per_edge} bytes per edge at one edge in {every} ticks");
    }
}

#[test]
fn edges_out_of_order_are_refused() {
    let mut builder = TraceBuilder::new(Level::Low);
    assert!(builder.push_edge(Tick(0), Level::High).is_err());
    builder.push_edge(Tick(7), Level::High).unwrap();
    let error = builder.push_edge(Tick(7), Level::Low).unwrap_err();
    assert!(error.to_string().contains("tick 7"), "{error}");
}
