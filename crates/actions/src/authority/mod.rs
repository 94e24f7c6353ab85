//! Certificate authorities: made, brought in, sent away, retired.
//!
//! | file | its job |
//! |---|---|
//! | `signing` | which authority signs, what stands above it, the record of what it signed |
//! | `lists` | revocation lists and what answers from them |
//! | `publish` | where they are published, and certificates that say so |

pub mod lists;
pub mod publish;
pub(crate) mod signing;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::estate::{Authority, CertificateKind, CertificateState, Credential, Gateway, IssuedCertificate};
use yestrel_core::keys::Secret;
use yestrel_core::order::Part;
use yestrel_core::shown::counted;
use yestrel_core::x509::bring::Brought;
use yestrel_core::x509::certificate::{self, Points, Purpose, Wanted};
use yestrel_core::x509::list::{List, Reason};
use yestrel_core::x509::{Algorithm, Certificate, PrivateKey, one_of, pem};
use yestrel_core::{Problem, Result, moment, name};
use yestrel_store::Book;
use zeroize::Zeroizing;

use crate::changed::Changed;
use crate::context::Context;
use crate::credential::end;
use crate::find;
use crate::keyring::{Keys, Signing, days_on, decoded, encoded, labels, random, random16};
use signing::{chain, record};

/// Days that a root holds when nothing else is said.
const ROOT_DAYS: i64 = 15 * 365;
/// Days that an issuing authority holds when nothing else is said.
const ISSUING_DAYS: i64 = 5 * 365;

/// What a command says about an authority to be made.
pub struct Wish {
    /// The root above it: an authority that is there, or the name of one to be made with it.
    pub under: String,
    pub algorithm: Algorithm,
    pub until: Option<Timestamp>,
    /// Limits it to a domain.
    pub domain: Option<String>,
}

/// Makes an authority, and its root with it when there is none of that name. Gives what was made.
///
/// # Errors
/// A bad or taken name, a root whose key is away, an end after the root's.
pub fn create(context: &mut Context, authority: &str, wish: &Wish) -> Result<Vec<Authority>> {
    name::check("authority", authority)?;
    name::check("authority", &wish.under)?;
    let domain = wish.domain.as_deref().map(name::dialled).transpose()?.map(|domain| domain.to_ascii_lowercase());
    if authority == wish.under {
        return Err(Problem::words("an authority cannot stand under itself").try_("--under ROOT, another name"));
    }
    let (keys, now) = (context.keys()?, context.now);
    // Keys take their time, above all RSA; the estate is not held up by it.
    let key = PrivateKey::generate(wish.algorithm, &random())?;
    let there = context.read(|book| book.get::<Authority>(&wish.under))?;
    let root_key = if there.is_none() { Some(PrivateKey::generate(wish.algorithm, &random())?) } else { None };
    context.write(|book| {
        let estate = find::this_estate(book)?.name;
        let mut made = Vec::new();
        let root = match (book.get::<Authority>(&wish.under)?, root_key) {
            (Some(root), _) => keys.signing(book, root)?,
            (None, None) => return Err(Problem::failed(format!("the authority {} is gone", wish.under))),
            (None, Some(key)) => {
                let until = days_on(now, ROOT_DAYS).max(wish.until.unwrap_or(now));
                let common_name = format!("{estate} {}", wish.under);
                let wanted = Wanted {
                    serial: random16()?,
                    organisation: &estate,
                    common_name: Some(&common_name),
                    names: &[],
                    key: key.public(),
                    from: now,
                    until,
                    purpose: Purpose::Authority { path_length: 1, domain: domain.clone() },
                    points: &Points::default(),
                };
                let certificate = certificate::root(&wanted, &key, &random())?;
                let authority = enter(book, &keys, &wish.under, None, &certificate, &[], &key, now)?;
                book.note("authority create", &wish.under, &certificate.fingerprint())?;
                made.push(authority.clone());
                Signing { authority, certificate, key, above: Vec::new() }
            }
        };
        if root.authority.retired.is_some() {
            return Err(Problem::refused(format!("the authority {} is retired", root.authority.name)));
        }
        let until = wish.until.unwrap_or_else(|| days_on(now, ISSUING_DAYS).min(root.certificate.not_after()));
        let common_name = format!("{estate} {authority}");
        let points = lists::points(book, &root.authority)?;
        let wanted = Wanted {
            serial: random16()?,
            organisation: &estate,
            common_name: Some(&common_name),
            names: &[],
            key: key.public(),
            from: now,
            until,
            purpose: Purpose::Authority { path_length: 0, domain },
            points: &points,
        };
        let certificate = certificate::issue(&wanted, &root.issuer(), &random())?;
        let mut authority = enter(book, &keys, authority, Some(&root.authority.name), &certificate, &[], &key, now)?;
        record(book, &root.authority.name, CertificateKind::Authority, &authority.name, &certificate, now)?;
        book.note("authority create", &authority.name, &certificate.fingerprint())?;
        let signing = Signing { authority: authority.clone(), certificate, key, above: Vec::new() };
        authority = lists::sign(book, &keys, signing, now)?;
        // The root's first list, so that whoever checks the chain finds one.
        let root = lists::sign(book, &keys, root, now)?;
        for one in &mut made {
            if one.name == root.name {
                *one = root.clone();
            }
        }
        made.push(authority);
        Ok(made)
    })
}

