//! What things may be called.

use std::borrow::Cow;

use crate::{Problem, Result};

/// Characters at most in a name.
pub const LONGEST: usize = 40;

/// Checks the name of a site, host, gateway, user, group or tunnel: 1..=40 of a-z, 0-9 and `-`, beginning
/// with a letter and not ending in `-`. The same names serve in files, tables and interface names.
///
/// # Errors
/// Says which rule is broken, and offers a name that keeps them all where one is near.
pub fn check(noun: &str, name: &str) -> Result<()> {
    let bad = |why: &str| {
        let near = near(name);
        let problem = Problem::words(format!("{noun} name {:?} cannot be used", shortened(name))).why(why);
        Err(if near.is_empty() { problem } else { problem.try_(format!("the name {near}")) })
    };
    if name.is_empty() {
        return bad("it is empty");
    }
    if name.chars().count() > LONGEST {
        return bad(&format!("it is longer than {LONGEST} characters"));
    }
    if !name.is_ascii() {
        return bad("names are typed on every keyboard and stand in files: only a-z, 0-9 and - are taken");
    }
    if name.contains(['/', '\\']) || name.starts_with('.') {
        return bad("it reads like a path");
    }
    if !name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-') {
        return bad("only a-z, 0-9 and - are taken");
    }
    if !name.as_bytes()[0].is_ascii_lowercase() || name.ends_with('-') {
        return bad("it must begin with a letter and not end with -");
    }
    Ok(())
}

/// Checks a name of two parts, such as `mara/laptop` or `harbour/quill`, and gives the parts.
///
/// # Errors
/// As [`check`], for either part, and when there are not exactly two.
pub fn pair<'a>(noun: &str, name: &'a str, parts: (&str, &str)) -> Result<(&'a str, &'a str)> {
    let Some((first, second)) = name.split_once('/') else {
        return Err(Problem::words(format!("{noun} {:?} cannot be read", shortened(name)))
            .why(format!("a {noun} is written {}/{}", parts.0, parts.1)));
    };
    check(parts.0, first)?;
    check(parts.1, second)?;
    Ok((first, second))
}

/// A name of the domain name system as it goes over the wire: labels in other scripts become A-labels (RFC 5890 section 2.3.2.1), what is
/// ASCII stays as it is. `None`: there is no such form.
fn in_ascii(text: &str) -> Option<Cow<'_, str>> {
    if text.is_ascii() {
        return Some(Cow::Borrowed(text));
    }
    if text.split('.').any(|label| label.starts_with('-') || label.ends_with('-')) {
        return None;
    }
    idna::domain_to_ascii_cow(text.as_bytes(), idna::AsciiDenyList::STD3).ok().map(|name| Cow::Owned(name.into_owned()))
}

/// Checks a name of the domain name system, or an address, as something that devices will dial
/// (RFC 1123 section 2.1: letters, digits, hyphens; 253 characters, labels of 63). Gives it as it is asked for: a name in another script
/// with A-labels (RFC 5891).
///
/// # Errors
/// Says what cannot be dialled about it.
pub fn dialled(text: &str) -> Result<String> {
    if let Ok(address) = text.parse::<std::net::IpAddr>() {
        return if address.is_unspecified() || address.is_multicast() {
            Err(Problem::words(format!("nobody can dial {address}")).why("it is not the address of one machine"))
        } else {
            Ok(text.to_owned())
        };
    }
    let given = text;
    let text = in_ascii(given).unwrap_or(Cow::Borrowed(given));
    let fine = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    // A last label of digits alone is the end of an address that is none, such as 256.1.1.1 (RFC 1123 section 2.1, RFC 3696 section 2).
    let numeric = text.rsplit('.').next().is_some_and(|last| last.bytes().all(|byte| byte.is_ascii_digit()));
    if text.len() <= 253 && text.contains('.') && text.split('.').all(fine) && !numeric {
        Ok(text.into_owned())
    } else {
        Err(Problem::words(format!("{:?} is neither a host name nor an address", shortened(given)))
            .why("devices will dial it, so it must be a full name such as gangway.skerry.example, or an IP address"))
    }
}

