//! Names beside a tunnel that takes only some traffic: those in the handover's domains are asked of the gateway's resolvers, all others
//! of the resolvers that the device had before. A gateway learns no other names, and answers for none.
//!
//! It passes questions on as they are (RFC 1035), by UDP and by TCP, and looks at nothing but the name that is asked for.

use std::io::{Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use parking_lot::RwLock;
use yestrel_core::{Problem, Result};
use yestrel_net::names;

/// Waiting for one resolver.
const PATIENCE: Duration = Duration::from_millis(1500);
/// Questions that are under way at once; further ones are left to be asked again.
const MOST: usize = 64;
/// The longest question or answer (RFC 1035 section 4.2.2).
const LONGEST: usize = 65_535;

/// Who is asked for what.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// In lower case, without a dot at the end.
    pub domains: Vec<String>,
    /// For names in these domains.
    pub inner: Vec<SocketAddr>,
    /// For all others.
    pub before: Vec<SocketAddr>,
}

impl Asked {
    /// Whom to ask for a name.
    #[must_use]
    pub fn of(&self, name: &str) -> &[SocketAddr] {
        let name = name.trim_end_matches('.').to_ascii_lowercase();
        let within = |domain: &String| {
            name.strip_suffix(domain.as_str()).is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
        };
        if self.domains.iter().any(within) { &self.inner } else { &self.before }
    }
}

struct Shared {
    asked: RwLock<Asked>,
    under_way: AtomicUsize,
    stop: AtomicBool,
}

/// A resolver on the loopback interface that asks others; it ends when it is dropped.
pub struct Split {
    shared: Arc<Shared>,
    at: SocketAddr,
}

/// Where the tunnel with this number (0..=15) answers: an address that no usual local resolver has.
#[must_use]
pub fn address(slot: u32) -> IpAddr {
    Ipv4Addr::new(127, 19, 78, slot as u8 + 1).into()
}

impl Split {
    /// Begins to answer at an address, UDP and TCP alike.
    ///
    /// # Errors
    /// Another program has the port there, or no privileges for it.
    pub fn start(at: SocketAddr, asked: Asked) -> Result<Self> {
        let failed = |error: std::io::Error| {
            Problem::failed("names cannot be split").why(format!("nothing can be answered at {at}: {error}"))
        };
        let udp = UdpSocket::bind(at).map_err(failed)?;
        let at = udp.local_addr().map_err(failed)?;
        let tcp = TcpListener::bind(at).map_err(failed)?;
        udp.set_read_timeout(Some(Duration::from_millis(200))).map_err(failed)?;
        tcp.set_nonblocking(true).map_err(failed)?;
        let shared = Arc::new(Shared {
            asked: RwLock::new(asked),
            under_way: AtomicUsize::new(0),
            stop: AtomicBool::new(false),
        });
        let (by_udp, by_tcp) = (shared.clone(), shared.clone());
        let spawn = |run: Box<dyn FnOnce() + Send>| std::thread::Builder::new().name("names".into()).spawn(run);
        spawn(Box::new(move || by_udp.answer_udp(&Arc::new(udp)))).map_err(failed)?;
        if let Err(error) = spawn(Box::new(move || by_tcp.answer_tcp(&tcp))) {
            shared.stop.store(true, Ordering::Relaxed);
            return Err(failed(error));
        }
        Ok(Self { shared, at })
    }

    /// From now on these are asked.
    pub fn set(&self, asked: Asked) {
        *self.shared.asked.write() = asked;
    }

    /// Where it answers.
    #[must_use]
    pub fn at(&self) -> SocketAddr {
        self.at
    }
}

impl Drop for Split {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
    }
}

impl Shared {
    /// Runs `answer` beside, unless too many are under way.
    fn beside(self: &Arc<Self>, answer: impl FnOnce(&Self) + Send + 'static) {
        if self.under_way.fetch_add(1, Ordering::Relaxed) >= MOST {
            self.under_way.fetch_sub(1, Ordering::Relaxed);
            return;
        }
        let shared = self.clone();
        let spawned = std::thread::Builder::new().name("name".into()).spawn(move || {
            answer(&shared);
            shared.under_way.fetch_sub(1, Ordering::Relaxed);
        });
        if spawned.is_err() {
            self.under_way.fetch_sub(1, Ordering::Relaxed);
        }
    }

    fn answer_udp(self: &Arc<Self>, udp: &Arc<UdpSocket>) {
        let mut buffer = vec![0; LONGEST];
        while !self.stop.load(Ordering::Relaxed) {
            let Ok((length, from)) = udp.recv_from(&mut buffer) else { continue };
            let (question, udp) = (buffer[..length].to_vec(), udp.clone());
            self.beside(move |shared| {
                if let Some(answer) = shared.ask(&question, ask_by_udp) {
                    let _ = udp.send_to(&answer, from);
                }
            });
        }
    }

    fn answer_tcp(self: &Arc<Self>, tcp: &TcpListener) {
        while !self.stop.load(Ordering::Relaxed) {
            let Ok((mut stream, _)) = tcp.accept() else {
                std::thread::park_timeout(Duration::from_millis(50));
                continue;
            };
            self.beside(move |shared| {
                let _ = stream.set_nonblocking(false);
                let _ = stream.set_read_timeout(Some(PATIENCE));
                let _ = stream.set_write_timeout(Some(PATIENCE));
                while let Some(question) = read_whole(&mut stream) {
                    let Some(answer) = shared.ask(&question, ask_by_tcp) else { return };
                    if write_whole(&mut stream, &answer).is_none() {
                        return;
                    }
                }
            });
        }
    }

