//! Which order may follow which, and which could cut its author off.

use super::renaming::renames;
use super::{Content, Order, OrderListener};
use crate::keys::PublicKey;
use crate::{Problem, Result};

/// Whether an agent that stands at `current` may take `next`. The same order again is taken.
///
/// # Errors
/// An older number, another order under the same number, another gateway (by name and by key: one that was renamed has its key still), or a
/// successor of another predecessor.
pub fn may_follow(
    current: Option<(&Order, &str)>,
    next: &Order,
    next_hash: &str,
    gateway: &str,
    key: &PublicKey,
) -> Result<()> {
    if next.content.gateway != gateway && next.content.public_key != *key {
        return Err(Problem::refused(format!("the order is for the gateway {}", next.content.gateway))
            .why(format!("this agent is the gateway {gateway}")));
    }
    let Some((current, hash)) = current else { return Ok(()) };
    if next.number < current.number {
        return Err(Problem::refused(format!(
            "order {} is older than order {}, which is in force",
            next.number, current.number
        ))
        .why("an agent never goes back; two copies of the estate may be in use")
        .try_("work with the newest copy of the estate"));
    }
    let split = (next.number == current.number && next_hash != hash)
        || (next.number == current.number + 1 && next.previous != hash);
    if split {
        return Err(Problem::refused(format!(
            "order {} does not continue order {}, which is in force",
            next.number, current.number
        ))
        .why("somebody else rolled out another order under that number: two copies of the estate are in use")
        .try_("work with the copy whose orders the gateway has"));
    }
    Ok(())
}

/// Listeners of `old` that do not go on in `new`, under whatever name: whoever is in there is thrown out.
#[must_use]
pub fn closed<'a>(old: &'a Content, new: &Content) -> Vec<&'a str> {
    let names = renames(old, new);
    let goes_on = |one: &OrderListener| {
        let name = names.get(&one.name).unwrap_or(&one.name);
        let now = new.listeners.iter().find(|other| other.name == *name);
        now.is_some_and(|other| one.serves == other.serves && one.tunnel.goes_on_as(&other.tunnel))
    };
    old.listeners.iter().filter(|one| !goes_on(one)).map(|one| one.name.as_str()).collect()
}

/// Whether going from `old` to `new` touches firewall, addresses or ports, so that it could cut its author off. Admitting,
/// withdrawing and revoking do not.
#[must_use]
pub fn touches_the_way_in(old: Option<&Content>, new: &Content) -> bool {
    let Some(old) = old else { return true };
    let way_in = |content: &Content| {
        // Whatever they are called.
        let mut listeners: Vec<_> =
            content.listeners.iter().map(|l| (l.serves.clone(), l.pools(), l.reach.clone())).collect();
        listeners.sort();
        let publish = content.publish.as_ref().map(|publish| publish.port);
        (listeners, content.networks.clone(), content.masquerade, content.outward.clone(), content.metrics, publish)
    };
    way_in(old) != way_in(new)
}
