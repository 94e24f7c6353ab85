//! The decisions of a list in words: every policy with the condition that failed, and when it would be otherwise.

use jiff::{SignedDuration, Timestamp};

use super::asks::{Asks, any_of};
use super::hours::{Local, span};
use super::list::{List, Test};
use super::rule::{Effect, Rule};
use super::sign_in::{At, Person};

/// What one policy says of a sign-in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asked {
    pub policy: String,
    /// Why it does not decide, by the first condition that fails; `None`: all conditions hold.
    pub failed: Option<String>,
    /// About what that condition is.
    pub asks: Option<Asks>,
}

/// How far ahead it is looked when somebody would be admitted.
pub const HORIZON: SignedDuration = SignedDuration::from_hours(24 * 370);

const WEEK: SignedDuration = SignedDuration::from_hours(24 * 8);

/// Every policy up to the one that decides, in order; all of them, where none does.
#[must_use]
pub fn asked(list: &List, person: &Person<'_>, at: &At<'_>) -> Vec<Asked> {
    let mut all = Vec::new();
    for (place, rule) in list.rules().enumerate() {
        let failed = list.failed(place, person, at).first().copied();
        let condition = failed.map(|one| &list.conditions(place)[one]);
        all.push(Asked {
            policy: rule.name.clone(),
            failed: failed.map(|one| why(list, place, one, person, at)),
            asks: condition.map(|condition| condition.asks),
        });
        if failed.is_none() {
            break;
        }
    }
    all
}

/// Why a condition does not hold: "hours: Fri 10:00 is outside tue,thu 05:30-11:15 (Europe/Oslo)".
fn why(list: &List, place: usize, condition: usize, person: &Person<'_>, at: &At<'_>) -> String {
    let rule = list.rules().nth(place);
    let condition = &list.conditions(place)[condition];
    let (asks, unless) = (condition.asks, condition.unless);
    let texts = rule.and_then(|rule| if unless { &rule.unless } else { &rule.when }.get(&asks));
    let wanted = any_of(texts.map_or(&[], Vec::as_slice));
    let is = |shown: &str, unknown: &str| match (shown, unless) {
        ("", _) => format!("{asks}: {unknown}; {wanted} is wanted"),
        (shown, false) => format!("{asks}: it is {shown}; {wanted} is wanted"),
        (shown, true) => format!("{asks}: it is {shown}, which is left out"),
    };
    let number = |number: Option<u32>| number.map(|number| number.to_string()).unwrap_or_default();
    let yes = |flag: bool| if flag { "yes" } else { "no" };
    match asks {
        Asks::User => is(person.user, "no user is known"),
        Asks::Group => match (person.groups, unless) {
            (groups, true) => {
                let left: Vec<_> = groups.iter().filter(|one| texts.is_some_and(|all| all.contains(one))).collect();
                let left: Vec<String> = left.into_iter().cloned().collect();
                format!("group: {} is in {}, which is left out", person.user, any_of(&left))
            }
            ([], false) => format!("group: {} is in none that a policy names; {wanted} is wanted", person.user),
            (groups, false) => format!("group: {} is in {}; {wanted} is wanted", person.user, groups.join(", ")),
        },
        Asks::Device => is(person.device, "no device is known"),
        Asks::Platform => is(person.platform.unwrap_or_default(), "the device's is not known"),
        Asks::Credential => is(person.credential, "none is known"),
        Asks::CredentialAge => {
            let old = person.issued.map(|issued| at.at.duration_since(issued).as_secs().max(0));
            let old = old.map(|old| u32::try_from(old).unwrap_or(u32::MAX));
            let days = |old: u32| if old >= 86_400 { span(old - old % 86_400) } else { span(old - old % 60) };
            is(&old.map(days).unwrap_or_default(), "nobody knows when it was issued")
        }
        Asks::SecondFactor => is(yes(at.second_factor), ""),
        Asks::FirstSignIn => is(yes(at.first), ""),
        Asks::Tunnel => is(at.tunnel.unwrap_or_default(), "it is other equipment's"),
        Asks::TunnelType => is(&number(at.tunnel_type), "the equipment names none"),
        Asks::NasPortType => is(&number(at.port_type), "the equipment names none"),
        Asks::Gateway => is(at.gateway, "none is named"),
        Asks::Site => is(at.site, "none is named"),
        Asks::Registry => is(at.registry, "none would check it"),
        Asks::Realm => is(at.realm.unwrap_or_default(), "the name has none"),
        Asks::Method => is(at.method, "none is named"),
        Asks::From => {
            let from = at.from.map(|from| from.to_canonical().to_string());
            match (from, unless) {
                (None, _) => format!("from: nobody knows where it comes from; {wanted} is wanted"),
                (Some(from), false) => format!("from: {from} is outside {wanted}"),
                (Some(from), true) => format!("from: {from} is within {wanted}, which is left out"),
            }
        }
        Asks::Hours | Asks::Dates => {
            let zones: Vec<usize> = match &condition.test {
                Test::Hours(all) => all.iter().map(|(_, zone)| *zone).collect(),
                Test::Dates(all) => all.iter().map(|(_, zone)| *zone).collect(),
                _ => Vec::new(),
            };
            let zone = list.zone(zones.first().copied().unwrap_or(0));
            let local = Local::at(zone, at.at);
            let now = if asks == Asks::Hours { local.words() } else { local.date.to_string() };
            let of = zone.iana_name().filter(|_| zones.iter().all(|one| *one == 0));
            let of = of.map(|name| format!(" ({name})")).unwrap_or_default();
            match unless {
                false => format!("{asks}: {now} is outside {wanted}{of}"),
                true => format!("{asks}: {now} is within {wanted}{of}, which is left out"),
            }
        }
    }
}

