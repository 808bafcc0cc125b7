//! The whole screen: what is seen, the panes beside it, and what is being typed.

use deep_tap::draw::{Marker, Sheet};
use deep_tap::known::Rule;
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use super::action::Action;
use super::live::Live;
use super::viewer::Viewer;
use crate::args;
use crate::commands::check;
use crate::errors::Failure;
use crate::next::{next, path_word, word};
use crate::picture;
use crate::rows::{self, frame_buses};
use crate::words::counted;

/// Most rows of a list.
const MOST_LISTED: usize = 500;

/// A list from which Enter jumps.
pub(super) struct List {
    pub(super) title: String,
    pub(super) head: String,
    pub(super) rows: Vec<(String, Option<(Tick, Tick)>)>,
    pub(super) chosen: usize,
}

/// What lies over the waveforms.
pub(super) enum Pane {
    Help,
    List(List),
}

/// What is being typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Asked {
    Search,
    Place,
    Row,
    Trigger,
    Rate,
}

impl Asked {
    pub(super) fn prompt(self) -> &'static str {
        match self {
            Asked::Search => "look for",
            Asked::Place => "go to",
            Asked::Row => "row",
            Asked::Trigger => "trigger on",
            Asked::Rate => "rate",
        }
    }
}

/// The screen.
pub(super) struct Screen {
    pub(super) viewer: Viewer,
    pub(super) file: String,
    pub(super) pane: Option<Pane>,
    pub(super) typed: Option<(Asked, String)>,
    pub(super) live: Option<Live>,
    /// The first row of the screen, and per line of the screen the row it shows, as last drawn.
    pub(super) top: usize,
    pub(super) rows_at: Vec<(u16, usize)>,
    pub(super) margin: u16,
    pub(super) over: bool,
    /// The command that draws what was saved, for after the end.
    pub(super) said: Vec<String>,
}

impl Screen {
    pub(super) fn new(viewer: Viewer, file: String, live: Option<Live>) -> Screen {
        Screen {
            viewer,
            file,
            pane: None,
            typed: None,
            live,
            top: 0,
            rows_at: Vec::new(),
            margin: 0,
            over: false,
            said: Vec::new(),
        }
    }

    /// A key while something is typed: a character, or one of `\n`, `\u{8}` (one less), `\u{15}` (none left) and
    /// `\u{1b}` (never mind).
    pub(super) fn type_in(&mut self, key: char) {
        let Some((asked, text)) = &mut self.typed else { return };
        match key {
            '\n' => {
                let (asked, text) = (*asked, std::mem::take(text));
                self.typed = None;
                if let Err(error) = self.take(asked, &text) {
                    let help = error.help().map_or(String::new(), |help| format!("; {help}"));
                    self.viewer.message = Some(format!("{}{help}", error.message()));
                }
            }
            '\u{8}' => drop(text.pop()),
            '\u{15}' => text.clear(),
            '\u{1b}' => self.typed = None,
            key if !key.is_control() => text.push(key),
            _ => {}
        }
    }

    fn take(&mut self, asked: Asked, text: &str) -> Result<(), Error> {
        match asked {
            Asked::Search => {
                self.viewer.look_for(text)?;
                if self.viewer.search.is_some() {
                    self.viewer.next_hit(true);
                }
                Ok(())
            }
            Asked::Place => self.viewer.go_to(text),
            Asked::Row => self.viewer.find_row(text),
            Asked::Trigger | Asked::Rate => match &mut self.live {
                Some(live) => live.change(asked == Asked::Trigger, text),
                None => Ok(()),
            },
        }
    }

