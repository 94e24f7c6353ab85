//! An order before a rename, told as after it.

use std::borrow::Cow;
use std::collections::BTreeMap;

use super::{Admit, Content, OrderListener};
use crate::tunnel::Tunnel;

/// Listeners that are called something else: by their old names, the new ones. With the same pools, which no other listener has, and of the same
/// kind they are the same, whatever else of them changes with it.
#[must_use]
pub fn renames(old: &Content, new: &Content) -> BTreeMap<String, String> {
    let has = |content: &Content, name: &str| content.listeners.iter().any(|listener| listener.name == name);
    let is = |a: &OrderListener, b: &OrderListener| a.pools() == b.pools() && a.tunnel.word() == b.tunnel.word();
    let mut names = BTreeMap::new();
    for before in old.listeners.iter().filter(|before| !has(new, &before.name)) {
        let now = new.listeners.iter().find(|now| !has(old, &now.name) && is(before, now));
        names.extend(now.map(|now| (before.name.clone(), now.name.clone())));
    }
    names
}

/// What a gateway was, with itself and its listeners under the names that `new` has for them; and which these are, in words.
pub(super) fn renamed<'a>(old: &'a Content, new: &Content) -> (Cow<'a, Content>, Vec<String>) {
    let names = renames(old, new);
    let mut words = Vec::new();
    if old.gateway != new.gateway {
        words.push(format!("the gateway {} -> {}", old.gateway, new.gateway));
    }
    words.extend(names.iter().map(|(before, now)| format!("listener {before} -> {now}")));
    if words.is_empty() {
        return (Cow::Borrowed(old), words);
    }
    let mut content = Content { gateway: new.gateway.clone(), ..old.clone() };
    for listener in &mut content.listeners {
        let Some(name) = names.get(&listener.name) else { continue };
        listener.name.clone_from(name);
        // Call secrets are sealed for a listener by its name, so that the same ones are sealed anew.
        let now = new.listeners.iter().find(|now| now.name == *name).map(|now| &now.tunnel);
        if let (Tunnel::Quill(own), Some(Tunnel::Quill(now))) = (&mut listener.tunnel, now) {
            for call in &mut own.calls {
                if let Some(same) = now.calls.iter().find(|one| one.number == call.number) {
                    call.for_agent.clone_from(&same.for_agent);
                }
            }
        }
    }
    content.listeners.sort_by(|a, b| a.name.cmp(&b.name));
    for at in content.admit.iter_mut().filter_map(|admit| admit.at.as_mut()) {
        if let Some(name) = names.get(at) {
            at.clone_from(name);
        }
    }
    content.admit.sort_by(Admit::in_order);
    (Cow::Owned(content), words)
}
