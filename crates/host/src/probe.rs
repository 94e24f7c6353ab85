//! Collecting the facts of a host: what a gateway there would find.

use std::collections::HashMap;
use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use yestrel_core::Result;
use yestrel_core::findings::{BusyPort, Facts, Plane, in_the_way};
use yestrel_core::firewall::Protocol;

use yestrel_net::netlink::Netlink;
use yestrel_net::nft::nft;

/// The facts of the machine, in the network namespace of this process.
///
/// # Errors
/// The system's routing cannot be asked.
pub fn facts(force_process: bool) -> Result<Facts> {
    let os_release = fs::read_to_string("/etc/os-release").unwrap_or_default();
    let system = os_release
        .lines()
        .find_map(|line| line.strip_prefix("PRETTY_NAME="))
        .map_or_else(|| "Linux".to_owned(), |name| name.trim_matches('"').to_owned());
    let kernel = fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default().trim().to_owned();
    let privileged = may_administer_network();
    let tun = privileged && fs::metadata("/dev/net/tun").is_ok();
    let nftables = privileged && nft(&["list", "tables"], "").is_ok();
    let ruleset = if nftables { nft(&["-j", "list", "ruleset"], "").ok() } else { None };
    let plane = if !force_process && privileged && tun && nftables { Plane::Kernel } else { Plane::Process };
    Ok(Facts {
        system,
        kernel,
        processor: std::env::consts::ARCH.into(),
        fast_aes: fast_aes(),
        interfaces: Netlink::new()?.interfaces(),
        busy_ports: busy_ports(),
        in_the_way: if plane == Plane::Kernel {
            in_the_way(ruleset.as_deref().unwrap_or_default())
        } else {
            Vec::new()
        },
        forwarding: fs::read_to_string("/proc/sys/net/ipv4/ip_forward").unwrap_or_default().trim() == "1",
        tun,
        nftables,
        privileged,
        clock: jiff::Timestamp::now(),
        plane,
        libc: libc(),
        init: yestrel_core::findings::Init::None,
        disk_free: None,
        managed_on: None,
    })
}

/// Whether this process has the capability CAP_NET_ADMIN (capabilities(7): number 12), which root has unless it was taken.
#[must_use]
pub fn may_administer_network() -> bool {
    const NET_ADMIN: u64 = 1 << 12;
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let effective = status.lines().find_map(|line| line.strip_prefix("CapEff:"));
    effective.and_then(|hex| u64::from_str_radix(hex.trim(), 16).ok()).is_some_and(|set| set & NET_ADMIN != 0)
}

/// The C library of the system, by the files that it has. The agent does not need it.
fn libc() -> Option<String> {
    if let Ok(asked) = crate::service::run("getconf", &["GNU_LIBC_VERSION"])
        && asked.status.success()
    {
        return Some(String::from_utf8_lossy(&asked.stdout).trim().to_owned());
    }
    let names = ["/lib", "/lib64", "/usr/lib"].into_iter().filter_map(|folder| fs::read_dir(folder).ok()).flatten();
    names.flatten().map(|entry| entry.file_name()).find_map(|name| {
        let name = name.to_string_lossy();
        let loaders = [("ld-musl-", "musl"), ("ld-uClibc", "uClibc"), ("ld-linux", "glibc")];
        loaders.into_iter().find(|(prefix, _)| name.starts_with(prefix)).map(|(_, word)| word.to_owned())
    })
}

fn fast_aes() -> bool {
    fs::read_to_string("/proc/cpuinfo").unwrap_or_default().lines().any(|line| {
        (line.starts_with("flags") || line.starts_with("Features")) && line.split_whitespace().any(|flag| flag == "aes")
    })
}

/// What listens, from the system's socket tables.
fn busy_ports() -> Vec<BusyPort> {
    let holders = holders();
    let mut found = Vec::new();
    let (udp, tcp) = (Protocol::Udp, Protocol::Tcp);
    for (protocol, file, listening) in
        [(udp, "udp", "07"), (udp, "udp6", "07"), (tcp, "tcp", "0A"), (tcp, "tcp6", "0A")]
    {
        let table = fs::read_to_string(format!("/proc/net/{file}")).unwrap_or_default();
        for line in table.lines().skip(1) {
            let fields: Vec<_> = line.split_whitespace().collect();
            let (Some(local), Some(state), Some(inode)) = (fields.get(1), fields.get(3), fields.get(9)) else {
                continue;
            };
            let Some((address, port)) = local.rsplit_once(':') else { continue };
            let (Some(address), Ok(port)) = (hex_address(address), u16::from_str_radix(port, 16)) else { continue };
            if *state == listening
                && !found.iter().any(|busy: &BusyPort| busy.port == port && busy.protocol == protocol)
            {
                found.push(BusyPort { protocol, port, address, holder: holders.get(*inode).cloned() });
            }
        }
    }
    found.sort_by_key(|busy| (busy.port, busy.protocol));
    found
}

/// An address as /proc/net writes it: 32-bit words in the processor's own byte order.
fn hex_address(text: &str) -> Option<IpAddr> {
    let words: Option<Vec<u32>> =
        (0..text.len()).step_by(8).map(|at| u32::from_str_radix(text.get(at..at + 8)?, 16).ok()).collect();
    let bytes: Vec<u8> = words?.iter().flat_map(|word| word.to_ne_bytes()).collect();
    match bytes.len() {
        4 => <[u8; 4]>::try_from(bytes).ok().map(|four| IpAddr::V4(Ipv4Addr::from(four))),
        16 => <[u8; 16]>::try_from(bytes).ok().map(|six| IpAddr::V6(Ipv6Addr::from(six)).to_canonical()),
        _ => None,
    }
}

/// Socket inode to program name, for the processes that may be looked at.
fn holders() -> HashMap<String, String> {
    let mut holders = HashMap::new();
    for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let path = process.path();
        let Ok(files) = fs::read_dir(path.join("fd")) else { continue };
        let Ok(name) = fs::read_to_string(path.join("comm")) else { continue };
        for file in files.flatten() {
            if let Ok(target) = fs::read_link(file.path())
                && let Some(inode) =
                    target.to_string_lossy().strip_prefix("socket:[").and_then(|rest| rest.strip_suffix(']'))
            {
                holders.insert(inode.to_owned(), name.trim().to_owned());
            }
        }
    }
    holders
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_own_listening_port_is_seen_with_its_holder() {
        let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        let port = socket.local_addr().unwrap().port();
        let busy = busy_ports().into_iter().find(|busy| busy.port == port && busy.protocol == Protocol::Udp).unwrap();
        assert_eq!(busy.address, IpAddr::from([127, 0, 0, 1]));
        assert!(busy.holder.is_some());
    }
}
