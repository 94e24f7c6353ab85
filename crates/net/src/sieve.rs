//! What the system itself drops of a flood, before a datagram takes a place in a queue or wakes a thread.
//!
//! A filter of the socket (classic BPF) cannot look into a table of sessions or verify a tag. It can tell ids by a mark that they have in
//! common, and lengths; of what may be a first message by somebody unknown it lets a share through, drawn by lot.

use std::io;
use std::net::UdpSocket;
use std::ops::RangeInclusive;

use socket2::{SockFilter, SockRef};

/// Of so many strangers, [`Sieve::share`] pass.
pub const ALL: u32 = 256;

/// The header that stands before a datagram where filters of the system count from (RFC 768).
const HEADER: u32 = 8;

/// What passes while strangers flood a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sieve {
    /// With h and l, the first two big-endian numbers of four bytes of a datagram: what is somebody's who is known has `want` in the upper
    /// `bits` of h × `factors[0]` + l × `factors[1]` (mod 2^32), and passes.
    pub factors: [u32; 2],
    pub want: u32,
    /// 1 to 31.
    pub bits: u32,
    /// Bytes of a first message; any other length of somebody unknown does not pass.
    pub lengths: RangeInclusive<u32>,
    /// How many of [`ALL`] strangers with such a length pass.
    pub share: u32,
}

impl Sieve {
    /// The instructions, as linux/filter.h and linux/bpf_common.h have them.
    fn program(&self) -> [SockFilter; 16] {
        const LOAD_WORD: u16 = 0x20;
        const LOAD_LENGTH: u16 = 0x80;
        const MULTIPLY: u16 = 0x24;
        const ADD_X: u16 = 0x0c;
        const SHIFT_RIGHT: u16 = 0x74;
        const AND: u16 = 0x54;
        const TO_X: u16 = 0x07;
        const IF_EQUAL: u16 = 0x15;
        const IF_ABOVE: u16 = 0x25;
        const IF_FROM: u16 = 0x35;
        const RETURN: u16 = 0x06;
        /// SKF_AD_OFF + SKF_AD_RANDOM.
        const BY_LOT: u32 = 0xffff_f000 + 56;
        let does = |code, number| SockFilter::new(code, 0, 0, number);
        let [shortest, longest] =
            [self.lengths.start(), self.lengths.end()].map(|length| length.saturating_add(HEADER));
        [
            does(LOAD_WORD, HEADER),
            does(MULTIPLY, self.factors[0]),
            does(TO_X, 0),
            does(LOAD_WORD, HEADER + 4),
            does(MULTIPLY, self.factors[1]),
            does(ADD_X, 0),
            does(SHIFT_RIGHT, 32 - self.bits),
            SockFilter::new(IF_EQUAL, 6, 0, self.want),
            does(LOAD_LENGTH, 0),
            SockFilter::new(IF_FROM, 0, 5, shortest),
            SockFilter::new(IF_ABOVE, 4, 0, longest),
            does(LOAD_WORD, BY_LOT),
            does(AND, ALL - 1),
            SockFilter::new(IF_FROM, 1, 0, self.share),
            // All of it.
            does(RETURN, u32::MAX),
            does(RETURN, 0),
        ]
    }

    /// From now on only what passes it reaches the socket.
    ///
    /// # Errors
    /// The system has no filters.
    pub fn attach(&self, socket: &UdpSocket) -> io::Result<()> {
        SockRef::from(socket).attach_filter(&self.program())
    }
}

/// From now on everything reaches the socket again.
pub fn detach(socket: &UdpSocket) {
    // There may be none.
    let _ = SockRef::from(socket).detach_filter();
}

#[cfg(test)]
mod tests {
    use super::*;

    /// How many of `count` such datagrams arrive.
    fn arrive(to: &UdpSocket, count: usize, datagram: &dyn Fn(usize) -> Vec<u8>) -> usize {
        let from = UdpSocket::bind("127.0.0.1:0").unwrap();
        let mut arrived = 0;
        let mut buffer = [0; 2048];
        for number in 0..count {
            from.send_to(&datagram(number), to.local_addr().unwrap()).unwrap();
            // Over loopback a datagram is there, or dropped, when the send is over.
            arrived += usize::from(to.recv_from(&mut buffer).is_ok());
        }
        arrived
    }

    #[test]
    fn who_is_known_passes_and_of_strangers_with_the_right_length_a_share() {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.set_nonblocking(true).unwrap();
        let of = |high: u32, low: u32, length: usize| {
            let mut datagram = [high.to_be_bytes(), low.to_be_bytes()].concat();
            datagram.resize(length, 7);
            datagram
        };
        // Known: the upper six bits of 3 h + l are 5.
        let known = |number: usize| of(number as u32, (5_u32 << 26).wrapping_sub(3 * number as u32) | 1, 20 + number);
        let stranger = |length: usize| move |number: usize| of(number as u32, (9_u32 << 26) | 1, length);
        let sieve = Sieve { factors: [3, 1], want: 5, bits: 6, lengths: 100..=200, share: 64 };
        sieve.attach(&socket).unwrap();
        assert_eq!(arrive(&socket, 500, &known), 500);
        for length in [0, 7, 8, 99, 201, 1300] {
            assert_eq!(arrive(&socket, 50, &stranger(length)), 0, "{length}");
        }
        for length in [100, 200] {
            // 1,000 of 4,000 are expected; 27 is the standard deviation.
            let share = arrive(&socket, 4000, &stranger(length));
            assert!((800..1200).contains(&share), "{share} of 4000");
        }
        // Another takes its place, and its removal lets everything through.
        Sieve { share: 0, ..sieve }.attach(&socket).unwrap();
        assert_eq!(arrive(&socket, 200, &stranger(100)), 0);
        assert_eq!(arrive(&socket, 200, &known), 200);
        detach(&socket);
        assert_eq!(arrive(&socket, 200, &stranger(7)), 200);
        detach(&socket);
    }
}
