//! A host of the lab: managed through a socket in its folder.

use std::path::{Path, PathBuf};
use std::time::Duration;

use yestrel_agent::control;
use yestrel_core::control::{Answer, Ask, Manage, Managed};
use yestrel_core::facts::Facts;
use yestrel_core::{Problem, Result};

use crate::Place;

/// A lab's host may take its time, like any other.
const PATIENCE: Duration = Duration::from_secs(15);

/// One host of a lab.
pub struct LabPlace {
    host: String,
    socket: PathBuf,
}

impl LabPlace {
    /// The host with this folder.
    #[must_use]
    pub fn new(host: &str, folder: &Path) -> Self {
        Self { host: host.into(), socket: folder.join("manage.sock") }
    }

    fn manage(&self, what: &Manage) -> Result<Managed> {
        match control::ask(&self.socket, what, PATIENCE) {
            Ok(Managed::Refused(problem)) => Err(problem),
            Ok(managed) => Ok(managed),
            Err(problem) => Err(Problem::failed(format!("the host {} cannot be reached", self.host))
                .why(problem.why.unwrap_or(problem.error))
                .try_("yestrel lab show   is the lab running, and the host not broken?")),
        }
    }

    fn unexpected(&self) -> Problem {
        Problem::failed(format!("the host {} answers something else than was asked", self.host))
            .why("it runs another version")
    }
}

impl Place for LabPlace {
    fn facts(&self) -> Result<Facts> {
        match self.manage(&Manage::Facts)? {
            Managed::Facts(facts) => Ok(*facts),
            _ => Err(self.unexpected()),
        }
    }

    fn install(&self) -> Result<bool> {
        match self.manage(&Manage::Install { version: yestrel_agent::gateway::VERSION.into() })? {
            Managed::Installed { changed } => Ok(changed),
            _ => Err(self.unexpected()),
        }
    }

    fn ask(&self, ask: &Ask) -> Result<Answer> {
        match self.manage(&Manage::Agent { ask: ask.clone() })? {
            Managed::Agent { answer } => match *answer {
                Answer::Refused(problem) => Err(problem),
                answer => Ok(answer),
            },
            _ => Err(self.unexpected()),
        }
    }

    fn remove(&self) -> Result<()> {
        match self.manage(&Manage::Remove)? {
            Managed::Removed => Ok(()),
            _ => Err(self.unexpected()),
        }
    }
}
