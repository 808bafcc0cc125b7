//! `plan`: is this setup possible, wise, and able to answer its question?

mod wiring;

use deep_tap::bench::connect_for;
use deep_tap::event::StateTable;
use deep_tap::instrument::Capabilities;
use deep_tap::known::{PlannedLine, Precision};
use deep_tap::limit::{BoundLimit, Outlook};
use deep_tap::plan::{self, Plan};
use deep_tap::quantity::{Rate, Rational, SampleCount, Time, Voltage};
use deep_tap::setup::{LevelSource, RecordOptions, Setup, SetupLine};
use deep_tap::time::{Resolution, TimeBase};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::contract::limits::RequiredEnds;
use crate::contract::{self, Document};
use crate::errors::Failure;
use crate::next::{changes_words, next, path_word};
use crate::output::{Grid, Mark, Out, write_table};

/// What the plan says, as a program reads it.
#[derive(Serialize)]
struct Said {
    setup: String,
    instrument: String,
    rate_hz: Rate,
    tick_s: Time,
    samples: u64,
    samples_before_trigger: u64,
    memory_samples: u64,
    streamed: bool,
    skew_s: Time,
    analog: Vec<SaidAnalog>,
    trigger: Option<SaidTrigger>,
    limits: Vec<SaidLimit>,
    advice: Vec<SaidAdvice>,
}

#[derive(Serialize)]
struct SaidTrigger {
    text: String,
    on_board: bool,
    #[serde(flatten, serialize_with = "contract::triggers::states")]
    states: StateTable,
}

#[derive(Serialize)]
struct SaidLimit {
    reference: String,
    part: String,
    symbol: String,
    what: String,
    unit: String,
    #[serde(flatten)]
    ends: RequiredEnds,
    #[serde(skip)]
    required: String,
    /// Whether it looks at voltages of analog lines.
    analog: bool,
    can_pass: bool,
    can_fail: bool,
    /// How far inside the limit a measured interval must be to pass.
    margin_needed_s: Option<Time>,
    #[serde(skip)]
    outlook: Outlook,
    /// The length of the record, where it is too short for the limit.
    too_short_s: Option<Time>,
    /// The lowest rate of the instrument that can decide it either way, when this one cannot.
    deciding_rate_hz: Option<Rate>,
}

const COLUMNS: &[&str] = &[
    "reference",
    "part",
    "symbol",
    "what",
    "unit",
    "min",
    "max",
    "outside",
    "can_pass",
    "can_fail",
    "margin_needed_s",
    "too_short_s",
    "deciding_rate_hz",
];

/// An analog line.
#[derive(Serialize)]
struct SaidAnalog {
    line: String,
    rate_hz: Rate,
    range: String,
    /// Of one code, and how far a sample may be off.
    step_v: Voltage,
    error_v: Voltage,
}

impl std::fmt::Display for SaidAnalog {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (step, error) = (self.step_v.to_f64() * 1e3, self.error_v.to_f64() * 1e3);
        let SaidAnalog { line, rate_hz, range, .. } = self;
        write!(f, "{line} at {rate_hz}, {range} in steps of {step:.2} mV, known to {error:.1} mV")
    }
}

#[derive(Serialize)]
struct SaidAdvice {
    message: String,
    help: String,
}

