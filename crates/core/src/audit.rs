//! The chain of the estate's history: each row's hash covers the row before, so that a row that is changed, missing
//! or out of place shows. What was signed of it, nobody without the estate's key can write anew.

use serde::{Deserialize, Serialize};

use crate::keys::{PublicKey, Secret, sha256_hex};
use crate::{Result, order};

/// One change of the estate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HistoryRow {
    /// From 1, without gaps.
    pub number: u64,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// System user and host, "astrid@bridge".
    pub who: String,
    /// The command's verb and noun, "user add".
    pub what: String,
    /// What it was about, "mara".
    pub subject: String,
    /// More, in words.
    pub detail: String,
    /// SHA-256 over the hash before and this row's fields.
    pub hash: String,
}

impl HistoryRow {
    /// The row with its hash, following a row with the hash `before` (empty for the first).
    #[must_use]
    pub fn chained(mut self, before: &str) -> Self {
        self.hash = self.expected(before);
        self
    }

    fn expected(&self, before: &str) -> String {
        let fields = [before, &self.number.to_string(), &self.at, &self.who, &self.what, &self.subject, &self.detail];
        // JSON strings cannot run into each other, whatever they contain.
        sha256_hex(&serde_json::to_vec(&fields).unwrap_or_default())
    }
}

/// Up to which row an estate's key has signed its history.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignedHead {
    pub number: u64,
    /// Of that row, and so of all before it.
    pub hash: String,
    /// The key that signed.
    pub key: PublicKey,
    /// Ed25519, base64.
    pub signature: String,
}

impl SignedHead {
    /// Signs a history up to its newest row.
    ///
    /// # Errors
    /// The key is damaged.
    pub fn sign(estate: &str, number: u64, hash: &str, key: &Secret) -> Result<Self> {
        let signature = order::sign_text(&message(estate, number, hash), key)?;
        Ok(Self { number, hash: hash.into(), key: order::signer(key)?, signature })
    }

    /// How this itself cannot be gone by: another key than one of `known` (the estate's, and those before it) signed it, or it was altered.
    fn doubtful(&self, estate: &str, known: &[PublicKey]) -> Option<(u64, String)> {
        let Self { number, hash, key, signature } = self;
        if !known.contains(key) {
            return Some((*number, "it is signed by a key that is not the estate's".into()));
        }
        let altered = order::check_text(&message(estate, *number, hash), signature, key).is_err();
        altered.then(|| (*number, "what is signed up to it was altered".into()))
    }
}

/// What is signed: it can be taken for no order.
fn message(estate: &str, number: u64, hash: &str) -> String {
    format!("history of the estate {estate}\nup to row {number}\n{hash}\n")
}

/// A walk along a history, row by row: where it first does not hold, and how.
#[derive(Debug, Default)]
pub struct Walk {
    before: String,
    count: u64,
    broken: Option<(u64, String)>,
    /// The number and hash up to which somebody signed, and whether the row of that number has that hash.
    signed: Option<(u64, String)>,
    fits: bool,
}

impl Walk {
    /// Along a history of which `signed` says how far it was signed.
    #[must_use]
    pub fn new(signed: Option<&SignedHead>) -> Self {
        Self { signed: signed.map(|signed| (signed.number, signed.hash.clone())), ..Self::default() }
    }

    /// The next row. One that has no hash of its own, because it follows one of the same command, is noticed where the next that has one stands.
    pub fn row(&mut self, row: &HistoryRow) {
        self.count += 1;
        if self.broken.is_none() {
            if row.number != self.count {
                let words = format!("it is missing, or out of place: row {} stands there", row.number);
                self.broken = Some((self.count, words));
            } else if !row.hash.is_empty() && row.hash != row.expected(&self.before) {
                self.broken = Some((self.count, "it is not as it was written, or one before it is not".into()));
            }
        }
        self.before = if row.hash.is_empty() { row.expected(&self.before) } else { row.hash.clone() };
        self.fits |= self.signed.as_ref().is_some_and(|(number, hash)| *number == self.count && *hash == self.before);
    }

