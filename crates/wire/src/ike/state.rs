//! What the responder keeps of associations and sessions, what it asks whoever decides, and what it says has happened.

use std::collections::VecDeque;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;

use ipnet::IpNet;
use zeroize::Zeroizing;

use super::eap::{Conversation, Form, Peer, Talk};
use super::exchange::Exchange;
use super::message::{Head, Identity, Selector};
use super::sealed::{Parts, Sealed};
use super::suite::{Keys, Suite};
use crate::counters::Counters;
use crate::esp::pair::{Pair, Path};
use crate::{Moment, Random};

/// Why somebody is not let in, or why a session ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Reason {
    Revoked,
    Expired,
    NotYet,
    Suspended,
    /// Nobody that this gateway admits.
    Unknown,
    PoolFull,
    Limit,
    Shutdown,
    Administrator,
    Replaced,
    Closed,
    Silent,
    Other,
    /// No algorithms in common.
    Algorithms,
    /// What should show who somebody is does not.
    Proof,
    /// The password is wrong.
    Password,
    /// Too many wrong passwords.
    Locked,
    /// No authority of the estate signed the certificate, or it does not hold now.
    Untrusted,
    /// Another name was dialled than this gateway has.
    Name,
    /// It began and went silent: what it sent next did not arrive, or it did not trust this gateway.
    Unfinished,
    /// No policy admits it now, or one refuses it.
    Policy,
    /// No registry that the gateway can ask claims the name.
    Unclaimed,
}

/// That somebody is not let in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The credential, where it is known.
    pub credential: Option<[u8; 32]>,
    pub reason: Reason,
    pub words: String,
}

/// What a device is given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    pub inner: Ipv4Addr,
    pub inner6: Option<Ipv6Addr>,
    pub resolvers: Vec<IpAddr>,
    pub domains: Vec<String>,
    /// What it may reach, with the gateway's own inner addresses.
    pub reach: Vec<IpNet>,
    /// Seconds after which it is over, unless the device signs in again before (RFC 4478 section 3).
    pub lifetime: Option<u32>,
}

impl Settings {
    /// The device's own addresses.
    #[must_use]
    pub fn inners(&self) -> Vec<IpNet> {
        std::iter::once(IpNet::from(IpAddr::V4(self.inner)))
            .chain(self.inner6.map(|six| IpNet::from(IpAddr::V6(six))))
            .collect()
    }
}

/// Somebody may come in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Granted {
    /// By which the credential is known.
    pub credential: [u8; 32],
    pub settings: Settings,
}

/// What a device shows that has a certificate.
pub struct Shown<'a> {
    pub identity: &'a Identity,
    /// DER, its own first.
    pub certificates: &'a [Vec<u8>],
    /// The body of its AUTH payload (RFC 7296 section 3.8).
    pub proof: &'a [u8],
    /// What the proof is over (section 2.15).
    pub octets: &'a [u8],
}

/// Decides, signs, and knows secrets.
pub trait Keeper {
    /// The certificates that show who this gateway is: DER, its own first, without the root.
    fn certificates(&self) -> Vec<Vec<u8>>;

    /// Who the gateway says that it is, to somebody who asked for `asked`.
    ///
    /// # Errors
    /// It has no such name.
    fn identity(&self, asked: Option<&Identity>) -> Result<Identity, Refusal>;

    /// The body of an AUTH payload over `octets`, to somebody who takes digital signatures over these hashes, or none (RFC 7427). `None`:
    /// there is no way that the other end takes.
    fn prove(&self, octets: &[u8], hashes: &[u16]) -> Option<Vec<u8>>;

    /// SHA-1 of the public keys of the authorities whose certificates are taken (section 3.7), end to end.
    fn authorities(&self) -> Vec<u8>;

    /// Whether accounts come in here.
    fn takes_accounts(&self) -> bool;

    /// What answers a device's EAP in an association of this end by its SPI, and the first request; `None`: nobody comes in that way.
    fn talk(&self, _association: u64, random: &mut dyn Random) -> Option<(Box<dyn Talk>, Vec<u8>)> {
        if !self.takes_accounts() {
            return None;
        }
        let (talk, first) = Conversation::begin(random);
        Some((Box::new(talk), first))
    }

