//! Writing an array.

use std::io::Write;

use crate::capture::Capture;
use crate::format::packed::{self, PackedBits};

/// Writes the samples of a capture as a vector of unsigned integers, bit `i` of which is its `i`-th line.
///
/// # Errors
/// When the writer refuses.
pub fn write(capture: &Capture, bits: PackedBits, out: &mut dyn Write) -> std::io::Result<()> {
    let order = if bits.width.bytes() == 1 { '|' } else { '<' };
    let described = format!(
        "{{'descr': '{order}u{}', 'fortran_order': False, 'shape': ({},), }}",
        bits.width.bytes(),
        capture.len()
    );
    // Padded so that the numbers begin at a multiple of 64 bytes.
    let len = (10 + described.len() + 1).next_multiple_of(64) - 10;
    out.write_all(b"\x93NUMPY\x01\x00")?;
    out.write_all(&(len as u16).to_le_bytes())?;
    out.write_all(format!("{described:<width$}\n", width = len - 1).as_bytes())?;
    packed::write(capture, bits, out)
}
