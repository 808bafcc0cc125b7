//! Minimal records and their verdicts, worked out by hand: `tests/fixtures/verdicts.txt`.

use deep_tap::capture::{Capture, TraceBuilder};
use deep_tap::known::Rule;
use deep_tap::limit::{Kind, Limit, check};
use deep_tap::line::{Level, Line, PulseWidths};
use deep_tap::quantity::{Time, Unit, uncertain};
use deep_tap::time::{Resolution, Tick, TimeBase};

use crate::support::{bind, events, root, time};

/// One case, as it is written.
#[derive(Default)]
struct Case<'a> {
    lines: Vec<(&'a str, &'a str, PulseWidths, Option<Level>)>,
    exact: bool,
    skew: Option<&'a str>,
    extra: Option<&'a str>,
    limit: &'a str,
    expect: &'a str,
}

impl<'a> Case<'a> {
    fn read(text: &'a str) -> Self {
        let mut case = Case::default();
        for line in text.lines().filter(|line| !line.starts_with('#')) {
            match line.split_once(": ") {
                Some(("why", _)) => {}
                Some(("skew", skew)) => case.skew = Some(skew),
                Some(("uncertainty", extra)) => case.extra = Some(extra),
                Some(("limit", limit)) => case.limit = limit,
                Some(("expect", expect)) => case.expect = expect,
                Some((stated, value)) => {
                    let (what, name) = stated.split_once(' ').unwrap();
                    let line = case.lines.iter_mut().find(|line| line.0 == name).unwrap();
                    match what {
                        "shortest" => line.2.shortest = Some(time(value)),
                        "fastest" => line.2.fastest = Some(value.parse().unwrap()),
                        "pull" => line.3 = Some(Level::from(value == "up")),
                        other => panic!("'{other}' is nothing that is stated of a line"),
                    }
                }
                None if line == "exact" => case.exact = true,
                None => {
                    let (name, samples) = line.split_once(' ').unwrap();
                    case.lines.push((name, samples.trim(), PulseWidths::default(), None));
                }
            }
        }
        case
    }

    fn capture(&self) -> Capture {
        let skew = self.skew.map_or(Time::ZERO, time);
        let extra = self.extra.map_or(Time::ZERO, time);
        let resolution = Resolution { sampled: !self.exact, skew, extra, ..Resolution::EXACT };
        let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
        let len = self.lines[0].1.len() as u64;
        let mut builder = Capture::builder(base, len).resolution(resolution);
        for (name, samples, pulses, pull) in &self.lines {
            let level = |sample| match sample {
                '0' => Level::Low,
                '1' => Level::High,
                'z' => Level::Floating,
                _ => Level::Unknown,
            };
            let mut trace = TraceBuilder::new(level(samples.chars().next().unwrap()));
            for (tick, sample) in samples.chars().enumerate().skip(1) {
                trace.push_edge(Tick(tick as u64), level(sample)).unwrap();
            }
            let line = Line { pulses: *pulses, pull: *pull, ..Line::named(*name) };
            builder = builder.line(line, trace.finish(len));
        }
        builder.build().unwrap()
    }

    fn limit(&self) -> Limit {
        let words: Vec<&str> = self.limit.split("; ").collect();
        let kind: Kind = words[0].parse().unwrap();
        let asks = |word: &&&str| {
            let keys = ["min ", "max ", "while ", "within ", "unless ", "clear "];
            !keys.iter().any(|key| word.starts_with(key)) && **word != "must"
        };
        let mut texts = words[1..].iter().filter(asks).map(ToString::to_string);
        let texts = (texts.next().unwrap(), texts.next().unwrap_or_default());
        let mut limit = Limit::of("t", events(kind, texts));
        for word in &words[1..] {
            limit = match word.split_once(' ') {
                Some(("min", min)) => limit.min(min),
                Some(("max", max)) => limit.max(max),
                Some(("while", condition)) => limit.only_while(condition),
                Some(("within", condition)) => limit.within(condition),
                Some(("unless", event)) => limit.unless(event),
                Some(("clear", ends)) => {
                    let (setup, hold) = ends.split_once(", ").unwrap();
                    limit.clear(setup, hold)
                }
                _ if *word == "must" => limit.must_be_answered(),
                _ => limit,
            };
        }
        limit.build().unwrap()
    }

    fn found(&self) -> String {
        let capture = self.capture();
        let result = check(&capture, &bind(&capture, &self.limit()), Rule::Proven).unwrap();
        let counts = result.counts;
        let verdict = result.verdict.to_string().to_lowercase();
        let mut told = format!(
            "{verdict}; seen {}; possible {}; unpaired {}",
            counts.seen, counts.possible, counts.unpaired
        );
        if let Some(bounds) = result.bounds {
            assert_eq!(bounds.lo.unit(), Unit::Time);
            let text = match bounds.hi {
                Some(hi) if hi == bounds.lo => hi.to_string(),
                Some(hi) => format!("{} .. {hi}", bounds.lo),
                None => uncertain(bounds.lo, bounds, capture.base().tick()),
            };
            told.push_str(&format!("; {text}"));
        }
        told
    }
}

#[test]
fn every_case_comes_out_as_by_hand() {
    let text = std::fs::read_to_string(root().join("tests/fixtures/verdicts.txt")).unwrap();
    let cases: Vec<&str> = text.split("\n\n").filter(|case| case.contains("why: ")).collect();
    assert!(cases.len() >= 26, "only {} cases", cases.len());
    let mut wrong = Vec::new();
    for text in cases {
        let case = Case::read(text);
        let found = case.found();
        // Nothing, in the unit that it is written in.
        if found.replace("0 s", "0 ns") != case.expect.replace("0 s", "0 ns") {
            wrong.push(format!("{text}\nfound:  {found}"));
        }
    }
    assert!(wrong.is_empty(), "{} are wrong:\n\n{}", wrong.len(), wrong.join("\n\n"));
}
