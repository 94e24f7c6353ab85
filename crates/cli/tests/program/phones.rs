//! What phones and computers have built in comes in: an initiator of IKEv2 and ESP of its own, in Python, from the RFCs alone.

use std::process::{Child, Command};

use serde_json::{Value, json};

use crate::common::{Came, World, wait};

const SCRIPTS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/ike");
const PACKAGES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/test-needs/python");

/// A script of the second implementation, with what it needs.
fn python(world: &World, words: &str) -> Came {
    world.judge(&format!("PYTHONPATH='{PACKAGES}' PYTHONDONTWRITEBYTECODE=1 python3 '{SCRIPTS}'/{words}"))
}

/// RFC 1320, 2759, 3079, 5903, 7634, 8031, 3526: nobody trusts a judge who fails at these.
#[test]
fn the_device_in_tests_gives_the_published_examples() {
    let world = World::empty();
    let came = python(&world, "vectors.py").is(0);
    assert_eq!(came.out.lines().filter(|line| line.starts_with("ok ")).count(), 18, "{}", came.out);
    assert!(python(&world, "characters.py list").is(0).out.lines().count() >= 16);
}

/// Harbour with an authority and a listener for built-in clients, and whatever devices.
pub fn harbour(listener: &str, devices: &[(&str, &str)]) -> World {
    let mut world = World::estate();
    world.start_lab("--namespaces");
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    world.run("authority create").is(0);
    world.run("registry change estate --method password --method ms-chap-v2").is(0);
    world.run(&format!("listener open harbour --tunnel ikev2 --resolvers 10.44.0.20 {listener}")).is(0);
    world.run("user add mara --mail mara@skerry.example").is(0);
    for (device, how) in devices {
        world.run(&format!("device add mara/{device}")).is(0);
        world.run(&format!("credential issue mara/{device} {how}")).is(0);
    }
    world.run("rollout --yes").is(0);
    for (device, how) in devices {
        if how.contains("certificate") {
            world.run(&format!("credential handover mara/{device} --as pem --to {device} --yes")).is(0);
        }
    }
    world.run("authority export root --to root.pem").is(0);
    world
}

/// The host name of its own in a device's certificate.
fn own_name(world: &World, device: &str) -> String {
    let script = format!(
        "openssl x509 -in {device}/certificate.pem -noout -ext subjectAltName | grep -o 'DNS:[^,]*' | head -1 | cut -c5-"
    );
    world.judge(&script).is(0).out.trim().to_owned()
}

/// What a device with a certificate plays, as far as no character says otherwise.
pub fn play(world: &World, device: &str, steps: Value) -> Value {
    let path = |name: &str| world.path(name).to_str().unwrap().to_owned();
    json!({
        "gateway": "203.0.113.10",
        "dialled": "gangway.skerry.example",
        "authority": path("root.pem"),
        "certificate": path(&format!("{device}/chain.pem")),
        "key": path(&format!("{device}/key.pem")),
        "identity": ["fqdn", own_name(world, device)],
        "ike": [[[1, 20, 256], [2, 5], [4, 19]]],
        "esp": [[[1, 20, 256], [5, 0]]],
        "hashes": [2, 3, 4],
        "steps": steps,
    })
}

/// An account plays.
pub fn account_play(world: &World, name: &str, password: &str, steps: Value) -> Value {
    json!({
        "gateway": "203.0.113.10",
        "dialled": "gangway.skerry.example",
        "authority": world.path("root.pem").to_str().unwrap(),
        "identity": ["address", "192.168.1.20"],
        "eap": { "name": name, "password": password },
        "ike": [[[1, 20, 256], [2, 5], [4, 19]]],
        "esp": [[[1, 20, 256], [5, 0]]],
        "steps": steps,
    })
}

fn with(mut play: Value, changes: Value) -> Value {
    for (key, value) in changes.as_object().unwrap() {
        play[key] = value.clone();
    }
    play
}

/// The command that plays a play on mara's laptop, behind the router of a café; or on another host of the lab.
fn playing(world: &World, name: &str, play: &Value) -> Command {
    world.write(name, &play.to_string());
    let path = world.path(name);
    let device = format!("{SCRIPTS}/device.py");
    let host = play["host"].as_str().unwrap_or("mara-laptop");
    let mut words = vec!["lab", "enter", host, "--", "env"];
    let packages = format!("PYTHONPATH={PACKAGES}");
    words.extend([
        &packages,
        "PYTHONDONTWRITEBYTECODE=1",
        "timeout",
        "100",
        "python3",
        &device,
        path.to_str().unwrap(),
    ]);
    world.command(&words)
}

/// Plays to the end; what came of each step.
#[track_caller]
pub fn played(world: &World, play: &Value) -> Vec<Value> {
    let came = Came::of(&playing(world, "play.json", play).output().unwrap());
    let said: Vec<Value> = came.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(came.err.is_empty() && said.iter().all(|one| one.get("error").is_none()), "{came:#?}");
    said
}

/// A device that plays while the test goes on.
pub struct Playing {
    child: Child,
    out: std::path::PathBuf,
}

