//! What a gateway shows to clients of open standards, and what it makes of what they show: certificates, names, accounts.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use ipnet::IpNet;
use jiff::Timestamp;
use parking_lot::{Mutex, RwLock};
use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};
use ring::rand::SystemRandom;
use yestrel_core::account;
use yestrel_core::admission::{Proof, Reason as Why, Refusal as CoreRefusal, Shown as Claimed, ms_chap_purpose};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::order::OrderListener;
use yestrel_core::tunnel::Tunnel;
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::{Certificate, PrivateKey, certificate, key, proof};
use yestrel_core::{Problem, Result, moment};
use yestrel_net::seats::Called;
use yestrel_wire::ike::eap::Form;
use yestrel_wire::ike::message::{Identity, id};
use yestrel_wire::ike::state::{Granted, Keeper, Reason, Refusal, Settings, Shown};

use super::Ground;
use crate::admit::{Coming, Granted as Admitted, Shared};

/// What an order says of it.
struct Own {
    /// The gateway's own certificate and what stands above it but the root.
    chain: Vec<Certificate>,
    key: Option<PrivateKey>,
    dialled: String,
    /// Whose certificates devices may show.
    trusted: Vec<Certificate>,
    accounts: bool,
    sha1: Option<Timestamp>,
    domains: Vec<String>,
}

impl Own {
    fn takes_sha1(&self) -> bool {
        self.sha1.is_some_and(|until| Timestamp::now() < until)
    }
}

/// Wrong passwords of one account in a row.
#[derive(Default)]
struct Misses {
    count: u32,
    lock_outs: u32,
    until: Option<Timestamp>,
}

/// The papers of one listener.
pub(super) struct Papers {
    called: Arc<Called>,
    shared: Arc<Shared>,
    /// The gateway's, which opens what orders seal to it.
    private: Secret,
    own: RwLock<Own>,
    /// By account: only of those that the order names.
    misses: Mutex<HashMap<String, Misses>>,
}

fn decoded(text: &str) -> Result<Certificate> {
    let der = BASE64.decode(text).map_err(|_| Problem::words("a certificate in the order is damaged"))?;
    Certificate::from_der(&der)
}

fn refusal(reason: Reason, words: impl Into<String>) -> Refusal {
    Refusal { credential: None, reason, words: words.into() }
}

fn of_core(credential: Option<PublicKey>, refused: CoreRefusal) -> Refusal {
    let credential = credential.map(|credential| credential.0);
    Refusal { credential, reason: machine_reason(refused.reason), words: refused.words }
}

/// What a device is told.
fn settings(granted: &Admitted, domains: &[String]) -> Settings {
    let given = granted.settings();
    let gateways = given.gateways().into_iter().map(IpNet::from);
    let mut reach: Vec<IpNet> = given.reach.clone();
    reach.extend(gateways.filter(|own| !given.reach.iter().any(|range| range.contains(own))));
    Settings {
        inner: granted.inner,
        inner6: given.second.map(|second| second.inner.addr()),
        resolvers: given.resolvers,
        domains: domains.to_vec(),
        reach,
        lifetime: granted.admission.lifetime(),
    }
}

/// The reason as records have it.
pub(super) fn reason(reason: Reason) -> Why {
    match reason {
        Reason::Revoked => Why::Revoked,
        Reason::Expired => Why::Expired,
        Reason::NotYet => Why::NotYet,
        Reason::Suspended => Why::Suspended,
        Reason::Unknown => Why::Unknown,
        Reason::PoolFull => Why::PoolFull,
        Reason::Limit => Why::Limit,
        Reason::Shutdown => Why::Shutdown,
        Reason::Administrator => Why::Administrator,
        Reason::Replaced => Why::Replaced,
        Reason::Closed => Why::Closed,
        Reason::Silent => Why::Silent,
        Reason::Other => Why::Other,
        Reason::Algorithms => Why::Algorithms,
        Reason::Proof | Reason::Password => Why::Unproved,
        Reason::Locked => Why::LockedOut,
        Reason::Untrusted => Why::Untrusted,
        Reason::Name => Why::Name,
        Reason::Unfinished => Why::Unfinished,
        Reason::Policy => Why::Policy,
        Reason::Unclaimed => Why::Unclaimed,
    }
}

