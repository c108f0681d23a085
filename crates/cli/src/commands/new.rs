//! `uspan new`.

use std::path::Path;

use crate::failure::{CommandOutcome, Failure};
use crate::files::single;
use crate::show::{path_shown, path_word};

/// The starter, with every key explained.
pub const STARTER: &str = include_str!("../../assets/starter.span.toml");

pub fn run(file: Option<&Path>) -> Result<CommandOutcome, Failure> {
    let Some(file) = file else {
        super::print_text(STARTER)?;
        return Ok(CommandOutcome::Fine);
    };
    if std::fs::symlink_metadata(file).is_ok() {
        return Err(Failure::Usage(format!("`{}` is there already; choose another name", path_shown(file))));
    }
    single::text(file, STARTER, false)?;
    super::print_line(&format!("{0} is there. Next: put in your own addresses, then: uspan check {0}", path_word(file)))?;
    Ok(CommandOutcome::Fine)
}
