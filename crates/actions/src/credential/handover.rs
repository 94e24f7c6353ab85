//! Handing a credential over, once; and opening a handover on the device.

use std::fs;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use age::armor::{ArmoredReader, ArmoredWriter, Format};
use age::secrecy::SecretString;
use yestrel_core::account;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{Credential, CredentialKind, Gateway, IssuedCertificate, Listener, Site, Told};
use yestrel_core::handover::{FORMAT, Handover, HandoverAccount, HandoverCertificate, HandoverWay, LONGEST};
use yestrel_core::tunnel::WayIn;
use yestrel_core::x509::agreement;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;
use zeroize::Zeroizing;

use super::wish::named;
use crate::authority::signing;
use crate::context::Context;
use crate::keyring::{Keys, encoded, labels};
use crate::{find, job};

/// The first line of an encrypted handover (age format, armored).
const ARMOR: &str = "-----BEGIN AGE ENCRYPTED FILE-----";

/// Ways in by listeners, as a device is told them.
pub(super) fn ways(book: &Book<'_>, keys: &Keys, listeners: &[Listener]) -> Result<(Vec<HandoverWay>, Vec<Told>)> {
    let mut ways = Vec::new();
    let mut told = Vec::new();
    let estate_key = find::this_estate(book)?.public_key;
    for listener in listeners {
        let gateway: Gateway = book.need(&listener.gateway)?;
        let site: Site = book.need(&gateway.site)?;
        let reach = listener.reach.ranges(&site.networks);
        let call = listener.tunnel.calls().and_then(|calls| calls.first());
        let label = call.map(|call| labels::call(&listener.name, call.number)).unwrap_or_default();
        let kept = call.and_then(|call| call.kept.as_ref());
        let secret = kept.map(|sealed| keys.sealing.open(sealed, &label)).transpose()?;
        told.push(Told {
            call: call.map(|call| call.number),
            server_key: Some(gateway.public_key),
            signer: None,
            estate_key,
            listener: listener.name.clone(),
            address: gateway.dialled.clone(),
            port: listener.outside_port(),
            reach: Some(reach.clone()),
            domains: Some(listener.domains.clone()),
            resolvers: None,
        });
        ways.push(HandoverWay {
            tunnel: WayIn::of(&listener.tunnel, gateway.public_key, secret)?,
            gateway: gateway.name,
            address: gateway.dialled,
            port: listener.outside_port(),
            reach,
            domains: listener.domains.clone(),
        });
    }
    Ok((ways, told))
}

/// The listeners at which a certificate or an account may come in, where Yestrel's own program takes that proof to them.
pub(super) fn taking(book: &Book<'_>, credential: &Credential, proof: ProofKind) -> Result<Vec<Listener>> {
    let mut taking = Vec::new();
    for gateway in credential.anywhere_at() {
        let listeners = find::listeners_of(book, gateway)?;
        taking.extend(listeners.into_iter().filter(|listener| listener.tunnel.proofs().contains(&proof)));
    }
    Ok(taking)
}

/// Whatever else the device has that a way takes goes along: its account, its certificate.
fn beside(
    book: &Book<'_>,
    keys: &Keys,
    device: &str,
    handover: &mut Handover,
    told: &mut Vec<Told>,
) -> Result<Vec<Credential>> {
    let mut gone_along = Vec::new();
    if let Some(mut credential) = find::current(book, device, CredentialKind::Password)?
        && job::counts(book, &credential)?
    {
        let (more, also) = ways(book, keys, &taking(book, &credential, ProofKind::Account)?)?;
        if !more.is_empty()
            && let Some(account) = credential.account().cloned()
        {
            let label = labels::credential(&credential.name);
            let password = account.generated.as_ref().map(|sealed| keys.sealing.open(sealed, &label)).transpose()?;
            handover.account = Some(HandoverAccount { name: account.name, password });
            handover.ways.extend(more);
            told.extend(also);
            if let Some(account) = credential.account_mut() {
                account.generated = None;
            }
            gone_along.push(credential);
        }
    }
    if let Some(mut credential) = find::current(book, device, CredentialKind::Certificate)?
        && job::counts(book, &credential)?
    {
        let (more, also) = ways(book, keys, &taking(book, &credential, ProofKind::Certificate)?)?;
        if !more.is_empty()
            && let Some(held) = credential.certificate().cloned()
        {
            let label = labels::credential(&credential.name);
            let private_key = held.private_key.as_ref().map(|sealed| keys.sealing.open(sealed, &label)).transpose()?;
            let issued: IssuedCertificate = book.need(&held.serial)?;
            let (above, _) = signing::chain(book, &book.need(&issued.authority)?)?;
            let chain = std::iter::once(issued.certificate).chain(above.iter().map(encoded)).collect();
            handover.certificate = Some(HandoverCertificate { chain, private_key });
            handover.ways.extend(more);
            told.extend(also);
            credential.set_private_key(None);
            gone_along.push(credential);
        }
    }
    Ok(gone_along)
}

