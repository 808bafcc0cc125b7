//! The references and the walkthrough, as they stand in the folder `docs`.

#[doc = include_str!("../docs/walkthrough.md")]
pub mod walkthrough {}

#[doc = include_str!("../docs/setup.md")]
pub mod setup_files {}

#[doc = include_str!("../docs/meant.md")]
pub mod what_was_meant {}

#[doc = include_str!("../docs/limits.md")]
pub mod limits_files {}

#[doc = include_str!("../docs/bench.md")]
pub mod bench {}

#[doc = include_str!("../docs/network.md")]
pub mod network {}

#[doc = include_str!("../docs/measure.md")]
pub mod measuring {}

#[doc = include_str!("../docs/watch.md")]
pub mod watching {}

#[doc = include_str!("../docs/handing-over.md")]
pub mod handing_over {}

#[doc = include_str!("../docs/records.md")]
pub mod records {}

#[doc = include_str!("../docs/json.md")]
pub mod outputs {}

#[doc = include_str!("../docs/verdicts.md")]
pub mod verdicts {}

#[doc = include_str!("../docs/events.md")]
pub mod event_language {}

#[doc = include_str!("../docs/diagnose.md")]
pub mod diagnosis {}

#[doc = include_str!("../docs/performance.md")]
pub mod performance {}

#[doc = include_str!("../docs/bounds.md")]
pub mod bounds {}

#[doc = include_str!("../docs/capture-file.md")]
pub mod capture_file {}

#[cfg(doctest)]
#[doc = include_str!("../README.md")]
pub mod read_me {}
