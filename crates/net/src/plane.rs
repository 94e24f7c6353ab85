//! How inner traffic meets the site: through the system's kernel, or through a stack inside the process.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::{Arc, Weak};

use ipnet::IpNet;
use parking_lot::{Mutex, RwLock};
use yestrel_core::findings::Plane as PlaneKind;
use yestrel_core::firewall::{Intent, TABLE};
use yestrel_core::order::{Content, OrderListener};
use yestrel_core::pool::gateway_address;
use yestrel_core::{Problem, Result};
use yestrel_wire::Moment;

use crate::clock;
use crate::netlink::{MAIN, Netlink};
use crate::nft::nft;
use crate::packets::{Batch, Sender, Tun, TunBuffers, ends};
use crate::seats::{Carrier, Seat, Seats};
use crate::stack::{Outside, Stack};
use crate::watch::Seen;

/// The name of the agent's own table.
pub const OWN: &str = "yestrel";
const FORWARDING: &str = "/proc/sys/net/ipv4/ip_forward";
const FORWARDING6: &str = "/proc/sys/net/ipv6/conf/all/forwarding";
/// Whether an interface learns its addresses and routes from routers (RFC 4861): 1 as long as the system does not forward, 2 always.
const INTERFACES6: &str = "/proc/sys/net/ipv6/conf";
/// The name of the gateway's TUN device; the system puts a number for %d.
const TUN_NAME: &str = "yestrel%d";

/// What the order in force allows, for the process's plane, which has no firewall below it.
type Rules = Arc<RwLock<Option<(Intent, Vec<ipnet::Ipv4Net>)>>>;

/// What a plane stands on.
#[derive(Debug, Clone, Default)]
pub struct Ground {
    /// The address that the agent's own sockets use; all of them without.
    pub bind: Option<IpAddr>,
    /// In the lab: where inner addresses really are.
    pub real: HashMap<SocketAddr, SocketAddr>,
}

/// One of the two planes, running.
pub enum Plane {
    /// With the firewall table as the system shows it after the last switch.
    Kernel {
        tun: Arc<Tun>,
        name: String,
        table: Mutex<String>,
    },
    Process {
        stack: Stack,
        rules: Rules,
    },
}

impl Plane {
    /// Makes the plane for the first order.
    ///
    /// # Errors
    /// No TUN device, or no thread.
    pub fn make(kind: PlaneKind, content: &Content, ground: &Ground, seats: &Arc<Seats>) -> Result<Self> {
        match kind {
            PlaneKind::Kernel => {
                let no_tun =
                    |error: std::io::Error| Problem::failed("the TUN device cannot be made").why(error.to_string());
                let tun = Arc::new(Tun::create(TUN_NAME, packet_size(content)).map_err(no_tun)?);
                let name = tun.name().map_err(no_tun)?;
                let (reading, weak) = (tun.clone(), Arc::downgrade(seats));
                std::thread::Builder::new()
                    .name("from-site".into())
                    .spawn(move || carry_from_site(&reading, &weak))
                    .map_err(no_tun)?;
                Ok(Self::Kernel { tun, name, table: Mutex::default() })
            }
            PlaneKind::Process => {
                let rules = Rules::default();
                let own = content
                    .listeners
                    .first()
                    .map_or(Ipv4Addr::new(10, 187, 44, 1), |first| gateway_address(&first.pool));
                let own_addresses = OwnAddresses::default();
                let (seen, routed, real) = (rules.clone(), rules.clone(), ground.real.clone());
                let outside = Outside {
                    allowed: Box::new(move |source, destination, port| {
                        let (source, destination) = (IpAddr::V4(source), IpAddr::V4(destination));
                        let rules = seen.read();
                        rules.as_ref().is_some_and(|(intent, _)| {
                            intent.lets(source, destination, port)
                                && (!own_addresses.has(destination) || intent.names(source, destination, port))
                        })
                    }),
                    real: Box::new(move |to: SocketAddrV4| {
                        let to = SocketAddr::V4(to);
                        real.get(&to).copied().unwrap_or(to)
                    }),
                    source: ground.bind,
                    router: Box::new(move |source| {
                        let rules = routed.read();
                        let pools = rules.as_ref().map(|(_, pools)| pools.as_slice()).unwrap_or_default();
                        pools.iter().find(|pool| pool.contains(&source)).map(gateway_address)
                    }),
                };
                let weak = Arc::downgrade(seats);
                let emit = Arc::new(move |packet: &[u8]| {
                    if let Some(seats) = weak.upgrade() {
                        send_to_device(&seats, packet);
                    }
                });
                let stack = Stack::start(own, packet_size(content), Some(outside), emit)?;
                Ok(Self::Process { stack, rules })
            }
        }
    }

