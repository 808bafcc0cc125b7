//! Frames of buses, what is wrong with them, and registers behind them. Places are ticks of the record.

use deep_tap::bus::{Field, FieldKind, Frame};
use deep_tap::decode::Access;
use deep_tap::diagnose::Finding;
use serde::{Serialize, Serializer};

#[derive(Serialize)]
struct SaidFrame<'a> {
    kind: &'a str,
    start: u64,
    end: u64,
    begins: bool,
    fields: Vec<SaidField<'a>>,
    faults: Vec<SaidFault<'a>>,
}

#[derive(Serialize)]
struct SaidField<'a> {
    name: &'a str,
    start: u64,
    end: u64,
    value: u64,
    bits: u32,
    kind: &'static str,
}

#[derive(Serialize)]
struct SaidFault<'a> {
    kind: &'a str,
    at: u64,
    what: &'a str,
}

#[derive(Serialize)]
struct SaidFinding<'a> {
    bus: &'a str,
    kind: &'a str,
    sureness: String,
    at: Option<u64>,
    what: &'a str,
    remedy: &'a str,
}

#[derive(Serialize)]
struct SaidAccess {
    start: u64,
    end: u64,
    part: Option<u64>,
    number: Option<u64>,
    write: bool,
    raw: u64,
    bits: u32,
    register: Option<usize>,
    cut: bool,
}

impl<'a> From<&'a Field> for SaidField<'a> {
    fn from(of: &'a Field) -> Self {
        let kind = match of.kind {
            FieldKind::Data => "data",
            FieldKind::Address => "address",
            FieldKind::Control => "control",
            FieldKind::Check => "check",
        };
        let Field { name, value, bits, .. } = *of;
        SaidField { name, start: of.start.0, end: of.end.0, value, bits, kind }
    }
}

/// A frame.
pub(crate) fn frame<S: Serializer>(of: &&Frame, serializer: S) -> Result<S::Ok, S::Error> {
    let faults = of.faults.iter();
    let said = SaidFrame {
        kind: of.kind,
        start: of.start.0,
        end: of.end.0,
        begins: of.begins,
        fields: of.fields.iter().map(SaidField::from).collect(),
        faults: faults.map(|f| SaidFault { kind: f.kind, at: f.at.0, what: &f.what }).collect(),
    };
    said.serialize(serializer)
}

/// Something that is not as the setup says.
pub(crate) fn finding<S: Serializer>(of: &Finding, serializer: S) -> Result<S::Ok, S::Error> {
    let said = SaidFinding {
        bus: &of.bus,
        kind: of.kind,
        sureness: of.sureness.to_string(),
        at: of.at.map(|tick| tick.0),
        what: &of.what,
        remedy: &of.remedy,
    };
    said.serialize(serializer)
}

/// A register read or written.
pub(crate) fn access<S: Serializer>(of: &Access, serializer: S) -> Result<S::Ok, S::Error> {
    let Access { part, number, write, raw, bits, register, cut, .. } = *of;
    let said = SaidAccess { start: of.start.0, end: of.end.0, part, number, write, raw, bits, register, cut };
    said.serialize(serializer)
}
