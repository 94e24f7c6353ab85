//! Packages: a tar archive with the program in it, and beside it a file with its signature. A package that nobody who is
//! trusted has signed is not installed.

use std::io::Read as _;
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use ring::signature::{ED25519, UnparsedPublicKey};
use yestrel_core::{Problem, Result};

/// Keys of those who make releases: Ed25519 (RFC 8032), base64, separated by commas; set when a release is built.
const BUILT_IN: Option<&str> = option_env!("YESTREL_RELEASE_KEYS");
/// Further keys that are trusted on this machine, one a line.
const TRUSTED: &str = "/etc/yestrel/release-keys";
/// No package is larger.
const LARGEST: u64 = 200_000_000;

/// The keys that are trusted here. `YESTREL_TRUSTED_KEYS` names another file of keys than the machine's own.
fn trusted() -> Vec<Vec<u8>> {
    let file = std::env::var_os("YESTREL_TRUSTED_KEYS").map_or_else(|| PathBuf::from(TRUSTED), PathBuf::from);
    let text = std::fs::read_to_string(file).unwrap_or_default();
    let built_in = BUILT_IN.unwrap_or_default().split(',');
    built_in
        .chain(text.lines())
        .filter_map(|key| BASE64.decode(key.trim()).ok())
        .filter(|key| key.len() == 32)
        .collect()
}

/// Where the signature of a package is.
#[must_use]
pub fn signature_of(package: &Path) -> PathBuf {
    let mut name = package.as_os_str().to_owned();
    name.push(".sig");
    PathBuf::from(name)
}

/// The program in a package that somebody who is trusted has signed.
///
/// # Errors
/// The package or its signature cannot be read, nobody who is trusted has signed it, or there is no program in it.
pub fn program(package: &Path) -> Result<Vec<u8>> {
    program_signed_by(package, &trusted())
}

fn program_signed_by(package: &Path, trusted: &[Vec<u8>]) -> Result<Vec<u8>> {
    let name = package.display();
    let cannot =
        |error: std::io::Error| Problem::failed(format!("the package {name} cannot be read")).why(error.to_string());
    let mut bytes = Vec::new();
    std::fs::File::open(package).map_err(cannot)?.take(LARGEST).read_to_end(&mut bytes).map_err(cannot)?;
    let signature = signature_of(package);
    let text = std::fs::read_to_string(&signature).map_err(|error| {
        Problem::refused(format!("the package {name} is not signed"))
            .why(format!("{}: {error}", signature.display()))
            .try_("scripts/package   builds and signs one")
    })?;
    let signed = BASE64.decode(text.trim()).unwrap_or_default();
    if !trusted.iter().any(|key| UnparsedPublicKey::new(&ED25519, key).verify(&bytes, &signed).is_ok()) {
        return Err(Problem::refused(format!("the package {name} is signed by nobody who is trusted here"))
            .why(if trusted.is_empty() {
                format!("no key is trusted: this program was built without one, and {TRUSTED} has none")
            } else {
                "it was altered, or made by somebody else".into()
            })
            .try_(format!("the package as it was released; or the key of whoever made it in {TRUSTED}")));
    }
    let broken =
        |error: std::io::Error| Problem::failed(format!("the package {name} is damaged")).why(error.to_string());
    let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(&bytes[..]));
    for entry in archive.entries().map_err(broken)? {
        let mut entry = entry.map_err(broken)?;
        let is_program = entry.path().map_err(broken)?.file_name().is_some_and(|name| name == "yestrel");
        if is_program && entry.header().entry_type().is_file() {
            let mut program = Vec::new();
            entry.by_ref().take(LARGEST).read_to_end(&mut program).map_err(broken)?;
            if program.starts_with(b"\x7fELF") {
                return Ok(program);
            }
        }
    }
    Err(Problem::failed(format!("there is no program in the package {name}")).try_("a package of scripts/package"))
}

/// The program of the newest package in a folder, unpacked beside it; `None` where there is none.
///
/// # Errors
/// As [`program`].
pub fn newest_in(folder: &Path) -> Result<Option<PathBuf>> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let packages = entries.map(|entry| entry.path()).filter(|path| path.to_string_lossy().ends_with(".tar.gz"));
    let newest = packages.max_by_key(|path| path.metadata().and_then(|about| about.modified()).ok());
    let Some(package) = newest else { return Ok(None) };
    let bytes = program(&package)?;
    let unpacked = folder.join("program");
    crate::service::put(&unpacked, &bytes, 0o755)?;
    Ok(Some(unpacked))
}

#[cfg(test)]
mod tests {
    use super::*;
    use ring::signature::{Ed25519KeyPair, KeyPair as _};

    fn package(folder: &Path, name: &str, content: &[u8]) -> PathBuf {
        let path = folder.join("yestrel-1-x86_64.tar.gz");
        let mut archive = tar::Builder::new(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()));
        let mut header = tar::Header::new_gnu();
        header.set_size(content.len() as u64);
        header.set_mode(0o755);
        archive.append_data(&mut header, name, content).unwrap();
        std::fs::write(&path, archive.into_inner().unwrap().finish().unwrap()).unwrap();
        path
    }

    #[test]
    fn only_what_somebody_trusted_has_signed_is_unpacked() {
        let folder = tempfile::tempdir().unwrap();
        let key = Ed25519KeyPair::from_seed_unchecked(&[7; 32]).unwrap();
        let trusted = vec![key.public_key().as_ref().to_vec()];
        let path = package(folder.path(), "yestrel-1/yestrel", b"\x7fELF and more");
        let problem = program_signed_by(&path, &trusted).unwrap_err();
        assert!(problem.error.contains("is not signed"), "{problem:?}");
        let sign = |bytes: &[u8]| std::fs::write(signature_of(&path), BASE64.encode(key.sign(bytes).as_ref())).unwrap();
        sign(&std::fs::read(&path).unwrap());
        assert_eq!(program_signed_by(&path, &trusted).unwrap(), b"\x7fELF and more");
        for others in [vec![], vec![vec![1; 32]]] {
            let problem = program_signed_by(&path, &others).unwrap_err();
            assert!(problem.error.contains("signed by nobody who is trusted"), "{problem:?}");
        }
        let mut altered = std::fs::read(&path).unwrap();
        *altered.last_mut().unwrap() ^= 1;
        std::fs::write(&path, &altered).unwrap();
        assert!(program_signed_by(&path, &trusted).is_err());
        for (name, content) in [("other", &b"\x7fELF"[..]), ("yestrel", b"#!/bin/sh"), ("yestrel/", b"")] {
            package(folder.path(), name.trim_end_matches('/'), content);
            sign(&std::fs::read(&path).unwrap());
            assert!(program_signed_by(&path, &trusted).unwrap_err().error.contains("no program"), "{name}");
        }
        std::fs::write(&path, b"no archive at all").unwrap();
        sign(b"no archive at all");
        assert!(program_signed_by(&path, &trusted).unwrap_err().error.contains("damaged"));
    }
}
