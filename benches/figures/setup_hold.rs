//! From raw samples to the setup and hold extremes of a bus: the job that otherwise is a script.

use std::path::{Path, PathBuf};
use std::process::Command;

use deep_tap::capture::{Capture, Trace};
use deep_tap::event::Scope;
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, Limit, LimitResult, Watch};
use deep_tap::line::{Bus, Level, Line, LineId};
use deep_tap::scan::{SampleWidth, Samples, fill};
use deep_tap::time::{Resolution, TimeBase};

use crate::data::clocked_bus;
use crate::figure::{Case, Figures, on_cores, shortest};

pub(crate) fn measure(samples: usize, figures: &mut Figures) {
    for (every, activity) in [(20, "8-bit bus, a clock per 20"), (200, "8-bit bus, a clock per 200")] {
        compare(&clocked_bus(samples, every), samples, activity, figures);
    }
}

fn compare(data: &[u8], samples: usize, activity: &str, figures: &mut Figures) {
    let script = run_script(data);
    type Way = fn(&[u8]) -> Vec<LimitResult>;
    let ways = [("setup and hold from samples", stored as Way), ("the same as they arrive", arriving)];
    for ((name, way), cores) in ways.into_iter().flat_map(|way| [(way, 1), (way, 2)]) {
        let (seconds, results) = on_cores(cores, || (shortest(3, || way(data)), way(data)));
        let case = Case { samples, activity: activity.to_string(), cores };
        let rate = (samples as f64 / seconds / 1e9, "GS/s");
        let shortest = |r: &LimitResult| r.statistics.map_or(f64::NAN, |s| s.min.to_f64() * 1e8).round();
        let ours: Vec<f64> = results.iter().map(shortest).collect();
        match &script {
            Ok((numpy, theirs)) => {
                assert_eq!(&ours, theirs, "both find the same extremes");
                figures.against(name, &case, rate, ("numpy", numpy / seconds, 15.0));
            }
            Err(why) => {
                println!("the comparison with numpy is left out: {why}");
                figures.plain(name, &case, rate);
            }
        }
    }
}

/// A record of a bus D and its clock, with these traces.
fn record(traces: Vec<Trace>, len: u64) -> Capture {
    let base = TimeBase::from_rate("100 MS/s".parse().expect("a rate")).expect("a rate above zero");
    let mut capture = Capture::builder(base, len).resolution(Resolution::SAMPLED);
    for (number, trace) in traces.into_iter().enumerate() {
        let name = if number == 8 { "CLK".into() } else { format!("D{number}") };
        capture = capture.line(Line::named(name), trace);
    }
    let bus = Bus::new("D", (0..8).rev().map(LineId).collect()).expect("eight lines");
    capture.bus(bus).build().expect("a whole capture")
}

fn limits(record: &Capture) -> Vec<BoundLimit> {
    let limits = [Limit::setup("tSU", "D changes", "CLK rises"), Limit::hold("tH", "D changes", "CLK rises")];
    limits.map(|limit| limit.min("10 ns").bind(&Scope::of(record)).expect("a right limit")).into()
}

/// Stored first.
fn stored(data: &[u8]) -> Vec<LimitResult> {
    let samples = Samples::new(SampleWidth::W16, data);
    let capture = record(fill(samples, &[0, 1, 2, 3, 4, 5, 6, 7, 8]), samples.len() as u64);
    limit::check_all(&capture, &limits(&capture), Rule::Proven).expect("an undamaged capture")
}

/// Without keeping them.
fn arriving(data: &[u8]) -> Vec<LimitResult> {
    let record = record((0..9).map(|_| Trace::constant(Level::Low, 0)).collect(), 0);
    let limits = limits(&record);
    let mut watch = Watch::new(record, limits).expect("limits that can be watched");
    for block in data.chunks(1 << 20) {
        watch.push(Samples::new(SampleWidth::W16, block)).expect("samples");
    }
    watch.finish()
}

/// The seconds that the script takes for the computation alone, and the extremes it finds.
fn run_script(data: &[u8]) -> Result<(f64, Vec<f64>), String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let python: PathBuf = root.join("target/numpy/bin/python");
    if !python.exists() {
        return Err(format!("{} is not there", python.display()));
    }
    let raw = root.join("target/figures.raw");
    std::fs::write(&raw, data).map_err(|e| e.to_string())?;
    let script = root.join("benches/figures/setup_hold.py");
    let output = Command::new(python).arg(script).arg(&raw).output().map_err(|e| e.to_string())?;
    let _ = std::fs::remove_file(raw);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let numbers: Vec<f64> = said.split_whitespace().filter_map(|n| n.parse().ok()).collect();
    match numbers[..] {
        [seconds, setup, hold] => Ok((seconds, vec![setup, hold])),
        _ => Err(String::from_utf8_lossy(&output.stderr).into_owned()),
    }
}
