//! Waveforms as a drawing.

use deep_tap_core::capture::Capture;
use deep_tap_core::line::{Level, LineId};
use deep_tap_core::time::Tick;
use deep_tap_core::{Error, ErrorKind, Result};

use crate::canvas::{Anchor, Drawing, Ink, text_width};
use crate::frames::FrameSpan;
use crate::wave::{Cell, Marker, Picture, Row, RowSource, View, engineering};

/// An interval that is drawn between its two ends, with what is said about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dimension {
    /// Where it begins.
    pub from: Tick,
    /// Where it ends.
    pub to: Tick,
    /// Its value, and what is required of it.
    pub text: String,
    /// Whether it violates that.
    pub violated: bool,
    /// The lines that its ends are edges of.
    pub lines: Vec<LineId>,
}

/// What is drawn: a stretch of time, and what is marked in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sheet<'a> {
    /// First tick.
    pub start: Tick,
    /// Tick after the last.
    pub end: Tick,
    /// Width in pixels.
    pub width: u32,
    /// What stands above it.
    pub title: String,
    /// Places with names.
    pub markers: &'a [Marker],
    /// Intervals with their values.
    pub dimensions: &'a [Dimension],
}

/// Smallest width that shows anything.
const LEAST_WIDTH: u32 = 200;
/// Largest width.
const MOST_WIDTH: u32 = 1 << 15;

const NAME_SIZE: f64 = 12.0;
const VALUE_SIZE: f64 = 11.0;
const SIDE: f64 = 14.0;
/// From the title to the axis.
const HEAD: f64 = 52.0;
const AXIS: f64 = 24.0;
const LANE: f64 = 18.0;
const LINE_ROW: f64 = 26.0;
const BUS_ROW: f64 = 26.0;
const FRAME_ROW: f64 = 21.0;
const ANALOG_ROW: f64 = 84.0;

impl Sheet<'_> {
    /// Draws waveforms: lines as steps, buses as lozenges with their values, dense stretches as shaded
    /// bands, voltages as traces, frames under their lines, markers with their names above, and
    /// dimension lines below. Labels that would touch another one are left out.
    ///
    /// # Errors
    /// When the range lies outside the record or is empty, the width is below 200 or above 32 768
    /// pixels, or the names leave no room.
    pub fn draw(&self, capture: &Capture, sources: &[RowSource<'_>]) -> Result<Drawing> {
        let wrong =
            |message: String, help: &str| Err(Error::new(ErrorKind::Unknown, message).with_help(help));
        if !(LEAST_WIDTH..=MOST_WIDTH).contains(&self.width) {
            let message = format!("a picture of {} pixels in width cannot be drawn", self.width);
            return wrong(message, "give a width from 200 to 32768");
        }
        if sources.is_empty() {
            return wrong("there is no line to draw".into(), "name lines that the record has");
        }
        // The names decide on the margin, which decides on the columns.
        let probe = View { start: self.start, end: self.end, columns: 1 };
        let names = Picture::new(capture, sources, probe, &[])?;
        let longest = names.rows.iter().map(row_margin).fold(0.0, f64::max);
        let margin = SIDE + longest + 10.0;
        let columns = f64::from(self.width) - margin - SIDE;
        if columns < 60.0 {
            return wrong(
                "the names leave no room for the waveforms".into(),
                "give a larger --width, or fewer lines",
            );
        }
        let view = View { columns: columns as usize, ..probe };
        let picture = Picture::with_room(capture, sources, view, self.markers, 96)?;
        Ok(Layout { sheet: self, capture, sources, picture, view, margin }.draw())
    }
}

/// The width that a row needs in front of it.
fn row_margin(row: &Row) -> f64 {
    let scale = row.scale.map_or(0.0, |_| text_width("-10.000 V", 10.0));
    text_width(&row.name, NAME_SIZE).max(scale)
}

struct Layout<'a> {
    sheet: &'a Sheet<'a>,
    capture: &'a Capture,
    sources: &'a [RowSource<'a>],
    picture: Picture,
    view: View,
    margin: f64,
}

