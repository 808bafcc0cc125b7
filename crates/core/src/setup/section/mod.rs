//! The sections of a setup file, one file each: as written, how they are read, and what they come to
//! once all names are known.

pub(super) mod analog;
pub(super) mod bus;
pub(super) mod exchange;
pub(super) mod expect;
pub(super) mod follow;
pub(super) mod import;
pub(super) mod limit;
pub(super) mod line;
pub(super) mod mark;
pub(super) mod part;
pub(super) mod register;
pub(super) mod sampling;
pub(super) mod serial;
pub(super) mod stimulus;
pub(super) mod trigger;
pub(super) mod value_names;
