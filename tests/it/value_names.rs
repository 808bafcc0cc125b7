//! Names of values: in events, lists, orders and messages, either way.

use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::draw::{Picture, RowSource, View};
use deep_tap::event::Program;
use deep_tap::expect::Detail;
use deep_tap::limit::Verdict;
use deep_tap::line::BusId;
use deep_tap::setup::Setup;
use deep_tap::time::{Resolution, Tick};

use crate::support::{self, capture};

const SETUP: &str = r#"
[[line]]
name = "S0"
input = 0

[[line]]
name = "S1"
input = 1

[[line]]
name = "CLK"
input = 2

[[line]]
name = "DATA"
input = 3

[[bus]]
name = "STATE"
lines = ["S1", "S0"]
names = { 0 = "idle", 0b01 = "run", 0x2 = "safe stop" }

[[bus]]
name = "link"
kind = "clocked"
clock = "CLK"
data = "DATA"
bits = 4
gap = "50 us"
names = { data = { 0x9 = "hello", 0x6 = "bye" } }

[[expect]]
name = "order"
bus = "STATE"
order = ["idle -> run", "run -> safe stop"]
"#;

/// Words of four bits at 1 MS/s, ten ticks a bit; the state changes with each.
fn record(setup: &Setup) -> Capture {
    let (mut clock, mut data, mut level) = (Vec::new(), Vec::new(), false);
    for (start, word) in [(100u64, 0x9u64), (300, 0x6), (500, 0x5)] {
        for bit in 0..4 {
            let at = start + bit * 10;
            let wanted = word >> (3 - bit) & 1 == 1;
            if wanted != level {
                data.push(at);
                level = wanted;
            }
            clock.extend([at + 5, at + 10]);
        }
    }
    let lines: [(&str, &[u64]); 4] =
        [("S0", &[200, 400]), ("S1", &[400, 600]), ("CLK", &clock), ("DATA", &data)];
    setup.apply(capture("1 MS/s", Resolution::EXACT, 1000, &lines)).unwrap()
}

#[test]
fn values_are_asked_for_by_name() {
    let setup = support::setup(SETUP).unwrap();
    let record = record(&setup);
    let hits = |text: &str| -> Vec<u64> {
        let program = Program::compile(text, &setup.scope()).unwrap().at(record.base()).unwrap();
        program.hits(&record, record.range()).map(|hit| hit.tick.0).collect()
    };
    assert_eq!(hits("when STATE == run"), [200]);
    assert_eq!(hits("when STATE == \"safe stop\""), [400]);
    assert_eq!(hits("link has data == bye").len(), 1);
    assert_eq!(hits("link has data == bye"), hits("link has data == 0x6"));
    assert_eq!(hits("link has data in bye .. \"hello\""), hits("link has data in 0x6 .. 0x9"));
    let refused = |text: &str| {
        let error = Program::compile(text, &setup.scope()).unwrap_err();
        format!("{} [{}]", error.message(), error.help().unwrap_or_default())
    };
    assert_eq!(
        refused("link has data == helo"),
        "no value of 'data' is called 'helo' [did you mean 'hello'?]"
    );
    assert!(refused("link has drift == hello").contains("no value of 'drift' has a name"));
    assert!(refused("when STATE == halt").starts_with("no value of 'STATE' is called 'halt'"));
    assert!(refused("S0 rises while STATE == high").contains("a value such as 12"));
}

#[test]
fn names_stand_beside_the_values() {
    let setup = support::setup(SETUP).unwrap();
    let record = record(&setup);
    let bus: &SerialBus = &setup.serial[0];
    let frames: Vec<String> =
        bus.frames(&record, record.range()).unwrap().map(|frame| bus.names().show(&frame)).collect();
    assert_eq!(frames, ["word data=0x9 (hello)", "word data=0x6 (bye)", "word data=0x5"]);
    let view = View { start: Tick(0), end: Tick(1000), columns: 60 };
    let rows = [RowSource::Bus(BusId(0)), RowSource::Frames(bus)];
    let picture = Picture::new(&record, &rows, view, &[]).unwrap().to_string();
    for wanted in ["0x0 (idle)", "0x1 (run)", "safe stop"] {
        assert!(picture.contains(wanted), "{wanted}: {picture}");
    }
    // The states of an order are the names of the bus.
    let Detail::Order(order) = setup.expectations[0].check(&record).unwrap().found else { panic!() };
    let last = &order.found[0];
    assert_eq!((order.verdict, order.broken), (Verdict::Fail, 1));
    assert_eq!((last.from.as_str(), last.to.as_str()), ("safe stop", "idle"));
}

#[test]
fn names_that_cannot_be_are_refused() {
    for (from, to, wanted) in [
        ("0b01 = \"run\"", "0b00 = \"run\"", "0b00 has two names, 'idle' and 'run'"),
        ("\"run\", 0x2", "\"idle\", 0x2", "'idle' is the name of two values, 0x0 and 0x1"),
        ("0x2 = \"safe stop\"", "0x4 = \"safe stop\"", "bus 'STATE' has 2 lines, and 'safe stop' is 0x4"),
        ("0x2 = ", "2x = ", "'2x' is not a value"),
        ("data = { 0x9", "date = { 0x9", "there is no field 'date' here"),
        ("0x9 = \"hello\"", "0x19 = \"hello\"", "'data' has 4 bits, and 'hello' is 0x19"),
        (
            "names = { data = { 0x9 = \"hello\", 0x6 = \"bye\" } }",
            "names = { 0x9 = \"hello\" }",
            "names of the values",
        ),
    ] {
        assert!(SETUP.contains(from), "{from}");
        let error = support::setup(&SETUP.replacen(from, to, 1)).unwrap_err();
        assert!(error.to_string().contains(wanted), "{wanted}: {error}");
    }
}
