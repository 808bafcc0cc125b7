//! A record whose times are those of samples.

use std::sync::Arc;

use super::analog::AnalogTrace;
use super::builder::TraceBuilder;
use super::held::HeldBuilder;
use super::record::Capture;
use super::trace::Trace;
use crate::error::{Error, ErrorKind, Result};
use crate::line::{AnalogId, Line};
use crate::quantity::{Rational, Time};
use crate::time::{Resolution, Tick, TimeBase};

/// The share of a period, one over this, by which a time may be off its sample since it was rounded.
const ROUNDING: i128 = 8;

impl Capture {
    /// The same record as an instrument made it that took a sample each `period`, from the first tick on: of
    /// a file that has the times of changes, but does not say that they are those of samples.
    ///
    /// ```
    /// use deep_tap_core::capture::{Capture, Trace};
    /// use deep_tap_core::line::Level;
    /// use deep_tap_core::time::{Resolution, TimeBase};
    ///
    /// // Times in nanoseconds, of a sample each 1/24 us.
    /// let base = TimeBase::from_tick("1 ns".parse()?)?;
    /// let changes = Trace::toggling(Level::Low, [42, 125, 167], 251)?;
    /// let dump = Capture::builder(base, 251).resolution(Resolution::EXACT).line("CLK", changes).build()?;
    /// let record = dump.on_grid(TimeBase::from_rate("24 MS/s".parse()?)?.tick(), Resolution::SAMPLED)?;
    /// assert_eq!((record.len(), record.traces()[0].edge_count()), (7, 3));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// When a change lies between two samples, the period is not positive, or the record is too long.
    pub fn on_grid(self, period: Time, resolution: Resolution) -> Result<Capture> {
        let base = TimeBase::from_tick(period)?;
        let grid = Grid::new(self.base(), base)?;
        if grid.num == grid.den {
            return self.into_builder().resolution(resolution).build();
        }
        let analog = (0..self.analog_lines().len()).map(|id| self.analog(AnalogId(id)));
        if analog.clone().any(|trace| !trace.holds()) {
            let message = "analog lines of a dump cannot be put on another grid";
            return Err(Error::new(ErrorKind::Capture, message).with_help("leave the rate out"));
        }
        let len = match self.len().checked_sub(1) {
            Some(last) => grid.nearest(last).saturating_add(1),
            None => 0,
        };
        let zero = grid.nearest_position(self.base().zero_at());
        let lines = self.lines().iter().zip(self.traces());
        let traces = lines.map(|(line, trace)| grid.moved(line, trace, len).map(Arc::new));
        let traces = traces.collect::<Result<Vec<_>>>()?;
        let analog = analog.map(|trace| grid.moved_voltages(trace, len)).collect::<Result<Vec<_>>>()?;
        let mut builder = self
            .into_builder()
            .replace_analog(analog)
            .base(base.with_zero_at(zero))
            .length(len)
            .resolution(resolution);
        builder.capture.traces = traces;
        builder.build()
    }
}

/// From ticks of one length to those of another: `ticks * num / den`.
struct Grid {
    from: TimeBase,
    to: TimeBase,
    num: i128,
    den: i128,
}

impl Grid {
    fn new(from: TimeBase, to: TimeBase) -> Result<Self> {
        let ratio = to.ticks_in(from.tick());
        // Times a tick, this fits.
        let small = |ratio: &Rational| ratio.numerator() < 1 << 62 && ratio.denominator() < 1 << 62;
        let ratio = ratio.filter(small).ok_or_else(|| {
            let message = format!("times in steps of {} cannot be counted in {}", from.tick(), to.tick());
            Error::new(ErrorKind::Range, message).with_help("state the rate with fewer digits")
        })?;
        Ok(Grid { from, to, num: ratio.numerator(), den: ratio.denominator() })
    }

    /// The voltages of a line; of several at one tick of the new grid the last counts.
    fn moved_voltages(&self, trace: &AnalogTrace, len: u64) -> Result<AnalogTrace> {
        let mut moved: Vec<(u64, Option<i16>)> = Vec::new();
        for sample in 0..trace.len() {
            let now = (self.nearest(trace.tick_of(sample).0), trace.code(sample));
            match moved.last_mut() {
                Some(last) if last.0 == now.0 => *last = now,
                _ => moved.push(now),
            }
        }
        let mut moved = moved.into_iter().peekable();
        let start = moved.next_if(|(tick, _)| *tick == 0).and_then(|(_, code)| code);
        let mut builder = HeldBuilder::new(start);
        moved.try_for_each(|(tick, code)| builder.push(Tick(tick), code))?;
        Ok(builder.finish(trace.scale(), len))
    }

    fn nearest(&self, tick: u64) -> u64 {
        let nearest = (i128::from(tick) * self.num + self.den / 2) / self.den;
        u64::try_from(nearest).unwrap_or(u64::MAX)
    }

    /// The same of a position that may lie before the first tick.
    fn nearest_position(&self, position: i64) -> i64 {
        let nearest = i64::try_from(self.nearest(position.unsigned_abs())).unwrap_or(i64::MAX);
        if position < 0 { -nearest } else { nearest }
    }

    fn moved(&self, line: &Line, trace: &Trace, len: u64) -> Result<Trace> {
        let mut builder = TraceBuilder::new(trace.level_at(Tick(0)));
        for edge in trace.edges(Tick(0)..Tick(trace.len())) {
            let sample = self.nearest(edge.tick.0);
            let off = i128::from(edge.tick.0) * self.num - i128::from(sample) * self.den;
            if off.abs() * ROUNDING > self.den {
                return Err(self.between(line, edge.tick));
            }
            builder.push_edge(Tick(sample), edge.to).map_err(|_| self.twice(line, edge.tick))?;
        }
        Ok(builder.finish(len))
    }

    fn between(&self, line: &Line, tick: Tick) -> Error {
        let (at, rate) = (self.from.time_of(tick), self.to.rate());
        let message = format!("{} changes at {at}, between two samples at {rate}", line.name);
        Error::new(ErrorKind::Capture, message).with_help(format!(
            "state the rate at which it was recorded; all times lie on a grid of {}, which is {}",
            self.from.tick(),
            self.from.rate()
        ))
    }

    fn twice(&self, line: &Line, tick: Tick) -> Error {
        let (at, rate) = (self.from.time_of(tick), self.to.rate());
        let message = format!("{} changes twice in one sample at {rate}, at {at} again", line.name);
        Error::new(ErrorKind::Capture, message).with_help("state the rate at which it was recorded")
    }
}
