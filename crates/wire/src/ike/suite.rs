//! Which algorithms are taken, which are not and why: one table; and what follows from a choice: the PRF, and the keys (RFC 7296
//! sections 2.13, 2.14, 2.17, 2.18).
//!
//! | IKE and ESP | taken | refused |
//! |---|---|---|
//! | encryption | AES-GCM-16 with 256 and 128 bits, ChaCha20-Poly1305, AES-CBC with 256 and 128 bits | DES, 3DES, Blowfish, CAST, NULL: short blocks, or nothing; AES-CTR, AES-CCM and short tags: nobody needs them |
//! | integrity beside CBC | HMAC-SHA2-256-128, -384-192, -512-256 | MD5, SHA-1, AES-XCBC: outdated (RFC 8247) |
//! | PRF | HMAC-SHA2-256, -384, -512 | MD5, SHA-1, AES-XCBC |
//! | exchange of keys | Curve25519, P-256, P-384, MODP 4096, 3072, and 2048 for what has nothing better | MODP below 2048 bits: somebody with money reads them; the subgroups of RFC 5114 |
//! | sequence numbers | 64 bits and 32 bits | |

use ring::hmac;
use zeroize::Zeroizing;

use super::exchange::Group;
use super::message::{PROTOCOL_ESP, PROTOCOL_IKE, Proposal, Transform, transform};
use crate::esp::cipher::{Encryption, Integrity, Protection};

/// The function that keys are made with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Prf {
    Sha256,
    Sha384,
    Sha512,
}

impl Prf {
    const ALL: [Self; 3] = [Self::Sha256, Self::Sha384, Self::Sha512];

    fn number(self) -> u16 {
        match self {
            Self::Sha256 => 5,
            Self::Sha384 => 6,
            Self::Sha512 => 7,
        }
    }

    /// Bytes of its output, and of its keys.
    #[must_use]
    pub fn length(self) -> usize {
        match self {
            Self::Sha256 => 32,
            Self::Sha384 => 48,
            Self::Sha512 => 64,
        }
    }

    fn key(self, key: &[u8]) -> hmac::Key {
        let hash = match self {
            Self::Sha256 => hmac::HMAC_SHA256,
            Self::Sha384 => hmac::HMAC_SHA384,
            Self::Sha512 => hmac::HMAC_SHA512,
        };
        hmac::Key::new(hash, key)
    }

    /// One application of it to parts, laid end to end.
    #[must_use]
    pub fn of(self, key: &[u8], parts: &[&[u8]]) -> Zeroizing<Vec<u8>> {
        let mut context = hmac::Context::with_key(&self.key(key));
        parts.iter().for_each(|part| context.update(part));
        Zeroizing::new(context.sign().as_ref().to_vec())
    }

    /// RFC 7296 section 2.13.
    #[must_use]
    pub fn plus(self, key: &[u8], seed: &[&[u8]], length: usize) -> Zeroizing<Vec<u8>> {
        let key = self.key(key);
        let (mut out, mut block) = (Zeroizing::new(Vec::with_capacity(length + 64)), Zeroizing::new(Vec::new()));
        for counter in 1..=u8::MAX {
            let mut context = hmac::Context::with_key(&key);
            context.update(&block);
            seed.iter().for_each(|part| context.update(part));
            context.update(&[counter]);
            block = Zeroizing::new(context.sign().as_ref().to_vec());
            out.extend_from_slice(&block);
            if out.len() >= length {
                break;
            }
        }
        out.truncate(length);
        out
    }
}

/// What protects an association of IKE, or one of ESP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Suite {
    pub protection: Protection,
    /// Of IKE.
    pub prf: Prf,
    /// Of IKE; of ESP where it has an exchange of its own.
    pub group: Option<Group>,
    /// Of ESP: sequence numbers have 64 bits.
    pub extended: bool,
}

fn encryption(transform: &Transform) -> Option<Encryption> {
    match (transform.number, transform.bits) {
        (20, Some(bits @ (128 | 256))) => Some(Encryption::AesGcm(bits)),
        (28, None) => Some(Encryption::ChaCha20Poly1305),
        (12, Some(bits @ (128 | 256))) => Some(Encryption::AesCbc(bits)),
        _ => None,
    }
}

