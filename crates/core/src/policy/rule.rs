//! One policy as it decides, and the terms of an admission.

use std::collections::BTreeSet;
use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net};
use serde::{Deserialize, Serialize};

use super::asks::{Asks, Conditions, Values, in_words};
use super::hours::span;
use crate::tunnel::{ikev2, quill};
use crate::{Problem, Result};

/// What a policy does with whoever its conditions are about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Effect {
    Admit,
    Refuse,
}

impl Effect {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Admit => "admit",
            Self::Refuse => "refuse",
        }
    }
}

/// With which limits somebody is admitted. What is not named is not limited.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Terms {
    /// Seconds without an inner packet after which a session ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub idle: Option<u32>,
    /// Seconds after which a session ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<u32>,
    /// Sessions of one user at once, this one with them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user_sessions: Option<u16>,
    /// Sessions of one device at once, this one with them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device_sessions: Option<u16>,
    /// Bits a second that a device may send inwards at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upload: Option<u64>,
    /// Bits a second that it is sent at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub download: Option<u64>,
    /// Who is in stays in when the hours, dates or age by which they were admitted are over.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub stay: bool,
    /// At most this may be reached, within what the listener lets be reached.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reach: Option<Vec<IpNet>>,
    /// In place of the listener's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub resolvers: Vec<IpAddr>,
    /// Whoever comes in is asked for the code of a second factor, and nothing passes before it is answered.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub second_factor: bool,
    /// Seconds after which a second factor is asked for again; without it, in each session once. Where none is asked for, seconds after which
    /// whoever is in must have signed in again (RFC 4478).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub again_after: Option<u32>,
    /// An inner address is leased from this part of the listener's pool, and to nobody else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<Ipv4Net>,
}

/// Bits a second that a rate can be.
const RATES: std::ops::RangeInclusive<u64> = 64_000..=100_000_000_000;

/// A rate in Mbit/s, with as many places as it needs.
#[must_use]
pub fn megabits(bits: u64) -> String {
    let text = format!("{}.{:06}", bits / 1_000_000, bits % 1_000_000);
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// Reads a rate in Mbit/s, "20" or "0.5".
#[must_use]
pub fn rate(text: &str) -> Option<u64> {
    let (whole, part) = text.split_once('.').unwrap_or((text, "0"));
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    let right = digits(whole) && digits(part) && part.len() <= 6;
    let bits = whole.parse::<u64>().ok()?.checked_mul(1_000_000)?.checked_add(format!("{part:0<6}").parse().ok()?)?;
    Some(bits).filter(|bits| right && RATES.contains(bits))
}

/// Seconds that an idle time or a session time has at least: less would be over before it was looked at.
pub const SHORTEST: u32 = 10;

impl Terms {
    /// What each is called.
    pub const NAMES: [&str; 13] = [
        "idle",
        "session",
        "user-sessions",
        "device-sessions",
        "upload",
        "download",
        "stay",
        "reach",
        "resolvers",
        "second-factor",
        "again-after",
        "sign-in-again",
        "pool",
    ];

    /// Whether nothing is limited.
    #[must_use]
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    /// Which there are, each by its name.
    #[must_use]
    pub fn names(&self) -> Vec<&'static str> {
        let Self { idle, session, user_sessions, device_sessions, upload, download, stay, reach, resolvers, .. } = self;
        let there = [
            idle.is_some(),
            session.is_some(),
            user_sessions.is_some(),
            device_sessions.is_some(),
            upload.is_some(),
            download.is_some(),
            *stay,
            reach.is_some(),
            !resolvers.is_empty(),
            self.second_factor,
            self.again_after.is_some(),
            self.anew().is_some(),
            self.pool.is_some(),
        ];
        Self::NAMES.into_iter().zip(there).filter(|(_, there)| *there).map(|(name, _)| name).collect()
    }

    /// Seconds after which whoever is in must have signed in again, where no second factor is asked for instead.
    #[must_use]
    pub fn anew(&self) -> Option<u32> {
        self.again_after.filter(|_| !self.second_factor)
    }

    /// Each limit in words.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let Self { idle, session, user_sessions, device_sessions, upload, download, stay, reach, resolvers, .. } = self;
        let list = |all: Vec<String>| all.join(",");
        let each = [
            session.map(|seconds| format!("for {} at most", span(seconds))),
            idle.map(|seconds| format!("until idle for {}", span(seconds))),
            user_sessions.map(|count| format!("{count} at once of a user")),
            device_sessions.map(|count| format!("{count} at once of a device")),
            upload.map(|bits| format!("{} Mbit/s up", megabits(bits))),
            download.map(|bits| format!("{} Mbit/s down", megabits(bits))),
            stay.then(|| "stays when the time is over".into()),
            reach.as_ref().map(|ranges| match ranges.is_empty() {
                true => "reaches nothing but the gateway".into(),
                false => format!("reaches {} at most", list(ranges.iter().map(ToString::to_string).collect())),
            }),
            (!resolvers.is_empty())
                .then(|| format!("resolvers {}", list(resolvers.iter().map(ToString::to_string).collect()))),
            self.second_factor.then(|| match self.again_after {
                Some(seconds) => format!("asks for a second factor, again after {}", span(seconds)),
                None => "asks for a second factor".into(),
            }),
            self.anew().map(|seconds| format!("signs in again after {}", span(seconds))),
            self.pool.map(|pool| format!("an address of {pool}")),
        ];
        each.into_iter().flatten().collect()
    }

    /// Checks that they can be kept.
    ///
    /// # Errors
    /// A time is too short, or a count is none.
    pub fn check(&self) -> Result<()> {
        for (what, seconds) in [("idle time", self.idle), ("session time", self.session)] {
            if seconds.is_some_and(|seconds| seconds < SHORTEST) {
                return Err(Problem::words(format!("the {what} is too short"))
                    .why(format!("sessions are looked at every few seconds: it is {SHORTEST}s or more")));
            }
        }
        match self.again_after {
            Some(seconds) if seconds < 60 && self.second_factor => {
                return Err(Problem::words("a second factor is asked for again too soon")
                    .why("each code of an authenticator is good for half a minute: it is 1m or more"));
            }
            Some(seconds) if seconds < 60 => {
                return Err(Problem::words("whoever is in would sign in again too soon").why("it is 1m or more"));
            }
            _ => {}
        }
        if [self.upload, self.download].into_iter().flatten().any(|bits| !RATES.contains(&bits)) {
            return Err(Problem::words("a rate is out of its range").why("it is 0.064 to 100000 Mbit/s"));
        }
        if self.user_sessions == Some(0) || self.device_sessions == Some(0) {
            return Err(Problem::words("no session at once is no admission")
                .try_("yestrel policy add NAME refuse   for one that lets nobody in"));
        }
        Ok(())
    }
}

