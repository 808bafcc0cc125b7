//! Names and texts that want to do something: none of them reaches a terminal, a table, a picture or another
//! file as what it is.

use deep_tap::capture::{Attachment, Capture, HeldBuilder, Note, Origin, Trace};
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::line::{AnalogLine, AnalogScale, Bus, Level, Line, LineId};
use deep_tap::time::{Resolution, Tick, TimeBase};
use tempfile::TempDir;

use crate::support::tool;

/// Clears the screen, sets a title, turns the text around, ends a line, a string, a section of a file.
const BAD: &str =
    "x\u{1b}[2J\u{1b}]0;t\u{7}\u{202e}\u{2066}\r\n\u{85}\u{200f}\u{0}\u{7f}</text>&\"']]>$end,=1";

fn toml(text: &str) -> String {
    let mut quoted = String::new();
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() || !c.is_ascii() => quoted.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted
}

/// Whether anything in a text acts: what may stand in it is what can be seen, and ends of lines.
fn acts(text: &str) -> Option<char> {
    let hidden = |c: char| {
        (c.is_control() && !matches!(c, '\n' | '\t'))
            || ('\u{200b}'..='\u{200f}').contains(&c)
            || ('\u{2028}'..='\u{202e}').contains(&c)
            || ('\u{2060}'..='\u{206f}').contains(&c)
            || c == '\u{feff}'
    };
    text.chars().find(|c| hidden(*c))
}

/// A capture of which every text is hostile.
fn hostile(folder: &TempDir) {
    // A setup may not have names with quotes or ends of lines: there, the rest of it.
    let tame = toml(&BAD.replace(['"', '\n', '\r'], ""));
    let bad = toml(BAD);
    let bad_text = toml(&BAD.chars().take(3).collect::<String>());
    let setup = format!(
        "title = \"{tame}\"\n[instrument]\nconnect = \"bench:tide-gauge\"\n[sampling]\nrate = \"10 MS/s\"\nlength = \"1 ms\"\n\
         [[mark]]\nname = \"k {tame}\"\nat = \"2 us\"\nnote = \"{bad}\"\n[[line]]\nname = \"A {tame}\"\ninput = 3\n[[line]]\nname = \"B {tame}\"\n[[bus]]\nname = \"V {tame}\"\n\
         lines = [\"A {tame}\", \"B {tame}\"]\n[events]\ngo = \"\\\"A {tame}\\\" rises\"\n[[bus]]\nname = \"S {tame}\"\nkind = \"uart\"\n\
         line = \"B {tame}\"\nbit-rate = \"10 MHz\"\nnames = {{ data = {{ 0x55 = \"n {tame}\", 0xff = \"m {tame}\" }} }}\n\
         [[bus]]\nname = \"W {tame}\"\nlines = [\"B {tame}\", \"A {tame}\"]\nnames = {{ 0 = \"o {tame}\", 1 = \"p {tame}\" }}\n\
         [[exchange]]\nname = \"X {tame}\"\nbus = \"S {tame}\"\ncomplete = true\n[[exchange.step]]\nname = \"e {tame}\"\n\
         has = \"length > 0\"\nfields = {{ f = \"data[0]\" }}\n[[exchange.step]]\nname = \"z {tame}\"\nhas = \"data == 0x01\"\n\
         [[expect]]\nname = \"m {tame}\"\nbus = \"S {tame}\"\nonce = true\ntext = \"{bad_text}\"\n\
         [[expect]]\nname = \"q {tame}\"\nbus = \"W {tame}\"\norder = [\"o {tame} -> p {tame}\"]\n\
         [[follow]]\nname = \"w {tame}\"\nfrom = {{ bus = \"V {tame}\", at = \"\\\"A {tame}\\\" rises\" }}\nto = {{ bus = \"W {tame}\" }}\nwithin = \"1 us\"\n[[part]]\nlimits = \"p.toml\"\nreference = \"U {tame}\"\n\
         pins = {{ P = \"A {tame}\" }}\n"
    );
    let part = format!(
        "part = \"{bad}\"\nsource = \"{bad}\"\npins = {{ P = \"{bad}\" }}\n[[limit]]\nsymbol = \"t {bad}\"\nwhat = \"{bad}\"\n\
         kind = \"width\"\npulse = \"P high\"\nmin = \"6 ns\"\n[[limit]]\nsymbol = \"u {bad}\"\nwhat = \"{bad}\"\n\
         kind = \"width\"\npulse = \"P low\"\nmax = \"1 ns\"\n"
    );
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let a = Trace::toggling(Level::Low, (1..40).map(|n| n * 10), 500).unwrap();
    let b = Trace::toggling(Level::Low, [5, 45, 95, 185], 500).unwrap();
    let scale = AnalogScale::new("0 V".parse().unwrap(), "1 mV".parse().unwrap(), "0 V".parse().unwrap());
    let mut rail = HeldBuilder::new(Some(0));
    rail.push(Tick(50), Some(3300)).unwrap();
    let name = |letter: &str| format!("{letter} {}", BAD.replace(['"', '\n', '\r'], ""));
    let capture = Capture::builder(base, 500)
        .resolution(Resolution::SAMPLED)
        .line(Line::named(name("A")), a)
        .line(Line::named(name("B")), b)
        .analog(AnalogLine::named(format!("R {BAD}")), rail.finish(scale.unwrap(), 500))
        .bus(Bus::new(name("V"), vec![LineId(0), LineId(1)]).unwrap())
        .origin(Origin { source: BAD.into(), trigger: Some(BAD.into()), ..Origin::default() })
        .history(vec![BAD.into()])
        .remark(BAD)
        .notes(vec![Note { name: BAD.into(), at: Tick(100), text: BAD.into() }])
        .attachments(vec![
            Attachment { name: "s.toml".into(), text: setup },
            Attachment { name: "p.toml".into(), text: part },
        ])
        .build()
        .unwrap();
    dtap::save(&capture, &folder.path().join("h.dtap"), SaveOptions::default()).unwrap();
}

