//! What the stand-in instruments can do. Their makes are made up.

use std::str::FromStr;

use deep_tap_core::instrument::{AnalogBank, Bank, Capabilities, Mode, OnBoardTrigger, Output};
use deep_tap_core::line::VoltageRange;
use deep_tap_core::quantity::{Frequency, Percent, Rate, Rational, Time, Voltage};
use deep_tap_core::{Error, ErrorKind, Result};

/// A made-up instrument.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Model {
    /// EX-D32: 32 inputs with a deep memory, 16 of them at its highest rate; streams up to 200 MS/s.
    #[default]
    D32,
    /// EX-S16: 16 inputs, no memory and no trigger of its own; a link of 70 megabytes a second.
    S16,
    /// EX-B16: two banks of 8 inputs, one for low voltages with finely set thresholds, one that
    /// stands 30 V; a small memory, and no stream.
    B16,
    /// EX-M16: 16 inputs and two analog ones of 12 bits; a small memory, and a stream.
    M16,
}

impl Model {
    /// All of them, by the name they are chosen with.
    pub const ALL: [(Model, &'static str); 4] =
        [(Model::D32, "EX-D32"), (Model::S16, "EX-S16"), (Model::B16, "EX-B16"), (Model::M16, "EX-M16")];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(model, _)| *model == self).map_or("?", |(_, name)| name)
    }

    /// What it can do, given its largest skew and the error of its time base.
    pub(crate) fn capabilities(self, skew: Time, accuracy: Percent) -> Capabilities {
        let (banks, modes, trigger) = match self {
            Model::D32 => {
                let all = mega(&[1, 2, 5, 10, 20, 25, 50, 100, 125, 200, 250, 500]);
                let fast = [&all[..], &mega(&[1000])].concat();
                let link = all[..10].to_vec();
                let modes = vec![
                    Mode::on_board(32, all, 64 << 20),
                    Mode::on_board(16, fast, 128 << 20),
                    Mode::streaming(32, link, 1 << 40),
                ];
                let banks = vec![bank("A", 32, (0, 3000), 10, true, 5000)];
                (banks, modes, OnBoardTrigger::edge(32))
            }
            Model::S16 => {
                let rates = mega(&[1, 3, 7, 14, 35, 70]);
                let mut mode = Mode::streaming(16, rates, 1 << 40);
                mode.link = Some(70_000_000);
                (vec![bank("A", 16, (1250, 1250), 0, false, 4000)], vec![mode], OnBoardTrigger::default())
            }
            Model::B16 => {
                let slow = mega(&[1, 2, 5, 10, 20, 50, 100]);
                let fast = [&slow[..], &mega(&[200, 400])].concat();
                let modes = vec![Mode::on_board(16, slow, 1 << 20), Mode::on_board(8, fast, 2 << 20)];
                let banks = vec![
                    bank("LOW", 8, (0, 3000), 5, true, 3600),
                    bank("HIGH", 8, (-5000, 15000), 100, false, 30000),
                ];
                (banks, modes, OnBoardTrigger::edge(8))
            }
            Model::M16 => {
                let link = mega(&[1, 2, 5, 10, 20, 25, 50]);
                let all = [&link[..], &mega(&[100, 200])].concat();
                let modes = vec![Mode::on_board(16, all, 16 << 20), Mode::streaming(16, link, 1 << 40)];
                let banks = vec![bank("A", 16, (0, 3000), 10, true, 5000)];
                (banks, modes, OnBoardTrigger::edge(16))
            }
        };
        let analog = (self == Model::M16).then(|| AnalogBank {
            name: "ANALOG".to_string(),
            inputs: 2,
            ranges: vec![range(0, 2500), range(0, 5000), range(-10_000, 10_000)],
            bits: 12,
            // Half a percent of the range.
            accuracy: Percent::from_fraction(Rational::new(5, 1000).unwrap_or(Rational::ZERO)),
            fastest: Rate::from_rational(Rational::from(10_000_000)),
            highest: millivolts(30_000),
        });
        let frequency = |hertz: i64| Some(Frequency::from_rational(Rational::from(hertz)));
        let output = |name: &str, pulses, bytes| Output { name: name.to_string(), pulses, bytes };
        let outputs = match self {
            Model::D32 => {
                // Pulses on both, bytes on the second.
                vec![
                    output("AUX1", frequency(1_000_000), None),
                    output("AUX2", frequency(1_000_000), frequency(1_000_000)),
                ]
            }
            Model::M16 => {
                let both = |name| output(name, frequency(10_000_000), frequency(2_000_000));
                vec![both("OUT1"), both("OUT2")]
            }
            Model::S16 | Model::B16 => Vec::new(),
        };
        let reaction = "10 us".parse().unwrap_or(Time::ZERO);
        let mut able = Capabilities::new(banks, modes);
        (able.analog, able.outputs, able.reaction) = (analog, outputs, reaction);
        (able.trigger, able.skew, able.accuracy) = (trigger, skew, accuracy);
        able
    }
}

impl FromStr for Model {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let found = Self::ALL.iter().find(|(_, name)| name.eq_ignore_ascii_case(text));
        found.map(|(model, _)| *model).ok_or_else(|| {
            let names: Vec<&str> = Self::ALL.iter().map(|(_, name)| *name).collect();
            Error::new(ErrorKind::Instrument, format!("there is no instrument '{text}' on the bench"))
                .with_help(format!("there are: {}", names.join(", ")))
        })
    }
}

fn mega(rates: &[i64]) -> Vec<Rate> {
    rates.iter().map(|rate| Rate::from_rational(Rational::from(rate * 1_000_000))).collect()
}

fn millivolts(mv: i64) -> Voltage {
    Voltage::from_rational(Rational::new(mv.into(), 1000).unwrap_or(Rational::ZERO))
}

fn range(low: i64, high: i64) -> VoltageRange {
    VoltageRange { low: millivolts(low), high: millivolts(high) }
}

/// Thresholds, step and rating in millivolts.
fn bank(name: &str, inputs: u32, thresholds: (i64, i64), step: i64, per_input: bool, highest: i64) -> Bank {
    let mut bank = Bank::new(name, inputs);
    bank.thresholds = range(thresholds.0, thresholds.1);
    bank.step = millivolts(step);
    bank.per_input = per_input;
    bank.highest = millivolts(highest);
    bank
}
