//! `yestrel host`

use clap::{Args, Subcommand, ValueEnum};
use yestrel_actions::host::{self, Removed, Wish};
use yestrel_core::estate::{Host, HostKind, Via};
use yestrel_core::findings::{Facts, Finding, Grade};
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, FormatName, Output, Table, list};

#[derive(Clone, Copy, ValueEnum)]
pub enum KindName {
    /// A machine of one's own
    Computer,
    /// A rented one
    Cloud,
    /// A router that runs Linux
    Router,
    /// A storage appliance that runs Linux
    Storage,
}

#[derive(Subcommand)]
pub enum Command {
    /// Add a host that can be managed; it is probed at once
    #[command(
        after_help = "Example:\n  yestrel host add harbour --site harbour --kind cloud --via ssh://root@203.0.113.10:22\n  yestrel host add harbour --site harbour --kind cloud --via lab\n\n`--via lab` is the host of the same name in the lab; `--via lab:FOLDER` any other. Over SSH, a key agent is asked first, then\nthe usual key files, then a password at the terminal, which is never kept. The host's key is kept from the first time on."
    )]
    Add {
        name: String,
        /// The site where it stands
        #[arg(long)]
        site: String,
        /// What kind of machine it is
        #[arg(long, value_enum)]
        kind: KindName,
        /// How it is managed: ssh://user@address:port, or lab
        #[arg(long, value_name = "WAY")]
        via: String,
        #[command(flatten)]
        over: Over,
    },
    /// Change a host; a new way to it is kept only once it has been gone
    #[command(
        after_help = "Example:\n  yestrel host change harbour --via ssh://root@203.0.113.10:2222\n  yestrel host change harbour --host-key SHA256:...\n  yestrel host change boatyard --users-at-once 20"
    )]
    Change {
        name: String,
        /// How many users it carries at once, as its plan or its maker says, or any; policy check holds limits against it
        #[arg(long, value_name = "NUMBER", value_parser = users)]
        users_at_once: Option<Users>,
        /// The site where it stands
        #[arg(long)]
        site: Option<String>,
        /// What kind of machine it is
        #[arg(long, value_enum)]
        kind: Option<KindName>,
        /// How it is managed: ssh://user@address:port, or lab
        #[arg(long, value_name = "WAY")]
        via: Option<String>,
        #[command(flatten)]
        over: Over,
    },
    /// All hosts
    #[command(after_help = "Example:\n  yestrel host list")]
    List,
    /// One host in full, as its last probe found it
    #[command(after_help = "Example:\n  yestrel host show harbour")]
    Show { name: String },
    /// Look at a host: what a gateway there would find, and what would stop it
    #[command(after_help = "Example:\n  yestrel host probe harbour")]
    Probe { name: String },
    /// Remove a host that carries no gateway; one with an old agent leaves when that is gone
    #[command(after_help = "Example:\n  yestrel host remove harbour\n  yestrel host remove boatyard --destroyed")]
    Remove {
        name: String,
        /// The machine is no more: nothing on it can be removed, and nothing can come in there
        #[arg(long)]
        destroyed: bool,
    },
}

/// How one gets in over SSH.
#[derive(Args, Default)]
pub struct Over {
    /// The private key that the host knows; only this one is tried [default: key agent, ~/.ssh, a password]
    #[arg(long, value_name = "FILE")]
    key: Option<String>,
    /// A host on the way
    #[arg(long, value_name = "ssh://USER@ADDRESS:PORT")]
    jump: Option<String>,
    /// The fingerprint that the host's key must have; otherwise it is shown to be compared
    #[arg(long, value_name = "SHA256:...")]
    host_key: Option<String>,
    /// The fingerprint that the key of the host on the way must have
    #[arg(long, value_name = "SHA256:...")]
    jump_key: Option<String>,
    /// A signed package for a host with another processor
    #[arg(long, value_name = "FILE")]
    agent_binary: Option<String>,
}

