//! `plan`: is this setup possible, wise, and able to answer its question?

use deep_tap::instrument::Capabilities;
use deep_tap::known::Precision;
use deep_tap::limit::{BoundLimit, Outlook};
use deep_tap::line::PulseWidths;
use deep_tap::plan::{self, Plan};
use deep_tap::quantity::{Rate, Rational, SampleCount, Time, Voltage};
use deep_tap::setup::{RecordOptions, Setup};
use deep_tap::time::{Resolution, TimeBase};
use serde::Serialize;

use crate::Outcome;
use crate::args;
use crate::connect::{connect, rate_option};
use crate::errors::Failure;
use crate::output::{Grid, Mark, Out, write_table};
use crate::said;

/// What the plan says, as a program reads it.
#[derive(Serialize)]
struct Said {
    setup: String,
    instrument: String,
    rate: f64,
    tick: Time,
    samples: u64,
    before: u64,
    memory: u64,
    streamed: bool,
    skew: Time,
    analog: Vec<SaidAnalog>,
    trigger: Option<SaidTrigger>,
    limits: Vec<SaidLimit>,
    advice: Vec<SaidAdvice>,
}

#[derive(Serialize)]
struct SaidTrigger {
    text: String,
    on_board: bool,
    #[serde(serialize_with = "said::triggers::states")]
    states: deep_tap::event::StateTable,
}

#[derive(Serialize)]
struct SaidLimit {
    part: String,
    symbol: String,
    what: String,
    required: String,
    /// Whether it looks at voltages of analog lines.
    analog: bool,
    can_pass: bool,
    can_fail: bool,
    /// How far inside the limit a measured interval must be to pass.
    distance: Option<Time>,
    #[serde(skip)]
    outlook: Outlook,
    /// The lowest rate of the instrument that can decide it either way, when this one cannot.
    /// The length of the record, where it is too short for the limit.
    #[serde(rename = "record_too_short")]
    too_short: Option<Time>,
    deciding_rate: Option<f64>,
    #[serde(skip)]
    rate: Option<Rate>,
}

/// An analog line: voltages in volts, samples per second.
#[derive(Serialize)]
struct SaidAnalog {
    name: String,
    rate: Rate,
    range: String,
    step: Voltage,
    error: Voltage,
}

impl std::fmt::Display for SaidAnalog {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (step, error) = (self.step.to_f64() * 1e3, self.error.to_f64() * 1e3);
        let SaidAnalog { name, rate, range, .. } = self;
        write!(f, "{name} at {rate}, {range} in steps of {step:.2} mV, known to {error:.1} mV")
    }
}

#[derive(Serialize)]
struct SaidAdvice {
    message: String,
    help: String,
}

pub(crate) fn run(args: &args::Plan, out: &mut Out) -> Result<Outcome, Failure> {
    let setup = Setup::from_file(&args.setup)?;
    let options = RecordOptions { now: args.now, rate: rate_option(args.rate.as_deref())?, made: None };
    let program = setup.trigger_program(options)?;
    if args.dot {
        if let Some(program) = &program {
            out.line(program.state_table().to_dot().trim_end())?;
        }
        return Ok(Outcome::Done);
    }
    let instrument = connect(&setup, &args.setup)?;
    let wanted = setup.wanted(&*instrument, options)?;
    let able = instrument.capabilities();
    let plan = setup.plan(&*instrument, options)?;
    let base = TimeBase::from_rate(plan.rate)?;
    if let Some(program) = &program {
        program.at(base)?;
    }
    let resolution = able.resolution();
    let said = Said {
        setup: args.setup.display().to_string(),
        instrument: instrument.identity(),
        rate: plan.rate.to_f64(),
        tick: base.tick(),
        samples: plan.samples,
        before: plan.before,
        memory: plan.memory,
        streamed: plan.stream,
        skew: able.skew,
        analog: said_analog(&setup, &plan, &able),
        trigger: program.map(|program| SaidTrigger {
            text: program.text().to_string(),
            on_board: !plan.stream,
            states: program.state_table().clone(),
        }),
        limits: setup
            .limits()
            .map(|limit| said_limit(limit, base, &resolution, &plan, &setup))
            .collect::<Result<_, _>>()?,
        advice: plan::advice(&wanted, &plan)
            .into_iter()
            .map(|advice| SaidAdvice { message: advice.message, help: advice.help })
            .collect(),
    };
    write_table(&args.table, out, &said, || rows(&said.limits), || text(&said, &plan, &able, base))?;
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
            name: line.line.name.clone(),
            rate: rate?,
            range: range.to_string(),
            step: scale.step(),
            error: scale.error(),
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
    let stated: Vec<PulseWidths> = setup.lines.iter().map(|line| line.line.pulses).collect();
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
        part: limit.reference.clone(),
        symbol: limit.limit.symbol.clone(),
        what: limit.limit.what.clone(),
        required: limit.limit.required.to_string(),
        analog: limit.is_analog(),
        can_pass: outlook.can_pass,
        can_fail: outlook.can_fail,
        distance: outlook.distance,
        too_short: (outlook != any).then_some(record),
        outlook,
        deciding_rate: rate.map(Rate::to_f64),
        rate,
    })
}

/// The limits as a program reads them.
fn rows(limits: &[SaidLimit]) -> Vec<Vec<String>> {
    let header =
        ["part", "limit", "what", "required", "can_pass", "can_fail", "margin_s", "deciding_S_per_s"];
    let mut rows = vec![header.iter().map(ToString::to_string).collect::<Vec<_>>()];
    let number = |value: Option<f64>| value.map_or(String::new(), |value| format!("{value:e}"));
    for limit in limits {
        rows.push(vec![
            limit.part.clone(),
            limit.symbol.clone(),
            limit.what.clone(),
            limit.required.clone(),
            limit.outlook.can_pass.to_string(),
            limit.outlook.can_fail.to_string(),
            number(limit.outlook.distance.map(Time::to_f64)),
            number(limit.deciding_rate),
        ]);
    }
    rows
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
        at_rate.push_str(&match limit.rate {
            _ if limit.too_short.is_some() => {
                let record = limit.too_short.map_or(String::new(), |record| record.to_string());
                format!(": a record of {record} is too short")
            }
            Some(rate) => format!(": {rate} can"),
            None if limit.analog => ", as fast as the analog lines are sampled".to_string(),
            None => ", at no rate of the instrument".to_string(),
        });
    }
    let distance = outlook.distance.map_or("-".to_string(), |d| d.to_string());
    vec![
        limit.part.clone(),
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
        Some(_) => fact("trigger", "looked for by the host in the stream".to_string()),
        None => fact("trigger", "none: the record begins at once".to_string()),
    }
    if let Some(trigger) = &said.trigger {
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
