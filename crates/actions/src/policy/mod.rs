//! Policies: the one list, how it is changed, and what it would say.
//!
//! | file | its job |
//! |---|---|
//! | `checked` | which registry would check a sign-in that is played |
//! | `asked` | what policies ask of people, which an order must say of them |
//! | `check` | checking the list |
//! | `doors` | by which tunnels somebody can come in where |
//! | `names` | policies follow what they name |
//! | `places` | everywhere that somebody could sign in |
//! | `pools` | which addresses listeners lease |
//! | `rehearse` | playing a sign-in through the list |
//! | `then` | the list and people as they are, or as they were |
//! | `week` | who could come in when, over a week |

mod asked;
mod check;
mod checked;
mod doors;
mod names;
mod places;
mod pools;
mod rehearse;
mod then;
mod week;

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use yestrel_core::estate::{GAP, Gateway, Group, Policy, Site, User};
use yestrel_core::policy::{Asks, Conditions, Effect, Listed, Rule, Terms, admits_somebody, form};
use yestrel_core::{Problem, Result, name};
use yestrel_store::queries::OpenedAt;
use yestrel_store::{Book, Query};

use crate::Context;

pub(crate) use asked::{Asked, in_order};
pub use check::{Checked, check};
pub use checked::CheckedBy;
pub(crate) use names::{follow, still_named};
pub(crate) use places::places;
pub use rehearse::{Fate, Played, Question, Replay, played, rehearse};
pub use week::{Spans, Week, WholeWeek, week};

/// Over how long matches are counted.
const COUNTED: SignedDuration = SignedDuration::from_hours(30 * 24);

/// A policy as the list shows it.
#[derive(Debug, Serialize)]
pub struct Line {
    /// From 1.
    pub place: usize,
    pub policy: Policy,
    /// Sessions that it admitted in the last 30 days, as far as gateways have said.
    pub matches: usize,
    pub last_match: Option<Timestamp>,
}

fn line(book: &Book<'_>, place: usize, policy: Policy) -> Result<Line> {
    let since = (book.now - COUNTED).to_string();
    let filters = [("policy", policy.name.as_str().into())];
    let (mut matches, mut last_match) = (0, None);
    let query = Query { filters: &filters, at_least: Some(("opened", &since)), ..Query::default() };
    book.each(&query, |session: OpenedAt| {
        matches += 1;
        last_match = last_match.max(Some(session.opened));
        Ok(true)
    })?;
    Ok(Line { place, policy, matches, last_match })
}

/// The list, in its order.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Line>> {
    context.read(|book| {
        let all = in_order(book)?.into_iter().enumerate();
        all.map(|(at, policy)| line(book, at + 1, policy)).collect()
    })
}

/// One policy.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, policy: &str) -> Result<Line> {
    context.read(|book| {
        let policy: Policy = book.need(policy)?;
        let before = in_order(book)?.iter().position(|one| one.name == policy.name).unwrap_or(0);
        line(book, before + 1, policy)
    })
}

/// Whether a policy that is on admits somebody, whoever that is.
pub(crate) fn some_admit(book: &Book<'_>) -> Result<bool> {
    Ok(in_order(book)?.iter().any(|policy| policy.active && policy.effect == Effect::Admit))
}

/// Where in the list a policy is to stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stand {
    First,
    Last,
    Before(String),
    After(String),
}

/// A place for a policy among the others; where there is no gap left, they are moved apart.
fn place(book: &Book<'_>, list: &mut [Policy], stand: &Stand) -> Result<i64> {
    let named = |name: &String| {
        let found = list.iter().position(|one| one.name == *name);
        found.map_or_else(|| book.need::<Policy>(name).map(|_| 0), Ok)
    };
    let at = match stand {
        Stand::First => 0,
        Stand::Last => list.len(),
        Stand::Before(name) => named(name)?,
        Stand::After(name) => named(name)? + 1,
    };
    let between = |list: &[Policy]| {
        let after = list.get(at).map(|one| one.place);
        match (at.checked_sub(1).map(|before| list[before].place), after) {
            (None, None) => Some(GAP),
            (Some(before), None) => before.checked_add(GAP),
            (None, Some(after)) => after.checked_sub(GAP),
            (Some(before), Some(after)) => Some(before + (after - before) / 2).filter(|place| *place > before),
        }
    };
    if let Some(place) = between(list) {
        return Ok(place);
    }
    for (one, number) in list.iter_mut().zip(1..) {
        one.place = GAP * number;
        book.put(one)?;
    }
    Ok(between(list).unwrap_or(GAP))
}

