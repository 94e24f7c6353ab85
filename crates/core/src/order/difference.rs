//! What changes from one order to the next, in words.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use serde::Serialize;

use super::renaming::renamed;
use super::renewal::for_seconds;
use super::{Admit, Content, OrderListener, Peer};
use crate::admission::ProofKind;
use crate::firewall::{Protocol, Service};
use crate::keys::PublicKey;
use crate::policy::{Claimant, Effect, Listed, form, in_words};

/// One line of what an order changes: a verb and what it applies to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Change {
    /// `add`, `change`, `rename`, `remove`, `admit`, `withdraw`, `revoke`, `ports`, `gateway`, `meet`, `forget`.
    pub verb: &'static str,
    pub words: String,
}

fn held(content: &Content) -> String {
    content.holds.map_or_else(|| "for ever".into(), for_seconds)
}

/// What changes from `old` (nothing, for a gateway that has no order yet) to `new`.
#[must_use]
pub fn difference(old: Option<&Content>, new: &Content) -> Vec<Change> {
    let mut changes = Vec::new();
    let mut say = |verb: &'static str, words: String| changes.push(Change { verb, words });
    // What is only called something else is compared with what it was.
    let old = old.map(|old| renamed(old, new));
    if let Some((_, renames)) = &old {
        renames.iter().for_each(|words| say("rename", words.clone()));
    }
    let old = old.as_ref().map(|(old, _)| &**old);
    let none = Vec::new();
    let old_listeners = old.map_or(&none, |old| &old.listeners);
    let describe = |listener: &OrderListener| {
        format!("listener {}, {}, pool {}", listener.name, list(&listener.serves), list(&listener.pools()))
    };
    for listener in &new.listeners {
        match old_listeners.iter().find(|before| before.name == listener.name) {
            None => say("add", describe(listener)),
            Some(before) if before != listener => say("change", listener_changes(before, listener)),
            Some(_) => {}
        }
    }
    for listener in old_listeners.iter().filter(|old| !new.listeners.iter().any(|new| new.name == old.name)) {
        say("remove", describe(listener));
    }
    if let Some(old) = old {
        for (what, before, after) in [
            ("dialled", &old.dialled, &new.dialled),
            ("masquerade", &word(old.masquerade), &word(new.masquerade)),
            ("networks", &list(&old.networks), &list(&new.networks)),
            ("outward", &outward(old), &outward(new)),
            ("metrics at", &address(old), &address(new)),
            ("holds", &held(old), &held(new)),
            ("key", &old.public_key.fingerprint(), &new.public_key.fingerprint()),
        ] {
            if before != after {
                say("gateway", format!("{what} {before} -> {after}"));
            }
        }
    }
    let peers = |content: Option<&Content>| -> BTreeMap<(String, PublicKey), Peer> {
        let all = content.into_iter().flat_map(|content| content.peers.clone());
        all.map(|peer| ((peer.gateway.clone(), peer.public_key), peer)).collect()
    };
    let (were, are) = (peers(old), peers(Some(new)));
    // Whoever has the key is that gateway, by whatever name.
    let is = |one: &Peer, all: &BTreeMap<(String, PublicKey), Peer>| {
        all.values().find(|other| other.public_key == one.public_key).cloned()
    };
    for (key, peer) in &are {
        let at = peer.dial.as_ref().map(|dial| format!(" at {} port {}", dial.address, dial.port));
        match is(peer, &were).filter(|were| were.gateway != peer.gateway) {
            Some(before) => {
                let at = at.filter(|_| before.dial != peer.dial).unwrap_or_default();
                say("rename", format!("the gateway {} -> {}, which it meets{at}", before.gateway, peer.gateway));
            }
            None if were.get(key) != Some(peer) => {
                say("meet", format!("the gateway {}{}", peer.gateway, at.unwrap_or_default()));
            }
            None => {}
        }
    }
    for peer in were.values().filter(|peer| is(peer, &are).is_none()) {
        say("forget", format!("the gateway {} with its key {}", peer.gateway, peer.public_key.fingerprint()));
    }
    policies(old, new, &mut say);
    if old.map(|old| &old.certificate).unwrap_or(&Vec::new()) != &new.certificate {
        say("certify", certified(&new.certificate));
    }
    let by_certificate = |admit: &&Admit| admit.proof.kind() == ProofKind::Certificate;
    let admits = |content: Option<&Content>, certificates: bool| -> BTreeMap<_, Admit> {
        let all = content.into_iter().flat_map(|content| &content.admit);
        all.filter(|admit| by_certificate(admit) == certificates).map(|admit| (key(admit), admit.clone())).collect()
    };
    people(&admits(old, true), &admits(Some(new), true), (old, new), &mut say);
    let published = |content: &Content| content.publish.clone().map(|publish| publish.authorities);
    let (was, is) = (old.and_then(published).unwrap_or_default(), published(new).unwrap_or_default());
    for name in is.keys().filter(|name| !was.contains_key(*name)) {
        say("publish", format!("what {name} revoked"));
    }
    for name in was.keys().filter(|name| !is.contains_key(*name)) {
        say("withhold", format!("what {name} revoked"));
    }
    let (before, after) = (admits(old, false), admits(Some(new), false));
    people(&before, &after, (old, new), &mut say);
    let newly: BTreeMap<_, _> =
        new.revoked.iter().filter(|(key, _)| !old.is_some_and(|old| old.revoked.contains_key(*key))).collect();
    for revoked in newly.values() {
        say("revoke", format!("{}  ({})", revoked.device, revoked.reason));
    }
    let ports = |listeners: &[OrderListener], content: Option<&Content>| {
        let published = content.and_then(|content| content.publish.as_ref()).map(|at| format!("{}/tcp", at.port));
        let served = listeners.iter().flat_map(|listener| &listener.serves).map(ToString::to_string);
        served.chain(published).collect::<Vec<_>>()
    };
    let (was, is) = (ports(old_listeners, old), ports(&new.listeners, Some(new)));
    let missing = |from: &[String], of: &[String]| {
        let missing: Vec<_> = from.iter().filter(|port| !of.contains(port)).cloned().collect();
        if missing.is_empty() { "none".to_owned() } else { missing.join(", ") }
    };
    let (opens, closes) = (missing(&is, &was), missing(&was, &is));
    if opens != "none" || closes != "none" {
        say("ports", format!("opens {opens}; closes {closes}"));
    }
    changes
}

