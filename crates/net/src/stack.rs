//! An IP stack inside the process, for machines where nobody may touch the system's own.
//!
//! At the gateway, connections that come out of the tunnel end here and are made again as ordinary sockets of the
//! agent. At the device, connections that a proxy takes begin here. One thread owns the stack; everybody else gives it
//! packets and requests.

use std::collections::{HashMap, HashSet, VecDeque};
use std::io::{self, Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use etherparse::{Icmpv4Type, NetSlice, PacketBuilder, SlicedPacket, TransportSlice, icmpv4};
use mio::net::{TcpStream, UdpSocket};
use mio::{Events, Interest, Poll, Token, Waker};
use parking_lot::Mutex;
use smoltcp::iface::{Config, Interface, SocketHandle, SocketSet};
use smoltcp::phy::{Device, DeviceCapabilities, Medium, RxToken, TxToken};
use smoltcp::socket::tcp;
use smoltcp::wire::{HardwareAddress, IpCidr};
use yestrel_core::firewall::Protocol;
use yestrel_core::{Problem, Result};

const WAKE: Token = Token(0);
/// Buffers of one connection, each way.
const BUFFER: usize = 128 * 1024;
/// A UDP exchange is forgotten after this.
const UDP_IDLE: Duration = Duration::from_secs(60);
/// Connections at once, and exchanges as many: each connection has 256 KiB of buffers and a descriptor.
const MOST_FLOWS: usize = 1024;
/// Of one device: at most 32 MiB of buffers.
const MOST_OF_ONE: usize = 128;
/// Connections of one device that are being made outside, each by a thread of its own.
const MOST_DIALS: usize = 32;
/// Packets that wait for the stack, in all: what comes faster than it takes is lost, as on the way.
const MOST_WAITING: usize = 4096;
/// Packets that one watcher has not taken yet.
const MOST_WATCHED: usize = 256;
const DIAL_PATIENCE: Duration = Duration::from_secs(10);

/// One end of an exchange inside the tunnel and the other: source, destination.
type Flow = (SocketAddrV4, SocketAddrV4);

/// Where a stack's packets for the tunnel go.
pub type Emit = Arc<dyn Fn(&[u8]) + Send + Sync>;

/// Whether a source may reach a destination, and there a port.
pub type Allowed = dyn Fn(Ipv4Addr, Ipv4Addr, Option<(Protocol, u16)>) -> bool + Send + Sync;

/// How the gateway's end reaches the world.
pub struct Outside {
    /// Whether this source may reach this destination, and there this port.
    pub allowed: Box<Allowed>,
    /// Where a destination really is: itself, except in the lab.
    pub real: Box<dyn Fn(SocketAddrV4) -> SocketAddr + Send + Sync>,
    /// The address that the agent's own sockets use.
    pub source: Option<IpAddr>,
    /// The gateway's own address in the pool of this device, or in that pool of which this is the gateway's.
    pub router: Box<dyn Fn(Ipv4Addr) -> Option<Ipv4Addr> + Send + Sync>,
}

enum Command {
    Packet(Vec<u8>),
    Dialled(Flow, Vec<u8>, Option<std::net::TcpStream>),
    Connect(SocketAddrV4, mpsc::Sender<Option<SocketHandle>>),
    Attach(SocketHandle, std::net::TcpStream),
    Watch(mpsc::SyncSender<Vec<u8>>),
    Address(Ipv4Addr),
}

struct Shared {
    commands: Mutex<VecDeque<Command>>,
    waker: Waker,
    stop: AtomicBool,
}

impl Shared {
    fn give(&self, command: Command) {
        let mut commands = self.commands.lock();
        if matches!(command, Command::Packet(_)) && commands.len() >= MOST_WAITING {
            return;
        }
        commands.push_back(command);
        drop(commands);
        let _ = self.waker.wake();
    }
}

/// A running stack.
pub struct Stack {
    shared: Arc<Shared>,
    emit: Emit,
    own: Mutex<Ipv4Addr>,
}

impl Drop for Stack {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
        let _ = self.shared.waker.wake();
    }
}

