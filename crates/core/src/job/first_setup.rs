//! A first setup, written from what a record shows.

use std::collections::{HashMap, HashSet};
use std::fmt::Write;
use std::path::Path;

use crate::capture::{Capture, Trace};
use crate::decode::{I2cConfig, Protocol, SerialBus, SpiConfig, UartConfig};
use crate::diagnose::measured_bit_rate;
use crate::line::{AnalogId, Bus, Input, Level, LineId};
use crate::quantity::{Frequency, Rational};
use crate::setup::Import;
use crate::time::Tick;

/// What a first setup is about.
#[derive(Clone, Debug)]
pub enum Basis<'a> {
    /// A record, by its name, and what is stated of it.
    Record(&'a str, &'a Import),
    /// An instrument, by its address, of which the capture is a first look.
    Instrument(&'a str),
}

/// Edges that are looked at for what a line does.
const LOOKED_AT: usize = 100_000;
/// Lines of which it is tried whether they are serial buses.
const MOST_TRIED: usize = 24;
/// Fewest edges, and frames, of a line that may be one.
const FEWEST: (u64, usize) = (20, 3);
/// Bit rates that are in use, in hertz.
const RATES: [i64; 14] = [
    1200, 2400, 4800, 9600, 19_200, 38_400, 57_600, 115_200, 230_400, 250_000, 460_800, 500_000, 921_600,
    1_000_000,
];

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
/// let text = first_setup(&capture, &Basis::Record("board.vcd", &Import::default()));
/// assert!(text.contains("name = \"CLK\"\ninput = \"top.u1.CLK\""), "{text}");
/// # Ok::<(), deep_tap_core::Error>(())
/// ```
pub fn first_setup(capture: &Capture, basis: &Basis<'_>) -> String {
    let mut text = String::new();
    // Writing into a text cannot fail.
    let _ = write_setup(&mut text, capture, basis);
    text
}

fn write_setup(text: &mut String, capture: &Capture, basis: &Basis<'_>) -> std::fmt::Result {
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
        Basis::Instrument(address) => {
            writeln!(
                text,
                "# A first setup for {}, written from a look of {}.",
                comment(address),
                capture.duration()
            )?;
            writeln!(text, "# Name the lines that are wired, and take out the others.")?;
            writeln!(text, "title = \"First look\"\n\n[instrument]\nconnect = {}", quoted(address))?;
            let (rate, length) = (base.rate(), capture.duration());
            writeln!(text, "\n[sampling]\nrate = \"{rate}\"\nlength = \"{length}\"")?;
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
            let own = matches!(basis, Basis::Instrument(_));
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
        if is_vector(capture, bus) {
            writeln!(text, "signal = {}", quoted(&bus.name))?;
        } else {
            let lines: Vec<String> = bus.lines.iter().map(|line| quoted(&names.lines[line.0])).collect();
            writeln!(text, "lines = [{}]", lines.join(", "))?;
        }
    }
    write_serial(text, capture, &names)?;
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

/// A text as TOML has it.
fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() => quoted.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted + "\""
}

