//! The whole path in a lab of network namespaces: real TUN, real nftables, real routes. Needs root, ip and nft, and fails
//! without them.

use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};

use crate::common::{World, wait};
use serde_json::Value;

const NAMESPACES: &str = "--namespaces";
const TICKETS: &str = "lab fetch mara-laptop http://10.44.0.20/";

fn connected(world: &World) -> bool {
    world.on_laptop("yestrel tunnel list --format json").json()[0]["state"] == "up"
}

fn connect(world: &World, options: &str) {
    world.on_laptop(&format!("yestrel connect mara.yestrel --background {options}")).is(0);
}

fn kill(pid: i32) {
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::Signal::SIGKILL).unwrap();
}

// Long: it is the whole example, twice.
#[test]
fn the_demo_holds_in_both_worlds() {
    for mode in [&["demo"][..], &["demo", "--processes"]] {
        let world = World::empty();
        let came = world.run_words(mode).is(0).says("all of it held");
        assert!(came.out.matches("proved").count() >= 12, "{}", came.out);
        let expected = if mode.len() == 1 { "with network namespaces" } else { "with processes on loopback" };
        assert!(came.out.contains(expected), "{}", came.out);
    }
}

#[test]
fn the_firewall_has_exactly_what_is_needed_and_retiring_leaves_no_trace() {
    let world = World::mara(NAMESPACES);
    let port = world.run("listener list --format json").json()[0]["port"].as_str().unwrap().replace("/udp", "");
    let table = world.shell("harbour", "nft list table inet yestrel").is(0).out;
    let opened: Vec<_> = table.lines().filter(|line| line.contains("dport")).collect();
    assert_eq!(opened.len(), 1, "{table}");
    assert!(opened[0].contains("udp dport @open0"), "{table}");
    let ports = world.shell("harbour", "nft list set inet yestrel open0").is(0).out;
    assert!(ports.contains(&format!("elements = {{ {port} }}")), "{ports}");
    assert!(table.contains("ip saddr . ip daddr @reach4 accept"), "{table}");
    world.shell("harbour", "nft list set inet yestrel reach4").is(0).says("{ 10.187.44.0/24 . 10.44.0.0/22 }");
    assert!(table.contains("masquerade"), "{table}");
    world.shell("harbour", "cat /proc/sys/net/ipv4/ip_forward").says("1");
    world.run("gateway change harbour --routed").is(0);
    world.run("rollout --yes").is(0).says("masquerade yes -> no");
    assert!(!world.shell("harbour", "nft list table inet yestrel").is(0).out.contains("masquerade"));
    world.run("gateway retire harbour --yes").is(0);
    assert_eq!(world.shell("harbour", "nft list tables").out.trim(), "");
    world.shell("harbour", "cat /proc/sys/net/ipv4/ip_forward").says("0");
    world.shell("harbour", "ip link").is(0).out.lines().for_each(|line| assert!(!line.contains("yestrel"), "{line}"));
    for left in ["var", "opt", "agent.log", "agent.pid"] {
        assert!(!world.path(&format!("lab/hosts/harbour/{left}")).exists(), "{left}");
    }
    // With the same names again, from nothing.
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
}

#[test]
fn a_device_is_kept_to_its_reach_by_the_gateway_itself() {
    let world = World::mara(NAMESPACES);
    world.run("listener change harbour/quill --reach 10.44.0.99/32").is(0);
    connect(&world, "");
    world.run(TICKETS).is(0);
    // The device is told of the narrower reach; one that ignored it would be stopped at the gateway.
    world.run("rollout --yes").is(0);
    wait(5, "the device takes the new reach", || {
        (world.on_laptop("yestrel tunnel list --format json").json()[0]["reach"][0] == "10.44.0.99/32").then_some(())
    });
    let interface = world.shell("mara-laptop", "ip -o link | grep -o 'yestrel[0-9]*' | head -1").out.trim().to_owned();
    world.shell("mara-laptop", &format!("ip route add 10.44.0.20/32 dev {interface}")).is(0);
    world.run(TICKETS).is(1);
}

