//! What the event language means: a naive interpreter that looks at one tick after the other, and
//! random programs over random signals, searched in the stored record and as the samples arrive.

use deep_tap::ErrorKind;
use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::event::{Program, Scope, StreamSearch};
use deep_tap::line::{Bus, Level, Line, LineId};
use deep_tap::scan::{SampleBlock, SampleWidth};
use deep_tap::time::{Tick, TimeBase};
use proptest::prelude::*;

/// A condition over three lines `A`, `B`, `C` and the bus `N` that they form, as a program of the
/// tests' own.
#[derive(Clone, Debug)]
pub(crate) enum Cond {
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
        // A bus has no value where a line floats that matters.
        let open = if let Cond::Equal(_, open) = self { *open } else { 0 };
        let floats = (0..3).any(|i| levels[i] == Level::Floating && open >> (2 - i) & 1 == 0);
        match self {
            Cond::Level(line, _) if levels[*line] == Level::Floating => Some(false),
            Cond::Equal(..) | Cond::Less(_) | Cond::In(..) if floats => Some(false),
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
pub(crate) enum What {
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
pub(crate) type What1 = (Box<What>, u64);

/// A further step.
#[derive(Clone, Debug)]
pub(crate) struct Stage {
    what: What,
    times: u64,
    limit: Limit,
}

/// Tenths of a tick.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Limit {
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
    pub(crate) fn text(&self) -> String {
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

pub(crate) fn simple() -> impl Strategy<Value = What> {
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

pub(crate) fn record(ticks: &[[Level; 3]]) -> Capture {
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

pub(crate) fn ticks(unknown: u32, floating: u32) -> impl Strategy<Value = Vec<[Level; 3]>> {
    let level = prop_oneof![
        10 => Just(Level::Low),
        10 => Just(Level::High),
        unknown => Just(Level::Unknown),
        floating => Just(Level::Floating),
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
    let program = match program.at(capture.base()) {
        Ok(program) => program,
        // Some last for less than a tick.
        Err(error) => return assert_eq!(error.kind(), ErrorKind::TooSlow, "{text}: {error:?}"),
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
    // With doubt, nothing that is recorded is lost.
    let doubt: Vec<u64> = program.hits_with_doubt(&capture, capture.range()).map(|h| h.tick.0).collect();
    assert!(found.iter().all(|t| doubt.contains(t)), "{text}: {found:?} but {doubt:?}");
    // Samples do not float.
    if ticks.iter().flatten().any(|level| *level == Level::Floating) {
        return;
    }
    // The same samples as they arrive, however they are cut.
    let mut search = StreamSearch::new(&program);
    let mut streamed = Vec::new();
    let mut at = 0;
    for len in blocks.iter().cycle() {
        let part = &ticks[at..(at + len).min(ticks.len())];
        let word =
            |levels: &[Level; 3], is: Level| (0..3).fold(0, |all, i| all | u64::from(levels[i] == is) << i);
        let mut block = SampleBlock::new(SampleWidth::ALL[at % 4]);
        part.iter().for_each(|l| block.push(word(l, Level::High), word(l, Level::Unknown)));
        streamed.extend(search.push(block.samples()).into_iter().map(|t| t.0));
        at += part.len();
        if at == ticks.len() {
            break;
        }
    }
    assert_eq!(streamed, wanted, "{text} in blocks of {blocks:?}\n{ticks:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn hits_are_those_of_a_naive_interpreter(
        what in what(),
        guard in prop::option::of(cond()),
        ticks in ticks(0, 0),
        blocks in prop::collection::vec(1usize..150, 1..4),
    ) {
        compare(&what, guard.as_ref(), &ticks, &blocks);
    }

    #[test]
    fn also_with_unknown_levels(
        what in what(),
        guard in prop::option::of(cond()),
        ticks in ticks(3, 0),
        blocks in prop::collection::vec(1usize..150, 1..4),
    ) {
        compare(&what, guard.as_ref(), &ticks, &blocks);
    }

    #[test]
    fn also_with_lines_that_float(
        what in what(),
        guard in prop::option::of(cond()),
        ticks in ticks(2, 6),
        blocks in prop::collection::vec(1usize..150, 1..4),
    ) {
        compare(&what, guard.as_ref(), &ticks, &blocks);
    }
}
