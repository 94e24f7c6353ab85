//! The estate's own keys: the one that signs orders, the one that seals secrets, and the recovery key that survives the loss of
//! either.

use std::path::Path;

use yestrel_core::account::LETTERS;
use yestrel_core::estate::{Estate, Gateway, PreviousKey};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::{Problem, Result, order};
use yestrel_store::seal::{path_of, random32};
use yestrel_store::{SealingKey, SqliteStore};
use zeroize::Zeroizing;

use super::reseal;
use crate::context::{Context, next_to, who};
use crate::find::this_estate as this;
use crate::keyring::labels::{self, SIGNING};

/// A recovery key as it is printed: 32 bytes and one to check them, five bits a letter, in groups of four.
#[must_use]
pub fn written(recovery: &Secret) -> Zeroizing<String> {
    let check = yestrel_core::keys::sha256_hex(recovery.reveal());
    let mut bytes = Zeroizing::new(recovery.reveal().to_vec());
    bytes.push(u8::from_str_radix(&check[..2], 16).unwrap_or(0));
    let mut text = Zeroizing::new(String::new());
    let (mut held, mut bits, mut count) = (0_u32, 0, 0);
    for byte in bytes.iter().copied().chain([0]) {
        held = held << 8 | u32::from(byte);
        bits += 8;
        while bits >= 5 && count < 53 {
            if count > 0 && count % 4 == 0 {
                text.push('-');
            }
            bits -= 5;
            text.push(char::from(LETTERS[(held >> bits) as usize & 31]));
            count += 1;
        }
        held &= (1 << bits) - 1;
    }
    text
}

/// Reads what [`written`] wrote, however it was copied.
///
/// # Errors
/// A letter is missing, too many or wrong.
pub fn read(text: &str) -> Result<Secret> {
    let wrong = |why: &str| Problem::words("this is no recovery key").why(why);
    let mut bytes = Zeroizing::new(Vec::new());
    let (mut held, mut bits, mut count) = (0_u32, 0, 0);
    for letter in text.bytes().filter(|byte| !byte.is_ascii_whitespace() && *byte != b'-') {
        let letter = letter.to_ascii_lowercase();
        let value = LETTERS
            .iter()
            .position(|one| *one == letter)
            .ok_or_else(|| wrong("it has a letter that recovery keys do not have: i, l, o and 0 are none of theirs"))?;
        held = (held << 5 | value as u32) & 0xffff;
        bits += 5;
        count += 1;
        if bits >= 8 {
            bits -= 8;
            bytes.push((held >> bits) as u8);
        }
    }
    if count != 53 {
        return Err(wrong(&format!("it has {count} letters; a recovery key has 53")));
    }
    let secret = Secret::new(bytes[..32].to_vec());
    let check = yestrel_core::keys::sha256_hex(secret.reveal());
    if u8::from_str_radix(&check[..2], 16).ok() != bytes.get(32).copied() {
        return Err(wrong("a letter is wrong: what it checks itself by does not fit"));
    }
    Ok(secret)
}

/// A new recovery key, and what the estate keeps of it: its public half and the sealing key under it.
pub(crate) fn recovery(sealing: &SealingKey, estate: &mut Estate) -> Result<Zeroizing<String>> {
    let secret = Secret::new(random32()?.to_vec());
    estate.recovery_key = Some(order::signer(&secret)?);
    estate.recovery_sealed = Some(sealing.wrapped_by(&SealingKey::of_recovery(&secret))?);
    Ok(written(&secret))
}

/// How many signing keys from before stay for devices that have taken no way notice since.
const KEPT: usize = 4;

/// Makes a new signing key. Gateways learn it by their next order, which is signed with both; with the recovery key, that one signs
/// in the place of a key that is lost. Gives how many gateways there are to learn it.
///
/// # Errors
/// The recovery key is another estate's; the signing key is lost, and no recovery key is given.
pub fn renew(context: &mut Context, recovery: Option<&Secret>) -> Result<(Estate, usize)> {
    let sealing = context.key()?;
    context.write(|book| {
        let mut estate = this(book)?;
        let (old, before) = match recovery {
            None => (sealing.open(&estate.private_key, SIGNING)?, estate.public_key),
            Some(recovery) => {
                let public = order::signer(recovery)?;
                if estate.recovery_key != Some(public) {
                    return Err(Problem::refused("this recovery key is not this estate's"));
                }
                (recovery.clone(), public)
            }
        };
        estate.previous_keys.push(PreviousKey {
            public_key: before,
            private_key: sealing.seal(&old, &labels::previous_signing(&before))?,
        });
        let new = Secret::new(random32()?.to_vec());
        estate.public_key = order::signer(&new)?;
        estate.private_key = sealing.seal(&new, SIGNING)?;
        let mut learn = 0;
        let mut trusted = Vec::new();
        for mut gateway in book.all::<Gateway>()? {
            if gateway.adopted {
                // One that has not yet heard of the last change still obeys the key before that.
                if recovery.is_some() {
                    gateway.trusts = Some(before);
                }
                trusted.push(*gateway.trusts.get_or_insert(before));
                learn += 1;
                book.put(&gateway)?;
            }
        }
        // The last few stay besides: devices know the next way notice by the key that stands in their handover.
        let last = estate.previous_keys.len().saturating_sub(KEPT);
        let lasting: Vec<_> = estate.previous_keys.iter().skip(last).map(|one| one.public_key).collect();
        let is_recovery = |key: &PublicKey| Some(*key) == estate.recovery_key;
        estate.previous_keys.retain(|PreviousKey { public_key, .. }| {
            trusted.contains(public_key) || (lasting.contains(public_key) && !is_recovery(public_key))
        });
        book.put(&estate)?;
        let said = format!("signing key {} -> {}", before.fingerprint(), estate.public_key.fingerprint());
        book.note("estate renew", &estate.name, &said)?;
        Ok((estate, learn))
    })
}