impl Stack {
    /// Starts a stack with the address `own`. Packets for the tunnel go to `emit`. With `outside`, it is a gateway's.
    ///
    /// # Errors
    /// The system gives no thread or poll.
    pub fn start(own: Ipv4Addr, packet_size: u16, outside: Option<Outside>, emit: Emit) -> Result<Self> {
        let fail =
            |error: io::Error| Problem::failed("the IP stack inside the process does not start").why(error.to_string());
        let poll = Poll::new().map_err(fail)?;
        let waker = Waker::new(poll.registry(), WAKE).map_err(fail)?;
        let shared = Arc::new(Shared { commands: Mutex::default(), waker, stop: AtomicBool::new(false) });
        let mut worker = Worker::new(own, packet_size, outside, emit.clone(), poll, shared.clone());
        std::thread::Builder::new().name("stack".into()).spawn(move || worker.run()).map_err(fail)?;
        Ok(Self { shared, emit, own: Mutex::new(own) })
    }

    /// Takes a packet that came out of the tunnel.
    pub fn packet(&self, packet: &[u8]) {
        self.shared.give(Command::Packet(packet.to_vec()));
    }

    /// The gateway gave another inner address.
    pub fn set_address(&self, own: Ipv4Addr) {
        *self.own.lock() = own;
        self.shared.give(Command::Address(own));
    }

    /// Opens a connection through the tunnel.
    ///
    /// # Errors
    /// Refused by the other end, or no answer within ten seconds.
    pub fn connect(&self, to: SocketAddrV4) -> Result<Connection<'_>> {
        let (answer, answered) = mpsc::channel();
        self.shared.give(Command::Connect(to, answer));
        match answered.recv_timeout(DIAL_PATIENCE) {
            Ok(Some(handle)) => Ok(Connection { stack: self, handle }),
            Ok(None) => Err(Problem::failed(format!("{to} refused the connection"))),
            Err(_) => Err(Problem::failed(format!("{to} does not answer through the tunnel"))),
        }
    }

    /// All packets but TCP that come out of the tunnel, until the receiver is dropped.
    #[must_use]
    pub fn watch(&self) -> mpsc::Receiver<Vec<u8>> {
        let (sender, receiver) = mpsc::sync_channel(MOST_WATCHED);
        self.shared.give(Command::Watch(sender));
        receiver
    }

    /// The stack's own address.
    #[must_use]
    pub fn own(&self) -> Ipv4Addr {
        *self.own.lock()
    }

    /// Asks `to` by UDP and gives the first answer.
    #[must_use]
    pub fn ask(&self, to: SocketAddrV4, question: &[u8], patience: Duration) -> Option<Vec<u8>> {
        let answers = self.watch();
        let port = 40_000 + (std::process::id() as u16 ^ question.first().copied().map_or(0, u16::from)) % 20_000;
        let own = self.own();
        let mut packet = Vec::new();
        PacketBuilder::ipv4(own.octets(), to.ip().octets(), 64)
            .udp(port, to.port())
            .write(&mut packet, question)
            .ok()?;
        (self.emit)(&packet);
        let until = Instant::now() + patience;
        while let Ok(packet) = answers.recv_timeout(until.saturating_duration_since(Instant::now())) {
            if let Ok(sliced) = SlicedPacket::from_ip(&packet)
                && let Some(TransportSlice::Udp(udp)) = &sliced.transport
                && udp.destination_port() == port
                && udp.source_port() == to.port()
            {
                return Some(udp.payload().to_vec());
            }
        }
        None
    }

    /// Sends an ICMP echo towards `to` with this many hops to live, and gives who answered and after how long.
    #[must_use]
    pub fn echo(&self, to: Ipv4Addr, hops: u8, patience: Duration) -> Option<(Ipv4Addr, Duration)> {
        let answers = self.watch();
        let mut packet = Vec::new();
        PacketBuilder::ipv4(self.own().octets(), to.octets(), hops)
            .icmpv4_echo_request(std::process::id() as u16, u16::from(hops))
            .write(&mut packet, b"is it really going through?")
            .ok()?;
        let sent = Instant::now();
        (self.emit)(&packet);
        while let Ok(packet) = answers.recv_timeout(patience.saturating_sub(sent.elapsed())) {
            let Ok(sliced) = SlicedPacket::from_ip(&packet) else { continue };
            let Some(NetSlice::Ipv4(ip)) = &sliced.net else { continue };
            if let Some(TransportSlice::Icmpv4(icmp)) = &sliced.transport
                && matches!(icmp.icmp_type(), Icmpv4Type::EchoReply(_) | Icmpv4Type::TimeExceeded(_))
            {
                return Some((ip.header().source_addr(), sent.elapsed()));
            }
        }
        None
    }
}

