//! Which bits of packed samples are recorded.

use deep_tap_core::scan::{SampleBlock, SampleWidth, Samples};

/// Which bits of the samples are taken, and in which order.
pub(super) struct Gather {
    bits: Vec<u32>,
    /// Per byte of a sample and value of it, the bits that it stands for; empty where samples are taken as they
    /// are.
    tables: Vec<[u64; 256]>,
    from: SampleWidth,
}

impl Gather {
    pub(super) fn new(bits: Vec<u32>, from: SampleWidth) -> Gather {
        let same = SampleWidth::for_inputs(bits.len()) == from
            && bits.iter().enumerate().all(|(n, bit)| *bit == n as u32);
        let table = |byte: usize| {
            std::array::from_fn(|value| {
                let places = bits.iter().enumerate().filter(|(_, bit)| **bit as usize / 8 == byte);
                places.fold(0, |word, (place, bit)| word | (value as u64 >> (bit % 8) & 1) << place)
            })
        };
        let tables = if same { Vec::new() } else { (0..from.bytes()).map(table).collect() };
        Gather { bits, tables, from }
    }

    pub(super) fn width(&self) -> SampleWidth {
        SampleWidth::for_inputs(self.bits.len())
    }

    pub(super) fn push(&self, samples: Samples<'_>, block: &mut SampleBlock) {
        if self.tables.is_empty() {
            block.push_bytes(samples.levels());
            return;
        }
        for sample in samples.levels().chunks_exact(self.from.bytes()) {
            let word = sample
                .iter()
                .zip(&self.tables)
                .fold(0, |word, (byte, table)| word | table[usize::from(*byte)]);
            block.push(word, 0);
        }
    }
}
