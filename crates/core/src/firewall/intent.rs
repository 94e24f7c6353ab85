//! What the firewall of a gateway is to do.

use std::net::IpAddr;

use ipnet::IpNet;

use super::{Protocol, Service};
use crate::order::Content;

/// Addresses that are spoken of together: the pool of a listener, the networks of the site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Set {
    /// For comments: "harbour/quill".
    pub name: String,
    pub ranges: Vec<IpNet>,
}

/// One way for packets to the gateway itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opens {
    /// A port or an IP protocol; `None`: a question whether it is there (an echo request).
    pub service: Option<Service>,
    /// From whom, through the tunnel; `None`: from anywhere outside.
    pub from: Option<Set>,
    /// At this address of the gateway; `None`: at all of them.
    pub at: Option<IpAddr>,
    /// Who needs it.
    pub for_: String,
}

/// One way for packets through the gateway, and to what of it is in that range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Allows {
    pub from: Set,
    pub to: IpNet,
    /// Only this protocol; `None`: whatever it is.
    pub protocol: Option<Protocol>,
    /// Only this port of it.
    pub port: Option<u16>,
}

/// What the firewall is to do, in the words of the job.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intent {
    /// What the gateway itself takes.
    pub opens: Vec<Opens>,
    /// What devices may begin.
    pub allows: Vec<Allows>,
    /// What the site may begin towards devices.
    pub answers: Vec<Allows>,
    /// Whose packets leave under the gateway's own address; empty where addresses are routed.
    pub masquerade: Vec<Set>,
    /// The interface of inner traffic.
    pub tunnel: String,
}

impl Intent {
    /// What an order asks for, with inner traffic on the interface `tunnel`.
    #[must_use]
    pub fn of(content: &Content, tunnel: &str) -> Self {
        let pools: Vec<_> = content
            .listeners
            .iter()
            .map(|listener| Set { name: listener.name.clone(), ranges: listener.pools() })
            .collect();
        let outside = |service: Service, for_: String| Opens { service: Some(service), from: None, at: None, for_ };
        let mut opens: Vec<_> = content
            .listeners
            .iter()
            .flat_map(|listener| {
                listener.serves.iter().map(move |service| (*service, format!("listener {}", listener.name)))
            })
            .map(|(service, for_)| outside(service, for_))
            .collect();
        opens.extend(
            content.publish.iter().map(|publish| outside(Service::tcp(publish.port), "state of certificates".into())),
        );
        for (listener, pool) in content.listeners.iter().zip(&pools) {
            opens.extend(listener.gateways().into_iter().map(|at| Opens {
                service: None,
                from: Some(pool.clone()),
                at: Some(at),
                for_: "is it there".into(),
            }));
            // A full tunnel names none of the gateway's own addresses; a resolver that runs there is meant all the same.
            let named = |resolver: &IpAddr| {
                listener.reach.iter().any(|range| range.prefix_len() > 0 && range.contains(resolver))
            };
            for resolver in listener.resolvers.iter().filter(|resolver| !named(resolver)) {
                opens.extend([Service::udp(53), Service::tcp(53)].map(|service| Opens {
                    service: Some(service),
                    from: Some(pool.clone()),
                    at: Some(*resolver),
                    for_: "names".into(),
                }));
            }
        }
        if let Some(at) = content.metrics {
            let ranges = pools.iter().flat_map(|pool| pool.ranges.clone()).collect();
            opens.push(Opens {
                service: Some(Service::tcp(at.port())),
                from: Some(Set { name: "devices".into(), ranges }),
                at: Some(IpAddr::V4(*at.ip())),
                for_: "metrics".into(),
            });
        }
        let all = |from: &Set, to: IpNet| Allows { from: from.clone(), to, protocol: None, port: None };
        let allows = content
            .listeners
            .iter()
            .zip(&pools)
            .flat_map(|(listener, pool)| listener.reach.iter().map(move |range| all(pool, *range)))
            .collect();
        let networks = Set { name: "the site".into(), ranges: content.networks.clone() };
        let answers = pools.iter().flat_map(|pool| pool.ranges.iter().map(|range| all(&networks, *range))).collect();
        let masquerade = if content.masquerade { pools } else { Vec::new() };
        Self { opens, allows, answers, masquerade, tunnel: tunnel.into() }
    }

    /// Whether one of the gateway's own addresses is meant: a range names it (everything names none), or something is opened there to this
    /// device. For a plane with no firewall below it.
    #[must_use]
    pub fn names(&self, from: IpAddr, own: IpAddr, port: Option<(Protocol, u16)>) -> bool {
        let named = Self {
            allows: self.allows.iter().filter(|one| one.to.prefix_len() > 0).cloned().collect(),
            ..self.clone()
        };
        let opened = self.opens.iter().any(|opens| {
            let devices = opens.from.as_ref().is_some_and(|set| set.ranges.iter().any(|range| range.contains(&from)));
            let service = match (opens.service, port) {
                (Some(Service::Port(protocol, number)), Some(port)) => port == (protocol, number),
                _ => false,
            };
            devices && opens.at == Some(own) && service
        });
        opened || named.lets(from, own, port)
    }

