//! What a tunnel that is up answers to commands on the same machine.

use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::Ordering;
use std::time::Duration;

use yestrel_core::exchange::Answered;
use yestrel_core::exchange::device::{Addresses, Ask, Echo, EchoAnswer};
use yestrel_core::{Problem, Result};
use yestrel_net::{echo, names};

use crate::proxy;
use crate::tunnel::{Inner, Tunnel};

pub(crate) fn answer(tunnel: &Tunnel, ask: Ask) -> Answered {
    match ask {
        Ask::Status(q) => Answered::to(&q, Ok(Box::new(tunnel.status()))),
        Ask::Stop(q) => {
            tunnel.stop.store(true, Ordering::Relaxed);
            Answered::to(&q, Ok(()))
        }
        Ask::Echo(q) => Answered::to(&q, Ok(ask_for_echo(tunnel, q))),
        Ask::LookUp(q) => Answered::to(&q, look_up(tunnel, &q.name)),
        Ask::Answer(q) => Answered::to(&q, give_answer(tunnel, &q.code)),
    }
}

fn give_answer(tunnel: &Tunnel, code: &str) -> Result<()> {
    if tunnel.status.lock().asks.is_none() {
        return Err(Problem::refused("the gateway asks for nothing")
            .why("either it was answered already, or its policies ask for no more"));
    }
    let sent = tunnel.way.read().as_ref().is_some_and(|way| way.answer(code));
    if sent {
        Ok(())
    } else {
        Err(Problem::failed("the gateway cannot be told just now").try_("the same command again"))
    }
}

fn ask_for_echo(tunnel: &Tunnel, Echo { to, hops }: Echo) -> EchoAnswer {
    let patience = Duration::from_secs(2);
    let answered = match &**tunnel.inner.read() {
        Inner::Process { stack, .. } => match to {
            IpAddr::V4(to) => stack.echo(to, hops, patience).map(|(from, after)| (from.into(), after)),
            IpAddr::V6(_) => None,
        },
        Inner::System { .. } => echo::send(to, hops, patience),
        Inner::None => None,
    };
    EchoAnswer {
        from: answered.map(|(from, _)| from),
        millis: answered.map_or(0.0, |(_, after)| after.as_secs_f64() * 1000.0),
    }
}

fn look_up(tunnel: &Tunnel, name: &str) -> Result<Addresses> {
    if let Inner::Process { stack, horizon } = &**tunnel.inner.read() {
        let horizon = horizon.read().clone();
        let (addresses, resolver) = proxy::look_up(stack, &horizon, name)?;
        return Ok(Addresses { addresses, resolver });
    }
    let resolver = tunnel.status.lock().resolvers.first().copied();
    let resolver = resolver.ok_or_else(|| {
        Problem::failed("the gateway gave no resolvers")
            .why("names are looked up as without the tunnel")
            .try_("yestrel listener change --resolvers ADDRESS, on the administrator's machine")
    })?;
    let addresses = names::ask(SocketAddr::new(resolver, 53), name)?;
    Ok(Addresses { addresses, resolver })
}
