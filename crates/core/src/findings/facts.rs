//! What a probe of a host collected, and what follows from it for a gateway.

use std::net::IpAddr;

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Finding, Grade, RuleInTheWay, finding};
use crate::firewall::{Protocol, Service};

/// A network interface of a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Interface {
    pub name: String,
    pub addresses: Vec<IpNet>,
    pub up: bool,
    /// Whether the default route leaves here.
    pub outward: bool,
    /// Whether its IPv4 address is leased for a time (RFC 2131), and can be another one tomorrow.
    #[serde(default)]
    pub leased: bool,
}

/// A port that something listens on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BusyPort {
    pub protocol: Protocol,
    pub port: u16,
    pub address: IpAddr,
    /// The program, where it can be seen.
    pub holder: Option<String>,
}

/// How inner traffic meets the site's network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Plane {
    /// TUN, routes, nftables: the system's own.
    Kernel,
    /// An IP stack inside the agent, which needs no privileges.
    Process,
}

/// What a probe found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Facts {
    /// "Debian GNU/Linux 12 (bookworm)".
    pub system: String,
    pub kernel: String,
    /// `x86_64`.
    pub processor: String,
    /// Whether the processor has instructions for AES.
    pub fast_aes: bool,
    pub interfaces: Vec<Interface>,
    pub busy_ports: Vec<BusyPort>,
    pub in_the_way: Vec<RuleInTheWay>,
    /// Whether the system forwards IPv4.
    pub forwarding: bool,
    /// Whether a TUN device can be made.
    pub tun: bool,
    /// Whether nft runs and may change rules.
    pub nftables: bool,
    /// Whether the agent would have the privileges that the kernel's plane needs.
    pub privileged: bool,
    /// The host's clock when it was asked.
    pub clock: Timestamp,
    /// How an agent there would carry inner traffic.
    pub plane: Plane,
    /// The C library, "glibc 2.36" or "musl"; the agent brings its own and needs none.
    #[serde(default)]
    pub libc: Option<String>,
    /// What starts services after a reboot.
    #[serde(default)]
    pub init: Init,
    /// Bytes free where the agent would lie and where it would keep its things, the smaller of the two.
    #[serde(default)]
    pub disk_free: Option<u64>,
    /// The port of the connection that manages this host, when it is managed over one.
    #[serde(default)]
    pub managed_on: Option<u16>,
}

/// What starts services after a reboot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Init {
    Systemd,
    OpenRc,
    /// Scripts in /etc/init.d, in run levels.
    Scripts,
    /// One file, /etc/rc.local.
    RcLocal,
    /// The lab's own stand-in.
    Lab,
    /// Nothing that was found.
    #[default]
    None,
}

impl Init {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Systemd => "systemd",
            Self::OpenRc => "OpenRC",
            Self::Scripts => "scripts in /etc/init.d",
            Self::RcLocal => "/etc/rc.local",
            Self::Lab => "the lab's",
            Self::None => "none found",
        }
    }
}

/// What the agent and its things need on disk, twice over for an upgrade, and room for its log and news.
pub const DISK_NEEDED: u64 = 64_000_000;
/// The first kernel whose nftables translates addresses in tables of the family `inet`.
const KERNEL_NEEDED: (u32, u32) = (5, 2);

impl Facts {
    /// The interface with the default route, or the one named.
    #[must_use]
    pub fn outward(&self, named: Option<&str>) -> Option<&Interface> {
        match named {
            Some(name) => self.interfaces.iter().find(|interface| interface.name == name),
            None => self.interfaces.iter().find(|interface| interface.outward),
        }
    }

    /// Who holds a port, if anybody does.
    #[must_use]
    pub fn holder(&self, protocol: Protocol, port: u16) -> Option<&BusyPort> {
        self.busy_ports.iter().find(|busy| busy.port == port && busy.protocol == protocol)
    }

