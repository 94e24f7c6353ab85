//! What a kind of tunnel is to a device: the trait of a kind, that of a way in, and what happens on one.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use yestrel_core::Result;
use yestrel_core::admission::Reason;
use yestrel_core::firewall::Service;
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_core::tunnel::Settings;
use yestrel_net::seats::Carrier;
use yestrel_wire::counters::Counters;

/// From where to where a way is tried.
#[derive(Debug, Clone)]
pub struct Ground {
    /// One of the addresses that the dialled name has, with the port.
    pub peer: SocketAddr,
    /// The address of this machine to come from; any without.
    pub source: Option<IpAddr>,
    /// Program and version, as gateways record it.
    pub software: &'static str,
}

/// What happened on a way.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// The gateway admitted the device and showed that it is the gateway.
    Up(Settings),
    /// Settings changed in a running session.
    Changed(Settings),
    /// The gateway has something to say to the person at the device.
    Words(String),
    /// The gateway asks the person for something, and nothing passes before it is answered; without words: that was right.
    Question(String),
    /// The gateway brought a way notice, as it was sealed.
    Notice(Vec<u8>),
    /// The gateway is not heard any more; the way opens anew by itself.
    Lost,
    /// The gateway refused.
    Refused(Reason, String),
    /// The session ended.
    Ended(Reason, String),
}

/// A kind of tunnel.
pub trait Kind: Send + Sync {
    /// The word for it, as handovers name it.
    fn word(&self) -> &str;

    /// What carries the tunnel to the gateway: it must pass beside the tunnel.
    fn dials(&self, way: &HandoverWay) -> Vec<Service>;

    /// Begins to come in by a way, with what the handover holds for it.
    ///
    /// # Errors
    /// The handover does not hold what this kind needs, or the system gives no socket.
    fn open(&self, way: &HandoverWay, handover: &Handover, ground: &Ground) -> Result<Arc<dyn Way>>;
}

/// A way that is being tried, or that is up.
pub trait Way: Send + Sync {
    /// Waits for what arrives, at most `wait`; gives inner packets to `inside`, which says whether it took each; does what is
    /// due, and says what happened.
    fn step(&self, wait: Duration, inside: &mut dyn FnMut(&[u8]) -> bool) -> Vec<Event>;

    /// How inner packets get to the gateway, once the way is up.
    fn carrier(&self) -> Option<Arc<dyn Carrier>>;

    /// What happened in the session, once there is one.
    fn counters(&self) -> Option<Arc<Counters>>;

    /// The device has taken the way notice with this number: the gateway may know.
    fn noticed(&self, _number: u32) {}

    /// What the person answers to what the gateway asked; whether it is on its way.
    fn answer(&self, _code: &str) -> bool {
        false
    }

    /// Says goodbye and stops.
    fn close(&self);
}
