//! A host of the lab: managed through a socket in its folder.

use std::path::{Path, PathBuf};
use std::time::Duration;

use yestrel_agent::control;
use yestrel_core::control::{Manage, Managed};
use yestrel_core::{Problem, Result};

use crate::Place;

/// A lab's host may take its time, like any other.
const PATIENCE: Duration = Duration::from_secs(60);

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
}

impl Place for LabPlace {
    fn manage(&self, what: &Manage) -> Result<Managed> {
        match control::ask(&self.socket, what, PATIENCE) {
            Ok(Managed::Refused(problem)) => Err(problem),
            Ok(managed) => Ok(managed),
            Err(problem) => Err(Problem::failed(format!("the host {} cannot be reached", self.host))
                .why(problem.why.unwrap_or(problem.error))
                .try_("yestrel lab show   is the lab running, and the host not broken?")),
        }
    }

    fn name(&self) -> &str {
        &self.host
    }
}
