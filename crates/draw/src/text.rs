//! A picture as text.

use std::fmt;

use deep_tap_core::line::Level;

use crate::wave::{Cell, Picture, Row};

impl fmt::Display for Picture {
    /// The rows with their names in front, under a time axis and a line of markers.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let margin = self.rows.iter().map(|r| r.name.chars().count()).max().unwrap_or(0) + 1;
        let blank = " ".repeat(margin);
        writeln!(f, "{blank}{}", self.caption)?;
        let labels = self.axis.iter().map(|l| (l.column, format!("┌{}", l.text)));
        writeln!(f, "{blank}{}", placed(labels, self.columns))?;
        if !self.markers.is_empty() {
            let markers = self.markers.iter().map(|(column, name)| (*column, format!("▼{name}")));
            writeln!(f, "{blank}{}", placed(markers, self.columns))?;
        }
        for row in &self.rows {
            let pad = " ".repeat(margin - row.name.chars().count());
            let (upper, lower) = drawn(row);
            writeln!(f, "{}", format!("{blank}{upper}").trim_end())?;
            writeln!(f, "{}{pad}{}", row.name, lower.trim_end())?;
        }
        Ok(())
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
    for (at, len, text) in &row.labels {
        let text_len = text.chars().count();
        if text_len < *len {
            let start = at + (len - text_len) / 2;
            for (i, c) in text.chars().enumerate() {
                chars[start + i] = c;
            }
        }
    }
    (String::new(), chars.into_iter().collect())
}

/// A column of a line: its upper and its lower half.
fn step(cell: &Cell) -> (char, char) {
    match cell {
        Cell::Steady(Level::Low) => (' ', '─'),
        Cell::Steady(Level::High) => ('─', ' '),
        Cell::Edge(Level::Low) => ('┐', '└'),
        Cell::Edge(Level::High) => ('┌', '┘'),
        Cell::Steady(Level::Unknown) | Cell::Edge(Level::Unknown) => ('╳', '╳'),
        // The upper half stays free, so that neighbouring rows do not run into each other.
        Cell::Busy(activity) => (' ', shade(*activity)),
        Cell::Value(_) | Cell::Change(_) => (' ', ' '),
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
