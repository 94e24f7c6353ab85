//! How credentials are shown: one by one, and in lists.

use jiff::Timestamp;
use yestrel_actions::Context;
use yestrel_actions::credential::{self, CredentialStanding, forms};
use yestrel_core::Result;
use yestrel_core::estate::{Credential, CredentialKind, CredentialState, NoticeMade};
use yestrel_core::findings::Grade;

use crate::output::{Cell, Output, list};

fn ways(credential: &Credential) -> Vec<String> {
    credential.ways().iter().map(|way| format!("{} {}", way.listener, way.inner)).collect()
}

pub(super) fn state(standing: &CredentialStanding) -> Cell {
    let grade = match standing.state {
        CredentialState::Revoked | CredentialState::Expired => Grade::Bad,
        _ if standing.suspended || standing.unfinished || !standing.stale.is_empty() => Grade::Poor,
        _ => Grade::Good,
    };
    let mut word = standing.state.word().to_owned();
    if standing.suspended && grade != Grade::Bad {
        word.push_str(", suspended");
    }
    if standing.unfinished && grade != Grade::Bad {
        word.push_str(", does not count yet");
    }
    if !standing.stale.is_empty() {
        word.push_str(", stale");
    }
    match &standing.credential.notice {
        Some(made) if standing.credential.revoked.is_none() && made.taken.is_none() => {
            word.push_str(&format!(", notice {} not taken yet", made.number));
        }
        Some(made) if standing.credential.revoked.is_none() => {
            word.push_str(&format!(", notice {} taken", made.number))
        }
        _ => {}
    }
    Cell::State(grade, word)
}

/// A way notice and whether it has arrived, in a line.
fn notice(made: &NoticeMade) -> String {
    let at: Vec<_> = made.at.iter().cloned().collect();
    match made.taken {
        Some(taken) => format!("{}, taken on {}", made.number, yestrel_core::moment(taken)),
        None if at.is_empty() => format!("{}, made on {}", made.number, yestrel_core::moment(made.made)),
        None => format!("{}, made on {}; {} brings it", made.number, yestrel_core::moment(made.made), at.join(", ")),
    }
}

/// Where a credential may come in.
pub(super) fn places(credential: &Credential) -> Vec<String> {
    match credential.kind() {
        CredentialKind::KeyPair => ways(credential),
        _ => credential.anywhere_at().to_vec(),
    }
}

pub(super) fn remark(standing: &CredentialStanding, now: Timestamp) -> Option<String> {
    let credential = &standing.credential;
    let locked = credential.account().and_then(|account| account.locked(now));
    if let Some(until) = locked {
        return Some(format!("locked out until {}", yestrel_core::moment(until)));
    }
    if credential.superseded().is_some() && credential.revoked.is_none() {
        return Some("renewed".into());
    }
    credential.reason.clone().or_else(|| Some(standing.stale.join("; ")).filter(|stale| !stale.is_empty()))
}

pub(super) fn show(output: Output, context: &mut Context, name: &str, kind: Option<CredentialKind>) -> Result<()> {
    let standing = credential::show(context, name, kind)?;
    let now = context.now;
    let state = state(&standing);
    let credential = standing.credential;
    let mut record = vec![
        ("name", Cell::from(credential.name.clone())),
        ("device", (&credential.device).into()),
        ("kind", credential.kind().words().into()),
        ("state", state),
    ];
    match (credential.certificate(), credential.account()) {
        (Some(held), _) => {
            let certificate = forms::certificate(context, &held.serial)?;
            record.extend([
                ("signed by", certificate.authority.into()),
                ("serial", (&held.serial).into()),
                ("fingerprint", certificate.fingerprint.into()),
                ("names", list(&certificate.names)),
                ("made of", certificate.strength.into()),
                ("list says", certificate.state.into()),
            ]);
        }
        (None, Some(account)) => {
            let second = account.second_factor.as_ref();
            record.extend([
                ("account", (&account.name).into()),
                ("second factor", second.is_some().into()),
                ("form for ms-chap-v2", account.ms_chap.is_some().into()),
                ("failures", account.failures.into()),
                ("locked out until", account.locked(now).into()),
            ]);
        }
        (None, None) => {
            record.push(("key", credential.identity.fingerprint().into()));
            record.push(("second factor", credential.key_factor().is_some().into()));
        }
    }
    record.extend([
        ("made", if credential.made_on_device() { "on the device" } else { "in the estate" }.into()),
        ("once", credential.once.into()),
        ("ways", list(&places(&credential))),
        ("address", credential.fixed().map(|way| format!("{} at {}", way.inner, way.listener)).into()),
        ("issued", credential.issued.into()),
        ("valid from", credential.valid_from.into()),
        ("expires", credential.expires.into()),
        ("renewed", credential.superseded().into()),
        ("handed over", credential.handed_over.into()),
        ("first used", credential.first_used.into()),
        ("last used", credential.last_used.into()),
        ("revoked", credential.revoked.into()),
        ("reason", credential.reason.clone().into()),
        ("stale", list(&standing.stale)),
        ("notice", credential.notice.as_ref().map(notice).into()),
    ]);
    output.record(&record);
    Ok(())
}
