//! The event language: what it means, against a naive interpreter, and what it says when wrong.

use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::event::{
    Action, Arm, Event, Program, Scope, SimpleKind, State, StateMachine, StreamSearch, Wait,
};
use deep_tap::line::{Bus, Level, Line, LineId};
use deep_tap::scan::SampleBlock;
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
    Any(Vec<What>),
    While(Box<What>, Cond),
    Sequence(What1, Vec<Stage>),
}

/// The first step of a sequence, with its count.
type What1 = (Box<What>, u64);

/// A further step.
#[derive(Clone, Debug)]
struct Stage {
    what: What,
    times: u64,
    limit: Limit,
}

/// Tenths of a tick.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Limit {
    None,
    Within(u64),
    After(u64),
    /// `no … within`
    Absent(u64),
    /// `no …`, before the step that follows
    Unless,
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
            What::Any(any) => any.iter().map(|w| format!("({})", w.text())).collect::<Vec<_>>().join(" or "),
            What::While(what, guard) => format!("({}) while {}", what.text(), guard.text()),
            What::Sequence((first, times), stages) => {
                let count = |n: u64| if n == 1 { String::new() } else { format!(" {n} times") };
                let mut text = format!("({}){}", first.text(), count(*times));
                for Stage { what, times, limit } in stages {
                    let (no, limit) = match limit {
                        Limit::None => ("", String::new()),
                        Limit::Within(t) => ("", format!(" within {t} ns")),
                        Limit::After(t) => ("", format!(" after {t} ns")),
                        Limit::Absent(t) => ("no ", format!(" within {t} ns")),
                        Limit::Unless => ("no ", String::new()),
                    };
                    text.push_str(&format!(" then {no}({}){}{limit}", what.text(), count(*times)));
                }
                text
            }
        }
    }

    /// At which ticks it happens.
    fn all(&self, ticks: &[[Level; 3]]) -> Vec<bool> {
        match self {
            What::Any(any) => {
                let all: Vec<Vec<bool>> = any.iter().map(|w| w.all(ticks)).collect();
                (0..ticks.len()).map(|t| all.iter().any(|w| w[t])).collect()
            }
            What::While(what, guard) => {
                let holds = |(t, hit): (usize, bool)| hit && guard.holds(ticks[t]) == Some(true);
                what.all(ticks).into_iter().enumerate().map(holds).collect()
            }
            What::Sequence((first, times), stages) => sequence(&first.all(ticks), *times, stages, ticks),
            _ => (0..ticks.len()).map(|t| self.happens(ticks, t)).collect(),
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
            What::Any(_) | What::While(..) | What::Sequence(..) => {
                unreachable!("these look at more than a tick")
            }
        }
    }
}

/// Every attempt is kept for itself and looked at on every tick.
fn sequence(first: &[bool], times: u64, stages: &[Stage], ticks: &[[Level; 3]]) -> Vec<bool> {
    let events: Vec<Vec<bool>> = stages.iter().map(|s| s.what.all(ticks)).collect();
    // An attempt: the stage it waits at, since when, and how often the stage's event came since.
    let mut attempts: Vec<(usize, usize, u64)> = Vec::new();
    let mut begun = 0;
    let mut hits = Vec::new();
    let next_stage =
        |stage: usize| (stage..stages.len()).find(|s| stages[*s].limit != Limit::Unless).unwrap_or(stage);
    for t in 0..ticks.len() {
        let mut hit = false;
        let mut kept = Vec::new();
        for (stage, since, count) in attempts.drain(..) {
            let broken =
                (0..stage).rev().take_while(|s| stages[*s].limit == Limit::Unless).any(|s| events[s][t]);
            if broken {
                continue;
            }
            let Stage { times, limit, .. } = stages[stage];
            let (elapsed, happens) = (10 * (t - since) as u64, events[stage][t]);
            let count = count + u64::from(happens);
            let done = match limit {
                Limit::Absent(within) if elapsed > within => true,
                Limit::Absent(_) if happens => continue,
                Limit::Absent(_) | Limit::Unless => false,
                Limit::Within(within) if happens && elapsed > within => continue,
                Limit::After(after) => happens && count >= times && elapsed >= after,
                Limit::None | Limit::Within(_) => happens && count >= times,
            };
            let next = next_stage(stage + 1);
            match done {
                false => kept.push((stage, since, count)),
                true if stage + 1 == stages.len() => hit = true,
                true => kept.push((next, t, 0)),
            }
        }
        if first[t] {
            begun += 1;
            if begun % times == 0 {
                if stages.is_empty() { hit = true } else { kept.push((next_stage(0), t, 0)) }
            }
        }
        attempts = kept;
        hits.push(hit);
    }
    hits
}

fn stage() -> impl Strategy<Value = Stage> {
    let limit = prop_oneof![
        3 => Just(Limit::None),
        3 => (0u64..200).prop_map(Limit::Within),
        2 => (0u64..200).prop_map(Limit::After),
        2 => (0u64..200).prop_map(Limit::Absent),
        1 => Just(Limit::Unless),
    ];
    (simple(), prop_oneof![3 => Just(1u64), 1 => 2u64..4], limit).prop_map(|(what, times, limit)| {
        let counts = !matches!(limit, Limit::Absent(_) | Limit::Unless);
        Stage { what, times: if counts { times } else { 1 }, limit }
    })
}

