//! The record of what happened: counted by reason, and told to other programs.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::net::{SocketAddr, TcpStream};
use std::os::unix::net::UnixDatagram;
use std::path::PathBuf;
use std::time::Duration;

use jiff::Timestamp;
use yestrel_core::estate::Session;
use yestrel_core::syslog::{Event, What};
use yestrel_core::{Problem, Result};

use crate::Context;
use crate::secure::{self, Secure};
use crate::session::{self, Sessions, was_refused};

/// How long another program may take to take a message.
const PATIENCE: Duration = Duration::from_secs(10);

/// Everything on record since a moment, in its order; also of sessions that are not over.
///
/// # Errors
/// No such gateway.
pub fn events(context: &mut Context, gateway: Option<&str>, since: Option<Timestamp>) -> Result<Sessions<Event>> {
    let Sessions { silent, .. } = session::past(context, gateway, Some(context.now))?;
    let all = context.read(|book| session::since(book, gateway, since))?;
    let mut events: Vec<Event> = all.iter().flat_map(|session| Event::of(session, was_refused(session))).collect();
    events.retain(|event| since.is_none_or(|since| event.at >= since));
    events.sort_by_key(|event| event.at);
    Ok(Sessions { sessions: events.into_iter().map(|event| (event.gateway.clone(), event)).collect(), silent })
}

/// How often something happened for a reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Count {
    pub what: What,
    /// In one word.
    pub reason: String,
    pub times: u64,
}

/// Why sessions ended and sign-ins were refused, each reason with how often; the most frequent first.
#[must_use]
pub fn counts<'a>(sessions: impl Iterator<Item = &'a Session>) -> Vec<Count> {
    let mut all: BTreeMap<(bool, String), u64> = BTreeMap::new();
    for session in sessions {
        let refused = was_refused(session);
        let reason = session.reason.as_deref().unwrap_or_default();
        // "refused 3 times: policy: words", "limit: words".
        let (often, reason) = match refused {
            true => reason.split_once(": ").unwrap_or((reason, "")),
            false => ("", reason),
        };
        let times = often.split(' ').find_map(|word| word.parse::<u64>().ok()).unwrap_or(1);
        let word = reason.split([':', ' ']).next().unwrap_or_default();
        *all.entry((refused, word.to_owned())).or_default() += times;
    }
    let count =
        |((refused, reason), times)| Count { what: if refused { What::Refused } else { What::Ended }, reason, times };
    let mut counts: Vec<Count> = all.into_iter().map(count).collect();
    counts.sort_by(|a, b| (b.times, &a.reason).cmp(&(a.times, &b.reason)));
    counts
}

/// Where a record is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum To {
    /// Over TCP with octets counted (RFC 6587 section 3.4.1), on this machine alone: it is in the clear.
    Tcp(SocketAddr),
    /// Over TLS, with octets counted (RFC 5425): a name or an address, and a port.
    Tls(String, u16),
    /// To a local socket, a datagram for each.
    Socket(PathBuf),
}

impl std::str::FromStr for To {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        if let Some(path) = text.strip_prefix("unix:") {
            return Ok(Self::Socket(path.into()));
        }
        if let Some(place) = text.strip_prefix("tls:") {
            // An address of IPv6 stands in brackets, where a port follows (RFC 3986 section 3.2.2).
            let (host, port) = match place.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
                Some((host, port)) => (host, port.strip_prefix(':').or(port.is_empty().then_some("6514"))),
                None if place.starts_with('[') => (place, None),
                None => match place.rsplit_once(':') {
                    Some((host, port)) if !host.contains(':') => (host, Some(port)),
                    Some(_) => (place, Some("6514")),
                    None => (place, Some("6514")),
                },
            };
            let port = port.and_then(|port| port.parse().ok()).filter(|port| *port > 0);
            return match port {
                Some(port) if !host.is_empty() => Ok(Self::Tls(host.to_owned(), port)),
                _ => Err(Problem::words(format!("{:?} is no place to tell it to", shortened(text)))
                    .why("it is a name or an address, and a port")
                    .try_("tls:log.skerry.example:6514")),
            };
        }
        let at = text.strip_prefix("tcp:").and_then(|at| at.parse::<SocketAddr>().ok()).ok_or_else(|| {
            Problem::words(format!("{:?} is no place to tell it to", shortened(text)))
                .why("it is a local socket, a port of this machine, or whoever is asked over TLS")
                .try_("unix:/dev/log, tcp:127.0.0.1:6514 or tls:log.skerry.example")
        })?;
        if !at.ip().is_loopback() {
            return Err(Problem::refused(format!("the record is not sent to {at} in the clear"))
                .why("whoever is on the way would read who comes in from where")
                .try_(format!("tls:{at} --trust FILE   over TLS, with the certificate of who signed its own")));
        }
        Ok(Self::Tcp(at))
    }
}

