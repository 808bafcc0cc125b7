//! Instruments over the network: the library's client against its server, on the loopback address.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::ops::ControlFlow;
use std::path::Path;
use std::time::Duration;

use deep_tap::bench::{Remote, Server, ServerOptions, Timeouts, command_table, connect};
use deep_tap::capture::Capture;
use deep_tap::format::dtap::{self, Recorder, SaveOptions};
use deep_tap::instrument::Instrument;
use deep_tap::setup::{CaptureSink, RecordOptions, Setup};
use deep_tap::{Error, ErrorKind, Result};

use crate::support::{record, root};

fn serve(address: &str) -> Server {
    serve_with(address, ServerOptions::default())
}

fn serve_with(address: &str, options: ServerOptions) -> Server {
    Server::start(connect(address, Path::new("")).unwrap(), "127.0.0.1:0", options).unwrap()
}

fn remote(server: &Server) -> Remote {
    Remote::connect(&server.address().to_string(), Timeouts::default()).unwrap()
}

/// A client that says what a person would type.
struct Typed(BufReader<TcpStream>);

impl Typed {
    fn to(server: &Server) -> Typed {
        let stream = TcpStream::connect(server.address()).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        Typed(BufReader::new(stream))
    }

    fn say(&mut self, message: &[u8]) {
        self.0.get_mut().write_all(message).unwrap();
        self.0.get_mut().write_all(b"\n").unwrap();
    }

    fn ask(&mut self, message: &str) -> String {
        self.say(message.as_bytes());
        let mut line = Vec::new();
        self.0.read_until(b'\n', &mut line).unwrap();
        String::from_utf8_lossy(&line).trim_end().to_string()
    }

    /// A message and the error it led to.
    fn error(&mut self, message: &str) -> String {
        self.ask(&format!("{message};:SYST:ERR?"))
    }
}

fn setup(name: &str, changes: &[(&str, &str)]) -> Setup {
    let text = std::fs::read_to_string(root().join("setups").join(name)).unwrap();
    let text = changes.iter().fold(text, |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replace(from, to)
    });
    let text = text.split("[[part]]").next().unwrap().to_string();
    crate::support::setup(&text).unwrap()
}

fn bytes(capture: &Capture) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("c.dtap");
    dtap::save(capture, &path, SaveOptions::default()).unwrap();
    std::fs::read(path).unwrap()
}

#[test]
fn over_the_network_it_is_the_same_capture_byte_for_byte() {
    let stop = "RESET_N rises while PGOOD high";
    for (board, setup) in [
        // On board, with a simple trigger.
        ("bench:tide-gauge", setup("tide-gauge.toml", &[])),
        // On board, from the beginning, with remarks: the trigger comes too early.
        ("bench:tide-gauge?seed=3", setup("tide-gauge.toml", &[("\"20 %\"", "\"90 %\"")])),
        // Streamed, the host looks for the trigger.
        ("bench:tide-gauge?seed=5", setup("tide-gauge.toml", &[(stop, "ADDR changes 7 times")])),
        // With what the outputs send.
        ("bench:tide-gauge?faults=none&seed=2", setup("console.toml", &[])),
        // With analog lines, streamed.
        ("bench:tide-gauge?instrument=EX-M16", setup("power-rail.toml", &[])),
        // With analog lines, on board.
        (
            "bench:tide-gauge?instrument=EX-M16&seed=8",
            setup("power-rail.toml", &[("VDD33 rises through 1.65 V while RESET_N low", "PGOOD rises")]),
        ),
    ] {
        let mut here = connect(board, Path::new("")).unwrap();
        let server = serve(board);
        let mut there = remote(&server);
        assert_eq!(there.identity(), here.identity());
        assert_eq!(there.capabilities(), here.capabilities());
        for _ in 0..2 {
            let own = record(&setup, &mut *here, RecordOptions::default()).unwrap();
            let sent = record(&setup, &mut there, RecordOptions::default()).unwrap();
            assert_eq!(sent.remarks(), own.remarks());
            assert!(bytes(&sent) == bytes(&own), "{board}: the files differ");
        }
    }
}