/// A connection through the tunnel that waits for whoever uses it.
pub struct Connection<'a> {
    stack: &'a Stack,
    handle: SocketHandle,
}

impl Connection<'_> {
    /// Lets the stack carry bytes between `stream` and the connection, until both are done.
    pub fn attach(self, stream: std::net::TcpStream) {
        self.stack.shared.give(Command::Attach(self.handle, stream));
    }
}

/// The stack's side towards the tunnel: two queues.
struct Queues {
    inbound: VecDeque<Vec<u8>>,
    outbound: VecDeque<Vec<u8>>,
    packet_size: usize,
}

struct Inbound(Vec<u8>);
impl RxToken for Inbound {
    fn consume<R, F: FnOnce(&[u8]) -> R>(self, f: F) -> R {
        f(&self.0)
    }
}

struct Outbound<'a>(&'a mut VecDeque<Vec<u8>>);
impl TxToken for Outbound<'_> {
    fn consume<R, F: FnOnce(&mut [u8]) -> R>(self, len: usize, f: F) -> R {
        let mut packet = vec![0; len];
        let result = f(&mut packet);
        self.0.push_back(packet);
        result
    }
}

impl Device for Queues {
    type RxToken<'a> = Inbound;
    type TxToken<'a> = Outbound<'a>;

    fn receive(&mut self, _: smoltcp::time::Instant) -> Option<(Inbound, Outbound<'_>)> {
        self.inbound.pop_front().map(|packet| (Inbound(packet), Outbound(&mut self.outbound)))
    }

    fn transmit(&mut self, _: smoltcp::time::Instant) -> Option<Outbound<'_>> {
        Some(Outbound(&mut self.outbound))
    }

    fn capabilities(&self) -> DeviceCapabilities {
        let mut capabilities = DeviceCapabilities::default();
        capabilities.medium = Medium::Ip;
        capabilities.max_transmission_unit = self.packet_size;
        capabilities
    }
}

/// A TCP connection inside the tunnel joined to a socket outside.
struct Relay {
    handle: SocketHandle,
    stream: TcpStream,
    flow: Option<Flow>,
    stream_done: bool,
    tunnel_done: bool,
}

struct Exchange {
    socket: UdpSocket,
    used: Instant,
}

/// What one device has of the stack.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Held {
    flows: usize,
    /// Of these, connections that are still being made outside.
    dials: usize,
    exchanges: usize,
}

/// What each device has of the stack, by its inner address; nothing is kept of those that have nothing.
#[derive(Default)]
struct Holdings(HashMap<Ipv4Addr, Held>);

impl Holdings {
    fn of(&self, device: Ipv4Addr) -> Held {
        self.0.get(&device).copied().unwrap_or_default()
    }

    fn change(&mut self, device: Ipv4Addr, change: impl FnOnce(&mut Held)) {
        let held = self.0.entry(device).or_default();
        change(held);
        if *held == Held::default() {
            self.0.remove(&device);
        }
    }
}

struct Worker {
    outside: Option<Arc<Outside>>,
    emit: Emit,
    poll: Poll,
    shared: Arc<Shared>,
    interface: Interface,
    sockets: SocketSet<'static>,
    queues: Queues,
    relays: HashMap<Token, Relay>,
    flows: HashSet<Flow>,
    held: Holdings,
    exchanges: HashMap<Flow, Exchange>,
    connecting: Vec<(SocketHandle, mpsc::Sender<Option<SocketHandle>>)>,
    watchers: Vec<mpsc::SyncSender<Vec<u8>>>,
    next_token: usize,
    next_port: u16,
}

fn stack_now() -> smoltcp::time::Instant {
    static ORIGIN: OnceLock<Instant> = OnceLock::new();
    smoltcp::time::Instant::from_micros(ORIGIN.get_or_init(Instant::now).elapsed().as_micros() as i64)
}

