//! A picture as the script of a page takes it: what each row shows, in runs of columns.

use deep_tap::bus::FieldKind;
use deep_tap::draw::{Cell, FrameSpan, Picture, Row, Scale, View};
use deep_tap::line::Level;
use deep_tap::quantity::Voltage;
use deep_tap::time::TimeBase;
use serde::Serialize;

/// A picture.
#[derive(Serialize)]
pub(super) struct Waves<'a> {
    /// Time of the first column, and how much each is, in seconds.
    start: f64,
    step: f64,
    /// Digits below a second that the record's times have.
    digits: u8,
    columns: usize,
    /// The columns shown first.
    first: (usize, usize),
    rows: Vec<WaveRow<'a>>,
    marks: Vec<(usize, &'a str)>,
    dimensions: Vec<WaveDimension<'a>>,
}

#[derive(Serialize)]
struct WaveDimension<'a> {
    from: usize,
    to: usize,
    text: &'a str,
    bad: bool,
}

#[derive(Serialize)]
struct WaveRow<'a> {
    name: &'a str,
    kind: &'static str,
    /// Lengths of runs, each with a code after it; of an analog row, the lowest and the highest of each column.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    runs: Vec<i64>,
    /// Boxes with what they say.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    boxes: Vec<Boxed<'a>>,
    /// What is at the bottom and at the top, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    scale: Option<(String, String)>,
    /// Voltages drawn across it: thousandths of its scale, and what they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    levels: Vec<(u16, String)>,
}

/// First column, columns, what it is, its texts from the longest to the shortest.
type Boxed<'a> = (usize, usize, u8, &'a [String]);

/// Bits of what a box is.
const FAULTY: u8 = 1;
const ABSENT: u8 = 2;
const UNKNOWN: u8 = 4;
const ADDRESS: u8 = 8;
const CHECK: u8 = 16;

impl<'a> Waves<'a> {
    pub(super) fn of(picture: &'a Picture, view: &View, base: TimeBase, shown: (usize, usize)) -> Self {
        let whole = base.length_of(view.end.since(view.start)).to_f64();
        let tick = base.tick().to_f64();
        Waves {
            start: base.time_of(view.start).to_f64(),
            step: whole / view.columns as f64,
            digits: (-tick.log10()).ceil().clamp(0.0, 15.0) as u8,
            columns: view.columns,
            first: shown,
            rows: picture.rows.iter().map(WaveRow::of).collect(),
            marks: picture.markers.iter().map(|(column, name)| (*column, name.as_str())).collect(),
            dimensions: Vec::new(),
        }
    }

    /// With voltages drawn across the rows of these analog lines, where they lie within the scale of the row.
    pub(super) fn with_levels(mut self, picture: &Picture, levels: &[(&str, Voltage)]) -> Self {
        for (row, drawn) in self.rows.iter_mut().zip(&picture.rows) {
            let Some(Scale::Voltages(low, high)) = drawn.scale else { continue };
            let (low, high) = (low.to_f64(), high.to_f64());
            for (_, level) in levels.iter().filter(|(name, _)| *name == drawn.name) {
                let share = (level.to_f64() - low) / (high - low) * 1000.0;
                if (0.0..=1000.0).contains(&share) {
                    row.levels.push((share as u16, level.to_string()));
                }
            }
        }
        self
    }

    /// With an interval drawn under the rows.
    pub(super) fn push_dimension(&mut self, (from, to): (usize, usize), text: &'a str, bad: bool) {
        self.dimensions.push(WaveDimension { from, to, text, bad });
    }
}

impl<'a> WaveRow<'a> {
    fn of(row: &'a Row) -> Self {
        let boxes = || row.spans.iter().map(span).collect();
        let empty = WaveRow {
            name: row.name.as_str(),
            kind: "line",
            runs: Vec::new(),
            boxes: Vec::new(),
            scale: None,
            levels: Vec::new(),
        };
        if let Some(scale) = row.scale {
            return WaveRow { kind: "analog", runs: bands(&row.cells), scale: Some(scale.texts()), ..empty };
        }
        if row.cells.is_empty() {
            return WaveRow { kind: "boxes", boxes: boxes(), ..empty };
        }
        let is_bus = row.cells.iter().any(|cell| matches!(cell, Cell::Value(_) | Cell::Change(_)));
        let values = row.labels.iter().map(|(column, columns, texts)| {
            let unknown = matches!(row.cells.get(*column), Some(Cell::Value(value)) if value.unknown != 0);
            (*column, *columns, if unknown { UNKNOWN } else { 0 }, texts.as_slice())
        });
        let kind = if is_bus { "bus" } else { "line" };
        WaveRow { kind, runs: runs(&row.cells), boxes: values.collect(), ..empty }
    }
}

fn span(of: &FrameSpan) -> Boxed<'_> {
    let mut is = 0;
    is |= if of.faulty { FAULTY } else { 0 };
    is |= if of.absent { ABSENT } else { 0 };
    is |= match of.kind {
        Some(FieldKind::Address) => ADDRESS,
        Some(FieldKind::Check) => CHECK,
        _ => 0,
    };
    (of.column, of.columns, is, &of.texts)
}

/// Levels and values as 0 to 3, busy stretches as 4 to 6, nothing as 7; an edge is where one level ends.
fn runs(cells: &[Cell]) -> Vec<i64> {
    let code = |cell: &Cell| match cell {
        Cell::Steady(level) | Cell::Edge(level) => match level {
            Level::Low => 0,
            Level::High => 1,
            Level::Unknown => 2,
            Level::Floating => 3,
        },
        Cell::Value(_) | Cell::Change(_) => 0,
        Cell::Busy(busy) => 4 + i64::from(*busy),
        Cell::Band(..) | Cell::Nothing => 7,
    };
    let mut runs: Vec<i64> = Vec::new();
    for code in cells.iter().map(code) {
        match runs.as_mut_slice() {
            [.., length, last] if *last == code => *length += 1,
            _ => runs.extend([1, code]),
        }
    }
    runs
}

/// The lowest and the highest voltage of each column, in thousandths of the scale; -1 for none.
fn bands(cells: &[Cell]) -> Vec<i64> {
    let of = |cell: &Cell| match cell {
        Cell::Band(least, most) => [i64::from(*least), i64::from(*most)],
        _ => [-1, -1],
    };
    cells.iter().flat_map(of).collect()
}
