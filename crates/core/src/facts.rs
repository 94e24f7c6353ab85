//! What a probe of a host collected, and what follows from it for a gateway.

use std::net::IpAddr;

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A network interface of a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Interface {
    pub name: String,
    pub addresses: Vec<IpNet>,
    pub up: bool,
    /// Whether the default route leaves here.
    pub outward: bool,
}

/// A port that something listens on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BusyPort {
    /// `udp` or `tcp`.
    pub protocol: String,
    pub port: u16,
    pub address: IpAddr,
    /// The program, where it can be seen.
    pub holder: Option<String>,
}

/// A rule or policy of somebody else's firewall table that can drop what a gateway needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleInTheWay {
    /// `inet filter`.
    pub table: String,
    pub chain: String,
    /// `input` or `forward`.
    pub hook: String,
    /// The policy or rule as nft prints it.
    pub rule: String,
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
}

/// How good a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    Good,
    Poor,
    Bad,
}

impl Grade {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Poor => "poor",
            Self::Bad => "bad",
        }
    }
}

/// One line of a probe or checkup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    pub grade: Grade,
    /// One word: "clock".
    pub subject: String,
    pub words: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub try_: Option<String>,
}

fn finding(grade: Grade, subject: &str, words: impl Into<String>, try_: Option<&str>) -> Finding {
    Finding { grade, subject: subject.into(), words: words.into(), try_: try_.map(Into::into) }
}

impl Facts {
    /// The interface with the default route, or the one named.
    #[must_use]
    pub fn outward(&self, named: Option<&str>) -> Option<&Interface> {
        match named {
            Some(name) => self.interfaces.iter().find(|interface| interface.name == name),
            None => self.interfaces.iter().find(|interface| interface.outward),
        }
    }

    /// Who holds a UDP port, if anybody does.
    #[must_use]
    pub fn holder(&self, port: u16) -> Option<&BusyPort> {
        self.busy_ports.iter().find(|busy| busy.port == port && busy.protocol == "udp")
    }

    /// What these facts mean for a gateway on the host, asked at `now`.
    #[must_use]
    pub fn findings(&self, now: Timestamp) -> Vec<Finding> {
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
                let words = format!("no {}: inner traffic ends in an IP stack inside the agent", missing.join(", no "));
                found.push(finding(
                    Poor,
                    "tunnel",
                    words,
                    Some("give the host what is missing, for speed and for routed addresses"),
                ));
            }
        }
        for rule in &self.in_the_way {
            let words = format!(
                "{} in chain {} of table {} can drop what the gateway needs",
                rule.rule, rule.chain, rule.table
            );
            let accept = match rule.hook.as_str() {
                "input" => "udp dport { the listeners' ports } accept",
                _ => "iifname \"yestrel*\" accept; oifname \"yestrel*\" accept",
            };
            let command = format!("nft insert rule {} {} {accept}", rule.table, rule.chain);
            found.push(finding(Bad, "firewall", words, Some(&command)));
        }
        if self.in_the_way.is_empty() {
            found.push(finding(Good, "firewall", "no other table drops what a gateway needs", None));
        }
        found
    }
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
            }],
            busy_ports: vec![],
            in_the_way: vec![],
            forwarding: true,
            tun: true,
            nftables: true,
            privileged: true,
            clock: "2027-03-02T08:15:00Z".parse().unwrap(),
            plane: Plane::Kernel,
        }
    }

    fn worst(facts: &Facts, now: &str) -> Option<Finding> {
        facts.findings(now.parse().unwrap()).into_iter().max_by_key(|finding| finding.grade)
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
    fn a_rule_in_the_way_comes_with_the_rule_to_add() {
        let mut facts = facts();
        facts.in_the_way.push(RuleInTheWay {
            table: "inet filter".into(),
            chain: "input".into(),
            hook: "input".into(),
            rule: "policy drop".into(),
        });
        let found = worst(&facts, "2027-03-02T08:15:00Z").unwrap();
        assert_eq!(found.subject, "firewall");
        assert!(found.try_.unwrap().starts_with("nft insert rule inet filter input udp dport"));
    }
}
