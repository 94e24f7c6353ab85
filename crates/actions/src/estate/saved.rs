//! Taking an estate along: saved into one file, and loaded from it elsewhere or later.
//!
//! A saved estate is a compressed tar with three parts: `about.json`, which says what it is and holds the SHA-256 of the other
//! two; `estate`, the database; `key`, the file of its sealing key. Around it stands the age format, unless it was asked for
//! readable.

use std::fs;
use std::io::{BufReader, Read, Write};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use age::armor::ArmoredReader;
use age::secrecy::SecretString;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yestrel_core::estate::{Authority, Credential, Estate, Gateway, Host, Revocation};
use yestrel_core::exchange::agent::{OrderInForce, Standing, Status};
use yestrel_core::keys::{Hash256, sha256_hex};
use yestrel_core::{Problem, Result, moment};
use yestrel_store::SqliteStore;
use yestrel_store::seal::path_of;
use zeroize::Zeroizing;

use crate::authority::lists;
use crate::context::Context;
use crate::credential::end;
use crate::credential::handover::MOST_WORK;
use crate::find;
use crate::rollout::plan::unknown;

const FORMAT: &str = "yestrel saved estate 1";
/// Bytes at most of a part that is read into memory.
const LARGEST: u64 = 1024 * 1024;
/// How often a passphrase may be wrong.
const TRIES: usize = 3;

/// What a saved estate is.
#[derive(Debug, Serialize, Deserialize)]
pub struct About {
    format: String,
    pub estate: String,
    pub id: String,
    pub saved: Timestamp,
    /// The program that saved it.
    pub version: String,
    /// SHA-256 of the database and of the key's file.
    database: String,
    key: String,
}

/// How a saved estate is kept from others.
pub enum Protection {
    Passphrase(Zeroizing<String>),
    /// Recipient keys of the age format.
    Recipients(Vec<String>),
    /// Not at all.
    Readable,
}

/// Every kind of secret in a saved estate, in words.
pub const SECRETS: [&str; 8] = [
    "the key that signs orders to every gateway",
    "the private keys of every gateway and of its certificate",
    "the private keys of the authorities that are here",
    "private keys of devices that were not handed over yet",
    "passwords that were not handed over yet, and what MS-CHAPv2 needs of others",
    "second factors",
    "shared secrets",
    "the sealing key, which opens all of these",
];

fn failed(what: &str) -> impl Fn(std::io::Error) -> Problem + '_ {
    move |error| Problem::failed(format!("the estate cannot be {what}")).why(error.to_string())
}

/// Saves an estate into a file that must not be there yet, with mode 0600, as it stood at one moment.
///
/// # Errors
/// The file is there, cannot be written, or a recipient is none.
pub fn save(context: &mut Context, to: &Path, protection: &Protection) -> Result<About> {
    let cannot = failed("saved");
    let folder = to.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if to.exists() {
        return Err(Problem::refused(format!("there is already something at {}", to.display()))
            .why("a backup is never written over another file"));
    }
    let aside = tempfile::Builder::new().prefix(".yestrel-").tempdir_in(folder).map_err(&cannot)?;
    let copy = aside.path().join("estate");
    context.copy_to(&copy)?;
    let key = Zeroizing::new(fs::read(path_of(context.path())).map_err(&cannot)?);
    // What is saved is what was copied, whatever other commands do meanwhile.
    let own: Estate = SqliteStore::open(&copy)?.read(context.now, find::this_estate)?;
    let about = About {
        format: FORMAT.into(),
        estate: own.name,
        id: own.id,
        saved: context.now,
        version: env!("CARGO_PKG_VERSION").into(),
        database: hash_of(&copy).map_err(&cannot)?,
        key: sha256_hex(&key),
    };
    let whole = aside.path().join("saved");
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&whole).map_err(&cannot)?;
    let packed = |out: &mut dyn Write| pack(out, &about, &copy, &key);
    match protection {
        Protection::Readable => packed(&mut file).map_err(&cannot)?,
        Protection::Passphrase(passphrase) => {
            let encryptor = age::Encryptor::with_user_passphrase(SecretString::from(passphrase.to_string()));
            encrypt(encryptor, &mut file, packed)?;
        }
        Protection::Recipients(recipients) => {
            let parsed: Vec<age::x25519::Recipient> = recipients
                .iter()
                .map(|text| {
                    text.trim().parse().map_err(|why: &str| {
                        Problem::words("this is no recipient key").why(format!("{why}; one begins with age1"))
                    })
                })
                .collect::<Result<_>>()?;
            let recipients = parsed.iter().map(|one| one as &dyn age::Recipient);
            let encryptor = age::Encryptor::with_recipients(recipients).map_err(|e| Problem::words(e.to_string()))?;
            encrypt(encryptor, &mut file, packed)?;
        }
    }
    file.sync_all().map_err(&cannot)?;
    fs::hard_link(&whole, to).or_else(|_| fs::rename(&whole, to)).map_err(&cannot)?;
    let how = match protection {
        Protection::Passphrase(_) => "under a passphrase",
        Protection::Recipients(_) => "to recipient keys",
        Protection::Readable => "readable",
    };
    context.write(|book| {
        let mut estate = find::this_estate(book)?;
        estate.saved = Some(book.now);
        book.put(&estate)?;
        book.note("estate save", &about.estate, how)
    })?;
    Ok(about)
}

