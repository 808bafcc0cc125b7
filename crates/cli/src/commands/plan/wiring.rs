//! `plan --wiring`: which lead goes where, to print and to hold at the bench.

use deep_tap::line::Level;
use deep_tap::quantity::Voltage;
use deep_tap::setup::{Lead, Setup};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::Document;
use crate::errors::Failure;
use crate::next::{next, path_word};
use crate::output::{Grid, Mark, Out, write_table};
use crate::words::counted;

/// The sheet, as a program reads it.
#[derive(Serialize)]
struct Said<'a> {
    setup: String,
    title: Option<&'a str>,
    instrument: String,
    leads: Vec<SaidLead>,
}

#[derive(Serialize)]
struct SaidLead {
    input: Option<u32>,
    analog: bool,
    bank: Option<String>,
    line: String,
    pins: Vec<String>,
    threshold_v: Option<Voltage>,
    made: Vec<SaidMade>,
    swing_v: Option<Voltage>,
    stands_v: Option<Voltage>,
    rests: Option<Level>,
    too_high: bool,
}

#[derive(Serialize)]
struct SaidMade {
    line: String,
    threshold_v: Voltage,
}

const COLUMNS: &[&str] =
    &["input", "analog", "bank", "line", "pins", "threshold_v", "swing_v", "stands_v", "rests", "too_high"];

pub(super) fn run(
    args: &args::Plan,
    setup: &Setup,
    instrument: (String, &[Lead]),
    out: &mut Out,
) -> Result<Outcome, Failure> {
    let (identity, leads) = instrument;
    let said = Said {
        setup: args.setup.display().to_string(),
        title: setup.title.as_deref(),
        instrument: identity,
        leads: leads.iter().map(said_lead).collect(),
    };
    let document = Document::new("wiring", &said);
    let text = || format!("{}\n{}\n", text(&said), next("live", path_word(&args.setup)));
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(&said.leads), text)?;
    Ok(if said.leads.iter().any(|lead| lead.too_high) { Outcome::Open } else { Outcome::Done })
}

fn said_lead(lead: &Lead) -> SaidLead {
    let made =
        |(line, threshold): &(String, Voltage)| SaidMade { line: line.clone(), threshold_v: *threshold };
    SaidLead {
        input: lead.input,
        analog: lead.analog,
        bank: lead.bank.clone(),
        line: lead.line.clone(),
        pins: lead.pins.clone(),
        threshold_v: lead.threshold,
        made: lead.made.iter().map(made).collect(),
        swing_v: lead.swing,
        stands_v: lead.stands,
        rests: lead.rests,
        too_high: lead.swing.zip(lead.stands).is_some_and(|(swing, stands)| swing > stands),
    }
}

fn text(said: &Said<'_>) -> String {
    let count = said.leads.len();
    let leads = counted(count, "lead");
    let too_high = said.leads.iter().filter(|lead| lead.too_high).count();
    let first = match too_high {
        0 => leads,
        1 => format!("{leads}, DO NOT CONNECT 1: it swings above what its input stands"),
        n => format!("{leads}, DO NOT CONNECT {n}: they swing above what their inputs stand"),
    };
    let mut text = format!("{first}          {}\n", said.setup);
    text.extend(said.title.map(|title| format!("{title}\n")));
    text.push_str(&format!("{}\n\n", said.instrument));
    let mut grid =
        Grid::new(&["input", "bank", "line", "pins", "threshold", "swing", "stands", "rests"], &[0]);
    let dash = || "-".to_string();
    let volts = |volts: Option<Voltage>| volts.map_or_else(dash, |volts| volts.to_string());
    for lead in &said.leads {
        let threshold = match lead.made.is_empty() {
            true => volts(lead.threshold_v),
            false => lead
                .made
                .iter()
                .map(|made| format!("{} {}", made.line, made.threshold_v))
                .collect::<Vec<_>>()
                .join(", "),
        };
        let cells = vec![
            lead.input.map_or_else(dash, |input| input.to_string()),
            lead.bank.clone().unwrap_or_else(dash),
            lead.line.clone(),
            if lead.pins.is_empty() { dash() } else { lead.pins.join(" ") },
            threshold,
            volts(lead.swing_v),
            volts(lead.stands_v),
            lead.rests.map_or_else(dash, |level| level.to_string()),
        ];
        grid.row_with_mark(cells, if lead.too_high { Mark::Bad } else { Mark::None });
    }
    text.push_str(&grid.text());
    text.push_str("\n\nground first: the instrument's ground on the board's, before any input\n");
    text
}
