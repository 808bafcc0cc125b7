//! Exchanges: questions and answers on two lines, in order and out of it, as a list, a search and an
//! expectation.

use deep_tap::bus::Frame;
use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::event::{Meaning, Program, Scope, StreamSearch};
use deep_tap::expect::Deviation;
use deep_tap::limit::Verdict;
use deep_tap::line::Level;
use deep_tap::scan::{SampleWidth, Samples};
use deep_tap::setup::{RecordOptions, Setup};
use deep_tap::time::{Resolution, Tick};
use proptest::prelude::*;

use crate::support::{self, bytes, capture, time, with_spikes};

/// A byte takes 100 ticks, at 1 MS/s.
const BYTE: u64 = 100;

/// What a line carries: texts and when each begins.
fn line(texts: &[(u64, Vec<u8>)]) -> Vec<u64> {
    let each = |(start, text): &(u64, Vec<u8>)| -> Vec<(u64, u8)> {
        (0u64..).zip(text).map(|(place, byte)| (start + place * BYTE, *byte)).collect()
    };
    bytes(&texts.iter().flat_map(each).collect::<Vec<_>>())
}

/// Questions and answers of a depth gauge: `Q`, a number, then as many readings as it asks for; a reading is
/// `R`, a kind, and two bytes of which twelve bits are a depth.
const SETUP: &str = r#"
[[line]]
name = "ASK"
input = 0

[[line]]
name = "SAY"
input = 1

[[bus]]
name = "ask"
kind = "uart"
line = "ASK"
bit-rate = "100 kHz"

[[bus]]
name = "say"
kind = "uart"
line = "SAY"
bit-rate = "100 kHz"

[[exchange]]
name = "reading"

[[exchange.step]]
name = "question"
bus = "ask"
has = "data[0] == 0x51, length == 2"
fields = { count = "data[1]" }

[[exchange.step]]
name = "answer"
bus = "say"
has = "data[0] == 0x52, length == 4"
times = "count"
within = "5 ms"
fields = { kind = "data[1]", depth = "data[2](3..0) data[3]" }

[[exchange.step]]
name = "thanks"
bus = "ask"
has = "data[0] == 0x54"
when = "kind == 0x2"
"#;

/// One thing that is said.
#[derive(Clone, Debug, PartialEq)]
enum Said {
    Ask(Vec<u8>),
    Say(Vec<u8>),
}

/// All of it, one after the other.
fn spoken(said: &[Said]) -> Capture {
    let (mut at, mut lanes) = (500, [Vec::new(), Vec::new()]);
    for one in said {
        let (lane, text) = match one {
            Said::Ask(text) => (0, text),
            Said::Say(text) => (1, text),
        };
        lanes[lane].push((at, text.clone()));
        at += text.len() as u64 * BYTE + 700;
    }
    let lanes = lanes.map(|lane| line(&lane));
    capture("1 MS/s", Resolution::SAMPLED, at + 500, &[("ASK", &lanes[0]), ("SAY", &lanes[1])])
}

/// A whole exchange with these depths, of a kind.
fn whole(depths: &[u16], kind: u8) -> Vec<Said> {
    let mut said = vec![Said::Ask(vec![0x51, depths.len() as u8])];
    said.extend(
        depths.iter().map(|depth| Said::Say(vec![0x52, kind, (depth >> 8) as u8 | 0xa0, *depth as u8])),
    );
    if kind == 2 {
        said.push(Said::Ask(vec![0x54]));
    }
    said
}

fn setup() -> Setup {
    support::setup(SETUP).unwrap()
}

/// What an expectation of it says: the verdict, passed, failed, cut off, and each deviation's step.
fn judged(record: &Capture) -> (Verdict, [u64; 3], Vec<String>) {
    let met = setup().expectations[0].check(record).unwrap();
    let deep_tap::expect::Detail::Exchange(judged) = met.found else { panic!("not an exchange") };
    let counts = judged.counts;
    let steps = judged.deviations.iter().map(|d: &Deviation| d.step.clone().unwrap_or_default());
    (met.verdict, [counts.passed, counts.failed, counts.unpaired], steps.collect())
}

fn frames(bus: &SerialBus, record: &Capture) -> Vec<Frame> {
    bus.frames(record, record.range()).unwrap().collect()
}

