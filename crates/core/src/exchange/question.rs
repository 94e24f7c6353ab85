//! Questions and answers as such.

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{Problem, Result};

/// Something that can be asked, with the type of its answer.
pub trait Question: Clone + Into<Self::Set> {
    /// What a good answer holds.
    type Answer: Serialize + DeserializeOwned;
    /// All questions that the same end answers.
    type Set: Serialize + DeserializeOwned + Clone + Send + 'static;
}

/// An answer on its way: what was asked for, or why not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reply<A> {
    Answer(A),
    Refused(Problem),
}

/// An answer of some question, as bytes of JSON carry it. Only [`Answered::to`] makes one, so that it fits its question.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Answered(Reply<Value>);

impl Answered {
    /// The answer to a question.
    #[must_use]
    pub fn to<Q: Question>(_: &Q, result: Result<Q::Answer>) -> Self {
        let value = result.and_then(|answer| {
            serde_json::to_value(answer)
                .map_err(|error| Problem::failed("the answer cannot be written").why(error.to_string()))
        });
        Self(match value {
            Ok(value) => Reply::Answer(value),
            Err(problem) => Reply::Refused(problem),
        })
    }

    /// A refusal, whatever was asked.
    #[must_use]
    pub fn refused(problem: Problem) -> Self {
        Self(Reply::Refused(problem))
    }

    /// The answer, read as that of a question.
    ///
    /// # Errors
    /// The refusal; or the other end is of another version and answers something else.
    pub fn read<Q: Question>(&self) -> Result<Q::Answer> {
        match &self.0 {
            Reply::Refused(problem) => Err(problem.clone()),
            Reply::Answer(value) => Q::Answer::deserialize(value).map_err(|error| {
                Problem::failed("the other end answers something else than was asked")
                    .why(format!("it is of another version: {error}"))
                    .try_("yestrel rollout   brings agents to the version of the command")
            }),
        }
    }
}

/// Makes the set of all questions that one end answers, and ties each to its answer.
macro_rules! questions {
    ($(#[$about:meta])* $set:ident { $($name:ident -> $answer:ty),* $(,)? }) => {
        $(#[$about])*
        #[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
        #[serde(tag = "ask", rename_all = "kebab-case")]
        pub enum $set {
            $($name($name)),*
        }
        $(
            impl From<$name> for $set {
                fn from(question: $name) -> Self {
                    Self::$name(question)
                }
            }

            impl $crate::exchange::Question for $name {
                type Answer = $answer;
                type Set = $set;
            }
        )*
    };
}
pub(crate) use questions;