    /// Whether a packet from a device's address may begin towards an address, and there to this port, if it is for one: the same
    /// rules, for a plane with no firewall below it.
    #[must_use]
    pub fn lets(&self, from: IpAddr, to: IpAddr, port: Option<(Protocol, u16)>) -> bool {
        self.allows.iter().any(|allows| {
            allows.from.ranges.iter().any(|range| range.contains(&from))
                && allows.to.contains(&to)
                && allows.protocol.is_none_or(|only| port.is_some_and(|(protocol, _)| protocol == only))
                && allows.port.is_none_or(|only| port.is_some_and(|(_, port)| port == only))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample;

    #[test]
    fn an_order_becomes_what_it_opens_and_what_it_allows() {
        let mut content = sample::content();
        content.publish = Some(crate::order::OrderPublish { port: 8080, authorities: Default::default() });
        let intent = Intent::of(&content, "yestrel0");
        let outside: Vec<_> = intent.opens.iter().filter(|opens| opens.from.is_none()).collect();
        let said: Vec<_> = outside.iter().map(|one| format!("{} {}", one.service.unwrap(), one.for_)).collect();
        assert_eq!(said, ["23817/udp listener harbour/quill", "8080/tcp state of certificates"]);
        assert_eq!(intent.allows.len(), 1);
        assert_eq!(intent.masquerade.len(), 1);
        content.masquerade = false;
        assert!(Intent::of(&content, "yestrel0").masquerade.is_empty());
    }

    /// The gateway may itself be the resolver of its site, as many routers are.
    #[test]
    fn names_can_be_asked_of_the_gateway_through_a_full_tunnel() {
        let mut content = sample::content();
        content.listeners[0].resolvers = vec!["10.44.0.1".parse().unwrap()];
        let names = |content: &Content| {
            let intent = Intent::of(content, "yestrel0");
            intent.opens.iter().filter(|opens| opens.for_ == "names").map(|opens| opens.at).collect::<Vec<_>>()
        };
        assert_eq!(names(&content), [], "the reach names it");
        content.listeners[0].reach = vec!["0.0.0.0/0".parse().unwrap()];
        assert_eq!(names(&content), [Some("10.44.0.1".parse().unwrap()); 2]);
        let script = Intent::of(&content, "yestrel0").nftables();
        for protocol in ["udp", "tcp"] {
            let rule = format!(
                "ip saddr {{ 10.187.44.0/24 }} ip daddr 10.44.0.1 {protocol} dport 53 accept comment \"names\""
            );
            assert!(script.contains(&rule), "{script}");
        }
    }

    #[test]
    fn the_gateways_own_addresses_are_reached_where_they_are_named() {
        let mut content = sample::content();
        content.listeners[0].resolvers = vec!["10.44.0.1".parse().unwrap()];
        let names = |content: &Content, own: &str, port: u16, protocol| {
            let intent = Intent::of(content, "");
            intent.names("10.187.44.2".parse().unwrap(), own.parse().unwrap(), Some((protocol, port)))
        };
        assert!(names(&content, "10.44.0.1", 22, Protocol::Tcp), "the site is named");
        content.listeners[0].reach = vec!["0.0.0.0/0".parse().unwrap(), "::/0".parse().unwrap()];
        for own in ["10.44.0.1", "203.0.113.10", "10.187.44.1"] {
            assert!(!names(&content, own, 22, Protocol::Tcp), "{own}");
        }
        assert!(names(&content, "10.44.0.1", 53, Protocol::Udp) && names(&content, "10.44.0.1", 53, Protocol::Tcp));
        assert!(!names(&content, "203.0.113.10", 53, Protocol::Udp));
        content.listeners[0].reach.push("203.0.113.10/32".parse().unwrap());
        assert!(names(&content, "203.0.113.10", 22, Protocol::Tcp));
    }

    #[test]
    fn a_device_is_let_to_its_reach_and_nowhere_else() {
        let mut intent = Intent::of(&sample::content(), "x");
        let lets = |intent: &Intent, from: &str, to: &str, port| {
            intent.lets(from.parse().unwrap(), to.parse().unwrap(), Some((Protocol::Tcp, port)))
        };
        assert!(lets(&intent, "10.187.44.2", "10.44.0.20", 80));
        assert!(!lets(&intent, "10.187.44.2", "10.48.0.20", 80), "beyond reach");
        assert!(!lets(&intent, "10.187.45.2", "10.44.0.20", 80), "another pool");
        (intent.allows[0].protocol, intent.allows[0].port) = (Some(Protocol::Tcp), Some(443));
        assert!(!lets(&intent, "10.187.44.2", "10.44.0.20", 80));
        assert!(lets(&intent, "10.187.44.2", "10.44.0.20", 443));
        intent.allows[0].protocol = Some(Protocol::Udp);
        assert!(!lets(&intent, "10.187.44.2", "10.44.0.20", 443));
    }
}
