//! The rows: steps, lozenges, frames and voltages.

use deep_tap_core::bus::FieldKind;
use deep_tap_core::line::{Crossing, Level};
use deep_tap_core::quantity::Voltage;

use super::layout::{Layout, NAME_SIZE, VALUE_SIZE, is_step};
use crate::canvas::{Anchor, Drawing, Ink, text_width};
use crate::row::{Cell, FrameSpan, Row, Scale};

impl Layout<'_> {
    pub(super) fn row(&self, drawing: &mut Drawing, row: &Row, y: f64, height: f64) {
        let middle = y + height / 2.0;
        let name_x = self.margin - 10.0;
        let (ink, size) =
            if row.name.starts_with(' ') { (Ink::Faint, VALUE_SIZE) } else { (Ink::Text, NAME_SIZE) };
        drawing.text((name_x, middle + 4.0), row.name.trim(), size, ink, Anchor::End);
        if let Some(scale) = row.scale {
            let (low, high) = scale.texts();
            for (text, at) in [(high, y + 13.0), (low, y + height - 6.0)] {
                drawing.text((name_x, at), text, 10.0, Ink::Faint, Anchor::End);
            }
            self.analog(drawing, row, y + 8.0, y + height - 8.0);
            self.levels(drawing, row, y + 8.0, y + height - 8.0);
        } else if row.cells.is_empty() {
            self.spans(drawing, &row.spans, y + 2.0, y + height - 2.0, ink == Ink::Faint);
        } else if row.labels.is_empty() && row.cells.iter().all(is_step) {
            self.steps(drawing, row, y + 5.0, y + height - 5.0);
            self.narrow(drawing, row, y + height - 5.0);
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
            // Neither, in the middle.
            Level::Floating => Some((low + high) / 2.0),
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
        for (at, len, texts) in &row.labels {
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
            let bare = texts.last().map(|text| text.trim_start_matches("0x").trim_start_matches("0b"));
            if let Some(text) = texts.iter().map(String::as_str).chain(bare).find(fits) {
                let at = ((from + to) / 2.0, middle + 4.0);
                drawing.text(at, text, VALUE_SIZE, Ink::Text, Anchor::Middle);
            }
        }
    }

    /// Frames or fields: each a box with what it says, if that fits.
    fn spans(&self, drawing: &mut Drawing, spans: &[FrameSpan], high: f64, low: f64, field: bool) {
        for FrameSpan { column, columns, texts, faulty, kind, absent, beyond } in spans {
            let (from, to) = (self.x(*column) - 0.5, self.x(column + columns) - 0.5);
            // What did not come is a dark box, where what came is an empty one; addresses have the tint of frames.
            let (stroke, fill) = match (faulty, field) {
                (true, _) => (Ink::Bad, Ink::BadFill),
                _ if *absent => (Ink::Frame, Ink::Frame),
                (false, true) if *kind == Some(FieldKind::Address) => (Ink::Frame, Ink::FrameFill),
                (false, true) if *kind == Some(FieldKind::Check) => (Ink::Bus, Ink::BusFill),
                (false, true) => (Ink::Frame, Ink::Ground),
                (false, false) => (Ink::Frame, Ink::FrameFill),
            };
            // What did not come is seen at any width.
            let to = (to - 1.0).max(from + if *absent { 5.0 } else { 1.0 });
            let left = from + 0.5;
            if *beyond == (false, false) {
                drawing.rectangle((left, high), (to, low), Some(stroke), (fill, 1.0));
            } else {
                // What goes on has no end there.
                drawing.rectangle((left, high), (to, low), None, (fill, 1.0));
                let sides = [(high, high, left, to), (low, low, left, to)].into_iter();
                let sides = sides.chain((!beyond.0).then_some((high, low, left, left)));
                for (y1, y2, x1, x2) in sides.chain((!beyond.1).then_some((high, low, to, to))) {
                    drawing.line(vec![(x1, y1), (x2, y2)], stroke, 1.2);
                }
            }
            // The shortest form may touch the edges of its box: it says more than an empty one.
            let room = |gap: f64| move |text: &&String| text_width(text, VALUE_SIZE) + gap <= to - from;
            let tight = texts.last().filter(room(0.0));
            if let Some(text) = texts.iter().find(room(4.0)).or(tight) {
                let ink = match (faulty, absent) {
                    (true, _) => Ink::Bad,
                    (false, true) => Ink::Ground,
                    (false, false) => Ink::Text,
                };
                let at = ((from + to) / 2.0, (high + low) / 2.0 + 4.0);
                drawing.text(at, text.as_str(), VALUE_SIZE, ink, Anchor::Middle);
            }
        }
    }

    /// Thresholds of an analog line, and what the limits that are drawn look at.
    fn levels(&self, drawing: &mut Drawing, row: &Row, high: f64, low: f64) {
        let Some(Scale::Voltages(least, most)) = row.scale else { return };
        let Some(line) = self.capture.analog_named(&row.name) else { return };
        let crossings = self.sheet.dimensions.iter().flat_map(|dimension| &dimension.signals);
        let crossings = crossings.filter_map(|signal| signal.crossing()).filter(|c| c.analog() == line);
        let stated = self.sheet.levels.iter().filter(|(own, _)| *own == line).map(|(_, level)| *level);
        let mut all: Vec<Voltage> = stated.chain(crossings.map(Crossing::level)).collect();
        all.sort_unstable();
        all.dedup();
        let (least, most) = (least.to_f64(), most.to_f64());
        for level in all.into_iter().filter(|level| (least..=most).contains(&level.to_f64())) {
            let y = low - (level.to_f64() - least) / (most - least) * (low - high);
            drawing.dashes((self.margin, y), (self.right(), y), Ink::Marker);
            let at = (self.right() - 2.0, y - 3.0);
            drawing.text(at, level.to_string(), 10.0, Ink::Marker, Anchor::End);
        }
    }

    /// Small arrows below pulses of a single sample.
    fn narrow(&self, drawing: &mut Drawing, row: &Row, low: f64) {
        for column in &row.narrow {
            let x = self.x(*column);
            let points = vec![(x, low + 1.0), (x - 3.0, low + 5.0), (x + 3.0, low + 5.0)];
            drawing.polygon(points, None, (Ink::Marker, 1.0));
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
