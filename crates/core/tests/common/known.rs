//! The platforms and packet filters that come with the program, for tests.

#![allow(dead_code, reason = "each test uses some of it")]

use std::sync::LazyLock;

use uspan_core::{Context, Finding, Gateway, Profile, Tree};

static CONTEXT: LazyLock<Context> = LazyLock::new(Context::built_in);

pub fn context() -> &'static Context {
    &CONTEXT
}

/// The platform of a word.
pub fn platform(word: &str) -> &'static Profile {
    CONTEXT.profile(word).unwrap_or_else(|| panic!("{word} is no platform"))
}

/// A platform by its place.
pub fn profile(place: usize) -> &'static Profile {
    &CONTEXT.profiles[place]
}

/// The first platform whose files stand in a tree.
pub fn platform_of(tree: &Tree) -> &'static Profile {
    CONTEXT.profiles_of(tree)[0]
}

/// Reads a gateway's files as those of a platform.
pub fn read_as(platform: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    uspan_core::read_tree(&CONTEXT, platform, tree)
}
