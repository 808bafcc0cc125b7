//! Wrong input of every kind, through the tool: a clear message, exit code 2, nothing lost.

use std::path::Path;
use std::process::{Command, Stdio};

use tempfile::TempDir;

use crate::support::{binary, captured, root, tool};

/// Runs the tool in a folder; it must refuse, without panic, and say all of `wanted`.
fn refuses(folder: &Path, args: &[&str], wanted: &[&str]) -> String {
    let output = tool().current_dir(folder).args(args).output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(2), "{args:?}: {said}");
    assert!(!said.contains("panicked") && !said.contains("RUST_BACKTRACE"), "{said}");
    // Wrapped lines are read as one.
    let flat = said.split_whitespace().collect::<Vec<_>>().join(" ");
    for part in wanted {
        assert!(flat.contains(part), "{args:?}: '{part}' is not in:\n{said}");
    }
    said
}

/// The shipped setup with one thing changed, as a file in a folder of its own.
fn changed(from: &str, to: &str) -> TempDir {
    let folder = TempDir::new().unwrap();
    for kind in ["setups", "parts"] {
        std::fs::create_dir(folder.path().join(kind)).unwrap();
        for file in std::fs::read_dir(root().join(kind)).unwrap() {
            let path = file.unwrap().path();
            if path.is_dir() {
                continue;
            }
            let text = std::fs::read_to_string(&path).unwrap();
            let text = if text.contains(from) { text.replacen(from, to, 1) } else { text };
            std::fs::write(folder.path().join(kind).join(path.file_name().unwrap()), text).unwrap();
        }
    }
    folder
}

const SETUP: &str = "setups/tide-gauge.toml";

#[test]
fn files_that_are_missing_or_unreadable() {
    let folder = TempDir::new().unwrap();
    std::fs::write(folder.path().join("binary.toml"), [0xff, 0xfe, 0]).unwrap();
    std::fs::write(folder.path().join("empty.vcd"), "").unwrap();
    std::fs::write(folder.path().join("text.dtap"), "this is not a capture, whatever its name says it is")
        .unwrap();
    std::fs::write(
        folder.path().join("back.vcd"),
        "$timescale 1ns $end\n$var wire 1 ! a $end\n$enddefinitions $end\n#5 1!\n#3 0!\n",
    )
    .unwrap();
    for (args, wanted) in [
        (&["capture", "none.toml"][..], &["none.toml: cannot read", "check the path"][..]),
        (&["check", "none.dtap"], &["none.dtap: cannot open", "check the path"]),
        (&["check", "none.vcd", "--setup", "none.toml"], &["none.toml: cannot read"]),
        (&["capture", "binary.toml"], &["binary.toml, byte 0: this is not UTF-8 text"]),
        (&["info", "empty.vcd"], &["empty.vcd: this file is empty"]),
        (&["info", "back.vcd"], &["back.vcd:5: time runs backwards, from 5 to 3"]),
        (&["info", "text.dtap"], &["text.dtap: this is not a capture file"]),
        (&["info", "."], &["this is a folder"]),
        (&["check", "back.vcd", "--setup", "."], &["path of a file"]),
    ] {
        refuses(folder.path(), args, wanted);
    }
}

#[test]
fn setups_that_are_wrong() {
    for (from, to, wanted) in [
        (
            "rate = \"100 MS/s\"",
            "rate = \"100 MHz\"",
            &["tide-gauge.toml:9:8", "'MHz' is not a unit of a sample rate", "100 MS/s"][..],
        ),
        (
            "RESET_N rises while PGOOD high",
            "RESET_N rises while PGOD high",
            &["nothing is called 'PGOD'", "did you mean 'PGOOD'?"],
        ),
        ("\"A3\", \"A2\", \"A1\"", "\"A3\", \"A2\", \"A2\"", &["bus 'ADDR' has the line 'A2' twice"]),
        ("CS_N = \"ADC_CS_N\", ", "", &["pin CS_N not bound to a line", "CS_N = false"]),
        (
            "rate = \"100 MS/s\"",
            "rate = \"90 MS/s\"",
            &["does not record 22 lines at 90 MS/s", "nearest: 50 MS/s, or 100 MS/s"],
        ),
        ("rate = \"100 MS/s\"", "rate = \"1 GS/s\"", &["1 GS/s takes 16 lines: leave out 6"]),
        (
            "swing = \"3.3 V\"",
            "swing = \"12 V\"",
            &["line 'ADC_SCLK' swings to 12 V, its input stands 5 V", "do not connect it"],
        ),
        (
            "threshold = \"LVCMOS 3.3 V\"",
            "threshold = \"4 V\"",
            &["a threshold of 4 V for 'PGOOD' cannot be set on bank A", "from 0 V to 3 V; nearest: 3 V"],
        ),
        ("min = \"18 ns\"", "min = \"18\"", &["ex-mem8.toml", "'18' has no unit"]),
        ("connect = \"bench:tide-gauge\"", "connect = \"bench:toaster\"", &["there is no board 'toaster'"]),
        (
            "time-out = \"1 s\"",
            "time-out = \"1 ms\"",
            &["the trigger did not come within 1 ms", "RESET_N never rose"],
        ),
        (
            "input = 21",
            "input = 32",
            &["line 'D7' is on inputs that the instrument does not have", "its inputs are 0 to 31"],
        ),
    ] {
        let folder = changed(from, to);
        refuses(folder.path(), &["capture", SETUP], wanted);
        assert!(!folder.path().join("tide-gauge.dtap").exists(), "{to}: something was left behind");
    }
}

