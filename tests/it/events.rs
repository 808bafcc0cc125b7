//! The event language: its grammar, what it says when something is wrong, and state machines.

use deep_tap::capture::Capture;
use deep_tap::event::{
    Action, Arm, Event, Meaning, Program, Scope, SimpleKind, State, StateMachine, StreamSearch, TimedProgram,
    Wait,
};
use deep_tap::line::{Bus, LineId};
use deep_tap::scan::{SampleWidth, Samples};
use deep_tap::time::{Resolution, TimeBase};
use proptest::prelude::*;

use crate::events_oracle::{record, simple, ticks};
use crate::support::capture;

proptest! {
    #[test]
    fn no_text_makes_the_parser_panic(text in "[ -~\u{b5}\u{2212}\n]{0,60}") {
        let _ = Event::parse(&text);
    }

    #[test]
    fn no_mixture_of_words_makes_the_parser_panic(words in prop::collection::vec(prop::sample::select(vec![
        "A", "rises", "falls", "while", "when", "for", ">", "<", "20 ns", "..", "(", ")", "and", "or", "not", "no",
        "then", "high", "low", "3", "times", "within", "after", "has", "in", "==", "0x1x", "\"q\"", ",", "through",
    ]), 0..16)) {
        let text = words.join(" ");
        if let Err(error) = Event::parse(&text) {
            prop_assert!(error.place().is_some(), "{}", text);
        }
    }
}

#[test]
fn the_whole_grammar_is_read() {
    for text in [
        "ADC_CS_N falls",
        "ADC_SCLK rises while ADC_CS_N low and MODE == 0b1x0",
        "when ADDR == 0x4 and WE_N low",
        "(ADDR == 0x4) for > 20 ns",
        "WE_N low for < 20ns",
        "RST_N low for > 10 ms",
        "WE_N low or CE_N low for 5 ns .. 12.5 ns",
        "rtc has address == 0x2a, nack",
        "adc has mosi == 0x03 then ADC_DRDY_N falls within 350 us",
        "adc has mosi == 0x03 then no ADC_DRDY_N falls within 350 us",
        "ADC_SCLK rises 24 times then ADC_CS_N rises",
        "A rises while B high or C falls while D low",
        "V3V3 rises through 2.9 V while EN high",
        "(A rises then B rises after 1 us) or conversion-done then C falls",
        "\"high\" rises while \"a strange/name\" low",
        "uart has data in 0x20 .. 0x7e, parity != 1",
        "top.dut.clk rises while top.dut.mode == \"A\"",
    ] {
        Event::parse(text).unwrap_or_else(|e| panic!("{text}: {e:?}"));
    }
    let event = Event::parse("A rises while B high or C falls while D low").unwrap();
    assert_eq!(event.steps[0].any.len(), 2, "'or' joins events when the condition cannot go on");
    let event = Event::parse("A rises while B high or C low").unwrap();
    assert_eq!(event.steps[0].any.len(), 1, "'or' joins conditions when it can");
    let event = Event::parse("(A high) for > 1 us").unwrap();
    assert!(matches!(event.steps[0].any[0].kind, SimpleKind::Lasting(..)));
}

/// What an expression over the lines `ADC_SCLK`, `WE_N` and the bus `ADDR` of four lines says when wrong.
fn complaint(text: &str) -> String {
    let capture = capture(
        "100 MS/s",
        Resolution::SAMPLED,
        100,
        &[("ADC_SCLK", &[5]), ("WE_N", &[7]), ("A1", &[]), ("A0", &[])],
    );
    let bus = Bus::new("ADDR", vec![LineId(2), LineId(3)]).unwrap();
    let capture = capture.into_builder().bus(bus).build().unwrap();
    match Program::compile(text, &Scope::of(&capture)) {
        Ok(_) => "accepted".to_string(),
        Err(error) => format!("{error} | {}", error.help().unwrap_or("-")),
    }
}