    pub fn kind(&self) -> PlaneKind {
        match self {
            Self::Kernel { .. } => PlaneKind::Kernel,
            Self::Process { .. } => PlaneKind::Process,
        }
    }

    /// Whether inner IPv6 packets go anywhere: the stack inside the process ends IPv4 alone, and a system may have none.
    #[must_use]
    pub fn carries_ipv6(&self) -> bool {
        matches!(self, Self::Kernel { .. }) && has_ipv6()
    }

    /// Whether the order could be carried out, without changing anything.
    ///
    /// # Errors
    /// What stands against it.
    pub fn check(&self, content: &Content) -> Result<()> {
        let Self::Kernel { name, .. } = self else { return Ok(()) };
        nft(&["-c", "-f", "-"], &Intent::of(content, name).nftables())?;
        if let Some(outward) = &content.outward
            && nix::net::if_::if_nametoindex(outward.as_str()).is_err()
        {
            return Err(Problem::refused(format!("this host has no interface {outward}"))
                .why("the gateway's order names it as the one towards the outside")
                .try_("yestrel gateway change NAME --outward with one that yestrel host probe shows"));
        }
        Ok(())
    }

    /// Puts addresses, firewall and forwarding into force. `remember` is told whether the system forwarded before that is
    /// changed.
    ///
    /// # Errors
    /// Something of it does not work.
    pub fn switch(&self, content: &Content, remember: &dyn Fn(Forwarded) -> Result<()>) -> Result<()> {
        match self {
            Self::Kernel { name, table, .. } => {
                let netlink = Netlink::new()?;
                netlink.set_packet_size(name, packet_size(content))?;
                let wanted = wanted(content);
                for address in &wanted {
                    netlink.add_address(name, address.addr(), address.prefix_len())?;
                }
                // The system adds a route with an address, and not again when only the route was lost.
                let there = netlink.routes(name)?;
                for range in wanted.iter().map(IpNet::trunc).filter(|range| !there.contains(range)) {
                    netlink.add_route(range, name, MAIN)?;
                }
                netlink.remove_addresses_but(name, &wanted.iter().map(IpNet::addr).collect::<Vec<_>>())?;
                let before = Forwarded::now();
                remember(before)?;
                nft(&["-f", "-"], &Intent::of(content, name).nftables())?;
                *table.lock() = shown()?;
                if !before.four {
                    set(FORWARDING, "1")?;
                }
                if !before.six && forwards_ipv6(content) {
                    forward_ipv6()?;
                }
            }
            Self::Process { rules, .. } => {
                let pools = content.listeners.iter().map(|listener| listener.pool).collect();
                *rules.write() = Some((Intent::of(content, ""), pools));
            }
        }
        Ok(())
    }

    /// Whether its TUN device is still there.
    #[must_use]
    pub fn is_there(&self) -> bool {
        match self {
            Self::Kernel { name, .. } => nix::net::if_::if_nametoindex(name.as_str()).is_ok(),
            Self::Process { .. } => true,
        }
    }

