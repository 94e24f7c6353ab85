//! What is wrong with a list: policies that can never match and what hides them, ones that contradict themselves or each other, a list that lets
//! nobody in. Everything that a policy can ask about is cut into classes within which no policy tells one value from another; of those there are
//! few, so that every sign-in that could be is looked at without any being tried one by one.

use std::collections::HashMap;
use std::net::IpAddr;

use ipnet::IpNet;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::asks::{Asks, METHODS, NO_REALM, any_of};
use super::explain::HORIZON;
use super::hours::Local;
use super::list::{List, Test};
use super::rule::{Effect, Rule};
use super::sign_in::{At, Person};
use crate::Result;

/// Somebody who could sign in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Someone {
    pub user: String,
    pub groups: Vec<String>,
    pub device: String,
    pub platform: Option<String>,
    pub credential: String,
}

impl Someone {
    /// As policies see them.
    #[must_use]
    pub fn person(&self) -> Person<'_> {
        Person {
            user: &self.user,
            groups: &self.groups,
            device: &self.device,
            platform: self.platform.as_deref(),
            credential: &self.credential,
            issued: None,
        }
    }
}

/// Where somebody could sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    pub gateway: String,
    pub site: String,
    pub zone: String,
    /// The kinds of tunnel there.
    pub tunnels: Vec<String>,
}

/// What a list is checked for.
#[derive(Debug, Clone)]
pub struct World {
    pub people: Vec<Someone>,
    pub places: Vec<Place>,
    pub now: Timestamp,
}

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    Bad,
    Poor,
    Note,
}

/// Something that is wrong with a list, or should be known of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    pub weight: Weight,
    /// Of the policy that it is about; of the whole list, none.
    pub policy: Option<String>,
    pub words: String,
    /// A sign-in that shows it.
    pub example: Option<String>,
}

/// Policies of a list that are checked at most, the first ones.
const MOST_CHECKED: usize = 1_000;

/// Boxes that are looked at for one policy at most; a list that needs more is not said to hide anything.
const MOST_BOXES: usize = 4_000;

/// What is asked of people, and of places.
const PERSON: [Asks; 5] = [Asks::User, Asks::Group, Asks::Device, Asks::Platform, Asks::Credential];
const PLACE: [Asks; 3] = [Asks::Gateway, Asks::Site, Asks::Tunnel];

/// One thing that policies ask about, in classes: of each which policies hold for it, and an example.
struct Axis {
    classes: Vec<(Vec<bool>, String)>,
}

impl Axis {
    fn new(list: &List, asks: &[Asks], candidates: impl Iterator<Item = (Sign, String)>) -> Self {
        let mut seen: HashMap<Vec<bool>, usize> = HashMap::new();
        let mut classes: Vec<(Vec<bool>, String)> = Vec::new();
        for (sign, words) in candidates {
            let person = Person { issued: sign.issued, ..sign.someone.person() };
            let holds = list.part(asks, &person, &sign.at());
            seen.entry(holds).or_insert_with_key(|holds| {
                classes.push((holds.clone(), words));
                classes.len() - 1
            });
        }
        Self { classes }
    }

    fn of(&self, rule: usize) -> Vec<bool> {
        self.classes.iter().map(|(holds, _)| holds[rule]).collect()
    }
}

/// A sign-in that owns its words.
#[derive(Clone)]
struct Sign {
    someone: Someone,
    issued: Option<Timestamp>,
    gateway: String,
    site: String,
    tunnel: Option<String>,
    registry: String,
    realm: Option<String>,
    method: &'static str,
    from: Option<IpAddr>,
    tunnel_type: Option<u32>,
    port_type: Option<u32>,
    second_factor: bool,
    first: bool,
    at: Timestamp,
}

impl Sign {
    fn at(&self) -> At<'_> {
        At {
            at: self.at,
            from: self.from,
            tunnel: self.tunnel.as_deref(),
            tunnel_type: self.tunnel_type,
            port_type: self.port_type,
            gateway: &self.gateway,
            site: &self.site,
            registry: &self.registry,
            realm: self.realm.as_deref(),
            method: self.method,
            second_factor: self.second_factor,
            first: self.first,
        }
    }
}

