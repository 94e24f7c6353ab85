//! The handover: everything one device needs, in one file that a person can read.

use std::str::FromStr;

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::keys::{PublicKey, Secret};
use crate::tunnel::WayIn;
use crate::{Problem, Result, name};

/// The format that this code writes and reads.
pub const FORMAT: &str = "yestrel handover 3";
/// How many ways of before are remembered.
const MOST_BEFORE: usize = 8;
/// No handover is longer; a longer file is something else.
pub const LONGEST: usize = 64 * 1024;

/// One path by which the device may come in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HandoverWay {
    pub gateway: String,
    /// The name or address dialled.
    pub address: String,
    /// The port that is dialled first.
    pub port: u16,
    /// The most that the device will ever send into the tunnel.
    pub reach: Vec<IpNet>,
    /// Names in these domains are asked of the gateway's resolvers, where not everything goes through the tunnel.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub domains: Vec<String>,
    /// The kind of tunnel, and what it needs besides: keys of this table like the others.
    #[serde(flatten)]
    pub tunnel: WayIn,
}

/// An account that the device signs in with, where a way takes one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HandoverAccount {
    pub name: String,
    /// Absent when a person chose it; they are asked for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
}

/// A certificate that the device proves itself with, where a way takes one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HandoverCertificate {
    /// DER in base64, leaf first.
    pub chain: Vec<String>,
    /// PKCS#8; absent when the key was made on the device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub private_key: Option<Secret>,
}

/// What a device is given: its credentials, at most one of each kind, and the ways in that they open.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Handover {
    pub format: String,
    /// The estate's name.
    pub estate: String,
    /// The device, `mara/laptop`.
    pub holder: String,
    #[serde(with = "toml_time")]
    pub issued: Timestamp,
    #[serde(default, with = "toml_time_option", skip_serializing_if = "Option::is_none")]
    pub expires: Option<Timestamp>,
    /// Ed25519 (RFC 8032): what the estate signs way notices with.
    pub estate_key: PublicKey,
    /// The newest way notice of which it knows; 0 for none.
    #[serde(default)]
    pub notice: u32,
    /// X25519. Absent when the key was made on the device, whose own program puts it in, or when no way takes one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device_key: Option<Secret>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<HandoverAccount>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<HandoverCertificate>,
    #[serde(rename = "way")]
    pub ways: Vec<HandoverWay>,
    /// The ways of before each notice that was taken, the newest last; they stand in no file.
    #[serde(skip)]
    pub before: Vec<HandoverWay>,
}

/// What one device is told later of its ways in: a way notice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Notice {
    pub format: String,
    /// The estate's name.
    pub estate: String,
    /// The device, `mara/laptop`.
    pub holder: String,
    /// The public key of the credential that it belongs to.
    pub identity: PublicKey,
    /// Counts up with every notice for one credential: an older one changes nothing any more.
    pub number: u32,
    pub made: Timestamp,
    /// The estate's key that signs the next.
    pub estate_key: PublicKey,
    /// Every way in, in place of those before.
    pub ways: Vec<HandoverWay>,
}

/// TOML has a date and time type of its own; moments are written in it.
mod toml_time {
    use super::{FromStr, Timestamp};
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub fn serialize<S: Serializer>(at: &Timestamp, serializer: S) -> Result<S::Ok, S::Error> {
        toml::value::Datetime::from_str(&at.to_string()).map_err(serde::ser::Error::custom)?.serialize(serializer)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Timestamp, D::Error> {
        let at = toml::value::Datetime::deserialize(deserializer)?;
        at.to_string().parse().map_err(serde::de::Error::custom)
    }
}

mod toml_time_option {
    use super::Timestamp;
    use serde::{Deserializer, Serializer};

