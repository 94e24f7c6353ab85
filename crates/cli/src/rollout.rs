//! `yestrel rollout`

use clap::Args;
use yestrel_actions::Context;
use yestrel_actions::carry::{self, Changed};
use yestrel_actions::leftover::{self, Old};
use yestrel_actions::rollout::{self, Outcome, OutcomeState, Plan};
use yestrel_core::exchange::host::Installed;
use yestrel_core::findings::Grade;
use yestrel_core::order::Change;
use yestrel_core::{Kind, Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, FormatName, Output, Table};
use crate::unhurried::Unhurried;

#[derive(Args)]
#[command(after_help = "Example:\n  yestrel rollout --preview\n  yestrel rollout harbour")]
pub struct Arguments {
    /// Only these gateways
    gateways: Vec<String>,
    /// Show what would change, and change nothing
    #[arg(long)]
    preview: bool,
    /// Every line of what would change, however many there are
    #[arg(long)]
    all: bool,
    /// Carry the newest order even where it is confirmed: for a host that was replaced
    #[arg(long)]
    again: bool,
    /// How long a change of firewall or addresses is held for its confirmation over a new connection; 0s holds nothing
    #[arg(long, value_name = "DURATION", default_value = "60s", value_parser = hold)]
    hold: u16,
    /// Remove an agent of another estate from the host first, when that estate is gone
    #[arg(long)]
    take_over: bool,
    /// Put this program in the agent's place now: whatever its schedule says, and also another build of the same version
    #[arg(long)]
    upgrade_now: bool,
}

fn hold(text: &str) -> std::result::Result<u16, String> {
    crate::words::seconds(text)
        .ok()
        .filter(|seconds| *seconds <= 3600)
        .ok_or_else(|| "0s to 1h, such as 60s or 2m".into())
}

pub fn run(global: &Global, arguments: &Arguments) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    let mut plans = rollout::preview(&mut context, &arguments.gateways)?;
    if plans.is_empty() {
        output.say("no gateways yet; yestrel gateway create NAME --host HOST --dialled NAME");
        return Ok(());
    }
    if arguments.preview && arguments.upgrade_now {
        for (gateway, words) in rollout::upgrades(&mut context, &arguments.gateways)? {
            for plan in plans.iter_mut().filter(|plan| plan.gateway == gateway) {
                plan.nothing_to_do = false;
                plan.changes.push(Change { verb: "agent", words: words.clone() });
            }
        }
    }
    if arguments.preview {
        show_plans(output, &plans, arguments.all);
        return Ok(());
    }
    let work = plans
        .iter()
        .filter(|plan| !plan.nothing_to_do || arguments.again || arguments.take_over || arguments.upgrade_now)
        .count() as u64;
    if work > 0 {
        if !global.quiet && output.format == FormatName::Text {
            show_plans(output, &plans, arguments.all);
        }
        let mut unknown: Vec<String> = plans.iter().flat_map(|plan| plan.unknown.clone()).collect();
        unknown.sort();
        unknown.dedup();
        if !unknown.is_empty() {
            let count = crate::words::counted(unknown.len(), "device");
            ask::confirm(
                global.yes,
                &format!(
                    "this throws out {count} of which this estate knows nothing, admitted after the backup from which it was loaded{}",
                    crate::words::shown(&unknown)
                ),
            )?;
        } else if !global.yes && ask::somebody_there() {
            ask::confirm(false, "this changes the gateways named above")?;
        }
    }
    let bar = global.progress(work, "rollout");
    if arguments.take_over {
        ask::confirm(
            global.yes,
            "this removes agents of other estates from the hosts named above, with all that they admit",
        )?;
    }
    let _unhurried = Unhurried::begin();
    let how = rollout::How {
        only: None,
        again: arguments.again || arguments.take_over || arguments.upgrade_now,
        hold: arguments.hold,
        take_over: arguments.take_over,
        upgrade_now: arguments.upgrade_now,
    };
    let asked = leftover::ask(&mut context)?;
    let outcomes = rollout::rollout(&mut context, &arguments.gateways, &how)?;
    bar.finish_and_clear();
    let reported = report(output, false, &outcomes);
    say_old(output, &leftover::clean(&mut context, asked)?);
    reported
}

/// What became of agents that were left behind.
fn say_old(output: Output, old: &[Old]) {
    for one in old {
        match one.problem {
            None => output.say(&one.line()),
            Some(_) => output.note(&one.line()),
        }
    }
}

