//! Addresses, routes and rules of the system, through netlink. Each call runs to its end before it returns.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::IpNet;
use rtnetlink::packet_route::address::AddressAttribute;
use rtnetlink::packet_route::link::LinkAttribute;
use rtnetlink::packet_route::route::{RouteAddress, RouteAttribute, RouteMessage, RouteType};
use rtnetlink::packet_route::rule::{RuleAction, RuleAttribute, RulePortRange};
use rtnetlink::packet_route::{AddressFamily, IpProtocol};
use rtnetlink::{Handle, RouteMessageBuilder};
use serde::{Deserialize, Serialize};
use tokio::runtime::Runtime;
use yestrel_core::findings::Interface;
use yestrel_core::{Problem, Result};

/// The system's main routing table (rtnetlink(7)).
pub const MAIN: u32 = 254;

/// A connection to the system's routing.
pub struct Netlink {
    runtime: Runtime,
    handle: Handle,
}

/// One rule of policy routing; what is not given matches everything.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rule {
    pub priority: u32,
    pub table: u32,
    pub v6: bool,
    pub to: Option<IpNet>,
    /// IP protocol by its number; it must be there when a port is.
    pub protocol: Option<u8>,
    pub source_port: Option<u16>,
    pub destination_port: Option<u16>,
}

/// Which families a removal is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Families {
    Both,
    OnlyV6,
}

/// The range that a route leads to.
fn destination(route: &RouteMessage) -> Option<IpNet> {
    let any = if route.header.address_family == AddressFamily::Inet6 {
        IpAddr::V6(std::net::Ipv6Addr::UNSPECIFIED)
    } else {
        IpAddr::V4(Ipv4Addr::UNSPECIFIED)
    };
    let address = route.attributes.iter().find_map(|attribute| match attribute {
        RouteAttribute::Destination(RouteAddress::Inet(four)) => Some(IpAddr::V4(*four)),
        RouteAttribute::Destination(RouteAddress::Inet6(six)) => Some(IpAddr::V6(*six)),
        _ => None,
    });
    IpNet::new(address.unwrap_or(any), route.header.destination_prefix_length).ok()
}

fn cannot(what: &str) -> impl Fn(rtnetlink::Error) -> Problem + '_ {
    move |error| Problem::failed(format!("the system did not {what}")).why(error.to_string())
}

fn already(error: &rtnetlink::Error) -> bool {
    matches!(error, rtnetlink::Error::NetlinkError(message) if message.raw_code() == -17)
}

impl Netlink {
    /// Connects.
    ///
    /// # Errors
    /// The system has no netlink.
    pub fn new() -> Result<Self> {
        let fail =
            |error: std::io::Error| Problem::failed("the system's routing cannot be asked").why(error.to_string());
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(fail)?;
        let handle = runtime.block_on(async {
            let (connection, handle, _) = rtnetlink::new_connection()?;
            tokio::spawn(connection);
            Ok::<_, std::io::Error>(handle)
        });
        Ok(Self { handle: handle.map_err(fail)?, runtime })
    }

    fn index(&self, name: &str) -> Result<u32> {
        nix::net::if_::if_nametoindex(name).map_err(|_| {
            Problem::failed(format!("there is no interface {name}")).try_("ip link   shows the ones there are")
        })
    }

    /// Gives an interface an address and switches it on. The same again is fine.
    ///
    /// # Errors
    /// No such interface, or no privileges.
    pub fn add_address(&self, interface: &str, address: IpAddr, prefix: u8) -> Result<()> {
        let index = self.index(interface)?;
        self.runtime.block_on(async {
            match self.handle.address().add(index, address, prefix).execute().await {
                Err(error) if !already(&error) => Err(cannot("give an interface its address")(error)),
                _ => Ok(()),
            }
        })?;
        let up = rtnetlink::LinkUnspec::new_with_index(index).up().build();
        self.runtime.block_on(self.handle.link().set(up).execute()).map_err(cannot("switch an interface on"))
    }

