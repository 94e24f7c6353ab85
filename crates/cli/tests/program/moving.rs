//! A gateway moves to another host, and its devices follow without a new handover.

use crate::common::{World, wait};

#[test]
fn a_gateway_moves_and_its_devices_follow() {
    let world = World::mara("--namespaces");
    world.run("host add breakwater --site harbour --kind cloud --via lab").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background").is(0);
    let prove = "yestrel tunnel prove --reach 10.44.0.20:80 --look-up tickets.skerry.example";
    world.on_laptop(prove).is(0);
    let inner = world.run("session list --format json").json()[0]["inner"].clone();
    // Where it cannot go, and without a yes, nothing moves.
    let before = world.everything();
    world.run("gateway move harbour --to harbour --yes").is(3).says("already");
    world.run("gateway move harbour --to nowhere --yes").is(2);
    world.run("gateway move harbour --to breakwater").is(2).says("this needs a yes").says("1 device follows by itself");
    world.run("lab break breakwater").is(0);
    world.run("gateway move harbour --to breakwater --yes").is(1).says("still on harbour, as it was");
    world.run("lab mend breakwater").is(0);
    world.run("lab break harbour").is(0);
    world.run("gateway move harbour --to breakwater --yes").is(1).says("--abandoned");
    world.run("lab mend harbour").is(0);
    let wanted = |text: &str| {
        let lines = text.lines().filter(|line| line.starts_with("hosts.") || line.starts_with("listeners."));
        lines.map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(wanted(&world.everything()), wanted(&before));
    assert_eq!(world.run("gateway show harbour --format json").json()["host"], "harbour");
    world.on_laptop(prove).is(0);

    world.run("credential issue mara/laptop").is(3);
    let key = world.run("gateway show harbour --format json").json()["key"].clone();
    world.run("gateway move harbour --to breakwater --yes").is(0).says("192.0.2.140").says("removed");
    world.run("lab point gangway.skerry.example --to breakwater").is(0);
    wait(30, "the device at the new host", || {
        let came = world.on_laptop(prove);
        println!("{came:?} {:?}", world.on_laptop("yestrel tunnel list").out);
        (came.code == 0).then_some(())
    });
    let sessions = world.run("session list --format json").is(0).json();
    assert_eq!(sessions[0]["inner"], inner, "the inner address is the same");
    let now = world.run("gateway show harbour --format json").json();
    assert_eq!((&now["key"], &now["host"], &now["state"]), (&key, &"breakwater".into(), &"up to date".into()));
    // Nothing is left of it on the old host, and the past is not lost.
    let old = world.path("lab/hosts/harbour");
    assert!(!old.join("var").exists() && !old.join("opt").exists());
    assert!(!world.shell("harbour", "nft list tables").out.contains("yestrel"));
    world.run("session list --past").is(0).says("mara/laptop");
    world.run("credential list").is(0).says("handed-over");
    world.run("credential revoke mara/laptop --reason lost --yes").is(0);
    world.on_laptop("yestrel connect mara.yestrel --name again").is(1).says("lost");
}

#[test]
fn a_strict_device_follows_as_well_and_lets_nothing_else_out_meanwhile() {
    let world = World::harbour("--namespaces");
    world.run("listener change harbour/quill --reach everything").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    world.run("host add breakwater --site harbour --kind cloud --via lab").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background --strict").is(0);
    world.run("gateway move harbour --to breakwater --yes").is(0);
    wait(20, "the loss", || world.on_laptop("yestrel tunnel list").out.contains("lost").then_some(()));
    // Other programs get nowhere, neither to names nor to anything else.
    assert_ne!(world.run("lab fetch mara-laptop http://192.0.2.80/").code, 0);
    let script =
        "import socket\ns=socket.socket(2,2)\ns.settimeout(2)\ns.sendto(b'x'*20,('192.0.2.53',53))\ns.recv(100)";
    world.run_words(&["lab", "enter", "mara-laptop", "--", "python3", "-c", script]).is(1);
    world.run("lab point gangway.skerry.example --to breakwater").is(0);
    wait(30, "the device at the new host", || {
        (world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").code == 0).then_some(())
    });
    world.run("lab fetch mara-laptop http://192.0.2.80/").is(0).says("192.0.2.140");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    let rules = world.shell("mara-laptop", "ip rule").out;
    assert!(!rules.contains("181"), "{rules}");
}

/// The old host is a second copy of the gateway that nobody can reach: its keys open nothing elsewhere, it is named until it is clean, and it is
/// cleaned by the first command that reaches it.
#[test]
fn a_gateway_moves_off_a_host_that_cannot_be_reached_with_new_keys_and_the_old_agent_is_removed_when_it_answers() {
    let world = World::mara("--namespaces");
    world.run("host add breakwater --site harbour --kind cloud --via lab").is(0);
    world.run("lab break harbour").is(0);
    let secrets = |world: &World| {
        let shown = world.run("listener show harbour/quill").is(0).out;
        (world.run("gateway show harbour --format json").json()["key"].clone(), shown.contains("number 2"))
    };
    let (key, _) = secrets(&world);
    // Where the new host does not take it either, everything is as before.
    world.run("lab break breakwater").is(0);
    world.run("gateway move harbour --to breakwater --abandoned --yes").is(1).says("still on harbour, as it was");
    assert_eq!(secrets(&world), (key.clone(), false));
    assert!(!world.run("host list").out.contains("old agent"));
    world.run("lab mend breakwater").is(0);
    world.run("gateway move harbour --to breakwater --abandoned").is(2).says("new keys, and devices need a way notice");
    world.run("gateway move harbour --to breakwater --abandoned --yes").is(0).says("new keys").says("still there");
    let (new_key, renewed) = secrets(&world);
    assert!(new_key != key && renewed);
    world.run("host list").is(0).says("an old agent of harbour");
    world.run("gateway list").is(0).says("an old agent of harbour is on harbour");
    world.run("rollout --yes").is(0).says("may still let devices in that are revoked");
    // Nobody comes in at the new host by what the old one knows; a notice leads there.
    world.run("lab point gangway.skerry.example --to breakwater").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background").is(1).says("no answer within");
    world.run("credential list").is(0).says("by a key that it has no more");
    world.run("credential notice mara/laptop --to mara.notice").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background --notice mara.notice").is(0).says("new keys");
    world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0);
    // A revocation says what does not know of it.
    world.run("user add tomas").is(0);
    world.run("device add tomas/tablet").is(0);
    world.run("credential issue tomas/tablet").is(0);
    let revoke = "credential revoke tomas/tablet --reason lost --yes";
    world
        .run(revoke)
        .is(4)
        .says("revoked tomas/tablet/1")
        .says("the old agent of harbour on harbour does not know of it");
    // As soon as it answers it is gone, whatever the command was about.
    world.run("lab mend harbour").is(0);
    world.run("credential issue tomas/tablet").is(0);
    world
        .run("credential revoke tomas/tablet --reason lost --yes")
        .is(0)
        .says("the old agent of harbour on harbour is removed");
    let old = world.path("lab/hosts/harbour");
    assert!(!old.join("var").exists() && !old.join("opt").exists());
    assert!(!world.run("host list").out.contains("old agent"));
    world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // And can carry the gateway again.
    world.run("gateway move harbour --to harbour --yes").is(0);
    world.run("lab point gangway.skerry.example --to harbour").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background").is(0);
}
