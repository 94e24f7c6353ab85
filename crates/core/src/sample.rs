//! Nouns of the example, for tests of every crate: one place for what a gateway, a listener, a credential look like.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::str::FromStr;

use jiff::Timestamp;

use crate::account::Account;
use crate::admission::Proof;
use crate::estate::{
    Credential, Gateway, HeldKeyPair, HeldPassword, Listener, Material, Reach, SealedSecret, Served, Session, Site,
    User, UserState, Way,
};
use crate::firewall::Service;
use crate::keys::{KeyPair, PublicKey, Secret};
use crate::order::{Admit, Content, OrderListener};
use crate::tunnel::quill::CallSecret;
use crate::tunnel::{Quill, Tunnel};

/// Reads what a sample writes out.
fn read<T: FromStr>(text: &str) -> T {
    text.parse().unwrap_or_else(|_| panic!("the sample {text} does not read"))
}

/// The moment of the examples.
#[must_use]
pub fn at() -> Timestamp {
    read("2027-03-02T08:15:00Z")
}

/// The key pair of the gateway of [`gateway`] and [`content`].
#[must_use]
pub fn gateway_pair() -> KeyPair {
    KeyPair::from_random([4; 32])
}

/// The key that signs the example's orders.
#[must_use]
pub fn signing() -> Secret {
    Secret::new(vec![7; 32])
}

/// The site of the harbour.
#[must_use]
pub fn site() -> Site {
    Site {
        name: "harbour".into(),
        networks: vec![read("10.46.0.0/24"), read("10.44.0.0/22")],
        time_zone: "Europe/Oslo".into(),
        front: None,
        created: at(),
    }
}

/// The gateway of the harbour.
#[must_use]
pub fn gateway() -> Gateway {
    Gateway {
        name: "harbour".into(),
        host: "harbour".into(),
        site: "harbour".into(),
        dialled: "gangway.skerry.example".into(),
        outward: None,
        masquerade: true,
        public_key: gateway_pair().public,
        private_key: SealedSecret(String::new()),
        adopted: false,
        amends: false,
        order_number: 0,
        news_seen: 0,
        updates: None,
        metrics: None,
        also: vec![],
        certificate: None,
        certificate_key: None,
        request_key: None,
        publish_port: None,
        lists_there: BTreeMap::new(),
        trusts: None,
        renewed: None,
        peer_call: crate::sealed::seal(&gateway_pair().public, crate::order::PEER_CALL, &call())
            .unwrap_or_else(|_| unreachable!()),
        created: at(),
    }
}

/// The call secret of every listener of the example.
#[must_use]
pub fn call() -> Secret {
    Secret::new(vec![6; 32])
}

/// The tunnel quill of a listener, sealed to the gateway with this key.
#[must_use]
pub fn quill(listener: &str, gateway: &PublicKey) -> Tunnel {
    let kept = SealedSecret("sealed for the estate".into());
    let call = CallSecret::new(listener, 1, &call(), kept, gateway).expect("the sample's gateway has a key");
    Tunnel::Quill(Quill { calls: vec![call], ..Quill::for_host(true) })
}

/// A listener `harbour/quill` with the pool 10.187.`third`.0/24.
#[must_use]
pub fn listener(name: &str, third: u8, reach: Reach) -> Listener {
    let inside = Service::udp(20_000 + u16::from(third));
    Listener {
        name: name.into(),
        gateway: name.split('/').next().unwrap_or_default().into(),
        tunnel: quill(name, &gateway_pair().public),
        serves: vec![Served { inside, outside: Service::udp(443) }],
        pool: read(&format!("10.187.{third}.0/24")),
        pool6: None,
        reach,
        resolvers: vec![],
        domains: vec![],
        keep_alive: 20,
        packet_size: 1400,
        created: at(),
    }
}

