//! How IKE messages are laid out (RFC 7296 section 3, RFC 7383 section 2.5): read strictly, borrowed from the datagram; written.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use thiserror::Error;

/// Bytes of the header.
pub const HEAD: usize = 28;
/// Bytes of a generic payload header.
pub const PAYLOAD_HEAD: usize = 4;
/// The version: major 2, minor 0.
pub const VERSION: u8 = 0x20;
/// Payloads in one message that are read.
const MOST_PAYLOADS: usize = 64;

/// Kinds of exchange (RFC 7296 section 3.1).
pub mod exchange {
    pub const INIT: u8 = 34;
    pub const AUTH: u8 = 35;
    pub const CREATE: u8 = 36;
    pub const INFO: u8 = 37;
}

/// Kinds of payload (RFC 7296 section 3.2, RFC 7383 section 2.5).
pub mod kind {
    pub const SA: u8 = 33;
    pub const KE: u8 = 34;
    pub const IDI: u8 = 35;
    pub const IDR: u8 = 36;
    pub const CERT: u8 = 37;
    pub const CERTREQ: u8 = 38;
    pub const AUTH: u8 = 39;
    pub const NONCE: u8 = 40;
    pub const NOTIFY: u8 = 41;
    pub const DELETE: u8 = 42;
    pub const VENDOR: u8 = 43;
    pub const TSI: u8 = 44;
    pub const TSR: u8 = 45;
    pub const SK: u8 = 46;
    pub const CP: u8 = 47;
    pub const EAP: u8 = 48;
    pub const SKF: u8 = 53;
}

/// Kinds of notification (RFC 7296 section 3.10.1, RFC 4555, RFC 7383, RFC 7427).
pub mod notify {
    pub const UNSUPPORTED_CRITICAL_PAYLOAD: u16 = 1;
    pub const INVALID_IKE_SPI: u16 = 4;
    pub const INVALID_SYNTAX: u16 = 7;
    pub const NO_PROPOSAL_CHOSEN: u16 = 14;
    pub const INVALID_KE_PAYLOAD: u16 = 17;
    pub const AUTHENTICATION_FAILED: u16 = 24;
    pub const NO_ADDITIONAL_SAS: u16 = 35;
    pub const INTERNAL_ADDRESS_FAILURE: u16 = 36;
    pub const FAILED_CP_REQUIRED: u16 = 37;
    pub const TS_UNACCEPTABLE: u16 = 38;
    pub const TEMPORARY_FAILURE: u16 = 43;
    pub const CHILD_SA_NOT_FOUND: u16 = 44;
    pub const INITIAL_CONTACT: u16 = 16384;
    pub const NAT_DETECTION_SOURCE_IP: u16 = 16388;
    pub const NAT_DETECTION_DESTINATION_IP: u16 = 16389;
    pub const COOKIE: u16 = 16390;
    pub const USE_TRANSPORT_MODE: u16 = 16391;
    pub const REKEY_SA: u16 = 16393;
    pub const MOBIKE_SUPPORTED: u16 = 16396;
    pub const UPDATE_SA_ADDRESSES: u16 = 16400;
    pub const COOKIE2: u16 = 16401;
    /// RFC 4478 section 3.
    pub const AUTH_LIFETIME: u16 = 16403;
    pub const FRAGMENTATION_SUPPORTED: u16 = 16430;
    pub const SIGNATURE_HASH_ALGORITHMS: u16 = 16431;
    /// Kinds below this one are errors.
    pub const FIRST_STATUS: u16 = 16384;
}

/// Protocols in proposals (RFC 7296 section 3.3.1).
pub const PROTOCOL_IKE: u8 = 1;
pub const PROTOCOL_ESP: u8 = 3;

/// The header's flags.
pub const FLAG_INITIATOR: u8 = 0x08;
pub const FLAG_RESPONSE: u8 = 0x20;

