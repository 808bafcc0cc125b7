//! Exact fractions.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use crate::error::{Error, ErrorKind, Result};

/// An exact fraction of two 128-bit integers, in lowest terms, with a positive denominator.
///
/// Comparison never overflows. Arithmetic is checked: an operation whose exact result does not
/// fit returns `None`, so that nothing is ever silently rounded.
///
/// ```
/// use deep_tap_core::quantity::Rational;
/// let third = Rational::new(2, 6).unwrap();
/// assert_eq!(third.to_string(), "1/3");
/// assert!(third > Rational::new(333_333, 1_000_000).unwrap());
/// assert_eq!(third.checked_mul(Rational::from(3)), Some(Rational::ONE));
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Rational {
    num: i128,
    den: i128,
}

impl Rational {
    /// Zero.
    pub const ZERO: Rational = Rational { num: 0, den: 1 };
    /// One.
    pub const ONE: Rational = Rational { num: 1, den: 1 };

    /// `num / den`; `None` when `den` is zero or a sign cannot be represented.
    pub fn new(num: i128, den: i128) -> Option<Self> {
        if den == 0 || num == i128::MIN || den == i128::MIN {
            return None;
        }
        let gcd = gcd(num.unsigned_abs(), den.unsigned_abs());
        // `gcd` divides both magnitudes, which are below 2^127.
        let gcd = i128::try_from(gcd).ok()?;
        let sign = if den < 0 { -1 } else { 1 };
        if gcd == 1 {
            return Some(Rational { num: sign * num, den: sign * den });
        }
        Some(Rational { num: sign * num / gcd, den: sign * den / gcd })
    }

    /// Ten to the power of `exponent`; `None` beyond ±36.
    ///
    /// ```
    /// use deep_tap_core::quantity::Rational;
    /// let milli = Rational::power_of_ten(-3).unwrap();
    /// assert_eq!(milli.to_string(), "1/1000");
    /// assert_eq!(Rational::power_of_ten(99), None, "beyond exact arithmetic");
    /// ```
    pub fn power_of_ten(exponent: i32) -> Option<Self> {
        let power = 10i128.checked_pow(exponent.unsigned_abs()).filter(|_| exponent.unsigned_abs() <= 36)?;
        if exponent < 0 { Rational::new(1, power) } else { Rational::new(power, 1) }
    }

    /// Numerator, carrying the sign.
    pub fn numerator(self) -> i128 {
        self.num
    }

    /// Denominator, positive.
    pub fn denominator(self) -> i128 {
        self.den
    }

    /// Sum, or `None` when it does not fit.
    ///
    /// ```
    /// use deep_tap_core::quantity::Rational;
    /// let third = Rational::new(1, 3).unwrap();
    /// let sixth = Rational::new(1, 6).unwrap();
    /// assert_eq!(third.checked_add(sixth), Rational::new(1, 2));
    /// ```
    pub fn checked_add(self, other: Rational) -> Option<Self> {
        let gcd = i128::try_from(gcd(self.den.unsigned_abs(), other.den.unsigned_abs())).ok()?;
        let left = self.num.checked_mul(other.den / gcd)?;
        let right = other.num.checked_mul(self.den / gcd)?;
        Rational::new(left.checked_add(right)?, (self.den / gcd).checked_mul(other.den)?)
    }

    /// Difference, or `None` when it does not fit.
    pub fn checked_sub(self, other: Rational) -> Option<Self> {
        self.checked_add(-other)
    }

    /// Product, or `None` when it does not fit.
    pub fn checked_mul(self, other: Rational) -> Option<Self> {
        // Reduce crosswise first, so that only a result that truly does not fit overflows.
        let a = Rational::new(self.num, other.den)?;
        let b = Rational::new(other.num, self.den)?;
        // No factor is left that both sides have.
        let (num, den) = (a.num.checked_mul(b.num)?, a.den.checked_mul(b.den)?);
        (num != i128::MIN && den != i128::MIN).then_some(Rational { num, den })
    }

    /// Quotient, or `None` when `other` is zero or the result does not fit.
    ///
    /// ```
    /// use deep_tap_core::quantity::Rational;
    /// let third = Rational::new(1, 3).unwrap();
    /// assert_eq!(Rational::ONE.checked_div(third), Some(Rational::from(3)));
    /// assert_eq!(Rational::ONE.checked_div(Rational::ZERO), None);
    /// ```
    pub fn checked_div(self, other: Rational) -> Option<Self> {
        self.checked_mul(other.recip()?)
    }

    /// `1 / self`, or `None` for zero.
    pub fn recip(self) -> Option<Self> {
        Rational::new(self.den, self.num)
    }

