//! `yestrel listener` and `yestrel port`

use std::net::IpAddr;

use clap::{Args, Subcommand};
use jiff::SignedDuration;
use yestrel_actions::inside;
use yestrel_actions::listener::ports::{self, PortState};
use yestrel_actions::listener::{self, Kind, ListenerStanding, Opened, Wish};
use yestrel_core::estate::{Listener, Reach};
use yestrel_core::findings::Grade;
use yestrel_core::{Problem, Result, moment};

use crate::ask;
use crate::global::Global;
use crate::listing::Listing;
use crate::output::{Cell, Table, list};

#[derive(Subcommand)]
pub enum Command {
    /// Open a listener at a gateway
    #[command(
        after_help = "Example:\n  yestrel listener open harbour --tunnel quill --pool 10.187.44.0/24 --resolvers 10.44.0.20\n\nWithout --port a free one is chosen, without --pool a range that collides with nothing."
    )]
    Open {
        gateway: String,
        /// Its name within the gateway [default: that of the tunnel]
        #[arg(long)]
        name: Option<String>,
        /// The tunnel: quill for `yestrel connect`, ikev2 for what phones and computers have built in
        #[arg(long, default_value = "quill")]
        tunnel: String,
        /// ikev2: accounts come in beside certificates, by EAP with MS-CHAPv2
        #[arg(long)]
        accounts: bool,
        /// ikev2: when the gateway makes keys anew, where the device has not: 10s to 18h [default: 10h]
        #[arg(long, value_name = "TIME", value_parser = crate::words::seconds)]
        renew_after: Option<u16>,
        /// ikev2: the two ports on the host, where something in front forwards 500 and 4500 to them; devices dial no others
        #[arg(long, value_name = "PORT,PORT", value_delimiter = ',', value_parser = port)]
        inside_ports: Vec<u16>,
        /// quill's cipher, aes-256-gcm or chacha20-poly1305 [default: what the host does fastest]
        #[arg(long)]
        cipher: Option<String>,
        #[command(flatten)]
        about: About,
    },
    /// All listeners, or those of one gateway
    #[command(after_help = "Example:\n  yestrel listener list harbour")]
    List {
        /// Only those of this gateway
        gateway: Option<String>,
        #[command(flatten)]
        listing: Listing,
    },
    /// One listener in full
    #[command(after_help = "Example:\n  yestrel listener show harbour/quill")]
    Show { name: String },
    /// Change a listener
    #[command(after_help = "Example:\n  yestrel listener change harbour/quill --reach everything")]
    Change {
        name: String,
        #[command(flatten)]
        about: About,
        /// Show which handovers it would make stale, and change nothing
        #[arg(long)]
        preview: bool,
    },
    /// Give a listener another name, within its gateway; nobody who is in is thrown out
    #[command(after_help = "Example:\n  yestrel listener rename harbour/quill harbour/crew")]
    Rename {
        name: String,
        /// The new name, with or without its gateway
        to: String,
    },
    /// Make a new call secret for a listener: without the secret in their handover, devices are not answered at all
    #[command(
        after_help = "Example:\n  yestrel listener renew harbour/quill --overlap 30d\n\nHandovers of before are stale from now on, and open until the overlap ends. With --overlap 0d they open nothing any more."
    )]
    Renew {
        name: String,
        /// How long the call secret of before still opens beside the new one
        #[arg(long, value_name = "DURATION", value_parser = crate::words::span, default_value = "30d")]
        overlap: SignedDuration,
    },
    /// Close a listener
    #[command(after_help = "Example:\n  yestrel listener close harbour/quill")]
    Close { name: String },
}

#[derive(Subcommand)]
pub enum PortCommand {
    /// What must be open where, and whether it is
    #[command(after_help = "Example:\n  yestrel port list harbour")]
    List { gateway: Option<String> },
}

#[derive(Args)]
pub struct About {
    /// UDP port on the host, 1 to 65535
    #[arg(long, value_name = "PORT", value_parser = port)]
    port: Option<u16>,
    /// The port that devices dial, where something in front translates it
    #[arg(long, value_name = "PORT", value_parser = port)]
    outside_port: Option<u16>,
    /// The inner addresses that it gives out
    #[arg(long, value_name = "RANGE")]
    pool: Option<String>,
    /// The inner IPv6 addresses beside them; "none" for none [default: a unique local range is drawn]
    #[arg(long, value_name = "RANGE")]
    pool6: Option<String>,
    /// What may be reached: everything, site, or ranges with commas between
    #[arg(long, value_name = "REACH", value_parser = reach)]
    reach: Option<Reach>,
    /// Resolvers for devices, with commas between; "none" for none
    #[arg(long, value_name = "ADDRESSES", value_parser = resolvers)]
    resolvers: Option<Resolvers>,
    /// Names in these domains are asked of the resolvers, where not everything goes through the tunnel; "none" for none
    /// [default with resolvers: the domain that the gateway's dialled name stands in]
    #[arg(long, value_name = "DOMAINS", value_parser = domains)]
    domains: Option<Domains>,
    /// How often an idle device gives a sign of life: 20s, 2m; 0s for never
    #[arg(long, value_name = "TIME", value_parser = crate::words::seconds)]
    keep_alive: Option<u16>,
    /// Bytes of the largest inner packet, 1280 to 9000
    #[arg(long, value_name = "BYTES")]
    packet_size: Option<u16>,
    /// ikev2: until then signatures over SHA-1 are taken, for clients that know nothing better: 2027-03-31, a year at most; "none" ends it
    #[arg(long, value_name = "DATE", value_parser = sha1_until)]
    sha1_until: Option<Sha1Until>,
}

