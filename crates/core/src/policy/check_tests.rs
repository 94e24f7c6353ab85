//! That a check finds what trying every sign-in finds, and nothing else.

use std::collections::BTreeSet;
use std::net::IpAddr;

use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};

use super::slow::sample::{AT, rule};
use super::slow::{admits, decides};
use super::*;

fn someone(user: &str, groups: &[&str], credential: &str) -> Someone {
    Someone {
        user: user.into(),
        groups: groups.iter().map(ToString::to_string).collect(),
        device: format!("{user}/laptop"),
        platform: Some("linux".into()),
        credential: credential.into(),
    }
}

fn world() -> World {
    let place = |gateway: &str, tunnels: &[&str]| Place {
        gateway: gateway.into(),
        site: gateway.into(),
        zone: "Europe/Oslo".into(),
        tunnels: tunnels.iter().map(ToString::to_string).collect(),
    };
    World {
        people: vec![
            someone("mara", &["crew"], "key-pair"),
            someone("oskar", &["crew", "welders"], "certificate"),
            someone("nils", &[], "password"),
        ],
        places: vec![place("harbour", &["quill", "ikev2"]), place("boatyard", &["quill"])],
        now: "2027-01-04T00:00:00Z".parse().unwrap(),
    }
}

fn said(rules: &[Rule]) -> Vec<String> {
    let line = |one: Finding| format!("{}: {}", one.policy.unwrap_or_else(|| "list".into()), one.words);
    check(rules, &world()).unwrap().into_iter().map(line).collect()
}

#[test]
fn each_fault_is_found_with_its_policy_and_its_cause() {
    let (admit, refuse) = (Effect::Admit, Effect::Refuse);
    let everyone = || Rule::everyone("everyone");
    let has = |rules: &[Rule], part: &str| {
        let said = said(rules);
        assert!(said.iter().any(|line| line.contains(part)), "{part}: {said:?}");
    };
    assert_eq!(said(&[everyone()]), Vec::<String>::new());
    has(&[], "list: nobody can come in");
    has(&[rule("no", refuse, &[], &[]), everyone()], "list: nobody can come in");
    has(&[everyone(), rule("late", admit, &["group=crew"], &[])], "late: can never decide: everyone matches first");
    let halves = [
        rule("morning", admit, &["hours=daily 00:00-12:00"], &[]),
        rule("evening", admit, &["hours=daily 12:00-24:00"], &[]),
        rule("never", admit, &["group=crew"], &[]),
    ];
    has(&halves, "never: can never decide: those before it together matches first");
    has(
        &[rule("a", admit, &["group=pilots"], &[])],
        "a: can never match: nobody with a credential has the group pilots",
    );
    has(&[rule("a", admit, &["method=key"], &["method=key"])], "it wants the method key and leaves it out");
    has(&[rule("a", admit, &["group=crew,pilots"], &[])], "names the group pilots, in which nobody has a credential");
    has(&[rule("a", admit, &["method=pap,eap-tls"], &[])], "admits pap, whose passwords");
    has(
        &[rule("a", admit, &["hours=sun 02:00-03:00"], &[])],
        "do not come on 2027-03-28: clocks in Europe/Oslo skip them",
    );
    let tablets = rule("no-certificates", refuse, &["credential=certificate"], &[]);
    let found = check(&[tablets, everyone()], &world()).unwrap();
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(admits_somebody(&[everyone()], world().now).unwrap());
    let nights =
        [rule("no", refuse, &[], &["hours=daily 22:00-06:00"]), rule("yes", admit, &["hours=daily 05:00-06:00"], &[])];
    assert!(admits_somebody(&nights, world().now).unwrap());
    let never =
        [rule("no", refuse, &["hours=daily 22:00-06:00"], &[]), rule("yes", admit, &["hours=daily 05:00-06:00"], &[])];
    assert!(!admits_somebody(&never, world().now).unwrap() && !admits_somebody(&[], world().now).unwrap());
    // A refusal of some leaves others, whoever is there today.
    for some in ["group=crew", "user=mara,oskar,nils", "gateway=harbour,boatyard", "platform=linux"] {
        assert!(admits_somebody(&[rule("no", refuse, &[some], &[]), everyone()], world().now).unwrap(), "{some}");
        assert!(admits_somebody(&[rule("no", refuse, &[], &[some]), everyone()], world().now).unwrap(), "{some}");
    }
    let example = found[0].example.as_deref().unwrap();
    assert!(example.contains("oskar/laptop") && found[0].weight == Weight::Note, "{found:?}");
}