fn new_socket() -> tcp::Socket<'static> {
    let mut socket = tcp::Socket::new(tcp::SocketBuffer::new(vec![0; BUFFER]), tcp::SocketBuffer::new(vec![0; BUFFER]));
    socket.set_nagle_enabled(false);
    socket.set_timeout(Some(smoltcp::time::Duration::from_secs(60)));
    socket.set_keep_alive(Some(smoltcp::time::Duration::from_secs(20)));
    socket
}

impl Worker {
    fn new(
        own: Ipv4Addr,
        packet_size: u16,
        outside: Option<Outside>,
        emit: Emit,
        poll: Poll,
        shared: Arc<Shared>,
    ) -> Self {
        let mut queues =
            Queues { inbound: VecDeque::new(), outbound: VecDeque::new(), packet_size: usize::from(packet_size) };
        let mut config = Config::new(HardwareAddress::Ip);
        let mut seed = [0; 8];
        yestrel_wire::Random::fill(&mut *crate::clock::SystemRandom::boxed(), &mut seed);
        config.random_seed = u64::from_be_bytes(seed);
        let mut interface = Interface::new(config, &mut queues, stack_now());
        interface.set_any_ip(outside.is_some());
        let mut worker = Self {
            outside: outside.map(Arc::new),
            emit,
            poll,
            shared,
            interface,
            sockets: SocketSet::new(Vec::new()),
            queues,
            relays: HashMap::new(),
            flows: HashSet::new(),
            held: Holdings::default(),
            exchanges: HashMap::new(),
            connecting: Vec::new(),
            watchers: Vec::new(),
            next_token: 1,
            next_port: 32_768 + u16::from(seed[0]) * 64,
        };
        worker.set_address(own);
        worker
    }

    fn set_address(&mut self, own: Ipv4Addr) {
        self.interface.update_ip_addrs(|addresses| {
            addresses.clear();
            let _ = addresses.push(IpCidr::new(own.into(), 32));
        });
        // With the own address as router, packets to any address are taken for oneself (any_ip).
        let _ = self.interface.routes_mut().add_default_ipv4_route(own);
    }

    fn run(&mut self) {
        let mut events = Events::with_capacity(256);
        while !self.shared.stop.load(Ordering::Relaxed) {
            loop {
                let command = self.shared.commands.lock().pop_front();
                let Some(command) = command else { break };
                self.command(command);
            }
            self.interface.poll(stack_now(), &mut self.queues, &mut self.sockets);
            self.settle_connecting();
            self.relay();
            self.exchange();
            self.interface.poll(stack_now(), &mut self.queues, &mut self.sockets);
            while let Some(packet) = self.queues.outbound.pop_front() {
                (self.emit)(&packet);
            }
            let delay = self
                .interface
                .poll_delay(stack_now(), &self.sockets)
                .map_or(Duration::from_millis(500), |delay| Duration::from_micros(delay.total_micros()));
            let delay = if self.shared.commands.lock().is_empty() { delay } else { Duration::ZERO };
            let _ = self.poll.poll(&mut events, Some(delay.min(Duration::from_millis(500))));
        }
    }

    fn command(&mut self, command: Command) {
        match command {
            Command::Packet(packet) => self.inbound(packet),
            Command::Dialled(flow, syn, stream) => self.dialled(flow, syn, stream),
            Command::Connect(to, answer) => self.connect(to, answer),
            Command::Attach(handle, stream) => {
                let _ = stream.set_nonblocking(true);
                self.add_relay(handle, TcpStream::from_std(stream), None);
            }
            Command::Watch(sender) => self.watchers.push(sender),
            Command::Address(own) => self.set_address(own),
        }
    }

    fn inbound(&mut self, packet: Vec<u8>) {
        if self.outside.is_some() {
            if self.at_gateway(&packet).unwrap_or(false) {
                self.queues.inbound.push_back(packet);
            }
            return;
        }
        let tcp = packet.get(9) == Some(&6);
        if tcp {
            self.queues.inbound.push_back(packet);
        } else {
            let taken = |watcher: &mpsc::SyncSender<Vec<u8>>| {
                !matches!(watcher.try_send(packet.clone()), Err(mpsc::TrySendError::Disconnected(_)))
            };
            self.watchers.retain(taken);
        }
    }

