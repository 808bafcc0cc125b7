//! A capture is a setup: recorded with again, included, laid over other records, written out; and nothing that it
//! says reaches beyond it.

use std::path::Path;

use deep_tap::capture::{Attachment, Capture};
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::format::{Folder, write_setup};
use deep_tap::job::Job;
use deep_tap::setup::{Attached, Setup, Texts};
use deep_tap::time::TimeBase;

use crate::support::root;

const PART: &str = r#"
part = "EX-ADC24 (made up)"
source = "data sheet EX-24, made up"
[pins]
CLK = "clock"
[[limit]]
symbol = "tCH"
what = "clock high time"
kind = "width"
pulse = "CLK high"
min = "35 ns"
"#;

const BOARD: &str = r#"
[[line]]
name = "SCLK"
input = 0
[[part]]
limits = "../parts/adc.toml"
reference = "U3"
pins = { CLK = "SCLK" }
"#;

const FIRST: &str = r#"
title = "first"
include = ["board.toml"]
[instrument]
connect = "bench:tide-gauge"
[sampling]
rate = "10 MS/s"
length = "1 ms"
"#;

/// Saves a capture that carries these texts.
fn carrying(path: &Path, texts: &[(&str, &str)]) {
    let texts = texts.iter().map(|(name, text)| Attachment { name: (*name).into(), text: (*text).into() });
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
    let capture = Capture::builder(base, 0).attachments(texts.collect()).build().unwrap();
    dtap::save(&capture, path, SaveOptions { replace: true }).unwrap();
}

/// A folder with `records/old.dtap`, whose setup was `setups/first.toml`.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for name in ["setups", "parts", "records", "new"] {
        std::fs::create_dir(folder.path().join(name)).unwrap();
    }
    for (name, text) in [("setups/first.toml", FIRST), ("setups/board.toml", BOARD), ("parts/adc.toml", PART)]
    {
        std::fs::write(folder.path().join(name), text).unwrap();
    }
    let setup = Setup::from_file(&folder.path().join("setups/first.toml")).unwrap();
    let texts: Vec<(&str, &str)> = setup.texts.iter().map(|t| (t.name.as_str(), t.text.as_str())).collect();
    carrying(&folder.path().join("records/old.dtap"), &texts);
    folder
}

#[test]
fn a_capture_is_the_setup_that_it_was_recorded_with() {
    let folder = folder();
    let old = folder.path().join("records/old.dtap");
    let own = Setup::from_file(&folder.path().join("setups/first.toml")).unwrap();
    let carried = Setup::from_file(&old).unwrap();
    assert_eq!(carried.texts, own.texts);
    assert_eq!(carried.limits().count(), 1);
    // Over another record.
    let dump = folder.path().join("a.vcd");
    std::fs::write(
        &dump,
        "$timescale 1 ns $end $var wire 1 ! SCLK $end $enddefinitions $end #0 0! #9 1! #99 0!",
    )
    .unwrap();
    let job = Job::open(&dump, Some(&old)).unwrap();
    assert_eq!(job.setup.unwrap().title.as_deref(), Some("first"));
    assert_eq!(job.capture.lines().len(), 1);
}

#[test]
fn an_included_capture_goes_on_into_the_next_one() {
    let folder = folder();
    let next = folder.path().join("new/next.toml");
    std::fs::write(
        &next,
        "title = \"next\"\ninclude = [\"../records/old.dtap\"]\n[sampling]\nlength = \"2 ms\"\n",
    )
    .unwrap();
    let setup = Setup::from_file(&next).unwrap();
    assert_eq!((setup.title.as_deref(), setup.lines.len(), setup.limits().count()), (Some("next"), 1, 1));
    let names: Vec<&str> = setup.texts.iter().map(|text| text.name.as_str()).collect();
    let inside =
        ["first.toml", "board.toml", "../parts/adc.toml"].map(|name| format!("../records/old.dtap/{name}"));
    assert_eq!(names[0], "next.toml");
    assert_eq!(names[1..], inside);
    // What was recorded with it has no need of the old one.
    let texts: Vec<(&str, &str)> = setup.texts.iter().map(|t| (t.name.as_str(), t.text.as_str())).collect();
    let kept = folder.path().join("new/kept.dtap");
    carrying(&kept, &texts);
    std::fs::remove_file(folder.path().join("records/old.dtap")).unwrap();
    assert_eq!(Setup::from_file(&kept).unwrap().texts, setup.texts);
    // And can be included in turn.
    std::fs::write(&next, "include = [\"kept.dtap\"]\n").unwrap();
    let again = Setup::from_file(&next).unwrap();
    assert_eq!((again.limits().count(), again.texts.len()), (1, 5));
    // Written out, the files find each other, whatever they included.
    let capture = dtap::open(&kept).unwrap().capture;
    let out = folder.path().join("out");
    let written = write_setup(&capture, &out, SaveOptions::default()).unwrap();
    let rewritten = Setup::from_file(&written.files[0]).unwrap();
    assert_eq!(rewritten.texts, setup.texts);
    let refused = write_setup(&capture, &out, SaveOptions::default()).unwrap_err();
    assert!(refused.message().contains("there already"), "{refused:?}");
}

