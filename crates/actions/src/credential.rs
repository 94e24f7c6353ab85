//! Credentials: issued, renewed, revoked.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::account::{self, Account, SecondFactor};
use yestrel_core::keys::{KeyPair, PublicKey, Secret};
use yestrel_core::nouns::{
    Authority, Credential, CredentialKind, CredentialState, Device, Gateway, Group, Listener, Registry, Revocation,
    User, UserState, Way,
};
use yestrel_core::x509::certificate::{self, Points, Purpose, Wanted};
use yestrel_core::x509::list::Reason;
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::request::{self, Request};
use yestrel_core::x509::{Algorithm, PrivateKey, key};
use yestrel_core::{Problem, Result, moment, pool};
use yestrel_store::Book;
use yestrel_store::records::Address;
use yestrel_store::seal::{random as fill, random32};
use zeroize::Zeroizing;

use crate::authority::{self, Keys, Signing, days_on, random, random16};
use crate::{Context, estate, lists};

/// Days that a device's certificate holds when neither the command nor a group of its user says otherwise.
const CERTIFICATE_DAYS: i64 = 365;
/// The method that needs a form of the password beside the one at rest.
pub const MS_CHAP: &str = "ms-chap-v2";

/// Under which place a credential's key is sealed.
pub(crate) fn place(credential: &str) -> String {
    format!("credential {credential}")
}

/// Under which place an account's second factor is sealed.
pub(crate) fn factor_place(credential: &str) -> String {
    format!("second factor of {credential}")
}

/// What a command says about a credential to be issued.
#[derive(Debug, Default)]
pub struct Wish {
    pub kind: CredentialKind,
    /// Listeners or gateways, in order of preference; empty: all there are, if that is one gateway.
    pub at: Vec<String>,
    /// Made on the device; its private half never comes here.
    pub public_key: Option<PublicKey>,
    /// PKCS#10, made on the device.
    pub request: Option<Vec<u8>>,
    /// What a certificate's key is made of, where it is made here.
    pub algorithm: Algorithm,
    /// The authority that signs a certificate.
    pub authority: Option<String>,
    /// For an account; `None`: one is made.
    pub password: Option<Zeroizing<String>>,
    pub second_factor: bool,
    /// Good for one session.
    pub once: bool,
    pub valid_from: Option<Timestamp>,
    pub expires: Option<Timestamp>,
}

/// The credential of a device that is neither revoked nor replaced.
pub(crate) fn live(book: &Book<'_>, device: &str, kind: CredentialKind) -> Result<Option<Credential>> {
    Ok(all_live(book, device)?
        .into_iter()
        .rfind(|credential| credential.kind == kind && credential.superseded.is_none()))
}

/// Every credential with which a device could come in.
pub(crate) fn all_live(book: &Book<'_>, device: &str) -> Result<Vec<Credential>> {
    book.find::<Credential>(&[("device", device.into()), ("revoked", serde_json::Value::Null)])
}

/// The credential that a command names: by device, and by kind where a device has several, or whole (`mara/laptop/1`).
pub(crate) fn named(book: &Book<'_>, text: &str, kind: Option<CredentialKind>) -> Result<Credential> {
    if text.matches('/').count() >= 2 {
        return book.need(text);
    }
    let device: Device = book.need(text)?;
    let mut all: Vec<Credential> = book.find(&[("device", device.name.as_str().into())])?;
    all.retain(|credential| kind.is_none_or(|kind| credential.kind == kind));
    let open = |credential: &Credential| credential.revoked.is_none() && credential.superseded.is_none();
    let kinds: BTreeSet<_> = all.iter().filter(|one| open(one)).map(|one| one.kind.word()).collect();
    if kinds.len() > 1 {
        return Err(Problem::words(format!("{} has several credentials; which is meant?", device.name))
            .why(kinds.into_iter().collect::<Vec<_>>().join(", "))
            .try_("--kind KIND, or its whole name: USER/DEVICE/NUMBER"));
    }
    all.sort_by_key(|credential| (open(credential), credential.issued, credential.name.clone()));
    all.pop().ok_or_else(|| {
        Problem::words(match kind {
            Some(kind) => format!("{} has no {}", device.name, kind.words()),
            None => format!("{} has no credential", device.name),
        })
        .try_(format!("yestrel credential issue {}", device.name))
    })
}

