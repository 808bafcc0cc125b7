//! A first setup, written from what a record shows.

use std::collections::{HashMap, HashSet};
use std::fmt::Write;
use std::path::Path;

use super::pins::{PinBasis, PinProposal, propose_pins};
use crate::capture::{Capture, Trace};
use crate::instrument::{Capabilities, Offer};
use crate::limit::{Part, Pin};
use crate::line::{AnalogId, Bus, Input, Level, LineId};
use crate::quantity::{Frequency, Rational, rough};
use crate::reader::{toml_comment as comment, toml_text as quoted};
use crate::roles::{Roles, roles};
use crate::setup::{Import, Setup};
use crate::time::Tick;

/// What a first setup is about.
#[derive(Clone, Debug)]
pub enum Basis<'a> {
    /// A record, by its name, and what is stated of it.
    Record(&'a str, &'a Import),
    /// An instrument, by its address, with what it can do; the capture is a first look at it.
    Instrument(&'a str, &'a Capabilities),
}

/// Edges that are looked at for what a line does.
const LOOKED_AT: usize = 100_000;
/// A commented setup for a record or an instrument: its lines with what was seen of them, its vectors as buses,
/// and proposals for what only the user can know, as comments.
///
/// ```
/// use deep_tap_core::capture::{Capture, Trace};
/// use deep_tap_core::job::{Basis, first_setup};
/// use deep_tap_core::line::Level;
/// use deep_tap_core::setup::Import;
/// use deep_tap_core::time::TimeBase;
///
/// let base = TimeBase::from_rate("1 MS/s".parse()?)?;
/// let clock = Trace::toggling(Level::Low, (1..100).map(|n| n * 5), 600)?;
/// let capture = Capture::builder(base, 600).line("top.u1.CLK", clock).build()?;
/// let text = first_setup(&capture, &Basis::Record("board.vcd", &Import::default()), &[]);
/// assert!(text.contains("name = \"CLK\"\ninput = \"top.u1.CLK\""), "{text}");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn first_setup(capture: &Capture, basis: &Basis<'_>, parts: &[FirstPart<'_>]) -> String {
    let mut text = String::new();
    // Writing into a text cannot fail.
    let _ = write_setup(&mut text, capture, basis, parts);
    text
}

/// The parts for a setup that a capture carries already: what includes it, and a section for each part.
pub fn setup_with_parts(capture: &Capture, setup: &Setup, mention: &str, parts: &[FirstPart<'_>]) -> String {
    let mut text =
        format!("# The setup of a capture, and parts on its lines.\ninclude = [{}]\n", quoted(mention));
    let lines = setup.lines.iter().map(|line| line.line.name.clone());
    let analog = setup.analog.iter().map(|line| line.line.name.clone());
    let serial = setup.serial.iter().map(|bus| bus.name().to_string());
    let buses = setup.buses.iter().map(|bus| bus.name.clone());
    let known: Vec<String> = lines.chain(analog).chain(buses).chain(serial).collect();
    // Writing into a text cannot fail.
    let _ = write_parts(
        &mut text,
        &known,
        &roles(capture),
        |line| capture.line(LineId(line)).name.clone(),
        parts,
    );
    text
}

/// A part to be placed on the board.
#[derive(Clone, Debug)]
pub struct FirstPart<'a> {
    /// Its reference, such as `U5`.
    pub reference: &'a str,
    /// The limits file, as the setup mentions it.
    pub limits: &'a str,
    /// What stands in that.
    pub part: &'a Part,
}

/// A name as a key.
fn key(name: &str) -> String {
    let bare = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    if bare { name.to_string() } else { quoted(name) }
}

