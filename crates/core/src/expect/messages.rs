//! Messages that a bus should carry, each time that one begins.

use super::begins::{Beginning, Hits, Starts};
use super::judged::{Ended, Judged, Occurrence, Tally};
use super::turns::{Open, Turn};
use crate::bus::{Field, FieldKind, Frame};
use crate::capture::Capture;
use crate::decode::SerialBus;
use crate::error::{Error, ErrorKind, Result};
use crate::event::{FrameTests, Hit};
use crate::message::Message;
use crate::quantity::{Rational, Time};
use crate::time::Tick;

/// Messages on a serial bus: bytes, words, characters.
#[derive(Clone, Debug)]
pub struct Messages {
    /// The bus.
    pub bus: SerialBus,
    /// The field that carries them; default: the data of each frame.
    pub field: Option<String>,
    /// Only transfers that meet these; of a stream, frames.
    pub only: Option<FrameTests>,
    /// What each of them may be, at least one.
    pub any_of: Vec<Message>,
    /// Whether they come one after the other in this order, and again from the first.
    pub in_turn: bool,
    /// Where one begins.
    pub begins: Beginning,
    /// The time from there in which all of it must have begun to come. Without it, what is missing at the end of the
    /// record may still have come.
    pub within: Option<Time>,
    /// Whether nothing more may follow in the transfer, or up to where the next one begins.
    pub complete: bool,
}

impl Messages {
    /// Messages that each are one of these, each as a transfer of a bus.
    pub fn new(bus: SerialBus, any_of: Vec<Message>) -> Self {
        Messages {
            bus,
            field: None,
            only: None,
            any_of,
            in_turn: false,
            begins: Beginning::Transfer,
            within: None,
            complete: false,
        }
    }

    /// Compares what the bus carried with what is expected.
    ///
    /// # Errors
    /// When the bus cannot be decoded at the record's clock, the event cannot happen there, or the record is shorter
    /// than a message takes.
    pub fn compare(&self, capture: &Capture) -> Result<Judged> {
        self.fits(capture)?;
        let names = self.bus.names().of(self.field.as_deref().unwrap_or("data"));
        let turn = Turn::new(&self.any_of, self.in_turn, names);
        match self.begins.starts(capture, self.bus.lines())? {
            None => self.transfers(capture, turn),
            Some(starts) => self.stream(capture, starts, turn),
        }
    }

    /// Whether the record is long enough for one of them.
    fn fits(&self, capture: &Capture) -> Result<()> {
        let bit_rate = self.bus.protocol().bit_rate();
        // A bit takes a tick at the least, and a byte eight bits.
        let tick = capture.base().tick().to_rational();
        let bit = bit_rate.and_then(|rate| rate.to_rational().recip()).unwrap_or(tick);
        let shortest = self.any_of.iter().map(Message::shortest).min().unwrap_or(0);
        let whole = bit.checked_mul(Rational::from(8 * shortest as i64));
        let Some(whole) = whole.filter(|whole| *whole > capture.duration().to_rational()) else {
            return Ok(());
        };
        let message = format!(
            "{shortest} bytes on '{}' take {} or more, and the record is {} long",
            self.bus.name(),
            Time::from_rational(whole),
            capture.duration()
        );
        Err(Error::new(ErrorKind::Range, message).with_help("record longer, or expect less"))
    }

    fn is_data(&self, field: &Field) -> bool {
        match &self.field {
            Some(name) => field.name == name.as_str(),
            None => field.kind == FieldKind::Data,
        }
    }

    /// Each transfer on its own.
    fn transfers(&self, capture: &Capture, mut turn: Turn<'_>) -> Result<Judged> {
        let mut tally = Tally::new();
        let base = capture.base();
        for transfer in self.bus.transfers(capture, capture.range())? {
            let meets = |tests: &FrameTests| tests.matching(false).meets_for_sure(&transfer);
            let (counts, certain) = self.only.as_ref().map_or((true, true), meets);
            if !counts && certain {
                continue;
            }
            let begins = base.time_of(transfer.start);
            let cut = !transfer.begins || transfer.faults.iter().any(|fault| fault.kind == "cut-off");
            let values: Vec<&Field> = transfer.fields.iter().filter(|field| self.is_data(field)).collect();
            let occurrence = |sure, ended| Occurrence { begins, is_one: counts && certain, sure, ended };
            if cut {
                tally.add(occurrence(false, Ended::CutOff { seen: counts }));
                continue;
            }
            let mut open = turn.begin(Some(values.len()));
            let mut found = None;
            for field in values {
                let ended = open.push(field.value, base.time_of(field.start));
                found = found.or(ended);
            }
            let until = base.time_of(transfer.carried_until());
            let ended = found.or_else(|| open.missing(until)).or_else(|| open.too_much(self.complete));
            tally.beside(if ended.is_none() { open.extra } else { 0 });
            turn.came(&open, ended.is_none());
            tally.add(occurrence(transfer.certain, ended.unwrap_or(Ended::Whole)));
        }
        Ok(tally.finish())
    }