#[test]
fn what_a_replay_does_not_know_stays_unknown_over_the_network() {
    let folder = root().join("tests/fixtures/sync-mem");
    let text = r#"
        sampling = { rate = "500 MS/s", length = "3 us" }
        line = [{ name = "CLK", input = "tb.clk" }, { name = "OE", input = "tb.oe" }]
        bus = [{ name = "Q", signal = "tb.q", width = 8 }]
    "#;
    let setup = crate::support::setup(text).unwrap();
    let address = "replay:sync_mem.vcd";
    let mut here = connect(address, &folder).unwrap();
    let server =
        Server::start(connect(address, &folder).unwrap(), "127.0.0.1:0", ServerOptions::default()).unwrap();
    let options = RecordOptions { now: true, ..Default::default() };
    let own = record(&setup, &mut *here, options).unwrap();
    let sent = record(&setup, &mut remote(&server), options).unwrap();
    assert!(own.traces().iter().any(|trace| trace.is_ever_unknown()), "the test looks at nothing");
    assert!(bytes(&sent) == bytes(&own));
}

#[test]
fn a_trigger_that_does_not_come_is_explained_as_if_the_instrument_were_here() {
    let never = ("RESET_N rises while PGOOD high", "RESET_N rises while MEM_OE_N low");
    let setup = setup("tide-gauge.toml", &[never, ("time-out = \"1 s\"", "time-out = \"20 ms\"")]);
    let mut here = connect("bench:tide-gauge", Path::new("")).unwrap();
    let server = serve("bench:tide-gauge");
    let own = record(&setup, &mut *here, RecordOptions::default()).unwrap_err();
    let sent = record(&setup, &mut remote(&server), RecordOptions::default()).unwrap_err();
    assert_eq!((sent.kind(), sent.to_string(), sent.help()), (own.kind(), own.to_string(), own.help()));
    assert!(own.help().unwrap().contains("MEM_OE_N was never low"), "{own:?}");
}

#[test]
fn every_command_of_the_reference_is_understood_in_both_forms() {
    let server = serve("bench:tide-gauge?instrument=EX-M16");
    let mut typed = Typed::to(&server);
    let sets = [
        ("*ESE", "36"),
        ("*SRE", "8"),
        ("FORM:BORD", "NORM"),
        ("INP7:THR", "1.8"),
        ("ROUT:SCAN", "(@3,0:2)"),
        ("SENS:ANAL:EVER", "5"),
        ("SENS:ANAL:SCAN", "(@1,0)"),
        ("SENS:ANAL:RANG1", "0,5"),
        ("SENS:SWE:OREF:POIN", "10"),
        ("SENS:SWE:POIN", "500"),
        ("SENS:SWE:RATE", "20E6"),
        ("SENS:SWE:STR", "1"),
        ("SENS:SWE:TINT", "1E-7"),
        ("SOUR3:DATA", "65,10"),
        ("SOUR3:FREQ", "9600"),
        ("SOUR3:FUNC", "DATA"),
        ("SOUR3:LENG", "0.5"),
        ("SOUR3:OUTP", "1"),
        ("SOUR3:PULS:DCYC", "25"),
        ("SOUR3:STAR", "TRIG,0.002"),
        ("STAT:OPER:ENAB", "40"),
        ("STAT:QUES:ENAB", "1"),
        ("TRAC:POIN", "LEV,77"),
        ("TRIG:QUAL", "3,1,1,0"),
        ("TRIG:SLOP", "NEG"),
        ("TRIG:SOUR", "INT2"),
    ];
    let mut seen = 0;
    for row in command_table().lines().skip(2) {
        let cell = row.split('|').nth(1).unwrap();
        for header in cell.split(',').map(|text| text.trim().trim_matches('`')) {
            let long =
                header.replace("[:DATA]", ":DATA").replace("[:EVENt]", ":EVENt").replace("[:NEXT]", ":NEXT");
            let long = long
                .replace("[:IMMediate]", ":IMMediate")
                .replace("[:SEQuence]", ":SEQuence")
                .replace("<n>", "1");
            let mut short: String = long.chars().filter(|c| !c.is_ascii_lowercase()).collect();
            for optional in [":EVEN", ":NEXT", ":IMM", ":SEQ"] {
                short = short.replace(optional, "");
            }
            if !short.starts_with("SOUR") {
                short = short.replace(":DATA", "");
            }
            for form in [long.clone(), long.to_lowercase(), short.clone()] {
                let plain = |text: &str| text.replace(|c: char| c.is_ascii_digit(), "");
                let set = sets.iter().find(|(name, _)| plain(name) == plain(&short));
                let parameter = match set {
                    None if short == "TRAC?" => " LEV".to_string(),
                    Some((_, value)) => format!(" {value}"),
                    None => String::new(),
                };
                typed.say(b"*CLS");
                let message = format!("{form}{parameter}");
                if form.ends_with('?') && !form.to_uppercase().contains("CAP") {
                    let answer = typed.error(&message);
                    assert!(
                        answer.ends_with("0,\"No error\"") || form.to_uppercase().contains("ERR"),
                        "{message}: {answer}"
                    );
                } else if !form.ends_with('?') {
                    let answer = typed.error(&message);
                    let fine =
                        ["0,\"No error\"", "-221", "-213"].iter().any(|start| answer.starts_with(start));
                    assert!(fine, "{message}: {answer}");
                }
                seen += 1;
            }
        }
    }
    assert!(seen > 150, "{seen}");
    // What was set is what is asked for.
    typed.say(b"*RST;*CLS");
    for (header, value) in sets {
        assert_eq!(typed.error(&format!("{header} {value}")), "0,\"No error\"", "{header}");
        let answer = typed.ask(&format!("{header}?"));
        let wanted = match header {
            "ROUT:SCAN" => "(@3,0,1,2)",
            "SENS:SWE:RATE" => "20000000",
            "TRAC:POIN" => "77",
            _ => value,
        };
        assert_eq!(answer, wanted, "{header}");
    }
}

