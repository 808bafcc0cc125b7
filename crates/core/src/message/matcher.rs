//! Values on their way through a message.

use super::{Message, Piece};

/// How a value compares with what is expected of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Compared {
    /// It is as expected.
    Fits,
    /// It is not: this is expected, in words.
    Differs(String),
    /// The message was whole before.
    TooMuch,
}

/// Compares values with a message, one by one.
#[derive(Clone, Debug)]
pub struct Matcher<'m> {
    message: &'m Message,
    /// How many values there are in all, where that is known.
    total: Option<usize>,
    /// Those that came and are as expected.
    values: Vec<u64>,
    /// Where each piece that was reached begins among them.
    begins: Vec<usize>,
    /// What a number says that ended: a length, by the pieces that it counts.
    length: Option<(std::ops::Range<usize>, i64)>,
}

impl<'m> Matcher<'m> {
    /// Before the first value. `total` is the number of values that will come, where that is known.
    pub fn new(message: &'m Message, total: Option<usize>) -> Self {
        let mut matcher = Matcher { message, total, values: Vec::new(), begins: vec![0], length: None };
        matcher.pass();
        matcher
    }

    /// How many values were as expected so far.
    pub fn matched(&self) -> usize {
        self.values.len()
    }

    /// Whether all of it came.
    pub fn is_whole(&self) -> bool {
        self.begins.len() > self.message.pieces.len() || self.may_end()
    }

    /// Whether what is left is any number of values, and none is enough.
    fn may_end(&self) -> bool {
        let last = self.message.pieces.len() == self.begins.len();
        last && self.now() == Some(&Piece::Many) && self.many().is_none_or(|many| many == self.inside())
    }

    /// What comes next, in words; `None` when it is whole.
    pub fn expects(&self) -> Option<String> {
        if self.is_whole() { None } else { self.now().map(|piece| self.words(piece)) }
    }

    /// The piece that takes the next value.
    fn now(&self) -> Option<&'m Piece> {
        self.message.pieces.get(self.begins.len() - 1)
    }

    /// Values that it has taken.
    fn inside(&self) -> usize {
        self.values.len() - self.begins.last().copied().unwrap_or(0)
    }

    /// How many values the one stretch of any number has, as far as that is known.
    fn many(&self) -> Option<usize> {
        let place = self.begins.len() - 1;
        let fixed = |pieces: &[Piece]| pieces.iter().filter_map(Piece::len).sum::<usize>();
        if let Some((counted, length)) = &self.length
            && counted.contains(&place)
        {
            let others = fixed(&self.message.pieces[counted.clone()]) as i64;
            // Fewer than are there anyway: what follows will not fit.
            return Some(usize::try_from(length.saturating_sub(others)).unwrap_or(0));
        }
        let begin = self.begins.last().copied().unwrap_or(0);
        let after = fixed(&self.message.pieces[place + 1..]);
        self.total.map(|total| total.saturating_sub(begin + after))
    }

    /// Goes past the pieces that are whole.
    fn pass(&mut self) {
        while let Some(piece) = self.now() {
            let len = match piece {
                Piece::Many => self.many(),
                piece => piece.len(),
            };
            if len.is_none_or(|len| self.inside() < len) {
                return;
            }
            if let Piece::Length { more, form } = piece {
                let place = self.begins.len() - 1;
                let own = &self.values[self.values.len() - form.values..];
                let number = form.number(own).and_then(|number| i64::try_from(number).ok());
                self.length =
                    number.map(|number| (self.message.counted(place), number.saturating_sub(*more)));
            }
            self.begins.push(self.values.len());
        }
    }

    /// The next value.
    pub fn push(&mut self, value: u64) -> Compared {
        let Some(piece) = self.now() else { return Compared::TooMuch };
        let place = self.inside();
        let fits = match piece {
            Piece::Value { bits, open } => (value ^ bits) & !open == 0,
            Piece::Digit => (0x30..=0x39).contains(&value),
            Piece::Many => true,
            Piece::Length { form, .. } => match self.known_length() {
                Some(length) => form.value(length, place) == value,
                None => !form.digits || form.number(&[value]).is_some(),
            },
            Piece::Check { form, .. } => form.value(self.check(), place) == value,
        };
        if !fits {
            return Compared::Differs(self.words(piece));
        }
        self.values.push(value);
        self.pass();
        Compared::Fits
    }

    /// What a length must be, where what it counts has a length of its own.
    fn known_length(&self) -> Option<u64> {
        let place = self.begins.len() - 1;
        let Piece::Length { more, .. } = self.now()? else { return None };
        let counted = &self.message.pieces[self.message.counted(place)];
        let values = match counted.contains(&Piece::Many) {
            false => counted.iter().filter_map(Piece::len).sum(),
            true => {
                let others = self.message.shortest();
                let own: usize = counted.iter().filter_map(Piece::len).sum();
                self.total?.checked_sub(others)? + own
            }
        };
        u64::try_from(values as i64 + more).ok()
    }

    /// What a checksum must be.
    fn check(&self) -> u64 {
        let Some(Piece::Check { kind, .. }) = self.now() else { return 0 };
        let proven = self.message.proven(self.begins.len() - 1);
        let begin = |piece: usize| self.begins.get(piece).copied().unwrap_or(self.values.len());
        let bytes: Vec<u8> = self.values[begin(proven.start)..begin(proven.end)]
            .iter()
            .map(|value| (value & 0xff) as u8)
            .collect();
        kind.of(&bytes)
    }

    fn words(&self, piece: &Piece) -> String {
        let place = self.inside();
        match piece {
            Piece::Value { bits, open: 0 } => self.message.show(*bits),
            Piece::Value { bits, open } => {
                let digits = (64 - (bits | open).leading_zeros()).div_ceil(4).max(2);
                let digit = |at: u32| match open >> (4 * at) & 0xf {
                    0 => format!("{:X}", bits >> (4 * at) & 0xf),
                    _ => "x".to_string(),
                };
                format!("0x{}", (0..digits).rev().map(digit).collect::<String>())
            }
            Piece::Digit => "a digit".to_string(),
            Piece::Many => "any value".to_string(),
            Piece::Length { form, .. } => match self.known_length() {
                Some(length) => format!("0x{:02X} (length)", form.value(length, place)),
                None => "a length".to_string(),
            },
            Piece::Check { kind, form } => {
                format!("0x{:02X} ({})", form.value(self.check(), place), kind.name())
            }
        }
    }
}
