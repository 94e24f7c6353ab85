//! What the two ends of the shuttle say to each other. It protects nothing: it is there to show that a tunnel can be added.

use std::net::IpAddr;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use yestrel_core::admission::Reason;
use yestrel_core::tunnel::Settings;

/// The word for it.
pub const WORD: &str = "shuttle";
/// For experiments (RFC 3692): the protocol over which a device says that it hears the gateway.
pub const PROTOCOL: u8 = 253;

/// What is said at the front port, and over the protocol.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Message {
    /// At the front: an account signs in.
    Hello { name: String, password: String },
    /// At the front: go on over the protocol, then at this port.
    Go { session: u64, port: u16 },
    /// Over the protocol: here I am.
    Here { session: u64 },
    /// Over the protocol: then you are in.
    In { session: u64, settings: Given },
    /// At the front: no.
    Refused { reason: Reason, words: String },
    /// At the front, from either end: it is over.
    Over { session: u64, reason: Reason, words: String },
}

/// Settings as they travel.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Given {
    edition: u32,
    inner: IpNet,
    gateway: IpAddr,
    resolvers: Vec<IpAddr>,
    reach: Vec<IpNet>,
    packet_size: u16,
}

impl From<Settings> for Given {
    fn from(settings: Settings) -> Self {
        let Settings { edition, inner, gateway, second: _, resolvers, reach, packet_size, keep_alive: _, asks: _ } =
            settings;
        Self { edition, inner, gateway, resolvers, reach, packet_size }
    }
}

impl From<Given> for Settings {
    fn from(given: Given) -> Self {
        let Given { edition, inner, gateway, resolvers, reach, packet_size } = given;
        Self { edition, inner, gateway, second: None, resolvers, reach, packet_size, keep_alive: 0, asks: false }
    }
}

impl Message {
    /// As bytes.
    pub fn write(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap()
    }

    /// From bytes, if they are one.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        serde_json::from_slice(bytes).ok()
    }
}

/// An inner packet at the second port: the session's number, then the packet.
pub fn laid(session: u64, packet: &[u8], out: &mut Vec<u8>) {
    out.extend(session.to_be_bytes());
    out.extend(packet);
}

/// The session and the packet of what came at the second port.
pub fn taken(datagram: &[u8]) -> Option<(u64, &[u8])> {
    let (session, packet) = datagram.split_first_chunk::<8>()?;
    Some((u64::from_be_bytes(*session), packet))
}

/// A socket for the protocol, at this address.
pub fn raw(address: IpAddr) -> std::io::Result<socket2::Socket> {
    use socket2::{Domain, Protocol, Socket, Type};
    let socket = Socket::new(Domain::IPV4, Type::RAW, Some(Protocol::from(i32::from(PROTOCOL))))?;
    socket.bind(&std::net::SocketAddr::new(address, 0).into())?;
    socket.set_read_timeout(Some(std::time::Duration::from_millis(20)))?;
    Ok(socket)
}

/// What came over the protocol, and from whom; nothing within a moment.
pub fn received(socket: &socket2::Socket) -> Option<(IpAddr, Message)> {
    use std::io::Read as _;
    let mut bytes = [0; 2000];
    let length = (&mut &*socket).read(&mut bytes).ok()?;
    // A raw socket gives the packet with its header (RFC 791 section 3.1).
    let packet = &bytes[..length];
    let header = usize::from(packet.first()? & 0x0f) * 4;
    let source: [u8; 4] = packet.get(12..16)?.try_into().ok()?;
    Some((IpAddr::from(source), Message::read(packet.get(header..)?)?))
}
