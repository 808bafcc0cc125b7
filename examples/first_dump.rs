//! A simulation's dump decoded and listed.
//!
//! ```sh
//! cargo run --example first_dump
//! ```

use deep_tap::decode::{Protocol, SerialBus, UartConfig};
use deep_tap::format::vcd;

fn main() -> deep_tap::Result<()> {
    let dump = vcd::read_file("tests/fixtures/bus-models/bus_models.vcd".as_ref())?;
    let uart = Protocol::Uart(UartConfig::new("115.2 kHz".parse()?));
    let bus = SerialBus::new("console", uart, [("line", dump.line_named("top.tx")?)])?;
    for frame in bus.frames(&dump, dump.range())? {
        println!("{}  {frame}", dump.base().text_of(frame.start));
    }
    Ok(())
}