#[test]
fn arguments_that_are_wrong() {
    let folder = captured();
    for (args, wanted) in [
        (&["show", "tide-gauge.dtap", "--at", "5"][..], &["--at: '5' has no unit"][..]),
        (&["show", "tide-gauge.dtap", "--at", "1 d"], &["'d' is not a unit of a time"]),
        (
            &["show", "tide-gauge.dtap", "--around", "3 s"],
            &["outside the record", "from -5.00000 ms to 20.00000 ms"],
        ),
        (&["show", "tide-gauge.dtap", "--from", "2 ms", "--to", "1 ms"], &["--from must be before --to"]),
        (
            &["show", "tide-gauge.dtap", "--lines", "ADC_SLCK"],
            &["no line 'ADC_SLCK'", "did you mean 'ADC_SCLK'?"],
        ),
        (&["show", "tide-gauge.dtap", "--width", "5"], &["no room for the waveforms"]),
        (&["show", "tide-gauge.dtap", "--around", "0s", "--span", "0s"], &["--span: 0 s shows nothing"]),
        (
            &["check", "tide-gauge.dtap", "--only", "tXX"],
            &["there is no limit, part or group 'tXX'", "U5.tDH"],
        ),
        (&["convert", "tide-gauge.dtap", "out.xyz"], &["does not say which format to write"]),
        (&["convert", "tide-gauge.dtap", "-", "--as", "dtao"], &["dtap"]),
        (&["convert", "tide-gauge.dtap", "tide-gauge.dtap"], &["this file is there already", "--replace"]),
        (&["capture", SETUP], &["tide-gauge.dtap: this file is there already"]),
        (&["capture", SETUP, "--rate", "fast", "-o", "x.dtap"], &["--rate: 'fast' is not a sample rate"]),
        (
            &["find", "tide-gauge.dtap", "ADC_SCKL rises"],
            &["nothing is called 'ADC_SCKL'", "did you mean 'ADC_SCLK'?"],
        ),
        (
            &["find", "tide-gauge.dtap", "MEM_WE_N low for < 5 ns"],
            &["can never happen: a tick is 10 ns", "more than 200 MS/s"],
        ),
        (
            &["find", "tide-gauge.dtap", "when PGOOD high and PGOOD low"],
            &["can never hold: PGOOD would have to be"],
        ),
        (&["find", "tide-gauge.dtap", "when ADDR in 9..3"], &["upside down", "in 0x3 .. 0x9"]),
        (
            &["find", "tide-gauge.dtap", "PGOOD rises", "--from", "5 ms", "--to", "1 ms"],
            &["--from must be before --to"],
        ),
        (&["chek"], &["check"]),
        (&["check"], &["<FILE>"]),
    ] {
        let before = std::fs::read(folder.path().join("tide-gauge.dtap")).unwrap();
        refuses(folder.path(), args, wanted);
        assert_eq!(std::fs::read(folder.path().join("tide-gauge.dtap")).unwrap(), before);
    }
}

