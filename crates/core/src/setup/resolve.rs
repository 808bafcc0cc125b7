//! From drafts to a setup: includes, names, limits files, and all problems at once.

use crate::capture::Attachment;
use crate::decode::{Protocol, SerialBus};
use crate::error::{Error, ErrorKind, Place, Result, TextPlace, suggest};
use crate::event::{Meaning, Program, Scope, State, StateMachine, mentions};
use crate::limit::{BoundLimit, Limit};
use crate::line::{AnalogId, AnalogLine, Bus, BusError, Level, Line, LineId};
use crate::plan::Before;
use crate::quantity::{Percent, Rational, Time};
use crate::time::TimeBase;

use super::draft::{Draft, DraftBus, DraftPart, DraftState, DraftTrigger, read_draft};
use super::expect::Board;
use super::parts::{read_part, unknown_pin};
use super::reader::{Placed, moved};
use super::registers::DraftRegister;
use super::serial::DraftSerial;
use super::source::{Texts, relative};
use super::{PlacedPart, Sampling, Setup, SetupAnalog, SetupLine, Trigger};

/// Deepest nesting of includes.
const DEEPEST: usize = 16;

pub(super) fn load(name: &str, texts: &dyn Texts) -> Result<Setup> {
    let mut loader = Loader { texts, read: Vec::new(), problems: Vec::new() };
    let text = texts.read(name)?;
    let mut open = Vec::new();
    let draft = loader.draft(name, text, &mut open);
    let setup = loader.setup(draft);
    let mut problems = loader.problems;
    // In the order of the files and of the lines in each.
    let order: Vec<String> = setup.texts.iter().map(|t| texts.display(&t.name)).collect();
    problems.sort_by_key(|problem| match problem.place() {
        Some(Place::Text(at)) => (order.iter().position(|name| **name == *at.name), at.span.start),
        _ => (None, 0),
    });
    match Error::many(problems) {
        Some(error) => Err(error),
        None => Ok(setup),
    }
}

struct Loader<'a> {
    texts: &'a dyn Texts,
    read: Vec<Attachment>,
    problems: Vec<Error>,
}

fn wrong(place: &TextPlace, message: impl Into<String>, help: impl Into<String>) -> Error {
    Error::new(ErrorKind::Setup, message).with_help(help).at(Place::Text(place.clone()))
}

