//! Issuing to a group, and what is said of what was issued.

use yestrel_actions::Context;
use yestrel_actions::credential::{self, Wish};
use yestrel_core::Result;
use yestrel_core::estate::{Credential, CredentialKind};

use super::show::places;
use crate::ask;
use crate::global::Global;
use crate::output::{Output, Table, list};
use crate::stoppable::Stoppable;
use crate::words::shown;

pub(super) fn say_handover(output: Output, made: &Credential) {
    let device = &made.device;
    output.say(&match made.kind() {
        CredentialKind::KeyPair => format!("yestrel credential handover {device} --to FILE   gives it to the device"),
        CredentialKind::Certificate => format!(
            "yestrel credential handover {} --as pkcs12|pem|apple|windows|android --to FILE   gives it to the device",
            made.name
        ),
        CredentialKind::Password => format!("yestrel credential handover {}   tells its holder", made.name),
    });
}

pub(super) fn say_issued(output: Output, issued: &Credential) {
    let places = places(issued);
    let at = if places.is_empty() { String::new() } else { format!(" for {}", places.join(", ")) };
    output.did(&[
        ("credential", (&issued.name).into()),
        ("kind", issued.kind().word().into()),
        ("at", list(&places)),
        ("expires", issued.expires.into()),
        ("account", issued.account().map(|account| account.name.clone()).into()),
    ]);
    output.say(&format!("issued {}{at}", issued.name));
    if let Some(end) = issued.expires {
        output.say(&format!("it ends on {}", yestrel_core::moment(end)));
    }
    if let Some(account) = issued.account() {
        output.say(&format!("it signs in as {}", account.name));
        if account.ms_chap.is_some() {
            output.note("a second form of the password is kept, sealed: a registry asks for ms-chap-v2");
        }
        if account.generated.is_none() && account.second_factor.is_none() {
            return;
        }
    }
    if issued.key_factor().is_some() {
        output.say(&format!(
            "yestrel credential handover {} --second-factor   tells what its authenticator scans, once",
            issued.device
        ));
    }
    match issued.kind() {
        CredentialKind::KeyPair => output.say(&format!(
            "yestrel rollout   lets it in;  yestrel credential handover {} --to FILE   gives it to the device",
            issued.device
        )),
        _ => say_handover(output, issued),
    }
}

pub(super) fn for_group(
    global: &Global,
    context: &mut Context,
    group: &str,
    kind: CredentialKind,
    wish: impl FnOnce() -> Result<Wish>,
) -> Result<()> {
    let output = global.output();
    let would = credential::would_issue(context, group, kind)?;
    let words = kind.words();
    if !would.have_one.is_empty() {
        output.note(&format!("{} have a {words} already{}", would.have_one.len(), shown(&would.have_one)));
    }
    if !would.without_device.is_empty() {
        output.note(&format!("{} have no device{}", would.without_device.len(), shown(&would.without_device)));
    }
    if would.done.is_empty() {
        output.say(&format!("nobody in {group} needs a {words}"));
        return Ok(());
    }
    let count = would.done.len();
    ask::confirm(global.yes, &format!("this issues {count} of kind {}{}", kind.word(), shown(&would.done)))?;
    let wish = wish()?;
    let bar = global.progress(count as u64, "issue");
    let stoppable = Stoppable::begin();
    let many = credential::issue_group(context, group, &wish, would, &mut |at, _| {
        bar.set_position(at as u64);
        stoppable.goes_on()
    });
    bar.finish_and_clear();
    let many = many?;
    if output.is_for_programs() {
        let mut table = Table::new(&["credential", "kind"], "");
        many.done.iter().for_each(|device| table.row(vec![device.into(), kind.word().into()]));
        output.table(&table);
    }
    output.say(&format!("issued {}{}", many.done.len(), shown(&many.done)));
    output.say("yestrel rollout   lets them in");
    Ok(())
}
