//! Which rows are seen, in which order and form.

use deep_tap::job::Job;
use deep_tap::line::{LineId, Radix};
use deep_tap::{Error, ErrorKind};

use super::Viewer;
use crate::rows::{RowKind, all};

impl Viewer {
    /// Takes the selected row away.
    pub(in crate::view) fn hide(&mut self) {
        if self.selected < self.rows.len() && self.rows.len() > 1 {
            self.rows.remove(self.selected);
        }
        self.clamp();
    }

    /// All rows, in their order.
    pub(in crate::view) fn show_all(&mut self) {
        self.rows = all(&self.job);
        self.opened.clear();
        self.clamp();
    }

    /// Exchanges the selected row with the one beside it.
    pub(in crate::view) fn move_row(&mut self, down: bool) {
        let other = if down { self.selected + 1 } else { self.selected.wrapping_sub(1) };
        if other < self.rows.len() && self.selected < self.rows.len() {
            self.rows.swap(self.selected, other);
            self.selected = other;
        }
    }

    /// Shows the lines of the selected bus below it, or takes them away.
    pub(in crate::view) fn open_bus(&mut self) {
        let Some(RowKind::Bus(bus) | RowKind::Curve(bus)) = self.selected_row() else {
            self.message = Some("select a group of lines to open it".to_string());
            return;
        };
        let lines: Vec<RowKind> =
            self.capture().buses()[bus.0].lines.iter().map(|l| RowKind::Line(*l)).collect();
        match self.opened.iter().position(|opened| *opened == bus) {
            Some(place) => {
                self.opened.remove(place);
                let at = self.selected + 1;
                while self.rows.get(at).is_some_and(|row| lines.contains(row)) {
                    self.rows.remove(at);
                }
            }
            None => {
                self.opened.push(bus);
                let at = self.selected + 1;
                self.rows.splice(at..at, lines);
            }
        }
    }

    /// Draws the selected bus as a curve, or as its values again.
    pub(in crate::view) fn turn_curve(&mut self) {
        match self.selected_row() {
            Some(RowKind::Bus(bus)) => self.rows[self.selected] = RowKind::Curve(bus),
            Some(RowKind::Curve(bus)) => self.rows[self.selected] = RowKind::Bus(bus),
            _ => self.message = Some("select a group of lines to draw it as a curve".to_string()),
        }
    }

    /// The groups of lines that are drawn as curves.
    pub(in crate::view) fn curves(&self) -> Vec<String> {
        let curves = self.rows.iter().filter(|row| matches!(row, RowKind::Curve(_)));
        curves.map(|row| self.name_of(*row)).collect()
    }

    /// Selects the next row whose name has this in it, and shows it where it was hidden.
    pub(in crate::view) fn find_row(&mut self, part: &str) -> Result<(), Error> {
        let wanted = part.trim().to_lowercase();
        let has = |viewer: &Viewer, row: &RowKind| viewer.name_of(*row).to_lowercase().contains(&wanted);
        let count = self.rows.len();
        let shown = (1..=count).map(|by| (self.selected + by) % count);
        let found = shown.into_iter().find(|place| has(self, &self.rows[*place]));
        if let Some(place) = found.filter(|_| !wanted.is_empty()) {
            self.selected = place;
            return Ok(());
        }
        let hidden = every(&self.job).into_iter().find(|row| !wanted.is_empty() && has(self, row));
        let Some(row) = hidden else {
            let message = format!("no row is called '{part}'");
            let names: Vec<String> = every(&self.job).iter().map(|row| self.name_of(*row)).collect();
            let help = deep_tap::suggest(part, names.iter().map(String::as_str), "row");
            return Err(Error::new(ErrorKind::Unknown, message).with_help(help));
        };
        let at = (self.selected + 1).min(self.rows.len());
        self.rows.insert(at, row);
        self.selected = at;
        Ok(())
    }

    /// Shows the values of the selected bus in the next way to write them.
    pub(in crate::view) fn next_radix(&mut self) {
        let Some(RowKind::Bus(id) | RowKind::Curve(id)) = self.selected_row() else {
            self.message = Some("select a group of lines to write its values in another way".to_string());
            return;
        };
        const ALL: [Radix; 5] = [Radix::Hex, Radix::Binary, Radix::Decimal, Radix::Signed, Radix::Ascii];
        let radix = self.capture().buses()[id.0].radix;
        let now = ALL.iter().position(|known| *known == radix).unwrap_or(0);
        self.job.capture.write_bus_in(id, ALL[(now + 1) % ALL.len()]);
    }
}

/// All there is: the lines of buses, too.
fn every(job: &Job) -> Vec<RowKind> {
    let mut rows = all(job);
    let lines = (0..job.capture.lines().len()).map(|line| RowKind::Line(LineId(line)));
    let more: Vec<RowKind> = lines.filter(|line| !rows.contains(line)).collect();
    rows.extend(more);
    rows
}
