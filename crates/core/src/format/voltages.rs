//! The analog lines of a capture as rows: wherever one of them changes.

use crate::capture::Capture;
use crate::line::AnalogId;
use crate::quantity::Voltage;
use crate::time::Tick;

/// Walks over the samples at which an analog line changes.
pub(super) struct Voltages<'a> {
    capture: &'a Capture,
    lines: usize,
    /// The codes at the last row.
    codes: Vec<Option<i16>>,
    /// The sample of the next row, and its codes.
    next: Option<(u64, Vec<Option<i16>>)>,
}

impl<'a> Voltages<'a> {
    /// At the first tick; what the first sample shows is taken for what was before it.
    pub(super) fn new(capture: &'a Capture) -> Self {
        let lines = capture.analog_lines().len();
        let mut rows = Voltages { capture, lines, codes: Vec::new(), next: None };
        rows.codes = rows.at(0);
        rows.next = rows.after(0);
        rows
    }

    fn at(&self, sample: u64) -> Vec<Option<i16>> {
        (0..self.lines).map(|line| self.capture.analog(AnalogId(line)).code(sample)).collect()
    }

    fn after(&self, sample: u64) -> Option<(u64, Vec<Option<i16>>)> {
        let len = if self.lines > 0 { self.capture.analog(AnalogId(0)).len() } else { 0 };
        (sample + 1..len).map(|sample| (sample, self.at(sample))).find(|(_, codes)| *codes != self.codes)
    }

    /// The tick of the next row.
    pub(super) fn peek(&self) -> Option<Tick> {
        let (sample, _) = self.next.as_ref()?;
        Some(self.capture.analog(AnalogId(0)).tick_of(*sample)).filter(|tick| tick.0 < self.capture.len())
    }

    /// Goes on to the next row.
    pub(super) fn step(&mut self) {
        if let Some((sample, codes)) = self.next.take() {
            self.codes = codes;
            self.next = self.after(sample);
        }
    }

    /// The voltages now; `None` where they are not known.
    pub(super) fn now(&self) -> impl Iterator<Item = Option<Voltage>> {
        let scale = |line: usize| self.capture.analog(AnalogId(line)).scale();
        self.codes.iter().enumerate().map(move |(line, code)| code.map(|code| scale(line).voltage(code)))
    }
}