#[test]
fn no_text_of_a_file_acts_in_any_output() {
    let folder = TempDir::new().unwrap();
    hostile(&folder);
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let (said, told) =
            (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
        assert!(!told.contains("panicked"), "{args:?}: {told}");
        for text in [&said, &told] {
            assert_eq!(acts(text), None, "{args:?}: {text:?}");
        }
        (output.status.code().unwrap(), said, told)
    };
    let commands: &[&[&str]] = &[
        &["info", "h.dtap"],
        &["show", "h.dtap"],
        &["show", "h.dtap", "--at", "100 ns"],
        &["find", "h.dtap", "go"],
        &["plan", "h.dtap"],
        &["plan", "h.dtap", "--wiring"],
        &["live", "h.dtap", "--once", "--over", "1 ms"],
        &["watch", "h.dtap", "--for", "20 ms", "--keep", "1", "--into", "kept"],
        &["frames", "h.dtap"],
        &["frames", "h.dtap", "--summary"],
        &["frames", "h.dtap", "--transfers"],
        &["frames", "h.dtap", "--exchanges"],
        &["diagnose", "h.dtap"],
        &["roles", "h.dtap"],
        &["glitches", "h.dtap", "--below", "1 us"],
        &["measure", "h.dtap"],
        &["measure", "h.dtap", "--each", "go"],
        &["measure", "h.dtap", "--at", "100 ns"],
        &["check", "h.dtap", "--junit", "j.xml", "--replace"],
        &["check", "h.dtap", "--all"],
        &["check", "h.dtap", "h.dtap"],
        &["compare", "h.dtap", "h.dtap", "--all", "--junit", "k.xml", "--replace"],
    ];
    for command in commands {
        let (code, said, told) = run(command);
        assert!(matches!(code, 0 | 1 | 3) && !said.is_empty(), "{command:?}: {told}");
        if command[0] != "show" {
            for format in ["csv", "json"] {
                run(&[command, &["--format", format][..]].concat());
            }
        }
    }
    // What is written into files, and what comes back from these.
    for args in [
        &["check", "h.dtap", "--occurrences", "o.csv"][..],
        &["frames", "h.dtap", "--table", "f.csv"],
        &["show", "h.dtap", "--output", "p.svg"],
        &["show", "h.dtap", "--output", "p.png"],
        &["report", "h.dtap", "h.dtap", "--title", &BAD.replace('\0', ""), "--output", "p.html"],
        &["convert", "h.dtap", "h.vcd"],
        &["convert", "h.dtap", "h.csv"],
        &["convert", "h.dtap", "again.dtap"],
        &["init", "h.vcd", "--output", "i.toml"],
        &["init", "h.dtap", "--output", "j.toml", "--part", "U9=h.dtap/p.toml"],
        &["info", "h.dtap", "--setup", "j.toml"],
        &["info", "h.dtap", "--write-setup", "out"],
        &["capture", "h.dtap", "--output", "new.dtap", "--when-armed", "printf '\\033[2J\\r'"],
        &["info", "new.dtap"],
        &["mark", "new.dtap", "here", "0 us", "a\u{1b}[2J"],
        &["info", "new.dtap"],
        &["info", "h.vcd"],
        &["info", "h.csv", "--import", "rate=100 MS/s", "--import", "rows=changes"],
        &["info", "again.dtap"],
        &["info", "h.vcd", "--setup", "i.toml"],
    ] {
        let (code, _, told) = run(args);
        assert!(matches!(code, 0 | 1 | 3), "{args:?}: {told}");
    }
    let kept: Vec<_> =
        std::fs::read_dir(folder.path().join("kept")).unwrap().map(|file| file.unwrap()).collect();
    assert!(!kept.is_empty());
    for file in kept {
        let name = file.file_name().into_string().unwrap();
        let plain = |c: char| c.is_ascii_alphanumeric() || "._-+".contains(c);
        assert!(name.chars().all(plain) && name.starts_with("h-U_x_"), "{name:?}");
    }
    let page = std::fs::read_to_string(folder.path().join("p.html")).unwrap();
    assert!(!page.contains(&BAD[BAD.len() - 12..]) && crate::report::parts(&page).scripts > 1);
    for name in ["o.csv", "f.csv", "j.xml", "k.xml", "p.svg", "p.html", "h.vcd", "h.csv", "i.toml"] {
        let text = std::fs::read_to_string(folder.path().join(name)).unwrap();
        assert_eq!(acts(&text.replace("\r\n", "\n")), None, "{name}");
        if name.ends_with("svg") || name.ends_with("xml") {
            let mut reader = quick_xml::Reader::from_str(&text);
            while reader.read_event().unwrap() != quick_xml::events::Event::Eof {}
        }
    }
}

