//! The tool as its users run it: each command on the demo data, its outputs and exit codes.

use assert_cmd::Command;
use tempfile::TempDir;

use crate::support::{captured, root, shipped, tool};

fn stdout(command: &mut Command) -> String {
    String::from_utf8(command.output().unwrap().stdout).unwrap()
}

#[test]
fn the_demo_tells_its_turns_in_three_screens() {
    let folder = TempDir::new().unwrap();
    let run = tool().current_dir(&folder).env("COLUMNS", "80").arg("demo").assert().success();
    let said = String::from_utf8(run.get_output().stdout.clone()).unwrap();
    assert!(said.lines().count() <= 3 * 24, "{said}");
    // Paths and commands are as long as they are.
    let wide = |line: &&str| line.chars().count() > 80 && !line.contains("deep-tap");
    assert_eq!(said.lines().find(wide), None);
    let (open, decided) = said.split_once("worth trying").unwrap();
    assert!(open.contains("U5.tDH    ≥ 18 ns") && !open.contains("FAIL (1 of 1095)"), "{said}");
    assert!(decided.contains("FAIL (1 of 1095)"), "{said}");
    let last: Vec<&str> = said.lines().rev().filter(|line| !line.is_empty()).take(3).collect();
    assert!(
        last[0].starts_with("next: deep-tap demo") && last[1].starts_with("next: deep-tap view"),
        "{last:?}"
    );
    assert!(last[2].ends_with("deep-tap-demo/tide-gauge.html"), "{last:?}");
    assert!(folder.path().join("deep-tap-demo/tide-gauge.html").exists());
    // What it says next works.
    let next = "demo deep-tap-demo --full --replace";
    tool().current_dir(&folder).args(next.split(' ')).assert().success();
}

#[test]
fn the_demo_tells_the_whole_story_and_leaves_its_files() {
    let folder = TempDir::new().unwrap();
    let demo = folder.path().join("demo");
    let run = tool().arg("demo").arg(&demo).arg("--full").assert().success();
    let said = String::from_utf8(run.get_output().stdout.clone()).unwrap();
    for step in [
        "1. Wire up",
        "2. Record",
        "3. Check",
        "4. Look at a violation",
        "5. Decide",
        "6. What the record could not",
        "7. Look at the voltage",
        "8. Listen",
        "9. Compare",
        "10. Tell which line",
        "11. Hand over",
    ] {
        assert!(said.contains(step), "{step} is missing:\n{said}");
    }
    assert!(said.contains("4 violated, 4 inconclusive, 5 passed, 1 not seen"), "{said}");
    assert!(said.contains("FAIL (1 of 1095)"), "the hold time is decided at the named rate:\n{said}");
    assert!(!said.lines().any(|l| l.ends_with(' ')), "no trailing blanks");
    for file in [
        "setups/tide-gauge.toml",
        "parts/ex-mem8.toml",
        "tide-gauge.dtap",
        "tide-gauge-faster.dtap",
        "power-rail.dtap",
        "buses.dtap",
        "at-rest.dtap",
        "unnamed.dtap",
        "tide-gauge.html",
        "late.png",
        "conversion.png",
        "verdicts.txt",
    ] {
        assert!(demo.join(file).exists(), "{file}");
    }
    let json: serde_json::Value =
        serde_json::from_slice(&std::fs::read(demo.join("verdicts.json")).unwrap()).unwrap();
    assert_eq!(json["verdict"], "fail");
    assert_eq!(json["captures"][0]["results"].as_array().unwrap().len(), 14);
    // Each command in the story works by itself.
    let commands: Vec<&str> = said.lines().filter_map(|l| l.trim().strip_prefix("$ deep-tap ")).collect();
    assert!(commands.len() >= 5);
    for command in commands {
        let words: Vec<String> = command.split(' ').map(|w| w.replace('\'', "")).collect();
        // A quoted rate was split into two words.
        let words = words.join(" ").replace("500 MS/s", "500MS/s");
        let mut tool = tool();
        tool.args(words.split(' '));
        if words.contains("--output") || words.contains("--picture") {
            tool.arg("--replace");
        }
        let code = tool.output().unwrap().status.code();
        assert!(matches!(code, Some(0 | 1)), "{command}: {code:?}");
    }
    // A second demo does not overwrite the first unless it is told to.
    tool().arg("demo").arg(&demo).assert().code(2);
    tool().arg("demo").arg(&demo).arg("--replace").assert().success();
}

