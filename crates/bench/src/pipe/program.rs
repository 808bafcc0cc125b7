//! A program that is started for each recording and delivers packed samples.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use deep_tap_core::instrument::{Capabilities, Configuration, Instrument, Status};
use deep_tap_core::line::Input;
use deep_tap_core::quantity::Time;
use deep_tap_core::scan::SampleBlock;
use deep_tap_core::trigger::Seen;
use deep_tap_core::{Error, ErrorKind, Result};

use super::stream::{PackedStated, PackedStream};
use crate::child::ChildProcess;

/// How long the first samples may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long a program may take to end after its samples have.
const TO_END: Duration = Duration::from_secs(1);

/// An instrument that is a program: started when it is armed, it writes packed samples to its standard output
/// until it is stopped.
///
/// `program:CMD?rate=1 MS/s&width=2&byte-order=little`, where `{rate}` in the command becomes the samples per
/// second that are asked for, one of those stated, and `{inputs}` the numbers of the inputs, `0,3,5`; bit `i` of a
/// sample is input `i` whichever are asked for. What can be stated is what a [`Pipe`](super::Pipe) takes, several
/// rates parted by commas, and `patience=10 s`: how long the first samples may take.
pub struct ProgramInstrument {
    command: String,
    folder: PathBuf,
    stream: PackedStream,
    patience: Duration,
    inputs: Vec<u32>,
    running: Option<(ChildProcess, Instant)>,
}

impl ProgramInstrument {
    /// A command, run in a folder, with what is stated of its samples. Nothing is started yet.
    ///
    /// # Errors
    /// As [`Pipe::new`](super::Pipe::new).
    pub fn new(command: &str, folder: &Path, options: &str) -> Result<ProgramInstrument> {
        let example = "program:sampler --rate {rate}?rate=1 MS/s,10 MS/s&width=1";
        if command.trim().is_empty() {
            let error = Error::new(ErrorKind::Instrument, "there is no command to start");
            return Err(error.with_help(format!("write it like {example}")));
        }
        let (own, packed): (Vec<&str>, Vec<&str>) =
            options.split('&').partition(|option| option.starts_with("patience="));
        let patience = match own.first().and_then(|option| option.strip_prefix("patience=")) {
            None => PATIENCE,
            Some(text) => {
                let time = text.parse::<Time>().map_err(|error| error.about("patience"))?;
                Duration::try_from_secs_f64(time.to_f64()).unwrap_or(Duration::MAX)
            }
        };
        let stated = PackedStated::parse(&packed.join("&"), "a program", example)?;
        Ok(ProgramInstrument {
            command: command.to_string(),
            folder: folder.to_path_buf(),
            stream: PackedStream::new(stated),
            patience,
            inputs: Vec::new(),
            running: None,
        })
    }

    /// The command with what is asked for.
    fn filled_in(&self) -> String {
        let rate = self.stream.rate().to_rational().to_f64();
        let inputs: Vec<String> = self.inputs.iter().map(ToString::to_string).collect();
        self.command.replace("{rate}", &rate.to_string()).replace("{inputs}", &inputs.join(","))
    }

    /// Where the samples have ended: an error, unless the program ended in order.
    fn settle(&mut self) -> Result<()> {
        let samples = self.stream.samples();
        let Some((child, _)) = &mut self.running else { return Ok(()) };
        match child.wait(TO_END) {
            Some((_, true)) | None => Ok(()),
            Some((how, false)) => {
                let message = format!("the program {how}, after {samples} samples");
                Err(Error::new(ErrorKind::Link, message).with_help(said(child)))
            }
        }
    }

    /// Gives up on a program that delivers nothing.
    fn still_patient(&mut self) -> Result<()> {
        let Some((child, since)) = &mut self.running else { return Ok(()) };
        if self.stream.samples() > 0 || since.elapsed() < self.patience {
            return Ok(());
        }
        let message = format!("the program has delivered nothing for {:.1} s", self.patience.as_secs_f64());
        let error = Error::new(ErrorKind::Link, message).with_help(said(child));
        child.stop();
        Err(error)
    }
}

/// What a program said, and what was started.
fn said(child: &ChildProcess) -> String {
    let words = child.last_words();
    let said = if words.is_empty() {
        "it said nothing".to_string()
    } else {
        format!("it said: {}", words.join("\n"))
    };
    format!("{said}\nstarted as: {}", child.command())
}

impl Instrument for ProgramInstrument {
    fn identity(&self) -> String {
        format!("samples of a program: {}", self.command)
    }

    fn capabilities(&self) -> Capabilities {
        self.stream.stated.capabilities()
    }

    fn configure(&mut self, configuration: &Configuration) -> Result<()> {
        self.stream.configure(configuration, "a program")?;
        let number = |input: &Input| match input {
            Input::Number(number) => Some(*number),
            Input::Signal(_) => None,
        };
        self.inputs = configuration.inputs.iter().filter_map(|input| number(&input.input)).collect();
        Ok(())
    }

    fn arm(&mut self) -> Result<()> {
        self.stream.must_be_configured()?;
        self.running = None;
        self.stream.close();
        self.stream.remarks.clear();
        let mut child = ChildProcess::spawn(&self.filled_in(), &self.folder)?;
        if let Some(output) = child.take_output() {
            self.stream.open(move || Ok(Box::new(output) as Box<dyn Read>));
        }
        self.running = Some((child, Instant::now()));
        Ok(())
    }

    fn status(&mut self) -> Result<Status> {
        let elapsed = self.stream.elapsed();
        let Some((child, _)) = &mut self.running else { return Ok(Status::Idle) };
        // Its samples may still be on their way when it has ended.
        if self.stream.ended() && child.ended().is_some() {
            self.settle()?;
        }
        Ok(match self.stream.ended() {
            true => Status::Over { elapsed, seen: Seen::default() },
            false => Status::Waiting { elapsed, seen: Seen::default() },
        })
    }

    fn stop(&mut self) -> Result<()> {
        if let Some((mut child, _)) = self.running.take() {
            self.stream.stop();
            child.stop();
        }
        Ok(())
    }

    fn read(&mut self, block: &mut SampleBlock) -> Result<()> {
        let running = self.running.is_some();
        self.stream.read(block, running).map_err(|error| {
            Error::new(ErrorKind::Link, format!("the samples of the program cannot be read: {error}"))
        })?;
        if block.is_empty() && self.stream.ended() {
            self.settle()?;
        }
        if block.is_empty() {
            self.still_patient()?;
        }
        Ok(())
    }

    fn remarks(&self) -> Vec<String> {
        self.stream.remarks.clone()
    }
}
