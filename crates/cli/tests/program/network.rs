//! What networks and people do to a running tunnel: large transfers, moving devices, copies of an estate, commands that are
//! killed or run at once. In a lab of network namespaces.

use std::process::Stdio;
use std::time::Duration;

use crate::common::{World, wait};

const NAMESPACES: &str = "--namespaces";
const TICKETS: &str = "lab fetch mara-laptop http://10.44.0.20/";

fn connect(world: &World) {
    // A name server that has to wait for a busy machine is asked again, as a person would.
    wait(30, "the tunnel is up", || {
        (world.on_laptop("yestrel connect mara.yestrel --background").code == 0).then_some(())
    });
}

/// A process on a host of the lab that ends with the test.
struct Running(std::process::Child);
impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn python(world: &World, host: &str, script: &str) -> Running {
    let mut command = world.command(&["lab", "enter", host, "--", "python3", "-c", script]);
    Running(command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap())
}

#[test]
fn tens_of_megabytes_and_large_datagrams_arrive_whole_both_ways() {
    let world = World::mara(NAMESPACES);
    connect(&world);
    let _server = python(
        &world,
        "tickets",
        "import socket,threading
u=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); u.bind(('10.44.0.20',7)); u.settimeout(120)
def echo():
    while True:
        data,peer=u.recvfrom(65535); u.sendto(data,peer)
threading.Thread(target=echo,daemon=True).start()
s=socket.create_server(('10.44.0.20',7)); s.settimeout(120)
c,_=s.accept()
def back(data=b''):
    while True:
        data=c.recv(1<<16)
        if not data: break
        c.sendall(data)
    c.shutdown(socket.SHUT_WR)
back(); threading.Event().wait(100)",
    );
    let client = "import socket,threading,hashlib,random,time
end=time.time()+10
while True:
    try: s=socket.create_connection(('10.44.0.20',7),timeout=60); break
    except OSError:
        assert time.time()<end
data=random.Random(4).randbytes(24<<20)
threading.Thread(target=lambda:(s.sendall(data),s.shutdown(socket.SHUT_WR)),daemon=True).start()
got=hashlib.sha256(); count=0
while True:
    part=s.recv(1<<16)
    if not part: break
    got.update(part); count+=len(part)
assert count==len(data),count
assert got.digest()==hashlib.sha256(data).digest()
u=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); u.settimeout(2)
for size in (1,100,1371,1372,1373,4000,30000):
    # The first beyond the packet size is lost once, while the server learns the path's (RFC 1191).
    for attempt in range(3):
        sent=data[attempt:size+attempt]; u.sendto(sent,('10.44.0.20',7))
        try:
            assert u.recvfrom(65535)[0]==sent,size
            break
        except TimeoutError: assert attempt<2,size
print('whole')";
    world.run_words(&["lab", "enter", "mara-laptop", "--", "python3", "-c", client]).is(0).says("whole");
    let here = world.on_laptop("yestrel tunnel list --format json").json();
    assert!(here[0]["sent"].as_u64() > Some(24 << 20) && here[0]["received"].as_u64() > Some(24 << 20), "{here:#}");
}

#[test]
fn a_device_that_moves_to_another_address_keeps_its_session() {
    let world = World::mara(NAMESPACES);
    connect(&world);
    world.run(TICKETS).is(0);
    let session = || world.run("session list --format json").json()[0].clone();
    let before = session();
    world
        .shell("mara-laptop", "ip address del 192.168.1.20/24 dev eth0 && ip address add 192.168.1.77/24 dev eth0 && ip route replace default via 192.168.1.1")
        .is(0);
    wait(15, "the ticket server answers from the new address", || (world.run(TICKETS).code == 0).then_some(()));
    let after = wait(10, "the gateway knows the new address", || {
        let now = session();
        (now["from"] != before["from"]).then_some(now)
    });
    assert_eq!(after["since"], before["since"], "the same session");
    // A restart of the counting would show a new session.
    assert!(after["received"].as_u64() > before["received"].as_u64());
}