#[test]
fn errors_have_the_standards_numbers_and_set_its_bits() {
    let server = serve("bench:tide-gauge");
    let mut typed = Typed::to(&server);
    assert_eq!(typed.ask("*ESR?"), "128", "power on");
    for (message, number) in [
        ("FETCh:EVERYthing", -113),
        ("SENS:SWE:POIN", -109),
        ("SENS:SWE:POIN 1,2", -108),
        ("SENS:SWE:POIN abc", -104),
        ("SENS:SWE:POIN -5", -222),
        ("SENS:SWE:POIN 1.5", -222),
        ("SENS:SWE:TINT 10 LIGHTYEARS", -131),
        ("SENS:SWE:TINT 11NS", -222),
        ("ROUT:SCAN (@0:", -104),
        ("ROUT:SCAN (@0:99999)", -222),
        ("TRIG:SLOP SIDEways", -224),
        ("TRIG:QUAL 3", -109),
        ("TRAC:DATA? COLOurs", -224),
        ("INIT?", -113),
        (":::", -102),
        ("INP99999999999:THR 1", -114),
        ("ROUT:SCAN (@0,77);:INIT", -221),
        ("ROUT:SCAN (@0);:TRIG:SOUR INT4;:INIT", -221),
    ] {
        let answer = typed.error(message);
        assert!(answer.starts_with(&format!("{number},\"")), "{message}: {answer}");
    }
    // 32: a command error, 16: an execution error (IEEE 488.2, 11.5.1).
    assert_eq!(typed.ask("*CLS;FOO;*ESR?"), "32");
    assert_eq!(
        typed.ask("*CLS;SENS:SWE:POIN -5;*ESE 16;*SRE 32;*STB?"),
        "100",
        "summary, error queue, request"
    );
    typed.say(b"*CLS");
    (0..40).for_each(|_| typed.say(b"FOO"));
    assert_eq!(typed.ask("SYST:ERR:COUN?"), "32");
    let last = (0..32).map(|_| typed.ask("SYST:ERR?")).last().unwrap();
    assert!(last.starts_with("-350"), "{last}");
    assert_eq!(typed.ask("SYST:ERR?"), "0,\"No error\"");
    // A header without a colon goes on where the one before left off; with one, from the root.
    assert_eq!(typed.error("SENS:SWE:POIN 7;OREF:POIN 3;POIN?;:SENS:SWE:POIN?"), "3;7;0,\"No error\"");
}