/// A moment, or none.
#[derive(Clone)]
pub struct Sha1Until(Option<jiff::Timestamp>);

fn sha1_until(text: &str) -> std::result::Result<Sha1Until, String> {
    if text == "none" { Ok(Sha1Until(None)) } else { crate::words::moment(text).map(Some).map(Sha1Until) }
}

#[derive(Clone)]
pub struct Resolvers(Vec<IpAddr>);

#[derive(Clone)]
pub struct Domains(Vec<String>);

fn domains(text: &str) -> std::result::Result<Domains, String> {
    if text == "none" {
        return Ok(Domains(Vec::new()));
    }
    let one = |text: &str| yestrel_core::name::domain(text.trim()).map_err(|problem| problem.line());
    text.split(',').map(one).collect::<std::result::Result<_, _>>().map(Domains)
}

fn port(text: &str) -> std::result::Result<u16, String> {
    match text.trim_end_matches("/udp").parse::<u16>() {
        Ok(port) if port > 0 => Ok(port),
        _ => Err("ports are whole numbers from 1 to 65535".into()),
    }
}

fn reach(text: &str) -> std::result::Result<Reach, String> {
    text.parse().map_err(|problem: Problem| problem.line())
}

fn resolvers(text: &str) -> std::result::Result<Resolvers, String> {
    if text == "none" {
        return Ok(Resolvers(Vec::new()));
    }
    text.split(',')
        .map(|one| one.trim().parse().map_err(|_| format!("{one:?} is not an address")))
        .collect::<std::result::Result<_, _>>()
        .map(Resolvers)
}

impl From<About> for Wish {
    fn from(about: About) -> Self {
        Self {
            port: about.port,
            outside_port: about.outside_port,
            pool: about.pool,
            pool6: about.pool6,
            reach: about.reach,
            resolvers: about.resolvers.map(|resolvers| resolvers.0),
            domains: about.domains.map(|domains| domains.0),
            keep_alive: about.keep_alive,
            packet_size: about.packet_size,
            settings: about
                .sha1_until
                .map(|until| ("sha1-until".to_owned(), until.0.map_or_else(|| "none".to_owned(), |at| at.to_string())))
                .into_iter()
                .collect(),
            ..Self::default()
        }
    }
}

