//! What the administrator of a gateway has there beside the tunnel, in the words of its packet filter. To add one: a file here and a line
//! in [`ADMINISTRATORS`].

mod iptables;
mod nftables;

use std::io;

use crate::stage::StagedGateway;

/// What a gateway lists of itself: the file of a tree that it would be, and the command.
pub type RuleListing = (&'static str, &'static str, &'static [&'static str]);

/// All of them.
pub static ADMINISTRATORS: &[&dyn Administrator] = &[&nftables::NftablesAdministrator, &iptables::IptablesAdministrator];

/// The one for a packet filter's word.
pub fn administrator(word: &str) -> Option<&'static dyn Administrator> {
    ADMINISTRATORS.iter().copied().find(|one| one.word() == word)
}

/// Somebody who keeps a packet filter.
pub trait Administrator: Sync {
    /// The word of the packet filter.
    fn word(&self) -> &'static str;

    /// The program that must be there for it, and the Debian package that brings it.
    fn program(&self) -> (&'static str, &'static str);

    /// Masquerading where the site shares its internet access; a filter that lets the inside out and nothing unasked in.
    ///
    /// # Errors
    /// When the rules are refused.
    fn administer(&self, gateway: &StagedGateway) -> io::Result<()>;

    /// What is done after a tunnel's chains are loaded, for them to be asked before anything drops.
    ///
    /// # Errors
    /// When a command is refused.
    fn join(&self, gateway: &StagedGateway) -> io::Result<()>;

    /// The listings of the rules.
    fn listings(&self) -> &'static [RuleListing];

    /// Whether rules that join a filter become a part of it, which taking the tunnel out again leaves to people.
    fn keeps_joined(&self) -> bool;
}