    /// How many rows there were.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.count
    }

    /// At the end; `head` is the number and hash of the newest row, kept apart from the history.
    #[must_use]
    pub fn end(&self, head: Option<&(u64, String)>) -> Option<(u64, String)> {
        let count = self.count;
        self.broken.clone().or_else(|| match head {
            Some((number, _)) if *number > count => {
                Some((count + 1, format!("rows up to {number} were cut off the end")))
            }
            Some((_, hash)) if *hash != self.before => Some((count, "it is not the row that was written last".into())),
            None if count > 0 => Some((count, "it was added by something else".into())),
            _ => None,
        })
    }

    /// How it does not fit what was signed; `known`: the estate's key, and those before it.
    #[must_use]
    pub fn differs(&self, signed: &SignedHead, estate: &str, known: &[PublicKey]) -> Option<(u64, String)> {
        let number = signed.number;
        signed.doubtful(estate, known).or_else(|| match (number >= 1 && number <= self.count, self.fits) {
            (true, true) => None,
            (true, false) => Some((number, "it is not the row that the estate's key signed".into())),
            (false, _) => Some((self.count + 1, format!("rows up to {number} were signed, and are missing"))),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rows(count: u64) -> Vec<HistoryRow> {
        let mut before = String::new();
        (1..=count)
            .map(|number| {
                let row = HistoryRow {
                    number,
                    at: "2027-03-02T08:15:00Z".into(),
                    who: "astrid@bridge".into(),
                    what: "user add".into(),
                    subject: format!("user-{number}"),
                    detail: String::new(),
                    hash: String::new(),
                }
                .chained(&before);
                before.clone_from(&row.hash);
                row
            })
            .collect()
    }

    fn walk(rows: &[HistoryRow], signed: Option<&SignedHead>) -> Walk {
        let mut walk = Walk::new(signed);
        rows.iter().for_each(|row| walk.row(row));
        walk
    }

    fn verify(rows: &[HistoryRow], head: Option<&(u64, String)>) -> Option<(u64, String)> {
        walk(rows, None).end(head)
    }

    fn differs(signed: &SignedHead, estate: &str, known: &[PublicKey], rows: &[HistoryRow]) -> Option<(u64, String)> {
        walk(rows, Some(signed)).differs(signed, estate, known)
    }

    #[test]
    fn what_was_signed_cannot_be_written_anew_without_the_key() {
        let (key, other) = (Secret::new(vec![5; 32]), Secret::new(vec![6; 32]));
        let known = [order::signer(&key).unwrap()];
        let rows = rows(7);
        let signed = SignedHead::sign("estate-1", 5, &rows[4].hash, &key).unwrap();
        assert_eq!(differs(&signed, "estate-1", &known, &rows), None);
        assert!(differs(&signed, "estate-2", &known, &rows).is_some());
        // The whole chain anew from row 3 on, and its head with it: only the signature tells.
        let mut forged = rows.clone();
        let mut before = forged[1].hash.clone();
        for row in &mut forged[2..] {
            row.who = "nobody".into();
            *row = row.clone().chained(&before);
            before.clone_from(&row.hash);
        }
        let last = forged.last().map(|row| (row.number, row.hash.clone()));
        assert_eq!(verify(&forged, last.as_ref()), None);
        assert_eq!(differs(&signed, "estate-1", &known, &forged).unwrap().0, 5);
        assert_eq!(differs(&signed, "estate-1", &known, &rows[..4]).unwrap().0, 5);
        let foreign = SignedHead::sign("estate-1", 5, &forged[4].hash, &other).unwrap();
        assert!(differs(&foreign, "estate-1", &known, &forged).is_some());
        let claimed = SignedHead { key: known[0], ..foreign };
        assert!(differs(&claimed, "estate-1", &known, &forged).is_some());
    }

    proptest! {
        #[test]
        fn any_tampering_shows(count in 2_usize..20, at in 0_usize..20, how in 0..4) {
            let good = rows(count as u64);
            let head = good.last().map(|row| (row.number, row.hash.clone()));
            prop_assert_eq!(verify(&good, head.as_ref()), None);
            let at = at % count;
            let mut bad = good.clone();
            match how {
                0 => bad[at].subject.push('x'),
                1 => { bad.swap(at, (at + 1) % count); }
                2 => bad[at].at = "2027-03-02T08:15:01Z".into(),
                _ => { bad.remove(at); }
            }
            prop_assert!(verify(&bad, head.as_ref()).is_some());
            prop_assert!(verify(&good, None).is_some());
        }
    }
}
