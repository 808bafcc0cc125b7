//! Pairing a word at a time, as long as all marks are certain and none is so close to another one that their
//! order is open: as it is nearly always. Whatever is not like that stays where it is, for the careful way.

use std::ops::{ControlFlow, RangeInclusive};

use super::batch::Batch;
use super::cursor::Word;
use super::partner::{Pairs, Together};
use super::party::{Feed, Party};
use crate::time::Tick;

/// The marks of a word, of the one before and of the one after.
#[derive(Clone, Copy)]
struct Around {
    before: u64,
    here: u64,
    after: u64,
}

impl Around {
    /// A one for each tick that lies so many ticks after a mark.
    #[inline(always)]
    fn shifted(self, by: RangeInclusive<i64>) -> u64 {
        let Around { before, here, after } = self;
        by.fold(0, |all, ticks| {
            all | match ticks {
                0 => here,
                1.. => here << ticks | before >> (64 - ticks),
                _ => here >> -ticks | after << (64 + ticks),
            }
        })
    }
}

impl Together {
    /// Whether a question of order reaches no farther than into the next word.
    fn fits_words(self) -> bool {
        (-63..=1).contains(&self.possible_from) && (0..=63).contains(&self.certain_from)
    }
}

/// Calls with the place of each one.
#[inline(always)]
fn each_of(mut marks: u64, mut call: impl FnMut(u32)) {
    while marks != 0 {
        call(marks.trailing_zeros());
        marks &= marks - 1;
    }
}

/// The marks of a word that come before the first of these.
#[inline(always)]
fn up_to(marks: u64, first: u64) -> u64 {
    marks & (first & first.wrapping_neg()).wrapping_sub(1)
}

/// Pairs events with the last partner before each of them, of which `last` is the last one that was passed. Events
/// must lie before `until`.
pub(super) fn preceding<E: Feed, P: Feed>(
    (events, partners): (&mut Party<E>, &mut Party<P>),
    together: Together,
    until: Tick,
    last: &mut Tick,
    (batch, pairs): (&mut Batch, &mut impl Pairs),
) -> ControlFlow<()> {
    let mut said = ControlFlow::Continue(());
    let (possible, certain) = (together.possible_from, together.certain_from);
    let (Some(mut event), Some(mut partner)) = (events.at_hand(), partners.at_hand()) else { return said };
    if !together.fits_words() {
        return said;
    }
    let left = partner.present.marks;
    // The last partner, and the last one but for those of the word that was passed last.
    let (mut latest, mut older) = (last.0, last.0);
    let mut before = Word { start: u64::MAX, marks: 0 };
    'words: while event.present.start < until.0.saturating_sub(63) {
        let Word { start, marks } = event.present;
        while partner.present.start < start {
            (older, latest, before) = (latest, partner.present.last(), partner.present);
            if !partner.step() {
                break 'words;
            }
        }
        let here = partner.present.at(start);
        let mut around = Around { before: 0, here, after: 0 };
        if (possible, certain) != (0, 1) {
            let after = if here == 0 { Some(partner.present) } else { partner.next() };
            let Some(after) = after else { break };
            around.before = before.at(start.wrapping_sub(64));
            around.after = after.at(start + 64);
        }
        let open = marks & around.shifted(possible..=certain - 1);
        let early = here << certain;
        batch.write(|writer| {
            each_of(up_to(marks, open), |at| {
                let below = early & u64::MAX >> (63 - at);
                let before = (start + 63).wrapping_sub(u64::from(below.leading_zeros()) + certain as u64);
                writer.pair(true, start + u64::from(at), if below == 0 { latest } else { before });
            });
        });
        if open != 0 {
            event.present.marks = marks & !up_to(marks, open);
            break;
        }
        let more = event.step();
        said = give_if_full(batch, pairs);
        if !more || said.is_break() {
            break;
        }
    }
    // What may be open for the next event must not be passed.
    let passed = if certain > 1 && partner.at > 0 {
        latest = older;
        partner.passed_but_one(left)
    } else {
        partner.passed()
    };
    *last = Tick(latest);
    let taken = event.passed();
    events.pass_words(taken);
    partners.pass_words(passed);
    said?;
    give(batch, pairs)
}

