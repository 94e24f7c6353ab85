//! The list made ready, and its decisions. A decision takes no memory and waits for nothing.

use std::collections::HashSet;
use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use super::asks::{Asks, NO_REALM, Values};
use super::hours::{Age, Dates, Hours, Local, zone};
use super::rule::{Effect, Rule};
use super::sign_in::{At, Person};
use crate::Result;

/// The list, with its conditions read and in the order in which they are gone through.
#[derive(Debug)]
pub struct List {
    rules: Vec<Ready>,
    /// The first is the site's.
    zones: Vec<TimeZone>,
    /// Whether some condition is about each subject, by its place in [`Asks::ALL`].
    about: [bool; Asks::ALL.len()],
}

#[derive(Debug)]
struct Ready {
    rule: Rule,
    conditions: Vec<Condition>,
    /// How many of them are about the person alone; they come first.
    of_person: usize,
}

/// One condition.
#[derive(Debug)]
pub(super) struct Condition {
    pub asks: Asks,
    pub unless: bool,
    pub test: Test,
}

/// Hours, dates with the place of their zone in the list's.
#[derive(Debug)]
pub(super) enum Test {
    Words(Vec<String>),
    Numbers(Vec<u32>),
    Ranges(Vec<IpNet>),
    Hours(Vec<(Hours, usize)>),
    Dates(Vec<(Dates, usize)>),
    Ages(Vec<Age>),
    Flag(bool),
}

/// Which policies of a list can be about a person, as far as who they are goes: one bit each.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Known(Box<[u64]>);

/// What the list says of a sign-in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Decision<'a> {
    /// Its place in the list, and itself; `None`: the end of the list was reached.
    pub by: Option<(usize, &'a Rule)>,
}

impl<'a> Decision<'a> {
    /// The policy that admits.
    #[must_use]
    pub fn admits(&self) -> Option<&'a Rule> {
        self.by.map(|(_, rule)| rule).filter(|rule| rule.effect == Effect::Admit)
    }
}

/// What the clocks in the first zones of a list say, each looked up once.
struct Clocks<'a> {
    list: &'a List,
    at: Timestamp,
    seen: [Option<Local>; 4],
}

impl<'a> Clocks<'a> {
    fn new(list: &'a List, at: Timestamp) -> Self {
        Self { list, at, seen: [None; 4] }
    }

    fn local(&mut self, zone: usize) -> Local {
        let look = |list: &List, at| Local::at(&list.zones[zone], at);
        match self.seen.get_mut(zone) {
            Some(seen) => *seen.get_or_insert_with(|| look(self.list, self.at)),
            None => look(self.list, self.at),
        }
    }
}

fn within(ranges: &[IpNet], from: Option<IpAddr>) -> bool {
    // A socket of both versions shows the older as mapped (RFC 4291 section 2.5.5.2).
    from.map(|from| from.to_canonical()).is_some_and(|from| ranges.iter().any(|range| range.contains(&from)))
}

impl Condition {
    fn any(&self, word: &str) -> bool {
        matches!(&self.test, Test::Words(words) if words.iter().any(|one| one == word))
    }

    fn any_number(&self, number: Option<u32>) -> bool {
        number.is_some_and(|number| matches!(&self.test, Test::Numbers(all) if all.contains(&number)))
    }

    /// Whether it holds of a person, where it is about that.
    fn holds_of(&self, person: &Person<'_>) -> bool {
        let found = match self.asks {
            Asks::User => self.any(person.user),
            Asks::Group => person.groups.iter().any(|group| self.any(group)),
            Asks::Device => self.any(person.device),
            Asks::Platform => person.platform.is_some_and(|platform| self.any(platform)),
            Asks::Credential => self.any(person.credential),
            _ => return true,
        };
        found != self.unless
    }