impl Playing {
    pub fn start(world: &World, name: &str, play: &Value) -> Self {
        let out = world.path(&format!("{name}.out"));
        let file = std::fs::File::create(&out).unwrap();
        let child = playing(world, &format!("{name}.json"), play).stdout(file).spawn().unwrap();
        Self { child, out }
    }

    fn said(&self) -> Vec<Value> {
        let text = std::fs::read_to_string(&self.out).unwrap();
        text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
    }

    pub fn is_at(&self, steps: usize) {
        wait(30, "the device has come so far", || (self.said().len() >= steps).then_some(()));
    }

    #[track_caller]
    fn ends(mut self) -> Vec<Value> {
        self.child.wait().unwrap();
        let said = self.said();
        assert!(said.iter().all(|one| one.get("error").is_none()), "{said:#?}");
        said
    }
}

/// What the gateway says of the newest refusal.
fn refused(world: &World) -> String {
    wait(40, "the refusal is told", || {
        let list = world.run("session list --past --refused --format json").is(0).json();
        list.as_array()?.last().map(|last| last["reason"].as_str().unwrap_or_default().to_owned())
    })
}

#[track_caller]
fn came_in(said: &[Value]) -> &Value {
    assert!(said[0].get("refused").is_none(), "{said:#?}");
    &said[0]["auth"]
}

/// What a variant of a character says.
fn character(world: &World, name: &str) -> Value {
    world.write("base.json", &json!({ "steps": [["in"]] }).to_string());
    python(world, &format!("characters.py {name} base.json")).is(0).json()
}

fn signs_by_rsa(character: &Value) -> bool {
    matches!(character["sign"].as_str(), Some("rsa" | "pss"))
}

/// What a variant of a character plays with a device's certificate.
fn character_play(world: &World, character: &Value, device: &str, steps: Value) -> Value {
    let mut play = play(world, device, steps);
    if let Some(kind) = character["kind"].as_str().filter(|kind| *kind != "fqdn") {
        let own = play["identity"][1].clone();
        play["identity"] = if kind == "mail" { json!(["mail", "mara@skerry.example"]) } else { json!([kind, own]) };
    }
    for (key, value) in character.as_object().unwrap() {
        if !["steps", "kind"].contains(&key.as_str()) {
            play[key] = value.clone();
        }
    }
    if character.get("hashes").is_none() {
        play.as_object_mut().unwrap().remove("hashes");
    }
    play
}

/// Every built-in client that is known plays a whole session with new keys of both kinds, through the translation of a café, and from a flat
/// above it, through two.
#[test]
fn what_systems_have_built_in_comes_in_and_goes_on_under_new_keys() {
    let rsa = "--kind certificate --key rsa-3072";
    let world = harbour("", &[("phone", "--kind certificate"), ("desk", rsa)]);
    for name in python(&world, "characters.py list").is(0).out.lines() {
        let character = character(&world, name);
        let device = if signs_by_rsa(&character) { "desk" } else { "phone" };
        let group = character["rekey_group"].clone();
        let steps = json!([
            ["in"],
            ["echo", "10.44.0.20"],
            ["echo", "10.44.0.20", { "size": 1300 }],
            ["rekey-child", { "group": group }],
            ["echo", "10.44.0.20"],
            ["rekey-ike"],
            ["echo", "10.44.0.20"],
            ["rekey-child", { "group": group, "keep": true }],
            ["echo", "10.44.0.20", { "child": 0 }],
            ["echo", "10.44.0.20"],
            ["live"],
            ["out"],
        ]);
        let play = character_play(&world, &character, device, steps);
        for host in ["mara-laptop", "mara-phone"] {
            let said = played(&world, &with(play.clone(), json!({ "host": host })));
            assert_eq!(said.len(), 12, "{name}: {said:#?}");
            let echoes = || said.iter().filter(|one| one["step"] == "echo");
            assert!(echoes().all(|one| one["answers"] == 1), "{name} on {host}: {said:#?}");
        }
    }
    let past = world.run("session list --past --format json").is(0).json();
    assert!(past.as_array().unwrap().iter().all(|one| one["reason"] == "closed"), "{past:#?}");
}

