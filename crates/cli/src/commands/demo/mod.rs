//! `demo`: the whole job on the demo board.

mod full;
mod short;

use std::path::{Path, PathBuf};

use deep_tap::capture::Capture;
use deep_tap::format::dtap::{self, SaveOptions};
use deep_tap::job::Job;
use deep_tap::setup::{RecordOptions, RunChanges, Setup};
use deep_tap::{Error, ErrorKind, Place};

use crate::args;
use crate::commands::capture::record;
use crate::errors::Failure;
use crate::load::load;
use crate::output::{Out, save};
use crate::{Outcome, report};

/// The files of the demo, as they ship.
const FILES: [(&str, &str); 12] = [
    ("setups/tide-gauge.toml", include_str!("../../../../../setups/tide-gauge.toml")),
    ("setups/at-rest.toml", include_str!("../../../../../setups/at-rest.toml")),
    ("setups/unnamed.toml", include_str!("../../../../../setups/unnamed.toml")),
    ("parts/ex-sup33.toml", include_str!("../../../../../parts/ex-sup33.toml")),
    ("parts/ex-adc24.toml", include_str!("../../../../../parts/ex-adc24.toml")),
    ("parts/ex-mem8.toml", include_str!("../../../../../parts/ex-mem8.toml")),
    ("setups/power-rail.toml", include_str!("../../../../../setups/power-rail.toml")),
    ("parts/ex-rail33.toml", include_str!("../../../../../parts/ex-rail33.toml")),
    ("setups/buses.toml", include_str!("../../../../../setups/buses.toml")),
    ("parts/i2c-fast.toml", include_str!("../../../../../parts/i2c-fast.toml")),
    ("parts/uart-8n1.toml", include_str!("../../../../../parts/uart-8n1.toml")),
    ("parts/can-bit-timing.toml", include_str!("../../../../../parts/can-bit-timing.toml")),
];

pub(crate) fn run(args: &args::Demo, out: &mut Out) -> Result<Outcome, Failure> {
    let folder = &args.folder;
    if !args.replace && folder.exists() && std::fs::read_dir(folder).is_ok_and(|mut f| f.next().is_some()) {
        return Err(Error::new(ErrorKind::Exists, "this folder is not empty")
            .with_help("name another folder, or say that an earlier demo in it may be replaced (--replace)")
            .at(Place::File(folder.clone()))
            .into());
    }
    let mut demo = Demo { folder, replace: args.replace, out };
    demo.files()?;
    let told = if args.full { full::tell(&mut demo) } else { short::tell(&mut demo) };
    told.map(|()| Outcome::Done)
}

/// The demo's folder, and where its story is told.
struct Demo<'a> {
    folder: &'a Path,
    replace: bool,
    out: &'a mut Out,
}

impl Demo<'_> {
    fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    fn command(&mut self, command: &str) -> Result<(), Failure> {
        self.out.line(format!("   $ deep-tap {command}\n"))
    }

    /// Text, indented.
    fn body(&mut self, text: &str) -> Result<(), Failure> {
        for line in text.trim_end().lines() {
            self.out.line(format!("   {line}").trim_end())?;
        }
        Ok(())
    }

    fn files(&mut self) -> Result<(), Failure> {
        for (name, text) in FILES {
            let path = self.path(name);
            let parent = path.parent().unwrap_or(self.folder);
            std::fs::create_dir_all(parent).map_err(|e| Error::io(parent, "create", e))?;
            save(&path, self.replace, |file| file.write_all(text.as_bytes()))?;
        }
        Ok(())
    }

    /// Records by a setup, at its rate or another one, and keeps that under a name.
    fn record(&mut self, setup: &str, rate: Option<&str>, name: &str) -> Result<Capture, Failure> {
        let path = self.path(setup);
        let setup = Setup::from_file(&path)?;
        let setup = match rate {
            Some(rate) => setup.changed(&RunChanges::default().rate(rate))?,
            None => setup,
        };
        let capture = record(&setup, &path, RecordOptions::default())?;
        dtap::save(&capture, &self.path(name), SaveOptions { replace: self.replace })?;
        Ok(capture)
    }

    fn load(&self, name: &str) -> Result<Job, Failure> {
        load(&args::Source::of(self.path(name)))
    }

    /// The page to hand over.
    fn report(&self, records: &[&str], name: &str) -> Result<PathBuf, Failure> {
        let path = self.path(name);
        let wanted = args::Report {
            files: records.iter().map(|record| self.path(record)).collect(),
            setup: None,
            stated: args::Stated::default(),
            title: None,
            output: Some(path.clone()),
            replace: self.replace,
        };
        report::run(&wanted, &mut Out::buffer())?;
        Ok(path)
    }
}
