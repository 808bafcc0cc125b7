//! Opening what a command looks at, and telling what was noticed.

use std::io::Read;
use std::path::Path;

use deep_tap::capture::Capture;
use deep_tap::format::vcd;
use deep_tap::job::Job;
use deep_tap::quantity::Time;
use deep_tap::setup::Setup;
use deep_tap::{Error, ErrorKind};

use crate::args::Source;
use crate::errors::Failure;
use crate::output::{progress_bar, remark};

/// Opens a capture or a value change dump, and lays the setup over it.
pub(crate) fn load(source: &Source) -> Result<Job, Failure> {
    let (file, setup) = (&source.file, source.setup.as_deref());
    let job = if file.as_os_str() == "-" {
        let setup = setup.map(Setup::from_file).transpose()?;
        let mut bytes = Vec::new();
        std::io::stdin().read_to_end(&mut bytes).map_err(|e| Error::io("standard input", "read", e))?;
        let name = Path::new("standard input");
        Job::of_dump(vcd::read(&bytes, name)?, setup, name)?
    } else {
        let bar = progress_bar();
        let job = Job::open_with(file, setup, &mut |done, of| {
            bar.set_length(of);
            bar.set_position(done);
            bar.set_message("reading the dump");
        });
        bar.finish_and_clear();
        job?
    };
    job.remarks.iter().for_each(remark);
    Ok(job)
}

/// Tells damage that was met while working.
pub(crate) fn tell_damage(capture: &Capture) {
    for damage in capture.damage() {
        let [from, to] = [damage.ticks.start, damage.ticks.end].map(|tick| capture.base().text_of(tick));
        remark(format!("damaged from {from} to {to}, taken as unknown: {}", damage.what));
    }
}

/// Reads a time given on the command line.
pub(crate) fn parse_time(option: &str, text: &str) -> Result<Time, Failure> {
    text.parse::<Time>().map_err(|error| {
        let told = Error::new(ErrorKind::Quantity, format!("--{option}: {}", error.message()));
        Failure::Error(told.with_help(error.help().unwrap_or("write it like '3.2184 ms'").to_string()))
    })
}