fn what() -> impl Strategy<Value = What> {
    let any = prop::collection::vec(simple(), 2..4).prop_map(What::Any);
    let first = (prop_oneof![simple(), any], prop_oneof![3 => Just(1u64), 1 => 2u64..4]);
    let sequence = (first, prop::collection::vec(stage(), 0..4)).prop_map(|((first, times), mut stages)| {
        // A sequence cannot end by waiting for something not to happen, without end.
        while stages.last().is_some_and(|s| s.limit == Limit::Unless) {
            stages.pop();
        }
        What::Sequence((Box::new(first), times), stages)
    });
    prop_oneof![2 => simple(), 3 => sequence].prop_recursive(1, 4, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 2..4).prop_map(What::Any),
            (inner, cond()).prop_map(|(what, guard)| What::While(Box::new(what), guard)),
        ]
    })
}

fn simple() -> impl Strategy<Value = What> {
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
    prop::collection::vec(
        (prop::array::uniform3(level), prop_oneof![6 => 1usize..9, 1 => 60usize..300]),
        1..40,
    )
    .prop_map(|runs| runs.into_iter().flat_map(|(levels, n)| std::iter::repeat_n(levels, n)).collect())
}

fn compare(what: &What, guard: Option<&Cond>, ticks: &[[Level; 3]], blocks: &[usize]) {
    let what = match guard {
        Some(guard) => What::While(Box::new(what.clone()), guard.clone()),
        None => what.clone(),
    };
    let text = what.text();
    let capture = record(ticks);
    let program = match Program::compile(&text, &Scope::of(&capture)) {
        Ok(program) => program,
        // Drawn at random, some conditions contradict themselves.
        Err(error) if error.message().starts_with("this can never hold") => return,
        Err(error) => panic!("{text}: {error:?}"),
    };
    let found: Vec<u64> = program.hits(&capture, capture.range()).map(|h| h.tick.0).collect();
    let happens = what.all(ticks);
    let wanted: Vec<u64> = (0..ticks.len()).filter(|t| happens[*t]).map(|t| t as u64).collect();
    assert_eq!(found, wanted, "{text}\n{ticks:?}");
    // A range gives the hits inside it.
    let (from, to) = (ticks.len() as u64 / 3, ticks.len() as u64 * 2 / 3);
    let inside: Vec<u64> = program.hits(&capture, Tick(from)..Tick(to)).map(|h| h.tick.0).collect();
    let wanted_inside: Vec<u64> = wanted.iter().copied().filter(|t| (from..to).contains(t)).collect();
    assert_eq!(inside, wanted_inside, "{text} from {from} to {to}");
    // The same samples as they arrive, however they are cut.
    let mut search = StreamSearch::new(&program, capture.base());
    let mut streamed = Vec::new();
    let mut at = 0;
    for len in blocks.iter().cycle() {
        let part = &ticks[at..(at + len).min(ticks.len())];
        let word =
            |levels: &[Level; 3], is: Level| (0..3).fold(0, |all, i| all | u64::from(levels[i] == is) << i);
        let samples = part.iter().map(|l| word(l, Level::High)).collect();
        let unknown = part.iter().map(|l| word(l, Level::Unknown)).collect();
        streamed.extend(search.push(&SampleBlock { samples, unknown }).into_iter().map(|t| t.0));
        at += part.len();
        if at == ticks.len() {
            break;
        }
    }
    assert_eq!(streamed, wanted, "{text} in blocks of {blocks:?}\n{ticks:?}");
    // With doubt, nothing that is recorded is lost.
    let doubt: Vec<u64> = program.hits_with_doubt(&capture, capture.range()).map(|h| h.tick.0).collect();
    assert!(found.iter().all(|t| doubt.contains(t)), "{text}: {found:?} but {doubt:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn hits_are_those_of_a_naive_interpreter(
        what in what(),
        guard in prop::option::of(cond()),
        ticks in ticks(0),
        blocks in prop::collection::vec(1usize..150, 1..4),
    ) {
        compare(&what, guard.as_ref(), &ticks, &blocks);
    }

    #[test]
    fn also_with_unknown_levels(
        what in what(),
        guard in prop::option::of(cond()),
        ticks in ticks(3),
        blocks in prop::collection::vec(1usize..150, 1..4),
    ) {
        compare(&what, guard.as_ref(), &ticks, &blocks);
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
            "rtc has address == 3",
            "column 1: frames cannot be searched yet | search for edges of the bus's lines",
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
        program.hits(&capture, capture.range()).map(|h| h.tick.0).collect()
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
        ticks in ticks(0), time in 1u64..40, first in simple(), second in simple(), late: bool,
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
        let first_of = |program: &Program| program.hits(&capture, capture.range()).next().map(|h| h.tick);
        // Where the answer and the next question share a tick, the sequence looks at both.
        let shared = program_hits(&a, &capture).into_iter().any(|t| program_hits(&b, &capture).contains(&t));
        prop_assume!(!shared);
        prop_assert_eq!(first_of(&sequence), first_of(&states), "{}", text);
    }
}

fn program_hits(text: &str, capture: &Capture) -> Vec<u64> {
    let program = Program::compile(text, &Scope::of(capture)).unwrap();
    program.hits(capture, capture.range()).map(|h| h.tick.0).collect()
}
