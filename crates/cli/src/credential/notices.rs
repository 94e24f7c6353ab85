//! Way notices, in the forms in which they travel.

use std::path::Path;

use clap::ValueEnum;
use yestrel_actions::Context;
use yestrel_actions::credential::handover;
use yestrel_actions::credential::notice::{self, Made};
use yestrel_core::notice::{block, link};
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use crate::output::Output;

/// How a notice travels.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum NoticeForm {
    File,
    Link,
    Mail,
}

impl NoticeForm {
    fn ending(self) -> &'static str {
        match self {
            Self::File => "notice",
            Self::Link => "txt",
            Self::Mail => "eml",
        }
    }

    fn text(self, made: &Made) -> Result<String> {
        let text = block(&made.device, &made.notice.sealed);
        Ok(match self {
            Self::File => text,
            Self::Link => format!("{}\n", link(&made.notice.sealed)),
            Self::Mail => {
                let to = made.mail.as_ref().ok_or_else(|| {
                    let user = made.device.split('/').next().unwrap_or_default();
                    Problem::refused(format!("{user} has no mail address"))
                        .try_(format!("yestrel user change {user} --mail ADDRESS"))
                        .try_("--as file   to be sent by another way")
                })?;
                // RFC 5322: lines end in CR LF, and none is longer than 78 characters.
                format!("To: {to}\nSubject: Way notice for {}\n\n{text}", made.device).replace('\n', "\r\n")
            }
        })
    }
}

pub(super) fn run(
    output: Output,
    context: &mut Context,
    name: Option<&str>,
    form: NoticeForm,
    to: Option<&Path>,
) -> Result<()> {
    let made = match name {
        Some(name) => vec![notice::make(context, name)?],
        None => notice::make_all(context)?,
    };
    match (name, to) {
        (Some(_), None) => made.iter().try_for_each(|one| {
            output.write(&form.text(one)?);
            Ok(())
        }),
        (Some(_), Some(path)) => {
            let [one] = &made[..] else { return Ok(()) };
            handover::write_file(path, &form.text(one)?)?;
            output.say(&format!("wrote notice {} for {} to {}", one.notice.number, one.device, path.display()));
            Ok(())
        }
        (None, folder) => {
            if made.is_empty() {
                output.say("no device needs a notice");
                return Ok(());
            }
            let folder = folder.unwrap_or(Path::new("notices"));
            let mut files = Vec::new();
            for one in &made {
                match form.text(one) {
                    Ok(text) => {
                        let name = format!("{}.{}", one.device.replace('/', "-"), form.ending());
                        files.push((name, Zeroizing::new(text.into_bytes())));
                    }
                    // One without an address keeps nobody else from theirs.
                    Err(problem) => output.note(&problem.line()),
                }
            }
            handover::write_folder(folder, &files)?;
            let noun = if files.len() == 1 { "notice" } else { "notices" };
            output.say(&format!("wrote {} {noun} to {}", files.len(), folder.display()));
            Ok(())
        }
    }
}
