//! Checking the list: what core finds in it, and what only the estate knows.

use std::collections::{BTreeSet, HashMap};

use yestrel_core::Result;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{CredentialKind, Gateway, Host, User, UserState};
use yestrel_core::policy::{
    self, Asks, At, Effect, Finding, List, NO_REALM, RegistryKind, Rule, Someone, Weight, World, any_of,
};
use yestrel_store::{Book, Query};

use super::asked::Asked;
use super::doors::Doors;
use super::places::places;
use super::pools::has_pool;
use crate::{Context, find};

/// What was found in a list, and how many policies of it were looked at.
#[derive(Debug)]
pub struct Checked {
    pub findings: Vec<Finding>,
    pub policies: usize,
}

/// Checks the estate's list, or another in its place.
///
/// # Errors
/// The estate cannot be read, or a condition is none.
pub fn check(context: &mut Context, list: Option<Vec<Rule>>) -> Result<Checked> {
    context.read(|book| {
        let rules = match list {
            Some(rules) => rules,
            None => Asked::read(book)?.rules,
        };
        let (world, lacking) = world(book)?;
        let mut findings = policy::check(&rules, &world)?;
        findings.extend(without_a_factor(book, &rules, &world, &lacking)?);
        findings.extend(of_nobodys_realm(book, &rules)?);
        findings.extend(of_others(book, &rules)?);
        findings.extend(of_no_pool(book, &rules)?);
        findings.extend(above_hosts(book, &rules)?);
        Ok(Checked { findings, policies: rules.len() })
    })
}

/// Policies that let somebody have more sessions at once than a host carries users.
fn above_hosts(book: &Book<'_>, rules: &[Rule]) -> Result<Vec<Finding>> {
    let mut carry = Vec::new();
    for gateway in book.all::<Gateway>()? {
        let host: Host = book.need(&gateway.host)?;
        carry.extend(host.users_at_once.map(|users| (gateway.name, gateway.site, host.name, users)));
    }
    let mut findings = Vec::new();
    for rule in rules.iter().filter(|rule| rule.effect == Effect::Admit) {
        let here = |asks: Asks, name: &String| {
            rule.when.get(&asks).is_none_or(|all| all.contains(name))
                && !rule.unless.get(&asks).is_some_and(|all| all.contains(name))
        };
        let most = [(rule.terms.user_sessions, "user"), (rule.terms.device_sessions, "device")];
        let above = |users: u32| most.iter().find(|(most, _)| most.is_some_and(|most| u32::from(most) > users));
        let at = carry.iter().filter(|(gateway, site, ..)| here(Asks::Gateway, gateway) && here(Asks::Site, site));
        let first =
            at.filter_map(|(gateway, _, host, users)| above(*users).map(|most| (gateway, host, users, most))).next();
        let Some((gateway, host, users, (Some(most), whose))) = first else { continue };
        findings.push(Finding {
            weight: Weight::Poor,
            policy: Some(rule.name.clone()),
            words: format!(
                "lets a {whose} have {most} sessions at once, and the host {host} carries {users} users at once"
            ),
            example: Some(format!("a {whose} who comes to {gateway} {most} times")),
        });
    }
    Ok(findings)
}

/// Policies about registries that no gateway can ask.
fn of_others(book: &Book<'_>, rules: &[Rule]) -> Result<Vec<Finding>> {
    let registries = find::registries(book)?;
    let own: Vec<&str> =
        registries.iter().filter(|one| one.kind == RegistryKind::Estate).map(|one| one.name.as_str()).collect();
    let about = |rule: &Rule| {
        let wanted = rule.when.get(&Asks::Registry)?;
        wanted.iter().all(|one| !own.contains(&one.as_str())).then(|| Finding {
            weight: Weight::Poor,
            policy: Some(rule.name.clone()),
            words: format!("can never match at a gateway: no gateway of this version can ask {}", any_of(wanted)),
            example: Some("yestrel registry list".into()),
        })
    };
    Ok(rules.iter().filter_map(about).collect())
}

/// Policies that give addresses of a pool that is there no more.
fn of_no_pool(book: &Book<'_>, rules: &[Rule]) -> Result<Vec<Finding>> {
    let mut findings = Vec::new();
    for rule in rules {
        let Some(pool) = rule.terms.pool else { continue };
        if !has_pool(book, &pool)? {
            findings.push(Finding {
                weight: Weight::Poor,
                policy: Some(rule.name.clone()),
                words: format!(
                    "gives addresses of {pool}, and no listener leases any of it: whoever it admits gets none"
                ),
                example: Some("yestrel listener list".into()),
            });
        }
    }
    Ok(findings)
}

