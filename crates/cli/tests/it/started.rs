//! Programs that are started beside a recording: as an instrument, and when it is armed.
#![cfg(unix)]

use std::path::Path;
use std::time::{Duration, Instant};

use tempfile::TempDir;

use crate::support::tool;

fn run(folder: &Path, args: &[&str]) -> (i32, String, String) {
    let output = tool().current_dir(folder).args(args).output().unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    (output.status.code().unwrap(), text(output.stdout), text(output.stderr))
}

/// A setup of an instrument that is this address, with a line that rises.
fn setup(folder: &Path, name: &str, connect: &str) {
    let text = format!(
        "[instrument]\nconnect = '''{connect}'''\n[sampling]\nrate = \"1 MS/s\"\nlength = \"5 ms\"\n\
         [[line]]\nname = \"A\"\ninput = 2\n[[line]]\nname = \"B\"\ninput = 0\n[trigger]\nevent = \"A rises\"\n"
    );
    std::fs::write(folder.join(name), text).unwrap();
}

/// Whether a process with this in its command line is alive.
fn is_alive(mark: &str) -> bool {
    let processes =
        std::fs::read_dir("/proc").map(|entries| entries.flatten().collect()).unwrap_or_else(|_| vec![]);
    processes.iter().any(|process| {
        let line = std::fs::read(process.path().join("cmdline")).unwrap_or_default();
        // Of those that have ended, and are only not yet reaped, it is empty.
        String::from_utf8_lossy(&line).replace('\0', " ").contains(mark)
    })
}

#[test]
fn a_program_is_an_instrument() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    // It writes what it was asked for, and samples without end; a child of its own goes on besides.
    let endless =
        r"echo {rate} {inputs} > asked; sleep 987654 & head -c 20000 /dev/zero; printf '\004'; cat /dev/zero";
    setup(folder, "p.toml", &format!("program:{endless}?rate=1 MS/s,2 MS/s&width=1"));
    let (code, said, told) = run(folder, &["capture", "p.toml"]);
    assert!(
        code == 0 && said.contains("recorded 5 ms at 1 MS/s: 5 k samples, 2 lines, 2 edges"),
        "{said}{told}"
    );
    assert_eq!(std::fs::read_to_string(folder.join("asked")).unwrap(), "1000000 2,0\n");
    assert!(!is_alive("sleep 987654"), "what it started ends with it");
    // Every recording starts it anew, at the rate that is asked for.
    let (code, said, told) = run(folder, &["capture", "p.toml", "--rate", "max", "--repeat", "2"]);
    assert!(code == 0 && said.contains("2 captures"), "{said}{told}");
    assert_eq!(std::fs::read_to_string(folder.join("asked")).unwrap(), "2000000 2,0\n");
    let (code, said, _) = run(folder, &["live", "p.toml", "--once", "--over", "50 ms"]);
    assert!(code == 0 && said.contains("1 of 2 lines have changed"), "{said}");
    // Whoever opens a capture does not know what it would start.
    for args in [&["capture", "p.dtap", "--numbered"][..], &["plan", "p.dtap"], &["live", "p.dtap"]] {
        std::fs::remove_file(folder.join("asked")).ok();
        let (code, _, told) = run(folder, args);
        assert!(code == 2 && told.contains("a capture starts no program"), "{told}");
        assert!(!folder.join("asked").exists());
    }
    std::fs::write(folder.join("n.toml"), "include = [\"p.dtap\"]\n").unwrap();
    assert!(run(folder, &["plan", "n.toml"]).2.contains("a capture starts no program"));
    let own = format!(
        "include = [\"p.dtap\"]\n[instrument]\nconnect = '''program:{endless}?rate=1 MS/s&width=1'''\n"
    );
    std::fs::write(folder.join("n.toml"), own).unwrap();
    assert_eq!(run(folder, &["plan", "n.toml"]).0, 0);
}

