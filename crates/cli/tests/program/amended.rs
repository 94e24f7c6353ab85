//! Amendments to the order in force: what an agent takes, what it refuses, what it keeps. And the estate's side: what travels, and what is kept.

use std::io::Write as _;

use crate::agent::Running;
use crate::common::client::Client;
use crate::common::{World, wait};
use yestrel_core::admission::Proof;
use yestrel_core::exchange::agent;
use yestrel_core::keys::{KeyPair, PublicKey, Secret};
use yestrel_core::order::{Admit, Amendment, Amends, Revoked, SignedAmendment};
use yestrel_core::sample;

fn amendment(number: u64, previous: &str, amends: Amends) -> Amendment {
    Amendment::new("estate-1", "harbour", number, previous, jiff::Timestamp::now(), amends)
}

fn signed(number: u64, previous: &str, amends: Amends) -> SignedAmendment {
    amendment(number, previous, amends).sign(&Secret::new(vec![9; 32])).unwrap()
}

/// This device has this entry and no other.
fn has(admit: Admit) -> Amends {
    Amends { devices: [admit.device.clone()].into(), admit: vec![admit], ..Amends::default() }
}

/// This device has nothing any more.
fn lacks(device: &str) -> Amends {
    Amends { devices: [device.to_owned()].into(), ..Amends::default() }
}

fn amend(running: &Running, amendment: &SignedAmendment) -> Result<agent::Receipt, String> {
    let amended = running.try_ask(&agent::Amend { amendment: amendment.clone() });
    amended.map_err(|problem| format!("{}: {}", problem.error, problem.why.unwrap_or_default()))
}

fn admit(device: &str, key: &KeyPair, last: u8) -> Admit {
    let proof = yestrel_core::admission::Proof::Key { key: key.public };
    Admit { proof, ..sample::admit(device, last) }
}

fn refused(running: &Running, key: &KeyPair, seed: u64) {
    let mut client = Client::new(&running.dialled(), &key.private, seed);
    client.device.open(client.now());
    let refused = |client: &Client| {
        client.events.iter().any(|event| matches!(event, yestrel_wire::quill::device::Event::Refused(..)))
    };
    assert!(client.run(std::time::Duration::from_secs(10), refused), "{:?}", client.events);
}

#[test]
fn an_amendment_is_taken_in_its_sequence_and_from_the_estate_alone() {
    let running = Running::start();
    let tomas = KeyPair::from_random([21; 32]);
    let tablet = || has(admit("tomas/tablet", &tomas, 2));
    assert!(amend(&running, &signed(2, "", tablet())).unwrap_err().contains("belongs to no estate yet"));
    running.adopt();
    assert!(amend(&running, &signed(1, "", tablet())).unwrap_err().contains("does not continue"));
    let whole = running.signed(1, "", running.content());
    running.carry(&whole).unwrap();
    refused(&running, &tomas, 1);
    let hash = running.hash();
    // By somebody else, for somebody else, out of sequence, altered, cut.
    let forged = amendment(2, &hash, tablet()).sign(&Secret::new(vec![66; 32])).unwrap();
    assert!(amend(&running, &forged).unwrap_err().contains("not signed"));
    let good = signed(2, &hash, tablet());
    for (estate, gateway) in [("estate-2", "harbour"), ("estate-1", "boatyard")] {
        let other = Amendment { estate: estate.into(), gateway: gateway.into(), ..amendment(2, &hash, tablet()) };
        let other = other.sign(&Secret::new(vec![9; 32])).unwrap();
        assert!(amend(&running, &other).unwrap_err().contains("another gateway"));
    }
    assert!(amend(&running, &signed(3, "another", tablet())).unwrap_err().contains("does not continue"));
    assert!(amend(&running, &signed(3, &hash, tablet())).unwrap_err().contains("follows order 1"));
    let altered = SignedAmendment { amendment: good.amendment.replace("tomas/tablet", "oskar/tablet"), ..good.clone() };
    assert!(amend(&running, &altered).unwrap_err().contains("not signed"));
    let order = SignedAmendment { amendment: whole.order.clone(), signature: whole.signature.clone() };
    assert!(amend(&running, &order).unwrap_err().contains("format"));
    assert_eq!((running.hash(), running.ask(&agent::Status).order), (hash.clone(), 1), "nothing of all that was done");
    refused(&running, &tomas, 2);
    // The right one, and the same again; and then it is no more than a thing of the past.
    let receipt = amend(&running, &good).unwrap();
    assert_eq!((receipt.number, receipt.hash, receipt.ended), (2, good.hash(), 0));
    assert_eq!(amend(&running, &good).unwrap().number, 2);
    Client::new(&running.dialled(), &tomas.private, 3).up();
    let without = signed(3, &good.hash(), lacks("tomas/tablet"));
    assert_eq!(amend(&running, &without).unwrap().ended, 1, "whoever is in by it is out with it");
    assert!(amend(&running, &good).unwrap_err().contains("does not continue"));
    refused(&running, &tomas, 4);
}