fn listeners(book: &Book<'_>, at: &[String]) -> Result<Vec<Listener>> {
    let all: Vec<Listener> = book.all()?;
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
    for place in at {
        let found: Vec<_> = if place.contains('/') {
            vec![book.need::<Listener>(place)?]
        } else {
            book.need::<Gateway>(place)?;
            all.iter().filter(|listener| listener.gateway == *place).cloned().collect()
        };
        if found.is_empty() {
            return Err(Problem::refused(format!("the gateway {place} has no listener"))
                .try_(format!("yestrel listener open {place}")));
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
        .map(|place| {
            let gateway = place.split('/').next().unwrap_or_default();
            Ok(book.need::<Gateway>(gateway)?.name)
        })
        .collect()
}

/// What several credentials that are issued by one command have in common.
struct Common {
    listeners: Vec<Listener>,
    /// Addresses that are given out, by listener.
    used: BTreeMap<String, BTreeSet<std::net::Ipv4Addr>>,
    gateways: Vec<String>,
    signing: Option<Signing>,
    points: Points,
    organisation: String,
    groups: BTreeMap<String, Option<u16>>,
    ms_chap: bool,
}

impl Common {
    fn gather(book: &Book<'_>, keys: &Keys, wish: &Wish) -> Result<Self> {
        let mut common = Self {
            listeners: Vec::new(),
            used: BTreeMap::new(),
            gateways: Vec::new(),
            signing: None,
            points: Points::default(),
            organisation: estate::this(book)?.name,
            groups: BTreeMap::new(),
            ms_chap: false,
        };
        if wish.kind == CredentialKind::KeyPair {
            common.listeners = listeners(book, &wish.at)?;
            let gateways: BTreeSet<_> = common.listeners.iter().map(|listener| listener.gateway.as_str()).collect();
            if wish.once && gateways.len() > 1 {
                return Err(Problem::words("a credential for one session has one gateway")
                    .why("several gateways could not know of each other in time that it was used")
                    .try_("--at GATEWAY, one of them"));
            }
            for listener in &common.listeners {
                let held = book.find::<Address>(&[("listener", listener.name.as_str().into())])?;
                common.used.insert(listener.name.clone(), held.into_iter().map(|address| address.inner).collect());
            }
            return Ok(common);
        }
        common.gateways = gateways(book, &wish.at)?;
        if wish.kind == CredentialKind::Password {
            let asks = |registry: &Registry| registry.methods.iter().any(|method| method == MS_CHAP);
            common.ms_chap = book.all::<Registry>()?.iter().any(asks);
            return Ok(common);
        }
        let authority = authority::issuing(book, wish.authority.as_deref())?;
        common.points = lists::points(book, &authority)?;
        common.signing = Some(keys.signing(authority)?);
        common.groups = book.all::<Group>()?.into_iter().map(|group| (group.name, group.lifetime)).collect();
        Ok(common)
    }

    fn give_address(&mut self, book: &Book<'_>, listener: &Listener, credential: &str) -> Result<Way> {
        let used = self.used.entry(listener.name.clone()).or_default();
        let inner = pool::next_free(&listener.name, &listener.pool, used)?;
        used.insert(inner);
        book.put(&Address::new(&listener.name, inner, credential))?;
        Ok(Way { listener: listener.name.clone(), inner })
    }
}

fn check_wish(wish: &Wish, now: Timestamp) -> Result<()> {
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
        CredentialKind::Certificate | CredentialKind::Password if wish.once => {
            Some("--once is for key pairs, which the tunnel talon ends with their session")
        }
        CredentialKind::Password if wish.public_key.is_some() || wish.request.is_some() => {
            Some("an account has no key")
        }
        CredentialKind::KeyPair | CredentialKind::Certificate if wish.second_factor => {
            Some("a second factor belongs to an account: --kind password")
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
        issue_within(book, &keys, &device, wish, &mut common)
    })
}

fn issue_within(book: &Book<'_>, keys: &Keys, device: &Device, wish: &Wish, common: &mut Common) -> Result<Credential> {
    if let Some(there) = live(book, &device.name, wish.kind)? {
        let what = wish.kind.words();
        return Err(Problem::refused(format!("{} has a {what} already", device.name))
            .why(format!("{} was issued on {}", there.name, moment(there.issued)))
            .try_(format!("yestrel credential renew {}   makes a new one and revokes that", device.name))
            .try_(format!("yestrel credential revoke {} --reason ...", device.name)));
    }
    let credential = make(book, keys, device, wish, common)?;
    book.note("credential issue", &credential.name, &described(&credential))?;
    Ok(credential)
}

/// What issuing for a whole group would do, and did.
#[derive(Debug, Default, Serialize)]
pub struct Many {
    /// Credentials, or devices when nothing was done yet.
    pub done: Vec<String>,
    /// Users without a device, and devices that have such a credential already.
    pub without_device: Vec<String>,
    pub have_one: Vec<String>,
}

/// Devices of a group that would get a credential.
///
/// # Errors
/// There is no such group.
pub fn would_issue(context: &mut Context, group: &str, kind: CredentialKind) -> Result<Many> {
    context.read(|book| candidates(book, group, kind))
}

fn members(book: &Book<'_>, group: &str) -> Result<Vec<User>> {
    book.need::<Group>(group)?;
    Ok(book.all::<User>()?.into_iter().filter(|user| user.groups.iter().any(|one| one == group)).collect())
}

fn candidates(book: &Book<'_>, group: &str, kind: CredentialKind) -> Result<Many> {
    let mut many = Many::default();
    for user in members(book, group)? {
        let devices: Vec<Device> = book.find(&[("user", user.name.as_str().into())])?;
        if devices.is_empty() {
            many.without_device.push(user.name);
        }
        for device in devices {
            match live(book, &device.name, kind)? {
                Some(_) => many.have_one.push(device.name),
                None => many.done.push(device.name),
            }
        }
    }
    Ok(many)
}

/// Issues a credential to every device of a group's users that has none of that kind: all of them or, when one cannot be, none.
///
/// # Errors
/// As [`issue`].
pub fn issue_group(
    context: &mut Context,
    group: &str,
    wish: &Wish,
    step: &mut dyn FnMut(usize, usize),
) -> Result<Many> {
    let now = context.now;
    check_wish(wish, now)?;
    if wish.public_key.is_some() || wish.request.is_some() || wish.password.is_some() {
        return Err(Problem::words("one key or password is not given to a whole group")
            .why("each device has its own")
            .try_("without it: they are made here"));
    }
    let keys = context.keys()?;
    context.write(|book| {
        let mut many = candidates(book, group, wish.kind)?;
        let devices = std::mem::take(&mut many.done);
        if devices.is_empty() {
            return Ok(many);
        }
        let mut common = Common::gather(book, &keys, wish)?;
        for (at, device) in devices.iter().enumerate() {
            let device: Device = book.need(device)?;
            many.done.push(issue_within(book, &keys, &device, wish, &mut common)?.name);
            step(at + 1, devices.len());
        }
        Ok(many)
    })
}

fn make(book: &Book<'_>, keys: &Keys, device: &Device, wish: &Wish, common: &mut Common) -> Result<Credential> {
    let now = book.now;
    let number = book.find::<Credential>(&[("device", device.name.as_str().into())])?.len() + 1;
    let name = format!("{}/{number}", device.name);
    let mut credential = Credential {
        name,
        device: device.name.clone(),
        user: device.user.clone(),
        kind: wish.kind,
        public_key: PublicKey([0; 32]),
        made_on_device: false,
        private_key: None,
        ways: Vec::new(),
        gateways: common.gateways.clone(),
        certificate: None,
        account: None,
        once: wish.once,
        superseded: None,
        issued: now,
        valid_from: wish.valid_from,
        expires: wish.expires,
        handed_over: None,
        told: Vec::new(),
        revoked: None,
        reason: None,
        first_used: None,
        last_used: None,
    };
    match wish.kind {
        CredentialKind::KeyPair => {
            credential.public_key = match wish.public_key {
                Some(public) => public,
                None => {
                    let pair = KeyPair::from_random(random32()?);
                    credential.private_key = Some(keys.sealing.seal(&pair.private, &place(&credential.name))?);
                    pair.public
                }
            };
            credential.made_on_device = credential.private_key.is_none();
        }
        CredentialKind::Certificate => certify(book, keys, device, wish, common, &mut credential)?,
        CredentialKind::Password => {
            credential.public_key = PublicKey(random32()?);
            credential.account = Some(open_account(book, keys, device, wish, common, &credential.name)?);
        }
    }
    let text = credential.public_key.to_string();
    if book.get::<Revocation>(&text)?.is_some() || !book.find::<Credential>(&[("public_key", text.into())])?.is_empty()
    {
        return Err(Problem::refused("this public key is known already")
            .why("a key belongs to one credential of one device, and a revoked one stays out for good")
            .try_("a new key pair, made on the device"));
    }
    book.put(&credential)?;
    if wish.kind == CredentialKind::KeyPair {
        for listener in common.listeners.clone() {
            let way = common.give_address(book, &listener, &credential.name)?;
            credential.ways.push(way);
        }
        book.put(&credential)?;
    }
    Ok(credential)
}

/// What the names of a device are in certificates: its user's mail address, and the name by which directories know users.
fn names_of(user: &User, domain: Option<&str>, organisation: &str) -> Vec<SubjectName> {
    let mut names = Vec::new();
    if let Some(mail) = &user.mail {
        names.push(SubjectName::Mail(mail.clone()));
        names.push(SubjectName::Principal(mail.clone()));
    } else {
        names.push(SubjectName::Principal(format!("{}@{}", user.name, domain.unwrap_or(organisation))));
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
    let signing = common.signing.as_ref().ok_or_else(|| Problem::failed("no authority was chosen"))?;
    let user: User = book.need(&device.user)?;
    let names = names_of(&user, signing.authority.domain.as_deref(), &common.organisation);
    let (public, private) = match &wish.request {
        Some(bytes) => {
            let asked: Request = request::read(bytes)?;
            let part = device.name.rsplit('/').next().unwrap_or_default().to_owned();
            let mut own = vec![device.name.clone(), user.name.clone(), part, device.name.replace('/', ".")];
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
        by_group.min(signing.certificate.not_after())
    });
    let wanted = Wanted {
        serial: random16()?,
        organisation: &common.organisation,
        common_name: &device.name,
        names: &names,
        key: &public,
        from: wish.valid_from.unwrap_or(now),
        until,
        purpose: Purpose::Device,
        points: &common.points,
    };
    let certificate = certificate::issue(&wanted, &signing.issuer(), &random())?;
    authority::record(book, &signing.authority.name, "device", &credential.name, &certificate, now)?;
    credential.public_key = key::identity(&public)?;
    credential.private_key =
        private.map(|private| keys.sealing.seal(private.pkcs8(), &place(&credential.name))).transpose()?;
    credential.made_on_device = credential.private_key.is_none();
    credential.certificate = Some(certificate.serial());
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
    let name = device.name.replace('/', ".");
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
    let seal = |secret: &Secret, place: &str| keys.sealing.seal(secret, place);
    let generated = match wish.password {
        None => Some(seal(&Secret::new(password.as_bytes().to_vec()), &place(credential))?),
        Some(_) => None,
    };
    let ms_chap = if common.ms_chap {
        Some(seal(&account::ms_chap_form(&password), &format!("{MS_CHAP} form of {credential}"))?)
    } else {
        None
    };
    let second_factor = if wish.second_factor {
        let mut bytes = [0; 20];
        fill(&mut bytes)?;
        let secret = seal(&Secret::new(bytes.to_vec()), &factor_place(credential))?;
        Some(SecondFactor { secret, used: 0, handed_over: false })
    } else {
        None
    };
    let hash = account::hash(&password, random16()?)?;
    Ok(Account {
        name,
        password: hash,
        ms_chap,
        generated,
        second_factor,
        failures: 0,
        locked_until: None,
        lock_outs: 0,
    })
}

/// Where and as what a credential holds, in one line.
fn described(credential: &Credential) -> String {
    let ways =
        credential.ways.iter().map(|way| format!("{} {}", way.listener, way.inner)).collect::<Vec<_>>().join(", ");
    match (credential.kind, &credential.certificate) {
        (CredentialKind::Certificate, Some(serial)) => format!("certificate {serial}"),
        (CredentialKind::Password, _) => "password account".into(),
        _ => ways,
    }
}

/// A credential with how it stands.
#[derive(Debug, Serialize)]
pub struct View {
    pub credential: Credential,
    pub state: String,
    /// What its handover says that is no longer so.
    pub stale: Vec<String>,
    pub suspended: bool,
}

/// Which credentials are listed.
#[derive(Debug, Default)]
pub struct Filter {
    pub state: Option<CredentialState>,
    pub kind: Option<CredentialKind>,
    /// Only those that end by then.
    pub expiring: Option<Timestamp>,
}

/// All credentials; of one device, and such as the filter says, where given.
///
/// # Errors
/// No such device.
pub fn list(context: &mut Context, device: Option<&str>, filter: &Filter) -> Result<Vec<View>> {
    let now = context.now;
    context.read(|book| {
        let credentials: Vec<Credential> = match device {
            Some(device) => {
                book.need::<Device>(device)?;
                book.find(&[("device", device.into())])?
            }
            None => book.all()?,
        };
        let (listeners, gateways, sites) = (book.all::<Listener>()?, book.all::<Gateway>()?, book.all()?);
        let suspended: BTreeSet<_> = book
            .all::<User>()?
            .into_iter()
            .filter(|user| user.state == UserState::Suspended)
            .map(|user| user.name)
            .collect();
        let views = credentials.into_iter().filter(|credential| {
            filter.state.is_none_or(|state| credential.state(now) == state)
                && filter.kind.is_none_or(|kind| credential.kind == kind)
                && filter.expiring.is_none_or(|by| {
                    let open = credential.revoked.is_none() && credential.superseded.is_none();
                    open && credential.expires.is_some_and(|end| end > now && end <= by)
                })
        });
        Ok(views
            .map(|credential| View {
                state: credential.state(now).word().into(),
                stale: if credential.revoked.is_some() {
                    Vec::new()
                } else {
                    credential.stale(&listeners, &gateways, &sites)
                },
                suspended: suspended.contains(&credential.user),
                credential,
            })
            .collect())
    })
}

/// One credential, by device or whole name.
///
/// # Errors
/// There is none.
pub fn show(context: &mut Context, text: &str, kind: Option<CredentialKind>) -> Result<View> {
    let credential = context.read(|book| named(book, text, kind))?;
    let found = list(context, Some(&credential.device), &Filter::default())?
        .into_iter()
        .find(|view| view.credential.name == credential.name);
    found.ok_or_else(|| Problem::failed(format!("the credential {text} is gone")))
}

/// Takes one credential back in the estate. The lists of authorities are signed after.
pub(crate) fn revoke_within(
    book: &Book<'_>,
    mut credential: Credential,
    reason: &str,
    now: Timestamp,
) -> Result<Credential> {
    book.put(&Revocation {
        name: credential.public_key.to_string(),
        device: credential.device.clone(),
        reason: reason.into(),
        at: now,
        gateways: gateways_of(&credential),
    })?;
    for address in book.find::<Address>(&[("credential", credential.name.as_str().into())])? {
        book.remove::<Address>(&address.name)?;
    }
    if let Some(serial) = &credential.certificate {
        lists::mark(book, serial, "revoked", Reason::of_words(reason), now)?;
    }
    if let Some(account) = &mut credential.account {
        // Nothing of it is of use any more, and all of it could harm.
        (account.ms_chap, account.generated, account.second_factor) = (None, None, None);
        account.password = String::new();
    }
    credential.revoked = Some(now);
    credential.reason = Some(reason.into());
    credential.private_key = None;
    book.put(&credential)?;
    Ok(credential)
}

/// The gateways at which a credential can come in.
pub(crate) fn gateways_of(credential: &Credential) -> Vec<String> {
    let ways =
        credential.ways.iter().filter_map(|way| way.listener.split_once('/')).map(|(gateway, _)| gateway.to_owned());
    let all: BTreeSet<_> = ways.chain(credential.gateways.iter().cloned()).collect();
    all.into_iter().collect()
}

/// The authorities that signed these credentials' certificates.
fn authorities_of(book: &Book<'_>, credentials: &[Credential]) -> Result<Vec<String>> {
    let mut found = BTreeSet::new();
    for serial in credentials.iter().filter_map(|credential| credential.certificate.as_ref()) {
        if let Some(issued) = book.get::<yestrel_core::nouns::IssuedCertificate>(serial)? {
            found.insert(issued.authority);
        }
    }
    Ok(found.into_iter().collect())
}

/// Where an end must be known: what became of some credentials.
#[derive(Debug, Default, Serialize)]
pub struct Ended {
    pub credentials: Vec<Credential>,
    /// Gateways that must learn it.
    pub gateways: Vec<String>,
    /// Authorities whose list could not be signed, with the end of the one that is out.
    pub unsigned: Vec<(String, Option<Timestamp>)>,
}

/// Signs the lists of the authorities that these credentials concern, and names everybody who must learn it.
pub(crate) fn announce(book: &Book<'_>, keys: &Keys, credentials: Vec<Credential>) -> Result<Ended> {
    let authorities = authorities_of(book, &credentials)?;
    let missing = lists::sign_all(book, keys, &authorities, book.now)?;
    let mut gateways: BTreeSet<_> = credentials.iter().flat_map(gateways_of).collect();
    let mut unsigned = Vec::new();
    for name in authorities {
        let authority: Authority = book.need(&name)?;
        gateways.extend(authority.published_at.iter().cloned());
        if missing.contains(&name) {
            unsigned.push((name, authority.list_until));
        }
    }
    Ok(Ended { credentials, gateways: gateways.into_iter().collect(), unsigned })
}

pub(crate) fn checked_reason(reason: &str) -> Result<&str> {
    let reason = reason.trim();
    if reason.is_empty() || reason.chars().count() > 200 || reason.chars().any(char::is_control) {
        return Err(Problem::words("a revocation needs a reason")
            .why("one line, at most 200 characters; the device is shown it, and the history keeps it")
            .try_("--reason lost"));
    }
    Ok(reason)
}

/// What is taken back: a credential by its whole name, what a device has (of one kind, or all), or what a group's users have.
#[derive(Debug, Clone)]
pub enum Whose {
    Device(String, Option<CredentialKind>),
    Group(String, Option<CredentialKind>),
}

/// Live credentials that a revocation would end.
///
/// # Errors
/// There is none of that name, or what is named is revoked already.
pub fn would_revoke(context: &mut Context, whose: &Whose) -> Result<Vec<Credential>> {
    context.read(|book| chosen(book, whose))
}

fn chosen(book: &Book<'_>, whose: &Whose) -> Result<Vec<Credential>> {
    match whose {
        Whose::Device(text, kind) => {
            if text.matches('/').count() < 2 {
                let device: Device = book.need(text)?;
                let mut live = all_live(book, &device.name)?;
                live.retain(|one| kind.is_none_or(|kind| one.kind == kind));
                if !live.is_empty() {
                    return Ok(live);
                }
            }
            let credential = named(book, text, *kind)?;
            match credential.revoked {
                None => Ok(vec![credential]),
                Some(at) => Err(Problem::refused(format!("{} is revoked already", credential.name)).why(format!(
                    "on {}: {}",
                    moment(at),
                    credential.reason.unwrap_or_default()
                ))),
            }
        }
        Whose::Group(group, kind) => {
            let mut all = Vec::new();
            for user in members(book, group)? {
                let filter = [("user", user.name.as_str().into()), ("revoked", serde_json::Value::Null)];
                all.extend(book.find::<Credential>(&filter)?);
            }
            all.retain(|one| kind.is_none_or(|kind| one.kind == kind));
            if all.is_empty() {
                return Err(Problem::refused(format!("nobody in {group} has a credential that could be taken back")));
            }
            Ok(all)
        }
    }
}

/// Takes credentials back, for good.
///
/// # Errors
/// As [`would_revoke`], or no reason that can be shown.
pub fn revoke(context: &mut Context, whose: &Whose, reason: &str, step: &mut dyn FnMut(usize, usize)) -> Result<Ended> {
    let reason = checked_reason(reason)?;
    let (keys, now) = (context.keys()?, context.now);
    context.write(|book| {
        let all = chosen(book, whose)?;
        let count = all.len();
        let mut ended = Vec::new();
        for (at, credential) in all.into_iter().enumerate() {
            let credential = revoke_within(book, credential, reason, now)?;
            book.note("credential revoke", &credential.name, reason)?;
            ended.push(credential);
            step(at + 1, count);
        }
        announce(book, &keys, ended)
    })
}

/// What a renewal made.
#[derive(Debug)]
pub struct Renewed {
    pub credential: Credential,
    pub before: Credential,
    pub gateways: Vec<String>,
}

/// Renews one credential. A key pair: same ways and addresses, the old key revoked at once. A certificate: the old one holds
/// until its end, so that the device is never without. An account: a new password, the old one revoked.
///
/// # Errors
/// There is none to renew, or it is revoked.
pub fn renew(context: &mut Context, text: &str, kind: Option<CredentialKind>, wish: &Wish) -> Result<Renewed> {
    let keys = context.keys()?;
    context.write(|book| {
        let old = named(book, text, kind)?;
        renew_within(book, &keys, old, wish)
    })
}

fn renew_within(book: &Book<'_>, keys: &Keys, old: Credential, wish: &Wish) -> Result<Renewed> {
    let now = book.now;
    if old.revoked.is_some() {
        return Err(Problem::refused(format!("{} is revoked", old.name))
            .why("what was taken back is not renewed")
            .try_(format!("yestrel credential issue {}", old.device)));
    }
    let device: Device = book.need(&old.device)?;
    // As long as before, from now on; a certificate as its groups say.
    let as_before = old.expires.filter(|_| old.kind != CredentialKind::Certificate);
    let expires = wish.expires.or_else(|| as_before.map(|end| now + end.duration_since(old.issued)));
    let at = if old.kind == CredentialKind::KeyPair {
        old.ways.iter().map(|way| way.listener.clone()).collect()
    } else {
        old.gateways.clone()
    };
    let signed_by = authorities_of(book, std::slice::from_ref(&old))?.pop();
    let still = match &signed_by {
        Some(name) => book.get::<Authority>(name)?.is_some_and(|one| one.retired.is_none()),
        None => false,
    };
    let wish = Wish {
        kind: old.kind,
        at,
        public_key: wish.public_key,
        request: wish.request.clone(),
        algorithm: wish.algorithm,
        authority: wish.authority.clone().or(signed_by.filter(|_| still)),
        password: wish.password.clone(),
        second_factor: old.account.as_ref().is_some_and(|account| account.second_factor.is_some())
            || wish.second_factor,
        once: old.once,
        valid_from: wish.valid_from,
        expires,
    };
    check_wish(&wish, now)?;
    let gateways = gateways_of(&old);
    let before = if old.kind == CredentialKind::Certificate {
        let mut old = old;
        old.superseded = Some(now);
        // A key that was never handed over is of no use any more.
        old.private_key = None;
        book.put(&old)?;
        old
    } else {
        // Its addresses are free first, so that the new one gets the same.
        revoke_within(book, old, "renewed", now)?
    };
    let mut common = Common::gather(book, keys, &wish)?;
    let mut credential = make(book, keys, &device, &wish, &mut common)?;
    for (way, was) in credential.ways.iter_mut().zip(&before.ways) {
        if way.listener == was.listener && way.inner != was.inner {
            let free = book.get::<Address>(&Address::new(&way.listener, was.inner, "").name)?.is_none();
            if free {
                book.remove::<Address>(&Address::new(&way.listener, way.inner, "").name)?;
                book.put(&Address::new(&way.listener, was.inner, &credential.name))?;
                way.inner = was.inner;
            }
        }
    }
    book.put(&credential)?;
    book.note("credential renew", &credential.name, &format!("in place of {}", before.name))?;
    Ok(Renewed { credential, before, gateways })
}

/// What is due for renewal.
#[derive(Debug, Default)]
pub struct Due {
    /// Certificates: renewed, or to be.
    pub certificates: Vec<String>,
    /// Certificates whose device made the key: it must make a new request.
    pub by_request: Vec<String>,
    /// Key pairs, which a renewal would lock out until they are handed over anew.
    pub others: Vec<String>,
}

fn due(book: &Book<'_>, by: Timestamp) -> Result<(Due, Vec<Credential>)> {
    let mut due = Due::default();
    let mut renew = Vec::new();
    for credential in
        book.find::<Credential>(&[("revoked", serde_json::Value::Null), ("superseded", serde_json::Value::Null)])?
    {
        if !credential.expires.is_some_and(|end| end > book.now && end <= by) {
            continue;
        }
        match credential.kind {
            CredentialKind::Certificate if credential.made_on_device => due.by_request.push(credential.name),
            CredentialKind::Certificate => {
                due.certificates.push(credential.name.clone());
                renew.push(credential);
            }
            _ => due.others.push(credential.name),
        }
    }
    Ok((due, renew))
}

/// What ends by a moment.
///
/// # Errors
/// The estate cannot be read.
pub fn would_renew(context: &mut Context, by: Timestamp) -> Result<Due> {
    context.read(|book| Ok(due(book, by)?.0))
}

/// Renews every certificate that ends by a moment; each old one holds until its end. Gives also the gateways that must learn
/// the new ones.
///
/// # Errors
/// The key of an authority is away; then nothing has changed.
pub fn renew_due(
    context: &mut Context,
    by: Timestamp,
    step: &mut dyn FnMut(usize, usize),
) -> Result<(Due, Vec<String>)> {
    let keys = context.keys()?;
    context.write(|book| {
        let (mut due, renew) = due(book, by)?;
        let count = renew.len();
        let mut gateways = BTreeSet::new();
        due.certificates.clear();
        for (at, credential) in renew.into_iter().enumerate() {
            let renewed = renew_within(book, &keys, credential, &Wish::default())?;
            gateways.extend(renewed.gateways);
            due.certificates.push(renewed.credential.name);
            step(at + 1, count);
        }
        Ok((due, gateways.into_iter().collect()))
    })
}

/// Ends the lock-out of an account before its time; whether there was one.
///
/// # Errors
/// The device has no account.
pub fn lift(context: &mut Context, text: &str) -> Result<bool> {
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::Password))?;
        let now = book.now;
        let locked = credential.account.as_mut().is_some_and(|account| account.lift(now));
        book.put(&credential)?;
        if locked {
            book.note("credential lift", &credential.name, "")?;
        }
        Ok(locked)
    })
}

