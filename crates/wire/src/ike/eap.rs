//! EAP (RFC 3748) with MS-CHAPv2 (type 26; RFC 2759, keys by RFC 3079): the authenticator's side, and that of whoever calls.
//!
//! An account's form of the password equals the password. What is asked and answered here shows nobody without it anything that a guess
//! could be tried against offline, because it goes through an association whose gateway has proved itself. A second factor has no place
//! in it: where somebody wants both, it cannot be had this way.

use des::cipher::{BlockCipherEncrypt as _, KeyInit as _};
use md4::Digest as _;
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY};
use zeroize::Zeroizing;

use crate::Random;
use crate::esp::cipher::same;

/// The form of a password: MD4 of its UTF-16 (RFC 2759 section 8.3).
pub type Form = Zeroizing<[u8; 16]>;

const REQUEST: u8 = 1;
const RESPONSE: u8 = 2;
const SUCCESS: u8 = 3;
const FAILURE: u8 = 4;
const IDENTITY: u8 = 1;
const NAK: u8 = 3;
const MS_CHAP: u8 = 26;
/// Codes within MS-CHAPv2.
const OP_CHALLENGE: u8 = 1;
const OP_RESPONSE: u8 = 2;
const OP_SUCCESS: u8 = 3;
const OP_FAILURE: u8 = 4;
/// Challenge of the device, eight reserved bytes, response, flags.
const VALUE: usize = 49;
/// What is not understood, at most, before it ends.
const PATIENCE: u8 = 3;
/// Bytes of a name that is read.
const LONGEST_NAME: usize = 256;

fn sha1(parts: &[&[u8]]) -> [u8; 20] {
    let mut context = Context::new(&SHA1_FOR_LEGACY_USE_ONLY);
    parts.iter().for_each(|part| context.update(part));
    let mut out = [0; 20];
    out.copy_from_slice(context.finish().as_ref());
    out
}

fn md4(bytes: &[u8]) -> Form {
    Zeroizing::new(md4::Md4::digest(bytes).into())
}

/// RFC 2759 section 8.2; the name stands without its domain.
fn challenge_hash(device: &[u8; 16], gateway: &[u8; 16], name: &str) -> [u8; 8] {
    let hash = sha1(&[device, gateway, name.as_bytes()]);
    let mut out = [0; 8];
    out.copy_from_slice(&hash[..8]);
    out
}

/// RFC 2759 section 8.5: the form, filled up to 21 bytes, as three keys of DES.
fn response(challenge: [u8; 8], form: &[u8; 16]) -> [u8; 24] {
    let mut keys = Zeroizing::new([0; 21]);
    keys[..16].copy_from_slice(form);
    let mut out = [0; 24];
    for (seven, out) in keys.chunks(7).zip(out.chunks_mut(8)) {
        let bits = seven.iter().fold(0_u64, |bits, byte| bits << 8 | u64::from(*byte));
        let mut key = Zeroizing::new([0; 8]);
        for (at, byte) in key.iter_mut().enumerate() {
            *byte = ((bits >> (49 - 7 * at)) as u8 & 0x7f) << 1;
        }
        let mut block = challenge.into();
        des::Des::new(&(*key).into()).encrypt_block(&mut block);
        out.copy_from_slice(&block);
    }
    out
}

/// RFC 2759 section 8.7.
fn authenticator_response(form: &[u8; 16], answer: &[u8; 24], challenge: [u8; 8]) -> String {
    let digest = sha1(&[&md4(form)[..], answer, b"Magic server to client signing constant"]);
    let shown = sha1(&[&digest, &challenge, b"Pad to make it do more than one iteration"]);
    shown.iter().fold("S=".to_owned(), |text, byte| format!("{text}{byte:02X}"))
}

/// RFC 3079 section 3.4: 64 bytes, of which the first 16 are what the gateway receives with, the next what it sends with, the rest zeros.
fn session_key(form: &[u8; 16], answer: &[u8; 24]) -> Zeroizing<[u8; 64]> {
    let master = sha1(&[&md4(form)[..], answer, b"This is the MPPE Master Key"]);
    let device_sends: &[u8] = b"On the client side, this is the send key; on the server side, it is the receive key.";
    let device_receives: &[u8] =
        b"On the client side, this is the receive key; on the server side, it is the send key.";
    let mut out = Zeroizing::new([0; 64]);
    for (at, magic) in [(0, device_sends), (16, device_receives)] {
        let key = sha1(&[&master[..16], &[0; 40], magic, &[0xf2; 40]]);
        out[at..at + 16].copy_from_slice(&key[..16]);
    }
    out
}