/// What is known of an authority's certificates when it is brought in.
pub enum Before {
    /// It has signed nothing, or nothing that was ever taken back: a person says so.
    NoList,
    /// Its newest revocation list, DER or PEM.
    List(Vec<u8>),
}

/// Brings in an authority that was made elsewhere. What its list names stays revoked, and the numbers of its lists go on.
///
/// # Errors
/// A bad or taken name, a list that it did not sign, or anything that [`Brought::check_authority`] finds.
pub fn bring(context: &mut Context, authority: &str, brought: Brought, before: &Before) -> Result<Authority> {
    name::check("authority", authority)?;
    let (keys, now) = (context.keys()?, context.now);
    let (key, chain) = brought.check_authority(now)?;
    let list = match before {
        Before::NoList => None,
        Before::List(bytes) => {
            let der = one_of(bytes, &["X509 CRL"], "revocation list")?;
            Some(List::read(&der, &chain[0])?)
        }
    };
    context.write(|book| {
        let own = &chain[0];
        let same = |one: &Authority| one.serial == own.serial();
        if let Some(there) = book.all::<Authority>()?.iter().find(|one| same(one)) {
            return Err(Problem::refused(format!("this authority is in the estate already, as {}", there.name)));
        }
        let mut kept = enter(book, &keys, authority, None, own, &chain[1..], &key, now)?;
        let mut said = format!("brought in: {}", own.fingerprint());
        if let Some(list) = &list {
            said.push_str(&format!(", with list {} of {}", list.number, counted(list.entries.len(), "certificate")));
            kept.list_number = list.number;
            for entry in &list.entries {
                let held = entry.reason == Reason::CertificateHold;
                book.put(&IssuedCertificate {
                    name: entry.serial.clone(),
                    authority: authority.into(),
                    kind: CertificateKind::Elsewhere,
                    subject: "-".into(),
                    certificate: String::new(),
                    state: if held { CertificateState::Held } else { CertificateState::Revoked },
                    issued: entry.at,
                    // When they end is not known: they stay on the list as long as the authority holds.
                    expires: own.not_after(),
                    revoked: Some(entry.at),
                    reason: Some(entry.reason),
                })?;
            }
        }
        book.note("authority create", authority, &said)?;
        let signing = Signing { authority: kept, certificate: own.clone(), key, above: chain[1..].to_vec() };
        lists::sign(book, &keys, signing, now)
    })
}

#[allow(clippy::too_many_arguments, reason = "the parts of one row")]
fn enter(
    book: &Book<'_>,
    keys: &Keys,
    authority: &str,
    parent: Option<&str>,
    certificate: &Certificate,
    above: &[Certificate],
    key: &PrivateKey,
    now: Timestamp,
) -> Result<Authority> {
    let authority = Authority {
        name: authority.into(),
        parent: parent.map(str::to_owned),
        certificate: encoded(certificate),
        above: above.iter().map(encoded).collect(),
        serial: certificate.serial(),
        algorithm: key.algorithm(),
        private_key: Some(keys.sealing.seal(key.pkcs8(), &labels::authority(authority))?),
        domain: certificate.domain(),
        list: None,
        list_number: 0,
        list_from: None,
        list_until: None,
        responder: None,
        published_at: Vec::new(),
        retired: None,
        created: now,
        expires: certificate.not_after(),
    };
    book.add(&authority)?;
    Ok(authority)
}

/// Where an authority stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum AuthorityState {
    Signs,
    /// Its key is not in the estate.
    Away,
    Expired,
    Retired,
}

impl AuthorityState {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Signs => "signs",
            Self::Away => "away",
            Self::Expired => "expired",
            Self::Retired => "retired",
        }
    }
}