// Long: a device notices by silence that its gateway is gone.
#[test]
fn an_agent_that_is_killed_comes_back_with_its_order_and_loses_no_news() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    world.run(TICKETS).is(0);
    wait(5, "the agent has noted how far who is connected has come", || {
        let noted = world.read("lab/hosts/harbour/var/yestrel/live.jsonl");
        let last = noted.lines().filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok()).next_back();
        last.and_then(|line| line["value"]["received"].as_u64()).filter(|received| *received > 100)
    });
    let before = world.agent_pid("harbour");
    kill(before);
    let order = wait(10, "the agent runs again", || {
        let shown = world.run("gateway show harbour --format json");
        (shown.code == 0 && world.agent_pid("harbour") != before).then(|| shown.json()["order_at_agent"].clone())
    });
    let _ = order;
    wait(10, "its order is in force again", || {
        (world.run("gateway show harbour --format json").json()["order_at_agent"] == 1).then_some(())
    });
    // The device notices by itself and comes in again.
    wait(30, "the laptop is back", || {
        (world.run("session list --format json").json()[0]["device"] == "mara/laptop").then_some(())
    });
    wait(10, "and reaches the ticket server", || (world.run(TICKETS).code == 0).then_some(()));
    let past = world.run("session list --past --format json").json();
    let killed = &past[0];
    assert!(killed["reason"].as_str().unwrap().starts_with("agent-stopped"), "{past:#}");
    assert!(killed["received"].as_u64().unwrap() > 100, "{past:#}");
}

#[test]
fn an_agent_takes_no_older_no_altered_and_no_foreign_order() {
    use yestrel_core::exchange::agent::Carry;
    let world = World::mara(NAMESPACES);
    let socket = world.path("lab/hosts/harbour/var/yestrel/control.sock");
    let first = world.read("lab/hosts/harbour/var/yestrel/order.json");
    world.run("listener change harbour/quill --keep-alive 30s").is(0);
    world.run("rollout --yes").is(0);
    let carry = |envelope: &str| {
        let carry = Carry { envelope: serde_json::from_str(envelope).unwrap(), hold: 0 };
        yestrel_net::control::ask(&socket, &carry, std::time::Duration::from_secs(5)).unwrap_err().error
    };
    assert!(carry(&first).contains("older"));
    assert!(carry(&first.replace("mara/laptop", "mara/laptoq")).contains("not signed"));
    let foreign = World::estate();
    foreign.run("site add harbour --network 10.44.0.0/22").is(0);
    let via = format!("lab:{}", world.path("lab/hosts/harbour").display());
    foreign.run(&format!("host add harbour --site harbour --kind cloud --via {via}")).is(0);
    foreign.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    foreign.run("listener open harbour").is(0);
    foreign.run("rollout --yes").is(4).says("belongs to another estate");
    // Nothing of all that has changed anything.
    assert_eq!(world.run("gateway show harbour --format json").json()["order_at_agent"], 2);
}

#[test]
fn a_gateway_that_cannot_be_reached_does_not_hold_up_the_others() {
    let world = World::mara(NAMESPACES);
    world.run("site add pier-office --network 192.168.40.0/24").is(0);
    let added = world.run("host add pier-office --site pier-office --kind router --via lab").is(0);
    assert!(added.out.contains("policy drop in chain input of table inet filter"), "{added:?}");
    world.run("gateway create pier-office --host pier-office --dialled pier.skerry.example").is(0);
    world.run("listener open pier-office").is(0);
    world.run("lab break harbour").is(0);
    world.run("listener change harbour/quill --keep-alive 40s").is(0);
    let came = world.run("rollout --yes").is(4).says("harbour did not take");
    assert!(came.out.lines().any(|line| line.starts_with("pier-office") && line.contains("done")), "{came:?}");
    world.run("port list").says("blocked").says("nft insert rule inet filter input");
    world.run("session list").is(4).says("harbour did not answer");
    world.run("lab mend harbour").is(0);
    let came = world.run("rollout --yes").is(0);
    assert!(came.out.lines().any(|line| line.starts_with("pier-office") && line.contains("nothing to do")), "{came:?}");
    world.run("gateway list").is(0).says("up to date");
}

