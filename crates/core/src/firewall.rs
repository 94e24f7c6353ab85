//! The firewall of a gateway as intent, and its rendering for nftables.
//!
//! The agent owns one table, `inet yestrel`, and replaces it whole in one transaction. Nothing of anybody else's
//! is touched, and nothing is opened that a listener does not need.

use ipnet::IpNet;

use crate::order::Content;

/// The table's family and name.
pub const TABLE: &str = "inet yestrel";

/// What the firewall is to do, in the words of the job.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intent {
    /// Ports that take datagrams from anywhere, with the listener that needs each.
    pub ports: Vec<(u16, String)>,
    /// Which pool may reach what.
    pub reach: Vec<(IpNet, Vec<IpNet>)>,
    /// Where the gateway itself answers over TCP: its metrics.
    pub answers: Option<std::net::SocketAddrV4>,
    /// The TCP port at which it publishes, from anywhere.
    pub publishes: Option<u16>,
    /// Networks of the site: they may answer, and may begin towards devices.
    pub networks: Vec<IpNet>,
    /// Whether devices appear under the gateway's own address.
    pub masquerade: bool,
    /// The TUN interface.
    pub tunnel: String,
}

impl Intent {
    /// What an order asks for, with inner traffic on the interface `tunnel`.
    #[must_use]
    pub fn of(content: &Content, tunnel: &str) -> Self {
        Self {
            ports: content.listeners.iter().map(|listener| (listener.port, listener.name.clone())).collect(),
            reach: content.listeners.iter().map(|listener| (listener.pool.into(), listener.reach.clone())).collect(),
            answers: content.metrics,
            publishes: content.publish.as_ref().map(|publish| publish.port),
            networks: content.networks.clone(),
            masquerade: content.masquerade,
            tunnel: tunnel.into(),
        }
    }

    /// A script for `nft -f` that replaces the table in one transaction.
    #[must_use]
    pub fn nftables(&self) -> String {
        let mut lines = vec![format!("table {TABLE}"), format!("delete table {TABLE}"), format!("table {TABLE} {{")];
        let tunnel = &self.tunnel;
        let mut chain = |name: &str, hook: &str, rules: Vec<String>| {
            lines.push(format!("  chain {name} {{"));
            lines.push(format!("    type {hook};"));
            lines.extend(rules.into_iter().map(|rule| format!("    {rule}")));
            lines.push("  }".into());
        };
        let mut arrive: Vec<_> = self
            .ports
            .iter()
            .map(|(port, listener)| format!("udp dport {port} counter accept comment \"listener {listener}\""))
            .collect();
        if let Some(port) = self.publishes {
            arrive.push(format!("tcp dport {port} counter accept comment \"state of certificates\""));
        }
        arrive.push(format!("iifname \"{tunnel}\" ct state established,related accept"));
        for (pool, reach) in &self.reach {
            arrive.push(format!("iifname \"{tunnel}\" ip saddr {pool} icmp type echo-request accept"));
            for range in reach.iter().filter(|range| matches!(range, IpNet::V4(_))) {
                arrive.push(format!("iifname \"{tunnel}\" ip saddr {pool} ip daddr {range} accept"));
            }
        }
        if let Some(at) = self.answers {
            let (address, port) = (at.ip(), at.port());
            arrive.push(format!("iifname \"{tunnel}\" ip daddr {address} tcp dport {port} accept comment \"metrics\""));
        }
        arrive.push(format!("iifname \"{tunnel}\" counter drop comment \"beyond reach\""));
        chain("arrive", "filter hook input priority filter", arrive);

        let mut pass = vec![
            format!("iifname \"{tunnel}\" ct state established,related accept"),
            format!("oifname \"{tunnel}\" ct state established,related accept"),
        ];
        for (pool, reach) in &self.reach {
            for range in reach.iter().filter(|range| matches!(range, IpNet::V4(_))) {
                pass.push(format!("iifname \"{tunnel}\" ip saddr {pool} ip daddr {range} accept"));
            }
            for network in self.networks.iter().filter(|range| matches!(range, IpNet::V4(_))) {
                pass.push(format!("oifname \"{tunnel}\" ip saddr {network} ip daddr {pool} accept"));
            }
        }
        pass.push(format!("iifname \"{tunnel}\" counter drop comment \"beyond reach\""));
        pass.push(format!("oifname \"{tunnel}\" counter drop comment \"not from the site\""));
        chain("pass", "filter hook forward priority filter", pass);

        if self.masquerade {
            let rules = self
                .reach
                .iter()
                .map(|(pool, _)| format!("ip saddr {pool} oifname != \"{tunnel}\" masquerade"))
                .collect();
            chain("leave", "nat hook postrouting priority srcnat", rules);
        }
        lines.push("}".into());
        lines.join("\n") + "\n"
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn intent(masquerade: bool) -> Intent {
        Intent {
            ports: vec![(23817, "harbour/talon".into())],
            reach: vec![("10.187.44.0/24".parse().unwrap(), vec!["10.44.0.0/22".parse().unwrap()])],
            answers: None,
            publishes: None,
            networks: vec!["10.44.0.0/22".parse().unwrap()],
            masquerade,
            tunnel: "yestrel0".into(),
        }
    }

    #[test]
    fn exactly_the_listeners_ports_are_opened() {
        let script = intent(true).nftables();
        let opened: Vec<_> = script.lines().filter(|line| line.contains("dport")).collect();
        assert_eq!(opened, ["    udp dport 23817 counter accept comment \"listener harbour/talon\""]);
        assert!(script.starts_with("table inet yestrel\ndelete table inet yestrel\n"));
    }

    #[test]
    fn devices_are_kept_to_their_reach_in_both_chains() {
        let script = intent(true).nftables();
        let within = "iifname \"yestrel0\" ip saddr 10.187.44.0/24 ip daddr 10.44.0.0/22 accept";
        assert_eq!(script.matches(within).count(), 2);
        assert_eq!(script.matches("iifname \"yestrel0\" counter drop").count(), 2);
    }

    #[test]
    fn masquerade_only_when_asked() {
        assert!(intent(true).nftables().contains("masquerade"));
        assert!(!intent(false).nftables().contains("masquerade"));
    }
}
