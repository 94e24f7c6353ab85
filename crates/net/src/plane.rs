//! How inner traffic meets the site: through the system's kernel, or through a stack inside the process.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::{Arc, Weak};

use parking_lot::RwLock;
use yestrel_core::findings::Plane as PlaneKind;
use yestrel_core::firewall::{Intent, TABLE};
use yestrel_core::order::Content;
use yestrel_core::pool::gateway_address;
use yestrel_core::{Problem, Result};

use crate::clock;
use crate::netlink::Netlink;
use crate::nft::nft;
use crate::packets::{Batch, Sender, Tun, TunBuffers, ends};
use crate::seats::{Carrier, Seats};
use crate::stack::{Outside, Stack};

const FORWARDING: &str = "/proc/sys/net/ipv4/ip_forward";
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
    Kernel { tun: Arc<Tun>, name: String },
    Process { stack: Stack, rules: Rules },
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
                Ok(Self::Kernel { tun, name })
            }
            PlaneKind::Process => {
                let rules = Rules::default();
                let own = content
                    .listeners
                    .first()
                    .map_or(Ipv4Addr::new(10, 187, 44, 1), |first| gateway_address(&first.pool));
                let (seen, routed, real) = (rules.clone(), rules.clone(), ground.real.clone());
                let outside = Outside {
                    allowed: Box::new(move |source, destination, port| {
                        let rules = seen.read();
                        rules
                            .as_ref()
                            .is_some_and(|(intent, _)| intent.lets(IpAddr::V4(source), IpAddr::V4(destination), port))
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
    pub fn switch(&self, content: &Content, remember: &dyn Fn(bool) -> Result<()>) -> Result<()> {
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
                remember(forwarding)?;
                nft(&["-f", "-"], &Intent::of(content, name).nftables())?;
                if !forwarding {
                    std::fs::write(FORWARDING, "1").map_err(|error| {
                        Problem::failed("forwarding cannot be switched on").why(format!("{FORWARDING}: {error}"))
                    })?;
                }
            }
            Self::Process { rules, .. } => {
                let pools = content.listeners.iter().map(|listener| listener.pool).collect();
                *rules.write() = Some((Intent::of(content, ""), pools));
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
    pub fn undo(&self, forwarded: Option<bool>) -> Result<()> {
        let Self::Kernel { name, .. } = self else { return Ok(()) };
        take_back(forwarded)?;
        Netlink::new()?.remove_addresses_but(name, &[])
    }
}

/// Takes back what outlives the process: the firewall table, and forwarding where it was switched on (`forwarded`: what it was
/// before, if it was changed).
///
/// # Errors
/// The table cannot be removed, or forwarding not switched off.
pub fn take_back(forwarded: Option<bool>) -> Result<()> {
    if nft(&["list", "table", "inet", "yestrel"], "").is_ok() {
        nft(&["-f", "-"], &format!("table {TABLE}\ndelete table {TABLE}\n"))?;
    }
    if forwarded == Some(false) {
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
fn send_to_device(seats: &Seats, packet: &[u8]) {
    let Some(seat) = ends(packet).and_then(|(_, destination)| seats.find(destination)) else { return };
    let (carrier, mut sender) = (seat.carrier(), Sender::default());
    carrier.carry(clock::now(), packet, &mut sender);
    carrier.flush(&mut sender);
}

/// One thread: what the system sends towards devices goes into their tunnels.
fn carry_from_site(tun: &Tun, seats: &Weak<Seats>) {
    let mut buffers = TunBuffers::default();
    let mut sender = Sender::default();
    let mut current: Option<(IpAddr, Arc<dyn Carrier>)> = None;
    loop {
        let Ok(packets) = tun.read(&mut buffers) else { return };
        let Some(seats) = seats.upgrade() else { return };
        let now = clock::now();
        for packet in packets {
            let Some((_, destination)) = ends(packet) else { continue };
            // Packets of one read are mostly for one device: it is looked up once.
            if current.as_ref().is_none_or(|(inner, _)| *inner != destination) {
                if let Some((_, carrier)) = &current {
                    carrier.flush(&mut sender);
                }
                current = seats.find(destination).map(|seat| (destination, seat.carrier()));
            }
            if let Some((_, carrier)) = &current {
                carrier.carry(now, packet, &mut sender);
            }
        }
        if let Some((_, carrier)) = current.take() {
            carrier.flush(&mut sender);
        }
    }
}
