//! `live`: the state of every line, renewed on a terminal.

use std::cell::RefCell;
use std::io::IsTerminal;
use std::ops::ControlFlow;

use deep_tap::bench::connect_for;
use deep_tap::capture::Capture;
use deep_tap::instrument::{Instrument, Progress};
use deep_tap::line::{Input, Level};
use deep_tap::measure::{Activity, LineActivity};
use deep_tap::plan::{Before, Length};
use deep_tap::quantity::{Rate, Time, rough};
use deep_tap::scan::Samples;
use deep_tap::setup::{CaptureSink, LevelSource, Misfit, RecordOptions, Sampling, Setup, SetupLine};
use deep_tap::{Error, ErrorKind};
use serde::Serialize;

use crate::Outcome;
use crate::args::{self, Changes, Format};
use crate::connect::{catch_interrupt, interrupted};
use crate::contract::Document;
use crate::contract::lines::ActivityRow;
use crate::errors::Failure;
use crate::next::{changes_words, next, path_word};
use crate::output::{Grid, Mark, Out, remark, write_table};
use crate::screen::Screen;

/// What the lines did, as a program reads it.
#[derive(Serialize)]
struct Said {
    setup: String,
    rate_hz: Rate,
    /// How much signal since the beginning, and how much of it "recent" means.
    seen_s: f64,
    recent_s: f64,
    /// How many pins too high the connector seems to sit.
    pins_shifted: Option<i64>,
    lines: Vec<SaidLine>,
}

#[derive(Serialize)]
struct SaidLine {
    line: String,
    input: Option<String>,
    /// Whether it has changed since the beginning.
    alive: bool,
    #[serde(skip)]
    number: Option<u32>,
    #[serde(skip)]
    recorded: bool,
    #[serde(flatten)]
    row: ActivityRow,
    #[serde(skip)]
    activity: LineActivity,
    /// Mean rate of full periods over the recent seconds.
    frequency_hz: f64,
    /// The same within bursts, where it comes in such.
    frequency_in_bursts_hz: Option<f64>,
    /// Whether it may have had pulses that are narrower than a sample.
    may_hide_pulses: bool,
    /// What is not as the setup says.
    doubt: Option<String>,
}

pub(crate) fn run(args: &args::Live, out: &mut Out) -> Result<Outcome, Failure> {
    let changes = Changes { rate: args.rate.clone(), lines: args.lines.clone(), ..Changes::default() };
    let mut setup = changes.to(Setup::from_file(&args.setup)?)?;
    let over = match args.over.parse::<Time>() {
        Ok(time) if time > Time::ZERO => time,
        Ok(_) => return Err(Error::new(ErrorKind::Quantity, "--over: give a time above zero").into()),
        Err(error) => {
            let told = Error::new(ErrorKind::Quantity, format!("--over: {}", error.message()));
            return Err(told.with_help("write it like '100 ms'").into());
        }
    };
    let options = RecordOptions { now: true, made: None };
    let wanted = args.table.format == Format::Text
        && args.table.output.is_none()
        && !args.once
        && cfg!(feature = "view")
        && std::io::stdout().is_terminal();
    let instrument = &mut *connect_for(&setup, &args.setup)?;
    // Where there is no screen to be had, one table will do.
    let screen = wanted.then(Screen::open).transpose().unwrap_or_default();
    let wanted = screen.is_some();
    // A view has no end of its own; where the instrument cannot stream it is made of short records.
    let lasting = |setup: &mut Setup, length: Length| {
        let before = Before::Time(Time::ZERO);
        setup.sampling = setup.sampling.map(|sampling| Sampling { length, before, ..sampling });
    };
    lasting(&mut setup, if wanted { Length::Samples(1 << 39) } else { Length::Time(over) });
    if wanted && setup.plan(instrument, options).is_err() {
        lasting(&mut setup, Length::Time(over));
    }
    let rate = setup.plan(instrument, options)?.rate;
    catch_interrupt();
    let watched = RefCell::new(Activity::new(setup.lines.len()).beside(&setup.neighbours()));
    let said = |activity: &Activity| said(&setup, &args.setup.display().to_string(), activity, rate);
    // The screen is gone before anything else is said.
    let remarks = watch(&setup, instrument, screen, &watched, |activity| text(&said(activity)))?;
    remarks.iter().for_each(remark);
    let said = said(&watched.borrow());
    let document = Document::new("activity", &said);
    let doubts = said.lines.iter().any(|line| line.doubt.is_some());
    let typed = || format!("{}{}", path_word(&args.setup), changes_words(&changes));
    let next = if doubts { String::new() } else { format!("\n{}\n", next("plan", typed())) };
    // What was last seen on a screen of its own stays in the terminal.
    let text = || text(&said) + &next;
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.each(&said.lines), text)?;
    Ok(if doubts { Outcome::Open } else { Outcome::Done })
}

