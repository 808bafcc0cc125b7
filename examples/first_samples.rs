//! Samples of one's own against a limit of a datasheet.
//!
//! ```sh
//! cargo run --example first_samples
//! ```

use deep_tap::capture::Capture;
use deep_tap::event::Scope;
use deep_tap::known::Rule;
use deep_tap::limit::{Limit, Verdict, check};

fn main() -> deep_tap::Result<()> {
    // Bit 0 is CS_N, bit 1 is WE_N: three write pulses at 100 MS/s, of 5, 4 and 6 samples.
    let samples = [3u8, 2, 0, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 0, 0, 2, 3];
    let capture = Capture::of_samples("100 MS/s", &["CS_N", "WE_N"], &samples)?;
    let width = Limit::width("tWP", "WE_N low").min("35 ns").bind(&Scope::of(&capture))?;
    let result = check(&capture, &width, Rule::Proven)?;
    println!("{result}");
    assert_eq!(result.verdict, Verdict::Inconclusive);
    Ok(())
}