fn integrity(transform: &Transform) -> Option<Integrity> {
    match transform.number {
        12 => Some(Integrity::Sha256),
        13 => Some(Integrity::Sha384),
        14 => Some(Integrity::Sha512),
        _ => None,
    }
}

/// The preferred first.
const ENCRYPTIONS: [Encryption; 5] = [
    Encryption::AesGcm(256),
    Encryption::ChaCha20Poly1305,
    Encryption::AesGcm(128),
    Encryption::AesCbc(256),
    Encryption::AesCbc(128),
];

fn encryption_transform(encryption: Encryption) -> Transform {
    let (number, bits) = match encryption {
        Encryption::AesGcm(bits) => (20, Some(bits)),
        Encryption::ChaCha20Poly1305 => (28, None),
        Encryption::AesCbc(bits) => (12, Some(bits)),
    };
    Transform { kind: transform::ENCR, number, bits }
}

impl Suite {
    /// Its transforms, for a proposal of a protocol.
    #[must_use]
    pub fn transforms(&self, protocol: u8) -> Vec<Transform> {
        let plain = |kind, number| Transform { kind, number, bits: None };
        let mut all = vec![encryption_transform(self.protection.encryption)];
        if protocol == PROTOCOL_IKE {
            all.push(plain(transform::PRF, self.prf.number()));
        }
        all.extend(self.protection.integrity.map(|integrity| {
            let number = match integrity {
                Integrity::Sha256 => 12,
                Integrity::Sha384 => 13,
                Integrity::Sha512 => 14,
            };
            plain(transform::INTEG, number)
        }));
        all.extend(self.group.map(|group| plain(transform::KE, group.number())));
        if protocol == PROTOCOL_ESP {
            all.push(plain(transform::ESN, u16::from(self.extended)));
        }
        all
    }
}

/// A choice among proposals.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chosen {
    pub suite: Suite,
    /// The number of the proposal.
    pub number: u8,
    /// The other end's SPI in it.
    pub spi: Vec<u8>,
}

impl Chosen {
    /// The proposal that says what was chosen, with this end's SPI.
    #[must_use]
    pub fn proposal(&self, protocol: u8, spi: &[u8]) -> Proposal {
        Proposal { number: self.number, protocol, spi: spi.to_vec(), transforms: self.suite.transforms(protocol) }
    }
}

/// What is looked for.
#[derive(Debug, Clone, Copy)]
pub struct Sought {
    pub protocol: u8,
    /// Bytes of an SPI in it.
    pub spi: usize,
    /// The group of a key that came along: preferred, so that nobody has to ask again.
    pub group: Option<u16>,
    /// ESP: whether an exchange of its own goes with it at all.
    pub exchanged: bool,
}

impl Sought {
    /// For an association of IKE that comes with a key of this group.
    #[must_use]
    pub fn ike(group: Option<u16>, spi: usize) -> Self {
        Self { protocol: PROTOCOL_IKE, spi, group, exchanged: true }
    }

    /// For one of ESP, with or without a key.
    #[must_use]
    pub fn esp(group: Option<u16>) -> Self {
        Self { protocol: PROTOCOL_ESP, spi: 4, group, exchanged: group.is_some() }
    }
}

/// The first proposal that can be taken, and in it what this end likes best.
///
/// # Errors
/// What was missing, in words for an administrator.
pub fn choose(proposals: &[Proposal], sought: &Sought) -> Result<Chosen, String> {
    let own = proposals.iter().filter(|one| one.protocol == sought.protocol && one.spi.len() == sought.spi);
    let mut chosen = own.filter_map(|proposal| {
        Some(Chosen { suite: taken(&proposal.transforms, sought)?, number: proposal.number, spi: proposal.spi.clone() })
    });
    chosen.next().ok_or_else(|| missing(proposals, sought))
}

