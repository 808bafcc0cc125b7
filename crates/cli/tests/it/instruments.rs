//! Analog lines, levels, wiring and the network, through the tool.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use tempfile::TempDir;

use crate::support::{binary, captured, root, tool};

/// A folder with everything that ships.
fn everything() -> TempDir {
    let folder = TempDir::new().unwrap();
    for kind in ["setups", "parts", "boards"] {
        std::fs::create_dir(folder.path().join(kind)).unwrap();
        let files = std::fs::read_dir(root().join(kind)).unwrap().map(|e| e.unwrap().path());
        for file in files.filter(|path| path.is_file()) {
            std::fs::copy(&file, folder.path().join(kind).join(file.file_name().unwrap())).unwrap();
        }
    }
    folder
}

/// A setup in the folder with one thing changed.
fn changed(folder: &TempDir, setup: &str, from: &str, to: &str) {
    let text = std::fs::read_to_string(folder.path().join("setups").join(setup)).unwrap();
    assert!(text.contains(from), "{from}");
    std::fs::write(folder.path().join("setups/changed.toml"), text.replace(from, to)).unwrap();
}

fn run(folder: &TempDir, args: &[&str]) -> (Option<i32>, String, String) {
    let output = tool().current_dir(folder).args(args).output().unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    (output.status.code(), text(output.stdout), text(output.stderr))
}

fn ok(folder: &TempDir, args: &[&str]) -> String {
    let (code, said, error) = run(folder, args);
    assert_eq!(code, Some(0), "{args:?}: {said}{error}");
    said
}

#[test]
fn analog_lines_from_the_setup_to_the_verdict() {
    let folder = everything();
    let said = ok(&folder, &["plan", "setups/power-rail.toml"]);
    assert!(said.contains("VDD33 at 5 MS/s, 0 V .. 5 V in steps of 1.22 mV, known to 25.6 mV"), "{said}");
    ok(&folder, &["capture", "setups/power-rail.toml"]);
    let (code, said, _) = run(&folder, &["check", "power-rail.dtap"]);
    assert!(code == Some(1) && said.contains("tDIP") && said.contains("FAIL (1 of 1)"), "{said}");
    let said = ok(&folder, &["find", "power-rail.dtap", "rail-dips", "--around"]);
    assert!(said.starts_with("once: rail-dips") && said.contains("VDD33 "), "{said}");
    let said = ok(&folder, &["show", "power-rail.dtap", "--width", "100", "--lines", "VDD33,RESET_N"]);
    assert!(said.contains("3.297 V") && said.lines().all(|line| line.chars().count() <= 100), "{said}");
    let said = ok(&folder, &["show", "power-rail.dtap", "--at", "5 ms"]);
    assert!(said.contains("VDD33     3.297 V ± 26 mV"), "{said}");
    let said = ok(&folder, &["info", "power-rail.dtap", "--verify"]);
    assert!(said.contains("every block was read and is sound") && said.contains("± 25.6 mV"), "{said}");
    let said = ok(&folder, &["measure", "power-rail.dtap", "--lines", "VDD33", "--format", "csv"]);
    let row: Vec<&str> = said.lines().nth(1).unwrap().split(',').collect();
    assert!((row[2].parse::<f64>().unwrap() - 3.3).abs() < 0.026, "{said}");
    assert!((row[11].parse::<f64>().unwrap() - 880e-6).abs() < 12e-6, "{said}");
    let derive = ["--derive", "UP = VDD33 at 3.0 V"];
    ok(&folder, &[&["convert", "power-rail.dtap", "up.dtap"], &derive[..]].concat());
    let said = ok(&folder, &["find", "up.dtap", "UP falls"]);
    assert!(said.starts_with("once"), "{said}");
    // The same voltages in what other programs read.
    let csv = ok(&folder, &["convert", "up.dtap", "-", "--as", "csv"]);
    let header = csv.lines().next().unwrap();
    assert!(header.ends_with("D1,UP,POWER,VDD33_V,TIDE_OUT_V"), "{header}");
    let highest = csv.lines().skip(1).map(|row| row.split(',').nth(9).unwrap().parse::<f64>().unwrap());
    assert!((highest.fold(0.0, f64::max) - 3.297).abs() < 0.001);
    let vcd = ok(&folder, &["convert", "up.dtap", "-", "--as", "vcd"]);
    assert!(vcd.contains("$var real 64") && vcd.contains("\nr3.29"), "no real numbers");
    // A signal file with reals is read again, the reals set aside with a remark.
    std::fs::write(folder.path().join("up.vcd"), vcd).unwrap();
    ok(&folder, &["info", "up.vcd"]);
}

