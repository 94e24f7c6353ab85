//! `yestrel host`

use clap::{Subcommand, ValueEnum};
use yestrel_actions::host;
use yestrel_core::facts::{Facts, Finding, Grade};
use yestrel_core::nouns::{Host, HostKind};
use yestrel_core::{Problem, Result};

use crate::output::{Cell, FormatName, Table, list};
use crate::{Global, ask};

#[derive(Clone, Copy, ValueEnum)]
pub enum KindName {
    Computer,
    Cloud,
    Router,
    Storage,
}

#[derive(Subcommand)]
pub enum Command {
    /// Add a host that can be managed; it is probed at once
    #[command(
        after_help = "Example:\n  yestrel host add harbour --site harbour --kind cloud --via lab\n\n`--via lab` is the host of the same name in the lab; `--via lab:FOLDER` any other."
    )]
    Add {
        name: String,
        /// The site where it stands
        #[arg(long)]
        site: String,
        /// What kind of machine it is
        #[arg(long, value_enum)]
        kind: KindName,
        /// How it is managed
        #[arg(long, value_name = "WAY")]
        via: String,
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
    /// Remove a host that carries no gateway
    #[command(after_help = "Example:\n  yestrel host remove harbour")]
    Remove { name: String },
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
        Command::Add { name, site, kind, via } => {
            let via = if via == "lab" {
                format!("lab:{}", crate::lab::folder(None).join("hosts").join(&name).display())
            } else {
                via
            };
            let kind = match kind {
                KindName::Computer => HostKind::Computer,
                KindName::Cloud => HostKind::Cloud,
                KindName::Router => HostKind::Router,
                KindName::Storage => HostKind::Storage,
            };
            let (host, findings) = host::add(&mut context, &name, &site, kind, &via)?;
            output.say(&format!("added the host {}", host.name));
            if worst(&findings) > Grade::Good {
                let findings: Vec<_> = findings.into_iter().filter(|finding| finding.grade > Grade::Good).collect();
                output.findings(&host.name, &findings);
            }
        }
        Command::List => {
            let mut table = Table::new(
                &["name", "site", "kind", "outward", "system", "probed"],
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
        Command::Remove { name } => {
            let host = host::show(&mut context, &name)?;
            ask::confirm(
                global.yes,
                &format!("this removes the host {} from the estate; the machine itself is left as it is", host.name),
            )?;
            host::remove(&mut context, &name)?;
            output.say(&format!("removed the host {name}"));
        }
    }
    Ok(())
}

fn record(host: &Host) -> Vec<(&'static str, Cell)> {
    vec![
        ("name", (&host.name).into()),
        ("site", (&host.site).into()),
        ("kind", kind_word(host.kind).into()),
        ("via", (&host.via).into()),
        ("probed", host.probed.into()),
    ]
}

fn facts_record(facts: &Facts) -> Vec<(&'static str, Cell)> {
    let interfaces = facts.interfaces.iter().map(|interface| {
        let addresses: Vec<_> = interface.addresses.iter().map(ToString::to_string).collect();
        let outward = if interface.outward { " (outward)" } else { "" };
        format!("{}{outward} {}", interface.name, addresses.join(" "))
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
