//! Conditions on a whole window at once.

use super::window::{NONE, Window};
use crate::event::check::Test3;
use crate::line::{Bus, Level, LineId, Signal};
use crate::scan::Plane;

/// A condition over the lines of a window, by their place in it.
#[derive(Clone, Debug)]
pub(in crate::event) enum MaskTest {
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
    pub(in crate::event) fn new(test: &Test3, slots: &[Signal]) -> MaskTest {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        let all = |tests: &[Test3]| tests.iter().map(|t| MaskTest::new(t, slots)).collect();
        match test {
            Test3::And(tests) => MaskTest::And(all(tests)),
            Test3::Or(tests) => MaskTest::Or(all(tests)),
            Test3::Not(inner) => MaskTest::Not(Box::new(MaskTest::new(inner, slots))),
            Test3::Level(line, high) => MaskTest::Level(slot(line), *high),
            Test3::Match(bus, bits, open) => {
                MaskTest::Match(bus.lines.iter().map(|line| slot(&line.into())).collect(), *bits, *open)
            }
            Test3::Range(bus, low, high) => {
                // The lines are replaced by their places, so that the window can be asked for them.
                let places: Vec<usize> = bus.lines.iter().map(|line| slot(&line.into())).collect();
                let lines = places.iter().map(|p| LineId(*p)).collect();
                let by_place = Bus { lines, ..bus.clone() };
                MaskTest::Range(places, *low, *high, Test3::Range(by_place, *low, *high))
            }
        }
    }

    /// A one for each tick at which it holds, and for each at which it does not. Where an unknown
    /// level leaves it open there is neither.
    pub(in crate::event) fn masks(&self, window: &Window<'_>) -> (Plane, Plane) {
        let (mut yes, mut no) = (NONE, NONE);
        if window.open {
            for word in 0..window.words() {
                (yes[word], no[word]) = self.word(window, word);
            }
        } else {
            yes[..window.words()].fill(u64::MAX);
            self.and_known(window, &mut yes);
            (0..window.words()).for_each(|word| no[word] = !yes[word]);
        }
        window.trim(&mut yes);
        window.trim(&mut no);
        (yes, no)
    }

    /// Leaves only the ticks at which it holds.
    pub(in crate::event) fn and_into(&self, window: &Window<'_>, all: &mut Plane) {
        if window.open {
            (0..window.words()).for_each(|word| all[word] &= self.word(window, word).0);
        } else {
            self.and_known(window, all);
        }
    }

    /// The same where all levels are known.
    fn and_known(&self, window: &Window<'_>, all: &mut Plane) {
        let words = window.words();
        let all = &mut all[..words];
        match self {
            MaskTest::Level(slot, high) => and_level(all, &window.planes[*slot], *high),
            MaskTest::Match(slots, bits, open) => {
                for (place, slot) in slots.iter().rev().enumerate() {
                    if open >> place & 1 == 0 {
                        and_level(all, &window.planes[*slot], bits >> place & 1 == 1);
                    }
                }
            }
            MaskTest::Range(slots, low, high, _) => {
                for (word, all) in all.iter_mut().enumerate() {
                    *all &= at_least(slots, *low, window, word) & !above(slots, *high, window, word);
                }
            }
            MaskTest::And(tests) => {
                let mut plane = NONE;
                plane[..words].copy_from_slice(all);
                tests.iter().for_each(|test| test.and_known(window, &mut plane));
                all.copy_from_slice(&plane[..words]);
            }
            MaskTest::Or(tests) => {
                let mut any = NONE;
                for test in tests {
                    let mut plane = NONE;
                    plane[..words].copy_from_slice(all);
                    test.and_known(window, &mut plane);
                    window.or_into(&mut any, &plane);
                }
                all.copy_from_slice(&any[..words]);
            }
            MaskTest::Not(inner) => {
                let mut plane = NONE;
                plane[..words].copy_from_slice(all);
                inner.and_known(window, &mut plane);
                all.iter_mut().zip(plane).for_each(|(all, holds)| *all &= !holds);
            }
        }
    }

    /// The masks of one word, with levels that may be unknown.
    pub(in crate::event) fn word(&self, window: &Window<'_>, word: usize) -> (u64, u64) {
        let level = |slot: usize| (window.planes[slot][word], window.unknown[slot][word]);
        match self {
            MaskTest::And(all) => all.iter().fold((u64::MAX, 0), |(yes, no), test| {
                let (y, n) = test.word(window, word);
                (yes & y, no | n)
            }),
            MaskTest::Or(any) => any.iter().fold((0, u64::MAX), |(yes, no), test| {
                let (y, n) = test.word(window, word);
                (yes | y, no & n)
            }),
            MaskTest::Not(inner) => {
                let (yes, no) = inner.word(window, word);
                (no, yes)
            }
            MaskTest::Level(slot, high) => {
                let (plane, unknown) = level(*slot);
                let (is_high, is_low, floats) = (plane & !unknown, !plane & !unknown, plane & unknown);
                if *high { (is_high, is_low | floats) } else { (is_low, is_high | floats) }
            }
            MaskTest::Match(slots, bits, open) => {
                let (mut yes, mut no) = (u64::MAX, 0);
                for (place, slot) in slots.iter().rev().enumerate() {
                    if open >> place & 1 == 0 {
                        let wanted = if bits >> place & 1 == 1 { u64::MAX } else { 0 };
                        let (plane, unknown) = level(*slot);
                        yes &= !(plane ^ wanted) & !unknown;
                        no |= (plane ^ wanted) & !unknown | plane & unknown;
                    }
                }
                (yes, no)
            }
            MaskTest::Range(slots, low, high, test) => {
                let open = slots.iter().fold(0, |all, slot| all | level(*slot).1);
                let inside = at_least(slots, *low, window, word) & !above(slots, *high, window, word);
                let (mut yes, mut no) = (inside & !open, !inside & !open);
                let mut left = open & window.valid(word);
                while left != 0 {
                    let at = left.trailing_zeros();
                    left &= left - 1;
                    let at_tick = |signal: Signal| match level(signal.line().map_or(0, |slot| slot.0)) {
                        (plane, unknown) if unknown >> at & 1 == 1 => match plane >> at & 1 {
                            0 => Level::Unknown,
                            _ => Level::Floating,
                        },
                        (plane, _) => Level::from(plane >> at & 1 == 1),
                    };
                    match test.eval(&mut { at_tick }) {
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

fn and_level(all: &mut [u64], plane: &Plane, high: bool) {
    let flip = if high { 0 } else { u64::MAX };
    all.iter_mut().zip(plane).for_each(|(all, plane)| *all &= plane ^ flip);
}

/// The ticks at which the value of known lines is greater than `value`: a ripple from the top bit.
fn above(slots: &[usize], value: u64, window: &Window<'_>, word: usize) -> u64 {
    compare(slots, value, window, word).0
}

fn at_least(slots: &[usize], value: u64, window: &Window<'_>, word: usize) -> u64 {
    let (greater, equal) = compare(slots, value, window, word);
    greater | equal
}

fn compare(slots: &[usize], value: u64, window: &Window<'_>, word: usize) -> (u64, u64) {
    let (mut greater, mut equal) = (0, u64::MAX);
    for (i, slot) in slots.iter().enumerate() {
        let plane = window.planes[*slot][word];
        if value >> (slots.len() - 1 - i) & 1 == 1 {
            equal &= plane;
        } else {
            greater |= equal & plane;
            equal &= !plane;
        }
    }
    (greater, equal)
}