#[test]
fn frames_are_listed_as_they_come_and_filtered() {
    let folder = everything();
    ok(&folder, &["capture", "setups/tide-gauge.toml"]);
    let said = ok(&folder, &["frames", "tide-gauge.dtap"]);
    // A start command is a word, a read four; the board makes 44 conversions in the record.
    assert!(
        said.contains("\n220 frames, 1 with a fault, 2 not certain (marked ?)\nnext: deep-tap diagnose "),
        "{said}"
    );
    assert!(said.lines().nth(1).unwrap().ends_with("adc  word mosi=0x08 miso=0x00"), "{said}");
    // The data that comes late is seen on the bus, too.
    let said = ok(&folder, &["frames", "tide-gauge.dtap", "--faults"]);
    assert!(
        said.contains("miso changes with the edge that takes it")
            && said.contains("\n1 frame, 1 with a fault, 1 not certain (marked ?)\n"),
        "{said}"
    );
    let json = ok(&folder, &["frames", "tide-gauge.dtap", "--format", "json", "--first", "3"]);
    let last: serde_json::Value = serde_json::from_str(json.lines().last().unwrap()).unwrap();
    assert_eq!(
        (json.lines().count(), &last["bus"], &last["fields"][1]["value"]),
        (3, &"adc".into(), &0x2f.into())
    );
    let csv =
        ok(&folder, &["frames", "tide-gauge.dtap", "--format", "csv", "--from", "1 ms", "--to", "2 ms"]);
    assert!(csv.lines().count() > 5 && csv.lines().all(|row| row.split(',').count() == 7), "{csv}");
    let (code, said, _) = run(&folder, &["frames", "tide-gauge.dtap", "--to", "0 ms"]);
    assert!(code == Some(1) && said.contains("0 frames"), "{said}");
    // The console repeats what it is sent.
    ok(&folder, &["capture", "setups/console.toml"]);
    let said = ok(&folder, &["frames", "console.dtap", "--bus", "answer"]);
    let text: String = said.lines().filter_map(|l| l.split('\'').nth(1)).collect();
    assert_eq!(text, "status", "{said}");
    let said = ok(&folder, &["frames", "console.dtap", "--beside"]);
    assert_eq!(said.matches("73 74 61 74 75 73 0D  'status.'").count(), 2, "{said}");
    assert!(ok(&folder, &["frames", "console.dtap", "--beside", "--values", "text"]).contains("status\\x0d"));
    assert_eq!(ok(&folder, &["frames", "tide-gauge.dtap", "--has", "mosi == 0x1x", "--count"]), "44\n");
    let said = ok(&folder, &["frames", "console.dtap", "--has", "data == \"a\"", "--values", "binary"]);
    assert!(said.contains("data=0b01100001") && said.contains("2 frames"), "{said}");
    let said = ok(&folder, &["frames", "tide-gauge.dtap", "--summary", "--format", "json"]);
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    assert_eq!((&said["buses"][0]["frames"], &said["buses"][0]["data_bytes"]), (&220.into(), &440.into()));
    let faults = serde_json::json!([{"kind": "order", "count": 1}]);
    assert_eq!((&said["buses"][0]["bit_rate_bps"], &said["buses"][0]["faults"]), (&10e6.into(), &faults));
    let said = ok(&folder, &["frames", "console.dtap", "--summary"]);
    assert!(said.contains("question  uart       7      7") && said.contains("115 kHz"), "{said}");
    // A bit rate can be measured; a trigger cannot wait for that.
    let console = std::fs::read_to_string(folder.path().join("setups/console.toml")).unwrap();
    let auto = console.replace("\nbit-rate = \"115.2 kHz\"", "\nbit-rate = \"auto\"");
    std::fs::write(folder.path().join("setups/auto.toml"), &auto).unwrap();
    let said = ok(&folder, &["frames", "console.dtap", "--setup", "setups/auto.toml", "--beside"]);
    assert_eq!(said.matches("'status.'").count(), 2, "{said}");
    let winch = std::fs::read_to_string(folder.path().join("setups/mooring-winch.toml")).unwrap();
    let event = winch.lines().find(|line| line.starts_with("event = ")).unwrap();
    let winch = winch
        .replace(event, "event = \"log has data\"")
        .replace("bit-rate = \"115.2 kHz\"", "bit-rate = \"auto\"");
    std::fs::write(folder.path().join("setups/auto.toml"), winch).unwrap();
    let (code, _, told) = run(&folder, &["capture", "setups/auto.toml", "-o", "auto.dtap"]);
    assert!(code == Some(2) && told.contains("bus 'log': the bit rate is not known"), "{told}");
    // What is wrong is told with what to change, also to who only asked for the frames.
    let wrong = std::fs::read_to_string(folder.path().join("setups/console.toml")).unwrap();
    std::fs::write(
        folder.path().join("setups/slow.toml"),
        wrong.replacen("\nbit-rate = \"115.2 kHz", "\nbit-rate = \"38.4 kHz", 1),
    )
    .unwrap();
    let (code, said, _) = run(&folder, &["diagnose", "console.dtap", "--setup", "setups/slow.toml"]);
    assert!(code == Some(3) && said.contains("1 finding about the buses question, answer"), "{said}");
    assert!(said.contains("change: bit-rate = \"115.2 kHz\""), "{said}");
    let (_, _, told) = run(&folder, &["frames", "console.dtap", "--setup", "setups/slow.toml"]);
    assert!(told.contains("question: a bit lasts 8.680 us"), "{told}");
    assert!(ok(&folder, &["diagnose", "console.dtap"]).starts_with("nothing is wrong with the buses"));
    let csv = run(&folder, &["diagnose", "console.dtap", "--setup", "setups/slow.toml", "--format", "csv"]).1;
    assert!(csv.starts_with("bus,kind,sureness,at_s,what,remedy,line_names\nquestion,bit-rate,"), "{csv}");
    let said = ok(&folder, &["registers", "tide-gauge.dtap", "--name", "pressure"]);
    assert!(
        said.contains("pressure  0x2F5716")
            && said.contains(" 155124.3 Pa")
            && said.ends_with("44 accesses\n"),
        "{said}"
    );
    let csv = ok(&folder, &["registers", "tide-gauge.dtap", "--format", "csv"]);
    assert!(
        csv.lines().nth(1).unwrap().ends_with(",read,,16,pressure,3102486,24,155124.3,Pa,false"),
        "{csv}"
    );
    // The conversion that takes 382 us is answered, but not in time.
    let asked =
        ["answers", "tide-gauge.dtap", "--request", "adc has mosi == 0x08", "--answer", "ADC_DRDY_N falls"];
    let said = ok(&folder, &asked);
    assert!(said.starts_with("44 requests, 44 answered") && said.contains("latest    382"), "{said}");
    let in_time = [&asked[..], &["--within", "350 us", "--format", "json"]].concat();
    let (code, said, _) = run(&folder, &in_time);
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    assert_eq!(
        (code, &said["answered"], said["missing_at_s"].as_array().unwrap().len()),
        (Some(1), &43.into(), 1)
    );
    let known = |key: &str| said["longest_s"][key].as_f64().unwrap();
    assert!(known("lo") < known("value") && known("value") < known("hi") && known("hi") < 285e-6, "{said}");
    for (args, wanted) in [
        (
            &["answers", "tide-gauge.dtap", "--request", "adc has mos", "--answer", "RESET_N falls"][..],
            &["'mosi'"][..],
        ),
        (
            &[
                "answers",
                "tide-gauge.dtap",
                "--request",
                "RESET_N rises",
                "--answer",
                "RESET_N falls",
                "--within",
                "0 s",
            ],
            &["above zero"],
        ),
        (&["registers", "tide-gauge.dtap", "--name", "presure"], &["did you mean 'pressure'?"]),
        (&["registers", "console.dtap"], &["none of these buses has registers"]),
        (&["frames", "tide-gauge.dtap", "--has", "mos == 1"][..], &["did you mean 'mosi'"][..]),
        (&["frames", "tide-gauge.dtap", "--has", "mosi =="], &["the expression ends where a value"]),
        (&["frames", "console.dtap", "--beside", "--format", "csv"], &["--beside writes text only"]),
        (&["diagnose", "console.dtap", "--bus", "answr"], &["'answer'"]),
        (&["frames", "tide-gauge.dtap", "--bus", "acd"][..], &["no serial bus 'acd'", "'adc'"][..]),
        (&["frames", "tide-gauge.dtap", "--bus", "ADDR"], &["parallel bus"]),
        (&["frames", "tide-gauge.dtap", "--from", "5 ms", "--to", "4 ms"], &["upside down"]),
    ] {
        let (code, _, error) = run(&folder, args);
        assert!(code == Some(2) && wanted.iter().all(|part| error.contains(part)), "{error}");
    }
    for (from, to, wanted) in [
        ("kind = \"uart\"", "kind = \"uatr\"", "did you mean 'uart'?"),
        ("bit-rate = \"115.2 kHz\"", "", "bit-rate = \"115.2 kHz\""),
        ("bit-rate = \"115.2 kHz\"", "bit-rate = \"aut\"", "'aut' is not a frequency"),
        (
            "bit-rate = \"115.2 kHz\"",
            "bit-rate = \"115.2 kHz\"\nparity = \"evn\"",
            "none, even, odd, mark, space",
        ),
        ("line = \"HOST_TX\"", "line = \"HOST_TY\"", "'HOST_TX'"),
        (
            "kind = \"uart\"",
            "kind = \"can\"\nsample-point = \"99 %\"",
            "bus 'answer': a bit cannot be taken at 99 %",
        ),
        ("bit-rate = \"115.2 kHz\"", "bit-rate = \"15 MHz\"", "45 MS/s or more"),
    ] {
        let text = std::fs::read_to_string(folder.path().join("setups/console.toml")).unwrap();
        let (before, bus) = text.split_once("name = \"answer\"").unwrap();
        let text = format!("{before}name = \"answer\"{}", bus.replace(from, to));
        std::fs::write(folder.path().join("setups/changed.toml"), text).unwrap();
        let (code, _, error) = run(&folder, &["frames", "console.dtap", "--setup", "setups/changed.toml"]);
        let flat = error.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(code == Some(2) && flat.contains(wanted), "{to}: {flat}");
    }
}

