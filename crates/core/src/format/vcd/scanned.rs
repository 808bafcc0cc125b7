//! What a piece of a dump says, and how it ends.

use crate::format::fill::Change;

pub(super) const LOW: u64 = 0;
pub(super) const HIGH: u64 = 1;
pub(super) const FLOATING: u64 = 2;
pub(super) const UNKNOWN: u64 = 3;

/// Which level a character stands for: four states of IEEE 1364, nine of IEEE 1164.
pub(super) const LEVELS: [u8; 256] = {
    let mut levels = [NONE; 256];
    let (low, high, floating, unknown) = (*b"0Ll", *b"1Hh", *b"Zz", *b"XxUuWw-");
    let mut at = 0;
    while at < 7 {
        if at < 3 {
            levels[low[at] as usize] = LOW as u8;
            levels[high[at] as usize] = HIGH as u8;
        }
        if at < 2 {
            levels[floating[at] as usize] = FLOATING as u8;
        }
        levels[unknown[at] as usize] = UNKNOWN as u8;
        at += 1;
    }
    levels
};
/// No level at all.
pub(super) const NONE: u8 = 4;

/// The level of a trace from a tick on.
#[inline]
pub(super) fn put(changes: &mut Vec<Change>, tick: u64, level: u64) {
    let now = tick << 2 | level;
    match changes.last_mut() {
        // Of several levels at one time, the last counts.
        Some(last) if *last >> 2 == tick => *last = now,
        Some(last) if *last & 3 == level => {}
        _ => changes.push(now),
    }
}

/// What a piece begins in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Begin {
    pub(super) time: u64,
    /// Whether a time stood before.
    pub(super) timed: bool,
    pub(super) inside: Inside,
}

/// What a piece ends in the middle of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) enum Inside {
    /// Nothing.
    #[default]
    Nothing,
    /// A list of the values of all variables, which began at this byte of the file.
    List(u64),
    /// A comment or the like, which began at this byte of the file.
    Comment(u64),
    /// A value whose code has not come yet.
    Value(Vec<u8>),
}

/// Why a piece cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Fault {
    /// With the byte of the file, and the remedy.
    Wrong(u64, String, &'static str),
    /// A time is no whole number of ticks, but of this many units.
    Finer(u64),
}

/// What a piece says.
#[derive(Default)]
pub(super) struct Scanned {
    /// Per trace, in order of time.
    pub(super) changes: Vec<Vec<Change>>,
    /// Per real variable: tick and value.
    pub(super) reals: Vec<Vec<(u64, f64)>>,
    /// Values of any kind.
    pub(super) values: u64,
    /// Times with a change.
    pub(super) times: u64,
    /// The time at the end, and what it ends in.
    pub(super) end: Begin,
    /// The first code that nobody declared: its byte in the file, and how many values have such.
    pub(super) undeclared: Option<(u64, String, u64)>,
    /// A word at the very end that may have been cut.
    pub(super) cut: Option<String>,
}