/// A credential of `user`'s laptop, by its material.
#[must_use]
pub fn credential(user: &str, key: u8, material: Material) -> Credential {
    Credential {
        name: format!("{user}/laptop/1"),
        device: format!("{user}/laptop"),
        user: user.into(),
        identity: PublicKey([key; 32]),
        material,
        once: false,
        issued: at(),
        valid_from: None,
        expires: None,
        handed_over: None,
        told: vec![],
        notice: None,
        notice_seen: 0,
        revoked: None,
        reason: None,
        first_used: None,
        last_used: None,
        job: None,
    }
}

/// A key pair with ways in at these listeners.
#[must_use]
pub fn key_pair(user: &str, key: u8, listeners: &[&str]) -> Credential {
    let way = |listener: &&str| Way { listener: (*listener).into(), inner: Ipv4Addr::new(10, 187, 44, key) };
    let ways = listeners.iter().map(way).collect();
    credential(
        user,
        key,
        Material::KeyPair(HeldKeyPair { private_key: None, made_on_device: false, ways, second_factor: None }),
    )
}

/// An account at these gateways; nothing is its password.
#[must_use]
pub fn account(user: &str, key: u8, gateways: &[&str]) -> Credential {
    let account = Account {
        name: format!("{user}.laptop"),
        password: format!("$argon2id$v=19$m=65536,t=3,p=1$c2FtcGxlc2FtcGxl${user}"),
        ms_chap: None,
        for_agents: Default::default(),
        generated: None,
        second_factor: None,
        failures: 0,
        locked_until: None,
        lock_outs: 0,
    };
    let gateways = gateways.iter().map(|gateway| (*gateway).to_owned()).collect();
    credential(user, key, Material::Password(HeldPassword { account, gateways, fixed: None }))
}

/// The record of a session that is over.
#[must_use]
pub fn session(reason: &str) -> Session {
    Session {
        name: "harbour 7".into(),
        gateway: "harbour".into(),
        number: 7,
        device: "mara/laptop".into(),
        from_address: "198.51.100.23:4711".into(),
        inner: Ipv4Addr::new(10, 187, 44, 2),
        opened: read("2027-03-02T08:15:00Z"),
        ended: Some(read("2027-03-02T09:15:00.25Z")),
        reason: Some(reason.into()),
        received: 1200,
        sent: 88,
        last_heard: None,
        policy: Some("everyone".into()),
        method: Some("key".into()),
        asked: Some(1),
        realm: None,
    }
}

/// A user.
#[must_use]
pub fn user(name: &str, state: UserState) -> User {
    User { state, ..User::new(name, at()) }
}

/// An entry for a key at `harbour/quill`.
#[must_use]
pub fn admit(device: &str, key: u8) -> Admit {
    Admit {
        proof: Proof::Key { key: PublicKey([key; 32]) },
        device: device.into(),
        at: Some("harbour/quill".into()),
        address: Some(Ipv4Addr::new(10, 187, 44, key + 1)),
        from: None,
        until: None,
        suspended: false,
        sessions: None,
        groups: vec![],
        platform: None,
        issued: None,
        second: None,
        new: false,
    }
}

/// What the gateway of the harbour is to be: one listener, two devices.
#[must_use]
pub fn content() -> Content {
    Content {
        holds: None,
        peers: vec![],
        peer_call: None,
        policies: None,
        gateway: "harbour".into(),
        dialled: "gangway.skerry.example".into(),
        outward: None,
        masquerade: true,
        networks: vec![read("10.44.0.0/22")],
        public_key: gateway_pair().public,
        listeners: vec![OrderListener {
            name: "harbour/quill".into(),
            tunnel: quill("harbour/quill", &gateway_pair().public).in_order(),
            serves: vec![Service::udp(23817)],
            pool: read("10.187.44.0/24"),
            pool6: None,
            reach: vec![read("10.44.0.0/22")],
            resolvers: vec![],
            keep_alive: 20,
            packet_size: 1400,
            domains: vec![],
        }],
        admit: vec![admit("mara/laptop", 1), admit("tomas/tablet", 2)],
        revoked: BTreeMap::new(),
        metrics: None,
        certificate: vec![],
        authorities: Default::default(),
        publish: None,
    }
}
