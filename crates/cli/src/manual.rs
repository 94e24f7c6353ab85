//! `yestrel completion` and `yestrel manual`: made from the commands themselves.

use std::fmt::Write as _;
use std::path::PathBuf;

use clap::{Args, Command, ValueEnum};
use yestrel_core::{Problem, Result};

use crate::global::Global;

#[derive(Args)]
#[command(
    after_help = "Example:\n  yestrel completion bash > /etc/bash_completion.d/yestrel\n  yestrel completion fish > ~/.config/fish/completions/yestrel.fish"
)]
pub struct CompletionArguments {
    /// For which shell
    #[arg(value_enum)]
    shell: Shell,
}

/// Shells that complete words.
#[derive(Clone, Copy, ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
    Elvish,
    Powershell,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  yestrel manual > commands.md\n  yestrel manual --to /usr/local/share/man/man1 && man yestrel-rollout"
)]
pub struct ManualArguments {
    /// Write manual pages into this folder, one for each command, instead of all commands as one text
    #[arg(long, value_name = "FOLDER")]
    to: Option<PathBuf>,
}

/// Prints what a shell needs to complete words.
///
/// # Errors
/// The script cannot be made.
pub fn completion(global: &Global, arguments: &CompletionArguments) -> Result<()> {
    let shell = arguments.shell.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
    global.output().write(&crate::complete::script(&shell)?);
    Ok(())
}

/// Prints all commands as one text, or writes manual pages.
///
/// # Errors
/// The folder cannot be written.
pub fn manual(global: &Global, mut command: Command, arguments: &ManualArguments) -> Result<()> {
    let Some(folder) = &arguments.to else {
        global.output().write(&text(command));
        return Ok(());
    };
    let cannot = |error: std::io::Error| {
        Problem::failed(format!("manual pages cannot be written into {}", folder.display())).why(error.to_string())
    };
    std::fs::create_dir_all(folder).map_err(cannot)?;
    command.build();
    let pages = write_pages(&command, "yestrel", folder).map_err(cannot)?;
    global.output().say(&format!("wrote {pages} manual pages into {}", folder.display()));
    Ok(())
}

fn write_pages(command: &Command, name: &str, folder: &std::path::Path) -> std::io::Result<usize> {
    let mut page = Vec::new();
    clap_mangen::Man::new(command.clone()).title(name.to_uppercase()).render(&mut page)?;
    std::fs::write(folder.join(format!("{name}.1")), page)?;
    let mut pages = 1;
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set() && sub.get_name() != "help") {
        pages += write_pages(sub, &format!("{name}-{}", sub.get_name()), folder)?;
    }
    Ok(pages)
}

/// Every command with its help, in Markdown.
fn text(mut command: Command) -> String {
    command = command.term_width(100).disable_help_subcommand(true);
    command.build();
    let mut out = String::from(
        "# Commands\n\nMade by `yestrel manual`, and checked by a test: what stands here is what `--help` says. What every command \
         takes stands\nonce, at the end.\n",
    );
    sections(&command, "yestrel", &mut out);
    out.push_str("\n## For every command\n\n```text\n");
    for argument in command.get_arguments().filter(|argument| argument.is_global_set()) {
        let help = argument.get_help().map(ToString::to_string).unwrap_or_default();
        let _ = writeln!(out, "{argument:<34}{help}");
    }
    out.push_str("```\n");
    out
}

fn sections(command: &Command, name: &str, out: &mut String) {
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("{name} {}", sub.get_name());
        if sub.has_subcommands() {
            let about = sub.get_about().map(ToString::to_string).unwrap_or_default();
            let _ = write!(out, "\n## {name}\n\n{about}.\n");
            sections(sub, &name, out);
            continue;
        }
        // Without what every command takes.
        let hidden = sub.get_arguments().filter(|argument| argument.is_global_set()).map(|a| a.get_id().clone());
        let hidden: Vec<_> = hidden.collect();
        let mut short = sub.clone().bin_name(&name);
        for id in hidden {
            short = short.mut_arg(id, |argument| argument.hide(true));
        }
        let help = short.term_width(100).render_long_help().to_string();
        let lines: Vec<_> = help.lines().map(str::trim_end).collect();
        let level = if name.matches(' ').count() > 1 { "###" } else { "##" };
        let _ = write!(out, "\n{level} {name}\n\n```text\n{}\n```\n", lines.join("\n").trim_end());
    }
}