/// Lets the samples pass by until somebody wants to go, or without a screen until they have; what the instrument
/// says of them.
fn watch(
    setup: &Setup,
    instrument: &mut dyn Instrument,
    mut screen: Option<Screen>,
    watched: &RefCell<Activity>,
    text: impl Fn(&Activity) -> String,
) -> Result<Vec<String>, Failure> {
    let options = RecordOptions { now: true, made: None };
    loop {
        let mut sink = Watch(watched);
        let done = setup.record_into(instrument, options, &mut sink, &mut |progress| {
            let heard = match &mut screen {
                Some(screen) => {
                    let waits = matches!(progress, Progress::Waiting { .. });
                    renew(screen, waits, &mut watched.borrow_mut(), &text)
                }
                None => ControlFlow::Continue(()),
            };
            if interrupted() { ControlFlow::Break(()) } else { heard }
        })?;
        if interrupted() || screen.as_ref().is_none_or(Screen::is_over) {
            return Ok(done.remarks().to_vec());
        }
    }
}

/// Shows what the lines do now, where it is time for that, and heeds the keys.
fn renew(
    screen: &mut Screen,
    waits: bool,
    activity: &mut Activity,
    text: &impl Fn(&Activity) -> String,
) -> ControlFlow<()> {
    if !waits && screen.is_due() && activity.window() > 0 {
        let shown = screen.show(&text(activity));
        activity.begin_window();
        if shown.is_err() {
            return ControlFlow::Break(());
        }
    }
    match screen.listen() {
        Ok(false) => ControlFlow::Continue(()),
        Ok(true) | Err(_) => ControlFlow::Break(()),
    }
}

/// Lets the samples pass by.
struct Watch<'a>(&'a RefCell<Activity>);

impl CaptureSink for Watch<'_> {
    fn begin(&mut self, _: Capture) -> Result<(), Error> {
        Ok(())
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<(), Error> {
        self.0.borrow_mut().push(samples);
        Ok(())
    }
}

/// What does not fit, in words.
fn told(misfit: Misfit, line: &SetupLine) -> String {
    match misfit {
        Misfit::Silent => "stated to toggle, but never changed".to_string(),
        Misfit::TooFast => "faster than stated".to_string(),
        Misfit::Rests(Level::Unknown) => {
            format!("stated to rest {}, but rests at neither level", line.rests.unwrap_or(Level::Unknown))
        }
        Misfit::Rests(level) => format!("rests {level}, not as stated"),
        Misfit::Echoes => "only echoes the leads beside it: is its own connected?".to_string(),
        _ => "its level is unknown".to_string(),
    }
}

fn said(setup: &Setup, file: &str, activity: &Activity, rate: Rate) -> Said {
    let seconds = |samples: u64| samples as f64 / rate.to_f64();
    // Before the first renewal, everything is recent.
    let (window, recent) = match activity.window() {
        0 => (activity.position(), true),
        window => (window, false),
    };
    let misfits = setup.misfits(activity, rate, !recent);
    let line = |(number, ((line, of), misfit)): (usize, ((&SetupLine, &LineActivity), &Option<Misfit>))| {
        let edges = if recent { of.edges } else { of.recent };
        let frequency = edges as f64 / 2.0 / seconds(window).max(f64::MIN_POSITIVE);
        let doubt = misfit.map(|misfit| told(misfit, line));
        SaidLine {
            line: line.line.name.clone(),
            input: line.line.input.as_ref().map(ToString::to_string),
            alive: of.edges > 0,
            number: match line.line.input {
                Some(Input::Number(number)) => Some(number),
                Some(Input::Signal(_)) | None => None,
            },
            recorded: line.source != LevelSource::LeftOut,
            row: ActivityRow::new(of, rate),
            activity: *of,
            frequency_hz: frequency,
            frequency_in_bursts_hz: activity.period_in_bursts(number).map(|samples| rate.to_f64() / samples),
            may_hide_pulses: may_hide(line, of, rate),
            doubt,
        }
    };
    let mut lines: Vec<SaidLine> =
        setup.lines.iter().zip(activity.lines()).zip(&misfits).enumerate().map(line).collect();
    lines.retain(|line| line.recorded);
    // As on the wiring sheet.
    lines.sort_by_key(|line| line.number.unwrap_or(u32::MAX));
    Said {
        setup: file.to_string(),
        rate_hz: rate,
        seen_s: seconds(activity.position()),
        recent_s: seconds(window),
        pins_shifted: setup.shift(activity, rate),
        lines,
    }
}

