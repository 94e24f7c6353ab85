//! A private key and certificates under a password: PKCS#12 (RFC 7292), made and read.
//!
//! ```text
//! PFX ─ version 3
//!     ─ contents, in the clear or under the password ─ key (PKCS#8, under the password)
//!     │                                              ─ certificates
//!     └ a MAC over the contents, by a key from the password (RFC 7292 appendix B)
//! ```
//!
//! What is made is encrypted with PBES2 (RFC 8018: PBKDF2 with HMAC-SHA-256, AES-256 in CBC mode) and has a MAC by HMAC-SHA-256; or, for
//! clients that know no other, with three keys of DES and SHA-1 (RFC 7292 appendix C). What is read may also have RC2 with 40 bits, which
//! nobody makes any more, or no MAC.

use des::cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, BlockSizeUser, KeyInit};
use pkcs8::der::{Decode as _, Encode as _};
use pkcs8::pkcs5::{EncryptionScheme, pbes2};
use ring::rand::SecureRandom;
use ring::{digest, hmac};
use x509_cert::der::asn1::{AnyRef, ContextSpecific, OctetStringRef};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _, Reader, SliceReader, Tag, Tagged as _};
use zeroize::Zeroizing;

use super::certificate::Certificate;
use crate::keys::Secret;
use crate::{Problem, Result};

const DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.1");
const ENCRYPTED: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.6");
const KEY: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.1");
const SHROUDED_KEY: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.2");
const CERTIFICATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.10.1.3");
const X509: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.22.1");
const FRIENDLY_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.20");
const LOCAL_KEY: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.21");
const PBES2: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.13");
const SHA1_3DES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.1.3");
const SHA1_RC2_40: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.1.6");
const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");

/// How often a password may be worked on before it becomes a key: some seconds of work, and no more at the word of a file.
const MOST_ITERATIONS: u32 = 5_000_000;

/// What is in one.
#[derive(Debug)]
pub struct Bundle {
    /// PKCS#8 (RFC 5958), with the number by which its certificate is known.
    pub key: Option<Secret>,
    /// The key's own first, where the bundle says which that is; the others as they stand.
    pub certificates: Vec<Certificate>,
}

/// By what one is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Protection {
    /// AES-256 and SHA-256.
    Present { iterations: u32 },
    /// Three keys of DES, and SHA-1.
    Old { iterations: u32 },
}

/// Why one was not opened.
#[derive(Debug)]
pub enum Closed {
    /// The password is another.
    Password,
    /// No password would open it.
    Unreadable(Problem),
}

impl From<Problem> for Closed {
    fn from(problem: Problem) -> Self {
        Self::Unreadable(problem)
    }
}

impl From<x509_cert::der::Error> for Closed {
    fn from(error: x509_cert::der::Error) -> Self {
        Self::Unreadable(damaged(&error.to_string()))
    }
}

fn damaged(why: &str) -> Problem {
    Problem::words("the PKCS#12 file is damaged").why(why)
}

fn unknown(what: &str, oid: ObjectIdentifier) -> Closed {
    Closed::Unreadable(
        Problem::refused(format!("{what} of this PKCS#12 file is not known here"))
            .why(format!("it is {oid}"))
            .try_("openssl pkcs12 -in OLD -out ALL.pem   and then -export with AES-256 and SHA-256, or bring the PEM"),
    )
}

// Writing: every element is a tag, a length and its parts (X.690 section 8.1).

fn element(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let length: usize = parts.iter().map(|part| part.len()).sum();
    let bytes = length.to_be_bytes();
    let digits = &bytes[bytes.iter().take_while(|byte| **byte == 0).count()..];
    let mut out = vec![tag];
    match u8::try_from(length) {
        Ok(short @ 0..0x80) => out.push(short),
        _ => {
            out.push(0x80 | u8::try_from(digits.len()).unwrap_or(0));
            out.extend_from_slice(digits);
        }
    }
    parts.iter().for_each(|part| out.extend_from_slice(part));
    out
}

