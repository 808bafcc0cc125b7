//! From declared variables to lines and buses.

use std::collections::{HashMap, HashSet};

use super::codes::{Codes, Target};
use super::header::{Header, Sort, Variable, shown};
use crate::capture::number_repeated;
use crate::error::Result;
use crate::format::source::Source;
use crate::line::{Bus, Line, LineId};

/// Widest vector that is taken apart into lines.
const WIDEST: u32 = 4096;
/// Most lines that a file may declare.
const MOST_LINES: usize = 1 << 20;
/// How many names a remark lists.
const LISTED: usize = 6;

/// The signals of a dump.
#[derive(Default)]
pub(super) struct Signals {
    /// Each line with the number of its trace; aliases share one.
    pub(super) lines: Vec<(Line, usize)>,
    pub(super) buses: Vec<Bus>,
    /// Full names of real variables, each with its number.
    pub(super) reals: Vec<(String, usize)>,
    pub(super) real_count: usize,
    pub(super) codes: Codes,
    pub(super) traces: usize,
    /// Traces of events.
    pub(super) events: Vec<bool>,
    /// Words of what was said last of bits.
    pub(super) words: usize,
    pub(super) remarks: Vec<String>,
}

/// A vector or a part of one.
struct Part {
    most: i64,
    least: i64,
    /// Trace of the least significant bit.
    first: usize,
    /// Whether the file names its bits.
    indexed: bool,
}

impl Part {
    fn lowest(&self) -> i64 {
        self.most.min(self.least)
    }

    fn highest(&self) -> i64 {
        self.most.max(self.least)
    }

    /// The trace of a bit.
    fn trace(&self, bit: i64) -> usize {
        self.first + bit.abs_diff(self.least) as usize
    }
}

impl Signals {
    /// The signals that a header declares.
    ///
    /// # Errors
    /// When there are too many, or none.
    pub(super) fn of(header: &Header<'_>, source: &Source) -> Result<Signals> {
        let mut signals = Signals::default();
        let mut aside = Vec::new();
        let mut groups: Vec<(String, Vec<Part>)> = Vec::new();
        let mut group_of: HashMap<(usize, &str), usize> = HashMap::new();
        // The same name and code in one scope, as a port and as the net behind it, is one signal.
        let mut known = HashSet::new();
        for variable in &header.variables {
            let path = path(header, variable);
            let target = signals.target(variable, &path, &mut aside, source);
            if !known.insert((variable.scope, &variable.name, variable.range, variable.code)) {
                continue;
            }
            match target {
                Some(Target::Bits { first, .. }) => {
                    let (most, least) = variable.range.unwrap_or((i64::from(variable.width) - 1, 0));
                    let piece = variable.range.is_some();
                    let part = Part { most, least, first: first as usize, indexed: piece };
                    let group = group_of.get(&(variable.scope, variable.name.as_str())).filter(|_| piece);
                    match group {
                        Some(group) => groups[*group].1.push(part),
                        None => {
                            if piece {
                                group_of.insert((variable.scope, &variable.name), groups.len());
                            }
                            groups.push((path, vec![part]));
                        }
                    }
                }
                Some(Target::Event(trace)) => {
                    let part = Part { most: 0, least: 0, first: trace as usize, indexed: false };
                    groups.push((path, vec![part]));
                }
                Some(Target::Real(number)) => {
                    signals.reals.push((path, number as usize));
                }
                Some(Target::Text | Target::Aside) | None => {}
            }
            if signals.traces > MOST_LINES {
                let error = source.refused(format!("this file declares more than {MOST_LINES} lines"));
                return Err(error.with_help("dump fewer signals in the simulation"));
            }
        }
        groups.into_iter().for_each(|(path, parts)| signals.group(path, parts));
        signals.tell_aside(&aside);
        signals.distinct();
        if signals.lines.is_empty() && signals.reals.is_empty() && header.note.is_none() {
            let help = "dump at least one wire or register ($dumpvars) in the simulation";
            return Err(source.refused("this file declares no signals").with_help(help));
        }
        Ok(signals)
    }