/// Every sign-in that some classes of each axis have in common.
type Cube = Vec<Vec<bool>>;

fn is_empty(cube: &Cube) -> bool {
    cube.iter().any(|classes| !classes.contains(&true))
}

fn both(one: &Cube, other: &Cube) -> Cube {
    let zip = |(a, b): (&Vec<bool>, &Vec<bool>)| a.iter().zip(b).map(|(a, b)| *a && *b).collect();
    one.iter().zip(other).map(zip).collect()
}

/// Whether two cubes have a sign-in in common.
fn meet(one: &Cube, other: &Cube) -> bool {
    one.iter().zip(other).all(|(a, b)| a.iter().zip(b).any(|(a, b)| *a && *b))
}

/// Whether all of a cube is in another.
fn is_within(one: &Cube, other: &Cube) -> bool {
    one.iter().zip(other).all(|(a, b)| a.iter().zip(b).all(|(a, b)| !*a || *b))
}

/// What is left of a cube without another, in pieces that have nothing in common.
fn without(cube: &Cube, other: &Cube, into: &mut Vec<Cube>) {
    if !meet(cube, other) {
        into.push(cube.clone());
        return;
    }
    let mut rest = cube.clone();
    for axis in 0..cube.len() {
        let mut piece = rest.clone();
        for (own, theirs) in piece[axis].iter_mut().zip(&other[axis]) {
            *own = *own && !theirs;
        }
        if !is_empty(&piece) {
            into.push(piece);
        }
        for (own, theirs) in rest[axis].iter_mut().zip(&other[axis]) {
            *own = *own && *theirs;
        }
    }
}

/// How many axes a space has.
const AXES: usize = 12;

/// Those of what a registry claims by: places, the clock, realms.
const CLAIMED: [usize; 3] = [1, 2, 6];

/// The sign-ins of a zone.
struct Space {
    axes: Vec<Axis>,
}