/// SHA-256 of a file, piece by piece.
fn hash_of(path: &Path) -> std::io::Result<String> {
    let mut hash = Hash256::default();
    std::io::copy(&mut fs::File::open(path)?, &mut Hashing(&mut hash))?;
    Ok(hash.finish())
}

/// Takes bytes into a hash.
struct Hashing<'a>(&'a mut Hash256);

impl Write for Hashing<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Writes the three parts, compressed.
fn pack(out: &mut dyn Write, about: &About, database: &Path, key: &[u8]) -> std::io::Result<()> {
    let compressed = flate2::write::GzEncoder::new(out, flate2::Compression::fast());
    let mut tar = tar::Builder::new(compressed);
    let about_text = serde_json::to_vec_pretty(about).unwrap_or_default();
    let database = fs::File::open(database)?;
    let length = database.metadata()?.len();
    let mut add = |name: &str, size: u64, bytes: &mut dyn Read| {
        let mut header = tar::Header::new_gnu();
        header.set_size(size);
        header.set_mode(0o600);
        header.set_mtime(u64::try_from(about.saved.as_second()).unwrap_or(0));
        tar.append_data(&mut header, name, bytes)
    };
    add("about.json", about_text.len() as u64, &mut about_text.as_slice())?;
    add("estate", length, &mut &database)?;
    add("key", key.len() as u64, &mut &*key)?;
    tar.into_inner()?.finish().map(drop)
}

fn encrypt(
    encryptor: age::Encryptor,
    out: &mut dyn Write,
    packed: impl FnOnce(&mut dyn Write) -> std::io::Result<()>,
) -> Result<()> {
    let mut writer = encryptor.wrap_output(out).map_err(failed("saved"))?;
    packed(&mut writer).and_then(|()| writer.finish().map(drop)).map_err(failed("saved"))
}

/// What opens a saved estate.
pub struct Opening<'a> {
    /// Asked for up to three times.
    pub passphrase: &'a mut dyn FnMut() -> Result<Zeroizing<String>>,
    /// The text of a file with secret keys of the age format.
    pub identity: Option<Zeroizing<String>>,
}

fn cut_short() -> Problem {
    Problem::words("this saved estate is damaged or cut short")
        .why("what it says of itself does not fit what is in it; nothing was loaded")
        .try_("another copy of the file")
}

fn decrypt(from: &Path, opening: &mut Opening<'_>) -> Result<Box<dyn Read>> {
    for attempt in 1..=TRIES {
        let file = BufReader::new(fs::File::open(from).map_err(|_| cut_short())?);
        let decryptor = age::Decryptor::new_buffered(ArmoredReader::new(file)).map_err(|_| cut_short())?;
        let opened = if decryptor.is_scrypt() {
            let passphrase = (opening.passphrase)()?;
            let mut identity = age::scrypt::Identity::new(SecretString::from(passphrase.to_string()));
            identity.set_max_work_factor(MOST_WORK);
            decryptor.decrypt(std::iter::once(&identity as &dyn age::Identity))
        } else {
            let text = opening.identity.as_ref().ok_or_else(|| {
                Problem::words("this saved estate is encrypted to a key").try_("--identity FILE, with the secret key")
            })?;
            let identities: Vec<age::x25519::Identity> = text
                .lines()
                .filter(|line| line.starts_with("AGE-SECRET-KEY-"))
                .filter_map(|line| line.trim().parse().ok())
                .collect();
            decryptor.decrypt(identities.iter().map(|one| one as &dyn age::Identity))
        };
        match opened {
            Ok(reader) => return Ok(Box::new(reader)),
            Err(age::DecryptError::DecryptionFailed | age::DecryptError::KeyDecryptionFailed)
                if attempt < TRIES && opening.identity.is_none() => {}
            Err(
                age::DecryptError::DecryptionFailed
                | age::DecryptError::KeyDecryptionFailed
                | age::DecryptError::NoMatchingKeys,
            ) => break,
            Err(_) => return Err(cut_short()),
        }
    }
    Err(Problem::refused("the saved estate does not open").why(if opening.identity.is_some() {
        "it is encrypted to another key"
    } else {
        "the passphrase was wrong three times"
    }))
}

