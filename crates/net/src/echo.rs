//! An ICMP echo (RFC 792) by the system's own stack: who answers, and who is the first hop.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::time::Duration;

use etherparse::{IcmpEchoHeader, Icmpv4Header, Icmpv4Type, NetSlice, SlicedPacket, TransportSlice};

/// Sends an echo towards `to` with this many hops to live, and gives who answered and after how long.
#[must_use]
pub fn send(to: Ipv4Addr, hops: u8, patience: Duration) -> Option<(Ipv4Addr, Duration)> {
    let socket =
        socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::RAW, Some(socket2::Protocol::ICMPV4)).ok()?;
    socket.set_ttl_v4(u32::from(hops)).ok()?;
    let id = std::process::id() as u16;
    let payload = b"is it really going through?";
    let header =
        Icmpv4Header::with_checksum(Icmpv4Type::EchoRequest(IcmpEchoHeader { id, seq: u16::from(hops) }), payload);
    let packet = [&header.to_bytes()[..], payload].concat();
    let sent = std::time::Instant::now();
    socket.send_to(&packet, &SocketAddr::from((to, 0)).into()).ok()?;
    let mut buffer = [0_u8; 2048];
    while let Some(left) = patience.checked_sub(sent.elapsed()).filter(|left| !left.is_zero()) {
        socket.set_read_timeout(Some(left)).ok()?;
        let Ok(length) = io::Read::read(&mut &socket, &mut buffer) else { return None };
        let Ok(sliced) = SlicedPacket::from_ip(&buffer[..length]) else { continue };
        let Some(NetSlice::Ipv4(ip)) = &sliced.net else { continue };
        let Some(TransportSlice::Icmpv4(icmp)) = &sliced.transport else { continue };
        let ours = match icmp.icmp_type() {
            Icmpv4Type::EchoReply(echo) => echo.id == id && echo.seq == u16::from(hops),
            // RFC 792: the quoted packet ends with the first eight bytes of what was sent, with id and number.
            Icmpv4Type::TimeExceeded(_) => icmp.payload().get(24..28) == Some(&packet[4..8]),
            _ => false,
        };
        if ours {
            return Some((ip.header().source_addr(), sent.elapsed()));
        }
    }
    None
}
