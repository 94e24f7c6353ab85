//! What stands inside a protected datagram: frames, one after another.
//!
//! Every frame is `type` (1 byte), `length` (2 bytes, big-endian) and a body, except padding, which is a single
//! zero byte. Types that a version does not know are passed over, so that the protocol can grow.

use super::second::{CIPHERTEXT, PART};
use super::{ConnectionId, Reason, parcel};

const PADDING: u8 = 0;
const DATA: u8 = 1;
const SETTINGS: u8 = 2;
const SETTINGS_TAKEN: u8 = 3;
const ECHO: u8 = 4;
const ECHO_ANSWER: u8 = 5;
const END: u8 = 6;
const PATH_CHECK: u8 = 7;
const PATH_ANSWER: u8 = 8;
const READY: u8 = 9;
const SECOND_KEY: u8 = 10;
const SECOND_ANSWER: u8 = 11;
const RENEW: u8 = 12;
const PARCEL: u8 = 13;
const PARCEL_TAKEN: u8 = 14;

/// Bytes that a data frame adds to an inner packet.
pub const DATA_HEAD: usize = 3;
/// Datagrams without inner packets are padded to a multiple of this.
const CONTROL_STEP: usize = 64;

/// One frame, borrowing its body from the datagram.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Frame<'a> {
    /// One inner IP packet.
    Data(&'a [u8]),
    /// Settings for the device, as [`super::message::Settings`] encodes them.
    Settings(&'a [u8]),
    /// The device has put the settings of this edition into force.
    SettingsTaken(u32),
    /// Asks for an answer with the same eight bytes.
    Echo([u8; 8]),
    EchoAnswer([u8; 8]),
    /// The sender forgets this session; nothing follows.
    End(Reason, &'a str),
    /// Proves a new path: answered from where it arrived.
    PathCheck([u8; 8]),
    PathAnswer([u8; 8]),
    /// The device's first frame under new keys.
    Ready,
    /// A part (0 or 1) of the device's key for the second secret, and the id under which it will receive under the final keys.
    SecondKey(u8, ConnectionId, &'a [u8]),
    /// The ciphertext for the second secret, and the id under which the gateway will receive under the final keys.
    SecondAnswer(ConnectionId, &'a [u8]),
    /// The gateway asks for new keys.
    Renew,
    /// A part of something longer than a datagram.
    Parcel(parcel::Part<'a>),
    /// How far the other end has it.
    ParcelTaken(parcel::Taken),
    /// A type of a later version.
    Unknown(u8),
}

impl Frame<'_> {
    /// Appends the frame's bytes. Bodies longer than 65,535 bytes do not occur: a datagram is shorter.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let number;
        let mut end;
        let (kind, body): (u8, &[u8]) = match self {
            Self::Data(packet) => (DATA, packet),
            Self::Settings(settings) => (SETTINGS, settings),
            Self::SettingsTaken(edition) => {
                number = edition.to_be_bytes();
                (SETTINGS_TAKEN, &number)
            }
            Self::Echo(token) => (ECHO, token),
            Self::EchoAnswer(token) => (ECHO_ANSWER, token),
            Self::End(reason, text) => {
                end = vec![*reason as u8];
                end.extend_from_slice(text.as_bytes());
                (END, &end)
            }
            Self::PathCheck(token) => (PATH_CHECK, token),
            Self::PathAnswer(token) => (PATH_ANSWER, token),
            Self::Ready => (READY, &[]),
            Self::SecondKey(part, id, key) => {
                end = [&[*part][..], &id.0, key].concat();
                (SECOND_KEY, &end)
            }
            Self::SecondAnswer(id, ciphertext) => {
                end = [&id.0[..], ciphertext].concat();
                (SECOND_ANSWER, &end)
            }
            Self::Renew => (RENEW, &[]),
            Self::Parcel(part) => {
                end = Vec::with_capacity(13 + part.bytes.len());
                end.extend_from_slice(&part.number.to_be_bytes());
                end.push(part.kind);
                end.extend_from_slice(&part.total.to_be_bytes());
                end.extend_from_slice(&part.offset.to_be_bytes());
                end.extend_from_slice(part.bytes);
                (PARCEL, &end)
            }
            Self::ParcelTaken(taken) => {
                end = [taken.number.to_be_bytes(), taken.upto.to_be_bytes()].concat();
                (PARCEL_TAKEN, &end)
            }
            Self::Unknown(kind) => (*kind, &[]),
        };
        out.push(kind);
        out.extend_from_slice(&(body.len() as u16).to_be_bytes());
        out.extend_from_slice(body);
    }
}

/// Appends zero bytes until the frames fill whole steps of 64 bytes.
pub fn pad(frames: &mut Vec<u8>) {
    frames.resize(frames.len().next_multiple_of(CONTROL_STEP), PADDING);
}

/// Why the frames of a datagram could not be read. The rest of the datagram is then dropped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Malformed {
    #[error("a frame is longer than its datagram")]
    Cut,
    #[error("a frame's body has the wrong length")]
    Length,
    #[error("a text is not UTF-8")]
    Text,
}

/// Reads frames one after another; stops for good at the first that is malformed.
pub struct Frames<'a> {
    rest: &'a [u8],
}

/// The frames of `bytes`.
#[must_use]
pub fn frames(bytes: &[u8]) -> Frames<'_> {
    Frames { rest: bytes }
}

