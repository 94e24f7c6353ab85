//! Enemies at an agent: whoever has recorded what a device sent, whoever holds a handover and floods, whoever knows only the public
//! key. The agent is the built program; the enemy is written from `docs/quill.md`.

use std::net::UdpSocket;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use yestrel_core::admission::{Proof, Reason};
use yestrel_core::exchange::{NewsEvent, agent};
use yestrel_core::keys::{KeyPair, Secret};
use yestrel_core::order::{self, Content};
use yestrel_core::{sample, tunnel};
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::device::Event;
use yestrel_wire::quill::handshake::{self, Towards};
use yestrel_wire::quill::message::Opening;
use yestrel_wire::quill::{ConnectionId, Reason as Why};

use crate::agent::Running;
use crate::common::client::{Client, Dice, Gateway};
use crate::common::wait;

/// An agent with an order in force.
fn running(change: impl FnOnce(&mut Content)) -> Running {
    let running = Running::start();
    running.adopt();
    let mut content = running.content();
    change(&mut content);
    running.carry(&running.signed(1, "", content)).unwrap();
    running
}

/// An opening as somebody with this handover would make it, by whatever device key.
fn opening(gateway: &Gateway, call: &Call, private: &[u8; 32], number: u64) -> Vec<u8> {
    let towards = Towards { suite: gateway.suite, call, gateway_public: &gateway.public.0, device_private: private };
    let said = Opening {
        versions: vec![1],
        id: ConnectionId(number.to_be_bytes()),
        software: "an enemy".into(),
        continues: None,
        notice: 0,
    };
    handshake::open(&towards, None, said, &mut Dice(number * 2 + 1)).1
}

/// Everything that arrives at a socket within a moment of silence: how many datagrams, and how many bytes.
fn heard(socket: &UdpSocket) -> (usize, usize) {
    socket.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
    let mut buffer = [0; 2000];
    let (mut count, mut bytes) = (0, 0);
    while let Ok(length) = socket.recv(&mut buffer) {
        count += 1;
        bytes += length;
    }
    (count, bytes)
}

#[test]
fn whoever_lacks_the_call_secret_hears_nothing_also_with_the_public_key() {
    let running = running(|_| {});
    let gateway = running.dialled();
    let enemy = UdpSocket::bind("127.0.0.1:0").unwrap();
    let private = *running.device.private.private_key().unwrap();
    for number in 0..200_u64 {
        // What the public key alone could be made into, noise of every length, and a true opening with one bit changed in front.
        let by_public_key = opening(&gateway, &Call::new(&gateway.public.0), &private, number);
        let mut altered = opening(&gateway, &gateway.call(), &private, number);
        altered[(number % 104) as usize] ^= 1;
        let mut noise = vec![0; (number * 7 % 1400) as usize];
        yestrel_wire::Random::fill(&mut Dice(number + 9), &mut noise);
        for datagram in [by_public_key, altered, noise] {
            let _ = enemy.send_to(&datagram, gateway.at);
        }
    }
    // Whoever has it is heard after all that: nothing waits any more that could still be answered.
    let honest = Client::new(&gateway, &running.device.private, 5).up();
    drop(honest);
    assert_eq!(heard(&enemy), (0, 0));
}

