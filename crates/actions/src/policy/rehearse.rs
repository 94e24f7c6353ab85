//! Playing sign-ins through the list, with the same decisions that gateways make.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;

use jiff::Timestamp;
use serde::Serialize;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{Device, Gateway, Site, User, UserState};
use yestrel_core::policy::{
    self, Asked as Said, At, END, Known, List, Nearest, Registries, Rule, Terms, moment_at, zone,
};
use yestrel_core::tunnel::Tunnel;
use yestrel_core::{Problem, Result};
use yestrel_store::queries::SignIn;
use yestrel_store::{Book, Query};

use super::asked::Asked;
use super::checked::{CheckedBy, checked_by};
use super::doors::Doors;
use super::then::{Carried, Then, first_use};
use crate::Context;
use crate::find;
use crate::session::is_refusal;

/// Who would sign in, and how.
#[derive(Debug, Clone, Default)]
pub struct Question {
    /// `mara` or `mara/laptop`.
    pub who: String,
    pub gateway: Option<String>,
    pub tunnel: Option<String>,
    pub method: Option<String>,
    /// As people say it; `None`: now.
    pub at: Option<String>,
    pub from: Option<IpAddr>,
    /// The realm of the name that is given, of an account.
    pub realm: Option<String>,
    /// The code of a second factor has been given.
    pub second_factor: bool,
    /// In place of the estate's list.
    pub list: Option<Vec<Rule>>,
    /// With the list and people as they were then.
    pub as_of: Option<Timestamp>,
}

/// What would become of a sign-in.
#[derive(Debug, Serialize)]
pub struct Played {
    pub device: String,
    pub credential: Option<String>,
    pub gateway: String,
    pub tunnel: String,
    pub method: String,
    pub at: Timestamp,
    pub zone: String,
    /// The registries up to the one that checks it.
    #[serde(skip)]
    pub checked: Vec<CheckedBy>,
    /// What stands against it before any policy is asked.
    pub before: Option<String>,
    #[serde(skip)]
    pub asked: Vec<Said>,
    /// The policy that decides.
    pub by: Option<String>,
    /// The policy that decides once a second factor was given, where that is another.
    pub then: Option<String>,
    pub admitted: bool,
    #[serde(skip)]
    pub terms: Terms,
    /// What is nearest to an admission, in words, for whoever is refused.
    pub nearest: Option<String>,
    /// When it would be admitted, where only time stands against it.
    pub opens: Option<Timestamp>,
}