/// The gateway makes the keys of a pair and of an association anew, once and again, with every built-in client that is known.
#[test]
fn keys_that_the_gateway_makes_anew_are_taken_by_every_built_in_client() {
    let world = harbour("--renew-after 10s", &[]);
    let names: Vec<String> = python(&world, "characters.py list").is(0).out.lines().map(str::to_owned).collect();
    let characters: Vec<_> = names.iter().map(|name| character(&world, name)).collect();
    let key = |character: &Value| if signs_by_rsa(character) { "rsa-3072" } else { "p-256" };
    let devices: Vec<String> = names.iter().map(|name| name.replace('/', "-")).collect();
    for (name, character) in devices.iter().zip(&characters) {
        world.run(&format!("device add mara/{name}")).is(0);
        world.run(&format!("credential issue mara/{name} --kind certificate --key {}", key(character))).is(0);
    }
    world.run("rollout --yes").is(0);
    let mut playing = Vec::new();
    for (at, (name, character)) in devices.iter().zip(&characters).enumerate() {
        world.run(&format!("credential handover mara/{name} --as pem --to {name} --yes")).is(0);
        let steps = json!([
            ["in"],
            ["echo", "10.44.0.20"],
            ["wait", 30, "child deleted"],
            ["echo", "10.44.0.20"],
            ["wait", 30, "ike deleted"],
            ["echo", "10.44.0.20"],
            ["wait", 30, "child renewed by the gateway"],
            ["echo", "10.44.0.20"],
            ["out"],
        ]);
        let host = ["mara-laptop", "mara-phone"][at % 2];
        let play = with(character_play(&world, character, name, steps), json!({ "host": host }));
        playing.push((name, Playing::start(&world, name, &play)));
    }
    for (name, playing) in playing {
        let said = playing.ends();
        assert_eq!(said.len(), 9, "{name}: {said:#?}");
        let echoes = || said.iter().filter(|one| one["step"] == "echo");
        assert!(echoes().all(|one| one["answers"] == 1), "{name}: {said:#?}");
        let events = Value::from(said.clone()).to_string();
        assert!(events.contains("ike renewed by the gateway"), "{name}: {said:#?}");
    }
}

/// A certificate and an account each have the address that was chosen for them, whoever had leased it; nobody else gets it.
#[test]
fn a_certificate_and_an_account_have_an_address_of_their_own_where_one_is_given() {
    let world = harbour("--accounts --pool 10.187.45.0/24", &[("phone", "--kind certificate")]);
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["wait", 60, "ike deleted"]]);
    let leasing = Playing::start(&world, "leasing", &play(&world, "phone", steps));
    leasing.is_at(2);
    let leased = leasing.said()[0]["auth"]["inner"][0].clone();
    assert_eq!(leased, "10.187.45.254");
    world.run("device add mara/tablet").is(0);
    world.run("device add mara/desk").is(0);
    let issue = "credential issue mara/tablet --kind certificate --address";
    world.run(&format!("{issue} 10.99.0.1")).is(2).says("10.187.45.0/24 of harbour/ikev2");
    world.run(&format!("{issue} 10.187.45.1")).is(2).says("no device can have 10.187.45.1");
    world.run(&format!("{issue} 10.187.45.254")).is(0);
    let file = world.secret("password", "three quay lanterns 61");
    let desk = format!("credential issue mara/desk --kind password --password-file {file} --address");
    world.run(&format!("{desk} 10.187.45.254")).is(3).says("mara/tablet's address");
    world.run(&format!("{desk} 10.187.45.253 --once")).is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/tablet --as pem --to tablet --yes").is(0);
    // Who had it by lease is told to come again, and has another.
    assert_eq!(leasing.ends().len(), 3);
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["out"]]);
    let inner = |play: &Value| {
        let said = played(&world, play);
        assert_eq!(said[1]["answers"], 1, "{said:#?}");
        came_in(&said)["inner"][0].clone()
    };
    let tablet = play(&world, "tablet", steps.clone());
    assert_eq!(inner(&tablet), "10.187.45.254");
    assert_eq!(inner(&play(&world, "phone", steps.clone())), "10.187.45.252");
    let account = account_play(&world, "mara.desk", "three quay lanterns 61", steps.clone());
    assert_eq!(inner(&account), "10.187.45.253");
    assert_eq!(played(&world, &account)[0]["refused"], "AUTHENTICATION_FAILED", "it was good for one session");
    assert_eq!(inner(&tablet), "10.187.45.254");
    let shown = world.run("credential show mara/tablet --format json").is(0).json();
    assert_eq!(shown["address"], "10.187.45.254 at harbour/ikev2");
    // Its renewal has it too, and another pool brings another where it must.
    world.run("credential renew mara/tablet --yes").is(0);
    world.run("listener change harbour/ikev2 --pool 10.187.46.0/24 --yes").is(0);
    let shown = world.run("credential show mara/tablet --format json").is(0).json();
    let address = shown["address"].as_str().unwrap();
    assert!(address.starts_with("10.187.46.") && address.ends_with(" at harbour/ikev2"), "{address}");
    world.run("listener close harbour/ikev2 --yes").is(0);
    let shown = world.run("credential show mara/tablet --format json").is(0).json();
    assert_eq!(shown["address"], Value::Null);
}