/// What is nearest to an admission for somebody who is refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Nearest {
    /// This policy would admit from this moment on.
    Opens { policy: String, at: Timestamp },
    /// This policy admits, and so much stands against it, each condition in words.
    Wants { policy: String, failed: Vec<String> },
    /// A policy refuses before it comes to this one.
    Before { policy: String, refuses: String },
    /// No policy admits anybody.
    Nobody,
}

/// As [`nearest`], looking no further ahead than a week: for whoever is asked by strangers.
#[must_use]
pub fn nearest_soon(list: &List, person: &Person<'_>, at: &At<'_>) -> Nearest {
    near(list, person, at, &[WEEK])
}

/// What is nearest to an admission: in time, where time alone stands against it, else by how many conditions fail.
#[must_use]
pub fn nearest(list: &List, person: &Person<'_>, at: &At<'_>) -> Nearest {
    // Weeks repeat themselves but for clock changes: near first, and far only for dates and ages.
    near(list, person, at, &[WEEK, HORIZON])
}

fn near(list: &List, person: &Person<'_>, at: &At<'_>, ahead: &[SignedDuration]) -> Nearest {
    let known = list.know(person);
    if list.goes_by_time() {
        for within in ahead {
            let later = list.changes(person.issued, at.at, *within);
            let opens = later.into_iter().find_map(|moment| {
                let decided = list.decide(&known, person, &At { at: moment, ..*at });
                decided.admits().map(|rule| Nearest::Opens { policy: rule.name.clone(), at: moment })
            });
            if let Some(opens) = opens {
                return opens;
            }
        }
    }
    let refuses = list.decide(&known, person, at).by.map(|(place, rule)| (place, rule.name.clone()));
    let admits = |(_, rule): &(usize, &Rule)| rule.effect == Effect::Admit;
    let all = list.rules().enumerate().filter(admits);
    let by_failed = all.map(|(place, rule)| (list.failed(place, person, at), place, rule));
    let Some((failed, place, rule)) = by_failed.min_by_key(|(failed, place, _)| (failed.len(), *place)) else {
        return Nearest::Nobody;
    };
    match refuses {
        Some((before, refuses)) if failed.is_empty() && before < place => {
            Nearest::Before { policy: rule.name.clone(), refuses }
        }
        _ => Nearest::Wants {
            policy: rule.name.clone(),
            failed: failed.into_iter().map(|one| why(list, place, one, person, at)).collect(),
        },
    }
}

