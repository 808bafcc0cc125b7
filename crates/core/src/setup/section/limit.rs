//! Limits that stand in a setup itself, with the names of its lines.

use std::collections::{HashMap, HashSet};

use crate::error::{Error, ErrorKind};
use crate::event::Scope;
use crate::limit::{BoundLimit, Limit, Part};
use crate::reader::{Section, moved};
use crate::setup::PlacedPart;
use crate::setup::figures::{Figures, Row};
use crate::setup::parts::{Naming, Places, read_limit};

/// What the place of a setup's own limits is called among parts.
pub(in crate::setup) const BOARD: &str = "board";

/// A limit of the setup as written.
#[derive(Clone, Debug)]
pub(in crate::setup) struct OwnLimit {
    limit: Limit,
    row: Row,
    places: Places,
}

impl OwnLimit {
    pub(in crate::setup) fn read(section: &Section<'_>) -> Option<Self> {
        let (limit, row, places) = read_limit(section, &[], Naming::Optional)?;
        Some(OwnLimit { limit, row, places })
    }
}

/// All limits of a setup as those of a part that is called the board; `None` where there are none.
pub(in crate::setup) fn resolve_limits(
    drafts: &[OwnLimit],
    scope: &Scope,
    problems: &mut Vec<Error>,
) -> Option<PlacedPart> {
    if drafts.is_empty() {
        return None;
    }
    let (mut limits, mut rows, mut taken) = (Vec::new(), Vec::new(), HashSet::new());
    let mut numbers: HashMap<String, u64> = HashMap::new();
    for draft in drafts {
        let (mut limit, mut row) = (draft.limit.clone(), draft.row.clone());
        // Without a symbol it is called after its kind.
        let named = limit.symbol.clone();
        let number = numbers.entry(named.clone()).or_insert(1);
        while !taken.insert(limit.symbol.clone()) {
            *number += 1;
            limit.symbol = format!("{named} {number}");
        }
        row.symbol.clone_from(&limit.symbol);
        limits.push(limit);
        rows.push(row);
    }
    let figures = Figures { rows, ..Figures::default() };
    let (figures, wrong) = figures.resolve(None, &[]);
    let broken = !wrong.is_empty();
    problems.extend(wrong);
    let mut bound = Vec::new();
    for ((limit, draft), (required, typical)) in limits.iter_mut().zip(drafts).zip(figures) {
        (limit.required, limit.typical) = (required, typical);
        match BoundLimit::bind(BOARD, "", limit, scope) {
            Ok(limit) if !broken => bound.push(limit),
            Ok(_) => {}
            Err(wrong) => {
                let place = draft.places.iter().find(|(key, _)| *key == wrong.key).or(draft.places.first());
                problems.push(match place {
                    Some((_, place)) => moved(wrong.error, ErrorKind::Setup, place),
                    None => wrong.error,
                });
            }
        }
    }
    let part = Part {
        name: "limits of the setup".to_string(),
        source: String::new(),
        conditions: None,
        made_up: false,
        pins: Vec::new(),
        limits,
    };
    Some(PlacedPart {
        reference: BOARD.to_string(),
        part,
        limits: bound,
        pins: Vec::new(),
        not_wired: Vec::new(),
    })
}
