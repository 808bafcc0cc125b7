//! What stands on the page, as texts; where it stands, its template says.

use askama::Template;
use deep_tap::draw::{Drawing, Ground};

use super::chapter::Chapter;
use super::differences::Differences;
use super::limits::Card;
use super::matrix::Matrix;
use super::said::Tone;

/// The page.
#[derive(Template)]
#[template(path = "report.html")]
pub(super) struct Page {
    title: String,
    tone: Tone,
    answer: String,
    cards: Vec<Card>,
    matrix: Option<Matrix>,
    differences: Option<Differences>,
    records: Vec<Chapter>,
    /// The command that makes the page again.
    command: String,
    light: String,
    dark: String,
    style: &'static str,
    script: &'static str,
    version: &'static str,
}

/// What stands at the top, and at the end.
pub(super) struct Shown {
    pub(super) title: String,
    pub(super) tone: Tone,
    pub(super) answer: String,
    /// The command that makes the page again.
    pub(super) command: String,
}

impl Page {
    pub(super) fn new(shown: Shown, mut records: Vec<Chapter>, differences: Option<Differences>) -> Self {
        let Shown { title, tone, answer, command } = shown;
        let mut cards: Vec<Card> =
            records.iter_mut().flat_map(|record| std::mem::take(&mut record.cards)).collect();
        cards.sort_by_key(|card| card.tone);
        Page {
            title,
            tone,
            answer,
            cards,
            matrix: Matrix::of(&records),
            differences,
            records,
            command,
            light: Drawing::page_colours(Ground::Light),
            dark: Drawing::page_colours(Ground::Dark),
            style: include_str!("../../templates/report.css"),
            script: include_str!("../../templates/report.js"),
            version: env!("CARGO_PKG_VERSION"),
        }
    }
}
