//! Every truth that samples to one short record is drawn, with pulses between the samples and without,
//! and what the library claims of the record is held against all of them.

use deep_tap::bench::Random;
use deep_tap::capture::{Capture, Trace};
use deep_tap::known::Rule;
use deep_tap::limit::{Kind, Limit, LimitResult, Measured, Verdict, Visited, check};
use deep_tap::line::{Level, Line, PulseWidths};
use deep_tap::quantity::{Bounds, Quantity, Rational, Time, Unit};
use deep_tap::time::{Resolution, TimeBase};

use crate::support::{Texts, bind, data, events, limit_of, one, pair};

/// Parts of a tick: a sample is taken at each multiple, an edge of the first line lies at one of the
/// places between, one of the second line a part before it, so that none coincide.
const TICK: i64 = 30;
const PLACES: [i64; 3] = [5, 15, 25];

/// Edges of a line, each with whether it rises.
type Edges = Vec<(i64, bool)>;

/// All that a line may have done whose samples are these: in the tick before the first sample and in the
/// one after the last, it may have changed once.
fn truths(samples: &[bool], hides: bool, shift: i64) -> Vec<Edges> {
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

fn record(lines: &[(&str, &[bool], bool)], skew: &str) -> Capture {
    let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
    let len = lines[0].1.len() as u64;
    let resolution = Resolution { skew: skew.parse().unwrap(), ..Resolution::SAMPLED };
    let mut builder = Capture::builder(base, len).resolution(resolution);
    for (name, samples, hides) in lines {
        let ticks = (1..samples.len()).filter(|k| samples[*k] != samples[k - 1]).map(|k| k as u64);
        let trace = Trace::toggling(Level::from(samples[0]), ticks, len).unwrap();
        let shortest = if *hides { "1 ns" } else { "10.1 ns" };
        let pulses = PulseWidths { shortest: Some(shortest.parse().unwrap()), ..PulseWidths::default() };
        builder = builder.line(Line { pulses, ..Line::named(*name) }, trace);
    }
    builder.build().unwrap()
}

/// One true occurrence: what makes it one, and its value in parts of a tick, or of a share in parts of a
/// period.
#[derive(Debug)]
struct True {
    anchor: i64,
    value: (i64, i64),
    /// Whether it goes beyond the drawn world: it can violate a limit, and need not be judged.
    cut: bool,
    /// The next event, of what settles before that.
    next: i64,
}

fn rises(edges: &Edges) -> Vec<i64> {
    edges.iter().filter(|(_, up)| *up).map(|(at, _)| *at).collect()
}

/// Whether a line is high at an instant; `first` is its first sample.
fn high(edges: &Edges, first: bool, at: i64) -> bool {
    let before = edges.iter().rev().find(|(edge, _)| *edge <= at).map(|(_, up)| *up);
    before.or(edges.first().map(|(_, up)| !up)).unwrap_or(first)
}

/// Where both lines are high.
fn both_high(a: &Edges, b: &Edges, first: (bool, bool)) -> Edges {
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
fn happened(case: &Case, a: &Edges, b: &Edges, first: (bool, bool)) -> Vec<True> {
    let mut all = paired(case, a, b, first);
    let edges = |name: &str| if name == "A" { (a, first.0) } else { (b, first.1) };
    all.retain(|one| {
        let value = one.value.0;
        let (from, to) = match case.kind {
            Kind::Setup => (one.anchor - value, one.anchor),
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
fn paired(case: &Case, a: &Edges, b: &Edges, first: (bool, bool)) -> Vec<True> {
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
        Kind::Delay => {
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
        Kind::Skew => {
            let nearest = |start: &i64| rises(b).into_iter().map(|at| (at - start).abs()).min();
            ups.iter().filter_map(|start| Some(interval(*start, nearest(start)?))).collect()
        }
        _ => Vec::new(),
    }
}

/// What the library says of a limit in a record, in parts of a tick, or of a share in thousandths.
struct Said {
    limit: Limit,
    min: Option<i64>,
    max: Option<i64>,
    result: LimitResult,
    /// Of the certain occurrences: the bounds, and the ticks of both ends.
    bounds: Vec<(Bounds<i64>, [u64; 2])>,
    occurrences: usize,
    unpaired: Vec<u64>,
}

/// A value in parts of a tick, or in thousandths.
fn parts(quantity: Quantity) -> i64 {
    let whole = match quantity.unit() {
        Unit::Percent => 1000,
        _ => 100_000_000 * i128::from(TICK),
    };
    let parts = quantity.to_rational().checked_mul(Rational::new(whole, 1).unwrap()).unwrap();
    assert_eq!(parts.floor(), parts.ceil(), "{quantity} is no whole number of parts");
    parts.floor() as i64
}

fn said(capture: &Capture, limit: Limit) -> Said {
    let bound = bind(capture, &limit);
    let span = bound.span(capture, Rule::Proven);
    let (mut bounds, mut occurrences, mut unpaired) = (Vec::new(), 0, Vec::new());
    let walked = bound.occurrences(capture, Rule::Proven, &mut |visited| {
        match visited {
            Visited::Occurrence(occurrence) => {
                // With several possible partners, which one it is depends on places that coincide, which are not
                // drawn: then the judge is not asked.
                let one = |partners: (i64, i64)| partners.0 == partners.1;
                occurrences += match occurrence.measured {
                    Measured::Interval { partners, .. } if !one(partners) => 2,
                    _ => 1,
                };
                // A share is not always a whole number of thousandths: what is claimed of it is judged
                // by the verdict alone.
                if occurrence.certain && !matches!(limit.kind(), Kind::Duty | Kind::Stable) {
                    let ends = [occurrence.start.0, occurrence.end.0];
                    bounds.extend(occurrence.bounds(&span).map(|bounds| (bounds.map(parts), ends)));
                }
            }
            Visited::Unpaired(tick) => unpaired.push(tick.0),
        }
        std::ops::ControlFlow::Continue(())
    });
    walked.unwrap();
    let result = check(capture, &bound, Rule::Proven).unwrap();
    let (min, max) = (limit.required.min.map(parts), limit.required.max.map(parts));
    Said { limit, min, max, result, bounds, occurrences, unpaired }
}

#[derive(Default)]
struct Tally {
    passed: u64,
    failed: u64,
    open: u64,
    needless: Vec<String>,
}

impl Tally {
    fn is_worth_something(&self) {
        let Tally { passed, failed, open, needless } = self;
        assert!(*passed > 30 && *failed > 30 && *open > 200, "{passed} passed, {failed} failed, {open} open");
        assert_eq!(needless, &[""; 0]);
    }
}

impl Said {
    fn meets(&self, (part, whole): (i64, i64)) -> bool {
        match self.limit.kind() {
            Kind::Stable => return part == 1,
            Kind::Window => return self.min.unwrap() >= part || self.max.unwrap() <= part,
            _ => {}
        }
        // Shares in thousandths, without dividing.
        let (value, scale) = if self.limit.kind() == Kind::Duty { (part * 1000, whole) } else { (part, 1) };
        self.min.is_none_or(|min| value >= min * scale) && self.max.is_none_or(|max| value <= max * scale)
    }

    /// Holds all claims against all truths, each with what happened in it; `missed` says whether there may
    /// have been occurrences that the record does not show at all, and `drawn` whether so many truths are drawn
    /// that an ideal judge can be asked.
    fn judge(
        &self,
        what: &str,
        len: i64,
        truths: &[Vec<True>],
        missed: bool,
        drawn: bool,
        tally: &mut Tally,
    ) {
        let inside = |at: i64| at > 0 && at < (len - 1) * TICK;
        // An event at a part of a tick is seen at the next sample.
        let seen_at = |at: i64| (at + TICK - 1).div_euclid(TICK) as u64;
        let (mut violated, mut all_occur) = (0usize, true);
        for all in truths {
            // A change while a condition holds is one wherever that began.
            let anywhere = self.limit.kind() == Kind::Stable;
            let anchored = || all.iter().filter(|one| anywhere || inside(one.anchor));
            // One that is not paired in the record is not judged, but where its partner was in it and unseen.
            let delay = matches!(self.limit.kind(), Kind::Delay | Kind::Hold | Kind::Settle);
            let seen = |one: &&True| {
                let unseen_answer = delay && inside(one.anchor + one.value.0);
                !self.unpaired.contains(&seen_at(one.anchor)) || unseen_answer
            };
            // After the last event of a record, what settles too late already is a violation, and nothing else.
            let settle = self.limit.kind() == Kind::Settle;
            let last = |one: &True| one.cut || (settle && !inside(one.next));
            let late = |one: &True| last(one) && self.max.is_some_and(|max| one.value.0 > max);
            let bad = |one: &&True| if settle && last(one) { late(one) } else { !self.meets(one.value) };
            let counts =
                |one: &&True| !last(one) || (settle && late(one) && inside(one.anchor + one.value.0));
            let judged = || {
                let seen = |one: &&True| seen(one) || (settle && late(one));
                // What an end cuts off is not judged.
                let lasting = matches!(self.limit.kind(), Kind::Period | Kind::Width);
                let whole = move |one: &&True| !lasting || inside(one.anchor + one.value.0);
                anchored().filter(|one| inside(one.anchor)).filter(counts).filter(seen).filter(whole)
            };
            let told = || format!("{what}: {} {:?} where {all:?} happened", self.result, self.bounds);
            match self.result.verdict {
                Verdict::Pass => assert!(!judged().any(|one| bad(&one)), "wrong pass: {}", told()),
                Verdict::Fail => assert!(anchored().any(|one| bad(&one)), "wrong fail: {}", told()),
                // Nothing was there from beginning to end, either.
                Verdict::NotSeen if self.limit.kind() == Kind::Width && !missed => {
                    let whole = |one: &&True| inside(one.anchor + one.value.0);
                    assert!(!judged().any(|one| whole(&one)), "it was there: {}", told());
                }
                Verdict::NotSeen => {}
                Verdict::Inconclusive => {}
            }
            violated += usize::from(judged().any(|one| bad(&one)));
            all_occur &= judged().next().is_some();
            for (bounds, ends) in &self.bounds {
                // A start that hides may have taken its place.
                let near = |one: &True| ends.iter().any(|end| end.abs_diff(seen_at(one.anchor)) <= 1);
                let it = |one: &&True| missed || near(one);
                let contained = all.iter().filter(it).any(|one| bounds.contain(one.value.0));
                assert!(contained, "not in {bounds:?} at {ends:?}: {}", told());
            }
        }
        match self.result.verdict {
            Verdict::Pass => tally.passed += 1,
            Verdict::Fail => tally.failed += 1,
            Verdict::Inconclusive => {
                tally.open += 1;
                // An ideal judge would have decided; but for what two occurrences tell of each other, and for
                // shares, of which three places a tick draw too few.
                let alone = self.occurrences == 1 && self.limit.kind() != Kind::Duty && drawn;
                let decided = (violated == 0 && all_occur) || violated == truths.len();
                if alone && decided {
                    tally.needless.push(format!("{what}: {}", self.result));
                }
            }
            Verdict::NotSeen => {}
        }
    }
}

fn samples(number: u64, len: usize) -> Vec<bool> {
    (0..len).map(|bit| number >> bit & 1 == 1).collect()
}

/// What is limited.
struct Case {
    kind: Kind,
    texts: Texts,
    /// Only while B is high.
    while_high: bool,
    /// Only pairs inside one stretch of this, or with none of this between.
    within: Option<&'static str>,
    unless: Option<&'static str>,
}

impl Case {
    /// Limits that lie between the values that drawn truths can have, on either side.
    fn limits(&self) -> Vec<Limit> {
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

fn case(kind: Kind, texts: Texts) -> Case {
    Case { kind, texts, while_high: false, within: None, unless: None }
}

#[test]
fn no_claim_about_one_line_is_wrong_whatever_hides_between_its_samples() {
    let mut tally = Tally::default();
    let none = Edges::new();
    let cases = [
        case(Kind::Width, one("A high")),
        case(Kind::Period, one("A rises")),
        case(Kind::Duty, one("A high")),
    ];
    let mut records: Vec<Vec<bool>> =
        [3, 4, 5].into_iter().flat_map(|len| (0..1 << len).map(move |number| samples(number, len))).collect();
    // A short pulse, and one that the record cuts off and a hidden edge would make a whole and a long one of.
    records.push(samples(0b0101111, 7));
    for samples in records {
        let len = samples.len();
        for hides in [false, true] {
            let capture = record(&[("A", &samples, hides)], "0 s");
            let drawn = truths(&samples, hides, 0);
            for case in &cases {
                let first = (samples[0], false);
                let worlds: Vec<Vec<True>> =
                    drawn.iter().map(|edges| happened(case, edges, &none, first)).collect();
                for limit in case.limits() {
                    let what = format!("{} of {samples:?}, hiding {hides}", case.kind);
                    said(&capture, limit).judge(&what, len as i64, &worlds, hides, len <= 5, &mut tally);
                }
            }
        }
    }
    tally.is_worth_something();
}

/// What both tests of two lines limit.
fn of_two_lines() -> Vec<Case> {
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

/// The samples of two lines, and which of them may hide pulses, one after the other.
type Pair = (Vec<bool>, Vec<bool>, Vec<(bool, bool)>);

#[test]
fn no_claim_about_two_lines_is_wrong_whatever_hides_between_their_samples() {
    let mut random = Random::new(14);
    let mut tally = Tally::default();
    let cases = of_two_lines();
    let (none, all) =
        (vec![(false, false)], vec![(false, false), (true, false), (false, true), (true, true)]);
    let mut records: Vec<Pair> = vec![
        // A start without an answer, long before one that has one at once.
        (samples(0b110010, 6), samples(0b100000, 6), vec![(false, true)]),
        // A change that may come after the reference, and none before it in the record.
        (samples(0b1010000, 7), samples(0b0010000, 7), none.clone()),
        // An answer at the very end, which a second start just after it may have come before.
        (samples(0b0010, 4), samples(0b1000, 4), none.clone()),
        // Nothing changes while the other one is high.
        (samples(0b0110, 4), samples(0, 4), all.clone()),
        // One goes as the other comes, so that both may have been high for a moment.
        (samples(0b0010, 4), samples(0b1100, 4), none.clone()),
    ];
    for round in 0..50 {
        let rises = |drawn: &Vec<bool>| drawn.windows(2).any(|pair| !pair[0] && pair[1]);
        let one = std::iter::repeat_with(|| samples(random.below(16), 4)).find(rises).unwrap();
        let other = samples(random.below(16), 4);
        records.push((one, other, if round < 10 { all.clone() } else { none.clone() }));
    }
    // Long enough for two events with something between.
    for _ in 0..26 {
        let mut calm = |changes: usize| {
            let changes_of = |drawn: &Vec<bool>| drawn.windows(2).filter(|pair| pair[0] != pair[1]).count();
            std::iter::repeat_with(|| samples(random.below(128), 7))
                .find(|drawn| changes_of(drawn) == changes)
                .unwrap()
        };
        records.push((calm(3), calm(2), none.clone()));
    }
    // What hides around a reference, and after what seemed to be the last change.
    records.push((samples(0b0111000, 7), samples(0, 7), vec![(false, true)]));
    records.push((samples(0b111010, 6), samples(0b111100, 6), vec![(false, true)]));
    for (round, (one, other, hiding)) in records.into_iter().enumerate() {
        // The second line is seen early or late by as much as the skew allows, which is nearly a third of a tick.
        let skewed = hiding.len() == 1 && round % 2 == 0;
        let (skew, shifts) = if skewed { ("3 ns", vec![-8, 1, 10]) } else { ("0 s", vec![1]) };
        for (a_hides, b_hides) in hiding {
            let capture = record(&[("A", &one, a_hides), ("B", &other, b_hides)], skew);
            let first = truths(&one, a_hides, 0);
            let second: Vec<Edges> = shifts.iter().flat_map(|by| truths(&other, b_hides, *by)).collect();
            let both = || first.iter().flat_map(|a| second.iter().map(move |b| (a, b)));
            for case in &cases {
                let levels = (one[0], other[0]);
                let worlds: Vec<Vec<True>> = both().map(|(a, b)| happened(case, a, b, levels)).collect();
                for limit in case.limits() {
                    let what = format!("{} of {one:?} {other:?}, hiding {a_hides} {b_hides}", case.kind);
                    let (missed, drawn) =
                        (a_hides || b_hides, !a_hides && shifts.len() == 1 && one.len() == 4);
                    said(&capture, limit).judge(&what, one.len() as i64, &worlds, missed, drawn, &mut tally);
                }
            }
        }
    }
    tally.is_worth_something();
}

/// What one line truly does over a record of so many ticks and beyond both its ends: its edges in parts of a
/// tick, of which none is closer to the next than this.
fn drawn(random: &mut Random, len: i64, closest: i64) -> Edges {
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
fn sampled(edges: &Edges, len: i64, late: i64) -> Vec<bool> {
    let before = !edges[0].1;
    (0..len).map(|tick| high(edges, before, tick * TICK - late)).collect()
}

/// Records of some length, each against its own truth: `TRUTHS=5000` tries a million occurrences.
#[test]
fn no_claim_about_long_records_is_wrong() {
    let rounds = std::env::var("TRUTHS").ok().and_then(|text| text.parse().ok()).unwrap_or(120);
    let mut random = Random::new(41);
    let mut tally = Tally::default();
    let cases = of_two_lines();
    let mut seen = 0;
    for round in 0..rounds {
        let len = random.between(20, 60);
        let hides = [(false, false), (false, false), (true, false), (false, true), (true, true)]
            [random.below(5) as usize];
        let closest = |hides| if hides { 1 } else { TICK + 1 };
        // Half of them with skew, of nearly a third of a tick; no two edges of both lines coincide.
        let (skew, late) = if round % 2 == 0 { ("0 s", 0) } else { ("3 ns", random.between(-9, 9)) };
        let one: Edges = drawn(&mut random, len, closest(hides.0));
        let one: Edges = one.into_iter().map(|(at, up)| (at.div_euclid(2) * 2, up)).collect();
        // Nor any of the first line with a sample.
        let one: Edges = one.into_iter().map(|(at, up)| (at + 2 * i64::from(at % TICK == 0), up)).collect();
        let other: Edges = drawn(&mut random, len, closest(hides.1));
        let other: Edges = other.into_iter().map(|(at, up)| (at.div_euclid(2) * 2 + 1, up)).collect();
        let apart = |edges: &Edges, least: i64| edges.windows(2).all(|pair| pair[1].0 - pair[0].0 >= least);
        if !apart(&one, closest(hides.0)) || !apart(&other, closest(hides.1)) {
            continue;
        }
        let (first, second) = (sampled(&one, len, 0), sampled(&other, len, late));
        let capture = record(&[("A", &first, hides.0), ("B", &second, hides.1)], skew);
        for case in &cases {
            let truth = [happened(case, &one, &other, (first[0], second[0]))];
            for limit in case.limits() {
                let drawn = |samples: &[bool]| {
                    samples.iter().map(|high| if *high { '1' } else { '0' }).collect::<String>()
                };
                let what = format!(
                    "round {round}, {} {:?}, late {late}, hiding {hides:?}, {} {}",
                    case.kind,
                    limit,
                    drawn(&first),
                    drawn(&second)
                );
                let said = said(&capture, limit);
                seen += said.result.counts.seen + said.result.counts.possible;
                said.judge(&what, len, &truth, hides.0 || hides.1, false, &mut tally);
            }
        }
    }
    let Tally { passed, failed, open, .. } = tally;
    assert!(
        passed > rounds && failed > rounds && open > rounds,
        "{passed} passed, {failed} failed, {open} open"
    );
    assert!(seen > 200 * rounds, "only {seen} were seen");
}