fn record(standing: &ListenerStanding) -> Vec<(&'static str, Cell)> {
    let listener = &standing.listener;
    vec![
        ("name", (&listener.name).into()),
        ("tunnel", listener.tunnel.word().into()),
        ("port", listener.services().into()),
        ("pool", listener.pool.to_string().into()),
        (
            "given out",
            match standing.held {
                0 => format!("{} of {}", standing.given_out, standing.room),
                held => format!("{} of {}, {held} held after a revocation", standing.given_out, standing.room),
            }
            .into(),
        ),
        ("reach", listener.reach.to_string().into()),
        ("resolvers", list(&listener.resolvers)),
    ]
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Open { gateway, name, tunnel, accounts, renew_after, inside_ports, cipher, about } => {
            let settings = cipher.map(|cipher| ("cipher".to_owned(), cipher)).into_iter();
            let settings = settings.chain(accounts.then(|| ("accounts".to_owned(), "yes".to_owned())));
            let renewed = renew_after.map(|after| ("renew-after".to_owned(), after.to_string()));
            let about: Wish = about.into();
            let settings = settings.chain(renewed).chain(about.settings.clone()).collect();
            let inside_ports = (!inside_ports.is_empty()).then_some(inside_ports);
            let wish = Wish { name, kind: Some(Kind::Named(tunnel)), settings, inside_ports, ..about };
            let Opened { listener: opened, notes } = listener::open(&mut context, &gateway, &wish)?;
            output.did(&record(&listener::show(&mut context, &opened.name)?));
            output.say(&format!(
                "opened the listener {} on {} with the pool {}, reach {}",
                opened.name,
                opened.services(),
                opened.pool,
                opened.reach
            ));
            output.say(&format!("yestrel rollout {gateway}   brings it to the gateway"));
            notes.iter().for_each(|note| output.note(note));
        }
        Command::List { gateway, listing } => {
            let mut table = Table::new(
                &["name", "tunnel", "port", "pool", "given out", "reach", "resolvers"],
                "no listeners yet; yestrel listener open GATEWAY",
            )
            .least(&["resolvers", "given out", "reach"]);
            for standing in listener::list(&mut context, gateway.as_deref())? {
                table.row(record(&standing).into_iter().map(|(_, cell)| cell).collect());
            }
            listing.apply(&mut table)?;
            output.table(&table);
        }
        Command::Show { name } => {
            let standing = listener::show(&mut context, &name)?;
            let mut record = record(&standing);
            let listener = &standing.listener;
            record.extend([
                ("outside port", list(&listener.serves.iter().map(|served| served.outside).collect::<Vec<_>>())),
                ("pool6", listener.pool6.map_or_else(|| "none".into(), |pool6| pool6.to_string()).into()),
                ("domains", list(&listener.domains)),
                ("gateway address", listener::own_address(&listener.pool).to_string().into()),
                ("keep-alive", format!("{}s", listener.keep_alive).into()),
                ("packet size", listener.packet_size.into()),
            ]);
            let settings: Vec<_> =
                listener.tunnel.settings().into_iter().map(|(name, value)| (name, value.into())).collect();
            record.extend::<Vec<_>>(settings);
            record.push(("created", listener.created.into()));
            output.record(&record);
            listener::notes(listener).iter().for_each(|note| output.note(note));
        }
        Command::Change { name, about, preview } => {
            let wish: Wish = about.into();
            if wish.port.is_some()
                && let Some((gateway, _)) = name.split_once('/')
            {
                listener::ask_host(&mut context, gateway)?;
            }
            let (after, would) = context.rehearse(|context| listener::change(context, &name, &wish))?;
            let before = listener::show(&mut context, &name)?.listener;
            let inside = |listener: &Listener| listener.serves.iter().map(|one| one.inside).collect::<Vec<_>>();
            if inside(&before) != inside(&after) || !before.tunnel.goes_on_as(&after.tunnel) {
                let who = inside::who_is_at(&mut context, &before)?;
                if let Some(words) = who.ending() {
                    output.note(&format!(
                        "the rollout of this change ends {words}; devices come in again by what is new"
                    ));
                }
            }
            if !crate::words::first_of_stale(global, &format!("this change of {name}"), &would, preview)? {
                return Ok(());
            }
            let (changed, stale) = listener::change(&mut context, &name, &wish)?;
            output.say(&format!(
                "changed the listener {}; yestrel rollout {} brings it there",
                changed.name, changed.gateway
            ));
            listener::notes(&changed).iter().for_each(|note| output.note(note));
            crate::words::say_stale(output, stale.count);
        }
        Command::Renew { name, overlap } => {
            if overlap.as_secs() < 1 {
                let standing = listener::show(&mut context, &name)?;
                let question = format!(
                    "every handover for {name} opens nothing any more; devices with an address there: {}",
                    standing.given_out
                );
                ask::confirm(global.yes, &question)?;
            }
            let (renewed, until, stale) = listener::renew(&mut context, &name, overlap)?;
            let until =
                if overlap.as_secs() < 1 { "opens no more".into() } else { format!("opens until {}", moment(until)) };
            output.say(&format!("made a new call secret for {name}; the one before {until}"));
            output.say(&format!("yestrel rollout {}   brings it to the gateway", renewed.gateway));
            crate::words::say_stale(output, stale.count);
        }
        Command::Rename { name, to } => {
            let to = yestrel_actions::rename::listener(&mut context, &name, &to)?;
            output.did(&[("listener", (&to).into())]);
            output.say(&format!("the listener {name} is {to} now; yestrel rollout tells its agent"));
        }
        Command::Close { name } => {
            let standing = listener::show(&mut context, &name)?;
            context.rehearse(|context| listener::close(context, &name))?;
            ask::confirm(
                global.yes,
                &match standing.given_out {
                    1 => format!("this closes the listener {name}; 1 device loses this way in"),
                    many => format!("this closes the listener {name}; {many} devices lose this way in"),
                },
            )?;
            listener::close(&mut context, &name)?;
            output.say(&format!(
                "closed the listener {name}; yestrel rollout {} closes its port",
                standing.listener.gateway
            ));
        }
    }
    Ok(())
}

pub fn run_port(global: &Global, command: &PortCommand) -> Result<()> {
    let PortCommand::List { gateway } = command;
    let mut table = Table::new(
        &["port", "at", "from", "to", "for", "state", "why"],
        "no port needs to be open; yestrel listener open GATEWAY",
    );
    let mut shut: Vec<String> = Vec::new();
    for port in ports::list(&mut global.context()?, gateway.as_deref())? {
        if matches!(port.state, PortState::NotOpen | PortState::Blocked) {
            shut.push(format!("{} at {}", port.port, port.at));
        }
        let grade = match port.state {
            PortState::Open => Grade::Good,
            PortState::Unknown => Grade::Poor,
            PortState::NotOpen | PortState::Blocked => Grade::Bad,
        };
        table.row(vec![
            port.port.into(),
            port.at.into(),
            port.from.into(),
            port.to.into(),
            port.for_.into(),
            Cell::State(grade, port.state.word().into()),
            port.why.into(),
        ]);
    }
    global.output().table(&table);
    if shut.is_empty() {
        return Ok(());
    }
    let verb = if shut.len() == 1 { "is" } else { "are" };
    Err(Problem::refused(format!("{} {verb} wanted open, and {verb} not", shut.join(", ")))
        .why("nobody comes in there")
        .try_("what the last column says"))
}
