//! What the names of values mean.

use crate::error::Result;
use crate::event::syntax::{Test, ValuePattern, characters, located};
use crate::line::ValueNames;

/// What the name of a value means, where it is one: with names that are known, or the characters in quotes.
///
/// # Errors
/// With the column, when nothing has this name.
fn value_of(text: &str, of: &str, value: &ValuePattern, names: &ValueNames) -> Result<ValuePattern> {
    let Some(name) = &value.name else { return Ok(value.clone()) };
    let is_quoted = text.get(value.span.clone()).is_some_and(|own| own.starts_with('"'));
    let bits = names.value(name).or_else(|| characters(name).filter(|_| is_quoted));
    match bits {
        Some(bits) => Ok(ValuePattern { bits, open: 0, name: None, span: value.span.clone() }),
        None if names.is_empty() && is_quoted => {
            let help = "the setup can name values, too: names = { 0x51 = \"clock chip\" }";
            let message = "a text value has 1 to 8 ASCII characters".to_string();
            Err(located(text, value.span.clone(), message, Some(help.into())))
        }
        None if names.is_empty() => {
            let message = format!("'{name}' is no value, and no value of '{of}' has a name");
            let help = "write 12, 0x2A, 0b1x0 or \"A\"; the setup can name values: names = { 0x51 = \"clock chip\" }";
            Err(located(text, value.span.clone(), message, Some(help.into())))
        }
        None => {
            let message = format!("no value of '{of}' is called '{name}'");
            Err(located(text, value.span.clone(), message, Some(names.suggest(name))))
        }
    }
}

/// A test whose values are known.
///
/// # Errors
/// As [`value_of`].
pub(super) fn test_of(text: &str, of: &str, test: &Test, names: &ValueNames) -> Result<Test> {
    let value = |value: &ValuePattern| value_of(text, of, value, names);
    Ok(match test {
        Test::Compare(comparison, to) => Test::Compare(*comparison, value(to)?),
        Test::In(low, high) => Test::In(value(low)?, value(high)?),
        Test::Row(row) => Test::Row(row.clone()),
    })
}
