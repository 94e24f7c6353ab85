//! What a policy may ask of a sign-in, and the values for it.

use std::collections::BTreeMap;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use super::hours::{Age, Dates, Hours};
use super::numbers;
use crate::{Problem, Result, name};

/// What a policy may ask about; conditions are gone through in this order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Asks {
    User,
    Group,
    Device,
    /// What the device's system is called.
    Platform,
    /// The kind of credential.
    Credential,
    /// How long ago it was issued.
    CredentialAge,
    /// Whether one was used.
    SecondFactor,
    Tunnel,
    /// RFC 2868 section 3.1.
    TunnelType,
    /// RFC 2865 section 5.41.
    NasPortType,
    /// Where the sign-in arrives: a gateway, or other equipment.
    Gateway,
    Site,
    Registry,
    /// What stands after the `@` in the name (RFC 7542 section 2.2).
    Realm,
    Method,
    /// The address that it comes from.
    From,
    Hours,
    Dates,
    /// Whether the device never signed in before.
    FirstSignIn,
}

/// Values of one condition at most.
const MOST: usize = 1_000;

/// The methods by which a sign-in proves itself.
pub const METHODS: [&str; 9] =
    ["key", "certificate", "shared-secret", "eap-tls", "eap-ms-chap-v2", "ms-chap-v2", "chap", "pap", "password"];

/// What stands for the realm of a name that has none: a realm has a dot.
pub const NO_REALM: &str = "none";

/// The kinds of credential.
const KINDS: [&str; 4] = ["key-pair", "certificate", "password", "shared-secret"];

impl Asks {
    /// All of them, in their order.
    pub const ALL: [Self; 19] = [
        Self::User,
        Self::Group,
        Self::Device,
        Self::Platform,
        Self::Credential,
        Self::CredentialAge,
        Self::SecondFactor,
        Self::Tunnel,
        Self::TunnelType,
        Self::NasPortType,
        Self::Gateway,
        Self::Site,
        Self::Registry,
        Self::Realm,
        Self::Method,
        Self::From,
        Self::Hours,
        Self::Dates,
        Self::FirstSignIn,
    ];

    /// The word for it, in commands, files and tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::User => "user",
            Self::Group => "group",
            Self::Device => "device",
            Self::Platform => "platform",
            Self::Credential => "credential",
            Self::CredentialAge => "credential-age",
            Self::SecondFactor => "second-factor",
            Self::Tunnel => "tunnel",
            Self::TunnelType => "tunnel-type",
            Self::NasPortType => "nas-port-type",
            Self::Gateway => "gateway",
            Self::Site => "site",
            Self::Registry => "registry",
            Self::Realm => "realm",
            Self::Method => "method",
            Self::From => "from",
            Self::Hours => "hours",
            Self::Dates => "dates",
            Self::FirstSignIn => "first-sign-in",
        }
    }

    /// An example of a value.
    #[must_use]
    pub fn example(self) -> &'static str {
        match self {
            Self::User => "mara",
            Self::Group => "crew",
            Self::Device => "mara/laptop",
            Self::Platform => "linux",
            Self::Credential => "certificate",
            Self::CredentialAge => "over 90d",
            Self::SecondFactor | Self::FirstSignIn => "yes",
            Self::Tunnel => "quill",
            Self::TunnelType => "esp",
            Self::NasPortType => "virtual",
            Self::Gateway => "harbour",
            Self::Site => "boatyard",
            Self::Registry => "estate",
            Self::Realm => "crew.skerry.example",
            Self::Method => "eap-tls",
            Self::From => "198.51.100.0/24",
            Self::Hours => "tue,thu 05:30-11:15",
            Self::Dates => "2027-03-01..2027-03-31",
        }
    }

    /// Whether the answer is the same at every sign-in of a device by one credential.
    #[must_use]
    pub fn of_person(self) -> bool {
        matches!(self, Self::User | Self::Group | Self::Device | Self::Platform | Self::Credential)
    }

    /// Whether the answer changes by itself as time goes by.
    #[must_use]
    pub fn of_time(self) -> bool {
        matches!(self, Self::CredentialAge | Self::Hours | Self::Dates)
    }
}

impl std::fmt::Display for Asks {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

impl std::str::FromStr for Asks {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.into_iter().find(|asks| asks.word() == text).ok_or_else(|| {
            Problem::words(format!("a policy cannot ask about {text:?}"))
                .why(format!("it can ask about {}", Self::ALL.map(Self::word).join(", ")))
        })
    }
}

/// Conditions as they are kept and travel: of each subject the values of which any will do.
pub type Conditions = BTreeMap<Asks, Vec<String>>;

