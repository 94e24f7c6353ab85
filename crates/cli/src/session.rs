//! `yestrel session`

use std::collections::BTreeSet;

use clap::Subcommand;
use yestrel_actions::{people, session};
use yestrel_core::estate::Session;
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
            for (gateway, live) in found.sessions.into_iter().filter(|(_, live)| whose.is(&live.device)) {
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
            found.silent
        }
        Command::List { gateway, past: true, refused: true, user, device, group, since, listing } => {
            let whose = Whose { user, device, members: people::members_of(&mut context, group.as_deref())? };
            let found = session::past(&mut context, gateway.as_deref())?;
            let mut table = Table::new(&["device", "gateway", "from", "at", "reason"], "nobody has been refused yet");
            let wanted = |past: &Session| {
                session::was_refused(past) && whose.is(&past.device) && since.is_none_or(|since| past.opened >= since)
            };
            for (gateway, past) in found.sessions.into_iter().filter(|(_, past)| wanted(past)) {
                table.row(vec![
                    past.device.into(),
                    gateway.into(),
                    past.from_address.into(),
                    past.opened.into(),
                    past.reason.into(),
                ]);
            }
            listing.apply(&mut table)?;
            output.table(&table);
            found.silent
        }
        Command::List { gateway, past: true, user, device, group, since, listing, .. } => {
            let whose = Whose { user, device, members: people::members_of(&mut context, group.as_deref())? };
            let found = session::past(&mut context, gateway.as_deref())?;
            let mut table = Table::new(
                &["device", "gateway", "from", "inner", "opened", "ended", "reason", "received", "sent", "policy"],
                "no session has ended yet",
            )
            .least(&["policy", "sent", "received", "inner", "from"]);
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
                    past.reason.into(),
                    Cell::Bytes(past.received),
                    Cell::Bytes(past.sent),
                    past.policy.into(),
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
