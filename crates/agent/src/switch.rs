//! Carrying orders out: prepares everything that can fail without harm, switches at once, holds what could cut its author off,
//! goes back whole.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use yestrel_core::exchange::NewsEvent;
use yestrel_core::exchange::agent::Receipt;
use yestrel_core::keys::KeyPair;
use yestrel_core::order::{self, Content, Envelope, Order, OrderListener, Revoked, SignedAmendment};
use yestrel_core::{Problem, Result, moment};
use yestrel_host::folder::Identity;

use crate::admit::InForce;
use crate::keep::Held;
use crate::run::Agent;
use crate::tunnels::{Ground, Kind, Tunnel};

impl Agent {
    /// Takes an order: learns its revocations in any case, carries it out if it may follow, and holds it where it could cut its
    /// author off.
    pub(crate) fn carry(&self, envelope: &Envelope, hold: u16) -> Result<Receipt> {
        let _one = self.change.lock();
        let identity = self.shared.keep.lock().identity()?.ok_or_else(|| {
            Problem::refused("this agent belongs to no estate yet").try_("yestrel rollout   adopts it first")
        })?;
        let order = identity.verify(envelope)?;
        if order.estate != identity.estate {
            return Err(Problem::refused("the order is of another estate").why(format!("its id is {}", order.estate)));
        }
        // Revocations are learned from anything that the estate signed, whatever becomes of the rest: also outside of
        // what is undone later.
        let mut ended = self.learn(&order.content.revoked);
        let hash = envelope.hash();
        let (held, confirmed) = {
            let keep = self.shared.keep.lock();
            (keep.held().cloned(), keep.order()?)
        };
        let current = held.as_ref().map(|held| held.envelope.clone()).or_else(|| confirmed.clone());
        let current = current.map(|envelope| Ok::<_, Problem>((envelope.read()?, envelope.hash()))).transpose()?;
        let standing = current.as_ref().map(|(order, hash)| (order, hash.as_str()));
        order::may_follow(standing, &order, &hash, &identity.gateway, &KeyPair::public_of(&identity.private_key)?)?;
        let number = order.number;
        // From here on the estate's new key counts, whatever becomes of the rest.
        if let Some(successor) = order.successor.filter(|successor| *successor != identity.estate_key) {
            self.shared.keep.lock().follow(&Identity {
                estate_key: successor,
                previous_key: Some(identity.estate_key),
                ..identity.clone()
            });
            tracing::info!("the estate has a new key");
        }
        let mut until = held.filter(|held| held.envelope.hash() == hash).map(|held| held.until);
        let in_force = self.shared.in_force().is_some_and(|in_force| in_force.hash == hash);
        if !in_force {
            self.not_over(&order.content, order.number, order.issued)?;
            let before = confirmed.map(|envelope| envelope.read()).transpose()?.map(|order| order.content);
            let touches = order::touches_the_way_in(before.as_ref(), &order.content);
            ended += self.switch(&identity, order, hash.clone())?;
            let mut keep = self.shared.keep.lock();
            if touches && hold > 0 {
                let end = Timestamp::now() + jiff::SignedDuration::from_secs(i64::from(hold));
                keep.set_held(Some(Held { envelope: envelope.clone(), until: end }));
                until = Some(end);
            } else {
                keep.set_order(envelope);
                keep.set_held(None);
            }
            drop(keep);
            self.shared.note(NewsEvent::Carried { order: number });
            ended += self.end_the_unwelcome();
            tracing::info!(order = number, ended, held = until.is_some(), "order carried out");
        } else {
            self.put_all_right()?;
        }
        let unkept = self.shared.keep.lock().unkept();
        Ok(Receipt { number, hash, at: Timestamp::now(), ended, held: until, unkept })
    }

    /// Takes an amendment to the order in force. It changes nothing but who is let in, so that it is never held; what it costs goes by what it
    /// changes.
    pub(crate) fn amend(&self, signed: &SignedAmendment) -> Result<Receipt> {
        let _one = self.change.lock();
        let (identity, held) = {
            let keep = self.shared.keep.lock();
            (keep.identity()?, keep.held().is_some())
        };
        let identity = identity.ok_or_else(|| Problem::refused("this agent belongs to no estate yet"))?;
        let amendment = identity.verify_amendment(signed)?;
        if (&amendment.estate, &amendment.gateway) != (&identity.estate, &identity.gateway) {
            return Err(Problem::refused("the amendment is for another gateway")
                .why(format!("this agent is the gateway {}", identity.gateway)));
        }
        let mut ended = self.learn(&amendment.revoked);
        let hash = signed.hash();
        let in_force = self.shared.in_force();
        match in_force.filter(|in_force| !held && (in_force.hash == hash || in_force.hash == amendment.previous)) {
            None => {
                return Err(Problem::refused(format!(
                    "amendment {} does not continue the order that is in force here",
                    amendment.number
                ))
                .why("another order is in force, or the one in force waits for its confirmation")
                .try_("yestrel rollout   carries the whole order"));
            }
            Some(in_force) if in_force.hash == hash => self.put_all_right()?,
            Some(in_force) => {
                if in_force.number.checked_add(1) != Some(amendment.number) {
                    return Err(Problem::refused(format!(
                        "amendment {} follows order {}",
                        amendment.number, in_force.number
                    )));
                }
                let issued = amendment.issued;
                self.not_over(in_force.roll.settings(), amendment.number, issued)?;
                let seats = self.shared.amend(&in_force, &amendment, hash.clone());
                self.shared.keep.lock().amend(signed);
                self.shared.note(NewsEvent::Carried { order: amendment.number });
                ended += self.end_those_unwelcome(seats);
                tracing::info!(order = amendment.number, ended, "order amended");
            }
        }
        let unkept = self.shared.keep.lock().unkept();
        Ok(Receipt { number: amendment.number, hash, at: Timestamp::now(), ended, held: None, unkept })
    }

