//! Records of any kind wherever a capture is taken, first setups, limits without a file, excerpts.

use std::path::Path;

use tempfile::TempDir;

use crate::support::{root, tool};

fn fixture(name: &str) -> String {
    root().join("tests/fixtures").join(name).to_str().unwrap().to_string()
}

/// Exit code, standard output, standard error.
fn run(folder: &Path, args: &[&str]) -> (i32, String, String) {
    let done = tool().current_dir(folder).args(args).output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    (done.status.code().unwrap(), text(&done.stdout), text(&done.stderr))
}

fn ok(folder: &Path, args: &[&str]) -> String {
    let (code, said, told) = run(folder, args);
    assert_eq!(code, 0, "{args:?}: {said}{told}");
    said
}

#[test]
fn every_command_takes_every_record() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    for (name, stated, line) in [
        ("tables/comma.csv", "", "CLK"),
        ("tables/semicolon-comma.csv", "", "CLK"),
        ("tables/pandas.csv.gz", "", "CLK"),
        ("tables/packed.npy", "rate=1 MS/s", "bit 0"),
        ("tables/fields.npy", "rate=1 MS/s", "CLK"),
        ("tables/volts.csv", "threshold=1.4 V", "CLK"),
        ("simulators/verilated.vcd", "", "vtb.clk"),
    ] {
        let file = fixture(name);
        let import = format!("--import={stated}");
        let with = |args: &[&str]| {
            let mut args: Vec<String> = args.iter().map(ToString::to_string).collect();
            if !stated.is_empty() {
                args.push(import.clone());
            }
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            let (code, said, told) = run(folder, &args);
            assert!(code == 0 || code == 3, "{args:?}: {said}{told}");
            (said, told)
        };
        let quoted = format!("\"{line}\"");
        let (_, told) = with(&["info", &file]);
        assert!(name.ends_with(".vcd") || told.contains("read as: "), "{told}");
        assert!(with(&["find", &file, &format!("{quoted} rises")]).0.contains("times: "));
        assert!(with(&["show", &file, "--lines", line]).0.contains(line));
        with(&["measure", &file, "--lines", line]);
        let least = if name.ends_with(".vcd") { "1 ns" } else { "2 us" };
        let limit = format!("width of {quoted} high, min {least}");
        let (said, _) = with(&["check", &file, "--try", &limit]);
        // Levels made of voltages are known less well.
        let verdict = if name.contains("volts") { "1 inconclusive" } else { "1 passed" };
        assert!(said.starts_with(verdict), "{said}");
        // What a record of an instrument does not state is told; a simulation's dump has none of it.
        let unstated = "taken for granted of the record, which does not say: no skew";
        assert_eq!(said.contains(unstated), !name.ends_with(".vcd"), "{said}");
        // From a dump on disk to a verdict: a setup is written, passes its own check, and knows the lines.
        let setup = format!("{}.toml", name.replace(['/', '.'], "-"));
        let mut init = vec!["init", &file, "--output", &setup];
        if !stated.is_empty() {
            init.push(&import);
        }
        let said = ok(folder, &init);
        assert!(said.contains("is read with it") && said.contains("next: deep-tap info"), "{said}");
        ok(folder, &["info", &file, "--setup", &setup]);
        let (code, _, told) = run(folder, &init);
        assert!(code == 2 && told.contains("a setup is never replaced"), "{told}");
    }
}

#[test]
fn a_capture_made_part_by_part_is_checked_like_its_dump() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    let dump = fixture("sync-mem/sync_mem.vcd");
    let setup = fixture("sync-mem/setup.toml");
    ok(folder, &["convert", &dump, "mem.dtap", "--setup", &setup]);
    let verdicts = |file: &str, setup: &[&str]| {
        let (code, said, _) = run(folder, &[&["check", file, "--format", "csv"], setup].concat());
        (code, said.replace(file, "RECORD"))
    };
    assert_eq!(verdicts("mem.dtap", &[]), verdicts(&dump, &["--setup", &setup]));
    let (code, _, told) = run(folder, &["convert", &dump, "mem.dtap", "--setup", &setup]);
    assert!(code == 2 && told.contains("there already"), "{told}");
    assert!(!folder.join("mem.dtap.part").exists());
}