/// What changes of who is admitted when.
fn policies(old: Option<&Content>, new: &Content, say: &mut impl FnMut(&'static str, String)) {
    let listed = |content: Option<&Content>| -> Vec<Listed> {
        let list = content.and_then(|content| content.policies.as_ref()).map(|policies| policies.list.clone());
        list.unwrap_or_default().into_iter().map(|rule| Listed { rule, on: true, about: None }).collect()
    };
    let Some(policies) = &new.policies else { return };
    for (verb, words) in form::difference(&listed(old), &listed(Some(new))) {
        say("policy", format!("{verb} {words}"));
    }
    let zone = |content: &Content| content.policies.as_ref().map(|policies| policies.zone.clone());
    if let Some(before) = old.and_then(zone).filter(|before| *before != policies.zone) {
        say("policy", format!("hours are in {before} -> {}", policies.zone));
    }
    let registries =
        |content: &Content| content.policies.as_ref().map(|policies| policies.registries.clone()).unwrap_or_default();
    let before = old.map(registries).unwrap_or_default();
    let words = |one: &Claimant| {
        let claims: Vec<_> = one.claims.iter().map(|(asks, values)| in_words(*asks, values, false)).collect();
        let claims = if claims.is_empty() { "what no other does".to_owned() } else { claims.join("; ") };
        let called = match &*one.called.to_string() {
            "{name}" => String::new(),
            form => format!(", calling them {form}"),
        };
        format!("{} claims {claims}{called}", one.name)
    };
    if before != policies.registries {
        let now = policies.registries.iter().map(words).collect::<Vec<_>>().join(", then ");
        say(
            "check",
            if now.is_empty() { "every name is checked by this estate".into() } else { format!("names: {now}") },
        );
    }
    let admits = |content: &Content| {
        let list = content.policies.as_ref().map(|policies| policies.list.as_slice());
        list.is_none_or(|list| list.iter().any(|rule| rule.effect == Effect::Admit))
    };
    if !admits(new) && old.is_none_or(|old| admits(old) || old.policies != new.policies) {
        say("note", "nobody would be admitted: no policy admits anybody".into());
    }
}

/// What an entry stays the same by.
type Entry = (Option<String>, String, PublicKey);

fn key(admit: &Admit) -> Entry {
    (admit.at.clone(), admit.device.clone(), admit.proof.identity())
}

/// What changes for those who are admitted.
fn people(
    before: &BTreeMap<Entry, Admit>,
    after: &BTreeMap<Entry, Admit>,
    (old, new): (Option<&Content>, &Content),
    say: &mut dyn FnMut(&'static str, String),
) {
    let several = new.listeners.len() > 1;
    // What another list asks of everybody is no change of theirs.
    let same_list = old.is_some_and(|old| old.policies == new.policies);
    let named = |admit: &Admit, state: &str| {
        let at = admit.at.as_ref().filter(|_| several).map(|at| format!(" at {at}")).unwrap_or_default();
        let kind = match admit.proof.kind() {
            ProofKind::Key => "",
            ProofKind::Certificate => "certificate",
            ProofKind::Account => "password account",
            ProofKind::SharedSecret => "shared secret",
        };
        let beside: Vec<_> = [kind, state].into_iter().filter(|word| !word.is_empty()).collect();
        let beside = if beside.is_empty() { String::new() } else { format!("  ({})", beside.join(", ")) };
        format!("{}{at}{beside}", admit.device)
    };
    for (key, admit) in after {
        match before.get(key) {
            None if admit.suspended => say("known", named(admit, "suspended")),
            None => say("admit", named(admit, "")),
            Some(was) if was.suspended != admit.suspended => {
                let (verb, why) = if admit.suspended { ("withdraw", "suspended") } else { ("admit", "restored") };
                say(verb, named(admit, why));
            }
            Some(was) if was == admit => {}
            Some(was) => {
                let of_policies = Admit {
                    groups: admit.groups.clone(),
                    platform: admit.platform.clone(),
                    issued: admit.issued,
                    new: admit.new,
                    ..was.clone()
                };
                if of_policies != *admit {
                    say("change", format!("{}: address or dates", named(admit, "")));
                } else if same_list {
                    let mut sides = Vec::new();
                    if was.groups != admit.groups {
                        sides.push(format!("groups {} -> {}", list(&was.groups), list(&admit.groups)));
                    }
                    if was.new != admit.new {
                        sides.push(if admit.new { "never signed in" } else { "signed in once" }.into());
                    }
                    if was.platform != admit.platform || was.issued != admit.issued {
                        sides.push("platform or age".into());
                    }
                    say("change", format!("{}: {}, which policies ask about", named(admit, ""), sides.join(", ")));
                }
            }
        }
    }
    for (_, admit) in before.iter().filter(|(key, _)| !after.contains_key(*key)) {
        if !new.revoked.contains_key(&admit.proof.identity().to_string()) {
            say("withdraw", named(admit, ""));
        }
    }
}

/// Whom a gateway's certificate is for, and until when.
fn certified(chain: &[String]) -> String {
    let leaf = chain.first().and_then(|first| BASE64.decode(first).ok());
    let Some(leaf) = leaf.and_then(|der| crate::x509::Certificate::from_der(&der).ok()) else {
        return "none any more".into();
    };
    let names = leaf.names().unwrap_or_default();
    format!("{}, until {}", list(&names), crate::moment(leaf.not_after()))
}

fn word(masquerade: bool) -> String {
    if masquerade { "yes" } else { "no" }.into()
}

fn address(content: &Content) -> String {
    content.metrics.map_or_else(|| "nowhere".into(), |at| at.to_string())
}

fn outward(content: &Content) -> String {
    content.outward.clone().unwrap_or_else(|| "by the default route".into())
}

fn list<T: std::fmt::Display>(items: &[T]) -> String {
    if items.is_empty() { "-".into() } else { items.iter().map(ToString::to_string).collect::<Vec<_>>().join(",") }
}

fn listener_changes(before: &OrderListener, after: &OrderListener) -> String {
    let ports = |listener: &OrderListener| {
        let plain = listener.serves.iter().map(|service| match service {
            Service::Port(Protocol::Udp, port) => port.to_string(),
            other => other.to_string(),
        });
        plain.collect::<Vec<_>>().join(",")
    };
    let mut sides = vec![
        ("port", ports(before), ports(after)),
        ("pool", list(&before.pools()), list(&after.pools())),
        ("reach", list(&before.reach), list(&after.reach)),
        ("resolvers", list(&before.resolvers), list(&after.resolvers)),
        ("keep-alive", before.keep_alive.to_string(), after.keep_alive.to_string()),
        ("packet size", before.packet_size.to_string(), after.packet_size.to_string()),
    ];
    let (was, is) = (before.tunnel.settings(), after.tunnel.settings());
    for (name, after) in is {
        let before = was.iter().find(|(other, _)| *other == name).map(|(_, value)| value.clone());
        sides.push((name, before.unwrap_or_else(|| "-".into()), after));
    }
    if before.tunnel.word() != after.tunnel.word() {
        sides.push(("tunnel", before.tunnel.word().into(), after.tunnel.word().into()));
    }
    let changed: Vec<_> = sides
        .into_iter()
        .filter(|(_, before, after)| before != after)
        .map(|(what, before, after)| format!("{what} {before} -> {after}"))
        .collect();
    format!("listener {}: {}", after.name, changed.join(", "))
}
