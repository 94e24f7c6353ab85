//! The made-up world of Skerry Line: which hosts there are, how they are joined, and what runs on them.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;

use serde::{Deserialize, Serialize};

/// How the lab is built.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Mode {
    /// Network namespaces, TUN and nftables.
    Namespaces,
    /// Processes on loopback.
    Processes,
}

/// What can be broken at a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Fault {
    /// Its management does not answer.
    Unreachable,
    /// Its agent is killed, and not started again.
    Agent,
    /// Its first cable is cut.
    Cable,
}

impl Fault {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Unreachable => "unreachable",
            Self::Agent => "agent",
            Self::Cable => "cable",
        }
    }

    /// What is broken at the host with this folder.
    pub(crate) fn of(folder: &Path) -> Option<Self> {
        let word = std::fs::read_to_string(folder.join(BROKEN)).ok()?;
        [Self::Unreachable, Self::Agent, Self::Cable].into_iter().find(|fault| fault.word() == word.trim())
    }
}

/// The file in a host's folder that says by how many seconds its clock is ahead.
pub(crate) const CLOCK: &str = "clock";
/// The file in a host's folder that says what is broken.
pub(crate) const BROKEN: &str = "broken";

/// What a host is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// The internet: a router, a name service, and a service that says from where it is asked.
    Outside,
    /// A machine that can be managed and can carry a gateway.
    Managed,
    /// A server at a site, reached only from within.
    Server,
    /// A router that translates addresses.
    Translator,
    /// What a user carries.
    Device,
}

/// A network card: the cable it is on, its address, and whether the default route leaves by it.
#[derive(Debug, Clone, Copy)]
pub struct Card {
    pub name: &'static str,
    pub cable: &'static str,
    pub address: &'static str,
    pub default_by: Option<&'static str>,
}

/// A host of the plan.
#[derive(Debug, Clone, Copy)]
pub struct HostPlan {
    pub name: &'static str,
    pub kind: Kind,
    pub cards: &'static [Card],
    /// Its address when hosts are processes.
    pub loopback: Ipv4Addr,
    /// Rules that it had before anybody came.
    pub firewall: Option<&'static str>,
    /// Its resolver.
    pub resolver: Option<&'static str>,
}

/// The name service of the outside.
pub const NAME_SERVICE: &str = "192.0.2.53";
/// The service outside that says from which address it is asked.
pub const MIRROR: &str = "192.0.2.80";
/// The ticket server.
pub const TICKETS: &str = "10.44.0.20";

/// What leaves towards the outside does so under the router's own address.
const TRANSLATES: &str = "table ip translate {
  chain out {
    type nat hook postrouting priority srcnat;
    oifname wan masquerade
  }
}";

const fn card(
    name: &'static str,
    cable: &'static str,
    address: &'static str,
    default_by: Option<&'static str>,
) -> Card {
    Card { name, cable, address, default_by }
}

