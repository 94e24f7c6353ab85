//! Policies follow what they name, and nothing that one names is removed.

use yestrel_core::estate::{Policy, Registry};
use yestrel_core::policy::Asks;
use yestrel_core::{Problem, Result};
use yestrel_store::Book;

use super::asked::in_order;

/// What was called `old` is called `new` in every policy.
pub(crate) fn follow(book: &Book<'_>, asks: Asks, old: &str, new: &str) -> Result<()> {
    for mut registry in book.all::<Registry>()? {
        if renames(registry.claims.get_mut(&asks), old, new) {
            book.put::<Registry>(&registry)?;
        }
    }
    for mut policy in in_order(book)? {
        let mut named = false;
        for all in [&mut policy.wants, &mut policy.bars] {
            named |= renames(all.get_mut(&asks), old, new);
        }
        if named {
            book.put::<Policy>(&policy)?;
        }
    }
    Ok(())
}

fn renames(values: Option<&mut Vec<String>>, old: &str, new: &str) -> bool {
    let Some(values) = values else { return false };
    let Some(value) = values.iter_mut().find(|value| *value == old) else { return false };
    new.clone_into(value);
    values.sort();
    true
}

/// Refuses to remove what a policy or a registry names.
///
/// # Errors
/// One does.
pub(crate) fn still_named(book: &Book<'_>, asks: Asks, name: &str) -> Result<()> {
    let claims = |one: &Registry| one.claims.get(&asks).is_some_and(|all| all.iter().any(|value| value == name));
    if let Some(registry) = book.all::<Registry>()?.into_iter().find(claims) {
        return Err(Problem::refused(format!(
            "the {asks} {name} cannot be removed: the registry {} claims by it",
            registry.name
        ))
        .why("a claim on what is not there would leave sign-ins to others than it says")
        .try_(format!(
            "yestrel registry change {} --claim {asks}=VALUE   with others, or with no value",
            registry.name
        )));
    }
    let names = |policy: &Policy| {
        let all = [&policy.wants, &policy.bars].into_iter().filter_map(|all| all.get(&asks));
        all.flatten().any(|value| value == name)
    };
    let Some(policy) = in_order(book)?.into_iter().find(names) else { return Ok(()) };
    let which = if policy.wants.get(&asks).is_some_and(|all| all.iter().any(|value| value == name)) {
        "--when"
    } else {
        "--unless"
    };
    Err(Problem::refused(format!("the {asks} {name} cannot be removed: the policy {} names it", policy.name))
        .why("a condition on what is not there would let in, or keep out, others than it says")
        .try_(format!("yestrel policy change {} {which} {asks}=VALUE   with others, or with no value", policy.name)))
}