/// The values of one condition, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Values {
    Words(Vec<String>),
    Numbers(Vec<u32>),
    Ranges(Vec<IpNet>),
    Hours(Vec<Hours>),
    Dates(Vec<Dates>),
    Ages(Vec<Age>),
    Flag(bool),
}

impl Values {
    /// Reads the values of a condition.
    ///
    /// # Errors
    /// There is none, too many, or one that this subject cannot have.
    pub fn read(asks: Asks, texts: &[String]) -> Result<Self> {
        let bad = |text: &str, why: String| {
            Problem::words(format!("the condition {asks} cannot have the value {:?}", shortened(text)))
                .why(why)
                .try_(format!("{asks}={}", asks.example()))
        };
        if texts.is_empty() || texts.iter().any(String::is_empty) {
            return Err(bad("", "it is empty".into()));
        }
        if texts.len() > MOST {
            return Err(Problem::words(format!("the condition {asks} has {} values", texts.len()))
                .why(format!("there can be {MOST}"))
                .try_("yestrel group add NAME   and a condition on the group"));
        }
        let each = |read: &dyn Fn(&str) -> Result<String>| -> Result<Self> {
            let mut words = texts.iter().map(|text| read(text)).collect::<Result<Vec<_>>>()?;
            words.sort();
            words.dedup();
            Ok(Self::Words(words))
        };
        let one_of = |all: &'static [&'static str]| {
            each(&|text| match all.contains(&text) {
                true => Ok(text.to_owned()),
                false => Err(bad(text, format!("there are {}", all.join(", ")))),
            })
        };
        let named = |noun: &'static str| each(&move |text: &str| name::check(noun, text).map(|()| text.to_owned()));
        let numbered = |table: &'static [(u32, &'static str)]| {
            let read = |text: &String| {
                numbers::read(table, text).ok_or_else(|| {
                    let near: Vec<_> = table.iter().map(|(_, name)| *name).collect();
                    bad(text, format!("it is a number, or one of {}", near.join(", ")))
                })
            };
            let mut all = texts.iter().map(read).collect::<Result<Vec<_>>>()?;
            all.sort_unstable();
            all.dedup();
            Ok(Self::Numbers(all))
        };
        match asks {
            Asks::User => named("user"),
            Asks::Group => named("group"),
            Asks::Gateway => named("gateway"),
            Asks::Site => named("site"),
            Asks::Registry => named("registry"),
            Asks::Device => each(&|text| name::pair("device", text, ("USER", "DEVICE")).map(|_| text.to_owned())),
            Asks::Platform => each(&|text| match text.chars().all(|c| c.is_alphanumeric() || " .-_".contains(c)) {
                true if text.chars().count() <= name::LONGEST => Ok(text.to_lowercase()),
                _ => Err(bad(text, "it is a word such as device list shows".into())),
            }),
            Asks::Tunnel => one_of(&["quill", "ikev2"]),
            Asks::Realm => each(&|text| {
                let label = |label: &str| {
                    !label.is_empty() && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
                };
                match text.len() <= 253 && text.contains('.') && text.split('.').all(label) {
                    true => Ok(text.to_ascii_lowercase()),
                    false if text == NO_REALM => Ok(text.to_owned()),
                    false => Err(bad(
                        text,
                        format!("a realm is written like a domain, with a dot; {NO_REALM} is for names without one"),
                    )),
                }
            }),
            Asks::Credential => one_of(&KINDS),
            Asks::Method => one_of(&METHODS),
            Asks::TunnelType => numbered(&numbers::TUNNEL_TYPES),
            Asks::NasPortType => numbered(&numbers::PORT_TYPES),
            Asks::From => {
                let read = |text: &String| {
                    let alone = || text.parse::<std::net::IpAddr>().map(IpNet::from);
                    let range = text.parse::<IpNet>().or_else(|_| alone());
                    range.map(|range| range.trunc()).map_err(|_| bad(text, "it is a range of addresses".into()))
                };
                Ok(Self::Ranges(IpNet::aggregate(&texts.iter().map(read).collect::<Result<Vec<_>>>()?)))
            }
            Asks::Hours => Ok(Self::Hours(texts.iter().map(|text| text.parse()).collect::<Result<_>>()?)),
            Asks::Dates => Ok(Self::Dates(texts.iter().map(|text| text.parse()).collect::<Result<_>>()?)),
            Asks::CredentialAge => Ok(Self::Ages(texts.iter().map(|text| text.parse()).collect::<Result<_>>()?)),
            Asks::SecondFactor | Asks::FirstSignIn => match texts {
                [one] if one == "yes" => Ok(Self::Flag(true)),
                [one] if one == "no" => Ok(Self::Flag(false)),
                _ => Err(bad(&texts.join(","), "it is yes or no".into())),
            },
        }
    }

    /// The values as they are written: equal conditions give equal texts.
    #[must_use]
    pub fn texts(&self, asks: Asks) -> Vec<String> {
        match self {
            Self::Words(words) => words.clone(),
            Self::Numbers(all) => {
                let table: &[_] = if asks == Asks::TunnelType { &numbers::TUNNEL_TYPES } else { &numbers::PORT_TYPES };
                all.iter().map(|number| numbers::shown(table, *number)).collect()
            }
            Self::Ranges(ranges) => ranges.iter().map(ToString::to_string).collect(),
            Self::Hours(all) => all.iter().map(ToString::to_string).collect(),
            Self::Dates(all) => all.iter().map(ToString::to_string).collect(),
            Self::Ages(all) => all.iter().map(ToString::to_string).collect(),
            Self::Flag(flag) => vec![if *flag { "yes" } else { "no" }.into()],
        }
    }
}