/// How far it has come.
enum State {
    Asked,
    Challenged,
    /// The password is right, and the device has been shown that the gateway knows it.
    Shown(Zeroizing<[u8; 64]>),
    Wrong,
}

/// One conversation.
pub struct Conversation {
    state: State,
    challenge: [u8; 16],
    number: u8,
    name: String,
    misses: u8,
}

/// What comes next.
pub enum Next {
    /// A request for the device.
    Say(Vec<u8>),
    /// Somebody says that they are this account; [`Conversation::check`] wants its form.
    Named(String),
    /// It is this account; with the success to be told, and the key.
    In { name: String, told: Vec<u8>, key: Zeroizing<[u8; 64]> },
    /// With the failure to be told; the account that was named.
    Out { name: String, told: Vec<u8> },
    /// Nothing that could be answered.
    Nothing,
    /// Somebody else is asked; what comes of it is given to [`super::gateway::Gateway::said`].
    Later,
}

/// What answers a device's EAP: [`Conversation`] here; another registry, or another method, in its own way.
pub trait Talk: Send {
    /// Takes what a device answers.
    fn take(&mut self, bytes: &[u8]) -> Next;

    /// As [`Conversation::check`], after [`Next::Named`].
    fn check(&mut self, bytes: &[u8], name: &str, form: Option<&Form>, random: &mut dyn Random) -> (bool, Vec<u8>);
}

impl Talk for Conversation {
    fn take(&mut self, bytes: &[u8]) -> Next {
        self.take(bytes)
    }

    fn check(&mut self, bytes: &[u8], name: &str, form: Option<&Form>, random: &mut dyn Random) -> (bool, Vec<u8>) {
        self.check(bytes, name, form, random)
    }
}

fn packet(code: u8, number: u8, rest: &[u8]) -> Vec<u8> {
    [&[code, number][..], &((4 + rest.len()) as u16).to_be_bytes(), rest].concat()
}

impl Conversation {
    /// Begins one; gives the first request: who somebody is.
    pub fn begin(random: &mut dyn Random) -> (Self, Vec<u8>) {
        let (mut challenge, mut number) = ([0; 16], [0]);
        random.fill(&mut challenge);
        random.fill(&mut number);
        let begun = Self { state: State::Asked, challenge, number: number[0], name: String::new(), misses: 0 };
        let first = packet(REQUEST, begun.number, &[IDENTITY]);
        (begun, first)
    }

    fn ask(&mut self, op: u8, body: &[u8]) -> Vec<u8> {
        self.number = self.number.wrapping_add(1);
        let length = ((4 + body.len()) as u16).to_be_bytes();
        packet(REQUEST, self.number, &[&[MS_CHAP, op, self.number][..], &length, body].concat())
    }

    fn fails(&mut self) -> Next {
        Next::Out { name: std::mem::take(&mut self.name), told: packet(FAILURE, self.number, &[]) }
    }

    fn missed(&mut self) -> Next {
        self.misses += 1;
        if self.misses >= PATIENCE { self.fails() } else { Next::Nothing }
    }