/// Plays a sign-in through the list.
///
/// # Errors
/// There is no such device, or it has no way to where it is asked about; a time or a list that is none.
pub fn rehearse(context: &mut Context, question: &Question) -> Result<Played> {
    let now = context.now;
    context.read(|book| {
        let then = question.as_of.map(|at| Then::at(book, at)).transpose()?.unwrap_or_default();
        let devices = of_whom(book, &then, &question.who)?;
        let doors = Doors::read(book)?;
        let mut found = None;
        // The one that would be used: one that holds, else one that has ended by itself, else one that was taken back.
        let now = question.as_of.unwrap_or(now);
        let each = devices.iter().flat_map(|(device, all)| all.iter().map(move |credential| (device, all, credential)));
        let mut in_turn: Vec<_> = each.collect();
        in_turn.sort_by_key(|(.., credential)| (!credential.holds(now), credential.revoked.is_some()));
        for (device, credentials, credential) in in_turn {
            let kind = credential.proof();
            let fits = |(gateway, tunnel): &(&String, &Tunnel)| {
                question.gateway.as_ref().is_none_or(|wanted| wanted == *gateway)
                    && question.tunnel.as_ref().is_none_or(|wanted| wanted == tunnel.word())
                    && (question.realm.is_none() || kind == ProofKind::Account)
                    && question.method.as_ref().is_none_or(|wanted| wanted == tunnel.method(kind))
            };
            if let Some(way) = doors.ways(credential).find(fits) {
                found = Some((device, credentials, credential, way));
                break;
            }
        }
        if let Some(gateway) = &question.gateway {
            book.need::<Gateway>(gateway)?;
        }
        let Some((device, credentials, credential, (gateway, tunnel))) = found else {
            let (user, device) = devices.first().map(|(device, _)| (device.user.clone(), device.name.clone())).unzip();
            return Err(Problem::refused(format!("{} has nothing that could come in there", question.who))
                .why("no credential of it has a way to such a gateway, by such a tunnel and method")
                .try_(format!("yestrel credential list {}", user.unwrap_or_default()))
                .try_(format!("yestrel credential issue {}", device.unwrap_or_default())));
        };
        let gateway: Gateway = book.need(gateway)?;
        let site: Site = book.need(&gateway.site)?;
        let place = zone(&site.time_zone)?;
        let at = question.at.as_deref().map(|text| moment_at(text, &place, now)).transpose()?.unwrap_or(now);
        let user = then.user(book, &device.user)?;
        let rules = match &question.list {
            Some(rules) => rules.clone(),
            None => then.rules(book)?,
        };
        let list = List::new(&rules, &site.time_zone)?;
        let platform = device.platform.as_ref().map(|platform| platform.to_lowercase());
        let method = tunnel.method(credential.proof());
        let person = credential.person(&user, device, platform.as_deref());
        let ours = At::ours(&gateway.name, &site.name, tunnel, credential.proof(), at);
        let realm = question.realm.as_ref().map(|realm| realm.to_lowercase());
        let signs_in = At {
            from: question.from,
            first: first_use(credentials).is_none_or(|first| first >= at),
            realm: realm.as_deref(),
            second_factor: question.second_factor && credential.second_factor,
            ..ours
        };
        let registries = Registries::new(&find::registries(book)?, &site.time_zone)?;
        let (checked, unclaimed) = checked_by(&registries, &device.name, credential.proof(), &signs_in);
        let known = list.know(&person);
        let decision = list.decide(&known, &person, &signs_in);
        let then = list.decide_answering(&known, &person, &signs_in, credential.second_factor);
        let then = (then != decision).then(|| then.by.map_or(END.to_owned(), |(_, rule)| rule.name.clone()));
        let near = decision.admits().is_none().then(|| policy::nearest(&list, &person, &signs_in));
        let opens = match &near {
            Some(Nearest::Opens { at, .. }) => Some(*at),
            _ => None,
        };
        let dated = |at: Timestamp| yestrel_core::moment(at);
        let before = match credential {
            one if one.revoked.is_some_and(|revoked| revoked <= at) => Some(format!("{} is revoked", one.name)),
            _ if user.state == UserState::Suspended => Some(format!("{} is suspended", user.name)),
            one if one.valid_from.is_some_and(|from| from > at) => {
                Some(format!("{} holds from {}", one.name, one.valid_from.map(dated).unwrap_or_default()))
            }
            one if one.expires.is_some_and(|until| until <= at) => {
                Some(format!("{} ended on {}", one.name, one.expires.map(dated).unwrap_or_default()))
            }
            _ if unclaimed.is_some() => unclaimed,
            one => decision.admits().filter(|rule| !one.satisfies(rule)).map(|rule| lacks_one(&one.name, rule)),
        };
        Ok(Played {
            device: device.name.clone(),
            credential: Some(credential.name.clone()),
            gateway: gateway.name.clone(),
            tunnel: tunnel.word().into(),
            method: method.into(),
            at,
            zone: site.time_zone.clone(),
            asked: policy::asked(&list, &person, &signs_in),
            by: decision.by.map(|(_, rule)| rule.name.clone()),
            then,
            checked,
            admitted: decision.admits().is_some() && before.is_none(),
            terms: decision.admits().map(|rule| rule.terms.clone()).unwrap_or_default(),
            nearest: near.map(|near| near.words(&list, at, now)),
            opens,
            before,
        })
    })
}

/// A device by its name, or those of a user, one after another; each with its credentials.
fn of_whom(book: &Book<'_>, then: &Then, who: &str) -> Result<Vec<(Device, Vec<Carried>)>> {
    let devices = match who.contains('/') {
        true => vec![then.device(book, who)?],
        false => {
            let user = then.user(book, who)?;
            then.devices_of(book, &user.name)?
        }
    };
    if devices.is_empty() {
        return Err(Problem::refused(format!("{who} has no device that could sign in"))
            .try_(format!("yestrel device add {who}/NAME")));
    }
    let with = |device: Device| Ok((device.clone(), then.credentials_of(book, &device.name)?));
    devices.into_iter().map(with).collect()
}

/// Past sign-ins played against a list.
#[derive(Debug, Default, Serialize)]
pub struct Replay {
    pub sign_ins: usize,
    /// Those that were admitted and would be refused, each with why.
    pub refused: Vec<Fate>,
    /// Those that policies refused and that would be admitted, each with by which.
    pub admitted: Vec<Fate>,
}

/// A past sign-in of which another thing would become.
#[derive(Debug, Serialize)]
pub struct Fate {
    pub at: Timestamp,
    pub device: String,
    pub gateway: String,
    pub from: String,
    /// By which it was admitted, as far as the gateway said.
    pub was: Option<String>,
    pub why: String,
}

