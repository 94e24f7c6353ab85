//! What stands inside the two handshake messages and the settings frame: fields, one after another.
//!
//! Every field is `tag` (1 byte), `length` (2 bytes, big-endian) and a value. Tags that a version does
//! not know are passed over. A field that is not marked "may repeat" counts the first time it stands.

use std::net::IpAddr;

use ipnet::IpNet;

use super::{ConnectionId, Reason, words_of};

/// Why a message could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Malformed {
    #[error("a field is longer than its message")]
    Cut,
    #[error("a field's value has a length or content that its tag does not allow")]
    Value,
    #[error("a field that must be there is missing")]
    Missing,
}

/// The tag of zero bytes that hide a message's length, in openings and answers.
const PADDING: u8 = 0;

struct Fields<'a>(&'a [u8]);

impl<'a> Iterator for Fields<'a> {
    type Item = Result<(u8, &'a [u8]), Malformed>;

    fn next(&mut self) -> Option<Self::Item> {
        let bytes = std::mem::take(&mut self.0);
        let (tag, length, rest) = match bytes {
            [] => return None,
            [tag, high, low, rest @ ..] => (*tag, usize::from(u16::from_be_bytes([*high, *low])), rest),
            _ => return Some(Err(Malformed::Cut)),
        };
        let Some((value, rest)) = rest.split_at_checked(length) else {
            return Some(Err(Malformed::Cut));
        };
        self.0 = rest;
        Some(Ok((tag, value)))
    }
}

fn put(out: &mut Vec<u8>, tag: u8, value: &[u8]) {
    out.push(tag);
    out.extend_from_slice(&(value.len() as u16).to_be_bytes());
    out.extend_from_slice(value);
}

/// Makes a message `length` bytes long, with a field of zero bytes; as it is where not even the head of a field has room.
pub(super) fn pad_with_field(out: &mut Vec<u8>, length: usize) {
    if let Some(zeros) = length.checked_sub(out.len() + 3) {
        put(out, PADDING, &vec![0; zeros]);
    }
}

fn number16(value: &[u8]) -> Result<u16, Malformed> {
    value.try_into().map(u16::from_be_bytes).map_err(|_| Malformed::Value)
}

fn number32(value: &[u8]) -> Result<u32, Malformed> {
    value.try_into().map(u32::from_be_bytes).map_err(|_| Malformed::Value)
}

fn id(value: &[u8]) -> Result<ConnectionId, Malformed> {
    value.try_into().map(ConnectionId).map_err(|_| Malformed::Value)
}

fn text(value: &[u8]) -> Result<String, Malformed> {
    std::str::from_utf8(value).map(words_of).map_err(|_| Malformed::Value)
}

fn address(value: &[u8]) -> Result<IpAddr, Malformed> {
    if let Ok(four) = <[u8; 4]>::try_from(value) {
        Ok(IpAddr::from(four))
    } else {
        <[u8; 16]>::try_from(value).map(IpAddr::from).map_err(|_| Malformed::Value)
    }
}

fn address_bytes(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(four) => four.octets().to_vec(),
        IpAddr::V6(six) => six.octets().to_vec(),
    }
}

fn range(value: &[u8]) -> Result<IpNet, Malformed> {
    let (prefix, bytes) = value.split_last().ok_or(Malformed::Value)?;
    IpNet::new(address(bytes)?, *prefix).map_err(|_| Malformed::Value)
}

fn range_bytes(range: IpNet) -> Vec<u8> {
    let mut bytes = address_bytes(range.addr());
    bytes.push(range.prefix_len());
    bytes
}

/// What the device says in the first message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opening {
    /// Tag 1, may repeat: versions that the device speaks, best first.
    pub versions: Vec<u16>,
    /// Tag 2: the id under which the device wants to receive.
    pub id: ConnectionId,
    /// Tag 3: the program and its version, for the gateway's records.
    pub software: String,
    /// Tag 4: the gateway's id of the keys that these replace. Absent in a new session.
    pub continues: Option<ConnectionId>,
    /// Tag 5: the number of the newest way notice that the device has taken; 0 for none.
    pub notice: u32,
}

impl Opening {
    /// The bytes of the message.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(64);
        for version in &self.versions {
            put(&mut out, 1, &version.to_be_bytes());
        }
        put(&mut out, 2, &self.id.0);
        put(&mut out, 3, self.software.as_bytes());
        if let Some(old) = self.continues {
            put(&mut out, 4, &old.0);
        }
        if self.notice > 0 {
            put(&mut out, 5, &self.notice.to_be_bytes());
        }
        out
    }

    /// Reads the message.
    ///
    /// # Errors
    /// A cut field, a wrong value, or no connection id.
    pub fn parse(bytes: &[u8]) -> Result<Self, Malformed> {
        let (mut versions, mut own, mut software, mut continues) = (Vec::new(), None, None, None);
        let mut notice = None;
        for field in Fields(bytes) {
            match field? {
                (1, value) => versions.push(number16(value)?),
                (2, value) => own = own.or(Some(id(value)?)),
                (3, value) => software = software.or(Some(text(value)?)),
                (4, value) => continues = continues.or(Some(id(value)?)),
                (5, value) => notice = notice.or(Some(number32(value)?)),
                _ => {}
            }
        }
        let software = software.unwrap_or_default();
        let notice = notice.unwrap_or(0);
        Ok(Self { versions, id: own.ok_or(Malformed::Missing)?, software, continues, notice })
    }
}