/// Hands a key pair over, and with it whatever else the device has that a way takes. `deliver` gets the text and must have put it
/// somewhere safe when it returns. Only then are private keys and passwords erased from the estate, in the same transaction that
/// notes the handover.
///
/// # Errors
/// Revoked, handed over already, or `deliver` fails: then nothing has changed.
pub fn hand_over(
    context: &mut Context,
    text: &str,
    passphrase: Option<&str>,
    deliver: impl FnOnce(&str) -> Result<()>,
) -> Result<Credential> {
    let keys = context.keys()?;
    let now = context.now;
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::KeyPair))?;
        if credential.revoked.is_some() {
            return Err(Problem::refused(format!("{} is revoked", credential.name))
                .try_(format!("yestrel credential issue {}", credential.device)));
        }
        job::finished(book, &credential)?;
        let sealed = credential.private_key().cloned();
        if let (None, Some(at), false) = (&sealed, credential.handed_over, credential.made_on_device()) {
            return Err(Problem::refused(format!("{} was handed over already", credential.name))
                .why(format!(
                    "on {}; its private key was erased here with that, so there is no second copy",
                    moment(at)
                ))
                .try_(format!(
                    "yestrel credential renew {}   makes a new one and revokes the lost one",
                    credential.device
                )));
        }
        let label = labels::credential(&credential.name);
        let device_key = sealed.map(|sealed| keys.sealing.open(&sealed, &label)).transpose()?;
        let listeners =
            credential.ways().iter().map(|way| book.need(&way.listener)).collect::<Result<Vec<Listener>>>()?;
        let (ways, mut told) = ways(book, &keys, &listeners)?;
        let estate = find::this_estate(book)?;
        let mut handover = Handover {
            before: Vec::new(),
            format: FORMAT.into(),
            estate: estate.name,
            holder: credential.device.clone(),
            issued: credential.issued,
            expires: credential.expires,
            estate_key: estate.public_key,
            notice: credential.notice.as_ref().map_or(0, |notice| notice.number).max(credential.notice_seen),
            device_key,
            account: None,
            certificate: None,
            ways,
        };
        let gone_along = beside(book, &keys, &credential.device, &mut handover, &mut told)?;
        if handover.ways.is_empty() {
            return Err(Problem::refused(format!("{} has no way in any more", credential.name))
                .why("its listeners were closed")
                .try_(format!("yestrel credential revoke {} --reason moved, then issue it anew", credential.device)));
        }
        let written = Zeroizing::new(handover.write()?);
        let written = match passphrase {
            Some(passphrase) => Zeroizing::new(encrypt(&written, passphrase)?),
            None => written,
        };
        credential.set_private_key(None);
        credential.handed_over = Some(now);
        credential.told = told;
        // It says all that is so now.
        if let Some(notice) = &mut credential.notice {
            notice.taken = notice.taken.or(Some(now));
        }
        book.put(&credential)?;
        let how = if passphrase.is_some() { "under a passphrase" } else { "readable" };
        book.note("credential handover", &credential.name, how)?;
        for mut other in gone_along {
            other.handed_over = Some(now);
            book.put(&other)?;
            book.note("credential handover", &other.name, &format!("with {}", credential.name))?;
        }
        deliver(&written)?;
        Ok(credential)
    })
}

