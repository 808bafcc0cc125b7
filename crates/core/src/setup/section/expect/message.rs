//! A message, as it stands in a setup.

use std::path::Path;

use super::board::wrong;
use crate::error::Error;
use crate::message::Message;
use crate::message::file::FileForm;
use crate::reader::{Placed, Section};
use crate::setup::files::Files;

/// Where a message is written.
#[derive(Clone, Debug)]
pub(super) enum DraftMessage {
    Hex(Vec<Placed<String>>),
    Text(Placed<String>),
    File { path: Placed<String>, form: Option<FileForm> },
}

impl DraftMessage {
    /// Reads one; `None` where the section has none.
    pub(super) fn read(section: &Section<'_>) -> Option<DraftMessage> {
        let (bytes, text, file) = (section.list("bytes"), section.text("text"), section.text("file"));
        let array = section.text("array").map(|name| name.value);
        let column = section.text("column").map(|name| name.value);
        let forms = [
            ("binary", Some(Form::Binary)),
            ("hex", Some(Form::Hex)),
            ("array", Some(Form::Array)),
            ("csv", Some(Form::Column)),
        ];
        let form = section.choice("format", &forms, Some(None))?;
        if [bytes.is_some(), text.is_some(), file.is_some()].iter().filter(|there| **there).count() > 1 {
            section.complain("a message is one of 'bytes', 'text' and 'file'", "leave the others out");
        }
        if file.is_none() && (form.is_some() || array.is_some() || column.is_some()) {
            let help = "add file = \"firmware/greeting.c\", or leave them out";
            section.complain("'format', 'array' and 'column' are about a file", help);
        }
        if let Some(bytes) = bytes {
            return Some(DraftMessage::Hex(bytes.value));
        }
        if let Some(text) = text {
            return Some(DraftMessage::Text(text));
        }
        let path = file?;
        let form = match (form, &array, &column) {
            (Some(Form::Binary), ..) => Some(FileForm::Binary),
            (Some(Form::Hex), ..) => Some(FileForm::Hex),
            (Some(Form::Array), ..) | (None, Some(_), _) => Some(FileForm::Array(array)),
            (Some(Form::Column), ..) | (None, None, Some(_)) => Some(FileForm::Column(column)),
            (None, None, None) => FileForm::of(Path::new(&path.value)),
        };
        Some(DraftMessage::File { path, form })
    }

    pub(super) fn resolve(&self, files: &mut Files<'_>) -> Option<Message> {
        let refused =
            |error: Error, at: &Placed<String>| wrong(at, error.message(), error.help().unwrap_or_default());
        match self {
            DraftMessage::Hex(items) => {
                let first = items.first()?;
                let text: Vec<&str> = items.iter().map(|item| item.value.as_str()).collect();
                // The place of the item that is wrong by itself.
                let own = |item: &&Placed<String>| text.len() > 1 && Message::hex(&item.value).is_err();
                let at = items.iter().find(own).unwrap_or(first);
                Message::hex(&text.join(" ")).map_err(|error| files.problems.push(refused(error, at))).ok()
            }
            DraftMessage::Text(text) => {
                Message::text(&text.value).map_err(|error| files.problems.push(refused(error, text))).ok()
            }
            DraftMessage::File { path, form } => {
                let Some(form) = form else {
                    let help = "add format = \"binary\", \"hex\", \"array\" or \"csv\"";
                    let message =
                        format!("the ending of '{}' does not say how values stand in it", path.value);
                    files.problems.push(wrong(path, &message, help));
                    return None;
                };
                let bytes = files.bytes(path)?;
                let values = form.values(&bytes).map_err(|error| {
                    files.problems.push(refused(error.about(&path.value), path));
                });
                Some(Message::values(values.ok()?))
            }
        }
    }

    pub(super) fn place(&self) -> Option<&Placed<String>> {
        match self {
            DraftMessage::Hex(items) => items.first(),
            DraftMessage::Text(text) | DraftMessage::File { path: text, .. } => Some(text),
        }
    }
}

/// What a file may be stated to be.
#[derive(Clone, Copy)]
enum Form {
    Binary,
    Hex,
    Array,
    Column,
}
