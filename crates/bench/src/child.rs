//! Commands that are started beside a recording.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read};
use std::path::Path;
use std::process::{Child, ChildStdout, Command, ExitStatus, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use deep_tap_core::{Error, ErrorKind, Result};

/// What is kept of what a command says: its last lines, and so much of each.
const LINES: usize = 10;
const LINE_BYTES: u64 = 400;
/// How long a command that was asked to end may take before it is ended.
const GRACE: Duration = Duration::from_millis(500);
/// How long what it said last may take to arrive.
const LAST_WORDS: Duration = Duration::from_millis(200);

/// A command of the shell, started beside a recording. It ends with this value, whatever it started itself included.
#[derive(Debug)]
pub struct ChildProcess {
    command: String,
    child: Child,
    said: Arc<Mutex<VecDeque<String>>>,
    status: Option<ExitStatus>,
    stopped: bool,
}

impl ChildProcess {
    /// Starts a command in a folder, or in the present one where that is empty. What it says is kept.
    ///
    /// # Errors
    /// [`ErrorKind::Link`] when no shell can be started.
    pub fn start(command: &str, folder: &Path) -> Result<ChildProcess> {
        let mut started = ChildProcess::spawn(command, folder)?;
        if let Some(output) = started.take_output() {
            started.listen(output);
        }
        Ok(started)
    }

    /// The same, for one whose output is taken by somebody else.
    pub(crate) fn spawn(command: &str, folder: &Path) -> Result<ChildProcess> {
        let mut shell = shell(command);
        if !folder.as_os_str().is_empty() {
            shell.current_dir(folder);
        }
        // A group of its own: what it starts can be ended with it, and an interrupt is for us to pass on.
        #[cfg(unix)]
        std::os::unix::process::CommandExt::process_group(&mut shell, 0);
        shell.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = shell.spawn().map_err(|error| {
            let message = format!("'{command}' cannot be started: {error}");
            Error::new(ErrorKind::Link, message).with_help("check that the folder and the shell are there")
        })?;
        let errors = child.stderr.take();
        let started = ChildProcess {
            command: command.to_string(),
            child,
            said: Arc::default(),
            status: None,
            stopped: false,
        };
        if let Some(errors) = errors {
            started.listen(errors);
        }
        Ok(started)
    }

    /// Its standard output, once.
    pub(crate) fn take_output(&mut self) -> Option<ChildStdout> {
        self.child.stdout.take()
    }

    /// Keeps the last lines that come.
    fn listen(&self, from: impl Read + Send + 'static) {
        let said = Arc::clone(&self.said);
        std::thread::spawn(move || {
            let mut from = BufReader::new(from);
            let mut line = Vec::new();
            loop {
                line.clear();
                match from.by_ref().take(LINE_BYTES).read_until(b'\n', &mut line) {
                    Ok(0) | Err(_) => return,
                    Ok(_) => {}
                }
                let text = String::from_utf8_lossy(&line).trim_end().to_string();
                let Ok(mut said) = said.lock() else { return };
                if !text.is_empty() {
                    said.push_back(text);
                    if said.len() > LINES {
                        said.pop_front();
                    }
                }
            }
        });
    }

    /// The command.
    pub fn command(&self) -> &str {
        &self.command
    }

    /// How it ended, in words, and whether that was in order; `None` while it runs.
    pub fn ended(&mut self) -> Option<(String, bool)> {
        if self.status.is_none() {
            self.status = self.child.try_wait().ok().flatten();
        }
        let status = self.status?;
        Some((in_words(status), status.success()))
    }

    /// Waits for its end, so long at the most.
    pub fn wait(&mut self, most: Duration) -> Option<(String, bool)> {
        let begun = Instant::now();
        loop {
            if let Some(ended) = self.ended() {
                return Some(ended);
            }
            if begun.elapsed() >= most {
                return None;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Asks it to end, and ends it where it does not.
    pub fn stop(&mut self) {
        if std::mem::replace(&mut self.stopped, true) {
            return;
        }
        if self.ended().is_none() {
            self.signal(false);
            if self.wait(GRACE).is_none() {
                self.signal(true);
                self.status = self.child.wait().ok();
            }
        }
        // What it started may outlive it.
        self.signal(true);
    }

    #[cfg(unix)]
    fn signal(&mut self, kill: bool) {
        use nix::sys::signal::{Signal, killpg};
        let signal = if kill { Signal::SIGKILL } else { Signal::SIGTERM };
        // A group that is gone needs no signal.
        let _ = killpg(nix::unistd::Pid::from_raw(self.child.id() as i32), signal);
    }

    #[cfg(not(unix))]
    fn signal(&mut self, _kill: bool) {
        let _ = self.child.kill();
    }

    /// The last lines that it said.
    pub fn last_words(&self) -> Vec<String> {
        // They may come a moment after its end.
        let begun = Instant::now();
        loop {
            let said: Vec<String> =
                self.said.lock().map(|said| said.iter().cloned().collect()).unwrap_or_default();
            if !said.is_empty() || begun.elapsed() >= LAST_WORDS {
                return said;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

impl Drop for ChildProcess {
    fn drop(&mut self) {
        self.stop();
    }
}

#[cfg(unix)]
fn shell(command: &str) -> Command {
    let mut shell = Command::new("sh");
    shell.args(["-c", command]);
    shell
}

#[cfg(not(unix))]
fn shell(command: &str) -> Command {
    let mut shell = Command::new("cmd");
    shell.args(["/C", command]);
    shell
}

fn in_words(status: ExitStatus) -> String {
    #[cfg(unix)]
    if let Some(signal) = std::os::unix::process::ExitStatusExt::signal(&status) {
        return format!("ended by signal {signal}");
    }
    status.code().map_or("ended".to_string(), |code| format!("ended with exit code {code}"))
}
