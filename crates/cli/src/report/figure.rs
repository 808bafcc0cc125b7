//! Pictures of the page: each as it stands, and as data with which the script lets it be moved about in.

use deep_tap::draw::{Dimension, Marker, Picture, RowSource, Sheet, View};
use deep_tap::job::Job;
use deep_tap::limit::BoundLimit;
use deep_tap::line::{AnalogId, Signal};
use deep_tap::printable;
use deep_tap::quantity::Voltage;
use deep_tap::time::Tick;
use serde::Serialize;

use super::waves::Waves;
use crate::errors::Failure;
use crate::output::not_json;
use crate::rows::{self, RowKind};

/// What may still be drawn.
#[derive(Clone, Copy, Debug)]
pub(super) struct Budget {
    pub(super) bytes: usize,
    pub(super) violations: usize,
    /// Rows of violations of each limit.
    pub(super) rows: usize,
}

/// A picture.
pub(super) struct Figure {
    pub(super) id: String,
    pub(super) caption: String,
    pub(super) svg: String,
    /// JSON for the script.
    pub(super) data: Option<String>,
}

/// Pixels of a picture's width.
const WIDTH: u32 = 1280;
/// Columns that the script has of a picture at the most.
const MOST_COLUMNS: usize = 4096;
/// Cells of all rows together that it has at the most.
const MOST_CELLS: usize = 100_000;
/// So many times as much as is shown first can be moved to.
const AROUND: u64 = 16;

/// A stretch of a record, with what is marked in it.
pub(super) struct Stretch<'a> {
    pub(super) rows: Vec<RowKind>,
    pub(super) from: Tick,
    pub(super) to: Tick,
    pub(super) markers: &'a [Marker],
    pub(super) dimensions: Vec<Dimension>,
}

impl Figure {
    /// Draws a stretch; nothing where the page has no room for it any more, or there is nothing to draw.
    pub(super) fn of(
        job: &Job,
        id: String,
        caption: String,
        stretch: &Stretch<'_>,
        budget: &mut Budget,
    ) -> Result<Option<Figure>, Failure> {
        let sources: Vec<RowSource<'_>> = stretch.rows.iter().filter_map(|row| row.source(job)).collect();
        if sources.is_empty() || stretch.from >= stretch.to {
            return Ok(None);
        }
        let levels = rows::levels(job);
        let sheet = Sheet {
            start: stretch.from,
            end: stretch.to,
            width: WIDTH,
            markers: stretch.markers,
            dimensions: &stretch.dimensions,
            levels: &levels,
            ..Sheet::default()
        };
        let svg = sheet.draw(&job.capture, &sources)?.page_svg(&caption);
        if svg.len() > budget.bytes {
            return Ok(None);
        }
        budget.bytes -= svg.len();
        let data = Some(waves(job, &sources, stretch)?).filter(|data| data.len() <= budget.bytes);
        budget.bytes -= data.as_ref().map_or(0, String::len);
        Ok(Some(Figure { id, caption, svg, data }))
    }

    /// A picture that cannot be moved about in.
    pub(super) fn still(id: String, caption: String, svg: String, budget: &mut Budget) -> Option<Figure> {
        let fits = svg.len() <= budget.bytes;
        budget.bytes -= if fits { svg.len() } else { 0 };
        fits.then_some(Figure { id, caption, svg, data: None })
    }
}

/// More than is shown first, as fine as that is worth it.
fn waves(job: &Job, sources: &[RowSource<'_>], stretch: &Stretch<'_>) -> Result<String, Failure> {
    let (capture, length) = (&job.capture, stretch.to.0 - stretch.from.0);
    let room = length.saturating_mul(AROUND) / 2;
    let (start, end) = (stretch.from.0.saturating_sub(room), stretch.to.0.saturating_add(room));
    let (start, end) = (Tick(start), Tick(end.min(capture.len())));
    let most = (MOST_CELLS / sources.len().max(1)).clamp(MOST_COLUMNS / 4, MOST_COLUMNS);
    let columns = usize::try_from(end.0 - start.0).unwrap_or(most).min(most);
    let view = View { start, end, columns };
    let picture = Picture::new(capture, sources, view, stretch.markers)?;
    let column = |tick: Tick| view.column_of(tick).unwrap_or(columns);
    let name = |line: AnalogId| capture.analog_lines()[line.0].name.as_str();
    let looked_at = stretch.dimensions.iter().flat_map(|dimension| &dimension.signals);
    let looked_at = looked_at.filter_map(|signal| signal.crossing()).map(|c| (c.analog(), c.level()));
    let mut levels: Vec<(AnalogId, Voltage)> = rows::levels(job).into_iter().chain(looked_at).collect();
    levels.sort_unstable();
    levels.dedup();
    let levels: Vec<(&str, Voltage)> = levels.into_iter().map(|(line, level)| (name(line), level)).collect();
    let mut waves = Waves::of(&picture, &view, capture.base(), (column(stretch.from), column(stretch.to)))
        .with_levels(&picture, &levels);
    for dimension in &stretch.dimensions {
        let ends = (column(dimension.from.max(start)), column(dimension.to.min(end)));
        waves.push_dimension(ends, &dimension.text, dimension.violated);
    }
    json(&waves)
}

/// JSON that no page takes for the end of a script, and in which nothing acts.
fn json(of: &impl Serialize) -> Result<String, Failure> {
    let text = serde_json::to_string(of).map_err(not_json)?;
    let mut safe = String::with_capacity(text.len());
    for character in text.chars() {
        let own = character.to_string();
        match matches!(character, '<' | '>' | '&') || printable(&own) != own {
            true => character.encode_utf16(&mut [0; 2]).iter().for_each(|unit| {
                safe.push_str(&format!("\\u{unit:04x}"));
            }),
            false => safe.push(character),
        }
    }
    Ok(safe)
}

/// The rows that show what a limit looks at: its lines, the buses that they are on, and the other lines of those.
pub(super) fn rows_of(job: &Job, limit: &BoundLimit) -> Vec<RowKind> {
    let capture = &job.capture;
    let signals = limit.signals();
    let own = |line| signals.contains(&Signal::Line(line));
    let all = rows::all(job);
    let talk = |row: &RowKind| match row.source(job) {
        Some(RowSource::Frames(bus)) if bus.protocol().name() != "exchange" => Some(bus),
        _ => None,
    };
    let talking: Vec<_> =
        all.iter().filter_map(talk).filter(|bus| bus.lines().iter().any(|l| own(*l))).collect();
    let shown = |row: &RowKind| match row {
        RowKind::Line(line) => own(*line) || talking.iter().any(|bus| bus.lines().contains(line)),
        RowKind::Bus(bus) | RowKind::Curve(bus) => capture.buses()[bus.0].lines.iter().any(|line| own(*line)),
        RowKind::Analog(line) => {
            signals.iter().filter_map(|signal| signal.crossing()).any(|c| c.analog() == *line)
        }
        RowKind::Frames(_) => talk(row).is_some_and(|bus| talking.iter().any(|own| own.name() == bus.name())),
    };
    all.into_iter().filter(shown).collect()
}
