//! The tunnel quill: its settings, and what a handover tells of it.

use std::net::IpAddr;

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::estate::SealedSecret;
use crate::keys::{PublicKey, Secret};
use crate::sealed::{self, Sealed};
use crate::{Problem, Result, moment};

/// The word for it.
pub const WORD: &str = "quill";

/// What protects datagrams.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Cipher {
    /// Fast where the processor has instructions for AES.
    #[serde(rename = "aes-256-gcm")]
    Aes256Gcm,
    /// RFC 8439; fast everywhere.
    #[serde(rename = "chacha20-poly1305")]
    ChaCha20Poly1305,
}

impl Cipher {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Aes256Gcm => "aes-256-gcm",
            Self::ChaCha20Poly1305 => "chacha20-poly1305",
        }
    }
}

impl std::fmt::Display for Cipher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

impl std::str::FromStr for Cipher {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        [Self::Aes256Gcm, Self::ChaCha20Poly1305].into_iter().find(|cipher| cipher.word() == text).ok_or_else(|| {
            Problem::words(format!("the quill tunnel has no cipher {text:?}"))
                .why("it has aes-256-gcm and chacha20-poly1305")
        })
    }
}

/// The most bytes of settings that a device is told: an answer is never longer than its opening, and must have room for them.
pub const MOST_SETTINGS: usize = 800;
/// The most resolvers that a device is told.
pub const MOST_RESOLVERS: usize = 16;

/// Whether devices can be told this much.
///
/// # Errors
/// Too many resolvers or ranges, with how many bytes they take.
pub fn fits(reach: &[IpNet], resolvers: &[IpAddr]) -> Result<()> {
    let address = |address: &IpAddr| if address.is_ipv4() { 4 } else { 16 };
    let ranges: usize = reach.iter().map(|range| 3 + 1 + address(&range.addr())).sum();
    let named: usize = resolvers.iter().map(|resolver| 3 + address(resolver)).sum();
    // Edition, both inner addresses with their gateways, packet size, keep-alive.
    let bytes = 7 + 8 + 7 + 20 + 19 + 5 + 5 + ranges + named;
    if bytes <= MOST_SETTINGS && resolvers.len() <= MOST_RESOLVERS {
        return Ok(());
    }
    let (count, room) = (reach.len(), MOST_SETTINGS);
    Err(Problem::refused(format!(
        "{count} ranges and {} resolvers are more than a device can be told",
        resolvers.len()
    ))
    .why(format!(
        "they take {bytes} bytes, and {room} fit into the gateway's answer, with at most {MOST_RESOLVERS} resolvers"
    ))
    .try_("fewer and wider ranges"))
}

/// The most call secrets of a listener that hold at once.
pub const MOST_CALLS: usize = 8;
/// Bytes of a call secret.
pub const CALL_LENGTH: usize = 32;

/// A call secret of a listener: whoever does not know it is not answered at all.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CallSecret {
    /// Counts up per listener, from 1.
    pub number: u32,
    /// For handovers; only the estate has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept: Option<SealedSecret>,
    /// For the agent of the listener's gateway alone.
    pub for_agent: Sealed,
    /// A newer one stands in its place; it still opens until then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}

impl CallSecret {
    /// A new one for a listener, sealed to its gateway's agent. `kept` is the same for the estate.
    ///
    /// # Errors
    /// The gateway's public key is damaged.
    pub fn new(listener: &str, number: u32, secret: &Secret, kept: SealedSecret, gateway: &PublicKey) -> Result<Self> {
        let for_agent = sealed::seal(gateway, &purpose(listener, number), secret)?;
        Ok(Self { number, kept: Some(kept), for_agent, until: None })
    }

    /// Opens it with the private key of the gateway.
    ///
    /// # Errors
    /// It is another gateway's, another listener's, or altered.
    pub fn open(&self, listener: &str, private: &Secret) -> Result<zeroize::Zeroizing<[u8; CALL_LENGTH]>> {
        self.for_agent.open(private, &purpose(listener, self.number))?.private_key()
    }
}

/// What a call secret is sealed for.
fn purpose(listener: &str, number: u32) -> String {
    format!("call {listener} {number}")
}

/// What a listener with this tunnel has of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Quill {
    pub cipher: Cipher,
    /// Call secrets that open, the newest first.
    #[serde(default)]
    pub calls: Vec<CallSecret>,
}

impl Quill {
    /// The cipher that suits a host's processor, and no call secret yet.
    #[must_use]
    pub fn for_host(fast_aes: bool) -> Self {
        Self { cipher: if fast_aes { Cipher::Aes256Gcm } else { Cipher::ChaCha20Poly1305 }, calls: Vec::new() }
    }

    /// As it stands in an order: without what only the estate has.
    #[must_use]
    pub fn in_order(&self) -> Self {
        let calls = self.calls.iter().map(|call| CallSecret { kept: None, ..call.clone() }).collect();
        Self { cipher: self.cipher, calls }
    }