/// Loads a saved estate to a place where there is none. Gives what it is.
///
/// # Errors
/// There is an estate already, the file is damaged or cut short, what should open it does not: nothing is left then.
pub fn load(path: &Path, from: &Path, mut opening: Opening<'_>) -> Result<About> {
    let key_path = path_of(path);
    for there in [path, &key_path] {
        if there.exists() {
            return Err(Problem::refused(format!("there is already something at {}", there.display()))
                .why("an estate is loaded only where there is none, so that nothing is lost")
                .try_("another place: yestrel estate load FILE --estate PATH"));
        }
    }
    let unreadable =
        |error: std::io::Error| Problem::failed(format!("{} cannot be read", from.display())).why(error.to_string());
    let file = fs::File::open(from).map_err(unreadable)?;
    let mut beginning = Vec::new();
    file.take(32).read_to_end(&mut beginning).map_err(unreadable)?;
    let packed: Box<dyn Read> = if beginning.starts_with(&[0x1f, 0x8b]) {
        Box::new(BufReader::new(fs::File::open(from).map_err(unreadable)?))
    } else if beginning.starts_with(b"age-encryption.org/") || beginning.starts_with(b"-----BEGIN AGE") {
        decrypt(from, &mut opening)?
    } else {
        return Err(Problem::words(format!("{} is no saved estate", from.display()))
            .try_("a file that yestrel estate save wrote"));
    };
    let cannot = failed("loaded");
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    {
        use std::os::unix::fs::DirBuilderExt as _;
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(&cannot)?;
    }
    // Beside its place until it is known to be whole.
    let aside = tempfile::Builder::new().prefix(".yestrel-").tempdir_in(folder).map_err(&cannot)?;
    let (about, database, key) = unpack(packed, &aside.path().join("estate"))?;
    let write = |path: &Path, bytes: &[u8]| {
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
        file.write_all(bytes).and_then(|()| file.sync_all())
    };
    let loaded = (|| {
        write(&key_path, &key).map_err(&cannot)?;
        // Never over anything that came there meanwhile.
        fs::hard_link(&database, path).or_else(|_| copy_new(&database, path)).map_err(&cannot)?;
        let mut store = SqliteStore::open(path)?;
        store.check()?;
        let own = store.read(about.saved, find::this_estate)?;
        if own.id != about.id {
            return Err(cut_short());
        }
        store.write(Timestamp::now(), &crate::who(), |book| {
            book.note("estate load", &own.name, &format!("saved on {}", moment(about.saved)))
        })
    })();
    if loaded.is_err() {
        // Half an estate is none.
        let _ = fs::remove_file(path);
        let _ = fs::remove_file(&key_path);
    }
    loaded.map(|()| about)
}

/// Copies a file to where there is none.
fn copy_new(from: &Path, to: &Path) -> std::io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(to)?;
    std::io::copy(&mut fs::File::open(from)?, &mut file)?;
    file.sync_all()
}

/// Parts at most that are looked at.
const PARTS: usize = 8;

/// Reads the parts: the database goes into the file `database`, all else into memory, of which no part has much.
fn unpack(packed: Box<dyn Read>, database: &Path) -> Result<(About, PathBuf, Zeroizing<Vec<u8>>)> {
    let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(packed));
    let mut parts: std::collections::BTreeMap<String, Zeroizing<Vec<u8>>> = std::collections::BTreeMap::new();
    let mut found = None;
    // It has three parts; more would only fill the memory.
    for entry in archive.entries().map_err(|_| cut_short())?.take(PARTS) {
        let mut entry = entry.map_err(|_| cut_short())?;
        let name = entry.path().map_err(|_| cut_short())?.to_string_lossy().into_owned();
        if name == "estate" && found.is_none() {
            let cannot = failed("loaded");
            let mut file =
                fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(database).map_err(&cannot)?;
            let mut hash = Hash256::default();
            let mut piece = vec![0; 64 * 1024];
            loop {
                let count = entry.read(&mut piece).map_err(|_| cut_short())?;
                if count == 0 {
                    break;
                }
                hash.update(&piece[..count]);
                file.write_all(&piece[..count]).map_err(&cannot)?;
            }
            file.sync_all().map_err(&cannot)?;
            found = Some(hash.finish());
            continue;
        }
        let mut bytes = Zeroizing::new(Vec::new());
        entry.take(LARGEST).read_to_end(&mut bytes).map_err(|_| cut_short())?;
        parts.insert(name, bytes);
    }
    let mut part = |name: &str| parts.remove(name).ok_or_else(cut_short);
    let about: About = serde_json::from_slice(&part("about.json")?).map_err(|_| cut_short())?;
    if about.format != FORMAT {
        return Err(Problem::failed(format!("this saved estate has the format {:?}", about.format))
            .why(format!("this version reads {FORMAT:?}"))
            .try_("install the newest yestrel"));
    }
    let key = part("key")?;
    if found.as_ref() != Some(&about.database) || sha256_hex(&key) != about.key {
        return Err(cut_short());
    }
    Ok((about, database.to_owned(), key))
}

