//! Yestrel's own tunnel over UDP, specified byte by byte in `docs/talon.md`.
//!
//! | file | holds |
//! |---|---|
//! | `suite` | the two sets of algorithms and the protection of one datagram |
//! | `replay` | which packet numbers were seen |
//! | `frame` | what stands inside a protected datagram |
//! | `message` | what stands inside the two handshake messages |
//! | `handshake` | Noise IK, and the tag that keeps strangers out |
//! | `lane` | one pair of keys in use, shared by the threads that move packets |
//! | `device`, `gateway` | the two ends as state machines |

pub mod device;
pub mod frame;
pub mod gateway;
pub mod handshake;
pub mod lane;
pub mod message;
pub mod replay;
pub mod suite;

pub use suite::Suite;

/// The version of the protocol that this code speaks.
pub const VERSION: u16 = 1;

/// Chosen at random by whoever will receive datagrams under it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ConnectionId(pub [u8; 8]);

impl ConnectionId {
    /// The id that a datagram carries in its first eight bytes, if it is that long.
    #[must_use]
    pub fn of(datagram: &[u8]) -> Option<Self> {
        datagram.first_chunk::<8>().map(|bytes| Self(*bytes))
    }
}

/// A source of random bytes, handed in so that everything else can be repeated.
pub trait Random: Send {
    /// Fills `bytes`.
    fn fill(&mut self, bytes: &mut [u8]);
}

/// Eight random bytes.
pub(crate) fn eight(random: &mut dyn Random) -> [u8; 8] {
    let mut bytes = [0; 8];
    random.fill(&mut bytes);
    bytes
}

/// Why a device is not let in, or why its session ended. The number travels; the words are the
/// same on both ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum Reason {
    /// The credential was revoked.
    Revoked = 1,
    /// The credential's end date has passed.
    Expired = 2,
    /// The credential's first day has not come.
    NotYet = 3,
    /// The user is suspended.
    Suspended = 4,
    /// The gateway's order names no such credential.
    Unknown = 5,
    /// No inner address is left for this device.
    PoolFull = 6,
    /// The two ends have no version in common.
    Versions = 7,
    /// Nothing was heard for too long.
    Silent = 8,
    /// A limit of a policy was reached.
    Limit = 9,
    /// The gateway stops; it may come back.
    Shutdown = 10,
    /// An administrator ended the session.
    Administrator = 11,
    /// The same credential opened a newer session.
    Replaced = 12,
    /// The device closed the tunnel.
    Closed = 13,
    /// A reason that this version does not know.
    Other = 255,
}

impl Reason {
    /// The reason with this number; [`Reason::Other`] for a number of a later version.
    #[must_use]
    pub fn from_number(number: u8) -> Self {
        use Reason::*;
        [
            Revoked,
            Expired,
            NotYet,
            Suspended,
            Unknown,
            PoolFull,
            Versions,
            Silent,
            Limit,
            Shutdown,
            Administrator,
            Replaced,
            Closed,
        ]
        .into_iter()
        .find(|reason| *reason as u8 == number)
        .unwrap_or(Other)
    }

    /// One word for tables and records.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Revoked => "revoked",
            Self::Expired => "expired",
            Self::NotYet => "not-yet",
            Self::Suspended => "suspended",
            Self::Unknown => "unknown",
            Self::PoolFull => "pool-full",
            Self::Versions => "versions",
            Self::Silent => "silent",
            Self::Limit => "limit",
            Self::Shutdown => "shutdown",
            Self::Administrator => "ended",
            Self::Replaced => "replaced",
            Self::Closed => "closed",
            Self::Other => "other",
        }
    }

    /// A sentence for the person at the device.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Revoked => "this credential was revoked",
            Self::Expired => "this credential has expired",
            Self::NotYet => "this credential is not valid yet",
            Self::Suspended => "this user is suspended",
            Self::Unknown => "the gateway does not admit this credential",
            Self::PoolFull => "the gateway's pool has no address left for this device (pool full)",
            Self::Versions => "this program and the gateway have no protocol version in common",
            Self::Silent => "nothing was heard from the other end for too long",
            Self::Limit => "a limit set for this device was reached",
            Self::Shutdown => "the gateway was shut down",
            Self::Administrator => "an administrator ended the session",
            Self::Replaced => "the same credential was used to connect again, here or elsewhere",
            Self::Closed => "the device closed the tunnel",
            Self::Other => "a reason that this version does not know",
        }
    }

    /// Whether trying again by oneself can help.
    #[must_use]
    pub fn passes(self) -> bool {
        matches!(self, Self::Shutdown | Self::Silent)
    }
}
