//! A second implementation, written from `docs/quill.md` and the Noise specification alone, with other packages than the
//! first: it must read the vectors on that page and make the same bytes.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use aes::cipher::{BlockEncrypt as _, KeyInit as _};
use chacha20::cipher::{KeyIvInit as _, StreamCipher as _, StreamCipherSeek as _};
use chacha20poly1305::aead::{Aead as _, Payload};
use hmac::Mac as _;
use sha2::{Digest as _, Sha256};
use x25519_dalek::{PublicKey, StaticSecret};

type Hmac = hmac::Hmac<Sha256>;

#[derive(Clone, Copy, PartialEq)]
enum Cipher {
    Aes,
    ChaCha,
}

impl Cipher {
    fn seal(self, key: &[u8; 32], nonce: &[u8; 12], beside: &[u8], plain: &[u8]) -> Vec<u8> {
        let payload = Payload { msg: plain, aad: beside };
        match self {
            Self::Aes => aes_gcm::Aes256Gcm::new(key.into()).encrypt(nonce.into(), payload).unwrap(),
            Self::ChaCha => chacha20poly1305::ChaCha20Poly1305::new(key.into()).encrypt(nonce.into(), payload).unwrap(),
        }
    }

    fn open(self, key: &[u8; 32], nonce: &[u8; 12], beside: &[u8], sealed: &[u8]) -> Vec<u8> {
        let payload = Payload { msg: sealed, aad: beside };
        match self {
            Self::Aes => aes_gcm::Aes256Gcm::new(key.into()).decrypt(nonce.into(), payload).unwrap(),
            Self::ChaCha => chacha20poly1305::ChaCha20Poly1305::new(key.into()).decrypt(nonce.into(), payload).unwrap(),
        }
    }

    /// Noise, section 12: AESGCM counts big-endian, ChaChaPoly little-endian, after four zero bytes.
    fn noise_nonce(self, number: u64) -> [u8; 12] {
        let mut nonce = [0; 12];
        nonce[4..].copy_from_slice(&if self == Self::Aes { number.to_be_bytes() } else { number.to_le_bytes() });
        nonce
    }

    /// RFC 9001 sections 5.4.3 and 5.4.4.
    fn mask(self, key: &[u8; 32], sample: &[u8; 16]) -> [u8; 4] {
        match self {
            Self::Aes => {
                let mut block = (*sample).into();
                aes::Aes256::new(key.into()).encrypt_block(&mut block);
                [block[0], block[1], block[2], block[3]]
            }
            Self::ChaCha => {
                let counter = u32::from_le_bytes(sample[..4].try_into().unwrap());
                let nonce: [u8; 12] = sample[4..].try_into().unwrap();
                let mut stream = chacha20::ChaCha20::new(key.into(), &nonce.into());
                stream.seek(u64::from(counter) * 64);
                let mut mask = [0; 4];
                stream.apply_keystream(&mut mask);
                mask
            }
        }
    }
}

fn hmac(key: &[u8], data: &[u8]) -> [u8; 32] {
    let mut mac = <Hmac as hmac::Mac>::new_from_slice(key).unwrap();
    mac.update(data);
    mac.finalize().into_bytes().into()
}

fn sha256(parts: &[&[u8]]) -> [u8; 32] {
    let mut hash = Sha256::new();
    parts.iter().for_each(|part| hash.update(part));
    hash.finalize().into()
}

fn dh(private: &StaticSecret, public: &[u8]) -> [u8; 32] {
    let public: [u8; 32] = public.try_into().unwrap();
    private.diffie_hellman(&PublicKey::from(public)).to_bytes()
}

/// Noise's SymmetricState, section 5.2.
struct Symmetric {
    cipher: Cipher,
    chaining: [u8; 32],
    hash: [u8; 32],
    key: [u8; 32],
    number: u64,
}

impl Symmetric {
    fn new(cipher: Cipher) -> Self {
        let name: &[u8] =
            if cipher == Cipher::Aes { b"Noise_IK_25519_AESGCM_SHA256" } else { b"Noise_IK_25519_ChaChaPoly_SHA256" };
        // Up to 32 bytes the name is padded, beyond that hashed; these have 28 and 32.
        let mut hash = [0; 32];
        hash[..name.len()].copy_from_slice(name);
        Self { cipher, chaining: hash, hash, key: [0; 32], number: 0 }
    }

    fn mix_hash(&mut self, data: &[u8]) {
        self.hash = sha256(&[&self.hash, data]);
    }

    fn expand(&self, input: &[u8]) -> ([u8; 32], [u8; 32]) {
        let secret = hmac(&self.chaining, input);
        let first = hmac(&secret, &[1]);
        (first, hmac(&secret, &[&first[..], &[2]].concat()))
    }

    fn mix_key(&mut self, input: &[u8]) {
        (self.chaining, self.key) = self.expand(input);
        self.number = 0;
    }

    fn open(&mut self, sealed: &[u8]) -> Vec<u8> {
        let plain = self.cipher.open(&self.key, &self.cipher.noise_nonce(self.number), &self.hash, sealed);
        self.number += 1;
        self.mix_hash(sealed);
        plain
    }

    fn seal(&mut self, plain: &[u8]) -> Vec<u8> {
        let sealed = self.cipher.seal(&self.key, &self.cipher.noise_nonce(self.number), &self.hash, plain);
        self.number += 1;
        self.mix_hash(&sealed);
        sealed
    }
}

