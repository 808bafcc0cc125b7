//! From identifier codes to what they stand for.

use std::collections::HashMap;

/// What a code stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Target {
    /// Traces from the least significant bit on, and the first word of what was said last of them.
    Bits { first: u32, width: u32, word: u32 },
    /// A real number.
    Real(u32),
    /// The trace that changes at each occurrence.
    Event(u32),
    /// A text.
    Text,
    /// Something that is set aside: a constant, or a vector too wide.
    Aside,
}

/// The first and the last character of codes.
const FIRST: u8 = b'!';
const LAST: u8 = b'~';
const LETTERS: usize = (LAST - FIRST) as usize + 1;
/// Codes up to this many characters are found by counting, longer ones by looking up.
const SHORT: usize = 3;

/// What each code stands for.
///
/// PERF: simulators give out codes in order, from one character on; a code of up to three characters is
/// the number of its place in a table, which is as long as the largest code in use needs.
#[derive(Default)]
pub(super) struct Codes {
    /// By the one or two bytes of a code: one more than the trace of a single bit, and zero for what is none.
    bits: Vec<u32>,
    short: Vec<Option<Target>>,
    long: HashMap<Vec<u8>, Target>,
}

impl Codes {
    fn place(code: &[u8]) -> Option<usize> {
        if code.len() > SHORT || code.is_empty() {
            return None;
        }
        let digit = |byte: &u8| (FIRST..=LAST).contains(byte).then(|| usize::from(byte - FIRST));
        let (first, rest) = code.split_first()?;
        rest.iter().try_fold(digit(first)?, |place, byte| Some((place + 1) * LETTERS + digit(byte)?))
    }

    pub(super) fn get(&self, code: &[u8]) -> Option<Target> {
        match Codes::place(code) {
            Some(place) => self.short.get(place).copied().flatten(),
            None => self.long.get(code).copied(),
        }
    }

    /// One more than the trace of the single bit whose code is the one or two lowest bytes of this; zero where
    /// it is none.
    #[inline]
    pub(super) fn bit(&self, code: u16) -> u32 {
        self.bits.get(usize::from(code)).copied().unwrap_or(0)
    }

    pub(super) fn insert(&mut self, code: &[u8], target: Target) {
        if let (Target::Bits { first, width: 1, .. }, [low, rest @ ..]) = (target, code)
            && rest.len() < 2
        {
            self.bits.resize(1 << 16, 0);
            let key = u16::from_le_bytes([*low, rest.first().copied().unwrap_or(0)]);
            self.bits[usize::from(key)] = first + 1;
        }
        match Codes::place(code) {
            Some(place) => {
                if self.short.len() <= place {
                    self.short.resize(place + 1, None);
                }
                self.short[place] = Some(target);
            }
            None => drop(self.long.insert(code.to_vec(), target)),
        }
    }

    /// Whether a longer code begins with this one.
    pub(super) fn continues(&self, code: &[u8]) -> bool {
        let longer = |place: &usize| {
            // The letters of the code with this number, the last one first.
            let mut letters = vec![FIRST + (place % LETTERS) as u8];
            let mut left = place / LETTERS;
            while left > 0 {
                letters.push(FIRST + ((left - 1) % LETTERS) as u8);
                left = (left - 1) / LETTERS;
            }
            letters.reverse();
            letters.len() > code.len() && letters.starts_with(code)
        };
        let known = self.short.iter().enumerate().filter(|(_, target)| target.is_some());
        known.map(|(place, _)| place).any(|place| longer(&place))
            || self.long.keys().any(|long| long.len() > code.len() && long.starts_with(code))
    }
}
