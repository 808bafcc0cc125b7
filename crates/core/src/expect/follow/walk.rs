//! Following values through a record.

use super::asked::asked;
use super::caused::on_bus;
use super::delay::Delay;
use super::given::{Follow, FollowResult, FollowTarget};
use super::settled::{Wanted, settled};
use crate::capture::Capture;
use crate::error::Result;

impl Follow {
    /// Follows all values through a record.
    ///
    /// # Errors
    /// When a bus cannot be decoded at the record's clock, or an event cannot happen there.
    pub fn follow(&self, capture: &Capture) -> Result<FollowResult> {
        let asked = asked(&self.from, capture)?;
        let delay = Delay::new(self, capture);
        match &self.to {
            FollowTarget::Transfers(to) => on_bus(self, &asked, to, capture, &delay),
            FollowTarget::Lines(bus) => Ok(settled(self, &asked, Wanted::Lines(bus), capture, &delay)),
            FollowTarget::Voltage(line, tolerance) => {
                Ok(settled(self, &asked, Wanted::Voltage(*line, *tolerance), capture, &delay))
            }
        }
    }
}
