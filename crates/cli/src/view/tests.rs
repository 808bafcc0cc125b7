//! The view, key by key, on a screen in memory.

use std::path::Path;
use std::time::{Duration, Instant};

use deep_tap::bench::connect;
use deep_tap::capture::{Attachment, Capture, Note, Trace};
use deep_tap::job::Job;
use deep_tap::line::{Bus, Level, LineId};
use deep_tap::setup::{Attached, Session, Setup};
use deep_tap::time::{Resolution, Tick, TimeBase};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};

use super::action::{Action, KEYS, LIVE_KEYS};
use super::heed;
use super::live::Live;
use super::paint::paint;
use super::screen::Screen;
use super::viewer::Viewer;

/// A clock, a sender of bytes, two lines that are a bus.
const SETUP: &str = r#"
title = "bench"
[[line]]
name = "CLK"
[[line]]
name = "TX"
[[line]]
name = "S1"
[[line]]
name = "S0"
[[bus]]
name = "STATE"
lines = ["S1", "S0"]
[[bus]]
name = "console"
kind = "uart"
line = "TX"
bit-rate = "100 kHz"
[[limit]]
kind = "width"
symbol = "tCH"
pulse = "CLK high"
min = "40 us"
[[mark]]
name = "stepped"
at = "S1 rises"
"#;

fn setup() -> Setup {
    let texts = [Attachment { name: "s.toml".into(), text: SETUP.into() }];
    Setup::load("s.toml", &Attached(&texts)).unwrap()
}

fn job() -> Job {
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap().with_zero(Tick(2000));
    let len = 10_000;
    let toggles = |start: Level, ticks: &[u64]| Trace::toggling(start, ticks.iter().copied(), len).unwrap();
    let clock: Vec<u64> = (1..100).map(|n| n * 100).collect();
    // 0x41: a start bit, 1 0 0 0 0 0 1 0, and a stop bit.
    let byte = |at: u64| [0, 10, 20, 70, 80, 90].map(|bit| at + bit);
    let sent: Vec<u64> = [3000, 3200, 3400].into_iter().flat_map(byte).collect();
    let capture = Capture::builder(base, len)
        .resolution(Resolution::SAMPLED)
        .line("CLK", toggles(Level::Low, &clock))
        .line("TX", toggles(Level::High, &sent))
        .line("S1", toggles(Level::Low, &[4000]))
        .line("S0", toggles(Level::High, &[5000]))
        .bus(Bus::new("STATE", vec![LineId(2), LineId(3)]).unwrap())
        .notes(vec![Note { name: "here".into(), at: Tick(6000), text: String::new() }])
        .build()
        .unwrap();
    Job::recorded(capture, setup(), Path::new("bench.dtap"))
}

#[test]
fn what_setup_and_record_mark_is_drawn_besides_the_waveforms() {
    let drawn = Keyboard::of(job()).keys("").join("\n");
    assert!(drawn.contains("here") && drawn.contains("stepped"), "{drawn}");
}

struct Keyboard {
    screen: Screen,
    terminal: Terminal<TestBackend>,
}

impl Keyboard {
    fn new(screen: Screen, (columns, lines): (u16, u16)) -> Self {
        let terminal = Terminal::new(TestBackend::new(columns, lines)).unwrap();
        let mut all = Keyboard { screen, terminal };
        all.draw();
        all
    }

    fn of(job: Job) -> Self {
        Keyboard::new(Screen::new(Viewer::new(job), "bench.dtap".to_string(), None), (80, 24))
    }

    fn draw(&mut self) {
        self.terminal.draw(|frame| paint(&mut self.screen, frame)).unwrap();
    }

    fn key(&mut self, code: KeyCode, modifiers: KeyModifiers) {
        heed(&mut self.screen, &Event::Key(KeyEvent::new(code, modifiers)));
        self.draw();
    }

    /// Types keys; what is then on the screen, line by line.
    fn keys(&mut self, keys: &str) -> Vec<String> {
        for key in keys.chars() {
            let code = match key {
                '\n' => KeyCode::Enter,
                '←' => KeyCode::Left,
                '→' => KeyCode::Right,
                '↑' => KeyCode::Up,
                '↓' => KeyCode::Down,
                key => KeyCode::Char(key),
            };
            self.key(code, KeyModifiers::NONE);
        }
        let buffer = self.terminal.backend().buffer();
        let width = usize::from(buffer.area.width);
        let cells: Vec<&str> = buffer.content().iter().map(ratatui::buffer::Cell::symbol).collect();
        cells.chunks(width).map(|line| line.concat().trim_end().to_string()).collect()
    }