/// What a gateway knew that the loaded estate did not.
#[derive(Debug, Default)]
pub struct Caught {
    pub gateway: String,
    /// The estate's newest order before, and the one that is in force there.
    pub from: u64,
    pub to: u64,
    /// Devices that were revoked since.
    pub revoked: Vec<String>,
    /// Devices that it lets in and that this backup does not know: they were admitted since.
    pub unknown: Vec<String>,
    pub problem: Option<Problem>,
}

/// Asks every gateway for its order and its revocations and takes over what is newer.
///
/// # Errors
/// The estate cannot be written. A gateway that does not answer is named.
pub fn catch_up(context: &mut Context) -> Result<Vec<Caught>> {
    let gateways: Vec<(Gateway, Host)> = context.read(|book| {
        let all = book.all::<Gateway>()?.into_iter();
        all.map(|gateway| Ok((book.need(&gateway.host)?, gateway)))
            .map(|pair| pair.map(|(host, gateway)| (gateway, host)))
            .collect()
    })?;
    let mut all = Vec::new();
    for (gateway, host) in gateways {
        let mut caught = Caught {
            gateway: gateway.name.clone(),
            from: gateway.order_number,
            to: gateway.order_number,
            ..Caught::default()
        };
        if let Err(problem) = catch_up_with(context, &gateway, &host, &mut caught) {
            caught.problem = Some(problem);
        }
        all.push(caught);
    }
    Ok(all)
}

fn catch_up_with(context: &mut Context, gateway: &Gateway, host: &Host, caught: &mut Caught) -> Result<()> {
    let keys = context.keys()?;
    let manage = context.manage(host)?;
    let status = manage.ask_agent(&Status)?;
    let own: Estate = context.read(find::this_estate)?;
    if status.estate.as_ref() != Some(&own.id) {
        return Err(Problem::refused("its agent belongs to no estate, or to another"));
    }
    let Standing { envelope, revoked } = manage.ask_agent(&OrderInForce)?;
    context.write(|book| {
        if let Some(envelope) = envelope {
            let trusted = own.previous_keys.iter().map(|one| &one.public_key).chain(&own.recovery_key);
            let order = envelope.verify(&own.public_key).or_else(|problem| {
                trusted.into_iter().find_map(|key| envelope.verify(key).ok()).ok_or_else(|| {
                    problem
                        .why("the estate's signing key was renewed after this backup was saved")
                        .try_("yestrel estate renew --recovery-file FILE   signs with the recovery key")
                })
            })?;
            caught.unknown = unknown(book, order.content.admit.iter())?;
            let newest = book.newest_number(&gateway.name)?;
            if order.number > newest {
                book.keep_order(&gateway.name, order.number, order.issued, &envelope, None)?;
                book.unsettled(&gateway.name)?;
                book.order_received(&gateway.name, order.number, book.now)?;
            }
            let mut record: Gateway = book.need(&gateway.name)?;
            caught.to = order.number.max(gateway.order_number);
            record.order_number = caught.to;
            record.adopted = true;
            book.put(&record)?;
        }
        let mut ended = Vec::new();
        for (key, learned) in revoked {
            if book.get::<Revocation>(&key)?.is_some() {
                continue;
            }
            let live = [("identity", key.as_str().into()), ("revoked", serde_json::Value::Null)];
            match book.find::<Credential>(&live)?.pop() {
                Some(credential) => {
                    caught.revoked.push(credential.device.clone());
                    ended.push(end::revoke_within(book, credential, &learned.reason, book.now)?);
                }
                // Of a device that this backup does not know yet: it stays out all the same.
                None => book.put(&Revocation {
                    name: key,
                    device: learned.device.clone(),
                    reason: learned.reason,
                    at: book.now,
                    gateways: vec![gateway.name.clone()],
                })?,
            }
        }
        end::announce(book, &keys, ended)?;
        // Lists that are out have higher numbers than this backup knows: the next continues above them (RFC 5280 section 5.2.3).
        let mut behind = Vec::new();
        for (name, number) in &status.published {
            let Some(mut authority) = book.get::<Authority>(name)? else { continue };
            // A number beyond reason would leave none for later.
            let within_reason = authority.list_number + 1..authority.list_number + 1_000_000;
            if within_reason.contains(number) {
                authority.list_number = *number;
                book.put(&authority)?;
                behind.push(authority.name);
            }
        }
        lists::sign_all(book, &keys, &behind, book.now)?;
        let said = format!("order {} -> {}, {} revocations", caught.from, caught.to, caught.revoked.len());
        book.note("estate load", &gateway.name, &said)
    })
}