    fn holds(&self, person: &Person<'_>, at: &At<'_>, clocks: &mut Clocks<'_>) -> bool {
        let flag = |is: bool| matches!(self.test, Test::Flag(wanted) if wanted == is);
        let found = match self.asks {
            Asks::User | Asks::Group | Asks::Device | Asks::Platform | Asks::Credential => {
                return self.holds_of(person);
            }
            Asks::CredentialAge => {
                matches!(&self.test, Test::Ages(ages) if ages.iter().any(|age| age.holds(person.issued, at.at)))
            }
            Asks::SecondFactor => flag(at.second_factor),
            Asks::FirstSignIn => flag(at.first),
            Asks::Tunnel => at.tunnel.is_some_and(|tunnel| self.any(tunnel)),
            Asks::TunnelType => self.any_number(at.tunnel_type),
            Asks::NasPortType => self.any_number(at.port_type),
            Asks::Gateway => self.any(at.gateway),
            Asks::Site => self.any(at.site),
            Asks::Registry => self.any(at.registry),
            Asks::Realm => self.any(at.realm.unwrap_or(NO_REALM)),
            Asks::Method => self.any(at.method),
            Asks::From => matches!(&self.test, Test::Ranges(ranges) if within(ranges, at.from)),
            Asks::Hours => match &self.test {
                Test::Hours(all) => all.iter().any(|(hours, zone)| hours.hold(&clocks.local(*zone))),
                _ => false,
            },
            Asks::Dates => match &self.test {
                Test::Dates(all) => all.iter().any(|(dates, zone)| dates.hold(&clocks.local(*zone))),
                _ => false,
            },
        };
        found != self.unless
    }
}

impl List {
    /// Makes a list ready for a site in this time zone.
    ///
    /// # Errors
    /// A condition or a zone is none.
    pub fn new(rules: &[Rule], time_zone: &str) -> Result<Self> {
        let mut zones = vec![(time_zone.to_owned(), zone(time_zone)?)];
        let mut ready = Vec::with_capacity(rules.len());
        for rule in rules {
            let mut conditions = Vec::new();
            for asks in Asks::ALL {
                for (all, unless) in [(&rule.when, false), (&rule.unless, true)] {
                    let Some(texts) = all.get(&asks) else { continue };
                    let mut place = |name: &Option<String>| -> Result<usize> {
                        let Some(name) = name else { return Ok(0) };
                        if let Some(at) = zones.iter().position(|(known, _)| known == name) {
                            return Ok(at);
                        }
                        zones.push((name.clone(), zone(name)?));
                        Ok(zones.len() - 1)
                    };
                    let test = match Values::read(asks, texts)? {
                        Values::Words(words) => Test::Words(words),
                        Values::Numbers(all) => Test::Numbers(all),
                        Values::Ranges(ranges) => Test::Ranges(ranges),
                        Values::Ages(ages) => Test::Ages(ages),
                        Values::Flag(flag) => Test::Flag(flag),
                        Values::Hours(all) => {
                            let placed = all.into_iter().map(|hours| Ok((hours.clone(), place(&hours.zone)?)));
                            Test::Hours(placed.collect::<Result<_>>()?)
                        }
                        Values::Dates(all) => {
                            let placed = all.into_iter().map(|dates| Ok((dates.clone(), place(&dates.zone)?)));
                            Test::Dates(placed.collect::<Result<_>>()?)
                        }
                    };
                    conditions.push(Condition { asks, unless, test });
                }
            }
            let of_person = conditions.iter().take_while(|condition| condition.asks.of_person()).count();
            ready.push(Ready { rule: rule.clone(), conditions, of_person });
        }
        let asks = |asks| rules.iter().flat_map(Rule::asks).any(|one| one == asks);
        Ok(Self { rules: ready, zones: zones.into_iter().map(|(_, zone)| zone).collect(), about: Asks::ALL.map(asks) })
    }

    /// The policies in their order.
    pub fn rules(&self) -> impl ExactSizeIterator<Item = &Rule> {
        self.rules.iter().map(|ready| &ready.rule)
    }

    /// Whether a policy asks about this.
    #[must_use]
    pub fn asks(&self, asks: Asks) -> bool {
        self.about[asks as usize]
    }

    pub(super) fn conditions(&self, at: usize) -> &[Condition] {
        &self.rules[at].conditions
    }

    pub(super) fn zone(&self, at: usize) -> &TimeZone {
        &self.zones[at]
    }