/// Brings a change that cannot wait to the gateways that it affects, within the command that made it: of what waits for them, this change
/// alone, or `everything`.
pub fn carry<T>(global: &Global, context: &mut Context, changed: &Changed<T>, everything: bool) -> Result<()> {
    carry_as(global.output(), false, context, changed, everything)
}

/// The same beside an answer of its own: what became of it at the gateways is then no answer, but remarks.
pub fn carry_beside<T>(global: &Global, context: &mut Context, changed: &Changed<T>, everything: bool) -> Result<()> {
    carry_as(global.output(), global.output().is_for_programs(), context, changed, everything)
}

fn carry_as<T>(
    output: Output,
    in_remarks: bool,
    context: &mut Context,
    changed: &Changed<T>,
    everything: bool,
) -> Result<()> {
    let asked = leftover::ask(context)?;
    let outcomes = carry::carry(context, changed, everything, &mut |plans| {
        if !output.quiet && output.format == FormatName::Text {
            show_plans(output, plans, false);
        }
    })?;
    let mut reported = if outcomes.is_empty() { Ok(()) } else { report(output, in_remarks, &outcomes) };
    let old = leftover::clean(context, asked)?;
    say_old(output, &old);
    if let (Ok(()), Some(one)) = (&reported, old.iter().find(|one| one.problem.is_some())) {
        reported =
            Err(Problem::partly(format!("the old agent of {} on {} does not know of it", one.gateway, one.host))
                .why("its host does not answer; it goes on letting in whom its last order names")
                .try_("yestrel rollout   again, when that host answers: the agent is removed then")
                .try_(format!("yestrel host remove {} --destroyed   if the machine is no more", one.host)));
    }
    if !everything {
        for (gateway, count) in carry::waiting(context, changed)? {
            let changes = if count == 1 { "1 change waits" } else { &format!("{count} changes wait") };
            output.note(&format!("{changes} for {gateway} besides; yestrel rollout --preview   shows what"));
        }
    }
    reported
}

/// Changes of one kind at one gateway that are shown before the rest is counted.
const SHOWN: usize = 10;

fn show_plans(output: Output, plans: &[Plan], all: bool) {
    if output.format != FormatName::Text {
        let mut table = Table::new(&["gateway", "from", "to", "verb", "words"], "");
        for plan in plans {
            for change in &plan.changes {
                table.row(vec![
                    (&plan.gateway).into(),
                    plan.from.into(),
                    plan.to.into(),
                    change.verb.into(),
                    (&change.words).into(),
                ]);
            }
        }
        output.table(&table);
        return;
    }
    let widest = plans.iter().map(|plan| plan.gateway.len()).max().unwrap_or(0);
    let mut text = String::new();
    for plan in plans {
        let name = &plan.gateway;
        if plan.nothing_to_do {
            text.push_str(&format!("{name:widest$}  nothing to do\n"));
            continue;
        }
        text.push_str(&format!("{name:widest$}  order {} -> {}\n", plan.from, plan.to));
        // Of one kind together, in the order in which each kind comes first.
        let mut kinds: Vec<(&str, Vec<&str>)> = Vec::new();
        for change in &plan.changes {
            match kinds.iter_mut().find(|(verb, _)| *verb == change.verb) {
                Some((_, lines)) => lines.push(&change.words),
                None => kinds.push((change.verb, vec![&change.words])),
            }
        }
        for (verb, lines) in kinds {
            // One more line is no shorter than saying that there is one more.
            let shown = if all || lines.len() <= SHOWN + 1 { lines.len() } else { SHOWN };
            for words in &lines[..shown] {
                text.push_str(&format!("  {verb:7} {}\n", yestrel_core::shown::line(words)));
            }
            if shown < lines.len() {
                text.push_str(&format!(
                    "  {verb:7} and {} more; yestrel rollout --preview --all\n",
                    lines.len() - shown
                ));
            }
        }
    }
    output.write(&text);
}

