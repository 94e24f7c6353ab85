//! The intent as a script for nftables.
//!
//! The agent owns one table, `inet yestrel`, and replaces it whole in one transaction. Nothing of anybody else's is touched.
//! What stands for many is a set: a decision costs one look-up, however many listeners and ranges there are.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use ipnet::IpNet;

use super::{Allows, Intent, Opens, Protocol, Service, Set};

/// The table's family and name.
pub const TABLE: &str = "inet yestrel";

/// What a packet is compared with, in one IP version.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Version {
    Four,
    Six,
}

impl Version {
    const BOTH: [Self; 2] = [Self::Four, Self::Six];

    fn of(range: &IpNet) -> Self {
        if matches!(range, IpNet::V4(_)) { Self::Four } else { Self::Six }
    }

    /// The word before `saddr` and `daddr`.
    fn header(self) -> &'static str {
        match self {
            Self::Four => "ip",
            Self::Six => "ip6",
        }
    }

    fn type_(self) -> &'static str {
        match self {
            Self::Four => "ipv4_addr",
            Self::Six => "ipv6_addr",
        }
    }

    fn suffix(self) -> &'static str {
        match self {
            Self::Four => "4",
            Self::Six => "6",
        }
    }
}

/// A script under construction.
struct Script {
    sets: String,
    chains: String,
}

impl Script {
    fn set(&mut self, name: &str, type_: &str, interval: bool, elements: &[String]) {
        let flags = if interval { "    flags interval; auto-merge\n" } else { "" };
        let _ = write!(
            self.sets,
            "  set {name} {{\n    type {type_}\n{flags}    elements = {{ {} }}\n  }}\n",
            elements.join(", ")
        );
    }

    /// As [`Script::set`], of pairs of ranges.
    fn pairs(&mut self, name: &str, type_: &str, elements: &[String]) {
        let _ = write!(
            self.sets,
            "  set {name} {{\n    type {type_} . {type_}\n    flags interval\n    elements = {{ {} }}\n  }}\n",
            elements.join(", ")
        );
    }

    fn chain(&mut self, name: &str, hook: &str, rules: &[String]) {
        let _ = write!(self.chains, "  chain {name} {{\n    type {hook};\n");
        for rule in rules {
            let _ = writeln!(self.chains, "    {rule}");
        }
        self.chains.push_str("  }\n");
    }
}

/// Ranges of one IP version.
fn ranges(set: &Set, version: Version) -> Vec<IpNet> {
    set.ranges.iter().filter(|range| Version::of(range) == version).copied().collect()
}

/// The pairs of one IP version of what is allowed whatever the protocol.
fn pairs(allows: &[Allows], version: Version) -> Vec<String> {
    let plain = allows.iter().filter(|allows| allows.protocol.is_none() && allows.port.is_none());
    let mut pairs: Vec<_> = plain
        .filter(|allows| Version::of(&allows.to) == version)
        .flat_map(|allows| ranges(&allows.from, version).into_iter().map(|from| format!("{from} . {}", allows.to)))
        .collect();
    pairs.sort();
    pairs.dedup();
    pairs
}

/// Rules of one IP version for what is allowed to a protocol or port only.
fn narrow(allows: &[Allows], version: Version) -> Vec<String> {
    let mut rules = Vec::new();
    for allows in allows.iter().filter(|allows| allows.protocol.is_some() || allows.port.is_some()) {
        if Version::of(&allows.to) != version {
            continue;
        }
        let header = version.header();
        let what = match (allows.protocol, allows.port) {
            (Some(protocol), Some(port)) => format!("{protocol} dport {port}"),
            (Some(protocol), None) => format!("meta l4proto {protocol}"),
            (None, Some(port)) => format!("meta l4proto {{ tcp, udp }} th dport {port}"),
            (None, None) => continue,
        };
        for from in ranges(&allows.from, version) {
            rules.push(format!("{header} saddr {from} {header} daddr {} {what} accept", allows.to));
        }
    }
    rules
}

