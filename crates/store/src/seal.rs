//! Sealing: secrets stand in the database only under XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha). The sealing key lies in a file of
//! its own with mode 0600, or wrapped by a passphrase with Argon2id (RFC 9106).

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use chacha20poly1305::aead::{Aead as _, KeyInit as _, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use serde::{Deserialize, Serialize};
use yestrel_core::estate::SealedSecret;
use yestrel_core::keys::Secret;
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

const FORMAT: &str = "yestrel sealing key 1";
/// RFC 9106 section 4, second recommended option, with more passes: 64 MiB, 3 passes, 4 lanes.
const MEMORY_KIB: u32 = 64 * 1024;
const PASSES: u32 = 3;
const LANES: u32 = 4;

/// Fills `bytes` from the system's random source.
///
/// # Errors
/// The system has none.
pub fn random(bytes: &mut [u8]) -> Result<()> {
    use ring::rand::SecureRandom as _;
    ring::rand::SystemRandom::new().fill(bytes).map_err(|_| Problem::failed("the system gives no random bytes"))
}

/// 32 random bytes.
///
/// # Errors
/// As [`random`].
pub fn random32() -> Result<[u8; 32]> {
    let mut bytes = [0; 32];
    random(&mut bytes)?;
    Ok(bytes)
}

/// Seals and opens what the estate keeps secret.
pub struct SealingKey(Zeroizing<[u8; 32]>);

#[derive(Serialize, Deserialize)]
struct KeyFile {
    format: String,
    /// The key itself, base64; or `wrapped`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key: Option<Secret>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    wrapped: Option<Wrapped>,
}

#[derive(Serialize, Deserialize)]
struct Wrapped {
    memory_kib: u32,
    passes: u32,
    lanes: u32,
    salt: String,
    sealed: String,
}

impl Wrapped {
    fn key(&self, passphrase: &str) -> Result<SealingKey> {
        let damaged = || Problem::failed("the file of the sealing key is damaged").try_("put its backup in place");
        if self.memory_kib > 4 * MEMORY_KIB || self.passes > 64 || self.lanes > 64 {
            return Err(damaged());
        }
        let salt = BASE64.decode(&self.salt).map_err(|_| damaged())?;
        let params = argon2::Params::new(self.memory_kib, self.passes, self.lanes, Some(32)).map_err(|_| damaged())?;
        let mut key = Zeroizing::new([0; 32]);
        argon2::Argon2::new(argon2::Algorithm::Argon2id, argon2::Version::V0x13, params)
            .hash_password_into(passphrase.as_bytes(), &salt, &mut key[..])
            .map_err(|_| damaged())?;
        Ok(SealingKey(key))
    }
}

/// Where the sealing key of the estate at `estate` lies.
#[must_use]
pub fn path_of(estate: &Path) -> PathBuf {
    let mut name = estate.file_name().unwrap_or_default().to_owned();
    name.push(".key");
    estate.with_file_name(name)
}

/// Refuses files that others than the owner may read or write.
///
/// # Errors
/// The mode grants more than 0600, or the file is not there.
pub fn check_private(path: &Path, what: &str) -> Result<()> {
    let metadata = fs::metadata(path)
        .map_err(|error| Problem::failed(format!("{what} {} cannot be read", path.display())).why(error.to_string()))?;
    let mode = metadata.permissions().mode() & 0o777;
    if mode & 0o077 != 0 {
        let problem = Problem::refused(format!("{what} {} can be read by others", path.display()))
            .why(format!("its mode is {mode:04o}; it must be 0600"));
        // What is somebody else's is theirs to change.
        let own = metadata.uid() == nix::unistd::geteuid().as_raw();
        return Err(if own { problem.try_(format!("chmod 600 {}", path.display())) } else { problem });
    }
    Ok(())
}

/// Refuses a folder in which others than the owner could put other files in place. A folder with the sticky bit, such
/// as /tmp, is fine: there nobody can replace what is somebody else's.
///
/// # Errors
/// The folder's mode lets others write.
pub fn check_folder(file: &Path) -> Result<()> {
    let folder = match file.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    let Ok(metadata) = fs::metadata(folder) else { return Ok(()) };
    let mode = metadata.permissions().mode() & 0o7777;
    if mode & 0o022 != 0 && mode & 0o1000 == 0 {
        return Err(Problem::refused(format!("the folder {} can be written by others", folder.display()))
            .why(format!("its mode is {mode:04o}: they could put another estate in place"))
            .try_(format!("chmod go-w {}", folder.display())));
    }
    Ok(())
}

impl SealingKey {
    /// The same key once more.
    #[must_use]
    pub fn again(&self) -> Self {
        Self(self.0.clone())
    }

    /// Makes a key and writes its file, which must not be there yet, with mode 0600.
    ///
    /// # Errors
    /// The file is there, or cannot be written.
    pub fn create(path: &Path, passphrase: Option<&str>) -> Result<Self> {
        let key = Self::generate()?;
        key.write(path, passphrase)?;
        Ok(key)
    }

    /// A new key.
    ///
    /// # Errors
    /// The system gives no random bytes.
    pub fn generate() -> Result<Self> {
        Ok(Self(Zeroizing::new(random32()?)))
    }

    /// The key that the estate's recovery key stands for.
    #[must_use]
    pub fn of_recovery(recovery: &Secret) -> Self {
        use ring::hmac;
        let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, recovery.reveal()), b"yestrel recovery: sealing key");
        let mut key = Zeroizing::new([0; 32]);
        key.copy_from_slice(tag.as_ref());
        Self(key)
    }

    /// This key, sealed under another.
    ///
    /// # Errors
    /// The system gives no random bytes.
    pub fn wrapped_by(&self, other: &Self) -> Result<SealedSecret> {
        other.seal(&Secret::new(self.0.to_vec()), "recovery")
    }

    /// The key that was sealed under this one.
    ///
    /// # Errors
    /// It was sealed under another.
    pub fn unwrap_key(&self, sealed: &SealedSecret) -> Result<Self> {
        Ok(Self(self.open(sealed, "recovery")?.private_key()?))
    }

    /// Writes the key's file, which must not be there yet, with mode 0600; under a passphrase where one is given.
    ///
    /// # Errors
    /// The file is there, or cannot be written.
    pub fn write(&self, path: &Path, passphrase: Option<&str>) -> Result<()> {
        let key = self;
        let file = match passphrase {
            None => KeyFile { format: FORMAT.into(), key: Some(Secret::new(key.0.to_vec())), wrapped: None },
            Some(passphrase) => {
                let mut salt = [0; 16];
                random(&mut salt)?;
                let mut wrapped = Wrapped {
                    memory_kib: MEMORY_KIB,
                    passes: PASSES,
                    lanes: LANES,
                    salt: BASE64.encode(salt),
                    sealed: String::new(),
                };
                wrapped.sealed = wrapped.key(passphrase)?.seal(&Secret::new(key.0.to_vec()), "sealing key")?.0;
                KeyFile { format: FORMAT.into(), key: None, wrapped: Some(wrapped) }
            }
        };
        let text = Zeroizing::new(serde_json::to_string_pretty(&file).unwrap_or_default());
        let cannot = |error: std::io::Error| {
            Problem::failed(format!("the sealing key cannot be written to {}", path.display())).why(error.to_string())
        };
        let mut out = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(cannot)?;
        out.write_all(text.as_bytes()).and_then(|()| out.sync_all()).map_err(cannot)
    }

    /// Reads a key's file; asks `passphrase` when the key is wrapped.
    ///
    /// # Errors
    /// The file is missing, readable by others or damaged; the passphrase is wrong.
    pub fn load(path: &Path, passphrase: &dyn Fn() -> Result<Zeroizing<String>>) -> Result<Self> {
        if !path.exists() {
            return Err(Problem::failed(format!("the sealing key {} is missing", path.display()))
                .why("without it the secrets in the estate cannot be opened")
                .try_("put the file back, from where it was moved or from its backup")
                .try_("yestrel estate recover   makes it again from the recovery key"));
        }
        check_private(path, "the sealing key")?;
        let damaged = || {
            Problem::failed(format!("the sealing key {} is damaged", path.display())).try_("put its backup in place")
        };
        let text = Zeroizing::new(fs::read_to_string(path).map_err(|_| damaged())?);
        let file: KeyFile = serde_json::from_str(&text).map_err(|_| damaged())?;
        if file.format != FORMAT {
            return Err(damaged());
        }
        let key = match (file.key, file.wrapped) {
            (Some(key), None) => key,
            (None, Some(wrapped)) => {
                let passphrase = passphrase()?;
                wrapped.key(&passphrase)?.open(&SealedSecret(wrapped.sealed.clone()), "sealing key").map_err(|_| {
                    Problem::refused("the passphrase of the estate is wrong")
                        .why("the sealing key does not open with it")
                })?
            }
            _ => return Err(damaged()),
        };
        Ok(Self(key.private_key().map_err(|_| damaged())?))
    }

    fn cipher(&self) -> XChaCha20Poly1305 {
        XChaCha20Poly1305::new((&*self.0).into())
    }

    /// Seals a secret under one label, "gateway harbour": elsewhere it does not open.
    ///
    /// # Errors
    /// The system gives no random bytes.
    pub fn seal(&self, secret: &Secret, label: &str) -> Result<SealedSecret> {
        let mut nonce = [0; 24];
        random(&mut nonce)?;
        let sealed = self
            .cipher()
            .encrypt(&XNonce::from(nonce), Payload { msg: secret.reveal(), aad: label.as_bytes() })
            .map_err(|_| Problem::failed("a secret cannot be sealed"))?;
        Ok(SealedSecret(BASE64.encode([&nonce[..], &sealed].concat())))
    }

    /// Opens what [`SealingKey::seal`] sealed under the same label.
    ///
    /// # Errors
    /// Another key, another label, or altered.
    pub fn open(&self, sealed: &SealedSecret, label: &str) -> Result<Secret> {
        let wrong = || {
            Problem::failed(format!("the secret of the {label} does not open"))
                .why("it was altered, or the sealing key belongs to another estate")
        };
        let bytes = BASE64.decode(&sealed.0).map_err(|_| wrong())?;
        let (nonce, sealed) = bytes.split_at_checked(24).ok_or_else(wrong)?;
        let nonce = XNonce::try_from(nonce).map_err(|_| wrong())?;
        self.cipher()
            .decrypt(&nonce, Payload { msg: sealed, aad: label.as_bytes() })
            .map(Secret::new)
            .map_err(|_| wrong())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn no_passphrase() -> Result<Zeroizing<String>> {
        Err(Problem::failed("not asked"))
    }

    #[test]
    fn sealed_for_one_place_opens_only_there() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("estate.key");
        let key = SealingKey::create(&path, None).unwrap();
        let sealed = key.seal(&Secret::new(b"a private key".to_vec()), "gateway harbour").unwrap();
        let again = SealingKey::load(&path, &no_passphrase).unwrap();
        assert_eq!(again.open(&sealed, "gateway harbour").unwrap().reveal(), b"a private key");
        assert!(again.open(&sealed, "gateway boatyard").is_err());
        assert!(SealingKey::create(&path, None).is_err(), "never overwritten");
    }

    #[test]
    fn a_wrapped_key_needs_its_passphrase() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("estate.key");
        let key = SealingKey::create(&path, Some("seven skerries")).unwrap();
        let sealed = key.seal(&Secret::new(vec![1]), "x").unwrap();
        let say = |words: &'static str| move || Ok(Zeroizing::new(words.to_owned()));
        let again = SealingKey::load(&path, &say("seven skerries")).unwrap();
        assert!(again.open(&sealed, "x").is_ok());
        let problem = SealingKey::load(&path, &say("six skerries")).err().unwrap();
        assert!(problem.error.contains("passphrase"));
    }

    #[test]
    fn a_key_that_others_can_read_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("estate.key");
        SealingKey::create(&path, None).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        let problem = SealingKey::load(&path, &no_passphrase).err().unwrap();
        assert!(problem.tries[0].starts_with("chmod 600"));
    }
}