    /// Somebody shows a certificate.
    ///
    /// # Errors
    /// The refusal.
    fn certificate(&self, shown: &Shown<'_>, from: SocketAddr) -> Result<Granted, Refusal>;

    /// The form of an account's password.
    ///
    /// # Errors
    /// The refusal; the device hears the same as with a wrong password.
    fn account(&self, name: &str, from: SocketAddr) -> Result<Form, Refusal>;

    /// An account's password was right, or wrong.
    ///
    /// # Errors
    /// The refusal.
    fn signed_in(&self, name: &str, right: bool, from: SocketAddr) -> Result<Granted, Refusal>;
}

/// What has happened.
pub enum Event {
    /// From now on packets with this SPI are opened with this pair.
    PairAdded(Arc<Pair>),
    PairRemoved(u32),
    /// The SPI of an association that is up, and of one that is gone.
    Known(u64),
    Forgotten(u64),
    /// Somebody has come in; the pair carries their packets.
    Opened {
        session: u64,
        granted: Granted,
        from: SocketAddr,
        software: String,
        pair: Arc<Pair>,
    },
    /// Packets of a session go out with this pair from now on.
    Serves {
        session: u64,
        pair: Arc<Pair>,
    },
    Moved {
        session: u64,
        to: SocketAddr,
    },
    Ended {
        session: u64,
        credential: [u8; 32],
        reason: Reason,
        words: String,
    },
    Refused {
        from: SocketAddr,
        refusal: Refusal,
    },
    /// A call of this end came to nothing.
    Failed {
        call: u64,
        reason: Reason,
        words: String,
    },
}

/// Which of the two ports.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Door {
    /// 500: IKE alone.
    First,
    /// 4500: IKE behind a marker, and ESP (RFC 3948).
    Second,
}

/// A datagram that is to go out: without the marker.
pub struct Out {
    pub door: Door,
    pub to: SocketAddr,
    pub bytes: Vec<u8>,
}

/// What the first exchange left for the second.
pub(super) struct Greeting {
    /// Both messages as they travelled: signatures cover them.
    pub request: Vec<u8>,
    pub response: Vec<u8>,
    pub nonces: (Vec<u8>, Vec<u8>),
    /// That the device announces.
    pub hashes: Vec<u16>,
    pub software: String,
}

/// What a device has asked for in its first encrypted message.
pub(super) struct Asked {
    pub identity: Identity,
    pub own: Identity,
    /// The proposals, selectors and attributes, as they came.
    pub proposals: Vec<u8>,
    pub from: Vec<Selector>,
    pub to: Vec<Selector>,
    pub attributes: Vec<u16>,
    pub mobike: bool,
    /// Whether this gateway's proof was already sent.
    pub proved: bool,
}

/// Who calls: what they show, and whom they believe.
pub trait Caller: Send + Sync {
    /// Whom they want to reach; `None`: whoever answers.
    fn dialled(&self) -> Option<Identity>;

    /// Who they say that they are.
    fn identity(&self) -> Identity;

    /// Their certificates: DER, their own first.
    fn certificates(&self) -> Vec<Vec<u8>>;

    /// The body of an AUTH payload over `octets`, to somebody who takes digital signatures over these hashes. `None`: by the account.
    fn prove(&self, octets: &[u8], hashes: &[u16]) -> Option<Vec<u8>>;

    /// Their account, where they sign in with one.
    fn account(&self) -> Option<Peer>;

    /// Whether the other end is who they wanted.
    ///
    /// # Errors
    /// Why not.
    fn believes(&self, shown: &Shown<'_>) -> Result<(), String>;
}

/// A call.
#[derive(Clone)]
pub struct Call {
    /// Where the first message goes, and where everything after it does.
    pub first: SocketAddr,
    pub second: SocketAddr,
    /// For the association, a proposal each: the key goes along for the first.
    pub suites: Vec<Suite>,
    /// For packets, a proposal each.
    pub pair_suites: Vec<Suite>,
    /// What of a configuration is asked for.
    pub attributes: Vec<u16>,
    /// What it wants to reach.
    pub reach: Vec<Selector>,
    pub in_parts: bool,
    pub mobike: bool,
    pub who: Arc<dyn Caller>,
}

/// An opening that is not answered yet.
pub(super) struct Opening {
    pub call: Call,
    pub exchange: Exchange,
    pub nonce: Vec<u8>,
    pub message: Vec<u8>,
    pub turns: u8,
    pub tries: u32,
}

/// How far a call is that has keys.
pub(super) struct Calling {
    pub call: Call,
    pub greeting: Box<Greeting>,
    /// The SPI under which it will receive.
    pub spi: u32,
    /// Whom the other end has shown itself to be.
    pub other: Option<Identity>,
    pub talk: Option<Peer>,
    pub key: Option<Zeroizing<[u8; 64]>>,
}

/// How far an association is.
pub(super) enum Phase {
    /// The keys are there, and nobody has shown anything.
    Greeted(Box<Greeting>),
    /// EAP goes on.
    Talking {
        greeting: Box<Greeting>,
        asked: Box<Asked>,
        talk: Box<dyn Talk>,
        /// The question that waits for somebody else's answer: where it came from.
        waits: Option<(Door, SocketAddr, Head)>,
    },
    /// EAP has succeeded, and the device is to prove its key.
    Keyed { greeting: Box<Greeting>, asked: Box<Asked>, key: Zeroizing<[u8; 64]>, granted: Box<Granted> },
    /// This end calls, and is not in yet.
    Calling(Box<Calling>),
    /// It is a session's.
    Up(u64),
    /// It was refused, ended or replaced, and only answers.
    Over,
}

/// What this end has asked.
pub(super) enum Question {
    /// To be let in.
    SignIn,
    /// To say these bytes back, from where the device says that it is now (RFC 4555 section 3.7).
    Return([u8; 16]),
    Alive,
    /// The association is deleted with it.
    Goodbye,
    DeletePairs(Vec<u32>),
    RenewPair {
        before: u32,
        own: u32,
        nonce: Vec<u8>,
        exchange: Option<Exchange>,
    },
    RenewSelf {
        own: u64,
        nonce: Vec<u8>,
        exchange: Exchange,
    },
}

/// A request of this end that is not answered yet.
pub(super) struct Pending {
    pub number: u32,
    pub messages: Vec<Vec<u8>>,
    pub tries: u32,
    pub question: Question,
}

/// What is to be asked once nothing is pending.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Todo {
    Alive,
    Return,
    Goodbye,
    DeletePairs(Vec<u32>),
    RenewPair(u32),
    RenewSelf,
}

