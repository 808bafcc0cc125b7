//! `measure`, `show` and `check` in depth: what they say about one record, and the files they leave.

use std::path::Path;

use tempfile::TempDir;

use crate::support::{captured, root, tool};

fn run(folder: &Path, args: &[&str]) -> (Option<i32>, String, String) {
    let output = tool().current_dir(folder).args(args).output().unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    (output.status.code(), text(output.stdout), text(output.stderr))
}

fn ok(folder: &TempDir, args: &[&str]) -> String {
    let (code, said, error) = run(folder.path(), args);
    assert_eq!(code, Some(0), "{args:?}: {said}{error}");
    said
}

const FILE: &str = "tide-gauge.dtap";

#[test]
fn numbers_of_lines_intervals_and_places() {
    let folder = captured();
    let all = ok(&folder, &["measure", FILE]);
    assert!(
        all.starts_with("22 lines          tide-gauge.dtap, tick 10 ns, from -5.00000 ms to 20.00000 ms")
    );
    let line = ok(&folder, &["measure", FILE, "--lines", "ADC_SCLK", "--average", "16"]);
    for part in [
        "high          1760   50 ns ± 10.1 ns",
        "  in bursts   1672  100 ns ± 10.1 ns",
        "frequency within 88 bursts, mean over 1672  10.00 MHz ± 54 kHz",
        "shortest mean over 16",
        "duty, mean",
    ] {
        assert!(line.contains(part), "{part}: {line}");
    }
    // Sixteen periods of a frame of 20 clocks: 100 ns, known sixteen times as well.
    assert!(line.contains("100.0 ns ± 630 ps, 10.00 MHz ± 64 kHz"), "{line}");
    let csv = ok(&folder, &["measure", FILE, "--format", "csv"]);
    assert_eq!(csv.lines().count(), 23);
    // Cursors by events: from the first selection on, up to its end, there are twenty clocks.
    let frame =
        ["measure", FILE, "--lines", "ADC_SCLK", "--from", "ADC_CS_N falls", "--to", "ADC_CS_N rises"];
    assert!(ok(&folder, &frame).starts_with("ADC_SCLK: 16 edges"), "{}", ok(&folder, &frame));
    let chain = ["--each", "ADC_CS_N falls", "--until", "ADC_SCLK rises", "--until", "ADC_DRDY_N falls"];
    let said = ok(&folder, &[&["measure", FILE, "--format", "json"], &chain[..]].concat());
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    let counts: Vec<u64> =
        said["intervals"].as_array().unwrap().iter().map(|s| s["count"].as_u64().unwrap()).collect();
    assert_eq!(counts, [88, 44, 44]);
    assert!(said["intervals"][0]["shortest_s"]["lo"].as_f64().unwrap() < 60e-9);
    let there = ok(&folder, &["measure", FILE, "--at", "ADC_DRDY_N falls", "--lines", "ADC_DRDY_N"]);
    assert!(there.contains("ADC_DRDY_N  low") && there.contains("9.33 us ± 10.2 ns"), "{there}");
    let limit = ok(&folder, &["measure", FILE, "--limit", "U3.tCONV", "--histogram"]);
    assert!(limit.contains("FAIL (1 of 44)") && limit.contains("! 380 us .. 385 us   1"), "{limit}");
}

#[test]
fn pictures_are_svg_and_png_of_the_width_asked_for() {
    let folder = captured();
    let limit = ["show", FILE, "--limit", "U3.tCO", "--lines", "ADC_CS_N,ADC_SCLK,ADC_MISO,adc"];
    assert!(ok(&folder, &limit).contains("┤ tCO 50 ns ± 10.6 ns, required ≤ 25 ns: FAIL"));
    ok(&folder, &[&limit[..], &["--output", "t.svg", "--mark", "select=ADC_CS_N falls"]].concat());
    let svg = std::fs::read_to_string(folder.path().join("t.svg")).unwrap();
    for part in [
        "width=\"1280\"",
        "ADC_MISO",
        "tCO 50 ns ± 10.6 ns, required ≤ 25 ns: FAIL",
        "time zero is the trigger",
    ] {
        assert!(svg.contains(part), "{part}");
    }
    for ground in ["light", "dark"] {
        let name = format!("{ground}.png");
        ok(&folder, &["show", FILE, "--output", &name, "--width", "900", "--ground", ground]);
        let bytes = std::fs::read(folder.path().join(&name)).unwrap();
        assert_eq!((&bytes[1..4], &bytes[16..20]), (&b"PNG"[..], &900u32.to_be_bytes()[..]));
    }
    ok(&folder, &["measure", FILE, "--limit", "U3.tCONV", "--picture", "h.svg"]);
    let svg = std::fs::read_to_string(folder.path().join("h.svg")).unwrap();
    assert!(svg.contains("max 350 us") && svg.contains("44 values, 5 us per bar"), "{svg}");
}

