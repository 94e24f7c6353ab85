//! Encryption and integrity as IKE and ESP have them: AES-GCM (RFC 4106, 5282), ChaCha20-Poly1305 (RFC 7634), AES-CBC with HMAC-SHA2
//! (RFC 3602, 4868).

use aes::cipher::{BlockModeDecrypt as _, BlockModeEncrypt as _, KeyIvInit as _};
use ring::{aead, hmac};

/// What encrypts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Encryption {
    /// With a tag of 16 bytes, and a key of 128 or 256 bits.
    AesGcm(u16),
    ChaCha20Poly1305,
    /// With a key of 128 or 256 bits; it needs an [`Integrity`] beside it.
    AesCbc(u16),
}

/// What shows that nothing was altered, where the encryption does not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Integrity {
    Sha256,
    Sha384,
    Sha512,
}

/// Both together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Protection {
    pub encryption: Encryption,
    pub integrity: Option<Integrity>,
}

impl Protection {
    /// Bytes of the encryption's key, with the salt that AEAD has (RFC 4106 section 8.1, RFC 7634 section 2).
    #[must_use]
    pub fn key_length(&self) -> usize {
        match self.encryption {
            Encryption::AesGcm(bits) => usize::from(bits) / 8 + 4,
            Encryption::ChaCha20Poly1305 => 36,
            Encryption::AesCbc(bits) => usize::from(bits) / 8,
        }
    }

    /// Bytes of the integrity's key: as long as the hash (RFC 4868 section 2.1.1).
    #[must_use]
    pub fn integrity_key_length(&self) -> usize {
        match self.integrity {
            None => 0,
            Some(Integrity::Sha256) => 32,
            Some(Integrity::Sha384) => 48,
            Some(Integrity::Sha512) => 64,
        }
    }

    /// Bytes of the initialization vector in each message.
    #[must_use]
    pub fn iv(&self) -> usize {
        if matches!(self.encryption, Encryption::AesCbc(_)) { 16 } else { 8 }
    }

    /// Bytes of the tag behind each message.
    #[must_use]
    pub fn tag(&self) -> usize {
        match self.integrity {
            None => 16,
            // Half the hash.
            Some(_) => self.integrity_key_length() / 2,
        }
    }

    /// What is encrypted is a multiple of so many bytes.
    #[must_use]
    pub fn block(&self) -> usize {
        if matches!(self.encryption, Encryption::AesCbc(_)) { 16 } else { 1 }
    }
}

enum Kind {
    Aead { key: Box<aead::LessSafeKey>, salt: [u8; 4] },
    Cbc128 { key: [u8; 16], mac: hmac::Key },
    Cbc256 { key: [u8; 32], mac: hmac::Key },
}

/// Keys of one direction.
pub struct Key {
    kind: Kind,
    iv: usize,
    tag: usize,
}

impl Drop for Key {
    fn drop(&mut self) {
        use zeroize::Zeroize as _;
        match &mut self.kind {
            Kind::Aead { .. } => {}
            Kind::Cbc128 { key, .. } => key.zeroize(),
            Kind::Cbc256 { key, .. } => key.zeroize(),
        }
    }
}

/// A message was altered, or is somebody else's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Altered;

impl Key {
    /// Keys of the lengths that the protection has; `None` where they do not fit to each other.
    #[must_use]
    pub fn new(protection: Protection, key: &[u8], integrity_key: &[u8]) -> Option<Self> {
        if key.len() != protection.key_length() || integrity_key.len() != protection.integrity_key_length() {
            return None;
        }
        let mac = protection.integrity.map(|integrity| {
            let hash = match integrity {
                Integrity::Sha256 => hmac::HMAC_SHA256,
                Integrity::Sha384 => hmac::HMAC_SHA384,
                Integrity::Sha512 => hmac::HMAC_SHA512,
            };
            hmac::Key::new(hash, integrity_key)
        });
        let aead = |algorithm| {
            let (key, salt) = key.split_at(key.len() - 4);
            let key = Box::new(aead::LessSafeKey::new(aead::UnboundKey::new(algorithm, key).ok()?));
            Some(Kind::Aead { key, salt: salt.try_into().ok()? })
        };
        let kind = match (protection.encryption, mac) {
            (Encryption::AesGcm(128), None) => aead(&aead::AES_128_GCM)?,
            (Encryption::AesGcm(256), None) => aead(&aead::AES_256_GCM)?,
            (Encryption::ChaCha20Poly1305, None) => aead(&aead::CHACHA20_POLY1305)?,
            (Encryption::AesCbc(128), Some(mac)) => Kind::Cbc128 { key: key.try_into().ok()?, mac },
            (Encryption::AesCbc(256), Some(mac)) => Kind::Cbc256 { key: key.try_into().ok()?, mac },
            _ => return None,
        };
        Some(Self { kind, iv: protection.iv(), tag: protection.tag() })
    }