    /// Of each policy whether its conditions on some subjects hold.
    pub(super) fn part(&self, asks: &[Asks], person: &Person<'_>, at: &At<'_>) -> Vec<bool> {
        let mut clocks = Clocks::new(self, at.at);
        let mut holds = |ready: &Ready| {
            let mut about = ready.conditions.iter().filter(|condition| asks.contains(&condition.asks));
            about.all(|condition| condition.holds(person, at, &mut clocks))
        };
        self.rules.iter().map(&mut holds).collect()
    }

    /// The numbers that conditions on a subject name.
    pub(super) fn numbers(&self, asks: Asks) -> Vec<u32> {
        let of = self.rules.iter().flat_map(|ready| &ready.conditions).filter(|condition| condition.asks == asks);
        let mut all: Vec<u32> = of
            .flat_map(|condition| match &condition.test {
                Test::Numbers(all) => all.clone(),
                _ => Vec::new(),
            })
            .collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// The ages that conditions name, in seconds.
    pub(super) fn ages(&self) -> Vec<i64> {
        let all = self.rules.iter().flat_map(|ready| &ready.conditions);
        let of = all.flat_map(|condition| match &condition.test {
            Test::Ages(all) => all.clone(),
            _ => Vec::new(),
        });
        of.map(|age| i64::from(age.seconds())).collect()
    }

    /// Which policies can be about a person: worth keeping where they sign in more than once.
    #[must_use]
    pub fn know(&self, person: &Person<'_>) -> Known {
        let mut bits = vec![0_u64; self.rules.len().div_ceil(64)].into_boxed_slice();
        for (at, ready) in self.rules.iter().enumerate() {
            if ready.conditions[..ready.of_person].iter().all(|condition| condition.holds_of(person)) {
                bits[at / 64] |= 1 << (at % 64);
            }
        }
        Known(bits)
    }

    /// Decides on a sign-in of a person of whom it is known which policies can be about them.
    #[must_use]
    pub fn decide(&self, known: &Known, person: &Person<'_>, at: &At<'_>) -> Decision<'_> {
        let mut clocks = Clocks::new(self, at.at);
        for (block, bits) in known.0.iter().enumerate() {
            let mut bits = *bits;
            while bits != 0 {
                let place = block * 64 + bits.trailing_zeros() as usize;
                bits &= bits - 1;
                let Some(ready) = self.rules.get(place) else { break };
                let rest = &ready.conditions[ready.of_person..];
                if rest.iter().all(|condition| condition.holds(person, at, &mut clocks)) {
                    return Decision { by: Some((place, &ready.rule)) };
                }
            }
        }
        Decision { by: None }
    }