#[test]
fn every_violation_every_occurrence_and_several_captures() {
    let folder = captured();
    let (code, said, _) = run(folder.path(), &["check", FILE, "--all", "--only", "tWP,tCONV"]);
    assert_eq!(code, Some(1));
    assert!(
        said.contains("U5.tWP, required ≥ 35 ns: 5 violations; seen 1096 times, 10 ns to 50 ns"),
        "{said}"
    );
    let (_, rows, _) = run(folder.path(), &["check", FILE, "--all", "--format", "csv"]);
    let failed = rows.lines().filter(|row| row.contains(",U5,tWP,")).count();
    assert_eq!(failed, 5, "{rows}");
    let files = ["--junit", "j.xml", "--occurrences", "o.csv"];
    let (code, ..) = run(folder.path(), &[&["check", FILE][..], &files].concat());
    assert_eq!(code, Some(1));
    let xml = std::fs::read_to_string(folder.path().join("j.xml")).unwrap();
    assert!(xml.contains("tests=\"14\" skipped=\"1\" failures=\"8\" errors=\"0\""), "{xml}");
    assert!(xml.contains("type=\"violated\"") && xml.contains("type=\"inconclusive\""));
    let rows = std::fs::read_to_string(folder.path().join("o.csv")).unwrap();
    assert_eq!(rows.lines().filter(|row| row.contains(",U5,tWP,") && row.ends_with(",fail,true")).count(), 5);
    assert_eq!(rows.lines().filter(|row| row.contains(",U5,tWP,")).count(), 1096);
    // Another board without faults: over both, the worst is that of the first.
    let setup = std::fs::read_to_string(root().join("setups/tide-gauge.toml")).unwrap();
    for kind in ["setups", "parts"] {
        std::fs::create_dir_all(folder.path().join(kind)).unwrap();
    }
    for file in std::fs::read_dir(root().join("parts")).unwrap() {
        let path = file.unwrap().path();
        std::fs::copy(&path, folder.path().join("parts").join(path.file_name().unwrap())).unwrap();
    }
    let healthy = setup.replace("bench:tide-gauge", "bench:tide-gauge?faults=none");
    std::fs::write(folder.path().join("setups/healthy.toml"), healthy).unwrap();
    ok(&folder, &["capture", "setups/healthy.toml", "--output", "healthy.dtap"]);
    let (code, said, _) = run(folder.path(), &["check", "healthy.dtap", FILE]);
    assert_eq!(code, Some(1));
    assert!(
        said.contains("over 2 captures") && said.contains("FAIL (5 of 2191) in 1 of 2 captures"),
        "{said}"
    );
    let (_, csv, _) = run(folder.path(), &["check", "healthy.dtap", FILE, "--format", "csv"]);
    assert_eq!(
        (csv.lines().count(), csv.lines().filter(|row| row.starts_with("healthy.dtap,")).count()),
        (29, 14)
    );
}

#[test]
fn expectations_stand_beside_the_limits() {
    let folder = TempDir::new().unwrap();
    for (setup, wanted) in [
        (
            "buses.toml",
            &["every message is a fix  as expected", "clock-cycle: status is 'write", "J3    rate"][..],
        ),
        ("power-rail.toml", &["2 transitions, all allowed", "reset        1  900.00 us"]),
    ] {
        let setup = root().join("setups").join(setup);
        ok(&folder, &["capture", setup.to_str().unwrap(), "--output", "x.dtap", "--replace"]);
        let (_, said, _) = run(folder.path(), &["check", "x.dtap"]);
        wanted.iter().for_each(|part| assert!(said.contains(part), "{part}: {said}"));
    }
    let (code, said, _) = run(folder.path(), &["check", "x.dtap", "--only", "order of power-up"]);
    assert!(code == Some(0) && said.starts_with("1 passed"), "{said}");
}

