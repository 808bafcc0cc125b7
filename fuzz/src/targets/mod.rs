//! What takes bytes.

mod buses;
mod network;
mod records;
mod texts;

/// A function of bytes, which may refuse them.
#[derive(Clone, Copy, Debug)]
pub struct Target {
    /// By which it is called.
    pub name: &'static str,
    /// Takes any bytes.
    pub run: fn(&[u8]),
    /// Files, or folders of files, that are sound inputs.
    pub seeds: &'static [&'static str],
    /// Sound inputs besides.
    pub texts: &'static [&'static str],
    /// So many times as slow as the others: it is run less often in the tests.
    pub slow: usize,
}

/// All of them.
pub const TARGETS: [Target; 14] = [
    records::RECORD,
    records::DUMP,
    records::TABLE,
    records::ARRAY,
    records::PACKED,
    records::CAPTURE,
    texts::SETUP,
    texts::LIMITS,
    texts::BOARD,
    texts::EVENT,
    texts::MESSAGE,
    buses::BUSES,
    network::SERVER,
    network::CLIENT,
];
