//! Exchanges as the frames of a bus.
//!
//! Where an exchange is on several buses, each is read twice in a stored record: once to know at once which
//! transfers there are, in the order of their ends, and once to know which of them are certain, which comes
//! later, and not equally late on all buses.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use super::machine::{Followed, Follower};
use super::{Exchange, MOST_BUSES};
use crate::bus::{BusMark, Decoder, Fault, Frame, FrameSink, Look, word};
use crate::decode::CustomProtocol;
use crate::error::Result;
use crate::known::Precedence;
use crate::line::Levels;
use crate::time::{Tick, TimeBase};

/// The words of all exchanges.
const WORDS: [&str; 4] = ["exchange", "broken", "unclear", "cut-off"];

/// An exchange as a protocol.
#[derive(Debug)]
pub(super) struct Exchanging {
    exchange: Exchange,
    words: Vec<&'static str>,
    roles: Vec<&'static str>,
}

impl Exchanging {
    pub(super) fn new(exchange: Exchange) -> Self {
        let words = WORDS.into_iter().chain(exchange.field_names()).collect();
        let (lines, own) = exchange.lines();
        let mut roles = vec![""; lines.len()];
        for (bus, places) in exchange.buses().iter().zip(&own) {
            for (place, role) in places.iter().zip(bus.protocol().roles()) {
                roles[*place] = word(&format!("{} {role}", bus.name()));
            }
        }
        Exchanging { exchange, words, roles }
    }

    fn make(&self, base: TimeBase, order: Option<Precedence>) -> Result<Box<dyn Decoder>> {
        let (lines, own) = self.exchange.lines();
        // Both ends of a pause lie between ticks.
        let margin = order.map_or(0, |order| order.reach().unwrap_or(0).saturating_add(2));
        let mut talkers = Vec::new();
        for (bus, places) in self.exchange.buses().iter().zip(own) {
            let mut at_once = bus.transfer_decoder(base)?;
            let mut proving = order.map(|order| bus.proving_transfers(base, order)).transpose()?;
            if self.exchange.buses().len() == 1
                && let Some(proving) = proving.take()
            {
                // The order of transfers on one bus is known however late they come.
                at_once = proving;
            }
            talkers.push(Talker {
                places,
                at_once,
                proving,
                levels: Levels::default(),
                proven: VecDeque::new(),
            });
        }
        Ok(Box::new(Decoding {
            exchange: self.exchange.clone(),
            base,
            lines: lines.len(),
            talkers,
            waiting: VecDeque::new(),
            following: Follower::new(&self.exchange, base).uncertain_by(margin),
            margin,
            told: None,
        }))
    }
}

impl CustomProtocol for Exchanging {
    fn name(&self) -> &'static str {
        "exchange"
    }

    fn roles(&self) -> &[&'static str] {
        &self.roles
    }

    fn words(&self) -> &[&'static str] {
        &self.words
    }

    fn widest(&self, field: &str) -> Option<u32> {
        self.exchange.widest(field)
    }

    fn decoder(&self, base: TimeBase) -> Result<Box<dyn Decoder>> {
        self.make(base, None)
    }

    fn certain_decoder(&self, base: TimeBase, order: Precedence) -> Option<Result<Box<dyn Decoder>>> {
        Some(self.make(base, Some(order)))
    }
}

/// One bus of the exchange.
#[derive(Debug)]
struct Talker {
    /// Which of all lines are its own.
    places: Vec<usize>,
    at_once: Box<dyn Decoder>,
    proving: Option<Box<dyn Decoder>>,
    levels: Levels,
    /// Transfers that are known to be certain or not, in their order.
    proven: VecDeque<Frame>,
}

/// A decoder that gives out exchanges.
#[derive(Debug)]
struct Decoding {
    exchange: Exchange,
    base: TimeBase,
    lines: usize,
    talkers: Vec<Talker>,
    /// Transfers in the order of their ends, by their bus.
    waiting: VecDeque<(usize, Frame)>,
    following: Follower,
    /// Ticks that are not known of how long a pause was.
    margin: u64,
    /// Where the last exchange began of which that was told.
    told: Option<Tick>,
}

/// Keeps transfers, and what their bus says of where it is settled.
struct Keep<'a>(&'a mut Vec<Frame>);

impl FrameSink for Keep<'_> {
    fn frame(&mut self, frame: Frame) -> ControlFlow<()> {
        self.0.push(frame);
        ControlFlow::Continue(())
    }

    fn mark(&mut self, _: BusMark) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }

    fn look(&mut self, _: Look) {}
}

/// What a bus is told.
#[derive(Clone, Copy)]
enum Told {
    Begin(Tick, Levels),
    Change(Tick, Levels),
    Pass(Tick),
    End(Tick),
}

fn tell(decoder: &mut dyn Decoder, told: Told, found: &mut Vec<Frame>) {
    // The sink never says stop.
    let _ = match told {
        Told::Begin(at, levels) => {
            decoder.begin(at, levels);
            ControlFlow::Continue(())
        }
        Told::Change(at, levels) => decoder.change(at, levels, &mut Keep(found)),
        Told::Pass(until) => decoder.pass(until, &mut Keep(found)),
        Told::End(at) => decoder.end(at, &mut Keep(found)),
    };
}