impl Space {
    fn new(list: &List, world: &World, zone: &str) -> Self {
        let base = Sign {
            someone: Someone::default(),
            issued: None,
            gateway: String::new(),
            site: String::new(),
            tunnel: None,
            registry: "estate".into(),
            realm: None,
            method: "key",
            from: None,
            tunnel_type: None,
            port_type: None,
            second_factor: false,
            first: false,
            at: world.now,
        };
        let texts = |asks: Asks| -> Vec<String> {
            let all = list.rules().flat_map(|rule| rule.when.get(&asks).into_iter().chain(rule.unless.get(&asks)));
            all.flatten().cloned().collect()
        };
        let people = world.people.iter().map(|someone| {
            let words = if someone.device.is_empty() { someone.user.clone() } else { someone.device.clone() };
            (Sign { someone: someone.clone(), ..base.clone() }, words)
        });
        let places = world.places.iter().filter(|place| place.zone == zone).flat_map(|place| {
            let with = |tunnel: &String| Sign {
                gateway: place.gateway.clone(),
                site: place.site.clone(),
                tunnel: Some(tunnel.clone()),
                ..base.clone()
            };
            place.tunnels.iter().map(move |tunnel| (with(tunnel), format!("at {} by {tunnel}", place.gateway)))
        });
        let places: Vec<_> = places.collect();
        let numbers = |asks: Asks, set: &dyn Fn(Option<u32>) -> Sign| {
            let named: Vec<u32> = list.numbers(asks);
            let other = (0..).find(|number| !named.contains(number));
            let all = named.iter().copied().map(Some).chain([None, other]);
            let words = |number: Option<u32>| number.map(|number| format!("{asks} {number}")).unwrap_or_default();
            all.map(|number| (set(number), words(number))).collect::<Vec<_>>()
        };
        let named = texts(Asks::Realm).into_iter().filter(|realm| realm != NO_REALM);
        let realms = named.map(Some).chain([None, Some("another.example".into())]);
        let registries = std::iter::once("estate".to_owned()).chain(texts(Asks::Registry));
        let flags = |set: &dyn Fn(bool) -> Sign, words: &str| {
            [false, true].map(|flag| (set(flag), if flag { words.to_owned() } else { String::new() }))
        };
        let ranges: Vec<IpNet> = texts(Asks::From).iter().filter_map(|text| text.parse().ok()).collect();
        let after = |range: &IpNet| match range.broadcast() {
            IpAddr::V4(last) => u32::from(last).checked_add(1).map(|next| IpAddr::from(next.to_be_bytes())),
            IpAddr::V6(last) => u128::from(last).checked_add(1).map(|next| IpAddr::from(next.to_be_bytes())),
        };
        let edges = ranges.iter().flat_map(|range| [Some(range.network()), after(range)]);
        let origins =
            edges.flatten().chain([IpAddr::from([198, 51, 100, 1]), IpAddr::from([0; 4]), IpAddr::from([0_u16; 8])]);
        let moments = std::iter::once(world.now).chain(list.changes(None, world.now, HORIZON));
        let ages = list.ages().into_iter().flat_map(|old| [old - 1, old]).chain([0]);
        let ages = ages.map(|old| Some(world.now - SignedDuration::from_secs(old))).chain([None]);
        let axes = vec![
            Axis::new(list, &PERSON, people),
            Axis::new(list, &PLACE, places.into_iter()),
            Axis::new(
                list,
                &[Asks::Hours, Asks::Dates],
                moments.map(|at| {
                    let local = Local::at(list.zone(0), at);
                    (Sign { at, ..base.clone() }, format!("on {}, {}", local.date, local.words()))
                }),
            ),
            Axis::new(
                list,
                &[Asks::CredentialAge],
                ages.map(|issued| {
                    let words = issued.map(|issued| world.now.duration_since(issued).as_secs());
                    let words = words.map(|old| format!("with a credential {old} s old")).unwrap_or_default();
                    (Sign { issued, ..base.clone() }, words)
                }),
            ),
            Axis::new(
                list,
                &[Asks::From],
                origins.map(|from| (Sign { from: Some(from), ..base.clone() }, format!("from {from}"))),
            ),
            Axis::new(
                list,
                &[Asks::Method],
                METHODS.into_iter().map(|method| (Sign { method, ..base.clone() }, format!("by {method}"))),
            ),
            Axis::new(
                list,
                &[Asks::Realm],
                realms.map(|realm| {
                    let words = realm.as_ref().map(|realm| format!("realm {realm}")).unwrap_or_default();
                    (Sign { realm, ..base.clone() }, words)
                }),
            ),
            Axis::new(
                list,
                &[Asks::Registry],
                registries.map(|registry| {
                    let words = if registry == "estate" { String::new() } else { format!("registry {registry}") };
                    (Sign { registry, ..base.clone() }, words)
                }),
            ),
            Axis::new(
                list,
                &[Asks::TunnelType],
                numbers(Asks::TunnelType, &|tunnel_type| Sign { tunnel_type, ..base.clone() }).into_iter(),
            ),
            Axis::new(
                list,
                &[Asks::NasPortType],
                numbers(Asks::NasPortType, &|port_type| Sign { port_type, ..base.clone() }).into_iter(),
            ),
            Axis::new(
                list,
                &[Asks::SecondFactor],
                flags(&|second_factor| Sign { second_factor, ..base.clone() }, "with a second factor").into_iter(),
            ),
            Axis::new(
                list,
                &[Asks::FirstSignIn],
                flags(&|first| Sign { first, ..base.clone() }, "for the first time").into_iter(),
            ),
        ];
        debug_assert_eq!(axes.len(), AXES);
        Self { axes }
    }

    /// Of people or places nothing is known: there are some whom an admission is about, and some whom no refusal is about that names any.
    fn suppose(&mut self, axis: usize, rules: &[Rule]) {
        let about: &[Asks] = if axis == 0 { &PERSON } else { &PLACE };
        let holds = |rule: &Rule| rule.effect == Effect::Admit || !rule.asks().any(|asks| about.contains(&asks));
        self.axes[axis].classes = vec![(rules.iter().map(holds).collect(), String::new())];
    }

