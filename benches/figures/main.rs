//! Every figure of `docs/performance.md` in one run, each beside the yardstick measured in the
//! same run, since absolute figures drift from machine to machine and from hour to hour.
//!
//! `cargo bench --bench figures` prints a table and writes `target/figures.json`;
//! `cargo bench --bench figures -- 10M` stops at 10 million samples. The comparison with `numpy`
//! needs an environment of its own, made once with
//! `python3 -m venv target/numpy && target/numpy/bin/pip install numpy`; without it that figure is
//! left out, and the run says so.

mod data;
mod dump;
mod figure;
mod files;
mod samples;
mod setup_hold;
mod stored;

use figure::Figures;

fn main() {
    let most = std::env::args().skip(1).find_map(|arg| match arg.strip_suffix('M') {
        Some(number) => number.parse::<usize>().ok().map(|n| n * 1_000_000),
        None => None,
    });
    let sizes: Vec<usize> = [10_000_000, 100_000_000, 1_000_000_000]
        .into_iter()
        .filter(|size| *size <= most.unwrap_or(usize::MAX))
        .collect();
    let mut figures = Figures::default();
    if std::env::var("ONLY").as_deref() == Ok("samples") {
        samples::measure(30_000_000, &mut figures);
        return;
    }
    if std::env::var("ONLY").as_deref() == Ok("setup") {
        setup_hold::measure(10_000_000, &mut figures);
        return;
    }
    if std::env::var("ONLY").as_deref() == Ok("limits") {
        stored::limits(10_000_000, &mut figures);
        return;
    }
    if std::env::var("ONLY").as_deref() == Ok("samples") {
        samples::measure(30_000_000, &mut figures);
        return;
    }
    if std::env::var("ONLY").as_deref() == Ok("setup") {
        setup_hold::measure(10_000_000, &mut figures);
        return;
    }
    for size in &sizes {
        samples::measure(*size, &mut figures);
        stored::places_and_pictures(*size, &mut figures);
    }
    for size in sizes.iter().filter(|size| **size <= 100_000_000) {
        setup_hold::measure(*size, &mut figures);
        files::measure(*size, &mut figures);
    }
    stored::limits(most.map_or(100_000_000, |most| most.min(100_000_000)), &mut figures);
    dump::measure(&mut figures);
    figures.finish();
}