fn taken(transforms: &[Transform], sought: &Sought) -> Option<Suite> {
    let of = |kind: u8| transforms.iter().filter(move |one| one.kind == kind);
    // A proposal with a type of transform that is not known must not be taken (section 3.3.6).
    if transforms.iter().any(|one| !(transform::ENCR..=transform::ESN).contains(&one.kind)) {
        return None;
    }
    let offered: Vec<_> = of(transform::ENCR).filter_map(encryption).collect();
    let integrities: Vec<_> = of(transform::INTEG).filter_map(integrity).collect();
    let none = of(transform::INTEG).next().is_none() || of(transform::INTEG).any(|one| one.number == 0);
    let encryption = ENCRYPTIONS.into_iter().find(|one| {
        let cbc = matches!(one, Encryption::AesCbc(_));
        offered.contains(one) && if cbc { !integrities.is_empty() } else { none }
    })?;
    let integrity = matches!(encryption, Encryption::AesCbc(_)).then(|| {
        let all = [Integrity::Sha256, Integrity::Sha384, Integrity::Sha512];
        all.into_iter().find(|one| integrities.contains(one))
    });
    let protection = Protection { encryption, integrity: integrity.flatten() };
    let groups: Vec<_> = of(transform::KE).filter_map(|one| Group::of(one.number)).collect();
    let came = sought.group.and_then(Group::of).filter(|group| groups.contains(group));
    let group = came.or_else(|| Group::ALL.into_iter().find(|group| groups.contains(group)));
    let esp = sought.protocol == PROTOCOL_ESP;
    // Beside no key, groups are for later, and are passed over (section 1.2).
    let group = if sought.exchanged { Some(group?) } else { None };
    let prf = Prf::ALL.into_iter().find(|prf| of(transform::PRF).any(|one| one.number == prf.number()));
    let prf = if esp { Prf::Sha256 } else { prf? };
    let numbers = |number: u16| of(transform::ESN).any(|one| one.number == number);
    // Sequence numbers are said in every proposal of ESP (section 3.3.3).
    if esp && !numbers(0) && !numbers(1) {
        return None;
    }
    Some(Suite { protection, prf, group, extended: esp && numbers(1) })
}

/// The name of a transform, as standards have it.
fn name(transform: &Transform) -> String {
    let bits = transform.bits.map(|bits| format!(" {bits}")).unwrap_or_default();
    let known = match (transform.kind, transform.number) {
        (transform::ENCR, 2) => "DES",
        (transform::ENCR, 3) => "3DES",
        (transform::ENCR, 11) => "no encryption",
        (transform::ENCR, 12) => "AES-CBC",
        (transform::ENCR, 13) => "AES-CTR",
        (transform::ENCR, 18) => "AES-GCM with a tag of 8 bytes",
        (transform::ENCR, 19) => "AES-GCM with a tag of 12 bytes",
        (transform::ENCR, 20) => "AES-GCM",
        (transform::ENCR, 28) => "ChaCha20-Poly1305",
        (transform::PRF, 1) => "MD5",
        (transform::PRF, 2) => "SHA-1",
        (transform::PRF, 4) => "AES-XCBC",
        (transform::PRF, 5) => "SHA-256",
        (transform::PRF, 6) => "SHA-384",
        (transform::PRF, 7) => "SHA-512",
        (transform::INTEG, 1) => "MD5",
        (transform::INTEG, 2) => "SHA-1",
        (transform::INTEG, 5) => "AES-XCBC",
        (transform::INTEG, 12) => "SHA-256",
        (transform::INTEG, 13) => "SHA-384",
        (transform::INTEG, 14) => "SHA-512",
        (transform::KE, 1) => "MODP 768",
        (transform::KE, 2) => "MODP 1024",
        (transform::KE, 5) => "MODP 1536",
        (transform::KE, 14) => "MODP 2048",
        (transform::KE, 15) => "MODP 3072",
        (transform::KE, 16) => "MODP 4096",
        (transform::KE, 17) => "MODP 6144",
        (transform::KE, 18) => "MODP 8192",
        (transform::KE, 19) => "P-256",
        (transform::KE, 20) => "P-384",
        (transform::KE, 21) => "P-521",
        (transform::KE, 22..=24) => "a subgroup of RFC 5114",
        (transform::KE, 31) => "Curve25519",
        (transform::KE, 32) => "Curve448",
        (kind, number) => return format!("transform {kind}/{number}{bits}"),
    };
    format!("{known}{bits}")
}

