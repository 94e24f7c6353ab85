//! `yestrel registry`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use yestrel_actions::registry::Wish;
use yestrel_actions::{credential, registry};
use yestrel_core::estate::{Method, Registry, RegistryKind};
use yestrel_core::policy::NameForm;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, Table, list};
use crate::policy::read_all;

#[derive(Subcommand)]
pub enum Command {
    /// Add a registry to the order of checking: what it claims the estate does not check any more
    #[command(after_help = ADDING)]
    Add {
        name: String,
        /// What it is; gateways of this version can ask neither, and refuse what it claims
        #[arg(long)]
        kind: Other,
        #[command(flatten)]
        says: Says,
    },
    /// All registries, in the order in which they are asked
    #[command(after_help = "Example:\n  yestrel registry list")]
    List,
    /// One registry in full
    #[command(after_help = "Example:\n  yestrel registry show estate")]
    Show { name: String },
    /// Change what a registry claims, which methods it can check, what it calls those that sign in
    #[command(
        after_help = "Example:\n  yestrel registry change estate --method password --method ms-chap-v2\n  yestrel registry change estate --claim realm=none,skerry.example --called \"{user}\"\n  yestrel registry change crew-directory --claim realm=   does not claim by that any more\n\nms-chap-v2 needs a form of each password that lets whoever has it sign in; it is kept, sealed, only while that method is asked for."
    )]
    Change {
        name: String,
        #[command(flatten)]
        says: Says,
        /// Asked after those that have a rank
        #[arg(long, conflicts_with = "rank")]
        unranked: bool,
    },
    /// Remove a registry from the order of checking
    #[command(after_help = "Example:\n  yestrel registry remove crew-directory")]
    Remove { name: String },
    /// Try a sign-in with an account, counted like any other
    #[command(after_help = "Example:\n  yestrel registry try mara.laptop")]
    Try {
        /// USER.DEVICE, with @REALM where it is given so
        account: String,
        /// A file with the password
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// The code of the second factor, where the account has one
        #[arg(long)]
        code: Option<String>,
    },
}

const ADDING: &str = "Example:
  yestrel registry add crew-directory --kind directory --claim realm=crew.skerry.example
  yestrel registry add yard --kind radius --claim site=boatyard --claim \"hours=mon-fri 06:00-18:00\" --method pap --rank 1

A name with a password is checked by the first registry that claims it, and by no other. A claim is written like a condition of a policy, and all claims of a registry
must hold: realm (what stands after the @ of the name, or none), tunnel, gateway, site, hours. Two that claim the same need ranks; the lower is asked first. The estate
claims what no other does, unless it is changed. Key pairs and certificates the estate checks always: it made them. yestrel policy rehearse says who would check.";

#[derive(ValueEnum, Clone, Copy)]
pub enum Other {
    /// A directory of accounts (LDAP)
    Directory,
    /// Another RADIUS server
    Radius,
}

impl From<Other> for RegistryKind {
    fn from(other: Other) -> Self {
        match other {
            Other::Directory => Self::Directory,
            Other::Radius => Self::Radius,
        }
    }
}

#[derive(Args)]
pub struct Says {
    /// What it claims, SUBJECT=VALUE,...; several times for several, which must all hold
    #[arg(long = "claim", value_name = "CLAIM")]
    claims: Vec<String>,
    /// A method that it can check; several times for several
    #[arg(long = "method", value_name = "METHOD", value_parser = method)]
    methods: Vec<Method>,
    /// What it calls whoever signs in: {name} for all that was typed, {user} without the realm, {realm}
    #[arg(long, value_name = "FORM", value_parser = form)]
    called: Option<NameForm>,
    /// In which order it is asked, where others claim the same
    #[arg(long, value_name = "NUMBER")]
    rank: Option<u16>,
}

impl Says {
    fn wish(self, may_end: bool) -> Result<Wish> {
        let Self { claims, methods, called, rank } = self;
        Ok(Wish { methods, claims: read_all(&claims, may_end)?, called, rank: rank.map(Some) })
    }
}

