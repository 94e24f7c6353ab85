//! Why a device is not let in, and why a session ended, as numbers that travel.

/// Why a device is not let in, or why its session ended. The number travels; each end has its own words for it.
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

    /// Whether trying again by oneself can help.
    #[must_use]
    pub fn passes(self) -> bool {
        matches!(self, Self::Shutdown | Self::Silent)
    }
}