impl Layout<'_> {
    fn draw(&self) -> Drawing {
        let lanes = self.marker_lanes();
        let marker_rows = lanes.iter().map(|(_, _, lane)| lane + 1).max().unwrap_or(0);
        let top = HEAD + AXIS + marker_rows as f64 * LANE + 8.0;
        let heights: Vec<f64> = self.picture.rows.iter().map(height).collect();
        let bottom = top + heights.iter().sum::<f64>();
        let dimensions = self.dimension_lanes();
        let below = dimensions.iter().filter_map(|d| d.lane).map(|lane| lane + 1).max().unwrap_or(0) as f64
            * (LANE + 8.0);
        let mut drawing = Drawing::new(f64::from(self.sheet.width), bottom + below + 16.0);
        self.head(&mut drawing);
        self.axis(&mut drawing, bottom);
        let tops: Vec<f64> = heights
            .iter()
            .scan(top, |y, height| {
                let top = *y;
                *y += height;
                Some(top)
            })
            .collect();
        // Marks first: what the rows say stays readable over them.
        for (column, name, lane) in &lanes {
            let x = self.x(*column);
            let label = HEAD + AXIS + *lane as f64 * LANE + 13.0;
            drawing.dashes((x, label - 10.0), (x, bottom), Ink::Marker);
            if let Some((text_x, anchor)) = self.beside(x, name) {
                drawing.text((text_x, label), name.as_str(), VALUE_SIZE, Ink::Marker, anchor);
            }
        }
        for dimension in &dimensions {
            self.dimension(&mut drawing, dimension, &tops, bottom);
        }
        for ((row, height), top) in self.picture.rows.iter().zip(&heights).zip(&tops) {
            self.row(&mut drawing, row, *top, *height);
        }
        drawing
    }

    fn x(&self, column: usize) -> f64 {
        self.margin + column as f64 + 0.5
    }

    fn right(&self) -> f64 {
        self.margin + self.view.columns as f64
    }

    /// The title, and what the time scale is.
    fn head(&self, drawing: &mut Drawing) {
        let title_room = f64::from(self.sheet.width) - 2.0 * SIDE;
        drawing.bold((SIDE, 22.0), fitting(&self.sheet.title, 13.0, title_room), 13.0, Ink::Text);
        let base = self.capture.base();
        let (from, to) = (base.time_of(self.view.start), base.time_of(self.view.end));
        let whole = base.length_of(self.view.end.since(self.view.start)).to_f64();
        let zero = match self.capture.origin().trigger {
            Some(_) => "time zero is the trigger",
            None => "time zero is the start of the record",
        };
        let said = format!(
            "{} to {}, {} across; {zero}",
            from.rounded(base.tick()),
            to.rounded(base.tick()),
            engineering(whole)
        );
        drawing.text(
            (SIDE, 40.0),
            fitting(&said, VALUE_SIZE, title_room),
            VALUE_SIZE,
            Ink::Faint,
            Anchor::Start,
        );
    }

    /// The time axis with its grid; the first of a label's column is its instant.
    fn axis(&self, drawing: &mut Drawing, bottom: f64) {
        let y = HEAD + 8.0;
        let mut free = f64::MIN;
        for label in &self.picture.axis {
            let x = self.x(label.column);
            drawing.line(vec![(x, y + 8.0), (x, bottom)], Ink::Grid, 1.0);
            let half = text_width(&label.text, VALUE_SIZE) / 2.0;
            // At the ends of the axis a label moves aside rather than out of the picture.
            let at = x.max(self.margin + half).min(self.right() - half);
            if at - half < free {
                continue;
            }
            drawing.text((at, y + 4.0), label.text.as_str(), VALUE_SIZE, Ink::Text, Anchor::Middle);
            free = at + half + 12.0;
        }
        drawing.line(vec![(self.margin, y + 8.0), (self.right(), y + 8.0)], Ink::Faint, 1.0);
        let zero = self.capture.base().zero();
        if let Some(column) = self.view.column_of(zero) {
            let x = self.x(column);
            drawing.line(vec![(x, y + 8.0), (x, bottom)], Ink::Faint, 1.0);
        }
    }

    /// Where a label of a marker stands; `None` where it fits on neither side.
    fn beside(&self, x: f64, name: &str) -> Option<(f64, Anchor)> {
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
    fn marker_lanes(&self) -> Vec<(usize, String, usize)> {
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

    fn row(&self, drawing: &mut Drawing, row: &Row, y: f64, height: f64) {
        let middle = y + height / 2.0;
        let name_x = self.margin - 10.0;
        let (ink, size) =
            if row.name.starts_with(' ') { (Ink::Faint, VALUE_SIZE) } else { (Ink::Text, NAME_SIZE) };
        drawing.text((name_x, middle + 4.0), row.name.trim(), size, ink, Anchor::End);
        if let Some((low, high)) = row.scale {
            for (voltage, at) in [(high, y + 13.0), (low, y + height - 6.0)] {
                let text = format!("{:.3} V", voltage.to_f64());
                drawing.text((name_x, at), text, 10.0, Ink::Faint, Anchor::End);
            }
            self.analog(drawing, row, y + 8.0, y + height - 8.0);
        } else if row.cells.is_empty() {
            self.spans(drawing, &row.spans, y + 2.0, y + height - 2.0, ink == Ink::Faint);
        } else if row.labels.is_empty() && row.cells.iter().all(is_step) {
            self.steps(drawing, row, y + 5.0, y + height - 5.0);
        } else {
            self.values(drawing, row, y + 4.0, y + height - 4.0);
        }
    }

    /// A line: steps, and bands where the edges are too many for a column each.
    fn steps(&self, drawing: &mut Drawing, row: &Row, high: f64, low: f64) {
        let dense = dense(&row.cells);
        let level = |level: Level| match level {
            Level::Low => Some(low),
            Level::High => Some(high),
            Level::Unknown => None,
        };
        let mut points: Vec<(f64, f64)> = Vec::new();
        let flush = |points: &mut Vec<(f64, f64)>, drawing: &mut Drawing| {
            let points = std::mem::take(points);
            if points.len() > 1 {
                drawing.line(points, Ink::Signal, 1.3);
            }
        };
        for (column, cell) in row.cells.iter().enumerate() {
            let x = self.x(column);
            match cell {
                _ if dense[column] => flush(&mut points, drawing),
                Cell::Steady(at) | Cell::Edge(at) => match level(*at) {
                    Some(y) => {
                        let edge = matches!(cell, Cell::Edge(_));
                        match points.last() {
                            Some((_, last)) if *last != y => points.extend([(x, *last), (x, y)]),
                            Some(_) => {}
                            // An edge after a band or an unknown stretch still is one.
                            None if edge => points.extend([(x, if y == low { high } else { low }), (x, y)]),
                            None => points.push((x - 0.5, y)),
                        }
                        // Only the end of a steady stretch matters.
                        if !matches!(row.cells.get(column + 1), Some(Cell::Steady(next)) if next == at) {
                            points.push((x + 0.5, y));
                        }
                    }
                    None => flush(&mut points, drawing),
                },
                Cell::Busy(_) | Cell::Value(_) | Cell::Change(_) | Cell::Band(..) | Cell::Nothing => {
                    flush(&mut points, drawing);
                }
            }
        }
        flush(&mut points, drawing);
        self.bands(drawing, row, high, low, Ink::Signal);
        for (from, to) in
            runs(&row.cells, |cell| matches!(cell, Cell::Steady(Level::Unknown) | Cell::Edge(Level::Unknown)))
        {
            self.unknown(drawing, from, to, high, low);
        }
    }

    /// Busy stretches, darker the busier they are; a pulse alone in its column is as dark as an edge.
    fn bands(&self, drawing: &mut Drawing, row: &Row, high: f64, low: f64, ink: Ink) {
        let dense = dense(&row.cells);
        let shade = |(column, cell): (usize, &Cell)| match cell {
            _ if !dense[column] => None,
            Cell::Busy(activity) => Some(activity + 1),
            _ => Some(0),
        };
        let shades: Vec<Option<u8>> = row.cells.iter().enumerate().map(shade).collect();
        for (activity, opacity) in [(0u8, 0.42), (1, 0.52), (2, 0.68), (3, 0.86)] {
            for (from, to) in runs(&shades, |shade| *shade == Some(activity)) {
                let (from, to) = (self.x(from) - 0.5, self.x(to) - 0.5);
                drawing.rectangle((from, high), (to, low), None, (ink, opacity));
            }
        }
        for (column, cell) in row.cells.iter().enumerate() {
            if matches!(cell, Cell::Busy(_)) && !dense[column] {
                drawing.line(vec![(self.x(column), high), (self.x(column), low)], ink, 1.3);
            }
        }
    }

    fn unknown(&self, drawing: &mut Drawing, from: usize, to: usize, high: f64, low: f64) {
        let (from, to) = (self.x(from) - 0.5, self.x(to) - 0.5);
        drawing.rectangle((from, high), (to, low), Some(Ink::Unknown), (Ink::Unknown, 0.15));
        if to - from > 14.0 {
            drawing.text(((from + to) / 2.0, low - 3.5), "?", VALUE_SIZE, Ink::Unknown, Anchor::Middle);
        }
    }

    /// A bus: a lozenge for each value.
    fn values(&self, drawing: &mut Drawing, row: &Row, high: f64, low: f64) {
        const SLANT: f64 = 3.0;
        let middle = (high + low) / 2.0;
        self.bands(drawing, row, high, low, Ink::Bus);
        for (at, len, text) in &row.labels {
            // The changing column before belongs to the slope.
            let from = self.x(*at) - if *at > 0 { 1.0 } else { 0.5 };
            let to = self.x(at + len) - 0.5;
            let slant = SLANT.min((to - from) / 2.0);
            let unknown = matches!(row.cells.get(*at), Some(Cell::Value(value)) if value.unknown != 0);
            let (stroke, fill) = if unknown { (Ink::Unknown, Ink::Ground) } else { (Ink::Bus, Ink::BusFill) };
            let points = vec![
                (from, middle),
                (from + slant, high),
                (to - slant, high),
                (to, middle),
                (to - slant, low),
                (from + slant, low),
            ];
            drawing.polygon(points, Some(stroke), (fill, 1.0));
            // Where it is narrow, the base goes without saying.
            let fits = |text: &&str| text_width(text, VALUE_SIZE) + 2.0 * SLANT + 2.0 <= to - from;
            let bare = text.trim_start_matches("0x").trim_start_matches("0b");
            if let Some(text) = [text.as_str(), bare].into_iter().find(fits) {
                let at = ((from + to) / 2.0, middle + 4.0);
                drawing.text(at, text, VALUE_SIZE, Ink::Text, Anchor::Middle);
            }
        }
    }

    /// Frames or fields: each a box with what it says, if that fits.
    fn spans(&self, drawing: &mut Drawing, spans: &[FrameSpan], high: f64, low: f64, field: bool) {
        for FrameSpan { column, columns, texts, faulty } in spans {
            let (from, to) = (self.x(*column) - 0.5, self.x(column + columns) - 0.5);
            let (stroke, fill) = match (faulty, field) {
                (true, _) => (Ink::Bad, Ink::BadFill),
                (false, true) => (Ink::Frame, Ink::Ground),
                (false, false) => (Ink::Frame, Ink::FrameFill),
            };
            let to = (to - 1.0).max(from + 1.0);
            drawing.rectangle((from + 0.5, high), (to, low), Some(stroke), (fill, 1.0));
            let fits = |text: &&String| text_width(text, VALUE_SIZE) + 4.0 <= to - from;
            if let Some(text) = texts.iter().find(fits) {
                let ink = if *faulty { Ink::Bad } else { Ink::Text };
                let at = ((from + to) / 2.0, (high + low) / 2.0 + 4.0);
                drawing.text(at, text.as_str(), VALUE_SIZE, ink, Anchor::Middle);
            }
        }
    }

    /// A voltage: the band between the lowest and the highest sample of each column.
    fn analog(&self, drawing: &mut Drawing, row: &Row, high: f64, low: f64) {
        let y = |share: u16| low - f64::from(share) / 1000.0 * (low - high);
        drawing.line(vec![(self.margin, high), (self.right(), high)], Ink::Grid, 1.0);
        drawing.line(vec![(self.margin, low), (self.right(), low)], Ink::Grid, 1.0);
        for (from, to) in runs(&row.cells, |cell| matches!(cell, Cell::Band(..))) {
            let bands = row.cells[from..to].iter().enumerate().filter_map(|(i, cell)| match cell {
                Cell::Band(least, most) => Some((self.x(from + i), y(*least), y(*most))),
                _ => None,
            });
            let bands: Vec<(f64, f64, f64)> = bands.collect();
            let upper = bands.iter().map(|(x, _, most)| (*x, most - 0.6));
            let lower = bands.iter().rev().map(|(x, least, _)| (*x, least + 0.6));
            drawing.polygon(upper.chain(lower).collect(), Some(Ink::Analog), (Ink::AnalogFill, 1.0));
        }
    }

    /// The dimensions that are in view, each in the first lane that is free.
    fn dimension_lanes(&self) -> Vec<Placed<'_>> {
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
            let lane = (0..MOST).find(free);
            placed.push(Placed { dimension, x1, x2, text_x, anchor, span, lane });
        }
        placed
    }

    fn dimension(&self, drawing: &mut Drawing, placed: &Placed<'_>, tops: &[f64], bottom: f64) {
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
        let shows = |source: &RowSource<'_>| match source {
            RowSource::Line(line) => dimension.lines.contains(line),
            RowSource::Bus(bus) => {
                let bus = self.capture.buses().get(bus.0);
                bus.is_some_and(|bus| bus.lines.iter().any(|line| dimension.lines.contains(line)))
            }
            RowSource::Frames(bus) => bus.lines.iter().any(|line| dimension.lines.contains(line)),
            RowSource::Analog(analog) => dimension.lines.iter().any(|line| {
                deep_tap_core::line::Crossing::of_line(*line)
                    .is_some_and(|crossing| crossing.analog() == *analog)
            }),
        };
        // A serial bus makes several rows; those of lines come one for each source before the first of it.
        let first = self.sources.iter().position(shows)?;
        let one_each = self.sources[..first].iter().all(|source| !matches!(source, RowSource::Frames(_)));
        let place = if one_each {
            first
        } else {
            let name = match &self.sources[first] {
                RowSource::Line(line) => &self.capture.line(*line).name,
                RowSource::Bus(bus) => &self.capture.buses()[bus.0].name,
                RowSource::Frames(bus) => &bus.name,
                RowSource::Analog(line) => &self.capture.analog_lines()[line.0].name,
            };
            self.picture.rows.iter().position(|row| row.name == *name)?
        };
        tops.get(place).map(|top| top + 2.0)
    }
}

