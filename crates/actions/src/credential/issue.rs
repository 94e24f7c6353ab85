//! Issuing: key pairs with their addresses, certificates, accounts.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::mpsc::Receiver;

use jiff::Timestamp;
use yestrel_core::account::{self, Account, SecondFactor};
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{
    CertificateKind, Credential, CredentialKind, Device, Gateway, Group, HeldCertificate, HeldKeyPair, HeldPassword,
    KeyFactor, Listener, Material, Method, Registry, Revocation, User, Way,
};
use yestrel_core::keys::{KeyPair, PublicKey, Secret};
use yestrel_core::x509::certificate::{self, Points, Purpose, Wanted};
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::request::{self, Request};
use yestrel_core::x509::{Algorithm, PrivateKey, agreement, key};
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;
use yestrel_store::queries::Has;
use yestrel_store::seal::{random as fill, random32};
use zeroize::Zeroizing;

use super::account::seal_for_agents;
use super::address::{self, Free};
use super::wish::Wish;
use crate::authority::{lists, signing};
use crate::context::Context;
use crate::find;
use crate::keyring::{Keys, Signing, days_on, labels, random, random16};

/// Bytes of a second factor's secret (RFC 4226 section 4 recommends 160 bits).
const FACTOR: usize = 20;
/// Days that a device's certificate holds when neither the command nor a group of its user says otherwise.
const CERTIFICATE_DAYS: i64 = 365;

fn listeners(book: &Book<'_>, at: &[String]) -> Result<Vec<Listener>> {
    let takes_keys = |listener: &Listener| listener.tunnel.proofs().contains(&ProofKind::Key);
    let mut all: Vec<Listener> = book.all()?;
    all.retain(takes_keys);
    if at.is_empty() {
        let gateways: BTreeSet<_> = all.iter().map(|listener| listener.gateway.as_str()).collect();
        return match gateways.len() {
            0 => Err(Problem::refused("there is no listener to come in at").try_("yestrel listener open GATEWAY")),
            1 => Ok(all),
            _ => Err(Problem::words("there are several gateways; where is the device to come in?")
                .why(gateways.into_iter().collect::<Vec<_>>().join(", "))
                .try_("--at GATEWAY, several times for several ways in order of preference")),
        };
    }
    let mut chosen: Vec<Listener> = Vec::new();
    for word in at {
        let found: Vec<_> = if word.contains('/') {
            let listener: Listener = book.need(word)?;
            if !takes_keys(&listener) {
                return Err(Problem::refused(format!("the listener {word} takes no key pair"))
                    .why(format!("devices come in at its tunnel {} by other means", listener.tunnel.word())));
            }
            vec![listener]
        } else {
            book.need::<Gateway>(word)?;
            all.iter().filter(|listener| listener.gateway == *word).cloned().collect()
        };
        if found.is_empty() {
            return Err(Problem::refused(format!("the gateway {word} has no listener"))
                .try_(format!("yestrel listener open {word}")));
        }
        for listener in found {
            if !chosen.iter().any(|other| other.name == listener.name) {
                chosen.push(listener);
            }
        }
    }
    Ok(chosen)
}

/// The gateways at which a certificate or an account may come in: those that are named, or all.
fn gateways(book: &Book<'_>, at: &[String]) -> Result<Vec<String>> {
    if at.is_empty() {
        return Ok(book.all::<Gateway>()?.into_iter().map(|gateway| gateway.name).collect());
    }
    at.iter()
        .map(|word| {
            let gateway = word.split('/').next().unwrap_or_default();
            Ok(book.need::<Gateway>(gateway)?.name)
        })
        .collect()
}

