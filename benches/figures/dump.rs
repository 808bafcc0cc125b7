//! Reading a value change dump, beside its parser alone.

use std::path::Path;

use deep_tap::format::vcd;

use crate::data::random;
use crate::figure::{Case, Figures, shortest};
use crate::stored::capture;

pub(crate) fn measure(figures: &mut Figures) {
    let samples = 20_000_000;
    let capture = capture(&random(samples, Some(10)));
    let mut dump = Vec::new();
    vcd::write(&capture, &mut dump).expect("memory takes it");
    let parser = shortest(3, || ::vcd::Parser::new(&dump[..]).filter(Result::is_ok).count());
    let reading = shortest(3, || vcd::read(&dump, Path::new("made.vcd")).map(|c| c.edge_count()));
    let activity = format!("{} M transitions", capture.edge_count() / 1_000_000);
    let case = Case { samples, activity, cores: 1 };
    let rate = (dump.len() as f64 / reading / 1e6, "MB/s");
    figures.against("reading a value change dump", &case, rate, ("its parser alone", parser / reading, 0.9));
}
