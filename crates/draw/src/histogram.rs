//! Histograms: as text, and as a picture.

use std::fmt;

use deep_tap_core::limit::{Required, Values};
use deep_tap_core::measure::Bin;
use deep_tap_core::quantity::{Quantity, Unit};
use deep_tap_core::quantity::{Rational, Time};

use crate::axis::round_up;
use crate::canvas::{Anchor, Drawing, Ink, text_width};

/// How many values lie where, and what is required of them.
#[derive(Clone, Debug, PartialEq)]
pub struct Histogram {
    /// The bins, in rising order and of one width.
    pub bins: Vec<HistogramBin>,
    /// What the values must lie in.
    pub required: Option<Required>,
}

/// One bin: values from one to another, which itself is not in it any more.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct HistogramBin {
    /// The smallest value.
    pub from: Quantity,
    /// The first value that is too large.
    pub to: Quantity,
    /// How many there are.
    pub count: u64,
}

/// Share of a picture's width that a bar takes at most.
const WIDEST_BAR: f64 = 0.08;
/// Characters of the longest bar in a text.
const LONGEST: u64 = 60;

impl Histogram {
    /// Of times counted in ticks.
    pub fn of_times(bins: &[Bin], tick: Time) -> Self {
        Histogram::of(bins, Unit::Time, tick.to_rational())
    }

    /// Of values counted in steps of a unit: seconds, volts, or for a share, fractions of one.
    pub fn of(bins: &[Bin], unit: Unit, step: Rational) -> Self {
        let at = |count: i64| unit.of(Rational::from(count).checked_mul(step).unwrap_or(Rational::ZERO));
        let bins =
            bins.iter().map(|bin| HistogramBin { from: at(bin.from), to: at(bin.to), count: bin.count });
        Histogram { bins: bins.collect(), required: None }
    }

    /// Of the values of a limit in at most so many bins, with what is required of them.
    pub fn of_limit(values: &Values, required: &Required, most: usize) -> Self {
        Histogram::of(&values.distribution.histogram(most), values.unit, values.step).with_required(*required)
    }

    /// With what is required of the values.
    #[must_use]
    pub fn with_required(mut self, required: Required) -> Self {
        self.required = Some(required);
        self
    }

    /// The ends of the bins, with the digits that tell them apart.
    fn label(&self, value: Quantity) -> String {
        let width =
            self.bins.first().and_then(|bin| bin.to.to_rational().checked_sub(bin.from.to_rational()));
        value.rounded(value.unit().of(width.unwrap_or(Rational::ZERO)))
    }

    /// Whether all values of a bin violate what is required.
    fn is_violation(&self, bin: &HistogramBin) -> bool {
        let Some(required) = &self.required else { return false };
        if required.clear {
            let after = required.min.is_none_or(|min| bin.from >= min);
            return after && required.max.is_none_or(|max| bin.to < max);
        }
        let under = required.min.is_some_and(|min| bin.to <= min);
        under || required.max.is_some_and(|max| bin.from > max)
    }

    fn tallest(&self) -> u64 {
        self.bins.iter().map(|bin| bin.count).max().unwrap_or(0).max(1)
    }

    /// The histogram as a picture of this width, with the required range drawn in.
    pub fn draw(&self, title: &str, width: u32) -> Drawing {
        const MARGIN: f64 = 74.0;
        const RIGHT: f64 = 24.0;
        const TOP: f64 = 64.0;
        const PLOT: f64 = 320.0;
        const BOTTOM: f64 = 54.0;
        let width = f64::from(width.max(320));
        let mut drawing = Drawing::new(width, TOP + PLOT + BOTTOM);
        drawing.bold((16.0, 26.0), title, 14.0, Ink::Text);
        let (Some(first), Some(last)) = (self.bins.first(), self.bins.last()) else {
            drawing.text((16.0, TOP), "no values", 12.0, Ink::Faint, Anchor::Start);
            return drawing;
        };
        let total: u64 = self.bins.iter().map(|bin| bin.count).sum();
        let required = self.required.map_or(String::new(), |required| format!(", required {required}"));
        let said = format!("{total} values, {} per bar{required}", self.width_text());
        drawing.text((16.0, 44.0), said, 12.0, Ink::Faint, Anchor::Start);
        // The limits are part of the picture, also where no value comes near them.
        let value = |quantity: Quantity| quantity.to_rational().to_f64();
        let ends = self.required.map_or([None, None], |required| [required.min, required.max]);
        let (mut least, mut most) = (value(first.from), value(last.to));
        for end in ends.into_iter().flatten().map(value) {
            (least, most) = (least.min(end), most.max(end));
        }
        // A few values side by side are no slabs: a bar takes a share of the width at most.
        let bar = value(first.to) - value(first.from);
        let pad = ((most - least) * 0.03).max((bar / WIDEST_BAR - (most - least)) / 2.0);
        let pad = pad.max(f64::MIN_POSITIVE);
        let (least, most) = (least - pad, most + pad);
        let plot = width - MARGIN - RIGHT;
        let x = |at: f64| MARGIN + (at - least) / (most - least) * plot;
        let y = |count: u64| TOP + PLOT - count as f64 / self.tallest() as f64 * (PLOT - 10.0);
        for count in round_counts(self.tallest()) {
            drawing.line(vec![(MARGIN, y(count)), (width - RIGHT, y(count))], Ink::Grid, 1.0);
            drawing.text((MARGIN - 8.0, y(count) + 4.0), count.to_string(), 11.0, Ink::Faint, Anchor::End);
        }
        for bin in self.bins.iter().filter(|bin| bin.count > 0) {
            let outside = self.is_violation(bin);
            let (stroke, fill) = if outside { (Ink::Bad, Ink::BadFill) } else { (Ink::Bus, Ink::BusFill) };
            let (from, to) = (x(value(bin.from)), x(value(bin.to)).max(x(value(bin.from)) + 2.0));
            // A single one beside many is still to be seen.
            let top = y(bin.count).min(TOP + PLOT - 3.0);
            drawing.rectangle((from + 0.5, top), (to - 0.5, TOP + PLOT), Some(stroke), (fill, 1.0));
        }
        drawing.line(vec![(MARGIN, TOP + PLOT), (width - RIGHT, TOP + PLOT)], Ink::Text, 1.0);
        self.label_axis(&mut drawing, (least, most), (MARGIN, width - RIGHT), TOP + PLOT);
        // Each on a line of its own: they may be close together.
        for (end, word, y) in [(ends[0], "min", TOP + 4.0), (ends[1], "max", TOP + 20.0)] {
            let Some(end) = end else { continue };
            let at = x(value(end));
            drawing.line(vec![(at, TOP - 6.0), (at, TOP + PLOT)], Ink::Bad, 1.6);
            let text = format!("{word} {end}");
            // On the side where the values are allowed, unless that leaves the picture.
            let room = if word == "min" { width - RIGHT - at } else { at - MARGIN };
            let inside = room > text_width(&text, 12.0) + 6.0;
            let (dx, anchor) = match (word == "min") == inside {
                true => (6.0, Anchor::Start),
                false => (-6.0, Anchor::End),
            };
            drawing.text((at + dx, y), text, 12.0, Ink::Bad, anchor);
        }
        drawing
    }

