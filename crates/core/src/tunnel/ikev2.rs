//! The tunnel that phones and computers have built in: IKEv2 and ESP (RFC 7296, 4303, 3948), and its settings.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::admission::ProofKind;
use crate::{Problem, Result, moment};

/// The word for it.
pub const WORD: &str = "ikev2";
/// Where clients send first, and where they go on behind translation: they dial no other ports (RFC 7296 section 2.23).
pub const PORTS: [u16; 2] = [500, 4500];
/// The settings that it alone has.
pub(super) const SETTINGS: [&str; 3] = ["accounts", "renew-after", "sha1-until"];
/// For how long SHA-1 can be allowed at a time.
const LONGEST_SHA1: SignedDuration = SignedDuration::from_hours(366 * 24);

/// Seconds after which this end makes keys anew: at least, at most.
const RENEWALS: std::ops::RangeInclusive<u32> = 10..=64_800;

/// What this kind alone knows.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ikev2 {
    /// Accounts come in as well, by EAP with MS-CHAPv2.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub accounts: bool,
    /// Seconds after which the gateway makes the keys of packets anew, where the device has not; those of the association after twice as
    /// long. `None`: ten hours.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub renew_after: Option<u32>,
    /// Until then SHA-1 is taken in proofs by RSA keys (RFC 7296 section 3.8, method 1), for clients that know nothing better.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha1_until: Option<Timestamp>,
}

impl Ikev2 {
    /// By what devices come in.
    #[must_use]
    pub fn proofs(&self) -> &'static [ProofKind] {
        if self.accounts { &[ProofKind::Certificate, ProofKind::Account] } else { &[ProofKind::Certificate] }
    }

    /// Whether SHA-1 is taken in proofs at `now`.
    #[must_use]
    pub fn takes_sha1(&self, now: Timestamp) -> bool {
        self.sha1_until.is_some_and(|until| now < until)
    }

    /// Whether a listener that runs as one goes on as the other: what is dated changes nothing for who is in.
    #[must_use]
    pub fn goes_on_as(&self, other: &Self) -> bool {
        Self { sha1_until: None, ..self.clone() } == Self { sha1_until: None, ..other.clone() }
    }

    /// Takes one of its settings.
    ///
    /// # Errors
    /// Not that value.
    pub(super) fn set(&mut self, name: &str, value: &str) -> Option<Result<()>> {
        match name {
            "accounts" => {
                self.accounts = value == "yes";
                Some(Ok(()))
            }
            "sha1-until" if value == "none" => {
                self.sha1_until = None;
                Some(Ok(()))
            }
            "sha1-until" => Some(sha1_until(value, Timestamp::now()).map(|until| self.sha1_until = Some(until))),
            "renew-after" => {
                let seconds = value.parse().ok().filter(|seconds| RENEWALS.contains(seconds));
                let wrong = || {
                    Problem::words(format!("keys cannot be made anew after {value} s"))
                        .why("10 seconds to 18 hours; without it ten hours, after clients do it by themselves")
                };
                Some(seconds.ok_or_else(wrong).map(|seconds| self.renew_after = Some(seconds)))
            }
            _ => None,
        }
    }

    /// Its settings, for people.
    pub(super) fn settings(&self) -> Vec<(&'static str, String)> {
        let accounts = if self.accounts { "by ms-chap-v2" } else { "no" };
        let renewed = self.renew_after.map_or_else(|| "10h".to_owned(), |seconds| format!("{seconds}s"));
        let sha1 = match self.sha1_until {
            Some(until) if until > Timestamp::now() => {
                format!("until {}: signatures over it can be forged", moment(until))
            }
            Some(until) => format!("not any more, since {}", moment(until)),
            None => "no".into(),
        };
        vec![
            ("certificates", "yes".into()),
            ("accounts", accounts.into()),
            ("keys made anew after", renewed),
            ("sha-1 in proofs", sha1),
        ]
    }
}

fn sha1_until(value: &str, now: Timestamp) -> Result<Timestamp> {
    let wrong = |why: &str| {
        Problem::words(format!("SHA-1 cannot be taken until {value}"))
            .why(why.to_owned())
            .try_("a day within a year, by which the last such client is gone: --sha1-until 2027-03-31")
    };
    let until: Timestamp = value.parse().map_err(|_| wrong("that is no moment"))?;
    if until <= now {
        return Err(wrong("that is over"));
    }
    if until > now + LONGEST_SHA1 {
        return Err(wrong("it would be forgotten; a year at a time is the most"));
    }
    Ok(until)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sha1_is_taken_for_a_year_at_most_and_then_no_more() {
        let now: Timestamp = "2027-03-02T08:00:00Z".parse().unwrap();
        for (text, why) in
            [("soon", "no moment"), ("2027-03-02T07:59:59Z", "is over"), ("2028-04-01T00:00:00Z", "a year at a time")]
        {
            assert!(sha1_until(text, now).unwrap_err().line().contains(why), "{text}");
        }
        let until = sha1_until("2027-06-01T00:00:00Z", now).unwrap();
        let own = Ikev2 { sha1_until: Some(until), ..Ikev2::default() };
        assert!(own.takes_sha1(now) && !own.takes_sha1(until) && !Ikev2::default().takes_sha1(now));
        assert!(own.goes_on_as(&Ikev2::default()) && !own.goes_on_as(&Ikev2 { accounts: true, ..own.clone() }));
    }
}