fn sequence(parts: &[&[u8]]) -> Vec<u8> {
    element(0x30, parts)
}

fn octets(bytes: &[u8]) -> Vec<u8> {
    element(0x04, &[bytes])
}

fn oid(oid: ObjectIdentifier) -> Vec<u8> {
    element(0x06, &[oid.as_bytes()])
}

/// [0], explicit.
fn inside(part: &[u8]) -> Vec<u8> {
    element(0xa0, &[part])
}

/// What a number is as INTEGER.
fn integer(number: u32) -> Vec<u8> {
    let bytes = number.to_be_bytes();
    let digits = &bytes[bytes.iter().take(3).take_while(|byte| **byte == 0).count()..];
    // A first bit that is set would make it negative.
    let sign: &[u8] = if digits[0] >= 0x80 { &[0] } else { &[] };
    element(0x02, &[sign, digits])
}

/// The password as RFC 7292 appendix B.1 has it: UTF-16, the higher byte first, with two zero bytes at its end.
fn wide(password: &str) -> Zeroizing<Vec<u8>> {
    Zeroizing::new(password.encode_utf16().chain([0]).flat_map(u16::to_be_bytes).collect())
}

/// What bytes from a password are for (RFC 7292 appendix B.3).
#[derive(Clone, Copy)]
enum Use {
    Key = 1,
    Start = 2,
    Mac = 3,
}

/// `length` bytes from a password (RFC 7292 appendix B.2).
fn derived(
    hash: &'static digest::Algorithm,
    wide: &[u8],
    salt: &[u8],
    iterations: u32,
    purpose: Use,
    length: usize,
) -> Zeroizing<Vec<u8>> {
    let block = hash.block_len();
    let filled = |bytes: &[u8]| {
        let length = bytes.len().div_ceil(block) * block;
        bytes.iter().copied().cycle().take(if bytes.is_empty() { 0 } else { length }).collect::<Vec<u8>>()
    };
    let mut input = Zeroizing::new(filled(salt));
    input.extend_from_slice(&Zeroizing::new(filled(wide)));
    let mut out = Zeroizing::new(Vec::with_capacity(length + hash.output_len()));
    while out.len() < length {
        let mut context = digest::Context::new(hash);
        context.update(&vec![purpose as u8; block]);
        context.update(&input);
        let mut round = context.finish();
        for _ in 1..iterations {
            round = digest::digest(hash, round.as_ref());
        }
        let round = round.as_ref();
        out.extend_from_slice(round);
        // Each block of the input grows by the round's, filled up, and by one.
        for part in input.chunks_mut(block) {
            let mut carry = 1_u16;
            for (at, byte) in part.iter_mut().enumerate().rev() {
                carry += u16::from(*byte) + u16::from(round[at % round.len()]);
                *byte = carry.to_be_bytes()[1];
                carry >>= 8;
            }
        }
    }
    out.truncate(length);
    out
}

/// Blocks of eight bytes, each mixed with the one before it (NIST SP 800-38A section 6.2).
fn decrypted<C: BlockCipherDecrypt + BlockSizeUser>(
    cipher: &C,
    start: &[u8],
    bytes: &[u8],
) -> Option<Zeroizing<Vec<u8>>> {
    let mut out = Zeroizing::new(Vec::with_capacity(bytes.len()));
    let mut before = start;
    for block in bytes.chunks(8) {
        let mut plain = Array::try_from(block).ok()?;
        cipher.decrypt_block(&mut plain);
        out.extend(plain.iter().zip(before).map(|(byte, before)| byte ^ before));
        before = block;
    }
    // As many bytes of that number as fill the last block (RFC 8018 section 6.1.1).
    let count = usize::from(*out.last()?);
    let end = out.len().checked_sub(count).filter(|_| (1..=8).contains(&count))?;
    out[end..].iter().all(|byte| usize::from(*byte) == count).then_some(())?;
    out.truncate(end);
    Some(out)
}

