//! A setup from a file: record what it says, check what it binds, print the verdicts.
//!
//! ```sh
//! cargo run --release --example from_setup -- setups/tide-gauge.toml
//! ```

use std::ops::ControlFlow;
use std::path::PathBuf;

use deep_tap::bench;
use deep_tap::known::Rule;
use deep_tap::limit;
use deep_tap::setup::{RecordOptions, Setup};

fn main() -> deep_tap::Result<()> {
    let path =
        std::env::args_os().nth(1).map_or_else(|| PathBuf::from("setups/tide-gauge.toml"), PathBuf::from);
    let setup = Setup::from_file(&path)?;
    let address = setup.connect.clone().unwrap_or_else(|| "bench:tide-gauge".to_string());
    let mut instrument = bench::connect(&address, path.parent().unwrap_or(&path))?;
    let capture =
        setup.record(&mut *instrument, RecordOptions::default(), &mut |_| ControlFlow::Continue(()))?;
    println!("{} recorded at {}", capture.duration(), capture.base().rate());
    for bound in setup.limits() {
        println!("{}", limit::check(&capture, bound, Rule::Proven)?);
    }
    Ok(())
}
