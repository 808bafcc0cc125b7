//! Made-up samples at stated activities, the same in every run.

/// A xorshift generator; its numbers decide nothing but the benchmark's data.
pub(crate) struct Noise(u64);

impl Noise {
    pub(crate) fn new() -> Noise {
        Noise(0x0123_4567_89ab_cdef)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }
}

/// Longest stretch that is made; longer data repeats it.
const STRETCH: usize = 10_000_000;

/// 16-bit samples in which one line changes every `between` samples on average.
pub(crate) fn random(samples: usize, between: Option<u64>) -> Vec<u8> {
    let (mut noise, mut word) = (Noise::new(), 0u16);
    repeated(samples, || {
        if between.is_some_and(|n| n == 1 || noise.next() % n == 0) {
            word ^= 1 << ((noise.next() >> 20) % 16);
        }
        word
    })
}

/// An 8-bit bus on bits 0 to 7 and its clock on bit 8: a transfer every so many samples, give or
/// take a fifth, the data changing 2 to 7 samples before the rising edge.
pub(crate) fn clocked_bus(samples: usize, every: u64) -> Vec<u8> {
    let mut noise = Noise::new();
    let (mut at, mut period, mut ahead) = (0, 20, 4);
    let mut word = 0u16;
    repeated(samples, || {
        if at == period {
            (at, period, ahead) = (0, every * 4 / 5 + noise.next() % (every * 2 / 5), 2 + noise.next() % 6);
        }
        match at {
            0 => word = word & 0x100 | (noise.next() & 0xff) as u16,
            _ if at == ahead => word |= 0x100,
            _ if at == ahead + 2 => word &= 0xff,
            _ => {}
        }
        at += 1;
        word
    })
}

fn repeated(samples: usize, mut next: impl FnMut() -> u16) -> Vec<u8> {
    let stretch = samples.min(STRETCH);
    let mut bytes = Vec::with_capacity(samples * 2);
    (0..stretch).for_each(|_| bytes.extend_from_slice(&next().to_le_bytes()));
    while bytes.len() < samples * 2 {
        let more = (samples * 2 - bytes.len()).min(stretch * 2);
        bytes.extend_from_within(..more);
    }
    bytes
}
