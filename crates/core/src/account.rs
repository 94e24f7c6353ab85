//! Password accounts: strength, forms at rest, second factor, lock-out.

use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use jiff::{SignedDuration, Timestamp};
use md4::Digest as _;
use ring::hmac;
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::estate::SealedSecret;
use crate::keys::Secret;
use crate::{Problem, Result, moment};

/// Characters at least in a password that a person chooses.
pub const SHORTEST: usize = 10;
/// The seconds for which one code holds (RFC 6238 section 5.2).
const STEP: i64 = 30;
/// Codes before and after the present one that are taken, for clocks that differ (RFC 6238 section 5.2).
const WINDOW: i64 = 1;
/// Failures in a row that lock an account out.
const FAILURES: u32 = 5;
/// How long the first time; twice as long each further time, up to a day.
const LOCKED: SignedDuration = SignedDuration::from_mins(15);

/// An account with a password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Account {
    /// The name that is signed in with: `mara.laptop`.
    pub name: String,
    /// Argon2id (RFC 9106) as a PHC string.
    pub password: String,
    /// What MS-CHAPv2 needs (RFC 2759 section 8.3), sealed; only where it is asked for.
    #[serde(default)]
    pub ms_chap: Option<SealedSecret>,
    /// The same for the agents of gateways with a listener that takes it, each for that agent alone: by gateway.
    #[serde(default, skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub for_agents: std::collections::BTreeMap<String, crate::sealed::Sealed>,
    /// A password that was made here, until it is handed over.
    #[serde(default)]
    pub generated: Option<SealedSecret>,
    #[serde(default)]
    pub second_factor: Option<SecondFactor>,
    /// Failures since the last success.
    #[serde(default)]
    pub failures: u32,
    #[serde(default)]
    pub locked_until: Option<Timestamp>,
    /// How often it was locked out since the last success.
    #[serde(default)]
    pub lock_outs: u32,
}

/// A second factor (RFC 6238).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SecondFactor {
    /// 20 bytes, sealed.
    pub secret: SealedSecret,
    /// The newest step whose code was used: each code is taken once.
    #[serde(default)]
    pub used: i64,
    /// Whether the device has the secret.
    #[serde(default)]
    pub handed_over: bool,
}

/// Letters and digits that are not taken for each other, by eye or by voice: 32 of them.
pub const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz123456789";

/// A password to be read out and typed: 16 characters in groups of four, 80 bits.
#[must_use]
pub fn readable(random: [u8; 16]) -> Secret {
    let mut text = Zeroizing::new(Vec::with_capacity(19));
    for (at, byte) in random.iter().enumerate() {
        if at > 0 && at % 4 == 0 {
            text.push(b'-');
        }
        text.push(LETTERS[usize::from(byte & 31)]);
    }
    Secret::new(text.to_vec())
}

/// Refuses passwords that are short, common, or made of the person's own words.
///
/// # Errors
/// Says what makes it weak.
pub fn check_strength(password: &str, own_words: &[&str]) -> Result<()> {
    let weak = |why: String| {
        Err(Problem::refused("this password is too weak")
            .why(why)
            .try_("three or four words that have nothing to do with each other")
            .try_("--generate   makes one"))
    };
    let count = password.chars().count();
    if count < SHORTEST {
        return weak(format!("it has {count} characters; {SHORTEST} at least are needed"));
    }
    if count > 128 {
        return Err(
            Problem::words("this password is too long").why("more than 128 characters are not taken everywhere")
        );
    }
    let found = zxcvbn::zxcvbn(password, own_words);
    if found.score() >= zxcvbn::Score::Three {
        return Ok(());
    }
    let said = found.feedback().and_then(|feedback| feedback.warning()).map(|warning| warning.to_string());
    let guesses = found.guesses_log10();
    weak(said.map_or_else(
        || format!("it would be guessed within 10^{guesses:.0} tries"),
        |said| format!("{} (guessed within 10^{guesses:.0} tries)", said.trim_end_matches('.')),
    ))
}

