//! How hosts are managed. One trait for what every place can do, one file per kind of place.

mod lab;

use std::path::Path;

use yestrel_core::control::{Answer, Ask};
use yestrel_core::facts::Facts;
use yestrel_core::{Problem, Result};

pub use lab::LabPlace;

/// A way to manage one host.
pub trait Place {
    /// What the host is like.
    ///
    /// # Errors
    /// The host cannot be reached, or does not let itself be looked at.
    fn facts(&self) -> Result<Facts>;

    /// Brings the agent there, starts it, and has it start after a reboot; whether anything had to be done.
    ///
    /// # Errors
    /// The host cannot be reached, or refuses.
    fn install(&self) -> Result<bool>;

    /// Asks the agent there.
    ///
    /// # Errors
    /// The host or the agent cannot be reached, or the agent refuses.
    fn ask(&self, ask: &Ask) -> Result<Answer>;

    /// Removes the agent and every trace of it.
    ///
    /// # Errors
    /// The host cannot be reached, or something remains.
    fn remove(&self) -> Result<()>;
}

/// The place that a host's `via` names, `lab:FOLDER`.
///
/// # Errors
/// No place of that kind.
pub fn open(host: &str, via: &str) -> Result<Box<dyn Place>> {
    match via.split_once(':') {
        Some(("lab", folder)) => Ok(Box::new(LabPlace::new(host, Path::new(folder)))),
        _ => Err(Problem::words(format!("{via:?} is no way to manage a host"))
            .why("this version manages hosts of the lab: lab:FOLDER")
            .try_("yestrel lab start --folder FOLDER   starts one")),
    }
}
