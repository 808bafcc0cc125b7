//! Hostile inputs for everything in Deep Tap that takes bytes: formats, texts that people write, decoders and the
//! two ends of the network protocol.
//!
//! A [`Target`] is a function of bytes that may refuse them, and may not panic or take longer than five seconds.
//! [`mutated`] makes hostile inputs of sound ones. The program of this crate runs targets for as long as is wanted and
//! keeps the inputs that break one in `fuzz/found`; the tests replay these, and a thousand mutations of each target,
//! always the same.
//!
//! ```text
//! cargo run --release -p deep-tap-fuzz -- --seconds 600            # all targets, on all cores
//! cargo run --release -p deep-tap-fuzz -- --seconds 60 dump table  # only these
//! ```

mod mutate;
mod targets;

use std::path::{Path, PathBuf};

pub use mutate::{Noise, mutated};
pub use targets::{TARGETS, Target};

/// The root of the project.
pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// Where inputs that once broke a target are kept, each under the target's name.
pub fn found(target: &str) -> PathBuf {
    root().join("fuzz/found").join(target)
}

/// Sound inputs of a target, and those that broke it once: what mutations are made of.
pub fn seeds(target: &Target) -> Vec<Vec<u8>> {
    let mut seeds: Vec<Vec<u8>> = target.seeds.iter().flat_map(|place| files(&root().join(place))).collect();
    seeds.extend(files(&found(target.name)));
    seeds.extend(target.texts.iter().map(|text| text.as_bytes().to_vec()));
    seeds.push(Vec::new());
    seeds
}

/// The contents of a file, or of the files of a folder, in the order of their names. Large ones say no more than small
/// ones, and take longer.
pub fn files(path: &Path) -> Vec<Vec<u8>> {
    const LARGEST: u64 = 64 << 10;
    let mut paths = vec![path.to_path_buf()];
    if let Ok(entries) = std::fs::read_dir(path) {
        paths = entries.filter_map(Result::ok).map(|entry| entry.path()).collect();
    }
    paths.sort();
    let small = |path: &PathBuf| path.metadata().is_ok_and(|file| file.is_file() && file.len() <= LARGEST);
    paths.into_iter().filter(small).filter_map(|path| std::fs::read(path).ok()).collect()
}