#[test]
fn a_setup_is_written_out_byte_by_byte() {
    let folder = folder();
    let capture = dtap::open(&folder.path().join("records/old.dtap")).unwrap().capture;
    let out = folder.path().join("out");
    write_setup(&capture, &out, SaveOptions::default()).unwrap();
    for (there, text) in [("setup/first.toml", FIRST), ("setup/board.toml", BOARD), ("parts/adc.toml", PART)]
    {
        assert_eq!(std::fs::read_to_string(out.join(there)).unwrap(), text);
    }
}

#[test]
fn nothing_that_a_capture_says_reaches_beyond_it() {
    let folder = folder();
    let secret = folder.path().join("parts/adc.toml");
    let absolute = secret.display().to_string();
    for mention in
        ["../parts/adc.toml", absolute.as_str(), "../../parts/adc.toml", "x.dtap/../../parts/adc.toml"]
    {
        let hostile = format!("include = [\"{mention}\"]\n[[line]]\nname = \"A\"\n");
        carrying(&folder.path().join("records/hostile.dtap"), &[("s.toml", &hostile)]);
        std::fs::write(folder.path().join("new/n.toml"), "include = [\"../records/hostile.dtap\"]\n")
            .unwrap();
        for path in ["records/hostile.dtap", "new/n.toml"] {
            let error = Setup::from_file(&folder.path().join(path)).unwrap_err();
            assert!(error.message().contains("does not carry"), "{mention}: {error:?}");
        }
    }
    // Names that would be written elsewhere.
    for name in ["../../../evil", "a/../../../evil", "/../evil", "a\\b", ""] {
        carrying(&folder.path().join("h.dtap"), &[("s.toml", ""), (name, "x")]);
        let capture = dtap::open(&folder.path().join("h.dtap")).unwrap().capture;
        let out = folder.path().join("deep/er/out");
        match write_setup(&capture, &out, SaveOptions::default()) {
            Ok(written) => assert!(written.files.iter().all(|file| file.starts_with(&out)), "{written:?}"),
            Err(error) => assert!(error.message().contains("calls a text"), "{error:?}"),
        }
        let _ = std::fs::remove_dir_all(folder.path().join("deep"));
        assert!(
            !folder.path().join("evil").exists() && !folder.path().parent().unwrap().join("evil").exists()
        );
    }
    // Itself, and a capture that is none.
    carrying(
        &folder.path().join("own.dtap"),
        &[("s.toml", "include = [\"s.toml\"]"), ("own.dtap/s.toml", "")],
    );
    assert!(
        Setup::from_file(&folder.path().join("own.dtap")).unwrap_err().message().contains("includes itself")
    );
    std::fs::write(folder.path().join("new/none.dtap"), "no capture").unwrap();
    std::fs::write(folder.path().join("new/n.toml"), "include = [\"none.dtap\", \"gone.dtap\"]\n").unwrap();
    let error = Setup::from_file(&folder.path().join("new/n.toml")).unwrap_err();
    assert_eq!(error.related().len(), 1, "{error:?}");
    assert!(error.message().contains("none.dtap: this file is too short to be a capture"), "{error:?}");
}

#[test]
fn texts_of_a_capture_and_of_a_folder_are_found_by_the_same_names() {
    let folder = Folder::new(root().join("setups"));
    assert!(folder.setup_in("nothing.dtap").is_err());
    let texts = [Attachment { name: "a.dtap/b.dtap/s.toml".into(), text: "title = \"t\"".into() }];
    assert_eq!(Attached(&texts).setup_in("a.dtap").unwrap(), "a.dtap/b.dtap/s.toml");
    assert!(Attached(&texts).setup_in("b.dtap").is_err());
}
