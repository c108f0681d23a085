//! `uspan secret`.

use std::path::Path;

use crate::failure::{CommandOutcome, Failure};
use crate::files::{secret, single};
use crate::show::path_word;

pub fn run(file: &Path, print: bool, replace: bool) -> Result<CommandOutcome, Failure> {
    let text = secret::generate()?;
    single::secret(file, text.as_bytes(), replace)?;
    if print {
        super::print_line(&text)?;
    } else {
        super::print_line(&format!(
            "256 random bits in {}, mode 0600. Next: name it in the description: secret = {{ file = \"...\" }}",
            path_word(file)
        ))?;
    }
    Ok(CommandOutcome::Fine)
}
