//! What earlier versions wrote is read for ever: each has a folder of fixtures, made by `scripts/fixtures` when it was made.

use crate::common::World;

const FIXTURES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/fixtures");

fn versions() -> Vec<std::path::PathBuf> {
    let mut all: Vec<_> = std::fs::read_dir(FIXTURES).unwrap().map(|entry| entry.unwrap().path()).collect();
    all.sort();
    assert!(all.iter().any(|folder| folder.ends_with("0.4")), "the promise begins with 0.4");
    all
}

#[test]
fn an_estate_of_every_version_is_whole_and_goes_on() {
    for folder in versions() {
        let world = World::empty();
        let saved = folder.join("skerry.saved").display().to_string();
        world.run_words(&["estate", "load", &saved, "--alone"]).is(0);
        world.run("estate history --verify").is(0);
        world.run("estate show").is(0).says("30 days");
        world.run("host list").is(0).says("an old agent of pier");
        world.run("gateway show harbour").says("gangway.skerry.example");
        world.run("listener show harbour/quill").is(0).says("number 2, number 1 until");
        world.run("user list").is(0).says("mara@skerry.example");
        // What is found by what records have in common is found also where an earlier version wrote them.
        let crew = world.run("user list --group crew").is(0).says("mara");
        assert!(!crew.out.contains("tomas"), "{crew:?}");
        world.run("group show crew").is(0).says("mara");
        world.run("listener list").is(0).says("harbour/quill");
        world.run("authority list").is(0).says("issuing").says("signs");
        world.run("authority show issuing").is(0).says("http://gangway.skerry.example:8047/lists/issuing.crl");
        let listed = world.run("credential list").is(0).says("revoked").says("lost on the ferry").says("notice 1");
        assert!(listed.out.contains("eira/phone") && listed.out.contains("mara/phone"), "{listed:?}");
        // What was made before there were policies goes on admitting every valid credential.
        world.run("policy list").is(0).says("everyone").says("admit");
        let preview = world.run("rollout --preview").is(0).says("harbour");
        let without = ["0.4", "0.5"].iter().any(|version| folder.ends_with(version));
        assert_eq!(preview.out.contains("policy  add everyone  (admit everybody)"), without, "{}", preview.out);
        // And what is made on top of it.
        world.run("device add tomas/phone").is(0);
        world.run("credential issue tomas/phone --at harbour").is(0).says("10.187.44.");
        world.run("credential handover tomas/phone --to tomas.yestrel --yes").is(0);
        world.run("credential issue tomas/phone --kind certificate").is(0);
        world.run("credential handover tomas/phone --kind certificate --as pem --to tomas --yes").is(0);
        world.run("credential renew eira/phone --kind password --generate --yes").is(4).says("made eira/phone/2");
        world.run("estate history --verify").is(0);
    }
}

#[test]
fn handovers_and_notices_of_every_version_open() {
    for folder in versions() {
        let world = World::empty();
        world.write("mara.yestrel", &std::fs::read_to_string(folder.join("mara.yestrel")).unwrap());
        let notice = folder.join("mara.notice").display().to_string();
        // Nobody answers where it leads: it is read, and tried.
        let connect = ["connect", "mara.yestrel", "--proxy", "127.0.0.1:0", "--notice", &notice];
        world
            .run_words(&connect)
            .is(1)
            .says("took notice 1")
            .says("harbour (quill) has new keys")
            .says("mara/laptop cannot come in");
    }
}
