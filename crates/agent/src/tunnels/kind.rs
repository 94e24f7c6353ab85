//! What a kind of tunnel is to an agent: the trait of a kind, and that of a running listener.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use yestrel_core::admission::Reason;
use yestrel_core::firewall::Service;
use yestrel_core::keys::PublicKey;
use yestrel_core::order::OrderListener;
use yestrel_core::{Problem, Result};
use yestrel_host::folder::Identity;
use yestrel_net::packets::{Batch, Receiver, Udp};
use yestrel_net::plane::Plane;
use yestrel_net::seats::{Called, Seat};

use crate::admit::Shared;

/// What a listener stands on.
pub struct Ground {
    /// Who may come in, who is in, and where inner packets go.
    pub shared: Arc<Shared>,
    /// Who the gateway is, with its private key.
    pub identity: Identity,
    /// Listen on this address only.
    pub bind: Option<IpAddr>,
}

/// A thread of a listener.
///
/// # Errors
/// The system gives none.
pub(super) fn thread(name: &str, run: impl FnOnce() + Send + 'static) -> Result<()> {
    let spawned = std::thread::Builder::new().name(name.into()).spawn(run);
    spawned.map(drop).map_err(|error| Problem::failed("no thread for the listener").why(error.to_string()))
}

/// Takes what has arrived at a port, each datagram with its marks of congestion by `each`, and gives the plane the packets that came out of them. Returns in how many
/// pieces they came.
pub(super) fn inward(
    receiver: &mut Receiver,
    udp: &Udp,
    plane: Option<&Plane>,
    batch: &mut Batch,
    mut each: impl FnMut(SocketAddr, u8, &mut [u8], &mut Batch),
) -> usize {
    let received = receiver.receive_marked(udp, |from, mark, datagram| {
        each(from, mark, datagram, batch);
        if batch.is_full()
            && let Some(plane) = plane
        {
            plane.deliver(batch);
        }
    });
    if let Some(plane) = plane {
        plane.deliver(batch);
    }
    received
}

/// A kind of tunnel.
pub trait Kind: Send + Sync {
    /// The word for it, as orders name it.
    fn word(&self) -> &str;

    /// Opens everything that the listener serves and begins to serve. A port that one of `leaving` has, which are about to be
    /// closed, is taken over from it without a moment in which it is nobody's.
    ///
    /// # Errors
    /// A port is taken, or the order's settings are none of this kind; then nothing is open.
    fn open(&self, listener: &OrderListener, ground: &Ground, leaving: &[Arc<dyn Tunnel>]) -> Result<Arc<dyn Tunnel>>;
}

/// A running listener of some kind.
pub trait Tunnel: Send + Sync {
    /// What it is called, for itself and its sessions: `harbour/quill`.
    fn called(&self) -> &Called;

    /// Whether it can go on running under `listener`: what else differs is settings.
    fn serves(&self, listener: &OrderListener) -> bool;

    /// Where it takes what comes.
    fn services(&self) -> Vec<Service>;

    /// A new order is in force: connected devices get its settings.
    fn refresh(&self);

    /// Says something to the people at all devices here, where the kind can.
    fn say(&self, _words: &str) {}

    /// Asks the person at the device of a session of this listener for a second factor, where the kind can.
    fn ask(&self, _seat: &Seat, _question: &str) {}

    /// What the device of a session is told may be something else now. Kinds that cannot tell it later pass this over.
    fn tell(&self, _seat: &Seat) {}

    /// Says something to another gateway that is here, where the kind can.
    fn tell_peer(&self, _peer: &PublicKey, _bytes: &[u8]) {}

    /// Ends a session of this listener and tells the device why; whether it was up.
    fn end(&self, seat: &Seat, reason: Reason, words: &str) -> bool;

    /// Says goodbye to everybody and stops.
    fn close(&self);

    /// The same port once more, for a listener that takes it over; `None` where there is nothing to be lent.
    fn lend(&self, service: Service) -> Option<Udp>;
}
