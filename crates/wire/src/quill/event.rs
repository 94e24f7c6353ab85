//! What a gateway's end asks, and tells whoever drives it.

use std::net::SocketAddr;
use std::sync::Arc;

use super::lane::Lane;
use super::message::Settings;
use super::{ConnectionId, Reason};

/// Decides who comes in.
pub trait Doorkeeper {
    /// The settings for the device with this key that calls from there, or why it is refused; `continues` says that it has a session, which would go on.
    ///
    /// # Errors
    /// The reason, and what the device's person is told beside it; no words: the reason's own sentence is enough.
    fn admit(&self, device_key: &[u8; 32], from: SocketAddr, continues: bool) -> Result<Settings, (Reason, String)>;
}

/// What the caller is told.
#[derive(Debug)]
pub enum Event {
    /// Datagrams may arrive on this lane.
    LaneAdded(Arc<Lane>),
    /// Nothing arrives under this id any more.
    LaneRemoved(ConnectionId),
    /// A device came in; `stale` under a call secret that a newer one has replaced.
    Opened {
        device_key: [u8; 32],
        lane: Arc<Lane>,
        from: SocketAddr,
        software: String,
        settings: Settings,
        stale: bool,
        /// The newest way notice that it has taken; 0 for none.
        notice: u32,
    },
    /// Packets for the device go out on this lane from now on: its keys were renewed.
    Renewed { device_key: [u8; 32], lane: Arc<Lane>, from: SocketAddr, notice: u32 },
    /// The device proved a new address.
    Moved { device_key: [u8; 32], session: u64, to: SocketAddr },
    /// A session is over.
    Ended { device_key: [u8; 32], session: u64, reason: Reason, words: String },
    /// Something longer than a datagram has arrived whole.
    Parcel { device_key: [u8; 32], kind: u8, bytes: Vec<u8> },
    /// Somebody with a device key was refused.
    Refused { device_key: [u8; 32], from: SocketAddr, reason: Reason, words: String },
}
