//! One record of the page: how it was made, what became of what was asked, and what it carries.

use deep_tap::diagnose::diagnose_buses;
use deep_tap::expect::Met;
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::Verdict;
use deep_tap::quantity::{SampleCount, signed};
use deep_tap::time::Tick;

use super::figure::{Budget, Figure, Stretch};
use super::limits::{Asked, Card, LimitPart};
use super::said::{Expected, Fact, Tone};
use super::talk::Talk;
use crate::args::Source;
use crate::commands::check::{Checked, check, expectations};
use crate::errors::Failure;
use crate::next::{LOOK_AROUND, source_words, typed, word};
use crate::rows;
use crate::words::counted;

/// One record.
pub(super) struct Chapter {
    pub(super) id: String,
    /// Its file's name.
    pub(super) name: String,
    pub(super) title: String,
    pub(super) facts: Vec<Fact>,
    /// What the verdicts rest on.
    pub(super) assumptions: Vec<String>,
    pub(super) remarks: Vec<String>,
    pub(super) marks: Vec<Fact>,
    pub(super) overview: Option<Figure>,
    /// What did not pass, for the beginning of the page.
    pub(super) cards: Vec<Card>,
    pub(super) limits: Vec<LimitPart>,
    /// Limits that are not asked, since a pin has no line.
    pub(super) left_out: Vec<String>,
    pub(super) expectations: Vec<Expected>,
    pub(super) findings: Vec<Found>,
    pub(super) talks: Vec<Talk>,
    pub(super) commands: Vec<String>,
    pub(super) texts: Vec<Fact>,
    verdicts: Vec<Verdict>,
}

/// What is wrong with a bus.
pub(super) struct Found {
    pub(super) about: String,
    pub(super) sureness: String,
    pub(super) what: String,
    pub(super) remedy: String,
}

fn fact(name: &str, value: impl Into<String>) -> Fact {
    Fact { name: name.to_string(), value: value.into() }
}

impl Chapter {
    pub(super) fn of(
        job: &Job,
        source: &Source,
        number: usize,
        budget: &mut Budget,
    ) -> Result<Chapter, Failure> {
        let capture = &job.capture;
        let id = format!("r{}", number + 1);
        let name = source
            .file
            .file_name()
            .map_or("standard input".into(), |name| name.to_string_lossy().into_owned());
        let asks =
            job.setup.as_ref().is_some_and(|s| s.limits().next().is_some() || !s.expectations.is_empty());
        let checked = asks.then(|| check(job, &source.file, &[], Rule::Proven)).transpose()?;
        let markers = rows::markers(capture, &job.marks());
        let whole = Stretch {
            rows: rows::all(job),
            from: Tick(0),
            to: capture.end(),
            markers: &markers,
            dimensions: Vec::new(),
        };
        let overview =
            Figure::of(job, format!("{id}-all"), format!("The whole record, {name}"), &whole, budget)?;
        let asked = Asked { job, id: &id, name: &name, markers: &markers };
        let (mut limits, mut cards) = (Vec::new(), Vec::new());
        if let Some(checked) = &checked {
            limits = asked.limits(checked, budget)?;
            cards = asked.cards(checked, &limits);
        }
        let expectations: Vec<Expected> = checked
            .iter()
            .flat_map(|c| &c.expectations)
            .enumerate()
            .map(|(n, met)| expected(job, &id, n, met))
            .collect();
        cards.extend(
            expectations.iter().filter(|met| met.tone != Tone::Pass).map(|met| Card::of_expected(met, &name)),
        );
        let setup = job.setup.as_ref();
        let buses: Vec<_> = setup.iter().flat_map(|setup| &setup.serial).collect();
        let findings = diagnose_buses(capture, &buses).into_iter().map(|finding| Found {
            about: finding.buses.join(", "),
            sureness: format!("{}, {}", finding.kind, finding.sureness),
            what: finding.said(),
            remedy: finding.remedy.clone(),
        });
        let talks = rows::frame_buses(job)
            .enumerate()
            .map(|(n, bus)| Talk::of(job, bus, format!("{id}-bus{}", n + 1)));
        let title = setup.and_then(|setup| setup.title.clone()).unwrap_or_else(|| name.clone());
        Ok(Chapter {
            findings: findings.collect(),
            talks: talks.collect(),
            title,
            facts: facts(job, &name),
            assumptions: checked.as_ref().map_or(Vec::new(), Checked::assumptions),
            remarks: job.remarks.clone(),
            marks: marks(job),
            overview,
            cards,
            limits,
            left_out: checked.as_ref().map_or(Vec::new(), |checked| checked.not_wired.clone()),
            verdicts: verdicts(checked.as_ref()),
            expectations,
            commands: commands(source, checked.as_ref()),
            texts: capture.attachments().iter().map(|text| fact(&text.name, text.text.as_str())).collect(),
            id,
            name,
        })
    }

