//! Expected messages and expected orders of states, against records made for them.

use deep_tap::capture::Capture;
use deep_tap::decode::{Protocol, SerialBus, TransferEnds, UartConfig};
use deep_tap::event::{FrameTests, Meaning, Program, Scope};
use deep_tap::exchange::{Exchange, ExchangeStep};
use deep_tap::expect::{
    Beginning, Deviation, DeviationKind, Exchanges, Judged, Messages, Order, StateChange, States,
};
use deep_tap::limit::Verdict;
use deep_tap::line::{Bus, LineId};
use deep_tap::message::file::FileForm;
use deep_tap::message::{self, CheckKind, Matcher, Message};
use deep_tap::time::{Resolution, Tick};
use proptest::prelude::*;

use crate::support::{bytes, capture, time, with_spikes};

/// Bytes at 10 ticks a bit, from these ticks on, idle high from tick 1 on.
fn uart(sent: &[(u64, u8)], len: u64) -> Capture {
    capture("1 MS/s", Resolution::SAMPLED, len, &[("TX", &bytes(sent)), ("GO", &[450])])
}

fn log() -> SerialBus {
    let protocol = Protocol::Uart(UartConfig::new("100 kHz".parse().unwrap()));
    SerialBus::of_lines("log", protocol, vec![LineId(0)]).unwrap()
}

/// Texts, each with its bytes in a row, and how many ticks from the start of one to that of the next.
fn said(texts: &[&[u8]], every: u64) -> Capture {
    let mut sent = Vec::new();
    for (number, text) in (0..).zip(texts) {
        sent.extend((0..).zip(*text).map(|(place, byte)| (300 + number * every + place * 100, *byte)));
    }
    uart(&sent, 600 + every * texts.len() as u64)
}

fn messages(texts: &[&str]) -> Messages {
    Messages::new(log(), texts.iter().map(|text| Message::text(text).unwrap()).collect())
}

/// The verdict, how many passed, failed, are undecided and cut off, and what the first deviation says.
type Told = (Verdict, [u64; 4], Option<(DeviationKind, u64, Option<String>, Option<String>)>);

fn told(judged: &Judged) -> Told {
    let counts = judged.counts;
    let first = Deviation::first_of(&judged.deviations);
    let first = first.map(|d| (d.kind, d.place, d.expected.clone(), d.found.clone()));
    (judged.verdict, [counts.passed, counts.failed, counts.inconclusive, counts.unpaired], first)
}

#[test]
fn every_message_is_judged() {
    let record = said(&[b"hello", b"hello", b"hellp", b"hello"], 1000);
    let judged = messages(&["hello"]).compare(&record).unwrap();
    let wrong = (DeviationKind::Differs, 4, Some("0x6F 'o'".to_string()), Some("0x70 'p'".to_string()));
    assert_eq!(told(&judged), (Verdict::Fail, [3, 1, 0, 0], Some(wrong)));
    let deviation = &judged.deviations[0];
    assert_eq!((deviation.occurrence, deviation.begins, deviation.at), (2, time("2.3 ms"), time("2.71 ms")));
    // The beginning alone is asked for; the rest is told, and too much where nothing may follow.
    let judged = messages(&["hell"]).compare(&record).unwrap();
    assert_eq!((told(&judged), judged.besides), ((Verdict::Pass, [4, 0, 0, 0], None), 4));
    let complete = Messages { complete: true, ..messages(&["hell"]) };
    let much = (DeviationKind::TooMuch, 4, None, Some("0x6F 'o'".to_string()));
    assert_eq!(told(&complete.compare(&record).unwrap()), (Verdict::Fail, [0, 4, 0, 0], Some(much)));
    // A transfer that is over lacks what did not come.
    let longer = messages(&["hello!"]).compare(&record).unwrap();
    let missing = (DeviationKind::Missing, 5, Some("0x21 '!'".to_string()), None);
    assert_eq!(told(&longer), (Verdict::Fail, [0, 4, 0, 0], Some(missing)));
    // Only some transfers.
    let only = Some(FrameTests::parse("data[4] == 0x70").unwrap());
    let judged = Messages { only, ..messages(&["hellp"]) }.compare(&record).unwrap();
    assert_eq!(told(&judged), (Verdict::Pass, [1, 0, 0, 0], None));
    assert_eq!(messages(&["x"]).compare(&uart(&[], 500)).unwrap().verdict, Verdict::NotSeen);
}

