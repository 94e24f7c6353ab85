//! What an agent does whose disk is full.

use std::io::Write as _;

use crate::agent::Running;
use crate::common::client::Client;
use crate::common::wait;
use yestrel_core::exchange::{NewsEvent, agent};
use yestrel_core::order::{Content, Revoked};

/// Fills the agent's disk to the last byte.
fn fill(running: &Running) {
    let mut file = std::fs::File::create(running.inside("fill")).unwrap();
    while file.write_all(&[0; 4096]).is_ok() {}
    while file.write_all(&[0]).is_ok() {}
}

fn carry(running: &Running, number: u64, previous: &str, content: Content) -> agent::Receipt {
    running.ask(&agent::Carry { envelope: running.signed(number, previous, content), hold: 0 })
}

#[test]
fn on_a_full_disk_an_agent_serves_and_says_what_is_not_kept_and_keeps_it_later() {
    let mut running = Running::start_on_a_disk_of(512);
    running.adopt();
    let first = carry(&running, 1, "", running.content());
    assert_eq!(first.unkept, None);
    let gateway = running.dialled();
    Client::new(&gateway, &running.device.private, 1).up();
    fill(&running);
    let unkept = |running: &Running| running.ask(&agent::Status).unkept;
    // Somebody comes in, again and again: at last what is seen of it is not kept, and that is said.
    let why = wait(60, "it says that news are not kept", || {
        Client::new(&gateway, &running.device.private, 2).up();
        unkept(&running)
    });
    assert!(why.contains("No space left"), "{why}");
    // A revocation is in force, and said to be not kept.
    let mut content = running.content();
    let identity = content.admit.remove(0).proof.identity();
    content.revoked.insert(identity.to_string(), Revoked { device: "mara/laptop".into(), reason: "lost".into() });
    let second = carry(&running, 2, &first.hash, content.clone());
    assert!(second.unkept.is_some_and(|why| why.contains("No space left")));
    assert_eq!((running.ask(&agent::Status).order, running.ask(&agent::Sessions).len()), (2, 0));
    let out = |running: &Running, seed| {
        let mut client = Client::new(&running.dialled(), &running.device.private, seed);
        client.device.open(client.now());
        let refused = |client: &Client| {
            client.events.iter().any(|event| matches!(event, yestrel_wire::quill::device::Event::Refused(..)))
        };
        assert!(client.run(std::time::Duration::from_secs(10), refused), "{:?}", client.events);
    };
    out(&running, 3);
    // Begun anew on the full disk it serves with what was kept: the order before, as it said.
    running.restart();
    wait(10, "the order before is in force", || (running.ask(&agent::Status).order == 1).then_some(()));
    let mut device = Client::new(&gateway, &running.device.private, 4).up();
    let third = carry(&running, 2, &first.hash, content.clone());
    assert_eq!((third.ended, third.unkept.is_some()), (1, true));
    assert!(device.run(std::time::Duration::from_secs(5), |client| !client.events.is_empty()));
    // As soon as there is room everything is kept, without anybody doing anything.
    std::fs::remove_file(running.inside("fill")).unwrap();
    wait(10, "everything is kept", || unkept(&running).is_none().then_some(()));
    let carried = running.news().iter().filter(|item| matches!(item.event, NewsEvent::Carried { order: 2 })).count();
    assert!(carried >= 1, "{:?}", running.news());
    running.restart();
    wait(10, "the newest order is in force", || (running.ask(&agent::Status).order == 2).then_some(()));
    out(&running, 5);
}