    pub(super) fn verdicts(&self) -> impl Iterator<Item = Verdict> + '_ {
        self.verdicts.iter().copied()
    }
}

fn verdicts(checked: Option<&Checked>) -> Vec<Verdict> {
    let of = |checked: &Checked| {
        let met = checked.expectations.iter().map(|met| met.verdict);
        checked.results.iter().map(|result| result.verdict).chain(met).collect()
    };
    checked.map_or(Vec::new(), of)
}

/// What was recorded, when and how.
fn facts(job: &Job, name: &str) -> Vec<Fact> {
    let (capture, base) = (&job.capture, job.capture.base());
    let (origin, resolution) = (capture.origin(), capture.resolution());
    let mut facts = vec![fact("file", name)];
    if let Some(made) = origin.made {
        facts.push(fact("recorded", made.to_string()));
    }
    facts.push(fact("instrument", origin.source.as_str()));
    let (from, to) = (base.text_of(Tick(0)), base.text_of(capture.end()));
    let edges = capture.edge_count();
    if resolution.sampled {
        let rate = format!("{}, a sample each {}", base.rate(), base.tick());
        facts.push(fact("sampled at", rate));
        facts.push(fact("time", format!("{from} to {to}, {} of each line", SampleCount(capture.len()))));
        let known = format!(
            "skew between inputs up to {}, time base within {}, instants between two samples",
            resolution.skew, resolution.accuracy
        );
        facts.push(fact("uncertainty", known));
    } else {
        facts.push(fact("times", format!("exact, in steps of {}", base.tick())));
        facts.push(fact("time", format!("{from} to {to}")));
    }
    let lines = capture.lines().len() + capture.analog_lines().len();
    facts.push(fact("lines", format!("{lines}, with {}", counted(edges, "edge"))));
    facts.push(fact(
        "time zero",
        origin.trigger.as_deref().map_or("the start of the record".into(), |t| format!("the trigger: {t}")),
    ));
    for part in job.setup.iter().flat_map(|setup| &setup.parts) {
        let made_up = if part.part.made_up { " (made up)" } else { "" };
        let value = format!("{}{made_up}, {}", part.part.name, part.part.source);
        facts.push(fact(&format!("part {}", part.reference), value));
    }
    facts.extend(capture.history().iter().map(|step| fact("history", step.as_str())));
    let damage = capture.damage();
    if !damage.is_empty() {
        facts.push(fact("damaged", format!("{} stretches, taken as unknown", damage.len())));
    }
    facts
}

fn marks(job: &Job) -> Vec<Fact> {
    let base = job.capture.base();
    let mark = |note: deep_tap::capture::Note| Fact {
        name: signed(base.time_of(note.at).into(), base.tick().into()),
        value: if note.text.is_empty() { note.name } else { format!("{}: {}", note.name, note.text) },
    };
    job.marks().into_iter().map(mark).collect()
}

fn expected(job: &Job, id: &str, number: usize, met: &Met) -> Expected {
    let tick = job.capture.base().tick();
    let at = |at| signed(deep_tap::quantity::Quantity::Time(at), tick.into());
    let (found, place) = expectations::said(met);
    let deviations = expectations::deviations(met);
    Expected {
        id: format!("{id}-expect{}", number + 1),
        name: met.name.clone(),
        tone: met.verdict.into(),
        verdict: expectations::verdict_text(met),
        found,
        at: place.map_or(String::new(), at),
        deviations: deviations.map(|(place, what)| Fact { name: at(place), value: what }).collect(),
    }
}

/// What to type to see the same.
fn commands(source: &Source, checked: Option<&Checked>) -> Vec<String> {
    let words = source_words(source);
    let mut commands = Vec::new();
    if let Some(checked) = checked {
        commands.push(typed("check", format!("{words} --all")));
        let failed = checked.results.iter().find(|result| result.verdict == Verdict::Fail);
        commands
            .extend(failed.map(|result| typed("show", format!("{words} --limit {}", word(&result.name())))));
    }
    commands.push(typed(LOOK_AROUND, words));
    commands
}
