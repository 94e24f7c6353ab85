//! A port or an IP protocol, as people write it: `23817/udp`, `443/tcp`, `esp`.

use serde::{Deserialize, Serialize};

use crate::{Problem, Result};

/// What a port belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Protocol {
    Udp,
    Tcp,
}

impl Protocol {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Udp => "udp",
            Self::Tcp => "tcp",
        }
    }
}

impl std::fmt::Display for Protocol {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

/// IP protocols that have a name here, with their numbers (IANA, Assigned Internet Protocol Numbers).
const NAMED: [(u8, &str); 4] = [(47, "gre"), (50, "esp"), (51, "ah"), (4, "ipip")];

/// By what a packet from outside is known: a port, or an IP protocol of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub enum Service {
    /// A port, 1..=65535.
    Port(Protocol, u16),
    /// An IP protocol by its number.
    Ip(u8),
}

impl Service {
    /// A UDP port.
    #[must_use]
    pub fn udp(port: u16) -> Self {
        Self::Port(Protocol::Udp, port)
    }

    /// A TCP port.
    #[must_use]
    pub fn tcp(port: u16) -> Self {
        Self::Port(Protocol::Tcp, port)
    }

    /// The number of the IP protocol that carries it.
    #[must_use]
    pub fn protocol_number(self) -> u8 {
        match self {
            Self::Port(Protocol::Udp, _) => 17,
            Self::Port(Protocol::Tcp, _) => 6,
            Self::Ip(number) => number,
        }
    }

    /// The port, where it is one.
    #[must_use]
    pub fn port(self) -> Option<u16> {
        match self {
            Self::Port(_, port) => Some(port),
            Self::Ip(_) => None,
        }
    }
}

impl std::fmt::Display for Service {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Port(protocol, port) => write!(f, "{port}/{protocol}"),
            Self::Ip(number) => match NAMED.iter().find(|(named, _)| named == number) {
                Some((_, name)) => f.write_str(name),
                None => write!(f, "ip-{number}"),
            },
        }
    }
}

impl std::str::FromStr for Service {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        let wrong = || {
            Problem::words(format!("{text:?} is neither a port nor an IP protocol"))
                .why("a port is written 23817/udp or 443/tcp, a protocol by its name (esp) or as ip-NUMBER")
        };
        if let Some((_, name)) = NAMED.iter().enumerate().find(|(_, (_, name))| *name == text) {
            return Ok(Self::Ip(name.0));
        }
        if let Some(number) = text.strip_prefix("ip-") {
            return number.parse().map(Self::Ip).map_err(|_| wrong());
        }
        let (port, protocol) = text.split_once('/').ok_or_else(wrong)?;
        let port = port.parse().ok().filter(|port| *port > 0).ok_or_else(wrong)?;
        match protocol {
            "udp" => Ok(Self::udp(port)),
            "tcp" => Ok(Self::tcp(port)),
            _ => Err(wrong()),
        }
    }
}

impl TryFrom<String> for Service {
    type Error = Problem;

    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl From<Service> for String {
    fn from(service: Service) -> Self {
        service.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn services_read_as_they_are_written() {
        for text in ["23817/udp", "443/tcp", "esp", "ip-253"] {
            assert_eq!(text.parse::<Service>().unwrap().to_string(), text);
        }
        for bad in ["", "udp", "0/udp", "99999/udp", "443", "443/sctp", "ip-256", "ip-", "web"] {
            assert!(bad.parse::<Service>().is_err(), "{bad}");
        }
    }
}
