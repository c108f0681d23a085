//! Rows of the platforms' tables of spellings.

use std::borrow::Cow;

use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{Proposal, Protocol};

/// Which security association an algorithm is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sa {
    /// The IKE SA.
    Ike,
    /// ESP.
    Esp,
    /// Both.
    Both,
}

impl Sa {
    /// Whether a row for `self` serves `wanted`.
    pub fn covers(self, wanted: Sa) -> bool {
        self == Sa::Both || self == wanted
    }

    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Sa::Ike => "IKE",
            Sa::Esp => "ESP",
            Sa::Both => "IKE and ESP",
        }
    }
}

/// How a platform spells an algorithm.
#[derive(Clone, Debug)]
pub struct Name {
    /// The algorithm.
    pub transform: Transform,
    /// The platform's word.
    pub word: Cow<'static, str>,
    /// Where it can use it.
    pub sa: Sa,
}

/// A row of a cipher table.
pub(crate) const fn cipher(number: u16, key_bits: u16, word: &'static str, sa: Sa) -> Name {
    Name { transform: Transform::encryption(number, key_bits), word: Cow::Borrowed(word), sa }
}

/// A row of a table of PRFs.
pub(crate) const fn prf(number: u16, word: &'static str) -> Name {
    Name { transform: Transform::prf(number), word: Cow::Borrowed(word), sa: Sa::Ike }
}

/// A row of a table of integrity algorithms.
pub(crate) const fn integrity(number: u16, word: &'static str, sa: Sa) -> Name {
    Name { transform: Transform::integrity(number), word: Cow::Borrowed(word), sa }
}

/// A row of a table of key exchange methods.
pub(crate) const fn group(number: u16, word: &'static str) -> Name {
    Name { transform: Transform::key_exchange(number), word: Cow::Borrowed(word), sa: Sa::Both }
}

/// A proposal holds combined-mode ciphers or others, never both (RFC 7296 section 3.3): a separate integrity algorithm
/// goes with the others only.
pub(crate) fn one_mode(proposal: &Proposal) -> Result<(), super::Unwritable> {
    let ciphers = proposal.of(Kind::Encryption);
    if ciphers.iter().any(|c| c.is_aead()) && !proposal.is_combined() {
        return Err(super::Unwritable::new("combined-mode and other ciphers in one proposal", "Write them as two proposals."));
    }
    Ok(())
}

impl From<Protocol> for Sa {
    fn from(protocol: Protocol) -> Sa {
        if protocol == Protocol::Ike { Sa::Ike } else { Sa::Esp }
    }
}