fn encrypted<C: BlockCipherEncrypt + BlockSizeUser>(cipher: &C, start: &[u8], bytes: &[u8]) -> Option<Vec<u8>> {
    let count = 8 - bytes.len() % 8;
    let mut padded = Zeroizing::new(bytes.to_vec());
    padded.extend(std::iter::repeat_n(u8::try_from(count).ok()?, count));
    let mut out = Vec::with_capacity(padded.len());
    let mut before = start.to_vec();
    for block in padded.chunks(8) {
        before.iter_mut().zip(block).for_each(|(before, byte)| *before ^= byte);
        let mut mixed = Array::try_from(&before[..]).ok()?;
        cipher.encrypt_block(&mut mixed);
        before.copy_from_slice(&mixed);
        out.extend_from_slice(&before);
    }
    Some(out)
}

/// A cipher of appendix C with its key, and where it starts.
fn old_cipher<C: KeyInit>(
    size: usize,
    password: &str,
    salt: &[u8],
    iterations: u32,
) -> Option<(C, Zeroizing<Vec<u8>>)> {
    let sha1 = &digest::SHA1_FOR_LEGACY_USE_ONLY;
    let wide = wide(password);
    let key = derived(sha1, &wide, salt, iterations, Use::Key, size);
    Some((C::new_from_slice(&key).ok()?, derived(sha1, &wide, salt, iterations, Use::Start, 8)))
}

fn iterations(reader: &mut SliceReader<'_>) -> std::result::Result<u32, Closed> {
    // A number that does not even fit is as much too large.
    let number = reader.decode::<u32>().unwrap_or(u32::MAX);
    if !(1..=MOST_ITERATIONS).contains(&number) {
        let why =
            format!("its password is to be worked on {number} times; {MOST_ITERATIONS} are the most that is taken");
        return Err(damaged(&why).into());
    }
    Ok(number)
}

/// The elements inside one.
fn elements<'a>(of: AnyRef<'a>) -> std::result::Result<SliceReader<'a>, Closed> {
    if of.tag() != Tag::Sequence {
        return Err(damaged("something in it is no sequence").into());
    }
    Ok(SliceReader::new(of.value())?)
}

/// What is inside [0], explicit.
fn explicit<'a>(reader: &mut SliceReader<'a>) -> std::result::Result<AnyRef<'a>, Closed> {
    let tagged = reader.decode::<ContextSpecific<AnyRef<'a>>>()?;
    match tagged.tag_number.value() {
        0 => Ok(tagged.value),
        _ => Err(damaged("something in it is not where it belongs").into()),
    }
}

/// Bytes under the password, by an algorithm with its parameters. What stands there is one whole structure: the padding of what another
/// password makes of it is right once in two hundred times, and where there is no MAC nothing else would tell.
fn opened(algorithm: AnyRef<'_>, password: &str, bytes: &[u8]) -> std::result::Result<Zeroizing<Vec<u8>>, Closed> {
    let plain = unsealed(algorithm, password, bytes)?;
    let whole = AnyRef::from_der(&plain).is_ok_and(|one| one.tag() == Tag::Sequence);
    if whole { Ok(plain) } else { Err(Closed::Password) }
}