#[test]
fn fields_are_put_together_and_asked_for() {
    let said: Vec<Said> = [whole(&[0x123], 1), whole(&[0xfff, 0x001], 2), whole(&[], 1)].concat();
    let record = spoken(&said);
    let setup = setup();
    let bus = &setup.exchanged[0];
    let found = frames(bus, &record);
    let depths: Vec<Vec<(u64, u32)>> = found
        .iter()
        .map(|frame| frame.fields.iter().filter(|f| f.name == "depth").map(|f| (f.value, f.bits)).collect())
        .collect();
    // The question for none is whole with itself.
    assert_eq!(depths, [vec![(0x123, 12)], vec![(0xfff, 12), (0x001, 12)], vec![]]);
    assert!(found.iter().all(|frame| frame.certain && frame.faults.is_empty()), "{found:?}");
    // The same in the event language, and as samples arrive.
    let program = Program::compile("reading has depth > 0x200, kind == 2", &setup.scope()).unwrap();
    let hits: Vec<_> = program.at(record.base()).unwrap().hits(&record, record.range()).collect();
    assert_eq!(hits.iter().map(|hit| hit.tick).collect::<Vec<_>>(), [found[1].end]);
    let error = Program::compile("reading has dept == 1", &setup.scope()).unwrap_err();
    assert_eq!(error.help(), Some("did you mean 'depth'?"));
    assert_eq!(judged(&record), (Verdict::Pass, [3, 0, 0], vec![]));
}

#[test]
fn broken_exchanges_say_which_step() {
    let good = || whole(&[7], 1);
    // The last bit of the question ends at tick 690.
    let late = |us: u64| {
        let (ask, say) = (line(&[(500, vec![0x51, 1])]), line(&[(690 + us, vec![0x52, 1, 0, 7])]));
        capture("1 MS/s", Resolution::SAMPLED, 20_000, &[("ASK", &ask), ("SAY", &say)])
    };
    let told = |said: Vec<Vec<Said>>| judged(&spoken(&said.concat()));
    let steps = |steps: &[&str]| steps.iter().map(ToString::to_string).collect::<Vec<_>>();
    // No answer, and the next question; one too many belongs to none; another one in its place.
    let none = told(vec![whole(&[7], 1)[..1].to_vec(), good()]);
    assert_eq!(none, (Verdict::Fail, [1, 1, 0], steps(&["answer"])));
    let much = told(vec![good(), good()[1..].to_vec(), good()]);
    assert_eq!(much, (Verdict::Pass, [2, 0, 0], vec![]));
    let wrong = told(vec![vec![Said::Ask(vec![0x51, 1]), Said::Say(vec![0x53, 1, 0, 0])], good()]);
    assert_eq!(wrong, (Verdict::Fail, [1, 1, 0], steps(&["answer"])));
    let no_thanks = told(vec![whole(&[7], 2)[..2].to_vec(), good()]);
    assert_eq!(no_thanks, (Verdict::Fail, [1, 1, 0], steps(&["thanks"])));
    // What the record's end leaves open, and what came before the first question.
    let cut = told(vec![good()[1..].to_vec(), good(), good()[..1].to_vec()]);
    assert_eq!(cut, (Verdict::Pass, [1, 0, 1], vec![]));
    // In time, or not.
    assert_eq!(judged(&late(4_990)).0, Verdict::Pass);
    assert_eq!(judged(&late(5_010)), (Verdict::Fail, [0, 1, 0], steps(&["answer"])));
    assert_eq!(judged(&late(5_000)).0, Verdict::Inconclusive, "5 ms, to a tick");
}

#[test]
fn exchanges_that_cannot_be_are_refused() {
    let refused = |from: &str, to: &str| {
        assert!(SETUP.contains(from), "{from}");
        let error = support::setup(&SETUP.replacen(from, to, 1)).unwrap_err();
        format!("{} [{}]", error.message(), error.help().unwrap_or_default())
    };
    assert_eq!(
        refused("times = \"count\"", "times = \"cout\""),
        "no earlier step gives 'cout' [did you mean 'count'?]"
    );
    assert_eq!(
        refused("when = \"kind", "when = \"king"),
        "no earlier step gives 'king' [did you mean 'kind'?]"
    );
    assert!(refused("times = \"count\"", "times = \"3 .. 1\"").starts_with("'3 .. 1' is no number of times"));
    assert!(refused("data[2](3..0)", "data[2](0..3)").contains("bits upside down"));
    assert!(refused("data[2](3..0)", "dta[2]").starts_with("this bus has no field 'dta'"));
    assert!(refused("bus = \"say\"", "bus = \"sya\"").starts_with("there is no serial bus 'sya'"));
    assert!(
        refused("fields = { count", "optional = true\nfields = { length")
            .contains("'length' is no name for a field")
    );
    assert!(refused("bus = \"ask\"\nhas", "has").starts_with("this step has no bus"));
    let upside_down = refused("within = \"5 ms\"", "within = \"5 ms\"\nat-least = \"6 ms\"");
    assert!(upside_down.starts_with("it may not begin before 6 ms, and not after 5 ms"), "{upside_down}");
    assert!(refused("kind == 0x2", "kind == 0x200").contains("'kind' has 8 bits on this bus"));
    let all = SETUP
        .replace("length == 2\"", "length == 2\"\noptional = true")
        .replace("times = \"count\"", "optional = true");
    let error = support::setup(&all).unwrap_err();
    assert!(error.message().starts_with("every step may be left out"), "{error}");
    let error = support::setup(&SETUP.replace("name = \"reading\"", "name = \"ask\"")).unwrap_err();
    assert_eq!(error.message(), "the name 'ask' is used for a bus and an exchange");
}