#[test]
fn check_answers_first_and_exits_by_verdict() {
    let folder = captured();
    let check = |args: &[&str]| {
        let mut command = tool();
        command.current_dir(&folder).args(["check", "tide-gauge.dtap"]).args(args);
        let output = command.output().unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    };
    let (code, text) = check(&[]);
    assert_eq!(code, 1);
    assert!(text.starts_with(
        "4 violated, 4 inconclusive, 5 passed, 1 not seen          tide-gauge.dtap, 100 MS/s, tick 10 ns\n"
    ));
    assert!(text.contains("next: deep-tap show tide-gauge.dtap --around "), "{text}");
    assert!(text.contains("next: deep-tap capture tide-gauge.dtap --rate '500 MS/s'"), "{text}");
    assert_eq!(check(&["--only", "tCH,U3.tCYC"]).0, 0);
    assert_eq!(check(&["--only", "tDH"]).0, 3);
    assert_eq!(check(&["--only", "tOE"]).0, 3, "not seen is not a pass");
    let (code, text) = check(&["--only", "tDH", "--rule", "measured"]);
    assert_eq!(code, 1);
    assert!(text.contains("rule: the counted value is taken for the true one"), "{text}");
    let (_, json) = check(&["--format", "json"]);
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    let results = json["captures"][0]["results"].as_array().unwrap();
    let hold = results.iter().find(|r| r["symbol"] == "tDH").unwrap();
    assert_eq!((hold["verdict"].as_str(), hold["min"].as_f64()), (Some("inconclusive"), Some(18e-9)));
    assert_eq!(hold["advice"]["rate_hz"], 500e6);
    let (_, table) = check(&["--format", "csv"]);
    assert_eq!(table.lines().count(), 15);
    assert!(
        table.starts_with(
            "file,reference,part,symbol,what,kind,limit_group,unit,min,typ,max,outside,verdict,"
        )
    );
    // Into a file, which is not overwritten silently.
    assert_eq!(check(&["--format", "csv", "--output", "v.csv"]), (1, String::new()));
    assert_eq!(std::fs::read_to_string(folder.path().join("v.csv")).unwrap(), table);
    assert_eq!(check(&["--output", "v.csv"]).0, 2);
    assert_eq!(check(&["--output", "v.csv", "--replace"]).0, 1);
}

#[test]
fn every_printed_time_can_be_pasted_back() {
    let folder = captured();
    let csv = stdout(tool().current_dir(&folder).args(["check", "tide-gauge.dtap"]));
    let mut pasted = 0;
    for row in csv.lines().filter(|l| l.contains("FAIL")) {
        let words: Vec<&str> = row.split("  ").map(str::trim).filter(|w| !w.is_empty()).collect();
        let at = words.iter().find(|w| w.starts_with(['+', '-']) && w.ends_with('s')).unwrap();
        for option in ["--at", "--around"] {
            tool().current_dir(&folder).args(["show", "tide-gauge.dtap", option, at]).assert().success();
        }
        pasted += 1;
    }
    assert_eq!(pasted, 4);
    let shown = stdout(tool().current_dir(&folder).args([
        "show",
        "tide-gauge.dtap",
        "--from",
        "-1 us",
        "--to",
        "2us",
        "--width",
        "90",
    ]));
    assert!(shown.contains("-1.00 us to 2.00 us"), "{shown}");
    assert!(shown.lines().all(|l| l.chars().count() <= 90), "{shown}");
    assert!(shown.contains("▼trigger"));
}

