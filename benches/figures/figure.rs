//! Collecting, printing and writing figures.

use std::time::Instant;

use serde::Serialize;

/// One figure beside its yardstick.
#[derive(Debug, Serialize)]
struct Figure {
    name: &'static str,
    samples: usize,
    activity: String,
    cores: usize,
    value: f64,
    unit: &'static str,
    yardstick: &'static str,
    /// The value as a multiple of the yardstick, or of the target where that is a plain number.
    ratio: Option<f64>,
    /// What the ratio must reach; `None` where less than the yardstick is wanted.
    target: Option<f64>,
}

/// All figures of a run.
#[derive(Default)]
pub(crate) struct Figures(Vec<Figure>);

/// Under what conditions a figure was taken.
#[derive(Clone)]
pub(crate) struct Case {
    pub(crate) samples: usize,
    pub(crate) activity: String,
    pub(crate) cores: usize,
}

impl Figures {
    /// A value and its multiple of what the same run measured as the yardstick.
    pub(crate) fn against(
        &mut self,
        name: &'static str,
        case: &Case,
        (value, unit): (f64, &'static str),
        (yardstick, ratio, target): (&'static str, f64, f64),
    ) {
        self.push(name, case, (value, unit), (yardstick, Some(ratio), Some(target)));
    }

    /// A value that must stay below a plain number.
    pub(crate) fn below(
        &mut self,
        name: &'static str,
        case: &Case,
        value: (f64, &'static str),
        (limit, most): (&'static str, f64),
    ) {
        self.push(name, case, value, (limit, Some(most / value.0), Some(1.0)));
    }

    /// A value without a target.
    pub(crate) fn plain(&mut self, name: &'static str, case: &Case, value: (f64, &'static str)) {
        self.push(name, case, value, ("-", None, None));
    }

    fn push(
        &mut self,
        name: &'static str,
        case: &Case,
        (value, unit): (f64, &'static str),
        (yardstick, ratio, target): (&'static str, Option<f64>, Option<f64>),
    ) {
        let Case { samples, activity, cores } = case.clone();
        let figure = Figure { name, samples, activity, cores, value, unit, yardstick, ratio, target };
        let met = match (ratio, target) {
            (Some(ratio), Some(target)) if ratio < target => format!("{ratio:7.2}  MISSES {target}"),
            (Some(ratio), Some(target)) => format!("{ratio:7.2}  of {target}"),
            _ => String::new(),
        };
        println!(
            "{name:<34} {:>5} M  {:<28} {} core{}  {value:>9.3} {unit:<5} {yardstick:<16} {met}",
            figure.samples / 1_000_000,
            figure.activity,
            figure.cores,
            if figure.cores == 1 { " " } else { "s" },
        );
        self.0.push(figure);
    }

    /// Writes `target/figures.json`.
    pub(crate) fn finish(self) {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/target/figures.json");
        let json = serde_json::to_string_pretty(&self.0).expect("figures are plain data");
        std::fs::write(path, json + "\n").expect("the target folder can be written");
        println!("written to {path}");
    }
}

/// The shortest of several runs, in seconds; what they make is dropped outside the time.
pub(crate) fn shortest<T>(runs: usize, mut work: impl FnMut() -> T) -> f64 {
    let mut best = f64::MAX;
    for _ in 0..runs {
        let start = Instant::now();
        let made = std::hint::black_box(work());
        best = best.min(start.elapsed().as_secs_f64());
        drop(made);
    }
    best
}

/// Runs work on this many cores.
pub(crate) fn on_cores<T: Send>(cores: usize, work: impl FnOnce() -> T + Send) -> T {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(cores).build().expect("threads can be started");
    pool.install(work)
}