/// What several credentials that are issued by one command have in common.
pub(super) struct Common {
    pub(super) listeners: Vec<Listener>,
    pub(super) gateways: Vec<String>,
    /// The address that a certificate or an account is to have, and where.
    fixed: Option<Way>,
    signing: Option<Signing>,
    points: Points,
    organisation: String,
    groups: BTreeMap<String, Option<u16>>,
    ms_chap: bool,
    /// Key pairs that somebody makes meanwhile.
    pub(super) pairs: Option<Receiver<KeyPair>>,
    /// The command on many whose credentials these are.
    pub(super) job: Option<String>,
    free: Free,
}

impl Common {
    pub(super) fn gather(book: &Book<'_>, keys: &Keys, wish: &Wish) -> Result<Self> {
        let mut common = Self {
            listeners: Vec::new(),
            gateways: Vec::new(),
            fixed: None,
            signing: None,
            points: Points::default(),
            organisation: find::this_estate(book)?.name,
            groups: BTreeMap::new(),
            ms_chap: false,
            pairs: None,
            job: None,
            free: Free::default(),
        };
        if wish.kind == CredentialKind::KeyPair {
            common.listeners = listeners(book, &wish.at)?;
            let gateways: BTreeSet<_> = common.listeners.iter().map(|listener| listener.gateway.as_str()).collect();
            one_gateway_for_once(wish, gateways.len())?;
            if let Some(wanted) = wish.address {
                address::listener_of(&common.listeners, wanted, "a key pair")?;
            }
            return Ok(common);
        }
        common.gateways = gateways(book, &wish.at)?;
        if wish.once || wish.address.is_some() {
            let takers = address::takers(book, &common.gateways, wish.kind)?;
            one_gateway_for_once(wish, common.gateways.len())?;
            if wish.once && takers.is_empty() {
                return Err(Problem::words("nobody would count that session")
                    .why(format!(
                        "--once is for key pairs, and for a {} where a listener of the gateway takes it; none does",
                        wish.kind.words()
                    ))
                    .try_("yestrel listener open GATEWAY --tunnel ikev2")
                    .try_("--kind key-pair"));
            }
            if let Some(wanted) = wish.address {
                let listener = address::listener_of(&takers, wanted, &format!("a {}", wish.kind.words()))?;
                common.fixed = Some(Way { listener: listener.name.clone(), inner: wanted });
            }
        }
        if wish.kind == CredentialKind::Password {
            let asks = |registry: &Registry| registry.methods.contains(&Method::MsChapV2);
            common.ms_chap = book.all::<Registry>()?.iter().any(asks);
            return Ok(common);
        }
        let authority = signing::issuing(book, wish.authority.as_deref())?;
        common.points = lists::points(book, &authority)?;
        common.signing = Some(keys.signing(book, authority)?);
        common.groups = book.all::<Group>()?.into_iter().map(|group| (group.name, group.lifetime)).collect();
        Ok(common)
    }

    /// The address that a certificate or an account is to have always, where one was wished for.
    fn give_fixed(&self, book: &Book<'_>, device: &str, credential: &str) -> Result<Option<Way>> {
        let give = |way: &Way| address::give(book, &way.listener, way.inner, device, credential);
        self.fixed.as_ref().map(give).transpose()
    }
}

fn one_gateway_for_once(wish: &Wish, gateways: usize) -> Result<()> {
    if wish.once && gateways > 1 {
        return Err(Problem::words("a credential for one session has one gateway")
            .why("several gateways could not know of each other in time that it was used")
            .try_("--at GATEWAY, one of them"));
    }
    Ok(())
}

