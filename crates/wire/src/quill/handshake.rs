//! Noise IK (Noise specification, revision 34, section 7.5) under the tag and the cover of a call secret.
//!
//! An opening is `tag` (8 bytes), `token` (16), and Noise's first message. The tag shows that the sender knows the call secret,
//! before any curve operation; the token shows, where it was asked for, that the sender is at the address that it sends from. The token
//! is part of Noise's prologue, so that nobody can put another into an opening that they recorded.
//!
//! Replaying an opening gains nothing: the gateway's answer uses fresh keys, and nothing changes
//! until the device proves that it has them. No clock is involved.

use snow::{Builder, HandshakeState};
use zeroize::Zeroizing;

use super::ConnectionId;
use super::call::{Call, NAME, TAG, TOKEN, Token, Under};
use super::keys::First;
use super::message::{Answer, Opening, pad_with_field};
use super::primitives::Primitives;
use super::suite::Suite;
use crate::Random;

/// Where Noise's first message begins.
const NOISE: usize = TAG + TOKEN;
/// The curve point in it.
const POINT: std::ops::Range<usize> = NOISE..NOISE + 32;
/// The encrypted static key after it: no two openings have the same.
const STATIC: std::ops::Range<usize> = POINT.end..POINT.end + 48;
/// Bytes of an opening without its payload.
pub const FIRST_OVERHEAD: usize = STATIC.end + 16;
/// The curve point in an answer, after the connection id.
const ANSWER_POINT: std::ops::Range<usize> = 8..40;
/// The first bytes of an answer's encrypted payload.
const ANSWER_SAMPLE: std::ops::Range<usize> = 40..56;
/// Openings are padded to a random length in this range; answers are never longer than their opening.
pub const OPENING_LENGTHS: std::ops::Range<usize> = 900..1200;
/// No datagram before inner packets flow is longer: an IPv6 path carries 1,280 bytes (RFC 8200 section 5).
pub const LONGEST: usize = 1232;

/// Why a handshake message was not taken. Never answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Dropped {
    #[error("the length is not that of a handshake message")]
    Length,
    #[error("made without knowledge of the call secret")]
    Stranger,
    #[error("the cryptography does not verify")]
    Forged,
    #[error("a public key with which every secret is the same")]
    LowOrder,
    #[error("the payload cannot be read: {0}")]
    Payload(#[from] super::message::Malformed),
}

fn first(noise: &mut HandshakeState) -> Result<First, Dropped> {
    let hash = noise.get_handshake_hash().try_into().map_err(|_| Dropped::Forged)?;
    let (up, down) = noise.dangerously_get_raw_split();
    Ok(First { up: Zeroizing::new(up), down: Zeroizing::new(down), hash })
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

fn builder<'a>(suite: Suite, private: &'a [u8; 32], prologue: &'a [u8]) -> Builder<'a> {
    let params = suite.noise().parse().expect("both names are Noise names");
    Builder::with_resolver(params, Box::new(Primitives))
        .prologue(prologue)
        .and_then(|builder| builder.local_private_key(private))
        .expect("each is set once")
}

fn prologue(token: &Token) -> Vec<u8> {
    [NAME, token].concat()
}

/// Whom a device opens towards, and as whom.
pub struct Towards<'a> {
    pub suite: Suite,
    pub call: &'a Call,
    pub gateway_public: &'a [u8; 32],
    pub device_private: &'a [u8; 32],
}

/// An opening that waits for its answer.
pub struct Sent {
    noise: HandshakeState,
    suite: Suite,
    call: Call,
    tag: [u8; TAG],
    /// Under which id the answer comes.
    pub id: ConnectionId,
}

/// Makes an opening. The length is drawn from `random`, and so is what stands for the token where none was asked for.
#[must_use]
pub fn open(towards: &Towards<'_>, token: Option<Token>, opening: Opening, random: &mut dyn Random) -> (Sent, Vec<u8>) {
    let token = token.unwrap_or_else(|| {
        let mut token = [0; TOKEN];
        random.fill(&mut token);
        token
    });
    let prologue = prologue(&token);
    let noise = builder(towards.suite, towards.device_private, &prologue)
        .remote_public_key(towards.gateway_public)
        .and_then(Builder::build_initiator)
        .expect("all keys that IK needs are set");
    open_with(noise, towards, token, opening, random)
}

