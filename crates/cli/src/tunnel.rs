//! `yestrel tunnel`

use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use clap::Subcommand;
use ipnet::IpNet;
use ring::rand::SecureRandom as _;
use yestrel_actions::credential::handover;
use yestrel_core::admission::{Bounds, is_everything};
use yestrel_core::exchange::device::{Addresses, Echo, EchoAnswer, LookUp, TunnelState, TunnelStatus};
use yestrel_core::findings::{Finding, Grade};
use yestrel_core::keys::KeyPair;
use yestrel_core::x509::agreement;
use yestrel_core::{Problem, Result};
use yestrel_device::running;
use yestrel_net::fetch;
use zeroize::Zeroizing;

use crate::ask;
use crate::connect;
use crate::global::Global;
use crate::output::{Cell, FormatName, Table, list};

#[derive(Subcommand)]
pub enum Command {
    /// The tunnels that are up on this machine
    #[command(after_help = "Example:\n  yestrel tunnel list")]
    List,
    /// Stop a tunnel, and set everything back as it was
    #[command(after_help = "Example:\n  yestrel tunnel stop harbour")]
    Stop { name: String },
    /// Is it really going through the tunnel? Asks the gateway, follows the path, and reaches for what you name
    #[command(
        after_help = "Example:\n  yestrel tunnel prove --reach 10.44.0.20:80 --look-up tickets.skerry.example --seen-by http://mirror.example/"
    )]
    Prove {
        /// The tunnel, if several are up
        name: Option<String>,
        /// Something that only the tunnel reaches: its address and TCP port
        #[arg(long, value_name = "ADDRESS:PORT")]
        reach: Option<SocketAddr>,
        /// A name to look up through the tunnel
        #[arg(long, value_name = "NAME")]
        look_up: Option<String>,
        /// A page outside that says from which address it is asked
        #[arg(long, value_name = "URL")]
        seen_by: Option<String>,
    },
    /// Answer what a gateway asks for: nothing passes before
    #[command(
        after_help = "Example:\n  yestrel tunnel answer harbour\n  yestrel tunnel answer harbour --code 123456\n\nWithout --code it is asked for at the terminal. Each code is good once; after three wrong ones the session ends."
    )]
    Answer {
        /// The tunnel, if several are up
        name: Option<String>,
        /// The code that the authenticator shows now
        #[arg(long, value_name = "DIGITS")]
        code: Option<String>,
    },
    /// Make a key pair on this device: the private half stays here, the public half is written out for the administrator
    #[command(
        after_help = "Example:\n  yestrel tunnel keys --to own.key > own.pub\n  yestrel credential issue mara/laptop --public-key own.pub   (the administrator)\n  yestrel connect mara.yestrel --private-key own.key\n\nBoth are PEM (RFC 8410); whatever makes X25519 keys in that form will do as well."
    )]
    Keys {
        /// Where the private half goes: a file that is not there yet
        #[arg(long, value_name = "FILE")]
        to: PathBuf,
    },
    /// Take back what a crashed tunnel left: started by the tunnel itself
    #[command(hide = true)]
    Keep { name: String },
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    match command {
        Command::Keys { to } => {
            let mut random = Zeroizing::new([0; 32]);
            ring::rand::SystemRandom::new()
                .fill(&mut random[..])
                .map_err(|_| Problem::failed("the system gives no random bytes"))?;
            let pair = KeyPair::from_random(*random);
            handover::write_bytes(&to, agreement::write_private(&pair.private)?.as_bytes())?;
            output.note(&format!("the private half is in {}; it goes nowhere else", to.display()));
            output.write_always(agreement::write_public(&pair.public).trim_end());
            Ok(())
        }
        Command::List => {
            let mut table = Table::new(
                &[
                    "name",
                    "state",
                    "holder",
                    "way",
                    "inner",
                    "since",
                    "sent",
                    "received",
                    "last answer",
                    "reach",
                    "proxy",
                ],
                "no tunnel is up here; yestrel connect FILE",
            );
            let now = jiff::Timestamp::now();
            let mut asked = Vec::new();
            for tunnel in running::list()? {
                let grade = match tunnel.state {
                    TunnelState::Up => Grade::Good,
                    TunnelState::Opening => Grade::Poor,
                    TunnelState::Silent | TunnelState::Lost | TunnelState::Blocked => Grade::Bad,
                };
                let (grade, state) = match &tunnel.asks {
                    Some(asks) if tunnel.state == TunnelState::Up => {
                        asked.push((tunnel.name.clone(), asks.clone()));
                        (Grade::Poor, "up, asks")
                    }
                    _ => (grade, tunnel.state.word()),
                };
                table.row(vec![
                    tunnel.name.into(),
                    Cell::State(grade, state.into()),
                    tunnel.holder.into(),
                    tunnel.way.into(),
                    tunnel.inner.map(|inner| inner.to_string()).into(),
                    tunnel.since.into(),
                    Cell::Bytes(tunnel.sent),
                    Cell::Bytes(tunnel.received),
                    tunnel.last_answer.map(|at| Cell::Ago(at, now)).into(),
                    if is_everything(&tunnel.reach) { "everything".into() } else { list(&tunnel.reach) },
                    tunnel.proxy.map(|proxy| proxy.to_string()).into(),
                ]);
            }
            output.table(&table);
            for (name, asks) in asked {
                output.note(&format!("{name} asks for {asks}: yestrel tunnel answer {name}"));
            }
            for ended in running::ended()? {
                let why = ended.problem.why.map(|why| format!(" ({why})")).unwrap_or_default();
                output.note(&format!("{}{why}, at {}", ended.problem.error, yestrel_core::moment(ended.at)));
            }
            Ok(())
        }
        Command::Stop { name } => {
            running::stop(&name)?;
            output.say(&format!("stopped the tunnel {name}; this system is as it was before"));
            Ok(())
        }
        Command::Answer { name, code } => {
            let tunnel = one(name.as_deref())?;
            let Some(asks) = tunnel.asks else {
                return Err(Problem::refused(format!("the gateway of {} asks for nothing", tunnel.name))
                    .why("either it was answered already, or its policies ask for no more"));
            };
            let mut code = match code {
                Some(code) => code,
                None => ask::answer(&asks)?,
            };
            loop {
                match connect::give_answer(&tunnel.name, &code)? {
                    None => break,
                    Some(asks) => code = ask::answer(&asks)?,
                }
            }
            output.say(&format!("that was right: the tunnel {} is open", tunnel.name));
            Ok(())
        }
        Command::Prove { name, reach, look_up, seen_by } => prove(global, name.as_deref(), reach, look_up, seen_by),
        Command::Keep { name } => {
            running::watch_over(&name);
            Ok(())
        }
    }
}

