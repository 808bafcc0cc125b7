//! `watch`: limits checked while the samples arrive, for as long as somebody wants.

mod kept;
mod told;

use std::io::IsTerminal;
use std::ops::ControlFlow;
use std::time::{Duration, Instant};

use deep_tap::bench::connect_for;
use deep_tap::instrument::Instrument;
use deep_tap::known::Rule;
use deep_tap::limit::{BoundLimit, Watch};
use deep_tap::quantity::{Rational, Time};
use deep_tap::setup::{Setup, WatchOptions, Watched};
use deep_tap::{Error, ErrorKind};

use super::capture::now;
use super::check::{Checked, Of, Over, Suite, Verdicts, outcome};
use crate::Outcome;
use crate::args::{self, Changes, Format};
use crate::connect::{catch_interrupt, interrupted};
use crate::contract::{Document, Rows};
use crate::errors::Failure;
use crate::next::{next, path_word};
use crate::output::{Out, Pending, remark, write_table};
use crate::screen::Screen;
use crate::when_armed::WhenArmed;
use crate::words::counted;
use kept::Keeper;
use told::{Table, line};

/// How often what has arrived is looked at where it comes slowly.
const LOOK: Duration = Duration::from_millis(50);
/// Breaks of the stream after which nothing arrives any more.
const MOST_EMPTY: u32 = 3;

pub(crate) fn run(args: &args::Watch, out: &mut Out) -> Result<Outcome, Failure> {
    let changes = Changes { rate: args.rate.clone(), lines: args.lines.clone(), ..Changes::default() };
    let mut setup = changes.to(Setup::from_file(&args.setup)?)?;
    WhenArmed::tell_in(&mut setup, args.when_armed.as_deref());
    let limits = limits(&setup, &args.only)?;
    let lasting = args.lasting.as_deref().map(|text| time("--for", text)).transpose()?;
    let around = time("--around", &args.around)?;
    // What cannot be written should be known before hours of watching.
    let junit = args.junit.as_deref().map(|path| Pending::create(path, args.table.replace)).transpose()?;
    let mut instrument = connect_for(&setup, &args.setup)?;
    let text = args.table.format == Format::Text && args.table.output.is_none();
    // Where there is no screen to be had, lines will do.
    let screen = text && cfg!(feature = "view") && std::io::stdout().is_terminal();
    let screen = screen.then(Screen::open).transpose().unwrap_or_default();
    catch_interrupt();
    if !setup.expectations.is_empty() {
        remark("what is expected besides limits is not watched: check a capture of it");
    }
    let mut watching = Watching {
        args,
        limits,
        lines: text && screen.is_none(),
        screen,
        keeper: Keeper::new(args.into.clone(), &args.setup, args.keep, around),
        armed: WhenArmed::new(args.when_armed.as_deref()),
        out,
        violations: 0,
        before: Time::ZERO,
        looked: None,
        over: false,
        failure: None,
        title: args.setup.display().to_string(),
    };
    let pieces = watching.pieces(&setup, &mut *instrument, WatchOptions { around, lasting, made: None });
    // The screen is gone before anything else is said.
    watching.screen = None;
    let Watching { keeper, armed, out, failure, .. } = watching;
    let well = armed.over(pieces.is_ok());
    let pieces = pieces?;
    if let Some(failure) = failure {
        return Err(failure);
    }
    let outcome = finish(&setup, args, pieces, &keeper, junit, out)?;
    Ok(if !well? && outcome == Outcome::Done { Outcome::Open } else { outcome })
}

fn time(option: &str, text: &str) -> Result<Time, Failure> {
    match text.parse::<Time>() {
        Ok(time) if time > Time::ZERO => Ok(time),
        Ok(_) => Err(Error::new(ErrorKind::Quantity, format!("{option}: give a time above zero")).into()),
        Err(error) => {
            let told = Error::new(ErrorKind::Quantity, format!("{option}: {}", error.message()));
            Err(told.with_help("write it like '10 s'").into())
        }
    }
}

/// The limits to be watched.
fn limits(setup: &Setup, only: &[String]) -> Result<Vec<BoundLimit>, Failure> {
    if setup.limits().next().is_none() {
        let error = Error::new(ErrorKind::Setup, "the setup binds no limits, so there is nothing to watch");
        return Err(error.with_help("add a section like: [[part]] with limits = \"parts/ex-mem8.toml\", reference = \"U5\" and its pins").into());
    }
    let limits = setup.limits_named(only).map_err(|error| error.about("--only"))?;
    Ok(limits.into_iter().cloned().collect())
}

/// What is going on.
struct Watching<'a> {
    args: &'a args::Watch,
    limits: Vec<BoundLimit>,
    screen: Option<Screen>,
    /// Whether each violation is told in a line.
    lines: bool,
    keeper: Keeper,
    armed: WhenArmed,
    out: &'a mut Out,
    violations: u64,
    /// What was watched before the last gap.
    before: Time,
    looked: Option<Instant>,
    /// Whether somebody wants it to end, or it has lasted long enough.
    over: bool,
    failure: Option<Failure>,
    title: String,
}