#[test]
fn two_living_copies_of_an_estate_notice_each_other() {
    let world = World::mara(NAMESPACES);
    // The database is copied whole, without a write-ahead log beside it.
    rusqlite::Connection::open(world.path("skerry")).unwrap().execute_batch("PRAGMA wal_checkpoint(TRUNCATE)").unwrap();
    for file in ["skerry", "skerry.key"] {
        std::fs::copy(world.path(file), world.path(&format!("copy-of-{file}"))).unwrap();
    }
    std::fs::rename(world.path("copy-of-skerry.key"), world.path("copy.key")).unwrap();
    std::fs::rename(world.path("copy-of-skerry"), world.path("copy")).unwrap();
    world.run("listener change harbour/quill --keep-alive 33s").is(0);
    world.run("rollout --yes").is(0);
    world.run("--estate copy listener change harbour/quill --keep-alive 44s").is(0);
    world.run("--estate copy rollout --yes").is(4).says("two copies of the estate");
    world.run("--estate copy listener change harbour/quill --keep-alive 45s").is(0);
    world.run("--estate copy rollout --yes").is(4).says("two copies of the estate");
    // The first copy goes on as if nothing had happened.
    world.run("listener change harbour/quill --keep-alive 34s").is(0);
    world.run("rollout --yes").is(0);
}

#[test]
fn rollouts_at_once_end_with_every_gateway_up_to_date() {
    let world = World::mara(NAMESPACES);
    for round in 0..3 {
        world.run(&format!("listener change harbour/quill --keep-alive {}s", 30 + round)).is(0);
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| world.run("rollout --yes").is(0));
            }
        });
        let gateways = world.run("gateway list --format json").json();
        assert_eq!(gateways[0]["state"], "up to date", "{gateways:#}");
        assert_eq!(gateways[0]["order"], 2 + round, "each change is one order");
    }
}

