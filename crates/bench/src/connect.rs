//! From a setup's `connect` line to an instrument.

use std::path::Path;

use deep_tap_core::instrument::Instrument;
use deep_tap_core::job::Job;
use deep_tap_core::setup::{Import, Setup};
use deep_tap_core::{Error, ErrorKind, Place, Result};

use crate::board::{Board, BoardFault, Disturbance, Disturbed, Script, TideGauge, read_bench};
use crate::fault::AnyFault;
use crate::net::{Remote, Timeouts};
use crate::pipe::{Pipe, ProgramInstrument};
use crate::stand_in::{StandIn, StandInOptions};

/// Connects to what a setup names:
///
/// - `bench:tide-gauge`, the demo board with all its faults;
/// - `bench:FILE.toml`, a board of one's own, as `docs/bench.md` has it;
/// - `replay:PATH`, a capture or another record, probed as if it were a board; a relative path is taken
///   from `folder`, and what the record does not say itself is stated among the options;
/// - `pipe:-` or `pipe:PATH`, packed samples as they come through standard input or a named pipe, as
///   [`Pipe`] has it;
/// - `program:CMD`, a program that is started for each recording, as [`ProgramInstrument`] has it;
/// - `tcp://HOST:PORT`, an instrument that is served over the network.
///
/// Options follow after `?`, joined by `&`: `seed=7`, `instrument=EX-S16`, `ideal=yes` for an
/// instrument without skew or error, and `faults=none`, `faults=all`, or a list of faults such as
/// `faults=late-data,lead-off:5,glitch:MEM_WE_N:12ns:9ms`; `docs/bench.md` lists them.
///
/// # Errors
/// [`ErrorKind::Instrument`] for what is not known, the errors of reading a dump, and those of
/// [`Remote::connect`].
pub fn connect(address: &str, folder: &Path) -> Result<Box<dyn Instrument>> {
    if let Some(host) = address.strip_prefix("tcp://") {
        return Ok(Box::new(Remote::connect(host, Timeouts::default())?));
    }
    if let Some(program) = address.strip_prefix("program:") {
        // The command may have question marks of its own.
        let (command, options) = program.rsplit_once('?').unwrap_or((program, ""));
        return Ok(Box::new(ProgramInstrument::new(command, folder, options)?));
    }
    let (target, options) = address.split_once('?').unwrap_or((address, ""));
    if let Some(path) = target.strip_prefix("pipe:") {
        let path = if path == "-" { Path::new(path).to_path_buf() } else { folder.join(path) };
        return Ok(Box::new(Pipe::new(&path, options)?));
    }
    if let Some(path) = target.strip_prefix("replay:") {
        return replay(&folder.join(path), options);
    }
    let options = Options::parse(options)?;
    let mut options = options;
    let board: Box<dyn Board> = if let Some(file) =
        target.strip_prefix("bench:").filter(|b| b.ends_with(".toml"))
    {
        options.no_board_faults("this board")?;
        let bench = read_bench(&folder.join(file), options.stand_in.seed)?;
        bench.faults.into_iter().for_each(|fault| options.fault(fault));
        options.stand_in.own = bench.instrument;
        Box::new(bench.board)
    } else if let Some(board) = target.strip_prefix("bench:") {
        if board != "tide-gauge" {
            return Err(Error::new(
                ErrorKind::Instrument,
                format!("there is no board '{board}' on the bench"),
            )
            .with_help("the bench has tide-gauge, or a board of your own: bench:FILE.toml"));
        }
        let faults =
            options.board.clone().unwrap_or_else(|| BoardFault::ALL.iter().map(|(f, _)| *f).collect());
        Box::new(TideGauge::new(options.stand_in.seed, &faults))
    } else {
        return Err(Error::new(ErrorKind::Instrument, format!("'{address}' is not something to connect to"))
            .with_help(
                "write 'bench:tide-gauge' for the simulated board, 'replay:FILE' for a record, 'tcp://HOST:PORT', \
                 'pipe:-?rate=1 MS/s&width=1' for samples from standard input, or \
                 'program:CMD?rate=1 MS/s&width=1' for those of a program",
            ));
    };
    let board = match options.nodes.is_empty() {
        true => board,
        false => Box::new(Disturbed::new(board, &options.nodes)?),
    };
    Ok(Box::new(StandIn::new(board, options.stand_in)))
}

