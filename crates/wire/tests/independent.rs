//! A second implementation, written from `docs/quill.md` and the Noise specification alone, with other packages than the
//! first: it must read the vectors on that page and make the same bytes.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use aes::cipher::{BlockCipherEncrypt as _, KeyInit as _};
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
    let mut mac = <Hmac as hmac::KeyInit>::new_from_slice(key).unwrap();
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

    /// IK from the gateway's view, as far as the pre-message.
    fn towards(cipher: Cipher, prologue: &[u8], gateway_public: &[u8; 32]) -> Self {
        let mut noise = Self::new(cipher);
        noise.mix_hash(prologue);
        noise.mix_hash(gateway_public);
        noise
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

fn kdf(secret: &[u8], info: &[u8]) -> [u8; 32] {
    let mut out = [0; 32];
    hkdf::Hkdf::<Sha256>::new(Some(b"yestrel quill 1"), secret).expand(info, &mut out).unwrap();
    out
}

fn xor(bytes: &[u8], with: &[u8]) -> Vec<u8> {
    bytes.iter().zip(with).map(|(byte, with)| byte ^ with).collect()
}

/// The two keys of a listener's call secret.
struct Called {
    tag: [u8; 16],
    cover: [u8; 32],
}

/// SipHash-2-4, as the standard library still has it.
#[allow(deprecated, reason = "another implementation than the first's")]
fn sip(key: &[u8; 16], data: &[u8]) -> [u8; 8] {
    use std::hash::Hasher as _;
    let half = |at: usize| u64::from_le_bytes(key[at..at + 8].try_into().unwrap());
    let mut hasher = std::hash::SipHasher::new_with_keys(half(0), half(8));
    hasher.write(data);
    hasher.finish().to_le_bytes()
}

impl Called {
    fn cover(&self, label: &[u8], sample: &[u8]) -> [u8; 32] {
        hmac(&self.cover, &[label, sample].concat())
    }
}

/// Opens a protected datagram of a connection that has the number 0.
fn open_first(cipher: Cipher, key: &[u8; 32], id: &[u8; 8], datagram: &[u8]) -> Vec<u8> {
    assert_eq!(&datagram[..8], id);
    let mask = cipher.mask(&kdf(key, b"number"), &datagram[12..28].try_into().unwrap());
    assert_eq!(xor(&datagram[8..12], &mask), [0, 0, 0, 0]);
    let beside = [&id[..], &[0; 8]].concat();
    cipher.open(&kdf(key, b"frames"), &[0; 12], &beside, &datagram[12..])
}

fn check(cipher: Cipher, heading: &str) {
    let whole = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/quill.md")).unwrap();
    let page = &whole[whole.find(&format!("### {heading}")).unwrap()..];
    let opening = vector(page, "```text\nopening\n", "again,");
    let again = vector(page, "with the token `TOKEN OF SIXTEEN`\n", "answer\n");
    let answer = vector(page, "\nanswer\n", "first keys");
    let first_keys = vector(page, "first keys: to gateway, to device\n", "Noise's");
    let hash = vector(page, "Noise's handshake hash\n", "device's first");
    let part = vector(page, "part 0 of its ML-KEM key\n", "part 1");
    let second_part = vector(page, "\npart 1 of its ML-KEM key\n", "gateway's");
    let ciphertext = vector(page, "gateway's ciphertext\n", "final keys");
    let final_keys = vector(page, "final keys: to gateway, to device\n", "device's first");
    let ready = vector(page, "under the final keys: ready, padded to 64 bytes\n", "```");

    let (gateway, device, e2) = (counting(0), counting(0x20), counting(0x60));
    let gateway_public = PublicKey::from(&gateway).to_bytes();
    let call_secret: [u8; 32] = std::array::from_fn(|at| 0x80 + at as u8);
    let called =
        Called { tag: kdf(&call_secret, b"tag")[..16].try_into().unwrap(), cover: kdf(&call_secret, b"cover") };

    // The tag that keeps strangers out, the covers, and the token under one.
    assert_eq!(opening[..8], sip(&called.tag, &[b"opening", &opening[8..104]].concat()));
    let token = xor(&opening[8..24], &called.cover(b"token", &opening[56..104]));
    assert_eq!(token, b"a token of 16 by");
    let e1 = xor(&opening[24..56], &called.cover(b"opening", &opening[56..104]));
    assert_eq!(e1, PublicKey::from(&counting(0x40)).to_bytes());

    // A request to come again.
    assert_eq!(again[..8], sip(&called.tag, &[b"again", &opening[..8], &again[8..]].concat()));
    assert_eq!(xor(&again[8..24], &called.cover(b"again", &opening[..8])), b"TOKEN OF SIXTEEN");
    assert!(again.len() >= 24 && again.len() <= opening.len());

    // Noise message 1: e, es, s, ss.
    let mut noise = Symmetric::towards(cipher, &[b"yestrel quill 1", &token[..]].concat(), &gateway_public);
    noise.mix_hash(&e1);
    noise.mix_key(&dh(&gateway, &e1));
    let device_public = noise.open(&opening[56..104]);
    assert_eq!(device_public, PublicKey::from(&device).to_bytes());
    noise.mix_key(&dh(&gateway, &device_public));
    let said = read_fields(&noise.open(&opening[104..]));
    assert_eq!(said[0], (1, vec![0, 1]), "version 1");
    assert_eq!(said[1], (2, b"device-1".to_vec()));
    assert_eq!(said[2], (3, b"vector".to_vec()));
    assert!(said[3].0 == 0 && said[3].1.iter().all(|byte| *byte == 0), "padding");
    assert!((900..1200).contains(&opening.len()));

    // Noise message 2: e, ee, se; with the settings that the page names, and as much padding as the vector has.
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
    let mut payload = [field(1, &[0, 1]), field(2, b"gateway1"), field(5, &settings)].concat();
    let padding = answer.len() - 56 - payload.len();
    if padding >= 3 {
        payload.extend(field(0, &vec![0; padding - 3]));
    }
    let e2_public = PublicKey::from(&e2).to_bytes();
    noise.mix_hash(&e2_public);
    noise.mix_key(&dh(&e2, &e1));
    noise.mix_key(&dh(&e2, &device_public));
    let sealed = noise.seal(&payload);
    let covered = xor(&e2_public, &called.cover(b"answer", &sealed[..16]));
    assert_eq!([&b"device-1"[..], &covered, &sealed].concat(), answer);
    assert!(answer.len() <= opening.len());

    // The first keys, and the device's ML-KEM key under them.
    let (up, down) = noise.expand(&[]);
    assert_eq!([up, down].concat(), first_keys);
    assert_eq!(noise.hash.to_vec(), hash);
    let count = |from: u8| std::array::from_fn::<u8, 32, _>(|at| from + at as u8);
    use fips203::traits::{Decaps as _, Encaps as _, KeyGen as _, SerDes as _};
    let (key, private) = fips203::ml_kem_768::KG::keygen_from_seed(count(0), count(0x20));
    let key_bytes = key.clone().into_bytes();
    let frames = open_first(cipher, &up, b"gateway1", &part);
    assert_eq!(frames[..3], [10, 2, 89], "frame 10 of 601 bytes");
    assert_eq!((frames[3], &frames[4..12], &frames[12..604]), (0, &b"device-2"[..], &key_bytes[..592]));
    assert!(frames[604..].iter().all(|byte| *byte == 0));
    assert_eq!(second_part, key_bytes[592..]);

    // The gateway's ciphertext, and the final keys.
    let (secret, made) = key.encaps_from_seed(&count(0x40));
    assert_eq!(made.clone().into_bytes().to_vec(), ciphertext);
    let secret = secret.into_bytes();
    assert_eq!(private.try_decaps(&made).unwrap().into_bytes(), secret);
    let said = sha256(&[&hash, b"device-2", b"gateway2", &key_bytes, &ciphertext]);
    let secrets = [&up[..], &down, &secret].concat();
    let to_gateway = kdf(&secrets, &[b"to gateway", &said[..]].concat());
    let to_device = kdf(&secrets, &[b"to device", &said[..]].concat());
    assert_eq!([to_gateway, to_device].concat(), final_keys);

    let frames = open_first(cipher, &to_gateway, b"gateway2", &ready);
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
