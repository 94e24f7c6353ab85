//! What a tunnel changes on a device's system (address, routes, rules, resolvers) and how it is all taken back.
//!
//! Routing is by rules of its own, before the main table, so that nothing that a foreign network hands out by DHCP can
//! pull traffic out of the tunnel. What is to go into the tunnel stands in a table of its own:
//!
//! | rule | goes by | for |
//! |---|---|---|
//! | to the gateway's listener | main table | the tunnel itself |
//! | from that port | main table | the kernel's reverse-path check of answers |
//! | to the machine that one works from | main table | a remote session is not cut |
//! | to port 67, UDP, with reach everything | main table | keeping the lease of the address |
//! | everything | the tunnel's table | the reach |

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use yestrel_core::admission::is_everything;
use yestrel_core::firewall::Service;
use yestrel_core::tunnel::Settings;
use yestrel_core::{Problem, Result};

use yestrel_net::files::write_whole;
use yestrel_net::names;
use yestrel_net::netlink::{Families, MAIN, Netlink, Rule};

/// IP protocol 17.
const UDP: Option<u8> = Some(17);
/// The first rule priority and table of tunnel 0; each further tunnel has the next 16 and the next one.
const FIRST_PRIORITY: u32 = 18_100;
const FIRST_TABLE: u32 = 52_300;
const STEP: u32 = 16;

/// Everything that must be taken back, as it lies on disk while a tunnel is up.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Applied {
    /// 0..=15: which priorities and which table.
    pub slot: u32,
    pub interface: String,
    /// The resolver file as it was.
    pub resolvers: Option<ResolverFile>,
    /// Block everything while the tunnel is down.
    pub strict: bool,
    /// The file that holds this.
    pub file: PathBuf,
}

/// The resolver file as it was before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ResolverFile {
    pub path: PathBuf,
    /// Where it pointed to, if it was a link.
    pub link: Option<PathBuf>,
    pub text: String,
}

/// The file that names the system's resolvers (resolv.conf(5)).
const RESOLVERS: &str = "/etc/resolv.conf";

/// Where the resolver file as it was lies while the tunnel of this slot is up: on the same disk, so that it survives what the run folder
/// does not.
fn beside(slot: u32) -> PathBuf {
    PathBuf::from(format!("{RESOLVERS}.before-yestrel-{slot}"))
}

/// Keeps the resolver file as it was. One that is mounted over another is itself again after a power cut.
fn keep_beside(copy: &Path, link: Option<&Path>, text: &str) {
    if Path::new(RESOLVERS).parent().is_some_and(|folder| mount(folder) != mount(Path::new(RESOLVERS))) {
        return;
    }
    let kept = match link {
        Some(link) => std::os::unix::fs::symlink(link, copy).map_err(|error| error.to_string()),
        None => write_open(copy, text).map_err(|error| error.to_string()),
    };
    if let Err(why) = kept {
        tracing::warn!("{} cannot be kept over a power cut: {why}", copy.display());
    }
}

/// The mount that a path lies on; a link is not followed. `None` where the system does not say.
fn mount(path: &Path) -> Option<u64> {
    use rustix::fs::{AtFlags, CWD, StatxFlags, statx};
    let about = statx(CWD, path, AtFlags::SYMLINK_NOFOLLOW, StatxFlags::MNT_ID).ok()?;
    (about.stx_mask & StatxFlags::MNT_ID.bits() != 0).then_some(about.stx_mnt_id)
}