    /// Whether the stack itself is to see a packet from a device; everything else is dealt with here.
    fn at_gateway(&mut self, packet: &[u8]) -> Option<bool> {
        let outside = self.outside.clone()?;
        let sliced = SlicedPacket::from_ip(packet).ok()?;
        let Some(NetSlice::Ipv4(ip)) = &sliced.net else { return None };
        let (source, destination, hops) =
            (ip.header().source_addr(), ip.header().destination_addr(), ip.header().ttl());
        let router = (outside.router)(source)?;
        let own = destination == router;
        let port = match &sliced.transport {
            Some(TransportSlice::Udp(udp)) => Some((Protocol::Udp, udp.destination_port())),
            Some(TransportSlice::Tcp(segment)) => Some((Protocol::Tcp, segment.destination_port())),
            _ => None,
        };
        if !own && !(outside.allowed)(source, destination, port) {
            return None;
        }
        if !own && hops <= 1 {
            self.time_exceeded(router, source, packet);
            return None;
        }
        match &sliced.transport {
            Some(TransportSlice::Icmpv4(_)) if own => Some(true),
            Some(TransportSlice::Udp(udp)) if !own => {
                let flow = (
                    SocketAddrV4::new(source, udp.source_port()),
                    SocketAddrV4::new(destination, udp.destination_port()),
                );
                let payload = udp.payload().to_vec();
                self.send_exchange(&outside, flow, &payload);
                None
            }
            Some(TransportSlice::Tcp(segment)) => {
                let flow = (
                    SocketAddrV4::new(source, segment.source_port()),
                    SocketAddrV4::new(destination, segment.destination_port()),
                );
                let begins = segment.syn() && !segment.ack();
                if !begins || own {
                    return Some(true);
                }
                let of_one = self.held.of(source);
                if !self.flows.contains(&flow)
                    && self.flows.len() < MOST_FLOWS
                    && of_one.flows < MOST_OF_ONE
                    && of_one.dials < MOST_DIALS
                {
                    self.flows.insert(flow);
                    self.held.change(source, |held| (held.flows, held.dials) = (held.flows + 1, held.dials + 1));
                    self.dial(&outside, flow, packet.to_vec());
                }
                None
            }
            _ => None,
        }
    }

    fn time_exceeded(&self, router: Ipv4Addr, to: Ipv4Addr, packet: &[u8]) {
        // RFC 792: the header and the first eight bytes behind it.
        let quoted = &packet[..packet.len().min(28)];
        let mut answer = Vec::new();
        let built = PacketBuilder::ipv4(router.octets(), to.octets(), 64)
            .icmpv4(Icmpv4Type::TimeExceeded(icmpv4::TimeExceededCode::TtlExceededInTransit))
            .write(&mut answer, quoted);
        if built.is_ok() {
            (self.emit)(&answer);
        }
    }

    /// Makes the outside half of a connection; the device's first packet waits until that is known to work.
    fn dial(&self, outside: &Arc<Outside>, flow: Flow, syn: Vec<u8>) {
        let (shared, to, source) = (self.shared.clone(), (outside.real)(flow.1), outside.source);
        let spawned = std::thread::Builder::new().name("dial".into()).spawn(move || {
            let dial = || -> io::Result<std::net::TcpStream> {
                let socket = socket2::Socket::new(socket2::Domain::for_address(to), socket2::Type::STREAM, None)?;
                if let Some(source) = source.filter(|source| source.is_ipv4() == to.is_ipv4()) {
                    socket.bind(&SocketAddr::new(source, 0).into())?;
                }
                socket.connect_timeout(&to.into(), DIAL_PATIENCE)?;
                socket.set_nonblocking(true)?;
                Ok(socket.into())
            };
            shared.give(Command::Dialled(flow, syn, dial().ok()));
        });
        if spawned.is_err() {
            tracing::warn!("no thread for an outside connection");
        }
    }

    fn forget_flow(&mut self, flow: &Flow) {
        if self.flows.remove(flow) {
            self.held.change(*flow.0.ip(), |held| held.flows = held.flows.saturating_sub(1));
        }
    }

