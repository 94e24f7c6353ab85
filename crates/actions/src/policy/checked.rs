//! Which registry would check a sign-in that is played.

use serde::Serialize;
use yestrel_core::admission::ProofKind;
use yestrel_core::policy::{Asks, At, Claimant, NO_REALM, Registries, RegistryKind, any_of, in_words};

/// What a registry says of a sign-in that is played.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct CheckedBy {
    pub registry: String,
    /// Whether it is this estate.
    pub own: bool,
    pub claims: bool,
    pub why: String,
}

/// The realms that a registry claims, in words.
fn realms(one: &Claimant) -> String {
    let wanted = one.claims.get(&Asks::Realm).map_or(&[][..], Vec::as_slice);
    let named: Vec<String> = wanted.iter().filter(|realm| *realm != NO_REALM).cloned().collect();
    let none = if named.len() < wanted.len() { "names without a realm" } else { "" };
    match (none, named.is_empty()) {
        (none, true) => none.to_owned(),
        ("", false) => format!("the realm {}", any_of(&named)),
        (none, false) => format!("{none}, and the realm {}", any_of(&named)),
    }
}

/// Each registry up to the one that checks a sign-in of this device; and what stands against it there.
pub(super) fn checked_by(
    registries: &Registries,
    device: &str,
    proof: ProofKind,
    at: &At<'_>,
) -> (Vec<CheckedBy>, Option<String>) {
    let line = |one: &Claimant, claims: bool, why: String| CheckedBy {
        registry: one.name.clone(),
        own: one.kind == RegistryKind::Estate,
        claims,
        why,
    };
    // What the estate made itself nobody else can check: there is no name in it that others could claim.
    if proof != ProofKind::Account {
        let estate = registries.all().iter().find(|one| one.kind == RegistryKind::Estate);
        let why = format!("made the {} that it shows", proof.word());
        return (estate.map(|one| line(one, true, why)).into_iter().collect(), None);
    }
    let asked = registries.asked(at);
    let mut lines = Vec::new();
    for (one, asked) in registries.all().iter().zip(&asked) {
        let claims = one.claims.iter().map(|(asks, values)| in_words(*asks, values, false)).collect::<Vec<_>>();
        let why = match (asked.asks, &asked.failed) {
            (Some(Asks::Realm), Some(_)) => {
                let has = at.realm.map_or("without a realm".into(), |realm| format!("with the realm {realm}"));
                format!("claims {}; {device} signs in {has}", realms(one))
            }
            (_, Some(failed)) => failed.clone(),
            (_, None) if claims.is_empty() => "claims what no other registry does".into(),
            (_, None) => format!("claims {}", claims.join("; ")),
        };
        lines.push(line(one, asked.failed.is_none(), why));
    }
    let account = device.replace('/', ".");
    let typed = at.realm.map_or(account.clone(), |realm| format!("{account}@{realm}"));
    let against = match registries.in_charge(at) {
        None => Some(format!("no registry claims the name {typed}")),
        Some(one) if one.kind != RegistryKind::Estate => {
            Some(format!("the registry {} claims it, and no gateway of this version can ask that", one.name))
        }
        Some(one) if !one.can_check(at.method) => Some(format!("this estate does not check {}", at.method)),
        Some(one) => {
            let called = one.called.of(&typed);
            (called != account).then(|| format!("this estate would look for an account {called}, and has none"))
        }
    };
    (lines, against)
}
