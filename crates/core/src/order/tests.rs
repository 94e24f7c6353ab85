//! Orders as a whole: made from an estate, signed, followed, told in words.

use proptest::prelude::*;

use super::*;
use crate::keys::PublicKey;
use crate::sample::{self, admit, at, content as sample, signing as secret};

fn envelope(number: u64, previous: &str) -> Envelope {
    sign("estate-1", number, previous, at(), sample(), &secret()).unwrap()
}

#[test]
fn a_signed_order_comes_back_whole_and_the_same_order_gives_the_same_bytes() {
    let signer = signer(&secret()).unwrap();
    let order = envelope(13, "before").verify(&signer).unwrap();
    assert_eq!((order.number, &order.content), (13, &sample()));
    assert_eq!(envelope(13, "before"), envelope(13, "before"));
}

proptest! {
    #[test]
    fn no_altered_order_verifies(at in 0_usize..5000, bit in 0_u8..7) {
        let signer = signer(&secret()).unwrap();
        let mut envelope = envelope(13, "before");
        let mut bytes = envelope.order.into_bytes();
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        prop_assume!(std::str::from_utf8(&bytes).is_ok());
        envelope.order = String::from_utf8(bytes).unwrap();
        prop_assert!(envelope.verify(&signer).is_err());
    }

    #[test]
    fn no_text_makes_the_reader_fail(order in ".{0,200}", signature in "[A-Za-z0-9+/=]{0,90}") {
        let signer = signer(&secret()).unwrap();
        let envelope = Envelope { order, signature, successor_signature: None, amendments: Vec::new() };
        prop_assert!(envelope.verify(&signer).is_err());
    }

    #[test]
    fn an_agent_never_goes_back(have in 1_u64..50, offered in 1_u64..50) {
        let current = envelope(have, "x");
        let current_order = current.read().unwrap();
        let hash = current.hash();
        let previous = if offered == have + 1 { hash.clone() } else { "x".into() };
        let next = envelope(offered, &previous);
        let allowed = may_follow(Some((&current_order, &hash)), &next.read().unwrap(), &next.hash(), "harbour", &own_key());
        prop_assert_eq!(allowed.is_ok(), offered >= have);
    }
}

/// Before it is kept: one that no agent takes would stand in the way of every later one.
#[test]
fn an_order_that_is_longer_than_agents_take_is_refused_before_it_is_kept() {
    let short = envelope(13, "x");
    short.check_length("harbour", 2).unwrap();
    let text = |length: usize, of: &str| Envelope { order: of.repeat(length), ..short.clone() };
    assert!(text(48 * 1024 * 1024, "x").check_length("harbour", 9).is_ok());
    let problem = text(48 * 1024 * 1024 + 1, "x").check_length("harbour", 9).unwrap_err();
    assert!(problem.error.contains("harbour") && problem.why.unwrap().contains("9 entries"));
    assert!(text(24 * 1024 * 1024 + 1, "\"").check_length("harbour", 9).is_err(), "a quote takes two");
}

fn own_key() -> PublicKey {
    sample::gateway_pair().public
}

#[test]
fn an_order_by_another_name_is_taken_by_the_agent_whose_key_it_has_and_by_no_other() {
    let current = envelope(13, "x");
    let (order, hash) = (current.read().unwrap(), current.hash());
    let mut content = sample();
    content.gateway = "pier".into();
    let next = sign("estate-1", 14, &hash, at(), content, &secret()).unwrap();
    let taken =
        |key: &PublicKey| may_follow(Some((&order, &hash)), &next.read().unwrap(), &next.hash(), "harbour", key);
    assert!(taken(&own_key()).is_ok());
    let problem = taken(&PublicKey([7; 32])).unwrap_err();
    assert_eq!(problem.error, "the order is for the gateway pier");
}