#[test]
fn an_amendment_ends_the_sessions_that_it_is_about_and_touches_no_other() {
    let running = Running::start();
    let tomas = KeyPair::from_random([21; 32]);
    running.adopt();
    let mut content = running.content();
    content.admit.push(admit("tomas/tablet", &tomas, 2));
    running.carry(&running.signed(1, "", content)).unwrap();
    let _mara = Client::new(&running.dialled(), &running.device.private, 1).up();
    let _tomas = Client::new(&running.dialled(), &tomas.private, 2).up();
    let inside = || {
        let all = running.ask(&agent::Sessions).into_iter().map(|one| (one.device, one.number)).collect::<Vec<_>>();
        (all.iter().map(|(device, _)| device.clone()).collect::<Vec<_>>(), all)
    };
    let (names, before) = inside();
    assert_eq!(names, ["mara/laptop", "tomas/tablet"]);
    // A revocation says why, and holds whatever is amended after it.
    let revoked = Revoked { device: "tomas/tablet".into(), reason: "fell into the dock".into() };
    let gone = Amends { revoked: [(tomas.public.to_string(), revoked)].into(), ..lacks("tomas/tablet") };
    let second = signed(2, &running.hash(), gone);
    assert_eq!(amend(&running, &second).unwrap().ended, 1);
    assert_eq!(inside().1, [before[0].clone()], "hers goes on, the same");
    let news = serde_json::to_string(&running.news()).unwrap();
    assert!(news.contains("fell into the dock"), "{news}");
    let third = signed(3, &second.hash(), has(admit("tomas/tablet", &tomas, 2)));
    assert_eq!(amend(&running, &third).unwrap().number, 3);
    refused(&running, &tomas, 3);
    // Her address is given to another: she yields; and what is said of a suspended user holds at once.
    let oskar = KeyPair::from_random([22; 32]);
    let mut suspended = admit("mara/laptop", &running.device, 1);
    suspended.suspended = true;
    let both = Amends {
        devices: ["mara/laptop".into(), "oskar/phone".into()].into(),
        admit: vec![suspended, admit("oskar/phone", &oskar, 3)],
        ..Amends::default()
    };
    assert_eq!(amend(&running, &signed(4, &third.hash(), both)).unwrap().ended, 1);
    refused(&running, &running.device, 4);
    Client::new(&running.dialled(), &oskar.private, 5).up();
}

#[test]
fn what_was_amended_is_kept_and_read_again_whatever_broke_off() {
    let mut running = Running::start();
    let tomas = KeyPair::from_random([21; 32]);
    running.adopt();
    let first = running.signed(1, "", running.content());
    running.carry(&first).unwrap();
    let second = signed(2, &first.hash(), has(admit("tomas/tablet", &tomas, 2)));
    amend(&running, &second).unwrap();
    let third = signed(3, &second.hash(), lacks("mara/laptop"));
    amend(&running, &third).unwrap();
    let file = running.inside("amendments.jsonl");
    let kept = std::fs::read_to_string(&file).unwrap();
    assert_eq!(kept.lines().count(), 2);
    running.restart();
    wait(10, "the amended order", || (running.hash() == third.hash()).then_some(()));
    refused(&running, &running.device, 1);
    Client::new(&running.dialled(), &tomas.private, 2).up();
    // A line that a crash cut short was never confirmed: it is as if it had not come, and comes again.
    let whole: String = kept.lines().take(1).map(|line| format!("{line}\n")).collect();
    std::fs::write(&file, format!("{whole}{}", &kept.lines().nth(1).unwrap()[..40])).unwrap();
    running.restart();
    wait(10, "the order before", || (running.hash() == second.hash()).then_some(()));
    assert_eq!(amend(&running, &third).unwrap().number, 3);
    running.restart();
    wait(10, "the amended order", || (running.hash() == third.hash()).then_some(()));
    // One that a disk has made unreadable, and what follows it, are none either; the agent begins all the same.
    std::fs::write(&file, format!("{whole}\u{fffd}{{\n{}\n", kept.lines().nth(1).unwrap())).unwrap();
    running.restart();
    wait(10, "the order before it", || (running.hash() == second.hash()).then_some(()));
    std::fs::write(&file, [whole.as_bytes(), b"\xff\x00\n"].concat()).unwrap();
    running.restart();
    wait(10, "the order before it", || (running.hash() == second.hash()).then_some(()));
    std::fs::write(&file, &kept).unwrap();
    running.restart();
    wait(10, "the amended order", || (running.hash() == third.hash()).then_some(()));
    // A whole order in its place, and a crash before what was amended of the one before is gone.
    running.carry(&running.signed(4, &third.hash(), running.content())).unwrap();
    assert!(!file.exists());
    std::fs::write(&file, &kept).unwrap();
    running.restart();
    wait(10, "the whole order", || (running.ask(&agent::Status).order == 4).then_some(()));
    refused(&running, &tomas, 3);
    // One that carries its amendments is taken whole, and goes on from there.
    let mut envelope = running.signed(5, &running.hash(), running.content());
    envelope.amendments.push(signed(6, &envelope.hash(), has(admit("tomas/tablet", &tomas, 2))));
    running.carry(&envelope).unwrap();
    assert_eq!((running.ask(&agent::Status).order, running.hash()), (6, envelope.hash()));
    let seventh = signed(7, &envelope.hash(), lacks("tomas/tablet"));
    assert_eq!(amend(&running, &seventh).unwrap().number, 7);
    running.restart();
    wait(10, "all of it", || (running.hash() == seventh.hash()).then_some(()));
}

