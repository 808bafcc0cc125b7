//! Data in a row, by position, and in transfers; instants of a bus, in searches and in limits.

use deep_tap::bus::Frame;
use deep_tap::capture::Capture;
use deep_tap::decode::{I2cConfig, Protocol, SerialBus, SpiConfig, TransferEnds, UartConfig};
use deep_tap::event::{Meaning, Program, Scope};
use deep_tap::known::Rule;
use deep_tap::limit::{Limit, Verdict, check};
use deep_tap::line::{Level, Line, LineId};
use deep_tap::time::{Resolution, TimeBase};
use proptest::prelude::*;

use crate::support::{bytes, capture};

fn text(start: u64, text: &str) -> Vec<(u64, u8)> {
    text.bytes().enumerate().map(|(place, byte)| (start + 100 * place as u64, byte)).collect()
}

fn line(sent: &[(u64, u8)], len: u64) -> Capture {
    capture("1 MS/s", Resolution::SAMPLED, len, &[("TX", &bytes(sent))])
}

fn scope(capture: &Capture, protocol: Protocol, ends: TransferEnds) -> Scope {
    let lines = (0..protocol.roles().len()).map(LineId).collect();
    let bus = SerialBus::of_lines("bus", protocol, lines).unwrap().with_transfer_ends(ends);
    let mut scope = Scope::of(capture);
    scope.define("bus", Meaning::Frames(bus));
    scope
}

fn uart() -> Protocol {
    Protocol::Uart(UartConfig::new("100 kHz".parse().unwrap()))
}

fn at(capture: &Capture, scope: &Scope, text: &str) -> Vec<u64> {
    let program = Program::compile(text, scope).unwrap().at(capture.base()).unwrap();
    program.hits(capture, capture.range()).map(|hit| hit.tick.0).collect()
}

fn told(scope: &Scope, text: &str) -> (String, String) {
    let error = Program::compile(text, scope).unwrap_err();
    (error.to_string(), error.help().unwrap_or_default().to_string())
}

#[test]
fn a_row_of_data_is_found_across_frames_and_overlapping() {
    let record = line(&text(200, "aabab\r\n"), 2000);
    let scope = scope(&record, uart(), TransferEnds::default());
    let find = |text: &str| at(&record, &scope, text);
    // The ends of the stop bits.
    assert_eq!(find("bus has text \"ab\""), [500, 700]);
    assert_eq!(find("bus has text \"aba\""), [600]);
    assert_eq!(find("bus has bytes \"6x 61\""), [400, 600]);
    assert_eq!(find("bus has text \"\\r\\n\""), [900]);
    assert_eq!(find("bus has data bytes \"0d 0a\", data == 0x0a"), [900]);
    assert!(find("bus has text \"abb\"").is_empty());
    assert!(told(&scope, "bus has text \"\"").0.contains("nothing is asked for"));
    assert!(told(&scope, "bus has text \"\\q\"").1.contains("\\n"));
    assert!(told(&scope, "bus has bytes \"0g\"").1.contains("hexadecimal"));
    assert!(told(&scope, "bus has bytes \"0810\"").1.contains("spaces between"));
    assert!(told(&scope, "bus has bytes 02").1.contains("in quotes"));
    assert!(told(&scope, "bus has data[x] == 1").0.contains("whole number"));
    assert!(told(&scope, "TX text \"a\"").1.contains("'has' or 'at'"));
}