fn unsealed(algorithm: AnyRef<'_>, password: &str, bytes: &[u8]) -> std::result::Result<Zeroizing<Vec<u8>>, Closed> {
    let mut parts = elements(algorithm)?;
    let name = parts.decode::<ObjectIdentifier>()?;
    if name == PBES2 {
        let der = algorithm.to_der()?;
        let scheme = EncryptionScheme::from_der(&der);
        let Ok(EncryptionScheme::Pbes2(parameters)) = scheme else { return Err(unknown("the encryption", name)) };
        if parameters.kdf.pbkdf2().is_some_and(|kdf| kdf.iteration_count > MOST_ITERATIONS) {
            return Err(damaged("its password is to be worked on more often than is taken").into());
        }
        return match parameters.decrypt(password, bytes) {
            Ok(plain) => Ok(Zeroizing::new(plain)),
            Err(pkcs8::pkcs5::Error::UnsupportedAlgorithm { oid }) => {
                let oid = ObjectIdentifier::new(&oid.to_string()).unwrap_or(name);
                Err(unknown("the encryption", oid))
            }
            Err(_) => Err(Closed::Password),
        };
    }
    let mut parameters = elements(parts.decode()?)?;
    let salt = parameters.decode::<OctetStringRef<'_>>()?.as_bytes();
    let times = iterations(&mut parameters)?;
    let plain = match name {
        SHA1_3DES => old_cipher::<des::TdesEde3>(24, password, salt, times)
            .and_then(|(cipher, start)| decrypted(&cipher, &start, bytes)),
        SHA1_RC2_40 => old_cipher::<rc2::Rc2>(5, password, salt, times)
            .and_then(|(cipher, start)| decrypted(&cipher, &start, bytes)),
        _ => return Err(unknown("the encryption", name)),
    };
    plain.ok_or(Closed::Password)
}

/// Whether the MAC is that of the contents under this password.
fn is_whole(mac: AnyRef<'_>, password: &str, contents: &[u8]) -> std::result::Result<bool, Closed> {
    let mut parts = elements(mac)?;
    let mut info = elements(parts.decode()?)?;
    let name = elements(info.decode()?)?.decode::<ObjectIdentifier>()?;
    let said = info.decode::<OctetStringRef<'_>>()?.as_bytes();
    let salt = parts.decode::<OctetStringRef<'_>>()?.as_bytes();
    let times = if parts.is_finished() { 1 } else { iterations(&mut parts)? };
    let (hash, mac) = match name {
        SHA1 => (&digest::SHA1_FOR_LEGACY_USE_ONLY, hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY),
        SHA256 => (&digest::SHA256, hmac::HMAC_SHA256),
        SHA384 => (&digest::SHA384, hmac::HMAC_SHA384),
        SHA512 => (&digest::SHA512, hmac::HMAC_SHA512),
        _ => return Err(unknown("the MAC", name)),
    };
    let holds = |wide: &[u8]| {
        let key = hmac::Key::new(mac, &derived(hash, wide, salt, times, Use::Mac, hash.output_len()));
        hmac::verify(&key, contents, said).is_ok()
    };
    // No password is two zero bytes to some, and nothing to others.
    Ok(holds(&wide(password)) || (password.is_empty() && holds(&[])))
}

/// What the bags hold, as they are read.
#[derive(Default)]
struct Found {
    key: Option<(Secret, Option<Vec<u8>>)>,
    certificates: Vec<(Certificate, Option<Vec<u8>>)>,
}

impl Found {
    /// One piece of the contents: bags, each with what it is, its content and attributes.
    fn take(&mut self, bags: &[u8], password: &str) -> std::result::Result<(), Closed> {
        let mut bags = elements(AnyRef::from_der(bags)?)?;
        while !bags.is_finished() {
            let mut bag = elements(bags.decode()?)?;
            let kind = bag.decode::<ObjectIdentifier>()?;
            let value = explicit(&mut bag)?;
            let local = if bag.is_finished() { None } else { local_key(bag.decode()?)? };
            match kind {
                KEY => self.take_key(value.to_der()?, local),
                SHROUDED_KEY => {
                    let mut parts = elements(value)?;
                    let algorithm = parts.decode()?;
                    let bytes = parts.decode::<OctetStringRef<'_>>()?.as_bytes();
                    self.take_key(opened(algorithm, password, bytes)?.to_vec(), local);
                }
                CERTIFICATE => {
                    let mut parts = elements(value)?;
                    if parts.decode::<ObjectIdentifier>()? == X509 {
                        let der = explicit(&mut parts)?.decode_as::<OctetStringRef<'_>>()?;
                        self.certificates.push((Certificate::from_der(der.as_bytes())?, local));
                    }
                }
                // Lists, secrets and bags in bags are nothing that is looked for.
                _ => {}
            }
        }
        Ok(())
    }

