//! The analog lines of a capture as rows: wherever one of them changes.

use crate::capture::{AnalogTrace, Capture};
use crate::line::AnalogId;
use crate::quantity::Voltage;
use crate::time::Tick;

/// Walks over the ticks at which an analog line changes.
pub(super) struct Voltages<'a> {
    lines: Vec<Walk<'a>>,
    len: u64,
}

/// One line.
struct Walk<'a> {
    trace: &'a AnalogTrace,
    /// The code now; `None` where it is not known.
    code: Option<i16>,
    /// The next sample with another code, its tick and its code.
    next: Option<(u64, Tick, Option<i16>)>,
}

impl<'a> Walk<'a> {
    /// At the first tick; what the first sample shows is taken for what was before it.
    fn new(trace: &'a AnalogTrace) -> Self {
        let mut walk = Walk { trace, code: trace.code(0), next: None };
        walk.next = walk.after(0);
        walk
    }

    fn after(&self, sample: u64) -> Option<(u64, Tick, Option<i16>)> {
        let later = (sample + 1..self.trace.len()).map(|sample| (sample, self.trace.code(sample)));
        let (sample, code) = later.into_iter().find(|(_, code)| *code != self.code)?;
        Some((sample, self.trace.tick_of(sample), code))
    }

    fn step(&mut self, tick: Tick) {
        if let Some((sample, _, code)) = self.next.take_if(|(_, at, _)| *at == tick) {
            self.code = code;
            self.next = self.after(sample);
        }
    }
}

impl<'a> Voltages<'a> {
    pub(super) fn new(capture: &'a Capture) -> Self {
        let traces = (0..capture.analog_lines().len()).map(|line| capture.analog(AnalogId(line)));
        Voltages { lines: traces.map(Walk::new).collect(), len: capture.len() }
    }

    /// The tick of the next row.
    pub(super) fn peek(&self) -> Option<Tick> {
        let next = self.lines.iter().filter_map(|line| line.next.map(|(_, tick, _)| tick)).min();
        next.filter(|tick| tick.0 < self.len)
    }

    /// Goes on to the next row.
    pub(super) fn step(&mut self) {
        if let Some(tick) = self.peek() {
            self.lines.iter_mut().for_each(|line| line.step(tick));
        }
    }

    /// The voltages now; `None` where they are not known.
    pub(super) fn now(&self) -> impl Iterator<Item = Option<Voltage>> {
        self.lines.iter().map(|line| line.code.map(|code| line.trace.scale().voltage(code)))
    }
}