    fn cube(&self, rule: usize) -> Cube {
        self.axes.iter().map(|axis| axis.of(rule)).collect()
    }

    /// A sign-in of a cube, in words.
    fn example(&self, cube: &Cube) -> String {
        self.example_of(cube, &std::array::from_fn::<_, AXES, _>(|axis| axis))
    }

    /// As much of a sign-in of a cube as these axes say.
    fn example_of(&self, cube: &Cube, axes: &[usize]) -> String {
        let one = |axis: &usize| {
            let at = cube[*axis].iter().position(|there| *there)?;
            Some(self.axes[*axis].classes[at].1.clone())
        };
        axes.iter().filter_map(one).filter(|words| !words.is_empty()).collect::<Vec<_>>().join(", ")
    }
}

/// What is found of one policy over all zones.
#[derive(Default, Clone)]
struct Reached {
    matches: bool,
    decides: bool,
    hides: Option<String>,
    hidden_example: Option<String>,
    /// The first before it that it overlaps with and that does otherwise, an example, and how many there are.
    overlaps: Option<(usize, String, usize)>,
}

/// Checks the policies of a list that are on.
///
/// # Errors
/// A condition or a zone is none.
pub fn check(rules: &[Rule], world: &World) -> Result<Vec<Finding>> {
    let (all, rules) = (rules, &rules[..rules.len().min(MOST_CHECKED)]);
    let mut zones: Vec<&str> = world.places.iter().map(|place| place.zone.as_str()).collect();
    zones.sort_unstable();
    zones.dedup();
    if zones.is_empty() {
        zones.push("UTC");
    }
    // Where nobody or nothing is there yet, what asks about it is not looked at.
    let mut world = world.clone();
    let (no_people, no_places) = (world.people.is_empty(), world.places.is_empty());
    if no_people {
        world.people.push(Someone::default());
    }
    if no_places {
        let place =
            Place { gateway: String::new(), site: String::new(), zone: "UTC".into(), tunnels: vec!["quill".into()] };
        world.places.push(place);
    }
    let mut reached = vec![Reached::default(); rules.len()];
    let mut anybody = false;
    let mut findings = Vec::new();
    for zone in zones {
        let list = List::new(rules, zone)?;
        let mut space = Space::new(&list, &world, zone);
        for (axis, none) in [(0, no_people), (1, no_places)] {
            if none {
                space.suppose(axis, rules);
            }
        }
        look(&space, rules, &mut reached, &mut anybody);
    }
    for (rule, found) in rules.iter().zip(&reached) {
        let finding = |weight, words: String, example: Option<String>| Finding {
            weight,
            policy: Some(rule.name.clone()),
            words,
            example,
        };
        if !found.matches {
            findings.push(finding(Weight::Poor, format!("can never match: {}", empty(rule, &world)), None));
        } else if !found.decides {
            let by = found.hides.clone().unwrap_or_else(|| "those before it together".into());
            let words = format!("can never decide: {by} matches first, whatever it matches");
            findings.push(finding(Weight::Poor, words, found.hidden_example.clone()));
        }
        if let Some((earlier, example, count)) = &found.overlaps {
            let name = &rules[*earlier].name;
            let words = match count {
                1 => format!("overlaps with {name}, which stands before it and does otherwise"),
                more => format!("overlaps with {name} and {} more, which stand before it and do otherwise", more - 1),
            };
            findings.push(finding(Weight::Note, words, Some(example.clone())));
        }
        let wants = |rule: &Rule| rule.when.get(&Asks::SecondFactor).is_some_and(|values| values == &["yes"]);
        if wants(rule) && !rules.iter().any(|rule| rule.terms.second_factor) {
            let words =
                "can never match at a gateway: no policy asks for a second factor, so nobody can have given one";
            let example = "yestrel policy add codes admit --when tunnel=quill --second-factor";
            findings.push(finding(Weight::Poor, words.into(), Some(example.into())));
        }
        let own = of_one(rule, &world)?.into_iter();
        findings.extend(own.map(|(weight, words, example)| finding(weight, words, Some(example))));
    }
    if all.len() > rules.len() {
        findings.push(Finding {
            weight: Weight::Note,
            policy: None,
            words: format!("the list has {} policies, of which the first {} were checked", all.len(), rules.len()),
            example: None,
        });
        anybody |= all.iter().any(|rule| rule.effect == Effect::Admit);
    }
    if !anybody {
        findings.push(Finding {
            weight: Weight::Bad,
            policy: None,
            words: "nobody can come in: no policy admits anybody who has a credential".into(),
            example: None,
        });
    }
    findings.sort_by_key(|finding| finding.weight);
    Ok(findings)
}

