//! What actions decide and keep, on an estate without any host that answers.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::path::PathBuf;

use yestrel_actions::credential::{self, Wish as CredentialWish, handover};
use yestrel_actions::listener::{self, Wish as ListenerWish};
use yestrel_actions::people::{self, Wish as UserWish};
use yestrel_actions::{Context, estate, gateway, rollout, site};
use yestrel_core::estate::{
    CertificateState, Credential, CredentialState, Host, HostKind, Revocation, StoredOrder, UserState, Via,
};
use yestrel_core::handover::Handover;
use yestrel_core::keys::KeyPair;
use yestrel_core::{Kind, Problem};
use yestrel_store::records::Address;

struct World {
    folder: tempfile::TempDir,
    context: Context,
}

fn nobody() -> yestrel_actions::AskPassphrase {
    Box::new(|| Err(Problem::failed("nobody to ask")))
}

/// Knows no secret and accepts no key.
struct NoPerson;

impl yestrel_actions::Person for NoPerson {
    fn secret(&self, what: &str) -> Result<zeroize::Zeroizing<String>, Problem> {
        Err(Problem::failed(what))
    }

    fn compares(
        &self,
        _host: &str,
        _whose: yestrel_actions::Whose,
        _algorithm: &str,
        _fingerprint: &str,
    ) -> Result<bool, Problem> {
        Ok(false)
    }

    fn progress(&self, _what: &str, _done: u64, _whole: u64) {}
}

impl World {
    /// An estate with a gateway on a host that nobody has ever reached, and two listeners.
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("skerry");
        estate::create(&path, "skerry", None).unwrap();
        let mut context = Context::open(&path, nobody(), std::sync::Arc::new(NoPerson)).unwrap();
        let networks = Some(vec!["10.44.0.0/22".into()]);
        site::add(&mut context, "harbour", &site::Wish { networks, ..site::Wish::default() }).unwrap();
        let created = context.now;
        context
            .write(|book| {
                book.add(&Host {
                    name: "harbour".into(),
                    site: "harbour".into(),
                    kind: HostKind::Cloud,
                    via: Via::Lab("/nowhere".into()),
                    access: Default::default(),
                    facts: None,
                    probed: None,
                    leftover: None,
                    users_at_once: None,
                    created,
                })
            })
            .unwrap();
        let dialled = Some("gangway.skerry.example".into());
        gateway::create(&mut context, "harbour", "harbour", &gateway::Wish { dialled, ..gateway::Wish::default() })
            .unwrap();
        let mut world = Self { folder, context };
        world.open("first", "10.187.44.0/24");
        world.open("second", "10.190.0.0/29");
        world
    }

    fn open(&mut self, name: &str, pool: &str) {
        let wish = ListenerWish { name: Some(name.into()), pool: Some(pool.into()), ..ListenerWish::default() };
        listener::open(&mut self.context, "harbour", &wish).unwrap();
    }

    /// A root and an authority below it that issues.
    fn authority(&mut self, domain: Option<&str>) {
        use yestrel_actions::authority::{self, Wish};
        let domain = domain.map(str::to_owned);
        let wish = Wish { under: "root".into(), algorithm: Default::default(), until: None, domain };
        authority::create(&mut self.context, "issuing", &wish).unwrap();
    }

    fn device(&mut self, name: &str) {
        let user = name.split('/').next().unwrap();
        let _ = people::add_user(&mut self.context, user, &UserWish::default());
        people::add_device(&mut self.context, name, None).unwrap();
    }

    fn issue(&mut self, device: &str) -> Credential {
        self.device(device);
        credential::issue(&mut self.context, device, &CredentialWish::default()).unwrap()
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn count<T: yestrel_store::Record>(&mut self) -> usize {
        self.context.read(|book| Ok(book.all::<T>()?.len())).unwrap()
    }
}

fn inner(credential: &Credential) -> Vec<String> {
    credential.ways().iter().map(|way| way.inner.to_string()).collect()
}

