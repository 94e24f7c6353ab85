//! Running `nft`, the system's own tool for its firewall.

use std::io::Write as _;
use std::process::{Command, Stdio};

use yestrel_core::{Problem, Result};

/// Runs `nft` with a script or arguments and gives what it prints.
///
/// # Errors
/// There is no nft, or it refuses: then with its own words.
pub fn nft(arguments: &[&str], script: &str) -> Result<String> {
    let missing = |error: std::io::Error| {
        Problem::failed("nft cannot be run")
            .why(error.to_string())
            .try_("apt install nftables   or what the system's packages call it")
    };
    let mut child = Command::new("nft")
        .args(arguments)
        .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin:/usr/local/sbin:/usr/local/bin")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(missing)?;
    if let Some(mut stdin) = child.stdin.take() {
        let _ = stdin.write_all(script.as_bytes());
    }
    let output = child.wait_with_output().map_err(missing)?;
    if output.status.success() {
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    } else {
        Err(Problem::failed("nft refuses the rules").why(String::from_utf8_lossy(&output.stderr).trim().to_owned()))
    }
}
