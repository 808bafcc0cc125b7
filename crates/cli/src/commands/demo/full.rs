//! The whole story, step by step.

use std::path::Path;

use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{LimitResult, Verdict};
use deep_tap::quantity::Quantity;

use super::Demo;
use crate::args;
use crate::commands::capture::summary;
use crate::commands::check::{Checked, Verdicts, check, rate_worth_trying};
use crate::commands::{compare, frames, measure, roles, show};
use crate::contract::Document;
use crate::errors::Failure;
use crate::output::{Out, save};

pub(super) fn tell(demo: &mut Demo<'_>) -> Result<(), Failure> {
    demo.out.line("A prototype is on the bench: the main board of an ocean tide-gauge buoy, revision B.")?;
    demo.out.line("The board and its parts are made up and simulated; it misbehaves as real ones do.")?;
    demo.wired()?;
    demo.first()?;
    let slow_path = demo.path("tide-gauge.dtap");
    let slow = demo.load("tide-gauge.dtap")?;
    let checked = demo.check(&slow, &slow_path)?;
    demo.look(&slow_path, &checked)?;
    demo.decide(&checked)?;
    demo.unseen(&checked)?;
    demo.rail()?;
    demo.buses()?;
    demo.against_rest()?;
    demo.without_names()?;
    demo.hand_over()
}

