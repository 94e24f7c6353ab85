//! How a tunnel is brought up, and what the person at the device is told meanwhile.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;

use yestrel_core::exchange::device::TunnelStatus;
use yestrel_core::handover::Handover;

use crate::notices::Kept;
use crate::ways::Kind;

/// How a tunnel is brought up.
pub struct Options {
    /// Where the tunnels of this machine say what they are.
    pub folder: PathBuf,
    pub handover: Handover,
    /// The way notices that it has; kept on the disk, or only as long as the tunnel runs.
    pub notices: Kept,
    pub keep_notices: bool,
    /// The tunnel's name on this machine.
    pub name: String,
    /// Offer the tunnel inside the process at this loopback address, instead of changing the system.
    pub proxy: Option<SocketAddr>,
    /// Block everything while the tunnel is down.
    pub strict: bool,
    /// The kinds of tunnel that can be used.
    pub kinds: Vec<Arc<dyn Kind>>,
}

/// What the person at the device is told.
#[derive(Debug, Clone)]
pub enum Told {
    /// A way is being tried.
    Trying { way: String, peer: SocketAddr },
    /// The tunnel is up.
    Up(Box<TunnelStatus>),
    /// The gateway asks for something, in words.
    Asked(String),
    /// Something that they should know and that does not stop the tunnel.
    Note(String),
    /// The gateway is not heard any more.
    Lost,
}
