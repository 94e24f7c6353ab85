//! Says how the program is linked.

use std::process::Command;

/// Whether this machine's C library, which is linked in, understands relocations in the short form (glibc 2.36 and later): they take
/// a thirtieth of the room.
fn takes_short_relocations() -> bool {
    let came = Command::new("getconf").arg("GNU_LIBC_VERSION").output();
    let text = came.map(|came| String::from_utf8_lossy(&came.stdout).into_owned()).unwrap_or_default();
    let version = text.trim().strip_prefix("glibc ").and_then(|version| version.split_once('.'));
    let version = version.and_then(|(major, minor)| Some((major.parse::<u32>().ok()?, minor.parse::<u32>().ok()?)));
    version.is_some_and(|version| version >= (2, 36))
}

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    let of_gnu = std::env::var("CARGO_CFG_TARGET_ENV").is_ok_and(|environment| environment == "gnu");
    // A library for another machine is not the one that answers here.
    let here = std::env::var("TARGET").ok() == std::env::var("HOST").ok();
    if of_gnu && here && takes_short_relocations() {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}