/// What was leased goes along with a listener's other name, and so does everybody who is in.
#[test]
fn a_lease_and_a_session_stay_where_the_gateway_is_called_something_else() {
    let world = harbour("--pool 10.187.45.0/24", &[("phone", "--kind certificate"), ("tablet", "--kind certificate")]);
    let again = json!([["in"], ["echo", "10.44.0.20"], ["out"]]);
    let first = played(&world, &play(&world, "phone", again.clone()));
    let had = came_in(&first)["inner"][0].clone();
    let steps =
        json!([["in"], ["echo", "10.44.0.20"], ["until", world.path("go").to_str()], ["echo", "10.44.0.20"], ["out"]]);
    let staying = Playing::start(&world, "staying", &play(&world, "tablet", steps));
    staying.is_at(2);
    world.run("gateway rename harbour pier").is(0);
    world.run("rollout --yes").is(0).says("listener harbour/ikev2 -> pier/ikev2");
    assert_ne!(staying.said()[0]["auth"]["inner"][0], had);
    world.write("go", "");
    let said = staying.ends();
    assert_eq!(said.iter().filter(|one| one["step"] == "echo" && one["answers"] == 1).count(), 2, "{said:#?}");
    assert!(!said.iter().any(|one| one.to_string().contains("ike deleted")), "{said:#?}");
    // The agent begins anew from its disk.
    world.run("gateway restart pier").is(0);
    let second = played(&world, &play(&world, "tablet", again.clone()));
    assert_eq!(came_in(&second)["inner"][0], said[0]["auth"]["inner"][0]);
    assert_eq!(came_in(&played(&world, &play(&world, "phone", again)))["inner"][0], had);
}

#[test]
fn a_session_goes_on_from_elsewhere_and_under_keys_that_the_gateway_makes_anew() {
    let world = harbour("--renew-after 10s", &[("phone", "--kind certificate")]);
    let steps = json!([
        ["in"],
        ["echo", "10.44.0.20", { "replay": true }],
        ["echo", "10.44.0.20", { "source": "10.187.44.9", "again": 1 }],
        ["echo", "10.44.4.20", { "again": 1 }],
        ["move"],
        ["wait", 5, "COOKIE2"],
        ["echo", "10.44.0.20"],
        ["roam"],
        ["keepalive"],
        ["echo", "10.44.0.20"],
        ["wait", 20, "child deleted"],
        ["echo", "10.44.0.20"],
        ["wait", 20, "ike deleted"],
        ["rekey-child"],
        ["echo", "10.44.0.20"],
        ["wait", 20, "child renewed by the gateway"],
        ["out"],
    ]);
    let play = with(play(&world, "phone", steps), json!({ "esp": [[[1, 28], [5, 1], [5, 0]]] }));
    let playing = Playing::start(&world, "phone", &play);
    playing.is_at(7);
    let list = wait(10, "the session is listed", || {
        let list = world.run("session list --format json").is(0).json();
        (!list.as_array()?.is_empty()).then_some(list)
    });
    assert_eq!(list[0]["device"], "mara/phone");
    let said = playing.ends();
    let answers: Vec<_> = said.iter().filter(|one| one["step"] == "echo").map(|one| one["answers"].clone()).collect();
    assert_eq!(
        answers,
        [1, 0, 0, 1, 1, 1, 1],
        "a replay is answered once, and nobody speaks for others or beyond the reach: {said:#?}"
    );
    assert_eq!(said[0]["auth"]["esp"], json!([28, null, null, 1]), "extended sequence numbers");
    assert_eq!(said.len(), 17);
    let past = world.run("session list --past --format json").is(0).json();
    assert_eq!((past.as_array().unwrap().len(), &past[0]["reason"]), (1, &json!("closed")));
}

/// RFC 6040: what the way marks reaches the inside, what the inside marks shows outside, and nothing else of the traffic class does.
#[test]
fn marks_of_congestion_go_in_and_out_and_the_class_of_traffic_stays_inside() {
    let world = harbour("", &[("phone", "--kind certificate")]);
    let (class, capable, congested) = (0xb8, 2, 3);
    let echo = |tos: u8, outer: u8| json!(["echo", "10.44.0.20", { "tos": tos, "outer": outer, "again": 2 }]);
    let steps = json!([
        ["in"],
        echo(class | capable, capable),
        echo(class | capable, congested),
        echo(class, congested),
        echo(class, capable),
        ["out"],
    ]);
    let said = played(&world, &play(&world, "phone", steps));
    let came: Vec<_> =
        said[1..5].iter().map(|one| (one["answers"].clone(), one["tos"].clone(), one["outer"].clone())).collect();
    // An echo comes back with the class and marks with which it arrived.
    let expected = |answers: u8, tos: u8, outer: u8| (json!(answers), json!(tos), json!(outer));
    assert_eq!(came[0], expected(1, class | capable, capable));
    assert_eq!(came[1], expected(1, class | congested, congested), "the server sees what the way marked");
    assert_eq!(came[2].0, json!(0), "whoever knows nothing of marks loses the packet");
    assert_eq!(came[3], expected(1, class, 0));
}