#[test]
fn frames_become_a_table_with_a_row_for_each_field() {
    let folder = captured();
    let said = ok(&folder, &["frames", FILE, "--table", "f.csv"]);
    assert!(said.ends_with(" frames saved to f.csv\n"), "{said}");
    let table = std::fs::read_to_string(folder.path().join("f.csv")).unwrap();
    let header = table.lines().next().unwrap();
    assert!(header.starts_with("number,bus,kind,at_s,until_s,field,value,hex,bits"), "{header}");
    let frames: u64 = said.split(' ').next().unwrap().parse().unwrap();
    // Each word of the converter has both directions.
    assert_eq!(table.lines().count() as u64 - 1, 2 * frames);
    let (code, _, error) = run(folder.path(), &["frames", FILE, "--table", "f.csv"]);
    assert!(code == Some(2) && error.contains("this file is there already"), "{error}");
}

#[cfg(feature = "parquet")]
#[test]
fn parquet_has_the_rows_of_the_csv() {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    use parquet::record::Field;

    let folder = captured();
    for table in ["o.csv", "o.parquet"] {
        run(folder.path(), &["check", FILE, "--occurrences", table]);
    }
    let mut csv = csv::Reader::from_path(folder.path().join("o.csv")).unwrap();
    let header = csv.headers().unwrap().clone();
    let file = std::fs::File::open(folder.path().join("o.parquet")).unwrap();
    let reader = SerializedFileReader::new(file).unwrap();
    let mut rows = reader.get_row_iter(None).unwrap();
    for cells in csv.records() {
        let (cells, row) = (cells.unwrap(), rows.next().unwrap().unwrap());
        let columns: Vec<_> = row.get_column_iter().collect();
        assert_eq!(columns.len(), header.len());
        for ((wanted, cell), (name, field)) in header.iter().zip(&cells).zip(columns) {
            let text = match field {
                Field::Str(text) => text.clone(),
                Field::Double(number) => format!("{number:e}"),
                Field::Bool(flag) => flag.to_string(),
                Field::Null => String::new(),
                other => panic!("{other:?}"),
            };
            assert_eq!((name.as_str(), text.as_str()), (wanted, cell));
        }
    }
    assert!(rows.next().is_none() && csv.position().line() > 1000);
}

/// Tables of several boards lie in a folder by board and part, and together have the rows of a single one.
#[cfg(feature = "parquet")]
#[test]
fn a_folder_of_tables_is_partitioned_by_board_and_part() {
    use parquet::file::reader::{FileReader, SerializedFileReader};

    let folder = captured();
    let file = |name: &str| folder.path().join(name);
    std::fs::copy(file(FILE), file("b 2.dtap")).unwrap();
    let check = ["check", FILE, "b 2.dtap", "--occurrences"];
    run(folder.path(), &[&check[..], &["one.csv"]].concat());
    run(folder.path(), &[&check[..], &["tables/"]].concat());
    let single = std::fs::read_to_string(file("one.csv")).unwrap();
    for (board, escaped) in [("tide-gauge", "tide-gauge"), ("b 2", "b%202")] {
        for part in ["EX-SUP33", "EX-ADC24", "EX-MEM8"] {
            let path = file(&format!("tables/board={escaped}/part={part}/{escaped}.parquet"));
            let reader = SerializedFileReader::new(std::fs::File::open(path).unwrap()).unwrap();
            let columns = reader.metadata().file_metadata().schema_descr().num_columns();
            let rows = single.lines().filter(|row| row.starts_with(&format!("{board},{part},"))).count();
            assert_eq!((reader.metadata().file_metadata().num_rows(), columns), (rows as i64, 15));
        }
    }
    // A second run of one of them would replace it; two captures of one name are two boards in one place.
    let (code, _, error) = run(folder.path(), &["check", FILE, "--occurrences", "tables"]);
    assert!(code == Some(2) && error.contains("there already"), "{error}");
    std::fs::create_dir(file("other")).unwrap();
    std::fs::copy(file(FILE), file("other").join(FILE)).unwrap();
    let twice = ["check", FILE, "other/tide-gauge.dtap", "--occurrences", "more/"];
    let (code, _, error) = run(folder.path(), &twice);
    assert!(code == Some(2) && error.contains("name each capture after its board"), "{error}");
}

