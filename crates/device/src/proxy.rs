//! A tunnel inside a process, offered to programs on loopback: SOCKS5 (RFC 1928, CONNECT, no authentication) and HTTP
//! CONNECT (RFC 9110 section 9.3.6) on one port. Names are looked up through the tunnel.

use std::io::{self, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4, TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use parking_lot::RwLock;
use yestrel_core::{Problem, Result};

use yestrel_net::names;
use yestrel_net::stack::Stack;

const PATIENCE: Duration = Duration::from_secs(20);
const LOOK_UP_PATIENCE: Duration = Duration::from_secs(2);
/// A request's head is never longer.
const LONGEST_HEAD: usize = 8 * 1024;

/// What the proxy needs to know of the tunnel as it is now.
#[derive(Debug, Clone, Default)]
pub struct Horizon {
    pub reach: Vec<IpNet>,
    pub resolvers: Vec<IpAddr>,
}

/// Where a program wants to go.
#[derive(Debug, PartialEq, Eq)]
enum Target {
    Address(SocketAddrV4),
    Name(String, u16),
}

/// Why it does not get there: the reply code of RFC 1928 section 6, and the status of RFC 9110.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Failure {
    NotAllowed,
    NoAnswer,
    NoName,
    NotSupported,
}

impl Failure {
    fn socks(self) -> u8 {
        match self {
            Self::NotAllowed => 2,
            Self::NoName => 4,
            Self::NoAnswer => 5,
            Self::NotSupported => 8,
        }
    }

    fn http(self) -> &'static str {
        match self {
            Self::NotAllowed => "403 Beyond the reach of this tunnel",
            Self::NoName => "502 The name has no address through this tunnel",
            Self::NoAnswer => "504 No answer through this tunnel",
            Self::NotSupported => "501 Only IPv4 goes through this tunnel",
        }
    }
}

/// Takes the address for a proxy, before anything else is done: a session is not worth opening without it.
///
/// # Errors
/// The address is not loopback, or its port is taken.
pub fn bind(address: SocketAddr) -> Result<TcpListener> {
    if !address.ip().is_loopback() {
        return Err(Problem::refused(format!("a proxy at {address} would be open to others"))
            .why("it asks for no password, so it is offered on loopback only")
            .try_(format!("--proxy 127.0.0.1:{}", address.port())));
    }
    TcpListener::bind(address).map_err(|error| {
        Problem::refused(format!("the proxy cannot listen at {address}"))
            .why(error.to_string())
            .try_("another port, or --proxy 127.0.0.1:0 for a free one")
    })
}

/// Offers the tunnel at what [`bind`] took, in threads of its own.
///
/// # Errors
/// The system gives no thread.
pub fn serve(listener: TcpListener, stack: Arc<Stack>, horizon: Arc<RwLock<Horizon>>) -> Result<SocketAddr> {
    let cannot = |error: io::Error| Problem::failed("the proxy does not start").why(error.to_string());
    let bound = listener.local_addr().map_err(cannot)?;
    let accept = move || {
        for stream in listener.incoming().flatten() {
            let (stack, horizon) = (stack.clone(), horizon.clone());
            let _ = std::thread::Builder::new().name("proxy".into()).spawn(move || {
                if let Err(error) = client(stream, &stack, &horizon) {
                    tracing::debug!("proxy: {error}");
                }
            });
        }
    };
    std::thread::Builder::new().name("proxy".into()).spawn(accept).map_err(cannot)?;
    Ok(bound)
}

/// Where a program wants to go, and whether it asks by SOCKS5.
fn asked(stream: &mut impl ReadWrite) -> io::Result<(bool, std::result::Result<Target, Failure>)> {
    let first = read_byte(stream)?;
    let socks = first == 5;
    Ok((socks, if socks { socks_target(stream)? } else { http_target(stream, first)? }))
}

/// Reads what a program might say, for tests that make programs up: whether it names something, and how much is said to it meanwhile.
#[doc(hidden)]
#[must_use]
pub fn reads(said: &[u8]) -> (bool, usize) {
    struct Program<'a>(&'a [u8], usize);
    impl io::Read for Program<'_> {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            self.0.read(buffer)
        }
    }
    impl io::Write for Program<'_> {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.1 += bytes.len();
            Ok(bytes.len())
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    let mut program = Program(said, 0);
    (asked(&mut program).is_ok_and(|(_, target)| target.is_ok()), program.1)
}

