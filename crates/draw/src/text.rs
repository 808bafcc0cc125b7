//! A picture as text.

use std::fmt;

use deep_tap_core::line::Level;

use crate::row::{Cell, FrameSpan, Row};
use crate::wave::Picture;

impl fmt::Display for Picture {
    /// The rows with their names in front, under a time axis and a line of markers.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let margin = self.margin();
        let blank = " ".repeat(margin);
        writeln!(f, "{blank}{}", self.caption)?;
        let labels = self.axis.iter().map(|l| (l.column, format!("┌{}", l.text)));
        writeln!(f, "{blank}{}", placed(labels, self.columns))?;
        if !self.markers.is_empty() {
            let markers = self.markers.iter().map(|(column, name)| (*column, format!("▼{name}")));
            writeln!(f, "{blank}{}", placed(markers, self.columns))?;
        }
        for row in &self.rows {
            for (front, drawn) in self.lines_of(row) {
                let pad = " ".repeat(margin.saturating_sub(front.chars().count()));
                writeln!(f, "{}", format!("{front}{pad}{drawn}").trim_end())?;
            }
        }
        for (from, to, text) in &self.dimensions {
            for line in dimension(*from, *to, text, self.columns).lines() {
                writeln!(f, "{}", format!("{blank}{line}").trim_end())?;
            }
        }
        Ok(())
    }
}

impl Picture {
    /// The lines of text of a row: what stands in front of each, its name or a voltage of its scale, and what is drawn.
    pub fn lines_of(&self, row: &Row) -> Vec<(String, String)> {
        if row.scale.is_some() {
            return analog(row);
        }
        if row.cells.is_empty() {
            return vec![(row.name.clone(), spans(row, self.columns))];
        }
        let (upper, lower) = drawn(row);
        vec![(String::new(), upper), (row.name.clone(), lower)]
    }

    /// Columns that the names in front of the rows take, with the gap behind them.
    pub fn margin(&self) -> usize {
        let longest = |row: &Row| {
            let scale = scale_texts(row).map_or(0, |(low, high)| low.len().max(high.len()));
            row.name.chars().count().max(scale)
        };
        self.rows.iter().map(longest).max().unwrap_or(0) + 1
    }
}

/// The voltages at the bottom and the top of an analog row, with three decimals.
fn scale_texts(row: &Row) -> Option<(String, String)> {
    row.scale.map(|scale| scale.texts())
}

/// Lines of text that an analog row takes; each shows two halves.
const ANALOG_LINES: u16 = 4;

/// An analog row: the band between the lowest and the highest voltage of each column, the scale in
/// front of it at the top and at the bottom.
fn analog(row: &Row) -> Vec<(String, String)> {
    let halves = ANALOG_LINES * 2;
    let half = |share: u16| (u32::from(share) * u32::from(halves - 1) + 500) / 1000;
    let (low, high) = scale_texts(row).unwrap_or_default();
    let line = |line: u16| {
        let front = match line {
            l if l == ANALOG_LINES - 1 => high.as_str(),
            2 => row.name.as_str(),
            0 => low.as_str(),
            _ => "",
        };
        let (below, above) = (u32::from(line) * 2, u32::from(line) * 2 + 1);
        let drawn = row.cells.iter().map(|cell| match cell {
            Cell::Band(least, most) => {
                let has = |part: u32| (half(*least)..=half(*most)).contains(&part);
                match (has(below), has(above)) {
                    (true, true) => '█',
                    (true, false) => '▄',
                    (false, true) => '▀',
                    (false, false) => ' ',
                }
            }
            _ => ' ',
        });
        (front.to_string(), drawn.collect())
    };
    (0..ANALOG_LINES).rev().map(line).collect()
}

/// An interval with what is said about it: to its right if that fits, else to its left, else below.
fn dimension(from: usize, to: usize, text: &str, columns: usize) -> String {
    let drawn = match to - from {
        0 => "│".to_string(),
        n => format!("├{}┤", "─".repeat(n - 1)),
    };
    let len = text.chars().count();
    if to + 2 + len <= columns {
        format!("{}{drawn} {text}", " ".repeat(from))
    } else if len < from {
        format!("{}{text} {drawn}", " ".repeat(from - len - 1))
    } else {
        // Neither fits: the words stand below.
        let below = from.min(columns.saturating_sub(len));
        format!("{}{drawn}\n{}{text}", " ".repeat(from), " ".repeat(below))
    }
}