impl Nearest {
    /// In words, for somebody who is asked about at `asked` by whoever reads it at `now`, with the moment as the clocks of the list's site show it.
    #[must_use]
    pub fn words(&self, list: &List, asked: Timestamp, now: Timestamp) -> String {
        match self {
            Self::Opens { policy, at } => {
                let [local, asked, today] = [*at, asked, now].map(|at| Local::at(list.zone(0), at));
                let clock = local.words();
                let (day, time) = clock.split_once(' ').unwrap_or((&clock, ""));
                let on = match (local.date - asked.date).get_days() {
                    0 if local.date == today.date => format!("today at {time}"),
                    0..7 => format!("on {} at {time}", full(day)),
                    _ => format!("on {} at {time}", local.date),
                };
                format!("the nearest is {policy}, which opens {on}")
            }
            Self::Wants { policy, failed } => format!("the nearest is {policy}: {}", failed.join("; ")),
            Self::Before { policy, refuses } => {
                format!("the nearest is {policy}, and {refuses}, which stands before it, refuses")
            }
            Self::Nobody => "no policy admits anybody".into(),
        }
    }
}

fn full(day: &str) -> &'static str {
    match day {
        "Mon" => "Monday",
        "Tue" => "Tuesday",
        "Wed" => "Wednesday",
        "Thu" => "Thursday",
        "Fri" => "Friday",
        "Sat" => "Saturday",
        _ => "Sunday",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::slow::sample;

    fn at(text: &str) -> At<'static> {
        At { at: text.parse().unwrap(), ..sample::AT }
    }

    #[test]
    fn a_refusal_names_the_one_condition_that_failed_and_when_it_would_be_otherwise() {
        let list = List::new(&sample::rules(), "Europe/Oslo").unwrap();
        let groups = ["welders".to_owned()];
        let oskar = Person { user: "oskar", groups: &groups, device: "oskar/laptop", ..sample::PERSON };
        // A Friday, at 10:00 in Oslo.
        let now = at("2027-03-05T09:00:00Z");
        let said: Vec<_> = asked(&list, &oskar, &now).into_iter().map(|one| (one.policy, one.failed)).collect();
        assert_eq!(
            said,
            [
                (
                    "dry-dock".to_owned(),
                    Some("hours: Fri 10:00 is outside tue,thu 05:30-11:15 (Europe/Oslo)".to_owned())
                ),
                ("night-crew".to_owned(), Some("group: oskar is in welders; crew is wanted".to_owned())),
            ]
        );
        let near = nearest(&list, &oskar, &now);
        assert_eq!(near.words(&list, now.at, now.at), "the nearest is dry-dock, which opens on Tuesday at 05:30");
        assert_eq!(
            [at("2027-03-04T01:00:00Z").at, now.at].map(|read| nearest(&list, &oskar, &at("2027-03-04T01:00:00Z"))
                .words(&list, at("2027-03-04T01:00:00Z").at, read)),
            [
                "the nearest is dry-dock, which opens today at 05:30",
                "the nearest is dry-dock, which opens on Thursday at 05:30"
            ]
        );
        // Nobody's group: what stands against it is said of the policy with the least.
        let nils = Person { user: "nils", groups: &[], ..sample::PERSON };
        assert_eq!(
            nearest(&list, &nils, &now).words(&list, now.at, now.at),
            "the nearest is dry-dock: group: nils is in none that a policy names; welders is wanted; hours: Fri 10:00 is outside \
             tue,thu 05:30-11:15 (Europe/Oslo)"
        );
        let none = List::new(&[], "Europe/Oslo").unwrap();
        assert_eq!(nearest(&none, &nils, &now), Nearest::Nobody);
    }
}
