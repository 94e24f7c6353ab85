//! How fast sign-ins are decided and lists checked: `cargo bench -p yestrel-core --bench policies`.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot go on ends")]

use std::hint::black_box;
use std::time::Instant;

use jiff::{SignedDuration, Timestamp};
use yestrel_core::policy::{At, Effect, List, Person, Place, Rule, Someone, World, check, condition};

const POLICIES: usize = 200;
const USERS: usize = 10_000;
const GROUPS: usize = 100;
const DECISIONS: usize = 1_000_000;

/// Two hundred policies as a large estate could have them: by group and hours, by group and address, by tunnel, refusals before them.
fn rules() -> Vec<Rule> {
    let text = |at: usize| {
        let group = at % GROUPS;
        match at % 4 {
            0 => vec![format!("group=g{group}"), format!("hours=mon-fri {:02}:00-{:02}:00", at % 9 + 5, at % 9 + 14)],
            1 => vec![format!("group=g{group}"), format!("from=198.51.{}.0/24", at % 250)],
            2 => vec![format!("group=g{group},g{}", (group + 50) % GROUPS), "tunnel=ikev2".into()],
            _ => vec![format!("group=g{group}"), "hours=sat,sun 22:00-06:00 Australia/Lord_Howe".into()],
        }
    };
    (0..POLICIES)
        .map(|at| Rule {
            effect: if at % 10 == 9 { Effect::Refuse } else { Effect::Admit },
            when: text(at).iter().map(|text| condition(text).unwrap()).collect(),
            ..Rule::everyone(&format!("p{at}"))
        })
        .collect()
}

fn main() {
    let rules = rules();
    let list = List::new(&rules, "Europe/Oslo").unwrap();
    let people: Vec<Someone> = (0..USERS)
        .map(|at| Someone {
            user: format!("user-{at}"),
            groups: (0..3).map(|of| format!("g{}", (at * 7 + of * 31) % GROUPS)).collect(),
            device: format!("user-{at}/laptop"),
            platform: Some("linux".into()),
            credential: "key-pair".into(),
        })
        .collect();
    let now: Timestamp = "2027-03-05T09:00:00Z".parse().unwrap();
    let began = Instant::now();
    let known: Vec<_> = people.iter().map(|one| list.know(&one.person())).collect();
    println!("{USERS} people made known to {POLICIES} policies  {:8.1} ms", began.elapsed().as_secs_f64() * 1e3);

    let base = At {
        at: now,
        from: Some("198.51.7.9".parse().unwrap()),
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
    let began = Instant::now();
    let mut admitted = 0_u32;
    for at in 0..DECISIONS {
        let who = at * 7919 % USERS;
        let person: Person<'_> = people[who].person();
        let moment = now + SignedDuration::from_secs(at as i64 % 604_800);
        let decided = list.decide(black_box(&known[who]), &person, &At { at: moment, ..base });
        admitted += u32::from(decided.admits().is_some());
    }
    let seconds = began.elapsed().as_secs_f64();
    println!(
        "decisions a second on one core             {:8.0}   ({admitted} of {DECISIONS} admitted)",
        DECISIONS as f64 / seconds
    );

    let began = Instant::now();
    for at in 0..DECISIONS / 10 {
        black_box(list.decide_once(&people[at % USERS].person(), &base));
    }
    println!(
        "of people not known before, a second       {:8.0}",
        (DECISIONS / 10) as f64 / began.elapsed().as_secs_f64()
    );

    let place = |name: &str| Place {
        gateway: name.into(),
        site: name.into(),
        zone: "Europe/Oslo".into(),
        tunnels: vec!["quill".into(), "ikev2".into()],
    };
    let world = World { people, places: vec![place("harbour"), place("boatyard")], now };
    let began = Instant::now();
    let found = check(&rules, &world).unwrap();
    println!(
        "{POLICIES} policies checked, {USERS} people          {:8.1} ms   ({} findings)",
        began.elapsed().as_secs_f64() * 1e3,
        found.len()
    );
}
