//! What a rehearsal and a check say.

use std::net::IpAddr;
use std::path::{Path, PathBuf};

use clap::Args;
use jiff::Timestamp;
use yestrel_actions::Context;
use yestrel_actions::policy::{self, Checked, Played, Question, Replay, Week};
use yestrel_core::findings::Grade;
use yestrel_core::policy::{END, Rule, Weight};
use yestrel_core::{Problem, Result};

use super::plot;
use crate::listing::since;
use crate::output::{Cell, Output, Table};
use crate::words::{counted, read_file};

#[derive(Args)]
pub struct Arguments {
    /// USER or USER/DEVICE
    #[arg(required_unless_present_any = ["all_users", "since"], conflicts_with_all = ["all_users", "since"])]
    who: Option<String>,
    /// At this gateway
    #[arg(long)]
    gateway: Option<String>,
    /// By this kind of tunnel
    #[arg(long, value_parser = ["quill", "ikev2"])]
    tunnel: Option<String>,
    /// By this method
    #[arg(long)]
    method: Option<String>,
    /// When, by the clock of the gateway's site: "fri 10:00", 10:00, "2027-03-05 10:00"; default: now
    #[arg(long, value_name = "TIME")]
    at: Option<String>,
    /// From this address
    #[arg(long, value_name = "ADDRESS")]
    from: Option<IpAddr>,
    /// With a name of this realm, of an account
    #[arg(long)]
    realm: Option<String>,
    /// As after the right code of a second factor
    #[arg(long)]
    second_factor: bool,
    /// Another list in place of the estate's, as policy export writes it
    #[arg(long, value_name = "FILE")]
    with: Option<PathBuf>,
    /// With the list and people as they were then; gateways and listeners as they are now
    #[arg(long, value_name = "WHEN", value_parser = since, conflicts_with = "since")]
    as_of: Option<Timestamp>,
    /// Who could come in when, in the week of --at
    #[arg(long, conflicts_with_all = ["since", "from"])]
    all_users: bool,
    /// Draw the week into this file, PNG or SVG by its name
    #[arg(long, value_name = "FILE", conflicts_with_all = ["who", "since"])]
    plot: Option<PathBuf>,
    /// Past sign-ins since then, and which of them the list would refuse
    #[arg(long, value_name = "WHEN", value_parser = since)]
    since: Option<Timestamp>,
}

/// The text of a file with policies.
pub(super) fn text(file: &Path) -> Result<String> {
    String::from_utf8(read_file(file)?).map_err(|_| {
        Problem::words(format!("{} is no text", file.display())).try_("a file as yestrel policy export writes it")
    })
}

/// The policies of a file.
pub(super) fn rules(file: &Path) -> Result<Vec<Rule>> {
    policy::rules_of(&text(file)?)
}

pub(super) fn run(output: Output, context: &mut Context, arguments: &Arguments) -> Result<()> {
    let list = arguments.with.as_deref().map(rules).transpose()?;
    if arguments.all_users {
        arguments.plot.as_deref().map(plot::check).transpose()?;
        let week = policy::week(context, arguments.gateway.as_deref(), arguments.at.as_deref(), list, arguments.as_of)?;
        match arguments.plot.as_deref() {
            Some(_) if week.rows.is_empty() => return Err(Problem::refused("there is nothing to draw").why(NOBODY)),
            Some(file) => {
                plot::draw(&week, file)?;
                output.say(&format!("{} shows the week of {} at {}", file.display(), week.monday, week.gateway));
            }
            None => show_week(output, &week.rows),
        }
        return Ok(());
    }
    if let Some(since) = arguments.since {
        show_replay(output, &policy::played(context, since, list)?);
        return Ok(());
    }
    let question = Question {
        who: arguments.who.clone().unwrap_or_default(),
        gateway: arguments.gateway.clone(),
        tunnel: arguments.tunnel.clone(),
        method: arguments.method.clone(),
        at: arguments.at.clone(),
        from: arguments.from,
        realm: arguments.realm.clone(),
        second_factor: arguments.second_factor,
        list,
        as_of: arguments.as_of,
    };
    show_played(output, &policy::rehearse(context, &question)?);
    Ok(())
}

