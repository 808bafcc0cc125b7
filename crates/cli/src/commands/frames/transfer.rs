//! What a transfer carries, in words.

use deep_tap::bus::{FieldKind, Frame};
use deep_tap::decode::SerialBus;

use super::{told, value};
use crate::args::Values;

/// Most values of one name that are written out.
const MOST_VALUES: usize = 64;

/// Data of one name in a row, words with two directions one after the other; addresses and what is not
/// acknowledged where they stand; and the text that it is.
pub(super) fn carried(bus: &SerialBus, frame: &Frame, values: Values) -> String {
    let mut parts: Vec<String> = Vec::new();
    let mut rows: Vec<(&str, Vec<String>)> = Vec::new();
    for field in &frame.fields {
        match field.kind {
            FieldKind::Data => {
                let place = rows.iter().position(|(name, _)| *name == field.name).unwrap_or(rows.len());
                if place == rows.len() {
                    rows.push((field.name, Vec::new()));
                }
                let written = value(field, values);
                let written = written.trim_start_matches("0x");
                rows[place].1.push(bus.names().of(field.name).named(written, field.value));
            }
            // That a byte is acknowledged is nothing to tell.
            FieldKind::Control if field.name == "ack" && field.bits == 1 => {}
            FieldKind::Address | FieldKind::Control | FieldKind::Check => {
                parts.extend(rows.drain(..).map(row));
                parts.push(told(bus, field, values));
            }
        }
    }
    parts.extend(rows.into_iter().map(row));
    if let Some(text) = frame.text().filter(|text| values != Values::Text && text.len() > 1) {
        parts.push(format!("\"{}\"", text.escape_debug()));
    }
    parts.join(" ")
}

fn row((name, values): (&str, Vec<String>)) -> String {
    let more = match values.len().saturating_sub(MOST_VALUES) {
        0 => String::new(),
        more => format!(" ... {more} more"),
    };
    let shown: Vec<String> = values.into_iter().take(MOST_VALUES).collect();
    format!("{name} {}{more}", shown.join(" "))
}
