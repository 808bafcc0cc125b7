//! Expected bytes and expected orders of states, against records made for them.

use deep_tap::capture::Capture;
use deep_tap::decode::{Protocol, SerialBus, TransferEnds, UartConfig};
use deep_tap::event::{FrameTests, Program, Scope};
use deep_tap::expect::{Broken, Difference, Order, Payload, States, Transfers};
use deep_tap::limit::Verdict;
use deep_tap::line::{Bus, LineId, Radix};
use deep_tap::quantity::Time;
use deep_tap::time::Resolution;

use crate::support::{capture, time};

/// Bytes at 10 ticks a bit, from these ticks on, idle high from tick 1 on.
fn uart(bytes: &[(u64, u8)], len: u64) -> Capture {
    let mut toggles = vec![1];
    for (start, byte) in bytes {
        let mut level = true;
        for bit in 0..10u64 {
            let wanted = match bit {
                0 => false,
                9 => true,
                n => byte >> (n - 1) & 1 == 1,
            };
            if wanted != level {
                toggles.push(start + bit * 10);
                level = wanted;
            }
        }
    }
    capture("1 MS/s", Resolution::SAMPLED, len, &[("TX", &toggles), ("GO", &[450])])
}

fn payload(values: &[u8]) -> Payload {
    let protocol = Protocol::Uart(UartConfig::new("100 kHz".parse().unwrap()));
    let bus = SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap();
    let values = values.iter().map(|byte| u64::from(*byte)).collect();
    Payload { bus, field: None, only: None, values, after: None, within: None, complete: false }
}

#[test]
fn bytes_are_compared_up_to_the_first_difference() {
    let record = uart(&[(100, b'o'), (220, b'k'), (340, b'!'), (500, b'?')], 1000);
    let us = |n: u64| time(&format!("{n} us"));
    let check = |payload: Payload| {
        let result = payload.compare(&record).unwrap();
        (result.verdict, result.matched, result.difference, result.extra)
    };
    assert_eq!(check(payload(b"ok")), (Verdict::Pass, 2, None, 2));
    let wrong = Difference { place: 1, expected: Some(0x4B), found: Some(0x6B), at: us(230) };
    assert_eq!(check(payload(b"oK!")), (Verdict::Fail, 1, Some(wrong), 0));
    // What is missing may still come, unless it had to come in time.
    let missing = |at: Time| Some(Difference { place: 4, expected: Some(0x2E), found: None, at });
    assert_eq!(check(payload(b"ok!?.")), (Verdict::Inconclusive, 4, missing(us(1000)), 0));
    let in_time = Payload { within: Some(us(900)), ..payload(b"ok!?.") };
    assert_eq!(check(in_time), (Verdict::Fail, 4, missing(us(900)), 0));
    let extra = Difference { place: 2, expected: None, found: Some(0x21), at: us(350) };
    assert_eq!(check(Payload { complete: true, ..payload(b"ok") }), (Verdict::Fail, 2, Some(extra), 2));
    // From an event on; and one that never comes.
    let scope = Scope::of(&record);
    let after = |text| Some(Program::compile(text, &scope).unwrap());
    assert_eq!(check(Payload { after: after("GO rises"), ..payload(b"?") }), (Verdict::Pass, 1, None, 0));
    assert_eq!(check(Payload { after: after("GO falls"), ..payload(b"?") }).0, Verdict::NotSeen);
    assert_eq!(check(payload(b"")).0, Verdict::Pass, "nothing is always there");
    let long = payload(&[0; 13]).compare(&record).unwrap_err();
    assert!(long.to_string().contains("13 bytes on 'log' take 1.04 ms or more"), "{long}");
}

#[test]
fn transitions_are_allowed_or_broken() {
    let bus = Bus { name: "S".into(), lines: vec![LineId(1), LineId(0)], clock: None, radix: Radix::Hex };
    let names =
        ["idle", "run", "halt"].iter().zip(0..).map(|(name, value)| (name.to_string(), value)).collect();
    let order = Order {
        states: States::Encoded { bus, names },
        allowed: vec![(0, 1), (1, 2), (2, 0)],
        first: Some(0),
        settle: None,
    };
    // 0 → 1 at 100; → 2 at 200 (by way of 3 for a tick); → 0 at 300; → 2 at 400; → 3 at 500.
    let record = capture(
        "1 MS/s",
        Resolution { skew: time("1 us"), ..Resolution::SAMPLED },
        600,
        &[("S0", &[100, 201, 500]), ("S1", &[200, 300, 400])],
    );
    let result = order.follow(&record);
    assert_eq!((result.verdict, result.transitions, result.broken), (Verdict::Fail, 5, 2));
    let broken =
        |from: &str, to: &str, at: &str| Broken { from: Some(from.into()), to: to.into(), at: time(at) };
    assert_eq!(result.found, [broken("idle", "halt", "400 us"), broken("halt", "0x3", "500 us")]);
    let run = &result.stays[1];
    assert_eq!((run.count, run.longest.unwrap().value), (1, time("101 us")));
    assert_eq!(result.stays[0].count, 2);
    // Without skew, the value in between is one of its own.
    let exact =
        capture("1 MS/s", Resolution::EXACT, 600, &[("S0", &[100, 201, 500]), ("S1", &[200, 300, 400])]);
    assert_eq!(order.follow(&exact).broken, 3);
    let settled = Order { settle: Some(time("2 us")), ..order.clone() };
    assert_eq!(settled.follow(&exact).broken, 2);
    let still = capture("1 MS/s", Resolution::EXACT, 600, &[("S0", &[]), ("S1", &[])]);
    assert_eq!(order.follow(&still).verdict, Verdict::NotSeen);
}