/// The reason as the state machine has it.
pub(super) fn machine_reason(why: Why) -> Reason {
    match why {
        Why::Revoked => Reason::Revoked,
        Why::Expired => Reason::Expired,
        Why::NotYet => Reason::NotYet,
        Why::Suspended => Reason::Suspended,
        Why::Unknown => Reason::Unknown,
        Why::PoolFull => Reason::PoolFull,
        Why::Limit => Reason::Limit,
        Why::Shutdown | Why::AgentStopped => Reason::Shutdown,
        Why::Administrator => Reason::Administrator,
        Why::Replaced => Reason::Replaced,
        Why::Closed => Reason::Closed,
        Why::Silent => Reason::Silent,
        Why::Algorithms => Reason::Algorithms,
        Why::Unproved => Reason::Proof,
        Why::LockedOut => Reason::Locked,
        Why::Untrusted => Reason::Untrusted,
        Why::Name => Reason::Name,
        Why::Unfinished => Reason::Unfinished,
        Why::Policy => Reason::Policy,
        Why::Unclaimed => Reason::Unclaimed,
        Why::Versions | Why::Other => Reason::Other,
    }
}

/// What is written down of a refusal.
pub(super) fn words_of(refusal: &Refusal) -> String {
    match (refusal.words.as_str(), refusal.reason) {
        ("", Reason::Unknown) => "the order admits no such credential here".into(),
        ("", Reason::Revoked) => "its credential was revoked".into(),
        ("", Reason::Suspended) => "its user is suspended".into(),
        ("", Reason::PoolFull) => "the pool has no address left".into(),
        ("", _) => "no more is known".into(),
        (words, Reason::Algorithms) => {
            format!("{words}; the handovers for apple and windows set good ones on the device")
        }
        (words, _) => words.into(),
    }
}

impl Papers {
    /// The papers for a listener.
    ///
    /// # Errors
    /// What the order says of certificates cannot be read; the gateway has none.
    pub fn new(listener: &OrderListener, called: &Arc<Called>, ground: &Ground) -> Result<Self> {
        let papers = Self {
            called: called.clone(),
            shared: ground.shared.clone(),
            private: ground.identity.private_key.clone(),
            own: RwLock::new(Own {
                chain: Vec::new(),
                key: None,
                dialled: String::new(),
                trusted: Vec::new(),
                accounts: false,
                sha1: None,
                domains: Vec::new(),
            }),
            misses: Mutex::default(),
        };
        papers.refresh(listener);
        Ok(papers)
    }

    /// An order is in force.
    pub fn refresh(&self, listener: &OrderListener) {
        let Some(order) = self.shared.in_force() else { return };
        let content = order.roll.settings();
        let all = |texts: Vec<&String>| -> Vec<Certificate> {
            texts.into_iter().filter_map(|text| decoded(text).ok()).collect()
        };
        let mut chain = all(content.certificate.iter().collect());
        chain.retain(|one| !one.is_root());
        let trusted = all(content.authorities.values().collect());
        let keys = self.shared.keep.lock().certificate_keys().unwrap_or_default();
        let key = chain.first().and_then(|leaf| {
            let read = keys.iter().filter_map(|key| PrivateKey::from_pkcs8(key.clone(), &SystemRandom::new()).ok());
            read.into_iter().find(|key| key.public() == leaf.key())
        });
        if key.is_none() {
            tracing::error!(
                listener = &*self.called.now(),
                "this gateway has no certificate to show: nobody can come in here"
            );
        }
        let (accounts, sha1) = match &listener.tunnel {
            Tunnel::Ikev2(own) => (own.accounts, own.sha1_until),
            _ => (false, None),
        };
        *self.own.write() = Own {
            chain,
            key,
            dialled: content.dialled.clone(),
            trusted,
            accounts,
            sha1,
            domains: listener.domains.clone(),
        };
    }

    fn granted(
        &self,
        claimed: Claimed<'_>,
        from: SocketAddr,
        credential: Option<PublicKey>,
    ) -> std::result::Result<Granted, Refusal> {
        let coming = Coming::new(claimed, from);
        let granted = self.shared.grant(&self.called.now(), coming).map_err(|refused| of_core(credential, refused))?;
        let credential = granted.admission.proof.identity();
        self.shared.unspent(&credential).map_err(|refused| of_core(Some(credential), refused))?;
        Ok(Granted { credential: credential.0, settings: settings(&granted, &self.own.read().domains) })
    }

    fn locked(&self, name: &str) -> Option<Timestamp> {
        let misses = self.misses.lock();
        misses.get(name).and_then(|misses| misses.until).filter(|until| *until > Timestamp::now())
    }
}