#[cfg(not(feature = "parquet"))]
#[test]
fn a_folder_of_tables_needs_a_build_that_writes_them() {
    let folder = captured();
    let (code, _, error) = run(folder.path(), &["check", FILE, "--occurrences", "tables/"]);
    assert!(code == Some(2) && error.contains("--features deep-tap-cli/parquet"), "{error}");
    assert!(!folder.path().join("tables").exists());
}

#[test]
fn the_documented_commands_run() {
    let folder = captured();
    let rest = "setups/at-rest.toml";
    std::fs::copy(root().join(rest), folder.path().join(rest)).unwrap();
    assert_eq!(run(folder.path(), &["capture", rest]).0, Some(0));
    let mut seen = 0;
    for name in ["README.md", "docs/measure.md", "docs/walkthrough.md", "docs/handing-over.md"] {
        let text = std::fs::read_to_string(root().join(name)).unwrap();
        let blocks = text.split("```sh\n").skip(1).filter_map(|rest| rest.split("```").next());
        for line in blocks.flat_map(str::lines) {
            // What looks at the demo board's first capture; the others are run elsewhere.
            let words: Vec<&str> = line.split(' ').collect();
            let (["deep-tap", command, file, ..], true) = (&words[..], line.contains(" tide-gauge.dtap"))
            else {
                continue;
            };
            // The view needs a terminal; its own test has one.
            let two = matches!(*command, "compare" | "report") && *file == "at-rest.dtap";
            if !two && (*file != "tide-gauge.dtap" || matches!(*command, "info" | "view")) {
                continue;
            }
            seen += 1;
            let line = line.replacen("deep-tap", crate::support::binary(), 1);
            let mut shell = std::process::Command::new("sh");
            shell.current_dir(&folder).env("NO_COLOR", "1").args(["-c", &line]);
            let output = shell.output().unwrap();
            let error = String::from_utf8_lossy(&output.stderr);
            assert!(matches!(output.status.code(), Some(0 | 1 | 3)), "{name}: {line}: {error}");
            let saved = std::fs::read_dir(&folder).unwrap().filter_map(Result::ok);
            let pictures = saved.filter(|entry| {
                entry.path().extension().is_some_and(|e| e == "png" || e == "svg" || e == "html")
            });
            pictures.for_each(|entry| std::fs::remove_file(entry.path()).unwrap());
        }
    }
    assert!(seen >= 18, "{seen}");
}

#[test]
fn three_commands_lead_from_an_address_to_verdicts() {
    let folder = captured();
    let text = std::fs::read_to_string(root().join("README.md")).unwrap();
    let block =
        text.split("```sh\n").find(|block| block.starts_with("deep-tap init bench:tide-gauge")).unwrap();
    let commands: Vec<&str> = block.split("```").next().unwrap().lines().collect();
    assert_eq!(commands.len(), 3);
    let mut said = String::new();
    for command in commands {
        let line = command.replacen("deep-tap", crate::support::binary(), 1);
        let output =
            std::process::Command::new("sh").current_dir(&folder).args(["-c", &line]).output().unwrap();
        assert!(matches!(output.status.code(), Some(0 | 1)), "{line}: {output:?}");
        said = String::from_utf8(output.stdout).unwrap();
    }
    assert!(said.contains("U3    tCO ") && said.contains("FAIL"), "{said}");
    assert!(said.contains("not wired: U3.DRDY_N; left out for that: U3.tCONV"), "{said}");
}

