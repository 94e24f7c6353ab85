//! `yestrel estate`

use std::path::{Path, PathBuf};

use clap::Subcommand;
use yestrel_actions::estate::saved::{self, Caught, Protection};
use yestrel_actions::estate::{self, keys, undo};
use yestrel_actions::{job, unfinished};
use yestrel_core::estate::Does;
use yestrel_core::findings::Grade;
use yestrel_core::keys::Secret;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, Output, Table, list};
use crate::stoppable::Stoppable;
use crate::words::counted;

/// A row of the history, by its number.
fn row(text: &str) -> std::result::Result<u64, String> {
    text.parse().map_err(|_| "the number of a row, as yestrel estate history shows it".into())
}

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
    /// Change what holds for the whole estate
    #[command(
        after_help = "Example:\n  yestrel estate change --hold-addresses 30\n  yestrel estate change --orders-hold 14d\n\nWith --orders-hold an agent that has heard nothing of this estate for so long lets nobody in: a machine that was stolen or cut off goes quiet\nby itself, and so does a gateway that nobody could reach in time. Every command that reaches a gateway renews it, and agents carry that on to\neach other; from two thirds of the time on, gateway list and connect warn. The default is never."
    )]
    Change {
        /// Days for which the inner address of a revoked credential is given to nobody else
        #[arg(long, value_name = "DAYS")]
        hold_addresses: Option<u16>,
        /// How long an order holds after an agent last heard of this estate: a duration from 1h, or never
        #[arg(long, value_name = "DURATION", value_parser = orders_hold)]
        orders_hold: Option<OrdersHold>,
        /// How long sessions that are over, and refusals, stay on record: 1d to 10y
        #[arg(long, value_name = "DURATION", value_parser = keep_sessions)]
        keep_sessions: Option<u16>,
    },
    /// Save everything into one encrypted file
    #[command(
        after_help = "Example:\n  yestrel estate save skerry.saved\n  yestrel estate save skerry.saved --recipient age1..."
    )]
    Save {
        /// The file to write, with mode 0600
        file: PathBuf,
        /// Encrypt it to this recipient key (age format), in place of a passphrase; several times for several
        #[arg(long, value_name = "KEY", conflicts_with_all = ["passphrase_file", "readable"])]
        recipient: Vec<String>,
        /// Read the passphrase from a file instead of asking twice
        #[arg(long, value_name = "FILE", conflicts_with = "readable")]
        passphrase_file: Option<PathBuf>,
        /// Do not encrypt it
        #[arg(long)]
        readable: bool,
    },
    /// Load a saved estate to where there is none, and catch up with its gateways
    #[command(
        after_help = "Example:\n  yestrel estate load skerry.saved\n  yestrel estate load skerry.saved --estate /srv/skerry --identity key.txt"
    )]
    Load {
        file: PathBuf,
        /// A file with the secret key (age format) to which it was encrypted
        #[arg(long, value_name = "FILE")]
        identity: Option<PathBuf>,
        /// Read the passphrase from a file instead of asking
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Do not ask the gateways what they know that this backup does not
        #[arg(long)]
        alone: bool,
    },
    /// Make a new signing key, which gateways learn by an order signed with the old one and with it; or a new recovery key
    #[command(
        after_help = "Example:\n  yestrel estate renew\n  yestrel estate renew --recovery   when the recovery key was lost or seen\n  yestrel estate renew --sealing    when the file of the sealing key was seen"
    )]
    Renew {
        /// A new recovery key, in place of a new signing key
        #[arg(long, conflicts_with = "recovery_file")]
        recovery: bool,
        /// A new sealing key, and with it a new recovery key: every secret of the estate is sealed anew
        #[arg(long, conflicts_with_all = ["recovery", "recovery_file"])]
        sealing: bool,
        /// Wrap the new sealing key by a new passphrase
        #[arg(long, requires = "sealing")]
        passphrase: bool,
        /// Read that passphrase from a file instead of asking
        #[arg(long, value_name = "FILE", requires = "sealing")]
        passphrase_file: Option<PathBuf>,
        /// A file with the recovery key, which signs in the place of a signing key that is lost
        #[arg(long, value_name = "FILE")]
        recovery_file: Option<PathBuf>,
    },
    /// Make the file of the sealing key again from the recovery key: when it is lost, or its passphrase forgotten
    #[command(after_help = "Example:\n  yestrel estate recover\n  yestrel estate recover --recovery-file recovery.txt")]
    Recover {
        /// A file with the recovery key, instead of asking for it
        #[arg(long, value_name = "FILE")]
        recovery_file: Option<PathBuf>,
        /// Wrap the sealing key by a new passphrase
        #[arg(long)]
        passphrase: bool,
        /// Read that passphrase from a file instead of asking
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Take back the last changes, as far as no gateway has seen them yet
    #[command(
        after_help = "Example:\n  yestrel estate undo            the last change\n  yestrel estate undo 41         row 41 of the history and everything after it\n  yestrel estate undo 41 --preview\n\nAll of it or nothing. What a gateway has got, a key that was handed over, a revocation and what an authority has signed stay: it says\nwhich, and what to do in their place. An undo can itself be undone."
    )]
    Undo {
        /// The row of the history from which on everything is taken back; without it, the last change
        #[arg(value_parser = row)]
        number: Option<u64>,
        /// Show what would be taken back, and change nothing
        #[arg(long)]
        preview: bool,
    },
    /// Commands on many that are not finished: how far they are, going on with one, taking it back
    #[command(
        after_help = "Example:\n  yestrel estate jobs\n  yestrel estate jobs --resume 41\n  yestrel estate jobs --take-back 41\n\nCredentials that such a command has made count nowhere until all of them are made: no gateway lets them in, and they cannot be handed over.\nUsers of an import that is not finished are there; what it changes of others comes with its end. A renewal renews each at once."
    )]
    Jobs {
        /// Go on with this one
        #[arg(long, value_name = "NUMBER", conflicts_with = "take_back")]
        resume: Option<u64>,
        /// Take back whatever this one has made
        #[arg(long, value_name = "NUMBER")]
        take_back: Option<u64>,
    },
    /// Every change, with when, who and what
    #[command(after_help = "Example:\n  yestrel estate history --last 50")]
    History {
        /// How many of the newest changes
        #[arg(long, default_value_t = 1000, value_name = "NUMBER")]
        last: usize,
        /// Only lines with this text in some column, whatever its case
        #[arg(long, value_name = "TEXT", conflicts_with = "verify")]
        find: Option<String>,
        /// Only by this person, "astrid@bridge" or a part of it
        #[arg(long, value_name = "WHO", conflicts_with = "verify")]
        who: Option<String>,
        /// Only since this date or moment, or the last so long
        #[arg(long, value_name = "WHEN", value_parser = crate::listing::since, conflicts_with = "verify")]
        since: Option<jiff::Timestamp>,
        /// Check that no row was changed, removed or put elsewhere
        #[arg(long)]
        verify: bool,
    },
}

