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
