//! A plan that looks at those of whom something has changed is the plan that looks at everybody, and so is the order that comes of it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::sync::Arc;

use proptest::prelude::*;
use yestrel_actions::credential::{self, Whose, Wish as CredentialWish};
use yestrel_actions::listener::{self, Wish as ListenerWish};
use yestrel_actions::people::{self, Wish as UserWish};
use yestrel_actions::policy::{self, Leaves};
use yestrel_actions::rollout::{self, How, plan};
use yestrel_actions::{Context, estate, gateway, rename, site};
use yestrel_core::Problem;
use yestrel_core::estate::{Gateway, Host, HostKind, User, UserState, Via};
use yestrel_core::order::Part;
use yestrel_core::policy::{Asks, Effect, Listed, Rule, condition};
use yestrel_store::queries::kept_out_at;

/// Knows no secret and accepts no key.
struct NoPerson;

impl yestrel_actions::Person for NoPerson {
    fn secret(&self, what: &str) -> Result<zeroize::Zeroizing<String>, Problem> {
        Err(Problem::failed(what))
    }

    fn compares(&self, _: &str, _: yestrel_actions::Whose, _: &str, _: &str) -> Result<bool, Problem> {
        Ok(false)
    }

    fn progress(&self, _: &str, _: u64, _: u64) {}
}

fn opened(path: &std::path::Path) -> Context {
    Context::open(path, Box::new(|| Err(Problem::failed("nobody to ask"))), Arc::new(NoPerson)).unwrap()
}

struct World {
    folder: tempfile::TempDir,
    context: Context,
    copies: u32,
}

impl World {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("skerry");
        estate::create(&path, "skerry", None).unwrap();
        let mut context = opened(&path);
        let networks = Some(vec!["10.44.0.0/22".into()]);
        site::add(&mut context, "harbour", &site::Wish { networks, ..site::Wish::default() }).unwrap();
        let created = context.now;
        for name in ["harbour", "boatyard"] {
            let host = Host {
                name: name.into(),
                site: "harbour".into(),
                kind: HostKind::Cloud,
                via: Via::Lab("/nowhere".into()),
                access: Default::default(),
                facts: None,
                probed: None,
                leftover: None,
                users_at_once: None,
                created,
            };
            context.write(|book| book.add(&host)).unwrap();
            let dialled = Some(format!("{name}.skerry.example"));
            gateway::create(&mut context, name, name, &gateway::Wish { dialled, ..gateway::Wish::default() }).unwrap();
            for tunnel in ["first", "second"] {
                let wish = ListenerWish { name: Some(tunnel.into()), ..ListenerWish::default() };
                listener::open(&mut context, name, &wish).unwrap();
            }
        }
        people::add_group(&mut context, "crew", None, None).unwrap();
        let everyone = Listed { rule: Rule::everyone("everyone"), on: true, about: None };
        policy::add(&mut context, &everyone, &policy::Stand::Last, Leaves::Anything).unwrap();
        let mut world = Self { folder, context, copies: 0 };
        for device in ["mara/laptop", "tomas/tablet"] {
            world.device(device);
        }
        world.roll(None);
        world
    }

    fn device(&mut self, name: &str) {
        let user = name.split('/').next().unwrap();
        let _ = people::add_user(&mut self.context, user, &UserWish::default());
        let platform = name.ends_with("laptop").then(|| "Linux".to_owned());
        let _ = people::add_device(&mut self.context, name, platform);
        let at = vec!["harbour".to_owned(), "boatyard/second".to_owned()];
        let _ = credential::issue(&mut self.context, name, &CredentialWish { at, ..CredentialWish::default() });
    }

    /// A rollout, of which no agent hears; and then all is as if each had confirmed it.
    fn roll(&mut self, only: Option<Part>) {
        let about = only.as_ref().map(|only| only.devices.clone());
        rollout::rollout(&mut self.context, &[], &How { only, ..How::default() }).unwrap();
        let now = self.context.now;
        let confirm = |book: &yestrel_store::Book<'_>| {
            for gateway in book.all::<Gateway>()? {
                let number = book.newest_number(&gateway.name)?;
                book.order_received(&gateway.name, number, now)?;
                book.put(&Gateway { order_number: number, adopted: true, amends: true, ..gateway })?;
            }
            Ok(())
        };
        self.context.write(confirm).unwrap();
        // Whatever a rollout is about, no order is without a revocation that there is.
        let named = |book: &yestrel_store::Book<'_>| {
            for gateway in book.all::<Gateway>()? {
                let wanted = book.names::<yestrel_core::estate::Revocation>(&kept_out_at(&gateway.name))?;
                let envelope = book.envelope(&gateway.name, gateway.order_number)?.unwrap();
                let named: Vec<_> = envelope.read()?.content.revoked.into_keys().collect();
                assert_eq!(named, wanted, "{}", gateway.name);
                // Whatever list goes with it, an order says of those whom it is about what that list asks: else a refusal would not find them.
                let content = envelope.read()?.content;
                let list = content.policies.map(|policies| policies.list).unwrap_or_default();
                let asks = list.iter().any(|rule| rule.when.contains_key(&Asks::Group));
                for admit in
                    content.admit.iter().filter(|one| about.as_ref().is_none_or(|all| all.contains(&one.device)))
                {
                    let user: User = book.need(admit.device.split('/').next().unwrap())?;
                    let is_in = user.groups.contains(&"crew".to_owned());
                    assert!(!asks || is_in == admit.groups.contains(&"crew".to_owned()), "{admit:?} {user:?}");
                }
            }
            Ok(())
        };
        self.context.read(named).unwrap();
    }

    /// The plans for all gateways: as the estate makes them, and as they are where everybody is looked at.
    fn plans(&mut self) -> (serde_json::Value, serde_json::Value) {
        let few = plan::remembered(&mut self.context, &[], None).unwrap();
        self.copies += 1;
        let path = self.folder.path().join(format!("copy-{}", self.copies));
        self.context.copy_to(&path).unwrap();
        let mut other = opened(&path);
        other.now = self.context.now;
        let all = |book: &yestrel_store::Book<'_>| {
            book.all::<Gateway>()?.iter().try_for_each(|gateway| book.unsettled(&gateway.name))
        };
        other.write(all).unwrap();
        let whole = plan::remembered(&mut other, &[], None).unwrap();
        std::fs::remove_file(path).unwrap();
        (serde_json::to_value(few).unwrap(), serde_json::to_value(whole).unwrap())
    }
}

