//! A second judge of lists, slow and obvious: it reads the texts of each condition anew, knows clocks by walking from minute to minute, and
//! shares no code with the first but the texts themselves.

use std::net::IpAddr;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::{Asks, At, Effect, Person, Rule};

/// Which policy decides, by its place.
pub fn decides(rules: &[Rule], zone: &str, person: &Person<'_>, at: &At<'_>) -> Option<usize> {
    for (place, rule) in rules.iter().enumerate() {
        let all = rule.when.iter().all(|(asks, values)| any_of(*asks, values, zone, person, at));
        let none = rule.unless.iter().all(|(asks, values)| !any_of(*asks, values, zone, person, at));
        if all && none {
            return Some(place);
        }
    }
    None
}

/// Whether the policy that decides admits.
pub fn admits(rules: &[Rule], zone: &str, person: &Person<'_>, at: &At<'_>) -> bool {
    decides(rules, zone, person, at).is_some_and(|place| rules[place].effect == Effect::Admit)
}

fn any_of(asks: Asks, values: &[String], zone: &str, person: &Person<'_>, at: &At<'_>) -> bool {
    values.iter().any(|value| one(asks, value, zone, person, at))
}

fn one(asks: Asks, value: &str, zone: &str, person: &Person<'_>, at: &At<'_>) -> bool {
    let flag = |is: bool| (value == "yes") == is;
    match asks {
        Asks::User => person.user == value,
        Asks::Group => person.groups.iter().any(|group| group == value),
        Asks::Device => person.device == value,
        Asks::Platform => person.platform == Some(value),
        Asks::Credential => person.credential == value,
        Asks::CredentialAge => {
            let Some(issued) = person.issued else { return false };
            let (which, span) = value.split_once(' ').unwrap();
            let (number, unit) = span.split_at(span.len() - 1);
            let seconds = number.parse::<i64>().unwrap()
                * match unit {
                    "s" => 1,
                    "m" => 60,
                    "h" => 3600,
                    _ => 86_400,
                };
            let old = at.at.as_second() - issued.as_second();
            if which == "over" { old >= seconds } else { old < seconds }
        }
        Asks::SecondFactor => flag(at.second_factor),
        Asks::FirstSignIn => flag(at.first),
        Asks::Tunnel => at.tunnel == Some(value),
        Asks::TunnelType => at.tunnel_type.is_some_and(|number| [("esp", 9), ("vlan", 13)].contains(&(value, number))),
        Asks::NasPortType => {
            at.port_type.is_some_and(|number| [("virtual", 5), ("ethernet", 15)].contains(&(value, number)))
        }
        Asks::Gateway => at.gateway == value,
        Asks::Site => at.site == value,
        Asks::Registry => at.registry == value,
        Asks::Realm => at.realm == Some(value) || (at.realm.is_none() && value == "none"),
        Asks::Method => at.method == value,
        Asks::From => {
            let (base, length) = value.split_once('/').unwrap();
            let bits = |text: &str| u32::from(text.parse::<std::net::Ipv4Addr>().unwrap());
            let Some(IpAddr::V4(from)) = at.from else { return false };
            let shift = 32 - length.parse::<u32>().unwrap();
            u64::from(u32::from(from)) >> shift == u64::from(bits(base)) >> shift
        }
        Asks::Hours => hours(value, zone, at.at),
        Asks::Dates => {
            let (dates, own) = value.split_once(' ').unwrap_or((value, zone));
            let (from, until) = dates.split_once("..").unwrap_or((dates, dates));
            // Dates in this form stand in the order of their letters.
            let today = wall(own, at.at).0;
            (from.is_empty() || from <= today.as_str()) && (until.is_empty() || today.as_str() <= until)
        }
    }
}

/// Date, day of the week (0 for Monday) and seconds of the day by the clock on the wall, by the zone's distance from UTC and arithmetic alone.
fn wall(zone: &str, at: Timestamp) -> (String, usize, i64) {
    let ahead = i64::from(TimeZone::get(zone).unwrap().to_offset(at).seconds());
    let seconds = at.as_second() + ahead;
    let days = seconds.div_euclid(86_400);
    // The first of January 1970 was a Thursday.
    let weekday = usize::try_from((days + 3).rem_euclid(7)).unwrap();
    // Civil date from the number of days, after the calendar that repeats every 146,097 of them.
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1_460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let (day, month) = (doy - (153 * mp + 2) / 5 + 1, if mp < 10 { mp + 3 } else { mp - 9 });
    let year = yoe + era * 400 + i64::from(month <= 2);
    (format!("{year:04}-{month:02}-{day:02}"), weekday, seconds.rem_euclid(86_400))
}

