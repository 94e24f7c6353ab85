//! Way notices: what has become of ways in reaches devices without a new credential, by whatever way. And orders that hold for a time.

use crate::common::{World, wait};

fn connect(world: &World, file: &str, options: &str) -> crate::common::Came {
    world.on_laptop(&format!("yestrel connect {file} --background --proxy 127.0.0.1:0 {options}"))
}

#[test]
fn a_notice_by_file_mail_or_link_leads_a_device_to_where_its_gateway_is_now() {
    let world = World::mara("--processes");
    world.run("credential notice mara/laptop").is(3).says("nothing is new");
    world.run("listener change harbour/quill --port 51999").is(0).says("1 handover");
    // No tunnel opens any more where the handover leads: the notice goes by another way.
    world.run("rollout --yes").is(0).says("tell");
    connect(&world, "mara.yestrel", "").is(1).says("no answer within");
    world.run("credential notice mara/laptop --to mara.notice").is(0).says("notice 1 for mara/laptop");
    world.run("credential list").is(0).says("stale, notice 1 not taken yet");
    let text = world.read("mara.notice");
    assert!(!text.contains("51999") && !text.contains("gangway"), "sealed: {text}");
    let link = world.run("credential notice mara/laptop --as link").is(0).out.trim().to_owned();
    let mail = world.run("credential notice mara/laptop --as mail");
    mail.is(3).says("no mail address");
    world.run("user change mara --mail mara@skerry.example").is(0);
    let mail = world.run("credential notice mara/laptop --as mail").is(0).out;
    assert!(mail.starts_with("To: mara@skerry.example\r\nSubject: ") && mail.contains("\r\n\r\n"), "{mail}");
    world.write("mail.eml", &mail);
    for what in ["mara.notice", "mail.eml", &link] {
        let _ = std::fs::remove_file(world.path("mara.yestrel.notice"));
        connect(&world, "mara.yestrel", &format!("--notice {what}")).is(0).says("took notice 1").says("port 51999");
        world.on_laptop("yestrel tunnel stop harbour").is(0);
    }
    // It stays: nobody has to name it twice, and the estate learns that it has arrived.
    connect(&world, "mara.yestrel", "").is(0);
    world.run("session list").is(0);
    world.run("credential list").is(0).says("notice 1 taken");
    world.run("credential notice mara/laptop").is(3).says("nothing is new");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // An older one, a damaged one, somebody else's, and one by somebody else.
    connect(&world, "mara.yestrel", "--notice mara.notice").is(3).says("is known already");
    let (head, body) = text.split_once("NOTICE-----\n").unwrap();
    let altered = body.replacen(&body[70..74], if &body[70..74] == "AAAA" { "BBBB" } else { "AAAA" }, 1);
    world.write("damaged.notice", &format!("{head}NOTICE-----\n{altered}"));
    let kept = world.read("mara.yestrel.notice");
    let _ = std::fs::remove_file(world.path("mara.yestrel.notice"));
    connect(&world, "mara.yestrel", "--notice damaged.notice").is(3).says("not for this handover");
    connect(&world, "mara.yestrel", "--notice mara.yestrel").is(2).says("no way notice in it");
    connect(&world, "mara.yestrel", "--notice nowhere.notice").is(1).says("cannot be read");
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/phone --to phone.yestrel --yes").is(0);
    connect(&world, "phone.yestrel", "--name phone --notice mara.notice").is(3).says("not for this handover");
    // What lies beside a handover and is not for it keeps nobody out.
    world.write("phone.yestrel.notice", &kept);
    connect(&world, "phone.yestrel", "--name phone").is(0).says("is left alone");
    world.on_laptop("yestrel tunnel stop phone").is(0);
}

/// What a device was told and does not come about, or is taken back, keeps nobody out.
#[test]
fn a_device_that_was_told_of_a_port_that_never_opened_comes_in_where_it_did_before() {
    let world = World::mara("--processes");
    world.run("listener change harbour/quill --port 52001").is(0);
    world.run("credential notice mara/laptop --to mara.notice").is(0);
    let came =
        connect(&world, "mara.yestrel", "--notice mara.notice").is(0).says("port 52001").says("is in at harbour");
    assert!(came.err.contains("took notice 1"), "{came:?}");
    // Once it is open, the device goes there by itself: it knows.
    world.run("rollout --yes").is(0);
    wait(30, "the device at the new port", || {
        let list = world.on_laptop("yestrel tunnel list --format json").is(0).json();
        (list[0]["state"] == "up" && world.run("session list").out.contains("mara/laptop")).then_some(())
    });
    assert!(world.shell("harbour", "ss -Hlun").out.contains(":52001 "));
    world.on_laptop("yestrel tunnel stop harbour").is(0);
}