    fn foot(&mut self, keys: &str) -> String {
        let lines = self.keys(keys);
        lines[lines.len() - 3..].join("\n")
    }
}

#[test]
fn it_begins_with_the_whole_record_and_the_trigger() {
    let lines = Keyboard::of(job()).keys("");
    assert_eq!(lines[0], " bench.dtap  bench  1 MS/s");
    assert!(lines[1].trim().starts_with("-2.000 ms to 8.000 ms, "), "{}", lines[1]);
    assert!(lines[3].contains("▼here"), "{lines:#?}");
    let at = |name: &str| lines.iter().position(|line| line.starts_with(name)).unwrap();
    // The lines of a group are not shown besides, and the frames stand under their line.
    assert!(at("CLK") < at("TX") && at("TX") < at("console") && at("console") < at("STATE"));
    assert!(lines.iter().all(|line| !line.starts_with("S1")));
    assert!(lines[at("STATE")].contains("0x1"), "{}", lines[at("STATE")]);
    assert!(lines[21].starts_with(" at 0 us   CLK "), "{}", lines[21]);
}

#[test]
fn edges_are_stepped_through_and_the_time_between_has_bounds() {
    let mut keyboard = Keyboard::of(job());
    let foot = keyboard.foot(".m..");
    assert!(foot.starts_with(" at 300 us   CLK 1"), "{foot}");
    assert!(foot.contains("between the cursors: 200 us ± 1000 ns, 2 edges of CLK"), "{foot}");
    assert!(keyboard.foot(",").starts_with(" at 200 us"));
    // On frames, where they begin.
    let foot = keyboard.foot("↓↓.");
    assert!(foot.starts_with(" at 1.000 ms   byte data=0x41"), "{foot}");
    assert!(keyboard.foot(".").starts_with(" at 1.200 ms"));
    assert!(keyboard.foot("..").contains("nothing more on this row after 1.400 ms"));
    // Without edges at both ends there is no telling how well it is known.
    assert!(keyboard.foot("→").contains("between the cursors: 1.") && !keyboard.foot("").contains('±'));
}

#[test]
fn zoom_keeps_the_cursor_where_it_is_and_ends_at_the_record() {
    let mut keyboard = Keyboard::of(job());
    let caption = |lines: &[String]| lines[1].trim().to_string();
    assert!(caption(&keyboard.keys("+")).starts_with("-1.000 ms to 4.000 ms"));
    assert!(keyboard.keys("++++++++++++++++++++").iter().any(|line| line.contains("CLK")));
    assert!(caption(&keyboard.keys("0")).starts_with("-2.000 ms to 8.000 ms"));
    assert!(caption(&keyboard.keys("---")).starts_with("-2.000 ms to 8.000 ms"));
    assert!(keyboard.foot("++ghere\n").starts_with(" at 4.000 ms"));
    assert!(keyboard.foot("t").starts_with(" at 0 us"));
    assert!(keyboard.foot("g99 s\n").contains("outside the record"));
    assert!(keyboard.foot("gS0 falls\n").starts_with(" at 3.000 ms"));
}

#[test]
fn a_search_jumps_from_hit_to_hit() {
    let mut keyboard = Keyboard::of(job());
    let first = keyboard.foot("/console has data == 0x41\n");
    assert!(first.starts_with(" at 1.100 ms"), "{first}");
    let second = keyboard.foot("n");
    assert!(second.starts_with(" at 1.300 ms"), "{second}");
    assert!(keyboard.foot("nn").contains("does not happen after the cursor"));
    assert!(keyboard.foot("N").starts_with(" at 1.300 ms"));
    assert!(keyboard.keys("")[3].contains('│'), "hits are ticks above the waveforms");
    let wrong = keyboard.foot("/NOPE rises\n");
    assert!(wrong.contains("NOPE"), "{wrong}");
    assert!(keyboard.foot("/\nn").contains("look for an event first"));
}

