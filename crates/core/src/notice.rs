//! Way notices: an estate tells one device what has become of its ways in, after its handover. Signed with the estate's key, which stands
//! in the handover, and sealed to the device's own (HPKE, RFC 9180), so that it may travel by a file, a mail, a link or an old tunnel;
//! nobody on the way reads it, and none can be made but by the estate. No new credential is needed.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::{Deserialize, Serialize};

use crate::handover::{Handover, Notice};
use crate::keys::Secret;
use crate::sealed::{self, Sealed};
use crate::x509::{blocks, pem};
use crate::{Problem, Result, order};

/// The format that this code writes and reads.
pub const FORMAT: &str = "yestrel notice 1";
/// No notice is longer, sealed.
pub const LONGEST: usize = 64 * 1024;

/// What a notice is sealed for.
const PURPOSE: &str = "way notice";
/// What stands around it in a file or a mail (RFC 7468).
const LABEL: &str = "YESTREL NOTICE";
/// What a link begins with.
const LINK: &str = "yestrel:notice:";

#[derive(Serialize, Deserialize)]
struct Signed {
    notice: String,
    signature: String,
}

/// Signs a notice with the key that the device knows, and seals it to the device.
///
/// # Errors
/// The signing key is damaged, or nothing can be sealed to the device's key.
pub fn seal(notice: &Notice, signer: &Secret) -> Result<Sealed> {
    let text = order::canonical(notice);
    let signed = Signed { signature: order::sign_text(&text, signer)?, notice: text };
    sealed::seal(&notice.identity, PURPOSE, &Secret::new(order::canonical(&signed).into_bytes()))
}

/// Opens a notice on the device that it is for: with the device's private key, for a handover of the estate.
///
/// # Errors
/// It is for somebody else, altered, of another estate, of a newer format, or not newer than what the device knows.
pub fn open(sealed: &Sealed, handover: &Handover) -> Result<Notice> {
    let strange = |why: &str| {
        Problem::refused("this notice is not for this handover")
            .why(why.to_owned())
            .try_("ask for the right one: yestrel credential notice, on the administrator's machine")
    };
    let private =
        handover.device_key.as_ref().ok_or_else(|| strange("the handover holds no private key to open it with"))?;
    let opened = sealed
        .open(private, PURPOSE)
        .map_err(|_| strange("it does not open with this device's key: it is another's, or was altered on its way"))?;
    let signed: Signed =
        serde_json::from_slice(opened.reveal()).map_err(|_| strange("what is in it cannot be read"))?;
    order::check_text(&signed.notice, &signed.signature, &handover.estate_key)
        .map_err(|_| strange("it is not signed by the estate that the handover is of"))?;
    #[derive(Deserialize)]
    struct Format {
        format: String,
    }
    let read = || strange("what is in it cannot be read");
    let Format { format } = serde_json::from_str(&signed.notice).map_err(|_| read())?;
    if format != FORMAT {
        return Err(Problem::refused(format!("this notice has the format {format:?}"))
            .why(format!("this version reads {FORMAT:?}"))
            .try_("install a newer yestrel on this device"));
    }
    let notice: Notice = serde_json::from_str(&signed.notice).map_err(|_| read())?;
    if notice.holder != handover.holder {
        return Err(strange(&format!("it is for {}", notice.holder)));
    }
    if notice.number <= handover.notice {
        return Err(Problem::refused(format!(
            "this is notice {}, and {} is known already",
            notice.number, handover.notice
        ))
        .why("an older notice would lead to where nobody is any more"));
    }
    Ok(notice)
}

/// A notice as a text that files and mails carry, with a line that says what it is.
#[must_use]
pub fn block(holder: &str, sealed: &Sealed) -> String {
    format!(
        "For {holder}: where it comes in has changed. On the device:\nyestrel connect HANDOVER --notice THIS-FILE\n\n{}",
        pem(LABEL, &sealed.to_bytes())
    )
}

/// A notice as a link.
#[must_use]
pub fn link(sealed: &Sealed) -> String {
    format!("{LINK}{}", URL_SAFE_NO_PAD.encode(sealed.to_bytes()))
}

/// Finds the notice in a link, a file or a mail, whatever stands around it: the last, where there are several.
///
/// # Errors
/// There is none, it is cut short, or too long.
pub fn find(text: &str) -> Result<Sealed> {
    find_all(text).map(|mut all| all.pop().unwrap_or_else(|| Sealed::from_bytes(&[])))
}

