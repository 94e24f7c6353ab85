//! Noise IK (Noise specification, revision 34, section 7.5), and the tag that keeps strangers out.
//!
//! An opening is `tag` (8 bytes) and Noise's first message. The tag is the beginning of an HMAC-SHA256 over that
//! message under a key that is made from the gateway's public key, so that the gateway can drop what comes
//! from somebody without that key before it does any curve operation, and says nothing to them.
//!
//! Replaying an opening gains nothing: the gateway's answer uses fresh keys, and nothing changes
//! until the device proves that it has them. No clock is involved.

use ring::{digest, hmac};
use snow::{Builder, HandshakeState};
use zeroize::Zeroizing;

use super::ConnectionId;
use super::message::{Answer, Opening};
use super::suite::{OpenKey, SealKey, Suite};
use crate::Random;

const PROLOGUE: &[u8] = b"yestrel quill 1";
/// Bytes that Noise adds to the payload of the first message: an ephemeral key, an encrypted static key, two tags.
const FIRST_OVERHEAD: usize = 32 + 32 + 16 + 16;
/// Openings are padded to a random length in this range; answers are never longer than their opening.
const OPENING_LENGTHS: std::ops::Range<usize> = 900..1200;
/// No handshake datagram is longer.
pub const LONGEST: usize = 1232;

/// Why a handshake message was not taken. Never answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Dropped {
    #[error("the length is not that of a handshake message")]
    Length,
    #[error("made without knowledge of the gateway's public key")]
    Stranger,
    #[error("the cryptography does not verify")]
    Forged,
    #[error("a public key with which every secret is the same")]
    LowOrder,
    #[error("the payload cannot be read: {0}")]
    Payload(#[from] super::message::Malformed),
}

/// The two keys of a finished handshake, from the view of one end.
pub struct Split {
    /// Protects what this end sends.
    pub send: Zeroizing<[u8; 32]>,
    /// Opens what this end receives.
    pub receive: Zeroizing<[u8; 32]>,
}

impl Split {
    pub(crate) fn keys(&self, suite: Suite, own: ConnectionId, other: ConnectionId) -> (SealKey, OpenKey) {
        (SealKey::new(suite, &self.send, other), OpenKey::new(suite, &self.receive, own))
    }
}

/// Makes and checks the tags of openings towards one gateway.
#[derive(Clone)]
pub struct OpeningKey(hmac::Key);

impl OpeningKey {
    /// From the gateway's public key.
    #[must_use]
    pub fn new(gateway_public: &[u8; 32]) -> Self {
        let mut context = digest::Context::new(&digest::SHA256);
        context.update(b"yestrel quill 1 opening");
        context.update(gateway_public);
        Self(hmac::Key::new(hmac::HMAC_SHA256, context.finish().as_ref()))
    }

    fn tag(&self, message: &[u8]) -> [u8; 8] {
        let full = hmac::sign(&self.0, message);
        *full.as_ref().first_chunk().expect("HMAC-SHA256 gives 32 bytes")
    }

    /// Whether `datagram` begins with the tag of the rest. Costs one hash.
    #[must_use]
    pub fn matches(&self, datagram: &[u8]) -> bool {
        datagram.split_first_chunk::<8>().is_some_and(|(tag, message)| {
            // The tag is no secret between the two; a constant-time comparison costs nothing all the same.
            self.tag(message).iter().zip(tag).fold(0, |differs, (a, b)| differs | (a ^ b)) == 0
        })
    }
}

/// The points of low order on Curve25519 and on its twist, as they can be written in 32 bytes with the highest bit clear: with each
/// of them every Diffie-Hellman result is zero (RFC 7748 section 6.1).
const LOW_ORDER: [[u8; 32]; 7] = [
    [0; 32],
    little_endian(1),
    [
        0xe0, 0xeb, 0x7a, 0x7c, 0x3b, 0x41, 0xb8, 0xae, 0x16, 0x56, 0xe3, 0xfa, 0xf1, 0x9f, 0xc4, 0x6a, 0xda, 0x09,
        0x8d, 0xeb, 0x9c, 0x32, 0xb1, 0xfd, 0x86, 0x62, 0x05, 0x16, 0x5f, 0x49, 0xb8, 0x00,
    ],
    [
        0x5f, 0x9c, 0x95, 0xbc, 0xa3, 0x50, 0x8c, 0x24, 0xb1, 0xd0, 0xb1, 0x55, 0x9c, 0x83, 0xef, 0x5b, 0x04, 0x44,
        0x5c, 0xc4, 0x58, 0x1c, 0x8e, 0x86, 0xd8, 0x22, 0x4e, 0xdd, 0xd0, 0x9f, 0x11, 0x57,
    ],
    near_the_prime(0xec),
    near_the_prime(0xed),
    near_the_prime(0xee),
];

