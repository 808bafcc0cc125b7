//! What is drawn of a capture: rows of cells over a stretch of time, and what is marked in it.

use deep_tap_core::bus::FieldKind;
use deep_tap_core::decode::SerialBus;
use deep_tap_core::line::{AnalogId, BusId, Level, LineId, Signal, Value};
use deep_tap_core::quantity::Voltage;
use deep_tap_core::time::Tick;

/// What a row shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RowSource<'a> {
    /// A line, as steps.
    Line(LineId),
    /// A bus, as its values.
    Bus(BusId),
    /// A bus, as the curve that its values make.
    Curve(BusId),
    /// A serial bus, as its frames and their fields.
    Frames(&'a SerialBus),
    /// An analog line, as its voltage.
    Analog(AnalogId),
}

/// The stretch of time that is shown, and how many columns it is shown in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct View {
    /// First tick.
    pub start: Tick,
    /// Tick after the last.
    pub end: Tick,
    /// Columns.
    pub columns: usize,
}

/// A named place in time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Marker {
    /// Where.
    pub tick: Tick,
    /// Its name.
    pub name: String,
}

/// What one column of a row shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cell {
    /// A steady level.
    Steady(Level),
    /// One edge, to this level.
    Edge(Level),
    /// Several edges; the number is how busy, from 0 (two edges) to 2 (an edge at every second tick).
    Busy(u8),
    /// A steady value of a bus.
    Value(Value),
    /// A bus that changes to a value.
    Change(Value),
    /// The lowest and the highest voltage in the column, in thousandths of the row's scale.
    Band(u16, u16),
    /// No sample to show: before the first one, or lost.
    Nothing,
}

/// A row of cells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The name of the line or bus.
    pub name: String,
    /// One cell per column.
    pub cells: Vec<Cell>,
    /// For a bus, how each stretch of one value is labelled: first column, number of columns, text.
    pub labels: Vec<(usize, usize, Vec<String>)>,
    /// For a serial bus, its frames or its fields.
    pub spans: Vec<FrameSpan>,
    /// For an analog line or a curve, what is at the bottom and at the top.
    pub scale: Option<Scale>,
    /// Columns with a pulse of a single sample: shorter ones may be there that no sample shows.
    pub narrow: Vec<usize>,
}

/// What is at the bottom of a row and at the top.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scale {
    /// Voltages.
    Voltages(Voltage, Voltage),
    /// Values of a bus.
    Values(i128, i128),
}

impl Scale {
    /// In words: the bottom, then the top.
    pub fn texts(&self) -> (String, String) {
        let volts = |of: &Voltage| format!("{:.3} V", of.to_f64());
        match self {
            Scale::Voltages(low, high) => (volts(low), volts(high)),
            Scale::Values(low, high) => (low.to_string(), high.to_string()),
        }
    }
}

/// Part of a row that belongs together: a frame, or a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FrameSpan {
    /// First column.
    pub column: usize,
    /// Number of columns, at least one.
    pub columns: usize,
    /// What it says, the longest form first: the first that fits is drawn. Nothing where several frames
    /// share a column.
    pub texts: Vec<String>,
    /// Whether it has a fault.
    pub faulty: bool,
    /// Of a field, what it is for; of a frame, nothing.
    pub kind: Option<FieldKind>,
    /// Whether it says that something did not come, as an acknowledge.
    pub absent: bool,
    /// Whether it began before what is shown, and goes on after it.
    pub beyond: (bool, bool),
}

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
    pub signals: Vec<Signal>,
}

impl View {
    /// First tick of a column.
    pub fn tick_of(&self, column: usize) -> Tick {
        let span = u128::from(self.end.0 - self.start.0);
        let offset = (span * column as u128).div_ceil(self.columns as u128);
        Tick(self.start.0 + offset as u64)
    }

    /// The column that shows a tick, if it is inside.
    pub fn column_of(&self, tick: Tick) -> Option<usize> {
        let span = u128::from(self.end.0 - self.start.0);
        let offset = tick.0.checked_sub(self.start.0).filter(|_| tick < self.end)?;
        Some((u128::from(offset) * self.columns as u128 / span) as usize)
    }
}

/// How busy a column is, from its number of edges.
pub(crate) fn business(edges: u64, ticks: u64) -> u8 {
    match edges {
        0..=3 => 0,
        n if n.saturating_mul(4) < ticks => 1,
        _ => 2,
    }
}
