//! The limits of a record: what became of each, its worst occurrence, its values, its violations.

use deep_tap::draw::{Histogram, Marker};
use deep_tap::job::Job;
use deep_tap::known::Rule;
use deep_tap::limit::{self, BoundLimit, LimitResult, Occurrence, Values, Verdict};
use deep_tap::quantity::{Quantity, Unit, signed};
use deep_tap::time::Tick;

use super::figure::{Budget, Figure, Stretch, rows_of};
use super::said::{Expected, Fact, Tone};
use crate::commands::check::{Checked, Told, cells, explanation};
use crate::errors::Failure;
use crate::rows;

/// Violations of one limit that get a row, at the most and at the least.
const MOST_ROWS: usize = 200;
const FEWEST_ROWS: usize = 3;
/// Bars of a histogram.
const MOST_BINS: usize = 40;
/// Pixels of its picture's width.
const HISTOGRAM_WIDTH: u32 = 760;

/// One limit.
pub(super) struct LimitPart {
    pub(super) id: String,
    pub(super) name: String,
    /// The part's number.
    pub(super) part: String,
    pub(super) what: String,
    pub(super) required: String,
    pub(super) worst: String,
    pub(super) at: String,
    pub(super) margin: String,
    pub(super) seen: String,
    pub(super) tone: Tone,
    pub(super) verdict: String,
    /// Why there is no plain answer.
    pub(super) why: Option<String>,
    pub(super) figure: Option<Figure>,
    pub(super) histogram: Option<Figure>,
    pub(super) violations: Vec<Violation>,
    /// Violations that have no row.
    pub(super) more: u64,
}

/// One violation.
pub(super) struct Violation {
    pub(super) at: String,
    pub(super) value: String,
    pub(super) margin: String,
    /// The picture that shows it.
    pub(super) link: Option<String>,
    /// That picture, unless it is another's.
    pub(super) figure: Option<Figure>,
}

/// What did not pass, in sentences.
pub(super) struct Card {
    pub(super) tone: Tone,
    pub(super) verdict: String,
    pub(super) what: String,
    pub(super) name: String,
    pub(super) record: String,
    pub(super) link: String,
    pub(super) facts: Vec<Fact>,
    pub(super) sure: String,
}

/// A record whose limits are asked.
pub(super) struct Asked<'a> {
    pub(super) job: &'a Job,
    pub(super) id: &'a str,
    pub(super) name: &'a str,
    pub(super) markers: &'a [Marker],
}