/// Why a message is not read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum Unread {
    #[error("it is too short, or a length in it is wrong")]
    Length,
    #[error("it is not of version 2")]
    Version,
    #[error("a payload that must be understood is not: {0}")]
    Critical(u8),
    #[error("a payload is not laid out as it must be")]
    Layout,
    #[error("there are too many payloads in it")]
    Many,
}

/// The header of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Head {
    pub initiator_spi: u64,
    pub responder_spi: u64,
    pub first: u8,
    pub exchange: u8,
    /// Whoever sends it made the association.
    pub from_initiator: bool,
    pub response: bool,
    pub number: u32,
}

fn be16(bytes: &[u8]) -> u16 {
    u16::from_be_bytes([bytes[0], bytes[1]])
}

fn be32(bytes: &[u8]) -> u32 {
    u32::from_be_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])
}

fn be64(bytes: &[u8]) -> u64 {
    (u64::from(be32(bytes)) << 32) | u64::from(be32(&bytes[4..]))
}

impl Head {
    /// Reads the header of a datagram that is one message and nothing else.
    ///
    /// # Errors
    /// [`Unread::Length`], [`Unread::Version`].
    pub fn read(datagram: &[u8]) -> Result<Self, Unread> {
        if datagram.len() < HEAD || be32(&datagram[24..]) as usize != datagram.len() {
            return Err(Unread::Length);
        }
        // A higher minor version is read as this one (section 2.5).
        if datagram[17] >> 4 != VERSION >> 4 {
            return Err(Unread::Version);
        }
        Ok(Self {
            initiator_spi: be64(datagram),
            responder_spi: be64(&datagram[8..]),
            first: datagram[16],
            exchange: datagram[18],
            from_initiator: datagram[19] & FLAG_INITIATOR != 0,
            response: datagram[19] & FLAG_RESPONSE != 0,
            number: be32(&datagram[20..]),
        })
    }

    /// Lays the header out, for a message of `length` bytes in all.
    #[must_use]
    pub fn emit(&self, length: usize) -> [u8; HEAD] {
        let mut out = [0; HEAD];
        out[..8].copy_from_slice(&self.initiator_spi.to_be_bytes());
        out[8..16].copy_from_slice(&self.responder_spi.to_be_bytes());
        let initiator = if self.from_initiator { FLAG_INITIATOR } else { 0 };
        let response = if self.response { FLAG_RESPONSE } else { 0 };
        out[16..20].copy_from_slice(&[self.first, VERSION, self.exchange, initiator | response]);
        out[20..24].copy_from_slice(&self.number.to_be_bytes());
        out[24..].copy_from_slice(&(length as u32).to_be_bytes());
        out
    }
}

/// One payload without its generic header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Payload<'a> {
    pub kind: u8,
    pub body: &'a [u8],
    /// Of an encrypted payload: the kind of the first payload inside.
    pub inside: u8,
}

/// Reads a chain of payloads whose first is of kind `first`. What is encrypted ends it. Unknown kinds that need not be understood are
/// passed over.
///
/// # Errors
/// [`Unread`].
pub fn payloads(first: u8, mut rest: &[u8]) -> Result<Vec<Payload<'_>>, Unread> {
    let (mut next, mut found) = (first, Vec::new());
    while next != 0 {
        if found.len() == MOST_PAYLOADS {
            return Err(Unread::Many);
        }
        if rest.len() < PAYLOAD_HEAD {
            return Err(Unread::Length);
        }
        let (following, critical, length) = (rest[0], rest[1] & 0x80 != 0, usize::from(be16(&rest[2..])));
        if length < PAYLOAD_HEAD || length > rest.len() {
            return Err(Unread::Length);
        }
        let known = (kind::SA..=kind::EAP).contains(&next) || next == kind::SKF;
        if critical && !known {
            return Err(Unread::Critical(next));
        }
        let body = &rest[PAYLOAD_HEAD..length];
        rest = &rest[length..];
        if matches!(next, kind::SK | kind::SKF) {
            if !rest.is_empty() {
                return Err(Unread::Length);
            }
            found.push(Payload { kind: next, body, inside: following });
            return Ok(found);
        }
        found.push(Payload { kind: next, body, inside: 0 });
        next = following;
    }
    if rest.is_empty() { Ok(found) } else { Err(Unread::Length) }
}