impl Talker {
    /// Its own levels of all.
    fn own(&self, levels: Levels) -> Levels {
        let mut own = Levels::default();
        for (bit, place) in self.places.iter().enumerate() {
            own.high |= (levels.high >> place & 1) << bit;
            own.unknown |= (levels.unknown >> place & 1) << bit;
        }
        own
    }

    fn tell(&mut self, told: Told, found: &mut Vec<Frame>) {
        tell(&mut *self.at_once, told, found);
        if let Some(proving) = &mut self.proving {
            let mut proven = Vec::new();
            tell(&mut **proving, told, &mut proven);
            self.proven.extend(proven);
        }
    }
}

impl Decoding {
    fn tell(&mut self, told: impl Fn(&Talker) -> Told, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let mut found: Vec<(usize, Frame)> = Vec::new();
        for (bus, talker) in self.talkers.iter_mut().enumerate().take(MOST_BUSES) {
            let told = told(talker);
            if let Told::Begin(_, levels) | Told::Change(_, levels) = told {
                talker.levels = levels;
            }
            let mut frames = Vec::new();
            talker.tell(told, &mut frames);
            found.extend(frames.into_iter().map(|frame| (bus, frame)));
        }
        found.sort_by_key(|(bus, frame)| (frame.end, *bus));
        self.waiting.extend(found);
        self.release(out)
    }

    /// Follows the transfers of which all that can be known is known.
    fn release(&mut self, out: &mut dyn FrameSink) -> ControlFlow<()> {
        while let Some((bus, _)) = self.waiting.front() {
            let talker = &mut self.talkers[*bus];
            let proven = match talker.proving {
                Some(_) => match talker.proven.pop_front() {
                    Some(proven) => Some(proven),
                    None => return ControlFlow::Continue(()),
                },
                None => None,
            };
            let Some((bus, transfer)) = self.waiting.pop_front() else { break };
            let transfer = proven.unwrap_or(transfer);
            self.follow(out, |following, found| following.transfer(bus, &transfer, found))?;
        }
        ControlFlow::Continue(())
    }

    fn follow(
        &mut self,
        out: &mut dyn FrameSink,
        step: impl FnOnce(&mut Follower, &mut dyn FnMut(Followed)),
    ) -> ControlFlow<()> {
        let mut all = Vec::new();
        step(&mut self.following, &mut |found| all.push(found));
        all.into_iter().filter_map(frame_of).try_for_each(|frame| out.frame(frame))?;
        // That one has begun is known with its first transfer.
        let under_way = self.following.under_way();
        match under_way.filter(|begun| self.told != Some(*begun)) {
            Some(begun) => {
                self.told = under_way;
                out.mark(BusMark::new("begin", begun))
            }
            None => ControlFlow::Continue(()),
        }
    }
}

/// What is found, as a frame.
fn frame_of(found: Followed) -> Option<Frame> {
    match found {
        Followed::Whole(exchanged) | Followed::Broken(exchanged, _) | Followed::CutOff(exchanged) => {
            Some(exchanged.frame)
        }
        // It may have been a part of one.
        Followed::Beside { at, end, certain: false, .. } => {
            let mut frame = Frame::new("unclear", at..end);
            frame.faults.push(Fault::new("unclear", at, "this may belong to an exchange"));
            Some(frame)
        }
        Followed::Beside { .. } => None,
    }
}

impl Decoder for Decoding {
    fn lines(&self) -> usize {
        self.lines
    }

    fn begin(&mut self, at: Tick, levels: Levels) {
        (self.following, self.waiting) =
            (Follower::new(&self.exchange, self.base).uncertain_by(self.margin), VecDeque::new());
        self.told = None;
        self.talkers.iter_mut().for_each(|talker| talker.proven.clear());
        let _ = self.tell(|talker| Told::Begin(at, talker.own(levels)), &mut Vec::new());
    }

    fn change(&mut self, at: Tick, levels: Levels, out: &mut dyn FrameSink) -> ControlFlow<()> {
        let told = |talker: &Talker| {
            let own = talker.own(levels);
            if own == talker.levels { Told::Pass(at) } else { Told::Change(at, own) }
        };
        self.tell(told, out)
    }

    fn due(&self) -> Option<Tick> {
        let both = |talker: &Talker| {
            let proving = talker.proving.as_ref().and_then(|decoder| decoder.due());
            talker.at_once.due().into_iter().chain(proving).min()
        };
        self.talkers.iter().filter_map(both).min()
    }

    fn pass(&mut self, until: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.tell(|_| Told::Pass(until), out)
    }

    fn end(&mut self, at: Tick, out: &mut dyn FrameSink) -> ControlFlow<()> {
        self.tell(|_| Told::End(at), out)?;
        self.follow(out, |following, found| following.end(at, found))
    }
}