/// Whether a policy admits somebody, whoever and whenever it were, as far as the policies before it let it.
///
/// # Errors
/// A condition is none.
pub fn admits_somebody(rules: &[Rule], now: Timestamp) -> Result<bool> {
    if rules.len() > MOST_CHECKED {
        return Ok(rules.iter().any(|rule| rule.effect == Effect::Admit));
    }
    let someone = Someone::default();
    let place =
        Place { gateway: String::new(), site: String::new(), zone: "UTC".into(), tunnels: vec!["quill".into()] };
    let world = World { people: vec![someone], places: vec![place], now };
    let list = List::new(rules, "UTC")?;
    let mut space = Space::new(&list, &world, "UTC");
    // Whoever is there now may be gone tomorrow, and others there.
    space.suppose(0, rules);
    space.suppose(1, rules);
    let cubes: Vec<Cube> = (0..rules.len()).map(|rule| space.cube(rule)).collect();
    for (place, cube) in cubes.iter().enumerate().filter(|(place, _)| rules[*place].effect == Effect::Admit) {
        let mut left = if is_empty(cube) { Vec::new() } else { vec![cube.clone()] };
        for before in &cubes[..place] {
            let mut next = Vec::new();
            left.iter().for_each(|piece| without(piece, before, &mut next));
            left = next;
            if left.is_empty() || left.len() > MOST_BOXES {
                break;
            }
        }
        if !left.is_empty() {
            return Ok(true);
        }
    }
    Ok(false)
}

/// A sign-in that each of these policies matches, in words; `None`: there is none at the places of a world.
///
/// # Errors
/// A condition or a zone is none.
pub(super) fn both_match(rules: &[Rule], world: &World) -> Result<Option<String>> {
    let mut world = world.clone();
    world.people = vec![Someone::default()];
    let no_places = world.places.is_empty();
    if no_places {
        let tunnels = vec!["quill".into()];
        world.places.push(Place { gateway: String::new(), site: String::new(), zone: "UTC".into(), tunnels });
    }
    let zones: std::collections::BTreeSet<String> = world.places.iter().map(|place| place.zone.clone()).collect();
    for zone in zones {
        let list = List::new(rules, &zone)?;
        let mut space = Space::new(&list, &world, &zone);
        if no_places {
            space.suppose(1, rules);
        }
        let mut cubes = (0..rules.len()).map(|rule| space.cube(rule));
        let Some(first) = cubes.next() else { continue };
        let common = cubes.fold(first, |common, cube| both(&common, &cube));
        if !is_empty(&common) {
            return Ok(Some(space.example_of(&common, &CLAIMED)));
        }
    }
    Ok(None)
}

