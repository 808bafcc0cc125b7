//! `diagnose`: why a bus is not read as it was meant, how sure that is, and what to change.

use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::diagnose::{Finding, diagnose_bus};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::contract::frames::{FINDING_COLUMNS, FindingRow};
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Out, remark, wrapped, write_table};

/// What was found.
#[derive(Serialize)]
struct Found<'a> {
    file: String,
    /// The buses that were looked at.
    buses: Vec<&'a str>,
    findings: Vec<FindingRow<'a>>,
}

pub(crate) fn run(args: &args::Diagnose, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let buses = loaded.buses(&args.bus)?;
    let findings: Vec<Finding> = buses.iter().flat_map(|bus| diagnose_bus(capture, bus)).collect();
    let found = Found {
        file: args.source.file.display().to_string(),
        buses: buses.iter().map(|bus| bus.name()).collect(),
        findings: findings.iter().map(|finding| FindingRow::new(finding, capture.base())).collect(),
    };
    let document = Document::new("diagnosis", &found);
    let text = || text(&found, &findings);
    write_table(&args.table, out, &document, FINDING_COLUMNS, |rows| rows.each(&found.findings), text)?;
    tell_damage(capture);
    Ok(if found.findings.is_empty() { Outcome::Done } else { Outcome::Open })
}

/// Says on standard error what a decoder's user should know before believing its frames.
pub(crate) fn tell(capture: &Capture, buses: &[&SerialBus]) {
    // Faults that no setting explains are listed with their frames.
    let findings = buses.iter().flat_map(|bus| diagnose_bus(capture, bus)).filter(|f| f.kind != "faults");
    for finding in findings {
        remark(format!("{}: {} ({}): {}", finding.bus, finding.what, finding.sureness, finding.remedy));
    }
}

fn text(found: &Found<'_>, findings: &[Finding]) -> String {
    let buses = if found.buses.len() == 1 { "bus" } else { "buses" };
    let (count, among) = (found.findings.len(), found.buses.join(", "));
    let first = match count {
        0 => "nothing is wrong with".to_string(),
        1 => "1 finding about".to_string(),
        count => format!("{count} findings about"),
    };
    let mut text = format!("{first} the {buses} {among}          {}\n", found.file);
    for finding in findings {
        let title = format!("{}: {}, {}", finding.bus, finding.kind, finding.sureness);
        text.push_str(&format!("\n{title}\n"));
        text.push_str(&wrapped(&finding.what, "  "));
        text.push_str(&wrapped(&format!("change: {}", finding.remedy), "  "));
    }
    text
}