fn shortened(text: &str) -> String {
    text.chars().take(80).collect()
}

/// Tells lines to another program; gives how many it took. `secure`: how, where it is over TLS.
///
/// # Errors
/// Nobody takes them there, or not all.
pub fn tell(lines: &[String], to: &To, secure: Option<&Secure>) -> Result<usize> {
    let nobody = |place: String, error: std::io::Error| {
        Problem::failed(format!("nobody takes the record at {place}")).why(error.to_string())
    };
    let mut told = 0;
    let broke = |told: usize, error: std::io::Error| {
        Problem::partly(format!("{told} of {} messages were told", lines.len()))
            .why(error.to_string())
            .try_("the same again: whoever keeps them must know what it has already")
    };
    match to {
        To::Tls(host, port) => {
            let secure = secure.ok_or_else(|| {
                Problem::words("whom to trust at the other end is missing")
                    .why("nobody is told who comes in from where that is not known")
                    .try_("--trust FILE   with the certificate of who signed the other end's, or with that one itself")
            })?;
            let framed: String = lines.iter().map(|line| format!("{} {line}", line.len())).collect();
            secure::send(host, *port, secure, framed.as_bytes(), PATIENCE)?;
            told = lines.len();
        }
        To::Tcp(at) => {
            let mut stream = TcpStream::connect_timeout(at, PATIENCE).map_err(|error| nobody(at.to_string(), error))?;
            let _ = stream.set_write_timeout(Some(PATIENCE));
            for line in lines {
                let framed = format!("{} {line}", line.len());
                stream.write_all(framed.as_bytes()).map_err(|error| broke(told, error))?;
                told += 1;
            }
        }
        To::Socket(path) => {
            let place = path.display().to_string();
            let socket = UnixDatagram::unbound().map_err(|error| nobody(place.clone(), error))?;
            let _ = socket.set_write_timeout(Some(PATIENCE));
            socket.connect(path).map_err(|error| nobody(place, error))?;
            for line in lines {
                socket.send(line.as_bytes()).map_err(|error| broke(told, error))?;
                told += 1;
            }
        }
    }
    Ok(told)
}

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_core::sample::session;

    #[test]
    fn reasons_are_counted_with_how_often_each_was() {
        let all = [
            "closed",
            "limit: it was idle",
            "refused: policy: no policy",
            "refused 3 times: policy: x",
            "closed",
            "refused 2 times: unknown",
        ];
        let all: Vec<_> = all.map(session).into_iter().collect();
        let counted: Vec<_> = counts(all.iter())
            .into_iter()
            .map(|one| format!("{} {} {}", one.what.word(), one.reason, one.times))
            .collect();
        assert_eq!(counted, ["refused policy 4", "ended closed 2", "refused unknown 2", "ended limit 1"]);
    }

    #[test]
    fn a_record_is_told_on_this_machine_or_not_at_all() {
        assert_eq!("tcp:127.0.0.1:6514".parse::<To>().unwrap(), To::Tcp(([127, 0, 0, 1], 6514).into()));
        assert_eq!("unix:/dev/log".parse::<To>().unwrap(), To::Socket("/dev/log".into()));
        assert!("tcp:192.0.2.7:514".parse::<To>().unwrap_err().error.contains("in the clear"));
        let tls = |host: &str, port| To::Tls(host.into(), port);
        for (text, to) in [
            ("tls:log.skerry.example", tls("log.skerry.example", 6514)),
            ("tls:192.0.2.7:10514", tls("192.0.2.7", 10514)),
            ("tls:[2001:db8::7]:10514", tls("2001:db8::7", 10514)),
            ("tls:2001:db8::7", tls("2001:db8::7", 6514)),
            ("tls:[2001:db8::7]", tls("2001:db8::7", 6514)),
        ] {
            assert_eq!(text.parse::<To>().unwrap(), to, "{text}");
        }
        for text in [
            "tls:",
            "tls:log:0",
            "tls:log:x",
            "tls:[2001:db8::7",
            "tls:[::1]x",
            "",
            "tcp:",
            "udp:127.0.0.1:514",
            "127.0.0.1:514",
            "tcp:localhost",
        ] {
            assert!(text.parse::<To>().is_err(), "{text}");
        }
    }
}