    /// What these facts mean for a gateway on the host that is to take these services, asked at `now`.
    #[must_use]
    pub fn findings(&self, services: &[Service], now: Timestamp) -> Vec<Finding> {
        use Grade::{Bad, Good, Poor};
        let mut found = Vec::new();
        let off = self.clock.duration_since(now).as_secs_f64();
        found.push(if off.abs() > 300.0 {
            let words = format!("{} from the estate's", duration(off));
            finding(Bad, "clock", words, Some("set the host's clock: end dates of credentials follow it"))
        } else {
            finding(Good, "clock", format!("{:.1} s from the estate's", off.abs()), None)
        });
        found.push(match self.outward(None) {
            Some(interface) => {
                // Addresses of the link alone (RFC 4291 section 2.5.6) tell nobody how the host is reached.
                let link_local =
                    |net: &&IpNet| matches!(net, IpNet::V6(six) if six.addr().segments()[0] & 0xffc0 == 0xfe80);
                let addresses: Vec<_> = interface
                    .addresses
                    .iter()
                    .filter(|net| !link_local(net))
                    .map(|net| net.addr().to_string())
                    .collect();
                finding(Good, "outward", format!("{} with {}", interface.name, addresses.join(", ")), None)
            }
            None if self.plane == Plane::Process => finding(Good, "outward", "a process on loopback", None),
            None => finding(Bad, "outward", "no default route: devices could not be answered", None),
        });
        match self.plane {
            Plane::Kernel => {
                found.push(finding(Good, "tunnel", "TUN and nftables are there", None));
                found.push(if self.forwarding {
                    finding(Good, "forward", "the system forwards IPv4", None)
                } else {
                    finding(Good, "forward", "switched off; the agent switches it on and keeps it on", None)
                });
            }
            Plane::Process => {
                let missing: Vec<_> = [(self.privileged, "privileges"), (self.tun, "TUN"), (self.nftables, "nftables")]
                    .into_iter()
                    .filter_map(|(there, what)| (!there).then_some(what))
                    .collect();
                let why = if missing.is_empty() { "by choice".into() } else { format!("no {}", missing.join(", no ")) };
                let words = format!("{why}: inner traffic ends in an IP stack inside the agent");
                found.push(finding(
                    Poor,
                    "tunnel",
                    words,
                    Some("give the host what is missing, for speed and for routed addresses"),
                ));
            }
        }
        if let Some(leased) = self.outward(None).filter(|interface| interface.leased) {
            let words = format!("{} has a leased address, which can be another one tomorrow", leased.name);
            let what = "have the router always give this host the same address, or dial a name that follows it";
            found.push(finding(Poor, "address", words, Some(what)));
        }
        if kernel_version(&self.kernel).is_some_and(|version| version < KERNEL_NEEDED) {
            let words = format!(
                "kernel {} is too old for the rules of a gateway, which need {}.{}",
                self.kernel, KERNEL_NEEDED.0, KERNEL_NEEDED.1
            );
            found.push(finding(Bad, "kernel", words, Some("upgrade the host's system")));
        }
        if let Some(free) = self.disk_free.filter(|free| *free < DISK_NEEDED) {
            let words =
                format!("{} MB free; an agent and its upgrade need {} MB", free / 1_000_000, DISK_NEEDED / 1_000_000);
            found.push(finding(Bad, "disk", words, Some("make room on the host")));
        }
        found.push(match self.init {
            Init::None => finding(
                Poor,
                "start",
                "nothing was found that starts services after a reboot",
                Some("have the host run /opt/yestrel/supervise when it boots"),
            ),
            init => finding(Good, "start", format!("after a reboot, by {}", init.word()), None),
        });
        let before = found.len();
        for rule in &self.in_the_way {
            let commands = rule.commands(services);
            if commands.is_empty() {
                continue;
            }
            let words = format!(
                "{} in chain {} of table {} can drop what the gateway needs",
                rule.rule, rule.chain, rule.table
            );
            found.push(finding(Bad, "firewall", words, Some(&commands.join(" && "))));
        }
        if found.len() == before {
            found.push(finding(Good, "firewall", "no other table drops what a gateway needs", None));
        }
        found
    }
}

