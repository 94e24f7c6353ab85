//! What openings, answers and requests to come again look like to somebody without the call secret: random bytes, each by itself and
//! every two of them together.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use ring::rand::SecureRandom as _;
use x25519_dalek::{PublicKey, StaticSecret};
use yestrel_wire::Moment;
use yestrel_wire::Random;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::door::{Door, Valid};
use yestrel_wire::quill::handshake::{self, Towards};
use yestrel_wire::quill::message::{Answer, Opening};
use yestrel_wire::quill::{ConnectionId, Reason, Suite};

/// How many of each are looked at.
const COUNT: usize = 100_000;
/// How many bytes of each, from the first on: all that is not the ciphertext of a payload, and some of that.
const LOOKED_AT: usize = 136;

struct System(ring::rand::SystemRandom);
impl Random for System {
    fn fill(&mut self, bytes: &mut [u8]) {
        self.0.fill(bytes).unwrap();
    }
}

/// Counts the values of each byte.
struct Counted {
    samples: u64,
    values: Vec<[u32; 256]>,
}

impl Counted {
    fn new(length: usize) -> Self {
        Self { samples: 0, values: vec![[0; 256]; length] }
    }

    fn add(&mut self, bytes: impl Iterator<Item = u8>) {
        self.samples += 1;
        for (byte, values) in bytes.zip(&mut self.values) {
            values[usize::from(byte)] += 1;
        }
    }

    /// The farthest that any bit is from even, in standard deviations; and the farthest that the values of any byte are from uniform (the
    /// normal approximation of chi-squared with 255 degrees of freedom).
    fn farthest(&self) -> (f64, f64) {
        let n = self.samples as f64;
        let ones = |values: &[u32; 256], bit: usize| -> f64 {
            values
                .iter()
                .enumerate()
                .filter(|(value, _)| value >> bit & 1 == 1)
                .map(|(_, count)| f64::from(*count))
                .sum()
        };
        let bits = self.values.iter().flat_map(|values| (0..8).map(|bit| ones(values, bit)));
        let bits = bits.map(|ones| (ones - n / 2.0).abs() / (n / 4.0).sqrt());
        let bytes = self.values.iter().map(|values| {
            let expected = n / 256.0;
            let chi: f64 = values.iter().map(|count| (f64::from(*count) - expected).powi(2) / expected).sum();
            (chi - 255.0) / (2.0 * 255.0_f64).sqrt()
        });
        (bits.fold(0.0, f64::max), bytes.fold(0.0, f64::max))
    }

    /// Some thousand figures of random bytes stay below these but once in a hundred thousand runs.
    fn is_random(&self) -> bool {
        let (bits, bytes) = self.farthest();
        bits < 6.5 && bytes < 8.0
    }
}

/// Messages of one sort: each by itself, and XORed with the one before and with one long before.
struct Sort {
    name: &'static str,
    from: usize,
    alone: Counted,
    pairs: Counted,
    far: Counted,
    before: Vec<Vec<u8>>,
}

impl Sort {
    fn new(name: &'static str, from: usize, to: usize) -> Self {
        let counted = || Counted::new(to - from);
        Self { name, from, alone: counted(), pairs: counted(), far: counted(), before: Vec::new() }
    }

    fn add(&mut self, message: &[u8]) {
        let own = &message[self.from..];
        self.alone.add(own.iter().copied());
        let xor = |other: &Vec<u8>| own.iter().zip(other).map(|(a, b)| a ^ b).collect::<Vec<_>>();
        if let Some(last) = self.before.last() {
            self.pairs.add(xor(last).into_iter());
        }
        if self.before.len() >= 64 {
            self.far.add(xor(&self.before[0]).into_iter());
            self.before.remove(0);
        }
        self.before.push(own.iter().take(LOOKED_AT).copied().collect());
    }

    fn check(&self) {
        for (what, counted) in [("alone", &self.alone), ("in pairs", &self.pairs), ("far pairs", &self.far)] {
            assert!(counted.is_random(), "{} {what}: {:?}", self.name, counted.farthest());
        }
    }
}

// Long: a hundred thousand handshakes.
#[test]
fn openings_answers_and_requests_to_come_again_are_random_bytes() {
    let halves = std::thread::scope(|scope| {
        let halves = [1, 2].map(|half| scope.spawn(move || look_at(half, COUNT / 2)));
        halves.map(|half| half.join().unwrap())
    });
    for (sorts, uncovered) in halves {
        sorts.iter().for_each(Sort::check);
        // The same figures over what lies under the cover: they do tell a curve point from random bytes.
        assert!(!uncovered.alone.is_random() && !uncovered.pairs.is_random());
    }
}

fn look_at(half: u8, count: usize) -> ([Sort; 3], Sort) {
    let suite = if half == 1 { Suite::Aes256Gcm } else { Suite::ChaCha20Poly1305 };
    let (gateway, device) = (StaticSecret::from([40 + half; 32]), [50 + half; 32]);
    let public = *PublicKey::from(&gateway).as_bytes();
    let call = Call::new(&[60 + half; 32]);
    let mut random = System(ring::rand::SystemRandom::new());
    let door = Door::new(&mut random);
    door.set_calls(vec![Valid { number: 1, call: call.clone(), until: None }]);
    let mut sorts = [Sort::new("opening", 0, LOOKED_AT), Sort::new("answer", 8, 8 + 96), Sort::new("again", 0, 24)];
    let mut uncovered = Sort::new("under the cover", 24, 56);
    let from = "198.51.100.23:40000".parse().unwrap();
    for _ in 0..count {
        let mut id = [0; 8];
        random.fill(&mut id);
        let said =
            Opening { versions: vec![1], id: ConnectionId(id), software: "yestrel".into(), continues: None, notice: 0 };
        let towards = Towards { suite, call: &call, gateway_public: &public, device_private: &device };
        // The same device, the same gateway, the same words each time: nothing differs but what is drawn.
        let (_, opening) = handshake::open(&towards, None, said, &mut random);
        let knock = door.knock(Moment(1), from, &opening).unwrap();
        let front = knock.front().unwrap();
        let again = door.again(Moment(1), &knock, &front.tag, &mut random);
        let received = handshake::receive(suite, gateway.as_bytes(), &call, &front, &opening).unwrap();
        let refused =
            Answer::Refused(Reason::Unknown, "the same words each time, long enough to be looked at, too".into());
        let (answer, _) = received.answer(&refused, &mut random).unwrap();
        for (sort, message) in sorts.iter_mut().zip([&opening, &answer, &again]) {
            sort.add(message);
        }
        let mut bare = opening.clone();
        uncover(60 + half, &mut bare);
        uncovered.add(&bare);
    }
    (sorts, uncovered)
}

/// Takes the cover off an opening's curve point, as `docs/quill.md` says.
fn uncover(secret: u8, opening: &mut [u8]) {
    use hmac::Mac as _;
    let mut key = [0; 32];
    hkdf::Hkdf::<sha2::Sha256>::new(Some(b"yestrel quill 1"), &[secret; 32]).expand(b"cover", &mut key).unwrap();
    let mut mac = <hmac::Hmac<sha2::Sha256> as hmac::KeyInit>::new_from_slice(&key).unwrap();
    mac.update(b"opening");
    mac.update(&opening[56..104]);
    for (byte, stream) in opening[24..56].iter_mut().zip(mac.finalize().into_bytes()) {
        *byte ^= stream;
    }
}