impl Asked<'_> {
    /// All limits, the worst verdicts first where pictures run out.
    pub(super) fn limits(&self, checked: &Checked, budget: &mut Budget) -> Result<Vec<LimitPart>, Failure> {
        let bound = self.job.limits(&[] as &[&str])?;
        let mut order: Vec<usize> = (0..checked.results.len().min(bound.len())).collect();
        order.sort_by_key(|place| Tone::from(checked.results[*place].verdict));
        let failing = checked.results.iter().filter(|result| result.verdict == Verdict::Fail).count();
        // Each that fails gets its share of the drawn violations; what one leaves, the next may have.
        let mut failing_left = failing;
        budget.rows = (budget.rows / failing.max(1)).clamp(FEWEST_ROWS, MOST_ROWS);
        let mut parts: Vec<(usize, LimitPart)> = Vec::new();
        for place in order {
            let result = &checked.results[place];
            let mut share = budget.violations;
            if result.verdict == Verdict::Fail {
                share = budget.violations.div_ceil(failing_left.max(1));
                failing_left -= 1;
            }
            parts.push((place, self.limit(place, bound[place], result, share, budget)?));
        }
        parts.sort_by_key(|(place, _)| *place);
        Ok(parts.into_iter().map(|(_, part)| part).collect())
    }

    fn limit(
        &self,
        place: usize,
        bound: &BoundLimit,
        result: &LimitResult,
        share: usize,
        budget: &mut Budget,
    ) -> Result<LimitPart, Failure> {
        let tick = self.job.capture.base().tick();
        let id = format!("{}-limit{}", self.id, place + 1);
        let values = limit::values(&self.job.capture, bound, Rule::Proven, budget.rows)?;
        let [_, symbol, what, required, worst, at, margin, seen, verdict] = cells(tick, result);
        let caption = match result.worst {
            Some(_) if result.counts.seen == 1 => {
                format!("{symbol}: the only one, {worst} where {required} is required")
            }
            Some(_) => format!("{symbol}: the worst of {seen}, {worst} where {required} is required"),
            None => String::new(),
        };
        let figure = match &result.worst {
            Some(worst) => self.picture(bound, result, worst, (format!("{id}-worst"), caption), budget)?,
            None => None,
        };
        let histogram = self.histogram(&id, result, &values, budget);
        let violations = self.violations(&id, (bound, result), (&values, figure.is_some(), share), budget)?;
        Ok(LimitPart {
            name: result.name(),
            part: result.part.clone(),
            tone: result.verdict.into(),
            why: explanation(result).map(|text| bare(&text, &result.name())),
            more: values.failed - violations.len() as u64,
            id,
            what,
            required,
            worst,
            at,
            margin,
            seen,
            verdict,
            figure,
            histogram,
            violations,
        })
    }

    /// An occurrence with its surroundings, and its value drawn under it.
    fn picture(
        &self,
        bound: &BoundLimit,
        result: &LimitResult,
        of: &Occurrence,
        (id, caption): (String, String),
        budget: &mut Budget,
    ) -> Result<Option<Figure>, Failure> {
        /// Some edges of a clock.
        const LEAST: u64 = 60;
        let capture = &self.job.capture;
        let takes = of.end.0.saturating_sub(of.start.0);
        let shown = takes.saturating_mul(3).max(LEAST);
        let from = Tick((of.start.0 + takes / 2).saturating_sub(shown / 2));
        let stretch = Stretch {
            rows: rows_of(self.job, bound),
            from,
            to: Tick(from.0.saturating_add(shown).min(capture.len())),
            markers: self.markers,
            dimensions: vec![rows::dimension(capture, bound, result, of)],
        };
        Figure::of(self.job, id, caption, &stretch, budget)
    }

    fn histogram(
        &self,
        id: &str,
        result: &LimitResult,
        values: &Values,
        budget: &mut Budget,
    ) -> Option<Figure> {
        // A single value makes no picture that its number does not.
        if values.distribution.count() < 2 {
            return None;
        }
        let title = format!("all {} values of {}", values.distribution.count(), result.name());
        let histogram = Histogram::of_limit(values, &result.required, MOST_BINS);
        let said = format!("Histogram: {title}, {} required", result.required);
        let svg = histogram.draw(&title, HISTOGRAM_WIDTH).page_svg(&said);
        Figure::still(format!("{id}-values"), said, svg, budget)
    }

    /// The worst violations, in order of time; of those farthest beyond the limit, `share` are drawn.
    fn violations(
        &self,
        id: &str,
        (bound, result): (&BoundLimit, &LimitResult),
        (values, pictured, share): (&Values, bool, usize),
        budget: &mut Budget,
    ) -> Result<Vec<Violation>, Failure> {
        let span = bound.span(&self.job.capture, Rule::Proven);
        let worst = result.worst.map(|worst| (worst.start, worst.end));
        let mut by_margin: Vec<usize> = (0..values.worst.len()).collect();
        let told: Vec<Told> = values.worst.iter().map(|of| Told::of(self.job, result, of, &span)).collect();
        by_margin.sort_by_key(|place| told[*place].margin.map(Quantity::to_rational));
        let mut drawn = vec![false; told.len()];
        by_margin.iter().take(share).for_each(|place| drawn[*place] = true);
        let mut rows = Vec::new();
        for (number, (of, told)) in values.worst.iter().zip(&told).enumerate() {
            let at = signed(told.at.into(), told.tick.into());
            let own = format!("{id}-v{}", number + 1);
            let is_worst = worst == Some((of.start, of.end)) && pictured;
            let caption = format!("{} at {at}: {}", result.symbol, told.text());
            let figure = match drawn[number] && !is_worst {
                true => self.picture(bound, result, of, (own.clone(), caption), budget)?,
                false => None,
            };
            budget.violations = budget.violations.saturating_sub(usize::from(figure.is_some() || is_worst));
            let link = match (&figure, is_worst) {
                (Some(_), _) => Some(own),
                (None, true) => Some(format!("{id}-worst")),
                (None, false) => None,
            };
            rows.push(Violation { at, value: told.text(), margin: told.margin_text(), link, figure });
        }
        Ok(rows)
    }

    /// What did not pass, in sentences.
    pub(super) fn cards(&self, checked: &Checked, parts: &[LimitPart]) -> Vec<Card> {
        let open = checked.results.iter().zip(parts).filter(|(result, _)| result.verdict != Verdict::Pass);
        open.map(|(result, part)| self.card(result, part)).collect()
    }

    fn card(&self, result: &LimitResult, part: &LimitPart) -> Card {
        let fact = |name: &str, value: String| Fact { name: name.to_string(), value };
        let mut facts = Vec::new();
        if result.worst.is_some() {
            facts.push(fact("measured", part.worst.clone()));
        }
        facts.push(fact("required", part.required.clone()));
        if let Some(margin) = result.margin.filter(|_| result.verdict == Verdict::Fail) {
            facts.push(fact("beyond it by", part.margin.trim_start_matches('-').to_string()).with(margin));
        }
        if result.at.is_some() {
            facts.push(fact("where", part.at.clone()));
        }
        Card {
            tone: part.tone,
            verdict: part.verdict.clone(),
            what: if part.what.is_empty() { part.name.clone() } else { part.what.clone() },
            name: if part.part.is_empty() {
                part.name.clone()
            } else {
                format!("{} ({})", part.name, part.part)
            },
            record: self.name.to_string(),
            link: part.id.clone(),
            sure: sure(result, part),
            facts,
        }
    }
}