/// For clients that know nothing better, until a day that somebody has named; and it is said.
#[test]
fn sha1_is_taken_until_a_day_that_is_named_and_not_otherwise() {
    let world = harbour("", &[("old", "--kind certificate --key rsa-3072")]);
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["out"]]);
    let mut old = with(play(&world, "old", steps), json!({ "sign": "rsa-sha1" }));
    old.as_object_mut().unwrap().remove("hashes");
    assert_eq!(played(&world, &old)[0]["refused"], "AUTHENTICATION_FAILED");
    assert!(refused(&world).contains("signs over SHA-1"), "{}", refused(&world));
    world.run("listener change harbour/ikev2 --sha1-until 2020-01-01").is(2).says("that is over");
    world.run("listener change harbour/ikev2 --sha1-until 2099-01-01").is(2).says("a year at a time");
    let until = world.judge("date -u -d '+30 days' +%F").is(0).out.trim().to_owned();
    let came = world.run(&format!("listener change harbour/ikev2 --sha1-until {until}")).is(0);
    assert!(came.err.contains("signatures over SHA-1 are taken"), "{came:#?}");
    world.run("listener show harbour/ikev2").is(0).says("signatures over it can be forged");
    // Somebody who is in stays in through the change.
    let stays = Playing::start(
        &world,
        "stays",
        &with(old.clone(), json!({ "sign": "rsa", "steps": [["in"], ["wait", 60, "deleted"]] })),
    );
    stays.is_at(1);
    world.run("rollout --yes").is(0);
    assert_eq!(world.run("session list --format json").is(0).json().as_array().unwrap().len(), 1);
    world.run("session end mara/old --yes").is(0);
    stays.ends();
    let said = played(&world, &old);
    assert_eq!((said.len(), &said[1]["answers"]), (3, &json!(1)), "{said:#?}");
    world.run("gateway log harbour").is(0).says("signed in with SHA-1");
    world.run("listener change harbour/ikev2 --sha1-until none").is(0);
    world.run("rollout --yes").is(0);
    assert_eq!(played(&world, &old)[0]["refused"], "AUTHENTICATION_FAILED");
}

/// Clients dial 500 and 4500; on the host others may listen, where something in front forwards to them.
#[test]
fn inside_ports_differ_where_something_in_front_forwards() {
    let world = harbour("--inside-ports 10500,14500", &[("phone", "--kind certificate")]);
    let ports = world.run("port list --format json").is(0).json();
    let of = |port: &str| ports.as_array().unwrap().iter().find(|one| one["port"] == port).cloned().unwrap();
    assert_eq!((&of("10500/udp")["state"], &of("500/udp")["to"]), (&json!("open"), &json!("10500/udp of harbour")));
    world
        .run("listener open harbour --name other --tunnel ikev2 --inside-ports 11500,15500")
        .is(3)
        .says("a listener at 500/udp already");
    world
        .run("listener open harbour --tunnel quill --name q --inside-ports 11500")
        .is(2)
        .says("its port is one's choice");
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["rekey-child"], ["echo", "10.44.0.20"], ["out"]]);
    let play = play(&world, "phone", steps);
    assert_eq!(played(&world, &play)[0]["refused"], "no answer", "nothing forwards yet");
    let rules = "table ip front {
  chain pre {
    type nat hook prerouting priority dstnat
    udp dport 500 redirect to :10500
    udp dport 4500 redirect to :14500
  }
}
";
    world.write("front.nft", rules);
    world.run(&format!("lab enter harbour -- nft -f {}", world.path("front.nft").display())).is(0);
    let said = played(&world, &play);
    assert_eq!((said.len(), &said[3]["answers"]), (5, &json!(1)), "{said:#?}");
}

#[test]
fn a_revoked_certificate_is_out_at_once_and_others_stay_out_each_with_its_reason() {
    let world = harbour("", &[("phone", "--kind certificate"), ("lost", "--kind certificate")]);
    let stay = json!([["in"], ["echo", "10.44.0.20"], ["wait", 60, "deleted"]]);
    let lost = Playing::start(&world, "lost", &play(&world, "lost", stay));
    lost.is_at(2);
    world.run("credential revoke mara/lost --reason lost --yes").is(0);
    let said = lost.ends();
    assert_eq!((&said[1]["answers"], &said[2]["ended"]), (&json!(1), &json!("deleted")), "{said:#?}");
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["out"]]);
    let phone = play(&world, "phone", steps.clone());
    // Each of these is refused, and the gateway says for what.
    let outdated = json!([[[1, 3], [2, 2], [3, 2], [4, 2]]]);
    let cases = [
        (play(&world, "lost", steps.clone()), "AUTHENTICATION_FAILED", "revoked"),
        (
            with(phone.clone(), json!({ "ike": outdated })),
            "NO_PROPOSAL_CHOSEN",
            "algorithms: its encryption (3DES) is outdated",
        ),
        (
            with(phone.clone(), json!({ "esp": [[[1, 3], [3, 2], [5, 0]]] })),
            "NO_PROPOSAL_CHOSEN",
            "algorithms: for its packets, its encryption (3DES)",
        ),
        (with(phone.clone(), json!({ "break_proof": true })), "AUTHENTICATION_FAILED", "unproved"),
        (
            with(phone.clone(), json!({ "identity": ["fqdn", "tomas.skerry.example"] })),
            "AUTHENTICATION_FAILED",
            "name: it calls itself tomas.skerry.example",
        ),
        (
            with(phone.clone(), json!({ "dialled": "quay.skerry.example" })),
            "AUTHENTICATION_FAILED",
            "name: it asks for quay.skerry.example, and this gateway's certificate is for gangway.skerry.example",
        ),
        (with(phone.clone(), json!({ "attributes": [3] })), "FAILED_CP_REQUIRED", "does not ask for an inner address"),
    ];
    for (play, told, words) in cases {
        let before = world.run("session list --past --refused --format json").is(0).json().as_array().unwrap().len();
        let said = played(&world, &play);
        assert_eq!(said[0]["refused"], told, "{said:#?}");
        wait(20, "the refusal is told", || {
            let list = world.run("session list --past --refused --format json").is(0).json();
            let all = list.as_array()?;
            (all.len() > before && all.iter().any(|one| one["reason"].as_str().is_some_and(|one| one.contains(words))))
                .then_some(())
        });
    }
    // A certificate that another authority signed, with everything else right.
    world.judge(
        "mkdir other && cd other && openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout key.pem -out chain.pem \
         -subj /CN=other -addext subjectAltName=DNS:other.skerry.example -days 2 2>/dev/null",
    ).is(0);
    let other = with(
        play(&world, "phone", steps),
        json!({
            "certificate": world.path("other/chain.pem").to_str().unwrap(),
            "key": world.path("other/key.pem").to_str().unwrap(),
            "identity": ["fqdn", "other.skerry.example"],
        }),
    );
    assert_eq!(played(&world, &other)[0]["refused"], "AUTHENTICATION_FAILED");
    assert!(refused(&world).contains("untrusted: other is signed by other"), "{}", refused(&world));
    let said = played(&world, &phone);
    assert_eq!(came_in(&said)["inner"][0], "10.187.44.253");
    assert_eq!(said[1]["answers"], 1);
}

