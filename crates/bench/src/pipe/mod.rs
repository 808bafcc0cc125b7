//! Any program that delivers packed samples, as an instrument: through standard input or a named pipe, or started for
//! each recording.

mod gather;
mod program;
mod stream;

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use deep_tap_core::instrument::{Capabilities, Configuration, Instrument, Status};
use deep_tap_core::scan::SampleBlock;
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Place, Result};

pub use program::ProgramInstrument;

use stream::{PackedStated, PackedStream};

/// An instrument that is a pipe.
///
/// `pipe:-?rate=1 MS/s&width=2&byte-order=little` is standard input, `pipe:PATH?…` a named pipe or a file. What
/// can be stated is what packed samples take in `[import]`: `rate` or `period`, `width`, `byte-order`, `skip`,
/// `skew`, `accuracy`.
pub struct Pipe {
    path: PathBuf,
    stream: PackedStream,
    running: bool,
}

impl Pipe {
    /// The pipe at a path, `-` for standard input, with what is stated of its samples as `key=value` joined by
    /// `&`. Nothing is opened yet.
    ///
    /// # Errors
    /// When rate, width, or the order of bytes are missing, or something is stated that packed samples do not
    /// take.
    pub fn new(path: &Path, options: &str) -> Result<Pipe> {
        let example = "pipe:-?rate=1 MS/s&width=2&byte-order=little";
        let stated = PackedStated::parse(options, "a pipe", example)?;
        if stated.rates.len() > 1 {
            let error = Error::new(ErrorKind::Instrument, "the samples of a pipe have one rate");
            return Err(error.with_help(format!("write it like {example}")));
        }
        Ok(Pipe { path: path.to_path_buf(), stream: PackedStream::new(stated), running: false })
    }

    fn is_standard_input(&self) -> bool {
        self.path.as_os_str() == "-"
    }

    fn failed(&self, error: std::io::Error) -> Error {
        let name = if self.is_standard_input() { PathBuf::from("standard input") } else { self.path.clone() };
        Error::new(ErrorKind::Link, format!("the pipe cannot be read: {error}")).at(Place::File(name))
    }
}

#[cfg(unix)]
fn is_named_pipe(path: &Path) -> bool {
    use std::os::unix::fs::FileTypeExt;
    std::fs::metadata(path).is_ok_and(|known| known.file_type().is_fifo())
}

#[cfg(not(unix))]
fn is_named_pipe(_: &Path) -> bool {
    false
}

impl Instrument for Pipe {
    fn identity(&self) -> String {
        match self.is_standard_input() {
            true => "samples from standard input".to_string(),
            false => format!("samples from {}", self.path.display()),
        }
    }

    fn capabilities(&self) -> Capabilities {
        self.stream.stated.capabilities()
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        self.stream.configure(configuration, "a pipe")
    }

    fn arm(&mut self) -> Result<()> {
        self.stream.must_be_configured()?;
        // Where one writer has ended, another may begin; what is left of the one before is older than this.
        if is_named_pipe(&self.path) && self.stream.is_over() {
            self.stream.close();
        }
        if !self.stream.is_open() {
            let (path, standard) = (self.path.clone(), self.is_standard_input());
            self.stream.open(move || match standard {
                true => Ok(Box::new(std::io::stdin()) as Box<dyn Read>),
                false => File::open(&path).map(|file| Box::new(file) as Box<dyn Read>),
            });
        }
        self.running = true;
        self.stream.remarks.clear();
        Ok(())
    }

    fn status(&mut self) -> Result<Status> {
        let elapsed = self.stream.elapsed();
        Ok(match (self.running, self.stream.ended()) {
            (false, _) => Status::Idle,
            (true, true) => Status::Over { elapsed, seen: Seen::default() },
            (true, false) => Status::Waiting { elapsed, seen: Seen::default() },
        })
    }

    fn stop(&mut self) -> Result<()> {
        if std::mem::take(&mut self.running) {
            self.stream.stop();
        }
        Ok(())
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        self.stream.read(block, self.running).map_err(|error| self.failed(error))
    }

    fn remarks(&self) -> Vec<String> {
        self.stream.remarks.clone()
    }
}