pub(super) fn check_wish(wish: &Wish, now: Timestamp) -> Result<()> {
    if wish.expires.is_some_and(|end| end <= wish.valid_from.unwrap_or(now)) {
        return Err(Problem::words("the credential would end before it begins")
            .why(format!("this machine's clock says {}", moment(now)))
            .try_("a later --until"));
    }
    let stray = match wish.kind {
        CredentialKind::KeyPair if wish.request.is_some() => Some("--request is for certificates: --kind certificate"),
        CredentialKind::KeyPair if wish.authority.is_some() => {
            Some("--authority is for certificates: --kind certificate")
        }
        CredentialKind::Certificate if wish.public_key.is_some() => {
            Some("a certificate takes a request that the device made: --request FILE")
        }
        CredentialKind::KeyPair | CredentialKind::Password if wish.algorithm != Algorithm::default() => {
            Some("--key is for certificates: --kind certificate")
        }
        CredentialKind::KeyPair if wish.public_key.is_some_and(|key| !key.agrees()) => {
            return Err(agreement::lets_in_everybody());
        }
        CredentialKind::Password if wish.public_key.is_some() || wish.request.is_some() => {
            Some("an account has no key")
        }
        CredentialKind::Certificate if wish.second_factor => {
            Some("a second factor belongs to a key pair or an account: --kind key-pair, --kind password")
        }
        _ => None,
    };
    match stray {
        Some(why) => Err(Problem::words("these options do not belong together").why(why)),
        None => Ok(()),
    }
}

/// Issues a credential to a device that has none of that kind.
///
/// # Errors
/// No such device, listener, gateway or authority, a live credential already, a full pool, dates that cannot be, a request
/// that does not hold, a weak password.
pub fn issue(context: &mut Context, device: &str, wish: &Wish) -> Result<Credential> {
    let now = context.now;
    check_wish(wish, now)?;
    let keys = context.keys()?;
    context.write(|book| {
        let device: Device = book.need(device)?;
        let mut common = Common::gather(book, &keys, wish)?;
        let had = find::had(book, &device.name)?;
        issue_within(book, &keys, &device, &had, wish, &mut common)
    })
}

pub(super) fn issue_within(
    book: &Book<'_>,
    keys: &Keys,
    device: &Device,
    had: &[Has],
    wish: &Wish,
    common: &mut Common,
) -> Result<Credential> {
    if let Some(there) = Has::current(had, wish.kind) {
        let what = wish.kind.words();
        return Err(Problem::refused(format!("{} has a {what} already", device.name))
            .why(format!("{} was issued on {}", there.name, moment(there.issued)))
            .try_(format!("yestrel credential renew {}   makes a new one in its place", there.name))
            .try_(format!("yestrel credential revoke {} --reason REASON", there.name)));
    }
    let credential = make(book, keys, device, had, wish, common)?;
    book.note("credential issue", &credential.name, &described(&credential))?;
    Ok(credential)
}

pub(super) fn make(
    book: &Book<'_>,
    keys: &Keys,
    device: &Device,
    had: &[Has],
    wish: &Wish,
    common: &mut Common,
) -> Result<Credential> {
    let now = book.now;
    let name = format!("{}/{}", device.name, Has::next_number(had));
    let mut credential = Credential {
        device: device.name.clone(),
        user: device.user.clone(),
        identity: PublicKey([0; 32]),
        material: Material::KeyPair(HeldKeyPair::default()),
        once: wish.once,
        issued: now,
        valid_from: wish.valid_from,
        expires: wish.expires,
        handed_over: None,
        told: Vec::new(),
        notice: None,
        notice_seen: 0,
        revoked: None,
        reason: None,
        first_used: None,
        last_used: None,
        job: common.job.clone(),
        name,
    };
    match wish.kind {
        CredentialKind::KeyPair => {
            let (identity, private_key) = match wish.public_key {
                Some(public) => (public, None),
                None => {
                    let made = common.pairs.as_ref().and_then(|pairs| pairs.recv().ok());
                    let pair = made.map_or_else(|| random32().map(KeyPair::from_random), Ok)?;
                    let label = labels::credential(&credential.name);
                    (pair.public, Some(keys.sealing.seal(&pair.private, &label)?))
                }
            };
            credential.identity = identity;
            let made_on_device = private_key.is_none();
            credential.material =
                Material::KeyPair(HeldKeyPair { private_key, made_on_device, ways: Vec::new(), second_factor: None });
        }
        CredentialKind::Certificate => certify(book, keys, device, wish, common, &mut credential)?,
        CredentialKind::Password => {
            credential.identity = PublicKey(random32()?);
            let fixed = common.give_fixed(book, &device.name, &credential.name)?;
            let mut account = open_account(book, keys, device, wish, common, &credential.name)?;
            seal_for_agents(book, &keys.sealing, &credential.name, &mut account, &common.gateways)?;
            credential.material =
                Material::Password(HeldPassword { account, gateways: common.gateways.clone(), fixed });
        }
    }
    // What was drawn by lot just now is nobody's.
    let brought = wish.public_key.is_some() || wish.request.is_some();
    let text = credential.identity.to_string();
    if brought
        && (book.get::<Revocation>(&text)?.is_some() || book.count::<Credential>(&[("identity", text.into())])? > 0)
    {
        return Err(Problem::refused("this public key is known already")
            .why("a key belongs to one credential of one device, and a revoked one stays out for good")
            .try_("a new key pair, made on the device"));
    }
    if let Material::KeyPair(pair) = &mut credential.material {
        for listener in &common.listeners {
            pair.ways.push(common.free.give(
                book,
                listener,
                wish.address,
                (&device.name, &credential.name),
                had.is_empty(),
            )?);
        }
    }
    if wish.second_factor && wish.kind == CredentialKind::KeyPair {
        add_factor(book, keys, &mut credential)?;
    }
    book.put_new(&credential)?;
    Ok(credential)
}

