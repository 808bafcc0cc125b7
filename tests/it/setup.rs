//! Setup and limits files: all problems at once, each at its place and with a remedy.

use deep_tap::capture::Attachment;
use deep_tap::plan::Speed;
use deep_tap::setup::{Attached, Setup, Trigger};
use deep_tap::{Error, Place};
use proptest::prelude::*;

use crate::support::{root, setup};

/// `line:column message | help` of every problem.
fn told(error: &Error) -> Vec<String> {
    let one = |e: &Error| {
        let place = match e.place() {
            Some(Place::Text(text)) => format!("{}:{}", text.name, {
                let (line, column) = text.line_column();
                format!("{line}:{column}")
            }),
            other => format!("{other:?}"),
        };
        format!("{place} {} | {}", e.message(), e.help().unwrap_or("-"))
    };
    std::iter::once(one(error)).chain(error.related().iter().map(one)).collect()
}

fn load(files: &[(&str, &str)]) -> Result<Setup, Vec<String>> {
    let texts: Vec<Attachment> = files
        .iter()
        .map(|(name, text)| Attachment { name: name.to_string(), text: text.to_string() })
        .collect();
    Setup::load(files[0].0, &Attached(&texts)).map_err(|e| told(&e))
}

#[test]
fn all_problems_are_told_at_once_in_order_with_place_and_remedy() {
    let text = r#"titel = "x"
[sampling]
rate = "100 MHz"
length = 20
[[line]]
name = "A"
input = -1
[[line]]
name = "A"
input = 4
threshold = "LVCMOS 3 V"
[[bus]]
name = "B"
lines = ["A", "C", "A"]
[events]
go = "A rises while B hgh"
[trigger]
event = "A falls then no A rises"
"#;
    let problems = told(&setup(text).unwrap_err());
    let wanted = [
        "setup.toml:1:1 there is no key 'titel' | did you mean 'title'?",
        "setup.toml:3:8 'MHz' is not a unit of a sample rate: it is in S/s | write a rate like '100 MS/s', or 'max' for the fastest that fits",
        "setup.toml:4:10 '20' has no unit: a time is in s | write a time like '20 ms', or 'max' for as long as the memory lasts",
        "setup.toml:7:9 'input' is a number; it should be a whole number from 0 on | -",
        "setup.toml:9:8 the name 'A' is used for a line and a line | rename one of them",
        "setup.toml:11:13 'LVCMOS 3 V' is neither a logic family nor a voltage | did you mean 'LVCMOS 3.3 V'?",
        "setup.toml:14:15 there is no line 'C' | did you mean 'A'?",
        "setup.toml:16:23 'hgh' cannot follow here | did you mean 'high'?",
        "setup.toml:18:10 the last step waits for something not to happen, without end | without a time it can always still come: add 'within 5 us', or what must come first",
    ];
    assert_eq!(problems, wanted);
}

const PART: &str = r#"
part = "P"
source = "made up"
[pins]
D = "data"
C = "clock"
[[limit]]
symbol = "tDS"
what = "setup"
kind = "setup"
data = "D"
reference = "C rises"
min = "5 ns"
"#;

const BOARD: &str = r#"
[[line]]
name = "DATA"
[[line]]
name = "CLK"
"#;

#[test]
fn parts_are_bound_pin_by_pin() {
    let with = |pins: &str| {
        format!("{BOARD}[[part]]\nreference = \"U1\"\nlimits = \"p.toml\"\npins = {{ {pins} }}\n")
    };
    let good = load(&[("s.toml", &with("D = \"DATA\", C = \"CLK\"")), ("p.toml", PART)]).unwrap();
    assert_eq!(good.limits().count(), 1);
    assert_eq!(good.texts.len(), 2, "the setup carries what it was made from");
    for (pins, wanted) in [
        ("D = \"DATA\"", "s.toml:6:1 U1 (P): pin C not bound to a line"),
        ("D = \"DATA\", C = \"CLOCK\"", "s.toml:9:26 pin C of U1: there is no line or bus 'CLOCK'"),
        ("D = \"DATA\", C = \"CLK\", E = \"CLK\"", "s.toml:9:33 P has no pin 'E'"),
        ("D = 3, C = \"CLK\"", "s.toml:6:1 U1 (P): pin D not bound to a line"),
    ] {
        let problems = load(&[("s.toml", &with(pins)), ("p.toml", PART)]).unwrap_err();
        assert!(problems.iter().any(|p| p.starts_with(wanted)), "{pins}: {problems:?}");
    }
    // A pin that is not wired takes its limits with it, and says so.
    let unwired = load(&[("s.toml", &with("D = false, C = \"CLK\"")), ("p.toml", PART)]).unwrap();
    assert_eq!(
        (unwired.limits().count(), unwired.parts[0].not_wired.as_slice()),
        (0, &["tDS".to_string()][..])
    );
    let missing = load(&[("s.toml", &with("D = \"DATA\", C = \"CLK\""))]).unwrap_err();
    assert!(missing[0].starts_with("s.toml:8:10 p.toml: the capture does not carry"), "{missing:?}");
}