/// Whether a line may have had pulses that fit between two samples: by what is stated of it, or by what was seen.
fn may_hide(line: &SetupLine, seen: &LineActivity, rate: Rate) -> bool {
    let fits = |seconds: f64| seconds * rate.to_f64() <= 1.0;
    let pulses = line.line.pulses;
    match (pulses.shortest, pulses.fastest) {
        (Some(shortest), _) => fits(shortest.to_f64()),
        (None, Some(fastest)) if fits(0.5 / fastest.to_f64()) => true,
        (None, _) => seen.single.is_some(),
    }
}

const COLUMNS: &[&str] = &[
    "line",
    "input",
    "alive",
    "level",
    "edges",
    "frequency_hz",
    "frequency_in_bursts_hz",
    "may_hide_pulses",
    "doubt",
];

const HEADER: [&str; 7] = ["alive", "input", "line", "level", "now", "edges", "remark"];

fn cells(line: &SaidLine) -> Vec<String> {
    let now = match (line.activity.edges, line.frequency_hz) {
        (0, _) => "never changed".to_string(),
        (_, 0.0) => "steady".to_string(),
        (1, _) => "changed once".to_string(),
        // Too few for a rate.
        (edges @ 2..=5, _) => format!("changed {edges} times"),
        (_, frequency) => match line.frequency_in_bursts_hz {
            Some(within) => format!("bursts of about {}", rough(within, 2, "Hz")),
            None => format!("about {}", rough(frequency, 2, "Hz")),
        },
    };
    let hides = match line.activity.single {
        Some(_) => "pulses of one sample: narrower ones may be missed",
        None => "its pulses may be too short for this rate",
    };
    let remark =
        line.doubt.clone().unwrap_or_else(|| if line.may_hide_pulses { hides.into() } else { String::new() });
    vec![
        if line.alive { "✓".to_string() } else { String::new() },
        line.input.clone().unwrap_or_else(|| "-".into()),
        line.line.clone(),
        line.activity.level.to_string(),
        now,
        line.activity.edges.to_string(),
        remark,
    ]
}

fn text(said: &Said) -> String {
    let alive = said.lines.iter().filter(|line| line.activity.edges > 0).count();
    let doubts = said.lines.iter().filter(|line| line.doubt.is_some()).count();
    let mut first = format!("{alive} of {} lines have changed", said.lines.len());
    if doubts > 0 {
        first.push_str(&format!(", {doubts} not as stated"));
    }
    if let Some(pins) = said.pins_shifted {
        let (count, where_to) = (pins.abs(), if pins > 0 { "high" } else { "low" });
        let pins = if count == 1 { "pin" } else { "pins" };
        first.push_str(&format!(
            "\nthe connector seems to sit {count} {pins} too {where_to}: what is stated of each line is seen that far beside its input"
        ));
    }
    let mut grid = Grid::new(&HEADER, &[1, 5]);
    for line in &said.lines {
        let mark = if line.doubt.is_some() { Mark::Open } else { Mark::None };
        grid.row_with_mark(cells(line), mark);
    }
    let (answer, more) = first.split_once('\n').unwrap_or((&first, ""));
    let more = if more.is_empty() { String::new() } else { format!("{more}\n") };
    format!(
        "{answer}          {}, {}, {:.3} s of signal\n{more}\n{}\n",
        said.setup,
        said.rate_hz,
        said.seen_s,
        grid.text()
    )
}
