//! What is given beside a description: the platforms and packet filters that its sites can name.

use std::sync::Arc;

use crate::network;
use crate::packet_filter::{PACKET_FILTERS, PacketFilter};
use crate::platform::{built_in, other, read_only};
use crate::profile::Profile;
use crate::routing;
use uspan_model::gateway::Tree;

/// The platforms and packet filters that a description can name.
#[derive(Clone, Debug)]
pub struct Context {
    /// Platforms, in the order in which tables show them.
    pub profiles: Vec<Arc<Profile>>,
    /// Platforms whose files are read, and never written.
    pub read_only: Vec<Arc<Profile>>,
    /// Packet filters; the first is what a site has that names none.
    pub filters: Vec<&'static dyn PacketFilter>,
}

impl Context {
    /// What comes with the program.
    pub fn built_in() -> Context {
        let profiles = built_in().into_iter().chain([other()]).collect();
        Context { profiles, read_only: read_only(), filters: PACKET_FILTERS.to_vec() }
    }

    /// The platforms that we run ourselves.
    pub fn of_ours(&self) -> impl Iterator<Item = &Arc<Profile>> {
        self.profiles.iter().filter(|profile| !profile.is_run_by_others())
    }

    /// The platform of this word.
    pub fn profile(&self, word: &str) -> Option<&Arc<Profile>> {
        self.profiles.iter().find(|profile| profile.word == word)
    }

    /// Every platform whose files can be read.
    pub fn readable(&self) -> impl Iterator<Item = &Arc<Profile>> {
        self.profiles.iter().chain(&self.read_only)
    }

    /// The platform of this word, whose files can be read.
    pub fn reader(&self, word: &str) -> Option<&Arc<Profile>> {
        self.readable().find(|profile| profile.word == word)
    }

    /// The packet filter of this word.
    pub fn filter(&self, word: &str) -> Option<&'static dyn PacketFilter> {
        self.filters.iter().copied().find(|filter| filter.word() == word)
    }

    /// Where below a gateway's `/` the files stand that are read: each path begins with one of these.
    pub fn reads_below(&self) -> Vec<&str> {
        let daemons = self.readable().flat_map(|profile| profile.reads_below.iter().map(|begin| &**begin));
        let filters = self.filters.iter().flat_map(|filter| filter.reads_below().iter().copied());
        daemons.chain(filters).chain(network::READS_BELOW.iter().chain(routing::READS_BELOW).copied()).collect()
    }

    /// The platforms whose files stand in a tree. Where the files of two have the same names, that one counts which takes more of what they
    /// say; where that does not tell, both.
    pub fn profiles_of(&self, tree: &Tree) -> Vec<&Arc<Profile>> {
        let there: Vec<_> = self.readable().filter(|profile| profile.family.is_of(tree)).collect();
        let rivals = |one: &Profile, other: &Profile| one != other && one.reads_below.first() == other.reads_below.first();
        if !there.iter().any(|one| there.iter().any(|other| rivals(one, other))) {
            return there;
        }
        let misfits: Vec<_> = there.iter().map(|profile| profile.family.misfits(profile, tree)).collect();
        let count = |at: usize| misfits[at];
        let beaten = |at: usize| (0..there.len()).any(|other| rivals(there[at], there[other]) && count(other) < count(at));
        (0..there.len()).filter(|at| !beaten(*at)).map(|at| there[at]).collect()
    }
}
