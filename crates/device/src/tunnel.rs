//! What the threads of one tunnel share: its way in, where its packets go on this side, and what it says of itself.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use parking_lot::{Mutex, RwLock};
use yestrel_core::Result;
use yestrel_core::exchange::device::{TunnelState, TunnelStatus};
use yestrel_core::handover::{Handover, HandoverWay};
use yestrel_net::packets::{Batch, Sender, Tun};
use yestrel_net::stack::Stack;
use yestrel_net::{clock, names};

use crate::bounds::Bounds;
use crate::notices::Kept;
use crate::options::Options;
use crate::proxy::Horizon;
use crate::split::Split;
use crate::system::Applied;
use crate::ways::{Event, Kind, Way};

pub(crate) enum Inner {
    None,
    System { tun: Arc<Tun>, applied: Mutex<Applied>, split: Mutex<Option<Split>> },
    Process { stack: Arc<Stack>, horizon: Arc<RwLock<Horizon>> },
}

/// What the threads of one tunnel share.
pub(crate) struct Tunnel {
    /// With what the newest way notice says.
    pub(crate) handover: RwLock<Handover>,
    pub(crate) notices: Mutex<Kept>,
    pub(crate) way: RwLock<Option<Arc<dyn Way>>>,
    /// The device's own inner address, the gateway's, and what goes into the tunnel.
    pub(crate) bounds: RwLock<Bounds>,
    pub(crate) inner: RwLock<Arc<Inner>>,
    pub(crate) status: Mutex<TunnelStatus>,
    /// Where the proxy will listen, until it does.
    pub(crate) proxy: Mutex<Option<std::net::TcpListener>>,
    pub(crate) stop: AtomicBool,
}

impl Tunnel {
    pub(crate) fn new(options: &Options, proxy: Option<std::net::TcpListener>) -> Self {
        Self {
            handover: RwLock::new(options.handover.clone()),
            notices: Mutex::new(options.notices.clone()),
            way: RwLock::default(),
            bounds: RwLock::new(Bounds { own: Vec::new(), gateways: Vec::new(), reach: Vec::new() }),
            inner: RwLock::new(Arc::new(Inner::None)),
            status: Mutex::new(TunnelStatus {
                proxy: options.proxy,
                strict: options.strict,
                pid: std::process::id(),
                ..TunnelStatus::new(&options.name, TunnelState::Opening, &options.handover.holder)
            }),
            proxy: Mutex::new(proxy),
            stop: AtomicBool::new(false),
        }
    }

    pub(crate) fn status(&self) -> TunnelStatus {
        let mut status = self.status.lock().clone();
        if let Some(counters) = self.way.read().as_ref().and_then(|way| way.counters()) {
            status.sent = counters.sent.load(Ordering::Relaxed);
            status.received = counters.received.load(Ordering::Relaxed);
            status.last_answer = Some(clock::wall(counters.last_heard()));
            if status.state == TunnelState::Up && counters.is_silent(clock::now()) {
                status.state = TunnelState::Silent;
            }
        }
        status
    }

    /// Sends one inner packet, if it may go out.
    pub(crate) fn send(&self, packet: &[u8]) {
        let carrier = self.way.read().as_ref().and_then(|way| way.carrier());
        if let Some(carrier) = carrier.filter(|_| self.bounds.read().lets_out(packet)) {
            let mut sender = Sender::default();
            carrier.carry(clock::now(), packet, &mut sender);
            carrier.flush(&mut sender);
        }
    }

    /// Receives what is there, at most after `wait`, and gives inner packets to the system or the stack.
    pub(crate) fn receive(&self, way: &dyn Way, batch: &mut Batch, wait: Duration) -> Vec<Event> {
        let bounds = self.bounds.read().clone();
        let inner = self.inner.read().clone();
        let happened = way.step(wait, &mut |packet| {
            let taken = bounds.lets_in(packet);
            if taken {
                batch.push(packet);
                if batch.is_full() {
                    deliver(&inner, batch);
                }
            }
            taken
        });
        deliver(&inner, batch);
        happened
    }

    pub(crate) fn close(&self) {
        if let Some(way) = self.way.write().take() {
            way.close();
        }
    }
}

impl Tunnel {
    /// What is blocked while a strict tunnel is down, so that the gateway can be dialled; nothing else passes.
    pub(crate) fn strict(&self) -> Option<Applied> {
        match &**self.inner.read() {
            Inner::System { applied, .. } => Some(applied.lock().clone()).filter(|applied| applied.strict),
            _ => None,
        }
    }

    /// The addresses of the name that is dialled, asked beside the tunnel: through it, it cannot be asked before it is up.
    pub(crate) fn look_up_beside(&self, name: &str) -> Result<Vec<IpAddr>> {
        match self.strict() {
            Some(applied) => applied.look_up_beside(name),
            None => names::look_up(name),
        }
    }

    pub(crate) fn let_dial(&self, peer: SocketAddr, kind: &dyn Kind, way: &HandoverWay) {
        if let Some(applied) = self.strict()
            && let Err(problem) = applied.let_dial(peer.ip(), &kind.dials(way))
        {
            tracing::warn!("{}", problem.line());
        }
    }
}

pub(crate) fn deliver(inner: &Inner, batch: &mut Batch) {
    match inner {
        Inner::System { tun, .. } => tun.write(batch),
        Inner::Process { stack, .. } => batch.drain().for_each(|packet| stack.packet(packet)),
        Inner::None => batch.drain().for_each(drop),
    }
}