impl Demo<'_> {
    fn heading(&mut self, number: u32, text: &str) -> Result<(), Failure> {
        self.out.line(format!("\n{number}. {text}\n"))
    }

    fn wired(&mut self) -> Result<(), Failure> {
        self.heading(1, "Wire up and write it down")?;
        let setup = self.path("setups/tide-gauge.toml");
        self.body(&format!(
            "{}\n\
             says which input carries which signal, how fast to record, what to wait for, and which\n\
             pins of which part are on which line. The timing tables of the parts are in\n\
             {}, one file per part, as printed in their datasheets.",
            setup.display(),
            self.path("parts").display()
        ))
    }

    /// Records by a setup, and says so.
    fn tell_record(&mut self, setup: &str, rate: Option<&str>, name: &str) -> Result<(), Failure> {
        let (setup_path, target) = (self.path(setup), self.path(name));
        let rate_words = rate.map_or(String::new(), |rate| format!(" --rate '{rate}'"));
        self.command(&format!("capture {}{rate_words} --output {}", setup_path.display(), target.display()))?;
        let capture = self.record(setup, rate, name)?;
        self.body(&format!("{}\nsaved to {}", summary(&capture), target.display()))
    }

    fn first(&mut self) -> Result<(), Failure> {
        self.heading(2, "Record the first power-up")?;
        self.tell_record("setups/tide-gauge.toml", None, "tide-gauge.dtap")?;
        self.body("\nThe capture carries the setup and the limits: whoever has the file needs nothing else.")
    }

    fn check(&mut self, loaded: &Job, path: &Path) -> Result<Checked, Failure> {
        self.heading(3, "Check every occurrence of every limit")?;
        self.command(&format!("check {}", path.display()))?;
        let checked = check(loaded, path, &[], Rule::Proven)?;
        let text = checked.text(&loaded.capture, None);
        // The advice at the end is the rest of this story.
        let table = text.split("\nnext: ").next().unwrap_or(&text);
        self.body(table)?;
        save(&self.path("verdicts.txt"), self.replace, |file| file.write_all(text.as_bytes()))?;
        save(&self.path("verdicts.json"), self.replace, |file| {
            serde_json::to_writer_pretty(&mut *file, &Document::new("verdicts", &Verdicts::one(&checked)))?;
            file.write_all(b"\n")
        })?;
        self.body(&format!(
            "\nThe table is in {} and {}.\n\
             'pass' and 'FAIL' are proven: every value that the true time may have is inside, or\n\
             outside, what the part requires. 'inconclusive' says that this sample rate cannot tell.",
            self.path("verdicts.txt").display(),
            self.path("verdicts.json").display()
        ))?;
        Ok(checked)
    }

    fn look(&mut self, path: &Path, checked: &Checked) -> Result<(), Failure> {
        let failed = checked.results.iter().filter(|r| r.verdict == Verdict::Fail && r.reference == "U3");
        // The clearest picture: the violation that takes the least room.
        let Some(failed) = failed.min_by_key(|r| r.measured.and_then(Quantity::time)) else { return Ok(()) };
        let Some(at) = failed.at else { return Ok(()) };
        self.heading(4, &format!("Look at a violation: {} of {}", failed.symbol, failed.reference))?;
        let around = at.to_string().replace(' ', "");
        let lines = "ADC_CS_N,ADC_SCLK,ADC_MOSI,ADC_MISO";
        self.command(&format!("show {} --around {around} --lines {lines}", path.display()))?;
        self.show(path, &around, None, lines)?;
        self.out.line("")?;
        self.pictures(path, failed)
    }

    /// The same violation and all values of its limit, as pictures.
    fn pictures(&mut self, path: &Path, failed: &LimitResult) -> Result<(), Failure> {
        let ending = if cfg!(feature = "png") { "png" } else { "svg" };
        let limit = failed.name();
        let (late, values) =
            (self.path(&format!("late.{ending}")), self.path(&format!("conversion.{ending}")));
        let lines = "ADC_CS_N,ADC_SCLK,ADC_MOSI,ADC_MISO,adc";
        self.command(&format!(
            "show {} --limit {limit} --span 3us --lines {lines} --output {}",
            path.display(),
            late.display()
        ))?;
        let picture = args::Show {
            span: Some("3us".to_string()),
            lines: lines.split(',').map(str::to_string).collect(),
            limit: vec![limit],
            output: Some(late.clone()),
            replace: self.replace,
            ..args::Show::of(args::Source::of(path.to_path_buf()))
        };
        show::run(&picture, &mut Out::buffer())?;
        let command = format!("measure {} --limit U3.tCONV --picture {}", path.display(), values.display());
        self.command(&command)?;
        let measured = args::Measure::of_limit(path, "U3.tCONV", &values, self.replace);
        measure::run(&measured, &mut Out::buffer())?;
        self.body(&format!("The pictures are in {} and {}.", late.display(), values.display()))
    }

    /// The picture that the command just told of draws.
    fn show(&mut self, path: &Path, around: &str, span: Option<&str>, lines: &str) -> Result<(), Failure> {
        let picture = args::Show {
            around: Some(around.to_string()),
            span: span.map(str::to_string),
            lines: lines.split(',').map(str::to_string).collect(),
            width: Some(96),
            ..args::Show::of(args::Source::of(path.to_path_buf()))
        };
        let mut drawn = Out::buffer();
        show::run(&picture, &mut drawn)?;
        let drawn = drawn.into_text();
        self.body(&drawn)
    }

    /// The voltage behind it all, on an instrument with analog inputs.
    fn rail(&mut self) -> Result<(), Failure> {
        self.heading(7, "Look at the voltage behind it all")?;
        let target = self.path("power-rail.dtap");
        self.tell_record("setups/power-rail.toml", None, "power-rail.dtap")?;
        self.out.line("")?;
        self.command(&format!("check {}", target.display()))?;
        let loaded = self.load("power-rail.dtap")?;
        let checked = check(&loaded, &target, &[], Rule::Proven)?;
        let text = checked.text(&loaded.capture, None);
        self.body(text.split("\nnext: ").next().unwrap_or(&text))?;
        let dip = checked.results.iter().find(|r| r.verdict == Verdict::Fail).and_then(|r| r.at);
        let Some(dip) = dip else { return Ok(()) };
        let around = dip.to_string().replace(' ', "");
        self.out.line("")?;
        let lines = "VDD33,TIDE_OUT";
        let command = format!("show {} --around {around} --span 400us --lines {lines}", target.display());
        self.command(&command)?;
        self.show(&target, &around, Some("400us"), lines)
    }

    /// Everything that talks, decoded, and one bus against its own timing table.
    fn buses(&mut self) -> Result<(), Failure> {
        self.heading(8, "Listen to everything that talks")?;
        let target = self.path("buses.dtap");
        self.tell_record("setups/buses.toml", None, "buses.dtap")?;
        let loaded = self.load("buses.dtap")?;
        self.out.line("")?;
        self.command(&format!("frames {} --bus rtc,modem,lamps --first 9", target.display()))?;
        let asked = args::Frames {
            source: args::Source::of(target.clone()),
            bus: ["rtc", "modem", "lamps"].map(str::to_string).to_vec(),
            has: None,
            faults: false,
            count: false,
            transfers: false,
            exchanges: false,
            summary: false,
            beside: false,
            values: args::Values::Hex,
            first: Some(9),
            window: args::Window::default(),
            format: args::Format::Text,
            table: None,
            replace: false,
        };
        let mut listed = Out::buffer();
        frames::list(&asked, &loaded, &mut listed)?;
        self.body(&listed.into_text())?;
        self.out.line("")?;
        self.command(&format!("check {}", target.display()))?;
        let checked = check(&loaded, &target, &[], Rule::Proven)?;
        let text = checked.text(&loaded.capture, asked.source.setup.as_deref());
        self.body(text.split("\nnext: ").next().unwrap_or(&text))
    }

    fn decide(&mut self, checked: &Checked) -> Result<(), Failure> {
        let Some(rate) = checked.results.iter().filter_map(rate_worth_trying).max() else { return Ok(()) };
        let open: Vec<String> = checked
            .results
            .iter()
            .filter(|r| rate_worth_trying(r).is_some())
            .map(LimitResult::name)
            .collect();
        self.heading(5, &format!("Decide what was inconclusive, at the rate the table names: {rate}"))?;
        let path = self.path("tide-gauge-faster.dtap");
        self.tell_record("setups/tide-gauge.toml", Some(&rate.to_string()), "tide-gauge-faster.dtap")?;
        self.out.line("")?;
        self.command(&format!("check {} --only {}", path.display(), open.join(",")))?;
        let loaded = self.load("tide-gauge-faster.dtap")?;
        let decided = check(&loaded, &path, &open, Rule::Proven)?;
        let text = decided.text(&loaded.capture, None);
        self.body(text.split("\nnext: ").next().unwrap_or(&text))
    }

    fn unseen(&mut self, checked: &Checked) -> Result<(), Failure> {
        let unseen: Vec<&LimitResult> =
            checked.results.iter().filter(|r| r.verdict == Verdict::NotSeen).collect();
        if unseen.is_empty() {
            return Ok(());
        }
        self.heading(6, "What the record could not answer")?;
        for result in unseen {
            self.body(&format!(
                "{}.{} ({}) was not seen: its events never occurred. That is not a pass; make the\n\
                 firmware do it during the capture, and check again.",
                result.reference, result.symbol, result.what
            ))?;
        }
        Ok(())
    }

    /// The same board without load: what is new under it.
    fn against_rest(&mut self) -> Result<(), Failure> {
        self.heading(9, "Compare it with the board at rest")?;
        self.tell_record("setups/at-rest.toml", None, "at-rest.dtap")?;
        self.out.line("")?;
        let (a, b) = (self.path("at-rest.dtap"), self.path("tide-gauge.dtap"));
        self.command(&format!("compare {} {}", a.display(), b.display()))?;
        let mut told = Out::buffer();
        compare::run(&args::Compare::of(a, b), &mut told)?;
        self.story(&told.into_text())
    }

    /// Leads on a board that nobody knows.
    fn without_names(&mut self) -> Result<(), Failure> {
        self.heading(10, "Tell which line is what, where nobody knows")?;
        self.tell_record("setups/unnamed.toml", None, "unnamed.dtap")?;
        self.out.line("")?;
        let path = self.path("unnamed.dtap");
        self.command(&format!("roles {}", path.display()))?;
        let table = args::Table { format: args::Format::Text, output: None, replace: false };
        let wanted = args::Roles { source: args::Source::of(path), write_setup: None, table };
        let mut told = Out::buffer();
        roles::run(&wanted, &mut told)?;
        self.body(&told.into_text())
    }

    fn hand_over(&mut self) -> Result<(), Failure> {
        self.heading(11, "Hand over what was found")?;
        let (a, b) = (self.path("at-rest.dtap"), self.path("tide-gauge.dtap"));
        let page = self.path("tide-gauge.html");
        self.command(&format!("report {} {} --output {}", a.display(), b.display(), page.display()))?;
        self.report(&["at-rest.dtap", "tide-gauge.dtap"], "tide-gauge.html")?;
        self.body(&format!(
            "Verdicts, waveforms to move about in and what differs, on one page: {}",
            page.display()
        ))?;
        self.out.line("")
    }

    /// What a command says, without what it would do next.
    fn story(&mut self, text: &str) -> Result<(), Failure> {
        self.body(text.split("\nnext: ").next().unwrap_or(text))
    }
}