    /// Learns revocations for good, and ends who is in by what they name. Gives how many sessions that ended.
    pub(crate) fn learn(&self, revoked: &BTreeMap<String, Revoked>) -> u64 {
        let learned = self.shared.keep.lock().learn(revoked);
        let seats = learned.iter().flat_map(|identity| self.shared.seats.of_identity(identity)).collect();
        self.end_those_unwelcome(seats)
    }

    /// An order that holds for a time and whose time is over when it arrives, also by the newest renewal, would let nobody in: one of the two
    /// clocks is wrong.
    fn not_over(&self, content: &Content, number: u64, issued: Timestamp) -> Result<()> {
        let Some((until, holds)) = self.shared.would_hold_until(content, number, issued) else { return Ok(()) };
        let now = Timestamp::now();
        if until > now {
            return Ok(());
        }
        Err(Problem::refused("the order has ended before it arrived")
            .why(format!(
                "it was made at {}, holds {}, and this host's clock says {}",
                moment(issued),
                order::for_seconds(holds),
                moment(now)
            ))
            .try_("set the clocks of this host and of the administrator's machine")
            .try_("yestrel estate change --orders-hold   with a longer time, or never"))
    }

    /// Keeps an order that was held.
    pub(crate) fn confirm(&self, hash: &str) -> Result<Receipt> {
        let _one = self.change.lock();
        let mut keep = self.shared.keep.lock();
        if let Some(held) = keep.held().filter(|held| held.envelope.hash() == hash).cloned() {
            keep.set_order(&held.envelope);
            keep.set_held(None);
            tracing::info!("order confirmed");
        }
        let unkept = keep.unkept();
        drop(keep);
        match self.shared.in_force().filter(|in_force| in_force.hash == hash) {
            Some(in_force) => Ok(Receipt {
                number: in_force.number,
                hash: hash.into(),
                at: Timestamp::now(),
                ended: 0,
                held: None,
                unkept,
            }),
            None => Err(Problem::refused("the order is not in force any more")
                .why("nobody confirmed it in time, so the one before is in force again")
                .try_("yestrel rollout   again")),
        }
    }

    /// Goes back to the order before when nobody has confirmed the one in force in time.
    pub(crate) fn undo_if_unconfirmed(&self) -> Result<()> {
        let due = |held: &Held| held.until <= Timestamp::now();
        if !self.shared.keep.lock().held().is_some_and(due) {
            return Ok(());
        }
        let _one = self.change.lock();
        let (held, before, identity) = {
            let keep = self.shared.keep.lock();
            (keep.held().filter(|held| due(held)).cloned(), keep.order()?, keep.identity()?)
        };
        let (Some(held), Some(identity)) = (held, identity) else { return Ok(()) };
        match before {
            Some(envelope) => {
                let order = identity.verify_kept(&envelope)?;
                self.switch(&identity, order, envelope.hash())?;
            }
            None => self.undo_everything()?,
        }
        let order = held.envelope.read().map_or(0, |order| order.number);
        self.shared.keep.lock().set_held(None);
        self.shared.note(NewsEvent::Undone { order });
        tracing::warn!(order, "nobody confirmed the order over a new connection; it is undone");
        self.end_the_unwelcome();
        Ok(())
    }

