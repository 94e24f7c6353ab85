//! The whole path without privileges: hosts are processes on loopback, the tunnel lives inside programs.

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};

use crate::common::World;

fn up(world: &World) -> SocketAddr {
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    world.on_laptop("yestrel tunnel list --format json").json()[0]["proxy"].as_str().unwrap().parse().unwrap()
}

fn ask(proxy: SocketAddr, request: &[u8]) -> String {
    let mut stream = TcpStream::connect(proxy).unwrap();
    stream.write_all(request).unwrap();
    let mut answer = vec![0; 256];
    let length = stream.read(&mut answer).unwrap();
    String::from_utf8_lossy(&answer[..length]).into_owned()
}

#[test]
fn programs_reach_the_site_through_the_proxy_and_nothing_beyond() {
    let world = World::mara("--processes");
    let proxy = up(&world);
    world.run("lab fetch mara-laptop http://tickets.skerry.example/").is(0).says("seats left");
    let connect = |target: &str| ask(proxy, format!("CONNECT {target} HTTP/1.1\r\nHost: x\r\n\r\n").as_bytes());
    assert!(connect("tickets.skerry.example:80").starts_with("HTTP/1.1 200"));
    assert!(connect("10.44.0.20:80").starts_with("HTTP/1.1 200"));
    assert!(connect("10.44.0.20:81").starts_with("HTTP/1.1 504"));
    assert!(connect("192.0.2.80:80").starts_with("HTTP/1.1 403"));
    assert!(connect("nowhere.skerry.example:80").starts_with("HTTP/1.1 502"));
    assert!(ask(proxy, b"GET http://10.44.0.20/ HTTP/1.1\r\n\r\n").starts_with("HTTP/1.1 405"));
    world
        .on_laptop("yestrel tunnel prove --reach 10.44.0.20:80 --look-up tickets.skerry.example")
        .is(0)
        .says("it goes through the tunnel");
    world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:81").is(3).says("bad");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    world.run("lab fetch mara-laptop http://10.44.0.20/").is(1);
}

/// A host that is only a process has no network to change but this machine's.
#[test]
fn a_tunnel_of_a_process_never_changes_the_machine() {
    let world = World::mara("--processes");
    let before = (std::fs::read_to_string("/etc/resolv.conf").ok(), world.judge("ip rule; ip route; ip link").out);
    for how in ["", "--background", "--strict", "--once"] {
        let came = world.on_laptop(&format!("yestrel connect mara.yestrel {how}")).is(3);
        came.says("the network of the whole machine").says("--proxy 127.0.0.1:0");
    }
    // Nothing was begun, so that the handover of one session is still there.
    world.read("mara.yestrel");
    assert_eq!(
        before,
        (std::fs::read_to_string("/etc/resolv.conf").ok(), world.judge("ip rule; ip route; ip link").out)
    );
}

#[test]
fn a_proxy_for_others_is_refused_and_a_second_tunnel_of_the_name_too() {
    let world = World::mara("--processes");
    world.on_laptop("yestrel connect mara.yestrel --proxy 0.0.0.0:0").is(3).says("open to others");
    let taken = up(&world);
    world
        .on_laptop("yestrel connect mara.yestrel --proxy 127.0.0.1:0")
        .is(3)
        .says("a tunnel harbour on this machine already");
    world.on_laptop(&format!("yestrel connect mara.yestrel --name second --proxy {taken}")).is(3).says("cannot listen");
    // The attempt has not cost the tunnel that is up its session.
    assert_eq!(world.on_laptop("yestrel tunnel list --format json").json()[0]["state"], "up");
    world.on_laptop("yestrel tunnel stop nothing").is(2).says("no tunnel nothing");
}

#[test]
fn a_changed_name_makes_the_handover_stale_and_a_new_one_cures_it() {
    let world = World::mara("--processes");
    assert!(!world.run("credential list").is(0).out.contains("stale"));
    world.run("gateway change harbour --dialled pier.skerry.example").is(0).says("1 handover");
    world
        .run("credential list")
        .is(0)
        .says("stale")
        .says("dials gangway.skerry.example, which is now pier.skerry.example");
    let port = "listener change harbour/quill --outside-port 4500";
    world.run(port).is(0);
    world.run("credential show mara/laptop").is(0).says("which is now 4500");
    world.run("port list").is(0).says("what stands before harbour").says("4500/udp");
    world.run("gateway change harbour --dialled gangway.skerry.example").is(0);
    world.run("credential renew mara/laptop --yes").is(0);
    assert!(!world.run("credential list mara/laptop --state ready").is(0).out.contains("stale"));
}