#[test]
fn rows_are_hidden_moved_opened_and_written_otherwise() {
    let mut keyboard = Keyboard::of(job());
    let shown = |lines: &[String]| -> Vec<String> {
        let known = ["CLK", "TX", "console", "STATE", "S1", "S0"];
        let names = lines[4..21].iter().filter(|line| !line.starts_with(' '));
        let names = names.filter_map(|line| line.split_whitespace().next());
        names.filter(|name| known.contains(name)).map(str::to_string).collect()
    };
    assert_eq!(shown(&keyboard.keys("x"))[0], "TX");
    assert_eq!(shown(&keyboard.keys("X"))[0], "CLK");
    let opened = shown(&keyboard.keys("↓↓↓b"));
    assert!(opened.ends_with(&["STATE".into(), "S1".into(), "S0".into()]), "{opened:?}");
    assert_eq!(shown(&keyboard.keys("b")).last().unwrap(), "STATE");
    let lines = keyboard.keys("r");
    assert!(lines.iter().any(|line| line.starts_with("STATE") && line.contains("0b01")), "{lines:#?}");
    assert_eq!(shown(&keyboard.keys("[["))[1], "STATE");
    assert!(keyboard.foot("↑b").contains("select a group of lines"));
}

#[test]
fn lists_lead_to_their_places() {
    let mut keyboard = Keyboard::of(job());
    let lines = keyboard.keys("v");
    assert!(lines.iter().any(|line| line.contains("tCH") && line.contains("pass")), "{lines:#?}");
    assert!(keyboard.foot("\nq").starts_with(" at "), "Enter jumps, q closes");
    assert!(!keyboard.screen.over);
    let lines = keyboard.keys("0f");
    assert_eq!(lines.iter().filter(|line| line.contains("byte data=0x41")).count(), 3, "{lines:#?}");
    let there = keyboard.keys("↓\nq");
    assert!(there[21].starts_with(" at 1.200 ms"), "{there:#?}");
    // What was too small to be seen is drawn nearer.
    assert!(there.iter().any(|line| line.contains("0x41 'A'")), "{there:#?}");
    let help = keyboard.keys("?");
    assert!(help.iter().any(|line| line.contains("the whole record")));
    keyboard.keys("?q");
    assert!(keyboard.screen.over);
}

#[test]
fn any_window_and_any_key_will_do() {
    let all = "+-0t.,m/x\ngx\nvfXxxxxxxx[]brR?TkaAS\n↑↓←→nNe#µ";
    for size in [(1, 1), (20, 5), (30, 8), (80, 24), (300, 80)] {
        let mut keyboard = Keyboard::new(Screen::new(Viewer::new(job()), "b".to_string(), None), size);
        keyboard.keys(all);
        keyboard.keys(&all.chars().rev().collect::<String>());
    }
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
    let empty = Job::recorded(Capture::builder(base, 0).build().unwrap(), setup(), Path::new("e.dtap"));
    Keyboard::of(empty).keys(all);
}

