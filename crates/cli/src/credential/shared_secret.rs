//! Shared secrets, by the same verbs as the other kinds.

use std::path::Path;

use yestrel_actions::{Context, handover, shared};
use yestrel_core::facts::Grade;
use yestrel_core::{Problem, Result};

use crate::output::{Cell, Output, Table};
use crate::{Global, ask};

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
    for view in shared::list(context)? {
        let worst = view.findings.iter().max_by_key(|one| one.grade as u8);
        let grade = match view.state {
            "revoked" | "ended" => Grade::Bad,
            _ => worst.map_or(Grade::Good, |one| one.grade),
        };
        let remark = worst.filter(|one| one.grade != Grade::Good).map(|one| one.words.clone());
        table.row(vec![
            view.secret.name.into(),
            Cell::State(grade, view.state.into()),
            view.secret.issued.into(),
            format!("{} d", view.age_days).into(),
            view.count.into(),
            view.secret.until.into(),
            view.secret.reason.or(remark).into(),
        ]);
    }
    output.table(&table);
    Ok(())
}

pub(super) fn show(output: Output, context: &mut Context, holder: &str) -> Result<()> {
    let all = shared::list(context)?;
    let newest = all.into_iter().rfind(|view| view.secret.holder == holder || view.secret.name == holder);
    let view = newest.ok_or_else(|| {
        Problem::words(format!("{holder} has no shared secret")).try_("yestrel credential list --kind shared-secret")
    })?;
    output.findings(&format!("{}  {}", view.secret.name, view.state), &view.findings);
    Ok(())
}