#[derive(Debug, Clone)]
enum Deed {
    Device(usize),
    Revoke(usize),
    Suspend(usize),
    Restore(usize),
    Renew(usize),
    Rename(usize, usize),
    Call(usize, usize),
    Remove(usize),
    Reach,
    GroupIn(usize),
    GroupOut(usize),
    /// A policy that asks about what there is more of in each.
    Asks(usize),
    AsksNoMore,
    Wait(i64),
    Roll,
    RollOnly(usize),
}

const DEVICES: [&str; 5] = ["mara/laptop", "mara/phone", "tomas/tablet", "ines/desk", "oskar/phone"];
const USERS: [&str; 5] = ["mara", "mara-n", "tomas", "ines", "oskar"];

fn deed() -> impl Strategy<Value = Deed> {
    let one = || 0_usize..5;
    prop_oneof![
        3 => one().prop_map(Deed::Device),
        3 => one().prop_map(Deed::Revoke),
        2 => one().prop_map(Deed::Suspend),
        2 => one().prop_map(Deed::Restore),
        2 => one().prop_map(Deed::Renew),
        1 => (one(), one()).prop_map(|(from, to)| Deed::Rename(from, to)),
        1 => (one(), one()).prop_map(|(from, to)| Deed::Call(from, to)),
        1 => one().prop_map(Deed::Remove),
        1 => Just(Deed::Reach),
        2 => one().prop_map(Deed::GroupIn),
        2 => one().prop_map(Deed::GroupOut),
        2 => (0_usize..3).prop_map(Deed::Asks),
        1 => Just(Deed::AsksNoMore),
        // Clocks go backwards as well, and commands are written in another order than they begin.
        1 => (-20_i64..40).prop_map(Deed::Wait),
        3 => Just(Deed::Roll),
        2 => one().prop_map(Deed::RollOnly),
    ]
}

fn does(world: &mut World, deed: &Deed) {
    let context = &mut world.context;
    // What is refused changes nothing, which is as good.
    match deed {
        Deed::Device(which) => world.device(DEVICES[*which]),
        Deed::Revoke(which) => {
            drop(credential::revoke(context, &Whose::Device(DEVICES[*which].into(), None), "lost", &mut |_, _| {}));
        }
        Deed::Suspend(which) => drop(people::set_user_state(context, USERS[*which], UserState::Suspended)),
        Deed::Restore(which) => drop(people::set_user_state(context, USERS[*which], UserState::Active)),
        Deed::Renew(which) => {
            drop(credential::renew(context, DEVICES[*which], None, &CredentialWish::default()));
        }
        Deed::Rename(from, to) => drop(rename::user(context, USERS[*from], USERS[*to])),
        Deed::Call(from, to) => drop(rename::device(context, DEVICES[*from], DEVICES[*to])),
        Deed::Remove(which) => drop(people::remove_device(context, DEVICES[*which])),
        Deed::Reach => {
            let wish = ListenerWish { keep_alive: Some(31), ..ListenerWish::default() };
            drop(listener::change(context, "harbour/first", &wish));
        }
        Deed::GroupIn(which) => {
            drop(people::change_group(context, "crew", None, None, &[USERS[*which].into()], &[]));
        }
        Deed::GroupOut(which) => {
            drop(people::change_group(context, "crew", None, None, &[], &[USERS[*which].into()]));
        }
        Deed::Asks(which) => {
            let when = ["group=crew", "platform=linux", "credential-age=over 9d"][*which];
            let when = [condition(when).unwrap()].into();
            let rule = Rule { effect: Effect::Refuse, when, ..Rule::everyone("asks") };
            drop(policy::remove(context, "asks", Leaves::Anything));
            let listed = Listed { rule, on: true, about: None };
            drop(policy::add(context, &listed, &policy::Stand::First, Leaves::Anything));
        }
        Deed::AsksNoMore => drop(policy::remove(context, "asks", Leaves::Anything)),
        Deed::Wait(days) => context.now += jiff::SignedDuration::from_hours(24 * days),
        Deed::Roll => world.roll(None),
        Deed::RollOnly(which) => {
            let devices = [DEVICES[*which].to_owned()].into();
            world.roll(Some(Part { devices, ..Part::default() }));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn what_changed_for_some_is_planned_and_ordered_as_if_everybody_were_looked_at(deeds in proptest::collection::vec(deed(), 1..14)) {
        let mut world = World::new();
        for deed in deeds {
            does(&mut world, &deed);
            let (few, whole) = world.plans();
            prop_assert_eq!(few, whole, "{:?}", deed);
        }
        world.roll(None);
        let (_, whole) = world.plans();
        for plan in whole.as_array().unwrap() {
            prop_assert_eq!(&plan["nothing_to_do"], &serde_json::Value::Bool(true), "{}", plan);
        }
    }
}