impl Fact {
    /// Shares of one are told apart from those of another in points of percent.
    fn with(self, of: Quantity) -> Fact {
        match of.unit() {
            Unit::Percent => Fact { value: format!("{} (of the whole)", self.value), ..self },
            Unit::Time | Unit::Voltage => self,
        }
    }
}

impl Card {
    pub(super) fn of_expected(met: &Expected, record: &str) -> Card {
        let mut facts = vec![Fact { name: "found".to_string(), value: met.found.clone() }];
        if !met.at.is_empty() {
            facts.push(Fact { name: "where".to_string(), value: met.at.clone() });
        }
        Card {
            tone: met.tone,
            verdict: met.verdict.clone(),
            what: met.name.clone(),
            name: "expected in the setup".to_string(),
            record: record.to_string(),
            link: met.id.clone(),
            facts,
            sure: match met.tone {
                Tone::Fail => "Certain: everything it rests on was read beyond doubt.".to_string(),
                _ => "Open: the record does not show it beyond doubt.".to_string(),
            },
        }
    }
}

/// How sure a verdict is.
fn sure(result: &LimitResult, part: &LimitPart) -> String {
    match (result.verdict, result.bounds) {
        (Verdict::Fail, Some(bounds)) if bounds.hi.is_some_and(|hi| hi != bounds.lo) => {
            "Certain: every value that the true one may have violates it.".to_string()
        }
        (Verdict::Fail, _) => "Certain: the record shows it exactly.".to_string(),
        (Verdict::NotSeen, _) if part.why.is_none() => {
            "Its events never occurred in this record, which is not a pass.".to_string()
        }
        _ => part.why.as_ref().map_or(String::new(), |why| {
            let mut letters = why.chars();
            let first = letters.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
            format!("{first}{}.", letters.as_str())
        }),
    }
}

/// An explanation without the name that it begins with.
fn bare(text: &str, name: &str) -> String {
    text.strip_prefix(name).and_then(|rest| rest.strip_prefix(": ")).unwrap_or(text).to_string()
}
