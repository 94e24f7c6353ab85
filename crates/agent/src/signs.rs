//! What is remembered of how somebody signed in, as long as policies may ask about it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use parking_lot::{Mutex, RwLock};
use yestrel_core::keys::PublicKey;

/// How somebody signed in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct How {
    /// The realm of the name that was given.
    pub realm: Option<Arc<str>>,
    /// The device had not signed in before.
    pub first: bool,
}

/// What is remembered of sign-ins. Most sessions leave nothing here.
#[derive(Debug, Default)]
pub(crate) struct Signs {
    /// Of sessions that are up, by number.
    sessions: RwLock<HashMap<u64, How>>,
    /// The realms that were given last, by the identities of accounts.
    realms: Mutex<HashMap<PublicKey, Arc<str>>>,
    /// Credentials that have signed in here.
    seen: RwLock<HashSet<PublicKey>>,
}

impl Signs {
    /// With the credentials that have signed in here before the agent began to run.
    pub fn new(seen: HashSet<PublicKey>) -> Self {
        Self { seen: RwLock::new(seen), ..Self::default() }
    }

    /// An account has shown that it is one, by a name of this realm.
    pub fn named(&self, identity: PublicKey, realm: Option<String>) {
        let mut realms = self.realms.lock();
        match realm {
            Some(realm) => drop(realms.insert(identity, realm.into())),
            None => drop(realms.remove(&identity)),
        }
    }

    /// How somebody signs in who has no session yet, whose device is new or not as the order in force says.
    pub fn coming(&self, identity: &PublicKey, new: bool) -> How {
        let realm = self.realms.lock().get(identity).cloned();
        How { realm, first: new && !self.seen.read().contains(identity) }
    }

    /// How the session came to be that has this number.
    pub fn of(&self, session: u64) -> How {
        self.sessions.read().get(&session).cloned().unwrap_or_default()
    }

    /// A session begins.
    pub fn begin(&self, session: u64, how: How) {
        if how != How::default() {
            self.sessions.write().insert(session, how);
        }
    }

    /// A session is over.
    pub fn end(&self, session: u64) {
        if !self.sessions.read().is_empty() {
            self.sessions.write().remove(&session);
        }
    }

    /// A credential has signed in and owes nothing. Whether that is new here.
    pub fn see(&self, identity: PublicKey) -> bool {
        !self.seen.read().contains(&identity) && self.seen.write().insert(identity)
    }

    /// Forgets those credentials of which the estate has heard, or that are gone; gives them.
    pub fn heard(&self, still_new: impl Fn(&PublicKey) -> bool) -> Vec<PublicKey> {
        let mut seen = self.seen.write();
        let gone: Vec<_> = seen.iter().filter(|identity| !still_new(identity)).copied().collect();
        seen.retain(still_new);
        gone
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_sign_in_is_one_until_the_session_ends_and_never_again() {
        let signs = Signs::default();
        let mara = PublicKey([1; 32]);
        assert_eq!(signs.coming(&mara, false), How::default());
        let first = signs.coming(&mara, true);
        assert!(first.first);
        signs.begin(7, first.clone());
        // One that comes beside it, before it owes nothing any more, is first as well.
        assert!(signs.coming(&mara, true).first);
        assert!(signs.see(mara) && !signs.see(mara));
        assert!(!signs.coming(&mara, true).first);
        assert_eq!(signs.of(7), first);
        signs.end(7);
        assert_eq!(signs.of(7), How::default());
        // What the estate has heard of need not be remembered.
        assert_eq!(signs.heard(|_| true), []);
        assert_eq!(signs.heard(|_| false), [mara]);
        assert!(Signs::new([mara].into()).coming(&mara, true).first.eq(&false));
    }

    #[test]
    fn a_session_has_the_realm_that_was_given_last_when_it_began() {
        let signs = Signs::default();
        let mara = PublicKey([1; 32]);
        signs.named(mara, Some("crew.skerry.example".into()));
        signs.begin(7, signs.coming(&mara, false));
        signs.named(mara, None);
        signs.begin(8, signs.coming(&mara, false));
        assert_eq!(signs.of(7).realm.as_deref(), Some("crew.skerry.example"));
        assert_eq!(signs.of(8).realm, None);
    }
}
