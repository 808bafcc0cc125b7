//! What names in an expectation may stand for.

use crate::decode::SerialBus;
use crate::error::{Error, ErrorKind, Place, suggest};
use crate::event::{FrameTests, Scope};
use crate::line::{Bus, LineId};
use crate::reader::{Placed, moved};

/// What names in an expectation may stand for.
pub(in crate::setup) struct Board<'a> {
    pub(in crate::setup) serial: &'a [SerialBus],
    pub(in crate::setup) buses: &'a [Bus],
    pub(in crate::setup) lines: Vec<(&'a str, LineId)>,
    pub(in crate::setup) scope: &'a Scope,
}

impl Board<'_> {
    /// The serial bus of a name.
    pub(in crate::setup) fn serial_bus(
        &self,
        name: &Placed<String>,
        problems: &mut Vec<Error>,
    ) -> Option<&SerialBus> {
        let bus = self.serial.iter().find(|bus| bus.name() == name.value);
        if bus.is_none() {
            let help = suggest(&name.value, self.serial.iter().map(SerialBus::name), "serial bus");
            problems.push(wrong(name, &format!("there is no serial bus '{}'", name.value), &help));
        }
        bus
    }

    /// Tests of the transfers of a bus.
    pub(in crate::setup) fn transfer_tests(
        &self,
        text: &Placed<String>,
        bus: &SerialBus,
        problems: &mut Vec<Error>,
    ) -> Option<FrameTests> {
        let tests = FrameTests::parse(&text.value).and_then(|tests| tests.of_transfers(bus));
        tests.map_err(|error| problems.push(moved(error, ErrorKind::Setup, &text.place))).ok()
    }
}

pub(in crate::setup) fn wrong(at: &Placed<String>, message: &str, help: &str) -> Error {
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(at.place.clone()))
}