    pub fn serialize<S: Serializer>(at: &Option<Timestamp>, serializer: S) -> Result<S::Ok, S::Error> {
        match at {
            Some(at) => super::toml_time::serialize(at, serializer),
            None => serializer.serialize_none(),
        }
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Timestamp>, D::Error> {
        super::toml_time::deserialize(deserializer).map(Some)
    }
}

impl Handover {
    /// The file's text.
    ///
    /// # Errors
    /// A moment outside what TOML can write.
    pub fn write(&self) -> Result<String> {
        let gateways: Vec<_> = self.ways.iter().map(|way| format!("{:?}", way.gateway)).collect();
        let password = self.account.as_ref().is_some_and(|account| account.password.is_some());
        let certified = self.certificate.as_ref().is_some_and(|certificate| certificate.private_key.is_some());
        let warning = if self.device_key.is_some() || certified {
            "It holds a private key: whoever has this file can come in."
        } else if password {
            "It holds a password: whoever has this file can come in."
        } else {
            "The private key is not in it: the device that made the key adds it as device_key."
        };
        let noun = if gateways.len() == 1 { "gateway" } else { "gateways" };
        let body = toml::to_string(self)
            .map_err(|error| Problem::failed("the handover cannot be written").why(error.to_string()))?;
        Ok(format!("# Lets {} into the {noun} {}. {warning}\n{body}", self.holder, gateways.join(", ")))
    }

    /// Reads a file's text and checks it.
    ///
    /// # Errors
    /// Not a handover, one of a newer format, cut short, or with values that nothing could come of.
    pub fn read(text: &str) -> Result<Self> {
        #[derive(Deserialize)]
        struct Format {
            format: Option<String>,
        }
        let not = |why: String| {
            Problem::words("this is not a handover that can be used").why(why).try_(
                "ask for it again: yestrel credential renew, then yestrel credential handover, on the administrator's machine",
            )
        };
        if text.len() > LONGEST {
            return Err(not(format!("it is longer than {LONGEST} bytes")));
        }
        // An error of the parser quotes the line it stumbles over, and that line may be the key.
        let Format { format } = toml::from_str(text).map_err(|_| not("its text is cut short or altered".into()))?;
        match format.as_deref() {
            Some(FORMAT) => {}
            Some(other) if other.starts_with("yestrel handover ") => {
                return Err(Problem::words(format!("this handover has the format {other:?}"))
                    .why(format!("this version reads {FORMAT:?}"))
                    .try_("install a newer yestrel on this device"));
            }
            _ => return Err(not(format!("it does not say format = {FORMAT:?}"))),
        }
        let handover: Self =
            toml::from_str(text).map_err(|error| not(format!("a value is missing or wrong: {}", error.message())))?;
        handover.check().map_err(|problem| not(problem.error))?;
        Ok(handover)
    }

    /// Takes what a notice says that was opened for it. Gives what is another now, in words.
    ///
    /// # Errors
    /// Nothing could come of what it says; then all is as before.
    pub fn take(&mut self, notice: Notice) -> Result<Vec<String>> {
        let words = differences(&self.ways, &notice.ways);
        let mut taken =
            Self { ways: notice.ways, notice: notice.number, estate_key: notice.estate_key, ..self.clone() };
        taken.before.extend(self.ways.iter().cloned());
        let old = taken.before.len().saturating_sub(MOST_BEFORE);
        taken.before.drain(..old);
        taken.check().map_err(|problem| Problem::refused("this notice cannot be used").why(problem.error))?;
        *self = taken;
        Ok(words)
    }

    /// The same ways where they were dialled before what the newest notice says, the last first: for when nobody answers there, because that change was
    /// taken back. Keys and reach are those of now, so that nobody answers who could not where they lead now.
    #[must_use]
    pub fn formerly(&self) -> Vec<HandoverWay> {
        let mut all: Vec<HandoverWay> = Vec::new();
        for old in self.before.iter().rev() {
            let same = |way: &&HandoverWay| way.gateway == old.gateway && way.tunnel.word() == old.tunnel.word();
            let Some(way) = self.ways.iter().find(same) else { continue };
            let known = |one: &HandoverWay| (&one.address, one.port) == (&old.address, old.port);
            if !self.ways.iter().chain(&all).any(known) {
                all.push(HandoverWay { address: old.address.clone(), port: old.port, ..way.clone() });
            }
        }
        all
    }

