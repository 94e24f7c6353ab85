//! A second kind of tunnel, in tests alone: two UDP ports and an IP protocol, accounts, leased addresses. It runs end to end, and
//! nothing that decides, carries packets, keeps the estate or reads words knows of it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod agent;
mod device;
mod wire;

use std::collections::HashMap;
use std::io::{Read as _, Write as _};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::{Arc, mpsc};
use std::time::Duration;

use yestrel_actions::credential::{self, Whose, handover};
use yestrel_actions::{
    Context, Person, carry, estate, gateway, host, listener, people, policy, rollout, session, site,
};
use yestrel_agent::run::{Agent, Options};
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{CredentialKind, Via};
use yestrel_core::exchange::device::{Echo, Stop, TunnelStatus};
use yestrel_core::exchange::{Answered, agent as asked, host as of_host};
use yestrel_core::firewall::{Protocol, Service};
use yestrel_core::handover::Handover;
use yestrel_core::keys::Secret;
use yestrel_core::policy::{Listed, Rule};
use yestrel_core::tunnel::{Addresses, Need, Other, Tunnel};
use yestrel_core::{Problem, Result};
use yestrel_device::connect::{self, Told};
use yestrel_device::notices::Kept;
use yestrel_device::running;
use yestrel_net::control;
use yestrel_store::records::Address;

/// The host's address; the agent listens there alone.
const HOST: Ipv4Addr = Ipv4Addr::new(127, 91, 7, 1);
const PATIENCE: Duration = Duration::from_secs(20);

/// Nobody who could be asked.
struct Nobody;

impl Person for Nobody {
    fn secret(&self, what: &str) -> Result<zeroize::Zeroizing<String>> {
        Err(Problem::failed(what))
    }

    fn compares(&self, _: &str, _: yestrel_actions::Whose, _: &str, _: &str) -> Result<bool> {
        Ok(false)
    }

    fn progress(&self, _: &str, _: u64, _: u64) {}
}

/// What somebody would write who adds this kind.
fn shuttle() -> Tunnel {
    Tunnel::Other(Other {
        kind: wire::WORD.into(),
        proofs: vec![ProofKind::Account],
        addresses: Addresses::Leased,
        needs: vec![
            Need::AnyPort(Protocol::Udp),
            Need::AnyPort(Protocol::Udp),
            Need::Exactly(Service::Ip(wire::PROTOCOL)),
        ],
        settings: serde_json::Map::new(),
    })
}

/// A host with an agent in this process, managed through its socket.
fn run_agent(folder: &std::path::Path, site: SocketAddr) -> Arc<Agent> {
    let mut options = Options::new(folder.join("agent"));
    options.kinds.push(Arc::new(agent::Shuttle));
    (options.bind, options.process_plane) = (Some(HOST.into()), true);
    options.real = HashMap::from([(SocketAddr::from(([10, 44, 0, 20], 80)), site)]);
    let agent = Agent::start(options).unwrap();
    let answering = agent.clone();
    control::serve(&folder.join("manage.sock"), move |ask: of_host::Ask| match ask {
        of_host::Ask::Facts(question) => {
            Answered::to(&question, answering.answer(asked::Facts.into()).read::<asked::Facts>())
        }
        of_host::Ask::Install(question) => Answered::to(&question, Ok(of_host::Installed::New)),
        of_host::Ask::Agent(asks) => Answered::to(&asks, Ok(answering.answer(asks.question.clone()))),
        _ => Answered::refused(Problem::failed("not on this host")),
    })
    .unwrap();
    agent
}

/// A tunnel of a device, in a thread.
struct Device {
    folder: PathBuf,
    name: String,
    told: mpsc::Receiver<Told>,
    thread: std::thread::JoinHandle<Result<()>>,
}

