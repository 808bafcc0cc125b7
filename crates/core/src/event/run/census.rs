//! Which values a bus had, for the message when a trigger never comes.

use std::collections::{BTreeMap, HashMap};

use super::window::{NONE, Window};
use crate::bus::Frame;
use crate::decode::SerialBus;
use crate::event::check::Guarded;
use crate::line::{Bus, Signal, Value};
use crate::scan::Plane;

/// Most different values that are told apart.
const MOST_VALUES: usize = 4096;

/// The values that a bus was seen to have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BusSeen {
    /// The bus.
    pub name: String,
    /// Whether values were counted where the event happened apart from its `while`; otherwise
    /// wherever the value changed.
    pub at_event: bool,
    /// Each value as text and how often it was seen, the most frequent first.
    pub values: Vec<(String, u64)>,
    /// How often other values were seen, or values that are partly unknown.
    pub others: u64,
}

/// What came on a serial bus.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FramesSeen {
    /// The bus.
    pub bus: String,
    /// Kinds of frames and how often each came, the most frequent first.
    pub kinds: Vec<(String, u64)>,
    /// The same of faults.
    pub faults: Vec<(String, u64)>,
    /// For each field that was asked for, the values that it had.
    pub fields: Vec<FieldSeen>,
}

/// The values that a field had.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FieldSeen {
    /// The field.
    pub name: String,
    /// Each value in hexadecimal and how often it was seen, the most frequent first.
    pub values: Vec<(String, u64)>,
    /// How often other values were seen.
    pub others: u64,
}

/// Counts the values of a field, which may have several widths.
#[derive(Clone, Debug, Default)]
struct FieldCensus {
    name: String,
    values: HashMap<(u64, u32), u64>,
    others: u64,
}

/// Counts the frames of one serial bus.
#[derive(Clone, Debug, Default)]
pub(super) struct FrameCensus {
    kinds: BTreeMap<&'static str, u64>,
    faults: BTreeMap<&'static str, u64>,
    /// Those that are asked for.
    fields: Vec<FieldCensus>,
}

impl FrameCensus {
    pub(super) fn of(fields: impl Iterator<Item = String>) -> FrameCensus {
        let fields = fields.map(|name| FieldCensus { name, ..FieldCensus::default() }).collect();
        FrameCensus { fields, ..FrameCensus::default() }
    }

    pub(super) fn count(&mut self, frame: &Frame) {
        *self.kinds.entry(frame.kind).or_default() += 1;
        frame.faults.iter().for_each(|fault| *self.faults.entry(fault.kind).or_default() += 1);
        for census in &mut self.fields {
            for field in frame.fields.iter().filter(|field| field.name == census.name.as_str()) {
                let value = (field.value, field.bits);
                match census.values.len() {
                    MOST_VALUES.. if !census.values.contains_key(&value) => census.others += 1,
                    _ => *census.values.entry(value).or_default() += 1,
                }
            }
        }
    }

    pub(super) fn report(&self, bus: &SerialBus) -> FramesSeen {
        fn sorted<K: Ord + Copy>(
            counts: impl Iterator<Item = (K, u64)>,
            show: impl Fn(K) -> String,
        ) -> Vec<(String, u64)> {
            let mut counts: Vec<(K, u64)> = counts.collect();
            counts.sort_unstable_by_key(|(key, count)| (std::cmp::Reverse(*count), *key));
            counts.into_iter().map(|(key, count)| (show(key), count)).collect()
        }
        let words = |of: &BTreeMap<&'static str, u64>| {
            sorted(of.iter().map(|(word, count)| (*word, *count)), str::to_string)
        };
        let hex =
            |(value, bits): (u64, u32)| format!("0x{value:0digits$X}", digits = bits.div_ceil(4) as usize);
        let show = |field: &FieldCensus, of: (u64, u32)| bus.names().of(&field.name).named(&hex(of), of.0);
        let fields = self.fields.iter().map(|field| FieldSeen {
            name: field.name.clone(),
            values: sorted(field.values.iter().map(|(value, count)| (*value, *count)), |of| show(field, of)),
            others: field.others,
        });
        FramesSeen {
            bus: bus.name().to_string(),
            kinds: words(&self.kinds),
            faults: words(&self.faults),
            fields: fields.collect(),
        }
    }
}

/// Counts the values of one bus.
#[derive(Clone, Debug)]
pub(super) struct Census {
    bus: Bus,
    slots: Vec<usize>,
    counts: HashMap<u64, u64>,
    others: u64,
}

impl Census {
    /// The buses to be counted: those of the `while` of an event, or else all that it looks at;
    /// and whether it is the former.
    pub(super) fn of(event: &Guarded<u64>, slots: &[Signal]) -> (Vec<Census>, bool) {
        let mut buses = Vec::new();
        if let Some(guard) = &event.guard {
            guard.buses(&mut buses);
        }
        let at_event = !buses.is_empty();
        if !at_event {
            event.buses(&mut buses);
        }
        buses.sort_by(|a, b| a.name.cmp(&b.name));
        buses.dedup_by(|a, b| a.name == b.name);
        (buses.into_iter().map(|bus| Census::new(bus, slots)).collect(), at_event)
    }

    fn new(bus: &Bus, slots: &[Signal]) -> Census {
        let slot = |line: &Signal| slots.binary_search(line).unwrap_or(0);
        Census {
            bus: bus.clone(),
            slots: bus.lines.iter().map(|line| slot(&line.into())).collect(),
            counts: HashMap::new(),
            others: 0,
        }
    }

    /// Counts the value at each of these ticks of a window.
    pub(super) fn count_at(&mut self, window: &Window<'_>, ticks: &Plane) {
        for (word, mut left) in ticks.iter().copied().enumerate() {
            while left != 0 {
                let at = left.trailing_zeros();
                left &= left - 1;
                let bit = |plane: &[Plane], slot: usize| plane[slot][word] >> at & 1;
                let value = self.slots.iter().fold(0, |v, slot| v << 1 | bit(window.planes, *slot));
                let open = window.open && self.slots.iter().any(|s| bit(window.unknown, *s) == 1);
                match self.counts.len() {
                    _ if open => self.others += 1,
                    MOST_VALUES.. if !self.counts.contains_key(&value) => self.others += 1,
                    _ => *self.counts.entry(value).or_default() += 1,
                }
            }
        }
    }

    /// Counts the value wherever it changes.
    pub(super) fn count_changes(&mut self, window: &Window<'_>) {
        let mut ticks = NONE;
        for slot in &self.slots {
            window.or_into(&mut ticks, &window.changes(*slot));
        }
        window.trim_to_past(&mut ticks);
        self.count_at(window, &ticks);
    }

    pub(super) fn report(&self, at_event: bool) -> BusSeen {
        let width = self.slots.len() as u32;
        let show = |bits: u64| self.bus.show(Value { bits, unknown: 0, floating: 0, width });
        let mut counts: Vec<(u64, u64)> = self.counts.iter().map(|(v, n)| (*v, *n)).collect();
        counts.sort_unstable_by_key(|(value, count)| (std::cmp::Reverse(*count), *value));
        BusSeen {
            name: self.bus.name.clone(),
            at_event,
            values: counts.into_iter().map(|(value, count)| (show(value), count)).collect(),
            others: self.others,
        }
    }
}