fn look(space: &Space, rules: &[Rule], reached: &mut [Reached], anybody: &mut bool) {
    let cubes: Vec<Cube> = (0..rules.len()).map(|rule| space.cube(rule)).collect();
    for (place, cube) in cubes.iter().enumerate() {
        let found = &mut reached[place];
        if is_empty(cube) {
            continue;
        }
        found.matches = true;
        let before: Vec<usize> = (0..place).filter(|one| meet(&cubes[*one], cube)).collect();
        let otherwise = before.iter().filter(|one| rules[**one].effect != rules[place].effect);
        let count = otherwise.clone().count();
        if let Some(one) = otherwise.clone().next().filter(|_| found.overlaps.is_none()) {
            found.overlaps = Some((*one, space.example(&both(&cubes[*one], cube)), count));
        }
        let covers = |one: &&usize| is_within(cube, &cubes[**one]);
        if let Some(one) = before.iter().find(covers) {
            found.hides = Some(rules[*one].name.clone());
            found.hidden_example = Some(space.example(cube));
            continue;
        }
        let mut left = vec![cube.clone()];
        for one in before {
            let mut next = Vec::new();
            left.iter().for_each(|piece| without(piece, &cubes[one], &mut next));
            left = next;
            if left.len() > MOST_BOXES || left.is_empty() {
                break;
            }
        }
        match left.is_empty() {
            true => found.hidden_example = Some(space.example(cube)),
            false => {
                found.decides = true;
                *anybody |= rules[place].effect == Effect::Admit;
            }
        }
    }
}

/// Which condition of a policy that matches nothing is in the way.
fn empty(rule: &Rule, world: &World) -> String {
    for asks in [Asks::User, Asks::Group, Asks::Device, Asks::Platform, Asks::Credential] {
        let Some(wanted) = rule.when.get(&asks) else { continue };
        let there = world.people.iter().any(|someone| match asks {
            Asks::User => wanted.contains(&someone.user),
            Asks::Group => someone.groups.iter().any(|group| wanted.contains(group)),
            Asks::Device => wanted.contains(&someone.device),
            Asks::Platform => someone.platform.as_ref().is_some_and(|platform| wanted.contains(platform)),
            _ => wanted.contains(&someone.credential),
        });
        if !there {
            return format!("nobody with a credential has the {asks} {}", any_of(wanted));
        }
    }
    for asks in rule.when.keys() {
        if rule.unless.get(asks).is_some_and(|bars| rule.when[asks].iter().all(|one| bars.contains(one))) {
            return format!("it wants the {asks} {} and leaves it out", any_of(&rule.when[asks]));
        }
    }
    "its conditions contradict each other, or what the estate has".into()
}

/// What can be said of a policy without the others.
fn of_one(rule: &Rule, world: &World) -> Result<Vec<(Weight, String, String)>> {
    let mut found = Vec::new();
    for group in rule.when.get(&Asks::Group).into_iter().flatten() {
        let members = world.people.iter().any(|someone| someone.groups.contains(group));
        if !members && rule.when[&Asks::Group].len() > 1 {
            let words = format!("names the group {group}, in which nobody has a credential");
            found.push((Weight::Note, words, format!("whoever comes to {group} next")));
        }
    }
    if rule.effect == Effect::Admit {
        let weak: Vec<_> = ["pap", "chap", "ms-chap-v2"].map(str::to_owned).into_iter().collect();
        let named = rule.when.get(&Asks::Method);
        let admitted: Vec<_> = weak.into_iter().filter(|one| named.is_some_and(|all| all.contains(one))).collect();
        if !admitted.is_empty() {
            let words = format!("admits {}, whose passwords whoever listens can find out", any_of(&admitted));
            found.push((Weight::Poor, words, format!("a sign-in by {}", admitted[0])));
        }
    }
    for zone in world.places.iter().map(|place| place.zone.as_str()).collect::<std::collections::BTreeSet<_>>() {
        let list = List::new(std::slice::from_ref(rule), zone)?;
        for condition in list.conditions(0) {
            let Test::Hours(all) = &condition.test else { continue };
            for (hours, own) in all {
                let zone = list.zone(*own);
                let until = world.now + HORIZON;
                let sets = zone.following(world.now).map(|set| set.timestamp()).take_while(|at| *at <= until);
                let skipped = sets
                    .map(|at| Local::at(zone, at).date)
                    .find(|date| hours.begin_on(*date) && hours.last(zone, *date).is_zero());
                if let Some(date) = skipped {
                    let name = zone.iana_name().unwrap_or("the zone");
                    let words = format!("{hours} do not come on {date}: clocks in {name} skip them");
                    found.push((Weight::Note, words, format!("any sign-in on {date}")));
                }
            }
        }
    }
    Ok(found)
}
