//! The keys that a handshake gives, in both of its steps.

use zeroize::Zeroizing;

use super::ConnectionId;
use super::suite::{OpenKey, SealKey, Suite};

/// Two keys, from the view of one end.
pub struct Split {
    /// Protects what this end sends.
    pub send: Zeroizing<[u8; 32]>,
    /// Opens what this end receives.
    pub receive: Zeroizing<[u8; 32]>,
}

impl Split {
    pub(crate) fn keys(&self, suite: Suite, own: ConnectionId, other: ConnectionId) -> (SealKey, OpenKey) {
        (SealKey::new(suite, &self.send, other), OpenKey::new(suite, &self.receive, own))
    }
}

/// The first keys, and what the handshake that made them said.
#[derive(Clone)]
pub struct First {
    /// From device to gateway.
    pub up: Zeroizing<[u8; 32]>,
    /// From gateway to device.
    pub down: Zeroizing<[u8; 32]>,
    /// Noise's hash of the whole handshake (Noise specification, section 11.2).
    pub hash: [u8; 32],
}

impl First {
    /// As the device's pair.
    #[must_use]
    pub fn of_device(&self) -> Split {
        Split { send: self.up.clone(), receive: self.down.clone() }
    }

    /// As the gateway's pair.
    #[must_use]
    pub fn of_gateway(&self) -> Split {
        Split { send: self.down.clone(), receive: self.up.clone() }
    }
}
