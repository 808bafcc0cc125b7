//! The values of a dump, a piece at a time.
//!
//! To the next editor: a piece is read without knowing the ones before it, taken to begin between two
//! words and outside of any section. [`Piece::end`](Scanned::end) says how it ended; where that is not how
//! the next one was taken to begin, that one is read again.

use super::codes::Target;
use super::header::{lossy, shown};
use super::signals::Signals;
use super::words::{ONES, Ticks, ZEROS, eight, time_of, until_blank, word_end};
use crate::format::fill::Change;
use crate::format::pieces::Piece;

pub(super) const LOW: u64 = 0;
pub(super) const HIGH: u64 = 1;
pub(super) const FLOATING: u64 = 2;
pub(super) const UNKNOWN: u64 = 3;

/// Which level a character stands for: four states of IEEE 1364, nine of IEEE 1164.
const LEVELS: [u8; 256] = {
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
const NONE: u8 = 4;
/// Levels that a piece may make unknown beyond as many as it has bytes.
const MOST_BLANKED: usize = 1 << 24;

/// The level of a trace from a tick on.
#[inline]
fn put(changes: &mut Vec<Change>, tick: u64, level: u64) {
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

/// What to do about most of what is wrong.
const OTHER_KIND: &str =
    "the text must follow IEEE 1364, clause 18: the file is damaged, or it is another kind of file";

/// Reads a piece.
pub(super) struct Scan<'a> {
    signals: &'a Signals,
    ticks: Ticks,
    bytes: &'a [u8],
    /// Where the piece begins in the file.
    offset: u64,
    /// Whether its last word may have been cut.
    open_end: bool,
    at: usize,
    time: u64,
    tick: u64,
    /// Values before this time.
    before: u64,
    inside_list: Option<u64>,
    /// Levels made unknown since recording stopped.
    blanked: usize,
    /// What was said last of the bits: their levels' lower and upper bits.
    last: Vec<(u64, u64)>,
    said: Vec<bool>,
    out: Scanned,
}

impl<'a> Scan<'a> {
    /// Begins with a piece. `spare` is the memory of one that is done with.
    pub(super) fn new(
        signals: &'a Signals,
        ticks: Ticks,
        piece: &'a Piece,
        mut spare: Vec<Vec<Change>>,
    ) -> Self {
        let Piece { bytes, at: offset, open_end, .. } = piece;
        let (offset, open_end) = (*offset, *open_end);
        spare.iter_mut().for_each(Vec::clear);
        spare.resize(signals.traces, Vec::new());
        let out =
            Scanned { changes: spare, reals: vec![Vec::new(); signals.real_count], ..Scanned::default() };
        Scan {
            signals,
            ticks,
            bytes,
            offset,
            open_end,
            at: 0,
            time: 0,
            tick: 0,
            before: 0,
            inside_list: None,
            blanked: 0,
            last: vec![(0, 0); signals.words],
            said: vec![false; signals.words],
            out,
        }
    }

    fn wrong(&self, at: usize, message: impl Into<String>) -> Fault {
        self.fault(at, message, OTHER_KIND)
    }

    fn fault(&self, at: usize, message: impl Into<String>, help: &'static str) -> Fault {
        Fault::Wrong(self.offset + at as u64, message.into(), help)
    }

    fn port_dump(&self, at: usize) -> Fault {
        let message = "this is an extended value change dump, which says who drives a port";
        self.fault(at, message, "dump with $dumpvars instead of $dumpports")
    }

    fn too_late(&self, at: usize) -> Fault {
        let help = "the file is damaged, or its time scale is too fine";
        self.fault(at, "this time is beyond what a capture can hold", help)
    }

    /// The next word; empty at the end.
    #[inline]
    fn word(&mut self) -> &'a [u8] {
        let mut start = self.at;
        while start < self.bytes.len() && self.bytes[start] <= b' ' {
            start += 1;
        }
        let end = word_end(self.bytes, start);
        self.at = end;
        &self.bytes[start..end]
    }

    /// Reads all of it.
    ///
    /// # Errors
    /// With the byte, for what a dump cannot say.
    pub(super) fn run(mut self, begin: Begin) -> Result<Scanned, Fault> {
        self.out.end.timed = begin.timed;
        self.move_to(begin.time)?;
        match begin.inside {
            Inside::Nothing => {}
            Inside::List(at) => self.inside_list = Some(at),
            Inside::Comment(at) => {
                if !self.skip_section(at) {
                    return Ok(self.finish());
                }
            }
            Inside::Value(value) => self.after_value(&value)?,
        }
        // PERF: what is nearly everything in a dump, single bits with short codes and times of up to 15
        // digits, is read here without loops whose ends nobody can foresee, and with the position in a
        // register: twice as fast as word by word.
        let (bytes, mut at) = (self.bytes, self.at);
        while let Some(first) = bytes.get(at).copied() {
            if first <= b' ' {
                at += 1;
                continue;
            }
            let level = LEVELS[usize::from(first)];
            if level != NONE {
                let next = eight(bytes, at + 1);
                let len = until_blank(next);
                let key = next as u16 & [0, 0xff, 0xffff][len.min(2)];
                let trace = self.signals.codes.bit(key);
                if trace != 0 && len <= 2 && !self.open_end {
                    self.out.values += 1;
                    put(&mut self.out.changes[trace as usize - 1], self.tick, level.into());
                    at += len + 2;
                    continue;
                }
                self.at = at;
                self.scalar(level)?;
                at = self.at;
                continue;
            }
            if first == b'#'
                && let Some((time, len)) = time_of(bytes, at + 1)
                && !self.open_end
                && let Some(more) = self.ticks.whole(time.wrapping_sub(self.time))
                && (time >= self.time && self.out.end.timed)
            {
                self.count_time();
                self.time = time;
                self.tick += more;
                at += len + 2;
                if self.tick >= crate::time::MAX_TICKS {
                    return Err(self.too_late(at - len - 2));
                }
                continue;
            }
            self.at = at;
            match first {
                b'#' => self.time_mark()?,
                b'b' | b'B' | b'r' | b'R' | b's' | b'S' => {
                    let value = self.word();
                    self.after_value(value)?;
                }
                b'$' => {
                    if !self.keyword()? {
                        break;
                    }
                }
                b'p' | b'P' => {
                    return Err(self.port_dump(self.at));
                }
                _ => {
                    let start = self.at;
                    let word = self.word();
                    if self.is_cut() {
                        break;
                    }
                    return Err(self.wrong(start, format!("'{}' is neither a time nor a value", shown(word))));
                }
            }
            at = self.at;
        }
        Ok(self.finish())
    }

    fn finish(mut self) -> Scanned {
        self.count_time();
        self.out.end.time = self.time;
        if self.out.end.inside == Inside::Nothing
            && let Some(at) = self.inside_list
        {
            self.out.end.inside = Inside::List(at);
        }
        self.out
    }

    /// Whether the word just read is the last of a file that does not end with a blank.
    fn is_cut(&mut self) -> bool {
        // A line feed was put behind the last piece.
        let cut = self.open_end && self.at + 1 == self.bytes.len();
        cut.then(|| self.out.cut = Some("a word".to_string())).is_some()
    }

    fn scalar(&mut self, level: u8) -> Result<(), Fault> {
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
    fn after_value(&mut self, value: &[u8]) -> Result<(), Fault> {
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

    fn time_mark(&mut self) -> Result<(), Fault> {
        let start = self.at;
        self.at += 1;
        let mut time = 0u64;
        let digits = self.at;
        while let Some(digit) =
            self.bytes.get(self.at).map(|byte| byte.wrapping_sub(b'0')).filter(|d| *d < 10)
        {
            match time.checked_mul(10).and_then(|time| time.checked_add(digit.into())) {
                Some(more) => time = more,
                None => return Err(self.too_late(start)),
            }
            self.at += 1;
        }
        let ends = self.bytes.get(self.at).is_none_or(|byte| *byte <= b' ');
        let cut = self.open_end && self.at + 1 == self.bytes.len();
        if !ends || self.at == digits {
            self.at = start;
            let word = self.word();
            if self.is_cut() {
                return Ok(());
            }
            return Err(self.wrong(start, format!("'{}' is not a time", shown(word))));
        }
        if self.out.end.timed && time < self.time {
            if cut {
                self.out.cut = Some("a time".to_string());
                return Ok(());
            }
            let message = format!("time runs backwards, from {} to {time}", self.time);
            let help = "the file is damaged, or two simulations wrote into it";
            return Err(self.fault(start, message, help));
        }
        self.out.end.timed = true;
        self.count_time();
        self.move_to(time)
    }

    /// Whether anything was said at the time that ends.
    fn count_time(&mut self) {
        self.out.times += u64::from(self.out.values > self.before);
        self.before = self.out.values;
    }

    #[inline]
    fn move_to(&mut self, time: u64) -> Result<(), Fault> {
        self.time = time;
        let divisor = self.ticks.divisor;
        self.tick = time / divisor;
        if self.tick * divisor != time {
            return Err(Fault::Finer(crate::quantity::gcd(divisor.into(), time.into()) as u64));
        }
        if self.tick >= crate::time::MAX_TICKS {
            return Err(self.too_late(self.at.saturating_sub(1)));
        }
        Ok(())
    }

    /// A word that begins with `$`; whether more follows.
    fn keyword(&mut self) -> Result<bool, Fault> {
        let start = self.at;
        let word = self.word();
        let at = self.offset + start as u64;
        match word {
            b"$end" => self.inside_list = None,
            b"$dumpvars" | b"$dumpall" | b"$dumpon" => self.inside_list = Some(at),
            b"$dumpoff" => {
                self.inside_list = Some(at);
                self.all_unknown()?;
            }
            b"$dumpports" | b"$dumpportson" | b"$dumpportsoff" | b"$dumpportsall" => {
                return Err(self.port_dump(start));
            }
            _ if self.is_cut() => return Ok(false),
            b"$comment" | b"$date" | b"$version" | b"$vcdclose" => return Ok(self.skip_section(at)),
            b"$var" | b"$scope" | b"$upscope" | b"$timescale" | b"$enddefinitions" => {
                let message = format!("{} after the values began", lossy(word));
                return Err(self.wrong(start, message));
            }
            _ => return Ok(self.skip_section(at)),
        }
        Ok(true)
    }

    /// Passes everything up to `$end`; whether it comes.
    fn skip_section(&mut self, at: u64) -> bool {
        loop {
            match self.word() {
                b"$end" => return true,
                b"" => {
                    self.out.end.inside = Inside::Comment(at);
                    return false;
                }
                _ => {}
            }
        }
    }

    /// Nothing is recorded from here on.
    fn all_unknown(&mut self) -> Result<(), Fault> {
        // A dump that stops recording lists all its signals, so that this costs no more than reading it.
        self.blanked += self.out.changes.len();
        if self.blanked > self.bytes.len() + MOST_BLANKED {
            return Err(self.wrong(self.at, "this dump stops recording too often"));
        }
        for trace in 0..self.out.changes.len() {
            if !self.signals.events[trace] {
                put(&mut self.out.changes[trace], self.tick, UNKNOWN);
            }
        }
        self.last.fill((u64::MAX, u64::MAX));
        self.said.fill(false);
        let tick = self.tick;
        self.out.reals.iter_mut().for_each(|values| values.push((tick, f64::NAN)));
        Ok(())
    }
}