#[test]
fn an_instrument_is_armed_and_changed_in_place() {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../setups/tide-gauge.toml");
    let setup = Setup::from_file(&file).unwrap();
    let instrument = connect("bench:tide-gauge", Path::new("")).unwrap();
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let nothing = Capture::builder(base, 0).build().unwrap();
    let nothing = Job::recorded(nothing, setup.clone(), Path::new("t.toml"));
    let mut live = Live::new(Session::new(setup, instrument), Path::new("t.toml"));
    live.arm(false);
    let screen = Screen::new(Viewer::new(nothing), "t.toml".to_string(), Some(live));
    let mut keyboard = Keyboard::new(screen, (160, 30));
    let until = |keyboard: &mut Keyboard, wanted: &[&str]| {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(60) {
            keyboard.screen.listen();
            keyboard.draw();
            let head = keyboard.keys("")[0].clone();
            if wanted.iter().any(|wanted| head.contains(wanted)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        panic!("{wanted:?}: {:#?}", keyboard.keys(""));
    };
    until(&mut keyboard, &["100 MS/s  [recorded 25 ms]"]);
    assert!(keyboard.keys("").iter().any(|line| line.starts_with("RESET_N")));
    // Another rate in place; what makes no sense, and what the instrument cannot do.
    keyboard.keys("R20 MS/s\n");
    until(&mut keyboard, &["20 MS/s  [recorded 25 ms]"]);
    let refused = keyboard.foot("TNOPE\n");
    assert!(refused.contains("--trigger"), "{refused}");
    keyboard.keys("R3 GS/s\n");
    until(&mut keyboard, &["does not record 22 lines at 3 GS/s"]);
    // Nothing typed is what the setup says.
    keyboard.keys("R\n");
    until(&mut keyboard, &["100 MS/s  [recorded 25 ms]"]);
    // A trigger that does not come is told, and waited for again only where that is wanted.
    keyboard.screen.act(Action::Trigger);
    keyboard.key(KeyCode::Char('u'), KeyModifiers::CONTROL);
    keyboard.keys("RESET_N falls\n");
    until(&mut keyboard, &["did not come within"]);
    keyboard.keys("AS");
    until(&mut keyboard, &["[stopped]", "did not come within"]);
}

#[test]
fn violations_curves_and_rows_by_name_are_a_key_away() {
    let mut all = Keyboard::of(job());
    // Every pulse of 100 us passes 40 us, but for a limit that asks for more than a clock has.
    let drawn = all.keys("w").join("\n");
    assert!(drawn.contains("no limit is violated"), "{drawn}");
    let harder = SETUP.replace("min = \"40 us\"", "max = \"40 us\"");
    let texts = [Attachment { name: "s.toml".into(), text: harder }];
    let Job { capture, .. } = job();
    let setup = Setup::load("s.toml", &Attached(&texts)).unwrap();
    let mut all = Keyboard::of(Job::recorded(capture, setup, Path::new("bench.dtap")));
    let drawn = all.keys("w").join("\n");
    assert!(drawn.contains("tCH: 100 us") && drawn.contains("required ≤ 40 us"), "{drawn}");
    let first = all.screen.viewer.cursor.tick;
    all.keys("w");
    assert_eq!(all.screen.viewer.cursor.tick.since(first), 200);
    all.keys("W");
    assert_eq!(all.screen.viewer.cursor.tick, first);
    // A row by a part of its name, in any case; one that a group hides is shown.
    let state = all.keys("lsta\n").join("\n");
    assert_eq!(all.screen.viewer.name_of(all.screen.viewer.selected_row().unwrap()), "STATE", "{state}");
    let curve = all.keys("0c").join("\n");
    assert!(curve.contains('▀') && all.screen.viewer.curves() == ["STATE"], "{curve}");
    all.keys("ls0\n");
    assert_eq!(all.screen.viewer.name_of(all.screen.viewer.selected_row().unwrap()), "S0");
    let wrong = all.keys("lXYZ\n").join("\n");
    assert!(wrong.contains("no row is called 'XYZ'"), "{wrong}");
}

/// Every key is on the help of a screen of 24 lines, those of an instrument, too.
#[test]
fn all_keys_are_on_one_screen() {
    let all = KEYS.len() + LIVE_KEYS.len();
    assert!(all + 2 <= 24, "{all} lines and a frame");
    let longest = KEYS.iter().chain(LIVE_KEYS).map(|(_, what)| what.chars().count()).max().unwrap();
    assert!(longest <= 60, "{longest}");
}

/// The main states of the view, as recorded in `tests/fixtures/screens`; `RECORD=1` records them anew, to be read
/// before they are kept.
#[test]
fn the_main_states_look_as_they_were_recorded() {
    let states = [
        ("whole", ""),
        ("frames", "g1.05 ms\n+++++"),
        ("cursors", "t++++.m..."),
        ("verdicts", "v"),
        ("list-of-frames", "↓↓f"),
        ("open-bus", "lstate\nbr"),
        ("search", "/CLK rises while S1 high\n+++"),
        ("help", "?"),
    ];
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures/screens");
    for (name, keys) in states {
        let seen = Keyboard::of(job()).keys(keys).join("\n") + "\n";
        let path = folder.join(format!("{name}.txt"));
        if std::env::var_os("RECORD").is_some() {
            std::fs::create_dir_all(&folder).unwrap();
            std::fs::write(&path, &seen).unwrap();
        }
        let recorded = std::fs::read_to_string(&path).unwrap();
        assert!(recorded.lines().eq(seen.lines()), "{name} was\n{recorded}\nand is\n{seen}");
    }
}
