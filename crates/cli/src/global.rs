//! What every command takes, and what follows from it.

use std::path::PathBuf;
use std::sync::Arc;

use clap::Args;
use yestrel_actions::Context;
use yestrel_core::Result;

use crate::ask;
use crate::output::{Color, FormatName, Output};

/// What every command takes.
#[derive(Args, Clone)]
#[command(next_help_heading = "For every command")]
pub struct Global {
    /// The estate's file [default: YESTREL_ESTATE, else estate in the user's data folder]
    #[arg(long, global = true, value_name = "PATH")]
    pub estate: Option<PathBuf>,
    /// How the answer is written
    #[arg(long, global = true, value_enum, default_value_t, hide_possible_values = false)]
    pub format: FormatName,
    /// Take every question that asks for a yes as answered
    #[arg(long, global = true)]
    pub yes: bool,
    /// Only the answer, no remarks
    #[arg(long, global = true)]
    pub quiet: bool,
    /// Moments whole and in UTC (RFC 3339), instead of here and from now
    #[arg(long, global = true)]
    pub utc: bool,
    /// More of what happens, on standard error
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// When to use colour
    #[arg(long, global = true, value_enum, default_value_t)]
    pub color: Color,
    /// A file with the estate's passphrase, where its sealing key is wrapped
    #[arg(long, global = true, value_name = "FILE")]
    pub estate_passphrase_file: Option<PathBuf>,
}

/// Where the estate is: as it was named, or by the environment, or in its usual place.
pub fn estate_path(named: Option<PathBuf>) -> PathBuf {
    named
        .or_else(|| std::env::var_os("YESTREL_ESTATE").map(PathBuf::from))
        .unwrap_or_else(|| ask::data_folder().join("estate"))
}

impl Global {
    pub fn output(&self) -> Output {
        Output::new(self.format, self.color, self.quiet)
    }

    pub fn estate_path(&self) -> PathBuf {
        estate_path(self.estate.clone())
    }

    pub fn context(&self) -> Result<Context> {
        let path = self.estate_path();
        let (what, file) = (format!("the estate {}", path.display()), self.estate_passphrase_file.clone());
        let person = Arc::new(ask::Terminal::new(self.yes, self.quiet));
        Context::open(&path, Box::new(move || ask::passphrase(&what, file.as_deref())), person)
    }

    /// A bar for work whose end is known; silent where nobody watches.
    pub fn progress(&self, steps: u64, what: &str) -> indicatif::ProgressBar {
        if self.quiet || !ask::somebody_there() {
            return indicatif::ProgressBar::hidden();
        }
        let bar = indicatif::ProgressBar::new(steps).with_message(what.to_owned());
        if let Ok(style) = indicatif::ProgressStyle::with_template("{msg}  {bar:30}  {pos} of {len}") {
            bar.set_style(style);
        }
        bar.tick();
        bar
    }
}