    fn dialled(&mut self, flow: Flow, syn: Vec<u8>, stream: Option<std::net::TcpStream>) {
        self.held.change(*flow.0.ip(), |held| held.dials = held.dials.saturating_sub(1));
        let Some(stream) = stream else {
            // Nobody listens for it inside either, so the stack answers with a reset.
            self.forget_flow(&flow);
            self.queues.inbound.push_back(syn);
            return;
        };
        let mut socket = new_socket();
        if socket.listen((*flow.1.ip(), flow.1.port())).is_err() {
            self.forget_flow(&flow);
            return;
        }
        let handle = self.sockets.add(socket);
        self.queues.inbound.push_back(syn);
        // At once, so that this socket and no other takes this packet.
        self.interface.poll(stack_now(), &mut self.queues, &mut self.sockets);
        self.add_relay(handle, TcpStream::from_std(stream), Some(flow));
    }

    fn connect(&mut self, to: SocketAddrV4, answer: mpsc::Sender<Option<SocketHandle>>) {
        let mut socket = new_socket();
        self.next_port = if self.next_port >= 60_000 { 32_768 } else { self.next_port + 1 };
        let connected = socket.connect(self.interface.context(), (*to.ip(), to.port()), self.next_port);
        if connected.is_err() {
            let _ = answer.send(None);
            return;
        }
        let handle = self.sockets.add(socket);
        self.connecting.push((handle, answer));
    }

    fn settle_connecting(&mut self) {
        let sockets = &mut self.sockets;
        self.connecting.retain(|(handle, answer)| match sockets.get::<tcp::Socket>(*handle).state() {
            tcp::State::SynSent | tcp::State::SynReceived => true,
            tcp::State::Closed => {
                sockets.remove(*handle);
                let _ = answer.send(None);
                false
            }
            _ => {
                if answer.send(Some(*handle)).is_err() {
                    sockets.remove(*handle);
                }
                false
            }
        });
    }

    fn add_relay(&mut self, handle: SocketHandle, mut stream: TcpStream, flow: Option<Flow>) {
        let token = Token(self.next_token);
        self.next_token += 1;
        let _ = stream.set_nodelay(true);
        let _ = self.poll.registry().register(&mut stream, token, Interest::READABLE | Interest::WRITABLE);
        self.relays.insert(token, Relay { handle, stream, flow, stream_done: false, tunnel_done: false });
    }

    fn relay(&mut self) {
        let mut done = Vec::new();
        for (token, relay) in &mut self.relays {
            let socket = self.sockets.get_mut::<tcp::Socket>(relay.handle);
            while socket.can_recv() {
                let wrote = socket.recv(|bytes| match relay.stream.write(bytes) {
                    Ok(count) => (count, Ok(count)),
                    Err(error) => (0, Err(error)),
                });
                match wrote {
                    Ok(Ok(count)) if count > 0 => {}
                    Ok(Err(error)) if error.kind() != io::ErrorKind::WouldBlock => {
                        socket.abort();
                        break;
                    }
                    _ => break,
                }
            }
            let begun = !matches!(socket.state(), tcp::State::Listen | tcp::State::SynReceived | tcp::State::SynSent);
            if begun && !socket.may_recv() && !socket.can_recv() && !relay.tunnel_done {
                relay.tunnel_done = true;
                let _ = relay.stream.shutdown(std::net::Shutdown::Write);
            }
            while !relay.stream_done && socket.can_send() {
                let read = socket.send(|bytes| match relay.stream.read(bytes) {
                    Ok(count) => (count, Ok(count)),
                    Err(error) => (0, Err(error)),
                });
                match read {
                    Ok(Ok(0)) => {
                        relay.stream_done = true;
                        socket.close();
                    }
                    Ok(Ok(_)) => {}
                    Ok(Err(error)) if error.kind() == io::ErrorKind::WouldBlock => break,
                    _ => {
                        socket.abort();
                        break;
                    }
                }
            }
            if !socket.is_open() {
                done.push(*token);
            }
        }
        for token in done {
            if let Some(mut relay) = self.relays.remove(&token) {
                let _ = self.poll.registry().deregister(&mut relay.stream);
                self.sockets.remove(relay.handle);
                if let Some(flow) = relay.flow {
                    self.forget_flow(&flow);
                }
            }
        }
    }

