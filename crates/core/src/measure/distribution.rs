//! How often which value was counted.

use std::collections::BTreeMap;

/// Values below this are counted in a table, the others in a tree.
const TABLE: i64 = 1 << 14;

/// Whole numbers, such as ticks, and how often each was counted.
///
/// ```
/// use deep_tap_core::measure::Distribution;
///
/// let seen: Distribution = [4, 5, 5, 5, 9, 70_000].into_iter().collect();
/// assert_eq!((seen.count(), seen.min(), seen.max()), (6, Some(4), Some(70_000)));
/// assert_eq!((seen.percentile(50.0), seen.percentile(100.0)), (Some(5), Some(70_000)));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Distribution {
    table: Vec<u64>,
    tree: BTreeMap<i64, u64>,
    count: u64,
    sum: i128,
}

/// Part of a histogram.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bin {
    /// The smallest value in it.
    pub from: i64,
    /// The smallest value that is not in it any more.
    pub to: i64,
    /// How many there are.
    pub count: u64,
}

impl Distribution {
    /// Counts a value.
    ///
    /// ```
    /// use deep_tap_core::measure::Distribution;
    ///
    /// let mut widths = Distribution::default();
    /// [10, 10, 11, 14].map(|ticks| widths.add(ticks));
    /// assert_eq!((widths.count(), widths.min(), widths.max()), (4, Some(10), Some(14)));
    /// ```
    pub fn add(&mut self, value: i64) {
        self.count += 1;
        self.sum += i128::from(value);
        match usize::try_from(value) {
            Ok(place) if value < TABLE => {
                if place >= self.table.len() {
                    self.table.resize((place + 1).next_power_of_two(), 0);
                }
                self.table[place] += 1;
            }
            _ => *self.tree.entry(value).or_insert(0) += 1,
        }
    }

    /// How many values there are.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Their sum.
    pub fn sum(&self) -> i128 {
        self.sum
    }

    /// Each value with how often it was counted, in rising order.
    pub fn values(&self) -> impl DoubleEndedIterator<Item = (i64, u64)> {
        let below = self.tree.range(..0).map(|(value, count)| (*value, *count));
        let table = self.table.iter().enumerate().map(|(value, count)| (value as i64, *count));
        let above = self.tree.range(0..).map(|(value, count)| (*value, *count));
        below.chain(table.filter(|(_, count)| *count > 0)).chain(above)
    }

    /// The smallest.
    pub fn min(&self) -> Option<i64> {
        self.values().next().map(|(value, _)| value)
    }

    /// The largest.
    pub fn max(&self) -> Option<i64> {
        self.values().next_back().map(|(value, _)| value)
    }

    /// The mean.
    ///
    /// ```
    /// use deep_tap_core::measure::Distribution;
    ///
    /// let mut widths = Distribution::default();
    /// [10, 10, 11, 14].map(|ticks| widths.add(ticks));
    /// assert_eq!(widths.mean(), Some(11.25));
    /// ```
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.sum as f64 / self.count as f64)
    }

    /// The standard deviation of all values (not of a sample of them).
    pub fn deviation(&self) -> Option<f64> {
        let mean = self.mean()?;
        let squares = self.values().map(|(value, count)| (value as f64 - mean).powi(2) * count as f64);
        Some((squares.sum::<f64>() / self.count as f64).sqrt())
    }

    /// The smallest value that this percentage of all values does not exceed (nearest rank).
    ///
    /// ```
    /// use deep_tap_core::measure::Distribution;
    ///
    /// let mut widths = Distribution::default();
    /// [10, 10, 11, 14].map(|ticks| widths.add(ticks));
    /// assert_eq!(widths.percentile(50.0), Some(10));
    /// ```
    pub fn percentile(&self, percent: f64) -> Option<i64> {
        let rank = (percent.clamp(0.0, 100.0) / 100.0 * self.count as f64).ceil().max(1.0) as u64;
        let mut seen = 0;
        self.values().find_map(|(value, count)| {
            seen += count;
            (seen >= rank).then_some(value)
        })
    }

    /// The values in bins of one width, at most so many: 1, 2 or 5 times a power of ten wide.
    pub fn histogram(&self, most: usize) -> Vec<Bin> {
        let (Some(min), Some(max)) = (self.min(), self.max()) else { return Vec::new() };
        let most = most.max(1) as i128;
        let widths = (0..19u32).flat_map(|power| [1, 2, 5].map(|digit| digit * 10i128.pow(power)));
        let bins = |width: i128| i128::from(max).div_euclid(width) - i128::from(min).div_euclid(width) + 1;
        let Some(width) = widths.clone().find(|width| bins(*width) <= most).or(widths.last()) else {
            return Vec::new();
        };
        let start = i128::from(min).div_euclid(width);
        let edge = |bin: i128| i64::try_from((start + bin) * width).unwrap_or(i64::MAX);
        let mut all: Vec<Bin> =
            (0..bins(width)).map(|bin| Bin { from: edge(bin), to: edge(bin + 1), count: 0 }).collect();
        for (value, count) in self.values() {
            let bin = i128::from(value).div_euclid(width) - start;
            if let Some(bin) = usize::try_from(bin).ok().and_then(|bin| all.get_mut(bin)) {
                bin.count += count;
            }
        }
        all
    }
}

impl Extend<i64> for Distribution {
    fn extend<T: IntoIterator<Item = i64>>(&mut self, values: T) {
        values.into_iter().for_each(|value| self.add(value));
    }
}

impl FromIterator<i64> for Distribution {
    fn from_iter<T: IntoIterator<Item = i64>>(values: T) -> Self {
        let mut all = Distribution::default();
        all.extend(values);
        all
    }
}