/// One association of IKE.
pub(super) struct Sa {
    pub own: u64,
    pub other: u64,
    /// Whether this end made it.
    pub made_here: bool,
    pub suite: Suite,
    pub keys: Keys,
    pub sealed: Sealed,
    pub phase: Phase,
    /// Whether messages may come in parts.
    pub in_parts: bool,
    pub parts: Parts,
    pub expected: u32,
    /// What the last request was answered with.
    pub answered: Vec<Vec<u8>>,
    pub next: u32,
    pub pending: Option<Pending>,
    pub todo: VecDeque<Todo>,
    pub path: Arc<Path>,
    /// Of the other end's renewal that came while this end's was under way: the lowest nonce, and what came of it.
    pub crossing: Option<Crossing>,
    /// Until when nothing is renewed in it: another association may still take its place.
    pub calm_until: Moment,
}

/// Two renewals of one thing that crossed (RFC 7296 sections 2.8.1 and 2.8.2).
pub(super) struct Crossing {
    /// Of what: the SPI of a pair, or of the association itself.
    pub of: u64,
    pub lowest: Vec<u8>,
}

impl Sa {
    /// The two SPIs as headers have them.
    pub fn spis(&self) -> (u64, u64) {
        if self.made_here { (self.own, self.other) } else { (self.other, self.own) }
    }

    /// An association in its place, with SPIs of its own here and at the other end: it has the same way and agreements, and what was still
    /// to be asked. `None` where the keys do not fit the suite.
    pub fn heir(&mut self, (own, other): (u64, u64), made_here: bool, suite: Suite, keys: Keys) -> Option<Self> {
        Some(Self {
            own,
            other,
            made_here,
            suite,
            sealed: Sealed::new(&suite, &keys, made_here)?,
            keys,
            phase: Phase::Over,
            in_parts: self.in_parts,
            parts: Parts::default(),
            expected: 0,
            answered: Vec::new(),
            next: 0,
            pending: None,
            todo: std::mem::take(&mut self.todo),
            path: self.path.clone(),
            crossing: None,
            calm_until: Moment(0),
        })
    }

    /// Its session.
    pub fn session(&self) -> Option<u64> {
        if let Phase::Up(session) = self.phase { Some(session) } else { None }
    }
}

/// A device that is in.
pub(super) struct Session {
    pub granted: Granted,
    /// The SPI of its association.
    pub sa: u64,
    /// The newest last.
    pub pairs: Vec<Held>,
    pub path: Arc<Path>,
    pub counters: Arc<Counters>,
    pub mobike: bool,
    /// What its packets go out with.
    pub serving: u32,
    /// This end called: what it was given is its own, and what it may reach the other end's.
    pub called: bool,
}

impl Session {
    /// What the other end speaks for, and what this one does.
    pub fn ends(&self) -> (Vec<Selector>, Vec<Selector>) {
        let settings = &self.granted.settings;
        let of = |ranges: &[IpNet]| ranges.iter().copied().map(Selector::of).collect();
        let (inners, reach) = (of(&settings.inners()), of(&settings.reach));
        if self.called { (reach, inners) } else { (inners, reach) }
    }
}

/// A pair and what it was agreed for.
#[derive(Clone)]
pub(super) struct Held {
    pub pair: Arc<Pair>,
    pub suite: Suite,
    pub from: Vec<Selector>,
    pub to: Vec<Selector>,
    /// It has been replaced, and stays until it is deleted.
    pub replaced: bool,
}