#[test]
fn an_account_comes_in_by_its_password_and_too_many_wrong_ones_lock_it_out() {
    let mut world = World::estate();
    world.start_lab("--namespaces");
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    world.run("authority create").is(0);
    // Not before the registry keeps what it takes.
    world
        .run("listener open harbour --tunnel ikev2 --accounts")
        .is(3)
        .says("yestrel registry change estate --method ms-chap-v2");
    world.run("registry change estate --method password --method ms-chap-v2").is(0);
    world.run("user add mara").is(0);
    world.run("device add mara/phone").is(0);
    let password = "three quay lanterns 61";
    let file = world.secret("password", password);
    world.run(&format!("credential issue mara/phone --kind password --password-file {file}")).is(0);
    world.run("listener open harbour --tunnel ikev2 --accounts --resolvers 10.44.0.20").is(0);
    world.run("authority export root --to root.pem").is(0);
    world.run("rollout --yes").is(0);
    let steps =
        json!([["in"], ["echo", "10.44.0.20"], ["rekey-ike"], ["rekey-child"], ["echo", "10.44.0.20"], ["out"]]);
    let right = account_play(&world, "mara.phone", password, steps.clone());
    let said = played(&world, &right);
    assert_eq!((said.len(), &said[1]["answers"], &said[4]["answers"]), (6, &json!(1), &json!(1)), "{said:#?}");
    let again =
        played(&world, &with(right.clone(), json!({ "eap": { "name": "SKERRY\\mara.phone", "password": password } })));
    assert_eq!(came_in(&again)["inner"], said[0]["auth"]["inner"], "the same address again");
    // Somebody who does not know it, and somebody whom nobody knows, hear the same.
    let wrong = with(right.clone(), json!({ "eap": { "name": "mara.phone", "password": "wrong" } }));
    let unknown = with(right.clone(), json!({ "eap": { "name": "tomas.phone", "password": "wrong" } }));
    let strip = |said: Vec<Value>| {
        let events = said[0]["events"].to_string();
        (said[0]["refused"].clone(), events.replace(|c: char| c.is_ascii_hexdigit(), ""))
    };
    assert_eq!(strip(played(&world, &wrong)), strip(played(&world, &unknown)));
    for _ in 0..4 {
        assert_eq!(played(&world, &wrong)[0]["refused"], "EAP failure");
    }
    let said = played(&world, &right);
    assert_eq!(said[0]["refused"], "EAP failure", "locked out, also with the right one: {said:#?}");
    assert!(refused(&world).contains("locked-out"), "{}", refused(&world));
    // The form that equals the password stands in the order sealed, and nowhere when the method is switched off.
    let sealed = |world: &World| {
        let query = "python3 -c \"import sqlite3; print(sqlite3.connect('skerry').execute('select account from credentials').fetchall())\"";
        world.judge(query).is(0).out.matches("\"for_agents\":{\"harbour\"").count()
    };
    assert_eq!(sealed(&world), 1);
    world.run("registry change estate --method password").is(0);
    assert_eq!(sealed(&world), 0);
}

