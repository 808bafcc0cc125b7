//! OneOf elements of one sequence are those of another, in order.

use std::ops::Range;

use similar::DiffTag;
use similar::algorithms::{Capture, Replace, myers};

/// Elements that are compared at once: what has nothing in common costs their square.
const BLOCK: usize = 2048;

/// Stretches of two sequences that are not the same, in order; what lies between them is the same.
///
/// Long sequences are compared a block at a time, of which the first half is kept: an element is found again as long
/// as fewer than half a block are missing before it. Where a block has nothing in common, `resume` says from which
/// element of the second sequence on it goes on, given that of the first.
pub(super) fn differences<T: Eq>(
    a: &[T],
    b: &[T],
    resume: impl Fn(usize) -> usize,
) -> Vec<(Range<usize>, Range<usize>)> {
    let mut all: Vec<(Range<usize>, Range<usize>)> = Vec::new();
    let (mut i, mut j) = (0, 0);
    loop {
        // What is the same needs no search.
        let same = a[i..].iter().zip(&b[j..]).take_while(|(a, b)| a == b).count();
        (i, j) = (i + same, j + same);
        let (first, second) = (block(a, i), block(b, j));
        if first.is_empty() && second.is_empty() {
            return all;
        }
        let whole = i + first.len() == a.len() && j + second.len() == b.len();
        let hunks = block_differences(first, second);
        let keep = if whole { usize::MAX } else { BLOCK / 2 };
        // Where both are together again, and the first half is done.
        let mut done = (first.len().min(keep), second.len().min(keep));
        for (of_a, of_b) in hunks {
            if of_a.start >= keep || of_b.start >= keep {
                done = (of_a.start, of_b.start);
                break;
            }
            let part = (of_a.start + i..of_a.end + i, of_b.start + j..of_b.end + j);
            done = (of_a.end, of_b.end);
            push(&mut all, part);
        }
        if whole {
            return all;
        }
        // Nothing in common, or no more than by chance.
        if done == (0, 0) {
            done.0 = first.len().min(keep);
            done.1 = resume(i + done.0).clamp(j, b.len()) - j;
            push(&mut all, (i..i + done.0, j..j + done.1));
        }
        (i, j) = (i + done.0, j + done.1);
    }
}

fn block<T>(of: &[T], from: usize) -> &[T] {
    &of[from..of.len().min(from + BLOCK)]
}

fn block_differences<T: Eq>(a: &[T], b: &[T]) -> Vec<(Range<usize>, Range<usize>)> {
    let mut ops = Replace::new(Capture::new());
    let Ok(()) = myers::diff_deadline_raw(&mut ops, a, 0..a.len(), b, 0..b.len(), None);
    let ops = ops.into_inner().into_ops();
    ops.iter().filter(|op| op.tag() != DiffTag::Equal).map(|op| (op.old_range(), op.new_range())).collect()
}

/// Adds a stretch; one that follows right on the one before is part of it.
fn push(all: &mut Vec<(Range<usize>, Range<usize>)>, part: (Range<usize>, Range<usize>)) {
    match all.last_mut() {
        Some((a, b)) if a.end == part.0.start && b.end == part.1.start => {
            (a.end, b.end) = (part.0.end, part.1.end);
        }
        _ => all.push(part),
    }
}

#[cfg(test)]
mod tests {
    use super::{BLOCK, differences};

    /// What is said to be the same is the same, and what is said to differ is no more than was changed.
    #[test]
    fn changes_are_found_where_they_were_made() {
        let mut seed = 7u64;
        let mut random = |below: u64| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % below
        };
        for length in [0, 1, 7, 300, BLOCK * 5 + 17] {
            for alphabet in [1, 3, 1000] {
                let a: Vec<u64> = (0..length).map(|_| random(alphabet)).collect();
                let mut b = Vec::new();
                let mut made = 0;
                for value in &a {
                    match random(500) {
                        0 => made += 1,
                        1 => (b.extend([*value, alphabet + 1]), made += 1).1,
                        _ => b.push(*value),
                    }
                }
                let found = differences(&a, &b, |at| at);
                let (mut i, mut j, mut differing) = (0, 0, 0);
                for (of_a, of_b) in found {
                    assert_eq!(a[i..of_a.start], b[j..of_b.start]);
                    differing += of_a.len() + of_b.len();
                    (i, j) = (of_a.end, of_b.end);
                }
                assert_eq!(a[i..], b[j..]);
                // The shortest there is, or nearly: equal elements may be told apart in several ways.
                assert!(differing <= made * 2 + 2, "{length} of {alphabet}: {differing} for {made}");
            }
        }
    }

    /// Sequences that have nothing in common take no time to speak of.
    #[test]
    fn what_has_nothing_in_common_ends() {
        let a: Vec<usize> = (0..100_000).map(|n| n * 7919 % 3).collect();
        let b: Vec<usize> = (0..60_000).map(|n| 10 + n * n % 5 % 2).collect();
        let found = differences(&a, &b, |at| at);
        assert_eq!(found, [(0..100_000, 0..60_000)]);
    }
}