#[test]
fn a_rename_is_that_and_no_more() {
    let old = sample();
    let mut new = old.clone();
    new.gateway = "pier".into();
    for listener in &mut new.listeners {
        listener.name = listener.name.replace("harbour/", "pier/");
    }
    for admit in &mut new.admit {
        admit.at = admit.at.take().map(|at| at.replace("harbour/", "pier/"));
    }
    new.admit.sort_by(Admit::in_order);
    let words = |old: &Content, new: &Content| -> Vec<_> {
        difference(Some(old), new).into_iter().map(|change| format!("{} {}", change.verb, change.words)).collect()
    };
    let mut expected = vec!["rename the gateway harbour -> pier".to_owned()];
    let name = |content: &Content, at: usize| content.listeners[at].name.clone();
    expected
        .extend((0..old.listeners.len()).map(|at| format!("rename listener {} -> {}", name(&old, at), name(&new, at))));
    assert_eq!(words(&old, &new), expected);
    assert!(!touches_the_way_in(Some(&old), &new));
    // What changes besides is said besides.
    new.listeners[0].keep_alive = 44;
    new.admit.pop().unwrap();
    let more = words(&old, &new).split_off(expected.len());
    assert!(more.iter().any(|line| line.starts_with("change listener pier/") && line.ends_with("-> 44")), "{more:?}");
    assert!(more.iter().any(|line| line.starts_with("withdraw")), "{more:?}");
    assert_eq!(more.len(), 2, "{more:?}");
    // Another listener in the place of one, with other pools, is another; one on other ports besides is the same, and whoever is in is not any more.
    let mut replaced = new.clone();
    replaced.listeners[0].pool = "10.99.0.0/24".parse().unwrap();
    assert!(words(&old, &replaced).iter().any(|line| line.starts_with("remove listener harbour/")));
    assert_eq!(closed(&old, &replaced), [old.listeners[0].name.as_str()]);
    assert_eq!(closed(&old, &new), Vec::<&str>::new());
    new.listeners[0].serves = vec![crate::firewall::Service::Port(crate::firewall::Protocol::Udp, 9)];
    assert!(!words(&old, &new).iter().any(|line| line.starts_with("remove")));
    assert_eq!(closed(&old, &new), [old.listeners[0].name.as_str()]);
}

#[test]
fn two_copies_of_an_estate_are_noticed() {
    let current = envelope(13, "x");
    let (order, hash) = (current.read().unwrap(), current.hash());
    let other = envelope(14, "another thirteenth");
    let problem =
        may_follow(Some((&order, &hash)), &other.read().unwrap(), &other.hash(), "harbour", &own_key()).unwrap_err();
    assert!(problem.why.unwrap().contains("two copies"));
    let mut content = sample();
    content.masquerade = false;
    let same_number = sign("estate-1", 13, "x", at(), content, &secret()).unwrap();
    assert!(
        may_follow(Some((&order, &hash)), &same_number.read().unwrap(), &same_number.hash(), "harbour", &own_key())
            .is_err()
    );
    assert!(may_follow(Some((&order, &hash)), &order, &hash, "harbour", &own_key()).is_ok(), "the same again");
    assert!(may_follow(None, &order, &hash, "boatyard", &PublicKey([7; 32])).is_err(), "another gateway's");
}

#[test]
fn what_policies_and_registries_ask_about_is_needed_and_what_they_cannot_say_is_refused() {
    use crate::policy::{Claimant, Method, NameForm, RegistryKind, Rule, condition};
    let claimant = |claim: &str| Claimant {
        name: "estate".into(),
        kind: RegistryKind::Estate,
        claims: [condition(claim).unwrap()].into(),
        methods: vec![Method::Password],
        called: NameForm::default(),
    };
    let mut rule = Rule::everyone("realm");
    rule.when.extend([condition("realm=skerry.example").unwrap(), condition("first-sign-in=no").unwrap()]);
    rule.when.insert(crate::policy::Asks::Tunnel, vec!["ikev2".into()]);
    (rule.terms.again_after, rule.terms.pool) = (Some(3600), Some("10.187.44.128/26".parse().unwrap()));
    let policies = OrderPolicies {
        list: vec![rule],
        site: "harbour".into(),
        zone: "Europe/Oslo".into(),
        registries: vec![claimant("realm=skerry.example")],
    };
    let content = Content { policies: Some(policies.clone()), ..sample::content() };
    let needs = content.needs();
    for need in ["registries", "policy realm", "policy first-sign-in", "term sign-in-again", "term pool"] {
        assert!(needs.contains(need), "{need}: {needs:?}");
    }
    assert!(policies.registries().unwrap().is_some());
    let mut bad = claimant("realm=skerry.example");
    bad.claims.insert(crate::policy::Asks::Realm, vec!["no realm".into()]);
    assert!(OrderPolicies { registries: vec![bad], ..policies.clone() }.registries().is_err());
    // Without any, nothing is said of them, and an older agent takes the order.
    let plain = Content { policies: Some(OrderPolicies { registries: vec![], ..policies }), ..content };
    assert!(!plain.needs().contains("registries"));
    assert!(!serde_json::to_string(&plain).unwrap().contains("registries"));
}