/// Checks a domain whose names are asked of a listener's resolvers, and gives it in lower case, with A-labels.
///
/// # Errors
/// Not a name of the domain name system.
pub fn domain(text: &str) -> Result<String> {
    let ascii = in_ascii(text.trim_end_matches('.')).unwrap_or(Cow::Borrowed(text));
    let lower = ascii.to_ascii_lowercase();
    // One label alone is fine here: a site may have a domain of its own.
    if text.parse::<std::net::IpAddr>().is_ok() || dialled(&format!("x.{lower}")).is_err() {
        return Err(Problem::words(format!("{:?} is no domain", shortened(text)))
            .why("names in it are asked of the site's resolvers, such as skerry.example for files.skerry.example"));
    }
    Ok(lower)
}

/// Checks a mail address (RFC 5321 section 4.1.2: a dot-atom and a host name; 64 and 254 octets) and gives it with the domain in A-labels.
/// Quoted local parts, addresses in brackets and local parts in other scripts are not taken: certificates could not carry the last
/// (RFC 5280 section 4.2.1.6).
///
/// # Errors
/// Says what is wrong about it.
pub fn mail(text: &str) -> Result<String> {
    let no = |why: &str| Err(Problem::words(format!("{:?} is no mail address", shortened(text))).why(why));
    let Some((local, domain)) = text.rsplit_once('@') else { return no("one is written name@skerry.example") };
    let fine = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'*+-/=?^_`{|}~".contains(&byte);
    if !local.is_ascii() {
        return no("the part before @ is taken in ASCII only: certificates carry no other");
    }
    if local.len() > 64 || local.split('.').any(|atom| atom.is_empty() || !atom.bytes().all(fine)) {
        return no("the part before @ is 1 to 64 letters, digits and signs, with single dots between");
    }
    if domain.parse::<std::net::IpAddr>().is_ok() {
        return no("what stands after @ is an address, not a name");
    }
    match dialled(domain) {
        Ok(domain) if local.len() + 1 + domain.len() <= 254 => Ok(format!("{local}@{domain}")),
        _ => no("what stands after @ is no full name such as skerry.example"),
    }
}

/// The domain that a dialled name most likely stands in, with the site's other names: all of it but the first of at least three labels.
#[must_use]
pub fn domain_around(dialled: &str) -> Option<String> {
    let (_, rest) = dialled.split_once('.')?;
    (dialled.parse::<std::net::IpAddr>().is_err() && rest.contains('.')).then(|| rest.to_ascii_lowercase())
}

/// A name near `name` that keeps the rules, or nothing. Letters of other alphabets that derive from the Latin one become those that are
/// written in their place where they are missing.
#[must_use]
pub fn near(name: &str) -> String {
    let last = name.rsplit(['/', '\\']).next().unwrap_or_default().to_lowercase();
    let mut kept = String::new();
    for c in last.chars() {
        match c {
            '_' | ' ' | '.' | '-' => kept.push('-'),
            c if c.is_ascii_lowercase() || c.is_ascii_digit() => kept.push(c),
            c => kept.push_str(in_its_place(c)),
        }
    }
    let kept = kept.trim_start_matches(|c: char| !c.is_ascii_lowercase());
    kept[..kept.len().min(LONGEST)].trim_end_matches('-').to_owned()
}

/// What is written for a letter where only a-z are at hand.
fn in_its_place(c: char) -> &'static str {
    match c {
        'à' | 'á' | 'â' | 'ã' | 'ā' | 'ă' | 'ą' | 'ǎ' => "a",
        'å' => "aa",
        'ä' | 'æ' => "ae",
        'ç' | 'ć' | 'č' | 'ĉ' | 'ċ' => "c",
        'ď' | 'đ' | 'ð' => "d",
        'è' | 'é' | 'ê' | 'ë' | 'ē' | 'ĕ' | 'ė' | 'ę' | 'ě' => "e",
        'ĝ' | 'ğ' | 'ġ' | 'ģ' => "g",
        'ĥ' | 'ħ' => "h",
        'ì' | 'í' | 'î' | 'ï' | 'ĩ' | 'ī' | 'ĭ' | 'į' | 'ı' => "i",
        'ĵ' => "j",
        'ķ' => "k",
        'ĺ' | 'ļ' | 'ľ' | 'ł' => "l",
        'ñ' | 'ń' | 'ņ' | 'ň' | 'ŋ' => "n",
        'ò' | 'ó' | 'ô' | 'õ' | 'ō' | 'ŏ' | 'ő' => "o",
        'ö' | 'ø' | 'œ' => "oe",
        'ŕ' | 'ŗ' | 'ř' => "r",
        'ś' | 'ŝ' | 'ş' | 'š' | 'ș' => "s",
        'ß' => "ss",
        'ţ' | 'ť' | 'ŧ' | 'ț' => "t",
        'þ' => "th",
        'ù' | 'ú' | 'û' | 'ũ' | 'ū' | 'ŭ' | 'ů' | 'ű' | 'ų' => "u",
        'ü' => "ue",
        'ŵ' => "w",
        'ý' | 'ÿ' | 'ŷ' => "y",
        'ź' | 'ż' | 'ž' => "z",
        _ => "",
    }
}

