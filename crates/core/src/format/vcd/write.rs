//! Writing a value change dump.

use std::io::Write;

use super::note::{Note, SCOPE, reference};
use super::stream::Changes;
use crate::capture::{Capture, number_repeated};
use crate::format::voltages::Voltages;
use crate::line::{Level, LineId};
use crate::quantity::{Rational, Voltage};
use crate::time::Tick;

/// Text that is gathered before it is handed on.
const BLOCK: usize = 1 << 16;

/// Writes a capture. A bus whose lines are in no bus before it is a vector, and its lines are in it; every other
/// line is a wire, and every other bus a vector beside its lines. Each analog line is a real number of volts.
///
/// Times count from the first tick; comments name time zero, and say what the format has no place for. A tick
/// that no power of ten divides is written in femtoseconds, rounded, and a comment says so.
///
/// # Errors
/// When the writer refuses.
pub fn write(capture: &Capture, out: &mut dyn Write) -> std::io::Result<()> {
    let scale = Scale::of(capture);
    let variables = Variables::of(capture);
    let mut text = header(capture, &scale, &variables);
    let mut levels: Vec<Level> =
        (0..capture.lines().len()).map(|line| capture.recorded(LineId(line)).level_at(Tick(0))).collect();
    text.extend_from_slice(b"#0\n$dumpvars\n");
    for (line, level) in levels.iter().enumerate() {
        if let Some(code) = &variables.wires[line] {
            scalar(&mut text, code, *level);
        }
    }
    for vector in &variables.vectors {
        vector.put(&mut text, &levels);
    }
    let mut voltages = Voltages::new(capture);
    for (code, volts) in variables.analog.iter().zip(voltages.now()) {
        real(&mut text, code, volts);
    }
    text.extend_from_slice(b"$end\n");
    let mut touched = vec![false; variables.vectors.len()];
    let mut at_once = Vec::new();
    let mut changes = Changes::of(capture);
    while let Some(tick) = changes.peek().into_iter().chain(voltages.peek()).min() {
        text.push(b'#');
        number(&mut text, scale.time(tick));
        text.push(b'\n');
        if voltages.peek() == Some(tick) {
            voltages.step();
            for (code, volts) in variables.analog.iter().zip(voltages.now()) {
                real(&mut text, code, volts);
            }
        }
        at_once.clear();
        changes.take(tick, &mut at_once);
        for (line, level) in &at_once {
            levels[*line] = *level;
            if let Some(code) = &variables.wires[*line] {
                scalar(&mut text, code, *level);
            }
            variables.vectors_of[*line].iter().for_each(|vector| touched[*vector] = true);
        }
        for (vector, touched) in variables.vectors.iter().zip(&mut touched) {
            if std::mem::take(touched) {
                vector.put(&mut text, &levels);
            }
        }
        if text.len() >= BLOCK {
            out.write_all(&text)?;
            text.clear();
        }
    }
    if capture.len() > 1 {
        text.push(b'#');
        number(&mut text, scale.time(Tick(capture.len() - 1)));
        text.push(b'\n');
    }
    out.write_all(&text)?;
    out.flush()
}

/// What is declared: each line as a wire or in a vector, each bus as a vector.
pub(super) struct Variables {
    /// Names as they are declared: of lines, then of buses, then of analog lines.
    names: Vec<String>,
    /// The code of each line that is not in a vector.
    wires: Vec<Option<Vec<u8>>>,
    vectors: Vec<Vector>,
    /// The vectors that each line is in.
    vectors_of: Vec<Vec<usize>>,
    analog: Vec<Vec<u8>>,
    /// For each line, the number of its first bit among all that are declared.
    pub(super) places: Vec<usize>,
}

struct Vector {
    code: Vec<u8>,
    /// The most significant first.
    lines: Vec<usize>,
}

impl Vector {
    fn put(&self, text: &mut Vec<u8>, levels: &[Level]) {
        text.push(b'b');
        text.extend(self.lines.iter().map(|line| letter(levels[*line])));
        text.push(b' ');
        text.extend_from_slice(&self.code);
        text.push(b'\n');
    }
}

impl Variables {
    pub(super) fn of(capture: &Capture) -> Self {
        let lines = capture.lines().iter().map(|line| reference(&line.name));
        let buses = capture.buses().iter().map(|bus| reference(&bus.name));
        let analog = capture.analog_lines().iter().map(|line| reference(&line.name));
        let mut names: Vec<String> = lines.chain(buses).chain(analog).collect();
        number_repeated(names.iter_mut());
        let mut owner = vec![None; capture.lines().len()];
        for (number, bus) in capture.buses().iter().enumerate() {
            if bus.lines.iter().all(|line| owner[line.0].is_none()) {
                bus.lines.iter().for_each(|line| owner[line.0] = Some(number));
            }
        }
        let mut codes = (0..).map(code);
        let mut next = || codes.next().unwrap_or_default();
        let mut vectors_of = vec![Vec::new(); capture.lines().len()];
        let wires: Vec<Option<Vec<u8>>> = owner.iter().map(|owner| owner.is_none().then(&mut next)).collect();
        let mut vectors = Vec::new();
        for (number, bus) in capture.buses().iter().enumerate() {
            bus.lines.iter().for_each(|line| vectors_of[line.0].push(number));
            vectors.push(Vector { code: next(), lines: bus.lines.iter().map(|line| line.0).collect() });
        }
        // Wires are declared first, then vectors.
        let mut places = vec![0; owner.len()];
        let mut place = 0;
        for line in 0..owner.len() {
            if owner[line].is_none() {
                places[line] = place;
                place += 1;
            }
        }
        for (number, bus) in capture.buses().iter().enumerate() {
            for line in &bus.lines {
                if owner[line.0] == Some(number) {
                    places[line.0] = place;
                }
                place += 1;
            }
        }
        let analog = capture.analog_lines().iter().map(|_| next()).collect();
        Variables { names, wires, vectors, vectors_of, analog, places }
    }
}