/// Makes a new sealing key and seals every secret anew under it; a new recovery key comes with it. `passphrase` wraps the new key.
/// Gives the recovery key.
///
/// # Errors
/// A secret does not open, or the file cannot be written: then everything is as before.
pub fn renew_sealing(context: &mut Context, passphrase: Option<&str>) -> Result<Zeroizing<String>> {
    let old = context.key()?;
    let path = path_of(context.path());
    let next = next_to(&path);
    let cannot = |error: std::io::Error| {
        Problem::failed(format!("{} cannot be put in place", next.display())).why(error.to_string())
    };
    let new = SealingKey::generate()?;
    let renewed = context.write(|book| {
        // What a renewal that was broken off left: it is not the key that opens, or this command would not have got here.
        if next.exists() {
            std::fs::remove_file(&next).map_err(cannot)?;
        }
        new.write(&next, passphrase)?;
        reseal::everything(book, &old, &new)?;
        let mut estate = this(book)?;
        let written = recovery(&new, &mut estate)?;
        book.put(&estate)?;
        book.note("estate renew", &estate.name, "sealing key and recovery key")?;
        Ok(written)
    });
    match renewed {
        Ok(written) => {
            std::fs::rename(&next, &path).map_err(cannot)?;
            Ok(written)
        }
        Err(problem) => {
            let _ = std::fs::remove_file(&next);
            Err(problem)
        }
    }
}

/// Makes a new recovery key, in place of one that was lost or seen. Gives it; it is kept nowhere.
///
/// # Errors
/// The estate cannot be written.
pub fn renew_recovery(context: &mut Context) -> Result<(Zeroizing<String>, usize)> {
    let sealing = context.key()?;
    context.write(|book| {
        let mut estate = this(book)?;
        let written = recovery(&sealing, &mut estate)?;
        book.put(&estate)?;
        book.note("estate renew", &estate.name, "recovery key")?;
        let adopted = book.all::<Gateway>()?.into_iter().filter(|gateway| gateway.adopted).count();
        Ok((written, adopted))
    })
}

/// Makes the file of the sealing key again, from the recovery key: when the file is lost, or its passphrase forgotten. What is
/// left of the old file is kept beside it.
///
/// # Errors
/// The recovery key is not this estate's, or the estate was made before there were any.
pub fn recover(path: &Path, recovery: &Secret, passphrase: Option<&str>) -> Result<Estate> {
    let now = jiff::Timestamp::now();
    let mut store = SqliteStore::open(path)?;
    let estate = store.read(now, this)?;
    let sealed = estate.recovery_sealed.as_ref().ok_or_else(|| {
        Problem::refused("this estate has no recovery key")
            .why("it was made by a version that had none, and none was made since")
            .try_("yestrel estate renew --recovery   makes one, while the sealing key is there")
    })?;
    let sealing = SealingKey::of_recovery(recovery).unwrap_key(sealed).map_err(|_| {
        Problem::refused("this recovery key is not this estate's")
            .why("the estate's sealing key does not open with it")
            .try_("the one that was printed when the estate was made, or when it was last renewed")
    })?;
    sealing.open(&estate.private_key, SIGNING)?;
    let file = path_of(path);
    let aside = file.with_extension("key.before");
    let cannot = |error: std::io::Error| {
        Problem::failed(format!("{} cannot be put aside", file.display())).why(error.to_string())
    };
    if file.exists() {
        std::fs::rename(&file, &aside).map_err(cannot)?;
    }
    sealing.write(&file, passphrase)?;
    store.write(now, &who(), |book| {
        book.note("estate recover", &estate.name, "the sealing key's file was made again")
    })?;
    Ok(estate)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recovery_key_survives_being_copied_and_not_being_copied_wrongly() {
        for seed in [[0; 32], [255; 32], std::array::from_fn(|at| at as u8 * 7)] {
            let secret = Secret::new(seed.to_vec());
            let text = written(&secret);
            assert_eq!(read(&text).unwrap(), secret);
            assert_eq!(read(&text.to_uppercase().replace('-', " ")).unwrap(), secret);
            assert!(read(&text[..text.len() - 1]).is_err());
            let other = if text.starts_with('a') { 'b' } else { 'a' };
            assert!(read(&format!("{other}{}", &text[1..])).is_err(), "{}", *text);
        }
        assert!(read("0").is_err());
    }
}