/// A record as an instrument delivers it: a byte for each tick, a bit for each line.
fn samples(record: &Capture) -> Vec<u8> {
    let mut levels = vec![0; record.len() as usize];
    for (line, trace) in record.traces().into_iter().enumerate() {
        let mut high = trace.level_at(Tick(0)) == Level::High;
        let mut edges = trace.edges(record.range()).peekable();
        for (tick, byte) in levels.iter_mut().enumerate() {
            while edges.next_if(|edge| edge.tick.0 <= tick as u64).is_some() {
                high = !high;
            }
            *byte |= u8::from(high) << line;
        }
    }
    levels
}

/// What becomes of a conversation: some of what is said is left out, doubled or swapped.
fn upset(said: &mut Vec<Said>, how: u8, at: usize) {
    let at = at % said.len();
    match how {
        0 => drop(said.remove(at)),
        1 => said.insert(at, said[at].clone()),
        2 if at + 1 < said.len() => said.swap(at, at + 1),
        _ => {}
    }
}

/// The obvious way: a conversation read by hand. How many questions were answered as they should be, and how many
/// were not.
fn by_hand(said: &[Said]) -> (u64, u64) {
    let (mut passed, mut failed, mut at) = (0, 0, 0);
    while at < said.len() {
        let Said::Ask(question) = &said[at] else {
            at += 1;
            continue;
        };
        if question[0] != 0x51 {
            at += 1;
            continue;
        }
        at += 1;
        let (mut left, mut kind) = (question[1], 0);
        let mut whole = true;
        while left > 0 && whole {
            match said.get(at) {
                Some(Said::Say(answer)) => {
                    // Of several answers, one is enough.
                    (kind, left, at) = (answer[1].max(kind), left - 1, at + 1);
                }
                // Thanks in place of an answer is not due on its line, and no beginning.
                Some(Said::Ask(text)) if text[0] == 0x54 => at += 1,
                Some(Said::Ask(_)) => whole = false,
                None => return (passed, failed),
            }
        }
        if whole && kind == 2 {
            loop {
                match said.get(at) {
                    Some(Said::Ask(text)) if text[0] == 0x54 => {
                        at += 1;
                        break;
                    }
                    // Another answer is not due on its line.
                    Some(Said::Say(_)) => at += 1,
                    Some(Said::Ask(_)) => {
                        whole = false;
                        break;
                    }
                    None => return (passed, failed),
                }
            }
        }
        if whole { passed += 1 } else { failed += 1 }
    }
    (passed, failed)
}