impl Intent {
    /// A script for `nft -f` that replaces the table in one transaction.
    #[must_use]
    pub fn nftables(&self) -> String {
        let tunnel = &self.tunnel;
        let mut script = Script { sets: String::new(), chains: String::new() };
        let mut arrive = self.opened(&mut script);
        arrive.push(format!("iifname \"{tunnel}\" ct state established,related accept"));
        arrive.extend(self.opened_within());
        let mut pass = vec![
            format!("iifname \"{tunnel}\" ct state established,related accept"),
            format!("oifname \"{tunnel}\" ct state established,related accept"),
        ];
        for version in Version::BOTH {
            let (header, suffix) = (version.header(), version.suffix());
            let within = pairs(&self.allows, version);
            if !within.is_empty() {
                let name = format!("reach{suffix}");
                script.pairs(&name, version.type_(), &within);
                let accept =
                    |name: &str| format!("iifname \"{tunnel}\" {header} saddr . {header} daddr @{name} accept");
                pass.push(accept(&name));
                // The gateway's own addresses and services are reached only where a reach names them; everything names none.
                let named: Vec<_> = self.allows.iter().filter(|allows| allows.to.prefix_len() > 0).cloned().collect();
                let named = pairs(&named, version);
                if named.len() == within.len() {
                    arrive.push(accept(&name));
                } else if !named.is_empty() {
                    let name = format!("named{suffix}");
                    script.pairs(&name, version.type_(), &named);
                    arrive.push(accept(&name));
                }
            }
            for rule in narrow(&self.allows, version) {
                arrive.push(format!("iifname \"{tunnel}\" {rule}"));
                pass.push(format!("iifname \"{tunnel}\" {rule}"));
            }
            let answers = pairs(&self.answers, version);
            if !answers.is_empty() {
                let name = format!("site{suffix}");
                script.pairs(&name, version.type_(), &answers);
                pass.push(format!("oifname \"{tunnel}\" {header} saddr . {header} daddr @{name} accept"));
            }
        }
        arrive.push(format!("iifname \"{tunnel}\" counter drop comment \"beyond reach\""));
        script.chain("arrive", "filter hook input priority filter", &arrive);
        pass.push(format!("iifname \"{tunnel}\" counter drop comment \"beyond reach\""));
        pass.push(format!("oifname \"{tunnel}\" counter drop comment \"not from the site\""));
        script.chain("pass", "filter hook forward priority filter", &pass);
        let mut leave = Vec::new();
        for version in Version::BOTH {
            let pools: Vec<_> = self.masquerade.iter().flat_map(|set| ranges(set, version)).collect();
            if !pools.is_empty() {
                let name = format!("pools{}", version.suffix());
                script.set(&name, version.type_(), true, &pools.iter().map(ToString::to_string).collect::<Vec<_>>());
                leave.push(format!("{} saddr @{name} oifname != \"{tunnel}\" masquerade", version.header()));
            }
        }
        if !leave.is_empty() {
            script.chain("leave", "nat hook postrouting priority srcnat", &leave);
        }
        format!("table {TABLE}\ndelete table {TABLE}\ntable {TABLE} {{\n{}{}}}\n", script.sets, script.chains)
    }

    /// What is opened to everybody outside: one rule for each purpose, so that each has a counter and a name.
    fn opened(&self, script: &mut Script) -> Vec<String> {
        let mut by_purpose: BTreeMap<(&str, Option<Protocol>), Vec<String>> = BTreeMap::new();
        for Opens { service, for_, .. } in self.opens.iter().filter(|opens| opens.from.is_none()) {
            match service {
                Some(Service::Port(protocol, port)) => {
                    by_purpose.entry((for_, Some(*protocol))).or_default().push(port.to_string());
                }
                Some(Service::Ip(number)) => by_purpose.entry((for_, None)).or_default().push(number.to_string()),
                None => {}
            }
        }
        let mut rules = Vec::new();
        for (count, ((for_, protocol), elements)) in by_purpose.into_iter().enumerate() {
            let name = format!("open{count}");
            let what = match protocol {
                Some(protocol) => format!("{protocol} dport"),
                None => "meta l4proto".into(),
            };
            script.set(&name, if protocol.is_some() { "inet_service" } else { "inet_proto" }, false, &elements);
            rules.push(format!("{what} @{name} counter accept comment \"{for_}\""));
        }
        rules
    }

