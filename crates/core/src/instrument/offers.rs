//! What an instrument records, by the number of inputs.

use super::capabilities::Capabilities;
use crate::quantity::Rate;

/// What can be recorded of so many inputs at once, in one way.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Offer {
    /// From this many inputs.
    pub from: u32,
    /// To this many.
    pub to: u32,
    /// Whether the samples are sent while they are taken, instead of being kept on board.
    pub streams: bool,
    /// The rates, rising, each with the most samples in one recording.
    pub rates: Vec<(Rate, u64)>,
}

impl Capabilities {
    /// What it records, by the number of inputs: on board first, fewer inputs first. All that differs by nothing but
    /// that number is one offer.
    ///
    /// ```
    /// use deep_tap_core::instrument::{Bank, Capabilities, Mode};
    ///
    /// let slow = Mode::on_board(16, ["100 MS/s".parse()?], 1 << 20);
    /// let fast = Mode::on_board(8, ["100 MS/s".parse()?, "200 MS/s".parse()?], 1 << 20);
    /// let offers = Capabilities::new([Bank::new("A", 16)], [slow, fast]).offers();
    /// assert_eq!(offers.iter().map(|o| (o.from, o.to, o.rates.len())).collect::<Vec<_>>(), [(1, 8, 2), (9, 16, 1)]);
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    pub fn offers(&self) -> Vec<Offer> {
        let most = self.modes.iter().map(|mode| mode.inputs).max().unwrap_or(0).min(self.inputs());
        let mut offers: Vec<Offer> = Vec::new();
        for streams in [false, true] {
            for inputs in 1..=most {
                let rates = self.rates_for(inputs, streams).into_iter();
                let memory = |rate| self.mode_for(inputs, rate, streams).map_or(0, |mode| mode.memory);
                let rates: Vec<(Rate, u64)> = rates.map(|rate| (rate, memory(rate))).collect();
                match offers.last_mut() {
                    Some(last) if last.streams == streams && last.rates == rates => last.to = inputs,
                    _ if rates.is_empty() => {}
                    _ => offers.push(Offer { from: inputs, to: inputs, streams, rates }),
                }
            }
        }
        offers
    }
}