#[test]
fn messages_point_at_the_column_and_name_the_remedy() {
    for (text, wanted) in [
        ("ADC_SCKL rises", "column 1: nothing is called 'ADC_SCKL' | did you mean 'ADC_SCLK'?"),
        ("ADC_SCLK rise", "column 10: 'rise' cannot follow here | did you mean 'rises'?"),
        (
            "WE_N rises while ADDR == 0x7",
            "column 26: the value needs 3 bits, 'ADDR' has 2 | values of 'ADDR' are at most 0x3",
        ),
        ("WE_N low for > 20", "column 16: '20' has no unit: a time is in s | write it like '12.5 ns'"),
        (
            "WE_N low for > 20 V",
            "column 16: 'V' is not a unit of a time: it is in s | write it like '12.5 ns'",
        ),
        ("WE_N low for 20 ns .. 5 ns", "column 14: the range is upside down | write '5 ns .. 20 ns'"),
        (
            "ADDR rises",
            "column 1: 'ADDR' is a bus; only a line is high or low, rises or falls | compare a bus with a value, as in 'ADDR == 0x4', or write 'ADDR changes'",
        ),
        (
            "WE_N high",
            "column 1: this is a condition; an event is an instant | write 'when …' for the instant it becomes true, or '… for > 20 ns' for how long it lasts",
        ),
        (
            "WE_N rises while",
            "column 17: the expression ends where the name of a line or bus, 'not' or '(' should follow | -",
        ),
        (
            "WE_N rises then ADC_SCLK rises 3 times within 2 us or A1 falls",
            "column 52: 'or' cannot follow here | expected the end of the expression",
        ),
        (
            "no WE_N rises within 5 us",
            "column 15: the first step has nothing to count from | 'within' and 'after' count from the step before: write 'A then B within 5 us'",
        ),
        (
            "no WE_N rises then A1 falls",
            "column 1: 'no' needs something that comes before it | write 'A then no B within 5 us', or 'A then no B then C'",
        ),
        (
            "WE_N rises then no A1 falls",
            "column 1: the last step waits for something not to happen, without end | without a time it can always still come: add 'within 5 us', or what must come first",
        ),
        (
            "WE_N rises then no A1 falls after 1 us",
            "column 17: 'no' and 'after' do not go together | write 'A then no B within 5 us', or 'A then no B then C'",
        ),
        (
            "A1 has address == 3",
            "column 1: 'A1' is a line, which has no frames | frames are those of a [[bus]] with a kind, such as kind = \"i2c\"",
        ),
        ("WE_N rises while ADDR < 0x1x", "column 25: '0x1x' is not a value of at most 64 bits | -"),
        (
            "when ADDR < 0bx1",
            "column 13: a value with open digits can only be compared with '==' or '!=' | give all digits",
        ),
        ("when ADDR in 3..1", "column 14: the range is upside down | write 'in 0x1 .. 0x3'"),
        (
            "when \"WE_N",
            "column 6: a quote that is not closed; the name of a line or bus, 'not' or '(' was expected | expected the name of a line or bus, 'not' or '('",
        ),
        (
            "",
            "column 1: the expression ends where the name of a line, bus or event, or 'when' should follow | -",
        ),
    ] {
        let said = complaint(text);
        // An open hexadecimal digit is four bits wide, and so is a complaint about it.
        if text.ends_with("0x1x") {
            assert!(said.starts_with("column 25:"), "{text}: {said}");
        } else {
            assert_eq!(said, wanted, "{text}");
        }
    }
    let deep = format!("when {}A high{}", "(".repeat(200), ")".repeat(200));
    assert!(complaint(&deep).contains("nested more than 64 deep"));
}

