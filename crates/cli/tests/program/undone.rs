//! Taking back what no gateway has seen; what is kept of changes holds no secret.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read as _;

use yestrel_core::undo::{Change, Fields, without_secrets};

use crate::common::World;

/// Text in which every record of an estate stands, without what undoing itself leaves: the history, and what is kept of changes.
fn nouns(world: &World) -> String {
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let mut out = String::new();
    for table in ["sites", "listeners", "users", "groups", "devices", "credentials", "addresses", "registries"] {
        let mut statement = database.prepare(&format!("SELECT * FROM {table} ORDER BY name")).unwrap();
        let columns = statement.column_count();
        let mut rows = statement.query([]).unwrap();
        while let Some(row) = rows.next().unwrap() {
            let cells: Vec<_> = (0..columns).map(|at| format!("{:?}", row.get_ref(at).unwrap())).collect();
            out.push_str(&format!("{table} {}\n", cells.join(" ")));
        }
    }
    out
}

fn newest(world: &World) -> u64 {
    let history = world.run("estate history --last 1 --format json").is(0).json();
    history[0]["number"].as_u64().unwrap()
}

#[test]
fn what_no_gateway_has_seen_is_taken_back_whole() {
    let world = World::harbour("--processes");
    world.run("group add crew").is(0);
    world.run("user add tomas --group crew").is(0);
    world.run("device add tomas/phone").is(0);
    world.run("credential issue tomas/phone").is(0);
    world.run("rollout --yes").is(0);
    let before = nouns(&world);
    let first = newest(&world) + 1;
    for change in [
        "site change harbour --network 10.44.0.0/21",
        "listener change harbour/quill --port 4700 --yes",
        "group add welders",
        "group change welders --add tomas",
        "user change tomas --mail tomas@skerry.example",
        "user add mara --group crew",
        "device add mara/laptop --platform linux",
        "credential issue mara/laptop --until 90d",
        "user add ines",
        "user remove ines --yes",
        "device add tomas/tablet",
        "device remove tomas/tablet --yes",
        "group add office",
        "group remove office --yes",
        "estate change --hold-addresses 7",
    ] {
        world.run(change).is(0);
    }
    world.run("estate save backup --readable --yes").is(0);
    let changed = nouns(&world);
    assert!(changed != before, "the changes change something");
    let rows = world.run(&format!("estate undo {first} --preview --format json")).is(0).json();
    assert!(rows.as_array().unwrap().iter().all(|row| row["verdict"] == "taken back"), "{rows:#}");
    world.run(&format!("estate undo {first}")).is(2).says("estate change skerry");
    assert!(nouns(&world) == changed, "without a yes, nothing is taken back");
    world.run(&format!("estate undo {first} --yes")).is(0).says("took back 15 changes");
    assert!(nouns(&world) == before, "{}", nouns(&world));
    world.run("rollout --preview").is(0).says("nothing to do");
    // An undo is a change like any other; but a key that went with its credential is not made up.
    world.run("estate undo --yes").is(3).says("the secrets of the credential mara/laptop/1 went with it");
    assert!(nouns(&world) == before);
    world.run("user add ines").is(0);
    let there = nouns(&world);
    world.run("estate undo --yes").is(0).says("took back 1 change");
    assert!(nouns(&world) == before);
    // The last row is a backup, which changes nothing.
    world.run("estate save again --readable --yes").is(0);
    world.run("estate undo --yes").is(0).says("took back 1 change");
    assert!(nouns(&world) == there);
    world.run("estate history --verify").is(0);
}

#[test]
fn what_stays_is_said_with_what_to_do_in_its_place() {
    let world = World::mara("--processes");
    world.run("rollout --yes").is(0);
    let sent = newest(&world);
    world.run("user add tomas").is(0);
    world.run("device add tomas/tablet").is(0);
    world.run("credential issue tomas/tablet").is(0);
    world.run("credential handover tomas/tablet --to tablet.yestrel --yes").is(0);
    let handed = newest(&world);
    world.run("user add ines").is(0);
    let before = nouns(&world);
    let came = world.run(&format!("estate undo {handed} --yes")).is(3);
    came.says("credential revoke tomas/tablet").says(&format!("yestrel estate undo {}", handed + 1));
    world.run(&format!("estate undo {} --yes", sent - 2)).is(3).says("cannot be taken back");
    world.run("estate undo 999 --yes").is(2).says("no row 999");
    world.run("estate undo 0 --yes").is(2);
    world.run("estate undo mara").is(2).says("the number of a row, as yestrel estate history shows it");
    world.run("estate undo 1 --yes").is(3);
    assert!(nouns(&world) == before, "what is refused changes nothing");
    // What came after it can go alone; and what a gateway has, not.
    world.run(&format!("estate undo {} --yes", handed + 1)).is(0);
    world.run("user show ines").is(2);
    world.run("rollout --yes").is(0);
    let issued = sent + 3;
    world.run(&format!("estate undo {issued} --yes")).is(3).says("cannot be taken back");
    world
        .run(&format!("estate undo {issued} --preview"))
        .is(3)
        .says("gateways may know it")
        .says("the device may have it");
}

