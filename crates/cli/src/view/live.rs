//! An instrument that is looked at: armed in a thread of its own, changed in place.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};

use deep_tap::capture::Capture;
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::instrument::Progress;
use deep_tap::job::Job;
use deep_tap::quantity::rough;
use deep_tap::setup::{RecordOptions, RunChanges, Session, Setup, Trigger};
use deep_tap::{Error, ErrorKind};

use crate::commands::capture::{default_output, now, numbered};

/// What it says.
enum News {
    Progress(Progress),
    Captured(Box<Capture>, Box<Setup>),
    Failed(Error),
}

/// An instrument and its thread.
pub(super) struct Live {
    /// With what it is to be armed.
    wishes: Sender<RunChanges>,
    news: Receiver<News>,
    stop: Arc<AtomicBool>,
    setup: Setup,
    file: PathBuf,
    changes: RunChanges,
    again: bool,
    armed: bool,
    /// Whether it is armed anew once it has stopped, with what was changed.
    rearm: bool,
    /// What it is doing, or what went wrong.
    pub(super) status: String,
}

impl Live {
    /// Takes over a session; nothing is armed yet.
    pub(super) fn new(mut session: Session, file: &Path) -> Live {
        let (wishes, asked) = channel();
        let (tell, news) = channel();
        let stop = Arc::new(AtomicBool::new(false));
        let (setup, stopped) = (session.setup().clone(), Arc::clone(&stop));
        std::thread::spawn(move || {
            while let Ok(changes) = asked.recv() {
                let told = record(&mut session, changes, &stopped, &tell);
                if tell.send(told).is_err() {
                    return;
                }
            }
        });
        Live {
            wishes,
            news,
            stop,
            setup,
            file: file.to_path_buf(),
            changes: RunChanges::default(),
            again: false,
            armed: false,
            rearm: false,
            status: "not armed".to_string(),
        }
    }

    /// Arms it, once or again after each record.
    pub(super) fn arm(&mut self, again: bool) {
        self.again = again;
        if self.armed {
            return;
        }
        self.stop.store(false, Ordering::Relaxed);
        self.armed = self.wishes.send(self.changes.clone()).is_ok();
        self.status = if self.armed { "armed".to_string() } else { "the instrument is gone".to_string() };
    }

    /// Ends waiting and recording.
    pub(super) fn stop(&mut self) {
        (self.again, self.rearm) = (false, false);
        self.stop.store(true, Ordering::Relaxed);
    }

    /// Another trigger or rate, from the next time on that it is armed.
    pub(super) fn change(&mut self, trigger: bool, text: &str) -> Result<(), Error> {
        let text = Some(text.trim().to_string()).filter(|text| !text.is_empty());
        let mut changes = self.changes.clone();
        match trigger {
            true => changes.trigger = text,
            false => changes.rate = text,
        }
        // What makes no sense is told at once; what the instrument cannot do, when it is armed.
        self.setup.clone().changed(&changes)?;
        self.changes = changes;
        match self.armed {
            // What it waits for is no longer wanted.
            true => {
                self.rearm = true;
                self.stop.store(true, Ordering::Relaxed);
            }
            false => self.arm(self.again),
        }
        Ok(())
    }

    /// What it waits for.
    pub(super) fn trigger(&self) -> String {
        let own = match &self.setup.trigger {
            Some(Trigger::Event(event)) => event.clone(),
            _ => String::new(),
        };
        self.changes.trigger.clone().unwrap_or(own)
    }

    /// What came of it meanwhile: the last record, and whether there is something new.
    pub(super) fn news(&mut self) -> (Option<Job>, bool) {
        let (mut job, mut any) = (None, false);
        while let Ok(news) = self.news.try_recv() {
            any = true;
            match news {
                News::Progress(Progress::Waiting { elapsed }) => {
                    self.status = format!("waiting: {}", rough(elapsed.to_f64(), 3, "s"));
                }
                News::Progress(Progress::Recording { done, of }) => {
                    self.status = format!("recording: {} %", done.saturating_mul(100) / of.max(1));
                }
                News::Progress(_) => self.status = "reading".to_string(),
                News::Captured(capture, setup) => {
                    self.armed = false;
                    self.status = format!("recorded {}", capture.duration());
                    job = Some(Job::recorded(*capture, *setup, &self.file));
                }
                News::Failed(error) => {
                    self.armed = false;
                    let stopped = self.stop.load(Ordering::Relaxed);
                    self.status = if stopped { "stopped".to_string() } else { error.message().to_string() };
                    // A trigger that did not come is waited for again, nothing else is.
                    self.again &= stopped || error.kind() == ErrorKind::TimeOut;
                }
            }
        }
        if !self.armed && (self.again || std::mem::take(&mut self.rearm)) {
            self.arm(self.again);
        }
        (job, any)
    }

    /// Saves the record that is seen under the next free number.
    pub(super) fn keep(&self, job: &Job) -> Result<PathBuf, Error> {
        if job.capture.is_empty() {
            return Err(Error::new(ErrorKind::Unknown, "there is no record yet to keep"));
        }
        let path = numbered(&default_output(&self.file), false).next();
        let path = path.ok_or_else(|| Error::new(ErrorKind::Exists, "no name is free"))?;
        dtap::save(&job.capture, &path, SaveOptions { replace: false })?;
        Ok(path)
    }
}

/// One record; what is to be said of it.
fn record(session: &mut Session, changes: RunChanges, stop: &AtomicBool, tell: &Sender<News>) -> News {
    let options = RecordOptions { now: false, made: now() };
    if let Err(error) = session.change(changes, options) {
        return News::Failed(error);
    }
    let outcome = session.record(options, &mut |progress| {
        let gone = tell.send(News::Progress(progress)).is_err();
        if gone || stop.load(Ordering::Relaxed) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    match outcome {
        Ok(capture) => News::Captured(Box::new(capture), Box::new(session.setup().clone())),
        Err(error) => News::Failed(error),
    }
}
