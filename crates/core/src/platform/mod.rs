//! Platforms: what each gateway can do, how it spells it, and how its files are written and read.
//!
//! To add a platform: a folder here with its facts, `write` and `read`, and one line in [`PLATFORMS`].
//! Everything outside that folder stays as it is.

mod behaviour;
mod libreswan;
mod names;
mod offers;
mod openiked;
mod strongswan;
pub(crate) mod text;

pub use behaviour::{Behaviour, Line, Narrowing, Preference};
pub use names::{Name, Sa};
pub use offers::{DefaultProposal, DefaultProposals};

use std::fmt;
use std::time::Duration;

use crate::algorithm::{Kind, Transform};
use crate::dialect::{Remarks, Unwritable};
use crate::finding::Finding;
use crate::gateway::{Dscp, Encapsulation, Endpoint, Gateway, Identity, IkeVersion, Method, Tree};

/// All platforms, in the order in which tables show them.
pub static PLATFORMS: &[&dyn Platform] = &[&strongswan::Strongswan, &libreswan::Libreswan, &openiked::Openiked];

/// The platform of this word.
pub fn platform(word: &str) -> Option<&'static dyn Platform> {
    PLATFORMS.iter().copied().find(|platform| platform.facts().word == word)
}

/// What the program knows about a platform, as data.
#[derive(Debug)]
pub struct Facts {
    /// The word in descriptions.
    pub word: &'static str,
    /// Name and version.
    pub title: &'static str,
    /// The version that is written for.
    pub version: &'static str,
    /// The manual pages the facts were taken from, and how they were checked.
    pub source: &'static str,
    /// What must be installed for all of them to hold.
    pub packages: &'static str,
    /// Where its files stand.
    pub files: &'static str,
    /// Versions of the key exchange.
    pub versions: &'static [IkeVersion],
    /// Spellings of the algorithms that it can do, by kind.
    pub names: &'static [Name],
    /// Beside a separate integrity algorithm the PRF is the one of the same hash and cannot be chosen.
    pub prf_follows_integrity: bool,
    /// All ESP proposals of a connection must have the same PFS group.
    pub one_pfs_group: bool,
    /// The groups that it can use for PFS in IKEv1; all of its own where nothing is said.
    pub ikev1_pfs_groups: Option<&'static [u16]>,
    /// It rekeys ESP only with the group that the IKE SA was negotiated with.
    pub pfs_group_of_ike: bool,
    /// The longest lifetime it accepts.
    pub longest_lifetime: Duration,
    /// Several pairs of IKEv1 share an IKE SA that outlives a dead peer: the tunnel comes back when that SA ends.
    pub ikev1_outlives_peer: bool,
    /// When a peer is dead, several pairs are reopened over the dead IKE SA, which then stays for as long as packets ask
    /// for them.
    pub reopens_over_dead: bool,
    /// How it can carry several pairs of networks between two gateways.
    pub selectors: Selectors,
    /// When it can open a tunnel, beside at once.
    pub openings: Openings,
    /// Kinds of identities, beside address, DNS name and mail-like name.
    pub identities: Identities,
    /// How a tunnel interface may be called.
    pub interface_name: InterfaceName,
    /// Whether a tunnel interface and routes can steer, instead of the selectors.
    pub route_based: bool,
    /// Which of a connection's two ends is its own it finds by the addresses of its interfaces, whatever they are called.
    pub ends_by_address: bool,
    /// What a connection can say of ESP in UDP.
    pub encapsulations: &'static [Encapsulation],
    /// Whether it finds NAT devices also where its own address is not configured (RFC 7296 section 2.23).
    pub knows_own_address: bool,
    /// How far a liveness interval reaches.
    pub liveness: Liveness,
    /// Whether the replay window can be set.
    pub replay_window: ReplayWindow,
    /// Whether ESP can count in 64 bits.
    pub extended_sequence: bool,
    /// How it can prove who it is, and have its peers prove it.
    pub methods: &'static [Method],
    /// Certificates of both ends must be for keys of one kind, ECDSA or RSA.
    pub one_kind_of_key: bool,
    /// What can be made of the DSCP.
    pub dscp: &'static [Dscp],
    /// The daemon installs routes for policy-based tunnels itself.
    pub installs_routes: bool,
    /// What it offers where a configuration names no proposals.
    pub offers: &'static DefaultProposals,
    /// How it negotiates.
    pub behaviour: &'static Behaviour,
    /// What holds where a configuration says nothing, for tables.
    pub defaults: &'static [(&'static str, &'static str)],
    /// Shell commands that make the gateway take up its files, for people; `{}` is a child's name.
    pub take_up: &'static [&'static str],
    /// Whether that ends SAs of tunnels whose files are taken up again.
    pub take_up_ends_sas: bool,
    /// What to look at once it runs, in order: what it shows, the shell command with `{}` for the tunnel's name, and what is seen
    /// when all is well.
    pub looks: &'static [(&'static str, &'static str, &'static str)],
    /// Shell commands that then open the tunnel at once, where taking up does not do that by itself.
    pub open: &'static [&'static str],
}

