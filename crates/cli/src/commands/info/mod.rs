//! `info`: what a record holds, or what an instrument can do.

mod instrument;
mod record;

use crate::Outcome;
use crate::args;
use crate::connect::is_address;
use crate::errors::Failure;
use crate::output::Out;

pub(crate) fn run(args: &args::Info, out: &mut Out) -> Result<Outcome, Failure> {
    match is_address(&args.source.file) {
        true => instrument::run(args, out),
        false => record::run(args, out),
    }
}
