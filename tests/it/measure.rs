//! Statistics against the truth: edges are drawn in continuous time and sampled; every number that is
//! measured has bounds, and the true one lies within.

use deep_tap::bench::Random;
use deep_tap::capture::Capture;
use deep_tap::event::{Program, Scope};
use deep_tap::line::{Level, Line, LineId, PulseWidths};
use deep_tap::measure::{Activity, Distribution, averages, bursts, chain, duty, jitter, periods, widths};
use deep_tap::quantity::Estimate;
use deep_tap::scan::{SampleWidth, Samples};
use deep_tap::time::Resolution;

use crate::support::capture;

/// Femtoseconds of a tick at 100 MS/s.
const TICK: i64 = 10_000_000;

/// Rising and falling edges in femtoseconds, and the record that samples them at some phase.
fn clock(random: &mut Random, cycles: usize) -> (Vec<i64>, Capture) {
    let (mut edges, mut at) = (Vec::new(), 50 * TICK);
    let period = random.between(5 * TICK, 30 * TICK);
    for _ in 0..cycles {
        let jittered = period + random.between(-2 * TICK, 2 * TICK);
        let high = random.between(11 * TICK / 10, jittered - 11 * TICK / 10);
        edges.extend([at, at + high]);
        at += jittered;
    }
    let phase = random.between(0, TICK - 1);
    let ticks: Vec<u64> = edges.iter().map(|fs| ((fs - phase + TICK - 1).div_euclid(TICK)) as u64).collect();
    let len = ticks.last().unwrap() + 100;
    let record = capture("100 MS/s", Resolution::SAMPLED, len, &[("A", &ticks)]);
    // No pulse of it is drawn shorter.
    let pulses = PulseWidths { shortest: Some("10.9 ns".parse().unwrap()), ..PulseWidths::default() };
    let line = Line { pulses, ..Line::named("A") };
    let record = record.into_builder().select(vec![("A".to_string(), line)]).unwrap();
    (edges, record.build().unwrap())
}