fn open_with(
    mut noise: HandshakeState,
    towards: &Towards<'_>,
    mut token: Token,
    opening: Opening,
    random: &mut dyn Random,
) -> (Sent, Vec<u8>) {
    let call = towards.call;
    let mut payload = opening.emit();
    let length = OPENING_LENGTHS.start + super::below(random, OPENING_LENGTHS.len());
    pad_with_field(&mut payload, length.saturating_sub(FIRST_OVERHEAD));
    let mut datagram = vec![0; FIRST_OVERHEAD + payload.len()];
    noise.write_message(&payload, &mut datagram[NOISE..]).expect("the buffer has room");
    let (head, sample) = datagram.split_at_mut(STATIC.start);
    let sample = &sample[..STATIC.len()];
    call.cover(Under::Token, sample, &mut token);
    call.cover(Under::Opening, sample, &mut head[POINT]);
    datagram[TAG..NOISE].copy_from_slice(&token);
    let tag = call.opening_tag(&datagram[TAG..STATIC.end]);
    datagram[..TAG].copy_from_slice(&tag);
    (Sent { noise, suite: towards.suite, call: call.clone(), tag, id: opening.id }, datagram)
}

impl Sent {
    /// Takes the answer. An answer that does not verify leaves the opening waiting.
    ///
    /// # Errors
    /// Says why the datagram is to be dropped.
    pub fn answer(&mut self, datagram: &[u8]) -> Result<(Answer, First), Dropped> {
        if !(ANSWER_SAMPLE.end..=LONGEST).contains(&datagram.len()) {
            return Err(Dropped::Length);
        }
        let mut message = datagram.to_vec();
        let (head, sample) = message.split_at_mut(ANSWER_SAMPLE.start);
        self.call.cover(Under::Answer, &sample[..ANSWER_SAMPLE.len()], &mut head[ANSWER_POINT]);
        check_order(message.get(ANSWER_POINT))?;
        let mut payload = vec![0; message.len()];
        let length = self.noise.read_message(&message[8..], &mut payload).map_err(|_| Dropped::Forged)?;
        let answer = Answer::parse(&payload[..length])?;
        Ok((answer, first(&mut self.noise)?))
    }

    /// The token with which the gateway asks to come again, if `datagram` does that.
    #[must_use]
    pub fn asked(&self, datagram: &[u8]) -> Option<Token> {
        self.call.asked(&self.tag, datagram)
    }

    /// The algorithms of this opening.
    #[must_use]
    pub fn suite(&self) -> Suite {
        self.suite
    }
}

/// What stands in front of an opening, with its cover taken off.
pub struct Front {
    /// Names this opening among others.
    pub tag: [u8; TAG],
    pub token: Token,
}

/// Whether `datagram` is an opening by somebody who knows the call secret. Costs a short hash of some hundred bytes, whatever it is.
#[must_use]
pub fn is_tagged(call: &Call, datagram: &[u8]) -> bool {
    (FIRST_OVERHEAD..=LONGEST).contains(&datagram.len())
        && super::call::same(&call.opening_tag(&datagram[TAG..STATIC.end]), &datagram[..TAG])
}

/// What stands in front of an opening that [`is_tagged`].
#[must_use]
pub fn front(call: &Call, datagram: &[u8]) -> Option<Front> {
    if !is_tagged(call, datagram) {
        return None;
    }
    let tag: [u8; TAG] = *datagram.first_chunk()?;
    let mut token: Token = datagram[TAG..NOISE].try_into().ok()?;
    call.cover(Under::Token, &datagram[STATIC], &mut token);
    Some(Front { tag, token })
}

/// An opening that a gateway has read and may answer.
pub struct Received {
    noise: HandshakeState,
    call: Call,
    /// The device's public key: proven only when the device uses the new keys.
    pub device_key: [u8; 32],
    /// What it said.
    pub opening: Opening,
    room: usize,
}

/// Reads an opening that has a [`front`]: two curve operations.
///
/// # Errors
/// Says why the datagram is to be dropped, silently.
pub fn receive(
    suite: Suite,
    gateway_private: &[u8; 32],
    call: &Call,
    front: &Front,
    datagram: &[u8],
) -> Result<Received, Dropped> {
    let prologue = prologue(&front.token);
    let noise = builder(suite, gateway_private, &prologue).build_responder().expect("all keys that IK needs are set");
    receive_with(noise, call, datagram)
}

