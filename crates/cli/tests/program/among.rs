//! Agents bring each other what the estate does not get to a gateway itself.

use crate::common::{World, wait};

/// Two gateways that know each other; the second is behind a router that translates addresses, where nobody can call on it.
fn two() -> World {
    let world = World::harbour("--namespaces");
    world.run("site add boatyard --network 192.168.61.0/24 --time-zone Europe/Oslo").is(0);
    world.run("host add boatyard --site boatyard --kind computer --via lab").is(0);
    world.run("gateway create boatyard --host boatyard --dialled 198.51.100.23").is(0);
    world.run("listener open boatyard --pool 10.187.61.0/24").is(0);
    for (user, device) in [("mara", "mara/laptop"), ("tomas", "tomas/tablet")] {
        world.run(&format!("user add {user}")).is(0);
        world.run(&format!("device add {device}")).is(0);
        world.run(&format!("credential issue {device} --at harbour --at boatyard")).is(0);
    }
    world.run("rollout --yes").is(0).says("boatyard");
    world.run("rollout --preview").is(0).says("harbour   nothing to do").says("boatyard  nothing to do");
    world
}

fn has(world: &World, file: &str, what: &str) -> Option<()> {
    let kept = |file| std::fs::read_to_string(world.path(&format!("lab/hosts/boatyard/var/yestrel/{file}")));
    // An order is one file, or two: what was amended stands beside it.
    let amended = if file == "order.json" { kept("amendments.jsonl").unwrap_or_default() } else { String::new() };
    (kept(file).ok()?.contains(what) || amended.contains(what)).then_some(())
}

// Long: agents meet every 20 s.
#[test]
fn a_gateway_that_the_estate_does_not_reach_is_brought_its_order_by_another_and_keeps_up_after_it_was_cut_off() {
    let world = two();
    // The estate does not reach it; the other gateway does, because it is called on.
    world.run("lab break boatyard --how unreachable").is(0);
    let ports = || world.shell("boatyard", "ss -Hlun | awk '{print $4}' | grep -F '*:' | sort -u").out;
    let before = ports();
    let revoke = ["credential", "revoke", "mara/laptop", "--reason", "lost on the ferry", "--yes"];
    world.run_words(&revoke).is(4).says("harbour brings it there when they meet");
    wait(120, "the revocation at the gateway that nobody reaches", || {
        has(&world, "revoked.jsonl", "lost on the ferry")
    });
    wait(60, "the order there", || has(&world, "order.json", "lost on the ferry"));
    // Under another name it is the same gateway, whoever brings it that.
    world.run("gateway rename boatyard slipway").is(0);
    world.run("rollout --yes").is(4).says("rename  the gateway boatyard -> slipway, which it meets");
    wait(120, "its other name", || has(&world, "identity.json", "\"slipway\""));
    // Cut off from everybody, and back: what was missed meanwhile comes by itself.
    world.shell("boatyard", "ip link set eth0 down").is(0);
    let revoke = ["credential", "revoke", "tomas/tablet", "--reason", "fell into the dock", "--yes"];
    world.run_words(&revoke).is(4).says("harbour brings it there when they meet");
    assert_eq!(has(&world, "revoked.jsonl", "fell into the dock"), None);
    world.shell("boatyard", "ip link set eth0 up && ip route add default via 192.168.61.1").is(0);
    wait(120, "what was missed", || has(&world, "order.json", "fell into the dock"));
    assert_eq!(ports(), before);
    // The estate hears of it from whoever brought it.
    let settled = || {
        world.run("session list");
        world.run("gateway list").out.lines().all(|line| !line.contains("behind")).then_some(())
    };
    wait(120, "the estate to learn that it is there", settled);
    world.run("lab mend boatyard").is(0);
    world.run("rollout --preview").is(0).says("slipway  nothing to do");
    world.run("estate history").is(0).says("gateway passed");
    // Nothing else takes what comes from anybody (a socket by which it calls on another is not bound to a port of its choice): the one port of the listener, at the one that is called on.
    let ports = world.shell("harbour", "ss -Hlun | awk '{print $4}' | grep -F '*:' | sort -u").out;
    assert_eq!(ports.lines().count(), 1, "{ports}");
}

