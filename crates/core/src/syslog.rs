//! What happened, as lines for other programs: JSON, and the syslog protocol (RFC 5424).

use jiff::Timestamp;
use serde::Serialize;

use crate::estate::Session;

/// What happened to a device at a gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum What {
    Opened,
    Ended,
    Refused,
}

impl What {
    /// The word for it; in syslog the MSGID (RFC 5424 section 6.2.7).
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Opened => "opened",
            Self::Ended => "ended",
            Self::Refused => "refused",
        }
    }

    /// PRIVAL (RFC 5424 section 6.2.1): facility 10, "security/authorization messages"; informational, and a warning for a refusal.
    fn priority(self) -> u8 {
        let severity = if self == Self::Refused { 4 } else { 6 };
        10 * 8 + severity
    }
}

/// One thing that happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Event {
    pub at: Timestamp,
    pub what: What,
    pub gateway: String,
    pub device: String,
    pub from: String,
    /// The policy by which it was admitted, as far as the gateway said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub policy: Option<String>,
    /// How many policies were asked, the one that admitted it with them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub asked: Option<u16>,
    /// The realm of the name that was given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub realm: Option<String>,
    /// By which it proved who it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub method: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Bytes of inner packets from the device and to it, of a session that is over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub received: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sent: Option<u64>,
}

impl Event {
    /// What a record of a session says: when it began, and when it ended; of a refusal one thing.
    #[must_use]
    pub fn of(session: &Session, refused: bool) -> Vec<Self> {
        let event = |at, what| Self {
            at,
            what,
            gateway: session.gateway.clone(),
            device: session.device.clone(),
            from: session.from_address.clone(),
            policy: session.policy.clone(),
            asked: session.asked,
            realm: session.realm.clone(),
            method: session.method.clone(),
            reason: None,
            received: None,
            sent: None,
        };
        let reason = session.reason.clone();
        if refused {
            return vec![Self { reason, ..event(session.opened, What::Refused) }];
        }
        let ended = session.ended.map(|at| Self {
            reason,
            received: Some(session.received),
            sent: Some(session.sent),
            ..event(at, What::Ended)
        });
        std::iter::once(event(session.opened, What::Opened)).chain(ended).collect()
    }

    /// As JSON, on one line.
    #[must_use]
    pub fn json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// As a syslog message (RFC 5424 section 6), without a line end. Its structured data are of the enterprise number that RFC 5612 keeps for
    /// documentation.
    #[must_use]
    pub fn syslog(&self) -> String {
        let mut data = String::new();
        let bytes =
            [("received", self.received), ("sent", self.sent)].map(|(name, many)| (name, many.map(|n| n.to_string())));
        let texts = [
            ("device", Some(self.device.clone())),
            ("from", Some(self.from.clone())),
            ("method", self.method.clone()),
            ("realm", self.realm.clone()),
            ("policy", self.policy.clone()),
            ("asked", self.asked.map(|asked| asked.to_string())),
            ("reason", self.reason.clone()),
        ];
        for (name, value) in texts.into_iter().chain(bytes).filter_map(|(name, value)| Some((name, value?))) {
            data.push_str(&format!(" {name}=\"{}\"", escaped(&value)));
        }
        let why = self.reason.as_ref().map(|reason| format!(": {}", crate::shown::line(reason))).unwrap_or_default();
        format!(
            "<{}>1 {} {} yestrel - {} [yestrel@32473{data}] {} {}{why}",
            self.what.priority(),
            self.at.strftime("%Y-%m-%dT%H:%M:%S%.6fZ"),
            host(&self.gateway),
            self.what.word(),
            crate::shown::line(&self.device),
            self.what.word(),
        )
    }
}

/// A value of structured data (section 6.3.3): three characters are escaped, what would end a line is a space.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for letter in crate::shown::line(text).chars() {
        if matches!(letter, '"' | '\\' | ']') {
            out.push('\\');
        }
        out.push(letter);
    }
    out
}

/// A HOSTNAME (section 6.2.4): printable ASCII, at most 255 of them.
fn host(name: &str) -> String {
    let name: String = name.chars().filter(char::is_ascii_graphic).take(255).collect();
    if name.is_empty() { "-".into() } else { name }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn session() -> Session {
        crate::sample::session("limit: it was idle for 15m")
    }

    #[test]
    fn a_session_is_two_lines_and_a_refusal_one() {
        let lines: Vec<_> = Event::of(&session(), false).iter().map(Event::syslog).collect();
        assert_eq!(
            lines,
            [
                "<86>1 2027-03-02T08:15:00.000000Z harbour yestrel - opened [yestrel@32473 device=\"mara/laptop\" \
                 from=\"198.51.100.23:4711\" method=\"key\" policy=\"everyone\" asked=\"1\"] mara/laptop opened",
                "<86>1 2027-03-02T09:15:00.250000Z harbour yestrel - ended [yestrel@32473 device=\"mara/laptop\" \
                 from=\"198.51.100.23:4711\" method=\"key\" policy=\"everyone\" asked=\"1\" reason=\"limit: it was idle for 15m\" received=\"1200\" sent=\"88\"] \
                 mara/laptop ended: limit: it was idle for 15m",
            ]
        );
        let refused = Session { reason: Some("a ] \" \\\nforged".into()), policy: None, ..session() };
        let lines = Event::of(&refused, true);
        assert_eq!(lines.len(), 1);
        let line = lines[0].syslog();
        assert!(line.starts_with("<84>1 ") && line.contains(r#"reason="a \] \" \\ forged"]"#), "{line}");
        assert_eq!(lines[0].json().lines().count(), 1);
    }

    proptest! {
        /// Whatever a device or a gateway is called and whatever the reason says, it stays one message with one element of data.
        #[test]
        fn nothing_that_is_said_ends_a_line_or_the_data(device in any::<String>(), reason in any::<String>()) {
            let session = Session { device, reason: Some(reason), ..session() };
            for event in Event::of(&session, false) {
                let line = event.syslog();
                prop_assert!(!line.chars().any(char::is_control), "{line:?}");
                let data = &line[line.find('[').unwrap()..];
                let mut quoted = false;
                let mut before = ' ';
                let closes = data.char_indices().find(|(_, letter)| {
                    if *letter == '"' && before != '\\' { quoted = !quoted; }
                    before = if before == '\\' { ' ' } else { *letter };
                    *letter == ']' && !quoted
                });
                prop_assert!(closes.is_some_and(|(at, _)| data[at..].starts_with("] ")), "{line}");
            }
        }
    }
}
