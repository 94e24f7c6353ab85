//! An agent by itself, given orders by hand.

use std::net::UdpSocket;
use std::process::{Child, Stdio};
use std::time::Duration;

use crate::common::{World, client, wait};
use yestrel_core::admission::Proof;
use yestrel_core::exchange::{Question, agent};
use yestrel_core::firewall::Service;
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_core::keys::{KeyPair, Secret};
use yestrel_core::order::{self, Content, Envelope, OrderListener};
use yestrel_core::sample;
use yestrel_core::tunnel::WayIn;
use yestrel_core::tunnel::quill::{Cipher, QuillWay};
use yestrel_net::control;

pub struct Running {
    pub world: World,
    /// Holds a mount namespace in which the agent's folder is a small disk, where it is one.
    holder: Option<Child>,
    child: Child,
    address: String,
    port: u16,
    gateway: KeyPair,
    pub device: KeyPair,
    signing: Secret,
}

impl Drop for Running {
    fn drop(&mut self) {
        for child in [&mut self.child].into_iter().chain(&mut self.holder) {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

impl Running {
    pub fn start() -> Self {
        Self::start_at("127.0.0.1")
    }

    pub fn start_at(address: &str) -> Self {
        Self::begin(World::empty(), None, address)
    }

    /// With a disk of this many KiB, that goes when the test does.
    pub fn start_on_a_disk_of(kibibytes: u32) -> Self {
        let world = World::empty();
        let folder = world.path("agent");
        std::fs::create_dir(&folder).unwrap();
        let script =
            format!("mount -t tmpfs -o mode=700,size={kibibytes}k none \"$0\" && echo mounted && exec sleep 300");
        let mut holder = std::process::Command::new("unshare")
            .args(["--mount", "sh", "-c", &script])
            .arg(&folder)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut said = [0; 7];
        std::io::Read::read_exact(holder.stdout.as_mut().unwrap(), &mut said).unwrap();
        Self::begin(world, Some(holder), "127.0.0.1")
    }

    fn begin(world: World, holder: Option<Child>, address: &str) -> Self {
        let child = Self::spawn(&world, holder.as_ref(), address);
        let port = UdpSocket::bind((address, 0)).unwrap().local_addr().unwrap().port();
        let running = Self {
            world,
            holder,
            child,
            address: address.to_owned(),
            port,
            gateway: KeyPair::from_random([7; 32]),
            device: KeyPair::from_random([8; 32]),
            signing: Secret::new(vec![9; 32]),
        };
        wait(10, "the agent answers", || running.try_ask(&agent::Status).ok());
        running
    }

    fn spawn(world: &World, holder: Option<&Child>, address: &str) -> Child {
        let folder = world.path("agent");
        let folder = folder.to_str().unwrap();
        let words = ["agent", "run", "--folder", folder, "--process-plane", "--bind", address];
        let mut command = match holder {
            None => world.command(&words),
            Some(holder) => {
                let mut command = std::process::Command::new("nsenter");
                command.args(["--mount", "--target", &holder.id().to_string(), "--"]);
                let program = world.command(&words);
                command.arg(program.get_program()).args(program.get_args());
                command
            }
        };
        command.stdout(Stdio::null()).stderr(std::fs::File::create(world.path("agent.log")).unwrap()).spawn().unwrap()
    }

    /// A file of the agent's folder, as the agent sees it.
    pub fn inside(&self, name: &str) -> std::path::PathBuf {
        let path = self.world.path("agent").join(name);
        match &self.holder {
            None => path,
            Some(holder) => {
                std::path::Path::new(&format!("/proc/{}/root", holder.id())).join(path.strip_prefix("/").unwrap())
            }
        }
    }

    /// What the agent has written since it was started last.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.world.path("agent.log")).unwrap()
    }

    /// Kills the agent, and starts it again once it is gone.
    pub fn restart(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        self.child = Self::spawn(&self.world, self.holder.as_ref(), &self.address);
        wait(10, "the agent answers", || self.try_ask(&agent::Status).ok());
    }

    /// KiB of memory that the agent holds.
    pub fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
        line.split_whitespace().next().unwrap().parse().unwrap()
    }

    /// The hash of the order in force.
    pub fn hash(&self) -> String {
        self.ask(&agent::Status).order_hash
    }

    pub fn try_ask<Q: Question>(&self, question: &Q) -> yestrel_core::Result<Q::Answer> {
        control::ask(&self.inside("control.sock"), question, Duration::from_secs(20))
    }

    pub fn ask<Q: Question>(&self, question: &Q) -> Q::Answer {
        self.try_ask(question).unwrap()
    }

    pub fn adopt(&self) {
        self.ask(&agent::Adopt {
            estate: "estate-1".into(),
            estate_key: order::signer(&self.signing).unwrap(),
            gateway: "harbour".into(),
            private_key: self.gateway.private.clone(),
            recovery_key: None,
        });
    }

    /// One listener, and one device at it.
    pub fn content(&self) -> Content {
        let mut content = sample::content();
        content.dialled = "127.0.0.1".into();
        content.public_key = self.gateway.public;
        content.listeners = vec![OrderListener {
            tunnel: sample::quill("harbour/quill", &self.gateway.public).in_order(),
            serves: vec![Service::udp(self.port)],
            ..content.listeners.remove(0)
        }];
        content.admit.truncate(1);
        content.admit[0].proof = Proof::Key { key: self.device.public };
        content
    }

    pub fn signed(&self, number: u64, previous: &str, content: Content) -> Envelope {
        order::sign("estate-1", number, previous, jiff::Timestamp::now(), content, &self.signing).unwrap()
    }

    pub fn carry(&self, envelope: &Envelope) -> Result<(), String> {
        let carried = self.try_ask(&agent::Carry { envelope: envelope.clone(), hold: 0 });
        carried.map(drop).map_err(|problem| format!("{}: {}", problem.error, problem.why.unwrap_or_default()))
    }

    pub fn news(&self) -> Vec<yestrel_core::exchange::News> {
        self.ask(&agent::NewsAfter { after: 0 }).items
    }

    /// How many sign-ins were refused since the agent runs.
    pub fn refused(&self) -> u64 {
        let metrics = self.ask(&agent::Metrics);
        let counts = metrics.lines().filter(|line| line.starts_with("yestrel_sign_ins_refused_total"));
        counts.filter_map(|line| line.rsplit_once(' ')?.1.parse::<u64>().ok()).sum()
    }

    /// What a client of our own making needs to come in.
    pub fn dialled(&self) -> client::Gateway {
        client::Gateway {
            at: std::net::SocketAddr::from(([127, 0, 0, 1], self.port)),
            public: self.gateway.public,
            call: sample::call(),
            suite: yestrel_wire::quill::Suite::Aes256Gcm,
        }
    }

    pub fn hand_over(&self) {
        let handover = Handover {
            before: Vec::new(),
            format: yestrel_core::handover::FORMAT.into(),
            estate: "skerry".into(),
            holder: "mara/laptop".into(),
            issued: jiff::Timestamp::now(),
            expires: None,
            estate_key: order::signer(&self.signing).unwrap(),
            notice: 0,
            device_key: Some(self.device.private.clone()),
            account: None,
            certificate: None,
            ways: vec![HandoverWay {
                gateway: "harbour".into(),
                address: self.address.clone(),
                port: self.port,
                reach: vec!["10.44.0.0/22".parse().unwrap()],
                domains: vec![],
                tunnel: WayIn::Quill(QuillWay {
                    cipher: Cipher::Aes256Gcm,
                    server_key: self.gateway.public,
                    call_secret: sample::call(),
                }),
            }],
        };
        self.world.write("mara.yestrel", &handover.write().unwrap());
    }
}

#[test]
fn orders_that_are_cut_altered_foreign_newer_or_early_are_refused_and_nothing_opens() {
    let running = Running::start();
    let good = running.signed(1, "", running.content());
    assert!(running.carry(&good).unwrap_err().contains("belongs to no estate yet"));
    running.adopt();
    let with = |order: &str| Envelope { order: order.to_owned(), ..good.clone() };
    assert!(running.carry(&with(&good.order[..good.order.len() / 2])).unwrap_err().contains("not signed"));
    assert!(running.carry(&with(&good.order.replace("mara", "maro"))).unwrap_err().contains("not signed"));
    let sign = |key: u8, estate: &str, text: &dyn Fn(String) -> String| {
        let made =
            order::sign(estate, 1, "", jiff::Timestamp::now(), running.content(), &Secret::new(vec![key; 32])).unwrap();
        let text = text(made.order);
        let key = yestrel_core_sign(&text, key);
        Envelope { order: text, signature: key, successor_signature: None, amendments: Vec::new() }
    };
    assert!(running.carry(&sign(66, "estate-1", &|text| text)).unwrap_err().contains("not signed"));
    assert!(running.carry(&sign(9, "estate-2", &|text| text)).unwrap_err().contains("another estate"));
    let newer = sign(9, "estate-1", &|text| text.replace("yestrel order 2", "yestrel order 9"));
    assert!(running.carry(&newer).unwrap_err().contains("yestrel order 9"));
    let more = sign(9, "estate-1", &|text| text.replace(r#""needs":["#, r#""needs":["weather","#));
    assert!(running.carry(&more).unwrap_err().contains("needs \"weather\""));
    let other = sign(9, "estate-1", &|text| {
        text.replace(r#""kind":"quill""#, r#""addresses":"leased","kind":"later","needs":[],"proofs":[]"#)
    });
    assert!(running.carry(&other).unwrap_err().contains("later"), "a tunnel that this agent does not have");
    let cut = sign(9, "estate-1", &|text| text[..text.len() - 9].to_owned());
    assert!(running.carry(&cut).unwrap_err().contains("cannot be read"));
    let status = running.ask(&agent::Status);
    assert_eq!((status.order, status.listeners.len()), (0, 0));
    running.carry(&good).unwrap();
    // The same again is fine; another under the same number is a second copy of the estate.
    running.carry(&good).unwrap();
    let mut other = running.content();
    other.admit.clear();
    assert!(running.carry(&running.signed(1, "", other)).unwrap_err().contains("two copies"));
}

/// Signs any text as an estate would.
fn yestrel_core_sign(text: &str, key: u8) -> String {
    use base64::Engine as _;
    use ed25519_dalek::Signer as _;
    let key = ed25519_dalek::SigningKey::from_bytes(&[key; 32]);
    base64::engine::general_purpose::STANDARD.encode(key.sign(text.as_bytes()).to_bytes())
}

#[test]
fn a_device_without_an_address_is_leased_one_and_hears_when_the_pool_is_full() {
    let running = Running::start();
    running.adopt();
    running.hand_over();
    let mut content = running.content();
    content.admit[0].address = None;
    // Room for two: the gateway's own, and one more.
    content.listeners[0].pool = "10.187.44.0/30".parse().unwrap();
    running.carry(&running.signed(1, "", content.clone())).unwrap();
    running.world.run("connect mara.yestrel --background --proxy 127.0.0.1:0").is(0).says("10.187.44.2");
    running.world.run("tunnel stop harbour").is(0);
    // The same one is given with another's credential: hers ends, and there is none left.
    content.admit.push(sample::admit("tomas/tablet", 1));
    let previous = running.ask(&agent::Status).order_hash;
    running.carry(&running.signed(2, &previous, content)).unwrap();
    running.world.run("connect mara.yestrel --proxy 127.0.0.1:0").is(1).says("pool full");
    let news = serde_json::to_string(&running.news()).unwrap();
    assert!(news.contains("\"leased\":true") && news.contains("\"reason\":\"pool-full\""), "{news}");
}

#[test]
fn an_agent_that_stops_says_goodbye_and_takes_devices_back_when_it_returns() {
    let mut running = Running::start();
    running.adopt();
    running.hand_over();
    running.carry(&running.signed(1, "", running.content())).unwrap();
    running.world.run("connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    let pid = nix::unistd::Pid::from_raw(running.child.id() as i32);
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM).unwrap();
    assert!(running.child.wait().unwrap().success());
    let state = |running: &Running| running.world.run("tunnel list --format json").json()[0]["state"].clone();
    wait(5, "the device knows", || (state(&running) == "lost").then_some(()));
    running.child = Running::spawn(&running.world, None, "127.0.0.1");
    wait(30, "the device is in again", || (state(&running) == "up").then_some(()));
    running.world.run("tunnel stop harbour").is(0);
    // Everything that was seen is still there, in order and without gaps.
    let items = running.news();
    let numbers: Vec<_> = items.iter().map(|item| item.number).collect();
    assert_eq!(numbers, (1..=items.len() as u64).collect::<Vec<_>>());
    let text = serde_json::to_string(&items).unwrap();
    assert!(text.contains("\"shutdown\"") && text.contains("\"closed\""), "{text}");
    assert_eq!(text.matches("\"opened\"").count(), 2, "{text}");
}

#[test]
fn a_second_agent_in_the_same_folder_is_refused() {
    let running = Running::start();
    running.world.run("agent run --folder agent").is(3).says("an agent runs in this folder already");
    running.world.run("agent status --folder agent").is(0).says("version");
    running.world.run("agent status --folder elsewhere").is(1).says("nobody answers");
}

#[test]
fn a_gateway_is_dialled_over_ipv6_as_well() {
    let running = Running::start_at("::1");
    running.adopt();
    running.hand_over();
    running.carry(&running.signed(1, "", running.content())).unwrap();
    running.world.run("connect mara.yestrel --background --proxy 127.0.0.1:0").is(0).says("10.187.44.2");
    running.world.run("tunnel prove").is(0).says("10.187.44.1 answers from inside");
    let sessions = running.ask(&agent::Sessions);
    assert!(sessions[0].from.starts_with("[::1]:"), "{sessions:?}");
    running.world.run("tunnel stop harbour").is(0);
}

#[test]
fn a_device_that_claims_anothers_address_or_sends_where_it_may_not_is_not_heard() {
    // The same key under two names would be one session; here two devices, and one speaks with the other's address.
    let running = Running::start();
    running.adopt();
    running.hand_over();
    let mut content = running.content();
    let other = KeyPair::from_random([21; 32]);
    content.admit.push(order::Admit { proof: Proof::Key { key: other.public }, ..sample::admit("tomas/tablet", 2) });
    running.carry(&running.signed(1, "", content)).unwrap();
    running.world.run("connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    running.world.run("tunnel prove").is(0);
    let before = |running: &Running| {
        let sessions = running.ask(&agent::Sessions);
        sessions.into_iter().map(|session| (session.device, session.received)).collect::<Vec<_>>()
    };
    let honest = before(&running);
    // A device of our own making that lies about its address.
    let liar = client::Client::new(&running.dialled(), &other.private, 3).up();
    let packet = |source: [u8; 4], destination: [u8; 4]| {
        let mut bytes = Vec::new();
        etherparse::PacketBuilder::ipv4(source, destination, 64)
            .icmpv4_echo_request(1, 1)
            .write(&mut bytes, b"?")
            .unwrap();
        bytes
    };
    // From addresses that are not its own; then from its own to another device, the gateway's machine, the link, beyond the
    // reach, to everybody; and one that is as it should be.
    let (own, at) = ([10, 187, 44, 3], [10, 187, 44, 1]);
    let lies = [
        ([10, 187, 44, 2], at),
        ([10, 44, 0, 20], at),
        (own, [10, 187, 44, 2]),
        (own, [127, 0, 0, 1]),
        (own, [169, 254, 169, 254]),
        (own, [192, 0, 2, 80]),
        (own, [224, 0, 0, 251]),
        (own, [255, 255, 255, 255]),
    ];
    for (source, destination) in lies.into_iter().chain([(own, at)]) {
        liar.send(&packet(source, destination));
    }
    let size = packet(own, at).len() as u64;
    let after = wait(5, "the honest packet is counted", || {
        let now = before(&running);
        now.iter().any(|(device, received)| device == "tomas/tablet" && *received > 0).then_some(now)
    });
    assert_eq!(after.iter().find(|(device, _)| device == "tomas/tablet").unwrap().1, size, "one of all");
    assert_eq!(after.iter().find(|(device, _)| device == "mara/laptop").unwrap().1, honest[0].1);
    running.world.run("tunnel stop harbour").is(0);
}

/// An order that holds for a time: devices are warned, are out when it is over, and in again when it is renewed, by the newest number alone.
// Long: the order holds for nine seconds.
#[test]
fn an_order_that_is_not_renewed_lets_nobody_in_any_more_and_says_so_before() {
    let mut running = Running::start();
    running.adopt();
    running.hand_over();
    let mut content = running.content();
    content.holds = Some(9);
    running.carry(&running.signed(1, "", content)).unwrap();
    let log = running.world.path("run").join("harbour.log");
    running.world.run("connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    let until = running.ask(&agent::Status).holds_until.unwrap();
    let told = || std::fs::read_to_string(&log).unwrap_or_default().contains("it lets nobody in from").then_some(());
    wait(20, "the device to be warned", told);
    assert!(jiff::Timestamp::now() < until, "before it is so");
    let sessions = |running: &Running| running.ask(&agent::Sessions).len();
    wait(20, "the session to be over", || (sessions(&running) == 0).then_some(()));
    assert!(jiff::Timestamp::now() >= until - jiff::SignedDuration::from_secs(1));
    running
        .world
        .run("connect mara.yestrel --proxy 127.0.0.1:0 --name again")
        .is(1)
        .says("heard nothing of its estate");
    let renew = |running: &Running, number: u64, at: jiff::Timestamp| {
        let orders = [("harbour".to_owned(), number)].into();
        let renewal = order::SignedRenewal::sign("estate-1", at, orders, &running.signing).unwrap();
        running.ask(&agent::Renew { renewal });
    };
    let now = jiff::Timestamp::now;
    // An order whose time is over when it arrives is refused with the clocks, and nothing is done.
    let mut content = running.content();
    content.holds = Some(9);
    let old = now() - jiff::SignedDuration::from_mins(5);
    let late = order::sign("estate-1", 2, &running.hash(), old, content, &running.signing).unwrap();
    assert!(running.carry(&late).unwrap_err().contains("this host's clock says"));
    // By a renewal that knows a newer order, and by an old one, nothing goes on; nor by one of somebody else.
    renew(&running, 2, now());
    assert_eq!(running.ask(&agent::Status).holds_until, Some(until));
    let stranger =
        order::SignedRenewal::sign("estate-1", now(), [("harbour".to_owned(), 1)].into(), &Secret::new(vec![1; 32]));
    assert!(running.try_ask(&agent::Renew { renewal: stranger.unwrap() }).is_err());
    renew(&running, 1, now() + jiff::SignedDuration::from_secs(1));
    assert!(running.ask(&agent::Status).holds_until > Some(until));
    wait(30, "the device, which tries by itself, to be in again", || (sessions(&running) == 1).then_some(()));
    // Also over a restart.
    renew(&running, 1, now() + jiff::SignedDuration::from_secs(600));
    running.restart();
    wait(10, "the order", || (running.ask(&agent::Status).order == 1).then_some(()));
    assert!(running.ask(&agent::Status).holds_until > Some(now() + jiff::SignedDuration::from_secs(500)));
    running.world.run("tunnel stop harbour").is(0);
}
