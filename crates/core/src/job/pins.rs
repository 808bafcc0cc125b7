//! Which line of a board is which pin of a part, as far as names and what the lines do say that.

use std::collections::{BTreeMap, HashSet};

use crate::limit::{Part, Pin};
use crate::roles::Roles;

/// A pin, and the line that it seems to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PinProposal {
    /// The pin.
    pub(super) pin: Pin,
    /// The line or the bus; `None` where none could be told.
    pub(super) line: Option<String>,
    /// Instead, lines that are its bits, the most significant first.
    pub(super) bits: Vec<String>,
    /// How it was told.
    pub(super) basis: PinBasis,
}

impl PinProposal {
    /// Whether nothing is proposed.
    pub(super) fn is_open(&self) -> bool {
        self.line.is_none() && self.bits.is_empty()
    }
}

/// How a pin's line was told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum PinBasis {
    /// By its name.
    Name,
    /// It may be wrong, for this reason.
    Guess(String),
    /// Not at all.
    Gap,
}

/// What pins do, by the names that data sheets have for it.
const JOBS: [(&str, &[&str]); 5] = [
    ("clock", &["sclk", "sck", "clk", "scl", "ck", "mdc", "tck", "smbclk", "swclk", "bclk"]),
    ("select", &["cs", "ss", "sel", "nss", "csn", "stb"]),
    ("mosi", &["mosi", "din", "sdi", "di", "si"]),
    ("miso", &["miso", "dout", "sdo", "do", "so"]),
    ("data", &["sda", "mdio", "sd", "smbdat", "dat", "dq", "swdio", "tx", "rx", "can", "data"]),
];

/// What says only which level is the active one.
const POLARITY: [&str; 4] = ["n", "b", "l", "p"];

/// Proposes a line for each pin of a part: among `known`, the names of lines and buses that can be had, and by the
/// buses that lines seem to be, whose lines `name` gives. No line is proposed twice.
pub(super) fn propose_pins(
    part: &Part,
    known: &[String],
    roles: &Roles,
    name: impl Fn(usize) -> String,
) -> Vec<PinProposal> {
    let pins: Vec<Words> = part.pins.iter().map(|pin| Words::of(&pin.name)).collect();
    let lines: Vec<Words> = known.iter().map(|line| Words::of(line)).collect();
    // Lines of one part often share what stands before the pin's name: that with most of its pins comes first.
    let mut groups: BTreeMap<Vec<String>, u32> = BTreeMap::new();
    for pin in &pins {
        let fitting = lines.iter().filter_map(|line| Some((line.before(pin)?, line.fits(pin)?)));
        for (before, fit) in fitting {
            *groups.entry(before).or_default() += fit;
        }
    }
    let weight = |line: &Words, pin: &Words| line.before(pin).and_then(|before| groups.get(&before)).copied();
    let mut taken: HashSet<usize> = HashSet::new();
    let mut proposals: Vec<PinProposal> = Vec::new();
    for (pin, words) in part.pins.iter().zip(&pins) {
        let mut fitting: Vec<(u32, u32, usize)> = (0..lines.len())
            .filter(|line| !taken.contains(line))
            .filter_map(|line| Some((weight(&lines[line], words)?, lines[line].fits(words)?, line)))
            .collect();
        fitting.sort_by_key(|(weight, fit, line)| (std::cmp::Reverse((*weight, *fit)), *line));
        let proposal = match fitting[..] {
            [] => without_name(pin, words, known, &mut taken),
            [(weight, fit, line), ..] => {
                let rival = fitting.get(1).filter(|next| (next.0, next.1) == (weight, fit));
                let basis = match rival {
                    Some((.., other)) => PinBasis::Guess(format!("'{}' fits as well", known[*other])),
                    None if fit < SURE => PinBasis::Guess("the names are only alike".to_string()),
                    None => PinBasis::Name,
                };
                taken.insert(line);
                PinProposal { pin: pin.clone(), line: Some(known[line].clone()), bits: Vec::new(), basis }
            }
        };
        proposals.push(proposal);
    }
    by_activity(&mut proposals, &pins, roles, name);
    proposals
}

/// A pin that no line is called like: what is said of it may be the name of one, or lines may be its bits.
fn without_name(pin: &Pin, words: &Words, known: &[String], taken: &mut HashSet<usize>) -> PinProposal {
    let gap = PinProposal { pin: pin.clone(), line: None, bits: Vec::new(), basis: PinBasis::Gap };
    if let Some(place) = described(pin, known, taken) {
        taken.insert(place);
        let why = "called as the data sheet describes the pin".to_string();
        return PinProposal { line: Some(known[place].clone()), basis: PinBasis::Guess(why), ..gap };
    }
    let bits = numbered(words, known, taken);
    if bits.len() < 2 {
        return gap;
    }
    taken.extend(&bits);
    let why = "its bits by their numbers".to_string();
    let bits = bits.iter().map(|place| known[*place].clone()).collect();
    PinProposal { bits, basis: PinBasis::Guess(why), ..gap }
}

