//! `demo`: the whole job on the demo board.

use std::path::{Path, PathBuf};

use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{LimitResult, Verdict};
use deep_tap::quantity::Quantity;
use deep_tap::setup::{RecordOptions, RunChanges, Setup};
use deep_tap::{Error, ErrorKind, Place};

use crate::Outcome;
use crate::args;
use crate::commands::capture::{record, summary};
use crate::commands::check::{Checked, Verdicts, check, rate_worth_trying};
use crate::commands::{frames, measure, show};
use crate::contract::Document;
use crate::errors::Failure;
use crate::load::load;
use crate::output::{Out, save};

/// The files of the demo, as they ship.
const FILES: [(&str, &str); 10] = [
    ("setups/tide-gauge.toml", include_str!("../../../../setups/tide-gauge.toml")),
    ("parts/ex-sup33.toml", include_str!("../../../../parts/ex-sup33.toml")),
    ("parts/ex-adc24.toml", include_str!("../../../../parts/ex-adc24.toml")),
    ("parts/ex-mem8.toml", include_str!("../../../../parts/ex-mem8.toml")),
    ("setups/power-rail.toml", include_str!("../../../../setups/power-rail.toml")),
    ("parts/ex-rail33.toml", include_str!("../../../../parts/ex-rail33.toml")),
    ("setups/buses.toml", include_str!("../../../../setups/buses.toml")),
    ("parts/i2c-fast.toml", include_str!("../../../../parts/i2c-fast.toml")),
    ("parts/uart-8n1.toml", include_str!("../../../../parts/uart-8n1.toml")),
    ("parts/can-bit-timing.toml", include_str!("../../../../parts/can-bit-timing.toml")),
];

pub(crate) fn run(args: &args::Demo, out: &mut Out) -> Result<Outcome, Failure> {
    let folder = &args.folder;
    if !args.replace && folder.exists() && std::fs::read_dir(folder).is_ok_and(|mut f| f.next().is_some()) {
        return Err(Error::new(ErrorKind::Exists, "this folder is not empty")
            .with_help("name another folder, or say that an earlier demo in it may be replaced (--replace)")
            .at(Place::File(folder.clone()))
            .into());
    }
    Demo { folder, replace: args.replace, out }.run()
}

struct Demo<'a> {
    folder: &'a Path,
    replace: bool,
    out: &'a mut Out,
}

