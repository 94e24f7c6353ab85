//! What goes into a handover for devices' own software: who somebody is, whom they are to trust, where they dial.

use std::collections::BTreeMap;

use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{
    Authority, CertificateKind, Credential, Gateway, IssuedCertificate, Listener, Reach, Site, Told,
};
use yestrel_core::keys::Secret;
use yestrel_core::x509::bundle::{self, Protection};
use yestrel_core::x509::certificate::{self, Points, Purpose, Wanted};
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::{Algorithm, Certificate, PrivateKey, signed};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;
use zeroize::Zeroizing;

use super::form::Form;
use crate::authority::signing;
use crate::find;
use crate::keyring::{Keys, days_on, decoded, labels, random, random16};

/// How often the password of a bundle is worked on before it becomes a key; what every client still opens quickly.
const ITERATIONS: u32 = 100_000;
/// The same for `--for-old-clients`.
const OLD_ITERATIONS: u32 = 20_000;

/// By what somebody comes in.
pub(super) enum Who {
    Certificate {
        leaf: Box<Certificate>,
        key: Option<Secret>,
    },
    Account {
        name: String,
        /// One that was made here and not told yet.
        password: Option<Zeroizing<String>>,
    },
}

/// What goes into a bundle.
pub(super) struct Parts {
    pub device: String,
    pub estate: String,
    pub who: Who,
    /// What stands above it: below the root, and the root.
    pub chain: Vec<Certificate>,
    pub root: Certificate,
    pub gateways: Vec<(Gateway, Site)>,
    /// The listener of each that takes it, by the gateway's name.
    pub listeners: BTreeMap<String, Listener>,
    /// What stands above gateways' certificates that the estate did not make: roots, and what is below them.
    pub foreign: Vec<Certificate>,
    pub authority: Authority,
    /// The device is to connect by itself where it is needed.
    pub on_demand: bool,
}

/// The listener of a gateway that takes a kind of proof.
pub(super) fn taking(book: &Book<'_>, gateway: &str, proof: ProofKind) -> Result<Option<Listener>> {
    Ok(find::listeners_of(book, gateway)?.into_iter().find(|listener| listener.tunnel.proofs().contains(&proof)))
}

pub(super) fn gather(book: &Book<'_>, keys: &Keys, credential: &Credential, on_demand: bool) -> Result<Parts> {
    let (who, proof, authority) = match credential.certificate() {
        Some(held) => {
            let issued: IssuedCertificate = book.need(&held.serial)?;
            let authority: Authority = book.need(&issued.authority)?;
            let sealed = credential.private_key();
            let key =
                sealed.map(|sealed| keys.sealing.open(sealed, &labels::credential(&credential.name))).transpose()?;
            (Who::Certificate { leaf: Box::new(decoded(&issued.certificate)?), key }, ProofKind::Certificate, authority)
        }
        None => {
            let account =
                credential.account().ok_or_else(|| Problem::failed("this is no certificate and no account"))?;
            let sealed = account.generated.as_ref();
            let password = sealed.map(|sealed| keys.sealing.open(sealed, &labels::credential(&credential.name)));
            let password = password
                .transpose()?
                .map(|secret| Zeroizing::new(String::from_utf8_lossy(secret.reveal()).into_owned()));
            let who = Who::Account { name: account.name.clone(), password };
            (who, ProofKind::Account, signing::issuing(book, None)?)
        }
    };
    let (chain, root) = signing::chain(book, &authority)?;
    let (mut gateways, mut listeners) = (Vec::new(), BTreeMap::new());
    for name in credential.gateways() {
        let gateway: Gateway = book.need(&name)?;
        listeners.extend(taking(book, &name, proof)?.map(|listener| (name.clone(), listener)));
        let site = book.need(&gateway.site)?;
        gateways.push((gateway, site));
    }
    if proof == ProofKind::Account {
        // A certificate may be for what comes; an account is for what there is.
        gateways.retain(|(gateway, _)| listeners.contains_key(&gateway.name));
    }
    let mut foreign: Vec<Certificate> = Vec::new();
    for one in gateways.iter().filter_map(|(gateway, _)| gateway.certificate.as_ref()) {
        if one.authority.is_none() {
            let above = one.chain.iter().skip(1).chain(&one.root);
            foreign.extend(above.map(|text| decoded(text)).collect::<Result<Vec<_>>>()?);
        }
    }
    foreign.sort_by(|a, b| a.der().cmp(b.der()));
    foreign.dedup();
    Ok(Parts {
        device: credential.device.clone(),
        estate: find::this_estate(book)?.name,
        who,
        chain,
        root,
        gateways,
        listeners,
        foreign,
        authority,
        on_demand,
    })
}

