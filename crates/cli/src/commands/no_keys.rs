//! In place of the making of keys and certificates, where that was left out.

use std::path::Path;

use crate::failure::{CommandOutcome, Failure};

/// Neither keys nor certificates are made.
pub fn pair(_file: &Path, _replace: bool) -> Result<CommandOutcome, Failure> {
    Err(Failure::Outside("this program was built without `certificates`, and makes neither keys nor certificates".to_owned()))
}

/// The same.
pub fn for_lab(file: &Path, replace: bool) -> Result<CommandOutcome, Failure> {
    pair(file, replace)
}