impl Demo<'_> {
    fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    fn heading(&mut self, number: u32, text: &str) -> Result<(), Failure> {
        self.out.line(format!("\n{number}. {text}\n"))
    }

    fn command(&mut self, command: &str) -> Result<(), Failure> {
        self.out.line(format!("   $ deep-tap {command}\n"))
    }

    /// Text under a heading, indented.
    fn body(&mut self, text: &str) -> Result<(), Failure> {
        for line in text.trim_end().lines() {
            self.out.line(format!("   {line}").trim_end())?;
        }
        Ok(())
    }

    fn run(&mut self) -> Result<Outcome, Failure> {
        self.out
            .line("A prototype is on the bench: the main board of an ocean tide-gauge buoy, revision B.")?;
        self.out.line("The board and its parts are made up and simulated; it misbehaves as real ones do.")?;
        let setup_path = self.files()?;
        let setup = Setup::from_file(&setup_path)?;
        let slow_path = self.path("tide-gauge.dtap");
        self.capture(&setup, &setup_path, &slow_path)?;
        let slow = self.load(&slow_path)?;
        let checked = self.check(&slow, &slow_path)?;
        self.look(&slow_path, &checked)?;
        self.decide(&setup, &setup_path, &checked)?;
        self.unseen(&checked)?;
        self.rail()?;
        self.buses()?;
        self.out.line("")?;
        Ok(Outcome::Done)
    }

    fn files(&mut self) -> Result<PathBuf, Failure> {
        for (name, text) in FILES {
            let path = self.path(name);
            let parent = path.parent().unwrap_or(self.folder);
            std::fs::create_dir_all(parent).map_err(|e| Error::io(parent, "create", e))?;
            save(&path, self.replace, |file| file.write_all(text.as_bytes()))?;
        }
        self.heading(1, "Wire up and write it down")?;
        let setup = self.path("setups/tide-gauge.toml");
        self.body(&format!(
            "{}\n\
             says which input carries which signal, how fast to record, what to wait for, and which\n\
             pins of which part are on which line. The timing tables of the parts are in\n\
             {}, one file per part, as printed in their datasheets.",
            setup.display(),
            self.path("parts").display()
        ))?;
        Ok(setup)
    }

    fn capture(&mut self, setup: &Setup, setup_path: &Path, target: &Path) -> Result<(), Failure> {
        self.heading(2, "Record the first power-up")?;
        self.command(&format!("capture {} --output {}", setup_path.display(), target.display()))?;
        let capture = record(setup, setup_path, RecordOptions::default())?;
        dtap::save(&capture, target, SaveOptions { replace: self.replace })?;
        self.body(&format!("{}\nsaved to {}", summary(&capture), target.display()))?;
        self.body("\nThe capture carries the setup and the limits: whoever has the file needs nothing else.")
    }

    fn load(&self, path: &Path) -> Result<Job, Failure> {
        load(&args::Source::of(path.to_path_buf()))
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
            source: args::Source::of(path.to_path_buf()),
            at: None,
            around: None,
            span: Some("3us".to_string()),
            window: args::Window::default(),
            lines: lines.split(',').map(str::to_string).collect(),
            limit: vec![limit],
            mark: Vec::new(),
            width: None,
            output: Some(late.clone()),
            ground: args::Ground::Light,
            replace: self.replace,
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
            source: args::Source::of(path.to_path_buf()),
            at: None,
            around: Some(around.to_string()),
            span: span.map(str::to_string),
            window: args::Window::default(),
            lines: lines.split(',').map(str::to_string).collect(),
            limit: Vec::new(),
            mark: Vec::new(),
            width: Some(96),
            output: None,
            ground: args::Ground::Light,
            replace: false,
        };
        let mut drawn = Out::buffer();
        show::run(&picture, &mut drawn)?;
        let drawn = drawn.into_text();
        self.body(&drawn)
    }

    /// The voltage behind it all, on an instrument with analog inputs.
    fn rail(&mut self) -> Result<(), Failure> {
        self.heading(7, "Look at the voltage behind it all")?;
        let (setup_path, target) = (self.path("setups/power-rail.toml"), self.path("power-rail.dtap"));
        let setup = Setup::from_file(&setup_path)?;
        self.command(&format!("capture {} --output {}", setup_path.display(), target.display()))?;
        let capture = record(&setup, &setup_path, RecordOptions::default())?;
        dtap::save(&capture, &target, SaveOptions { replace: self.replace })?;
        self.body(&format!("{}\nsaved to {}\n", summary(&capture), target.display()))?;
        self.out.line("")?;
        self.command(&format!("check {}", target.display()))?;
        let loaded = self.load(&target)?;
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
        let (setup_path, target) = (self.path("setups/buses.toml"), self.path("buses.dtap"));
        let setup = Setup::from_file(&setup_path)?;
        self.command(&format!("capture {} --output {}", setup_path.display(), target.display()))?;
        let capture = record(&setup, &setup_path, RecordOptions::default())?;
        dtap::save(&capture, &target, SaveOptions { replace: self.replace })?;
        self.body(&format!("{}\nsaved to {}\n", summary(&capture), target.display()))?;
        let loaded = self.load(&target)?;
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

    fn decide(&mut self, setup: &Setup, setup_path: &Path, checked: &Checked) -> Result<(), Failure> {
        let Some(rate) = checked.results.iter().filter_map(rate_worth_trying).max() else { return Ok(()) };
        let open: Vec<String> = checked
            .results
            .iter()
            .filter(|r| rate_worth_trying(r).is_some())
            .map(LimitResult::name)
            .collect();
        self.heading(5, &format!("Decide what was inconclusive, at the rate the table names: {rate}"))?;
        let path = self.path("tide-gauge-faster.dtap");
        self.command(&format!(
            "capture {} --rate '{rate}' --output {}",
            setup_path.display(),
            path.display()
        ))?;
        let faster = setup.clone().changed(&RunChanges::default().rate(rate.to_string()))?;
        let capture = record(&faster, setup_path, RecordOptions::default())?;
        dtap::save(&capture, &path, SaveOptions { replace: self.replace })?;
        self.body(&format!("{}\nsaved to {}", summary(&capture), path.display()))?;
        self.out.line("")?;
        self.command(&format!("check {} --only {}", path.display(), open.join(",")))?;
        let loaded = self.load(&path)?;
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
}
