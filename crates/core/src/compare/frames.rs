//! What makes a frame the same as another one.

use crate::bus::{Field, FieldKind, Frame};
use crate::decode::SerialBus;

/// What two frames have in common that are the same one in two records, though they may carry other values.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Shape {
    kind: &'static str,
    /// Each field with its value, where that belongs to the shape.
    fields: Vec<(&'static str, Option<u64>)>,
    faults: Vec<&'static str>,
}

impl Shape {
    /// Of a stream of nothing but data, such as characters, they are all there is; elsewhere data may differ from run
    /// to run, and whom it is for does not.
    pub(super) fn of(bus: &SerialBus, frame: &Frame) -> Shape {
        let only_data =
            frame.fields.iter().all(|field| matches!(field.kind, FieldKind::Data | FieldKind::Check));
        let stream = bus.protocol().is_stream() && only_data;
        let belongs = |field: &Field| stream || matches!(field.kind, FieldKind::Address | FieldKind::Control);
        Shape {
            kind: frame.kind,
            fields: frame
                .fields
                .iter()
                .map(|field| (field.name, belongs(field).then_some(field.value)))
                .collect(),
            faults: frame.faults.iter().map(|fault| fault.kind).collect(),
        }
    }
}

/// Whether what the frame is and what it carries was read beyond doubt.
pub(super) fn both_certain(a: Option<&Frame>, b: Option<&Frame>) -> bool {
    a.is_none_or(|frame| frame.certain) && b.is_none_or(|frame| frame.certain)
}
