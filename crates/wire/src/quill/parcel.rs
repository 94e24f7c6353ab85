//! Parcels: byte strings longer than a datagram, one after another in each direction of a session, in parts that are sent again until the other
//! end has taken them. For what is rare: notices to devices, and what gateways have to say to each other.

use std::collections::VecDeque;
use std::sync::Arc;

use crate::Moment;

/// A way notice, from a gateway to a device, as it was sealed.
pub const NOTICE: u8 = 1;
/// Words for the person at the device, UTF-8.
pub const WORDS: u8 = 3;
/// What gateways have to say to each other.
pub const AMONG_GATEWAYS: u8 = 2;

/// What a gateway asks the person at the device for, UTF-8; without any: the answer was right, and everything passes.
pub const QUESTION: u8 = 4;
/// What the person answers, UTF-8.
pub const ANSWER: u8 = 5;

/// Bytes of a parcel in one datagram.
pub const PART: usize = 1024;
/// Parts under way at once.
const WINDOW: usize = 16;
/// Parts that were not taken are sent again after this; the wait doubles up to [`AGAIN_MOST`] while nothing is taken.
const AGAIN: u64 = 400;
const AGAIN_MOST: u64 = 8_000;
/// Parcels that wait in one session.
const MOST_WAITING: usize = 8;

/// A part on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part<'a> {
    /// Tells a parcel from others of one direction of a session; the first is random, for either end may begin anew by itself.
    pub number: u32,
    /// What kind of thing it is.
    pub kind: u8,
    /// Bytes of the whole parcel.
    pub total: u32,
    /// Where this part begins.
    pub offset: u32,
    pub bytes: &'a [u8],
}

/// How far the receiver has a parcel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Taken {
    pub number: u32,
    /// Bytes from its beginning; the greatest number: the parcel is not wanted.
    pub upto: u32,
}

/// A parcel is not wanted.
const UNWANTED: u32 = u32::MAX;

/// What is to be sent.
pub struct Outbox {
    waiting: VecDeque<(u8, Arc<[u8]>)>,
    /// Of the first that waits.
    number: u32,
    taken: usize,
    sent: usize,
    /// When what was sent is sent again, and how long that waits.
    again: Option<(Moment, u64)>,
}

impl Outbox {
    /// Nothing waits; the first parcel will have this number, drawn at random.
    #[must_use]
    pub fn new(number: u32) -> Self {
        Self { waiting: VecDeque::new(), number, taken: 0, sent: 0, again: None }
    }

    /// One more parcel, after those that wait. Whether there was room for it.
    pub fn push(&mut self, kind: u8, bytes: Arc<[u8]>) -> bool {
        let room =
            self.waiting.len() < MOST_WAITING && u32::try_from(bytes.len()).is_ok_and(|length| length < UNWANTED);
        if room {
            self.waiting.push_back((kind, bytes));
        }
        room
    }

    /// Whether nothing waits.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// The other end has taken something.
    pub fn taken(&mut self, taken: Taken) {
        let Some((_, bytes)) = self.waiting.front() else { return };
        if taken.number != self.number {
            return;
        }
        let upto = usize::try_from(taken.upto).unwrap_or(usize::MAX);
        if taken.upto == UNWANTED || upto >= bytes.len() {
            self.waiting.pop_front();
            self.number = self.number.wrapping_add(1);
            (self.taken, self.sent, self.again) = (0, 0, None);
        } else if upto > self.taken {
            self.taken = upto;
            self.sent = self.sent.max(upto);
            self.again = self.again.map(|(at, _)| (at, AGAIN));
        } else if upto == 0 {
            // The other end has begun anew.
            (self.taken, self.sent) = (0, 0);
        }
    }

    /// What is to be sent now, handed to `send` part by part.
    pub fn due(&mut self, now: Moment, mut send: impl FnMut(Part<'_>)) {
        let Some((kind, bytes)) = self.waiting.front() else { return };
        let mut wait = AGAIN;
        if let Some((at, before)) = self.again
            && at <= now
        {
            // Nothing was heard in time: from where the other end stands, and slower.
            self.sent = self.taken;
            wait = (before * 2).min(AGAIN_MOST);
        } else if let Some((_, before)) = self.again {
            wait = before;
        }
        let end = (self.taken + WINDOW * PART).min(bytes.len());
        let mut any = false;
        // An empty parcel has one part as well.
        while self.sent < end || (bytes.is_empty() && !any) {
            let part = &bytes[self.sent..(self.sent + PART).min(end)];
            let (total, offset) = (bytes.len() as u32, self.sent as u32);
            send(Part { number: self.number, kind: *kind, total, offset, bytes: part });
            self.sent += part.len();
            any = true;
            if bytes.is_empty() {
                break;
            }
        }
        if any || self.again.is_none_or(|(at, _)| at <= now) {
            self.again = Some((now.after(wait), wait));
        }
    }

    /// When [`Outbox::due`] has something, at the latest; `None`: nothing waits.
    #[must_use]
    pub fn deadline(&self, now: Moment) -> Option<Moment> {
        self.waiting.front().map(|_| self.again.map_or(now, |(at, _)| at))
    }
}

/// What is being received: one parcel, of no more bytes than are expected.
pub struct Inbox {
    most: usize,
    /// The last that was taken whole, with its length.
    done: Option<(u32, u32)>,
    number: u32,
    kind: u8,
    total: u32,
    bytes: Vec<u8>,
}

impl Inbox {
    /// Takes parcels of up to `most` bytes.
    #[must_use]
    pub fn new(most: usize) -> Self {
        Self { most, done: None, number: 0, kind: 0, total: 0, bytes: Vec::new() }
    }