fn values(asks: &'static str) -> BoxedStrategy<String> {
    let some = |all: &'static [&'static str]| {
        subsequence(all, 1..all.len()).prop_map(move |some| format!("{asks}={}", some.join(","))).boxed()
    };
    match asks {
        "user" => some(&["mara", "oskar", "nils"]),
        "group" => some(&["crew", "welders", "pilots"]),
        "credential" => some(&["key-pair", "certificate", "password"]),
        "tunnel" => some(&["quill", "ikev2"]),
        "gateway" => some(&["harbour", "boatyard"]),
        "method" => some(&METHODS),
        "from" => some(&["0.0.0.0/1", "128.0.0.0/1", "192.0.2.0/24"]),
        _ => select(
            &[
                "hours=daily 00:00-12:00",
                "hours=daily 12:00-24:00",
                "hours=mon 00:00-24:00",
                "hours=tue-sun 00:00-24:00",
            ][..],
        )
        .prop_map(str::to_owned)
        .boxed(),
    }
}

fn some_rule() -> impl Strategy<Value = Rule> {
    const SUBJECTS: [&str; 8] = ["user", "group", "credential", "tunnel", "gateway", "method", "from", "hours"];
    let some = |most| {
        subsequence(&SUBJECTS[..], 0..=most).prop_flat_map(|all| all.into_iter().map(values).collect::<Vec<_>>())
    };
    (some(2), some(1), any::<bool>()).prop_map(|(when, unless, admit)| {
        let effect = if admit { Effect::Admit } else { Effect::Refuse };
        let texts = |all: &[String]| all.iter().map(|text| condition(text).unwrap()).collect();
        Rule { effect, when: texts(&when), unless: texts(&unless), ..Rule::everyone("one") }
    })
}

/// Which policies decide some sign-in, and whether anybody is admitted, by trying each.
fn tried(rules: &[Rule], world: &World) -> (BTreeSet<usize>, bool) {
    let (mut deciding, mut anybody) = (BTreeSet::new(), false);
    let four = [[0, 0, 0, 1], [128, 0, 0, 1], [192, 0, 2, 7]].map(IpAddr::from);
    let addresses = [four[0], four[1], four[2], "2001:db8::1".parse().unwrap()];
    for someone in &world.people {
        for place in &world.places {
            for tunnel in &place.tunnels {
                for hour in (0..8 * 24).step_by(6) {
                    let now: Timestamp = world.now + SignedDuration::from_hours(hour);
                    for method in METHODS {
                        for from in addresses {
                            let at = At {
                                at: now,
                                gateway: &place.gateway,
                                site: &place.site,
                                tunnel: Some(tunnel),
                                method,
                                from: Some(from),
                                ..AT
                            };
                            let person = someone.person();
                            deciding.extend(decides(rules, &place.zone, &person, &at));
                            anybody = anybody || admits(rules, &place.zone, &person, &at);
                        }
                    }
                }
            }
        }
    }
    (deciding, anybody)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn a_check_finds_what_trying_every_sign_in_finds(mut rules in prop::collection::vec(some_rule(), 1..6)) {
        for (at, rule) in rules.iter_mut().enumerate() {
            rule.name = format!("number-{at}");
        }
        let world = world();
        let (deciding, anybody) = tried(&rules, &world);
        let found = check(&rules, &world).unwrap();
        for (at, rule) in rules.iter().enumerate() {
            let idle = |one: &Finding| one.policy.as_deref() == Some(&rule.name) && one.words.starts_with("can never");
            prop_assert_eq!(found.iter().any(idle), !deciding.contains(&at), "{}: {:?}", rule.name, found);
        }
        let nobody = |one: &Finding| one.policy.is_none() && one.words.starts_with("nobody can come in");
        prop_assert_eq!(found.iter().any(nobody), !anybody, "{:?}", found);
    }
}

#[test]
fn of_a_list_that_nobody_can_read_the_first_are_checked_and_that_is_said() {
    let mut rules: Vec<Rule> = (0..1_200)
        .map(|at| rule(&format!("p{at}"), Effect::Refuse, &[&format!("from=10.0.{}.0/24", at % 250)], &[]))
        .collect();
    rules.push(Rule::everyone("everyone"));
    let found = check(&rules, &world()).unwrap();
    assert!(found.iter().any(|one| one.words.contains("1201 policies, of which the first 1000 were checked")));
    assert!(!found.iter().any(|one| one.weight == Weight::Bad) && admits_somebody(&rules, world().now).unwrap());
    assert!(found.iter().any(|one| one.policy.as_deref() == Some("p250") && one.words.contains("p0 matches first")));
}