fn hasher() -> Result<argon2::Argon2<'static>> {
    // RFC 9106 section 4: 64 MiB and 3 passes; one lane, so that several sign-ins at once share the processors.
    let params = argon2::Params::new(64 * 1024, 3, 1, None)
        .map_err(|error| Problem::failed("a password cannot be kept").why(error.to_string()))?;
    Ok(argon2::Argon2::new(argon2::Algorithm::Argon2id, argon2::Version::V0x13, params))
}

/// The form of a password at rest: Argon2id as a PHC string.
///
/// # Errors
/// Not enough memory.
pub fn hash(password: &str, salt: [u8; 16]) -> Result<String> {
    let failed =
        |error: argon2::password_hash::Error| Problem::failed("a password cannot be kept").why(error.to_string());
    Ok(hasher()?.hash_password_with_salt(password.as_bytes(), &salt).map_err(failed)?.to_string())
}

/// Whether a password is the one behind a PHC string; in a time that does not depend on how much of it is right.
#[must_use]
pub fn matches(password: &str, kept: &str) -> bool {
    let Ok(kept) = PasswordHash::new(kept) else { return false };
    hasher().is_ok_and(|hasher| hasher.verify_password(password.as_bytes(), &kept).is_ok())
}

/// What MS-CHAPv2 needs of a password: MD4 of its UTF-16 (RFC 2759 section 8.3). Whoever has it can sign in.
#[must_use]
pub fn ms_chap_form(password: &str) -> Secret {
    let wide: Zeroizing<Vec<u8>> = Zeroizing::new(password.encode_utf16().flat_map(u16::to_le_bytes).collect());
    Secret::new(md4::Md4::digest(&wide[..]).to_vec())
}

/// The code of a step (RFC 4226 section 5.3, RFC 6238 section 4): six digits, HMAC-SHA-1 as every authenticator has it.
#[must_use]
pub fn code(secret: &Secret, step: i64) -> String {
    let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, secret.reveal());
    let tag = hmac::sign(&key, &step.to_be_bytes());
    let bytes = tag.as_ref();
    let at = usize::from(bytes[19] & 15);
    let number = u32::from_be_bytes([bytes[at] & 0x7f, bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
    format!("{:06}", number % 1_000_000)
}

/// The step of a moment.
#[must_use]
pub fn step(now: Timestamp) -> i64 {
    now.as_second().div_euclid(STEP)
}

/// The step whose code was given, where it is one of those that count at `now`, and later than the last that was used: each is good once.
///
/// # Errors
/// What is wrong with it.
pub fn right_code(secret: &Secret, given: &str, now: Timestamp, used: i64) -> std::result::Result<i64, &'static str> {
    let at = step(now);
    match (at - WINDOW..=at + WINDOW).find(|step| same(&code(secret, *step), given.trim())) {
        None => Err("code"),
        Some(step) if step <= used => Err("code: it was used already"),
        Some(step) => Ok(step),
    }
}

/// What an authenticator scans: the key URI that they all read.
#[must_use]
pub fn scan(estate: &str, account: &str, secret: &Secret) -> Zeroizing<String> {
    Zeroizing::new(format!(
        "otpauth://totp/{estate}:{account}?secret={}&issuer={estate}&algorithm=SHA1&digits=6&period={STEP}",
        *base32(secret.reveal())
    ))
}

/// RFC 4648 section 6, without padding.
fn base32(bytes: &[u8]) -> Zeroizing<String> {
    const ALPHABET: &[u8; 32] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";
    let mut text = Zeroizing::new(String::new());
    for chunk in bytes.chunks(5) {
        let mut wide = [0; 8];
        wide[3..3 + chunk.len()].copy_from_slice(chunk);
        let number = u64::from_be_bytes(wide);
        for at in 0..(chunk.len() * 8).div_ceil(5) {
            text.push(char::from(ALPHABET[(number >> (35 - 5 * at)) as usize & 31]));
        }
    }
    text
}

