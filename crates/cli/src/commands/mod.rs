//! The commands, one file each.

pub(crate) mod answers;
pub(crate) mod capture;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod convert;
pub(crate) mod demo;
pub(crate) mod diagnose;
pub(crate) mod find;
pub(crate) mod frames;
pub(crate) mod glitches;
pub(crate) mod info;
pub(crate) mod init;
pub(crate) mod live;
pub(crate) mod mark;
pub(crate) mod measure;
pub(crate) mod plan;
pub(crate) mod registers;
pub(crate) mod roles;
pub(crate) mod serve;
pub(crate) mod show;
pub(crate) mod watch;
