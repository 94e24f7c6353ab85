//! Secrets that several share: how old they are, who holds them, and what that calls for.

use jiff::{SignedDuration, Timestamp};

use crate::facts::{Finding, Grade};
use crate::moment;
use crate::nouns::SharedSecret;

/// Days after which a shared secret should be replaced.
pub const DUE_DAYS: i64 = 365;

impl SharedSecret {
    /// Where it stands at `now`: `ready`, `holds`, `overlaps`, `ended` or `revoked`.
    #[must_use]
    pub fn state(&self, now: Timestamp) -> &'static str {
        match (self.revoked, self.until, self.handed_over) {
            (Some(_), _, _) => "revoked",
            (_, Some(until), _) if until <= now => "ended",
            (_, Some(_), _) => "overlaps",
            (_, _, None) => "ready",
            _ => "holds",
        }
    }

    /// Whether it lets anybody in at `now`.
    #[must_use]
    pub fn holds(&self, now: Timestamp) -> bool {
        self.revoked.is_none() && self.until.is_none_or(|until| until > now)
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
    use crate::nouns::SealedSecret;

    #[test]
    fn age_and_holders_are_graded() {
        let now: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        let secret = |number, days: i64, until: Option<i64>| SharedSecret {
            name: format!("harbour/talon {number}"),
            holder: "harbour/talon".into(),
            number,
            secret: SealedSecret(String::new()),
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
