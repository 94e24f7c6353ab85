//! What commands and agents say to each other: one JSON object a line, a question and its answer.
//!
//! The same messages travel over a local socket, through whatever manages a host, and later between agents and
//! a steward.

use std::net::Ipv4Addr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::Problem;
use crate::facts::{Facts, Plane};
use crate::keys::{PublicKey, Secret};
use crate::order::Envelope;

/// No message is longer; an order for 100,000 credentials is below it.
pub const LONGEST: u64 = 64 * 1024 * 1024;

/// What an agent is asked.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "kebab-case")]
pub enum Ask {
    /// What are you, and which order is in force?
    Status,
    /// Become this gateway of this estate. Refused when the agent is already another.
    Adopt {
        estate: String,
        estate_key: PublicKey,
        gateway: String,
        private_key: Secret,
        /// What may sign in the place of `estate_key`, when that is lost.
        #[serde(default)]
        recovery_key: Option<PublicKey>,
    },
    /// Carry this order out. A change of firewall or addresses is then held for this many seconds, and undone unless
    /// it is confirmed; 0 holds nothing.
    Carry {
        envelope: Envelope,
        #[serde(default)]
        hold: u16,
    },
    /// The order with this hash may stay: asked over a connection that was made after it came into force.
    Confirm { hash: String },
    /// The private key (PKCS#8) of the certificate that the next order names.
    Certify { private_key: Secret },
    /// Publish these lists, and answer from them, at the port that the order names.
    Publish { publications: Vec<Publication> },
    /// Which order is in force, and which revocations did you ever learn? For an estate that was loaded from a backup.
    Order,
    /// What have you seen after the news with this number?
    News { after: u64 },
    /// Who is connected?
    Sessions,
    /// End the sessions of this device.
    End { device: String, words: String },
    /// What is the host like?
    Facts,
    /// How is it going, as OpenMetrics text?
    Metrics,
    /// End all sessions and take no new ones for a while, so that what was seen can be collected to its end before the gateway
    /// is retired.
    Close,
    /// Undo everything on the host and forget the estate.
    Retire,
}

/// What it answers.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum Answer {
    Status(Box<Status>),
    Adopted,
    /// The order is in force.
    Carried(Receipt),
    /// The key is kept, or the lists are.
    Kept,
    Order {
        envelope: Option<Envelope>,
        revoked: std::collections::BTreeMap<String, crate::order::Revoked>,
    },
    News {
        items: Vec<News>,
        /// Whether there are more after the last.
        more: bool,
    },
    Sessions {
        sessions: Vec<Live>,
    },
    Ended {
        sessions: u64,
    },
    Facts(Box<Facts>),
    Metrics {
        text: String,
    },
    Closed,
    Retired,
    Refused(Problem),
}

/// The newest revocation list of one authority, and who answers for it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Publication {
    pub authority: String,
    /// The list, DER in base64.
    pub list: String,
    /// The short-lived certificate that signs answers, DER in base64, and its key as PKCS#8.
    pub responder: String,
    pub responder_key: Secret,
    /// Serial numbers that were issued, 16 octets each, base64 of all of them.
    pub issued: String,
}

/// What an agent is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Status {
    pub version: String,
    /// The estate's id and the gateway's name, once adopted.
    pub estate: Option<String>,
    pub gateway: Option<String>,
    /// 0 before the first.
    pub order: u64,
    pub order_hash: String,
    pub since: Timestamp,
    pub plane: Plane,
    /// How many revocations it knows.
    pub revoked: u64,
    /// Listeners that are up: name and port.
    pub listeners: Vec<(String, u16)>,
    /// Number of the newest news.
    pub newest: u64,
    /// SHA-256 of the program that runs; empty from an agent that does not say it yet.
    #[serde(default)]
    pub program: String,
    /// Until when the order in force waits for its confirmation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<Timestamp>,
    /// The number of the list that it publishes, by authority.
    #[serde(default)]
    pub published: std::collections::BTreeMap<String, u64>,
    /// The estate's key that it obeys.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub estate_key: Option<PublicKey>,
    /// What may sign in its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recovery_key: Option<PublicKey>,
}

/// Confirmation of an order.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Receipt {
    pub number: u64,
    pub hash: String,
    pub at: Timestamp,
    /// Sessions that the order ended.
    pub ended: u64,
    /// It is undone at this moment unless it is confirmed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<Timestamp>,
}

/// A session that is up now.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Live {
    pub number: u64,
    pub device: String,
    pub listener: String,
    pub from: String,
    pub inner: Ipv4Addr,
    pub opened: Timestamp,
    /// Bytes of inner packets from the device, and to it.
    pub received: u64,
    pub sent: u64,
    pub last_heard: Timestamp,
    pub software: String,
}

/// Something that an agent saw, kept until it is collected and after.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct News {
    /// From 1, without gaps.
    pub number: u64,
    pub at: Timestamp,
    #[serde(flatten)]
    pub event: NewsEvent,
}

