//! What is remembered of how somebody signed in, as long as policies may ask about it.

use std::collections::HashMap;
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
    /// Who has signed in here.
    seen: RwLock<Seen>,
}

/// Credentials that have signed in, each with what its device was called then: another credential of it is no new device.
#[derive(Debug, Default)]
struct Seen {
    credentials: HashMap<PublicKey, String>,
    /// How many of them each device has.
    devices: HashMap<String, usize>,
}

impl Seen {
    fn add(&mut self, identity: PublicKey, device: String) -> bool {
        if self.credentials.contains_key(&identity) {
            return false;
        }
        *self.devices.entry(device.clone()).or_default() += 1;
        self.credentials.insert(identity, device);
        true
    }

    fn remove(&mut self, identity: &PublicKey) {
        let Some(device) = self.credentials.remove(identity) else { return };
        match self.devices.get_mut(&device) {
            Some(count) if *count > 1 => *count -= 1,
            _ => drop(self.devices.remove(&device)),
        }
    }

    fn has(&self, identity: &PublicKey, device: &str) -> bool {
        self.credentials.contains_key(identity) || self.devices.contains_key(device)
    }
}

impl Signs {
    /// With the credentials that have signed in here before the agent began to run, and their devices.
    pub fn new(before: impl IntoIterator<Item = (PublicKey, String)>) -> Self {
        let mut seen = Seen::default();
        for (identity, device) in before {
            seen.add(identity, device);
        }
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

    /// How somebody signs in who has no session yet; `new`: what their device is called, where it is new as the order in force says.
    pub fn coming(&self, identity: &PublicKey, new: Option<&str>) -> How {
        let realm = self.realms.lock().get(identity).cloned();
        How { realm, first: new.is_some_and(|device| !self.seen.read().has(identity, device)) }
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
    pub fn see(&self, identity: PublicKey, device: &str) -> bool {
        !self.seen.read().credentials.contains_key(&identity) && self.seen.write().add(identity, device.to_owned())
    }

    /// Forgets those credentials of whose devices the estate has heard, or that are gone; gives them.
    pub fn heard(&self, still_new: impl Fn(&PublicKey, &str) -> bool) -> Vec<PublicKey> {
        let mut seen = self.seen.write();
        let all = seen.credentials.iter();
        let gone: Vec<_> = all.filter(|(one, device)| !still_new(one, device)).map(|(one, _)| *one).collect();
        gone.iter().for_each(|identity| seen.remove(identity));
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
        let laptop = Some("mara/laptop");
        assert_eq!(signs.coming(&mara, None), How::default());
        let first = signs.coming(&mara, laptop);
        assert!(first.first);
        signs.begin(7, first.clone());
        // One that comes beside it, before it owes nothing any more, is first as well.
        assert!(signs.coming(&mara, laptop).first);
        assert!(signs.see(mara, "mara/laptop") && !signs.see(mara, "mara/laptop"));
        assert!(!signs.coming(&mara, laptop).first);
        // Nor is it with another credential, or under another name.
        assert!(!signs.coming(&PublicKey([2; 32]), laptop).first);
        assert!(!signs.coming(&mara, Some("mara/notebook")).first);
        assert!(signs.coming(&PublicKey([2; 32]), Some("mara/phone")).first);
        assert_eq!(signs.of(7), first);
        signs.end(7);
        assert_eq!(signs.of(7), How::default());
        // What the estate has heard of need not be remembered.
        assert_eq!(signs.heard(|_, _| true), []);
        assert_eq!(signs.heard(|_, device| device != "mara/laptop"), [mara]);
        assert!(signs.coming(&mara, laptop).first);
        assert!(!Signs::new([(mara, "mara/laptop".to_owned())]).coming(&mara, laptop).first);
    }

    #[test]
    fn a_session_has_the_realm_that_was_given_last_when_it_began() {
        let signs = Signs::default();
        let mara = PublicKey([1; 32]);
        signs.named(mara, Some("crew.skerry.example".into()));
        signs.begin(7, signs.coming(&mara, None));
        signs.named(mara, None);
        signs.begin(8, signs.coming(&mara, None));
        assert_eq!(signs.of(7).realm.as_deref(), Some("crew.skerry.example"));
        assert_eq!(signs.of(8).realm, None);
    }
}
