//! An order in force, with what is looked up in it for each who comes in.

use std::collections::{HashMap, HashSet};
use std::net::Ipv4Addr;
use std::time::Instant;

use ipnet::IpNet;
use jiff::Timestamp;
use yestrel_core::admission::Roll;
use yestrel_core::keys::PublicKey;
use yestrel_core::order::{self, Admit, Amendment, Order, OrderListener, Renewal};
use yestrel_net::clock;

use crate::terms::Turn;

/// An order in force.
pub struct InForce {
    pub number: u64,
    pub hash: String,
    pub(crate) issued: Timestamp,
    pub roll: Roll,
    /// Addresses that were given with credentials, by listener: they are never leased.
    pub(crate) given: HashMap<String, HashSet<Ipv4Addr>>,
    /// Of all listeners.
    pub(crate) pools: Vec<IpNet>,
    /// The keys of the estate's other gateways.
    pub(crate) peers: HashSet<PublicKey>,
    /// What listeners are called by it that were called something else by the order before: a session may begin meanwhile.
    pub(crate) renamed: HashMap<String, String>,
    pub(crate) turn: Turn,
    /// Since when its list of policies is the one that it is.
    pub(crate) since: Instant,
}

impl InForce {
    /// Indexes an order.
    #[must_use]
    pub fn new(order: Order, hash: String) -> Self {
        let mut given: HashMap<String, HashSet<Ipv4Addr>> = HashMap::new();
        for (at, address) in order.content.admit.iter().filter_map(|admit| fixed(admit, &order.content.listeners)) {
            given.entry(at).or_default().insert(address);
        }
        let pools = order.content.listeners.iter().flat_map(|listener| listener.pools()).collect();
        let peers = order.content.peers.iter().map(|peer| peer.public_key).collect();
        let (number, issued) = (order.number, order.issued);
        let roll = Roll::new(order.content);
        let turn = Turn::new(&roll, clock::shown());
        Self { number, hash, issued, roll, given, pools, peers, renamed: HashMap::new(), turn, since: Instant::now() }
    }

    /// As this one, with listeners that were called something else until now: old and new names.
    #[must_use]
    pub fn with_renamed(self, renamed: HashMap<String, String>) -> Self {
        Self { renamed, ..self }
    }

    /// What a listener is called by this order.
    pub(crate) fn called<'a>(&'a self, listener: &'a str) -> &'a str {
        self.renamed.get(listener).map_or(listener, String::as_str)
    }

    /// As this one, amended.
    #[must_use]
    pub fn amended(&self, amendment: &Amendment, hash: String) -> Self {
        let roll = self.roll.amended(amendment);
        let mut given = self.given.clone();
        let listeners = &self.roll.settings().listeners;
        for device in &amendment.devices {
            for (at, address) in self.roll.of_device(device).filter_map(|admit| fixed(&admit, listeners)) {
                given.entry(at).or_default().remove(&address);
            }
        }
        for device in &amendment.devices {
            for (at, address) in roll.of_device(device).filter_map(|admit| fixed(&admit, listeners)) {
                given.entry(at).or_default().insert(address);
            }
        }
        Self {
            number: amendment.number,
            hash,
            issued: amendment.issued,
            roll,
            given,
            pools: self.pools.clone(),
            peers: self.peers.clone(),
            renamed: HashMap::new(),
            turn: self.turn.again(),
            since: self.since,
        }
    }

    /// Until when it holds, with the newest renewal.
    pub(crate) fn holds_until(&self, renewal: Option<&Renewal>) -> Option<(Timestamp, u32)> {
        let content = self.roll.settings();
        let until = |holds| (order::holds_until(&content.gateway, self.number, self.issued, holds, renewal), holds);
        content.holds.map(until)
    }
}

/// The address that was given with an entry, and at which listener: of one for the whole gateway, where its pool is.
fn fixed(admit: &Admit, listeners: &[OrderListener]) -> Option<(String, Ipv4Addr)> {
    let address = admit.address?;
    let of_all = || listeners.iter().find(|listener| listener.pool.contains(&address)).map(|one| one.name.clone());
    Some((admit.at.clone().or_else(of_all)?, address))
}