/// Twenty recorded openings of a device, replayed from everywhere without a pause: the device comes in all the same, also again,
/// and a session is not disturbed.
#[test]
fn replayed_openings_neither_keep_a_device_out_nor_disturb_its_session() {
    let running = running(|_| {});
    let gateway = running.dialled();
    let private = *running.device.private.private_key().unwrap();
    let recorded: Vec<_> = (0..20).map(|number| opening(&gateway, &gateway.call(), &private, number)).collect();
    let (stop, replayed) = (AtomicBool::new(false), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for thread in 0..1_u8 {
            let (recorded, stop, replayed, at) = (&recorded, &stop, &replayed, gateway.at);
            scope.spawn(move || {
                let sockets: Vec<_> = (0..50)
                    .map(|at| UdpSocket::bind((std::net::Ipv4Addr::new(127, 1 + thread, at, 10), 0)).unwrap())
                    .collect();
                let end = Instant::now() + Duration::from_secs(20);
                while !stop.load(Ordering::Relaxed) && Instant::now() < end {
                    for socket in &sockets {
                        for datagram in recorded {
                            replayed.fetch_add(usize::from(socket.send_to(datagram, at).is_ok()), Ordering::Relaxed);
                        }
                        // As fast as the host takes it: what overflows its buffers says nothing about the agent.
                        std::thread::park_timeout(Duration::from_millis(2));
                    }
                }
            });
        }
        wait(10, "the replays are under way", || (replayed.load(Ordering::Relaxed) > 2_000).then_some(()));
        for seed in [11, 12, 13] {
            let mut honest = Client::new(&gateway, &running.device.private, seed).up();
            let arrived = |running: &Running| running.ask(&agent::Sessions).first().map_or(0, |one| one.received);
            honest.send(&echo());
            wait(10, "an inner packet gets through", || (arrived(&running) > 0).then_some(()));
            honest.run(Duration::from_millis(300), |_| false);
            assert!(
                honest.events.iter().all(|event| !matches!(event, Event::Lost | Event::Ended(..) | Event::Refused(..)))
            );
        }
        stop.store(true, Ordering::Relaxed);
    });
    let opened = running.news().into_iter().filter(|item| matches!(item.event, NewsEvent::Opened { .. })).count();
    assert_eq!(opened, 3, "the honest ones alone, of {} replays", replayed.into_inner());
}

/// An echo request to the gateway, from the first device's address.
fn echo() -> Vec<u8> {
    let mut bytes = Vec::new();
    let builder = etherparse::PacketBuilder::ipv4([10, 187, 44, 2], [10, 187, 44, 1], 64);
    builder.icmpv4_echo_request(1, 1).write(&mut bytes, b"?").unwrap();
    bytes
}

/// Somebody with a handover floods with device keys of their own: what comes back is never more than was sent, the agent does few
/// handshakes for it, and others come in.
#[test]
fn a_flood_by_somebody_who_knows_the_call_secret_is_answered_sparingly_and_keeps_nobody_out() {
    let running = running(|_| {});
    let gateway = running.dialled();
    let enemy = UdpSocket::bind("127.0.0.1:0").unwrap();
    let call = gateway.call();
    let made: Vec<_> =
        (0..600).map(|number| opening(&gateway, &call, &[(number % 250) as u8 + 1; 32], number)).collect();
    let mut sent = 0;
    for datagram in &made {
        sent += enemy.send_to(datagram, gateway.at).unwrap_or(0);
    }
    Client::new(&gateway, &running.device.private, 21).up();
    let (count, bytes) = heard(&enemy);
    assert!(count <= made.len() && bytes <= sent, "{count} answers of {bytes} bytes to {sent}");
    // Forty at once and twenty a second without a token from one network; and all of them are one line.
    let refused = running.refused();
    assert!((1..=200).contains(&refused), "{refused}");
    let lines = running.news().into_iter().filter(|item| matches!(item.event, NewsEvent::Refused { .. })).count();
    assert_eq!(lines, 1);
}