fn one(name: Option<&str>) -> Result<TunnelStatus> {
    let mut up = running::list()?;
    if let Some(name) = name {
        up.retain(|tunnel| tunnel.name == name);
    }
    match up.len() {
        1 => Ok(up.remove(0)),
        0 => Err(Problem::failed("no tunnel is up here").try_("yestrel connect FILE")),
        _ => Err(Problem::words("several tunnels are up; which one?")
            .why(up.iter().map(|tunnel| tunnel.name.as_str()).collect::<Vec<_>>().join(", "))
            .try_("yestrel tunnel prove NAME")),
    }
}

fn finding(good: bool, subject: &str, words: String) -> Finding {
    Finding { grade: if good { Grade::Good } else { Grade::Bad }, subject: subject.into(), words, try_: None }
}

fn echo(tunnel: &TunnelStatus, to: IpAddr, hops: u8) -> Result<(Option<IpAddr>, f64)> {
    let EchoAnswer { from, millis } = running::ask(&tunnel.name, &Echo { to, hops })?;
    Ok((from, millis))
}

/// Which way the system would send to an address outside. Joining a UDP socket to it asks for the route and sends nothing.
fn way_out(to: SocketAddr) -> Option<IpAddr> {
    let any: IpAddr = if to.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
    let socket = std::net::UdpSocket::bind(SocketAddr::new(any, 0)).ok()?;
    socket.connect(to).ok()?;
    socket.local_addr().ok().map(|own| own.ip())
}