#[test]
fn excerpts_keep_their_times_and_their_history() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    let table = fixture("tables/comma.csv");
    ok(folder, &["convert", &table, "all.dtap"]);
    for name in ["part.dtap", "part.vcd"] {
        ok(
            folder,
            &["convert", "all.dtap", name, "--from", "CLK rises", "--to", "25 us", "--lines", "CLK,Q"],
        );
        let said = ok(folder, &["info", name]);
        assert!(said.contains("record     4 us to 25 us, 21 samples"), "{said}");
        assert!(
            said.contains("history    read as: ")
                && said.contains("the part from 4 us to 25 us of 0 us to 40 us"),
            "{said}"
        );
        assert!(said.contains("bus        Q = Q[3:0]") && !said.contains("DATA"), "{said}");
        let found = ok(folder, &["find", name, "CLK falls", "--format", "csv"]);
        assert!(found.contains("\n1,8e-6,"), "{found}");
    }
    // What comes out of a pipe goes into one.
    let table =
        ok(folder, &["convert", "all.dtap", "-", "--as", "csv", "--lines", "DATA", "--layout", "samples"]);
    assert_eq!(table.lines().count(), 41);
    let piped = tool().current_dir(folder).args(["info", "-"]).write_stdin(table).output().unwrap();
    assert!(String::from_utf8_lossy(&piped.stdout).contains("40 samples"), "{piped:?}");
    let capture =
        tool().current_dir(folder).args(["convert", "all.dtap", "-", "--as", "dtap"]).output().unwrap();
    assert!(capture.stdout.starts_with(b"DEEPTAP"));
    // Packed samples say nothing of themselves: what they are is told, and stated when they come back.
    let (_, _, told) =
        run(folder, &["convert", "all.dtap", "raw.bin", "--as", "packed", "--lines", "CLK,DATA"]);
    assert!(told.contains("40 samples of 1 byte at 1 MS/s; bits: 0 CLK, 1 DATA"), "{told}");
    let back =
        ["check", "raw.bin", "--import", "format=packed", "--import", "width=1", "--import", "rate=1 MS/s"];
    let (code, said, told) =
        run(folder, &[&back[..], &["--try", "width of \"bit 0\" high, min 2 us"]].concat());
    assert!(code == 0, "{said}{told}");
    ok(folder, &["convert", "all.dtap", "x.npy"]);
    ok(folder, &["info", "x.npy", "--import", "rate=1 MS/s"]);
}

#[test]
fn what_is_no_record_is_refused_and_what_is_no_limit() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    let put = |name: &str, bytes: &[u8]| std::fs::write(folder.join(name), bytes).unwrap();
    put("picture.csv", b"\x89PNG\r\n\x1a\n0000");
    put("letter.txt", b"Dear all,\n\nthe board works.\nYours\n");
    put("empty.vcd", b"");
    put("zeros.bin", &[0; 4096]);
    put("wide.csv", "\u{feff}Zeit;A\n1,5;0\n".as_bytes());
    put("twice.csv", b"time_s,A,A\n0,0,1\n0.1,0,1\n0.2,0,1\n0.3,1,1\n");
    put("mixed.csv", b"time (s);A\n1.234;0\n1,234;1\n1,235;1\n");
    put("back.csv", b"time_s,A\n0,0\n0.1,0\n0.05,0\n0.3,1\n");
    put("short.csv", b"time_s,A,B\n0,0,1\n0.1,0\n0.2,0,1\n0.3,1,1\n");
    let table = fixture("tables/comma.csv");
    for (args, wanted) in [
        (&["info", "picture.csv"][..], "this is a picture, not a record"),
        (&["info", "letter.txt"], "no table of values"),
        (&["info", "empty.vcd"], "this file is empty"),
        (&["info", "zeros.bin"], "neither a text nor a record"),
        (&["info", "."], "this is a folder"),
        (&["info", "mixed.csv"], "may be a fraction"),
        (&["info", "back.csv", "--import", "rows=samples"], "back.csv:4: column 'time': time runs backwards"),
        (&["info", "short.csv", "--import", "rows=samples"], "short.csv:3: this row has 2 cells"),
        (&["info", &table, "--import", "rows=few"], "'few' is not what rows are"),
        (&["info", &table, "--import", "row=samples"], "'row'"),
        (&["info", &table, "--import", "samples"], "states nothing"),
        (&["check", &table, "--try", "widht of CLK high, min 1 us"], "did you mean 'width'"),
        (&["check", &table, "--try", "width of CLK, min 1 us"], "width of CLK, min 1 us"),
        (&["check", &table, "--try", "width of CLK high"], "min"),
        (&["check", &table, "--try", "setup of DATA, min 1 us"], "about two events"),
        (&["check", &table, "--try", ""], "not a kind of limit"),
        (&["init", "bench:nowhere"], "no board 'nowhere'"),
        (&["convert", &table, "x.npy", "--lines", "CLQ"], "did you mean 'CLK'"),
        (&["convert", &table, "x.what"], "--as"),
    ] {
        let (code, said, told) = run(folder, args);
        assert_eq!(code, 2, "{args:?}: {said}{told}");
        let flat = told.replace("\n  | ", " ").replace("\n        ", " ");
        assert!(flat.contains(wanted), "{args:?}: {told}");
    }
    // Two columns of one name are two lines.
    let said = ok(folder, &["info", "twice.csv", "--import", "rows=samples"]);
    assert!(said.contains("\nA#2 "), "{said}");
    // Ticks without number, and three edges.
    put("long.vcd", b"$timescale 1 ps $end $var wire 1 ! a $end $enddefinitions $end\n#0 0!\n#1 1!\n#999999999998 0!\n#1000000000000 1!\n#1000000000001\n");
    ok(folder, &["convert", "long.vcd", "long.dtap"]);
    assert!(ok(folder, &["find", "long.dtap", "a rises"]).starts_with("2 times"));
}

