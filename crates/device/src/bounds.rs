//! Which inner packets pass, in either direction.

use std::net::IpAddr;

use ipnet::IpNet;
use yestrel_net::packets::ends;

/// The device's own inner addresses, the gateway's, and what goes into the tunnel.
#[derive(Debug, Clone)]
pub(crate) struct Bounds {
    pub own: Vec<IpAddr>,
    pub gateways: Vec<IpAddr>,
    pub reach: Vec<IpNet>,
}

impl Bounds {
    /// Whether a packet of the system's may go into the tunnel.
    pub fn lets_out(&self, packet: &[u8]) -> bool {
        ends(packet).is_some_and(|(source, destination)| self.own.contains(&source) && self.beyond(destination))
    }

    /// Whether a packet of the gateway's may come out of it.
    pub fn lets_in(&self, packet: &[u8]) -> bool {
        ends(packet).is_some_and(|(source, destination)| self.own.contains(&destination) && self.beyond(source))
    }

    fn beyond(&self, address: IpAddr) -> bool {
        self.gateways.contains(&address) || self.reach.iter().any(|range| range.contains(&address))
    }
}