/// A dimension with its place.
struct Placed<'a> {
    dimension: &'a Dimension,
    x1: f64,
    x2: f64,
    text_x: f64,
    anchor: Anchor,
    /// What its arrows and words take.
    span: (f64, f64),
    /// `None` where there is no room for its words.
    lane: Option<usize>,
}

fn height(row: &Row) -> f64 {
    if row.scale.is_some() {
        ANALOG_ROW
    } else if row.cells.is_empty() {
        FRAME_ROW
    } else if row.labels.is_empty() && row.cells.iter().all(is_step) {
        LINE_ROW
    } else {
        BUS_ROW
    }
}

fn is_step(cell: &Cell) -> bool {
    matches!(cell, Cell::Steady(_) | Cell::Edge(_) | Cell::Busy(_))
}

/// Which columns belong to a stretch with an edge in every column: edges are no longer told apart there.
fn dense(cells: &[Cell]) -> Vec<bool> {
    const FEWEST: usize = 3;
    let mut dense = vec![false; cells.len()];
    for (from, to) in runs(cells, |cell| {
        matches!(cell, Cell::Busy(_) | Cell::Change(_) | Cell::Edge(Level::Low | Level::High))
    }) {
        if to - from >= FEWEST {
            dense[from..to].fill(true);
        }
    }
    dense
}

/// The stretches of items of one kind: the first, and the one after the last.
fn runs<T>(items: &[T], is: impl Fn(&T) -> bool) -> Vec<(usize, usize)> {
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for (place, _) in items.iter().enumerate().filter(|(_, item)| is(item)) {
        match runs.last_mut() {
            Some((_, end)) if *end == place => *end += 1,
            _ => runs.push((place, place + 1)),
        }
    }
    runs
}

/// As much of a text as fits.
fn fitting(text: &str, size: f64, room: f64) -> String {
    if text_width(text, size) <= room {
        return text.to_string();
    }
    let most = (room / text_width("x", size)) as usize;
    let kept: String = text.chars().take(most.saturating_sub(1)).collect();
    format!("{kept}…")
}
