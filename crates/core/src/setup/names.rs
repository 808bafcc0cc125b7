//! What has a name that an expression may use.

use std::collections::HashMap;

use super::files::wrong;
use super::{SetupAnalog, SetupLine};
use crate::decode::SerialBus;
use crate::error::Error;
use crate::event::{Meaning, Scope};
use crate::line::{AnalogId, Bus, LineId};
use crate::reader::Placed;

/// What has a name that an expression may use.
#[derive(Clone, Copy)]
pub(super) struct Names<'a> {
    pub(super) lines: &'a [SetupLine],
    pub(super) analog: &'a [SetupAnalog],
    pub(super) buses: &'a [Bus],
    pub(super) serial: &'a [SerialBus],
    /// Exchanges, as buses of their own.
    pub(super) exchanged: &'a [SerialBus],
    pub(super) events: &'a [(String, String)],
}

pub(super) fn define_all(scope: &mut Scope, names: Names<'_>) {
    for (i, line) in names.lines.iter().enumerate() {
        scope.define(line.line.name.clone(), Meaning::Line(LineId(i)));
    }
    for (i, line) in names.analog.iter().enumerate() {
        scope.define(line.line.name.clone(), Meaning::Analog(AnalogId(i)));
    }
    for bus in names.buses {
        scope.define(bus.name.clone(), Meaning::Bus(bus.clone()));
    }
    for bus in names.serial.iter().chain(names.exchanged) {
        scope.define(bus.name(), Meaning::Frames(bus.clone()));
    }
    for (name, event) in names.events {
        scope.define(name.clone(), Meaning::Event(event.clone()));
    }
}

/// Tells names that are used twice, or not usable. Each comes with what it is a name of.
pub(super) fn check_names(all: &[(&str, &Placed<String>)], problems: &mut Vec<Error>) {
    let article = |what: &str| if what.starts_with(['a', 'e']) { "an" } else { "a" };
    let mut taken: HashMap<&str, &str> = HashMap::new();
    for (what, name) in all {
        if name.value.is_empty() || name.value.contains(['"', '\n', '\r']) {
            let help = "use letters, digits and signs other than the double quote";
            problems.push(wrong(
                &name.place,
                format!("this is not a name for {} {what}", article(what)),
                help,
            ));
        }
        if let Some(other) = taken.get(name.value.as_str()) {
            let (one, two) = (article(other), article(what));
            let message = format!("the name '{}' is used for {one} {other} and {two} {what}", name.value);
            problems.push(wrong(&name.place, message, "rename one of them"));
        } else {
            taken.insert(&name.value, what);
        }
    }
}