/// Noise at up to 120,000 datagrams a second, with lengths that openings have: who is in is answered, who calls comes in, and the agent says what
/// it does.
#[test]
fn noise_takes_nothing_from_who_is_in_and_keeps_nobody_out_for_long() {
    let other = KeyPair::from_random([23; 32]);
    let running = running(|content| {
        content
            .admit
            .push(order::Admit { proof: Proof::Key { key: other.public }, ..sample::admit("tomas/tablet", 2) });
    });
    let gateway = running.dialled();
    let mut inside = Client::new(&gateway, &running.device.private, 81).up();
    let (stop, pace) = (AtomicBool::new(false), AtomicUsize::new(120_000));
    std::thread::scope(|scope| {
        let noise = || {
            let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
            let mut bytes = vec![0; 1000];
            yestrel_wire::Random::fill(&mut Dice(5), &mut bytes);
            let (began, mut due) = (Instant::now(), Instant::now());
            for number in 0_u64.. {
                bytes[..8].copy_from_slice(&number.wrapping_mul(0x9e37_79b9_7f4a_7c15).to_be_bytes());
                let _ = socket.send_to(&bytes[..900 + (number % 100) as usize], gateway.at);
                if number % 500 == 0 {
                    if stop.load(Ordering::Relaxed) || began.elapsed() > Duration::from_secs(180) {
                        return;
                    }
                    due += Duration::from_micros(500 * 1_000_000 / pace.load(Ordering::Relaxed) as u64);
                    std::thread::sleep(due.saturating_duration_since(Instant::now()));
                }
            }
        };
        let flood = scope.spawn(noise);
        wait(30, "lots are drawn", || running.log().contains("strangers flood the port").then_some(()));
        // Twenty echoes, each of which may be lost on its way once in a while.
        let answered = (0..20).filter(|_| {
            inside.arrived.clear();
            inside.send(&echo());
            inside.run(Duration::from_millis(1500), |client| !client.arrived.is_empty())
        });
        assert!(answered.count() >= 18);
        // With the processors to itself it comes in under all of it; beside other tests the system's buffer is full of noise before lots are drawn.
        pace.store(50_000, Ordering::Relaxed);
        let mut comes = Client::new(&gateway, &other.private, 82);
        comes.device.open(comes.now());
        let came = (0..120).any(|_| {
            inside.run(Duration::from_millis(20), |_| false);
            comes.run(Duration::from_secs(1), Client::is_up)
        });
        assert!(came, "{:?}", comes.events);
        stop.store(true, Ordering::Relaxed);
        flood.join().unwrap();
    });
    assert_eq!(running.ask(&agent::Sessions).len(), 2);
    // When it is over everybody is heard at once.
    wait(30, "nobody draws lots", || running.log().contains("nobody floods the port any more").then_some(()));
    Client::new(&gateway, &other.private, 83).up();
}

#[test]
fn a_credential_for_one_session_is_spent_when_it_opens_and_goes_on_after_a_loss() {
    let running = running(|content| content.admit[0].sessions = Some(1));
    let gateway = running.dialled();
    let mut first = Client::new(&gateway, &running.device.private, 31).up();
    // A copy of the handover comes while the session runs.
    let mut copy = Client::new(&gateway, &running.device.private, 32);
    copy.device.open(copy.now());
    let refused = |client: &Client| {
        client.events.iter().find_map(|event| match event {
            Event::Refused(reason, words) => Some((*reason, words.clone())),
            _ => None,
        })
    };
    assert!(copy.run(Duration::from_secs(10), |client| refused(client).is_some()));
    assert_eq!(refused(&copy).unwrap(), (Why::Revoked, "it was good for one session".to_owned()));
    // The device loses its gateway for a while: it goes on with the session that it has.
    let sessions = |running: &Running| running.ask(&agent::Sessions).iter().map(|one| one.number).collect::<Vec<_>>();
    let before = sessions(&running);
    let lost = |client: &Client| client.events.iter().filter(|event| matches!(event, Event::Lost)).count();
    first.send(&echo());
    first.run(Duration::from_millis(600), |_| false);
    first.deaf = true;
    first.send(&echo());
    first.run(Duration::from_millis(600), |_| false);
    first.skip(9_000);
    first.run(Duration::from_millis(1), |_| false);
    first.deaf = false;
    assert!(first.run(Duration::from_secs(10), |client| {
        lost(client) == 1 && client.events.iter().filter(|event| matches!(event, Event::Up(_))).count() == 2
    }));
    assert_eq!((sessions(&running), before.len()), (before, 1));
    first.device.close(first.now());
    first.run(Duration::from_millis(50), |_| false);
    wait(5, "the session has ended", || sessions(&running).is_empty().then_some(()));
    let mut again = Client::new(&gateway, &running.device.private, 33);
    again.device.open(again.now());
    assert!(again.run(Duration::from_secs(10), |client| refused(client).is_some()));
}