    /// A part has arrived: a whole parcel with its kind, when it was the last one's missing part; and what the other end is told.
    pub fn part(&mut self, part: Part<'_>) -> (Option<(u8, Vec<u8>)>, Option<Taken>) {
        let number = part.number;
        if let Some((done, upto)) = self.done
            && done == number
        {
            return (None, Some(Taken { number, upto }));
        }
        let total = part.total as usize;
        if total > self.most {
            self.done = Some((number, UNWANTED));
            return (None, Some(Taken { number, upto: UNWANTED }));
        }
        if self.number != number {
            self.number = number;
            self.bytes.clear();
        }
        if self.bytes.is_empty() {
            (self.kind, self.total) = (part.kind, part.total);
        }
        let fits = part.total == self.total
            && part.kind == self.kind
            && part.offset as usize == self.bytes.len()
            && self.bytes.len() + part.bytes.len() <= total;
        if fits {
            self.bytes.extend_from_slice(part.bytes);
        }
        let upto = self.bytes.len() as u32;
        if fits && self.bytes.len() == total {
            self.done = Some((number, upto));
            return (Some((self.kind, std::mem::take(&mut self.bytes))), Some(Taken { number, upto }));
        }
        (None, Some(Taken { number, upto }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Carries parts and what is taken over a path that loses, repeats and reorders, until nothing waits.
    fn carry(outbox: &mut Outbox, inbox: &mut Inbox, fate: &mut dyn FnMut() -> u8) -> Vec<(u8, Vec<u8>)> {
        let (mut now, mut arrived) = (Moment(1), Vec::new());
        for _ in 0..3000 {
            let mut parts: Vec<(u32, u8, u32, u32, Vec<u8>)> = Vec::new();
            outbox.due(now, |part| {
                parts.push((part.number, part.kind, part.total, part.offset, part.bytes.to_vec()));
            });
            if fate().is_multiple_of(4) {
                parts.reverse();
            }
            for (number, kind, total, offset, bytes) in parts {
                for _ in 0..fate() % 3 {
                    let (whole, taken) = inbox.part(Part { number, kind, total, offset, bytes: &bytes });
                    arrived.extend(whole);
                    if !fate().is_multiple_of(3)
                        && let Some(taken) = taken
                    {
                        outbox.taken(taken);
                    }
                }
            }
            let Some(next) = outbox.deadline(now) else { break };
            now = Moment(next.0.max(now.0 + 1));
        }
        arrived
    }

    proptest! {
        #[test]
        fn parcels_arrive_whole_once_and_in_their_sequence(
            lengths in prop::collection::vec(0_usize..40_000, 1..5),
            seed in any::<u64>(),
        ) {
            let (mut outbox, mut inbox) = (Outbox::new(u32::MAX), Inbox::new(40_000));
            let parcels: Vec<(u8, Vec<u8>)> =
                lengths.iter().enumerate().map(|(at, length)| (at as u8, (0..*length).map(|byte| (byte * 7 + at) as u8).collect())).collect();
            for (kind, bytes) in &parcels {
                prop_assert!(outbox.push(*kind, bytes.clone().into()));
            }
            // Fate does not go in short circles: a path that loses the same part for ever carries nothing, whoever repeats it.
            let mut state = seed;
            let arrived = carry(&mut outbox, &mut inbox, &mut || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                (state >> 56) as u8
            });
            prop_assert_eq!(arrived, parcels);
            prop_assert!(outbox.is_empty());
        }

        #[test]
        fn whatever_arrives_nothing_grows_beyond_what_is_expected(
            parts in prop::collection::vec((any::<u32>(), any::<u8>(), 0_u32..5000, any::<u16>(), 0_usize..1100), 0..200),
        ) {
            let mut inbox = Inbox::new(3000);
            for (number, kind, total, offset, length) in parts {
                let bytes = vec![1; length];
                let part = Part { number: number % 4, kind, total, offset: u32::from(offset) % 3000, bytes: &bytes };
                if let (Some((_, whole)), _) = inbox.part(part) {
                    prop_assert!(whole.len() <= 3000);
                }
                prop_assert!(inbox.bytes.len() <= 3000);
            }
        }
    }

    #[test]
    fn what_is_too_long_is_not_wanted_and_the_next_one_comes() {
        let (mut outbox, mut inbox) = (Outbox::new(u32::MAX), Inbox::new(100));
        outbox.push(1, vec![0; 101].into());
        outbox.push(2, vec![5; 100].into());
        assert_eq!(carry(&mut outbox, &mut inbox, &mut || 1), [(2, vec![5; 100])]);
    }

    #[test]
    fn no_more_than_eight_wait() {
        let mut outbox = Outbox::new(u32::MAX);
        let taken = (0..20).filter(|_| outbox.push(1, vec![1].into())).count();
        assert_eq!(taken, MOST_WAITING);
    }
}
