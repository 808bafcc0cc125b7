//! Conditions on a whole window at once.

use super::Window;
use crate::event::condition::Test3;
use crate::line::{Bus, Level, LineId};

/// A condition over the lines of a window, by their place in it.
#[derive(Clone, Debug)]
pub(super) enum MaskTest {
    And(Vec<MaskTest>),
    Or(Vec<MaskTest>),
    Not(Box<MaskTest>),
    Level(usize, bool),
    /// A bus, most significant line first, against a range or a pattern; with the test as such for
    /// the ticks at which a level is unknown.
    Range(Vec<usize>, u64, u64, Test3),
    Match(Vec<usize>, u64, u64),
}

impl MaskTest {
    pub(super) fn new(test: &Test3, slots: &[LineId]) -> MaskTest {
        let slot = |line: &LineId| slots.binary_search(line).unwrap_or(0);
        let all = |tests: &[Test3]| tests.iter().map(|t| MaskTest::new(t, slots)).collect();
        match test {
            Test3::And(tests) => MaskTest::And(all(tests)),
            Test3::Or(tests) => MaskTest::Or(all(tests)),
            Test3::Not(inner) => MaskTest::Not(Box::new(MaskTest::new(inner, slots))),
            Test3::Level(line, high) => MaskTest::Level(slot(line), *high),
            Test3::Match(bus, bits, open) => {
                MaskTest::Match(bus.lines.iter().map(slot).collect(), *bits, *open)
            }
            Test3::Range(bus, low, high) => {
                // The lines are replaced by their places, so that the window can be asked for them.
                let places: Vec<usize> = bus.lines.iter().map(slot).collect();
                let lines = places.iter().map(|p| LineId(*p)).collect();
                let by_place = Bus { lines, ..bus.clone() };
                MaskTest::Range(places, *low, *high, Test3::Range(by_place, *low, *high))
            }
        }
    }

    /// A one for each tick at which it holds, and for each at which it does not. Where an unknown
    /// level leaves it open there is neither.
    pub(super) fn masks(&self, window: &Window<'_>) -> (u64, u64) {
        let (yes, no) = self.all_bits(window);
        (yes & window.valid(), no & window.valid())
    }

    fn all_bits(&self, window: &Window<'_>) -> (u64, u64) {
        match self {
            MaskTest::And(all) => all.iter().fold((u64::MAX, 0), |(yes, no), test| {
                let (y, n) = test.all_bits(window);
                (yes & y, no | n)
            }),
            MaskTest::Or(any) => any.iter().fold((0, u64::MAX), |(yes, no), test| {
                let (y, n) = test.all_bits(window);
                (yes | y, no & n)
            }),
            MaskTest::Not(inner) => {
                let (yes, no) = inner.all_bits(window);
                (no, yes)
            }
            MaskTest::Level(slot, high) => {
                let known = !window.unknown[*slot];
                let is_high = window.planes[*slot] & known;
                let is_low = !window.planes[*slot] & known;
                if *high { (is_high, is_low) } else { (is_low, is_high) }
            }
            MaskTest::Match(slots, bits, open) => {
                let (mut yes, mut no) = (u64::MAX, 0);
                for (place, slot) in slots.iter().rev().enumerate() {
                    if open >> place & 1 == 0 {
                        let wanted = if bits >> place & 1 == 1 { u64::MAX } else { 0 };
                        let differs = window.planes[*slot] ^ wanted;
                        yes &= !differs & !window.unknown[*slot];
                        no |= differs & !window.unknown[*slot];
                    }
                }
                (yes, no)
            }
            MaskTest::Range(slots, low, high, test) => {
                let open = slots.iter().fold(0, |all, slot| all | window.unknown[*slot]);
                let inside = at_least(slots, *low, window) & !above(slots, *high, window);
                let (mut yes, mut no) = (inside & !open, !inside & !open);
                let mut left = open & window.valid();
                while left != 0 {
                    let at = left.trailing_zeros();
                    left &= left - 1;
                    let level = |line: LineId| match (
                        window.unknown[line.0] >> at & 1,
                        window.planes[line.0] >> at & 1,
                    ) {
                        (1, _) => Level::Unknown,
                        (_, bit) => Level::from(bit == 1),
                    };
                    match test.eval(&mut { level }) {
                        Some(true) => yes |= 1 << at,
                        Some(false) => no |= 1 << at,
                        None => {}
                    }
                }
                (yes, no)
            }
        }
    }
}

/// The ticks at which the value of known lines is greater than `value`: a ripple from the top bit.
fn above(slots: &[usize], value: u64, window: &Window<'_>) -> u64 {
    compare(slots, value, window).0
}

fn at_least(slots: &[usize], value: u64, window: &Window<'_>) -> u64 {
    let (greater, equal) = compare(slots, value, window);
    greater | equal
}

fn compare(slots: &[usize], value: u64, window: &Window<'_>) -> (u64, u64) {
    let (mut greater, mut equal) = (0, u64::MAX);
    for (i, slot) in slots.iter().enumerate() {
        let plane = window.planes[*slot];
        if value >> (slots.len() - 1 - i) & 1 == 1 {
            equal &= plane;
        } else {
            greater |= equal & plane;
            equal &= !plane;
        }
    }
    (greater, equal)
}