    /// Asks one resolver after another; the first answer counts.
    fn ask(&self, question: &[u8], ask: fn(SocketAddr, &[u8]) -> Option<Vec<u8>>) -> Option<Vec<u8>> {
        let name = names::asked_for(question)?;
        let resolvers = self.asked.read().of(&name).to_vec();
        let answers =
            |answer: &Vec<u8>| answer.get(..2) == question.get(..2) && names::asked_for(answer) == Some(name.clone());
        resolvers.into_iter().find_map(|resolver| ask(resolver, question).filter(answers))
    }
}

fn ask_by_udp(resolver: SocketAddr, question: &[u8]) -> Option<Vec<u8>> {
    let socket = names::socket_for(resolver, "it").ok()?;
    socket.connect(resolver).ok()?;
    socket.set_read_timeout(Some(PATIENCE)).ok()?;
    socket.send(question).ok()?;
    let mut answer = vec![0; LONGEST];
    let length = socket.recv(&mut answer).ok()?;
    answer.truncate(length);
    Some(answer)
}

fn ask_by_tcp(resolver: SocketAddr, question: &[u8]) -> Option<Vec<u8>> {
    let mut stream = TcpStream::connect_timeout(&resolver, PATIENCE).ok()?;
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    stream.set_write_timeout(Some(PATIENCE)).ok()?;
    write_whole(&mut stream, question)?;
    read_whole(&mut stream)
}

/// One message behind its length in two bytes.
fn read_whole(stream: &mut TcpStream) -> Option<Vec<u8>> {
    let mut length = [0; 2];
    stream.read_exact(&mut length).ok()?;
    let mut message = vec![0; usize::from(u16::from_be_bytes(length))];
    stream.read_exact(&mut message).ok()?;
    Some(message)
}

fn write_whole(stream: &mut TcpStream, message: &[u8]) -> Option<()> {
    let length = u16::try_from(message.len()).ok()?.to_be_bytes();
    stream.write_all(&[&length[..], message].concat()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_names_in_the_domains_are_asked_of_the_gateway() {
        let (inner, before) = ("10.44.0.20:53".parse().unwrap(), "192.0.2.53:53".parse().unwrap());
        let asked = Asked { domains: vec!["skerry.example".into()], inner: vec![inner], before: vec![before] };
        for name in ["skerry.example", "files.skerry.example.", "FILES.Skerry.Example", "a.b.skerry.example"] {
            assert_eq!(asked.of(name), [inner], "{name}");
        }
        for name in ["example", "notskerry.example", "skerry.example.org", "", ".", "files.skerry.example.evil.example"]
        {
            assert_eq!(asked.of(name), [before], "{name}");
        }
    }

    /// A resolver that answers every question with itself, with one byte of its own at the end; by UDP and TCP at one port.
    fn resolver(mark: u8) -> SocketAddr {
        let (udp, tcp) = loop {
            let udp = UdpSocket::bind("127.0.0.1:0").unwrap();
            // The same number is not always free for both.
            if let Ok(tcp) = TcpListener::bind(udp.local_addr().unwrap()) {
                break (udp, tcp);
            }
        };
        let at = udp.local_addr().unwrap();
        udp.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
        std::thread::spawn(move || {
            let mut buffer = [0; 1000];
            while let Ok((length, from)) = udp.recv_from(&mut buffer) {
                udp.send_to(&[&buffer[..length], &[mark]].concat(), from).unwrap();
            }
        });
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = tcp.accept() {
                while let Some(question) = read_whole(&mut stream) {
                    write_whole(&mut stream, &[&question[..], &[mark]].concat()).unwrap();
                }
            }
        });
        at
    }

    #[test]
    fn questions_go_where_their_name_belongs_by_udp_and_by_tcp_and_nonsense_goes_nowhere() {
        let asked =
            Asked { domains: vec!["skerry.example".into()], inner: vec![resolver(1)], before: vec![resolver(2)] };
        let split = Split::start("127.0.0.1:0".parse().unwrap(), asked.clone()).unwrap();
        let udp = UdpSocket::bind("127.0.0.1:0").unwrap();
        udp.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
        let mut tcp = TcpStream::connect(split.at()).unwrap();
        let mut ask = |name: &str| {
            let (_, question) = names::question(name, false).unwrap();
            udp.send_to(&question, split.at()).unwrap();
            let mut answer = [0; 1000];
            let length = udp.recv(&mut answer).unwrap();
            write_whole(&mut tcp, &question).unwrap();
            assert_eq!(read_whole(&mut tcp).unwrap(), answer[..length]);
            answer[length - 1]
        };
        assert_eq!((ask("files.skerry.example"), ask("forecast.example")), (1, 2));
        split.set(Asked { domains: vec!["example".into()], ..asked });
        assert_eq!(ask("forecast.example"), 1);
        for nonsense in [&b""[..], b"x", &[0; 12], &[0xff; 600]] {
            udp.send_to(nonsense, split.at()).unwrap();
        }
        assert!(udp.recv(&mut [0; 1000]).is_err(), "nothing is answered that asks for nothing");
    }
}