#[test]
fn a_credential_gets_one_address_at_each_listener_and_keeps_it_when_renewed() {
    let mut world = World::new();
    let first = world.issue("mara/laptop");
    let second = world.issue("tomas/tablet");
    assert_eq!(inner(&first), ["10.187.44.2", "10.190.0.2"]);
    assert_eq!(inner(&second), ["10.187.44.3", "10.190.0.3"]);
    credential::revoke(&mut world.context, &whose("mara/laptop"), "lost", &mut |_, _| {}).unwrap();
    // A renewed credential keeps its own.
    let made = credential::renew(&mut world.context, "tomas/tablet", None, &CredentialWish::default()).unwrap();
    let (renewed, gateways) = (made.what.credential, made.gateways);
    assert_eq!(inner(&renewed), inner(&second));
    assert_ne!(renewed.identity, second.identity);
    assert_eq!((renewed.name.as_str(), gateways), ("tomas/tablet/2", ["harbour".to_owned()].into()));
    assert_eq!(world.count::<Address>(), 4, "two in use, two held");
    assert_eq!(world.count::<Revocation>(), 2);
    // What was taken back is nobody else's for thirty days, and mara's again if she comes back; then it is free.
    let third = world.issue("ines/phone");
    assert_eq!(inner(&third), ["10.187.44.4", "10.190.0.4"]);
    world.context.now += jiff::SignedDuration::from_hours(24 * 29);
    assert_eq!(inner(&world.issue("eira/phone")), ["10.187.44.5", "10.190.0.5"]);
    world.context.now += jiff::SignedDuration::from_hours(24 * 2);
    assert_eq!(inner(&world.issue("astrid/phone")), ["10.187.44.2", "10.190.0.2"]);
}

#[test]
fn a_renewed_credential_lasts_as_long_as_the_old_one_did() {
    let mut world = World::new();
    world.device("mara/laptop");
    let expires = Some(world.context.now + jiff::SignedDuration::from_hours(240));
    credential::issue(&mut world.context, "mara/laptop", &CredentialWish { expires, ..CredentialWish::default() })
        .unwrap();
    world.context.now += jiff::SignedDuration::from_hours(100);
    let renewed =
        credential::renew(&mut world.context, "mara/laptop", None, &CredentialWish::default()).unwrap().what.credential;
    assert_eq!(renewed.expires.unwrap().duration_since(renewed.issued), jiff::SignedDuration::from_hours(240));
    let later = Some(world.context.now - jiff::SignedDuration::from_hours(1));
    let past = credential::issue(
        &mut world.context,
        "mara/laptop",
        &CredentialWish { expires: later, ..CredentialWish::default() },
    );
    assert_eq!(past.unwrap_err().kind, Kind::Words);
}

#[test]
fn a_key_belongs_to_one_credential_for_ever() {
    let mut world = World::new();
    let public_key = Some(KeyPair::from_random([5; 32]).public);
    let own = || CredentialWish { public_key, ..CredentialWish::default() };
    world.device("mara/laptop");
    world.device("tomas/tablet");
    let made = credential::issue(&mut world.context, "mara/laptop", &own()).unwrap();
    assert!(made.made_on_device() && made.private_key().is_none());
    let again = credential::issue(&mut world.context, "tomas/tablet", &own()).unwrap_err();
    assert!(again.error.contains("known already"));
    credential::revoke(&mut world.context, &whose("mara/laptop"), "lost", &mut |_, _| {}).unwrap();
    people::remove_device(&mut world.context, "mara/laptop").unwrap();
    // The device and its records are gone; the key is still out for good.
    assert!(credential::issue(&mut world.context, "tomas/tablet", &own()).is_err());
    assert_eq!(world.count::<Credential>(), 0, "a refused issue leaves nothing");
    let held: Vec<Address> = world.context.read(|book| book.all()).unwrap();
    assert!(held.iter().all(|address| address.held_until.is_some()), "{held:?}");
}

#[test]
fn a_key_that_would_let_in_everybody_is_refused() {
    let mut world = World::new();
    world.device("mara/laptop");
    // The seven points of low order, as an attacker would write them.
    let near_the_prime = |lowest: u8| {
        let mut bytes = [0xff; 32];
        (bytes[0], bytes[31]) = (lowest, 0x7f);
        bytes
    };
    let mut one = [0; 32];
    one[0] = 1;
    for point in [one, near_the_prime(0xec), near_the_prime(0xed), near_the_prime(0xee)] {
        let public_key = Some(yestrel_core::keys::PublicKey(point));
        let wish = CredentialWish { public_key, ..CredentialWish::default() };
        let refused = credential::issue(&mut world.context, "mara/laptop", &wish).unwrap_err();
        assert!(refused.error.contains("lets in everybody"), "{refused:?}");
    }
    assert_eq!(world.count::<Credential>(), 0);
}