/// A program that writes samples is an instrument: triggered on, live, whole bytes or not.
#[test]
#[cfg(unix)]
fn samples_that_come_through_a_pipe() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    let setup = "[instrument]\nconnect = \"pipe:-?rate=1 MS/s&width=2&byte-order=big\"\n\
                 [sampling]\nrate = \"1 MS/s\"\nlength = \"200 us\"\nbefore-trigger = \"50 us\"\n\
                 [trigger]\nevent = \"COUNT rises\"\n\
                 [[line]]\nname = \"CLK\"\ninput = 0\n[[line]]\nname = \"COUNT\"\ninput = 9\n";
    std::fs::write(folder.join("p.toml"), setup).unwrap();
    // CLK changes every 5 samples, COUNT goes high at sample 1000; half a sample at the end.
    let mut bytes: Vec<u8> =
        (0..1100u16).flat_map(|n| ((n / 5 % 2) | (u16::from(n >= 1000) << 9)).to_be_bytes()).collect();
    bytes.push(1);
    let piped = |args: &[&str]| {
        let done = tool().current_dir(folder).args(args).write_stdin(bytes.clone()).output().unwrap();
        (
            done.status.code().unwrap(),
            String::from_utf8(done.stdout).unwrap(),
            String::from_utf8(done.stderr).unwrap(),
        )
    };
    let (code, said, told) = piped(&["capture", "p.toml"]);
    assert!(code == 0 && said.contains("recorded 150 us at 1 MS/s: 150 samples, 2 lines"), "{said}{told}");
    assert!(told.contains("ended in the middle of one"), "{told}");
    let said = ok(folder, &["find", "p.dtap", "COUNT rises"]);
    assert!(said.contains("0 us"), "{said}");
    assert!(ok(folder, &["check", "p.dtap", "--try", "width of CLK high, min 3 us"]).starts_with("1 passed"));
    let (_, said, _) = piped(&["live", "p.toml", "--once", "--over", "1.1 ms"]);
    assert!(said.contains("2 of 2 lines have changed"), "{said}");
    let never = std::fs::read_to_string(folder.join("p.toml")).unwrap().replace("COUNT rises", "COUNT falls");
    std::fs::write(folder.join("never.toml"), never).unwrap();
    let (code, _, told) = piped(&["capture", "never.toml"]);
    assert!(code == 2 && told.contains("did not come before the record ended after 1.1 ms"), "{told}");
    for (address, wanted) in [
        ("pipe:-", "how fast the samples of a pipe are"),
        ("pipe:-?rate=1 MS/s", "how many bytes a sample"),
        ("pipe:-?rate=1 MS/s&width=3", "1, 2, 4 or 8 bytes"),
        ("pipe:-?rate=1 MS/s&width=2", "which byte of a sample"),
        ("pipe:-?rate=1 MS/s&width=1&rows=samples", "cannot be stated of a pipe"),
    ] {
        let (code, _, told) = run(folder, &["init", address]);
        assert!(code == 2 && told.contains(wanted), "{address}: {told}");
    }
}