    /// Takes every address of an interface that is not in `keep`, but those of the link itself.
    ///
    /// # Errors
    /// No such interface, or no privileges.
    pub fn remove_addresses_but(&self, interface: &str, keep: &[IpAddr]) -> Result<()> {
        use futures_lite_stream::collect;
        let index = self.index(interface)?;
        self.runtime.block_on(async {
            let found = collect(self.handle.address().get().set_link_index_filter(index).execute()).await;
            for message in found.into_iter().flatten() {
                let addresses: Vec<_> =
                    message
                        .attributes
                        .iter()
                        .filter_map(|attribute| {
                            if let AddressAttribute::Address(address) = attribute { Some(*address) } else { None }
                        })
                        .collect();
                let of_link = |address: &IpAddr| matches!(address, IpAddr::V6(six) if six.is_unicast_link_local());
                if addresses.iter().all(|address| !of_link(address) && !keep.contains(address)) {
                    let _ = self.handle.address().del(message).execute().await;
                }
            }
        });
        Ok(())
    }

    /// The addresses of an interface, but those of the link itself; and whether it is switched on.
    ///
    /// # Errors
    /// No such interface.
    pub fn addresses(&self, interface: &str) -> Result<(Vec<IpNet>, bool)> {
        self.index(interface)?;
        let found = self.interfaces().into_iter().find(|one| one.name == interface);
        let (addresses, up) = found.map(|one| (one.addresses, one.up)).unwrap_or_default();
        let of_link = |net: &IpNet| matches!(net.addr(), IpAddr::V6(six) if six.is_unicast_link_local());
        Ok((addresses.into_iter().filter(|net| !of_link(net)).collect(), up))
    }

    /// The ranges that the main table has routes to through an interface.
    ///
    /// # Errors
    /// No such interface.
    pub fn routes(&self, interface: &str) -> Result<Vec<IpNet>> {
        use futures_lite_stream::collect;
        let index = self.index(interface)?;
        let messages =
            [RouteMessageBuilder::<Ipv4Addr>::new().build(), RouteMessageBuilder::<std::net::Ipv6Addr>::new().build()];
        Ok(self.runtime.block_on(async {
            let mut ranges = Vec::new();
            for message in messages {
                for route in collect(self.handle.route().get(message).execute()).await.into_iter().flatten() {
                    let through = RouteAttribute::Oif(index);
                    if u32::from(route.header.table) == MAIN && route.attributes.contains(&through) {
                        ranges.extend(destination(&route));
                    }
                }
            }
            ranges
        }))
    }

    /// Sets the largest packet of an interface.
    ///
    /// # Errors
    /// No such interface, or no privileges.
    pub fn set_packet_size(&self, interface: &str, bytes: u16) -> Result<()> {
        let index = self.index(interface)?;
        let message = rtnetlink::LinkUnspec::new_with_index(index).mtu(u32::from(bytes)).build();
        self.runtime
            .block_on(self.handle.link().set(message).execute())
            .map_err(cannot("set an interface's packet size"))
    }

    /// Adds a route to `range` through `interface` in `table`. The same again is fine.
    ///
    /// # Errors
    /// No such interface, or no privileges.
    pub fn add_route(&self, range: IpNet, interface: &str, table: u32) -> Result<()> {
        let index = self.index(interface)?;
        let request = match range {
            IpNet::V4(four) => {
                let route = RouteMessageBuilder::<Ipv4Addr>::new().destination_prefix(four.addr(), four.prefix_len());
                self.handle.route().add(route.output_interface(index).table_id(table).build())
            }
            IpNet::V6(six) => {
                let route =
                    RouteMessageBuilder::<std::net::Ipv6Addr>::new().destination_prefix(six.addr(), six.prefix_len());
                self.handle.route().add(route.output_interface(index).table_id(table).build())
            }
        };
        match self.runtime.block_on(request.execute()) {
            Err(error) if !already(&error) => Err(cannot("add a route")(error)),
            _ => Ok(()),
        }
    }

