//! The tunnel that phones and computers have built in: IKEv2 and ESP (RFC 7296, 4303, 3948), and its settings.

use serde::{Deserialize, Serialize};

use crate::admission::ProofKind;
use crate::{Problem, Result};

/// The word for it.
pub const WORD: &str = "ikev2";
/// Where clients send first, and where they go on behind translation: they dial no other ports (RFC 7296 section 2.23).
pub const PORTS: [u16; 2] = [500, 4500];
/// The settings that it alone has.
pub(super) const SETTINGS: [&str; 2] = ["accounts", "renew-after"];

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
}

impl Ikev2 {
    /// By what devices come in.
    #[must_use]
    pub fn proofs(&self) -> &'static [ProofKind] {
        if self.accounts { &[ProofKind::Certificate, ProofKind::Account] } else { &[ProofKind::Certificate] }
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
        vec![("certificates", "yes".into()), ("accounts", accounts.into()), ("keys made anew after", renewed)]
    }
}
