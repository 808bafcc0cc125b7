//! Capture files: written while recording, and opened.

use std::path::Path;

use deep_tap::format::dtap::{self, Recorder, SaveOptions};
use deep_tap::scan::{SampleWidth, Samples};
use deep_tap::setup::CaptureSink;
use deep_tap::time::Tick;

use crate::data::random;
use crate::figure::{Case, Figures, on_cores, shortest};
use crate::stored::capture;

pub(crate) fn measure(samples: usize, figures: &mut Figures) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("target/figures.dtap");
    for (between, activity) in [(10_000, "a change per 10 000 samples"), (32, "a change per 32 samples")] {
        let data = random(samples, Some(between));
        let packed = Samples::new(SampleWidth::W16, &data);
        for cores in [1, 2] {
            let seconds = on_cores(cores, || shortest(2, || record(&path, packed)));
            let case = Case { samples, activity: activity.to_string(), cores };
            figures.plain("samples into a file", &case, (samples as f64 / seconds / 1e9, "GS/s"));
        }
        let case = Case { samples, activity: activity.to_string(), cores: 1 };
        let bytes = std::fs::metadata(&path).map_or(f64::NAN, |m| m.len() as f64);
        let opened = dtap::open(&path).expect("the file that was just written").capture;
        figures.plain("file size per transition", &case, (bytes / opened.edge_count() as f64, "B"));
        let open = shortest(3, || {
            dtap::open(&path).map(|o| o.capture.trace(deep_tap::line::LineId(3)).level_at(Tick(9)))
        });
        figures.below("opening a file, and one level", &case, (open * 1e3, "ms"), ("10 ms", 10.0));
    }
    let _ = std::fs::remove_file(path);
}

/// In blocks as an instrument sends them.
fn record(path: &Path, samples: Samples<'_>) {
    let description = || capture(&[]);
    let mut file = Recorder::new(path, SaveOptions { replace: true });
    file.begin(description()).expect("the folder can be written");
    for start in (0..samples.len()).step_by(1 << 16) {
        file.push(samples.slice(start..start + (1 << 16))).expect("there is room");
    }
    file.finish(&description()).expect("there is room");
}
