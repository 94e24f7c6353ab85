//! What things may be called.

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

/// Checks a name of the domain name system, or an address, as something that devices will dial
/// (RFC 1123 section 2.1: letters, digits, hyphens; 253 characters, labels of 63).
///
/// # Errors
/// Says what cannot be dialled about it.
pub fn dialled(text: &str) -> Result<()> {
    if let Ok(address) = text.parse::<std::net::IpAddr>() {
        return if address.is_unspecified() || address.is_multicast() {
            Err(Problem::words(format!("nobody can dial {address}")).why("it is not the address of one machine"))
        } else {
            Ok(())
        };
    }
    let fine = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    // A last label of digits alone is the end of an address that is none, such as 256.1.1.1 (RFC 1123 section 2.1, RFC 3696 section 2).
    let numeric = text.rsplit('.').next().is_some_and(|last| last.bytes().all(|byte| byte.is_ascii_digit()));
    if text.len() <= 253 && text.contains('.') && text.split('.').all(fine) && !numeric {
        Ok(())
    } else {
        Err(Problem::words(format!("{:?} is neither a host name nor an address", shortened(text)))
            .why("devices will dial it, so it must be a full name such as gangway.skerry.example, or an IP address"))
    }
}

/// Checks a domain whose names are asked of a listener's resolvers, and gives it in lower case.
///
/// # Errors
/// Not a name of the domain name system.
pub fn domain(text: &str) -> Result<String> {
    let lower = text.trim_end_matches('.').to_ascii_lowercase();
    // One label alone is fine here: a site may have a domain of its own.
    if text.parse::<std::net::IpAddr>().is_ok() || dialled(&format!("x.{lower}")).is_err() {
        return Err(Problem::words(format!("{:?} is no domain", shortened(text)))
            .why("names in it are asked of the site's resolvers, such as skerry.example for files.skerry.example"));
    }
    Ok(lower)
}

/// The domain that a dialled name most likely stands in, with the site's other names: all of it but the first of at least three labels.
#[must_use]
pub fn domain_around(dialled: &str) -> Option<String> {
    let (_, rest) = dialled.split_once('.')?;
    (dialled.parse::<std::net::IpAddr>().is_err() && rest.contains('.')).then(|| rest.to_ascii_lowercase())
}

/// A name near `name` that keeps the rules, or nothing.
fn near(name: &str) -> String {
    let kept: String = name
        .rsplit(['/', '\\'])
        .next()
        .unwrap_or_default()
        .chars()
        .map(|c| c.to_ascii_lowercase())
        .map(|c| if c == '_' || c == ' ' || c == '.' { '-' } else { c })
        .filter(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || *c == '-')
        .collect();
    let kept = kept.trim_start_matches(|c: char| !c.is_ascii_lowercase());
    kept[..kept.len().min(LONGEST)].trim_end_matches('-').to_owned()
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
            ("käptn", "keyboard", Some("kptn")),
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
    fn names_to_dial() {
        for good in ["gangway.skerry.example", "203.0.113.10", "2001:db8::7"] {
            assert_eq!(dialled(good), Ok(()));
        }
        for bad in ["gangway", "-a.example", "a..example", "0.0.0.0", "224.0.0.1", "x y.example", ""] {
            assert!(dialled(bad).is_err(), "{bad}");
        }
    }
}
