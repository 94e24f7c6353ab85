//! Second factors that policies ask for (RFC 6238): who was asked in which session, who has answered, when again, and for how long nobody is
//! asked who answered wrongly too often.

use std::collections::HashMap;

use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;
use yestrel_core::account::{locks_out, right_code, step};
use yestrel_core::admission::{Reason, Refusal};
use yestrel_core::keys::{PublicKey, Secret};
use yestrel_core::moment;
use yestrel_core::policy::Terms;

/// How long a session may owe its answer.
const PATIENCE: SignedDuration = SignedDuration::from_secs(120);
/// Wrong answers that end a session.
const WRONG: u8 = 3;
/// What is asked for.
const QUESTION: &str = "the code of your authenticator, six digits";

/// What became of an answer.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Given {
    Right,
    /// With what is asked now.
    Wrong(String),
    Over(Refusal),
}

#[derive(Debug, Default)]
struct State {
    /// When, and in which session, the right answer came last.
    answered: Option<(Timestamp, u64)>,
    /// Since when, and in which session, one is waited for; and how many wrong ones came in it.
    asked: Option<(Timestamp, u64)>,
    wrong: u8,
    /// Whether the device was sent the question.
    told: bool,
    /// The step of the newest code that was used.
    used: i64,
    failures: u32,
    lock_outs: u32,
    locked: Option<Timestamp>,
}

impl State {
    fn owes(&self, session: Option<u64>, terms: &Terms, now: Timestamp) -> bool {
        // What was answered by a clock that was set back since is nothing to go by.
        let Some((at, of)) = self.answered.filter(|(at, _)| *at <= now) else { return true };
        match terms.again_after {
            Some(seconds) => at.checked_add(SignedDuration::from_secs(seconds.into())).is_ok_and(|until| until <= now),
            None => session != Some(of),
        }
    }

    fn locked_out(&self, now: Timestamp) -> Option<Refusal> {
        let until = self.locked.filter(|until| *until > now)?;
        let words = format!("too many wrong answers: nobody is asked before {}", moment(until));
        Some(Refusal { reason: Reason::LockedOut, words })
    }

    /// The session begins to owe an answer, if it does not already.
    fn begin(&mut self, session: u64, now: Timestamp) -> Timestamp {
        match self.asked {
            Some((since, of)) if of == session && since <= now => since,
            _ => {
                (self.asked, self.wrong, self.told) = (Some((now, session)), 0, false);
                now
            }
        }
    }
}

/// By the identities of credentials: at most as many as an order admits with a second factor.
#[derive(Debug, Default)]
pub(crate) struct Answers(Mutex<HashMap<PublicKey, State>>);

impl Answers {
    /// Whether somebody owes an answer, in this session or, where there is none yet, at its beginning.
    pub fn owes(&self, identity: &PublicKey, session: Option<u64>, terms: &Terms, now: Timestamp) -> bool {
        terms.second_factor && self.0.lock().get(identity).is_none_or(|state| state.owes(session, terms, now))
    }

    /// Whether somebody who comes in may be asked.
    ///
    /// # Errors
    /// Too many wrong answers came.
    pub fn may_be_asked(&self, identity: &PublicKey, terms: &Terms, now: Timestamp) -> Result<(), Refusal> {
        let locked = || self.0.lock().get(identity).and_then(|state| state.locked_out(now));
        if terms.second_factor { locked().map_or(Ok(()), Err) } else { Ok(()) }
    }

    /// Whether somebody has answered rightly since the agent began to run.
    pub fn were_given(&self, identity: &PublicKey) -> bool {
        self.0.lock().get(identity).is_some_and(|state| state.answered.is_some())
    }

    /// When an answer that stands is none any more, where that is so after a time.
    pub fn lapses(&self, identity: &PublicKey, terms: &Terms) -> Option<Timestamp> {
        let (at, _) = self.0.lock().get(identity)?.answered?;
        at.checked_add(SignedDuration::from_secs(terms.again_after?.into())).ok()
    }

    /// Until when a session may go on as it is: until its patience ends where it owes an answer, else until it is asked again.
    ///
    /// # Errors
    /// It has not answered for too long, or may not answer now.
    pub fn until(
        &self,
        identity: &PublicKey,
        session: u64,
        terms: &Terms,
        now: Timestamp,
    ) -> Result<Option<Timestamp>, Refusal> {
        if !terms.second_factor {
            return Ok(None);
        }
        let mut all = self.0.lock();
        let state = all.entry(*identity).or_default();
        if !state.owes(Some(session), terms, now) {
            let again = state.answered.zip(terms.again_after);
            return Ok(again.and_then(|((at, _), after)| at.checked_add(SignedDuration::from_secs(after.into())).ok()));
        }
        if let Some(refusal) = state.locked_out(now) {
            return Err(refusal);
        }
        let until = state.begin(session, now).checked_add(PATIENCE).unwrap_or(Timestamp::MAX);
        if until <= now {
            let words = "nobody answered with the code of a second factor".into();
            return Err(Refusal { reason: Reason::Policy, words });
        }
        Ok(Some(until))
    }