    fn nonce(salt: [u8; 4], iv: &[u8]) -> Option<aead::Nonce> {
        let mut nonce = [0; 12];
        nonce[..4].copy_from_slice(&salt);
        nonce[4..].copy_from_slice(iv.get(..8)?);
        Some(aead::Nonce::assume_unique_for_key(nonce))
    }

    /// Protects a message in place. It is `head` bytes that stay readable, the initialization vector, what is encrypted (a multiple of the
    /// block), and room for the tag. AEAD authenticates `aad`; HMAC everything before the tag, and `after`. Whoever calls it gives each
    /// vector once, and for CBC one that nobody can foresee.
    pub fn seal(&self, message: &mut [u8], head: usize, aad: &[u8], after: &[u8]) -> Option<()> {
        let end = message.len().checked_sub(self.tag)?;
        let start = head + self.iv;
        if start > end {
            return None;
        }
        match &self.kind {
            Kind::Aead { key, salt } => {
                let nonce = Self::nonce(*salt, &message[head..])?;
                let (plain, tag) = message[start..].split_at_mut(end - start);
                let made = key.seal_in_place_separate_tag(nonce, aead::Aad::from(aad), plain).ok()?;
                tag.copy_from_slice(made.as_ref());
            }
            Kind::Cbc128 { key, mac } => {
                self.cbc(message, head, end, |iv, plain| {
                    let mut cipher = cbc::Encryptor::<aes::Aes128>::new_from_slices(key, iv).ok()?;
                    blocks(plain)?.iter_mut().for_each(|block| cipher.encrypt_block(block));
                    Some(())
                })?;
                self.mac(mac, message, end, after);
            }
            Kind::Cbc256 { key, mac } => {
                self.cbc(message, head, end, |iv, plain| {
                    let mut cipher = cbc::Encryptor::<aes::Aes256>::new_from_slices(key, iv).ok()?;
                    blocks(plain)?.iter_mut().for_each(|block| cipher.encrypt_block(block));
                    Some(())
                })?;
                self.mac(mac, message, end, after);
            }
        }
        Some(())
    }

    fn cbc(
        &self,
        message: &mut [u8],
        head: usize,
        end: usize,
        each: impl FnOnce(&[u8], &mut [u8]) -> Option<()>,
    ) -> Option<()> {
        let (before, rest) = message[..end].split_at_mut(head + self.iv);
        each(&before[head..], rest)
    }

    fn mac(&self, key: &hmac::Key, message: &mut [u8], end: usize, after: &[u8]) {
        let tag = made(key, &message[..end], after);
        message[end..].copy_from_slice(&tag.as_ref()[..self.tag]);
    }

    /// Opens a message in place; gives what was encrypted.
    ///
    /// # Errors
    /// [`Altered`].
    pub fn open<'m>(
        &self,
        message: &'m mut [u8],
        head: usize,
        aad: &[u8],
        after: &[u8],
    ) -> Result<&'m mut [u8], Altered> {
        let end = message.len().checked_sub(self.tag).ok_or(Altered)?;
        let start = head + self.iv;
        if start > end {
            return Err(Altered);
        }
        match &self.kind {
            Kind::Aead { key, salt } => {
                let nonce = Self::nonce(*salt, &message[head..]).ok_or(Altered)?;
                key.open_in_place(nonce, aead::Aad::from(aad), &mut message[start..]).map_err(|_| Altered)
            }
            Kind::Cbc128 { mac, .. } | Kind::Cbc256 { mac, .. } => {
                let tag = made(mac, &message[..end], after);
                if !same(&tag.as_ref()[..self.tag], &message[end..]) {
                    return Err(Altered);
                }
                self.cbc(message, head, end, |iv, secret| {
                    let secret = blocks(secret)?;
                    match &self.kind {
                        Kind::Cbc128 { key, .. } => {
                            let mut cipher = cbc::Decryptor::<aes::Aes128>::new_from_slices(key, iv).ok()?;
                            secret.iter_mut().for_each(|block| cipher.decrypt_block(block));
                        }
                        Kind::Cbc256 { key, .. } => {
                            let mut cipher = cbc::Decryptor::<aes::Aes256>::new_from_slices(key, iv).ok()?;
                            secret.iter_mut().for_each(|block| cipher.decrypt_block(block));
                        }
                        Kind::Aead { .. } => return None,
                    }
                    Some(())
                })
                .ok_or(Altered)?;
                Ok(&mut message[start..end])
            }
        }
    }
}

/// Whole blocks of AES; `None` where some bytes are left over.
fn blocks(bytes: &mut [u8]) -> Option<&mut [aes::Block]> {
    let (blocks, rest) = aes::Block::slice_as_chunks_mut(bytes);
    rest.is_empty().then_some(blocks)
}

fn made(key: &hmac::Key, message: &[u8], after: &[u8]) -> hmac::Tag {
    let mut context = hmac::Context::with_key(key);
    context.update(message);
    context.update(after);
    context.sign()
}

