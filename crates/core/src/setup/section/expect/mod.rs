//! The sections of expectations.

mod board;
mod draft;
mod message;
mod states;

pub(in crate::setup) use board::{Board, wrong};
pub(in crate::setup) use draft::{DraftExpectation, read_expectation};