    fn send_exchange(&mut self, outside: &Outside, flow: Flow, payload: &[u8]) {
        if !self.exchanges.contains_key(&flow) {
            let device = *flow.0.ip();
            if self.exchanges.len() >= MOST_FLOWS || self.held.of(device).exchanges >= MOST_OF_ONE {
                return;
            }
            let to = (outside.real)(flow.1);
            let any: IpAddr =
                if to.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
            let source = outside.source.filter(|source| source.is_ipv4() == to.is_ipv4()).unwrap_or(any);
            let Ok(mut socket) = UdpSocket::bind(SocketAddr::new(source, 0)) else { return };
            if socket.connect(to).is_err() {
                return;
            }
            let token = Token(self.next_token);
            self.next_token += 1;
            let _ = self.poll.registry().register(&mut socket, token, Interest::READABLE);
            self.exchanges.insert(flow, Exchange { socket, used: Instant::now() });
            self.held.change(device, |held| held.exchanges += 1);
        }
        if let Some(exchange) = self.exchanges.get_mut(&flow) {
            exchange.used = Instant::now();
            let _ = exchange.socket.send(payload);
        }
    }

    fn exchange(&mut self) {
        let mut payload = [0; 9000];
        for ((source, destination), exchange) in &mut self.exchanges {
            while let Ok(length) = exchange.socket.recv(&mut payload) {
                exchange.used = Instant::now();
                let mut packet = Vec::new();
                let built = PacketBuilder::ipv4(destination.ip().octets(), source.ip().octets(), 64)
                    .udp(destination.port(), source.port())
                    .write(&mut packet, &payload[..length]);
                if built.is_ok() && packet.len() <= self.queues.packet_size {
                    (self.emit)(&packet);
                }
            }
        }
        let held = &mut self.held;
        self.exchanges.retain(|(source, _), exchange| {
            let stays = exchange.used.elapsed() < UDP_IDLE;
            if !stays {
                held.change(*source.ip(), |held| held.exchanges = held.exchanges.saturating_sub(1));
            }
            stays
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::TcpListener;

    /// A device's stack and a gateway's, joined directly.
    fn joined(
        real: SocketAddr,
        allowed: fn(Ipv4Addr, Ipv4Addr, Option<(Protocol, u16)>) -> bool,
    ) -> (Arc<Stack>, Arc<Stack>) {
        type Slot = OnceLock<Arc<Stack>>;
        let slots: Arc<(Slot, Slot)> = Arc::default();
        let (to_gateway, to_device) = (slots.clone(), slots.clone());
        let device = Stack::start(
            Ipv4Addr::new(10, 187, 44, 2),
            1400,
            None,
            Arc::new(move |packet: &[u8]| {
                if let Some(stack) = to_gateway.1.get() {
                    stack.packet(packet)
                }
            }),
        );
        let router = |_| Some(Ipv4Addr::new(10, 187, 44, 1));
        let outside = Outside {
            allowed: Box::new(allowed),
            real: Box::new(move |_| real),
            source: None,
            router: Box::new(router),
        };
        let gateway = Stack::start(
            Ipv4Addr::new(10, 187, 44, 1),
            1400,
            Some(outside),
            Arc::new(move |packet: &[u8]| {
                if let Some(stack) = to_device.0.get() {
                    stack.packet(packet)
                }
            }),
        );
        let (device, gateway) = (Arc::new(device.unwrap()), Arc::new(gateway.unwrap()));
        let _ = slots.0.set(device.clone());
        let _ = slots.1.set(gateway.clone());
        (device, gateway)
    }

    #[test]
    fn a_connection_goes_through_both_stacks_and_carries_a_megabyte() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let real = listener.local_addr().unwrap();
        let server = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let mut all = Vec::new();
            stream.read_to_end(&mut all).unwrap();
            stream.write_all(&all).unwrap();
        });
        let (device, _gateway) = joined(real, |_, _, _| true);
        let connection = device.connect("10.44.0.20:80".parse().unwrap()).unwrap();
        let pair = TcpListener::bind("127.0.0.1:0").unwrap();
        let mut here = std::net::TcpStream::connect(pair.local_addr().unwrap()).unwrap();
        connection.attach(pair.accept().unwrap().0);
        let sent: Vec<u8> = (0..1_000_000_u32).map(|n| (n * 31 % 251) as u8).collect();
        let mut writer = here.try_clone().unwrap();
        let copy = sent.clone();
        let writing = std::thread::spawn(move || {
            writer.write_all(&copy).unwrap();
            writer.shutdown(std::net::Shutdown::Write).unwrap();
        });
        let mut back = Vec::new();
        here.read_to_end(&mut back).unwrap();
        assert!(back == sent, "{} bytes of {}", back.len(), sent.len());
        writing.join().unwrap();
        server.join().unwrap();
    }