/// Plays the sign-ins since a moment against a list, with people as they are now.
///
/// # Errors
/// The estate cannot be read, or a condition is none.
pub fn played(context: &mut Context, since: Timestamp, list: Option<Vec<Rule>>) -> Result<Replay> {
    context.read(|book| {
        let rules = match list {
            Some(rules) => rules,
            None => Asked::read(book)?.rules,
        };
        let mut sites = BTreeMap::new();
        for gateway in book.all::<Gateway>()? {
            let site: Site = book.need(&gateway.site)?;
            sites.insert(gateway.name, (List::new(&rules, &site.time_zone)?, site.name));
        }
        let doors = Doors::read(book)?;
        let then = Then::default();
        let mut people: HashMap<String, HashMap<String, Option<Carries<'_>>>> = HashMap::new();
        let by_policy = format!(": {}", yestrel_core::admission::Reason::Policy);
        let mut replay = Replay::default();
        let since = since.to_string();
        let query = Query { at_least: Some(("opened", &since)), by: Some("opened"), ..Query::default() };
        let mut sessions: Vec<SignIn> = book.ask(&query)?;
        // What was lost of the news stands among them, of nobody.
        sessions.retain(|session| session.device.contains('/'));
        // Of many, everybody is read at once.
        let mut known: HashMap<String, (Device, User, Vec<Carried>)> = HashMap::new();
        if sessions.len() > MANY {
            for (user, carries) in then.everybody(book)? {
                for (device, credentials) in carries {
                    known.insert(device.name.clone(), (device, user.clone(), credentials));
                }
            }
        }
        for session in &sessions {
            if !known.contains_key(&session.device)
                && let Some(device) = book.get::<Device>(&session.device)?
                && let Some(user) = book.get::<User>(&device.user)?
            {
                let credentials = then.credentials_of(book, &device.name)?;
                known.insert(device.name.clone(), (device, user, credentials));
            }
        }
        for session in sessions {
            let Some((list, site)) = sites.get(&session.gateway) else { continue };
            if !people.contains_key(&session.gateway) {
                people.insert(session.gateway.clone(), HashMap::new());
            }
            let Some(people) = people.get_mut(&session.gateway) else { continue };
            if !people.contains_key(&session.device) {
                let of = known.get(&session.device);
                people.insert(session.device.clone(), of.and_then(|of| carries(&doors, list, of, &session.gateway)));
            }
            let Some(Some(Carries { of: (device, user, credential), platform, tunnel, known, first })) =
                people.get(&session.device)
            else {
                continue;
            };
            let refused = session.reason.as_deref().is_some_and(is_refusal);
            if refused && !session.reason.as_ref().is_some_and(|reason| reason.contains(&by_policy)) {
                continue;
            }
            replay.sign_ins += 1;
            let person = credential.person(user, device, platform.as_deref());
            let from = session.from_address.parse::<std::net::SocketAddr>().ok().map(|from| from.ip());
            let ours = At::ours(&session.gateway, site, tunnel, credential.proof(), session.opened);
            let realm = session.realm.as_deref();
            let at = At { from, realm, first: first.is_none_or(|first| first >= session.opened), ..ours };
            let decision = list.decide_answering(known, &person, &at, credential.second_factor);
            let admits = decision.admits().filter(|rule| credential.satisfies(rule));
            if admits.is_some() == refused {
                let why = match (admits, decision.by) {
                    (Some(rule), _) => format!("{} admits", rule.name),
                    (None, Some((_, rule))) if decision.admits().is_some() => lacks_one(&device.name, rule),
                    (None, Some((_, rule))) => format!("{} refuses", rule.name),
                    (None, None) => {
                        policy::nearest_soon(list, &person, &at).words(list, session.opened, session.opened)
                    }
                };
                let fates = if refused { &mut replay.admitted } else { &mut replay.refused };
                fates.push(Fate {
                    at: session.opened,
                    device: session.device,
                    gateway: session.gateway,
                    from: session.from_address,
                    was: session.policy,
                    why,
                });
            }
        }
        Ok(replay)
    })
}

/// Why somebody is refused by a policy that admits them.
fn lacks_one(whose: &str, rule: &Rule) -> String {
    format!("{whose} has no second factor, and the policy {} asks for one", rule.name)
}

/// Of more sign-ins than these everybody is read at once.
const MANY: usize = 2_000;

/// A device as it would sign in at a gateway.
struct Carries<'a> {
    of: (&'a Device, &'a User, &'a Carried),
    platform: Option<String>,
    tunnel: &'a Tunnel,
    known: Known,
    /// When the device signed in first.
    first: Option<Timestamp>,
}

fn carries<'a>(
    doors: &'a Doors,
    list: &List,
    (device, user, credentials): &'a (Device, User, Vec<Carried>),
    gateway: &str,
) -> Option<Carries<'a>> {
    let ways =
        |credential| doors.ways(credential).find(|(at, _)| *at == gateway).map(|(_, tunnel)| (credential, tunnel));
    let (credential, tunnel) = credentials.iter().rev().find_map(ways)?;
    let platform = device.platform.as_ref().map(|platform| platform.to_lowercase());
    let known = list.know(&credential.person(user, device, platform.as_deref()));
    let first = first_use(credentials);
    Some(Carries { of: (device, user, credential), platform, tunnel, known, first })
}
