//! One tunnel of a gateway: where it listens, which addresses it gives out, what it reaches.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::firewall::Service;
use crate::tunnel::Tunnel;
use crate::{Problem, Result, pool};

/// What may be reached through a tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub enum Reach {
    /// Everything: no traffic of the device goes beside the tunnel.
    Everything,
    /// The networks of the gateway's site.
    Site,
    /// These ranges.
    Ranges(Vec<IpNet>),
}

impl std::str::FromStr for Reach {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        match text {
            "everything" => Ok(Self::Everything),
            "site" => Ok(Self::Site),
            ranges => {
                let mut parsed: Vec<_> = ranges
                    .split(',')
                    .map(|text| pool::range(text.trim()))
                    .collect::<Result<_>>()
                    .map_err(|problem| {
                        problem.try_("--reach everything, --reach site, or ranges: --reach 10.44.0.0/22,10.45.0.0/24")
                    })?;
                parsed.sort();
                parsed.dedup();
                Ok(Self::Ranges(parsed))
            }
        }
    }
}

impl TryFrom<String> for Reach {
    type Error = Problem;

    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl From<Reach> for String {
    fn from(reach: Reach) -> Self {
        reach.to_string()
    }
}

impl std::fmt::Display for Reach {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Everything => f.write_str("everything"),
            Self::Site => f.write_str("site"),
            Self::Ranges(ranges) => f.write_str(&ranges.iter().map(ToString::to_string).collect::<Vec<_>>().join(",")),
        }
    }
}

impl Reach {
    /// As ranges, for the site with these networks.
    #[must_use]
    pub fn ranges(&self, site: &[IpNet]) -> Vec<IpNet> {
        match self {
            Self::Everything => vec![
                IpNet::V4(Ipv4Net::new_assert(Ipv4Addr::UNSPECIFIED, 0)),
                IpNet::V6(Ipv6Net::new_assert(Ipv6Addr::UNSPECIFIED, 0)),
            ],
            Self::Site => site.to_vec(),
            Self::Ranges(ranges) => ranges.clone(),
        }
    }
}

/// One port or protocol at which a listener takes what comes, and where devices find it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Served {
    /// On the host.
    pub inside: Service,
    /// As devices dial it, where something in front translates it; the same without.
    pub outside: Service,
}

impl Served {
    /// Found under its own number.
    #[must_use]
    pub fn plain(service: Service) -> Self {
        Self { inside: service, outside: service }
    }
}

/// One tunnel of a gateway, `harbour/quill`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Listener {
    pub name: String,
    pub gateway: String,
    /// Its kind, with what only this kind knows.
    pub tunnel: Tunnel,
    /// Every port and protocol that it needs; the first is the one that devices dial first.
    pub serves: Vec<Served>,
    pub pool: Ipv4Net,
    /// Beside it; `None`: devices get no inner IPv6 address.
    #[serde(default)]
    pub pool6: Option<Ipv6Net>,
    pub reach: Reach,
    pub resolvers: Vec<IpAddr>,
    /// Names in these domains are asked of the resolvers, where not everything goes through the tunnel; in lower case.
    #[serde(default)]
    pub domains: Vec<String>,
    /// Seconds, 0..=3600; RFC 3948 section 4 suggests 20.
    pub keep_alive: u16,
    /// Bytes of the largest inner packet, 1280..=9000.
    pub packet_size: u16,
    pub created: Timestamp,
}

impl Listener {
    /// The port on the host that is dialled first; 0 where the tunnel has none.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.serves.iter().find_map(|served| served.inside.port()).unwrap_or(0)
    }

    /// That port as devices dial it.
    #[must_use]
    pub fn outside_port(&self) -> u16 {
        self.serves.iter().find_map(|served| served.outside.port()).unwrap_or(0)
    }

    /// All that it needs on the host, for sentences: "23817/udp".
    #[must_use]
    pub fn services(&self) -> String {
        self.serves.iter().map(|served| served.inside.to_string()).collect::<Vec<_>>().join(", ")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reach_reads_as_it_is_written() {
        for text in ["everything", "site", "10.44.0.0/22", "10.44.0.0/22,10.46.0.0/24"] {
            assert_eq!(text.parse::<Reach>().unwrap().to_string(), text);
        }
        assert_eq!(
            "10.46.0.0/24, 10.44.0.0/22,10.46.0.0/24".parse::<Reach>().unwrap().to_string(),
            "10.44.0.0/22,10.46.0.0/24"
        );
        for bad in ["", "nowhere", "10.44.0.1/22", "10.44.0.0/22,"] {
            assert!(bad.parse::<Reach>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_reach_becomes_ranges_by_the_site_that_it_is_at() {
        let site: Vec<IpNet> = vec!["10.44.0.0/22".parse().unwrap()];
        assert_eq!(Reach::Site.ranges(&site), site);
        assert_eq!(Reach::Everything.ranges(&site)[0].to_string(), "0.0.0.0/0");
        assert_eq!("10.9.0.0/24".parse::<Reach>().unwrap().ranges(&site)[0].to_string(), "10.9.0.0/24");
    }
}
