//! When something was made.

use std::fmt;
use std::str::FromStr;

use crate::error::{Error, ErrorKind, Result};

/// A moment of the calendar, to the second, with the zone that it is told in; written as RFC 3339 has it.
///
/// ```
/// use deep_tap_core::time::Moment;
///
/// let moment = Moment::of_unix(1_000_000_000)?;
/// assert_eq!(moment.to_string(), "2001-09-09T01:46:40Z");
/// let elsewhere: Moment = "2001-09-09T03:46:40.5+02:00".parse()?;
/// assert_eq!((elsewhere.unix(), elsewhere.to_string().as_str()), (moment.unix(), "2001-09-09T03:46:40+02:00"));
/// assert!("2001-02-29T00:00:00Z".parse::<Moment>().is_err());
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Moment {
    seconds: i64,
    /// Minutes by which the zone is ahead of UTC.
    zone: i16,
}

const DAY: i64 = 86_400;

impl Moment {
    /// So many seconds after the beginning of 1970, leap seconds not counted, told in UTC.
    ///
    /// # Errors
    /// [`ErrorKind::Range`] outside the years 0 to 9999.
    pub fn of_unix(seconds: i64) -> Result<Self> {
        let last = days(9999, 12, 31) * DAY + DAY;
        if (days(0, 1, 1) * DAY..last).contains(&seconds) {
            return Ok(Moment { seconds, zone: 0 });
        }
        Err(Error::new(ErrorKind::Range, format!("{seconds} seconds after 1970 is no date of four digits")))
    }

    /// Seconds after the beginning of 1970.
    pub fn unix(self) -> i64 {
        self.seconds
    }

    fn read(text: &str) -> Option<Self> {
        let bytes = text.as_bytes();
        let number = |from: usize, count: usize| -> Option<i64> {
            let digits = text.get(from..from + count)?;
            digits.bytes().all(|byte| byte.is_ascii_digit()).then(|| digits.parse().ok())?
        };
        let (year, month, day) = (number(0, 4)?, number(5, 2)?, number(8, 2)?);
        let (hour, minute, second) = (number(11, 2)?, number(14, 2)?, number(17, 2)?);
        let signs = [(4, b"-" as &[u8]), (7, b"-"), (10, b"Tt "), (13, b":"), (16, b":")];
        let in_place =
            signs.iter().all(|(at, signs)| bytes.get(*at).is_some_and(|byte| signs.contains(byte)));
        // A leap second is the one before it, told twice.
        let real = in_place
            && (1..=12).contains(&month)
            && (1..=month_length(year, month)).contains(&day)
            && hour < 24
            && minute < 60
            && second <= 60;
        let rest = text.get(19..).filter(|_| real)?;
        let zone = match rest.strip_prefix('.') {
            Some(fraction) => fraction.trim_start_matches(|c: char| c.is_ascii_digit()),
            None => rest,
        };
        let zone = if matches!(zone, "Z" | "z") {
            0
        } else {
            let at = text.len() - zone.len();
            let (hours, minutes) = (number(at + 1, 2)?, number(at + 4, 2)?);
            let fits = zone.len() == 6 && zone.as_bytes()[3] == b':' && hours < 24 && minutes < 60;
            let ahead = i16::try_from(hours * 60 + minutes).ok().filter(|_| fits)?;
            match zone.as_bytes()[0] {
                b'+' => ahead,
                b'-' => -ahead,
                _ => return None,
            }
        };
        let local = days(year, month, day) * DAY + hour * 3600 + minute * 60 + second.min(59);
        Some(Moment { seconds: local - i64::from(zone) * 60, zone })
    }
}

impl FromStr for Moment {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Moment::read(text).ok_or_else(|| {
            Error::new(ErrorKind::Quantity, format!("'{text}' is no date with a time and a zone"))
                .with_help("write it like 2026-03-01T12:30:00Z or 2026-03-01T13:30:00+01:00 (RFC 3339)")
        })
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let local = self.seconds + i64::from(self.zone) * 60;
        let (day, second) = (local.div_euclid(DAY), local.rem_euclid(DAY));
        let (year, month, date) = date_of(day);
        let (hour, minute, second) = (second / 3600, second / 60 % 60, second % 60);
        write!(f, "{year:04}-{month:02}-{date:02}T{hour:02}:{minute:02}:{second:02}")?;
        match self.zone {
            0 => f.write_str("Z"),
            zone => {
                let (sign, ahead) = (if zone < 0 { '-' } else { '+' }, zone.unsigned_abs());
                write!(f, "{sign}{:02}:{:02}", ahead / 60, ahead % 60)
            }
        }
    }
}

fn is_leap(year: i64) -> bool {
    year % 4 == 0 && (year % 100 != 0 || year % 400 == 0)
}

fn month_length(year: i64, month: i64) -> i64 {
    match month {
        2 => 28 + i64::from(is_leap(year)),
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Days from the beginning of 1970 to a date of the Gregorian calendar. Years are counted from March on, so
/// that a leap day is the last of its year.
fn days(year: i64, month: i64, day: i64) -> i64 {
    let year = if month > 2 { year } else { year - 1 };
    let month = (month + 9) % 12;
    let leaps = year.div_euclid(4) - year.div_euclid(100) + year.div_euclid(400);
    year * 365 + leaps + (month * 306 + 5) / 10 + day - 1 - 719_468
}

fn date_of(day: i64) -> (i64, i64, i64) {
    // One of at most two years; the mean one is 365.2425 days long.
    let guess = 1970 + (day * 400).div_euclid(146_097);
    let year = if days(guess + 1, 1, 1) <= day { guess + 1 } else { guess };
    let year = if days(year, 1, 1) > day { year - 1 } else { year };
    let month = (1..=12).rev().find(|month| days(year, *month, 1) <= day).unwrap_or(1);
    (year, month, day - days(year, month, 1) + 1)
}