#[test]
fn levels_are_found_and_thresholds_judged() {
    let folder = everything();
    let (code, said, _) =
        run(&folder, &["measure", "--levels", "setups/tide-gauge.toml", "--rate", "20 MS/s"]);
    assert!(
        code == Some(0) && said.starts_with("every stated threshold lies where its line changes"),
        "{said}"
    );
    changed(&folder, "tide-gauge.toml", "LVCMOS 3.3 V", "2.9 V");
    let (code, said, _) = run(&folder, &["measure", "--levels", "setups/changed.toml", "--rate", "20 MS/s"]);
    assert!(code == Some(3) && said.starts_with("7 thresholds lie off the middle"), "{said}");
    assert!(said.contains("write for RESET_N: threshold = \"1.5"), "{said}");
}

#[test]
fn live_tells_where_the_connector_sits() {
    let folder = everything();
    changed(&folder, "tide-gauge.toml", "bench:tide-gauge", "bench:tide-gauge?faults=shifted:2");
    let (code, said, _) = run(&folder, &["live", "setups/changed.toml", "--over", "30 ms"]);
    assert!(code == Some(3) && said.contains("the connector seems to sit 2 pins too high"), "{said}");
}

/// A server that is killed in the end.
struct Serving(Child, String);

impl Serving {
    fn start(folder: &Path, what: &str) -> Serving {
        let mut child = Command::new(binary())
            .current_dir(folder)
            .args(["serve", what, "--listen", "127.0.0.1:0"])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let told: Vec<String> = lines.take(2).map(Result::unwrap).collect();
        let address = told[1].split('"').nth(1).unwrap().to_string();
        assert!(told[0].starts_with("serving EX-") && address.starts_with("tcp://127.0.0.1:"), "{told:?}");
        Serving(child, address)
    }
}

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn a_setup_runs_against_a_served_bench_as_against_its_own() {
    let folder = everything();
    let serving = Serving::start(folder.path(), "bench:boards/mooring-winch.toml?instrument=EX-M16");
    changed(
        &folder,
        "mooring-winch.toml",
        "bench:../boards/mooring-winch.toml?instrument=EX-M16",
        &serving.1,
    );
    for command in ["plan", "live"] {
        ok(&folder, &[command, "setups/changed.toml"]);
    }
    ok(&folder, &["capture", "setups/changed.toml", "--output", "there.dtap"]);
    ok(&folder, &["capture", "setups/mooring-winch.toml", "--output", "here.dtap"]);
    for capture in ["there.dtap", "here.dtap"] {
        let said = ok(&folder, &["find", capture, "brake-glitch"]);
        assert!(said.starts_with("once"), "{capture}: {said}");
    }
    drop(serving);
    let (code, _, error) = run(&folder, &["capture", "setups/changed.toml", "--output", "gone.dtap"]);
    assert!(code == Some(2) && error.contains("cannot connect to 127.0.0.1:"), "{error}");
    assert!(!folder.path().join("gone.dtap").exists() && !folder.path().join("gone.dtap.part").exists());
}