    /// Puts a new call secret in front. Those of before open until `until`, or until their own end where that is sooner; what has ended by
    /// `now` is forgotten.
    ///
    /// # Errors
    /// [`MOST_CALLS`] of them would hold at once.
    pub fn renew(&mut self, new: CallSecret, until: Timestamp, now: Timestamp) -> Result<()> {
        let ends = |before: &CallSecret| before.until.map_or(until, |own| own.min(until));
        self.calls.iter_mut().for_each(|before| before.until = Some(ends(before)));
        self.calls.retain(|before| before.until.is_none_or(|until| until > now));
        self.calls.insert(0, new);
        if self.calls.len() > MOST_CALLS {
            return Err(Problem::refused(format!("{MOST_CALLS} call secrets hold already"))
                .why("each is tried for whatever arrives")
                .try_("yestrel listener renew --overlap with a time that ends the oldest"));
        }
        Ok(())
    }

    /// Which call secrets open, in words.
    #[must_use]
    pub fn calls_in_words(&self) -> String {
        let one = |call: &CallSecret| match call.until {
            None => format!("number {}", call.number),
            Some(until) => format!("number {} until {}", call.number, moment(until)),
        };
        if self.calls.is_empty() { "-".into() } else { self.calls.iter().map(one).collect::<Vec<_>>().join(", ") }
    }
}

/// What a handover tells of a way in by this tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct QuillWay {
    pub cipher: Cipher,
    /// The gateway's public X25519 key.
    pub server_key: PublicKey,
    /// The listener's call secret.
    pub call_secret: Secret,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample;

    fn call(number: u32) -> CallSecret {
        let secret = Secret::new(vec![9; CALL_LENGTH]);
        let kept = SealedSecret("for the estate".into());
        CallSecret::new("harbour/quill", number, &secret, kept, &sample::gateway_pair().public).unwrap()
    }

    #[test]
    fn an_order_holds_a_call_secret_for_its_agent_alone_and_for_its_listener_and_number() {
        let (own, other) = (sample::gateway_pair(), crate::keys::KeyPair::from_random([9; 32]));
        let quill = Quill { calls: vec![call(2)], ..Quill::for_host(true) }.in_order();
        assert!(!serde_json::to_string(&quill).unwrap().contains("estate"), "what only the estate has stays there");
        assert_eq!(*quill.calls[0].open("harbour/quill", &own.private).unwrap(), [9; CALL_LENGTH]);
        assert!(quill.calls[0].open("harbour/quill", &other.private).is_err());
        assert!(quill.calls[0].open("harbour/second", &own.private).is_err());
        assert!(CallSecret { number: 3, ..quill.calls[0].clone() }.open("harbour/quill", &own.private).is_err());
    }

    #[test]
    fn what_a_device_is_told_fits_into_an_answer() {
        let ranges = |count: u8| (0..count).map(|n| IpNet::new([10, n, 0, 0].into(), 16).unwrap()).collect::<Vec<_>>();
        let resolvers = |count: u8| (0..count).map(|n| IpAddr::from([10, 44, 0, n])).collect::<Vec<_>>();
        assert!(fits(&ranges(80), &resolvers(2)).is_ok());
        assert!(fits(&ranges(100), &resolvers(2)).unwrap_err().why.unwrap().contains("885 bytes"));
        assert!(fits(&ranges(1), &resolvers(17)).is_err());
    }

    #[test]
    fn a_renewed_call_secret_leaves_those_before_until_their_ends() {
        let mut quill = Quill { calls: vec![call(1)], ..Quill::for_host(true) };
        let now = sample::at();
        let days = |days: i64| now + jiff::SignedDuration::from_hours(24 * days);
        let have = |quill: &Quill| quill.calls.iter().map(|call| (call.number, call.until)).collect::<Vec<_>>();
        quill.renew(call(2), days(30), now).unwrap();
        // What was promised to handovers of the first holds, whatever the second is given.
        quill.renew(call(3), days(60), days(1)).unwrap();
        assert_eq!(have(&quill), [(3, None), (2, Some(days(60))), (1, Some(days(30)))]);
        assert_eq!(quill.calls_in_words().matches("until").count(), 2);
        // A shorter overlap ends them sooner, and none ends them all.
        quill.renew(call(4), days(10), days(2)).unwrap();
        assert_eq!(have(&quill), [(4, None), (3, Some(days(10))), (2, Some(days(10))), (1, Some(days(10)))]);
        quill.renew(call(5), days(3), days(3)).unwrap();
        assert_eq!(have(&quill), [(5, None)]);
        let refused = (6..20).find(|number| quill.renew(call(*number), days(90), now).is_err());
        assert_eq!(refused, Some(5 + MOST_CALLS as u32));
    }
}
