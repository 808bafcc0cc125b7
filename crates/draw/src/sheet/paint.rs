//! Drawing a sheet: head, axis, then the rows and what is marked in them.

use deep_tap_core::capture::Capture;
use deep_tap_core::{Error, ErrorKind, Result};

use super::layout::{AXIS, LANE, Layout, SIDE, Sheet, VALUE_SIZE, fitting, height, row_margin};
use crate::canvas::{Anchor, Drawing, Ink, text_width};
use crate::row::{RowSource, View};
use crate::wave::Picture;
use deep_tap_core::quantity::rough;

/// Smallest width that shows anything.
const LEAST_WIDTH: u32 = 200;
/// Largest width.
const MOST_WIDTH: u32 = 1 << 15;

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

impl Layout<'_> {
    fn draw(&self) -> Drawing {
        let lanes = self.marker_lanes();
        let marker_rows = lanes.iter().map(|(_, _, lane)| lane + 1).max().unwrap_or(0);
        let top = self.head() + AXIS + marker_rows as f64 * LANE + 8.0;
        let tall = self.sheet.tall.clamp(0.5, 8.0);
        let heights: Vec<f64> = self.picture.rows.iter().map(|row| height(row) * tall).collect();
        let bottom = top + heights.iter().sum::<f64>();
        let dimensions = self.dimension_lanes();
        let below = dimensions.iter().filter_map(|d| d.lane).map(|lane| lane + 1).max().unwrap_or(0) as f64
            * (LANE + 8.0);
        let mut drawing = Drawing::new(f64::from(self.sheet.width), bottom + below + 16.0);
        self.titles(&mut drawing);
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
            let label = self.head() + AXIS + *lane as f64 * LANE + 13.0;
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

    /// The title, and what the time scale is.
    fn titles(&self, drawing: &mut Drawing) {
        let title_room = f64::from(self.sheet.width) - 2.0 * SIDE;
        if !self.sheet.title.is_empty() {
            drawing.bold((SIDE, 22.0), fitting(&self.sheet.title, 13.0, title_room), 13.0, Ink::Text);
        }
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
            rough(whole, 3, "s")
        );
        drawing.text(
            (SIDE, self.head() - 12.0),
            fitting(&said, VALUE_SIZE, title_room),
            VALUE_SIZE,
            Ink::Faint,
            Anchor::Start,
        );
    }

    /// The time axis with its grid; the first of a label's column is its instant.
    fn axis(&self, drawing: &mut Drawing, bottom: f64) {
        let y = self.head() + 8.0;
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
        let base = self.capture.base();
        // Of a part of a record, time zero may lie before it.
        if let Some(column) = self.view.column_of(base.zero()).filter(|_| base.zero_at() >= 0) {
            let x = self.x(column);
            drawing.line(vec![(x, y + 8.0), (x, bottom)], Ink::Faint, 1.0);
        }
    }
}