#[test]
fn rollout_says_first_what_it_does_and_does_nothing_twice() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/laptop");
    let preview = world.run("rollout --preview").is(0);
    assert!(preview.out.starts_with("harbour  order 0 -> 1\n  add     listener harbour/quill, "), "{preview:?}");
    assert!(preview.out.contains("\n  admit   mara/laptop\n"), "{preview:?}");
    world.run("gateway list").says("no order yet");
    world.run("rollout --yes").is(0).says("agent installed");
    world.run("rollout --yes").is(0).says("nothing to do");
    world.run("rollout --preview").is(0).says("harbour  nothing to do");
    let shown = world.run("gateway show harbour --format json").is(0).json();
    assert_eq!((&shown["order_confirmed"], &shown["order_at_agent"]), (&1.into(), &1.into()));
    assert_eq!(world.run("rollout --again --yes").is(0).out.matches("done").count(), 1);
}

#[test]
fn every_show_and_filled_list_has_three_forms() {
    let world = World::mara("--processes");
    world.run("group add crew").is(0);
    let shows = [
        "site show harbour",
        "host show harbour",
        "gateway show harbour",
        "listener show harbour/quill",
        "user show mara",
        "group show crew",
        "credential show mara/laptop",
        "estate show",
    ];
    for show in shows {
        assert!(world.run(show).is(0).out.lines().count() > 3, "{show}");
        assert!(world.run(&format!("{show} --format json")).is(0).json().is_object(), "{show}");
        assert_eq!(world.run(&format!("{show} --format csv")).is(0).out.lines().count(), 2, "{show}");
    }
    for list in [
        "site list",
        "host list",
        "gateway list",
        "listener list",
        "port list",
        "user list",
        "group list",
        "device list",
        "credential list",
    ] {
        assert_eq!(
            world.run(&format!("{list} --format json")).is(0).json().as_array().map(Vec::len),
            Some(1),
            "{list}"
        );
        assert_eq!(world.run(&format!("{list} --format csv")).is(0).out.lines().count(), 2, "{list}");
        assert!(world.run(list).is(0).out.lines().count() >= 2, "{list}");
    }
}

#[test]
fn bad_words_about_listeners_and_credentials_change_nothing() {
    let world = World::mara("--processes");
    let before = world.everything();
    for (words, code, text) in [
        ("listener open harbour", 3, "already a listener"),
        (
            "listener open harbour --name b --pool 10.44.2.0/24",
            3,
            "overlaps the network 10.44.0.0/22 of the site harbour",
        ),
        (
            "listener open harbour --name b --pool 10.187.44.128/25",
            3,
            "overlaps the pool 10.187.44.0/24 of the listener harbour/quill",
        ),
        ("listener open harbour --name b --pool 203.0.113.0/24", 3, "not in a private range"),
        ("listener open harbour --name b --pool 10.9.9.1/24", 2, "10.9.9.0/24"),
        ("listener open harbour --name b --pool 10.9.9.0/30", 3, "too small"),
        ("listener open harbour --name b --pool fd00::/64", 3, "IPv6"),
        ("listener open harbour --name b --reach mars", 2, "not a range"),
        ("listener open harbour --name b --resolvers mars", 2, "not an address"),
        ("listener open harbour --name b --keep-alive 2d", 2, "20s"),
        ("listener open harbour --name b --packet-size 100", 2, "1280"),
        ("listener open harbour --name b --cipher rot13", 2, "no cipher"),
        ("listener open harbour --name b --tunnel l2tp", 2, "not offered"),
        ("listener change harbour/quill", 2, "nothing was said"),
        ("listener change harbour/quill --pool 10.44.0.0/24", 3, "overlaps"),
        ("listener change harbour/quilt --port 9", 2, "the nearest is harbour/quill"),
        ("gateway create second --host harbour --dialled x.example", 3, "has the gateway harbour already"),
        ("gateway change harbour --dialled gangway", 2, "neither a host name nor an address"),
        ("gateway change harbour --outward eth9", 2, "has no interface eth9"),
        ("host remove harbour --yes", 3, "still needed"),
        ("site remove harbour --yes", 3, "still needed"),
        ("device remove mara/laptop --yes", 3, "has a credential that lets it in"),
        ("credential issue mara/laptop", 3, "has a key pair already"),
        ("credential issue mara/laptop --public-key AAAA", 1, "AAAA cannot be read"),
        ("credential handover mara/laptop --to again.yestrel --yes", 3, "handed over already"),
        ("credential handover mara/laptop --code --yes", 2, "for a terminal"),
        ("credential revoke mara/laptop --reason", 2, "--reason"),
    ] {
        let came = world.run(words).is(code).says(text);
        assert!(came.err.starts_with("error: "), "{came:?}");
    }
    assert_eq!(world.everything(), before, "nothing may have changed");
}