#[test]
fn an_order_that_waits_for_its_confirmation_is_not_amended_and_a_full_disk_takes_it_later() {
    let mut running = Running::start_on_a_disk_of(512);
    running.adopt();
    let first = running.signed(1, "", running.content());
    running.ask(&agent::Carry { envelope: first.clone(), hold: 60 });
    let gone = signed(2, &first.hash(), lacks("mara/laptop"));
    assert!(amend(&running, &gone).unwrap_err().contains("waits for its confirmation"));
    running.ask(&agent::Confirm { hash: first.hash() });
    let mut fill = std::fs::File::create(running.inside("fill")).unwrap();
    while fill.write_all(&[0; 4096]).is_ok() {}
    while fill.write_all(&[0]).is_ok() {}
    drop(fill);
    let receipt = amend(&running, &gone).unwrap();
    assert!(receipt.unkept.is_some_and(|why| why.contains("No space left")));
    refused(&running, &running.device, 1);
    let back = signed(3, &gone.hash(), has(admit("mara/laptop", &running.device, 1)));
    assert!(amend(&running, &back).unwrap().unkept.is_some());
    std::fs::remove_file(running.inside("fill")).unwrap();
    wait(20, "everything is kept", || running.ask(&agent::Status).unkept.is_none().then_some(()));
    running.restart();
    wait(10, "what was amended", || (running.hash() == back.hash()).then_some(()));
    Client::new(&running.dialled(), &running.device.private, 2).up();
}