/// Tells what the authenticator of a key pair's second factor scans, once. `deliver` gets it and must have put it somewhere safe when it returns.
///
/// # Errors
/// It has none, it was told already, or `deliver` fails: then nothing has changed.
pub fn second_factor(
    context: &mut Context,
    text: &str,
    deliver: impl FnOnce(&str) -> Result<()>,
) -> Result<Credential> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::KeyPair))?;
        job::finished(book, &credential)?;
        let (name, device) = (credential.name.clone(), credential.device.clone());
        let renew = format!("yestrel credential renew {device} --second-factor   makes another");
        let Some(factor) = credential.key_factor_mut() else {
            return Err(Problem::refused(format!("{name} has no second factor"))
                .why("it was issued without one, or is revoked")
                .try_(renew));
        };
        if factor.handed_over {
            return Err(Problem::refused(format!("the second factor of {name} was told already"))
                .why("whoever else scanned it would have the same codes")
                .try_(renew));
        }
        let secret = keys.sealing.open(&factor.secret, &labels::second_factor(&name))?;
        factor.handed_over = true;
        book.put(&credential)?;
        book.note("credential handover", &name, "its second factor")?;
        deliver(&account::scan(&find::this_estate(book)?.name, &device, &secret))?;
        Ok(credential)
    })
}

/// Writes a handover to a file that must not be there yet, with mode 0600.
///
/// # Errors
/// It is there, or cannot be written.
pub fn write_file(path: &Path, text: &str) -> Result<()> {
    write_bytes(path, text.as_bytes())
}

/// Writes files into a folder that must not be there yet, with mode 0700, the files 0600.
///
/// # Errors
/// It is there, or cannot be written; then nothing is left of it.
pub fn write_folder(folder: &Path, files: &[(String, Zeroizing<Vec<u8>>)]) -> Result<()> {
    use std::os::unix::fs::DirBuilderExt as _;
    fs::DirBuilder::new().mode(0o700).create(folder).map_err(|error| {
        Problem::failed(format!("the folder {} cannot be made", folder.display()))
            .why(error.to_string())
            .try_("another name: --to FOLDER")
    })?;
    let wrote = files.iter().try_for_each(|(name, bytes)| write_bytes(&folder.join(name), bytes));
    if wrote.is_err() {
        let _ = fs::remove_dir_all(folder);
    }
    wrote
}

/// As [`write_file`], of anything.
///
/// # Errors
/// As [`write_file`].
pub fn write_bytes(path: &Path, bytes: &[u8]) -> Result<()> {
    let cannot = |error: std::io::Error| {
        let problem = Problem::failed(format!("{} cannot be written", path.display())).why(error.to_string());
        if error.kind() == std::io::ErrorKind::AlreadyExists {
            problem.try_("another name: --to FILE")
        } else {
            problem
        }
    };
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(cannot)?;
    let wrote = file.write_all(bytes).and_then(|()| file.sync_all());
    if wrote.is_err() {
        let _ = fs::remove_file(path);
    }
    wrote.map_err(cannot)
}

/// Writes a file whole in the place of one that may be there, which stays as it is until then. For what everybody may read.
///
/// # Errors
/// It cannot be written; then what was there is there.
pub fn replace_bytes(path: &Path, bytes: &[u8]) -> Result<()> {
    let cannot =
        |error: std::io::Error| Problem::failed(format!("{} cannot be written", path.display())).why(error.to_string());
    let mut new = path.as_os_str().to_owned();
    new.push(".new");
    let new = Path::new(&new);
    let write = || {
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o644).open(new)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        fs::rename(new, path)
    };
    let wrote = write();
    if wrote.as_ref().is_err_and(|error| error.kind() != std::io::ErrorKind::AlreadyExists) {
        let _ = fs::remove_file(new);
    }
    wrote.map_err(cannot)
}