/// Renewals of one thing from both sides at once, of pairs and of associations, whoever has the lowest nonce.
#[test]
fn renewals_that_cross_leave_one_of_each() {
    let world = harbour("--renew-after 10s", &[("phone", "--kind certificate")]);
    let steps = json!([
        ["in"],
        ["cross", "child"],
        ["echo", "10.44.0.20"],
        ["cross", "ike"],
        ["echo", "10.44.0.20"],
        ["rekey-child"],
        ["rekey-ike"],
        ["echo", "10.44.0.20"],
        ["live"],
        ["out"],
    ]);
    let mut won = std::collections::BTreeSet::new();
    for _ in 0..2 {
        let said = played(&world, &play(&world, "phone", steps.clone()));
        assert_eq!(said.len(), 10, "{said:#?}");
        assert!(said.iter().filter(|one| one["step"] == "echo").all(|one| one["answers"] == 1), "{said:#?}");
        won.extend(said.iter().filter_map(|one| one["wins"].as_bool()));
    }
    let past = world.run("session list --past --format json").is(0).json();
    assert!(past.as_array().unwrap().iter().all(|one| one["reason"] == "closed"), "{won:?} {past:#?}");
}

/// A dissector that is neither end's opens every message of a session with its keys, and finds nothing wrong in any.
#[test]
fn a_dissector_from_elsewhere_reads_every_message() {
    let world = harbour("--accounts", &[("phone", "--kind certificate")]);
    let password = "three quay lanterns 61";
    let file = world.secret("password", password);
    world.run("device add mara/tablet").is(0);
    world.run(&format!("credential issue mara/tablet --kind password --password-file {file}")).is(0);
    world.run("rollout --yes").is(0);
    let steps = json!([
        ["in"],
        ["echo", "10.44.0.20"],
        ["rekey-child"],
        ["rekey-ike"],
        ["echo", "10.44.0.20"],
        ["move"],
        ["live"],
        ["out"]
    ]);
    let plays = [
        play(&world, "phone", steps.clone()),
        with(
            play(&world, "phone", steps.clone()),
            json!({ "ike": [[[1, 12, 256], [3, 12], [2, 5], [4, 19]]], "fragments": false }),
        ),
        account_play(&world, "mara.tablet", password, steps),
    ];
    for play in plays {
        let path = |name: &str| world.path(name).to_str().unwrap().to_owned();
        let _ = std::fs::remove_file(path("keys"));
        let said = played(&world, &with(play, json!({ "capture": path("capture"), "keys_log": path("keys") })));
        assert_eq!(said.len(), 8, "{said:#?}");
        let read = python(&world, "dissect.py capture keys").is(0).json();
        let count = |what: &str| read[what].as_u64().unwrap();
        assert_eq!((count("status"), count("wrong"), count("malformed")), (0, 0, 0), "{read}");
        assert!(count("encrypted") >= 14 && count("right") == count("encrypted"), "{read}");
        assert!(count("selectors") == 8 && count("esp") >= 2, "{read}");
    }
}

/// What is handed over says where nobody would take it, and follows the listener that does.
#[test]
fn a_handover_follows_the_listener_and_says_where_there_is_none() {
    let world = harbour(
        "--accounts --reach everything",
        &[("desk", "--kind certificate"), ("tablet", "--kind password --generate")],
    );
    world.run("credential renew mara/desk --kind certificate").is(0);
    let came = world.run("credential handover mara/desk/2 --as windows --to desk.ps1 --yes").is(0);
    assert!(!came.err.contains("no listener"), "{came:#?}");
    let script = world.read("desk.ps1");
    assert!(!script.contains("-SplitTunneling") && !script.contains("Add-VpnConnectionRoute"), "{script}");
    assert!(script.contains("-DnsSuffix 'skerry.example'"), "{script}");
    let came = world.run("credential handover mara/tablet --kind password --to tablet.txt --yes").is(0);
    assert!(!came.err.contains("no listener"), "{came:#?}");
    let text = world.read("tablet.txt");
    assert!(text.contains("server         gangway.skerry.example, type IKEv2"), "{text}");
    world.run("listener close harbour/ikev2 --yes").is(0);
    world.run("listener open harbour --tunnel ikev2 --reach 10.44.0.0/24").is(0);
    world.run("credential renew mara/desk --kind certificate").is(0);
    world.run("credential handover mara/desk/3 --as windows --to narrow.ps1 --yes").is(0);
    let script = world.read("narrow.ps1");
    assert!(script.contains("-SplitTunneling") && script.contains("-DestinationPrefix '10.44.0.0/24'"), "{script}");
    world.run("listener close harbour/ikev2 --yes").is(0);
    world.run("credential renew mara/desk --kind certificate").is(0);
    world
        .run("credential handover mara/desk/4 --to desk.p12 --yes")
        .is(0)
        .says("harbour has no listener that takes it: yestrel listener open harbour --tunnel ikev2");
}

/// A suspended user's devices are thrown out, and come in again when that is over.
#[test]
fn a_suspended_user_stays_out_for_as_long() {
    let world = harbour("", &[("phone", "--kind certificate")]);
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["out"]]);
    let stay = Playing::start(&world, "phone", &play(&world, "phone", json!([["in"], ["wait", 60, "deleted"]])));
    stay.is_at(1);
    world.run("user suspend mara --yes").is(0);
    assert_eq!(stay.ends()[1]["ended"], "deleted");
    let phone = play(&world, "phone", steps);
    assert_eq!(played(&world, &phone)[0]["refused"], "AUTHENTICATION_FAILED");
    wait(20, "the refusal is told", || refused(&world).contains("suspended").then_some(()));
    world.run("user restore mara --yes").is(0);
    assert_eq!(played(&world, &phone)[1]["answers"], 1);
}

