//! Clocks that come in bursts.

use std::ops::Range;

use super::intervals::Intervals;
use crate::capture::Capture;
use crate::event::TimedProgram;
use crate::time::Tick;

/// An event that repeats in bursts, with pauses between: as of a clock that only runs while something is
/// transferred.
#[derive(Clone, Debug)]
pub struct Bursts {
    /// How many bursts there are.
    pub count: u64,
    /// The periods within them.
    pub periods: Intervals,
}

/// A pause is longer than so many usual periods.
const PAUSE: i64 = 4;

/// Of so many usual periods, one may be neither usual nor a pause: between the bytes of a transfer.
const ODD: u64 = 6;

/// The bursts in which an event repeats, given all its periods ([`periods`](super::periods)); `None` where it
/// does not. Nearly all periods must be within a quarter of the median one, or be pauses, longer than four of
/// them; and pauses must make up a third of the time at least.
///
/// ```
/// use deep_tap_core::capture::{Capture, Trace};
/// use deep_tap_core::event::{Program, Scope};
/// use deep_tap_core::line::Level;
/// use deep_tap_core::measure::{bursts, periods};
/// use deep_tap_core::time::TimeBase;
///
/// // Eight periods of 100 ns each millisecond.
/// let edges = (0..5u64).flat_map(|burst| (0..18u64).map(move |edge| 1000 + burst * 100_000 + edge * 5));
/// let base = TimeBase::from_rate("100 MS/s".parse()?)?;
/// let capture = Capture::builder(base, 600_000)
///     .line("SCLK", Trace::toggling(Level::Low, edges, 600_000)?)
///     .build()?;
/// let rises = Program::compile("SCLK rises", &Scope::of(&capture))?.at(base)?;
/// let all = periods(&capture, &rises, capture.range());
/// assert_eq!(all.mean().unwrap().recip().value.round(), 10_998.0);
/// let bursts = bursts(&capture, &rises, capture.range(), &all).unwrap();
/// assert_eq!((bursts.count, bursts.periods.count()), (5, 40));
/// assert_eq!(bursts.periods.mean().unwrap().recip().value.round(), 10e6);
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn bursts(
    capture: &Capture,
    event: &TimedProgram,
    range: Range<Tick>,
    all: &Intervals,
) -> Option<Bursts> {
    let usual = all.ticks.percentile(50.0)?;
    let pause = usual.saturating_mul(PAUSE);
    if all.ticks.max()? <= pause {
        return None;
    }
    let (mut near, mut odd, mut together) = (0, 0, 0i128);
    for (ticks, count) in all.ticks.values().take_while(|(ticks, _)| *ticks <= pause) {
        // A tick more, since each is known to one.
        let off = ticks.saturating_sub(usual).abs().saturating_sub(1);
        match off.saturating_mul(4) <= usual {
            true => near += count,
            false => odd += count,
        }
        together += i128::from(ticks) * i128::from(count);
    }
    let pauses = all.ticks.sum() - together;
    if odd * ODD > near || pauses * 2 < together {
        return None;
    }
    let instants = event.instants();
    let mut periods = Intervals::between(capture, &instants, &instants);
    let (mut count, mut burst) = (0, None::<(Tick, Tick)>);
    let mut end = |burst: Option<(Tick, Tick)>, periods: &mut Intervals| {
        if let Some((first, last)) = burst.filter(|(first, last)| last > first) {
            count += 1;
            periods.add_run(last.since(first));
        }
    };
    for hit in event.hits(capture, range) {
        burst = Some(match burst {
            Some((first, last)) if hit.tick.since(last) <= pause => {
                periods.add(last, hit.tick);
                (first, hit.tick)
            }
            other => {
                end(other, &mut periods);
                (hit.tick, hit.tick)
            }
        });
    }
    end(burst, &mut periods);
    // One burst, or bursts of one period each, is no clock that stops and goes on.
    (count > 1 && periods.count() >= 2 * count).then_some(Bursts { count, periods })
}
