//! `yestrel agent`

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use clap::Subcommand;
use yestrel_agent::gateway::{Agent, Options};
use yestrel_agent::{control, probe};
use yestrel_core::control::{Answer, Ask};
use yestrel_core::{Problem, Result};

use crate::Global;
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
        /// In the lab: where an inner address really is
        #[arg(long, hide = true, value_parser = real)]
        real: Vec<(SocketAddr, SocketAddr)>,
    },
    /// What the agent on this host says of itself
    #[command(after_help = "Example:\n  yestrel agent status")]
    Status {
        /// Where the agent keeps its things
        #[arg(long, default_value = FOLDER, value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Collect the facts of this host, as JSON
    #[command(after_help = "Example:\n  yestrel agent facts")]
    Facts,
}

fn real(text: &str) -> std::result::Result<(SocketAddr, SocketAddr), String> {
    let pair = text.split_once('=').and_then(|(from, to)| Some((from.parse().ok()?, to.parse().ok()?)));
    pair.ok_or_else(|| "ADDRESS:PORT=ADDRESS:PORT".into())
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    match command {
        Command::Run { folder, bind, process_plane, real } => {
            Agent::run(Options { folder, bind, process_plane, real: real.into_iter().collect() })
        }
        Command::Status { folder } => {
            let socket = Agent::socket(&folder);
            match control::ask(&socket, &Ask::Status, std::time::Duration::from_secs(5))? {
                Answer::Status(status) => {
                    let listeners: Vec<_> =
                        status.listeners.iter().map(|(name, port)| format!("{name} {port}/udp")).collect();
                    output.record(&[
                        ("version", status.version.into()),
                        ("gateway", status.gateway.into()),
                        ("order", status.order.into()),
                        ("since", status.since.into()),
                        ("listeners", list(&listeners)),
                        ("revoked keys", status.revoked.into()),
                    ]);
                    Ok(())
                }
                Answer::Refused(problem) => Err(problem),
                _ => Err(Problem::failed("the agent answers something else than was asked")),
            }
        }
        Command::Facts => {
            let facts = probe::facts(false)?;
            output.write(&format!("{}\n", serde_json::to_string_pretty(&facts).unwrap_or_default()));
            Ok(())
        }
    }
}