    /// Does what is asked for.
    pub(super) fn act(&mut self, action: Action) {
        self.viewer.message = None;
        if let Some(pane) = &mut self.pane
            && let Some(close) = in_pane(pane, action, &mut self.viewer)
        {
            if close {
                self.pane = None;
            }
            return;
        }
        let viewer = &mut self.viewer;
        match action {
            Action::Quit | Action::Back => self.over = true,
            Action::Enter | Action::Redraw => {}
            Action::Zoom { nearer } => viewer.zoom(nearer),
            Action::Whole => viewer.whole(),
            Action::Pan { later } => viewer.pan(later),
            Action::Step { columns } => viewer.step(columns),
            Action::Select { down } => viewer.select(down),
            Action::Edge { later } => viewer.next_edge(later),
            Action::Hit { later } => viewer.next_hit(later),
            Action::Zero => viewer.go_to_zero(),
            Action::First => viewer.put(Tick(0), None),
            Action::Last => viewer.put(Tick(viewer.job.capture.len()), None),
            Action::Anchor => viewer.drop_anchor(),
            Action::Hide => viewer.hide(),
            Action::ShowAll => viewer.show_all(),
            Action::MoveRow { down } => viewer.move_row(down),
            Action::OpenBus => viewer.open_bus(),
            Action::Radix => viewer.next_radix(),
            Action::Curve => viewer.turn_curve(),
            Action::Wrong { later } => viewer.next_wrong(later),
            Action::FindRow => self.typed = Some((Asked::Row, String::new())),
            Action::Search => self.typed = Some((Asked::Search, String::new())),
            Action::Place => self.typed = Some((Asked::Place, String::new())),
            Action::Help => self.pane = Some(Pane::Help),
            Action::Verdicts => self.list(verdicts),
            Action::Frames => self.list(frames),
            Action::Save => self.save(),
            Action::Press { column, line } => self.press(column, line),
            Action::Arm | Action::Run | Action::Stop | Action::Trigger | Action::Rate | Action::Keep => {
                self.act_live(action);
            }
        }
    }

    fn act_live(&mut self, action: Action) {
        let Some(live) = &mut self.live else {
            self.viewer.message = Some("this is a record: view a setup to look at an instrument".to_string());
            return;
        };
        match action {
            Action::Arm => live.arm(false),
            Action::Run => live.arm(true),
            Action::Stop => live.stop(),
            Action::Trigger => self.typed = Some((Asked::Trigger, live.trigger())),
            Action::Rate => self.typed = Some((Asked::Rate, String::new())),
            Action::Keep => {
                let kept = live.keep(&self.viewer.job);
                self.viewer.message = Some(match kept {
                    Ok(path) => {
                        self.said.push(next("check", path_word(&path)));
                        format!("kept as {}", path.display())
                    }
                    Err(error) => error.message().to_string(),
                });
            }
            _ => {}
        }
    }

    /// Takes in what the instrument did meanwhile; whether there is something new to be seen.
    pub(super) fn listen(&mut self) -> bool {
        let Some(live) = &mut self.live else { return false };
        let (job, news) = live.news();
        if let Some(job) = job {
            self.viewer.replace(job);
        }
        news
    }

    fn list(&mut self, make: fn(&Viewer) -> Result<List, Error>) {
        match self.viewer.must_be_recorded().and_then(|()| make(&self.viewer)) {
            Ok(list) => self.pane = Some(Pane::List(list)),
            Err(error) => self.viewer.message = Some(error.message().to_string()),
        }
    }

    /// A press of the mouse into the waveforms puts the cursor there, one on a name selects the row.
    fn press(&mut self, column: u16, line: u16) {
        if let Some((_, row)) = self.rows_at.iter().find(|(at, _)| *at == line) {
            self.viewer.select_row(*row);
        }
        if let Some(column) = column.checked_sub(self.margin) {
            self.viewer.put_at_column(usize::from(column));
        }
    }

    /// Saves what is seen as a picture.
    fn save(&mut self) {
        let saved = self.try_save();
        self.viewer.message = Some(match saved {
            Ok(command) => {
                self.said.push(command.clone());
                command
            }
            Err(error) => error.message().to_string(),
        });
    }

    fn try_save(&self) -> Result<String, Error> {
        let viewer = &self.viewer;
        let (from, to, names) = viewer.options()?;
        let ending = if cfg!(feature = "png") { "png" } else { "svg" };
        let path = (1..)
            .map(|number| std::path::PathBuf::from(format!("view-{number:04}.{ending}")))
            .find(|path| !path.exists())
            .ok_or_else(|| Error::new(ErrorKind::Exists, "no name is free"))?;
        let rows: Vec<_> = viewer.rows.iter().filter_map(|row| row.source(&viewer.job)).collect();
        let markers = markers(viewer);
        let view = viewer.view();
        let levels = rows::levels(&viewer.job);
        let sheet = Sheet {
            start: view.start,
            end: view.end,
            title: self.file.clone(),
            markers: &markers,
            levels: &levels,
            ..Sheet::default()
        };
        let drawing = sheet.draw(&viewer.job.capture, &rows)?;
        picture::save(&drawing, &path, args::Ground::Light, false).map_err(|failure| match failure {
            Failure::Error(error) => error,
            Failure::ClosedPipe => Error::new(ErrorKind::Io, "the picture cannot be written"),
        })?;
        let lines = word(&names.join(","));
        let curves = viewer.curves();
        let curves = match curves.is_empty() {
            true => String::new(),
            false => format!(" --curve {}", word(&curves.join(","))),
        };
        let shown = format!(
            "{} --from {} --to {} --lines {lines}{curves} --output {}",
            self.file,
            word(&from),
            word(&to),
            path.display()
        );
        Ok(next("show", shown))
    }
}

