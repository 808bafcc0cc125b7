//! What surrounds violations, kept as captures.

use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

use deep_tap::capture::{Capture, Note};
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::limit::{Violation, Watch};
use deep_tap::quantity::{Rational, Time};
use deep_tap::time::Tick;
use deep_tap::{Error, ErrorKind};

use crate::commands::capture::numbered;
use crate::output::remark;
use crate::words::counted;

/// What becomes of the surroundings of a violation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kept {
    /// They will be kept, or are a part of what will.
    Will,
    Not,
}

/// Keeps so many of each limit.
pub(super) struct Keeper {
    folder: PathBuf,
    stem: String,
    most: u64,
    around: Time,
    /// By the name of the limit.
    counts: HashMap<String, u64>,
    /// Those whose end has not been seen yet.
    pending: Vec<Wanted>,
    kept: Vec<PathBuf>,
    /// Whether something could not be written: then nothing more is.
    failed: bool,
}

/// A stretch to be kept, with what is to be said of it.
struct Wanted {
    name: String,
    range: Range<Tick>,
    notes: Vec<(String, Tick)>,
}

impl Keeper {
    pub(super) fn new(folder: PathBuf, setup: &Path, most: u64, around: Time) -> Self {
        let stem =
            setup.file_stem().map_or_else(|| "watch".into(), |stem| stem.to_string_lossy().into_owned());
        let (counts, pending, kept) = (HashMap::new(), Vec::new(), Vec::new());
        Keeper { folder, stem, most, around, counts, pending, kept, failed: false }
    }

    /// The surroundings of a violation of a limit are wanted, if there are not enough of it.
    pub(super) fn want(&mut self, watch: &Watch, violation: &Violation, name: &str) -> Kept {
        let (start, end) = (violation.occurrence.start, violation.occurrence.end);
        let count = self.counts.entry(name.to_string()).or_default();
        if self.failed || *count >= self.most {
            return Kept::Not;
        }
        *count += 1;
        let note = (name.to_string(), start);
        // What another one surrounds is kept already.
        let covers = |wanted: &&mut Wanted| wanted.range.start <= start && end < wanted.range.end;
        if let Some(wanted) = self.pending.iter_mut().find(covers) {
            wanted.notes.push(note);
            return Kept::Will;
        }
        let ticks = watch.base().ticks_in(self.around).map(Rational::ceil);
        let ticks = ticks.and_then(|ticks| i64::try_from(ticks).ok()).unwrap_or(i64::MAX / 4);
        let range = start.offset(-ticks)..end.offset(ticks).offset(1);
        self.pending.push(Wanted { name: name.to_string(), range, notes: vec![note] });
        Kept::Will
    }

    /// Saves those that have been seen to their end.
    pub(super) fn save_what_is_ripe(&mut self, watch: &Watch, known: Tick) {
        let ripe = |wanted: &mut Wanted| wanted.range.end <= known;
        let ripe: Vec<Wanted> = self.pending.extract_if(.., ripe).collect();
        for wanted in ripe {
            self.save(watch, wanted);
        }
    }

    /// The samples are over, or there is a gap: what has not been seen to its end is kept as far as it was.
    pub(super) fn end(&mut self, watch: &Watch) {
        self.save_what_is_ripe(watch, Tick(u64::MAX));
    }

    /// What was not saved by now is gone.
    pub(super) fn gap(&mut self) {
        self.pending.clear();
    }

    fn save(&mut self, watch: &Watch, wanted: Wanted) {
        if self.failed {
            return;
        }
        match self.saved(watch, &wanted) {
            Ok(path) => self.kept.push(path),
            Err(error) => {
                self.failed = true;
                let why = error.message().to_string();
                remark(format!(
                    "the surroundings of a violation cannot be kept: {why}; watching goes on, and nothing more is kept"
                ));
            }
        }
    }

    fn saved(&self, watch: &Watch, wanted: &Wanted) -> Result<PathBuf, Error> {
        let part = watch.excerpt(wanted.range.clone())?;
        let part = noted(part, wanted)?;
        std::fs::create_dir_all(&self.folder).map_err(|error| Error::io(&self.folder, "create", error))?;
        let name = format!("{}-{}.dtap", self.stem, file_word(&wanted.name));
        let target = if self.folder == Path::new(".") { name.into() } else { self.folder.join(name) };
        // Another watch may take a name first.
        for path in numbered(&target, false).take(1000) {
            match dtap::save(&part, &path, SaveOptions { replace: false }) {
                Err(error) if error.kind() == ErrorKind::Exists => {}
                Ok(()) => return Ok(path),
                Err(error) => return Err(error),
            }
        }
        Err(Error::new(ErrorKind::Exists, "no name is free"))
    }

    pub(super) fn kept(&self) -> usize {
        self.kept.len()
    }

    pub(super) fn first(&self) -> Option<&Path> {
        self.kept.first().map(PathBuf::as_path)
    }

    /// What was kept, in words.
    pub(super) fn text(&self) -> String {
        let Some(first) = self.first() else { return String::new() };
        let more = match self.kept.len() {
            1 => String::new(),
            many => format!(" and {} more", many - 1),
        };
        format!("\n{} kept: {}{more}\n", counted(self.kept.len(), "capture"), first.display())
    }
}

/// The part of the record with the violations as marks.
fn noted(part: Capture, wanted: &Wanted) -> Result<Capture, Error> {
    let mut notes: Vec<Note> = part.notes().to_vec();
    // Times are those of what was watched, so that an instant is found by its time.
    let zero = part.base().zero_at();
    for (number, (limit, at)) in wanted.notes.iter().enumerate() {
        let tick = i64::try_from(at.0).unwrap_or(i64::MAX).saturating_add(zero).max(0);
        let name = if number == 0 { "violation".to_string() } else { format!("violation-{}", number + 1) };
        notes.push(Note { name, at: Tick(tick.unsigned_abs()), text: limit.clone() });
    }
    part.into_builder().notes(notes).build()
}

/// A name as a part of a file's name.
fn file_word(name: &str) -> String {
    let fits = |c: char| c.is_alphanumeric() || "._-+".contains(c);
    name.chars().map(|c| if fits(c) { c } else { '_' }).collect()
}