/// A small number as 32 bytes.
const fn little_endian(number: u8) -> [u8; 32] {
    let mut bytes = [0; 32];
    bytes[0] = number;
    bytes
}

/// 2^255 - 19 is `near_the_prime(0xed)`.
const fn near_the_prime(lowest: u8) -> [u8; 32] {
    let mut bytes = [0xff; 32];
    bytes[0] = lowest;
    bytes[31] = 0x7f;
    bytes
}

/// Refuses a public key with which every Diffie-Hellman result is zero: whoever sends one shows no private key.
fn check_order(public: Option<&[u8]>) -> Result<(), Dropped> {
    let mut bytes: [u8; 32] = public.and_then(|bytes| bytes.try_into().ok()).ok_or(Dropped::Length)?;
    // The highest bit is not looked at by the curve (RFC 7748 section 5).
    bytes[31] &= 0x7f;
    if LOW_ORDER.contains(&bytes) { Err(Dropped::LowOrder) } else { Ok(()) }
}

fn builder<'a>(suite: Suite, private: &'a [u8; 32]) -> Builder<'a> {
    let params = suite.noise().parse().expect("both names are Noise names");
    Builder::new(params)
        .prologue(PROLOGUE)
        .and_then(|builder| builder.local_private_key(private))
        .expect("each is set once")
}

/// An opening that waits for its answer.
pub struct Sent {
    noise: HandshakeState,
    suite: Suite,
    /// Under which id the answer comes.
    pub id: ConnectionId,
}

/// Makes an opening. The length is drawn from `random`.
#[must_use]
pub fn open(
    suite: Suite,
    device_private: &[u8; 32],
    gateway_public: &[u8; 32],
    opening: Opening,
    random: &mut dyn Random,
) -> (Sent, Vec<u8>) {
    let noise = builder(suite, device_private)
        .remote_public_key(gateway_public)
        .and_then(Builder::build_initiator)
        .expect("all keys that IK needs are set");
    open_with(noise, suite, gateway_public, opening, random)
}

fn open_with(
    mut noise: HandshakeState,
    suite: Suite,
    gateway_public: &[u8; 32],
    mut opening: Opening,
    random: &mut dyn Random,
) -> (Sent, Vec<u8>) {
    let draw = u16::from_be_bytes([super::eight(random)[0], super::eight(random)[0]]);
    let span = (OPENING_LENGTHS.end - OPENING_LENGTHS.start) as u16;
    let length = OPENING_LENGTHS.start + usize::from(draw % span);
    opening.padding = 0;
    opening.padding = length.saturating_sub(8 + FIRST_OVERHEAD + opening.emit().len()) as u16;
    let payload = opening.emit();
    let mut datagram = vec![0; 8 + FIRST_OVERHEAD + payload.len()];
    let length = noise.write_message(&payload, &mut datagram[8..]).expect("the buffer has room");
    datagram.truncate(8 + length);
    let tag = OpeningKey::new(gateway_public).tag(&datagram[8..]);
    datagram[..8].copy_from_slice(&tag);
    (Sent { noise, suite, id: opening.id }, datagram)
}

