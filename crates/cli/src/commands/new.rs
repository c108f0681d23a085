//! `uspan new`.

use std::fs::OpenOptions;
use std::io::Write as _;
use std::path::Path;

use crate::failure::{Failure, Verdict};

/// The starter, with every key explained.
pub const STARTER: &str = include_str!("../../assets/starter.span.toml");

pub fn run(file: Option<&Path>) -> Result<Verdict, Failure> {
    let Some(file) = file else {
        super::print_text(STARTER)?;
        return Ok(Verdict::Fine);
    };
    let cannot = || Failure::file("cannot write", file);
    let mut handle = OpenOptions::new().write(true).create_new(true).open(file).map_err(cannot())?;
    handle.write_all(STARTER.as_bytes()).map_err(cannot())?;
    super::print_line(&format!("{0} is there. Next: put in your own addresses, then: uspan check {0}", file.display()))?;
    Ok(Verdict::Fine)
}
