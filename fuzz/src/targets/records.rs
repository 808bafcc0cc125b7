//! Records of every format.

use std::path::{Path, PathBuf};

use deep_tap::capture::Capture;
use deep_tap::compare::{CompareOptions, compare};
use deep_tap::format::{Source, csv, dtap, read, vcd, write_setup};
use deep_tap::instrument::Capabilities;
use deep_tap::job::Job;
use deep_tap::line::{AnalogId, LineId};
use deep_tap::setup::{Import, Setup};
use deep_tap::time::Tick;

use super::Target;

/// Any record, recognised by its content.
pub(super) const RECORD: Target = Target {
    name: "record",
    run: |bytes| imported(bytes, "record", &[&[], &["rate=1 MS/s"]]),
    seeds: &["tests/fixtures/simulators", "tests/fixtures/tables"],
    texts: &[],
    slow: 1,
};

/// A value change dump.
pub(super) const DUMP: Target = Target {
    name: "dump",
    run: |bytes| imported(bytes, "x.vcd", &[&["format=vcd"], &["format=vcd", "rate=1 GS/s", "partial=true"]]),
    seeds: &["tests/fixtures/simulators", "tests/fixtures/sync-mem"],
    texts: &[
        "$timescale 1 ns $end $var wire 1 ! a $end $var wire 4 \" q [3:0] $end $var real 64 # v $end $enddefinitions \
         $end #0 $dumpvars 0! bz \" r0 # $end #5 1! b10xz \" r1.25e-3 # #9 $dumpoff x! $end #20 $dumpon 1! $end #30",
    ],
    slow: 1,
};

/// A table.
pub(super) const TABLE: Target = Target {
    name: "table",
    run: |bytes| {
        imported(
            bytes,
            "x.csv",
            &[
                &["format=csv"],
                &["format=csv", "exact=true", "rows=changes", "threshold=1 V"],
                &["format=csv", "rate=1 MS/s", "rows=samples", "decimal=,"],
            ],
        );
    },
    seeds: &["tests/fixtures/tables"],
    texts: &["time (us),rail (V),en\n0,0,0\n10,1.2,\n13,3.3,1\n40,x,\n55,,0\n60,3.25,0\n"],
    slow: 1,
};

/// An array, or an archive of arrays.
pub(super) const ARRAY: Target = Target {
    name: "array",
    run: |bytes| imported(bytes, "x.npy", &[&["rate=1 MS/s", "format=npy"], &["rate=3 S/s", "array=a"]]),
    seeds: &["tests/fixtures/tables"],
    texts: &[],
    slow: 1,
};

/// Packed samples.
pub(super) const PACKED: Target = Target {
    name: "packed",
    run: |bytes| {
        let stated = ["format=packed", "rate=1 MS/s"];
        for width in ["width=1", "width=4"] {
            imported(bytes, "x.bin", &[&[stated[0], stated[1], width, "skip=3", "byte-order=big"]]);
        }
    },
    seeds: &["tests/fixtures/simulators"],
    texts: &[],
    slow: 1,
};

/// A capture file.
pub(super) const CAPTURE: Target = Target {
    name: "capture",
    run: |bytes| {
        let Ok(folder) = tempfile::tempdir() else { return };
        let path = folder.path().join("x.dtap");
        if std::fs::write(&path, bytes).is_ok()
            && let Ok(opened) = dtap::open(&path)
        {
            used(&opened.capture);
            compared(&path);
            // It is a setup, too, and what it carries is written out.
            let included = folder.path().join("s.toml");
            if std::fs::write(&included, "include = [\"x.dtap\"]\n").is_ok()
                && let Ok(setup) = Setup::from_file(&included)
            {
                let _ = setup.leads(&Capabilities::nothing());
            }
            let options = dtap::SaveOptions { replace: false };
            if let Ok(written) = write_setup(&opened.capture, &folder.path().join("out"), options) {
                let inside = |file: &PathBuf| file.starts_with(folder.path().join("out"));
                assert!(written.files.iter().all(inside), "{written:?}");
            }
            let notes = opened.capture.notes().to_vec();
            let marked = opened.capture.into_builder().notes(notes).build();
            let _ = marked.and_then(|capture| capture.excerpt(Tick(3)..Tick(1000)));
        }
    },
    seeds: &["tests/fixtures/captures"],
    texts: &[],
    slow: 4,
};

fn imported(bytes: &[u8], name: &str, stated: &[&[&str]]) {
    for words in stated {
        let words: Vec<&str> = words.to_vec();
        let Ok(import) = Import::of_words(&words) else { continue };
        let record = read(&Source::of_bytes(bytes.to_vec(), name), &import, &mut |_, _| ());
        if let Ok(capture) = record.and_then(|record| import.apply(record)) {
            used(&capture);
        }
    }
}

/// Nothing differs between a record and itself, whatever its setup asks.
fn compared(path: &Path) {
    let Ok(job) = Job::open(path, None) else { return };
    if job.capture.edge_count() > 10_000 || job.capture.lines().len() > 100 {
        return;
    }
    if let Ok(found) = compare(&job, &job, &CompareOptions::default()) {
        assert_eq!(found.differences(), 0, "{found:?}");
    }
}

/// What every command does with a record.
fn used(capture: &Capture) {
    for (number, trace) in capture.traces().into_iter().enumerate().take(64) {
        let end = Tick(capture.len());
        let _ = (trace.level_at(end), trace.count(Tick(0)..end), capture.narrowest(LineId(number)));
        trace.edges(capture.range()).take(10_000).for_each(drop);
    }
    for line in (0..capture.analog_lines().len()).map(AnalogId).take(16) {
        let trace = capture.analog(line);
        let _ = (trace.extremes(capture.range()), trace.voltage_at(Tick(capture.len() / 2)));
    }
    let _ = (capture.edge_count(), capture.damage());
    // What is huge takes its time to write, and shows nothing more.
    if capture.edge_count() < 10_000 && capture.lines().len() < 1000 {
        let mut text = Vec::new();
        let _ = vcd::write(capture, &mut text);
        let _ = csv::write(capture, csv::Layout::Changes, &mut text);
    }
}