pub(crate) fn run(args: &args::Plan, out: &mut Out) -> Result<Outcome, Failure> {
    let setup = args.changes.to(Setup::from_file(&args.setup)?)?;
    let options = RecordOptions { now: args.now, made: None };
    let program = setup.trigger_program(options)?;
    if args.dot {
        if let Some(program) = &program {
            out.line(program.state_table().to_dot().trim_end())?;
        }
        return Ok(Outcome::Done);
    }
    let instrument = connect_for(&setup, &args.setup)?;
    let able = instrument.capabilities();
    if args.wiring {
        return wiring::run(args, &setup, (instrument.identity(), &setup.leads(&able)), out);
    }
    let wanted = setup.wanted(&*instrument, options)?;
    let plan = setup.plan(&*instrument, options)?;
    let base = TimeBase::from_rate(plan.rate)?;
    if let Some(program) = &program {
        program.at(base)?;
    }
    let resolution = able.resolution();
    let said = Said {
        setup: args.setup.display().to_string(),
        instrument: instrument.identity(),
        rate_hz: plan.rate,
        tick_s: base.tick(),
        samples: plan.samples,
        samples_before_trigger: plan.before,
        memory_samples: plan.memory,
        streamed: plan.stream,
        skew_s: able.skew,
        analog: said_analog(&setup, &plan, &able),
        trigger: program
            .map(|program| SaidTrigger {
                text: program.text().to_string(),
                on_board: !plan.stream,
                states: program.state_table().clone(),
            })
            .or(setup.violation_text(options).map(|text| SaidTrigger {
                text,
                on_board: false,
                states: StateTable::default(),
            })),
        limits: setup
            .limits()
            .map(|limit| said_limit(limit, base, &resolution, &plan, &setup))
            .collect::<Result<_, _>>()?,
        advice: plan::advice(&wanted, &plan)
            .into_iter()
            .map(|advice| SaidAdvice { message: advice.message, help: advice.help })
            .collect(),
    };
    let document = Document::new("plan", &said);
    let changes = changes_words(&args.changes);
    let now = if args.now { " --now" } else { "" };
    let typed = format!("{}{changes}{now}", path_word(&args.setup));
    let text = || format!("{}\n{}\n", text(&said, &plan, &able, base), next("capture", &typed));
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(&said.limits), text)?;
    let open = said.limits.iter().any(|limit| !limit.outlook.is_open());
    Ok(if open || !said.advice.is_empty() { Outcome::Open } else { Outcome::Done })
}

/// What is recorded of each analog line.
fn said_analog(setup: &Setup, plan: &Plan, able: &Capabilities) -> Vec<SaidAnalog> {
    let every = i64::try_from(plan.analog_every.max(1)).unwrap_or(i64::MAX);
    let rate = plan.rate.to_rational().checked_div(Rational::from(every)).map(Rate::from_rational);
    let lines = setup.analog.iter().zip(&plan.analog);
    let said = lines.filter_map(|(line, range)| {
        let scale = able.analog.as_ref()?.scale(*range)?;
        Some(SaidAnalog {
            line: line.line.name.clone(),
            rate_hz: rate?,
            range: range.to_string(),
            step_v: scale.step(),
            error_v: scale.error(),
        })
    });
    said.collect()
}

fn said_limit(
    limit: &BoundLimit,
    base: TimeBase,
    resolution: &Resolution,
    plan: &Plan,
    setup: &Setup,
) -> Result<SaidLimit, Failure> {
    let analog_step = base.length_of(i64::try_from(plan.analog_every).unwrap_or(i64::MAX));
    let planned = |line: &SetupLine| PlannedLine {
        pulses: line.line.pulses,
        analog: matches!(line.source, LevelSource::Analog { .. }),
    };
    let stated: Vec<PlannedLine> = setup.lines.iter().map(planned).collect();
    let any = limit.outlook(&Precision::planned(base, resolution, analog_step).stating(&stated))?;
    let record = base.length_of(i64::try_from(plan.samples).unwrap_or(i64::MAX));
    let outlook = any.within(record, limit.limit.required);
    // Another rate of the digital lines is no other rate of the analog ones.
    let rate = if any.is_open() || limit.is_analog() {
        None
    } else {
        limit.deciding_rate(&plan.rates, resolution, analog_step, &stated)
    };
    Ok(SaidLimit {
        reference: limit.reference.clone(),
        part: limit.part.clone(),
        symbol: limit.limit.symbol.clone(),
        what: limit.limit.what.clone(),
        unit: limit.limit.kind().unit().to_string(),
        ends: limit.limit.required.into(),
        required: limit.limit.required.to_string(),
        analog: limit.is_analog(),
        can_pass: outlook.can_pass,
        can_fail: outlook.can_fail,
        margin_needed_s: outlook.distance,
        too_short_s: (outlook != any).then_some(record),
        outlook,
        deciding_rate_hz: rate,
    })
}

const HEADER: [&str; 6] = ["part", "limit", "what", "required", "margin needed", "at this rate"];