#[test]
fn it_waits_for_the_recording_when_asked_to() {
    let server = serve("bench:tide-gauge");
    let mut typed = Typed::to(&server);
    typed.say(b"ROUT:SCAN (@0:7);:SENS:SWE:RATE 100E6;POIN 2000000;:SENS:SWE:OREF:POIN 100;:TRIG:SOUR INT1;QUAL 0,1");
    assert_eq!(typed.ask("INIT;:STAT:OPER:COND?"), "32", "waiting");
    assert_eq!(typed.ask("*OPC?;:STAT:OPER:COND?;EVEN?;:SENS:SWE:PROG?"), "1;0;40;DONE,2000000,100");
    assert_eq!(typed.ask("*OPC;*ESR?"), "128");
    assert_eq!(typed.ask("*STB?;*ESR?"), "0;1", "nothing goes on: the operation is complete");
    // The trigger is the first sample with input 1 high.
    typed.say(b"TRAC:POIN LEV,200;:TRAC? LEV");
    let mut block = vec![0; 5 + 200 + 1];
    typed.0.read_exact(&mut block).unwrap();
    assert_eq!(&block[..5], b"#3200");
    assert_eq!((block[5 + 99] & 2, block[5 + 100] & 2), (0, 2));
    assert_eq!(typed.ask("SYST:ERR?"), "0,\"No error\"");
}

#[test]
fn the_ends_of_settings_and_all_errors_can_be_asked_for() {
    let server = serve("bench:tide-gauge");
    let mut client = Typed::to(&server);
    let fastest: f64 = client.ask("SENS:SWE:RATE? MAX").parse().unwrap();
    let slowest: f64 = client.ask("SENS:SWE:RATE? MINimum").parse().unwrap();
    assert!(slowest < fastest);
    assert_eq!(client.ask("SENS:SWE:RATE MAX;RATE?").parse::<f64>().unwrap(), fastest);
    let interval: f64 = client.ask("SENS:SWE:TINT? MIN").parse().unwrap();
    assert!((interval * fastest - 1.0).abs() < 1e-9);
    let deepest: u64 = client.ask("SENS:SWE:POIN MAX;POIN?").parse().unwrap();
    assert!(deepest > 1_000_000 && client.ask("SENS:SWE:POIN? MAX") == deepest.to_string());
    assert_eq!(client.ask("SENS:SWE:OREF:POIN? MAX"), deepest.to_string());
    assert!(client.error("SENS:SWE:RATE BANANA").starts_with("-104"));
    // What one message did wrong is told at once, and then it is gone.
    client.say(b"NONSense;*ESE 300;:SENS:SWE:RATE 0");
    let all = client.ask("SYST:ERR:ALL?");
    assert!(all.starts_with("-113,") && all.matches("-222,").count() == 2, "{all}");
    assert_eq!(client.ask("SYST:ERR:ALL?"), "0,\"No error\"");
}

/// Nobody holds the instrument by falling silent.
#[test]
fn a_client_that_says_nothing_is_dropped() {
    let idle = Duration::from_millis(300);
    let server =
        serve_with("bench:tide-gauge", ServerOptions { idle, clients: 1, ..ServerOptions::default() });
    let mut silent = Typed::to(&server);
    silent.say(b"SENS:SWE:POIN 1000");
    let mut told = Vec::new();
    silent.0.read_to_end(&mut told).unwrap();
    assert!(String::from_utf8_lossy(&told).starts_with("-200,"), "{told:?}");
    // The next one has the place, and keeps it while its recording runs.
    let mut next = Typed::to(&server);
    next.say(b"ROUT:SCAN (@0,8);:TRIG:SOUR INT8;:INIT");
    let recording = next.ask("SENS:SWE:PROG?");
    assert!(recording.starts_with("WAIT") || recording.starts_with("REC"), "{recording}");
    std::thread::sleep(idle * 3);
    assert!(!next.ask("SENS:SWE:PROG?").is_empty());
}