impl<'a> Iterator for Frames<'a> {
    type Item = Result<Frame<'a>, Malformed>;

    fn next(&mut self) -> Option<Self::Item> {
        let start = self.rest.iter().position(|byte| *byte != PADDING)?;
        let bytes = &self.rest[start..];
        self.rest = &[];
        let [kind, high, low, rest @ ..] = bytes else {
            return Some(Err(Malformed::Cut));
        };
        let length = usize::from(u16::from_be_bytes([*high, *low]));
        let Some((body, rest)) = rest.split_at_checked(length) else {
            return Some(Err(Malformed::Cut));
        };
        let eight = |body: &[u8]| <[u8; 8]>::try_from(body).map_err(|_| Malformed::Length);
        let frame = match *kind {
            DATA => Ok(Frame::Data(body)),
            SETTINGS => Ok(Frame::Settings(body)),
            SETTINGS_TAKEN => <[u8; 4]>::try_from(body)
                .map(|edition| Frame::SettingsTaken(u32::from_be_bytes(edition)))
                .map_err(|_| Malformed::Length),
            ECHO => eight(body).map(Frame::Echo),
            ECHO_ANSWER => eight(body).map(Frame::EchoAnswer),
            END => match body {
                [reason, text @ ..] => std::str::from_utf8(text)
                    .map(|text| Frame::End(Reason::from_number(*reason), text))
                    .map_err(|_| Malformed::Text),
                [] => Err(Malformed::Length),
            },
            PATH_CHECK => eight(body).map(Frame::PathCheck),
            PATH_ANSWER => eight(body).map(Frame::PathAnswer),
            READY => Ok(Frame::Ready),
            SECOND_KEY => match body.split_at_checked(9) {
                Some(([part @ (0 | 1), id @ ..], key)) if key.len() == PART => {
                    eight(id).map(|id| Frame::SecondKey(*part, ConnectionId(id), key))
                }
                _ => Err(Malformed::Length),
            },
            SECOND_ANSWER => match body.split_at_checked(8) {
                Some((id, ciphertext)) if ciphertext.len() == CIPHERTEXT => {
                    eight(id).map(|id| Frame::SecondAnswer(ConnectionId(id), ciphertext))
                }
                _ => Err(Malformed::Length),
            },
            RENEW => Ok(Frame::Renew),
            PARCEL => match body {
                [n0, n1, n2, n3, kind, t0, t1, t2, t3, o0, o1, o2, o3, bytes @ ..] => Ok(Frame::Parcel(parcel::Part {
                    number: u32::from_be_bytes([*n0, *n1, *n2, *n3]),
                    kind: *kind,
                    total: u32::from_be_bytes([*t0, *t1, *t2, *t3]),
                    offset: u32::from_be_bytes([*o0, *o1, *o2, *o3]),
                    bytes,
                })),
                _ => Err(Malformed::Length),
            },
            PARCEL_TAKEN => eight(body).map(|[n0, n1, n2, n3, u0, u1, u2, u3]| {
                let (number, upto) = (u32::from_be_bytes([n0, n1, n2, n3]), u32::from_be_bytes([u0, u1, u2, u3]));
                Frame::ParcelTaken(parcel::Taken { number, upto })
            }),
            unknown => Ok(Frame::Unknown(unknown)),
        };
        if frame.is_ok() {
            self.rest = rest;
        }
        Some(frame)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_emitted_is_parsed_again() {
        let (part, ciphertext) = ([7; PART], [8; CIPHERTEXT]);
        let written = [
            Frame::SecondKey(1, ConnectionId(*b"device-2"), &part),
            Frame::SecondAnswer(ConnectionId(*b"gateway2"), &ciphertext),
            Frame::Renew,
            Frame::Parcel(parcel::Part { number: 1, kind: 2, total: 70_000, offset: 65_536, bytes: b"a part" }),
            Frame::Parcel(parcel::Part { number: 2, kind: 2, total: 0, offset: 0, bytes: b"" }),
            Frame::ParcelTaken(parcel::Taken { number: 1, upto: 66_560 }),
            Frame::Ready,
            Frame::Data(b"an inner packet"),
            Frame::Settings(&[1, 2, 3]),
            Frame::SettingsTaken(7),
            Frame::Echo(*b"12345678"),
            Frame::EchoAnswer(*b"12345678"),
            Frame::PathCheck(*b"abcdefgh"),
            Frame::PathAnswer(*b"abcdefgh"),
            Frame::Unknown(0x7f),
            Frame::End(Reason::Revoked, "lost on the ferry"),
        ];
        let mut bytes = Vec::new();
        for frame in &written {
            frame.emit(&mut bytes);
        }
        pad(&mut bytes);
        assert_eq!(bytes.len() % 64, 0);
        let read: Vec<_> = frames(&bytes).map(Result::unwrap).collect();
        assert_eq!(read, written);
    }

    #[test]
    fn a_frame_longer_than_its_datagram_is_an_error_and_the_last_item() {
        let read: Vec<_> = frames(&[4, 0, 9, 1, 2]).collect();
        assert_eq!(read, [Err(Malformed::Cut)]);
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_parser_fail_or_loop(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            prop_assert!(frames(&bytes).count() <= bytes.len());
        }
    }
}
