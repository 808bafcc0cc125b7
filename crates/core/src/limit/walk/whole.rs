//! Limits that are checked when all of a record is known.

use std::ops::ControlFlow;

use super::{Scene, Take};
use crate::error::Result;
use crate::event::TimedProgram;
use crate::limit::bound::Programs;
use crate::limit::required::Required;

/// A limit on voltages or on the bits of a bus.
#[derive(Debug)]
pub(super) struct Whole {
    programs: Programs<TimedProgram>,
    required: Required,
}

impl Whole {
    pub(super) fn new(programs: Programs<TimedProgram>, required: Required) -> Self {
        Whole { programs, required }
    }

    /// Walks over all of the record.
    pub(super) fn walk(&self, scene: Scene<'_>, sink: &mut impl Take) -> Result<ControlFlow<()>> {
        match &self.programs {
            Programs::Voltage { line, which, condition } => {
                Ok(scene.voltage(*line, *which, condition.as_ref(), self.required, sink))
            }
            Programs::Bits { bus, nominal } => scene.bits(bus, *nominal, self.required, sink),
            // Settled before, or found from events.
            _ => Ok(ControlFlow::Continue(())),
        }
    }
}