fn wish(name: &str, site: Option<String>, kind: Option<KindName>, via: Option<String>, over: Over) -> Result<Wish> {
    let read = |via: String| match via.as_str() {
        "lab" => Ok(Via::Lab(crate::lab::folder(None).join("hosts").join(name))),
        _ => via.parse(),
    };
    let via = via.map(read).transpose()?;
    let kind = kind.map(|kind| match kind {
        KindName::Computer => HostKind::Computer,
        KindName::Cloud => HostKind::Cloud,
        KindName::Router => HostKind::Router,
        KindName::Storage => HostKind::Storage,
    });
    let Over { key, jump, host_key, jump_key, agent_binary } = over;
    Ok(Wish { site, kind, via, key_file: key, jump, agent_binary, host_key, jump_key, users_at_once: None })
}

/// How many users a host carries at once; `None`: nobody says.
#[derive(Clone, Copy)]
pub struct Users(Option<u32>);

fn users(text: &str) -> std::result::Result<Users, String> {
    match text.parse() {
        Ok(users) if users > 0 => Ok(Users(Some(users))),
        _ if text == "any" => Ok(Users(None)),
        _ => Err("a whole number from 1, or any".into()),
    }
}

fn kind_word(kind: HostKind) -> &'static str {
    match kind {
        HostKind::Computer => "computer",
        HostKind::Cloud => "cloud",
        HostKind::Router => "router",
        HostKind::Storage => "storage",
    }
}

fn worst(findings: &[Finding]) -> Grade {
    findings.iter().map(|finding| finding.grade).max().unwrap_or(Grade::Good)
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Add { name, site, kind, via, over } => {
            let wish = wish(&name, Some(site), Some(kind), Some(via), over)?;
            let (host, findings) = host::add(&mut context, &name, &wish)?;
            output.say(&format!("added the host {}", host.name));
            say_what_is_not_good(output, &host, findings);
        }
        Command::Change { name, users_at_once, site, kind, via, over } => {
            let users_at_once = users_at_once.map(|Users(users)| users);
            let wish = Wish { users_at_once, ..wish(&name, site, kind, via, over)? };
            let (host, findings) = host::change(&mut context, &name, &wish)?;
            output.say(&format!("changed the host {}; it is managed via {}", host.name, host.via));
            say_what_is_not_good(output, &host, findings);
        }
        Command::List => {
            let mut table = Table::new(
                &["name", "site", "kind", "outward", "system", "probed", "left there"],
                "no hosts yet; yestrel host add NAME --site SITE --kind KIND --via WAY",
            );
            for host in host::list(&mut context)? {
                let outward = host
                    .facts
                    .as_ref()
                    .and_then(|facts| facts.outward(None))
                    .and_then(|interface| interface.addresses.first());
                let system = host.facts.as_ref().map(|facts| facts.system.clone());
                table.row(vec![
                    host.name.into(),
                    host.site.into(),
                    kind_word(host.kind).into(),
                    outward.map(|net| net.addr().to_string()).into(),
                    system.into(),
                    host.probed.into(),
                    host.leftover.map(|old| format!("an old agent of {}", old.gateway)).into(),
                ]);
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let host = host::show(&mut context, &name)?;
            let mut record = record(&host);
            if let Some(facts) = &host.facts {
                record.extend(facts_record(facts));
            }
            output.record(&record);
        }
        Command::Probe { name } => {
            let (facts, findings) = host::probe(&mut context, &name)?;
            if output.format == FormatName::Text {
                output.record(&facts_record(&facts));
                output.write("\n");
            }
            output.findings(&name, &findings);
            if worst(&findings) == Grade::Bad {
                return Err(Problem::refused(format!("a gateway on {name} would be stopped by what is marked bad")));
            }
        }
        Command::Remove { name, destroyed } => {
            let host = host::removable(&mut context, &name)?;
            let question = match (&host.leftover, destroyed) {
                (Some(old), true) => format!(
                    "this forgets the host {name} with the old agent of {} on it: if the machine still runs, it goes on letting revoked devices in",
                    old.gateway
                ),
                (None, true) => format!("this removes the host {name} from the estate alone"),
                (Some(old), false) => format!(
                    "this removes the host {name} from the estate once the old agent of {} on it is removed",
                    old.gateway
                ),
                (None, false) => format!(
                    "this removes the host {name} from the estate, and from the machine what managing it has left there"
                ),
            };
            ask::confirm(global.yes, &question)?;
            match host::remove(&mut context, &name, destroyed)? {
                Removed::Gone(left) => {
                    output.say(&format!("removed the host {name}"));
                    if let Some(problem) = left {
                        let error = problem.error;
                        output.note(&format!("{error}, so a copy of the program may be left in its home folder"));
                    }
                }
                Removed::Later(problem) => {
                    return Err(Problem::partly(format!("the host {name} stays known until its old agent is removed"))
                        .why(problem.line())
                        .try_("yestrel rollout   when it answers: the agent is removed, and the host with it")
                        .try_(format!("yestrel host remove {name} --destroyed   if the machine is no more")));
                }
            }
        }
    }
    Ok(())
}

