//! Pairing against the slow obvious way, whole and in pieces.

use std::collections::VecDeque;
use std::ops::ControlFlow;
use std::sync::Arc;

use proptest::prelude::*;

use super::{
    Advance, Feed, Following, Nearby, Nearest, Pairing, Pairs, Partner, Party, Preceding, Pulled, Settling,
    Successive, Supply, Together, UNENDED,
};
use crate::event::{Certainty, Hit, MarkWord};
use crate::known::BEYOND;
use crate::time::Tick;

/// An event and the partners it may have.
type Found = (Hit, Vec<Partner>);

/// Gives words as long as it has any, and waits now and then.
struct Drip(VecDeque<Pulled<MarkWord>>);

impl Feed for Drip {
    fn next_piece(&mut self) -> Pulled<Arc<Vec<MarkWord>>> {
        let next = self.0.iter().position(|word| !matches!(word, Pulled::Some(_))).unwrap_or(self.0.len());
        match self.0.front() {
            None => Pulled::End,
            Some(Pulled::Some(_)) => {
                let piece = self.0.drain(..next);
                let word = |word| if let Pulled::Some(word) = word { Some(word) } else { None };
                Pulled::Some(Arc::new(piece.filter_map(word).collect()))
            }
            Some(_) => {
                self.0.pop_front();
                Pulled::NotYet
            }
        }
    }
}

/// Writes down what it is given.
#[derive(Default)]
struct Notes {
    found: Vec<Found>,
    most: Option<usize>,
}

