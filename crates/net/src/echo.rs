//! An ICMP echo (RFC 792, RFC 4443) by the system's own stack: who answers, and who is the first hop.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use etherparse::{IcmpEchoHeader, Icmpv4Header, Icmpv4Type, NetSlice, SlicedPacket, TransportSlice};

/// Sends an echo towards `to` with this many hops to live, and gives who answered and after how long.
#[must_use]
pub fn send(to: IpAddr, hops: u8, patience: Duration) -> Option<(IpAddr, Duration)> {
    match to {
        IpAddr::V4(to) => send4(to, hops, patience).map(|(from, after)| (from.into(), after)),
        IpAddr::V6(to) => send6(to, hops, patience).map(|(from, after)| (from.into(), after)),
    }
}

/// Over a raw socket of ICMPv6 the system makes checksums and takes IP headers away (RFC 3542 section 3).
fn send6(to: Ipv6Addr, hops: u8, patience: Duration) -> Option<(Ipv6Addr, Duration)> {
    let socket =
        socket2::Socket::new(socket2::Domain::IPV6, socket2::Type::RAW, Some(socket2::Protocol::ICMPV6)).ok()?;
    socket.set_unicast_hops_v6(u32::from(hops)).ok()?;
    let id = (std::process::id() as u16).to_be_bytes();
    // Echo request, code 0, no checksum yet, id, number.
    let packet = [&[128, 0, 0, 0, id[0], id[1], 0, hops][..], b"is it really going through?"].concat();
    let sent = std::time::Instant::now();
    socket.send_to(&packet, &SocketAddr::from((to, 0)).into()).ok()?;
    // The standard library's type for datagrams says where each came from, whatever the protocol.
    let socket = std::net::UdpSocket::from(socket);
    let mut buffer = [0; 2048];
    while let Some(left) = patience.checked_sub(sent.elapsed()).filter(|left| !left.is_zero()) {
        socket.set_read_timeout(Some(left)).ok()?;
        let Ok((length, SocketAddr::V6(from))) = socket.recv_from(&mut buffer) else { return None };
        let answer = &buffer[..length];
        let ours = match answer.first() {
            Some(129) => answer.get(4..8) == packet.get(4..8),
            // Unreachable, time exceeded: behind 8 bytes the IPv6 header (40) and what was sent.
            Some(1 | 3) => answer.get(52..56) == packet.get(4..8),
            _ => false,
        };
        if ours {
            return Some((*from.ip(), sent.elapsed()));
        }
    }
    None
}

fn send4(to: Ipv4Addr, hops: u8, patience: Duration) -> Option<(Ipv4Addr, Duration)> {
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