/// Whether anything would leave beside a tunnel that is to take everything: addresses of the documentation stand for the
/// outside (RFC 5737, RFC 3849).
fn beside(tunnel: &TunnelStatus) -> Finding {
    let four = way_out(SocketAddr::from(([192, 0, 2, 1], 9)));
    let six = way_out(SocketAddr::from(([0x2001, 0xdb8, 0, 0, 0, 0, 0, 1], 9)));
    let place = |own: Option<IpAddr>| own.map_or("nowhere".into(), |own| own.to_string());
    if four != tunnel.inner.map(IpAddr::V4) {
        return finding(false, "beside", format!("IPv4 would go out from {}", place(four)));
    }
    match (six, tunnel.inner6.map(IpAddr::V6)) {
        (None, _) => finding(true, "beside", "IPv6 has no way out, IPv4 goes out from the inner address".into()),
        (six, inner6) if six == inner6 => {
            finding(true, "beside", "IPv4 and IPv6 go out from the inner addresses".into())
        }
        (six, _) => finding(false, "beside", format!("IPv6 would go out from {}", place(six))),
    }
}

/// The gateway's answer to an echo, over one IP version.
fn gateway_answers(tunnel: &TunnelStatus, gateway: IpAddr) -> Result<Finding> {
    let (from, millis) = echo(tunnel, gateway, 64)?;
    Ok(match from {
        Some(_) => finding(true, "gateway", format!("{gateway} answers from inside after {millis:.1} ms")),
        None => finding(false, "gateway", format!("{gateway} does not answer from inside")),
    })
}

/// The first address of a range; where that is one that no reach means, one of those that are for documentation.
fn within_reach(tunnel: &TunnelStatus, gateway: IpAddr) -> Option<IpAddr> {
    let bounds = Bounds::new(vec![gateway], &tunnel.reach, &[]);
    let documentation = [IpAddr::from([192, 0, 2, 1]), IpAddr::from([0x2001, 0xdb8, 0, 0, 0, 0, 0, 1])];
    let ranges = tunnel.reach.iter().filter(|range| range.network().is_ipv4() == gateway.is_ipv4());
    ranges
        .flat_map(|range| {
            let first = match range {
                IpNet::V4(range) => IpAddr::from(u32::from(range.network()).saturating_add(1).to_be_bytes()),
                IpNet::V6(range) => IpAddr::from(u128::from(range.network()).saturating_add(1).to_be_bytes()),
            };
            [first].into_iter().chain(documentation).filter(|one| range.contains(one)).collect::<Vec<_>>()
        })
        .find(|one| *one != gateway && bounds.lets(*one))
}

/// Who answers for the first hop towards an address that the tunnel is to carry.
fn first_hop(tunnel: &TunnelStatus, gateway: IpAddr, target: IpAddr) -> Result<Finding> {
    let sent_before = one(Some(&tunnel.name))?.sent;
    let (hop, _) = echo(tunnel, target, 1)?;
    let through = one(Some(&tunnel.name))?.sent > sent_before;
    Ok(match hop {
        // A service on the gateway's own host: nothing stands between, and what counts is that it went into the tunnel.
        Some(hop) if hop == target && through => {
            finding(true, "first hop", format!("{target} answers itself, through the tunnel: it is the gateway's own"))
        }
        Some(hop) if hop == gateway => finding(true, "first hop", format!("towards {target} it is {hop}, the gateway")),
        Some(hop) => finding(false, "first hop", format!("towards {target} it is {hop}, not the gateway's {gateway}")),
        None => finding(false, "first hop", format!("nobody answers for the first hop towards {target}")),
    })
}