#[test]
fn a_program_that_does_not_play_along_is_told_with_what_it_said() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    for (command, options, wanted) in [
        ("no-such-sampler --fast", "", &["ended with exit code 127", "no-such-sampler"][..]),
        (
            "echo probe is in use >&2; exit 4",
            "",
            &["ended with exit code 4, after 0 samples", "it said: probe is in use"],
        ),
        (
            "head -c 3000 /dev/zero; kill -9 $$",
            "",
            &["ended by signal 9, after 3000 samples", "it said nothing"],
        ),
        ("head -c 3000 /dev/zero", "", &["did not come before the record ended after 3 ms"]),
        (
            "sleep 876543",
            "&patience=200 ms",
            &["has delivered nothing for 0.2 s", "started as: sleep 876543"],
        ),
        ("head -c 0 /dev/zero", "&patience=nonsense", &["patience"]),
        (r"printf '\033[2Jcleared' >&2; exit 1", "", &["cleared", "exit code 1"]),
        ("cat /dev/zero", "&rows=samples", &["'rows' cannot be stated of a program"]),
        ("", "", &["no command to start"]),
    ] {
        setup(folder, "p.toml", &format!("program:{command}?rate=1 MS/s&width=1{options}"));
        let begun = Instant::now();
        let (code, _, told) = run(folder, &["capture", "p.toml"]);
        assert!(code == 2 && wanted.iter().all(|wanted| told.contains(wanted)), "{command}: {told}");
        assert!(!told.contains('\x1b'), "{told:?}");
        assert!(begun.elapsed() < Duration::from_secs(60), "{command} did not end");
        assert!(!folder.join("p.dtap").exists());
    }
    assert!(!is_alive("sleep 876543"));
    // One that dies while it is recorded leaves what it had delivered.
    setup(
        folder,
        "p.toml",
        r"program:printf '\000\000\004'; head -c 1000 /dev/zero; exit 9?rate=1 MS/s&width=1",
    );
    let (code, _, told) = run(folder, &["capture", "p.toml"]);
    assert!(code == 2 && told.contains("exit code 9, after 1003 samples"), "{told}");
    assert!(told.contains("what was recorded until then is in p.dtap"), "{told}");
    assert!(run(folder, &["find", "p.dtap", "A rises"]).1.starts_with("once"));
    // What it writes is samples, whatever it was meant to be; half of one is told.
    setup(folder, "p.toml", "program:echo usage: sampler FILES?rate=1 MS/s&width=2&byte-order=big");
    let (code, said, told) = run(folder, &["capture", "p.toml", "--now", "--replace"]);
    assert!(code == 0 && said.contains("10 samples"), "{said}{told}");
    assert!(told.contains("ended in the middle of one"), "{told}");
}

#[test]
fn a_command_is_started_when_the_instrument_waits() {
    let folder = TempDir::new().unwrap();
    let folder = folder.path();
    let done = std::process::Command::new("mkfifo").arg(folder.join("board")).status();
    assert!(done.unwrap().success());
    setup(folder, "s.toml", "pipe:board?rate=1 MS/s&width=1");
    // Nothing comes through the pipe before the command writes to it.
    let reset = r"echo reset done; { printf '\000\004'; head -c 9000 /dev/zero; } > board";
    let (code, said, told) = run(folder, &["capture", "s.toml", "--when-armed", reset]);
    assert!(code == 0 && said.contains("recorded 5 ms"), "{said}{told}");
    assert!(told.contains("the command ended with exit code 0; it said: reset done"), "{told}");
    let (_, said, _) = run(folder, &["info", "s.dtap"]);
    assert!(said.contains("when the instrument was armed: echo reset done"), "{said}");
    // A failure of it is told and counts, and the record stays.
    let failing = format!("{reset}; exit 5");
    let (code, _, told) = run(folder, &["capture", "s.toml", "--when-armed", &failing, "--numbered"]);
    assert!(code == 3 && told.contains("the command ended with exit code 5"), "{told}");
    assert!(folder.join("s-0001.dtap").exists());
    let (code, _, told) = run(folder, &["capture", "s.toml", "--when-armed", &failing, "--repeat", "2"]);
    assert!(code == 3 && told.matches("exit code 5").count() == 2, "{told}");
    // One that goes on is stopped, after the record as after a trigger that does not come.
    let endless = format!("{reset}; sleep 765432");
    let (code, _, told) = run(folder, &["capture", "s.toml", "--when-armed", &endless, "--replace"]);
    assert!(code == 0 && told.contains("still running after the recording, and was stopped"), "{told}");
    let never = r"{ head -c 9000 /dev/zero; } > board; sleep 765432";
    let (code, _, told) = run(folder, &["capture", "s.toml", "--when-armed", never, "--replace"]);
    assert!(code == 2 && told.contains("did not come before the record ended"), "{told}");
    assert!(!is_alive("sleep 765432"));
}