/// What was seen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum NewsEvent {
    /// The agent began to run; sessions that it had before are over.
    Started {
        version: String,
    },
    Opened {
        session: u64,
        device: String,
        key: PublicKey,
        listener: String,
        from: String,
        inner: Ipv4Addr,
    },
    Moved {
        session: u64,
        to: String,
    },
    Ended {
        session: u64,
        device: String,
        reason: String,
        words: String,
        received: u64,
        sent: u64,
        last_heard: Timestamp,
    },
    Refused {
        device: Option<String>,
        from: String,
        reason: String,
    },
    Carried {
        order: u64,
    },
    /// Nobody confirmed it, so the one before is in force again.
    Undone {
        order: u64,
    },
    /// Of a version that knows more.
    #[serde(other)]
    Other,
}

/// The first line of a host's end of a managing connection, before its first answer; what stands before it, such as the
/// greeting of a shell, is nobody's.
pub const HELLO: &str = "yestrel manage 1";

/// What whoever manages a host is asked to do there. A place translates this to its own means; the lab's hosts take
/// it as it is, and a host that is reached over SSH runs the program that carries it out.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "manage", rename_all = "kebab-case")]
pub enum Manage {
    /// Collect the facts of the host.
    Facts,
    /// Have the agent there, running, and started again after a reboot. Nothing to do if it is. An agent of another
    /// estate is left alone.
    Install {
        version: String,
        #[serde(default)]
        estate: String,
        /// Leave an agent of another version as it is.
        #[serde(default)]
        keep_version: bool,
    },
    /// Ask the agent.
    Agent { ask: Ask },
    /// Stop the agent and start it again.
    Restart,
    /// What the agent wrote into its log: from `offset` on, or, without one, its newest lines.
    Log {
        #[serde(default)]
        offset: Option<u64>,
    },
    /// Have no agent there any more, nor any trace of one. `force`: also one that is of another estate than this.
    Remove {
        #[serde(default)]
        estate: String,
        #[serde(default)]
        force: bool,
    },
    /// Upgrade by yourself from this folder on the host, at these hours; `None`: never.
    Updates { schedule: Option<crate::schedule::Schedule> },
}

/// What became of the agent's program.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Installed {
    /// It was all there.
    Nothing,
    /// There was none before.
    New,
    /// Another program took the place of the one before.
    Upgraded,
    /// Another program lies on the host and waits for its hours.
    Waits,
    /// It was there and did not run, or was not set to run after a reboot.
    Mended,
}

/// What comes of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "managed", rename_all = "kebab-case")]
pub enum Managed {
    Facts(Box<Facts>),
    /// Whether anything had to be done.
    Installed {
        changed: bool,
        #[serde(default)]
        what: Option<Installed>,
    },
    Agent {
        answer: Box<Answer>,
    },
    Restarted,
    Log {
        text: String,
        /// Where the next piece begins.
        next: u64,
    },
    /// What was taken away; none of it is there any more.
    Removed {
        #[serde(default)]
        gone: Vec<String>,
    },
    Scheduled,
    Refused(Problem),
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn messages_come_back_as_they_went_and_carry_their_kind_in_front() {
        let asks = [
            (Ask::Status, r#"{"ask":"status"}"#),
            (Ask::News { after: 7 }, r#"{"ask":"news","after":7}"#),
            (
                Ask::End { device: "mara/laptop".into(), words: "noon".into() },
                r#"{"ask":"end","device":"mara/laptop","words":"noon"}"#,
            ),
        ];
        for (ask, text) in asks {
            assert_eq!(serde_json::to_string(&ask).unwrap(), text);
            let back: Ask = serde_json::from_str(text).unwrap();
            assert_eq!(format!("{back:?}"), format!("{ask:?}"));
        }
        let refused = Answer::Refused(Problem::refused("no").why("because").try_("this").try_("or that"));
        let back: Answer = serde_json::from_str(&serde_json::to_string(&refused).unwrap()).unwrap();
        assert_eq!(format!("{back:?}"), format!("{refused:?}"));
    }

    #[test]
    fn a_question_of_a_later_version_is_an_error_and_not_another_question() {
        assert!(serde_json::from_str::<Ask>(r#"{"ask":"dance"}"#).is_err());
        assert!(serde_json::from_str::<Ask>(r#"{"ask":"news"}"#).is_err());
    }

    #[test]
    fn a_private_key_in_a_message_does_not_print() {
        let ask = Ask::Adopt {
            estate: "e".into(),
            estate_key: PublicKey([1; 32]),
            gateway: "harbour".into(),
            private_key: Secret::new(vec![2; 32]),
            recovery_key: None,
        };
        assert!(format!("{ask:?}").contains("private_key: (secret)"));
    }

    proptest! {
        #[test]
        fn no_line_makes_a_reader_fail(line in "\\PC{0,200}") {
            let _ = serde_json::from_str::<Ask>(&line);
            let _ = serde_json::from_str::<Answer>(&line);
            let _ = serde_json::from_str::<News>(&line);
        }
    }
}