/// Texts at columns; one that does not fit before the next or the edge is left out.
fn placed(texts: impl Iterator<Item = (usize, String)>, columns: usize) -> String {
    let mut line = String::new();
    let mut at = 0;
    for (column, text) in texts {
        let len = text.chars().count();
        if column < at || column + len > columns {
            continue;
        }
        line.extend(std::iter::repeat_n(' ', column - at));
        line.push_str(&text);
        at = column + len;
        if at < columns {
            line.push(' ');
            at += 1;
        }
    }
    line.trim_end().to_string()
}

/// The upper and the lower half of a row: a line's steps take both, a bus's values the lower.
fn drawn(row: &Row) -> (String, String) {
    let steps = row.cells.iter().all(|c| matches!(c, Cell::Steady(_) | Cell::Edge(_) | Cell::Busy(_)));
    if steps && row.labels.is_empty() {
        let (upper, lower): (String, String) = row.cells.iter().map(step).unzip();
        return (upper, lower);
    }
    let mut chars: Vec<char> = row.cells.iter().map(value).collect();
    for (at, len, texts) in &row.labels {
        if let Some(text) = texts.iter().find(|text| text.chars().count() < *len) {
            let text_len = text.chars().count();
            let start = at + (len - text_len) / 2;
            for (i, c) in text.chars().enumerate() {
                chars[start + i] = c;
            }
        }
    }
    (String::new(), chars.into_iter().collect())
}

/// A row of frames or fields: what each is, between its ends.
fn spans(row: &Row, columns: usize) -> String {
    let mut chars = vec![' '; columns];
    for FrameSpan { column, columns, texts, faulty, beyond, .. } in &row.spans {
        let Some(place) = chars.get_mut(*column..column + columns) else { continue };
        if texts.is_empty() {
            place.fill(if *faulty { '!' } else { '▒' });
            continue;
        }
        let room = place.len();
        let fitting = |most: usize| texts.iter().find(|text| text.chars().count() <= most);
        let boxed = fitting(room.saturating_sub(2)).filter(|_| room > 2);
        match (boxed, fitting(room)) {
            // Where there is no room for its ends, the value comes first.
            (None, Some(text)) if !faulty => {
                place.fill(' ');
                let at = (room - text.chars().count()) / 2;
                place.iter_mut().skip(at).zip(text.chars()).for_each(|(place, c)| *place = c);
            }
            (text, _) => {
                enclose(place, text.map_or(if *faulty { "!" } else { "" }, String::as_str), *faulty, *beyond);
            }
        }
    }
    chars.into_iter().collect()
}

/// A text between two ends, each of which may lie beyond what is shown.
fn enclose(place: &mut [char], text: &str, faulty: bool, (before, after): (bool, bool)) {
    match place {
        [only] => *only = if faulty { '!' } else { '│' },
        [first, inner @ .., last] => {
            *first = if before { '─' } else { '├' };
            *last = if after { '─' } else { '┤' };
            inner.fill('─');
            let at = (inner.len().saturating_sub(text.chars().count())) / 2;
            inner.iter_mut().skip(at).zip(text.chars()).for_each(|(place, c)| *place = c);
        }
        [] => {}
    }
}

/// A column of a line: its upper and its lower half.
fn step(cell: &Cell) -> (char, char) {
    match cell {
        Cell::Steady(Level::Low) => (' ', '─'),
        Cell::Steady(Level::High) => ('─', ' '),
        Cell::Edge(Level::Low) => ('┐', '└'),
        Cell::Edge(Level::High) => ('┌', '┘'),
        Cell::Steady(Level::Floating) | Cell::Edge(Level::Floating) => ('┄', '┄'),
        Cell::Steady(Level::Unknown) | Cell::Edge(Level::Unknown) => ('╳', '╳'),
        // The upper half stays free, so that neighbouring rows do not run into each other.
        Cell::Busy(activity) => (' ', shade(*activity)),
        Cell::Value(_) | Cell::Change(_) | Cell::Band(..) | Cell::Nothing => (' ', ' '),
    }
}

/// A column of a bus.
fn value(cell: &Cell) -> char {
    match cell {
        Cell::Busy(activity) => shade(*activity),
        Cell::Value(value) if value.unknown == 0 => '═',
        _ => '╳',
    }
}

fn shade(activity: u8) -> char {
    match activity {
        0 => '░',
        1 => '▒',
        _ => '▓',
    }
}
