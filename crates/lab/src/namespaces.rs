//! Hosts as namespaces, joined by virtual cables. A namespace lives as long as its host's process.

use std::fs::File;
use std::io;
use std::process::{Command, Stdio};

use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, setns, unshare};
use yestrel_core::{Problem, Result};

use crate::plan::{HOSTS, HostPlan};

/// Where the programs of the system lie.
const PATH: &str = "/usr/sbin:/sbin:/usr/bin:/bin";

/// What is missing for namespaces; `None` when all is there.
#[must_use]
pub fn missing() -> Option<String> {
    if !nix::unistd::geteuid().is_root() {
        return Some("root".into());
    }
    if !std::path::Path::new("/dev/net/tun").exists() {
        return Some("TUN (/dev/net/tun)".into());
    }
    for program in ["ip", "nft"] {
        let there = PATH.split(':').any(|folder| std::path::Path::new(folder).join(program).exists());
        if !there {
            return Some(format!("the program {program}"));
        }
    }
    // In a thread, so that this process stays where it is.
    let tried = std::thread::spawn(|| unshare(CloneFlags::CLONE_NEWNET)).join();
    match tried {
        Ok(Ok(())) => None,
        _ => Some("the right to make network namespaces".into()),
    }
}

/// Moves this process, which must have one thread yet, into namespaces of its own, where `resolv_conf` stands in the
/// resolver file's place.
pub fn isolate(resolv_conf: &std::path::Path) -> io::Result<()> {
    unshare(CloneFlags::CLONE_NEWNET | CloneFlags::CLONE_NEWNS)?;
    let none: Option<&str> = None;
    mount(none, "/", none, MsFlags::MS_PRIVATE | MsFlags::MS_REC, none)?;
    let target = std::fs::canonicalize("/etc/resolv.conf").unwrap_or_else(|_| "/etc/resolv.conf".into());
    mount(Some(resolv_conf), &target, none, MsFlags::MS_BIND, none)?;
    run("ip", &["link", "set", "lo", "up"])
}

/// Moves this process, which must have one thread yet, into the namespaces of another.
pub fn join(pid: u32) -> io::Result<()> {
    for (kind, flag) in [("net", CloneFlags::CLONE_NEWNET), ("mnt", CloneFlags::CLONE_NEWNS)] {
        setns(File::open(format!("/proc/{pid}/ns/{kind}"))?, flag)?;
    }
    Ok(())
}

/// Runs a program of the system to its end.
pub fn run(program: &str, arguments: &[&str]) -> io::Result<()> {
    let output = Command::new(program).args(arguments).env("PATH", PATH).stdin(Stdio::null()).output()?;
    if output.status.success() {
        Ok(())
    } else {
        let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        Err(io::Error::other(format!("{program} {}: {said}", arguments.join(" "))))
    }
}

/// Joins the hosts of the plan by cables: `pid` gives a host's process. Runs in threads that visit the namespaces, so that
/// nothing is ever made outside them.
pub fn lay_cables(pid: &dyn Fn(&str) -> Option<u32>) -> Result<()> {
    let failed = |error: io::Error| Problem::failed("the lab's network cannot be built").why(error.to_string());
    for (at, host) in HOSTS.iter().enumerate() {
        for card in host.cards {
            let peer = HOSTS[at + 1..].iter().find_map(|other| {
                other.cards.iter().find(|there| there.cable == card.cable).map(|there| (other, there))
            });
            let Some((other, there)) = peer else { continue };
            let process = |name: &str| {
                pid(name).ok_or_else(|| Problem::failed(format!("the lab's host {name} does not come up")))
            };
            let (here, over) = (process(host.name)?, process(other.name)?);
            let over = over.to_string();
            let arguments = vec!["link", "add", card.name, "type", "veth", "peer", "name", there.name, "netns"];
            visit(here, move || {
                let mut arguments = arguments;
                arguments.push(&over);
                run("ip", &arguments)
            })
            .map_err(failed)?;
        }
    }
    for host in HOSTS {
        let Some(here) = pid(host.name) else { continue };
        visit(here, || configure(host)).map_err(failed)?;
    }
    Ok(())
}

fn configure(host: &HostPlan) -> io::Result<()> {
    for card in host.cards {
        run("ip", &["address", "add", card.address, "dev", card.name])?;
        run("ip", &["link", "set", card.name, "up"])?;
    }
    for card in host.cards {
        if let Some(router) = card.default_by {
            run("ip", &["route", "add", "default", "via", router])?;
        }
    }
    if host.kind == crate::Kind::Outside {
        for address in [crate::plan::NAME_SERVICE, crate::plan::MIRROR] {
            run("ip", &["address", "add", &format!("{address}/32"), "dev", "lo"])?;
        }
    }
    // Routers forward from the beginning; a managed machine does not until somebody switches it on.
    if matches!(host.kind, crate::Kind::Outside | crate::Kind::Translator) {
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1")?;
    }
    if let Some(rules) = host.firewall {
        yestrel_net::nft::nft(&["-f", "-"], rules)
            .map_err(|problem| io::Error::other(problem.why.unwrap_or_default()))?;
    }
    Ok(())
}

/// Runs `act` in the network namespace of the process `pid`, in a thread of its own.
fn visit(pid: u32, act: impl FnOnce() -> io::Result<()> + Send) -> io::Result<()> {
    std::thread::scope(|scope| {
        let visiting = scope.spawn(move || {
            setns(File::open(format!("/proc/{pid}/ns/net"))?, CloneFlags::CLONE_NEWNET)?;
            act()
        });
        visiting.join().unwrap_or_else(|_| Err(io::Error::other("the visit broke off")))
    })
}