impl Sent {
    /// Takes the answer. An answer that does not verify leaves the opening waiting.
    ///
    /// # Errors
    /// Says why the datagram is to be dropped.
    pub fn answer(&mut self, datagram: &[u8]) -> Result<(Answer, Split), Dropped> {
        if !(8..=LONGEST).contains(&datagram.len()) {
            return Err(Dropped::Length);
        }
        let mut payload = vec![0; datagram.len()];
        check_order(datagram.get(8..40))?;
        let length = self.noise.read_message(&datagram[8..], &mut payload).map_err(|_| Dropped::Forged)?;
        let answer = Answer::parse(&payload[..length])?;
        let (send, receive) = self.noise.dangerously_get_raw_split();
        Ok((answer, Split { send: Zeroizing::new(send), receive: Zeroizing::new(receive) }))
    }

    /// The algorithms of this opening.
    #[must_use]
    pub fn suite(&self) -> Suite {
        self.suite
    }
}

/// An opening that a gateway has read and may answer.
pub struct Received {
    noise: HandshakeState,
    /// The device's public key: proven only when the device uses the new keys.
    pub device_key: [u8; 32],
    /// What it said.
    pub opening: Opening,
    room: usize,
}

/// Reads an opening whose tag [`OpeningKey::matches`].
///
/// # Errors
/// Says why the datagram is to be dropped, silently.
pub fn receive(suite: Suite, gateway_private: &[u8; 32], datagram: &[u8]) -> Result<Received, Dropped> {
    let noise = builder(suite, gateway_private).build_responder().expect("all keys that IK needs are set");
    receive_with(noise, datagram)
}

fn receive_with(mut noise: HandshakeState, datagram: &[u8]) -> Result<Received, Dropped> {
    if !(8 + FIRST_OVERHEAD..=LONGEST).contains(&datagram.len()) {
        return Err(Dropped::Length);
    }
    check_order(datagram.get(8..40))?;
    let mut payload = vec![0; datagram.len()];
    let length = noise.read_message(&datagram[8..], &mut payload).map_err(|_| Dropped::Forged)?;
    let opening = Opening::parse(&payload[..length])?;
    let device_key: [u8; 32] = noise.get_remote_static().and_then(|key| key.try_into().ok()).ok_or(Dropped::Forged)?;
    check_order(Some(&device_key[..]))?;
    Ok(Received { noise, device_key, opening, room: datagram.len() })
}

impl Received {
    /// The answering datagram and the keys that it establishes.
    ///
    /// # Errors
    /// [`Dropped::Length`] when the answer would be longer than its opening: a gateway must not be of
    /// use for amplifying traffic towards a forged address.
    pub fn answer(mut self, answer: &Answer) -> Result<(Vec<u8>, Split), Dropped> {
        let payload = answer.emit();
        let mut datagram = vec![0; 8 + 48 + payload.len()];
        if datagram.len() > self.room {
            return Err(Dropped::Length);
        }
        datagram[..8].copy_from_slice(&self.opening.id.0);
        let length = self.noise.write_message(&payload, &mut datagram[8..]).map_err(|_| Dropped::Forged)?;
        datagram.truncate(8 + length);
        let (receive, send) = self.noise.dangerously_get_raw_split();
        Ok((datagram, Split { send: Zeroizing::new(send), receive: Zeroizing::new(receive) }))
    }
}

#[cfg(test)]
mod tests {
    use super::super::message::Settings;
    use super::super::{Reason, VERSION};
    use super::*;
    use x25519_dalek::{PublicKey, StaticSecret};

    /// Each listed point gives zero with any private key, and so it does with the highest bit set; an honest key is let through.
    #[test]
    fn points_of_low_order_are_all_known_and_nothing_else_is_refused() {
        let private = StaticSecret::from([77; 32]);
        for mut point in LOW_ORDER {
            for bit in [0, 0x80] {
                point[31] = point[31] & 0x7f | bit;
                assert!(!private.diffie_hellman(&PublicKey::from(point)).was_contributory(), "{}", hex(&point));
                assert_eq!(check_order(Some(&point[..])), Err(Dropped::LowOrder));
            }
        }
        for number in 2..=200 {
            let public = PublicKey::from(little_endian(number));
            let zero = !private.diffie_hellman(&public).was_contributory();
            assert_eq!(check_order(Some(&public.as_bytes()[..])).is_err(), zero, "{number}");
        }
        assert_eq!(check_order(Some(&PublicKey::from(&private).as_bytes()[..])), Ok(()));
    }

