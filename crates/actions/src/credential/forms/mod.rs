//! Handing certificates and accounts over in the forms that devices' own software takes.
//!
//! | file | holds |
//! |---|---|
//! | `form` | which there are |
//! | `parts` | what goes into them |
//! | `apple` | a configuration profile |
//! | `windows` | a script |
//! | `android` | a bundle |
//! | `steps` | the page of steps beside them |

mod android;
mod apple;
mod form;
mod parts;
mod steps;
mod windows;

use yestrel_core::account;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{Credential, CredentialKind, Gateway, IssuedCertificate};
use yestrel_core::x509::key;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;
use zeroize::Zeroizing;

pub use form::{Form, word};
use parts::{Parts, Who, gather, taking};

use super::wish::named;
use crate::context::Context;
use crate::gateway::certificate::remark;
use crate::keyring::{Keys, decoded, labels, random16};
use crate::{find, job};

/// What is handed over.
pub struct Bundle {
    /// Names and contents; one, or the files of a folder.
    pub files: Vec<(String, Zeroizing<Vec<u8>>)>,
    /// What the person at the device does with it; without a secret.
    pub steps: Option<String>,
    /// What the device will meet and cannot mend: gateways without a certificate for what is dialled.
    pub notes: Vec<String>,
    /// What opens it, to be given by another way than the file.
    pub transport: Option<Zeroizing<String>>,
}

/// What is to be said before a certificate or an account is handed over: gateways at which nobody would take it.
///
/// # Errors
/// There is no such credential.
pub fn before(context: &mut Context, text: &str, kind: CredentialKind) -> Result<Vec<String>> {
    let (proof, option) = match kind {
        CredentialKind::Password => (ProofKind::Account, " --accounts"),
        _ => (ProofKind::Certificate, ""),
    };
    context.read(|book| {
        let credential = named(book, text, Some(kind))?;
        let mut notes = Vec::new();
        for gateway in credential.gateways() {
            if taking(book, &gateway, proof)?.is_none() {
                notes.push(format!(
                    "{gateway} has no listener that takes it: yestrel listener open {gateway} --tunnel ikev2{option}"
                ));
            }
        }
        if credential.account().is_some_and(|account| account.second_factor.is_some()) {
            notes.push(
                "built-in clients cannot be asked for a second factor: with one, it is for other equipment alone"
                    .into(),
            );
        }
        Ok(notes)
    })
}

/// A password for the way: shown apart from the file.
fn transport() -> Result<Zeroizing<String>> {
    let made = account::readable(random16()?);
    Ok(Zeroizing::new(String::from_utf8_lossy(made.reveal()).into_owned()))
}

/// Makes the bundle of a form; `file`: what it will be called.
fn bundle(book: &Book<'_>, keys: &Keys, parts: &Parts, form: Form, file: &str) -> Result<Bundle> {
    let transport = transport()?;
    // A certificate may be for gateways that are still to come: then there is nowhere to dial yet.
    let steps = if parts.gateways.is_empty() { None } else { Some(steps::page(parts, form, file)?) };
    let one = |ending: &str, bytes| vec![(parts.file(ending), bytes)];
    let files = match form {
        Form::Pkcs12 { old } => one("p12", parts.pkcs12(&transport, old)?),
        Form::Pem => parts.pem()?,
        Form::Apple => {
            let profile = apple::profile(parts, &transport)?;
            one("mobileconfig", parts.signed(book, keys, &profile)?)
        }
        Form::Windows => one("ps1", windows::script(parts, &transport)?),
        Form::Android => one("zip", android::bundle(parts, &transport, steps.as_deref().unwrap_or_default())?),
    };
    let mut notes = Vec::new();
    for (gateway, _) in &parts.gateways {
        if let Some(words) = remark(book, gateway)? {
            notes.push(format!("{}: {words}", gateway.name));
        } else if gateway.certificate.is_none() {
            notes.push(format!(
                "{} has no certificate yet, by which a device would know it: yestrel rollout makes it",
                gateway.name
            ));
        }
    }
    if parts.on_demand && !parts.listeners.values().any(|one| form == Form::Apple && on_demand_fits(one)) {
        notes.push(match form {
            Form::Apple => "nothing says when to connect by itself: the listener has no domains".into(),
            _ => "only Apple's systems take rules for connecting by itself from a handover".into(),
        });
    }
    let keyed = matches!(parts.who, Who::Certificate { .. }) && form != Form::Pem;
    Ok(Bundle { notes, files, steps, transport: keyed.then_some(transport) })
}

/// Whether there is something that could say when to connect.
fn on_demand_fits(listener: &yestrel_core::estate::Listener) -> bool {
    !listener.domains.is_empty() || listener.reach == yestrel_core::estate::Reach::Everything
}

/// What is wished of a handover.
pub struct Wish<'w> {
    pub form: Form,
    /// The device is to connect by itself where it is needed.
    pub on_demand: bool,
    /// The file's name, for the page of steps.
    pub file: &'w str,
}

