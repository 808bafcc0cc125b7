//! The command-line tool `deep-tap`: a thin layer on the library.

mod args;
mod commands;
mod connect;
mod contract;
mod errors;
#[cfg(all(unix, feature = "view"))]
mod gone;
mod load;
mod next;
mod output;
mod picture;
mod report;
mod rows;
mod screen;
mod tables;
#[cfg(feature = "view")]
mod view;
mod when_armed;
mod words;

use std::process::ExitCode;

use clap::Parser;

use args::{Args, Command};
use errors::Failure;
use output::Out;

/// How a command ended when it could do its work.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Outcome {
    /// Done; for `check`, all passed.
    Done,
    /// A limit is violated, or nothing was found.
    Violated,
    /// No violation, but something is inconclusive or was not seen.
    Open,
}

impl From<Outcome> for ExitCode {
    fn from(outcome: Outcome) -> ExitCode {
        ExitCode::from(match outcome {
            Outcome::Done => 0,
            Outcome::Violated => 1,
            Outcome::Open => 3,
        })
    }
}

fn main() -> ExitCode {
    let args = Args::parse();
    let mut out = Out::stdout();
    let result = match args.command {
        Command::Demo(demo) => commands::demo::run(&demo, &mut out),
        Command::Init(init) => commands::init::run(&init, &mut out),
        Command::Plan(plan) => commands::plan::run(&plan, &mut out),
        Command::Live(live) => commands::live::run(&live, &mut out),
        Command::Capture(capture) => commands::capture::run(&capture, &mut out),
        Command::Watch(watch) => commands::watch::run(&watch, &mut out),
        Command::Info(info) => commands::info::run(&info, &mut out),
        Command::Find(find) => commands::find::run(&find, &mut out),
        Command::Frames(frames) => commands::frames::run(&frames, &mut out),
        Command::Answers(answers) => commands::answers::run(&answers, &mut out),
        Command::Registers(registers) => commands::registers::run(&registers, &mut out),
        Command::Diagnose(diagnose) => commands::diagnose::run(&diagnose, &mut out),
        Command::Roles(roles) => commands::roles::run(&roles, &mut out),
        Command::Glitches(glitches) => commands::glitches::run(&glitches, &mut out),
        Command::Measure(measure) => commands::measure::run(&measure, &mut out),
        Command::Check(check) => commands::check::run(&check, &mut out),
        Command::Mark(mark) => commands::mark::run(&mark, &mut out),
        Command::Show(show) => commands::show::run(&show, &mut out),
        #[cfg(feature = "view")]
        Command::View(view) => view::run(&view, &mut out),
        Command::Compare(compare) => commands::compare::run(&compare, &mut out),
        Command::Report(wanted) => report::run(&wanted, &mut out),
        Command::Convert(convert) => commands::convert::run(&convert, &mut out),
        Command::Serve(serve) => commands::serve::run(&serve, &mut out),
    };
    // What was said before something failed is said, and comes first.
    let finished = out.finish();
    match result.and_then(|outcome| finished.map(|()| outcome)) {
        Ok(outcome) => outcome.into(),
        // Whoever reads our output has seen enough.
        Err(Failure::ClosedPipe) => ExitCode::SUCCESS,
        Err(Failure::Error(error)) => {
            errors::print(&error);
            ExitCode::from(2)
        }
    }
}
