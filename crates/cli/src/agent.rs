//! `yestrel agent`

use std::net::{IpAddr, SocketAddr};
use std::os::unix::process::CommandExt as _;
use std::path::PathBuf;

use clap::Subcommand;
use yestrel_agent::log::Log;
use yestrel_agent::run::{Agent, Options};
use yestrel_core::Result;
use yestrel_core::exchange::agent::{Metrics, Status};
use yestrel_host::folder::{self, LOG};
use yestrel_host::{manage, package, probe, service, upgrade};
use yestrel_net::{control, rights};

use crate::global::Global;
use crate::output::list;

const FOLDER: &str = "/var/lib/yestrel";

#[derive(Subcommand)]
pub enum Command {
    /// Be the gateway on this host; started by the host's service manager
    #[command(after_help = "Example:\n  yestrel agent run --folder /var/lib/yestrel")]
    Run {
        /// Where the agent keeps its things
        #[arg(long, default_value = FOLDER, value_name = "FOLDER")]
        folder: PathBuf,
        /// Listen on this address only
        #[arg(long, value_name = "ADDRESS")]
        bind: Option<IpAddr>,
        /// End inner traffic inside the agent, even where the system could carry it
        #[arg(long)]
        process_plane: bool,
        /// Give up root for this user, by number, and keep only what listeners need: the network's settings, ports below 1024
        #[arg(long, value_name = "UID", value_parser = user)]
        drop_to: Option<u32>,
        /// In the lab: where an inner address really is
        #[arg(long, hide = true, value_parser = real)]
        real: Vec<(SocketAddr, SocketAddr)>,
        /// In the lab: a file that says by how many seconds this host's clock is ahead
        #[arg(long, hide = true, value_name = "FILE")]
        clock: Option<PathBuf>,
    },
    /// What the agent on this host says of itself
    #[command(after_help = "Example:\n  yestrel agent status")]
    Status {
        /// Where the agent keeps its things
        #[arg(long, default_value = FOLDER, value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// What the agent on this host measures, as OpenMetrics text
    #[command(after_help = "Example:\n  yestrel agent metrics")]
    Metrics {
        /// Where the agent keeps its things
        #[arg(long, default_value = FOLDER, value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Upgrade the agent of this host, if its hours have come and a signed package or program waits
    #[command(
        after_help = "Example:\n  yestrel agent update\n\nPackages are looked for in /opt/yestrel/incoming, each beside its signature. The service asks every quarter of an hour."
    )]
    Update,
    /// Carry out what a managing connection asks, over standard input and output
    #[command(hide = true)]
    Manage {
        #[arg(long)]
        managed_on: Option<u16>,
    },
    /// Stay until a new program has proved itself, or bring the one before back
    #[command(hide = true)]
    Guard {
        #[arg(long)]
        program: String,
        #[arg(long)]
        order: u64,
    },
    /// Run a program apart from this session
    #[command(hide = true)]
    Detach { program: PathBuf },
    /// Collect the facts of this host, as JSON
    #[command(after_help = "Example:\n  yestrel agent facts")]
    Facts,
}

/// An agent on this machine answers at once.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(5);

fn real(text: &str) -> std::result::Result<(SocketAddr, SocketAddr), String> {
    let pair = text.split_once('=').and_then(|(from, to)| Some((from.parse().ok()?, to.parse().ok()?)));
    pair.ok_or_else(|| "ADDRESS:PORT=ADDRESS:PORT".into())
}

fn user(text: &str) -> std::result::Result<u32, String> {
    let user = text.parse().ok().filter(|user| *user != 0);
    user.ok_or_else(|| "the number of a user other than root, such as 61937".into())
}

/// Gives up what an agent does not need, before any thread of it runs.
///
/// # Errors
/// It cannot be given up.
pub fn give_up(command: &Command) -> Result<()> {
    let Command::Run { folder, drop_to: user, .. } = command else { return Ok(()) };
    begin_with_memory_given_back();
    if let Some(user) = user {
        rights::become_user(*user, folder)?;
    }
    rights::no_dumps();
    Ok(())
}

/// What the C library's memory is told when a program begins (GNU libc, "Memory Allocation Tunables").
const MEMORY: (&str, &str) =
    ("GLIBC_TUNABLES", "glibc.malloc.mmap_threshold=131072:glibc.malloc.trim_threshold=131072");

/// That it has begun anew.
const BEGUN_ANEW: &str = "YESTREL_BEGUN_ANEW";

/// Begins anew, once, with large pieces of memory given back to the system as soon as they are free. Otherwise the first large order that was
/// read would make the library keep as much for ever: it takes what is asked for once for what is always asked for.
fn begin_with_memory_given_back() {
    let (name, value) = MEMORY;
    // A mark of its own: where a program has rights beyond those of its user, the library takes the other away before anybody sees it.
    if std::env::var_os(name).is_some() || std::env::var_os(BEGUN_ANEW).is_some() {
        return;
    }
    if let Ok(program) = std::env::current_exe() {
        let mut arguments = std::env::args_os();
        let mut again = std::process::Command::new(program);
        again.arg0(arguments.next().unwrap_or_default()).args(arguments).env(name, value).env(BEGUN_ANEW, "1");
        // Comes back only where it cannot, and then it goes on as it is.
        drop(again.exec());
    }
}

/// The file that an agent which runs writes its log to as well; `None` for every other command.
pub fn log(command: &Command) -> Option<Log> {
    match command {
        Command::Run { folder, .. } => Some(Log::new(&folder.join(LOG))),
        _ => None,
    }
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    match command {
        Command::Run { folder, bind, process_plane, real, clock, .. } => {
            let real = real.into_iter().collect();
            Agent::run(Options { bind, process_plane, real, clock, ..Options::new(folder) })
        }
        Command::Status { folder } => {
            let status = control::ask(&folder::socket(&folder), &Status, PATIENCE)?;
            let listeners: Vec<_> = status
                .listeners
                .iter()
                .map(|(name, services)| {
                    let services: Vec<_> = services.iter().map(ToString::to_string).collect();
                    format!("{name} {}", services.join(" "))
                })
                .collect();
            output.record(&[
                ("version", status.version.into()),
                ("gateway", status.gateway.into()),
                ("order", status.order.into()),
                ("since", status.since.into()),
                ("listeners", list(&listeners)),
                ("revoked keys", status.revoked.into()),
                ("in force but not kept", status.unkept.into()),
            ]);
            Ok(())
        }
        Command::Metrics { folder } => {
            output.write(&control::ask(&folder::socket(&folder), &Metrics, PATIENCE)?);
            Ok(())
        }
        Command::Update => {
            if upgrade::when_due(jiff::Timestamp::now(), package::newest_in)? {
                output.say("upgraded the agent; it has reported");
            } else {
                output.say("nothing to do: no package waits, or its hours have not come");
            }
            Ok(())
        }
        Command::Manage { managed_on } => manage::run(managed_on),
        Command::Guard { program, order } => {
            upgrade::guard(&program, order);
            Ok(())
        }
        Command::Detach { program } => service::detach(&program),
        Command::Facts => {
            let facts = probe::facts(false)?;
            output.write(&format!("{}\n", serde_json::to_string_pretty(&facts).unwrap_or_default()));
            Ok(())
        }
    }
}
