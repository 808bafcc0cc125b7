//! What was asked for against what showed, as a picture.

use deep_tap_core::expect::FollowResult;
use deep_tap_core::limit::Verdict;
use deep_tap_core::quantity::Voltage;

use crate::canvas::{Anchor, Drawing, Ink};

/// What showed for each value that was asked for: a point each, along a line on which both are the same.
#[derive(Clone, Debug, PartialEq)]
pub struct TransferCurve {
    /// What should show, what did, and whether that is as it should be.
    points: Vec<(f64, f64, bool)>,
    /// How far off it may be.
    tolerance: Option<Voltage>,
    is_voltage: bool,
    missing: usize,
}

impl TransferCurve {
    /// Of all values that showed, right or wrong; `tolerance` is how far a voltage may be off.
    pub fn of(result: &FollowResult, tolerance: Option<Voltage>) -> Self {
        let point = |value: &deep_tap_core::expect::FollowedValue| {
            let (expected, found) = (value.expected?.to_f64(), value.found?.to_f64());
            Some((expected, found, value.verdict != Verdict::Fail))
        };
        let missing = |value: &&deep_tap_core::expect::FollowedValue| {
            value.found.is_none() && value.verdict == Verdict::Fail
        };
        TransferCurve {
            points: result.values.iter().filter_map(point).collect(),
            tolerance,
            is_voltage: result.is_voltage,
            missing: result.values.iter().filter(missing).count(),
        }
    }

    /// The picture, of this width.
    pub fn draw(&self, title: &str, width: u32) -> Drawing {
        const LEFT: f64 = 84.0;
        const RIGHT: f64 = 24.0;
        const TOP: f64 = 72.0;
        const PLOT: f64 = 460.0;
        const BOTTOM: f64 = 62.0;
        let width = f64::from(width.max(320));
        let mut drawing = Drawing::new(width, TOP + PLOT + BOTTOM);
        drawing.bold((16.0, 26.0), title, 14.0, Ink::Text);
        let wrong = self.points.iter().filter(|(_, _, right)| !right).count();
        let tolerance = self.tolerance.map_or(String::new(), |off| format!(" (± {off})"));
        let missing =
            if self.missing > 0 { format!(", {} did not show", self.missing) } else { String::new() };
        let said = format!("{} values, {wrong} not as expected{tolerance}{missing}", self.points.len());
        drawing.text((16.0, 44.0), said, 12.0, Ink::Faint, Anchor::Start);
        if self.points.is_empty() {
            drawing.text((16.0, TOP + 20.0), "nothing showed", 12.0, Ink::Faint, Anchor::Start);
            return drawing;
        }
        let (least, most) = self.ends();
        let span = most - least;
        let x = |value: f64| LEFT + (value - least) / span * (width - LEFT - RIGHT);
        let y = |value: f64| TOP + PLOT - (value - least) / span * PLOT;
        let step = round_step(span / 8.0);
        let mut at = (least / step).ceil() * step;
        while at <= most + step * 1e-9 {
            drawing.line(vec![(LEFT, y(at)), (width - RIGHT, y(at))], Ink::Grid, 1.0);
            drawing.line(vec![(x(at), TOP), (x(at), TOP + PLOT)], Ink::Grid, 1.0);
            let label = self.label(at, step);
            drawing.text((LEFT - 8.0, y(at) + 4.0), label.clone(), 11.0, Ink::Faint, Anchor::End);
            drawing.text((x(at), TOP + PLOT + 18.0), label, 11.0, Ink::Faint, Anchor::Middle);
            at += step;
        }
        if let Some(off) = self.tolerance.map(Voltage::to_f64) {
            let band = [(least, least + off), (most - off, most), (most, most - off), (least + off, least)];
            let points = band.map(|(asked, found)| (x(asked), y(found)));
            drawing.polygon(points.to_vec(), None, (Ink::AnalogFill, 0.6));
        }
        drawing.line(vec![(x(least), y(least)), (x(most), y(most))], Ink::Faint, 1.0);
        for right in [true, false] {
            for (asked, found, _) in self.points.iter().filter(|(_, _, own)| *own == right) {
                let (at, radius) = ((x(*asked), y(*found)), if right { 2.2 } else { 4.0 });
                let ink = if right { Ink::Analog } else { Ink::Bad };
                let corners = match right {
                    // A square where it is right, a cross where it is not: not by colour alone.
                    true => vec![(-1.0, -1.0), (1.0, -1.0), (1.0, 1.0), (-1.0, 1.0)],
                    false => vec![
                        (-1.0, -1.0),
                        (0.0, -0.4),
                        (1.0, -1.0),
                        (0.4, 0.0),
                        (1.0, 1.0),
                        (0.0, 0.4),
                        (-1.0, 1.0),
                        (-0.4, 0.0),
                    ],
                };
                let points = corners.into_iter().map(|(dx, dy)| (at.0 + dx * radius, at.1 + dy * radius));
                drawing.polygon(points.collect(), Some(ink), (ink, 1.0));
            }
        }
        drawing.line(vec![(LEFT, TOP + PLOT), (width - RIGHT, TOP + PLOT)], Ink::Text, 1.0);
        drawing.line(vec![(LEFT, TOP), (LEFT, TOP + PLOT)], Ink::Text, 1.0);
        let middle = LEFT + (width - LEFT - RIGHT) / 2.0;
        let unit = if self.is_voltage { ", V" } else { "" };
        drawing.text(
            (middle, TOP + PLOT + 42.0),
            format!("asked for{unit}"),
            12.0,
            Ink::Text,
            Anchor::Middle,
        );
        drawing.text((16.0, TOP + 2.0), format!("shown{unit}"), 12.0, Ink::Text, Anchor::Start);
        drawing
    }

    /// The least and the largest value on both axes, with some room.
    fn ends(&self) -> (f64, f64) {
        let all = || self.points.iter().flat_map(|(asked, found, _)| [*asked, *found]);
        let (least, most) = (all().fold(f64::MAX, f64::min), all().fold(f64::MIN, f64::max));
        let room = ((most - least) * 0.04).max(most.abs() * 1e-3).max(1e-9);
        (least - room, most + room)
    }

    /// A number on an axis with such steps.
    fn label(&self, value: f64, step: f64) -> String {
        let places = if step >= 1.0 { 0 } else { (-step.log10()).ceil() as usize };
        let text = format!("{value:.places$}");
        // Nothing is below zero that rounds to it.
        if text.trim_start_matches(['-', '0', '.']).is_empty() {
            text.trim_start_matches('-').to_string()
        } else {
            text
        }
    }
}

/// The nearest of 1, 2 and 5 with a power of ten.
fn round_step(step: f64) -> f64 {
    let power = 10f64.powf(step.log10().floor());
    let digit = [1.0, 2.0, 5.0, 10.0].into_iter().find(|digit| digit * power >= step);
    digit.unwrap_or(10.0) * power
}
