//! Taking back changes that no gateway has seen.

use yestrel_core::audit::HistoryRow;
use yestrel_core::undo::{self, Step};
use yestrel_core::{Problem, Result};
use yestrel_store::Book;

use crate::context::Context;

/// What can be taken back, of everything from one row of the history on.
#[derive(Debug)]
pub struct Undoing {
    /// From which row on, when the command that wrote it wrote earlier ones too.
    pub from: u64,
    /// The newest row of the history.
    pub newest: u64,
    /// Rows whose changes are taken back, the newest first.
    pub back: Vec<HistoryRow>,
    /// The newest change that stays, why, and what to do in its place.
    pub stays: Vec<(HistoryRow, String, Option<String>)>,
}

/// What taking back everything from `number` on would be; nothing: the last change.
///
/// # Errors
/// There is no such row.
pub fn look(context: &mut Context, number: Option<u64>) -> Result<Undoing> {
    context.read(|book| Ok(judged(book, number)?.1))
}

fn judged(book: &Book<'_>, number: Option<u64>) -> Result<(Vec<Step>, Undoing, Vec<usize>)> {
    let newest = book.history_head()?.map_or(0, |(number, _)| number);
    let mut steps = book.steps_from(number.unwrap_or(newest))?;
    // The last change is looked for behind what changed nothing: a backup, a rollout.
    while number.is_none()
        && steps.len() < 100
        && steps.first().is_some_and(undo::is_passing)
        && steps[0].rows[0].number > 1
    {
        steps = book.steps_from(steps[0].rows[0].number - 1)?;
    }
    let verdict = undo::judge(&steps);
    let from = steps.first().and_then(|step| step.rows.first()).map_or(0, |row| row.number);
    let back = verdict.back.iter().flat_map(|at| steps[*at].rows.iter().rev().cloned()).collect();
    Ok((steps, Undoing { from, newest, back, stays: verdict.stays }, verdict.back))
}

/// Takes back everything from `number` on, as one change; or, when any of it stays, nothing. `newest`: the newest row of what the
/// person was shown.
///
/// # Errors
/// Something of it stays, was changed since, or is needed by what remains.
pub fn undo(context: &mut Context, number: Option<u64>, newest: u64) -> Result<Undoing> {
    context.write(|book| {
        if book.history_head()?.is_some_and(|(head, _)| head != newest) {
            return Err(Problem::refused("something has been changed meanwhile")
                .why("another command wrote into this estate since it was looked at")
                .try_("the same command again"));
        }
        let (steps, undoing, back) = judged(book, number)?;
        if let Some(problem) = refused(&undoing) {
            return Err(problem);
        }
        book.defer_references()?;
        for at in back {
            for change in steps[at].changes.iter().flatten().rev() {
                let row = &steps[at].rows[0];
                let there = book.fields(&change.table, &change.name)?;
                let fields = undo::taken_back(change, there.as_ref())
                    .map_err(|problem| problem.try_(format!("yestrel estate undo {}", row.number + 1)))?;
                if fields != there {
                    book.set_fields(&change.table, &change.name, fields).map_err(|problem| {
                        let why = format!("row {}, {} {}: {}", row.number, row.what, row.subject, problem.error);
                        Problem { error: "this cannot be taken back".into(), ..problem }.why(why)
                    })?;
                }
            }
        }
        let numbers: Vec<_> = undoing.back.iter().map(|row| row.number).collect();
        let said: Vec<_> = undoing.back.iter().take(10).map(|row| format!("{} {}", row.what, row.subject)).collect();
        let more = undoing.back.len().saturating_sub(10);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        book.note("estate undo", &span(&numbers), &format!("{}{more}", said.join(", ")))?;
        Ok(undoing)
    })
}

/// Why none of it is taken back; `None`: all of it can be.
#[must_use]
pub fn refused(undoing: &Undoing) -> Option<Problem> {
    let Some((row, why, instead)) = undoing.stays.first() else {
        let nothing = || {
            Problem::refused("there is nothing to take back")
                .why("what was done from there on did not change the estate")
                .try_("yestrel estate history")
        };
        return undoing.back.is_empty().then(nothing);
    };
    let more = undoing.stays.len() - 1;
    let more = if more > 0 { format!(", and {more} more from row {} on", undoing.from) } else { String::new() };
    let mut problem =
        Problem::refused(format!("row {}, {} {}, cannot be taken back{more}", row.number, row.what, row.subject))
            .why(format!("{why}; nothing was changed"));
    if let Some(instead) = instead {
        problem = problem.try_(instead);
    }
    // The newest that stays is the first: everything after it can go.
    if undoing.back.iter().any(|back| back.number > row.number) {
        problem = problem.try_(format!("yestrel estate undo {}   takes back what came after it", row.number + 1));
    }
    Some(problem)
}

/// Row numbers, the newest first, in words.
fn span(numbers: &[u64]) -> String {
    match (numbers.last(), numbers.first()) {
        (Some(first), Some(last)) if first != last => format!("{first}-{last}"),
        (Some(one), _) => one.to_string(),
        _ => String::new(),
    }
}
