//! A bus under examination: its lines as far as they are looked at, and what was found.

use std::cell::RefCell;
use std::ops::Range;

use super::finding::{Finding, Sureness};
use super::sight::{Sight, look, stretch};
use crate::capture::Capture;
use crate::decode::{Protocol, SerialBus};
use crate::line::{Level, LineId};
use crate::quantity::{Rate, Rational};
use crate::time::Tick;

/// Samples per bit or per clock period from which on decoding has margin.
const ENOUGH_SAMPLES: f64 = 8.0;

/// What to do about noise.
pub(super) const NOISE_REMEDY: &str =
    "look at the ground lead of the probe first, then at neighbouring lines, long leads and the threshold";

pub(super) struct Patient<'a> {
    pub(super) capture: &'a Capture,
    pub(super) bus: &'a SerialBus,
    /// What is looked at: not what comes after the bus has hung up.
    pub(super) range: Range<Tick>,
    pub(super) findings: Vec<Finding>,
    /// How decoding goes as stated, and up to where.
    stated: RefCell<Option<(Tick, Option<Sight>)>>,
}

impl<'a> Patient<'a> {
    pub(super) fn new(capture: &'a Capture, bus: &'a SerialBus) -> Self {
        let range = stretch(capture, bus.lines());
        Patient { capture, bus, range, findings: Vec::new(), stated: RefCell::new(None) }
    }

    pub(super) fn find(
        &mut self,
        kind: &'static str,
        sureness: Sureness,
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        self.find_at(None, kind, sureness, what, remedy);
    }

    pub(super) fn find_at(
        &mut self,
        at: Option<Tick>,
        kind: &'static str,
        sureness: Sureness,
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        let buses = vec![self.bus.name().to_string()];
        let (what, remedy) = (what.into(), remedy.into());
        self.findings.push(Finding { buses, lines: Vec::new(), kind, sureness, at, what, remedy });
    }

    pub(super) fn line(&self, place: usize) -> LineId {
        self.bus.lines().get(place).copied().unwrap_or(LineId(0))
    }

    pub(super) fn name(&self, place: usize) -> String {
        self.name_of(self.line(place))
    }

    pub(super) fn name_of(&self, line: LineId) -> String {
        self.capture.line(line).name.clone()
    }

    /// The number of edges of a line.
    pub(super) fn edges(&self, place: usize) -> u64 {
        self.capture.trace(self.line(place)).count(self.range.clone())
    }

    /// The ticks of a line's edges, as many as are looked at.
    pub(super) fn ticks(&self, line: LineId) -> Vec<u64> {
        let edges = self.capture.trace(line).edges(self.range.clone());
        edges.take(super::timing::MOST_INTERVALS).map(|edge| edge.tick.0).collect()
    }

    pub(super) fn level_at(&self, line: LineId, tick: Tick) -> Level {
        self.capture.trace(line).level_at(tick)
    }

    /// How decoding goes with other settings.
    pub(super) fn look(&self, protocol: &Protocol) -> Option<Sight> {
        if protocol != self.bus.protocol() {
            return self.look_at(self.bus.lines(), protocol);
        }
        let known = self.stated.borrow().clone();
        match known {
            Some((until, sight)) if until == self.range.end => sight,
            _ => {
                let sight = self.look_at(self.bus.lines(), protocol);
                *self.stated.borrow_mut() = Some((self.range.end, sight.clone()));
                sight
            }
        }
    }

    /// How decoding goes with other lines.
    pub(super) fn look_at(&self, lines: &[LineId], protocol: &Protocol) -> Option<Sight> {
        look(self.capture, lines, self.range.clone(), protocol)
    }

    /// A tick as a text, with as many digits as it has.
    pub(super) fn time_of(&self, at: Tick) -> String {
        self.capture.base().text_of(at)
    }

    /// So many ticks as a time.
    pub(super) fn length(&self, ticks: u64) -> String {
        let base = self.capture.base();
        base.length_of(i64::try_from(ticks).unwrap_or(i64::MAX)).rounded(base.tick())
    }

    /// A few faults among many frames without one: not a setting.
    pub(super) fn rare_faults(&mut self, stated: &Sight) {
        let Some((kind, (_, at))) = stated.faults.iter().max_by_key(|(_, (count, _))| *count) else { return };
        let all = stated.frames;
        if *kind == "spike" {
            let what = match stated.count("spike") {
                1 => format!("a pulse that is far too short to be meant, in 1 of {all} frames"),
                spikes => format!("pulses that are far too short to be meant, in {spikes} of {all} frames"),
            };
            return self.find_at(Some(*at), "noise", Sureness::Likely, what, NOISE_REMEDY);
        }
        let what = match stated.faulty {
            1 => format!("1 of {all} frames has a fault: '{kind}'"),
            faulty => format!("{faulty} of {all} frames have a fault, most of them '{kind}'"),
        };
        let remedy = "look at them with: deep-tap frames FILE --faults; settings are not the cause";
        self.find_at(Some(*at), "faults", Sureness::Certain, what, remedy);
    }

    /// Too many faults, or no frame, and no cause that is known.
    pub(super) fn unread(&mut self, stated: &Sight, remedy: &str) {
        let what = match (stated.frames, stated.faulty) {
            (0, _) => format!("no frame is read, of {} edges", self.edges(self.busiest())),
            (all, 0) => format!("nothing but {} is read, {all} times", kinds(stated)),
            (all, faulty) => format!("{faulty} of {all} frames have a fault; why does not show"),
        };
        let remedy = format!("{remedy}; what lines look like says: deep-tap roles FILE");
        self.find("unread", Sureness::Possible, what, remedy);
    }

    /// Says when bits or clock periods of so many ticks leave the decoder little margin; whether they
    /// leave none.
    pub(super) fn samples(&mut self, per_bit: f64, what: &str) -> bool {
        // The ticks of an exact record are nobody's samples. What is measured is off by a little.
        if self.capture.base().is_exact() || per_bit >= ENOUGH_SAMPLES * 0.99 {
            return false;
        }
        let rate = self.capture.base().rate().to_f64() * ENOUGH_SAMPLES / per_bit;
        let none = per_bit < 4.0;
        let sureness = if none { Sureness::Certain } else { Sureness::Possible };
        let what =
            format!("{per_bit:.1} samples per {what}: edges that are a little early or late are misread");
        self.find("rate", sureness, what, format!("record at {} or more", rounded_rate(rate)));
        none
    }
}

/// The kinds of frames that were seen.
fn kinds(of: &Sight) -> String {
    of.kinds.keys().map(|kind| format!("'{kind}'")).collect::<Vec<_>>().join(", ")
}

/// A rate in words, rounded up to two digits.
fn rounded_rate(rate: f64) -> Rate {
    let scale = 10f64.powf(rate.max(1.0).log10().floor() - 1.0).max(1.0);
    Rate::from_rational(Rational::from(((rate / scale).ceil() * scale) as i64))
}
