//! Values of RADIUS attributes by their registered names.

/// Values of Tunnel-Type (RFC 2868 section 3.1; 13 by RFC 3580 section 3.31).
pub(super) const TUNNEL_TYPES: [(u32, &str); 13] = [
    (1, "pptp"),
    (2, "l2f"),
    (3, "l2tp"),
    (4, "atmp"),
    (5, "vtp"),
    (6, "ah"),
    (7, "ip-ip"),
    (8, "min-ip-ip"),
    (9, "esp"),
    (10, "gre"),
    (11, "dvs"),
    (12, "ip-in-ip"),
    (13, "vlan"),
];

/// Values of NAS-Port-Type (RFC 2865 section 5.41).
pub(super) const PORT_TYPES: [(u32, &str); 20] = [
    (0, "async"),
    (1, "sync"),
    (2, "isdn-sync"),
    (3, "isdn-async-v120"),
    (4, "isdn-async-v110"),
    (5, "virtual"),
    (6, "piafs"),
    (7, "hdlc-clear-channel"),
    (8, "x25"),
    (9, "x75"),
    (10, "g3-fax"),
    (11, "sdsl"),
    (12, "adsl-cap"),
    (13, "adsl-dmt"),
    (14, "idsl"),
    (15, "ethernet"),
    (16, "xdsl"),
    (17, "cable"),
    (18, "wireless-other"),
    (19, "wireless-ieee-802.11"),
];

/// Reads a value by its name or number.
pub(super) fn read(table: &[(u32, &str)], text: &str) -> Option<u32> {
    let named = table.iter().find(|(_, name)| name.eq_ignore_ascii_case(text)).map(|(number, _)| *number);
    named.or_else(|| text.parse().ok())
}

/// A value by its name, or its number where it has none here.
pub(super) fn shown(table: &[(u32, &str)], number: u32) -> String {
    let named = table.iter().find(|(one, _)| *one == number).map(|(_, name)| (*name).to_owned());
    named.unwrap_or_else(|| number.to_string())
}