/// Whether two runs of bytes are equal, in a time that depends on their lengths alone.
#[must_use]
pub fn same(one: &[u8], other: &[u8]) -> bool {
    let differ = one.iter().zip(other).fold(0, |differ, (one, other)| std::hint::black_box(differ | (one ^ other)));
    one.len() == other.len() && differ == 0
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hex(text: &str) -> Vec<u8> {
        let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
        digits.chunks(2).map(|two| u8::from_str_radix(std::str::from_utf8(two).unwrap(), 16).unwrap()).collect()
    }

    /// RFC 7634 appendix A.
    #[test]
    fn the_published_example_of_chacha20_poly1305_in_esp() {
        let protection = Protection { encryption: Encryption::ChaCha20Poly1305, integrity: None };
        let mut key: Vec<u8> = (0x80..0xa0).collect();
        key.extend(0xa0..0xa4);
        let key = Key::new(protection, &key, &[]).unwrap();
        let plain = hex(
            "45000054a6f200004001e778c6336405c000020508005b7a3a080000553bec100007362708090a0b0c0d0e0f1011121314151617
            18191a1b1c1d1e1f202122232425262728292a2b2c2d2e2f303132333435363701020204",
        );
        let sealed = hex("24039428b97f417e3c13753a4f05087b67c352e6a7fab1b982d466ef407ae5c614ee8099d52844eb61aa95dfab4c02f72aa71e7c4c4f64
            c9befe2facc638e8f3cbec163fac469b502773f6fb94e664da9165b82829f641e076aaa8266b7fb0f7b11b369907e1ad43");
        let head = hex("0102030400000005");
        let mut message = [&head[..], &hex("1011121314151617"), &plain, &[0; 16]].concat();
        key.seal(&mut message, 8, &head, &[]).unwrap();
        assert_eq!(message[16..], sealed);
        assert_eq!(key.open(&mut message, 8, &head, &[]).unwrap(), plain);
        message[20] ^= 1;
        assert_eq!(key.open(&mut message, 8, &head, &[]), Err(Altered));
    }

    /// The specification of GCM, test cases 1, 2, 13 and 14: the salt and the vector are the 96 bits of its IV.
    #[test]
    fn the_published_examples_of_gcm() {
        let cases = [
            (128, "", "58e2fccefa7e3061367f1d57a4e7455a"),
            (128, "0388dace60b6a392f328c2b971b2fe78", "ab6e47d42cec13bdf53a67b21257bddf"),
            (256, "", "530f8afbc74536b9a963b4f1c4cb738b"),
            (256, "cea7403d4d606b6e074ec5d3baf39d18", "d0d1c8a799996bf0265b98b5d48ab919"),
        ];
        for (bits, secret, tag) in cases {
            let protection = Protection { encryption: Encryption::AesGcm(bits), integrity: None };
            let key = Key::new(protection, &vec![0; protection.key_length()], &[]).unwrap();
            let mut message = vec![0; 8 + secret.len() / 2 + 16];
            key.seal(&mut message, 0, &[], &[]).unwrap();
            assert_eq!(message[8..], [hex(secret), hex(tag)].concat(), "{bits}");
        }
    }

    #[test]
    fn every_protection_opens_what_it_seals_and_nothing_that_was_altered() {
        let all = [
            (Encryption::AesGcm(128), None),
            (Encryption::AesGcm(256), None),
            (Encryption::ChaCha20Poly1305, None),
            (Encryption::AesCbc(128), Some(Integrity::Sha256)),
            (Encryption::AesCbc(256), Some(Integrity::Sha384)),
            (Encryption::AesCbc(256), Some(Integrity::Sha512)),
        ];
        for (encryption, integrity) in all {
            let protection = Protection { encryption, integrity };
            let bytes: Vec<u8> = (0..100).collect();
            let key =
                Key::new(protection, &bytes[..protection.key_length()], &bytes[..protection.integrity_key_length()]);
            let key = key.unwrap();
            let plain = [7; 64];
            let mut message = vec![1; 8 + protection.iv()];
            message.extend_from_slice(&plain);
            message.resize(message.len() + protection.tag(), 0);
            key.seal(&mut message, 8, &[1; 8], b"high").unwrap();
            assert_ne!(message[8 + protection.iv()..][..64], plain);
            for at in [8 + protection.iv(), message.len() - 1] {
                let mut altered = message.clone();
                altered[at] ^= 0x10;
                assert_eq!(key.open(&mut altered, 8, &[1; 8], b"high"), Err(Altered), "{protection:?} {at}");
            }
            assert_eq!(key.open(&mut message.clone(), 8, &[1; 8], b"high").unwrap(), plain);
            assert_eq!(key.open(&mut [0; 20], 8, &[1; 8], b"high"), Err(Altered));
        }
        assert!(Key::new(Protection { encryption: Encryption::AesCbc(256), integrity: None }, &[0; 32], &[]).is_none());
    }
}