    /// As [`List::decide`], of somebody who answers where a second factor is asked for, if they have one: then it is decided once more.
    #[must_use]
    pub fn decide_answering(&self, known: &Known, person: &Person<'_>, at: &At<'_>, has_one: bool) -> Decision<'_> {
        let decision = self.decide(known, person, at);
        let asked = has_one && self.asks(Asks::SecondFactor) && !at.second_factor;
        if asked && decision.admits().is_some_and(|rule| rule.terms.second_factor) {
            return self.decide(known, person, &At { second_factor: true, ..*at });
        }
        decision
    }

    /// As [`List::decide`], of somebody who signs in once.
    #[must_use]
    pub fn decide_once(&self, person: &Person<'_>, at: &At<'_>) -> Decision<'_> {
        self.decide(&self.know(person), person, at)
    }

    /// The first condition of a policy that does not hold, by its place among them; `None`: all hold.
    pub(super) fn failed(&self, rule: usize, person: &Person<'_>, at: &At<'_>) -> Vec<usize> {
        let mut clocks = Clocks::new(self, at.at);
        let all = self.rules[rule].conditions.iter().enumerate();
        all.filter(|(_, condition)| !condition.holds(person, at, &mut clocks)).map(|(at, _)| at).collect()
    }

    /// Moments after `after`, and at most so long after it, at which a decision on somebody may become another by itself; in their order.
    #[must_use]
    pub fn changes(&self, issued: Option<Timestamp>, after: Timestamp, within: SignedDuration) -> Vec<Timestamp> {
        let until = after.checked_add(within).unwrap_or(Timestamp::MAX);
        let mut moments = Vec::new();
        // Many policies have the same hours.
        let mut seen: HashSet<(&Hours, usize)> = HashSet::new();
        for condition in self.rules.iter().flat_map(|ready| &ready.conditions) {
            match &condition.test {
                Test::Hours(all) => {
                    for (hours, zone) in all.iter().filter(|(hours, zone)| seen.insert((hours, *zone))) {
                        hours.changes(&self.zones[*zone], after, until, &mut moments);
                    }
                }
                Test::Dates(all) => all.iter().for_each(|(dates, zone)| {
                    dates.changes(&self.zones[*zone], after, until, &mut moments);
                }),
                Test::Ages(ages) => {
                    let at = issued.iter().flat_map(|issued| ages.iter().filter_map(|age| age.change(*issued)));
                    moments.extend(at.filter(|at| *at > after && *at <= until));
                }
                Test::Words(_) | Test::Numbers(_) | Test::Ranges(_) | Test::Flag(_) => {}
            }
        }
        moments.sort_unstable();
        moments.dedup();
        moments
    }

    /// When a credential that was issued then comes to an age that a policy names.
    #[must_use]
    pub fn next_age(&self, issued: Timestamp, after: Timestamp) -> Option<Timestamp> {
        let old = |seconds: i64| issued.checked_add(SignedDuration::from_secs(seconds)).ok();
        self.ages().into_iter().filter_map(old).filter(|at| *at > after).min()
    }

    /// The parts of pools that policies give addresses of.
    pub fn pools(&self) -> impl Iterator<Item = Ipv4Net> {
        self.rules.iter().filter_map(|ready| ready.rule.terms.pool)
    }

    /// Whether a decision may become another by itself.
    #[must_use]
    pub fn goes_by_time(&self) -> bool {
        self.rules.iter().flat_map(|ready| &ready.conditions).any(|condition| condition.asks.of_time())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::condition;
    use crate::policy::slow::sample;

    /// A list of policies that admit: each with its conditions, and whether it asks for a second factor.
    fn list(of: &[(&str, &[&str], bool)]) -> List {
        let rule = |(name, when, second_factor): &(&str, &[&str], bool)| {
            let mut rule = Rule::everyone(name);
            rule.when = when.iter().map(|text| condition(text).unwrap()).collect();
            rule.terms.second_factor = *second_factor;
            rule
        };
        List::new(&of.iter().map(rule).collect::<Vec<_>>(), "UTC").unwrap()
    }

    #[test]
    fn who_was_asked_and_has_one_is_decided_on_once_more() {
        let person = sample::PERSON;
        let by = |list: &List, at: &At<'_>, has_one: bool| {
            let known = list.know(&person);
            let by = list.decide_answering(&known, &person, at, has_one).by;
            by.map(|(_, rule)| rule.name.clone()).unwrap_or_default()
        };
        let asks = list(&[("more", &["second-factor=yes"], false), ("less", &[], true)]);
        assert_eq!(by(&asks, &sample::AT, true), "more");
        assert_eq!(by(&asks, &sample::AT, false), "less", "who has none cannot answer");
        assert_eq!(by(&asks, &At { second_factor: true, ..sample::AT }, false), "more");
        // Nobody is asked: nobody has answered.
        let silent = list(&[("more", &["second-factor=yes"], false), ("less", &[], false)]);
        assert_eq!(by(&silent, &sample::AT, true), "less");
        // The answer may as well shut out.
        let odd = list(&[("before", &["second-factor=no"], true)]);
        assert_eq!((by(&odd, &sample::AT, false), by(&odd, &sample::AT, true)), ("before".into(), String::new()));
    }

    #[test]
    fn a_list_says_about_what_it_asks() {
        let list = list(&[("one", &["realm=none"], false), ("two", &["first-sign-in=yes"], false)]);
        let asked: Vec<_> = Asks::ALL.into_iter().filter(|asks| list.asks(*asks)).collect();
        assert_eq!(asked, [Asks::Realm, Asks::FirstSignIn]);
    }
}
