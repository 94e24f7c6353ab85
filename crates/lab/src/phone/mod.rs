//! A phone: a stand-in for what people carry, that opens a configuration profile as it was handed over and dials with what it says, and
//! knows nothing besides. It has one switch.
//!
//! | file | its job |
//! |---|---|
//! | `profile` | reads a profile |
//! | `dial` | calls by it, and carries packets |

mod dial;
mod profile;

use std::path::Path;
use std::sync::Arc;

use jiff::Timestamp;
use serde_json::Map;
use yestrel_core::handover::{FORMAT, Handover, HandoverWay};
use yestrel_core::keys::PublicKey;
use yestrel_core::tunnel::{OtherWay, WayIn, ikev2};
use yestrel_core::{Problem, Result};
use yestrel_device::connect::{self, Options, Told};
use yestrel_device::notices::{self, Kept};
use yestrel_device::running;

use profile::Profile;

/// What its tunnel is called on its host.
pub const NAME: &str = "phone";

/// Opens a profile with what the person types (its transport password, or the account's where it has none), and stays in until it is switched off.
///
/// # Errors
/// It is no profile, or the password is another's; why it could not come in; why it ended.
pub fn switch_on(file: &Path, typed: &str, tell: &dyn Fn(Told)) -> Result<()> {
    let bytes = std::fs::read(file).map_err(|error| {
        Problem::failed(format!("the profile {} cannot be read", file.display())).why(error.to_string())
    })?;
    let profile = Profile::read(&bytes, typed, Timestamp::now())?;
    let way = |connection: &profile::Connection| HandoverWay {
        gateway: connection.name.clone(),
        address: connection.address.clone(),
        port: ikev2::PORTS[0],
        reach: ["0.0.0.0/0", "::/0"].iter().filter_map(|range| range.parse().ok()).collect(),
        domains: connection.domains.clone(),
        tunnel: WayIn::Other(OtherWay { tunnel: ikev2::WORD.into(), settings: Map::new() }),
    };
    let before = format!("{} for ", profile.organisation);
    let holder = profile.holder.strip_prefix(&before).unwrap_or(&profile.holder);
    let mut handover = Handover {
        before: Vec::new(),
        format: FORMAT.into(),
        estate: profile.organisation.clone(),
        holder: holder.to_owned(),
        issued: Timestamp::now(),
        expires: None,
        estate_key: PublicKey([0; 32]),
        notice: 0,
        device_key: None,
        account: None,
        certificate: None,
        ways: profile.connections.iter().map(way).collect(),
    };
    let (notices, _, _) = Kept::load(notices::beside(file)?, &mut handover);
    let options = Options {
        folder: running::folder()?,
        handover,
        notices,
        keep_notices: false,
        name: NAME.into(),
        proxy: None,
        strict: false,
        kinds: vec![Arc::new(dial::Phone::new(profile))],
    };
    connect::run(&options, tell)
}
