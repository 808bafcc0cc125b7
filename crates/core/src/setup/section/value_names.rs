//! The names of values.

use crate::decode::{FieldNames, Protocol};
use crate::error::suggest;
use crate::line::ValueNames;
use crate::reader::{NamedText, Placed, Section};

/// Names of the values of fields as written.
pub(in crate::setup) type DraftNames = Vec<(Placed<String>, ValueNames)>;

/// A value as a key: decimal, hexadecimal or binary.
pub(in crate::setup) fn value(text: &str) -> Option<u64> {
    match (text.strip_prefix("0x"), text.strip_prefix("0b")) {
        (Some(hex), _) => u64::from_str_radix(hex, 16).ok(),
        (_, Some(bits)) => u64::from_str_radix(bits, 2).ok(),
        _ => text.parse().ok(),
    }
}

/// `{ 0x51 = "clock chip" }`; what is wrong is reported.
fn names(section: &Section<'_>, written: Vec<NamedText>) -> ValueNames {
    let mut known: Vec<(u64, String)> = Vec::new();
    for (key, name) in written {
        let Some(number) = value(&key.value) else {
            let message = format!("'{}' is not a value", key.value);
            section.refuse(&key.place, message, "write it like 0x51 = \"clock chip\"");
            continue;
        };
        let Some(text) = name.value.filter(|text| !text.is_empty() && !text.contains(['"', '\n', '\r']))
        else {
            section.refuse(&name.place, "this is not a name for a value", "use a text without double quotes");
            continue;
        };
        if let Some((_, other)) = known.iter().find(|(own, _)| *own == number) {
            let message = format!("{} has two names, '{other}' and '{text}'", key.value);
            section.refuse(&key.place, message, "take one of them out");
        } else if let Some((other, _)) = known.iter().find(|(_, own)| *own == text) {
            let message = format!("'{text}' is the name of two values, 0x{other:X} and 0x{number:X}");
            section.refuse(&name.place, message, "give each value a name of its own");
        } else {
            known.push((number, text));
        }
    }
    known.into_iter().collect()
}

/// The names of a parallel bus's values.
pub(in crate::setup) fn read_bus_names(section: &Section<'_>) -> ValueNames {
    section.map("names").map_or_else(ValueNames::default, |written| names(section, written))
}

/// The names of the values of fields: `{ address = { 0x51 = "clock chip" } }`.
pub(in crate::setup) fn read_field_names(section: &Section<'_>) -> DraftNames {
    let written = section.maps("names").unwrap_or_default();
    written.into_iter().map(|(field, written)| (field, names(section, written))).collect()
}

/// The same of a bus with these words, where values have no more bits than they can.
pub(in crate::setup) fn field_names<'a>(
    section: &Section<'_>,
    drafts: &DraftNames,
    words: impl Iterator<Item = &'a str> + Clone,
    protocol: Option<&Protocol>,
) -> FieldNames {
    let mut all = FieldNames::default();
    for (field, names) in drafts {
        if !words.clone().any(|word| word == field.value) {
            let help = suggest(&field.value, words.clone(), "field");
            section.refuse(&field.place, format!("there is no field '{}' here", field.value), help);
        }
        let bits = protocol.and_then(|protocol| protocol.widest(&field.value)).filter(|bits| *bits < 64);
        if let Some((bits, (beyond, name))) = bits.zip(names.iter().last())
            && beyond >> bits != 0
        {
            let message = format!("'{}' has {bits} bits, and '{name}' is 0x{beyond:X}", field.value);
            let help = protocol.and_then(|protocol| protocol.meant(&field.value, beyond));
            section.refuse(
                &field.place,
                message,
                help.unwrap_or_else(|| "give a value that it can have".into()),
            );
        }
        all = all.field(field.value.clone(), names.clone());
    }
    all
}
