//! One place: its networks, its time zone, what stands in front of it.

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// One place: its networks, its time zone, what stands in front of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Site {
    pub name: String,
    /// The site's own networks.
    pub networks: Vec<IpNet>,
    /// An IANA time zone, "Europe/Oslo".
    pub time_zone: String,
    /// What stands between the site and the internet, in words.
    pub front: Option<String>,
    pub created: Timestamp,
}
