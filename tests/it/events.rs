//! The event language: what it means, against a naive interpreter, and what it says when wrong.

use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::event::{Event, Program, Scope, SimpleKind};
use deep_tap::line::{Bus, Level, Line, LineId};
use deep_tap::time::{Tick, TimeBase};
use proptest::prelude::*;

use crate::support::capture;
use deep_tap::time::Resolution;

/// A condition over three lines `A`, `B`, `C` and the bus `N` that they form, as a program of the
/// tests' own.
#[derive(Clone, Debug)]
enum Cond {
    Level(usize, bool),
    Equal(u64, u64),
    Less(u64),
    In(u64, u64),
    And(Box<Cond>, Box<Cond>),
    Or(Box<Cond>, Box<Cond>),
    Not(Box<Cond>),
}

const NAMES: [&str; 3] = ["A", "B", "C"];

impl Cond {
    fn text(&self) -> String {
        match self {
            Cond::Level(line, high) => format!("{} {}", NAMES[*line], if *high { "high" } else { "low" }),
            Cond::Equal(bits, open) => {
                let digit = |i: u64| match (open >> i & 1, bits >> i & 1) {
                    (1, _) => 'x',
                    (_, 1) => '1',
                    _ => '0',
                };
                format!("N == 0b{}", (0..3).rev().map(digit).collect::<String>())
            }
            Cond::Less(value) => format!("N < {value}"),
            Cond::In(low, high) => format!("N in {low}..0x{high:x}"),
            Cond::And(a, b) => format!("({} and {})", a.text(), b.text()),
            Cond::Or(a, b) => format!("({} or {})", a.text(), b.text()),
            Cond::Not(a) => format!("not {}", a.text()),
        }
    }

    /// True under every value that the unknown levels may have, false under every one, or open.
    fn holds(&self, levels: [Level; 3]) -> Option<bool> {
        // Kleene's rules line by line; a bus comparison is asked for each value it may have.
        let values = || {
            (0..8u64).filter(move |n| {
                (0..3).all(|i| levels[i].bit().is_none_or(|bit| bit == (n >> (2 - i) & 1 == 1)))
            })
        };
        let bus = |test: &dyn Fn(u64) -> bool| {
            let (all, none) = (values().all(test), !values().any(test));
            if all {
                Some(true)
            } else if none {
                Some(false)
            } else {
                None
            }
        };
        match self {
            Cond::Level(line, high) => levels[*line].bit().map(|bit| bit == *high),
            Cond::Equal(bits, open) => bus(&|n| (n ^ bits) & !open == 0),
            Cond::Less(value) => bus(&|n| n < *value),
            Cond::In(low, high) => bus(&|n| (*low..=*high).contains(&n)),
            Cond::And(a, b) => match (a.holds(levels), b.holds(levels)) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            },
            Cond::Or(a, b) => {
                Cond::Not(Box::new(Cond::And(Box::new(Cond::Not(a.clone())), Box::new(Cond::Not(b.clone())))))
                    .holds(levels)
            }
            Cond::Not(a) => a.holds(levels).map(|h| !h),
        }
    }
}

fn cond() -> impl Strategy<Value = Cond> {
    let leaf = prop_oneof![
        (0usize..3, any::<bool>()).prop_map(|(l, h)| Cond::Level(l, h)),
        (0u64..8, 0u64..8).prop_map(|(bits, open)| Cond::Equal(bits & !open, open)),
        (1u64..8).prop_map(Cond::Less),
        (0u64..8, 0u64..8).prop_map(|(a, b)| Cond::In(a.min(b), a.max(b))),
    ];
    leaf.prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Cond::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Cond::Or(Box::new(a), Box::new(b))),
            inner.prop_map(|a| Cond::Not(Box::new(a))),
        ]
    })
}

#[derive(Clone, Debug)]
enum What {
    Edge(usize, &'static str),
    BusChanges,
    When(Cond),
    /// Lengths in tenths of a tick.
    Over(Cond, u64),
    Under(Cond, u64),
    Between(Cond, u64, u64),
}

impl What {
    /// The tick is 10 ns, so that tenths of it are nanoseconds.
    fn text(&self) -> String {
        match self {
            What::Edge(line, verb) => format!("{} {verb}", NAMES[*line]),
            What::BusChanges => "N changes".into(),
            What::When(c) => format!("when {}", c.text()),
            What::Over(c, t) => format!("{} for > {t} ns", c.text()),
            What::Under(c, t) => format!("({}) for < {t}ns", c.text()),
            What::Between(c, a, b) => format!("{} for {a} ns .. {b} ns", c.text()),
        }
    }

