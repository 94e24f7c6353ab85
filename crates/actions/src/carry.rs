//! Bringing a change to the gateways that it affects, within the command that made it. Every change answers which gateways those
//! are; only to them it is carried.

use std::collections::BTreeSet;

use yestrel_core::Result;
use yestrel_core::estate::Gateway;

pub use crate::changed::Changed;
use crate::context::Context;
use crate::rollout::plan::{self, Plan};
use crate::rollout::{self, How, Outcome};

/// Carries what waits for these gateways to those of them that have an order. A rollout of a gateway is always whole: whatever
/// else was waiting there goes with it, and is told to `before` first.
///
/// # Errors
/// The estate cannot be written. What fails at a gateway stands in its outcome.
pub fn carry(
    context: &mut Context,
    gateways: &BTreeSet<String>,
    before: &mut dyn FnMut(&[Plan]),
) -> Result<Vec<Outcome>> {
    let affected: Vec<String> = context.read(|book| {
        let mut affected = Vec::new();
        for name in gateways {
            affected.extend(book.get::<Gateway>(name)?.filter(|gateway| gateway.order_number > 0).map(|one| one.name));
        }
        Ok(affected)
    })?;
    if affected.is_empty() {
        return Ok(Vec::new());
    }
    let plans: Vec<_> = plan::remembered(context, &affected)?.into_iter().filter(|plan| !plan.nothing_to_do).collect();
    before(&plans);
    rollout::rollout(context, &affected, How::default())
}
