//! What lines may truly have done, and what a limit makes of it: drawn in whole parts of a tick, and worked
//! out by definition.

use deep_tap::bench::Random;
use deep_tap::limit::{Kind, Limit};
use deep_tap::quantity::{Quantity, Rational, Time, Unit};

use crate::support::{Texts, data, events, limit_of, one, pair};

/// Parts of a tick: a sample is taken at each multiple, an edge of the first line lies at one of the
/// places between, one of the second line a part before it, so that none coincide.
pub(crate) const TICK: i64 = 30;
pub(crate) const PLACES: [i64; 3] = [5, 15, 25];

/// Edges of a line, each with whether it rises.
pub(crate) type Edges = Vec<(i64, bool)>;

/// All that a line may have done whose samples are these: in the tick before the first sample and in the
/// one after the last, it may have changed once.
pub(crate) fn truths(samples: &[bool], hides: bool, shift: i64) -> Vec<Edges> {
    let mut all: Vec<(bool, Edges)> = Vec::new();
    let first = samples[0];
    all.push((first, Vec::new()));
    all.push((first, vec![(-1 - shift, first)]));
    for (number, pair) in samples.windows(2).enumerate() {
        let (begin, changes) = (number as i64 * TICK, pair[0] != pair[1]);
        let mut longer = Vec::new();
        for (level, edges) in all {
            for chosen in 0..8u32 {
                let count = chosen.count_ones();
                let fits = (count % 2 == 1) == changes && (hides || count <= 1);
                if !fits {
                    continue;
                }
                let (mut level, mut edges) = (level, edges.clone());
                for place in (0..3).filter(|place| chosen >> place & 1 == 1) {
                    level = !level;
                    edges.push((begin + PLACES[place] - shift, level));
                }
                longer.push((level, edges));
            }
        }
        all = longer;
    }
    let after = (samples.len() as i64 - 1) * TICK + 1 - shift;
    let mut whole = Vec::new();
    for (level, edges) in all {
        let mut changed = edges.clone();
        changed.push((after, !level));
        whole.extend([edges, changed]);
    }
    whole
}

/// One true occurrence: what makes it one, and its value in parts of a tick, or of a share in parts of a
/// period.
#[derive(Debug)]
pub(crate) struct True {
    pub(crate) anchor: i64,
    pub(crate) value: (i64, i64),
    /// Whether it goes beyond the drawn world: it can violate a limit, and need not be judged.
    pub(crate) cut: bool,
    /// The next event, of what settles before that.
    pub(crate) next: i64,
}

pub(crate) fn rises(edges: &Edges) -> Vec<i64> {
    edges.iter().filter(|(_, up)| *up).map(|(at, _)| *at).collect()
}

/// Whether a line is high at an instant; `first` is its first sample.
pub(crate) fn high(edges: &Edges, first: bool, at: i64) -> bool {
    let before = edges.iter().rev().find(|(edge, _)| *edge <= at).map(|(_, up)| *up);
    before.or(edges.first().map(|(_, up)| !up)).unwrap_or(first)
}

/// Where both lines are high.
pub(crate) fn both_high(a: &Edges, b: &Edges, first: (bool, bool)) -> Edges {
    let mut ticks: Vec<i64> = a.iter().chain(b).map(|(at, _)| *at).collect();
    ticks.sort_unstable();
    let holds = |at: i64| high(a, first.0, at) && high(b, first.1, at);
    let (mut edges, mut before) = (Edges::new(), holds(ticks.first().map_or(0, |at| at - 1)));
    for at in ticks {
        let now = holds(at);
        if now != before {
            edges.push((at, now));
        }
        before = now;
    }
    edges
}

/// What truly happened, wherever in the drawn world a partner lies; `first` are the first samples.
pub(crate) fn happened(case: &Case, a: &Edges, b: &Edges, first: (bool, bool)) -> Vec<True> {
    let mut all = paired(case, a, b, first);
    let edges = |name: &str| if name == "A" { (a, first.0) } else { (b, first.1) };
    all.retain(|one| {
        let value = one.value.0;
        let (from, to) = match case.kind {
            Kind::Setup | Kind::Removal => (one.anchor - value, one.anchor),
            _ => (one.anchor, one.anchor + value),
        };
        let within = case.within.is_none_or(|text| {
            let (name, level) = text.split_once(' ').unwrap();
            let (edges, first) = edges(name);
            let breaks = edges.iter().any(|(at, _)| from < *at && *at <= to);
            high(edges, first, from) == (level == "high") && !breaks
        });
        within
            && case.unless.is_none_or(|text| {
                let (name, edge) = text.split_once(' ').unwrap();
                !edges(name).0.iter().any(|(at, up)| from < *at && *at < to && *up == (edge == "rises"))
            })
    });
    all
}