/// What came of a sign-in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    Accepted,
    /// Password or code is wrong; which of them is said to nobody but the administrator.
    Wrong(&'static str),
    /// This failure locked the account out, or it was already.
    LockedOut(Timestamp),
}

/// For how long an account is locked out after so many failures in a row, having been so often before; `None`: it is not.
#[must_use]
pub fn locks_out(failures: u32, lock_outs: u32) -> Option<SignedDuration> {
    let longer = SignedDuration::from_mins(LOCKED.as_mins() << lock_outs.min(7));
    (failures >= FAILURES).then(|| longer.min(SignedDuration::from_hours(24)))
}

impl Account {
    /// Until when it is locked out, if it is.
    #[must_use]
    pub fn locked(&self, now: Timestamp) -> Option<Timestamp> {
        self.locked_until.filter(|until| *until > now)
    }

    /// Decides about a sign-in and remembers it. `password` says whether the password was right; `second` is the secret of the
    /// second factor with the code that was given.
    pub fn sign_in(&mut self, password: bool, second: Option<(&Secret, Option<&str>)>, now: Timestamp) -> Verdict {
        if let Some(until) = self.locked(now) {
            return Verdict::LockedOut(until);
        }
        let right = match second {
            None => password.then_some(None).ok_or("password"),
            Some(_) if !password => Err("password"),
            Some((_, None)) => Err("code: none was given"),
            Some((secret, Some(given))) => {
                let used = self.second_factor.as_ref().map_or(0, |second| second.used);
                right_code(secret, given, now, used).map(Some)
            }
        };
        match right {
            Ok(step) => {
                if let (Some(second), Some(step)) = (&mut self.second_factor, step) {
                    second.used = step;
                }
                (self.failures, self.lock_outs, self.locked_until) = (0, 0, None);
                Verdict::Accepted
            }
            Err(what) => {
                self.failures += 1;
                let Some(locked) = locks_out(self.failures, self.lock_outs) else { return Verdict::Wrong(what) };
                let until = now + locked;
                (self.failures, self.lock_outs, self.locked_until) = (0, self.lock_outs + 1, Some(until));
                Verdict::LockedOut(until)
            }
        }
    }

    /// Ends a lock-out before its time; whether there was one.
    pub fn lift(&mut self, now: Timestamp) -> bool {
        let locked = self.locked(now).is_some();
        (self.failures, self.lock_outs, self.locked_until) = (0, 0, None);
        locked
    }
}

/// Equal, in a time that does not depend on where they differ.
fn same(a: &str, b: &str) -> bool {
    a.len() == b.len() && a.bytes().zip(b.bytes()).fold(0, |seen, (a, b)| seen | (a ^ b)) == 0
}