/// Every notice in a text, in their sequence; at least one.
///
/// # Errors
/// As [`find`].
pub fn find_all(text: &str) -> Result<Vec<Sealed>> {
    let none = |why: String| {
        Problem::words("there is no way notice in it")
            .why(why)
            .try_("the whole text between the BEGIN and END lines, or the whole link, as it was sent")
    };
    let all = if let Some(rest) = text.trim().strip_prefix(LINK) {
        // A link may have been broken over lines.
        let whole: String = rest.chars().filter(|c| !c.is_whitespace()).collect();
        vec![URL_SAFE_NO_PAD.decode(whole).map_err(|_| none("the link is cut short or altered".into()))?]
    } else {
        let found = blocks(text).map_err(|problem| none(problem.line()))?;
        found.into_iter().filter(|(label, _)| label == LABEL).map(|(_, bytes)| bytes).collect()
    };
    if all.is_empty() {
        return Err(none(format!("no line says -----BEGIN {LABEL}-----")));
    }
    if all.iter().any(|bytes| bytes.len() > LONGEST) {
        return Err(none(format!("it is longer than {LONGEST} bytes")));
    }
    Ok(all.iter().map(|bytes| Sealed::from_bytes(bytes)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::handover::{HandoverWay, sample};
    use crate::keys::{KeyPair, PublicKey};
    use proptest::prelude::*;

    fn signer() -> Secret {
        Secret::new(vec![9; 32])
    }

    fn handover() -> Handover {
        Handover { estate_key: order::signer(&signer()).unwrap(), ..sample() }
    }

    fn notice(number: u32) -> Notice {
        let handover = handover();
        let private = handover.device_key.clone().unwrap();
        Notice {
            format: FORMAT.into(),
            estate: handover.estate.clone(),
            holder: handover.holder.clone(),
            identity: KeyPair::public_of(&private).unwrap(),
            number,
            made: handover.issued,
            estate_key: handover.estate_key,
            ways: vec![HandoverWay { port: 51999, ..handover.ways[0].clone() }],
        }
    }

    #[test]
    fn a_notice_travels_by_file_mail_and_link_and_opens_for_its_device_alone() {
        let sealed = seal(&notice(1), &signer()).unwrap();
        let mail = format!(
            "From: astrid@skerry.example\r\n\r\nHej Mara,\r\n{}\r\nGreetings\r\n",
            block("mara/laptop", &sealed)
        );
        let mut broken = link(&sealed);
        broken.insert_str(70, "\n  ");
        for text in [block("mara/laptop", &sealed), mail, link(&sealed), broken] {
            assert_eq!(open(&find(&text).unwrap(), &handover()).unwrap(), notice(1), "{text}");
        }
        assert!(!block("mara/laptop", &sealed).contains("51999"));
        let other = Handover { device_key: Some(Secret::new(vec![4; 32])), ..handover() };
        assert!(open(&sealed, &other).unwrap_err().why.unwrap().contains("another's"));
        let elsewhere = Handover { estate_key: PublicKey([7; 32]), ..handover() };
        assert!(open(&sealed, &elsewhere).unwrap_err().why.unwrap().contains("not signed by the estate"));
        let forged = seal(&notice(1), &Secret::new(vec![8; 32])).unwrap();
        assert!(open(&forged, &handover()).is_err());
        let renamed = seal(&Notice { holder: "tomas/tablet".into(), ..notice(1) }, &signer()).unwrap();
        assert!(open(&renamed, &handover()).unwrap_err().why.unwrap().contains("tomas/tablet"));
        let later = seal(&Notice { format: "yestrel notice 2".into(), ..notice(1) }, &signer()).unwrap();
        assert!(open(&later, &handover()).unwrap_err().error.contains("notice 2"));
    }

    #[test]
    fn an_older_notice_changes_nothing() {
        let mut handover = handover();
        for (number, taken) in [(2, true), (1, false), (2, false), (3, true)] {
            let sealed = seal(&notice(number), &signer()).unwrap();
            let opened = open(&sealed, &handover);
            assert_eq!(opened.is_ok(), taken, "{number}");
            if let Ok(notice) = opened {
                let words = handover.take(notice).unwrap();
                assert_eq!(words.is_empty(), number == 3, "{words:?}");
            }
        }
        assert_eq!((handover.notice, handover.ways[0].port), (3, 51999));
        assert!(handover.device_key.is_some());
    }

    proptest! {
        #[test]
        fn no_text_makes_the_reader_fail(text in "\\PC{0,300}") {
            let _ = find(&text);
            let _ = find(&format!("{LINK}{text}"));
        }
    }
}
