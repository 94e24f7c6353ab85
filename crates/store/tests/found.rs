//! What is found without looking at everything is what looking at everything finds.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeSet;
use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use yestrel_core::estate::{
    Credential, Device, Gateway, Group, Host, HostKind, Material, Reach, Revocation, User, UserState,
};
use yestrel_core::sample;
use yestrel_store::queries::{UserLine, admitted_at, in_group, kept_out_at};
use yestrel_store::records::Address;
use yestrel_store::{Book, Query, SqliteStore};

fn now() -> Timestamp {
    sample::at()
}

const GROUPS: [&str; 3] = ["crew", "deck", "office"];
const GATEWAYS: [&str; 2] = ["boatyard", "harbour"];
const LISTENERS: [&str; 4] = ["boatyard/quill", "boatyard/second", "harbour/quill", "harbour/second"];

fn store() -> (tempfile::TempDir, SqliteStore) {
    let folder = tempfile::tempdir().unwrap();
    let mut store = SqliteStore::create(&folder.path().join("e")).unwrap();
    let fill = |book: &Book<'_>| {
        let site = sample::site();
        book.put(&site)?;
        for gateway in GATEWAYS {
            let host = Host {
                name: gateway.into(),
                site: site.name.clone(),
                kind: HostKind::Cloud,
                via: format!("ssh://root@{gateway}.example:22").parse().unwrap(),
                access: Default::default(),
                facts: None,
                probed: None,
                leftover: None,
                users_at_once: None,
                created: now(),
            };
            book.put(&host)?;
            book.put(&Gateway { name: gateway.into(), host: host.name, ..sample::gateway() })?;
        }
        for name in LISTENERS {
            book.put(&sample::listener(name, 44, Reach::Site))?;
        }
        for group in GROUPS {
            book.put(&Group { name: group.into(), about: None, lifetime: None, created: now() })?;
        }
        Ok(())
    };
    store.write(now(), "a@b", fill).unwrap();
    (folder, store)
}

/// One thing that happens to one of four users and to what they have.
#[derive(Debug, Clone)]
enum Deed {
    Groups(BTreeSet<usize>),
    Suspend(bool),
    KeyPair(BTreeSet<usize>),
    Account(BTreeSet<usize>),
    Revoke,
    Change(u8),
    Remove,
}

fn deeds() -> impl Strategy<Value = Vec<(usize, Deed)>> {
    let some = |most: usize| proptest::collection::btree_set(0..most, 0..=most);
    let deed = prop_oneof![
        some(3).prop_map(Deed::Groups),
        any::<bool>().prop_map(Deed::Suspend),
        some(4).prop_map(Deed::KeyPair),
        some(2).prop_map(Deed::Account),
        Just(Deed::Revoke),
        (0_u8..3).prop_map(Deed::Change),
        Just(Deed::Remove),
    ];
    proptest::collection::vec((0_usize..4, deed), 1..30)
}

fn chosen<'a>(of: &[&'a str], which: &BTreeSet<usize>) -> Vec<&'a str> {
    which.iter().map(|at| of[*at]).collect()
}

fn does(book: &Book<'_>, who: usize, number: u8, deed: &Deed) -> yestrel_core::Result<()> {
    // Names of which one begins as another does, and with what stands before a slash.
    let name = ["mara", "mara-n", "tomas", "ines"][who];
    let mut user = book.get::<User>(name)?.unwrap_or_else(|| User::new(name, now()));
    let device = format!("{name}/laptop");
    match deed {
        Deed::Groups(which) => user.groups = chosen(&GROUPS, which).into_iter().map(str::to_owned).collect(),
        Deed::Suspend(yes) => user.state = if *yes { UserState::Suspended } else { UserState::Active },
        _ => {}
    }
    book.put(&user)?;
    if book.get::<Device>(&device)?.is_none() {
        book.put(&Device { name: device.clone(), user: name.into(), platform: None, created: now() })?;
    }
    let mine: Vec<Credential> = book.find(&[("device", device.as_str().into())])?;
    let made = |credential: Credential| book.put(&Credential { name: format!("{device}/{number}"), ..credential });
    match deed {
        Deed::KeyPair(which) => made(sample::key_pair(name, number, &chosen(&LISTENERS, which)))?,
        Deed::Account(which) => made(sample::account(name, number, &chosen(&GATEWAYS, which)))?,
        Deed::Revoke => {
            for mut one in mine.into_iter().filter(|one| one.revoked.is_none()) {
                book.put(&Revocation {
                    name: one.identity.to_string(),
                    device: one.device.clone(),
                    reason: "lost".into(),
                    at: now(),
                    gateways: one.gateways().into_iter().collect(),
                })?;
                one.revoked = Some(now());
                book.put(&one)?;
            }
        }
        Deed::Change(way) => {
            for mut one in mine {
                match (&mut one.material, way) {
                    (Material::KeyPair(pair), 0) => pair.ways.clear(),
                    (Material::KeyPair(pair), 1) => pair.ways.truncate(1),
                    _ => one.reason = Some("looked at".into()),
                }
                book.put(&one)?;
            }
        }
        Deed::Remove => {
            for one in mine {
                book.remove::<Credential>(&one.name)?;
            }
        }
        Deed::Groups(_) | Deed::Suspend(_) => {}
    }
    Ok(())
}