/// An identity in words, as it is compared with names: rules of RFC 4945 sections 3.1 and 5.1.
fn name_of(identity: &Identity) -> Option<SubjectName> {
    let text = || String::from_utf8(identity.data.clone()).ok();
    match identity.kind {
        id::FQDN => Some(SubjectName::Host(text()?.trim_end_matches('.').to_ascii_lowercase())),
        id::MAIL => Some(SubjectName::Mail(text()?)),
        id::IPV4 => <[u8; 4]>::try_from(&identity.data[..]).ok().map(|four| SubjectName::Address(IpAddr::from(four))),
        id::IPV6 => <[u8; 16]>::try_from(&identity.data[..]).ok().map(|six| SubjectName::Address(IpAddr::from(six))),
        _ => None,
    }
}

/// Whether a certificate has a name: host names without regard to case, the domain of a mail address as well, everything else exactly.
fn has(leaf: &Certificate, name: &SubjectName) -> bool {
    let mail = |text: &str| match text.rsplit_once('@') {
        Some((local, domain)) => format!("{local}@{}", domain.to_ascii_lowercase()),
        None => text.to_owned(),
    };
    leaf.names().unwrap_or_default().iter().any(|own| match (own, name) {
        (SubjectName::Host(own), SubjectName::Host(name)) => own.eq_ignore_ascii_case(name),
        (SubjectName::Mail(own) | SubjectName::Principal(own), SubjectName::Mail(name)) => mail(own) == mail(name),
        (own, name) => own == name,
    })
}

fn shown_as(identity: &Identity) -> String {
    name_of(identity).map_or_else(|| format!("an identity of type {}", identity.kind), |name| name.to_string())
}

/// Whether an identity is a name in a certificate: also its subject, or, as an opaque key id, any of its names.
fn is_in(leaf: &Certificate, identity: &Identity) -> bool {
    match identity.kind {
        id::NAME => leaf.subject_der().is_ok_and(|subject| subject == identity.data),
        id::KEY => {
            let text = String::from_utf8_lossy(&identity.data).into_owned();
            leaf.names().unwrap_or_default().iter().any(|name| name.to_string() == text)
        }
        _ => name_of(identity).is_some_and(|name| has(leaf, &name)),
    }
}

impl Keeper for Papers {
    fn certificates(&self) -> Vec<Vec<u8>> {
        self.own.read().chain.iter().map(|one| one.der().to_vec()).collect()
    }

    fn identity(&self, asked: Option<&Identity>) -> std::result::Result<Identity, Refusal> {
        let own = self.own.read();
        let leaf =
            own.chain.first().ok_or_else(|| refusal(Reason::Other, "this gateway has no certificate to show"))?;
        if let Some(asked) = asked {
            if is_in(leaf, asked) {
                return Ok(asked.clone());
            }
            let names = leaf.names().unwrap_or_default().iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            let words = format!("it asks for {}, and this gateway's certificate is for {names}", shown_as(asked));
            return Err(refusal(Reason::Name, words));
        }
        let identity = match own.dialled.parse::<IpAddr>() {
            Ok(IpAddr::V4(four)) => Identity { kind: id::IPV4, data: four.octets().to_vec() },
            Ok(IpAddr::V6(six)) => Identity { kind: id::IPV6, data: six.octets().to_vec() },
            Err(_) => Identity { kind: id::FQDN, data: own.dialled.clone().into_bytes() },
        };
        Ok(identity)
    }

    fn prove(&self, octets: &[u8], hashes: &[u16]) -> Option<Vec<u8>> {
        let (own, random) = (self.own.read(), SystemRandom::new());
        let key = own.key.as_ref()?;
        // Who announces hashes takes better ones; who does not knows this one.
        let older = if hashes.is_empty() && own.takes_sha1() { key.prove_by_sha1(octets, &random) } else { None };
        older.or_else(|| key.prove(octets, hashes, &random))
    }

    fn authorities(&self) -> Vec<u8> {
        let own = self.own.read();
        let keys = own.trusted.iter().filter_map(|one| one.key_der().ok());
        keys.flat_map(|der| digest(&SHA1_FOR_LEGACY_USE_ONLY, &der).as_ref().to_vec()).collect()
    }

    fn takes_accounts(&self) -> bool {
        self.own.read().accounts
    }

