//! How inner traffic meets the site: through the system's kernel, or through a stack inside the process.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::{Arc, Weak};

use ipnet::IpNet;
use parking_lot::RwLock;
use yestrel_core::facts::Plane as PlaneKind;
use yestrel_core::firewall::{Intent, TABLE};
use yestrel_core::order::Content;
use yestrel_core::pool::gateway_address;
use yestrel_core::{Problem, Result};

use super::{Options, Shared};
use crate::keep::{Before, Keep};
use crate::netlink::Netlink;
use crate::packets::{Batch, Sender, Tun, TunBuffers, ipv4_ends};
use crate::stack::{Outside, Stack};
use crate::{clock, probe};

const FORWARDING: &str = "/proc/sys/net/ipv4/ip_forward";
/// The name of the gateway's TUN device; the system puts a number for %d.
const TUN_NAME: &str = "yestrel%d";

/// Pools and what each may reach, for the process's plane, which has no firewall below it.
type Rules = Arc<RwLock<Vec<(ipnet::Ipv4Net, Vec<IpNet>)>>>;

/// One of the two planes, running.
pub(crate) enum Plane {
    Kernel { tun: Arc<Tun>, name: String },
    Process { stack: Stack, rules: Rules },
}

impl Plane {
    /// Makes the plane for the first order.
    pub fn make(kind: PlaneKind, content: &Content, options: &Options, shared: &Arc<Shared>) -> Result<Self> {
        match kind {
            PlaneKind::Kernel => {
                let no_tun =
                    |error: std::io::Error| Problem::failed("the TUN device cannot be made").why(error.to_string());
                let tun = Arc::new(Tun::create(TUN_NAME, packet_size(content)).map_err(no_tun)?);
                let name = tun.name().map_err(no_tun)?;
                let (reading, weak) = (tun.clone(), Arc::downgrade(shared));
                std::thread::Builder::new()
                    .name("from-site".into())
                    .spawn(move || carry_from_site(&reading, &weak))
                    .map_err(no_tun)?;
                Ok(Self::Kernel { tun, name })
            }
            PlaneKind::Process => {
                let rules = Rules::default();
                let own = content
                    .listeners
                    .first()
                    .map_or(Ipv4Addr::new(10, 187, 44, 1), |first| gateway_address(&first.pool));
                let (seen, routed, real) = (rules.clone(), rules.clone(), options.real.clone());
                let outside = Outside {
                    allowed: Box::new(move |source, destination| {
                        let allows = |range: &IpNet| range.contains(&IpAddr::V4(destination));
                        seen.read().iter().any(|(pool, reach)| pool.contains(&source) && reach.iter().any(allows))
                    }),
                    real: Box::new(move |to: SocketAddrV4| {
                        let to = SocketAddr::V4(to);
                        real.get(&to).copied().unwrap_or(to)
                    }),
                    source: options.bind,
                    router: Box::new(move |source| {
                        routed
                            .read()
                            .iter()
                            .find(|(pool, _)| pool.contains(&source))
                            .map(|(pool, _)| gateway_address(pool))
                    }),
                };
                let weak = Arc::downgrade(shared);
                let emit = Arc::new(move |packet: &[u8]| {
                    if let Some(shared) = weak.upgrade() {
                        let mut sender = Sender::default();
                        send_to_device(&shared, packet, &mut sender);
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

    /// Whether the order could be carried out, without changing anything.
    pub fn check(&self, content: &Content) -> Result<()> {
        let Self::Kernel { name, .. } = self else { return Ok(()) };
        probe::nft(&["-c", "-f", "-"], &Intent::of(content, name).nftables())?;
        if let Some(outward) = &content.outward
            && nix::net::if_::if_nametoindex(outward.as_str()).is_err()
        {
            return Err(Problem::refused(format!("this host has no interface {outward}"))
                .why("the gateway's order names it as the one towards the outside")
                .try_("yestrel gateway change NAME --outward with one that yestrel host probe shows"));
        }
        Ok(())
    }

    /// Puts addresses, firewall and forwarding into force.
    pub fn switch(&self, content: &Content, keep: &Keep) -> Result<()> {
        match self {
            Self::Kernel { name, .. } => {
                let netlink = Netlink::new()?;
                let own: Vec<_> =
                    content.listeners.iter().map(|l| (gateway_address(&l.pool), l.pool.prefix_len())).collect();
                for (address, prefix) in &own {
                    netlink.add_address(name, IpAddr::V4(*address), *prefix)?;
                }
                let kept: Vec<_> = own.iter().map(|(address, _)| IpAddr::V4(*address)).collect();
                netlink.remove_addresses_but(name, &kept)?;
                netlink.set_packet_size(name, packet_size(content))?;
                let forwarding = std::fs::read_to_string(FORWARDING).unwrap_or_default().trim() == "1";
                keep.set_before(&Before { forwarding })?;
                probe::nft(&["-f", "-"], &Intent::of(content, name).nftables())?;
                if !forwarding {
                    std::fs::write(FORWARDING, "1").map_err(|error| {
                        Problem::failed("forwarding cannot be switched on").why(format!("{FORWARDING}: {error}"))
                    })?;
                }
            }
            Self::Process { rules, .. } => {
                *rules.write() = content.listeners.iter().map(|l| (l.pool, l.reach.clone())).collect();
            }
        }
        Ok(())
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
    pub fn undo(&self, keep: &Keep) -> Result<()> {
        let Self::Kernel { name, .. } = self else { return Ok(()) };
        take_back(keep)?;
        Netlink::new()?.remove_addresses_but(name, &[])
    }
}

/// Takes back what outlives the process: the firewall table, and forwarding where the agent switched it on.
pub(super) fn take_back(keep: &Keep) -> Result<()> {
    if probe::nft(&["list", "table", "inet", "yestrel"], "").is_ok() {
        probe::nft(&["-f", "-"], &format!("table {TABLE}\ndelete table {TABLE}\n"))?;
    }
    if let Some(Before { forwarding: false }) = keep.before()? {
        std::fs::write(FORWARDING, "0").map_err(|error| {
            Problem::failed("forwarding cannot be switched off again").why(format!("{FORWARDING}: {error}"))
        })?;
    }
    Ok(())
}

/// The TUN device carries all listeners, so it takes the largest packet of any.
fn packet_size(content: &Content) -> u16 {
    content.listeners.iter().map(|listener| listener.packet_size).max().unwrap_or(1400)
}

/// Finds the device that a packet is for, and sends it there. Packets for nobody are dropped.
fn send_to_device(shared: &Shared, packet: &[u8], sender: &mut Sender) {
    let Some((_, destination)) = ipv4_ends(packet) else { return };
    let Some((seat, listener)) = shared.seats.read().get(&destination).cloned() else { return };
    let lane = seat.lane.read().clone();
    let expected = packet.len() + yestrel_wire::talon::lane::OVERHEAD;
    let udp = listener.udp();
    sender.add(udp, lane.path(), expected, |out| lane.seal_packet(clock::now(), packet, out).is_ok());
    sender.flush(udp);
}

/// One thread: what the system sends towards devices goes into the tunnel.
fn carry_from_site(tun: &Tun, shared: &Weak<Shared>) {
    let mut buffers = TunBuffers::default();
    let mut sender = Sender::default();
    let mut current: Option<(Ipv4Addr, Arc<super::Listener>, Arc<yestrel_wire::talon::lane::Lane>)> = None;
    loop {
        let Ok(packets) = tun.read(&mut buffers) else { return };
        let Some(shared) = shared.upgrade() else { return };
        let now = clock::now();
        for packet in packets {
            let Some((_, destination)) = ipv4_ends(packet) else { continue };
            // Packets of one read are mostly for one device: it is looked up once.
            if current.as_ref().is_none_or(|(inner, ..)| *inner != destination) {
                if let Some((_, listener, _)) = &current {
                    sender.flush(listener.udp());
                }
                let found = shared.seats.read().get(&destination).cloned();
                current = found.map(|(seat, listener)| (destination, listener, seat.lane.read().clone()));
            }
            let Some((_, listener, lane)) = &current else { continue };
            let expected = packet.len() + yestrel_wire::talon::lane::OVERHEAD;
            sender.add(listener.udp(), lane.path(), expected, |out| lane.seal_packet(now, packet, out).is_ok());
        }
        if let Some((_, listener, _)) = current.take() {
            sender.flush(listener.udp());
        }
    }
}