#[test]
fn named_events_stand_for_their_text_and_cannot_loop() {
    let capture = capture("100 MS/s", Resolution::SAMPLED, 100, &[("A", &[10, 20, 30, 40]), ("B", &[15])]);
    let mut scope = Scope::of(&capture);
    let event = |text: &str| deep_tap::event::Meaning::Event(text.into());
    scope.define("up", event("A rises"));
    scope.define("late-up", event("up while B high"));
    scope.define("loop", event("loop while B high"));
    scope.define("broken", event("A rses"));
    let program = Program::compile("late-up", &scope).unwrap();
    assert_eq!(
        program
            .at(capture.base())
            .unwrap()
            .hits(&capture, capture.range())
            .map(|h| h.tick.0)
            .collect::<Vec<_>>(),
        [30]
    );
    let error = Program::compile("loop", &scope).unwrap_err();
    assert!(error.to_string().contains("refers to itself"), "{error}");
    let error = Program::compile("broken", &scope).unwrap_err();
    assert!(error.to_string().contains("the event 'broken' is wrong"), "{error}");
}

/// A state machine of two states, with its arms.
fn machine(first: Vec<Arm>, second: Vec<Arm>) -> StateMachine {
    let state = |name: &str, arms| State { name: name.into(), arms };
    StateMachine { states: vec![state("one", first), state("two", second)] }
}

fn on(text: &str, times: u64, action: Action) -> Arm {
    Arm { wait: Wait::Event { text: text.into(), times }, action }
}

fn after(time: &str, action: Action) -> Arm {
    Arm { wait: Wait::After(time.parse().unwrap()), action }
}

fn go(name: &str) -> Action {
    Action::Go(name.into())
}

#[test]
fn state_machines_take_the_first_arm_that_happens() {
    let lines: [(&str, &[u64]); 3] = [
        ("A", &[10, 15, 100, 105, 200, 205, 300, 305]),
        ("B", &[30, 35, 150, 155, 205, 210]),
        ("C", &[205, 215, 320]),
    ];
    let capture = capture("100 MS/s", Resolution::SAMPLED, 400, &lines);
    let scope = Scope::of(&capture);
    let hits = |machine: StateMachine| -> Vec<u64> {
        let program = Program::from_states(&machine, &scope).unwrap();
        program.at(capture.base()).unwrap().hits(&capture, capture.range()).map(|h| h.tick.0).collect()
    };
    // An answer that takes longer than 30 ticks: those at 100 and 300.
    let late = machine(
        vec![on("A rises", 1, go("two"))],
        vec![on("B rises", 1, go("one")), after("300 ns", Action::Fire(None))],
    );
    assert_eq!(hits(late), [130, 330]);
    // On one tick the arm written first wins.
    let b_first = vec![on("B rises while A low", 1, go("one")), on("C rises", 1, Action::Fire(None))];
    assert_eq!(hits(machine(vec![on("A rises", 3, go("two"))], b_first)), Vec::<u64>::new());
    let c_first = vec![on("C rises", 1, Action::Fire(None)), on("B rises while A low", 1, go("one"))];
    assert_eq!(hits(machine(vec![on("A rises", 3, go("two"))], c_first)), [205]);
    // A count begins anew with each visit; firing may go on elsewhere.
    let counting =
        machine(vec![on("A rises", 2, Action::Fire(Some("two".into())))], vec![after("10 ns", go("one"))]);
    assert_eq!(hits(counting), [100, 300]);
}

proptest! {
    #[test]
    fn a_sequence_of_two_has_its_first_hit_where_the_state_machine_has_it(
        ticks in ticks(0, 0), time in 1u64..40, first in simple(), second in simple(), late: bool,
    ) {
        let capture = record(&ticks);
        let scope = Scope::of(&capture);
        let (a, b) = (format!("({})", first.text()), format!("({})", second.text()));
        let time = format!("{time}0 ns");
        let (text, arms) = if late {
            // On the very tick at which the time is over, it is too late.
            let arms = vec![after(&format!("{} ns", time.trim_end_matches(" ns").parse::<u64>().unwrap() + 1), Action::Fire(None)), on(&b, 1, go("one"))];
            (format!("{a} then no {b} within {time}"), arms)
        } else {
            (format!("{a} then {b}"), vec![on(&b, 1, Action::Fire(None))])
        };
        let (Ok(sequence), Ok(states)) = (
            Program::compile(&text, &scope),
            Program::from_states(&machine(vec![on(&a, 1, go("two"))], arms), &scope),
        ) else { return Ok(()) };
        let (Ok(sequence), Ok(states)) = (sequence.at(capture.base()), states.at(capture.base())) else {
            return Ok(());
        };
        let first_of = |program: &TimedProgram| program.hits(&capture, capture.range()).next().map(|h| h.tick);
        // Where the answer and the next question share a tick, the sequence looks at both.
        let shared = program_hits(&a, &capture).into_iter().any(|t| program_hits(&b, &capture).contains(&t));
        prop_assume!(!shared);
        prop_assert_eq!(first_of(&sequence), first_of(&states), "{}", text);
    }
}

