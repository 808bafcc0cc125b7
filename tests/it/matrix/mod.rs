//! Planted mistakes of wiring and settings on all kinds of buses against the first thing that is found,
//! and healthy buses beside them. What the signal cannot tell apart was written down before, in the list
//! of each mistake and in `docs/diagnose.md`, which has the table that this makes.

mod clocked;
mod single;
mod two_wires;

use std::collections::BTreeMap;
use std::fmt::Write as _;

use deep_tap::capture::Capture;
use deep_tap::decode::{Protocol, SerialBus};
use deep_tap::diagnose::{Finding, Sureness, diagnose_bus};
use deep_tap::line::LineId;

use crate::senders::{BIT, Ps, Random, World};
use crate::support::root;

/// A bus with a mistake, and what must be found first.
struct Case {
    mistake: String,
    world: World,
    lines: Vec<usize>,
    protocol: Protocol,
    want: Want,
    /// The length of a bit of this sender.
    bit: Ps,
    /// Samples per bit where it is not to be the usual ones.
    samples: Option<&'static [i64]>,
}

/// What must be found first.
#[derive(Clone)]
enum Want {
    /// Nothing: it is healthy.
    Nothing,
    /// A finding of one of these kinds, of which the text has one of these words.
    Finding(Vec<&'static str>, Vec<String>),
    /// The signal cannot tell: nothing, or one of these, but not for certain.
    Unknowable(Vec<&'static str>),
}

impl Case {
    fn healthy(mistake: &str, world: World, lines: &[usize], protocol: Protocol) -> Case {
        let (mistake, lines) = (mistake.to_string(), lines.to_vec());
        Case { mistake, world, lines, protocol, want: Want::Nothing, bit: BIT, samples: None }
    }

    fn finds(mut self, kind: &'static str, word: &str) -> Case {
        match &mut self.want {
            Want::Finding(kinds, words) => {
                kinds.push(kind);
                words.push(word.to_string());
            }
            _ => self.want = Want::Finding(vec![kind], vec![word.to_string()]),
        }
        self
    }

    fn unknowable(mut self, kinds: &[&'static str]) -> Case {
        self.want = Want::Unknowable(kinds.to_vec());
        self
    }

    fn bit(mut self, bit: Ps) -> Case {
        self.bit = bit;
        self
    }

    /// Records at so many samples per bit, and never exactly.
    fn at(mut self, samples: &'static [i64]) -> Case {
        self.samples = Some(samples);
        self
    }

    fn records(&self, random: &mut Random) -> Vec<(String, Capture)> {
        let usual: &[i64] = &[10, 40];
        let rates = self.samples.unwrap_or(usual).iter();
        let mut records: Vec<(String, Capture)> = rates
            .map(|per_bit| (format!("{per_bit}"), self.world.sampled(random, self.bit / per_bit, 0)))
            .collect();
        if self.samples.is_none() {
            records.push(("exact".into(), self.world.exact()));
        }
        records
    }

    /// What must be found first, as the table has it.
    fn wanted(&self) -> String {
        let named = |kinds: &[&str]| {
            let mut kinds: Vec<String> = kinds.iter().map(|kind| format!("`{kind}`")).collect();
            kinds.dedup();
            kinds.join(" or ")
        };
        match &self.want {
            Want::Nothing => "-".into(),
            Want::Finding(kinds, _) => named(kinds),
            Want::Unknowable(kinds) if kinds.is_empty() => "cannot be told".into(),
            Want::Unknowable(kinds) => format!("cannot be told, or {}", named(kinds)),
        }
    }

    fn judge(&self, found: &[Finding]) -> Judgement {
        let certain = |finding: &Finding| finding.sureness == Sureness::Certain;
        match (&self.want, found.first()) {
            (Want::Nothing | Want::Unknowable(_), None) => Judgement::Right,
            (Want::Nothing, Some(finding)) if certain(finding) => Judgement::FalselyCertain,
            (Want::Nothing, Some(_)) => Judgement::Wrong,
            (Want::Finding(..), None) => Judgement::Nothing,
            (Want::Finding(kinds, words), Some(finding)) => {
                let text = format!("{} {}", finding.what, finding.remedy);
                let right =
                    kinds.iter().zip(words).any(|(kind, word)| finding.kind == *kind && text.contains(word));
                match finding.kind {
                    _ if right => Judgement::Right,
                    // Not wrong: it names no cause.
                    "unread" | "faults" => Judgement::Vague,
                    _ if certain(finding) => Judgement::FalselyCertain,
                    _ => Judgement::Wrong,
                }
            }
            (Want::Unknowable(kinds), Some(finding)) => match kinds.contains(&finding.kind) {
                true if certain(finding) => Judgement::FalselyCertain,
                true => Judgement::Right,
                false if certain(finding) => Judgement::FalselyCertain,
                false => Judgement::Wrong,
            },
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Judgement {
    Right,
    Vague,
    Nothing,
    Wrong,
    FalselyCertain,
}

/// What a row of the table is about: the kind of bus, the mistake, and what must be found first.
type Row = (&'static str, String, String);

/// How often each judgement was given for a mistake on a kind of bus.
#[derive(Default)]
struct Table(BTreeMap<Row, BTreeMap<Judgement, u64>>);

impl Table {
    /// As `docs/diagnose.md` has it.
    fn text(&self) -> String {
        let mut text =
            String::from("| bus | planted | to be found | records | right | vague | nothing | wrong |\n");
        text.push_str("|---|---|---|--:|--:|--:|--:|--:|\n");
        for (row, counts) in &self.0 {
            let count = |judgement| counts.get(&judgement).copied().unwrap_or(0);
            let all: u64 = counts.values().sum();
            let wrong = count(Judgement::Wrong) + count(Judgement::FalselyCertain);
            let _ = writeln!(
                text,
                "{} {all} | {} | {} | {} | {wrong} |",
                Table::start(row),
                count(Judgement::Right),
                count(Judgement::Vague),
                count(Judgement::Nothing),
            );
        }
        text
    }

    fn start((bus, mistake, wanted): &Row) -> String {
        format!("| {bus} | {mistake} | {wanted} |")
    }

    fn sum(&self, judgement: Judgement) -> u64 {
        self.0.values().filter_map(|counts| counts.get(&judgement)).sum()
    }
}

fn cases(random: &mut Random) -> Vec<Case> {
    [single::cases(random), two_wires::cases(random), clocked::cases(random)].into_iter().flatten().collect()
}

/// `ROUNDS=20 cargo test --test it matrix:: -- --nocapture` shows the table.
#[test]
fn the_first_finding_names_what_is_wrong_and_healthy_buses_have_none() {
    let number = |name: &str, usual| std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(usual);
    let rounds = number("ROUNDS", 2);
    let mut random = Random(0x2545_f491_4f6c_dd1d ^ (number("SEED", 0) << 32));
    let mut table = Table::default();
    let mut healthy_blamed = 0;
    let (mut falsely, mut told) = (Vec::new(), Vec::new());
    for _ in 0..rounds {
        for case in cases(&mut random) {
            for (rate, record) in case.records(&mut random) {
                let lines = case.lines.iter().copied().map(LineId).collect();
                let bus = SerialBus::of_lines("bus", case.protocol.clone(), lines).unwrap();
                let found = diagnose_bus(&record, &bus);
                let judgement = case.judge(&found);
                let place = (case.protocol.name(), case.mistake.clone(), case.wanted());
                *table.0.entry(place).or_default().entry(judgement).or_default() += 1;
                if judgement != Judgement::Right {
                    let seen: Vec<String> = found
                        .iter()
                        .map(|f| format!("{} ({}): {} | {}", f.kind, f.sureness, f.what, f.remedy))
                        .collect();
                    let line =
                        format!("{judgement:?} {} {} {rate}: {seen:#?}", case.protocol.name(), case.mistake);
                    healthy_blamed += u64::from(matches!(case.want, Want::Nothing));
                    if judgement == Judgement::FalselyCertain {
                        falsely.push(line);
                    } else {
                        told.push(line);
                    };
                }
            }
        }
    }
    let all: u64 = table.0.values().flat_map(|counts| counts.values()).sum();
    let right = table.sum(Judgement::Right);
    println!("{}\n{right} of {all} right, {healthy_blamed} healthy ones blamed", table.text());
    told.iter().chain(&falsely).for_each(|line| println!("{line}"));
    assert_eq!((falsely.len(), healthy_blamed), (0, 0), "{}", falsely.join("\n"));
    assert!(right * 100 >= all * 95, "{right} of {all}");
    // What is measured stands in the reference.
    let document = std::fs::read_to_string(root().join("docs/diagnose.md")).unwrap();
    let missing: Vec<String> =
        table.0.keys().map(Table::start).filter(|row| !document.contains(row)).collect();
    assert!(missing.is_empty(), "docs/diagnose.md lacks:\n{}", missing.join("\n"));
}
