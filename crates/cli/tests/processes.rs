//! The whole path without privileges: hosts are processes on loopback, the tunnel lives inside programs.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};

use common::World;

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
    let port = "listener change harbour/talon --outside-port 4500";
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
    assert!(preview.out.starts_with("harbour  order 0 -> 1\n  add     listener harbour/talon, "), "{preview:?}");
    assert!(preview.out.contains("\n  admit   mara/laptop\n"), "{preview:?}");
    world.run("gateway list").says("no order yet");
    world.run("rollout --yes").is(0).says("agent installed");
    world.run("rollout --yes").is(0).says("nothing to do");
    world.run("rollout --preview").is(0).says("harbour  nothing to do");
    let shown = world.run("gateway show harbour --format json").is(0).json();
    assert_eq!((&shown["order_confirmed"], &shown["agent's_order"]), (&1.into(), &1.into()));
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
        "listener show harbour/talon",
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
