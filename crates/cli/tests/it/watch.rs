use std::path::Path;

use serde_json::Value;

use crate::support::{shipped, tool};

fn said(output: &assert_cmd::assert::Assert) -> String {
    String::from_utf8(output.get_output().stdout.clone()).unwrap()
}

fn results(folder: &Path, file: &str) -> Vec<Value> {
    let text = std::fs::read_to_string(folder.join(file)).unwrap();
    let document: Value = serde_json::from_str(&text).unwrap();
    document["captures"][0]["results"].as_array().unwrap().clone()
}

/// The setup with some text of it replaced.
fn changed(folder: &Path, name: &str, from: &str, to: &str) {
    let text = std::fs::read_to_string(folder.join("setups/tide-gauge.toml")).unwrap();
    assert!(text.contains(from));
    std::fs::write(folder.join("setups").join(name), text.replace(from, to)).unwrap();
}

/// What is watched is what is checked of the same stretch recorded; what is kept opens like any other capture and
/// shows its violation at the same instant.
#[test]
fn what_is_watched_is_what_is_recorded() {
    let folder = shipped();
    let run = |args: &[&str], code: i32| said(&tool().current_dir(&folder).args(args).assert().code(code));
    changed(folder.path(), "long.toml", "length = \"25 ms\"", "length = \"60 ms\"");
    run(&["capture", "setups/long.toml", "--now"], 0);
    run(&["check", "long.dtap", "--format", "json", "-o", "checked.json"], 1);
    let watch =
        ["watch", "setups/tide-gauge.toml", "--for", "60 ms", "--into", "kept", "--junit", "junit.xml"];
    let told = run(&[&watch[..], &["--format", "json", "-o", "watched.json"]].concat(), 1);
    assert_eq!(told, "");
    let (mut watched, mut checked) =
        (results(folder.path(), "watched.json"), results(folder.path(), "checked.json"));
    // A stream has other rates to try.
    watched.iter_mut().chain(&mut checked).for_each(|result| result["advice"] = Value::Null);
    assert_eq!(watched, checked);
    let junit = std::fs::read_to_string(folder.path().join("junit.xml")).unwrap();
    assert!(junit.contains("failures=") && junit.contains("violated"), "{junit}");

    let worst = checked.iter().find(|result| result["symbol"] == "tCONV").unwrap();
    let kept = "kept/tide-gauge-U3.tCONV-0001.dtap";
    run(&["check", kept, "--only", "tCONV", "--format", "json", "-o", "kept.json"], 1);
    let shown = &results(folder.path(), "kept.json")[0];
    assert_eq!(shown["at_s"], worst["at_s"]);
    assert_eq!(shown["measured"], worst["measured"]);
    let info = run(&["info", kept], 0);
    assert!(info.contains("violation") && info.contains("U3.tCONV"), "{info}");
}

/// Without a terminal, a line for each violation and the table at the end.
#[test]
fn a_violation_is_a_line() {
    let folder = shipped();
    let watch = ["watch", "setups/tide-gauge.toml", "--only", "U3,U1", "--for", "40 ms", "--keep", "0"];
    let told = said(&tool().current_dir(&folder).args(watch).assert().code(1));
    let lines: Vec<&str> = told.lines().take_while(|line| line.starts_with('+')).collect();
    let of = |name: &str| lines.iter().filter(|line| line.contains(name)).count();
    assert!(of("U1.tRD") == 1 && of("U3.tCONV") == 1 && of("U3.tCO ") >= 2, "{told}");
    assert!(lines[0].contains("required ≥ 2 ms, margin -1.1"), "{told}");
    let (_, table) = told.split_once("violated").unwrap();
    assert!(table.contains(&format!("FAIL ({} of", of("U3.tCO "))), "{told}");
    assert!(!told.contains("U5.") && std::fs::read_dir(&folder).unwrap().count() == 2, "{told}");

    let some = [&watch[..], &["--until-violations", "1"]].concat();
    let told = said(&tool().current_dir(&folder).args(some).assert().code(1));
    assert!(told.lines().take_while(|line| line.starts_with('+')).count() < lines.len(), "{told}");
}

/// Nothing is judged across a gap, and watching goes on behind it.
#[test]
fn a_gap_is_told() {
    let folder = shipped();
    let drops = "bench:tide-gauge?faults=none,link-drops:2M";
    changed(folder.path(), "drops.toml", "bench:tide-gauge", drops);
    let watch = ["watch", "setups/drops.toml", "--for", "50 ms", "--keep", "0", "--only", "U3.tCYC"];
    let run = tool().current_dir(&folder).args(watch).assert().code(0);
    let (told, remarks) = (said(&run), String::from_utf8(run.get_output().stderr.clone()).unwrap());
    assert!(told.starts_with("1 passed          over 3 parts between gaps"), "{told}");
    assert_eq!(remarks.matches("a gap after 20").count(), 2, "{remarks}");
}

#[test]
fn what_cannot_be_watched_is_refused_by_name() {
    let folder = shipped();
    let refused = |setup: &str, args: &[&str], why: &[&str]| {
        let run = tool().current_dir(&folder).args(["watch", setup]).args(args).assert().code(2);
        let told = String::from_utf8(run.get_output().stderr.clone()).unwrap();
        let told = told.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(why.iter().all(|why| told.contains(why)), "{told}");
    };
    let setup = "setups/tide-gauge.toml";
    refused("setups/nothing.toml", &[], &["cannot read", "check the path"]);
    refused(setup, &["--for", "10"], &["--for: '10' has no unit"]);
    refused(setup, &["--around", "0 ms"], &["--around: give a time above zero"]);
    refused(setup, &["--only", "U9"], &["no limit, part or group 'U9'", "U5.tWP"]);
    changed(folder.path(), "small.toml", "bench:tide-gauge", "bench:tide-gauge?instrument=EX-B16");
    let lines = ["--lines", "PGOOD,RESET_N"];
    refused("setups/small.toml", &lines, &["does not stream 2 lines", "record and check again and again"]);
}
