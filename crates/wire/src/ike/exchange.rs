//! The exchanges of keys: MODP (RFC 3526), curves over primes (RFC 5903), Curve25519 (RFC 8031). Public values of the other end are
//! checked (RFC 6989, RFC 8031 section 2.4) before anything is computed with them.

use crypto_bigint::modular::{BoxedMontyForm, BoxedMontyParams};
use crypto_bigint::{BoxedUint, Odd, Resize as _};
use p256::elliptic_curve::sec1::ToSec1Point as _;
use zeroize::Zeroizing;

use crate::Random;

/// A group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Group {
    X25519,
    P256,
    P384,
    Modp4096,
    Modp3072,
    /// For clients that have nothing better.
    Modp2048,
}

/// RFC 3526 section 3.
const PRIME_2048: &str = "\
    ffffffffffffffffc90fdaa22168c234c4c6628b80dc1cd129024e088a67cc74020bbea63b139b22514a08798e3404dd\
    ef9519b3cd3a431b302b0a6df25f14374fe1356d6d51c245e485b576625e7ec6f44c42e9a637ed6b0bff5cb6f406b7ed\
    ee386bfb5a899fa5ae9f24117c4b1fe649286651ece45b3dc2007cb8a163bf0598da48361c55d39a69163fa8fd24cf5f\
    83655d23dca3ad961c62f356208552bb9ed529077096966d670c354e4abc9804f1746c08ca18217c32905e462e36ce3b\
    e39e772c180e86039b2783a2ec07a28fb5c55df06f4c52c9de2bcbf6955817183995497cea956ae515d2261898fa0510\
    15728e5a8aacaa68ffffffffffffffff";

/// RFC 3526 section 4.
const PRIME_3072: &str = "\
    ffffffffffffffffc90fdaa22168c234c4c6628b80dc1cd129024e088a67cc74020bbea63b139b22514a08798e3404dd\
    ef9519b3cd3a431b302b0a6df25f14374fe1356d6d51c245e485b576625e7ec6f44c42e9a637ed6b0bff5cb6f406b7ed\
    ee386bfb5a899fa5ae9f24117c4b1fe649286651ece45b3dc2007cb8a163bf0598da48361c55d39a69163fa8fd24cf5f\
    83655d23dca3ad961c62f356208552bb9ed529077096966d670c354e4abc9804f1746c08ca18217c32905e462e36ce3b\
    e39e772c180e86039b2783a2ec07a28fb5c55df06f4c52c9de2bcbf6955817183995497cea956ae515d2261898fa0510\
    15728e5a8aaac42dad33170d04507a33a85521abdf1cba64ecfb850458dbef0a8aea71575d060c7db3970f85a6e1e4c7\
    abf5ae8cdb0933d71e8c94e04a25619dcee3d2261ad2ee6bf12ffa06d98a0864d87602733ec86a64521f2b18177b200c\
    bbe117577a615d6c770988c0bad946e208e24fa074e5ab3143db5bfce0fd108e4b82d120a93ad2caffffffffffffffff";

/// RFC 3526 section 5.
const PRIME_4096: &str = "\
    ffffffffffffffffc90fdaa22168c234c4c6628b80dc1cd129024e088a67cc74020bbea63b139b22514a08798e3404dd\
    ef9519b3cd3a431b302b0a6df25f14374fe1356d6d51c245e485b576625e7ec6f44c42e9a637ed6b0bff5cb6f406b7ed\
    ee386bfb5a899fa5ae9f24117c4b1fe649286651ece45b3dc2007cb8a163bf0598da48361c55d39a69163fa8fd24cf5f\
    83655d23dca3ad961c62f356208552bb9ed529077096966d670c354e4abc9804f1746c08ca18217c32905e462e36ce3b\
    e39e772c180e86039b2783a2ec07a28fb5c55df06f4c52c9de2bcbf6955817183995497cea956ae515d2261898fa0510\
    15728e5a8aaac42dad33170d04507a33a85521abdf1cba64ecfb850458dbef0a8aea71575d060c7db3970f85a6e1e4c7\
    abf5ae8cdb0933d71e8c94e04a25619dcee3d2261ad2ee6bf12ffa06d98a0864d87602733ec86a64521f2b18177b200c\
    bbe117577a615d6c770988c0bad946e208e24fa074e5ab3143db5bfce0fd108e4b82d120a92108011a723c12a787e6d7\
    88719a10bdba5b2699c327186af4e23c1a946834b6150bda2583e9ca2ad44ce8dbbbc2db04de8ef92e8efc141fbecaa6\
    287c59474e6bc05d99b2964fa090c3a2233ba186515be7ed1f612970cee2d7afb81bdd762170481cd0069127d5b05aa9\
    93b4ea988d8fddc186ffb7dc90a6c08f4df435c934063199ffffffffffffffff";

impl Group {
    /// All of them, the preferred first.
    pub const ALL: [Self; 6] = [Self::X25519, Self::P256, Self::P384, Self::Modp4096, Self::Modp3072, Self::Modp2048];

