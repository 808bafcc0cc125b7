//! Conditions over lines, with unknown levels taken seriously.

use crate::line::{Bus, Level, Signal, Value};

/// A condition over lines, ready to be asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Test3 {
    And(Vec<Test3>),
    Or(Vec<Test3>),
    Not(Box<Test3>),
    Level(Signal, bool),
    /// The bus lies between two values, both included.
    Range(Bus, u64, u64),
    /// The bus has these bits where none is open.
    Match(Bus, u64, u64),
}

impl Test3 {
    /// The buses it looks at.
    pub(crate) fn buses<'a>(&'a self, buses: &mut Vec<&'a Bus>) {
        match self {
            Test3::And(tests) | Test3::Or(tests) => tests.iter().for_each(|test| test.buses(buses)),
            Test3::Not(inner) => inner.buses(buses),
            Test3::Level(..) => {}
            Test3::Range(bus, ..) | Test3::Match(bus, ..) => buses.push(bus),
        }
    }

    /// Whether it holds; `None` when unknown levels leave that open.
    pub(crate) fn eval(&self, level: &mut impl FnMut(Signal) -> Level) -> Option<bool> {
        match self {
            Test3::And(all) => {
                let mut outcome = Some(true);
                for test in all {
                    match test.eval(level) {
                        Some(false) => return Some(false),
                        None => outcome = None,
                        Some(true) => {}
                    }
                }
                outcome
            }
            Test3::Or(any) => {
                let mut outcome = Some(false);
                for test in any {
                    match test.eval(level) {
                        Some(true) => return Some(true),
                        None => outcome = None,
                        Some(false) => {}
                    }
                }
                outcome
            }
            Test3::Not(inner) => inner.eval(level).map(|holds| !holds),
            Test3::Level(line, high) => match level(*line) {
                Level::Low => Some(!high),
                Level::High => Some(*high),
                // Known, and neither of the two.
                Level::Floating => Some(false),
                Level::Unknown => None,
            },
            Test3::Range(bus, ..) | Test3::Match(bus, ..) if self.floats(bus, level) => Some(false),
            Test3::Range(bus, low, high) => {
                let Value { bits, unknown, .. } = bus.value(|line| level(line.into()));
                // The value lies between all open bits low and all open bits high.
                let (least, most) = (bits, bits | unknown);
                if least >= *low && most <= *high {
                    Some(true)
                } else if least_from(bits, unknown, *low).is_none_or(|least| least > *high) {
                    Some(false)
                } else {
                    None
                }
            }
            Test3::Match(bus, bits, open) => {
                let value = bus.value(|line| level(line.into()));
                if (value.bits ^ bits) & !open & !value.unknown != 0 {
                    Some(false)
                } else if value.unknown & !open != 0 {
                    None
                } else {
                    Some(true)
                }
            }
        }
    }

    /// Whether a line floats whose level matters: then the bus has no value at all.
    fn floats(&self, bus: &Bus, level: &mut impl FnMut(Signal) -> Level) -> bool {
        let open = if let Test3::Match(_, _, open) = self { *open } else { 0 };
        let mut lines = bus.lines.iter().rev().enumerate();
        lines.any(|(place, line)| open >> place & 1 == 0 && level(line.into()) == Level::Floating)
    }

    fn collect(&self, signals: &mut Vec<Signal>) {
        match self {
            Test3::And(tests) | Test3::Or(tests) => tests.iter().for_each(|t| t.collect(signals)),
            Test3::Not(inner) => inner.collect(signals),
            Test3::Level(line, _) => signals.push(*line),
            Test3::Range(bus, ..) | Test3::Match(bus, ..) => {
                signals.extend(bus.lines.iter().map(Signal::from));
            }
        }
    }

    pub(crate) fn signals(&self) -> Vec<Signal> {
        let mut signals = Vec::new();
        self.collect(&mut signals);
        signals.sort_unstable();
        signals.dedup();
        signals
    }
}

/// The least value from `low` on that has these bits where they are not unknown.
fn least_from(bits: u64, unknown: u64, low: u64) -> Option<u64> {
    let fits = |value: u64, mask: u64| (value ^ bits) & !unknown & mask == 0;
    if fits(low, u64::MAX) {
        return Some(low);
    }
    // Like `low` down to some bit, which is one instead of zero, and as small as possible below.
    (0..u64::BITS).find_map(|place| {
        let (bit, above) = (1 << place, u64::MAX.checked_shl(place + 1).unwrap_or(0));
        let raised = low & bit == 0 && (bits | unknown) & bit != 0 && fits(low, above);
        raised.then_some(low & above | bit | bits & (bit - 1))
    })
}

/// Both, where there are two.
pub(super) fn both(a: Option<Test3>, b: Option<Test3>) -> Option<Test3> {
    match (a, b) {
        (Some(a), Some(b)) => Some(Test3::And(vec![a, b])),
        (a, b) => a.or(b),
    }
}