/// The body of the first payload of a kind.
#[must_use]
pub fn body<'a>(payloads: &[Payload<'a>], kind: u8) -> Option<&'a [u8]> {
    payloads.iter().find(|payload| payload.kind == kind).map(|payload| payload.body)
}

/// Payloads that are being written.
#[derive(Debug, Default, Clone)]
pub struct Chain {
    first: u8,
    /// Where the field stands that says the next payload's kind.
    next_at: Option<usize>,
    bytes: Vec<u8>,
}

impl Chain {
    /// Appends a payload.
    pub fn add(&mut self, kind: u8, body: &[u8]) {
        match self.next_at {
            Some(at) => self.bytes[at] = kind,
            None => self.first = kind,
        }
        self.next_at = Some(self.bytes.len());
        self.bytes.extend_from_slice(&[0, 0]);
        self.bytes.extend_from_slice(&((PAYLOAD_HEAD + body.len()) as u16).to_be_bytes());
        self.bytes.extend_from_slice(body);
    }

    /// Appends a notification about nothing in particular.
    pub fn notify(&mut self, what: u16, data: &[u8]) {
        self.notify_of(0, &[], what, data);
    }

    /// Appends a notification about an association.
    pub fn notify_of(&mut self, protocol: u8, spi: &[u8], what: u16, data: &[u8]) {
        let mut body = vec![protocol, spi.len() as u8];
        body.extend_from_slice(&what.to_be_bytes());
        body.extend_from_slice(spi);
        body.extend_from_slice(data);
        self.add(kind::NOTIFY, &body);
    }

    /// The kind of the first payload, and all of them.
    #[must_use]
    pub fn parts(&self) -> (u8, &[u8]) {
        (self.first, &self.bytes)
    }
}

/// A notification (section 3.10).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Notification<'a> {
    pub protocol: u8,
    pub spi: &'a [u8],
    pub what: u16,
    pub data: &'a [u8],
}

impl<'a> Notification<'a> {
    /// Reads it.
    ///
    /// # Errors
    /// [`Unread::Layout`].
    pub fn read(body: &'a [u8]) -> Result<Self, Unread> {
        if body.len() < 4 {
            return Err(Unread::Layout);
        }
        let size = usize::from(body[1]);
        let spi = body.get(4..4 + size).ok_or(Unread::Layout)?;
        Ok(Self { protocol: body[0], spi, what: be16(&body[2..]), data: &body[4 + size..] })
    }
}

/// A key of the exchange of keys (section 3.4): the group's number, and its bytes.
///
/// # Errors
/// [`Unread::Layout`].
pub fn key_exchange(body: &[u8]) -> Result<(u16, &[u8]), Unread> {
    if body.len() < 4 { Err(Unread::Layout) } else { Ok((be16(body), &body[4..])) }
}

/// Lays a key out.
#[must_use]
pub fn emit_key_exchange(group: u16, key: &[u8]) -> Vec<u8> {
    [&group.to_be_bytes()[..], &[0, 0], key].concat()
}

/// An identity (section 3.5): its type, and its bytes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Identity {
    pub kind: u8,
    pub data: Vec<u8>,
}

/// Types of identity (section 3.5).
pub mod id {
    pub const IPV4: u8 = 1;
    pub const FQDN: u8 = 2;
    pub const MAIL: u8 = 3;
    pub const IPV6: u8 = 5;
    /// A distinguished name in DER.
    pub const NAME: u8 = 9;
    pub const KEY: u8 = 11;
}