impl Loader<'_> {
    fn draft(&mut self, name: &str, text: String, open: &mut Vec<String>) -> Draft {
        let (includes, own, problems) = read_draft(&self.texts.display(name), &text);
        self.problems.extend(problems);
        self.read.push(Attachment { name: name.to_string(), text });
        open.push(name.to_string());
        let mut whole = Draft::default();
        for include in includes {
            let target = relative(name, &include.value);
            if open.contains(&target) || open.len() > DEEPEST {
                let message = format!("'{}' includes itself, or too many files deep", include.value);
                self.problems.push(wrong(&include.place, message, "take the include out"));
                continue;
            }
            match self.text(&target, &include.place) {
                Some(text) => whole.overlay(self.draft(&target, text, open)),
                None => continue,
            }
        }
        open.pop();
        whole.overlay(own);
        whole
    }

    /// A text that another one mentions; a failure is reported where it is mentioned.
    fn text(&mut self, target: &str, mentioned: &TextPlace) -> Option<String> {
        match self.texts.read(target) {
            Ok(text) => Some(text),
            Err(error) => {
                let help = error.help().unwrap_or("paths are relative to the file that mentions them");
                let message = format!("{}: {}", self.texts.display(target), error.message());
                self.problems.push(wrong(mentioned, message, help));
                None
            }
        }
    }

    fn setup(&mut self, draft: Draft) -> Setup {
        let lines = self.lines(&draft);
        let buses: Vec<Bus> = draft.buses.iter().filter_map(|b| self.bus(b, &draft)).collect();
        let events: Vec<(String, String)> =
            draft.events.iter().map(|(name, event)| (name.value.clone(), event.value.clone())).collect();
        let analog = self.analog(&draft);
        let serial: Vec<SerialBus> = draft.serial.iter().filter_map(|bus| self.serial(bus, &draft)).collect();
        let registers = draft.registers.iter().map(|draft| draft.register.clone()).collect();
        for DraftRegister { bus, .. } in &draft.registers {
            let known = draft.serial.iter().map(|bus| bus.name.value.as_str());
            if known.clone().all(|name| name != bus.value) {
                let message = format!("there is no bus with a kind that is called '{}'", bus.value);
                self.problems.push(wrong(&bus.place, message, suggest(&bus.value, known, "bus")));
            }
        }
        let mut scope = Scope::new();
        define_all(
            &mut scope,
            Names { lines: &lines, analog: &analog, buses: &buses, serial: &serial, events: &events },
        );
        self.names(&draft);
        for (_, event) in &draft.events {
            self.event(&event.value, &scope, &event.place);
        }
        let trigger = draft.trigger.as_ref().map(|trigger| self.trigger(trigger, &scope));
        let parts = draft.parts.iter().filter_map(|part| self.part(part, &scope, &draft)).collect();
        let board = Board {
            serial: &serial,
            buses: &buses,
            lines: lines.iter().enumerate().map(|(i, l)| (l.line.name.as_str(), LineId(i))).collect(),
            scope: &scope,
        };
        let expectations = draft.expectations.iter();
        let expectations = expectations.filter_map(|e| e.resolve(&board, &mut self.problems)).collect();
        let sampling = match (draft.speed.as_ref(), draft.length) {
            (Some(speed), Some(length)) => {
                let before = draft.before.unwrap_or(Before::Share(Percent::ZERO));
                Some(Sampling { speed: speed.value, length, before, analog_rate: draft.analog_rate })
            }
            (Some(speed), None) => {
                let help = "add 'length = \"20 ms\"' or 'samples = \"2 M\"'";
                self.problems.push(wrong(&speed.place, "[sampling] has a rate but no length", help));
                None
            }
            _ => None,
        };
        Setup {
            title: draft.title,
            connect: draft.connect.map(|c| c.value),
            sampling,
            time_out: draft.time_out,
            uncertainty: draft.uncertainty,
            lines,
            analog,
            stimuli: draft.stimuli,
            serial,
            registers,
            buses,
            events,
            trigger,
            parts,
            expectations,
            texts: std::mem::take(&mut self.read),
        }
    }

    fn lines(&mut self, draft: &Draft) -> Vec<SetupLine> {
        let mut lines: Vec<SetupLine> = Vec::new();
        for line in &draft.lines {
            let other = lines.iter().find(|l| l.line.input.is_some() && l.line.input == line.input);
            if let (Some(other), Some(input)) = (other, &line.input) {
                let message = format!("input {input} carries '{}' already", other.line.name);
                self.problems.push(wrong(&line.name.place, message, "each line needs an input of its own"));
            }
            lines.push(SetupLine {
                line: Line {
                    name: line.name.value.clone(),
                    input: line.input.clone(),
                    threshold: line.threshold,
                    extra: Time::ZERO,
                },
                swing: line.swing,
                fastest: line.fastest,
                rests: line.rests,
            });
        }
        lines
    }

    fn analog(&mut self, draft: &Draft) -> Vec<SetupAnalog> {
        let mut lines: Vec<SetupAnalog> = Vec::new();
        for line in &draft.analog {
            if let Some(other) = lines.iter().find(|l| l.line.input == Some(line.input)) {
                let message = format!("analog input {} carries '{}' already", line.input, other.line.name);
                self.problems.push(wrong(&line.name.place, message, "each line needs an input of its own"));
            }
            lines.push(SetupAnalog {
                line: AnalogLine {
                    name: line.name.value.clone(),
                    input: Some(line.input),
                    hysteresis: line.hysteresis,
                },
                range: line.range,
            });
        }
        lines
    }

    /// Reports names that are used twice, or not usable.
    fn names(&mut self, draft: &Draft) {
        let lines = draft.lines.iter().map(|l| ("line", &l.name));
        let analog = draft.analog.iter().map(|l| ("analog line", &l.name));
        let serial = draft.serial.iter().map(|b| &b.name);
        let buses = draft.buses.iter().map(|b| &b.name).chain(serial).map(|name| ("bus", name));
        let events = draft.events.iter().map(|(name, _)| ("event", name));
        let all: Vec<_> = lines.chain(analog).chain(buses).chain(events).collect();
        for (i, (what, name)) in all.iter().enumerate() {
            if name.value.is_empty() || name.value.contains(['"', '\n', '\r']) {
                let help = "use letters, digits and signs other than the double quote";
                self.problems.push(wrong(&name.place, format!("this is not a name for a {what}"), help));
            }
            if let Some((other, _)) = all[..i].iter().find(|(_, n)| n.value == name.value) {
                let message = format!("the name '{}' is used for a {other} and a {what}", name.value);
                self.problems.push(wrong(&name.place, message, "rename one of them"));
            }
        }
    }

    fn line_id(&mut self, name: &str, place: &TextPlace, draft: &Draft) -> Option<LineId> {
        let found = draft.lines.iter().position(|l| l.name.value == name).map(LineId);
        if found.is_none() {
            let help = suggest(name, draft.lines.iter().map(|l| l.name.value.as_str()), "line");
            self.problems.push(wrong(place, format!("there is no line '{name}'"), help));
        }
        found
    }

    fn bus(&mut self, bus: &DraftBus, draft: &Draft) -> Option<Bus> {
        let ids: Vec<_> = bus.lines.iter().map(|l| self.line_id(&l.value, &l.place, draft)).collect();
        let clock = bus.clock.as_ref().map(|(name, rises)| {
            self.line_id(&name.value, &name.place, draft).map(|line| (line, Level::from(*rises)))
        });
        let ids = ids.into_iter().collect::<Option<Vec<_>>>()?;
        match Bus::new(bus.name.value.clone(), ids.clone()) {
            Ok(made) => Some(Bus { clock: clock.flatten(), radix: bus.radix, ..made }),
            Err(BusError::Repeated(line)) => {
                let second =
                    ids.iter().rposition(|id| *id == line).map_or(&bus.place, |i| &bus.lines[i].place);
                let message = format!(
                    "bus '{}' has the line '{}' twice",
                    bus.name.value, draft.lines[line.0].name.value
                );
                self.problems.push(wrong(second, message, "name each line once, most significant first"));
                None
            }
            Err(BusError::Empty) => {
                let message = format!("bus '{}' has no lines", bus.name.value);
                self.problems.push(wrong(&bus.place, message, "name its lines, most significant first"));
                None
            }
            Err(BusError::TooWide(width)) => {
                let message = format!("bus '{}' has {width} lines; 64 are possible", bus.name.value);
                self.problems.push(wrong(&bus.place, message, "split it into two buses"));
                None
            }
        }
    }

    fn serial(&mut self, bus: &DraftSerial, draft: &Draft) -> Option<SerialBus> {
        // The decoder counts from the lowest line of a group, which the setup names last.
        let [data, address] = [&bus.groups[0], &bus.groups[1]].map(|group| {
            let named =
                group.iter().flat_map(|name| match draft.buses.iter().find(|b| b.name.value == name.value) {
                    Some(bus) => bus.lines.clone(),
                    None => vec![name.clone()],
                });
            let mut named: Vec<Placed<String>> = named.collect();
            named.reverse();
            named
        });
        let mut protocol = bus.protocol.clone();
        if let Protocol::Parallel(config) = &mut protocol {
            (config.data, config.address) = (data.len() as u32, address.len() as u32);
        }
        // At a rate that is fast enough for anything, what is refused are the settings.
        let fast = Time::from_rational(Rational::power_of_ten(-12).unwrap_or(Rational::ONE));
        let measured = matches!(&protocol, Protocol::Uart(config) if config.bit_rate.is_none());
        let refused = TimeBase::from_tick(fast).and_then(|base| protocol.decoder(base)).err();
        if let Some(error) = refused.filter(|_| !measured) {
            let help = error.help().unwrap_or("see docs/setup.md");
            let message = format!("bus '{}': {}", bus.name.value, error.message());
            self.problems.push(wrong(&bus.name.place, message, help));
            return None;
        }
        let names: Vec<&Placed<String>> = bus.lines.iter().chain(&data).chain(&address).collect();
        let ids: Vec<_> = names.iter().map(|l| self.line_id(&l.value, &l.place, draft)).collect();
        let lines = ids.into_iter().collect::<Option<Vec<_>>>()?;
        for (number, line) in lines.iter().enumerate() {
            if lines[..number].contains(line) {
                let message =
                    format!("bus '{}' has the line '{}' twice", bus.name.value, names[number].value);
                self.problems.push(wrong(&names[number].place, message, "name each line once"));
                return None;
            }
        }
        match SerialBus::of_lines(bus.name.value.clone(), protocol, lines) {
            Ok(bus) => Some(bus),
            Err(error) => {
                self.problems.push(wrong(&bus.name.place, error.message(), error.help().unwrap_or_default()));
                None
            }
        }
    }

    fn event(&mut self, text: &str, scope: &Scope, place: &TextPlace) {
        if let Err(error) = Program::compile(text, scope) {
            self.problems.push(moved(error, ErrorKind::Setup, place));
        }
    }

    fn trigger(&mut self, draft: &DraftTrigger, scope: &Scope) -> Trigger {
        let states = match draft {
            DraftTrigger::Event(event) => {
                self.event(&event.value, scope, &event.place);
                return Trigger::Event(event.value.clone());
            }
            DraftTrigger::States(states) => states,
        };
        let state = |s: &DraftState| State {
            name: s.name.value.clone(),
            arms: s.arms.iter().map(|(arm, _)| arm.clone()).collect(),
        };
        let machine = StateMachine { states: states.iter().map(state).collect() };
        // What could not even be read has been complained about already.
        if !states.is_empty() {
            for problem in Program::from_states(&machine, scope).err().into_iter().flatten() {
                let state = &states[problem.state];
                let place = problem.arm.map_or(&state.place, |arm| &state.arms[arm].1);
                self.problems.push(moved(problem.error, ErrorKind::Setup, place));
            }
        }
        Trigger::States(machine)
    }

    fn part(&mut self, draft: &DraftPart, board: &Scope, whole: &Draft) -> Option<PlacedPart> {
        // The name is relative to the file that mentions it, which a message place names in full.
        let mentioned_in = self.read.iter().find(|a| *draft.place.name == *self.texts.display(&a.name));
        let mentioned_in = mentioned_in.map_or(String::new(), |a| a.name.clone());
        let target = relative(&mentioned_in, &draft.limits.value);
        let text = match self.read.iter().find(|a| a.name == target) {
            Some(known) => known.text.clone(),
            None => {
                let text = self.text(&target, &draft.limits.place)?;
                self.read.push(Attachment { name: target.clone(), text: text.clone() });
                text
            }
        };
        let (read, problems) = read_part(&self.texts.display(&target), &text);
        let broken = !problems.is_empty();
        self.report_once(problems);
        let condition = self.conditions(draft, &read.figures.conditions).map(str::to_string);
        for value in read.figures.unknown_values(&draft.values) {
            let known: Vec<String> = read.figures.values.iter().map(|(name, _)| name.value.clone()).collect();
            let help = suggest(&value.value, known.iter().map(String::as_str), "value of this part");
            self.problems.push(wrong(&value.place, format!("the part has no value '{}'", value.value), help));
        }
        let places: Vec<_> =
            read.figures.rows.iter().map(|row| row.symbol.clone()).zip(read.places.clone()).collect();
        let (part, problems) = read.resolve(condition.as_deref(), &draft.values);
        let broken = broken || !problems.is_empty();
        self.report_once(problems);
        let mut pins = Scope::new();
        let mut unwired = Vec::new();
        for (pin, line) in &draft.pins {
            if part.pins.iter().all(|p| p.name != pin.value) && !broken {
                self.problems.push(unknown_pin(&part, pin));
            }
            match &line.value {
                None => unwired.push(pin.value.as_str()),
                Some(name) => match board.get(name) {
                    Some(
                        meaning @ (Meaning::Line(_)
                        | Meaning::Analog(_)
                        | Meaning::Bus(_)
                        | Meaning::Frames(_)),
                    ) => {
                        pins.define(pin.value.clone(), meaning.clone());
                    }
                    // A bus that is wrong itself has been complained about already.
                    _ if whole.buses.iter().any(|b| b.name.value == *name) => {
                        pins.define(pin.value.clone(), Meaning::Line(LineId(0)));
                    }
                    _ => {
                        let known =
                            whole.lines.iter().map(|l| &l.name).chain(whole.buses.iter().map(|b| &b.name));
                        let help = suggest(name, known.map(|n| n.value.as_str()), "line or bus");
                        let message = format!(
                            "pin {} of {}: there is no line or bus '{name}'",
                            pin.value, draft.reference
                        );
                        self.problems.push(wrong(&line.place, message, help));
                        // Stand in for it, so that this is the only complaint.
                        pins.define(pin.value.clone(), Meaning::Line(LineId(0)));
                    }
                },
            }
        }
        let bound = |name: &str| draft.pins.iter().any(|(pin, _)| pin.value == name);
        let unbound: Vec<&str> = part.pins.iter().map(|p| p.name.as_str()).filter(|p| !bound(p)).collect();
        if !unbound.is_empty() {
            let (is, them) = if unbound.len() == 1 { ("pin", "it is") } else { ("pins", "they are") };
            let message = format!(
                "{} ({}): {is} {} not bound to a line",
                draft.reference,
                part.name,
                unbound.join(", ")
            );
            let help = format!(
                "add to pins: {} = \"LINE\", or {} = false if {them} not wired; limits that need it are then left out",
                unbound[0], unbound[0]
            );
            self.problems.push(wrong(&draft.place, message, help));
            return None;
        }
        for only in draft.only.iter().flatten() {
            if part.limits.iter().all(|l| l.symbol != only.value) {
                let help = suggest(&only.value, part.limits.iter().map(|l| l.symbol.as_str()), "limit");
                self.problems.push(wrong(
                    &only.place,
                    format!("{} has no limit '{}'", part.name, only.value),
                    help,
                ));
            }
        }
        let mut limits = Vec::new();
        let mut not_wired = Vec::new();
        for limit in &part.limits {
            let places = places.iter().find(|(symbol, _)| *symbol == limit.symbol);
            let places = places.map_or(&[][..], |(_, places)| places);
            let chosen = draft.only.as_ref().is_none_or(|only| only.iter().any(|o| o.value == limit.symbol));
            if !chosen || broken {
                continue;
            }
            if unwired.iter().any(|pin| limit_mentions(limit, pin)) {
                not_wired.push(limit.symbol.clone());
                continue;
            }
            match BoundLimit::bind(&draft.reference, &part.name, limit, &pins) {
                Ok(bound) => limits.push(bound),
                Err(wrong) => {
                    let place = places.iter().find(|(key, _)| *key == wrong.key).or(places.first());
                    let place = place.map_or(&draft.place, |(_, place)| place);
                    self.problems.push(moved(wrong.error, ErrorKind::Limits, place));
                }
            }
        }
        Some(PlacedPart { reference: draft.reference.clone(), part, limits, not_wired })
    }

    /// The same limits file may serve several parts: its problems are reported once.
    fn report_once(&mut self, problems: Vec<Error>) {
        for problem in problems {
            let known = |p: &Error| p.place() == problem.place() && p.message() == problem.message();
            if !self.problems.iter().any(known) {
                self.problems.push(problem);
            }
        }
    }

    /// The operating conditions that hold for a part: the chosen ones of those it has.
    fn conditions<'a>(&mut self, draft: &'a DraftPart, known: &'a [String]) -> Option<&'a str> {
        let chosen = draft.conditions.as_ref();
        match (chosen, known) {
            (None, []) => None,
            (None, [only]) => Some(only),
            (None, [first, ..]) => {
                let message = format!("{} has figures for several operating conditions", draft.reference);
                let help =
                    format!("choose one with conditions = \"{first}\"; there are: {}", known.join(", "));
                self.problems.push(wrong(&draft.place, message, help));
                Some(first)
            }
            (Some(chosen), _) => {
                if !known.contains(&chosen.value) {
                    let message =
                        format!("{} has no operating conditions '{}'", draft.reference, chosen.value);
                    let help = suggest(&chosen.value, known.iter().map(String::as_str), "conditions");
                    self.problems.push(wrong(&chosen.place, message, help));
                    return known.first().map(String::as_str);
                }
                Some(&chosen.value)
            }
        }
    }
}