fn names(all: &[Credential]) -> Vec<&str> {
    all.iter().map(|one| one.name.as_str()).collect()
}

fn agree(book: &Book<'_>) -> yestrel_core::Result<()> {
    let (users, credentials) = (book.all::<User>()?, book.all::<Credential>()?);
    for group in GROUPS {
        let is_in = |user: &&User| user.groups.iter().any(|one| one == group);
        let wanted: Vec<_> = users.iter().filter(is_in).map(|user| user.name.clone()).collect();
        assert_eq!(book.names::<User>(&in_group(group))?, wanted, "{group}");
    }
    for gateway in GATEWAYS {
        let lets_in = |one: &&Credential| one.revoked.is_none() && one.gateways().contains(gateway);
        let wanted: Vec<_> = credentials.iter().filter(lets_in).cloned().collect();
        assert_eq!(names(&book.ask(&admitted_at(gateway))?), names(&wanted), "{gateway}");
        let named = |one: &Revocation| one.gateways.iter().any(|at| at == gateway);
        let wanted: Vec<_> = book.all::<Revocation>()?.into_iter().filter(named).map(|one| one.name).collect();
        assert_eq!(book.names::<Revocation>(&kept_out_at(gateway))?, wanted, "{gateway}");
    }
    let mut lines = Vec::new();
    book.each(&Query::default(), |line: UserLine| {
        lines.push((line.name, line.groups, line.state, line.devices, line.credentials));
        Ok(true)
    })?;
    let live = |user: &User| credentials.iter().filter(|one| one.user == user.name && one.revoked.is_none()).count();
    let line = |user: &User| (user.name.clone(), user.groups.clone(), user.state, 1, live(user));
    assert_eq!(lines, users.iter().map(line).collect::<Vec<_>>());
    let mut seen = Vec::new();
    book.each_device(None, |device, theirs| {
        seen.push((device.name, names(&theirs).join(" ")));
        Ok(true)
    })?;
    let mut wanted = Vec::new();
    for device in book.all::<Device>()? {
        let live = [("device", device.name.as_str().into()), ("revoked", serde_json::Value::Null)];
        wanted.push((device.name.clone(), names(&book.find::<Credential>(&live)?).join(" ")));
    }
    assert_eq!(seen, wanted);
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn links_are_what_the_records_say_whatever_becomes_of_these(deeds in deeds()) {
        let (_folder, mut store) = store();
        for (number, (who, deed)) in (1..).zip(&deeds) {
            let change = |book: &Book<'_>| {
                does(book, *who, number, deed)?;
                book.note("deed", "x", "")
            };
            store.write(now(), "a@b", change).unwrap();
        }
        store.read(now(), agree).unwrap();
        // What a rehearsal does leaves nothing.
        store.rehearse(now(), "a@b", |book| does(book, 0, 200, &Deed::KeyPair([2].into()))).unwrap();
        store.read(now(), agree).unwrap();
    }

    /// Against the plainest model: every address in turn.
    #[test]
    fn the_free_address_is_the_first_whose_time_is_over_or_the_lowest_in_no_row(
        steps in proptest::collection::vec((0_u8..10, 0_u8..9, 0_i64..5), 1..60),
        prefix in 28_u8..30,
    ) {
        let (_folder, mut store) = store();
        let mut listener = sample::listener("harbour/quill", 44, Reach::Site);
        let pool = |third| Ipv4Net::new(Ipv4Addr::new(10, 187, third, 0), prefix).unwrap();
        listener.pool = pool(44);
        let mut at = now();
        for (what, which, hours) in steps {
            at += SignedDuration::from_hours(hours);
            let listener = &mut listener;
            let step = |book: &Book<'_>| {
                let all: Vec<Address> = book.find(&[("listener", listener.name.as_str().into())])?;
                match (what, all.get(usize::from(which) % all.len().max(1))) {
                    // Held after a revocation, given back, or the pool is another one.
                    (0..=2, Some(one)) => {
                        let until = at + SignedDuration::from_hours(i64::from(which));
                        book.put(&Address { held_until: Some(until), ..one.clone() })?;
                    }
                    (3, Some(one)) => drop(book.remove::<Address>(&one.name)?),
                    (4, _) => {
                        for one in &all {
                            book.remove::<Address>(&one.name)?;
                        }
                        listener.pool = pool(if which % 2 == 0 { 44 } else { 43 });
                    }
                    _ => {
                        let mut over: Vec<_> = all.iter().filter(|one| listener.pool.contains(&one.inner)).collect();
                        over.retain(|one| one.is_free(at));
                        over.sort_by_key(|one| (one.held_until, one.inner));
                        let untouched = listener.pool.hosts().skip(1).filter(|host| all.iter().all(|one| one.inner != *host));
                        let model = over.iter().map(|one| (one.inner, true)).chain(untouched.map(|host| (host, false)));
                        let most = usize::from(which) + 1;
                        let free = book.free_addresses(listener, most)?;
                        assert_eq!(free, model.take(most).collect::<Vec<_>>());
                        for (free, _) in free.iter().take(1 + usize::from(which) % 3) {
                            book.put(&Address::new(&listener.name, *free, "mara/laptop/1"))?;
                        }
                    }
                }
                Ok(())
            };
            store.write(at, "a@b", step).unwrap();
        }
    }
}