    fn certificate(&self, shown: &Shown<'_>, from: SocketAddr) -> std::result::Result<Granted, Refusal> {
        let untrusted = |words: String| refusal(Reason::Untrusted, words);
        let first = shown.certificates.first().ok_or_else(|| untrusted("it shows no certificate".into()))?;
        let leaf = Certificate::from_der(first).map_err(|problem| untrusted(problem.line()))?;
        {
            let own = self.own.read();
            let issuer = own.trusted.iter().find(|issuer| leaf.check_signed_by(issuer).is_ok()).ok_or_else(|| {
                untrusted(format!(
                    "{} is signed by {}, which is no authority of this estate",
                    leaf.common_name(),
                    leaf.issuer_name()
                ))
            })?;
            certificate::check_chain(&[leaf.clone(), issuer.clone()], Timestamp::now(), true)
                .map_err(|problem| untrusted(problem.line()))?;
        }
        let credential = key::identity(leaf.key()).map_err(|problem| untrusted(problem.line()))?;
        let with = |refused: Refusal| Refusal { credential: Some(credential.0), ..refused };
        if !is_in(&leaf, shown.identity) {
            let words =
                format!("it calls itself {}, and its certificate is not for that name", shown_as(shown.identity));
            return Err(with(refusal(Reason::Name, words)));
        }
        if let Err(problem) = proof::check(leaf.key(), shown.proof, shown.octets) {
            if !proof::is_by_sha1(leaf.key(), shown.proof, shown.octets) {
                return Err(with(refusal(Reason::Proof, problem.line())));
            }
            if !self.own.read().takes_sha1() {
                let words = "it signs over SHA-1, which is not taken: yestrel listener change LISTENER --sha1-until DATE   for a while";
                return Err(with(refusal(Reason::Proof, words)));
            }
            tracing::warn!(
                listener = &*self.called.now(),
                device = leaf.common_name(),
                "signed in with SHA-1, which can be forged"
            );
        }
        self.granted(Claimed::Certificate(credential), from, Some(credential))
    }

    fn account(&self, name: &str, from: SocketAddr) -> std::result::Result<Form, Refusal> {
        // Nobody learns whether there is such an account: names that the order does not have are not remembered.
        let coming = Coming::new(Claimed::Account(name), from);
        let granted = self.shared.grant(&self.called.now(), coming).map_err(|refused| of_core(None, refused))?;
        let identity = granted.admission.proof.identity();
        let with = |reason: Reason, words: String| Refusal { credential: Some(identity.0), reason, words };
        let Proof::Account { ms_chap, name, .. } = &granted.admission.proof else {
            return Err(with(Reason::Proof, "it is no account".into()));
        };
        if let Some(until) = self.locked(name) {
            return Err(with(
                Reason::Locked,
                format!("locked out until {} after too many wrong passwords", moment(until)),
            ));
        }
        let Some(sealed) = ms_chap else {
            let words = "its password was set before the registry kept what ms-chap-v2 needs, or it needs a second factor, which \
                         built-in clients cannot be asked for";
            return Err(with(Reason::Proof, words.into()));
        };
        let form = sealed
            .open(&self.private, &ms_chap_purpose(name))
            .map_err(|problem| with(Reason::Proof, problem.line()))?;
        let bytes: [u8; 16] =
            form.reveal().try_into().map_err(|_| with(Reason::Proof, "its form is damaged".into()))?;
        Ok(Form::new(bytes))
    }

    fn signed_in(&self, name: &str, right: bool, from: SocketAddr) -> std::result::Result<Granted, Refusal> {
        // By whatever name it was called, the account is one.
        let account =
            self.shared.account_of(&self.called.now(), name, from).map_err(|refused| of_core(None, refused))?;
        if right {
            self.misses.lock().remove(&account);
            let granted = self.granted(Claimed::Account(name), from, None)?;
            self.shared.named(PublicKey(granted.credential), name);
            return Ok(granted);
        }
        let now = Timestamp::now();
        let mut misses = self.misses.lock();
        let own = misses.entry(account).or_default();
        own.count += 1;
        let mut words = "a wrong password".to_owned();
        if let Some(locked) = account::locks_out(own.count, own.lock_outs) {
            (own.count, own.lock_outs, own.until) = (0, own.lock_outs + 1, Some(now + locked));
            words = format!("a wrong password, and one too many: locked out until {}", moment(now + locked));
        }
        drop(misses);
        let credential = self
            .shared
            .grant(&self.called.now(), Coming::new(Claimed::Account(name), from))
            .ok()
            .map(|one| one.admission.proof.identity().0);
        Err(Refusal { credential, reason: Reason::Password, words })
    }
}