#[test]
fn a_message_after_an_instant_goes_across_transfers() {
    // GO rises at 450; "o" came before.
    let record = uart(&[(100, b'o'), (500, b'k'), (1500, b'!'), (1640, b'?')], 2000);
    let mut scope = Scope::of(&record);
    scope.define("log", Meaning::Frames(log()));
    let after = |text| Beginning::After(Box::new(Program::compile(text, &scope).unwrap()));
    let check = |text, begins, within: Option<&str>| {
        let wanted = Messages { begins, within: within.map(time), ..messages(&[text]) };
        told(&wanted.compare(&record).unwrap())
    };
    let missing = |place, what: &str| Some((DeviationKind::Missing, place, Some(what.to_string()), None));
    assert_eq!(check("k!?", after("GO rises"), None), (Verdict::Pass, [1, 0, 0, 0], None));
    assert_eq!(check("o", Beginning::Record, None), (Verdict::Pass, [1, 0, 0, 0], None));
    // What is missing at the end may still come, unless it had to come in time.
    assert_eq!(check("k!?.", after("GO rises"), None), (Verdict::Inconclusive, [0, 0, 0, 1], None));
    let late = (Verdict::Fail, [0, 1, 0, 0], missing(1, "0x21 '!'"));
    assert_eq!(check("k!", after("GO rises"), Some("800 us")), late);
    assert_eq!(check("k!", after("GO rises"), Some("1100 us")).0, Verdict::Pass);
    assert_eq!(check("k!", after("GO falls"), None), (Verdict::NotSeen, [0, 0, 0, 0], None));
    // Each instant begins one: the second one ends what is under way.
    let bytes = after(r#"log has text "k" or log has text "!""#);
    assert_eq!(check("!?", bytes, None).1, [0, 2, 0, 0]);
    let bytes = after(r#"log has text "k" or log has text "!""#);
    assert_eq!(check("{any}", bytes, None).1, [2, 0, 0, 0]);
}

#[test]
fn messages_take_turns_or_are_one_of_several() {
    let record = said(&[b"tick", b"tock", b"tick", b"tick", b"tock", b"tuck", b"tock"], 1000);
    let any = messages(&["tick", "tock"]).compare(&record).unwrap();
    let wrong = (DeviationKind::Differs, 1, Some("0x69 'i'".to_string()), Some("0x75 'u'".to_string()));
    assert_eq!(told(&any), (Verdict::Fail, [6, 1, 0, 0], Some(wrong)));
    // In turn, the second "tick" in a row is out of turn; what follows is in step again.
    let turn = Messages { in_turn: true, ..messages(&["tick", "tock"]) }.compare(&record).unwrap();
    let places: Vec<u64> = turn.deviations.iter().map(|deviation| deviation.occurrence).collect();
    assert_eq!((turn.verdict, places), (Verdict::Fail, vec![3, 5]));
}

#[test]
fn a_message_that_the_record_cuts_off_or_that_is_not_certain_decides_nothing() {
    let record = || said(&[b"hello", b"hello"], 1000);
    let cut = record().excerpt(Tick(0)..Tick(1500)).unwrap();
    let judged = messages(&["hello"]).compare(&cut).unwrap();
    assert_eq!(told(&judged), (Verdict::Pass, [1, 0, 0, 1], None));
    // It may have begun before.
    let late = record().excerpt(Tick(440)..Tick(2600)).unwrap();
    let judged = messages(&["hello"]).compare(&late).unwrap();
    assert_eq!(told(&judged), (Verdict::Pass, [1, 0, 0, 1], None));
    let record = record();
    let edges = record.trace(LineId(0)).edges(record.range()).map(|edge| edge.tick.0);
    let mut toggles: Vec<u64> = edges.chain([306, 307]).collect();
    toggles.sort_unstable();
    let spiky = capture("1 MS/s", Resolution::SAMPLED, record.len(), &[("TX", &toggles), ("GO", &[450])]);
    let judged = messages(&["hello"]).compare(&spiky).unwrap();
    assert_eq!((judged.verdict, judged.counts.passed), (Verdict::Inconclusive, 1));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// A sender that errs in one byte of one message: that one is found, and no other.
    #[test]
    fn the_one_that_errs_is_found(
        text in "[ -~]{2,12}", count in 2usize..20, at in any::<prop::sample::Index>(),
        place in any::<prop::sample::Index>(), bit in 0u32..8,
    ) {
        let (at, place) = (at.index(count), place.index(text.len()));
        let mut texts = vec![text.clone().into_bytes(); count];
        texts[at][place] ^= 1 << bit;
        let texts: Vec<&[u8]> = texts.iter().map(Vec::as_slice).collect();
        let record = said(&texts, 1500);
        let judged = Messages::new(log(), vec![Message::values(text.bytes().map(u64::from))]).compare(&record).unwrap();
        prop_assert_eq!(judged.counts.passed, count as u64 - 1);
        let found: Vec<(u64, u64)> = judged.deviations.iter().map(|d| (d.occurrence, d.place)).collect();
        prop_assert_eq!(found, vec![(at as u64, place as u64)]);
    }

    /// Whatever spikes do to what is read: sound messages never fail, and a wrong one never passes.
    #[test]
    fn spikes_never_decide_a_message(
        texts in proptest::collection::vec(prop_oneof!["tick", "tock!"], 1..10), at in any::<prop::sample::Index>(),
        spikes in proptest::collection::vec((0usize..1, any::<u64>()), 1..8),
    ) {
        // Before the first one there may be no rest: it decides nothing then.
        let first = std::iter::once("tick".to_string());
        let mut sent: Vec<Vec<u8>> = first.chain(texts.clone()).map(String::into_bytes).collect();
        let wanted = Messages { complete: true, ..messages(&["tick", "tock!"]) };
        let record = |sent: &[Vec<u8>]| {
            said(&sent.iter().map(Vec::as_slice).collect::<Vec<_>>(), 1500)
        };
        let judged = wanted.compare(&with_spikes(&record(&sent), &spikes, 200)).unwrap();
        prop_assert!(judged.verdict != Verdict::Fail, "{:?} {:?}", texts, judged.deviations);
        sent[1 + at.index(texts.len())][1] = b'u';
        let judged = wanted.compare(&with_spikes(&record(&sent), &spikes, 200)).unwrap();
        prop_assert!(judged.verdict != Verdict::Pass && judged.counts.failed <= 1, "{:?} {:?}", sent, judged.deviations);
    }

    /// What is computed is what a sender would compute, and any other value is told; never a panic.
    #[test]
    fn lengths_and_checksums_are_those_of_what_came(
        data in proptest::collection::vec(0u64..256, 0..40), kind in 0usize..23, flip in any::<prop::sample::Index>(),
    ) {
        let kind = CheckKind::all().nth(kind).unwrap();
        let message = Message::hex(&format!("7e {{length+2 2}} ... {{{} lowest-first}}", kind.name())).unwrap();
        let mut sent = vec![0x7e];
        sent.extend([(data.len() as u64 + 2) >> 8, (data.len() as u64 + 2) & 0xff]);
        sent.extend(&data);
        let bytes: Vec<u8> = sent.iter().map(|value| *value as u8).collect();
        sent.extend((0..kind.bytes()).map(|byte| kind.of(&bytes) >> (8 * byte) & 0xff));
        prop_assert!(message.is_met_by(&sent));
        // By its length, it ends by itself, too.
        let mut alone = Matcher::new(&message, None);
        prop_assert!(message.ends_by_itself());
        prop_assert!(sent.iter().all(|value| alone.push(*value) == message::Compared::Fits));
        prop_assert!(alone.is_whole());
        let at = flip.index(sent.len());
        sent[at] ^= 1;
        prop_assert!(!message.is_met_by(&sent), "value {} of {:?}", at, sent);
    }

    /// No text makes reading it panic, and no values a matcher.
    #[test]
    fn messages_of_any_text(text in "[0-9a-fx{}(). a-z+-]{0,40}", values in proptest::collection::vec(any::<u64>(), 0..30)) {
        for message in [Message::hex(&text), Message::text(&text)].into_iter().flatten() {
            for total in [None, Some(values.len()), Some(0)] {
                let mut matcher = Matcher::new(&message, total);
                for value in &values {
                    matcher.push(*value);
                    matcher.expects();
                }
            }
            message.is_met_by(&values);
        }
        for form in [FileForm::Binary, FileForm::Hex, FileForm::Array(None), FileForm::Column(None)] {
            let _ = form.values(text.as_bytes());
        }
    }
}

#[test]
fn checksums_have_the_values_of_their_catalogue() {
    // The "check" column: that of the nine digits.
    let known = [
        ("crc-8/smbus", 0xf4),
        ("crc-8/maxim-dow", 0xa1),
        ("crc-8/nrsc-5", 0xf7),
        ("crc-8/sae-j1850", 0x4b),
        ("crc-8/autosar", 0xdf),
        ("crc-8/rohc", 0xd0),
        ("crc-16/arc", 0xbb3d),
        ("crc-16/modbus", 0x4b37),
        ("crc-16/usb", 0xb4c8),
        ("crc-16/xmodem", 0x31c3),
        ("crc-16/ibm-3740", 0x29b1),
        ("crc-16/ibm-sdlc", 0x906e),
        ("crc-16/kermit", 0x2189),
        ("crc-16/dnp", 0xea82),
        ("crc-32/iso-hdlc", 0xcbf4_3926),
        ("crc-32/bzip2", 0xfc89_1918),
        ("crc-32/iscsi", 0xe306_9283),
        ("crc-32/mpeg-2", 0x0376_e6e7),
        ("crc-64/xz", 0x995d_c9bb_df19_39fa),
        ("sum", 0x1dd),
        ("xor", 0x31),
    ];
    for (name, value) in known {
        assert_eq!(CheckKind::named(name).unwrap().of(b"123456789"), value, "{name}");
    }
    assert!(Message::hex("0x 0x1 x5").unwrap().is_met_by(&[5, 1, 0xf5]));
    // A sentence with the exclusive or of what stands between two signs, as characters of its digits.
    let fix = Message::text("${(}FIX,{...}{)}*{xor hex}\r\n").unwrap();
    assert!(fix.is_met_by(&b"$FIX,3D*0C\r\n".map(u64::from)));
    assert!(!fix.is_met_by(&b"$FIX,2D*0C\r\n".map(u64::from)));
}

#[test]
fn messages_stand_in_files_of_many_kinds() {
    let source = b"#include <stdint.h>\n// { 9 }\nconst char *name = \"x\";\n\
        static const uint8_t hello[4] = { 0x08, 16U, /* one, */ 'A', (uint8_t)0x0F };\n\
        const char text[] = \"ok\\r\" \"\\n\";\nint main(void) { int a = 3; return a; }\n";
    let array = |name: &str| FileForm::Array(Some(name.to_string()));
    assert_eq!(array("hello").values(source).unwrap(), [8, 16, 0x41, 15]);
    assert_eq!(array("text").values(source).unwrap(), [0x6f, 0x6b, 13, 10]);
    let error = array("helo").values(source).unwrap_err();
    assert_eq!(error.to_string(), "there is no array 'helo'");
    assert_eq!(error.help(), Some("did you mean 'hello'?"));
    let error = FileForm::Array(None).values(source).unwrap_err();
    assert!(error.message().contains("3 arrays: name, hello, text"), "{error}");
    let rust = b"pub const START: [u8; 3] = [0x10, b'!', 1_0u8];\nstatic WORDS: &[u16] = &[\n    0xffff,\n    SYNC,\n];";
    assert_eq!(array("START").values(rust).unwrap(), [16, 33, 10]);
    let error = array("WORDS").values(rust).unwrap_err();
    assert_eq!(error.message(), "line 4: 'SYNC' is not a number");
    assert_eq!(FileForm::Hex.values(b"0000: 08 10 # start\n0xff").unwrap(), [8, 16, 255]);
    assert_eq!(
        FileForm::Hex.values(b"08 1g").unwrap_err().message(),
        "line 1: '1g' is not a hexadecimal number"
    );
    let table = b"time,value\n1,0x10\n2,08\n";
    assert_eq!(FileForm::Column(Some("value".into())).values(table).unwrap(), [16, 8]);
    assert!(FileForm::Column(None).values(table).unwrap_err().message().contains("2 columns: time, value"));
    assert_eq!(FileForm::Binary.values(&[0, 255]).unwrap(), [0, 255]);
}

#[test]
fn transitions_are_allowed_or_broken() {
    let bus = Bus::new("S", vec![LineId(1), LineId(0)]).unwrap();
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
    let broken: Vec<_> = result.found.iter().map(|b| (b.from.as_str(), b.to.as_str(), b.at)).collect();
    assert_eq!(broken, [("idle", "halt", time("400 us")), ("halt", "0x3", time("500 us"))]);
    let length = |measure: Option<deep_tap::measure::Measure>| measure.map(|measure| measure.value);
    assert_eq!(length(result.found[0].stayed), Some(time("100 us")));
    assert_eq!(length(result.found[0].lasted), Some(time("100 us")));
    assert_eq!(length(result.found[1].lasted), None, "the record ends first");
    let count = |from: &str, to: &str, count| StateChange { from: from.into(), to: to.into(), count };
    let came = [count("idle", "run", 1), count("run", "halt", 1), count("halt", "idle", 1)];
    assert_eq!((result.allowed, result.begins_wrong), (came.to_vec(), false));
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
    // A broken beginning is no transition.
    let wrong = Order { first: Some(1), ..order.clone() }.follow(&still);
    assert_eq!(
        (wrong.verdict, wrong.begins.as_deref(), wrong.begins_wrong),
        (Verdict::Fail, Some("idle"), true)
    );
    assert_eq!((wrong.transitions, wrong.broken, wrong.stays[2].count), (0, 0, 0));
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
    assert_eq!(
        (good.transitions, good.begins.as_deref(), good.begins_wrong),
        (3, Some("no line high"), true)
    );
    assert_eq!(good.found, []);
    let both = order.follow(&record(&[100, 250], &[200]));
    assert_eq!((both.broken, both.found[0].to.as_str()), (1, "B and C at once"));
    let none = order.follow(&record(&[150, 200], &[200]));
    assert_eq!((none.broken, none.found[0].to.as_str()), (1, "no line high"));
}

/// Lines of a console, each of which is a transfer.
fn lines(texts: &[&str]) -> Capture {
    let texts: Vec<&[u8]> = texts.iter().map(|text| text.as_bytes()).collect();
    said(&texts, 2000)
}

fn expected(wanted: &[&str]) -> Exchanges {
    let bus = log().with_transfer_ends(TransferEnds::default().value(0x0a));
    let exchange = Exchange::new("lines", vec![bus]).unwrap();
    let step = |text: &&str| ExchangeStep::new(FrameTests::parse(text).unwrap());
    Exchanges::new(wanted.iter().map(step).fold(exchange, Exchange::step))
}

#[test]
fn transfers_are_compared_each_time_that_the_first_of_them_comes() {
    // What came before the first line is not known: it may have begun before.
    let record =
        lines(&["\n", "ok\n", "v 12\n", "end\n", "ok\n", "v 13\n", "end\n", "ok\n", "w 12\n", "ok\n"]);
    let told = |transfers: &Exchanges| {
        let judged = transfers.compare(&record).unwrap();
        let first = Deviation::first_of(&judged.deviations);
        let first = first.map(|d| (d.kind, d.occurrence, d.place, d.expected.clone().unwrap_or_default()));
        let counts = judged.counts;
        (judged.verdict, [counts.passed, counts.failed, counts.unpaired], judged.besides, first)
    };
    let differs = |kind, occurrence, place, text: &str| Some((kind, occurrence, place, text.to_string()));
    // The third is followed by something else; the fourth by nothing.
    let both = expected(&["text \"ok\"", "text \"v\""]);
    let wrong = differs(DeviationKind::Differs, 2, 1, "text \"v\"");
    assert_eq!(told(&both), (Verdict::Fail, [2, 1, 1], 2, wrong));
    let complete = Exchanges { complete: true, ..both.clone() };
    let much = differs(DeviationKind::TooMuch, 1, 0, "");
    assert_eq!(told(&complete), (Verdict::Fail, [2, 3, 1], 2, much));
    let only = FrameTests::parse("length > 3").unwrap();
    let long =
        Exchanges { exchange: expected(&["text \"v\"", "text \"end\""]).exchange.only(only), ..both.clone() };
    // The last long line belongs to none.
    assert_eq!(told(&long), (Verdict::Pass, [2, 0, 0], 1, None));
    let after = Program::compile("GO rises", &Scope::of(&record)).unwrap();
    let after = Beginning::After(Box::new(after));
    let later = Exchanges { begins: after.clone(), ..expected(&["text \"ok\"", "text \"v 12\""]) };
    assert_eq!(told(&later), (Verdict::Pass, [1, 0, 0], 7, None));
    let wrong = differs(DeviationKind::Differs, 0, 0, "text \"end\"");
    let later = Exchanges { begins: after.clone(), ..expected(&["text \"end\""]) };
    assert_eq!(told(&later).3, wrong);
    // In time, or not.
    let soon =
        Exchanges { begins: after, within: Some(time("2 ms")), ..expected(&["text \"ok\"", "text \"v\""]) };
    assert_eq!(told(&soon).3, differs(DeviationKind::Missing, 0, 1, "within 2 ms"));
}
