//! Packets in batches: many datagrams a system call towards the network, many packets a system call
//! towards the TUN device.

use std::io::{self, IoSliceMut};
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;

use nix::poll::{PollFd, PollFlags, PollTimeout};
use quinn_udp::{BATCH_SIZE, EcnCodepoint, RecvMeta, Transmit, UdpSocketState};
use std::os::fd::AsFd as _;
use tun_rs::{GROTable, IDEAL_BATCH_SIZE, SyncDevice, VIRTIO_NET_HDR_LEN};

use crate::sieve::{self, Sieve};

/// Room for what the kernel may have joined into one receive (GRO).
const RECEIVE: usize = 65_536;
/// So many pieces are taken in one receive.
pub const MOST_PIECES: usize = BATCH_SIZE;
/// Datagrams joined into one send (GSO) stay below the largest UDP payload.
const SEND: usize = 60_000;
/// The largest inner packet that is carried.
pub const LARGEST: usize = 9_200;

/// A UDP socket that moves batches.
pub struct Udp {
    socket: UdpSocket,
    state: UdpSocketState,
    /// Whose turn it is to say what the system drops: of all that share a port, the last.
    turn: Arc<Mutex<u64>>,
    mine: u64,
}

impl Udp {
    /// Binds. With an unspecified IPv6 address, IPv4 is served as well; where there is no IPv6, IPv4 alone.
    ///
    /// # Errors
    /// The port is taken or the address is not this machine's.
    pub fn bind(address: SocketAddr) -> io::Result<Self> {
        let open = |address: SocketAddr| -> io::Result<UdpSocket> {
            let socket = socket2::Socket::new(
                socket2::Domain::for_address(address),
                socket2::Type::DGRAM,
                Some(socket2::Protocol::UDP),
            )?;
            if address.is_ipv6() {
                socket.set_only_v6(false)?;
            }
            socket.bind(&address.into())?;
            // Batches arrive faster than one thread wakes up; what the system does not grant is not missed.
            let _ = socket.set_recv_buffer_size(4 << 20);
            let _ = socket.set_send_buffer_size(4 << 20);
            Ok(socket.into())
        };
        let socket = open(address).or_else(|error| {
            let no_v6 = address.is_ipv6() && address.ip().is_unspecified() && error.kind() != io::ErrorKind::AddrInUse;
            if no_v6 { open(SocketAddr::from(([0, 0, 0, 0], address.port()))) } else { Err(error) }
        })?;
        Self::over(socket, Arc::default(), 0)
    }

    /// A socket whose datagrams may be fragmented on their way: a path that is narrower than the packets is slow, and does not swallow
    /// every large one without a word.
    fn over(socket: UdpSocket, turn: Arc<Mutex<u64>>, mine: u64) -> io::Result<Self> {
        use rustix::net::sockopt::{
            Ipv4PathMtuDiscovery, Ipv6PathMtuDiscovery, set_ip_mtu_discover, set_ipv6_mtu_discover,
        };
        // This forbids it, so it comes first.
        let state = UdpSocketState::new((&socket).into())?;
        if socket.local_addr()?.is_ipv6() {
            set_ipv6_mtu_discover(&socket, Ipv6PathMtuDiscovery::DONT)?;
        }
        // Also a socket for both versions sends IPv4.
        let _ = set_ip_mtu_discover(&socket, Ipv4PathMtuDiscovery::DONT);
        Ok(Self { socket, state, turn, mine })
    }

    /// The same port once more, for a listener that takes it over without a moment in which it is nobody's.
    ///
    /// # Errors
    /// The system has no descriptors left.
    pub fn share(&self) -> io::Result<Self> {
        let socket = self.socket.try_clone()?;
        let mut turn = self.turn.lock();
        let taken = Self::over(socket, self.turn.clone(), *turn + 1)?;
        // Who takes over chooses other ids.
        sieve::detach(&taken.socket);
        *turn += 1;
        drop(turn);
        Ok(taken)
    }

    /// From now on only what passes this reaches the socket; `None`: everything does. Nothing happens where somebody has taken the port over.
    ///
    /// # Errors
    /// The system has no filters.
    pub fn sift(&self, sieve: Option<&Sieve>) -> io::Result<()> {
        let turn = self.turn.lock();
        match sieve {
            _ if *turn != self.mine => Ok(()),
            Some(sieve) => sieve.attach(&self.socket),
            None => {
                sieve::detach(&self.socket);
                Ok(())
            }
        }
    }