/// Tries a sign-in with an account of the estate: counted like any other.
///
/// # Errors
/// There is no such account, or it is not let in, with the reason.
pub fn sign_in(context: &mut Context, account_name: &str, password: &str, code: Option<&str>) -> Result<String> {
    let keys = context.keys()?;
    let (name, refused) = context.write(|book| {
        let device = account_name.replacen('.', "/", 1);
        let mut credential = live(book, &device, CredentialKind::Password)?.ok_or_else(|| {
            Problem::refused(format!("there is no account {account_name:?}"))
                .try_("yestrel credential list --kind password")
        })?;
        let now = book.now;
        let user: User = book.need(&credential.user)?;
        if user.state == UserState::Suspended {
            return Err(Problem::refused(format!("{} is suspended", user.name))
                .try_(format!("yestrel user restore {}", user.name)));
        }
        if let Some(end) = credential.expires.filter(|end| *end <= now) {
            return Err(Problem::refused(format!("{account_name} ended on {}", moment(end))));
        }
        let name = credential.name.clone();
        let Some(account) = &mut credential.account else { return Err(Problem::failed("an account is damaged")) };
        let right = account::matches(password, &account.password);
        let second = account.second_factor.clone();
        let secret = second.map(|second| keys.sealing.open(&second.secret, &factor_place(&name))).transpose()?;
        let verdict = account.sign_in(right, secret.as_ref().map(|secret| (secret, code)), now);
        let refused = account::refusal(account_name, &verdict);
        if refused.is_none() {
            credential.first_used.get_or_insert(now);
            credential.last_used = Some(now);
        }
        book.put(&credential)?;
        Ok((name, refused))
    })?;
    refused.map_or(Ok(name), Err)
}
