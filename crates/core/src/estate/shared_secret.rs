//! Secrets that several share: how old they are, who holds them, and what that calls for.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::SealedSecret;
use crate::findings::{Finding, Grade};
use crate::keys::PublicKey;
use crate::moment;

/// Days after which a shared secret should be replaced.
pub const DUE_DAYS: i64 = 365;

/// A secret that several share: a listener's, or that of a link between two sites.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SharedSecret {
    /// `harbour/quill 2` or `boatyard+harbour 1`.
    pub name: String,
    /// `harbour/quill`, or two sites: `boatyard+harbour`.
    pub holder: String,
    pub number: u64,
    pub secret: SealedSecret,
    /// For the agent of the listener's gateway alone; none for a link.
    pub for_agent: Option<crate::sealed::Sealed>,
    pub issued: Timestamp,
    /// When it was shown; it is shown once.
    pub handed_over: Option<Timestamp>,
    /// A newer one stands in its place; it still holds until then.
    pub until: Option<Timestamp>,
    pub revoked: Option<Timestamp>,
    pub reason: Option<String>,
}

/// Where a shared secret stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SharedSecretState {
    /// Not shown yet.
    Ready,
    Holds,
    /// A newer one stands in its place, and it still holds.
    Overlaps,
    Ended,
    Revoked,
}

impl SharedSecretState {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ready => "ready",
            Self::Holds => "holds",
            Self::Overlaps => "overlaps",
            Self::Ended => "ended",
            Self::Revoked => "revoked",
        }
    }
}

impl SharedSecret {
    /// Where it stands at `now`.
    #[must_use]
    pub fn state(&self, now: Timestamp) -> SharedSecretState {
        match (self.revoked, self.until, self.handed_over) {
            (Some(_), _, _) => SharedSecretState::Revoked,
            (_, Some(until), _) if until <= now => SharedSecretState::Ended,
            (_, Some(_), _) => SharedSecretState::Overlaps,
            (_, _, None) => SharedSecretState::Ready,
            _ => SharedSecretState::Holds,
        }
    }

    /// Whether it lets anybody in at `now`.
    #[must_use]
    pub fn holds(&self, now: Timestamp) -> bool {
        self.revoked.is_none() && self.until.is_none_or(|until| until > now)
    }

    /// By this gateways know it: SHA-256 of its name.
    #[must_use]
    pub fn identity(&self) -> PublicKey {
        use sha2::Digest as _;
        PublicKey(sha2::Sha256::digest(self.name.as_bytes()).into())
    }

    /// Whole days since it was made.
    #[must_use]
    pub fn age_days(&self, now: Timestamp) -> i64 {
        now.duration_since(self.issued).max(SignedDuration::ZERO).as_hours() / 24
    }
}

/// What a checkup says of the secrets of one holder; `count` is how many devices or ends hold them.
#[must_use]
pub fn findings(secrets: &[SharedSecret], count: usize, now: Timestamp) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut say = |grade, subject: &str, words: String, try_: Option<String>| {
        found.push(Finding { grade, subject: subject.into(), words, try_ });
    };
    let Some(newest) = secrets.iter().filter(|one| one.holds(now)).max_by_key(|one| one.number) else { return found };
    let renew = Some(format!("yestrel credential renew {} --kind shared-secret", newest.holder));
    let age = newest.age_days(now);
    match age {
        age if age >= DUE_DAYS => say(Grade::Bad, "age", format!("{age} days old; a year is the most"), renew.clone()),
        age if age >= DUE_DAYS * 3 / 4 => say(Grade::Poor, "age", format!("{age} days old"), renew.clone()),
        age => say(Grade::Good, "age", format!("{age} days old"), None),
    }
    let words = format!("{count} hold it; whoever leaves takes it along");
    if count > 2 {
        let better = "credentials of their own: yestrel credential issue USER/DEVICE".to_owned();
        say(Grade::Poor, "holders", words, Some(better));
    } else {
        say(Grade::Good, "holders", format!("{count} hold it"), None);
    }
    for old in secrets.iter().filter(|one| one.holds(now) && one.number < newest.number) {
        let until = old.until.map_or_else(|| "for ever".into(), moment);
        say(Grade::Poor, "overlap", format!("number {} still holds, until {until}", old.number), None);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn age_and_holders_are_graded() {
        let now: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        let secret = |number, days: i64, until: Option<i64>| SharedSecret {
            name: format!("harbour/quill {number}"),
            holder: "harbour/quill".into(),
            number,
            secret: SealedSecret(String::new()),
            for_agent: None,
            issued: now - SignedDuration::from_hours(24 * days),
            handed_over: Some(now),
            until: until.map(|days| now + SignedDuration::from_hours(24 * days)),
            revoked: None,
            reason: None,
        };
        let grades = |secrets: &[SharedSecret], count| -> Vec<_> {
            findings(secrets, count, now).into_iter().map(|one| (one.subject, one.grade)).collect()
        };
        let cases =
            [(10, 2, Grade::Good, Grade::Good), (300, 3, Grade::Poor, Grade::Poor), (400, 40, Grade::Bad, Grade::Poor)];
        for (days, count, age, holders) in cases {
            let expected = [("age".to_owned(), age), ("holders".to_owned(), holders)];
            assert_eq!(grades(&[secret(1, days, None)], count), expected);
        }
        let overlap = grades(&[secret(1, 400, Some(3)), secret(2, 1, None)], 2);
        assert_eq!(overlap.last(), Some(&("overlap".to_owned(), Grade::Poor)));
        assert!(grades(&[secret(1, 400, Some(-1))], 2).is_empty(), "what has ended is nobody's concern");
    }
}