#[test]
fn an_agent_that_dies_in_the_middle_of_a_rollout_is_named_and_caught_up() {
    let world = World::mara(NAMESPACES);
    world.run("listener change harbour/quill --keep-alive 40s").is(0);
    world.run("lab break harbour --how agent").is(0);
    let came = world.run("rollout --yes").is(4);
    assert!(came.err.contains("harbour did not take the newest order"), "{came:?}");
    assert_eq!(world.run("gateway list --format json").json()[0]["order"], 1);
    world.run("lab mend harbour").is(0);
    world.run("rollout --yes").is(0);
    assert_eq!(world.run("gateway list --format json").json()[0]["order"], 2);
}

#[test]
fn a_busy_port_is_refused_naming_its_holder_and_a_stolen_one_keeps_the_old_order() {
    let world = World::mara(NAMESPACES);
    let pid = world.host_pid("harbour");
    let take = |port: u16| {
        // A socket belongs to the namespace in which it was made.
        std::thread::spawn(move || {
            let file = std::fs::File::open(format!("/proc/{pid}/ns/net")).unwrap();
            nix::sched::setns(file, nix::sched::CloneFlags::CLONE_NEWNET).unwrap();
            std::net::UdpSocket::bind(("0.0.0.0", port)).unwrap()
        })
        .join()
        .unwrap()
    };
    let held = take(31999);
    let own = std::fs::read_to_string("/proc/self/comm").unwrap();
    world
        .run("listener open harbour --name second --port 31999")
        .is(3)
        .says("31999/udp of harbour is taken")
        .says(own.trim());
    drop(held);
    let port = world.run("listener list --format json").json()[0]["port"].as_str().unwrap().replace("/udp", "");
    world
        .run(&format!("listener open harbour --name second --port {port}"))
        .is(3)
        .says("by the listener harbour/quill");
    // Free when it was chosen, taken when it is opened: the whole order is refused, and the old one stays.
    world.run("listener open harbour --name second --port 31998").is(0);
    let held = take(31998);
    connect(&world, "");
    world.run("rollout --yes").is(4).says("31998/udp").says("the host advises: ");
    assert_eq!(world.run("gateway show harbour --format json").json()["order_at_agent"], 1);
    world.run(TICKETS).is(0);
    drop(held);
    world.run("rollout --yes").is(0);
    assert!(connected(&world));
}

#[test]
fn a_revocation_is_learned_even_from_an_order_that_cannot_be_carried_out() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    let pid = world.host_pid("harbour");
    world.run("listener open harbour --name second --port 31997").is(0);
    let held = std::thread::spawn(move || {
        let file = std::fs::File::open(format!("/proc/{pid}/ns/net")).unwrap();
        nix::sched::setns(file, nix::sched::CloneFlags::CLONE_NEWNET).unwrap();
        std::net::UdpSocket::bind(("0.0.0.0", 31997)).unwrap()
    })
    .join()
    .unwrap();
    world.run_words(&["credential", "revoke", "mara/laptop", "--reason", "lost", "--yes", "--everything"]).is(4);
    wait(5, "the session ends all the same", || (!connected(&world)).then_some(()));
    world.on_laptop("yestrel connect mara.yestrel").is(1).says("revoked (lost)");
    drop(held);
    // A revoked key cannot be brought in again by anything.
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel connect mara.yestrel").is(1).says("revoked (lost)");
}

/// Packets that the cafe's router has seen going out beside the tunnel: names over port 53, and IPv6.
fn leaked(world: &World) -> String {
    world.shell("cafe-router", "nft list counters table inet watch").is(0).out
}