#[test]
fn a_pool_that_is_full_refuses_the_whole_credential() {
    let mut world = World::new();
    for number in 0..5 {
        world.issue(&format!("mara/d{number}"));
    }
    world.device("mara/one-more");
    let full = credential::issue(&mut world.context, "mara/one-more", &CredentialWish::default()).unwrap_err();
    assert!(full.error.contains("10.190.0.0/29 of harbour/second is full"), "{full:?}");
    // The first listener had room; nothing was given out there either.
    assert_eq!(world.count::<Address>(), 10);
    let only_first = CredentialWish { at: vec!["harbour/first".into()], ..CredentialWish::default() };
    credential::issue(&mut world.context, "mara/one-more", &only_first).unwrap();
}

#[test]
fn the_private_key_is_erased_only_when_the_handover_is_safe() {
    let mut world = World::new();
    world.issue("mara/laptop");
    let failed =
        handover::hand_over(&mut world.context, "mara/laptop", None, |_| Err(Problem::failed("the disk is full")));
    assert_eq!(failed.unwrap_err().error, "the disk is full");
    let still = credential::show(&mut world.context, "mara/laptop", None).unwrap();
    assert!(still.credential.private_key().is_some() && still.credential.handed_over.is_none());
    assert_eq!(still.state, CredentialState::Ready);
    let mut text = String::new();
    let handed = handover::hand_over(&mut world.context, "mara/laptop", None, |given| {
        text = given.to_owned();
        Ok(())
    })
    .unwrap();
    assert!(handed.private_key().is_none());
    let read = Handover::read(&text).unwrap();
    let key = read.device_key.unwrap();
    assert_eq!(KeyPair::public_of(&key).unwrap(), handed.identity, "the key that the gateway admits");
    assert_eq!(read.ways.iter().map(|way| way.gateway.as_str()).collect::<Vec<_>>(), ["harbour", "harbour"]);
    let second = handover::hand_over(&mut world.context, "mara/laptop", None, |_| Ok(())).unwrap_err();
    assert!(second.error.contains("already") && second.tries[0].contains("renew"));
}

#[test]
fn a_handover_under_a_passphrase_opens_with_it_alone() {
    let mut world = World::new();
    world.issue("mara/laptop");
    let path = world.path("mara.yestrel");
    let write = path.clone();
    handover::hand_over(&mut world.context, "mara/laptop", Some("seven skerries"), |text| {
        handover::write_file(&write, text)
    })
    .unwrap();
    let say = |words: &'static str| move || Ok(zeroize::Zeroizing::new(words.to_owned()));
    let opened = handover::open(&path, &say("seven skerries"), None).unwrap();
    assert_eq!(opened.holder, "mara/laptop");
    assert_eq!(handover::open(&path, &say("eight skerries"), None).unwrap_err().kind, Kind::Refused);
    let whole = std::fs::read_to_string(&path).unwrap();
    for cut in [whole.len() / 2, whole.len() - 40] {
        let cut_path = world.path(&format!("cut-{cut}"));
        std::fs::write(&cut_path, &whole[..cut]).unwrap();
        let problem = handover::open(&cut_path, &say("seven skerries"), None).unwrap_err();
        assert!(problem.error.contains("damaged"), "{problem:?}");
    }
}

#[test]
fn an_order_that_was_never_received_keeps_its_number_until_the_estate_changes() {
    let mut world = World::new();
    world.issue("mara/laptop");
    for _ in 0..3 {
        let outcome = rollout::rollout(&mut world.context, &[], &rollout::How::default()).unwrap().remove(0);
        assert_eq!((outcome.order, outcome.state), (1, rollout::OutcomeState::Failed));
        assert!(outcome.problem.unwrap().error.contains("cannot be reached"));
    }
    assert_eq!(world.count::<StoredOrder>(), 1);
    world.issue("tomas/tablet");
    assert_eq!(rollout::rollout(&mut world.context, &[], &rollout::How::default()).unwrap()[0].order, 2);
    let orders: Vec<StoredOrder> = world.context.read(|book| book.all()).unwrap();
    let envelope = |number| world.context.read(|book| book.envelope("harbour", number)).unwrap().unwrap();
    let envelopes = [1, 2].map(envelope);
    let second = envelopes[1].read().unwrap();
    assert_eq!((second.previous, second.number), (orders[0].hash.clone(), 2), "each order names the one before it");
    let signer =
        world.context.read(|book| Ok(book.all::<yestrel_core::estate::Estate>()?.remove(0).public_key)).unwrap();
    envelopes.iter().for_each(|envelope| drop(envelope.verify(&signer).unwrap()));
    assert!(!gateway::list(&mut world.context).unwrap()[0].gateway.adopted);
}