#[test]
fn a_reach_that_grows_reaches_a_device_by_the_tunnel_that_is_up() {
    let world = World::mara("--processes");
    connect(&world, "mara.yestrel", "").is(0);
    world.run("listener change harbour/quill --reach 10.44.0.0/22,10.45.0.0/24").is(0);
    world.run("rollout --yes").is(0).says("1 device what is new, by way notice");
    let grown = || {
        let list = world.on_laptop("yestrel tunnel list --format json").is(0).json();
        list[0]["reach"].to_string().contains("10.45.0.0/24").then_some(())
    };
    wait(20, "the tunnel that is up to reach more", grown);
    let taken = || {
        world.run("session list").is(0);
        world.run("credential list").is(0).out.contains("notice 1 taken").then_some(())
    };
    wait(20, "the estate to learn that the notice was taken", taken);
    world.run("rollout --preview").is(0).says("nothing to do");
    // Kept sealed beside the handover.
    assert!(!world.read("mara.yestrel.notice").contains("10.45"));
    // A handover that is made later knows all of it, and an older notice beside it changes nothing.
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("credential handover mara/laptop --to new.yestrel --yes").is(0);
    assert!(world.read("new.yestrel").contains("10.45.0.0/24"));
}

#[test]
fn notices_for_all_go_to_a_folder_and_a_new_signing_key_is_learned_by_one() {
    let world = World::mara("--processes");
    world.admit("tomas", "tomas/tablet");
    world.run("credential notice --all --to none").is(0).says("no device needs a notice");
    world.run("estate renew --yes").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential notice --all --to notices").is(0).says("wrote");
    let text = world.read("notices/mara-laptop.notice");
    world.write("first.notice", &text);
    connect(&world, "mara.yestrel", "--notice first.notice").is(0).says("took notice 1");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // The next is signed with the new key, which only whoever took the first knows.
    world.run("session list").is(0);
    world.run("listener change harbour/quill --port 51998").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential notice mara/laptop --to second.notice").is(0);
    connect(&world, "mara.yestrel", "--notice second.notice").is(0).says("took notice 2").says("port 51998");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
}

/// A device that knows a signing key which the estate has no more needs another handover; that keeps no rollout away.
#[test]
fn a_device_that_would_not_believe_a_notice_is_said_to_and_holds_nothing_up() {
    let world = World::mara("--processes");
    // The key that a device knows is kept over a few renewals, not for ever.
    for _ in 0..6 {
        world.run("estate renew --yes").is(0);
        world.run("rollout --yes").is(0);
    }
    world.run("listener change harbour/quill --port 51997").is(0);
    let preview = world.run("rollout --preview").is(0).out;
    assert!(preview.contains("51997") && !preview.contains("tell"), "{preview}");
    world.run("rollout --yes").is(0);
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("credential list").is(0).says("stale");
    world
        .run("credential notice mara/laptop")
        .is(3)
        .says("would not believe a notice")
        .says("credential renew mara/laptop");
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("credential handover mara/laptop --to new.yestrel --yes").is(0);
    connect(&world, "new.yestrel", "").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
}

#[test]
fn an_order_that_holds_for_a_time_lets_nobody_in_after_it_and_every_command_that_reaches_it_renews_it() {
    let world = World::mara("--processes");
    world.run("estate change --orders-hold 59s").is(2);
    world.run("estate change --orders-hold 30m").is(2);
    world.run("estate change --orders-hold 2h").is(0).says("rollout");
    world.run("rollout --preview").is(0).says("2 hours");
    world.run("rollout --yes").is(0);
    let until = || {
        let shown = world.run("gateway show harbour --format json").is(0).json();
        shown["holds_until"].as_str().map(|at| at.parse::<jiff::Timestamp>().unwrap())
    };
    let first = until().unwrap();
    assert!(first > jiff::Timestamp::now() + jiff::SignedDuration::from_mins(119), "{first}");
    let renewed = || until().filter(|again| *again > first);
    wait(5, "a command that reaches the gateway to renew its order", renewed);
    connect(&world, "mara.yestrel", "").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    world.run("gateway list").is(0).says("up to date");
    world.run("estate change --orders-hold never").is(0);
    world.run("rollout --yes").is(0);
    assert_eq!(until(), None);
}