#[test]
fn info_show_and_convert_agree_with_each_other() {
    let folder = captured();
    let run = |args: &[&str]| stdout(tool().current_dir(&folder).args(args));
    let info = run(&["info", "tide-gauge.dtap", "--verify"]);
    assert!(info.contains("every block was read and is sound"), "{info}");
    assert!(info.contains("trigger    RESET_N rises while PGOOD high"), "{info}");
    run(&["convert", "tide-gauge.dtap", "t.vcd"]);
    run(&["convert", "t.vcd", "u.dtap"]);
    run(&["convert", "tide-gauge.dtap", "t.csv"]);
    let edges = |file: &str| {
        let json: serde_json::Value =
            serde_json::from_str(&run(&["info", file, "--format", "json"])).unwrap();
        let lines = json["lines"].as_array().unwrap().clone();
        let named = lines.iter().filter(|l| !l["line"].as_str().unwrap().contains('['));
        named.map(|l| l["edges"].as_u64().unwrap()).collect::<Vec<_>>()
    };
    assert_eq!(edges("tide-gauge.dtap"), edges("t.vcd"));
    assert_eq!(edges("t.vcd"), edges("u.dtap"));
    let rows = std::fs::read_to_string(folder.path().join("t.csv")).unwrap().lines().count();
    assert!(rows > 5000 && rows < 20_000, "{rows}");
    assert_eq!(run(&["convert", "tide-gauge.dtap", "-", "--as", "csv"]).lines().count(), rows);
    let at = run(&["show", "tide-gauge.dtap", "--at", "0s", "--lines", "RESET_N,DATA"]);
    let words: Vec<&str> =
        at.lines().find(|l| l.starts_with("RESET_N")).unwrap().split_whitespace().collect();
    assert_eq!(words, ["RESET_N", "high", "0", "ns", "the", "end"]);
}

#[test]
fn a_dump_is_checked_with_a_setup_also_from_standard_input() {
    let folder = root().join("tests/fixtures/sync-mem");
    let check = |file: &str| {
        let mut command = tool();
        command.current_dir(&folder).args(["check", file, "--setup", "setup.toml"]);
        if file == "-" {
            command.pipe_stdin(folder.join("sync_mem.vcd")).unwrap();
        }
        let output = command.output().unwrap();
        (
            output.status.code(),
            String::from_utf8(output.stdout).unwrap().replace("-, exact", "sync_mem.vcd, exact"),
        )
    };
    let (code, text) = check("sync_mem.vcd");
    assert_eq!(code, Some(1));
    assert!(text.starts_with("4 violated, 1 passed"), "{text}");
    let (code, piped) = check("-");
    assert_eq!(
        (code, piped.lines().take(9).collect::<Vec<_>>()),
        (Some(1), text.lines().take(9).collect::<Vec<_>>())
    );
}

#[test]
fn help_names_the_commands_and_the_exit_codes() {
    let help = stdout(tool().arg("--help"));
    for command in [
        "demo",
        "plan",
        "live",
        "capture",
        "info",
        "find",
        "glitches",
        "check",
        "show",
        "convert",
        "Exit codes:",
    ] {
        assert!(help.contains(command), "{help}");
    }
}

#[test]
fn live_shows_one_table_when_nobody_watches() {
    let folder = shipped();
    let live = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(["live", "setups/tide-gauge.toml"]).args(args).output();
        let output = output.unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    };
    let (code, text) = live(&[]);
    assert!(
        code == 0 && text.starts_with("21 of 22 lines have changed          setups/tide-gauge.toml"),
        "{text}"
    );
    assert!(
        text.contains("         8  MEM_OE_N    high   never changed") && !text.contains('\x1b'),
        "{text}"
    );
    assert!(text.contains("changed once") && text.contains("bursts of about 10 MHz"), "{text}");
    // Before the reset is released, the clock is silent although the setup states it.
    let (code, text) = live(&["--over", "5 ms", "--format", "json"]);
    let said: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert_eq!((code, &said["lines"][3]["doubt"]), (3, &"stated to toggle, but never changed".into()));
    let (code, _) = live(&["--over", "0 s"]);
    assert_eq!(code, 2);
}

#[test]
fn plan_answers_before_anything_is_recorded() {
    let folder = shipped();
    let plan = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(["plan", "setups/tide-gauge.toml"]).args(args).output();
        let output = output.unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    };
    let (code, text) = plan(&[]);
    assert_eq!(code, 3, "some limits cannot be decided: {text}");
    for wanted in [
        "possible, 7 of 14 limits cannot be decided either way          setups/tide-gauge.toml, 100 MS/s\n",
        "window      25 ms: 5 ms before the trigger, 20 ms from it on\n",
        "memory      2.5 M samples of 67.108864 M samples on board (3.7 %)\n",
        "waiting  on 'RESET_N rises while PGOOD high'  fires\n",
        "a violation cannot be proven: 200 MS/s can\n",
    ] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
    let (code, text) = plan(&["--rate", "20 MS/s"]);
    assert!(code == 3 && text.contains("\nunwise: 'ADC_SCLK' is as fast as 10 MHz: 2.0 samples"), "{text}");
    let (code, text) = plan(&["--dot"]);
    assert!(code == 0 && text.starts_with("digraph trigger {\n") && text.ends_with("}\n"), "{text}");
    let (_, text) = plan(&["--format", "json"]);
    let said: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert_eq!((&said["samples"], &said["streamed"]), (&2_500_000.into(), &false.into()));
    assert_eq!(said["limits"].as_array().unwrap().len(), 14);
    let (code, _) = plan(&["--rate", "90 MS/s"]);
    assert_eq!(code, 2);
    assert!(!folder.path().join("tide-gauge.dtap").exists());
}