fn show_played(output: Output, played: &Played) {
    if output.is_for_programs() {
        let asked = played
            .asked
            .iter()
            .map(|one| format!("{}: {}", one.policy, one.failed.as_deref().unwrap_or("every condition holds")));
        output.record(&[
            ("device", played.device.as_str().into()),
            ("credential", played.credential.clone().into()),
            ("gateway", played.gateway.as_str().into()),
            ("tunnel", played.tunnel.as_str().into()),
            ("method", played.method.as_str().into()),
            ("at", Cell::Time(played.at)),
            ("admitted", Cell::Flag(played.admitted)),
            (
                "checked by",
                Cell::List(played.checked.iter().map(|one| format!("{}: {}", one.registry, one.why)).collect()),
            ),
            ("by", played.by.clone().into()),
            ("then", played.then.clone().into()),
            ("limits", Cell::List(played.terms.words())),
            ("asked", Cell::List(asked.collect())),
            ("before", played.before.clone().into()),
            ("nearest", played.nearest.clone().into()),
            ("opens", played.opens.into()),
        ]);
        return;
    }
    let decides = played.asked.last().is_some_and(|one| one.failed.is_none());
    let names: Vec<String> =
        played.asked.iter().zip(1..).map(|(one, place)| format!("{place} {}", one.policy)).collect();
    let registries: Vec<&str> =
        played.checked.iter().map(|one| if one.own { "this estate" } else { &one.registry }).collect();
    let all = names.iter().map(String::as_str).chain(registries.iter().copied());
    let widest = all.map(|name| name.chars().count()).chain([END.len()]).max().unwrap_or(0);
    let (mut text, mut label) = (String::new(), "checked by");
    for (one, name) in played.checked.iter().zip(&registries) {
        let word = if one.claims { "yes" } else { "no " };
        text.push_str(&format!("{label:12}  {name:widest$}  {word}  {}\n", one.why));
        label = "";
    }
    let mut label = "admitted by";
    for (one, name) in played.asked.iter().zip(&names) {
        let (word, why) = match &one.failed {
            None => ("yes", String::new()),
            Some(why) => ("no ", format!("  {why}")),
        };
        text.push_str(format!("{label:12}  {name:widest$}  {word}{why}").trim_end());
        text.push('\n');
        label = "";
    }
    if !decides {
        text.push_str(&format!("{label:12}  {END:widest$}  no\n"));
    }
    let limits = played.terms.words();
    let limits = if limits.is_empty() { String::new() } else { format!(": {}", limits.join(", ")) };
    let by = played.by.as_deref().unwrap_or_default();
    let (device, verdict) = (&played.device, &played.before);
    text.push_str(&match (verdict, played.admitted, decides, &played.nearest) {
        (Some(before), _, true, None) => format!("refused: {before}; the policy {by} would admit {device}{limits}\n"),
        (Some(before), ..) => format!("refused: {before}; and no policy would admit it\n"),
        (None, true, ..) => {
            format!("admitted: {device} at {} by {}, by the policy {by}{limits}\n", played.gateway, played.tunnel)
        }
        (None, false, true, near) => {
            format!("refused: the policy {by} refuses {device}{}\n", sentence(near.as_deref()))
        }
        (None, false, false, near) => format!("refused: no policy admits {device}{}\n", sentence(near.as_deref())),
    });
    if let Some(then) = played.then.as_ref().filter(|_| verdict.is_none()) {
        text.push_str(&format!("once a second factor is given: {then} decides\n"));
    }
    output.write(&text);
}

/// What is nearest, as the next sentence.
fn sentence(near: Option<&str>) -> String {
    let Some(near) = near else { return String::new() };
    let mut letters = near.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!(". {first}{}.", letters.as_str())
}

/// Signs for a piece of a day: all of it, a part of it, none of it.
const SIGNS: [char; 3] = ['#', '+', '.'];

/// A day in so many pieces.
fn drawn(spans: &[(u16, u16)], pieces: u16) -> String {
    let long = 24 * 60 / pieces;
    let sign = |piece: u16| {
        let (from, to) = (piece * long, (piece + 1) * long);
        let open: u16 = spans.iter().map(|span| span.1.min(to).saturating_sub(span.0.max(from))).sum();
        SIGNS[if open >= long { 0 } else { usize::from(open == 0) + 1 }]
    };
    (0..pieces).map(sign).collect()
}

/// The week as a picture, as finely as so many columns let.
fn picture(week: &[Week], width: usize) -> String {
    const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let label = week.iter().map(|row| row.who().chars().count()).chain([5]).max().unwrap_or(5).min(30);
    let fits = |pieces: &u16| label + 2 + 7 * usize::from(*pieces) + 6 <= width;
    let pieces = [24, 12, 8, 6].into_iter().find(fits).unwrap_or(4);
    let wide = usize::from(pieces);
    let line = |label_of: &str, days: Vec<String>| {
        let shown: String = label_of.chars().take(label).collect();
        format!("{}\n", format!("{shown:label$}  {}", days.join(" ")).trim_end())
    };
    let mut text = line("", DAYS.iter().map(|day| format!("{day:wide$}")).collect());
    // Where each quarter of a day begins.
    let hours = |_| ["0", "6", "12", "18"].map(|hour| format!("{hour:0$}", wide / 4)).concat();
    if wide >= 12 {
        text.push_str(&line("", (0..7).map(hours).collect()));
    }
    for row in week {
        text.push_str(&line(&row.who(), row.days.iter().map(|day| drawn(day, pieces)).collect()));
    }
    let piece = match 24 / pieces {
        1 => "the whole hour".to_owned(),
        hours => format!("all of {hours} hours"),
    };
    text.push_str(&format!("# {piece}, + a part, . none; to the minute: --format csv\n"));
    text
}