#[test]
fn a_handover_that_cannot_be_written_is_not_counted_as_handed_over() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/laptop");
    world.write("there.yestrel", "something else");
    world.run("credential handover mara/laptop --to there.yestrel --yes").is(1).says("cannot be written");
    world.run("credential handover mara/laptop --to no/such/folder.yestrel --yes").is(1);
    assert_eq!(world.read("there.yestrel"), "something else");
    world.run("credential list --state ready").says("mara/laptop/1");
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(world.path("mara.yestrel")).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
}

#[test]
fn a_credential_that_begins_later_says_when_and_by_which_clock() {
    let world = World::harbour("--processes");
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    world.run("credential issue mara/laptop --from 2d --until 9d").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let came = world.on_laptop("yestrel connect mara.yestrel --proxy 127.0.0.1:0").is(1).says("not valid yet");
    assert!(came.err.contains("the gateway's clock says"), "{came:?}");
}

#[test]
fn ways_are_tried_in_order_and_the_next_one_serves_when_the_first_is_silent() {
    let world = World::harbour("--processes");
    world.run("site add pier-office --network 192.168.40.0/24").is(0);
    world.run("host add pier-office --site pier-office --kind router --via lab").is(0);
    world.run("gateway create pier-office --host pier-office --dialled pier.skerry.example").is(0);
    world.run("listener open pier-office").is(0);
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    world.run("credential issue mara/laptop").is(2).says("several gateways").says("--at");
    world.run("credential issue mara/laptop --at pier-office --at harbour").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let gateway = || world.on_laptop("yestrel tunnel list --format json").json()[0]["way"].as_str().map(str::to_owned);
    up(&world);
    assert!(gateway().unwrap().starts_with("pier.skerry.example:"));
    world.run("lab fetch mara-laptop http://192.168.40.30/").is(0).says("till");
    world.on_laptop("yestrel tunnel stop pier-office").is(0);
    world.run("lab break pier-office --how agent").is(0);
    up(&world);
    assert!(gateway().unwrap().starts_with("gangway.skerry.example:"));
    world.run("lab fetch mara-laptop http://10.44.0.20/").is(0).says("seats left");
}

#[test]
fn a_code_to_scan_is_shown_on_a_terminal_and_the_key_erased_with_it() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/phone");
    let line = format!("'{}' credential handover mara/phone --code --yes", env!("CARGO_BIN_EXE_yestrel"));
    let output = std::process::Command::new("script")
        .args(["-qec", &line, "/dev/null"])
        .env("YESTREL_ESTATE", world.path("skerry"))
        .stdin(std::process::Stdio::null())
        .output()
        .unwrap();
    let shown = String::from_utf8_lossy(&output.stdout);
    let rows: Vec<_> = shown.lines().filter(|line| line.contains('█')).collect();
    assert!(output.status.success() && rows.len() > 20, "{shown}");
    // Square: each character is one module wide and two high.
    let wide = rows.iter().map(|row| row.trim_end_matches('\r').chars().count()).max().unwrap();
    assert!(wide.abs_diff(rows.len() * 2) < 10, "{wide} x {}", rows.len());
    world.run("credential list").says("handed-over");
    world.run("credential handover mara/phone --to x.yestrel --yes").is(3);
}
