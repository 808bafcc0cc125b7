//! `compare` as its users run it.

use serde_json::Value;
use tempfile::TempDir;

use crate::support::{captured, root, tool};

/// The demo board at rest and under load.
fn both() -> TempDir {
    let folder = captured();
    let setup = "setups/at-rest.toml";
    std::fs::copy(root().join(setup), folder.path().join(setup)).unwrap();
    tool().current_dir(&folder).args(["capture", setup]).assert().success();
    folder
}

#[test]
fn the_exit_code_says_whether_anything_differs() {
    let folder = both();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).arg("compare").args(args).output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
    };
    let (code, same, told) = run(&["at-rest.dtap", "at-rest.dtap"]);
    assert!(code == 0 && same.starts_with("nothing differs, of "), "{same}{told}");
    let (code, text, _) = run(&["at-rest.dtap", "tide-gauge.dtap"]);
    assert!(code == 1 && text.contains("least lower by 1.3 ms or more"), "{text}");
    let (_, json, _) = run(&["at-rest.dtap", "tide-gauge.dtap", "--format", "json"]);
    let json: Value = serde_json::from_str(&json).unwrap();
    let count = json["differences"].as_u64().unwrap();
    assert!(
        text.starts_with(&format!("{count} differences          A: at-rest.dtap, B: tide-gauge.dtap")),
        "{text}"
    );
    // Each thing that differs is a failed test case, and nothing else is.
    let (code, ..) = run(&["at-rest.dtap", "tide-gauge.dtap", "--junit", "j.xml"]);
    let cases = std::fs::read_to_string(folder.path().join("j.xml")).unwrap();
    let differing = json["items"].as_array().unwrap().iter().filter(|item| item["differs"] == true).count();
    assert_eq!((code, cases.matches("<failure").count()), (1, differing));
    // What is left out makes no difference any more.
    let ignored = ["at-rest.dtap", "tide-gauge.dtap", "--ignore", "U1,U3,U5,adc,MEM_WE_N"];
    assert_eq!(run(&ignored).0, 0);
    let between = [&ignored[..], &["--between", "PGOOD rises", "RESET_N rises"]].concat();
    let (code, text, _) = run(&between);
    assert!(code == 1 && text.contains("PGOOD rises to RESET_N rises"), "{text}");
    assert_eq!(run(&[&between[..], &["--tolerance", "2 ms"]].concat()).0, 0);
    // Seen from another event, it is the same difference.
    let (_, text, _) = run(&["at-rest.dtap", "tide-gauge.dtap", "--zero", "PGOOD rises"]);
    assert!(text.contains("from 'PGOOD rises'"), "{text}");
}

#[test]
fn what_cannot_be_compared_is_told_with_a_remedy() {
    let folder = both();
    let two = ["at-rest.dtap", "tide-gauge.dtap"];
    for (more, told) in [
        (&["--zero", "PGOOD"][..], "is a line, not an event"),
        (&["--zero", "MEM_OE_N falls"], "the first record: 'MEM_OE_N falls' never happens"),
        (&["--tolerance", "5"], "has no unit"),
        (&["--tolerance", "-5 ns"], "is below zero"),
        (&["--ignore", "ADC_CLK"], "did you mean 'ADC_SCLK'"),
        (&["--between", "PGOOD rises", "NOPE rises"], "nothing is called 'NOPE'"),
        (&["--setup", "nope.toml"], "no such file"),
    ] {
        let output = tool().current_dir(&folder).arg("compare").args(two).args(more).output().unwrap();
        let said = String::from_utf8(output.stderr).unwrap();
        assert!(
            output.status.code() == Some(2) && said.contains(told) && said.contains("help:"),
            "{more:?}: {said}"
        );
    }
}