/// An authority and what hangs on it.
#[derive(Debug, Serialize)]
pub struct AuthorityStanding {
    pub authority: Authority,
    pub subject: String,
    pub fingerprint: String,
    pub path_length: Option<u8>,
    pub state: AuthorityState,
    pub signed: usize,
    pub revoked: usize,
    /// Devices that would lose a certificate with it.
    pub devices: usize,
    pub addresses: Addresses,
}

/// Where its certificates say that their state is published.
#[derive(Debug, Serialize)]
pub struct Addresses {
    pub lists: Vec<String>,
    pub status: Vec<String>,
    pub issuer: Vec<String>,
}

fn standing(book: &Book<'_>, authority: Authority) -> Result<AuthorityStanding> {
    let own = decoded(&authority.certificate)?;
    let issued: Vec<IssuedCertificate> = book.find(&[("authority", authority.name.as_str().into())])?;
    let points = lists::points(book, &authority)?;
    let state = if authority.retired.is_some() {
        AuthorityState::Retired
    } else if authority.expires <= book.now {
        AuthorityState::Expired
    } else if authority.private_key.is_none() {
        AuthorityState::Away
    } else {
        AuthorityState::Signs
    };
    Ok(AuthorityStanding {
        subject: own.subject(),
        fingerprint: own.fingerprint(),
        path_length: own.path_length(),
        state,
        signed: issued.len(),
        revoked: issued.iter().filter(|one| one.state != CertificateState::Good).count(),
        devices: ends(book, &authority.name)?.len(),
        addresses: Addresses { lists: points.lists, status: points.status, issuer: points.issuer },
        authority,
    })
}

/// All authorities, roots first.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<AuthorityStanding>> {
    context.read(|book| {
        let mut all: Vec<Authority> = book.all()?;
        all.sort_by_key(|one| (one.parent.is_some(), one.name.clone()));
        all.into_iter().map(|one| standing(book, one)).collect()
    })
}

/// One authority.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, authority: &str) -> Result<AuthorityStanding> {
    context.read(|book| standing(book, book.need(authority)?))
}

/// Credentials that end with an authority: those whose certificates it signed, or one below it.
pub(crate) fn ends(book: &Book<'_>, authority: &str) -> Result<Vec<Credential>> {
    let all: Vec<Authority> = book.all()?;
    let mut found = Vec::new();
    let mut names = vec![authority.to_owned()];
    while let Some(name) = names.pop() {
        for issued in
            book.find::<IssuedCertificate>(&[("authority", name.as_str().into()), ("state", "good".into())])?
        {
            if issued.kind == CertificateKind::Device
                && let Some(credential) = book.get::<Credential>(&issued.subject)?
                && credential.revoked.is_none()
            {
                found.push(credential);
            }
        }
        names.extend(all.iter().filter(|one| one.parent.as_ref() == Some(&name)).map(|one| one.name.clone()));
    }
    Ok(found)
}

/// What an export gives.
pub enum Export {
    /// The certificate and those above it, PEM.
    Chain,
    /// The certificate alone, DER.
    Der,
    /// The newest revocation list, DER.
    List,
    /// The certificate and its private key (PKCS#8, PBES2) under a passphrase, PEM.
    WithKey(Zeroizing<String>),
}

/// Gives an authority's public parts, or its key under a passphrase. `deliver` must have put it somewhere safe when it returns;
/// with `leave`, the key is erased from the estate only then.
///
/// # Errors
/// There is none of that name, its key is away, or `deliver` fails: then nothing has changed.
pub fn export(
    context: &mut Context,
    authority: &str,
    what: &Export,
    leave: bool,
    deliver: impl FnOnce(&[u8]) -> Result<()>,
) -> Result<()> {
    let keys = context.keys()?;
    context.write(|book| {
        let authority: Authority = book.need(authority)?;
        match what {
            Export::Der => deliver(decoded(&authority.certificate)?.der()),
            Export::Chain => {
                let (chain, root) = chain(book, &authority)?;
                deliver(chain.iter().chain([&root]).map(Certificate::pem).collect::<String>().as_bytes())
            }
            Export::List => {
                let list = authority.list.as_ref().and_then(|list| BASE64.decode(list).ok());
                deliver(&list.ok_or_else(|| Problem::refused(format!("{} has signed no list yet", authority.name)))?)
            }
            Export::WithKey(passphrase) => {
                let signing = keys.signing(book, authority.clone())?;
                let mut text = Zeroizing::new(encrypted(signing.key.pkcs8(), passphrase)?);
                text.push_str(&signing.certificate.pem());
                let how = if leave { "with its key, which left the estate" } else { "with its key" };
                if leave {
                    // A list for as long as it may be away.
                    let mut signed = lists::sign(book, &keys, signing, book.now)?;
                    signed.private_key = None;
                    book.put(&signed)?;
                }
                book.note("authority export", &authority.name, how)?;
                deliver(text.as_bytes())
            }
        }
    })
}