/// What of all that was offered is good in itself, and what there is nothing good of.
fn missing(proposals: &[Proposal], sought: &Sought) -> String {
    let all: Vec<_> =
        proposals.iter().filter(|one| one.protocol == sought.protocol).flat_map(|one| &one.transforms).collect();
    if all.is_empty() {
        return "it proposes nothing for this protocol".into();
    }
    let good = |one: &&&Transform| match one.kind {
        transform::ENCR => encryption(one).is_some(),
        transform::INTEG => integrity(one).is_some() || one.number == 0,
        transform::PRF => Prf::ALL.iter().any(|prf| prf.number() == one.number),
        transform::KE => Group::of(one.number).is_some() || one.number == 0,
        _ => true,
    };
    let kinds = [
        (transform::ENCR, "encryption"),
        (transform::INTEG, "integrity"),
        (transform::PRF, "PRF"),
        (transform::KE, "exchange of keys"),
    ];
    let mut said = Vec::new();
    for (kind, word) in kinds {
        let of: Vec<_> = all.iter().filter(|one| one.kind == kind).collect();
        if !of.is_empty() && !of.iter().any(&good) {
            let mut names: Vec<_> = of.iter().map(|one| name(one)).collect();
            names.sort();
            names.dedup();
            said.push(format!("its {word} ({}) is outdated or unknown", names.join(", ")));
        }
    }
    if said.is_empty() {
        said.push("no one of its proposals is whole: what is good in one is missing in the other".into());
    }
    said.join("; ")
}

/// The keys of an association of IKE (section 2.14).
pub struct Keys {
    pub d: Zeroizing<Vec<u8>>,
    pub initiator_integrity: Zeroizing<Vec<u8>>,
    pub responder_integrity: Zeroizing<Vec<u8>>,
    pub initiator_encryption: Zeroizing<Vec<u8>>,
    pub responder_encryption: Zeroizing<Vec<u8>>,
    pub initiator_proof: Zeroizing<Vec<u8>>,
    pub responder_proof: Zeroizing<Vec<u8>>,
}

/// Cuts a stream of keys.
fn cut<const N: usize>(stream: &[u8], lengths: [usize; N]) -> [Zeroizing<Vec<u8>>; N] {
    let mut at = 0;
    lengths.map(|length| {
        at += length;
        Zeroizing::new(stream[at - length..at].to_vec())
    })
}

impl Keys {
    /// Of the first association: from the shared secret, both nonces, both SPIs.
    #[must_use]
    pub fn first(suite: &Suite, shared: &[u8], nonces: (&[u8], &[u8]), spis: (u64, u64)) -> Self {
        let key = [nonces.0, nonces.1].concat();
        let seed = suite.prf.of(&key, &[shared]);
        Self::expand(suite, &seed, nonces, spis)
    }

    /// Of one that takes over from another (section 2.18); its PRF and `d` are the old one's.
    #[must_use]
    pub fn renewed(
        suite: &Suite,
        before: (Prf, &[u8]),
        shared: &[u8],
        nonces: (&[u8], &[u8]),
        spis: (u64, u64),
    ) -> Self {
        let seed = before.0.of(before.1, &[shared, nonces.0, nonces.1]);
        Self::expand(suite, &seed, nonces, spis)
    }

    fn expand(suite: &Suite, seed: &[u8], nonces: (&[u8], &[u8]), spis: (u64, u64)) -> Self {
        let (prf, integrity) = (suite.prf.length(), suite.protection.integrity_key_length());
        let encryption = suite.protection.key_length();
        let (one, other) = (spis.0.to_be_bytes(), spis.1.to_be_bytes());
        let stream =
            suite.prf.plus(seed, &[nonces.0, nonces.1, &one, &other], 3 * prf + 2 * integrity + 2 * encryption);
        let lengths = [prf, integrity, integrity, encryption, encryption, prf, prf];
        let [d, ai, ar, ei, er, pi, pr] = cut(&stream, lengths);
        Self {
            d,
            initiator_integrity: ai,
            responder_integrity: ar,
            initiator_encryption: ei,
            responder_encryption: er,
            initiator_proof: pi,
            responder_proof: pr,
        }
    }
}