#[test]
fn transfers_end_by_what_the_setup_says() {
    let sent: Vec<(u64, u8)> = [text(200, "on\n"), text(900, "off\n"), text(1800, "x")].concat();
    let record = line(&sent, 2600);
    let find = |ends, text: &str| at(&record, &scope(&record, uart(), ends), text);
    // Twenty bits, 200 ticks, of rest; known, and over, with the tick after.
    let rest = TransferEnds::default();
    assert_eq!(find(rest, "bus transfer has text \"on\""), [701]);
    assert_eq!(find(rest, "bus transfer has length == 4"), [1501]);
    assert_eq!(find(rest, "bus transfer has data[2] == 0x66"), [1501]);
    assert_eq!(find(rest, "bus transfer has length >= 1"), [701, 1501, 2101]);
    let lines = TransferEnds::default().value(0x0a);
    assert_eq!(find(lines, "bus transfer has length >= 1"), [500, 1300]);
    let pairs = TransferEnds::default().length(2);
    assert_eq!(find(pairs, "bus transfer has length == 2"), [400, 1000, 1200, 1900]);
    let long = TransferEnds::default().gap("500 us".parse().unwrap());
    assert_eq!(find(long, "bus transfer has text \"n\\noff\""), [2401], "and what follows");
    let bus = SerialBus::of_lines("bus", uart(), vec![LineId(0)]).unwrap();
    let transfers: Vec<Frame> = bus.transfers(&record, record.range()).unwrap().collect();
    let texts: Vec<Option<String>> = transfers.iter().map(Frame::text).collect();
    assert_eq!(texts, [Some("on\n".into()), Some("off\n".into()), Some("x".into())]);
    // Before the first one there was no whole rest: it may have begun before the record.
    assert!(transfers[1..].iter().all(|transfer| transfer.certain && transfer.begins));
    assert!(!transfers[0].certain && !transfers[0].begins);
    assert_eq!(transfers[1].carried_until().0, 1290);
}

/// Two wires, 20 ticks a bit: `S` a start, `R` a repeated start, `P` a stop, `0`, `1` bits, `.` a rest.
fn two_wires(script: &str) -> Capture {
    let (mut clock, mut data) = (vec![1], vec![1]);
    let (mut high, mut now) = (true, 100);
    let mut set = |level: bool, at: u64| {
        if level != high {
            data.push(at);
            high = level;
        }
    };
    for sign in script.chars() {
        match sign {
            'S' => set(false, now),
            'R' | 'P' => {
                set(sign == 'R', now + 5);
                clock.push(now + 10);
                set(sign == 'P', now + 17);
            }
            '.' => {}
            bit => {
                set(bit == '1', now + 5);
                clock.extend([now + 10, now + 20]);
            }
        }
        // After a start, the clock goes low.
        if matches!(sign, 'S' | 'R') {
            clock.push(now + 20);
        }
        now += 20;
    }
    capture("1 MS/s", Resolution::SAMPLED, now + 100, &[("SCL", &clock), ("SDA", &data)])
}

#[test]
fn a_write_with_a_read_is_one_transfer_and_its_instants_have_names() {
    let (write, read) = ("10100010" /* 0x51, write */, "10100011");
    let two = format!("..S{write}0{}0R{read}0{}1P....S{write}0{}0P....", "00000010", "00110110", "00000111");
    let record = two_wires(&two);
    let scope = scope(&record, Protocol::I2c(I2cConfig::default()), TransferEnds::default());
    let find = |text: &str| at(&record, &scope, text);
    assert_eq!(find("bus at start"), [140, 1000]);
    assert_eq!(find("bus at restart"), [537]);
    assert_eq!(find("bus at begin"), [140, 537, 1000]);
    assert_eq!(find("bus at stop"), [917, 1397]);
    assert_eq!(find("bus at sample").len(), 6 * 9 + 3, "every clock, before a stop and a start, too");
    assert_eq!(find("bus transfer has write-read, data[1] == 0x36"), [917]);
    assert_eq!(find("bus transfer has bytes \"02 36\""), [917]);
    assert_eq!(find("bus has bytes \"02 36\""), [917], "a repeated start goes on with what was begun");
    assert_eq!(find("bus has read, length == 1"), [917]);
    assert_eq!(find("bus at start then bus at restart within 500 us"), [537]);
    let (message, help) = told(&scope, "bus at restrat");
    assert!(message.contains("no instant 'restrat'") && help.contains("'restart'"), "{message} {help}");
    assert!(told(&scope, "SCL at begin").0.contains("which has no frames"));
    assert!(told(&scope, "bus rises").1.contains("restart"));

    // A repeated start comes 7 ticks after the clock; a start after a rest is none.
    let limit =
        |min: &str| Limit::setup("tSU;STA", "SCL rises", "bus at restart").min(min).bind(&scope).unwrap();
    let result = check(&record, &limit("5 us"), Rule::Proven).unwrap();
    assert_eq!((result.verdict, result.counts.seen), (Verdict::Pass, 1));
    assert_eq!(check(&record, &limit("20 us"), Rule::Proven).unwrap().verdict, Verdict::Fail);
    let once = two_wires(&format!("..S{write}0{}0P....", "00000010"));
    assert_eq!(check(&once, &limit("5 us"), Rule::Proven).unwrap().verdict, Verdict::NotSeen);
}