fn cells(limit: &SaidLimit) -> Vec<String> {
    let outlook = limit.outlook;
    let mut at_rate = match (outlook.can_pass, outlook.can_fail) {
        (true, true) => "can be decided".to_string(),
        (true, false) => "a violation cannot be proven".to_string(),
        (false, true) => "a pass cannot be proven".to_string(),
        (false, false) => "cannot be decided".to_string(),
    };
    if !outlook.is_open() {
        at_rate.push_str(&match limit.deciding_rate_hz {
            _ if limit.too_short_s.is_some() => {
                let record = limit.too_short_s.map_or(String::new(), |record| record.to_string());
                format!(": a record of {record} is too short")
            }
            Some(rate) => format!(": {rate} can"),
            None if limit.analog => ", as fast as the analog lines are sampled".to_string(),
            None => ", at no rate of the instrument".to_string(),
        });
    }
    let distance = outlook.distance.map_or("-".to_string(), |d| d.to_string());
    vec![
        limit.reference.clone(),
        limit.symbol.clone(),
        limit.what.clone(),
        limit.required.clone(),
        distance,
        at_rate,
    ]
}

fn text(said: &Said, plan: &Plan, able: &Capabilities, base: TimeBase) -> String {
    let open = said.limits.iter().filter(|limit| !limit.outlook.is_open()).count();
    let mut first = vec!["possible".to_string()];
    if !said.advice.is_empty() {
        first.push(format!("{} unwise", said.advice.len()));
    }
    if open > 0 {
        first.push(format!("{open} of {} limits cannot be decided either way", said.limits.len()));
    }
    let mut text = format!("{}          {}, {}\n\n", first.join(", "), said.setup, plan.rate);
    let mut fact = |name: &str, value: String| text.push_str(&format!("{name:<12}{value}\n"));
    let length = |samples: u64| base.length_of(i64::try_from(samples).unwrap_or(i64::MAX));
    fact("instrument", said.instrument.clone());
    let (before, after) = (length(plan.before), length(plan.samples - plan.before));
    let window = match &said.trigger {
        Some(_) => format!("{}: {before} before the trigger, {after} from it on", length(plan.samples)),
        None => length(plan.samples).to_string(),
    };
    fact("window", window);
    fact(
        "resolution",
        format!("{} per sample; skew up to {}, time base within {}", base.tick(), able.skew, able.accuracy),
    );
    let memory = if plan.stream {
        format!("{}, streamed to the host while recording", SampleCount(plan.samples))
    } else {
        let share = plan.samples as f64 / plan.memory as f64 * 100.0;
        format!("{} of {} on board ({share:.1} %)", SampleCount(plan.samples), SampleCount(plan.memory))
    };
    fact("memory", memory);
    for (number, line) in said.analog.iter().enumerate() {
        fact(if number == 0 { "analog" } else { "" }, line.to_string());
    }
    match &said.trigger {
        Some(trigger) if trigger.on_board => fact("trigger", "looked for on board".to_string()),
        Some(trigger) if trigger.states.states.is_empty() => {
            fact("trigger", format!("{}: the host checks the limits as the samples arrive", trigger.text));
        }
        Some(_) => fact("trigger", "looked for by the host in the stream".to_string()),
        None => fact("trigger", "none: the record begins at once".to_string()),
    }
    if let Some(trigger) = said.trigger.as_ref().filter(|trigger| !trigger.states.states.is_empty()) {
        let mut grid = Grid::new(&["state", "waits", "then"], &[]);
        for state in &trigger.states.states {
            for (place, arm) in state.arms.iter().enumerate() {
                let name = if place == 0 { state.name.clone() } else { String::new() };
                grid.row(vec![name, arm.when.clone(), trigger.states.does(arm)]);
            }
        }
        text.push_str(&format!("\n{}\n", grid.text()));
    }
    if !said.limits.is_empty() {
        let mut grid = Grid::new(&HEADER, &[4]);
        for limit in &said.limits {
            let mark = if limit.outlook.is_open() { Mark::None } else { Mark::Open };
            grid.row_with_mark(cells(limit), mark);
        }
        text.push_str(&format!("\n{}\n", grid.text()));
    }
    for advice in &said.advice {
        text.push_str(&format!("\nunwise: {}\n        {}\n", advice.message, advice.help));
    }
    text
}