impl Identity {
    /// Reads it.
    ///
    /// # Errors
    /// [`Unread::Layout`].
    pub fn read(body: &[u8]) -> Result<Self, Unread> {
        if body.len() < 4 {
            return Err(Unread::Layout);
        }
        Ok(Self { kind: body[0], data: body[4..].to_vec() })
    }

    /// Lays it out: also what signatures and MACs cover.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        [&[self.kind, 0, 0, 0], &self.data[..]].concat()
    }
}

/// A range of addresses with any protocol and port, or with one (section 3.13.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Selector {
    pub protocol: u8,
    pub ports: (u16, u16),
    pub first: IpAddr,
    pub last: IpAddr,
}

impl Selector {
    /// Every protocol and port of a range.
    #[must_use]
    pub fn of(range: ipnet::IpNet) -> Self {
        Self { protocol: 0, ports: (0, u16::MAX), first: range.network(), last: range.broadcast() }
    }

    /// What both have; `None`: nothing.
    #[must_use]
    pub fn common(&self, other: &Self) -> Option<Self> {
        if self.first.is_ipv4() != other.first.is_ipv4() {
            return None;
        }
        let protocol = match (self.protocol, other.protocol) {
            (0, one) | (one, 0) => one,
            (one, same) if one == same => one,
            _ => return None,
        };
        let (first, last) = (self.first.max(other.first), self.last.min(other.last));
        let ports = (self.ports.0.max(other.ports.0), self.ports.1.min(other.ports.1));
        (first <= last && ports.0 <= ports.1).then_some(Self { protocol, ports, first, last })
    }
}

/// Selectors of a device that are read; more of them say nothing more.
const MOST_SELECTORS: usize = 64;

/// Reads selectors (section 3.13). Kinds that are not known are passed over.
///
/// # Errors
/// [`Unread::Layout`], [`Unread::Many`].
pub fn selectors(body: &[u8]) -> Result<Vec<Selector>, Unread> {
    if body.len() < 4 {
        return Err(Unread::Layout);
    }
    let (count, mut rest, mut found) = (usize::from(body[0]), &body[4..], Vec::new());
    if count > MOST_SELECTORS {
        return Err(Unread::Many);
    }
    for _ in 0..count {
        if rest.len() < 8 {
            return Err(Unread::Layout);
        }
        let length = usize::from(be16(&rest[2..]));
        let ends = rest.get(8..length).ok_or(Unread::Layout)?;
        let (first, last) = match (rest[0], ends.len()) {
            (7, 8) => (four(ends), four(&ends[4..])),
            (8, 32) => (six(ends), six(&ends[16..])),
            (7 | 8, _) => return Err(Unread::Layout),
            _ => {
                rest = &rest[length..];
                continue;
            }
        };
        found.push(Selector { protocol: rest[1], ports: (be16(&rest[4..]), be16(&rest[6..])), first, last });
        rest = &rest[length..];
    }
    if rest.is_empty() { Ok(found) } else { Err(Unread::Layout) }
}

fn four(bytes: &[u8]) -> IpAddr {
    Ipv4Addr::from(be32(bytes)).into()
}

fn six(bytes: &[u8]) -> IpAddr {
    Ipv6Addr::from((u128::from(be64(bytes)) << 64) | u128::from(be64(&bytes[8..]))).into()
}

fn octets(address: IpAddr, out: &mut Vec<u8>) {
    match address {
        IpAddr::V4(four) => out.extend_from_slice(&four.octets()),
        IpAddr::V6(six) => out.extend_from_slice(&six.octets()),
    }
}

/// Lays selectors out.
#[must_use]
pub fn emit_selectors(selectors: &[Selector]) -> Vec<u8> {
    let mut out = vec![selectors.len() as u8, 0, 0, 0];
    for one in selectors {
        let (kind, length) = if one.first.is_ipv4() { (7, 16_u16) } else { (8, 40) };
        out.extend_from_slice(&[kind, one.protocol]);
        out.extend_from_slice(&length.to_be_bytes());
        out.extend_from_slice(&one.ports.0.to_be_bytes());
        out.extend_from_slice(&one.ports.1.to_be_bytes());
        octets(one.first, &mut out);
        octets(one.last, &mut out);
    }
    out
}