#[test]
fn find_counts_lists_and_draws_and_exits_by_what_it_found() {
    let folder = captured();
    let find = |args: &[&str]| {
        let output =
            tool().current_dir(&folder).args(["find", "tide-gauge.dtap"]).args(args).output().unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    };
    // 1095 writes, the spike, and the four short pulses that the board plants.
    let (code, text) = find(&["write-ends", "--count"]);
    assert_eq!((code, text.as_str()), (0, "1095 times: write-ends          tide-gauge.dtap\n"));
    let short = "MEM_WE_N low for < 40 ns";
    let (code, text) = find(&[short]);
    assert_eq!(
        (code, text.lines().next()),
        (0, Some("5 times: MEM_WE_N low for < 40 ns          tide-gauge.dtap"))
    );
    let (_, text) = find(&[short, "--first", "2", "--around"]);
    assert!(text.starts_with("2 times, and stopped there: "), "{text}");
    assert_eq!(text.matches("per column").count(), 2);
    let (_, text) = find(&[short, "--first"]);
    assert!(text.starts_with("once, and stopped there: "), "{text}");
    let (_, text) = find(&[short, "--from", "0s", "--to", "5ms"]);
    assert!(text.starts_with("once: "), "{text}");
    // The one conversion that is answered too late.
    let late = "ADC_CS_N rises while ADC_DRDY_N high then no ADC_DRDY_N falls within 350 us";
    let (code, json) = find(&[late, "--format", "json"]);
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!((code, json["number"].as_u64()), (0, Some(1)));
    let at = json["at_s"].as_f64().unwrap();
    assert!((at - 5.60085e-3).abs() < 2e-6, "{at}");
    let (_, csv) = find(&[short, "--format", "csv"]);
    assert_eq!(csv.lines().count(), 6);
    assert_eq!(
        find(&["MEM_OE_N falls"]),
        (1, "never: MEM_OE_N falls          tide-gauge.dtap\n".to_string())
    );
}

#[test]
fn glitches_are_counted_and_taken_out_only_when_asked() {
    let folder = captured();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    };
    let (code, text) = run(&["glitches", "tide-gauge.dtap", "--below", "45 ns"]);
    assert_eq!(code, 0);
    // The spike while the rail ramps, and the four short write pulses.
    assert!(text.contains("MEM_WE_N      5  -1.48298 ms  10 ns: 1, 20 ns: 4"), "{text}");
    assert_eq!(run(&["glitches", "tide-gauge.dtap", "--below", "45 ns", "--lines", "PGOOD"]).0, 1);
    let clean =
        ["convert", "tide-gauge.dtap", "clean.dtap", "--remove-below", "25 ns", "--remove-on", "MEM_WE_N"];
    assert_eq!(run(&clean).0, 0);
    let (code, text) = run(&["check", "clean.dtap", "--only", "tWP"]);
    // What was seen before is not forgotten: where a pulse of one sample was, others may have been missed.
    assert_eq!(code, 3);
    assert!(text.contains("MEM_WE_N may have pulses that this record does not show"), "{text}");
    assert!(text.contains("history: pulses shorter than 25 ns removed: 5 (MEM_WE_N 5)"), "{text}");
}

/// What is stated of a record stands under a heading of its own, and nothing else does.
#[test]
fn the_help_has_each_option_under_its_heading() {
    for command in
        ["info", "find", "frames", "measure", "check", "show", "convert", "glitches", "diagnose", "roles"]
    {
        let help = tool().args([command, "-h"]).output().unwrap();
        let help = String::from_utf8(help.stdout).unwrap();
        let (_, stated) = help.split_once("What a file does not say itself:\n").unwrap();
        let stated = stated.split("\n\n").next().unwrap();
        let options = stated.split_whitespace().filter(|word| word.starts_with("--"));
        let wanted = ["--sampled", "--skew", "--accuracy", "--import", "--partial"];
        assert_eq!(options.collect::<Vec<_>>(), wanted, "{command}");
    }
}