    /// Takes what a device answers.
    pub fn take(&mut self, bytes: &[u8]) -> Next {
        let whole =
            |bytes: &[u8]| bytes.len() >= 5 && usize::from(u16::from_be_bytes([bytes[2], bytes[3]])) == bytes.len();
        if !whole(bytes) || bytes[0] != RESPONSE || bytes[1] != self.number {
            return self.missed();
        }
        match (&self.state, bytes[4], &bytes[5..]) {
            (_, NAK, _) => self.fails(),
            (State::Asked, IDENTITY, _) => {
                self.state = State::Challenged;
                let body = [&[16][..], &self.challenge, b"yestrel"].concat();
                Next::Say(self.ask(OP_CHALLENGE, &body))
            }
            (State::Challenged, MS_CHAP, [OP_RESPONSE, _, _, _, size, rest @ ..])
                if usize::from(*size) == VALUE && (VALUE..=VALUE + LONGEST_NAME).contains(&rest.len()) =>
            {
                match std::str::from_utf8(&rest[VALUE..]) {
                    Ok(name) => Next::Named(name.rsplit('\\').next().unwrap_or_default().to_owned()),
                    Err(_) => self.fails(),
                }
            }
            (State::Shown(_), MS_CHAP, [OP_SUCCESS, ..]) => {
                let State::Shown(key) = std::mem::replace(&mut self.state, State::Wrong) else { return Next::Nothing };
                Next::In { name: std::mem::take(&mut self.name), told: packet(SUCCESS, self.number, &[]), key }
            }
            (State::Wrong, MS_CHAP, [OP_FAILURE, ..]) => self.fails(),
            _ => self.missed(),
        }
    }

    /// Whether the answer that named an account is by somebody who knows its password: `form` is `None` where nobody is let in under that
    /// name, which the device cannot tell from a wrong password. Gives whether it is, and what to say.
    pub fn check(&mut self, bytes: &[u8], name: &str, form: Option<&Form>, random: &mut dyn Random) -> (bool, Vec<u8>) {
        let value = bytes.get(10..10 + VALUE).unwrap_or(&[0; VALUE]);
        let (mut device, mut answer) = ([0; 16], [0; 24]);
        device.copy_from_slice(&value[..16]);
        answer.copy_from_slice(&value[24..48]);
        let mut nobody = Zeroizing::new([0; 16]);
        random.fill(&mut nobody[..]);
        let challenge = challenge_hash(&device, &self.challenge, name);
        let right = same(&response(challenge, form.unwrap_or(&nobody)), &answer) && form.is_some();
        name.clone_into(&mut self.name);
        if let Some(form) = form.filter(|_| right) {
            self.state = State::Shown(session_key(form, &answer));
            let said = format!("{} M=welcome", authenticator_response(form, &answer, challenge));
            return (true, self.ask(OP_SUCCESS, said.as_bytes()));
        }
        self.state = State::Wrong;
        let mut fresh = [0; 16];
        random.fill(&mut fresh);
        // RFC 2759 section 6: wrong; not to be tried again in this conversation.
        let shown = fresh.iter().fold(String::new(), |text, byte| format!("{text}{byte:02X}"));
        (false, self.ask(OP_FAILURE, format!("E=691 R=0 C={shown} V=3 M=not let in").as_bytes()))
    }
}

/// The side of somebody who calls, with an account.
pub struct Peer {
    name: String,
    form: Form,
    /// What the other end is to show, and the key, once it was asked for them.
    expects: Option<(String, Zeroizing<[u8; 64]>)>,
    shown: bool,
}

/// What somebody who calls does next.
pub enum Told {
    /// An answer.
    Say(Vec<u8>),
    /// The other end lets them in, and knows the password too.
    In(Zeroizing<[u8; 64]>),
    /// They stay out.
    Out(&'static str),
}

impl Peer {
    /// Somebody with this account.
    #[must_use]
    pub fn new(name: &str, password: &str) -> Self {
        let wide: Zeroizing<Vec<u8>> = Zeroizing::new(password.encode_utf16().flat_map(u16::to_le_bytes).collect());
        Self { name: name.to_owned(), form: md4(&wide), expects: None, shown: false }
    }