fn receive_with(mut noise: HandshakeState, call: &Call, datagram: &[u8]) -> Result<Received, Dropped> {
    if !(FIRST_OVERHEAD..=LONGEST).contains(&datagram.len()) {
        return Err(Dropped::Length);
    }
    let mut message = datagram.to_vec();
    let (head, sample) = message.split_at_mut(STATIC.start);
    call.cover(Under::Opening, &sample[..STATIC.len()], &mut head[POINT]);
    check_order(message.get(POINT))?;
    let mut payload = vec![0; message.len()];
    let length = noise.read_message(&message[NOISE..], &mut payload).map_err(|_| Dropped::Forged)?;
    let opening = Opening::parse(&payload[..length])?;
    let device_key: [u8; 32] = noise.get_remote_static().and_then(|key| key.try_into().ok()).ok_or(Dropped::Forged)?;
    check_order(Some(&device_key[..]))?;
    Ok(Received { noise, call: call.clone(), device_key, opening, room: datagram.len() })
}

impl Received {
    /// The answering datagram and the first keys: two curve operations.
    ///
    /// # Errors
    /// [`Dropped::Length`] when the answer would be longer than its opening: a gateway must not be of
    /// use for amplifying traffic towards a forged address.
    pub fn answer(mut self, answer: &Answer, random: &mut dyn Random) -> Result<(Vec<u8>, First), Dropped> {
        let mut payload = answer.emit();
        let most = self.room.checked_sub(8 + 48 + payload.len()).ok_or(Dropped::Length)?;
        let length = payload.len() + super::below(random, most + 1);
        pad_with_field(&mut payload, length);
        let mut datagram = vec![0; 8 + 48 + payload.len()];
        datagram[..8].copy_from_slice(&self.opening.id.0);
        self.noise.write_message(&payload, &mut datagram[8..]).map_err(|_| Dropped::Forged)?;
        let (head, sample) = datagram.split_at_mut(ANSWER_SAMPLE.start);
        self.call.cover(Under::Answer, &sample[..ANSWER_SAMPLE.len()], &mut head[ANSWER_POINT]);
        Ok((datagram, first(&mut self.noise)?))
    }
}

#[cfg(test)]
mod tests {
    use super::super::frame::Frame;
    use super::super::message::Settings;
    use super::super::second::{self, Ids, Offer};
    use super::super::suite::SealKey;
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

    fn opening(software: &str) -> Opening {
        Opening {
            versions: vec![VERSION],
            id: ConnectionId([1; 8]),
            software: software.into(),
            continues: None,
            notice: 0,
        }
    }

    /// Both ends of a handshake with fixed keys.
    struct Ends {
        suite: Suite,
        call: Call,
        gateway: StaticSecret,
        public: [u8; 32],
    }

    impl Ends {
        fn new(suite: Suite) -> Self {
            let gateway = StaticSecret::from([3; 32]);
            Self { suite, call: Call::new(&[8; 32]), public: *PublicKey::from(&gateway).as_bytes(), gateway }
        }

        fn open(&self, token: Option<Token>) -> (Sent, Vec<u8>) {
            let towards =
                Towards { suite: self.suite, call: &self.call, gateway_public: &self.public, device_private: &[9; 32] };
            open(&towards, token, opening("x"), &mut Counting(1))
        }

        fn receive(&self, datagram: &[u8]) -> Result<Received, Dropped> {
            let front = front(&self.call, datagram).ok_or(Dropped::Stranger)?;
            receive(self.suite, self.gateway.as_bytes(), &self.call, &front, datagram)
        }

        /// Makes the tag of an altered opening right again, as somebody with the call secret could.
        fn tag_again(&self, datagram: &mut [u8]) {
            let tag = self.call.opening_tag(&datagram[TAG..STATIC.end]);
            datagram[..TAG].copy_from_slice(&tag);
        }
    }

