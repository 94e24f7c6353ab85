//! What whoever manages a host is asked to do there. A place translates this to its own means; the lab's hosts take it as it
//! is, and a host that is reached over SSH runs the program that carries it out.

use serde::{Deserialize, Serialize};

use super::{Answered, agent, questions};
use crate::findings::Facts as HostFacts;
use crate::schedule::Schedule;

/// The first line of a host's end of a managing connection, before its first answer; what stands before it, such as the
/// greeting of a shell, is nobody's.
pub const HELLO: &str = "yestrel manage 2";

questions! {
    /// Everything that can be asked of a host.
    Ask {
        Facts -> Box<HostFacts>,
        Install -> Installed,
        Agent -> Answered,
        Restart -> (),
        Log -> LogPiece,
        Remove -> Vec<String>,
        Updates -> (),
    }
}

/// Collect the facts of the host.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Facts;

/// Have the agent there, running, and started again after a reboot. Nothing to do if it is. An agent of another estate is left
/// alone.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Install {
    pub version: String,
    pub estate: String,
    /// Leave an agent of another version as it is.
    #[serde(default)]
    pub keep_version: bool,
    /// Also put another build of the same version in its place, or an older version. Without it, two administrators whose programs
    /// differ so do not replace each other's agent in turn.
    #[serde(default)]
    pub replace: bool,
}

/// Ask the agent. Its answer comes back as it is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Agent {
    pub question: agent::Ask,
}

/// Stop the agent and start it again.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Restart;

/// What the agent wrote into its log: from `offset` on, or, without one, its newest lines.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Log {
    #[serde(default)]
    pub offset: Option<u64>,
}

/// Have no agent there any more, nor any trace of one. Answered with what was taken away.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Remove {
    pub estate: String,
    /// Also one that is of another estate than this.
    #[serde(default)]
    pub force: bool,
}

/// Upgrade by yourself from a folder on the host, at these hours; `None`: never.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Updates {
    pub schedule: Option<Schedule>,
}

/// What became of the agent's program.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Installed {
    /// It was all there.
    Nothing,
    /// There was none before.
    New,
    /// Another program took the place of the one before.
    Upgraded,
    /// Another program lies on the host and waits for its hours.
    Waits,
    /// It was there and did not run, or was not set to run after a reboot.
    Mended,
}

/// A piece of a log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LogPiece {
    pub text: String,
    /// Where the next piece begins.
    pub next: u64,
}