fn conversation() -> impl Strategy<Value = Vec<Said>> {
    let exchange =
        (proptest::collection::vec(0u16..4096, 1..4), 1u8..3).prop_map(|(depths, kind)| whole(&depths, kind));
    proptest::collection::vec(exchange, 1..6).prop_map(|all| all.concat())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    /// Whatever is left out, doubled or swapped: what is found is what a reader would find, sampled or exact, and
    /// a list, a window and a search say the same.
    #[test]
    fn upset_conversations_are_read_as_by_hand(
        mut said in conversation(), upsets in proptest::collection::vec((0u8..3, any::<usize>()), 0..3), cut in 0u64..100,
    ) {
        for (how, at) in upsets {
            if said.len() > 1 {
                upset(&mut said, how, at);
            }
        }
        let record = spoken(&said);
        let (_, counts, _) = judged(&record);
        let (passed, failed) = by_hand(&said);
        prop_assert_eq!((counts[0], counts[1]), (passed, failed), "{:?}", said);
        let setup = setup();
        let bus = &setup.exchanged[0];
        let all = frames(bus, &record);
        let broken = all.iter().filter(|frame| frame.faults.iter().any(|fault| fault.kind == "broken")).count();
        prop_assert_eq!(broken as u64, failed);
        // A window has those of the whole that lie in it.
        let from = Tick(record.len() * cut / 100);
        let window: Vec<Frame> = bus.frames(&record, from..Tick(record.len())).unwrap().collect();
        let inside: Vec<Frame> = all.iter().filter(|f| f.end > from || f.start >= from).cloned().collect();
        prop_assert_eq!(window, inside);
        let mut scope = Scope::of(&record);
        scope.define("reading", Meaning::Frames(bus.clone()));
        let hits = |text: &str| -> Vec<Tick> {
            let program = Program::compile(text, &scope).unwrap().at(record.base()).unwrap();
            program.hits(&record, record.range()).map(|hit| hit.tick).collect()
        };
        let whole = all.iter().filter(|frame| frame.faults.is_empty() && frame.kind == "exchange");
        let ends: Vec<Tick> = whole.map(|frame| frame.end).collect();
        let searched = hits("reading has exchange");
        prop_assert!(ends.iter().all(|end| searched.contains(end)), "{:?} {:?}", ends, searched);
        prop_assert_eq!(hits("reading has broken").len() as u64, failed);
        // A trigger stops where a search has its first hit.
        let program = Program::compile("reading has broken", &scope).unwrap().at(record.base()).unwrap();
        let mut search = StreamSearch::new(&program);
        let samples = samples(&record);
        let mut arrived = Vec::new();
        samples.chunks(1 + cut as usize * 37).for_each(|part| {
            arrived.extend(search.push(Samples::new(SampleWidth::W8, part)));
        });
        prop_assert_eq!(arrived, hits("reading has broken"));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]

    /// Whatever spikes do to what is read: a sound conversation never fails, and one with a mistake never passes.
    #[test]
    fn spikes_never_decide(
        said in conversation(), at in any::<usize>(), how in 0u8..3,
        spikes in proptest::collection::vec((0usize..2, any::<u64>()), 1..12),
    ) {
        let sound = with_spikes(&spoken(&said), &spikes, 200);
        let (verdict, counts, steps) = judged(&sound);
        prop_assert!(verdict != Verdict::Fail && counts[1] == 0, "{:?} {:?} {:?}", said, counts, steps);
        let mut wrong = said;
        upset(&mut wrong, how, at);
        let (_, failed) = by_hand(&wrong);
        let (verdict, counts, _) = judged(&with_spikes(&spoken(&wrong), &spikes, 200));
        prop_assert!(failed == 0 || verdict != Verdict::Pass, "{:?} {:?}", wrong, counts);
        prop_assert!(counts[1] <= failed, "{:?} {:?}", wrong, counts);
    }
}

#[test]
fn a_pause_ends_an_exchange() {
    let text = SETUP.replace("name = \"reading\"\n", "name = \"reading\"\nlongest-pause = \"2 ms\"\n");
    let setup = support::setup(&text).unwrap();
    let (ask, say) = (line(&[(500, vec![0x51, 1])]), line(&[(4_000, vec![0x52, 1, 0, 7])]));
    let record = capture("1 MS/s", Resolution::SAMPLED, 20_000, &[("ASK", &ask), ("SAY", &say)]);
    let found = frames(&setup.exchanged[0], &record);
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].faults[0].what, "broken: answer is missing");
    // A pause of 2 ms, to a tick: nobody knows, on either side.
    for (from, certain) in [(2_680, true), (2_689, false), (2_690, false), (2_691, false), (2_700, true)] {
        let say = line(&[(from, vec![0x52, 1, 0, 7])]);
        let record = capture("1 MS/s", Resolution::SAMPLED, 20_000, &[("ASK", &ask), ("SAY", &say)]);
        let found = frames(&setup.exchanged[0], &record);
        assert_eq!(found[0].certain, certain, "{from}: {found:?}");
    }
    // Nothing at all comes: known with the record's end, when the time is over.
    let record = |len| capture("1 MS/s", Resolution::SAMPLED, len, &[("ASK", &ask), ("SAY", &[1])]);
    let kinds = |len| frames(&setup.exchanged[0], &record(len))[0].faults[0].kind;
    assert_eq!((kinds(2_000), kinds(5_000)), ("cut-off", "broken"));
    assert_eq!(time("2 ms").to_string(), "2 ms");
}

/// A trigger on an exchange keeps all of it, and what is kept shows it again.
#[test]
fn the_trigger_keeps_the_exchange_that_it_is_about() {
    let text = std::fs::read_to_string(support::root().join("setups/converter.toml")).unwrap();
    let text = text.replace("event = \"ADC_CS_N falls\"", "event = \"conversion has broken\"");
    let text = text.replace("before-trigger = \"10 us\"\n", "").replace("455 ms", "1 ms");
    let setup = support::setup(&text).unwrap();
    let mut bench = deep_tap::bench::connect("bench:tide-gauge", std::path::Path::new("")).unwrap();
    let record = support::record(&setup, &mut *bench, RecordOptions::default()).unwrap();
    let broken = frames(&setup.exchanged[0], &record)
        .into_iter()
        .find(|frame| frame.faults.iter().any(|fault| fault.kind == "broken"));
    let broken = broken.expect("the exchange that it waited for");
    assert!(broken.start < record.base().zero(), "{broken:?}");
}
