//! A command that is started when the instrument waits: "press reset now", without a hand.

use std::path::Path;
use std::time::Duration;

use deep_tap::Error;
use deep_tap::bench::ChildProcess;
use deep_tap::setup::Setup;

use crate::output::remark;

/// How long a command may go on after the recording.
const AFTERWARDS: Duration = Duration::from_secs(2);

/// The command of each recording.
#[derive(Default)]
pub(crate) struct WhenArmed {
    command: Option<String>,
    child: Option<ChildProcess>,
    /// Why it could not be started.
    failure: Option<Error>,
    failed: bool,
}

impl WhenArmed {
    /// Tells it in the history of what is recorded with a setup.
    pub(crate) fn tell_in(setup: &mut Setup, command: Option<&str>) {
        setup.changes.extend(command.map(|command| format!("when the instrument was armed: {command}")));
    }

    /// The command, if there is one.
    pub(crate) fn new(command: Option<&str>) -> Self {
        WhenArmed { command: command.map(str::to_string), ..WhenArmed::default() }
    }

    /// The instrument waits or records: starts the command, once, and tells its end.
    pub(crate) fn armed(&mut self) {
        if let Some(command) = self.command.take() {
            match ChildProcess::start(&command, Path::new("")) {
                Ok(child) => self.child = Some(child),
                Err(error) => self.failure = Some(error),
            }
        }
        let ended = self.child.as_mut().and_then(ChildProcess::ended);
        if let Some((child, (how, well))) = self.child.take_if(|_| ended.is_some()).zip(ended) {
            tell(&child, &format!("the command {how}"));
            self.failed |= !well;
        }
    }

    /// The recording is over: waits a moment for the command, and stops it. Whether it did what it should.
    ///
    /// # Errors
    /// When it could not be started.
    pub(crate) fn over(mut self, recorded: bool) -> Result<bool, Error> {
        if let Some(mut child) = self.child.take() {
            let most = if recorded { AFTERWARDS } else { Duration::ZERO };
            match child.wait(most) {
                Some((how, well)) => {
                    tell(&child, &format!("the command {how}"));
                    self.failed |= !well;
                }
                None => {
                    child.stop();
                    tell(&child, "the command was still running after the recording, and was stopped");
                }
            }
        }
        self.failure.map_or(Ok(!self.failed), Err)
    }
}

fn tell(child: &ChildProcess, how: &str) {
    let words = child.last_words();
    match words.is_empty() {
        true => remark(how),
        false => remark(format!("{how}; it said: {}", words.join("\n"))),
    }
}