/// Writes a file that everybody may read, and waits until the disk has it.
fn write_open(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    let mut file = fs::File::create_new(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

/// Brings the resolver file back that a tunnel of this slot left when the machine lost its power; nothing, where none is left.
pub fn put_back(slot: u32) {
    let copy = beside(slot);
    let Ok(about) = fs::symlink_metadata(&copy) else { return };
    let back = if about.is_symlink() {
        fs::rename(&copy, RESOLVERS)
    } else {
        fs::read_to_string(&copy).and_then(|text| fs::write(RESOLVERS, text)).and_then(|()| fs::remove_file(&copy))
    };
    match back {
        Ok(()) => tracing::info!("{RESOLVERS} is as it was before a tunnel that a power cut ended"),
        Err(error) => tracing::warn!("{RESOLVERS} cannot be brought back from {}: {error}", copy.display()),
    }
}

/// The addresses of the machines from which somebody works on this one (SSH).
fn worked_from() -> Vec<IpAddr> {
    let variable = std::env::var("SSH_CONNECTION").or_else(|_| std::env::var("SSH_CLIENT")).unwrap_or_default();
    variable.split_whitespace().next().and_then(|address| address.parse().ok()).into_iter().collect()
}

impl Applied {
    fn priority(&self) -> u32 {
        FIRST_PRIORITY + self.slot * STEP
    }

    fn table(&self) -> u32 {
        FIRST_TABLE + self.slot
    }

    /// Writes down what is about to be changed, before it is.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn write_down(&self) -> Result<()> {
        write_whole(&self.file, &serde_json::to_vec(self).unwrap_or_default())
    }

    /// Gives the interface its address, routes everything within `reach` into it, and has names asked of `resolvers`; of those
    /// of before where there are none.
    ///
    /// # Errors
    /// No privileges, or a system without policy routing.
    pub fn apply(
        &mut self,
        settings: &Settings,
        reach: &[IpNet],
        gateway: IpAddr,
        dials: &[Service],
        resolvers: &[IpAddr],
    ) -> Result<()> {
        self.write_down()?;
        let netlink = Netlink::new()?;
        let (priority, table) = (self.priority(), self.table());
        let everything = is_everything(reach);
        // Settings may come while the tunnel is up. What leads into it is then never taken away first: not for a moment may
        // traffic find its usual way. Only the exceptions for the gateway itself are made anew.
        netlink.remove_rules(priority..=priority + 3, Families::Both);
        let has_ipv6 = Path::new("/proc/net/if_inet6").exists();
        let six = settings.second.is_some() && has_ipv6;
        netlink.set_packet_size(&self.interface, settings.packet_size)?;
        let inners: Vec<_> = settings.inners().iter().map(IpNet::addr).filter(|inner| inner.is_ipv4() || six).collect();
        for inner in &inners {
            netlink.add_address(&self.interface, *inner, if inner.is_ipv4() { 32 } else { 128 })?;
        }
        netlink.remove_addresses_but(&self.interface, &inners)?;
        let mut routes: Vec<_> = reach.iter().filter(|range| six || matches!(range, IpNet::V4(_))).copied().collect();
        routes.extend(settings.gateways().into_iter().filter(|at| at.is_ipv4() || six).map(IpNet::from));
        for range in &routes {
            netlink.add_route(*range, &self.interface, table)?;
        }
        if self.strict {
            netlink.add_unreachable(false, table)?;
        }
        // Where everything goes through the tunnel, IPv6 goes through it or nowhere. A system without IPv6 needs none of it.
        let blocks = has_ipv6 && (everything || self.strict && six);
        if blocks {
            netlink.add_unreachable(true, table)?;
        }
        if blocks || six {
            netlink.add_rule(&Rule { v6: true, ..self.rule(4, table) })?;
        }
        netlink.retain_routes(table, &routes, Families::Both);
        if !blocks && six {
            netlink.remove_unreachable6(table);
        }
        if !blocks && !six {
            netlink.remove_rules(priority + 4..=priority + 4, Families::OnlyV6);
            netlink.retain_routes(table, &[], Families::OnlyV6);
        }
        self.let_dial(gateway, dials)?;
        for from in worked_from() {
            netlink.add_rule(&Rule { to: Some(IpNet::from(from)), v6: from.is_ipv6(), ..self.rule(2, MAIN) })?;
        }
        if everything {
            netlink.add_rule(&Rule { protocol: UDP, destination_port: Some(67), ..self.rule(3, MAIN) })?;
        }
        netlink.add_rule(&self.rule(4, table))?;
        if resolvers.is_empty() {
            self.restore_resolvers();
            self.resolvers = None;
            self.write_down()?;
        } else {
            self.set_resolvers(resolvers)?;
        }
        Ok(())
    }

    /// Lets what carries the tunnel itself pass beside it, to and from one gateway: its ports, its protocols.
    ///
    /// # Errors
    /// No privileges.
    pub fn let_dial(&self, gateway: IpAddr, dials: &[Service]) -> Result<()> {
        let netlink = Netlink::new()?;
        let (to, v6) = (Some(IpNet::from(gateway)), gateway.is_ipv6());
        for service in dials {
            let port = service.port();
            let protocol = Some(service.protocol_number());
            netlink.add_rule(&Rule { to, protocol, destination_port: port, v6, ..self.rule(0, MAIN) })?;
            if port.is_some() {
                netlink.add_rule(&Rule { to, protocol, source_port: port, v6, ..self.rule(1, MAIN) })?;
            }
        }
        Ok(())
    }

    /// Asks the resolvers that were there before the tunnel, from one port that alone may pass, and only for that long.
    ///
    /// # Errors
    /// None of them knows the name.
    pub fn look_up_beside(&self, name: &str) -> Result<Vec<IpAddr>> {
        if let Ok(address) = name.parse() {
            return Ok(vec![address]);
        }
        let Some(before) = &self.resolvers else { return names::look_up(name) };
        let netlink = Netlink::new()?;
        let mut last =
            Problem::failed(format!("{name} does not resolve")).why("there was no resolver before the tunnel");
        for resolver in names::resolvers(&before.text) {
            let at = SocketAddr::new(resolver, 53);
            let socket = names::socket_for(at, name)?;
            let port = socket.local_addr().ok().map(|own| own.port());
            let (to, v6) = (Some(IpNet::from(resolver)), resolver.is_ipv6());
            let own =
                Rule { to, protocol: UDP, source_port: port, destination_port: Some(53), v6, ..self.rule(2, MAIN) };
            netlink.add_rule(&own)?;
            let asked = names::ask_from(&socket, at, name);
            netlink.remove_rule(&own);
            match asked {
                Ok(addresses) => return Ok(addresses),
                Err(problem) => last = problem,
            }
        }
        Err(last)
    }

    fn rule(&self, offset: u32, table: u32) -> Rule {
        Rule {
            priority: self.priority() + offset,
            table,
            v6: false,
            to: None,
            protocol: None,
            source_port: None,
            destination_port: None,
        }
    }

    /// The resolvers that were there before the tunnel.
    #[must_use]
    pub fn resolvers_before(&self) -> Vec<IpAddr> {
        match &self.resolvers {
            Some(before) => names::resolvers(&before.text),
            None => names::resolvers(&fs::read_to_string("/etc/resolv.conf").unwrap_or_default()),
        }
    }

    fn set_resolvers(&mut self, resolvers: &[IpAddr]) -> Result<()> {
        let path = Path::new(RESOLVERS);
        let cannot = |error: std::io::Error| {
            Problem::failed("the resolvers cannot be set").why(format!("{}: {error}", path.display()))
        };
        if self.resolvers.is_none() {
            put_back(self.slot);
            let link = fs::read_link(path).ok();
            let text = fs::read_to_string(path).unwrap_or_default();
            keep_beside(&beside(self.slot), link.as_deref(), &text);
            self.resolvers = Some(ResolverFile { path: path.to_owned(), link, text });
            self.write_down()?;
        }
        if fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_symlink()) {
            // What it points to belongs to another program, which would write it anew at any time.
            fs::remove_file(path).map_err(cannot)?;
        }
        let mut text = format!(
            "# written by yestrel while its tunnel is up; the file as it was comes back at the end\n\
             # after a power cut: yestrel tunnel list   brings it back, from {}\n",
            beside(self.slot).display()
        );
        for resolver in resolvers {
            text.push_str(&format!("nameserver {resolver}\n"));
        }
        fs::write(path, text).map_err(cannot)
    }

    fn restore_resolvers(&self) {
        let Some(before) = &self.resolvers else { return };
        if let Some(link) = &before.link {
            let _ = fs::remove_file(&before.path);
            let _ = std::os::unix::fs::symlink(link, &before.path);
        } else {
            // In place: the file may be mounted over another.
            let _ = fs::write(&before.path, &before.text);
        }
        let _ = fs::remove_file(beside(self.slot));
    }

    /// The tunnel is down for now: without `strict`, traffic goes its usual ways meanwhile.
    pub fn step_aside(&self) {
        if !self.strict
            && let Ok(netlink) = Netlink::new()
        {
            netlink.remove_rules(self.priority()..=self.priority() + STEP - 1, Families::Both);
            self.restore_resolvers();
        }
    }

    /// Takes everything back.
    pub fn undo(&self) {
        if let Ok(netlink) = Netlink::new() {
            netlink.remove_rules(self.priority()..=self.priority() + STEP - 1, Families::Both);
            netlink.retain_routes(self.table(), &[], Families::Both);
        }
        self.restore_resolvers();
        let _ = fs::remove_file(&self.file);
    }

    /// After a crash: takes everything back, or, when strict, leaves the block and gives names back their resolvers.
    pub fn after_crash(&self) {
        if self.strict {
            self.restore_resolvers();
        } else {
            self.undo();
        }
    }
}