    /// Whoever knows no private key can compute the whole handshake when such points are let through.
    #[test]
    fn a_device_key_or_an_ephemeral_key_of_low_order_ends_the_handshake() {
        let ends = Ends::new(Suite::ChaCha20Poly1305);
        for point in LOW_ORDER {
            let (mut sent, mut datagram) = ends.open(None);
            let whole = datagram.clone();
            let sample = datagram[STATIC].to_vec();
            datagram[POINT].copy_from_slice(&point);
            ends.call.cover(Under::Opening, &sample, &mut datagram[POINT]);
            ends.tag_again(&mut datagram);
            assert!(matches!(ends.receive(&datagram), Err(Dropped::LowOrder)));
            let received = ends.receive(&whole).unwrap();
            let refused = Answer::Refused(Reason::Unknown, String::new());
            let (mut answer, _) = received.answer(&refused, &mut Counting(4)).unwrap();
            let sample = answer[ANSWER_SAMPLE].to_vec();
            answer[ANSWER_POINT].copy_from_slice(&point);
            ends.call.cover(Under::Answer, &sample, &mut answer[ANSWER_POINT]);
            assert!(matches!(sent.answer(&answer), Err(Dropped::LowOrder)));
        }
    }

    /// Somebody who knows the call secret cannot bring a recorded opening through with a token of their own.
    #[test]
    fn a_recorded_opening_takes_no_other_token() {
        let ends = Ends::new(Suite::Aes256Gcm);
        let (_, mut datagram) = ends.open(Some([5; TOKEN]));
        assert_eq!(
            ends.receive(&datagram).unwrap().device_key,
            *PublicKey::from(&StaticSecret::from([9; 32])).as_bytes()
        );
        let mut token = [6; TOKEN];
        ends.call.cover(Under::Token, &datagram[STATIC], &mut token);
        datagram[TAG..NOISE].copy_from_slice(&token);
        ends.tag_again(&mut datagram);
        assert_eq!(front(&ends.call, &datagram).unwrap().token, [6; TOKEN]);
        assert!(matches!(ends.receive(&datagram), Err(Dropped::Forged)));
    }

    #[test]
    fn whoever_knows_the_public_key_alone_matches_nothing() {
        let ends = Ends::new(Suite::Aes256Gcm);
        let (_, datagram) = ends.open(None);
        assert!(front(&ends.call, &datagram).is_some());
        for secret in [ends.public, [0; 32], [9; 32]] {
            assert!(front(&Call::new(&secret), &datagram).is_none());
        }
        for at in [0, 7, 8, 30, 60, 103] {
            let mut altered = datagram.clone();
            altered[at] ^= 1;
            assert!(front(&ends.call, &altered).is_none(), "{at}");
        }
        for length in [0, 8, FIRST_OVERHEAD - 1, LONGEST + 1] {
            assert!(front(&ends.call, &vec![1; length]).is_none());
        }
    }

    #[test]
    fn a_forged_answer_leaves_the_opening_waiting_for_the_true_one() {
        let ends = Ends::new(Suite::ChaCha20Poly1305);
        let (mut sent, first) = ends.open(None);
        let refused = Answer::Refused(Reason::Revoked, "lost".into());
        let (true_answer, _) = ends.receive(&first).unwrap().answer(&refused, &mut Counting(9)).unwrap();
        for at in [9, 45, true_answer.len() - 1] {
            let mut forged = true_answer.clone();
            forged[at] ^= 1;
            assert_eq!(sent.answer(&forged).map(|(answer, _)| answer), Err(Dropped::Forged), "{at}");
        }
        assert_eq!(sent.answer(&true_answer).map(|(answer, _)| answer), Ok(refused));
    }