    #[test]
    fn the_first_hop_is_the_gateway_and_nothing_beyond_reach_answers() {
        let (device, _gateway) = joined("127.0.0.1:9".parse().unwrap(), |_, to, _| to.octets()[1] == 44);
        let patience = Duration::from_secs(2);
        let hop = device.echo(Ipv4Addr::new(10, 44, 0, 20), 1, patience).map(|(from, _)| from);
        assert_eq!(hop, Some(Ipv4Addr::new(10, 187, 44, 1)));
        let own = device.echo(Ipv4Addr::new(10, 187, 44, 1), 64, patience).map(|(from, _)| from);
        assert_eq!(own, Some(Ipv4Addr::new(10, 187, 44, 1)));
        assert_eq!(device.echo(Ipv4Addr::new(10, 45, 0, 20), 1, Duration::from_millis(300)), None);
        // Port 9 of loopback is closed: the refusal comes through.
        assert!(device.connect("10.44.0.20:80".parse().unwrap()).is_err());
    }

    /// One device opens ever more connections and exchanges: it gets so many and no more, and another device is served all the same.
    #[test]
    fn a_device_has_a_share_and_no_more() {
        let (went, dialled) = mpsc::channel();
        let outside = Outside {
            allowed: Box::new(|_, _, _| true),
            // Where nobody answers and nobody refuses for a while would take ten seconds; a closed port is refused at once. Both count.
            real: Box::new(move |to| {
                let _ = went.send(to);
                SocketAddr::from(([127, 0, 0, 1], 9))
            }),
            source: None,
            router: Box::new(|_| Some(Ipv4Addr::new(10, 187, 44, 1))),
        };
        let poll = Poll::new().unwrap();
        let waker = Waker::new(poll.registry(), WAKE).unwrap();
        let shared = Arc::new(Shared { commands: Mutex::default(), waker, stop: AtomicBool::new(false) });
        let emit: Emit = Arc::new(|_: &[u8]| {});
        let mut worker = Worker::new(Ipv4Addr::new(10, 187, 44, 1), 1400, Some(outside), emit, poll, shared.clone());
        let packet = |from: u8, number: u16, tcp: bool| {
            let mut packet = Vec::new();
            let builder = PacketBuilder::ipv4([10, 187, 44, from], [10, 44, 0, 20], 64);
            let built = if tcp {
                builder.tcp(1024 + number, 80, 1, 1000).syn().write(&mut packet, &[])
            } else {
                builder.udp(1024 + number, 53).write(&mut packet, b"?")
            };
            built.unwrap();
            packet
        };
        for number in 0..2_000 {
            worker.inbound(packet(2, number, true));
            worker.inbound(packet(2, number, false));
        }
        let device = Ipv4Addr::new(10, 187, 44, 2);
        assert_eq!(worker.held.of(device), Held { flows: MOST_DIALS, dials: MOST_DIALS, exchanges: MOST_OF_ONE });
        worker.inbound(packet(3, 1, true));
        worker.inbound(packet(3, 1, false));
        assert_eq!(worker.held.of(Ipv4Addr::new(10, 187, 44, 3)), Held { flows: 1, dials: 1, exchanges: 1 });
        drop(dialled);
        // What is refused is given back.
        let end = Instant::now() + Duration::from_secs(10);
        while worker.held.of(device).dials > 0 && Instant::now() < end {
            let command = shared.commands.lock().pop_front();
            match command {
                Some(command) => worker.command(command),
                None => std::thread::yield_now(),
            }
        }
        assert_eq!(worker.held.of(device), Held { flows: 0, dials: 0, exchanges: MOST_OF_ONE });
        for number in 0..3 * MOST_WAITING {
            shared.give(Command::Packet(vec![number as u8; 100]));
        }
        // The end of the other device's dial may come among them, and is never let go.
        let packets = shared.commands.lock().iter().filter(|one| matches!(one, Command::Packet(_))).count();
        assert!(packets <= MOST_WAITING, "{packets}");
    }
}
