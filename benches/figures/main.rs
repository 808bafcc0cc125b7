//! Every figure of `docs/performance.md` in one run, each beside the yardstick measured in the
//! same run, since absolute figures drift from machine to machine and from hour to hour.
//!
//! `cargo bench --bench figures` prints a table and writes `target/figures.json`;
//! `cargo bench --bench figures -- 10M` stops at 10 million samples, and names of groups
//! (`samples`, `stored`, `setup-hold`, `files`, `limits`, `watch`, `dump`, `records`, `decoders`) leave the others out. The
//! comparison with `numpy` needs an environment of its own, made once with
//! `python3 -m venv target/numpy && target/numpy/bin/pip install numpy`; without it that figure is
//! left out, and the run says so.

mod data;
mod decoders;
mod dump;
mod figure;
mod files;
mod records;
mod samples;
mod sequences;
mod setup_hold;
mod stored;
mod watch;

use figure::Figures;

const GROUPS: [&str; 10] = [
    "samples",
    "stored",
    "setup-hold",
    "files",
    "limits",
    "watch",
    "sequences",
    "dump",
    "records",
    "decoders",
];

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let millions = args.iter().find_map(|arg| arg.strip_suffix('M')?.parse::<usize>().ok());
    let most = millions.map_or(usize::MAX, |millions| millions * 1_000_000);
    let some = args.iter().any(|arg| GROUPS.contains(&arg.as_str()));
    let wanted = |group: &str| !some || args.iter().any(|arg| arg == group);
    let sizes = [10_000_000, 100_000_000, 1_000_000_000].into_iter().filter(|size| *size <= most);
    let sizes: Vec<usize> = sizes.collect();
    let mut figures = Figures::default();
    for size in &sizes {
        if wanted("samples") {
            samples::measure(*size, &mut figures);
        }
        if wanted("stored") {
            stored::places_and_pictures(*size, &mut figures);
        }
    }
    for size in sizes.iter().filter(|size| **size <= 100_000_000) {
        if wanted("setup-hold") {
            setup_hold::measure(*size, &mut figures);
        }
        if wanted("files") {
            files::measure(*size, &mut figures);
        }
    }
    if wanted("limits") {
        stored::limits(most.min(100_000_000), &mut figures);
        watch::demo_board(&mut figures);
    }
    if wanted("watch") {
        watch::arriving(most.min(100_000_000), &mut figures);
    }
    if wanted("sequences") {
        sequences::measure(most.min(100_000_000), &mut figures);
    }
    if wanted("dump") {
        dump::measure(&mut figures);
    }
    if wanted("records") {
        records::measure(&mut figures);
    }
    if wanted("decoders") {
        decoders::measure(&mut figures);
    }
    figures.finish();
}
