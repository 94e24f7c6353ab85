//! INFORMATIONAL exchanges (RFC 7296 section 1.4), and where the other end is: translation that changes (section 2.23), devices that say that
//! they have moved (RFC 4555) and show that they are there.

use std::net::SocketAddr;

use super::gateway::Gateway;
use super::message::{Chain, Head, Notification, PROTOCOL_IKE, Payload, deleted, emit_deleted, kind, notify};
use super::state::{Door, Event, Phase, Reason, Sa, Todo};
use crate::Moment;

impl Gateway {
    /// INFORMATIONAL (section 1.4).
    pub(super) fn inform(
        &mut self,
        now: Moment,
        door: Door,
        from: SocketAddr,
        head: &Head,
        sa: &mut Sa,
        inner: &[Payload<'_>],
    ) -> bool {
        let (mut chain, mut goodbye, mut gone) = (Chain::default(), false, Vec::new());
        for payload in inner {
            match payload.kind {
                kind::DELETE => match deleted(payload.body) {
                    Ok((PROTOCOL_IKE, _)) => goodbye = true,
                    Ok((_, spis)) => gone.extend(spis),
                    Err(_) => {}
                },
                kind::NOTIFY => {
                    let Ok(said) = Notification::read(payload.body) else { continue };
                    match said.what {
                        notify::COOKIE2 if said.data.len() <= 64 => chain.notify(notify::COOKIE2, said.data),
                        // MOBIKE (RFC 4555 section 3.5): it is where this came from.
                        notify::UPDATE_SA_ADDRESSES => {
                            if let Some(session) = sa.session()
                                && self.sessions.get(&session).is_some_and(|session| session.mobike)
                            {
                                self.set_path(session, from);
                                self.say_addresses(&mut chain, sa.spis(), from);
                            }
                        }
                        _ => {}
                    }
                }
                _ => {}
            }
        }
        if let Some(session) = sa.session()
            && !gone.is_empty()
        {
            // What the other end names is under what it receives; what goes with it is told in the answer.
            let own = self.drop_pairs(now, session, |pair| gone.contains(&pair.other));
            if !own.is_empty() {
                chain.add(kind::DELETE, &emit_deleted(&own));
            }
        }
        self.respond(door, from, head, sa, &chain);
        if !goodbye {
            return true;
        }
        match sa.session() {
            // An association that another has taken over from goes alone.
            Some(session) if self.sessions.get(&session).is_some_and(|one| one.sa == sa.own) => {
                self.end_session(session, Reason::Closed, "");
            }
            _ => self.ungreet(sa.own),
        }
        if matches!(sa.phase, Phase::Calling(_)) {
            self.call_failed(sa.own, Reason::Closed, "the other end broke off");
        }
        self.over(now, sa);
        true
    }

    /// A device that has moved answers from there; one that says something else back is not there.
    pub(super) fn returned(&mut self, now: Moment, sa: &mut Sa, drawn: &[u8], inner: &[Payload<'_>]) -> bool {
        let notes = inner.iter().filter(|payload| payload.kind == kind::NOTIFY);
        let mut notes = notes.filter_map(|payload| Notification::read(payload.body).ok());
        let same = notes.any(|note| note.what == notify::COOKIE2 && note.data == drawn);
        let Some(session) = sa.session().filter(|_| !same) else { return true };
        self.end_session(session, Reason::Other, "it does not answer from where it says that it is");
        Self::want(sa, Todo::Goodbye);
        self.over(now, sa);
        true
    }

    /// Translation has changed where the device seems to be (RFC 7296 section 2.23); a device that says where it is does so by itself.
    pub(super) fn moved_by_message(&mut self, door: Door, from: SocketAddr, head: &Head, sa: &mut Sa) {
        if door != Door::Second || sa.path.get() == from {
            return;
        }
        match sa.session() {
            Some(session) if !head.response => {
                if self.set_path(session, from) {
                    Self::want(sa, Todo::Return);
                }
            }
            Some(_) => {}
            // Between the first exchange and the second the port changes.
            None => sa.path.set(from),
        }
    }

    /// A packet that is the newest of a session came from elsewhere.
    pub fn moved(&mut self, now: Moment, session: u64, to: SocketAddr) {
        if self.set_path(session, to) {
            self.with_sa_of(now, session, |sa| Self::want(sa, Todo::Return));
        }
    }

    /// A session goes on at another address; whether its device is to show that it is there (RFC 4555 section 3.7): who was there in truth
    /// would get all that it is sent. Clients without MOBIKE do not know the question.
    fn set_path(&mut self, number: u64, to: SocketAddr) -> bool {
        let Some(session) = self.sessions.get(&number).filter(|session| session.path.get() != to) else { return false };
        session.path.set(to);
        self.events.push(Event::Moved { session: number, to });
        session.mobike && !session.called
    }
}