/// Hands a certificate or an account over in a form. `deliver` must have put it somewhere safe when it returns; only then is the private
/// key or the password erased from the estate.
///
/// # Errors
/// Revoked, handed over already, no private key for a form that needs one, or `deliver` fails: then nothing has changed.
pub fn hand_over(
    context: &mut Context,
    text: &str,
    kind: CredentialKind,
    wish: &Wish<'_>,
    deliver: impl FnOnce(&Bundle) -> Result<()>,
) -> Result<Credential> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut credential = named(book, text, Some(kind))?;
        job::finished(book, &credential)?;
        // What is in the form of an account is no secret, unless its password was made here.
        let again = credential.account().is_some() || credential.made_on_device();
        may_hand_over(&credential, credential.private_key().is_some() || again)?;
        let parts = gather(book, &keys, &credential, wish.on_demand)?;
        let bundle = bundle(book, &keys, &parts, wish.form, wish.file)?;
        credential.handed_over = Some(book.now);
        credential.set_private_key(None);
        if let Some(account) = credential.account_mut().filter(|_| wish.form == Form::Apple) {
            account.generated = None;
        }
        credential.told = parts.told(book, wish.form)?;
        book.put(&credential)?;
        book.note("credential handover", &credential.name, &format!("as {}", word(wish.form)))?;
        deliver(&bundle)?;
        Ok(credential)
    })
}

/// What is to be shown of a certificate.
pub struct Shown {
    pub authority: String,
    pub fingerprint: String,
    pub names: Vec<String>,
    pub strength: String,
    /// What lists say of it, with why.
    pub state: String,
}

/// A certificate that the estate signed, by its serial number.
///
/// # Errors
/// There is none.
pub fn certificate(context: &mut Context, serial: &str) -> Result<Shown> {
    context.read(|book| {
        let issued: IssuedCertificate = book.need(serial)?;
        let certificate = decoded(&issued.certificate)?;
        let reason = issued.reason.map(|reason| format!(": {}", reason.word())).unwrap_or_default();
        Ok(Shown {
            authority: issued.authority,
            fingerprint: certificate.fingerprint(),
            names: certificate.names()?.iter().map(ToString::to_string).collect(),
            strength: key::strength(certificate.key())?.to_string(),
            state: format!("{}{reason}", issued.state.word()),
        })
    })
}

fn may_hand_over(credential: &Credential, something_left: bool) -> Result<()> {
    if credential.revoked.is_some() {
        return Err(Problem::refused(format!("{} is revoked", credential.name))
            .try_(format!("yestrel credential issue {}", credential.device)));
    }
    match credential.handed_over {
        Some(at) if !something_left => Err(Problem::refused(format!("{} was handed over already", credential.name))
            .why(format!("on {}; its secrets were erased here with that, so there is no second copy", moment(at)))
            .try_(format!("yestrel credential renew {}   makes a new one", credential.device))),
        _ => Ok(()),
    }
}

/// What an account's holder is told.
pub struct Told {
    pub account: String,
    /// A password that was made here.
    pub password: Option<Zeroizing<String>>,
    /// What an authenticator scans.
    pub second_factor: Option<Zeroizing<String>>,
    /// Where it comes in with what systems have built in: name or address, and which authority the device has to trust.
    pub at: Vec<(String, String)>,
}

/// Hands an account over: the password that was made here, and the second factor. Both are told once.
///
/// # Errors
/// As [`hand_over`].
pub fn hand_over_account(
    context: &mut Context,
    text: &str,
    deliver: impl FnOnce(&Told) -> Result<()>,
) -> Result<Credential> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::Password))?;
        job::finished(book, &credential)?;
        let name = credential.name.clone();
        let estate = find::this_estate(book)?.name;
        let account = credential.account_mut().cloned();
        let waits = account.as_ref().is_some_and(|account| {
            account.generated.is_some() || account.second_factor.as_ref().is_some_and(|second| !second.handed_over)
        });
        let mut at = Vec::new();
        for gateway in credential.gateways() {
            if taking(book, &gateway, ProofKind::Account)?.is_some() {
                let gateway: Gateway = book.need(&gateway)?;
                let by = gateway.certificate.as_ref().and_then(|one| one.authority.clone()).unwrap_or_default();
                at.push((gateway.dialled, by));
            }
        }
        let account = credential.account_mut();
        let mut told = Told { account: String::new(), password: None, second_factor: None, at };
        if let Some(account) = account {
            told.account.clone_from(&account.name);
            if let Some(sealed) = account.generated.take() {
                let secret = keys.sealing.open(&sealed, &labels::credential(&name))?;
                told.password = Some(Zeroizing::new(String::from_utf8_lossy(secret.reveal()).into_owned()));
            }
            if let Some(second) = account.second_factor.as_mut().filter(|second| !second.handed_over) {
                let secret = keys.sealing.open(&second.secret, &labels::second_factor(&name))?;
                told.second_factor = Some(account::scan(&estate, &account.name, &secret));
                second.handed_over = true;
            }
        }
        may_hand_over(&credential, waits)?;
        credential.handed_over = Some(book.now);
        book.put(&credential)?;
        book.note("credential handover", &name, "as an account")?;
        deliver(&told)?;
        Ok(credential)
    })
}