/// The gateway's own services, other devices and the link are reached only where a reach names them, by the agent and the firewall.
#[test]
fn a_full_tunnel_does_not_reach_the_gateways_own_services_unless_they_are_named() {
    let world = World::harbour(NAMESPACES);
    world.run("gateway change harbour --dialled 203.0.113.10").is(0);
    world.run("listener change harbour/quill --reach everything --resolvers 10.44.0.1").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    // A service for the people of the site on the gateway's own host, and a resolver beside it.
    let serve = |port: u16, kind: &str| {
        let script = format!(
            "import socket\ns=socket.socket(socket.AF_INET, socket.{kind}); s.bind((\"10.44.0.1\",{port}))\n\
             if socket.{kind} == socket.SOCK_STREAM:\n  s.listen()\n  while True: s.accept()[0].send(b\"office\")\n\
             while True:\n  _, who = s.recvfrom(99)\n  s.sendto(b\"office\", who)\n"
        );
        world.write(&format!("serve-{port}.py"), &script);
        let path = world.path(&format!("serve-{port}.py"));
        world.shell("harbour", &format!("nohup python3 {} >/dev/null 2>&1 &", path.display())).is(0);
    };
    serve(631, "SOCK_STREAM");
    serve(53, "SOCK_DGRAM");
    wait(10, "both", || {
        let listening = world.shell("harbour", "ss -lntu").out;
        (listening.contains("10.44.0.1:631") && listening.contains("10.44.0.1:53")).then_some(())
    });
    connect(&world, "");
    let ask = |port: u16, kind: &str| {
        let script = format!(
            "import socket; s=socket.socket(socket.AF_INET, socket.{kind}); s.settimeout(2); s.connect((\"10.44.0.1\",{port})); s.send(b\"?\"); print(s.recv(9))"
        );
        world.shell("mara-laptop", &format!("python3 -c '{script}'"))
    };
    world.run(TICKETS).is(0);
    ask(53, "SOCK_DGRAM").is(0).says("office");
    ask(631, "SOCK_STREAM").is(1).says("timed out");
    world.on_laptop("yestrel tunnel prove").is(0).says("10.187.44.1 answers from inside");
    // Named, it is reached.
    world.run("listener change harbour/quill --reach 10.44.0.0/22").is(0);
    world.run("rollout --yes").is(0);
    wait(10, "the service", || (ask(631, "SOCK_STREAM").code == 0).then_some(()));
}

#[test]
fn with_reach_everything_nothing_leaks_beside_the_tunnel() {
    let world = World::harbour(NAMESPACES);
    // By address, because the cafe's resolver only listens.
    world.run("gateway change harbour --dialled 203.0.113.10").is(0);
    world.run("listener change harbour/quill --reach everything").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    // The cafe offers IPv6 and a resolver of its own, and counts what comes to it.
    world
        .shell(
            "cafe-router",
            "ip -6 address add 2001:db8:1::1/64 dev lan nodad && nft -f - <<'END'
table inet watch {
  counter names { }
  counter six { }
  chain see {
    type filter hook prerouting priority -300;
    iifname lan udp dport 53 counter name names
    iifname lan tcp dport 53 counter name names
    iifname lan meta nfproto ipv6 icmpv6 type echo-request counter name six
    iifname lan ip6 nexthdr { tcp, udp } counter name six
  }
}
END",
        )
        .is(0);
    world
        .shell(
            "mara-laptop",
            "ip -6 address add 2001:db8:1::20/64 dev eth0 nodad && ip -6 route add default via 2001:db8:1::1",
        )
        .is(0);
    world.shell("mara-laptop", "echo 'nameserver 192.168.1.1' > /etc/resolv.conf").is(0);
    connect(&world, "");
    let before = leaked(&world);
    world.run("lab fetch mara-laptop http://mirror.example/").is(0).says("203.0.113.10");
    // Straight at the cafe's resolver and over IPv6: neither gets out.
    let look_up = "import socket
s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); s.sendto(b'x'*30,('192.168.1.1',53))
s=socket.socket(socket.AF_INET6,socket.SOCK_DGRAM)
try: s.sendto(b'x'*30,('2001:db8:1::1',443)); print('sent')
except OSError as e: print('blocked')";
    world.run_words(&["lab", "enter", "mara-laptop", "--", "python3", "-c", look_up]).is(0).says("sent");
    assert_eq!(leaked(&world), before, "IPv6 goes into the tunnel");
    world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0).says("IPv4 and IPv6 go out from the inner");
    // Without inner IPv6 it goes nowhere at all.
    world.run("listener change harbour/quill --pool6 none").is(0);
    world.run("rollout --yes").is(0);
    wait(10, "the laptop has the new settings", || {
        (!world.shell("mara-laptop", "ip -6 address show dev yestrel0").out.contains("global")).then_some(())
    });
    world.run_words(&["lab", "enter", "mara-laptop", "--", "python3", "-c", look_up]).is(0).says("blocked");
    assert_eq!(leaked(&world), before);
    world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0).says("IPv6 has no way out");
    // A way out that somebody makes beside the tunnel is seen.
    world.shell("mara-laptop", "ip -6 rule add priority 100 lookup main").is(0);
    world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(3).says("IPv6 would go out from 2001:db8:1::20");
    world.shell("mara-laptop", "ip -6 rule del priority 100 && ip rule add priority 100 lookup main").is(0);
    world.on_laptop("yestrel tunnel prove").is(3).says("IPv4 would go out from 192.168.1.20");
    world.shell("mara-laptop", "ip rule del priority 100").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    world.shell("mara-laptop", "cat /etc/resolv.conf").says("192.168.1.1");
    // The watch itself works: without the tunnel, the same packets are seen.
    world.run_words(&["lab", "enter", "mara-laptop", "--", "python3", "-c", look_up]).is(0).says("sent");
    assert_ne!(leaked(&world), before);
}