/// Nor in messages about them, with the lines that they quote.
#[test]
fn no_text_of_a_wrong_file_acts_in_a_message() {
    let folder = TempDir::new().unwrap();
    let file = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    let raw = BAD.replace(['\n', '\r', '\0', '"'], "");
    file(
        "s.toml",
        &format!(
            "# {raw}\ntitle = \"{}\"\n{} = 3 # {raw}\n[[line]]\nname = \"{}\"\nspeed = 1\n",
            toml(BAD),
            "foo",
            toml(BAD)
        ),
    );
    file("t.toml", &format!("# \u{202e}\nconnect {raw}\n"));
    file(
        "d.vcd",
        &format!("$timescale 1 ns $end $var wire 1 ! {raw} $end $enddefinitions $end #0 0! {raw}\n"),
    );
    file("d.csv", &format!("time (us),{raw}\n0,1\n1,{raw}\n2,{raw}\n"));
    let wrong = format!("bad{}.toml", "\u{1b}[2J");
    for args in [
        &["plan", "s.toml"][..],
        &["plan", "t.toml"],
        &["info", "d.vcd"],
        &["info", "d.csv"],
        &["plan", &wrong],
        &["find", "d.vcd", &raw],
        &["info", &format!("{raw}.dtap")],
    ] {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let told = String::from_utf8(output.stderr).unwrap();
        assert_eq!((output.status.code(), acts(&told)), (Some(2), None), "{args:?}: {told:?}");
    }
}
