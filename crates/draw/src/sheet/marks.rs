//! Where markers and dimensions stand, so that nothing touches anything else.

use deep_tap_core::line::{Crossing, LineId, Signal};
use deep_tap_core::time::Tick;

use super::layout::{LANE, Layout, VALUE_SIZE};
use crate::canvas::{Anchor, Drawing, Ink, text_width};
use crate::row::{Dimension, RowSource};

impl Layout<'_> {
    /// Where a label of a marker stands; `None` where it fits on neither side.
    pub(super) fn beside(&self, x: f64, name: &str) -> Option<(f64, Anchor)> {
        let width = text_width(name, VALUE_SIZE) + 5.0;
        if x + width <= self.right() {
            Some((x + 4.0, Anchor::Start))
        } else if x - width >= self.margin {
            Some((x - 4.0, Anchor::End))
        } else {
            None
        }
    }

    /// Each marker with the first lane in which its label touches no other.
    pub(super) fn marker_lanes(&self) -> Vec<(usize, String, usize)> {
        /// More would push the waveforms out of sight; what does not fit keeps its line.
        const MOST: usize = 4;
        struct Label {
            x: f64,
            span: (f64, f64),
            lane: usize,
        }
        let mut labels: Vec<Label> = Vec::new();
        let mut lanes = Vec::new();
        for (column, name) in &self.picture.markers {
            let x = self.x(*column);
            let width = text_width(name, VALUE_SIZE) + 8.0;
            let beside = self.beside(x, name).map(|(_, anchor)| anchor);
            let span = if beside == Some(Anchor::End) { (x - width, x) } else { (x, x + width) };
            let within = |x: f64, span: (f64, f64)| x > span.0 && x < span.1;
            // No label touches another, and no line, which goes down from its label, another label.
            let free = |lane: &usize| {
                labels.iter().all(|other| {
                    let apart = span.1 < other.span.0 || span.0 > other.span.1;
                    (other.lane != *lane || apart)
                        && (*lane >= other.lane || !within(x, other.span))
                        && (other.lane >= *lane || !within(other.x, span))
                })
            };
            match (0..MOST).find(free).filter(|_| beside.is_some()) {
                Some(lane) => {
                    labels.push(Label { x, span, lane });
                    lanes.push((*column, name.clone(), lane));
                }
                None => lanes.push((*column, String::new(), 0)),
            }
        }
        lanes
    }

    /// The dimensions that are in view, each in the first lane that is free.
    pub(super) fn dimension_lanes(&self) -> Vec<Placed<'_>> {
        /// More would push what is said out of sight; what does not fit is drawn without its words.
        const MOST: usize = 8;
        let mut placed: Vec<Placed<'_>> = Vec::new();
        let mut all: Vec<&Dimension> = self.sheet.dimensions.iter().collect();
        let width_of = |dimension: &Dimension| text_width(&dimension.text, VALUE_SIZE) + 12.0;
        let column = |tick: Tick| self.view.column_of(tick).unwrap_or(self.view.columns);
        let at_the_end =
            |dimension: &Dimension| self.x(column(dimension.to)) + width_of(dimension) + 14.0 > self.right();
        // From the right: what is said stands to the right, below what is there already. Last what has to
        // stand to the left.
        all.sort_by_key(|dimension| (at_the_end(dimension), std::cmp::Reverse(dimension.from)));
        for dimension in all {
            let (start, end) = (self.view.start, self.view.end);
            if dimension.to < start || dimension.from >= end {
                continue;
            }
            let from = self.view.column_of(dimension.from.max(start)).unwrap_or(0);
            let (x1, x2) = (self.x(from), self.x(column(dimension.to)));
            let width = width_of(dimension);
            // Between its ends if it fits there, else beside them.
            let (text_x, anchor, span) = if width <= x2 - x1 {
                ((x1 + x2) / 2.0, Anchor::Middle, (x1, x2))
            } else if !at_the_end(dimension) {
                (x2 + 18.0, Anchor::Start, (x1 - 14.0, x2 + 18.0 + width))
            } else {
                (x1 - 18.0, Anchor::End, (x1 - 18.0 - width, x2 + 14.0))
            };
            let within = |x: f64, span: (f64, f64)| x > span.0 && x < span.1;
            // No words touch others, and no line, which comes down to its lane, other words.
            let free = |lane: &usize| {
                placed.iter().filter(|other| other.lane.is_some()).all(|other| {
                    let other_lane = other.lane.unwrap_or(0);
                    let apart = span.1 < other.span.0 || span.0 > other.span.1;
                    let crossed = |x: f64| within(x, other.span) && other_lane < *lane;
                    let crosses = |x: f64| within(x, span) && other_lane > *lane;
                    (other_lane != *lane || apart)
                        && !crossed(x1)
                        && !crossed(x2)
                        && !crosses(other.x1)
                        && !crosses(other.x2)
                })
            };
            // To the left there may be no room either.
            let lane = (0..MOST).find(free).filter(|_| anchor != Anchor::End || span.0 >= 0.0);
            placed.push(Placed { dimension, x1, x2, text_x, anchor, span, lane });
        }
        placed
    }

    pub(super) fn dimension(&self, drawing: &mut Drawing, placed: &Placed<'_>, tops: &[f64], bottom: f64) {
        let Placed { dimension, x1, x2, text_x, anchor, lane, .. } = placed;
        let ink = if dimension.violated { Ink::Bad } else { Ink::Measure };
        let top = self.top_of(dimension, tops).unwrap_or(bottom);
        let Some(lane) = lane else {
            for x in [*x1, *x2] {
                drawing.dashes((x, top), (x, bottom + 6.0), ink);
            }
            return;
        };
        let y = bottom + 16.0 + *lane as f64 * (LANE + 8.0);
        for x in [*x1, *x2] {
            drawing.dashes((x, top), (x, y + 5.0), ink);
        }
        let head = |drawing: &mut Drawing, x: f64, towards: f64| {
            let points = vec![(x, y), (x + towards * 7.0, y - 3.0), (x + towards * 7.0, y + 3.0)];
            drawing.polygon(points, None, (ink, 1.0));
        };
        match anchor {
            Anchor::Middle => {
                let half = text_width(&dimension.text, VALUE_SIZE) / 2.0 + 4.0;
                let middle = (x1 + x2) / 2.0;
                drawing.line(vec![(*x1, y), (middle - half, y)], ink, 1.2);
                drawing.line(vec![(middle + half, y), (*x2, y)], ink, 1.2);
                head(drawing, *x1, 1.0);
                head(drawing, *x2, -1.0);
            }
            // Too short for its text: the arrows point at it from outside.
            Anchor::Start | Anchor::End => {
                drawing.line(vec![(x1 - 14.0, y), (*x1, y)], ink, 1.2);
                drawing.line(vec![(*x2, y), (x2 + 14.0, y)], ink, 1.2);
                drawing.line(vec![(*x1, y), (*x2, y)], ink, 1.2);
                head(drawing, *x1, -1.0);
                head(drawing, *x2, 1.0);
            }
        }
        drawing.text((*text_x, y + 4.0), dimension.text.as_str(), VALUE_SIZE, ink, *anchor);
    }

    /// The top of the first row that shows one of a dimension's lines.
    fn top_of(&self, dimension: &Dimension, tops: &[f64]) -> Option<f64> {
        let is_of = |line: &LineId| dimension.signals.contains(&Signal::Line(*line));
        let shows = |source: &RowSource<'_>| match source {
            RowSource::Line(line) => is_of(line),
            RowSource::Bus(bus) | RowSource::Curve(bus) => {
                let bus = self.capture.buses().get(bus.0);
                bus.is_some_and(|bus| bus.lines.iter().any(is_of))
            }
            RowSource::Frames(bus) => bus.lines().iter().any(is_of),
            RowSource::Analog(analog) => {
                let crossings = dimension.signals.iter().filter_map(|signal| signal.crossing());
                crossings.map(Crossing::analog).any(|line| line == *analog)
            }
        };
        // A serial bus makes several rows; those of lines come one for each source before the first of it.
        let first = self.sources.iter().position(shows)?;
        let one_each = self.sources[..first].iter().all(|source| !matches!(source, RowSource::Frames(_)));
        let place = if one_each {
            first
        } else {
            let name = match &self.sources[first] {
                RowSource::Line(line) => &self.capture.line(*line).name,
                RowSource::Bus(bus) | RowSource::Curve(bus) => &self.capture.buses()[bus.0].name,
                RowSource::Frames(bus) => bus.name(),
                RowSource::Analog(line) => &self.capture.analog_lines()[line.0].name,
            };
            self.picture.rows.iter().position(|row| row.name == *name)?
        };
        tops.get(place).map(|top| top + 2.0)
    }
}

/// A dimension with its place.
pub(super) struct Placed<'a> {
    dimension: &'a Dimension,
    x1: f64,
    x2: f64,
    text_x: f64,
    anchor: Anchor,
    /// What its arrows and words take.
    span: (f64, f64),
    /// `None` where there is no room for its words.
    pub(super) lane: Option<usize>,
}