impl Notes {
    fn note(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.found.push((event, partners.to_vec()));
        if self.most == Some(self.found.len()) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl Pairs for Notes {
    fn certain(&mut self, event: Tick, partner: Tick) -> ControlFlow<()> {
        let ticks = partner.since(event).abs();
        let event = Hit { tick: event, certainty: Certainty::Certain };
        self.note(event, &[Partner { tick: partner, ticks, certain: true, recorded: true, hidden: false }])
    }

    fn open(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.note(event, partners)
    }

    fn unended(&mut self, event: Hit, partners: &[Partner]) -> ControlFlow<()> {
        self.note(event, partners)
    }
}

fn words(hits: &[Hit], pauses: &[usize]) -> VecDeque<Pulled<MarkWord>> {
    let mut words: VecDeque<Pulled<MarkWord>> = VecDeque::new();
    for hit in hits {
        let start = Tick(hit.tick.0 / 64 * 64);
        match words.back_mut() {
            Some(Pulled::Some(word)) if word.start == start => word.mark(*hit),
            _ => {
                let mut word = MarkWord { start, ..MarkWord::default() };
                word.mark(*hit);
                words.push_back(Pulled::Some(word));
            }
        }
    }
    for pause in pauses {
        let at = pause % (words.len() + 1);
        words.insert(at, Pulled::NotYet);
    }
    words
}

/// Few with many in doubt, or so many with so few in doubt that words of them are paired together.
fn hits() -> impl Strategy<Value = Vec<Hit>> {
    let certainty = |certain| {
        prop_oneof![
            certain => Just(Certainty::Certain),
            1 => Just(Certainty::Doubtful),
            1 => Just(Certainty::Possible),
        ]
    };
    let far = prop_oneof![6 => 1u64..12, 3 => 1u64..90, 1 => 1u64..700];
    let close = prop_oneof![20 => 1u64..40, 1 => 1u64..300];
    let steps = prop_oneof![
        prop::collection::vec((far, certainty(8)), 0..60),
        prop::collection::vec((close, certainty(200)), 0..200),
    ];
    steps.prop_map(|steps| {
        let mut tick = 0;
        let step = |(distance, certainty)| {
            tick += distance;
            Hit { tick: Tick(tick), certainty }
        };
        steps.into_iter().map(step).collect()
    })
}

/// From where on an order is possible, and certain: exact, sampled, with skew.
fn together() -> impl Strategy<Value = Together> {
    prop_oneof![Just((0, 0)), Just((1, 1)), Just((0, 1)), (-70i64..=0, 1i64..70)].prop_flat_map(
        |(possible_from, certain_from)| {
            // Where a stated uncertainty lets two instants coincide, they are apart a tick later.
            (certain_from.max(1)..=certain_from.max(1) + 1).prop_map(move |apart_from| Together {
                possible_from,
                certain_from,
                apart_from,
            })
        },
    )
}

/// The order of what comes the other way round: what is not after is before; of two edges of one input, the same one
/// is neither.
fn reversed(together: Together) -> Together {
    match together {
        Together { possible_from: 1, certain_from: 1, .. } => together,
        Together { possible_from, certain_from, .. } => Together {
            possible_from: 1 - certain_from,
            certain_from: 1 - possible_from,
            apart_from: 1 - possible_from,
        },
    }
}

/// A partner just outside the record.
fn unseen(tick: u64, ticks: i64) -> Partner {
    Partner { tick: Tick(tick), ticks, certain: false, recorded: false, hidden: false }
}

/// Those just outside and those anywhere beyond.
fn beyond(tick: u64, ticks: i64) -> [Partner; 2] {
    [unseen(tick, ticks), unseen(tick, BEYOND)]
}

fn partner(hit: Hit, ticks: i64, certain: bool) -> Partner {
    Partner { tick: hit.tick, ticks, certain, recorded: hit.is_recorded(), hidden: false }
}

/// For each start, by definition.
fn following_by_hand(
    starts: &[Hit],
    answers: &[Hit],
    together: Together,
    superseded: bool,
    len: u64,
) -> Vec<Found> {
    let find = |number: usize, start: &Hit| {
        let rest = if superseded { &starts[number + 1..] } else { &[] };
        let next = rest.iter().find(|hit| hit.is_certain());
        let doubtful = rest.iter().find(|hit| !hit.is_certain());
        let doubtful = doubtful.filter(|hit| next.is_none_or(|next| hit.tick < next.tick));
        let mut partners = Vec::new();
        for answer in answers {
            let ticks = answer.tick.since(start.tick);
            if ticks < together.possible_from {
                continue;
            }
            if next.is_some_and(|next| answer.tick.since(next.tick) >= together.certain_from) {
                break;
            }
            let before = |next: Option<&Hit>| {
                next.is_none_or(|next| next.tick.since(answer.tick) >= together.apart_from)
            };
            let after = Hit { tick: Tick(len), certainty: Certainty::Possible };
            let certain = answer.is_certain()
                && ticks >= together.certain_from
                && before(next)
                && before(doubtful)
                && (!superseded || before(Some(&after)));
            partners.push(partner(*answer, ticks, certain));
            if certain {
                break;
            }
        }
        if !partners.is_empty() {
            let found = partners.iter().any(|partner| partner.certain);
            let (early, late) = (Tick(0).since(start.tick), Tick(len).since(start.tick));
            if early >= together.possible_from {
                partners.push(unseen(0, early));
            }
            if !found && next.is_none_or(|next| Tick(len).since(next.tick) < together.certain_from) {
                partners.extend(beyond(len, late));
            }
        }
        (*start, partners)
    };
    starts.iter().enumerate().map(|(number, start)| find(number, start)).collect()
}

fn preceding_by_hand(events: &[Hit], before: &[Hit], together: Together, len: u64) -> Vec<Found> {
    let find = |event: &Hit| {
        let mut partners = Vec::new();
        for hit in before.iter().rev() {
            let ticks = event.tick.since(hit.tick);
            if ticks < together.possible_from {
                continue;
            }
            let certain = hit.is_certain() && ticks >= together.certain_from;
            partners.push(partner(*hit, ticks, certain));
            if certain {
                break;
            }
        }
        if !partners.is_empty() {
            let found = partners.iter().any(|partner| partner.certain);
            let (early, late) = (event.tick.since(Tick(0)), event.tick.since(Tick(len)));
            if late >= together.possible_from {
                partners.push(unseen(len, late));
            }
            if !found {
                partners.extend(beyond(0, early));
            }
        }
        (*event, partners)
    };
    events.iter().map(find).collect()
}

fn nearest_by_hand(events: &[Hit], others: &[Hit], len: u64) -> Vec<Found> {
    let find = |event: &Hit| {
        let beside = |hit: &Hit| partner(*hit, hit.tick.since(event.tick).abs(), hit.is_certain());
        let until_certain = |all: &mut Vec<Partner>, hit: &Hit| {
            all.push(beside(hit));
            hit.is_certain()
        };
        let mut partners = Vec::new();
        let _ = others.iter().rev().filter(|o| o.tick <= event.tick).any(|o| until_certain(&mut partners, o));
        let _ = others.iter().filter(|o| o.tick > event.tick).any(|o| until_certain(&mut partners, o));
        let found = partners.iter().any(|partner| partner.certain);
        if !partners.is_empty() {
            for end in [0, len] {
                let ticks = Tick(end).since(event.tick).abs();
                match found {
                    true => partners.push(unseen(end, ticks)),
                    false => partners.extend(beyond(end, ticks)),
                }
            }
        }
        if let Some(nearest) = partners.iter().filter(|p| p.certain).map(|p| p.ticks).min() {
            partners.retain(|p| p.ticks < nearest || (p.certain && p.ticks == nearest));
        }
        partners.sort_by_key(|p| (!p.recorded, p.ticks));
        (*event, partners)
    };
    events.iter().map(find).collect()
}

/// Each start with what may be the last answer before whichever later start ended its wait.
fn settling_by_hand(
    starts: &[Hit],
    answers: &[Hit],
    (after, before): (Together, Together),
    hides: bool,
    len: u64,
) -> Vec<Found> {
    let find = |number: usize, start: &Hit| {
        let rest = &starts[number + 1..];
        let certain = rest.iter().position(Hit::is_certain);
        let mut ends: Vec<Hit> = rest[..certain.map_or(rest.len(), |place| place + 1)].to_vec();
        if certain.is_none() {
            ends.push(Hit { tick: Tick(len), certainty: Certainty::Possible });
        }
        let mut partners: Vec<Partner> = Vec::new();
        let mut sure = certain.is_some() || ends.len() == 1;
        for end in ends {
            let possible = |answer: &&Hit| {
                answer.tick.since(start.tick) >= after.possible_from
                    && end.tick.since(answer.tick) >= before.possible_from
            };
            let within = |answer: &Hit| {
                answer.is_certain()
                    && answer.tick.since(start.tick) >= after.certain_from
                    && end.tick.since(answer.tick) >= before.certain_from
            };
            let mut some = false;
            let mut found = false;
            for answer in answers.iter().filter(possible).rev() {
                (some, found) = (true, within(answer));
                if partners.iter().all(|known| known.tick != answer.tick || known.hidden) {
                    partners.push(partner(*answer, answer.tick.since(start.tick), found));
                }
                if found {
                    break;
                }
            }
            sure &= found;
            let inside = end.tick != Tick(len);
            if some && hides && inside {
                partners.push(Partner { hidden: true, ..unseen(end.tick.0, end.tick.since(start.tick)) });
            }
            if some && inside && end.tick.since(Tick(len)) >= before.possible_from {
                partners.push(unseen(len, Tick(len).since(start.tick)));
            }
        }
        if !sure {
            partners.iter_mut().for_each(|partner| partner.certain = false);
        }
        (*start, partners)
    };
    starts.iter().enumerate().map(|(number, start)| find(number, start)).collect()
}

/// Each event with all partners at distances in a range, and the ones on either side.
fn nearby_by_hand(events: &[Hit], others: &[Hit], near: &std::ops::Range<i64>) -> Vec<Found> {
    let find = |event: &Hit| {
        let far = |other: &&Hit| other.tick.since(event.tick);
        let inside = others.iter().filter(|other| near.contains(&far(other)));
        let before = others.iter().rev().find(|other| far(other) < near.start);
        let beyond = others.iter().find(|other| far(other) >= near.end);
        let all = before.into_iter().chain(inside).chain(beyond);
        (*event, all.map(|other| partner(*other, far(&other), other.is_certain())).collect())
    };
    events.iter().map(find).collect()
}

/// Calls a pairing until it is done.
fn finish(mut advance: impl FnMut() -> ControlFlow<(), Advance>) {
    for _ in 0..1000 {
        match advance() {
            ControlFlow::Continue(Advance::Waiting) => {}
            ControlFlow::Continue(Advance::Done) | ControlFlow::Break(()) => return,
        }
    }
    panic!("it waits for ever");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn pairs_are_those_of_the_obvious_way(
        events in hits(),
        others in hits(),
        together in together(),
        superseded: bool,
        pauses in prop::array::uniform2(prop::collection::vec(0usize..100, 0..8)),
        most in prop::option::of(1usize..60),
        rest in 1u64..60,
        hides: bool,
        near in (-90i64..60).prop_flat_map(|from| (Just(from), from + 1..90)),
    ) {
        let last = events.iter().chain(&others).map(|hit| hit.tick.0).max().unwrap_or(0);
        let len = last + rest;
        let sides = || {
            (Party::new(Drip(words(&events, &pauses[0]))), Party::new(Drip(words(&others, &pauses[1]))))
        };
        let check = |notes: &Notes, mut wanted: Vec<Found>| {
            // Stopped, it has given out no more.
            wanted.truncate(most.unwrap_or(usize::MAX));
            prop_assert_eq!(&notes.found, &wanted);
            Ok(())
        };

        let ((mut starts, mut answers), mut notes) = (sides(), Notes { most, ..Notes::default() });
        let mut pairing = Following::new(together, superseded, len);
        finish(|| pairing.advance(&mut starts, &mut answers, &mut notes));
        check(&notes, following_by_hand(&events, &others, together, superseded, len))?;

        let ((mut anchors, mut before), mut notes) = (sides(), Notes { most, ..Notes::default() });
        let mut pairing = Preceding::new(together, len);
        finish(|| pairing.advance(&mut anchors, &mut before, &mut notes));
        check(&notes, preceding_by_hand(&events, &others, together, len))?;

        let before = reversed(together);
        let ((mut starts, mut answers), mut notes) = (sides(), Notes { most, ..Notes::default() });
        let mut pairing = Settling::new(together, before, hides, len);
        finish(|| pairing.advance(&mut starts, &mut answers, &mut notes));
        check(&notes, settling_by_hand(&events, &others, (together, before), hides, len))?;

        let ((mut anchors, mut beside), mut notes) = (sides(), Notes { most, ..Notes::default() });
        let mut pairing = Nearby::new(near.0..near.1);
        finish(|| pairing.advance(&mut anchors, &mut beside, &mut notes));
        check(&notes, nearby_by_hand(&events, &others, &(near.0..near.1)))?;

        let ((mut anchors, mut beside), mut notes) = (sides(), Notes { most, ..Notes::default() });
        let mut pairing = Nearest::new(len);
        finish(|| pairing.advance(&mut anchors, &mut beside, &mut notes));
        check(&notes, nearest_by_hand(&events, &others, len))?;

        let ((mut anchors, _), mut notes) = (sides(), Notes { most, ..Notes::default() });
        let (mut pairing, nothing) = (Successive::default(), None::<fn(Tick, Tick) -> Pulled<Option<bool>>>);
        finish(|| pairing.advance(&mut anchors, nothing, &mut notes));
        let wanted = events.windows(2).map(|pair| {
            let (ticks, certain) = (pair[1].tick.since(pair[0].tick), pair.iter().all(Hit::is_certain));
            let recorded = pair.iter().all(Hit::is_recorded);
            let certainty = match (certain, recorded) {
                (true, _) => Certainty::Certain,
                (false, true) => Certainty::Doubtful,
                (false, false) => Certainty::Possible,
            };
            let partner = Partner { tick: pair[1].tick, ticks, certain, recorded, hidden: false };
            (Hit { tick: pair[0].tick, certainty }, vec![partner])
        });
        check(&notes, wanted.collect())?;
    }
}

/// Two kinds of marks that arrive in pieces, each of them all there is up to a tick; after each piece, `advance`
/// is called, at last with the record's end.
fn arriving(
    sides: [&[Hit]; 2],
    borders: &[u64],
    len: u64,
    mut advance: impl FnMut(&mut Party<Supply<MarkWord>>, &mut Party<Supply<MarkWord>>, Option<u64>),
) {
    let mut parties = [(); 2].map(|()| Party::new(Supply::default()));
    let mut from = 0;
    for to in borders.iter().copied().chain([u64::MAX]) {
        for (party, hits) in parties.iter_mut().zip(sides) {
            let piece: Vec<Hit> =
                hits.iter().filter(|hit| (from..to).contains(&hit.tick.0)).copied().collect();
            let piece = words(&piece, &[]).into_iter();
            let piece =
                piece.filter_map(|word| if let Pulled::Some(word) = word { Some(word) } else { None });
            party.feed().add(&Arc::new(piece.collect()), Tick(to));
            if to == u64::MAX {
                party.feed().end();
            }
        }
        let [a, b] = &mut parties;
        advance(a, b, (to == u64::MAX).then_some(len));
        from = to;
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn pairs_do_not_depend_on_how_marks_arrive(
        events in hits(),
        others in hits(),
        together in together(),
        superseded: bool,
        hides: bool,
        mut borders in prop::collection::vec(0u64..4000, 0..6),
        rest in 1u64..60,
    ) {
        let len = events.iter().chain(&others).map(|hit| hit.tick.0).max().unwrap_or(0) + rest;
        // What is not far from the end is known only with the end.
        borders.retain(|border| border + 72 <= len);
        borders.sort_unstable();
        let same = |notes: Notes, wanted: Vec<Found>| {
            prop_assert_eq!(&notes.found, &wanted);
            Ok(())
        };
        let sides = [&events[..], &others];
        // Whatever a pairing says meanwhile, in the end it has said all.
        let said = |said: ControlFlow<(), Advance>, end: Option<u64>| {
            assert!(end.is_none() || said == ControlFlow::Continue(Advance::Done));
        };

        let (mut notes, mut pairing) = (Notes::default(), Following::new(together, superseded, UNENDED));
        arriving(sides, &borders, len, |a, b, end| {
            end.iter().for_each(|len| pairing.end(*len));
            said(pairing.advance(a, b, &mut notes), end);
        });
        same(notes, following_by_hand(&events, &others, together, superseded, len))?;

        let (mut notes, mut pairing) = (Notes::default(), Preceding::new(together, UNENDED));
        arriving(sides, &borders, len, |a, b, end| {
            end.iter().for_each(|len| pairing.end(*len));
            said(pairing.advance(a, b, &mut notes), end);
        });
        same(notes, preceding_by_hand(&events, &others, together, len))?;

        let before = reversed(together);
        let (mut notes, mut pairing) = (Notes::default(), Settling::new(together, before, hides, UNENDED));
        arriving(sides, &borders, len, |a, b, end| {
            end.iter().for_each(|len| pairing.end(*len));
            said(pairing.advance(a, b, &mut notes), end);
        });
        same(notes, settling_by_hand(&events, &others, (together, before), hides, len))?;

        let (mut notes, mut pairing) = (Notes::default(), Nearest::new(UNENDED));
        arriving(sides, &borders, len, |a, b, end| {
            end.iter().for_each(|len| pairing.end(*len));
            said(pairing.advance(a, b, &mut notes), end);
        });
        same(notes, nearest_by_hand(&events, &others, len))?;

        let (mut notes, mut pairing) = (Notes::default(), Nearby::new(-30..20));
        arriving(sides, &borders, len, |a, b, end| said(pairing.advance(a, b, &mut notes), end));
        same(notes, nearby_by_hand(&events, &others, &(-30..20)))?;
    }
}

/// A start whose answers are all in doubt is given a bounded number of them, and one that may be anywhere.
#[test]
fn doubt_without_end_stays_bounded() {
    let all: Vec<Hit> =
        (1..5000).map(|tick| Hit { tick: Tick(tick), certainty: Certainty::Doubtful }).collect();
    let (mut starts, mut answers) = (Party::new(Drip(words(&all, &[]))), Party::new(Drip(words(&all, &[]))));
    let mut notes = Notes { most: Some(3), ..Notes::default() };
    let mut pairing =
        Following::new(Together { possible_from: 0, certain_from: 1, apart_from: 1 }, true, 6000);
    finish(|| pairing.advance(&mut starts, &mut answers, &mut notes));
    let (_, partners) = &notes.found[0];
    assert!(partners.len() < 2000 && partners.iter().any(|p| p.ticks == BEYOND && !p.certain));
}