#[test]
fn suspending_keeps_the_credential_and_only_marks_it_in_the_order() {
    let mut world = World::new();
    world.issue("mara/laptop");
    let suspended = people::set_user_state(&mut world.context, "mara", UserState::Suspended).unwrap();
    assert!(suspended.what.is_some());
    assert_eq!(suspended.gateways, ["harbour".to_owned()].into());
    let twice = people::set_user_state(&mut world.context, "mara", UserState::Suspended).unwrap();
    assert!(twice.what.is_none(), "nothing to do twice");
    assert_eq!(twice.gateways, suspended.gateways, "but it may not have reached them the first time");
    let plan = rollout::preview(&mut world.context, &[]).unwrap().remove(0);
    let known: Vec<_> = plan.changes.iter().filter(|change| change.verb == "known").collect();
    assert_eq!(known.len(), 2, "{plan:?}");
    assert_eq!(world.count::<Revocation>(), 0);
    assert!(people::set_user_state(&mut world.context, "mara", UserState::Active).unwrap().what.is_some());
}

/// A change goes to the gateways that it affects, whatever else waits elsewhere.
#[test]
fn a_change_is_carried_to_whom_it_affects_and_to_nobody_else() {
    let mut world = World::new();
    world.issue("mara/laptop");
    let boatyard = Host { name: "boatyard".into(), ..world.context.read(|book| book.need("harbour")).unwrap() };
    world.context.write(|book| book.add(&boatyard)).unwrap();
    let dialled = Some("slip.skerry.example".into());
    let wish = gateway::Wish { dialled, ..gateway::Wish::default() };
    gateway::create(&mut world.context, "boatyard", "boatyard", &wish).unwrap();
    // Both have carried out an order before; at the boatyard something waits.
    for name in ["harbour", "boatyard"] {
        world
            .context
            .write(|book| {
                let mut gateway: yestrel_core::estate::Gateway = book.need(name)?;
                gateway.order_number = 1;
                book.put(&gateway)
            })
            .unwrap();
    }
    let wish = ListenerWish { pool: Some("10.191.0.0/24".into()), ..ListenerWish::default() };
    listener::open(&mut world.context, "boatyard", &wish).unwrap();
    let ended = credential::revoke(&mut world.context, &whose("mara/laptop"), "lost", &mut |_, _| {}).unwrap();
    assert_eq!(ended.gateways, ["harbour".to_owned()].into());
    let mut told = Vec::new();
    let outcomes = yestrel_actions::carry::carry(&mut world.context, &ended, false, &mut |plans| {
        told.extend(plans.iter().map(|plan| plan.gateway.clone()));
    })
    .unwrap();
    assert_eq!(told, ["harbour"]);
    assert_eq!(outcomes.iter().map(|outcome| outcome.gateway.as_str()).collect::<Vec<_>>(), ["harbour"]);
    // A change that affects nobody is carried to nobody.
    people::add_user(&mut world.context, "ines", &UserWish::default()).unwrap();
    let nobody = people::set_user_state(&mut world.context, "ines", UserState::Suspended).unwrap();
    assert!(nobody.gateways.is_empty());
    // But whoever was not reached the first time is tried again with whatever is carried next.
    let again = yestrel_actions::carry::carry(&mut world.context, &nobody, false, &mut |_| {}).unwrap();
    assert_eq!(again.iter().map(|outcome| outcome.gateway.as_str()).collect::<Vec<_>>(), ["harbour"]);
}

#[test]
fn a_reach_that_grows_makes_handovers_stale_and_one_that_shrinks_does_not() {
    let mut world = World::new();
    world.issue("mara/laptop");
    handover::hand_over(&mut world.context, "mara/laptop", None, |_| Ok(())).unwrap();
    let mut change = |reach: &str| {
        let wish = ListenerWish { reach: Some(reach.parse().unwrap()), ..ListenerWish::default() };
        let (_, stale) = listener::change(&mut world.context, "harbour/first", &wish).unwrap();
        stale.count
    };
    assert_eq!(change("10.44.0.20/32"), 0);
    assert_eq!(change("10.44.0.0/22,10.45.0.0/24"), 1);
    assert_eq!(change("10.44.1.0/24"), 0);
    assert_eq!(change("everything"), 1);
}

