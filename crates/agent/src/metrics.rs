//! What an agent measures, as OpenMetrics text, and the small web server that answers it where an order says so.

use std::net::SocketAddrV4;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use hyper::{Method, StatusCode};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::{Registry, Unit};

use yestrel_core::VERSION;

use crate::admit::Shared;
use crate::web::{Page, Web};

/// The name of the thread that answers. Nothing else ends with it.
pub(crate) const THREAD: &str = "metrics";

/// The media type of OpenMetrics text.
const MEDIA_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct ByReason {
    reason: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct ByListener {
    listener: String,
}

/// Everything as OpenMetrics text. Names of devices are not among it: whoever may read counters need not know people.
pub(crate) fn text(shared: &Shared) -> String {
    let mut registry = Registry::with_prefix("yestrel");
    let in_force = shared.in_force();
    let content = in_force.as_ref().map(|in_force| in_force.roll.settings());
    let gateway = content.map(|content| content.gateway.clone()).unwrap_or_default();
    let about = Info::new([("version", VERSION.to_owned()), ("gateway", gateway)]);
    registry.register("agent", "The agent and the gateway that it is", about);
    let gauge = |registry: &mut Registry, name: &str, help: &str, value: u64| {
        let gauge = Gauge::<i64>::default();
        gauge.set(i64::try_from(value).unwrap_or(i64::MAX));
        registry.register(name, help, gauge);
    };
    let number = in_force.as_ref().map_or(0, |in_force| in_force.number);
    gauge(&mut registry, "order", "Number of the order in force", number);
    let admitted = in_force.as_ref().map_or(0, |in_force| in_force.roll.admitted() as u64);
    gauge(&mut registry, "admitted", "Credentials that the order in force admits", admitted);
    gauge(&mut registry, "revoked", "Keys that stay out for good", shared.revoked.read().len() as u64);
    let sessions = Family::<ByListener, Gauge>::default();
    for listener in content.iter().flat_map(|content| &content.listeners) {
        sessions.get_or_create(&ByListener { listener: listener.name.clone() }).set(0);
    }
    let (mut received, mut sent) = (0, 0);
    for seat in shared.seats.all() {
        received += seat.counters.received.load(Ordering::Relaxed);
        sent += seat.counters.sent.load(Ordering::Relaxed);
        sessions.get_or_create(&ByListener { listener: seat.listener().to_string() }).inc();
    }
    registry.register("sessions", "Sessions that are up", sessions);
    let totals = shared.totals.lock();
    let counter = |registry: &mut Registry, name: &str, help: &str, unit: Option<Unit>, value: u64| {
        let counter = Counter::<u64>::default();
        counter.inc_by(value);
        match unit {
            Some(unit) => registry.register_with_unit(name, help, unit, counter),
            None => registry.register(name, help, counter),
        }
    };
    counter(&mut registry, "sessions_opened", "Sessions opened since the agent began to run", None, totals.opened);
    let bytes = Some(Unit::Bytes);
    counter(&mut registry, "received", "Inner packets from devices", bytes.clone(), totals.received + received);
    counter(&mut registry, "sent", "Inner packets to devices", bytes, totals.sent + sent);
    for (name, help, counts) in [
        ("sessions_ended", "Sessions that ended, by reason", &totals.ended),
        ("sign_ins_refused", "Sign-ins refused, by reason", &totals.refused),
    ] {
        let family = Family::<ByReason, Counter>::default();
        for (reason, count) in counts {
            family.get_or_create(&ByReason { reason: reason.clone() }).inc_by(*count);
        }
        registry.register(name, help, family);
    }
    let mut text = String::new();
    let _ = prometheus_client::encoding::text::encode(&mut text, &registry);
    text
}

/// A web server with one page.
pub(crate) struct Exporter {
    address: SocketAddrV4,
    _web: Web,
}

impl Exporter {
    /// Starts it, in a thread of its own.
    pub fn start(address: SocketAddrV4, shared: &Arc<Shared>) -> std::io::Result<Self> {
        let weak = Arc::downgrade(shared);
        let web = Web::start(THREAD, address.into(), 0, move |ask| match (weak.upgrade(), ask.path) {
            (Some(_), "/metrics") if ask.method != Method::GET => Page::only("GET, HEAD"),
            (Some(shared), "/metrics") => Page::of(MEDIA_TYPE, text(&shared)),
            (Some(_), _) => Page::no(StatusCode::NOT_FOUND, "only GET /metrics is here"),
            (None, _) => Page::no(StatusCode::SERVICE_UNAVAILABLE, "the agent stops"),
        })?;
        Ok(Self { address, _web: web })
    }

    pub fn address(&self) -> SocketAddrV4 {
        self.address
    }
}
