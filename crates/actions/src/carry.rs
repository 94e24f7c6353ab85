//! Bringing a change to the gateways that it affects, within the command that made it. Every change answers which gateways those
//! are; only to them it is carried.

use yestrel_core::estate::Gateway;
use yestrel_core::{Problem, Result};

pub use crate::changed::Changed;
use crate::context::Context;
use crate::rollout::plan::{self, Plan};
use crate::rollout::{self, How, Outcome};

/// Carries what a change is about to the gateways that it affects, those of them that have an order, and to those that were not reached
/// before; `everything`: also whatever else waits for them. What would be done is told to `before` first.
///
/// # Errors
/// The estate cannot be written. What fails at a gateway stands in its outcome.
pub fn carry<T>(
    context: &mut Context,
    changed: &Changed<T>,
    everything: bool,
    before: &mut dyn FnMut(&[Plan]),
) -> Result<Vec<Outcome>> {
    let affected: Vec<String> = context.read(|book| {
        let mut affected = Vec::new();
        for gateway in book.all::<Gateway>()?.into_iter().filter(|gateway| gateway.order_number > 0) {
            let owed = || Ok::<_, Problem>(book.newest_kept(&gateway.name)?.is_some_and(|one| one.received.is_none()));
            if changed.gateways.contains(&gateway.name) || owed()? {
                affected.push(gateway.name);
            }
        }
        Ok(affected)
    })?;
    if affected.is_empty() {
        return Ok(Vec::new());
    }
    let mut only = (!everything).then(|| changed.only.clone());
    let mut plans = plan::remembered(context, &affected, only.as_ref())?;
    if plans.iter().any(|plan| !plan.unknown.is_empty()) {
        // Whoever would be thrown out by it is asked about by a rollout.
        only = Some(changed.only.clone());
        plans = plan::remembered(context, &affected, only.as_ref())?;
    }
    let (quiet, plans): (Vec<_>, Vec<_>) = plans.into_iter().partition(|plan| plan.nothing_to_do);
    before(&plans);
    rollout::planned(context, &affected, &How { only, ..How::default() }, &quiet)
}

/// How many changes still wait for each of these gateways.
///
/// # Errors
/// The estate cannot be read.
pub fn waiting<T>(context: &mut Context, changed: &Changed<T>) -> Result<Vec<(String, usize)>> {
    let names: Vec<_> = context.read(|book| {
        let all = book.all::<Gateway>()?.into_iter();
        let there = all.filter(|one| one.order_number > 0 && changed.gateways.contains(&one.name));
        Ok(there.map(|one| one.name).collect())
    })?;
    if names.is_empty() {
        return Ok(Vec::new());
    }
    let plans = plan::remembered(context, &names, None)?;
    Ok(plans.into_iter().filter(|plan| !plan.nothing_to_do).map(|plan| (plan.gateway, plan.changes.len())).collect())
}