impl Watching<'_> {
    /// Watches, again after each gap, until somebody wants it to end; nothing is judged across a gap.
    fn pieces(
        &mut self,
        setup: &Setup,
        instrument: &mut dyn Instrument,
        options: WatchOptions,
    ) -> Result<Vec<Watched>, Failure> {
        let mut pieces: Vec<Watched> = Vec::new();
        let mut empty = 0;
        loop {
            let limits = self.limits.clone();
            let mut table = Table::new(&self.title);
            let left = options.lasting.map(|all| {
                Time::from_rational(
                    all.to_rational().checked_sub(self.before.to_rational()).unwrap_or(Rational::ZERO),
                )
            });
            let options = WatchOptions { lasting: left, made: now(), ..options };
            let piece = setup.watch(instrument, limits, options, &mut |watch| self.look(watch, &mut table));
            let piece = match piece {
                Ok(piece) => piece,
                // What was watched before stands.
                Err(error) if !pieces.is_empty() => {
                    remark(format!("watching ended: {}", error.message()));
                    return Ok(pieces);
                }
                Err(error) => return Err(error.into()),
            };
            let (samples, base) = (piece.samples, piece.record.base());
            let lasted = base.length_of(i64::try_from(samples.0).unwrap_or(i64::MAX));
            self.keeper.gap();
            let before = self.before.to_rational().checked_add(lasted.to_rational());
            self.before = before.map_or(self.before, Time::from_rational);
            empty = if samples.0 < base.rate().to_f64() as u64 / 1000 { empty + 1 } else { 0 };
            let broke_off = piece.broke_off.as_ref().map(|error| error.message().to_string());
            pieces.push(piece);
            match broke_off {
                Some(why) if !self.over && !interrupted() && empty < MOST_EMPTY => {
                    remark(format!("a gap after {}: {why}; watching again", lasted.rounded(base.tick())));
                }
                Some(why) => {
                    remark(format!("the samples broke off after {}: {why}", lasted.rounded(base.tick())));
                    return Ok(pieces);
                }
                None => return Ok(pieces),
            }
        }
    }

    /// What has arrived.
    fn look(&mut self, watch: &mut Watch, table: &mut Table) -> ControlFlow<()> {
        self.armed.armed();
        if self.looked.is_none_or(|looked| looked.elapsed() >= LOOK) {
            self.looked = Some(Instant::now());
            if !watch.is_finished() {
                watch.look_now();
            }
        }
        let violations = watch.violations();
        self.violations += violations.len() as u64;
        let names: Vec<(String, String)> =
            watch.limits().map(|limit| (limit.name(), limit.limit.required.to_string())).collect();
        for violation in &violations {
            let kept = self.keeper.want(watch, violation, &names[violation.limit].0);
            if self.lines {
                let text = line(watch.base(), violation, &names[violation.limit], kept);
                self.tried(|watching| {
                    watching.out.line(text)?;
                    // Whoever follows the output wants each when it is there.
                    watching.out.finish()
                });
            }
        }
        match watch.is_finished() {
            true => self.keeper.end(watch),
            false => self.keeper.save_what_is_ripe(watch, watch.decided()),
        }
        self.renew(watch, table);
        let enough = self.args.until_violations.is_some_and(|most| self.violations >= most);
        self.over |= enough || self.failure.is_some() || self.screen.as_ref().is_some_and(Screen::is_over);
        if self.over || interrupted() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }

    /// Shows the table on the screen, where it is time for that, and heeds the keys.
    fn renew(&mut self, watch: &Watch, table: &mut Table) {
        let Some(screen) = &mut self.screen else { return };
        let shown = match screen.is_due() {
            true => screen.show(&table.text(watch, self.violations, &self.keeper)),
            false => Ok(()),
        };
        if shown.and_then(|()| screen.listen()).is_err() {
            self.over = true;
        }
    }

    fn tried(&mut self, what: impl FnOnce(&mut Self) -> Result<(), Failure>) {
        if self.failure.is_none()
            && let Err(failure) = what(self)
        {
            self.failure = Some(failure);
        }
    }
}

/// The verdicts on all that was watched.
fn finish(
    setup: &Setup,
    args: &args::Watch,
    pieces: Vec<Watched>,
    keeper: &Keeper,
    junit: Option<Pending>,
    out: &mut Out,
) -> Result<Outcome, Failure> {
    let several = pieces.len() > 1;
    let mut over = Over::default();
    let mut suite = Suite::new();
    let mut single = None;
    for (number, piece) in pieces.into_iter().enumerate() {
        piece.record.remarks().iter().for_each(remark);
        let name = match several {
            true => format!("{}, part {}", args.setup.display(), number + 1),
            false => args.setup.display().to_string(),
        };
        let checked = Checked::watched(name, setup, piece);
        suite.add(&checked);
        match several {
            true => over.add(checked)?,
            false => single = Some(checked),
        }
    }
    let kept = keeper.text();
    let advice = keeper.first().map(|file| format!("\n{}\n", next("check", path_word(file))));
    let after = format!("{kept}{}", advice.unwrap_or_default());
    let outcome = match &single {
        Some(checked) => {
            let verdicts = Verdicts::one(checked);
            let rows = |rows: &mut Rows| Of::Limits.rows(std::slice::from_ref(checked), rows);
            let text = || format!("{}{after}", checked.body());
            let document = Document::new("verdicts", &verdicts);
            write_table(&args.table, out, &document, Of::Limits.columns(), rows, text)?;
            outcome(checked.verdict)
        }
        None => {
            let verdicts = Verdicts::of(Rule::Proven, over.verdict(), &over.each, over.worst_rows());
            let rows = |rows: &mut Rows| Of::Limits.rows(&over.each, rows);
            let document = Document::new("verdicts", &verdicts);
            let text = || {
                let parts = counted(over.each.len(), "part");
                format!("{}          over {parts} between gaps\n\n{}\n{after}", over.answer(), over.grid())
            };
            write_table(&args.table, out, &document, Of::Limits.columns(), rows, text)?;
            over.outcome()
        }
    };
    if let Some(mut file) = junit {
        suite.write(&mut file)?;
        file.finish()?;
    }
    Ok(outcome)
}
