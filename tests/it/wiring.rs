//! What the activity of the lines says about the leads: planted faults are told, and the healthy
//! board has none.

use std::ops::ControlFlow;
use std::path::Path;

use deep_tap::bench::connect;
use deep_tap::capture::Capture;
use deep_tap::measure::Activity;
use deep_tap::scan::Samples;
use deep_tap::setup::{CaptureSink, Misfit, RecordOptions, RunChanges, Setup};

use crate::support::root;

struct Watch(Activity);

impl CaptureSink for Watch {
    fn begin(&mut self, _: Capture) -> deep_tap::Result<()> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> deep_tap::Result<()> {
        self.0.push(samples);
        Ok(())
    }
}

/// How many pins off, and the lines that do not fit, on the demo board with these faults.
fn seen(faults: &str, seed: u64, rate: &str) -> (Option<i64>, Vec<(String, Misfit)>) {
    let setup = Setup::from_file(&root().join("setups/tide-gauge.toml")).unwrap();
    let address = format!("bench:tide-gauge?faults={faults}&seed={seed}");
    let mut instrument = connect(&address, Path::new("")).unwrap();
    let mut watch = Watch(Activity::new(setup.lines.len()).beside(&setup.neighbours()));
    let setup = setup.changed(&RunChanges::default().rate(rate)).unwrap();
    let rate = rate.parse().unwrap();
    let options = RecordOptions { now: true, ..Default::default() };
    let sink: &mut dyn CaptureSink = &mut watch;
    setup.record_into(&mut *instrument, options, sink, &mut |_| ControlFlow::Continue(())).unwrap();
    let misfits = setup.misfits(&watch.0, rate, false);
    let named = setup.lines.iter().zip(misfits).filter_map(|(l, m)| Some((l.line.name.clone(), m?)));
    (setup.shift(&watch.0, rate), named.collect())
}

#[test]
fn a_connector_beside_its_place_is_told_and_one_in_its_place_is_not() {
    for seed in 1..6 {
        for rate in ["20 MS/s", "100 MS/s"] {
            for faults in ["none", "all", "swapped:14:15"] {
                assert_eq!(seen(faults, seed, rate), (None, vec![]), "{faults} at {rate}");
            }
            for pins in 1..=3 {
                let (shift, misfits) = seen(&format!("shifted:{pins}"), seed, rate);
                assert_eq!(shift, Some(pins), "{misfits:?}");
            }
        }
    }
}

#[test]
fn a_lead_that_is_off_is_suspected() {
    for (input, name) in [(12, "A2"), (14, "D0"), (17, "D3"), (21, "D7")] {
        let (shift, misfits) = seen(&format!("lead-off:{input}"), 2, "100 MS/s");
        assert_eq!((shift, misfits), (None, vec![(name.to_string(), Misfit::Echoes)]));
    }
    let (_, misfits) = seen("stuck:ADC_SCLK:low", 2, "100 MS/s");
    assert_eq!(misfits, [("ADC_SCLK".to_string(), Misfit::Silent)]);
    let (_, misfits) = seen("no-ground", 2, "100 MS/s");
    assert!(misfits.contains(&("ADC_SCLK".to_string(), Misfit::TooFast)), "{misfits:?}");
}