#[test]
fn a_part_on_the_board_gets_a_line_for_each_pin() {
    let folder = captured();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
    };
    let part = ["--part", "U9=parts/ex-mem8.toml"];
    // A capture carries its setup: what is written includes it, wherever it is put.
    let (code, said, told) = run(&["init", "tide-gauge.dtap", "-o", "setups/u9.toml", part[0], part[1]]);
    assert!(
        code == 0 && said.contains("next: deep-tap info tide-gauge.dtap --setup setups/u9.toml"),
        "{said}{told}"
    );
    let text = std::fs::read_to_string(folder.path().join("setups/u9.toml")).unwrap();
    for wanted in [
        "include = [\"../tide-gauge.dtap\"]",
        "limits = \"../parts/ex-mem8.toml\"",
        "WE_N = \"MEM_WE_N\"   # write enable",
        "A = \"ADDR\"   # GUESSED",
        "DQ = \"DATA\"   # GUESSED",
    ] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
    let (_, said, _) =
        run(&["check", "tide-gauge.dtap", "--setup", "setups/u9.toml", "--only", "U9.tWP,U5.tWP"]);
    assert!(said.starts_with("2 violated"), "the same part on the same lines: {said}");
    // A gap is listed, with what needs it.
    let gap = text.replace("DQ = \"DATA\"", "DQ = false");
    std::fs::write(folder.path().join("setups/gap.toml"), gap).unwrap();
    let (_, said, _) = run(&["check", "tide-gauge.dtap", "--setup", "setups/gap.toml"]);
    assert!(said.contains("not wired: U9.DQ; left out for that: U9.tDW, U9.tDH, U9.tOE"), "{said}");
    // Without names, what the lines do says some of it, and the rest stays a gap.
    let (code, said, _) = run(&["init", "bench:tide-gauge", "-o", "-", "--part", "U3=parts/ex-adc24.toml"]);
    assert!(
        code == 0 && said.contains("SCLK = \"IN3\"   # GUESSED: clock of what seems to be spi"),
        "{said}"
    );
    assert!(said.contains("DRDY_N = false   # WHICH LINE? data ready"), "{said}");
    for (part, wanted) in [
        ("parts/ex-mem8.toml", "names no part"),
        ("U5=gone.toml", "gone.toml"),
        ("U5=setups/u9.toml", "no 'pins'"),
    ] {
        let (code, _, told) = run(&["init", "tide-gauge.dtap", "-o", "-", "--part", part]);
        assert!(code == 2 && told.contains(wanted), "{part}: {told}");
    }
}