    /// Lets everything in `table` that no better route takes end as unreachable.
    ///
    /// # Errors
    /// No privileges, or no such family in this system.
    pub fn add_unreachable(&self, v6: bool, table: u32) -> Result<()> {
        // The lowest preference there is: any other route in the table is better.
        let request = if v6 {
            let route = RouteMessageBuilder::<std::net::Ipv6Addr>::new().kind(RouteType::Unreachable);
            self.handle.route().add(route.table_id(table).priority(u32::MAX - 1).build())
        } else {
            let route = RouteMessageBuilder::<Ipv4Addr>::new().kind(RouteType::Unreachable);
            self.handle.route().add(route.table_id(table).priority(u32::MAX - 1).build())
        };
        match self.runtime.block_on(request.execute()) {
            Err(error) if !already(&error) => Err(cannot("block a family")(error)),
            _ => Ok(()),
        }
    }

    /// Takes [`Netlink::add_unreachable`] of IPv6 back.
    pub fn remove_unreachable6(&self, table: u32) {
        let route = RouteMessageBuilder::<std::net::Ipv6Addr>::new().kind(RouteType::Unreachable);
        let route = route.table_id(table).priority(u32::MAX - 1).build();
        let _ = self.runtime.block_on(self.handle.route().del(route).execute());
    }

    /// Removes the routes of `table` but those to one of `wanted`. What ends as unreachable stays, unless nothing is wanted.
    pub fn retain_routes(&self, table: u32, wanted: &[IpNet], families: Families) {
        use futures_lite_stream::collect;
        let v6 = RouteMessageBuilder::<std::net::Ipv6Addr>::new().build();
        let messages = match families {
            Families::Both => vec![RouteMessageBuilder::<Ipv4Addr>::new().build(), v6],
            Families::OnlyV6 => vec![v6],
        };
        self.runtime.block_on(async {
            for message in messages {
                for route in collect(self.handle.route().get(message).execute()).await.into_iter().flatten() {
                    let own = route
                        .attributes
                        .iter()
                        .any(|attribute| matches!(attribute, RouteAttribute::Table(t) if *t == table))
                        || u32::from(route.header.table) == table;
                    let blocks = route.header.kind == RouteType::Unreachable && !wanted.is_empty();
                    let stays = blocks || destination(&route).is_some_and(|range| wanted.contains(&range));
                    if own && !stays {
                        let _ = self.handle.route().del(route).execute().await;
                    }
                }
            }
        });
    }

    /// Adds a rule.
    ///
    /// # Errors
    /// No privileges, or a system without policy routing.
    pub fn add_rule(&self, rule: &Rule) -> Result<()> {
        let mut request = self.handle.rule().add();
        let message = request.message_mut();
        message.header.family = if rule.v6 { AddressFamily::Inet6 } else { AddressFamily::Inet };
        message.header.action = RuleAction::ToTable;
        message.header.table = u8::try_from(rule.table).unwrap_or(0);
        message.attributes.push(RuleAttribute::Table(rule.table));
        message.attributes.push(RuleAttribute::Priority(rule.priority));
        if let Some(to) = rule.to {
            message.header.dst_len = to.prefix_len();
            message.attributes.push(RuleAttribute::Destination(to.addr()));
        }
        if let Some(protocol) = rule.protocol {
            message.attributes.push(RuleAttribute::IpProtocol(IpProtocol::from(i32::from(protocol))));
        }
        let range = |port| RulePortRange { start: port, end: port };
        if let Some(port) = rule.source_port {
            message.attributes.push(RuleAttribute::SourcePortRange(range(port)));
        }
        if let Some(port) = rule.destination_port {
            message.attributes.push(RuleAttribute::DestinationPortRange(range(port)));
        }
        match self.runtime.block_on(request.execute()) {
            Err(error) if !already(&error) => Err(cannot("add a routing rule")(error)),
            _ => Ok(()),
        }
    }

