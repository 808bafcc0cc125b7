//! Messages under way, and which of several is due.

use super::judged::{DeviationKind, Ended, Otherwise};
use crate::line::ValueNames;
use crate::message::{Compared, Matcher, Message};
use crate::quantity::Time;

/// Which of several messages is due.
#[derive(Debug)]
pub(super) struct Turn<'a> {
    messages: &'a [Message],
    in_turn: bool,
    /// The one that came last.
    last: Option<usize>,
    names: &'a ValueNames,
}

/// One message under way: those that it may still be.
#[derive(Debug)]
pub(super) struct Open<'a> {
    alive: Vec<(usize, Matcher<'a>)>,
    /// The one that is whole.
    pub(super) whole: Option<usize>,
    /// Values after that, and the first of them with its instant.
    pub(super) extra: u64,
    first_extra: Option<(u64, Time)>,
    /// Values so far.
    pub(super) count: u64,
    /// Those that are not due, and that this may be all the same.
    others: Vec<(usize, Matcher<'a>)>,
    /// Whether a value was not as expected, and which was due then.
    over: bool,
    due: Option<usize>,
    /// One of the messages.
    first: Option<&'a Message>,
    /// Names of the values.
    names: &'a ValueNames,
}

impl<'a> Turn<'a> {
    pub(super) fn new(messages: &'a [Message], in_turn: bool, names: &'a ValueNames) -> Self {
        Turn { messages, in_turn, last: None, names }
    }

    pub(super) fn begin(&self, total: Option<usize>) -> Open<'a> {
        let all = self.messages.iter().enumerate();
        let all: Vec<_> = all.map(|(place, message)| (place, Matcher::new(message, total))).collect();
        let due = self.last.filter(|_| self.in_turn).map(|last| (last + 1) % self.messages.len().max(1));
        let (alive, others) = all.into_iter().partition(|(place, _)| due.is_none_or(|due| due == *place));
        let first = self.messages.first();
        let mut open = Open {
            alive,
            whole: None,
            extra: 0,
            first_extra: None,
            count: 0,
            others,
            over: false,
            due: None,
            first,
            names: self.names,
        };
        open.note_whole();
        open
    }

    /// One is over. After one that is not as expected, the next one is due; where another of them came, the one
    /// after that.
    pub(super) fn came(&mut self, open: &Open<'_>, as_expected: bool) {
        let other = open.others.iter().find(|(_, matcher)| matcher.is_whole()).map(|(place, _)| *place);
        let due = open.whole.or(open.due).or(open.alive.first().map(|(place, _)| *place));
        self.last = if as_expected { due } else { other.or(due).or(self.last) };
    }
}

impl<'a> Open<'a> {
    /// A value in words.
    fn show(&self, value: u64) -> String {
        let written = self.first.map_or_else(String::new, |message| message.show(value));
        self.names.named(&written, value)
    }

    fn note_whole(&mut self) {
        self.whole = self.alive.iter().find(|(_, matcher)| matcher.is_whole()).map(|(place, _)| *place);
    }

    /// The next value; how it ends, where it does.
    pub(super) fn push(&mut self, value: u64, at: Time) -> Option<Ended> {
        self.others.retain_mut(|(_, matcher)| matcher.push(value) == Compared::Fits);
        if self.over {
            return None;
        }
        self.count += 1;
        let mut differs: Option<String> = None;
        let goes_on = |(_, matcher): &mut (usize, Matcher<'_>)| match matcher.push(value) {
            Compared::Fits => true,
            Compared::Differs(expected) => {
                differs.get_or_insert(expected);
                false
            }
            Compared::TooMuch => false,
        };
        let before = self.whole;
        if before.is_some() && self.alive.iter().all(|(_, matcher)| matcher.is_whole()) {
            self.extra += 1;
            self.first_extra.get_or_insert((value, at));
            return None;
        }
        let due = self.alive.first().map(|(place, _)| *place);
        self.alive.retain_mut(goes_on);
        if self.alive.is_empty() {
            if before.is_some() {
                // It was whole before, and no other goes on.
                self.extra += 1;
                self.first_extra.get_or_insert((value, at));
                return None;
            }
            (self.over, self.due) = (true, due);
            return Some(Ended::Otherwise(Otherwise {
                kind: DeviationKind::Differs,
                place: self.count - 1,
                step: None,
                expected: differs,
                found: Some(self.show(value)),
                at,
            }));
        }
        self.note_whole();
        None
    }

    /// What is missing now that nothing more comes.
    pub(super) fn missing(&self, at: Time) -> Option<Ended> {
        if self.whole.is_some() {
            return None;
        }
        let expected = self.alive.iter().find_map(|(_, matcher)| matcher.expects());
        let (kind, place, step) = (DeviationKind::Missing, self.count, None);
        Some(Ended::Otherwise(Otherwise { kind, place, step, expected, found: None, at }))
    }

    /// What came too much, where nothing may follow.
    pub(super) fn too_much(&self, complete: bool) -> Option<Ended> {
        let (value, at) = self.first_extra.filter(|_| complete)?;
        let place = self.count - self.extra;
        let (kind, found) = (DeviationKind::TooMuch, Some(self.show(value)));
        Some(Ended::Otherwise(Otherwise { kind, place, step: None, expected: None, found, at }))
    }
}