/// A key pair gets a second factor, sealed to the agents of those gateways at which it may come in.
fn add_factor(book: &Book<'_>, keys: &Keys, credential: &mut Credential) -> Result<()> {
    let mut bytes = [0; FACTOR];
    fill(&mut bytes)?;
    let secret = keys.sealing.seal(&Secret::new(bytes.to_vec()), &labels::second_factor(&credential.name))?;
    if let Material::KeyPair(pair) = &mut credential.material {
        pair.second_factor = Some(KeyFactor { secret, handed_over: false, for_agents: BTreeMap::new() });
    }
    super::account::seal_factor_for_agents(book, &keys.sealing, credential)
}

/// The end of devices' names where the estate's authority is limited to no domain: a top label that is reserved for private use.
const PRIVATE: &str = "internal";

/// What the names of a device are in certificates. First a host name of its own, by which it calls itself and the other end finds it in the
/// certificate (RFC 4945 section 3.1.2: ID_FQDN and dNSName); then its user's mail address, and the name by which directories know users.
fn names_of(device: &Device, user: &User, domain: Option<&str>, organisation: &str) -> Vec<SubjectName> {
    let part = device.name.rsplit('/').next().unwrap_or_default();
    let around = domain.map_or_else(|| format!("{organisation}.{PRIVATE}"), str::to_owned);
    let mut names = vec![SubjectName::Host(format!("{part}.{}.{around}", user.name))];
    if let Some(mail) = &user.mail {
        names.push(SubjectName::Mail(mail.clone()));
        names.push(SubjectName::Principal(mail.clone()));
    } else {
        names.push(SubjectName::Principal(format!("{}@{around}", user.name)));
    }
    names
}