fn prove(
    global: &Global,
    name: Option<&str>,
    reach: Option<SocketAddr>,
    look_up: Option<String>,
    seen_by: Option<String>,
) -> Result<()> {
    let tunnel = one(name)?;
    let gateway = tunnel
        .gateway_inner
        .ok_or_else(|| Problem::failed(format!("the tunnel {} is not up", tunnel.name)).why(tunnel.state.word()))?;
    let gateways: Vec<IpAddr> =
        [Some(IpAddr::V4(gateway)), tunnel.gateway_inner6.map(IpAddr::V6)].into_iter().flatten().collect();
    if let Some(asks) = &tunnel.asks {
        return Err(Problem::refused(format!("nothing passes through the tunnel {} yet", tunnel.name))
            .why(format!("its gateway asks for {asks}"))
            .try_(format!("yestrel tunnel answer {}", tunnel.name)));
    }
    let mut found = Vec::new();
    for gateway in &gateways {
        found.push(gateway_answers(&tunnel, *gateway)?);
    }
    for gateway in gateways {
        // Somewhere within reach that is not the gateway itself.
        let named = reach.map(|reach| reach.ip()).filter(|named| named.is_ipv4() == gateway.is_ipv4());
        if let Some(target) = named.or_else(|| within_reach(&tunnel, gateway)) {
            found.push(first_hop(&tunnel, gateway, target)?);
        }
    }
    if let Some(reach) = reach {
        let began = Instant::now();
        let joined = match tunnel.proxy {
            Some(proxy) => fetch::through(proxy, &reach.ip().to_string(), reach.port()),
            None => TcpStream::connect_timeout(&reach, Duration::from_secs(5)),
        };
        found.push(match joined {
            Ok(_) => finding(
                true,
                "reach",
                format!("{reach} takes a connection after {:.1} ms", began.elapsed().as_secs_f64() * 1000.0),
            ),
            Err(error) => finding(false, "reach", format!("{reach}: {error}")),
        });
    }
    if let Some(name) = look_up {
        found.push(match running::ask(&tunnel.name, &LookUp { name: name.clone() }) {
            Ok(Addresses { addresses, resolver }) => {
                let addresses: Vec<_> = addresses.iter().map(ToString::to_string).collect();
                finding(
                    true,
                    "names",
                    format!("{name} is {}, says {resolver} through the tunnel", addresses.join(", ")),
                )
            }
            Err(problem) => finding(false, "names", problem.line()),
        });
    }
    if let Some(url) = seen_by {
        let direct = |to| Ok(to);
        found.push(match fetch::fetch(&url, tunnel.proxy, &direct) {
            Ok(page) => {
                let page: String = page.chars().take(60).collect();
                finding(true, "seen", format!("{url} sees {page}"))
            }
            Err(problem) => finding(false, "seen", problem.line()),
        });
    }
    let after = one(Some(&tunnel.name))?;
    let moved = after.sent > 0 && after.received > 0;
    let counted = format!(
        "{} bytes out, {} bytes in; to compare with yestrel session list on the other side",
        after.sent, after.received
    );
    found.push(finding(moved, "counted", counted));
    if is_everything(&tunnel.reach) && tunnel.proxy.is_none() {
        found.push(beside(&tunnel));
    }
    let bad = found.iter().filter(|finding| finding.grade == Grade::Bad).count();
    global.output().findings(&format!("{}  {} at {}", tunnel.name, tunnel.holder, tunnel.way), &found);
    if bad > 0 {
        return Err(Problem::refused(format!("{bad} of {} do not hold", found.len())));
    }
    if global.output().format == FormatName::Text {
        global.output().say("it goes through the tunnel");
    }
    Ok(())
}