    fn take_key(&mut self, der: Vec<u8>, local: Option<Vec<u8>>) {
        let key = Secret::new(der);
        self.key.get_or_insert((key, local));
    }
}

/// By which number the key and its certificate are known to each other (RFC 2985 section 5.5.2).
fn local_key(attributes: AnyRef<'_>) -> std::result::Result<Option<Vec<u8>>, Closed> {
    if attributes.tag() != Tag::Set {
        return Err(damaged("something in it is no set").into());
    }
    let mut attributes = SliceReader::new(attributes.value())?;
    while !attributes.is_finished() {
        let mut attribute = elements(attributes.decode()?)?;
        let name = attribute.decode::<ObjectIdentifier>()?;
        let values = attribute.decode::<AnyRef<'_>>()?;
        if name == LOCAL_KEY {
            return Ok(Some(values.value().to_vec()));
        }
    }
    Ok(None)
}

/// Whether these bytes begin as a bundle does.
#[must_use]
pub fn is_one(der: &[u8]) -> bool {
    super::names::first_of_sequence(der).is_ok_and(|first| first == integer(3))
}

/// Reads one.
///
/// # Errors
/// [`Closed::Password`] where another password might open it.
pub fn open(der: &[u8], password: &str) -> std::result::Result<Bundle, Closed> {
    let mut parts = elements(AnyRef::from_der(der)?)?;
    if parts.decode::<u32>()? != 3 {
        return Err(damaged("it has another version than 3").into());
    }
    let mut outer = elements(parts.decode()?)?;
    let kind = outer.decode::<ObjectIdentifier>()?;
    if kind != DATA {
        return Err(unknown("the outer form", kind));
    }
    let contents = explicit(&mut outer)?.decode_as::<OctetStringRef<'_>>()?.as_bytes();
    if !parts.is_finished() && !is_whole(parts.decode()?, password, contents)? {
        return Err(Closed::Password);
    }
    let mut found = Found::default();
    let mut pieces = elements(AnyRef::from_der(contents)?)?;
    while !pieces.is_finished() {
        let mut piece = elements(pieces.decode()?)?;
        match piece.decode::<ObjectIdentifier>()? {
            DATA => found.take(explicit(&mut piece)?.decode_as::<OctetStringRef<'_>>()?.as_bytes(), password)?,
            ENCRYPTED => {
                let mut data = elements(explicit(&mut piece)?)?;
                data.decode::<u32>()?;
                let mut info = elements(data.decode()?)?;
                info.decode::<ObjectIdentifier>()?;
                let algorithm = info.decode()?;
                let bytes = implicit_octets(&mut info)?;
                found.take(&opened(algorithm, password, bytes)?, password)?;
            }
            other => return Err(unknown("a part", other)),
        }
    }
    let Found { key, mut certificates } = found;
    if let Some((_, Some(own))) = &key {
        certificates.sort_by_key(|(_, local)| local.as_ref() != Some(own));
    }
    let mut bundle = Bundle { key: key.map(|(key, _)| key), certificates: Vec::new() };
    for (certificate, _) in certificates {
        if !bundle.certificates.contains(&certificate) {
            bundle.certificates.push(certificate);
        }
    }
    Ok(bundle)
}

/// [0], implicit: an octet string under another tag.
fn implicit_octets<'a>(reader: &mut SliceReader<'a>) -> std::result::Result<&'a [u8], Closed> {
    let whole = reader.tlv_bytes()?;
    match whole.first() {
        Some(0x80) => Ok(AnyRef::from_der(whole).map(|any| any.value())?),
        _ => Err(damaged("what is encrypted is in pieces").into()),
    }
}