/// How long orders hold; nothing: for ever.
#[derive(Clone, Copy)]
pub struct OrdersHold(Option<u32>);

fn keep_sessions(text: &str) -> std::result::Result<u16, String> {
    let days = yestrel_core::lapse::parse(text).map(|span| span.as_hours() / 24);
    let days = days.and_then(|days| u16::try_from(days).ok()).filter(|days| (1..=3650).contains(days));
    days.ok_or_else(|| "1d to 10y, such as 90d or 1y".into())
}

fn orders_hold(text: &str) -> std::result::Result<OrdersHold, String> {
    if text == "never" {
        return Ok(OrdersHold(None));
    }
    let span = crate::words::span(text)?;
    let seconds = u32::try_from(span.as_secs()).map_err(|_| "a duration such as 14d, or never".to_owned())?;
    if (3600..=10 * 365 * 86_400).contains(&seconds) {
        Ok(OrdersHold(Some(seconds)))
    } else {
        Err("from 1h to 10 years, or never".into())
    }
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
            let (made, recovery) = estate::create(&path, &name, passphrase.as_deref().map(String::as_str))?;
            output.did(&[
                ("estate", (&made.name).into()),
                ("path", path.display().to_string().into()),
                ("public key", made.public_key.to_string().into()),
                ("recovery key", recovery.to_string().into()),
            ]);
            output.say(&format!("made the estate {} at {}", made.name, path.display()));
            output.say(&format!("its orders are signed by {}", made.public_key.fingerprint()));
            say_recovery(output, &recovery);
            Ok(())
        }
        Command::Change { hold_addresses, orders_hold, keep_sessions } => {
            let hold = orders_hold.map(|OrdersHold(hold)| hold);
            let wish = estate::Wish { hold_addresses, orders_hold: hold, keep_sessions };
            let changed = estate::change(&mut global.context()?, &wish)?;
            output.say(&format!("changed the estate {}", changed.name));
            if orders_hold.is_some() {
                output.say("yestrel rollout   brings it to the gateways");
            }
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
                ("addresses held", format!("{} days", overview.estate.hold_addresses).into()),
                ("sessions kept", format!("{} days", overview.estate.keep_sessions).into()),
                (
                    "orders hold",
                    overview
                        .estate
                        .orders_hold
                        .map_or_else(|| "for ever".to_owned(), yestrel_core::order::for_seconds)
                        .into(),
                ),
            ];
            for (noun, count, said) in overview.counts {
                let text = output.format == crate::output::FormatName::Text && !said.is_empty() && count > 0;
                record.push((noun, if text { format!("{count}  ({said})").into() } else { count.into() }));
            }
            output.record(&record);
            Ok(())
        }
        Command::Save { file, recipient, passphrase_file, readable } => {
            let mut context = global.context()?;
            let protection = if readable {
                ask::confirm(
                    global.yes,
                    &format!(
                        "this writes to {}, for whoever can read it:\n  {}",
                        file.display(),
                        saved::SECRETS.join("\n  ")
                    ),
                )?;
                Protection::Readable
            } else if recipient.is_empty() {
                Protection::Passphrase(ask::new_passphrase("the saved estate", passphrase_file.as_deref())?)
            } else {
                Protection::Recipients(recipient)
            };
            let about = saved::save(&mut context, &file, &protection)?;
            output.say(&format!("saved the estate {} to {}", about.estate, file.display()));
            Ok(())
        }
        Command::Load { file, identity, passphrase_file, alone } => {
            let path = global.estate_path();
            let what = format!("the saved estate {}", file.display());
            let identity = identity.as_deref().map(crate::words::read_file).transpose()?;
            let identity = identity.map(|bytes| zeroize::Zeroizing::new(String::from_utf8_lossy(&bytes).into_owned()));
            let mut ask = ask::tries(&what, passphrase_file.as_deref());
            let about = saved::load(&path, &file, saved::Opening { passphrase: &mut ask, identity })?;
            output.say(&format!(
                "loaded the estate {} to {}, as it was saved on {}",
                about.estate,
                path.display(),
                yestrel_core::moment(about.saved)
            ));
            if alone {
                return Ok(());
            }
            say_caught(output, &saved::catch_up(&mut global.context()?)?)
        }
        Command::Renew { recovery: true, .. } => {
            let (written, adopted) = keys::renew_recovery(&mut global.context()?)?;
            say_recovery(output, &written);
            if adopted > 0 {
                output.say("yestrel rollout --again   tells the gateways");
            }
            Ok(())
        }
        Command::Renew { sealing: true, passphrase, passphrase_file, .. } => {
            ask::confirm(
                global.yes,
                "this seals every secret of the estate anew; backups from before open only with the key that they hold",
            )?;
            let passphrase = if passphrase || passphrase_file.is_some() {
                Some(ask::new_passphrase("the estate", passphrase_file.as_deref())?)
            } else {
                None
            };
            let mut context = global.context()?;
            let written = keys::renew_sealing(&mut context, passphrase.as_deref().map(String::as_str))?;
            output.say("every secret is sealed under a new key");
            say_recovery(output, &written);
            Ok(())
        }
        Command::Renew { recovery_file, .. } => {
            let recovery = recovery_file.map(|file| read_recovery(Some(&file))).transpose()?;
            ask::confirm(global.yes, "this makes a new signing key; gateways learn it by their next order")?;
            let (estate, gateways) = keys::renew(&mut global.context()?, recovery.as_ref())?;
            output.say(&format!("orders are signed by {}", estate.public_key.fingerprint()));
            if gateways > 0 {
                output.say(&format!(
                    "yestrel rollout   tells {}, by an order that both keys sign",
                    counted(gateways, "gateway")
                ));
            }
            Ok(())
        }
        Command::Recover { recovery_file, passphrase, passphrase_file } => {
            let recovery = read_recovery(recovery_file.as_deref())?;
            let passphrase = if passphrase || passphrase_file.is_some() {
                Some(ask::new_passphrase("the estate", passphrase_file.as_deref())?)
            } else {
                None
            };
            let estate = keys::recover(&global.estate_path(), &recovery, passphrase.as_deref().map(String::as_str))?;
            output.say(&format!("the sealing key of {} is there again", estate.name));
            Ok(())
        }
        Command::History { verify: true, .. } => {
            let estate::Verified { rows, signed, broken } = estate::verify_history(&mut global.context()?)?;
            match broken {
                None => {
                    output.say(&format!("all {rows} rows of the history are as they were written"));
                    output.say(&match signed {
                        Some(signed) if signed == rows => "the estate's key has signed them".to_owned(),
                        Some(signed) => format!(
                            "the estate's key has signed them up to row {signed}; the next command that needs the key signs the rest"
                        ),
                        None => "none of them is signed yet; the first command that needs the estate's key signs them".into(),
                    });
                    Ok(())
                }
                Some((number, how)) => Err(Problem::refused(format!("the history does not hold at row {number}"))
                    .why(how)
                    .try_("compare with a backup from before; whoever can write the estate's file could do this")),
            }
        }
        Command::Jobs { resume: Some(number), .. } => {
            let mut context = global.context()?;
            let (bar, stoppable) = (global.progress(0, "go on"), Stoppable::begin());
            let came = unfinished::resume(&mut context, number, &mut |at, whole| {
                bar.set_length(whole as u64);
                bar.set_position(at as u64);
                stoppable.goes_on()
            });
            bar.finish_and_clear();
            let (job, made) = came?;
            output.did(&[("job", (&job.name).into()), ("made", made.into())]);
            let what = match job.does() {
                Does::Import => format!("{made} users imported"),
                Does::Issue => format!("{made} made; yestrel rollout   lets them in"),
                Does::Renew => format!("{made} more are renewed; yestrel rollout   lets them in, and the old ones out"),
            };
            output.say(&format!("finished job {}: {what}", job.name));
            Ok(())
        }
        Command::Jobs { take_back: Some(number), .. } => {
            let mut context = global.context()?;
            let open = job::list(&mut context)?;
            let made = open.iter().find(|one| one.name == number.to_string()).map_or(0, |one| one.done);
            if made > 0 {
                ask::confirm(global.yes, &format!("this takes back what job {number} has made: {made} so far"))?;
            }
            let (bar, stoppable) = (global.progress(made, "take back"), Stoppable::begin());
            let came = unfinished::take_back(&mut context, number, &mut |at, whole| {
                bar.set_length(whole as u64);
                bar.set_position(at as u64);
                stoppable.goes_on()
            });
            bar.finish_and_clear();
            let (job, stay) = came?;
            let stay = match stay {
                0 => String::new(),
                many => format!("; {} with credentials by now stay", crate::words::counted(many, "user")),
            };
            output.say(&match job.does() {
                Does::Renew => format!("job {} is given up; what it has renewed stays", job.name),
                _ => format!("took job {} back{stay}", job.name),
            });
            Ok(())
        }
        Command::Jobs { .. } => {
            let mut context = global.context()?;
            let mut table =
                Table::new(&["number", "what", "who", "begun", "done", "of"], "every command on many is finished");
            for job in job::list(&mut context)? {
                table.row(vec![
                    job.name.into(),
                    job.what.into(),
                    job.who.into(),
                    job.begun.into(),
                    job.done.into(),
                    job.whole.into(),
                ]);
            }
            output.table(&table);
            Ok(())
        }
        Command::Undo { number, preview } => {
            let mut context = global.context()?;
            let undoing = undo::look(&mut context, number)?;
            if preview {
                let mut table =
                    Table::new(&["row", "what", "subject", "verdict", "why"], "there is nothing to take back");
                for row in &undoing.back {
                    let state = Cell::State(Grade::Good, "taken back".into());
                    table.row(vec![row.number.into(), (&row.what).into(), (&row.subject).into(), state, Cell::Missing]);
                }
                for (row, why, _) in &undoing.stays {
                    let state = Cell::State(Grade::Bad, "stays".into());
                    table.row(vec![row.number.into(), (&row.what).into(), (&row.subject).into(), state, why.into()]);
                }
                output.table(&table);
                return undo::refused(&undoing).map_or(Ok(()), Err);
            }
            if let Some(problem) = undo::refused(&undoing) {
                return Err(problem);
            }
            let said: Vec<_> =
                undoing.back.iter().map(|row| format!("  {}  {} {}", row.number, row.what, row.subject)).collect();
            let count = crate::words::counted(said.len(), "change");
            ask::confirm(
                global.yes,
                &format!("this takes back {count}, the newest first:\n{}", crate::words::folded(&said)),
            )?;
            let newest = undoing.newest;
            let done = undo::undo(&mut context, number, newest)?;
            output
                .did(&[("taken back", list(&done.back.iter().map(|row| row.number.to_string()).collect::<Vec<_>>()))]);
            output.say(&format!("took back {count}"));
            Ok(())
        }
        Command::History { last, verify: false, find, who, since } => {
            let mut table =
                Table::new(&["number", "at", "who", "what", "subject", "detail"], "nothing has happened yet");
            // What is looked for is looked for in all of it.
            let all = find.is_some() || who.is_some() || since.is_some();
            for row in estate::history(&mut global.context()?, if all { usize::MAX >> 1 } else { last })? {
                if who.as_ref().is_some_and(|who| !row.who.contains(who.as_str()))
                    || since.is_some_and(|since| row.at.parse::<jiff::Timestamp>().is_ok_and(|at| at < since))
                {
                    continue;
                }
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
            crate::listing::Listing { find, last: Some(last), ..Default::default() }.apply(&mut table)?;
            output.table(&table);
            Ok(())
        }
    }
}

