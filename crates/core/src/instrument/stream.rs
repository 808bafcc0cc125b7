//! Recording from a stream: the host looks for the trigger and keeps what came before it.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::driver::{Acquisition, Progress, Recorded, Sink, short_of_past, stopped_waiting};
use super::{Configuration, Status};
use crate::error::{Error, ErrorKind, Result};
use crate::event::StreamSearch;
use crate::scan::{SampleBlock, Samples};
use crate::time::{Rate, Rational, Tick, Time};

/// Samples read before the user hears of it again, also when more have arrived.
const STRIDE: u64 = 1 << 20;

/// The blocks that the part before the trigger may need.
struct Ring {
    blocks: VecDeque<(u64, SampleBlock)>,
    before: u64,
}

impl Ring {
    fn push(&mut self, start: u64, block: SampleBlock) {
        let end = start + block.len() as u64;
        self.blocks.push_back((start, block));
        let oldest = end.saturating_sub(self.before);
        while self.blocks.front().is_some_and(|(at, b)| at + b.len() as u64 <= oldest) {
            self.blocks.pop_front();
        }
    }

    /// Hands over the samples from `first` on.
    fn drain(&mut self, first: u64, sink: &mut dyn Sink) -> Result<()> {
        let mut blocks = self.blocks.drain(..);
        blocks.try_for_each(|(start, block)| sink.push(cut(&block, start, first..u64::MAX)))
    }
}

/// The samples of a block that lie in a range of positions.
fn cut(block: &SampleBlock, start: u64, range: std::ops::Range<u64>) -> Samples<'_> {
    let len = block.len() as u64;
    let place = |position: u64| position.saturating_sub(start).min(len) as usize;
    block.samples().slice(place(range.start)..place(range.end))
}

fn elapsed(rate: Rate, samples: u64) -> Time {
    let period = rate.period().map_or(Rational::ZERO, Time::to_rational);
    let samples = Rational::new(i128::from(samples), 1).unwrap_or(Rational::ZERO);
    Time::from_rational(period.checked_mul(samples).unwrap_or(Rational::ZERO))
}

pub(super) fn run(
    acquisition: Acquisition<'_>,
    sink: &mut dyn Sink,
    progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
) -> Result<Recorded> {
    let Acquisition { instrument, configuration, names, mut search, time_out } = acquisition;
    instrument.configure(configuration)?;
    instrument.arm()?;
    let mut ring = Ring { blocks: VecDeque::new(), before: configuration.before };
    let mut block = SampleBlock::default();
    let after = configuration.samples.saturating_sub(configuration.before);
    // The trigger, the first sample kept, and the one after the last.
    let mut kept = search.is_none().then_some((None, 0, configuration.samples));
    if kept.is_some() {
        sink.begin(None)?;
    }
    let mut position = 0;
    loop {
        let over = match instrument.status()? {
            Status::Done { .. } | Status::Over { .. } | Status::Idle => true,
            Status::Waiting { .. } | Status::Recording { .. } => false,
        };
        let pause = position + STRIDE;
        while position < pause && kept.is_none_or(|(_, _, last)| position < last) {
            instrument.read(&mut block)?;
            if block.is_empty() {
                break;
            }
            let start = position;
            position += block.len() as u64;
            if kept.is_none()
                && let Some(search) = &mut search
                && let Some(hit) = search.push(block.samples()).first()
            {
                let first = hit.0.saturating_sub(configuration.before);
                sink.begin(Some(Tick(hit.0 - first)))?;
                ring.drain(first, sink)?;
                kept = Some((Some(Tick(hit.0 - first)), first, hit.0 + after));
            }
            match kept {
                Some((_, first, last)) => sink.push(cut(&block, start, first..last))?,
                None => ring.push(start, std::mem::take(&mut block)),
            }
        }
        let seen = elapsed(configuration.rate, position);
        let (now, full) = match kept {
            Some((_, first, last)) => {
                let (done, of) = (position.min(last) - first, last - first);
                (Progress::Recording { done, of }, done >= of)
            }
            None => (Progress::Waiting { elapsed: seen }, false),
        };
        let stopped = progress(now).is_break();
        if kept.is_none() && (over || stopped || time_out.is_some_and(|limit| seen >= limit)) {
            instrument.stop()?;
            let message = match time_out {
                _ if over => format!("the trigger did not come before the record ended after {seen}"),
                Some(limit) if seen >= limit => format!("the trigger did not come within {limit}"),
                _ => stopped_waiting(seen),
            };
            return Err(never_came(message, configuration, names, search.as_ref()));
        }
        if full || over || stopped {
            instrument.stop()?;
            let (trigger, first, last) = kept.unwrap_or_default();
            let len = position.min(last).saturating_sub(first);
            let mut remarks = instrument.remarks();
            remarks.extend(short_of_past(configuration, trigger));
            return Ok(Recorded { len, trigger, remarks });
        }
    }
}

/// The trigger did not come: what was seen instead.
fn never_came(
    message: String,
    configuration: &Configuration,
    names: &[&str],
    search: Option<&StreamSearch>,
) -> Error {
    let Some(search) = search else { return Error::new(ErrorKind::TimeOut, message) };
    let lines = search.activity().into_iter().filter_map(|(signal, edges, level)| {
        let line = signal.line().filter(|line| line.0 < configuration.inputs.len())?;
        let name = names.get(line.0).copied().unwrap_or("?");
        Some(match edges {
            0 => format!("  {name}: {level}, never changed"),
            1 => format!("  {name}: 1 edge, {level} at the end"),
            n => format!("  {name}: {n} edges, {level} at the end"),
        })
    });
    let mut help = format!("seen meanwhile on its lines:\n{}", lines.collect::<Vec<_>>().join("\n"));
    for (name, least, most) in search.voltages() {
        help.push_str(&format!("\n  {name}: from {:.3} V to {:.3} V", least.to_f64(), most.to_f64()));
    }
    for bus in search.bus_values() {
        let what = if bus.at_event { "had, where the rest of the event happened" } else { "changed to" };
        let most: Vec<String> =
            bus.values.iter().take(6).map(|(value, count)| format!("{value} {}", times(*count))).collect();
        let rest = bus.values.iter().skip(6).map(|(_, count)| count).sum::<u64>() + bus.others;
        let rest = (rest > 0).then(|| format!("others {}", times(rest)));
        let told: Vec<String> = most.into_iter().chain(rest).collect();
        let told = if told.is_empty() { "nothing".to_string() } else { told.join(", ") };
        help.push_str(&format!("\n  {} {what}: {told}", bus.name));
    }
    for state in search.states() {
        let here = if state.present { ", and is the present state" } else { "" };
        help.push_str(&format!("\nstate {}: entered {}{here}", state.name, times(state.entered)));
        for (wait, seen) in state.arms {
            match seen {
                Some(seen) => help.push_str(&format!("\n  {wait}: came {} in all", times(seen))),
                None => help.push_str(&format!("\n  {wait}")),
            }
        }
    }
    Error::new(ErrorKind::TimeOut, message).with_help(help)
}

fn times(count: u64) -> String {
    match count {
        1 => "once".to_string(),
        2 => "twice".to_string(),
        n => format!("{n} times"),
    }
}