/// The only name that is a word of what is said of a pin, or begins like one.
fn described(pin: &Pin, known: &[String], taken: &HashSet<usize>) -> Option<usize> {
    let words = Words::of(&pin.what).all;
    let is_said = |(place, name): &(usize, &String)| {
        let own = name.to_lowercase();
        let long = |word: &&String| word.len() >= SHORTEST && own.len() >= SHORTEST;
        let mut words = words.iter().filter(long);
        words.any(|word| word.starts_with(&own) || own.starts_with(word)) && !taken.contains(place)
    };
    let mut said = known.iter().enumerate().filter(is_said).map(|(place, _)| place);
    said.next().filter(|_| said.next().is_none())
}

/// The lines that are called like a pin with a number, from the highest down to 0.
fn numbered(pin: &Words, known: &[String], taken: &HashSet<usize>) -> Vec<usize> {
    let mut bits: Vec<(usize, usize)> = Vec::new();
    for (place, name) in known.iter().enumerate().filter(|(place, _)| !taken.contains(place)) {
        let name = name.trim_end_matches(']').replace('[', "");
        let stem = name.trim_end_matches(|c: char| c.is_ascii_digit());
        if let Ok(number) = name[stem.len()..].parse()
            && Words::of(stem).fits(pin).is_some_and(|fit| fit >= SURE)
        {
            bits.push((number, place));
        }
    }
    bits.sort_unstable_by(|a, b| b.cmp(a));
    let whole = (0..bits.len()).rev().eq(bits.iter().map(|(number, _)| *number));
    if whole { bits.into_iter().map(|(_, place)| place).collect() } else { Vec::new() }
}

/// Letters of the shortest name that is compared with what a data sheet says.
const SHORTEST: usize = 4;

/// Pins without a line get those of the bus that lines seem to be, where one bus has more of their jobs than any other.
fn by_activity(proposals: &mut [PinProposal], pins: &[Words], roles: &Roles, name: impl Fn(usize) -> String) {
    let taken: HashSet<String> = proposals.iter().filter_map(|proposal| proposal.line.clone()).collect();
    // Per bus, the number of a proposal, its line, and why.
    let mut best: Vec<Vec<(usize, String, String)>> = Vec::new();
    for guess in &roles.buses {
        let roles = guess.bus.protocol().roles();
        let lines: Vec<(String, String)> =
            roles.into_iter().zip(guess.bus.lines().iter().map(|line| name(line.0))).collect();
        let mut found = Vec::new();
        for (number, proposal) in proposals.iter().enumerate().filter(|(_, p)| p.is_open()) {
            let Some(job) = pins[number].job(&proposal.pin.what) else { continue };
            let line = lines.iter().find(|(role, line)| serves(role, job) && !taken.contains(line));
            if let Some((role, line)) = line
                && found.iter().all(|(_, other, _)| other != line)
            {
                let kind = guess.bus.protocol().name();
                let why = format!("{role} of what seems to be {kind} ({})", guess.sureness);
                found.push((number, line.clone(), why));
            }
        }
        if !found.is_empty() {
            best.push(found);
        }
    }
    best.sort_by_key(|found| std::cmp::Reverse(found.len()));
    let second = best.get(1).map(Vec::len);
    let Some(found) = best.into_iter().next() else { return };
    let tie = second == Some(found.len());
    for (number, line, why) in found {
        let why = if tie { format!("{why}; another bus fits as well") } else { why };
        (proposals[number].line, proposals[number].basis) = (Some(line), PinBasis::Guess(why));
    }
}

/// Whether a line with this role of a bus does this job.
fn serves(role: &str, job: &str) -> bool {
    let role = role.trim_end_matches(|c: char| c.is_ascii_digit());
    role == job || (job == "data" && role == "line") || (job == "select" && role == "chip-select")
}

/// From which fit on names say it.
const SURE: u32 = 2;

/// A name in words: `ADC_CS_N` is `adc`, `cs` and the polarity `n`.
struct Words {
    all: Vec<String>,
    polarity: bool,
}

impl Words {
    fn of(name: &str) -> Words {
        let lower = name.to_lowercase();
        let mut all: Vec<String> = lower
            .split(|c: char| !c.is_alphanumeric())
            .filter(|word| !word.is_empty())
            .map(str::to_string)
            .collect();
        let mut polarity = lower.ends_with('#') || lower.starts_with(['/', '!']);
        if all.len() > 1 && all.last().is_some_and(|last| POLARITY.contains(&last.as_str())) {
            all.pop();
            polarity = true;
        }
        // nCS is as good as CS_N.
        if let Some(bare) = all.last().and_then(|last| last.strip_prefix('n')).filter(|bare| bare.len() > 1)
            && job_of(bare).is_some()
        {
            let bare = bare.to_string();
            all.pop();
            all.push(bare);
            polarity = true;
        }
        Words { all, polarity }
    }