/// Checks that a policy can be kept: its conditions, and that what it names is there.
fn check_one(book: &Book<'_>, rule: &Rule) -> Result<()> {
    rule.check()?;
    if let Some(pool) = rule.terms.pool.filter(|pool| !pools::has_pool(book, pool).unwrap_or(true)) {
        return Err(Problem::refused(format!("no listener leases addresses of {pool}"))
            .why(
                "an inner address comes from the pool of the listener at which somebody comes in: it is a part of that",
            )
            .try_("yestrel listener list"));
    }
    for (asks, values) in rule.when.iter().chain(&rule.unless) {
        for value in values {
            match asks {
                Asks::User => book.need::<User>(value).map(drop)?,
                Asks::Group => book.need::<Group>(value).map(drop)?,
                Asks::Gateway => book.need::<Gateway>(value).map(drop)?,
                Asks::Site => book.need::<Site>(value).map(drop)?,
                Asks::Device => book.need::<yestrel_core::estate::Device>(value).map(drop)?,
                Asks::Registry => book.need::<yestrel_core::estate::Registry>(value).map(drop)?,
                _ => {}
            }
        }
    }
    Ok(())
}

fn room(count: usize) -> Result<()> {
    if count < form::MOST {
        return Ok(());
    }
    Err(Problem::refused(format!("the list has {} policies, and can have no more", form::MOST))
        .why("a list that nobody can read protects nobody")
        .try_("yestrel policy check   names those that can never decide"))
}

/// Whether a change may leave a list that lets nobody in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Leaves {
    /// Somebody is let in after it, where somebody was before.
    Somebody,
    Anything,
}

/// What is said where a change would leave a list that lets nobody in.
const SHUTS: &str = "with this no policy lets anybody in any more, once it is rolled out";

/// Whether a change was refused because of what it leaves.
#[must_use]
pub fn is_shut(problem: &Problem) -> bool {
    problem.error == SHUTS
}