fn form(text: &str) -> std::result::Result<NameForm, String> {
    text.parse().map_err(|problem: Problem| problem.line())
}

fn method(text: &str) -> std::result::Result<Method, String> {
    text.parse().map_err(|problem: Problem| problem.line())
}

fn claims_of(one: &Registry) -> Cell {
    let claims = registry::claims(one);
    if claims.is_empty() { "what no other does".into() } else { claims.join("; ").into() }
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Add { name, kind, says } => {
            let added = registry::add(&mut context, &name, kind.into(), &says.wish(false)?)?;
            output.say(&format!("the registry {} claims {}", added.name, registry::claims(&added).join("; ")));
            output.note("gateways of this version cannot ask it: from the next yestrel rollout on they refuse names that it claims");
        }
        Command::List => {
            let mut table = Table::new(&["rank", "name", "kind", "claims", "methods", "called"], "no registries");
            for one in registry::list(&mut context)? {
                let claims = claims_of(&one);
                let rank = one.rank.map(|rank| rank.to_string());
                let called = one.called.to_string().into();
                table.row(vec![
                    rank.into(),
                    one.name.into(),
                    one.kind.word().into(),
                    claims,
                    list(&one.methods),
                    called,
                ]);
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let (one, accounts, with) = registry::show(&mut context, &name)?;
            let own = one.kind == RegistryKind::Estate;
            let mut record = vec![
                ("name", Cell::from(one.name.as_str())),
                ("kind", one.kind.word().into()),
                ("claims", claims_of(&one)),
                ("methods", list(&one.methods)),
                ("called", one.called.to_string().into()),
                ("rank", one.rank.map(|rank| rank.to_string()).into()),
            ];
            match own {
                true => record.extend([("accounts", accounts.into()), ("with a form for ms-chap-v2", with.into())]),
                false => record.push(("asked", "by no gateway of this version: what it claims is refused".into())),
            }
            output.record(&record);
        }
        Command::Change { name, says, unranked } => {
            let mut wish = says.wish(true)?;
            if unranked {
                wish.rank = Some(None);
            }
            let Wish { methods, claims, called, rank } = &wish;
            let of_methods = !methods.is_empty();
            let of_names = !claims.is_empty() || called.is_some() || rank.is_some();
            if !of_methods && !of_names {
                return Err(Problem::words("nothing was said that should change")
                    .why("what is named replaces what was; all else stays")
                    .try_(format!("yestrel registry change {name} --help")));
            }
            let (changed, without) = registry::change(&mut context, &name, &wish)?;
            if of_methods {
                output.say(&format!(
                    "{} takes {}",
                    changed.name,
                    changed.methods.iter().map(|method| method.word()).collect::<Vec<_>>().join(", ")
                ));
            }
            if of_names {
                let claims = registry::claims(&changed);
                let claims = if claims.is_empty() { "what no other does".into() } else { claims.join("; ") };
                output.say(&format!("{} claims {claims}, and calls whoever signs in {}", changed.name, changed.called));
                output.note(
                    "yestrel rollout   brings it to the gateways; names that no registry claims are refused then",
                );
            }
            if of_methods && changed.kind == RegistryKind::Estate && changed.methods.contains(&Method::MsChapV2) {
                output.note(
                    "for ms-chap-v2 a second form of each new password is kept, sealed; whoever had it could sign in with it",
                );
            }
            if of_methods && without > 0 {
                output.note(&format!(
                    "without such a form, because the password is not known: {}; yestrel credential renew USER/DEVICE --kind password",
                    crate::words::counted(without, "account")
                ));
            }
        }
        Command::Remove { name } => {
            registry::remove(&mut context, &name)?;
            output.say(&format!("the registry {name} is removed: what it claimed is for others to check"));
            output.note("yestrel rollout   brings it to the gateways");
        }
        Command::Try { account, password_file, code } => {
            let password = ask::passphrase(&format!("the account {account}"), password_file.as_deref())?;
            credential::sign_in(&mut context, &account, &password, code.as_deref())?;
            output.say(&format!("{account} is let in"));
        }
    }
    Ok(())
}