/// A section for each part, with a line for each of its pins, as far as that can be told.
fn write_parts(
    text: &mut String,
    known: &[String],
    roles: &Roles,
    name: impl Fn(usize) -> String,
    parts: &[FirstPart<'_>],
) -> std::fmt::Result {
    for FirstPart { reference, limits, part } in parts {
        let proposals = propose_pins(part, known, roles, &name);
        let gaps = proposals.iter().filter(|proposal| proposal.is_open()).count();
        writeln!(text, "\n# {}.", comment(&part.name))?;
        if gaps > 0 {
            let pins = if gaps == 1 { "1 pin has".to_string() } else { format!("{gaps} pins have") };
            writeln!(
                text,
                "# {pins} no line yet: limits that need one are left out, which 'check' reports."
            )?;
        }
        let bus = |pin: &Pin| format!("{reference}_{}", pin.name);
        for PinProposal { pin, bits, .. } in proposals.iter().filter(|proposal| !proposal.bits.is_empty()) {
            let lines: Vec<String> = bits.iter().map(|line| quoted(line)).collect();
            writeln!(text, "[[bus]]\nname = {}\nlines = [{}]\n", quoted(&bus(pin)), lines.join(", "))?;
        }
        writeln!(text, "[[part]]\nreference = {}\nlimits = {}\n", quoted(reference), quoted(limits))?;
        writeln!(text, "[part.pins]")?;
        for proposal in &proposals {
            let pin = key(&proposal.pin.name);
            let what = comment(&proposal.pin.what);
            let bits = Some(bus(&proposal.pin)).filter(|_| !proposal.bits.is_empty());
            match (proposal.line.as_ref().or(bits.as_ref()), &proposal.basis) {
                (Some(line), PinBasis::Guess(why)) => {
                    writeln!(text, "{pin} = {}   # GUESSED: {}; {what}", quoted(line), comment(why))?;
                }
                (Some(line), _) => writeln!(text, "{pin} = {}   # {what}", quoted(line))?,
                (None, _) => writeln!(text, "{pin} = false   # WHICH LINE? {what}")?,
            }
        }
    }
    Ok(())
}

/// What an instrument records of so many lines, in a line.
fn offered(offer: &Offer) -> String {
    let lines =
        if offer.from == offer.to { offer.to.to_string() } else { format!("{} to {}", offer.from, offer.to) };
    let rates = match (offer.rates.first(), offer.rates.last()) {
        (Some((slowest, _)), Some((fastest, _))) if slowest != fastest => format!("{slowest} to {fastest}"),
        (_, Some((rate, _))) => rate.to_string(),
        _ => "no rate".to_string(),
    };
    match (offer.streams, offer.rates.last()) {
        (false, Some((_, memory))) => {
            format!("{lines} lines on board: {rates}, {}", rough(*memory as f64, 3, " samples"))
        }
        _ => format!("{lines} lines streamed: {rates}"),
    }
}

fn write_setup(
    text: &mut String,
    capture: &Capture,
    basis: &Basis<'_>,
    parts: &[FirstPart<'_>],
) -> std::fmt::Result {
    let mut known = Vec::new();
    let base = capture.base();
    match basis {
        Basis::Record(file, import) => {
            writeln!(text, "# A first setup for {}, written from what it shows.", comment(file))?;
            writeln!(text, "# Rename lines as the schematic does, and take out what is not needed.")?;
            for told in capture.history().iter().chain(capture.remarks()) {
                writeln!(text, "# {}", comment(told))?;
            }
            let title = Path::new(file)
                .file_name()
                .map_or(file.to_string(), |name| name.to_string_lossy().into_owned());
            writeln!(text, "title = {}", quoted(&title))?;
            write_import(text, import)?;
        }
        Basis::Instrument(address, able) => {
            writeln!(
                text,
                "# A first setup for {}, written from a look of {}.",
                comment(address),
                capture.duration()
            )?;
            writeln!(text, "# Name the lines that are wired, and take out the others.")?;
            writeln!(text, "title = \"First look\"\n\n[instrument]\nconnect = {}", quoted(address))?;
            let (rate, length) = (base.rate(), capture.duration());
            writeln!(text, "\n[sampling]")?;
            able.offers().iter().try_for_each(|offer| writeln!(text, "# {}", offered(offer)))?;
            writeln!(text, "rate = \"{rate}\"\nlength = \"{length}\"")?;
        }
    }
    let names = Names::of(capture);
    let mut listed = HashSet::new();
    for bus in capture.buses().iter().filter(|bus| is_vector(capture, bus)) {
        listed.extend(bus.lines.iter().copied());
    }
    let mut traces = HashMap::new();
    for (number, line) in capture.lines().iter().enumerate() {
        if !listed.contains(&LineId(number)) {
            let name = &names.lines[number];
            let own = matches!(basis, Basis::Instrument(..));
            let input = match (&line.input, own) {
                (Some(Input::Number(number)), _) => number.to_string(),
                (_, true) => number.to_string(),
                (Some(Input::Signal(_)) | None, _) => quoted(&line.name),
            };
            let seen = Seen::of(capture, LineId(number));
            writeln!(text, "\n# {}", seen.words(capture))?;
            // An input that never changed may not be wired at all.
            let silent = own && seen.edges == 0 && capture.edge_count() > 0;
            let first = *traces.entry(std::ptr::from_ref(capture.trace(LineId(number)))).or_insert(number);
            let same = (first != number).then_some(first);
            if let Some(same) = same {
                writeln!(text, "# The same signal as {}.", comment(&names.lines[same]))?;
            }
            let mark = if silent || same.is_some() { "# " } else { "" };
            known.extend(mark.is_empty().then(|| name.clone()));
            writeln!(text, "{mark}[[line]]\n{mark}name = {}\n{mark}input = {input}", quoted(name))?;
            if same.is_none() {
                seen.write_proposals(text)?;
            }
        }
    }
    for (number, line) in capture.analog_lines().iter().enumerate() {
        let trace = capture.analog(AnalogId(number));
        let range = trace.extremes_of(0..trace.len()).map(|e| {
            let volts = |code| trace.scale().voltage(code).to_f64();
            (volts(e.least), volts(e.most))
        });
        let (least, most) = range.unwrap_or_default();
        writeln!(text, "\n# From {least:.3} V to {most:.3} V.")?;
        writeln!(
            text,
            "[[analog]]\nname = {}\ninput = {}",
            quoted(&usable(&line.name)),
            line.input.unwrap_or(number as u32)
        )?;
        // A line of its levels, by the middle of what was seen.
        let high = format!("{}_HIGH", line.name);
        writeln!(text, "# [[line]]\n# name = {}\n# input = {}", quoted(&usable(&high)), quoted(&line.name))?;
        writeln!(text, "# threshold = \"{:.2} V\"   # the middle of what was seen", (least + most) / 2.0)?;
    }
    for (number, bus) in capture.buses().iter().enumerate() {
        if !is_vector(capture, bus) && bus.lines.iter().any(|line| listed.contains(line)) {
            writeln!(text, "\n# {}: some of its lines are bits of a vector.", comment(&names.buses[number]))?;
            continue;
        }
        let changes: u64 =
            bus.lines.iter().map(|line| capture.trace(*line).edge_count()).fold(0, u64::saturating_add);
        writeln!(text, "\n# {} bits, {changes} edges on them.", bus.lines.len())?;
        writeln!(text, "[[bus]]\nname = {}", quoted(&names.buses[number]))?;
        known.push(names.buses[number].clone());
        if is_vector(capture, bus) {
            writeln!(text, "signal = {}", quoted(&bus.name))?;
        } else {
            let lines: Vec<String> = bus.lines.iter().map(|line| quoted(&names.lines[line.0])).collect();
            writeln!(text, "lines = [{}]", lines.join(", "))?;
        }
    }
    let roles = roles(capture);
    write_serial(text, &roles, &names)?;
    write_parts(text, &known, &roles, |line| names.lines[line].clone(), parts)?;
    writeln!(
        text,
        "\n# Limits with the names of lines; deep-tap check FILE --try 'width of NAME low, min 35 ns' tries one:"
    )?;
    let example = names.lines.iter().enumerate().find(|(n, _)| !listed.contains(&LineId(*n)));
    let example = example.map_or("CLK", |(_, name)| name.as_str());
    writeln!(
        text,
        "# [[limit]]\n# kind = \"width\"\n# pulse = {}\n# min = \"35 ns\"",
        quoted(&format!("{} high", expression(example)))
    )
}

/// Whether the lines of a bus are the bits of a vector of its name.
fn is_vector(capture: &Capture, bus: &Bus) -> bool {
    let bit = |line: &LineId| {
        let name = capture.line(*line).name.strip_prefix(&bus.name)?;
        name.strip_prefix('[')?.strip_suffix(']')?.parse::<i64>().ok()
    };
    bus.lines.iter().all(|line| bit(line).is_some())
}

/// What is stated of a record, as a section.
fn write_import(text: &mut String, import: &Import) -> std::fmt::Result {
    let stated = import.stated();
    if stated.is_empty() {
        return Ok(());
    }
    writeln!(text, "\n[import]")?;
    for (key, value) in stated {
        let bare = value.parse::<u64>().is_ok() || matches!(value.as_str(), "true" | "false");
        writeln!(text, "{key} = {}", if bare { value } else { quoted(&value) })?;
    }
    Ok(())
}

/// A name in the event language.
fn expression(name: &str) -> String {
    let plain = name.chars().all(|c| c.is_alphanumeric() || c == '_')
        && !name.starts_with(|c: char| c.is_ascii_digit());
    if plain { name.to_string() } else { format!("\"{name}\"") }
}

/// Short names for lines and buses: as much of the end of each full name as tells it from those before it.
struct Names {
    lines: Vec<String>,
    buses: Vec<String>,
}

impl Names {
    fn of(capture: &Capture) -> Names {
        let lines = capture.lines().iter().map(|line| line.name.as_str());
        let buses = capture.buses().iter().map(|bus| bus.name.as_str());
        let full: Vec<&str> = lines.chain(buses).collect();
        let mut taken = HashSet::new();
        let mut short = |name: &&str| {
            let fitting = all_ends(name).map(usable).find(|end| !taken.contains(end));
            let mut chosen = fitting.unwrap_or_else(|| usable(name));
            while !taken.insert(chosen.clone()) {
                chosen.push('_');
            }
            chosen
        };
        // Buses first, since the names of their lines are made of theirs.
        let split = capture.lines().len();
        let mut buses: Vec<String> = full[split..].iter().map(&mut short).collect();
        let lines: Vec<String> = full[..split].iter().map(&mut short).collect();
        // A bus Q has lines Q7 … Q0, which may be names of their own.
        let known: HashSet<&String> = lines.iter().collect();
        for (name, bus) in buses.iter_mut().zip(capture.buses()) {
            while (0..bus.lines.len()).any(|bit| known.contains(&format!("{name}{bit}"))) {
                name.push('_');
            }
        }
        Names { lines, buses }
    }
}

/// The ends of a full name, the shortest first.
fn all_ends(name: &str) -> impl Iterator<Item = &str> {
    let dots: Vec<usize> = name.match_indices('.').map(|(at, _)| at + 1).collect();
    dots.into_iter().rev().chain([0]).map(|start| &name[start..]).filter(|end| !end.is_empty())
}

/// A name without what a setup's names cannot have.
fn usable(name: &str) -> String {
    name.chars().map(|c| if c == '"' || c.is_control() { '_' } else { c }).collect()
}

/// What a line does.
struct Seen {
    edges: u64,
    first: Level,
    /// Ticks of the narrowest pulse.
    narrowest: Option<u64>,
    /// Share of the time at high, of what was looked at.
    high: f64,
    fastest: Option<Frequency>,
}

impl Seen {
    fn of(capture: &Capture, line: LineId) -> Seen {
        let trace = capture.trace(line);
        let high = share_high(trace);
        let narrowest = trace.edges(Tick(0)..Tick(trace.len())).take(LOOKED_AT);
        let mut last = None;
        let mut least: Option<u64> = None;
        for edge in narrowest {
            if let Some(before) = last.replace(edge.tick.0) {
                let width = edge.tick.0 - before;
                least = Some(least.map_or(width, |least| least.min(width)));
            }
        }
        let period = least.and_then(|ticks| i64::try_from(ticks).ok()?.checked_mul(2));
        let fastest = period.and_then(|ticks| capture.base().length_of(ticks).to_rational().recip());
        let fastest = fastest.and_then(Rational::up_to_two_digits).map(Frequency::from_rational);
        Seen { edges: trace.edge_count(), first: trace.level_at(Tick(0)), narrowest: least, high, fastest }
    }

    fn words(&self, capture: &Capture) -> String {
        if self.edges == 0 {
            return format!("Never changes: {}.", self.first);
        }
        let plural = if self.edges == 1 { "" } else { "s" };
        let mut words = format!("{} edge{plural}, high {:.0} % of the time", self.edges, self.high * 100.0);
        if let Some(ticks) = self.narrowest {
            let width = capture.base().length_of(i64::try_from(ticks).unwrap_or(i64::MAX));
            words.push_str(&format!(", narrowest pulse {width}"));
            if ticks <= 2 && capture.resolution().sampled {
                words.push_str(": hardly more than a sample, so that narrower ones may be missed");
            }
        }
        words + "."
    }

    fn write_proposals(&self, text: &mut String) -> std::fmt::Result {
        if let Some(fastest) = self.fastest {
            writeln!(
                text,
                "# fastest = \"{fastest}\"   # as fast as was seen: state what it can be at most"
            )?;
        }
        if self.edges > 0 && !(0.2..=0.8).contains(&self.high) {
            writeln!(text, "# rests = \"{}\"", if self.high > 0.5 { "high" } else { "low" })?;
        }
        Ok(())
    }
}

fn share_high(trace: &Trace) -> f64 {
    let (mut high, mut at, mut level) = (0, 0, trace.level_at(Tick(0)));
    for edge in trace.edges(Tick(0)..Tick(trace.len())).take(LOOKED_AT) {
        high += if level == Level::High { edge.tick.0 - at } else { 0 };
        (at, level) = (edge.tick.0, edge.to);
    }
    if trace.edge_count() <= LOOKED_AT as u64 && level == Level::High {
        high += trace.len() - at;
        at = trace.len();
    }
    high as f64 / at.max(1) as f64
}

/// Most proposals of buses.
const MOST_PROPOSED: usize = 12;

/// Proposals for serial buses, as comments, each with its reasons.
fn write_serial(text: &mut String, roles: &Roles, names: &Names) -> std::fmt::Result {
    for guess in roles.buses.iter().take(MOST_PROPOSED) {
        writeln!(text, "\n# {}: {}:", guess.sureness, comment(&guess.reasons.join("; ")))?;
        guess.open.iter().try_for_each(|open| writeln!(text, "# cannot be told: {}", comment(open)))?;
        writeln!(text, "# [[bus]]\n# name = \"{}\"", guess.bus.name())?;
        let words = guess.words(|line| names.lines[line.0].clone());
        words.iter().try_for_each(|word| writeln!(text, "# {word}"))?;
    }
    Ok(())
}