    /// What of the system is not as the last switch left it, in words: something else has changed it since.
    ///
    /// # Errors
    /// The system cannot be asked.
    pub fn amiss(&self, content: &Content, seen: Seen) -> Result<Vec<&'static str>> {
        let Self::Kernel { name, table, .. } = self else { return Ok(Vec::new()) };
        let mut amiss = Vec::new();
        if seen.firewall && shown().ok().as_ref() != Some(&*table.lock()) {
            amiss.push("firewall rules");
        }
        if seen.network {
            let netlink = Netlink::new()?;
            let wanted = wanted(content);
            let (addresses, up) = netlink.addresses(name)?;
            let same = |a: &[IpNet], b: &[IpNet]| a.iter().all(|one| b.contains(one));
            if !up || !same(&addresses, &wanted) || !same(&wanted, &addresses) {
                amiss.push("addresses");
            } else {
                let routes = netlink.routes(name)?;
                if wanted.iter().any(|address| !routes.contains(&address.trunc())) {
                    amiss.push("routes");
                }
            }
            let forwards = Forwarded::now();
            if !forwards.four || forwards_ipv6(content) && !forwards.six {
                amiss.push("forwarding");
            }
        }
        Ok(amiss)
    }

    /// Gives packets that came out of the tunnel to the site.
    pub fn deliver(&self, batch: &mut Batch) {
        match self {
            Self::Kernel { tun, .. } => tun.write(batch),
            Self::Process { stack, .. } => batch.drain().for_each(|packet| stack.packet(packet)),
        }
    }

    /// Takes everything back that was changed on the machine. The TUN device goes with the process.
    ///
    /// # Errors
    /// Something could not be taken back; then it can be tried again.
    pub fn undo(&self, forwarded: Option<Forwarded>) -> Result<()> {
        let Self::Kernel { name, .. } = self else { return Ok(()) };
        // What can be taken back is, whatever else cannot.
        let addresses = Netlink::new().and_then(|netlink| netlink.remove_addresses_but(name, &[]));
        take_back(forwarded).and(addresses)
    }
}

/// The addresses that the TUN device is to have.
fn wanted(content: &Content) -> Vec<IpNet> {
    let each = |listener: &OrderListener| {
        let pairs = listener.gateways().into_iter().zip(listener.pools());
        let nets = pairs.filter_map(|(address, pool)| IpNet::new(address, pool.prefix_len()).ok());
        nets.collect::<Vec<_>>()
    };
    // A system without IPv6 gives out none; what its devices send there is dropped.
    let has_six = has_ipv6();
    let mut wanted: Vec<_> = content.listeners.iter().flat_map(each).collect();
    wanted.retain(|net| has_six || matches!(net, IpNet::V4(_)));
    wanted
}

/// Whether an order needs a system that forwards IPv6, on one that has it.
fn forwards_ipv6(content: &Content) -> bool {
    let six = |listener: &OrderListener| {
        listener.pool6.is_some() && listener.reach.iter().any(|range| matches!(range, IpNet::V6(_)))
    };
    has_ipv6() && content.listeners.iter().any(six)
}

/// The agent's own table as the system shows it, without counters.
fn shown() -> Result<String> {
    nft(&["--stateless", "list", "table", "inet", OWN], "")
}

/// Takes back what outlives the process: the firewall table, and forwarding where it was switched on (`forwarded`: what it was
/// before, if it was changed).
///
/// # Errors
/// The table cannot be removed, or forwarding not switched off.
pub fn take_back(forwarded: Option<Forwarded>) -> Result<()> {
    // Where nothing was changed there may be no firewall's tool at all.
    let Some(before) = forwarded else { return Ok(()) };
    remove_table()?;
    let now = Forwarded::now();
    if !before.four && now.four {
        set(FORWARDING, "0")?;
    }
    if !before.six && now.six {
        set(FORWARDING6, "0")?;
        learn_from_routers("2", "1");
    }
    Ok(())
}

/// Removes the agent's own firewall table; whether there was one.
///
/// # Errors
/// It cannot be seen whether there is one, or it cannot be removed.
pub fn remove_table() -> Result<bool> {
    let tables = nft(&["list", "tables"], "")
        .map_err(|problem| Problem::failed("whether a firewall table is left cannot be seen").why(problem.line()))?;
    let there = tables.lines().any(|line| line.trim() == format!("table {TABLE}"));
    if there {
        nft(&["-f", "-"], &format!("delete table {TABLE}\n"))?;
    }
    Ok(there)
}

/// Whether a system forwards packets, of both IP versions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Forwarded {
    pub four: bool,
    pub six: bool,
}

impl Forwarded {
    /// What the system does now.
    #[must_use]
    pub fn now() -> Self {
        let is_on = |path: &str| std::fs::read_to_string(path).unwrap_or_default().trim() == "1";
        Self { four: is_on(FORWARDING), six: is_on(FORWARDING6) }
    }
}

fn has_ipv6() -> bool {
    std::path::Path::new("/proc/net/if_inet6").exists()
}

