//! What a recording is described as when it begins and when it ends, and how well the edges of lines are known that
//! are made from analog ones.

use super::Setup;
use super::sink::CaptureSink;
use crate::capture::{Capture, SpreadMeter};
use crate::error::Result;
use crate::instrument::Sink;
use crate::line::{AnalogScale, Crossing, Gate, Level, Threshold};
use crate::quantity::{Time, Voltage};
use crate::scan::{SampleBlock, Samples};
use crate::time::{Tick, TimeBase};

/// A capture without ticks, from its trigger, its remarks and what is known of its made lines.
pub(super) type Describe<'a> = dyn Fn(Option<Tick>, Vec<String>, &[SpreadLine]) -> Result<Capture> + 'a;

/// Makes the description when the recording begins, and measures how well the edges of made lines are known.
pub(super) struct Described<'a> {
    pub(super) sink: &'a mut dyn CaptureSink,
    pub(super) describe: &'a Describe<'a>,
    pub(super) made: Vec<SpreadLine>,
}

impl Sink for Described<'_> {
    fn begin(&mut self, trigger: Option<Tick>) -> Result<()> {
        self.sink.begin((self.describe)(trigger, Vec::new(), &self.made)?)
    }

    fn push(&mut self, samples: Samples<'_>) -> Result<()> {
        if self.made.iter().all(|made| made.settled) {
            self.made.iter_mut().for_each(|made| made.push(samples));
            return self.sink.push(samples);
        }
        let unsettled = self.unsettled(samples);
        let samples = unsettled.samples();
        self.made.iter_mut().for_each(|made| made.push(samples));
        self.sink.push(samples)
    }
}

impl Described<'_> {
    /// The same samples, in which a made line is unknown until a voltage of this record lies on one side of its
    /// threshold for certain: when it came there from the other one is nowhere to be seen.
    fn unsettled(&mut self, samples: Samples<'_>) -> SampleBlock {
        let mut block = SampleBlock::new(samples.width());
        let settles: Vec<(usize, usize)> =
            self.made.iter_mut().map(|made| (made.line, made.settle(samples))).collect();
        for (number, (levels, unknown)) in samples.iter().enumerate() {
            let open = settles.iter().filter(|(_, from)| number < *from);
            block.push(levels, open.fold(unknown, |unknown, (line, _)| unknown | 1 << line));
        }
        block.append_codes(samples, 0);
        block
    }
}

/// How well the edges of a line are known that is made from an analog one.
pub(super) struct SpreadLine {
    line: usize,
    analog: usize,
    meter: SpreadMeter,
    every: u64,
    gate: Gate,
    /// Whether a voltage lay on one side of the threshold for certain.
    settled: bool,
    /// Whether all samples have come. What breaks off before says nothing of how well its edges are known.
    ended: bool,
}

impl SpreadLine {
    /// A line with the voltage that parts its levels, and ticks from one analog sample to the next.
    pub(super) fn new(
        (line, crossing): (usize, Crossing),
        scale: AnalogScale,
        gate: Gate,
        every: u64,
    ) -> Self {
        let meter = SpreadMeter::new(scale, crossing);
        SpreadLine { line, analog: crossing.analog().0, meter, every, gate, settled: false, ended: false }
    }

    pub(super) fn line(&self) -> usize {
        self.line
    }

    /// The sample of these from which on the line has a level.
    fn settle(&mut self, samples: Samples<'_>) -> usize {
        if self.settled {
            return 0;
        }
        let (first, every, codes) = samples.analog(self.analog);
        let certain = |code: &i16| self.gate.next(Level::Unknown, *code) != Level::Unknown;
        let place = codes.iter().position(certain);
        self.settled = place.is_some();
        place.map_or(samples.len(), |place| (first + place as u64 * every) as usize)
    }

    fn push(&mut self, samples: Samples<'_>) {
        let (first, every, codes) = samples.analog(self.analog);
        for (place, code) in (0..).zip(codes) {
            let (levels, unknown) = samples.get((first + place * every) as usize);
            let bit = |word: u64| word >> self.line & 1 == 1;
            self.meter.push(if bit(unknown) { Level::Unknown } else { Level::from(bit(levels)) }, *code);
        }
    }

    /// How much less well its edges are known than those of an input.
    pub(super) fn extra(&self, base: TimeBase) -> Time {
        let most = self.meter.most().filter(|_| self.ended);
        let ticks = most.and_then(|samples| samples.checked_mul(self.every));
        base.length_of(ticks.and_then(|ticks| i64::try_from(ticks).ok()).unwrap_or(i64::MAX))
    }

    /// All samples have come.
    pub(super) fn end(&mut self) {
        self.ended = true;
    }

    /// The same in words.
    pub(super) fn told(&self, setup: &Setup, base: TimeBase) -> String {
        let line = &setup.lines[self.line].line;
        let threshold = line.threshold.map_or(Voltage::ZERO, Threshold::voltage);
        let known = match (self.ended, self.meter.most()) {
            (true, Some(_)) => format!("its edges are known {} less well", self.extra(base)),
            (true, None) => {
                "a voltage hardly left the threshold, so that no edge of it is known: state a wider hysteresis"
                    .to_string()
            }
            (false, _) => {
                "the recording did not come to its end, so that no edge of it is known".to_string()
            }
        };
        format!(
            "line {} made from analog line {} at {threshold}; {known}",
            line.name, setup.analog[self.analog].line.name
        )
    }
}
