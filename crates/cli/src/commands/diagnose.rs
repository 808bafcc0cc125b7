//! `diagnose`: why a bus is not read as it was meant, how sure that is, and what to change.

use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::diagnose::{Finding, diagnose_buses};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::contract::frames::{FINDING_COLUMNS, FindingRow};
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::next::{next, source_words};
use crate::output::{Out, Working, remark, wrapped, write_table};

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
    let working = Working::on("looking at the buses");
    let findings: Vec<Finding> = diagnose_buses(capture, &buses);
    drop(working);
    let found = Found {
        file: args.source.file.display().to_string(),
        buses: buses.iter().map(|bus| bus.name()).collect(),
        findings: findings.iter().map(|finding| FindingRow::new(finding, capture.base())).collect(),
    };
    let document = Document::new("diagnosis", &found);
    let text = || {
        let text = text(&found, &findings);
        match findings.is_empty() {
            true => format!("{text}\n{}\n", next("frames", source_words(&args.source))),
            false => text,
        }
    };
    write_table(&args.table, out, &document, FINDING_COLUMNS, |rows| rows.each(&found.findings), text)?;
    tell_damage(capture);
    Ok(if found.findings.is_empty() { Outcome::Done } else { Outcome::Open })
}

/// Says on standard error why what is read should not be believed: the most likely cause, once.
pub(crate) fn tell(capture: &Capture, buses: &[&SerialBus], file: &Path) {
    let findings: Vec<Finding> =
        diagnose_buses(capture, buses).into_iter().filter(Finding::misreads).collect();
    let Some(first) = findings.first() else { return };
    let (buses, what, remedy) = (first.buses.join(", "), first.said(), &first.remedy);
    remark(format!("{buses}: {what} ({}): {remedy}", first.sureness));
    if findings.len() > 1 {
        remark(format!("{} more: deep-tap diagnose {}", findings.len() - 1, file.display()));
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
        let title = format!("{}: {}, {}", finding.buses.join(", "), finding.kind, finding.sureness);
        text.push_str(&format!("\n{title}\n"));
        text.push_str(&wrapped(&finding.said(), "  "));
        text.push_str(&wrapped(&format!("change: {}", finding.remedy), "  "));
    }
    text
}