/// Pairs starts with the first answer after each of them; where the next start ends a wait, only with one that comes
/// before it.
pub(super) fn following<S: Feed, A: Feed>(
    (starts, answers): (&mut Party<S>, &mut Party<A>),
    together: Together,
    superseded: bool,
    (batch, pairs): (&mut Batch, &mut impl Pairs),
) -> ControlFlow<()> {
    let mut said = ControlFlow::Continue(());
    let (possible, certain) = (together.possible_from, together.certain_from);
    let (Some(mut event), Some(mut answer)) = (starts.at_hand(), answers.at_hand()) else { return said };
    // An answer just before the record may belong to a start that close to it.
    if !together.fits_words() || event.present.start.cast_signed() <= -possible {
        return said;
    }
    let left = answer.present.marks;
    let mut before = Word { start: u64::MAX, marks: 0 };
    'words: loop {
        let Word { start, marks } = event.present;
        while answer.present.start < start {
            before = answer.present;
            if !answer.step() {
                break 'words;
            }
        }
        let here = answer.present.at(start);
        let next = if here == 0 { Some(answer.present) } else { answer.next() };
        let Some(next) = next else { break };
        let mut around = Around { before: 0, here, after: 0 };
        if (possible, certain) != (0, 1) {
            around.before = before.at(start.wrapping_sub(64));
            around.after = next.at(start + 64);
        }
        let open = marks & around.shifted(1 - certain..=-possible);
        let clean = up_to(marks, open);
        let mut rest = marks & !clean;
        let (late, next) = (here >> certain, next.first());
        let answer_from = |at: u32| {
            let above = late & u64::MAX << at;
            let after = start + u64::from(above.trailing_zeros()) + certain as u64;
            if above == 0 { next } else { after }
        };
        batch.write(|writer| {
            if !superseded {
                return each_of(clean, |at| writer.pair(true, start + u64::from(at), answer_from(at)));
            }
            // Where the next start is not known, it would come so early that the order is open.
            let beyond = event.next().map_or(start, Word::first);
            let mut unknown = 0;
            each_of(clean, |at| {
                let (begin, answer) = (start + u64::from(at), answer_from(at));
                let later = marks & u64::MAX << at << 1;
                let in_word = start + u64::from(later.trailing_zeros());
                let later = if later == 0 { beyond } else { in_word };
                let known = later > begin;
                let answered = later.wrapping_sub(answer).cast_signed() >= together.apart_from;
                let waits = known & (answer.wrapping_sub(later).cast_signed() >= certain);
                writer.pair(answered, begin, answer);
                writer.wait(waits, begin, later);
                unknown |= u64::from(!answered & !waits) << at;
            });
            if unknown != 0 {
                let first = unknown.trailing_zeros();
                rest = marks & u64::MAX << first;
                writer.truncate(start + u64::from(first));
            }
        });
        if rest != 0 {
            event.present.marks = rest;
            break;
        }
        let more = event.step();
        said = give_if_full(batch, pairs);
        if !more || said.is_break() {
            break;
        }
    }
    // What may be open for the next start must not be passed.
    let passed = if possible < 0 { answer.passed_but_one(left) } else { answer.passed() };
    let taken = event.passed();
    starts.pass_words(taken);
    answers.pass_words(passed);
    said?;
    give(batch, pairs)
}

/// Pairs events with the one after each, of which `last` is the one that was passed last.
pub(super) fn successive<E: Feed>(
    events: &mut Party<E>,
    last: &mut Tick,
    (batch, pairs): (&mut Batch, &mut impl Pairs),
) -> ControlFlow<()> {
    let mut said = ControlFlow::Continue(());
    let Some(mut event) = events.at_hand() else { return said };
    loop {
        let Word { start, marks } = event.present;
        let mut before = last.0;
        batch.write(|writer| {
            each_of(marks, |at| {
                let at = start + u64::from(at);
                writer.pair(true, std::mem::replace(&mut before, at), at);
            });
        });
        *last = Tick(before);
        let more = event.step();
        said = give_if_full(batch, pairs);
        if !more || said.is_break() {
            break;
        }
    }
    let taken = event.passed();
    events.pass_words(taken);
    said?;
    give(batch, pairs)
}

/// Gives out what there is, if it is enough.
fn give_if_full(batch: &mut Batch, pairs: &mut impl Pairs) -> ControlFlow<()> {
    if batch.is_full() { give(batch, pairs) } else { ControlFlow::Continue(()) }
}

/// Gives all out.
fn give(batch: &mut Batch, pairs: &mut impl Pairs) -> ControlFlow<()> {
    batch.give(|batch| pairs.all_certain(batch))
}