impl Protection {
    /// Encrypts; the algorithm with its parameters, and the bytes.
    fn seal(self, password: &str, bytes: &[u8], random: &dyn SecureRandom) -> Result<(Vec<u8>, Vec<u8>)> {
        let failed = || Problem::failed("the bundle cannot be encrypted");
        let mut salt = [0; 16];
        random.fill(&mut salt).map_err(|_| failed().why("the system gives no randomness"))?;
        match self {
            Self::Present { iterations } => {
                let mut start = [0; 16];
                random.fill(&mut start).map_err(|_| failed().why("the system gives no randomness"))?;
                let made = pbes2::Parameters::generate_pbkdf2_sha256_aes256cbc(iterations, &salt, start);
                let made = made.map_err(|error| failed().why(error.to_string()))?;
                let sealed = made.encrypt(password, bytes).map_err(|error| failed().why(error.to_string()))?;
                let algorithm =
                    EncryptionScheme::Pbes2(made).to_der().map_err(|error| failed().why(error.to_string()))?;
                Ok((algorithm, sealed))
            }
            Self::Old { iterations } => {
                let sealed = old_cipher::<des::TdesEde3>(24, password, &salt, iterations)
                    .and_then(|(cipher, start)| encrypted(&cipher, &start, bytes));
                let parameters = sequence(&[&octets(&salt), &integer(iterations)]);
                Ok((sequence(&[&oid(SHA1_3DES), &parameters]), sealed.ok_or_else(failed)?))
            }
        }
    }

    /// The MAC over the contents.
    fn mac(self, password: &str, contents: &[u8], random: &dyn SecureRandom) -> Result<Vec<u8>> {
        let mut salt = [0; 16];
        random.fill(&mut salt).map_err(|_| Problem::failed("the system gives no randomness"))?;
        let (name, hash, mac, times) = match self {
            Self::Present { iterations } => (SHA256, &digest::SHA256, hmac::HMAC_SHA256, iterations),
            Self::Old { iterations } => {
                (SHA1, &digest::SHA1_FOR_LEGACY_USE_ONLY, hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, iterations)
            }
        };
        let key = derived(hash, &wide(password), &salt, times, Use::Mac, hash.output_len());
        let value = hmac::sign(&hmac::Key::new(mac, &key), contents);
        let algorithm = sequence(&[&oid(name), &element(0x05, &[])]);
        let info = sequence(&[&algorithm, &octets(value.as_ref())]);
        Ok(sequence(&[&info, &octets(&salt), &integer(times)]))
    }
}