fn limit_mentions(limit: &Limit, pin: &str) -> bool {
    let texts = limit.events.texts().into_iter().chain(limit.condition.as_deref());
    texts.into_iter().any(|text| mentions(text, pin))
}

/// What has a name that an expression may use.
#[derive(Clone, Copy)]
pub(super) struct Names<'a> {
    pub(super) lines: &'a [SetupLine],
    pub(super) analog: &'a [SetupAnalog],
    pub(super) buses: &'a [Bus],
    pub(super) serial: &'a [SerialBus],
    pub(super) events: &'a [(String, String)],
}

pub(super) fn define_all(scope: &mut Scope, names: Names<'_>) {
    for (i, line) in names.lines.iter().enumerate() {
        scope.define(line.line.name.clone(), Meaning::Line(LineId(i)));
    }
    for (i, line) in names.analog.iter().enumerate() {
        scope.define(line.line.name.clone(), Meaning::Analog(AnalogId(i)));
    }
    for bus in names.buses {
        scope.define(bus.name.clone(), Meaning::Bus(bus.clone()));
    }
    for bus in names.serial {
        scope.define(bus.name(), Meaning::Frames(bus.clone()));
    }
    for (name, event) in names.events {
        scope.define(name.clone(), Meaning::Event(event.clone()));
    }
}
