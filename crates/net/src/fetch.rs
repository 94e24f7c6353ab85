//! Fetching one page over HTTP, directly or through a tunnel, to prove what can be reached.

use std::io::{self, Read as _, Write as _};
use std::net::{IpAddr, SocketAddr, TcpStream};
use std::time::Duration;

use crate::names;
use yestrel_core::{Problem, Result};

/// Short: whoever waits for a page wants to know.
const PATIENCE: Duration = Duration::from_secs(3);

/// An `http://` address in its parts.
fn parts(url: &str) -> Result<(String, u16, String)> {
    let wrong =
        || Problem::words(format!("{url:?} is not an address that can be fetched")).try_("http://HOST[:PORT]/PATH");
    let rest = url.strip_prefix("http://").ok_or_else(wrong)?;
    let (authority, path) = rest.split_once('/').unwrap_or((rest, ""));
    let (host, port) = match authority.rsplit_once(':') {
        Some((host, port)) => (host, port.parse().map_err(|_| wrong())?),
        None => (authority, 80),
    };
    if host.is_empty() { Err(wrong()) } else { Ok((host.into(), port, format!("/{path}"))) }
}

/// Fetches a page: through a proxy (SOCKS5, which also looks the name up), or directly, with `real` saying where an address
/// really is and which address to come from.
///
/// # Errors
/// The name does not resolve, nobody answers, or what comes is no page.
pub fn fetch(url: &str, proxy: Option<SocketAddr>, real: &dyn Fn(SocketAddr) -> Result<SocketAddr>) -> Result<String> {
    let (host, port, path) = parts(url)?;
    let failed = |error: io::Error| {
        let why = match error.kind() {
            io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut => format!("no answer within {} s", PATIENCE.as_secs()),
            _ => error.to_string(),
        };
        Problem::failed(format!("{url} does not answer")).why(why)
    };
    let mut stream = match proxy {
        Some(proxy) => through(proxy, &host, port).map_err(failed)?,
        None => {
            let address = names::look_up(&host)?.into_iter().find(IpAddr::is_ipv4);
            let address = address.ok_or_else(|| Problem::failed(format!("{host} has no IPv4 address")))?;
            direct(real(SocketAddr::new(address, port))?).map_err(failed)?
        }
    };
    stream.set_read_timeout(Some(PATIENCE)).map_err(failed)?;
    let request = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
    stream.write_all(request.as_bytes()).map_err(failed)?;
    let mut bytes = Vec::new();
    stream.take(1 << 20).read_to_end(&mut bytes).map_err(failed)?;
    let mut headers = [httparse::EMPTY_HEADER; 32];
    let mut response = httparse::Response::new(&mut headers);
    match response.parse(&bytes) {
        Ok(httparse::Status::Complete(head)) if response.code == Some(200) => {
            Ok(String::from_utf8_lossy(&bytes[head..]).trim().to_owned())
        }
        _ => Err(Problem::failed(format!("{url} answers with something else than a page"))),
    }
}

/// A connection from this device itself.
fn direct(to: SocketAddr) -> io::Result<TcpStream> {
    match std::env::var("YESTREL_SOURCE").ok().and_then(|text| text.parse::<IpAddr>().ok()) {
        None => TcpStream::connect_timeout(&to, PATIENCE),
        Some(source) => {
            use nix::sys::socket::{AddressFamily, SockFlag, SockType, SockaddrStorage, bind, connect, socket};
            use std::os::fd::AsRawFd as _;
            let socket = socket(AddressFamily::Inet, SockType::Stream, SockFlag::SOCK_CLOEXEC, None)?;
            bind(socket.as_raw_fd(), &SockaddrStorage::from(SocketAddr::new(source, 0)))?;
            connect(socket.as_raw_fd(), &SockaddrStorage::from(to))?;
            Ok(TcpStream::from(socket))
        }
    }
}

/// A connection through a SOCKS5 proxy (RFC 1928), which looks the name up itself.
///
/// # Errors
/// The proxy is not there or says no.
pub fn through(proxy: SocketAddr, host: &str, port: u16) -> io::Result<TcpStream> {
    let mut stream = TcpStream::connect_timeout(&proxy, PATIENCE)?;
    stream.set_read_timeout(Some(Duration::from_secs(12)))?;
    stream.write_all(&[5, 1, 0])?;
    let mut chosen = [0; 2];
    stream.read_exact(&mut chosen)?;
    let mut request = vec![5, 1, 0];
    match host.parse::<std::net::Ipv4Addr>() {
        Ok(address) => {
            request.push(1);
            request.extend(address.octets());
        }
        Err(_) => {
            request.push(3);
            request.push(host.len() as u8);
            request.extend(host.as_bytes());
        }
    }
    request.extend(port.to_be_bytes());
    stream.write_all(&request)?;
    let mut reply = [0; 10];
    stream.read_exact(&mut reply)?;
    match reply[1] {
        0 => Ok(stream),
        2 => Err(io::Error::other("the tunnel does not reach that far")),
        4 => Err(io::Error::other("the name has no address through the tunnel")),
        _ => Err(io::Error::other("no answer through the tunnel")),
    }
}