    /// Its number among transforms of type 4.
    #[must_use]
    pub fn number(self) -> u16 {
        match self {
            Self::X25519 => 31,
            Self::P256 => 19,
            Self::P384 => 20,
            Self::Modp4096 => 16,
            Self::Modp3072 => 15,
            Self::Modp2048 => 14,
        }
    }

    /// The group of a number, where it is taken.
    #[must_use]
    pub fn of(number: u16) -> Option<Self> {
        Self::ALL.into_iter().find(|group| group.number() == number)
    }

    /// Bytes of a public value.
    #[must_use]
    pub fn length(self) -> usize {
        match self {
            Self::X25519 => 32,
            Self::P256 => 64,
            Self::P384 => 96,
            Self::Modp4096 => 512,
            Self::Modp3072 => 384,
            Self::Modp2048 => 256,
        }
    }

    fn modp(self) -> Option<(&'static str, u32)> {
        match self {
            Self::Modp2048 => Some((PRIME_2048, 2048)),
            Self::Modp3072 => Some((PRIME_3072, 3072)),
            Self::Modp4096 => Some((PRIME_4096, 4096)),
            _ => None,
        }
    }
}

fn modulus(prime: &str, bits: u32) -> Option<Odd<BoxedUint>> {
    let digit = |digit: u8| char::from(digit).to_digit(16).map(|digit| digit as u8);
    let bytes = prime.as_bytes().chunks(2).map(|two| Some(digit(two[0])? << 4 | digit(two[1])?));
    let bytes: Vec<u8> = bytes.collect::<Option<_>>()?;
    Option::from(Odd::new(BoxedUint::from_be_slice(&bytes, bits).ok()?))
}

/// Bits of the exponents of MODP: twice the strength of the largest group and more (RFC 3526 section 8).
const EXPONENT: u32 = 512;

enum Private {
    X25519(x25519_dalek::StaticSecret),
    P256(p256::SecretKey),
    P384(p384::SecretKey),
    Modp(Zeroizing<[u8; EXPONENT as usize / 8]>, Box<BoxedMontyParams>),
}

/// This end's half of one exchange.
pub struct Exchange {
    group: Group,
    private: Private,
    public: Vec<u8>,
}

impl Exchange {
    /// A new half.
    pub fn new(group: Group, random: &mut dyn Random) -> Option<Self> {
        let (private, public) = match group {
            Group::X25519 => {
                let mut bytes = Zeroizing::new([0; 32]);
                random.fill(&mut bytes[..]);
                let private = x25519_dalek::StaticSecret::from(*bytes);
                let public = x25519_dalek::PublicKey::from(&private).as_bytes().to_vec();
                (Private::X25519(private), public)
            }
            Group::P256 => {
                let private = below_order(32, random, |bytes| p256::SecretKey::from_slice(bytes).ok())?;
                let public = private.public_key().to_sec1_point(false).as_bytes()[1..].to_vec();
                (Private::P256(private), public)
            }
            Group::P384 => {
                let private = below_order(48, random, |bytes| p384::SecretKey::from_slice(bytes).ok())?;
                let public = private.public_key().to_sec1_point(false).as_bytes()[1..].to_vec();
                (Private::P384(private), public)
            }
            Group::Modp2048 | Group::Modp3072 | Group::Modp4096 => {
                let (prime, bits) = group.modp()?;
                let params = Box::new(BoxedMontyParams::new(modulus(prime, bits)?));
                let mut exponent = Zeroizing::new([0; EXPONENT as usize / 8]);
                random.fill(&mut exponent[..]);
                let public = power(&BoxedUint::from(2_u8).resize(bits), &exponent[..], &params);
                (Private::Modp(exponent, params), public)
            }
        };
        Some(Self { group, private, public })
    }

    /// The group.
    #[must_use]
    pub fn group(&self) -> Group {
        self.group
    }

    /// The public value, as payloads carry it.
    #[must_use]
    pub fn public(&self) -> &[u8] {
        &self.public
    }

    /// What both ends have; `None` where the other's value is none of the group, or gives something that anybody knows.
    #[must_use]
    pub fn agree(&self, other: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
        if other.len() != self.group.length() {
            return None;
        }
        match &self.private {
            Private::X25519(private) => {
                let bytes: [u8; 32] = other.try_into().ok()?;
                let shared = private.diffie_hellman(&x25519_dalek::PublicKey::from(bytes));
                shared.was_contributory().then(|| Zeroizing::new(shared.as_bytes().to_vec()))
            }
            Private::P256(private) => {
                let point = p256::PublicKey::from_sec1_bytes(&[&[4], other].concat()).ok()?;
                let shared = p256::ecdh::diffie_hellman(private.to_nonzero_scalar(), point.as_affine());
                Some(Zeroizing::new(shared.raw_secret_bytes().to_vec()))
            }
            Private::P384(private) => {
                let point = p384::PublicKey::from_sec1_bytes(&[&[4], other].concat()).ok()?;
                let shared = p384::ecdh::diffie_hellman(private.to_nonzero_scalar(), point.as_affine());
                Some(Zeroizing::new(shared.raw_secret_bytes().to_vec()))
            }
            Private::Modp(exponent, params) => {
                let (prime, bits) = self.group.modp()?;
                let value = BoxedUint::from_be_slice(other, bits).ok()?;
                let one = BoxedUint::one().resize(bits);
                let last = modulus(prime, bits)?.get().wrapping_sub(&one);
                // 0, 1 and p - 1 give what anybody knows (RFC 6989 section 2.1).
                (value > one && value < last).then(|| Zeroizing::new(power(&value, &exponent[..], params)))
            }
        }
    }
}

