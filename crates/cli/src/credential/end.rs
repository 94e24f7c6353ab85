//! Renewing what is due, and taking back.

use jiff::Timestamp;
use yestrel_actions::credential::{self, Whose};
use yestrel_actions::{Context, status};
use yestrel_core::Result;

use super::show::places;
use crate::ask;
use crate::global::Global;
use crate::output::{Table, list};
use crate::unhurried::Unhurried;
use crate::words::{self, shown};

pub(super) fn renew_due(
    global: &Global,
    context: &mut Context,
    by: Timestamp,
    preview: bool,
    everything: bool,
) -> Result<()> {
    let output = global.output();
    let due = credential::would_renew(context, by)?;
    for (names, why) in [
        (&due.by_request, "need a new request from their device: yestrel credential renew USER/DEVICE --request FILE"),
        (&due.others, "are not renewed by themselves: it would lock them out until they are handed over anew"),
    ] {
        if !names.is_empty() {
            output.note(&format!("{} {why}{}", names.len(), shown(names)));
        }
    }
    if preview {
        let mut table = Table::new(&["would be renewed"], "no certificate is due");
        due.certificates.iter().for_each(|name| table.row(vec![name.into()]));
        output.table(&table);
        return Ok(());
    }
    if due.certificates.is_empty() {
        output.say("no certificate is due");
        return Ok(());
    }
    if ask::somebody_there() {
        ask::confirm(
            global.yes,
            &format!(
                "this renews {} certificates; the old ones hold until their end{}",
                due.certificates.len(),
                shown(&due.certificates)
            ),
        )?;
    }
    let _unhurried = Unhurried::begin();
    let bar = global.progress(due.certificates.len() as u64, "renew");
    let done = credential::renew_due(context, by, &mut |at, _| bar.set_position(at as u64))?;
    bar.finish_and_clear();
    output.say(&format!("renewed {}{}", done.what.certificates.len(), shown(&done.what.certificates)));
    crate::rollout::carry(global, context, &done, everything)?;
    output.say("yestrel credential list --state ready   shows what waits to be handed over");
    Ok(())
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
        let inside = status::who_is_in(context, &would.iter().map(|one| one.device.clone()).collect())?.words();
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
