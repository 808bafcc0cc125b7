//! What a bus carried.

use std::collections::BTreeMap;

use deep_tap::bus::Frame;
use deep_tap::decode::{FrameStatistics, SerialBus};
use deep_tap::diagnose::measured_bit_rate;
use deep_tap::job::Job;
use deep_tap::quantity::signed;
use deep_tap::time::Tick;

use crate::words::counted;

/// Rows of each list.
const MOST: usize = 60;

/// What a bus carried, and what was wrong with it.
pub(super) struct Talk {
    pub(super) id: String,
    pub(super) name: String,
    pub(super) kind: String,
    pub(super) lines: String,
    /// In a sentence.
    pub(super) summary: String,
    /// What the rows are: frames or transfers.
    pub(super) of: &'static str,
    pub(super) rows: Vec<Said>,
    pub(super) more: bool,
    pub(super) faults: Vec<Said>,
    pub(super) more_faults: u64,
}

/// A frame, or what is wrong with one.
pub(super) struct Said {
    pub(super) at: String,
    pub(super) what: String,
    pub(super) faulty: bool,
}

impl Talk {
    pub(super) fn of(job: &Job, bus: &SerialBus, id: String) -> Talk {
        let capture = &job.capture;
        let lines = bus.lines().iter().filter_map(|line| capture.lines().get(line.0));
        let lines: Vec<&str> = lines.map(|line| line.name.as_str()).collect();
        let mut talk = Talk {
            id,
            name: bus.name().to_string(),
            kind: bus.protocol().name().to_string(),
            lines: lines.join(", "),
            summary: String::new(),
            of: "frames",
            rows: Vec::new(),
            more: false,
            faults: Vec::new(),
            more_faults: 0,
        };
        if let Err(error) = talk.read(job, bus) {
            talk.summary = format!("cannot be read: {error}");
        }
        talk
    }

    fn read(&mut self, job: &Job, bus: &SerialBus) -> Result<(), deep_tap::Error> {
        let (capture, base) = (&job.capture, job.capture.base());
        let at = |tick: Tick| signed(base.time_of(tick).into(), base.tick().into());
        let said = |frame: &Frame| {
            let sure = if frame.certain { "" } else { "? " };
            let faulty = !frame.faults.is_empty();
            Said { at: at(frame.start), what: format!("{sure}{}", bus.names().show(frame)), faulty }
        };
        let mut seen = FrameStatistics::default();
        let mut last = Tick(0);
        for found in job.frames(&[bus], Tick(0)..capture.end())? {
            let frame = found.frame;
            seen.add(&frame);
            if self.rows.len() < MOST {
                self.rows.push(said(&frame));
                last = frame.end;
            }
            for fault in &frame.faults {
                match self.faults.len() < MOST {
                    true => {
                        let what = format!("{}: {}", fault.kind, fault.what);
                        self.faults.push(Said { at: at(fault.at), what, faulty: true });
                    }
                    false => self.more_faults += 1,
                }
            }
        }
        self.more = seen.frames > MOST as u64;
        self.summary = summary(job, bus, &seen);
        // What belongs together says more than its parts, where it has several.
        let transfers = job.transfers(&[bus], Tick(0)..capture.end());
        let Ok(mut transfers) = transfers else { return Ok(()) };
        let first: Vec<Frame> = transfers.by_ref().take(MOST).map(|found| found.frame).collect();
        let same_time = first.iter().filter(|transfer| transfer.start < last).count();
        if !first.is_empty() && same_time < self.rows.len() {
            self.of = "transfers";
            self.rows = first.iter().map(said).collect();
            self.more = transfers.next().is_some();
        }
        Ok(())
    }
}

fn summary(job: &Job, bus: &SerialBus, seen: &FrameStatistics) -> String {
    let mut said = counted(seen.frames, "frame");
    if seen.frames > 0 {
        said.push_str(&format!(" ({})", counts(&seen.kinds)));
    }
    if seen.data_bits >= 8 {
        said.push_str(&format!(", {} bytes of data", seen.data_bits / 8));
    }
    if let Some(rate) = measured_bit_rate(&job.capture, bus) {
        said.push_str(&format!(", bit rate {rate}"));
    }
    said.push_str(&match seen.faulty {
        0 => ", none with a fault".to_string(),
        faulty => format!(", {faulty} with a fault ({})", counts(&seen.faults)),
    });
    said
}

fn counts(of: &BTreeMap<&'static str, u64>) -> String {
    let counts: Vec<String> = of.iter().map(|(kind, count)| format!("{count} {kind}")).collect();
    counts.join(", ")
}
