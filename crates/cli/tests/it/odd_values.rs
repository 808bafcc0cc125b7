//! Every number that a command takes, with values that nobody means; names of files that are no names.

use tempfile::TempDir;

use crate::support::{captured, tool};

/// Nothing, one, the largest, negative, no number, of another quantity, and too small to count.
const ODD: [&str; 14] = [
    "0",
    "1",
    "-1",
    "18446744073709551615",
    "1e30",
    "nan",
    "",
    "0 s",
    "1 fs",
    "-5 ms",
    "9223372036 s",
    "3 V",
    "50 %",
    "1 MS/s",
];

/// What takes a number, with `@` for it.
const COMMANDS: &[&str] = &[
    "show tide-gauge.dtap --at @",
    "show tide-gauge.dtap --around @",
    "show tide-gauge.dtap --around 0s --span @",
    "show tide-gauge.dtap --from @ --to 1ms",
    "show tide-gauge.dtap --width @",
    "show tide-gauge.dtap --width @ --output w.png --replace",
    "find tide-gauge.dtap MEM_WE_N\u{a0}falls --first @",
    "find tide-gauge.dtap MEM_WE_N\u{a0}falls --from @",
    "frames tide-gauge.dtap --first @",
    "glitches tide-gauge.dtap --below @",
    "measure tide-gauge.dtap --at @",
    "measure tide-gauge.dtap --lines ADC_SCLK --average @",
    "measure setups/tide-gauge.toml --levels --over @",
    "measure setups/tide-gauge.toml --levels --over 1ms --steps @",
    "answers tide-gauge.dtap --request RESET_N\u{a0}rises --answer PGOOD\u{a0}falls --within @",
    "plan setups/tide-gauge.toml --rate @",
    "live setups/tide-gauge.toml --once --over @",
    "convert tide-gauge.dtap c.dtap --replace --from @",
    "convert tide-gauge.dtap c.dtap --replace --remove-below @",
    "info packed.bin --import format=packed --import rate=@",
    "info packed.bin --import format=packed --import rate=1MS/s --import width=@",
    "info packed.bin --import format=packed --import rate=1MS/s --import skip=@",
    "info packed.bin --import format=packed --import period=@ --import skew=@ --import zero=@",
    "info packed.bin --import format=packed --import rate=1MS/s --import accuracy=@",
    "info tide-gauge.dtap --sampled @ --skew @ --accuracy @",
    "check tide-gauge.dtap --try width\u{a0}of\u{a0}RESET_N\u{a0}low,\u{a0}min\u{a0}@",
    "serve --listen 127.0.0.1:@ --commands",
    "serve --idle @ --commands",
];

#[test]
fn no_number_makes_a_command_panic() {
    let folder = captured();
    std::fs::write(folder.path().join("packed.bin"), b"not much, but samples").unwrap();
    for command in COMMANDS {
        for odd in ODD {
            // A view of hours, a live look of centuries: they do what was asked for.
            if command.contains("--over") && odd.contains("9223372036") {
                continue;
            }
            let args = command.split(' ').map(|word| word.replace('\u{a0}', " ").replace('@', odd));
            let output = tool().current_dir(&folder).args(args).output().unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            assert!(matches!(output.status.code(), Some(0..=3)), "{command} with {odd}: {:?}", output.status);
            assert!(!said.contains("panicked") && !said.contains("overflow"), "{command} with {odd}: {said}");
        }
    }
}

/// Names with blanks, ends of lines and bytes that are no text, in and out.
#[cfg(unix)]
#[test]
fn any_name_of_a_file_will_do() {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;

    let folder = captured();
    let names: [&[u8]; 4] = [b"a b.dtap", b"a\nb.dtap", b"a\xff\xfeb.dtap", b"--a.dtap"];
    for name in names {
        let name = OsStr::from_bytes(name);
        let path = TempDir::new_in(&folder).unwrap().keep().join(name);
        std::fs::copy(folder.path().join("tide-gauge.dtap"), &path).unwrap();
        let with = |ending: &str| {
            let mut name = path.as_os_str().to_os_string();
            name.push(ending);
            name
        };
        let run = |words: &[&OsStr]| {
            let output = tool().args(words).output().unwrap();
            assert!(matches!(output.status.code(), Some(0 | 1 | 3)), "{words:?}: {output:?}");
        };
        let word = OsStr::new;
        run(&[word("info"), path.as_os_str()]);
        run(&[
            word("check"),
            path.as_os_str(),
            word("--junit"),
            &with(".xml"),
            word("--occurrences"),
            &with(".csv"),
        ]);
        run(&[word("show"), path.as_os_str(), word("--output"), &with(".svg")]);
        run(&[word("find"), path.as_os_str(), word("RESET_N rises"), word("--format"), word("json")]);
        run(&[word("frames"), path.as_os_str(), word("--table"), &with(".f.csv")]);
        run(&[word("convert"), path.as_os_str(), &with(".vcd")]);
        run(&[word("init"), &with(".vcd"), word("--output"), &with(".toml")]);
        for ending in [".xml", ".csv", ".svg", ".f.csv", ".vcd", ".toml"] {
            assert!(std::fs::metadata(with(ending)).unwrap().len() > 0, "{:?}", with(ending));
        }
    }
}
