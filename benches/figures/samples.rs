use deep_tap::event::*;
use deep_tap::line::*;
use deep_tap::scan::*;
use deep_tap::time::*;
use std::time::Instant;
pub fn gen_(n: usize, between: Option<u64>) -> Vec<u8> {
    let mut x = 88172645463325252u64;
    let mut next = || {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        x
    };
    let block = 10_000_000.min(n);
    let mut out = Vec::with_capacity(n * 2);
    let mut w = 0u16;
    for _ in 0..block {
        if let Some(b) = between {
            if b == 1 || next() % b == 0 {
                w ^= 1 << ((next() >> 20) % 16);
            }
        }
        out.extend_from_slice(&w.to_le_bytes());
    }
    while out.len() < n * 2 {
        let m = (n * 2 - out.len()).min(block * 2);
        out.extend_from_within(..m);
    }
    out
}
fn best<R>(times: usize, mut f: impl FnMut() -> R) -> f64 {
    let mut b = f64::MAX;
    for _ in 0..times {
        let t = Instant::now();
        std::hint::black_box(f());
        b = b.min(t.elapsed().as_secs_f64());
    }
    b
}
pub fn run(n: usize) {
    for between in [None, Some(100_000), Some(1000), Some(32), Some(1)] {
        let data = gen_(n, between);
        let read = best(3, || {
            data.chunks_exact(8).fold(0u64, |a, b| a.wrapping_add(u64::from_le_bytes(b.try_into().unwrap())))
        });
        let mut scope = Scope::new();
        for (i, name) in ["A", "B", "C", "D", "E"].iter().enumerate() {
            scope.define(*name, Meaning::Line(LineId(i)));
        }
        let program =
            Program::compile("A rises while B high and C low and D high and E low", &scope).unwrap();
        let base = TimeBase::from_rate("100 MS/s".parse().unwrap()).unwrap();
        let mut hits = 0;
        let scan = best(5, || {
            let mut s = StreamSearch::new(&program, base);
            hits = s.push(Samples::new(SampleWidth::W16, &data)).len();
        });
        let bits: Vec<u32> = (0..16).collect();
        let mut edges = 0;
        let fill = best(5, || {
            let mut f = Filler::new(&bits);
            f.push(Samples::new(SampleWidth::W16, &data));
            let t = f.finish();
            edges = t.iter().map(|t| t.edge_count()).sum::<u64>();
        });
        println!(
            "{n} {between:?}: read {:.2} GB/s; scan {:.3} ({hits}), fill {:.3} ({edges})",
            data.len() as f64 / read / 1e9,
            read / scan,
            read / fill
        );
    }
}
