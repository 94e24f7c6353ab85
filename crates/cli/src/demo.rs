//! `yestrel demo`
use crate::Global;
use clap::Args;
#[derive(Args)]
pub struct Arguments {}
pub fn run(_: &Global, _: &Arguments) -> yestrel_core::Result<()> {
    Ok(())
}
