//! `yestrel authority`

use std::path::PathBuf;

use clap::{Args, Subcommand};
use jiff::Timestamp;
use yestrel_actions::Context;
use yestrel_actions::authority::{self, AuthorityStanding, AuthorityState, Before, Export, Wish, publish};
use yestrel_actions::credential::handover;
use yestrel_core::findings::Grade;
use yestrel_core::x509::Algorithm;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, Output, Table, list};
use crate::unhurried::Unhurried;
use crate::words::{algorithm, counted, read_brought, read_file, say_unsigned, shown};

#[derive(Subcommand)]
pub enum Command {
    /// Make an authority, with its root when there is none yet; or bring one in that was made elsewhere
    #[command(
        after_help = "Example:\n  yestrel authority create\n  yestrel authority create crews --under root --domain skerry.example\n  yestrel authority create old --from authority.p12"
    )]
    Create {
        /// What it is called
        #[arg(default_value = "issuing")]
        name: String,
        /// The root above it; made with it, when there is none of this name
        #[arg(long, value_name = "AUTHORITY", default_value = "root")]
        under: String,
        /// What its key is made of: p-256, p-384, rsa-3072, rsa-4096
        #[arg(long = "key", value_name = "KIND", default_value = "p-256", value_parser = algorithm)]
        algorithm: Algorithm,
        /// Until when it holds: a date, a moment, or a time from now [default: 5y, its root 15y]
        #[arg(long, value_name = "WHEN", value_parser = crate::words::moment)]
        until: Option<Timestamp>,
        /// It may sign only for this domain and what is below it
        #[arg(long)]
        domain: Option<String>,
        #[command(flatten)]
        brought: Brought,
        #[command(flatten)]
        key: AwayKey,
    },
    /// All authorities
    #[command(after_help = "Example:\n  yestrel authority list")]
    List,
    /// One authority in full
    #[command(after_help = "Example:\n  yestrel authority show issuing")]
    Show { name: String },
    /// Give an authority's certificate, its revocation list, or, under a passphrase, its key
    #[command(
        after_help = "Example:\n  yestrel authority export issuing --to issuing.pem\n  yestrel authority export root --with-private-key --leave --to root-key.pem"
    )]
    Export {
        name: String,
        /// The file to write [default: standard output, for what is public]
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
        /// The certificate alone, in DER, in place of the chain in PEM
        #[arg(long, conflicts_with_all = ["list", "with_private_key"])]
        der: bool,
        /// The newest revocation list, in DER
        #[arg(long, conflicts_with = "with_private_key")]
        list: bool,
        /// Its private key too, under a passphrase that is asked for twice
        #[arg(long, requires = "to")]
        with_private_key: bool,
        /// Erase the key from the estate when it is written: whoever wants a signature then brings the file
        #[arg(long, requires = "with_private_key")]
        leave: bool,
        /// Read the passphrase from a file instead of asking
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Sign new revocation lists, and say which gateways publish them over HTTP
    #[command(
        after_help = "Example:\n  yestrel authority publish --at harbour\n  yestrel authority publish issuing --at harbour --port 8047\n  yestrel authority publish   signs anew, and brings the lists where they are published"
    )]
    Publish {
        /// Only these authorities [default: all]
        names: Vec<String>,
        /// A gateway that publishes from now on; several times for several
        #[arg(long, value_name = "GATEWAY")]
        at: Vec<String>,
        /// A gateway that does not any more
        #[arg(long, value_name = "GATEWAY")]
        not_at: Vec<String>,
        /// The TCP port there [default: 80]
        #[arg(long, requires = "at")]
        port: Option<u16>,
        #[command(flatten)]
        key: AwayKey,
    },
    /// End an authority: its certificate is revoked, and every credential that it signed
    #[command(after_help = "Example:\n  yestrel authority retire issuing --reason 'its key was seen'")]
    Retire {
        name: String,
        /// Why
        #[arg(long, value_name = "WORDS")]
        reason: String,
        #[command(flatten)]
        key: AwayKey,
    },
}

/// The key of an authority that is not in the estate.
#[derive(Args)]
pub struct AwayKey {
    /// The file of an authority's key that left the estate, for this command only
    #[arg(long = "with-key", value_name = "FILE")]
    with_key: Option<PathBuf>,
    /// A file with the passphrase of that one
    #[arg(long, value_name = "FILE", requires = "with_key")]
    key_passphrase_file: Option<PathBuf>,
}

impl AwayKey {
    fn borrow(&self, context: &mut Context) -> Result<()> {
        let Some(path) = &self.with_key else { return Ok(()) };
        let bytes = read_file(path)?;
        let what = format!("the key {}", path.display());
        context.borrow_key(&bytes, &mut ask::tries(&what, self.key_passphrase_file.as_deref()))
    }
}

