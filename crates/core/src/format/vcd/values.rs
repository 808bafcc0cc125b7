//! The values of a dump: of single bits, vectors and real numbers.

use super::codes::Target;
use super::header::shown;
use super::scan::Scan;
use super::scanned::{Fault, HIGH, Inside, LEVELS, LOW, NONE, put};
use super::words::{ONES, ZEROS, word_end};

impl Scan<'_> {
    pub(super) fn scalar(&mut self, level: u8) -> Result<(), Fault> {
        let start = self.at;
        self.at += 1;
        let end = word_end(self.bytes, self.at);
        let code = &self.bytes[self.at..end];
        self.at = end;
        match self.signals.codes.get(code) {
            Some(Target::Bits { first, width: 1, .. }) => {
                if self.open_end && self.may_be_cut(code) {
                    return Ok(());
                }
                self.out.values += 1;
                put(&mut self.out.changes[first as usize], self.tick, level.into());
                Ok(())
            }
            target => self.other_scalar(start, level, code, target),
        }
    }

    /// A value of a single bit for something else than a bit.
    fn other_scalar(
        &mut self,
        start: usize,
        level: u8,
        code: &[u8],
        target: Option<Target>,
    ) -> Result<(), Fault> {
        if code.is_empty() {
            if self.is_cut() {
                return Ok(());
            }
            return Err(self.wrong(start, "here is a value, but no code of the signal that has it"));
        }
        if self.open_end && self.may_be_cut(code) {
            return Ok(());
        }
        match target {
            Some(Target::Bits { .. }) => self.vector(start, &[b"01zx"[usize::from(level)]], target),
            Some(Target::Event(trace)) => {
                // In a list of all values, nothing happens.
                if self.inside_list.is_none() && level <= HIGH as u8 {
                    self.out.values += 1;
                    let changes = &mut self.out.changes[trace as usize];
                    if changes.last().is_none_or(|last| last >> 2 != self.tick) {
                        changes.push(self.tick << 2 | HIGH);
                    }
                }
                Ok(())
            }
            Some(Target::Real(_)) => Err(self
                .wrong(start, format!("'{}' is a real number, and this is the value of a bit", shown(code)))),
            Some(Target::Text | Target::Aside) => Ok(()),
            None => {
                self.undeclared(start, code);
                Ok(())
            }
        }
    }

    fn undeclared(&mut self, start: usize, code: &[u8]) {
        let first = (self.offset + start as u64, shown(code), 0);
        self.out.undeclared.get_or_insert(first).2 += 1;
    }

    /// Whether a code at the very end of a file without a last line feed can be the beginning of a longer
    /// one. Then its value is not taken.
    fn may_be_cut(&mut self, code: &[u8]) -> bool {
        if self.at + 1 != self.bytes.len() {
            return false;
        }
        let cut = self.signals.codes.continues(code) || self.signals.codes.get(code).is_none();
        cut.then(|| self.out.cut = Some(format!("the code '{}'", shown(code)))).is_some()
    }

    /// What follows a value that stands apart from its code.
    pub(super) fn after_value(&mut self, value: &[u8]) -> Result<(), Fault> {
        let start = self.at.saturating_sub(value.len());
        if matches!(value.first(), Some(b's' | b'S')) {
            return self.after_text(value, start);
        }
        let code = self.word();
        if code.is_empty() {
            self.out.end.inside = Inside::Value(value.to_vec());
            return Ok(());
        }
        if self.open_end && self.may_be_cut(code) {
            return Ok(());
        }
        let target = self.signals.codes.get(code);
        match (value.first(), target) {
            (_, None) => {
                self.undeclared(start, code);
                Ok(())
            }
            (_, Some(Target::Aside)) => Ok(()),
            (Some(b'b' | b'B'), Some(Target::Bits { .. })) => self.vector(start, &value[1..], target),
            (Some(b'r' | b'R'), Some(Target::Real(number))) => self.real(start, &value[1..], number),
            // Some writers say one state of an enumeration in bits.
            (Some(b'b' | b'B'), Some(Target::Text)) => Ok(()),
            (Some(b'b' | b'B'), Some(Target::Event(_))) if value.len() == 2 => {
                self.other_scalar(start, LEVELS[usize::from(value[1])].min(3), code, target)
            }
            _ => {
                let message =
                    format!("'{}' is not a value for what '{}' stands for", shown(value), shown(code));
                Err(self.wrong(start, message))
            }
        }
    }

    /// A text may hold blanks: its code is the next word of the line that is one.
    fn after_text(&mut self, value: &[u8], start: usize) -> Result<(), Fault> {
        let line =
            memchr::memchr(b'\n', &self.bytes[self.at..]).map_or(self.bytes.len(), |len| self.at + len);
        let words = self.at;
        loop {
            let code = self.word();
            if code.is_empty() || self.at > line {
                break;
            }
            if self.signals.codes.get(code) == Some(Target::Text) {
                return Ok(());
            }
        }
        // Nothing there is the code of a text.
        self.at = words;
        let code = self.word();
        if code.is_empty() {
            self.out.end.inside = Inside::Value(value.to_vec());
        } else if !(self.open_end && self.may_be_cut(code)) && self.signals.codes.get(code).is_none() {
            self.undeclared(start, code);
        } else if !matches!(self.signals.codes.get(code), Some(Target::Aside) | None) {
            let message = format!("'{}' is a text, and '{}' holds none", shown(value), shown(code));
            return Err(self.wrong(start, message));
        }
        Ok(())
    }

    fn real(&mut self, start: usize, text: &[u8], number: u32) -> Result<(), Fault> {
        let value = std::str::from_utf8(text).ok().and_then(|text| text.parse::<f64>().ok());
        let Some(value) = value else {
            return Err(self.wrong(start, format!("'{}' is not a number", shown(text))));
        };
        self.out.values += 1;
        let (tick, values) = (self.tick, &mut self.out.reals[number as usize]);
        match values.last_mut() {
            Some(last) if last.0 == tick => last.1 = value,
            _ => values.push((tick, value)),
        }
        Ok(())
    }

    /// A value of several bits, the most significant first.
    fn vector(&mut self, start: usize, digits: &[u8], target: Option<Target>) -> Result<(), Fault> {
        let Some(Target::Bits { first, width, word }) = target else { return Ok(()) };
        let width = width as usize;
        let (extra, digits) = digits.split_at(digits.len().saturating_sub(width));
        let Some(leftmost) = digits.first() else {
            return Err(self.wrong(start, "here is a value without digits"));
        };
        // How a short value goes on to the left (IEEE 1364-2005, table 18-1).
        let extension = match LEVELS[usize::from(*leftmost)] {
            level if u64::from(level) <= HIGH => LOW as u8,
            level => level,
        };
        if extra.iter().any(|digit| LEVELS[usize::from(*digit)] != extension) {
            let message = format!("here are {} digits for {width} bits", extra.len() + digits.len());
            return Err(self.wrong(start, message));
        }
        self.out.values += 1;
        if width == 1 {
            let level = LEVELS[usize::from(*leftmost)];
            if level == NONE {
                return Err(self.wrong(start, format!("'{}' is not a value of bits", shown(digits))));
            }
            put(&mut self.out.changes[first as usize], self.tick, level.into());
            return Ok(());
        }
        let mut bit = 0;
        while bit < width {
            let count = (width - bit).min(64);
            let (mut lower, mut upper) = (0u64, 0u64);
            let end = digits.len().saturating_sub(bit);
            let from = end.saturating_sub(count);
            let (eights, few) = digits[from..end].as_chunks::<8>();
            for eight in eights {
                let bits = u64::from_le_bytes(*eight) ^ ZEROS;
                if bits & !ONES == 0 {
                    // The bits of eight digits next to each other, the first digit highest.
                    let byte = bits.wrapping_mul(0x8040_2010_0804_0201) >> 56;
                    (lower, upper) = (lower << 8 | byte, upper << 8);
                    continue;
                }
                self.digits(eight, (&mut lower, &mut upper), start, digits)?;
            }
            self.digits(few, (&mut lower, &mut upper), start, digits)?;
            let beyond = !u64::MAX.checked_shr(64 - (end - from) as u32).unwrap_or(0);
            lower |= if extension & 1 == 1 { beyond } else { 0 };
            upper |= if extension >> 1 == 1 { beyond } else { 0 };
            self.put_word(first as usize + bit, count, word as usize + bit / 64, (lower, upper));
            bit += 64;
        }
        Ok(())
    }

    /// Puts the levels of some digits behind those before.
    fn digits(
        &self,
        digits: &[u8],
        (lower, upper): (&mut u64, &mut u64),
        start: usize,
        all: &[u8],
    ) -> Result<(), Fault> {
        for digit in digits {
            let level = LEVELS[usize::from(*digit)];
            if level == NONE {
                return Err(self.wrong(start, format!("'{}' is not a value of bits", shown(all))));
            }
            *lower = *lower << 1 | u64::from(level & 1);
            *upper = *upper << 1 | u64::from(level >> 1);
        }
        Ok(())
    }

    /// The levels of up to 64 traces.
    fn put_word(&mut self, first: usize, count: usize, word: usize, levels: (u64, u64)) {
        let valid = u64::MAX >> (64 - count);
        let (lower, upper) = (levels.0 & valid, levels.1 & valid);
        let before = self.last[word];
        let mut differing = (lower ^ before.0) | (upper ^ before.1);
        if !std::mem::replace(&mut self.said[word], true) {
            differing = valid;
        }
        self.last[word] = (lower, upper);
        while differing != 0 {
            let bit = differing.trailing_zeros() as usize;
            differing &= differing - 1;
            put(&mut self.out.changes[first + bit], self.tick, lower >> bit & 1 | (upper >> bit & 1) << 1);
        }
    }
}