/// What the gateway says in the second message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// The device may come in.
    Admitted {
        /// Tag 1: the version that both will speak.
        version: u16,
        /// Tag 2: the id under which the gateway wants to receive.
        id: ConnectionId,
        /// Tag 5: what the device puts into force.
        settings: Settings,
    },
    /// Tags 3 and 4: the device may not come in.
    Refused(Reason, String),
}

impl Answer {
    /// The bytes of the message.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut out = Vec::new();
        match self {
            Self::Admitted { version, id, settings } => {
                put(&mut out, 1, &version.to_be_bytes());
                put(&mut out, 2, &id.0);
                put(&mut out, 5, &settings.emit());
            }
            Self::Refused(reason, words) => {
                put(&mut out, 3, &[*reason as u8]);
                put(&mut out, 4, words.as_bytes());
            }
        }
        out
    }

    /// Reads the message.
    ///
    /// # Errors
    /// A cut field, a wrong value, or neither a reason nor all that an admission needs.
    pub fn parse(bytes: &[u8]) -> Result<Self, Malformed> {
        let (mut version, mut own, mut reason, mut words, mut settings) = (None, None, None, None, None);
        for field in Fields(bytes) {
            match field? {
                (1, value) => version = version.or(Some(number16(value)?)),
                (2, value) => own = own.or(Some(id(value)?)),
                (3, [number]) => reason = reason.or(Some(Reason::from_number(*number))),
                (3, _) => return Err(Malformed::Value),
                (4, value) => words = words.or(Some(text(value)?)),
                (5, value) => settings = settings.or(Some(Settings::parse(value)?)),
                _ => {}
            }
        }
        match (reason, version, own, settings) {
            (Some(reason), ..) => Ok(Self::Refused(reason, words.unwrap_or_default())),
            (None, Some(version), Some(id), Some(settings)) => Ok(Self::Admitted { version, id, settings }),
            _ => Err(Malformed::Missing),
        }
    }
}

/// The most resolvers that settings may name.
pub const MOST_RESOLVERS: usize = 16;
/// The most ranges that settings may name.
pub const MOST_RANGES: usize = 256;

/// What the gateway gives a device, at the beginning and whenever it changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// Tag 1: grows with every change.
    pub edition: u32,
    /// Tag 2: the device's inner address and the prefix length of the pool.
    pub inner: IpNet,
    /// Tag 3: the gateway's inner address.
    pub gateway: IpAddr,
    /// Tags 8 and 9, both or neither: the device's and the gateway's inner address of the other IP version.
    pub second: Option<(IpNet, IpAddr)>,
    /// Tag 4, may repeat: resolvers, best first.
    pub resolvers: Vec<IpAddr>,
    /// Tag 5, may repeat: what may be reached through the tunnel.
    pub reach: Vec<IpNet>,
    /// Tag 6: bytes of the largest inner packet, 576..=65,535.
    pub packet_size: u16,
    /// Tag 7: seconds between signs of life, 0 for none (RFC 3948 section 4 suggests 20).
    pub keep_alive: u16,
    /// Tag 10, of no length: a question comes, and nothing passes before it is answered.
    pub asks: bool,
}

impl Settings {
    /// Whether they are the same but for their edition, and for whether a question comes: that is told by itself.
    #[must_use]
    pub fn says_the_same(&self, other: &Self) -> bool {
        *self == Self { edition: self.edition, asks: self.asks, ..other.clone() }
    }