    /// Takes what the other end says.
    pub fn take(&mut self, bytes: &[u8], random: &mut dyn Random) -> Told {
        match *bytes {
            [REQUEST, number, _, _, IDENTITY, ..] => {
                Told::Say(packet(RESPONSE, number, &[&[IDENTITY][..], self.name.as_bytes()].concat()))
            }
            [REQUEST, number, _, _, MS_CHAP, OP_CHALLENGE, same, _, _, 16, ref rest @ ..] if rest.len() >= 16 => {
                let (mut gateway, mut own) = ([0; 16], [0; 16]);
                gateway.copy_from_slice(&rest[..16]);
                random.fill(&mut own);
                let challenge = challenge_hash(&own, &gateway, &self.name);
                let answer = response(challenge, &self.form);
                let shows = authenticator_response(&self.form, &answer, challenge);
                self.expects = Some((shows, session_key(&self.form, &answer)));
                let value = [&own[..], &[0; 8], &answer, &[0], self.name.as_bytes()].concat();
                let length = ((5 + value.len()) as u16).to_be_bytes();
                let body = [&[MS_CHAP, OP_RESPONSE, same][..], &length, &[VALUE as u8], &value].concat();
                Told::Say(packet(RESPONSE, number, &body))
            }
            [REQUEST, number, _, _, MS_CHAP, OP_SUCCESS, _, _, _, ref shown @ ..] => {
                self.shown = self.expects.as_ref().is_some_and(|(expected, _)| shown.starts_with(expected.as_bytes()));
                if self.shown {
                    return Told::Say(packet(RESPONSE, number, &[MS_CHAP, OP_SUCCESS]));
                }
                Told::Out("the other end does not know the password: it is not who it says that it is")
            }
            [REQUEST, number, _, _, MS_CHAP, OP_FAILURE, ..] => {
                Told::Say(packet(RESPONSE, number, &[MS_CHAP, OP_FAILURE]))
            }
            // Another method is not offered.
            [REQUEST, number, _, _, _, ..] => Told::Say(packet(RESPONSE, number, &[NAK, MS_CHAP])),
            [SUCCESS, _, _, _] if self.shown => {
                self.shown = false;
                self.expects.take().map_or(Told::Out("it lets somebody in twice"), |(_, key)| Told::In(key))
            }
            _ => Told::Out("the password is wrong, or the account is not let in"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Steps(u8);
    impl Random for Steps {
        fn fill(&mut self, bytes: &mut [u8]) {
            for byte in bytes {
                self.0 = self.0.wrapping_mul(5).wrapping_add(3);
                *byte = self.0;
            }
        }
    }

    fn hex(text: &str) -> Vec<u8> {
        text.as_bytes()
            .chunks(2)
            .map(|two| u8::from_str_radix(std::str::from_utf8(two).unwrap(), 16).unwrap())
            .collect()
    }

    /// RFC 2759 section 9.2, RFC 3079 section 3.5.3.
    #[test]
    fn the_published_example() {
        let wide: Vec<u8> = "clientPass".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let form = md4(&wide);
        assert_eq!(form[..], hex("44EBBA8D5312B8D611474411F56989AE"));
        let gateway: [u8; 16] = hex("5B5D7C7D7B3F2F3E3C2C602132262628").try_into().unwrap();
        let device: [u8; 16] = hex("21402324255E262A28295F2B3A337C7E").try_into().unwrap();
        let challenge = challenge_hash(&device, &gateway, "User");
        assert_eq!(challenge[..], hex("D02E4386BCE91226"));
        let answer = response(challenge, &form);
        assert_eq!(answer[..], hex("82309ECD8D708B5EA08FAA3981CD83544233114A3D85D6DF"));
        assert_eq!(authenticator_response(&form, &answer, challenge), "S=407A5589115FD0D6209F510FE9C04566932CDA56");
        let key = session_key(&form, &answer);
        // What a server sends with.
        assert_eq!(key[16..32], hex("8B7CDC149B993A1BA118CB153F56DCCB"));
        assert_eq!(key[32..], [0; 32]);
    }

    fn respond(number: u8, rest: &[u8]) -> Vec<u8> {
        packet(RESPONSE, number, rest)
    }

    /// As far as the question whose answer names an account.
    fn answered(form: &Form, name: &str) -> (Conversation, Vec<u8>) {
        let (mut talk, first) = Conversation::begin(&mut Steps(1));
        assert_eq!((first[0], first[4]), (REQUEST, IDENTITY));
        let Next::Say(challenge) = talk.take(&respond(first[1], &[&[IDENTITY][..], b"whoever"].concat())) else {
            panic!("a challenge follows");
        };
        let gateway: [u8; 16] = challenge[10..26].try_into().unwrap();
        let device = [9; 16];
        let answer = response(challenge_hash(&device, &gateway, name), form);
        let value = [&device[..], &[0; 8], &answer, &[0], name.as_bytes()].concat();
        let length = ((5 + value.len()) as u16).to_be_bytes();
        (talk, respond(challenge[1], &[&[MS_CHAP, OP_RESPONSE, challenge[7]][..], &length, &[49], &value].concat()))
    }

    #[test]
    fn whoever_knows_the_password_is_in_and_others_learn_nothing_more_than_that_they_are_not() {
        let form = md4(b"x");
        let (mut talk, answer) = answered(&form, "mara.phone");
        assert!(matches!(talk.take(&answer), Next::Named(name) if name == "mara.phone"));
        let (right, said) = talk.check(&answer, "mara.phone", Some(&form), &mut Steps(3));
        assert!(right && said[9..].starts_with(b"S="));
        let Next::In { name, told, key } = talk.take(&respond(said[1], &[MS_CHAP, OP_SUCCESS])) else { panic!() };
        assert_eq!((name.as_str(), told[0], key[..16] != [0; 16]), ("mara.phone", SUCCESS, true));
        let mut words = Vec::new();
        for form in [Some(md4(b"y")), None] {
            let (mut talk, answer) = answered(&md4(b"x"), "mara.phone");
            let Next::Named(name) = talk.take(&answer) else { panic!() };
            let (right, said) = talk.check(&answer, &name, form.as_ref(), &mut Steps(3));
            assert!(!right);
            words.push(said.len());
            let Next::Out { name, told } = talk.take(&respond(said[1], &[MS_CHAP, OP_FAILURE])) else { panic!() };
            assert_eq!((name.as_str(), told[0]), ("mara.phone", FAILURE));
        }
        assert_eq!(words[0], words[1]);
    }

    #[test]
    fn both_sides_come_to_the_same_key_and_whoever_calls_does_not_believe_a_stranger() {
        for (form, inside) in [(md4(b"x\0"), true), (md4(b"y\0"), false)] {
            let (mut talk, mut said) = Conversation::begin(&mut Steps(1));
            let mut peer = Peer::new("mara.phone", "x");
            let came = loop {
                let answer = match peer.take(&said, &mut Steps(5)) {
                    Told::Say(answer) => answer,
                    Told::In(key) => break Some(key),
                    Told::Out(_) => break None,
                };
                said = match talk.take(&answer) {
                    Next::Say(said) => said,
                    Next::Named(name) => talk.check(&answer, &name, Some(&form), &mut Steps(3)).1,
                    Next::In { told, key, .. } => {
                        let Told::In(same) = peer.take(&told, &mut Steps(5)) else { panic!("it is in") };
                        break Some(key).filter(|key| **key == *same);
                    }
                    Next::Out { told, .. } => told,
                    Next::Nothing | Next::Later => panic!("there is an answer to everything"),
                };
            };
            assert_eq!(came.is_some(), inside);
        }
        let mut peer = Peer::new("mara.phone", "x");
        assert!(matches!(peer.take(&packet(SUCCESS, 1, &[]), &mut Steps(1)), Told::Out(_)), "success out of nowhere");
        let shown = packet(REQUEST, 1, &[&[MS_CHAP, OP_SUCCESS, 1, 0, 4][..], b"S=00"].concat());
        assert!(matches!(peer.take(&shown, &mut Steps(1)), Told::Out(_)), "somebody without the password");
    }

    #[test]
    fn it_ends_whatever_a_device_says() {
        let (mut talk, first) = Conversation::begin(&mut Steps(1));
        for bytes in [&[][..], &[2], &[2, 0, 0, 5, 26]] {
            let _ = talk.take(bytes);
        }
        assert!(matches!(talk.take(&respond(first[1], &[MS_CHAP, OP_SUCCESS])), Next::Out { .. }));
        let (mut talk, first) = Conversation::begin(&mut Steps(1));
        assert!(matches!(talk.take(&respond(first[1], &[NAK, 13])), Next::Out { .. }), "it wants another method");
    }

    proptest::proptest! {
        #[test]
        fn nobody_comes_in_by_bytes_alone(all in proptest::collection::vec(proptest::collection::vec(proptest::prelude::any::<u8>(), 0..80), 0..12)) {
            let (mut talk, _) = Conversation::begin(&mut Steps(1));
            for bytes in all {
                let inside = matches!(talk.take(&bytes), Next::In { .. });
                proptest::prop_assert!(!inside);
            }
        }
    }
}
