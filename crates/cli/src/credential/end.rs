//! Renewing what is due, and taking back.

use jiff::Timestamp;
use yestrel_actions::credential::{self, Whose};
use yestrel_actions::{Context, inside};
use yestrel_core::estate::CredentialKind;
use yestrel_core::{Problem, Result};

use super::show::places;
use crate::ask;
use crate::global::Global;
use crate::output::{Table, list};
use crate::stoppable::Stoppable;
use crate::unhurried::Unhurried;
use crate::words::{self, shown};

pub(super) fn renew_due(
    global: &Global,
    context: &mut Context,
    (by, kind): (Timestamp, CredentialKind),
    preview: bool,
    everything: bool,
) -> Result<()> {
    let output = global.output();
    let due = credential::would_renew(context, by, kind)?;
    for (names, why) in [
        (&due.by_device, "were made on their device, which must make a new one: yestrel credential renew USER/DEVICE"),
        (&due.others, "of other kinds are due as well, and renewed with --kind KIND"),
    ] {
        if !names.is_empty() {
            output.note(&format!("{} {why}{}", names.len(), shown(names)));
        }
    }
    let nothing = format!("no {} is due", kind.words());
    if preview {
        let mut table = Table::new(&["would be renewed"], &nothing);
        due.renewed.iter().for_each(|name| table.row(vec![name.into()]));
        output.table(&table);
        return Ok(());
    }
    if due.renewed.is_empty() {
        // One that was broken off at its very end is finished by this.
        credential::renew_due(context, by, kind, &mut |_, _| true)?;
        output.say(&nothing);
        return Ok(());
    }
    let count = words::counted(due.renewed.len(), kind.words());
    let effect = match kind {
        CredentialKind::Certificate => "the old ones hold until their end",
        CredentialKind::KeyPair => "sessions end now, and their devices are out until they have the new handovers",
        CredentialKind::Password => {
            "the old passwords hold no more, and their devices are out until they have the new ones"
        }
    };
    // What locks nobody out a timer may do.
    if kind != CredentialKind::Certificate || ask::somebody_there() {
        ask::confirm(global.yes, &format!("this renews {count}; {effect}{}", shown(&due.renewed)))?;
    }
    let (bar, stoppable) = (global.progress(due.renewed.len() as u64, "renew"), Stoppable::begin());
    let done = credential::renew_due(context, by, kind, &mut |at, _| {
        bar.set_position(at as u64);
        stoppable.goes_on()
    });
    bar.finish_and_clear();
    let done = done?;
    output.did(&[("renewed", list(&done.what.renewed))]);
    output.say(&format!("renewed {}{}", done.what.renewed.len(), shown(&done.what.renewed)));
    crate::rollout::carry_beside(global, context, &done, everything)?;
    output.say("yestrel credential list --state ready   shows what waits to be handed over");
    match done.what.left {
        0 => Ok(()),
        left => Err(Problem::partly(format!("{} are renewed, {left} are not", done.what.renewed.len()))
            .why("it was stopped")
            .try_("the same command again   goes on with those that are left")),
    }
}

pub(super) fn revoke(
    global: &Global,
    context: &mut Context,
    whose: &Whose,
    reason: &str,
    preview: bool,
    everything: bool,
) -> Result<()> {
    let output = global.output();
    let would = credential::would_revoke(context, whose)?;
    let names: Vec<_> = would.iter().map(|one| one.name.clone()).collect();
    if preview {
        let mut table = Table::new(&["name", "kind", "ways", "last used"], "nothing would be taken back");
        for one in &would {
            table.row(vec![(&one.name).into(), one.kind().word().into(), list(&places(one)), one.last_used.into()]);
        }
        output.table(&table);
        return Ok(());
    }
    let what = match &names[..] {
        [one] => one.clone(),
        _ => format!("{} credentials{}", names.len(), shown(&names)),
    };
    credential::check_reason(reason)?;
    if !global.yes {
        let inside = inside::who_is_in(context, &would.iter().map(|one| one.device.clone()).collect())?.words();
        let used = words::last_used(&would, context.now);
        let ends = format!("sessions end now, with the reason {reason:?}");
        ask::confirm(false, &format!("this takes {what} back for good: {ends}; {used}; {inside}"))?;
    }
    let _unhurried = Unhurried::begin();
    let bar = global.progress(names.len() as u64, "revoke");
    let ended = credential::revoke(context, whose, reason, &mut |at, _| bar.set_position(at as u64))?;
    bar.finish_and_clear();
    match &names[..] {
        [one] => output.say(&format!("revoked {one}")),
        _ => output.say(&format!("revoked {}{}", names.len(), shown(&names))),
    }
    for (authority, until) in &ended.what.unsigned {
        words::say_unsigned(output, authority, *until);
    }
    crate::rollout::carry(global, context, &ended, everything)
}