    fn width_text(&self) -> String {
        let bin = self.bins.first();
        let width =
            bin.and_then(|bin| bin.to.to_rational().checked_sub(bin.from.to_rational()).map(|w| (bin, w)));
        width.map_or(String::new(), |(bin, width)| bin.from.unit().of(width).to_string())
    }

    /// Labels at round values, as many as fit.
    fn label_axis(
        &self,
        drawing: &mut Drawing,
        (least, most): (f64, f64),
        (left, right): (f64, f64),
        base: f64,
    ) {
        /// Pixels that a label needs at least, with the gap to the next.
        const ROOM: f64 = 96.0;
        let Some(unit) = self.bins.first().map(|bin| bin.from.unit()) else { return };
        let labels = ((right - left) / ROOM).max(1.0);
        let exact = |value: f64| Rational::new((value * 1e18).round() as i128, 10i128.pow(18));
        let Some(step) = exact((most - least) / labels).and_then(round_up) else { return };
        let Some(first) = exact(least).and_then(|least| least.checked_div(step)).map(Rational::ceil) else {
            return;
        };
        let largest = unit.of(exact(least.abs().max(most.abs())).unwrap_or(Rational::ZERO));
        for number in first..first.saturating_add(labels as i128 + 2) {
            let at = Rational::new(number, 1).and_then(|number| number.checked_mul(step));
            let Some(at) = at.filter(|at| at.to_f64() <= most) else { break };
            let x = left + (at.to_f64() - least) / (most - least) * (right - left);
            let text = unit.of(at).rounded_beside(largest, unit.of(step));
            let half = text_width(&text, 11.0) / 2.0;
            drawing.line(vec![(x, base), (x, base + 5.0)], Ink::Text, 1.0);
            let middle = x.min(right + 20.0 - half);
            drawing.text((middle, base + 19.0), text, 11.0, Ink::Text, Anchor::Middle);
        }
    }
}

/// Round numbers up to a count, four or a few more.
fn round_counts(most: u64) -> impl Iterator<Item = u64> {
    let step = Rational::new(i128::from(most), 4).and_then(round_up);
    let step = step.and_then(|step| u64::try_from(step.ceil()).ok()).unwrap_or(1).max(1);
    (1..).map(move |number| number * step).take_while(move |count| *count <= most)
}

impl fmt::Display for Histogram {
    /// A line for each bin; what is outside the required range is marked.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let labels: Vec<(String, String)> =
            self.bins.iter().map(|bin| (self.label(bin.from), self.label(bin.to))).collect();
        let widest = labels.iter().flat_map(|(from, to)| [from.len(), to.len()]).max().unwrap_or(0);
        let digits = self.tallest().to_string().len();
        let mut skipped = false;
        for (bin, (from, to)) in self.bins.iter().zip(&labels) {
            // A long stretch without values is one line.
            if bin.count == 0 {
                if !skipped {
                    writeln!(f, "  {:>widest$}", "…")?;
                }
                skipped = true;
                continue;
            }
            skipped = false;
            let eighths = (bin.count * LONGEST * 8 / self.tallest()).max(1);
            let mut bar = "█".repeat((eighths / 8) as usize);
            if !eighths.is_multiple_of(8) {
                bar.extend(char::from_u32(0x2590 - (eighths % 8) as u32));
            }
            let mark = if self.is_violation(bin) { "!" } else { " " };
            writeln!(f, "{mark} {from:>widest$} .. {to:>widest$}  {:>digits$}  {bar}", bin.count)?;
        }
        match &self.required {
            Some(required) => writeln!(f, "  required {required}; what violates it is marked '!'"),
            None => Ok(()),
        }
    }
}