#[test]
fn what_cannot_be_is_refused_with_the_way_out() {
    let folder = everything();
    ok(&folder, &["capture", "setups/console.toml", "--output", "digital.dtap"]);
    let refused = |args: &[&str], wanted: &[&str]| {
        let (code, _, error) = run(&folder, args);
        let flat = error.split_whitespace().collect::<Vec<_>>().join(" ");
        let flat = flat.replace(" | ", " ");
        assert_eq!(code, Some(2), "{args:?}: {flat}");
        wanted.iter().for_each(|part| assert!(flat.contains(part), "{args:?}: '{part}' is not in:\n{flat}"));
    };
    refused(&["measure", "setups/console.toml"], &["this is a setup", "--levels"]);
    refused(
        &["convert", "digital.dtap", "x.dtap", "--derive", "UP"],
        &["'UP' does not say", "VDD33 at 3.0 V"],
    );
    refused(&["convert", "digital.dtap", "x.dtap", "--derive", "UP = V at 3 V"], &["no analog line 'V'"]);
    refused(&["serve", "bench:nothing"], &["there is no board 'nothing'", "tide-gauge"]);
    refused(&["serve", "--listen", "127.0.0.1:99999"], &["cannot listen at 127.0.0.1:99999"]);
    refused(&["serve", "--listen", "nowhere"], &["cannot listen at nowhere", "127.0.0.1:5025"]);
    for (setup, from, to, wanted) in [
        ("power-rail.toml", "?instrument=EX-M16", "", &["no analog inputs for 'VDD33', 'TIDE_OUT'"][..]),
        (
            "power-rail.toml",
            "analog-rate = \"5 MS/s\"",
            "analog-rate = \"3 MS/s\"",
            &["3 MS/s beside 50 MS/s", "nearest: 3.125 MS/s"],
        ),
        ("power-rail.toml", "input = 1\nrange", "input = 5\nrange", &["'TIDE_OUT' is on input 5", "0 to 1"]),
        (
            "power-rail.toml",
            "input = 1\nrange",
            "input = 0\nrange",
            &["analog input 0 carries 'VDD33' already"],
        ),
        ("power-rail.toml", "0 V .. 5 V", "5 V .. 0 V", &["empty or upside down", "0 V .. 5 V"]),
        (
            "power-rail.toml",
            "0 V .. 5 V",
            "0 V .. 40 V",
            &["goes up to 40 V, its input stands 30 V", "divider"],
        ),
        ("power-rail.toml", "0 V .. 5 V", "-1 V .. 12 V", &["no range of the instrument", "-10 V .. 10 V"]),
        (
            "power-rail.toml",
            "hysteresis = \"50 mV\"",
            "hysteresis = \"-1 V\"",
            &["a hysteresis is not negative"],
        ),
        ("console.toml", "output = 1", "output = 4", &["no output 4 for a stimulus", "0 to 1"]),
        (
            "console.toml",
            "at = \"9 ms\"",
            "at = \"9 ms\"\nafter-trigger = \"1 ms\"",
            &["both 'at' and 'after-trigger'"],
        ),
        ("console.toml", "pulses =", "waves =", &["waves", "either pulses or bytes"]),
        ("console.toml", "output = 1", "output = 0", &["does not send bytes", "output 1 (AUX2) does"]),
        ("console.toml", "HOST_RX falls", "HOST_RX changes 2 times", &["cannot follow the trigger", "'at'"]),
        ("mooring-winch.toml", "mooring-winch.toml?", "winsh.toml?", &["winsh.toml: cannot read"]),
    ] {
        changed(&folder, setup, from, to);
        refused(&["capture", "setups/changed.toml", "--output", "never.dtap"], wanted);
    }
    assert!(!folder.path().join("never.dtap").exists());
}

