//! A picture as text.

use std::fmt;

use deep_tap_core::line::Level;

use crate::wave::{Cell, Picture, Row};

impl fmt::Display for Picture {
    /// One line per row, with the names in front, under a time axis and a line of markers.
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
            let name = &row.name;
            let pad = margin - name.chars().count();
            writeln!(f, "{name}{}{}", " ".repeat(pad), drawn(row).trim_end())?;
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

fn drawn(row: &Row) -> String {
    let mut chars: Vec<char> = row.cells.iter().map(symbol).collect();
    for (at, len, text) in &row.labels {
        let text_len = text.chars().count();
        if text_len < *len {
            let start = at + (len - text_len) / 2;
            for (i, c) in text.chars().enumerate() {
                chars[start + i] = c;
            }
        }
    }
    chars.into_iter().collect()
}

fn symbol(cell: &Cell) -> char {
    match cell {
        Cell::Steady(Level::Low) => '▁',
        Cell::Steady(Level::High) => '▔',
        Cell::Steady(Level::Unknown) => '╳',
        Cell::Edge(Level::Low) => '╲',
        Cell::Edge(Level::High) => '╱',
        Cell::Edge(Level::Unknown) => '╳',
        Cell::Busy(0) => '░',
        Cell::Busy(1) => '▒',
        Cell::Busy(_) => '▓',
        Cell::Value(value) if value.unknown != 0 => '╳',
        Cell::Value(_) => '═',
        Cell::Change(_) => '╳',
    }
}
