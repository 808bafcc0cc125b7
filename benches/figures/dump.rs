//! Reading and writing value change dumps, as a simulator writes them, beside their parser alone.

use deep_tap::format::{Source, read, vcd};
use deep_tap::setup::Import;

use crate::data::Noise;
use crate::figure::{Case, Figures, on_cores, shortest};

/// Lines of the dump of single bits.
const LINES: u64 = 64;
/// Widths of the vectors of the other one.
const WIDTHS: [u64; 6] = [8, 16, 32, 64, 4, 12];

fn code(number: u64) -> String {
    let letter = |n: u64| char::from(b'!' + (n % 94) as u8);
    if number < 94 {
        letter(number).to_string()
    } else {
        format!("{}{}", letter(number), letter(number / 94))
    }
}

fn header(variables: impl Iterator<Item = (u64, String)>) -> String {
    let mut text = String::from("$timescale 1ps $end\n$scope module top $end\n");
    for (number, (width, name)) in variables.enumerate() {
        text.push_str(&format!("$var wire {width} {} {name} $end\n", code(number as u64)));
    }
    text + "$upscope $end\n$enddefinitions $end\n"
}

/// Single bits: at each time one to four of them change, and one changes much more often than the others.
fn bits(times: u64) -> String {
    let mut noise = Noise::new();
    let mut text = header((0..LINES).map(|line| (1, format!("s{line}"))));
    let (mut levels, mut time) = ([0; LINES as usize], 0);
    for _ in 0..times {
        time += 500 * (1 + noise.next() % 4);
        text.push_str(&format!("#{time}\n"));
        for _ in 0..=noise.next() % 4 {
            let line = if noise.next().is_multiple_of(2) { 0 } else { noise.next() % LINES };
            levels[line as usize] ^= 1;
            text.push_str(&format!("{}{}\n", levels[line as usize], code(line)));
        }
    }
    text
}

/// A clock, and at each of its edges new values of one to three vectors.
fn vectors(times: u64) -> String {
    let mut noise = Noise::new();
    let named = WIDTHS.iter().enumerate().map(|(n, width)| (*width, format!("v{n} [{}:0]", width - 1)));
    let mut text = header(std::iter::once((1, "clk".to_string())).chain(named));
    for edge in 0..times {
        text.push_str(&format!("#{}\n{}!\n", (edge + 1) * 5000, edge % 2));
        for _ in 0..=noise.next() % 3 {
            let vector = noise.next() % 6;
            // Every second one counts, as addresses do.
            let value = if vector.is_multiple_of(2) { edge } else { noise.next() };
            let value = value & u64::MAX >> (64 - WIDTHS[vector as usize]);
            text.push_str(&format!("b{value:b} {}\n", code(vector + 1)));
        }
    }
    text
}

pub(crate) fn measure(figures: &mut Figures) {
    let dumps =
        [("mostly bits", bits(4_000_000), [3.5, 6.0]), ("mostly vectors", vectors(1_200_000), [2.0, 3.5])];
    for (activity, text, targets) in dumps {
        let parser = shortest(3, || ::vcd::Parser::new(text.as_bytes()).filter(Result::is_ok).count());
        let bytes = text.len() as f64;
        let source = Source::of_bytes(text.into_bytes(), "made.vcd");
        for (cores, target) in [1, 2].into_iter().zip(targets) {
            let reading = on_cores(cores, || {
                shortest(3, || {
                    read(&source, &Import::default(), &mut |_, _| ()).expect("a dump as it should be")
                })
            });
            let case = Case { samples: 0, activity: activity.to_string(), cores };
            let rate = (bytes / reading / 1e6, "MB/s");
            figures.against(
                "reading a value change dump",
                &case,
                rate,
                ("its parser alone", parser / reading, target),
            );
        }
        let capture = read(&source, &Import::default(), &mut |_, _| ()).expect("a dump as it should be");
        let mut written = 0;
        let writing = shortest(3, || {
            let mut dump = Vec::with_capacity(bytes as usize);
            vcd::write(&capture, &mut dump).expect("memory takes it");
            written = dump.len();
        });
        let rate = written as f64 / writing / 1e6;
        let case = Case { samples: 0, activity: activity.to_string(), cores: 1 };
        figures.against(
            "writing a value change dump",
            &case,
            (rate, "MB/s"),
            ("200 MB/s", rate / 200.0, 1.0),
        );
    }
}