#[test]
fn transfers_tried_buses_and_lines_that_get_their_names_afterwards() {
    let folder = everything();
    ok(&folder, &["capture", "setups/buses.toml"]);
    let said = ok(&folder, &["frames", "buses.dtap", "--transfers", "--bus", "rtc", "--first", "1"]);
    assert!(said.contains("rtc  write-read address=0x51 data 02 address=0x51 data 00 00 06 nack"), "{said}");
    let json = ok(&folder, &["frames", "buses.dtap", "--transfers", "--bus", "gnss", "--format", "json"]);
    let first: serde_json::Value = serde_json::from_str(json.lines().next().unwrap()).unwrap();
    assert!(first["text"].as_str().unwrap().starts_with("FIX 3D") && first["certain"] == true, "{json}");
    let asked = ["frames", "buses.dtap", "--transfers", "--count", "--has"];
    assert_eq!(ok(&folder, &[&asked[..], &["write-read, data[0] == 0x02"]].concat()), "4\n");
    // A frame's own time finds it; what is read does not depend on where one looks.
    let all = ok(&folder, &["frames", "buses.dtap", "--bus", "gnss", "--format", "csv"]);
    let third = all.lines().nth(3).unwrap();
    let at = format!("{}s", third.split(',').nth(2).unwrap());
    let said = ok(&folder, &["frames", "buses.dtap", "--bus", "gnss", "--format", "csv", "--from", &at]);
    assert_eq!(said.lines().nth(1).unwrap(), third);
    // A row of data that begins before the window.
    let rows = ["--bus", "gnss", "--has", "text \"FIX 3D\"", "--format", "csv"];
    let said = ok(&folder, &[&["frames", "buses.dtap", "--from", &at][..], &rows].concat());
    assert_eq!(said, ok(&folder, &[&["frames", "buses.dtap"][..], &rows].concat()));

    // Settings for one run; they may take the place of the setup's.
    let with = |words: &'static str| vec!["frames", "buses.dtap", "--transfers", "--with-bus", words];
    let said = ok(&folder, &with("kind = \"uart\", line = \"GNSS_TX\", bit-rate = \"57.6 kHz\""));
    assert!(said.contains("tried  bytes data 46 49 58"), "{said}");
    let said =
        ok(&folder, &with("name = \"gnss\", kind = \"uart\", line = \"GNSS_TX\", bit-rate = \"auto\""));
    assert!(said.contains("gnss  bytes data 46 49 58"), "{said}");
    let (code, _, said) = run(&folder, &with("kind = \"uart\", line = \"GNS_TX\", bit-rate = \"57.6 kHz\""));
    assert!(
        code == Some(2) && said.contains("--with-bus") && said.contains("did you mean 'GNSS_TX'"),
        "{said}"
    );
    for words in
        ["", "=", "kind", "kind = \"spi\"", "kind = 1", "}]\nx = 1", "kind = \"uart\" }], b = [{ c = 1"]
    {
        let (code, _, said) = run(&folder, &["frames", "buses.dtap", "--with-bus", words]);
        assert!(code == Some(2) && said.contains("--with-bus"), "{words}: {said}");
    }

    // The line at an input gets the name that the setup has for it.
    let setup = std::fs::read_to_string(folder.path().join("setups/buses.toml")).unwrap();
    std::fs::write(folder.path().join("setups/renamed.toml"), setup.replace("RTC_SCL", "SCL")).unwrap();
    let said = ok(&folder, &["info", "buses.dtap", "--setup", "setups/renamed.toml"]);
    assert!(
        said.contains("rtc = i2c on SCL RTC_SDA") && said.contains("'RTC_SCL' is called 'SCL'"),
        "{said}"
    );
    let rtc = ["frames", "buses.dtap", "--bus", "rtc"];
    assert_eq!(ok(&folder, &[&rtc[..], &["--setup", "setups/renamed.toml"]].concat()), ok(&folder, &rtc));
}