fn report(output: Output, in_remarks: bool, outcomes: &[Outcome]) -> Result<()> {
    let mut table = Table::new(&["gateway", "order", "state", "sessions ended", "why"], "");
    for outcome in outcomes {
        let grade = match outcome {
            Outcome { problem: Some(_), .. } => Grade::Bad,
            Outcome { unkept: Some(_), .. } | Outcome { unpublished: Some(_), .. } => Grade::Poor,
            Outcome { shut, .. } if !shut.is_empty() => Grade::Poor,
            _ => Grade::Good,
        };
        let unkept = |why: &String| format!("until there is room a restart brings the order before back: {why}");
        let passed = |problem: &Problem| match outcome.carried_by.is_empty() {
            true => problem.line(),
            false => format!("{}; {} brings it there when they meet", problem.line(), outcome.carried_by.join(", ")),
        };
        let why = outcome.problem.as_ref().map(passed).or_else(|| outcome.unkept.as_ref().map(unkept));
        let mut state = outcome.state.word().to_owned();
        match (outcome.installed, outcome.upgrade_at) {
            (Some(_), Some(at)) => state.push_str(&format!(", agent to be upgraded from {}", yestrel_core::moment(at))),
            (Some(Installed::New), _) => state.push_str(", agent installed"),
            (Some(Installed::Upgraded), _) => state.push_str(", agent upgraded"),
            (Some(Installed::Mended), _) => state.push_str(", agent started again"),
            _ => {}
        }
        if outcome.confirmed {
            state.push_str(", confirmed over a new connection");
        }
        if outcome.unpublished.is_some() {
            state.push_str(", its lists not published");
        }
        if outcome.unkept.is_some() {
            state.push_str(", in force but not kept");
        }
        if !outcome.shut.is_empty() {
            state.push_str(", shut by another firewall");
        }
        table.row(vec![
            (&outcome.gateway).into(),
            outcome.order.into(),
            Cell::State(grade, state),
            outcome.ended.into(),
            why.into(),
        ]);
    }
    if in_remarks {
        for outcome in outcomes {
            let why = outcome.problem.as_ref().map(|problem| format!(": {}", problem.line())).unwrap_or_default();
            output.note(&format!("{} {}{why}", outcome.gateway, outcome.state.word()));
        }
    } else if !output.quiet || output.format != FormatName::Text {
        output.table(&table);
    }
    for (outcome, shut) in outcomes.iter().flat_map(|outcome| outcome.shut.iter().map(move |shut| (outcome, shut))) {
        output.note(&format!(
            "nobody gets in at {} of {}: {} on its host shuts it; there, as root: {}",
            shut.port, outcome.gateway, shut.by, shut.commands
        ));
    }
    if let Some(outcome) = outcomes.iter().find(|outcome| !outcome.shut.is_empty()) {
        output.note(&format!("yestrel port list {}   says when it is open", outcome.gateway));
    }
    let failed: Vec<_> = outcomes.iter().filter(|outcome| outcome.state == OutcomeState::Failed).collect();
    if failed.is_empty() {
        // Done, and not noted: never said to have been refused.
        if let Some(problem) = outcomes.iter().find_map(|outcome| outcome.problem.clone()) {
            return Err(Problem { kind: Kind::Partly, ..problem }
                .try_("yestrel rollout   notes it, once the estate can be written"));
        }
        if let Some((outcome, problem)) =
            outcomes.iter().find_map(|outcome| Some((outcome, outcome.unpublished.as_ref()?)))
        {
            return Err(Problem::partly(format!("the newest revocation lists are not published at {}", outcome.gateway))
                .why(format!(
                    "{}; the order itself is in force there: who was revoked does not come in. Others go by the list before",
                    problem.line()
                ))
                .try_("yestrel rollout   tries again"));
        }
        let unkept: Vec<_> = outcomes.iter().filter(|outcome| outcome.unkept.is_some()).collect();
        let Some(why) = unkept.iter().find_map(|outcome| outcome.unkept.as_ref()) else { return Ok(()) };
        let names: Vec<_> = unkept.iter().map(|outcome| outcome.gateway.as_str()).collect();
        return Err(Problem::partly(format!("what {} was told is in force there and not kept", names.join(", ")))
            .why(format!("{why}; a restart of the agent would bring the order before back"))
            .try_("make room on the host: the agent keeps it within a second, by itself")
            .try_("yestrel gateway show NAME   to see whether it has"));
    }
    let names: Vec<_> = failed.iter().map(|outcome| outcome.gateway.as_str()).collect();
    let mut problem = Problem::partly(format!("{} did not take the newest order", names.join(", ")))
        .why("the others have it; a gateway that did not take it goes on as before");
    for what in failed.iter().filter_map(|outcome| outcome.problem.as_ref()).flat_map(|problem| &problem.tries).take(3)
    {
        problem = problem.try_(what);
    }
    Err(problem.try_("yestrel rollout   again, when they answer"))
}