/// What is kept of changes up to a row of the history: a line of JSON each, by the row that their command wrote last.
fn kept(database: &rusqlite::Connection, until: u64) -> Vec<(u64, String)> {
    let mut statement = database.prepare("SELECT number, packed FROM changes ORDER BY number").unwrap();
    let rows = statement.query_map([], |row| Ok((row.get::<_, i64>(0)?.unsigned_abs(), row.get::<_, Vec<u8>>(1)?)));
    let unpacked = |(number, packed): (u64, Vec<u8>)| {
        let mut lines = String::new();
        if !packed.is_empty() {
            flate2::read::ZlibDecoder::new(packed.as_slice()).read_to_string(&mut lines).unwrap();
        }
        (number, lines)
    };
    rows.unwrap().map(Result::unwrap).take_while(|(number, _)| *number <= until).map(unpacked).collect()
}

/// A record without what gateways tell of themselves: that is news, and no change of anybody's.
fn lasting(mut fields: Fields) -> Fields {
    for news in ["news_seen", "renewed", "order_number", "adopted", "amends", "lists_there", "facts", "probed"] {
        fields.remove(news);
    }
    fields
}

/// Tables of which every change is kept; of registries, one was there from the beginning.
const KEPT: [&str; 15] = [
    "estates",
    "sites",
    "hosts",
    "gateways",
    "listeners",
    "users",
    "groups",
    "devices",
    "credentials",
    "addresses",
    "revocations",
    "authorities",
    "certificates",
    "shared_secrets",
    "policies",
];

type Estate = BTreeMap<(String, String), Fields>;

/// Every record as it stands, without its secrets.
fn standing(database: &rusqlite::Connection) -> Estate {
    let mut all = Estate::new();
    for table in KEPT {
        let mut statement = database.prepare(&format!("SELECT * FROM {table}")).unwrap();
        let names: Vec<_> = statement.column_names().map(str::to_owned).collect();
        let mut rows = statement.query([]).unwrap();
        while let Some(row) = rows.next().unwrap() {
            let mut fields = Fields::new();
            for (at, name) in names.iter().enumerate() {
                let value = match row.get_ref(at).unwrap() {
                    rusqlite::types::ValueRef::Integer(number) => number.into(),
                    rusqlite::types::ValueRef::Text(text) => {
                        let text = std::str::from_utf8(text).unwrap();
                        let structured = text.starts_with(['{', '[']);
                        if structured { serde_json::from_str(text).unwrap() } else { text.into() }
                    }
                    _ => continue,
                };
                fields.insert(name.clone(), value);
            }
            let name = fields["name"].as_str().unwrap().to_owned();
            all.insert((table.to_owned(), name), lasting(without_secrets(&fields)));
        }
    }
    all
}

/// The estate as it comes to from what is kept of its changes, up to a row of the history.
fn rebuilt(database: &rusqlite::Connection, until: u64) -> Estate {
    let mut all = Estate::new();
    for (_, lines) in kept(database, until) {
        for line in lines.lines() {
            let Change { table, name, before, mut after } = serde_json::from_str(line).unwrap();
            if let (None, Some(after)) = (&before, &mut after) {
                // The name of what was not there before stands once.
                after.entry("name").or_insert_with(|| name.clone().into());
            }
            let was = match after {
                Some(after) => all.insert((table, name), lasting(after)),
                None => all.remove(&(table, name)),
            };
            assert_eq!(was, before.map(lasting), "each begins where the one before it ended");
        }
    }
    all
}