    /// The words before those of a pin; `None` where its name does not end this one.
    fn before(&self, pin: &Words) -> Option<Vec<String>> {
        let own = self.all.len().checked_sub(pin.all.len()).filter(|_| !pin.all.is_empty())?;
        let end = self.all[own..].iter().zip(&pin.all);
        end.clone().all(|(own, pin)| own == pin || alike(own, pin)).then(|| self.all[..own].to_vec())
    }

    /// How well a name fits a pin's: the same, the same without polarity, or only another word for the same job.
    fn fits(&self, pin: &Words) -> Option<u32> {
        let before = self.before(pin)?;
        let same = self.all[before.len()..] == pin.all;
        Some(match (same, self.polarity == pin.polarity, before.is_empty()) {
            (true, true, true) => 4,
            (true, true, false) => 3,
            (true, false, _) => SURE,
            (false, ..) => 1,
        })
    }

    /// What a pin does, by its name or by what is said of it.
    fn job(&self, what: &str) -> Option<&'static str> {
        let named = self.all.last().and_then(|last| job_of(last));
        let what = what.to_lowercase();
        named.or_else(|| match () {
            () if what.contains("clock") => Some("clock"),
            () if what.contains("select") => Some("select"),
            () if what.contains("data") && what.contains("output") => Some("miso"),
            () if what.contains("data") && what.contains("input") => Some("mosi"),
            () if what.contains("data") => Some("data"),
            () => None,
        })
    }
}

fn job_of(word: &str) -> Option<&'static str> {
    JOBS.iter().find(|(_, names)| names.contains(&word)).map(|(job, _)| *job)
}

/// Whether two words are names of one job.
fn alike(one: &str, other: &str) -> bool {
    job_of(one).is_some_and(|job| job_of(other) == Some(job) && job != "data")
}

#[cfg(test)]
mod tests {
    use super::{PinBasis, propose_pins};
    use crate::limit::{Part, Pin};
    use crate::roles::Roles;

    fn part(pins: &[&str]) -> Part {
        let pin = |name: &&str| Pin { name: (*name).to_string(), what: String::new() };
        Part {
            name: "P".into(),
            source: String::new(),
            conditions: None,
            made_up: true,
            pins: pins.iter().map(pin).collect(),
            limits: Vec::new(),
        }
    }

    fn proposed(pins: &[&str], lines: &[&str]) -> Vec<(String, String)> {
        let known: Vec<String> = lines.iter().map(|line| (*line).to_string()).collect();
        let proposals = propose_pins(&part(pins), &known, &Roles::default(), |_| String::new());
        let basis = |basis: &PinBasis| match basis {
            PinBasis::Name => "name".to_string(),
            PinBasis::Guess(why) => why.clone(),
            PinBasis::Gap => "gap".to_string(),
        };
        proposals.iter().map(|p| (p.line.clone().unwrap_or_default(), basis(&p.basis))).collect()
    }

    #[test]
    fn names_say_which_line_is_which_pin() {
        let board = ["ADC_CS_N", "ADC_SCLK", "ADC_DOUT", "MEM_CS_N", "MEM_WE_N", "RESET_N", "SCLK2"];
        let found = proposed(&["CS_N", "SCLK", "DOUT", "WE_N", "RESET"], &board);
        let lines: Vec<&str> = found.iter().map(|(line, _)| line.as_str()).collect();
        // The memory's select has fewer of the part's pins beside it.
        assert_eq!(lines, ["ADC_CS_N", "ADC_SCLK", "ADC_DOUT", "MEM_WE_N", "RESET_N"]);
        assert!(found.iter().all(|(_, basis)| basis == "name"), "{found:?}");
        // Two of a kind, another word for it, and nothing.
        let found = proposed(&["CS", "SCK", "IRQ"], &["A_nCS", "B_nCS", "X_CLK"]);
        assert_eq!(found[0], ("A_nCS".to_string(), "'B_nCS' fits as well".to_string()));
        assert_eq!(found[1], ("X_CLK".to_string(), "the names are only alike".to_string()));
        assert_eq!(found[2], (String::new(), "gap".to_string()));
        // A vector, line by line or as a bus that is called as the pin is described.
        let known: Vec<String> = ["A1", "A0", "DQ0", "DQ2", "DATA"].map(String::from).to_vec();
        let mut vectors = part(&["A", "DQ"]);
        vectors.pins[1].what = "data, both ways".to_string();
        let found = propose_pins(&vectors, &known, &Roles::default(), |_| String::new());
        assert_eq!(found[0].bits, ["A1", "A0"]);
        assert_eq!((found[1].bits.len(), found[1].line.as_deref()), (0, Some("DATA")));
        // No line twice.
        let found = proposed(&["SCLK", "SCK"], &["SCLK"]);
        assert_eq!(found.iter().filter(|(line, _)| line == "SCLK").count(), 1);
    }
}