/// What could cut its author off waits for a confirmation by its author. Another gateway brings only the revocations of such an order.
// Long: agents meet every 20 s.
#[test]
fn an_order_that_touches_the_way_in_is_brought_by_nobody_but_the_estate_and_its_revocations_all_the_same() {
    let world = two();
    world.run("lab break boatyard --how unreachable").is(0);
    let ports = || world.shell("boatyard", "ss -Hlun | awk '{print $4}' | grep -F '*:' | sort -u").out;
    let before = ports();
    world.run("listener change boatyard/quill --port 41414").is(0);
    world.run("rollout --yes").is(4);
    let revoke = ["credential", "revoke", "mara/laptop", "--reason", "lost on the ferry", "--yes"];
    world.run_words(&revoke).is(4);
    wait(150, "the revocation", || has(&world, "revoked.jsonl", "lost on the ferry"));
    assert_eq!(has(&world, "order.json", "41414"), None);
    assert_eq!(ports(), before, "the port is the one before");
    world.run("lab mend boatyard").is(0);
    world.run("rollout --yes").is(0).says("confirmed over a new connection");
    assert!(ports().contains("41414"));
}

// Long: agents meet every 20 s.
#[test]
fn an_order_that_holds_for_a_time_goes_on_by_what_others_bring() {
    let world = two();
    world.run("estate change --orders-hold 2h").is(0);
    world.run("rollout --yes").is(0);
    world.run("lab break boatyard --how unreachable").is(0);
    let renewed = || {
        let text = std::fs::read_to_string(world.path("lab/hosts/boatyard/var/yestrel/renewal.json")).ok()?;
        let signed: serde_json::Value = serde_json::from_str(&text).ok()?;
        let said: serde_json::Value = serde_json::from_str(signed["renewal"].as_str()?).ok()?;
        said["at"].as_str()?.parse::<jiff::Timestamp>().ok()
    };
    let before = renewed();
    // A command that reaches the other alone.
    world.run("gateway show harbour").is(0);
    wait(150, "the renewal", || renewed().filter(|at| Some(*at) > before).map(drop));
}

/// A gateway was moved off a host that nobody of the estate reaches: its old agent calls on another gateway, and learns there who was revoked since.
// Long: agents meet every 20 s.
#[test]
fn an_old_agent_that_was_left_behind_learns_of_revocations_from_another_gateway() {
    let world = World::harbour("--namespaces");
    world.run("site add pier --network 192.168.40.0/24 --time-zone Europe/Oslo").is(0);
    world.run("host add pier-office --site pier --kind computer --via lab").is(0);
    world.run("host add breakwater --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create pier --host pier-office --dialled pier.skerry.example").is(0);
    world.run("listener open pier --pool 10.187.40.0/24").is(0);
    for (user, device) in [("mara", "mara/laptop"), ("tomas", "tomas/tablet")] {
        world.run(&format!("user add {user}")).is(0);
        world.run(&format!("device add {device}")).is(0);
        world.run(&format!("credential issue {device} --at harbour")).is(0);
    }
    // The pier's own firewall lets nothing in of its own accord.
    world.shell("pier-office", "nft insert rule inet filter input meta l4proto udp accept").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    world.run("lab break harbour").is(0);
    world.run("gateway move harbour --to breakwater --abandoned --yes").is(0).says("new keys");
    world.run("rollout --yes").is(0).says("meet    the gateway harbour");
    let revoke = ["credential", "revoke", "mara/laptop", "--reason", "lost on the ferry", "--yes"];
    world.run_words(&revoke).is(4).says("does not know of it");
    let learned = || {
        let text = std::fs::read_to_string(world.path("lab/hosts/harbour/var/yestrel/revoked.jsonl")).ok()?;
        text.contains("lost on the ferry").then_some(())
    };
    wait(150, "the old agent to learn it", learned);
    // The name still leads to the old host: it lets nobody in who was revoked.
    world.on_laptop("yestrel connect mara.yestrel --background").is(1).says("lost on the ferry");
}