#[test]
fn a_cut_capture_is_read_as_far_as_it_goes_and_says_so() {
    let folder = captured();
    let whole = std::fs::read(folder.path().join("tide-gauge.dtap")).unwrap();
    // Without its end, all blocks are there.
    std::fs::write(folder.path().join("cut.dtap"), &whole[..whole.len() - 10]).unwrap();
    let output = tool().current_dir(&folder).args(["check", "cut.dtap"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(
        String::from_utf8(output.stderr)
            .unwrap()
            .contains("cut short or damaged: its record ends at 20.00000 ms")
    );
    std::fs::write(folder.path().join("stub.dtap"), &whole[..300]).unwrap();
    refuses(folder.path(), &["check", "stub.dtap"], &["stub.dtap: this capture file is damaged"]);
}

/// The shell's limit on file sizes stands in for a full disk.
#[cfg(unix)]
#[test]
fn a_full_disk_keeps_what_was_written_and_replaces_nothing() {
    let folder = changed("\u{0}", "");
    let limited = |args: &str| {
        // 'trap' keeps the signal from ending the process, so that writing fails instead.
        let script = format!("trap '' XFSZ; ulimit -f 16; exec {} {args}", binary());
        Command::new("sh").args(["-c", &script]).current_dir(&folder).output().unwrap()
    };
    let output = limited(&format!("capture {SETUP}"));
    let said = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(2), "{said}");
    assert!(said.contains("cannot write") && said.contains("the disk is full"), "{said}");
    assert!(!folder.path().join("tide-gauge.dtap").exists());
    assert!(folder.path().join("tide-gauge.dtap.part").exists(), "what was written is kept");
    // The next run says so instead of overwriting it.
    refuses(folder.path(), &["capture", SETUP], &["an unfinished capture lies here"]);
    std::fs::remove_file(folder.path().join("tide-gauge.dtap.part")).unwrap();
    tool().current_dir(&folder).args(["capture", SETUP]).assert().success();
    let output = limited("convert tide-gauge.dtap big.csv");
    assert_eq!(output.status.code(), Some(2));
    assert!(!folder.path().join("big.csv").exists());
}

#[test]
fn a_reader_that_has_seen_enough_is_no_error() {
    let folder = captured();
    let mut child = Command::new(binary())
        .current_dir(&folder)
        .args(["convert", "tide-gauge.dtap", "-", "--as", "csv", "--layout", "samples"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = [0; 64];
    std::io::Read::read_exact(child.stdout.as_mut().unwrap(), &mut first).unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), output.stderr.len()), (Some(0), 0), "{output:?}");
}

#[test]
fn measurements_and_pictures_of_nothing() {
    let folder = captured();
    let file = "tide-gauge.dtap";
    for (args, wanted) in [
        (
            &["measure", file, "--from", "99 ms"][..],
            &["--from: 99 ms is outside the record", "goes from -5.00000 ms"][..],
        ),
        (&["measure", file, "--from", "MEM_OE_N falls"], &["'MEM_OE_N falls' never happens in this record"]),
        (&["measure", file, "--from", "5 ms", "--to", "5 ms"], &["empty or upside down"]),
        (&["measure", file, "--at", "5 furlongs"], &["--at:"]),
        (&["measure", file, "--lines", "ADC_SCKL"], &["no line 'ADC_SCKL'", "did you mean 'ADC_SCLK'"]),
        (&["measure", file, "--each", "ADC_SCKL rises"], &["nothing is called 'ADC_SCKL'"]),
        (&["measure", file, "--limit", "tXX"], &["there is no limit 'tXX'"]),
        (&["measure", file, "--limit", "U5"], &["'U5' is more than one limit"]),
        (&["measure", file, "--histogram"], &["a histogram is of one line, of intervals, or of a limit"]),
        (&["measure", file, "--lines", "ADC_SCLK", "--picture", "x.bmp"], &["let it end in .svg or .png"]),
        (
            &["show", file, "--output", "x.png", "--width", "0"],
            &["a picture of 0 pixels", "from 200 to 32768"],
        ),
        (&["show", file, "--output", "x.png", "--from", "1 ms", "--to", "1 ms"], &["empty or upside down"]),
        (&["show", file, "--output", "x.gif"], &["let it end in .svg or .png"]),
        (&["show", file, "--limit", "U5.tOE"], &["U5.tOE was not seen in this record"]),
        (&["show", file, "--mark", "here"], &["'here' has no place"]),
        (&["check", file, "--occurrences", "x.txt"], &["let it end in .csv or .parquet"]),
        (&["check", file, "none.dtap"], &["none.dtap: cannot open"]),
    ] {
        refuses(folder.path(), args, wanted);
    }
    let left = std::fs::read_dir(folder.path()).unwrap();
    let names: Vec<_> = left.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert!(names.iter().all(|name| !name.starts_with("x.") && !name.starts_with(".tmp")), "{names:?}");
    // An output that is there stays as it is.
    std::fs::write(folder.path().join("kept.svg"), "mine").unwrap();
    for args in [
        &["show", file, "--output", "kept.svg"][..],
        &["check", file, "--junit", "kept.svg"],
        &["measure", file, "--lines", "ADC_SCLK", "--picture", "kept.svg"],
    ] {
        refuses(folder.path(), args, &["kept.svg: this file is there already"]);
    }
    assert_eq!(std::fs::read_to_string(folder.path().join("kept.svg")).unwrap(), "mine");
}

