//! Rows of the platforms' tables of spellings.

use crate::algorithm::Cipher;

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

/// How a platform spells a cipher.
#[derive(Debug)]
pub struct CipherName {
    /// The cipher.
    pub cipher: Cipher,
    /// The platform's word.
    pub word: &'static str,
    /// Where it can use it.
    pub sa: Sa,
}

/// How a platform spells a PRF, an integrity algorithm or a group.
#[derive(Debug)]
pub struct Name {
    /// IANA transform ID.
    pub number: u16,
    /// The platform's word.
    pub word: &'static str,
    /// Where it can use it.
    pub sa: Sa,
}

/// A row of a cipher table.
pub(super) const fn cipher(number: u16, key_bits: u16, word: &'static str, sa: Sa) -> CipherName {
    CipherName { cipher: Cipher { number, key_bits }, word, sa }
}

/// A row of any other table.
pub(super) const fn name(number: u16, word: &'static str, sa: Sa) -> Name {
    Name { number, word, sa }
}

/// A proposal holds combined-mode ciphers or others, never both (RFC 7296 section 3.3): a separate integrity algorithm
/// goes with the others only.
pub(super) fn one_mode(ciphers: &[Cipher]) -> Result<(), super::Unwritable> {
    if ciphers.iter().any(|c| c.is_aead()) && !ciphers.iter().all(|c| c.is_aead()) {
        return Err(super::Unwritable::new("combined-mode and other ciphers in one proposal", "Write them as two proposals."));
    }
    Ok(())
}
