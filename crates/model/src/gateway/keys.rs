//! What gateways prove themselves with.

use crate::identity::Identity;
use crate::key::{Certificate, PublicKey};
use crate::secret::Secret;

/// A shared secret and the identities it belongs to, sorted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SharedSecret {
    /// The identities of the two ends, in no particular order.
    pub identities: Vec<Identity>,
    /// The secret.
    pub secret: Secret,
}

/// A key of the gateway's own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyPair {
    /// The identity that it proves.
    pub identity: Identity,
    /// Its public part.
    pub public: PublicKey,
    /// The certificate of that part, where it has one.
    pub certificate: Option<Certificate>,
    /// Its private part as a PEM text; nothing where it stands on the gateway already.
    pub private: Option<Secret>,
}

impl KeyPair {
    /// The private part as the text of a file.
    pub fn private_text(&self) -> Option<String> {
        self.private.as_ref().map(|private| String::from_utf8_lossy(private.expose()).into_owned())
    }
}

/// A peer's key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PinnedKey {
    /// The identity that it proves.
    pub identity: Identity,
    /// The key.
    pub public: PublicKey,
}

impl SharedSecret {
    /// A secret between identities.
    pub fn between(identities: impl IntoIterator<Item = Identity>, secret: Secret) -> Self {
        let mut identities: Vec<_> = identities.into_iter().collect();
        identities.sort();
        SharedSecret { identities, secret }
    }
}