/// The same without restrictions.
pub(crate) fn paired(case: &Case, a: &Edges, b: &Edges, first: (bool, bool)) -> Vec<True> {
    let interval = |anchor: i64, value: i64| True { anchor, value: (value, TICK), cut: false, next: 0 };
    let ups = rises(a);
    let pulses = |edges: &Edges| -> Vec<True> {
        let pulses = edges.windows(2).filter(|pair| pair[0].1);
        pulses.map(|pair| interval(pair[0].0, pair[1].0 - pair[0].0)).collect()
    };
    match case.kind {
        Kind::Width if case.texts.0 == "A high and B high" => pulses(&both_high(a, b, first)),
        Kind::Width if case.while_high => {
            pulses(a).into_iter().filter(|one| high(b, first.1, one.anchor)).collect()
        }
        Kind::Width => pulses(a),
        // A change of B is a violation while A is high, and a stretch without one is none.
        Kind::Stable => {
            let mut ends = a.clone();
            if a.first().map_or(first.0, |(_, up)| !up) {
                ends.insert(0, (i64::MIN, true));
            }
            if ends.last().is_some_and(|(_, up)| *up) {
                ends.push((i64::MAX, false));
            }
            let stretch = |pair: &[(i64, bool)]| {
                let changes = b.iter().filter(|(at, _)| (pair[0].0..pair[1].0).contains(at)).count();
                let cut = pair[0].0 == i64::MIN || pair[1].0 == i64::MAX;
                True { anchor: pair[0].0, value: (i64::from(changes == 0), 1), cut, next: 0 }
            };
            ends.windows(2).filter(|pair| pair[0].1).map(stretch).collect()
        }
        Kind::Period if case.while_high => {
            let held = |one: &True| {
                let holds = both_high(b, &vec![], (first.1, true));
                let broken =
                    holds.iter().any(|(at, up)| !up && (one.anchor..=one.anchor + one.value.0).contains(at));
                high(b, first.1, one.anchor) && !broken
            };
            let all = ups.windows(2).map(|pair| interval(pair[0], pair[1] - pair[0]));
            all.filter(held).collect()
        }
        Kind::Period => ups.windows(2).map(|pair| interval(pair[0], pair[1] - pair[0])).collect(),
        Kind::Duty => {
            let whole = a.windows(3).filter(|three| three[0].1);
            let share = |three: &[(i64, bool)]| (three[1].0 - three[0].0, three[2].0 - three[0].0);
            whole.map(|three| True { anchor: three[0].0, value: share(three), cut: false, next: 0 }).collect()
        }
        Kind::Delay | Kind::Recovery => {
            let answer = |(number, start): (usize, &i64)| {
                let next = ups.get(number + 1).copied().unwrap_or(i64::MAX);
                let answer = rises(b).into_iter().find(|at| at > start).filter(|at| *at < next)?;
                Some(interval(*start, answer - start))
            };
            ups.iter().enumerate().filter_map(answer).collect()
        }
        Kind::Hold => {
            let after = |start: &i64| b.iter().map(|(at, _)| *at).find(|at| at > start);
            ups.iter().filter_map(|start| Some(interval(*start, after(start)? - start))).collect()
        }
        Kind::Setup if case.while_high => {
            let before = |end: &i64| b.iter().rev().map(|(at, _)| *at).find(|at| at < end);
            let counts = ups.iter().filter(|end| high(b, first.1, **end));
            counts.filter_map(|end| Some(interval(*end, end - before(end)?))).collect()
        }
        Kind::Setup => {
            let before = |end: &i64| b.iter().rev().map(|(at, _)| *at).find(|at| at < end);
            ups.iter().filter_map(|end| Some(interval(*end, end - before(end)?))).collect()
        }
        // How far each change is from each reference; very far, where there is none.
        Kind::Window => {
            let changes = |start: &i64| {
                let (start, far) = (*start, i64::MAX / 4);
                let changes: Vec<i64> = b.iter().map(|(at, _)| at - start).chain([far]).collect();
                changes.into_iter().map(move |value| interval(start, value))
            };
            ups.iter().flat_map(changes).collect()
        }
        Kind::Settle => {
            let last = |(number, start): (usize, &i64)| {
                let next = ups.get(number + 1).copied().unwrap_or(i64::MAX);
                let last = b.iter().rev().map(|(at, _)| *at).find(|at| at > start && *at < next)?;
                Some(True { next, ..interval(*start, last - start) })
            };
            ups.iter().enumerate().filter_map(last).collect()
        }
        Kind::Removal => {
            let before = |end: &i64| rises(b).into_iter().rev().find(|at| at < end);
            ups.iter().filter_map(|end| Some(interval(*end, end - before(end)?))).collect()
        }
        Kind::Skew => {
            let nearest = |start: &i64| rises(b).into_iter().map(|at| (at - start).abs()).min();
            ups.iter().filter_map(|start| Some(interval(*start, nearest(start)?))).collect()
        }
        _ => Vec::new(),
    }
}