/// Makes a change of the list, unless it leaves one that must not be left.
fn changes<R>(context: &mut Context, leaves: Leaves, change: impl FnOnce(&Book<'_>) -> Result<R>) -> Result<R> {
    context.write(|book| {
        let before = Asked::read(book)?.rules;
        let done = change(book)?;
        if leaves == Leaves::Somebody {
            let after = Asked::read(book)?.rules;
            if before != after && !admits_somebody(&after, book.now)? && admits_somebody(&before, book.now)? {
                return Err(Problem::refused(SHUTS)
                    .why("whoever comes to the end of the list is refused")
                    .try_("--yes, if that is meant"));
            }
        }
        Ok(done)
    })
}

/// Adds a policy to the list; gives its place, from 1.
///
/// # Errors
/// A bad or taken name, a condition that is none, or what it names is not there.
pub fn add(context: &mut Context, listed: &Listed, stand: &Stand, leaves: Leaves) -> Result<usize> {
    let rule = &listed.rule;
    name::check("policy", &rule.name)?;
    let created = context.now;
    changes(context, leaves, |book| {
        check_one(book, rule)?;
        let mut list = in_order(book)?;
        room(list.len())?;
        let place = place(book, &mut list, stand)?;
        let policy = Policy::new(listed.clone(), place, created);
        book.add(&policy)?;
        book.note("policy add", &policy.name, &detail(&policy))?;
        Ok(list.iter().filter(|one| one.place < policy.place).count() + 1)
    })
}

/// What is noted of a policy.
fn detail(policy: &Policy) -> String {
    let rule = policy.rule();
    let state = (!policy.active).then(|| "off".to_owned());
    let words: Vec<_> = rule.words().into_iter().chain(rule.terms.words()).chain(state).collect();
    format!("{} {}", rule.effect.word(), if words.is_empty() { "everybody".into() } else { words.join("; ") })
}

/// What a command changes of a policy; `None` and what is empty leave what is there.
#[derive(Debug, Default, Clone)]
pub struct Wish {
    pub effect: Option<Effect>,
    pub on: Option<bool>,
    pub about: Option<String>,
    /// In place of what it wants on these subjects; with no value, it does not ask any more.
    pub when: Conditions,
    pub unless: Conditions,
    pub terms: Option<Terms>,
}

impl Wish {
    /// Whether nothing would change.
    #[must_use]
    pub fn is_none(&self) -> bool {
        let Self { effect, on, about, when, unless, terms } = self;
        let none = effect.is_none() && on.is_none() && about.is_none() && terms.is_none();
        none && when.is_empty() && unless.is_empty()
    }
}

/// Changes a policy.
///
/// # Errors
/// There is none of that name, nothing was said, or as [`add`].
pub fn change(context: &mut Context, policy: &str, wish: &Wish, leaves: Leaves) -> Result<Policy> {
    changes(context, leaves, |book| {
        let mut policy: Policy = book.need(policy)?;
        let (before, was_on) = (detail(&policy), policy.active);
        let rule = policy.rule();
        policy.effect = wish.effect.unwrap_or(policy.effect);
        policy.active = wish.on.unwrap_or(policy.active);
        policy.about = wish.about.clone().or(policy.about);
        for (all, wanted) in [(&mut policy.wants, &wish.when), (&mut policy.bars, &wish.unless)] {
            for (asks, values) in wanted {
                match values.is_empty() {
                    true => drop(all.remove(asks)),
                    false => drop(all.insert(*asks, values.clone())),
                }
            }
        }
        if let Some(terms) = &wish.terms {
            policy.terms = terms.clone();
        }
        check_one(book, &policy.rule())?;
        book.put(&policy)?;
        let state = |on: bool| if on { "on" } else { "off" };
        let said = match policy.rule() == rule && was_on != policy.active {
            true => format!("{} -> {}", state(was_on), state(policy.active)),
            false => format!("{before} -> {}", detail(&policy)),
        };
        book.note("policy change", &policy.name, &said)?;
        Ok(policy)
    })
}

/// Moves a policy within the list; gives its place before and after, from 1.
///
/// # Errors
/// There is none of that name.
pub fn move_to(context: &mut Context, policy: &str, stand: &Stand, leaves: Leaves) -> Result<(usize, usize)> {
    if matches!(stand, Stand::Before(other) | Stand::After(other) if other == policy) {
        return Err(Problem::words(format!("{policy} cannot stand beside itself")).try_("yestrel policy list"));
    }
    changes(context, leaves, |book| {
        let mut moved: Policy = book.need(policy)?;
        let mut list = in_order(book)?;
        let before = list.iter().position(|one| one.name == moved.name).unwrap_or(0);
        list.remove(before);
        moved.place = place(book, &mut list, stand)?;
        book.put(&moved)?;
        let after = list.iter().filter(|one| one.place < moved.place).count();
        book.note("policy move", &moved.name, &format!("place {} -> {}", before + 1, after + 1))?;
        Ok((before + 1, after + 1))
    })
}

/// Removes a policy.
///
/// # Errors
/// There is none of that name.
pub fn remove(context: &mut Context, policy: &str, leaves: Leaves) -> Result<()> {
    changes(context, leaves, |book| {
        let policy: Policy = book.need(policy)?;
        book.remove::<Policy>(&policy.name)?;
        book.note("policy remove", &policy.name, &detail(&policy))
    })
}

/// The list as a file.
///
/// # Errors
/// The estate cannot be read.
pub fn export(context: &mut Context) -> Result<String> {
    context.read(|book| Ok(form::write(&listed(book)?)))
}

fn listed(book: &Book<'_>) -> Result<Vec<Listed>> {
    Ok(in_order(book)?.iter().map(Policy::listed).collect())
}

/// Puts a list in the place of the one that is there; gives what changes.
///
/// # Errors
/// A policy of it cannot be kept; then all is as before.
pub fn import(context: &mut Context, text: &str, leaves: Leaves) -> Result<Vec<(&'static str, String)>> {
    let wanted = form::read(text)?;
    changes(context, leaves, |book| {
        let before = in_order(book)?;
        let old: Vec<_> = before.iter().map(Policy::listed).collect();
        let changes = form::difference(&old, &wanted);
        for one in &wanted {
            let inside =
                |problem: Problem| Problem { error: format!("policy {}: {}", one.rule.name, problem.error), ..problem };
            check_one(book, &one.rule).map_err(inside)?;
        }
        for gone in before.iter().filter(|old| !wanted.iter().any(|one| one.rule.name == old.name)) {
            book.remove::<Policy>(&gone.name)?;
        }
        for (listed, number) in wanted.iter().zip(1..) {
            let was = before.iter().find(|old| old.name == listed.rule.name);
            let created = was.map_or(book.now, |was| was.created);
            let policy = Policy::new(listed.clone(), GAP * number, created);
            if was.is_none_or(|was| was.place != policy.place || was.listed() != *listed) {
                book.put(&policy)?;
            }
        }
        if !changes.is_empty() {
            book.note("policy import", "", &yestrel_core::shown::counted(changes.len(), "change"))?;
        }
        Ok(changes)
    })
}

/// Policies of a file, as they would decide.
///
/// # Errors
/// It cannot be read.
pub fn rules_of(text: &str) -> Result<Vec<Rule>> {
    Ok(form::read(text)?.into_iter().filter(|one| one.on).map(|one| one.rule).collect())
}