#[test]
fn garbage_and_endless_lines_hurt_nobody() {
    let server = serve("bench:tide-gauge");
    let mut typed = Typed::to(&server);
    let mut random = deep_tap::bench::Random::new(7);
    for _ in 0..300 {
        let length = random.below(90);
        let line: Vec<u8> = (0..length).map(|_| random.below(256) as u8).filter(|b| *b != b'\n').collect();
        typed.say(&line);
    }
    typed.say(&vec![b'A'; 200_000]);
    typed.say(b"*CLS");
    typed.say(&vec![b'*'; 70_000]);
    assert_eq!(typed.ask("SYST:ERR?"), "-363,\"Input buffer overrun;a message has at most 65536 bytes\"");
    for deep in ["((((".repeat(9000), "A:".repeat(20_000), "\"".repeat(60_001), ";".repeat(60_000)] {
        typed.say(deep.as_bytes());
    }
    assert_eq!(typed.ask("*CLS;*IDN?").split(',').count(), 4);
}

#[test]
fn a_second_client_may_ask_but_not_record_until_the_first_has_gone() {
    let server = serve_with("bench:tide-gauge", ServerOptions { clients: 2, ..ServerOptions::default() });
    let mut first = Typed::to(&server);
    assert_eq!(first.error("SENS:SWE:STR 1;:INIT"), "0,\"No error\"");
    let mut second = Typed::to(&server);
    assert_eq!(second.ask("*IDN?").split(',').count(), 4);
    let refused = second.error("INIT");
    assert!(refused.starts_with("-203,\"Command protected;in use by 127.0.0.1:"), "{refused}");
    // The third one does not even get in.
    let refused = Remote::connect(&server.address().to_string(), Timeouts::default()).unwrap_err();
    assert!(refused.message().contains("as many clients as it can"), "{refused:?}");
    drop(first);
    let freed = (0..100).any(|_| {
        std::thread::sleep(Duration::from_millis(20));
        second.error("ABOR").starts_with('0')
    });
    assert!(freed, "a client that has gone holds the instrument");
}

/// Passes bytes on in both directions until so many came from the server.
fn proxy(server: &Server, most: usize) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (address, target) = (listener.local_addr().unwrap().to_string(), server.address());
    std::thread::spawn(move || {
        let (mut client, _) = listener.accept().unwrap();
        let mut there = TcpStream::connect(target).unwrap();
        let (mut up, mut up_from) = (there.try_clone().unwrap(), client.try_clone().unwrap());
        std::thread::spawn(move || std::io::copy(&mut up_from, &mut up));
        let (mut left, mut buffer) = (most, vec![0; 4096]);
        while left > 0 {
            let count = match there.read(&mut buffer) {
                Ok(0) | Err(_) => break,
                Ok(count) => count.min(left),
            };
            client.write_all(&buffer[..count]).unwrap();
            left -= count;
        }
        let _ = client.shutdown(std::net::Shutdown::Both);
        let _ = there.shutdown(std::net::Shutdown::Both);
    });
    address
}

/// Records into a file; what went wrong, and what is in the file then.
fn broken_off(setup: &Setup, instrument: &mut dyn Instrument) -> (Error, Capture, Capture) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("c.dtap");
    let mut file = Recorder::new(&path, SaveOptions::default());
    let go_on = &mut |_| ControlFlow::Continue(());
    let sink: &mut dyn CaptureSink = &mut file;
    let error = setup.record_into(instrument, RecordOptions::default(), sink, go_on).unwrap_err();
    assert!(file.finish_broken_off(error.message()).unwrap());
    let kept = dtap::open(&path).unwrap().capture;
    let mut here = connect("bench:tide-gauge", Path::new("")).unwrap();
    (error, kept, record(setup, &mut *here, RecordOptions::default()).unwrap())
}