pub(crate) fn samples(number: u64, len: usize) -> Vec<bool> {
    (0..len).map(|bit| number >> bit & 1 == 1).collect()
}

/// What is limited.
pub(crate) struct Case {
    pub(crate) kind: Kind,
    pub(crate) texts: Texts,
    /// Only while B is high.
    pub(crate) while_high: bool,
    /// Only pairs inside one stretch of this, or with none of this between.
    pub(crate) within: Option<&'static str>,
    pub(crate) unless: Option<&'static str>,
}

impl Case {
    /// Limits that lie between the values that drawn truths can have, on either side.
    pub(crate) fn limits(&self) -> Vec<Limit> {
        let events = || events(self.kind, self.texts.clone());
        let ends: Vec<Quantity> = match self.kind {
            Kind::Stable => return vec![limit_of(events(), None, None)],
            Kind::Window => {
                let ends = [("5 ns", "5 ns"), ("25 ns", "-5 ns"), ("-5 ns", "15 ns"), ("15 ns", "25 ns")];
                let window = |(setup, hold)| Limit::of("t", events()).clear(setup, hold).build().unwrap();
                return ends.map(window).to_vec();
            }
            Kind::Duty => {
                [15, 45, 75].map(|percent| Unit::Percent.of(Rational::new(percent, 100).unwrap())).to_vec()
            }
            // Two edges more between two samples make a period of two thirds of a tick: shorter ones are
            // not drawn.
            Kind::Period => [15, 25, 35].map(|ns: i64| Time::from_ps(ns * 1000).into()).to_vec(),
            _ => [5, 15, 25, 35].map(|ns: i64| Time::from_ps(ns * 1000).into()).to_vec(),
        };
        let each = |end: &Quantity| {
            [(Some(*end), None), (None, Some(*end))].map(|(min, max)| {
                let mut limit = limit_of(events(), min, max);
                limit.condition = self.while_high.then(|| "B high".to_string());
                limit.within = self.within.map(String::from);
                limit.unless = self.unless.map(String::from);
                limit
            })
        };
        ends.iter().flat_map(each).collect()
    }
}

pub(crate) fn case(kind: Kind, texts: Texts) -> Case {
    Case { kind, texts, while_high: false, within: None, unless: None }
}

/// What both tests of two lines limit.
pub(crate) fn of_two_lines() -> Vec<Case> {
    vec![
        case(Kind::Delay, pair("A rises", "B rises")),
        case(Kind::Hold, data("B", "A rises")),
        case(Kind::Setup, data("B", "A rises")),
        case(Kind::Skew, pair("A rises", "B rises")),
        case(Kind::Stable, pair("B", "A high")),
        case(Kind::Width, one("A high and B high")),
        Case { while_high: true, ..case(Kind::Width, one("A high")) },
        Case { while_high: true, ..case(Kind::Period, one("A rises")) },
        Case { while_high: true, ..case(Kind::Setup, data("B", "A rises")) },
        case(Kind::Recovery, pair("A rises", "B rises")),
        case(Kind::Removal, pair("A rises", "B rises")),
        case(Kind::Window, data("B", "A rises")),
        case(Kind::Settle, pair("A rises", "B")),
        Case { within: Some("A high"), ..case(Kind::Hold, data("B", "A rises")) },
        Case { within: Some("B high"), ..case(Kind::Setup, data("B", "A rises")) },
        Case { within: Some("A high"), ..case(Kind::Settle, pair("A rises", "B")) },
        Case { within: Some("B high"), ..case(Kind::Period, one("A rises")) },
        Case { unless: Some("A falls"), ..case(Kind::Delay, pair("A rises", "B rises")) },
        Case { unless: Some("B falls"), ..case(Kind::Period, one("A rises")) },
        Case { unless: Some("A falls"), ..case(Kind::Setup, data("B", "A rises")) },
    ]
}

/// What one line truly does over a record of so many ticks and beyond both its ends: its edges in parts of a
/// tick, of which none is closer to the next than this.
pub(crate) fn drawn(random: &mut Random, len: i64, closest: i64) -> Edges {
    let mut edges = Edges::new();
    let (mut at, mut level) = (-10 * TICK + random.between(0, 2 * TICK), random.below(2) == 1);
    while at < (len + 10) * TICK {
        level = !level;
        edges.push((at, level));
        at += match random.below(4) {
            0 => closest + random.between(0, TICK),
            1 => closest.max(TICK) + random.between(0, 2 * TICK),
            _ => closest.max(2 * TICK) + random.between(0, 6 * TICK),
        };
    }
    edges
}

/// The samples of a line that is seen late by so many parts.
pub(crate) fn sampled(edges: &Edges, len: i64, late: i64) -> Vec<bool> {
    let before = !edges[0].1;
    (0..len).map(|tick| high(edges, before, tick * TICK - late)).collect()
}