#[test]
fn expectations_that_cannot_be() {
    let with = |text: &str| changed("\n[[part]]", &format!("\n[[expect]]\nname = \"x\"\n{text}\n\n[[part]]"));
    for (text, wanted) in [
        ("bus = \"adc\"\nbytes = \"08\"", "an SPI bus carries two words at once"),
        ("bus = \"abc\"\nbytes = \"08\"", "there is no serial bus 'abc'"),
        ("bus = \"adc\"\nfield = \"mosi\"\nbytes = \"8g\"", "'8g' is not a hexadecimal number"),
        ("bus = \"adc\"\nfield = \"mosi\"\nbytes = \"\"", "this expects nothing"),
        ("bus = \"adc\"\nfield = \"moso\"\nbytes = \"08\"", "this bus has no field 'moso'"),
        ("bus = \"adc\"\nfield = \"mosi\"\nbytes = \"08 {lenght}\"", "nothing is called '{lenght}'"),
        ("bus = \"adc\"\nfield = \"mosi\"\nonce = true\nbytes = \"08 ...\"", "nothing says where '...' ends"),
        ("bus = \"adc\"\nfield = \"mosi\"\nbytes = \"0810\"", "0x810 has more than the 8 bits"),
        ("bus = \"adc\"\nfield = \"mosi\"\nfile = \"none.bin\"", "none.bin: cannot read"),
        ("bus = \"adc\"\nfield = \"mosi\"\nfile = \"none.xyz\"", "does not say how values stand in it"),
        ("bus = \"adc\"\nfield = \"mosi\"\nbytes = \"08\"\narray = \"a\"", "are about a file"),
        ("bus = \"adc\"\nfield = \"mosi\"\nmessages = [{ txet = \"a\" }]", "'txet'"),
        ("bus = \"adc\"\nfield = \"mosi\"\nmessages = []", "this expects nothing"),
        ("bus = \"adc\"", "has no 'bytes', 'text', 'file', 'messages', 'transfers' or 'order'"),
        ("order = \"a -> b\"", "the states are those of a bus, or of lines"),
        (
            "bus = \"ADDR\"\nstates = { a = \"0x10\" }\norder = \"a -> a\"",
            "'0x10' is no value of bus ADDR (4 lines)",
        ),
        ("bus = \"ADDR\"\nstates = { a = \"1\" }\norder = \"a > a\"", "'a > a' is no transition"),
        ("bus = \"ADDR\"\nstates = { a = \"1\" }\norder = \"a -> b\"", "there is no state 'b'"),
        ("lines = [\"A0\", \"A9\"]\norder = \"A0 -> A0\"", "there is no line 'A9'"),
    ] {
        refuses(with(text).path(), &["plan", SETUP], &[wanted]);
    }
    // More than the record can hold.
    let long = with(&format!("bus = \"adc\"\nfield = \"mosi\"\nbytes = \"{}\"", "08 ".repeat(400_000)));
    let record = ["capture", SETUP, "--output", "long.dtap"];
    tool().current_dir(long.path()).args(record).assert().success();
    refuses(
        long.path(),
        &["check", "long.dtap"],
        &["400000 bytes on 'adc' take", "and the record is 25 ms long"],
    );
}

