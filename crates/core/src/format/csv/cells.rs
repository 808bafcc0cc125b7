//! What a cell says.

use crate::format::bits::Word;
use crate::setup::{DecimalMark, Numbers};

/// The levels of a cell of a line or bus; `None` where it is nothing like that.
pub(super) fn word(cell: &[u8], numbers: Option<Numbers>) -> Option<Word> {
    match cell {
        [b'0'] => return Some(Word::number(0)),
        [b'1'] => return Some(Word::number(1)),
        _ => {}
    }
    let text = std::str::from_utf8(cell).ok()?.trim();
    match numbers {
        Some(Numbers::Hex) => {
            return digits(text.strip_prefix("0x").or(text.strip_prefix("0X")).unwrap_or(text), 16);
        }
        Some(Numbers::Binary) => {
            let text = text.strip_prefix("0b").unwrap_or(text);
            return digits(text, 2).map(|word| Word { width: Some(text.len() as u32), ..word });
        }
        Some(Numbers::Decimal) | None => {}
    }
    if text.len() > 1 && text.bytes().all(|byte| byte.is_ascii_digit()) {
        // What is written with leading zeros may be to any base.
        let plain = !text.starts_with('0') || numbers == Some(Numbers::Decimal);
        return plain.then(|| text.parse().ok().map(Word::number))?;
    }
    if let Some(rest) = text.strip_prefix("0x").or(text.strip_prefix("0X")).or(text.strip_prefix('$')) {
        return digits(rest, 16);
    }
    if let Some(rest) = text.strip_prefix("0b").or(text.strip_prefix("0B")) {
        return digits(rest, 2).map(|word| Word { width: Some(rest.len() as u32), ..word });
    }
    if let Some((width, rest)) = text.split_once('\'') {
        return sized(width, rest);
    }
    let lower = text.to_ascii_lowercase();
    if let Some(rest) = lower.strip_suffix('h').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit()))
    {
        return digits(rest, 16);
    }
    match lower.as_str() {
        "l" | "lo" | "low" | "false" | "off" => Some(Word::number(0)),
        "h" | "hi" | "high" | "true" | "on" => Some(Word::number(1)),
        "x" | "u" | "w" | "?" | "-" | "nan" | "unknown" => Some(Word::all(true, true)),
        "z" | "floating" => Some(Word::all(false, true)),
        text if text.len() == 1 => text.parse().ok().map(Word::number),
        _ => None,
    }
}

/// A number as hardware languages write it: `8'hA5`, `4'b10x0`.
fn sized(width: &str, rest: &str) -> Option<Word> {
    let width = width.trim().parse::<u32>().ok().filter(|width| (1..=64).contains(width))?;
    let (base, rest) = (rest.chars().next()?, rest.get(1..)?);
    let word = match base.to_ascii_lowercase() {
        'h' => digits(rest, 16),
        'b' => digits(rest, 2),
        'd' => rest.parse().ok().map(Word::number),
        _ => None,
    }?;
    Some(Word { width: Some(width), ..word })
}

/// Digits to the base 16 or 2, some of which may be unknown or floating.
fn digits(text: &str, base: u32) -> Option<Word> {
    let bits = base.trailing_zeros();
    let mut word = Word::number(0);
    let mut used = 0;
    for c in text.chars().filter(|c| *c != '_') {
        used += bits;
        let ones = (1u64 << bits) - 1;
        let (lower, upper) = match c {
            'x' | 'X' => (ones, ones),
            'z' | 'Z' => (0, ones),
            c => (u64::from(c.to_digit(base)?), 0),
        };
        if (word.lower | word.upper) >> (64 - bits) != 0 {
            return None;
        }
        word.lower = word.lower << bits | lower;
        word.upper = word.upper << bits | upper;
    }
    (used > 0).then_some(word)
}

/// Powers of ten, as many as fit.
const POWERS: [i128; 39] = {
    let mut powers = [1; 39];
    let mut at = 1;
    while at < 39 {
        powers[at] = powers[at - 1] * 10;
        at += 1;
    }
    powers
};

/// A decimal number: `mantissa * 10^exponent`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Decimal {
    pub(super) mantissa: i128,
    pub(super) exponent: i32,
}

