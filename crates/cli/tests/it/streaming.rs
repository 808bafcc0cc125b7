//! Captures longer than memory: written while they run, and kept whatever ends them.
#![cfg(unix)]

use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::Duration;

use deep_tap::capture::Capture;
use deep_tap::format::dtap;
use deep_tap::line::LineId;
use deep_tap::time::Tick;
use tempfile::TempDir;

use crate::support::{binary, shipped, tool};

const SETUP: &str = "setups/tide-gauge.toml";

/// A folder with the shipped setup, changed to record this long without waiting.
fn folder(length: &str) -> TempDir {
    let folder = shipped();
    let path = folder.path().join(SETUP);
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text.replace("length = \"25 ms\"", &format!("length = \"{length}\""))).unwrap();
    folder
}

fn start(folder: &TempDir, target: &str) -> Child {
    let mut command = Command::new(binary());
    command.current_dir(folder).args(["capture", SETUP, "--now", "-o", target]);
    command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Waits until the unfinished file has this size, or the program has ended.
fn wait_for_size(child: &mut Child, target: &Path, size: u64) {
    let part = dtap::part_path(target);
    while std::fs::metadata(&part).map_or(0, |m| m.len()) < size && child.try_wait().unwrap().is_none() {
        std::thread::sleep(Duration::from_millis(1));
    }
}

fn interrupt(child: Child) -> Output {
    signal(child, "-INT")
}

fn signal(child: Child, signal: &str) -> Output {
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
    child.wait_with_output().unwrap()
}

/// Whether `part` is the beginning of `whole`.
fn begins(part: &Capture, whole: &Capture) {
    assert!(part.len() <= whole.len());
    for line in (0..whole.lines().len()).map(LineId) {
        let all = Tick(0)..Tick(part.len());
        assert!(part.trace(line).edges(all.clone()).eq(whole.trace(line).edges(all)), "line {line:?}");
    }
    assert!(part.damage().is_empty() && whole.damage().is_empty());
}

/// 80 million samples, in blocks of at most 17 million.
#[test]
fn a_recording_that_is_killed_keeps_every_block_it_had_completed() {
    let folder = folder("800 ms");
    let done = start(&folder, "whole.dtap").wait_with_output().unwrap();
    assert!(done.status.success(), "{done:?}");
    let whole = dtap::open(&folder.path().join("whole.dtap")).unwrap().capture;
    let size = std::fs::metadata(folder.path().join("whole.dtap")).unwrap().len();
    assert_eq!(whole.len(), 80_000_000);
    let mut lengths = Vec::new();
    for kill in 0..12 {
        let target = folder.path().join(format!("killed-{kill}.dtap"));
        let mut child = start(&folder, target.to_str().unwrap());
        wait_for_size(&mut child, &target, kill * size / 12);
        child.kill().unwrap();
        child.wait().unwrap();
        let part = dtap::part_path(&target);
        if target.exists() {
            lengths.push(80_000_000);
            begins(&dtap::open(&target).unwrap().capture, &whole);
        } else if part.exists() {
            match dtap::open(&part) {
                Ok(opened) => {
                    // Complete, but killed before it was put in its place.
                    let complete = opened.capture.len() == whole.len();
                    assert!(opened.cut_short_at.is_some() || complete);
                    begins(&opened.capture, &whole);
                    lengths.push(opened.capture.len());
                }
                // Killed before even the description was written.
                Err(_) => assert_eq!(kill, 0),
            }
        }
    }
    let early = lengths.iter().filter(|len| (1..80_000_000).contains(*len)).count();
    assert!(early >= 3, "most were killed on the way: {lengths:?}");
}

/// By Ctrl-C, by a service that is stopped, by a terminal that goes away.
#[test]
fn an_interrupted_recording_is_finished_in_good_order() {
    let folder = folder("1000 s");
    for name in ["-INT", "-TERM", "-HUP"] {
        let file = format!("long{name}.dtap");
        let target = folder.path().join(&file);
        let mut child = start(&folder, &file);
        wait_for_size(&mut child, &target, 200_000);
        let output = signal(child, name);
        let said = String::from_utf8(output.stdout).unwrap();
        assert!(output.status.success() && said.contains(&format!("saved to {file}")), "{said}");
        assert!(!dtap::part_path(&target).exists());
        let opened = dtap::open(&target).unwrap();
        assert!(opened.cut_short_at.is_none() && !opened.capture.is_empty());
        assert!(opened.capture.len() < 100_000_000_000);
    }
}

/// The second one says so and writes nothing; the first one is whole. Leftovers are told from what runs.
#[test]
fn two_captures_into_one_name_do_not_damage_each_other() {
    let folder = folder("1000 s");
    let target = folder.path().join("one.dtap");
    let mut first = start(&folder, "one.dtap");
    wait_for_size(&mut first, &target, 200_000);
    for more in [&[][..], &["--replace"]] {
        let args = [&["capture", SETUP, "--now", "-o", "one.dtap"], more].concat();
        let second = tool().current_dir(&folder).args(args).output().unwrap();
        let said = String::from_utf8(second.stderr).unwrap();
        assert_eq!(second.status.code(), Some(2), "{said}");
        assert!(said.contains("a capture into this file is running"), "{said}");
    }
    // What is there so far can be looked at, and is not taken for damaged.
    let so_far = tool().current_dir(&folder).args(["info", "one.dtap.part"]).output().unwrap();
    let said = String::from_utf8(so_far.stderr).unwrap();
    assert!(so_far.status.success() && said.contains("still being written: what is in it so far"), "{said}");
    assert!(interrupt(first).status.success());
    let opened = dtap::open(&target).unwrap();
    assert!(opened.cut_short_at.is_none());
    opened.capture.traces().iter().for_each(|trace| trace.edges(opened.capture.range()).for_each(drop));
    assert!(opened.capture.damage().is_empty());
    // What a run left that was killed before it had anything is no hindrance.
    std::fs::write(dtap::part_path(&folder.path().join("two.dtap")), "").unwrap();
    tool().current_dir(&folder).args(["convert", "one.dtap", "two.dtap", "--to", "1 ms"]).assert().success();
    // Nor are unfinished files of other commands, which are cleared when they are old and nobody has them open.
    let unfinished = |name: &str| folder.path().join(format!(".t.csv.{name}.part"));
    for name in ["aaaaaa", "bbbbbb", "cccccc"] {
        std::fs::write(unfinished(name), "half").unwrap();
    }
    let old = std::time::SystemTime::now() - Duration::from_secs(3600);
    let open = |name| std::fs::File::options().write(true).open(unfinished(name)).unwrap();
    open("aaaaaa").set_modified(old).unwrap();
    let held = open("bbbbbb");
    held.set_modified(old).unwrap();
    held.lock().unwrap();
    let to_table = ["convert", "one.dtap", "t.csv", "--to", "1 ms"];
    tool().current_dir(&folder).args(to_table).assert().success();
    assert_eq!(["aaaaaa", "bbbbbb", "cccccc"].map(|name| unfinished(name).exists()), [false, true, true]);
}

#[test]
fn repeated_captures_are_numbered_and_go_on_where_they_were() {
    let folder = shipped();
    for (run, last) in [("0001", "0002"), ("0003", "0004")] {
        let args = ["capture", SETUP, "--repeat", "2", "-o", "run.dtap"];
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let said = String::from_utf8(output.stdout).unwrap();
        assert!(said.starts_with(&format!("run-{run}.dtap: 25 ms, ")), "{said}");
        assert!(said.contains(&format!("\nrun-{last}.dtap: ")) && said.ends_with("2 captures\n"), "{said}");
    }
    // Without a number it goes on until it is interrupted; nothing unfinished is left.
    let mut command = Command::new(binary());
    command.current_dir(&folder).args(["capture", SETUP, "--repeat", "-o", "run.dtap"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    while !folder.path().join("run-0007.dtap").exists() {
        std::thread::sleep(Duration::from_millis(1));
    }
    let output = interrupt(child);
    assert!(output.status.success(), "{output:?}");
    let files = std::fs::read_dir(folder.path()).unwrap().map(|f| f.unwrap().file_name());
    assert!(files.into_iter().all(|f| !f.to_string_lossy().ends_with(".part")));
}

/// Each power-up of the board differs; the verdicts are over all of them.
#[test]
fn repeated_captures_can_be_checked_and_only_violating_ones_kept() {
    let folder = shipped();
    let run = |extra: &[&str]| {
        let args = ["capture", SETUP, "-o", "run.dtap", "--repeat", "3", "--check"];
        let output = tool().current_dir(&folder).args(args).args(extra).output().unwrap();
        (output.status.code().unwrap(), String::from_utf8(output.stdout).unwrap())
    };
    let (code, said) = run(&["--keep", "violating"]);
    assert_eq!(code, 1, "{said}");
    assert!(said.contains("run-0003.dtap: 25 ms, ") && said.contains("4 violated, "), "{said}");
    assert!(said.contains("over 3 captures, 3 kept"), "{said}");
    assert!(said.contains("FAIL (3 of 3) in 3 of 3 captures"), "{said}");
    let edges: Vec<&str> = said.lines().take(3).filter_map(|l| l.split(": ").nth(1)).collect();
    assert!(edges[0] != edges[1] && edges[1] != edges[2], "no two power-ups are the same: {said}");
    // A healthy board: nothing is kept, and what is open at this rate stays open.
    let path = folder.path().join(SETUP);
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text.replace("bench:tide-gauge", "bench:tide-gauge?faults=none")).unwrap();
    let (code, said) = run(&["--keep", "violating"]);
    assert!(code == 3 && said.contains("over 3 captures, 0 kept"), "{said}");
    assert!(!folder.path().join("run-0004.dtap").exists() && folder.path().join("run-0003.dtap").exists());
}

/// The shell's limit on file sizes stands in for a full disk.
#[test]
fn a_disk_that_fills_up_on_the_way_keeps_the_blocks_before() {
    let folder = folder("800 ms");
    let script = format!("trap '' XFSZ; ulimit -f 600; exec {} capture {SETUP} --now", binary());
    let output = Command::new("sh").args(["-c", &script]).current_dir(&folder).output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(2), "{said}");
    assert!(said.contains("the disk is full") && said.contains("kept in tide-gauge.dtap.part"), "{said}");
    let kept = dtap::open(&folder.path().join("tide-gauge.dtap.part")).unwrap();
    assert!(kept.cut_short_at.is_some() && kept.capture.len() >= 17_000_000);
    let whole = start(&folder, "whole.dtap").wait_with_output().unwrap();
    assert!(whole.status.success());
    begins(&kept.capture, &dtap::open(&folder.path().join("whole.dtap")).unwrap().capture);
}

#[test]
fn a_part_before_the_trigger_that_no_memory_holds_is_refused_before_recording() {
    let folder = folder("20 s");
    let output = tool().current_dir(&folder).args(["capture", SETUP]).output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(2), "{said}");
    assert!(said.contains("400 M samples before the trigger do not fit"), "{said}");
    assert!(said.contains("keep at most 2.68435456 s before the trigger"), "{said}");
}