/// Files that are read whole have an end, whatever lies under their names.
#[cfg(target_os = "linux")]
#[test]
fn endless_files_are_refused() {
    let folder = captured();
    let setup = "include = [\"/dev/zero\"]\n[[part]]\nreference = \"U1\"\nlimits = \"/dev/zero\"\n";
    std::fs::write(folder.path().join("endless.toml"), setup).unwrap();
    let bench =
        "[instrument]\nconnect = \"bench:zero.toml\"\n[sampling]\nrate = \"1 MS/s\"\nlength = \"1 ms\"\n";
    std::fs::write(folder.path().join("bench.toml"), bench).unwrap();
    std::os::unix::fs::symlink("/dev/zero", folder.path().join("zero.toml")).unwrap();
    for args in [
        &["plan", "/dev/zero"][..],
        &["check", "tide-gauge.dtap", "--setup", "/dev/zero"],
        &["check", "tide-gauge.dtap", "--setup", "endless.toml"],
        &["plan", "bench.toml"],
    ] {
        refuses(folder.path(), args, &["longer than 16 MiB"]);
    }
    for name in ["/dev/zero", "/dev/random"] {
        for args in [&["info", name][..], &["check", name], &["convert", name, "x.dtap"]] {
            refuses(folder.path(), args, &[]);
        }
    }
}

/// A mistake that everything else follows from is told once, and many are counted.
#[test]
fn many_problems_are_shown_in_part_and_counted() {
    let folder = captured();
    let lines = (0..20_000).map(|n| format!("[[line]]\nname = \"L{n}\"\nspeed = {n}\n"));
    std::fs::write(folder.path().join("many.toml"), lines.collect::<String>()).unwrap();
    let said = refuses(folder.path(), &["plan", "many.toml"], &[]);
    assert!(said.contains("20000 problems in all, of which 50 are shown") && said.len() < 40_000, "{said}");
}

/// A disk that is full takes a file away, and not the answer.
#[cfg(unix)]
#[test]
fn verdicts_are_said_although_their_files_cannot_be_written() {
    let folder = captured();
    for option in ["--junit v.xml", "--occurrences o.csv"] {
        let script =
            format!("trap '' XFSZ; ulimit -f 1; exec {} check tide-gauge.dtap {option} | cat", binary());
        let output = Command::new("sh").args(["-c", &script]).current_dir(&folder).output().unwrap();
        let said = String::from_utf8(output.stdout).unwrap();
        assert!(said.contains("4 violated") && said.contains("FAIL (5 of 1096)"), "{said}");
        let error = String::from_utf8(output.stderr).unwrap();
        let file = option.split(' ').nth(1).unwrap();
        assert!(error.contains(&format!("{file}: cannot write")), "{error}");
        assert!(!folder.path().join(file).exists());
        let left = std::fs::read_dir(&folder).unwrap().filter_map(Result::ok);
        assert!(left.into_iter().all(|entry| !entry.file_name().to_string_lossy().ends_with(".part")));
    }
}

/// What follows from a mistake is no second one.
#[test]
fn a_mistake_is_told_once() {
    let folder = TempDir::new().unwrap();
    let start = "[instrument]\nconnect = \"bench:tide-gauge\"\n[[line]]\nname = \"A\"\ninput = 0\n";
    let sampling = "[sampling]\nrate = \"1 MS/s\"\nlength = \"1 ms\"\n";
    let part =
        "part = \"P\"\nsource = \"x\"\npins = { A = \"a\" }\n[[limit]]\nsymbol = \"t\"\nkind = \"width\"\n";
    std::fs::write(folder.path().join("p.toml"), format!("{part}pulse = \"A high\"\nmin = \"1 ns\"\n"))
        .unwrap();
    for (text, wanted) in [
        ("[sampling]\nrate = \"1 MS/s\"\nlength = \"banana\"\n".to_string(), "'banana' is not a time"),
        (
            format!("{sampling}[[limit]]\nkind = \"width\"\npulse = \"A hgh\"\nmin = \"1 ns\"\n"),
            "did you mean 'high'?",
        ),
        (
            format!(
                "{sampling}[[part]]\nlimits = \"p.toml\"\nreference = \"U1\"\npins = {{ A = \"A\" }}\nonly = [\"t\"]\n"
            ),
            "'t' has no 'what'",
        ),
    ] {
        std::fs::write(folder.path().join("s.toml"), format!("{start}{text}")).unwrap();
        let said = refuses(folder.path(), &["plan", "s.toml"], &[wanted]);
        assert!(!said.contains("problems in all"), "{said}");
    }
    let folder = captured();
    refuses(folder.path(), &["show", "tide-gauge.dtap", "--span", "banana"], &["--around or --limit"]);
    refuses(
        folder.path(),
        &["show", "tide-gauge.dtap", "--around", "0 s", "--span", "banana"],
        &["'banana' is not a time"],
    );
}