/// What an action does to a pane: whether it is closed, or nothing where it is for the waveforms.
fn in_pane(pane: &mut Pane, action: Action, viewer: &mut Viewer) -> Option<bool> {
    let list = match (pane, action) {
        (_, Action::Quit | Action::Back | Action::Help | Action::Verdicts | Action::Frames) => {
            return Some(true);
        }
        (Pane::Help, _) => return Some(action != Action::Redraw),
        (Pane::List(list), _) => list,
    };
    match action {
        Action::Select { down: true } => {
            list.chosen = (list.chosen + 1).min(list.rows.len().saturating_sub(1));
        }
        Action::Select { down: false } => list.chosen = list.chosen.saturating_sub(1),
        Action::Enter => match list.rows.get(list.chosen) {
            Some((_, Some((from, to)))) => viewer.put_between(*from, *to),
            _ => viewer.message = Some("this has no place in the record".to_string()),
        },
        _ => return None,
    }
    Some(false)
}

/// The trigger and the marks, in their order.
pub(super) fn markers(viewer: &Viewer) -> Vec<Marker> {
    let mut markers = rows::markers(&viewer.job.capture, &viewer.marks);
    markers.sort_by_key(|marker| marker.tick);
    markers
}

/// The verdict table, briefly.
fn verdicts(viewer: &Viewer) -> Result<List, Error> {
    let verdicts = viewer.job.check(&[] as &[&str], Rule::Proven)?;
    let tick = viewer.job.capture.base().tick();
    let limits = verdicts.results.iter().map(|result| {
        let [reference, symbol, what, required, worst, at, .., verdict] = check::cells(tick, result);
        let place = result.worst.map(|worst| (worst.start, worst.end));
        let name = format!("{reference}.{symbol}");
        (format!("{name:<12} {:<18} {worst:>22} {at:>14} {required:>14}  {what}", short(&verdict)), place)
    });
    let mut rows: Vec<(String, Option<(Tick, Tick)>)> = limits.collect();
    rows.extend(
        verdicts
            .expectations
            .iter()
            .map(|met| (format!("{:<12} {:<18}", met.name, met.verdict.to_string()), None)),
    );
    let answer = check::answer(verdicts.results.iter().map(|result| result.verdict));
    let head =
        format!("{:<12} {:<18} {:>22} {:>14} {:>14}  what", "limit", "verdict", "worst", "at", "required");
    Ok(List { title: answer, head, rows, chosen: 0 })
}

/// A verdict without what to try.
fn short(verdict: &str) -> &str {
    verdict.split(':').next().unwrap_or(verdict)
}

/// The frames of a bus in what is shown.
fn frames(viewer: &Viewer) -> Result<List, Error> {
    let none = || {
        let error = Error::new(ErrorKind::Unknown, "the setup describes no serial bus");
        error.with_help("deep-tap roles proposes some")
    };
    let place = viewer.listed_bus().ok_or_else(none)?;
    let bus = frame_buses(&viewer.job).nth(place).ok_or_else(none)?;
    let (capture, view) = (&viewer.job.capture, viewer.view());
    let frames = bus.frames(capture, view.start..view.end)?.take(MOST_LISTED + 1);
    let row = |frame: deep_tap::bus::Frame| {
        (format!("{:>14}  {frame}", capture.base().text_of(frame.start)), Some((frame.start, frame.start)))
    };
    let mut rows: Vec<(String, Option<(Tick, Tick)>)> = frames.map(row).collect();
    let more = rows.len() > MOST_LISTED;
    rows.truncate(MOST_LISTED);
    let count = if more { format!("the first {MOST_LISTED}") } else { rows.len().to_string() };
    let title = format!("{}: {} in what is shown", bus.name(), counted(count, "frame"));
    Ok(List { title, head: format!("{:>14}  frame", "at"), rows, chosen: 0 })
}