    /// What the code of a variable stands for; `None` where it was declared in another way before.
    fn target(
        &mut self,
        variable: &Variable<'_>,
        path: &str,
        aside: &mut Vec<String>,
        source: &Source,
    ) -> Option<Target> {
        let wide = variable.width == 0 || variable.width > WIDEST;
        let (traces, words) = (self.traces as u32, self.words as u32);
        let new = match variable.sort {
            Sort::Bits if !wide => Target::Bits { first: traces, width: variable.width, word: words },
            Sort::Event => Target::Event(traces),
            Sort::Real => Target::Real(self.real_count as u32),
            Sort::Text => Target::Text,
            Sort::Bits | Sort::Constant => Target::Aside,
        };
        if matches!(new, Target::Text | Target::Aside) {
            aside.push(path.to_string());
        }
        match self.codes.get(variable.code) {
            Some(Target::Bits { first, width, word }) if variable.sort == Sort::Bits => {
                let same = width == variable.width;
                if !same && !wide {
                    let line = source.line_of(variable.at as u64);
                    self.remarks.push(format!(
                        "line {line}: {path} has {} bits here, and {width} where its code '{}' was declared before: \
                         it is set aside",
                        variable.width,
                        shown(variable.code)
                    ));
                }
                return same.then_some(Target::Bits { first, width, word });
            }
            Some(known) => {
                let same = std::mem::discriminant(&known) == std::mem::discriminant(&new);
                return same.then_some(known);
            }
            None => {}
        }
        self.codes.insert(variable.code, new);
        match new {
            Target::Bits { width, .. } => {
                self.traces += width as usize;
                self.words += width.div_ceil(64) as usize;
            }
            Target::Event(_) => self.traces += 1,
            Target::Real(_) => self.real_count += 1,
            Target::Text | Target::Aside => {}
        }
        self.events.resize(self.traces, matches!(new, Target::Event(_)));
        Some(new)
    }

    /// Makes the lines of what has one name, and a bus where they are a vector.
    fn group(&mut self, path: String, mut parts: Vec<Part>) {
        if let [part] = &parts[..]
            && part.most == part.least
        {
            let name = if part.indexed { format!("{path}[{}]", part.most) } else { path };
            self.lines.push((Line::named(name), part.first));
            return;
        }
        parts.sort_by_key(Part::lowest);
        let overlapping = parts.windows(2).any(|pair| pair[0].highest() >= pair[1].lowest());
        if overlapping {
            let message = format!("{path} is dumped in parts that overlap: each is a bus of its own");
            self.remarks.push(message);
            parts.into_iter().for_each(|part| self.vector(&path, &[part]));
            return;
        }
        self.vector(&path, &parts);
    }

    /// The lines of parts in rising order of their bits, most significant first, and their bus.
    fn vector(&mut self, path: &str, parts: &[Part]) {
        let whole = parts.windows(2).all(|pair| pair[0].highest() + 1 == pair[1].lowest());
        // The lowest bit is the most significant one of a vector that is declared upwards.
        let upwards = parts.iter().any(|part| part.most < part.least);
        let mut bits: Vec<(i64, usize)> = parts
            .iter()
            .flat_map(|part| (part.lowest()..=part.highest()).map(|bit| (bit, part.trace(bit))))
            .collect();
        if !upwards {
            bits.reverse();
        }
        let first = self.lines.len();
        let lines = bits.iter().map(|(bit, trace)| (Line::named(format!("{path}[{bit}]")), *trace));
        self.lines.extend(lines);
        let ids: Vec<LineId> = (first..self.lines.len()).map(LineId).collect();
        if !whole {
            self.remarks.push(format!("not all bits of {path} were dumped: its lines are there, but no bus"));
            return;
        }
        match Bus::new(path, ids) {
            Ok(bus) => self.buses.push(bus),
            Err(_) => {
                let message = format!("{path} is wider than 64 bits: its lines are there, but no bus");
                self.remarks.push(message);
            }
        }
    }

    fn tell_aside(&mut self, aside: &[String]) {
        if aside.is_empty() {
            return;
        }
        let mut list = aside[..aside.len().min(LISTED)].join(", ");
        if aside.len() > LISTED {
            list.push_str(&format!(" and {} more", aside.len() - LISTED));
        }
        self.remarks
            .push(format!("set aside, since they are texts, constants or wider than {WIDEST} bits: {list}"));
    }

    /// Gives those that share a name a number behind it.
    fn distinct(&mut self) {
        let reals = self.reals.iter_mut().map(|(name, _)| name);
        number_repeated(self.lines.iter_mut().map(|(line, _)| &mut line.name).chain(reals));
        number_repeated(self.buses.iter_mut().map(|bus| &mut bus.name));
    }
}

fn path(header: &Header<'_>, variable: &Variable<'_>) -> String {
    let scope = &header.scopes[variable.scope];
    let path = if scope.is_empty() { variable.name.clone() } else { format!("{scope}.{}", variable.name) };
    path.chars().map(|c| if c.is_control() { '_' } else { c }).collect()
}