/// What stands there in a form of later is refused by its name, and not as damaged or, worse, passed over.
#[test]
fn what_an_order_needs_and_is_not_known_is_refused_by_name() {
    let order = envelope(13, "x").read().unwrap();
    assert_eq!(order.needs.iter().map(String::as_str).collect::<Vec<_>>(), ["proof key", "tunnel quill"]);
    let text = envelope(13, "x").order;
    let with = |text: String| Envelope {
        order: text,
        signature: String::new(),
        successor_signature: None,
        amendments: Vec::new(),
    };
    for text in [
        text.replace(r#""needs":["#, r#""needs":["weather","#),
        text.replace(r#""needs":["#, r#""needs":["proof dance","#).replace(r#""by":"key""#, r#""by":"dance""#),
    ] {
        let refused = with(text).read().unwrap_err();
        assert!(refused.error.contains("\"weather\"") || refused.error.contains("\"proof dance\""), "{refused:?}");
    }
}

#[test]
fn a_newer_format_is_named() {
    let newer = Envelope {
        order: r#"{"format":"yestrel order 9","extra":1}"#.into(),
        signature: String::new(),
        successor_signature: None,
        amendments: Vec::new(),
    };
    assert!(newer.read().unwrap_err().error.contains("yestrel order 9"));
}

mod from_the_estate {
    use super::*;
    use crate::admission::ProofKind;
    use crate::estate::{Credential, Listener, Permit, Reach, Revocation, SharedSecret, User, UserState};
    use crate::sample::{gateway, key_pair, listener, site, user};
    use crate::tunnel::{Addresses, Other, Tunnel};

    fn made(listeners: &[Listener], credentials: &[Credential], users: &[User], revocations: &[Revocation]) -> Content {
        let shared_secrets: &[SharedSecret] = &[];
        let permits: Vec<Permit> =
            credentials.iter().filter(|one| one.revoked.is_none()).cloned().map(Permit::from).collect();
        let suspended = users.iter().filter(|user| user.state == UserState::Suspended);
        let extract = Extract {
            holds: None,
            peers: &[],
            gateway: &gateway(),
            site: &site(),
            listeners,
            permits: &permits,
            shared_secrets,
            suspended: &suspended.map(|user| user.name.clone()).collect(),
            revocations,
            published: &[],
            authorities: &[],
            policies: &[],
            registries: &[],
            used: &std::collections::HashSet::new(),
            groups: &Default::default(),
            platforms: &Default::default(),
            now: at(),
        };
        content(&extract).unwrap()
    }

    proptest! {
        /// Equal estates give equal bytes, in whatever sequence a database lists things.
        #[test]
        fn the_sequence_of_rows_does_not_matter(order in Just((0..6_usize).collect::<Vec<_>>()).prop_shuffle()) {
            let names = ["mara", "tomas", "ines", "oskar", "astrid", "jorun"];
            let listeners = [listener("harbour/quill", 44, Reach::Site), listener("harbour/second", 45, Reach::Everything)];
            let all: Vec<_> = names.iter().zip(1..).map(|(name, key)| key_pair(name, key, &["harbour/second", "harbour/quill"])).collect();
            let users: Vec<_> = names.iter().map(|name| user(name, UserState::Active)).collect();
            let shuffled: Vec<_> = order.iter().map(|at| all[*at].clone()).collect();
            let turned: Vec<_> = listeners.iter().rev().cloned().collect();
            let (one, other) = (made(&listeners, &all, &users, &[]), made(&turned, &shuffled, &users, &[]));
            prop_assert_eq!(super::super::canonical(&one), super::super::canonical(&other));
            prop_assert_eq!(one.admit.len(), 12);
        }
    }

    /// Accounts and shared secrets stand in an order only where a listener takes them, and never in clear.
    #[test]
    fn secrets_of_people_stand_in_an_order_only_sealed_and_only_where_they_are_needed() {
        let account = sample::account("ines", 5, &["harbour"]);
        let users = [user("ines", UserState::Active)];
        let mut listeners = [listener("harbour/quill", 44, Reach::Site)];
        assert!(made(&listeners, std::slice::from_ref(&account), &users, &[]).admit.is_empty(), "quill takes none");
        listeners[0].tunnel = Tunnel::Other(Other {
            kind: "later".into(),
            proofs: vec![ProofKind::Account],
            addresses: Addresses::Leased,
            needs: vec![],
            settings: serde_json::Map::new(),
        });
        let made = made(&listeners, std::slice::from_ref(&account), &users, &[]);
        let crate::admission::Proof::Account { name, password, .. } = &made.admit[0].proof else { panic!() };
        let text = super::super::canonical(&made);
        assert!(text.contains("ines.laptop") && !text.contains("argon2"), "{text}");
        let opened = password.open(&sample::gateway_pair().private, &crate::admission::account_purpose(name)).unwrap();
        assert_eq!(opened.reveal(), account.account().unwrap().password.as_bytes());
    }

    #[test]
    fn only_what_belongs_to_the_gateway_is_in_its_order() {
        let listeners = [listener("harbour/quill", 44, Reach::Site), listener("boatyard/quill", 61, Reach::Site)];
        let mut gone = key_pair("tomas", 2, &["harbour/quill"]);
        gone.revoked = Some(at());
        let credentials =
            [key_pair("mara", 1, &["harbour/quill", "boatyard/quill"]), gone, key_pair("ines", 3, &["boatyard/quill"])];
        let users = [user("mara", UserState::Suspended), user("ines", UserState::Active)];
        let revocation = |device: &str, key: u8, gateway: &str| Revocation {
            name: PublicKey([key; 32]).to_string(),
            device: device.into(),
            reason: "lost".into(),
            at: at(),
            gateways: vec![gateway.into()],
        };
        let revocations = [revocation("tomas/laptop", 2, "harbour"), revocation("oskar/laptop", 9, "boatyard")];
        let content = made(&listeners, &credentials, &users, &revocations);
        assert_eq!(content.listeners.iter().map(|l| l.name.as_str()).collect::<Vec<_>>(), ["harbour/quill"]);
        assert_eq!(content.listeners[0].reach, site().networks.iter().rev().copied().collect::<Vec<_>>(), "sorted");
        let admitted: Vec<_> = content.admit.iter().map(|admit| (admit.device.as_str(), admit.suspended)).collect();
        assert_eq!(admitted, [("mara/laptop", true)]);
        assert_eq!(
            content.revoked.values().map(|revoked| revoked.device.as_str()).collect::<Vec<_>>(),
            ["tomas/laptop"]
        );
    }
}

#[test]
fn the_difference_says_what_a_person_asked_for() {
    let (old, mut new) = (sample(), sample());
    assert_eq!(difference(Some(&old), &new), []);
    new.admit.remove(1);
    new.admit.push(admit("ines/phone", 9));
    new.revoked
        .insert(PublicKey([2; 32]).to_string(), Revoked { device: "tomas/tablet".into(), reason: "lost".into() });
    new.listeners[0].serves = vec!["4500/udp".parse().unwrap()];
    let words: Vec<_> = difference(Some(&old), &new).into_iter().map(|c| format!("{} {}", c.verb, c.words)).collect();
    assert_eq!(
        words,
        [
            "change listener harbour/quill: port 23817 -> 4500",
            "admit ines/phone",
            "revoke tomas/tablet  (lost)",
            "ports opens 4500/udp; closes 23817/udp",
        ]
    );
    let first: Vec<_> = difference(None, &sample()).into_iter().map(|change| change.verb).collect();
    assert_eq!(first, ["add", "admit", "admit", "ports"]);
}