impl Decimal {
    /// Reads a number, and what follows it: its unit, if any.
    pub(super) fn read(text: &str, mark: DecimalMark) -> Option<(Decimal, &str)> {
        let (point, group) = match mark {
            DecimalMark::Point => (b'.', b','),
            DecimalMark::Comma => (b',', b'.'),
        };
        let bytes = text.as_bytes();
        if let Some(plain) = Decimal::plain(bytes, point) {
            return Some((plain, ""));
        }
        let negative = bytes.first() == Some(&b'-');
        let mut at = usize::from(matches!(bytes.first(), Some(b'-' | b'+')));
        let (mut mantissa, mut exponent, mut seen, mut fraction) = (0i128, 0i32, false, false);
        while let Some(byte) = bytes.get(at) {
            match byte {
                b'0'..=b'9' => {
                    seen = true;
                    // Digits beyond what is ever needed are left out.
                    if mantissa < 1 << 110 {
                        mantissa = mantissa * 10 + i128::from(byte - b'0');
                        exponent -= i32::from(fraction);
                    } else {
                        exponent += i32::from(!fraction);
                    }
                }
                byte if *byte == point && !fraction => fraction = true,
                byte if *byte == group && !fraction && seen && three_digits(&bytes[at + 1..]) => {}
                _ => break,
            }
            at += 1;
        }
        if !seen {
            return None;
        }
        let mut rest = &text[at..];
        if let Some(power) = rest.strip_prefix(['e', 'E']) {
            let len = power.bytes().enumerate();
            let len =
                len.take_while(|(n, b)| b.is_ascii_digit() || *n == 0 && matches!(b, b'+' | b'-')).count();
            if let Ok(power) = power[..len].parse::<i32>() {
                exponent = exponent.saturating_add(power);
                rest = &rest[1 + len..];
            }
        }
        let mantissa = if negative { -mantissa } else { mantissa };
        Some((Decimal { mantissa, exponent }, rest.trim()))
    }

    /// A number of a few digits with a fraction and nothing else, as nearly all are.
    #[inline]
    fn plain(bytes: &[u8], point: u8) -> Option<Decimal> {
        if bytes.len() >= 19 {
            return None;
        }
        let mut mantissa = 0i64;
        let mut whole = None;
        for (at, byte) in bytes.iter().enumerate() {
            match byte.wrapping_sub(b'0') {
                digit @ 0..10 => mantissa = mantissa * 10 + i64::from(digit),
                _ if *byte == point && whole.is_none() && at > 0 => whole = Some(at),
                _ => return None,
            }
        }
        let fraction = bytes.len() - whole? - 1;
        Some(Decimal { mantissa: mantissa.into(), exponent: -(fraction as i32) })
    }

    /// The same number without zeros at the end of its fraction.
    pub(super) fn shortened(mut self) -> Decimal {
        while self.exponent < 0 && self.mantissa % 10 == 0 {
            (self.mantissa, self.exponent) = (self.mantissa / 10, self.exponent + 1);
        }
        self
    }

    /// How many digits it has, zeros at its beginning left out.
    pub(super) fn digits(self) -> i32 {
        self.mantissa.unsigned_abs().checked_ilog10().map_or(0, |log| log as i32 + 1)
    }

    /// The number in units of `10^-digits`, rounded, and the step of its last digit in them, at least 1.
    pub(super) fn in_units(self, digits: i32) -> Option<(i128, i128)> {
        let shift = self.exponent.checked_add(digits)?;
        if shift >= 0 {
            let step = *POWERS.get(shift as usize)?;
            return Some((self.mantissa.checked_mul(step)?, step));
        }
        let Some(divisor) = 10i128.checked_pow(shift.unsigned_abs()) else { return Some((0, 1)) };
        Some(((self.mantissa + divisor / 2 * self.mantissa.signum()) / divisor, 1))
    }
}

/// Whether a group of thousands follows.
fn three_digits(bytes: &[u8]) -> bool {
    bytes.len() >= 3
        && bytes[..3].iter().all(u8::is_ascii_digit)
        && !bytes.get(3).is_some_and(u8::is_ascii_digit)
}