/// Draws until a number lies below the group's order: all but once in four thousand million times the first.
fn below_order<T>(length: usize, random: &mut dyn Random, read: impl Fn(&[u8]) -> Option<T>) -> Option<T> {
    (0..64).find_map(|_| {
        let mut bytes = Zeroizing::new(vec![0; length]);
        random.fill(&mut bytes);
        read(&bytes)
    })
}

/// As long as the prime, with its leading zeros (RFC 7296 section 2.14).
fn power(base: &BoxedUint, exponent: &[u8], params: &BoxedMontyParams) -> Vec<u8> {
    let exponent = BoxedUint::from_be_slice(exponent, EXPONENT).unwrap_or_else(|_| BoxedUint::one());
    BoxedMontyForm::new(base.clone(), params).pow(&exponent).retrieve().to_be_bytes().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives these bytes, and goes on counting.
    struct Fixed(Vec<u8>);
    impl Random for Fixed {
        fn fill(&mut self, bytes: &mut [u8]) {
            for (at, byte) in bytes.iter_mut().enumerate() {
                *byte = if self.0.is_empty() { at as u8 ^ 0x5a } else { self.0.remove(0) };
            }
        }
    }

    fn hex(text: &str) -> Vec<u8> {
        let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
        digits.chunks(2).map(|two| u8::from_str_radix(std::str::from_utf8(two).unwrap(), 16).unwrap()).collect()
    }

    /// RFC 5903 section 8.1, RFC 8031 appendix A.
    #[test]
    fn the_published_examples() {
        let cases = [
            (
                Group::P256,
                "C88F01F510D9AC3F70A292DAA2316DE544E9AAB8AFE84049C62A9C57862D1433",
                "C6EF9C5D78AE012A011164ACB397CE2088685D8F06BF9BE0B283AB46476BEE53",
                "DAD0B65394221CF9B051E1FECA5787D098DFE637FC90B9EF945D0C37725811805271A0461CDB8252D61F1C456FA3E59AB1F45B33ACCF5F58389E0577B8990BB3",
                "D6840F6B42F6EDAFD13116E0E12565202FEF8E9ECE7DCE03812464D04B9442DE",
            ),
            (
                Group::X25519,
                "751fb4308655b476b6789b7325f9ea8cddd16a58533ff6d9e60009464a5f9d94",
                "0a54645253290d60ddadd0e030bacd9e5501efdc220755a1e978f1b839a05688",
                "48d5ddd4061257ba166fa3f9bbdb74f1a4e81c089384fa77f790709f0dfbc766",
                "c74950607a12327f3204d94b6825bfb068b7f8319a9e3708ed3d43ce8130c950",
            ),
        ];
        for (group, one, other, public, shared) in cases {
            let one = Exchange::new(group, &mut Fixed(hex(one))).unwrap();
            let other = Exchange::new(group, &mut Fixed(hex(other))).unwrap();
            assert_eq!(one.public(), hex(public));
            assert_eq!(one.agree(other.public()).unwrap().to_vec(), hex(shared));
        }
    }

    #[test]
    fn both_ends_agree_and_values_that_give_away_the_secret_are_not_taken() {
        for group in Group::ALL {
            let one = Exchange::new(group, &mut Fixed(vec![1; 64])).unwrap();
            let other = Exchange::new(group, &mut Fixed(vec![2; 64])).unwrap();
            assert_eq!(one.public().len(), group.length());
            assert_eq!(one.agree(other.public()).unwrap(), other.agree(one.public()).unwrap(), "{group:?}");
            let mut none = vec![0; group.length()];
            assert!(one.agree(&none).is_none(), "{group:?}: zero");
            none[group.length() - 1] = 1;
            if group != Group::X25519 {
                assert!(one.agree(&none).is_none(), "{group:?}: one, or no point");
            }
            assert!(one.agree(&other.public()[1..]).is_none());
            assert_eq!(Group::of(group.number()), Some(group));
        }
        let modp = Exchange::new(Group::Modp2048, &mut Fixed(vec![3; 64])).unwrap();
        let mut last = hex(PRIME_2048);
        last[255] -= 1;
        assert!(modp.agree(&last).is_none(), "p - 1");
        assert!(modp.agree(&hex(PRIME_2048)).is_none(), "p");
        assert_eq!((Group::of(2), Group::of(5), Group::of(1)), (None, None, None));
    }
}
