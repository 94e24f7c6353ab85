//! A host of the lab: managed through a socket in its folder.

use std::path::{Path, PathBuf};
use std::time::Duration;

use yestrel_core::exchange::Answered;
use yestrel_core::exchange::host::Ask;
use yestrel_core::{Problem, Result};
use yestrel_net::control;

use crate::Manage;

/// A lab's host may take its time, like any other.
const PATIENCE: Duration = Duration::from_secs(60);

/// One host of a lab.
pub struct LabHost {
    host: String,
    socket: PathBuf,
}

impl LabHost {
    /// The host with this folder.
    #[must_use]
    pub fn new(host: &str, folder: &Path) -> Self {
        Self { host: host.into(), socket: folder.join("manage.sock") }
    }
}

impl Manage for LabHost {
    fn exchange(&self, question: &Ask) -> Result<Answered> {
        control::exchange(&self.socket, question, PATIENCE).map_err(|problem| {
            Problem::failed(format!("the host {} cannot be reached", self.host))
                .why(problem.reason())
                .try_("yestrel lab show   is the lab running, and the host not broken?")
        })
    }
}