fn certify(
    book: &Book<'_>,
    keys: &Keys,
    device: &Device,
    wish: &Wish,
    common: &Common,
    credential: &mut Credential,
) -> Result<()> {
    let now = book.now;
    let by = common.signing.as_ref().ok_or_else(|| Problem::failed("no authority was chosen"))?;
    let user: User = book.need(&device.user)?;
    let names = names_of(device, &user, by.authority.domain.as_deref(), &common.organisation);
    let (public, private) = match &wish.request {
        Some(bytes) => {
            let asked: Request = request::read(bytes)?;
            let part = device.name.rsplit('/').next().unwrap_or_default().to_owned();
            let mut own =
                vec![device.name.clone(), user.name.clone(), part, super::account::name_of(&user, &device.name)];
            own.extend(names.iter().map(ToString::to_string));
            asked.check_names(&own)?;
            (asked.key, None)
        }
        None => {
            let made = PrivateKey::generate(wish.algorithm, &random())?;
            (made.public().clone(), Some(made))
        }
    };
    let days = user.groups.iter().filter_map(|group| common.groups.get(group).copied().flatten()).min();
    let until = wish.expires.unwrap_or_else(|| {
        let by_group = days_on(now, days.map_or(CERTIFICATE_DAYS, i64::from));
        by_group.min(by.certificate.not_after())
    });
    let wanted = Wanted {
        serial: random16()?,
        organisation: &common.organisation,
        common_name: None,
        names: &names,
        key: &public,
        from: wish.valid_from.unwrap_or(now),
        until,
        purpose: Purpose::Device,
        points: &common.points,
    };
    let certificate = certificate::issue(&wanted, &by.issuer(), &random())?;
    signing::record(book, &by.authority.name, CertificateKind::Device, &credential.name, &certificate, now)?;
    let label = labels::credential(&credential.name);
    let private_key = private.map(|private| keys.sealing.seal(private.pkcs8(), &label)).transpose()?;
    credential.identity = key::identity(&public)?;
    credential.material = Material::Certificate(HeldCertificate {
        serial: certificate.serial(),
        made_on_device: private_key.is_none(),
        private_key,
        gateways: common.gateways.clone(),
        fixed: common.give_fixed(book, &device.name, &credential.name)?,
        superseded: None,
    });
    credential.expires = Some(until);
    Ok(())
}

fn open_account(
    book: &Book<'_>,
    keys: &Keys,
    device: &Device,
    wish: &Wish,
    common: &Common,
    credential: &str,
) -> Result<Account> {
    let user: User = book.need(&device.user)?;
    let name = super::account::name_of(&user, &device.name);
    super::account::check_name(book, &name)?;
    let password = match &wish.password {
        Some(password) => {
            let mut own = vec![name.as_str(), &user.name, &common.organisation, &device.name];
            own.extend(user.mail.as_deref());
            own.extend(user.about.as_deref());
            account::check_strength(password, &own)?;
            password.clone()
        }
        None => {
            let made = account::readable(random16()?);
            Zeroizing::new(String::from_utf8_lossy(made.reveal()).into_owned())
        }
    };
    let seal = |secret: &Secret, label: &str| keys.sealing.seal(secret, label);
    let generated = match wish.password {
        None => Some(seal(&Secret::new(password.as_bytes().to_vec()), &labels::credential(credential))?),
        Some(_) => None,
    };
    let ms_chap = if common.ms_chap {
        Some(seal(&account::ms_chap_form(&password), &labels::ms_chap(credential))?)
    } else {
        None
    };
    let second_factor = if wish.second_factor {
        let mut bytes = [0; FACTOR];
        fill(&mut bytes)?;
        let secret = seal(&Secret::new(bytes.to_vec()), &labels::second_factor(credential))?;
        Some(SecondFactor { secret, used: 0, handed_over: false })
    } else {
        None
    };
    let hash = account::hash(&password, random16()?)?;
    Ok(Account {
        name,
        password: hash,
        ms_chap,
        for_agents: Default::default(),
        generated,
        second_factor,
        failures: 0,
        locked_until: None,
        lock_outs: 0,
    })
}

fn fixed(credential: &Credential) -> String {
    credential.fixed().map(|way| format!(", always {} at {}", way.inner, way.listener)).unwrap_or_default()
}

/// Where and as what a credential holds, in one line.
fn described(credential: &Credential) -> String {
    match &credential.material {
        Material::KeyPair(pair) => {
            pair.ways.iter().map(|way| format!("{} {}", way.listener, way.inner)).collect::<Vec<_>>().join(", ")
        }
        Material::Certificate(certificate) => format!("certificate {}{}", certificate.serial, fixed(credential)),
        Material::Password(_) => format!("password account{}", fixed(credential)),
    }
}