#[test]
fn a_limits_file_is_checked_by_itself_and_on_the_board() {
    let board = format!(
        "{BOARD}[[part]]\nreference = \"U1\"\nlimits = \"p.toml\"\npins = {{ D = \"DATA\", C = \"CLK\" }}\n"
    );
    for (from, to, wanted) in [
        (
            "min = \"5 ns\"",
            "min = \"5 ns\"\nmax = \"4 ns\"",
            "p.toml:13:7 the minimum 5 ns is above the maximum 4 ns",
        ),
        ("min = \"5 ns\"", "", "p.toml:7:1 [[limit]] 'tDS' has no 'min' or 'max'"),
        ("min = \"5 ns\"", "min = 5", "p.toml:13:7 '5' has no unit"),
        ("min = \"5 ns\"", "min = \"5 nz\"", "p.toml:13:10 'nz' is no unit, and no value or limit"),
        ("min = \"5 ns\"", "min = \"5 V\"", "p.toml:13:8 '5 V' is a voltage"),
        ("min = \"5 ns\"", "min = \"2 tDS\"", "p.toml:13:10 this formula refers to itself: tDS → tDS"),
        ("min = \"5 ns\"", "min = \"(1 ns + 2) * 3\"", "p.toml:13:9 a time and a plain number cannot be"),
        (
            "min = \"5 ns\"",
            "min = { hot = \"5 ns\" }",
            "p.toml:13:9 the part has no operating conditions 'hot'",
        ),
        ("C rises", "C rises while C low", "p.toml:12:13 'C rises while C low' can never happen"),
        ("kind = \"setup\"", "kind = \"steup\"", "p.toml:10:8 'steup' is not a kind of limit"),
        (
            "reference = \"C rises\"",
            "refernce = \"C rises\"",
            "p.toml:7:1 [[limit]] 'tDS' has no 'reference'",
        ),
        ("C rises", "C rises while", "p.toml:12:27 the expression ends where"),
        ("C rises", "CK rises", "p.toml:12:14 nothing is called 'CK'"),
        ("data = \"D\"", "data = \"D == 1\"", "p.toml:11:9 this is a condition; an event is an instant"),
        ("min = \"5 ns\"", "min = \"5 ns\"\nwhile = \"D hi\"", "p.toml:14:12 'hi' cannot follow here"),
    ] {
        let part = PART.replace(from, to);
        let problems = load(&[("s.toml", &board), ("p.toml", &part)]).unwrap_err();
        assert!(problems.iter().any(|p| p.starts_with(wanted)), "{wanted}: {problems:?}");
    }
}

#[test]
fn an_included_board_is_written_once() {
    let board =
        "[sampling]\nrate = \"10 MS/s\"\nlength = \"1 ms\"\n[[line]]\nname = \"A\"\n[[line]]\nname = \"B\"\n";
    let over = "include = \"boards/b.toml\"\n[sampling]\nrate = \"50 MS/s\"\n[[line]]\nname = \"C\"\n[trigger]\nevent = \"A rises while C low\"\n";
    let setup = load(&[("s.toml", over), ("boards/b.toml", board)]).unwrap();
    let names: Vec<&str> = setup.lines.iter().map(|l| l.line.name.as_str()).collect();
    assert_eq!(names, ["A", "B", "C"]);
    assert_eq!(
        setup.sampling.unwrap().speed,
        Speed::Rate("50 MS/s".parse().unwrap()),
        "the including file wins"
    );
    // What two files include is there once.
    let both = "include = [\"t.toml\", \"u.toml\"]\n";
    let shared = "include = \"boards/b.toml\"\n";
    let setup = load(&[("s.toml", both), ("t.toml", shared), ("u.toml", shared), ("boards/b.toml", board)]);
    assert_eq!(setup.unwrap().lines.len(), 2);
    let looping =
        load(&[("s.toml", "include = [\"t.toml\"]"), ("t.toml", "include = [\"s.toml\"]")]).unwrap_err();
    assert!(looping[0].contains("includes itself"), "{looping:?}");
}

