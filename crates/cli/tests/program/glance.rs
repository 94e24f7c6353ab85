//! The whole estate at one glance, and lists that never say from memory alone that all is well.

use std::io::{BufRead as _, BufReader};
use std::process::Stdio;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use serde_json::{Value, json};

use crate::common::{Came, World, wait};

const NAMESPACES: &str = "--namespaces";

/// The glance as a program sees it.
fn glance(world: &World) -> Value {
    serde_json::from_str(&world.run("status --format json").out).unwrap()
}

/// What is bad, "subject: words".
fn bad(world: &World) -> Vec<String> {
    let all = glance(world)["findings"].as_array().unwrap().clone();
    let bad = all.into_iter().filter(|one| one["grade"] == "bad");
    bad.map(|one| format!("{}: {}", one["subject"].as_str().unwrap(), one["words"].as_str().unwrap())).collect()
}

/// Whether a gateway is said to be up to date, now.
fn up_to_date(list: &Came) -> bool {
    list.out.lines().any(|line| line.ends_with("up to date"))
}

#[test]
fn one_glance_tells_what_answers_who_is_in_and_what_is_not_as_it_should_be() {
    let world = World::mara(NAMESPACES);
    world.admit("tomas", "tomas/tablet");
    world.run("status").is(0).says("1 change").says("yestrel rollout harbour --preview");
    world.run("rollout --yes").is(0);
    let came = world.run("status").is(0).says("nobody").says("saved never");
    assert!(came.out.lines().nth(1).is_some_and(|row| row.starts_with("harbour  harbour  answers")), "{came:?}");
    world.on_laptop("yestrel connect mara.yestrel --background").is(0);
    world.run("status").is(0).says("mara/laptop at harbour for");
    world.write("passphrase", "three quay lanterns");
    world.run("estate save skerry.saved --passphrase-file passphrase").is(0);
    let seen = glance(&world);
    assert!(seen["saved"].is_string() && bad(&world).is_empty(), "{seen:#}");
    let here = &seen["gateways"][0];
    let heard = &here["heard"]["Ok"];
    assert_eq!((&here["confirmed"], &here["wanted"], &heard["order"]), (&json!(2), &json!(2), &json!(2)));
    assert_eq!(heard["inside"][0]["device"], "mara/laptop");
    assert_eq!((&seen["users"], &seen["credentials"]), (&json!(2), &json!(2)));
    // Its host does not answer, and somebody is revoked meanwhile.
    world.run("lab break harbour").is(0);
    world.run("credential revoke tomas/tablet --reason lost --yes").is(4);
    world.run("status").is(3).says("tomas/tablet is revoked, and it has not confirmed that").says("2 of 3 remembered");
    let said = bad(&world);
    assert!(said.len() == 2 && said[0].contains("last heard"), "{said:?}");
    let csv = world.run("status --format csv").is(3);
    assert!(csv.out.contains("harbour,harbour,\"silent, heard"), "{csv:?}");
    let list = world.run("gateway list").is(0);
    assert!(!up_to_date(&list) && list.out.contains("last heard"), "{list:?}");
    world.run("credential list").is(0).says("what it saw since is not in this list");
    world.run("lab mend harbour").is(0);
    world.run("rollout --yes").is(0);
    assert_eq!(bad(&world), Vec::<String>::new());
    let log = world.run("gateway log harbour --format json").is(0).json();
    assert!(
        log.as_array()
            .unwrap()
            .iter()
            .any(|one| one["at"].is_string() && one["line"].as_str().unwrap().contains("agent runs")),
        "{log:#}"
    );
    world.run("gateway log harbour --follow --format csv").is(2).says("no table");
    // Its agent is dead.
    world.run("lab break harbour --how agent").is(0);
    let said = bad(&world);
    assert!(said.len() == 1 && said[0].contains("no agent answers"), "{said:?}");
    // Why one cannot start stands in its log, which is read without it.
    let identity = world.path("lab/hosts/harbour/var/yestrel/identity.json");
    let good = std::fs::read(&identity).unwrap();
    std::fs::write(&identity, "{}").unwrap();
    world.run("lab mend harbour").is(0);
    wait(20, "it has tried", || world.run("gateway log harbour").out.contains("the agent cannot run").then_some(()));
    std::fs::write(&identity, good).unwrap();
    world.run("lab mend harbour").is(0);
    wait(20, "the agent answers again", || bad(&world).is_empty().then_some(()));
    // It is stopped in the middle of everything: nobody waits for it.
    let host = Pid::from_raw(i32::try_from(world.host_pid("harbour")).unwrap());
    kill(host, Signal::SIGSTOP).unwrap();
    let said = bad(&world);
    kill(host, Signal::SIGCONT).unwrap();
    assert!(said.len() == 1 && said[0].contains("did not answer within 1.5 s"), "{said:?}");
}

