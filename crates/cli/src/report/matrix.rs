//! Several records side by side: a row for each limit and expectation, a column for each record.

use super::chapter::Chapter;
use super::said::Tone;

/// The table of several records.
pub(super) struct Matrix {
    pub(super) records: Vec<(String, String)>,
    pub(super) rows: Vec<MatrixRow>,
}

/// What is asked, and what became of it in each record.
pub(super) struct MatrixRow {
    pub(super) name: String,
    pub(super) what: String,
    pub(super) required: String,
    /// `None` where a record's setup does not ask it.
    pub(super) cells: Vec<Option<MatrixCell>>,
}

/// The verdict in one record.
#[derive(Clone)]
pub(super) struct MatrixCell {
    pub(super) tone: Tone,
    pub(super) worst: String,
    pub(super) link: String,
}

impl Matrix {
    /// Of two records or more.
    pub(super) fn of(records: &[Chapter]) -> Option<Matrix> {
        if records.len() < 2 {
            return None;
        }
        let mut rows: Vec<MatrixRow> = Vec::new();
        for (column, record) in records.iter().enumerate() {
            let limits = record.limits.iter().map(|limit| {
                let worst = limit.worst.clone();
                let cell = MatrixCell { tone: limit.tone, worst, link: limit.id.clone() };
                (&*limit.name, &*limit.what, &*limit.required, cell)
            });
            let expected = record.expectations.iter().map(|met| {
                let cell = MatrixCell { tone: met.tone, worst: met.found.clone(), link: met.id.clone() };
                (&*met.name, "", "as expected", cell)
            });
            for (name, what, required, cell) in limits.chain(expected) {
                let same = |row: &&mut MatrixRow| row.name == name && row.required == required;
                let row = match rows.iter_mut().find(same) {
                    Some(row) => row,
                    None => {
                        let (name, what, required) =
                            (name.to_string(), what.to_string(), required.to_string());
                        rows.push(MatrixRow { name, what, required, cells: vec![None; records.len()] });
                        let last = rows.len() - 1;
                        &mut rows[last]
                    }
                };
                row.cells[column] = Some(cell);
            }
        }
        let records = records.iter().map(|record| (record.id.clone(), record.name.clone())).collect();
        Some(Matrix { records, rows })
    }
}