#[test]
fn a_rollout_that_is_killed_anywhere_is_finished_by_the_next() {
    let world = World::mara(NAMESPACES);
    connect(&world);
    for round in 0..12_u64 {
        world.run(&format!("listener change harbour/quill --keep-alive {}s", 30 + round)).is(0);
        let mut child =
            world.command(&["rollout", "--yes"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::park_timeout(Duration::from_millis(round * 4));
        let _ = child.kill();
        let _ = child.wait();
        world.run("rollout --yes").is(0);
        let shown = world.run("gateway show harbour --format json").json();
        assert_eq!(shown["state"], "up to date", "round {round}: {shown:#}");
        assert_eq!(shown["order_confirmed"], shown["order_at_agent"], "round {round}");
    }
    world.run(TICKETS).is(0);
}

#[test]
fn news_that_nobody_asked_for_for_long_are_all_collected() {
    use yestrel_core::admission::Reason;
    use yestrel_core::exchange::{News, NewsEvent};
    let world = World::mara(NAMESPACES);
    connect(&world);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // Weeks of refused sign-ins, as the agent would have noted them; it is stopped meanwhile, so that nobody else writes.
    world.run("lab break harbour --how agent").is(0);
    let folder = world.path("lab/hosts/harbour/var/yestrel/news");
    let mut path = folder.join("00000000000000000001.jsonl");
    let mut text = std::fs::read_to_string(&path).unwrap();
    let last = text.lines().last().and_then(|line| serde_json::from_str::<News>(line).ok()).unwrap().number;
    // Some of them were dropped, in the middle and before the last file.
    let long = last + 1..=last + 1234;
    for number in long.clone().filter(|number| *number != last + 600).chain([last + 1300]) {
        let event = NewsEvent::Refused {
            device: Some("oskar/laptop".into()),
            from: "192.0.2.9:1".into(),
            reason: Reason::Unknown,
            times: number - last,
            words: String::new(),
            method: None,
        };
        if number > *long.end() {
            std::fs::write(&path, std::mem::take(&mut text)).unwrap();
            path = folder.join(format!("{number:020}.jsonl"));
        }
        text.push_str(&serde_json::to_string(&News { number, at: jiff::Timestamp::now(), event }).unwrap());
        text.push('\n');
    }
    std::fs::write(&path, text).unwrap();
    world.run("lab mend harbour").is(0);
    let past = wait(10, "the agent answers again", || {
        let came = world.run("session list --past --format json");
        (came.code == 0).then(|| came.json())
    });
    let refused = past.as_array().unwrap().iter().filter(|row| row["device"] == "oskar/laptop").count();
    assert_eq!(refused, 1234);
    let says = |words: &str| past.as_array().unwrap().iter().any(|row| row["reason"].as_str().unwrap().contains(words));
    assert!(says("refused 1234 times: unknown"), "{past:#}");
    assert!(says("a line of news before this is lost") && says("65 lines of news before this are lost"), "{past:#}");
    // Asked again, nothing is there twice.
    assert_eq!(
        world.run("session list --past --format json").json().as_array().map(Vec::len),
        past.as_array().map(Vec::len)
    );
}

#[test]
fn several_listeners_with_pools_of_their_own_serve_at_once() {
    let world = World::mara(NAMESPACES);
    world
        .run(
            "listener open harbour --name second --pool 10.190.0.0/24 --cipher chacha20-poly1305 --reach 10.44.0.20/32",
        )
        .is(0);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone --at harbour/second").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/phone --to phone.yestrel --yes").is(0);
    connect(&world);
    // A second device of the cafe: the till borrows the phone's handover from another network.
    world
        .run("lab enter pier-office -- yestrel connect phone.yestrel --background --name phone")
        .is(0)
        .says("10.190.0.2");
    world.run(TICKETS).is(0);
    world.run("lab fetch pier-office http://10.44.0.20/").is(0).says("seats left");
    let sessions = world.run("session list --format json").json();
    assert_eq!(sessions.as_array().map(Vec::len), Some(2), "{sessions:#}");
    // One of them ends; the other does not notice.
    world.run("credential revoke mara/phone --reason sold --yes").is(0);
    world.run(TICKETS).is(0);
    assert_eq!(world.run("session list --format json").json().as_array().map(Vec::len), Some(1));
}

/// A path that is narrower than the tunnel's datagrams fragments them: large packets arrive all the same.
#[test]
fn a_narrow_path_fragments_and_swallows_nothing() {
    let world = World::mara(NAMESPACES);
    for (host, card) in [("outside", "cafe"), ("cafe-router", "wan")] {
        world.shell(host, &format!("ip link set {card} mtu 1300")).is(0);
    }
    connect(&world);
    let _server = python(
        &world,
        "tickets",
        "import socket
u=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); u.bind(('10.44.0.20',7)); u.settimeout(60)
while True:
    data,peer=u.recvfrom(65535); u.sendto(data,peer)",
    );
    // 1,372 bytes in one inner packet of 1,400, each way.
    let client = "import socket,time
u=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); u.settimeout(1); data=bytes(range(256))*5+b'x'*92; end=time.time()+10
while time.time()<end:
    u.sendto(data,('10.44.0.20',7))
    try:
        if u.recv(2000)==data: print('whole'); break
    except OSError: pass";
    world.run_words(&["lab", "enter", "mara-laptop", "--", "python3", "-c", client]).is(0).says("whole");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
}

/// Where only some traffic goes through the tunnel, the gateway's resolver hears of the site's names alone, by UDP and by TCP.
#[test]
fn only_names_in_the_handovers_domains_are_asked_of_the_gateway() {
    let world = World::mara(NAMESPACES);
    let address = |name: &str| {
        let script = format!("python3 -c \"import socket; print(socket.gethostbyname('{name}'))\"");
        world.shell("mara-laptop", &script)
    };
    let before = address("forecast.example").is(0).out;
    address("tickets.skerry.example").is(1);
    world
        .on_laptop("yestrel connect mara.yestrel --background")
        .is(0)
        .says("names in skerry.example are looked up at 10.44.0.20");
    address("tickets.skerry.example").is(0).says("10.44.");
    // The site's resolver does not know it: whoever asks there hears of no such name.
    assert_eq!(address("forecast.example").is(0).out, before);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    assert_eq!(address("forecast.example").is(0).out, before, "as it was before");
}