fn client(mut stream: TcpStream, stack: &Stack, horizon: &RwLock<Horizon>) -> io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    let (socks, target) = asked(&mut stream)?;
    let horizon = horizon.read().clone();
    let joined = target.and_then(|target| resolve(target, stack, &horizon)).and_then(|to| {
        if !horizon.reach.iter().any(|range| range.contains(&IpAddr::V4(*to.ip()))) {
            return Err(Failure::NotAllowed);
        }
        stack.connect(to).map_err(|_| Failure::NoAnswer)
    });
    let (code, status) = match &joined {
        Ok(_) => (0, "200 Connected"),
        Err(failure) => (failure.socks(), failure.http()),
    };
    if socks {
        stream.write_all(&[5, code, 0, 1, 0, 0, 0, 0, 0, 0])?;
    } else {
        stream.write_all(format!("HTTP/1.1 {status}\r\n\r\n").as_bytes())?;
    }
    if let Ok(connection) = joined {
        stream.set_read_timeout(None)?;
        connection.attach(stream);
    }
    Ok(())
}

fn socks_target(stream: &mut impl ReadWrite) -> io::Result<std::result::Result<Target, Failure>> {
    let methods = read_byte(stream)?;
    let mut offered = vec![0; usize::from(methods)];
    stream.read_exact(&mut offered)?;
    if !offered.contains(&0) {
        stream.write_all(&[5, 0xff])?;
        return Err(io::Error::other("the program insists on authentication"));
    }
    stream.write_all(&[5, 0])?;
    let mut head = [0; 4];
    stream.read_exact(&mut head)?;
    let [version, command, _, kind] = head;
    if version != 5 {
        return Err(io::Error::other("not SOCKS5"));
    }
    let target = match kind {
        1 => {
            let mut four = [0; 4];
            stream.read_exact(&mut four)?;
            Ok(Target::Address(SocketAddrV4::new(Ipv4Addr::from(four), 0)))
        }
        3 => {
            let mut name = vec![0; usize::from(read_byte(stream)?)];
            stream.read_exact(&mut name)?;
            String::from_utf8(name).map(|name| Target::Name(name, 0)).map_err(|_| Failure::NoName)
        }
        4 => {
            stream.read_exact(&mut [0; 16])?;
            Err(Failure::NotSupported)
        }
        _ => return Err(io::Error::other("an unknown kind of address")),
    };
    let mut port = [0; 2];
    stream.read_exact(&mut port)?;
    let port = u16::from_be_bytes(port);
    // Only CONNECT: reply 7 of the standard would be as good, but programs understand "not allowed" better.
    if command != 1 {
        return Ok(Err(Failure::NotAllowed));
    }
    Ok(target.map(|target| match target {
        Target::Address(address) => Target::Address(SocketAddrV4::new(*address.ip(), port)),
        Target::Name(name, _) => Target::Name(name, port),
    }))
}

fn http_target(stream: &mut impl ReadWrite, first: u8) -> io::Result<std::result::Result<Target, Failure>> {
    let mut head = vec![first];
    while !head.ends_with(b"\r\n\r\n") {
        if head.len() >= LONGEST_HEAD {
            return Err(io::Error::other("the request's head is too long"));
        }
        head.push(read_byte(stream)?);
    }
    let text = String::from_utf8_lossy(&head);
    let mut words = text.lines().next().unwrap_or_default().split(' ');
    let (method, target) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
    if method != "CONNECT" {
        stream.write_all(b"HTTP/1.1 405 Only CONNECT and SOCKS5\r\nAllow: CONNECT\r\n\r\n")?;
        return Err(io::Error::other("neither SOCKS5 nor CONNECT"));
    }
    let Some((host, port)) = target.rsplit_once(':').and_then(|(host, port)| Some((host, port.parse::<u16>().ok()?)))
    else {
        return Ok(Err(Failure::NoName));
    };
    Ok(match host.parse::<Ipv4Addr>() {
        Ok(address) => Ok(Target::Address(SocketAddrV4::new(address, port))),
        Err(_) if host.starts_with('[') => Err(Failure::NotSupported),
        Err(_) => Ok(Target::Name(host.to_owned(), port)),
    })
}