/// Attributes of a configuration (section 3.15.1, RFC 8598).
pub mod attribute {
    pub const IPV4_ADDRESS: u16 = 1;
    pub const IPV4_NETMASK: u16 = 2;
    pub const IPV4_DNS: u16 = 3;
    pub const IPV6_ADDRESS: u16 = 8;
    pub const IPV6_DNS: u16 = 10;
    pub const DNS_DOMAIN: u16 = 25;
}

/// The attributes of a configuration payload of a type, in their order.
fn attributes(body: &[u8], kind: u8) -> Result<Vec<(u16, &[u8])>, Unread> {
    if body.len() < 4 || body[0] != kind {
        return Err(Unread::Layout);
    }
    let (mut rest, mut found) = (&body[4..], Vec::new());
    while !rest.is_empty() {
        if rest.len() < 4 {
            return Err(Unread::Layout);
        }
        let length = usize::from(be16(&rest[2..]));
        found.push((be16(rest) & 0x7fff, rest.get(4..4 + length).ok_or(Unread::Layout)?));
        rest = &rest[4 + length..];
    }
    Ok(found)
}

/// The attributes that a configuration request asks for (section 3.15).
///
/// # Errors
/// [`Unread::Layout`]; also for anything but a request.
pub fn asked_attributes(body: &[u8]) -> Result<Vec<u16>, Unread> {
    Ok(attributes(body, 1)?.into_iter().map(|(kind, _)| kind).collect())
}

/// The attributes of a configuration reply, with their values.
///
/// # Errors
/// [`Unread::Layout`]; also for anything but a reply.
pub fn given_attributes(body: &[u8]) -> Result<Vec<(u16, &[u8])>, Unread> {
    attributes(body, 2)
}

/// Lays out a configuration request for attributes without values.
#[must_use]
pub fn ask_attributes(wanted: &[u16]) -> Vec<u8> {
    let mut out = vec![1, 0, 0, 0];
    wanted.iter().for_each(|kind| out.extend([kind.to_be_bytes(), [0; 2]].concat()));
    out
}

/// Lays out a configuration reply.
#[must_use]
pub fn emit_attributes(attributes: &[(u16, Vec<u8>)]) -> Vec<u8> {
    let mut out = vec![2, 0, 0, 0];
    for (kind, value) in attributes {
        out.extend_from_slice(&kind.to_be_bytes());
        out.extend_from_slice(&(value.len() as u16).to_be_bytes());
        out.extend_from_slice(value);
    }
    out
}

/// What is to be deleted (section 3.11): the protocol, and the SPIs under which the sender receives.
///
/// # Errors
/// [`Unread::Layout`].
pub fn deleted(body: &[u8]) -> Result<(u8, Vec<u32>), Unread> {
    if body.len() < 4 {
        return Err(Unread::Layout);
    }
    let (protocol, size, count) = (body[0], usize::from(body[1]), usize::from(be16(&body[2..])));
    match (protocol, size) {
        (PROTOCOL_IKE, 0) if count == 0 && body.len() == 4 => Ok((protocol, Vec::new())),
        (PROTOCOL_ESP, 4) if body.len() == 4 + 4 * count => {
            Ok((protocol, body[4..].chunks_exact(4).map(be32).collect()))
        }
        _ => Err(Unread::Layout),
    }
}

/// Lays out a deletion of ESP associations; with none of them, of the association itself.
#[must_use]
pub fn emit_deleted(spis: &[u32]) -> Vec<u8> {
    if spis.is_empty() {
        return vec![PROTOCOL_IKE, 0, 0, 0];
    }
    let mut out = vec![PROTOCOL_ESP, 4];
    out.extend_from_slice(&(spis.len() as u16).to_be_bytes());
    spis.iter().for_each(|spi| out.extend_from_slice(&spi.to_be_bytes()));
    out
}