    /// Brings the machine to what the order says: first everything that can fail without harm, then the switch.
    /// Gives how many sessions that ended, because where they came in is closed.
    pub(crate) fn switch(&self, identity: &Identity, order: Order, hash: String) -> Result<u64> {
        let content: &Content = &order.content;
        if content.public_key != KeyPair::public_of(&identity.private_key)? {
            return Err(Problem::refused("the order is for another key than this gateway has")
                .why("the agent was adopted with a key that the estate has replaced")
                .try_("yestrel rollout   hands the new key over first"));
        }
        let kinds = content.listeners.iter().map(|listener| self.kind_of(listener)).collect::<Result<Vec<_>>>()?;
        let plane = match self.shared.plane() {
            Some(plane) => plane,
            None => {
                // Kept whatever becomes of the order, so that no second one is made beside it.
                let plane = self.new_plane(content)?;
                *self.shared.plane.write() = Some(plane.clone());
                plane
            }
        };
        plane.check(content)?;
        self.check_certificate(content)?;
        content.policies.as_ref().map(order::OrderPolicies::ready).transpose()?;
        content.policies.as_ref().map(order::OrderPolicies::registries).transpose()?;
        // New ports first: a busy one refuses the whole order while everything is as before.
        let mut listeners = self.listeners.lock();
        let before = self.shared.in_force();
        let names = before.map(|before| order::renames(before.roll.settings(), content)).unwrap_or_default();
        // Those that also go on running.
        let mut renamed = names.clone();
        renamed.retain(|old, new| {
            let now = content.listeners.iter().find(|listener| listener.name == *new);
            listeners.get(old).zip(now).is_some_and(|(running, now)| running.serves(now))
        });
        let now = |name: &String| renamed.get(name).unwrap_or(name).clone();
        let serves = |listener: &OrderListener| {
            listeners.iter().any(|(name, running)| now(name) == listener.name && running.serves(listener))
        };
        let stays = |name: &String, running: &dyn Tunnel| {
            let name = now(name);
            content.listeners.iter().any(|listener| listener.name == name && running.serves(listener))
        };
        let leaving: Vec<_> =
            listeners.iter().filter(|(name, running)| !stays(name, &***running)).map(|(_, one)| one.clone()).collect();
        let ground = Ground { shared: self.shared.clone(), identity: identity.clone(), bind: self.options.bind };
        let mut fresh: BTreeMap<String, Arc<dyn Tunnel>> = BTreeMap::new();
        let new = content.listeners.iter().zip(&kinds).filter(|(listener, _)| !serves(listener));
        let opened = new.into_iter().try_for_each(|(listener, kind)| {
            fresh.insert(listener.name.clone(), kind.open(listener, &ground, &leaving)?);
            Ok(())
        });
        let switched = opened.and_then(|()| self.switch_plane(&plane, content));
        if let Err(problem) = switched {
            fresh.values().for_each(|listener| listener.close());
            drop(listeners);
            return Err(self.gone_back(problem));
        }
        self.shared.keep.lock().set_plane(plane.kind());
        let (metrics, gone) = (content.metrics, leaving);
        let content = order.content.clone();
        self.shared.set_in_force(Some(InForce::new(order, hash).with_renamed(renamed.clone().into_iter().collect())));
        let mut ended = 0;
        for listener in gone {
            let name = listener.called().now();
            ended += self.shared.seats.all().iter().filter(|seat| seat.listener() == name).count() as u64;
            listeners.remove(&*name);
            listener.close();
        }
        Self::rename(&mut listeners, &renamed);
        self.shared.rename_leases(&names);
        if content.gateway != identity.gateway {
            tracing::info!(before = identity.gateway, now = content.gateway, "this gateway is called something else");
            self.shared.keep.lock().follow(&Identity { gateway: content.gateway.clone(), ..identity.clone() });
        }
        listeners.extend(fresh);
        for listener in listeners.values() {
            listener.refresh();
        }
        drop(listeners);
        self.export_metrics(metrics);
        self.put_out(&content);
        Ok(ended)
    }

    /// Listeners go on under other names, with everybody who is in.
    fn rename(listeners: &mut BTreeMap<String, Arc<dyn Tunnel>>, renamed: &BTreeMap<String, String>) {
        // Each is taken out before any is put in: two may have changed names with each other.
        let moved: Vec<_> = renamed.iter().filter_map(|(old, new)| Some((new, listeners.remove(old)?))).collect();
        for (new, listener) in moved {
            tracing::info!(before = &*listener.called().now(), now = new, "listener renamed");
            listener.called().rename(new);
            listeners.insert(new.clone(), listener);
        }
    }

    /// After a switch that failed half-way: what the order in force says of addresses, firewall and forwarding is there again, or it is
    /// said that it is not.
    fn gone_back(&self, problem: Problem) -> Problem {
        let back = match (self.shared.in_force(), self.shared.plane()) {
            (Some(in_force), Some(plane)) => self.switch_plane(&plane, in_force.roll.settings()),
            (None, Some(plane)) => {
                let before = self.shared.keep.lock().before().ok().flatten();
                plane.undo(before.map(|before| before.forwarded()))
            }
            (_, None) => Ok(()),
        };
        match back {
            Ok(()) => problem,
            Err(not) => problem.try_(format!("what was there before is not all back: {}", not.line())),
        }
    }

    /// The kind of a listener's tunnel.
    fn kind_of(&self, listener: &OrderListener) -> Result<Arc<dyn Kind>> {
        let word = listener.tunnel.word();
        self.options.kinds.iter().find(|kind| kind.word() == word).cloned().ok_or_else(|| {
            Problem::refused(format!("this agent has no tunnel {word:?}"))
                .why(format!("the order opens {} with it; this agent is of another version", listener.name))
                .try_("yestrel rollout --upgrade-now   brings it to the version of the command")
        })
    }
}