#[test]
fn a_host_that_was_wiped_is_said_to_be_so() {
    let world = World::mara(NAMESPACES);
    // Killed, and not begun anew before all is gone: else it may be halfway through reading it.
    world.run("lab break harbour --how agent").is(0);
    let folder = world.path("lab/hosts/harbour/var/yestrel");
    wait(10, "the folder is gone", || std::fs::remove_dir_all(&folder).ok());
    let said = bad(&world);
    assert!(said.len() == 1 && said[0].contains("no agent"), "{said:?}");
    let list = world.run("gateway list").is(0);
    assert!(!up_to_date(&list), "{list:?}");
    // Once it is up again, it is another agent: what it says of who is in is of no estate.
    world.run("session list").is(4).says("did not answer");
    world.run("lab mend harbour").is(0);
    wait(20, "it is up again", || bad(&world)[0].contains("belongs to no estate").then_some(()));
    world.run("session list").is(4).says("belongs to no estate");
}

#[test]
fn a_look_is_taken_again_and_again_until_nobody_reads_it() {
    let world = World::estate();
    world.run("status --every 0s").is(2).says("1s to 24h");
    let mut command = world.command(&["status", "--every", "1s", "--format", "json"]);
    let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    for _ in 0..2 {
        let line: Value = serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap();
        assert_eq!(line["estate"], "skerry");
    }
    drop(lines);
    let ended = wait(10, "nobody reads it, and it ends", || child.try_wait().unwrap());
    assert!(ended.success(), "{ended:?}");
}

#[test]
fn what_another_firewall_lets_in_by_hand_is_seen() {
    let world = World::harbour(NAMESPACES);
    world.run("site add pier-office --network 192.168.40.0/24").is(0);
    world.run("host add pier-office --site pier-office --kind router --via lab").is(0);
    world.run("gateway create pier-office --host pier-office --dialled pier.skerry.example").is(0);
    world.run("listener open pier-office").is(0);
    // The first rollout says so by itself, and what opens it.
    let first = world.run("rollout --yes").is(0).says("shut by another firewall").says("nobody gets in at");
    assert!(
        first.err.contains("there, as root: nft insert rule inet")
            && first.err.contains("yestrel port list pier-office")
    );
    assert!(!first.err.contains("of harbour"), "{first:?}");
    let state = |came: &Came| came.json()[0]["state"].clone();
    let shut = world.run("port list pier-office --format json").is(3);
    assert_eq!(state(&shut), "blocked");
    assert!(bad(&world).iter().any(|one| one.contains("is shut")), "{:?}", bad(&world));
    // What it advises, pasted into a shell there as it stands.
    let why = shut.json()[0]["why"].as_str().unwrap().to_owned();
    let advice = &why[why.find("nft insert").unwrap()..];
    world.shell("pier-office", advice).is(0);
    assert_eq!(state(&world.run("port list pier-office --format json").is(0)), "open");
    world.run("listener change pier-office/quill --reach 192.168.40.0/25").is(0);
    let again = world.run("rollout --yes").is(0);
    assert!(!again.err.contains("nobody gets in") && !again.out.contains("shut by"), "{again:?}");
    let probe = world.run("host probe pier-office").is(0);
    assert!(!probe.out.contains("can drop what the gateway needs"), "{probe:?}");
    assert_eq!(bad(&world), Vec::<String>::new());
    // Somebody shuts it again, by another table.
    let rules =
        "add table ip other; add chain ip other in { type filter hook input priority 5; }; add rule ip other in drop";
    world.shell("pier-office", &format!("nft '{rules}'")).is(0);
    assert_eq!(state(&world.run("port list pier-office --format json").is(3)), "blocked");
}
