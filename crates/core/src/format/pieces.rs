//! A long text in pieces that are read ahead on a thread of their own.

use std::io::Read;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use super::source::{Reader, Source};
use crate::error::{Error, Result};

/// Bytes of a piece, unless no place to cut is found.
pub(crate) const PIECE: usize = 4 << 20;
/// Most bytes of a piece: then it is cut anywhere.
const LONGEST: usize = 64 << 20;

/// A part of a text.
pub(crate) struct Piece {
    /// The bytes. Those of the last piece are followed by a line feed that the text may lack.
    pub(crate) bytes: Vec<u8>,
    /// Where in the text it begins.
    pub(crate) at: u64,
    /// Whether nothing follows.
    pub(crate) last: bool,
    /// Whether the text lacks white space at its end, and so may have been cut.
    pub(crate) open_end: bool,
    /// Bytes of the source read so far.
    pub(crate) read: u64,
}

/// How a text is cut into pieces.
#[derive(Clone, Copy)]
pub(crate) struct Cut {
    /// The place at which to cut these bytes, above 0; `None` where there is none.
    pub(crate) place: fn(&[u8]) -> Option<usize>,
    /// Reads what is good of damaged content, and takes it for the whole.
    pub(crate) partial: bool,
}

/// Gives the pieces of a text to `take`, several at once for several cores, in their order. `first` are
/// bytes that were read already. The answer is what made the text end early, where that was allowed.
///
/// # Errors
/// Those of reading, and those of `take`.
pub(crate) fn in_pieces(
    source: &Source,
    reader: Reader<'_>,
    first: Vec<u8>,
    cut: Cut,
    mut take: impl FnMut(Vec<Piece>) -> Result<()>,
) -> Result<Option<Error>> {
    let cores = rayon::current_num_threads().max(1);
    let (sender, receiver) = sync_channel::<Result<Piece>>(2 * cores);
    std::thread::scope(|scope| {
        let ahead = scope.spawn(move || read_ahead(source, reader, first, cut, &sender));
        let done = give(&receiver, cores, &mut take);
        // Nobody listens any more once an error was found.
        drop(receiver);
        let early = ahead.join().unwrap_or(None);
        done.map(|()| early)
    })
}

fn give(
    receiver: &Receiver<Result<Piece>>,
    cores: usize,
    take: &mut impl FnMut(Vec<Piece>) -> Result<()>,
) -> Result<()> {
    while let Ok(first) = receiver.recv() {
        let mut pieces = vec![first?];
        while pieces.len() < cores && !pieces[pieces.len() - 1].last {
            match receiver.recv() {
                Ok(piece) => pieces.push(piece?),
                Err(_) => break,
            }
        }
        take(pieces)?;
    }
    Ok(())
}

fn read_ahead(
    source: &Source,
    mut reader: Reader<'_>,
    first: Vec<u8>,
    cut: Cut,
    sender: &SyncSender<Result<Piece>>,
) -> Option<Error> {
    let mut at = reader.given() - first.len() as u64;
    let mut held = first;
    let mut early = None;
    let mut wanted = PIECE;
    loop {
        let missing = wanted.saturating_sub(held.len());
        let before = held.len();
        held.reserve(missing + 1);
        let end = match Read::by_ref(&mut reader).take(missing as u64).read_to_end(&mut held) {
            Ok(more) => missing > 0 && more == 0,
            Err(error) => {
                let good = reader.given();
                let error = source.unreadable(error, good);
                if !cut.partial {
                    let _ = sender.send(Err(error));
                    return None;
                }
                early = Some(error);
                true
            }
        };
        if end {
            let open_end = held.last().is_some_and(|byte| !byte.is_ascii_whitespace());
            held.push(b'\n');
            let read = reader.consumed();
            let _ = sender.send(Ok(Piece { bytes: held, at, last: true, open_end, read }));
            return early;
        }
        if held.len() < wanted {
            continue;
        }
        let place = (cut.place)(&held).or_else(|| {
            let blank = || held.iter().rposition(u8::is_ascii_whitespace).map(|at| at + 1);
            (held.len() >= LONGEST).then(|| blank().unwrap_or(held.len()))
        });
        let Some(place) = place else {
            wanted = held.len() * 2;
            continue;
        };
        debug_assert!(held.len() >= before);
        let mut rest = Vec::with_capacity(PIECE + 1);
        rest.extend_from_slice(&held[place..]);
        held.truncate(place);
        let piece = Piece { bytes: held, at, last: false, open_end: false, read: reader.consumed() };
        at += place as u64;
        (held, wanted) = (rest, PIECE);
        if sender.send(Ok(piece)).is_err() {
            return None;
        }
    }
}