#[test]
fn a_trigger_on_frames_that_does_not_come_says_what_is_wrong_with_the_bus() {
    let folder = everything();
    let setup = std::fs::read_to_string(folder.path().join("setups/buses.toml")).unwrap();
    let waits = setup
        .replace("event = \"rtc has write, address == 0x51\"", "event = \"gnss has data == 0x7E\"")
        .replace("time-out = \"1 s\"", "time-out = \"40 ms\"");
    for (bit_rate, wanted) in [
        ("57.6 kHz", "nothing wrong with the bus: what is waited for was not sent"),
        ("9600 Hz", "57.6 kHz, the setup says 9.6 kHz"),
    ] {
        let waits = waits.replace("bit-rate = \"57.6 kHz\"", &format!("bit-rate = \"{bit_rate}\""));
        std::fs::write(folder.path().join("setups/waits.toml"), waits).unwrap();
        let (code, _, said) = run(&folder, &["capture", "setups/waits.toml"]);
        let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(code == Some(2) && said.contains(wanted), "{said}");
    }
}

/// What one run changes is told in its history, and nothing of it stays.
#[test]
fn a_run_changes_its_setup_on_the_command_line() {
    let folder = captured();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&folder).args(args).output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code(), text(output.stdout), text(output.stderr))
    };
    let setup = "setups/tide-gauge.toml";
    let changed = ["--trigger", "adc has mosi == 0x10", "--length", "2 ms", "--before-trigger", "10 %"];
    let (code, said, _) = run(&[&["plan", setup], &changed[..]].concat());
    assert!(code.is_some() && said.contains("2 ms: 200 us before the trigger"), "{said}");
    let (code, said, told) = run(&[&["capture", setup, "--output", "c.dtap"], &changed[..]].concat());
    assert!(code == Some(0) && said.contains("trigger 'adc has mosi == 0x10'"), "{said} {told}");
    assert!(said.ends_with("next: deep-tap check c.dtap\n"), "{said}");
    let (_, said, _) = run(&["info", "c.dtap"]);
    for wanted in [
        "for this run: [trigger] event = \"adc has mosi == 0x10\"",
        "for this run: [sampling] length = \"2 ms\"",
        "for this run: [sampling] before-trigger = \"10 %\"",
    ] {
        assert!(said.contains(wanted), "{wanted}: {said}");
    }
    // Without them, it is as before.
    let (_, said, _) = run(&["capture", setup, "--output", "d.dtap"]);
    assert!(said.contains("trigger 'RESET_N rises while PGOOD high'"), "{said}");
    for (args, wanted) in [
        (["--trigger", "adc has mosy == 1"], "did you mean 'mosi'?"),
        (["--length", "2 V"], "'V' is not a unit of a time"),
        (["--before-trigger", "many"], "--before-trigger"),
    ] {
        let (code, _, told) = run(&["capture", setup, "--output", "e.dtap", args[0], args[1]]);
        assert!(code == Some(2) && told.contains(wanted), "{wanted}: {told}");
    }
    let (code, _, told) = run(&["capture", setup, "--now", "--trigger", "PGOOD rises"]);
    assert!(code == Some(2) && told.contains("cannot be used with"), "{told}");
}