fn shortened(name: &str) -> String {
    if name.chars().count() > 60 { name.chars().take(57).chain("...".chars()).collect() } else { name.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn each_bad_name_is_refused_and_a_near_one_offered() {
        let long = "a".repeat(41);
        let cases = [
            ("", "empty", None),
            ("Harbour", "only a-z", Some("harbour")),
            ("pier office", "only a-z", Some("pier-office")),
            ("../etc/passwd", "path", Some("passwd")),
            ("käptn", "keyboard", Some("kaeptn")),
            ("7seas", "begin with a letter", Some("seas")),
            ("dock-", "end with", Some("dock")),
            (&long, "longer", Some(&long[..40])),
        ];
        for (name, why, offered) in cases {
            let problem = check("site", name).unwrap_err();
            assert!(problem.why.as_ref().unwrap().contains(why), "{name:?}: {problem:?}");
            assert_eq!(problem.tries.first().map(|line| line.trim_start_matches("the name ")), offered, "{name:?}");
        }
    }

    #[test]
    fn what_ends_in_a_number_is_an_address_or_nothing() {
        for none in ["256.1.1.1", "1.2.3", "gangway.skerry.7", "15.5.0.5."] {
            assert!(dialled(none).is_err(), "{none}");
            assert!(domain(none).is_err(), "{none}");
        }
        for fine in ["gangway.skerry.example", "7.skerry.example", "203.0.113.10", "2001:db8::1", "g.xn--p1ai"] {
            assert!(dialled(fine).is_ok(), "{fine}");
        }
    }

    proptest! {
        #[test]
        fn what_is_offered_is_always_a_good_name(name in ".{0,60}") {
            if let Err(problem) = check("host", &name) {
                for offered in problem.tries {
                    prop_assert_eq!(check("host", offered.trim_start_matches("the name ")), Ok(()));
                }
            }
        }
    }

    #[test]
    fn mail_addresses_are_such_as_certificates_carry() {
        for (good, is) in [
            ("mara@skerry.example", "mara@skerry.example"),
            ("mara.b+ferry@mail.skerry.example", "mara.b+ferry@mail.skerry.example"),
            ("mara@fähre.example", "mara@xn--fhre-loa.example"),
        ] {
            assert_eq!(mail(good).as_deref(), Ok(is));
        }
        let long = format!("{}@skerry.example", "a".repeat(65));
        for bad in [
            "mara",
            "@skerry.example",
            "mara@",
            "mara@skerry",
            "mara@@skerry.example",
            "a@b@skerry.example",
            ".a@skerry.example",
            "a..b@skerry.example",
            "mara @skerry.example",
            "mära@skerry.example",
            "mara@192.0.2.1",
            "mara@-a.example",
            &long,
        ] {
            assert!(mail(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn names_to_dial() {
        for good in ["gangway.skerry.example", "203.0.113.10", "2001:db8::7"] {
            assert_eq!(dialled(good).as_deref(), Ok(good));
        }
        assert_eq!(dialled("Fähre.skerry.example").as_deref(), Ok("xn--fhre-loa.skerry.example"));
        assert_eq!(domain("Fähre.skerry.example.").as_deref(), Ok("xn--fhre-loa.skerry.example"));
        for bad in [
            "\u{202e}.example",
            "a\u{ad}\u{ad}",
            "-ä.example",
            "gangway",
            "-a.example",
            "a..example",
            "0.0.0.0",
            "224.0.0.1",
            "x y.example",
            "",
        ] {
            assert!(dialled(bad).is_err(), "{bad}");
        }
    }
}
