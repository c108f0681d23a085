//! `uspan schema`.

use crate::failure::{Failure, Verdict};
use crate::files::input;

pub fn run(reference: bool) -> Result<Verdict, Failure> {
    let context = input::context();
    match reference {
        true => super::print_text(&uspan_core::language_reference(&context))?,
        false => super::print_json(&uspan_core::schema(&context))?,
    }
    Ok(Verdict::Fine)
}
