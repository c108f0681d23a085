//! `uspan schema`.

use crate::args::Printing;
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;

pub fn run(of: Option<Printing>, reference: bool) -> Result<CommandOutcome, Failure> {
    let context = input::context();
    match of {
        Some(command) => super::print_text(printed(command))?,
        None if reference => super::print_text(&uspan_core::language_reference(&context))?,
        None => super::print_json(&uspan_core::schema(&context))?,
    }
    Ok(CommandOutcome::Fine)
}

/// The schema of what a command prints with `--format json`.
fn printed(by: Printing) -> &'static str {
    match by {
        Printing::Adopt => include_str!("../../assets/schemas/adopt.json"),
        Printing::Algorithms => include_str!("../../assets/schemas/algorithms.json"),
        Printing::Build => include_str!("../../assets/schemas/build.json"),
        Printing::Check => include_str!("../../assets/schemas/check.json"),
        Printing::Compare => include_str!("../../assets/schemas/compare.json"),
        Printing::Explain => include_str!("../../assets/schemas/explain.json"),
        Printing::Move => include_str!("../../assets/schemas/move.json"),
        Printing::Platforms => include_str!("../../assets/schemas/platforms.json"),
        Printing::Prove => include_str!("../../assets/schemas/prove.json"),
        Printing::Rehearse => include_str!("../../assets/schemas/rehearse.json"),
        Printing::Retire => include_str!("../../assets/schemas/retire.json"),
        Printing::Sheet => include_str!("../../assets/schemas/sheet.json"),
        Printing::VerifySteps => include_str!("../../assets/schemas/verify-steps.json"),
        Printing::Walk => include_str!("../../assets/schemas/walk.json"),
    }
}