/// What is said where a week has nobody in it.
const NOBODY: &str = "nobody has a device that could sign in; yestrel credential issue USER/DEVICE";

fn show_week(output: Output, week: &[Week]) {
    const COLUMNS: [&str; 9] = ["users", "count", "mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    if !output.is_for_programs() && !week.is_empty() {
        output.write(&picture(week, output.width.unwrap_or(120)));
        return;
    }
    let mut table = Table::new(&COLUMNS, NOBODY);
    for row in week {
        let days = (0..7).map(|day| Cell::Text(row.words(day)));
        table.row([Cell::List(row.users.clone()), row.users.len().into()].into_iter().chain(days).collect());
    }
    output.table(&table);
}

fn show_replay(output: Output, replay: &Replay) {
    let mut table = Table::new(&["at", "device", "gateway", "from", "was", "would be", "because"], "");
    let all = replay.refused.iter().map(|fate| (fate, false)).chain(replay.admitted.iter().map(|fate| (fate, true)));
    for (fate, admitted) in all {
        let was = fate.was.as_ref().map(|by| format!("admitted by {by}"));
        let was = was.unwrap_or_else(|| if admitted { "refused".into() } else { "admitted".into() });
        table.row(vec![
            Cell::Time(fate.at),
            fate.device.as_str().into(),
            fate.gateway.as_str().into(),
            fate.from.as_str().into(),
            was.into(),
            if admitted { "admitted" } else { "refused" }.into(),
            fate.why.as_str().into(),
        ]);
    }
    if !table.rows.is_empty() || output.is_for_programs() {
        output.table(&table);
    }
    output.say(&match (replay.sign_ins, replay.refused.len() + replay.admitted.len()) {
        (0, _) => "no sign-in since then is on record; yestrel session list   collects what gateways saw".to_owned(),
        (all, 0) => format!("of {} since then, nothing else would have become", counted(all, "sign-in")),
        (all, _) => format!(
            "of {} since then, {} would be refused that were not, and {} admitted that were refused",
            counted(all, "sign-in"),
            replay.refused.len(),
            replay.admitted.len()
        ),
    });
}

/// Says what was found.
///
/// # Errors
/// Something bad was.
pub(super) fn checked(output: Output, checked: &Checked) -> Result<()> {
    let mut table = Table::new(&["weight", "policy", "finding", "example"], "");
    for one in &checked.findings {
        let (grade, word) = match one.weight {
            Weight::Bad => (Grade::Bad, "bad"),
            Weight::Poor => (Grade::Poor, "poor"),
            Weight::Note => (Grade::Good, "note"),
        };
        table.row(vec![
            Cell::State(grade, word.into()),
            one.policy.clone().into(),
            one.words.as_str().into(),
            one.example.clone().into(),
        ]);
    }
    if output.is_for_programs() || !checked.findings.is_empty() {
        output.table(&table);
    }
    if checked.findings.is_empty() {
        let all = if checked.policies == 1 { "1 policy".to_owned() } else { format!("{} policies", checked.policies) };
        output.say(&format!("nothing is wrong with the list of {all}"));
    }
    match checked.findings.iter().find(|one| one.weight == Weight::Bad) {
        Some(bad) => Err(Problem::refused(format!("the list is bad: {}", bad.words))
            .why("gateways that have it refuse everybody")
            .try_("yestrel policy add everyone admit   lets every valid credential in")),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_is_drawn_as_finely_as_it_fits() {
        let none = || std::array::from_fn(|_| Vec::new());
        let mut oskar = Week { users: vec!["oskar".into()], days: none() };
        oskar.days[1] = vec![(330, 675)];
        let mut crew = Week { users: vec!["mara".into(), "tomas".into()], days: none() };
        crew.days.iter_mut().for_each(|day| *day = vec![(0, 360), (1320, 1440)]);
        let text = picture(&[oskar.clone(), crew.clone()], 200);
        let lines: Vec<_> = text.lines().collect();
        assert!(lines[2].starts_with("oskar        ........................ .....+#####+............ "), "{text}");
        assert!(lines[3].starts_with("mara, tomas  ######................## "), "{text}");
        for width in [200, 120, 80, 66] {
            let text = picture(&[oskar.clone(), crew.clone()], width);
            assert!(text.lines().all(|line| line.chars().count() <= width), "{width}\n{text}");
        }
        assert_eq!((oskar.words(1), oskar.words(0)), ("05:30-11:15".into(), String::new()));
    }
}
