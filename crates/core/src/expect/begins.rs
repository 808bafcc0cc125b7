//! Where an occurrence of what is expected begins.

use std::iter::Peekable;

use crate::capture::Capture;
use crate::error::Result;
use crate::event::{Certainty, Hit, Program, TimedProgram};
use crate::known::{Precision, Rule};
use crate::line::{LineId, Signal};
use crate::pair::{Feed, Party, Pulled};
use crate::quantity::Voltage;
use crate::time::Tick;

/// Where an occurrence of what is expected begins.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Beginning {
    /// With each transfer that may be the first of it.
    Transfer,
    /// After each occurrence of an event, with what begins next after it.
    After(Box<Program>),
    /// After the first occurrence of an event.
    AfterFirst(Box<Program>),
    /// With the record, once.
    Record,
}

/// Instants, one after the other.
pub(super) type Hits<'a> = Peekable<Box<dyn Iterator<Item = Hit> + 'a>>;

/// The instants after which something is expected.
pub(super) struct Starts<'a> {
    pub(super) hits: Hits<'a>,
    /// Within how many ticks of one the order is not known.
    pub(super) reach: u64,
    /// Whether it is known that they happened.
    pub(super) known: bool,
}

impl Beginning {
    /// The instants in a record; `None` where each transfer may begin it. `lines` are those of what is
    /// expected.
    pub(super) fn starts<'a>(&'a self, capture: &'a Capture, lines: &[LineId]) -> Result<Option<Starts<'a>>> {
        Ok(match self {
            Beginning::Transfer => None,
            Beginning::Record => {
                let begin = Hit { tick: Tick(0), certainty: Certainty::Certain };
                let hits: Box<dyn Iterator<Item = Hit>> = Box::new(std::iter::once(begin));
                Some(Starts { hits: hits.peekable(), reach: 0, known: true })
            }
            Beginning::After(event) | Beginning::AfterFirst(event) => {
                let once = matches!(self, Beginning::AfterFirst(_));
                let event = event.at(capture.base())?;
                let reach = reach(capture, &event, lines);
                // Of a state machine, it is known in exact records only which occurrence there was.
                let known = !event.program().has_states() || capture.base().is_exact();
                let mut hits = Begun::all(&event, capture);
                hits.truncate(if once { 1 } else { usize::MAX });
                let hits: Box<dyn Iterator<Item = Hit>> = Box::new(hits.into_iter());
                Some(Starts { hits: hits.peekable(), reach, known })
            }
        })
    }
}

/// Instants at which something begins.
pub(super) struct Begun;

impl Begun {
    /// All marks of an event, also those that may not have happened.
    pub(super) fn all(event: &TimedProgram, capture: &Capture) -> Vec<Hit> {
        let mut party = Party::new(event.marks(capture, capture.range(), Rule::Proven));
        std::iter::from_fn(|| next_of(&mut party)).collect()
    }
}

fn next_of<F: Feed>(party: &mut Party<F>) -> Option<Hit> {
    match party.peek() {
        Pulled::Some(hit) => {
            party.pass();
            Some(hit)
        }
        Pulled::End | Pulled::NotYet => None,
    }
}

/// Within how many ticks the order of an event and these lines is not known. What comes on the same lines comes in its
/// order.
fn reach(capture: &Capture, event: &TimedProgram, lines: &[LineId]) -> u64 {
    let own: Vec<Signal> = lines.iter().map(Signal::from).collect();
    let signals = event.signals();
    if signals.iter().all(|signal| own.contains(signal)) {
        return 0;
    }
    let all: Vec<Signal> = signals.into_iter().chain(own).collect();
    Precision::of(capture, Rule::Proven).order(&all, Voltage::ZERO).reach().unwrap_or(0)
}
