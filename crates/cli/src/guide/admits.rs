//! The step of the guide that says who is let in.

use super::{Guide, Step};
use crate::output::tell;

impl Guide<'_> {
    /// An estate without a policy lets nobody in.
    pub(super) fn policy(&mut self) -> Step {
        let there = self.names("policy").len() > 1;
        if self.state.round.is_some() || (there && !self.state.done.contains_key("policy")) {
            return Ok(());
        }
        tell!(
            "  One ordered list says whose credentials are good when; the first policy of it that is about somebody decides."
        );
        let answers = [
            ("everyone", "whoever has a valid credential, at any hour"),
            ("hours", "whoever has one, at the hours that are asked for next"),
            ("later", "nobody yet; yestrel policy add makes one"),
        ];
        match self.asks("policy", "who is let in", &answers, "everyone")?.as_str() {
            "everyone" => self.runs("policy", &["policy", "add", "everyone", "admit"]),
            "hours" => {
                let hours = self.asks("hours", "at which hours", &[], "mon-fri 07:00-19:00")?;
                let condition = format!("hours={hours}");
                self.runs("policy", &["policy", "add", "working-hours", "admit", "--when", &condition])
            }
            _ => Ok(()),
        }
    }
}