    /// Whoever knows no private key can compute the whole handshake when such points are let through.
    #[test]
    fn a_device_key_or_an_ephemeral_key_of_low_order_ends_the_handshake() {
        let gateway = StaticSecret::from([3; 32]);
        let gateway_public = *PublicKey::from(&gateway).as_bytes();
        let opening = || Opening {
            versions: vec![VERSION],
            id: ConnectionId([1; 8]),
            software: String::new(),
            continues: None,
            padding: 0,
        };
        for point in LOW_ORDER {
            let (_, mut datagram) =
                open(Suite::ChaCha20Poly1305, &[9; 32], &gateway_public, opening(), &mut Counting(1));
            datagram[8..40].copy_from_slice(&point);
            assert!(matches!(receive(Suite::ChaCha20Poly1305, gateway.as_bytes(), &datagram), Err(Dropped::LowOrder)));
            let (mut sent, datagram) =
                open(Suite::ChaCha20Poly1305, &[9; 32], &gateway_public, opening(), &mut Counting(1));
            let received = receive(Suite::ChaCha20Poly1305, gateway.as_bytes(), &datagram).unwrap();
            let (mut answer, _) = received.answer(&Answer::Refused(Reason::Unknown, String::new())).unwrap();
            answer[8..40].copy_from_slice(&point);
            assert!(matches!(sent.answer(&answer), Err(Dropped::LowOrder)));
        }
    }

    struct Counting(u8);
    impl Random for Counting {
        fn fill(&mut self, bytes: &mut [u8]) {
            for byte in bytes {
                *byte = self.0;
                self.0 = self.0.wrapping_add(1);
            }
        }
    }

    fn hex(bytes: &[u8]) -> String {
        bytes.iter().map(|byte| format!("{byte:02x}")).collect()
    }

    fn wrapped(text: &str) -> String {
        let chars: Vec<char> = text.chars().collect();
        chars.chunks(96).map(|line| line.iter().collect::<String>() + "\n").collect()
    }

    /// The vectors that `docs/quill.md` promises to other implementers, made from fixed keys.
    fn vectors(suite: Suite) -> String {
        let gateway_private: [u8; 32] = std::array::from_fn(|i| i as u8);
        let device_private: [u8; 32] = std::array::from_fn(|i| 0x20 + i as u8);
        let (e1, e2): ([u8; 32], [u8; 32]) =
            (std::array::from_fn(|i| 0x40 + i as u8), std::array::from_fn(|i| 0x60 + i as u8));
        let gateway_public = *PublicKey::from(&StaticSecret::from(gateway_private)).as_bytes();
        let opening = Opening {
            versions: vec![VERSION],
            id: ConnectionId(*b"device-1"),
            software: "vector".into(),
            continues: None,
            padding: 0,
        };
        let device = builder(suite, &device_private)
            .remote_public_key(&gateway_public)
            .unwrap()
            .fixed_ephemeral_key_for_testing_only(&e1)
            .build_initiator()
            .unwrap();
        let (mut sent, first) = open_with(device, suite, &gateway_public, opening, &mut Counting(0));
        let gateway =
            builder(suite, &gateway_private).fixed_ephemeral_key_for_testing_only(&e2).build_responder().unwrap();
        assert!(OpeningKey::new(&gateway_public).matches(&first));
        let received = receive_with(gateway, &first).unwrap();
        let settings = Settings {
            edition: 1,
            inner: "10.187.44.2/24".parse().unwrap(),
            gateway: "10.187.44.1".parse().unwrap(),
            resolvers: vec!["10.44.0.20".parse().unwrap()],
            reach: vec!["10.44.0.0/22".parse().unwrap()],
            packet_size: 1400,
            keep_alive: 20,
        };
        let answer = Answer::Admitted { version: VERSION, id: ConnectionId(*b"gateway1"), settings };
        let (second, gateway_split) = received.answer(&answer).unwrap();
        let (read, device_split) = sent.answer(&second).unwrap();
        assert_eq!(read, answer);
        let (mut seal, _) = device_split.keys(suite, ConnectionId(*b"device-1"), ConnectionId(*b"gateway1"));
        let (_, mut open) = gateway_split.keys(suite, ConnectionId(*b"gateway1"), ConnectionId(*b"device-1"));
        let mut frames = Vec::new();
        super::super::frame::Frame::Ready.emit(&mut frames);
        super::super::frame::pad(&mut frames);
        let mut third = [vec![0; 12], frames.clone(), vec![0; 16]].concat();
        seal.seal(&mut third).unwrap();
        assert_eq!(open.open(&mut third.clone()).unwrap(), frames);
        format!(
            "### {suite}\n\n```text\nopening\n{}answer\n{}device to gateway key\n{}gateway to device key\n{}first datagram, number 0: one ready frame and 61 bytes of padding\n{}```\n",
            wrapped(&hex(&first)),
            wrapped(&hex(&second)),
            wrapped(&hex(&device_split.send[..])),
            wrapped(&hex(&device_split.receive[..])),
            wrapped(&hex(&third)),
        )
    }