    /// What the device of a session is to be asked, where it owes an answer and was not asked yet.
    pub fn question(&self, identity: &PublicKey, session: u64, terms: &Terms, now: Timestamp) -> Option<&'static str> {
        if !self.owes(identity, Some(session), terms, now) {
            return None;
        }
        let mut all = self.0.lock();
        let state = all.entry(*identity).or_default();
        state.begin(session, now);
        (!std::mem::replace(&mut state.told, true)).then_some(QUESTION)
    }

    /// An answer came in a session.
    pub fn give(&self, identity: &PublicKey, session: u64, secret: &Secret, code: &str, now: Timestamp) -> Given {
        let mut all = self.0.lock();
        let state = all.entry(*identity).or_default();
        if let Some(refusal) = state.locked_out(now) {
            return Given::Over(refusal);
        }
        state.begin(session, now);
        // A code of later than now was taken before the clock was set back: by this clock none was.
        let used = if state.used > step(now) + 1 { 0 } else { state.used };
        match right_code(secret, code, now, used) {
            Ok(step) => {
                *state = State { answered: Some((now, session)), used: step, ..State::default() };
                Given::Right
            }
            Err(what) => {
                (state.wrong, state.failures) = (state.wrong + 1, state.failures + 1);
                if let Some(locked) = locks_out(state.failures, state.lock_outs) {
                    (state.failures, state.lock_outs) = (0, state.lock_outs + 1);
                    state.locked = now.checked_add(locked).ok();
                    if let Some(refusal) = state.locked_out(now) {
                        return Given::Over(refusal);
                    }
                }
                match WRONG.saturating_sub(state.wrong) {
                    0 => Given::Over(Refusal { reason: Reason::Policy, words: format!("wrong {what}, {WRONG} times") }),
                    left => Given::Wrong(format!(
                        "{QUESTION}: that was a wrong {what}; {left} more {}",
                        if left == 1 { "try" } else { "tries" }
                    )),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_core::account::code;

    const WHO: PublicKey = PublicKey([7; 32]);

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(1_900_000_000 + seconds).unwrap()
    }

    fn terms(again_after: Option<u32>) -> Terms {
        Terms { second_factor: true, again_after, ..Terms::default() }
    }

    #[test]
    fn an_answer_is_owed_in_each_session_or_after_so_long() {
        let (answers, secret) = (Answers::default(), Secret::new(vec![5; 20]));
        let (once, daily) = (terms(None), terms(Some(3600)));
        assert!(!answers.owes(&WHO, None, &Terms::default(), at(0)));
        assert!(answers.owes(&WHO, None, &once, at(0)));
        assert_eq!(answers.until(&WHO, 1, &once, at(0)), Ok(Some(at(120))));
        assert_eq!(answers.question(&WHO, 1, &once, at(1)), Some(QUESTION));
        assert_eq!(answers.question(&WHO, 1, &once, at(2)), None, "once");
        assert!(answers.until(&WHO, 1, &once, at(119)).is_ok());
        assert_eq!(answers.until(&WHO, 1, &once, at(120)).unwrap_err().reason, Reason::Policy);
        let right = code(&secret, step(at(30)));
        assert_eq!(answers.give(&WHO, 1, &secret, &right, at(30)), Given::Right);
        assert!(!answers.owes(&WHO, Some(1), &once, at(40)) && answers.owes(&WHO, Some(2), &once, at(40)));
        assert!(!answers.owes(&WHO, Some(2), &daily, at(40)), "not again so soon, in whatever session");
        assert_eq!(answers.until(&WHO, 2, &daily, at(40)), Ok(Some(at(30 + 3600))));
        assert!(answers.owes(&WHO, Some(2), &daily, at(30 + 3600)));
        assert_eq!(answers.question(&WHO, 2, &daily, at(4000)), Some(QUESTION));
        // A clock that is set back: what it said before does not keep anybody out, or in.
        assert!(answers.owes(&WHO, Some(2), &daily, at(0)));
        let (ahead, back) = (code(&secret, step(at(90_000))), code(&secret, step(at(60))));
        assert_eq!(answers.give(&WHO, 2, &secret, &ahead, at(90_000)), Given::Right);
        assert_eq!(answers.give(&WHO, 2, &secret, &back, at(60)), Given::Right);
        assert_eq!(
            answers.give(&WHO, 1, &secret, &right, at(30)),
            Given::Wrong(format!("{QUESTION}: that was a wrong code: it was used already; 2 more tries"))
        );
        // The same code is good once, also in another session.
        assert!(
            matches!(answers.give(&WHO, 3, &secret, &right, at(31)), Given::Wrong(words) if words.contains("used"))
        );
    }

    #[test]
    fn who_answers_wrongly_is_out_and_after_a_while_not_asked_at_all() {
        let (answers, secret) = (Answers::default(), Secret::new(vec![5; 20]));
        let wrong = |session, seconds| answers.give(&WHO, session, &secret, "x", at(seconds));
        assert!(matches!(wrong(1, 0), Given::Wrong(words) if words.contains("2 more tries")));
        assert!(matches!(wrong(1, 1), Given::Wrong(words) if words.contains("1 more try")));
        assert!(matches!(wrong(1, 2), Given::Over(Refusal { reason: Reason::Policy, .. })));
        // Another session begins anew with its tries, and not with the count of all.
        assert!(matches!(wrong(2, 3), Given::Wrong(_)));
        assert!(matches!(wrong(2, 4), Given::Over(Refusal { reason: Reason::LockedOut, .. })));
        let right = code(&secret, step(at(60)));
        assert!(matches!(answers.give(&WHO, 3, &secret, &right, at(60)), Given::Over(_)), "not even the right one");
        assert_eq!(answers.until(&WHO, 3, &terms(None), at(60)).unwrap_err().reason, Reason::LockedOut);
        let later = 4 + 15 * 60;
        let right = code(&secret, step(at(later)));
        assert_eq!(answers.give(&WHO, 4, &secret, &right, at(later)), Given::Right);
        assert!(
            matches!(answers.give(&WHO, 4, &secret, "x", at(later)), Given::Wrong(_)),
            "counted from the beginning"
        );
    }
}
