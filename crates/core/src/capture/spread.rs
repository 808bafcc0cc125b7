//! How well the edges of a line are known that is made from an analog one, while it is recorded.

use crate::line::{AnalogScale, Crossing, Level};
use crate::quantity::Voltage;

/// Follows a line made at a threshold, sample by sample, and knows how far its true crossings may lie from
/// where the level changes: the same as is worked out of a finished trace.
#[derive(Clone, Debug)]
pub(crate) struct SpreadMeter {
    low_to: i32,
    high_from: i32,
    sample: u64,
    level: Level,
    /// The last sample that was certainly on the side of the present level, since it is that.
    certain: Option<u64>,
    /// The sample of a change after which none was certain yet.
    open: Option<u64>,
    /// Samples, at the most; `None` where a change has no certain sample on one of its sides.
    most: Option<u64>,
}

impl SpreadMeter {
    pub(crate) fn new(scale: AnalogScale, crossing: Crossing) -> Self {
        let (low_to, high_from) = crossing.certain(scale, Voltage::ZERO);
        SpreadMeter {
            low_to,
            high_from,
            sample: 0,
            level: Level::Unknown,
            certain: None,
            open: None,
            most: Some(0),
        }
    }

    /// The next sample, and the level that was made of it.
    pub(crate) fn push(&mut self, level: Level, code: i16) {
        let sample = self.sample;
        self.sample += 1;
        if level != self.level {
            if self.level != Level::Unknown {
                let before = self.certain.filter(|_| self.open.is_none());
                self.reach(before.map(|before| sample - before));
                self.open = Some(sample);
            }
            (self.level, self.certain) = (level, None);
        }
        let code = i32::from(code);
        let certain = match level {
            Level::High => code >= self.high_from,
            _ => code <= self.low_to,
        };
        if certain {
            self.certain = Some(sample);
            if let Some(open) = self.open.take() {
                self.reach(Some(sample - open));
            }
        }
    }

    fn reach(&mut self, samples: Option<u64>) {
        self.most = self.most.zip(samples).map(|(most, samples)| most.max(samples));
    }

    /// How far, in samples of the analog line; `None` where that cannot be told.
    pub(crate) fn most(&self) -> Option<u64> {
        self.most.filter(|_| self.open.is_none())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::SpreadMeter;
    use crate::capture::AnalogBuilder;
    use crate::capture::crossing::spread;
    use crate::line::{AnalogId, AnalogScale, Crossing, Level, Side};
    use crate::quantity::Voltage;

    fn volts(text: &str) -> Voltage {
        text.parse().unwrap()
    }

    proptest! {
        /// What is known while recording is what a finished trace shows.
        #[test]
        fn it_knows_what_a_finished_trace_shows(
            codes in prop::collection::vec(-30i16..30, 1..120),
            error in 0i64..12,
            hysteresis in 0i64..20,
            every in 1u64..4,
        ) {
            let millis = |n: i64| volts(&format!("{n} mV"));
            let scale = AnalogScale::new(volts("0 V"), volts("1 mV"), millis(error)).unwrap();
            let crossing = Crossing::new(AnalogId(0), volts("2 mV"), Side::Both).unwrap();
            let gate = crossing.line_gate(scale, (hysteresis > 0).then(|| millis(hysteresis)));
            let mut builder = AnalogBuilder::new();
            builder.push(&codes);
            let trace = builder.finish(scale, 0, every);
            let levels = trace.levels(gate, codes.len() as u64 * every);
            let mut meter = SpreadMeter::new(scale, crossing);
            let mut level = Level::Unknown;
            for code in &codes {
                level = gate.next(level, *code);
                meter.push(level, *code);
            }
            let shown = spread(&trace, crossing, Voltage::ZERO, &levels);
            prop_assert_eq!(meter.most().map(|samples| samples * every), shown);
        }
    }
}
