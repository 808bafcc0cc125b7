//! Runs targets on mutated inputs for as long as is wanted.

use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash, Hasher};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant, UNIX_EPOCH};

use deep_tap_fuzz::{Noise, TARGETS, Target, found, mutated, seeds};

/// Longer than this no input may take.
const TOO_LONG: Duration = Duration::from_secs(5);

fn main() -> std::process::ExitCode {
    let mut seconds = 60;
    let mut seed = UNIX_EPOCH.elapsed().map_or(0, |since| since.as_nanos() as u64);
    let mut wanted = Vec::new();
    let mut words = std::env::args().skip(1);
    while let Some(word) = words.next() {
        let mut number = || words.next().and_then(|number| number.parse().ok());
        match (word.as_str(), TARGETS.iter().find(|target| target.name == word)) {
            ("--seconds", _) => seconds = number().unwrap_or(seconds),
            ("--seed", _) => seed = number().unwrap_or(seed),
            (_, Some(target)) => wanted.push(*target),
            _ => {
                let names: Vec<&str> = TARGETS.iter().map(|target| target.name).collect();
                eprintln!(
                    "usage: deep-tap-fuzz [--seconds N] [--seed N] [TARGET…]; targets: {}",
                    names.join(", ")
                );
                return std::process::ExitCode::from(2);
            }
        }
    }
    let wanted = if wanted.is_empty() { TARGETS.to_vec() } else { wanted };
    // What a panic says is said once, with the file.
    std::panic::set_hook(Box::new(|_| ()));
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let each = Duration::from_secs(seconds) / wanted.len() as u32;
    let (mut all, mut broken) = (0, 0);
    println!("seed {seed}, {threads} threads, {:.0} s for each target", each.as_secs_f64());
    for target in wanted {
        let (runs, failures) = (AtomicU64::new(0), AtomicU64::new(0));
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for thread in 0..threads as u64 {
                let (runs, failures) = (&runs, &failures);
                scope.spawn(move || fuzz(&target, seed.wrapping_add(thread << 32), each, runs, failures));
            }
        });
        let (runs, failures) = (runs.into_inner(), failures.into_inner());
        let rate = runs as f64 / begun.elapsed().as_secs_f64();
        println!("{:<10}{runs:>10} inputs{rate:>10.0} a second{failures:>6} broke it", target.name);
        (all, broken) = (all + runs, broken + failures);
    }
    println!("{all} inputs, {broken} broke something");
    std::process::ExitCode::from(u8::from(broken > 0))
}

fn fuzz(target: &Target, seed: u64, time: Duration, runs: &AtomicU64, failures: &AtomicU64) {
    let seeds = seeds(target);
    let mut noise = Noise::new(seed);
    let begun = Instant::now();
    while begun.elapsed() < time {
        let input = mutated(&seeds, &mut noise);
        let started = Instant::now();
        let outcome = catch_unwind(AssertUnwindSafe(|| (target.run)(&input)));
        runs.fetch_add(1, Ordering::Relaxed);
        let slow = started.elapsed() > TOO_LONG;
        if outcome.is_err() || slow {
            failures.fetch_add(1, Ordering::Relaxed);
            let mut hasher = DefaultHasher::new();
            input.hash(&mut hasher);
            let path = found(target.name).join(format!("{:016x}", hasher.finish()));
            let saved =
                std::fs::create_dir_all(found(target.name)).and_then(|()| std::fs::write(&path, &input));
            let what = if slow { "took too long" } else { "panicked" };
            println!("{}: {what}: {} ({saved:?})", target.name, path.display());
        }
    }
}