#[test]
fn a_resolver_file_that_is_a_link_is_a_link_again_afterwards() {
    let world = World::mara(NAMESPACES);
    // Over the file that the lab mounts there lies a folder of its own, in which the resolver file is a link.
    let script = "mkdir -p etc && cp -a /etc/hosts etc/ 2>/dev/null; printf 'nameserver 192.0.2.53\\n' > etc/stub; ln -sf stub etc/resolv.conf; \
                  mount --bind etc /etc && \"$Y\" connect mara.yestrel --background && grep -q 127.19.78.1 /etc/resolv.conf && [ ! -L /etc/resolv.conf ] && \
                  \"$Y\" tunnel stop harbour && [ \"$(readlink /etc/resolv.conf)\" = stub ] && grep -q 192.0.2.53 /etc/resolv.conf && echo restored";
    let script = format!("Y='{}'; {script}", env!("CARGO_BIN_EXE_yestrel"));
    // The same when the machine loses its power: no process is left, and no run folder.
    let cut = "mine=$(readlink /proc/self/ns/mnt); for p in /proc/[0-9]*; do \
               [ \"$(readlink $p/ns/mnt) $(readlink $p/exe)\" = \"$mine $Y\" ] && all=\"$all ${p#/proc/}\"; done; kill -9 $all";
    let script = format!(
        "{script} && \"$Y\" connect mara.yestrel --background && {{ {cut}; rm -r \"$YESTREL_RUN\"; mkdir -m 700 \"$YESTREL_RUN\"; \
         cat /etc/resolv.conf; grep -q 'before-yestrel-[0-9]' /etc/resolv.conf && ls -l /etc/resolv.conf.before-yestrel-* && \"$Y\" tunnel list && [ \"$(readlink /etc/resolv.conf)\" = stub ] && \
         grep -q 192.0.2.53 /etc/resolv.conf && echo survived; }}"
    );
    // In a mount namespace of its own, so that the laptop's stays as it is.
    world
        .run_words(&["lab", "enter", "mara-laptop", "--", "unshare", "-m", "sh", "-c", &script])
        .is(0)
        .says("restored")
        .says("survived");
}

#[test]
fn new_settings_never_let_traffic_out_beside_a_full_tunnel_and_a_narrower_reach_frees_the_rest() {
    let world = World::harbour(NAMESPACES);
    world.run("listener change harbour/quill --reach everything").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    connect(&world);
    // The cafe counts whatever the laptop sends anywhere but to the gateway.
    let watch = "table inet watch { counter beside { } \n chain see { type filter hook forward priority -300; \n iifname lan ip daddr != 203.0.113.10 counter name beside \n }\n}\n";
    world.shell("cafe-router", &format!("printf '{watch}' | nft -f -")).is(0);
    let beside = || world.shell("cafe-router", "nft list counters table inet watch").is(0).out;
    let before = beside();
    let _chatter = python(
        &world,
        "mara-laptop",
        "import socket,time
s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); end=time.time()+60
while time.time()<end:
    try: s.sendto(b'x',('192.0.2.80',9))
    except OSError: pass
    time.sleep(0.0005)",
    );
    for round in 0..6 {
        world.run(&format!("listener change harbour/quill --packet-size {}", 1300 + round)).is(0);
        world.run("rollout --yes").is(0);
        wait(10, "the laptop has the new settings", || {
            world.shell("mara-laptop", "ip link").out.contains(&format!("mtu {} ", 1300 + round)).then_some(())
        });
    }
    assert_eq!(beside(), before);
    // Narrower: the rest goes its usual way, by IPv6 too.
    world.run("listener change harbour/quill --reach site").is(0);
    world.run("rollout --yes").is(0);
    wait(10, "what is beyond the reach goes beside the tunnel", || (beside() != before).then_some(()));
    assert_eq!(world.shell("mara-laptop", "ip -6 route show table 52300 | grep -e default -e unreachable").out, "");
    assert!(world.shell("mara-laptop", "ip route get 10.44.0.20").out.contains("dev yestrel"));
}

/// What a server of IPv6 sees, asked from the laptop; empty where nothing answers within 3 s.
fn seen_over_ipv6(world: &World, to: &str, port: u16) -> String {
    let script = format!(
        "python3 -c \"import socket
try:
    s = socket.create_connection(('{to}', {port}), 3); print(s.recv(100).decode(), end='')
except OSError: pass\""
    );
    world.shell("mara-laptop", &script).is(0).out
}