    /// The port that the socket has.
    ///
    /// # Errors
    /// The socket is gone.
    pub fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// Waits until something can be received, at most `wait`.
    pub fn wait(&self, wait: Duration) -> bool {
        let mut fds = [PollFd::new(self.socket.as_fd(), PollFlags::POLLIN)];
        let timeout = PollTimeout::try_from(wait).unwrap_or(PollTimeout::MAX);
        nix::poll::poll(&mut fds, timeout).is_ok_and(|ready| ready > 0)
    }

    /// Sends one datagram. What cannot be sent is lost, as on the way.
    pub fn send(&self, to: SocketAddr, datagram: &[u8]) {
        self.send_joined(to, 0, datagram, None);
    }

    fn send_joined(&self, to: SocketAddr, mark: u8, contents: &[u8], segment_size: Option<usize>) {
        let destination = match (to, self.socket.local_addr()) {
            // A socket of both families names IPv4 peers by mapped addresses (RFC 4291 section 2.5.5.2).
            (SocketAddr::V4(four), Ok(SocketAddr::V6(_))) => {
                SocketAddr::from((four.ip().to_ipv6_mapped(), four.port()))
            }
            _ => to,
        };
        let ecn = EcnCodepoint::from_bits(mark);
        let transmit = Transmit { destination, ecn, contents, segment_size, src_ip: None };
        for _ in 0..50 {
            match self.state.try_send((&self.socket).into(), &transmit) {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                    let mut fds = [PollFd::new(self.socket.as_fd(), PollFlags::POLLOUT)];
                    let _ = nix::poll::poll(&mut fds, PollTimeout::from(20_u8));
                }
                _ => return,
            }
        }
    }
}

/// An IPv4 peer of a socket of both families as plain IPv4.
#[must_use]
pub fn plain(address: SocketAddr) -> SocketAddr {
    SocketAddr::new(address.ip().to_canonical(), address.port())
}

/// Buffers for receiving; one per thread.
pub struct Receiver {
    buffers: Vec<Vec<u8>>,
    meta: Vec<RecvMeta>,
}

impl Default for Receiver {
    fn default() -> Self {
        Self { buffers: vec![vec![0; RECEIVE]; BATCH_SIZE], meta: vec![RecvMeta::default(); BATCH_SIZE] }
    }
}

impl Receiver {
    /// Receives what is there and gives each datagram, to be changed in slot. Returns how many pieces the system gave: each is one datagram
    /// or several that it had joined.
    pub fn receive(&mut self, udp: &Udp, mut each: impl FnMut(SocketAddr, &mut [u8])) -> usize {
        self.receive_marked(udp, |from, _, datagram| each(from, datagram))
    }

    /// The same, with the marks of congestion (RFC 3168) that each datagram came with: two bits.
    pub fn receive_marked(&mut self, udp: &Udp, mut each: impl FnMut(SocketAddr, u8, &mut [u8])) -> usize {
        let mut slices: Vec<_> = self.buffers.iter_mut().map(|buffer| IoSliceMut::new(buffer)).collect();
        let Ok(count) = udp.state.recv((&udp.socket).into(), &mut slices, &mut self.meta) else { return 0 };
        for (buffer, meta) in self.buffers.iter_mut().zip(&self.meta).take(count) {
            for datagram in buffer[..meta.len].chunks_mut(meta.stride.max(1)) {
                each(plain(meta.addr), meta.ecn.map_or(0, |mark| mark as u8), datagram);
            }
        }
        count
    }
}

/// Datagrams of one size to one peer, collected for one send.
#[derive(Default)]
pub struct Sender {
    contents: Vec<u8>,
    size: usize,
    count: usize,
    to: Option<SocketAddr>,
    /// Marks of congestion that they go out with.
    mark: u8,
}

impl Sender {
    /// Adds a datagram that `lay` appends to the buffer; `lay` returns whether it did. Sends what was collected when the
    /// new one does not fit to it.
    pub fn add(&mut self, udp: &Udp, to: SocketAddr, expected: usize, lay: impl FnOnce(&mut Vec<u8>) -> bool) {
        self.add_marked(udp, to, 0, expected, lay);
    }

    /// The same, with marks of congestion (RFC 3168): two bits.
    pub fn add_marked(
        &mut self,
        udp: &Udp,
        to: SocketAddr,
        mark: u8,
        expected: usize,
        lay: impl FnOnce(&mut Vec<u8>) -> bool,
    ) {
        let fits = self.to == Some(to)
            && self.mark == mark
            && expected <= self.size
            && self.contents.len() + expected <= SEND
            && self.count < udp.state.max_gso_segments();
        if !fits {
            self.flush(udp);
        }
        let start = self.contents.len();
        if !lay(&mut self.contents) {
            self.contents.truncate(start);
            return;
        }
        let size = self.contents.len() - start;
        if self.count == 0 {
            self.size = size;
            self.to = Some(to);
            self.mark = mark;
        }
        self.count += 1;
        // A shorter datagram can only be the last of a joined send.
        if size < self.size {
            self.flush(udp);
        }
    }

