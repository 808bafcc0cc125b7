//! `diagnose`: why a bus is not read as it was meant, how sure that is, and what to change.

use deep_tap::capture::Capture;
use deep_tap::decode::SerialBus;
use deep_tap::diagnose::{Finding, diagnose_bus};
use deep_tap::quantity::Time;
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::errors::Failure;
use crate::load::{load, tell_damage};
use crate::output::{Out, remark, wrapped, write_table};
use crate::said;

/// What was found, as JSON has it.
#[derive(Serialize)]
struct Found {
    file: String,
    /// The buses that were looked at.
    buses: Vec<String>,
    findings: Vec<FoundFinding>,
}

#[derive(Serialize)]
struct FoundFinding {
    /// Seconds.
    seconds: Option<Time>,
    #[serde(flatten, serialize_with = "said::frames::finding")]
    finding: Finding,
}

pub(crate) fn run(args: &args::Diagnose, out: &mut Out) -> Result<Outcome, Failure> {
    let loaded = load(&args.source)?;
    let capture = &loaded.capture;
    let buses = loaded.buses(&args.bus)?;
    let finding = |finding: Finding| FoundFinding {
        seconds: finding.at.map(|tick| capture.base().time_of(tick)),
        finding,
    };
    let found = Found {
        file: args.source.file.display().to_string(),
        buses: buses.iter().map(|bus| bus.name().to_string()).collect(),
        findings: buses.iter().flat_map(|bus| diagnose_bus(capture, bus)).map(finding).collect(),
    };
    write_table(&args.table, out, &found, || rows(&found), || text(&found))?;
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

fn rows(found: &Found) -> Vec<Vec<String>> {
    let head = ["bus", "kind", "sureness", "at_s", "what", "remedy"];
    let mut rows = vec![head.map(str::to_string).to_vec()];
    for FoundFinding { seconds, finding } in &found.findings {
        rows.push(vec![
            finding.bus.clone(),
            finding.kind.to_string(),
            finding.sureness.to_string(),
            seconds.map_or(String::new(), |time| format!("{:e}", time.to_f64())),
            finding.what.clone(),
            finding.remedy.clone(),
        ]);
    }
    rows
}

fn text(found: &Found) -> String {
    let buses = if found.buses.len() == 1 { "bus" } else { "buses" };
    let (count, among) = (found.findings.len(), found.buses.join(", "));
    let findings = match count {
        0 => "nothing is wrong with".to_string(),
        1 => "1 finding about".to_string(),
        count => format!("{count} findings about"),
    };
    let mut text = format!("{findings} the {buses} {among}          {}\n", found.file);
    for FoundFinding { finding, .. } in &found.findings {
        let title = format!("{}: {}, {}", finding.bus, finding.kind, finding.sureness);
        text.push_str(&format!("\n{title}\n"));
        text.push_str(&wrapped(&finding.what, "  "));
        text.push_str(&wrapped(&format!("change: {}", finding.remedy), "  "));
    }
    text
}
