//! The catalogue: one file a chapter, one static a rule, one sorted slice.
//!
//! To add a rule: add a row to the chapter's file with the next free code, use its static where the
//! check is made, and add a broken description to `crates/cli/tests/broken/`. The tests of
//! this module and the corpus test name what was forgotten.

/// Declares a chapter: a static for each rule and the slice of all of them.
macro_rules! chapter {
    ($($(#[$doc:meta])* $id:ident = $code:literal $name:literal $severity:ident {
        what: $what:literal, why: $why:literal, remedy: $remedy:literal $(,)?
    })*) => {
        use crate::finding::{Rule, Severity};
        $(
            #[doc = $what]
            pub static $id: Rule = Rule {
                code: $code, name: $name, severity: Severity::$severity, what: $what, why: $why, remedy: $remedy,
            };
        )*
        pub(super) const ROWS: &[&Rule] = &[$(&$id),*];
    };
}

mod algorithms;
mod file;
mod identities;
mod lab;
mod output;
mod platforms;
mod read_back;
mod sites;
mod tunnels;

pub use algorithms::*;
pub use file::*;
pub use identities::*;
pub use lab::*;
pub use output::*;
pub use platforms::*;
pub use read_back::*;
pub use sites::*;
pub use tunnels::*;

use super::Rule;

#[rustfmt::skip]
const CHAPTERS: [&[&Rule]; 9] = [
    file::ROWS, sites::ROWS, tunnels::ROWS, algorithms::ROWS, identities::ROWS, platforms::ROWS, read_back::ROWS, output::ROWS, lab::ROWS,
];

const COUNT: usize = {
    let (mut chapter, mut count) = (0, 0);
    while chapter < CHAPTERS.len() {
        count += CHAPTERS[chapter].len();
        chapter += 1;
    }
    count
};

const fn flatten() -> [&'static Rule; COUNT] {
    let mut all = [file::ROWS[0]; COUNT];
    let (mut chapter, mut next) = (0, 0);
    while chapter < CHAPTERS.len() {
        let mut row = 0;
        while row < CHAPTERS[chapter].len() {
            all[next] = CHAPTERS[chapter][row];
            next += 1;
            row += 1;
        }
        chapter += 1;
    }
    all
}

static ALL: [&Rule; COUNT] = flatten();

/// Every rule, sorted by code.
pub static CATALOGUE: &[&Rule] = &ALL;