/// What came of adding or changing a host: for programs it is one record, with what is not good in it.
fn say_what_is_not_good(output: Output, host: &Host, findings: Vec<Finding>) {
    if output.is_for_programs() {
        let bad = findings.iter().filter(|finding| finding.grade > Grade::Good);
        let bad: Vec<_> = bad.map(|one| format!("{}: {}: {}", one.grade.word(), one.subject, one.words)).collect();
        let mut record = record(host);
        record.push(("not good", list(&bad)));
        return output.did(&record);
    }
    if let Some(fingerprint) = host.access.host_key.as_deref().and_then(yestrel_actions::host::fingerprint) {
        output.say(&format!("its key is {fingerprint}"));
    }
    if worst(&findings) > Grade::Good {
        let findings: Vec<_> = findings.into_iter().filter(|finding| finding.grade > Grade::Good).collect();
        output.findings(&host.name, &findings);
    }
}

fn record(host: &Host) -> Vec<(&'static str, Cell)> {
    vec![
        ("name", (&host.name).into()),
        ("site", (&host.site).into()),
        ("kind", kind_word(host.kind).into()),
        ("via", host.via.to_string().into()),
        ("host key", host.access.host_key.as_deref().and_then(yestrel_actions::host::fingerprint).into()),
        ("key file", host.access.key_file.clone().into()),
        ("jump", host.access.jump.as_ref().map(ToString::to_string).into()),
        ("agent binary", host.access.agent_binary.clone().into()),
        ("users at once", host.users_at_once.map(|users| users.to_string()).into()),
        ("probed", host.probed.into()),
        ("left there", host.leftover.as_ref().map(|old| format!("an old agent of {}", old.gateway)).into()),
    ]
}

fn facts_record(facts: &Facts) -> Vec<(&'static str, Cell)> {
    let interfaces = facts.interfaces.iter().map(|interface| {
        let addresses: Vec<_> = interface.addresses.iter().map(ToString::to_string).collect();
        let outward = if interface.outward { " (outward)" } else { "" };
        let leased = if interface.leased { " (leased)" } else { "" };
        format!("{}{outward} {}{leased}", interface.name, addresses.join(" "))
    });
    let ports = facts.busy_ports.iter().map(|busy| {
        let holder = busy.holder.as_deref().map(|holder| format!(" {holder}")).unwrap_or_default();
        format!("{}/{}{holder}", busy.port, busy.protocol)
    });
    let rules: Vec<_> =
        facts.in_the_way.iter().map(|rule| format!("{} {}: {}", rule.table, rule.chain, rule.rule)).collect();
    vec![
        ("system", (&facts.system).into()),
        ("kernel", (&facts.kernel).into()),
        ("C library", facts.libc.clone().into()),
        ("starts services", facts.init.word().into()),
        ("disk free", facts.disk_free.map(Cell::Bytes).unwrap_or(Cell::Missing)),
        ("processor", format!("{}{}", facts.processor, if facts.fast_aes { ", with AES" } else { "" }).into()),
        ("interfaces", list(&interfaces.collect::<Vec<_>>())),
        ("busy ports", list(&ports.collect::<Vec<_>>())),
        ("rules in the way", list(&rules)),
        ("forwarding", facts.forwarding.into()),
        ("tun", facts.tun.into()),
        ("nftables", facts.nftables.into()),
        ("clock", facts.clock.into()),
    ]
}