impl Device {
    /// Comes in with a handover, by the kinds that it has.
    fn connect(folder: &std::path::Path, name: &str, handover: &Handover, with_shuttle_only: bool) -> Self {
        let mut kinds = yestrel_device::ways::all();
        if with_shuttle_only {
            kinds = vec![Arc::new(device::Shuttle)];
        }
        let options = connect::Options {
            folder: folder.join("run"),
            handover: handover.clone(),
            notices: Kept::load(folder.join("notices"), &mut handover.clone()).0,
            keep_notices: false,
            name: name.into(),
            proxy: Some(SocketAddr::from(([127, 0, 0, 1], 0))),
            strict: false,
            kinds,
        };
        std::fs::create_dir_all(&options.folder).unwrap();
        let (tell, told) = mpsc::channel();
        let thread = std::thread::spawn(move || {
            connect::run(&options, &|what| {
                let _ = tell.send(what);
            })
        });
        Self { folder: folder.join("run"), name: name.into(), told, thread }
    }

    fn up(&self) -> TunnelStatus {
        loop {
            if let Told::Up(status) = self.told.recv_timeout(PATIENCE).unwrap() {
                return *status;
            }
        }
    }

    fn ask<Q: yestrel_core::exchange::Question>(&self, question: &Q) -> Q::Answer {
        control::ask(&running::socket(&self.folder, &self.name), question, PATIENCE).unwrap()
    }

    fn stop(self) {
        self.ask(&Stop);
        self.thread.join().unwrap().unwrap();
    }
}

/// What the site says to whoever comes through the tunnel's proxy.
fn fetch(proxy: SocketAddr) -> String {
    let mut stream = TcpStream::connect(proxy).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream.write_all(b"CONNECT 10.44.0.20:80 HTTP/1.1\r\nHost: tickets\r\n\r\n").unwrap();
    let mut said = String::new();
    stream.read_to_string(&mut said).unwrap();
    said
}

/// A service at the site: says who it is, to everybody.
fn serve_site() -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let _ = stream.write_all(b"seats left");
        }
    });
    at
}