#[test]
fn a_connection_that_drops_keeps_what_arrived_and_says_what_is_missing() {
    let setup = setup("tide-gauge.toml", &[]);
    let server = serve("bench:tide-gauge");
    let dropping = proxy(&server, 2_000_001);
    let mut remote = Remote::connect(&dropping, Timeouts::default()).unwrap();
    let (error, kept, whole) = broken_off(&setup, &mut remote);
    assert_eq!(error.kind(), ErrorKind::Link);
    // Samples of 4 bytes, and what else was said.
    let len = kept.len();
    assert!((480_000..500_000).contains(&len), "{len}");
    assert!(error.message().contains(&format!("dropped; {len} samples had arrived")), "{error:?}");
    assert!(kept.remarks().iter().any(|r| r.contains("broke off")), "{:?}", kept.remarks());
    for line in 0..whole.lines().len() {
        let line = deep_tap::line::LineId(line);
        let upto = deep_tap::time::Tick(0)..deep_tap::time::Tick(len);
        assert!(kept.trace(line).edges(upto.clone()).eq(whole.trace(line).edges(upto)));
    }
    assert!(remote.status().is_ok() && remote.arm().is_err(), "the broken connection stays broken");
    // The bench's own link fault, in the same words as on the spot.
    let fault = "bench:tide-gauge?faults=all,link-drops:300k";
    let (error, kept, _) = broken_off(&setup, &mut *connect(fault, Path::new("")).unwrap());
    assert!(error.message().contains("dropped after 300000 samples") && kept.len() == 300_000, "{error:?}");
    let (error, kept, _) = broken_off(&setup, &mut self::remote(&serve(fault)));
    assert!(error.message().contains("dropped after 300000 samples") && kept.len() == 300_000, "{error:?}");
}

#[test]
fn a_client_that_does_not_read_is_dropped_and_others_go_on() {
    let patience = Duration::from_millis(200);
    let server = serve_with("bench:tide-gauge", ServerOptions { patience, ..ServerOptions::default() });
    let mut slow = Typed::to(&server);
    slow.say(b"ROUT:SCAN (@0:21);:SENS:SWE:RATE 100E6;POIN 20000000;:INIT;*WAI");
    // 80 megabytes are asked for and never read.
    for _ in 0..80 {
        if slow.0.get_mut().write_all(b"TRAC:POIN LEV,262144;:TRAC? LEV\n").is_err() {
            break;
        }
    }
    let mut other = Typed::to(&server);
    let freed = (0..600).any(|_| {
        std::thread::sleep(Duration::from_millis(50));
        other.error("SENS:SWE:POIN 100").starts_with('0')
    });
    assert!(freed);
    assert_eq!(other.ask("*RST;:INIT;*OPC?"), "1");
}

/// Something that is no instrument: it says this to whatever it hears, or nothing at all.
fn stranger(says: &'static [&'static str]) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    std::thread::spawn(move || {
        let (stream, _) = listener.accept().unwrap();
        let mut stream = BufReader::new(stream);
        let (mut line, mut says) = (String::new(), says.iter());
        while stream.read_line(&mut line).is_ok_and(|count| count > 0) {
            if let Some(answer) = says.next() {
                let _ = stream.get_mut().write_all(format!("{answer}\n").as_bytes());
            }
        }
    });
    address
}

#[test]
fn whoever_else_answers_is_told_apart() {
    let timeouts = Timeouts { connect: Duration::from_millis(500), answer: Duration::from_millis(1500) };
    let refused = |address: &str| -> Error {
        let outcome: Result<Remote> = Remote::connect(address, timeouts);
        let error = outcome.unwrap_err();
        assert!(error.kind() == ErrorKind::Link && error.help().is_some(), "{error:?}");
        error
    };
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    for (address, words) in [
        (free, "cannot connect to 127.0.0.1"),
        (stranger(&[]), "nothing there answers as an instrument"),
        (stranger(&["220 mail ready"]), "something else than an instrument answers at 127.0.0.1"),
        (
            stranger(&["EX,POWER-1,77,2.1", "-113,\"Undefined header\""]),
            "'EX,POWER-1,77,2.1' answers, which does not know",
        ),
        (stranger(&["EX,POWER-1,77,2.1"]), "which does not know these commands"),
        (
            stranger(&["Deep Tap,EX-D32,0,9.0", "2;0,\"No error\""]),
            "speaks version 2 of the commands, this program version 1",
        ),
        (
            stranger(&["Deep Tap,X,0,1", "1;0,\"No error\"", "0,\"No error\"", "#15{\"a\":"]),
            "describes itself wrongly",
        ),
        (
            stranger(&["Deep Tap,X,0,1", "1;0,\"No error\"", "0,\"No error\"", "#9999999999"]),
            "a block of 999999999 bytes",
        ),
        ("no-such-host.invalid:5025".to_string(), "there is no host"),
    ] {
        let error = refused(&address);
        assert!(error.message().contains(words), "{words}: {error:?}");
    }
}