fn program_hits(text: &str, capture: &Capture) -> Vec<u64> {
    let program = Program::compile(text, &Scope::of(capture)).unwrap();
    program.at(capture.base()).unwrap().hits(capture, capture.range()).map(|h| h.tick.0).collect()
}

/// A counter that is clocked every fourth sample, with a value that never comes.
#[test]
fn buses_tell_the_values_that_they_had_instead() {
    let samples: Vec<u8> = (0..400u32).map(|i| u8::from(i % 4 >= 2) | ((i / 4 % 3) as u8) << 1).collect();
    let mut scope = Scope::new();
    scope.define("CLK", Meaning::Line(LineId(0)));
    let bus = Bus::new("COUNT", vec![LineId(2), LineId(1)]).unwrap();
    scope.define("COUNT", Meaning::Bus(bus));
    let base = TimeBase::from_rate("1 MS/s".parse().unwrap()).unwrap();
    let seen = |text: &str| {
        let program = Program::compile(text, &scope).unwrap();
        let mut search = StreamSearch::new(&program.at(base).unwrap());
        samples.chunks(70).for_each(|part| {
            assert!(search.push(Samples::new(SampleWidth::W8, part)).is_empty());
        });
        search.bus_values().remove(0)
    };
    let value = |text: &str, times| (text.to_string(), times);
    let clocked = seen("CLK rises while COUNT > 2");
    assert!(clocked.at_event);
    assert_eq!(clocked.values, [value("0x0", 34), value("0x1", 33), value("0x2", 33)]);
    let changed = seen("when COUNT == 3");
    assert!(!changed.at_event);
    assert_eq!(
        (changed.values, changed.others),
        (vec![value("0x0", 33), value("0x1", 33), value("0x2", 33)], 0)
    );
}

#[test]
fn any_event_can_be_shown_as_a_table_of_states() {
    let mut scope = Scope::new();
    for (number, name) in ["A", "B", "C"].into_iter().enumerate() {
        scope.define(name, Meaning::Line(LineId(number)));
    }
    let table = |text: &str| {
        let program = Program::compile(text, &scope).unwrap();
        let table = program.state_table().clone();
        let mut lines = Vec::new();
        for state in &table.states {
            lines.extend(state.arms.iter().map(|a| format!("{}: {}: {}", state.name, a.when, table.does(a))));
        }
        (lines, table.to_dot())
    };
    let (lines, dot) = table("A rises or B falls while C high");
    assert_eq!(lines, ["waiting: on 'A rises or B falls while C high': fires"]);
    assert!(dot.contains("s0 -> fire [label=\"on 'A rises or B falls while C high'\"];"), "{dot}");
    let (lines, _) =
        table("A rises 3 times then no C rises then B falls within 5 us then no A falls within 1 ms");
    assert_eq!(
        lines,
        [
            "step 1: on 'A rises' 3 times: goes to step 2",
            "step 2: on 'C rises': goes to step 1",
            "step 2: on 'B falls': goes to step 3",
            "step 2: after 5 us: goes to step 1",
            "step 3: on 'A falls': goes to step 1",
            "step 3: after 1 ms: fires",
        ]
    );
    let (lines, _) = table("A rises then B rises after 2 us");
    assert_eq!(lines[1], "step 2: on 'B rises', 2 us or more later: fires");
}