trait ReadWrite: io::Read + io::Write {}
impl<T: io::Read + io::Write> ReadWrite for T {}

fn read_byte(stream: &mut impl io::Read) -> io::Result<u8> {
    let mut byte = [0];
    stream.read_exact(&mut byte)?;
    Ok(byte[0])
}

fn resolve(target: Target, stack: &Stack, horizon: &Horizon) -> std::result::Result<SocketAddrV4, Failure> {
    match target {
        Target::Address(address) => Ok(address),
        Target::Name(name, port) => {
            let found = look_up(stack, horizon, &name).map_err(|_| Failure::NoName)?;
            let four =
                found.0.iter().find_map(|address| if let IpAddr::V4(four) = address { Some(*four) } else { None });
            four.map(|four| SocketAddrV4::new(four, port)).ok_or(Failure::NoName)
        }
    }
}

/// The addresses of a name, asked through the tunnel only, and which resolver said so.
///
/// # Errors
/// The gateway gave no resolver, none answers, or none knows the name.
pub fn look_up(stack: &Stack, horizon: &Horizon, name: &str) -> Result<(Vec<IpAddr>, IpAddr)> {
    let failed = |why: String| Problem::failed(format!("{name} does not resolve through the tunnel")).why(why);
    let mut last = failed("the gateway gave no resolvers".into())
        .try_("yestrel listener change --resolvers ADDRESS, on the administrator's machine");
    for resolver in &horizon.resolvers {
        let IpAddr::V4(address) = resolver else { continue };
        let (id, question) = names::question(name, false)?;
        for _ in 0..2 {
            let answer = stack.ask(SocketAddrV4::new(*address, 53), &question, LOOK_UP_PATIENCE);
            match answer.and_then(|answer| names::addresses(id, &answer)) {
                Some(Ok(addresses)) if !addresses.is_empty() => return Ok((addresses, *resolver)),
                Some(Ok(_)) => last = failed("the name has no IPv4 address".into()),
                Some(Err(code)) => last = failed(format!("the resolver {resolver} says: {code}")),
                None => {
                    last = failed(format!("the resolver {resolver} does not answer"));
                    continue;
                }
            }
            break;
        }
    }
    Err(last)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A stream whose other end says `input`, and remembers what it heard.
    struct Script {
        input: io::Cursor<Vec<u8>>,
        heard: Vec<u8>,
    }
    impl io::Read for Script {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            self.input.read(buffer)
        }
    }
    impl io::Write for Script {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.heard.extend_from_slice(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    fn script(input: &[u8]) -> Script {
        Script { input: io::Cursor::new(input.to_vec()), heard: Vec::new() }
    }

    #[test]
    fn the_two_protocols_name_the_same_target() {
        let mut socks = script(b"\x01\x00\x05\x01\x00\x03\x17tickets.skerry.example.\x00\x50");
        let target = socks_target(&mut socks).unwrap();
        assert_eq!(target, Ok(Target::Name("tickets.skerry.example.".into(), 80)));
        assert_eq!(socks.heard, [5, 0]);
        let mut http = script(b"ONNECT 10.44.0.20:80 HTTP/1.1\r\nHost: x\r\n\r\n");
        assert_eq!(http_target(&mut http, b'C').unwrap(), Ok(Target::Address("10.44.0.20:80".parse().unwrap())));
    }

    #[test]
    fn what_cannot_be_is_said_in_each_protocols_words() {
        let mut get = script(b"ET http://10.44.0.20/ HTTP/1.1\r\n\r\n");
        assert!(http_target(&mut get, b'G').is_err());
        assert!(get.heard.starts_with(b"HTTP/1.1 405"));
        let mut password = script(b"\x01\x02");
        assert!(socks_target(&mut password).is_err());
        assert_eq!(password.heard, [5, 0xff]);
        let mut bind = script(b"\x01\x00\x05\x02\x00\x01\x0a\x2c\x00\x14\x00\x50");
        assert_eq!(socks_target(&mut bind).unwrap(), Err(Failure::NotAllowed));
    }

    proptest! {
        #[test]
        fn no_bytes_make_a_reader_fail(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = socks_target(&mut script(&bytes));
            let _ = http_target(&mut script(&bytes), b'C');
        }
    }
}
