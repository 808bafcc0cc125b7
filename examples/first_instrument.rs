//! A recording with an instrument, here the simulated one on the demo board.
//!
//! ```sh
//! cargo run --example first_instrument
//! ```

use deep_tap::bench;
use deep_tap::instrument::{Acquisition, Configuration};

fn main() -> deep_tap::Result<()> {
    let mut instrument = bench::connect("bench:tide-gauge", ".".as_ref())?;
    println!("{}", instrument.identity());
    let configuration = Configuration::new("100 MS/s".parse()?, 1_000_000, 0..4);
    let capture = Acquisition::new(&mut *instrument, &configuration, &["D0", "D1", "D2", "D3"]).capture()?;
    for (line, trace) in capture.lines().iter().zip(capture.traces()) {
        println!("{}: {} edges in {}", line.name, trace.edge_count(), capture.duration());
    }
    Ok(())
}