/// What was made elsewhere.
#[derive(Args)]
pub struct Brought {
    /// A file with the certificate and those above it, PEM or PKCS#12, and with the key unless --key-file names another
    #[arg(long, value_name = "FILE", conflicts_with_all = ["algorithm", "until", "domain"])]
    from: Option<PathBuf>,
    /// A file with the private key (PKCS#8, encrypted or not)
    #[arg(long, value_name = "FILE", requires = "from")]
    key_file: Option<PathBuf>,
    /// A file with the passphrase of what is encrypted
    #[arg(long, value_name = "FILE", requires = "from")]
    from_passphrase_file: Option<PathBuf>,
    /// Its newest revocation list, DER or PEM: what stands there stays revoked, and later lists count on from it
    #[arg(long, value_name = "FILE", requires = "from")]
    list: Option<PathBuf>,
    /// It has never signed a list
    #[arg(long, requires = "from", conflicts_with = "list")]
    no_list: bool,
}

impl Brought {
    fn before(&self) -> Result<Before> {
        match &self.list {
            Some(path) => Ok(Before::List(read_file(path)?)),
            None if self.no_list => Ok(Before::NoList),
            None => Err(Problem::words("has this authority signed a revocation list before?")
                .why("without it, what was revoked would be good again, and lists would have numbers that verifiers have seen")
                .try_("--list FILE   its newest list, from where it was published")
                .try_("--no-list     it has never signed one")),
        }
    }
}

fn state(standing: &AuthorityStanding) -> Cell {
    let grade = match standing.state {
        AuthorityState::Signs => Grade::Good,
        AuthorityState::Away => Grade::Poor,
        _ => Grade::Bad,
    };
    Cell::State(grade, standing.state.word().into())
}

