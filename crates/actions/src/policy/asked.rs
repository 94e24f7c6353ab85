//! What policies ask of people, which an order must say of them.

use std::collections::{BTreeSet, HashMap, HashSet};

use yestrel_core::Result;
use yestrel_core::estate::{Device, Policy, User};
use yestrel_core::policy::{Asks, Rule};
use yestrel_store::queries::Used;
use yestrel_store::{Book, Link, Query};

/// The policies that are on, and what they ask of people beside their names.
pub(crate) struct Asked {
    /// In their order.
    pub rules: Vec<Rule>,
    groups: BTreeSet<String>,
    platforms: bool,
    first_sign_ins: bool,
}

/// The list as it stands, in its order.
pub(crate) fn in_order(book: &Book<'_>) -> Result<Vec<Policy>> {
    book.ask(&Query { by: Some("place"), ..Query::default() })
}

impl Asked {
    /// As the estate stands.
    pub fn read(book: &Book<'_>) -> Result<Self> {
        let rules: Vec<Rule> = in_order(book)?.into_iter().filter(|one| one.active).map(|one| one.rule()).collect();
        Ok(Self { rules, groups: BTreeSet::new(), platforms: false, first_sign_ins: false }.and_of(&[]))
    }

    /// With what these policies ask as well: those of an order that goes on.
    pub fn and_of(mut self, also: &[Rule]) -> Self {
        for rule in self.rules.iter().chain(also) {
            let named = [&rule.when, &rule.unless].into_iter().filter_map(|all| all.get(&Asks::Group));
            self.groups.extend(named.flatten().cloned());
            self.platforms |= rule.asks().any(|asks| asks == Asks::Platform);
            self.first_sign_ins |= rule.asks().any(|asks| asks == Asks::FirstSignIn);
        }
        self
    }

    /// The groups of all users who are in one that a policy names.
    pub fn all_groups(&self, book: &Book<'_>) -> Result<HashMap<String, Vec<String>>> {
        let mut all: HashMap<String, Vec<String>> = HashMap::new();
        // In the order of their names, so that each user's are in it too.
        for group in &self.groups {
            for user in book.names::<User>(&Query { linked: Some((Link::Members, group)), ..Query::default() })? {
                all.entry(user).or_default().push(group.clone());
            }
        }
        Ok(all)
    }

    /// The platforms of all devices, where a policy asks for them.
    pub fn all_platforms(&self, book: &Book<'_>) -> Result<HashMap<String, String>> {
        let mut all = HashMap::new();
        if self.platforms {
            book.each(&Query { having: Some("platform"), ..Query::default() }, |device: Device| {
                all.extend(device.platform.map(|platform| (device.name, platform.to_lowercase())));
                Ok(true)
            })?;
        }
        Ok(all)
    }

    /// The devices that have signed in anywhere, where a policy asks for that.
    pub fn all_used(&self, book: &Book<'_>) -> Result<HashSet<String>> {
        let mut all = HashSet::new();
        if self.first_sign_ins {
            book.each(&Query { having: Some("first_used"), ..Query::default() }, |used: Used| {
                all.insert(used.device);
                Ok(true)
            })?;
        }
        Ok(all)
    }

    /// Whether a device has signed in anywhere, where a policy asks for that.
    pub fn used_of(&self, book: &Book<'_>, device: &str, into: &mut HashSet<String>) -> Result<()> {
        if self.first_sign_ins {
            let theirs: Vec<Used> = book.find(&[("device", device.into())])?;
            into.extend(theirs.into_iter().filter(|one| one.first_used.is_some()).map(|one| one.device));
        }
        Ok(())
    }

    /// Those of the groups of a user that a policy names.
    pub fn groups_of(&self, user: User, into: &mut HashMap<String, Vec<String>>) {
        let mut named: Vec<_> = user.groups.into_iter().filter(|group| self.groups.contains(group)).collect();
        named.sort();
        if !named.is_empty() {
            into.insert(user.name, named);
        }
    }

    /// The platform of a device, where a policy asks for it.
    pub fn platform_of(&self, book: &Book<'_>, device: &str, into: &mut HashMap<String, String>) -> Result<()> {
        if self.platforms
            && let Some(platform) = book.get::<Device>(device)?.and_then(|device| device.platform)
        {
            into.insert(device.to_owned(), platform.to_lowercase());
        }
        Ok(())
    }
}