fn header(capture: &Capture, scale: &Scale, variables: &Variables) -> Vec<u8> {
    let mut text = String::new();
    if let Some(made) = capture.origin().made {
        text.push_str(&format!("$date {made} $end\n"));
    }
    let source = capture.origin().source.replace('$', "S");
    let zero = capture.base().length_of(capture.base().zero_at());
    text.push_str("$version deep-tap $end\n");
    text.push_str(&format!("$comment source: {} $end\n", one_line(&source)));
    text.push_str(&format!("$comment time zero is {zero} after the first instant $end\n"));
    text.push_str(&format!("$comment {} $end\n", Note::of(capture, &variables.places).text()));
    if scale.rounded {
        text.push_str("$comment times are rounded to 1 fs $end\n");
    }
    text.push_str(&format!("$timescale {} {} $end\n$scope module {SCOPE} $end\n", scale.count, scale.unit));
    let mut declare = |sort: &str, width: usize, code: &[u8], name: &str| {
        let range = if width > 1 && sort == "wire" { format!(" [{}:0]", width - 1) } else { String::new() };
        text.push_str(&format!("$var {sort} {width} {} {name}{range} $end\n", String::from_utf8_lossy(code)));
    };
    let (lines, buses) = (variables.wires.len(), variables.vectors.len());
    for (code, name) in variables.wires.iter().zip(&variables.names) {
        if let Some(code) = code {
            declare("wire", 1, code, name);
        }
    }
    for (vector, name) in variables.vectors.iter().zip(&variables.names[lines..]) {
        declare("wire", vector.lines.len(), &vector.code, name);
    }
    for (code, name) in variables.analog.iter().zip(&variables.names[lines + buses..]) {
        declare("real", 64, code, name);
    }
    text.push_str("$upscope $end\n$enddefinitions $end\n");
    text.into_bytes()
}

fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

fn scalar(text: &mut Vec<u8>, code: &[u8], level: Level) {
    text.push(letter(level));
    text.extend_from_slice(code);
    text.push(b'\n');
}

fn real(text: &mut Vec<u8>, code: &[u8], volts: Option<Voltage>) {
    let volts = volts.map_or(f64::NAN, Voltage::to_f64);
    text.extend_from_slice(format!("r{volts:e} ").replace("rNaN", "rnan").as_bytes());
    text.extend_from_slice(code);
    text.push(b'\n');
}

fn number(text: &mut Vec<u8>, mut number: u64) {
    let mut digits = [0; 20];
    let mut at = digits.len();
    loop {
        at -= 1;
        digits[at] = b'0' + (number % 10) as u8;
        number /= 10;
        if number == 0 {
            break;
        }
    }
    text.extend_from_slice(&digits[at..]);
}

/// The identifier code with this number: the shortest that is free.
fn code(mut number: usize) -> Vec<u8> {
    let mut code = Vec::new();
    loop {
        code.push(b'!' + (number % 94) as u8);
        if number < 94 {
            return code;
        }
        number = number / 94 - 1;
    }
}

fn letter(level: Level) -> u8 {
    match level {
        Level::Low => b'0',
        Level::High => b'1',
        Level::Floating => b'z',
        Level::Unknown => b'x',
    }
}

struct Scale {
    count: u32,
    unit: &'static str,
    /// Units per tick.
    per_tick: Rational,
    /// The same where it is a whole number.
    whole: Option<u64>,
    rounded: bool,
}

/// Units of time of the standard, with how many of them are a second.
const UNITS: [(&str, i128); 6] = [
    ("s", 1),
    ("ms", 1_000),
    ("us", 1_000_000),
    ("ns", 1_000_000_000),
    ("ps", 1_000_000_000_000),
    ("fs", 1_000_000_000_000_000),
];

impl Scale {
    /// The coarsest time scale of the standard that every tick is a multiple of.
    fn of(capture: &Capture) -> Scale {
        let tick = capture.base().tick().to_rational();
        let mut finest = None;
        for (unit, second) in UNITS {
            for count in [100, 10, 1] {
                let scale = Rational::new(i128::from(count), second);
                let Some(per_tick) = scale.and_then(|s| tick.checked_div(s)) else { continue };
                let rounded = per_tick.denominator() != 1;
                let whole = u64::try_from(per_tick.numerator()).ok().filter(|_| !rounded);
                let scale = Scale { count, unit, per_tick, whole, rounded };
                if !rounded {
                    return scale;
                }
                finest = Some(scale);
            }
        }
        let fallback = Scale { count: 1, unit: "fs", per_tick: Rational::ONE, whole: None, rounded: true };
        finest.unwrap_or(fallback)
    }

    fn time(&self, tick: Tick) -> u64 {
        if let Some(time) = self.whole.and_then(|whole| tick.0.checked_mul(whole)) {
            return time;
        }
        let exact = Rational::new(i128::from(tick.0), 1).and_then(|t| t.checked_mul(self.per_tick));
        exact.and_then(|t| u64::try_from(t.round()).ok()).unwrap_or(u64::MAX)
    }
}
