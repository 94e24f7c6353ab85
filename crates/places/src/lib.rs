//! How hosts are managed. One trait for what every place can do, one file per kind of place.

mod lab;
mod ssh;

use std::path::Path;
use std::sync::Arc;

use yestrel_core::control::{Answer, Ask, Installed, Manage, Managed};
use yestrel_core::facts::Facts;
use yestrel_core::nouns::{Access, Host};
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

pub use lab::LabPlace;
pub use ssh::{SshPlace, Target, fingerprint};

/// Whoever sits before the command: asked for what is never kept, and shown how far long work has come. Hosts are managed
/// several at a time, so questions may come from any thread; one is asked after another.
pub trait Person: Send + Sync {
    /// A secret, without echo.
    ///
    /// # Errors
    /// Nobody can be asked.
    fn secret(&self, what: &str) -> Result<Zeroizing<String>>;

    /// Whether the key with this fingerprint is really the host's.
    ///
    /// # Errors
    /// Nobody can be asked.
    fn compares(&self, host: &str, algorithm: &str, fingerprint: &str) -> Result<bool>;

    /// How far something has come, in bytes.
    fn progress(&self, what: &str, done: u64, whole: u64);
}

/// A way to manage one host.
pub trait Place: Send + Sync {
    /// Asks for something to be done there.
    ///
    /// # Errors
    /// The host cannot be reached, or refuses.
    fn manage(&self, what: &Manage) -> Result<Managed>;

    /// What is asked next goes over a new connection.
    fn afresh(&self) {}

    /// Takes away what managing itself has left on the host.
    ///
    /// # Errors
    /// The host cannot be reached, or refuses.
    fn leave(&self) -> Result<()> {
        Ok(())
    }

    /// How the host is got into now, for keeping: with the keys that were accepted.
    fn access(&self) -> Access {
        Access::default()
    }

    /// What the host is called in what is said to a person.
    fn name(&self) -> &str;

    /// What the host is like.
    ///
    /// # Errors
    /// The host cannot be reached, or does not let itself be looked at.
    fn facts(&self) -> Result<Facts> {
        match self.manage(&Manage::Facts)? {
            Managed::Facts(facts) => Ok(*facts),
            _ => Err(unexpected(self.name())),
        }
    }

    /// Brings the agent there, starts it, and has it start after a reboot. With `keep_version`, another program that is
    /// there already stays.
    ///
    /// # Errors
    /// The host cannot be reached, or refuses, or has an agent of another estate.
    fn install(&self, estate: &str, keep_version: bool) -> Result<Installed> {
        let version = yestrel_agent::gateway::VERSION.into();
        match self.manage(&Manage::Install { version, estate: estate.into(), keep_version })? {
            Managed::Installed { what: Some(what), .. } => Ok(what),
            Managed::Installed { changed, what: None } => {
                Ok(if changed { Installed::Upgraded } else { Installed::Nothing })
            }
            _ => Err(unexpected(self.name())),
        }
    }

    /// Asks the agent there.
    ///
    /// # Errors
    /// The host or the agent cannot be reached, or the agent refuses.
    fn ask(&self, ask: &Ask) -> Result<Answer> {
        match self.manage(&Manage::Agent { ask: ask.clone() })? {
            Managed::Agent { answer } => match *answer {
                Answer::Refused(problem) => Err(problem),
                answer => Ok(answer),
            },
            _ => Err(unexpected(self.name())),
        }
    }

    /// Removes the agent and every trace of it, and gives what was removed. An agent of another estate only with `force`.
    ///
    /// # Errors
    /// The host cannot be reached, or something remains.
    fn remove(&self, estate: &str, force: bool) -> Result<Vec<String>> {
        let gone = match self.manage(&Manage::Remove { estate: estate.into(), force })? {
            Managed::Removed { gone } => gone,
            _ => return Err(unexpected(self.name())),
        };
        self.leave()?;
        Ok(gone)
    }
}

fn unexpected(host: &str) -> Problem {
    Problem::failed(format!("the host {host} answers something else than was asked")).why("it runs another version")
}

/// The place that a host's `via` names: `lab:FOLDER`, or `ssh://user@address:port`. Nothing is connected yet.
///
/// # Errors
/// No place of that kind.
pub fn open(host: &Host, person: &Arc<dyn Person>) -> Result<Arc<dyn Place>> {
    if let Some(folder) = host.via.strip_prefix("lab:") {
        return Ok(Arc::new(LabPlace::new(&host.name, Path::new(folder))));
    }
    if host.via.starts_with("ssh://") {
        return Ok(Arc::new(SshPlace::new(&host.name, &host.via, &host.access, person.clone())?));
    }
    Err(no_way(&host.via))
}

fn no_way(via: &str) -> Problem {
    Problem::words(format!("{via:?} is no way to manage a host"))
        .why("hosts are managed over SSH, or are hosts of the lab")
        .try_("--via ssh://user@address:port")
        .try_("--via lab   and yestrel lab start")
}

/// Whether there is a place of the kind that `via` names.
///
/// # Errors
/// There is none.
pub fn known(via: &str) -> Result<()> {
    if via.starts_with("lab:") || via.starts_with("ssh://") { Ok(()) } else { Err(no_way(via)) }
}