fn unhex(text: &str) -> Vec<u8> {
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap()).collect()
}

/// The lines between two headings of the page, as bytes.
fn vector(page: &str, from: &str, to: &str) -> Vec<u8> {
    let rest = &page[page.find(from).unwrap_or_else(|| panic!("{from}")) + from.len()..];
    let end = rest.find(to).unwrap_or_else(|| panic!("{to}"));
    unhex(&rest[..end].split_whitespace().collect::<String>())
}

fn field(tag: u8, value: &[u8]) -> Vec<u8> {
    [&[tag], &(value.len() as u16).to_be_bytes()[..], value].concat()
}

fn read_fields(mut bytes: &[u8]) -> Vec<(u8, Vec<u8>)> {
    let mut fields = Vec::new();
    while let [tag, high, low, rest @ ..] = bytes {
        let (value, rest) = rest.split_at(usize::from(*high) * 256 + usize::from(*low));
        fields.push((*tag, value.to_vec()));
        bytes = rest;
    }
    fields
}

fn counting(from: u8) -> StaticSecret {
    StaticSecret::from(std::array::from_fn::<u8, 32, _>(|at| from + at as u8))
}

fn check(cipher: Cipher, heading: &str) {
    let whole = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/quill.md")).unwrap();
    let page = &whole[whole.find(&format!("### {heading}")).unwrap()..];
    let opening = vector(page, "```text\nopening\n", "answer\n");
    let answer = vector(page, "\nanswer\n", "device to gateway key\n");
    let up = vector(page, "\ndevice to gateway key\n", "gateway to device key\n");
    let down = vector(page, "\ngateway to device key\n", "first datagram");
    let first = vector(page, "one ready frame and 61 bytes of padding\n", "```");

    let (gateway, device, e2) = (counting(0), counting(0x20), counting(0x60));
    let gateway_public = PublicKey::from(&gateway).to_bytes();

    // The tag that keeps strangers out.
    let key = sha256(&[b"yestrel quill 1 opening", &gateway_public]);
    assert_eq!(opening[..8], hmac(&key, &opening[8..])[..8]);

    // Noise message 1: e, es, s, ss.
    let mut noise = Symmetric::new(cipher);
    noise.mix_hash(b"yestrel quill 1");
    noise.mix_hash(&gateway_public);
    let e1 = &opening[8..40];
    noise.mix_hash(e1);
    noise.mix_key(&dh(&gateway, e1));
    let device_public = noise.open(&opening[40..88]);
    assert_eq!(device_public, PublicKey::from(&device).to_bytes());
    noise.mix_key(&dh(&gateway, &device_public));
    let said = read_fields(&noise.open(&opening[88..]));
    assert_eq!(said[0], (1, vec![0, 1]), "version 1");
    assert_eq!(said[1], (2, b"device-1".to_vec()));
    assert_eq!(said[2], (3, b"vector".to_vec()));
    assert!(said[3].0 == 4 && said[3].1.iter().all(|byte| *byte == 0), "padding");
    assert!((900..1200).contains(&opening.len()));

    // Noise message 2: e, ee, se; with the settings that the page names.
    let settings = [
        field(1, &1_u32.to_be_bytes()),
        field(2, &[10, 187, 44, 2, 24]),
        field(3, &[10, 187, 44, 1]),
        field(4, &[10, 44, 0, 20]),
        field(5, &[10, 44, 0, 0, 22]),
        field(6, &1400_u16.to_be_bytes()),
        field(7, &20_u16.to_be_bytes()),
    ]
    .concat();
    let payload = [field(1, &[0, 1]), field(2, b"gateway1"), field(5, &settings)].concat();
    let mut made = b"device-1".to_vec();
    let e2_public = PublicKey::from(&e2).to_bytes();
    made.extend(e2_public);
    noise.mix_hash(&e2_public);
    noise.mix_key(&dh(&e2, e1));
    noise.mix_key(&dh(&e2, &device_public));
    made.extend(noise.seal(&payload));
    assert_eq!(made, answer);
    assert!(answer.len() <= opening.len());

    // The two keys, and the first datagram.
    let (first_key, second_key) = noise.expand(&[]);
    assert_eq!((first_key.to_vec(), second_key.to_vec()), (up, down));
    let expand = |info: &[u8]| {
        let mut out = [0; 32];
        hkdf::Hkdf::<Sha256>::new(Some(b"yestrel quill 1"), &first_key).expand(info, &mut out).unwrap();
        out
    };
    assert_eq!(&first[..8], b"gateway1");
    let mask = cipher.mask(&expand(b"number"), &first[12..28].try_into().unwrap());
    let number: Vec<u8> = first[8..12].iter().zip(mask).map(|(byte, mask)| byte ^ mask).collect();
    assert_eq!(number, [0, 0, 0, 0]);
    let beside = [&b"gateway1"[..], &[0; 8]].concat();
    let frames = cipher.open(&expand(b"frames"), &[0; 12], &beside, &first[12..]);
    assert_eq!(frames.len(), 64);
    assert_eq!(frames[..3], [9, 0, 0], "ready, with an empty body");
    assert!(frames[3..].iter().all(|byte| *byte == 0));
}

#[test]
fn the_vectors_of_aes_256_gcm_can_be_made_from_the_page_alone() {
    check(Cipher::Aes, "aes-256-gcm");
}

#[test]
fn the_vectors_of_chacha20_poly1305_can_be_made_from_the_page_alone() {
    check(Cipher::ChaCha, "chacha20-poly1305");
}