fn set(path: &str, value: &str) -> Result<()> {
    std::fs::write(path, value)
        .map_err(|error| Problem::failed("forwarding cannot be switched").why(format!("{path}: {error}")))
}

/// Switches forwarding of IPv6 on. A system that forwards no longer learns its own address and route from routers unless it is told to;
/// without that, many hosts would lose their way out.
fn forward_ipv6() -> Result<()> {
    learn_from_routers("1", "2");
    set(FORWARDING6, "1")
}

/// Changes how interfaces that learn from routers do it.
fn learn_from_routers(from: &str, to: &str) {
    for entry in std::fs::read_dir(INTERFACES6).into_iter().flatten().flatten() {
        let path = entry.path().join("accept_ra");
        if std::fs::read_to_string(&path).is_ok_and(|text| text.trim() == from) {
            let _ = std::fs::write(path, to);
        }
    }
}

/// The addresses of this host, asked anew when they have been known for a while.
#[derive(Default)]
struct OwnAddresses(Mutex<Option<(Moment, HashSet<IpAddr>)>>);

impl OwnAddresses {
    /// Milliseconds for which they stay as they were.
    const KEPT: u64 = 5_000;

    fn has(&self, address: IpAddr) -> bool {
        let now = clock::now();
        let mut known = self.0.lock();
        let fresh = known.as_ref().filter(|(since, _)| since.after(Self::KEPT) > now);
        if let Some((_, addresses)) = fresh {
            return addresses.contains(&address);
        }
        let addresses = own_addresses();
        let has = addresses.contains(&address);
        *known = Some((now, addresses));
        has
    }
}

fn own_addresses() -> HashSet<IpAddr> {
    let all = nix::ifaddrs::getifaddrs().into_iter().flatten().filter_map(|one| one.address);
    all.filter_map(|address| {
        let four = address.as_sockaddr_in().map(|four| IpAddr::V4(four.ip()));
        four.or_else(|| address.as_sockaddr_in6().map(|six| IpAddr::V6(six.ip())))
    })
    .collect()
}

/// The TUN device carries all listeners, so it takes the largest packet of any.
fn packet_size(content: &Content) -> u16 {
    content.listeners.iter().map(|listener| listener.packet_size).max().unwrap_or(1400)
}

/// Finds the device that a packet is for, and sends it there. Packets for nobody are dropped.
fn send_to_device(seats: &Seats, packet: &[u8]) {
    let Some(seat) = ends(packet).and_then(|(_, destination)| seats.find(destination)) else { return };
    seat.mark();
    if !seat.takes(packet) {
        return;
    }
    let (carrier, mut sender) = (seat.carrier(), Sender::default());
    carrier.carry(clock::now(), packet, &mut sender);
    carrier.flush(&mut sender);
}

/// One thread: what the system sends towards devices goes into their tunnels.
fn carry_from_site(tun: &Tun, seats: &Weak<Seats>) {
    let mut buffers = TunBuffers::default();
    let mut sender = Sender::default();
    let mut current: Option<(IpAddr, Arc<Seat>, Arc<dyn Carrier>)> = None;
    loop {
        let Ok(packets) = tun.read(&mut buffers) else { return };
        let Some(seats) = seats.upgrade() else { return };
        let now = clock::now();
        for packet in packets {
            let Some((_, destination)) = ends(packet) else { continue };
            // Packets of one read are mostly for one device: it is looked up once.
            if current.as_ref().is_none_or(|(inner, ..)| *inner != destination) {
                if let Some((.., carrier)) = &current {
                    carrier.flush(&mut sender);
                }
                current = seats.find(destination).map(|seat| {
                    seat.mark();
                    let carrier = seat.carrier();
                    (destination, seat, carrier)
                });
            }
            if let Some((_, seat, carrier)) = &current
                && seat.takes(packet)
            {
                carrier.carry(now, packet, &mut sender);
            }
        }
        if let Some((.., carrier)) = current.take() {
            carrier.flush(&mut sender);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_hosts_own_addresses_are_known() {
        let own = OwnAddresses::default();
        assert!(own.has("127.0.0.1".parse().unwrap()));
        assert!(!own.has("192.0.2.77".parse().unwrap()));
    }
}