fn hours(value: &str, zone: &str, at: Timestamp) -> bool {
    let mut parts = value.split(' ');
    let (days, times) = (parts.next().unwrap(), parts.next().unwrap());
    let (_, today, second) = wall(parts.next().unwrap_or(zone), at);
    let names = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let on = |day: usize| {
        days == "daily"
            || days.split(',').any(|part| match part.split_once('-') {
                Some((first, last)) => {
                    let place = |name: &str| names.iter().position(|one| *one == name).unwrap();
                    (place(first)..=place(last)).contains(&day)
                }
                None => part == names[day],
            })
    };
    let (from, to) = times.split_once('-').unwrap();
    let seconds = |text: &str| {
        let (hour, minute) = text.split_once(':').unwrap();
        hour.parse::<i64>().unwrap() * 3600 + minute.parse::<i64>().unwrap() * 60
    };
    let (from, to) = (seconds(from), seconds(to));
    if from < to {
        on(today) && from <= second && second < to
    } else {
        (on(today) && from <= second) || (on((today + 6) % 7) && second < to)
    }
}

/// The example, for tests.
pub mod sample {
    use super::*;
    use crate::policy::condition;

    pub const PERSON: Person<'static> = Person {
        user: "mara",
        groups: &[],
        device: "mara/laptop",
        platform: Some("linux"),
        credential: "key-pair",
        issued: None,
    };

    pub const AT: At<'static> = At {
        at: Timestamp::UNIX_EPOCH,
        from: None,
        tunnel: Some("quill"),
        tunnel_type: None,
        port_type: Some(5),
        gateway: "harbour",
        site: "harbour",
        registry: "estate",
        realm: None,
        method: "key",
        second_factor: false,
        first: false,
    };

    pub fn rule(name: &str, effect: Effect, when: &[&str], unless: &[&str]) -> Rule {
        let read = |texts: &[&str]| texts.iter().map(|text| condition(text).unwrap()).collect();
        Rule { effect, when: read(when), unless: read(unless), ..Rule::everyone(name) }
    }

    pub fn rules() -> Vec<Rule> {
        vec![
            rule("dry-dock", Effect::Admit, &["group=welders", "hours=tue,thu 05:30-11:15"], &[]),
            rule("night-crew", Effect::Admit, &["group=crew", "hours=daily 22:00-06:00"], &[]),
        ]
    }
}

mod judged {
    use jiff::SignedDuration;
    use proptest::prelude::*;
    use proptest::sample::{select, subsequence};

    use super::sample::{AT, PERSON};
    use super::*;
    use crate::policy::{List, condition};

    const USERS: [&str; 4] = ["mara", "oskar", "tomas", "nils"];
    const GROUPS: [&str; 4] = ["crew", "welders", "pilots", "yard"];
    const ZONES: [&str; 4] = ["Europe/Oslo", "Australia/Lord_Howe", "UTC", "America/St_Johns"];
    /// In the days around which clocks are set in Oslo and on Lord Howe Island, twice each.
    const SET: [&str; 4] =
        ["2027-03-27T00:00:00Z", "2027-10-30T00:00:00Z", "2027-04-02T12:00:00Z", "2027-10-01T12:00:00Z"];

