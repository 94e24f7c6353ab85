//! What commands, agents, hosts and devices say to each other: one JSON object a line, a question and its answer.
//!
//! Each question is a type that names the type of its answer, so that an answer to something else cannot be taken for one.
//! The same messages travel over a local socket, through whatever manages a host, and later between agents and a steward.
//!
//! | file | holds |
//! |---|---|
//! | `question` | questions and answers as such |
//! | `agent` | what an agent is asked |
//! | `host` | what whoever manages a host is asked |
//! | `device` | what a tunnel on a device is asked |
//! | `news` | what an agent saw |

pub mod agent;
pub mod device;
pub mod host;
mod news;
mod question;

pub use news::{News, NewsEvent};
pub(crate) use question::questions;
pub use question::{Answered, Question, Reply};

/// No message is longer; an order for 100,000 credentials is below it.
pub const LONGEST: u64 = 64 * 1024 * 1024;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Problem;
    use crate::keys::{PublicKey, Secret};
    use proptest::prelude::*;

    #[test]
    fn questions_come_back_as_they_went_and_carry_their_kind_in_front() {
        let asks: [(agent::Ask, &str); 3] = [
            (agent::Status.into(), r#"{"ask":"status"}"#),
            (agent::NewsAfter { after: 7 }.into(), r#"{"ask":"news-after","after":7}"#),
            (
                agent::EndSessions { device: "mara/laptop".into(), words: "noon".into() }.into(),
                r#"{"ask":"end-sessions","device":"mara/laptop","words":"noon"}"#,
            ),
        ];
        for (ask, text) in asks {
            assert_eq!(serde_json::to_string(&ask).unwrap(), text);
            let back: agent::Ask = serde_json::from_str(text).unwrap();
            assert_eq!(format!("{back:?}"), format!("{ask:?}"));
        }
    }

    #[test]
    fn an_answer_is_read_as_what_was_asked_for_or_not_at_all() {
        let question = agent::EndSessions { device: "mara/laptop".into(), words: String::new() };
        let answered = Answered::to(&question, Ok(3));
        assert_eq!(answered.read::<agent::EndSessions>().unwrap(), 3);
        assert!(answered.read::<agent::Status>().unwrap_err().error.contains("something else"));
        let no = Problem::refused("no").why("because").try_("this").try_("or that");
        let refused = Answered::to(&question, Err(no.clone()));
        assert_eq!(refused.read::<agent::Status>().unwrap_err(), no, "a refusal answers everything");
        let travelled: Answered = serde_json::from_str(&serde_json::to_string(&refused).unwrap()).unwrap();
        assert_eq!(travelled.read::<agent::EndSessions>().unwrap_err(), no);
    }

    #[test]
    fn a_question_of_a_later_version_is_an_error_and_not_another_question() {
        assert!(serde_json::from_str::<agent::Ask>(r#"{"ask":"dance"}"#).is_err());
        assert!(serde_json::from_str::<agent::Ask>(r#"{"ask":"news-after"}"#).is_err());
    }

    #[test]
    fn a_private_key_in_a_message_does_not_print() {
        let ask = agent::Adopt {
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
            let _ = serde_json::from_str::<agent::Ask>(&line);
            let _ = serde_json::from_str::<host::Ask>(&line);
            let _ = serde_json::from_str::<device::Ask>(&line);
            let _ = serde_json::from_str::<Answered>(&line).map(|answered| answered.read::<agent::Status>());
            let _ = serde_json::from_str::<News>(&line);
        }
    }
}