/// One policy as it decides.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub name: String,
    pub effect: Effect,
    /// All must hold, each by any of its values.
    #[serde(default, skip_serializing_if = "Conditions::is_empty")]
    pub when: Conditions,
    /// None may hold, by any of its values.
    #[serde(default, skip_serializing_if = "Conditions::is_empty")]
    pub unless: Conditions,
    #[serde(default, skip_serializing_if = "Terms::is_none")]
    pub terms: Terms,
}

/// A policy as the list keeps it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    pub rule: Rule,
    /// One that is off stays in the list, and decides nothing.
    pub on: bool,
    /// For people.
    pub about: Option<String>,
}

impl Rule {
    /// A policy that admits every valid credential.
    #[must_use]
    pub fn everyone(name: &str) -> Self {
        Self {
            name: name.into(),
            effect: Effect::Admit,
            when: Conditions::new(),
            unless: Conditions::new(),
            terms: Terms::default(),
        }
    }

    /// Every condition in words, in the order in which they are gone through.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let mut words = Vec::new();
        for asks in Asks::ALL {
            words.extend(self.when.get(&asks).map(|values| in_words(asks, values, false)));
            words.extend(self.unless.get(&asks).map(|values| in_words(asks, values, true)));
        }
        words
    }

    /// What it asks about.
    pub fn asks(&self) -> impl Iterator<Item = Asks> + '_ {
        self.when.keys().chain(self.unless.keys()).copied()
    }

    /// Reads its conditions and terms.
    ///
    /// # Errors
    /// One of them is none, or a refusal has terms.
    pub fn check(&self) -> Result<()> {
        for (asks, texts) in self.when.iter().chain(&self.unless) {
            Values::read(*asks, texts)?;
        }
        if self.effect == Effect::Refuse && !self.terms.is_none() {
            return Err(Problem::words(format!("the policy {} refuses, and has limits", self.name))
                .why("limits are those of an admission")
                .try_("yestrel policy add NAME admit"));
        }
        let only_by =
            |word: &str| self.when.get(&Asks::Tunnel).is_some_and(|all| all.iter().all(|tunnel| tunnel == word));
        if self.terms.anew().is_some() && !only_by(ikev2::WORD) {
            return Err(Problem::words(format!("the policy {} asks for something again where nothing was asked", self.name))
                .why("by quill a device proves who it is anew with every renewal of its keys, every two minutes; only by ikev2 it would sign in again")
                .try_("--second-factor beside it   and the code of that is asked for again")
                .try_("--when tunnel=ikev2   and whoever is in signs in again")
                .try_("--session 8h   ends a session after so long"));
        }
        if self.terms.pool.is_some() && !only_by(ikev2::WORD) {
            return Err(Problem::words(format!(
                "the policy {} gives addresses where they are given already",
                self.name
            ))
            .why("by quill a device has the address that came with its credential; only ikev2 leases one at sign-in")
            .try_("--when tunnel=ikev2   and another policy for the others"));
        }
        if self.terms.second_factor && !only_by(quill::WORD) {
            return Err(Problem::words(format!("the policy {} asks for a second factor where nobody can be asked", self.name))
                .why("a password that signs in by ikev2 comes alone: the protocol has no question after it; only the tunnel quill asks")
                .try_("--when tunnel=quill   and another policy for the others"));
        }
        self.terms.check()
    }

    /// What whoever decides by it must know, each by its name.
    #[must_use]
    pub fn needs(&self) -> BTreeSet<String> {
        let asks = self.asks().map(|asks| format!("policy {asks}"));
        asks.chain(self.terms.names().into_iter().map(|name| format!("term {name}"))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_is_read_as_it_is_shown() {
        for (text, bits) in [("20", 20_000_000), ("0.064", 64_000), ("100000", 100_000_000_000), ("1.5", 1_500_000)] {
            assert_eq!(rate(text), Some(bits), "{text}");
            assert_eq!(megabits(bits), text);
        }
        for text in ["", "0", "0.01", "-1", "1e3", "1.", ".5", "100001", "1.0000001", "20M", "99999999999999999999"] {
            assert_eq!(rate(text), None, "{text}");
        }
    }
}
