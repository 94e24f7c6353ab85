//! What a gateway has of each device: openings that it has answered, the session, what it repeats of an end.

use std::net::SocketAddr;
use std::sync::Arc;

use super::door::OPENING_TAG;
use super::keys::First;
use super::lane::Lane;
use super::message::Settings;
use super::parcel::{Inbox, Outbox};
use super::second::{Ids, KEY, PART};
use super::{ConnectionId, Reason};
use crate::Moment;

/// Where the device is to hear of the second secret: where its key came from, in a datagram of this length.
pub(super) type Heard = (SocketAddr, usize);

pub(super) enum Second {
    /// Parts of the device's key.
    Parts(Box<[Option<[u8; PART]>; 2]>),
    /// The hands have it.
    Handed(Heard),
    /// The final keys are there.
    Done { lane: Arc<Lane>, ciphertext: Vec<u8> },
}

/// An answered opening.
pub(super) struct Answered {
    pub device_key: [u8; 32],
    pub tag: [u8; OPENING_TAG],
    /// It showed a token.
    pub proved: bool,
    /// Under a call secret that a newer one has replaced.
    pub stale: bool,
    pub answer: Vec<u8>,
    pub settings: Settings,
    pub software: String,
    /// The newest way notice that the device has taken.
    pub notice: u32,
    /// The session that it renews.
    pub renews: Option<u64>,
    /// Under its first keys.
    pub lane: Arc<Lane>,
    pub first: First,
}

/// An answered opening whose second secret is being agreed upon.
pub(super) struct Greeting {
    pub said: Answered,
    /// Under which id the device will receive under the final keys.
    pub device_id: Option<ConnectionId>,
    pub second: Second,
    /// Answers with the ciphertext since this moment.
    pub sent: (Moment, u8),
}

pub(super) struct Session {
    pub lane: Arc<Lane>,
    pub old: Option<Arc<Lane>>,
    pub settings: Settings,
    pub taken: u32,
    /// Where the device is, as far as events have said.
    pub at: SocketAddr,
    pub check: Option<(SocketAddr, [u8; 8], Moment)>,
    /// Path checks sent since this moment, to whatever addresses.
    pub checks: (Moment, u8),
    pub outbox: Outbox,
    pub inbox: Inbox,
}

#[derive(Default)]
pub(super) struct End {
    pub session: Option<Session>,
    /// By the ids of their first keys, the oldest first.
    pub greetings: Vec<ConnectionId>,
}

pub(super) struct Closing {
    pub reason: Reason,
    pub words: String,
    pub again: Moment,
}

/// Whose datagrams arrive under an id.
#[derive(Clone, Copy)]
pub(super) enum Owner {
    /// A greeting, under its first keys.
    First,
    /// This greeting, under its final keys.
    Final(ConnectionId),
    /// The session of this device.
    Session([u8; 32]),
}

/// A device's key for the second secret, for the hands of this listener.
pub struct Task {
    pub(super) greeting: ConnectionId,
    pub(super) first: First,
    pub(super) ids: Ids,
    pub(super) key: Box<[u8; KEY]>,
}

/// What becomes of an opening that was read.
pub(super) enum Judged {
    Again,
    Refused(Reason, String),
    Admitted { own: ConnectionId, settings: Settings, renews: Option<u64> },
}