/// Once in a thousand messages the demo board says another, and that one is found; a healthy one passes.
#[test]
fn the_one_message_in_a_thousand_is_found() {
    let folder = TempDir::new().unwrap();
    let text = std::fs::read_to_string(root().join("setups/converter.toml")).unwrap();
    for (faults, verdict, seen) in [
        ("", "1 violated", "FAIL (1 of 1011)"),
        ("?faults=wrong-command", "1 violated", "FAIL (1 of 1011)"),
        ("?faults=none", "1 passed", "1011  pass"),
    ] {
        let setup = text.replace("bench:tide-gauge", &format!("bench:tide-gauge{faults}"));
        std::fs::write(folder.path().join("c.toml"), setup).unwrap();
        ok(&folder, &["capture", "c.toml", "--output", "c.dtap", "--replace"]);
        let (code, said, _) = run(folder.path(), &["check", "c.dtap", "--junit", "j.xml", "--replace"]);
        assert_eq!(code, Some(i32::from(verdict.contains("violated"))), "{said}");
        assert!(said.starts_with(verdict) && said.contains(seen), "{said}");
        let junit = std::fs::read_to_string(folder.path().join("j.xml")).unwrap();
        assert_eq!(junit.contains("12 (read gain)"), verdict.contains("violated"), "{junit}");
    }
    ok(&folder, &["capture", root().join("setups/converter.toml").to_str().unwrap(), "--output", "d.dtap"]);
    let broken = ok(&folder, &["find", "d.dtap", "conversion has broken", "--count"]);
    let asked = ok(&folder, &["frames", "d.dtap", "--has", "mosi == \"read gain\"", "--count"]);
    let listed = ok(&folder, &["frames", "d.dtap", "--exchanges", "--has", "broken", "--count"]);
    assert_eq!((broken.split(':').next(), asked.trim(), listed.trim()), (Some("once"), "1", "1"));
    // What the others of the demo's setups say of it.
    for (setup, wanted) in [
        ("console.toml", &["2 passed", "dialogue               as expected"][..]),
        ("chart-output.toml", &["1 passed", "all as expected", "required ≤ 4 us"]),
    ] {
        ok(
            &folder,
            &[
                "capture",
                root().join("setups").join(setup).to_str().unwrap(),
                "--output",
                "s.dtap",
                "--replace",
            ],
        );
        let (_, said, _) = run(folder.path(), &["check", "s.dtap"]);
        wanted.iter().for_each(|part| assert!(said.contains(part), "{part}: {said}"));
    }
}

/// A capture carries the files that its messages come from; what becomes of them later does not matter.
#[test]
fn messages_come_from_files_that_the_capture_carries() {
    let folder = TempDir::new().unwrap();
    let text = std::fs::read_to_string(root().join("setups/console.toml")).unwrap();
    let text =
        text.replace("text = \"status\\r\"\ncomplete", "file = \"fw/question.c\"\narray = \"ask\"\ncomplete");
    assert!(text.contains("fw/question.c"));
    let more = "[[expect]]\nname = \"as bytes\"\nbus = \"answer\"\nfile = \"fw/answer.bin\"\n";
    std::fs::write(folder.path().join("s.toml"), format!("{text}\n{more}")).unwrap();
    std::fs::create_dir(folder.path().join("fw")).unwrap();
    let write =
        |name: &str, bytes: &[u8]| std::fs::write(folder.path().join("fw").join(name), bytes).unwrap();
    write("question.c", b"static const char ask[] = \"status\\r\";\nconst int n[] = { 3 };\n");
    write("answer.bin", b"status\r");
    ok(&folder, &["capture", "s.toml", "--output", "s.dtap"]);
    write("question.c", b"static const char ask[] = \"stance\\r\";\n");
    write("answer.bin", &[0xff, 0x00]);
    let (code, said, _) = run(folder.path(), &["check", "s.dtap"]);
    assert!(code == Some(0) && said.starts_with("3 passed"), "{said}");
    // Laid over it, the setup has what the files say now.
    let (code, said, _) = run(folder.path(), &["check", "s.dtap", "--setup", "s.toml"]);
    assert!(code == Some(1) && said.contains("value 4 is 0x74 and not 0x6E"), "{said}");
    // A file that is no text is carried as well.
    ok(&folder, &["capture", "s.toml", "--output", "t.dtap"]);
    write("answer.bin", b"status\r");
    let (_, said, _) = run(folder.path(), &["check", "t.dtap"]);
    assert!(said.contains("as bytes: value 1 is 0x73 and not 0xFF"), "{said}");
    std::fs::remove_dir_all(folder.path().join("fw")).unwrap();
    let (code, _, told) = run(folder.path(), &["check", "s.dtap", "--setup", "s.toml"]);
    assert!(code == Some(2) && told.contains("question.c: cannot read"), "{told}");
}
