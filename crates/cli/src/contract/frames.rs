//! Frames of buses, what is wrong with them, and registers behind them.

use deep_tap::bus::{Field, FieldKind, Frame};
use deep_tap::decode::{Access, SerialBus};
use deep_tap::diagnose::Finding;
use deep_tap::quantity::Time;
use deep_tap::time::TimeBase;
use serde::Serialize;

/// A frame.
#[derive(Serialize)]
pub(crate) struct FrameRow<'a> {
    bus: &'a str,
    kind: &'a str,
    at_s: Time,
    until_s: Time,
    /// Whether a transfer begins with it.
    begins: bool,
    certain: bool,
    fields: Vec<FieldRow<'a>>,
    faults: Vec<FaultRow<'a>>,
}

#[derive(Serialize)]
struct FieldRow<'a> {
    name: &'a str,
    kind: &'static str,
    at_s: Time,
    until_s: Time,
    value: u64,
    bits: u32,
    /// The name of the value.
    means: Option<&'a str>,
}

#[derive(Serialize)]
struct FaultRow<'a> {
    kind: &'a str,
    at_s: Time,
    what: &'a str,
}

impl<'a> FrameRow<'a> {
    pub(crate) fn new(bus: &'a SerialBus, of: &'a Frame, base: TimeBase) -> Self {
        let field = |of: &'a Field| FieldRow {
            means: bus.names().name_of(of),
            name: of.name,
            kind: field_kind(of.kind),
            at_s: base.time_of(of.start),
            until_s: base.time_of(of.end),
            value: of.value,
            bits: of.bits,
        };
        let faults = of.faults.iter();
        FrameRow {
            bus: bus.name(),
            kind: of.kind,
            at_s: base.time_of(of.start),
            until_s: base.time_of(of.end),
            begins: of.begins,
            certain: of.certain,
            fields: of.fields.iter().map(field).collect(),
            faults: faults
                .map(|f| FaultRow { kind: f.kind, at_s: base.time_of(f.at), what: &f.what })
                .collect(),
        }
    }
}

/// A transfer: frames that belong together.
#[derive(Serialize)]
pub(crate) struct TransferRow<'a> {
    #[serde(flatten)]
    frame: FrameRow<'a>,
    lasts_s: Time,
    gap_s: Option<Time>,
    length: usize,
    text: Option<String>,
}

impl<'a> TransferRow<'a> {
    /// A transfer so many ticks after the one before.
    pub(crate) fn new(bus: &'a SerialBus, of: &'a Frame, gap: Option<i64>, base: TimeBase) -> Self {
        let text = of.text();
        TransferRow {
            frame: FrameRow::new(bus, of, base),
            lasts_s: base.length_of(of.carried_until().since(of.start)),
            gap_s: gap.map(|gap| base.length_of(gap)),
            length: of.length(),
            text,
        }
    }
}

fn field_kind(of: FieldKind) -> &'static str {
    match of {
        FieldKind::Data => "data",
        FieldKind::Address => "address",
        FieldKind::Control => "control",
        FieldKind::Check => "check",
    }
}

/// Something that is not as the setup says.
#[derive(Serialize)]
pub(crate) struct FindingRow<'a> {
    /// The buses on which it shows, parted by commas.
    bus: String,
    kind: &'a str,
    sureness: String,
    at_s: Option<Time>,
    what: &'a str,
    remedy: &'a str,
    /// The lines on which it shows, where the text does not name them.
    line_names: String,
}

/// The columns of a table of findings.
pub(crate) const FINDING_COLUMNS: &[&str] =
    &["bus", "kind", "sureness", "at_s", "what", "remedy", "line_names"];

impl<'a> FindingRow<'a> {
    pub(crate) fn new(of: &'a Finding, base: TimeBase) -> Self {
        FindingRow {
            bus: of.buses.join(", "),
            kind: of.kind,
            sureness: of.sureness.to_string(),
            at_s: of.at.map(|tick| base.time_of(tick)),
            what: &of.what,
            remedy: &of.remedy,
            line_names: of.lines.join(", "),
        }
    }
}

/// A register read or written.
#[derive(Serialize)]
pub(crate) struct AccessRow<'a> {
    pub(crate) bus: &'a str,
    pub(crate) at_s: Time,
    until_s: Time,
    /// `read` or `write`.
    access: &'static str,
    part_address: Option<u64>,
    register_number: Option<u64>,
    pub(crate) name: Option<&'a str>,
    raw: u64,
    bits: u32,
    /// In the unit.
    pub(crate) value: Option<f64>,
    pub(crate) unit: &'a str,
    cut_short: bool,
}

/// The columns of a table of accesses.
pub(crate) const ACCESS_COLUMNS: &[&str] = &[
    "bus",
    "at_s",
    "until_s",
    "access",
    "part_address",
    "register_number",
    "name",
    "raw",
    "bits",
    "value",
    "unit",
    "cut_short",
];

impl<'a> AccessRow<'a> {
    /// An access on a bus; its register is to be named.
    pub(crate) fn new(bus: &'a str, of: &Access, base: TimeBase) -> Self {
        AccessRow {
            bus,
            at_s: base.time_of(of.start),
            until_s: base.time_of(of.end),
            access: if of.write { "write" } else { "read" },
            part_address: of.part,
            register_number: of.number,
            name: None,
            raw: of.raw,
            bits: of.bits,
            value: None,
            unit: "",
            cut_short: of.cut,
        }
    }
}