/// How long those who go by the list can go on without a new one.
fn list_left(standing: &AuthorityStanding, now: Timestamp) -> Cell {
    let Some(until) = standing.authority.list_until else { return Cell::Missing };
    let hours = until.duration_since(now).as_hours();
    let (grade, words) = match hours {
        hours if hours < 0 => (Grade::Bad, "ended".to_owned()),
        hours if hours < 72 => (Grade::Poor, format!("{hours} h")),
        hours => (Grade::Good, format!("{} d", hours / 24)),
    };
    Cell::State(grade, words)
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Create { name, under, algorithm, until, domain, brought, key } => {
            if let Some(from) = &brought.from {
                let before = brought.before()?;
                let brought = read_brought(from, brought.key_file.as_deref(), brought.from_passphrase_file.as_deref())?;
                let made = authority::bring(&mut context, &name, brought, &before)?;
                output.say(&format!("brought in {}", made.name));
                return say_fingerprints(output, &mut context, &[made.name]);
            }
            key.borrow(&mut context)?;
            let wish = Wish { under, algorithm, until, domain };
            let made = authority::create(&mut context, &name, &wish)?;
            let names: Vec<_> = made.iter().map(|one| one.name.clone()).collect();
            if output.is_for_programs() {
                let mut table = Table::new(&["name", "fingerprint", "expires"], "");
                for name in &names {
                    let standing = authority::show(&mut context, name)?;
                    let own = &standing.authority;
                    table.row(vec![name.into(), standing.fingerprint.into(), own.expires.into()]);
                }
                output.table(&table);
            }
            output.say(&format!("made {}", names.join(" and ")));
            say_fingerprints(output, &mut context, &names)?;
            if made.len() > 1 {
                let root = &names[0];
                output.say(&format!(
                    "yestrel authority export {root} --with-private-key --leave --to FILE   takes the root's key out of \
                     the estate"
                ));
            }
        }
        Command::List => {
            let mut table = Table::new(
                &["name", "under", "key", "state", "signed", "revoked", "expires", "list", "list holds"],
                "no authorities yet; yestrel authority create",
            );
            let now = context.now;
            for standing in authority::list(&mut context)? {
                let left = list_left(&standing, now);
                table.row(vec![
                    (&standing.authority.name).into(),
                    standing.authority.parent.clone().into(),
                    standing.authority.algorithm.to_string().into(),
                    state(&standing),
                    standing.signed.into(),
                    standing.revoked.into(),
                    standing.authority.expires.into(),
                    standing.authority.list_number.into(),
                    left,
                ]);
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let now = context.now;
            let standing = authority::show(&mut context, &name)?;
            let left = list_left(&standing, now);
            let authority = &standing.authority;
            output.record(&[
                ("name", (&authority.name).into()),
                ("subject", (&standing.subject).into()),
                ("under", authority.parent.clone().into()),
                ("state", state(&standing)),
                ("key", authority.algorithm.to_string().into()),
                ("fingerprint", (&standing.fingerprint).into()),
                ("serial", (&authority.serial).into()),
                ("path length", standing.path_length.map(u32::from).into()),
                ("domain", authority.domain.clone().into()),
                ("expires", authority.expires.into()),
                ("signed", standing.signed.into()),
                ("revoked", standing.revoked.into()),
                ("devices", standing.devices.into()),
                ("list", authority.list_number.into()),
                ("list until", authority.list_until.into()),
                ("third parties go on for", left),
                ("published at", list(&authority.published_at)),
                ("lists", list(&standing.addresses.lists)),
                ("status", list(&standing.addresses.status)),
                ("created", authority.created.into()),
                ("retired", authority.retired.into()),
            ]);
        }
        Command::Export { name, to, der, list, with_private_key, leave, passphrase_file } => {
            let what = if with_private_key {
                authority::show(&mut context, &name)?;
                let rest = if leave { ", and erases it from the estate" } else { "" };
                ask::confirm(
                    global.yes,
                    &format!("this reveals the private key of the authority {name} under a passphrase{rest}"),
                )?;
                Export::WithKey(ask::new_passphrase("the key", passphrase_file.as_deref())?)
            } else if list {
                Export::List
            } else if der {
                Export::Der
            } else {
                Export::Chain
            };
            if to.is_none() && (der || list) && output.terminal {
                return Err(Problem::words("DER is not for a terminal").try_("--to FILE"));
            }
            authority::export(&mut context, &name, &what, leave, |bytes| match &to {
                // A newer list takes the place of an older one.
                Some(path) if list => handover::replace_bytes(path, bytes),
                Some(path) => handover::write_bytes(path, bytes),
                None => {
                    output.write_bytes(bytes);
                    Ok(())
                }
            })?;
            if let Some(path) = to {
                output.say(&format!(
                    "wrote {} to {}",
                    if with_private_key { "certificate and key" } else { &name },
                    path.display()
                ));
                if leave {
                    output.say(&format!("{name} signs from now on only with   --with-key {}", path.display()));
                }
            }
        }
        Command::Publish { names, at, not_at, port, key } => {
            key.borrow(&mut context)?;
            let opens = publish::would_open(&mut context, &names, &at, port)?;
            if !opens.is_empty() {
                let opens: Vec<_> = opens.iter().map(|(gateway, port)| format!("{port}/tcp at {gateway}")).collect();
                ask::confirm(global.yes, &format!("this opens {}, for everybody", opens.join(", ")))?;
            }
            let _unhurried = Unhurried::begin();
            let published = publish::publish(&mut context, &names, &at, &not_at, port)?;
            let publish::Published { authorities, missing, readdressed } = &published.what;
            for (name, problem) in readdressed {
                match problem {
                    None => output.say(&format!("signed the certificate of {name} anew, with the addresses of who is above it")),
                    Some(problem) => output.note(&format!(
                        "the certificate of {name} names no address of who is above it: {}; with --with-key FILE it is signed anew",
                        problem.line()
                    )),
                }
            }
            for one in authorities {
                if missing.contains(&one.name) {
                    say_unsigned(output, &one.name, one.list_until);
                } else {
                    let until = one.list_until.map(yestrel_core::moment).unwrap_or_default();
                    output.say(&format!("signed list {} of {}, until {until}", one.list_number, one.name));
                }
            }
            let mut before = false;
            for one in authorities.iter().filter(|one| one.parent.is_some() && !at.is_empty()) {
                before |= authority::show(&mut context, &one.name)?.signed > 0;
            }
            if before {
                output.note("certificates that were issued before name no new address; they do from their renewal on");
            }
            crate::rollout::carry(global, &mut context, &published, false)?;
        }
        Command::Retire { name, reason, key } => {
            key.borrow(&mut context)?;
            let ends = authority::would_end(&mut context, &name)?;
            ask::confirm(
                global.yes,
                &format!(
                    "this ends the authority {name} for good, and with it {} of devices{}",
                    counted(ends.len(), "certificate"),
                    shown(&ends.iter().map(|one| one.device.clone()).collect::<Vec<_>>())
                ),
            )?;
            let _unhurried = Unhurried::begin();
            let ended = authority::retire(&mut context, &name, &reason)?;
            output.say(&format!("retired {name}, and with it {} of devices", counted(ended.what.len(), "certificate")));
            crate::rollout::carry(global, &mut context, &ended, false)?;
        }
    }
    Ok(())
}

fn say_fingerprints(output: Output, context: &mut Context, names: &[String]) -> Result<()> {
    let widest = names.iter().map(String::len).max().unwrap_or(0);
    for name in names {
        let standing = authority::show(context, name)?;
        output.say(&format!("{name:widest$}  {}", standing.fingerprint));
    }
    Ok(())
}