/// Why a sign-in is refused, for the administrator.
#[must_use]
pub fn refusal(account: &str, device: &str, verdict: &Verdict) -> Option<Problem> {
    match verdict {
        Verdict::Accepted => None,
        Verdict::Wrong(what) => Some(Problem::refused(format!("{account} is not let in")).why(format!("wrong {what}"))),
        Verdict::LockedOut(until) => Some(
            Problem::refused(format!("{account} is locked out until {}", moment(*until)))
                .why(format!("{FAILURES} sign-ins in a row failed"))
                .try_(format!("yestrel credential lift {}", device)),
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 6238 appendix B, the last six of its eight digits.
    #[test]
    fn codes_of_the_standard() {
        let secret = Secret::new(b"12345678901234567890".to_vec());
        for (second, expected) in
            [(59, "287082"), (1_111_111_109, "081804"), (1_234_567_890, "005924"), (20_000_000_000, "353130")]
        {
            assert_eq!(code(&secret, step(Timestamp::from_second(second).unwrap())), expected);
        }
    }

    /// RFC 4648 section 10, and RFC 2759 section 9.2.
    #[test]
    fn forms_of_the_standards() {
        for (plain, text) in [("", ""), ("f", "MY"), ("foob", "MZXW6YQ"), ("foobar", "MZXW6YTBOI")] {
            assert_eq!(*base32(plain.as_bytes()), text);
        }
        let form = ms_chap_form("clientPass");
        let hex: String = form.reveal().iter().map(|byte| format!("{byte:02X}")).collect();
        assert_eq!(hex, "44EBBA8D5312B8D611474411F56989AE");
    }

    #[test]
    fn weak_passwords_are_refused_and_good_ones_taken() {
        for weak in ["short", "password123", "qwertyuiop", "mara.laptop1", "aaaaaaaaaaaaaa", "Skerry2027!"] {
            assert!(check_strength(weak, &["mara", "laptop", "mara.laptop", "skerry", "2027"]).is_err(), "{weak}");
        }
        assert!(check_strength("lantern-oyster-gravel-ninety", &["mara"]).is_ok());
        let made = readable([7; 16]);
        assert_eq!(made.reveal().len(), 19);
        assert_ne!(readable([7; 16]).reveal(), readable([8; 16]).reveal());
    }

    #[test]
    fn every_letter_of_a_readable_password_occurs_once() {
        let mut letters = LETTERS.to_vec();
        letters.sort_unstable();
        letters.dedup();
        assert_eq!(letters.len(), 32, "five bits each");
    }

    fn account() -> Account {
        Account {
            name: "mara.laptop".into(),
            password: String::new(),
            ms_chap: None,
            for_agents: Default::default(),
            generated: None,
            second_factor: Some(SecondFactor { secret: SealedSecret(String::new()), used: 0, handed_over: true }),
            failures: 0,
            locked_until: None,
            lock_outs: 0,
        }
    }

    #[test]
    fn each_code_holds_once_and_only_near_its_time() {
        let secret = Secret::new(vec![5; 20]);
        let now: Timestamp = "2027-03-02T08:15:10Z".parse().unwrap();
        let mut account = account();
        let right = code(&secret, step(now));
        assert_eq!(account.sign_in(true, Some((&secret, Some(&right))), now), Verdict::Accepted);
        assert_eq!(
            account.sign_in(true, Some((&secret, Some(&right))), now),
            Verdict::Wrong("code: it was used already")
        );
        let early = code(&secret, step(now) + 1);
        assert_eq!(
            account.sign_in(true, Some((&secret, Some(&early))), now),
            Verdict::Accepted,
            "a clock that is ahead"
        );
        let far = code(&secret, step(now) + 3);
        assert_eq!(account.sign_in(true, Some((&secret, Some(&far))), now), Verdict::Wrong("code"));
        assert_eq!(account.sign_in(true, Some((&secret, None)), now), Verdict::Wrong("code: none was given"));
    }

    #[test]
    fn repeated_failures_lock_out_longer_each_time_until_lifted() {
        let mut account = account();
        let mut now: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        let mut ends = Vec::new();
        for _ in 0..3 {
            for _ in 0..4 {
                assert_eq!(account.sign_in(false, None, now), Verdict::Wrong("password"));
            }
            let Verdict::LockedOut(until) = account.sign_in(false, None, now) else { panic!("not locked out") };
            assert_eq!(account.sign_in(true, None, now), Verdict::LockedOut(until), "also with the right password");
            ends.push((until - now).total(jiff::Unit::Minute).unwrap() as i64);
            now = until;
        }
        assert_eq!(ends, [15, 30, 60]);
        let _ = (0..5).map(|_| account.sign_in(false, None, now)).collect::<Vec<_>>();
        assert!(account.lift(now));
        assert_eq!(account.sign_in(true, None, now), Verdict::Accepted);
    }

    #[test]
    fn a_password_matches_only_itself() {
        let kept = hash("lantern-oyster", [3; 16]).unwrap();
        assert!(kept.starts_with("$argon2id$v=19$m=65536,t=3,p=1$"));
        assert!(matches("lantern-oyster", &kept));
        assert!(!matches("lantern-oystes", &kept));
        assert!(!matches("lantern-oyster", "nonsense"));
    }
}
