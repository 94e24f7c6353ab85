//! Managing one host.

use yestrel_core::estate::Access;
use yestrel_core::exchange::host::{Agent, Ask, Install, Installed, Remove};
use yestrel_core::exchange::{Answered, Question, agent};
use yestrel_core::{Problem, Result, VERSION};

/// A way to manage one host.
pub trait Manage: Send + Sync {
    /// Asks for something to be done there.
    ///
    /// # Errors
    /// The host cannot be reached.
    fn exchange(&self, question: &Ask) -> Result<Answered>;

    /// What is asked next is asked of what is there: nothing is brought to the host, and nobody waits for long work.
    fn as_it_is(&self) {}

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
}

impl dyn Manage + '_ {
    /// Asks the host.
    ///
    /// # Errors
    /// The host cannot be reached, or refuses.
    pub fn ask<Q: Question<Set = Ask>>(&self, question: &Q) -> Result<Q::Answer> {
        self.exchange(&question.clone().into())?.read::<Q>().map_err(Problem::said_there)
    }

    /// Asks the agent there.
    ///
    /// # Errors
    /// The host or the agent cannot be reached, or the agent refuses.
    pub fn ask_agent<Q: Question<Set = agent::Ask>>(&self, question: &Q) -> Result<Q::Answer> {
        self.ask(&Agent { question: question.clone().into() })?.read::<Q>().map_err(Problem::said_there)
    }

    /// Brings the agent there, starts it, and has it start after a reboot. With `replace`, also in the place of another
    /// build of the same version, or of a newer one. With `keep_version`, another program that is
    /// there already stays.
    ///
    /// # Errors
    /// The host cannot be reached, or refuses, or has an agent of another estate.
    pub fn install(&self, estate: &str, keep_version: bool, replace: bool) -> Result<Installed> {
        self.ask(&Install { version: VERSION.into(), estate: estate.into(), keep_version, replace })
    }

    /// Removes the agent and every trace of it, and gives what was removed. An agent of another estate only with `force`.
    ///
    /// # Errors
    /// The host cannot be reached, or something remains.
    pub fn remove(&self, estate: &str, force: bool) -> Result<Vec<String>> {
        let gone = self.ask(&Remove { estate: estate.into(), force })?;
        self.leave()?;
        Ok(gone)
    }
}