#[test]
fn a_second_kind_of_tunnel_runs_end_to_end_beside_the_first() {
    let home = tempfile::tempdir().unwrap();
    let folder = home.path();
    let path = folder.join("skerry");
    estate::create(&path, "skerry", None).unwrap();
    let mut context =
        Context::open(&path, Box::new(|| Err(Problem::failed("nobody to ask"))), Arc::new(Nobody)).unwrap();
    let everyone = Listed { rule: Rule::everyone("everyone"), on: true, about: None };
    policy::add(&mut context, &everyone, &policy::Stand::Last, policy::Leaves::Anything).unwrap();
    let _agent = run_agent(folder, serve_site());

    // The estate: one gateway with a listener of each kind; one device with a key pair for the one, an account for the other.
    let networks = Some(vec!["10.44.0.0/22".into()]);
    site::add(&mut context, "harbour", &site::Wish { networks, ..site::Wish::default() }).unwrap();
    let via = Some(Via::Lab(folder.into()));
    let wish = host::Wish { site: Some("harbour".into()), via, ..host::Wish::default() };
    host::add(&mut context, "harbour", &wish).unwrap();
    let dialled = Some(HOST.to_string());
    gateway::create(&mut context, "harbour", "harbour", &gateway::Wish { dialled, ..gateway::Wish::default() })
        .unwrap();
    let open = |context: &mut Context, kind, pool: &str| {
        let wish = listener::Wish { kind, pool: Some(pool.into()), ..listener::Wish::default() };
        listener::open(context, "harbour", &wish).unwrap().listener
    };
    let first = open(&mut context, None, "10.187.44.0/24");
    let second = open(&mut context, Some(listener::Kind::This(shuttle())), "10.188.0.0/29");
    assert_eq!(second.name, "harbour/shuttle");
    assert_eq!(second.serves.len(), 3);
    people::add_user(&mut context, "mara", &people::Wish::default()).unwrap();
    people::add_device(&mut context, "mara/laptop", None).unwrap();
    for kind in [CredentialKind::KeyPair, CredentialKind::Password] {
        credential::issue(&mut context, "mara/laptop", &credential::Wish { kind, ..Default::default() }).unwrap();
    }
    let outcome = rollout::rollout(&mut context, &[], &rollout::How::default()).unwrap().remove(0);
    assert_eq!(outcome.state, rollout::OutcomeState::Done, "{:?}", outcome.problem);

    // One handover holds both.
    let mut text = String::new();
    handover::hand_over(&mut context, "mara/laptop", None, |given| {
        text = given.to_owned();
        Ok(())
    })
    .unwrap();
    let given = Handover::read(&text).unwrap();
    assert!(given.device_key.is_some() && given.account.as_ref().is_some_and(|account| account.password.is_some()));
    let kinds: Vec<_> = given.ways.iter().map(|way| way.tunnel.word()).collect();
    assert_eq!(kinds, [first.tunnel.word(), wire::WORD]);

    // Each kind comes in by its own way; the second gets an address of its pool when it signs in.
    let by_key = Device::connect(folder, "by-key", &given, false);
    assert_eq!(by_key.up().inner, Some(Ipv4Addr::new(10, 187, 44, 2)));
    let by_account = Device::connect(folder, "by-account", &given, true);
    let status = by_account.up();
    let lease = status.inner.unwrap();
    assert!(second.pool.contains(&lease) && status.gateway_inner == Some(Ipv4Addr::new(10, 188, 0, 1)), "{status:?}");
    for device in [&by_key, &by_account] {
        let status = device.ask(&yestrel_core::exchange::device::Status);
        let echo = device.ask(&Echo { to: status.gateway_inner.unwrap().into(), hops: 64 });
        assert_eq!(echo.from, status.gateway_inner.map(Into::into), "the gateway answers from inside");
        let said = fetch(status.proxy.unwrap());
        assert!(said.starts_with("HTTP/1.1 200") && said.ends_with("seats left"), "{said}");
    }

    // Whoever asks learns both sessions, with what they carried, and the estate knows the lease.
    let live = session::live(&mut context, None).unwrap().sessions;
    let mut at: Vec<_> = live.iter().map(|(_, live)| (live.listener.as_str(), live.device.as_str())).collect();
    at.sort_unstable();
    assert_eq!(at, [("harbour/quill", "mara/laptop"), ("harbour/shuttle", "mara/laptop")]);
    assert!(live.iter().all(|(_, live)| live.received > 0 && live.sent > 0), "{live:?}");
    let leased = |context: &mut Context| -> Vec<Ipv4Addr> {
        let all: Vec<Address> = context.read(|book| book.find(&[("listener", "harbour/shuttle".into())])).unwrap();
        all.iter().filter(|address| address.leased).map(|address| address.inner).collect()
    };
    assert_eq!(leased(&mut context), [lease]);

    // It leaves and comes back, to the same address; with a wrong password it does not.
    by_account.stop();
    let mut wrong = given.clone();
    wrong.account.as_mut().unwrap().password = Some(Secret::new(b"seven skerries".to_vec()));
    let refused = Device::connect(folder, "wrong", &wrong, true).thread.join().unwrap().unwrap_err();
    assert!(refused.line().contains("does not prove who it is"), "{refused:?}");
    let by_account = Device::connect(folder, "by-account", &given, true);
    assert_eq!(by_account.up().inner, Some(lease));

    // Revoking what the device has ends both, and each is told why.
    let ended = credential::revoke(
        &mut context,
        &Whose::Device("mara/laptop".into(), None),
        "lost on the ferry",
        &mut |_, _| {},
    )
    .unwrap();
    assert_eq!(ended.what.credentials.len(), 2);
    let outcomes = carry::carry(&mut context, &ended, false, &mut |_| {}).unwrap();
    assert_eq!(outcomes[0].ended, 2, "{outcomes:?}");
    for device in [by_key, by_account] {
        let why = device.thread.join().unwrap().unwrap_err().line();
        assert!(why.contains("lost on the ferry"), "{why}");
    }
    let again = Device::connect(folder, "again", &given, true).thread.join().unwrap().unwrap_err();
    // A name proves nothing, so whoever says it is not told what became of it.
    assert!(again.line().contains("does not admit this credential"), "{again:?}");
    let past = session::past(&mut context, None, None).unwrap().sessions;
    let reasons: Vec<_> =
        past.iter().filter(|(_, past)| past.reason.as_deref().is_some_and(|why| why.starts_with("revoked"))).collect();
    assert_eq!(reasons.len(), 2, "{past:?}");
}
