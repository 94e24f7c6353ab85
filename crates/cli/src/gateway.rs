//! `yestrel gateway`

use clap::{Args, Subcommand};
use yestrel_actions::gateway::{self, View, Wish};
use yestrel_core::Result;
use yestrel_core::facts::{Grade, Plane};

use crate::output::{Cell, Table, list};
use crate::{Global, ask};

#[derive(Subcommand)]
pub enum Command {
    /// Make a gateway on a host
    #[command(
        after_help = "Example:\n  yestrel gateway create harbour --host harbour --dialled gangway.skerry.example"
    )]
    Create {
        name: String,
        /// The host that carries it
        #[arg(long)]
        host: String,
        #[command(flatten)]
        about: About,
    },
    /// All gateways
    #[command(after_help = "Example:\n  yestrel gateway list")]
    List,
    /// One gateway in full, with what its agent says
    #[command(after_help = "Example:\n  yestrel gateway show harbour")]
    Show { name: String },
    /// Change a gateway
    #[command(after_help = "Example:\n  yestrel gateway change harbour --dialled 203.0.113.10")]
    Change {
        name: String,
        #[command(flatten)]
        about: About,
    },
    /// Take a gateway off its host, with every trace, and out of the estate
    #[command(after_help = "Example:\n  yestrel gateway retire harbour")]
    Retire {
        name: String,
        /// Go on although the host cannot be reached; what is there stays there
        #[arg(long)]
        abandoned: bool,
    },
}

#[derive(Args)]
pub struct About {
    /// The name or address that devices dial
    #[arg(long, value_name = "NAME")]
    dialled: Option<String>,
    /// The interface towards the outside [default: the one with the default route]
    #[arg(long, value_name = "INTERFACE")]
    outward: Option<String>,
    /// The site that it serves [default: that of its host]
    #[arg(long)]
    site: Option<String>,
    /// Devices appear at the site under the gateway's own address; nothing at the site needs to be changed [default]
    #[arg(long, conflicts_with = "routed")]
    masquerade: bool,
    /// Devices appear under their inner addresses; the site's router must know the way back
    #[arg(long)]
    routed: bool,
}

impl From<About> for Wish {
    fn from(about: About) -> Self {
        let masquerade = if about.masquerade {
            Some(true)
        } else if about.routed {
            Some(false)
        } else {
            None
        };
        Self { dialled: about.dialled, outward: about.outward, masquerade, site: about.site }
    }
}

fn state(view: &View) -> Cell {
    let gateway = &view.gateway;
    match (gateway.order_number, view.behind) {
        (0, _) => Cell::State(Grade::Poor, "no order yet".into()),
        (_, true) => Cell::State(Grade::Poor, "behind".into()),
        (_, false) => Cell::State(Grade::Good, "up to date".into()),
    }
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Create { name, host, about } => {
            let made = gateway::create(&mut context, &name, &host, &about.into())?;
            output.say(&format!("made the gateway {} on {}, dialled as {}", made.name, made.host, made.dialled));
            output.say(&format!("its key is {}", made.public_key.fingerprint()));
        }
        Command::List => {
            let mut table = Table::new(
                &["name", "host", "site", "dialled", "listeners", "order", "state"],
                "no gateways yet; yestrel gateway create NAME --host HOST --dialled NAME",
            );
            for view in gateway::list(&mut context)? {
                let listeners: Vec<_> = view.listeners.iter().map(|listener| listener.name.clone()).collect();
                let (state, gateway) = (state(&view), view.gateway);
                table.row(vec![
                    gateway.name.into(),
                    gateway.host.into(),
                    gateway.site.into(),
                    gateway.dialled.into(),
                    listeners.into(),
                    gateway.order_number.into(),
                    state,
                ]);
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let view = gateway::show(&mut context, &name)?;
            let state = state(&view);
            let listeners: Vec<_> =
                view.listeners.iter().map(|listener| format!("{} {}/udp", listener.name, listener.port)).collect();
            let gateway = &view.gateway;
            let mut record: Vec<(&'static str, Cell)> = vec![
                ("name", (&gateway.name).into()),
                ("host", (&gateway.host).into()),
                ("site", (&gateway.site).into()),
                ("dialled", (&gateway.dialled).into()),
                ("outward", gateway.outward.clone().into()),
                ("masquerade", gateway.masquerade.into()),
                ("key", gateway.public_key.fingerprint().into()),
                ("listeners", list(&listeners)),
                ("order confirmed", gateway.order_number.into()),
                ("order newest", view.newest_order.into()),
                ("state", state),
            ];
            match (&view.status, &view.silent) {
                (Some(status), _) => {
                    let plane = match status.plane {
                        Plane::Kernel => "the system's kernel (TUN, nftables)",
                        Plane::Process => "an IP stack inside the agent",
                    };
                    record.extend([
                        (
                            "agent",
                            Cell::State(
                                Grade::Good,
                                format!(
                                    "version {}, running since {}",
                                    status.version,
                                    yestrel_core::moment(status.since)
                                ),
                            ),
                        ),
                        ("order at agent", status.order.into()),
                        ("carries by", plane.into()),
                        ("revoked keys", status.revoked.into()),
                    ]);
                }
                (None, silent) => {
                    record.push(("agent", Cell::State(Grade::Bad, silent.clone().unwrap_or_else(|| "silent".into()))));
                }
            }
            output.record(&record);
        }
        Command::Change { name, about } => {
            let (gateway, stale) = gateway::change(&mut context, &name, &about.into())?;
            output.say(&format!("changed the gateway {}; yestrel rollout brings it there", gateway.name));
            say_stale(output, stale);
        }
        Command::Retire { name, abandoned } => {
            let devices = gateway::retire_preview(&mut context, &name)?;
            let who = match devices.len() {
                0 => "no device has a way in there".to_owned(),
                1..=5 => format!("{} lose their way in there", devices.join(", ")),
                many => format!("{many} devices lose their way in there"),
            };
            ask::confirm(
                global.yes,
                &format!("this takes the gateway {name} off its host and out of the estate; {who}"),
            )?;
            match gateway::retire(&mut context, &name, abandoned)? {
                None => output.say(&format!("retired the gateway {name}; its host has no trace of it left")),
                Some(problem) => output.say(&format!(
                    "retired the gateway {name} from the estate; {}, so its agent is still there",
                    problem.error
                )),
            }
        }
    }
    Ok(())
}

/// Says that handovers have become stale, if any have.
pub fn say_stale(output: crate::output::Output, stale: usize) {
    match stale {
        0 => {}
        1 => output.note("1 handover now says something that is no longer so: yestrel credential list"),
        many => {
            output.note(&format!("{many} handovers now say something that is no longer so: yestrel credential list"))
        }
    }
}
