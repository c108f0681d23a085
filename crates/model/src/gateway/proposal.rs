//! Proposals as RFC 7296 section 3.3 defines them: alternatives of each transform type, in order.

use std::fmt;

use crate::algorithm::{Kind, Transform};

/// What a proposal is for (IANA "Security Protocol Identifiers").
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Protocol {
    /// The IKE SA.
    Ike,
    /// AH (RFC 4302): integrity without encryption.
    Ah,
    /// ESP (RFC 4303).
    Esp,
}

impl Protocol {
    /// Its name.
    pub fn words(self) -> &'static str {
        match self {
            Protocol::Ike => "IKE",
            Protocol::Ah => "AH",
            Protocol::Esp => "ESP",
        }
    }
}

/// As many transforms as most proposals have.
const ROOM: usize = 6;

/// A proposal (RFC 7296 section 3.3.1): one transform of each kind is chosen of it. Those of a kind are in order of preference; a kind
/// of which it has none is not negotiated.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Proposal {
    /// What it is for.
    pub protocol: Protocol,
    /// By kind, then by preference.
    transforms: Vec<Transform>,
}

impl Proposal {
    /// A proposal of these transforms, in whatever order the kinds come. One that comes again counts once.
    pub fn new(protocol: Protocol, transforms: impl IntoIterator<Item = Transform>) -> Proposal {
        let mut proposal = Proposal { protocol, transforms: Vec::with_capacity(ROOM) };
        for transform in transforms {
            proposal.push(transform);
        }
        proposal
    }

    /// Adds an alternative behind those of its kind.
    pub fn push(&mut self, transform: Transform) {
        if !self.transforms.contains(&transform) {
            let at = self.transforms.partition_point(|known| known.kind <= transform.kind);
            self.transforms.insert(at, transform);
        }
    }

    /// All transforms, by kind.
    pub fn transforms(&self) -> &[Transform] {
        &self.transforms
    }

    /// The alternatives of a kind.
    pub fn of(&self, kind: Kind) -> &[Transform] {
        // They are few.
        let from = self.transforms.iter().position(|known| known.kind == kind).unwrap_or(self.transforms.len());
        let rest = &self.transforms[from..];
        let count = rest.iter().position(|known| known.kind != kind).unwrap_or(rest.len());
        &rest[..count]
    }

    /// The first alternative of a kind.
    pub fn first(&self, kind: Kind) -> Option<Transform> {
        self.of(kind).first().copied()
    }

    /// The kinds of which it has any, in order.
    pub fn kinds(&self) -> Vec<Kind> {
        let mut kinds: Vec<_> = self.transforms.iter().map(|transform| transform.kind).collect();
        kinds.dedup();
        kinds
    }

    /// The same with other alternatives of a kind.
    #[must_use]
    pub fn with(&self, kind: Kind, alternatives: impl IntoIterator<Item = Transform>) -> Proposal {
        let mut changed = self.clone();
        changed.set(kind, alternatives);
        changed
    }

    /// Replaces the alternatives of a kind.
    pub fn set(&mut self, kind: Kind, alternatives: impl IntoIterator<Item = Transform>) {
        self.transforms.retain(|transform| transform.kind != kind);
        for transform in alternatives {
            self.push(transform);
        }
    }

    /// The same without a kind.
    #[must_use]
    pub fn without(&self, kind: Kind) -> Proposal {
        self.with(kind, [])
    }

    /// The same with only the first alternative of each kind.
    #[must_use]
    pub fn firsts(&self) -> Proposal {
        Proposal::new(self.protocol, self.kinds().into_iter().filter_map(|kind| self.first(kind)))
    }

    /// Whether all its ciphers protect integrity themselves.
    pub fn is_combined(&self) -> bool {
        self.of(Kind::Encryption).iter().all(|cipher| cipher.is_aead())
    }

    /// The PRFs of the same hashes as its integrity algorithms.
    pub fn prfs_of_hashes(&self) -> Vec<Transform> {
        self.of(Kind::Integrity).iter().filter_map(|integrity| integrity.prf_of_hash()).collect()
    }

    /// What protects the packets: ciphers and integrity algorithms, in words.
    pub fn protection(&self) -> String {
        Protected(self).to_string()
    }
}

/// Alternatives of one kind in words.
pub fn alternatives(list: &[Transform]) -> String {
    Alternatives(list).to_string()
}

struct Alternatives<'a>(&'a [Transform]);

impl fmt::Display for Alternatives<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, transform) in self.0.iter().enumerate() {
            if place > 0 {
                f.write_str("|")?;
            }
            fmt::Display::fmt(transform, f)?;
        }
        Ok(())
    }
}

/// What protects packets.
struct Protected<'a>(&'a Proposal);

impl fmt::Display for Protected<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [ciphers, integrity] = [Kind::Encryption, Kind::Integrity].map(|kind| self.0.of(kind));
        fmt::Display::fmt(&Alternatives(ciphers), f)?;
        if !ciphers.is_empty() && !integrity.is_empty() {
            f.write_str(" + ")?;
        }
        fmt::Display::fmt(&Alternatives(integrity), f)
    }
}

impl fmt::Display for Proposal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&Protected(self), f)?;
        for kind in self.kinds() {
            let lead = match (kind, self.protocol) {
                (Kind::Encryption | Kind::Integrity | Kind::SequenceNumbers, _) => continue,
                (Kind::Prf, _) => ", prf ",
                (Kind::KeyExchange, Protocol::Ike) => ", group ",
                (Kind::KeyExchange, _) => ", pfs ",
                (Kind::AdditionalKeyExchange(_), _) => ", then ",
            };
            f.write_str(lead)?;
            fmt::Display::fmt(&Alternatives(self.of(kind)), f)?;
        }
        if self.protocol != Protocol::Ike && self.of(Kind::KeyExchange).is_empty() { f.write_str(", no pfs") } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn transforms_stand_by_kind_and_keep_their_order_within_it() {
        let [gcm, cbc] = [Transform::encryption(20, 256), Transform::encryption(12, 256)];
        let proposal = Proposal::new(Protocol::Esp, [Transform::key_exchange(19), gcm, Transform::integrity(12), cbc, gcm]);
        assert_eq!(proposal.to_string(), "aes-256-gcm|aes-256-cbc + sha2-256, pfs ecp-256");
        assert_eq!(proposal.of(Kind::Encryption), [gcm, cbc]);
        assert_eq!(proposal.without(Kind::KeyExchange).to_string(), "aes-256-gcm|aes-256-cbc + sha2-256, no pfs");
        assert_eq!(proposal.firsts().to_string(), "aes-256-gcm + sha2-256, pfs ecp-256");
        assert!(!proposal.is_combined() && proposal.firsts().is_combined());
    }
}