fn encrypt(text: &str, passphrase: &str) -> Result<String> {
    let failed = |why: String| Problem::failed("the handover cannot be encrypted").why(why);
    let encryptor = age::Encryptor::with_user_passphrase(SecretString::from(passphrase.to_owned()));
    let mut out = Vec::new();
    let armor = ArmoredWriter::wrap_output(&mut out, Format::AsciiArmor).map_err(|e| failed(e.to_string()))?;
    let mut writer = encryptor.wrap_output(armor).map_err(|e| failed(e.to_string()))?;
    writer
        .write_all(text.as_bytes())
        .and_then(|()| writer.finish())
        .and_then(ArmoredWriter::finish)
        .map_err(|e| failed(e.to_string()))?;
    String::from_utf8(out).map_err(|e| failed(e.to_string()))
}

/// Reads a handover's file on the device; asks for the passphrase where it is encrypted, and for the private key's file
/// where the key was made there.
///
/// # Errors
/// Not a handover, damaged, of a newer format; a wrong passphrase; a private key that is missing or another one's.
pub fn open(
    path: &Path,
    passphrase: &dyn Fn() -> Result<Zeroizing<String>>,
    private_key: Option<&Path>,
) -> Result<Handover> {
    let cannot = |error: std::io::Error| {
        Problem::failed(format!("the handover {} cannot be read", path.display())).why(error.to_string())
    };
    let mut text = Zeroizing::new(String::new());
    let file = fs::File::open(path).map_err(cannot)?;
    file.take(2 * LONGEST as u64).read_to_string(&mut text).map_err(|error| match error.kind() {
        std::io::ErrorKind::InvalidData => {
            Problem::words(format!("{} is no handover", path.display())).why("it is not a text")
        }
        _ => cannot(error),
    })?;
    if text.starts_with(ARMOR) {
        let passphrase = passphrase()?;
        text = Zeroizing::new(decrypt(&text, &passphrase)?);
    }
    let mut handover = Handover::read(&text)?;
    if let Some(path) = private_key {
        let mut bytes = Zeroizing::new(Vec::new());
        let read = fs::File::open(path).and_then(|file| file.take(LONGEST as u64).read_to_end(&mut bytes));
        read.map_err(|error| {
            Problem::failed(format!("the private key {} cannot be read", path.display())).why(error.to_string())
        })?;
        handover.device_key = Some(agreement::read_private(&bytes)?);
    }
    let holds_another = handover.account.is_some() || handover.certificate.is_some();
    if handover.device_key.is_none() && !holds_another {
        return Err(Problem::words("the handover holds no private key")
            .why("the key was made on the device")
            .try_("--private-key FILE"));
    }
    Ok(handover)
}

/// The most work (scrypt, log2 of N: a gigabyte of memory) that a passphrase may ask for: a bound that does not depend on how busy or slow
/// the machine is that opens it.
pub(crate) const MOST_WORK: u8 = 20;

fn decrypt(text: &str, passphrase: &str) -> Result<String> {
    let damaged = |_| Problem::words("this handover is damaged").why("its encrypted text is cut short or altered");
    let decryptor = age::Decryptor::new_buffered(ArmoredReader::new(text.as_bytes()))
        .map_err(|error| damaged(error.to_string()))?;
    let mut identity = age::scrypt::Identity::new(SecretString::from(passphrase.to_owned()));
    identity.set_max_work_factor(MOST_WORK);
    let reader = decryptor.decrypt(std::iter::once(&identity as &dyn age::Identity)).map_err(|error| match error {
        age::DecryptError::DecryptionFailed
        | age::DecryptError::NoMatchingKeys
        | age::DecryptError::KeyDecryptionFailed => {
            Problem::refused("the passphrase is wrong").why("the handover does not open with it")
        }
        other => damaged(other.to_string()),
    })?;
    let mut plain = String::new();
    let mut reader = reader.take(2 * LONGEST as u64);
    reader.read_to_string(&mut plain).map_err(|error| damaged(error.to_string()))?;
    Ok(plain)
}