/// Policies about a realm that no registry claims: no account is called so.
fn of_nobodys_realm(book: &Book<'_>, rules: &[Rule]) -> Result<Vec<Finding>> {
    let registries = find::registries(book)?;
    let claimed: Vec<&str> = policy::realms(&registries).collect();
    let about = |rule: &Rule| {
        let wanted = rule.when.get(&Asks::Realm)?;
        let named = |realm: &String| realm == NO_REALM || claimed.contains(&realm.as_str());
        let unclaimed = wanted.iter().find(|realm| !named(realm))?;
        Some(Finding {
            weight: Weight::Poor,
            policy: Some(rule.name.clone()),
            words: format!(
                "names the realm {unclaimed}, which no registry claims: no name of it is checked by anybody"
            ),
            example: Some(format!(
                "yestrel registry change estate --claim realm=none,{unclaimed} --called \"{{user}}\""
            )),
        })
    };
    Ok(rules.iter().filter_map(about).collect())
}

/// Policies that ask for a second factor whom it may be about and who has none: they would be refused.
fn without_a_factor(book: &Book<'_>, rules: &[Rule], world: &World, lacking: &[usize]) -> Result<Vec<Finding>> {
    let mut findings = Vec::new();
    let asking: Vec<&Rule> = rules.iter().filter(|rule| rule.terms.second_factor).collect();
    let doors = if asking.is_empty() { Doors::default() } else { Doors::read(book)? };
    let mut quill = doors.all().flat_map(|(gateway, tunnels)| tunnels.iter().map(move |one| (gateway, one)));
    let Some((gateway, tunnel)) = quill.find(|(_, tunnel)| tunnel.asks()) else { return Ok(findings) };
    for rule in asking {
        // Whom it is about, wherever and whenever.
        let mut about = Rule::everyone(&rule.name);
        about.when = rule.when.clone();
        about.unless = rule.unless.clone();
        about.when.retain(|asks, _| asks.of_person());
        about.unless.retain(|asks, _| asks.of_person());
        let list = List::new(&[about], "UTC")?;
        let at = At::ours(gateway, "", tunnel, ProofKind::Key, world.now);
        let people = lacking.iter().filter_map(|at| world.people.get(*at));
        let them: Vec<&str> = people
            .filter(|someone| list.decide_once(&someone.person(), &at).admits().is_some())
            .map(|someone| someone.device.as_str())
            .collect();
        let Some(first) = them.first() else { continue };
        findings.push(Finding {
            weight: Weight::Poor,
            policy: Some(rule.name.clone()),
            words: match them.len() {
                1 => format!("asks for a second factor, and {first}, whom it may be about, has none"),
                many => format!("asks for a second factor, and {many} whom it may be about have none"),
            },
            example: Some(format!("{first}: yestrel credential renew {first} --second-factor   gives it one")),
        });
    }
    Ok(findings)
}

/// Everybody who could sign in, each kind of person once for the list, and everywhere; and which of them have a key pair without a second factor.
fn world(book: &Book<'_>) -> Result<(World, Vec<usize>)> {
    let mut users: HashMap<String, (Vec<String>, bool)> = HashMap::new();
    book.each(&Query::default(), |user: User| {
        users.insert(user.name, (user.groups, user.state == UserState::Suspended));
        Ok(true)
    })?;
    let (mut people, mut lacking) = (Vec::new(), Vec::new());
    book.each_device(None, |device, credentials| {
        let (groups, suspended) = users.get(&device.user).cloned().unwrap_or_default();
        let kinds: BTreeSet<&str> = credentials.iter().map(|one| one.kind().word()).collect();
        let has_one = credentials.iter().any(|one| one.key_factor().is_some());
        for credential in kinds.into_iter().filter(|_| !suspended) {
            if credential == CredentialKind::KeyPair.word() && !has_one {
                lacking.push(people.len());
            }
            people.push(Someone {
                user: device.user.clone(),
                groups: groups.clone(),
                device: device.name.clone(),
                platform: device.platform.as_ref().map(|platform| platform.to_lowercase()),
                credential: credential.to_owned(),
            });
        }
        Ok(true)
    })?;
    Ok((World { people, places: places(book)?, now: book.now }, lacking))
}