#[test]
fn words_of_one_selection_are_a_transfer_and_the_clock_inside_can_be_counted() {
    // Two words of two bits in a selection, mode 0, and a clock outside of it.
    let clock = [20, 25, 120, 125, 130, 135, 140, 145, 150, 155, 300, 305];
    let lines: [(&str, &[u64]); 4] =
        [("SCK", &clock), ("CS", &[1, 110, 170]), ("MOSI", &[115, 128]), ("MISO", &[138])];
    let record = capture("1 MS/s", Resolution::SAMPLED, 400, &lines);
    let scope = scope(&record, Protocol::Spi(SpiConfig::new(0).bits(2)), TransferEnds::default());
    let find = |text: &str| at(&record, &scope, text);
    assert_eq!(find("bus at select"), [110]);
    assert_eq!(find("bus at release"), [1, 170]);
    assert_eq!(find("bus at sample"), [120, 130, 140, 150]);
    assert_eq!(find("bus transfer has mosi bytes \"2 0\", miso bytes \"0 3\", length == 2"), [170]);
    assert!(find("bus transfer has mosi bytes \"0 3\"").is_empty());
    let period = Limit::period("tCYC", "bus at sample").min("8 us").bind(&scope).unwrap();
    let result = check(&record, &period, Rule::Proven).unwrap();
    assert_eq!((result.verdict, result.counts.seen), (Verdict::Pass, 3), "those outside do not count");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    /// Rests that are nearly as long as what parts two messages: what is certain in a sampled record is what an exact
    /// one of the same signal shows.
    #[test]
    fn messages_that_are_certain_are_those_of_the_exact_record(
        rests in proptest::collection::vec(prop_oneof![Just(500_000i64), 1_960_000i64..2_040_000, Just(4_000_000)], 2..12),
        phase in 0i64..10_000, period in 5_000i64..12_000,
    ) {
        // Ten microseconds a bit, in tenths of a nanosecond; a rest goes from the end of a byte to the next one.
        let (mut at, mut toggles) = (3_000_000i64, Vec::new());
        for (number, rest) in (1u8..).zip(&rests) {
            let mut level = true;
            for bit in 0..10 {
                let wanted = match bit { 0 => false, 9 => true, n => number >> (n - 1) & 1 == 1 };
                if wanted != level {
                    toggles.push(at + bit * 100_000);
                    level = wanted;
                }
            }
            at += 1_000_000 + rest;
        }
        let end = at + 4_000_000;
        let record = |tick: i64, phase: i64, resolution| {
            let ticks = toggles.iter().map(|toggle| ((toggle + phase + tick - 1) / tick) as u64);
            let ticks: Vec<u64> = std::iter::once(1).chain(ticks).collect();
            let time = deep_tap::quantity::Rational::new(tick.into(), 10_000_000_000).unwrap();
            let base = TimeBase::from_tick(deep_tap::quantity::Time::from_rational(time)).unwrap();
            let len = (end / tick) as u64;
            let trace = crate::support::toggles(Level::Low, &ticks, len);
            Capture::builder(base, len).resolution(resolution).line(Line::named("TX"), trace).build().unwrap()
        };
        let bus = SerialBus::of_lines("bus", uart(), vec![LineId(0)]).unwrap();
        let read = |record: &Capture| -> Vec<(Vec<u64>, bool)> {
            let transfers = bus.transfers(record, record.range()).unwrap();
            transfers.map(|frame| (frame.fields.iter().map(|field| field.value).collect(), frame.certain)).collect()
        };
        let exact: Vec<Vec<u64>> =
            read(&record(1, 0, Resolution::EXACT)).into_iter().map(|(values, _)| values).collect();
        let mut certain = 0;
        for (values, is_certain) in read(&record(period, phase, Resolution::SAMPLED)) {
            prop_assert!(!is_certain || exact.contains(&values), "{:?} of {:?}", values, exact);
            certain += usize::from(is_certain);
        }
        let near = rests.iter().filter(|rest| **rest > 1_900_000 && **rest < 2_100_000).count();
        prop_assert!(certain + 2 * near + 2 >= exact.len(), "{} of {:?}", certain, exact);
    }
}