#[test]
fn marks_stay_in_a_capture_and_name_places() {
    let folder = captured();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
    };
    let file = "tide-gauge.dtap";
    let frozen = std::fs::read(folder.path().join(file)).unwrap();
    for (args, wanted) in [
        (&["PGOOD", "1 ms"][..], "something else in this record is called 'PGOOD'"),
        (&["5x", "1 ms"], "would be read as a time"),
        (&["a\"b", "1 ms"], "not a name for a mark"),
        (&["late", "99 s"], "outside the record"),
        (&["never", "RESET_N falls"], "never happens"),
        (&["where"], "where is 'where'?"),
        (&["gone", "--remove"], "no mark 'gone'"),
    ] {
        let (code, _, told) = run(&[&["mark", file], args].concat());
        assert!(code == 2 && told.contains(wanted), "{args:?}: {told}");
    }
    assert!(std::fs::read(folder.path().join(file)).unwrap() == frozen, "what was refused changes nothing");
    let (code, said, told) = run(&["mark", file, "before", "-1.5 ms"]);
    assert!(code == 0 && said.contains("'before' is at -1.50000 ms"), "{said}{told}");
    run(&["mark", file, "boot", "RESET_N rises", "reset is released"]);
    assert_eq!(run(&["mark", file, "boot", "1 ms"]).0, 2, "moved only when that is said");
    let (_, said, _) = run(&["info", file]);
    assert!(
        said.contains("mark       before -1.50000 ms\nmark       boot 0 ns: reset is released"),
        "{said}"
    );
    let (_, said, _) = run(&["show", file, "--around", "before", "--span", "4 ms", "--lines", "PGOOD"]);
    assert!(said.contains("▼before") && said.contains("▼trigger, boot"), "{said}");
    let (_, said, _) = run(&["find", file, "ADC_CS_N falls", "--from", "before", "--to", "boot", "--count"]);
    assert!(said.starts_with("never") || said.contains(" times") || said.starts_with("once"), "{said}");
    // What is recorded stays the same, and what is cut out of it takes its marks along.
    assert_eq!(run(&["check", file]).0, 1);
    run(&["convert", file, "part.dtap", "--from", "-0.5 ms"]);
    let (_, said, _) = run(&["info", "part.dtap"]);
    assert!(said.contains("mark       boot 0 ns") && !said.contains("before -1.5"), "{said}");
    assert_eq!(run(&["mark", file, "boot", "--remove"]).0, 0);
    assert!(!run(&["info", file]).1.contains("boot"));
    // Marks of a setup.
    let setup = std::fs::read_to_string(folder.path().join("setups/tide-gauge.toml")).unwrap();
    let marked =
        format!("{setup}\n[[mark]]\nname = \"first\"\nat = \"ADC_CS_N falls\"\nnote = \"conversion\"\n");
    std::fs::write(folder.path().join("setups/m.toml"), &marked).unwrap();
    let with = ["--setup", "setups/m.toml"];
    let (_, said, _) = run(&[&["info", file], &with[..]].concat());
    assert!(said.contains("mark       first at 'ADC_CS_N falls': conversion"), "{said}");
    let (_, said, told) =
        run(&[&["show", file, "--around", "first", "--lines", "ADC_CS_N"], &with[..]].concat());
    assert!(said.contains("▼first"), "{said}{told}");
    std::fs::write(
        folder.path().join("setups/m.toml"),
        marked.replace("ADC_CS_N falls\"\nnote", "ADC_C_N falls\"\nnote"),
    )
    .unwrap();
    let (code, _, told) = run(&[&["info", file], &with[..]].concat());
    assert!(code == 2 && told.contains("setups/m.toml") && told.contains("ADC_C_N"), "{told}");
    // A file that is damaged is not made worse.
    let cut = &frozen[..frozen.len() - 200];
    std::fs::write(folder.path().join("cut.dtap"), cut).unwrap();
    let (code, _, told) = run(&["mark", "cut.dtap", "x", "0 ms"]);
    assert!(code == 2 && told.contains("left as it is"), "{told}");
    assert!(std::fs::read(folder.path().join("cut.dtap")).unwrap() == cut);
    std::fs::write(folder.path().join("a.vcd"), "$timescale 1 ns $end $enddefinitions $end").unwrap();
    assert!(run(&["mark", "a.vcd", "x", "0 ms"]).2.contains("this is none"));
}

#[test]
fn the_time_between_two_places_is_what_a_limit_says() {
    let folder = captured();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
    };
    let between = |from: &str, to: &str| run(&["measure", "tide-gauge.dtap", "--between", from, to]);
    let (_, said, _) = run(&["check", "tide-gauge.dtap", "--only", "tRD"]);
    assert!(said.contains("899.99 us ± 28.5 ns"), "{said}");
    let (code, said, told) = between("PGOOD rises", "RESET_N rises");
    assert!(code == 0 && said.starts_with("899.99 us ± 28.5 ns          tide-gauge.dtap"), "{said}{told}");
    assert!(said.contains("next: deep-tap show tide-gauge.dtap --around -899.99us"), "{said}");
    // A time is where somebody says, not where something was seen.
    let (_, said, _) = between("PGOOD rises", "-100 us");
    assert!(said.starts_with("799.99 us, how well is not known"), "{said}");
    run(&["mark", "tide-gauge.dtap", "boot", "RESET_N rises"]);
    assert!(between("boot", "2 ms").1.starts_with("2.00000 ms, how well is not known"));
    assert!(between("boot", "PGOOD rises").2.contains("never happens in this record after"));
    // Where the output is no terminal, COLUMNS says how wide it is.
    let mut command = tool();
    command.current_dir(&folder).env("COLUMNS", "80").args(["check", "tide-gauge.dtap"]);
    let narrow = String::from_utf8(command.output().unwrap().stdout).unwrap();
    let table =
        narrow.lines().skip_while(|line| !line.starts_with("limit")).take_while(|line| !line.is_empty());
    assert!(table.clone().count() > 15 && table.clone().all(|line| line.chars().count() <= 80), "{narrow}");
}
