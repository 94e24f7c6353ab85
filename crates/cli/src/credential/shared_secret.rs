//! Shared secrets, by the same verbs as the other kinds.

use std::path::Path;

use yestrel_actions::Context;
use yestrel_actions::credential::{handover, shared_secret as shared};
use yestrel_core::estate::shared_secret::SharedSecretState;
use yestrel_core::findings::Grade;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, Output, Table};

pub(super) fn hand_over(global: &Global, context: &mut Context, holder: &str, to: Option<&Path>) -> Result<()> {
    let output = global.output();
    ask::confirm(global.yes, &format!("this reveals the shared secret of {holder}, once"))?;
    shared::hand_over(context, holder, |secret, text| match to {
        Some(path) => handover::write_bytes(path, format!("{text}\n").as_bytes()),
        None => {
            output.record(&[("name", (&secret.name).into()), ("made", secret.issued.into()), ("secret", text.into())]);
            Ok(())
        }
    })
}

pub(super) fn list(output: Output, context: &mut Context) -> Result<()> {
    let mut table = Table::new(
        &["name", "state", "made", "age", "held by", "until", "remark"],
        "no shared secrets; yestrel credential issue SITE+SITE --kind shared-secret",
    );
    for standing in shared::list(context)? {
        let worst = standing.findings.iter().max_by_key(|one| one.grade as u8);
        let grade = match standing.state {
            SharedSecretState::Revoked | SharedSecretState::Ended => Grade::Bad,
            _ => worst.map_or(Grade::Good, |one| one.grade),
        };
        let remark = worst.filter(|one| one.grade != Grade::Good).map(|one| one.words.clone());
        table.row(vec![
            standing.secret.name.into(),
            Cell::State(grade, standing.state.word().into()),
            standing.secret.issued.into(),
            format!("{} d", standing.age_days).into(),
            standing.count.into(),
            standing.secret.until.into(),
            standing.secret.reason.or(remark).into(),
        ]);
    }
    output.table(&table);
    Ok(())
}

pub(super) fn show(output: Output, context: &mut Context, holder: &str) -> Result<()> {
    let all = shared::list(context)?;
    let newest = all.into_iter().rfind(|standing| standing.secret.holder == holder || standing.secret.name == holder);
    let standing = newest.ok_or_else(|| {
        Problem::words(format!("{holder} has no shared secret")).try_("yestrel credential list --kind shared-secret")
    })?;
    output.findings(&format!("{}  {}", standing.secret.name, standing.state.word()), &standing.findings);
    Ok(())
}