    fn values(asks: &'static str) -> BoxedStrategy<String> {
        let some = |all: &'static [&'static str]| {
            subsequence(all, 1..=2.min(all.len())).prop_map(move |some| format!("{asks}={}", some.join(","))).boxed()
        };
        match asks {
            "user" => some(&USERS),
            "group" => some(&GROUPS),
            "device" => some(&["mara/laptop", "oskar/laptop", "oskar/phone"]),
            "platform" => some(&["linux", "android"]),
            "credential" => some(&["key-pair", "certificate", "password"]),
            "credential-age" => some(&["over 90d", "under 12h", "over 1d"]),
            "second-factor" => some(&["yes"]),
            "first-sign-in" => some(&["no"]),
            "tunnel" => some(&["quill", "ikev2"]),
            "tunnel-type" => some(&["esp", "vlan"]),
            "nas-port-type" => some(&["virtual", "ethernet"]),
            "gateway" => some(&["harbour", "boatyard"]),
            "site" => some(&["harbour", "boatyard"]),
            "registry" => some(&["estate", "crew-directory"]),
            "realm" => some(&["crew.skerry.example", "skerry.example"]),
            "method" => some(&["key", "eap-tls", "pap"]),
            "from" => some(&["192.0.2.0/24", "198.51.100.128/25", "0.0.0.0/0"]),
            "dates" => some(&["2027-03-28..2027-04-03", "..2027-10-02", "2027-10-31..", "2027-03-28 UTC"]),
            _ => (prop::collection::vec(
                (
                    select(&["tue,thu", "daily", "mon-fri", "sat,sun", "sun", "sat"][..]),
                    0_u32..48,
                    1_u32..48,
                    prop::option::of(select(&ZONES[..])),
                ),
                1..=2,
            ),)
                .prop_map(move |(all,)| {
                    let one = |(days, from, long, zone): &(&str, u32, u32, Option<&str>)| {
                        let time = |half: u32| format!("{:02}:{:02}", half / 2, half % 2 * 30);
                        let to = (from + long) % 48;
                        let zone = zone.map(|zone| format!(" {zone}")).unwrap_or_default();
                        format!("{days} {}-{}{zone}", time(*from), time(if to == 0 { 48 } else { to }))
                    };
                    format!("{asks}={}", all.iter().map(one).collect::<Vec<_>>().join(";"))
                })
                .boxed(),
        }
    }

    fn rule() -> impl Strategy<Value = Rule> {
        let subjects: Vec<&'static str> = Asks::ALL.map(Asks::word).to_vec();
        let some = |most| {
            subsequence(subjects.clone(), 0..=most)
                .prop_flat_map(|subjects| subjects.into_iter().map(values).collect::<Vec<_>>())
        };
        (some(3), some(1), any::<bool>()).prop_map(|(when, unless, admit)| Rule {
            effect: if admit { Effect::Admit } else { Effect::Refuse },
            when: when.iter().map(|text| condition(text).unwrap()).collect(),
            unless: unless.iter().map(|text| condition(text).unwrap()).collect(),
            ..Rule::everyone("one")
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2_000))]

        /// The list decides as the slow judge does, over random lists, people, zones and moments around clock changes; whoever looks only at the
        /// moments at which something may change misses no change.
        #[test]
        fn the_list_decides_as_the_slow_judge(
            rules in prop::collection::vec(rule(), 0..8),
            zone in select(&ZONES[..]),
            who in (select(&USERS[..]), subsequence(&GROUPS[..], 0..=2), select(&["laptop", "phone"][..])),
            kind in (select(&["key-pair", "certificate", "password"][..]), select(&["key", "eap-tls", "pap"][..])),
            place in (select(&["harbour", "boatyard"][..]), select(&["harbour", "boatyard"][..]), any::<bool>(), any::<bool>()),
            more in (any::<bool>(), any::<bool>(), any::<u8>(), select(&[9_u32, 13, 64][..]), select(&[5_u32, 15, 99][..])),
            when in (select(&SET[..]), 0_i64..3 * 86_400, 0_i64..200 * 86_400),
        ) {
            let groups: Vec<_> = who.1.iter().map(ToString::to_string).collect();
            let device = format!("{}/{}", who.0, who.2);
            let now = when.0.parse::<Timestamp>().unwrap() + SignedDuration::from_secs(when.1);
            let person = Person {
                user: who.0, groups: &groups, device: &device, credential: kind.0,
                platform: more.0.then_some("android"),
                issued: more.1.then(|| now - SignedDuration::from_secs(when.2)),
            };
            let from = IpAddr::from([192, 0, 2, more.2]);
            let at = At {
                at: now, gateway: place.0, site: place.1, method: kind.1,
                from: place.2.then_some(if place.3 { from } else { IpAddr::from([198, 51, 100, more.2]) }),
                tunnel: place.3.then_some("ikev2"), tunnel_type: more.0.then_some(more.3), port_type: more.1.then_some(more.4),
                realm: place.3.then_some("skerry.example"), second_factor: more.0, first: more.1, ..AT
            };
            let list = List::new(&rules, zone).unwrap();
            let decided = |at: &At<'_>| list.decide_once(&person, at).by.map(|(place, _)| place);
            prop_assert_eq!(decided(&at), decides(&rules, zone, &person, &at));
            prop_assert_eq!(
                crate::policy::asked(&list, &person, &at).iter().position(|one| one.failed.is_none()),
                decides(&rules, zone, &person, &at)
            );
            // Two days on, in steps of ten minutes: between two moments of change, nothing changes.
            let changes = list.changes(person.issued, now, SignedDuration::from_hours(48));
            let mut last = (now, decided(&at));
            for step in 1..=288 {
                let later = now + SignedDuration::from_secs(600 * step);
                let by = decides(&rules, zone, &person, &At { at: later, ..at });
                if by != last.1 {
                    prop_assert!(changes.iter().any(|one| *one > last.0 && *one <= later), "{last:?} {later} {changes:?}");
                }
                last = (later, by);
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        /// The same far down a long list, behind many policies that are about nobody here.
        #[test]
        fn a_long_list_decides_as_the_slow_judge(before in 0_usize..200, rules in prop::collection::vec(rule(), 0..4)) {
            let nobody = crate::policy::slow::sample::rule("nobody", Effect::Refuse, &["user=nobody"], &[]);
            let rules: Vec<_> = std::iter::repeat_n(nobody, before).chain(rules).collect();
            let list = List::new(&rules, ZONES[0]).unwrap();
            let decided = list.decide_once(&PERSON, &AT).by.map(|(place, _)| place);
            prop_assert_eq!(decided, decides(&rules, ZONES[0], &PERSON, &AT));
        }
    }

    /// As a socket for both versions shows it.
    #[test]
    fn an_address_is_the_same_in_both_of_its_forms() {
        let rules = [crate::policy::slow::sample::rule("near", Effect::Admit, &["from=192.0.2.0/24"], &[])];
        let list = List::new(&rules, ZONES[0]).unwrap();
        for (from, is_near) in
            [("192.0.2.7", true), ("::ffff:192.0.2.7", true), ("::ffff:198.51.100.7", false), ("::192.0.2.7", false)]
        {
            let at = At { from: from.parse().ok(), ..AT };
            assert_eq!(list.decide_once(&PERSON, &at).admits().is_some(), is_near, "{from}");
        }
    }

    /// That the comparison can fail: a judge with one flaw each is told from the true one by a sign-in that anybody can read.
    #[test]
    fn each_flaw_of_a_judge_shows_in_a_sign_in() {
        use super::sample::rule;
        let tuesday = |time: &str| format!("2027-03-02T{time}Z").parse::<Timestamp>().unwrap();
        let at = |time: &str| At { at: tuesday(time), from: Some([192, 0, 2, 7].into()), ..AT };
        let crew = ["crew".to_owned()];
        let mara = Person { groups: &crew, ..PERSON };
        type Case<'a> = (&'a str, Vec<Rule>, Person<'a>, At<'a>, Option<usize>);
        let (admit, refuse) = (Effect::Admit, Effect::Refuse);
        let cases: [Case<'_>; 10] = [
            (
                "the last that matches decides",
                vec![rule("a", refuse, &["group=crew"], &[]), rule("b", admit, &[], &[])],
                mara,
                at("09:00:00"),
                Some(0),
            ),
            ("the end of the list admits", vec![rule("a", admit, &["group=pilots"], &[])], mara, at("09:00:00"), None),
            (
                "all values must match",
                vec![rule("a", admit, &["group=crew,pilots"], &[])],
                mara,
                at("09:00:00"),
                Some(0),
            ),
            (
                "one condition is enough",
                vec![rule("a", admit, &["group=crew", "user=oskar"], &[])],
                mara,
                at("09:00:00"),
                None,
            ),
            ("a negation is passed over", vec![rule("a", admit, &[], &["group=crew"])], mara, at("09:00:00"), None),
            (
                "hours are in UTC",
                vec![rule("a", admit, &["hours=tue 09:00-10:00"], &[])],
                mara,
                at("08:30:00"),
                Some(0),
            ),
            (
                "the end of hours is within",
                vec![rule("a", admit, &["hours=tue 09:00-10:00"], &[])],
                mara,
                at("09:00:00"),
                None,
            ),
            (
                "hours over midnight are of today alone",
                vec![rule("a", admit, &["hours=mon 22:00-06:00"], &[])],
                mara,
                at("03:00:00"),
                Some(0),
            ),
            (
                "what is not known matches",
                vec![rule("a", admit, &["realm=skerry.example"], &[])],
                mara,
                at("09:00:00"),
                None,
            ),
            (
                "an address that is not known is from everywhere",
                vec![rule("a", admit, &["from=0.0.0.0/0"], &[])],
                mara,
                At { from: None, ..at("09:00:00") },
                None,
            ),
        ];
        for (flaw, rules, person, at, by) in cases {
            let list = List::new(&rules, "Europe/Oslo").unwrap();
            assert_eq!(list.decide_once(&person, &at).by.map(|(place, _)| place), by, "{flaw}");
            assert_eq!(decides(&rules, "Europe/Oslo", &person, &at), by, "{flaw}");
        }
    }
}
