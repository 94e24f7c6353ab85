//! What the program is made of: its packages' licences, and which of them are there twice, stand on named lists. Known weaknesses of
//! packages cannot be looked up here; docs/performance.md says so.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use serde_json::Value;

/// Licences that may be used without asking; of an "or" one is enough, of an "and" all must be among them.
const LICENCES: [&str; 9] =
    ["0BSD", "Apache-2.0", "BSD-2-Clause", "BSD-3-Clause", "ISC", "MIT", "Unicode-3.0", "Unlicense", "Zlib"];

/// Packages that are there in two generations, by what keeps the older one. None of these three has a release on the newer, which SSH,
/// HPKE, PKCS#12, RSA and ML-KEM need.
const TWICE: [(&str, &[&str]); 5] = [
    // Saved estates and handovers under a passphrase, and what older versions wrote so.
    (
        "age",
        &[
            "base64",
            "chacha20",
            "chacha20poly1305",
            "curve25519-dalek",
            "hkdf",
            "hmac",
            "pbkdf2",
            "poly1305",
            "rand",
            "rand_core",
            "rustc-hash",
            "salsa20",
            "scrypt",
            "self_cell",
            "thiserror",
            "thiserror-impl",
            "toml",
            "x25519-dalek",
        ],
    ),
    // The handshake of the tunnel quill.
    ("snow", &["aead", "blake2", "getrandom", "sha2", "universal-hash"]),
    // Certificates, lists, answers about them.
    ("x509-ocsp", &["const-oid", "der", "pem-rfc7468", "spki"]),
    // What all of those stand on.
    ("several", &["block-buffer", "cipher", "cpufeatures", "crypto-common", "digest", "generic-array", "inout"]),
    // Small, or only while building.
    ("others", &["bitflags", "nix", "syn"]),
];

/// The packages that the program is linked from or built by: name, version, licence.
fn packages() -> BTreeSet<(String, String, String)> {
    let words = ["metadata", "--format-version", "1", "--offline", "--filter-platform", "x86_64-unknown-linux-gnu"];
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let came = Command::new(env!("CARGO")).args(words).current_dir(root).output().unwrap();
    assert!(came.status.success(), "{}", String::from_utf8_lossy(&came.stderr));
    let all: Value = serde_json::from_slice(&came.stdout).unwrap();
    let of = |value: &Value, field: &str| value[field].as_str().unwrap_or_default().to_owned();
    let about: BTreeMap<String, &Value> =
        all["packages"].as_array().unwrap().iter().map(|package| (of(package, "id"), package)).collect();
    let nodes: BTreeMap<String, &Value> =
        all["resolve"]["nodes"].as_array().unwrap().iter().map(|node| (of(node, "id"), node)).collect();
    let mut waiting: Vec<String> =
        about.iter().filter(|(_, package)| package["name"] == "yestrel").map(|(id, _)| id.clone()).collect();
    let mut found = BTreeSet::new();
    while let Some(id) = waiting.pop() {
        if !found.insert(id.clone()) {
            continue;
        }
        for needed in nodes[&id]["deps"].as_array().unwrap() {
            let kinds = needed["dep_kinds"].as_array().unwrap();
            if kinds.iter().any(|kind| kind["kind"] != "dev") {
                waiting.push(of(needed, "pkg"));
            }
        }
    }
    let about = |id: &String| (of(about[id], "name"), of(about[id], "version"), of(about[id], "license"));
    found.iter().map(about).collect()
}

fn is_free(licence: &str) -> bool {
    let licence = licence.replace('/', " OR ").replace(['(', ')'], " ");
    // An "and" binds what stands beside it; here that is read strictly: everything on one side of it.
    licence.split(" AND ").all(|part| {
        part.split(" OR ").any(|one| LICENCES.contains(&one.trim().trim_end_matches(" WITH LLVM-exception")))
    })
}

#[test]
fn licences_and_what_is_there_twice_stand_on_named_lists() {
    let all = packages();
    assert!(all.len() > 100, "{}", all.len());
    for (name, version, licence) in all.iter().filter(|(name, ..)| !name.starts_with("yestrel")) {
        assert!(is_free(licence), "{name} {version} is under {licence:?}");
    }
    assert!(!is_free("GPL-3.0-only") && !is_free("MIT AND GPL-2.0-only") && is_free("GPL-2.0-only OR MIT"));
    let mut versions: BTreeMap<&str, usize> = BTreeMap::new();
    for (name, ..) in &all {
        *versions.entry(name).or_default() += 1;
    }
    let twice: BTreeSet<&str> = versions.iter().filter(|(_, count)| **count > 1).map(|(name, _)| *name).collect();
    let named: BTreeSet<&str> = TWICE.iter().flat_map(|(_, names)| names.iter().copied()).collect();
    let (new, gone): (Vec<_>, Vec<_>) = (twice.difference(&named).collect(), named.difference(&twice).collect());
    assert!(new.is_empty(), "there are two of {new:?} now: choose one, or name it here and say why");
    assert!(gone.is_empty(), "there is only one of {gone:?} now: take it off the list");
    for (by, _) in &TWICE[..3] {
        assert!(versions.contains_key(by), "{by} is gone, and with it the reason for what it keeps");
    }
}