fn tunnel_pid(world: &World) -> i32 {
    let listed = world.run_words(&[
        "lab",
        "enter",
        "mara-laptop",
        "--",
        "sh",
        "-c",
        "cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' '",
    ]);
    assert!(listed.out.contains("connect"), "{listed:?}");
    // The process that answers at the tunnel's socket.
    let stream = std::os::unix::net::UnixStream::connect(world.path("lab/hosts/mara-laptop/run/harbour.sock")).unwrap();
    nix::sys::socket::getsockopt(&stream, nix::sys::socket::sockopt::PeerCredentials).unwrap().pid()
}

#[test]
fn a_crash_of_the_tunnel_leaves_the_device_as_it_was() {
    let world = World::mara(NAMESPACES);
    let look = "cat /etc/resolv.conf; ip rule; ip -6 rule; ip route show table all; ip -o link | cut -d: -f2";
    // The system's own IPv6 addresses take a moment to settle, and bring routes of their own with them.
    wait(10, "the system's own addresses", || {
        world.shell("mara-laptop", "ip -6 address show tentative").out.trim().is_empty().then_some(())
    });
    let before = world.shell("mara-laptop", look).is(0).out;
    connect(&world, "");
    let during = world.shell("mara-laptop", look).out;
    assert!(during.contains("127.19.78.1") && during.contains("18104"), "{during}");
    kill(tunnel_pid(&world));
    wait(5, "everything is as it was", || (world.shell("mara-laptop", look).out == before).then_some(()));
    connect(&world, "");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    assert_eq!(world.shell("mara-laptop", look).out, before);
}

#[test]
fn a_strict_tunnel_that_crashes_lets_nothing_out_until_it_is_stopped() {
    let world = World::harbour(NAMESPACES);
    world.run("listener change harbour/quill --reach everything").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    connect(&world, "--strict");
    world.run("lab fetch mara-laptop http://192.0.2.80/").is(0).says("203.0.113.10");
    kill(tunnel_pid(&world));
    wait(5, "the resolvers come back", || {
        world.shell("mara-laptop", "cat /etc/resolv.conf").out.contains("192.0.2.53").then_some(())
    });
    world.run("lab fetch mara-laptop http://192.0.2.80/").is(1);
    world.on_laptop("yestrel tunnel list").says("blocked");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    world.run("lab fetch mara-laptop http://192.0.2.80/").is(0).says("198.51.100.23");
}

#[test]
fn a_remote_session_through_which_one_works_keeps_its_path() {
    let world = World::harbour(NAMESPACES);
    world.run("listener change harbour/quill --reach everything").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let way = |to: &str| world.shell("mara-laptop", &format!("ip route get {to}")).out;
    let mut command =
        world.command(&["lab", "enter", "mara-laptop", "--", "yestrel", "connect", "mara.yestrel", "--background"]);
    let output = command.env("SSH_CONNECTION", "198.51.100.129 50022 192.168.1.20 22").output().unwrap();
    assert!(output.status.success(), "{output:?}");
    assert!(way("198.51.100.129").contains("dev eth0"), "{}", way("198.51.100.129"));
    assert!(way("192.0.2.80").contains("dev yestrel"), "{}", way("192.0.2.80"));
}

