//! `yestrel status`

use std::time::Duration;

use clap::Args;
use jiff::SignedDuration;
use yestrel_actions::status;
use yestrel_core::findings::Grade;
use yestrel_core::glance::Glance;
use yestrel_core::shown::counted;
use yestrel_core::{Problem, Result, lapse, shown};

use crate::global::Global;
use crate::output::{Cell, FormatName, Output, Table, bytes_in_words};

/// Devices that are named before only their number is said.
const NAMED: usize = 8;

#[derive(Args)]
#[command(
    after_help = "Example:\n  yestrel status\n  yestrel status --every 5s\n  yestrel status --format json\n\nEvery gateway is asked at once, for 1.5 s at most. Nobody is asked for a password, and nothing is changed. Exit status 3: something is bad."
)]
pub struct Arguments {
    /// Look again and again, this long apart, until it is stopped
    #[arg(long, value_name = "DURATION", value_parser = crate::words::short_span)]
    every: Option<SignedDuration>,
}

pub fn run(global: &Global, arguments: &Arguments) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    loop {
        let glance = status::look(&mut context)?;
        let text = match output.format {
            FormatName::Text => text(output, &glance),
            FormatName::Json => json(&glance, arguments.every.is_none()),
            FormatName::Csv => String::new(),
        };
        match (output.format, arguments.every.is_some() && output.terminal) {
            (FormatName::Csv, _) => output.table(&table(&glance)),
            // From the top, what is longer than before over what was there, and nothing below.
            (FormatName::Text, true) => {
                output.write(&format!("\x1b[H{}\x1b[J", text.replace('\n', "\x1b[K\n")));
            }
            _ => output.write(&text),
        }
        match arguments.every {
            Some(every) if output.is_read() => {
                std::thread::sleep(Duration::try_from(every).unwrap_or(Duration::from_secs(5)));
            }
            Some(_) => return Ok(()),
            None => return verdict(&glance),
        }
    }
}

fn verdict(glance: &Glance) -> Result<()> {
    let bad = glance.findings().into_iter().filter(|finding| finding.grade == Grade::Bad).count();
    match bad {
        0 => Ok(()),
        1 => Err(Problem::refused("one thing is bad")),
        many => Err(Problem::refused(format!("{many} things are bad"))),
    }
}

fn table(glance: &Glance) -> Table {
    let mut table = Table::new(
        &["site", "gateway", "agent", "order", "ports open", "in", "waits"],
        "no gateways yet; yestrel guide   makes the first, step by step",
    );
    let state = |(grade, words): (Grade, String)| Cell::State(grade, words);
    for at in &glance.gateways {
        let inside = at.heard.as_ref().and_then(|heard| heard.as_ref().ok()?.inside.as_ref().map(Vec::len));
        table.row(vec![
            (&at.site).into(),
            (&at.gateway).into(),
            state(at.state(glance.at)),
            state(at.order()),
            state(at.open()),
            match (&at.heard, inside) {
                (_, Some(inside)) => inside.into(),
                (None, None) => 0_usize.into(),
                (Some(_), None) => "unknown".into(),
            },
            state(at.waiting()),
        ]);
    }
    for site in &glance.sites_without_gateway {
        let mut row = vec![Cell::from(site), "none".into()];
        row.resize(7, Cell::Missing);
        table.row(row);
    }
    table
}

/// Who is in, in a line.
fn inside(glance: &Glance) -> String {
    let mut all: Vec<_> = glance.inside().collect();
    all.sort_by(|a, b| (&a.device, a.since).cmp(&(&b.device, b.since)));
    let known = if glance.knows_who_is_in() { "" } else { ", as far as the gateways that answer know" };
    if all.is_empty() {
        return format!("in         nobody{known}\n");
    }
    let named: Vec<_> = all
        .iter()
        .take(NAMED)
        .map(|one| {
            let gateway = one.listener.split('/').next().unwrap_or_default();
            format!(
                "{} at {gateway} for {}",
                shown::line(&one.device),
                lapse::span(glance.at.duration_since(one.since))
            )
        })
        .collect();
    let more = if all.len() > NAMED {
        format!(" and {} more: yestrel session list", all.len() - NAMED)
    } else {
        String::new()
    };
    format!("in         {}{more}{known}\n", named.join(", "))
}

fn text(output: Output, glance: &Glance) -> String {
    let saved = glance.saved.map_or_else(|| "never".to_owned(), |at| lapse::from_now(at, glance.at));
    let mut text = output.table_text(&table(glance));
    text.push('\n');
    text.push_str(&inside(glance));
    text.push_str(&format!(
        "estate     {}: {}, {}, {}; {}; saved {saved}\n",
        shown::line(&glance.estate),
        counted(glance.users, "user"),
        counted(glance.devices, "device"),
        counted(glance.credentials, "credential"),
        bytes_in_words(glance.size),
    ));
    let findings = glance.findings();
    if findings.is_empty() {
        text.push_str("all good   nothing waits, and nothing ends within 30 days\n");
    } else {
        text.push('\n');
        text.push_str(&output.findings_text("to do", &findings));
    }
    text
}

fn json(glance: &Glance, pretty: bool) -> String {
    let mut value = serde_json::to_value(glance).unwrap_or_default();
    value["findings"] = serde_json::to_value(glance.findings()).unwrap_or_default();
    let text = if pretty { serde_json::to_string_pretty(&value) } else { serde_json::to_string(&value) };
    text.unwrap_or_default() + "\n"
}