#[test]
fn one_line_of_several_is_high() {
    let lines = ["A", "B", "C"].iter().zip(0..).map(|(name, id)| (name.to_string(), LineId(id))).collect();
    let order =
        Order { states: States::OneHot(lines), allowed: vec![(0, 1), (1, 2)], first: None, settle: None };
    let record = |b: &[u64], c: &[u64]| {
        capture("1 MS/s", Resolution::EXACT, 600, &[("A", &[1, 100]), ("B", b), ("C", c)])
    };
    let good = order.follow(&record(&[100, 200], &[200]));
    // It begins in no state at all, which is told; the rest is in order.
    let begins = Broken { from: None, to: "no line high".into(), at: Time::ZERO };
    assert_eq!((good.transitions, good.found), (3, vec![begins]));
    let both = order.follow(&record(&[100, 250], &[200]));
    assert_eq!((both.broken, both.found[1].to.as_str()), (2, "B and C at once"));
    let none = order.follow(&record(&[150, 200], &[200]));
    assert_eq!((none.broken, none.found[1].to.as_str()), (2, "no line high"));
}

#[test]
fn transfers_are_compared_one_after_the_other() {
    // Lines of a console.
    let mut bytes = Vec::new();
    for (number, line) in ["ok\n", "v 12\n", "end\n"].iter().enumerate() {
        let start = 300 + number as u64 * 2000;
        bytes.extend(line.bytes().enumerate().map(|(place, byte)| (start + place as u64 * 120, byte)));
    }
    let record = uart(&bytes, 8000);
    let protocol = Protocol::Uart(UartConfig::new("100 kHz".parse().unwrap()));
    let bus = SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap();
    let bus = bus.with_transfer_ends(TransferEnds::default().value(0x0a));
    let tests = |text: &&str| FrameTests::parse(text).unwrap();
    let expected = |wanted: &[&str]| Transfers {
        bus: bus.clone(),
        only: None,
        wanted: wanted.iter().map(tests).collect(),
        after: None,
        within: None,
        complete: false,
    };
    let told = |transfers: Transfers| {
        let result = transfers.compare(&record).unwrap();
        let difference = result.difference.map(|d| (d.place, d.expected, d.found.is_some()));
        (result.verdict, result.matched, difference, result.extra)
    };
    let differs = |place, expected: &str, came| Some((place, Some(expected.to_string()), came));
    assert_eq!(told(expected(&["text \"ok\"", "data[2] == 0x31"])), (Verdict::Pass, 2, None, 1));
    let wrong = differs(1, "length == 4", true);
    assert_eq!(told(expected(&["text \"ok\"", "length == 4"])), (Verdict::Fail, 1, wrong, 0));
    let missing = differs(3, "text \"x\"", false);
    let four = ["length == 3", "length == 5", "text \"end\"", "text \"x\""];
    assert_eq!(told(expected(&four)), (Verdict::Inconclusive, 3, missing.clone(), 0));
    // In time, it did not come.
    let in_time = Transfers { within: Some(time("7 ms")), ..expected(&four) };
    assert_eq!(told(in_time), (Verdict::Fail, 3, missing, 0));
    let first = Transfers { complete: true, ..expected(&["text \"ok\"", "text \"v\""]) };
    assert_eq!(told(first), (Verdict::Fail, 2, Some((2, None, true)), 1));
    let only = Transfers { only: Some(tests(&"length > 3")), ..expected(&["text \"12\"", "text \"end\""]) };
    assert_eq!(told(only), (Verdict::Pass, 2, None, 0));
    let later = Program::compile("GO rises", &Scope::of(&record)).unwrap();
    let later = Transfers { after: Some(later), ..expected(&["text \"v 12\""]) };
    assert_eq!(told(later), (Verdict::Pass, 1, None, 1));
    // What is not certain decides nothing: a spike in the first line.
    let edges = record.trace(LineId(0)).edges(record.range()).map(|edge| edge.tick.0);
    let mut toggles: Vec<u64> = edges.chain([302, 303]).collect();
    toggles.sort_unstable();
    let spiky = capture("1 MS/s", Resolution::SAMPLED, 8000, &[("TX", &toggles), ("GO", &[450])]);
    let result = expected(&["text \"ok\"", "data[2] == 0x31"]).compare(&spiky).unwrap();
    assert_eq!((result.verdict, result.matched), (Verdict::Inconclusive, 2));
}