/// The first two numbers of a kernel's release, "6.1.0-18-amd64".
fn kernel_version(release: &str) -> Option<(u32, u32)> {
    let mut numbers = release.split(|c: char| !c.is_ascii_digit());
    Some((numbers.next()?.parse().ok()?, numbers.next()?.parse().ok()?))
}

/// A span of seconds in words: "2.5 h ahead", "3 years behind".
fn duration(seconds: f64) -> String {
    let size = seconds.abs();
    let amount = match size {
        s if s < 7_200.0 => format!("{:.0} min", s / 60.0),
        s if s < 172_800.0 => format!("{:.1} h", s / 3_600.0),
        s if s < 63_072_000.0 => format!("{:.0} days", s / 86_400.0),
        s => format!("{:.1} years", s / 31_557_600.0),
    };
    format!("{amount} {}", if seconds > 0.0 { "ahead" } else { "behind" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::Hook;

    fn facts() -> Facts {
        Facts {
            system: "Debian".into(),
            kernel: "6.1".into(),
            processor: "x86_64".into(),
            fast_aes: true,
            interfaces: vec![Interface {
                name: "eth0".into(),
                addresses: vec!["203.0.113.10/24".parse().unwrap()],
                up: true,
                outward: true,
                leased: false,
            }],
            busy_ports: vec![],
            in_the_way: vec![],
            forwarding: true,
            tun: true,
            nftables: true,
            privileged: true,
            clock: "2027-03-02T08:15:00Z".parse().unwrap(),
            plane: Plane::Kernel,
            libc: None,
            init: Init::Systemd,
            disk_free: Some(DISK_NEEDED),
            managed_on: None,
        }
    }

    fn worst(facts: &Facts, now: &str) -> Option<Finding> {
        facts.findings(&[], now.parse().unwrap()).into_iter().max_by_key(|finding| finding.grade)
    }

    #[test]
    fn a_good_host_has_only_good_findings() {
        assert_eq!(worst(&facts(), "2027-03-02T08:15:02Z").unwrap().grade, Grade::Good);
    }

    #[test]
    fn a_clock_years_off_is_said_in_years() {
        let found = worst(&facts(), "2024-03-02T08:15:00Z").unwrap();
        assert_eq!((found.grade, found.subject.as_str()), (Grade::Bad, "clock"));
        assert!(found.words.contains("3.0 years ahead"), "{}", found.words);
    }

    #[test]
    fn what_would_stop_a_gateway_is_bad_and_says_how_to_mend_it() {
        let now = "2027-03-02T08:15:00Z";
        type Case = (&'static str, Grade, fn(&mut Facts));
        let changes: [Case; 5] = [
            ("disk", Grade::Bad, |facts| facts.disk_free = Some(DISK_NEEDED - 1)),
            ("kernel", Grade::Bad, |facts| facts.kernel = "4.19.0-27-amd64".into()),
            ("start", Grade::Poor, |facts| facts.init = Init::None),
            ("address", Grade::Poor, |facts| facts.interfaces[0].leased = true),
            ("outward", Grade::Bad, |facts| facts.interfaces[0].outward = false),
        ];
        for (subject, grade, change) in changes {
            let mut facts = facts();
            change(&mut facts);
            let found = worst(&facts, now).unwrap();
            assert_eq!((found.subject.as_str(), found.grade), (subject, grade));
            assert!(found.try_.is_some() || subject == "outward", "{subject}");
        }
        for (release, version) in [("6.1.0-18-amd64", Some((6, 1))), ("5.10", Some((5, 10))), ("strange", None)] {
            assert_eq!(kernel_version(release), version);
        }
    }

    #[test]
    fn a_rule_in_the_way_comes_with_the_rule_to_add() {
        let mut facts = facts();
        facts.in_the_way.push(RuleInTheWay {
            passes: vec![],
            table: "inet filter".into(),
            chain: "input".into(),
            hook: Hook::Input,
            rule: "policy drop".into(),
        });
        let found = worst(&facts, "2027-03-02T08:15:00Z").unwrap();
        assert_eq!(found.subject, "firewall");
        assert!(found.try_.unwrap().starts_with("nft insert rule inet filter input udp dport"));
    }
}