/// A capture is a setup: what it was recorded with records again, wherever that was written.
#[test]
fn a_capture_records_again_what_it_was_recorded_with() {
    let folder = captured();
    let alone = TempDir::new().unwrap();
    std::fs::copy(folder.path().join("tide-gauge.dtap"), alone.path().join("a.dtap")).unwrap();
    let run = |args: &[&str]| {
        let output = tool().current_dir(&alone).args(args).output().unwrap();
        let text = |bytes| String::from_utf8(bytes).unwrap();
        (output.status.code(), text(output.stdout), text(output.stderr))
    };
    let (_, said, told) = run(&["plan", "a.dtap"]);
    assert!(said.starts_with("possible") && said.contains("waiting  on 'RESET_N rises"), "{said} {told}");
    let (code, said, told) = run(&["capture", "a.dtap", "--output", "b.dtap", "--length", "5 ms"]);
    assert!(code == Some(0) && said.contains("recorded 5 ms at 100 MS/s"), "{said} {told}");
    let (_, said, _) = run(&["check", "b.dtap"]);
    assert!(said.contains("U3    tCO"), "{said}");
    // Its own name is taken.
    let (code, _, told) = run(&["capture", "a.dtap"]);
    assert!(code == Some(2) && told.contains("this file is there already"), "{told}");
    let (code, _, told) = run(&["plan", "none.dtap"]);
    assert!(code == Some(2) && told.contains("none.dtap: cannot open"), "{told}");
}
