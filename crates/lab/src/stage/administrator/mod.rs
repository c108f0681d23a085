//! What the administrator of a gateway has there beside the tunnel, in the words of its packet filter. To add one: a file here and a line
//! in [`ADMINISTRATORS`].

mod iptables;
mod nftables;

use std::io;

use crate::stage::Gateway;

/// What a gateway lists of itself: the file of a tree that it would be, and the command.
pub type Listing = (&'static str, &'static str, &'static [&'static str]);

/// All of them.
pub static ADMINISTRATORS: &[&dyn Administrator] = &[&nftables::Nftables, &iptables::Iptables];

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
    fn administer(&self, gateway: &Gateway) -> io::Result<()>;

    /// What is done after a tunnel's chains are loaded, for them to be asked before anything drops.
    ///
    /// # Errors
    /// When a command is refused.
    fn join(&self, gateway: &Gateway) -> io::Result<()>;

    /// The listings of the rules.
    fn listings(&self) -> &'static [Listing];

    /// Whether rules that join a filter become a part of it, which taking the tunnel out again leaves to people.
    fn keeps_joined(&self) -> bool;
}
