//! Reading from an instrument on a thread of its own, so that it need not wait while samples are looked at.

use std::ops::ControlFlow;
use std::sync::mpsc::{Receiver, SyncSender, channel, sync_channel};
use std::thread::{Builder, scope};

use super::{Instrument, Status};
use crate::error::{Error, ErrorKind, Result};
use crate::scan::SampleBlock;

/// Samples that are handed on together, and how often that may wait to be taken.
const TOGETHER: usize = 1 << 16;
const WAITING: usize = 8;

/// What has arrived.
#[derive(Default)]
pub(super) struct Arrived {
    /// Samples, in their order.
    pub(super) blocks: Vec<SampleBlock>,
    /// Blocks that can be used again.
    pub(super) spare: Vec<SampleBlock>,
    /// Whether nothing more is there yet.
    pub(super) pauses: bool,
    /// Whether nothing more comes.
    pub(super) over: bool,
}

/// Reads from an instrument that is armed, and hands on what arrives, until `take` says stop or nothing more comes.
///
/// # Errors
/// Those of the instrument, after what arrived before, those of `take`, and [`ErrorKind::Instrument`] when there is no
/// thread to be had.
pub(super) fn read(
    instrument: &mut dyn Instrument,
    mut take: impl FnMut(&mut Arrived) -> Result<ControlFlow<()>>,
) -> Result<()> {
    scope(|scope| {
        let (to, arrivals) = sync_channel(WAITING);
        let (back, spare) = channel();
        let reader = Builder::new().name("instrument".to_string());
        let reader = reader.spawn_scoped(scope, move || hand_on(instrument, &to, &spare));
        reader.map_err(|error| {
            let error = Error::new(ErrorKind::Instrument, format!("the instrument cannot be read: {error}"));
            error.with_help("end other programs, or allow more threads")
        })?;
        for arrived in arrivals {
            let mut arrived: Arrived = arrived?;
            if take(&mut arrived)?.is_break() {
                break;
            }
            // Where nobody reads any more, nobody needs them.
            arrived.spare.into_iter().for_each(|block| drop(back.send(block)));
        }
        Ok(())
    })
}

/// Hands on what the instrument has until it is over, fails, or nobody takes it any more.
fn hand_on(instrument: &mut dyn Instrument, to: &SyncSender<Result<Arrived>>, spare: &Receiver<SampleBlock>) {
    loop {
        let over = match instrument.status() {
            Ok(Status::Done { .. } | Status::Over { .. } | Status::Idle) => true,
            Ok(Status::Waiting { .. } | Status::Recording { .. }) => false,
            Err(error) => return drop(to.send(Err(error))),
        };
        // One that never pauses is asked now and then all the same.
        for _ in 0..WAITING {
            let (mut arrived, failed) = gather(instrument, spare);
            let pauses = arrived.pauses;
            arrived.over = over && pauses;
            let handed_on = to.send(Ok(arrived)).is_ok();
            if let Some(error) = failed {
                return drop(to.send(Err(error)));
            }
            if !handed_on || (over && pauses) {
                return;
            }
            if pauses {
                break;
            }
        }
    }
}

/// The next samples, and what went wrong after them.
fn gather(instrument: &mut dyn Instrument, spare: &Receiver<SampleBlock>) -> (Arrived, Option<Error>) {
    let (mut arrived, mut count) = (Arrived::default(), 0);
    while count < TOGETHER {
        let mut block = spare.try_recv().unwrap_or_default();
        if let Err(error) = instrument.read(&mut block) {
            return (arrived, Some(error));
        }
        if block.is_empty() {
            arrived.pauses = true;
            break;
        }
        count += block.len();
        arrived.blocks.push(block);
    }
    (arrived, None)
}