    fn check(&self) -> Result<()> {
        name::pair("device", &self.holder, ("user", "device"))?;
        if let Some(key) = &self.device_key {
            key.private_key()?;
        }
        if self.ways.is_empty() {
            return Err(Problem::words("it names no way in"));
        }
        for way in &self.ways {
            name::check("gateway", &way.gateway)?;
            name::dialled(&way.address)?;
            if way.port == 0 {
                return Err(Problem::words("a way has port 0"));
            }
            for domain in &way.domains {
                name::domain(domain)?;
            }
            if let WayIn::Quill(quill) = &way.tunnel {
                quill.call_secret.private_key()?;
            }
        }
        Ok(())
    }
}

/// How ways differ from those before, a line each.
fn differences(before: &[HandoverWay], after: &[HandoverWay]) -> Vec<String> {
    let mut words = Vec::new();
    let same = |one: &HandoverWay, other: &HandoverWay| {
        one.gateway == other.gateway && one.tunnel.word() == other.tunnel.word()
    };
    for way in after {
        let (gateway, tunnel) = (&way.gateway, way.tunnel.word());
        let Some(old) = before.iter().find(|old| same(old, way)) else {
            words.push(format!("{gateway} ({tunnel}) is a new way in, at {} port {}", way.address, way.port));
            continue;
        };
        if (&old.address, old.port) != (&way.address, way.port) {
            words.push(format!("{gateway} ({tunnel}) is dialled at {} port {}", way.address, way.port));
        }
        let more: Vec<_> = way.reach.iter().filter(|range| !old.reach.iter().any(|had| had.contains(*range))).collect();
        let less: Vec<_> = old.reach.iter().filter(|range| !way.reach.iter().any(|has| has.contains(*range))).collect();
        for (what, ranges) in [("also reaches", more), ("does not reach any more", less)] {
            if !ranges.is_empty() {
                let ranges: Vec<_> = ranges.iter().map(ToString::to_string).collect();
                words.push(format!("{gateway} ({tunnel}) {what} {}", ranges.join(", ")));
            }
        }
        if old.domains != way.domains {
            words.push(format!("{gateway} ({tunnel}) answers for names in {}", way.domains.join(", ")));
        }
        if old.tunnel != way.tunnel {
            words.push(format!("{gateway} ({tunnel}) has new keys"));
        }
    }
    for old in before.iter().filter(|old| !after.iter().any(|way| same(old, way))) {
        words.push(format!("{} ({}) is no way in any more", old.gateway, old.tunnel.word()));
    }
    words
}

/// A handover as tests want one.
#[cfg(test)]
pub(crate) fn sample() -> Handover {
    use crate::tunnel::quill::{Cipher, QuillWay};
    Handover {
        format: FORMAT.into(),
        estate: "skerry".into(),
        holder: "mara/laptop".into(),
        issued: "2027-03-02T08:15:00Z".parse().unwrap(),
        expires: Some("2027-05-31T00:00:00Z".parse().unwrap()),
        estate_key: PublicKey([4; 32]),
        notice: 0,
        device_key: Some(Secret::new(vec![3; 32])),
        account: None,
        certificate: None,
        before: Vec::new(),
        ways: vec![HandoverWay {
            gateway: "harbour".into(),
            address: "gangway.skerry.example".into(),
            port: 23817,
            reach: vec!["10.44.0.0/22".parse().unwrap()],
            domains: vec!["skerry.example".into()],
            tunnel: WayIn::Quill(QuillWay {
                cipher: Cipher::Aes256Gcm,
                server_key: PublicKey([5; 32]),
                call_secret: Secret::new(vec![6; 32]),
            }),
        }],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_file_is_the_one_that_the_interface_describes_and_reads_back() {
        let text = sample().write().unwrap();
        assert!(text.starts_with("# Lets mara/laptop into the gateway \"harbour\". It holds a private key"), "{text}");
        assert!(text.contains("issued = 2027-03-02T08:15:00Z\nexpires = 2027-05-31T00:00:00Z\n"), "{text}");
        assert!(text.contains("[[way]]\ngateway = \"harbour\""), "{text}");
        assert_eq!(Handover::read(&text).unwrap(), sample());
        let without = Handover { expires: None, device_key: None, ..sample() };
        assert_eq!(Handover::read(&without.write().unwrap()).unwrap(), without);
    }

    proptest! {
        /// Wherever it is cut, nothing that is missing a part is taken for whole.
        #[test]
        fn a_handover_cut_short_is_refused(cut in 1_usize..400) {
            let text = sample().write().unwrap();
            let cut = &text[..text.len().saturating_sub(cut)];
            if let Ok(read) = Handover::read(cut) {
                prop_assert_eq!(read, sample());
            }
        }

        #[test]
        fn no_text_makes_the_reader_fail(text in "\\PC{0,300}") {
            let _ = Handover::read(&text);
        }
    }

    #[test]
    fn errors_never_quote_the_key() {
        let text = sample().write().unwrap();
        let key = sample().device_key.unwrap().reveal_base64().to_string();
        let call = Secret::new(vec![6; 32]).reveal_base64().to_string();
        for broken in [
            text.replace("device_key = \"", "device_key = \"\" "),
            text.replace(&key, &format!("{key}!")),
            text.replace(&key, &key[..20]),
            text.replace("call_secret = \"", "call_secret = \"\" "),
            text.replace(&call, &call[..20]),
        ] {
            let problem = Handover::read(&broken).unwrap_err();
            for secret in [&key, &call] {
                assert!(!format!("{problem:?}").contains(&secret[..20]), "{problem:?}");
            }
        }
    }

    #[test]
    fn where_a_way_was_before_is_remembered_and_nothing_else_of_it() {
        let mut handover = sample();
        let moved = |port: u16, key: u8| {
            let WayIn::Quill(quill) = handover.ways[0].tunnel.clone() else { unreachable!() };
            let tunnel = WayIn::Quill(crate::tunnel::quill::QuillWay { server_key: PublicKey([key; 32]), ..quill });
            HandoverWay { port, tunnel, ..handover.ways[0].clone() }
        };
        let ways: Vec<_> = [(24000, 5), (24001, 7), (23817, 7)].map(|(port, key)| moved(port, key)).into();
        assert_eq!(handover.formerly(), []);
        for (number, way) in (1..).zip(&ways) {
            let notice = Notice {
                format: String::new(),
                estate: "skerry".into(),
                holder: "mara/laptop".into(),
                identity: PublicKey([1; 32]),
                number,
                made: handover.issued,
                estate_key: handover.estate_key,
                ways: vec![way.clone()],
            };
            handover.take(notice).unwrap();
        }
        // The last first; with the key of now alone; and not where it is dialled anyhow.
        let before: Vec<_> = handover.formerly();
        assert_eq!(before.iter().map(|way| way.port).collect::<Vec<_>>(), [24001, 24000]);
        assert!(before.iter().all(|way| way.tunnel == ways[2].tunnel));
        assert!(!handover.write().unwrap().contains("24000"), "it stands in no file");
    }

    /// One device, two credentials, two kinds of tunnel: a program that knows one of them uses that one.
    #[test]
    fn a_handover_may_hold_several_credentials_and_ways_of_kinds_that_are_not_known() {
        let mut handover = sample();
        handover.account =
            Some(HandoverAccount { name: "mara.laptop".into(), password: Some(Secret::new(b"abcd-efgh".to_vec())) });
        let settings = serde_json::Map::from_iter([("depth".to_owned(), 3.into())]);
        let other = crate::tunnel::OtherWay { tunnel: "later".into(), settings };
        handover.ways.push(HandoverWay { port: 4500, tunnel: WayIn::Other(other), ..handover.ways[0].clone() });
        let text = handover.write().unwrap();
        assert!(text.contains("[account]\nname = \"mara.laptop\"") && text.contains("tunnel = \"later\""), "{text}");
        assert_eq!(Handover::read(&text).unwrap(), handover);
        let words: Vec<_> = handover.ways.iter().map(|way| way.tunnel.word().to_owned()).collect();
        assert_eq!(words, ["quill", "later"]);
    }

    #[test]
    fn a_newer_format_is_named() {
        let text = sample().write().unwrap().replace(FORMAT, "yestrel handover 4");
        assert!(Handover::read(&text).unwrap_err().error.contains("handover 4"));
    }
}