    #[test]
    fn an_answer_longer_than_its_opening_is_not_sent() {
        let ends = Ends::new(Suite::Aes256Gcm);
        let (_, first) = ends.open(None);
        let long = Answer::Refused(Reason::Other, "y".repeat(1300));
        assert!(matches!(ends.receive(&first).unwrap().answer(&long, &mut Counting(9)), Err(Dropped::Length)));
        for draw in 0..50 {
            let short = Answer::Refused(Reason::Other, String::new());
            let (answer, _) = ends.receive(&first).unwrap().answer(&short, &mut Counting(draw)).unwrap();
            assert!(answer.len() <= first.len());
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

    fn wrapped(bytes: &[u8]) -> String {
        bytes.chunks(48).map(|line| hex(line) + "\n").collect()
    }

    /// The vectors that `docs/quill.md` promises to other implementers, made from fixed keys.
    fn vectors(suite: Suite) -> String {
        let from = |first: u8| std::array::from_fn::<u8, 32, _>(|i| first + i as u8);
        let (gateway_private, device_private, e1, e2) = (from(0), from(0x20), from(0x40), from(0x60));
        let call = Call::new(&from(0x80));
        let token: Token = *b"a token of 16 by";
        let gateway_public = *PublicKey::from(&StaticSecret::from(gateway_private)).as_bytes();
        let said = Opening {
            versions: vec![VERSION],
            id: ConnectionId(*b"device-1"),
            software: "vector".into(),
            continues: None,
            notice: 0,
        };
        let towards = Towards { suite, call: &call, gateway_public: &gateway_public, device_private: &device_private };
        let prologue = prologue(&token);
        let device = builder(suite, &device_private, &prologue)
            .remote_public_key(&gateway_public)
            .unwrap()
            .fixed_ephemeral_key_for_testing_only(&e1)
            .build_initiator()
            .unwrap();
        let (mut sent, opening) = open_with(device, &towards, token, said, &mut Counting(0));
        let again = call.again(&sent.tag, b"TOKEN OF SIXTEEN", 40, &mut Counting(0));
        assert_eq!(sent.asked(&again), Some(*b"TOKEN OF SIXTEEN"));
        let gateway = builder(suite, &gateway_private, &prologue)
            .fixed_ephemeral_key_for_testing_only(&e2)
            .build_responder()
            .unwrap();
        assert_eq!(front(&call, &opening).unwrap().token, token);
        let received = receive_with(gateway, &call, &opening).unwrap();
        let settings = Settings {
            edition: 1,
            inner: "10.187.44.2/24".parse().unwrap(),
            gateway: "10.187.44.1".parse().unwrap(),
            second: None,
            resolvers: vec!["10.44.0.20".parse().unwrap()],
            reach: vec!["10.44.0.0/22".parse().unwrap()],
            packet_size: 1400,
            keep_alive: 20,
            asks: false,
        };
        let answer = Answer::Admitted { version: VERSION, id: ConnectionId(*b"gateway1"), settings };
        let (second, gateway_first) = received.answer(&answer, &mut Counting(0)).unwrap();
        let (read, first) = sent.answer(&second).unwrap();
        assert_eq!((read, &first.up, &first.down), (answer, &gateway_first.up, &gateway_first.down));

        let offer = Offer::new(&mut Counting(0));
        let ids = Ids { device: ConnectionId(*b"device-2"), gateway: ConnectionId(*b"gateway2") };
        let (mut seal, _) = first.of_device().keys(suite, ConnectionId(*b"device-1"), ConnectionId(*b"gateway1"));
        let sealed = |seal: &mut SealKey, frame: Frame<'_>| {
            let mut frames = Vec::new();
            frame.emit(&mut frames);
            crate::quill::frame::pad(&mut frames);
            let mut datagram = [vec![0; 12], frames, vec![0; 16]].concat();
            seal.seal(&mut datagram).unwrap();
            datagram
        };
        let part = sealed(&mut seal, Frame::SecondKey(0, ids.device, offer.parts()[0]));
        let key = offer.parts().concat().try_into().unwrap();
        let (ciphertext, gateway_final) = second::accept(&gateway_first, ids, &key, &mut Counting(0x40)).unwrap();
        let device_final = offer.keys(&first, ids, &ciphertext).unwrap();
        assert_eq!((&device_final.send, &device_final.receive), (&gateway_final.receive, &gateway_final.send));
        let (mut seal, _) = device_final.keys(suite, ids.device, ids.gateway);
        let ready = sealed(&mut seal, Frame::Ready);
        let parts: [(&str, &[u8]); 10] = [
            ("opening", &opening),
            ("again, with the token `TOKEN OF SIXTEEN`", &again),
            ("answer", &second),
            ("first keys: to gateway, to device", &[&first.up[..], &first.down[..]].concat()),
            ("Noise's handshake hash", &first.hash),
            ("device's first datagram under the first keys: part 0 of its ML-KEM key", &part),
            ("part 1 of its ML-KEM key", offer.parts()[1]),
            ("gateway's ciphertext", &ciphertext),
            ("final keys: to gateway, to device", &[&device_final.send[..], &device_final.receive[..]].concat()),
            ("device's first datagram under the final keys: ready, padded to 64 bytes", &ready),
        ];
        let lines: String = parts.iter().map(|(name, bytes)| format!("{name}\n{}", wrapped(bytes))).collect();
        format!("### {suite}\n\n```text\n{lines}```\n")
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
}