/// What is kept of all changes comes to what stands there.
pub fn is_kept_whole(world: &World) {
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let (rebuilt, stood) = (rebuilt(&database, u64::MAX), standing(&database));
    let keys: BTreeSet<_> = rebuilt.keys().chain(stood.keys()).collect();
    for key in keys {
        assert_eq!(rebuilt.get(key), stood.get(key), "{key:?}");
    }
}

/// The estate of any moment is in what is kept of its changes: gone through up to then they come to what stood there.
#[test]
fn the_estate_of_a_past_moment_can_be_rebuilt_from_what_is_kept() {
    let world = World::harbour("--processes");
    world.run("authority create").is(0);
    world.run("group add crew").is(0);
    world.write("many.csv", "name,mail,groups,device\nmara,,crew,laptop\ntomas,tomas@skerry.example,crew,tablet\n");
    world.run("user import many.csv --yes").is(0);
    world.run("credential issue --group crew --yes").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let head = || {
        let head = "SELECT number FROM history_head";
        database.query_row(head, [], |row| row.get::<_, i64>(0)).unwrap().unsigned_abs()
    };
    let rebuilt = |until: u64| rebuilt(&database, until);
    let (then, at) = (standing(&database), head());
    for words in [
        "user rename mara mara-n",
        "credential revoke tomas/tablet --reason lost --yes",
        "device remove tomas/tablet --yes",
        "listener change harbour/quill --port 21001",
        "credential renew mara-n/laptop --yes",
        "estate change --hold-addresses 5",
    ] {
        world.run(words).is(0);
    }
    let now = standing(&database);
    assert_ne!(then, now);
    for (rebuilt, stood) in [(rebuilt(at), then), (rebuilt(u64::MAX), now)] {
        let keys: BTreeSet<_> = rebuilt.keys().chain(stood.keys()).collect();
        for key in keys {
            assert_eq!(rebuilt.get(key), stood.get(key), "{key:?}");
        }
    }
}

#[test]
fn what_is_kept_of_changes_holds_no_secret() {
    let world = World::mara("--processes");
    world.run("authority create").is(0);
    for kind in ["certificate", "password --generate --second-factor"] {
        world.run(&format!("credential issue mara/laptop --kind {kind}")).is(0);
    }
    world.run("site add boatyard --network 10.44.8.0/24").is(0);
    world.run("credential issue boatyard+harbour --kind shared-secret").is(0);
    world.run("listener renew harbour/quill --yes").is(0);
    world.run("estate renew --yes").is(0);
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let kept: String = kept(&database, u64::MAX).iter().map(|(_, lines)| lines.as_str()).collect();
    assert!(kept.contains("harbour/quill") && kept.contains("SHA-256"), "{kept}");
    let mut secrets = BTreeSet::new();
    for table in ["estates", "gateways", "listeners", "credentials", "authorities", "shared_secrets"] {
        let mut statement = database.prepare(&format!("SELECT * FROM {table}")).unwrap();
        let names: Vec<_> = statement.column_names().map(str::to_owned).collect();
        let mut rows = statement.query([]).unwrap();
        while let Some(row) = rows.next().unwrap() {
            for (at, name) in names.iter().enumerate() {
                let Ok(Some(text)) = row.get::<_, Option<String>>(at) else { continue };
                let value = serde_json::from_str(&text).unwrap_or(serde_json::Value::String(text));
                collect(name, &value, &mut secrets);
            }
        }
    }
    assert!(secrets.len() >= 9, "{secrets:?}");
    for (field, secret) in secrets {
        assert!(!kept.contains(&secret), "{field} {secret}");
    }
}

/// Text that is public by its field's name is left out; all else that is long and has no spaces is taken for a secret.
fn collect(field: &str, value: &serde_json::Value, into: &mut BTreeSet<(String, String)>) {
    const PUBLIC: [&str; 13] = [
        "name",
        "certificate",
        "list",
        "serial",
        "public_key",
        "identity",
        "server_key",
        "estate_key",
        "recovery_key",
        "id",
        "above",
        "envelope",
        "trusts",
    ];
    match value {
        serde_json::Value::String(text) if !PUBLIC.contains(&field) && text.len() > 40 => {
            into.insert((field.to_owned(), text.clone()));
        }
        serde_json::Value::Array(list) => list.iter().for_each(|one| collect(field, one, into)),
        serde_json::Value::Object(fields) => fields.iter().for_each(|(name, one)| collect(name, one, into)),
        _ => {}
    }
}