#[test]
fn half_an_estate_is_none() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("skerry");
    assert_eq!(estate::create(&path, "Bad Name", None).err().unwrap().kind, Kind::Words);
    assert_eq!(estate::create(&path, "skerry", Some("short")).err().unwrap().kind, Kind::Words);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    // A key of another estate lies there: neither is it overwritten, nor is an estate made beside it.
    std::fs::write(folder.path().join("skerry.key"), "a key").unwrap();
    assert!(estate::create(&path, "skerry", None).err().unwrap().error.contains("sealing key"));
    assert!(!path.exists());
}

fn whose(device: &str) -> credential::Whose {
    credential::Whose::Device(device.into(), None)
}

#[test]
fn lists_are_signed_anew_before_they_end_and_a_held_user_is_on_them_only_while_held() {
    use yestrel_actions::rollout;
    use yestrel_core::estate::{Authority, CredentialKind, IssuedCertificate};
    let mut world = World::new();
    world.authority(None);
    world.device("mara/phone");
    let wish = CredentialWish { kind: CredentialKind::Certificate, ..CredentialWish::default() };
    credential::issue(&mut world.context, "mara/phone", &wish).unwrap();
    let number =
        |world: &mut World| world.context.read(|book| Ok(book.need::<Authority>("issuing")?.list_number)).unwrap();
    let state = |world: &mut World| {
        let all: Vec<IssuedCertificate> = world.context.read(|book| book.find(&[("kind", "device".into())])).unwrap();
        all[0].state
    };
    assert_eq!((number(&mut world), state(&mut world)), (1, CertificateState::Good));
    // What a rollout does first, whatever becomes of the gateways: nobody answers here.
    let roll = |world: &mut World, days: i64| {
        world.context.now += jiff::SignedDuration::from_hours(24 * days);
        let _ = rollout::rollout(&mut world.context, &[], &rollout::How::default());
        number(world)
    };
    assert_eq!(roll(&mut world, 6), 1, "not yet half over");
    assert_eq!(roll(&mut world, 2), 2);
    assert_eq!(roll(&mut world, 1), 2);
    people::set_user_state(&mut world.context, "mara", UserState::Suspended).unwrap();
    assert_eq!((number(&mut world), state(&mut world)), (3, CertificateState::Held));
    people::set_user_state(&mut world.context, "mara", UserState::Active).unwrap();
    assert_eq!((number(&mut world), state(&mut world)), (4, CertificateState::Good));
    // A clock that was set back signs nothing.
    world.context.now -= jiff::SignedDuration::from_hours(24 * 400);
    let early = credential::renew(&mut world.context, "mara/phone", None, &CredentialWish::default()).unwrap_err();
    assert!(early.tries[0].contains("clock"), "{early:?}");
    assert_eq!(number(&mut world), 4);
}

/// A certificate for some of a gateway's names is never made in silence.
#[test]
fn names_beyond_an_authoritys_domain_are_said_to_have_no_certificate() {
    use yestrel_actions::rollout;
    use yestrel_core::estate::Gateway;
    let mut world = World::new();
    world.authority(Some("skerry.example"));
    let also = Some(vec!["203.0.113.10".into(), "gangway.elsewhere.example".into()]);
    gateway::change(&mut world.context, "harbour", &gateway::Wish { also, ..gateway::Wish::default() }).unwrap();
    let plan = rollout::preview(&mut world.context, &["harbour".into()]).unwrap().remove(0);
    let said: Vec<_> = plan.changes.iter().filter(|change| change.verb == "note").map(|change| &change.words).collect();
    assert_eq!(
        said,
        [
            "nobody would be admitted: no policy admits anybody",
            "no certificate is made for 203.0.113.10, gangway.elsewhere.example: issuing signs for skerry.example alone"
        ]
    );
    let _ = rollout::rollout(&mut world.context, &[], &rollout::How::default());
    let made = world.context.read(|book| Ok(book.need::<Gateway>("harbour")?.certificate)).unwrap().unwrap();
    assert_eq!(made.names, ["gangway.skerry.example"]);
}