/// What travels where only people change is small, whatever the order weighs; and of old orders only the hash is kept.
#[test]
fn the_estate_sends_amendments_and_forgets_the_texts_of_old_orders() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/laptop");
    world.admit("tomas", "tomas/laptop");
    world.run("rollout --yes").is(0);
    let orders = || {
        let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
        let sql = "SELECT number || ' ' || base || ' ' || (text IS NOT NULL) FROM orders LEFT JOIN order_texts USING (name) ORDER BY number";
        let mut rows = estate.prepare(sql).unwrap();
        rows.query_map([], |row| row.get::<_, String>(0)).unwrap().map(Result::unwrap).collect::<Vec<_>>()
    };
    assert_eq!(orders(), ["1 1 1"]);
    world
        .run("credential revoke tomas/laptop --reason lost --yes")
        .is(0)
        .says("order 1 -> 2")
        .says("revoke  tomas/laptop");
    world.run("user suspend mara --yes").is(0).says("withdraw mara/laptop  (suspended)");
    world.run("user restore mara --yes").is(0).says("admit   mara/laptop  (restored)");
    assert_eq!(orders(), ["1 1 1", "2 1 1", "3 1 1", "4 1 1"]);
    world.run("rollout --preview").is(0).says("nothing to do");
    // Anything else takes a whole order, again and again.
    for (port, number) in [(21_001, 5), (21_002, 6), (21_003, 7)] {
        world.run(&format!("listener change harbour/quill --port {port}")).is(0);
        world.run("rollout --yes").is(0).says(&format!("-> {number}"));
    }
    assert_eq!(orders()[..4], ["1 1 0", "2 1 0", "3 1 0", "4 1 0"]);
    assert_eq!(orders()[4..], ["5 5 0", "6 6 1", "7 7 1"]);
    world.run("credential issue tomas/laptop").is(0);
    world.run("rollout --yes").is(0).says("admit   tomas/laptop");
    assert_eq!(orders()[7..], ["8 7 1"]);
    // An agent that has an older one than the estate believes gets the whole, with all that was amended.
    std::fs::remove_file(world.path("lab/hosts/harbour/var/yestrel/amendments.jsonl")).unwrap();
    world.run("gateway restart harbour --yes").is(0);
    world.run("credential revoke tomas/laptop --reason lost --yes").is(0).says("order 8 -> 9");
    world.run("status").says("answers  9");
    world.run("rollout --preview").is(0).says("nothing to do");
    // And one that was wiped becomes the gateway again, with everything.
    let agent = nix::unistd::Pid::from_raw(world.agent_pid("harbour"));
    nix::sys::signal::kill(agent, nix::sys::signal::Signal::SIGKILL).unwrap();
    let folder = world.path("lab/hosts/harbour/var/yestrel");
    wait(20, "the folder is gone", || std::fs::remove_dir_all(&folder).ok());
    wait(30, "another agent is there", || world.run("status").out.contains("belongs to no estate").then_some(()));
    world.run("credential revoke mara/laptop --reason lost --yes").is(0).says("order 9 -> 10");
    world.run("status").says("answers  10");
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("estate history --verify").is(0);
}

/// Of what an order takes while it is read nothing stays, and what stays is little for each device.
#[test]
fn an_order_for_many_holds_little_memory_and_what_reading_it_took_goes_back() {
    const MANY: u32 = 40_000;
    let running = Running::start();
    running.adopt();
    let few = running.content();
    let first = running.signed(1, "", few.clone());
    running.carry(&first).unwrap();
    let before = running.memory();
    let mut content = few.clone();
    content.listeners[0].pool = "10.128.0.0/12".parse().unwrap();
    content.admit.extend((0..MANY).map(|n| {
        let mut key = [5; 32];
        key[..4].copy_from_slice(&n.wrapping_mul(2_654_435_761).to_be_bytes());
        Admit {
            proof: Proof::Key { key: PublicKey(key) },
            device: format!("hand-{n}/phone"),
            address: Some((u32::from(std::net::Ipv4Addr::new(10, 128, 1, 0)) + n).into()),
            until: Some("2039-03-02T08:15:00Z".parse().unwrap()),
            ..few.admit[0].clone()
        }
    }));
    content.admit.sort_by(Admit::in_order);
    let second = running.signed(2, &first.hash(), content);
    running.carry(&second).unwrap();
    let most = before + u64::from(MANY) * 400 / 1024;
    wait(20, "no more than 400 bytes a device", || (running.memory() <= most).then_some(()));
    running.carry(&running.signed(3, &second.hash(), few)).unwrap();
    wait(20, "most of it is gone", || (running.memory() <= before + 7 * 1024).then_some(()));
}

/// Commands at once make orders at once, and one may overtake the other on its way: each is done all the same.
#[test]
fn revocations_at_once_are_all_in_force_and_none_fails_by_another() {
    let world = World::harbour("--processes");
    let sailors: Vec<_> = (0..24).map(|at| format!("sailor-{at}")).collect();
    let lines: String = sailors.iter().map(|sailor| format!("{sailor},,crew,phone\n")).collect();
    world.write("crew.csv", &format!("name,mail,groups,device\n{lines}"));
    world.run("user import crew.csv --make-groups --yes").is(0);
    world.run("credential issue --group crew --yes").is(0);
    world.run("rollout --yes").is(0);
    for some in sailors.chunks(6) {
        std::thread::scope(|scope| {
            for sailor in some {
                let revoke = format!("credential revoke {sailor}/phone --reason lost --yes");
                let world = &world;
                scope.spawn(move || world.run(&revoke).is(0));
            }
        });
    }
    world.run("rollout --preview").is(0).says("harbour  nothing to do");
    let kept = world.read("lab/hosts/harbour/var/yestrel/revoked.jsonl");
    assert_eq!(kept.matches("\"lost\"").count(), 24, "{kept}");
    world.run("estate history --verify").is(0);
}