/// However includes fan out, each file is read once, and there is an end to their number and their size.
#[test]
fn what_a_setup_may_pull_in_is_bounded() {
    let name = |level: usize, number: usize| format!("l{level}_{number}.toml");
    let all = |level: usize| (0..4).map(|n| format!("\"{}\"", name(level, n))).collect::<Vec<_>>().join(", ");
    let mut files: Vec<(String, String)> = Vec::new();
    for level in 0..15 {
        files.extend((0..4).map(|n| (name(level, n), format!("include = [{}]\n", all(level + 1)))));
    }
    files.extend((0..4).map(|n| (name(15, n), format!("[[line]]\nname = \"A{n}\"\n"))));
    let read = |files: &[(String, String)]| {
        let texts: Vec<(&str, &str)> = files.iter().map(|(name, text)| (&**name, &**text)).collect();
        load(&texts)
    };
    assert_eq!(read(&files).unwrap().lines.len(), 4);
    let many: Vec<String> = (0..400).map(|n| format!("\"f{n}.toml\"")).collect();
    let mut files = vec![("s.toml".to_string(), format!("include = [{}]\n", many.join(", ")))];
    files.extend((0..400).map(|n| (format!("f{n}.toml"), "# nothing\n".to_string())));
    let problems = read(&files).unwrap_err();
    assert!(problems[0].contains("may consist of 256 files"), "{}", problems[0]);
}

#[test]
fn texts_that_are_not_setups_are_refused_without_panic() {
    for text in [
        "",
        "\0",
        "[",
        "a = ",
        "[[line]]\n[line]\n",
        "[[line]]\nname = 3",
        "line = 3",
        "[sampling]\nrate = []",
        "[[bus]]\nname = \"B\"\nlines = []",
        "[[bus]]\nname = \"B\"\nsignal = \"x\"\nwidth = 99",
        "events = 3",
        "[events]\nx = 1",
        "[[part]]\nreference = \"U\"\nlimits = \"\"\npins = 1",
        "include = 5",
        "include = [\"\"]",
    ] {
        if let Err(error) = setup(text) {
            for problem in told(&error) {
                assert!(problem.starts_with("setup.toml:"), "{text:?}: {problem}");
            }
        }
    }
}

#[test]
fn the_setups_and_parts_that_ship_are_sound() {
    for file in std::fs::read_dir(root().join("setups")).unwrap() {
        let path = file.unwrap().path();
        if path.extension().is_some_and(|e| e == "toml") {
            let setup = Setup::from_file(&path).unwrap_or_else(|e| panic!("{e:?}"));
            // What is made up says so, and is called so.
            let said = |part: &deep_tap::limit::Part| part.made_up == part.name.starts_with("EX-");
            assert!(setup.parts.iter().all(|p| said(&p.part)));
        }
    }
    for file in std::fs::read_dir(root().join("parts")).unwrap() {
        let path = file.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let text = std::fs::read_to_string(&path).unwrap();
        // All pins on one line: what is wrong with the file itself is told, and nothing else counts.
        let board = format!("[[part]]\nreference = \"U1\"\nlimits = \"{name}\"\npins = {{}}\n");
        let problems = load(&[("s.toml", &board), (&name, &text)]).unwrap_err();
        assert!(problems.len() == 1 && problems[0].contains("not bound to a line"), "{problems:?}");
    }
}

proptest! {
    #[test]
    fn no_damage_to_a_setup_makes_the_reader_panic(at: prop::sample::Index, with in "[ -~\n\u{b5}]{0,4}", gone in 0usize..20) {
        let whole = std::fs::read_to_string(root().join("setups/tide-gauge.toml")).unwrap();
        let parts = ["ex-sup33", "ex-adc24", "ex-mem8"].map(|name| {
            let text = std::fs::read_to_string(root().join(format!("parts/{name}.toml"))).unwrap();
            (format!("../parts/{name}.toml"), text)
        });
        let at = at.index(whole.len());
        let (Some(head), rest) = (whole.get(..at), whole.get(at + gone..).unwrap_or("")) else { return Ok(()) };
        let mut files = vec![("setups/s.toml".to_string(), format!("{head}{with}{rest}"))];
        files.extend(parts.into_iter().map(|(name, text)| (name.replace("../", ""), text)));
        let files: Vec<(&str, &str)> = files.iter().map(|(n, t)| (n.as_str(), t.as_str())).collect();
        if let Err(problems) = load(&files) {
            prop_assert!(problems.iter().all(|p| p.contains(".toml:")), "{:?}", problems);
        }
    }
}

