//! What a process gives up: rights that it does not need, and dumps of its memory.

use std::fs;
use std::io;
use std::os::unix::fs::{PermissionsExt as _, lchown};
use std::path::Path;

use rustix::process::{DumpableBehavior, Resource, Rlimit, setrlimit};
use rustix::thread::{self, CapabilitySet, CapabilitySets};
use yestrel_core::{Problem, Result};

/// The device that TUN interfaces are made with.
const TUN: &str = "/dev/net/tun";

/// Memory that holds keys is written to no disk when the process fails (core(5)); programs that it runs leave none either.
pub fn no_dumps() {
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    // Where dumps go to a program, the limit does not hold for all of them.
    let _ = rustix::process::set_dumpable_behavior(DumpableBehavior::NotDumpable);
}

/// Whether only root may open the TUN device.
#[must_use]
pub fn tun_is_closed() -> bool {
    fs::metadata(TUN).is_ok_and(|about| about.permissions().mode() & 0o006 != 0o006)
}

/// What a gateway needs of root: routes, addresses, the firewall and TUN; ports below 1024; where only root may open the TUN device, that.
fn needed() -> CapabilitySet {
    let mut needed = CapabilitySet::NET_ADMIN | CapabilitySet::NET_BIND_SERVICE;
    if tun_is_closed() {
        needed |= CapabilitySet::DAC_OVERRIDE;
    }
    needed
}

/// Becomes another user for good, with what a gateway needs and nothing else (capabilities(7)), and gives that user the folder. To be
/// called by root before any thread is begun.
///
/// # Errors
/// The caller is not root, or the system does not let it; then the process must end.
pub fn become_user(user: u32, folder: &Path) -> Result<()> {
    let cannot = |what: &str| {
        let what = what.to_owned();
        move |error: io::Error| Problem::failed(format!("the agent cannot give up root: {what}")).why(error.to_string())
    };
    if !nix::unistd::geteuid().is_root() {
        return Err(
            Problem::refused("only root can become another user").why("leave --drop-to away, or start it as root")
        );
    }
    fs::create_dir_all(folder).and_then(|()| give(folder, user)).map_err(cannot("its folder"))?;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700)).map_err(cannot("its folder"))?;
    let needed = needed();
    let step = || -> rustix::io::Result<()> {
        for one in CapabilitySet::all().iter().filter(|one| !needed.contains(*one)) {
            // One that this kernel does not know is none.
            let _ = thread::remove_capability_from_bounding_set(one);
        }
        thread::set_keep_capabilities(true)?;
        Ok(())
    };
    step().map_err(|error| cannot("capabilities")(error.into()))?;
    let ids = || -> nix::Result<()> {
        let (user, group) = (nix::unistd::Uid::from_raw(user), nix::unistd::Gid::from_raw(user));
        nix::unistd::setgroups(&[])?;
        nix::unistd::setresgid(group, group, group)?;
        nix::unistd::setresuid(user, user, user)
    };
    ids().map_err(|error| cannot("its user")(error.into()))?;
    let step = || -> rustix::io::Result<()> {
        let sets = CapabilitySets { effective: needed, permitted: needed, inheritable: needed };
        thread::set_capabilities(None, sets)?;
        // For the firewall's tool.
        for one in needed.iter() {
            thread::configure_capability_in_ambient_set(one, true)?;
        }
        thread::set_no_new_privs(true)
    };
    step().map_err(|error| cannot("capabilities")(error.into()))
}

/// Gives a user everything in a folder. Links in it are not followed.
fn give(folder: &Path, user: u32) -> io::Result<()> {
    lchown(folder, Some(user), Some(user))?;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            give(&entry.path(), user)?;
        } else {
            lchown(entry.path(), Some(user), Some(user))?;
        }
    }
    Ok(())
}