fn shortened(text: &str) -> String {
    text.chars().take(60).collect()
}

/// Reads one condition as a command is given it, `group=crew,pilots`; hours are kept apart by `;`, since their days have commas.
///
/// # Errors
/// It is none.
pub fn condition(text: &str) -> Result<(Asks, Vec<String>)> {
    let Some((asks, values)) = text.split_once('=') else {
        return Err(Problem::words(format!("the condition {:?} cannot be read", shortened(text)))
            .why("a condition is written SUBJECT=VALUE, with several values SUBJECT=VALUE,VALUE")
            .try_("--when group=crew   or   --when \"hours=tue,thu 05:30-11:15\""));
    };
    let asks: Asks = asks.trim().parse()?;
    let between = if asks == Asks::Hours { ';' } else { ',' };
    let texts: Vec<_> = values.split(between).map(|value| value.trim().to_owned()).collect();
    Ok((asks, Values::read(asks, &texts)?.texts(asks)))
}

/// A condition in words: "group crew or pilots", "hours not tue,thu 05:30-11:15".
#[must_use]
pub fn in_words(asks: Asks, values: &[String], unless: bool) -> String {
    let not = if unless { "not " } else { "" };
    format!("{asks} {not}{}", any_of(values))
}

/// Values of which any will do: "crew, pilots or yard".
#[must_use]
pub fn any_of(values: &[String]) -> String {
    match values {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} or {last}", most.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_subject_takes_its_example_and_says_it_back() {
        for asks in Asks::ALL {
            assert_eq!(asks.word().parse::<Asks>().unwrap(), asks);
            let (read, texts) = condition(&format!("{asks}={}", asks.example())).unwrap();
            assert_eq!((read, texts.as_slice()), (asks, &[asks.example().to_owned()][..]), "{asks}");
            assert_eq!(serde_json::to_value(asks).unwrap(), asks.word());
        }
    }

    #[test]
    fn equal_conditions_have_equal_texts() {
        let texts = |text: &str| condition(text).unwrap().1;
        assert_eq!(texts("group=pilots, crew,crew"), ["crew", "pilots"]);
        assert_eq!(texts("from=192.0.2.7/24,192.0.2.9"), ["192.0.2.0/24"]);
        assert_eq!(texts("tunnel-type=9,13,64"), ["esp", "vlan", "64"]);
        assert_eq!(texts("nas-port-type=19"), ["wireless-ieee-802.11"]);
        assert_eq!(texts("hours=Thu,tue 5:30-11:15 ; daily 22:00-24:00"), ["tue,thu 05:30-11:15", "daily 22:00-24:00"]);
        assert_eq!(texts("realm=Crew.Skerry.Example"), ["crew.skerry.example"]);
    }

    #[test]
    fn what_is_none_is_refused_with_what_there_is() {
        for (text, part) in [
            ("group", "SUBJECT=VALUE"),
            ("colour=red", "it can ask about user, group"),
            ("group=", "it is empty"),
            ("group=crew,", "it is empty"),
            ("user=Mara", "only a-z"),
            ("device=mara", "USER/DEVICE"),
            ("tunnel=magic", "there are quill, ikev2"),
            ("method=psk", "there are key"),
            ("credential=passport", "there are key-pair"),
            ("tunnel-type=esp9", "it is a number"),
            ("from=300.1.1.1", "a range of addresses"),
            ("second-factor=maybe", "yes or no"),
            ("realm=crew..example", "like a domain"),
            ("hours=", "it is empty"),
        ] {
            let problem = condition(text).unwrap_err();
            assert!(problem.line().contains(part), "{text}: {}", problem.line());
        }
        let many = vec!["crew".to_owned(); MOST + 1];
        assert!(Values::read(Asks::Group, &many).unwrap_err().line().contains("there can be 1000"));
    }
}
