//! From a setup's `connect` line to an instrument.

use std::path::Path;

use deep_tap_core::format::vcd;
use deep_tap_core::instrument::Instrument;
use deep_tap_core::{Error, ErrorKind, Result};

use crate::board::{Fault, Script, TideGauge};
use crate::models::Model;
use crate::stand_in::{StandIn, StandInOptions};

/// Connects to what a setup names:
///
/// - `bench:tide-gauge`, the demo board with all its faults; with options after `?`, joined by
///   `&`: `faults=none`, `faults=late-data,short-hold`, `seed=7`, `instrument=EX-S16`;
/// - `replay:PATH`, a value change dump, probed as if it were a board; a relative path is taken
///   from `folder`. Options: `seed=7`, `ideal=yes` for an instrument without skew or error.
///
/// # Errors
/// [`ErrorKind::Instrument`] for what is not known, and the errors of reading a dump.
pub fn connect(address: &str, folder: &Path) -> Result<Box<dyn Instrument>> {
    let (target, options) = address.split_once('?').unwrap_or((address, ""));
    let options = Options::parse(options)?;
    let stand_in = StandInOptions { seed: options.seed, ideal: options.ideal, model: options.model };
    if let Some(board) = target.strip_prefix("bench:") {
        if board != "tide-gauge" {
            return Err(Error::new(
                ErrorKind::Instrument,
                format!("there is no board '{board}' on the bench"),
            )
            .with_help("the bench has: tide-gauge"));
        }
        let board = TideGauge::new(options.seed, &options.faults);
        return Ok(Box::new(StandIn::new(Box::new(board), stand_in)));
    }
    if let Some(path) = target.strip_prefix("replay:") {
        let capture = vcd::read_file(&folder.join(path))?;
        return Ok(Box::new(StandIn::new(Box::new(Script::replay(&capture)?), stand_in)));
    }
    Err(Error::new(ErrorKind::Instrument, format!("'{address}' is not something to connect to"))
        .with_help("write 'bench:tide-gauge' for the simulated board, or 'replay:FILE.vcd' for a simulation"))
}

struct Options {
    seed: u64,
    ideal: bool,
    model: Model,
    faults: Vec<Fault>,
}

impl Options {
    fn parse(text: &str) -> Result<Self> {
        let all = || Fault::ALL.iter().map(|(fault, _)| *fault).collect();
        let mut options = Options { seed: 1, ideal: false, model: Model::default(), faults: all() };
        for option in text.split('&').filter(|o| !o.is_empty()) {
            let wrong = || {
                Error::new(ErrorKind::Instrument, format!("'{option}' is not an option of the bench"))
                    .with_help("options are seed=NUMBER, faults=none or faults=NAME,NAME, ideal=yes, instrument=NAME")
            };
            let (key, value) = option.split_once('=').ok_or_else(wrong)?;
            match (key, value) {
                ("seed", number) => options.seed = number.parse().map_err(|_| wrong())?,
                ("ideal", "yes") => options.ideal = true,
                ("ideal", "no") => options.ideal = false,
                ("instrument", name) => options.model = name.parse()?,
                ("faults", "none") => options.faults.clear(),
                ("faults", "all") => options.faults = all(),
                ("faults", names) => {
                    options.faults = names.split(',').map(str::parse).collect::<Result<_>>()?;
                }
                _ => return Err(wrong()),
            }
        }
        Ok(options)
    }
}
