//! `yestrel registry`

use std::path::PathBuf;

use clap::Subcommand;
use yestrel_actions::{credential, registry};
use yestrel_core::estate::Method;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Table, list};

#[derive(Subcommand)]
pub enum Command {
    /// All registries; this version has one, the estate itself
    #[command(after_help = "Example:\n  yestrel registry list")]
    List,
    /// One registry in full
    #[command(after_help = "Example:\n  yestrel registry show estate")]
    Show { name: String },
    /// Change by which methods its accounts may prove their passwords
    #[command(
        after_help = "Example:\n  yestrel registry change estate --method password --method ms-chap-v2\n\nms-chap-v2 needs a form of each password that lets whoever has it sign in; it is kept, sealed, only while that method is asked for."
    )]
    Change {
        name: String,
        /// password, ms-chap-v2; several times for several
        #[arg(long = "method", value_name = "METHOD", required = true, value_parser = method)]
        methods: Vec<Method>,
    },
    /// Try a sign-in with an account, counted like any other
    #[command(after_help = "Example:\n  yestrel registry try mara.laptop")]
    Try {
        /// USER.DEVICE
        account: String,
        /// A file with the password
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// The code of the second factor, where the account has one
        #[arg(long)]
        code: Option<String>,
    },
}

fn method(text: &str) -> std::result::Result<Method, String> {
    text.parse().map_err(|problem: Problem| problem.line())
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::List => {
            let mut table = Table::new(&["name", "kind", "methods"], "no registries");
            for one in registry::list(&mut context)? {
                table.row(vec![one.name.into(), one.kind.word().into(), list(&one.methods)]);
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let (one, accounts, with) = registry::show(&mut context, &name)?;
            output.record(&[
                ("name", one.name.into()),
                ("kind", one.kind.word().into()),
                ("methods", list(&one.methods)),
                ("accounts", accounts.into()),
                ("with a form for ms-chap-v2", with.into()),
            ]);
        }
        Command::Change { name, methods } => {
            let (changed, without) = registry::change(&mut context, &name, &methods)?;
            output.say(&format!(
                "{} takes {}",
                changed.name,
                changed.methods.iter().map(|method| method.word()).collect::<Vec<_>>().join(", ")
            ));
            if changed.methods.contains(&Method::MsChapV2) {
                output.note(
                    "for ms-chap-v2 a second form of each new password is kept, sealed; whoever had it could sign in with it",
                );
            }
            if without > 0 {
                output.note(&format!(
                    "without such a form, because the password is not known: {}; yestrel credential renew USER/DEVICE --kind password",
                    crate::words::counted(without, "account")
                ));
            }
        }
        Command::Try { account, password_file, code } => {
            let password = ask::passphrase(&format!("the account {account}"), password_file.as_deref())?;
            credential::sign_in(&mut context, &account, &password, code.as_deref())?;
            output.say(&format!("{account} is let in"));
        }
    }
    Ok(())
}