/// The same over a restart of the agent: what was spent is on the disk.
#[test]
fn a_spent_credential_stays_spent_when_the_agent_is_killed() {
    let mut running = running(|content| content.admit[0].sessions = Some(1));
    let gateway = running.dialled();
    Client::new(&gateway, &running.device.private, 41).up();
    wait(5, "the session is noted", || {
        running.news().iter().any(|item| matches!(item.event, NewsEvent::Opened { .. })).then_some(())
    });
    running.restart();
    let mut again = Client::new(&gateway, &running.device.private, 42);
    again.device.open(again.now());
    let refused = |client: &Client| client.events.iter().any(|event| matches!(event, Event::Refused(Why::Revoked, _)));
    assert!(again.run(Duration::from_secs(20), refused), "{:?}", again.events);
}

/// A renewed call secret: handovers of before open until the overlap ends, and then nothing answers them.
#[test]
fn handovers_with_a_renewed_call_secret_open_until_their_end() {
    let new = Secret::new(vec![77; 32]);
    let running = running(|_| {});
    let with = |until: jiff::Timestamp| {
        let mut content = running.content();
        let tunnel::Tunnel::Quill(quill) = &mut content.listeners[0].tunnel else { panic!("quill") };
        let kept = yestrel_core::estate::SealedSecret(String::new());
        let call = tunnel::quill::CallSecret::new("harbour/quill", 2, &new, kept, &content.public_key).unwrap();
        quill.renew(tunnel::quill::CallSecret { kept: None, ..call }, until, jiff::Timestamp::UNIX_EPOCH).unwrap();
        content
    };
    let old = running.dialled();
    let fresh = Gateway { call: new.clone(), ..old.clone() };
    let running_session = Client::new(&old, &running.device.private, 51).up();
    running
        .carry(&running.signed(2, &running.hash(), with(jiff::Timestamp::now() + jiff::SignedDuration::from_hours(1))))
        .unwrap();
    let live = || running.ask(&agent::Sessions).len();
    assert_eq!(live(), 1, "who is in stays in");
    drop(running_session);
    for dialled in [&old, &fresh] {
        Client::new(dialled, &running.device.private, 52).up();
    }
    running.carry(&running.signed(3, &running.hash(), with(jiff::Timestamp::now()))).unwrap();
    Client::new(&fresh, &running.device.private, 53).up();
    let mut stale = Client::new(&old, &running.device.private, 54);
    stale.device.open(stale.now());
    assert!(!stale.run(Duration::from_secs(2), Client::is_up));
    assert!(stale.arrived.is_empty() && stale.current.is_none());
}

/// A device that was admitted and revoked in between its opening and its first packet does not come in.
#[test]
fn a_revocation_between_opening_and_session_counts() {
    let running = running(|content| {
        content.admit.push(order::Admit {
            proof: Proof::Key { key: KeyPair::from_random([21; 32]).public },
            ..sample::admit("tomas/tablet", 2)
        });
    });
    let late = KeyPair::from_random([21; 32]);
    let mut device = Client::new(&running.dialled(), &late.private, 61);
    device.device.open(device.now());
    // As far as the answer: the final keys are not used yet.
    device.hold = true;
    assert!(device.run(Duration::from_secs(10), |client| client.current.is_some()));
    let mut content = running.content();
    content.revoked.insert(
        late.public.to_string(),
        order::Revoked { device: "tomas/tablet".into(), reason: "lost on the ferry".into() },
    );
    running.carry(&running.signed(2, &running.hash(), content)).unwrap();
    device.release();
    let refused = || {
        running.news().into_iter().any(|item| {
            matches!(&item.event, NewsEvent::Refused { reason: Reason::Revoked, device: Some(device), .. } if device == "tomas/tablet")
        })
    };
    assert!(device.run(Duration::from_secs(10), |_| refused()), "{:?}", running.news());
    assert!(running.ask(&agent::Sessions).is_empty());
}

