//! Where everything of a drawing has its place.

use deep_tap_core::capture::Capture;
use deep_tap_core::line::AnalogId;
use deep_tap_core::quantity::Voltage;
use deep_tap_core::time::Tick;

use crate::canvas::text_width;
use crate::row::{Cell, Dimension, Marker, Row, RowSource, View};
use crate::wave::Picture;

/// What is drawn: a stretch of time, and what is marked in it.
#[derive(Clone, Debug, PartialEq)]
pub struct Sheet<'a> {
    /// First tick.
    pub start: Tick,
    /// Tick after the last.
    pub end: Tick,
    /// Width in pixels.
    pub width: u32,
    /// What stands above it; may be empty.
    pub title: String,
    /// Places with names.
    pub markers: &'a [Marker],
    /// Intervals with their values.
    pub dimensions: &'a [Dimension],
    /// Voltages that are drawn across analog lines: thresholds.
    pub levels: &'a [(AnalogId, Voltage)],
    /// How many times as high as usual rows are, from a half to 8.
    pub tall: f64,
}

impl Default for Sheet<'_> {
    /// 1280 pixels of nothing.
    fn default() -> Self {
        Sheet {
            start: Tick(0),
            end: Tick(0),
            width: 1280,
            title: String::new(),
            markers: &[],
            dimensions: &[],
            levels: &[],
            tall: 1.0,
        }
    }
}

pub(super) const NAME_SIZE: f64 = 12.0;
pub(super) const VALUE_SIZE: f64 = 11.0;
pub(super) const SIDE: f64 = 14.0;
/// Where the axis begins, below the title; of a picture without one.
const HEAD: f64 = 52.0;
const BARE_HEAD: f64 = 30.0;
pub(super) const AXIS: f64 = 24.0;
pub(super) const LANE: f64 = 18.0;
pub(super) const LINE_ROW: f64 = 26.0;
pub(super) const BUS_ROW: f64 = 26.0;
pub(super) const FRAME_ROW: f64 = 21.0;
pub(super) const ANALOG_ROW: f64 = 84.0;

pub(super) struct Layout<'a> {
    pub(super) sheet: &'a Sheet<'a>,
    pub(super) capture: &'a Capture,
    pub(super) sources: &'a [RowSource<'a>],
    pub(super) picture: Picture,
    pub(super) view: View,
    pub(super) margin: f64,
}

impl Layout<'_> {
    pub(super) fn x(&self, column: usize) -> f64 {
        self.margin + column as f64 + 0.5
    }

    /// Where the axis begins.
    pub(super) fn head(&self) -> f64 {
        if self.sheet.title.is_empty() { BARE_HEAD } else { HEAD }
    }

    pub(super) fn right(&self) -> f64 {
        self.margin + self.view.columns as f64
    }
}

/// The width that a row needs in front of it.
pub(super) fn row_margin(row: &Row) -> f64 {
    let scale = row.scale.map_or(0.0, |scale| {
        let (low, high) = scale.texts();
        text_width(&low, 10.0).max(text_width(&high, 10.0)).max(text_width("-10.000 V", 10.0))
    });
    text_width(&row.name, NAME_SIZE).max(scale)
}

pub(super) fn height(row: &Row) -> f64 {
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

pub(super) fn is_step(cell: &Cell) -> bool {
    matches!(cell, Cell::Steady(_) | Cell::Edge(_) | Cell::Busy(_))
}

/// As much of a text as fits.
pub(super) fn fitting(text: &str, size: f64, room: f64) -> String {
    if text_width(text, size) <= room {
        return text.to_string();
    }
    let most = (room / text_width("x", size)) as usize;
    let kept: String = text.chars().take(most.saturating_sub(1)).collect();
    format!("{kept}…")
}