/// Makes one of a key (PKCS#8), its certificate and those above it, under a name that clients show.
///
/// # Errors
/// No randomness.
pub fn make(
    key: &Secret,
    certificates: &[&Certificate],
    name: &str,
    password: &str,
    protection: Protection,
    random: &dyn SecureRandom,
) -> Result<Zeroizing<Vec<u8>>> {
    let attribute = |of: ObjectIdentifier, value: &[u8]| sequence(&[&oid(of), &element(0x31, &[value])]);
    let own = certificates.first().and_then(|own| own.key_id()).unwrap_or_else(|| vec![1]);
    let shown: Vec<u8> = name.encode_utf16().flat_map(u16::to_be_bytes).collect();
    let mut attributes = [attribute(FRIENDLY_NAME, &element(0x1e, &[&shown])), attribute(LOCAL_KEY, &octets(&own))];
    // A set in DER has its elements in the order of their encodings (X.690 section 11.6).
    attributes.sort();
    let attributes = element(0x31, &[&attributes[0], &attributes[1]]);
    let bags: Vec<Vec<u8>> = certificates
        .iter()
        .enumerate()
        .map(|(place, one)| {
            let value = sequence(&[&oid(X509), &inside(&octets(one.der()))]);
            let attributes: &[u8] = if place == 0 { &attributes } else { &[] };
            sequence(&[&oid(CERTIFICATE), &inside(&value), attributes])
        })
        .collect();
    let bags = sequence(&bags.iter().map(Vec::as_slice).collect::<Vec<_>>());
    let (algorithm, sealed) = protection.seal(password, &bags, random)?;
    let info = sequence(&[&oid(DATA), &algorithm, &element(0x80, &[&sealed])]);
    let data = sequence(&[&integer(0), &info]);
    let chain = sequence(&[&oid(ENCRYPTED), &inside(&data)]);
    let (algorithm, sealed) = protection.seal(password, key.reveal(), random)?;
    let shrouded = sequence(&[&algorithm, &octets(&sealed)]);
    let bags = sequence(&[&sequence(&[&oid(SHROUDED_KEY), &inside(&shrouded), &attributes])]);
    let key = sequence(&[&oid(DATA), &inside(&octets(&bags))]);
    let contents = sequence(&[&chain, &key]);
    let mac = protection.mac(password, &contents, random)?;
    let outer = sequence(&[&oid(DATA), &inside(&octets(&contents))]);
    Ok(Zeroizing::new(sequence(&[&integer(3), &outer, &mac])))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_lengths_are_written_as_the_standard_has_them() {
        for (number, bytes) in [
            (0, &[2, 1, 0][..]),
            (127, &[2, 1, 127]),
            (128, &[2, 2, 0, 128]),
            (100_000, &[2, 3, 1, 0x86, 0xa0]),
            (u32::MAX, &[2, 5, 0, 255, 255, 255, 255]),
        ] {
            assert_eq!(integer(number), bytes);
            assert_eq!(<u32 as x509_cert::der::Decode>::from_der(bytes).unwrap(), number);
        }
        for length in [0, 127, 128, 255, 256, 70_000] {
            let made = octets(&vec![7; length]);
            assert_eq!(OctetStringRef::from_der(&made).unwrap().as_bytes().len(), length);
        }
    }

    #[test]
    fn blocks_come_back_whatever_their_length_and_under_another_password_they_do_not() {
        for length in 0..40 {
            let plain = vec![3; length];
            let (cipher, start) = old_cipher::<des::TdesEde3>(24, "seven", b"salt", 3).unwrap();
            let sealed = encrypted(&cipher, &start, &plain).unwrap();
            assert_eq!(sealed.len(), length / 8 * 8 + 8);
            assert_eq!(*decrypted(&cipher, &start, &sealed).unwrap(), plain);
            assert!(decrypted(&cipher, &start, &sealed[..sealed.len() - 1]).is_none());
        }
    }

    /// Without a MAC only what comes out says whether a password is right: the padding alone is right once in 256 times.
    #[test]
    fn no_wrong_password_opens_anything_where_nothing_but_the_padding_tells() {
        let parameters = sequence(&[&octets(b"salt"), &integer(1)]);
        let algorithm = sequence(&[&oid(SHA1_3DES), &parameters]);
        let (cipher, start) = old_cipher::<des::TdesEde3>(24, "seven", b"salt", 1).unwrap();
        let sealed = encrypted(&cipher, &start, &sequence(&[&integer(7)])).unwrap();
        let open = |password: &str| opened(AnyRef::from_der(&algorithm).unwrap(), password, &sealed);
        assert!(open("seven").is_ok());
        let paddings = (0..4_000)
            .filter(|number| {
                let wrong = format!("wrong {number}");
                assert!(matches!(open(&wrong), Err(Closed::Password)), "{wrong}");
                let (cipher, start) = old_cipher::<des::TdesEde3>(24, &wrong, b"salt", 1).unwrap();
                decrypted(&cipher, &start, &sealed).is_some()
            })
            .count();
        assert!(paddings > 0, "some of them end as they should by chance");
    }
}