/// A server that tells each who asks where it is seen to come from.
fn tells_where_from(world: &World, host: &str, at: &str, port: u16) -> Running {
    python(
        world,
        host,
        &format!(
            "import socket
s=socket.create_server(('{at}',{port}),family=socket.AF_INET6); s.settimeout(120)
while True:
    c,peer=s.accept(); c.sendall(peer[0].encode()); c.close()"
        ),
    )
}

/// IPv6 within the tunnel goes where IPv4 goes and no further; with everything through the tunnel, none goes beside it; and the
/// system is as it was when the gateway is gone.
#[test]
fn inner_ipv6_goes_where_ipv4_goes_and_no_further() {
    let world = World::harbour(NAMESPACES);
    let forwards = || world.shell("harbour", "cat /proc/sys/net/ipv6/conf/all/forwarding").is(0).out;
    world
        .shell(
            "harbour",
            "echo 0 > /proc/sys/net/ipv6/conf/all/forwarding; ip -6 address add 2001:db8:44::1/64 dev eth1 nodad",
        )
        .is(0);
    world.shell("harbour", "ip -6 address add 2001:db8:77::1/64 dev eth0 nodad").is(0);
    world.shell("tickets", "ip -6 address add 2001:db8:44::20/64 dev eth0 nodad").is(0);
    world.run("site change harbour --network 10.44.0.0/22 --network 2001:db8:44::/64").is(0);
    let shown = world.run("listener show harbour/quill --format json").is(0).json();
    assert!(shown["pool6"].as_str().is_some_and(|pool| pool.starts_with("fd") && pool.ends_with("::/64")), "{shown}");
    world.run("listener change harbour/quill --pool6 fe80::/64").is(3).says("means something else");
    world.run("listener change harbour/quill --pool6 fd12:3456:789a::/64").is(0);
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let _tickets = tells_where_from(&world, "tickets", "2001:db8:44::20", 7066);
    let _own = tells_where_from(&world, "harbour", "::", 7077);
    world.on_laptop("yestrel connect mara.yestrel --background").is(0).says("fd12:3456:789a::2");
    // The site sees the gateway: inner addresses are masqueraded in both IP versions.
    wait(10, "the server is there", || {
        (seen_over_ipv6(&world, "2001:db8:44::20", 7066) == "2001:db8:44::1").then_some(())
    });
    let proved = world.on_laptop("yestrel tunnel prove harbour --reach [2001:db8:44::20]:7066").is(0);
    let proved =
        proved.says("fd12:3456:789a::1 answers from inside").says("towards 2001:db8:44::20 it is fd12:3456:789a::1");
    drop(proved.says("[2001:db8:44::20]:7066 takes a connection"));
    // The gateway's own services are reached where the reach names their address, and not at the pool's.
    assert_eq!(seen_over_ipv6(&world, "2001:db8:44::1", 7077), "fd12:3456:789a::2");
    for beyond in ["fd12:3456:789a::1", "2001:db8:77::1", "2001:db8:45::20"] {
        assert_eq!(seen_over_ipv6(&world, beyond, 7077), "", "{beyond}");
    }
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // Everything: the gateway's own services no more, and nothing beside the tunnel.
    world.run("listener change harbour/quill --reach everything").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to all.yestrel --yes").is(0);
    world.on_laptop("yestrel connect all.yestrel --background").is(0);
    world.on_laptop("yestrel tunnel prove harbour").is(0).says("IPv4 and IPv6 go out from the inner addresses");
    assert_eq!(seen_over_ipv6(&world, "2001:db8:44::20", 7066), "2001:db8:44::1");
    for own in ["fd12:3456:789a::1", "2001:db8:44::1", "2001:db8:77::1"] {
        assert_eq!(seen_over_ipv6(&world, own, 7077), "", "{own}");
    }
    assert_eq!(forwards(), "1\n");
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    world.run("gateway retire harbour --yes").is(0);
    assert_eq!(forwards(), "0\n");
    assert_eq!(world.shell("harbour", "nft list tables; ip -6 address show | grep fd12").out, "");
}
