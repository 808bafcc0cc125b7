//! Every input that ever broke a target, and a thousand mutations of sound ones, always the same.

use deep_tap_fuzz::{Noise, TARGETS, Target, files, found, mutated, seeds};

fn replay(target: &Target) {
    for input in files(&found(target.name)).into_iter().chain(seeds(target)) {
        (target.run)(&input);
    }
    let (seeds, mut noise) = (seeds(target), Noise::new(7));
    for _ in 0..1000 / target.slow {
        (target.run)(&mutated(&seeds, &mut noise));
    }
}

macro_rules! replayed { ($($name:ident),*) => { $(
    #[test]
    fn $name() {
        replay(TARGETS.iter().find(|target| target.name == stringify!($name)).unwrap());
    }
)* } }

replayed!(
    record, dump, table, array, packed, capture, setup, limits, board, event, message, buses, server, client
);

#[test]
fn every_target_is_replayed_and_has_sound_inputs() {
    assert_eq!(TARGETS.len(), 14);
    for target in TARGETS {
        assert!(seeds(&target).len() > 1, "{}", target.name);
    }
}