/// A private key under a passphrase: PBES2 with PBKDF2-HMAC-SHA-256 and AES-256-CBC (RFC 8018), as PEM.
pub(crate) fn encrypted(pkcs8: &Secret, passphrase: &str) -> Result<String> {
    use pkcs8::pkcs5::pbes2;
    let failed = || Problem::failed("the private key cannot be encrypted");
    let (salt, iv) = (random16()?, random16()?);
    let parameters = pbes2::Parameters::generate_pbkdf2_sha256_aes256cbc(600_000, &salt, iv).map_err(|_| failed())?;
    let info = pkcs8::PrivateKeyInfoRef::try_from(pkcs8.reveal()).map_err(|_| failed())?;
    let document = info.encrypt_with_params(parameters, passphrase).map_err(|_| failed())?;
    Ok(pem("ENCRYPTED PRIVATE KEY", document.as_bytes()))
}

/// Ends an authority: its certificate is revoked by the one above it, and every credential that it signed is revoked. Gives
/// these.
///
/// # Errors
/// There is none, it is retired already, authorities stand below it, or the key above it is away.
pub fn retire(context: &mut Context, authority: &str, reason: &str) -> Result<Changed<Vec<Credential>>> {
    let reason = end::checked_reason(reason)?.to_owned();
    let (keys, now) = (context.keys()?, context.now);
    context.write(|book| {
        let mut authority: Authority = book.need(authority)?;
        if let Some(at) = authority.retired {
            return Err(Problem::refused(format!("the authority {} is retired already", authority.name))
                .why(format!("since {}", moment(at))));
        }
        let below: Vec<_> = book
            .find::<Authority>(&[("parent", authority.name.as_str().into())])?
            .into_iter()
            .filter(|one| one.retired.is_none())
            .map(|one| one.name)
            .collect();
        find::still_needed(
            &format!("the authority {}", authority.name),
            &below,
            "the authorities below it,",
            "yestrel authority retire   those first",
        )?;
        let ended = ends(book, &authority.name)?;
        let mut gateways: Vec<String> = Vec::new();
        for credential in &ended {
            gateways.extend(credential.gateways());
            end::revoke_within(book, credential.clone(), &reason, now)?;
        }
        // Its own list once more, while it can still sign; and its certificate on the list above.
        if authority.private_key.is_some() {
            authority = lists::sign(book, &keys, keys.signing(book, authority)?, now)?;
        }
        if let Some(parent) = &authority.parent {
            let parent: Authority = book.need(parent)?;
            // Words that say nothing of it in a list's terms are those of an end in order.
            let why = match Reason::of_words(&reason) {
                Reason::Unspecified => Reason::CessationOfOperation,
                Reason::KeyCompromise => Reason::CaCompromise,
                why => why,
            };
            // It may have been signed anew, with addresses: both say the same of the same key.
            let of_it = [("authority", parent.name.as_str().into()), ("subject", authority.name.as_str().into())];
            for issued in book.find::<IssuedCertificate>(&of_it)? {
                if issued.kind == CertificateKind::Authority {
                    lists::mark(book, &issued.name, CertificateState::Revoked, why, now)?;
                }
            }
            lists::sign(book, &keys, keys.signing(book, parent)?, now)?;
        }
        for mut gateway in book.all::<Gateway>()? {
            let signed_by_it =
                gateway.certificate.as_ref().is_some_and(|one| one.authority.as_ref() == Some(&authority.name));
            if signed_by_it {
                gateway.certificate = None;
                gateway.certificate_key = None;
                book.put(&gateway)?;
                gateways.push(gateway.name);
            }
        }
        gateways.extend(authority.published_at.iter().cloned());
        authority.retired = Some(now);
        authority.private_key = None;
        book.put(&authority)?;
        let ends = counted(ended.len(), "credential");
        book.note("authority retire", &authority.name, &format!("{reason}; with it {ends}"))?;
        let devices: Vec<_> = ended.iter().map(|credential| credential.device.clone()).collect();
        let changed = Changed::of(ended, gateways, devices);
        Ok(Changed { only: Part { publish: true, certificate: true, ..changed.only }, ..changed })
    })
}

/// How many devices an authority's end would end.
///
/// # Errors
/// There is none of that name.
pub fn would_end(context: &mut Context, authority: &str) -> Result<Vec<Credential>> {
    context.read(|book| {
        book.need::<Authority>(authority)?;
        ends(book, authority)
    })
}