/// How a platform carries several pairs of networks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Selectors {
    /// Several selectors in one Child SA (RFC 7296 section 2.9).
    pub several_in_one_sa: bool,
    /// Several Child SAs of one IKE SA.
    pub several_sas: bool,
}

/// When a platform can open a tunnel; at once it always can.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Openings {
    /// When a packet wants to cross, beside at once: nothing leaves in clear before the SA is there.
    pub trap_beside_start: bool,
    /// When the first packet wants to cross.
    pub on_traffic: bool,
    /// By a command.
    pub by_hand: bool,
}

/// Kinds of identities that not every platform knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Identities {
    /// ID_KEY_ID.
    pub free: bool,
}

/// How the interface of a route-based tunnel may be called.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InterfaceName {
    /// As one likes.
    Free,
    /// This word and the interface's number.
    Numbered(&'static str),
}

/// How far a liveness interval reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Liveness {
    /// Each connection has its own.
    OfConnection,
    /// One holds for the whole daemon.
    OfDaemon,
}

/// Whether a replay window can be set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReplayWindow {
    /// For each Child SA, in packets.
    Settable,
    /// It is always this many packets.
    Fixed(u32),
}

/// Commands that take a tunnel out of a daemon.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TakeOut {
    /// Before its files are removed.
    pub before: Vec<String>,
    /// After that.
    pub after: Vec<String>,
}

/// A platform: facts, a writer and a reader.
pub trait Platform: Sync {
    /// What is known about it.
    fn facts(&self) -> &'static Facts;

    /// Writes the IKE part of a gateway: one tunnel's share of it, in files named after `remarks.stem`.
    ///
    /// # Errors
    /// What the platform's files cannot express.
    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>>;

    /// Reads the IKE part of a gateway from its files. Total: what is not understood is reported.
    fn read(&self, tree: &Tree) -> (Gateway, Vec<Finding>);

    /// Whether files of a tree are for it.
    fn is_of(&self, tree: &Tree) -> bool;

    /// The commands that take keys and certificates from a tree into a database of the daemon's, before it takes up the
    /// rest; nothing where it reads them from files.
    fn bring_in(&self, _tree: &Tree) -> Vec<String> {
        Vec::new()
    }

    /// The commands that end a tunnel and make the daemon forget it, before and after its files go.
    fn take_out(&self, gateway: &Gateway) -> TakeOut;

    /// Files that the daemon cannot run without, whatever tunnels there are.
    fn needs(&self) -> &'static [&'static str] {
        &[]
    }
}

impl fmt::Debug for dyn Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.facts().word)
    }
}

impl PartialEq for dyn Platform {
    fn eq(&self, other: &Self) -> bool {
        self.facts().word == other.facts().word
    }
}

impl Eq for dyn Platform {}

/// The identity of an end that states none: its address.
pub(crate) fn implied(at: &Endpoint) -> Identity {
    match at.first() {
        Endpoint::At(address) => Identity::Address(*address),
        Endpoint::Named(name) => Identity::Name(name.clone()),
        _ => Identity::Implied(OWN_ADDRESS),
    }
}

/// The identity of an end that says nothing of it, and whose address is not fixed.
pub(crate) const OWN_ADDRESS: &str = "its own address";

/// How long a silent peer is given in IKEv1, which asks it several times (RFC 3706); IKEv2 retransmits instead.
pub(crate) fn v1_patience(interval: Duration) -> Duration {
    interval * 5
}

impl Facts {
    /// The spelling of an algorithm for an SA, if the platform can do it.
    pub fn spelling(&self, transform: Transform, sa: Sa) -> Option<&'static str> {
        self.names.iter().find(|row| row.transform == transform && row.sa.covers(sa)).map(|row| row.word)
    }

    /// The algorithm of a kind that the platform spells like that, for whatever SA it can use it.
    pub fn algorithm(&self, kind: Kind, word: &str) -> Option<Transform> {
        self.names.iter().find(|row| row.word == word && row.transform.kind == kind).map(|row| row.transform)
    }

    /// Whether the platform can do an algorithm in an SA.
    pub fn can(&self, transform: Transform, sa: Sa) -> bool {
        self.spelling(transform, sa).is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_is_of_a_registered_algorithm_and_unique() {
        for platform in PLATFORMS {
            let facts = platform.facts();
            let mut words: Vec<_> = facts.names.iter().map(|row| (row.transform.kind, row.word)).collect();
            for row in facts.names {
                assert!(row.transform.row().is_some(), "{}", row.word);
            }
            words.sort_unstable();
            words.dedup();
            assert_eq!(words.len(), facts.names.len(), "{}", facts.word);
        }
    }
}