    /// Sends what was collected.
    pub fn flush(&mut self, udp: &Udp) {
        if let Some(to) = self.to.take()
            && self.count > 0
        {
            let segment = (self.count > 1).then_some(self.size);
            udp.send_joined(to, self.mark, &self.contents, segment);
        }
        self.contents.clear();
        self.count = 0;
    }
}

/// A TUN device that moves batches.
pub struct Tun {
    device: Arc<SyncDevice>,
}

impl Tun {
    /// Makes a device; `name` may contain `%d`. It vanishes with the process.
    ///
    /// # Errors
    /// No TUN in this system, or no privileges.
    pub fn create(name: &str, packet_size: u16) -> io::Result<Self> {
        let device = tun_rs::DeviceBuilder::new()
            .name(name)
            .mtu(packet_size)
            .with(|options| {
                options.offload(true);
            })
            .build_sync()?;
        Ok(Self { device: Arc::new(device) })
    }

    /// The device's name.
    ///
    /// # Errors
    /// The device is gone.
    pub fn name(&self) -> io::Result<String> {
        self.device.name()
    }

    /// Reads what the system sends into the tunnel, joined packets split again.
    ///
    /// # Errors
    /// The device is gone.
    pub fn read<'a>(&self, buffers: &'a mut TunBuffers) -> io::Result<impl Iterator<Item = &'a [u8]>> {
        let TunBuffers { joined, packets, sizes } = buffers;
        let count = self.device.recv_multiple(joined, packets, sizes, 0)?;
        Ok(packets.iter().zip(sizes.iter()).take(count).map(|(packet, size)| &packet[..*size]))
    }

    /// Writes packets that came out of the tunnel, joined where they belong together.
    pub fn write(&self, batch: &mut Batch) {
        if batch.count > 0 {
            // A packet that the system refuses is lost, as on the way.
            let _ = self.device.send_multiple(&mut batch.table, &mut batch.packets[..batch.count], VIRTIO_NET_HDR_LEN);
            batch.count = 0;
        }
    }
}

/// Buffers for reading from TUN; one per thread.
pub struct TunBuffers {
    joined: Vec<u8>,
    packets: Vec<Vec<u8>>,
    sizes: Vec<usize>,
}

impl Default for TunBuffers {
    fn default() -> Self {
        Self {
            joined: vec![0; VIRTIO_NET_HDR_LEN + 65_535],
            packets: vec![vec![0; LARGEST]; IDEAL_BATCH_SIZE],
            sizes: vec![0; IDEAL_BATCH_SIZE],
        }
    }
}

/// Packets on their way out of the tunnel; one per thread, its buffers used again and again.
#[derive(Default)]
pub struct Batch {
    packets: Vec<Vec<u8>>,
    count: usize,
    table: GROTable,
}

impl Batch {
    /// Adds a packet.
    pub fn push(&mut self, packet: &[u8]) {
        if self.count == self.packets.len() {
            self.packets.push(Vec::with_capacity(VIRTIO_NET_HDR_LEN + 65_535));
        }
        let slot = &mut self.packets[self.count];
        slot.clear();
        slot.resize(VIRTIO_NET_HDR_LEN, 0);
        slot.extend_from_slice(packet);
        self.count += 1;
    }

    /// Whether a full batch has been collected.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.count >= IDEAL_BATCH_SIZE
    }

    /// The packets, for a plane that is not TUN; empties the batch.
    pub fn drain(&mut self) -> impl Iterator<Item = &[u8]> {
        let count = std::mem::take(&mut self.count);
        self.packets[..count].iter().map(|packet| &packet[VIRTIO_NET_HDR_LEN..])
    }
}

/// Source and destination of an IP packet whose header is whole.
#[must_use]
pub fn ends(packet: &[u8]) -> Option<(IpAddr, IpAddr)> {
    match packet.first()? >> 4 {
        4 if packet.len() >= 20 => {
            let at = |start: usize| <[u8; 4]>::try_from(&packet[start..start + 4]).map(IpAddr::from).ok();
            Some((at(12)?, at(16)?))
        }
        6 if packet.len() >= 40 => {
            let at = |start: usize| <[u8; 16]>::try_from(&packet[start..start + 16]).map(IpAddr::from).ok();
            Some((at(8)?, at(24)?))
        }
        _ => None,
    }
}