/// One transform of a proposal (section 3.3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Transform {
    pub kind: u8,
    pub number: u16,
    /// The key length in bits, where one is said.
    pub bits: Option<u16>,
}

/// Types of transform.
pub mod transform {
    pub const ENCR: u8 = 1;
    pub const PRF: u8 = 2;
    pub const INTEG: u8 = 3;
    pub const KE: u8 = 4;
    pub const ESN: u8 = 5;
}

/// One proposal (section 3.3.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposal {
    pub number: u8,
    pub protocol: u8,
    pub spi: Vec<u8>,
    pub transforms: Vec<Transform>,
}

/// Proposals and transforms that are read.
const MOST_PROPOSALS: usize = 64;
const MOST_TRANSFORMS: usize = 128;

/// Reads the proposals of an SA payload. A transform with an attribute that is not known stays out (section 3.3.6).
///
/// # Errors
/// [`Unread::Layout`], [`Unread::Many`].
pub fn proposals(mut rest: &[u8]) -> Result<Vec<Proposal>, Unread> {
    let mut found = Vec::new();
    loop {
        if found.len() == MOST_PROPOSALS {
            return Err(Unread::Many);
        }
        if rest.len() < 8 {
            return Err(Unread::Layout);
        }
        let (more, length, size) = (rest[0], usize::from(be16(&rest[2..])), usize::from(rest[6]));
        let body = rest.get(8..length).ok_or(Unread::Layout)?;
        if body.len() < size {
            return Err(Unread::Layout);
        }
        let (spi, transforms) = body.split_at(size);
        found.push(Proposal {
            number: rest[4],
            protocol: rest[5],
            spi: spi.to_vec(),
            transforms: read_transforms(usize::from(rest[7]), transforms)?,
        });
        rest = &rest[length..];
        match more {
            0 if rest.is_empty() => return Ok(found),
            2 if !rest.is_empty() => {}
            _ => return Err(Unread::Layout),
        }
    }
}

fn read_transforms(count: usize, mut rest: &[u8]) -> Result<Vec<Transform>, Unread> {
    if count > MOST_TRANSFORMS {
        return Err(Unread::Many);
    }
    let mut found = Vec::new();
    for at in 0..count {
        if rest.len() < 8 || rest[0] != if at + 1 == count { 0 } else { 3 } {
            return Err(Unread::Layout);
        }
        let length = usize::from(be16(&rest[2..]));
        let attributes = rest.get(8..length).ok_or(Unread::Layout)?;
        let (kind, number) = (rest[4], be16(&rest[6..]));
        match attributes {
            [] => found.push(Transform { kind, number, bits: None }),
            [0x80, 14, high, low] => {
                found.push(Transform { kind, number, bits: Some(u16::from_be_bytes([*high, *low])) });
            }
            _ => {}
        }
        rest = &rest[length..];
    }
    if rest.is_empty() { Ok(found) } else { Err(Unread::Layout) }
}

