//! The folder in which an agent keeps its things, as both the agent and whoever manages its host know it.

use std::fs;
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::order::{Amendment, Envelope, SignedAmendment};
use yestrel_core::{Problem, Result};
use yestrel_net::files::cannot;
use yestrel_net::plane::Forwarded;

/// The file that says who the agent is.
pub const IDENTITY: &str = "identity.json";
/// The file that says what the system was like before.
pub const BEFORE: &str = "before.json";
/// The name of the agent's log in its folder.
pub const LOG: &str = "log";

/// Where commands ask an agent that keeps its things in `folder`.
#[must_use]
pub fn socket(folder: &Path) -> PathBuf {
    folder.join("control.sock")
}

/// Who an agent is.
#[derive(Clone, Serialize, Deserialize)]
pub struct Identity {
    /// The estate's id.
    pub estate: String,
    pub estate_key: PublicKey,
    pub gateway: String,
    pub private_key: Secret,
    /// What may sign in the place of the estate's key, when that is lost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recovery_key: Option<PublicKey>,
    /// The estate's key before the present one: orders that were taken then may still be gone back to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previous_key: Option<PublicKey>,
}

impl Identity {
    /// Reads an order that was taken before, perhaps under the estate's key before.
    ///
    /// # Errors
    /// As [`Identity::verify`].
    pub fn verify_kept(&self, envelope: &Envelope) -> Result<yestrel_core::order::Order> {
        self.verify(envelope).or_else(|problem| match &self.previous_key {
            Some(previous) => envelope.verify(previous).map_err(|_| problem),
            None => Err(problem),
        })
    }

    /// Reads an amendment that the estate signed, with its key or the one for when that is lost.
    ///
    /// # Errors
    /// Neither signed it, or as [`SignedAmendment::verify`].
    pub fn verify_amendment(&self, amendment: &SignedAmendment) -> Result<Amendment> {
        match (amendment.verify(&self.estate_key), &self.recovery_key) {
            (Err(problem), Some(recovery)) => amendment.verify(recovery).map_err(|_| problem),
            (verified, _) => verified,
        }
    }

    /// Reads an order that the estate signed, with its key or the one for when that is lost.
    ///
    /// # Errors
    /// Neither signed it, or as [`Envelope::verify`].
    pub fn verify(&self, envelope: &Envelope) -> Result<yestrel_core::order::Order> {
        match (envelope.verify(&self.estate_key), &self.recovery_key) {
            (Err(problem), Some(recovery)) => envelope.verify(recovery).map_err(|_| problem),
            (verified, _) => verified,
        }
    }
}

/// What the system was like before the agent changed it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Before {
    /// Whether it forwarded IPv4.
    pub forwarding: bool,
    /// Whether it forwarded IPv6.
    pub forwarding6: bool,
}

impl Before {
    /// As [`Forwarded`].
    #[must_use]
    pub fn forwarded(&self) -> Forwarded {
        Forwarded { four: self.forwarding, six: self.forwarding6 }
    }
}

/// Opens a file of an agent's folder. The folder is another user's, so whoever reads it as root follows no link there.
///
/// # Errors
/// There is none, it is a link, or it may not be read.
pub fn open_no_link(path: &Path) -> std::io::Result<fs::File> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let flags = nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK;
    let file = fs::OpenOptions::new().read(true).custom_flags(flags).open(path)?;
    if file.metadata()?.is_file() { Ok(file) } else { Err(std::io::Error::other("it is no file")) }
}

fn read_no_link(path: &Path) -> std::io::Result<Vec<u8>> {
    use std::io::Read as _;
    let mut bytes = Vec::new();
    open_no_link(path)?.take(yestrel_core::exchange::LONGEST).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Something that an agent keeps in its folder; `None` when it is not there.
///
/// # Errors
/// The file is damaged, or may not be read.
pub fn read_in<T: DeserializeOwned>(folder: &Path, name: &str) -> Result<Option<T>> {
    let path = folder.join(name);
    match read_no_link(&path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map(Some).map_err(|_| {
            Problem::failed(format!("{} is damaged", path.display()))
                .why("it was changed by something else")
                .try_("yestrel gateway retire, then yestrel rollout, to begin anew")
        }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(cannot(&path)(error)),
    }
}

/// Who the agent with this folder is, once adopted.
///
/// # Errors
/// The file is damaged, or may not be read.
pub fn read_identity(folder: &Path) -> Result<Option<Identity>> {
    read_in(folder, IDENTITY)
}

/// What the system was like before the agent with this folder changed it.
///
/// # Errors
/// The file is damaged, or may not be read.
pub fn read_before(folder: &Path) -> Result<Option<Before>> {
    read_in(folder, BEFORE)
}
