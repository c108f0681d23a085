//! `uspan schema`.

use crate::failure::{Failure, Verdict};

pub fn run(reference: bool) -> Result<Verdict, Failure> {
    match reference {
        true => super::print_text(&uspan_core::language_reference())?,
        false => super::print_json(&uspan_core::schema())?,
    }
    Ok(Verdict::Fine)
}
