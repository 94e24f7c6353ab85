//! `yestrel session`

use std::collections::BTreeSet;
use std::path::PathBuf;

use clap::Subcommand;
use yestrel_actions::record::{self, To};
use yestrel_actions::secure::Secure;
use yestrel_actions::{people, session};
use yestrel_core::estate::Session;
use yestrel_core::syslog::Event;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::listing::{Listing, is_of};
use crate::output::{Cell, Table};

#[derive(Subcommand)]
pub enum Command {
    /// Who is connected now, as the gateways say
    #[command(
        after_help = "Example:\n  yestrel session list\n  yestrel session list --past\n  yestrel session list harbour --past --user mara --since 30d"
    )]
    List {
        /// Only at this gateway
        gateway: Option<String>,
        /// Sessions that are over, with why they ended, and sign-ins that were refused
        #[arg(long)]
        past: bool,
        /// Of these only the sign-ins that were refused, with what it was
        #[arg(long, requires = "past")]
        refused: bool,
        /// How often each reason was, in place of the lines
        #[arg(long, requires = "past")]
        reasons: bool,
        /// Only those of this user
        #[arg(long)]
        user: Option<String>,
        /// Only those of this device: USER/DEVICE
        #[arg(long, conflicts_with = "user")]
        device: Option<String>,
        /// Only those of this group's users
        #[arg(long, conflicts_with_all = ["user", "device"])]
        group: Option<String>,
        /// With --past: only what ended since this date or moment, or in the last so long
        #[arg(long, value_name = "WHEN", value_parser = crate::listing::since, requires = "past")]
        since: Option<jiff::Timestamp>,
        #[command(flatten)]
        listing: Listing,
    },
    /// Write the record for other programs, or tell it to one: who came in, from where, by which policy, why not, why no longer
    #[command(
        after_help = "Example:\n  yestrel session export --since 30d > record.jsonl\n  yestrel session export harbour --since 1d --as syslog --to unix:/dev/log\n  yestrel session export --since 1d --as syslog --to tls:log.skerry.example --trust log.pem\n\nsyslog is RFC 5424, over TLS as RFC 5425 says. Over TCP octets are counted (RFC 6587), and only to this machine, since it is in the clear."
    )]
    Export {
        /// Only of this gateway
        gateway: Option<String>,
        /// Only since this date or moment, or in the last so long
        #[arg(long, value_name = "WHEN", value_parser = crate::listing::since)]
        since: Option<jiff::Timestamp>,
        /// One JSON object a line, or messages of RFC 5424
        #[arg(long = "as", value_name = "FORM", value_parser = ["json-lines", "syslog"], default_value = "json-lines")]
        form: String,
        /// In place of standard output: unix:PATH, tcp:127.0.0.1:PORT, or over TLS tls:HOST:PORT
        #[arg(long, value_name = "PLACE", value_parser = place)]
        to: Option<To>,
        /// Over TLS: a file with certificates to trust at the other end, of who signed its own or that itself (PEM)
        #[arg(long, value_name = "FILE", requires = "to")]
        trust: Option<PathBuf>,
        /// Over TLS: a certificate to show there, with those that sign it (PEM)
        #[arg(long, value_name = "FILE", requires_all = ["trust", "key"])]
        certificate: Option<PathBuf>,
        /// Its private key (PEM)
        #[arg(long, value_name = "FILE", requires = "certificate")]
        key: Option<PathBuf>,
    },
    /// End a device's sessions; it may come in again
    #[command(after_help = "Example:\n  yestrel session end mara/laptop --words 'maintenance until noon'")]
    End {
        /// USER/DEVICE
        device: String,
        /// Only at this gateway
        #[arg(long)]
        gateway: Option<String>,
        /// What the device is shown
        #[arg(long, default_value = "", value_name = "WORDS")]
        words: String,
    },
}

fn place(text: &str) -> std::result::Result<To, String> {
    text.parse().map_err(|problem: Problem| problem.line())
}

/// Whose sessions are listed.
struct Whose {
    user: Option<String>,
    device: Option<String>,
    members: Option<BTreeSet<String>>,
}

