//! One setup file as written, with the place of everything, before names mean anything.

use std::collections::HashSet;

use super::section::analog::DraftAnalog;
use super::section::bus::DraftBus;
use super::section::exchange::DraftExchange;
use super::section::expect::{DraftExpectation, read_expectation};
use super::section::follow::DraftFollow;
use super::section::import::read_import;
use super::section::limit::OwnLimit;
use super::section::line::DraftLine;
use super::section::mark::DraftMark;
use super::section::part::DraftPart;
use super::section::register::{DraftRegister, read_register};
use super::section::sampling::DraftSampling;
use super::section::serial::{DraftSerial, read_serial};
use super::section::stimulus::read_stimulus;
use super::section::trigger::DraftTrigger;
use crate::error::{Error, ErrorKind};
use crate::instrument::Stimulus;
use crate::reader::{Placed, Reader};
use crate::setup::Import;

/// A setup as written; where files include each other, laid over each other.
#[derive(Clone, Debug, Default)]
pub(super) struct Draft {
    pub(super) title: Option<String>,
    pub(super) connect: Option<Placed<String>>,
    pub(super) sampling: DraftSampling,
    pub(super) import: Import,
    pub(super) lines: Vec<DraftLine>,
    pub(super) analog: Vec<DraftAnalog>,
    pub(super) stimuli: Vec<Stimulus>,
    pub(super) buses: Vec<DraftBus>,
    pub(super) serial: Vec<DraftSerial>,
    pub(super) registers: Vec<DraftRegister>,
    pub(super) events: Vec<(Placed<String>, Placed<String>)>,
    pub(super) trigger: Option<DraftTrigger>,
    pub(super) parts: Vec<DraftPart>,
    pub(super) exchanges: Vec<DraftExchange>,
    pub(super) expectations: Vec<DraftExpectation>,
    pub(super) follows: Vec<DraftFollow>,
    pub(super) limits: Vec<OwnLimit>,
    pub(super) marks: Vec<DraftMark>,
}

impl Draft {
    /// Lays another setup over this one: single settings are replaced, lists go on.
    pub(super) fn overlay(&mut self, over: Draft) {
        fn replace<T>(under: &mut Option<T>, over: Option<T>) {
            if over.is_some() {
                *under = over;
            }
        }
        replace(&mut self.title, over.title);
        replace(&mut self.connect, over.connect);
        self.sampling.overlay(over.sampling);
        self.import = std::mem::take(&mut self.import).overlaid(over.import);
        replace(&mut self.trigger, over.trigger);
        self.lines.extend(over.lines);
        self.analog.extend(over.analog);
        self.stimuli.extend(over.stimuli);
        self.buses.extend(over.buses);
        self.serial.extend(over.serial);
        self.registers.extend(over.registers);
        self.parts.extend(over.parts);
        self.exchanges.extend(over.exchanges);
        self.expectations.extend(over.expectations);
        self.follows.extend(over.follows);
        self.limits.extend(over.limits);
        self.marks.extend(over.marks);
        let replaced: HashSet<&str> = over.events.iter().map(|(name, _)| name.value.as_str()).collect();
        self.events.retain(|(known, _)| !replaced.contains(known.value.as_str()));
        self.events.extend(over.events);
    }

    /// All names that it gives, each with what it is a name of.
    pub(super) fn names(&self) -> Vec<(&'static str, &Placed<String>)> {
        let lines = self.lines.iter().map(|l| ("line", &l.name));
        let analog = self.analog.iter().map(|l| ("analog line", &l.name));
        let serial = self.serial.iter().map(|b| &b.name);
        let buses = self.buses.iter().map(|b| &b.name).chain(serial).map(|name| ("bus", name));
        let events = self.events.iter().map(|(name, _)| ("event", name));
        let exchanges = self.exchanges.iter().map(|exchange| ("exchange", &exchange.name));
        let marks = self.marks.iter().map(|mark| ("mark", &mark.name));
        lines.chain(analog).chain(buses).chain(events).chain(exchanges).chain(marks).collect()
    }
}

/// Reads one setup file: what it includes, what it says itself, and its problems.
pub(super) fn read_draft(name: &str, text: &str) -> (Vec<Placed<String>>, Draft, Vec<Error>) {
    let reader = Reader::new(name, text, ErrorKind::Setup);
    let (includes, draft) = reader.read(|top| {
        let mut draft = Draft { title: top.text("title").map(|t| t.value), ..Draft::default() };
        let includes = top.list("include").map(|list| list.value).unwrap_or_default();
        if let Some(section) = top.section("instrument") {
            draft.connect = section.required("connect", "connect = \"bench:tide-gauge\"");
            section.finish();
        }
        if let Some(section) = top.section("sampling") {
            draft.sampling = DraftSampling::read(&section);
            section.finish();
        }
        if let Some(section) = top.section("import") {
            draft.import = read_import(&section);
            section.finish();
        }
        for section in top.sections("line", "name") {
            draft.lines.extend(DraftLine::read(&section));
            section.finish();
        }
        for section in top.sections("analog", "name") {
            draft.analog.extend(DraftAnalog::read(&section));
            section.finish();
        }
        for section in top.sections("stimulus", "output") {
            draft.stimuli.extend(read_stimulus(&section));
            section.finish();
        }
        for section in top.sections("bus", "name") {
            match section.text("kind") {
                Some(kind) => draft.serial.extend(read_serial(&section, &kind)),
                None => draft.buses.extend(DraftBus::read(&section)),
            }
            section.finish();
        }
        for section in top.sections("register", "name") {
            draft.registers.extend(read_register(&section));
            section.finish();
        }
        for section in top.sections("exchange", "name") {
            draft.exchanges.extend(DraftExchange::read(&section));
            section.finish();
        }
        for section in top.sections("expect", "name") {
            draft.expectations.extend(read_expectation(&section));
            section.finish();
        }
        for section in top.sections("follow", "name") {
            draft.follows.extend(DraftFollow::read(&section));
            section.finish();
        }
        for section in top.sections("limit", "symbol") {
            draft.limits.extend(OwnLimit::read(&section));
            section.finish();
        }
        for section in top.sections("mark", "name") {
            draft.marks.extend(DraftMark::read(&section));
            section.finish();
        }
        for (name, event) in top.map("events").unwrap_or_default() {
            if let Some(text) = event.value {
                draft.events.push((name, Placed { value: text, place: event.place }));
            }
        }
        if let Some(section) = top.section("trigger") {
            draft.trigger = DraftTrigger::read(&section);
            section.finish();
        }
        for section in top.sections("part", "reference") {
            draft.parts.extend(DraftPart::read(&section));
            section.finish();
        }
        (includes, draft)
    });
    (includes, draft, reader.into_problems())
}