// Long: a device notices by silence that its gateway is gone.
#[test]
fn a_cut_cable_is_noticed_and_the_tunnel_comes_back_by_itself() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    world.run(TICKETS).is(0);
    world.run("lab break harbour --how cable").is(0);
    world.run(TICKETS).is(1);
    // Before it is given up, it is said to be silent, and since when.
    wait(25, "the silence is noticed", || {
        (world.on_laptop("yestrel tunnel list --format json").json()[0]["state"] == "silent").then_some(())
    });
    wait(25, "the loss is noticed", || {
        (world.on_laptop("yestrel tunnel list --format json").json()[0]["state"] == "lost").then_some(())
    });
    world.run("lab mend harbour").is(0);
    wait(40, "the tunnel is back", || connected(&world).then_some(()));
    wait(10, "the ticket server answers", || (world.run(TICKETS).code == 0).then_some(()));
}

#[test]
fn a_suspended_user_is_out_at_once_and_in_again_when_restored() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    world.run("user suspend mara --yes").is(0);
    wait(5, "the session ends", || (!connected(&world)).then_some(()));
    world.on_laptop("yestrel connect mara.yestrel").is(1).says("suspended");
    world.run("credential list").says("suspended");
    world.run("user restore mara").is(0);
    connect(&world, "");
    world.run("user list").says("active");
}

#[test]
fn an_ended_session_says_so_and_may_begin_again() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    world
        .run_words(&["session", "end", "mara/laptop", "--words", "maintenance until noon", "--yes"])
        .is(0)
        .says("ended 1 session");
    wait(5, "the session ends", || (!connected(&world)).then_some(()));
    world.on_laptop("yestrel tunnel list").says("maintenance until noon");
    connect(&world, "");
    world.run("session end mara/laptop --yes").is(0);
    wait(5, "the session ends", || (!connected(&world)).then_some(()));
    world.run("session end mara/laptop --yes").is(0).says("was not connected");
}

// Long: a credential is issued for ten seconds and waited for, by all of command, agent and device.
#[test]
fn a_credential_that_expires_ends_its_session_and_says_when() {
    let world = World::harbour(NAMESPACES);
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    let soon = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(8);
    world.run(&format!("credential issue mara/laptop --until {soon}")).is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    connect(&world, "");
    wait(15, "the session ends", || (!connected(&world)).then_some(()));
    world.on_laptop("yestrel connect mara.yestrel").is(1).says("has expired");
    world.run("credential list").says("expired");
}

#[test]
fn a_new_pool_reaches_connected_devices_and_the_handover_stays_valid() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    world.run("listener change harbour/quill --pool 10.190.0.0/24").is(0);
    world.run("credential list").says("10.190.0.2");
    world.run("rollout --yes").is(0);
    let inner = || world.on_laptop("yestrel tunnel list --format json").json()[0]["inner"].clone();
    wait(40, "the device has its new address and the site answers", || {
        (inner() == "10.190.0.2" && world.run(TICKETS).code == 0).then_some(())
    });
}