/// The recovery key is shown once, whatever the format of the answer; in that of a program it is a field.
fn say_recovery(output: Output, written: &str) {
    if output.is_for_programs() {
        return;
    }
    output
        .write_always("the recovery key, for when the estate's own keys are lost; write it down, it is kept nowhere:");
    output.write_always(&format!("  {written}"));
}

fn read_recovery(file: Option<&Path>) -> Result<Secret> {
    keys::read(&ask::passphrase("the estate's recovery key", file)?)
}

fn say_caught(output: Output, all: &[Caught]) -> Result<()> {
    if all.is_empty() {
        return Ok(());
    }
    let mut table = Table::new(&["gateway", "order", "revoked since", "admitted since", "state", "why"], "");
    for caught in all {
        let (grade, state) = match &caught.problem {
            None if caught.to > caught.from => (Grade::Good, "caught up"),
            None => (Grade::Good, "nothing newer"),
            Some(_) => (Grade::Bad, "not asked"),
        };
        let why = caught.problem.as_ref().map(|problem| {
            let why = problem.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
            format!("{}{why}", problem.error)
        });
        table.row(vec![
            (&caught.gateway).into(),
            caught.to.into(),
            list(&caught.revoked),
            list(&caught.unknown),
            Cell::State(grade, state.into()),
            why.into(),
        ]);
    }
    output.table(&table);
    let mut unknown: Vec<_> = all.iter().flat_map(|one| one.unknown.clone()).collect();
    unknown.sort();
    unknown.dedup();
    if !unknown.is_empty() {
        output.note(&format!(
            "{} admitted after this backup{}; the next rollout asks before it throws them out; to let them in again, make device and credential anew: yestrel user arrive USER --device DEVICE",
            if unknown.len() == 1 { "1 device was".to_owned() } else { format!("{} devices were", unknown.len()) },
            crate::words::shown(&unknown)
        ));
    }
    let silent: Vec<_> = all.iter().filter(|one| one.problem.is_some()).map(|one| one.gateway.clone()).collect();
    if silent.is_empty() {
        return Ok(());
    }
    Err(Problem::partly(format!("{} could not be asked what they know that this backup does not", silent.join(", ")))
        .why("the estate is loaded; a gateway with newer orders refuses older ones, and says so")
        .try_("yestrel rollout --preview, when they answer"))
}
