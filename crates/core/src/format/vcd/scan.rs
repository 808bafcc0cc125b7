//! The values of a dump, a piece at a time.
//!
//! To the next editor: a piece is read without knowing the ones before it, taken to begin between two
//! words and outside of any section. [`Piece::end`](Scanned::end) says how it ended; where that is not how
//! the next one was taken to begin, that one is read again.

use super::header::{lossy, shown};
use super::scanned::{Begin, Fault, Inside, LEVELS, NONE, Scanned, UNKNOWN, put};
use super::signals::Signals;
use super::words::{Ticks, eight, time_of, until_blank, word_end};
use crate::format::fill::Change;
use crate::format::pieces::Piece;

/// Levels that a piece may make unknown beyond as many as it has bytes.
const MOST_BLANKED: usize = 1 << 24;

/// What to do about most of what is wrong.
const OTHER_KIND: &str =
    "the text must follow IEEE 1364, clause 18: the file is damaged, or it is another kind of file";

/// Reads a piece.
pub(super) struct Scan<'a> {
    pub(super) signals: &'a Signals,
    ticks: Ticks,
    pub(super) bytes: &'a [u8],
    /// Where the piece begins in the file.
    pub(super) offset: u64,
    /// Whether its last word may have been cut.
    pub(super) open_end: bool,
    pub(super) at: usize,
    time: u64,
    pub(super) tick: u64,
    /// Values before this time.
    before: u64,
    pub(super) inside_list: Option<u64>,
    /// Levels made unknown since recording stopped.
    blanked: usize,
    /// What was said last of the bits: their levels' lower and upper bits.
    pub(super) last: Vec<(u64, u64)>,
    pub(super) said: Vec<bool>,
    pub(super) out: Scanned,
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

    pub(super) fn wrong(&self, at: usize, message: impl Into<String>) -> Fault {
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
    pub(super) fn word(&mut self) -> &'a [u8] {
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
    pub(super) fn is_cut(&mut self) -> bool {
        // A line feed was put behind the last piece.
        let cut = self.open_end && self.at + 1 == self.bytes.len();
        cut.then(|| self.out.cut = Some("a word".to_string())).is_some()
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