/// Whoever has a stolen key and speaks the protocol as they like: packets before the answer, answers without end or measure, new keys and a new
/// place in between. Nothing passes, and after three wrong answers nobody is in.
#[test]
fn who_has_a_key_and_no_second_factor_moves_nothing_whatever_they_send() {
    use yestrel_core::admission::second_factor_purpose;
    use yestrel_core::order::OrderPolicies;
    use yestrel_core::policy::{Asks, Rule, Terms};
    use yestrel_core::sealed;
    use yestrel_wire::quill::parcel::{ANSWER, QUESTION};
    let secret = Secret::new(vec![3; 20]);
    let running = running(|content| {
        let mut codes = Rule::everyone("codes");
        codes.when.insert(Asks::Tunnel, vec!["quill".into()]);
        codes.terms = Terms { second_factor: true, ..Terms::default() };
        let (list, site) = (vec![codes], "harbour".into());
        content.policies = Some(OrderPolicies { list, site, zone: "UTC".into(), registries: vec![] });
        let purpose = second_factor_purpose(&content.admit[0].proof.identity());
        content.admit[0].second = Some(sealed::seal(&content.public_key, &purpose, &secret).unwrap());
    });
    let mut thief = Client::new(&running.dialled(), &running.device.private, 5).up();
    assert!(thief.events.iter().any(|event| matches!(event, Event::Up(settings) if settings.asks)));
    let echo = {
        let mut bytes = Vec::new();
        etherparse::PacketBuilder::ipv4([10, 187, 44, 2], [10, 187, 44, 1], 64)
            .icmpv4_echo_request(1, 1)
            .write(&mut bytes, b"?")
            .unwrap();
        bytes
    };
    let received = || running.ask(&agent::Sessions).first().map(|session| session.received);
    let asked = |thief: &Client| {
        let question = |event: &&Event| matches!(event, Event::Parcel(QUESTION, words) if !words.is_empty());
        thief.events.iter().filter(question).count()
    };
    assert!(thief.run(Duration::from_secs(10), |thief| asked(thief) == 1), "{:?}", thief.events);
    for _ in 0..50 {
        thief.send(&echo);
    }
    // An answer that is longer than any code, and what is no text; then new keys, from another place.
    let now = thief.now();
    assert!(thief.device.send_parcel(now, ANSWER, vec![b'1'; 60_000].into()));
    thief.run(Duration::from_millis(700), |_| false);
    assert_eq!(asked(&thief), 1, "what is too long was not even looked at");
    thief.socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    thief.socket.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
    let now = thief.now();
    thief.device.open(now);
    thief.run(Duration::from_secs(2), |_| false);
    for _ in 0..50 {
        thief.send(&echo);
    }
    thief.run(Duration::from_millis(300), |_| false);
    assert_eq!(received(), Some(0), "nothing was taken");
    assert!(thief.arrived.is_empty(), "and nothing sent");
    // Answers without end: three count.
    for wrong in 0..40_u8 {
        let now = thief.now();
        thief.device.send_parcel(now, ANSWER, [0xff, 0xfe, wrong].into());
        thief.run(Duration::from_millis(60), |_| false);
    }
    let ended = |thief: &Client| thief.events.iter().any(|event| matches!(event, Event::Ended(..)));
    assert!(thief.run(Duration::from_secs(10), ended), "{:?}", thief.events);
    wait(10, "nobody is in", || received().is_none().then_some(()));
    // Again and again, and after the fifth wrong answer in a row not even the handshake is taken.
    let mut second = Client::new(&running.dialled(), &running.device.private, 6).up();
    for wrong in 0..2_u8 {
        let now = second.now();
        second.device.send_parcel(now, ANSWER, [wrong].into());
        second.run(Duration::from_millis(600), |_| false);
    }
    assert!(second.run(Duration::from_secs(10), ended), "{:?}", second.events);
    let mut third = Client::new(&running.dialled(), &running.device.private, 7);
    let now = third.now();
    third.device.open(now);
    let refused = |client: &Client| client.events.iter().any(|event| matches!(event, Event::Refused(..)));
    assert!(third.run(Duration::from_secs(10), refused), "{:?}", third.events);
    assert!(!third.is_up());
}
