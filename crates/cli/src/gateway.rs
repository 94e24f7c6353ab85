//! `yestrel gateway`

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use yestrel_actions::Context;
use yestrel_actions::credential::handover;
use yestrel_actions::gateway::{self, GatewayStanding, Wish, certificate, relocate};
use yestrel_actions::{leftover, status};
use yestrel_core::exchange::host::LogPiece;
use yestrel_core::findings::{Grade, Plane};
use yestrel_core::x509::Algorithm;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::listing::Listing;
use crate::output::{Cell, FormatName, Output, Table, list};
use crate::words::{first_of_stale, say_stale};

#[derive(Subcommand)]
pub enum Command {
    /// Make a gateway on a host
    #[command(
        after_help = "Example:\n  yestrel gateway create harbour --host harbour --dialled gangway.skerry.example",
        mut_arg("dialled", |dialled| dialled.required(true))
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
    List {
        /// Only those of this site
        #[arg(long)]
        site: Option<String>,
        #[command(flatten)]
        listing: Listing,
    },
    /// One gateway in full, with what its agent says
    #[command(after_help = "Example:\n  yestrel gateway show harbour")]
    Show { name: String },
    /// Change a gateway
    #[command(after_help = "Example:\n  yestrel gateway change harbour --dialled 203.0.113.10")]
    Change {
        name: String,
        #[command(flatten)]
        about: About,
        /// Where it answers what it measures, over HTTP: an inner address and port, or nowhere
        #[arg(long, value_name = "ADDRESS:PORT", value_parser = metrics)]
        metrics: Option<Metrics>,
        /// A further name or address that devices dial; several times for several, none of them with ""
        #[arg(long, value_name = "NAME")]
        also: Option<Vec<String>>,
        /// A certificate that was issued elsewhere, with those above it and its key (PEM or PKCS#12); its key may also be
        /// that of the request. "estate" goes back to the estate's own authority
        #[arg(long, value_name = "FILE")]
        certificate: Option<PathBuf>,
        /// A file with the private key of that certificate
        #[arg(long, value_name = "FILE", requires = "certificate")]
        certificate_key: Option<PathBuf>,
        /// A file with the passphrase of what is encrypted
        #[arg(long, value_name = "FILE", requires = "certificate")]
        certificate_passphrase_file: Option<PathBuf>,
        /// Write a request for a certificate (PKCS#10), for somebody else to sign; its key stays in the estate
        #[arg(long, value_name = "FILE", conflicts_with = "certificate")]
        request: Option<PathBuf>,
        /// Show which handovers it would make stale, and change nothing
        #[arg(long, conflicts_with_all = ["certificate", "request"])]
        preview: bool,
    },
    /// Give a gateway another name, with everything that names it; nobody who is in is thrown out
    #[command(after_help = "Example:\n  yestrel gateway rename harbour pier")]
    Rename {
        name: String,
        /// The new name
        to: String,
    },
    /// Move a gateway to another host: the name dialled, keys, credentials and inner addresses stay
    #[command(after_help = "Example:\n  yestrel gateway move harbour --to breakwater")]
    Move {
        name: String,
        /// The host that is to carry it
        #[arg(long, value_name = "HOST")]
        to: String,
        /// Go on although the old host cannot be reached: the gateway gets new keys, and what is on the old host is removed when it answers
        #[arg(long)]
        abandoned: bool,
    },
    /// Stop a gateway's agent and start it again; sessions come back by themselves
    #[command(after_help = "Example:\n  yestrel gateway restart harbour")]
    Restart { name: String },
    /// What a gateway's agent wrote into its log
    #[command(
        after_help = "Example:\n  yestrel gateway log harbour --since 2h\n  yestrel gateway log harbour --follow"
    )]
    Log {
        name: String,
        /// Only what is not older than this, or from this moment on
        #[arg(long, value_name = "DURATION OR MOMENT")]
        since: Option<String>,
        /// Go on as it is written, until interrupted
        #[arg(long)]
        follow: bool,
    },
    /// Take a gateway off its host, with every trace, and out of the estate
    #[command(after_help = "Example:\n  yestrel gateway retire harbour")]
    Retire {
        name: String,
        /// Go on although the host cannot be reached: what is there is removed when it answers
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
    /// Hours in which its agent may be upgraded without a person: "tue,thu 03:00-05:00", "daily 02:30-04:00", or never
    /// [default: never]
    #[arg(long, value_name = "HOURS")]
    updates: Option<String>,
}

