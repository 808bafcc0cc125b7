//! `measure --between`: the time from one place to another.

use deep_tap::job::Job;
use deep_tap::measure::Counted;
use deep_tap::quantity::{Time, uncertain};
use serde::Serialize;

use crate::args;
use crate::contract::{self, Document};
use crate::errors::Failure;
use crate::next::{around, next, path_word};
use crate::output::{Out, write_table};

#[derive(Serialize)]
struct Said {
    file: String,
    begins: String,
    at_s: Time,
    ends: String,
    until_s: Time,
    value_s: Time,
    /// Where both places are events.
    #[serde(serialize_with = "contract::measures::counted")]
    between_s: Option<Counted>,
}

const COLUMNS: &[&str] = &["begins", "at_s", "ends", "until_s", "value_s"];

pub(super) fn run(
    args: &args::Measure,
    loaded: &Job,
    places: &[String],
    out: &mut Out,
) -> Result<(), Failure> {
    let [from, to] = places else { return Ok(()) };
    let between = loaded.between(from, to).map_err(|error| error.about("--between"))?;
    let base = loaded.capture.base();
    let said = Said {
        file: args.file.display().to_string(),
        begins: from.clone(),
        at_s: base.time_of(between.from),
        ends: to.clone(),
        until_s: base.time_of(between.to),
        value_s: between.value,
        between_s: between.bounds.map(|bounds| Counted { value: between.value, bounds }),
    };
    let text = || {
        let answer = match between.bounds {
            Some(bounds) => uncertain(between.value.into(), bounds.map(Into::into), base.tick()),
            None => {
                format!("{}, how well is not known: a place is a time", between.value.rounded(base.tick()))
            }
        };
        let (first, second) = (base.text_of(between.from), base.text_of(between.to));
        let place = around(&first);
        let next = next("show", format!("{} {place}", path_word(&args.file)));
        format!("{answer}          {}\n\nfrom  {first}  {from}\nto    {second}  {to}\n\n{next}\n", said.file)
    };
    let document = Document::new("between", &said);
    write_table(&args.table, out, &document, COLUMNS, |rows| rows.row(&said), text)
}
