//! `yestrel estate`

use std::path::PathBuf;

use clap::Subcommand;
use yestrel_actions::estate;
use yestrel_core::{Problem, Result};

use crate::output::{Cell, Table};
use crate::{Global, ask};

#[derive(Subcommand)]
pub enum Command {
    /// Make an estate: its file and, beside it, the key that seals its secrets, both with mode 0600
    #[command(after_help = "Example:\n  yestrel estate create skerry")]
    Create {
        name: String,
        /// Wrap the sealing key by a passphrase, which is then asked for whenever a secret is needed
        #[arg(long)]
        passphrase: bool,
        /// Read that passphrase from a file instead of asking
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// What is in the estate
    #[command(after_help = "Example:\n  yestrel estate show")]
    Show,
    /// Every change, with when, who and what
    #[command(after_help = "Example:\n  yestrel estate history --last 50")]
    History {
        /// How many of the newest changes
        #[arg(long, default_value_t = 1000, value_name = "NUMBER")]
        last: usize,
        /// Check that no row was changed, removed or put elsewhere
        #[arg(long)]
        verify: bool,
    },
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    match command {
        Command::Create { name, passphrase, passphrase_file } => {
            let path = global.estate_path();
            let passphrase = if passphrase || passphrase_file.is_some() {
                Some(ask::new_passphrase("the new estate", passphrase_file.as_deref())?)
            } else {
                None
            };
            let made = estate::create(&path, &name, passphrase.as_deref().map(String::as_str))?;
            output.say(&format!("made the estate {} at {}", made.name, path.display()));
            output.say(&format!("its orders are signed by {}", made.public_key.fingerprint()));
            Ok(())
        }
        Command::Show => {
            let overview = estate::show(&mut global.context()?)?;
            let mut record: Vec<(&'static str, Cell)> = vec![
                ("estate", overview.estate.name.into()),
                ("id", overview.estate.id.into()),
                ("file", global.estate_path().display().to_string().into()),
                ("signed by", overview.estate.public_key.fingerprint().into()),
                ("created", overview.estate.created.into()),
            ];
            for (noun, count, said) in overview.counts {
                let text = output.format == crate::output::FormatName::Text && !said.is_empty() && count > 0;
                record.push((noun, if text { format!("{count}  ({said})").into() } else { count.into() }));
            }
            output.record(&record);
            Ok(())
        }
        Command::History { verify: true, .. } => {
            let (rows, broken) = estate::verify_history(&mut global.context()?)?;
            match broken {
                None => {
                    output.say(&format!("all {rows} rows of the history are as they were written"));
                    Ok(())
                }
                Some((number, how)) => Err(Problem::refused(format!("the history does not hold at row {number}"))
                    .why(how)
                    .try_("compare with a backup from before; whoever can write the estate's file could do this")),
            }
        }
        Command::History { last, verify: false } => {
            let mut table =
                Table::new(&["number", "at", "who", "what", "subject", "detail"], "nothing has happened yet");
            for row in estate::history(&mut global.context()?, last)? {
                let at = row.at.parse::<jiff::Timestamp>().map_or_else(|_| row.at.clone().into(), Cell::from);
                table.row(vec![
                    row.number.into(),
                    at,
                    row.who.into(),
                    row.what.into(),
                    row.subject.into(),
                    row.detail.into(),
                ]);
            }
            output.table(&table);
            Ok(())
        }
    }
}