impl Whose {
    fn is(&self, device: &str) -> bool {
        self.user.as_ref().is_none_or(|user| is_of(device, user))
            && self.device.as_ref().is_none_or(|one| one == device)
            && self.members.as_ref().is_none_or(|members| members.iter().any(|user| is_of(device, user)))
    }
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    let silent = match command {
        Command::List { gateway, past: false, user, device, group, listing, .. } => {
            let whose = Whose { user, device, members: people::members_of(&mut context, group.as_deref())? };
            let found = session::live(&mut context, gateway.as_deref())?;
            let nobody = match found.silent.is_empty() {
                true => "nobody is connected",
                false => "nobody is connected, as far as the gateways that answer know",
            };
            let columns = ["device", "gateway", "from", "inner", "since", "received", "sent", "last heard", "policy"];
            let mut table = Table::new(&columns, nobody).least(&["policy", "sent", "received", "inner", "from"]);
            let now = jiff::Timestamp::now();
            let mut asked = Vec::new();
            for (gateway, live) in found.sessions.into_iter().filter(|(_, live)| whose.is(&live.device)) {
                if live.asks {
                    asked.push(format!("{} at {gateway}", live.device));
                }
                table.row(vec![
                    live.device.into(),
                    gateway.into(),
                    live.from.into(),
                    live.inner.to_string().into(),
                    Cell::Ago(live.opened, now),
                    Cell::Bytes(live.received),
                    Cell::Bytes(live.sent),
                    Cell::Ago(live.last_heard, now),
                    live.policy.into(),
                ]);
            }
            listing.apply(&mut table)?;
            output.table(&table);
            if !asked.is_empty() {
                output
                    .note(&format!("nothing passes before a second factor is answered{}", crate::words::shown(&asked)));
            }
            found.silent
        }
        Command::List { gateway, past: true, reasons: true, refused, user, device, group, since, listing } => {
            let whose = Whose { user, device, members: people::members_of(&mut context, group.as_deref())? };
            let found = session::past(&mut context, gateway.as_deref(), since)?;
            let mut table = Table::new(&["what", "reason", "times"], "nothing has ended, and nobody was refused");
            let wanted = |past: &&Session| whose.is(&past.device) && (!refused || session::was_refused(past));
            let sessions = found.sessions.iter().map(|(_, past)| past).filter(wanted);
            for one in record::counts(sessions) {
                table.row(vec![one.what.word().into(), one.reason.into(), Cell::Number(one.times)]);
            }
            listing.apply(&mut table)?;
            output.table(&table);
            found.silent
        }
        Command::Export { gateway, since, form, to, trust, certificate, key } => {
            let secure = trust.map(|trust| Secure { trust, own: certificate.zip(key) });
            let found = record::events(&mut context, gateway.as_deref(), since)?;
            let line = |event: &Event| if form == "syslog" { event.syslog() } else { event.json() };
            let lines: Vec<String> = found.sessions.iter().map(|(_, event)| line(event)).collect();
            match to {
                Some(to) => {
                    let told = record::tell(&lines, &to, secure.as_ref())?;
                    output.say(&format!("told {}", crate::words::counted(told, "event")));
                }
                None => lines.iter().for_each(|line| output.write(&format!("{line}\n"))),
            }
            found.silent
        }
        Command::List { gateway, past: true, refused: true, user, device, group, since, listing, .. } => {
            let whose = Whose { user, device, members: people::members_of(&mut context, group.as_deref())? };
            let found = session::past(&mut context, gateway.as_deref(), since)?;
            let mut table =
                Table::new(&["device", "gateway", "from", "at", "method", "reason"], "nobody has been refused yet");
            let wanted = |past: &Session| {
                session::was_refused(past) && whose.is(&past.device) && since.is_none_or(|since| past.opened >= since)
            };
            for (gateway, past) in found.sessions.into_iter().filter(|(_, past)| wanted(past)) {
                table.row(vec![
                    past.device.into(),
                    gateway.into(),
                    past.from_address.into(),
                    past.opened.into(),
                    past.method.into(),
                    past.reason.into(),
                ]);
            }
            listing.apply(&mut table)?;
            output.table(&table);
            found.silent
        }
        Command::List { gateway, past: true, user, device, group, since, listing, .. } => {
            let whose = Whose { user, device, members: people::members_of(&mut context, group.as_deref())? };
            let found = session::past(&mut context, gateway.as_deref(), since)?;
            let mut table = Table::new(
                &[
                    "device", "gateway", "from", "inner", "opened", "ended", "received", "sent", "method", "policy",
                    "asked", "reason",
                ],
                "no session has ended yet",
            )
            .least(&["asked", "method", "policy", "sent", "received", "inner", "from"]);
            let late = |past: &Session| since.is_none_or(|since| past.ended.is_some_and(|ended| ended >= since));
            for (gateway, past) in found.sessions.into_iter().filter(|(_, past)| whose.is(&past.device) && late(past)) {
                let inner = if past.inner.is_unspecified() { Cell::Missing } else { past.inner.to_string().into() };
                table.row(vec![
                    past.device.into(),
                    gateway.into(),
                    past.from_address.into(),
                    inner,
                    past.opened.into(),
                    past.ended.into(),
                    Cell::Bytes(past.received),
                    Cell::Bytes(past.sent),
                    past.method.into(),
                    past.policy.into(),
                    past.asked.map(usize::from).into(),
                    // Last, because it may be long.
                    past.reason.into(),
                ]);
            }
            listing.apply(&mut table)?;
            output.table(&table);
            found.silent
        }
        Command::End { device, gateway, words } => {
            ask::confirm(global.yes, &format!("this ends the sessions of {device} now"))?;
            let ended = session::end(&mut context, &device, gateway.as_deref(), &words)?;
            output.say(&match ended.ended {
                0 if ended.silent.is_empty() => format!("{device} was not connected"),
                0 => format!("{device} was not connected, as far as the gateways that answer know"),
                1 => format!("ended 1 session of {device}"),
                many => format!("ended {many} sessions of {device}"),
            });
            ended.silent
        }
    };
    if silent.is_empty() {
        return Ok(());
    }
    let names: Vec<_> = silent.iter().map(|(gateway, _)| gateway.as_str()).collect();
    let whys: Vec<_> =
        silent.iter().map(|(_, problem)| problem.why.clone().unwrap_or_else(|| problem.error.clone())).collect();
    Err(Problem::partly(format!("{} did not answer", names.join(", ")))
        .why(whys.join("; "))
        .try_("the same again later: agents keep what they see until it is collected"))
}
