//! Limits that are checked when all of a record is known.

use std::ops::ControlFlow;

use super::{Scene, Take};
use crate::event::TimedProgram;
use crate::limit::bound::Programs;
use crate::limit::required::Required;

/// A limit on voltages.
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
    pub(super) fn walk(&self, scene: Scene<'_>, sink: &mut impl Take) -> ControlFlow<()> {
        match &self.programs {
            Programs::Voltage { line, which, condition } => {
                scene.voltage(*line, *which, condition.as_ref(), self.required, sink)
            }
            // Settled before, or found from events.
            _ => ControlFlow::Continue(()),
        }
    }
}
