//! Proposals as RFC 7296 section 3.3 defines them: alternatives of each transform type, in order.

use std::fmt;

use crate::algorithm::{Cipher, Group, Integrity, Prf};

/// A proposal for the IKE SA. Each list holds alternatives in order of preference.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct IkeProposal {
    /// Ciphers.
    pub ciphers: Vec<Cipher>,
    /// Integrity algorithms; empty with combined-mode ciphers.
    pub integrities: Vec<Integrity>,
    /// Pseudo-random functions.
    pub prfs: Vec<Prf>,
    /// Key exchange groups.
    pub groups: Vec<Group>,
}

/// A proposal for ESP. Each list holds alternatives in order of preference.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct EspProposal {
    /// Ciphers.
    pub ciphers: Vec<Cipher>,
    /// Integrity algorithms; empty with combined-mode ciphers.
    pub integrities: Vec<Integrity>,
    /// Groups for perfect forward secrecy; empty for none.
    pub groups: Vec<Group>,
}

fn joined<T: fmt::Display>(f: &mut fmt::Formatter<'_>, lead: &str, items: &[T]) -> fmt::Result {
    if items.is_empty() {
        return Ok(());
    }
    f.write_str(lead)?;
    for (i, item) in items.iter().enumerate() {
        if i > 0 {
            f.write_str("|")?;
        }
        write!(f, "{item}")?;
    }
    Ok(())
}

impl fmt::Display for IkeProposal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        joined(f, "", &self.ciphers)?;
        joined(f, " + ", &self.integrities)?;
        joined(f, ", prf ", &self.prfs)?;
        joined(f, ", group ", &self.groups)
    }
}

impl fmt::Display for EspProposal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        joined(f, "", &self.ciphers)?;
        joined(f, " + ", &self.integrities)?;
        match self.groups.as_slice() {
            [] => f.write_str(", no pfs"),
            groups => joined(f, ", pfs ", groups),
        }
    }
}