fn inside(known: Estimate, truth: f64, what: &str) {
    // A hair for what floating point rounds.
    let hair = truth.abs() * 1e-9 + 1e-18;
    assert!(known.lo - hair <= truth && truth <= known.hi + hair, "{what}: {truth} not in {known:?}");
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

fn rms(values: impl Iterator<Item = f64>, count: usize) -> f64 {
    (values.map(|value| value * value).sum::<f64>() / count as f64).sqrt()
}

#[test]
fn the_truth_lies_within_the_bounds_of_every_statistic() {
    let mut random = Random::new(2026);
    for round in 0..300 {
        let cycles = 25 + round % 200;
        let (edges, record) = clock(&mut random, cycles);
        let rises: Vec<i64> = edges.iter().step_by(2).copied().collect();
        let true_periods: Vec<f64> = rises.windows(2).map(|w| (w[1] - w[0]) as f64 * 1e-15).collect();
        let event = Program::compile("A rises", &Scope::of(&record)).unwrap().at(record.base()).unwrap();
        let all = periods(&record, &event, record.range());
        assert_eq!(all.count(), true_periods.len() as u64);
        let mut sorted = true_periods.clone();
        sorted.sort_by(f64::total_cmp);
        for (measure, truth) in [
            (all.min(), sorted[0]),
            (all.max(), sorted[sorted.len() - 1]),
            (all.percentile(50.0), sorted[sorted.len().div_ceil(2) - 1]),
            (all.percentile(99.0), sorted[(sorted.len() as f64 * 0.99).ceil() as usize - 1]),
        ] {
            let bounds = measure.unwrap().bounds;
            let known = Estimate { value: 0.0, lo: bounds.lo.to_f64(), hi: bounds.hi.unwrap().to_f64() };
            inside(known, truth, "order statistic");
        }
        let average = mean(&true_periods);
        let known = all.mean().unwrap();
        inside(known, average, "mean");
        inside(known.recip(), 1.0 / average, "frequency");
        // N times as well known as one period.
        let width = (known.hi - known.lo) * true_periods.len() as f64;
        assert!((width - 2e-8).abs() < 1e-14, "{width}");
        let deviation = rms(true_periods.iter().map(|p| p - average), true_periods.len());
        inside(all.deviation().unwrap(), deviation, "deviation");
        let steady = jitter(&record, &event, record.range()).unwrap();
        inside(steady.period_rms, deviation, "period jitter");
        inside(steady.period_peak_to_peak, sorted[sorted.len() - 1] - sorted[0], "peak to peak");
        let changes: Vec<f64> = true_periods.windows(2).map(|w| (w[1] - w[0]).abs()).collect();
        inside(
            steady.cycle_to_cycle_peak.unwrap(),
            changes.iter().copied().fold(0.0, f64::max),
            "cycle to cycle",
        );
        inside(
            steady.cycle_to_cycle_rms.unwrap(),
            rms(changes.iter().copied(), changes.len()),
            "cycle to cycle rms",
        );
        let (grid_rms, grid_peak) = grid(&rises);
        inside(steady.grid_rms, grid_rms, "grid rms");
        inside(steady.grid_peak_to_peak, grid_peak, "grid peak to peak");
        let tenth = true_periods.len() / 10;
        let (first, last) = (mean(&true_periods[..tenth]), mean(&true_periods[true_periods.len() - tenth..]));
        inside(steady.drift.unwrap(), last / first - 1.0, "drift");
        let blocks: Vec<f64> = true_periods.chunks_exact(5).map(mean).collect();
        let over = averages(&record, &event, record.range(), 5);
        assert_eq!(over.count, blocks.len() as u64);
        inside(over.min.unwrap(), blocks.iter().copied().fold(f64::MAX, f64::min), "shortest mean");
        inside(over.max.unwrap(), blocks.iter().copied().fold(0.0, f64::max), "longest mean");
        let highs: Vec<f64> = edges.chunks(2).map(|pair| (pair[1] - pair[0]) as f64 * 1e-15).collect();
        let high = widths(&record, LineId(0), Level::High, record.range());
        assert_eq!(high.count(), highs.len() as u64);
        inside(high.mean().unwrap(), mean(&highs), "mean width");
        let whole: f64 = true_periods.iter().sum();
        let share = highs[..highs.len() - 1].iter().sum::<f64>() / whole;
        inside(duty(&record, LineId(0), record.range()).unwrap(), share, "duty");
    }
}

/// Root mean square and peak to peak against the grid of least squares, in seconds.
fn grid(edges: &[i64]) -> (f64, f64) {
    let n = edges.len() as f64;
    let at = |i: usize| (edges[i] - edges[0]) as f64 * 1e-15;
    let (mi, mt) = ((n - 1.0) / 2.0, (0..edges.len()).map(at).sum::<f64>() / n);
    let cross: f64 = (0..edges.len()).map(|i| (i as f64 - mi) * (at(i) - mt)).sum();
    let slope = cross / (0..edges.len()).map(|i| (i as f64 - mi).powi(2)).sum::<f64>();
    let off: Vec<f64> = (0..edges.len()).map(|i| at(i) - mt - slope * (i as f64 - mi)).collect();
    let (least, most) = off.iter().fold((f64::MAX, f64::MIN), |(a, b), x| (a.min(*x), b.max(*x)));
    (rms(off.iter().copied(), off.len()), most - least)
}

#[test]
fn a_distribution_answers_as_a_sorted_list() {
    let mut random = Random::new(5);
    for round in 0..200u64 {
        let spread = [10, 1000, 100_000, 10_000_000_000][round as usize % 4];
        let list: Vec<i64> = (0..1 + round * 3).map(|_| random.between(-spread / 3, spread)).collect();
        let all: Distribution = list.iter().copied().collect();
        let mut sorted = list.clone();
        sorted.sort_unstable();
        assert_eq!((all.min(), all.max()), (sorted.first().copied(), sorted.last().copied()));
        for percent in [0.0, 1.0, 37.5, 50.0, 99.0, 100.0] {
            let rank = ((percent / 100.0 * sorted.len() as f64).ceil() as usize).max(1);
            assert_eq!(all.percentile(percent), Some(sorted[rank - 1]), "{percent} of {}", sorted.len());
        }
        let bins = all.histogram(40);
        assert!(bins.len() <= 40 && bins.windows(2).all(|pair| pair[0].to == pair[1].from));
        for bin in &bins {
            let inside = sorted.iter().filter(|value| (bin.from..bin.to).contains(value)).count();
            assert_eq!(bin.count, inside as u64);
        }
        assert_eq!(bins.iter().map(|bin| bin.count).sum::<u64>(), all.count());
    }
}

#[test]
fn a_range_cuts_off_what_is_not_whole() {
    let record =
        capture("1 MS/s", Resolution::EXACT, 200, &[("A", &[10, 20, 40, 60, 80, 110]), ("B", &[20, 95])]);
    let part = deep_tap::time::Tick(15)..deep_tap::time::Tick(100);
    let high = widths(&record, LineId(0), Level::High, part.clone());
    assert_eq!((high.count(), high.unpaired), (1, 1), "10 to 20 is cut off, 80 to 110 too");
    let scope = Scope::of(&record);
    let event = |text| Program::compile(text, &scope).unwrap().at(record.base()).unwrap();
    // In an exact record, an answer at the very tick is one.
    let stages = chain(&record, &[event("A falls"), event("B changes")], part);
    assert_eq!((stages[0].count(), stages[0].min().unwrap().value.to_string()), (2, "0 s".to_string()));
}

/// A clock that runs in bursts: its true period in femtoseconds, how many bursts and periods there are, and
/// the ticks of its edges at 100 MS/s.
fn bursty(random: &mut Random) -> (i64, u64, u64, Vec<u64>) {
    let (period, count) = (random.between(5 * TICK, 40 * TICK), 3 + random.below(20));
    let (mut at, mut periods, mut edges) = (100 * TICK + random.between(0, TICK), 0, Vec::new());
    for _ in 0..count {
        let cycles = random.between(4, 30);
        for cycle in 0..=cycles {
            edges.extend([at + cycle * period, at + cycle * period + period / 2]);
        }
        periods += cycles as u64;
        at += cycles * period + random.between(40 * period, 90 * period);
    }
    let ticks = edges.iter().map(|fs| ((fs + TICK - 1) / TICK) as u64).collect();
    (period, count, periods, ticks)
}

#[test]
fn a_clock_in_bursts_is_measured_within_them_stored_and_arriving() {
    let mut random = Random::new(10);
    for round in 0..200 {
        let (period, count, periods_in, ticks) = bursty(&mut random);
        let len = ticks.last().unwrap() + 100;
        let record = capture("100 MS/s", Resolution::SAMPLED, len, &[("A", &ticks)]);
        let rises = Program::compile("A rises", &Scope::of(&record)).unwrap().at(record.base()).unwrap();
        let all = periods(&record, &rises, record.range());
        let found = bursts(&record, &rises, record.range(), &all).unwrap();
        assert_eq!((found.count, found.periods.count()), (count, periods_in), "round {round}");
        let (known, truth) = (found.periods.mean().unwrap(), period as f64 * 1e-15);
        inside(known, truth, "the period within bursts");
        // Only the ends of each burst are open.
        let widest = 2.0 * 10e-9 * count as f64 / periods_in as f64;
        assert!(known.hi - known.lo <= widest * 1.001, "{known:?} is wider than {widest}");
        // The mean over everything is another matter.
        assert!(all.mean().unwrap().value > 1.3 * truth);

        let high: Vec<u8> =
            (0..len).map(|tick| (ticks.partition_point(|edge| *edge <= tick) % 2) as u8).collect();
        let mut activity = Activity::new(1);
        for piece in high.chunks(1 + random.below(5000) as usize) {
            activity.push(Samples::new(SampleWidth::W8, piece));
        }
        let seen = activity.period_in_bursts(0).unwrap() * 10e-9;
        assert!((seen / truth - 1.0).abs() < 0.1, "round {round}: {seen} instead of {truth}");
    }
    // What is irregular, and what never pauses, has none.
    let mut at = 100;
    let random_edges: Vec<u64> = std::iter::repeat_with(|| {
        at += 1 + random.below(60);
        at
    })
    .take(2000)
    .collect();
    let steady: Vec<u64> = (0..2000).map(|edge| 100 + 7 * edge).collect();
    for ticks in [random_edges, steady] {
        let record = capture("100 MS/s", Resolution::SAMPLED, ticks.last().unwrap() + 9, &[("A", &ticks)]);
        let rises = Program::compile("A rises", &Scope::of(&record)).unwrap().at(record.base()).unwrap();
        let all = periods(&record, &rises, record.range());
        assert!(bursts(&record, &rises, record.range(), &all).is_none());
    }
}

#[test]
fn a_pulse_of_one_sample_is_told_wherever_the_pieces_are_cut() {
    let samples = [0u8, 1, 1, 0, 0, 1, 0, 1, 1];
    for cut in 1..samples.len() {
        let mut activity = Activity::new(1);
        activity.push(Samples::new(SampleWidth::W8, &samples[..cut]));
        activity.push(Samples::new(SampleWidth::W8, &samples[cut..]));
        assert_eq!(activity.lines()[0].single, Some(5), "cut at {cut}");
    }
    let mut activity = Activity::new(1);
    activity.push(Samples::new(SampleWidth::W8, &samples[..5]));
    assert_eq!(activity.lines()[0].single, None);
}