    /// `UPDATE_DOCS=1` writes the page anew.
    #[test]
    fn the_page_for_implementers_holds_the_vectors_that_this_code_makes() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/quill.md");
        let mut page = std::fs::read_to_string(path).expect("docs/quill.md is there");
        for suite in [Suite::Aes256Gcm, Suite::ChaCha20Poly1305] {
            let made = vectors(suite);
            if std::env::var_os("UPDATE_DOCS").is_some() {
                let start = page.find(&format!("### {suite}\n")).unwrap();
                let end = start + page[start..].match_indices("```\n").next().unwrap().0 + "```\n".len();
                page.replace_range(start..end, &made);
                std::fs::write(path, &page).unwrap();
            }
            assert!(page.contains(&made), "docs/quill.md must contain:\n{made}");
        }
    }

    fn opening(software: &str) -> Opening {
        Opening {
            versions: vec![VERSION],
            id: ConnectionId([7; 8]),
            software: software.into(),
            continues: None,
            padding: 0,
        }
    }

    #[test]
    fn a_stranger_without_the_public_key_matches_nothing() {
        let (gateway, other) = (StaticSecret::from([1; 32]), StaticSecret::from([2; 32]));
        let (gateway_public, other_public) = (PublicKey::from(&gateway), PublicKey::from(&other));
        let (_, datagram) = open(Suite::Aes256Gcm, &[3; 32], other_public.as_bytes(), opening("x"), &mut Counting(9));
        assert!(!OpeningKey::new(gateway_public.as_bytes()).matches(&datagram));
        assert!(OpeningKey::new(other_public.as_bytes()).matches(&datagram));
        assert!(matches!(receive(Suite::Aes256Gcm, gateway.as_bytes(), &datagram), Err(Dropped::Forged)));
    }

    #[test]
    fn a_forged_answer_leaves_the_opening_waiting_for_the_true_one() {
        let gateway = StaticSecret::from([1; 32]);
        let public = PublicKey::from(&gateway);
        let (mut sent, first) =
            open(Suite::ChaCha20Poly1305, &[3; 32], public.as_bytes(), opening("x"), &mut Counting(0));
        let received = receive(Suite::ChaCha20Poly1305, gateway.as_bytes(), &first).unwrap();
        let refused = Answer::Refused(Reason::Revoked, "lost".into());
        let (true_answer, _) = received.answer(&refused).unwrap();
        let mut forged = true_answer.clone();
        let last = forged.len() - 1;
        forged[last] ^= 1;
        assert_eq!(sent.answer(&forged).map(|(answer, _)| answer), Err(Dropped::Forged));
        assert_eq!(sent.answer(&true_answer).map(|(answer, _)| answer), Ok(refused));
    }

    #[test]
    fn an_answer_longer_than_its_opening_is_not_sent() {
        let gateway = StaticSecret::from([1; 32]);
        let public = PublicKey::from(&gateway);
        let (_, first) = open(Suite::Aes256Gcm, &[3; 32], public.as_bytes(), opening("x"), &mut Counting(0));
        let received = receive(Suite::Aes256Gcm, gateway.as_bytes(), &first).unwrap();
        let long = Answer::Refused(Reason::Other, "y".repeat(1300));
        assert!(matches!(received.answer(&long), Err(Dropped::Length)));
    }
}
