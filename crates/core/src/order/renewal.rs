//! Renewals: the estate says which order is each gateway's newest, so that an order that holds only for a time goes on. An agent without its
//! newest order is renewed by none.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::signed::{canonical, check_text, sign_text};
use crate::keys::{PublicKey, Secret};
use crate::{Problem, Result};

/// The format that this code writes and reads.
pub const RENEWAL: &str = "yestrel renewal 1";

/// What an estate says at one moment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Renewal {
    pub format: String,
    /// The estate's id.
    pub estate: String,
    pub at: Timestamp,
    /// The number of each gateway's newest order.
    pub orders: BTreeMap<String, u64>,
}

/// A renewal on its way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignedRenewal {
    pub renewal: String,
    /// Ed25519 (RFC 8032), base64.
    pub signature: String,
}

impl SignedRenewal {
    /// Signs what is so at a moment.
    ///
    /// # Errors
    /// The signing key is damaged.
    pub fn sign(estate: &str, at: Timestamp, orders: BTreeMap<String, u64>, key: &Secret) -> Result<Self> {
        let renewal = canonical(&Renewal { format: RENEWAL.into(), estate: estate.into(), at, orders });
        Ok(Self { signature: sign_text(&renewal, key)?, renewal })
    }

    /// Reads it if `signer` signed it, for this estate.
    ///
    /// # Errors
    /// Somebody else signed it, it is of another estate, or of a format that is not known.
    pub fn verify(&self, signer: &PublicKey, estate: &str) -> Result<Renewal> {
        check_text(&self.renewal, &self.signature, signer)?;
        let strange = || Problem::refused("the renewal cannot be read").why(format!("this version reads {RENEWAL:?}"));
        let renewal: Renewal = serde_json::from_str(&self.renewal).map_err(|_| strange())?;
        match renewal.format == RENEWAL && renewal.estate == estate {
            true => Ok(renewal),
            false => Err(strange()),
        }
    }
}

/// Until when an order holds, made at `issued` for `holds` seconds, with the newest renewal that its agent has. A renewal counts where it
/// names this order, or an older one, as the gateway's newest.
#[must_use]
pub fn holds_until(gateway: &str, number: u64, issued: Timestamp, holds: u32, newest: Option<&Renewal>) -> Timestamp {
    let renews = |renewal: &&Renewal| renewal.orders.get(gateway).is_some_and(|wanted| *wanted <= number);
    let from = newest.filter(renews).map_or(issued, |renewal| renewal.at.max(issued));
    from.checked_add(SignedDuration::from_secs(holds.into())).unwrap_or(Timestamp::MAX)
}

/// Whether it is time to say that an order ends: a third of its time is left, or less.
#[must_use]
pub fn ends_soon(until: Timestamp, holds: u32, now: Timestamp) -> bool {
    until.duration_since(now) <= SignedDuration::from_secs(i64::from(holds) / 3)
}

/// How long so many seconds are, in the largest units that fit.
#[must_use]
pub fn for_seconds(seconds: u32) -> String {
    match seconds {
        days if days.is_multiple_of(86_400) => format!("{} days", days / 86_400),
        hours if hours.is_multiple_of(3600) => format!("{} hours", hours / 3600),
        seconds => format!("{seconds} s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(hour: i8) -> Timestamp {
        jiff::civil::date(2027, 3, 2).at(hour, 0, 0, 0).to_zoned(jiff::tz::TimeZone::UTC).unwrap().timestamp()
    }

    fn renewal(hour: i8, number: u64) -> Renewal {
        let orders = BTreeMap::from([("harbour".to_owned(), number)]);
        Renewal { format: RENEWAL.into(), estate: "id".into(), at: at(hour), orders }
    }

    #[test]
    fn an_order_goes_on_by_a_renewal_that_knows_none_newer() {
        let until = |newest: Option<Renewal>| holds_until("harbour", 7, at(2), 3600, newest.as_ref());
        assert_eq!(until(None), at(3));
        assert_eq!(until(Some(renewal(5, 7))), at(6));
        assert_eq!(until(Some(renewal(5, 6))), at(6), "the estate had not heard of it yet");
        assert_eq!(until(Some(renewal(5, 8))), at(3), "a newer order did not come");
        assert_eq!(until(Some(renewal(1, 7))), at(3), "an old renewal shortens nothing");
        assert_eq!(holds_until("ferry", 7, at(2), 3600, Some(&renewal(5, 7))), at(3), "of another gateway");
        assert!(!ends_soon(at(6), 3 * 3600, at(4)) && ends_soon(at(6), 3 * 3600, at(5)));
    }

    #[test]
    fn a_renewal_is_the_estates_or_nothing() {
        let (key, other) = (Secret::new(vec![9; 32]), Secret::new(vec![8; 32]));
        let signer = super::super::signer(&key).unwrap();
        let signed = SignedRenewal::sign("id", at(5), renewal(5, 7).orders, &key).unwrap();
        assert_eq!(signed.verify(&signer, "id").unwrap(), renewal(5, 7));
        assert!(signed.verify(&signer, "another").is_err());
        assert!(SignedRenewal::sign("id", at(5), BTreeMap::new(), &other).unwrap().verify(&signer, "id").is_err());
        let altered = SignedRenewal { renewal: signed.renewal.replace(":7", ":1"), ..signed };
        assert!(altered.verify(&signer, "id").is_err());
    }
}
