//! The view on a pseudo-terminal: what it leaves behind.

use std::fs::File;
use std::io::{Read, Write};
use std::process::{Command, Stdio};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

use nix::pty::{Winsize, openpty};
use nix::sys::signal::{Signal, kill};
use nix::sys::termios::tcgetattr;
use nix::unistd::Pid;
use tempfile::TempDir;

use crate::support::{binary, captured, tool};

/// Starts the view on a terminal of 80 columns and 24 lines, waits until it has drawn, types keys, or without any asks
/// the process to end, and waits for that.
/// What it wrote, its exit code, and whether the terminal is as it was.
fn on_a_terminal(folder: &TempDir, args: &[&str], keys: &[u8]) -> (String, Option<i32>, bool) {
    let size = Winsize { ws_row: 24, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 };
    let pair = openpty(&size, None).unwrap();
    let before = tcgetattr(&pair.slave).unwrap();
    let end = || Stdio::from(pair.slave.try_clone().unwrap());
    let mut child = Command::new(binary())
        .args(args)
        .env("TERM", "xterm-256color")
        .current_dir(folder)
        .stdin(end())
        .stdout(end())
        .stderr(end())
        .spawn()
        .unwrap();
    let (mut reads, mut writes) = (File::from(pair.master.try_clone().unwrap()), File::from(pair.master));
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let mut bytes = [0; 4096];
        while let Ok(count @ 1..) = reads.read(&mut bytes) {
            if sender.send(bytes[..count].to_vec()).is_err() {
                return;
            }
        }
    });
    let mut seen = Vec::new();
    let mut typed = false;
    let begun = Instant::now();
    let status = loop {
        while let Ok(bytes) = receiver.recv_timeout(Duration::from_millis(20)) {
            seen.extend(bytes);
        }
        // The last line of the screen is drawn last: that of the view, or of the table of lines.
        let drawn = ["quit", " q ends"].iter().any(|last| String::from_utf8_lossy(&seen).contains(last));
        if !typed && drawn {
            typed = true;
            writes.write_all(keys).unwrap();
            if keys.is_empty() {
                kill(Pid::from_raw(child.id() as i32), Signal::SIGTERM).unwrap();
            }
        }
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        if begun.elapsed() > Duration::from_secs(60) {
            child.kill().unwrap();
            panic!("{args:?} does not end: {}", String::from_utf8_lossy(&seen));
        }
    };
    while let Ok(bytes) = receiver.recv_timeout(Duration::from_millis(100)) {
        seen.extend(bytes);
    }
    let same = tcgetattr(&pair.slave).unwrap() == before;
    (String::from_utf8_lossy(&seen).into_owned(), status.code(), same)
}

#[test]
fn the_terminal_is_whole_again() {
    let folder = captured();
    for keys in [&b"q"[..], b"+++..m.vqq", b"\x03", b"/RESET_N rises\rq", b""] {
        let (seen, code, same) = on_a_terminal(&folder, &["view", "tide-gauge.dtap"], keys);
        assert_eq!(code, Some(0), "{keys:?}: {seen}");
        let (entered, left) = (seen.find("\x1b[?1049h").unwrap(), seen.rfind("\x1b[?1049l").unwrap());
        assert!(entered < left && same, "{keys:?}: another screen is left, and the terminal as it was");
    }
    // The command that draws what was saved is told after the end.
    let (seen, _, _) = on_a_terminal(&folder, &["view", "tide-gauge.dtap", "--at", "RESET_N rises"], b"sq");
    let said = &seen[seen.rfind("\x1b[?1049l").unwrap()..];
    assert!(said.contains("next: deep-tap show tide-gauge.dtap --from "), "{said}");
    assert!(["png", "svg"].iter().any(|ending| folder.path().join(format!("view-0001.{ending}")).exists()));
    // The table of all lines has a screen of its own, and what was seen last stays.
    let (seen, code, same) = on_a_terminal(&folder, &["live", "setups/tide-gauge.toml"], b"q");
    let (entered, left) = (seen.find("\x1b[?1049h").unwrap(), seen.rfind("\x1b[?1049l").unwrap());
    assert!(code.is_some() && entered < left && same, "{seen}");
    assert!(seen[left..].contains("lines have changed"), "{}", &seen[left..]);
    // An instrument that waits for ever is left at once.
    let setup = std::fs::read_to_string(folder.path().join("setups/tide-gauge.toml")).unwrap();
    let never: String = setup
        .lines()
        .filter(|line| !line.starts_with("time-out"))
        .map(|line| match line {
            line if line.starts_with("event = ") => "event = \"RESET_N falls\"\n".to_string(),
            line => format!("{line}\n"),
        })
        .collect();
    std::fs::write(folder.path().join("setups/never.toml"), never).unwrap();
    let (seen, code, same) = on_a_terminal(&folder, &["view", "setups/never.toml"], b"q");
    assert!(code == Some(0) && same, "{seen}");
}

#[test]
fn without_a_terminal_it_says_what_draws_the_same() {
    let folder = captured();
    let output = tool().current_dir(&folder).args(["view", "tide-gauge.dtap"]).output().unwrap();
    let told = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.code() == Some(2) && told.contains("deep-tap show"), "{told}");
}

/// A window that is closed ends what ran in it: without a terminal, waiting for a key takes all of a processor.
#[test]
fn a_terminal_that_is_gone_ends_it() {
    let folder = captured();
    for args in [&["view", "tide-gauge.dtap"][..], &["live", "setups/tide-gauge.toml"]] {
        let size = Winsize { ws_row: 24, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 };
        let pair = openpty(&size, None).unwrap();
        // A copy is not inherited by what is started, which would keep its own terminal open.
        let mut reads = File::from(pair.master.try_clone().unwrap());
        drop(pair.master);
        let end = || Stdio::from(pair.slave.try_clone().unwrap());
        let mut child = Command::new(binary())
            .args(args)
            .env("TERM", "xterm-256color")
            .current_dir(&folder)
            .stdin(end())
            .stdout(end())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        drop(pair.slave);
        let mut seen = Vec::new();
        let mut bytes = [0; 4096];
        while !String::from_utf8_lossy(&seen).contains("?1049h") {
            let count = reads.read(&mut bytes).unwrap();
            seen.extend_from_slice(&bytes[..count]);
        }
        drop(reads);
        let begun = Instant::now();
        while child.try_wait().unwrap().is_none() {
            if begun.elapsed() > Duration::from_secs(30) {
                child.kill().unwrap();
                panic!("{args:?} goes on without a terminal");
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