/// A text on the rest of a line.
fn comment(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
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
        let fastest = fastest.and_then(two_digits).map(Frequency::from_rational);
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

/// The number rounded up to two digits.
fn two_digits(number: Rational) -> Option<Rational> {
    let value = number.to_f64();
    let exponent = value.log10().floor() as i32 - 1;
    let count = (value / 10f64.powi(exponent)).ceil();
    Rational::new(count as i128, 1)?.checked_mul(Rational::power_of_ten(exponent)?)
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

/// Proposals for serial buses, as comments, each with its reason.
fn write_serial(text: &mut String, capture: &Capture, names: &Names) -> std::fmt::Result {
    let busy = |line: &LineId| capture.trace(*line).edge_count() >= FEWEST.0;
    let in_bus: HashSet<LineId> = capture.buses().iter().flat_map(|bus| bus.lines.iter().copied()).collect();
    let lines = (0..capture.lines().len()).map(LineId).filter(|line| busy(line) && !in_bus.contains(line));
    let lines: Vec<LineId> = lines.take(MOST_TRIED).collect();
    let high: Vec<f64> = lines.iter().map(|line| share_high(capture.trace(*line))).collect();
    let name = |line: LineId| quoted(&names.lines[line.0]);
    let mut found = Vec::new();
    for (line, high) in lines.iter().zip(&high) {
        if let Some((rate, frames)) = (*high > 0.4).then(|| asynchronous(capture, *line)).flatten() {
            let reason = format!("{} reads as {frames} bytes without a fault", names.lines[line.0]);
            found.push((
                reason,
                format!("kind = \"uart\"\n# line = {}\n# bit-rate = \"{rate}\"", name(*line)),
            ));
        }
    }
    for (clock, high_clock) in lines.iter().zip(&high) {
        for (data, high_data) in lines.iter().zip(&high).filter(|(data, _)| *data != clock) {
            if *high_clock < 0.3 || *high_data < 0.3 {
                continue;
            }
            let bus = SerialBus::of_lines("tried", Protocol::I2c(I2cConfig::default()), vec![*clock, *data]);
            if let Some(frames) = bus.ok().and_then(|bus| faultless(capture, &bus)) {
                let reason = format!("{frames} transfers of two wires without a fault");
                let lines = format!("# clock = {}\n# data = {}", name(*clock), name(*data));
                found.push((reason, format!("kind = \"i2c\"\n{lines}")));
            }
        }
    }
    for (reason, keys) in found.into_iter().chain(selected(capture, names, &lines, &high)).take(12) {
        writeln!(text, "\n# {reason}:\n# [[bus]]\n# name = \"serial\"\n# {keys}")?;
    }
    Ok(())
}

/// The bit rate of a line that reads as bytes, and how many.
fn asynchronous(capture: &Capture, line: LineId) -> Option<(Frequency, usize)> {
    let config = |rate| Protocol::Uart(UartConfig::new(rate));
    let any = Frequency::from_rational(Rational::from(9600));
    let bus = SerialBus::of_lines("tried", config(any), vec![line]).ok()?;
    let measured = measured_bit_rate(capture, &bus)?.to_rational().to_f64();
    let near = |rate: &&i64| (measured / **rate as f64 - 1.0).abs() < 0.03;
    let rate = Frequency::from_rational(Rational::from(*RATES.iter().find(near)?));
    let bus = SerialBus::of_lines("tried", config(rate), vec![line]).ok()?;
    Some((rate, faultless(capture, &bus)?))
}

/// How many frames a bus has, if nearly all of them are without a fault.
fn faultless(capture: &Capture, bus: &SerialBus) -> Option<usize> {
    let frames = bus.frames(capture, capture.range()).ok()?.take(200);
    let (mut all, mut faulty) = (0, 0);
    for frame in frames {
        all += 1;
        faulty += usize::from(!frame.faults.is_empty());
    }
    (all >= FEWEST.1 && faulty * 20 <= all).then_some(all)
}

/// Clocks that run only while another line is low, in whole words of eight bits.
fn selected(capture: &Capture, names: &Names, lines: &[LineId], high: &[f64]) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let candidates =
        (0..capture.lines().len()).map(LineId).filter(|line| capture.trace(*line).edge_count() >= 4);
    for select in candidates.take(MOST_TRIED).filter(|line| share_high(capture.trace(*line)) > 0.2) {
        for (clock, rests) in lines.iter().zip(high).filter(|(clock, _)| **clock != select) {
            let Some(words) = whole_words(capture, select, *clock) else { continue };
            let mode = if *rests > 0.7 { 3 } else { 0 };
            let name = |line: LineId| quoted(&names.lines[line.0]);
            let bus = SpiConfig::new(mode);
            let reason = format!(
                "{} runs only while {} is low, {words} words of {} bits",
                names.lines[clock.0], names.lines[select.0], bus.bits
            );
            let keys = format!(
                "kind = \"spi\"\n# clock = {}\n# select = {}\n# mosi = \"…\"\n# miso = \"…\"\n# mode = {mode}",
                name(*clock),
                name(select)
            );
            found.push((reason, keys));
        }
    }
    found
}

/// How many words of eight bits a clock counts while a line is low, if it never runs while that is high.
fn whole_words(capture: &Capture, select: LineId, clock: LineId) -> Option<u64> {
    let (select, clock) = (capture.trace(select), capture.trace(clock));
    let mut inside = 0;
    let mut words = 0;
    let mut begun = None;
    let mut whole = true;
    for edge in select.edges(Tick(0)..Tick(select.len())).take(1000) {
        match (edge.to, begun) {
            (Level::Low, _) => begun = Some(edge.tick),
            (_, Some(start)) => {
                let edges = clock.count(start..edge.tick);
                whole &= edges > 0 && edges.is_multiple_of(16);
                (inside, words, begun) = (inside + edges, words + edges / 16, None);
            }
            _ => {}
        }
    }
    (whole && words > 1 && inside * 20 >= clock.edge_count() * 19).then_some(words)
}