/// Lays proposals out as the body of an SA payload.
#[must_use]
pub fn emit_proposals(proposals: &[Proposal]) -> Vec<u8> {
    let mut out = Vec::new();
    for (at, one) in proposals.iter().enumerate() {
        let mut body = one.spi.clone();
        for (at, transform) in one.transforms.iter().enumerate() {
            let more = if at + 1 == one.transforms.len() { 0 } else { 3 };
            let length: u16 = if transform.bits.is_some() { 12 } else { 8 };
            body.extend_from_slice(&[more, 0]);
            body.extend_from_slice(&length.to_be_bytes());
            body.extend_from_slice(&[transform.kind, 0]);
            body.extend_from_slice(&transform.number.to_be_bytes());
            if let Some(bits) = transform.bits {
                body.extend_from_slice(&[0x80, 14]);
                body.extend_from_slice(&bits.to_be_bytes());
            }
        }
        out.extend_from_slice(&[if at + 1 == proposals.len() { 0 } else { 2 }, 0]);
        out.extend_from_slice(&((8 + body.len()) as u16).to_be_bytes());
        out.extend_from_slice(&[one.number, one.protocol, one.spi.len() as u8, one.transforms.len() as u8]);
        out.extend_from_slice(&body);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_chain_comes_back_and_what_must_be_understood_is_told_apart() {
        let mut chain = Chain::default();
        chain.add(kind::NONCE, &[7; 16]);
        chain.notify_of(PROTOCOL_ESP, &[1, 2, 3, 4], notify::REKEY_SA, b"x");
        let (first, bytes) = chain.parts();
        let read = payloads(first, bytes).unwrap();
        assert_eq!(read[0], Payload { kind: kind::NONCE, body: &[7; 16], inside: 0 });
        let said = Notification::read(read[1].body).unwrap();
        assert_eq!(
            (said.protocol, said.spi, said.what, said.data),
            (3, &[1, 2, 3, 4][..], notify::REKEY_SA, &b"x"[..])
        );
        assert_eq!(payloads(200, &[0, 0, 0, 4]).unwrap().len(), 1, "unknown, and of no consequence");
        assert_eq!(payloads(200, &[0, 0x80, 0, 4]), Err(Unread::Critical(200)));
        assert_eq!(payloads(kind::NONCE, &[0, 0, 0, 3]), Err(Unread::Length));
        assert_eq!(
            payloads(kind::SK, &[kind::IDI, 0, 0, 5, 9, 0]),
            Err(Unread::Length),
            "something after what is encrypted"
        );
    }

    #[test]
    fn selectors_have_in_common_what_both_let_through() {
        let of = |range: &str| Selector::of(range.parse().unwrap());
        let all = of("0.0.0.0/0");
        assert_eq!(all.common(&of("10.44.0.0/22")), Some(of("10.44.0.0/22")));
        assert_eq!(of("10.44.0.0/24").common(&of("10.44.1.0/24")), None);
        assert_eq!(all.common(&of("::/0")), None);
        let tcp = Selector { protocol: 6, ports: (443, 443), ..all };
        assert_eq!(
            tcp.common(&of("10.44.0.0/22")),
            Some(Selector { protocol: 6, ports: (443, 443), ..of("10.44.0.0/22") })
        );
        assert_eq!(tcp.common(&Selector { protocol: 17, ..all }), None);
        assert_eq!(
            selectors(&emit_selectors(&[tcp, of("fd01:203:405::/64")])).unwrap(),
            [tcp, of("fd01:203:405::/64")]
        );
    }

    fn transform() -> impl Strategy<Value = Transform> {
        (any::<u8>(), any::<u16>(), proptest::option::of(any::<u16>())).prop_map(|(kind, number, bits)| Transform {
            kind,
            number,
            bits,
        })
    }

    proptest! {
        #[test]
        fn proposals_come_back(all in proptest::collection::vec((any::<u8>(), any::<u8>(), proptest::collection::vec(any::<u8>(), 0..9), proptest::collection::vec(transform(), 0..9)), 1..6)) {
            let all: Vec<_> = all.into_iter().map(|(number, protocol, spi, transforms)| Proposal { number, protocol, spi, transforms }).collect();
            prop_assert_eq!(proposals(&emit_proposals(&all)).unwrap(), all);
        }

        #[test]
        fn whatever_comes_no_reader_fails_otherwise_than_by_its_error(bytes in proptest::collection::vec(any::<u8>(), 0..300), first in any::<u8>()) {
            let _ = Head::read(&bytes);
            let _ = payloads(first, &bytes);
            let _ = proposals(&bytes);
            let _ = selectors(&bytes);
            let _ = Notification::read(&bytes);
            let _ = deleted(&bytes);
            let _ = asked_attributes(&bytes);
            let _ = given_attributes(&bytes);
            let _ = Identity::read(&bytes);
            let _ = key_exchange(&bytes);
        }
    }
}
