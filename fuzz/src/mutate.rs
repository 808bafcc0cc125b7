//! Hostile inputs from sound ones.

/// A xorshift generator: the same numbers from the same seed.
#[derive(Clone, Debug)]
pub struct Noise(u64);

impl Noise {
    /// From a seed.
    pub fn new(seed: u64) -> Self {
        Noise(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    /// The next number.
    pub fn number(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// A number below a bound; 0 where that is 0.
    pub fn below(&mut self, bound: usize) -> usize {
        if bound == 0 { 0 } else { (self.number() % bound as u64) as usize }
    }
}

/// Words that formats, texts and protocols take for something.
const WORDS: [&[u8]; 40] = [
    b"0",
    b"-1",
    b"1e308",
    b"nan",
    b"-inf",
    b"18446744073709551615",
    b"9223372036854775808",
    b"0x",
    b"#0",
    b"$end",
    b"$dumpoff",
    b"$timescale 1 fs $end",
    b"b1010 !",
    b"r1e30 \"",
    b"\"",
    b"'",
    b"\"\"\"",
    b"[[",
    b"]]",
    b"{}",
    b"\n",
    b"\r\n",
    b";",
    b",",
    b"\0",
    b"\xff\xfe",
    b"\xef\xbb\xbf",
    b"\xe2\x80\xae",
    b"1 fs",
    b"1e-15 s",
    b"GS/s",
    b"100 %",
    b"while",
    b"then no",
    b"within",
    b"for < 1 ns",
    b"*RST;",
    b"#9999999999",
    b"?",
    b"include = [\"s.toml\"]",
];

/// Numbers at which arithmetic ends.
const EDGES: [u64; 8] =
    [0, 1, 0x7f, 0xff, 0x7fff_ffff, 0xffff_ffff, 0x7fff_ffff_ffff_ffff, 0xffff_ffff_ffff_ffff];

/// One of the inputs with one to eight changes: bits, bytes, words, numbers, stretches that are taken out, doubled, or
/// taken from another one.
pub fn mutated(seeds: &[Vec<u8>], noise: &mut Noise) -> Vec<u8> {
    let mut bytes = seeds[noise.below(seeds.len())].clone();
    for _ in 0..=noise.below(8) {
        change(&mut bytes, seeds, noise);
    }
    bytes.truncate(1 << 17);
    bytes
}

fn change(bytes: &mut Vec<u8>, seeds: &[Vec<u8>], noise: &mut Noise) {
    let at = noise.below(bytes.len() + 1);
    let end = (at + noise.below(64)).min(bytes.len());
    match noise.below(9) {
        0 if at < bytes.len() => bytes[at] ^= 1 << noise.below(8),
        1 if at < bytes.len() => bytes[at] = noise.number() as u8,
        2 => drop(bytes.splice(at..end, WORDS[noise.below(WORDS.len())].iter().copied())),
        3 => drop(bytes.splice(at..at, WORDS[noise.below(WORDS.len())].iter().copied())),
        4 => drop(bytes.drain(at..end)),
        5 => {
            let part = bytes[at..end].to_vec();
            let times = 1 + noise.below(20);
            bytes.splice(at..at, part.repeat(times));
        }
        6 => {
            let other = &seeds[noise.below(seeds.len())];
            let from = noise.below(other.len() + 1);
            let to = (from + noise.below(512)).min(other.len());
            bytes.splice(at..end, other[from..to].iter().copied());
        }
        7 => {
            let number = EDGES[noise.below(EDGES.len())].wrapping_add(noise.below(3) as u64).to_le_bytes();
            let width = [1, 2, 4, 8][noise.below(4)];
            let end = (at + width).min(bytes.len());
            bytes.splice(at..end, number[..width].iter().copied());
        }
        _ => bytes.truncate(at),
    }
}
