//! `serve`: an instrument of the bench, over the network.

use std::path::Path;
use std::time::Duration;

use deep_tap::bench::{self, Server, ServerOptions};
use deep_tap::{Error, ErrorKind};

use crate::Outcome;
use crate::args;
use crate::connect::{catch_interrupt, interrupted};
use crate::errors::Failure;
use crate::load::parse_time;
use crate::output::{Out, remark};

pub(crate) fn run(args: &args::Serve, out: &mut Out) -> Result<Outcome, Failure> {
    if args.commands {
        out.line(bench::command_table().trim_end())?;
        return Ok(Outcome::Done);
    }
    let instrument = bench::connect(&args.what, Path::new(""))?;
    let identity = instrument.identity();
    catch_interrupt();
    let idle = parse_time("idle", &args.idle)?;
    let idle = Duration::try_from_secs_f64(idle.to_f64()).map_err(|_| {
        Error::new(ErrorKind::Quantity, "--idle: this is no time to wait").with_help("write it like '600 s'")
    })?;
    let server = Server::start(instrument, &args.listen, ServerOptions { idle, ..ServerOptions::default() })?;
    let address = server.address();
    if !address.ip().is_loopback() {
        remark("whoever reaches this address can use the instrument: there is no password");
    }
    out.line(format!(
        "serving {identity}\nat {address}, until interrupted; in a setup: connect = \"tcp://{address}\""
    ))?;
    out.finish()?;
    while !interrupted() {
        std::thread::sleep(Duration::from_millis(100));
    }
    Ok(Outcome::Done)
}
