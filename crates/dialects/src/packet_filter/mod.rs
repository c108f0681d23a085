//! Packet filters: how NAT exemption and filter rules are written and read.
//!
//! Beside the IKE daemon a gateway has a packet filter; the two are independent, so this is a
//! table of its own. To add one: a folder here and a line in [`PACKET_FILTERS`].

mod iptables;
mod nftables;
mod ownership;
mod values;

use std::fmt;

use crate::delivery::PartSteps;
use crate::dialect::interface;
use crate::dialect::{Remarks, Unwritable};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Filter, Gateway, NatRule, Protection, Ruleset, SegmentLimit, Tree, rule_differences};

/// How many packets a second each rule writes to the log.
const LOG_RATE: u32 = 5;

/// Something to look at: what it shows, the shell command, and what is seen when all is well.
pub type FilterLook = (&'static str, String, &'static str);

/// A packet filter: writes and reads the NAT and filter part of a gateway.
pub trait PacketFilter: Sync {
    /// Its word in a description.
    fn word(&self) -> &'static str;

    /// Name and version, for people.
    fn title(&self) -> &'static str;

    /// Whether it can drop packets by what their source was translated to.
    fn sees_translated(&self) -> bool;

    /// Writes the rules of one tunnel.
    ///
    /// # Errors
    /// What the dialect cannot express.
    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>>;

    /// How paths of its files begin, below `/`.
    fn reads_below(&self) -> &'static [&'static str];

    /// Whether files of a tree are for it.
    fn is_of(&self, tree: &Tree) -> bool;

    /// Reads the rules. Total: what is not understood is reported.
    fn read(&self, tree: &Tree) -> FoundRules;

    /// What is done on a gateway when its files change.
    fn steps(&self) -> &'static PartSteps;

    /// The commands that load a tunnel's rules from its gateway's tree, as often as one likes.
    fn take_up(&self, stem: &str, tree: &Tree) -> Vec<String>;

    /// The commands that take a tunnel's rules out again, as often as one likes.
    fn take_out(&self, stem: &str, tree: &Tree) -> Vec<String>;

    /// What to look at once a tunnel's rules are loaded: what it shows, the shell command, and what is seen when all is well.
    fn look(&self, stem: &str, gateway: &Gateway) -> Vec<FilterLook>;

    /// What is left to people where they took the rules into a filter of their own.
    fn by_hand(&self, stem: &str) -> Vec<String>;
}

/// Whether the names of all interfaces in a gateway's rules can stand in every dialect.
///
/// # Errors
/// Those that cannot.
fn interfaces_fit(gateway: &Gateway) -> Result<(), Vec<Unwritable>> {
    let limits = gateway.segment_limits.iter().map(|limit| limit.interface.as_str());
    let rules = gateway.filter.iter().flat_map(|filter| &filter.rules).filter_map(|rule| match &rule.protection {
        Protection::Into(name) | Protection::OutOf(name) => Some(name.as_str()),
        Protection::Any | Protection::Leaving | Protection::Arrived => None,
    });
    let refused: Vec<_> = limits.chain(rules).filter_map(|name| interface(name).err()).collect();
    if refused.is_empty() { Ok(()) } else { Err(refused) }
}

/// What a packet filter's files say.
#[derive(Clone, Debug, Default)]
pub struct FoundRules {
    /// Translations.
    pub nat: Vec<NatRule>,
    /// The filter.
    pub filter: Option<Filter>,
    /// Limits for TCP segments.
    pub segment_limits: Vec<SegmentLimit>,
    /// The administrator's chains.
    pub ruleset: Ruleset,
    /// What was not understood.
    pub findings: Vec<Finding>,
}

/// Writes the rules of one tunnel, which read back as they were meant.
///
/// # Errors
/// What the dialect cannot express.
pub fn write_rules(filter: &dyn PacketFilter, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let tree = filter.write(gateway, remarks)?;
    let FoundRules { nat, filter: rules, segment_limits, findings, .. } = filter.read(&tree);
    let read = Gateway { nat, filter: rules, segment_limits, ..Gateway::default() };
    let lost: Vec<_> = findings.into_iter().map(|finding| finding.message).chain(rule_differences(gateway, &read)).collect();
    if lost.is_empty() { Ok(tree) } else { Err(Unwritable::lost(lost, filter.title())) }
}

impl FoundRules {
    /// What another packet filter of the same gateway has beside it.
    pub fn extend(&mut self, other: FoundRules) {
        self.nat.extend(other.nat);
        self.nat.sort_by_key(|rule| rule.order);
        match (&mut self.filter, other.filter) {
            (Some(filter), Some(other)) => filter.rules.extend(other.rules),
            (None, filter) => self.filter = filter,
            (Some(_), None) => {}
        }
        self.segment_limits.extend(other.segment_limits);
        self.ruleset.chains.extend(other.ruleset.chains);
        self.findings.extend(other.findings);
    }
}

impl fmt::Debug for dyn PacketFilter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// The packet filters that come with the program; the first is what a site has that names none.
pub static PACKET_FILTERS: &[&dyn PacketFilter] = &[nftables::NFTABLES, iptables::IPTABLES];