/// What was revoked stands on one list that was signed after its end (RFC 5280 section 3.3).
#[test]
fn a_revoked_certificate_stays_on_one_list_past_its_end() {
    use base64::Engine as _;
    use yestrel_actions::authority::publish;
    use yestrel_core::estate::{Authority, CredentialKind};
    use yestrel_core::x509::{Certificate, list::List};
    let mut world = World::new();
    world.authority(None);
    world.device("mara/phone");
    let expires = Some(world.context.now + jiff::SignedDuration::from_hours(24));
    let wish = CredentialWish { kind: CredentialKind::Certificate, expires, ..CredentialWish::default() };
    credential::issue(&mut world.context, "mara/phone", &wish).unwrap();
    credential::revoke(&mut world.context, &whose("mara/phone"), "lost", &mut |_, _| {}).unwrap();
    let entries = |world: &mut World, hours: i64| {
        world.context.now += jiff::SignedDuration::from_hours(hours);
        publish::publish(&mut world.context, &["issuing".into()], &[], &[], None).unwrap();
        let authority: Authority = world.context.read(|book| book.need("issuing")).unwrap();
        let der = |text: &str| base64::engine::general_purpose::STANDARD.decode(text).unwrap();
        let certificate = Certificate::from_der(&der(&authority.certificate)).unwrap();
        List::read(&der(&authority.list.unwrap()), &certificate).unwrap().entries.len()
    };
    assert_eq!(entries(&mut world, 1), 1);
    assert_eq!(entries(&mut world, 20), 1);
    assert_eq!(entries(&mut world, 20), 1, "the first that is signed after its end");
    assert_eq!(entries(&mut world, 1), 0);
}

#[test]
fn a_gateways_certificate_is_renewed_before_its_end_and_a_devices_too() {
    use yestrel_actions::rollout;
    use yestrel_core::estate::{CredentialKind, Gateway};
    let mut world = World::new();
    world.authority(None);
    let certificate = |world: &mut World| {
        let _ = rollout::rollout(&mut world.context, &[], &rollout::How::default());
        world.context.read(|book| Ok(book.need::<Gateway>("harbour")?.certificate)).unwrap().unwrap()
    };
    let certify = |world: &mut World| {
        let plans = rollout::preview(&mut world.context, &["harbour".into()]).unwrap();
        let lines = plans[0].changes.iter().filter(|change| change.verb == "certify");
        lines.map(|change| change.words.as_str()).collect::<Vec<_>>().join("; ")
    };
    assert!(certify(&mut world).contains("the first certificate"));
    let first = certificate(&mut world);
    let days = first.expires.duration_since(world.context.now).as_hours() / 24;
    assert!((390..398).contains(&days), "{days}");
    world.context.now += jiff::SignedDuration::from_hours(24 * 330);
    assert_eq!(certificate(&mut world).serial, first.serial, "not yet");
    world.device("mara/phone");
    let expires = Some(world.context.now + jiff::SignedDuration::from_hours(24 * 40));
    let wish = CredentialWish { kind: CredentialKind::Certificate, expires, ..CredentialWish::default() };
    credential::issue(&mut world.context, "mara/phone", &wish).unwrap();
    world.context.now += jiff::SignedDuration::from_hours(24 * 15);
    assert!(certify(&mut world).contains("in place of the one that ends on"));
    assert_ne!(certificate(&mut world).serial, first.serial);
    assert!(!certify(&mut world).contains("in place of"), "made, and waits for its gateway");
    let by = world.context.now + jiff::SignedDuration::from_hours(24 * 30);
    let due =
        credential::renew_due(&mut world.context, by, CredentialKind::Certificate, &mut |_, _| true).unwrap().what;
    assert_eq!(due.renewed, ["mara/phone/2"]);
    // The old one is still there, until its own end.
    let all = credential::list(&mut world.context, Some("mara/phone"), &credential::Filter::default()).unwrap();
    let states: Vec<_> = all.iter().map(|view| (view.state, view.credential.superseded().is_some())).collect();
    assert_eq!(states, [(CredentialState::Ready, true), (CredentialState::Ready, false)]);
    world.context.now += jiff::SignedDuration::from_hours(24 * 26);
    let all = credential::list(&mut world.context, Some("mara/phone"), &credential::Filter::default()).unwrap();
    assert_eq!(all[0].state, CredentialState::Expired);
}
