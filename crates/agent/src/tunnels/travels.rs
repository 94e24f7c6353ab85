//! Reasons and settings of quill, as they travel and as everything else has them.

use std::net::IpAddr;

use ipnet::IpNet;
use yestrel_core::admission::Reason as Why;
use yestrel_core::tunnel::Settings as Given;
use yestrel_wire::quill::Reason;
use yestrel_wire::quill::message::Settings;

/// The reason as it travels.
pub(super) fn number(why: Why) -> Reason {
    match why {
        Why::Revoked => Reason::Revoked,
        Why::Expired => Reason::Expired,
        Why::NotYet => Reason::NotYet,
        Why::Suspended => Reason::Suspended,
        Why::Unknown | Why::Unproved => Reason::Unknown,
        Why::PoolFull => Reason::PoolFull,
        Why::Versions => Reason::Versions,
        Why::Silent => Reason::Silent,
        Why::Limit => Reason::Limit,
        Why::Shutdown | Why::AgentStopped => Reason::Shutdown,
        Why::Administrator => Reason::Administrator,
        Why::Replaced => Reason::Replaced,
        Why::Closed => Reason::Closed,
        Why::Policy => Reason::Policy,
        // The rest is said of other kinds of tunnel.
        Why::Algorithms
        | Why::Untrusted
        | Why::Name
        | Why::LockedOut
        | Why::Unfinished
        | Why::Unclaimed
        | Why::Other => Reason::Other,
    }
}

/// The reason as records have it.
pub(super) fn reason(number: Reason) -> Why {
    match number {
        Reason::Revoked => Why::Revoked,
        Reason::Expired => Why::Expired,
        Reason::NotYet => Why::NotYet,
        Reason::Suspended => Why::Suspended,
        Reason::Unknown => Why::Unknown,
        Reason::PoolFull => Why::PoolFull,
        Reason::Versions => Why::Versions,
        Reason::Silent => Why::Silent,
        Reason::Limit => Why::Limit,
        Reason::Shutdown => Why::Shutdown,
        Reason::Administrator => Why::Administrator,
        Reason::Replaced => Why::Replaced,
        Reason::Closed => Why::Closed,
        Reason::Policy => Why::Policy,
        Reason::Other => Why::Other,
    }
}

/// What a device is told, as it travels.
pub(super) fn settings(given: Given) -> Settings {
    Settings {
        edition: given.edition,
        inner: given.inner,
        gateway: given.gateway,
        second: given.second.map(|second| (second.inner.into(), second.gateway.into())),
        resolvers: given.resolvers,
        reach: given.reach,
        packet_size: given.packet_size,
        keep_alive: given.keep_alive,
        asks: given.asks,
    }
}

/// The device's inner addresses, each alone.
pub(super) fn inners(settings: &Settings) -> Vec<IpNet> {
    let second = settings.second.map(|(inner, _)| inner);
    std::iter::once(settings.inner).chain(second).map(|inner| IpNet::from(inner.addr())).collect()
}

/// What another gateway is told: it has no inner address here, and reaches nothing.
pub(super) fn of_a_peer() -> Settings {
    let none = IpAddr::V4(std::net::Ipv4Addr::UNSPECIFIED);
    Settings {
        edition: 0,
        inner: none.into(),
        gateway: none,
        second: None,
        resolvers: Vec::new(),
        reach: Vec::new(),
        packet_size: 1280,
        keep_alive: 15,
        asks: false,
    }
}