/// Keys of both directions of ESP: encryption and integrity from whoever began the exchange, and towards them (section 2.17).
pub struct ChildKeys {
    pub from_initiator: (Zeroizing<Vec<u8>>, Zeroizing<Vec<u8>>),
    pub to_initiator: (Zeroizing<Vec<u8>>, Zeroizing<Vec<u8>>),
}

impl ChildKeys {
    /// Of a child under `d` of its association, with a shared secret of its own or an empty one.
    #[must_use]
    pub fn new(protection: &Protection, prf: Prf, d: &[u8], shared: &[u8], nonces: (&[u8], &[u8])) -> Self {
        let (encryption, integrity) = (protection.key_length(), protection.integrity_key_length());
        let stream = prf.plus(d, &[shared, nonces.0, nonces.1], 2 * (encryption + integrity));
        let [one, two, three, four] = cut(&stream, [encryption, integrity, encryption, integrity]);
        Self { from_initiator: (one, two), to_initiator: (three, four) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(kind: u8, number: u16, bits: Option<u16>) -> Transform {
        Transform { kind, number, bits }
    }

    fn proposal(number: u8, protocol: u8, transforms: &[Transform]) -> Proposal {
        let spi = if protocol == PROTOCOL_ESP { vec![1, 2, 3, 4] } else { vec![] };
        Proposal { number, protocol, spi, transforms: transforms.to_vec() }
    }

    #[test]
    fn the_first_proposal_that_is_good_is_taken_and_the_group_whose_key_is_there() {
        let outdated = [of(1, 3, None), of(2, 2, None), of(3, 2, None), of(4, 2, None)];
        let good = [
            of(1, 12, Some(256)),
            of(1, 20, Some(256)),
            of(2, 5, None),
            of(3, 12, None),
            of(4, 14, None),
            of(4, 19, None),
        ];
        let proposals = [proposal(1, 1, &outdated), proposal(2, 1, &good)];
        let chosen = choose(&proposals, &Sought::ike(Some(14), 0)).unwrap();
        assert_eq!((chosen.number, chosen.suite.group), (2, Some(Group::Modp2048)));
        // AEAD stands beside an integrity only where it may also stand alone (RFC 5282 section 8).
        assert_eq!(chosen.suite.protection.encryption, Encryption::AesCbc(256));
        assert_eq!(choose(&proposals, &Sought::ike(Some(2), 0)).unwrap().suite.group, Some(Group::P256));
        let words = choose(&proposals[..1], &Sought::ike(Some(2), 0)).unwrap_err();
        assert_eq!(
            words,
            "its encryption (3DES) is outdated or unknown; its integrity (SHA-1) is outdated or unknown; its PRF (SHA-1) is outdated or \
             unknown; its exchange of keys (MODP 1024) is outdated or unknown"
        );
        let halves = [
            proposal(1, 1, &[of(1, 20, Some(256)), of(2, 5, None), of(4, 2, None)]),
            proposal(2, 1, &[of(1, 3, None), of(2, 5, None), of(4, 19, None)]),
        ];
        assert!(choose(&halves, &Sought::ike(None, 0)).unwrap_err().contains("no one of its proposals is whole"));
    }

    #[test]
    fn a_child_has_sequence_numbers_that_were_said_and_a_key_only_with_an_exchange() {
        let offer = [of(1, 20, Some(256)), of(4, 19, None), of(5, 0, None), of(5, 1, None)];
        let chosen = choose(&[proposal(1, 3, &offer)], &Sought::esp(None)).unwrap();
        assert_eq!((chosen.suite.group, chosen.suite.extended, chosen.spi.len()), (None, true, 4));
        assert_eq!(choose(&[proposal(1, 3, &offer)], &Sought::esp(Some(19))).unwrap().suite.group, Some(Group::P256));
        assert!(choose(&[proposal(1, 3, &offer[..1])], &Sought::esp(None)).is_err());
        let unknown = [offer[0], offer[2], of(6, 1, None)];
        assert!(choose(&[proposal(1, 3, &unknown)], &Sought::esp(None)).is_err(), "a type that nobody here knows");
        assert!(
            choose(&[proposal(1, 3, &[of(1, 20, None), of(5, 0, None)])], &Sought::esp(None)).is_err(),
            "no key length"
        );
    }
}
