//! Where the time axis has its labels.

use deep_tap_core::quantity::{Rational, Time};
use deep_tap_core::time::{Tick, TimeBase};

/// A label of the time axis.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AxisLabel {
    /// The column it marks.
    pub column: usize,
    /// The time relative to time zero, with as many digits as the spacing supports.
    pub text: String,
}

/// Labels at round times (1, 2 or 5 times a power of ten) in a view of `columns`, each with `room`
/// columns to the next at the least, all with one prefix.
pub(crate) fn labels(base: TimeBase, start: Tick, end: Tick, columns: usize, room: usize) -> Vec<AxisLabel> {
    let span = base.length_of(end.since(start)).to_rational();
    let most = (columns / room.max(1)).max(1) as i64;
    let Some(step) = span.checked_div(Rational::from(most)).and_then(round_up) else { return Vec::new() };
    let first = base.time_of(start).to_rational();
    let Some(from) = first.checked_div(step).map(Rational::ceil) else { return Vec::new() };
    let whole = |number: i128| Rational::new(number, 1).and_then(|number| number.checked_mul(step));
    let last = base.time_of(end).to_rational().checked_div(step).and_then(|last| whole(last.ceil() - 1));
    let (first_label, last_label) = (whole(from).unwrap_or(step), last.unwrap_or(step));
    let larger = if last_label.abs() > first_label.abs() { last_label } else { first_label };
    let largest = Time::from_rational(larger);
    let mut labels = Vec::new();
    for number in 0..=i128::from(most) + 1 {
        let at = whole(from + number);
        let column = at
            .and_then(|at| at.checked_sub(first))
            .and_then(|offset| offset.checked_mul(Rational::from(columns as i64)))
            .and_then(|scaled| scaled.checked_div(span));
        let (Some(at), Some(column)) = (at, column) else { break };
        match usize::try_from(column.floor()) {
            Ok(column) if column < columns => {
                let text = Time::from_rational(at).rounded_beside(largest, Time::from_rational(step));
                labels.push(AxisLabel { column, text });
            }
            _ => break,
        }
    }
    labels
}

/// The next number of the form 1, 2 or 5 times a power of ten.
pub(crate) fn round_up(value: Rational) -> Option<Rational> {
    for exponent in -18..=12 {
        for digit in [1, 2, 5] {
            let step = Rational::power_of_ten(exponent)?.checked_mul(Rational::from(digit))?;
            if step >= value {
                return Some(step);
            }
        }
    }
    None
}