#[test]
fn handovers_that_are_not_whole_not_ours_or_not_opened_are_refused() {
    let mut world = World::mara(NAMESPACES);
    let good = world.read("mara.yestrel");
    let connect =
        |world: &World, file: &str, options: &str| world.on_laptop(&format!("yestrel connect {file} {options}"));
    world.write("cut", &good[..good.len() / 2]);
    connect(&world, "cut", "").is(2).says("no").says("handover that can be used");
    world.write("newer", &good.replace("\"yestrel handover 3\"", "\"yestrel handover 9\""));
    connect(&world, "newer", "").is(2).says("yestrel handover 9").says("newer yestrel");
    let other_key = "AQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQE=";
    let key = good.lines().find(|line| line.starts_with("device_key")).unwrap();
    world.write("altered", &good.replace(key, &format!("device_key = \"{other_key}\"")));
    connect(&world, "altered", "").is(1).says("does not admit this credential");
    let server = good.lines().find(|line| line.starts_with("server_key")).unwrap();
    world.write("other-estate", &good.replace(server, &format!("server_key = \"{other_key}\"")));
    connect(&world, "other-estate", "").is(1).says("no answer");
    world.write("nowhere", &good.replace("gangway.skerry.example", "nowhere.skerry.example"));
    connect(&world, "nowhere", "").is(1).says("nowhere.skerry.example does not resolve");
    // Under a passphrase, and with a key that was made on the device.
    world.write("passphrase", "seven skerries at dusk\n");
    world.write("wrong", "six skerries at dawn!\n");
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("credential handover mara/laptop --to sealed.yestrel --passphrase-file passphrase --yes").is(0);
    assert!(!world.read("sealed.yestrel").contains("harbour"));
    connect(&world, "sealed.yestrel", "").is(2).says("passphrase");
    connect(&world, "sealed.yestrel", "--passphrase-file wrong").is(3).says("passphrase is wrong");
    connect(&world, "sealed.yestrel", "--background --passphrase-file passphrase").is(0);
    world.write("own.pub", &world.run("tunnel keys --to own.key").is(0).out);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone --public-key own.pub").is(0);
    world.run("credential issue mara/phone --public-key own.pub").is(3);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/phone --to phone.yestrel").is(0);
    assert!(!world.read("phone.yestrel").lines().any(|line| line.starts_with("device_key")));
    connect(&world, "phone.yestrel", "").is(2).says("--private-key");
    connect(&world, "phone.yestrel", "--background --name phone --private-key own.key").is(0);
    assert_eq!(world.run("session list --format json").json().as_array().map(Vec::len), Some(2));
    let _ = &mut world;
}

#[test]
fn a_full_pool_refuses_the_next_device_and_an_address_is_nobody_elses_for_a_while() {
    let world = World::harbour(NAMESPACES);
    world.run("listener change harbour/quill --pool 10.190.0.0/29").is(0);
    world.run("user add mara").is(0);
    for number in 1..=6 {
        world.run(&format!("device add mara/d{number}")).is(0);
    }
    for number in 1..=5 {
        world.run(&format!("credential issue mara/d{number}")).is(0).says(&format!("10.190.0.{}", number + 1));
    }
    let before = world.everything();
    world.run("credential issue mara/d6").is(3).says("is full");
    assert_eq!(world.everything(), before);
    world.run("listener change harbour/quill --pool 10.191.0.0/30").is(3).says("too small");
    world.run("credential revoke mara/d3 --reason lost --yes").is(0);
    // Logs that name its address still mean it, also when it is not in the estate any more.
    world.run("listener show harbour/quill").is(0).says("1 held after a revocation");
    world.run("credential issue mara/d6").is(3).says("held after a revocation").says("--hold-addresses 0");
    world.run("credential issue mara/d3").is(0).says("10.190.0.4");
    world.run("credential revoke mara/d3 --reason lost --yes").is(0);
    world.run("device remove mara/d3 --yes").is(0);
    world.run("credential issue mara/d6").is(3).says("held after a revocation");
    world.run("estate change --hold-addresses 0").is(0);
    world.run("credential issue mara/d6").is(0).says("10.190.0.4");
    world.run("estate show").is(0).says("0 days");
}

#[test]
fn no_secret_is_left_in_the_estate_logs_or_news() {
    let world = World::mara(NAMESPACES);
    let handover = world.read("mara.yestrel");
    let key =
        handover.lines().find_map(|line| line.strip_prefix("device_key = ")).unwrap().trim_matches('"').to_owned();
    assert_eq!(key.len(), 44);
    world.on_laptop("yestrel connect mara.yestrel --background -v").is(0);
    let gateway: Value = serde_json::from_str(&world.read("lab/hosts/harbour/var/yestrel/identity.json")).unwrap();
    let gateway_key = gateway["private_key"].as_str().unwrap().to_owned();
    let mut looked_at = 0;
    let mut folders = vec![world.folder.path().to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let (path, name) = (entry.path(), entry.file_name().to_string_lossy().into_owned());
            if entry.file_type().unwrap().is_dir() {
                folders.push(path);
            } else if entry.file_type().unwrap().is_file()
                && name != "yestrel"
                && name != "mara.yestrel"
                && name != "identity.json"
            {
                let bytes = std::fs::read(&path).unwrap();
                let text = String::from_utf8_lossy(&bytes);
                assert!(!text.contains(&key) && !text.contains(&gateway_key), "{}", path.display());
                looked_at += 1;
            }
        }
    }
    assert!(looked_at > 10, "{looked_at}");
}

