//! One pair of keys in use between two ends. The threads that move packets share lanes; the state
//! machines make, confirm and forget them.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};

use parking_lot::Mutex;

use super::frame::{self, Frame};
use super::keys::Split;
use super::suite::{Dropped, HEAD, OpenKey, SealKey, Suite, TAG};
use super::{ConnectionId, frame::DATA_HEAD};
use crate::counters::Counters;
use crate::{Moment, Outward};

/// Bytes that the tunnel adds to an inner packet, without UDP and IP.
pub const OVERHEAD: usize = HEAD + DATA_HEAD + TAG;

/// After so many datagrams in one direction the gateway asks for a renewal, in case the device has not counted them.
pub const WORN: u64 = (1 << 22) + (1 << 20);
/// ... and again after so many more.
pub const WORN_STEP: u64 = 1 << 14;

/// One pair of keys in use.
pub struct Lane {
    /// The id under which this end receives.
    pub own: ConnectionId,
    /// The id under which the other end receives.
    pub other: ConnectionId,
    /// The number of the session at this end.
    pub session: u64,
    /// Counters of the session.
    pub counters: std::sync::Arc<Counters>,
    /// Whether inner packets go under these keys: not under the first ones.
    pub carries: bool,
    seal: Mutex<SealKey>,
    open: Mutex<OpenKey>,
    path: Mutex<SocketAddr>,
    confirmed: AtomicBool,
    closing: AtomicBool,
    /// The other end has shown that it receives at `path`.
    proved: AtomicBool,
    /// The keys are used up so far that a renewal is to be asked for.
    worn: AtomicBool,
}

impl Lane {
    /// The first keys of a greeting: no inner packets go under them.
    pub(crate) fn first(suite: Suite, split: &Split, own: ConnectionId, other: ConnectionId, path: SocketAddr) -> Self {
        Self { carries: false, ..Self::new(suite, split, own, other, 0, path, Default::default()) }
    }

    pub(crate) fn new(
        suite: Suite,
        split: &Split,
        own: ConnectionId,
        other: ConnectionId,
        session: u64,
        path: SocketAddr,
        counters: std::sync::Arc<Counters>,
    ) -> Self {
        let (seal, open) = split.keys(suite, own, other);
        Self {
            own,
            other,
            session,
            counters,
            carries: true,
            seal: Mutex::new(seal),
            open: Mutex::new(open),
            path: Mutex::new(path),
            confirmed: AtomicBool::new(false),
            closing: AtomicBool::new(false),
            proved: AtomicBool::new(false),
            worn: AtomicBool::new(false),
        }
    }

    /// Where datagrams for the other end go.
    #[must_use]
    pub fn path(&self) -> SocketAddr {
        *self.path.lock()
    }

    pub(crate) fn set_path(&self, path: SocketAddr) {
        *self.path.lock() = path;
    }

    /// Whether the other end has shown that it receives at [`Lane::path`]: inner packets go nowhere before.
    #[must_use]
    pub fn is_proved(&self) -> bool {
        self.proved.load(Ordering::Relaxed)
    }

    pub(crate) fn set_proved(&self) {
        self.proved.store(true, Ordering::Relaxed);
    }

    /// Whether a renewal is to be asked for; once for each [`WORN_STEP`] datagrams.
    pub(crate) fn take_worn(&self) -> bool {
        self.worn.swap(false, Ordering::Relaxed)
    }

    /// Whether the other end has shown that it has these keys.
    #[must_use]
    pub fn is_confirmed(&self) -> bool {
        self.confirmed.load(Ordering::Relaxed)
    }

    /// Notes that it has; true the first time.
    pub(crate) fn confirm(&self) -> bool {
        !self.confirmed.swap(true, Ordering::Relaxed)
    }

    pub(crate) fn close(&self) {
        self.closing.store(true, Ordering::Relaxed);
    }

    /// Whether the state machine must hear of a datagram on this lane before its frames are taken:
    /// the first under new keys, one from an address that has not proved itself, one of a session that has ended, one under keys that
    /// are to be renewed.
    #[must_use]
    pub fn needs_attention(&self, from: SocketAddr) -> bool {
        let calm = self.confirmed.load(Ordering::Relaxed)
            && self.proved.load(Ordering::Relaxed)
            && !self.closing.load(Ordering::Relaxed)
            && !self.worn.load(Ordering::Relaxed);
        !calm || self.path() != from
    }

    /// How many datagrams were protected with these keys, in the direction that has more: a long download uses them up as well.
    #[must_use]
    pub fn used(&self) -> u64 {
        self.seal.lock().used().max(self.open.lock().used())
    }

    /// As if so many had been protected already.
    #[cfg(test)]
    pub(crate) fn skip_to(&self, number: u64) {
        self.seal.lock().skip_to(number);
    }