/// The world. Cables join two cards of the same cable name; `outside` has one card per cable.
pub const HOSTS: &[HostPlan] = &[
    HostPlan {
        name: "outside",
        kind: Kind::Outside,
        cards: &[
            card("cloud", "cloud", "203.0.113.1/24", None),
            card("cloud-2", "cloud-2", "192.0.2.129/25", None),
            card("cafe", "cafe", "198.51.100.1/25", None),
            card("pier", "pier", "198.51.100.129/25", None),
        ],
        loopback: Ipv4Addr::new(127, 99, 0, 1),
        firewall: None,
        resolver: None,
    },
    HostPlan {
        name: "harbour",
        kind: Kind::Managed,
        cards: &[
            card("eth0", "cloud", "203.0.113.10/24", Some("203.0.113.1")),
            card("eth1", "harbour-site", "10.44.0.1/22", None),
        ],
        loopback: Ipv4Addr::new(127, 77, 0, 1),
        firewall: None,
        resolver: Some(NAME_SERVICE),
    },
    // Another cloud host, with a cable to the site of the harbour: where its gateway can move to.
    HostPlan {
        name: "breakwater",
        kind: Kind::Managed,
        cards: &[
            card("eth0", "cloud-2", "192.0.2.140/25", Some("192.0.2.129")),
            card("eth1", "harbour-site-2", "10.44.2.1/22", None),
        ],
        loopback: Ipv4Addr::new(127, 77, 0, 3),
        firewall: None,
        resolver: Some(NAME_SERVICE),
    },
    HostPlan {
        name: "tickets",
        kind: Kind::Server,
        cards: &[
            card("eth0", "harbour-site", "10.44.0.20/22", Some("10.44.0.1")),
            card("eth1", "harbour-site-2", "10.44.2.20/24", None),
        ],
        loopback: Ipv4Addr::new(127, 66, 0, 20),
        firewall: None,
        resolver: None,
    },
    HostPlan {
        name: "pier-office",
        kind: Kind::Managed,
        cards: &[
            card("wan", "pier", "198.51.100.140/25", Some("198.51.100.129")),
            card("lan", "pier-site", "192.168.40.1/24", None),
        ],
        loopback: Ipv4Addr::new(127, 77, 0, 2),
        firewall: Some(
            "table inet filter {
               chain input {
                 type filter hook input priority filter; policy drop;
                 iifname { lo, lan } accept
                 ct state established,related accept
               }
               chain forward { type filter hook forward priority filter; policy accept; }
             }",
        ),
        resolver: Some(NAME_SERVICE),
    },
    HostPlan {
        name: "till",
        kind: Kind::Server,
        cards: &[card("eth0", "pier-site", "192.168.40.30/24", Some("192.168.40.1"))],
        loopback: Ipv4Addr::new(127, 66, 0, 30),
        firewall: None,
        resolver: None,
    },
    HostPlan {
        name: "cafe-router",
        kind: Kind::Translator,
        cards: &[
            card("wan", "cafe", "198.51.100.23/25", Some("198.51.100.1")),
            card("lan", "cafe-site", "192.168.1.1/24", None),
            card("yard", "yard-site", "192.168.61.1/24", None),
            card("flat", "flat-line", "192.168.62.1/24", None),
        ],
        loopback: Ipv4Addr::new(127, 98, 0, 1),
        firewall: Some(TRANSLATES),
        resolver: None,
    },
    // Behind the same translation: a gateway here can call on others, and nobody on it.
    HostPlan {
        name: "boatyard",
        kind: Kind::Managed,
        cards: &[card("eth0", "yard-site", "192.168.61.7/24", Some("192.168.61.1"))],
        loopback: Ipv4Addr::new(127, 77, 0, 4),
        firewall: None,
        resolver: Some(NAME_SERVICE),
    },
    // In a flat above the cafe: another router behind that one, so that addresses are translated twice.
    HostPlan {
        name: "flat-router",
        kind: Kind::Translator,
        cards: &[
            card("wan", "flat-line", "192.168.62.2/24", Some("192.168.62.1")),
            card("lan", "flat-site", "192.168.70.1/24", None),
        ],
        loopback: Ipv4Addr::new(127, 98, 0, 2),
        firewall: Some(TRANSLATES),
        resolver: None,
    },
    HostPlan {
        name: "mara-phone",
        kind: Kind::Device,
        cards: &[card("eth0", "flat-site", "192.168.70.20/24", Some("192.168.70.1"))],
        loopback: Ipv4Addr::new(127, 88, 0, 2),
        firewall: None,
        resolver: Some(NAME_SERVICE),
    },
    HostPlan {
        name: "mara-laptop",
        kind: Kind::Device,
        cards: &[card("eth0", "cafe-site", "192.168.1.20/24", Some("192.168.1.1"))],
        loopback: Ipv4Addr::new(127, 88, 0, 1),
        firewall: None,
        resolver: Some(NAME_SERVICE),
    },
];

/// The host of this name.
#[must_use]
pub fn host(name: &str) -> Option<&'static HostPlan> {
    HOSTS.iter().find(|host| host.name == name)
}

/// A service of the lab: where it is inside its world, and, when hosts are processes, where it really is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Service {
    pub name: String,
    pub address: SocketAddr,
    pub real: SocketAddr,
    /// Whether it answers from everywhere, or only within its site.
    pub outside: bool,
}

/// Names that the outside's name service knows.
pub const NAMES: &[(&str, &str)] = &[
    ("gangway.skerry.example", "203.0.113.10"),
    ("pier.skerry.example", "198.51.100.140"),
    ("mirror.example", MIRROR),
    // The site's own name service does not know this one.
    ("forecast.example", MIRROR),
];

/// Names that the site's own name service knows: its own, and some of the outside.
pub const SITE_NAMES: &[(&str, &str)] = &[
    ("tickets.skerry.example", TICKETS),
    ("gangway.skerry.example", "203.0.113.10"),
    ("pier.skerry.example", "198.51.100.140"),
    ("mirror.example", MIRROR),
];
