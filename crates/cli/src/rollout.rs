//! `yestrel rollout`

use clap::Args;
use yestrel_actions::Context;
use yestrel_actions::rollout::{self, Outcome, Plan};
use yestrel_core::facts::Grade;
use yestrel_core::{Problem, Result};

use crate::output::{Cell, FormatName, Output, Table};
use crate::{Global, ask};

#[derive(Args)]
#[command(after_help = "Example:\n  yestrel rollout --preview\n  yestrel rollout harbour")]
pub struct Arguments {
    /// Only these gateways
    gateways: Vec<String>,
    /// Show what would change, and change nothing
    #[arg(long)]
    preview: bool,
    /// Carry the newest order even where it is confirmed: for a host that was replaced
    #[arg(long)]
    again: bool,
}

pub fn run(global: &Global, arguments: &Arguments) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    let plans = rollout::preview(&mut context, &arguments.gateways)?;
    if plans.is_empty() {
        output.say("no gateways yet; yestrel gateway create NAME --host HOST --dialled NAME");
        return Ok(());
    }
    if arguments.preview {
        show_plans(output, &plans);
        return Ok(());
    }
    let work = plans.iter().filter(|plan| !plan.nothing_to_do || arguments.again).count() as u64;
    if work > 0 {
        if !global.quiet && output.format == FormatName::Text {
            show_plans(output, &plans);
        }
        if !global.yes && ask::somebody_there() {
            ask::confirm(false, "this changes the gateways named above")?;
        }
    }
    let bar = global.progress(work, "rollout");
    let outcomes = rollout::rollout(&mut context, &arguments.gateways, arguments.again)?;
    bar.finish_and_clear();
    report(output, &outcomes)
}

/// Brings a change that cannot wait to the gateways, within the command that made it; all of them when none is named.
pub fn carry(global: &Global, context: &mut Context, gateways: &[String]) -> Result<()> {
    let known: Vec<String> = yestrel_actions::gateway::list(context)?
        .into_iter()
        .filter(|view| view.gateway.order_number > 0 && (gateways.is_empty() || gateways.contains(&view.gateway.name)))
        .map(|view| view.gateway.name)
        .collect();
    if known.is_empty() {
        return Ok(());
    }
    // A rollout is always whole: whatever else was waiting goes with it, and is shown.
    let output = global.output();
    let plans: Vec<_> = rollout::preview(context, &known)?.into_iter().filter(|plan| !plan.nothing_to_do).collect();
    if !output.quiet && output.format == FormatName::Text {
        show_plans(output, &plans);
    }
    let outcomes = rollout::rollout(context, &known, false)?;
    report(output, &outcomes)
}

fn show_plans(output: Output, plans: &[Plan]) {
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
        for change in &plan.changes {
            text.push_str(&format!("  {:8}{}\n", change.verb, change.words));
        }
    }
    output.write(&text);
}

fn report(output: Output, outcomes: &[Outcome]) -> Result<()> {
    let mut table = Table::new(&["gateway", "order", "state", "sessions ended", "why"], "");
    for outcome in outcomes {
        let grade = if outcome.problem.is_some() { Grade::Bad } else { Grade::Good };
        let why = outcome.problem.as_ref().map(|problem| {
            let why = problem.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
            format!("{}{why}", problem.error)
        });
        let state =
            if outcome.installed { format!("{}, agent installed", outcome.state) } else { outcome.state.clone() };
        table.row(vec![
            (&outcome.gateway).into(),
            outcome.order.into(),
            Cell::State(grade, state),
            outcome.ended.into(),
            why.into(),
        ]);
    }
    if !output.quiet || output.format != FormatName::Text {
        output.table(&table);
    }
    let failed: Vec<_> = outcomes.iter().filter(|outcome| outcome.problem.is_some()).collect();
    if failed.is_empty() {
        return Ok(());
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