#[test]
fn state_machines_are_checked_as_a_whole() {
    let with = |states: &str| format!("[[line]]\nname = \"A\"\n[[line]]\nname = \"B\"\n{states}");
    let good = "[[trigger.state]]\nname = \"one\"\narm = [{ on = \"A rises\", times = 3, go = \"two\" }]\n\
                [[trigger.state]]\nname = \"two\"\narm = [{ on = \"B rises\", go = \"one\" }, { after = \"5 us\", fire = true }]\n";
    let setup = crate::support::setup(&with(good)).unwrap();
    let Some(Trigger::States(machine)) = &setup.trigger else { panic!("{:?}", setup.trigger) };
    assert_eq!(
        machine.to_string(),
        "starts in one: on 'A rises' 3 times goes to two; then in two: on 'B rises' goes to one, or after 5 us fires"
    );
    for (from, to, wanted) in [
        ("go = \"two\"", "go = \"tow\"", "setup.toml:7:15 there is no state 'tow' | did you mean 'two'?"),
        ("fire = true", "go = \"one\"", "no state ever fires | let an arm fire: fire = true"),
        ("go = \"two\"", "fire = true", "setup.toml:8:1 the state 'two' cannot be reached"),
        ("name = \"two\"", "name = \"one\"", "setup.toml:8:1 two states are called 'one'"),
        ("A rises", "A rses", "'rses' cannot follow here | did you mean 'rises'?"),
        ("after = \"5 us\", fire = true", "fire = true", "an arm waits for an event or for a time"),
        ("after = \"5 us\", fire = true", "after = \"5 us\"", "this arm does nothing"),
        ("times = 3", "times = 0", "an event cannot be waited for 0 times"),
        (
            "arm = [{ on = \"B rises\", go = \"one\" }, { after = \"5 us\", fire = true }]",
            "",
            "the state 'two' has no way out",
        ),
    ] {
        let problems = told(&crate::support::setup(&with(&good.replace(from, to))).unwrap_err());
        assert!(problems.iter().any(|p| p.contains(wanted)), "{to}: {problems:?}");
    }
}

/// A limit made in code is the one that a file describes.
#[test]
fn limits_made_in_code_are_those_of_a_file() {
    use deep_tap::limit::{Limit, Mark, Which};
    let mark = |text: &str| text.parse::<Mark>().unwrap();
    let made = [
        (
            "kind = \"setup\"\ndata = \"D changes\"\nreference = \"C rises\"",
            Limit::setup("t", "D changes", "C rises"),
        ),
        (
            "kind = \"hold\"\ndata = \"D changes\"\nreference = \"C rises\"",
            Limit::hold("t", "D changes", "C rises"),
        ),
        (
            "kind = \"width\"\npulse = \"C low\"\nwhile = \"D high\"",
            Limit::width("t", "C low").only_while("D high"),
        ),
        ("kind = \"period\"\nevent = \"C rises\"", Limit::period("t", "C rises")),
        (
            "kind = \"delay\"\nfrom = \"C rises\"\nto = \"D rises\"\ngroup = \"g\"",
            Limit::delay("t", "C rises", "D rises").group("g"),
        ),
        ("kind = \"skew\"\nfrom = \"C rises\"\nto = \"D rises\"", Limit::skew("t", "C rises", "D rises")),
        (
            "kind = \"rise-time\"\nline = \"A\"\nlow = \"10 %\"\nhigh = \"90 %\"",
            Limit::rise_time("t", "A", mark("10 %"), mark("90 %")),
        ),
        (
            "kind = \"fall-time\"\nline = \"A\"\nlow = \"1 V\"\nhigh = \"2 V\"",
            Limit::fall_time("t", "A", mark("1 V"), mark("2 V")),
        ),
        ("kind = \"level\"\nline = \"A\"\nlevel = \"high\"", Limit::level("t", "A", Which::High)),
    ];
    let board = "[sampling]\nrate = \"1 MS/s\"\nlength = \"1 s\"\n[[line]]\nname = \"C\"\n[[line]]\nname = \"D\"\n[[analog]]\nname = \"A\"\ninput = 0\n[[part]]\nlimits = \"p.toml\"\nreference = \"U1\"\npins = { C = \"C\", D = \"D\", A = \"A\" }\n";
    for (text, limit) in made {
        let min = if text.contains("level") { "1 V" } else { "5 ns" };
        let part = format!(
            "part = \"P\"\nsource = \"made up\"\n[pins]\nC = \"\"\nD = \"\"\nA = \"\"\n[[limit]]\nsymbol = \"t\"\nwhat = \"w\"\nmin = \"{min}\"\n{text}\n"
        );
        let setup =
            load(&[("s.toml", board), ("p.toml", &part)]).unwrap_or_else(|told| panic!("{text}: {told:?}"));
        assert_eq!(setup.limits().next().unwrap().limit, limit.what("w").min(min).build().unwrap(), "{text}");
    }
    assert!(Limit::width("t", "C low").min("5 V").build().is_err(), "a width is no voltage");
    assert!(Limit::width("t", "C low").min("fast").build().is_err(), "this is no quantity");
}