impl Parts {
    pub fn file(&self, ending: &str) -> String {
        format!("{}.{ending}", self.device.replace('/', "-"))
    }

    pub fn first_gateway(&self) -> Result<&(Gateway, Site)> {
        self.gateways.first().ok_or_else(|| {
            let refused = Problem::refused(format!("{} has no gateway to come in at", self.device))
                .why("a profile sets a connection up, and needs to know where to");
            match self.who {
                Who::Certificate { .. } => refused.try_("yestrel gateway create, then yestrel credential renew"),
                Who::Account { .. } => refused.try_("yestrel listener open GATEWAY --tunnel ikev2 --accounts"),
            }
        })
    }

    /// What is secret in a bundle, in words.
    pub fn holds(&self) -> &'static str {
        match &self.who {
            Who::Certificate { .. } => "It holds a private key under a password.",
            Who::Account { password: Some(_), .. } => "It holds a password.",
            Who::Account { password: None, .. } => "It holds no secret.",
        }
    }

    /// Whether there is a secret in a bundle.
    pub fn holds_secret(&self) -> bool {
        !matches!(self.who, Who::Account { password: None, .. })
    }

    /// Whether the person has to type the password of an account.
    pub fn asks_for_password(&self) -> bool {
        matches!(self.who, Who::Account { password: None, .. })
    }

    /// Who signed the device's own certificate.
    pub fn own_issuer(&self) -> Option<&Certificate> {
        match self.who {
            Who::Certificate { .. } => Some(self.chain.first().unwrap_or(&self.root)),
            Who::Account { .. } => None,
        }
    }

    fn certificate_and_key(&self) -> Result<(&Certificate, &Secret)> {
        let no_certificate = || {
            Problem::words("this form is for certificates")
                .why("an account has a name and a password, and no key that a bundle could hold")
                .try_("--as apple, windows or android, or no form for a text")
        };
        let Who::Certificate { leaf, key } = &self.who else { return Err(no_certificate()) };
        let key = key.as_ref().ok_or_else(|| {
            Problem::refused(format!("the private key of {} is not here", self.device))
                .why("it was made on the device, so that no bundle can hold it")
                .try_("--as pem   for its certificate and the chain")
        });
        Ok((leaf, key?))
    }

    /// PKCS#12 with the whole chain.
    pub fn pkcs12(&self, password: &str, old: bool) -> Result<Zeroizing<Vec<u8>>> {
        let (leaf, key) = self.certificate_and_key()?;
        let certificates: Vec<_> = std::iter::once(leaf).chain(&self.chain).chain([&self.root]).collect();
        let protection = match old {
            true => Protection::Old { iterations: OLD_ITERATIONS },
            false => Protection::Present { iterations: ITERATIONS },
        };
        let bytes = bundle::make(key, &certificates, &self.device, password, protection, &random())?;
        // What cannot be opened again must not be handed over: its key is erased with that.
        match bundle::open(&bytes, password) {
            Ok(held) if held.key.as_ref().is_some_and(|held| held.reveal() == key.reveal()) => {}
            _ => return Err(Problem::failed("the bundle that was made cannot be opened again")),
        }
        Ok(bytes)
    }

    /// Who signed a gateway's certificate, by the common name.
    pub fn issuer_of(&self, gateway: &Gateway) -> Result<String> {
        match gateway.certificate.as_ref().filter(|one| one.authority.is_none()) {
            Some(one) => {
                let leaf = one.chain.first().map(|text| decoded(text)).transpose()?;
                Ok(leaf.map(|leaf| leaf.issuer_name()).unwrap_or_default())
            }
            None => Ok(self.chain.first().unwrap_or(&self.root).common_name()),
        }
    }

    /// The root above the first gateway's certificate, which need not be what stands above the device's.
    pub fn root_above_gateway(&self) -> Result<&Certificate> {
        let own = self.gateways.first().and_then(|(gateway, _)| gateway.certificate.as_ref());
        if own.is_none_or(|one| one.authority.is_some()) {
            return Ok(&self.root);
        }
        let (roots, _) = self.trusted();
        Ok(roots.into_iter().find(|one| **one != self.root).unwrap_or(&self.root))
    }

    /// Everything above gateways' certificates and its own: roots, and what stands below them.
    pub fn trusted(&self) -> (Vec<&Certificate>, Vec<&Certificate>) {
        let all = std::iter::once(&self.root).chain(&self.chain).chain(&self.foreign);
        all.partition(|one| one.is_root())
    }

    pub fn pem(&self) -> Result<Vec<(String, Zeroizing<Vec<u8>>)>> {
        let text = |text: String| Zeroizing::new(text.into_bytes());
        let Who::Certificate { leaf, key } = &self.who else {
            return self.certificate_and_key().map(|_| Vec::new());
        };
        let chain: String = std::iter::once(&**leaf).chain(&self.chain).map(Certificate::pem).collect();
        let mut files = vec![
            ("certificate.pem".to_owned(), text(leaf.pem())),
            ("chain.pem".to_owned(), text(chain)),
            ("authority.pem".to_owned(), text(self.root.pem())),
        ];
        if !self.foreign.is_empty() {
            files.push(("gateways.pem".to_owned(), text(self.foreign.iter().map(Certificate::pem).collect())));
        }
        if let Some(key) = key {
            files.push(("key.pem".to_owned(), text(yestrel_core::x509::pem("PRIVATE KEY", key.reveal()))));
        }
        Ok(files)
    }

    /// Ranges that go through the connection: as far as the listener reaches.
    pub fn ranges(&self, gateway: &Gateway, site: &Site) -> Vec<String> {
        let reach = self.listeners.get(&gateway.name).map(|listener| listener.reach.ranges(&site.networks));
        reach.as_ref().unwrap_or(&site.networks).iter().map(ToString::to_string).collect()
    }

    /// Whether everything goes through the connection.
    pub fn reaches_everything(&self, gateway: &Gateway) -> bool {
        self.listeners.get(&gateway.name).is_some_and(|listener| listener.reach == Reach::Everything)
    }

    /// By what the device calls itself: the host name of its own in its certificate, so that the other end finds it there (RFC 4945 section
    /// 3.1.2) and no other device has the same; with an account its name, which counts for nothing here.
    pub fn identifier(&self) -> String {
        match &self.who {
            Who::Certificate { leaf, .. } => {
                let names = leaf.names().unwrap_or_default();
                let host = names.iter().find(|name| matches!(name, SubjectName::Host(_)));
                host.or(names.first()).map_or_else(|| self.device.clone(), ToString::to_string)
            }
            Who::Account { name, .. } => name.clone(),
        }
    }

    pub fn gateway_names(&self) -> String {
        self.gateways.iter().map(|(gateway, _)| gateway.dialled.as_str()).collect::<Vec<_>>().join(", ")
    }

    /// What a handover in this form tells the device of its ways in.
    pub fn told(&self, book: &Book<'_>, form: Form) -> Result<Vec<Told>> {
        if matches!(form, Form::Pkcs12 { .. } | Form::Pem) {
            return Ok(Vec::new());
        }
        let estate_key = find::this_estate(book)?.public_key;
        let one = |(gateway, site): &(Gateway, Site)| {
            let listener = self.listeners.get(&gateway.name)?;
            Some(Told {
                listener: listener.name.clone(),
                server_key: None,
                signer: gateway.certificate.as_ref().and_then(|one| one.authority.clone()),
                estate_key,
                address: gateway.dialled.clone(),
                port: listener.outside_port(),
                // Of these systems one alone is told where everything goes; the others ask the gateway when they sign in.
                reach: (form == Form::Windows).then(|| listener.reach.ranges(&site.networks)),
                domains: (form != Form::Android).then(|| listener.domains.clone()),
                resolvers: (form == Form::Apple).then(|| listener.resolvers.clone()),
                call: None,
            })
        };
        Ok(self.gateways.iter().filter_map(one).collect())
    }

    /// Signs a text with a certificate that is made for it and lives a day.
    pub fn signed(&self, book: &Book<'_>, keys: &Keys, text: &[u8]) -> Result<Zeroizing<Vec<u8>>> {
        let now = book.now;
        let by = keys.signing(book, self.authority.clone())?;
        let key = PrivateKey::generate(Algorithm::P256, &random())?;
        let common_name = format!("{} handovers", self.estate);
        let wanted = Wanted {
            serial: random16()?,
            organisation: &self.estate,
            common_name: Some(&common_name),
            names: &[],
            key: key.public(),
            from: now,
            // Devices look at it long after it was used.
            until: days_on(now, 365).min(by.certificate.not_after()),
            purpose: Purpose::Signer,
            points: &Points::default(),
        };
        let signer = certificate::issue(&wanted, &by.issuer(), &random())?;
        signing::record(book, &by.authority.name, CertificateKind::Signer, &self.device, &signer, now)?;
        let chain: Vec<_> = std::iter::once(&signer).chain(&self.chain).cloned().collect();
        signed::sign(text, &chain, &key, now, &random()).map(Zeroizing::new)
    }
}
