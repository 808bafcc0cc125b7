//! In which order a bus is looked at.

use super::finding::Sureness;
use super::patient::Patient;
use super::timing;
use crate::decode::{Protocol, Strobes};

impl Patient<'_> {
    /// What nothing else can be told beside comes first: no signal, the wrong lines, noise, too slow a record.
    pub(super) fn examine(&mut self) {
        if self.silent() || (self.is_fine() && self.exchanged()) || self.noisy() || self.clock_is_too_fast() {
            return;
        }
        self.hangs();
        if self.echoes() {
            return;
        }
        match self.bus.protocol() {
            Protocol::Uart(config) => self.uart(*config),
            Protocol::I2c(_) => self.two_wire(),
            Protocol::Spi(config) => self.spi(*config),
            Protocol::Can(config) => self.can(*config),
            Protocol::Clocked(config) => self.clocked(*config),
            Protocol::Jtag(_) => self.port(),
            Protocol::OneWire => self.one_wire(),
            Protocol::Pulses(config) => self.pulses(*config),
            Protocol::Lin(config) => self.lin(*config),
            Protocol::Parallel(config) => self.parallel(*config),
            Protocol::I2s(config) => self.sound(*config),
            Protocol::Mdio | Protocol::Swd => self.asked(),
            Protocol::Custom(_) => self.plain(),
        }
        self.quiet_data();
        if self.findings.is_empty() && self.edges(0) >= 4 {
            let stated = self.look(self.bus.protocol()).unwrap_or_default();
            if stated.frames + stated.cut_off == 0 {
                self.unread(&stated, "check that this is the line, and the settings of the bus");
            }
        }
    }

    /// Whether the record shows which of two edges comes first: half a period of the busiest line has more
    /// than a tick.
    fn is_fine(&self) -> bool {
        let half = timing::shortest(self.capture, self.line(self.busiest()), self.range.clone());
        self.capture.base().is_exact() || half.is_none_or(|half| half >= 2)
    }

    /// The place of the line with most edges.
    pub(super) fn busiest(&self) -> usize {
        (0..self.bus.lines().len()).rev().max_by_key(|place| self.edges(*place)).unwrap_or(0)
    }

    /// Whether a clock has so few samples a period that nothing else can be told.
    fn clock_is_too_fast(&mut self) -> bool {
        let has_clock = match self.bus.protocol() {
            Protocol::Uart(_)
            | Protocol::Can(_)
            | Protocol::Lin(_)
            | Protocol::OneWire
            | Protocol::Pulses(_) => false,
            Protocol::Parallel(config) => matches!(config.strobes, Strobes::Clock(_)),
            _ => true,
        };
        if !has_clock {
            return false;
        }
        // The clock may be another line than it is said to be: it is the one with most edges.
        let ticks = self.ticks(self.line(self.busiest()));
        let halves: Vec<u64> = ticks.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let levels = [0, 1].map(|first| halves.iter().skip(first).step_by(2).copied().collect::<Vec<u64>>());
        let Some(half) = levels.iter().filter_map(|own| timing::usual(own)).reduce(f64::min) else {
            return false;
        };
        let too_fast = self.samples(2.0 * half, "clock period");
        // A clock's pulses are alike, but for rests.
        let alike = halves.iter().filter(|length| **length as f64 <= 2.0 * half + 1.0).count();
        if alike * 10 < halves.len() * 8
            && let Some(finding) = self.findings.last_mut().filter(|_| too_fast)
        {
            finding.sureness = Sureness::Likely;
            finding.remedy.push_str("; if that does not help, it is noise: look at the ground lead");
        }
        too_fast
    }
}
