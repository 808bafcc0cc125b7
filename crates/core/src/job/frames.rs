//! The frames of several buses in the order of time.

use std::ops::Range;

use super::Job;
use crate::bus::Frame;
use crate::decode::{Frames, SerialBus};
use crate::error::Result;
use crate::time::Tick;

/// A frame of one of several buses.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct JobFrame<'a> {
    /// The bus that it is on.
    pub bus: &'a SerialBus,
    /// The frame.
    pub frame: Frame,
    /// Ticks since the end of the frame before it on its bus.
    pub gap: Option<i64>,
}

/// The frames of one bus, the next of which is at hand.
struct Lane<'a> {
    bus: &'a SerialBus,
    frames: Frames<'a>,
    next: Option<Frame>,
    last_end: Option<Tick>,
}

/// Frames as they come; see [`Job::frames`].
pub struct JobFrames<'a> {
    lanes: Vec<Lane<'a>>,
}

impl Job {
    /// The frames of these buses that lie in a part of the record, at least in part, in the order of their
    /// starts. They are read as in the whole record.
    ///
    /// # Errors
    /// When a bus cannot be decoded from this record, for example because its bit rate is not known.
    pub fn frames<'a>(&'a self, buses: &[&'a SerialBus], range: Range<Tick>) -> Result<JobFrames<'a>> {
        JobFrames::new(buses, |bus| bus.frames(&self.capture, range.clone()))
    }

    /// The same for transfers: frames that belong together, each as one.
    ///
    /// # Errors
    /// As [`frames`](Job::frames).
    pub fn transfers<'a>(&'a self, buses: &[&'a SerialBus], range: Range<Tick>) -> Result<JobFrames<'a>> {
        JobFrames::new(buses, |bus| bus.transfers(&self.capture, range.clone()))
    }
}

impl<'a> JobFrames<'a> {
    fn new(
        buses: &[&'a SerialBus],
        read: impl Fn(&'a SerialBus) -> Result<Frames<'a>>,
    ) -> Result<JobFrames<'a>> {
        let lane = |bus: &&'a SerialBus| {
            let mut frames = read(bus)?;
            let next = frames.next();
            let last_end = frames.before();
            Ok(Lane { bus, frames, next, last_end })
        };
        Ok(JobFrames { lanes: buses.iter().map(lane).collect::<Result<_>>()? })
    }
}

impl<'a> Iterator for JobFrames<'a> {
    type Item = JobFrame<'a>;

    fn next(&mut self) -> Option<JobFrame<'a>> {
        let lanes = self.lanes.iter().enumerate();
        let starts = lanes.filter_map(|(number, lane)| Some((lane.next.as_ref()?.start, number)));
        let (_, number) = starts.min()?;
        let lane = &mut self.lanes[number];
        let frame = std::mem::replace(&mut lane.next, lane.frames.next())?;
        let gap = lane.last_end.replace(frame.end).map(|last| frame.start.since(last));
        Some(JobFrame { bus: lane.bus, frame, gap })
    }
}
