//! Edges on the lines of every decoder.

use std::sync::LazyLock;

use deep_tap::capture::{Attachment, Capture, TraceBuilder};
use deep_tap::decode::Registers;
use deep_tap::diagnose::diagnose_bus;
use deep_tap::line::{Level, Line};
use deep_tap::roles::roles;
use deep_tap::setup::{Attached, Setup};
use deep_tap::time::{Tick, TimeBase};

use super::Target;

/// Each byte is a change: which line, to what, and how long after the one before.
pub(super) const BUSES: Target = Target {
    name: "buses",
    run: |bytes| {
        let Some(capture) = capture(bytes) else { return };
        for bus in &SETUP.serial {
            let Ok(frames) = bus.frames(&capture, capture.range()) else { continue };
            let mut registers = Registers::new(bus.name(), bus.protocol(), &SETUP.registers);
            for frame in frames.take(10_000) {
                let _ = registers.as_mut().map(|registers| registers.frame(&frame));
                let _ = frame.fields.iter().map(|field| (field.hex(), field.character())).collect::<Vec<_>>();
            }
            for transfer in bus.transfers(&capture, capture.range()).into_iter().flatten().take(10_000) {
                let _ = (transfer.text(), transfer.length(), transfer.carried_until());
            }
            let _ = diagnose_bus(&capture, bus);
        }
        for exchange in &SETUP.exchanged {
            let Ok(frames) = exchange.frames(&capture, capture.range()) else { continue };
            frames.take(10_000).for_each(|frame| drop(exchange.names().show(&frame)));
        }
        for expectation in &SETUP.expectations {
            let _ = expectation.check(&capture);
        }
        // What is found becomes a setup that loads.
        let text = roles(&capture).setup(&capture);
        let texts = [Attachment { name: "r.toml".into(), text }];
        Setup::load("r.toml", &Attached(&texts)).expect("a setup of what was found");
    },
    seeds: &["tests/fixtures/captures"],
    texts: &["a clock, its data, and more: UUUUUUUUUUUUUUUU", "\u{1}\u{2}\u{3}\u{4}\u{5}\u{6}\u{7}"],
    slow: 8,
};

const LINES: usize = 8;

/// What is meant by what they carry.
const MEANT: &str = r#"
[[exchange]]
name = "one"
bus = "b7"
longest-pause = "20 us"

[[exchange.step]]
name = "first"
has = "length > 0"
fields = { count = "data[0](1..0)", rest = "data[0..]" }

[[exchange.step]]
name = "more"
has = "data != 0x1f"
times = "count"
within = "3 us"

[[exchange.step]]
name = "last"
has = "fault"
optional = true
when = "count == 2"

[[exchange]]
name = "two"

[[exchange.step]]
bus = "b0"
has = "length > 0"
times = "1 .. 3"
fields = { n = "data[0]" }

[[exchange.step]]
bus = "b2"
has = "write"
length = "n+1"

[[expect]]
name = "messages"
bus = "b7"
messages = [{ bytes = "1x {length} ( ... ) {crc-16/modbus lowest-first}" }, { bytes = "0x" }]
in-turn = true

[[expect]]
name = "after"
bus = "b0"
text = "U{digit}"
after = "L1 rises"
within = "2 us"
complete = true

[[follow]]
name = "follow"
from = { bus = "b7", value = "data[0]" }
to = { bus = "b8", value = "data[0](4..0)" }
within = "4 us"
"#;

/// A bus of each kind, all on the same lines.
static SETUP: LazyLock<Setup> = LazyLock::new(|| {
    let mut text = String::new();
    for line in 0..LINES {
        text.push_str(&format!("[[line]]\nname = \"L{line}\"\n"));
    }
    for (number, keys) in [
        "kind = \"uart\"\nline = \"L0\"\nbit-rate = \"10 MHz\"",
        "kind = \"uart\"\nline = \"L1\"\nbit-rate = \"auto\"\nparity = \"even\"\ndata-bits = 9",
        "kind = \"i2c\"\nclock = \"L0\"\ndata = \"L1\"",
        "kind = \"spi\"\nclock = \"L0\"\nmosi = \"L1\"\nmiso = \"L2\"\nselect = \"L3\"\nmode = 1",
        "kind = \"can\"\nline = \"L0\"\nbit-rate = \"5 MHz\"",
        "kind = \"jtag\"\ntck = \"L0\"\ntms = \"L1\"\ntdi = \"L2\"\ntdo = \"L3\"",
        "kind = \"one-wire\"\nline = \"L0\"",
        "kind = \"clocked\"\nclock = \"L0\"\ndata = \"L1\"\nbits = 5\ngap = \"1 us\"",
        "kind = \"pulses\"\nline = \"L0\"\nthreshold = \"600 ns\"\nrest = \"50 us\"",
        "kind = \"parallel\"\ndata = [\"L3\", \"L2\", \"L1\"]\nclock = \"L0\"",
        "kind = \"lin\"\nline = \"L0\"\nbit-rate = \"1 MHz\"",
        "kind = \"i2s\"\nclock = \"L0\"\nselect = \"L1\"\ndata = \"L2\"",
        "kind = \"mdio\"\nclock = \"L0\"\ndata = \"L1\"",
        "kind = \"swd\"\nclock = \"L0\"\ndata = \"L1\"",
    ]
    .iter()
    .enumerate()
    {
        text.push_str(&format!("[[bus]]\nname = \"b{number}\"\n{keys}\n"));
    }
    text.push_str(MEANT);
    text.push_str("[[register]]\nbus = \"b2\"\nname = \"r\"\nnumber = 1\nbytes = 8\n");
    let texts = [Attachment { name: "s.toml".into(), text }];
    Setup::load("s.toml", &Attached(&texts)).expect("the buses above are as the documents say")
});

fn capture(bytes: &[u8]) -> Option<Capture> {
    let mut traces: Vec<TraceBuilder> = (0..LINES).map(|_| TraceBuilder::new(Level::Low)).collect();
    let mut tick = 1;
    for byte in bytes.iter().take(20_000) {
        let trace = &mut traces[usize::from(byte & 7)];
        let level = match byte >> 3 & 7 {
            0..=4 => trace.level().opposite(),
            5 => Level::High,
            6 => Level::Low,
            _ => Level::Unknown,
        };
        trace.push_edge(Tick(tick), level).ok()?;
        tick += [1, 4, 30, 700][usize::from(byte >> 6)];
    }
    let base = TimeBase::from_rate("100 MS/s".parse().ok()?).ok()?;
    let lines = traces.into_iter().enumerate();
    let builder = lines.fold(Capture::builder(base, tick), |builder, (number, trace)| {
        builder.line(Line::named(format!("L{number}")), trace.finish(tick))
    });
    builder.build().ok()
}