    /// Lays an inner packet out as a datagram in `out` (cleared first) and protects it.
    ///
    /// # Errors
    /// [`Dropped::Spent`] when the keys must not be used further, or carry no packets.
    pub fn seal_packet(&self, now: Moment, packet: &[u8], out: &mut Vec<u8>) -> Result<(), Dropped> {
        if !self.carries {
            return Err(Dropped::Spent);
        }
        let start = out.len();
        out.resize(start + HEAD, 0);
        Frame::Data(packet).emit(out);
        out.resize(out.len() + TAG, 0);
        let mut seal = self.seal.lock();
        seal.seal(&mut out[start..])?;
        let used = seal.used();
        drop(seal);
        if used >= WORN && used.is_multiple_of(WORN_STEP) {
            self.worn.store(true, Ordering::Relaxed);
        }
        self.counters.sent.fetch_add(packet.len() as u64, Ordering::Relaxed);
        self.counters.spoke.store(now.0, Ordering::Relaxed);
        Ok(())
    }

    /// A padded datagram of frames that carry no inner packet.
    ///
    /// # Errors
    /// [`Dropped::Spent`] when the keys must not be used further.
    pub fn seal_frames(&self, now: Moment, frames: &[Frame<'_>]) -> Result<Vec<u8>, Dropped> {
        let mut body = Vec::new();
        frames.iter().for_each(|frame| frame.emit(&mut body));
        frame::pad(&mut body);
        self.seal_body(now, body)
    }

    /// A datagram of frames, `length` bytes long; longer where the frames are.
    ///
    /// # Errors
    /// [`Dropped::Spent`] when the keys must not be used further.
    pub fn seal_frames_to(&self, now: Moment, frames: &[Frame<'_>], length: usize) -> Result<Vec<u8>, Dropped> {
        let mut body = Vec::new();
        frames.iter().for_each(|frame| frame.emit(&mut body));
        body.resize(body.len().max(length.saturating_sub(HEAD + TAG)), 0);
        self.seal_body(now, body)
    }

    fn seal_body(&self, now: Moment, mut body: Vec<u8>) -> Result<Vec<u8>, Dropped> {
        let mut datagram = vec![0; HEAD];
        datagram.append(&mut body);
        datagram.resize(datagram.len() + TAG, 0);
        self.seal.lock().seal(&mut datagram)?;
        self.counters.spoke.store(now.0, Ordering::Relaxed);
        Ok(datagram)
    }

    /// Opens a datagram in place and gives its frames. `number` of inner bytes are counted by
    /// [`Lane::count_received`], because only the caller knows which frames it takes.
    ///
    /// # Errors
    /// Says why the datagram is to be dropped.
    pub fn open<'a>(&self, now: Moment, datagram: &'a mut [u8]) -> Result<&'a mut [u8], Dropped> {
        let frames = self.open.lock().open(datagram)?;
        self.counters.heard.store(now.0, Ordering::Relaxed);
        Ok(frames)
    }

    /// Counts an inner packet that was taken.
    pub fn count_received(&self, bytes: usize) {
        self.counters.received.fetch_add(bytes as u64, Ordering::Relaxed);
    }
}

impl Outward for Lane {
    fn to(&self) -> SocketAddr {
        self.path()
    }

    fn length(&self, packet: usize) -> usize {
        packet + OVERHEAD
    }

    fn lay(&self, now: Moment, packet: &[u8], out: &mut Vec<u8>) -> bool {
        self.seal_packet(now, packet, out).is_ok()
    }
}

#[cfg(test)]
mod tests {
    use super::super::suite::MOST_DATAGRAMS;
    use super::*;
    use zeroize::Zeroizing;

    fn pair() -> (Lane, Lane) {
        let (a, b) = (ConnectionId([1; 8]), ConnectionId([2; 8]));
        let (x, y) = (Zeroizing::new([3; 32]), Zeroizing::new([4; 32]));
        let split = |send: &Zeroizing<[u8; 32]>, receive: &Zeroizing<[u8; 32]>| Split {
            send: send.clone(),
            receive: receive.clone(),
        };
        let at = "198.51.100.23:40000".parse().unwrap();
        let lane =
            |split: Split, own, other| Lane::new(Suite::Aes256Gcm, &split, own, other, 1, at, Default::default());
        (lane(split(&x, &y), a, b), lane(split(&y, &x), b, a))
    }

    /// A device that only downloads sends little, and its keys are used up all the same.
    #[test]
    fn keys_are_used_up_by_what_is_received_as_well() {
        let (gateway, device) = pair();
        for number in [0, 1 << 22, MOST_DATAGRAMS - 1] {
            gateway.skip_to(number);
            let mut datagram = Vec::new();
            gateway.seal_packet(Moment(1), b"inner", &mut datagram).unwrap();
            device.open(Moment(1), &mut datagram).unwrap();
            assert_eq!((gateway.used(), device.used()), (number + 1, number + 1));
        }
        assert!(gateway.seal_packet(Moment(1), b"inner", &mut Vec::new()).is_err());
    }
}