/// Where metrics are answered, as a command says it.
#[derive(Clone)]
pub struct Metrics(Option<std::net::SocketAddrV4>);

fn metrics(text: &str) -> std::result::Result<Metrics, String> {
    match text {
        "nowhere" => Ok(Metrics(None)),
        other => other.parse().map(|at| Metrics(Some(at))).map_err(|_| "ADDRESS:PORT, or nowhere".into()),
    }
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
        let updates = about.updates.map(|hours| if hours == "never" { String::new() } else { hours });
        Self {
            dialled: about.dialled,
            outward: about.outward,
            masquerade,
            site: about.site,
            updates,
            metrics: None,
            also: None,
        }
    }
}

fn state(standing: &GatewayStanding) -> Cell {
    let gateway = &standing.gateway;
    if let Some((until, true)) = standing.holds_until {
        let until = yestrel_core::moment(until);
        return Cell::State(Grade::Bad, format!("lets nobody in from {until} on, unless it is reached"));
    }
    match (gateway.order_number, standing.behind) {
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
            output.did(&[
                ("gateway", (&made.name).into()),
                ("host", (&made.host).into()),
                ("dialled", (&made.dialled).into()),
                ("public key", made.public_key.to_string().into()),
            ]);
            output.say(&format!("made the gateway {} on {}, dialled as {}", made.name, made.host, made.dialled));
            output.say(&format!("its key is {}", made.public_key.fingerprint()));
        }
        Command::List { site, listing } => {
            let mut table = Table::new(
                &["name", "host", "site", "dialled", "listeners", "order", "state"],
                "no gateways yet; yestrel gateway create NAME --host HOST --dialled NAME",
            )
            .least(&["dialled", "host", "listeners"]);
            let strange = status::strange(&mut context, &[])?;
            for standing in gateway::list(&mut context)? {
                if site.as_ref().is_some_and(|site| standing.gateway.site != *site) {
                    continue;
                }
                let listeners: Vec<_> = standing.listeners.iter().map(|listener| listener.name.clone()).collect();
                let (mut state, gateway) = (state(&standing), standing.gateway);
                match (strange.get(&gateway.name), &state) {
                    (Some(one), Cell::State(_, then)) if one.silent => {
                        state = Cell::State(Grade::Bad, format!("{}, {then} then", one.words));
                    }
                    // What waits is what a person must know first; the rest would say it again.
                    (Some(one), Cell::State(Grade::Good, _)) => state = Cell::State(Grade::Bad, one.words.clone()),
                    _ => {}
                }
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
            listing.apply(&mut table)?;
            output.table(&table);
            say_leftovers(output, &mut context)?;
        }
        Command::Show { name } => {
            let standing = gateway::show(&mut context, &name)?;
            let state = state(&standing);
            let listeners: Vec<_> = standing
                .listeners
                .iter()
                .map(|listener| format!("{} {}", listener.name, listener.services()))
                .collect();
            let gateway = &standing.gateway;
            let shown = certificate::pem(&mut context, &name).ok();
            let mut record: Vec<(&'static str, Cell)> = vec![
                ("name", (&gateway.name).into()),
                ("host", (&gateway.host).into()),
                ("site", (&gateway.site).into()),
                ("dialled", (&gateway.dialled).into()),
                ("outward", gateway.outward.clone().into()),
                ("masquerade", gateway.masquerade.into()),
                ("updates", gateway.updates.as_ref().map_or_else(|| "never".to_owned(), ToString::to_string).into()),
                ("also dialled", list(&gateway.also)),
                ("certificate", shown.map_or(Cell::Missing, |(_, fingerprint)| fingerprint.into())),
                ("certificate for", gateway.certificate.as_ref().map(|one| one.names.join(", ")).into()),
                (
                    "certificate by",
                    gateway
                        .certificate
                        .as_ref()
                        .map(|one| one.authority.clone().unwrap_or_else(|| "somebody else".into()))
                        .into(),
                ),
                (
                    "certificate remark",
                    standing.certificate_remark.clone().map_or(Cell::Missing, |why| Cell::State(Grade::Poor, why)),
                ),
                ("certificate until", gateway.certificate.as_ref().map(|one| one.expires).into()),
                ("publishes on", gateway.publish_port.map(|port| format!("{port}/tcp")).into()),
                ("metrics at", gateway.metrics.map(|at| at.to_string()).into()),
                ("key", gateway.public_key.fingerprint().into()),
                ("listeners", list(&listeners)),
                ("order confirmed", gateway.order_number.into()),
                ("order newest", standing.newest_order.into()),
                ("state", state),
            ];
            match (&standing.status, &standing.silent) {
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
                        ("unconfirmed until", status.held.into()),
                        ("holds until", status.holds_until.into()),
                        ("amiss", status.amiss.clone().map_or(Cell::Missing, |why| Cell::State(Grade::Bad, why))),
                        (
                            "in force but not kept",
                            status.unkept.clone().map_or(Cell::Missing, |why| Cell::State(Grade::Bad, why)),
                        ),
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
        Command::Change {
            name,
            about,
            metrics,
            also,
            certificate,
            certificate_key,
            certificate_passphrase_file,
            request,
            preview,
        } => {
            let wish = Wish { metrics: metrics.map(|Metrics(at)| at), also, ..about.into() };
            if let Some(path) = certificate {
                let (key, passphrase) = (certificate_key.as_deref(), certificate_passphrase_file.as_deref());
                return change_certificate(output, &mut context, &name, &path, key, passphrase);
            }
            if let Some(path) = request {
                let text = certificate::request(&mut context, &name, Algorithm::P256)?;
                handover::write_bytes(&path, text.as_bytes())?;
                output.say(&format!("wrote a request for a certificate of {name} to {}", path.display()));
                output.say(&format!("yestrel gateway change {name} --certificate FILE   takes what is signed by it"));
                return Ok(());
            }
            let (_, would) = context.rehearse(|context| gateway::change(context, &name, &wish))?;
            if !first_of_stale(global, &format!("this change of {name}"), &would, preview)? {
                return Ok(());
            }
            let (gateway, stale) = gateway::change(&mut context, &name, &wish)?;
            output.say(&format!("changed the gateway {}; yestrel rollout brings it there", gateway.name));
            say_stale(output, stale.count);
        }
        Command::Rename { name, to } => {
            yestrel_actions::rename::gateway(&mut context, &name, &to)?;
            output.did(&[("gateway", (&to).into())]);
            output.say(&format!("the gateway {name} is {to} now; yestrel rollout tells its agent"));
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
            let (gone, left) = gateway::retire(&mut context, &name, abandoned)?;
            match left {
                None => output.say(&format!("retired the gateway {name}; its host has no trace of it left")),
                Some(problem) => output.say(&format!(
                    "retired the gateway {name} from the estate; {}, so its agent still lets in whom it knows: it is removed as soon as its host answers",
                    problem.error
                )),
            }
            say_gone(output, &gone);
        }
        Command::Move { name, to, abandoned } => {
            let plan = relocate::preview(&mut context, &name, &to)?;
            let dialled = plan.gateway.dialled.clone();
            let stays = plan.dials_address && plan.new_address.as_ref().is_some_and(|address| *address != dialled);
            let devices = match plan.devices {
                0 => "no device has a way in there".to_owned(),
                many if stays => format!(
                    "{} dial {dialled}, an address that stays behind, and come in again only once {to} has it",
                    crate::words::counted(many, "device")
                ),
                1 => "1 device follows by itself".to_owned(),
                many => format!("{many} devices follow by themselves"),
            };
            let lost = if abandoned {
                "; where the old host cannot be reached, the gateway gets new keys, and devices need a way notice"
            } else {
                ""
            };
            ask::confirm(
                global.yes,
                &format!(
                    "this moves the gateway {name} from {} to {to}, with its keys and addresses; {devices}{lost}",
                    plan.from
                ),
            )?;
            let relocate::Moved { gone, left, new_keys } = relocate::relocate(&mut context, &name, &to, abandoned)?;
            output.say(&format!("moved the gateway {name} to {to}"));
            say_gone(output, &gone);
            if let Some(problem) = left {
                output.note(&format!(
                    "{}, so what is on {} is still there: it is removed as soon as that host answers",
                    problem.error, plan.from
                ));
            }
            if new_keys {
                output.note("the gateway has new keys and call secrets; the old ones open nothing at its new place");
                say_stale(output, plan.devices);
            }
            let dialled = &plan.gateway.dialled;
            match (plan.dials_address, plan.new_address) {
                (true, Some(address)) if address != *dialled => output.note(&format!(
                    "devices dial {dialled}, an address that stays behind: give it to {to}, or yestrel gateway change {name} --dialled NAME"
                )),
                (false, Some(address)) => {
                    output.note(&format!("{dialled} must lead to {to} now; its own address there is {address}"));
                }
                _ => {}
            }
        }
        Command::Restart { name } => {
            gateway::restart(&mut context, &name)?;
            output.say(&format!("started the agent of {name} again; it answers"));
        }
        Command::Log { name, since, follow } => log(output, &mut context, &name, since.as_deref(), follow)?,
    }
    Ok(())
}

/// Agents that were left behind, which no other line names.
pub fn say_leftovers(output: Output, context: &mut Context) -> Result<()> {
    for (host, old) in leftover::hosts(context)? {
        output.note(&format!(
            "an old agent of {} is on {}, left there on {}; it is removed as soon as that host answers",
            old.gateway,
            host.name,
            yestrel_core::moment(old.since)
        ));
    }
    Ok(())
}

/// What was taken away on a host, a line each.
fn say_gone(output: Output, gone: &[String]) {
    for what in gone {
        output.say(&format!("  removed {what}"));
    }
}

/// Prints a log, and what is added to it.
fn log(output: Output, context: &mut Context, name: &str, since: Option<&str>, follow: bool) -> Result<()> {
    let from = since.map(|text| moment_ago(text, context.now)).transpose()?;
    if follow && output.format == FormatName::Csv {
        return Err(Problem::words("a log that is followed is no table").try_("--format json   gives an object a line"));
    }
    let LogPiece { mut text, mut next } = gateway::log(context, name, None)?;
    if text.is_empty() && !follow {
        output.note(&format!("the agent of {name} has written nothing yet"));
    }
    let mut rows = Table::new(&["at", "line"], "");
    loop {
        for line in text.lines().filter(|line| from.is_none_or(|from| not_before(line, from))) {
            let line = yestrel_core::shown::line(line);
            match (output.is_for_programs(), follow) {
                (false, _) => output.write(&format!("{line}\n")),
                // An object a line, as it comes: nobody knows which is the last.
                (true, true) => {
                    output.write(&format!("{}\n", serde_json::json!({ "at": moment_of(&line), "line": line })));
                }
                (true, false) => rows.row(vec![moment_of(&line).into(), line.into()]),
            }
        }
        let more = !text.is_empty();
        if !follow && !more || !output.is_read() {
            if output.is_for_programs() && !follow {
                output.table(&rows);
            }
            return Ok(());
        }
        if !more {
            std::thread::park_timeout(std::time::Duration::from_millis(400));
        }
        LogPiece { text, next } = gateway::log(context, name, Some(next))?;
    }
}

/// The moment at which a line was written, where it begins with one.
fn moment_of(line: &str) -> Option<String> {
    let word = line.split_whitespace().next()?;
    word.parse::<jiff::Timestamp>().ok().map(|at| at.to_string())
}

/// Whether a line of the log is not older than `from`. A line without a moment belongs to the one before, and is shown.
fn not_before(line: &str, from: jiff::Timestamp) -> bool {
    line.split_whitespace().next().and_then(|word| word.parse::<jiff::Timestamp>().ok()).is_none_or(|at| at >= from)
}

/// A moment, or one that is this long ago.
fn moment_ago(text: &str, now: jiff::Timestamp) -> Result<jiff::Timestamp> {
    if let Ok(at) = text.parse() {
        return Ok(at);
    }
    let wrong = || {
        Problem::words(format!("{text:?} is neither a moment nor a span of time"))
            .try_("--since 2h")
            .try_("--since 2027-03-02T08:15:00Z")
    };
    now.checked_sub(yestrel_core::lapse::parse(text).ok_or_else(wrong)?).map_err(|_| wrong())
}

fn change_certificate(
    output: Output,
    context: &mut Context,
    name: &str,
    path: &Path,
    key: Option<&Path>,
    passphrase: Option<&Path>,
) -> Result<()> {
    if path.as_os_str() == "estate" {
        certificate::own(context, name)?;
        output.say(&format!("{name} has certificates of the estate's authority again; yestrel rollout makes one"));
        return Ok(());
    }
    let brought = crate::words::read_brought(path, key, passphrase)?;
    let gateway = certificate::bring(context, name, brought)?;
    if let Some(one) = &gateway.certificate {
        output.say(&format!(
            "{name} has the certificate for {}, until {}",
            one.names.join(", "),
            yestrel_core::moment(one.expires)
        ));
    }
    output.say("yestrel rollout   brings it there; it is not renewed by itself");
    Ok(())
}
