//! The guesses as a setup.

use std::fmt::Write;

use super::{BusGuess, Roles};
use crate::capture::Capture;
use crate::decode::Protocol;
use crate::line::{BitOrder, Input, Level, LineId};
use crate::reader::{toml_comment, toml_text};

impl BusGuess {
    /// The words of a `[[bus]]` section, a line each; lines are called as `name` says.
    pub fn words(&self, name: impl Fn(LineId) -> String) -> Vec<String> {
        let mut words = vec![format!("kind = \"{}\"", self.bus.protocol().name())];
        let roles = self.bus.protocol().roles();
        for (role, line) in roles.iter().zip(self.bus.lines()) {
            words.push(format!("{role} = {}", toml_text(&name(*line))));
        }
        let level = |level: Level| if level == Level::High { "high" } else { "low" };
        match self.bus.protocol() {
            Protocol::Uart(config) => {
                words.extend(config.bit_rate.map(|rate| format!("bit-rate = \"{rate}\"")));
                if config.data_bits != 8 {
                    words.push(format!("data-bits = {}", config.data_bits));
                }
                if config.parity != crate::decode::Parity::None {
                    words.push(format!("parity = \"{}\"", config.parity));
                }
                if config.inverted {
                    words.push("inverted = true".to_string());
                }
            }
            Protocol::Spi(config) => {
                words.extend([format!("mode = {}", config.mode), format!("bits = {}", config.bits)]);
                words.extend(config.select.map(|active| format!("select-active = \"{}\"", level(active))));
                words.extend(config.gap.map(|gap| format!("gap = \"{gap}\"")));
            }
            Protocol::Can(config) => {
                words.push(format!("bit-rate = \"{}\"", config.bit_rate));
                if config.inverted {
                    words.push("inverted = true".to_string());
                }
            }
            Protocol::Lin(config) => {
                words.push(format!("bit-rate = \"{}\"", config.bit_rate));
                if config.classic {
                    words.push("checksum = \"classic\"".to_string());
                }
            }
            Protocol::Clocked(config) => {
                let edge = if config.rising { "rises" } else { "falls" };
                words.extend([format!("edge = \"{edge}\""), format!("bits = {}", config.bits)]);
                words.extend(config.gap.map(|gap| format!("gap = \"{gap}\"")));
                if config.order == BitOrder::LowestFirst {
                    words.push("order = \"lowest-first\"".to_string());
                }
            }
            Protocol::I2s(config) => words.push(format!("bits = {}", config.bits)),
            Protocol::Pulses(config) => words.extend([
                format!("threshold = \"{}\"", config.threshold),
                format!("rest = \"{}\"", config.rest),
                format!("bits = {}", config.bits),
            ]),
            _ => {}
        }
        words
    }
}

impl Roles {
    /// A setup that gives the lines of the buses names by their roles, finds them in the record by what they
    /// are called there, and describes the buses.
    pub fn setup(&self, capture: &Capture) -> String {
        let mut names: Vec<(LineId, String)> = Vec::new();
        for guess in &self.buses {
            for (role, line) in guess.bus.protocol().roles().iter().zip(guess.bus.lines()) {
                if names.iter().all(|(known, _)| known != line) {
                    names.push((*line, format!("{}_{role}", guess.bus.name()).to_uppercase()));
                }
            }
        }
        // A setup's names have neither quotes nor control characters.
        let usable = |name: &str| -> String {
            name.chars().map(|c| if c == '"' || c.is_control() { '_' } else { c }).collect()
        };
        for line in self.left.iter().chain(&self.idle).map(|left| left.line) {
            let mut name = usable(&capture.line(line).name);
            while names.iter().any(|(_, known)| *known == name) {
                name.push('_');
            }
            names.push((line, name));
        }
        let mut text = "title = \"Lines that were given names by what they do\"\n".to_string();
        for (line, name) in &names {
            let own = capture.line(*line);
            let input = match &own.input {
                Some(Input::Number(number)) => number.to_string(),
                _ => toml_text(&own.name),
            };
            let _ = write!(text, "\n[[line]]\nname = {}\ninput = {input}\n", toml_text(name));
        }
        let name = |line: LineId| {
            let known = names.iter().find(|(known, _)| *known == line);
            known.map_or(String::new(), |(_, name)| name.clone())
        };
        for guess in &self.buses {
            let _ = write!(text, "\n# {}: {}\n", guess.sureness, toml_comment(&guess.reasons.join("; ")));
            for open in &guess.open {
                let _ = writeln!(text, "# cannot be told: {}", toml_comment(open));
            }
            let _ = write!(text, "[[bus]]\nname = {}\n", toml_text(guess.bus.name()));
            guess.words(name).iter().for_each(|word| {
                let _ = writeln!(text, "{word}");
            });
        }
        text
    }
}
