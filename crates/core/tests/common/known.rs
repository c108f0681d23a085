//! The platforms and packet filters that come with the program, for tests.

#![allow(dead_code, reason = "each test uses some of it")]

use std::sync::LazyLock;

use uspan_core::{Actor, Comparison, Context, Finding, Gateway, KnownAddresses, Profile, ReadGateway, Tree, compare_ends};

static CONTEXT: LazyLock<Context> = LazyLock::new(Context::built_in);

pub fn context() -> &'static Context {
    &CONTEXT
}

/// How many random cases a test tries: as many as `USPAN_CASES` says, or these few.
#[allow(clippy::disallowed_methods, reason = "whoever runs the tests says how many")]
pub fn cases(few: u32) -> u32 {
    std::env::var("USPAN_CASES").ok().and_then(|count| count.parse().ok()).unwrap_or(few)
}

/// The platform of a word.
pub fn platform(word: &str) -> &'static Profile {
    CONTEXT.reader(word).unwrap_or_else(|| panic!("{word} is no platform"))
}

/// A platform by its place.
pub fn profile(place: usize) -> &'static Profile {
    &CONTEXT.profiles[place]
}

/// The first platform whose files stand in a tree.
pub fn platform_of(tree: &Tree) -> &'static Profile {
    CONTEXT.profiles_of(tree)[0]
}

/// A gateway as its platform negotiates, with no more known of its address than its files say.
pub fn actor<'a>(reading: ReadGateway<'a>, profile: &'a Profile) -> Actor<'a> {
    Actor { reading, behaviour: &profile.behaviour, stands: KnownAddresses::default() }
}

/// Two gateways of platforms held against each other.
pub fn ends_compared(readings: [ReadGateway<'_>; 2], words: [&str; 2]) -> Comparison {
    let [left, right] = [0, 1].map(|end| actor(readings[end], platform(words[end])));
    compare_ends(left, right)
}

/// The same, each of the platform of its files.
pub fn trees_compared(readings: [ReadGateway<'_>; 2]) -> Comparison {
    let words = readings.map(|reading| &*platform_of(reading.tree.expect("files")).word);
    ends_compared(readings, words)
}

/// Reads a gateway's files as those of a platform.
pub fn read_as(platform: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    uspan_core::read_tree(&CONTEXT, platform, tree)
}
