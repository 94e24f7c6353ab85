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

/// Whether this compiler links by the linker that comes with it, which can fold functions that are the same: since 1.90, for this machine.
fn links_by_its_own() -> bool {
    let rustc = std::env::var("RUSTC").unwrap_or_else(|_| "rustc".into());
    let says = |words: &[&str]| {
        let came = Command::new(&rustc).args(words).output();
        came.map(|came| String::from_utf8_lossy(&came.stdout).trim().to_owned()).unwrap_or_default()
    };
    let version = says(&["--version"]);
    let minor = version.split('.').nth(1).and_then(|minor| minor.parse::<u32>().ok());
    let own = "lib/rustlib/x86_64-unknown-linux-gnu/bin/gcc-ld/ld.lld";
    let there = std::path::Path::new(&says(&["--print", "sysroot"])).join(own).exists();
    minor.is_some_and(|minor| minor >= 90)
        && there
        && std::env::var_os("CARGO_ENCODED_RUSTFLAGS").is_none_or(|flags| {
            // Whoever names another linker is not second-guessed.
            let flags = flags.to_string_lossy();
            !flags.contains("linker=") && !flags.contains("fuse-ld")
        })
}

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    let of_gnu = std::env::var("CARGO_CFG_TARGET_ENV").is_ok_and(|environment| environment == "gnu");
    // A library for another machine is not the one that answers here.
    let here = std::env::var("TARGET").ok() == std::env::var("HOST").ok();
    if of_gnu && here && takes_short_relocations() {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
    let target = std::env::var("TARGET").unwrap_or_default();
    // Where a package has an optimisation of its own, cargo's `strip` does not reach it.
    if of_gnu && std::env::var("PROFILE").is_ok_and(|profile| profile == "release") {
        println!("cargo::rustc-link-arg-bins=-Wl,--strip-all");
    }
    if std::env::var("PROFILE").is_ok_and(|profile| profile == "release")
        && target == "x86_64-unknown-linux-gnu"
        && here
        && links_by_its_own()
    {
        println!("cargo::rustc-link-arg-bins=-Wl,--icf=all");
    }
}