#[test]
fn the_foreground_tunnel_ends_with_a_signal_and_restores_everything() {
    let world = World::mara(NAMESPACES);
    let mut command: Command =
        world.command(&["lab", "enter", "mara-laptop", "--", "yestrel", "connect", "mara.yestrel"]);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).process_group(0).spawn().unwrap();
    wait(30, "the tunnel is up", || connected(&world).then_some(()));
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(child.id() as i32), nix::sys::signal::Signal::SIGINT).unwrap();
    assert!(child.wait().unwrap().success());
    assert!(!world.shell("mara-laptop", "ip rule").out.contains("181"));
    let past = world.run("session list --past --format json").json();
    assert_eq!(past[0]["reason"], "closed", "{past:#}");
}

/// Whatever flushes the firewall, switches forwarding off or takes addresses, routes or the device away: a connected device goes on.
#[test]
fn what_something_else_changes_on_a_gateways_host_is_put_right_at_once_and_told() {
    let world = World::mara(NAMESPACES);
    connect(&world, "");
    world.run(TICKETS).is(0);
    let at = |script: &str| world.shell("harbour", script).out.trim().to_owned();
    let tun = || at("ip -o link | grep -o 'yestrel[0-9]*' | head -1");
    let address = || at(&format!("ip -o -4 address show dev {}", tun())).contains("10.187.44.1/24");
    let everything = || {
        at("nft list table inet yestrel").contains("masquerade")
            && at("cat /proc/sys/net/ipv4/ip_forward") == "1"
            && address()
            && at("ip route show 10.187.44.0/24").contains("yestrel")
    };
    assert!(everything());
    let was = tun();
    for change in [
        "nft flush ruleset",
        "nft delete table inet yestrel",
        "nft flush chain inet yestrel pass",
        "nft add rule inet yestrel pass counter accept",
        "echo 0 > /proc/sys/net/ipv4/ip_forward",
        &format!("ip address flush dev {was}"),
        &format!("ip route flush dev {was}"),
        &format!("ip link set {was} down"),
        &format!("ip link delete {was}"),
    ] {
        let before = at("nft --stateless list table inet yestrel");
        world.shell("harbour", change).is(0);
        wait(10, change, || {
            (everything() && at("nft --stateless list table inet yestrel").replace(&tun(), &was) == before)
                .then_some(())
        });
        wait(10, change, || (world.run(TICKETS).code == 0).then_some(()));
    }
    // Somebody who does it over and over is told of in a line a minute, and nothing of it stays.
    world.run("session list --past").is(0);
    let history = world.run("estate history").is(0).out;
    assert!(history.contains("something else on its host changed firewall rules"), "{history}");
    assert!(history.matches("gateway righted").count() <= 2, "{history}");
    world
        .run("gateway log harbour")
        .is(0)
        .says("something else on this host has changed forwarding; it is right again");
    world.run("rollout --preview").is(0).says("nothing to do");
}

/// A host that was wiped or does not answer is not "nothing to do", and a rollout mends what it can.
#[test]
fn a_rollout_asks_the_host_and_not_the_estates_memory() {
    let world = World::mara(NAMESPACES);
    world.run("rollout --preview").is(0).says("harbour  nothing to do");
    world.run("lab break harbour --how agent").is(0);
    let folder = world.path("lab/hosts/harbour/var/yestrel");
    std::fs::remove_dir_all(&folder).unwrap();
    world.run("lab mend harbour").is(0);
    wait(10, "the wiped agent answers", || {
        world.run("rollout --preview").out.contains("the host was replaced or wiped").then_some(())
    });
    world.run("rollout --yes").is(0).says("done");
    world.run("rollout --preview").is(0).says("harbour  nothing to do");
    connect(&world, "");
    world.run(TICKETS).is(0);
    world.run("lab break harbour --how unreachable").is(0);
    let preview = world.run("rollout --preview").is(0);
    assert!(!preview.out.contains("nothing to do"), "{preview:?}");
    world.run("rollout --yes").is(4).says("did not take the newest order");
}