    /// What is opened to devices only.
    fn opened_within(&self) -> Vec<String> {
        let tunnel = &self.tunnel;
        let mut rules = Vec::new();
        for opens in &self.opens {
            let Some(from) = &opens.from else { continue };
            for version in Version::BOTH {
                let from: Vec<_> = ranges(from, version).iter().map(ToString::to_string).collect();
                if from.is_empty() || opens.at.is_some_and(|at| at.is_ipv4() != (version == Version::Four)) {
                    continue;
                }
                let header = version.header();
                let at = opens.at.map(|at| format!(" {header} daddr {at}")).unwrap_or_default();
                let what = match (opens.service, version) {
                    (Some(Service::Port(protocol, port)), _) => format!("{protocol} dport {port}"),
                    (Some(Service::Ip(number)), _) => format!("meta l4proto {number}"),
                    (None, Version::Four) => "icmp type echo-request".into(),
                    (None, Version::Six) => "icmpv6 type echo-request".into(),
                };
                let from = from.join(", ");
                rules.push(format!(
                    "iifname \"{tunnel}\" {header} saddr {{ {from} }}{at} {what} accept comment \"{}\"",
                    opens.for_
                ));
            }
        }
        rules
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample;

    fn script() -> String {
        Intent::of(&sample::content(), "yestrel0").nftables()
    }

    #[test]
    fn exactly_the_listeners_ports_are_opened() {
        let script = script();
        let opened: Vec<_> = script.lines().filter(|line| line.contains("dport")).collect();
        let rule = "    udp dport @open0 counter accept comment \"listener harbour/quill\"";
        assert_eq!(opened, [rule]);
        assert!(script.contains("set open0 {\n    type inet_service\n    elements = { 23817 }"), "{script}");
        assert!(script.starts_with("table inet yestrel\ndelete table inet yestrel\n"));
    }

    #[test]
    fn several_ports_and_a_protocol_of_one_listener_are_opened() {
        let mut content = sample::content();
        content.listeners[0].serves =
            ["500/udp", "4500/udp", "esp", "443/tcp"].map(|text| text.parse().unwrap()).to_vec();
        let script = Intent::of(&content, "yestrel0").nftables();
        for set in ["inet_proto\n    elements = { 50 }", "{ 500, 4500 }", "{ 443 }"] {
            assert!(script.contains(set), "{set}: {script}");
        }
        for rule in ["meta l4proto @open", "udp dport @open", "tcp dport @open"] {
            assert_eq!(script.matches(rule).count(), 1, "{rule}: {script}");
        }
    }

    #[test]
    fn devices_are_kept_to_their_reach_in_both_chains() {
        let script = script();
        let within = "iifname \"yestrel0\" ip saddr . ip daddr @reach4 accept";
        assert_eq!(script.matches(within).count(), 2);
        assert!(script.contains("elements = { 10.187.44.0/24 . 10.44.0.0/22 }"), "{script}");
        assert_eq!(script.matches("iifname \"yestrel0\" counter drop").count(), 2);
    }

    #[test]
    fn ranges_of_ipv6_are_rules_like_the_others() {
        let mut intent = Intent::of(&sample::content(), "yestrel0");
        intent.allows.push(Allows {
            from: Set { name: "x".into(), ranges: vec!["2001:db8:187::/64".parse().unwrap()] },
            to: "2001:db8:44::/48".parse().unwrap(),
            protocol: None,
            port: None,
        });
        let script = intent.nftables();
        assert!(script.contains("{ 2001:db8:187::/64 . 2001:db8:44::/48 }"), "{script}");
        assert_eq!(script.matches("ip6 saddr . ip6 daddr @reach6 accept").count(), 2, "{script}");
    }

    /// A device with a full tunnel reaches the world through the gateway, and not the gateway's own services.
    #[test]
    fn everything_does_not_name_the_gateway_itself() {
        let mut intent = Intent::of(&sample::content(), "yestrel0");
        let accept = |script: &str, set: &str| script.matches(&format!("ip daddr @{set} accept")).count();
        intent.allows[0].to = "0.0.0.0/0".parse().unwrap();
        let script = intent.nftables();
        assert_eq!((accept(&script, "reach4"), accept(&script, "named4")), (1, 0), "{script}");
        let mut other = intent.allows[0].clone();
        other.to = "10.44.0.0/22".parse().unwrap();
        intent.allows.push(other);
        let script = intent.nftables();
        assert_eq!((accept(&script, "reach4"), accept(&script, "named4")), (1, 1), "{script}");
        assert!(script.contains("set named4 {\n    type ipv4_addr . ipv4_addr\n    flags interval\n    elements = { 10.187.44.0/24 . 10.44.0.0/22 }"), "{script}");
    }

    #[test]
    fn what_is_allowed_to_one_port_is_no_more_than_that() {
        let mut intent = Intent::of(&sample::content(), "yestrel0");
        (intent.allows[0].protocol, intent.allows[0].port) = (Some(Protocol::Tcp), Some(443));
        let script = intent.nftables();
        assert!(!script.contains("reach4"), "{script}");
        assert_eq!(script.matches("ip daddr 10.44.0.0/22 tcp dport 443 accept").count(), 2, "{script}");
    }

    #[test]
    fn masquerade_only_when_asked() {
        assert!(script().contains("masquerade"));
        let content = crate::order::Content { masquerade: false, ..sample::content() };
        assert!(!Intent::of(&content, "yestrel0").nftables().contains("masquerade"));
    }
}
