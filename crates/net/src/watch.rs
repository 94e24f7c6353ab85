//! Seeing at once when somebody changes the system's firewall or its network, through netlink (netlink(7), rtnetlink(7)).

use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use nix::errno::Errno;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{AddressFamily, MsgFlags, NetlinkAddr, SockFlag, SockProtocol, SockType, bind, recv, socket};

/// Groups of rtnetlink(7): links; addresses, routes and forwarding of both IP versions. A group's bit is one less than its number.
const NETWORK: u32 = 1 | 1 << 4 | 1 << 6 | 1 << 8 | 1 << 10 | 1 << 23 | 1 << 24;
/// The group of nftables in NETLINK_NETFILTER: number 7.
const FIREWALL: u32 = 1 << 6;
/// What comes together is looked at together.
const TOGETHER: Duration = Duration::from_millis(20);
/// It is looked at no more often than this, however much there is to see.
const APART: Duration = Duration::from_millis(250);
/// It is looked at this often also where nothing was seen: not every change is told of.
const ANYWAY: Duration = Duration::from_secs(30);

/// What may have changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// The table of this name.
    pub firewall: bool,
    /// Addresses, routes, links or forwarding, of anybody.
    pub network: bool,
}

/// A thread that watches. It ends when this is dropped.
pub struct Watch {
    stop: Arc<AtomicBool>,
}

fn listen(protocol: SockProtocol, groups: u32) -> io::Result<OwnedFd> {
    let fd = socket(AddressFamily::Netlink, SockType::Raw, SockFlag::SOCK_CLOEXEC | SockFlag::SOCK_NONBLOCK, protocol)?;
    bind(fd.as_raw_fd(), &NetlinkAddr::new(0, groups))?;
    Ok(fd)
}

/// Reads what there is; whether any of it concerns us. More than the system could hold may.
fn drain(fd: &OwnedFd, concerns: impl Fn(&[u8]) -> bool) -> bool {
    let mut buffer = vec![0; 64 * 1024];
    let mut any = false;
    loop {
        match recv(fd.as_raw_fd(), &mut buffer, MsgFlags::empty()) {
            Ok(length) => any |= concerns(buffer.get(..length).unwrap_or_default()),
            Err(Errno::EINTR) => {}
            Err(Errno::ENOBUFS) => any = true,
            Err(_) => return any,
        }
    }
}

impl Watch {
    /// Begins to watch the firewall's tables named `table` and the network; `look` is told what may have changed, and says whether it
    /// wants to be asked again soon.
    ///
    /// # Errors
    /// The system does not tell (no privileges), or there is no thread.
    pub fn start(table: &str, look: impl Fn(Seen) -> bool + Send + 'static) -> io::Result<Self> {
        let network = listen(SockProtocol::NetlinkRoute, NETWORK)?;
        let firewall = listen(SockProtocol::NetlinkNetFilter, FIREWALL)?;
        let name = [table.as_bytes(), b"\0"].concat();
        let stop = Arc::new(AtomicBool::new(false));
        let stopping = stop.clone();
        std::thread::Builder::new().name("watch".into()).spawn(move || {
            let mut last = Instant::now();
            let mut again = false;
            while !stopping.load(Ordering::Relaxed) {
                let mut fds =
                    [PollFd::new(network.as_fd(), PollFlags::POLLIN), PollFd::new(firewall.as_fd(), PollFlags::POLLIN)];
                let _ = poll(&mut fds, PollTimeout::from(200_u16));
                let come = fds.iter().any(|fd| fd.any().unwrap_or(false));
                let mut seen = Seen { firewall: false, network: false };
                if come {
                    std::thread::sleep(TOGETHER);
                    seen.network = drain(&network, |_| true);
                    seen.firewall = drain(&firewall, |bytes| bytes.windows(name.len()).any(|part| part == name));
                }
                if last.elapsed() >= ANYWAY || again && last.elapsed() >= Duration::from_secs(1) {
                    seen = Seen { firewall: true, network: true };
                }
                if seen.firewall || seen.network {
                    // What comes while it is looked at is looked at after.
                    std::thread::sleep(APART.saturating_sub(last.elapsed()));
                    again = look(seen);
                    last = Instant::now();
                }
            }
        })?;
        Ok(Self { stop })
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}