    /// What follows each of these instants, up to the next of them.
    fn stream<'a>(
        &'a self,
        capture: &'a Capture,
        Starts { hits, reach, known }: Starts<'a>,
        turn: Turn<'a>,
    ) -> Result<Judged> {
        let limit = self.within.and_then(|time| capture.base().ticks_in(time)).map(Rational::floor);
        let limit = limit.and_then(|ticks| u64::try_from(ticks).ok());
        let mut stream = Stream {
            wanted: self,
            capture,
            hits,
            reach,
            known,
            limit,
            turn,
            open: None,
            before: None,
            tally: Tally::new(),
        };
        let mut tests = self.only.as_ref().map(|tests| tests.matching(self.bus.protocol().is_stream()));
        for frame in self.bus.frames(capture, capture.range())? {
            stream.begin_up_to(frame.start);
            let (counts, certain) = tests.as_mut().map_or((true, true), |tests| tests.meets_for_sure(&frame));
            stream.frame(&frame, counts, certain && frame.certain);
        }
        stream.begin_up_to(Tick(u64::MAX));
        stream.close(Tick(capture.len()), true);
        Ok(stream.tally.finish())
    }
}

/// A message that follows an instant.
struct Following<'a> {
    hit: Hit,
    open: Open<'a>,
    sure: bool,
    ended: Option<Ended>,
}

/// Frames, and the instants after which messages begin.
struct Stream<'a> {
    wanted: &'a Messages,
    capture: &'a Capture,
    hits: Hits<'a>,
    reach: u64,
    /// Whether it is known that the instants happened.
    known: bool,
    limit: Option<u64>,
    turn: Turn<'a>,
    open: Option<Following<'a>>,
    /// Where the last frame began.
    before: Option<Tick>,
    tally: Tally,
}

impl Stream<'_> {
    /// Begins all messages whose instant is not after this one.
    fn begin_up_to(&mut self, until: Tick) {
        while let Some(hit) = self.hits.next_if(|hit| hit.tick <= until) {
            let under_way =
                self.open.as_ref().is_some_and(|open| open.ended.is_none() && open.open.whole.is_none());
            if !hit.is_certain() && under_way {
                // It may be that this one ends it.
                self.open.iter_mut().for_each(|open| open.sure = false);
                self.tally.possible();
                continue;
            }
            self.close(hit.tick, false);
            let near = self.before.is_some_and(|before| before.0.saturating_add(self.reach) > hit.tick.0);
            let sure = self.known && (!near || self.reach == 0);
            self.open = Some(Following { hit, open: self.turn.begin(None), sure, ended: None });
        }
    }

    /// The tick at which a message must have begun to come.
    fn due(&self, following: &Following<'_>) -> Option<u64> {
        Some(following.hit.tick.0.saturating_add(self.limit?))
    }

    fn frame(&mut self, frame: &Frame, counts: bool, certain: bool) {
        self.before = Some(frame.start);
        let Some(mut following) = self.open.take() else {
            let values = frame.fields.iter().filter(|field| counts && self.wanted.is_data(field)).count();
            self.tally.beside(values as u64);
            return;
        };
        following.sure &= certain;
        if frame.start.0 < following.hit.tick.0.saturating_add(self.reach) {
            following.sure &= self.reach == 0;
        }
        // One tick on either side is not known.
        let over = self
            .due(&following)
            .map(|due| (frame.start.0 > due, frame.start.0.abs_diff(due) <= self.reach + 1));
        if let Some((is_over, near)) = over
            && following.ended.is_none()
            && following.open.whole.is_none()
        {
            following.sure &= !near || self.capture.base().is_exact();
            if is_over {
                let at = self.capture.base().time_of(Tick(self.due(&following).unwrap_or(0)));
                following.ended = following.open.missing(at);
            }
        }
        let base = self.capture.base();
        for field in frame.fields.iter().filter(|field| counts && self.wanted.is_data(field)) {
            let over = following.ended.is_some();
            let ended = following.open.push(field.value, base.time_of(field.start));
            match over {
                true => self.tally.beside(1),
                false => following.ended = ended,
            }
        }
        self.open = Some(following);
    }

    /// Ends the message under way: with the next instant, or with the record.
    fn close(&mut self, at: Tick, is_end: bool) {
        let Some(following) = self.open.take() else { return };
        let base = self.capture.base();
        let due = self.due(&following);
        let Following { hit, open, sure, ended } = following;
        let time = base.time_of(at.min(Tick(self.capture.len())));
        let in_time = due.is_none_or(|due| due >= at.0);
        let ended =
            ended.or_else(|| match open.missing(due.map_or(time, |due| base.time_of(Tick(due.min(at.0))))) {
                // It may come after the record.
                Some(_) if is_end && in_time => Some(Ended::CutOff { seen: open.count > 0 }),
                missing => missing,
            });
        let ended = ended.or_else(|| open.too_much(self.wanted.complete));
        let as_expected = ended.is_none();
        if as_expected {
            self.tally.beside(open.extra);
        }
        self.turn.came(&open, as_expected);
        let begins = base.time_of(hit.tick);
        self.tally.add(Occurrence {
            begins,
            is_one: hit.is_certain(),
            sure,
            ended: ended.unwrap_or(Ended::Whole),
        });
    }
}