    /// Magnitude.
    #[must_use]
    pub fn abs(self) -> Self {
        Rational { num: self.num.abs(), den: self.den }
    }

    /// Largest integer that is not greater.
    ///
    /// ```
    /// use deep_tap_core::quantity::Rational;
    /// let below_zero = Rational::new(-7, 2).unwrap();
    /// assert_eq!((below_zero.floor(), below_zero.ceil()), (-4, -3));
    /// ```
    pub fn floor(self) -> i128 {
        self.num.div_euclid(self.den)
    }

    /// Smallest integer that is not less.
    pub fn ceil(self) -> i128 {
        -(-self.num).div_euclid(self.den)
    }

    /// Nearest integer, halves away from zero.
    ///
    /// ```
    /// use deep_tap_core::quantity::Rational;
    /// assert_eq!(Rational::new(7, 3).unwrap().round(), 2);
    /// ```
    pub fn round(self) -> i128 {
        let magnitude = self.num.unsigned_abs();
        let den = self.den.unsigned_abs();
        let (whole, rest) = (magnitude / den, magnitude % den);
        let rounded = whole + u128::from(rest >= den - rest);
        let rounded = i128::try_from(rounded).unwrap_or(i128::MAX);
        if self.num < 0 { -rounded } else { rounded }
    }

    /// Whether it is zero.
    pub fn is_zero(self) -> bool {
        self.num == 0
    }

    /// Whether it is less than zero.
    pub fn is_negative(self) -> bool {
        self.num < 0
    }

    /// The number above zero rounded up to two digits, for people to read.
    pub(crate) fn up_to_two_digits(self) -> Option<Rational> {
        let value = self.to_f64();
        let exponent = value.log10().floor() as i32 - 1;
        let count = (value / 10f64.powi(exponent)).ceil();
        Rational::new(count as i128, 1)?.checked_mul(Rational::power_of_ten(exponent)?)
    }

    /// Nearest floating-point number, for display and statistics only.
    pub fn to_f64(self) -> f64 {
        self.num as f64 / self.den as f64
    }
}

impl From<i64> for Rational {
    fn from(whole: i64) -> Self {
        Rational { num: i128::from(whole), den: 1 }
    }
}

impl std::ops::Neg for Rational {
    type Output = Rational;
    fn neg(self) -> Rational {
        Rational { num: -self.num, den: self.den }
    }
}

impl PartialOrd for Rational {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Rational {
    fn cmp(&self, other: &Self) -> Ordering {
        // As nearly always, the products fit.
        if let (Some(a), Some(b)) = (self.num.checked_mul(other.den), other.num.checked_mul(self.den)) {
            return a.cmp(&b);
        }
        // Compare whole parts, then the reciprocals of what is left: no product, no overflow.
        let (mut a, mut b) = ((self.num, self.den), (other.num, other.den));
        loop {
            let (whole_a, whole_b) = (a.0.div_euclid(a.1), b.0.div_euclid(b.1));
            if whole_a != whole_b {
                return whole_a.cmp(&whole_b);
            }
            let (rest_a, rest_b) = (a.0.rem_euclid(a.1), b.0.rem_euclid(b.1));
            match (rest_a, rest_b) {
                (0, 0) => return Ordering::Equal,
                (0, _) => return Ordering::Less,
                (_, 0) => return Ordering::Greater,
                // a = w + rest/den: the larger reciprocal belongs to the smaller number.
                _ => (a, b) = ((b.1, rest_b), (a.1, rest_a)),
            }
        }
    }
}

impl fmt::Display for Rational {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.den == 1 { write!(f, "{}", self.num) } else { write!(f, "{}/{}", self.num, self.den) }
    }
}

impl fmt::Debug for Rational {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Rational {
    type Err = Error;

    /// Reads `n` or `n/d` in whole numbers, the form that [`Display`](fmt::Display) writes.
    fn from_str(text: &str) -> Result<Self> {
        let bad = || Error::new(ErrorKind::Quantity, format!("'{text}' is not a fraction of whole numbers"));
        let (num, den) = text.split_once('/').unwrap_or((text, "1"));
        let parse = |part: &str| part.trim().parse::<i128>().map_err(|_| bad());
        Rational::new(parse(num)?, parse(den)?).ok_or_else(bad)
    }
}

pub(crate) fn gcd(mut a: u128, mut b: u128) -> u128 {
    // Division of 128 bits takes much longer than that of 64.
    while b != 0 {
        if let (Ok(mut a), Ok(mut b)) = (u64::try_from(a), u64::try_from(b)) {
            while b != 0 {
                (a, b) = (b, a % b);
            }
            return u128::from(a.max(1));
        }
        (a, b) = (b, a % b);
    }
    a.max(1)
}
