//! A decoder that panics while the view draws: the terminal is as it was.
//!
//! This program of tests runs itself once more, on a pseudo-terminal.

use std::fs::File;
use std::io::Read;
use std::ops::ControlFlow;
use std::path::Path;
use std::process::{Command, Stdio};

use deep_tap::bus::{Decoder, FrameSink};
use deep_tap::capture::{Capture, Trace};
use deep_tap::decode::{CustomProtocol, Protocol, SerialBus};
use deep_tap::job::Job;
use deep_tap::line::{Level, Levels, LineId};
use deep_tap::setup::Setup;
use deep_tap::time::{Tick, TimeBase};
use nix::pty::{Winsize, openpty};
use nix::sys::termios::tcgetattr;

use super::on_the_terminal;
use super::screen::Screen;
use super::viewer::Viewer;

/// Says that this is the program on the pseudo-terminal.
const INSIDE: &str = "DEEP_TAP_TEST_INSIDE";

/// Panics at the first change.
#[derive(Debug)]
struct Panics;

impl Decoder for Panics {
    fn lines(&self) -> usize {
        1
    }

    fn begin(&mut self, _: Tick, _: Levels) {}

    fn change(&mut self, _: Tick, _: Levels, _: &mut dyn FrameSink) -> ControlFlow<()> {
        panic!("a decoder that is wrong")
    }

    fn end(&mut self, _: Tick, _: &mut dyn FrameSink) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
}

#[derive(Debug)]
struct Wrong;

impl CustomProtocol for Wrong {
    fn name(&self) -> &'static str {
        "wrong"
    }

    fn roles(&self) -> &[&'static str] {
        &["line"]
    }

    fn words(&self) -> &'static [&'static str] {
        &["frame"]
    }

    fn decoder(&self, _: TimeBase) -> deep_tap::Result<Box<dyn Decoder>> {
        Ok(Box::new(Panics))
    }
}

fn look() {
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
    let line = Trace::toggling(Level::Low, [10, 20], 100).unwrap();
    let capture = Capture::builder(base, 100).line("L", line).build().unwrap();
    let bus = SerialBus::new("wrong", Protocol::custom(Wrong), [("line", LineId(0))]).unwrap();
    let setup = Setup { serial: vec![bus], ..Setup::default() };
    let job = Job::recorded(capture, setup, Path::new("x.dtap"));
    let _ = on_the_terminal(&mut Screen::new(Viewer::new(job), "x.dtap".to_string(), None));
}

#[test]
fn a_panic_leaves_the_terminal_as_it_was() {
    if std::env::var_os(INSIDE).is_some() {
        return look();
    }
    let size = Winsize { ws_row: 24, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 };
    let pair = openpty(&size, None).unwrap();
    let before = tcgetattr(&pair.slave).unwrap();
    let end = || Stdio::from(pair.slave.try_clone().unwrap());
    let mut child = Command::new(std::env::current_exe().unwrap())
        .args([
            "--exact",
            "view::panics::a_panic_leaves_the_terminal_as_it_was",
            "--nocapture",
            "--test-threads=1",
        ])
        .env(INSIDE, "1")
        .env("TERM", "xterm-256color")
        .stdin(end())
        .stdout(end())
        .stderr(end())
        .spawn()
        .unwrap();
    let mut reads = File::from(pair.master);
    let seen = std::thread::spawn(move || {
        let (mut seen, mut bytes) = (Vec::new(), [0; 4096]);
        // Over when the last end of the terminal is closed.
        while let Ok(count @ 1..) = reads.read(&mut bytes) {
            seen.extend_from_slice(&bytes[..count]);
        }
        String::from_utf8_lossy(&seen).into_owned()
    });
    assert!(!child.wait().unwrap().success());
    assert_eq!(tcgetattr(&pair.slave).unwrap(), before);
    drop(pair.slave);
    let seen = seen.join().unwrap();
    let entered = seen.find("\x1b[?1049h").expect("the other screen");
    let left = seen.rfind("\x1b[?1049l").expect("the first screen again");
    let told = seen.find("a decoder that is wrong").expect("what went wrong is told");
    assert!(entered < left && left < told, "{seen:?}");
    let (taken, let_go) = (seen.find("\x1b[?1000h"), seen.rfind("\x1b[?1000l"));
    assert!(taken.is_some() && taken < let_go, "the mouse is let go: {seen:?}");
}