    /// The fields' bytes.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut out = Vec::new();
        put(&mut out, 1, &self.edition.to_be_bytes());
        put(&mut out, 2, &range_bytes(self.inner));
        put(&mut out, 3, &address_bytes(self.gateway));
        for resolver in &self.resolvers {
            put(&mut out, 4, &address_bytes(*resolver));
        }
        for reach in &self.reach {
            put(&mut out, 5, &range_bytes(*reach));
        }
        put(&mut out, 6, &self.packet_size.to_be_bytes());
        put(&mut out, 7, &self.keep_alive.to_be_bytes());
        if let Some((inner, gateway)) = self.second {
            put(&mut out, 8, &range_bytes(inner));
            put(&mut out, 9, &address_bytes(gateway));
        }
        if self.asks {
            put(&mut out, 10, &[]);
        }
        out
    }

    /// Reads the fields.
    ///
    /// # Errors
    /// A cut field, a wrong value, or no addresses; a packet size below 576.
    pub fn parse(bytes: &[u8]) -> Result<Self, Malformed> {
        let (mut edition, mut inner, mut gateway, mut packet_size, mut keep_alive) = (None, None, None, None, None);
        let (mut resolvers, mut reach) = (Vec::new(), Vec::new());
        let (mut inner2, mut gateway2, mut asks) = (None, None, false);
        for field in Fields(bytes) {
            match field? {
                (1, value) => edition = edition.or(Some(number32(value)?)),
                (2, value) => inner = inner.or(Some(range(value)?)),
                (3, value) => gateway = gateway.or(Some(address(value)?)),
                (4, value) => resolvers.push(address(value)?),
                (5, value) => reach.push(range(value)?),
                (6, value) => packet_size = packet_size.or(Some(number16(value)?)),
                (8, value) => inner2 = inner2.or(Some(range(value)?)),
                (9, value) => gateway2 = gateway2.or(Some(address(value)?)),
                (10, _) => asks = true,
                (7, value) => keep_alive = keep_alive.or(Some(number16(value)?)),
                _ => {}
            }
        }
        let packet_size = packet_size.unwrap_or(1280);
        if packet_size < 576 || resolvers.len() > MOST_RESOLVERS || reach.len() > MOST_RANGES {
            return Err(Malformed::Value);
        }
        Ok(Self {
            edition: edition.unwrap_or(0),
            inner: inner.ok_or(Malformed::Missing)?,
            gateway: gateway.ok_or(Malformed::Missing)?,
            second: match (inner2, gateway2) {
                (Some(inner), Some(gateway)) => Some((inner, gateway)),
                (None, None) => None,
                _ => return Err(Malformed::Missing),
            },
            resolvers,
            reach,
            packet_size,
            keep_alive: keep_alive.unwrap_or(0),
            asks,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_address() -> impl Strategy<Value = IpAddr> {
        prop_oneof![any::<[u8; 4]>().prop_map(IpAddr::from), any::<[u8; 16]>().prop_map(IpAddr::from)]
    }

    fn any_range() -> impl Strategy<Value = IpNet> {
        (any_address(), 0_u8..=32).prop_map(|(address, prefix)| IpNet::new(address, prefix).unwrap())
    }

    prop_compose! {
        fn any_settings()(
            edition: u32, inner in any_range(), gateway in any_address(),
            resolvers in prop::collection::vec(any_address(), 0..4),
            reach in prop::collection::vec(any_range(), 0..8),
            packet_size in 576_u16.., keep_alive: u16, asks: bool, second in prop::option::of((any_range(), any_address())),
        ) -> Settings {
            Settings { edition, inner, gateway, second, resolvers, reach, packet_size, keep_alive, asks }
        }
    }

    proptest! {
        #[test]
        fn settings_survive_the_way(settings in any_settings()) {
            prop_assert_eq!(Settings::parse(&settings.emit()), Ok(settings));
        }

        #[test]
        fn answers_survive_the_way(settings in any_settings(), version: u16, id: [u8; 8], reason in 1_u8..=13, words in "[ -~à-ÿ]{0,40}") {
            let admitted = Answer::Admitted { version, id: ConnectionId(id), settings };
            prop_assert_eq!(Answer::parse(&admitted.emit()), Ok(admitted));
            let refused = Answer::Refused(Reason::from_number(reason), words);
            prop_assert_eq!(Answer::parse(&refused.emit()), Ok(refused));
        }

        #[test]
        fn openings_survive_the_way(versions in prop::collection::vec(any::<u16>(), 0..5), own: [u8; 8], old: Option<[u8; 8]>, software in "[ -~]{0,30}", notice: u32, length in 0_usize..900) {
            let opening = Opening { versions, id: ConnectionId(own), software, continues: old.map(ConnectionId), notice };
            let mut bytes = opening.emit();
            pad_with_field(&mut bytes, length);
            prop_assert_eq!(Opening::parse(&bytes), Ok(opening));
        }

        #[test]
        fn no_bytes_make_a_parser_fail(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = Opening::parse(&bytes);
            let _ = Answer::parse(&bytes);
            let _ = Settings::parse(&bytes);
        }

        #[test]
        fn a_message_cut_short_is_not_read_as_the_whole(settings in any_settings(), cut in 1_usize..20) {
            let bytes = settings.emit();
            let shorter = &bytes[..bytes.len() - cut.min(bytes.len())];
            prop_assert_ne!(Settings::parse(shorter), Ok(settings));
        }
    }

    #[test]
    fn unknown_fields_are_passed_over() {
        let opening = Opening {
            versions: vec![1],
            id: ConnectionId(*b"device-1"),
            software: "x".into(),
            continues: None,
            notice: 0,
        };
        let mut bytes = vec![200, 0, 2, 9, 9];
        bytes.extend(opening.emit());
        assert_eq!(Opening::parse(&bytes), Ok(opening));
    }
}