/// Connects to what the setup in this file names. What a capture carries starts no program: who opens a capture does
/// not know what it would start.
///
/// # Errors
/// When the setup names nothing, or a capture names a program, and as [`connect`].
pub fn connect_for(setup: &Setup, file: &Path) -> Result<Box<dyn Instrument>> {
    let wrong = |kind: ErrorKind, message: &str, help: &str| {
        Error::new(kind, message).with_help(help).at(Place::File(file.to_path_buf()))
    };
    let Some(address) = &setup.connect else {
        let help = "add a section like: [instrument] with connect = \"bench:tide-gauge\"";
        return Err(wrong(ErrorKind::Setup, "the setup does not say which instrument to use", help));
    };
    if setup.connect_carried && address.starts_with("program:") {
        let help = "look at what it would start and write the setup out to use it: deep-tap info FILE --write-setup FOLDER";
        return Err(wrong(ErrorKind::Danger, "a capture starts no program", help));
    }
    connect(address, file.parent().unwrap_or(Path::new("")))
}

/// A record, probed as if it were a board. Options that the bench does not know are stated of the record.
fn replay(path: &Path, options: &str) -> Result<Box<dyn Instrument>> {
    let of_bench = |option: &&str| {
        let key = option.split('=').next().unwrap_or("");
        ["seed", "ideal", "instrument", "faults"].contains(&key)
    };
    let (own, stated): (Vec<&str>, Vec<&str>) =
        options.split('&').filter(|o| !o.is_empty()).partition(of_bench);
    let options = Options::parse(&own.join("&"))?;
    options.no_board_faults("a replay")?;
    let stated = Import::of_words(&stated)?;
    let record = Job::open_with(path, None, stated, &mut |_, _| ())?.capture;
    let board = Box::new(Script::replay(&record)?);
    match options.nodes.is_empty() {
        true => Ok(Box::new(StandIn::new(board, options.stand_in))),
        false => {
            Ok(Box::new(StandIn::new(Box::new(Disturbed::new(board, &options.nodes)?), options.stand_in)))
        }
    }
}

struct Options {
    stand_in: StandInOptions,
    /// `None` for all that the board has.
    board: Option<Vec<BoardFault>>,
    nodes: Vec<(String, Disturbance)>,
}

impl Options {
    fn parse(text: &str) -> Result<Self> {
        let stand_in = StandInOptions { seed: 1, ..StandInOptions::default() };
        let mut options = Options { stand_in, board: None, nodes: Vec::new() };
        for option in text.split('&').filter(|o| !o.is_empty()) {
            let wrong = || {
                Error::new(ErrorKind::Instrument, format!("'{option}' is not an option of the bench"))
                    .with_help("options are seed=NUMBER, faults=none or faults=NAME,NAME, ideal=yes, instrument=NAME")
            };
            let (key, value) = option.split_once('=').ok_or_else(wrong)?;
            match (key, value) {
                ("seed", number) => options.stand_in.seed = number.parse().map_err(|_| wrong())?,
                ("ideal", "yes") => options.stand_in.ideal = true,
                ("ideal", "no") => options.stand_in.ideal = false,
                ("instrument", name) => options.stand_in.model = name.parse()?,
                ("faults", names) => options.faults(names)?,
                _ => return Err(wrong()),
            }
        }
        Ok(options)
    }

    /// Refuses the faults that only the demo board has.
    fn no_board_faults(&self, what: &str) -> Result<()> {
        match self.board.iter().flatten().next() {
            None => Ok(()),
            Some(fault) => {
                let error = Error::new(ErrorKind::Instrument, format!("{what} has no fault '{fault}'"));
                Err(error.with_help("only the tide gauge has it"))
            }
        }
    }

    /// A fault that is not of the demo board.
    fn fault(&mut self, fault: AnyFault) {
        match fault {
            AnyFault::Hookup(fault) => self.stand_in.faults.push(fault),
            AnyFault::Node(node, what) => self.nodes.push((node, what)),
            AnyFault::Board(_) => {}
        }
    }

    /// A list of faults replaces those that the board has by itself.
    fn faults(&mut self, names: &str) -> Result<()> {
        let mut board = Vec::new();
        for name in names.split(',').filter(|name| !name.is_empty()) {
            match name {
                "none" => {}
                "all" => board.extend(BoardFault::ALL.iter().map(|(fault, _)| *fault)),
                name => match name.parse()? {
                    AnyFault::Board(fault) => board.push(fault),
                    elsewhere => self.fault(elsewhere),
                },
            }
        }
        board.dedup();
        self.board = Some(board);
        Ok(())
    }
}