/// An agent that is killed has lost its associations: devices are told, come in again, and have the same address.
#[test]
fn after_a_kill_of_the_agent_a_device_is_told_and_comes_in_again() {
    let world = harbour("", &[("phone", "--kind certificate")]);
    let steps = json!([["in"], ["echo", "10.44.0.20"], ["wait", 6], ["lost"], ["in"], ["echo", "10.44.0.20"], ["out"]]);
    let phone = Playing::start(&world, "phone", &play(&world, "phone", steps));
    phone.is_at(2);
    // What is killed before it has written that somebody came cannot say so afterwards.
    wait(20, "the session is seen", || world.run("session list").out.contains("mara/phone").then_some(()));
    let before = world.agent_pid("harbour");
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(before), nix::sys::signal::Signal::SIGKILL).unwrap();
    world.run("gateway restart harbour --yes").is(0);
    assert_ne!(world.agent_pid("harbour"), before);
    let said = phone.ends();
    assert_eq!(said.len(), 7, "{said:#?}");
    assert_eq!(said[4]["auth"]["inner"], said[0]["auth"]["inner"]);
    assert_eq!((&said[1]["answers"], &said[5]["answers"]), (&json!(1), &json!(1)));
    let past = world.run("session list --past --format json").is(0).json();
    let reasons: Vec<_> =
        past.as_array().unwrap().iter().map(|one| one["reason"].as_str().unwrap_or_default().to_owned()).collect();
    assert!(reasons[0].starts_with("agent-stopped") && reasons[1] == "closed", "{reasons:?}");
}

/// Over a way that loses, doubles and delays, from several seeds: both ends agree at the end.
#[test]
fn a_bad_way_makes_it_slower_and_nothing_else() {
    let world = harbour("", &[("phone", "--kind certificate")]);
    let steps = json!([
        ["in"],
        ["rekey-child"],
        ["rekey-ike"],
        ["rekey-child"],
        ["live"],
        ["echo", "10.44.0.20"],
        ["rekey-ike"],
        ["echo", "10.44.0.20"],
        ["out"],
    ]);
    for seed in 1..=4 {
        let said = played(&world, &with(play(&world, "phone", steps.clone()), json!({ "bad_way": seed })));
        assert_eq!(said.len(), 9, "seed {seed}: {said:#?}");
        assert!(
            said.iter().filter(|one| one["step"] == "echo").all(|one| one["answers"] == 1),
            "seed {seed}: {said:#?}"
        );
    }
    wait(20, "the last session is over", || {
        let list = world.run("session list --format json").is(0).json();
        list.as_array()?.is_empty().then_some(())
    });
}

/// Numbers that jump, parts that never are whole, what was altered, other people's pairs, pairs without end, megabytes.
#[test]
fn a_hostile_device_gains_nothing_and_others_do_not_notice() {
    let world = harbour("", &[("phone", "--kind certificate"), ("lost", "--kind certificate")]);
    let stay = json!([["in"], ["wait", 20], ["echo", "10.44.0.20"], ["live"], ["out"]]);
    let other = Playing::start(&world, "phone", &play(&world, "phone", stay));
    other.is_at(1);
    let steps = json!([["init"], ["huge"], ["in"], ["hostile"], ["echo", "10.44.0.20", { "child": 0 }], ["out"]]);
    let said = played(&world, &play(&world, "lost", steps));
    assert_eq!((said.len(), &said[4]["answers"]), (6, &json!(1)), "{said:#?}");
    let said = other.ends();
    assert_eq!((said.len(), &said[2]["answers"]), (5, &json!(1)), "{said:#?}");
    let agent = world.agent_pid("harbour");
    let memory = std::fs::read_to_string(format!("/proc/{agent}/status")).unwrap();
    let most: u64 = memory
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.trim().parse().ok())
        .unwrap();
    assert!(most < 120_000, "{most} kB");
}

/// More openings than one network may have: each is asked for a cookie before any work, and comes in with it.
#[test]
fn whoever_opens_too_often_shows_where_they_are_first() {
    let world = harbour("", &[("phone", "--kind certificate")]);
    // So many that a slow machine, too, opens faster than a network may.
    let mut steps: Vec<Value> = (0..150).map(|_| json!(["init"])).collect();
    steps.push(json!(["in"]));
    steps.push(json!(["echo", "10.44.0.20"]));
    let said = played(&world, &play(&world, "phone", json!(steps)));
    assert_eq!(said.len(), 152, "{said:#?}");
    let events = said[150]["auth"]["events"].as_array().unwrap();
    let asked = events.iter().filter(|one| *one == "cookie").count();
    assert!((10..=140).contains(&asked), "{asked} of 151");
    assert_eq!(said[151]["answers"], 1);
}