    /// Removes the rule that is exactly this one, by its priority and source port.
    pub fn remove_rule(&self, wanted: &Rule) {
        use futures_lite_stream::collect;
        let version = if wanted.v6 { rtnetlink::IpVersion::V6 } else { rtnetlink::IpVersion::V4 };
        self.runtime.block_on(async {
            for rule in collect(self.handle.rule().get(version).execute()).await.into_iter().flatten() {
                let has = |test: &dyn Fn(&RuleAttribute) -> bool| rule.attributes.iter().any(test);
                let same = has(&|a| matches!(a, RuleAttribute::Priority(priority) if *priority == wanted.priority))
                    && has(&|a| matches!(a, RuleAttribute::SourcePortRange(range) if Some(range.start) == wanted.source_port));
                if same {
                    let _ = self.handle.rule().del(rule).execute().await;
                }
            }
        });
    }

    /// Removes all rules with one of these priorities.
    pub fn remove_rules(&self, priorities: std::ops::RangeInclusive<u32>, families: Families) {
        use futures_lite_stream::collect;
        let versions: &[rtnetlink::IpVersion] = match families {
            Families::Both => &[rtnetlink::IpVersion::V4, rtnetlink::IpVersion::V6],
            Families::OnlyV6 => &[rtnetlink::IpVersion::V6],
        };
        self.runtime.block_on(async {
            for version in versions {
                for rule in collect(self.handle.rule().get(version.clone()).execute()).await.into_iter().flatten() {
                    let own = rule.attributes.iter().any(
                        |attribute| matches!(attribute, RuleAttribute::Priority(priority) if priorities.contains(priority)),
                    );
                    if own {
                        let _ = self.handle.rule().del(rule).execute().await;
                    }
                }
            }
        });
    }

    /// The interfaces with their addresses, and which one the default route leaves by.
    #[must_use]
    pub fn interfaces(&self) -> Vec<Interface> {
        use futures_lite_stream::collect;
        self.runtime.block_on(async {
            let mut outward = None;
            let routes = RouteMessageBuilder::<Ipv4Addr>::new().build();
            for route in collect(self.handle.route().get(routes).execute()).await.into_iter().flatten() {
                if route.header.destination_prefix_length == 0 && route.header.kind == RouteType::Unicast {
                    outward = outward.or(route.attributes.iter().find_map(|attribute| {
                        if let RouteAttribute::Oif(index) = attribute { Some(*index) } else { None }
                    }));
                }
            }
            let addresses: Vec<_> =
                collect(self.handle.address().get().execute()).await.into_iter().flatten().collect();
            let mut interfaces = Vec::new();
            for link in collect(self.handle.link().get().execute()).await.into_iter().flatten() {
                let name = link.attributes.iter().find_map(|attribute| {
                    if let LinkAttribute::IfName(name) = attribute { Some(name.clone()) } else { None }
                });
                let mut own: Vec<IpNet> = Vec::new();
                let mut leased = false;
                for address in addresses.iter().filter(|address| address.header.index == link.header.index) {
                    // Whoever leases an address tells the system how long it lasts; one without an end is fixed.
                    leased |= address.header.family == AddressFamily::Inet
                        && address.attributes.iter().any(|attribute| {
                            matches!(attribute, AddressAttribute::CacheInfo(info) if info.ifa_valid != u32::MAX)
                        });
                    for attribute in &address.attributes {
                        if let AddressAttribute::Address(ip) = attribute {
                            own.extend(IpNet::new(*ip, address.header.prefix_len));
                        }
                    }
                }
                interfaces.push(Interface {
                    name: name.unwrap_or_default(),
                    addresses: own,
                    up: link.header.flags.contains(rtnetlink::packet_route::link::LinkFlags::Up),
                    outward: outward == Some(link.header.index),
                    leased,
                });
            }
            interfaces
        })
    }
}

/// Collecting a stream of answers; errors within are kept, so that one bad answer does not hide the others.
mod futures_lite_stream {
    use std::pin::pin;

    use futures_core::Stream;

    pub async fn collect<S: Stream>(stream: S) -> Vec<S::Item> {
        let mut stream = pin!(stream);
        let mut items = Vec::new();
        while let Some(item) = std::future::poll_fn(|context| stream.as_mut().poll_next(context)).await {
            items.push(item);
        }
        items
    }
}
