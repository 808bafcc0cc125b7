//! Recording from a stream: the host looks for the trigger and keeps what came before it.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::driver::{Acquisition, Progress, Recording, short_of_past};
use super::{Configuration, Status};
use crate::error::{Error, ErrorKind, Result};
use crate::event::StreamSearch;
use crate::scan::{Filler, SampleBlock, Samples};
use crate::time::{Rate, Rational, Tick, Time};

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
    fn drain(&mut self, first: u64, filler: &mut Filler) {
        for (start, block) in self.blocks.drain(..) {
            filler.push(cut(&block, start, first..u64::MAX));
        }
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
    progress: &mut dyn FnMut(Progress) -> ControlFlow<()>,
) -> Result<Recording> {
    let Acquisition { instrument, configuration, names, mut search, time_out } = acquisition;
    instrument.configure(configuration)?;
    instrument.arm()?;
    let bits: Vec<u32> = (0..configuration.inputs.len() as u32).collect();
    let mut filler = Filler::new(&bits);
    let mut ring = Ring { blocks: VecDeque::new(), before: configuration.before };
    let mut block = SampleBlock::default();
    let after = configuration.samples.saturating_sub(configuration.before);
    // The trigger, the first sample kept, and the one after the last.
    let mut kept = search.is_none().then_some((None, 0, configuration.samples));
    let mut position = 0;
    loop {
        let over = match instrument.status()? {
            Status::Done { .. } | Status::Over { .. } | Status::Idle => true,
            Status::Waiting { .. } | Status::Recording { .. } => false,
        };
        loop {
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
                ring.drain(first, &mut filler);
                kept = Some((Some(hit.0 - first), first, hit.0 + after));
            }
            match kept {
                Some((_, first, last)) => filler.push(cut(&block, start, first..last)),
                None => ring.push(start, std::mem::take(&mut block)),
            }
        }
        let seen = elapsed(configuration.rate, position);
        let (now, full) = match kept {
            Some((_, first, last)) => {
                let (done, of) = (filler.position(), last - first);
                (Progress::Recording { done, of }, done >= of)
            }
            None => (Progress::Waiting { elapsed: seen }, false),
        };
        let stopped = progress(now).is_break();
        if kept.is_none() && (over || stopped || time_out.is_some_and(|limit| seen >= limit)) {
            instrument.stop()?;
            return Err(never_came(configuration, names, search.as_ref(), seen, over, time_out));
        }
        if full || over || stopped {
            instrument.stop()?;
            let trigger = kept.and_then(|(trigger, ..)| trigger);
            let len = filler.position();
            let trigger = trigger.map(Tick);
            let mut remarks = instrument.remarks();
            remarks.extend(short_of_past(configuration, trigger));
            return Ok(Recording { traces: filler.finish(), len, trigger, remarks });
        }
    }
}

fn never_came(
    configuration: &Configuration,
    names: &[&str],
    search: Option<&StreamSearch>,
    seen: Time,
    over: bool,
    time_out: Option<Time>,
) -> Error {
    let message = match time_out.filter(|_| !over) {
        Some(limit) => format!("the trigger did not come within {limit}"),
        None => format!("the trigger did not come before the record ended after {seen}"),
    };
    let Some(search) = search else { return Error::new(ErrorKind::TimeOut, message) };
    let lines = search.activity().into_iter().filter(|(line, ..)| line.0 < configuration.inputs.len());
    let lines = lines.map(|(line, edges, level)| {
        let name = names.get(line.0).copied().unwrap_or("?");
        match edges {
            0 => format!("  {name}: {level}, never changed"),
            1 => format!("  {name}: 1 edge, {level} at the end"),
            n => format!("  {name}: {n} edges, {level} at the end"),
        }
    });
    let mut help = format!("seen meanwhile on its lines:\n{}", lines.collect::<Vec<_>>().join("\n"));
    for state in search.states() {
        let here = if state.present { ", and is the present state" } else { "" };
        help.push_str(&format!("\nstate {}: entered {} times{here}", state.name, state.entered));
        for (wait, seen) in state.arms {
            match seen {
                Some(seen) => help.push_str(&format!("\n  {wait}: came {seen} times in all")),
                None => help.push_str(&format!("\n  {wait}")),
            }
        }
    }
    Error::new(ErrorKind::TimeOut, message).with_help(help)
}
