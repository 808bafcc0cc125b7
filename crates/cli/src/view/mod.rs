//! `view`: a record, or what an instrument sees, in the terminal.

mod action;
mod live;
mod paint;
#[cfg(all(test, unix))]
mod panics;
mod screen;
#[cfg(test)]
mod tests;
mod viewer;

use std::io::IsTerminal;
use std::path::Path;
use std::time::Duration;

use deep_tap::bench::connect_for;
use deep_tap::capture::Capture;
use deep_tap::job::Job;
use deep_tap::setup::{RecordOptions, Session, Setup};
use deep_tap::time::TimeBase;
use deep_tap::{Error, ErrorKind};
use ratatui::crossterm::event::{
    self, DisableMouseCapture, EnableMouseCapture, Event, KeyCode, KeyEventKind, KeyModifiers,
};
use ratatui::crossterm::execute;

use crate::Outcome;
use crate::args;
use crate::connect::{catch_interrupt, interrupted};
use crate::errors::Failure;
use crate::load::load;
use crate::next::source_words;
use crate::output::Out;
use action::action_of;
use live::Live;
use screen::Screen;
use viewer::Viewer;

/// How often an instrument is listened to.
const LISTEN: Duration = Duration::from_millis(50);

pub(crate) fn run(args: &args::View, out: &mut Out) -> Result<Outcome, Failure> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        let error = Error::new(ErrorKind::Io, "the view needs a terminal");
        return Err(error.with_help("deep-tap show draws the same as text or as a picture").into());
    }
    let mut screen = opened(args)?;
    catch_interrupt();
    on_the_terminal(&mut screen)?;
    screen.said.iter().try_for_each(|said| out.line(said))?;
    Ok(Outcome::Done)
}

/// Takes the terminal, shows the screen until it is over, and gives the terminal back as it was, whatever happens: a
/// panic does so by its hook before it is told, and the mouse is let go on the way out.
fn on_the_terminal(screen: &mut Screen) -> Result<(), Failure> {
    let failed = |doing| move |error| Error::io(Path::new("the terminal"), doing, error);
    let mut terminal = ratatui::try_init().map_err(failed("set up"))?;
    #[cfg(unix)]
    let _there = crate::gone::WhileThere::begin();
    let outcome = Mouse::take().and_then(|_mouse| shown(screen, &mut terminal));
    ratatui::restore();
    Ok(outcome.map_err(failed("use"))?)
}

/// The mouse, as long as it is ours.
struct Mouse;

impl Mouse {
    fn take() -> std::io::Result<Self> {
        execute!(std::io::stdout(), EnableMouseCapture).map(|()| Mouse)
    }
}

impl Drop for Mouse {
    fn drop(&mut self) {
        let _ = execute!(std::io::stdout(), DisableMouseCapture);
    }
}

/// What is to be seen: a setup's instrument, or a record.
fn opened(args: &args::View) -> Result<Screen, Failure> {
    let file = &args.source.file;
    let is_setup = file.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("toml"));
    if is_setup {
        let setup = Setup::from_file(file)?;
        let instrument = connect_for(&setup, file)?;
        let session = Session::new(setup.clone(), instrument);
        let base = TimeBase::from_rate(session.plan(RecordOptions::default())?.rate)?;
        let nothing = Job::recorded(Capture::builder(base, 0).build()?, setup, file);
        let mut live = Live::new(session, file);
        live.arm(false);
        return Ok(Screen::new(Viewer::new(nothing), file.display().to_string(), Some(live)));
    }
    let mut viewer = Viewer::new(load(&args.source)?);
    if let Some(at) = &args.at {
        viewer.go_to(at).map_err(|error| error.about("--at"))?;
        for _ in 0..args.nearer {
            viewer.zoom(true);
        }
    }
    Ok(Screen::new(viewer, source_words(&args.source), None))
}

/// Draws, listens, and does what is asked for, until it is over.
fn shown(screen: &mut Screen, terminal: &mut ratatui::DefaultTerminal) -> std::io::Result<()> {
    while !screen.over {
        terminal.draw(|frame| paint::paint(screen, frame))?;
        // Meanwhile an instrument is listened to, and whoever wants to end this from outside.
        while !event::poll(LISTEN)? {
            if interrupted() {
                return Ok(());
            }
            if screen.listen() {
                terminal.draw(|frame| paint::paint(screen, frame))?;
            }
        }
        heed(screen, &event::read()?);
        // All that waits is done before it is drawn again.
        while event::poll(Duration::ZERO)? {
            heed(screen, &event::read()?);
        }
    }
    Ok(())
}

/// Does what an event asks for.
fn heed(screen: &mut Screen, event: &Event) {
    if screen.typed.is_some() {
        if let Event::Key(key) = event
            && key.kind != KeyEventKind::Release
        {
            match key.code {
                KeyCode::Enter => screen.type_in('\n'),
                KeyCode::Backspace => screen.type_in('\u{8}'),
                KeyCode::Esc => screen.type_in('\u{1b}'),
                KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                    screen.type_in('\u{1b}');
                }
                KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => {
                    screen.type_in('\u{15}');
                }
                KeyCode::Char(key) => screen.type_in(key),
                _ => {}
            }
        }
        return;
    }
    if let Some(action) = action_of(event) {
        screen.act(action);
    }
}