    /// Whether it happens at tick `t`, looking at one tick after the other.
    fn happens(&self, ticks: &[[Level; 3]], t: usize) -> bool {
        let edge = |line: usize| (ticks[t - 1][line], ticks[t][line]);
        // Where the stretch that holds at `at` began, and whether its beginning is recorded.
        let began = |c: &Cond, at: usize| {
            let first = (0..=at).rev().take_while(|i| c.holds(ticks[*i]) == Some(true)).last().unwrap_or(at);
            (first, first > 0 && c.holds(ticks[first - 1]) == Some(false))
        };
        // The stretch that ends at `t`, as its length, if its beginning and end are recorded.
        let ended = |c: &Cond| {
            if t == 0 || c.holds(ticks[t]) != Some(false) || c.holds(ticks[t - 1]) != Some(true) {
                return None;
            }
            let (first, seen) = began(c, t - 1);
            seen.then_some(10 * (t - first) as u64)
        };
        match self {
            What::Edge(line, verb) => {
                t > 0
                    && match (*verb, edge(*line)) {
                        ("rises", (from, to)) => from == Level::Low && to == Level::High,
                        ("falls", (from, to)) => from == Level::High && to == Level::Low,
                        (_, (from, to)) => from != to,
                    }
            }
            What::BusChanges => t > 0 && ticks[t] != ticks[t - 1],
            What::When(c) => t > 0 && c.holds(ticks[t]) == Some(true) && c.holds(ticks[t - 1]) == Some(false),
            What::Over(c, time) => {
                // The stretch may end at this very tick: it has lasted until here.
                if t == 0 || c.holds(ticks[t - 1]) != Some(true) {
                    return false;
                }
                let (first, _) = began(c, t - 1);
                let lasted = 10 * (t - first) as u64;
                // A stretch that runs into an unknown level is not known to have lasted up to it.
                let alive = c.holds(ticks[t]).is_some() || lasted <= *time;
                alive && lasted > *time && lasted - 10 <= *time
            }
            What::Under(c, time) => ended(c).is_some_and(|length| length < *time),
            What::Between(c, a, b) => ended(c).is_some_and(|length| (*a..=*b).contains(&length)),
        }
    }
}

fn what() -> impl Strategy<Value = What> {
    prop_oneof![
        (0usize..3, prop::sample::select(vec!["rises", "falls", "changes"]))
            .prop_map(|(l, v)| What::Edge(l, v)),
        Just(What::BusChanges),
        cond().prop_map(What::When),
        (cond(), 0u64..90).prop_map(|(c, t)| What::Over(c, t)),
        (cond(), 0u64..90).prop_map(|(c, t)| What::Under(c, t)),
        (cond(), 0u64..60, 0u64..60).prop_map(|(c, a, b)| What::Between(c, a.min(b), a.max(b))),
    ]
}

fn record(ticks: &[[Level; 3]]) -> Capture {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let mut builder = Capture::builder(base, ticks.len() as u64);
    for (i, name) in NAMES.iter().enumerate() {
        let mut trace = TraceBuilder::new(ticks[0][i]);
        for (t, levels) in ticks.iter().enumerate().skip(1) {
            trace.push_edge(Tick(t as u64), levels[i]).unwrap();
        }
        builder = builder.line(Line::named(*name), trace.finish(ticks.len() as u64));
    }
    builder.bus(Bus::new("N", (0..3).map(LineId).collect()).unwrap()).build().unwrap()
}

fn ticks(unknown: u32) -> impl Strategy<Value = Vec<[Level; 3]>> {
    let level = prop_oneof![
        10 => Just(Level::Low),
        10 => Just(Level::High),
        unknown => Just(Level::Unknown),
    ];
    prop::collection::vec((prop::array::uniform3(level), 1usize..9), 1..40)
        .prop_map(|runs| runs.into_iter().flat_map(|(levels, n)| std::iter::repeat_n(levels, n)).collect())
}

fn compare(what: &What, guard: Option<&Cond>, ticks: &[[Level; 3]]) {
    let text = match guard {
        Some(guard) => format!("{} while {}", what.text(), guard.text()),
        None => what.text(),
    };
    let capture = record(ticks);
    let program = Program::compile(&text, &Scope::of(&capture)).unwrap_or_else(|e| panic!("{text}: {e:?}"));
    let found: Vec<u64> = program.hits(&capture, capture.range()).map(|h| h.tick.0).collect();
    let holds = |t: usize| guard.is_none_or(|g| g.holds(ticks[t]) == Some(true));
    let wanted: Vec<u64> =
        (0..ticks.len()).filter(|t| what.happens(ticks, *t) && holds(*t)).map(|t| t as u64).collect();
    assert_eq!(found, wanted, "{text}\n{ticks:?}");
    // A range gives the hits inside it.
    let (from, to) = (ticks.len() as u64 / 3, ticks.len() as u64 * 2 / 3);
    let inside: Vec<u64> = program.hits(&capture, Tick(from)..Tick(to)).map(|h| h.tick.0).collect();
    let wanted: Vec<u64> = wanted.into_iter().filter(|t| (from..to).contains(t)).collect();
    assert!(inside.iter().all(|t| wanted.contains(t)), "{text}: {inside:?} but {wanted:?}");
    // With doubt, nothing that is recorded is lost.
    let doubt: Vec<u64> = program.hits_with_doubt(&capture, capture.range()).map(|h| h.tick.0).collect();
    assert!(found.iter().all(|t| doubt.contains(t)), "{text}: {found:?} but {doubt:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn hits_are_those_of_a_naive_interpreter(what in what(), guard in prop::option::of(cond()), ticks in ticks(0)) {
        compare(&what, guard.as_ref(), &ticks);
    }

    #[test]
    fn also_with_unknown_levels(what in what(), guard in prop::option::of(cond()), ticks in ticks(3)) {
        compare(&what, guard.as_ref(), &ticks);
    }

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
            "WE_N rises then ADC_SCLK rises",
            "column 17: sequences with 'then' cannot be evaluated yet | search for its parts one by one for now",
        ),
        (
            "WE_N rises or ADC_SCLK rises",
            "column 15: alternatives with 'or' cannot be evaluated yet | search for its parts one by one for now",
        ),
        (
            "WE_N rises 3 times",
            "column 1: counts with 'times' cannot be evaluated yet | search for its parts one by one for now",
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
    assert_eq!(program.hits(&capture, capture.range()).map(|h| h.tick.0).collect::<Vec<_>>(), [30]);
    let error = Program::compile("loop", &scope).unwrap_err();
    assert!(error.to_string().contains("refers to itself"), "{error}");
    let error = Program::compile("broken", &scope).unwrap_err();
    assert!(error.to_string().contains("the event 'broken' is wrong"), "{error}");
}
