//! What a tunnel on a device is asked, by commands on the same machine.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::questions;

questions! {
    /// Everything that a tunnel answers.
    Ask {
        Status -> Box<TunnelStatus>,
        Stop -> (),
        Echo -> EchoAnswer,
        LookUp -> Addresses,
        Answer -> (),
    }
}

/// How are you?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Status;

/// Stop, and take everything back.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Stop;

/// Who answers an ICMP echo towards this address, with this many hops to live?
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Echo {
    pub to: IpAddr,
    pub hops: u8,
}

/// Which addresses has this name, asked through the tunnel?
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LookUp {
    pub name: String,
}

/// What the person answers to what the gateway asks for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Answer {
    pub code: String,
}

/// Who answered, and after how long.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct EchoAnswer {
    pub from: Option<IpAddr>,
    pub millis: f64,
}

/// What a name leads to, and who said so.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Addresses {
    pub addresses: Vec<IpAddr>,
    pub resolver: IpAddr,
}

/// Where a tunnel stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TunnelState {
    Opening,
    Up,
    /// It is up, and the gateway has not answered for some seconds; soon it is lost, if nothing comes.
    Silent,
    /// The gateway is not heard any more; it is opened anew.
    Lost,
    /// Its process is gone, and what it blocked stays blocked: it was strict.
    Blocked,
}

impl TunnelState {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Opening => "opening",
            Self::Up => "up",
            Self::Silent => "silent",
            Self::Lost => "lost",
            Self::Blocked => "blocked",
        }
    }
}

/// A tunnel on this machine.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct TunnelStatus {
    pub name: String,
    pub state: TunnelState,
    pub holder: String,
    pub gateway: String,
    /// The way in use: address and port dialled, with what they resolved to.
    pub way: String,
    pub peer: Option<SocketAddr>,
    pub inner: Option<Ipv4Addr>,
    pub gateway_inner: Option<Ipv4Addr>,
    /// The same in IPv6, where the gateway gives it out.
    #[serde(default)]
    pub inner6: Option<Ipv6Addr>,
    #[serde(default)]
    pub gateway_inner6: Option<Ipv6Addr>,
    pub since: Option<Timestamp>,
    /// Bytes of inner packets, from here and to here.
    pub sent: u64,
    pub received: u64,
    pub last_answer: Option<Timestamp>,
    pub reach: Vec<IpNet>,
    pub resolvers: Vec<IpAddr>,
    /// Only names in these domains are asked of them; of all others where it is empty.
    #[serde(default)]
    pub domains: Vec<String>,
    pub packet_size: u16,
    /// The proxy's address, in a tunnel inside a process.
    pub proxy: Option<SocketAddr>,
    pub strict: bool,
    pub pid: u32,
    /// What the gateway asks for: nothing passes before it is answered.
    #[serde(default)]
    pub asks: Option<String>,
}

impl TunnelStatus {
    /// A tunnel of which nothing but this is known yet.
    #[must_use]
    pub fn new(name: &str, state: TunnelState, holder: &str) -> Self {
        Self {
            name: name.into(),
            state,
            holder: holder.into(),
            gateway: String::new(),
            way: String::new(),
            peer: None,
            inner: None,
            gateway_inner: None,
            inner6: None,
            gateway_inner6: None,
            since: None,
            sent: 0,
            received: 0,
            last_answer: None,
            reach: Vec::new(),
            resolvers: Vec::new(),
            domains: Vec::new(),
            packet_size: 0,
            proxy: None,
            strict: false,
            pid: 0,
            asks: None,
        }
    }
}