/// Units of time as people write them, each with its seconds as a power of ten.
const TIMES: [(&str, i32); 35] = [
    // A micro sign of an older encoding.
    ("\u{fffd}s", -6),
    ("s", 0),
    ("sec", 0),
    ("secs", 0),
    ("second", 0),
    ("seconds", 0),
    ("ms", -3),
    ("msec", -3),
    ("millisecond", -3),
    ("milliseconds", -3),
    ("us", -6),
    ("µs", -6),
    ("μs", -6),
    ("usec", -6),
    ("microsecond", -6),
    ("microseconds", -6),
    ("ns", -9),
    ("nsec", -9),
    ("nanosecond", -9),
    ("nanoseconds", -9),
    ("ps", -12),
    ("picosecond", -12),
    ("picoseconds", -12),
    ("fs", -15),
    ("femtosecond", -15),
    ("femtoseconds", -15),
    ("S", 0),
    ("Sec", 0),
    ("Second", 0),
    ("Seconds", 0),
    ("mS", -3),
    ("uS", -6),
    ("nS", -9),
    ("Sekunden", 0),
    ("sek", 0),
];

/// The power of ten, in seconds, of a unit of time.
pub(super) fn time_unit(text: &str) -> Option<i32> {
    TIMES.iter().find(|(unit, _)| *unit == text).map(|(_, power)| *power)
}

/// Units of voltage, each with its volts as a power of ten.
const VOLTAGES: [(&str, i32); 12] = [
    ("\u{fffd}V", -6),
    ("V", 0),
    ("v", 0),
    ("volt", 0),
    ("volts", 0),
    ("Volt", 0),
    ("Volts", 0),
    ("mV", -3),
    ("uV", -6),
    ("µV", -6),
    ("μV", -6),
    ("kV", 3),
];

/// The power of ten, in volts, of a unit of voltage.
pub(super) fn volt_unit(text: &str) -> Option<i32> {
    VOLTAGES.iter().find(|(unit, _)| *unit == text).map(|(_, power)| *power)
}

/// A time of day, with a date or without: attoseconds since some midnight or since 1970. `None` where it is
/// nothing like that.
pub(super) fn stamp(text: &str) -> Option<i128> {
    let text = text.trim().trim_end_matches('Z').trim();
    let (date, clock) = match text.split_once(['T', ' ']) {
        Some((date, clock)) => (Some(date), clock.trim()),
        None => (None, text),
    };
    let days = match date {
        Some(date) => days(date)?,
        None => 0,
    };
    let mut parts = clock.split(':');
    let (hours, minutes) = (parts.next()?.parse::<u32>().ok()?, parts.next()?.parse::<u32>().ok()?);
    let seconds = parts.next()?;
    if parts.next().is_some()
        || hours > 24
        || minutes > 59
        || !seconds.starts_with(|c: char| c.is_ascii_digit())
    {
        return None;
    }
    let mark = if seconds.contains(',') { DecimalMark::Comma } else { DecimalMark::Point };
    let (seconds, "") = Decimal::read(seconds, mark)? else { return None };
    let (seconds, _) = seconds.in_units(super::pace::DIGITS)?;
    let minutes = (i128::from(days) * 24 + i128::from(hours)) * 60 + i128::from(minutes);
    minutes.checked_mul(60 * 10i128.pow(super::pace::DIGITS as u32))?.checked_add(seconds)
}

/// Days since 1970 of `2026-03-01`, `2026/03/01`, `01.03.2026` or `03/01/2026`.
fn days(date: &str) -> Option<i64> {
    let mark = date.chars().find(|c| "-/.".contains(*c))?;
    let parts: Vec<i64> = date.split(mark).map(|part| part.parse().ok()).collect::<Option<_>>()?;
    let [a, b, c] = parts[..] else { return None };
    let (year, month, day) = match (a > 31, mark) {
        (true, _) => (a, b, c),
        (false, '/') => (c, a, b),
        (false, _) => (c, b, a),
    };
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) || !(0..10_000).contains(&year) {
        return None;
    }
    // Days of the civil calendar, counted from the first of March of the year 0.
    let (year, month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    Some(365 * year + year / 4 - year / 100 + year / 400 + (153 * month + 2) / 5 + day - 1 - 719_468)
}
