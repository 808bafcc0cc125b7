//! From the times of rows to a sample rate.

use crate::quantity::{Percent, Rate, Rational, Time};

/// Times are counted in units of 10^-21 s.
pub(super) const DIGITS: i32 = 21;

/// Seconds per unit.
const UNIT: f64 = 1e-21;

/// A time as a cell says it: units, and how many of them the last digit stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Stamp {
    pub(super) units: i128,
    pub(super) step: i128,
}

/// How well the times of a table are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Written {
    /// To their last digit.
    Digits,
    /// As numbers of single precision, whose last digits say nothing.
    Single,
}

impl Written {
    /// Relative error of a time.
    fn noise(self) -> f64 {
        match self {
            Written::Digits => 0.0,
            Written::Single => 1.2e-7,
        }
    }
}

/// The periods that explain the times of all rows so far, one row a sample.
#[derive(Clone, Copy, Debug)]
pub(super) struct Pace {
    written: Written,
    first: Option<Stamp>,
    rows: u64,
    /// Seconds: the shortest and the longest period that explains all times.
    least: f64,
    most: f64,
    last: f64,
}

/// Two periods in seconds, neither of which explains all times.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Contradiction(pub(super) f64, pub(super) f64);

impl Pace {
    pub(super) fn new(written: Written) -> Self {
        Pace { written, first: None, rows: 0, least: 0.0, most: f64::MAX, last: 0.0 }
    }

    /// The time of the next row.
    ///
    /// # Errors
    /// When no period explains this one and those before.
    pub(super) fn push(&mut self, stamp: Stamp) -> Result<(), Contradiction> {
        let number = self.rows;
        self.rows += 1;
        let Some(first) = self.first else {
            self.first = Some(stamp);
            return Ok(());
        };
        let since = float(stamp.units - first.units) * UNIT;
        let mut off = float(stamp.step.max(first.step)) * UNIT;
        if self.written != Written::Digits {
            off += float(stamp.units.abs().max(first.units.abs())) * UNIT * self.written.noise();
        }
        let (count, before) = (number as f64, (self.least, self.most));
        self.least = self.least.max((since - off) / count);
        self.most = self.most.min((since + off) / count);
        self.last = since;
        if self.least > self.most {
            let old = if before.1 == f64::MAX { before.0 } else { (before.0 + before.1) / 2.0 };
            return Err(Contradiction(old, since / count));
        }
        Ok(())
    }

    /// Whether times are known better than to half a period, so that no two rows can be confused.
    pub(super) fn is_fine(&self) -> bool {
        let Some(first) = self.first else { return false };
        let off = first.step as f64 * UNIT + self.last.abs() * self.written.noise();
        self.rows > 1 && self.least > 0.0 && off < self.least * 2.0
    }

    /// The period with the fewest digits that explains all times, as itself or as its rate, and how far, as a
    /// share of it, the true one may be off.
    pub(super) fn period(&self) -> Option<(Time, Percent)> {
        if self.rows < 2 || self.least.max(0.0) >= self.most || self.most == f64::MAX {
            return (self.rows >= 2 && self.least == self.most).then(|| exact(self.least)).flatten();
        }
        let least = self.least.max(self.most * 1e-3);
        let (period, rate) = (roundest(least, self.most)?, roundest(1.0 / self.most, 1.0 / least)?);
        let chosen = match period.1 <= rate.1 {
            true => period.0,
            false => rate.0.recip()?,
        };
        let value = chosen.to_f64();
        let off = (value - least).max(self.most - value).max(0.0) / value;
        // Rounded up to two digits.
        let power = 10f64.powf(off.log10().floor() - 1.0);
        let share = decimal((off / power).ceil(), power);
        Some((Time::from_rational(chosen), Percent::from_fraction(share.unwrap_or(Rational::ZERO))))
    }
}

/// PERF: a conversion of 128 bits is a call, and what the last digits stand for fits into 64, as do times of a short record.
#[inline]
fn float(units: i128) -> f64 {
    i64::try_from(units).map_or(units as f64, |units| units as f64)
}

/// The rate of a period, for a message.
pub(super) fn about(period: f64) -> String {
    let rate = 1.0 / period;
    let power = 10f64.powf(rate.abs().max(1e-18).log10().floor() - 3.0);
    let rounded = decimal((rate / power).round(), power).unwrap_or(Rational::ZERO);
    Rate::from_rational(rounded).to_string()
}

fn exact(seconds: f64) -> Option<(Time, Percent)> {
    let power = 10f64.powf(seconds.log10().floor() - 14.0);
    Some((Time::from_rational(decimal((seconds / power).round(), power)?), Percent::ZERO))
}

/// A whole number times a power of ten.
fn decimal(count: f64, power: f64) -> Option<Rational> {
    let exponent = power.log10().round() as i32;
    let count = Rational::new(count as i128, 1)?;
    count.checked_mul(Rational::power_of_ten(exponent)?)
}

/// The number with the fewest digits between two others, and how many it has.
fn roundest(least: f64, most: f64) -> Option<(Rational, u32)> {
    let top = most.log10().floor() as i32;
    for digits in 1..18 {
        let power = 10f64.powi(top + 1 - digits);
        let middle = ((least + most) / 2.0 / power).round();
        // The nearest to the middle, where that lies between; else any that does.
        let lowest = (least / power).ceil();
        let found =
            [middle, lowest].into_iter().find(|n| *n * power >= least && *n * power <= most && *n > 0.0);
        if let Some(count) = found {
            return Some((decimal(count, power)?, digits as u32));
        }
    }
    None
}
