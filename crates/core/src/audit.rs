//! The chain of the estate's history: each row's hash covers the row before, so that a row that is changed, missing
//! or out of place shows.

use serde::{Deserialize, Serialize};

use crate::keys::sha256_hex;

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

/// Where a history first does not hold: the number that should stand there.
#[must_use]
pub fn first_broken(rows: &[HistoryRow]) -> Option<u64> {
    let mut before = String::new();
    for (row, number) in rows.iter().zip(1..) {
        if row.number != number || row.hash != row.expected(&before) {
            return Some(number);
        }
        before.clone_from(&row.hash);
    }
    None
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

    proptest! {
        #[test]
        fn any_tampering_shows(count in 2_usize..20, at in 0_usize..20, how in 0..4) {
            let good = rows(count as u64);
            prop_assert_eq!(first_broken(&good), None);
            let at = at % count;
            let mut bad = good.clone();
            match how {
                0 => bad[at].subject.push('x'),
                1 => { bad.swap(at, (at + 1) % count); }
                2 => bad[at].at = "2027-03-02T08:15:01Z".into(),
                _ => { bad.remove(at); }
            }
            // Cutting the newest row off is the one thing a chain alone cannot show.
            prop_assume!(!(how == 3 && at == count - 1));
            prop_assert!(first_broken(&bad).is_some());
        }
    }
}
